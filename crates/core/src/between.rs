//! A sound between its samples.

use pulp::{Arch, Simd, WithSimd};

use crate::error::Error;
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
        Arch::new().dispatch(Along { between: self, sound, first, step, values });
    }
}

struct Along<'a> {
    between: &'a Interpolator,
    sound: &'a [f32],
    first: f64,
    step: f64,
    values: &'a mut [f32],
}

impl WithSimd for Along<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        let Self { between: Interpolator { taps, phases, kernel }, sound, first, step, values } =
            self;
        for (n, value) in values.iter_mut().enumerate() {
            let place = first + step * n as f64;
            let whole = place as usize;
            let phase = (place - whole as f64) * *phases as f64;
            let row = (phase as usize).min(phases - 1);
            let far = (phase - row as f64) as f32;
            let (now, next) = kernel[row * taps..(row + 2) * taps].split_at(*taps);
            let x = &sound[whole + 1 - taps / 2..][..*taps];
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
            *value = a[0];
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
                for step in [0.713, 1.0007] {
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
