//! The sharpened spectrogram: what a frame spreads over time and frequency is put back where it was.
//!
//! # What it computes
//!
//! With the transforms X of a frame under the window w, X_t under n·w (n from the middle of the frame) and
//! X_d under the derivative of w, the energy of each bin is moved to
//!
//! t̂ = t + Re(X_t/X)/f_s,  f̂ = f − Im(X_d/X)·f_s/2π,
//!
//! the centre of gravity of the part of the sound that made it (K. Kodera, R. Gendrin and C. de
//! Villedary, IEEE Trans. Acoust. Speech Signal Process. 26, 1978; F. Auger and P. Flandrin, IEEE Trans.
//! Signal Process. 43, 1995). For a click, a tone or a straight glide that is exact: each becomes a thin
//! line. The energies that meet in a cell are added, over the noise bandwidth of the window and the
//! frames of a column, so that a steady tone of amplitude A whose energy meets in one cell reads A².

use std::sync::Arc;

use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};

use super::{Spectrogram, SpectrogramPlan, SpectrogramSettings, put_frame, transform_into};
use crate::error::Error;

/// Energy that has found its place.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moved {
    /// Time in seconds from the start of the span.
    pub time_s: f32,
    /// Frequency in Hz: that of the phase of the bin that it comes from.
    pub frequency_hz: f32,
    /// Its share of the square of the amplitude in a column.
    pub power: f32,
}

/// Weaker than the strongest bin of its frame by more than this, energy is left out.
const WEAKEST: f32 = 1e-11;

/// Computes what the frames of a column hold, and where that belongs. Each thread has its own.
#[derive(Clone)]
pub struct SharpAnalyser {
    plan: Arc<SpectrogramPlan>,
    /// The window, the window times time in samples, and its derivative.
    windows: Arc<[Vec<f32>; 3]>,
    transform: Arc<dyn RealToComplex<f32>>,
    input: Vec<f32>,
    outputs: [Vec<Complex<f32>>; 3],
    scratch: Vec<Complex<f32>>,
}

impl SharpAnalyser {
    /// Prepares for the columns of a plan.
    #[must_use]
    pub fn new(plan: Arc<SpectrogramPlan>) -> Self {
        let transform = RealFftPlanner::<f32>::new().plan_fft_forward(plan.frames.transform_size);
        let window = plan.frames.window.samples();
        let middle = plan.frames.segment() as f64 / 2.0;
        let timed = window.iter().enumerate().map(|(n, w)| ((n as f64 - middle) * w) as f32);
        // The window is taken as 0 outside the frame.
        let at = |n: usize| window.get(n).copied().unwrap_or(0.0);
        let slope = |n: usize| {
            let before = n.checked_sub(1).map_or(0.0, at);
            (0.5 * (at(n + 1) - before)) as f32
        };
        let windows = [
            window.iter().map(|w| *w as f32).collect(),
            timed.collect(),
            (0..window.len()).map(slope).collect(),
        ];
        Self {
            windows: Arc::new(windows),
            input: transform.make_input_vec(),
            outputs: [(); 3].map(|()| transform.make_output_vec()),
            scratch: transform.make_scratch_vec(),
            transform,
            plan,
        }
    }

    /// Adds to `moved` what the frames of a column hold, from the samples that
    /// [`SpectrogramPlan::samples_of`] names.
    pub fn column(&mut self, column: usize, samples: &[f32], moved: &mut Vec<Moved>) {
        let plan = &self.plan;
        let rate = plan.sample_rate_hz;
        let frames = plan.frames_of(column);
        let first_sample = plan.samples_of(column).start;
        let (hop, half) = (plan.frames.hop as u64, plan.frames.segment() as u64 / 2);
        let gain: f64 = plan.frames.window.samples().iter().sum();
        let pad = plan.frames.transform_size as f64 / plan.frames.segment() as f64;
        let bandwidth_bins = plan.frames.window.figures().noise_bandwidth_bins * pad;
        let count = (frames.end - frames.start) as f64;
        let scale = (4.0 / (gain * gain * bandwidth_bins * count)) as f32;
        let spacing_hz = plan.frames.bin_spacing_hz(rate);
        for frame in frames {
            let start = i128::from(frame * hop) - i128::from(half) - i128::from(first_sample);
            for (window, output) in self.windows.iter().zip(&mut self.outputs) {
                put_frame(&mut self.input, window, samples, start);
                transform_into(&*self.transform, &mut self.input, output, &mut self.scratch);
            }
            let [plain, timed, sloped] = &self.outputs;
            let strongest = plain.iter().map(Complex::norm_sqr).fold(0.0, f32::max);
            let middle_s = (frame * hop) as f64 / rate;
            for (k, x) in plain.iter().enumerate() {
                let power = x.norm_sqr();
                if power <= WEAKEST * strongest {
                    continue;
                }
                let later = (timed[k] * x.conj()).re / power;
                let lower = (sloped[k] * x.conj()).im / power;
                let higher_hz = f64::from(-lower) * rate / std::f64::consts::TAU;
                moved.push(Moved {
                    time_s: (middle_s + f64::from(later) / rate) as f32,
                    frequency_hz: (k as f64 * spacing_hz + higher_hz) as f32,
                    power: power * scale,
                });
            }
        }
    }
}

/// Adds energies to the cells they belong to; what lies outside the picture is left out.
pub fn gather(plan: &SpectrogramPlan, moved: &[Moved], power: &mut [f32]) {
    let rows = plan.rows();
    let edges = &plan.edges_hz;
    let (low, high) = (plan.axis.position(edges[0]), plan.axis.position(edges[rows]));
    let frames_per_s = plan.sample_rate_hz / plan.frames.hop as f64;
    let columns_per_frame = plan.columns as f64 / plan.frame_count as f64;
    for part in moved {
        let hz = f64::from(part.frequency_hz);
        // Half a frame belongs to either side of its middle.
        let column = (f64::from(part.time_s) * frames_per_s + 0.5) * columns_per_frame;
        let row = (plan.axis.position(hz.max(1e-3)) - low) / (high - low) * rows as f64;
        if column >= 0.0 && row >= 0.0 && (column as usize) < plan.columns && (row as usize) < rows
        {
            power[column as usize * rows + row as usize] += part.power;
        }
    }
}

/// Makes a sharpened spectrogram of samples that are all at hand.
///
/// # Errors
///
/// As [`SpectrogramPlan::new`].
pub fn sharpened(
    samples: &[f32],
    sample_rate_hz: f64,
    settings: &SpectrogramSettings,
) -> Result<Spectrogram, Error> {
    let plan = Arc::new(SpectrogramPlan::new(settings, sample_rate_hz, samples.len() as u64)?);
    let mut analyser = SharpAnalyser::new(plan.clone());
    let mut power = vec![0.0; plan.columns * plan.rows()];
    let mut moved = Vec::new();
    for column in 0..plan.columns {
        let needed = plan.samples_of(column);
        moved.clear();
        analyser.column(column, &samples[needed.start as usize..needed.end as usize], &mut moved);
        gather(&plan, &moved, &mut power);
    }
    Ok(Spectrogram { plan, power })
}
