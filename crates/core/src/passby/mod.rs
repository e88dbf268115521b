//! A source that passes by: speed, closest distance and rest frequency from how its tones shift.
//!
//! # What it computes
//!
//! A source on a straight line at a speed v, closest at the distance d at the time t0, is heard at t with
//! what it emitted at te, t = te + r(te)/c, r(te) = √(d² + v²·(te − t0)²). Solved for te,
//! te − t0 = (c²·τ − √(c²·v²·τ² + (c² − v²)·d²))/(c² − v²) with τ = t − t0, and a tone f0 is heard at
//! f = f0·dte/dt = f0/(1 + v²·(te − t0)/(c·r(te))) (P. M. Morse and K. U. Ingard, Theoretical Acoustics,
//! 1968, 11.2). All tones of the source shift by the same factor: the law is looked for that brings the
//! peaks of the spectrum over time back to few frequencies (module `search`), and is fitted to what each
//! tone has left when it is turned back by it (module `fit`).
//!
//! c = 331.3 m/s·√(1 + θ/273.15 °C) (ISO 9613-1:1993). An error of c is one of v and d, as a share; it is
//! not in the uncertainties.

mod fit;
pub(crate) mod law;
mod search;

use serde::Serialize;

use crate::error::Error;
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Quantities, Quantity, Unit};
use crate::samples::{Samples, held};
use crate::units::{db_from_amplitude, sound_speed_m_s};
use law::Law;

/// How a passing source is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PassbySettings {
    /// Temperature of the air in °C.
    pub temperature_c: f64,
}

impl Default for PassbySettings {
    fn default() -> Self {
        Self { temperature_c: 20.0 }
    }
}

impl PassbySettings {
    /// The speed of sound.
    #[must_use]
    pub fn sound_m_s(&self) -> f64 {
        sound_speed_m_s(self.temperature_c)
    }
}

/// A tone of the source.
#[derive(Debug, Clone, Serialize)]
pub struct PassingTone {
    /// Its frequency at the source.
    #[serde(flatten, serialize_with = "flat::rest_frequency_hz")]
    pub rest_frequency_hz: Option<Measured>,
    /// Its highest level re a full-scale sine.
    pub level_dbfs: f64,
    /// What it was heard at over time.
    #[serde(skip)]
    pub heard: Vec<(f64, f64)>,
}

impl PassingTone {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 2] = [
        Field::measured("rest_frequency_hz", "frequency at rest", Unit::Hertz, 4, |of| {
            of.rest_frequency_hz
        }),
        Field::plain("level_dbfs", "highest level", Unit::FullScale, 1, |of| Some(of.level_dbfs)),
    ];
}

/// A source that passed by.
#[derive(Debug, Clone, Serialize)]
pub struct Passby {
    /// Its speed.
    #[serde(flatten, serialize_with = "flat::speed_m_s")]
    pub speed_m_s: Option<Measured>,
    /// Its closest distance.
    #[serde(flatten, serialize_with = "flat::distance_m")]
    pub distance_m: Option<Measured>,
    /// When the sound of the closest point is heard.
    #[serde(flatten, serialize_with = "flat::closest_s")]
    pub closest_s: Option<Measured>,
    /// The fundamental of the source where its tones are harmonics of one, else its strongest tone.
    #[serde(flatten, serialize_with = "flat::rest_frequency_hz")]
    pub rest_frequency_hz: Option<Measured>,
    /// What that is heard at long before and long after.
    #[serde(flatten, serialize_with = "flat::approach_hz")]
    pub approach_hz: Option<Measured>,
    /// See above.
    #[serde(flatten, serialize_with = "flat::recede_hz")]
    pub recede_hz: Option<Measured>,
    /// When the tones are loudest.
    pub loudest_s: Option<f64>,
    /// Speed of sound.
    pub sound_m_s: f64,
    /// The tones, the strongest first.
    pub tones: Vec<PassingTone>,
    #[serde(skip)]
    law: Law,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Passby {
    /// Its numbers beside those of each tone.
    pub const FIELDS: [Field<Self>; 8] = [
        Field::measured("speed_m_s", "speed", Unit::MetrePerSecond, 3, |of| of.speed_m_s),
        Field::measured("distance_m", "closest distance", Unit::Metre, 3, |of| of.distance_m),
        Field::measured("closest_s", "closest point heard", Unit::Second, 4, |of| of.closest_s),
        Field::measured("rest_frequency_hz", "frequency at rest", Unit::Hertz, 4, |of| {
            of.rest_frequency_hz
        }),
        Field::measured("approach_hz", "frequency in approach", Unit::Hertz, 3, |of| {
            of.approach_hz
        }),
        Field::measured("recede_hz", "frequency in recession", Unit::Hertz, 3, |of| of.recede_hz),
        Field::plain("loudest_s", "loudest", Unit::Second, 3, |of| of.loudest_s),
        Field::plain("sound_m_s", "speed of sound", Unit::MetrePerSecond, 2, |of| {
            Some(of.sound_m_s)
        }),
    ];

    /// The frequency at which a tone is heard at a time, by the fit.
    #[must_use]
    pub fn heard_hz(&self, tone: &PassingTone, t: f64) -> Option<f64> {
        Some(tone.rest_frequency_hz?.value * self.law.shift(t))
    }
}

/// Measures a source that passes by in a sound that begins at a time of its take.
///
/// # Errors
///
/// [`Error::NoTone`] where nothing stands out as a tone, [`Error::NoShift`] where no tone shifts as that
/// of a passing source, [`Error::Setting`], [`Error::TooShort`], [`Error::Lost`].
pub fn passby(
    sound: &dyn Samples,
    rate_hz: f64,
    start_s: f64,
    settings: &PassbySettings,
) -> Result<Passby, Error> {
    const LEAST_S: f64 = 0.5;
    if !(-60.0..=80.0).contains(&settings.temperature_c) {
        return Err(Error::Setting {
            setting: "the temperature",
            given: format!("{} °C", settings.temperature_c),
            allowed: "-60 °C to 80 °C".into(),
        });
    }
    let needed = (LEAST_S * rate_hz) as usize;
    if sound.count() < needed {
        return Err(Error::TooShort { samples: sound.count() as u64, needed: needed as u64 });
    }
    let (cut, from, is_cut) = loudest_part(sound, rate_hz)?;
    let from_s = from as f64 / rate_hz;
    let lasts_s = cut.len() as f64 / rate_hz;
    let peaks = search::peaks(&cut, rate_hz)?;
    if peaks.len() < 20 {
        return Err(Error::NoTone);
    }
    let sound_m_s = settings.sound_m_s();
    let moving = search::unsteady(&peaks, lasts_s);
    let guess = search::search(&moving, lasts_s, sound_m_s).ok_or(Error::NoShift)?;
    if guess.tones_hz.is_empty() {
        return Err(Error::NoShift);
    }
    let fitted = fit::fit(&cut, rate_hz, guess.law, &guess.tones_hz)?.ok_or(Error::NoShift)?;
    let mut tones = fitted.tones.iter();
    if !fitted.moves() || !tones.any(|tone| search::is_passing(&peaks, &fitted.law, tone.value)) {
        return Err(Error::NoShift);
    }
    let mut found = Passby::of(&fitted, sound_m_s).ok_or(Error::NoShift)?;
    found.later(start_s + from_s);
    if is_cut {
        found.findings.insert(
            0,
            Finding::note(
                "loudest_part",
                format!(
                    "The take is long: its loudest {LONGEST_S:.0} s, from {:.1} s on, are \
                     measured. For another pass choose its span.",
                    start_s + from_s
                ),
            ),
        );
    }
    Ok(found)
}

/// A pass is looked for in as much.
const LONGEST_S: f64 = 60.0;

/// The loudest part of a take, where it begins, and whether it is not the whole.
fn loudest_part(sound: &dyn Samples, rate_hz: f64) -> Result<(Vec<f32>, usize, bool), Error> {
    let most = (LONGEST_S * rate_hz) as usize;
    if sound.count() <= most {
        return Ok((held(sound, 0, sound.count())?, 0, false));
    }
    let second = rate_hz as usize;
    let mut block = vec![0.0; second];
    let mut powers = Vec::new();
    for from in (0..=sound.count() - second).step_by(second) {
        sound.read(from, &mut block)?;
        powers.push(block.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>());
    }
    let loudest = powers.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).map_or(0, |(n, _)| n);
    let middle = loudest * second + second / 2;
    let from = middle.saturating_sub(most / 2).min(sound.count() - most);
    Ok((held(sound, from, most)?, from, true))
}

impl Passby {
    fn of(fitted: &fit::Fitted, sound_m_s: f64) -> Option<Self> {
        /// A speed below so many uncertainties is none.
        const SURE: f64 = 5.0;
        /// What is less certain than this share is not known.
        const LEAST_CERTAIN: f64 = 0.5;
        /// Readings of the strongest tone before the closest point and behind it.
        const FEWEST: usize = 6;
        let law = fitted.law;
        let u = |n: usize| fitted.covariance[n][n].max(0.0).sqrt();
        if u(0).is_nan() || u(0) > 1.0 / SURE {
            return None;
        }
        // A pass is heard to come and to go.
        let heard_s = law.closest_s + law.distance_m / sound_m_s;
        let number = strongest(fitted);
        let strongest = fitted.readings.iter().filter(|of| of.tone == number);
        let before = strongest.clone().filter(|of| of.t < heard_s).count();
        if before < FEWEST || strongest.clone().count() - before < FEWEST {
            return None;
        }
        let mut findings = Vec::new();
        let is_near = u(1) < LEAST_CERTAIN;
        if !is_near {
            findings.push(Finding::warning(
                "distance_unknown",
                "The closest distance is not known: the tones are not clear while the source turns \
                 from approach to recession.",
            ));
        }
        let speed = Measured::new(law.speed_m_s, law.speed_m_s * u(0));
        let distance = Measured::new(law.distance_m, law.distance_m * u(1));
        // The sound of the closest point is heard d/c later.
        let by_heard = [0.0, law.distance_m / sound_m_s, 1.0];
        let heard_u = crate::linear::square_of(&fitted.covariance, &by_heard).max(0.0).sqrt();
        let mut tones: Vec<PassingTone> = Vec::new();
        for (n, tone) in fitted.tones.iter().enumerate() {
            let of_tone = fitted.readings.iter().filter(|of| of.tone == n);
            let most = of_tone.clone().map(|of| of.amplitude).fold(0.0, f64::max);
            let mut heard: Vec<(f64, f64)> = of_tone.map(|of| (of.t, of.hz)).collect();
            heard.sort_by(|a, b| a.0.total_cmp(&b.0));
            if heard.len() < 3 {
                continue;
            }
            tones.push(PassingTone {
                rest_frequency_hz: Some(*tone),
                level_dbfs: db_from_amplitude(most),
                heard,
            });
        }
        tones.sort_by(|a, b| b.level_dbfs.total_cmp(&a.level_dbfs));
        let rest = fundamental(&tones)?;
        let limit = |sign: f64| {
            let factor = 1.0 / (1.0 + sign * law.speed_m_s / sound_m_s);
            let by_speed = rest.value * factor * factor * speed.u / sound_m_s;
            Measured::new(rest.value * factor, (factor * rest.u).hypot(by_speed))
        };
        let loudest_s = strongest.max_by(|a, b| a.amplitude.total_cmp(&b.amplitude)).map(|of| of.t);
        let apart_s = loudest_s.map_or(0.0, |at| (at - heard_s).abs());
        if is_near && apart_s > 1.0 + 2.0 * law.turn_s() {
            findings.push(Finding::note(
                "loudest_elsewhere",
                "The tones are not loudest when the source is closest: they swell by themselves, or \
                 something hides them there.",
            ));
        }
        Some(Self {
            speed_m_s: Some(speed),
            distance_m: is_near.then_some(distance),
            closest_s: is_near.then(|| Measured::new(heard_s, heard_u)),
            rest_frequency_hz: Some(rest),
            approach_hz: Some(limit(-1.0)),
            recede_hz: Some(limit(1.0)),
            loudest_s,
            sound_m_s,
            tones,
            law,
            findings,
        })
    }

    /// With all times so much later.
    fn later(&mut self, by_s: f64) {
        if let Some(closest) = &mut self.closest_s {
            closest.value += by_s;
        }
        self.loudest_s = self.loudest_s.map(|at| at + by_s);
        self.law.closest_s += by_s;
        for (t, _) in self.tones.iter_mut().flat_map(|tone| &mut tone.heard) {
            *t += by_s;
        }
    }
}

/// The tone with the highest reading.
fn strongest(fitted: &fit::Fitted) -> usize {
    let readings = fitted.readings.iter();
    readings.max_by(|a, b| a.amplitude.total_cmp(&b.amplitude)).map_or(0, |of| of.tone)
}

/// The fundamental that all tones are harmonics of, else the strongest tone.
fn fundamental(tones: &[PassingTone]) -> Option<Measured> {
    const HIGHEST: u32 = 12;
    /// How far a harmonic may be off, as a share.
    const OFF: f64 = 0.003;
    let known: Vec<Measured> = tones.iter().filter_map(|tone| tone.rest_frequency_hz).collect();
    let lowest = known.iter().copied().min_by(|a, b| a.value.total_cmp(&b.value))?;
    let number = |hz: f64, f0: f64| (hz / f0).round();
    for divisor in 1..=4 {
        let f0 = lowest.value / f64::from(divisor);
        let is_harmonic = |tone: &Measured| {
            let n = number(tone.value, f0);
            n <= f64::from(HIGHEST) && (tone.value / (n * f0) - 1.0).abs() < OFF
        };
        if known.len() > 1 && known.iter().all(is_harmonic) {
            // The mean of what each harmonic says, weighted.
            let of = known.iter().map(|tone| {
                let n = number(tone.value, f0);
                (tone.value / n, (n / tone.u).powi(2), tone.u / n)
            });
            let weight: f64 = of.clone().map(|(_, weight, _)| weight).sum();
            let value = of.clone().map(|(hz, weight, _)| hz * weight).sum::<f64>() / weight;
            // They share the law, and so most of their uncertainty.
            let u = of.map(|(.., u)| u).fold(f64::INFINITY, f64::min);
            return Some(Measured::new(value, u));
        }
    }
    known.first().copied()
}

impl Quantities for Passby {
    fn quantities(&self) -> Vec<Quantity> {
        let of = |field: &Field<Self>| Quantity::top(&field.label, field.value(self));
        let mut all: Vec<Quantity> = Self::FIELDS.iter().map(of).collect();
        for (n, tone) in (1..).zip(&self.tones) {
            let (key, name) = (Key::item("tones", n), format!("tone {n}"));
            all.extend(Quantity::of_item(&key, &name, &PassingTone::FIELDS, tone));
        }
        all
    }
}
