//! What is found of a modulation, and its numbers.

use serde::Serialize;

use super::{ModulationSettings, Sound};
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::spectrogram::Spectrogram;

/// What kind of modulation is strongest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// The amplitude.
    Am,
    /// The frequency.
    Fm,
    /// Two tones beat.
    Beat,
    /// None that is more than noise.
    None,
}

impl Kind {
    /// Its name in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Am => "amplitude modulation",
            Self::Fm => "frequency modulation",
            Self::Beat => "beat of two tones",
            Self::None => "no modulation above its limit of detection",
        }
    }
}

/// A modulation that goes on all the time.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Rate {
    /// How fast.
    pub rate_hz: f64,
    /// Its uncertainty.
    pub rate_hz_u: f64,
    /// How deep, from 0 to 1.
    pub depth: f64,
    /// Its uncertainty.
    pub depth_u: f64,
}

impl Rate {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 2] = [
        Field::measured("rate_hz", "rate", Unit::Hertz, 4, |rate| {
            Some(Measured::new(rate.rate_hz, rate.rate_hz_u))
        }),
        Field::measured("depth", "depth", Unit::One, 4, |rate| {
            Some(Measured::new(rate.depth, rate.depth_u))
        }),
    ];
}

/// Two tones that beat.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Beat {
    /// Their frequencies.
    pub tones_hz: (f64, f64),
    /// How fast they beat.
    pub rate_hz: f64,
    /// Its uncertainty.
    pub rate_hz_u: f64,
    /// How deep: the amplitude of the weaker over that of the stronger.
    pub depth: f64,
    /// Its uncertainty.
    pub depth_u: f64,
}

impl Beat {
    /// Its numbers, its tones apart.
    pub const FIELDS: [Field<Self>; 2] = [
        Field::measured("rate_hz", "rate", Unit::Hertz, 4, |beat| {
            Some(Measured::new(beat.rate_hz, beat.rate_hz_u))
        }),
        Field::measured("depth", "depth", Unit::One, 4, |beat| {
            Some(Measured::new(beat.depth, beat.depth_u))
        }),
    ];
}

/// A line of the spectrum of the envelope.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct RateDepth {
    /// Rate in Hz.
    pub rate_hz: f64,
    /// Depth of a sine there: root of the mean square over all stretches.
    pub depth: f64,
}

/// What is modulated at a time.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Moment {
    /// Middle of the stretch in seconds.
    pub time_s: f64,
    /// How fast the envelope moves.
    pub rate_hz: Option<f64>,
    /// Its uncertainty.
    pub rate_hz_u: Option<f64>,
    /// How deep.
    pub depth: Option<f64>,
    /// Its uncertainty.
    pub depth_u: Option<f64>,
    /// How far the frequency moves to either side.
    pub frequency_deviation_hz: Option<f64>,
    /// How fast that moves.
    pub frequency_rate_hz: Option<f64>,
    /// Fluctuation strength.
    pub fluctuation_strength_vacil: Option<f64>,
    /// Roughness.
    pub roughness_asper: Option<f64>,
}

impl Moment {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 7] = [
        Field::plain("time_s", "time", Unit::Second, 3, |at| Some(at.time_s)),
        Field::measured("rate_hz", "rate", Unit::Hertz, 4, |at| pair(at.rate_hz, at.rate_hz_u)),
        Field::measured("depth", "depth", Unit::One, 4, |at| pair(at.depth, at.depth_u)),
        Field::plain("frequency_deviation_hz", "frequency deviation", Unit::Hertz, 3, |at| {
            at.frequency_deviation_hz
        }),
        Field::plain("frequency_rate_hz", "rate of the frequency", Unit::Hertz, 4, |at| {
            at.frequency_rate_hz
        }),
        Field::plain("fluctuation_strength_vacil", "fluctuation strength", Unit::Vacil, 3, |at| {
            at.fluctuation_strength_vacil
        }),
        Field::plain("roughness_asper", "roughness", Unit::Asper, 3, |at| at.roughness_asper),
    ];
}

/// The spectrum of the envelope over time.
#[derive(Debug, Clone, PartialEq)]
pub struct RateMap {
    /// Middle of the first stretch in seconds, and distance between stretches.
    pub start_s: f64,
    /// Distance between stretches in seconds.
    pub hop_s: f64,
    /// Distance between rates in Hz, from 0 on.
    pub spacing_hz: f64,
    /// Square of the depth of each rate in each stretch.
    pub rows: Vec<Vec<f32>>,
}

/// Sound and envelope as they are drawn: extremes of even stretches.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Outline {
    /// Length of a stretch in seconds.
    pub step_s: f64,
    /// Least and greatest sample of each.
    pub sound: Vec<(f32, f32)>,
    /// Greatest envelope of each.
    pub envelope: Vec<f32>,
}

/// A measured modulation.
#[derive(Debug, Clone, Serialize)]
pub struct Modulation {
    /// Band of which the envelope is.
    pub band_hz: (f64, f64),
    /// Level of the band, as RMS.
    pub level_db: f64,
    /// Two rates so far apart are resolved.
    pub resolution_hz: f64,
    /// Slowest and fastest modulation that can be found.
    #[serde(skip)]
    pub rates_hz: (f64, f64),
    /// What is modulated most.
    pub kind: Kind,
    /// How fast the envelope moves.
    #[serde(flatten, serialize_with = "flat::rate_hz")]
    pub rate_hz: Option<Measured>,
    /// How deep, from 0 to 1.
    #[serde(flatten, serialize_with = "flat::depth")]
    pub depth: Option<Measured>,
    /// The same in dB between the most and the least; `None` where the least is nothing.
    pub depth_db: Option<f64>,
    /// A depth below this would not be found.
    pub depth_limit: Option<f64>,
    /// Lowest rate of all stretches, where it moves.
    pub slowest_hz: Option<f64>,
    /// Highest rate of all stretches, where it moves.
    pub fastest_hz: Option<f64>,
    /// Frequency of what is modulated, if it is a tone.
    pub carrier_hz: Option<f64>,
    /// How far the frequency moves to either side.
    #[serde(flatten, serialize_with = "flat::frequency_deviation_hz")]
    pub frequency_deviation_hz: Option<Measured>,
    /// How fast that moves.
    #[serde(flatten, serialize_with = "flat::frequency_rate_hz")]
    pub frequency_rate_hz: Option<Measured>,
    /// Fluctuation strength; `None` without a calibration.
    pub fluctuation_strength_vacil: Option<f64>,
    /// Roughness; `None` without a calibration.
    pub roughness_asper: Option<f64>,
    /// All modulations of the envelope that go on all the time, the deepest first.
    pub rates: Vec<Rate>,
    /// Tones that beat.
    pub beats: Vec<Beat>,
    /// The spectrum of the envelope.
    pub spectrum: Vec<RateDepth>,
    /// What is modulated over time.
    pub course: Vec<Moment>,
    /// The spectrum of the envelope over time.
    #[serde(skip)]
    pub map: RateMap,
    /// Sound and envelope as they are drawn.
    #[serde(skip)]
    pub outline: Outline,
    /// The spectrum of the sound as frequency and level: the loudest of each 48th of an octave.
    #[serde(skip)]
    pub sound: Vec<(f64, f64)>,
    /// Level over time and frequency, if it was wanted.
    #[serde(skip)]
    pub spectrogram: Option<Spectrogram>,
    /// Level of a full-scale sine.
    #[serde(skip)]
    pub full_scale_db: f64,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

const RATE: Label = Label::new("rate_hz", "modulation rate", Unit::Hertz, 4).with_u();
const DEPTH: Label = Label::new("depth", "modulation depth", Unit::One, 4).with_u();
const DEPTH_DB: Label = Label::new("depth_db", "modulation depth in dB", Unit::Decibel, 2);
const LEVEL: Label = Label::new("level_db", "level of the band", Unit::Level, 2);
const RESOLUTION: Label = Label::new("resolution_hz", "resolution of rates", Unit::Hertz, 3);
const LIMIT: Label = Label::new("depth_limit", "depth that would be found", Unit::One, 4);
const SLOWEST: Label = Label::new("slowest_hz", "slowest rate", Unit::Hertz, 3);
const FASTEST: Label = Label::new("fastest_hz", "fastest rate", Unit::Hertz, 3);
const BAND: Label = Label::new("band_hz", "end of the band", Unit::Hertz, 1);
const TONE: Label = Label::new("tones_hz", "tone that beats", Unit::Hertz, 3);
const CARRIER: Label = Label::new("carrier_hz", "carrier", Unit::Hertz, 3);
const DEVIATION: Label =
    Label::new("frequency_deviation_hz", "frequency deviation", Unit::Hertz, 4).with_u();
const FREQUENCY_RATE: Label =
    Label::new("frequency_rate_hz", "rate of the frequency", Unit::Hertz, 4).with_u();
const FLUCTUATION: Label =
    Label::new("fluctuation_strength_vacil", "fluctuation strength", Unit::Vacil, 3);
const ROUGHNESS: Label = Label::new("roughness_asper", "roughness", Unit::Asper, 3);

impl Quantities for Modulation {
    fn quantities(&self) -> Vec<Quantity> {
        let mut all = vec![
            Quantity::top(&RATE, self.rate_hz),
            Quantity::top(&DEPTH, self.depth),
            Quantity::top(&DEPTH_DB, pair(self.depth_db, None)),
            Quantity::top(&LEVEL, bare(self.level_db)),
            Quantity::top(&CARRIER, pair(self.carrier_hz, None)),
            Quantity::top(&DEVIATION, self.frequency_deviation_hz),
            Quantity::top(&FREQUENCY_RATE, self.frequency_rate_hz),
            Quantity::top(&FLUCTUATION, pair(self.fluctuation_strength_vacil, None)),
            Quantity::top(&ROUGHNESS, pair(self.roughness_asper, None)),
        ];
        all.extend([
            Quantity::top(&SLOWEST, pair(self.slowest_hz, None)),
            Quantity::top(&FASTEST, pair(self.fastest_hz, None)),
            Quantity::top(&RESOLUTION, bare(self.resolution_hz)),
            Quantity::top(&LIMIT, pair(self.depth_limit, None)),
        ]);
        for (n, hz) in [(1, self.band_hz.0), (2, self.band_hz.1)] {
            all.push(Quantity::new(Key::item("band_hz", n), &BAND, bare(hz)));
        }
        for (n, beat) in (1..).zip(&self.beats) {
            let key = Key::item("beats", n);
            for (side, hz) in [(1, beat.tones_hz.0), (2, beat.tones_hz.1)] {
                let key = key.clone().then_item("tones_hz", side);
                all.push(Quantity::new(key, &TONE, bare(hz)));
            }
            all.extend(Quantity::of_item(&key, &format!("beat {n}"), &Beat::FIELDS, beat));
        }
        for (n, rate) in (1..).zip(&self.rates) {
            let key = Key::item("rates", n);
            all.extend(Quantity::of_item(&key, &format!("modulation {n}"), &Rate::FIELDS, rate));
        }
        all
    }
}

impl Modulation {
    /// What must be known of it.
    pub(super) fn say(&mut self, sound: &Sound<'_>, settings: &ModulationSettings) {
        let wanted_s = 2.0 / settings.resolution_hz;
        if sound.lasts_s() < 0.9 * wanted_s {
            self.findings.push(Finding::note(
                "coarse_rates",
                format!(
                    "The span lasts {:.2} s: rates are resolved {:.2} Hz apart, and modulations \
                     slower than {:.2} Hz are not found.",
                    sound.lasts_s(),
                    self.resolution_hz,
                    0.9 * self.resolution_hz
                ),
            ));
        }
        if let Some((low, high)) = self.slowest_hz.zip(self.fastest_hz) {
            self.findings.push(Finding::note(
                "rate_moves",
                format!(
                    "The rate moves between {low:.3} Hz and {high:.3} Hz over the span; the rate given \
                     for all of it is a mean. Its course is in the table."
                ),
            ));
        }
        // Of rates that were not asked for, none is missed.
        let is_asked = settings.rates_hz != ModulationSettings::default().rates_hz;
        if is_asked && settings.rates_hz.1 > self.rates_hz.1 {
            self.findings.push(Finding::note(
                "narrow_band",
                format!(
                    "The band is {:.1} Hz wide: faster modulations do not fit into it.",
                    self.rates_hz.1
                ),
            ));
        }
    }
}
