//! The strongest line in the spectrum of an envelope, also where it moves.

use std::f64::consts::TAU;
use std::sync::Arc;

use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};

use crate::transform::fast_length;

/// Steps to either side in which the slope of the rate is tried.
const SLOPES: i32 = 16;
/// One stretch of noise in so many shows a line.
const FALSE_ALARM: f64 = 0.001;

/// How noise is spread over the rates.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Noise {
    /// Evenly: that of an envelope.
    White,
    /// With their square: that of a frequency, whose phase has an even noise.
    Rising,
}

/// Looks for lines in stretches of one length.
pub(super) struct Search {
    window: Vec<f64>,
    rate_hz: f64,
    noise: Noise,
    size: usize,
    plan: Arc<dyn Fft<f64>>,
    block: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
    power: Vec<f64>,
    /// What undoes each slope, as far as they were wanted.
    turns: Vec<Vec<Complex<f64>>>,
}

/// Half the width of a line, in bins of half the inverse of the length.
const LOBE: usize = 4;

/// A line in the spectrum of a stretch.
#[derive(Debug, Clone, Copy)]
pub(super) struct Line {
    pub(super) rate_hz: f64,
    /// How fast the rate rises, in Hz per second.
    pub(super) slope: f64,
    /// How fast all grows, as a share per second.
    pub(super) growth: f64,
    /// Its power over that of the noise about it.
    pub(super) over_noise: f64,
}

impl Search {
    /// For stretches of `length` values.
    pub(super) fn new(length: usize, rate_hz: f64, noise: Noise) -> Self {
        let size = fast_length(2 * length);
        let plan = FftPlanner::new().plan_fft_forward(size);
        let place = |n: usize| TAU * (n as f64 + 0.5) / length as f64;
        Self {
            window: (0..length).map(|n| 0.5 - 0.5 * place(n).cos()).collect(),
            rate_hz,
            noise,
            size,
            scratch: vec![Complex::default(); plan.get_inplace_scratch_len()],
            plan,
            block: vec![Complex::default(); size],
            power: Vec::new(),
            turns: Vec::new(),
        }
    }

    /// Values of a transform.
    pub(super) fn size(&self) -> usize {
        self.size
    }

    fn bin_hz(&self) -> f64 {
        self.rate_hz / self.size as f64
    }

    /// Transforms a stretch about its mean, with so many steps of the slope undone.
    fn transform(&mut self, values: &[f64], mean: f64, steps: i32) {
        while self.turns.len() < steps.unsigned_abs() as usize {
            let slope = (self.turns.len() + 1) as f64 * self.step();
            let middle = 0.5 * (values.len() - 1) as f64;
            let turn = |n: usize| {
                let u = (n as f64 - middle) / self.rate_hz;
                Complex::cis(-TAU * (0.5 * slope * u * u).fract())
            };
            self.turns.push((0..values.len()).map(turn).collect());
        }
        let turns = steps.unsigned_abs().checked_sub(1).map(|n| &self.turns[n as usize]);
        for (n, (value, window)) in values.iter().zip(&self.window).enumerate() {
            let real = window * (value - mean);
            let turn = turns.map_or(Complex::new(1.0, 0.0), |turns| turns[n]);
            self.block[n] = real * if steps < 0 { turn.conj() } else { turn };
        }
        self.block[values.len()..].fill(Complex::default());
        self.plan.process_with_scratch(&mut self.block, &mut self.scratch);
    }

    /// Power of a bin over that which noise has there, but for a factor.
    fn power_of(&self, bin: usize) -> f64 {
        match self.noise {
            Noise::White => self.block[bin].norm_sqr(),
            Noise::Rising => self.block[bin].norm_sqr() / (bin * bin).max(1) as f64,
        }
    }

    /// Hz per second from one slope to the next: both ends of a stretch turn by half a radian.
    fn step(&self) -> f64 {
        let length_s = self.window.len() as f64 / self.rate_hz;
        2.0 / (length_s * length_s)
    }

    /// Mean weighted by the window.
    fn mean(&self, values: &[f64]) -> f64 {
        let sum: f64 = values.iter().zip(&self.window).map(|(value, window)| value * window).sum();
        sum / self.window.iter().sum::<f64>()
    }

    /// How fast an envelope grows or dies away, as a share per second; 0 where that is less than by
    /// half over the stretch.
    fn growth(&self, values: &[f64]) -> f64 {
        const LEAST: f64 = 0.7;
        let third = values.len() / 3;
        let sum = |part: &[f64]| part.iter().sum::<f64>();
        let ratio = sum(&values[values.len() - third..]) / sum(&values[..third]);
        if self.noise == Noise::Rising || !(ratio > 0.0 && ratio.is_finite()) {
            return 0.0;
        }
        // From the middle of the first third to that of the last.
        let growth = ratio.ln() / (2.0 * third as f64 / self.rate_hz);
        let over_all = growth * values.len() as f64 / self.rate_hz;
        if over_all.abs() < LEAST { 0.0 } else { growth }
    }

    /// Power spectrum of a stretch about its mean, that of a sine being the square of its amplitude
    /// over that mean, in bins of half the inverse of its length.
    pub(super) fn spectrum(&mut self, values: &[f64]) -> &[f64] {
        let mean = self.mean(values);
        self.transform(values, mean, 0);
        let scale = 2.0 / (mean * self.window.iter().sum::<f64>());
        let half = self.size / 2;
        self.power.clear();
        self.power.extend(self.block[..half].iter().map(|bin| bin.norm_sqr() * scale * scale));
        &self.power
    }

    /// The strongest line between two rates that is more than noise.
    pub(super) fn strongest(
        &mut self,
        values: &[f64],
        (low_hz, high_hz): (f64, f64),
        moves: bool,
    ) -> Option<Line> {
        let length_s = values.len() as f64 / self.rate_hz;
        let bin_hz = self.bin_hz();
        let low = ((low_hz / bin_hz).ceil() as usize).max(3);
        let high = ((high_hz / bin_hz) as usize).min(self.size / 2 - 2);
        if low >= high {
            return None;
        }
        let growth = self.growth(values);
        let level: Vec<f64>;
        let values = if growth == 0.0 {
            values
        } else {
            let middle = 0.5 * (values.len() - 1) as f64;
            let back = |n: usize| (-growth * (n as f64 - middle) / self.rate_hz).exp();
            level = values.iter().enumerate().map(|(n, value)| value * back(n)).collect();
            &level
        };
        let mean = self.mean(values);
        let mut best: Option<(f64, usize, i32)> = None;
        let mut steps = if moves { SLOPES } else { 0 };
        for n in (0..=SLOPES).flat_map(|n| [n, -n]).skip(1) {
            if n.abs() > steps {
                break;
            }
            let slope = f64::from(n) * self.step();
            self.transform(values, mean, n);
            let power = |bin: usize| self.power_of(bin);
            if n == 0 {
                let all: Vec<f64> = (0..self.size / 2).map(power).collect();
                let top = (low..=high).max_by(|a, b| all[*a].total_cmp(&all[*b]));
                if top.is_some_and(|top| is_narrow(&all, top)) {
                    steps = 0;
                }
            }

            // A rate does not move by more than itself.
            let least = ((0.7 * slope.abs() * length_s / bin_hz) as usize).max(low);
            for bin in least..=high.max(least) {
                let here = power(bin);
                // A slope that gains nothing is none.
                let gain = if n == 0 { 1.0 } else { 0.9 };
                if bin <= high && best.is_none_or(|(most, ..)| gain * here > most) {
                    best = Some((here, bin, n));
                }
            }
        }
        let (_, bin, n) = best?;
        self.transform(values, mean, n);
        let tilted: Vec<f64> = (0..self.size / 2).map(|bin| self.power_of(bin)).collect();
        // What only falls from 0 Hz on is a sound that comes or goes.
        let beside = |bin: usize| self.block[bin].norm_sqr();
        if beside(bin.saturating_sub(LOBE)).max(beside(bin + LOBE)) > 0.5 * beside(bin) {
            return None;
        }
        let trials = (high - low) as f64 / 2.0 * f64::from(2 * steps + 1);
        let over_noise = tilted[bin] / near_floor(&tilted, bin, high);
        // Where a rate moves, that of its harmonics does as well, and fills what lies about it.
        let is_most = is_most_of(&tilted[low..=high], bin - low.min(bin));
        if over_noise.is_nan() || !is_most && over_noise < (trials / FALSE_ALARM).ln() {
            return None;
        }
        let slope = f64::from(n) * self.step();
        let root = |bin: usize| self.block[bin].norm();
        let (before, here, after) = (root(bin - 1), root(bin), root(bin + 1));
        let bend = before - 2.0 * here + after;
        let beside =
            if bend < 0.0 { (0.5 * (before - after) / bend).clamp(-1.0, 1.0) } else { 0.0 };
        Some(Line { rate_hz: (bin as f64 + beside) * bin_hz, slope, growth, over_noise })
    }
}

/// Whether a line has no more width than its window gives it: its rate does not move.
fn is_narrow(power: &[f64], top: usize) -> bool {
    const NEAR: usize = 2;
    const FAR: usize = 40;
    let sum = |reach: usize| -> f64 {
        power[top.saturating_sub(reach).max(3)..(top + reach + 1).min(power.len())].iter().sum()
    };
    sum(NEAR) > 0.95 * sum(FAR)
}

/// Whether a line holds more than half of all power, which chance does not.
fn is_most_of(power: &[f64], bin: usize) -> bool {
    const LINE: usize = 4;
    const FEWEST: usize = 60;
    let line = &power[bin.saturating_sub(LINE)..(bin + LINE + 1).min(power.len())];
    power.len() >= FEWEST && line.iter().sum::<f64>() > 0.6 * power.iter().sum::<f64>()
}

/// Mean power of the noise about a bin: the median of what lies within an octave and a half below,
/// or above, over ln 2, whichever is more; beyond the band there is none.
fn near_floor(power: &[f64], bin: usize, last: usize) -> f64 {
    /// The line itself, to either side, and fewest bins of which a median says something.
    const LINE: usize = 5;
    const FEWEST: usize = 8;
    let median = |from: usize, to: usize| {
        let to = to.min(last + 1);
        if to < from + FEWEST {
            return 0.0;
        }
        let mut near = power[from..to].to_vec();
        let middle = near.len() / 2;
        *near.select_nth_unstable_by(middle, f64::total_cmp).1
    };
    let below = median((bin / 3).max(2), bin.saturating_sub(LINE));
    let above = median(bin + LINE, (3 * bin).max(bin + LINE + 4 * FEWEST));
    (below.max(above) / std::f64::consts::LN_2).max(f64::MIN_POSITIVE)
}
