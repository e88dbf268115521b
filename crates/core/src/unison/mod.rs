//! Strings that sound as one: how far they are apart, what beats, and how clean the unison is.
//!
//! # What it computes
//!
//! **Bands.** A narrow band about each partial, with the turn of its middle taken out, from where
//! all partials together are loudest early on: the attack does not count.
//!
//! **Components.** Each band is fitted by one damped sinusoid A·exp((−α + jω)t), and by two or three
//! where each lowers χ² by more than chance (least squares). A line that stays while the partial
//! dies away is hum, and is removed.
//!
//! **Strings.** All bands together are fitted by two strings, and by three: in partial n string s
//! has the frequency f_n1·F_s/F_1·√((1 + B_s·n²)/(1 + B_1·n²)), nearly f_n1·(1 + ΔF/F + n²·ΔB/2);
//! amplitudes and decays are its own in each partial. Mistuning is the same share of every partial,
//! a difference of stiffness grows with n²: so both come apart. Where the spacings of single
//! partials scatter about this by more than their noise, the scatter is part of the fit and of the
//! uncertainties.
//!
//! **Grade.** 100·(1 − Σ E·s/Σ E) over partials with energy E. s = √Σ (m·r/(r + 1 Hz))² over each
//! two components, r being what they are apart and m = 2·a·b/Σa² the depth of the beat in the power,
//! averaged over the note by power. 100 is as steady as a single string of the same decay.
//!
//! Uncertainties follow from the noise of each band, which is what its components leave.

mod band;
mod beside;
mod components;
mod diagnosis;
mod fit;
mod judged;
mod steadiness;
mod strings;

use rustfft::num_complex::Complex;
use serde::Serialize;

pub use beside::{Alone, Since};
pub use diagnosis::Diagnosis;

use crate::error::Error;
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::partials::{F0, INHARMONICITY, NoteChoice, PartialsSettings, STIFF_F, note_places};
use crate::pitch::PitchSettings;
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use components::{Own, State, own};
use judged::Judged;
use strings::Known;

type C = Complex<f64>;

/// Cents of an e-fold.
const CENTS: f64 = 1200.0 / std::f64::consts::LN_2;

/// How a unison is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct UnisonSettings {
    /// How the fundamental is looked for.
    pub pitch: PitchSettings,
    /// Which of several notes is measured.
    pub note: NoteChoice,
    /// Partials at most, from the first.
    pub most: usize,
    /// Strings at most: 1 to 3.
    pub strings: usize,
}

impl Default for UnisonSettings {
    fn default() -> Self {
        Self {
            pitch: PitchSettings::default(),
            note: NoteChoice::Longest,
            most: 8,
            strings: fit::MOST,
        }
    }
}

/// A string of a unison.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct UnisonString {
    /// Distance of its F from that of the strongest, in cents.
    pub cents: f64,
    /// Its uncertainty.
    pub cents_u: f64,
    /// Level at the start of what is measured in dB: that of all its partials together.
    pub level_db: f64,
}

impl UnisonString {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 2] = [
        Field::measured("cents", "distance from the strongest", Unit::Cent, 3, |string| {
            Some(Measured::new(string.cents, string.cents_u))
        }),
        Field::plain("level_db", "level", Unit::Level, 1, |string| Some(string.level_db)),
    ];
}

/// A partial of a unison.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct UnisonPartial {
    /// Its number.
    pub number: usize,
    /// Frequency of its strongest component in Hz.
    pub frequency_hz: f64,
    /// Its uncertainty.
    pub frequency_hz_u: f64,
    /// Level of its amplitude at the start of what is measured, in dB.
    pub level_db: f64,
    /// How far the second string lies above the first, in Hz.
    pub spacing_hz: Option<f64>,
    /// Its uncertainty.
    pub spacing_hz_u: Option<f64>,
    /// The same in cents.
    pub spacing_cents: Option<f64>,
    /// Its uncertainty.
    pub spacing_cents_u: Option<f64>,
    /// How often it beats, in Hz.
    pub beat_hz: Option<f64>,
    /// Its uncertainty.
    pub beat_hz_u: Option<f64>,
    /// What shows no beat may have one slower than this, in Hz.
    pub slower_than_hz: Option<f64>,
    /// Depth of the beat in dB, from the greatest level to the least.
    pub depth_db: Option<f64>,
    /// Beats that are heard before it dies away.
    pub beats: Option<f64>,
    /// How much it fluctuates, 0 to 1, as it counts in the grade.
    #[serde(flatten, serialize_with = "flat::unsteadiness")]
    pub unsteadiness: Option<Measured>,
    /// Whether noise hides it: it is not judged.
    pub hidden: bool,
    /// Whether it wavers as no few strings do: it is not judged.
    pub wavers: bool,
}

impl UnisonPartial {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 9] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 4, |partial| {
            Some(Measured::new(partial.frequency_hz, partial.frequency_hz_u))
        }),
        Field::plain("level_db", "level", Unit::Level, 1, |partial| Some(partial.level_db)),
        Field::measured("spacing_hz", "spacing", Unit::Hertz, 4, |partial| {
            pair(partial.spacing_hz, partial.spacing_hz_u)
        }),
        Field::measured("spacing_cents", "spacing", Unit::Cent, 3, |partial| {
            pair(partial.spacing_cents, partial.spacing_cents_u)
        }),
        Field::measured("beat_hz", "beat", Unit::Hertz, 4, |partial| {
            pair(partial.beat_hz, partial.beat_hz_u)
        }),
        Field::plain("slower_than_hz", "beat slower than", Unit::Hertz, 3, |partial| {
            partial.slower_than_hz
        }),
        Field::plain("depth_db", "depth of the beat", Unit::Decibel, 1, |partial| partial.depth_db),
        Field::plain("beats", "beats heard", Unit::One, 1, |partial| partial.beats),
        Field::measured("unsteadiness", "unsteadiness", Unit::One, 3, |partial| {
            partial.unsteadiness
        }),
    ];
}

impl UnisonPartial {
    /// Of one that shows no beat, how near two strings of equal level must be, in cents.
    #[must_use]
    pub fn nearer_than_cents(&self) -> Option<f64> {
        Some(CENTS * self.slower_than_hz? / self.frequency_hz)
    }
}

/// The level of a partial over time with its decay removed.
#[derive(Debug, Clone, PartialEq)]
pub struct SteadyCourse {
    /// Of which partial.
    pub number: usize,
    /// Times in seconds from the start of the take.
    pub time_s: Vec<f64>,
    /// Levels in dB re those that its components have without beating.
    pub level_db: Vec<f64>,
    /// The same as the components make it.
    pub fitted_db: Vec<f64>,
    /// When it dips, in seconds from the start of the take.
    pub dips_s: Vec<f64>,
}

/// Strings sounding together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Unison {
    /// When the note begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// Frequency of the first partial as the stiff-string fit gives it.
    #[serde(flatten, serialize_with = "flat::f0_hz")]
    pub f0_hz: Option<Measured>,
    /// F of the strongest string, the fundamental that it had without stiffness.
    #[serde(flatten, serialize_with = "flat::stiff_f_hz")]
    pub stiff_f_hz: Option<Measured>,
    /// B, of the strongest string.
    #[serde(flatten, serialize_with = "flat::inharmonicity")]
    pub inharmonicity: Option<Measured>,
    /// The strings that are heard apart, the strongest first.
    pub strings: Vec<UnisonString>,
    /// 1200·log2(F2/F1) of the weaker string from the stronger, in cents; of three the greatest
    /// distance of any two; `None` of one.
    #[serde(flatten, serialize_with = "flat::mistuning_cents")]
    pub mistuning_cents: Option<Measured>,
    /// B2 − B1.
    #[serde(flatten, serialize_with = "flat::inharmonicity_difference")]
    pub inharmonicity_difference: Option<Measured>,
    /// Two strings of equal level are nearer than this, in cents, where one is heard.
    pub nearer_than_cents: Option<f64>,
    /// How steady the level is, 0 to 100.
    #[serde(flatten, serialize_with = "flat::grade")]
    pub grade: Option<Measured>,
    /// The partials.
    pub partials: Vec<UnisonPartial>,
    /// What it means.
    pub diagnosis: Vec<Diagnosis>,
    /// Level of a full-scale sine in dB: 0, or re 20 µPa after [`Unison::calibrate`].
    #[serde(skip)]
    pub full_scale_db: f64,
    /// The level of each partial over time.
    #[serde(skip)]
    pub courses: Vec<SteadyCourse>,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

const MISTUNING: Label = Label::new("mistuning_cents", "mistuning", Unit::Cent, 3).with_u();
const STIFFER: Label =
    Label::new("inharmonicity_difference", "difference in inharmonicity", Unit::One, 8).with_u();
const NEARER: Label = Label::new("nearer_than_cents", "strings nearer than", Unit::Cent, 2);
const GRADE: Label = Label::new("grade", "grade", Unit::One, 1).with_u();

impl Quantities for Unison {
    fn quantities(&self) -> Vec<Quantity> {
        const START: Label = Label::new("start_s", "start of the note", Unit::Second, 3);
        const END: Label = Label::new("end_s", "end of the note", Unit::Second, 3);
        let mut all = vec![
            Quantity::top(&START, bare(self.start_s)),
            Quantity::top(&END, bare(self.end_s)),
            Quantity::top(&F0, self.f0_hz),
            Quantity::top(&STIFF_F, self.stiff_f_hz),
            Quantity::top(&INHARMONICITY, self.inharmonicity),
            Quantity::top(&GRADE, self.grade),
            Quantity::top(&MISTUNING, self.mistuning_cents),
            Quantity::top(&STIFFER, self.inharmonicity_difference),
            Quantity::top(&NEARER, pair(self.nearer_than_cents, None)),
        ];
        for (n, string) in self.strings.iter().enumerate() {
            let (key, name) = (Key::item("strings", n + 1), format!("string {}", n + 1));
            all.extend(Quantity::of_item(&key, &name, &UnisonString::FIELDS, string));
        }
        for partial in &self.partials {
            let (key, name) =
                (Key::item("partials", partial.number), format!("partial {}", partial.number));
            all.extend(Quantity::of_item(&key, &name, &UnisonPartial::FIELDS, partial));
        }
        all
    }
}

impl Unison {
    /// How far two strings are apart by mistuning and stiffness where the square of the number of
    /// the partial has a value, in cents; `None` of one string and of three.
    #[must_use]
    pub fn apart_cents(&self, square: f64) -> Option<f64> {
        let mistuning = self.mistuning_cents.filter(|_| self.strings.len() == 2)?;
        let stiffer = self.inharmonicity_difference.map_or(0.0, |b| b.value);
        let b = self.inharmonicity.map_or(0.0, |b| b.value);
        let ratio = (1.0 + (b + stiffer) * square) / (1.0 + b * square);
        Some(mistuning.value + 0.5 * CENTS * ratio.ln())
    }

    /// Refers all levels to sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        let by = full_scale_db - self.full_scale_db;
        self.partials.iter_mut().for_each(|partial| partial.level_db += by);
        self.strings.iter_mut().for_each(|string| string.level_db += by);
        self.full_scale_db = full_scale_db;
    }
}

/// Measures the unison of a sound whose first sample lies `start_s` seconds into its take.
///
/// # Errors
///
/// [`Error::TooShort`] for a sound that holds too little of a note, [`Error::NoFundamental`] where
/// nothing has a fundamental, [`Error::Setting`] for settings that make no sense.
pub fn unison(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &UnisonSettings,
) -> Result<Unison, Error> {
    if !(1..=fit::MOST).contains(&settings.strings) {
        return Err(Error::Setting {
            setting: "the number of strings",
            given: settings.strings.to_string(),
            allowed: "1, 2 or 3".into(),
        });
    }
    let of_partials = PartialsSettings {
        pitch: settings.pitch,
        note: settings.note,
        most: settings.most,
        ..PartialsSettings::default()
    };
    let mut note = note_places(sound, sample_rate_hz, start_s, &of_partials)?;
    let owns: Vec<Own> =
        band::bands(sound, sample_rate_hz, &mut note).into_iter().filter_map(own).collect();
    if owns.is_empty() {
        let samples = (note.to - note.from) as u64;
        return Err(Error::TooShort { samples, needed: (0.2 * sample_rate_hz) as u64 });
    }
    let second = |sample: usize| start_s + sample as f64 / sample_rate_hz;
    let mut heard: Vec<&Own> = owns.iter().filter(|own| own.is_heard()).collect();
    // One partial that happens to be even among many that waver is no string.
    let wavering = owns.iter().filter(|own| own.state == State::Wavers).count();
    if heard.len() < wavering {
        heard.clear();
    }
    let is_judged = !heard.is_empty();
    let alone = Judged { heard: &heard, solution: None, perhaps: None };
    let b = alone.law().map_or(0.0, |law| law.inharmonicity.value.clamp(0.0, 0.02));
    let together = diagnosis::common_rate_hz(&heard);
    let scatter_cents = alone.law().map_or(0.0, |law| law.scatter_cents);
    let is_one_note = scatter_cents < diagnosis::NO_STRING_CENTS;
    let known = match together {
        None if settings.strings > 1 && is_one_note => {
            strings::strings(&heard, b, settings.strings)
        }
        _ => Known::Nothing,
    };
    let (solution, perhaps) = match &known {
        Known::Strings(solution) => (Some(solution), None),
        Known::Perhaps(solution, weight) => (None, Some((solution, *weight))),
        Known::Nothing => (None, None),
    };
    let of_bands = Judged { heard: &heard, solution, perhaps };
    let law = of_bands.law();
    let mut result = Unison {
        start_s: second(note.from),
        end_s: second(note.to),
        f0_hz: law.map(|law| law.f0_hz),
        stiff_f_hz: law.map(|law| law.stiff_f_hz),
        inharmonicity: law.map(|law| law.inharmonicity).filter(|b| b.u.is_finite()),
        strings: of_bands.strings(),
        mistuning_cents: of_bands.mistuning_cents(),
        inharmonicity_difference: of_bands.stiffer(),
        nearer_than_cents: of_bands.nearer_than_cents(),
        grade: of_bands.grade().filter(|_| is_one_note),
        partials: Vec::new(),
        diagnosis: Vec::new(),
        full_scale_db: 0.0,
        courses: Vec::new(),
        findings: note.findings,
    };
    let onset_s = second(note.from);
    let mut place = 0;
    for own in &owns {
        let judged = (is_judged && own.is_heard()).then_some(place);
        result.partials.push(of_bands.partial(own, judged));
        if let Some(judged) = judged {
            result.courses.push(of_bands.course(own, judged, onset_s));
            place += 1;
        }
    }
    result.diagnosis = if is_one_note {
        diagnosis::diagnosis(&result, &owns, together)
    } else {
        vec![diagnosis::no_string(scatter_cents)]
    };
    Ok(result)
}
