//! How alike a frame is to itself, a period later.

use std::ops::RangeInclusive;

use pulp::{Arch, Simd, WithSimd};

use crate::lanes::{dot, sum};

/// A frame less its mean, with its energies added up, so that correlations are quick.
#[derive(Debug, Clone, Default)]
pub(super) struct Correlator {
    /// Narrow, since nothing but a share of evidence is made of it, and twice as many go into a
    /// register.
    samples: Vec<f32>,
    /// Energy of the samples before each block of [`ENERGY_BLOCK`].
    energies: Vec<f64>,
}

const ENERGY_BLOCK: usize = 16;

impl Correlator {
    pub(super) fn clear(&mut self) {
        self.samples.clear();
    }

    pub(super) fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    /// Takes a frame.
    pub(super) fn set(&mut self, frame: &[f32]) {
        let mean = sum(frame) / frame.len() as f32;
        self.samples.clear();
        self.samples.extend(frame.iter().map(|x| x - mean));
        self.energies.clear();
        let mut energy = 0.0;
        for block in self.samples.chunks(ENERGY_BLOCK) {
            self.energies.push(energy);
            energy += f64::from(dot(block, block));
        }
        self.energies.push(energy);
    }

    /// Energy of the samples before one.
    fn energy_before(&self, end: usize) -> f64 {
        let block = end / ENERGY_BLOCK;
        let rest = &self.samples[block * ENERGY_BLOCK..end];
        self.energies[block] + rest.iter().map(|x| f64::from(x * x)).sum::<f64>()
    }

    /// Correlation of the frame with itself so many samples later: 2Σxy/Σ(x² + y²).
    #[inline(always)]
    pub(super) fn at(&self, lag: usize) -> f64 {
        let count = self.samples.len();
        let lag = lag.min(count);
        let (early, late) = (&self.samples[..count - lag], &self.samples[lag..]);
        let squares =
            self.energy_before(count - lag) + self.energy_before(count) - self.energy_before(lag);
        if squares > 0.0 { 2.0 * f64::from(dot(early, late)) / squares } else { 0.0 }
    }
}

/// Correlations of a frame with itself, one for each lag.
struct Lags<'a> {
    frame: &'a Correlator,
    range: RangeInclusive<usize>,
    values: &'a mut Vec<f64>,
}

impl WithSimd for Lags<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        for lag in self.range {
            self.values.push(self.frame.at(lag));
        }
    }
}

/// Correlation of a frame with itself a lag later, the best within 2.5 % of it; several periods are
/// taken for one where one is short.
pub(super) fn periodicity(frame: &Correlator, lag: f64) -> f64 {
    const SHORTEST: f64 = 20.0;
    const AROUND: f64 = 0.025;
    let lag = lag * (SHORTEST / lag).ceil().max(1.0);
    let first = ((lag * (1.0 - AROUND)).floor() as usize).saturating_sub(1).max(1);
    let last = ((lag * (1.0 + AROUND)).ceil() as usize + 1).min(frame.samples.len() * 2 / 3);
    let mut values: Vec<f64> = Vec::with_capacity((last + 1).saturating_sub(first));
    Arch::new().dispatch(Lags { frame, range: first..=last, values: &mut values });
    let Some(best) = (0..values.len()).max_by(|a, b| values[*a].total_cmp(&values[*b])) else {
        return 0.0;
    };
    if best == 0 || best + 1 == values.len() {
        return values[best];
    }
    // The top of a parabola through three.
    let (before, top, after) = (values[best - 1], values[best], values[best + 1]);
    let curve = before - 2.0 * top + after;
    if curve < 0.0 { (top - (after - before).powi(2) / (8.0 * curve)).min(1.0) } else { top }
}
