//! The sound at several rates, each half the one before, so that low notes get long frames and high
//! ones short frames, all of the same number of samples.

use std::f64::consts::PI;

use crate::lanes::{convolve, dot};
use crate::window::WindowKind;

/// Share of a level's rate up to which its spectrum is used: above, the filter cuts and folds.
pub(super) const USED_SHARE: f64 = 0.4;
/// A frame lasts about so long at the highest rate, in seconds.
const SHORTEST_FRAME_S: f64 = 0.0107;
/// Rates above this are halved before anything else, in Hz.
const HIGHEST_RATE_HZ: f64 = 64_000.0;
/// The half-band filter reaches so many samples to either side, an odd number: 80 dB down from 0.3
/// of the rate on.
const REACH: usize = 31;
/// Periods that a frame holds of the lowest note read from it, and that of all.
const PERIODS: f64 = 5.5;
const FEWEST_PERIODS: f64 = 4.2;
/// Frames of a level that are read lie at most this share of their length apart.
const APART: f64 = 0.25;
/// Fundamentals are looked for in a level up to so many times its lowest.
const ABOVE: f64 = 40.0;

/// One rate of the sound.
#[derive(Debug, Clone)]
pub(super) struct Level {
    pub(super) rate_hz: f64,
    /// Fundamentals that are looked for in it, lowest and highest, in Hz; `None` where it only
    /// leads to others.
    pub(super) range_hz: Option<(f64, f64)>,
    /// Samples from `start` on.
    samples: Vec<f32>,
    start: u64,
}

impl Level {
    fn end(&self) -> u64 {
        self.start + self.samples.len() as u64
    }

    /// The samples of a frame centred on a time, as far as the sound reaches, and how many lie before
    /// it.
    fn held(&self, time_s: f64, frame: usize) -> (usize, &[f32]) {
        let first = (time_s * self.rate_hz).round() as i64 - frame as i64 / 2 - self.start as i64;
        let silent = usize::try_from(-first).unwrap_or(0).min(frame);
        let from = usize::try_from(first).unwrap_or(0).min(self.samples.len());
        let held = (frame - silent).min(self.samples.len() - from);
        (silent, &self.samples[from..from + held])
    }

    /// Copies the frame centred on a time; what lies outside the sound is silent.
    pub(super) fn frame(&self, time_s: f64, frame: &mut [f32]) {
        let (silent, held) = self.held(time_s, frame.len());
        frame[..silent].fill(0.0);
        frame[silent..silent + held.len()].copy_from_slice(held);
        frame[silent + held.len()..].fill(0.0);
    }

    /// Mean power of the samples of that frame.
    pub(super) fn power(&self, time_s: f64, frame: usize) -> f64 {
        let (_, held) = self.held(time_s, frame);
        f64::from(dot(held, held)) / frame as f64
    }
}

/// The levels of a stream of samples.
#[derive(Debug, Clone)]
pub(super) struct Levels {
    pub(super) all: Vec<Level>,
    /// Samples of a frame at each level.
    pub(super) frame: usize,
    /// The half-band filter at the odd places around its middle, which is one half.
    taps: Vec<f32>,
    every_other: Vec<f32>,
    sides: Vec<f32>,
    has_ended: bool,
}

impl Levels {
    /// Levels for fundamentals in a range.
    pub(super) fn new(sample_rate_hz: f64, range_hz: (f64, f64)) -> Self {
        let mut rates = vec![sample_rate_hz];
        while rates[rates.len() - 1] > HIGHEST_RATE_HZ {
            rates.push(rates[rates.len() - 1] / 2.0);
        }
        let top = rates.len() - 1;
        let frame = ((rates[top] * SHORTEST_FRAME_S).log2().round().exp2() as usize).max(64);
        let lasts = |rate_hz: f64| frame as f64 / rate_hz;
        while lasts(rates[rates.len() - 1]) * range_hz.0 < FEWEST_PERIODS {
            rates.push(rates[rates.len() - 1] / 2.0);
        }
        let count = rates.len();
        let level = |(n, rate_hz): (usize, f64)| {
            let low = if n + 1 == count { 0.0 } else { 0.93 * PERIODS / lasts(rate_hz) };
            // A reading is compared with those some octaves higher in the same frame.
            let high = range_hz.1.min(ABOVE * low.max(range_hz.0)).min(USED_SHARE * rate_hz);
            let range = (low.max(range_hz.0), if n == top { range_hz.1 } else { high });
            let range_hz = (n >= top && range.0 < range.1).then_some(range);
            Level { rate_hz, range_hz, samples: Vec::new(), start: 0 }
        };
        Self {
            all: rates.into_iter().enumerate().map(level).collect(),
            frame,
            taps: half_band(),
            every_other: Vec::new(),
            sides: Vec::new(),
            has_ended: false,
        }
    }

    /// Takes the next samples.
    pub(super) fn push(&mut self, samples: &[f32]) {
        self.all[0].samples.extend_from_slice(samples);
        self.halve();
    }

    /// The sound has ended: what follows is silence.
    pub(super) fn end(&mut self) {
        let silence = vec![0.0; (2 * REACH) << self.all.len()];
        self.all[0].samples.extend(silence);
        self.halve();
        self.has_ended = true;
    }

    fn halve(&mut self) {
        for n in 1..self.all.len() {
            let (above, below) = self.all.split_at_mut(n);
            let (above, below) = (&above[n - 1], &mut below[0]);
            // The filter from `first` on; before the first sample there is silence.
            let first = 2 * below.end() as i64 - REACH as i64 - above.start as i64;
            let ready = above.samples.len() as i64 - first - 2 * REACH as i64;
            let count = usize::try_from(ready + 1).unwrap_or(0) / 2;
            if count == 0 {
                continue;
            }
            self.every_other.clear();
            let silent = usize::try_from(-first).unwrap_or(0).div_ceil(2);
            self.every_other.resize(silent, 0.0);
            let from = usize::try_from(first + 2 * silent as i64).unwrap_or(0);
            self.every_other.extend(above.samples[from..].iter().step_by(2));
            let middle = (first + REACH as i64) as usize;
            self.sides.resize(count, 0.0);
            convolve(&self.taps, &self.every_other, &mut self.sides);
            let middles = above.samples[middle..].iter().step_by(2);
            below.samples.extend(middles.zip(&self.sides).map(|(x, sides)| 0.5 * x + sides));
        }
    }

    /// From one frame of a track to the next that is read at a level: long frames change little.
    pub(super) fn stride(&self, level: usize, hop_s: f64) -> u64 {
        let frame_s = self.frame as f64 / self.all[level].rate_hz;
        1 << ((APART * frame_s / hop_s) as u64).max(1).ilog2()
    }

    /// Whether all samples have arrived that a frame of a track needs, and those read instead of it.
    pub(super) fn holds(&self, time_s: f64, hop_s: f64) -> bool {
        self.has_ended
            || self.all.iter().enumerate().all(|(n, level)| {
                let ahead_s = (self.stride(n, hop_s) - 1) as f64 * hop_s;
                let last = ((time_s + ahead_s) * level.rate_hz).round() + self.frame as f64 / 2.0;
                (level.end() as f64) > last
            })
    }

    /// Lets go of what only frames before a time need.
    pub(super) fn let_go(&mut self, time_s: f64) {
        let ends: Vec<u64> = self.all.iter().map(Level::end).collect();
        for (n, level) in self.all.iter_mut().enumerate() {
            let first = (time_s * level.rate_hz).round() as i64 - self.frame as i64 / 2 - 1;
            let for_next = ends.get(n + 1).map_or(i64::MAX, |end| 2 * *end as i64 - REACH as i64);
            let left_out = first.min(for_next) - level.start as i64;
            // Samples are moved seldom.
            if left_out > 4 * self.frame as i64 {
                let left_out = (left_out as usize).min(level.samples.len());
                level.samples.drain(..left_out);
                level.start += left_out as u64;
            }
        }
    }
}

/// A windowed sinc that cuts at a quarter of the rate, at the odd places to either side of its
/// middle; at the other even places it is nothing.
fn half_band() -> Vec<f32> {
    let window = WindowKind::Kaiser { beta: 8.0 }.samples(2 * REACH + 2);
    let tap = |away: usize| {
        let sign = if away % 4 == 1 { 1.0 } else { -1.0 };
        sign / (PI * away as f64) * window[REACH + 1 + away]
    };
    let taps: Vec<f64> = (0..=2 * REACH).step_by(2).map(|n| tap(n.abs_diff(REACH))).collect();
    // Both sides together pass a half, as the middle does.
    let sum: f64 = taps.iter().sum();
    taps.into_iter().map(|tap| (0.5 * tap / sum) as f32).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth;

    #[test]
    fn levels_keep_what_is_below_and_drop_what_is_above() {
        for (hz, level, kept) in [
            (1000.0, 1, true),
            (1000.0, 4, true),
            (9000.0, 1, true),
            (1900.0, 4, false),
            (4100.0, 3, false),
        ] {
            let mut levels = Levels::new(48_000.0, (25.0, 5000.0));
            for block in synth::sine(hz, 0.5, 0.3, 48_000.0, 48_000).chunks(777) {
                levels.push(block);
            }
            levels.end();
            let rate = levels.all[level].rate_hz;
            let mut frame = vec![0.0; levels.frame];
            levels.all[level].frame(0.5, &mut frame);
            let first = (0.5 * rate).round() - levels.frame as f64 / 2.0;
            let worst = frame
                .iter()
                .enumerate()
                .map(|(n, x)| {
                    let t = (first + n as f64) / rate;
                    let expected = 0.5 * (std::f64::consts::TAU * hz * t + 0.3).cos();
                    let x = f64::from(*x);
                    if kept { (x - expected).abs() } else { x.abs() }
                })
                .fold(0.0, f64::max);
            assert!(worst < 5e-4, "{hz} Hz at level {level}: {worst}");
        }
    }
}
