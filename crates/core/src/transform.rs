//! The one place that plans Fourier transforms.

use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use rustfft::{FftNum, FftPlanner};
use std::sync::Arc;

/// A planned transform of real input with its buffers; nothing is allocated when it runs.
///
/// N real samples x give N/2 + 1 (N/2 rounded down) complex values
/// X\[k\] = Σ x\[n\]·exp(−j2πkn/N), not scaled. Single precision is twice as fast, with rounding 130 dB
/// below the strongest.
#[derive(Clone)]
pub struct RealTransform<T: FftNum = f64> {
    plan: Arc<dyn RealToComplex<T>>,
    output: Vec<Complex<T>>,
    scratch: Vec<Complex<T>>,
}

impl<T: FftNum> RealTransform<T> {
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
    pub fn forward(&mut self, input: &mut [T]) -> &[Complex<T>] {
        assert_eq!(input.len(), self.plan.len(), "input length differs from the planned one");
        self.plan
            .process_with_scratch(input, &mut self.output, &mut self.scratch)
            .expect("all three buffers have the planned lengths");
        &self.output
    }

    /// What the last transform gave; zeros before the first.
    #[must_use]
    pub fn output(&self) -> &[Complex<T>] {
        &self.output
    }
}

/// A planned transform back to real values with its buffers; nothing is allocated when it runs.
pub(crate) struct InverseTransform<T: FftNum> {
    plan: Arc<dyn ComplexToReal<T>>,
    output: Vec<T>,
    scratch: Vec<Complex<T>>,
}

impl<T: FftNum> InverseTransform<T> {
    /// Plans a transform to `length` values. Allocates.
    pub(crate) fn new(length: usize) -> Self {
        let plan = RealFftPlanner::new().plan_fft_inverse(length);
        let (output, scratch) = (plan.make_output_vec(), plan.make_scratch_vec());
        Self { plan, output, scratch }
    }

    /// The values of which `spectrum` is the transform, times their number; `spectrum` holds garbage
    /// afterwards.
    pub(crate) fn backward(&mut self, spectrum: &mut [Complex<T>]) -> &[T] {
        // What belongs to a real sequence is real at both ends but for rounding.
        spectrum[0].im = T::zero();
        if self.plan.len().is_multiple_of(2) {
            spectrum[self.plan.len() / 2].im = T::zero();
        }
        self.plan
            .process_with_scratch(spectrum, &mut self.output, &mut self.scratch)
            .expect("all three buffers have the planned lengths");
        &self.output
    }
}

/// The `length` real values whose transform is `spectrum`, which is real: symmetric about the
/// first.
pub(crate) fn real_inverse(spectrum: &[f64], length: usize) -> Vec<f64> {
    inverse(spectrum.iter().map(|x| Complex::new(*x, 0.0)).collect(), length)
}

/// The `length` real values of which `spectrum` is the transform.
pub(crate) fn inverse(mut spectrum: Vec<Complex<f64>>, length: usize) -> Vec<f64> {
    let mut transform = InverseTransform::new(length);
    transform.backward(&mut spectrum).iter().map(|value| value / length as f64).collect()
}

/// A planned convolution of a stream with a fixed kernel, block by block (overlap-add: T. G.
/// Stockham, AFIPS Spring Joint Computer Conf. 28, 1966).
///
/// Given K kernel values, each block of B samples gives B samples of y\[n\] = Σ h\[k\]·x\[n − k\],
/// computed with transforms of N ≥ B + K − 1; what lies beyond the block is added to the next.
pub(crate) struct Convolver {
    forward: Arc<dyn RealToComplex<f64>>,
    inverse: Arc<dyn ComplexToReal<f64>>,
    /// Transform of the kernel, over N.
    response: Vec<Complex<f64>>,
    block: usize,
    time: Vec<f64>,
    spectrum: Vec<Complex<f64>>,
    scratch: Vec<Complex<f64>>,
    /// What the blocks so far add to the next samples.
    tail: Vec<f64>,
}

impl Convolver {
    /// Plans a convolution with `kernel`, which must not be empty.
    pub(crate) fn new(kernel: &[f64]) -> Self {
        /// Shorter convolutions spend more on their overlap than on sound.
        const SHORTEST: usize = 1 << 14;
        let length = fast_length((4 * kernel.len()).max(SHORTEST));
        let mut planner = RealFftPlanner::new();
        let (forward, inverse) =
            (planner.plan_fft_forward(length), planner.plan_fft_inverse(length));
        let mut time = vec![0.0; length];
        let scale = 1.0 / length as f64;
        time.iter_mut().zip(kernel).for_each(|(value, h)| *value = h * scale);
        let mut response = forward.make_output_vec();
        let scratch = forward.get_scratch_len().max(inverse.get_scratch_len());
        let mut scratch = vec![Complex::default(); scratch];
        forward
            .process_with_scratch(&mut time, &mut response, &mut scratch)
            .expect("all three buffers have the planned lengths");
        Self {
            spectrum: forward.make_output_vec(),
            block: length + 1 - kernel.len(),
            tail: vec![0.0; kernel.len() - 1],
            forward,
            inverse,
            response,
            time,
            scratch,
        }
    }

    /// Samples that [`convolve`](Self::convolve) takes at most.
    pub(crate) fn block(&self) -> usize {
        self.block
    }

    /// Convolves the next samples of the stream, at most [`block`](Self::block) of them.
    pub(crate) fn convolve(&mut self, samples: &[f64]) -> &[f64] {
        self.time[..samples.len()].copy_from_slice(samples);
        self.time[samples.len()..].fill(0.0);
        let planned = "all three buffers have the planned lengths";
        self.forward
            .process_with_scratch(&mut self.time, &mut self.spectrum, &mut self.scratch)
            .expect(planned);
        self.spectrum.iter_mut().zip(&self.response).for_each(|(x, h)| *x *= h);
        // The product of two spectra of real signals is real at both ends but for rounding.
        let last = self.spectrum.len() - 1;
        self.spectrum[0].im = 0.0;
        if self.time.len().is_multiple_of(2) {
            self.spectrum[last].im = 0.0;
        }
        self.inverse
            .process_with_scratch(&mut self.spectrum, &mut self.time, &mut self.scratch)
            .expect(planned);
        let count = samples.len();
        self.time.iter_mut().zip(&self.tail).for_each(|(y, before)| *y += before);
        let tail = self.tail.len();
        self.tail.copy_from_slice(&self.time[count..count + tail]);
        &self.time[..count]
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
    fn convolution_agrees_with_the_textbook_sum_however_it_is_cut() {
        let kernel: Vec<f64> = (0..301).map(|k| (f64::from(k) * 0.7).cos() / 301.0).collect();
        let x: Vec<f64> = (0..40_000).map(|n| (f64::from(n * n) * 1e-3).sin()).collect();
        let mut convolver = Convolver::new(&kernel);
        let mut y = Vec::new();
        let (first, rest) = x.split_at(777);
        for block in std::iter::once(first).chain(rest.chunks(convolver.block())) {
            y.extend_from_slice(convolver.convolve(block));
        }
        for n in (0..x.len()).step_by(997) {
            let direct: f64 =
                kernel.iter().enumerate().take(n + 1).map(|(k, h)| h * x[n - k]).sum();
            assert!((y[n] - direct).abs() < 1e-12, "{n}");
        }
    }

    #[test]
    fn fast_lengths_are_products_of_small_primes() {
        assert_eq!([1, 7, 17, 4096, 26_113].map(fast_length), [2, 8, 18, 4096, 26_244]);
    }
}
