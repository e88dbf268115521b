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
    /// Uncertainty of its beginning; `None` where no onset marks it.
    pub start_s_u: Option<f64>,
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
        Field::measured("start_s", "start", Unit::Second, 4, |note| {
            Some(Measured::new(note.start_s, note.start_s_u.unwrap_or(f64::NAN)))
        }),
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
/// A leap by so much ends a run, in cents: between the medians of so long before and after, in
/// seconds.
const LEAP_CENTS: f64 = 70.0;
const BESIDE_S: f64 = 0.04;
/// A leap belongs to an onset so near, in seconds: frames hear a note before and after it begins.
pub(super) const OF_ONSET_S: f64 = 0.08;
/// A note goes on after a silence no longer than this, in seconds: beating partials may all be gone
/// for as long.
const LONGEST_GAP_S: f64 = 1.0;
/// A reading is that of the note an octave or more off if it lies so near to that, in cents.
const OF_SERIES_CENTS: f64 = 20.0;
/// What begins without an onset so far below the note beside it is hum, rumble or a remainder, and
/// no note; as a ratio of powers, 30 dB.
const BACKGROUND: f64 = 1e-3;
/// What comes back out of a silence by so much, as a ratio of powers, 30 dB, is no beat: it is played anew.
const RETURN: f64 = 1e3;
/// A sound that swells rises by so much, as a ratio of powers, 10 dB: more than rumble does by
/// chance.
const SWELL: f64 = 10.0;

/// So strong beside the note before, and so long, nothing is a remainder of it: a ratio of powers,
/// -6 dB, and seconds.
const STRONG: f64 = 0.25;
const STRONG_S: f64 = 0.08;
/// Onsets no further apart are the two stages of one, breath or knock and tone, in seconds.
const TWO_STAGES_S: f64 = 0.07;

/// Frames that keep to one fundamental.
#[derive(Debug, Clone, Copy)]
pub(super) struct Run {
    from: usize,
    to: usize,
    /// Its first frame that is read: those before, right after an onset, are still full of what
    /// sounded before.
    read_from: usize,
    begins: Begins,
}

/// What a run begins with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Begins {
    Onset,
    /// Something is new, and the fundamental leaps.
    Slur,
    /// Something may be new, after a silence.
    Perhaps,
    Nothing,
}

impl Run {
    fn frames(self) -> std::ops::Range<usize> {
        self.from..self.to
    }

    fn new(from: usize, to: usize, begins: Begins) -> Self {
        Self { from, to, read_from: from, begins }
    }

    /// Median of its fundamental.
    fn hz(self, track: &[PitchPoint]) -> f64 {
        median(track[self.read_from..self.to].iter().filter_map(|point| point.f0_hz).collect())
    }

    /// How much speaks for it: the sum of the confidence of its frames.
    fn weight(self, track: &[PitchPoint]) -> f64 {
        track[self.frames()].iter().map(|point| point.confidence).sum()
    }
}

/// The runs of a note, and what is known of them so far: an hour of a drone has many.
struct Group {
    runs: Vec<Run>,
    first: Run,
    /// What speaks for the run of which most does, and its fundamental.
    weight: f64,
    hz: f64,
    /// The greatest power of a frame.
    loudest: f64,
}

impl Group {
    fn new(run: Run, track: &[PitchPoint]) -> Self {
        let mut group =
            Self { runs: Vec::new(), first: run, weight: -1.0, hz: f64::NAN, loudest: 0.0 };
        group.push(run, track);
        group
    }

    fn push(&mut self, run: Run, track: &[PitchPoint]) {
        let weight = run.weight(track);
        if weight >= self.weight {
            (self.weight, self.hz) = (weight, run.hz(track));
        }
        self.loudest = powers(&[run], track).fold(self.loudest, f64::max);
        self.runs.push(run);
    }
}

/// The runs of a track: voiced stretches, cut at onsets and where the fundamental leaps.
pub(super) fn runs(track: &[PitchPoint], onsets: &[Onset], hop_s: f64) -> Vec<Run> {
    let mut runs = Vec::new();
    let mut start = 0;
    while start < track.len() {
        let end = start + track[start..].iter().take_while(|point| point.voiced).count();
        if start < end {
            runs_of(track, start..end, onsets, hop_s, &mut runs);
        }
        start = end.max(start + 1);
    }
    runs
}

/// The runs of a voiced stretch.
fn runs_of(
    track: &[PitchPoint],
    stretch: std::ops::Range<usize>,
    onsets: &[Onset],
    hop_s: f64,
    runs: &mut Vec<Run>,
) {
    let (from, to) = (stretch.start, stretch.end);
    let first_s = track[from].time_s;
    let near = {
        let begin = onsets.partition_point(|o| o.time_s < first_s - OF_ONSET_S);
        let end = onsets.partition_point(|o| o.time_s < track[to - 1].time_s + OF_ONSET_S);
        &onsets[begin..end]
    };
    let mut begins: Vec<(usize, Begins)> = vec![(from, Begins::Nothing)];
    for onset in near.iter().filter(|onset| onset.is_certain()) {
        let place = from as f64 + ((onset.time_s - first_s) / hop_s).ceil();
        let place = place.max(from as f64) as usize;
        let (last, _) = begins[begins.len() - 1];
        // Frames hear the first note of a stretch half their length before it begins.
        let ahead_s = track[from].basis.map_or(0.0, |basis| 0.6 * f64::from(basis.frame_s));
        let is_first = begins.len() == 1 && (place - from) as f64 * hop_s < ahead_s + BESIDE_S;
        if place >= to {
            continue;
        }
        if is_first {
            begins[0] = (place, Begins::Onset);
        // Placed to a few milliseconds, two moments may come in the other order.
        } else if place.saturating_sub(last) as f64 * hop_s >= TWO_STAGES_S {
            begins.push((place, Begins::Onset));
        }
    }
    let begins_near = |onset: &&Onset| (onset.time_s - first_s).abs() < OF_ONSET_S;
    if begins[0].1 == Begins::Nothing && near.iter().filter(begins_near).any(Onset::is_likely) {
        begins[0].1 = Begins::Perhaps;
    }
    for (n, (begin, how)) in begins.iter().enumerate() {
        let end = begins.get(n + 1).map_or(to, |(next, _)| *next);
        cut_at_leaps(track, Run::new(*begin, end, *how), near, hop_s, runs);
    }
}

/// Cuts a run where the fundamental leaps; where something is new there too, it is a slur.
fn cut_at_leaps(
    track: &[PitchPoint],
    mut run: Run,
    onsets: &[Onset],
    hop_s: f64,
    runs: &mut Vec<Run>,
) {
    let ends_with_onset = onsets.iter().any(|onset| {
        let end_s = track[run.to - 1].time_s;
        onset.is_certain() && (end_s..end_s + 2.0 * hop_s).contains(&onset.time_s)
    });
    let beside = ((BESIDE_S / hop_s).round() as usize).max(1);
    let end = run.to;
    let mut n = run.from + beside;
    while n + beside <= end {
        let hz = |from: usize, to: usize| Run::new(from, to, Begins::Nothing).hz(track);
        let before = hz(n.saturating_sub(beside).max(run.read_from), n);
        let after = hz(n, n + beside);
        let step = track[n - 1].f0_hz.zip(track[n].f0_hz);
        let step = step.map_or(0.0, |(a, b)| cents_between(a, b).abs());
        if cents_between(before, after).abs() < LEAP_CENTS || step < 0.5 * LEAP_CENTS {
            n += 1;
            continue;
        }
        let time_s = 0.5 * (track[n - 1].time_s + track[n].time_s);
        let of_leap = |onset: &Onset| (onset.time_s - time_s).abs() < OF_ONSET_S && onset.is_slur();
        // Frames hear the next onset half their length before it comes.
        let ahead_s = track[n].basis.map_or(0.0, |basis| 0.6 * f64::from(basis.frame_s));
        let is_ahead = ends_with_onset && (end - n) as f64 * hop_s < ahead_s;
        let is_late = matches!(run.begins, Begins::Onset | Begins::Slur)
            && (n - run.from) as f64 * hop_s < OF_ONSET_S;
        if is_late {
            run.read_from = n;
        } else {
            runs.push(Run { to: n, ..run });
            let is_slur = !is_ahead && onsets.iter().any(of_leap);
            run = Run::new(n, end, if is_slur { Begins::Slur } else { Begins::Nothing });
        }
        n += beside;
    }
    runs.push(run);
}

/// The notes of the runs of a track. A note begins at an onset or a slur, or where a sound swells
/// out of silence; what follows without is the same note, if it is read at its fundamental or an
/// octave or so from that, and else nothing. `level` is the power of the sound around a time. The
/// track is left voiced where notes are.
pub(super) fn notes(
    track: &mut [PitchPoint],
    runs: Vec<Run>,
    onsets: &[Onset],
    level: impl Fn(f64) -> f64,
    (hop_s, reference_hz): (f64, f64),
) -> Vec<PitchNote> {
    let mut groups: Vec<Group> = Vec::new();
    for run in runs {
        let is_second_stage = |group: &&mut Group| {
            ((run.from - group.first.from) as f64) * hop_s < TWO_STAGES_S
                && multiple(group.first.hz(track), run.hz(track)) == Some(1.0)
        };
        let goes_on = |group: &&mut Group| run.begins != Begins::Onset || is_second_stage(group);
        let Some(group) = groups.last_mut().filter(goes_on) else {
            groups.push(Group::new(run, track));
            continue;
        };
        let last = *group.runs.last().unwrap_or(&group.first);
        let gap_s = (run.from - last.to) as f64 * hop_s;
        let by = multiple(group.hz, run.hz(track));
        // A slur leads to another note.
        let by = by.filter(|by| run.begins != Begins::Slur || *by == 1.0);
        // Whether it rises by so much over the quietest since a frame.
        let rises = |by: f64, since: usize| {
            let before = (since..run.from).map(|n| level(track[n].time_s));
            let quietest = before.fold(f64::INFINITY, f64::min);
            run.frames().any(|n| level(track[n].time_s) > by * quietest)
        };
        // Nothing is a remainder of what hardly anything speaks for.
        let is_strong = || {
            run.frames().len() as f64 * hop_s > STRONG_S
                && (group.weight * hop_s < SHORTEST_S
                    || usual_power(&[run], track) > STRONG * group.loudest)
        };
        if by.is_some() && gap_s < LONGEST_GAP_S && !rises(RETURN, last.to) {
            group.push(run, track);
        } else if run.begins != Begins::Nothing || rises(SWELL, last.from) || is_strong() {
            groups.push(Group::new(run, track));
        }
    }
    let is_note = |n: usize| {
        let beside = [n.checked_sub(1), Some(n + 1)].into_iter().flatten();
        let beside =
            beside.filter_map(|n| groups.get(n)).map(|group| group.loudest).fold(0.0, f64::max);
        let group = &groups[n];
        let frames: usize = group.runs.iter().map(|run| run.frames().len()).sum();
        let is_background = group.first.begins == Begins::Nothing
            && usual_power(&group.runs, track) < BACKGROUND * beside;
        frames as f64 * hop_s >= SHORTEST_S && !is_background
    };
    let kept: Vec<&Group> = (0..groups.len()).filter(|n| is_note(*n)).map(|n| &groups[n]).collect();
    let mut of_notes = vec![false; track.len()];
    let mut notes: Vec<PitchNote> = Vec::new();
    for group in kept {
        let mut frames = Vec::new();
        for run in &group.runs {
            let by = multiple(group.hz, run.hz(track)).unwrap_or(1.0);
            let held = track[run.read_from].held();
            for n in run.frames() {
                if n < run.read_from {
                    track[n] = PitchPoint { time_s: track[n].time_s, ..held };
                }
                track[n] = track[n].times(by);
                of_notes[n] = true;
                frames.push(track[n]);
            }
        }
        // An onset begins one note.
        let used = notes
            .last()
            .map_or(0, |before| onsets.partition_point(|onset| onset.time_s <= before.start_s));
        let start = start_of(group.first, track, &onsets[used..], hop_s);
        let Some(note) = note(&frames, start, hop_s, reference_hz) else { continue };
        if let Some(before) = notes.last_mut().filter(|before| before.end_s > note.start_s) {
            before.end_s = note.start_s;
            // What still reads the note before is none of this one.
            let late = (0..group.first.from).rev().take_while(|n| track[*n].time_s > note.start_s);
            late.for_each(|n| of_notes[n] = false);
        }
        notes.push(note);
    }
    for (point, is_of_note) in track.iter_mut().zip(of_notes) {
        if !is_of_note {
            point.make_unvoiced();
        }
    }
    notes
}

/// When a note begins, and how well that is known: with its onset, if that is seen in the samples,
/// though the note may be read later; a low note shows it within a share of its period. Of several
/// onsets it is the nearest, less so one that is not known well.
fn start_of(first: Run, track: &[PitchPoint], onsets: &[Onset], hop_s: f64) -> (f64, Option<f64>) {
    const OF_PERIOD: f64 = 0.3;
    let frame_s = track[first.from].time_s;
    let of_frame_s = (frame_s - 0.5 * hop_s).max(0.0);
    let away_s = |onset: &&Onset| (onset.time_s - frame_s).abs() + 2.0 * onset.time_s_u;
    let begin = onsets.partition_point(|onset| onset.time_s < frame_s - OF_ONSET_S);
    let near = onsets[begin..].iter().take_while(|onset| onset.time_s < frame_s + OF_ONSET_S);
    let nearest = near
        .filter(|onset| onset.is_sharp())
        .min_by(|a, b| away_s(a).total_cmp(&away_s(b)))
        .filter(|_| first.begins == Begins::Onset);
    let of_period_s = OF_PERIOD / first.hz(track);
    let known = |onset: &Onset| (onset.time_s, Some(onset.time_s_u.hypot(of_period_s)));
    nearest.map_or((of_frame_s, None), known)
}

/// What a reading must be multiplied by to be at a fundamental: 1, or a small number or its
/// inverse.
fn multiple(hz: f64, read_hz: f64) -> Option<f64> {
    const MULTIPLES: [f64; 7] = [1.0, 2.0, 0.5, 3.0, 1.0 / 3.0, 4.0, 0.25];
    let near = |by: &f64| cents_between(hz, by * read_hz).abs() < OF_SERIES_CENTS;
    let same = cents_between(hz, read_hz).abs() < LEAP_CENTS;
    if same { Some(1.0) } else { MULTIPLES.into_iter().find(near) }
}

/// Median of the power of frames: those at the ends hear what is beside them.
fn usual_power(group: &[Run], track: &[PitchPoint]) -> f64 {
    median(powers(group, track).collect())
}

fn powers<'t>(group: &'t [Run], track: &'t [PitchPoint]) -> impl Iterator<Item = f64> + 't {
    let frames = group.iter().flat_map(|run| &track[run.frames()]);
    frames.filter_map(|point| Some(f64::from(point.basis?.power)))
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
fn note(
    frames: &[PitchPoint],
    (start_s, start_s_u): (f64, Option<f64>),
    hop_s: f64,
    reference_hz: f64,
) -> Option<PitchNote> {
    let last = frames.last()?;
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
    let of_neighbours = 0.010 * (6.0 / (frame_s * f0_hz)).powi(4);
    // Frames a whole number of periods apart all err alike: nothing of it shows as scatter, and little
    // where their phase turns a few times over the note.
    let periods = hop_s * f0_hz;
    let turns = (periods - periods.round()).abs() * frames.len() as f64;
    let of_phase = 0.15 / (1.0 + turns * turns);
    let f0_hz_u = of_course.hypot(of_neighbours).hypot(of_phase) * cent_hz;
    let strongest_harmonic = median(readings().map(|r| f64::from(r.strongest)).collect()) as usize;
    let with_first = readings().filter(|r| r.has_first).count();
    Some(PitchNote {
        start_s,
        start_s_u,
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
