//! A zoom: the averaged spectrum at any frequencies, by the chirp-z transform.
//!
//! # What it computes
//!
//! For M frequencies f_m = f_0 + m·Δ the transform of a windowed frame,
//!
//! X(f_m) = Σ_n w\[n\]·x\[n\]·exp(−j2πf_m n/f_s),
//!
//! by L. R. Rabiner, R. W. Schafer and C. M. Rader, Bell Syst. Tech. J. 48, 1969: with
//! nm = (n² + m² − (m − n)²)/2 the sum becomes a convolution with a chirp, done by two fast
//! transforms. It shows the lobe of the window as finely as one likes; what can be resolved is the
//! window's resolution all the same. Frames are averaged in power, scaled as [`super`] does.

use std::f64::consts::TAU;
use std::sync::Arc;

use realfft::num_complex::Complex;
use rustfft::{Fft, FftPlanner};

use crate::error::Error;
use crate::frame::{FramePlan, Framer};
use crate::transform::fast_length;
use crate::window::{Window, WindowKind};

type C = Complex<f64>;

/// A planned chirp-z transform of real frames.
struct ChirpTransform {
    /// exp(−j2π(f_0 n + Δn²/2)/f_s) for each sample of a frame.
    before: Vec<C>,
    /// Transform of the chirp exp(+j2πΔk²/2f_s).
    chirp: Vec<C>,
    count: usize,
    forward: Arc<dyn Fft<f64>>,
    inverse: Arc<dyn Fft<f64>>,
    work: Vec<C>,
    scratch: Vec<C>,
}

impl ChirpTransform {
    /// Frequencies are in cycles per sample.
    fn new(frame: usize, first: f64, spacing: f64, count: usize) -> Self {
        let length = fast_length(frame + count);
        // The phase of the chirp in turns, kept small before it is used.
        let turns = |k: f64| (0.5 * spacing * k * k).fract();
        let before = (0..frame)
            .map(|n| C::cis(-TAU * ((first * n as f64).fract() + turns(n as f64))))
            .collect();
        let mut chirp = vec![C::default(); length];
        for (k, value) in chirp.iter_mut().enumerate() {
            // Values at negative k stand at the end.
            let from_end = length - k;
            if k < count {
                *value = C::cis(TAU * turns(k as f64));
            } else if from_end < frame {
                *value = C::cis(TAU * turns(from_end as f64));
            }
        }
        let mut planner = FftPlanner::new();
        let (forward, inverse) =
            (planner.plan_fft_forward(length), planner.plan_fft_inverse(length));
        forward.process(&mut chirp);
        let scratch = forward.get_inplace_scratch_len().max(inverse.get_inplace_scratch_len());
        Self {
            before,
            chirp,
            count,
            forward,
            inverse,
            work: vec![C::default(); length],
            scratch: vec![C::default(); scratch],
        }
    }

    /// |X|² at each frequency.
    fn powers(&mut self, frame: impl Iterator<Item = f64>) -> impl Iterator<Item = f64> {
        let (values, padding) = self.work.split_at_mut(self.before.len());
        for ((value, x), turn) in values.iter_mut().zip(frame).zip(&self.before) {
            *value = turn * x;
        }
        padding.fill(C::default());
        self.forward.process_with_scratch(&mut self.work, &mut self.scratch);
        self.work.iter_mut().zip(&self.chirp).for_each(|(value, chirp)| *value *= chirp);
        self.inverse.process_with_scratch(&mut self.work, &mut self.scratch);
        let scale = 1.0 / (self.work.len() as f64).powi(2);
        self.work[..self.count].iter().map(move |value| value.norm_sqr() * scale)
    }
}

/// Length in samples of a frame that resolves a fortieth of a range, not longer than a span and 2¹⁹
/// samples.
///
/// # Errors
///
/// [`Error::Setting`] for a window that makes no sense.
pub fn zoom_segment(
    window: WindowKind,
    sample_rate_hz: f64,
    (low_hz, high_hz): (f64, f64),
    span_samples: u64,
) -> Result<usize, Error> {
    /// Widths of the window in the range that is shown.
    const FINENESS: f64 = 40.0;
    /// 11 s at 48 kHz: a longer transform takes longer than the reader waits.
    const MOST_SAMPLES: u64 = 1 << 19;
    let width_bins = Window::new(window, 4096)?.figures().width_6db_bins;
    let wanted = width_bins * sample_rate_hz * FINENESS / (high_hz - low_hz);
    Ok((wanted as usize).min(MOST_SAMPLES.min(span_samples) as usize))
}

/// Averages the power of the frames of a span at frequencies of a narrow range.
pub struct ZoomPass {
    plan: FramePlan,
    framer: Framer,
    transform: ChirpTransform,
    sum: Vec<f64>,
    frames: u64,
    low_hz: f64,
    spacing_hz: f64,
}

/// A zoom into a spectrum.
#[derive(Debug, Clone, PartialEq)]
pub struct Zoom {
    /// Frequencies in Hz.
    pub frequency_hz: Vec<f64>,
    /// Mean power at each, a sine of amplitude A reading A².
    pub power: Vec<f64>,
}

impl ZoomPass {
    /// A look at `count` frequencies, at least two, from `low_hz` to `high_hz`, with the frames of
    /// `plan`.
    #[must_use]
    pub fn new(
        plan: &FramePlan,
        sample_rate_hz: f64,
        (low_hz, high_hz): (f64, f64),
        count: usize,
    ) -> Self {
        let spacing_hz = (high_hz - low_hz) / (count.max(2) - 1) as f64;
        let (first, spacing) = (low_hz / sample_rate_hz, spacing_hz / sample_rate_hz);
        Self {
            framer: Framer::new(plan.segment(), plan.hop, 0),
            transform: ChirpTransform::new(plan.segment(), first, spacing, count.max(2)),
            sum: vec![0.0; count.max(2)],
            plan: plan.clone(),
            frames: 0,
            low_hz,
            spacing_hz,
        }
    }

    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        let Self { plan, framer, transform, sum, frames, .. } = self;
        framer.push(samples, |frame| {
            let windowed =
                frame.iter().zip(plan.window.samples()).map(|(x, weight)| f64::from(*x) * weight);
            sum.iter_mut().zip(transform.powers(windowed)).for_each(|(sum, power)| *sum += power);
            *frames += 1;
        });
    }

    /// Ends the look.
    #[must_use]
    pub fn finish(self) -> Zoom {
        let gain: f64 = self.plan.window.samples().iter().sum();
        let scale = 4.0 / (gain * gain * self.frames.max(1) as f64);
        Zoom {
            frequency_hz: (0..self.sum.len())
                .map(|m| self.low_hz + m as f64 * self.spacing_hz)
                .collect(),
            power: self.sum.iter().map(|sum| sum * scale).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::white_noise;

    #[test]
    fn agrees_with_the_textbook_sum() {
        let x = white_noise(3, 1.0, 1000);
        let (first, spacing, count) = (0.0317, 3.3e-5, 61);
        let mut transform = ChirpTransform::new(x.len(), first, spacing, count);
        let powers: Vec<f64> = transform.powers(x.iter().copied()).collect();
        for (m, power) in powers.iter().enumerate() {
            let f = first + m as f64 * spacing;
            let direct: C =
                x.iter().enumerate().map(|(n, x)| C::cis(-TAU * f * n as f64) * x).sum();
            assert!((power / direct.norm_sqr() - 1.0).abs() < 1e-9, "{m}");
        }
    }
}
