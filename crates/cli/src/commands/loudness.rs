//! `loudness`: how loud a sound is to the ear, where in frequency, when, and how sharp.

use std::path::Path;

use anyhow::{Result, anyhow, bail};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::bands::Stream;
use tonemap_core::loudness::{
    LEAD_S, Loudness as Measured, LoudnessMeter, LoudnessSettings, Method, Moment, ProgrammeMeter,
    SoundField, SpecificLoudness, Weight,
};
use tonemap_core::modulation::strength;
use tonemap_core::quantity::{Quantities, Quantity};
use tonemap_core::units::LevelReference;
use tonemap_core::{Finding, Measured as Value};
use tonemap_figures::{
    ChartCurve, ColourMap, DrawnLoudness, Figure, LoudnessFigure, ReportPart, Words, course_chart,
    ear_chart, loudness_figure, spectrum_chart,
};

use crate::advice;
use crate::args::{FigureArgs, Format, OutputArgs, TakesArgs};
use crate::band_file;
use crate::files;
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure};
use crate::output;
use crate::status::{Status, Usage};
use crate::table::{Row, RowHead, Table};
use crate::take::Part;
use crate::text;

/// Loudness in sone and phon over the ear and over time, sharpness, programme loudness
///
/// Loudness is that of ISO 532-1 (Zwicker), sharpness that of DIN 45692, programme loudness that of
/// ITU-R BS.1770, of all channels together. Roughness and fluctuation strength stand beside them. Of
/// two takes it says which bands carry the difference. Channels must be calibrated, but for
/// programme loudness. In place of a take, FILE.csv or FILE.json gives levels in third-octave bands,
/// as bands writes them. How it is computed stands in docs/methods/loudness.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Loudness {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    how: HowArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap loudness fan-a-run1 fan-b-run1 --figure fans.png
      both fans on the same scales, and which bands of the louder one weigh most
  tonemap loudness fan.wav --assume 'full-scale = 94dB' --require 'n5_sone<4'
      exit status 3 if it is louder; a full-scale sine is taken to be 94 dB
  tonemap loudness hall-night --method stationary --field diffuse
      a steady sound from all sides, by its mean power
  tonemap bands fan.wav --format csv --output fan.csv && tonemap loudness fan.csv
      from levels in third-octave bands
  tonemap loudness concert.wav --method programme
      programme loudness alone, which needs no calibration";

/// How loudness is measured.
#[derive(Args, Clone)]
#[command(next_help_heading = "Loudness")]
struct HowArgs {
    /// Loudness over time, that of a steady sound, or programme loudness alone
    #[arg(long, value_enum, default_value_t = MethodArg::TimeVarying)]
    method: MethodArg,
    /// The sound field that the microphone stood in
    #[arg(long, value_enum, default_value_t = FieldArg::Free)]
    field: FieldArg,
    /// Give loudness every 2 ms in JSON and CSV, in JSON specific loudness over time too
    #[arg(long, conflicts_with = "specific")]
    course: bool,
    /// Give specific loudness in CSV
    #[arg(long)]
    specific: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum MethodArg {
    /// Over time: what is exceeded 5 % of the time stands for the whole
    TimeVarying,
    /// Of the mean power: for steady sounds
    Stationary,
    /// Programme loudness alone: it needs no calibration
    Programme,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum FieldArg {
    /// Sound from ahead, as outdoors
    Free,
    /// Sound from all sides, as in a reverberant room
    Diffuse,
}

impl HowArgs {
    fn method(&self) -> Method {
        match self.method {
            MethodArg::TimeVarying => Method::TimeVarying,
            MethodArg::Stationary => Method::Stationary,
            MethodArg::Programme => Method::Programme,
        }
    }

    fn field(&self) -> SoundField {
        match self.field {
            FieldArg::Free => SoundField::Free,
            FieldArg::Diffuse => SoundField::Diffuse,
        }
    }
}

/// What was measured of a part.
pub(crate) struct Found {
    loudness: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    method: Method,
    field: SoundField,
}

/// Loudness as it is presented, of a take or of levels.
struct View<'v> {
    title: String,
    /// What it is of, in words.
    of: String,
    loudness: &'v Measured,
    findings: Vec<Finding>,
}

impl Loudness {
    /// Whether levels in bands are given, in place of takes.
    pub(crate) fn is_of_levels(&self) -> bool {
        let is_table = |file: &std::path::PathBuf| {
            file.extension().is_some_and(|ending| {
                ["csv", "json"].iter().any(|known| ending.eq_ignore_ascii_case(known))
            })
        };
        self.takes.takes.iter().any(is_table)
    }

    /// Measures the loudness of a part over its channels.
    fn loudness(&self, part: &Part<'_>, quiet: bool) -> Result<(Measured, Vec<Finding>)> {
        let LevelReference::Pressure { full_scale_db } = part.reference else {
            bail!(
                "{} is not calibrated, and how loud a sound is depends on its level at the ear. \
                 Calibrate it (tonemap study calibrate), or state the level of a full-scale sine \
                 with --assume 'full-scale = 94dB'. Programme loudness needs no calibration: \
                 --method programme",
                part.title()
            );
        };
        let rate_hz = part.rate_hz();
        let (response, differs) = part.response();
        let settings = LoudnessSettings {
            method: self.how.method(),
            field: self.how.field(),
            full_scale_db,
            response,
            keeps_course: self.how.course,
        };
        let lead = ((LEAD_S * rate_hz) as u64).min(part.span.start);
        let weights = part.level_weights();
        let is_waveform = weights.len() == 1;
        let stream =
            Stream { rate_hz, lead, samples: part.span.len(), start_s: part.start_s(), weights };
        let mut meter = LoudnessMeter::new(&settings, &stream)?;
        let over_ear = || -> Result<Vec<Finding>> {
            part.read_levels(lead, quiet, |all| meter.push(all), |_| ())
        };
        // An energy mean has no waveform, and no modulation.
        let over_rates = || -> Result<_> {
            if !is_waveform {
                return Ok(tonemap_core::modulation::Strength::default());
            }
            let (samples, _, _) = part.spooled(true, |_| ())?;
            Ok(strength(&samples, rate_hz, full_scale_db)?)
        };
        let (findings, strength) = rayon::join(over_ear, over_rates);
        let (mut findings, strength) = (findings?, strength?);
        let mut loudness = meter.finish();
        loudness.roughness_asper = strength.roughness_asper;
        loudness.fluctuation_strength_vacil = strength.fluctuation_strength_vacil;
        findings.extend(loudness.findings.iter().cloned());
        findings.extend(differs);
        Ok((loudness, findings))
    }

    /// The loudness of levels in a file.
    fn of_file(&self, file: &Path) -> Result<Measured> {
        let name = files::shown(file);
        let read = band_file::read(file, &["level_db"], "levels in third-octave bands")?;
        if read.level_reference.is_some_and(|reference| reference != "20 µPa") {
            bail!(
                "{name}: its levels are not re 20 µPa; calibrate the take that they are of, or \
                 state its level with --assume"
            );
        }
        Measured::of_levels(&read.values, self.how.field())
            .map_err(|error| anyhow!("{name}: {error}"))
    }

    fn draw_views(&self, views: &[View<'_>]) -> Result<Figure> {
        let shown: Vec<DrawnLoudness<'_>> = views
            .iter()
            .map(|view| DrawnLoudness { name: &view.title, loudness: view.loudness })
            .collect();
        let is_one = views.len() == 1;
        let mut notes = vec![self.settings_line(views)];
        notes.extend(views.iter().map(|view| {
            if is_one { view.of.clone() } else { format!("{}: {}", view.title, view.of) }
        }));
        let findings: Vec<Finding> =
            views.iter().flat_map(|view| view.findings.iter().cloned()).collect();
        let title = if is_one { views[0].title.clone() } else { "Loudness".into() };
        let figure = LoudnessFigure {
            shown: &shown,
            words: Words { title: &title, notes: &notes, findings: &findings },
        };
        Ok(loudness_figure(&figure, self.figure.size)?)
    }

    fn settings_line(&self, views: &[View<'_>]) -> String {
        let field = match self.how.field() {
            SoundField::Free => "free field",
            SoundField::Diffuse => "diffuse field",
        };
        match views.first().map(|view| view.loudness.method) {
            Some(Method::Programme) => "programme loudness, ITU-R BS.1770".into(),
            Some(Method::Stationary) => {
                format!("loudness ISO 532-1, stationary, {field}; sharpness DIN 45692")
            }
            _ => format!(
                "loudness ISO 532-1, time-varying, {field}: that exceeded 5 % of the time stands \
                 for the whole; sharpness DIN 45692"
            ),
        }
    }

    fn text_of(&self, views: &[View<'_>]) -> String {
        let mut parts = Vec::new();
        if let [one] = views {
            parts.push(format!("{}\n  {}\n", one.title, one.of));
            parts.push(list(one.loudness));
        } else {
            parts.push(side_by_side(views));
        }
        parts.extend(weights_text(views));
        parts.push(text::sentence(&self.settings_line(views)));
        let findings: Vec<Finding> =
            views.iter().flat_map(|view| view.findings.iter().cloned()).collect();
        let findings = text::findings(&findings);
        parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
        parts.join("\n")
    }

    fn csv_of(&self, items: &[(RowHead, &Measured)]) -> Result<String> {
        if self.how.course {
            let rows = items
                .iter()
                .flat_map(|(part, found)| found.course.iter().map(move |item| Row { part, item }));
            return moment_csv().csv(rows);
        }
        if self.how.specific {
            let rows = items.iter().flat_map(|(part, found)| {
                found.specific.iter().map(move |item| Row { part, item })
            });
            return specific_csv().csv(rows);
        }
        let all: Vec<(&RowHead, Vec<Quantity>)> =
            items.iter().map(|(part, found)| (part, own_numbers(found))).collect();
        let first = all.first().map_or_else(Vec::new, |(_, numbers)| numbers.clone());
        let rows = all.iter().map(|(part, item)| Row { part, item });
        let mut table: Table<'_, Row<'_, Vec<Quantity>>> = Table::of_parts();
        for (n, number) in first.iter().enumerate() {
            let of = move |row: &Row<'_, Vec<Quantity>>| row.item[n].value;
            let key = number.key.to_string();
            table = if number.has_u {
                table.measured(key, "", number.decimals, of)
            } else {
                table.number(key, "", number.decimals, move |row| Some(of(row)?.value))
            };
        }
        table.level_reference().csv(rows)
    }
}

/// The numbers of a result but those of its bands.
fn own_numbers(found: &Measured) -> Vec<Quantity> {
    found.quantities().into_iter().filter(|number| number.key.depth() == 0).collect()
}

/// Of two sounds, finds out what each band weighs against the other.
fn weigh(two: &mut [&mut Measured]) {
    if let [a, b] = two {
        a.weigh_against(b);
        b.weigh_against(a);
    }
}

impl Measure for Loudness {
    const KIND: &'static str = "loudness";
    const DRAWS: Option<&'static str> = None;
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of_levels(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn check(&self) -> Result<()> {
        if self.how.method() == Method::Programme && self.figure.figure.is_some() {
            let reason = "a figure is of loudness over the ear and over time, and programme \
                          loudness has neither; leave --figure out, or choose another method";
            return Err(Usage(reason.into()).into());
        }
        Ok(())
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let all = part.of_all_channels();
        let mut programme = ProgrammeMeter::new(part.rate_hz(), all.level_weights().len());
        let of_all = all.read_levels(0, true, |_| (), |samples| programme.push(samples))?;
        let programme = programme.finish();
        if self.how.method() == Method::Programme {
            let loudness = Measured::of_programme(programme, self.how.field());
            // It is of all channels, whatever is chosen.
            let is_of_one = |finding: &Finding| finding.code == "first_channel";
            let findings = of_all.into_iter().filter(|finding| !is_of_one(finding)).collect();
            return Ok((Found { loudness }, findings));
        }
        let (mut loudness, findings) = self.loudness(part, quiet)?;
        loudness.programme = programme;
        Ok((Found { loudness }, findings))
    }

    fn relate(&self, made: &mut [Made<'_>]) {
        let mut all: Vec<&mut Measured> =
            made.iter_mut().map(|one| &mut one.found.loudness).collect();
        weigh(&mut all);
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        Settings {
            level_reference: made.part.reference.name(),
            method: self.how.method(),
            field: self.how.field(),
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let mut found = made.found.loudness.clone();
        if !self.how.course {
            found.stretches.clear();
        }
        found
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.loudness.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        self.text_of(&views(made))
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let items: Vec<_> = made.iter().map(|one| (one.row_head(), &one.found.loudness)).collect();
        self.csv_of(&items)
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        self.draw_views(&views(made))
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let found = &made.found.loudness;
        let facts = [
            text::fact("Loudness", found.loudness_sone, 2, "sone"),
            text::fact("Loudness level", found.loudness_level_phon, 1, "phon"),
            text::fact("Sharpness", found.sharpness_acum, 2, "acum"),
            text::fact(
                "Programme loudness",
                found.programme.programme_lufs.map(|lufs| Value::new(lufs, f64::NAN)),
                1,
                "LUFS",
            ),
        ];
        let (x, y) = found.stretches.iter().map(|at| (at.time_s, at.loudness_sone)).unzip();
        let course = ChartCurve { name: "loudness".into(), x, y };
        let (x, y) = found.specific.iter().map(|at| (at.frequency_hz, at.sone_per_bark)).unzip();
        let specific = ChartCurve { name: "specific loudness".into(), x, y };
        let mut charts = vec![
            course_chart("loudness", "Loudness over time", &[course], ("Loudness, sone", "sone")),
            spectrum_chart(
                "specific-loudness",
                "Specific loudness, mean over time",
                &[specific],
                &ChartCurve::default(),
                ("Specific loudness, sone/Bark", "sone/Bark"),
            ),
        ];
        let caption = "Specific loudness over time";
        charts.extend(ear_chart("ear", caption, found, None, ColourMap::default())?);
        Ok(ReportPart {
            facts: facts.into_iter().flatten().collect(),
            charts: if found.stretches.is_empty() { Vec::new() } else { charts },
            tables: Vec::new(),
            headline: text::headline(
                found.loudness_sone,
                2,
                "sone",
                format!("Loudness, {}", made.part.title()),
            ),
        })
    }

    /// Of two sounds, how the first differs from the second goes with it.
    fn sections(&self, made: &[Made<'_>]) -> Result<Vec<ReportPart>> {
        let mut parts = made.iter().map(|one| self.section(one)).collect::<Result<Vec<_>>>()?;
        if let ([a, b], [part, _]) = (made, &mut parts[..]) {
            let (first, second) = (&a.found.loudness, &b.found.loudness);
            let caption = format!("Specific loudness less that of {}", b.part.title());
            let colours = ColourMap::default();
            part.charts.extend(ear_chart("difference", &caption, first, Some(second), colours)?);
            let bands: Vec<&Weight> = first.weighs_most.iter().take(WEIGHTS_SHOWN).collect();
            if !bands.is_empty() {
                let caption = format!(
                    "Bands that weigh most: by how much they are louder than in {}, and what the \
                     whole would save if they were brought to its level",
                    b.part.title()
                );
                part.tables.push(weight_table().page(caption, &bands));
            }
        }
        Ok(parts)
    }
}

fn views<'v>(made: &'v [Made<'_>]) -> Vec<View<'v>> {
    let several = made.len() > 1;
    made.iter()
        .map(|one| View {
            title: one.part.title(),
            of: one.part.span_line(),
            loudness: &one.found.loudness,
            findings: one.named_findings(several),
        })
        .collect()
}

impl Present for Loudness {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        let refused = if self.how.method() == Method::Programme {
            Some("levels in bands have no programme loudness")
        } else if self.how.course {
            Some("levels in bands have no course")
        } else {
            None
        };
        if let Some(reason) = refused {
            return Err(Usage(format!("{reason}; name a take, or leave the option out")).into());
        }
        let files = &self.takes.takes;
        let mut found: Vec<Measured> =
            files.iter().map(|file| self.of_file(file)).collect::<Result<_>>()?;
        weigh(&mut found.iter_mut().collect::<Vec<_>>());
        let named = |(file, found): (&std::path::PathBuf, &Measured)| {
            let take = Some(name_of(file)).filter(|_| files.len() > 1);
            let of = |finding: Finding| Finding { take: take.clone(), ..finding };
            advice::worded(found.findings.clone()).into_iter().map(of).collect::<Vec<_>>()
        };
        let findings: Vec<Vec<Finding>> = files.iter().zip(&found).map(named).collect();
        let views: Vec<View<'_>> = (files.iter().zip(&found).zip(&findings))
            .map(|((file, loudness), findings)| View {
                title: name_of(file),
                of: "levels in third-octave bands, re 20 µPa".into(),
                loudness,
                findings: findings.clone(),
            })
            .collect();
        let content = match self.output.format {
            Format::Text => self.text_of(&views),
            Format::Json => (found.iter().zip(&findings))
                .map(|(found, findings)| {
                    let settings = Settings {
                        level_reference: "20 µPa",
                        method: Method::Stationary,
                        field: self.how.field(),
                    };
                    json::line_of_records(Self::KIND, Vec::new(), settings, found, findings)
                })
                .collect::<Result<String>>()?,
            Format::Csv => {
                let head = |file: &std::path::PathBuf| RowHead {
                    take: name_of(file),
                    channel: String::new(),
                    level_reference: "20 µPa",
                };
                let items: Vec<_> = files.iter().map(head).zip(&found).collect();
                self.csv_of(&items)?
            }
        };
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw_views(&views)?, self.output.force)?;
        }
        let judged = views.iter().map(|view| (view.title.clone(), view.loudness.quantities()));
        let judged = judged.collect();
        let findings = findings.into_iter().flatten().collect();
        Ok(Presented {
            content,
            judged,
            findings,
            part: ReportPart::default(),
            status: Status::Done,
        })
    }
}

/// The name of a file without its folders.
fn name_of(file: &Path) -> String {
    files::shown(file.file_name().map_or(file, Path::new))
}

/// The numbers of one sound, a line each.
fn list(found: &Measured) -> String {
    let numbers = own_numbers(found);
    // Of a sound that varies it is the loudness itself.
    let is_said = |number: &Quantity| number.key.field() == "n5_sone";
    let known: Vec<&Quantity> =
        numbers.iter().filter(|number| number.value.is_some() && !is_said(number)).collect();
    Table::new()
        .words("", "quantity", |number: &&Quantity| number.name.to_string())
        .printed("value", |number| printed(number)[0].clone())
        .printed("± u", |number| printed(number)[1].clone())
        .words("", "unit", |number| unit(number).into())
        .text(&known)
}

/// The symbol of its unit: levels are re 20 µPa wherever there is loudness.
fn unit(number: &Quantity) -> &'static str {
    match number.unit {
        tonemap_core::quantity::Unit::Level => "dB re 20 µPa",
        other => other.symbol(),
    }
}

/// A number and its uncertainty.
fn printed(number: &Quantity) -> [String; 2] {
    let Some(value) = number.value else { return [text::known(None, 0), String::new()] };
    if number.has_u {
        return text::measured(value.value, value.u, number.decimals);
    }
    [text::number(value.value, number.decimals.min(2)), String::new()]
}

/// Several sounds in one table, the sensations and what needs no calibration.
fn side_by_side(views: &[View<'_>]) -> String {
    let rows: Vec<&View<'_>> = views.iter().collect();
    let is_loud = views.iter().any(|view| view.loudness.loudness_sone.is_some());
    let has =
        |of: fn(&Measured) -> Option<f64>| views.iter().any(|view| of(view.loudness).is_some());
    let mut table = Table::new().words("", "take", |view: &&View<'_>| view.title.clone());
    if is_loud {
        table = table
            .measured("", "loudness,\nsone", 2, |view| view.loudness.loudness_sone)
            .number("", "level,\nphon", 1, |view| Some(view.loudness.loudness_level_phon?.value))
            .when(has(|found| found.max_sone), |table| {
                table
                    .number("", "N10,\nsone", 2, |view| view.loudness.n10_sone)
                    .rank(3)
                    .number("", "largest,\nsone", 2, |view| view.loudness.max_sone)
                    .rank(1)
            })
            .measured("", "sharpness,\nacum", 2, |view| view.loudness.sharpness_acum)
            .when(has(|found| found.roughness_asper), |table| {
                table
                    .number("", "roughness,\nasper", 2, |view| view.loudness.roughness_asper)
                    .rank(2)
                    .number("", "fluctuation,\nvacil", 2, |view| {
                        view.loudness.fluctuation_strength_vacil
                    })
                    .rank(2)
            })
            .number("", "sound,\ndB", 1, |view| view.loudness.level_db);
    }
    let programme = |of: fn(&tonemap_core::loudness::Programme) -> Option<f64>| {
        move |view: &&View<'_>| of(&view.loudness.programme)
    };
    table
        .when(has(|found| found.programme.programme_lufs), |table| {
            table.number("", "programme,\nLUFS", 1, programme(|of| of.programme_lufs)).rank(4)
        })
        .when(!is_loud, |table| {
            table
                .number("", "momentary,\nLUFS", 1, programme(|of| of.max_momentary_lufs))
                .number("", "short-term,\nLUFS", 1, programme(|of| of.max_short_term_lufs))
                .number("", "range,\nLU", 1, programme(|of| of.loudness_range_lu))
                .number("", "true peak,\ndBFS", 1, programme(|of| of.true_peak_dbfs))
        })
        .text(&rows)
}

/// Bands that are shown of those that weigh most.
const WEIGHTS_SHOWN: usize = 8;

/// Bands of the louder of two sounds that would save most.
fn weights_text(views: &[View<'_>]) -> Option<String> {
    let [a, b] = views else { return None };
    let more =
        |view: &View<'_>| -> f64 { view.loudness.weighs_most.iter().map(|band| band.sone).sum() };
    let (louder, other) = if more(a) >= more(b) { (a, b) } else { (b, a) };
    let bands: Vec<&Weight> = louder.loudness.weighs_most.iter().take(WEIGHTS_SHOWN).collect();
    if bands.is_empty() {
        return None;
    }
    let words = format!(
        "bands of {} that weigh most: by how much they are louder than in {}, and what the whole \
         would save if they were brought to its level",
        louder.title, other.title
    );
    Some(text::sentence(&words) + "\n" + &weight_table().text(&bands))
}

fn weight_table<'t>() -> Table<'t, &'t Weight> {
    Table::new()
        .printed("band, Hz", |band: &&Weight| text::number(band.frequency_hz, 0))
        .number("", "Bark", 1, |band| Some(band.bark))
        .signed("", "more,\nsone", 2, |band| Some(band.sone))
        .signed("", "saves,\nsone", 2, |band| Some(band.gain_sone))
}

fn moment_csv<'t>() -> Table<'t, Row<'t, Moment>> {
    Table::of_parts()
        .number("time_s", "", 3, |row: &Row<'_, Moment>| Some(row.item.time_s))
        .number("loudness_sone", "", 4, |row| Some(row.item.loudness_sone))
        .number("sharpness_acum", "", 3, |row| row.item.sharpness_acum)
}

fn specific_csv<'t>() -> Table<'t, Row<'t, SpecificLoudness>> {
    Table::of_parts()
        .number("bark", "", 1, |row: &Row<'_, SpecificLoudness>| Some(row.item.bark))
        .number("frequency_hz", "", 1, |row| Some(row.item.frequency_hz))
        .number("sone_per_bark", "", 5, |row| Some(row.item.sone_per_bark))
}
