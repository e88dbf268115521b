//! `spectrogram`: level over time and frequency, as a picture and as numbers.

use std::path::PathBuf;
use std::sync::Arc;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::intake::{Clip, Inspector};
use tonemap_core::quantity::{Key, Label, Quantity, Unit, pair};
use tonemap_core::spectrogram::{
    FrequencyAxis, Pooling, Slice, SliceAt, Spectrogram as Cells, SpectrogramPlan,
    SpectrogramSettings,
};
use tonemap_core::units::{
    Cut, Decibels, Frequency, FrequencyRange, LevelReference, Seconds, db_from_power,
};
use tonemap_figures::{
    Arrangement, ColourMap, DrawnSpectrogram, Figure, Marks, ReportPart, Shown, SpectrogramFigure,
    SpectrogramLayout, WaterfallFigure, spectrogram_cells, spectrogram_figure, waterfall_cells,
    waterfall_figure,
};

use crate::args::{self, FigureArgs, Format, FrameArgs, OutputArgs, TakesArgs};
use crate::columns::{Columns, Frames};
use crate::export::{self, Export, Head};
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::{self, share_reference};
use crate::sketch::{self, Depth};
use crate::status::{self, Status, Usage};
use crate::take::{Part, Take};
use crate::text;

/// Level over time and frequency, as a picture and as numbers
///
/// Frames by intention: --resolve says which frequencies to resolve, --time how little of time to
/// blur; one is paid for with the other, and what was chosen is said. Frames that share a column of
/// the picture are pooled by their maximum, so that a click shows in an hour of sound, and nothing
/// is interpolated. Several takes or channels stand one above the other with the same colours and
/// the same scale of time.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Spectrogram {
    #[command(flatten)]
    takes: TakesArgs,
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
    marks: MarkArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Write the levels of the picture's cells too: as arrays, FILE.npz, as a table, FILE.csv, or
    /// as a 16-bit picture, FILE.png, with its scales in FILE.png.json
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    data: Option<PathBuf>,
    /// In --data, every frame and every bin of the range instead of the picture's cells, each with
    /// the frequency of its phase
    #[arg(long, requires = "data", conflicts_with = "show", help_heading = "Files")]
    every_frame: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap spectrogram harp-g3.wav --figure harp.png
      the usual picture: 20 Hz resolution, frequencies by interval
  tonemap spectrogram bell-cut0.wav --resolve 5Hz --range 400Hz..10kHz --figure bell.png
      partials as thin lines, and how long each lasts
  tonemap spectrogram harp-g3.wav --time 5ms --axis linear --from 0.05 --to 0.3 --figure attack.png
      the attack, close in time
  tonemap spectrogram flute-a4.wav --sketch
      a first look over a remote terminal
  tonemap spectrogram bell-cut0.wav --slice 0.5s --slice 1.2kHz --figure slices.png
      the spectrum at a time and the level of a partial over time, beside the picture
  tonemap spectrogram bell-cut0.wav --waterfall --range 400Hz..8kHz --figure dying-away.png
      spectra one behind the other
  tonemap spectrogram bell-cut0.wav --show phase --axis linear --range 1540Hz..1646Hz --figure phase.png
      a partial close by: where its phase goes on, and where it breaks
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
    /// What to show beside the level: the phase from frame to frame, less what the frequency of the
    /// bin explains. A steady tone keeps it; a cut, a click, an onset or a modulation breaks it
    #[arg(long, value_enum, value_name = "WHAT", conflicts_with_all = ["sketch", "waterfall", "slices"])]
    show: Option<Beside>,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Beside {
    /// The phase from frame to frame
    Phase,
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
#[command(next_help_heading = "Marks")]
struct MarkArgs {
    /// Cut through the picture: the spectrum at a time, 1.25s, or the level over time at a
    /// frequency, A4
    #[arg(long = "slice", value_name = "WHERE", conflicts_with = "sketch")]
    slices: Vec<Cut>,
    /// Mark where something begins to sound
    #[arg(long)]
    onsets: bool,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Picture")]
struct LookArgs {
    /// Draw it in the terminal: half blocks in as many colours as there are
    #[arg(long, conflicts_with_all = ["figure", "data", "format"])]
    sketch: bool,
    /// Several takes side by side, not one above the other
    #[arg(long)]
    beside: bool,
    /// Spectra one behind the other, the earliest at the back
    #[arg(long, conflicts_with_all = ["beside", "slices", "onsets", "data"])]
    waterfall: bool,
    /// Level of the first colour [default: a little below the quiet half of the cells]
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    floor: Option<Decibels>,
    /// Level of the last colour [default: the loudest, clicks left out]
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    ceiling: Option<Decibels>,
    /// Colours: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember", help_heading = "Figure")]
    colours: ColourMap,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    #[serde(flatten)]
    frames: FrameFigures,
    axis: FrequencyAxis,
    /// None for a sharpened one, whose energies are added.
    pooling: Option<Pooling>,
    sharpened: bool,
    /// Over how long phases move, where they stand beside the level.
    phase_step_s: Option<f64>,
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
    #[serde(skip_serializing_if = "Vec::is_empty")]
    slices: Vec<SliceResult>,
    #[serde(skip_serializing_if = "Option::is_none")]
    onsets_s: Option<Vec<f64>>,
}

/// A cut through the picture in JSON: a spectrum at a time, or levels over time at a frequency.
#[derive(Serialize)]
struct SliceResult {
    at_s: Option<f64>,
    at_hz: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    time_s: Option<Vec<f64>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    frequency_hz: Option<Vec<f64>>,
    level_db: Vec<Option<f64>>,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    cells: Cells,
    reference_hz: f64,
    clips: Vec<Clip>,
    /// None where they were not asked for.
    onsets_s: Option<Vec<f64>>,
    slices: Vec<Slice>,
    findings: Vec<Finding>,
}

impl Present for Spectrogram {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        if let Some(file) = &self.data {
            export::check(file, self.output.force)?;
        }
        let (mut takes, mut status) = parts::open_named(&self.takes.takes, &self.takes.source)?;
        let of = |take| Take::parts(take, &self.takes.part);
        let mut parts = parts::parts_of(&mut takes, of, &mut status)?;
        let mixed = share_reference(&mut parts);
        let count = parts.len();
        if self.look.waterfall && count > 1 {
            let reason =
                "a waterfall shows one channel of one take; give one, or leave --waterfall out";
            return Err(Usage(reason.into()).into());
        }
        // What can be known to fail is known before the first is read: a file of all of them cannot
        // leave one out later.
        let planned = parts::each_part(parts, "spectrogram", true, &mut status, |part| {
            let (plan, reference_hz) = self.plan(&part, count)?;
            Ok((part, plan, reference_hz))
        })?;
        let count = planned.len();
        let begin = |file: &PathBuf| Export::begin(file, count, self.output.force);
        let mut export = self.data.as_ref().map(begin).transpose()?;
        let mut made = Vec::new();
        for (part, plan, reference_hz) in planned {
            match self.make(part, &plan, reference_hz, export.as_mut()) {
                Ok(one) => made.push(one),
                Err(error) if export.is_none() && count > 1 => {
                    status::print_error(&error);
                    status = Status::CouldNot;
                }
                Err(error) => return Err(error),
            }
        }
        if made.is_empty() {
            return Ok(Presented::nothing(status));
        }
        for one in &mut made {
            one.findings.extend(mixed.clone());
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
        let several = made.len() > 1;
        let named = |one: &Made<'_>| one.part.named_findings(&one.findings, several);
        let findings: Vec<Finding> = made.iter().flat_map(named).collect();
        output::print_notes(&self.output, &findings);
        if let Some(export) = export {
            export.finish()?;
        }
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&made, range_db)?, self.output.force)?;
        }
        let judged = |one: &Made<'_>| (one.part.title(), quantities(one, range_db));
        Ok(Presented {
            content,
            judged: made.iter().map(judged).collect(),
            findings,
            part: ReportPart::default(),
            status,
        })
    }
}

impl Spectrogram {
    /// How the spectrogram of a part is made, and the frequency of A4.
    fn plan(&self, part: &Part<'_>, count: usize) -> Result<(Arc<SpectrogramPlan>, f64)> {
        let rate = part.rate_hz();
        let usual_hz = part.take().reference_hz();
        let reference_hz = args::reference_hz(self.cells.reference, usual_hz)?;
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
            } else if self.look.waterfall {
                waterfall_cells(self.figure.size)
            } else {
                spectrogram_cells(self.figure.size, self.layout(count))
            },
            pooling: match self.cells.pool {
                Pool::Maximum => Pooling::Maximum,
                Pool::Power => Pooling::Power,
            },
            phases: self.cells.show.is_some(),
        };
        let plan = SpectrogramPlan::new(&settings, rate, part.span.len())?;
        Ok((Arc::new(plan), reference_hz))
    }

    fn make<'a>(
        &self,
        part: Part<'a>,
        plan: &Arc<SpectrogramPlan>,
        reference_hz: f64,
        mut export: Option<&mut Export>,
    ) -> Result<Made<'a>> {
        let rate = part.rate_hz();
        let reference = part.reference;
        let mut meter = part.take().level_meter(part.span);
        let mut inspector = self.marks.onsets.then(|| Inspector::new(rate, None, 1, part.span));
        let mut findings = part.take().findings.clone();
        let head = head(&part, plan, reference, self.every_frame);
        let channel = part.channel_name();
        if let Some(export) = export.as_deref_mut() {
            export.table(&head)?;
        }
        let frames = export.as_deref_mut().filter(|_| self.every_frame);
        let frames = frames.map(|export| Frames::new(plan.clone(), export, &head));
        let mut columns = Columns::new(plan.clone(), self.cells.sharpen, frames);
        findings.extend(part.read_in_two(
            "spectrogram",
            self.output.quiet,
            |samples| columns.push(samples),
            |samples| {
                meter.push(samples);
                if let Some(inspector) = &mut inspector {
                    let (levels, sound) = inspector.halves();
                    let block = [samples.to_vec()];
                    levels.push(&block);
                    sound.push(&block);
                }
            },
        )?);
        let cells = columns.finish()?;
        if let Some(export) = export {
            if !self.every_frame {
                for column in 0..plan.columns {
                    let (level_db, beside) = row_of(&cells, column, reference);
                    export.row(&head, &level_db, beside.as_deref())?;
                }
            }
            export.end_table(&head)?;
        }
        let levels = meter.finish();
        findings.extend(levels.findings(&channel));
        findings.extend(plan.findings.iter().cloned());
        findings.extend(self.cells.range.and_then(|range| range.cut(reference_hz, rate)));
        let start_s = part.start_s();
        let slice_at = |cut: &Cut| match cut {
            Cut::Time(time) => SliceAt::Time(time.0 - start_s),
            Cut::Frequency(frequency) => SliceAt::Frequency(frequency.hz(reference_hz)),
        };
        let slices = self.marks.slices.iter().map(|cut| cells.slice(slice_at(cut)));
        Ok(Made {
            slices: slices.collect::<Result<_, _>>()?,
            part,
            cells,
            reference_hz,
            clips: levels.clips,
            onsets_s: inspector.map(|inspector| inspector.finish().course.onsets_s),
            findings,
        })
    }

    /// What stands in the figure.
    fn layout(&self, count: usize) -> SpectrogramLayout {
        let is_time = |cut: &Cut| matches!(cut, Cut::Time(_));
        SpectrogramLayout {
            count: if self.cells.show.is_some() { 2 * count } else { count },
            arrangement: self.arrangement(),
            time_slices: self.marks.slices.iter().any(is_time),
            frequency_slices: !self.marks.slices.iter().all(is_time),
        }
    }

    fn arrangement(&self) -> Arrangement {
        if self.look.beside { Arrangement::Beside } else { Arrangement::Stacked }
    }

    /// Levels of the first and the last colour, for all alike.
    fn range_db(&self, made: &[Made<'_>]) -> Result<(f64, f64)> {
        const DEEPEST_DB: f64 = 100.0;
        let shifted = |one: &Made<'_>| {
            let (low, high) = one.cells.usual_range_db()?;
            let offset = (one.part.reference.full_scale_db() / 5.0).round() * 5.0;
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
            "the floor of {low} dB does not lie below the ceiling of {high} dB; give two levels \
             that rise"
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
        let full_scale_db = made.part.reference.full_scale_db();
        let (cells, colours) = (&made.cells, self.look.colours);
        sketch::sketch(cells, range_db, full_scale_db, span_s, colours, Depth::of_terminal())
    }

    fn draw(&self, made: &[Made<'_>], range_db: (f64, f64)) -> Result<Figure> {
        let names: Vec<String> = made.iter().map(|one| one.part.title()).collect();
        let shown: &[Shown] =
            if self.cells.show.is_some() { &[Shown::Level, Shown::Phase] } else { &[Shown::Level] };
        let drawn: Vec<(&Made<'_>, Shown)> =
            made.iter().flat_map(|one| shown.iter().map(move |shows| (one, *shows))).collect();
        let name = |(one, shows): &(&Made<'_>, Shown)| match (shows, made.len()) {
            (Shown::Level, 1) => "Level".to_string(),
            (Shown::Phase, 1) => PHASE_NAME.to_string(),
            (Shown::Level, _) => one.part.title(),
            (Shown::Phase, _) => format!("{}: {PHASE_NAME}", one.part.title()),
        };
        let drawn_names: Vec<String> = drawn.iter().map(name).collect();
        let spectrograms: Vec<DrawnSpectrogram<'_>> = drawn
            .iter()
            .zip(&drawn_names)
            .map(|((one, shows), name)| DrawnSpectrogram {
                name,
                spectrogram: &one.cells,
                shows: *shows,
                span_s: one.part.span_s(),
                reference: one.part.reference,
                marks: Marks {
                    clips: &one.clips,
                    onsets_s: one.onsets_s.as_deref().unwrap_or_default(),
                    ..Marks::default()
                },
                slices: &one.slices,
            })
            .collect();
        let several = made.len() > 1;
        let named = |one: &Made<'_>| one.part.named_findings(&one.findings, several);
        let findings: Vec<Finding> = made.iter().flat_map(named).collect();
        let mut notes = vec![settings_line(&made[0].cells.plan, &made[0])];
        if let [only] = made {
            notes.push(only.part.span_line());
        }
        let title = match names.as_slice() {
            few if few.len() <= 3 => few.join(", "),
            many => format!("{} spectrograms", many.len()),
        };
        if self.look.waterfall {
            let drawn = &spectrograms[0];
            let figure = WaterfallFigure {
                spectrogram: drawn.spectrogram,
                start_s: drawn.span_s.0,
                reference: drawn.reference,
                range_db,
                title: &title,
                notes: &notes,
                findings: &findings,
                reference_hz: made[0].reference_hz,
            };
            return Ok(waterfall_figure(&figure, self.figure.size)?);
        }
        let slice_names = slice_names(&made[0]);
        let figure = SpectrogramFigure {
            spectrograms: &spectrograms,
            arrangement: self.arrangement(),
            slice_names: &slice_names,
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

/// The rows and columns of a table: the cells of the picture, or every frame and bin.
fn head(
    part: &Part<'_>,
    plan: &SpectrogramPlan,
    reference: LevelReference,
    every_frame: bool,
) -> Head {
    let rate = part.rate_hz();
    let start_s = part.start_s();
    let spacing_hz = plan.frames.bin_spacing_hz(rate);
    let (times, frequency_hz): (Vec<f64>, Vec<f64>) = if every_frame {
        (plan.frame_times_s().collect(), plan.bins().map(|k| k as f64 * spacing_hz).collect())
    } else {
        ((0..plan.columns).map(|column| plan.time_s(column)).collect(), plan.row_hz())
    };
    Head {
        take: part.take().name(),
        channel: part.channel_name(),
        time_s: times.into_iter().map(|time_s| start_s + time_s).collect(),
        frequency_hz,
        full_scale_db: reference.full_scale_db(),
        reference: reference.words(),
        beside: match (every_frame, plan.phase_step_s().is_some()) {
            (true, _) => Some("phase_hz"),
            (false, true) => Some("phase_deg"),
            (false, false) => None,
        },
    }
}

/// The levels of a column in dB, and its phases where they are shown.
fn row_of(cells: &Cells, column: usize, reference: LevelReference) -> (Vec<f32>, Option<Vec<f32>>) {
    let phases = cells.plan.phase_step_s().map(|_| cells.phases(column).to_vec());
    (levels_db(cells.column(column), reference), phases)
}

/// Levels in dB of powers; silence is minus infinity.
fn levels_db(power: &[f32], reference: LevelReference) -> Vec<f32> {
    let offset = reference.full_scale_db();
    power.iter().map(|power| (db_from_power(f64::from(*power)) + offset) as f32).collect()
}

/// The loudest cell, away from the ends of the span if it is long enough: level, time from the
/// start of the take, frequency; `None` in silence.
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
    let level = db_from_power(f64::from(cells.power[place])) + made.part.reference.full_scale_db();
    let start_s = made.part.start_s();
    let row_hz = cells.plan.row_hz();
    level.is_finite().then(|| (level, start_s + cells.plan.time_s(column), row_hz[row]))
}

/// The numbers of the result, but for its slices.
fn quantities(made: &Made<'_>, range_db: (f64, f64)) -> Vec<Quantity> {
    const LABELS: [Label; 8] = [
        Label::new("resolution_hz", "resolution", Unit::Hertz, 2),
        Label::new("blur_s", "blur in time", Unit::Second, 4),
        Label::new("hop_s", "time between frames", Unit::Second, 5),
        Label::new("floor_db", "first colour", Unit::Level, 0),
        Label::new("ceiling_db", "last colour", Unit::Level, 0),
        Label::new("loudest_db", "loudest cell", Unit::Level, 1),
        Label::new("loudest_at_s", "time of the loudest cell", Unit::Second, 3),
        Label::new("loudest_hz", "frequency of the loudest cell", Unit::Hertz, 1),
    ];
    const ONSET: Label = Label::new("onsets_s", "onset", Unit::Second, 3);
    let plan = &made.cells.plan;
    let rate = made.part.rate_hz();
    let loudest = loudest(made);
    let values = [
        Some(plan.frames.resolution_hz(rate)),
        Some(plan.blur_s()),
        Some(plan.frames.hop as f64 / rate),
        Some(range_db.0),
        Some(range_db.1),
        loudest.map(|(level, ..)| level),
        loudest.map(|(_, at, _)| at),
        loudest.map(|(.., hz)| hz),
    ];
    let whole =
        LABELS.iter().zip(values).map(|(label, value)| Quantity::top(label, pair(value, None)));
    let onsets = made.onsets_s.iter().flatten().enumerate();
    let onsets = onsets.map(|(n, time_s)| {
        Quantity::new(Key::item(ONSET.field, n + 1), &ONSET, pair(Some(*time_s), None))
    });
    whole.chain(onsets).collect()
}

fn settings_line(plan: &SpectrogramPlan, made: &Made<'_>) -> String {
    let rate = made.part.take().info.sample_rate_hz;
    let sharpened = if made.cells.is_sharpened { "; sharpened" } else { "" };
    let phase = plan.phase_step_s().map_or(String::new(), |step_s| {
        format!("; phases over {} ms", text::number(1e3 * step_s, 2))
    });
    format!(
        "{} window of {} ms: resolution {} Hz, blurs {} ms; a frame every {} ms{sharpened}{phase}",
        plan.frames.window.kind(),
        text::number(1e3 * plan.frames.segment() as f64 / rate, 1),
        text::number(plan.frames.resolution_hz(rate), 2),
        text::number(1e3 * plan.blur_s(), 1),
        text::number(1e3 * plan.frames.hop as f64 / rate, 2),
    )
}

/// What the slices are called.
fn slice_names(made: &Made<'_>) -> Vec<String> {
    let start_s = made.part.start_s();
    let name = |slice: &Slice| match slice.at {
        SliceAt::Time(time_s) => format!("{} s", text::number(start_s + time_s, 3)),
        SliceAt::Frequency(hz) => format!("{} Hz", text::number(hz, 1)),
    };
    made.slices.iter().map(name).collect()
}

/// Where a slice is loudest.
fn slice_line(made: &Made<'_>, slice: &Slice) -> String {
    let plan = &made.cells.plan;
    let start_s = made.part.start_s();
    let levels = levels_db(&slice.power, made.part.reference);
    let best = (0..levels.len()).max_by(|a, b| levels[*a].total_cmp(&levels[*b])).unwrap_or(0);
    let level = text::number(f64::from(levels[best]), 1);
    match slice.at {
        _ if !levels[best].is_finite() => "  slice: silent\n".into(),
        SliceAt::Time(time_s) => format!(
            "  slice at {} s: loudest {level} dB at {} Hz\n",
            text::number(start_s + time_s, 3),
            text::number(plan.row_hz()[best], 1)
        ),
        SliceAt::Frequency(hz) => format!(
            "  slice at {} Hz, ± {} Hz: loudest {level} dB at {} s\n",
            text::number(hz, 1),
            text::number(plan.resolution_hz() / 2.0, 1),
            text::number(start_s + plan.time_s(best), 3)
        ),
    }
}

/// What the phase is called.
const PHASE_NAME: &str = "Phase from frame to frame, less that of the bin";

/// Onsets that are listed; JSON has them all.
const MOST_ONSETS: usize = 12;

fn as_text(made: &Made<'_>, range_db: (f64, f64)) -> String {
    let (take, plan) = (made.part.take(), &made.cells.plan);
    let loudest = match loudest(made) {
        None => "silent".into(),
        Some((level, at, hz)) => format!(
            "loudest {} dB {} at {} s, {} Hz",
            text::number(level, 1),
            made.part.reference.words(),
            text::number(at, 3),
            text::number(hz, 1)
        ),
    };
    let findings = text::findings_below(&made.findings);
    let edges = &plan.edges_hz;
    let slices: String = made.slices.iter().map(|slice| slice_line(made, slice)).collect();
    let onsets = made.onsets_s.as_deref().map_or(String::new(), |onsets| {
        let times = onsets.iter().map(|time_s| format!("{} s", text::number(*time_s, 3)));
        text::listed("onsets", times, MOST_ONSETS)
    });
    format!(
        "{}\n  {}\n\n  {}\n  {} frames in {} columns, {} rows from {} Hz to {} Hz\n  {loudest}; \
         colours from {} to {} dB\n{slices}{onsets}{findings}",
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
    let rate = part.rate_hz();
    let loudest = loudest(made);
    let edges = &plan.edges_hz;
    let settings = Settings {
        level_reference: part.reference.name(),
        frames: plan.frames.figures(rate),
        axis: plan.axis,
        pooling: (!made.cells.is_sharpened).then(|| plan.pooling()),
        sharpened: made.cells.is_sharpened,
        phase_step_s: plan.phase_step_s(),
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
        scaling: format!("peak amplitude, dB {}", made.part.reference.words()),
        slices: made.slices.iter().map(|slice| slice_result(made, slice)).collect(),
        onsets_s: made.onsets_s.clone(),
    };
    json::line("spectrogram", part.record()?, settings, result, &made.findings)
}

fn slice_result(made: &Made<'_>, slice: &Slice) -> SliceResult {
    let plan = &made.cells.plan;
    let start_s = made.part.start_s();
    let levels = levels_db(&slice.power, made.part.reference).into_iter().map(f64::from);
    let level_db = levels.map(|level| Some(level).filter(|level| level.is_finite())).collect();
    let (mut at_s, mut at_hz, mut time_s, mut frequency_hz) = (None, None, None, None);
    match slice.at {
        SliceAt::Time(time) => {
            at_s = Some(start_s + time);
            frequency_hz = Some(plan.row_hz());
        }
        SliceAt::Frequency(hz) => {
            at_hz = Some(hz);
            time_s = Some((0..plan.columns).map(|n| start_s + plan.time_s(n)).collect());
        }
    }
    SliceResult { at_s, at_hz, time_s, frequency_hz, level_db }
}

fn as_csv(made: &[Made<'_>]) -> Result<String> {
    let mut table = String::new();
    for one in made {
        let head = head(&one.part, &one.cells.plan, one.part.reference, false);
        let rows = (0..one.cells.plan.columns)
            .map(|column| row_of(&one.cells, column, one.part.reference));
        table += &export::csv_text(&head, rows, table.is_empty())?;
    }
    Ok(table)
}
