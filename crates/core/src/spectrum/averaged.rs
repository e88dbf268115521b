//! The average of windowed power spectra (P. D. Welch, IEEE Trans. Audio Electroacoust. 15, 1967).

use crate::frame::FramePlan;
use crate::transform::RealTransform;

/// Averages the spectra of overlapping frames of a stream.
pub(crate) struct Averager {
    window: Vec<f64>,
    hop: usize,
    transform: RealTransform,
    input: Vec<f64>,
    /// Samples of the current frame and what has arrived after them.
    pending: Vec<f32>,
    /// Sum over frames of |X|², not scaled.
    power: Vec<f64>,
    frames: u64,
}

impl Averager {
    pub(crate) fn new(plan: &FramePlan) -> Self {
        let transform = RealTransform::new(plan.transform_size);
        Self {
            window: plan.window.samples().to_vec(),
            hop: plan.hop,
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
            let room = 2 * segment - self.pending.len();
            let (now, later) = samples.split_at(samples.len().min(room));
            self.pending.extend_from_slice(now);
            samples = later;
            let mut start = 0;
            while start + segment <= self.pending.len() {
                self.add_frame(start);
                start += self.hop;
            }
            self.pending.drain(..start);
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

    /// Mean power in each bin, scaled so that a sine of amplitude A in the middle of a bin reads
    /// A², and the number of frames.
    pub(crate) fn finish(mut self) -> (Vec<f64>, u64) {
        let gain: f64 = self.window.iter().sum();
        let scale = 1.0 / (gain * gain * self.frames.max(1) as f64);
        let last = self.power.len() - 1;
        let even = self.transform.length().is_multiple_of(2);
        for (k, power) in self.power.iter_mut().enumerate() {
            // A real tone has half its amplitude at +f and half at −f, except where both are one.
            let both_sides = if k == 0 || (k == last && even) { 1.0 } else { 4.0 };
            *power *= scale * both_sides;
        }
        (self.power, self.frames)
    }
}
