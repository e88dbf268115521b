//! The average of windowed power spectra (P. D. Welch, IEEE Trans. Audio Electroacoust. 15, 1967).

use crate::frame::FramePlan;
use crate::transform::RealTransform;

/// Averages the spectra of every second frame of a stream.
pub(crate) struct Averager {
    window: Vec<f64>,
    /// From the start of a frame to that of the next but one.
    step: usize,
    /// Samples to leave out before the next frame begins.
    skip: usize,
    transform: RealTransform,
    input: Vec<f64>,
    /// Samples of the current frame and what has arrived after them.
    pending: Vec<f32>,
    /// Sum over frames of |X|², not scaled.
    power: Vec<f64>,
    frames: u64,
}

impl Averager {
    /// Takes the frames 0, 2, 4, … if `first` is 0, the frames 1, 3, 5, … if it is 1.
    pub(crate) fn new(plan: &FramePlan, first: usize) -> Self {
        let transform = RealTransform::new(plan.transform_size);
        Self {
            window: plan.window.samples().to_vec(),
            step: 2 * plan.hop,
            skip: first * plan.hop,
            input: vec![0.0; plan.transform_size],
            pending: Vec::with_capacity(2 * plan.segment()),
            power: vec![0.0; plan.transform_size / 2 + 1],
            transform,
            frames: 0,
        }
    }

    pub(crate) fn push(&mut self, mut samples: &[f32]) {
        let segment = self.window.len();
        while !samples.is_empty() {
            let left_out = self.skip.min(samples.len());
            self.skip -= left_out;
            samples = &samples[left_out..];
            let room = 2 * segment - self.pending.len();
            let (now, later) = samples.split_at(samples.len().min(room));
            self.pending.extend_from_slice(now);
            samples = later;
            let mut start = 0;
            while start + segment <= self.pending.len() {
                self.add_frame(start);
                start += self.step;
            }
            let held = self.pending.len();
            self.skip += start.saturating_sub(held);
            self.pending.drain(..start.min(held));
        }
    }

    fn add_frame(&mut self, start: usize) {
        let (windowed, padding) = self.input.split_at_mut(self.window.len());
        let frame = &self.pending[start..];
        for ((value, sample), weight) in windowed.iter_mut().zip(frame).zip(&self.window) {
            *value = f64::from(*sample) * weight;
        }
        padding.fill(0.0);
        let spectrum = self.transform.forward(&mut self.input);
        for (sum, bin) in self.power.iter_mut().zip(spectrum) {
            *sum += bin.norm_sqr();
        }
        self.frames += 1;
    }

    /// Mean power in each bin over the frames of both, scaled so that a sine of amplitude A in the
    /// middle of a bin reads A², and the number of frames.
    pub(crate) fn finish(mut self, other: &Self) -> (Vec<f64>, u64) {
        let frames = self.frames + other.frames;
        let gain: f64 = self.window.iter().sum();
        let scale = 1.0 / (gain * gain * frames.max(1) as f64);
        let last = self.power.len() - 1;
        let even = self.transform.length().is_multiple_of(2);
        for (k, (power, others)) in self.power.iter_mut().zip(&other.power).enumerate() {
            // A real tone has half its amplitude at +f and half at −f, except where both are one.
            let both_sides = if k == 0 || (k == last && even) { 1.0 } else { 4.0 };
            *power = (*power + others) * scale * both_sides;
        }
        (self.power, frames)
    }
}
