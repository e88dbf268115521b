//! What two recordings of one sound are to each other as they lie over each other.

use super::align::{Placed, Shifted};
use crate::error::Error;
use crate::lanes::product;
use crate::measured::Measured;
use crate::samples::{Reader, Samples};

/// A sound without what is near half the sample rate, (x(n−1) + 2·x(n) + x(n+1))/4: its gain is
/// cos² of half the angle. What is read between samples lacks it, and at one place more than at
/// another.
pub(super) fn lowered(sound: &[f32], into: &mut Vec<f32>) {
    into.clear();
    into.extend(sound.windows(3).map(|x| 0.25 * (x[0] + x[2]) + 0.5 * x[1]));
}

/// Share of the power that two have in common, as they lie over each other, without what is near
/// half the sample rate.
pub(super) fn shared(a: &dyn Samples, b: &dyn Samples, placed: &Placed) -> Result<f64, Error> {
    const BLOCK: usize = 1 << 14;
    let overlap = placed.overlap(a.count(), b.count());
    let (mut reader, mut shifted) = (Reader::new(a), Shifted::new(placed, b));
    let [mut aa, mut ab, mut bb] = [0.0; 3];
    let mut lower = [Vec::new(), Vec::new()];
    for from in overlap.clone().step_by(BLOCK) {
        let count = BLOCK.min(overlap.end - from);
        let both = [reader.at(from as i64, count)?, shifted.at(from, count)?.0];
        for (lower, x) in lower.iter_mut().zip(both) {
            lowered(x, lower);
        }
        let [a, b] = &lower;
        aa += product(a, a);
        ab += product(a, b);
        bb += product(b, b);
    }
    Ok(if aa * bb > 0.0 { ab * ab / (aa * bb) } else { 0.0 })
}

/// Adds up two recordings as they lie over each other.
pub(super) struct Overlay {
    /// Samples of a part at least, and those of the part under way.
    part: usize,
    filled: usize,
    /// Σ a², Σ ab and Σ b² of each part.
    parts: Vec<[f64; 3]>,
    /// Energy of the samples that the second is read from.
    own_energy: f64,
    /// Nearly the gain; what is left after it, Σ (b − g·a)², and Σ (b − g·a)·a.
    near_gain: f64,
    left: [f64; 2],
    rest: Vec<f32>,
}

/// What two recordings are to each other as they lie over each other.
pub(super) struct Overlaid {
    pub(super) gain: Measured,
    pub(super) correlation: f64,
    /// Energy of what is left after the gain, and of the second.
    pub(super) left: f64,
    pub(super) energy_b: f64,
}

impl Overlay {
    pub(super) fn new(placed: &Placed) -> Self {
        Self {
            part: placed.stretch,
            filled: usize::MAX,
            parts: Vec::new(),
            own_energy: 0.0,
            near_gain: placed.near_gain,
            left: [0.0; 2],
            rest: Vec::new(),
        }
    }

    pub(super) fn push(&mut self, a: &[f32], b: &[f32], own_energy: f64) {
        if self.filled >= self.part {
            self.parts.push([0.0; 3]);
            self.filled = 0;
        }
        self.filled += a.len();
        let sums = [product(a, a), product(a, b), product(b, b)];
        if let Some(part) = self.parts.last_mut() {
            part.iter_mut().zip(sums).for_each(|(sum, x)| *sum += x);
        }
        self.own_energy += own_energy;
        // A small rest between large sums would be lost.
        self.rest.clear();
        let rest = |(a, b): (&f32, &f32)| (f64::from(*b) - self.near_gain * f64::from(*a)) as f32;
        self.rest.extend(a.iter().zip(b).map(rest));
        self.left[0] += product(&self.rest, &self.rest);
        self.left[1] += product(&self.rest, a);
    }

    /// The gain of b re a with the scatter that the parts show, and what it leaves; `None` for
    /// silence.
    pub(super) fn finish(self) -> Option<Overlaid> {
        let [aa, ab, bb] = self.parts.iter().fold([0.0; 3], |mut sum, part| {
            sum.iter_mut().zip(part).for_each(|(sum, x)| *sum += x);
            sum
        });
        if aa <= 0.0 || bb <= 0.0 {
            return None;
        }
        // Noise in a lowers ab/aa, noise in b raises bb/ab: the gain lies between.
        let gain = (bb / aa).sqrt().copysign(ab);
        let alike = ab * ab / (aa * bb);
        let between = gain * 0.5 * (1.0 - alike) / 3f64.sqrt();
        let miss = |part: &[f64; 3]| (part[1] - ab / aa * part[0]).powi(2);
        let scatter: f64 = self.parts.iter().map(miss).sum();
        let count = self.parts.len() as f64;
        let u = (scatter * count / (count - 1.0).max(1.0)).sqrt() / aa;
        // What is read between samples lacks the highest frequencies, and their power.
        let scale = (self.own_energy / bb).sqrt();
        let gain = Measured::new(gain * scale, u.hypot(between) * scale);
        let more = gain.value - self.near_gain;
        let left = self.left[0] - 2.0 * more * self.left[1] + more * more * aa;
        Some(Overlaid {
            gain,
            correlation: alike.sqrt().min(1.0),
            left: left.max(0.0),
            energy_b: bb,
        })
    }
}
