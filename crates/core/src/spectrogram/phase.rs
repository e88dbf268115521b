//! The phase from frame to frame.
//!
//! # What it computes
//!
//! With X_b\[k\] the transform of N points of frame b, and X_a that of the frame D samples before it,
//!
//! φ_b\[k\] = arg(X_b\[k\]·X*_a\[k\]·e^{−2πikD/N}),
//!
//! how much further the phase has moved than the frequency f_k of the bin explains. D is an eighth of
//! a frame, or one hop where that is more: frames that overlap nearly as a whole would show next to
//! nothing. A steady tone at f reads 2π·(f − f_k)·D/f_s, from frame to frame the same, in all bins
//! that it rules: 0 in the middle of a bin. Where a tone is cut and joined, begins anew or is
//! modulated, the phase leaves that, also where its level does not. Of the frames and bins that share
//! a cell it is that of the strongest, \|X_b\[k\]·X_a\[k\]\|.

use std::sync::Arc;

use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};

use super::{SpectrogramPlan, SpectrogramSettings, put_frame, transform_into};
use crate::error::Error;

/// Computes the phases of columns. Each thread has its own, by [`Clone`].
#[derive(Clone)]
pub struct PhaseAnalyser {
    plan: Arc<SpectrogramPlan>,
    window: Arc<Vec<f32>>,
    transform: Arc<dyn RealToComplex<f32>>,
    input: Vec<f32>,
    /// The frame, and the one that it is compared with.
    outputs: [Vec<Complex<f32>>; 2],
    scratch: Vec<Complex<f32>>,
    /// Of each bin the product of the two that is the largest of the column.
    products: Vec<Complex<f32>>,
}

impl PhaseAnalyser {
    /// Prepares for the columns of a plan that has phases.
    #[must_use]
    pub fn new(plan: Arc<SpectrogramPlan>) -> Self {
        let transform = RealFftPlanner::<f32>::new().plan_fft_forward(plan.frames.transform_size);
        let window = plan.frames.window.samples().iter().map(|w| *w as f32).collect();
        let outputs = [transform.make_output_vec(), transform.make_output_vec()];
        Self {
            window: Arc::new(window),
            input: transform.make_input_vec(),
            scratch: transform.make_scratch_vec(),
            products: vec![Complex::default(); outputs[0].len()],
            outputs,
            transform,
            plan,
        }
    }

    /// Computes a column from the samples that [`SpectrogramPlan::samples_of`] names: of each row
    /// the phase in degrees, from −180 to 180, lowest first; NaN where there is nothing, and in the
    /// first frames, which have none so long before them.
    ///
    /// # Panics
    ///
    /// If `rows` has another length than the plan's rows.
    pub fn column(&mut self, column: usize, samples: &[f32], rows: &mut [f32]) {
        let plan = self.plan.clone();
        assert_eq!(rows.len(), plan.rows(), "a column has as many rows as its plan");
        let frames = plan.frames_of(column);
        self.products.fill(Complex::default());
        for frame in frames {
            let Some(before) = frame.checked_sub(plan.lead) else { continue };
            self.transform_frame(before, column, samples);
            self.outputs.swap(0, 1);
            self.transform_frame(frame, column, samples);
            let [now, before] = &self.outputs;
            for ((most, now), before) in self.products.iter_mut().zip(now).zip(before) {
                let product = now * before.conj();
                if product.norm_sqr() > most.norm_sqr() {
                    *most = product;
                }
            }
        }
        let step = u128::from(plan.lead) * plan.frames.hop as u128;
        let size = plan.frames.transform_size as u128;
        for (row, bins) in rows.iter_mut().zip(&plan.bins) {
            let strongest = bins.clone().max_by(|a, b| {
                self.products[*a].norm_sqr().total_cmp(&self.products[*b].norm_sqr())
            });
            let product = strongest.map_or(Complex::default(), |k| self.products[k]);
            *row = match strongest.filter(|_| product.norm_sqr() > 0.0) {
                None => f32::NAN,
                Some(k) => {
                    // Whole turns are taken off before anything is rounded.
                    let turns = (k as u128 * step % size) as f64 / size as f64;
                    let moved = f64::from(product.arg()).to_degrees() - 360.0 * turns;
                    (moved - 360.0 * (moved / 360.0).round()) as f32
                }
            };
        }
    }

    /// Transforms a frame into the first of the outputs.
    fn transform_frame(&mut self, frame: u64, column: usize, samples: &[f32]) {
        let frames = &self.plan.frames;
        let (hop, half) = (frames.hop as u64, frames.segment() as u64 / 2);
        let first_sample = self.plan.samples_of(column).start;
        let start = i128::from(frame * hop) - i128::from(half) - i128::from(first_sample);
        put_frame(&mut self.input, &self.window, samples, start);
        let [output, _] = &mut self.outputs;
        transform_into(&*self.transform, &mut self.input, output, &mut self.scratch);
    }
}

/// Makes the phases of samples that are all at hand: the rows of the first column, lowest first,
/// then those of the next.
///
/// # Errors
///
/// As [`SpectrogramPlan::new`].
pub fn phases(
    samples: &[f32],
    sample_rate_hz: f64,
    settings: &SpectrogramSettings,
) -> Result<(Arc<SpectrogramPlan>, Vec<f32>), Error> {
    let settings = SpectrogramSettings { phases: true, ..*settings };
    let plan = Arc::new(SpectrogramPlan::new(&settings, sample_rate_hz, samples.len() as u64)?);
    let mut analyser = PhaseAnalyser::new(plan.clone());
    let mut phases = vec![f32::NAN; plan.columns * plan.rows()];
    for (column, cells) in phases.chunks_mut(plan.rows()).enumerate() {
        let needed = plan.samples_of(column);
        analyser.column(column, &samples[needed.start as usize..needed.end as usize], cells);
    }
    Ok((plan, phases))
}
