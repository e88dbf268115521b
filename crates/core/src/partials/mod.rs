//! The partials of a note, each followed through time: inharmonicity, decay and beating.
//!
//! # What it computes
//!
//! **Readings.** A frame under a window w holds a damped sinusoid A·exp((−α + jω)t). With X its
//! transform under w and X' under the derivative of w, −X'/X = −α + j(ω − Ω): frequency and decay
//! of a single damped sinusoid are exact, and so is its amplitude, X over the transform of
//! w·exp(−αt). The window has side lobes below −93 dB; a frame lasts 4.5 periods of the
//! fundamental, so that each partial lies beyond the main lobes of the others.
//!
//! **Ends.** No frame reaches across the onset or the end: the first frame begins with the onset,
//! and what happens in its first half is told from its own damped sinusoids. An attack is not
//! smeared.
//!
//! **Harmonic.** The fundamental over time ([`crate::pitch`]) tells where the partials are; they
//! are found one after the other, each telling more of where the next must be, f_n = n·F·√(1 +
//! B·n²).
//!
//! **Free.** Without a fundamental the tones of each frame are linked to those before: each track
//! predicts its next frequency and level, and the pairs are chosen that cost least together.
//!
//! **Noise.** The sound of all readings is taken from the recording; what is left beside a partial
//! is noise. A partial begins where it stands out of it by 11 dB (by 15 dB once it has died away)
//! and ends where by less than 7 dB.
//!
//! **Decay and beating.** The complex envelope of a partial is fitted by one or two damped
//! sinusoids (least squares): two frequencies beat, two decays make a knee.
//!
//! **Inharmonicity.** F and B by reweighted least squares; the scatter of the partials about the
//! law goes into their uncertainties.

mod envelope;
mod free;
mod harmonic;
mod law;
mod reading;
mod resynthesis;

use rustfft::num_complex::Complex;
use serde::Serialize;

pub use resynthesis::{Moment, TrackPoint, sound_of};

use crate::error::Error;
use crate::finding::{Advice, Finding};
use crate::fit::{Line, median};
use crate::measured::{Measured, flat};
use crate::pitch::{Pitch, PitchNote, PitchSettings, pitch};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::transform::fast_length;
use crate::units::cents_between;
use envelope::{Component, Course, Envelope, envelope};
use harmonic::{Followed, Guide, Stretch};
use law::{StringLaw, string_law};
use reading::FrameReader;
use resynthesis::Sum;

type C = Complex<f64>;

/// Longest span that is followed, in seconds.
pub const LONGEST_S: f64 = 120.0;
/// Periods of the fundamental that a frame holds.
const PERIODS: f64 = 4.5;
/// No frame is shorter, in seconds.
const SHORTEST_FRAME_S: f64 = 0.01;
/// Partials that scatter so far about the law of a string belong to none, in cents.
const NO_STRING_CENTS: f64 = 25.0;
/// Width of the window at −6 dB, in bins.
const RESOLUTION_BINS: f64 = 2.66;

/// How partials are followed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PartialsSettings {
    /// Whether no fundamental is assumed.
    pub free: bool,
    /// How the fundamental is looked for.
    pub pitch: PitchSettings,
    /// Without a fundamental: the spacing at which two partials are resolved, in Hz.
    pub resolve_hz: f64,
    /// Time between the points of a track in seconds; `None` for a quarter of a frame, or a
    /// fifth without a fundamental.
    pub hop_s: Option<f64>,
    /// Partials at most.
    pub most: usize,
    /// Lowest and highest frequency of a partial in Hz.
    pub range_hz: (f64, f64),
    /// A track lasts at least so long, in seconds.
    pub shortest_s: f64,
}

impl Default for PartialsSettings {
    fn default() -> Self {
        Self {
            free: false,
            pitch: PitchSettings::default(),
            resolve_hz: 30.0,
            hop_s: None,
            most: 60,
            range_hz: (0.0, f64::INFINITY),
            shortest_s: 0.03,
        }
    }
}

/// A partial over time, column by column.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TrackColumns {
    /// Its number.
    pub number: usize,
    /// Time of its first point in seconds from the start of the take.
    pub start_s: f64,
    /// Time between points.
    pub hop_s: f64,
    /// Frequencies in Hz.
    pub frequency_hz: Vec<f64>,
    /// Levels of the amplitude in dB, re what all levels refer to.
    pub level_db: Vec<f64>,
    /// Phases of a cosine in radians.
    pub phase_rad: Vec<f64>,
}

/// A partial over time.
#[derive(Debug, Clone, PartialEq)]
pub struct PartialTrack {
    /// Its number: of the harmonic, or in the order of frequency.
    pub number: usize,
    /// Time of its first point in seconds from the start of the take.
    pub start_s: f64,
    /// Time between points.
    pub hop_s: f64,
    /// Its points.
    pub points: Vec<TrackPoint>,
}

/// What can be said of a partial. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Partial {
    /// Its number: of the harmonic, or in the order of frequency.
    pub number: usize,
    /// Frequency in Hz; where two components beat, of the stronger.
    pub frequency_hz: f64,
    /// Its uncertainty.
    pub frequency_hz_u: f64,
    /// Level of its amplitude in dB, at the time [`Partials::level_at_s`]; a full-scale sine has
    /// [`Partials::full_scale_db`].
    pub level_db: f64,
    /// Distance from n times the first partial, in cents; `None` without a fundamental.
    pub cents_from_harmonic: Option<f64>,
    /// Distance from the law of the stiff string, in cents.
    pub cents_from_law: Option<f64>,
    /// Whether it keeps to the law; those that do not are left out of it.
    pub on_law: bool,
    /// Ratio of its frequency to that of the partial chosen by [`Partials::relate`].
    pub ratio: Option<f64>,
    /// The nearest of the ratios wanted, and the distance from it in cents.
    pub target_ratio: Option<f64>,
    /// See above.
    pub cents_from_target: Option<f64>,
    /// Time to fall by 60 dB in seconds; of two stages the early one; `None` if it does not fall
    /// enough to tell.
    pub decay_t60_s: Option<f64>,
    /// Its uncertainty.
    pub decay_t60_s_u: Option<f64>,
    /// The same of the late stage, where there are two.
    pub late_t60_s: Option<f64>,
    /// Its uncertainty.
    pub late_t60_s_u: Option<f64>,
    /// When the late stage takes over, in seconds from the start of the take.
    pub knee_s: Option<f64>,
    /// How often it beats, in Hz: the spacing of its two components.
    pub beat_hz: Option<f64>,
    /// Its uncertainty.
    pub beat_hz_u: Option<f64>,
    /// Depth of the first beats in dB, from the greatest level to the least.
    pub beat_depth_db: Option<f64>,
    /// How far the weaker component lies below the stronger at the start, in dB.
    pub second_below_db: Option<f64>,
    /// When it is heard, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
}

impl Partial {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 15] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 4, |partial| {
            Some(Measured::new(partial.frequency_hz, partial.frequency_hz_u))
        }),
        Field::plain("level_db", "level", Unit::Level, 2, |partial| Some(partial.level_db)),
        Field::plain("cents_from_harmonic", "distance from harmonic", Unit::Cent, 2, |partial| {
            partial.cents_from_harmonic
        }),
        Field::plain(
            "cents_from_law",
            "distance from the stiff string",
            Unit::Cent,
            2,
            |partial| partial.cents_from_law,
        ),
        Field::plain("ratio", "ratio", Unit::One, 4, |partial| partial.ratio),
        Field::plain("target_ratio", "ratio wanted", Unit::One, 4, |partial| partial.target_ratio),
        Field::plain(
            "cents_from_target",
            "distance from the ratio wanted",
            Unit::Cent,
            2,
            |partial| partial.cents_from_target,
        ),
        Field::measured("decay_t60_s", "decay", Unit::Second, 3, |partial| {
            pair(partial.decay_t60_s, partial.decay_t60_s_u)
        }),
        Field::measured("late_t60_s", "late decay", Unit::Second, 3, |partial| {
            pair(partial.late_t60_s, partial.late_t60_s_u)
        }),
        Field::plain("knee_s", "knee", Unit::Second, 2, |partial| partial.knee_s),
        Field::measured("beat_hz", "beat", Unit::Hertz, 4, |partial| {
            pair(partial.beat_hz, partial.beat_hz_u)
        }),
        Field::plain("beat_depth_db", "depth of the beat", Unit::Decibel, 1, |partial| {
            partial.beat_depth_db
        }),
        Field::plain("second_below_db", "weaker component", Unit::Decibel, 1, |partial| {
            partial.second_below_db
        }),
        Field::plain("start_s", "start", Unit::Second, 2, |partial| Some(partial.start_s)),
        Field::plain("end_s", "end", Unit::Second, 2, |partial| Some(partial.end_s)),
    ];
}

/// The partials of a note.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Partials {
    /// When the note begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// Frequency of the first partial as the law gives it, F·√(1 + B); `None` without a
    /// fundamental.
    #[serde(flatten, serialize_with = "flat::f0_hz")]
    pub f0_hz: Option<Measured>,
    /// F, the fundamental of the string if it had no stiffness.
    #[serde(flatten, serialize_with = "flat::stiff_f_hz")]
    pub stiff_f_hz: Option<Measured>,
    /// B.
    #[serde(flatten, serialize_with = "flat::inharmonicity")]
    pub inharmonicity: Option<Measured>,
    /// Scatter of the partials about the law, in cents.
    pub law_scatter_cents: Option<f64>,
    /// When the levels of the partials are told: where all together are loudest, in seconds.
    pub level_at_s: f64,
    /// Level of a full-scale sine in dB: 0, or re 20 µPa after [`Partials::calibrate`].
    #[serde(skip)]
    pub full_scale_db: f64,
    /// The partials.
    pub partials: Vec<Partial>,
    /// Their tracks, in the order of their numbers and times.
    #[serde(skip)]
    pub tracks: Vec<PartialTrack>,
    /// What the tracks leave of the sound, in dB re the sound: of all, and from 0.1 s after the
    /// onset on.
    pub residual_db: f64,
    /// See above.
    pub residual_sustain_db: Option<f64>,
    /// Length of a frame, and time between the points of a track, in seconds.
    #[serde(skip)]
    pub frame_s: f64,
    /// See above.
    #[serde(skip)]
    pub hop_s: f64,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// The fundamental of a note, and the stiffness of its string.
pub(crate) const F0: Label = Label::new("f0_hz", "fundamental", Unit::Hertz, 4).with_u();
pub(crate) const INHARMONICITY: Label =
    Label::new("inharmonicity", "inharmonicity", Unit::One, 8).with_u();

impl Quantities for Partials {
    fn quantities(&self) -> Vec<Quantity> {
        const STIFF_F: Label =
            Label::new("stiff_f_hz", "F of the stiff string", Unit::Hertz, 4).with_u();
        const SCATTER: Label =
            Label::new("law_scatter_cents", "scatter about the stiff string", Unit::Cent, 3);
        const LEVEL_AT: Label = Label::new("level_at_s", "time of the levels", Unit::Second, 3);
        const START: Label = Label::new("start_s", "start of the note", Unit::Second, 3);
        const END: Label = Label::new("end_s", "end of the note", Unit::Second, 3);
        const LEFT: Label = Label::new("residual_db", "residual", Unit::Decibel, 1);
        const LEFT_LATER: Label =
            Label::new("residual_sustain_db", "residual after the attack", Unit::Decibel, 1);
        let mut all = vec![
            Quantity::top(&START, bare(self.start_s)),
            Quantity::top(&END, bare(self.end_s)),
            Quantity::top(&F0, self.f0_hz),
            Quantity::top(&STIFF_F, self.stiff_f_hz),
            Quantity::top(&INHARMONICITY, self.inharmonicity),
            Quantity::top(&SCATTER, pair(self.law_scatter_cents, None)),
            Quantity::top(&LEVEL_AT, bare(self.level_at_s)),
            Quantity::top(&LEFT, bare(self.residual_db)),
            Quantity::top(&LEFT_LATER, pair(self.residual_sustain_db, None)),
        ];
        for partial in &self.partials {
            let (key, name) =
                (Key::item("partials", partial.number), format!("partial {}", partial.number));
            all.extend(Quantity::of_item(&key, &name, &Partial::FIELDS, partial));
        }
        all
    }
}

impl Partials {
    /// The tracks column by column.
    #[must_use]
    pub fn columns(&self) -> Vec<TrackColumns> {
        let columns = |track: &PartialTrack| TrackColumns {
            number: track.number,
            start_s: track.start_s,
            hop_s: track.hop_s,
            frequency_hz: track.points.iter().map(|point| point.frequency_hz).collect(),
            level_db: track.points.iter().map(|point| self.level_db_at(point)).collect(),
            phase_rad: track.points.iter().map(|point| point.phase_rad).collect(),
        };
        self.tracks.iter().map(columns).collect()
    }

    /// Refers all levels to sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        for partial in &mut self.partials {
            partial.level_db += full_scale_db - self.full_scale_db;
        }
        self.full_scale_db = full_scale_db;
    }

    /// Level of a point of a track in dB, re what all levels refer to.
    #[must_use]
    pub fn level_db_at(&self, point: &TrackPoint) -> f64 {
        point.level_db() + self.full_scale_db
    }

    /// Tells the ratios of all partials to one, and how far each is from the nearest of the ratios
    /// wanted.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] where there is no partial of that number, or a ratio is not positive.
    pub fn relate(&mut self, to: usize, targets: &[f64]) -> Result<(), Error> {
        if let Some(wrong) = targets.iter().find(|ratio| !(ratio.is_finite() && **ratio > 0.0)) {
            return Err(Error::Setting {
                setting: "a ratio wanted",
                given: wrong.to_string(),
                allowed: "a positive number".into(),
            });
        }
        let chosen = self.partials.iter().find(|partial| partial.number == to);
        let base_hz = chosen.map(|partial| partial.frequency_hz).ok_or_else(|| Error::Setting {
            setting: "the partial that ratios refer to",
            given: to.to_string(),
            allowed: "the number of one that was found".into(),
        })?;
        for partial in &mut self.partials {
            let ratio = partial.frequency_hz / base_hz;
            let away = |target: &f64| cents_between(*target, ratio);
            partial.ratio = Some(ratio);
            partial.target_ratio =
                targets.iter().copied().min_by(|a, b| away(a).abs().total_cmp(&away(b).abs()));
            partial.cents_from_target = partial.target_ratio.as_ref().map(away);
        }
        Ok(())
    }

    /// The sound of the tracks, as long as samples that begin at a time.
    #[must_use]
    pub fn resynthesis(&self, start_s: f64, samples: usize, sample_rate_hz: f64) -> Vec<f32> {
        let mut sound = vec![0.0; samples];
        for track in &self.tracks {
            let sum = Sum {
                start: (track.start_s - start_s) * sample_rate_hz,
                hop: track.hop_s * sample_rate_hz,
                rate_hz: sample_rate_hz,
            };
            for (step, pair) in track.points.windows(2).enumerate() {
                sum.add(&mut sound, step, &[(pair[0], pair[1], 1.0)]);
            }
        }
        sound
    }
}

/// Follows the partials of the longest note of a sound, whose first sample lies `start_s` seconds
/// into its take.
///
/// # Errors
///
/// [`Error::TooShort`] for a sound that holds no frame, [`Error::NoFundamental`] where nothing has
/// a fundamental, [`Error::Setting`] for settings that make no sense.
pub fn partials(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
) -> Result<Partials, Error> {
    Ok(partials_and_pitch(sound, sample_rate_hz, start_s, settings)?.0)
}

/// The same with the fundamental that led to them, its times in seconds from the first sample.
pub(crate) fn partials_and_pitch(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
) -> Result<(Partials, Option<Pitch>), Error> {
    check(settings, sound.len(), sample_rate_hz)?;
    let mut findings = Vec::new();
    let mut followed_pitch = None;
    let (stretch, frame_s, guide) =
        if settings.free {
            let from = onset(sound, sample_rate_hz, 0, sound.len());
            let stretch = Stretch { sound, rate_hz: sample_rate_hz, from, to: sound.len() };
            (stretch, RESOLUTION_BINS / settings.resolve_hz, None)
        } else {
            let found = pitch(sound, sample_rate_hz, &settings.pitch)?;
            let note = longest(&found).ok_or(Error::NoFundamental)?;
            findings.extend(found.findings().into_iter().filter(|f| f.code == "off_series"));
            if found.notes.len() > 1 {
                findings.push(Finding::warning(
                "several_notes",
                format!(
                    "The span contains {} notes; the longest is analysed, {:.2} s to {:.2} s.",
                    found.notes.len(),
                    start_s + note.start_s,
                    start_s + note.end_s
                ),
            ).advising(Advice::Span));
            }
            let stretch = stretch_of(sound, sample_rate_hz, &found, note);
            let guide = guide_of(&stretch, &found, note);
            let lowest = guide.points.iter().map(|(_, hz)| *hz).fold(f64::INFINITY, f64::min);
            followed_pitch = Some(found);
            (stretch, (PERIODS / lowest).max(SHORTEST_FRAME_S), Some(guide))
        };
    let length = fast_length((frame_s * sample_rate_hz).ceil() as usize);
    if stretch.to < stretch.from + length {
        let samples = (stretch.to - stretch.from) as u64;
        return Err(Error::TooShort { samples, needed: length as u64 });
    }
    let mut reader = FrameReader::new(length, sample_rate_hz);
    let frame_s = length as f64 / sample_rate_hz;
    // Linking without a fundamental wants shorter steps.
    let steps_in_frame = if settings.free { 5.0 } else { 4.0 };
    let hop_s = settings.hop_s.unwrap_or((frame_s / steps_in_frame).clamp(0.002, 0.02));
    let followed = match &guide {
        Some(guide) => {
            let mut places = harmonic::places(&stretch, guide, &mut reader, settings.most);
            let middle_hz = guide.at(stretch.duration_s() / 2.0);
            let (low, high) = settings.range_hz;
            places.retain(|place| (low..=high).contains(&(place.ratio * middle_hz)));
            harmonic::follow(&stretch, guide, &places, &mut reader, hop_s)
        }
        None => free::follow(&stretch, &mut reader, hop_s, settings),
    };
    let left = stretch.sound[stretch.from..stretch.to].to_vec();
    let assembly = Assembly { stretch, start_s, hop_s, reader, settings, findings, left };
    Ok((assembly.assemble(&followed, guide.as_ref()), followed_pitch))
}

fn check(settings: &PartialsSettings, samples: usize, sample_rate_hz: f64) -> Result<(), Error> {
    let out_of = |setting, given: String, allowed: &str| {
        Err(Error::Setting { setting, given, allowed: allowed.into() })
    };
    if !(0.5..=2000.0).contains(&settings.resolve_hz) {
        let given = format!("{} Hz", settings.resolve_hz);
        return out_of("the resolution", given, "0.5 Hz to 2 kHz");
    }
    if let Some(hop_s) = settings.hop_s.filter(|hop_s| !(2e-4..=0.5).contains(hop_s)) {
        return out_of("the hop", format!("{hop_s} s"), "0.2 ms to 0.5 s");
    }
    if samples as f64 > LONGEST_S * sample_rate_hz {
        let given = format!("{:.1} s long", samples as f64 / sample_rate_hz);
        return out_of("the span", given, "at most 120 s");
    }
    Ok(())
}

/// The note that lasts longest.
pub(crate) fn longest(pitch: &Pitch) -> Option<&PitchNote> {
    let lasts = |note: &&PitchNote| note.end_s - note.start_s;
    pitch.notes.iter().max_by(|a, b| lasts(a).total_cmp(&lasts(b)))
}

/// The stretch from the onset of a note to the next note, or to the end.
fn stretch_of<'a>(sound: &'a [f32], rate_hz: f64, pitch: &Pitch, note: &PitchNote) -> Stretch<'a> {
    const BEFORE_S: f64 = 0.06;
    let sample = |seconds: f64| ((seconds.max(0.0) * rate_hz) as usize).min(sound.len());
    let before = pitch.notes.iter().rfind(|other| other.end_s <= note.start_s + 1e-9);
    let earliest = before.map_or(0.0, |other| other.end_s).max(note.start_s - BEFORE_S);
    let next = pitch.notes.iter().find(|other| other.start_s >= note.end_s - 1e-9);
    let to = next.map_or(sound.len(), |other| sample(other.start_s - 0.01));
    let from = onset(sound, rate_hz, sample(earliest), sample(note.end_s).min(to));
    Stretch { sound, rate_hz, from, to: to.max(from) }
}

/// The first sample between two that stands out of what is before, and is more than a trace of what
/// comes.
fn onset(sound: &[f32], rate_hz: f64, from: usize, to: usize) -> usize {
    const BLOCK_S: f64 = 0.005;
    const PEAK_WITHIN_S: f64 = 0.5;
    const TRACE: f32 = 0.004;
    const STANDS_OUT: f32 = 6.0;
    let block = ((BLOCK_S * rate_hz) as usize).max(1);
    let rms = |block: &[f32]| {
        (block.iter().map(|x| x * x).sum::<f32>() / block.len().max(1) as f32).sqrt()
    };
    let quietest = sound[from..to].chunks_exact(block).map(rms).fold(f32::INFINITY, f32::min);
    let within = (from + (PEAK_WITHIN_S * rate_hz) as usize).min(to);
    let peak = sound[from..to].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let near_peak = sound[from..within].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let peak = if near_peak > 0.1 * peak { near_peak } else { peak };
    // A sound that is there from the beginning has no quiet before it.
    let begins_at_once = rms(&sound[from..(from + block).min(to)]) > 0.1 * peak;
    let noise = if begins_at_once { 0.0 } else { quietest };
    let least = (STANDS_OUT * noise).max(TRACE * peak);
    let first = sound[from..to].iter().position(|x| x.abs() > least).unwrap_or(0);
    // Back to where it left the noise.
    let quiet = |n: &usize| sound[*n].abs() <= (2.0 * noise).max(0.1 * least);
    let reach = (from + first).saturating_sub(block).max(from)..from + first;
    reach.clone().rev().find(quiet).unwrap_or(reach.end)
}

fn guide_of(stretch: &Stretch, pitch: &Pitch, note: &PitchNote) -> Guide {
    let onset_s = stretch.from as f64 / stretch.rate_hz;
    let inside = pitch.track.iter().filter(|p| (note.start_s..=note.end_s).contains(&p.time_s));
    let mut points: Vec<(f64, f64)> =
        inside.filter_map(|p| Some((p.time_s - onset_s, p.f0_hz?))).collect();
    // Single frames stray at the ends of a note: a median of five does not.
    let raw: Vec<f64> = points.iter().map(|(_, hz)| *hz).collect();
    for (n, point) in points.iter_mut().enumerate() {
        let from = n.saturating_sub(2).min(raw.len().saturating_sub(5));
        let around = raw[from..(from + 5).min(raw.len())].iter().copied();
        point.1 = median(around).unwrap_or(point.1);
    }
    Guide {
        points,
        inharmonicity: note.inharmonicity.clamp(0.0, 5e-3),
        has_vibrato: note.vibrato.vibrato_rate_hz.is_some(),
    }
}

/// Makes tracks and figures of what was followed.
struct Assembly<'a> {
    stretch: Stretch<'a>,
    start_s: f64,
    hop_s: f64,
    reader: FrameReader,
    settings: &'a PartialsSettings,
    findings: Vec<Finding>,
    /// The stretch without the sound of the partials that were taken out of it.
    left: Vec<f32>,
}

/// A partial with its points over the whole stretch, those that stand out of the noise being
/// marked.
struct Candidate {
    number: usize,
    points: Vec<Option<TrackPoint>>,
    /// How long after the middle of its frame each point is told.
    after_s: Vec<f64>,
    alive: Vec<bool>,
    /// Whether its sound between a point and the next was taken out of the stretch.
    taken: Vec<bool>,
}

impl Assembly<'_> {
    fn onset_s(&self) -> f64 {
        self.start_s + self.stretch.from as f64 / self.stretch.rate_hz
    }

    fn assemble(mut self, followed: &[Followed], guide: Option<&Guide>) -> Partials {
        let mut candidates: Vec<Candidate> = followed.iter().map(candidate).collect();
        // What is read where nothing sounds takes noise away: the second time it is left there.
        for _ in 0..2 {
            self.take_out(&mut candidates);
            let floors = self.noise_floors(&candidates);
            for (candidate, floor) in candidates.iter_mut().zip(&floors) {
                self.mark_alive(candidate, floor);
            }
        }
        self.take_out(&mut candidates);
        candidates.retain(|candidate| candidate.alive.iter().any(|alive| *alive));
        let level_at = loudest(&candidates);
        let wavers = guide.is_some_and(|guide| guide.has_vibrato);
        let fitted = self.envelopes(&candidates, wavers);
        let mut measured: Vec<(Partial, Measured)> = (candidates.iter().zip(&fitted))
            .filter_map(|(candidate, fitted)| self.figures(candidate, fitted, level_at))
            .collect();
        let law = Some(&measured).filter(|_| guide.is_some()).and_then(|measured| {
            let all: Vec<(usize, Measured)> =
                measured.iter().map(|(partial, hz)| (partial.number, *hz)).collect();
            let law = string_law(&all)?;
            if law.scatter_cents < NO_STRING_CENTS {
                return Some(law);
            }
            self.findings.push(Finding::warning(
                "no_string",
                format!(
                    "The partials scatter by {:.0} cents about the stiff-string fit: this is no string, but a bar, a bell, or several \
                     notes. f0 is the frequency of the first partial found, divided by its number.",
                    law.scatter_cents
                ),
            ).advising(Advice::NoFundamental));
            string_law(&all[..1])
        });
        for (partial, _) in &mut measured {
            if let Some(law) = &law {
                let n = partial.number as f64;
                let cents = |place_hz| cents_between(place_hz, partial.frequency_hz);
                partial.cents_from_harmonic = Some(cents(n * law.f0_hz.value));
                partial.cents_from_law = Some(cents(law.place_hz(partial.number)));
                partial.on_law = !law.is_off(partial.number, partial.frequency_hz);
            }
        }
        let tracks: Vec<PartialTrack> = candidates.iter().flat_map(|c| self.tracks(c)).collect();
        self.result(law, measured, tracks, level_at)
    }

    fn result(
        mut self,
        law: Option<StringLaw>,
        measured: Vec<(Partial, Measured)>,
        tracks: Vec<PartialTrack>,
        level_at: usize,
    ) -> Partials {
        const SUSTAIN_AFTER_S: f64 = 0.1;
        let rate_hz = self.stretch.rate_hz;
        let partials: Vec<Partial> = measured.into_iter().map(|(partial, _)| partial).collect();
        if partials.is_empty() {
            self.findings.push(Finding::warning(
                "no_partials",
                "No partial in this span rises above the noise for long enough: the span is silent, or noise.",
            ).advising(Advice::ShorterTracks));
        }
        let off: Vec<String> =
            partials.iter().filter(|p| !p.on_law).map(|p| p.number.to_string()).collect();
        if !off.is_empty() {
            self.findings.push(Finding::note(
                "off_law",
                format!(
                    "Partials {} deviate from the stiff-string fit and were left out of F and B: coupling to the soundboard shifts \
                     single partials, and a longitudinal mode or hum may be mistaken for one.",
                    off.join(", ")
                ),
            ));
        }
        let is_string = |law: &StringLaw| partials.len() > 2 && law.inharmonicity.u.is_finite();
        let of_string = law.filter(is_string);
        if let Some(rate_hz) = common_beat(&partials) {
            self.findings.push(Finding::note(
                "same_beat",
                format!(
                    "All partials fluctuate at the same {rate_hz:.2} Hz: this is tremolo of one sound. Beats between two strings get \
                     faster with the partial number.",
                ),
            ));
        }
        let mut result = Partials {
            start_s: self.onset_s(),
            end_s: self.start_s + self.stretch.to as f64 / rate_hz,
            f0_hz: law.map(|law| law.f0_hz),
            stiff_f_hz: law.map(|law| law.stiff_f_hz),
            inharmonicity: of_string.map(|law| law.inharmonicity),
            law_scatter_cents: of_string.map(|law| law.scatter_cents),
            level_at_s: self.onset_s() + level_at as f64 * self.hop_s,
            partials,
            tracks,
            full_scale_db: 0.0,
            residual_db: 0.0,
            residual_sustain_db: None,
            frame_s: self.reader.length() as f64 / rate_hz,
            hop_s: self.hop_s,
            findings: self.findings,
        };
        let sound = &self.stretch.sound[self.stretch.from..self.stretch.to];
        let power = |x: &[f32]| x.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>();
        let left_db = |from: usize| {
            let (all, left) = (power(&sound[from..]), power(&self.left[from..]));
            (all > 0.0).then(|| 10.0 * (left / all).max(1e-30).log10())
        };
        result.residual_db = left_db(0).unwrap_or(0.0);
        let sustain = (SUSTAIN_AFTER_S * rate_hz) as usize;
        result.residual_sustain_db = (sustain < sound.len()).then(|| left_db(sustain)).flatten();
        result
    }

    /// Takes the sound of all that is alive out of the stretch, and puts back what was taken but is
    /// not alive any more.
    fn take_out(&mut self, candidates: &mut [Candidate]) {
        let rate_hz = self.stretch.rate_hz;
        let sum = Sum { start: 0.0, hop: self.hop_s * rate_hz, rate_hz };
        let mut pieces = Vec::with_capacity(candidates.len());
        for step in 1..self.stretch.steps(self.hop_s) {
            pieces.clear();
            for candidate in &mut *candidates {
                let sounds = candidate.alive[step - 1] && candidate.alive[step];
                let ends = (candidate.points[step - 1], candidate.points[step]);
                let (true, (Some(from), Some(to))) = (candidate.taken[step] != sounds, ends) else {
                    continue;
                };
                candidate.taken[step] = sounds;
                pieces.push((from, to, if sounds { -1.0 } else { 1.0 }));
            }
            sum.add(&mut self.left, step - 1, &pieces);
        }
    }

    /// Noise beside each partial over time, as the power of a bin: what is left when the sound of
    /// all readings is taken away, in the bins to either side, by a running quarter: where a
    /// vibrato sweeps through a frame more is left than noise, but not at its turns.
    fn noise_floors(&mut self, candidates: &[Candidate]) -> Vec<NoiseFloor> {
        const SLOT_S: f64 = 0.02;
        const LEAST_SLOTS: usize = 9;
        const OVER_S: f64 = 0.25;
        /// A quarter of such means of noise lies below this share of what is usual.
        const QUARTER: f64 = 0.63;
        let stretch = &self.stretch;
        let count = stretch.to - stretch.from;
        let hop = self.hop_s * stretch.rate_hz;
        let slot = (self.reader.length() / 2).max((SLOT_S * stretch.rate_hz) as usize);
        let slots = (count.saturating_sub(self.reader.length()) / slot).max(1);
        let half_frame = 0.5 * self.reader.length() as f64 / hop;
        let mut floors: Vec<Vec<f64>> = vec![Vec::with_capacity(slots); candidates.len()];
        for n in 0..slots {
            self.reader.take(&self.left, (n * slot) as i64);
            let step = ((n * slot) as f64 / hop + half_frame) as usize;
            for (floor, candidate) in floors.iter_mut().zip(candidates) {
                let near = nearest(&candidate.points, step);
                let Some(point) = near else {
                    floor.push(0.0);
                    continue;
                };
                let k = (point.frequency_hz / self.reader.bin_hz()).round() as i64;
                let beside = [k - 3, k - 2, k + 2, k + 3].map(|k| self.reader.power(k));
                floor.push(0.25 * beside.iter().sum::<f64>());
            }
        }
        let smooth = |floor: Vec<f64>| {
            let slots = (OVER_S * stretch.rate_hz / slot as f64) as usize;
            let reach = slots.max(LEAST_SLOTS) / 2;
            let mut around = Vec::with_capacity(2 * reach + 1);
            let quarter = |n: usize| {
                around.clear();
                around.extend_from_slice(
                    &floor[n.saturating_sub(reach)..(n + reach + 1).min(floor.len())],
                );
                let place = around.len() / 4;
                *around.select_nth_unstable_by(place, f64::total_cmp).1 / QUARTER
            };
            NoiseFloor {
                powers: (0..floor.len()).map(quarter).collect(),
                slot_steps: slot as f64 / hop,
                first_step: half_frame,
            }
        };
        floors.into_iter().map(smooth).collect()
    }

    /// Marks where a partial stands out of the noise, with hysteresis; gaps of a beat are bridged,
    /// and what is shorter than a track may be is left out.
    fn mark_alive(&self, candidate: &mut Candidate, floor: &NoiseFloor) {
        const BEGINS: f64 = 12.0;
        /// What comes back after it has died away is seldom more than noise.
        const BEGINS_AGAIN: f64 = 30.0;
        const GOES_ON: f64 = 5.0;
        const GAP_FRAMES: f64 = 2.0;
        let full = 1.0 / self.reader.amplitude_variance() / 2.0;
        let frame_s = self.reader.length() as f64 / self.stretch.rate_hz;
        let around = ((0.25 * frame_s / self.hop_s).round() as usize).max(1);
        let ratios: Vec<f64> = (candidate.points.iter().enumerate())
            .map(|(step, point)| {
                let power = point.map_or(0.0, |p| p.amplitude * p.amplitude * full);
                power / floor.at(step).max(1e-300)
            })
            .collect();
        let mut sums = vec![0.0];
        for ratio in &ratios {
            sums.push(sums[sums.len() - 1] + ratio.min(1e12));
        }
        let mean = |step: usize| {
            let (from, to) = (step.saturating_sub(around), (step + around + 1).min(ratios.len()));
            (sums[to] - sums[from]) / (to - from) as f64
        };
        let mut alive: Vec<bool> = Vec::with_capacity(ratios.len());
        let (mut is_on, mut begins) = (false, BEGINS);
        for (step, point) in candidate.points.iter().enumerate() {
            is_on = point.is_some() && mean(step) > if is_on { GOES_ON } else { begins };
            begins = if is_on { BEGINS_AGAIN } else { begins };
            alive.push(is_on);
        }
        // Backwards as well: it began before it stood out clearly.
        is_on = false;
        for step in (0..alive.len()).rev() {
            let goes_on = candidate.points[step].is_some() && mean(step) > GOES_ON;
            is_on = alive[step] || (is_on && goes_on);
            alive[step] = is_on;
        }
        let gap = (GAP_FRAMES * frame_s / self.hop_s) as usize;
        let dead: Vec<(usize, usize)> = runs(alive.iter().map(|alive| !alive)).collect();
        for (from, to) in dead {
            let is_inside = from > 0 && to < alive.len();
            let is_whole = candidate.points[from..to].iter().all(Option::is_some);
            if is_inside && is_whole && to - from <= gap {
                alive[from..to].fill(true);
            }
        }
        let least = (self.settings.shortest_s.max(frame_s) / self.hop_s) as usize;
        let short: Vec<(usize, usize)> =
            runs(alive.iter().copied()).filter(|(from, to)| to - from < least).collect();
        for (from, to) in short {
            alive[from..to].fill(false);
        }
        candidate.alive = alive;
    }

    fn tracks(&self, candidate: &Candidate) -> Vec<PartialTrack> {
        let track = |(from, to): (usize, usize)| PartialTrack {
            number: candidate.number,
            start_s: self.onset_s() + from as f64 * self.hop_s,
            hop_s: self.hop_s,
            points: candidate.points[from..to].iter().flatten().copied().collect(),
        };
        runs(candidate.alive.iter().copied()).map(track).collect()
    }

    /// The envelopes of the partials, from the bin of each in frames a quarter apart: unlike a
    /// reading a bin adds up what two components put there.
    fn envelopes(&mut self, candidates: &[Candidate], wavers: bool) -> Vec<Fitted> {
        let (length, rate_hz) = (self.reader.length() as f64, self.stretch.rate_hz);
        let bins: Vec<i64> = candidates
            .iter()
            .map(|candidate| (candidate.mean_hz() / self.reader.bin_hz()).round() as i64)
            .collect();
        let step = (length / 4.0).max(1.0);
        let count = ((self.stretch.to - self.stretch.from) as f64 - length) / step;
        let mut values = vec![Vec::new(); candidates.len()];
        for n in 0..=count as usize {
            let start = (n as f64 * step).round();
            self.reader.take(self.stretch.sound, self.stretch.from as i64 + start as i64);
            let at_s = (start + length / 2.0) / rate_hz;
            let nearest = (at_s / self.hop_s).round() as usize;
            for ((values, candidate), bin) in values.iter_mut().zip(candidates).zip(&bins) {
                let is_alive = candidate.alive.get(nearest).copied().unwrap_or(false);
                values.push(is_alive.then(|| self.reader.envelope(*bin, start)));
            }
        }
        let start_s = length / 2.0 / rate_hz;
        if wavers {
            let other = |_: &Candidate| Fitted { envelope: Envelope::Other, start_s };
            return candidates.iter().map(other).collect();
        }
        let fitted = |(values, bin): (&Vec<Option<C>>, &i64)| {
            let mut envelope = envelope(&Course {
                values,
                step_s: step / rate_hz,
                frequency_hz: *bin as f64 * self.reader.bin_hz(),
                independent_s: self.reader.independent_samples() / rate_hz,
            });
            for component in envelope.components_mut() {
                let off_hz = component.frequency_hz.value - *bin as f64 * self.reader.bin_hz();
                component.amplitude /= self.reader.gain(component.decay_per_s.value, off_hz);
            }
            Fitted { envelope, start_s }
        };
        values.iter().zip(&bins).map(fitted).collect()
    }

    /// What can be said of a partial, with its frequency.
    fn figures(
        &self,
        candidate: &Candidate,
        fitted: &Fitted,
        level_at: usize,
    ) -> Option<(Partial, Measured)> {
        let first = candidate.alive.iter().position(|alive| *alive)?;
        let last = candidate.alive.iter().rposition(|alive| *alive)?;
        let alive = || candidate.points.iter().zip(&candidate.alive).filter(|(_, alive)| **alive);
        let weight: f64 = alive().flat_map(|(p, _)| p).map(|p| p.amplitude.powi(2)).sum();
        let mean_hz = candidate.mean_hz();
        let onset_s = self.onset_s();
        let time = |step: usize| onset_s + step as f64 * self.hop_s;
        let lasting_s = (last - first) as f64 * self.hop_s;
        let since = |step: usize| step as f64 * self.hop_s - fitted.start_s;
        let mut partial = Partial {
            number: candidate.number,
            frequency_hz: mean_hz,
            frequency_hz_u: 0.0,
            level_db: level_of(candidate, level_at),
            cents_from_harmonic: None,
            cents_from_law: None,
            on_law: true,
            ratio: None,
            target_ratio: None,
            cents_from_target: None,
            decay_t60_s: None,
            decay_t60_s_u: None,
            late_t60_s: None,
            late_t60_s_u: None,
            knee_s: None,
            beat_hz: None,
            beat_hz_u: None,
            beat_depth_db: None,
            second_below_db: None,
            start_s: time(first),
            end_s: time(last),
        };
        let frequency = match &fitted.envelope {
            Envelope::One(one) => {
                partial.take_decay(one.t60_s(lasting_s));
                if candidate.alive[level_at.min(candidate.alive.len() - 1)] {
                    partial.level_db = 20.0 * one.at(since(level_at)).log10();
                }
                one.frequency_hz
            }
            Envelope::Two(both, apart) if !is_swell(both, *apart, lasting_s) => {
                partial.take_two(both, *apart, lasting_s, onset_s + fitted.start_s);
                both[0].frequency_hz
            }
            Envelope::Two(..) | Envelope::Other => {
                partial.take_decay(self.decay_of_level(candidate));
                let spread: f64 = alive()
                    .flat_map(|(p, _)| p)
                    .map(|p| (p.frequency_hz - mean_hz).powi(2) * p.amplitude.powi(2))
                    .sum::<f64>()
                    / weight;
                let independent = self.reader.independent_samples() / self.stretch.rate_hz;
                let count = (lasting_s / independent).max(1.0);
                Measured::new(mean_hz, (spread / count).sqrt())
            }
        };
        (partial.frequency_hz, partial.frequency_hz_u) = (frequency.value, frequency.u);
        Some((partial, frequency))
    }

    /// Decay of the level alone, where the phase says nothing: a straight line through ln A,
    /// weighted by power.
    fn decay_of_level(&self, candidate: &Candidate) -> Option<Measured> {
        let points: Vec<(f64, f64, f64)> = (candidate.points.iter().enumerate())
            .filter(|(step, _)| candidate.alive[*step] && candidate.after_s[*step].abs() < 1e-4)
            .filter_map(|(step, point)| {
                let a = (*point)?.amplitude;
                Some((step as f64 * self.hop_s, a.ln(), a * a))
            })
            .collect();
        let (first, last) = (points.first()?.0, points.last()?.0);
        let line = Line::through(points.iter().copied())?;
        let independent = self.reader.independent_samples() / self.stretch.rate_hz;
        let count = ((last - first) / independent).max(3.0);
        let slope_u = (line.left / line.square / (count - 2.0)).sqrt();
        let one = Component {
            frequency_hz: Measured::new(0.0, 0.0),
            decay_per_s: Measured::new(-line.slope, slope_u),
            amplitude: C::new(1.0, 0.0),
        };
        one.t60_s(last - first)
    }
}

impl Partial {
    fn take_decay(&mut self, t60_s: Option<Measured>) {
        self.decay_t60_s = t60_s.map(|t| t.value);
        self.decay_t60_s_u = t60_s.map(|t| t.u);
    }

    /// Two components: they beat where their frequencies are apart, and else decay in two stages.
    fn take_two(&mut self, both: &[Component; 2], apart: Measured, lasting_s: f64, start_s: f64) {
        const APART_U: f64 = 4.0;
        const LEAST_TURNS: f64 = 0.35;
        let [strong, weak] = both;
        let ratio = weak.amplitude.norm() / strong.amplitude.norm();
        self.second_below_db = Some(-20.0 * ratio.log10());
        if apart.value > APART_U * apart.u && apart.value * lasting_s > LEAST_TURNS {
            self.beat_hz = Some(apart.value);
            self.beat_hz_u = Some(apart.u);
            let ratio = ratio.min(1.0 / ratio).min(0.999);
            self.beat_depth_db = Some(20.0 * ((1.0 + ratio) / (1.0 - ratio)).log10());
            self.take_decay(strong.t60_s(lasting_s));
            return;
        }
        // What dies away in opposite phase is an attack, not a stage.
        if (strong.amplitude * weak.amplitude.conj()).re < 0.0 {
            self.second_below_db = None;
            self.take_decay(strong.t60_s(lasting_s));
            return;
        }
        let early_is_strong = strong.decay_per_s.value > weak.decay_per_s.value;
        let (early, late) = if early_is_strong { (strong, weak) } else { (weak, strong) };
        self.take_decay(early.t60_s(lasting_s));
        let late_t60_s = late.t60_s(lasting_s);
        if self.decay_t60_s.is_none() {
            self.take_decay(late_t60_s);
            self.second_below_db = None;
            return;
        }
        if late_t60_s.is_none() {
            // What is over at once, and neither beats nor is a stage, is no second component.
            self.second_below_db = None;
        }
        self.late_t60_s = late_t60_s.map(|t| t.value);
        self.late_t60_s_u = late_t60_s.map(|t| t.u);
        let faster = early.decay_per_s.value - late.decay_per_s.value;
        let knee_s = (early.amplitude.norm() / late.amplitude.norm()).ln() / faster;
        self.knee_s = (knee_s > 0.0 && knee_s < lasting_s).then_some(start_s + knee_s);
    }
}

/// The rate at which all partials beat, if it is the same.
fn common_beat(partials: &[Partial]) -> Option<f64> {
    const FEWEST: usize = 4;
    const ALIKE: f64 = 0.02;
    let rates_hz: Vec<f64> = partials.iter().filter_map(|partial| partial.beat_hz).collect();
    let middle_hz = median(rates_hz.iter().copied())?;
    let is_alike = |rate_hz: &&f64| (*rate_hz / middle_hz - 1.0).abs() < ALIKE;
    let alike = rates_hz.iter().filter(is_alike).count();
    (alike >= FEWEST && 4 * alike >= 3 * partials.len()).then_some(middle_hz)
}

/// Whether two components are but one that swells or fades other than exponentially: as strong as
/// each other, and together for less than it takes to hear them beat.
fn is_swell(both: &[Component; 2], apart: Measured, lasting_s: f64) -> bool {
    const ALIKE: f64 = 0.8;
    const TURNS_OF_A_BEAT: f64 = 0.75;
    let [a, b] = both.each_ref().map(|component| component.amplitude.norm());
    a.min(b) > ALIKE * a.max(b) && apart.value * lasting_s < TURNS_OF_A_BEAT
}

/// The envelope of a partial.
struct Fitted {
    envelope: Envelope,
    /// When its time begins, in seconds after the onset.
    start_s: f64,
}

impl Candidate {
    /// Mean frequency by power where it is heard.
    fn mean_hz(&self) -> f64 {
        let heard = self.points.iter().zip(&self.alive).filter(|(_, alive)| **alive);
        let (sum, weight) = heard.filter_map(|(point, _)| *point).fold((0.0, 0.0), |sums, p| {
            let power = p.amplitude * p.amplitude;
            (sums.0 + power * p.frequency_hz, sums.1 + power)
        });
        sum / weight
    }
}

/// The noise beside a partial, as the power of a bin, over time.
struct NoiseFloor {
    powers: Vec<f64>,
    slot_steps: f64,
    /// The step in the middle of the first frame.
    first_step: f64,
}

impl NoiseFloor {
    fn at(&self, step: usize) -> f64 {
        let slot = ((step as f64 - self.first_step) / self.slot_steps).round().max(0.0) as usize;
        self.powers[slot.min(self.powers.len() - 1)]
    }
}

fn candidate(followed: &Followed) -> Candidate {
    let point = |(reading, after): &(reading::Reading, f64)| {
        let amplitude = reading.after(*after);
        TrackPoint {
            frequency_hz: reading.frequency_hz,
            amplitude: amplitude.norm(),
            phase_rad: amplitude.arg(),
        }
    };
    let readings = &followed.readings;
    Candidate {
        number: followed.place.number,
        points: readings.iter().map(|reading| reading.as_ref().map(point)).collect(),
        after_s: readings.iter().map(|r| r.map_or(f64::INFINITY, |(_, after)| after)).collect(),
        alive: readings.iter().map(Option::is_some).collect(),
        taken: vec![false; readings.len()],
    }
}

/// The step at which all partials together are loudest.
fn loudest(candidates: &[Candidate]) -> usize {
    let steps = candidates.iter().map(|c| c.points.len()).max().unwrap_or(0);
    let power = |step: usize| {
        let of = |c: &Candidate| {
            c.points[step].filter(|_| c.alive[step]).map_or(0.0, |p| p.amplitude.powi(2))
        };
        candidates.iter().map(of).sum::<f64>()
    };
    (0..steps)
        .map(|step| (step, power(step)))
        .fold((0, 0.0), |best, one| if one.1 > best.1 * 1.0001 { one } else { best })
        .0
}

/// Level of a partial at a step in dB, by a straight line through the nearest points that are
/// heard.
fn level_of(candidate: &Candidate, step: usize) -> f64 {
    const NEAREST: usize = 5;
    let mut heard: Vec<(f64, f64)> = (candidate.points.iter().enumerate())
        .filter(|(n, _)| candidate.alive[*n])
        .filter_map(|(n, point)| Some((n as f64 - step as f64, 20.0 * (*point)?.amplitude.log10())))
        .collect();
    heard.sort_by(|a, b| a.0.abs().total_cmp(&b.0.abs()));
    heard.truncate(NEAREST);
    let alone = heard.first().map_or(f64::NAN, |(_, db)| *db);
    Line::of_equals(heard.iter().copied()).map_or(alone, |line| line.at(0.0))
}

fn nearest(points: &[Option<TrackPoint>], step: usize) -> Option<TrackPoint> {
    let step = step.min(points.len().checked_sub(1)?);
    (0..points.len()).find_map(|away| {
        let before = step.checked_sub(away).and_then(|n| points[n]);
        before.or_else(|| points.get(step + away).copied().flatten())
    })
}

/// Runs of true: first place, and the one after the last.
fn runs(values: impl Iterator<Item = bool>) -> impl Iterator<Item = (usize, usize)> {
    let mut runs = Vec::new();
    let mut start = None;
    let mut count = 0;
    for (n, value) in values.enumerate() {
        count = n + 1;
        match (value, start) {
            (true, None) => start = Some(n),
            (false, Some(from)) => {
                runs.push((from, n));
                start = None;
            }
            _ => (),
        }
    }
    runs.extend(start.map(|from| (from, count)));
    runs.into_iter()
}
