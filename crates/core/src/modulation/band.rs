//! The band of which the envelope is: what tones fill, or all.

use super::{ModulationSettings, Sound};
use crate::error::Error;
use crate::frame::DEFAULT_RESOLUTION_HZ;

/// The band of which the envelope is.
#[derive(Debug, Clone, Copy)]
pub(super) struct Band {
    pub(super) hz: (f64, f64),
    pub(super) transition_hz: f64,
    /// Whether tones hold nearly all of its power.
    pub(super) is_tonal: bool,
}

impl Band {
    pub(super) fn of(
        sound: &Sound<'_>,
        (power, floor, spacing_hz): &(Vec<f64>, Vec<f64>, f64),
        settings: &ModulationSettings,
    ) -> Result<Self, Error> {
        /// The ends of a sound in which its sudden beginning shows take so much of it at most.
        const EDGE: f64 = 0.08;
        let nyquist_hz = 0.5 * sound.sample_rate_hz;
        let all_hz = (20.0f64.min(0.05 * nyquist_hz), 0.98 * nyquist_hz);
        let (low, high) = settings.range_hz.unwrap_or(all_hz);
        if !(low >= 0.0 && low < high && high <= nyquist_hz) {
            return Err(Error::Setting {
                setting: "the band",
                given: format!("{low} Hz to {high} Hz"),
                allowed: format!("rising, and end at half the sample rate, {nyquist_hz} Hz"),
            });
        }
        let narrowest_hz = 4.0 / (EDGE * sound.lasts_s());
        // Transitions lie within 0 Hz and half the sample rate.
        let transition = |low: f64, high: f64| {
            let widest = (1.8 * low).min(1.8 * (nyquist_hz - high)).max(2.0);
            (0.25 * (high - low)).min(0.5 * low).max(narrowest_hz).min(widest)
        };
        let bin = |hz: f64| ((hz / spacing_hz).round() as usize).min(power.len() - 1);
        let bins = bin(low)..=bin(high);
        let total: f64 = power[bins.clone()].iter().sum();
        let strongest = power[bins.clone()].iter().copied().fold(0.0, f64::max);
        let stands_out = |n: &usize| power[*n] > 10.0 * floor[*n] && power[*n] > 1e-7 * strongest;
        let first = bins.clone().find(&stands_out);
        let last = bins.clone().rev().find(&stands_out);
        let mut band =
            Self { hz: (low, high), transition_hz: transition(low, high), is_tonal: false };
        if let (Some(first), Some(last)) = (first, last) {
            let held = bins.clone().filter(&stands_out);
            let tones: f64 = held.map(|n| power[n]).sum();
            band.is_tonal = tones > 0.9 * total;
            if band.is_tonal {
                let (first_hz, last_hz) = (first as f64 * spacing_hz, last as f64 * spacing_hz);
                let margin_hz =
                    (4.0 * DEFAULT_RESOLUTION_HZ).max(0.6 * (last_hz - first_hz)).max(narrowest_hz);
                let narrow = ((first_hz - margin_hz).max(low), (last_hz + margin_hz).min(high));
                band.hz = narrow;
                band.transition_hz = transition(narrow.0, narrow.1).min(margin_hz);
            }
        }
        Ok(band)
    }

    /// The strongest tone of a band of several alone: half-way to what stands out beside it.
    pub(super) fn of_strongest(
        &self,
        (power, floor, spacing_hz): &(Vec<f64>, Vec<f64>, f64),
    ) -> Option<Self> {
        /// Of what is beside it, so much of its power counts.
        const COUNTS: f64 = 1e-4;
        let bin = |hz: f64| ((hz / spacing_hz).round() as usize).min(power.len() - 1);
        let (low, high) = (bin(self.hz.0), bin(self.hz.1));
        let top = (low..=high).max_by(|a, b| power[*a].total_cmp(&power[*b]))?;
        let stands_out = |n: &usize| power[*n] > (COUNTS * power[top]).max(10.0 * floor[*n]);
        // Beyond its own flanks.
        let below = (low..top).rev().skip_while(stands_out).find(stands_out);
        let above = (top + 1..=high).skip_while(stands_out).find(stands_out);
        let reach = [below.map(|n| top - n), above.map(|n| n - top)].into_iter().flatten().min()?;
        let half_hz = 0.5 * reach as f64 * spacing_hz;
        let centre_hz = top as f64 * spacing_hz;
        let hz = ((centre_hz - half_hz).max(self.hz.0), (centre_hz + half_hz).min(self.hz.1));
        let transition_hz = (0.3 * half_hz).max(self.transition_hz.min(0.5 * half_hz));
        Some(Self { hz, transition_hz, is_tonal: true })
    }

    pub(super) fn width_hz(&self) -> f64 {
        self.hz.1 - self.hz.0
    }

    /// Rates that can be in the band.
    pub(super) fn rates_hz(&self, settings: &ModulationSettings) -> Result<(f64, f64), Error> {
        let (slowest, fastest) = settings.rates_hz;
        // Two tones at its edges beat no faster.
        let fastest = fastest.min(self.width_hz());
        if slowest >= 0.0 && slowest < fastest && fastest.is_finite() {
            return Ok((slowest, fastest));
        }
        Err(Error::Setting {
            setting: "the range of rates",
            given: format!("{slowest} Hz to {} Hz", settings.rates_hz.1),
            allowed: format!(
                "rising, and begin below {:.1} Hz, the width of the band",
                self.width_hz()
            ),
        })
    }
}
