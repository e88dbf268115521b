//! What fluctuation strength and roughness have in common: which channels of the ear a component
//! excites.
//!
//! A component of level L at z Bark excites channels below it by 27 dB less for each Bark, and
//! channels above it by 24 + 230 Hz/f − 0.2·L dB less for each (E. Terhardt, Hearing Research 1,
//! 1979), as far as that is over the threshold in quiet, 3.64·f^−0.8 − 6.5·exp(−0.6·(f − 3.3)²) +
//! 10^−3·f^4 dB, f in kHz (the same).

use super::fluctuation::Fluctuation;
use super::roughness::Roughness;
use super::{Modulation, Sound};
use crate::error::Error;
use crate::samples::Reader;
use crate::units::amplitude_from_db;

/// Channels, half a Bark apart, the first at half a Bark.
pub(super) const CHANNELS: usize = 47;
const LOWER_DB_PER_BARK: f64 = 27.0;

/// Critical-band rate of a frequency (E. Zwicker, E. Terhardt, JASA 68, 1980).
pub(super) fn bark(hz: f64) -> f64 {
    13.0 * (0.76e-3 * hz).atan() + 3.5 * (hz / 7500.0).powi(2).atan()
}

/// Threshold in quiet.
pub(super) fn threshold_db(hz: f64) -> f64 {
    let khz = hz.max(20.0) / 1e3;
    let dip = 6.5 * (-0.6 * (khz - 3.3).powi(2)).exp();
    3.64 * khz.powf(-0.8) - dip + 1e-3 * khz.powi(4)
}

/// A frequency of which channels are excited.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    hz: f64,
    bark: f64,
    pub(super) threshold_db: f64,
}

impl Place {
    pub(super) fn of(hz: f64) -> Self {
        Self { hz, bark: bark(hz), threshold_db: threshold_db(hz) }
    }
}

/// The channels and their thresholds.
pub(super) struct Channels {
    thresholds_db: [f64; CHANNELS],
    lowest_db: f64,
    /// From a channel to the next below.
    lower_step: f64,
}

impl Channels {
    pub(super) fn new() -> Self {
        // The frequency of a critical-band rate, by halving.
        let hz = |wanted: f64| {
            let (mut low, mut high) = (10.0, 24_000.0);
            for _ in 0..50 {
                let middle = 0.5 * (low + high);
                if bark(middle) < wanted { low = middle } else { high = middle }
            }
            low
        };
        let thresholds_db: [f64; CHANNELS] =
            std::array::from_fn(|n| threshold_db(hz(0.5 * (n + 1) as f64)));
        Self {
            lowest_db: thresholds_db.iter().copied().fold(f64::INFINITY, f64::min),
            thresholds_db,
            lower_step: amplitude_from_db(-0.5 * LOWER_DB_PER_BARK),
        }
    }

    /// Hands over each channel that a component of a level excites, and the ratio of its amplitude
    /// there to its own.
    pub(super) fn excited(&self, at: Place, level_db: f64, mut with: impl FnMut(usize, f64)) {
        if level_db <= at.threshold_db {
            return;
        }
        let upper_db = (24.0 + 230.0 / at.hz - 0.2 * level_db).max(0.0);
        let channel = |bark: f64| (2.0 * bark - 1.0).clamp(0.0, CHANNELS as f64);
        // Within half a Bark it is all there.
        let first = (channel(at.bark - 0.5).ceil() as usize).min(CHANNELS);
        let behind = (channel(at.bark + 0.5).floor() as usize + 1).min(CHANNELS);
        for n in first..behind {
            with(n, 1.0);
        }
        let bark = |n: usize| 0.5 * (n + 1) as f64;
        let mut less_db = upper_db * (bark(behind) - at.bark);
        let (mut ratio, step) = (amplitude_from_db(-less_db), amplitude_from_db(-0.5 * upper_db));
        for n in behind..CHANNELS {
            // Thresholds fall and rise: what is under one may be over the next, but under all.
            if level_db - less_db < self.lowest_db {
                break;
            }
            if level_db - less_db > self.thresholds_db[n] {
                with(n, ratio);
            }
            less_db += 0.5 * upper_db;
            ratio *= step;
        }
        let Some(last) = first.checked_sub(1) else { return };
        less_db = LOWER_DB_PER_BARK * (at.bark - bark(last));
        ratio = amplitude_from_db(-less_db);
        for n in (0..first).rev() {
            if level_db - less_db < self.lowest_db {
                break;
            }
            if level_db - less_db > self.thresholds_db[n] {
                with(n, ratio);
            }
            less_db += 0.5 * LOWER_DB_PER_BARK;
            ratio *= self.lower_step;
        }
    }
}

/// Fluctuation strength and roughness over time and overall.
pub(super) fn add(
    sound: &Sound<'_>,
    full_scale_db: f64,
    result: &mut Modulation,
) -> Result<(), Error> {
    let rate_hz = sound.sample_rate_hz;
    let count = sound.samples.count();
    // Amplitudes of sines re the root of two times 20 µPa.
    let gain = amplitude_from_db(full_scale_db);
    let mut roughness = Roughness::new(rate_hz, gain);
    let mut fluctuation = Fluctuation::new(rate_hz, gain);
    let mut reader = Reader::new(sound.samples);
    let mut rough: Vec<(f64, f64)> = Vec::new();
    let length = roughness.length();
    for from in (0..(count + 1).saturating_sub(length)).step_by(length / 2) {
        let middle_s = sound.start_s + (from as f64 + 0.5 * length as f64) / rate_hz;
        rough.push((middle_s, roughness.frame(reader.at(from as i64, length)?)));
    }
    let mut slow: Vec<(f64, f64)> = Vec::new();
    let (length, hop) = (fluctuation.length(), fluctuation.hop());
    let mut from = 0;
    while from + length <= count {
        let middle_s = sound.start_s + (from as f64 + 0.5 * length as f64) / rate_hz;
        if let Some((late_s, value)) = fluctuation.frame(reader.at(from as i64, length)?) {
            slow.push((middle_s - late_s, value));
        }
        from += hop;
    }
    let mean = |all: &[(f64, f64)]| {
        (!all.is_empty())
            .then(|| all.iter().map(|(_, value)| value).sum::<f64>() / all.len() as f64)
    };
    result.roughness_asper = mean(&rough);
    result.fluctuation_strength_vacil = mean(&slow);
    let half_s = 0.5 * result.map.hop_s;
    for at in &mut result.course {
        let near = |all: &[(f64, f64)], reach_s: f64| {
            let from = all.partition_point(|(time_s, _)| *time_s < at.time_s - reach_s);
            let to = all.partition_point(|(time_s, _)| *time_s <= at.time_s + reach_s);
            mean(&all[from..to])
        };
        at.roughness_asper = near(&rough, half_s.max(0.05));
        at.fluctuation_strength_vacil = near(&slow, half_s.max(0.5));
    }
    Ok(())
}
