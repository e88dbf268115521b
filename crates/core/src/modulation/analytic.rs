//! A band of a sound as its analytic signal.

use std::f64::consts::TAU;
use std::ops::Range;
use std::sync::Arc;

use rustfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};

use crate::error::Error;
use crate::lanes;
use crate::samples::{Reader, Samples};
use crate::transform::{RealTransform, complex_forward};
use crate::window::{Kaiser, filter_half_length, ideal_low_pass};

type C = Complex<f64>;

/// Depth of the stop band in dB.
const STOP_BAND_DB: f64 = 110.0;

/// Taps to either side of a filter whose transition is so wide, in cycles per sample.
fn half_length(transition: f64) -> usize {
    filter_half_length(STOP_BAND_DB, transition).ceil() as usize
}

/// A low-pass of so many taps to either side, with its edge in cycles per sample.
fn low_pass(edge: f64, half: usize) -> impl Iterator<Item = f64> {
    let kaiser = Kaiser::for_stop_band(STOP_BAND_DB);
    (-(half as i64)..=half as i64)
        .map(move |n| ideal_low_pass(edge, n as f64) * kaiser.at(n as f64 / half as f64))
}

/// How a band becomes its analytic signal: z\[m\] = 2·Σ h\[k\]·x\[n − k\]·exp(−j2πf_c·n), n = D·m, with a
/// band-pass h of linear phase whose edges lie at −6 dB, and no delay.
///
/// Computed by transforms of N samples, of which N − K + 1 are good, K being the length of h; the
/// bins of the band alone are transformed back, which decimates by D.
pub(super) struct Analytic {
    sample_rate_hz: f64,
    half: usize,
    /// Samples for each value.
    pub(super) every: usize,
    forward: RealTransform,
    inverse: Arc<dyn Fft<f64>>,
    /// Response in each bin that is transformed back, from the first on.
    response: Vec<C>,
    first_bin: i64,
    values: Vec<C>,
    /// How they change with time, per second, over 2π; none where that is not asked for.
    changes: Vec<C>,
    scratch: Vec<C>,
    /// The middle of the band, at which its values stand still.
    pub(super) centre_hz: f64,
}

impl Analytic {
    /// For a band from its lowest to its highest frequency, each edge with a transition of its own
    /// width about it.
    pub(super) fn new(
        (low_hz, high_hz): (f64, f64),
        transition_hz: f64,
        sample_rate_hz: f64,
    ) -> Self {
        const SHORTEST: usize = 1 << 14;
        let half = half_length(transition_hz / sample_rate_hz);
        let size = (4 * (2 * half + 1)).next_power_of_two().max(SHORTEST);
        let reach_hz = high_hz - low_hz + 2.0 * transition_hz;
        // The square of the magnitude is twice as wide, on either side of 0 Hz.
        let most = (sample_rate_hz / (4.0 * reach_hz)).max(1.0) as usize;
        // A power of two that is at most so much.
        let every = 1 << most.ilog2().min(size.ilog2() - 6);
        let count = size / every;
        let spacing_hz = sample_rate_hz / size as f64;
        let centre_bin = (0.5 * (low_hz + high_hz) / spacing_hz).round();
        let first_bin = centre_bin as i64 - count as i64 / 2;
        let mut kernel = vec![C::default(); size];
        let edge = 0.5 * (high_hz - low_hz) / sample_rate_hz;
        let middle = 0.5 * (low_hz + high_hz) / sample_rate_hz;
        let taps = low_pass(edge, half).zip(-(half as i64)..);
        for (value, (h, n)) in kernel.iter_mut().zip(taps) {
            let turn = (middle * n as f64).fract();
            *value = C::from_polar(2.0 * h / size as f64, TAU * turn);
        }
        complex_forward(&mut kernel);
        let bin = |n: usize| usize::try_from(first_bin + n as i64).ok();
        let response = (0..count)
            .map(|n| bin(n).filter(|bin| *bin <= size / 2).map_or(C::default(), |bin| kernel[bin]))
            .collect();
        let inverse = FftPlanner::new().plan_fft_inverse(count);
        Self {
            sample_rate_hz,
            half,
            every,
            forward: RealTransform::new(size),
            scratch: vec![C::default(); inverse.get_inplace_scratch_len()],
            inverse,
            response,
            first_bin,
            values: vec![C::default(); count],
            changes: Vec::new(),
            centre_hz: centre_bin * spacing_hz,
        }
    }

    /// Gives how the values change, too.
    pub(super) fn with_changes(mut self) -> Self {
        self.changes = self.values.clone();
        self
    }

    /// Values per second.
    pub(super) fn rate_hz(&self) -> f64 {
        self.sample_rate_hz / self.every as f64
    }

    /// Seconds at the ends of a sound in which what lies beyond it shows.
    pub(super) fn edge_s(&self) -> f64 {
        self.half as f64 / self.sample_rate_hz
    }

    /// The values at the samples of a range, from its first on, block by block, and how they change:
    /// their derivative over 2π, where that is asked for.
    pub(super) fn run(
        &mut self,
        samples: &dyn Samples,
        range: Range<usize>,
        mut with: impl FnMut(&[C], &[C]),
    ) -> Result<(), Error> {
        let size = self.forward.length();
        let count = self.values.len();
        let centre_bin = self.first_bin + count as i64 / 2;
        // The kernel begins at the first sample of a block: what is good stands behind it.
        let skipped = (2 * self.half).div_ceil(self.every);
        let late = (skipped * self.every) as i64;
        let spacing_hz = self.sample_rate_hz / size as f64;
        let mut reader = Reader::new(samples);
        let mut block = vec![0.0; size];
        let mut start = range.start;
        while start < range.end {
            let held = reader.at(start as i64 - late + self.half as i64, size)?;
            block.iter_mut().zip(held).for_each(|(value, x)| *value = f64::from(*x));
            let spectrum = self.forward.forward(&mut block);
            let first = self.first_bin;
            let inside = first.clamp(0, spectrum.len() as i64);
            let shift = (inside - first) as usize;
            self.values.fill(C::default());
            let bins = self.values[shift.min(count)..].iter_mut().zip(&spectrum[inside as usize..]);
            for ((value, x), h) in bins.zip(&self.response[shift.min(count)..]) {
                *value = x * h;
            }
            for (n, (change, value)) in self.changes.iter_mut().zip(&self.values).enumerate() {
                let away_hz = (n as f64 - (count / 2) as f64) * spacing_hz;
                *change = C::new(-away_hz * value.im, away_hz * value.re);
            }
            let turns = (centre_bin * (start as i64 - late)).rem_euclid(size as i64);
            let turn = C::cis(-TAU * turns as f64 / size as f64);
            let wanted = (range.end - start).div_ceil(self.every);
            let good_count = (count - skipped).min(wanted);
            let all = [&mut self.values, &mut self.changes];
            for values in all.into_iter().filter(|values| !values.is_empty()) {
                // The middle of the band goes to 0 Hz.
                values.rotate_left(count / 2);
                self.inverse.process_with_scratch(values, &mut self.scratch);
                values.iter_mut().skip(skipped).for_each(|value| *value *= turn);
            }
            let good = skipped..skipped + good_count;
            with(&self.values[good.clone()], self.changes.get(good).unwrap_or_default());
            start += good_count * self.every;
        }
        Ok(())
    }
}

/// A low-pass that keeps one of so many values, which come one by one.
pub(super) struct Decimator {
    taps: Vec<f64>,
    every: usize,
    held: Vec<f64>,
    /// Values to come before the next is given.
    ahead: usize,
}

impl Decimator {
    /// Keeps what lies below `keep_hz`, and of what lies above nothing that would show there.
    pub(super) fn new(keep_hz: f64, rate_hz: f64, every: usize) -> Self {
        let to_hz = rate_hz / every as f64;
        let half = if every == 1 { 0 } else { half_length((to_hz - 2.0 * keep_hz) / rate_hz) };
        let taps = match half {
            0 => vec![1.0],
            _ => low_pass(0.5 / every as f64, half).collect(),
        };
        // Silent before the first value.
        Self { held: vec![0.0; half], ahead: half + 1, taps, every }
    }

    /// Takes values and hands over those that are kept, each at the time of the one it stands for.
    pub(super) fn push(&mut self, values: impl Iterator<Item = f64>, kept: &mut Vec<f64>) {
        for value in values {
            self.held.push(value);
            self.ahead -= 1;
            if self.ahead == 0 {
                let from = self.held.len() - self.taps.len();
                kept.push(lanes::dot(&self.taps, &self.held[from..]));
                self.ahead = self.every;
                if self.held.len() > 16 * self.taps.len() + (1 << 14) {
                    self.held.drain(..from);
                }
            }
        }
    }

    /// Values at either end in which what lies beyond shows.
    pub(super) fn edge(&self) -> usize {
        (self.taps.len() / 2).div_ceil(self.every)
    }

    /// Hands over what is still on its way.
    pub(super) fn finish(&mut self, kept: &mut Vec<f64>) {
        let late = self.taps.len() / 2;
        self.push(std::iter::repeat_n(0.0, late), kept);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{sine, to_samples, white_noise};

    fn values(analytic: &mut Analytic, sound: &Vec<f32>) -> Vec<C> {
        let mut all = Vec::new();
        analytic.run(sound, 0..sound.len(), |z, _| all.extend_from_slice(z)).expect("run");
        all
    }

    #[test]
    fn a_tone_becomes_a_phasor_of_its_amplitude_and_phase() {
        for (band, transition_hz, hz) in [
            ((20.0, 23_900.0), 30.0, 997.3),
            ((900.0, 1100.0), 40.0, 1033.7),
            ((4000.0, 4040.0), 10.0, 4013.0),
        ] {
            let sound = sine(hz, 0.4, 0.7, 48_000.0, 200_000);
            let mut analytic = Analytic::new(band, transition_hz, 48_000.0);
            let z = values(&mut analytic, &sound);
            assert_eq!(z.len(), sound.len().div_ceil(analytic.every));
            let edge = (analytic.edge_s() * analytic.rate_hz()) as usize + 1;
            let mut worst = 0.0f64;
            for (m, z) in z.iter().enumerate().skip(edge).take(z.len() - 2 * edge) {
                let t = (m * analytic.every) as f64 / 48_000.0;
                let turns = ((hz - analytic.centre_hz) * t).fract();
                worst = worst.max((z - C::from_polar(0.4, 0.7 + TAU * turns)).norm());
            }
            println!("every {}: off by {worst:.1e}", analytic.every);
            assert!(worst < 9e-7, "{worst}");
        }
    }

    #[test]
    fn what_lies_beside_the_band_is_left_out() {
        let sound = to_samples(&white_noise(3, 0.1, 400_000));
        let mut analytic = Analytic::new((2000.0, 2500.0), 50.0, 48_000.0);
        let z = values(&mut analytic, &sound);
        let power = z.iter().map(C::norm_sqr).sum::<f64>() / z.len() as f64;
        // Noise of variance σ² leaves 4·σ²·B/f_s in the square of the envelope.
        let expected = 4.0 * 0.01 * 500.0 / 48_000.0;
        assert!((power / expected - 1.0).abs() < 0.05, "{power} {expected}");
    }

    #[test]
    fn slow_changes_are_kept_where_they_are() {
        let slow = |t: f64| 1.0 + 0.5 * (TAU * 40.0 * t).cos();
        let all = (0..24_000).map(|n| slow(f64::from(n) / 24_000.0));
        let mut decimator = Decimator::new(100.0, 24_000.0, 60);
        let mut kept = Vec::new();
        let edge = decimator.edge();
        decimator.push(all, &mut kept);
        decimator.finish(&mut kept);
        assert_eq!(kept.len(), 400);
        let inside = kept.iter().enumerate().skip(edge).take(400 - 2 * edge);
        let off = inside.map(|(n, value)| (value - slow(n as f64 / 400.0)).abs());
        let worst = off.fold(0.0, f64::max);
        println!("off by {worst:.1e}");
        assert!(worst < 1e-5, "{worst}");
    }
}
