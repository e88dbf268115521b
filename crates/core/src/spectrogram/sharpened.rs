//! The sharpened spectrogram: what a frame spreads over time and frequency is put back where it
//! was.
//!
//! # What it computes
//!
//! With the transforms X of a frame under the window w, X_t under n·w (n from the middle of the
//! frame) and X_d under the derivative of w, the energy of each bin is moved to
//!
//! t̂ = t + Re(X_t/X)/f_s,  f̂ = f − Im(X_d/X)·f_s/2π,
//!
//! the centre of gravity of the part of the sound that made it (K. Kodera, R. Gendrin and C. de
//! Villedary, IEEE Trans. Acoust. Speech Signal Process. 26, 1978; F. Auger and P. Flandrin, IEEE
//! Trans. Signal Process. 43, 1995). For a click, a tone or a straight glide that is exact: each
//! becomes a thin line. The energies that meet in a cell are added, over the noise bandwidth of the
//! window and the frames of a column, so that a steady tone of amplitude A whose energy meets in
//! one cell reads A².

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

/// What frames hold, bin by bin of the first frame, then of the next.
#[derive(Debug, Clone, Default)]
pub struct FrameValues {
    /// Square of the amplitude re full scale of a sine in the middle of each bin.
    pub power: Vec<f32>,
    /// Frequency in Hz of the phase in each bin: that of the tone which rules the bin; NaN where
    /// next to nothing is.
    pub phase_hz: Vec<f32>,
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

    /// Transforms the frames of a column, and hands over each with its three transforms.
    fn frames_of(
        &mut self,
        column: usize,
        samples: &[f32],
        mut with: impl FnMut(u64, &[Vec<Complex<f32>>; 3]),
    ) {
        let plan = &self.plan;
        let first_sample = plan.samples_of(column).start;
        let (hop, half) = (plan.frames.hop as u64, plan.frames.segment() as u64 / 2);
        for frame in plan.frames_of(column) {
            let start = i128::from(frame * hop) - i128::from(half) - i128::from(first_sample);
            for (window, output) in self.windows.iter().zip(&mut self.outputs) {
                put_frame(&mut self.input, window, samples, start);
                transform_into(&*self.transform, &mut self.input, output, &mut self.scratch);
            }
            with(frame, &self.outputs);
        }
    }

    /// Adds to `moved` what the frames of a column hold, from the samples that
    /// [`SpectrogramPlan::samples_of`] names.
    pub fn column(&mut self, column: usize, samples: &[f32], moved: &mut Vec<Moved>) {
        let plan = self.plan.clone();
        let rate = plan.sample_rate_hz;
        let frames = plan.frames_of(column);
        let pad = plan.frames.transform_size as f64 / plan.frames.segment() as f64;
        let bandwidth_bins = plan.frames.window.figures().noise_bandwidth_bins * pad;
        let count = (frames.end - frames.start) as f64;
        let scale = (of_amplitude(&plan) / (bandwidth_bins * count)) as f32;
        self.frames_of(column, samples, |frame, transforms| {
            let [plain, timed, _] = transforms;
            let strongest = plain.iter().map(Complex::norm_sqr).fold(0.0, f32::max);
            let middle_s = (frame * plan.frames.hop as u64) as f64 / rate;
            for (k, x) in plain.iter().enumerate() {
                let power = x.norm_sqr();
                if power <= WEAKEST * strongest {
                    continue;
                }
                let later = (timed[k] * x.conj()).re / power;
                moved.push(Moved {
                    time_s: (middle_s + f64::from(later) / rate) as f32,
                    frequency_hz: moved_to_hz(&plan, k, transforms) as f32,
                    power: power * scale,
                });
            }
        });
    }

    /// Adds to `values` what every frame of a column holds in each of the plan's
    /// [`bins`](SpectrogramPlan::bins), from the samples that [`SpectrogramPlan::samples_of`]
    /// names.
    pub fn values(&mut self, column: usize, samples: &[f32], values: &mut FrameValues) {
        let plan = self.plan.clone();
        let scale = of_amplitude(&plan) as f32;
        self.frames_of(column, samples, |_, transforms| {
            let plain = &transforms[0];
            let strongest = plain.iter().map(Complex::norm_sqr).fold(0.0, f32::max);
            for k in plan.bins() {
                let power = plain[k].norm_sqr();
                values.power.push(power * scale);
                let is_known = power > WEAKEST * strongest;
                let hz = is_known.then(|| moved_to_hz(&plan, k, transforms));
                values.phase_hz.push(hz.map_or(f32::NAN, |hz| hz as f32));
            }
        });
    }
}

/// Square of the amplitude of a tone over that of its largest bin.
fn of_amplitude(plan: &SpectrogramPlan) -> f64 {
    let gain: f64 = plan.frames.window.samples().iter().sum();
    4.0 / (gain * gain)
}

/// The frequency of the phase of a bin that is not 0.
fn moved_to_hz(plan: &SpectrogramPlan, k: usize, transforms: &[Vec<Complex<f32>>; 3]) -> f64 {
    let [plain, _, sloped] = transforms;
    let lower = (sloped[k] * plain[k].conj()).im / plain[k].norm_sqr();
    let rate = plan.sample_rate_hz;
    k as f64 * plan.frames.bin_spacing_hz(rate) - f64::from(lower) * rate / std::f64::consts::TAU
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
    Ok(Spectrogram { plan, power, is_sharpened: true, phase_deg: Vec::new() })
}
