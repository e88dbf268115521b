//! What fluctuation strength and roughness have in common: which channels of the ear a component
//! excites.
//!
//! Each component excites the channels beside it as [`crate::hearing`] has it, as far as that is over the
//! threshold in quiet.

use std::f64::consts::LN_10;
use std::ops::Range;

use super::fluctuation::Fluctuation;
use super::roughness::Roughness;
use super::{Modulation, Sound};
use crate::error::Error;
use crate::hearing::{
    LOWER_DB_PER_BARK, bark, threshold_db, upper_db_per_bark, upper_of_none_db_per_bark,
};
use crate::samples::{Reader, Samples};
use crate::units::{amplitude_from_db, db_from_power, power_from_db};

/// Channels, half a Bark apart, the first at half a Bark.
pub(super) const CHANNELS: usize = 47;
/// Nepers for each dB.
const AMPLITUDE: f64 = LN_10 / 20.0;

/// What a sound excites in the channels, by the powers of its components.
///
/// The ratio of the amplitude in a channel to that of the component itself falls by a constant factor
/// from channel to channel, so that each is had from the one before by a product.
pub(super) struct Excitation {
    components: Vec<Component>,
    /// 10^(−27·z/20) of each.
    lower: Vec<f64>,
    /// Of each channel: the components that excite it as they are.
    flat: Vec<Range<usize>>,
    /// The powers that are heard in each channel, and the least of them in dB.
    audible: Vec<f64>,
    lowest_db: f64,
    // Of each component, at its present level.
    powers: Vec<f64>,
    /// 1 where it is heard at all.
    heard: Vec<f64>,
    /// Ratio in the next channel above, and from there to the one after.
    above: Vec<f64>,
    steps: Vec<f64>,
    // Of each channel: the components that can excite it.
    first: Vec<usize>,
    behind: Vec<usize>,
    ratios: Vec<f64>,
}

/// Where a component stands.
struct Component {
    bark: f64,
    /// The power of its threshold in quiet.
    audible: f64,
    /// 24 + 230 Hz/f, in dB for each Bark.
    upper_db: f64,
    /// The next channel above that it does not excite as it is.
    next: usize,
}

/// The critical-band rate of a channel.
fn channel_bark(channel: usize) -> f64 {
    0.5 * (channel + 1) as f64
}

/// The frequency of a critical-band rate, by halving.
fn frequency_hz(wanted: f64) -> f64 {
    let (mut low, mut high) = (10.0, 24_000.0);
    for _ in 0..50 {
        let middle = 0.5 * (low + high);
        if bark(middle) < wanted { low = middle } else { high = middle }
    }
    low
}

impl Excitation {
    /// Of components at frequencies that rise.
    pub(super) fn new(frequencies_hz: impl Iterator<Item = f64>) -> Self {
        let component = |hz: f64| {
            let bark = bark(hz);
            Component {
                bark,
                audible: power_from_db(threshold_db(hz)),
                upper_db: upper_of_none_db_per_bark(hz),
                next: ((2.0 * bark) as usize + 1).min(CHANNELS),
            }
        };
        let components: Vec<Component> = frequencies_hz.map(component).collect();
        let count = components.len();
        // Within half a Bark it is all there.
        let flat = (0..CHANNELS)
            .map(|channel| {
                let below = |reach: f64| {
                    components.partition_point(|at| at.bark < channel_bark(channel) + reach)
                };
                below(-0.5)..below(0.5)
            })
            .collect();
        let thresholds_db = (0..CHANNELS).map(|n| threshold_db(frequency_hz(channel_bark(n))));
        let lower = components.iter().map(|at| (-AMPLITUDE * LOWER_DB_PER_BARK * at.bark).exp());
        Self {
            lower: lower.collect(),
            components,
            flat,
            lowest_db: thresholds_db.clone().fold(f64::INFINITY, f64::min),
            audible: thresholds_db.map(power_from_db).collect(),
            powers: vec![0.0; count],
            heard: vec![0.0; count],
            above: vec![0.0; count],
            steps: vec![0.0; count],
            first: vec![0; CHANNELS],
            behind: vec![0; CHANNELS],
            ratios: vec![0.0; count],
        }
    }

    /// Sets the powers of the components.
    pub(super) fn set(&mut self, powers: impl Iterator<Item = f64>) {
        self.first.fill(usize::MAX);
        self.behind.fill(0);
        for (n, (at, power)) in self.components.iter().zip(powers).enumerate() {
            let is_heard = power > at.audible;
            self.powers[n] = if is_heard { power } else { 0.0 };
            self.heard[n] = f64::from(u8::from(is_heard));
            self.above[n] = 0.0;
            self.steps[n] = 0.0;
            if !is_heard {
                continue;
            }
            let level_db = db_from_power(power);
            let upper_db = upper_db_per_bark(at.upper_db, level_db);
            self.above[n] = (-AMPLITUDE * upper_db * (channel_bark(at.next) - at.bark)).exp();
            self.steps[n] = (-AMPLITUDE * 0.5 * upper_db).exp();
            let over_db = level_db - self.lowest_db;
            let channel = |bark: f64| (2.0 * bark - 1.0).clamp(0.0, (CHANNELS - 1) as f64) as usize;
            let highest = channel(at.bark + (over_db / upper_db).max(0.5));
            let lowest = channel(at.bark - (over_db / LOWER_DB_PER_BARK).max(0.5));
            self.first[highest] = self.first[highest].min(n);
            self.behind[lowest] = self.behind[lowest].max(n + 1);
        }
        // What excites a channel excites those between.
        for channel in (1..CHANNELS).rev() {
            self.first[channel - 1] = self.first[channel - 1].min(self.first[channel]);
        }
        for channel in 1..CHANNELS {
            self.behind[channel] = self.behind[channel].max(self.behind[channel - 1]);
        }
    }

    /// Hands over each channel, the lowest first, once for the powers that are set: its number, the
    /// first of the components that can excite it, their powers, and the ratio of the amplitude of
    /// each there to its own.
    pub(super) fn each(&mut self, mut with: impl FnMut(usize, usize, &[f64], &[f64])) {
        for channel in 0..CHANNELS {
            let flat = self.flat[channel].clone();
            let first = self.first[channel].min(flat.start);
            let behind = self.behind[channel].max(flat.end);
            let audible = self.audible[channel];
            // Thresholds fall and rise: what is under one may be over the next.
            let heard = |power: f64, ratio: f64| {
                if power * ratio * ratio > audible { ratio } else { 0.0 }
            };
            for n in first..flat.start {
                self.ratios[n] = heard(self.powers[n], self.above[n]);
                self.above[n] *= self.steps[n];
            }
            self.ratios[flat.clone()].copy_from_slice(&self.heard[flat.clone()]);
            let rise = (AMPLITUDE * LOWER_DB_PER_BARK * channel_bark(channel)).exp();
            for n in flat.end..behind {
                self.ratios[n] = heard(self.powers[n], rise * self.lower[n]);
            }
            with(channel, first, &self.powers[first..behind], &self.ratios[first..behind]);
        }
    }
}

/// How strongly the modulation of a sound is heard.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Strength {
    /// Roughness.
    pub roughness_asper: Option<f64>,
    /// Fluctuation strength.
    pub fluctuation_strength_vacil: Option<f64>,
}

/// Roughness and fluctuation strength of a sound of which a full-scale sine has so many dB re 20 µPa.
///
/// # Errors
///
/// [`Error::Lost`] where samples can no longer be read.
pub fn strength(
    samples: &dyn Samples,
    sample_rate_hz: f64,
    full_scale_db: f64,
) -> Result<Strength, Error> {
    let sound = Sound { samples, sample_rate_hz, start_s: 0.0 };
    Ok(Courses::of(&sound, full_scale_db)?.strength())
}

/// Roughness and fluctuation strength over time: the middles of stretches in seconds, and values.
struct Courses {
    rough: Vec<(f64, f64)>,
    slow: Vec<(f64, f64)>,
}

fn mean(all: &[(f64, f64)]) -> Option<f64> {
    (!all.is_empty()).then(|| all.iter().map(|(_, value)| value).sum::<f64>() / all.len() as f64)
}

impl Courses {
    fn of(sound: &Sound<'_>, full_scale_db: f64) -> Result<Self, Error> {
        let rate_hz = sound.sample_rate_hz;
        let count = sound.samples.count();
        // Amplitudes of sines re the root of two times 20 µPa.
        let gain = amplitude_from_db(full_scale_db);
        let mut roughness = Roughness::new(rate_hz, gain);
        let mut fluctuation = Fluctuation::new(rate_hz, gain);
        let mut reader = Reader::new(sound.samples);
        let mut made = Self { rough: Vec::new(), slow: Vec::new() };
        let length = roughness.length();
        for from in (0..(count + 1).saturating_sub(length)).step_by(length / 2) {
            let middle_s = sound.start_s + (from as f64 + 0.5 * length as f64) / rate_hz;
            made.rough.push((middle_s, roughness.frame(reader.at(from as i64, length)?)));
        }
        let (length, hop) = (fluctuation.length(), fluctuation.hop());
        let mut from = 0;
        while from + length <= count {
            let middle_s = sound.start_s + (from as f64 + 0.5 * length as f64) / rate_hz;
            if let Some((late_s, value)) = fluctuation.frame(reader.at(from as i64, length)?) {
                made.slow.push((middle_s - late_s, value));
            }
            from += hop;
        }
        Ok(made)
    }

    fn strength(&self) -> Strength {
        Strength {
            roughness_asper: mean(&self.rough),
            fluctuation_strength_vacil: mean(&self.slow),
        }
    }
}

/// Adds fluctuation strength and roughness over time and overall.
pub(super) fn add(
    sound: &Sound<'_>,
    full_scale_db: f64,
    result: &mut Modulation,
) -> Result<(), Error> {
    let courses = Courses::of(sound, full_scale_db)?;
    let Strength { roughness_asper, fluctuation_strength_vacil } = courses.strength();
    result.roughness_asper = roughness_asper;
    result.fluctuation_strength_vacil = fluctuation_strength_vacil;
    let half_s = 0.5 * result.map.hop_s;
    for at in &mut result.course {
        let near = |all: &[(f64, f64)], reach_s: f64| {
            let from = all.partition_point(|(time_s, _)| *time_s < at.time_s - reach_s);
            let to = all.partition_point(|(time_s, _)| *time_s <= at.time_s + reach_s);
            mean(&all[from..to])
        };
        at.roughness_asper = near(&courses.rough, half_s.max(0.05));
        at.fluctuation_strength_vacil = near(&courses.slow, half_s.max(0.5));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    use super::*;

    /// By the equations, component by component.
    fn ratio(hz: f64, level_db: f64, channel: usize) -> f64 {
        let away = channel_bark(channel) - bark(hz);
        let upper_db = (24.0 + 230.0 / hz - 0.2 * level_db).max(0.0);
        let less_db = if away.abs() <= 0.5 {
            0.0
        } else if away > 0.0 {
            upper_db * away
        } else {
            -LOWER_DB_PER_BARK * away
        };
        let there_db = threshold_db(frequency_hz(channel_bark(channel)));
        let is_heard =
            level_db > threshold_db(hz) && (less_db == 0.0 || level_db - less_db > there_db);
        if is_heard { amplitude_from_db(-less_db) } else { 0.0 }
    }

    #[test]
    fn components_excite_the_channels_that_the_equations_give() {
        let mut random = ChaCha8Rng::seed_from_u64(41);
        let mut worst = 0.0f64;
        for _ in 0..20 {
            let mut hz: Vec<f64> =
                (0..300).map(|_| 20.0 * 1000f64.powf(random.random_range(0.0..1.0))).collect();
            hz.sort_by(f64::total_cmp);
            let levels_db: Vec<f64> =
                hz.iter().map(|_| random.random_range(-10.0..110.0)).collect();
            let mut excitation = Excitation::new(hz.iter().copied());
            excitation.set(levels_db.iter().map(|db| power_from_db(*db)));
            let mut channels = 0;
            excitation.each(|channel, first, powers, ratios| {
                channels += 1;
                for (n, (hz, level_db)) in hz.iter().zip(&levels_db).enumerate() {
                    let expected = ratio(*hz, *level_db, channel);
                    let place = n.checked_sub(first);
                    let of = |values: &[f64]| place.and_then(|place| values.get(place).copied());
                    let found = of(ratios).unwrap_or(0.0);
                    worst = worst.max((found - expected).abs());
                    if expected > 0.0 {
                        assert_eq!(of(powers).map(|x| x > 0.0), Some(true));
                    }
                }
            });
            assert_eq!(channels, CHANNELS);
        }
        println!("ratios off by {worst:.1e} at most");
        assert!(worst < 7e-15, "{worst:.1e}");
    }
}
