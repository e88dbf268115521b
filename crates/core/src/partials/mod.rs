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
//! and what happens in its first half is found from its own damped sinusoids. An attack is not
//! smeared.
//!
//! **Harmonic.** The fundamental over time ([`crate::pitch`]) shows where the partials are; they
//! are found one after the other, each showing more of where the next must be, f_n = n·F·√(1 +
//! B·n²).
//!
//! **Free.** Without a fundamental the tones of each frame are linked to those before: each track
//! predicts its next frequency and level, and the pairs are chosen that cost least together.
//!
//! **Noise.** The sound of all readings is taken from the recording; what is left beside a partial
//! is noise. A partial begins where it stands out of it by 11 dB (by 15 dB once it has died away)
//! and ends where by less than 7 dB.
//!
//! **Decay and beating.** The complex envelope of a partial is fitted by one damped sinusoid, or by
//! two or three where what fewer leave asks for more (least squares): two frequencies beat, two
//! decays make a knee.
//!
//! **Inharmonicity.** F and B by reweighted least squares; the scatter of the partials about the
//! law goes into their uncertainties.

mod assembly;
mod decay;
mod entry;
mod envelope;
mod free;
mod harmonic;
mod law;
mod others;
mod poles;
mod reading;
mod rest;
mod resynthesis;
mod stretch;

use rustfft::num_complex::Complex;
use serde::Serialize;

pub use entry::Entry;
pub use others::OtherTone;
pub use rest::Rest;
pub use resynthesis::{Moment, TrackPoint, sound_of};

use crate::error::Error;
use crate::finding::{Advice, Finding};
use crate::fit::median;
use crate::measured::{Measured, flat};
use crate::onsets::note_onset;
use crate::pitch::{Pitch, PitchNote, PitchSettings, pitch};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::transform::fast_length;
use crate::units::cents_between;
pub(crate) use law::{StringLaw, string_law};
pub(crate) use poles::Pole;
pub(crate) use reading::FrameReader;

use assembly::Assembly;
use harmonic::{Guide, Stretch};
pub(crate) use resynthesis::Sum;
use stretch::stretch_of;

type C = Complex<f64>;

/// Longest span that is followed, in seconds.
pub const LONGEST_S: f64 = 120.0;
/// Periods of the fundamental that a frame holds.
const PERIODS: f64 = 4.5;
/// No frame is shorter, in seconds.
const SHORTEST_FRAME_S: f64 = 0.01;
/// Width of the window at −6 dB, in bins.
const RESOLUTION_BINS: f64 = 2.66;

/// Which of the notes of a sound is followed.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum NoteChoice {
    /// The one that lasts longest.
    #[default]
    Longest,
    /// Counted from 1.
    Number(usize),
    /// The one that sounds most of the time from one time to another, in seconds from the start of
    /// the take.
    Between(f64, f64),
}

/// How partials are followed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PartialsSettings {
    /// Whether no fundamental is assumed.
    pub free: bool,
    /// How the fundamental is looked for.
    pub pitch: PitchSettings,
    /// Which of several notes is followed.
    pub note: NoteChoice,
    /// Without a fundamental: the spacing at which two partials are resolved, in Hz.
    pub resolve_hz: f64,
    /// The spacing in Hz from a partial from which on tones off the series are given too, of a short
    /// note more; `None` for no such tones.
    pub others_resolve_hz: Option<f64>,
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
            note: NoteChoice::Longest,
            resolve_hz: 30.0,
            others_resolve_hz: None,
            hop_s: None,
            most: 120,
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
    /// enough to be known.
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
    /// Two or three components that together make it, the one with the most energy first; none
    /// where it is a single one, or where they are no account of it.
    pub components: Vec<PartialComponent>,
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

/// A damped sinusoid of those that make a partial: of two or three strings, or of the two directions
/// in which a string moves. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct PartialComponent {
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Its uncertainty.
    pub frequency_hz_u: f64,
    /// Distance from the first in Hz; `None` for that itself.
    pub hz_from_strongest: Option<f64>,
    /// Its uncertainty.
    pub hz_from_strongest_u: Option<f64>,
    /// Level of its amplitude in dB, as that of its partial.
    pub level_db: f64,
    /// Time to fall by 60 dB in seconds; `None` if it does not fall enough to be known.
    pub decay_t60_s: Option<f64>,
    /// Its uncertainty.
    pub decay_t60_s_u: Option<f64>,
}

impl PartialComponent {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 4] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 4, |component| {
            Some(Measured::new(component.frequency_hz, component.frequency_hz_u))
        }),
        Field::measured(
            "hz_from_strongest",
            "distance from the strongest",
            Unit::Hertz,
            4,
            |component| pair(component.hz_from_strongest, component.hz_from_strongest_u),
        ),
        Field::plain("level_db", "level", Unit::Level, 2, |component| Some(component.level_db)),
        Field::measured("decay_t60_s", "decay", Unit::Second, 3, |component| {
            pair(component.decay_t60_s, component.decay_t60_s_u)
        }),
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
    /// When the levels of the partials are given: where all together are loudest, in seconds.
    pub level_at_s: f64,
    /// Level of a full-scale sine in dB: 0, or re 20 µPa after [`Partials::calibrate`].
    #[serde(skip)]
    pub full_scale_db: f64,
    /// The partials.
    pub partials: Vec<Partial>,
    /// Lasting tones off the series, where they are asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_tones: Option<Vec<OtherTone>>,
    /// The spacing from a partial from which on they are resolved, in Hz.
    #[serde(skip)]
    pub others_resolve_hz: Option<f64>,
    /// Their tracks, in the order of their numbers and times, as they would sound if they began in
    /// full; [`Partials::heard_tracks`] begin with their entry.
    #[serde(skip)]
    pub tracks: Vec<PartialTrack>,
    /// How they enter, where they do not sound in full from the onset on.
    #[serde(flatten, serialize_with = "entry::flat")]
    pub entry: Option<Entry>,
    /// What the tracks leave of the sound.
    #[serde(flatten)]
    pub rest: Rest,
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
pub(crate) const STIFF_F: Label =
    Label::new("stiff_f_hz", "F of the stiff string", Unit::Hertz, 4).with_u();
pub(crate) const INHARMONICITY: Label =
    Label::new("inharmonicity", "inharmonicity", Unit::One, 8).with_u();

impl Quantities for Partials {
    fn quantities(&self) -> Vec<Quantity> {
        const SCATTER: Label =
            Label::new("law_scatter_cents", "scatter about the stiff string", Unit::Cent, 3);
        const LEVEL_AT: Label = Label::new("level_at_s", "time of the levels", Unit::Second, 3);
        const ENTRY_FROM: Label =
            Label::new("entry_from_s", "entry of the partials, from", Unit::Second, 4);
        const ENTRY_TO: Label =
            Label::new("entry_to_s", "entry of the partials, to", Unit::Second, 4);
        const START: Label = Label::new("start_s", "start of the note", Unit::Second, 3);
        const END: Label = Label::new("end_s", "end of the note", Unit::Second, 3);
        let mut all = vec![
            Quantity::top(&START, bare(self.start_s)),
            Quantity::top(&END, bare(self.end_s)),
            Quantity::top(&F0, self.f0_hz),
            Quantity::top(&STIFF_F, self.stiff_f_hz),
            Quantity::top(&INHARMONICITY, self.inharmonicity),
            Quantity::top(&SCATTER, pair(self.law_scatter_cents, None)),
            Quantity::top(&ENTRY_FROM, pair(self.entry.map(|entry| entry.from_s), None)),
            Quantity::top(&ENTRY_TO, pair(self.entry.map(|entry| entry.to_s), None)),
            Quantity::top(&LEVEL_AT, bare(self.level_at_s)),
        ];
        all.extend(self.rest.quantities());
        for partial in &self.partials {
            let (key, name) =
                (Key::item("partials", partial.number), format!("partial {}", partial.number));
            all.extend(Quantity::of_item(&key, &name, &Partial::FIELDS, partial));
            for (n, component) in (1..).zip(&partial.components) {
                let (key, name) =
                    (key.clone().then_item("components", n), format!("{name}, component {n}"));
                all.extend(Quantity::of_item(&key, &name, &PartialComponent::FIELDS, component));
            }
        }
        for tone in self.other_tones.iter().flatten() {
            let (key, name) =
                (Key::item("other_tones", tone.number), format!("other tone {}", tone.number));
            all.extend(Quantity::of_item(&key, &name, &OtherTone::FIELDS, tone));
        }
        all
    }
}

impl Partials {
    /// The tracks as they are heard: before the partials enter there is nothing.
    #[must_use]
    pub fn heard_tracks(&self) -> Vec<PartialTrack> {
        let heard = |track: &PartialTrack| match self.entry {
            Some(entry) => entry.heard(track),
            None => track.clone(),
        };
        self.tracks.iter().map(heard).collect()
    }

    /// The tracks as they are heard, column by column.
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
        self.heard_tracks().iter().map(columns).collect()
    }

    /// Refers all levels to sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        let by_db = full_scale_db - self.full_scale_db;
        for partial in &mut self.partials {
            partial.level_db += by_db;
            partial.components.iter_mut().for_each(|component| component.level_db += by_db);
        }
        for tone in self.other_tones.iter_mut().flatten() {
            tone.level_db += by_db;
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
        if let Some(entry) = self.entry {
            let entered = ((entry.to_s - start_s) * sample_rate_hz).ceil().max(0.0) as usize;
            for (n, sample) in sound.iter_mut().take(entered).enumerate() {
                *sample *= entry.gain(start_s + n as f64 / sample_rate_hz) as f32;
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

/// The same with the fundamental that led to them and the note, times in seconds from the first
/// sample.
pub(crate) fn partials_and_pitch(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
) -> Result<(Partials, Option<(Pitch, PitchNote)>), Error> {
    check(settings, sound.len(), sample_rate_hz)?;
    if settings.free {
        return Ok((of_note(sound, sample_rate_hz, start_s, settings, None)?, None));
    }
    let found = pitch(sound, sample_rate_hz, &settings.pitch)?;
    let note = chosen(&found, settings.note, start_s)?.clone();
    let of = Some((&found, &note));
    let partials = of_note(sound, sample_rate_hz, start_s, settings, of)?;
    Ok((partials, Some((found, note))))
}

/// Follows the partials of every note of a sound that begins its take. Notes that are too short for a
/// frame have none.
pub(crate) fn partials_of_notes(
    sound: &[f32],
    sample_rate_hz: f64,
    settings: &PartialsSettings,
) -> Result<Vec<Partials>, Error> {
    if settings.free {
        return Ok(vec![partials(sound, sample_rate_hz, 0.0, settings)?]);
    }
    let found = pitch(sound, sample_rate_hz, &settings.pitch)?;
    let mut all = Vec::new();
    for note in &found.notes {
        match of_note(sound, sample_rate_hz, 0.0, settings, Some((&found, note))) {
            Ok(partials) => all.push(partials),
            Err(Error::TooShort { .. }) => (),
            Err(error) => return Err(error),
        }
    }
    Ok(all)
}

/// Follows the partials of a note, or of all there is without a fundamental.
fn of_note(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
    of: Option<(&Pitch, &PitchNote)>,
) -> Result<Partials, Error> {
    let Some((found, note)) = of else {
        let from = note_onset(sound, sample_rate_hz, 0, sound.len());
        let stretch = Stretch { sound, rate_hz: sample_rate_hz, from, to: sound.len() };
        return of_stretch(stretch, start_s, settings, None, None);
    };
    let stretch = stretch_of(sound, sample_rate_hz, found, note);
    let guide = guide_of(&stretch, found, note);
    let mut partials = of_stretch(stretch, start_s, settings, Some(&guide), None)?;
    let of_note = findings_of(found, note, settings.note, start_s);
    partials.findings.splice(..0, of_note);
    if let Some(resolve_hz) = settings.others_resolve_hz {
        let resolve_hz = others::resolution_hz(&stretch, resolve_hz);
        let others = OtherTone::beside(&partials, stretch, start_s, settings, resolve_hz)?;
        partials.other_tones = Some(others);
        partials.others_resolve_hz = Some(resolve_hz);
    }
    Ok(partials)
}

/// Follows the partials of a stretch along its fundamental, or all tones without one. Levels are
/// given at a time in seconds from the start of the take, or where all together are loudest.
fn of_stretch(
    stretch: Stretch,
    start_s: f64,
    settings: &PartialsSettings,
    guide: Option<&Guide>,
    level_at_s: Option<f64>,
) -> Result<Partials, Error> {
    let rate_hz = stretch.rate_hz;
    let frame_s = guide.map_or(RESOLUTION_BINS / settings.resolve_hz, Guide::frame_s);
    let length = fast_length((frame_s * rate_hz).ceil() as usize);
    if stretch.to < stretch.from + length {
        let samples = (stretch.to - stretch.from) as u64;
        return Err(Error::TooShort { samples, needed: length as u64 });
    }
    let mut reader = FrameReader::new(length, rate_hz);
    let frame_s = length as f64 / rate_hz;
    // Linking without a fundamental wants shorter steps.
    let steps_in_frame = if settings.free { 5.0 } else { 4.0 };
    let hop_s = settings.hop_s.unwrap_or((frame_s / steps_in_frame).clamp(0.002, 0.02));
    let followed = match guide {
        Some(guide) => {
            let mut places = harmonic::places(&stretch, guide, &reader, settings.most);
            let middle_hz = guide.at(stretch.duration_s() / 2.0);
            let (low, high) = settings.range_hz;
            places.retain(|place| (low..=high).contains(&(place.ratio * middle_hz)));
            harmonic::follow(&stretch, guide, &places, &mut reader, hop_s)
        }
        None => free::follow(&stretch, &mut reader, hop_s, settings),
    };
    let left = stretch.sound[stretch.from..stretch.to].to_vec();
    let assembly = Assembly {
        stretch,
        start_s,
        hop_s,
        reader,
        settings,
        level_at_s,
        findings: Vec::new(),
        left,
        entry: None,
    };
    Ok(assembly.assemble(&followed, guide))
}

/// Where the partials of a note are, before any is followed.
pub(crate) struct NotePlaces {
    /// First sample of the note, and the one after its last.
    pub(crate) from: usize,
    /// See above.
    pub(crate) to: usize,
    /// Reads frames in which no partial reaches into the next.
    pub(crate) reader: FrameReader,
    /// Number and frequency in Hz of each, the lowest first.
    pub(crate) partials: Vec<(usize, f64)>,
    /// What must be known of the choice of the note.
    pub(crate) findings: Vec<Finding>,
}

/// Finds the note of a sound that begins so many seconds into its take, and where its partials are.
pub(crate) fn note_places(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
) -> Result<NotePlaces, Error> {
    check(settings, sound.len(), sample_rate_hz)?;
    let found = pitch(sound, sample_rate_hz, &settings.pitch)?;
    let note = chosen(&found, settings.note, start_s)?;
    let stretch = stretch_of(sound, sample_rate_hz, &found, note);
    let guide = guide_of(&stretch, &found, note);
    let length = fast_length((guide.frame_s() * sample_rate_hz).ceil() as usize);
    let samples = stretch.to - stretch.from;
    if samples < length {
        return Err(Error::TooShort { samples: samples as u64, needed: length as u64 });
    }
    let reader = FrameReader::new(length, sample_rate_hz);
    let places = harmonic::places(&stretch, &guide, &reader, settings.most);
    let f0_hz = median(guide.points.iter().map(|(_, hz)| *hz)).ok_or(Error::NoFundamental)?;
    Ok(NotePlaces {
        from: stretch.from,
        to: stretch.to,
        reader,
        partials: places.iter().map(|place| (place.number, place.ratio * f0_hz)).collect(),
        findings: findings_of(&found, note, settings.note, start_s),
    })
}

/// What must be known of the choice of a note.
fn findings_of(found: &Pitch, note: &PitchNote, choice: NoteChoice, start_s: f64) -> Vec<Finding> {
    let mut findings: Vec<Finding> =
        found.findings().into_iter().filter(|finding| finding.code == "off_series").collect();
    if found.notes.len() > 1 && choice == NoteChoice::Longest {
        let text = format!(
            "The span contains {} notes; the longest is analysed, {:.2} s to {:.2} s.",
            found.notes.len(),
            start_s + note.start_s,
            start_s + note.end_s
        );
        findings.push(Finding::warning("several_notes", text).advising(Advice::Notes));
    }
    findings
}

fn check(settings: &PartialsSettings, samples: usize, sample_rate_hz: f64) -> Result<(), Error> {
    let out_of = |setting, given: String, allowed: &str| {
        Err(Error::Setting { setting, given, allowed: allowed.into() })
    };
    let resolutions_hz = [Some(settings.resolve_hz), settings.others_resolve_hz];
    let is_wrong = |hz: &f64| !(0.5..=2000.0).contains(hz);
    if let Some(wrong) = resolutions_hz.into_iter().flatten().find(is_wrong) {
        return out_of("the resolution", format!("{wrong} Hz"), "0.5 Hz to 2 kHz");
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

/// The note that is followed of a sound that begins so many seconds into its take.
fn chosen(pitch: &Pitch, choice: NoteChoice, start_s: f64) -> Result<&PitchNote, Error> {
    let count = pitch.notes.len();
    let most = |of: &dyn Fn(&PitchNote) -> f64| {
        let notes = pitch.notes.iter();
        notes.max_by(|a, b| of(a).total_cmp(&of(b))).ok_or(Error::NoFundamental)
    };
    let number = match choice {
        NoteChoice::Longest => return most(&|note| note.end_s - note.start_s),
        NoteChoice::Between(from_s, to_s) => {
            let (from_s, to_s) = (from_s - start_s, to_s - start_s);
            return most(&|note| note.end_s.min(to_s) - note.start_s.max(from_s));
        }
        NoteChoice::Number(number) => number,
    };
    if count == 0 {
        return Err(Error::NoFundamental);
    }
    number.checked_sub(1).and_then(|n| pitch.notes.get(n)).ok_or_else(|| Error::Setting {
        setting: "the number of the note",
        given: number.to_string(),
        allowed: match count {
            1 => "1: the span holds one note".into(),
            _ => format!("1 to {count}: so many notes are in the span"),
        },
    })
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
