//! A sound between its samples.

use std::f64::consts::PI;

use crate::window::bessel_i0;

const TAPS: usize = 32;
const PHASES: usize = 128;

/// Tells values between samples by a sinc under a Kaiser window, from a table of phases.
pub(super) struct Interpolator {
    /// For each phase its taps.
    kernel: Vec<f64>,
}

impl Interpolator {
    /// Frequencies below this share of the sample rate pass within −90 dB.
    pub(super) const PASSES: f64 = 0.4;

    pub(super) fn new() -> Self {
        const BETA: f64 = 9.0;
        let half = TAPS as f64 / 2.0;
        let whole = bessel_i0(BETA);
        let tap = |phase: usize, k: usize| {
            let x = k as f64 - (half - 1.0) - phase as f64 / PHASES as f64;
            let sinc = if x == 0.0 { 1.0 } else { (PI * x).sin() / (PI * x) };
            let inside = (1.0 - (x / half).powi(2)).max(0.0).sqrt();
            sinc * bessel_i0(BETA * inside) / whole
        };
        let kernel = (0..=PHASES).flat_map(|phase| (0..TAPS).map(move |k| tap(phase, k)));
        Self { kernel: kernel.collect() }
    }

    /// The sound at a place counted in samples; nothing beyond its ends.
    pub(super) fn at(&self, sound: &[f32], place: f64) -> f64 {
        let whole = place.floor();
        let phase = (place - whole) * PHASES as f64;
        let (row, far) = ((phase as usize).min(PHASES - 1), phase.fract());
        let (now, next) = self.kernel[row * TAPS..(row + 2) * TAPS].split_at(TAPS);
        let first = whole as i64 - (TAPS as i64 / 2 - 1);
        let (mut a, mut b) = (0.0, 0.0);
        for (k, (now, next)) in now.iter().zip(next).enumerate() {
            let sample = usize::try_from(first + k as i64).ok().and_then(|n| sound.get(n));
            let x = f64::from(sample.copied().unwrap_or(0.0));
            a += now * x;
            b += next * x;
        }
        a + far * (b - a)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::sine;

    #[test]
    fn what_passes_is_told_between_samples() {
        for share in [0.01, 0.2, 0.39] {
            let sound = sine(share, 1.0, 0.4, 1.0, 200);
            let between = Interpolator::new();
            for n in 0..40 {
                let place = 80.0 + 0.713 * f64::from(n);
                let truth = (2.0 * PI * share * place + 0.4).cos();
                assert!((between.at(&sound, place) - truth).abs() < 1e-4, "{share} {place}");
            }
        }
    }
}
