//! Peaks of an averaged spectrum: found against the local noise floor, refined on the known shape
//! of the window's main lobe.

use super::floor::noise_threshold;
use crate::frame::FramePlan;
use crate::measured::Measured;
use crate::units::db_from_power;
use crate::window::Window;
use realfft::num_complex::Complex;
use std::f64::consts::TAU;

/// A complex number.
type C = Complex<f64>;

/// A peak as the averaged spectrum shows it.
#[derive(Debug, Clone)]
pub(crate) struct WindowedPeak {
    /// Frequency in Hz.
    pub(crate) frequency_hz: f64,
    /// Amplitude re full scale: root of the power averaged over the frames.
    pub(crate) amplitude: f64,
    /// Height above the higher of the two valleys that part it from higher peaks, in dB.
    pub(crate) prominence_db: f64,
    /// Width at −6 dB over that of a single steady tone in the same place; `None` where a
    /// neighbour or the noise comes in between.
    pub(crate) width_ratio: Option<f64>,
    /// What noise does to the two.
    noise: NoiseGain,
}

/// How the noise of each frame moves a peak, and how much of it frames share.
#[derive(Debug, Clone)]
struct NoiseGain {
    frames: u64,
    /// Variance of the frequency, in Hz², from two frames 0, 1, 2, … hops apart.
    frequency: Vec<f64>,
    /// Likewise for the natural logarithm of the amplitude.
    level: Vec<f64>,
}

impl NoiseGain {
    /// Standard uncertainties of frequency and ln amplitude when the tone has the amplitudes
    /// `profile` over the span (any scale, any number of values): frames in which it is weak
    /// add noise but little else.
    fn uncertainties(&self, profile: &[f64]) -> (f64, f64) {
        // Thousands of frames give the same as the first few hundred, but for their number.
        const MOST_FRAMES: u64 = 1024;
        let frames = self.frames.min(MOST_FRAMES) as usize;
        let in_frame = |frame: usize| {
            let place = (frame as f64 + 0.5) / frames as f64 * profile.len() as f64;
            profile.get(place as usize).copied().unwrap_or(1.0)
        };
        let amplitudes: Vec<f64> = (0..frames).map(in_frame).collect();
        let power: f64 = amplitudes.iter().map(|a| a * a).sum();
        let variance = |gains: &[f64]| {
            let pairs = gains.iter().enumerate().map(|(lag, gain)| {
                let both = if lag == 0 { 1.0 } else { 2.0 };
                let later = amplitudes.iter().skip(lag);
                both * gain * amplitudes.iter().zip(later).map(|(a, b)| a * b).sum::<f64>()
            });
            // Of power, not of amplitude: each frame weighs by its power over the mean power.
            (pairs.sum::<f64>() / (power * self.frames as f64)).max(0.0).sqrt()
        };
        (variance(&self.frequency), variance(&self.level))
    }
}

impl WindowedPeak {
    /// Frequency in Hz and amplitude with their uncertainties, for a tone whose amplitude over the
    /// span follows `profile`; empty for a steady one.
    pub(crate) fn measured(&self, profile: &[f64]) -> (Measured, Measured) {
        let (frequency_u, level_u) = self.noise.uncertainties(profile);
        (
            Measured::new(self.frequency_hz, frequency_u),
            Measured::new(self.amplitude, self.amplitude * level_u),
        )
    }
}

/// What the search needs to know about the averaged spectrum.
pub(crate) struct PeakSearch<'a> {
    pub(crate) plan: &'a FramePlan,
    pub(crate) sample_rate_hz: f64,
    /// Mean power in each bin, a sine of amplitude A reading A².
    pub(crate) power: &'a [f64],
    /// Noise floor, likewise.
    pub(crate) floor: &'a [f64],
    pub(crate) frames: u64,
    pub(crate) independent_frames: f64,
    /// Probability that noise alone puts one peak into the whole spectrum.
    pub(crate) false_alarm: f64,
}

/// What the side lobes of stronger tones are taken to add to the noise, as a multiple of their
/// power: those of two tones can meet in one bin.
const SIDE_LOBE_MARGIN: f64 = 4.0;
/// Weaker than the strongest peak by more than this, as a power ratio (−140 dB), is rounding.
const SMALLEST_RATIO: f64 = 1e-14;
/// Averages of overlapping frames have a somewhat longer tail than the distribution that is
/// assumed: by so much more often does noise exceed a threshold.
const TAIL_MARGIN: f64 = 2.0;
/// Tones that decay or glide have skirts that no side lobe explains, uneven by chance: within so
/// many bins of a tone so much stronger, a weak one must rise so far above its surroundings.
const SKIRT_BINS: f64 = 24.0;
const SKIRT_RATIO: f64 = 1e4;
const SKIRT_PROMINENCE_DB: f64 = 6.0;
/// Points of the main lobe that take part in the fit: those above −9 dB.
const FIT_DEPTH: f64 = 0.125;

impl PeakSearch<'_> {
    /// All peaks, the strongest first.
    pub(crate) fn run(&self) -> Vec<WindowedPeak> {
        let pad = self.plan.transform_size as f64 / self.plan.segment() as f64;
        let window = &self.plan.window;
        // A finer curve finds the maxima between the bins, too.
        let independent_bins = self.power.len() as f64 / pad * pad.min(2.0);
        let false_alarm = self.false_alarm / (independent_bins * TAIL_MARGIN);
        let threshold = noise_threshold(self.independent_frames, false_alarm);
        let mut tops = self.tops(pad);
        tops.sort_by(|a, b| self.power[*b].total_cmp(&self.power[*a]).then(a.cmp(b)));
        let mut peaks = Vec::new();
        let mut accepted: Vec<usize> = Vec::new();
        for k in tops {
            let power = self.power[k];
            let strongest = accepted.first().map_or(0.0, |first| self.power[*first]);
            if power < SMALLEST_RATIO * strongest {
                break;
            }
            let lobe_power =
                |distance: usize| window.side_lobe_beyond(distance as f64 / pad).powi(2);
            // What stands at 0 Hz, on one side only, has lobes like any tone.
            let of_mean = 4.0 * self.power[0] * lobe_power(k);
            let of_tones: f64 = accepted
                .iter()
                .map(|other| self.power[*other] * lobe_power(k.abs_diff(*other)))
                .sum();
            let leaked = of_mean + of_tones;
            let in_a_skirt = || {
                let reach = (SKIRT_BINS * pad) as usize;
                let strong = |other: &usize| {
                    k.abs_diff(*other) < reach && self.power[*other] > SKIRT_RATIO * power
                };
                accepted.iter().any(strong) && self.prominence_db(k) < SKIRT_PROMINENCE_DB
            };
            if power > threshold * (self.floor[k] + SIDE_LOBE_MARGIN * leaked) && !in_a_skirt() {
                accepted.push(k);
                peaks.push(self.refine(k, pad));
            }
        }
        peaks
    }

    /// Local maxima that lead their surroundings of half the resolution to either side, clear of
    /// 0 Hz and of the Nyquist frequency, where the two sides of the spectrum run together.
    fn tops(&self, pad: f64) -> Vec<usize> {
        let window = &self.plan.window;
        let margin = (window.kind().main_lobe_half_bins() * pad).ceil() as usize;
        let reach = ((0.5 * window.figures().width_6db_bins * pad) as usize).max(1);
        let end = self.power.len().saturating_sub(margin);
        (margin..end)
            .filter(|&k| {
                let top = self.power[k];
                let first = k.saturating_sub(reach);
                let last = (k + reach).min(self.power.len() - 1);
                top > 0.0
                    && self.power[first..k].iter().all(|p| *p < top)
                    && self.power[k + 1..=last].iter().all(|p| *p <= top)
            })
            .collect()
    }

    /// Least-squares fit of the window's main lobe to the logarithm of the power around bin `k`:
    ///
    /// ln P_k = ln P₀ + 2 ln |W(δ_k − δ)|, weighted by P, since noise moves ln P by 1/P.
    ///
    /// Exact for a single tone without noise, whatever the window.
    fn refine(&self, k: usize, pad: f64) -> WindowedPeak {
        let window = &self.plan.window;
        let points = self.lobe_points(k, pad);
        let mut fit = LobeFit::default();
        for _ in 0..12 {
            fit = fit.improved(&points, window);
            if fit.step.abs() < 1e-13 {
                break;
            }
        }
        let power = self.power[k] * fit.log_level.exp();
        let noise_to_signal = self.floor[k] / power;
        let spacing_hz = self.plan.bin_spacing_hz(self.sample_rate_hz);
        WindowedPeak {
            frequency_hz: (k as f64 + fit.offset * pad) * spacing_hz,
            amplitude: power.sqrt(),
            prominence_db: self.prominence_db(k),
            width_ratio: self.width_ratio(k, pad, &fit),
            noise: self.noise_gain(&fit, noise_to_signal, points.len() as f64 - 2.0),
        }
    }

    fn prominence_db(&self, k: usize) -> f64 {
        let top = self.power[k];
        let valley = |bins: &mut dyn Iterator<Item = usize>| {
            bins.map(|bin| self.power[bin]).take_while(|p| *p <= top).fold(top, f64::min)
        };
        let valleys =
            [valley(&mut (0..k).rev()), valley(&mut (k + 1..self.power.len()))].map(db_from_power);
        // Digital silence has no level to be measured from.
        db_from_power(top) - valleys[0].max(valleys[1]).max(db_from_power(top) - 200.0)
    }

    /// Width at −6 dB over that of the window's lobe, both read on straight lines between the
    /// levels of the bins, so that a single tone gives 1 wherever it lies between bins.
    fn width_ratio(&self, k: usize, pad: f64, fit: &LobeFit) -> Option<f64> {
        // Where the flanks are less than 14 dB above the noise, its width is that of chance.
        const LEAST_RATIO: f64 = 100.0;
        if self.power[k] < LEAST_RATIO * self.floor[k] {
            return None;
        }
        let window = &self.plan.window;
        let lobe = |bin: usize| {
            let x = (bin as f64 - k as f64) / pad - fit.offset;
            window.response(x).powi(2)
        };
        let reach = (4.0 * window.kind().main_lobe_half_bins() * pad).ceil() as usize;
        let crossing = |power: &dyn Fn(usize) -> f64, step: isize| -> Option<f64> {
            let limit = 0.25 * power(k);
            let mut last = power(k);
            for distance in 1..=reach {
                let bin = k.checked_add_signed(step * distance as isize)?;
                if bin >= self.power.len() {
                    return None;
                }
                let now = power(bin);
                if now <= limit {
                    let share = (limit / last).ln() / (now.max(1e-300) / last).ln();
                    return Some(distance as f64 - 1.0 + share);
                }
                last = now;
            }
            None
        };
        let measured = |bin: usize| self.power[bin];
        let width = crossing(&measured, -1)? + crossing(&measured, 1)?;
        Some(width / (crossing(&lobe, -1)? + crossing(&lobe, 1)?))
    }

    /// Offset from bin `k` in bins of 1/L and power re bin `k` of the points of its lobe: downhill
    /// from the top, so that a stronger neighbour's slope stays out.
    fn lobe_points(&self, k: usize, pad: f64) -> Vec<(f64, f64)> {
        let reach = (self.plan.window.kind().main_lobe_half_bins() * pad) as usize;
        let downhill = |bins: &mut dyn Iterator<Item = usize>| -> Vec<usize> {
            let mut last = self.power[k];
            bins.take(reach)
                .take_while(|bin| {
                    let falls = self.power[*bin] <= last;
                    last = self.power[*bin];
                    falls && last > FIT_DEPTH * self.power[k]
                })
                .collect()
        };
        let below = downhill(&mut (0..k).rev());
        let above = downhill(&mut (k + 1..self.power.len()));
        below
            .into_iter()
            .rev()
            .chain([k])
            .chain(above)
            .map(|bin| ((bin as f64 - k as f64) / pad, self.power[bin] / self.power[k]))
            .collect()
    }

    /// Propagates white noise through the fit.
    ///
    /// Noise moves ln P_k by 2 Re N_k/S_k, and with it the fit by Σ c_k·2 Re N_k/S_k, where c are
    /// the fit's coefficients. In the time of a frame this is the noise weighted with
    /// w\[t\]·Σ (c_k / W_k)·exp(−j2πx_k t/L), so that the covariance of two frames follows from the
    /// overlap of their weights. Where the lobe does not fit (a gliding tone, or two in one) the
    /// result is widened by the Birge ratio.
    fn noise_gain(&self, fit: &LobeFit, noise_to_signal: f64, freedom: f64) -> NoiseGain {
        let window = &self.plan.window;
        let shape = window.shape();
        let length = shape.len() as f64;
        let (frames, hop) = window.distinct_frames(self.frames, self.plan.hop);
        let hop = ((hop as f64 * length / self.plan.segment() as f64) as usize).max(1);
        let lags = shape.len().div_ceil(hop).min(frames as usize);
        let energy: f64 = shape.iter().map(|w| w * w).sum();
        let expected_misfit = 2.0 * noise_to_signal / self.independent_frames;
        // With the two or three degrees of freedom of a main lobe, noise alone reaches 2 or 3.
        let misfit = fit.misfit / (freedom.max(1.0) * expected_misfit);
        let birge = if misfit > 4.0 { misfit } else { 1.0 };
        let covariances = |coefficient: fn(&LobePoint) -> f64, unit: f64| -> Vec<f64> {
            let mut weights = vec![C::default(); shape.len()];
            for point in &fit.points {
                // Turned from sample to sample: over a few thousand the error stays near 1e-13.
                let mut turning =
                    C::from_polar(coefficient(point) / point.response, -0.5 * TAU * point.offset);
                let step = C::cis(TAU * point.offset / length);
                for weight in &mut weights {
                    *weight += turning;
                    turning *= step;
                }
            }
            weights.iter_mut().zip(shape).for_each(|(weight, w)| *weight *= *w);
            (0..lags)
                .map(|lag| {
                    let later = weights.iter().skip(lag * hop);
                    let shared: f64 =
                        weights.iter().zip(later).map(|(a, b)| a.re * b.re + a.im * b.im).sum();
                    2.0 * noise_to_signal * birge * unit * unit * shared / energy
                })
                .collect()
        };
        let bin_hz = self.sample_rate_hz / self.plan.segment() as f64;
        let mut frequency = covariances(|point| point.to_offset, bin_hz);
        if !fit.tilted {
            // All that is known is the bin: a rectangular distribution one bin wide.
            frequency[0] += bin_hz * bin_hz / 12.0 * frames as f64;
        }
        NoiseGain { frames, frequency, level: covariances(|point| point.to_level, 0.5) }
    }
}

/// State of the fit of a main lobe.
#[derive(Debug, Default)]
struct LobeFit {
    /// Middle of the lobe from bin k, in bins of 1/L.
    offset: f64,
    /// ln P₀ / P_k.
    log_level: f64,
    /// Last change of the offset.
    step: f64,
    /// Weighted sum of squared residuals of ln P.
    misfit: f64,
    /// Whether the points say anything of the offset; a lone one, as of a rectangular window right
    /// on a bin, does not.
    tilted: bool,
    points: Vec<LobePoint>,
}

/// One point of the lobe in a fit.
#[derive(Debug)]
struct LobePoint {
    /// From the middle of the lobe, in bins.
    offset: f64,
    /// W there, re the middle.
    response: f64,
    /// How much the offset and ln P₀ move with ln P at this point.
    to_offset: f64,
    to_level: f64,
}

/// One point of the lobe: its weight, what is left of ln P, how ln P moves with the offset, and W there
/// re the middle.
struct LobeRow {
    weight: f64,
    residual: f64,
    slope: f64,
    response: f64,
}

impl LobeFit {
    /// One Gauss–Newton step on `points` of (offset from bin k, power re bin k).
    fn improved(&self, points: &[(f64, f64)], window: &Window) -> Self {
        /// In bins; the error of the central difference is its square.
        const STEP: f64 = 1e-3;
        let log = |response: f64| 2.0 * response.abs().max(1e-12).ln();
        let log_shape = |x: f64| log(window.response(x));
        let rows: Vec<LobeRow> = points
            .iter()
            .map(|(position, power)| {
                let x = position - self.offset;
                let slope = (log_shape(x - STEP) - log_shape(x + STEP)) / (2.0 * STEP);
                let response = window.response(x);
                let residual = power.ln() - self.log_level - log(response);
                LobeRow { weight: *power, residual, slope, response }
            })
            .collect();
        let sum = |term: fn(&LobeRow) -> f64| rows.iter().map(term).sum::<f64>();
        let w = sum(|row| row.weight);
        let wd = sum(|row| row.weight * row.slope);
        let wdd = sum(|row| row.weight * row.slope * row.slope);
        let determinant = w * wdd - wd * wd;
        let tilted = points.len() > 1 && determinant > 1e-9 * w * w;
        let to_offset = |row: &LobeRow| {
            if tilted { row.weight * (w * row.slope - wd) / determinant } else { 0.0 }
        };
        let to_level = |row: &LobeRow| {
            let tilt = if tilted { (wdd - wd * row.slope) / determinant } else { 1.0 / w };
            row.weight * tilt
        };
        let step: f64 = rows.iter().map(|row| to_offset(row) * row.residual).sum();
        let step = step.clamp(-0.25, 0.25);
        let rise: f64 = rows.iter().map(|row| to_level(row) * row.residual).sum();
        Self {
            offset: (self.offset + step).clamp(-1.0, 1.0),
            log_level: self.log_level + rise,
            step,
            tilted,
            misfit: sum(|row| row.weight * row.residual * row.residual),
            points: rows
                .iter()
                .zip(points)
                .map(|(row, (position, _))| LobePoint {
                    offset: position - self.offset,
                    response: row.response,
                    to_offset: to_offset(row),
                    to_level: to_level(row),
                })
                .collect(),
        }
    }
}
