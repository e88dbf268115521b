//! The spectrogram: level over time and frequency, as a picture needs it.
//!
//! # What it computes
//!
//! The span is cut into overlapping frames of L samples, the first centred on its first sample,
//! what lies outside the span being silence. With the window w, X_b\[k\] the transform of frame b
//! and
//!
//! P_b\[k\] = (2/Σw)²·\|X_b\[k\]\|²,
//!
//! a sine of amplitude A in the middle of a bin reads A², as in [`crate::spectrum`]. The picture
//! has columns and rows of cells:
//!
//! - Frames that share a column are pooled in each bin: by their maximum, so that a click is seen
//!   however many frames a column holds, or by their mean power. With fewer frames than columns
//!   each frame is a column of its own; nothing is interpolated.
//! - Bins that share a row are pooled likewise; a row narrower than a bin takes the bin that it
//!   lies in, so that low notes leave no holes.
//! - With the maximum, the largest bin of a tone is raised to what the tone has between the bins,
//!   by the shape of the window's lobe: levels of tones are right on every axis.
//!
//! Transforms are in `f32`: this is a picture. Its memory is that of its cells; the span may be of
//! any length. A column depends on its own frames alone, so columns may be computed in any order
//! and by any number of threads, to the same bits: [`SpectrogramPlan`] says which samples a column
//! needs, a [`ColumnAnalyser`] computes it.

mod axis;
mod phase;
mod sharpened;
mod slice;

pub use axis::FrequencyAxis;
pub use phase::{PhaseAnalyser, phases};
pub use sharpened::{FrameValues, Moved, SharpAnalyser, gather, sharpened};
pub use slice::{Slice, SliceAt};

use std::ops::Range;
use std::sync::Arc;

use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};
use serde::Serialize;

use crate::error::Error;
use crate::finding::Finding;
use crate::frame::{FramePlan, FrameSettings};
use crate::samples::{Reader, Samples};
use crate::units::{Extent, db_from_power};
use crate::window::Window;

/// What becomes of values that share a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Pooling {
    /// The greatest: nothing is lost from sight.
    #[default]
    Maximum,
    /// Their mean power: noise keeps its level.
    Power,
}

/// What spectrogram to make.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SpectrogramSettings {
    /// How frames are cut. Default: [`DEFAULT_RESOLUTION_HZ`], unless a time is asked for; as many
    /// frames as columns, where the window's own hop leaves fewer.
    pub frames: FrameSettings,
    /// Time in seconds within which what happens is blurred. Default: what the resolution leaves.
    pub time_s: Option<f64>,
    /// How frequencies are spread.
    pub axis: FrequencyAxis,
    /// Lowest and highest frequency in Hz. Default: all, from 20 Hz where the axis has no 0.
    pub range_hz: Option<(f64, f64)>,
    /// Most columns and rows.
    pub size: (usize, usize),
    /// What becomes of values that share a cell.
    pub pooling: Pooling,
    /// Whether phases are asked for, which takes frames before each column.
    pub phases: bool,
}

impl Default for SpectrogramSettings {
    fn default() -> Self {
        Self {
            frames: FrameSettings::default(),
            time_s: None,
            axis: FrequencyAxis::default(),
            range_hz: None,
            size: (1024, 512),
            pooling: Pooling::default(),
            phases: false,
        }
    }
}

/// Which frames and bins go into which cell.
#[derive(Debug, Clone)]
pub struct SpectrogramPlan {
    /// How frames are cut.
    pub frames: FramePlan,
    /// Frames in all.
    pub frame_count: u64,
    /// Columns, at most as many as frames.
    pub columns: usize,
    /// Edges of the rows in Hz, lowest first.
    pub edges_hz: Vec<f64>,
    /// How frequencies are spread.
    pub axis: FrequencyAxis,
    pooling: Pooling,
    /// How many frames before a frame its phase is compared with; 0 where phases are not asked for.
    lead: u64,
    span_samples: u64,
    sample_rate_hz: f64,
    /// Bins of each row.
    bins: Vec<Range<usize>>,
    /// What could not be had as asked.
    pub findings: Vec<Finding>,
}

/// Resolution in Hz unless one or a time is set: partials of notes from the octave below middle C
/// up are lines, and a frame blurs some 50 ms.
pub const DEFAULT_RESOLUTION_HZ: f64 = 20.0;

/// Frames that hold more samples than this in all are not zero-padded: some seconds of work.
const MOST_SAMPLES_PADDED: u64 = 1 << 24;

/// Lowest frequency of an axis that has no 0, unless a range is set, in Hz.
const LOWEST_HZ: f64 = 20.0;

impl SpectrogramPlan {
    /// Works out the cells for a span of `span_samples` samples.
    ///
    /// # Errors
    ///
    /// As [`FramePlan::new`]; [`Error::Setting`] for a range that makes no sense, and for fewer
    /// than 8 columns or rows or more than 20 000.
    pub fn new(
        settings: &SpectrogramSettings,
        sample_rate_hz: f64,
        span_samples: u64,
    ) -> Result<Self, Error> {
        let (most_columns, rows) = settings.size;
        if ![most_columns, rows].iter().all(|side| (8..=20_000).contains(side)) {
            return Err(Error::Setting {
                setting: "the size of the picture",
                given: format!("{most_columns} x {rows} cells"),
                allowed: "8 to 20 000 cells a side".into(),
            });
        }
        let nyquist_hz = sample_rate_hz / 2.0;
        let (mut low_hz, high_hz) = settings.range_hz.unwrap_or((0.0, nyquist_hz));
        if low_hz <= 0.0 && settings.axis == FrequencyAxis::Logarithmic {
            low_hz = LOWEST_HZ.min(high_hz / 10.0);
        }
        if !(low_hz >= 0.0 && low_hz < high_hz && high_hz <= nyquist_hz * (1.0 + 1e-9)) {
            return Err(Error::Setting {
                setting: "the frequency range",
                given: format!("{low_hz} Hz to {high_hz} Hz"),
                allowed: format!(
                    "rising and end at half the sample rate, {nyquist_hz} Hz, at most"
                ),
            });
        }
        let (frames, findings) = plan_frames(settings, sample_rate_hz, span_samples)?;
        let frame_count = span_samples.div_ceil(frames.hop as u64) + 1;
        let edges_hz = settings.axis.edges_hz(low_hz, high_hz, rows);
        let last_bin = frames.transform_size / 2;
        let spacing_hz = frames.bin_spacing_hz(sample_rate_hz);
        let bins = edges_hz
            .windows(2)
            .map(|edge| {
                let inside = |hz: f64| (hz / spacing_hz).round().min(last_bin as f64) as usize;
                // Bins whose middles lie in the row, or the one that the middle of the row lies in.
                let first = (edge[0] / spacing_hz).ceil() as usize;
                let end = ((edge[1] / spacing_hz).ceil() as usize).min(last_bin + 1);
                if first < end {
                    first..end
                } else {
                    let nearest = inside(0.5 * (edge[0] + edge[1]));
                    nearest..nearest + 1
                }
            })
            .collect();
        let lead = if settings.phases { frames_of_a_step(&frames) } else { 0 };
        let columns = most_columns.min(usize::try_from(frame_count).unwrap_or(most_columns));
        Ok(Self {
            frames,
            frame_count,
            columns,
            edges_hz,
            axis: settings.axis,
            pooling: settings.pooling,
            lead,
            span_samples,
            sample_rate_hz,
            bins,
            findings,
        })
    }

    /// Time in seconds within which a frame blurs what happens: that for which its window is above
    /// half its height.
    #[must_use]
    pub fn blur_s(&self) -> f64 {
        half_height(&self.frames.window) * self.frames.segment() as f64 / self.sample_rate_hz
    }

    /// What becomes of values that share a cell.
    #[must_use]
    pub fn pooling(&self) -> Pooling {
        self.pooling
    }

    /// Time in seconds over which phases move; `None` where they were not asked for.
    #[must_use]
    pub fn phase_step_s(&self) -> Option<f64> {
        let samples = self.lead as f64 * self.frames.hop as f64;
        (self.lead > 0).then_some(samples / self.sample_rate_hz)
    }

    /// Rows of the picture.
    #[must_use]
    pub fn rows(&self) -> usize {
        self.bins.len()
    }

    /// Frames of a column.
    fn frames_of(&self, column: usize) -> Range<u64> {
        let first = |column: usize| {
            (column as u128 * u128::from(self.frame_count)).div_ceil(self.columns as u128) as u64
        };
        first(column)..first(column + 1)
    }

    /// Samples of the span that a column needs: those of its frames, as far as they lie in the
    /// span.
    #[must_use]
    pub fn samples_of(&self, column: usize) -> Range<u64> {
        let frames = self.frames_of(column);
        let (hop, half) = (self.frames.hop as u64, self.frames.segment() as u64 / 2);
        let start = (frames.start.saturating_sub(self.lead) * hop).saturating_sub(half);
        let last = (frames.end - 1) * hop + self.frames.segment() as u64;
        start.min(self.span_samples)..last.saturating_sub(half).min(self.span_samples)
    }

    /// Columns whose frames lie in the span as a whole, so that their levels are right; those at
    /// its ends see the sound begin or end.
    #[must_use]
    pub fn whole_columns(&self) -> Range<usize> {
        let (hop, segment) = (self.frames.hop as u64, self.frames.segment() as u64);
        let half = segment / 2;
        let is_early = |column: &usize| self.frames_of(*column).start * hop < half;
        let is_late = |column: &usize| {
            (self.frames_of(*column).end - 1) * hop + segment - half > self.span_samples
        };
        let first = (0..self.columns).take_while(is_early).count();
        let late = (0..self.columns).rev().take_while(is_late).count();
        first.min(self.columns)..(self.columns - late).max(first)
    }

    /// Time of the middle of a column, in seconds from the start of the span.
    #[must_use]
    pub fn time_s(&self, column: usize) -> f64 {
        let frames = self.frames_of(column);
        let middle = 0.5 * (frames.start as f64 + frames.end as f64 - 1.0);
        middle * self.frames.hop as f64 / self.sample_rate_hz
    }

    /// The column whose middle is nearest to a time in seconds from the start of the span.
    #[must_use]
    pub fn column_at(&self, time_s: f64) -> usize {
        let (mut low, mut high) = (0, self.columns - 1);
        while low < high {
            let middle = usize::midpoint(low, high);
            if self.time_s(middle) + self.time_s(middle + 1) < 2.0 * time_s {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        low
    }

    /// Length of the span in seconds.
    #[must_use]
    pub fn span_s(&self) -> f64 {
        self.span_samples as f64 / self.sample_rate_hz
    }

    /// Resolution in Hz: the spacing at which two equal tones are still resolved.
    #[must_use]
    pub fn resolution_hz(&self) -> f64 {
        self.frames.resolution_hz(self.sample_rate_hz)
    }

    /// Bins whose middles lie between the edges of the picture.
    #[must_use]
    pub fn bins(&self) -> Range<usize> {
        let spacing_hz = self.frames.bin_spacing_hz(self.sample_rate_hz);
        let (low, high) = (self.edges_hz[0], self.edges_hz[self.rows()]);
        let first = (low / spacing_hz).ceil() as usize;
        let last = ((high / spacing_hz).floor() as usize).min(self.frames.transform_size / 2);
        first..(last + 1).max(first)
    }

    /// Times of all frames in seconds from the start of the span.
    pub fn frame_times_s(&self) -> impl Iterator<Item = f64> + '_ {
        (0..self.frame_count)
            .map(|frame| (frame * self.frames.hop as u64) as f64 / self.sample_rate_hz)
    }

    /// Middles of the rows in Hz, on the axis.
    #[must_use]
    pub fn row_hz(&self) -> Vec<f64> {
        let middle = |edge: &[f64]| {
            let (low, high) = (self.axis.position(edge[0]), self.axis.position(edge[1]));
            self.axis.hz(0.5 * (low + high))
        };
        self.edges_hz.windows(2).map(middle).collect()
    }
}

/// Frames in an eighth of a frame's length, at least one.
fn frames_of_a_step(frames: &FramePlan) -> u64 {
    (frames.segment() as f64 / 8.0 / frames.hop as f64).round().max(1.0) as u64
}

/// Share of a window for which it is above half its height.
fn half_height(window: &Window) -> f64 {
    let samples = window.samples();
    let greatest = samples.iter().copied().fold(0.0, f64::max);
    samples.iter().filter(|w| **w >= 0.5 * greatest).count() as f64 / samples.len() as f64
}

/// Frames by the resolution or by the time that was asked for; where both cannot be had, by the
/// resolution.
fn plan_frames(
    settings: &SpectrogramSettings,
    sample_rate_hz: f64,
    span_samples: u64,
) -> Result<(FramePlan, Vec<Finding>), Error> {
    let mut frames = settings.frames;
    let by_hand = frames.segment.is_some() || frames.resolution_hz.is_some();
    let share = half_height(&Window::new(frames.window, 4096)?);
    match settings.time_s {
        Some(time_s) if !(1e-5..=1e3).contains(&time_s) => {
            return Err(Error::Setting {
                setting: "the time",
                given: format!("{time_s} s"),
                allowed: "10 us to 1000 s".into(),
            });
        }
        Some(time_s) if !by_hand => frames.segment = Some(Extent::Seconds(time_s / share)),
        None if !by_hand => {
            frames.resolution_hz = Some(DEFAULT_RESOLUTION_HZ.min(sample_rate_hz / 8.0));
        }
        _ => (),
    }
    let mut plan = FramePlan::new(&frames, sample_rate_hz, span_samples)?;
    if frames.hop.is_none() && frames.overlap.is_none() {
        // A frame for each column, as far as frames differ at all.
        let column = (span_samples / settings.size.0 as u64) as usize;
        plan.hop = plan.hop.min(column.max(plan.segment() / 64)).max(1);
    }
    let all_samples = plan.frames(span_samples) * plan.segment() as u64;
    if frames.transform_size.is_none()
        && frames.zero_pad.is_none()
        && all_samples <= MOST_SAMPLES_PADDED
    {
        // The lobes of low tones are smooth; over a long span they would cost too much.
        frames.zero_pad = Some(4.0);
        frames.hop = Some(Extent::Samples(plan.hop));
        plan = FramePlan::new(&frames, sample_rate_hz, span_samples)?;
    }
    let (resolution_hz, segment) = (plan.resolution_hz(sample_rate_hz), plan.segment() as f64);
    let blur_s = share * segment / sample_rate_hz;
    let mut findings = Vec::new();
    if let Some(time_s) = settings.time_s.filter(|time_s| blur_s > 1.05 * time_s) {
        findings.push(Finding::warning(
            "time_not_reached",
            format!(
                "A resolution of {resolution_hz:.2} Hz takes frames that blur {:.1} ms, not the \
                 {:.1} ms \
                 asked for; with this window {:.1} ms leave a resolution of {:.1} Hz. The \
                 resolution was kept: ask for one of the two, or make two spectrograms.",
                1e3 * blur_s,
                1e3 * time_s,
                1e3 * time_s,
                resolution_hz * blur_s / time_s,
            ),
        ));
    }
    if let Some(wanted) = plan.wanted_samples {
        findings.push(Finding::warning(
            "span_too_short",
            format!(
                "The span of {:.4} s cannot hold the frame of {:.4} s that was asked for; the \
                 resolution is {resolution_hz:.2} Hz instead. Choose a longer span, or a coarser \
                 resolution.",
                span_samples as f64 / sample_rate_hz,
                wanted as f64 / sample_rate_hz,
            ),
        ));
    }
    Ok((plan, findings))
}

/// Collects the samples of a span as they are read, until columns can be computed from them.
pub struct SpectrogramPass {
    plan: Arc<SpectrogramPlan>,
    /// Samples that are still needed, and where in the span the first of them lies.
    pending: Vec<f32>,
    position: u64,
    next: usize,
}

impl SpectrogramPass {
    /// For the columns of a plan.
    #[must_use]
    pub fn new(plan: Arc<SpectrogramPlan>) -> Self {
        Self { plan, pending: Vec::new(), position: 0, next: 0 }
    }

    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        self.pending.extend_from_slice(samples);
    }

    /// Columns whose samples have all arrived, from the first that was not yet let go.
    #[must_use]
    pub fn ready(&self) -> Range<usize> {
        let arrived = self.position + self.pending.len() as u64;
        let is_ready = |column: &usize| self.plan.samples_of(*column).end <= arrived;
        let end = (self.next..self.plan.columns).take_while(is_ready).count();
        self.next..self.next + end
    }

    /// The columns not yet let go, where the span ended early; what has not arrived is silent.
    #[must_use]
    pub fn rest(&self) -> Range<usize> {
        self.next..self.plan.columns
    }

    /// The samples of a column, as far as they have arrived.
    #[must_use]
    pub fn samples(&self, column: usize) -> &[f32] {
        let needed = self.plan.samples_of(column);
        let at = |sample: u64| {
            usize::try_from(sample.saturating_sub(self.position))
                .unwrap_or(usize::MAX)
                .min(self.pending.len())
        };
        &self.pending[at(needed.start)..at(needed.end)]
    }

    /// Lets go of the samples that only columns before `column` need.
    pub fn let_go(&mut self, column: usize) {
        self.next = column;
        let needed = if column < self.plan.columns {
            self.plan.samples_of(column).start
        } else {
            self.plan.span_samples
        };
        let left_out = usize::try_from(needed.saturating_sub(self.position)).unwrap_or(usize::MAX);
        let left_out = left_out.min(self.pending.len());
        self.pending.drain(..left_out);
        self.position += left_out as u64;
    }
}

/// Computes columns of a spectrogram. Each thread has its own, by [`Clone`].
#[derive(Clone)]
pub struct ColumnAnalyser {
    plan: Arc<SpectrogramPlan>,
    window: Arc<Vec<f32>>,
    transform: Arc<dyn RealToComplex<f32>>,
    input: Vec<f32>,
    output: Vec<Complex<f32>>,
    scratch: Vec<Complex<f32>>,
    /// Pooled power of each bin, not scaled.
    pooled: Vec<f32>,
    lobe: Arc<Lobe>,
}

impl ColumnAnalyser {
    /// Prepares for the columns of a plan.
    #[must_use]
    pub fn new(plan: Arc<SpectrogramPlan>) -> Self {
        let transform = RealFftPlanner::<f32>::new().plan_fft_forward(plan.frames.transform_size);
        let window = plan.frames.window.samples().iter().map(|w| *w as f32).collect();
        Self {
            window: Arc::new(window),
            input: transform.make_input_vec(),
            output: transform.make_output_vec(),
            scratch: transform.make_scratch_vec(),
            pooled: vec![0.0; plan.frames.transform_size / 2 + 1],
            lobe: Arc::new(Lobe::new(&plan.frames)),
            transform,
            plan,
        }
    }

    /// Computes a column from the samples that [`SpectrogramPlan::samples_of`] names: the square of
    /// the amplitude re full scale of a sine in each row, lowest first.
    ///
    /// # Panics
    ///
    /// If `rows` has another length than the plan's rows.
    pub fn column(&mut self, column: usize, samples: &[f32], rows: &mut [f32]) {
        let plan = &self.plan;
        assert_eq!(rows.len(), plan.rows(), "a column has as many rows as its plan");
        let frames = plan.frames_of(column);
        let first_sample = plan.samples_of(column).start;
        let (hop, half) = (plan.frames.hop as u64, plan.frames.segment() as u64 / 2);
        self.pooled.fill(0.0);
        for frame in frames.clone() {
            let start = i128::from(frame * hop) - i128::from(half) - i128::from(first_sample);
            put_frame(&mut self.input, &self.window, samples, start);
            transform_into(&*self.transform, &mut self.input, &mut self.output, &mut self.scratch);
            match plan.pooling {
                Pooling::Maximum => {
                    for (most, bin) in self.pooled.iter_mut().zip(&self.output) {
                        *most = most.max(bin.norm_sqr());
                    }
                }
                Pooling::Power => {
                    for (sum, bin) in self.pooled.iter_mut().zip(&self.output) {
                        *sum += bin.norm_sqr();
                    }
                }
            }
        }
        let gain: f64 = plan.frames.window.samples().iter().sum();
        let count = match plan.pooling {
            Pooling::Maximum => 1.0,
            Pooling::Power => (frames.end - frames.start) as f64,
        };
        let scale = (4.0 / (gain * gain * count)) as f32;
        for power in &mut self.pooled {
            *power *= scale;
        }
        if plan.pooling == Pooling::Maximum {
            self.lobe.raise_tones(&mut self.pooled);
        }
        for (row, bins) in rows.iter_mut().zip(&plan.bins) {
            let powers = &self.pooled[bins.clone()];
            *row = match plan.pooling {
                Pooling::Maximum => powers.iter().copied().fold(0.0, f32::max),
                Pooling::Power => powers.iter().sum::<f32>() / powers.len() as f32,
            };
        }
    }
}

/// Transforms `input`, which holds garbage afterwards, with buffers of the planned lengths.
fn transform_into(
    transform: &dyn RealToComplex<f32>,
    input: &mut [f32],
    output: &mut [Complex<f32>],
    scratch: &mut [Complex<f32>],
) {
    transform
        .process_with_scratch(input, output, scratch)
        .expect("all three buffers have the planned lengths");
}

/// Windows the samples from `start` on into `input`, the rest of which is silent, as are samples
/// before the first and after the last.
fn put_frame(input: &mut [f32], window: &[f32], samples: &[f32], start: i128) {
    let segment = window.len();
    let silent = usize::try_from((-start).max(0)).unwrap_or(segment).min(segment);
    let from = usize::try_from(start.max(0)).unwrap_or(samples.len()).min(samples.len());
    let held = &samples[from..samples.len().min(from + segment - silent)];
    input.fill(0.0);
    let (weights, values) = (&window[silent..], &mut input[silent..segment]);
    for ((value, sample), weight) in values.iter_mut().zip(held).zip(weights) {
        *value = sample * weight;
    }
}

/// What a tone between two bins has more than its largest bin, by the shape of the window's lobe.
#[derive(Debug)]
struct Lobe {
    /// ln of the power one bin above over that one bin below, rising, and ln of the lift.
    table: Vec<(f32, f32)>,
    /// Distance in bins at which a tone must have fallen.
    reach: usize,
}

impl Lobe {
    fn new(frames: &FramePlan) -> Self {
        /// Steps of a bin; between them the table is read by a straight line.
        const STEPS: i32 = 64;
        let bins = frames.segment() as f64 / frames.transform_size as f64;
        let log_power = |x: f64| 2.0 * frames.window.response(x * bins).abs().max(1e-7).ln();
        let entry = |step: i32| {
            let offset = f64::from(step) / f64::from(STEPS);
            let ratio = log_power(1.0 - offset) - log_power(-1.0 - offset);
            (ratio as f32, -log_power(offset) as f32)
        };
        Self {
            table: (-STEPS / 2..=STEPS / 2).map(entry).collect(),
            reach: (3.0 / bins).ceil() as usize,
        }
    }

    fn lift(&self, ratio: f32) -> f32 {
        let after = self.table.partition_point(|(known, _)| *known < ratio);
        match (after.checked_sub(1).map(|n| self.table[n]), self.table.get(after)) {
            (Some((low, from)), Some((high, to))) => {
                from + (to - from) * (ratio - low) / (high - low).max(f32::MIN_POSITIVE)
            }
            (Some((_, end)), None) => end,
            (None, Some((_, end))) => *end,
            (None, None) => 0.0,
        }
    }

    /// Raises the largest bin of each tone to what the tone has.
    fn raise_tones(&self, power: &mut [f32]) {
        /// A tone stands this much over what lies three bins of a frame beside it; noise hardly
        /// does.
        const CONTRAST: f32 = 30.0;
        let reach = self.reach;
        let mut k = reach;
        while k + reach < power.len() {
            let top = power[k];
            let is_tone = top > power[k - 1]
                && top >= power[k + 1]
                && top > CONTRAST * power[k - reach]
                && top > CONTRAST * power[k + reach];
            if is_tone {
                let ratio =
                    power[k + 1].max(f32::MIN_POSITIVE) / power[k - 1].max(f32::MIN_POSITIVE);
                power[k] = top * self.lift(ratio.ln()).exp();
                k += reach;
            } else {
                k += 1;
            }
        }
    }
}

/// A spectrogram: cells of power over time and frequency.
#[derive(Debug, Clone)]
pub struct Spectrogram {
    /// Which frames and bins went into which cell.
    pub plan: Arc<SpectrogramPlan>,
    /// Square of the amplitude re full scale in each cell: the rows of the first column, lowest
    /// first, then those of the next.
    pub power: Vec<f32>,
    /// Whether energy was put back where it was, so that the cells of a tone add up.
    pub is_sharpened: bool,
    /// The phase of each cell from frame to frame in degrees ([`PhaseAnalyser`]), in the same order;
    /// none where it was not asked for.
    pub phase_deg: Vec<f32>,
}

impl Spectrogram {
    /// The rows of a column.
    #[must_use]
    pub fn column(&self, column: usize) -> &[f32] {
        let rows = self.plan.rows();
        &self.power[column * rows..(column + 1) * rows]
    }

    /// The phases of a column, where they were asked for.
    #[must_use]
    pub fn phases(&self, column: usize) -> &[f32] {
        let rows = self.plan.rows();
        &self.phase_deg[column * rows..(column + 1) * rows]
    }

    /// The cells of a sound that is read stretch by stretch, from a sample on.
    pub(crate) fn read(
        samples: &dyn Samples,
        from: usize,
        plan: &Arc<SpectrogramPlan>,
    ) -> Result<Self, Error> {
        let (mut analyser, mut reader) = (ColumnAnalyser::new(plan.clone()), Reader::new(samples));
        let mut power = vec![0.0; plan.columns * plan.rows()];
        for (column, cells) in power.chunks_mut(plan.rows()).enumerate() {
            let needed = plan.samples_of(column);
            let count = (needed.end - needed.start) as usize;
            let sound = reader.at(from as i64 + needed.start as i64, count)?;
            analyser.column(column, sound, cells);
        }
        Ok(Self { plan: plan.clone(), power, is_sharpened: false, phase_deg: Vec::new() })
    }

    /// Mean power of each row over time: the spectrum of the whole, at the resolution of the picture.
    #[must_use]
    pub fn mean_power(&self) -> Vec<f64> {
        let rows = self.plan.rows();
        let mut mean = vec![0.0; rows];
        for column in self.power.chunks(rows) {
            mean.iter_mut().zip(column).for_each(|(sum, power)| *sum += f64::from(*power));
        }
        let columns = (self.power.len() / rows.max(1)).max(1) as f64;
        mean.into_iter().map(|sum| sum / columns).collect()
    }

    /// Levels in dB re full scale that a picture should show, lowest and highest, each a multiple
    /// of 5: from a little below the quiet half of the cells, but at most 100 dB, up to the loudest
    /// column but for as many as a click can fill. `None` for silence.
    #[must_use]
    pub fn usual_range_db(&self) -> Option<(f64, f64)> {
        /// A picture over more shows the converter, over less no decay.
        const DEEPEST_DB: f64 = 100.0;
        const SHALLOWEST_DB: f64 = 40.0;
        let rows = self.plan.rows();
        let mut loudest: Vec<f32> =
            self.power.chunks(rows).map(|c| c.iter().copied().fold(0.0, f32::max)).collect();
        loudest.sort_by(f32::total_cmp);
        let frames = &self.plan.frames;
        let of_click = frames.segment().div_ceil(frames.hop) + 1;
        let frames_per_column = (self.plan.frame_count / self.plan.columns as u64).max(1) as usize;
        let left_out = (of_click.div_ceil(frames_per_column) + 1).max(loudest.len() / 300);
        let place = loudest.len().saturating_sub(1 + left_out).max(loudest.len() / 2);
        // Where all but a click is silence, the click is what there is to see.
        let highest = loudest.get(place).copied().filter(|power| *power > 0.0);
        let highest = highest.or(loudest.last().copied()).filter(|power| *power > 0.0)?;
        let high_db = db_from_power(f64::from(highest));
        let mut cells = self.power.clone();
        let middle = cells.len() / 2;
        let (_, quiet, _) = cells.select_nth_unstable_by(middle, f32::total_cmp);
        let quiet_db = db_from_power(f64::from(*quiet)).max(-300.0);
        let high_db = (high_db / 5.0).ceil() * 5.0;
        let reach = (high_db - quiet_db + 10.0).clamp(SHALLOWEST_DB, DEEPEST_DB);
        Some((high_db - (reach / 5.0).round() * 5.0, high_db))
    }
}

/// Makes a spectrogram of samples that are all at hand.
///
/// # Errors
///
/// As [`SpectrogramPlan::new`].
pub fn spectrogram(
    samples: &[f32],
    sample_rate_hz: f64,
    settings: &SpectrogramSettings,
) -> Result<Spectrogram, Error> {
    let plan = Arc::new(SpectrogramPlan::new(settings, sample_rate_hz, samples.len() as u64)?);
    let mut analyser = ColumnAnalyser::new(plan.clone());
    let rows = plan.rows();
    let mut power = vec![0.0; plan.columns * rows];
    for (column, cells) in power.chunks_mut(rows).enumerate() {
        let needed = plan.samples_of(column);
        analyser.column(column, &samples[needed.start as usize..needed.end as usize], cells);
    }
    Ok(Spectrogram { plan, power, is_sharpened: false, phase_deg: Vec::new() })
}
