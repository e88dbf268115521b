//! `spectrogram`: level over time and frequency, as a picture and as numbers.

use std::path::PathBuf;
use std::sync::Arc;

use anyhow::Result;
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::intake::Clip;
use tonemap_core::spectrogram::{
    ColumnAnalyser, FrequencyAxis, Moved, Pooling, SharpAnalyser, Spectrogram as Cells,
    SpectrogramPass, SpectrogramPlan, SpectrogramSettings, gather,
};
use tonemap_core::units::{
    Decibels, Frequency, FrequencyRange, LevelReference, Seconds, db_from_power,
};
use tonemap_figures::{
    ColourMap, DrawnSpectrogram, Figure, SpectrogramFigure, spectrogram_cells, spectrogram_figure,
};

use crate::args::{FigureArgs, Format, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::arrays::{self, Arrays};
use crate::output::{self, Status, Usage};
use crate::sketch::{self, Depth};
use crate::studies;
use crate::take::{self, Part, pressure_references};
use crate::text;

/// Level over time and frequency, as a picture and as numbers
///
/// Frames by intention: --resolve says which frequencies to tell apart, --time how little of time to
/// blur; one is paid for with the other, and what was chosen is said. Frames that share a column of the
/// picture are pooled by their maximum, so that a click shows in an hour of sound, and nothing is
/// interpolated. Several takes or channels stand one above the other with the same colours and the same
/// scale of time.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Spectrogram {
    /// Recordings, their names in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    frames: FrameArgs,
    /// Blur no more of time than this: 10ms [default: what the resolution leaves]
    #[arg(long, value_name = "TIME", help_heading = "Frames")]
    time: Option<Seconds>,
    #[command(flatten)]
    cells: CellArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Write the cells of the picture as arrays too: FILE.npz
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    data: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap spectrogram harp-g3.wav --figure harp.png
      the usual picture: 20 Hz told apart, frequencies by interval
  tonemap spectrogram bell-cut0.wav --resolve 5Hz --range 400Hz..10kHz --figure bell.png
      partials as thin lines, and how long each lasts
  tonemap spectrogram harp-g3.wav --time 5ms --axis linear --from 0.05 --to 0.3 --figure attack.png
      the attack, close in time
  tonemap spectrogram flute-a4.wav --sketch
      a first look over a remote terminal
  tonemap spectrogram --where group=harp --figure harps.png --data harps.npz
      several takes with the same colours, and the numbers behind the picture";

#[derive(Args, Clone)]
#[command(next_help_heading = "Cells")]
struct CellArgs {
    /// How frequencies are spread
    #[arg(long, value_enum, value_name = "SCALE", default_value_t = Axis::Log)]
    axis: Axis,
    /// Range of frequencies: 50Hz..8kHz, G3..C6, ..2kHz [default: all, from 20Hz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// What becomes of values that share a cell
    #[arg(long, value_enum, value_name = "HOW", default_value_t = Pool::Maximum)]
    pool: Pool,
    /// Put what a frame spreads over time and frequency back where it was: partials become lines
    #[arg(long, conflicts_with = "pool")]
    sharpen: bool,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Axis {
    /// Equal intervals take equal space
    Log,
    /// Equal differences take equal space
    Linear,
    /// Critical bands take equal space
    Bark,
    /// Steps of pitch take equal space
    Mel,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Pool {
    /// The greatest counts: nothing is lost from sight
    Maximum,
    /// Their mean power counts: noise keeps its level
    Power,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// Draw it in the terminal: half blocks in as many colours as there are
    #[arg(long, conflicts_with_all = ["figure", "data", "format"])]
    sketch: bool,
    /// Level of the first colour [default: a little below the quiet half of the cells]
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    floor: Option<Decibels>,
    /// Level of the last colour [default: the loudest, clicks left out]
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    ceiling: Option<Decibels>,
    /// Colours: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    #[serde(flatten)]
    frames: FrameFigures,
    axis: FrequencyAxis,
    /// None for a sharpened one, whose energies are added.
    pooling: Option<Pooling>,
    sharpened: bool,
    range_hz: (f64, f64),
    reference_hz: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct SpectrogramResult {
    resolution_hz: f64,
    /// Time within which a frame blurs what happens.
    blur_s: f64,
    hop_s: f64,
    frames: u64,
    columns: usize,
    rows: usize,
    /// Levels of the first and last colour.
    floor_db: f64,
    ceiling_db: f64,
    /// The loudest cell.
    loudest_db: Option<f64>,
    loudest_at_s: Option<f64>,
    loudest_hz: Option<f64>,
    /// Where levels are, and what they refer to.
    scaling: String,
}

/// A row of CSV: one cell.
#[derive(Serialize)]
struct CellRow<'a> {
    take: &'a str,
    channel: &'a str,
    time_s: f64,
    frequency_hz: f64,
    level_db: Option<f64>,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    cells: Cells,
    reference: LevelReference,
    reference_hz: f64,
    sharpened: bool,
    clips: Vec<Clip>,
    findings: Vec<Finding>,
}

impl Spectrogram {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        if let Some(file) = &self.data {
            arrays::check_name(file)?;
            output::check_writable(file, self.output.force)?;
        }
        let named = studies::find_takes(&self.takes, &self.source)?;
        let (mut takes, mut status) = take::open_all(named, &self.source);
        let parts = take::parts_of(&mut takes, &self.part, &mut status)?;
        let references = pressure_references(&parts);
        let count = parts.len();
        let mut made = Vec::new();
        for (part, reference) in parts.into_iter().zip(references) {
            made.push(self.make(part, reference, count)?);
        }
        if made.is_empty() {
            return Ok(status);
        }
        let range_db = self.range_db(&made)?;
        let content = match self.output.format {
            Format::Text => {
                let texts: Vec<String> = made
                    .iter()
                    .map(|one| self.sketch(one, range_db) + &as_text(one, range_db))
                    .collect();
                texts.join("\n")
            }
            Format::Json => {
                made.iter().map(|one| as_json(one, range_db)).collect::<Result<String>>()?
            }
            Format::Csv => as_csv(&made)?,
        };
        for one in &made {
            output::print_notes(&self.output, &one.findings);
        }
        if let Some(file) = &self.data {
            arrays::write_npz(file, &as_arrays(&made), self.output.force)?;
        }
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&made, range_db)?, self.output.force)?;
        }
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn make<'a>(
        &self,
        part: Part<'a>,
        reference: LevelReference,
        count: usize,
    ) -> Result<Made<'a>> {
        let rate = part.take().info.sample_rate_hz;
        let usual_hz = part.take().reference_hz();
        let reference_hz = self.cells.reference.map_or(usual_hz, |f| f.hz(usual_hz));
        let range = self.cells.range.map(|range| range.hz(reference_hz, rate)).transpose()?;
        let settings = SpectrogramSettings {
            frames: self.frames.settings(reference_hz),
            time_s: self.time.map(|time| time.0),
            axis: match self.cells.axis {
                Axis::Log => FrequencyAxis::Logarithmic,
                Axis::Linear => FrequencyAxis::Linear,
                Axis::Bark => FrequencyAxis::Bark,
                Axis::Mel => FrequencyAxis::Mel,
            },
            range_hz: range,
            size: if self.look.sketch {
                sketch::cells()
            } else {
                spectrogram_cells(self.figure.size, count)
            },
            pooling: match self.cells.pool {
                Pool::Maximum => Pooling::Maximum,
                Pool::Power => Pooling::Power,
            },
        };
        let plan = Arc::new(SpectrogramPlan::new(&settings, rate, part.span.len())?);
        let mut meter = part.take().level_meter(part.span);
        let mut findings = part.take().findings.clone();
        let mut columns = Columns::new(plan.clone(), self.cells.sharpen);
        findings.extend(part.read_in_two(
            "spectrogram",
            self.output.quiet,
            |samples| columns.push(samples),
            |samples| meter.push(samples),
        )?);
        let cells = columns.finish();
        let levels = meter.finish();
        findings.extend(levels.findings(&part.channel_name()));
        findings.extend(plan.findings.iter().cloned());
        Ok(Made {
            part,
            cells,
            reference,
            reference_hz,
            sharpened: self.cells.sharpen,
            clips: levels.clips,
            findings,
        })
    }

    /// Levels of the first and the last colour, for all alike.
    fn range_db(&self, made: &[Made<'_>]) -> Result<(f64, f64)> {
        const DEEPEST_DB: f64 = 100.0;
        let shifted = |one: &Made<'_>| {
            let (low, high) = one.cells.usual_range_db()?;
            let offset = (one.reference.full_scale_db() / 5.0).round() * 5.0;
            Some((low + offset, high + offset))
        };
        let both = |a: (f64, f64), b: (f64, f64)| (a.0.min(b.0), a.1.max(b.1));
        let usual = made.iter().filter_map(shifted).reduce(both).unwrap_or((-DEEPEST_DB, 0.0));
        let usual = (usual.0.max(usual.1 - DEEPEST_DB), usual.1);
        let low = self.look.floor.map_or(usual.0, |level| level.0);
        let high = self.look.ceiling.map_or(usual.1, |level| level.0);
        // One that was given may lie beyond the other's usual place.
        let low = if self.look.floor.is_none() && low >= high { high - 60.0 } else { low };
        let high = if self.look.ceiling.is_none() && low >= high { low + 60.0 } else { high };
        if low < high {
            return Ok((low, high));
        }
        Err(Usage(format!(
            "the floor of {low} dB does not lie below the ceiling of {high} dB; give two levels that rise"
        ))
        .into())
    }

    /// The picture in the terminal, if it was asked for.
    fn sketch(&self, made: &Made<'_>, range_db: (f64, f64)) -> String {
        if !self.look.sketch {
            return String::new();
        }
        let (span, rate) = (made.part.span, made.part.take().info.sample_rate_hz);
        let span_s = (span.start as f64 / rate, span.end as f64 / rate);
        let full_scale_db = made.reference.full_scale_db();
        let (cells, colours) = (&made.cells, self.look.colours);
        sketch::sketch(cells, range_db, full_scale_db, span_s, colours, Depth::of_terminal())
    }

    fn draw(&self, made: &[Made<'_>], range_db: (f64, f64)) -> Result<Figure> {
        let names: Vec<String> = made.iter().map(|one| one.part.title()).collect();
        let spectrograms: Vec<DrawnSpectrogram<'_>> = made
            .iter()
            .zip(&names)
            .map(|(one, name)| {
                let rate = one.part.take().info.sample_rate_hz;
                DrawnSpectrogram {
                    name,
                    spectrogram: &one.cells,
                    span_s: (one.part.span.start as f64 / rate, one.part.span.end as f64 / rate),
                    reference: one.reference,
                    clips: &one.clips,
                }
            })
            .collect();
        let several = made.len() > 1;
        let named = |one: &Made<'_>| one.part.named_findings(&one.findings, several);
        let findings: Vec<Finding> = made.iter().flat_map(named).collect();
        let mut notes = vec![settings_line(&made[0].cells.plan, &made[0])];
        if let [only] = made {
            notes.push(only.part.take().span_line(only.part.span));
        }
        let title = match names.as_slice() {
            few if few.len() <= 3 => few.join(", "),
            many => format!("{} spectrograms", many.len()),
        };
        let figure = SpectrogramFigure {
            spectrograms: &spectrograms,
            range_db,
            colours: self.look.colours,
            title: &title,
            notes: &notes,
            findings: &findings,
            reference_hz: made[0].reference_hz,
        };
        Ok(spectrogram_figure(&figure, self.figure.size)?)
    }
}

/// Columns that are computed on all cores as their samples arrive.
struct Columns {
    plan: Arc<SpectrogramPlan>,
    pass: SpectrogramPass,
    analyser: Analyser,
    power: Vec<f32>,
    /// Samples that arrive before columns are computed.
    batch: usize,
    arrived: usize,
}

/// What computes a column.
enum Analyser {
    Usual(ColumnAnalyser),
    Sharp(SharpAnalyser),
}

impl Columns {
    fn new(plan: Arc<SpectrogramPlan>, sharpen: bool) -> Self {
        const LEAST_BATCH: usize = 1 << 18;
        let of_column = plan.samples_of(plan.columns / 2);
        let batch = 4 * rayon::current_num_threads() * (of_column.end - of_column.start) as usize;
        Self {
            pass: SpectrogramPass::new(plan.clone()),
            analyser: if sharpen {
                Analyser::Sharp(SharpAnalyser::new(plan.clone()))
            } else {
                Analyser::Usual(ColumnAnalyser::new(plan.clone()))
            },
            power: vec![0.0; plan.columns * plan.rows()],
            batch: batch.clamp(LEAST_BATCH, 1 << 22),
            arrived: 0,
            plan,
        }
    }

    fn push(&mut self, samples: &[f32]) {
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
                self.power[columns.start * rows..columns.end * rows]
                    .par_chunks_mut(rows)
                    .enumerate()
                    .for_each_init(
                        || analyser.clone(),
                        |analyser, (n, cells)| {
                            let column = columns.start + n;
                            analyser.column(column, pass.samples(column), cells);
                        },
                    );
            }
            Analyser::Sharp(analyser) => {
                // Energy may go to other columns: it is gathered in the order of the columns, so that
                // sums do not depend on threads; a few at a time, so that it fits into memory.
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
        self.pass.let_go(columns.end);
    }

    fn finish(mut self) -> Cells {
        self.compute(self.pass.rest());
        Cells { plan: self.plan, power: self.power }
    }
}

/// The loudest cell, away from the ends of the span if it is long enough: level, time from the start of
/// the take, frequency; `None` in silence.
fn loudest(made: &Made<'_>) -> Option<(f64, f64, f64)> {
    let cells = &made.cells;
    let rows = cells.plan.rows();
    let columns = match cells.plan.whole_columns() {
        none if none.is_empty() => 0..cells.plan.columns,
        whole => whole,
    };
    let places = columns.start * rows..columns.end * rows;
    let place = places.max_by(|a, b| cells.power[*a].total_cmp(&cells.power[*b]))?;
    let (column, row) = (place / rows, place % rows);
    let level = db_from_power(f64::from(cells.power[place])) + made.reference.full_scale_db();
    let start_s = made.part.span.start as f64 / made.part.take().info.sample_rate_hz;
    let row_hz = cells.plan.row_hz();
    level.is_finite().then(|| (level, start_s + cells.plan.time_s(column), row_hz[row]))
}

fn settings_line(plan: &SpectrogramPlan, made: &Made<'_>) -> String {
    let rate = made.part.take().info.sample_rate_hz;
    let sharpened = if made.sharpened { "; sharpened" } else { "" };
    format!(
        "{} window of {} ms: resolution {} Hz, blurs {} ms; a frame every {} ms{sharpened}",
        plan.frames.window.kind(),
        text::number(1e3 * plan.frames.segment() as f64 / rate, 1),
        text::number(plan.frames.resolution_hz(rate), 2),
        text::number(1e3 * plan.blur_s(), 1),
        text::number(1e3 * plan.frames.hop as f64 / rate, 2),
    )
}

fn as_text(made: &Made<'_>, range_db: (f64, f64)) -> String {
    let (take, plan) = (made.part.take(), &made.cells.plan);
    let loudest = match loudest(made) {
        None => "silent".into(),
        Some((level, at, hz)) => format!(
            "loudest {} dB {} at {} s, {} Hz",
            text::number(level, 1),
            made.reference.words(),
            text::number(at, 3),
            text::number(hz, 1)
        ),
    };
    let findings = match text::findings(&made.findings) {
        none if none.is_empty() => none,
        some => format!("\n{some}"),
    };
    let edges = &plan.edges_hz;
    format!(
        "{}\n  {}\n\n  {}\n  {} frames in {} columns, {} rows from {} Hz to {} Hz\n  {loudest}; \
         colours from {} to {} dB\n{findings}",
        made.part.title(),
        take.span_line(made.part.span),
        settings_line(plan, made),
        text::grouped(plan.frame_count),
        text::grouped(plan.columns as u64),
        plan.rows(),
        text::number(edges[0], 0),
        text::number(edges[edges.len() - 1], 0),
        text::number(range_db.0, 0),
        text::number(range_db.1, 0),
    )
}

fn as_json(made: &Made<'_>, range_db: (f64, f64)) -> Result<String> {
    let (part, plan) = (&made.part, &made.cells.plan);
    let rate = part.take().info.sample_rate_hz;
    let loudest = loudest(made);
    let edges = &plan.edges_hz;
    let settings = Settings {
        frames: plan.frames.figures(rate),
        axis: plan.axis,
        pooling: (!made.sharpened).then(|| plan.pooling()),
        sharpened: made.sharpened,
        range_hz: (edges[0], edges[edges.len() - 1]),
        reference_hz: made.reference_hz,
    };
    let result = SpectrogramResult {
        resolution_hz: plan.frames.resolution_hz(rate),
        blur_s: plan.blur_s(),
        hop_s: plan.frames.hop as f64 / rate,
        frames: plan.frame_count,
        columns: plan.columns,
        rows: plan.rows(),
        floor_db: range_db.0,
        ceiling_db: range_db.1,
        loudest_db: loudest.map(|(level, ..)| level),
        loudest_at_s: loudest.map(|(_, at, _)| at),
        loudest_hz: loudest.map(|(.., hz)| hz),
        scaling: format!("peak amplitude, dB {}", made.reference.words()),
    };
    let record = part.take().record(part.span, Some(part.channel_name()))?;
    output::json_line("spectrogram", record, settings, result, &made.findings)
}

/// Times of the columns, frequencies of the rows, and levels in dB, row by row of the first column, then
/// of the next.
fn columns_of(made: &Made<'_>) -> (Vec<f64>, Vec<f64>, Vec<f64>) {
    let plan = &made.cells.plan;
    let start_s = made.part.span.start as f64 / made.part.take().info.sample_rate_hz;
    let times = (0..plan.columns).map(|column| start_s + plan.time_s(column)).collect();
    let offset_db = made.reference.full_scale_db();
    let level = |power: &f32| db_from_power(f64::from(*power)) + offset_db;
    (times, plan.row_hz(), made.cells.power.iter().map(level).collect())
}

fn as_csv(made: &[Made<'_>]) -> Result<String> {
    let tables: Vec<_> = made
        .iter()
        .map(|one| (one.part.take().name(), one.part.channel_name(), columns_of(one)))
        .collect();
    output::csv_table(tables.iter().flat_map(|(take, channel, (times, rows, levels))| {
        levels.iter().enumerate().map(move |(n, level)| CellRow {
            take,
            channel,
            time_s: times[n / rows.len()],
            frequency_hz: rows[n % rows.len()],
            level_db: Some(*level).filter(|level| level.is_finite()),
        })
    }))
}

/// As arrays, the levels with a row for each time; of several spectrograms the names end in their number.
fn as_arrays(made: &[Made<'_>]) -> Arrays {
    let mut arrays = Arrays::new();
    for (n, one) in made.iter().enumerate() {
        let suffix = if made.len() > 1 { format!("_{}", n + 1) } else { String::new() };
        let (times, rows, levels) = columns_of(one);
        let row = rows.len();
        arrays.push((format!("time_s{suffix}"), times, None));
        arrays.push((format!("frequency_hz{suffix}"), rows, None));
        arrays.push((format!("level_db{suffix}"), levels, Some(row)));
    }
    arrays
}
