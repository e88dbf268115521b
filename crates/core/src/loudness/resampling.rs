//! Samples at another rate: a windowed sinc, one set of taps for each phase.

use crate::lanes;
use crate::window::{Kaiser, filter_half_length, ideal_low_pass};

/// Depth of the stop band in dB.
const STOP_BAND_DB: f64 = 100.0;
/// What is kept reaches up to here in Hz, or to this share of the lower rate.
const KEPT_HZ: f64 = 20_000.0;
const KEPT_SHARE: f64 = 0.45;

/// Brings samples from one rate to another, in step with them: the first falls on the first.
#[derive(Debug, Clone)]
pub(super) struct Resampler {
    /// Taps of each phase.
    taps: Vec<Vec<f64>>,
    /// Rates over what they have in common.
    from: u64,
    to: u64,
    /// The next sample that is made.
    next: u64,
    /// Samples that are still needed, the first of which is so many samples after the start.
    held: Vec<f64>,
    first: i64,
    half: usize,
}

impl Resampler {
    /// Between whole rates in Hz.
    pub(super) fn new(from_hz: u64, to_hz: u64) -> Self {
        let common = greatest_common_divisor(from_hz, to_hz);
        let (from, to) = (from_hz / common, to_hz / common);
        let lower = from_hz.min(to_hz) as f64;
        let kept = KEPT_HZ.min(KEPT_SHARE * lower);
        let transition = (lower - 2.0 * kept) / from_hz as f64;
        let half = filter_half_length(STOP_BAND_DB, transition).ceil() as usize;
        let kaiser = Kaiser::for_stop_band(STOP_BAND_DB);
        let edge = 0.5 * lower / from_hz as f64;
        let taps = (0..to).map(|phase| {
            let share = phase as f64 / to as f64;
            let at = |k: usize| k as f64 - (half - 1) as f64 - share;
            let tap = |k: usize| ideal_low_pass(edge, at(k)) * kaiser.at(at(k) / half as f64);
            let all: Vec<f64> = (0..2 * half).map(tap).collect();
            let sum: f64 = all.iter().sum();
            all.into_iter().map(|tap| tap / sum).collect()
        });
        let before = half as i64 - 1;
        Self {
            taps: if from == to { Vec::new() } else { taps.collect() },
            from,
            to,
            next: 0,
            held: vec![0.0; before as usize],
            first: -before,
            half,
        }
    }

    /// Takes samples, and adds those that can be made from all so far.
    pub(super) fn push(&mut self, samples: &[f64], made: &mut Vec<f64>) {
        if self.taps.is_empty() {
            made.extend_from_slice(samples);
            return;
        }
        self.held.extend_from_slice(samples);
        let ends = self.first + self.held.len() as i64;
        loop {
            let place = self.next * self.from;
            let (whole, phase) = (place / self.to, place % self.to);
            let from = whole as i64 - (self.half as i64 - 1);
            if from + 2 * self.half as i64 > ends {
                break;
            }
            let at = (from - self.first) as usize;
            made.push(lanes::dot(&self.taps[phase as usize], &self.held[at..]));
            self.next += 1;
        }
        let needed = (self.next * self.from / self.to) as i64 - (self.half as i64 - 1);
        let gone = (needed - self.first).clamp(0, self.held.len() as i64);
        self.held.drain(..gone as usize);
        self.first += gone;
    }

    /// Ends the stream, which is silent from here on.
    pub(super) fn finish(&mut self, made: &mut Vec<f64>) {
        self.push(&vec![0.0; self.half], made);
    }
}

fn greatest_common_divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { greatest_common_divisor(b, a % b) }
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use super::*;

    #[test]
    fn tones_come_through_as_they_are() {
        let mut worst = 0.0f64;
        for rate_hz in [32_000, 44_100, 88_200, 96_000, 192_000, 22_050, 48_001] {
            let mut resampler = Resampler::new(rate_hz, 48_000);
            let top_hz = (0.45 * rate_hz.min(48_000) as f64).min(20_000.0);
            for hz in [100.0, 0.5 * top_hz, top_hz] {
                let tone = |n: usize, rate_hz: f64| (TAU * hz * n as f64 / rate_hz).sin();
                let sound: Vec<f64> =
                    (0..rate_hz as usize / 5).map(|n| tone(n, rate_hz as f64)).collect();
                let mut made = Vec::new();
                let mut again = resampler.clone();
                sound.chunks(777).for_each(|part| again.push(part, &mut made));
                let mut whole = Vec::new();
                resampler.clone().push(&sound, &mut whole);
                assert_eq!(made, whole, "in pieces");
                again.finish(&mut made);
                assert!(made.len().abs_diff(9600) <= 1, "{} samples", made.len());
                for (n, x) in made.iter().enumerate().take(9300).skip(300) {
                    worst = worst.max((x - tone(n, 48_000.0)).abs());
                }
            }
            resampler.push(&[], &mut Vec::new());
        }
        println!("off by {worst:.1e} at most");
        assert!(worst < 5e-5, "{worst:.1e}");
    }
}
