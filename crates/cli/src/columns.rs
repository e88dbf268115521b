//! Columns of a spectrogram, computed on all cores as their samples arrive.

use std::sync::Arc;

use anyhow::Result;
use rayon::prelude::*;
use tonemap_core::spectrogram::{
    ColumnAnalyser, FrameValues, Moved, PhaseAnalyser, SharpAnalyser, Spectrogram as Cells,
    SpectrogramPass, SpectrogramPlan, SpectrogramSettings, gather,
};
use tonemap_core::units::db_from_power;
use tonemap_figures::{DrawnSpectrogram, Marks, Shown};

use crate::export::{Export, Head};
use crate::take::Part;

/// Every frame, written as it is computed.
pub(crate) struct Frames<'a> {
    analyser: SharpAnalyser,
    bins: usize,
    export: &'a mut Export,
    head: &'a Head,
    failed: Option<anyhow::Error>,
}

impl<'a> Frames<'a> {
    pub(crate) fn new(plan: Arc<SpectrogramPlan>, export: &'a mut Export, head: &'a Head) -> Self {
        let bins = plan.bins().len();
        Self { analyser: SharpAnalyser::new(plan), bins, export, head, failed: None }
    }

    /// Writes the frames of columns, a few columns at a time, so that they fit into memory.
    fn write(&mut self, columns: std::ops::Range<usize>, pass: &SpectrogramPass) -> Result<()> {
        let threads = rayon::current_num_threads();
        let offset_db = self.head.full_scale_db;
        for first in columns.clone().step_by(threads) {
            let values: Vec<FrameValues> = (first..columns.end.min(first + threads))
                .into_par_iter()
                .map_init(
                    || self.analyser.clone(),
                    |analyser, column| {
                        let mut values = FrameValues::default();
                        analyser.values(column, pass.samples(column), &mut values);
                        for power in &mut values.power {
                            *power = (db_from_power(f64::from(*power)) + offset_db) as f32;
                        }
                        values
                    },
                )
                .collect();
            for values in &values {
                let rows = values.power.chunks(self.bins).zip(values.phase_hz.chunks(self.bins));
                for (level_db, phase_hz) in rows {
                    self.export.row(self.head, level_db, Some(phase_hz))?;
                }
            }
        }
        Ok(())
    }
}

/// Columns that are computed on all cores as their samples arrive.
pub(crate) struct Columns<'a> {
    plan: Arc<SpectrogramPlan>,
    pass: SpectrogramPass,
    analyser: Analyser,
    /// Where every frame is to be written.
    frames: Option<Frames<'a>>,
    power: Vec<f32>,
    /// Where phases are asked for.
    phases: Option<PhaseAnalyser>,
    phase_deg: Vec<f32>,
    /// Samples that arrive before columns are computed.
    batch: usize,
    arrived: usize,
}

/// What computes a column.
enum Analyser {
    Usual(ColumnAnalyser),
    Sharp(SharpAnalyser),
}

impl<'a> Columns<'a> {
    pub(crate) fn new(
        plan: Arc<SpectrogramPlan>,
        sharpen: bool,
        frames: Option<Frames<'a>>,
    ) -> Self {
        const LEAST_BATCH: usize = 1 << 18;
        let of_column = plan.samples_of(plan.columns / 2);
        let batch = 4 * rayon::current_num_threads() * (of_column.end - of_column.start) as usize;
        let cells = plan.columns * plan.rows();
        Self {
            pass: SpectrogramPass::new(plan.clone()),
            phase_deg: plan.phase_step_s().map_or(Vec::new(), |_| vec![f32::NAN; cells]),
            phases: plan.phase_step_s().map(|_| PhaseAnalyser::new(plan.clone())),
            analyser: if sharpen {
                Analyser::Sharp(SharpAnalyser::new(plan.clone()))
            } else {
                Analyser::Usual(ColumnAnalyser::new(plan.clone()))
            },
            frames,
            power: vec![0.0; cells],
            batch: batch.clamp(LEAST_BATCH, 1 << 22),
            arrived: 0,
            plan,
        }
    }

    pub(crate) fn push(&mut self, samples: &[f32]) {
        self.pass.push(samples);
        self.arrived += samples.len();
        if self.arrived >= self.batch {
            self.arrived = 0;
            self.compute(self.pass.ready());
        }
    }

    fn compute(&mut self, columns: std::ops::Range<usize>) {
        let (rows, pass) = (self.plan.rows(), &self.pass);
        match &self.analyser {
            Analyser::Usual(analyser) => {
                let cells = &mut self.power[columns.start * rows..columns.end * rows];
                each_column(analyser, (columns.start, rows), cells, |analyser, column, cells| {
                    analyser.column(column, pass.samples(column), cells);
                });
            }
            Analyser::Sharp(analyser) => {
                // Energy may go to other columns: it is gathered in the order of the columns, so
                // that sums do not depend on threads; a few at a time, so that it fits into memory.
                let threads = rayon::current_num_threads();
                for first in columns.clone().step_by(threads) {
                    let moved: Vec<Vec<Moved>> = (first..columns.end.min(first + threads))
                        .into_par_iter()
                        .map_init(
                            || analyser.clone(),
                            |analyser, column| {
                                let mut moved = Vec::new();
                                analyser.column(column, pass.samples(column), &mut moved);
                                moved
                            },
                        )
                        .collect();
                    for moved in &moved {
                        gather(&self.plan, moved, &mut self.power);
                    }
                }
            }
        }
        if let Some(analyser) = &self.phases {
            let cells = &mut self.phase_deg[columns.start * rows..columns.end * rows];
            each_column(analyser, (columns.start, rows), cells, |analyser, column, cells| {
                analyser.column(column, pass.samples(column), cells);
            });
        }
        if let Some(frames) = &mut self.frames
            && frames.failed.is_none()
        {
            frames.failed = frames.write(columns.clone(), &self.pass).err();
        }
        self.pass.let_go(columns.end);
    }

    pub(crate) fn finish(mut self) -> Result<Cells> {
        self.compute(self.pass.rest());
        match self.frames.and_then(|frames| frames.failed) {
            Some(error) => Err(error),
            None => Ok(Cells {
                plan: self.plan,
                power: self.power,
                is_sharpened: matches!(self.analyser, Analyser::Sharp(_)),
                phase_deg: self.phase_deg,
            }),
        }
    }
}

/// Computes columns from the first on, each of so many cells, on all cores.
fn each_column<A: Clone + Send + Sync>(
    analyser: &A,
    (first, rows): (usize, usize),
    cells: &mut [f32],
    compute: impl Fn(&mut A, usize, &mut [f32]) + Send + Sync,
) {
    cells.par_chunks_mut(rows).enumerate().for_each_init(
        || analyser.clone(),
        |analyser, (n, cells)| compute(analyser, first + n, cells),
    );
}

/// The spectrogram behind a track, on a logarithmic axis.
pub(crate) fn background(
    part: &Part<'_>,
    range_hz: (f64, f64),
    size: (usize, usize),
    quiet: bool,
) -> Result<Cells> {
    let settings =
        SpectrogramSettings { range_hz: Some(range_hz), size, ..SpectrogramSettings::default() };
    let plan = Arc::new(SpectrogramPlan::new(&settings, part.rate_hz(), part.span.len())?);
    let mut columns = Columns::new(plan, false, None);
    part.read_in_two("spectrogram", quiet, |samples| columns.push(samples), |_| ())?;
    columns.finish()
}

/// That spectrogram as it is drawn, with the levels of its first and last colour.
pub(crate) fn drawn<'a>(
    cells: &'a Cells,
    name: &'a str,
    part: &Part<'_>,
    marks: Marks<'a>,
) -> (DrawnSpectrogram<'a>, (f64, f64)) {
    let reference = part.reference;
    let (low, high) = cells.usual_range_db().unwrap_or((-100.0, 0.0));
    let full_scale_db = reference.full_scale_db();
    let span_s = part.span_s();
    let drawn = DrawnSpectrogram {
        name,
        spectrogram: cells,
        shows: Shown::Level,
        span_s,
        reference,
        marks,
        slices: &[],
    };
    (drawn, (low + full_scale_db, high + full_scale_db))
}
