//! Whether the stretches of a span have the same spectrum, as an average takes for granted.
//!
//! The frames are gathered into up to 16 stretches of equal length. In third octaves the power of
//! each stretch is compared with that of all. Noise of power F beside steady tones of power S gives
//! the power of one bin in one frame the variance (S + F)² − S²; the sum over a band and the mean
//! over frames divide it by the number of independent bins and frames. What lies outside the range
//! that a gamma distribution of that mean and variance leaves once in a thousand spans has drifted.

use std::ops::Range;

use statrs::distribution::{ContinuousCDF, Gamma};

use super::floor::varying_share;
use crate::frame::FramePlan;
use crate::units::db_from_power;

/// A course that can be read from a sentence.
const MOST_STRETCHES: u64 = 16;
/// Chance of a false alarm over all bands and stretches.
const FALSE_ALARM: f64 = 1e-3;
/// Changes below this, in dB, are not reported.
const SMALLEST_CHANGE_DB: f64 = 1.0;
/// A sound of which the whole changes by this, in dB, is heard to begin or to die away.
const PLAIN_CHANGE_DB: f64 = 6.0;
const LOWEST_BAND_HZ: f64 = 20.0;

/// Band powers of the stretches, for every second frame.
#[derive(Clone)]
pub(crate) struct Stretches {
    /// First bin of each band, and the end of the last.
    edges: Vec<usize>,
    frames: u64,
    count: u64,
    next_frame: u64,
    /// For each stretch that has ended, the band sums of all frames so far.
    ends: Vec<Vec<f64>>,
}

/// A band in which the stretches disagree.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Drift {
    pub(crate) low_hz: f64,
    pub(crate) high_hz: f64,
    /// From the weakest to the strongest stretch.
    pub(crate) change_db: f64,
    /// Where the band is strongest and weakest, as a share of the span.
    pub(crate) strongest_at: f64,
    pub(crate) weakest_at: f64,
    /// Whether the sound as a whole is heard to come and go.
    pub(crate) is_plain: bool,
}

impl Stretches {
    /// For the frames `first`, `first` + 2, … of `frames` in all.
    pub(crate) fn new(plan: &FramePlan, sample_rate_hz: f64, frames: u64, first: u64) -> Self {
        let spacing = plan.bin_spacing_hz(sample_rate_hz);
        let pad = plan.transform_size as f64 / plan.segment() as f64;
        let bins = plan.transform_size / 2;
        let clear_of_dc = (plan.window.kind().main_lobe_half_bins() * pad).ceil() as usize + 1;
        let mut edges = vec![clear_of_dc.max((LOWEST_BAND_HZ / spacing) as usize)];
        let step = 2f64.powf(1.0 / 3.0);
        while let Some(last) = edges.last().copied().filter(|last| *last < bins) {
            let next = ((last as f64 * step) as usize).max(last + 2 * clear_of_dc);
            edges.push(next.min(bins));
        }
        let count = (frames / 2).min(MOST_STRETCHES);
        Self { edges, frames, count, next_frame: first, ends: Vec::new() }
    }

    /// To be given after each frame the sum over all frames.
    pub(crate) fn after_frame(&mut self, sum: &[f64]) {
        let stretch = |frame: u64| frame * self.count / self.frames.max(1);
        let now = stretch(self.next_frame);
        self.next_frame += 2;
        if stretch(self.next_frame) != now {
            self.ends.push(
                self.edges.windows(2).map(|edge| sum[edge[0]..edge[1]].iter().sum()).collect(),
            );
        }
    }

    /// Where the stretches disagree, in the band that is strongest of those; `power` and `floor`
    /// are the averaged spectrum and its noise floor.
    pub(crate) fn drift(
        &self,
        other: &Self,
        plan: &FramePlan,
        spacing_hz: f64,
        power: &[f64],
        floor: &[f64],
    ) -> Option<Drift> {
        let stretches = self.ends.len().min(other.ends.len());
        if stretches < 2 {
            return None;
        }
        let frames_each = self.frames as f64 / self.count as f64;
        let independent = plan.window.independent_frames(frames_each as u64, plan.hop).max(1.0);
        let pad = plan.transform_size as f64 / plan.segment() as f64;
        let bins_per_independent = plan.window.figures().noise_bandwidth_bins * pad;
        let tests = (self.edges.len() - 1) * stretches;
        let tail = FALSE_ALARM / 2.0 / tests as f64;
        let is_plain = comes_and_goes(&self.levels(other, 0..self.edges.len() - 1, stretches));
        let mut strongest: Option<(f64, Drift)> = None;
        for (band, edge) in self.edges.windows(2).enumerate() {
            let bins = edge[0]..edge[1];
            let total: f64 = power[bins.clone()].iter().sum();
            let variance: f64 = bins
                .clone()
                .map(|k| power[k] * power[k] * varying_share(power[k], floor[k]))
                .sum::<f64>()
                * bins_per_independent
                / independent;
            let levels = self.levels(other, band..band + 1, stretches);
            let Some((low, high)) = usual_range(total * total / variance, tail) else { continue };
            let (least_at, least) = extreme(&levels, |a, b| a < b);
            let (most_at, most) = extreme(&levels, |a, b| a > b);
            let change_db = change_db(least, most);
            if (least < low || most > high)
                && change_db > SMALLEST_CHANGE_DB
                && strongest.is_none_or(|(power, _)| total > power)
            {
                let place = |n: usize| (n as f64 + 0.5) / stretches as f64;
                let drift = Drift {
                    low_hz: edge[0] as f64 * spacing_hz,
                    high_hz: edge[1] as f64 * spacing_hz,
                    change_db,
                    strongest_at: place(most_at),
                    weakest_at: place(least_at),
                    is_plain,
                };
                strongest = Some((total, drift));
            }
        }
        strongest.map(|(_, drift)| drift)
    }

    /// Power of bands in each stretch, re the mean of all.
    fn levels(&self, other: &Self, bands: Range<usize>, stretches: usize) -> Vec<f64> {
        let until = |n: usize| {
            let both = self.ends[n][bands.clone()].iter().chain(&other.ends[n][bands.clone()]);
            both.sum::<f64>()
        };
        let mut before = 0.0;
        let mut levels: Vec<f64> = (0..stretches)
            .map(|n| {
                let sum = until(n) - before;
                before = until(n);
                sum / self.frames_in(n)
            })
            .collect();
        let mean = levels.iter().sum::<f64>() / stretches as f64;
        for level in &mut levels {
            *level /= mean.max(f64::MIN_POSITIVE);
        }
        levels
    }

    fn frames_in(&self, stretch: usize) -> f64 {
        let first = |n: u64| (n * self.frames).div_ceil(self.count);
        (first(stretch as u64 + 1) - first(stretch as u64)) as f64
    }
}

/// Range around 1 that a gamma variable of mean 1 leaves with the probability `tail` on each side.
fn usual_range(shape: f64, tail: f64) -> Option<(f64, f64)> {
    if !shape.is_finite() {
        return None;
    }
    // Far above, the distribution is normal, and the search for its quantiles slow.
    if shape > 1e4 {
        let reach = 6.0 / shape.sqrt();
        return Some((1.0 - reach, 1.0 + reach));
    }
    let gamma = Gamma::new(shape, shape).ok()?;
    Some((gamma.inverse_cdf(tail), gamma.inverse_cdf(1.0 - tail)))
}

/// Whether levels rise to a maximum and fall from it, by as much as is heard, and do not waver.
fn comes_and_goes(levels: &[f64]) -> bool {
    /// A fall that is no rise, as a ratio of powers: 1.5 dB.
    const WAVERS: f64 = 1.4;
    let (top, most) = extreme(levels, |a, b| a > b);
    let (_, least) = extreme(levels, |a, b| a < b);
    let mut lowest = [most; 2];
    let is_fall = |(n, level): (usize, &f64)| {
        let lowest = &mut lowest[usize::from(n < top)];
        *lowest = lowest.min(*level);
        *level <= WAVERS * *lowest
    };
    let outwards = (top..levels.len()).chain((0..top).rev()).map(|n| (n, &levels[n]));
    change_db(least, most) > PLAIN_CHANGE_DB && outwards.into_iter().all(is_fall)
}

fn change_db(least: f64, most: f64) -> f64 {
    db_from_power(most / least.max(1e-30))
}

/// The first of the values that is beyond all others, and where.
fn extreme(values: &[f64], beyond: fn(f64, f64) -> bool) -> (usize, f64) {
    let mut best = (0, values[0]);
    for (n, value) in values.iter().enumerate() {
        if beyond(*value, best.1) {
            best = (n, *value);
        }
    }
    best
}
