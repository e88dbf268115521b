//! `trend`: a measured quantity against a condition of a study.

use std::path::{Path, PathBuf};

use anyhow::{Result, anyhow, bail};
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::quantity::{Key, Quantities, Quantity, pair};
use tonemap_core::trend::{Extreme, Trend as Found, TrendFit, TrendPoint, TrendStep, trend};
use tonemap_core::{Finding, Measured};
use tonemap_figures::{ReportPart, TrendFigure, Words, trend_figure};
use tonemap_study::Condition;

use crate::analyses::{Analyses, command_of};
use crate::args::{FigureArgs, Format, OutputArgs, SourceArgs};
use crate::json;
use crate::kept::{Kept, Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::progress::TakesProgress;
use crate::saved::{self, Saved};
use crate::status::{self, Status, Usage};
use crate::studies::{self, Named, OpenStudy};
use crate::table::Table;
use crate::text;

/// A measured quantity against a condition of a study
///
/// Any quantity that a command reports can be followed from take to take: over cuts of a bell, over
/// distances, before and after. Its table, the line or the monotone course through it with its 95 %
/// band, and the change from step to step. Each analysis is run once and kept with the study.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Trend {
    /// Takes of the study, or saved results of them; all that have the condition if none is named
    #[arg(value_name = "TAKE")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[arg(
        long,
        value_name = "COMMAND.KEY",
        help = "What is followed: a command and a key of its result, timbre.centroid_hz or \
                partials[2].frequency_hz"
    )]
    quantity: String,
    /// The condition it is followed over
    #[arg(long, value_name = "CONDITION")]
    over: String,
    /// Options for the command, as one word: '--free --from 0.1'
    #[arg(long = "with", value_name = "OPTIONS", default_value = "", allow_hyphen_values = true)]
    options: String,
    /// The curve fitted to the values [default: a line over numbers, nothing over words]
    #[arg(long, value_name = "FIT")]
    fit: Option<Fit>,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap trend --quantity partials[2].frequency_hz --over cut --with --free --figure cuts.png
      how far each cut lowers a partial of the bell
  tonemap trend --quantity timbre.centroid_hz --over distance --where group=harp
      the centroid over the distance of the microphone
  tonemap trend --quantity pitch.notes[1].f0_hz --over strings
      a quantity over words: a table and the steps";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Fit {
    Line,
    Monotone,
    None,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings<'a> {
    quantity: &'a str,
    over: &'a str,
    unit: &'a str,
    name: Option<&'a str>,
    value_unit: Option<&'a str>,
    options: &'a [String],
    fit: TrendFit,
}

/// `result` in JSON.
#[derive(Serialize)]
struct TrendResult<'a> {
    points: Vec<Row<'a>>,
    #[serde(flatten)]
    trend: &'a Found,
    greatest: Option<ExtremeRow>,
    least: Option<ExtremeRow>,
    steps: Vec<StepRow>,
}

/// A value under a condition.
#[derive(Serialize)]
struct Row<'a> {
    take: &'a str,
    condition: &'a Condition,
    value: f64,
    value_u: Option<f64>,
}

#[derive(Serialize)]
struct StepRow {
    from: String,
    to: String,
    change: f64,
    change_u: Option<f64>,
    distinguishable: Option<bool>,
}

#[derive(Serialize)]
struct ExtremeRow {
    condition: String,
    value: f64,
    value_u: Option<f64>,
    /// From those beside it.
    distinguishable: Option<bool>,
}

/// What one take gave.
struct Reading {
    take: String,
    condition: Condition,
    /// What it is called, and its unit, where the command says so.
    named: Option<(String, &'static str)>,
    value: Measured,
    record: serde_json::Value,
    findings: Vec<Finding>,
}

/// Conditions as places on an axis.
struct Axis {
    /// Unit of numbers.
    unit: String,
    /// Words in their order; none for numbers.
    words: Vec<String>,
}

impl Axis {
    fn of(readings: &[Reading]) -> Self {
        let quantities: Option<Vec<(f64, &str)>> =
            readings.iter().map(|reading| reading.condition.quantity()).collect();
        let one_unit = quantities.filter(|all| all.windows(2).all(|pair| pair[0].1 == pair[1].1));
        match one_unit {
            Some(all) => {
                Self { unit: all.first().map_or(String::new(), |q| q.1.into()), words: Vec::new() }
            }
            None => {
                let mut words: Vec<String> = Vec::new();
                for reading in readings {
                    let word = reading.condition.to_string();
                    if !words.contains(&word) {
                        words.push(word);
                    }
                }
                Self { unit: String::new(), words }
            }
        }
    }

    fn place(&self, condition: &Condition) -> f64 {
        let word = condition.to_string();
        match self.words.iter().position(|known| *known == word) {
            Some(place) => place as f64,
            None => condition.quantity().map_or(0.0, |(number, _)| number),
        }
    }

    fn name(&self, place: f64) -> String {
        let word = self.words.get(place as usize).filter(|_| !self.words.is_empty());
        match word {
            Some(word) => word.clone(),
            None => format!("{place} {}", self.unit).trim().to_string(),
        }
    }
}

impl Present for Trend {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        let Some((command, key)) = command_of(&self.quantity, super::of_takes()) else {
            return Err(Usage(format!(
                "'{}' is no quantity; write a command and a key of its result, timbre.centroid_hz \
                 or partials[2].frequency_hz. \
                 Commands are {}",
                self.quantity,
                super::of_takes().collect::<Vec<_>>().join(", ")
            ))
            .into());
        };
        let Some(open) = OpenStudy::of(&self.source)? else {
            let reason = "conditions are kept in a study, and there is none here; name its folder \
                          with --study, or make one with \
                          'tonemap study make'";
            return Err(Usage(reason.into()).into());
        };
        let options = shlex::split(&self.options).ok_or_else(|| {
            Usage(format!("'{}' cannot be read as options: a quote is not closed", self.options))
        })?;
        let mut status = Status::Done;
        let readings = self.readings(&open, command, key, &options, &mut status)?;
        let axis = Axis::of(&readings);
        let points: Vec<TrendPoint> = readings
            .iter()
            .map(|r| TrendPoint { x: axis.place(&r.condition), value: r.value })
            .collect();
        let fit = match self.fit {
            Some(Fit::Line) => TrendFit::Line,
            Some(Fit::Monotone) => TrendFit::Monotone,
            None if axis.words.is_empty() => TrendFit::Line,
            Some(Fit::None) | None => TrendFit::None,
        };
        let found = trend(&points, fit);
        // What was found of the takes concerns the trend as well.
        let mut findings = found.findings.clone();
        findings.extend(readings.iter().flat_map(|reading| reading.findings.clone()));
        output::print_notes(&self.output, &findings);
        self.draw(&axis, &points, &found, &findings)?;
        let result = result_of(&readings, &axis, &found);
        let content = match self.output.format {
            Format::Text => self.as_text(&readings, &axis, &found, &findings),
            Format::Csv => point_csv().csv(&result.points)?,
            Format::Json => {
                let takes = readings.iter().map(|reading| reading.record.clone()).collect();
                let named = readings.first().and_then(|reading| reading.named.as_ref());
                let settings = Settings {
                    quantity: &self.quantity,
                    over: &self.over,
                    unit: &axis.unit,
                    name: named.map(|(name, _)| name.as_str()),
                    value_unit: named.map(|(_, unit)| *unit),
                    options: &options,
                    fit,
                };
                json::line_of_records("trend", takes, settings, result, &findings)?
            }
        };
        let judged = vec![(self.quantity.clone(), found.quantities())];
        Ok(Presented { content, judged, findings, part: ReportPart::default(), status })
    }
}

impl Trend {
    /// The quantity in each take. One in which it cannot be measured is named and does not stop the
    /// others.
    fn readings(
        &self,
        open: &OpenStudy,
        command: &str,
        key: &str,
        options: &[String],
        status: &mut Status,
    ) -> Result<Vec<Reading>> {
        let (files, takes): (Vec<&PathBuf>, Vec<&PathBuf>) =
            self.takes.iter().partition(|path| saved::is_saved(path));
        let mut readings = Vec::new();
        let mut errors = Vec::new();
        for file in files {
            match self.of_file(open, key, file) {
                Ok(of_file) => readings.extend(of_file),
                Err(error) => errors.push(error),
            }
        }
        let takes: Vec<PathBuf> = takes.into_iter().cloned().collect();
        let named = self.named(open, &takes, readings.is_empty())?;
        let analyses = Analyses::new(super::within, Some(open), self.source.raw)?;
        let progress = TakesProgress::new("trend", named.len(), self.output.quiet);
        let read: Vec<Result<Reading>> = named
            .par_iter()
            .map(|(named, condition)| {
                let reading = of_take(&analyses, named, condition, (command, key), options);
                progress.advance();
                reading
            })
            .collect();
        drop(progress);
        for one in read {
            match one {
                Ok(reading) => readings.push(reading),
                Err(error) => errors.push(error),
            }
        }
        if readings.is_empty() {
            // What ails all is said once.
            return Err(errors.swap_remove(0));
        }
        for error in &errors {
            status::print_error(error);
            *status = Status::CouldNot;
        }
        Ok(readings)
    }

    /// The takes that are followed, with their condition.
    fn named(
        &self,
        open: &OpenStudy,
        takes: &[PathBuf],
        all_if_none: bool,
    ) -> Result<Vec<(Named, Condition)>> {
        let asked = if takes.is_empty() && self.source.conditions.is_empty() {
            let all = open.study.takes.iter().filter(|_| all_if_none);
            all.map(|take| open.named(take)).collect()
        } else {
            studies::find_takes(takes, &self.source)?
        };
        let mut known = Vec::new();
        let mut others = Vec::new();
        for named in asked {
            let condition =
                named.entry.as_ref().and_then(|e| e.take.conditions.get(&self.over)).cloned();
            match condition {
                Some(condition) => known.push((named, condition)),
                None => others.push(named.name()),
            }
        }
        if known.is_empty() && all_if_none {
            let mut conditions: Vec<&String> =
                open.study.takes.iter().flat_map(|take| take.conditions.keys()).collect();
            conditions.sort();
            conditions.dedup();
            let list: Vec<&str> = conditions.into_iter().map(String::as_str).collect();
            return Err(Usage(format!(
                "no take that was asked for has the condition '{}'; the study knows {}",
                self.over,
                if list.is_empty() { "none".into() } else { list.join(", ") }
            ))
            .into());
        }
        if !others.is_empty() && !takes.is_empty() {
            bail!(
                "{}: it has no condition '{}'; set it in study.toml",
                others.join(", "),
                self.over
            );
        }
        Ok(known)
    }

    /// The quantity in each result of a file.
    fn of_file(&self, open: &OpenStudy, key: &str, file: &Path) -> Result<Vec<Reading>> {
        let results = saved::read(file)?;
        results.iter().map(|result| self.of_saved(open, result, key, file)).collect()
    }

    fn of_saved(
        &self,
        open: &OpenStudy,
        result: &Saved,
        key: &str,
        file: &Path,
    ) -> Result<Reading> {
        let takes = result.takes();
        let found = takes
            .first()
            .and_then(|(path, _)| open.find(path).or_else(|| open.find(&open.folder.join(path))));
        let Some(take) = found else {
            bail!("{}: its take is not in the study", file.display());
        };
        let Some(condition) = take.conditions.get(&self.over) else {
            bail!("{}: its take {} has no condition '{}'", file.display(), take.name, self.over);
        };
        Ok(Reading {
            value: quantity_of(result, key, &take.name)?,
            named: None,
            condition: condition.clone(),
            record: result.value["take"].clone(),
            findings: named_findings(result.findings(), &take.name),
            take: take.name.clone(),
        })
    }

    fn draw(
        &self,
        axis: &Axis,
        points: &[TrendPoint],
        found: &Found,
        findings: &[Finding],
    ) -> Result<()> {
        let Some(file) = &self.figure.figure else { return Ok(()) };
        let points: Vec<(f64, Measured)> = points.iter().map(|p| (p.x, p.value)).collect();
        let title = format!("{} over {}", self.quantity, self.over);
        let notes = [line_words(found, &self.over, axis), "bars ± 2 u; band of 95 %".to_string()];
        let condition_title = match axis.unit.as_str() {
            "" => self.over.clone(),
            unit => format!("{}, {unit}", self.over),
        };
        let figure = TrendFigure {
            points: &points,
            course: &found.course,
            names: &axis.words,
            value_title: &self.quantity,
            condition_title: &condition_title,
            words: Words { title: &title, notes: &notes, findings },
        };
        output::write_figure(file, &trend_figure(&figure, self.figure.size)?, self.output.force)
    }

    fn as_text(
        &self,
        readings: &[Reading],
        axis: &Axis,
        found: &Found,
        findings: &[Finding],
    ) -> String {
        let mut sorted: Vec<&Reading> = readings.iter().collect();
        sorted.sort_by(|a, b| axis.place(&a.condition).total_cmp(&axis.place(&b.condition)));
        let table = Table::new()
            .words("", "take", |reading: &&Reading| reading.take.clone())
            .printed(self.over.as_str(), |reading| reading.condition.to_string())
            .measured("", self.quantity.as_str(), 6, |reading| Some(reading.value))
            .text(&sorted);
        let steps: Vec<&TrendStep> = found.steps.iter().collect();
        let steps = step_table(axis).text(&steps);
        let line = text::sentence(&line_words(found, &self.over, axis));
        let extremes = extreme_words(found, axis);
        let mut parts = vec![table + &line + &extremes, steps, text::findings(findings)];
        parts.retain(|part: &String| !part.trim().is_empty());
        parts.join("\n")
    }
}

/// The quantity in a take.
fn of_take(
    analyses: &Analyses,
    named: &Named,
    condition: &Condition,
    (command, key): (&str, &str),
    options: &[String],
) -> Result<Reading> {
    let kept = analyses.of(named, command, options)?;
    let take = named.name();
    let key_read = key.parse::<Key>().ok();
    let of = |quantity: &&Quantity| Some(&quantity.key) == key_read.as_ref();
    let quantity = kept.quantities.iter().find(of);
    let value = quantity.and_then(|quantity| quantity.value);
    Ok(Reading {
        named: quantity.map(|of| (of.name.to_string(), of.unit.symbol())),
        value: value.map_or_else(|| Err(unknown(&kept, command, key, &take)), Ok)?,
        condition: condition.clone(),
        record: record_of(&kept)?,
        findings: named_findings(kept.findings, &take),
        take,
    })
}

/// What a result says of its take.
fn record_of(kept: &Kept) -> Result<serde_json::Value> {
    let saved = kept.saved()?;
    Ok(saved.first().map(|result| result.value["take"].clone()).unwrap_or_default())
}

/// Findings under the name that their take has in the study.
fn named_findings(findings: Vec<Finding>, take: &str) -> Vec<Finding> {
    let named = |finding| Finding { take: Some(take.into()), ..finding };
    findings.into_iter().map(named).collect()
}

/// Why there is no such number in a result.
fn unknown(kept: &Kept, command: &str, key: &str, take: &str) -> anyhow::Error {
    let keys: Vec<String> = kept.quantities.iter().map(|one| one.key.to_string()).collect();
    if keys.iter().any(|known| known == key) {
        return anyhow!("{take}: '{command}' could not measure '{key}' in it");
    }
    anyhow!("{take}: '{command}' has no quantity '{key}'{}", text::meant(key, &keys))
}

/// The number under a key of a saved result; what there is if it is not there.
fn quantity_of(result: &Saved, key: &str, take: &str) -> Result<Measured> {
    if let Some(value) = result.number(key) {
        return Ok(value);
    }
    let known: Vec<String> = result.numbers().into_iter().map(|number| number.key).collect();
    bail!("{take}: '{}' has no quantity '{key}'{}", result.kind(), text::meant(key, &known))
}

fn result_of<'a>(readings: &'a [Reading], axis: &Axis, found: &'a Found) -> TrendResult<'a> {
    let known = |value: f64| Some(value).filter(|value| value.is_finite());
    let extreme = |extreme: Option<Extreme>| {
        extreme.map(|Extreme { x, value, is_real }| ExtremeRow {
            condition: axis.name(x),
            value: value.value,
            value_u: known(value.u),
            distinguishable: is_real,
        })
    };
    TrendResult {
        points: readings
            .iter()
            .map(|reading| Row {
                take: &reading.take,
                condition: &reading.condition,
                value: reading.value.value,
                value_u: known(reading.value.u),
            })
            .collect(),
        trend: found,
        greatest: extreme(found.greatest),
        least: extreme(found.least),
        steps: found
            .steps
            .iter()
            .map(|step| StepRow {
                from: axis.name(step.from),
                to: axis.name(step.to),
                change: step.change.value,
                change_u: known(step.change.u),
                distinguishable: step.is_real,
            })
            .collect(),
    }
}

fn point_csv<'t>() -> Table<'t, &'t Row<'t>> {
    Table::new()
        .words("take", "", |row: &&Row<'_>| row.take.into())
        .words("condition", "", |row| row.condition.to_string())
        .measured("value", "", 0, |row| pair(Some(row.value), row.value_u))
}

fn step_table(axis: &Axis) -> Table<'_, &TrendStep> {
    Table::new()
        .words("", "step", |step: &&TrendStep| {
            format!("{} to {}", axis.name(step.from), axis.name(step.to))
        })
        .signed_measured("", "change", 6, |step| Some(step.change))
        .words("", " ", |step| text::verdict(step.is_real).into())
}

/// Where the greatest and the least value are, in words.
fn extreme_words(found: &Found, axis: &Axis) -> String {
    let told = |name: &str, extreme: Option<Extreme>| {
        let Extreme { x, value, is_real } = extreme?;
        let [value, u] = text::measured(value.value, value.u, 6);
        let u = if u.starts_with('<') { format!(" (u {u})") } else { format!(" ± {u}") };
        let said = match is_real {
            Some(true) => ", different from those beside it",
            Some(false) => ", not distinguishable from those beside it",
            None => "",
        };
        Some(format!("{name} at {}: {value}{u}{said}", axis.name(x)))
    };
    let all = [told("greatest", found.greatest), told("least", found.least)];
    let all: Vec<String> = all.into_iter().flatten().collect();
    if all.is_empty() { String::new() } else { text::sentence(&all.join("; ")) }
}

/// The line in words.
fn line_words(found: &Found, over: &str, axis: &Axis) -> String {
    let Some(line) = found.line else {
        return match found.course.len() {
            0 => "no curve through the values".into(),
            _ => "the nearest course that only rises or only falls".into(),
        };
    };
    let [slope, u] = text::measured(line.slope.value, line.slope.u, 8);
    let per = if axis.unit.is_empty() { over } else { &axis.unit };
    let said = if line.is_real { "" } else { ", not significantly different from zero" };
    let scatter = if line.scatter > 0.0 {
        format!("; scatter beyond the stated uncertainties: {}", text::significant(line.scatter))
    } else {
        "; the uncertainties explain the scatter".into()
    };
    format!("straight line: {} ± {u} per {per}{said}{scatter}", text::signed(slope))
}
