//! Averages of windowed power spectra over the frames of a span (P. D. Welch, IEEE Trans. Audio
//! Electroacoust. 15, 1967).

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};
use statrs::distribution::{ContinuousCDF, Gamma};

use super::drift::Stretches;
use crate::error::Error;
use crate::frame::{FramePlan, Framer};
use crate::transform::RealTransform;
use crate::units::Seconds;
use crate::window::Window;

/// How the spectra of the frames become one.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum Averaging {
    /// Mean of the power.
    #[default]
    Mean,
    /// Median of the power, which clicks and knocks in less than half of the frames do not move.
    /// Times the ratio of mean to median of a gamma distribution that is as wide, so that noise
    /// reads its mean power and a steady tone its own.
    Median,
    /// Greatest power of any frame.
    Maximum,
    /// Exponential average with this time constant in seconds: the end of the span weighs most.
    Exponential {
        /// Time constant in seconds.
        time_s: f64,
    },
}

impl Averaging {
    pub(crate) fn check(self) -> Result<(), Error> {
        match self {
            Self::Exponential { time_s } if !(1e-3..=1e6).contains(&time_s) => {
                Err(Error::Setting {
                    setting: "the time constant of the average",
                    given: format!("{time_s} s"),
                    allowed: "1 ms or more".into(),
                })
            }
            _ => Ok(()),
        }
    }
}

impl FromStr for Averaging {
    type Err = Error;

    /// Reads `mean`, `median`, `maximum`, or `exponential:2s` with its time constant.
    fn from_str(text: &str) -> Result<Self, Error> {
        match text.split_once(':') {
            None if text == "mean" => Ok(Self::Mean),
            None if text == "median" => Ok(Self::Median),
            None if text == "maximum" => Ok(Self::Maximum),
            Some(("exponential", time)) => {
                Ok(Self::Exponential { time_s: time.parse::<Seconds>()?.0 })
            }
            _ => Err(Error::Unreadable {
                given: text.into(),
                wanted: "an average",
                forms: "mean, median, maximum or exponential:2s",
            }),
        }
    }
}

impl fmt::Display for Averaging {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mean => f.write_str("mean"),
            Self::Median => f.write_str("median"),
            Self::Maximum => f.write_str("maximum"),
            Self::Exponential { time_s } => write!(f, "exponential:{time_s}s"),
        }
    }
}

impl Serialize for Averaging {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What is taken from each frame before it is windowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Detrend {
    /// Nothing.
    #[default]
    None,
    /// Its mean.
    Mean,
    /// The straight line that fits it best.
    Line,
}

impl Detrend {
    fn apply(self, frame: &mut [f64]) {
        let count = frame.len() as f64;
        let mean = frame.iter().sum::<f64>() / count;
        let middle = (count - 1.0) / 2.0;
        let slope = match self {
            Self::None => return,
            Self::Mean => 0.0,
            Self::Line => {
                let along: f64 =
                    frame.iter().enumerate().map(|(n, x)| (n as f64 - middle) * x).sum();
                along * 12.0 / (count * (count * count - 1.0))
            }
        };
        for (n, x) in frame.iter_mut().enumerate() {
            *x -= mean + slope * (n as f64 - middle);
        }
    }
}

/// Room for the spectra that a median is taken of, in values over both halves: 32 MB.
const MEDIAN_VALUES: u64 = 8 << 20;
/// What the median of exponentially distributed powers is worth in frames, against their mean:
/// its relative variance is 1/(n ln²2).
const MEDIAN_WORTH: f64 = 0.480_453_013_918_201_4;

/// Averages the spectra of every second frame of a stream.
#[derive(Clone)]
pub(crate) struct Averager {
    window: Vec<f64>,
    framer: Framer,
    detrend: Detrend,
    transform: RealTransform,
    input: Vec<f64>,
    /// Sum over frames of |X|², not scaled.
    sum: Vec<f64>,
    frames: u64,
    kept: Kept,
    pub(crate) stretches: Stretches,
}

/// What is kept of the frames beside their sum.
#[derive(Clone)]
enum Kept {
    Nothing,
    Greatest(Vec<f64>),
    /// Sum over every second frame that fades: `keep` is what is left of it after one hop.
    Fading {
        keep: f64,
        sum: Vec<f64>,
    },
    /// Mean power in groups of `frames` frames, each group a spectrum.
    Groups {
        frames: u64,
        current: Vec<f64>,
        in_current: u64,
        groups: Vec<f32>,
    },
}

/// An averaged spectrum: in each bin the square of the amplitude that a sine there would have.
pub(crate) struct Averaged {
    /// Mean power, or the median if that was asked for: what tones are looked for in.
    pub(crate) mean: Vec<f64>,
    /// The average that was asked for, if it is another.
    pub(crate) asked: Option<Vec<f64>>,
    pub(crate) frames: u64,
    /// Number of independent frames that `mean` is worth.
    pub(crate) independent_frames: f64,
    /// The same for what was asked for; `None` for the maximum, of which it says nothing.
    pub(crate) asked_independent_frames: Option<f64>,
    /// Frames in each group that the median was taken of.
    pub(crate) group_frames: u64,
}

impl Averager {
    /// Takes the frames 0, 2, 4, … if `first` is 0, the frames 1, 3, 5, … if it is 1, of `frames`
    /// in all.
    pub(crate) fn new(
        plan: &FramePlan,
        averaging: Averaging,
        detrend: Detrend,
        sample_rate_hz: f64,
        frames: u64,
        first: usize,
    ) -> Self {
        let transform = RealTransform::new(plan.transform_size);
        let bins = plan.transform_size / 2 + 1;
        let kept = match averaging {
            Averaging::Mean => Kept::Nothing,
            Averaging::Maximum => Kept::Greatest(vec![0.0; bins]),
            Averaging::Exponential { time_s } => {
                Kept::Fading { keep: keep(plan, time_s, sample_rate_hz), sum: vec![0.0; bins] }
            }
            Averaging::Median => Kept::Groups {
                frames: group_frames(frames, bins),
                current: vec![0.0; bins],
                in_current: 0,
                groups: Vec::new(),
            },
        };
        Self {
            window: plan.window.samples().to_vec(),
            framer: Framer::new(plan.segment(), 2 * plan.hop, first * plan.hop),
            detrend,
            input: vec![0.0; plan.transform_size],
            sum: vec![0.0; bins],
            transform,
            frames: 0,
            kept,
            stretches: Stretches::new(plan, sample_rate_hz, frames, first as u64),
        }
    }

    pub(crate) fn push(&mut self, samples: &[f32]) {
        let Self { window, framer, detrend, transform, input, sum, frames, kept, stretches } = self;
        framer.push(samples, |frame| {
            let (windowed, padding) = input.split_at_mut(window.len());
            if *detrend == Detrend::None {
                for ((value, sample), weight) in windowed.iter_mut().zip(frame).zip(&*window) {
                    *value = f64::from(*sample) * weight;
                }
            } else {
                windowed.iter_mut().zip(frame).for_each(|(value, x)| *value = f64::from(*x));
                detrend.apply(windowed);
                windowed.iter_mut().zip(&*window).for_each(|(value, weight)| *value *= weight);
            }
            padding.fill(0.0);
            let spectrum = transform.forward(input);
            for (sum, bin) in sum.iter_mut().zip(spectrum) {
                *sum += bin.norm_sqr();
            }
            kept.add(spectrum.iter().map(realfft::num_complex::Complex::norm_sqr));
            *frames += 1;
            stretches.after_frame(sum);
        });
    }

    /// The average over the frames of both halves. `self` holds the even ones.
    pub(crate) fn finish(mut self, mut other: Self, plan: &FramePlan) -> Averaged {
        let frames = self.frames + other.frames;
        let gain: f64 = self.window.iter().sum();
        let scale = 1.0 / (gain * gain);
        let last = self.sum.len() - 1;
        let even = self.transform.length().is_multiple_of(2);
        // A real tone has half its amplitude at +f and half at −f, except where both are one.
        let one_sided = |k: usize| scale * if k == 0 || (k == last && even) { 1.0 } else { 4.0 };
        let mut mean = self.sum;
        let per_frame = 1.0 / frames.max(1) as f64;
        for (k, (power, others)) in mean.iter_mut().zip(&other.sum).enumerate() {
            *power = (*power + others) * per_frame * one_sided(k);
        }
        let window = &plan.window;
        let independent_frames = window.independent_frames(frames, plan.hop);
        let mut averaged = Averaged {
            mean,
            asked: None,
            frames,
            independent_frames,
            asked_independent_frames: Some(independent_frames),
            group_frames: 1,
        };
        let asked = match (&mut self.kept, &mut other.kept) {
            (Kept::Greatest(own), Kept::Greatest(others)) => {
                averaged.asked_independent_frames = None;
                own.iter().zip(others).map(|(a, b)| a.max(*b)).collect()
            }
            (Kept::Fading { keep, sum }, Kept::Fading { sum: others, .. }) => {
                averaged.asked_independent_frames =
                    Some(fading_frames(*keep, frames, window, plan.hop));
                // Of the two halves the one with the last frame is newer by one frame.
                let (newer, older) = if frames % 2 == 1 { (sum, others) } else { (others, sum) };
                // Frames before the first do not count: the weights of the others add up to this.
                let weight = 1.0 - keep.powf(frames as f64);
                let share = (1.0 - *keep) / weight.max(f64::MIN_POSITIVE);
                newer.iter().zip(older.iter()).map(|(a, b)| share * (a + *keep * b)).collect()
            }
            (own @ Kept::Groups { .. }, others @ Kept::Groups { .. }) => {
                own.close_group();
                others.close_group();
                let (Kept::Groups { frames: each, groups, .. }, Kept::Groups { groups: rest, .. }) =
                    (own, others)
                else {
                    return averaged;
                };
                averaged.group_frames = *each;
                groups.append(rest);
                let bins = averaged.mean.len();
                let shape = window.independent_frames(*each, 2 * plan.hop);
                let mut median = medians(groups, bins, shape, independent_frames / shape);
                median.iter_mut().enumerate().for_each(|(k, power)| *power *= one_sided(k));
                averaged.independent_frames = (independent_frames * MEDIAN_WORTH).max(1.0);
                averaged.asked_independent_frames = Some(averaged.independent_frames);
                averaged.mean = median;
                return averaged;
            }
            _ => return averaged,
        };
        let mut asked: Vec<f64> = asked;
        asked.iter_mut().enumerate().for_each(|(k, power)| *power *= one_sided(k));
        averaged.asked = Some(asked);
        averaged
    }
}

impl Kept {
    fn add(&mut self, powers: impl Iterator<Item = f64>) {
        match self {
            Self::Nothing => (),
            Self::Greatest(greatest) => {
                greatest.iter_mut().zip(powers).for_each(|(most, power)| *most = most.max(power));
            }
            Self::Fading { keep, sum } => {
                let keep = *keep * *keep;
                for (sum, power) in sum.iter_mut().zip(powers) {
                    *sum = keep * *sum + power;
                }
            }
            Self::Groups { frames, current, in_current, .. } => {
                current.iter_mut().zip(powers).for_each(|(sum, power)| *sum += power);
                *in_current += 1;
                if in_current == frames {
                    self.close_group();
                }
            }
        }
    }

    fn close_group(&mut self) {
        if let Self::Groups { current, in_current, groups, .. } = self
            && *in_current > 0
        {
            let share = 1.0 / *in_current as f64;
            groups.extend(current.iter().map(|sum| (sum * share) as f32));
            current.fill(0.0);
            *in_current = 0;
        }
    }
}

/// What is left of an exponential average after one hop.
fn keep(plan: &FramePlan, time_s: f64, sample_rate_hz: f64) -> f64 {
    (-(plan.hop as f64) / (time_s * sample_rate_hz)).exp()
}

/// Independent frames that an exponential average is worth: 1 / Σ_m ρ_m² Σ_a w_a·w_(a + m), over
/// both signs of the lag m, with the weights w_a = keep^a·(1 − keep)/(1 − keep^n) by age.
fn fading_frames(keep: f64, frames: u64, window: &Window, hop: usize) -> f64 {
    let w = window.samples();
    let power: f64 = w.iter().map(|w| w * w).sum();
    let n = frames as f64;
    let scale = (1.0 - keep) / (1.0 + keep) / (1.0 - keep.powf(n)).powi(2).max(f64::MIN_POSITIVE);
    let weight = |lag: f64| scale * keep.powf(lag) * (1.0 - keep.powf(2.0 * (n - lag)));
    let mut sum = weight(0.0);
    for (lag, offset) in
        (hop..w.len()).step_by(hop).enumerate().take((frames as usize).saturating_sub(1))
    {
        let rho = w.iter().zip(&w[offset..]).map(|(a, b)| a * b).sum::<f64>() / power;
        sum += 2.0 * weight(lag as f64 + 1.0) * rho * rho;
    }
    (1.0 / sum).max(1.0)
}

/// Frames of a half that make one group of a median, so that the groups fit into memory.
fn group_frames(frames: u64, bins: usize) -> u64 {
    let most_groups = (MEDIAN_VALUES / 2 / bins as u64).max(16);
    frames.div_ceil(2).div_ceil(most_groups).max(1)
}

/// Shares of the spread of noise down to which a bin is taken to hold noise alone, since quartiles
/// are known from a few frames only, and from which down its spread is taken as it is.
const NOISY_SPREAD: f64 = 0.6;
const STEADY_SPREAD: f64 = 0.3;

/// The median over the groups in each bin, times the ratio of mean to median of the gamma
/// distribution that has the same quartiles; noise has the shape `noise_shape`, steady tones an
/// infinite one. With fewer than eight groups quartiles mean little, and noise is assumed. The
/// groups are worth `independent` ones.
fn medians(groups: &[f32], bins: usize, noise_shape: f64, independent: f64) -> Vec<f64> {
    let count = groups.len() / bins;
    if count == 0 {
        return vec![0.0; bins];
    }
    let ratios = QuartileRatios::new(noise_shape, independent);
    let mut values = vec![0.0f32; count];
    (0..bins)
        .map(|k| {
            for (value, group) in values.iter_mut().zip(groups.chunks_exact(bins)) {
                *value = group[k];
            }
            values.sort_by(f32::total_cmp);
            let at = |share: f64| {
                let place = share * (count as f64 - 1.0);
                let (below, part) = (place.floor() as usize, place.fract());
                let above = (below + 1).min(count - 1);
                f64::from(values[below]) * (1.0 - part) + f64::from(values[above]) * part
            };
            let spread = if count < 8 { f64::INFINITY } else { (at(0.75) / at(0.25)).ln() };
            at(0.5) * ratios.mean_to_median(spread)
        })
        .collect()
}

/// Ratio of mean to median of gamma distributions by how far their quartiles lie apart.
struct QuartileRatios {
    /// ln (upper quartile / lower quartile) and mean / median, from wide to narrow.
    table: Vec<(f64, f64)>,
    /// What is left of mean / median − 1 for the median of few.
    of_few: f64,
}

impl QuartileRatios {
    /// From the shape of noise to forty times that; narrower ones are taken as steady.
    ///
    /// The median of n independent values of an exponential distribution is ln 2 + 1/(2n + 1.26) on
    /// average, to 0.3 %, rather than ln 2.
    fn new(noise_shape: f64, independent: f64) -> Self {
        /// Shapes grow by a sixth each; between them the table is read by a straight line.
        const STEPS: i32 = 24;
        let entry = |step: i32| {
            let shape = noise_shape * 40f64.powf(f64::from(step) / f64::from(STEPS));
            let gamma = Gamma::new(shape, shape).ok()?;
            let spread = (gamma.inverse_cdf(0.75) / gamma.inverse_cdf(0.25)).ln();
            Some((spread, 1.0 / gamma.inverse_cdf(0.5)))
        };
        let table: Vec<(f64, f64)> = (0..=STEPS).filter_map(entry).collect();
        let ln_2 = std::f64::consts::LN_2;
        let grown = 1.0 + 1.0 / (ln_2 * (2.0 * independent + 1.26));
        let of_noise = table.first().map_or(1.0, |(_, ratio)| *ratio);
        let of_few = ((of_noise / grown - 1.0) / (of_noise - 1.0).max(1e-9)).clamp(0.0, 1.0);
        Self { table, of_few }
    }

    fn mean_to_median(&self, spread: f64) -> f64 {
        let of_noise = self.table.first().map_or(1.0, |(spread, _)| *spread);
        let share = spread / of_noise;
        let beyond = (share - STEADY_SPREAD) / (NOISY_SPREAD - STEADY_SPREAD);
        let spread = of_noise
            * if share < STEADY_SPREAD {
                share
            } else {
                STEADY_SPREAD + (1.0 - STEADY_SPREAD) * beyond.min(1.0)
            };
        1.0 + (self.ratio(spread) - 1.0) * self.of_few
    }

    fn ratio(&self, spread: f64) -> f64 {
        let after = self.table.partition_point(|(wide, _)| *wide > spread);
        match (after.checked_sub(1).map(|n| self.table[n]), self.table.get(after)) {
            (Some((wide, more)), Some((narrow, less))) => {
                let share = (wide - spread) / (wide - narrow);
                more + share * (less - more)
            }
            (None, Some((_, most))) => *most,
            (Some((narrow, least)), None) => 1.0 + (least - 1.0) * (spread / narrow).powi(2),
            (None, None) => 1.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::white_noise;

    #[test]
    fn a_line_is_taken_out_whole() {
        let line: Vec<f64> = (0..100).map(|n| 3.0 - 0.2 * f64::from(n)).collect();
        let left = |detrend: Detrend| {
            let mut frame = line.clone();
            detrend.apply(&mut frame);
            frame.iter().map(|x| x.abs()).fold(0.0, f64::max)
        };
        assert!(left(Detrend::Line) < 1e-12);
        assert!((left(Detrend::Mean) - 9.9).abs() < 1e-12);
        assert!((left(Detrend::None) - 16.8).abs() < 1e-12);
    }

    /// Powers of noise of mean 1, or of a steady tone: the median reads both as they are.
    #[test]
    fn a_median_reads_noise_and_tones_alike() {
        let (bins, count) = (2000, 60);
        let (re, im) = (white_noise(1, 1.0, bins * count), white_noise(2, 1.0, bins * count));
        let noise: Vec<f32> =
            re.iter().zip(&im).map(|(a, b)| (0.5 * (a * a + b * b)) as f32).collect();
        let mean = medians(&noise, bins, 1.0, count as f64).iter().sum::<f64>() / bins as f64;
        assert!((mean - 1.0).abs() < 0.02, "{mean}");
        // 40 dB over that noise.
        let tone: Vec<f32> = re
            .iter()
            .zip(&im)
            .map(|(a, b)| {
                let scale = 0.5f64.sqrt() * 0.01;
                ((1.0 + scale * a).powi(2) + (scale * b).powi(2)) as f32
            })
            .collect();
        let mean = medians(&tone, bins, 1.0, count as f64).iter().sum::<f64>() / bins as f64;
        assert!((mean - 1.0).abs() < 0.002, "{mean}");
    }
}
