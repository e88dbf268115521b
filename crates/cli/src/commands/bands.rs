//! `bands`: levels as a sound level meter gives them.

use std::collections::BTreeSet;

use anyhow::{Context, Result};
use clap::Args;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::bands::{
    BandLevel, BandSettings, EXCEEDED_PERCENT, Levels, Moment, TimeWeighting, Weighted, Weighting,
};
use tonemap_core::quantity::{Quantities, Quantity};
use tonemap_core::units::{FrequencyRange, LevelReference, Seconds};
use tonemap_figures::{
    BandsFigure, ChartCurve, DrawnLevels, Figure, ReportPart, Words, bands_chart, bands_figure,
    course_chart,
};

use crate::args::{FigureArgs, OutputArgs, PartArgs, SpanArgs, TakesArgs};
use crate::levels::levels_of;
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, row_heads, rows};
use crate::parts::share_reference;
use crate::sides::Side;
use crate::status::Usage;
use crate::table::{Row, Shown, Table};
use crate::take::Part;
use crate::text;

/// Levels in octave or 1/N-octave bands; A, C, Z weighting; equivalent, highest, percentile levels
///
/// Band filters are of class 1 (IEC 61260-1), weightings too (IEC 61672-1). A band is averaged from
/// where its filter has settled; percentiles come from the time-weighted level every 10 ms. Where a
/// channel is not calibrated, levels are in dB re full scale. Several takes stand in one table and
/// one figure. How it is computed stands in docs/methods/levels.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Bands {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    levels: LevelArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap bands hall-night --figure night.png
      third-octave levels of the empty hall, its statistics, and its noise rating
  tonemap bands hall-night --fraction 1 --range 31.5Hz..8kHz --require 'laeq_db<35'
      octaves; exit status 3 if the hall is louder than 35 dB(A)
  tonemap bands green-room --channel mean-energy:1,2 --background green-room-quiet
      the energy mean of two microphones, with the background subtracted
  tonemap bands fan-a fan-b --weighting A --every 1s --course --format csv
      both fans over time, a row each second";

/// What is measured.
#[derive(Args, Clone)]
#[command(next_help_heading = "Levels")]
pub(crate) struct LevelArgs {
    /// Bands of 1/N octave: 1 for octaves, 3 for thirds, up to 24
    #[arg(long, value_name = "N", default_value = "3")]
    fraction: u32,
    /// Lowest and highest band by their names
    #[arg(long, value_name = "RANGE", default_value = "16Hz..20kHz")]
    range: FrequencyRange,
    /// Frequency weighting of the level over all frequencies, its statistics and its course: A, C
    /// or Z. Bands are not weighted
    #[arg(long, value_name = "WEIGHTING", default_value = "Z")]
    weighting: Weighting,
    /// Time weighting of highest and lowest levels and of percentiles: F, S or I
    #[arg(long, value_name = "WEIGHTING", default_value = "F")]
    time_weighting: TimeWeighting,
    /// Equivalent level of each step of the course [default: 1s, less in takes shorter than 20 s]
    #[arg(long, value_name = "TIME")]
    every: Option<Seconds>,
    /// Give levels over time, also of each band, in JSON and CSV
    #[arg(long)]
    course: bool,
    /// Background to subtract from the bands by energy: a take, TAKE@CHANNEL, TAKE@0.5..3
    #[arg(long, value_name = "TAKE")]
    background: Option<String>,
}

impl LevelArgs {
    fn settings(&self) -> BandSettings {
        let hz = |end: Option<tonemap_core::units::Frequency>, usual: f64| {
            end.map_or(usual, |frequency| frequency.hz(440.0))
        };
        BandSettings {
            fraction: self.fraction,
            range_hz: (hz(self.range.low, 16.0), hz(self.range.high, 20_000.0)),
            weighting: self.weighting,
            time_weighting: self.time_weighting,
            every_s: self.every.map(|time| time.0),
            keeps_course: self.course,
        }
    }
}

/// What was measured of a part.
pub(crate) struct Found {
    levels: Levels,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    fraction: u32,
    range_hz: (f64, f64),
    weighting: Weighting,
    time_weighting: TimeWeighting,
    every_s: f64,
    percentiles_from: &'static str,
    background: Option<String>,
}

/// What percentiles are made of.
const PERCENTILES_FROM: &str = "the time-weighted level every 10 ms";

impl Bands {
    /// The levels of the background, which refer to what those of the part do.
    fn background(&self, of: &Part<'_>, settings: &BandSettings) -> Result<Option<Levels>> {
        let Some(words) = &self.levels.background else { return Ok(None) };
        let side = Side::read(words)?;
        let mut opened = side.open(&self.takes.source)?;
        let [member] = opened.as_mut_slice() else {
            return Err(Usage("the background is one take".into()).into());
        };
        let all =
            PartArgs { span: SpanArgs::default(), channels: self.takes.part.channels.clone() };
        let mut parts = member.level_parts(&all)?;
        parts.truncate(1);
        let mut part = parts.pop().context("the background has no channel")?;
        let is_pressure = |reference| matches!(reference, LevelReference::Pressure { .. });
        if is_pressure(of.reference) && !is_pressure(part.reference) {
            return Err(Usage(format!(
                "{} is calibrated and {} is not, so its level cannot be subtracted; calibrate both, \
                 or state the level of both with --assume",
                of.title(),
                part.title()
            ))
            .into());
        }
        if !is_pressure(of.reference) {
            part.reference = of.reference;
        }
        Ok(Some(levels_of(&part, settings, true)?.0))
    }
}

impl Measure for Bands {
    const KIND: &'static str = "bands";
    const DRAWS: Option<&'static str> = None;
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of_levels(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn refer(&self, parts: &mut [Part<'_>]) -> Result<Option<Finding>> {
        Ok(share_reference(parts))
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = self.levels.settings();
        let (mut levels, mut findings) = levels_of(part, &settings, quiet)?;
        if let Some(background) = self.background(part, &settings)? {
            let before = levels.findings.len();
            levels = levels.without_background(&background);
            findings.extend(levels.findings[before..].iter().cloned());
        }
        if matches!(part.reference, LevelReference::Pressure { .. }) {
            levels = levels.rated();
        }
        Ok((Found { levels }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let (settings, levels) = (self.levels.settings(), &made.found.levels);
        Settings {
            level_reference: made.part.reference.name(),
            fraction: settings.fraction,
            range_hz: settings.range_hz,
            weighting: settings.weighting,
            time_weighting: settings.time_weighting,
            every_s: levels.every_s,
            percentiles_from: PERCENTILES_FROM,
            background: self.levels.background.clone(),
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let mut levels = made.found.levels.clone();
        if !self.levels.course {
            levels.course.clear();
        }
        levels
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.levels.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        match made {
            [one] => as_text(one),
            several => side_by_side(several),
        }
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        if self.levels.course {
            let bands = made.iter().max_by_key(|one| one.found.levels.bands.len());
            let rows = made.iter().zip(&heads).flat_map(|(one, part)| {
                let levels = &one.found.levels;
                (0..levels.course.len()).map(move |n| (part, levels, n))
            });
            let rows: Vec<_> = rows.map(|(part, levels, n)| (part, (levels, n))).collect();
            let rows = rows.iter().map(|(part, item)| Row { part, item });
            return course_table(bands.map_or(&[], |one| &one.found.levels.bands)).csv(rows);
        }
        band_csv().csv(rows(made, &heads, |found| found.levels.bands.iter()))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let titles: Vec<String> = made.iter().map(|one| one.part.title()).collect();
        let levels: Vec<DrawnLevels<'_>> = (made.iter().zip(&titles))
            .map(|(one, title)| DrawnLevels { name: title, levels: &one.found.levels })
            .collect();
        let first = &made[0];
        let mut notes = vec![settings_line(first)];
        let is_one = made.len() == 1;
        notes.extend(made.iter().zip(&titles).map(|(one, title)| {
            let span = one.part.span_line();
            if is_one { span } else { format!("{title}: {span}") }
        }));
        let findings: Vec<Finding> =
            made.iter().flat_map(|one| one.named_findings(!is_one)).collect();
        let title = if is_one { titles[0].clone() } else { "Levels in bands".into() };
        let figure = BandsFigure {
            levels: &levels,
            reference: first.part.reference,
            words: Words { title: &title, notes: &notes, findings: &findings },
        };
        Ok(bands_figure(&figure, self.figure.size)?)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let levels = &made.found.levels;
        let unit = made.part.level_unit();
        let db = |name: &str, level| text::fact(name, level, 1, &unit);
        let mut facts = vec![
            db("Equivalent level, A", levels.laeq_db),
            db("Equivalent level, C", levels.lceq_db),
            Some((
                "Statistics".to_string(),
                text::sentence(&statistics_line(levels)).trim().into(),
            )),
        ];
        facts.extend(rating_line(levels).map(|line| Some(("Noise rating".to_string(), line))));
        let known: (Vec<f64>, Vec<f64>) =
            levels.course.iter().filter_map(|at| Some((at.time_s, at.level_db?))).unzip();
        let curve = ChartCurve { name: "level".into(), x: known.0, y: known.1 };
        let title = format!("{}-weighted level, {unit}", levels.weighting.letter());
        let middles =
            levels.bands.iter().filter_map(|band| Some((band.center_hz, band.level_db?.value)));
        let (x, y) = middles.unzip();
        let bands_curve = ChartCurve { name: "equivalent level".into(), x, y };
        let charts = vec![
            bands_chart("bands", "Equivalent levels in bands", &[bands_curve], (&title, &unit)),
            course_chart("levels", "Level over time", &[curve], (&title, "dB")),
        ];
        let bands: Vec<&BandLevel> = levels.bands.iter().collect();
        let tables = vec![band_table(levels, &unit).page("Levels in bands", &bands)];
        let text = format!("Equivalent level, A-weighted, {}", made.part.title());
        let headline = text::headline(levels.laeq_db, 1, &unit, text);
        Ok(ReportPart { facts: facts.into_iter().flatten().collect(), charts, tables, headline })
    }
}

fn as_text(made: &Made<'_>) -> String {
    let levels = &made.found.levels;
    let unit = made.part.level_unit();
    let weighted: Vec<&Weighted> = levels.weighted.iter().collect();
    let bands: Vec<&BandLevel> = levels.bands.iter().collect();
    let mut parts = vec![
        format!("{}\n  {}\n", made.part.title(), made.part.span_line()),
        weighted_table(levels, &unit).text(&weighted),
    ];
    let mut lines = Vec::new();
    lines.extend(
        levels.lcpeak_db.map(|db| format!("C-weighted peak {} {unit}", text::number(db, 1))),
    );
    lines.extend(rating_line(levels).map(|line| format!("noise rating {line}")));
    if !lines.is_empty() {
        parts.push(text::sentence(&lines.join("; ")));
    }
    if !bands.is_empty() {
        parts.push(band_table(levels, &unit).text(&bands));
    }
    parts.push(text::sentence(&settings_line(made)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

/// Several parts in one table each of weighted levels and of bands.
fn side_by_side(made: &[Made<'_>]) -> String {
    let unit = made[0].part.level_unit();
    let named: Vec<(String, &Weighted)> = made
        .iter()
        .flat_map(|one| {
            let of = one.found.levels.weighted.iter();
            of.map(|weighted| (one.part.title(), weighted))
        })
        .collect();
    let rows: Vec<&(String, &Weighted)> = named.iter().collect();
    let totals = Table::new()
        .words("", "take", |row: &&(String, &Weighted)| row.0.clone())
        .words("", "weighting", |row| row.1.weighting.letter().into())
        .measured("", format!("equivalent, {unit}"), 2, |row| row.1.leq_db)
        .number("", "highest", 1, |row| row.1.max_db)
        .number("", "lowest", 1, |row| row.1.min_db)
        .rank(1)
        .number("", "L10", 1, |row| row.1.percentiles.exceeded(10.0))
        .number("", "L50", 1, |row| row.1.percentiles.exceeded(50.0))
        .rank(2)
        .number("", "L90", 1, |row| row.1.percentiles.exceeded(90.0))
        .text(&rows);
    let names: BTreeSet<u64> = (made.iter().flat_map(|one| &one.found.levels.bands))
        .map(|band| (1e3 * band.center_hz) as u64)
        .collect();
    let of = |one: &Made<'_>, name: u64| -> Option<f64> {
        let mut bands = one.found.levels.bands.iter();
        let band = bands.find(|band| (1e3 * band.center_hz) as u64 == name)?;
        Some(band.own_db()?.value)
    };
    let mut bands =
        Table::new().printed("band, Hz", |name: &&u64| text::hertz(**name as f64 / 1e3));
    for one in made {
        bands = bands.number("", one.part.title(), 1, move |name| of(one, **name));
    }
    let mut parts = vec![totals, bands.text(&names.iter().collect::<Vec<_>>())];
    parts.push(text::sentence(&settings_line(&made[0])));
    let findings: Vec<Finding> = made.iter().flat_map(|one| one.named_findings(true)).collect();
    let findings = text::findings(&findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

fn weighted_table<'t>(levels: &'t Levels, unit: &str) -> Table<'t, &'t Weighted> {
    let time = levels.time_weighting.letter();
    let mut table = Table::new()
        .words("", "weighting", |of: &&Weighted| of.weighting.letter().into())
        .measured("", format!("equivalent, {unit}"), 2, |of| of.leq_db)
        .number("", format!("highest {time}"), 1, |of| of.max_db)
        .number("", format!("lowest {time}"), 1, |of| of.min_db)
        .rank(1);
    for percent in EXCEEDED_PERCENT {
        let rank = if [10.0, 50.0, 90.0].contains(&percent) { 0 } else { 3 };
        let of = move |of: &&Weighted| of.percentiles.exceeded(percent);
        table = table.number("", format!("L{percent}"), 1, of).rank(rank);
    }
    table.number("", "exposure", 1, |of| of.exposure_db).rank(2)
}

fn band_table<'t>(levels: &'t Levels, unit: &str) -> Table<'t, &'t BandLevel> {
    let time = levels.time_weighting.letter();
    let has_background = levels.bands.iter().any(|band| band.background_db.is_some());
    let corrected = |band: &&BandLevel| match band.correction {
        Some(tonemap_core::bands::Correction::Limited) => "upper limit".into(),
        _ => String::new(),
    };
    Table::new()
        .printed("band, Hz", |band: &&BandLevel| text::hertz(band.center_hz))
        .measured("", format!("level, {unit}"), 2, |band| band.level_db)
        .when(has_background, |table| {
            table
                .number("", "background", 1, |band: &&BandLevel| band.background_db)
                .measured("", "without it", 2, |band| band.corrected_db)
                .words("", " ", corrected)
        })
        .number("", format!("highest {time}"), 1, |band| band.max_db)
        .rank(1)
        .number("", format!("lowest {time}"), 1, |band| band.min_db)
        .rank(3)
        .number("", "L10", 1, |band| band.percentiles.exceeded(10.0))
        .rank(2)
        .number("", "L50", 1, |band| band.percentiles.exceeded(50.0))
        .rank(2)
        .number("", "L90", 1, |band| band.percentiles.exceeded(90.0))
        .rank(2)
}

fn band_csv<'t>() -> Table<'t, Row<'t, BandLevel>> {
    let shown: [Shown<'_>; 0] = [];
    let mut table = Table::of_parts().fields(&BandLevel::FIELDS, &shown, |band| band);
    for percent in EXCEEDED_PERCENT {
        let of = move |row: &Row<'_, BandLevel>| row.item.percentiles.exceeded(percent);
        table = table.number(format!("percentiles_{percent}"), "", 2, of);
    }
    table.level_reference()
}

/// A moment of the course by its number.
type Step<'l> = (&'l Levels, usize);

fn course_table<'t, 'l: 't>(bands: &'t [BandLevel]) -> Table<'t, Row<'t, Step<'l>>> {
    let at = |row: &Row<'_, Step<'l>>| -> Moment { row.item.0.course[row.item.1] };
    let mut table = Table::of_parts()
        .number("time_s", "", 3, move |row| Some(at(row).time_s))
        .number("level_db", "", 2, move |row| at(row).level_db)
        .number("max_db", "", 2, move |row| at(row).max_db);
    for (k, band) in bands.iter().enumerate() {
        let of = move |row: &Row<'_, Step<'l>>| {
            let (levels, n) = *row.item;
            *levels.bands.get(k)?.course_db.get(n)?
        };
        table = table.number(format!("bands_{}Hz_db", band.center_hz), "", 2, of);
    }
    table.level_reference()
}

fn statistics_line(levels: &Levels) -> String {
    let known = |db: Option<f64>| text::known(db, 1);
    let at = |percent| known(levels.percentiles.exceeded(percent));
    format!(
        "L10 {}, L50 {}, L90 {}, highest {}: weighted {} and {}",
        at(10.0),
        at(50.0),
        at(90.0),
        known(levels.max_db),
        levels.weighting.letter(),
        levels.time_weighting.letter()
    )
}

/// Noise ratings in words.
fn rating_line(levels: &Levels) -> Option<String> {
    let rating = levels.noise_rating?;
    let at = |hz: Option<f64>| hz.map_or(String::new(), |hz| format!(" ({} Hz)", text::hertz(hz)));
    let nr = rating.nr.map(|nr| format!("NR {}{}", text::number(nr, 1), at(rating.nr_at_hz)));
    let nc = match rating.nc {
        Some(nc) => Some(format!("NC {}{}", text::number(nc, 1), at(rating.nc_at_hz))),
        None => rating.nr.map(|_| "no NC: it is given from 15 to 70".into()),
    };
    let all: Vec<String> = [nr, nc].into_iter().flatten().collect();
    (!all.is_empty()).then(|| all.join(", "))
}

fn settings_line(made: &Made<'_>) -> String {
    let levels = &made.found.levels;
    let bands = match levels.fraction {
        1 => "octave bands".into(),
        3 => "third-octave bands".into(),
        n => format!("1/{n}-octave bands"),
    };
    format!(
        "{bands}, not weighted; levels in {}, time weighting {}; percentiles from {PERCENTILES_FROM}",
        made.part.level_unit(),
        levels.time_weighting.letter()
    )
}
