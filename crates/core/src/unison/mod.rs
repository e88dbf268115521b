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
mod steadiness;
mod strings;

use rustfft::num_complex::Complex;
use serde::Serialize;

pub use beside::{Alone, Since};
pub use diagnosis::Diagnosis;

use crate::error::Error;
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::partials::{
    F0, INHARMONICITY, NoteChoice, PartialsSettings, STIFF_F, StringLaw, note_places, string_law,
};
use crate::pitch::PitchSettings;
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use components::{Own, State, own};
use fit::{Fitted, OWN, SHARED, Solution};
use steadiness::{Fluctuation, grade, least_spacing_hz, slopes, visible};
use strings::{APART_U, Known, LEAST_DEPTH};

type C = Complex<f64>;

/// Of a grade nothing is known that has this uncertainty: any from 0 to 100 is as likely.
const MOST_U: f64 = 100.0 / 3.464;

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

fn strongest(poles: &[fit::Pole]) -> usize {
    let size = |n: &usize| poles[*n].amplitude.norm();
    (0..poles.len()).max_by(|a, b| size(a).total_cmp(&size(b))).unwrap_or(0)
}

/// The partials that are heard, with the strings that account for them, and those that may be
/// there.
#[derive(Clone, Copy)]
struct Judged<'a> {
    heard: &'a [&'a Own],
    solution: Option<&'a Solution>,
    /// With the weight that they have.
    perhaps: Option<(&'a Solution, f64)>,
}

impl Judged<'_> {
    /// The stiff string through the partials: those of the strongest string, or the strongest
    /// component of each.
    fn law(&self) -> Option<StringLaw> {
        let frequency = |n: usize| {
            let (solution, place) = self.fit_of(n);
            let poles = &solution.bands[place].poles;
            let main = if self.solution.is_some() { 0 } else { strongest(poles) };
            (self.heard[n].band.number, self.frequency_hz(n, main))
        };
        string_law(&(0..self.heard.len()).map(frequency).collect::<Vec<_>>())
    }

    /// Frequency of a component of a partial.
    fn frequency_hz(&self, n: usize, component: usize) -> Measured {
        let (solution, place) = self.fit_of(n);
        let mut slope = [0.0; OWN];
        slope[4 * component + 3] = 1.0 / std::f64::consts::TAU;
        let hz = self.heard[n].band.centre_hz + solution.bands[place].poles[component].offset_hz();
        Measured::new(hz, solution.variance_of(place, slope).sqrt() * self.beyond_noise())
    }

    /// The fit that holds of a partial, and its place in it.
    fn fit_of(&self, n: usize) -> (&Solution, usize) {
        match self.solution {
            Some(solution) => (solution, n),
            None => (self.heard[n].best(), 0),
        }
    }

    fn fitted(&self, n: usize) -> &Fitted {
        let (solution, place) = self.fit_of(n);
        &solution.bands[place]
    }

    /// How much greater uncertainties are than the noise makes them: what strings leave.
    fn beyond_noise(&self) -> f64 {
        let Some(solution) = self.strung() else { return 1.0 };
        let mut free = 0.0;
        for (own, fitted) in self.heard.iter().zip(&solution.bands) {
            free += 2.0 * own.band.values.len() as f64 / own.band.correlated;
            free -= 4.0 * fitted.poles.len() as f64;
        }
        (solution.left / free.max(1.0)).max(1.0).sqrt()
    }

    /// Whether the components of a partial by itself are apart, beyond chance.
    fn beats_alone(&self, n: usize) -> bool {
        const LEAST_TURNS: f64 = 0.35;
        let own = self.heard[n];
        let fitted = &own.best().bands[0];
        if fitted.poles.len() < 2 {
            return false;
        }
        let (a, b) = two_strongest(&fitted.poles);
        let (hz, u) = strings::spacing_hz(own.best(), 0, a, b);
        let lived_s = strings::lived_s(own, fitted);
        let is_heard = Fluctuation::of(&fitted.poles, lived_s, 1.0).depth > LEAST_DEPTH;
        is_heard && hz.abs() > APART_U * u && hz.abs() * lived_s > LEAST_TURNS
    }

    fn strings(&self) -> Vec<UnisonString> {
        let count = self.solution.map_or(1, |solution| solution.bands[0].poles.len());
        let level = |n: usize| {
            let power: f64 = (0..self.heard.len())
                .map(|band| {
                    let gain = self.heard[band].band.gain;
                    let poles = &self.fitted(band).poles;
                    match self.solution {
                        Some(_) => (poles[n].amplitude.norm() / gain).powi(2),
                        None => poles.iter().map(|p| (p.amplitude.norm() / gain).powi(2)).sum(),
                    }
                })
                .sum();
            10.0 * power.log10()
        };
        let cents = |n: usize| {
            let Some(other) = n.checked_sub(1) else { return Measured::new(0.0, 0.0) };
            self.apart_cents(None, Some(other)).unwrap_or(Measured::new(0.0, f64::NAN))
        };
        let of = |n: usize| {
            let cents = cents(n);
            UnisonString { cents: cents.value, cents_u: cents.u, level_db: level(n) }
        };
        (0..count).filter(|_| !self.heard.is_empty()).map(of).collect()
    }

    /// Distance of one string from another, `None` being the first, in cents.
    fn apart_cents(&self, from: Option<usize>, to: Option<usize>) -> Option<Measured> {
        let solution = self.solution?;
        let strings = solution.strings.as_ref()?;
        let mut weights = [0.0; SHARED];
        let mut delta = 0.0;
        for (other, sign) in [(from, -1.0), (to, 1.0)] {
            if let Some(other) = other {
                weights[2 * other] += sign;
                delta += sign * strings.others[other].0;
            }
        }
        let u = strings::shared_u(solution, weights) * self.beyond_noise();
        Some(Measured::new(CENTS * delta, CENTS * u))
    }

    fn mistuning_cents(&self) -> Option<Measured> {
        let solution = self.solution?;
        if solution.bands[0].poles.len() < 3 {
            return self.apart_cents(None, Some(0));
        }
        let pairs = [(None, Some(0)), (None, Some(1)), (Some(0), Some(1))];
        let all = pairs.into_iter().filter_map(|(from, to)| self.apart_cents(from, to));
        let widest = all.max_by(|a, b| a.value.abs().total_cmp(&b.value.abs()))?;
        Some(Measured::new(widest.value.abs(), widest.u))
    }

    fn stiffer(&self) -> Option<Measured> {
        let solution = self.solution?;
        let strings = solution.strings.as_ref().filter(|strings| strings.fits_stiffness)?;
        if solution.bands[0].poles.len() > 2 {
            return None;
        }
        let mut weights = [0.0; SHARED];
        weights[1] = 1.0;
        let u = strings::shared_u(solution, weights) * self.beyond_noise();
        Some(Measured::new(strings.others[0].1, u))
    }

    /// What shows no beat may have one slower than this, in Hz.
    fn least_spacing_hz(&self, n: usize) -> f64 {
        let two_decays = self.two_decays(n).filter(|(depth, _)| *depth > LEAST_DEPTH);
        two_decays.map_or(0.0, |(_, hz)| hz).max(self.least_of_equals_hz(n))
    }

    /// The same of two components of equal level and decay.
    fn least_of_equals_hz(&self, n: usize) -> f64 {
        let own = self.heard[n];
        let poles = &own.best().bands[0].poles;
        least_spacing_hz(&own.band, &poles[strongest(poles)], own.noise)
    }

    /// Where a partial has two decays, the depth to which they would beat, and how far they may be
    /// apart in Hz.
    fn two_decays(&self, n: usize) -> Option<(f64, f64)> {
        let own = self.heard[n];
        let fitted = &own.best().bands[0];
        let (a, b) = (fitted.poles.len() > 1).then(|| two_strongest(&fitted.poles))?;
        let (hz, u) = strings::spacing_hz(own.best(), 0, a, b);
        let depth = Fluctuation::of(&fitted.poles, strings::lived_s(own, fitted), 1.0).depth;
        Some((depth, hz.abs() + 2.0 * u))
    }

    fn nearer_than_cents(&self) -> Option<f64> {
        if self.solution.is_some() {
            return None;
        }
        let of = |n: usize| CENTS * self.least_spacing_hz(n) / self.heard[n].band.centre_hz;
        (0..self.heard.len()).map(of).min_by(f64::total_cmp)
    }

    /// The components by whose fluctuation a partial is graded, of the fit and its place in it;
    /// `None` where none is seen.
    fn graded(&self, n: usize) -> Option<(&Solution, usize)> {
        let of_all = self.strung().map(|solution| (solution, n));
        of_all.or_else(|| self.beats_alone(n).then(|| (self.heard[n].best(), 0)))
    }

    fn fluctuation(&self, n: usize) -> Fluctuation {
        let own = self.heard[n];
        let of = |fitted: &Fitted| {
            Fluctuation::of(&fitted.poles, strings::lived_s(own, fitted), own.band.gain)
        };
        match self.graded(n) {
            Some((solution, place)) => of(&solution.bands[place]),
            None => Fluctuation { depth: 0.0, unsteadiness: 0.0, ..of(self.fitted(n)) },
        }
    }

    fn grade(&self) -> Option<Measured> {
        (!self.heard.is_empty()).then(|| self.weighed(Self::graded_as_one))
    }

    /// The mean of what a value is by the strings that may be there and what it is without them.
    fn weighed(&self, value: impl Fn(&Self) -> Measured) -> Measured {
        let with = value(self);
        match self.perhaps {
            Some((_, weight)) if weight < 1.0 => {
                let without = value(&Self { perhaps: None, ..*self });
                let apart = with.value - without.value;
                let variance = weight * with.u.powi(2)
                    + (1.0 - weight) * (without.u.powi(2) + weight * apart.powi(2));
                Measured::new(without.value + weight * apart, variance.sqrt())
            }
            _ => with,
        }
    }

    /// The grade by one account of the partials.
    fn graded_as_one(&self) -> Measured {
        let all: Vec<Fluctuation> = (0..self.heard.len()).map(|n| self.fluctuation(n)).collect();
        let energy: f64 = all.iter().map(|one| one.energy).sum();
        let value = grade(&all);
        let (mut slopes_of, mut variance, mut unseen) = (Vec::new(), 0.0, 0.0);
        for (n, one) in all.iter().enumerate() {
            let slope = || {
                // A change of energy weighs by how far the partial is off the mean.
                let off = one.unsteadiness - (1.0 - value / 100.0);
                self.slopes(n, |of| one.energy * of.unsteadiness + off * of.energy)
                    .map(|slope| 100.0 / energy * slope)
            };
            match self.graded(n) {
                Some((_, place)) if place == n && self.strung().is_some() => {
                    slopes_of.push(slope());
                }
                Some((solution, place)) => variance += solution.variance_of(place, slope()),
                // What is not seen is not seen in any partial.
                None => unseen += 100.0 * one.energy / energy * self.unseen(n),
            }
        }
        if let Some(solution) = self.strung() {
            variance = solution.variance(&slopes_of, [0.0; SHARED]) * self.beyond_noise().powi(2);
        }
        // No more is unknown than there is.
        Measured::new(value, variance.sqrt().hypot(unseen).min(MOST_U))
    }

    /// The fit of all partials together by which they are graded.
    fn strung(&self) -> Option<&Solution> {
        self.solution.or(self.perhaps.map(|(solution, _)| solution))
    }

    fn slopes(&self, n: usize, of: impl Fn(&Fluctuation) -> f64) -> [f64; OWN] {
        let Some((solution, place)) = self.graded(n) else { return [0.0; OWN] };
        let (own, fitted) = (self.heard[n], &solution.bands[place]);
        slopes(&fitted.poles, strings::lived_s(own, fitted), own.band.gain, of)
    }

    fn unsteadiness(&self, n: usize) -> Measured {
        self.weighed(|judged| {
            let value = judged.fluctuation(n).unsteadiness;
            let Some((solution, place)) = judged.graded(n) else {
                return Measured::new(value, judged.unseen(n));
            };
            let slope = judged.slopes(n, |of| of.unsteadiness);
            let u = solution.variance_of(place, slope).sqrt() * judged.beyond_noise();
            Measured::new(value, u)
        })
    }

    /// The uncertainty of the unsteadiness of a partial that shows none: as likely as not anything
    /// from none to what would just have been seen.
    fn unseen(&self, n: usize) -> f64 {
        let decays = self.two_decays(n).map_or(0.0, |(depth, hz)| depth * visible(hz));
        decays.hypot(visible(self.least_of_equals_hz(n))) / 3f64.sqrt()
    }

    /// What is said of a partial: of one that is judged with its place among those.
    fn partial(&self, own: &Own, judged: Option<usize>) -> UnisonPartial {
        let band = &own.band;
        let (solution, place) = match judged {
            Some(n) => self.fit_of(n),
            None => (&own.fits[0], 0),
        };
        let poles = &solution.bands[place].poles;
        let main = strongest(poles);
        let mut slope = [0.0; OWN];
        slope[4 * main + 3] = 1.0 / std::f64::consts::TAU;
        let power: f64 = poles.iter().map(|pole| pole.amplitude.norm_sqr()).sum();
        let frequency_hz = band.centre_hz + poles[main].offset_hz();
        let mut partial = UnisonPartial {
            number: band.number,
            frequency_hz,
            frequency_hz_u: solution.variance_of(place, slope).sqrt() * self.beyond_noise(),
            level_db: 10.0 * power.log10() - 20.0 * band.gain.log10(),
            spacing_hz: None,
            spacing_hz_u: None,
            spacing_cents: None,
            spacing_cents_u: None,
            beat_hz: None,
            beat_hz_u: None,
            slower_than_hz: None,
            depth_db: None,
            beats: None,
            unsteadiness: judged.map(|n| self.unsteadiness(n)),
            hidden: own.state == State::Hidden,
            wavers: own.state == State::Wavers,
        };
        let Some(n) = judged else { return partial };
        if self.solution.is_none() && !self.beats_alone(n) {
            partial.slower_than_hz = Some(self.least_spacing_hz(n));
            return partial;
        }
        // Of strings the second from the first, of a partial by itself the weaker from the stronger.
        let (a, b) = if self.solution.is_some() { (0, 1) } else { two_strongest(poles) };
        let (hz, u) = strings::spacing_hz(solution, place, a, b);
        let u = u * self.beyond_noise();
        if self.solution.is_some() {
            let first_hz = band.centre_hz + poles[a].offset_hz();
            (partial.spacing_hz, partial.spacing_hz_u) = (Some(hz), Some(u));
            partial.spacing_cents = Some(CENTS * (hz / first_hz).ln_1p());
            partial.spacing_cents_u = Some(CENTS * u / (first_hz + hz));
        }
        (partial.beat_hz, partial.beat_hz_u) = (Some(hz.abs()), Some(u));
        partial.depth_db = Some(self.fluctuation(n).depth_db());
        partial.beats = Some(hz.abs() * strings::lived_s(own, &solution.bands[place]));
        partial
    }

    /// The level of a partial that is judged over time, with its decay removed.
    fn course(&self, own: &Own, judged: usize, onset_s: f64) -> SteadyCourse {
        /// Points that are kept at most.
        const MOST: usize = 400;
        const DIP_DB: f64 = -1.5;
        /// Power over the noise where the course ends.
        const OVER_NOISE: f64 = 10.0;
        let fitted = self.fitted(judged);
        let steady_at = |seconds: f64| -> f64 {
            fitted.poles.iter().map(|pole| pole.at(seconds).norm_sqr()).sum()
        };
        let least = OVER_NOISE * own.noise / own.band.correlated;
        let heard = |n: &usize| steady_at(*n as f64 * own.band.step_s) > least;
        let count = (0..own.band.values.len()).take_while(heard).count().max(1);
        let block = count.div_ceil(MOST);
        let mut course = SteadyCourse {
            number: own.band.number,
            time_s: Vec::new(),
            level_db: Vec::new(),
            fitted_db: Vec::new(),
            dips_s: Vec::new(),
        };
        for (n, of_block) in own.band.values[..count].chunks(block).enumerate() {
            let middle = n as f64 * block as f64 + (of_block.len() as f64 - 1.0) / 2.0;
            let seconds = middle * own.band.step_s;
            let power = of_block.iter().map(C::norm_sqr).sum::<f64>() / of_block.len() as f64;
            let steady = steady_at(seconds);
            let made: C = fitted.poles.iter().map(|pole| pole.at(seconds)).sum();
            course.time_s.push(onset_s + own.band.start_s + seconds);
            course.level_db.push(10.0 * (power / steady).log10());
            course.fitted_db.push(10.0 * (made.norm_sqr() / steady).log10());
        }
        let made = &course.fitted_db;
        let is_dip =
            |n: &usize| made[*n] < DIP_DB && made[*n] <= made[n - 1] && made[*n] < made[n + 1];
        if self.solution.is_some() || self.beats_alone(judged) {
            let dips = (1..made.len().saturating_sub(1)).filter(is_dip);
            course.dips_s = dips.map(|n| course.time_s[n]).collect();
        }
        course
    }
}

/// The strongest component, and the next.
fn two_strongest(poles: &[fit::Pole]) -> (usize, usize) {
    let mut order: Vec<usize> = (0..poles.len()).collect();
    order.sort_by(|a, b| poles[*b].amplitude.norm().total_cmp(&poles[*a].amplitude.norm()));
    (order[0], order[1.min(order.len() - 1)])
}
