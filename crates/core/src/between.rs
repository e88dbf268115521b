//! A sound between its samples.

use pulp::{Arch, Simd, WithSimd};

use crate::error::Error;
use crate::lanes::convolve;
use crate::samples::{Reader, Samples};
use crate::window::{Kaiser, ideal_low_pass};

/// Taps that are summed side by side; their number divides that of all.
const LANES: usize = 16;

/// Tells values between samples by a sinc under a Kaiser window, from a table of phases.
pub(crate) struct Interpolator {
    taps: usize,
    phases: usize,
    /// For each phase its taps.
    kernel: Vec<f32>,
}

impl Interpolator {
    /// Passes frequencies below 0.4 of the sample rate within −90 dB; quick.
    pub(crate) fn quick() -> Self {
        Self::new(32, 128)
    }

    /// Passes frequencies below 0.475 of the sample rate within −90 dB.
    pub(crate) fn wide() -> Self {
        Self::new(128, 512)
    }

    fn new(taps: usize, phases: usize) -> Self {
        /// Kaiser's shape for side lobes of −90 dB (J. F. Kaiser, 1974: A = 8.7 + β/0.1102).
        const BETA: f64 = 9.0;
        let half = taps as f64 / 2.0;
        let kaiser = Kaiser::new(BETA);
        let tap = |phase: usize, k: usize| {
            let x = k as f64 - (half - 1.0) - phase as f64 / phases as f64;
            (ideal_low_pass(0.5, x) * kaiser.at(x / half)) as f32
        };
        let kernel = (0..=phases).flat_map(|phase| (0..taps).map(move |k| tap(phase, k)));
        Self { taps, phases, kernel: kernel.collect() }
    }

    /// Share of the sample rate below which frequencies pass: half of it less half the transition,
    /// which is that of a filter designed by J. F. Kaiser's rule for −90 dB.
    pub(crate) fn passes(&self) -> f64 {
        0.5 - 3.2 / self.taps as f64
    }

    /// Samples that are needed before the first place told, and from it on, for so many places a
    /// step apart.
    pub(crate) fn needs(&self, count: usize, step: f64) -> (usize, usize) {
        let before = self.taps / 2 - 1;
        (before, (count as f64 * step).ceil() as usize + self.taps / 2 + 2)
    }

    /// The sound at `first`, `first` + `step`, …, places counted from the first of its samples,
    /// which must hold what [`needs`](Self::needs) says.
    pub(crate) fn along(&self, sound: &[f32], first: f64, step: f64, values: &mut [f32]) {
        if step == 1.0 {
            let (whole, phase) = (first as usize, first.fract());
            let ((now, next), far) = self.rows(phase);
            let taps: Vec<f32> = now.iter().zip(next).map(|(a, b)| a + far * (b - a)).collect();
            convolve(&taps, &sound[whole + 1 - self.taps / 2..], values);
            return;
        }
        Arch::new().dispatch(Along { between: self, sound, first, step, values });
    }

    /// The two rows of the table that a phase lies between, and how far it is from the first.
    #[inline(always)]
    fn rows(&self, phase: f64) -> ((&[f32], &[f32]), f32) {
        let Self { taps, phases, kernel } = self;
        let place = phase * *phases as f64;
        let row = (place as usize).min(phases - 1);
        (kernel[row * taps..(row + 2) * taps].split_at(*taps), (place - row as f64) as f32)
    }
}

/// Values side by side where the places are a sample apart but for the drift of a clock; else one by
/// one.
struct Along<'a> {
    between: &'a Interpolator,
    sound: &'a [f32],
    first: f64,
    step: f64,
    values: &'a mut [f32],
}

impl Along<'_> {
    /// Where so many values from one on lie in as many samples and nearly as far behind each: the
    /// first of these samples, and the phases of the first and the last value.
    fn abreast(&self, n: usize) -> Option<(usize, [f64; 2])> {
        /// Rows of the table between them over which the kernel is as good as straight.
        const ROWS: f64 = 0.5;
        let place = self.first + self.step * n as f64;
        let whole = place as usize;
        let first = place - whole as f64;
        let last = first + (self.step - 1.0) * (LANES - 1) as f64;
        let is_straight = (last - first).abs() * self.between.phases as f64 <= ROWS;
        (is_straight && (0.0..=1.0).contains(&last)).then_some((whole, [first, last]))
    }
}

impl WithSimd for Along<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) {
        // How far the values abreast lie from the first to the last.
        let shares: [f32; LANES] = std::array::from_fn(|lane| lane as f32 / (LANES - 1) as f32);
        let (taps, zero) = (self.between.taps, simd.splat_f32s(0.0));
        let samples_of = |whole: usize| &self.sound[whole + 1 - taps / 2..];
        let count = self.values.len();
        let mut n = 0;
        while n < count {
            let abreast = if count - n < LANES { None } else { self.abreast(n) };
            if let Some((whole, [first, last])) = abreast {
                let (((a, a_next), a_far), ((b, b_next), b_far)) =
                    (self.between.rows(first), self.between.rows(last));
                let x = &samples_of(whole)[..taps + LANES - 1];
                let (mut of_a, mut of_b) = ([zero; LANES], [zero; LANES]);
                for (k, x) in x.windows(LANES).enumerate() {
                    let a = simd.splat_f32s(a[k] + a_far * (a_next[k] - a[k]));
                    let b = simd.splat_f32s(b[k] + b_far * (b_next[k] - b[k]));
                    for lane in 0..LANES / S::F32_LANES {
                        let x = simd.partial_load_f32s(&x[lane * S::F32_LANES..][..S::F32_LANES]);
                        of_a[lane] = simd.mul_add_f32s(a, x, of_a[lane]);
                        of_b[lane] = simd.mul_add_f32s(b, x, of_b[lane]);
                    }
                }
                let values = self.values[n..n + LANES].chunks_mut(S::F32_LANES);
                let far = shares.chunks(S::F32_LANES);
                for (((values, far), a), b) in values.zip(far).zip(of_a).zip(of_b) {
                    let far = simd.partial_load_f32s(far);
                    let between = simd.mul_add_f32s(far, simd.sub_f32s(b, a), a);
                    simd.partial_store_f32s(values, between);
                }
                n += LANES;
                continue;
            }
            let place = self.first + self.step * n as f64;
            let whole = place as usize;
            let ((now, next), far) = self.between.rows(place - whole as f64);
            let x = &samples_of(whole)[..taps];
            let rows = now.as_chunks::<LANES>().0.iter().zip(next.as_chunks::<LANES>().0);
            let (mut a, mut b) = ([0.0; LANES], [0.0; LANES]);
            for ((now, next), x) in rows.zip(x.as_chunks::<LANES>().0) {
                for lane in 0..LANES {
                    a[lane] += now[lane] * x[lane];
                    b[lane] += next[lane] * x[lane];
                }
            }
            for lane in 0..LANES {
                a[lane] += far * (b[lane] - a[lane]);
            }
            let mut half = LANES / 2;
            while half > 0 {
                for lane in 0..half {
                    a[lane] += a[lane + half];
                }
                half /= 2;
            }
            self.values[n] = a[0];
            n += 1;
        }
    }
}

/// A sound at a higher rate, read between its samples; or as it is, where it has that rate.
pub(crate) struct Raised<'a> {
    samples: &'a dyn Samples,
    /// Own samples for each of the higher rate.
    step: f64,
    between: Interpolator,
}

impl<'a> Raised<'a> {
    /// A sound of which each sample of the higher rate is so many samples, at most one.
    pub(crate) fn new(samples: &'a dyn Samples, step: f64) -> Self {
        Self { samples, step, between: Interpolator::wide() }
    }

    pub(crate) fn samples(&self) -> &dyn Samples {
        if self.step < 1.0 { self } else { self.samples }
    }
}

impl Samples for Raised<'_> {
    fn count(&self) -> usize {
        (self.samples.count() as f64 / self.step).floor() as usize
    }

    fn read(&self, start: usize, into: &mut [f32]) -> Result<(), Error> {
        let place = start as f64 * self.step;
        let (before, behind) = self.between.needs(into.len(), self.step);
        let mut reader = Reader::new(self.samples);
        let sound = reader.at(place as i64 - before as i64, before + behind)?;
        self.between.along(sound, before as f64 + place.fract(), self.step, into);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::f64::consts::PI;

    use super::*;
    use crate::synth::sine;

    #[test]
    fn what_passes_is_told_between_samples() {
        for (between, highest) in [(Interpolator::quick(), 0.4), (Interpolator::wide(), 0.473)] {
            assert!(between.passes() >= highest);
            for share in [0.01, 0.2, 0.99 * highest] {
                let sound = sine(share, 1.0, 0.4, 1.0, 600);
                for step in [0.713, 0.999_93, 1.0, 1.000_02, 1.0007] {
                    let first = 250.3;
                    let (before, behind) = between.needs(40, step);
                    let from = 250 - before;
                    let mut values = [0.0; 40];
                    let held = &sound[from..250 + behind];
                    between.along(held, first - from as f64, step, &mut values);
                    for (n, value) in values.iter().enumerate() {
                        let truth = (2.0 * PI * share * (first + step * n as f64) + 0.4).cos();
                        assert!((f64::from(*value) - truth).abs() < 1e-4, "{share} {step} {n}");
                    }
                }
            }
        }
    }
}
