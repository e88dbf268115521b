//! The spectrum as a curve: scaled, smoothed, with its confidence, and its cumulative power.
//!
//! # Scaling
//!
//! With P\[k\] the square of the amplitude that a sine in bin k would have, the mean square is
//! m\[k\] = P\[k\]/2, but P\[k\] at 0 Hz and at the Nyquist frequency, where the cosine is constant
//! in magnitude. The curve shows
//!
//! | scaling | value | unit at full scale |
//! |---|---|---|
//! | amplitude | √P | FS |
//! | RMS | √m | FS |
//! | power | m | FS² |
//! | density | m / noise bandwidth of the window | FS²/Hz |
//!
//! so that Σ density · bin spacing is the mean square of the windowed samples over that of the
//! window: Parseval's theorem. Levels are 10 lg of m, or of the density, over the square of the
//! reference: the RMS of a full-scale sine (½ FS²), 20 µPa, or 1 V; for the amplitude of P/2.

use serde::Serialize;
use statrs::distribution::{ChiSquared, ContinuousCDF};

use super::Spectrum;
use super::floor::varying_share;
use crate::error::Error;
use crate::units::{LevelReference, db_from_power};

/// What the values of a curve are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Scaling {
    /// Peak amplitude of a sine in the bin.
    #[default]
    Amplitude,
    /// Its root mean square.
    Rms,
    /// Its mean square.
    Power,
    /// Mean square per hertz: for noise.
    Density,
}

impl Scaling {
    /// What a value is called.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Amplitude => "peak amplitude",
            Self::Rms => "RMS",
            Self::Power => "power",
            Self::Density => "power density",
        }
    }

    /// Unit of a value, for a signal in `unit`.
    #[must_use]
    pub fn unit(self, unit: &str) -> String {
        match self {
            Self::Amplitude | Self::Rms => unit.into(),
            Self::Power => format!("{unit}²"),
            Self::Density => format!("{unit}²/Hz"),
        }
    }

    /// What levels of this scaling refer to.
    #[must_use]
    pub fn level_words(self, reference: LevelReference) -> String {
        match (self, reference) {
            (Self::Density, LevelReference::FullScale) => "re full-scale sine, per Hz".into(),
            (Self::Density, reference) => format!("{}, per Hz", reference.words()),
            (_, reference) => reference.words().into(),
        }
    }

    /// The value of a tone of this amplitude; a tone has no density.
    #[must_use]
    pub fn of_tone(self, amplitude: f64) -> Option<f64> {
        match self {
            Self::Amplitude => Some(amplitude),
            Self::Rms => Some(amplitude / std::f64::consts::SQRT_2),
            Self::Power => Some(amplitude * amplitude / 2.0),
            Self::Density => None,
        }
    }
}

/// How a curve is drawn from a spectrum.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct CurveSettings {
    /// What its values are. Default: the peak amplitude.
    pub scaling: Scaling,
    /// Width in octaves over which power is averaged. Default: none.
    pub smoothing_octaves: Option<f64>,
    /// Bins beyond each end of the range, for a line that is to reach the frame. Default: 0.
    pub margin: usize,
}

impl CurveSettings {
    /// # Errors
    ///
    /// [`Error::Setting`] unless the smoothing is from 1/96 octave to 2 octaves.
    pub fn check(&self) -> Result<(), Error> {
        match self.smoothing_octaves {
            Some(octaves) if !(0.0104..=2.0).contains(&octaves) => Err(Error::Setting {
                setting: "the smoothing",
                given: format!("{octaves} octaves"),
                allowed: "1/96 octave to 2 octaves".into(),
            }),
            _ => Ok(()),
        }
    }
}

/// A spectrum as columns of numbers, within its range of interest.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Curve {
    /// Frequency of each value in Hz.
    pub frequency_hz: Vec<f64>,
    /// Level in dB; `None` where there is no power.
    pub level_db: Vec<Option<f64>>,
    /// Value in the unit of the scaling.
    pub value: Vec<f64>,
    /// Lower end of the 95 % confidence interval of the level, in dB; `None` for a maximum and
    /// where there is no power.
    pub low_db: Vec<Option<f64>>,
    /// Its upper end.
    pub high_db: Vec<Option<f64>>,
    /// Share of the power of the range that lies below the upper edge of the bin.
    pub cumulative_share: Vec<f64>,
}

/// Of frequencies in rising order and their levels at most so many an octave, the loudest of each,
/// from 20 Hz on: what is drawn of them is not lost, and what is read is true.
pub fn thinned(
    points: impl IntoIterator<Item = (f64, f64)>,
    per_octave: u32,
) -> impl Iterator<Item = (f64, f64)> {
    /// The lower end of the audio range.
    const LOWEST_HZ: f64 = 20.0;
    let mut kept: Vec<(f64, f64)> = Vec::new();
    let mut last = f64::NEG_INFINITY;
    for (hz, db) in points.into_iter().filter(|(hz, _)| *hz >= LOWEST_HZ) {
        let place = (hz.log2() * f64::from(per_octave)).floor();
        match kept.last_mut() {
            Some(held) if place == last => {
                if db > held.1 {
                    *held = (hz, db);
                }
            }
            _ => kept.push((hz, db)),
        }
        last = place;
    }
    kept.into_iter()
}

impl Curve {
    /// Frequency and level of its values, where there is power.
    pub fn levels(&self) -> impl Iterator<Item = (f64, f64)> {
        let known = self.frequency_hz.iter().zip(&self.level_db);
        known.filter_map(|(hz, db)| Some((*hz, (*db)?)))
    }
}

/// Below which frequencies a tenth, half and nine tenths of the power lie, in Hz.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Cumulative {
    /// A tenth.
    pub power_10_hz: f64,
    /// Half.
    pub power_50_hz: f64,
    /// Nine tenths.
    pub power_90_hz: f64,
}

impl Spectrum {
    /// The curve within the range of interest.
    #[must_use]
    pub fn curve(&self, settings: &CurveSettings) -> Curve {
        let smoothed = settings.smoothing_octaves.map(|octaves| smoothed(&self.power, octaves));
        let power = smoothed.as_ref().unwrap_or(&self.power);
        let range = self.bins();
        let bins = range.start.saturating_sub(settings.margin)
            ..(range.end + settings.margin).min(self.power.len());
        let interval = Interval::new(self.independent_frames);
        let widths = |k: usize| self.smoothing_bins(k, settings.smoothing_octaves);
        let level = |k: usize| {
            let level = self.level_db(k, power[k], settings.scaling);
            level.is_finite().then_some(level)
        };
        let intervals: Vec<Option<(f64, f64)>> = bins
            .clone()
            .map(|k| {
                let (low, high) = interval.of(power[k], self.floor[k], widths(k))?;
                Some((level(k)? + db_from_power(low), level(k)? + db_from_power(high)))
            })
            .collect();
        let total: f64 = range.clone().map(|k| self.mean_square_of(k)).sum();
        let mut below = 0.0;
        let cumulative_share = bins
            .clone()
            .map(|k| {
                below += if range.contains(&k) { self.mean_square_of(k) } else { 0.0 };
                if total > 0.0 { below / total } else { 0.0 }
            })
            .collect();
        Curve {
            frequency_hz: bins.clone().map(|k| k as f64 * self.bin_spacing_hz).collect(),
            level_db: bins.clone().map(level).collect(),
            value: bins.map(|k| self.value(k, power[k], settings.scaling)).collect(),
            low_db: intervals.iter().map(|ends| ends.map(|ends| ends.0)).collect(),
            high_db: intervals.iter().map(|ends| ends.map(|ends| ends.1)).collect(),
            cumulative_share,
        }
    }

    /// Where a tenth, half and nine tenths of the power of the range have come together. What
    /// the mean of the samples puts at 0 Hz does not count. `None` if there is no power.
    #[must_use]
    pub fn cumulative(&self) -> Option<Cumulative> {
        let powers: Vec<f64> = self.bins().map(|k| self.mean_square_of(k)).collect();
        let total: f64 = powers.iter().sum();
        if total <= 0.0 {
            return None;
        }
        let first = self.bins().start as f64;
        let below = |share: f64| {
            let mut left = share * total;
            for (n, power) in powers.iter().enumerate() {
                if *power >= left && *power > 0.0 {
                    // A bin stands for what lies half a bin to either side of it.
                    let hz = (first + n as f64 - 0.5 + left / power) * self.bin_spacing_hz;
                    return hz.clamp(self.range_hz.0, self.range_hz.1);
                }
                left -= power;
            }
            self.range_hz.1
        };
        Some(Cumulative {
            power_10_hz: below(0.1),
            power_50_hz: below(0.5),
            power_90_hz: below(0.9),
        })
    }

    /// 95 % interval of a bin of noise, in dB from its level; `None` for a maximum.
    #[must_use]
    pub fn noise_interval_db(&self) -> Option<(f64, f64)> {
        let (low, high) = Interval::new(self.independent_frames).of(1.0, 1.0, 1.0)?;
        Some((db_from_power(low), db_from_power(high)))
    }

    /// Mean square of the sound of the whole spectrum, in full scale²: Σ density · bin spacing.
    #[must_use]
    pub fn mean_square(&self) -> f64 {
        let bandwidth_bins = self.noise_bandwidth_hz / self.bin_spacing_hz;
        (0..self.power.len()).map(|k| self.power[k] * self.share_of_square(k)).sum::<f64>()
            / bandwidth_bins
    }

    /// Unit of the curve's values.
    #[must_use]
    pub fn unit(&self, scaling: Scaling) -> String {
        scaling.unit(self.reference.unit())
    }

    /// Bins within the range of interest.
    pub(crate) fn bins(&self) -> std::ops::Range<usize> {
        let spacing = self.bin_spacing_hz;
        let first = (self.range_hz.0 / spacing - 1e-9).ceil().max(0.0) as usize;
        let end = (self.range_hz.1 / spacing + 1e-9).floor() as usize + 1;
        first..end.min(self.power.len()).max(first)
    }

    /// Mean square of a bin, in units that all share; 0 where the mean of the samples reaches.
    fn mean_square_of(&self, k: usize) -> f64 {
        if k < self.clear_of_dc_bins { 0.0 } else { self.power[k] * self.share_of_square(k) }
    }

    /// Mean square over square of the amplitude.
    fn share_of_square(&self, k: usize) -> f64 {
        let is_nyquist = k + 1 == self.power.len() && self.transform_size.is_multiple_of(2);
        if k == 0 || is_nyquist { 1.0 } else { 0.5 }
    }

    /// Level of the amplitude² `power` in bin `k`.
    #[must_use]
    pub fn level_db(&self, k: usize, power: f64, scaling: Scaling) -> f64 {
        let twice_mean_square = match scaling {
            Scaling::Amplitude => power,
            Scaling::Rms | Scaling::Power => 2.0 * power * self.share_of_square(k),
            Scaling::Density => 2.0 * power * self.share_of_square(k) / self.noise_bandwidth_hz,
        };
        db_from_power(twice_mean_square) + self.reference.full_scale_db()
    }

    /// Value of the amplitude² `power` in bin `k`.
    #[must_use]
    pub fn value(&self, k: usize, power: f64, scaling: Scaling) -> f64 {
        let unit = self.reference.per_full_scale();
        let mean_square = power * self.share_of_square(k) * unit * unit;
        match scaling {
            Scaling::Amplitude => power.sqrt() * unit,
            Scaling::Rms => mean_square.sqrt(),
            Scaling::Power => mean_square,
            Scaling::Density => mean_square / self.noise_bandwidth_hz,
        }
    }

    /// Independent bins over which smoothing averages at bin `k`.
    fn smoothing_bins(&self, k: usize, octaves: Option<f64>) -> f64 {
        octaves.map_or(1.0, |octaves| {
            let half = 2f64.powf(octaves / 2.0);
            let width_hz = k as f64 * self.bin_spacing_hz * (half - 1.0 / half);
            (width_hz / self.noise_bandwidth_hz).max(1.0)
        })
    }
}

/// Mean power over a band of constant relative width around each bin, which takes its share of the
/// bins at its two edges.
fn smoothed(power: &[f64], octaves: f64) -> Vec<f64> {
    let half = 2f64.powf(octaves / 2.0);
    // Power below the upper edge of each bin, for which a bin reaches half way to its neighbours.
    let mut below = Vec::with_capacity(power.len() + 1);
    below.push(0.0);
    for power in power {
        below.push(below[below.len() - 1] + power);
    }
    let up_to = |place: f64| {
        let place = (place + 0.5).clamp(0.0, power.len() as f64);
        let whole = (place as usize).min(power.len() - 1);
        below[whole] + (place - whole as f64) * power[whole]
    };
    (0..power.len())
        .map(|k| {
            let middle = k as f64;
            let (low, high) = (middle / half, (middle * half).min(power.len() as f64 - 0.5));
            // A band narrower than a bin is that bin.
            if high - low <= 1.0 { power[k] } else { (up_to(high) - up_to(low)) / (high - low) }
        })
        .collect()
}

/// Confidence intervals of averaged power.
///
/// The mean of n independent periodograms of noise follows a χ² distribution of 2n degrees of
/// freedom. Beside a steady tone of power S the variance is P² − S² instead of P², which is matched
/// by 2n·P²/(P² − S²) degrees of freedom.
struct Interval {
    independent_frames: Option<f64>,
    /// Those of noise, which are asked for again and again.
    of_noise: Option<(f64, f64)>,
}

/// Probability left outside on each side.
const TAIL: f64 = 0.025;

impl Interval {
    fn new(independent_frames: Option<f64>) -> Self {
        let of_noise = independent_frames.and_then(|frames| chi_squared(2.0 * frames));
        Self { independent_frames, of_noise }
    }

    /// Factors from the estimate to the two ends, where it is averaged over so many bins too.
    fn of(&self, power: f64, floor: f64, bins: f64) -> Option<(f64, f64)> {
        let frames = self.independent_frames?;
        let varying = varying_share(power, floor);
        if varying == 1.0 && bins <= 1.0 {
            return self.of_noise;
        }
        chi_squared(2.0 * frames * bins / varying.max(1e-12))
    }
}

/// ν/χ² at the two ends of the interval.
fn chi_squared(freedom: f64) -> Option<(f64, f64)> {
    // Far above, the cube root is normal (Wilson and Hilferty, PNAS 17, 1931).
    if freedom > 200.0 {
        let spread = 2.0 / (9.0 * freedom);
        let end = |z: f64| (1.0 - spread + z * spread.sqrt()).powi(-3);
        return Some((end(1.959_964), end(-1.959_964)));
    }
    let distribution = ChiSquared::new(freedom).ok()?;
    let end = |probability: f64| freedom / distribution.inverse_cdf(probability);
    Some((end(1.0 - TAIL), end(TAIL)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn smoothing_keeps_a_level_spectrum_and_its_power() {
        assert!(smoothed(&[2.0; 500], 1.0 / 3.0).iter().all(|power| (power - 2.0).abs() < 1e-12));
        let mut line = vec![0.0; 1000];
        line[300] = 1.0;
        let curve = smoothed(&line, 1.0 / 3.0);
        // 300·(2^(1/6) − 2^(−1/6)) bins share the one.
        assert!((1.0 / curve[300] - 69.46).abs() < 0.01, "{}", 1.0 / curve[300]);
        assert!(curve[260] == 0.0 && curve[340] == 0.0 && curve[330] > 0.0);
    }

    #[test]
    fn intervals_are_those_of_the_table() {
        // χ² of 10 degrees of freedom: 3.247 and 20.483.
        let (low, high) = chi_squared(10.0).expect("known");
        assert!((low - 10.0 / 20.483).abs() < 1e-4 && (high - 10.0 / 3.247).abs() < 1e-3);
        let (low, high) = chi_squared(201.0).expect("known");
        let exact = ChiSquared::new(201.0).expect("known");
        assert!((low * exact.inverse_cdf(0.975) / 201.0 - 1.0).abs() < 1e-4);
        assert!((high * exact.inverse_cdf(0.025) / 201.0 - 1.0).abs() < 1e-4);
    }
}
