//! The one place that plans Fourier transforms.

use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};
use rustfft::FftPlanner;
use std::sync::Arc;

/// A planned transform of real input with its buffers; nothing is allocated when it runs.
///
/// N real samples x give N/2 + 1 (N/2 rounded down) complex values
/// X\[k\] = Σ x\[n\]·exp(−j2πkn/N), not scaled.
pub struct RealTransform {
    plan: Arc<dyn RealToComplex<f64>>,
    output: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
}

impl RealTransform {
    /// Plans a transform of `length` samples. Allocates.
    #[must_use]
    pub fn new(length: usize) -> Self {
        let plan = RealFftPlanner::new().plan_fft_forward(length);
        let output = plan.make_output_vec();
        let scratch = plan.make_scratch_vec();
        Self { plan, output, scratch }
    }

    /// Number of samples of the input.
    #[must_use]
    pub fn length(&self) -> usize {
        self.plan.len()
    }

    /// Transforms `input`, which holds garbage afterwards.
    ///
    /// # Panics
    ///
    /// If `input` does not have [`length`](Self::length) samples.
    pub fn forward(&mut self, input: &mut [f64]) -> &[Complex<f64>] {
        assert_eq!(input.len(), self.plan.len(), "input length differs from the planned one");
        self.plan
            .process_with_scratch(input, &mut self.output, &mut self.scratch)
            .expect("all three buffers have the planned lengths");
        &self.output
    }
}

/// Transforms complex values in place: X\[k\] = Σ x\[n\]·exp(−j2πkn/N), not scaled.
pub(crate) fn complex_forward(values: &mut [Complex<f64>]) {
    FftPlanner::new().plan_fft_forward(values.len()).process(values);
}

/// The smallest even length ≥ `length` whose transform is fast: 2^a·3^b·5^c.
#[must_use]
pub fn fast_length(length: usize) -> usize {
    let mut candidate = length.max(2).next_multiple_of(2);
    loop {
        let mut rest = candidate;
        for factor in [2, 3, 5] {
            while rest.is_multiple_of(factor) {
                rest /= factor;
            }
        }
        if rest == 1 {
            return candidate;
        }
        candidate += 2;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    #[test]
    fn agrees_with_the_textbook_sum() {
        for length in [4, 15, 16, 54, 97] {
            let x: Vec<f64> = (0..length).map(|n| ((n * n) as f64 * 0.37).sin()).collect();
            let mut transform = RealTransform::new(length);
            let spectrum = transform.forward(&mut x.clone()).to_vec();
            assert_eq!(spectrum.len(), length / 2 + 1);
            for (k, bin) in spectrum.iter().enumerate() {
                let direct: Complex<f64> = x
                    .iter()
                    .enumerate()
                    .map(|(n, x)| Complex::cis(-TAU * (k * n) as f64 / length as f64) * x)
                    .sum();
                assert!((bin - direct).norm() < 1e-12, "bin {k} of {length}");
            }
        }
    }

    #[test]
    fn fast_lengths_are_products_of_small_primes() {
        assert_eq!([1, 7, 17, 4096, 26_113].map(fast_length), [2, 8, 18, 4096, 26_244]);
    }
}
