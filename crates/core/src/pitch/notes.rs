//! Notes: stretches of the track that keep to one pitch, with their course.

use std::f64::consts::TAU;

use serde::Serialize;

use super::{Basis, PitchPoint};
use crate::measured::Measured;
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

/// The notes of a track; where something is struck anew another begins. Stretches too short to be
/// notes are made unvoiced.
pub(super) fn notes(
    track: &mut [PitchPoint],
    strikes_s: &[f64],
    hop_s: f64,
    reference_hz: f64,
) -> Vec<PitchNote> {
    let mut notes = Vec::new();
    let mut start = 0;
    while start < track.len() {
        let end = start + track[start..].iter().take_while(|point| point.voiced).count();
        if end == start {
            start += 1;
            continue;
        }
        if (end - start) as f64 * hop_s < SHORTEST_S {
            for point in &mut track[start..end] {
                point.make_unvoiced();
            }
        } else {
            for (from, to) in pieces(&track[start..end], strikes_s, hop_s) {
                notes.extend(note(&track[start + from..start + to], hop_s, reference_hz));
            }
        }
        start = end;
    }
    notes
}

/// Where a voiced stretch leaps or is struck anew: its pieces by first and last frame.
fn pieces(stretch: &[PitchPoint], strikes_s: &[f64], hop_s: f64) -> Vec<(usize, usize)> {
    let hz: Vec<f64> = stretch.iter().filter_map(|point| point.f0_hz).collect();
    let beside = ((BESIDE_S / hop_s).round() as usize).max(1);
    let mut pieces = Vec::new();
    let mut from = 0;
    let mut n = beside;
    while n + beside <= hz.len() {
        let before = median(hz[n.saturating_sub(beside).max(from)..n].to_vec());
        let after = median(hz[n..n + beside].to_vec());
        let step = cents_between(hz[n - 1], hz[n]).abs();
        let is_leap = cents_between(before, after).abs() > LEAP_CENTS && step > 0.5 * LEAP_CENTS;
        let times_s = stretch[n - 1].time_s..stretch[n].time_s;
        let after = strikes_s.partition_point(|time_s| *time_s < times_s.start);
        // Frames hear a note half their length before it begins.
        let ahead_s = stretch[n].basis.map_or(0.0, |basis| 0.6 * f64::from(basis.frame_s));
        let is_struck = strikes_s.get(after).is_some_and(|time_s| times_s.contains(time_s))
            && (n - from) as f64 * hop_s > ahead_s;
        if is_leap || is_struck {
            pieces.push((from, n));
            from = n;
            n += beside;
        } else {
            n += 1;
        }
    }
    pieces.push((from, hz.len()));
    pieces
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
