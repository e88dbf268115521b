//! Notes: stretches of the track that keep to one pitch, with their course.

use std::f64::consts::TAU;

use serde::Serialize;

use super::{Basis, PitchPoint};
use crate::measured::Measured;
use crate::onsets::Onset;
use crate::quantity::{Field, Unit};
use crate::units::{Note, cents_between};
use crate::wavering::{Wavering, wavering};

/// A note of the track. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PitchNote {
    /// When it begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// Its fundamental in Hz: the median, or the middle of its vibrato.
    pub f0_hz: f64,
    /// Its uncertainty in Hz.
    pub f0_hz_u: f64,
    /// The nearest note.
    #[serde(serialize_with = "crate::units::note_text")]
    pub note: Note,
    /// Its MIDI number.
    pub midi: i32,
    /// Distance from that note in cents.
    pub cents: f64,
    /// Uncertainty of that distance.
    pub cents_u: f64,
    /// How it drifts, in cents per second.
    pub drift_cents_per_s: f64,
    /// Its vibrato; `None` where it has none.
    #[serde(flatten)]
    pub vibrato: VibratoFigures,
    /// What is left of its course without drift and vibrato, RMS: of the fundamental in cents, and
    /// of the level in dB.
    pub jitter_cents: f64,
    /// See above.
    pub shimmer_db: f64,
    /// Mean confidence of its frames.
    pub confidence: f64,
    /// Share of the power of its tones that lies on its harmonic series.
    pub explained: f64,
    /// Share of its tones, weak and strong nearly alike, that lies on its harmonic series.
    pub tones_explained: f64,
    /// Stiffness B of its series, the median of its frames.
    pub inharmonicity: f64,
    /// Stiffness that its series was followed with, whether or not it stands out, the median of its
    /// frames: large where the tones lie on no harmonic series.
    pub stretch: f64,
    /// Number of its strongest harmonic.
    pub strongest_harmonic: usize,
    /// Whether the first harmonic is there.
    pub fundamental_present: bool,
    /// Other readings of its frames, the likeliest first.
    pub rivals: Vec<Rival>,
}

impl PitchNote {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 15] = [
        Field::plain("start_s", "start", Unit::Second, 2, |note| Some(note.start_s)),
        Field::plain("end_s", "end", Unit::Second, 2, |note| Some(note.end_s)),
        Field::measured("f0_hz", "fundamental", Unit::Hertz, 4, |note| {
            Some(Measured::new(note.f0_hz, note.f0_hz_u))
        }),
        Field::measured("cents", "distance from the note", Unit::Cent, 3, |note| {
            Some(Measured::new(note.cents, note.cents_u))
        }),
        Field::plain("drift_cents_per_s", "drift", Unit::CentPerSecond, 1, |note| {
            Some(note.drift_cents_per_s)
        }),
        Field::plain("vibrato_rate_hz", "vibrato", Unit::Hertz, 2, |note| {
            note.vibrato.vibrato_rate_hz
        }),
        Field::plain("vibrato_depth_cents", "depth of the vibrato", Unit::Cent, 1, |note| {
            note.vibrato.vibrato_depth_cents
        }),
        Field::plain("jitter_cents", "jitter", Unit::Cent, 2, |note| Some(note.jitter_cents)),
        Field::plain("shimmer_db", "shimmer", Unit::Decibel, 2, |note| Some(note.shimmer_db)),
        Field::plain("confidence", "confidence", Unit::One, 3, |note| Some(note.confidence)),
        Field::plain("explained", "share of the power explained", Unit::One, 3, |note| {
            Some(note.explained)
        }),
        Field::plain("tones_explained", "share of the tones explained", Unit::One, 3, |note| {
            Some(note.tones_explained)
        }),
        Field::plain("inharmonicity", "inharmonicity", Unit::One, 8, |note| {
            Some(note.inharmonicity)
        }),
        Field::plain("stretch", "stiffness followed", Unit::One, 8, |note| Some(note.stretch)),
        Field::plain("strongest_harmonic", "strongest harmonic", Unit::One, 0, |note| {
            Some(note.strongest_harmonic as f64)
        }),
    ];
}

/// A regular wavering.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct VibratoFigures {
    /// Its rate in Hz; `None` where there is none.
    pub vibrato_rate_hz: Option<f64>,
    /// Its depth in cents, peak.
    pub vibrato_depth_cents: Option<f64>,
}

/// Another reading of a note.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Rival {
    /// Its fundamental in Hz.
    pub f0_hz: f64,
    /// Its mean confidence in the frames of the note.
    pub confidence: f64,
}

/// A stretch shorter than this is no note but an accident, in seconds.
const SHORTEST_S: f64 = 0.04;
/// A leap by so much ends a note, in cents: between the medians of so long before and after, in
/// seconds.
const LEAP_CENTS: f64 = 70.0;
const BESIDE_S: f64 = 0.04;
/// A leap belongs to an onset so near, in seconds: frames hear a note before and after it begins.
const OF_ONSET_S: f64 = 0.08;
/// The least that must be new, and stay, where the fundamental leaps, in nats: a slur brings new
/// partials, however softly.
const SLUR_NOVELTY: f32 = 0.6;
const SLUR_PERSISTENCE: f32 = 1.2;
/// A note goes on after a silence no longer than this, in seconds: beating partials may all be gone
/// for as long.
const LONGEST_GAP_S: f64 = 1.0;
/// What begins without an onset so far below the note beside it is hum, rumble or a remainder, and
/// no note; as a ratio of powers, 30 dB.
const BACKGROUND: f64 = 1e-3;

/// A note as a range of frames.
#[derive(Debug, Clone, Copy)]
struct Piece {
    from: usize,
    to: usize,
    /// Whether an onset or a slur begins it.
    has_onset: bool,
}

/// The notes of a track. A note begins at an onset, where the fundamental leaps and something is
/// new, or where a sound swells out of silence; all else is one note that goes on. Stretches that
/// are no notes are made unvoiced.
pub(super) fn notes(
    track: &mut [PitchPoint],
    onsets: &[Onset],
    hop_s: f64,
    reference_hz: f64,
) -> Vec<PitchNote> {
    let mut pieces: Vec<Piece> = Vec::new();
    let mut start = 0;
    while start < track.len() {
        let end = start + track[start..].iter().take_while(|point| point.voiced).count();
        if end == start {
            start += 1;
            continue;
        }
        for piece in pieces_of(track, start..end, onsets, hop_s) {
            let is_same = |before: &&mut Piece| {
                let gap_s = (piece.from - before.to) as f64 * hop_s;
                let cents = cents_between(
                    middle_hz(&track[before.from..before.to]),
                    middle_hz(&track[piece.from..piece.to]),
                );
                !piece.has_onset && gap_s < LONGEST_GAP_S && cents.abs() < LEAP_CENTS
            };
            match pieces.last_mut().filter(is_same) {
                Some(before) => before.to = piece.to,
                None => pieces.push(piece),
            }
        }
        start = end;
    }
    let powers: Vec<f64> = pieces.iter().map(|p| loudest(&track[p.from..p.to])).collect();
    let mut notes = Vec::new();
    for (n, piece) in pieces.iter().enumerate() {
        let beside = [n.checked_sub(1), Some(n + 1)].into_iter().flatten();
        let beside = beside.filter_map(|n| powers.get(n)).copied().fold(0.0, f64::max);
        let is_short = (piece.to - piece.from) as f64 * hop_s < SHORTEST_S;
        let frames = &mut track[piece.from..piece.to];
        if is_short || (!piece.has_onset && powers[n] < BACKGROUND * beside) {
            frames.iter_mut().for_each(PitchPoint::make_unvoiced);
        } else {
            let voiced: Vec<PitchPoint> = frames.iter().filter(|p| p.voiced).copied().collect();
            notes.extend(note(&voiced, hop_s, reference_hz));
        }
    }
    notes
}

/// Median of the fundamental.
fn middle_hz(frames: &[PitchPoint]) -> f64 {
    median(frames.iter().filter_map(|point| point.f0_hz).collect())
}

/// The greatest power of frames.
fn loudest(frames: &[PitchPoint]) -> f64 {
    let powers = frames.iter().filter_map(|point| point.basis);
    powers.map(|basis| f64::from(basis.power)).fold(0.0, f64::max)
}

/// The notes of a voiced stretch. Frames between a leap and the onset that it belongs to are read
/// anew.
fn pieces_of(
    track: &mut [PitchPoint],
    stretch: std::ops::Range<usize>,
    onsets: &[Onset],
    hop_s: f64,
) -> Vec<Piece> {
    let (from, to) = (stretch.start, stretch.end);
    let first_s = track[from].time_s;
    let frame_of = |time_s: f64| from as f64 + (time_s - first_s) / hop_s;
    let near = {
        let begin = onsets.partition_point(|o| o.time_s < first_s - OF_ONSET_S);
        let end = onsets.partition_point(|o| o.time_s < track[to - 1].time_s + OF_ONSET_S);
        &onsets[begin..end]
    };
    let mut begins: Vec<(usize, bool)> = vec![(from, false)];
    // What is struck or plucked.
    for onset in near.iter().filter(|onset| onset.is_certain()) {
        let place = frame_of(onset.time_s).ceil().max(from as f64) as usize;
        let (last, _) = begins[begins.len() - 1];
        let ahead_s = track[last].basis.map_or(0.0, |basis| 0.6 * f64::from(basis.frame_s));
        let is_first = begins.len() == 1 && (place - from) as f64 * hop_s < ahead_s + BESIDE_S;
        if place >= to {
            continue;
        }
        if is_first {
            // Frames heard the first note before it began.
            for point in &mut track[from..place] {
                point.make_unvoiced();
            }
            begins[0] = (place, true);
        } else if (place - last) as f64 * hop_s >= SHORTEST_S {
            begins.push((place, true));
        }
    }
    let mut pieces = Vec::new();
    for (n, (begin, has_onset)) in begins.iter().enumerate() {
        let end = begins.get(n + 1).map_or(to, |(next, _)| *next);
        slurs(track, (*begin, end, *has_onset), near, hop_s, &mut pieces);
    }
    pieces
}

/// Splits what begins with one onset where the fundamental leaps.
fn slurs(
    track: &mut [PitchPoint],
    (begin, end, has_onset): (usize, usize, bool),
    onsets: &[Onset],
    hop_s: f64,
    pieces: &mut Vec<Piece>,
) {
    let beside = ((BESIDE_S / hop_s).round() as usize).max(1);
    let mut piece = Piece { from: begin, to: end, has_onset };
    let mut n = begin + beside;
    while n + beside <= end {
        let hz = |range: std::ops::Range<usize>| middle_hz(&track[range]);
        let (before, after) = (hz(n.saturating_sub(beside).max(piece.from)..n), hz(n..n + beside));
        let step = track[n - 1].f0_hz.zip(track[n].f0_hz);
        let step = step.map_or(0.0, |(a, b)| cents_between(a, b).abs());
        let is_leap = cents_between(before, after).abs() > LEAP_CENTS && step > 0.5 * LEAP_CENTS;
        if !is_leap {
            n += 1;
            continue;
        }
        let time_s = 0.5 * (track[n - 1].time_s + track[n].time_s);
        let is_near = |onset: &&Onset| {
            (onset.time_s - time_s).abs() < OF_ONSET_S
                && onset.novelty > SLUR_NOVELTY
                && onset.persistence > SLUR_PERSISTENCE
        };
        let of_onset = onsets.iter().filter(is_near).max_by(|a, b| a.novelty.total_cmp(&b.novelty));
        let since_begin_s = (n - piece.from) as f64 * hop_s;
        if piece.has_onset && since_begin_s < OF_ONSET_S {
            // The frames were still full of the note before.
            let held = track[n].held();
            for point in &mut track[piece.from..n] {
                *point = PitchPoint { time_s: point.time_s, ..held };
            }
        } else if of_onset.is_some() {
            pieces.push(Piece { to: n, ..piece });
            piece = Piece { from: n, to: end, has_onset: true };
        }
        n += beside;
    }
    pieces.push(piece);
}

fn median(mut values: Vec<f64>) -> f64 {
    if values.is_empty() {
        return f64::NAN;
    }
    let middle = values.len() / 2;
    let (lower, upper, _) = values.select_nth_unstable_by(middle, f64::total_cmp);
    let upper = *upper;
    if lower.len() == middle && values.len().is_multiple_of(2) {
        let below = values[..middle].iter().copied().fold(f64::NEG_INFINITY, f64::max);
        f64::midpoint(below, upper)
    } else {
        upper
    }
}

/// What can be said of a note.
fn note(frames: &[PitchPoint], hop_s: f64, reference_hz: f64) -> Option<PitchNote> {
    let (first, last) = (frames.first()?, frames.last()?);
    let hz: Vec<f64> = frames.iter().filter_map(|point| point.f0_hz).collect();
    let median_hz = median(hz.clone());
    let course: Vec<f64> = hz.iter().map(|hz| cents_between(median_hz, *hz)).collect();
    let readings = || frames.iter().filter_map(|point| point.basis);
    let levels: Vec<f64> = readings().map(|r| 10.0 * f64::from(r.power).log10()).collect();
    // The ends, where frames reach beyond the note, are left out where there is enough left.
    let ends = (frames.len() / 6).min((0.03 / hop_s) as usize);
    let inside = ends..frames.len() - ends;
    let wave = wavering(&course[inside.clone()], hop_s);
    let vibrato = vibrato(&wave, readings().map(|r| f64::from(r.frame_s)));
    // The median of a vibrato that is cut off within a turn lies beside its middle.
    let is_wavering = vibrato.vibrato_rate_hz.is_some();
    let shift = if is_wavering { wave.centre } else { 0.0 };
    let f0_hz = median_hz * (shift / 1200.0).exp2();
    let (nearest, cents) = Note::nearest(f0_hz, reference_hz)?;
    let of_level = wavering(&levels[inside.clone()], hop_s);
    let mean_of = |value: fn(&Basis) -> f32| {
        readings().map(|r| f64::from(value(&r))).sum::<f64>() / frames.len() as f64
    };
    // The median of what scatters independently in frames that do not overlap.
    let frame_s = median(readings().map(|r| f64::from(r.frame_s)).collect());
    let independent = (frames.len() as f64 * hop_s / (0.6 * frame_s).max(hop_s)).max(1.0);
    let cent_hz = f0_hz * std::f64::consts::LN_2 / 1200.0;
    // 1.25: a median scatters by so much more than a mean. What neighbouring harmonics do to each
    // other stays the same from frame to frame: the fewer periods a frame holds, the more.
    let of_course = 1.25 * wave.rest / independent.sqrt();
    let of_neighbours = 0.012 * (6.0 / (frame_s * f0_hz)).powi(4);
    let f0_hz_u = of_course.hypot(of_neighbours) * cent_hz;
    let strongest_harmonic = median(readings().map(|r| f64::from(r.strongest)).collect()) as usize;
    let with_first = readings().filter(|r| r.has_first).count();
    Some(PitchNote {
        start_s: (first.time_s - 0.5 * hop_s).max(0.0),
        end_s: last.time_s + 0.5 * hop_s,
        f0_hz,
        f0_hz_u,
        note: nearest,
        midi: nearest.0,
        cents,
        cents_u: 1200.0 / std::f64::consts::LN_2 * f0_hz_u / f0_hz,
        drift_cents_per_s: wave.drift,
        vibrato,
        jitter_cents: wave.rest,
        shimmer_db: of_level.rest,
        confidence: frames.iter().map(|point| point.confidence).sum::<f64>() / frames.len() as f64,
        explained: mean_of(|r| r.explained),
        tones_explained: mean_of(|r| r.tones_explained),
        inharmonicity: median(readings().map(|r| r.inharmonicity.into()).collect()),
        stretch: median(readings().map(|r| r.stretch.into()).collect()),
        strongest_harmonic,
        fundamental_present: 2 * with_first > frames.len(),
        rivals: rivals(frames),
    })
}

/// The other readings of frames, those that are alike together.
fn rivals(frames: &[PitchPoint]) -> Vec<Rival> {
    const MOST: usize = 3;
    let mut rivals: Vec<(f64, f64, f64)> = Vec::new();
    for (hz, confidence) in frames.iter().flat_map(|point| point.rivals) {
        let (hz, confidence) = (f64::from(hz), f64::from(confidence));
        if hz <= 0.0 {
            continue;
        }
        match rivals.iter_mut().find(|(known, ..)| cents_between(*known, hz).abs() < 60.0) {
            Some((_, sum, frames)) => {
                *sum += confidence;
                *frames += 1.0;
            }
            None => rivals.push((hz, confidence, 1.0)),
        }
    }
    let count = frames.len() as f64;
    rivals.retain(|(.., frames)| *frames >= 0.2 * count);
    rivals.sort_by(|a, b| b.1.total_cmp(&a.1).then(b.2.total_cmp(&a.2)));
    let rival =
        |(f0_hz, sum, _): &(f64, f64, f64)| Rival { f0_hz: *f0_hz, confidence: sum / count };
    rivals.iter().take(MOST).map(rival).collect()
}

/// The sine of a course of cents as a vibrato, if it is one: it accounts for most of the course, is
/// heard, and lasts.
fn vibrato(wave: &Wavering, frames_s: impl Iterator<Item = f64>) -> VibratoFigures {
    const LEAST_CENTS: f64 = 2.0;
    if !(wave.is_regular() && wave.depth > LEAST_CENTS) {
        return VibratoFigures::default();
    }
    // A frame averages the frequency over its window, a Blackman, whose second moment is (0.1595
    // T)², and takes from the depth what the transform of the window leaves at that rate.
    let left = |frame_s: f64| (-0.5 * (TAU * wave.rate_hz * 0.1595 * frame_s).powi(2)).exp();
    let (sum, count) = frames_s.fold((0.0, 0.0), |(sum, n), s| (sum + left(s), n + 1.0));
    let left = if count > 0.0 { sum / count } else { 1.0 };
    VibratoFigures {
        vibrato_rate_hz: Some(wave.rate_hz),
        vibrato_depth_cents: Some(wave.depth / left.max(0.2)),
    }
}
