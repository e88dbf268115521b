//! `report`: takes, comparisons and trends on one page to hand on.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use anyhow::{Result, bail};
use clap::Args;
use rayon::prelude::*;
use serde_json::Value;
use tonemap_core::quantity::Key;
use tonemap_core::spectrogram::{FrequencyAxis, Pooling, SpectrogramSettings, spectrogram};
use tonemap_core::spectrum::thinned;
use tonemap_core::units::Note;
use tonemap_core::{Finding, Measured, Severity, merged, places_text};
use tonemap_figures::{
    Chart, ChartCurve, ColourMap, DrawnBand, Report as Page, ReportFinding, ReportSection,
    ReportTable, difference_chart, map_chart, report_page, trend_chart,
};
use tonemap_media::{WavEncoding, write_wav};

use crate::analyses::{Analyses, word_of};
use crate::args::{PartArgs, SourceArgs};
use crate::files::{self, Content};
use crate::kept::Kept;
use crate::output;
use crate::progress::TakesProgress;
use crate::saved::{self, Saved};
use crate::sides::Side;
use crate::status::{self, Status, Usage};
use crate::studies::{self, Named, OpenStudy};
use crate::table::Table;
use crate::take::{NoteSamples, Take};
use crate::text;

/// One page about takes, to hand on: tables, charts to zoom and read, methods
///
/// A self-contained HTML page that needs no network: what was found first, the takes at a glance,
/// comparisons and trends, then every take with what its kind calls for, and how it was measured,
/// with hashes. Analyses are run once and kept with the study, so that the next report is soon
/// made.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Report {
    /// Takes, or saved results, FILE.json; all takes of the study if none is named
    #[arg(value_name = "TAKE")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    /// Two takes or more to be compared, in quotes: 'harp-g3 harp-seat'. May be given again
    #[arg(long = "pair", value_name = "TAKES", help_heading = "Contents")]
    pairs: Vec<String>,
    #[arg(
        long = "trend",
        value_name = "QUANTITY over CONDITION",
        help_heading = "Contents",
        help = "A quantity to be followed: 'partials[3].frequency_hz over cut'. May be given again"
    )]
    trends: Vec<String>,
    /// Heading of the page [default: title of the study]
    #[arg(long, value_name = "TEXT", help_heading = "Contents")]
    title: Option<String>,
    /// Take the sounds along, to be played: some 0.1 MB a second
    #[arg(long, help_heading = "Contents")]
    sound: bool,
    /// Colours of the spectrograms: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember", help_heading = "Contents")]
    colours: ColourMap,
    /// The page
    #[arg(long, value_name = "FILE.html", default_value = "report.html", help_heading = "Output")]
    output: PathBuf,
    /// Replace a file that exists already
    #[arg(long, help_heading = "Output")]
    force: bool,
    /// Print nothing
    #[arg(long, short, help_heading = "Output")]
    quiet: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap report
      the study in this folder, as report.html
  tonemap report --where group=bell --trend 'partials[3].frequency_hz over cut' --pair 'bell-cut0 bell-cut6'
      a bell, cut after cut
  tonemap report near.wav far.wav --pair 'near.wav far.wav' --sound --output microphones.html
      two recordings, with their sounds
  tonemap report compared.json timbre.json
      results that were saved";

/// Values of a spectrum in an octave.
const PER_OCTAVE: u32 = 96;
/// A page above this size opens slowly.
const LARGE_BYTES: usize = 25_000_000;
/// Longest stretch that is drawn over time, in seconds.
const DRAWN_S: f64 = 120.0;

/// What the page tells of a take.
struct TakeSection {
    section: ReportSection,
    row: TakeRow,
    findings: Vec<Finding>,
    results: Vec<Saved>,
}

/// A take at a glance.
struct TakeRow {
    name: String,
    reference_hz: f64,
    duration_s: Option<f64>,
    sample_rate_hz: Option<f64>,
    level_db: Option<f64>,
    f0_hz: Option<Measured>,
    centroid_hz: Option<f64>,
    findings: usize,
}

impl TakeRow {
    fn nearest(&self) -> Option<(Note, f64)> {
        Note::nearest(self.f0_hz?.value, self.reference_hz)
    }
}

fn take_table<'t>() -> Table<'t, TakeRow> {
    Table::new()
        .words("", "take", |row: &TakeRow| row.name.clone())
        .words("", "note", |row| {
            row.nearest().map_or(text::UNKNOWN.into(), |(note, _)| note.to_string())
        })
        .number("", "seconds", 2, |row| row.duration_s)
        .number("", "Hz", 0, |row| row.sample_rate_hz)
        .number("", "level, dB", 1, |row| row.level_db)
        .measured("", "f0, Hz", 5, |row| row.f0_hz)
        .signed("", "cents", 1, |row| row.nearest().map(|(_, cents)| cents))
        .number("", "centroid, Hz", 1, |row| row.centroid_hz)
        .count("", "findings", |row| row.findings as u64)
}

impl Report {
    pub(crate) fn run(&self) -> Result<Status> {
        output::check_ending(
            &self.output,
            &["html", "htm"],
            "a report is a page; name it FILE.html",
        )?;
        files::claim(&self.output, Content::Result, self.force)?;
        let pairs = self.pairs.iter().map(|words| sides_of(words)).collect::<Result<Vec<_>>>()?;
        let trends = self.trends.iter().map(|words| trend_of(words)).collect::<Result<Vec<_>>>()?;
        let study = OpenStudy::of(&self.source)?;
        let (files, takes): (Vec<PathBuf>, Vec<PathBuf>) =
            self.takes.iter().cloned().partition(|path| saved::is_saved(path));
        let named = self.named(study.as_ref(), &takes, files.is_empty())?;
        let analyses = Analyses::new(super::within, study.as_ref(), self.source.raw)?;
        let mut status = Status::Done;
        let made = self.take_sections(&analyses, &named, &mut status);
        if made.is_empty() && !named.is_empty() {
            return Ok(status);
        }
        let references = named.iter().filter_map(|named| named.entry.as_ref());
        let mut page = Page {
            reference_hz: references.map(|entry| entry.reference_hz).next().unwrap_or(440.0),
            title: self.title(study.as_ref(), &named),
            version: env!("CARGO_PKG_VERSION").into(),
            ..Page::default()
        };
        let (mut results, mut rows) = (Vec::new(), Vec::new());
        for take in made {
            rows.push(take.row);
            page.take_ids.push(take.section.id.clone());
            collect(&mut page.findings, &take.section, &take.findings);
            results.extend(take.results);
            page.sections.push(take.section);
        }
        page.takes = take_table().page("", &rows);
        // What fails is said, and the page is made of the rest.
        let mut added = |made: Result<()>| {
            if let Err(error) = made {
                status::print_error(&error);
                status = Status::CouldNot;
            }
        };
        let is_own_choice = !pairs.is_empty() || !trends.is_empty() || study.is_none();
        let all = if is_own_choice { Vec::new() } else { series(&named) };
        let pairs = if is_own_choice { pairs } else { all.iter().map(ends_of).collect() };
        let trends = if is_own_choice { trends } else { all.iter().flat_map(trends_of).collect() };
        for (n, sides) in pairs.iter().enumerate() {
            added(self.add_comparison(&mut page, &mut results, &analyses, n, sides));
        }
        for (n, asked) in trends.iter().enumerate() {
            added(add_trend(&mut page, &mut results, &analyses, (n, asked), &named));
        }
        for file in &files {
            added(add_saved(&mut page, &mut results, file));
        }
        if page.is_empty() {
            return Ok(status);
        }
        page.findings.sort_by_key(|one| std::cmp::Reverse(one.severity));
        page.methods = methods(&results);
        page.summary = summary(&page);
        let html = report_page(&page, self.colours)?;
        files::write_whole(&self.output, Content::Result, html.as_bytes(), self.force)?;
        if !self.quiet {
            let large = if html.len() > LARGE_BYTES {
                "; it opens slowly: leave out --sound, or name fewer takes"
            } else {
                ""
            };
            output::print(&format!(
                "{}: {} takes, {} comparisons, {} trends, {} MB{large}\n",
                files::shown(&self.output),
                page.sections.len(),
                page.comparisons.len(),
                page.trends.len(),
                text::number(html.len() as f64 / 1e6, 1)
            ))?;
        }
        Ok(status)
    }

    fn title(&self, study: Option<&OpenStudy>, named: &[Named]) -> String {
        let of_study = study.map(|open| open.study.title.clone()).filter(|title| !title.is_empty());
        self.title.clone().or(of_study).unwrap_or_else(|| match named {
            [] => "Saved results".into(),
            [one] => one.name(),
            many => format!("{} takes", many.len()),
        })
    }

    fn named(
        &self,
        study: Option<&OpenStudy>,
        takes: &[PathBuf],
        all_if_none: bool,
    ) -> Result<Vec<Named>> {
        if !takes.is_empty() || !self.source.conditions.is_empty() {
            return studies::find_takes(takes, &self.source);
        }
        match study {
            Some(open) if all_if_none => {
                Ok(open.study.takes.iter().map(|take| open.named(take)).collect())
            }
            None if all_if_none => {
                let reason = "a report is about takes or a study; name takes, or the folder of the study with --study";
                Err(Usage(reason.into()).into())
            }
            _ => Ok(Vec::new()),
        }
    }

    /// The sections of all takes, in their order. One that cannot be measured is told and does not
    /// stop the others.
    fn take_sections(
        &self,
        analyses: &Analyses,
        named: &[Named],
        status: &mut Status,
    ) -> Vec<TakeSection> {
        let progress = TakesProgress::new("report", named.len(), self.quiet);
        let failed = Mutex::new(false);
        let made: Vec<Option<TakeSection>> = named
            .par_iter()
            .enumerate()
            .map(|(n, named)| {
                let section = self.take_section(analyses, n, named);
                progress.advance();
                match section {
                    Ok(section) => Some(section),
                    Err(error) => {
                        status::print_error(&error);
                        if let Ok(mut failed) = failed.lock() {
                            *failed = true;
                        }
                        None
                    }
                }
            })
            .collect();
        drop(progress);
        if failed.into_inner().unwrap_or(true) {
            *status = Status::CouldNot;
        }
        made.into_iter().flatten().collect()
    }

    fn take_section(&self, analyses: &Analyses, n: usize, named: &Named) -> Result<TakeSection> {
        let options = |words: &[&str]| words.iter().map(ToString::to_string).collect::<Vec<_>>();
        let name = named.name();
        let inspect = analyses.of(named, "inspect", &[])?;
        let spectrum = analyses.of(named, "spectrum", &options(&["--peaks", "12"]))?;
        // Not every sound has a timbre; that is no fault of the report.
        let timbre = analyses.of(named, "timbre", &[]).ok();
        // Facts of a note are those that it has of one alone.
        let is_note = timbre.as_ref().is_some_and(|timbre| !timbre.part.facts.is_empty());
        let of_note = |command: &str| {
            if is_note { analyses.of(named, command, &[]).ok() } else { None }
        };
        let (partials, pitch) = (of_note("partials"), of_note("pitch"));
        let (map, sound) = self.map_and_sound(named)?;
        let mut section = ReportSection {
            id: format!("take-{n}"),
            title: name.clone(),
            text: conditions_of(named),
            sound,
            ..ReportSection::default()
        };
        let row = TakeRow {
            name: name.clone(),
            reference_hz: named.entry.as_ref().map_or(440.0, |entry| entry.reference_hz),
            duration_s: value(inspect.top("duration_s")),
            sample_rate_hz: value(inspect.top("sample_rate_hz")),
            level_db: level_of(&inspect),
            f0_hz: timbre.as_ref().filter(|_| is_note).and_then(|timbre| timbre.top("f0_hz")),
            centroid_hz: value(timbre.as_ref().and_then(|timbre| timbre.top("centroid_hz"))),
            findings: 0,
        };
        let mut results = Vec::new();
        let mut findings: Vec<Finding> = Vec::new();
        let all = [Some(inspect), Some(spectrum), pitch, timbre, partials];
        for (place, mut kept) in all.into_iter().flatten().enumerate() {
            results.extend(kept.saved()?);
            section.add(std::mem::take(&mut kept.part));
            if place == 1 {
                section.charts.push(map.clone());
            }
            for finding in kept.findings.into_iter().filter(|one| one.severity > Severity::Note) {
                let finding = Finding { take: Some(name.clone()), ..finding };
                // Several analyses find the same of one take.
                let is_same =
                    |other: &Finding| other.code == finding.code && other.text == finding.text;
                if !findings.iter().any(is_same) {
                    findings.push(finding);
                }
            }
        }
        section.findings = told(&findings, &name);
        let row = TakeRow { findings: findings.len(), ..row };
        Ok(TakeSection { section, row, findings, results })
    }

    /// The spectrogram of the first channel, and its sound if it is wanted.
    fn map_and_sound(&self, named: &Named) -> Result<(Chart, Option<Vec<u8>>)> {
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        let mut take = Take::open(named.clone(), &source)?;
        let until = (take.duration_s() > DRAWN_S).then_some(DRAWN_S);
        let span = crate::args::SpanArgs::until(until);
        let part = take.parts(&PartArgs { span, channels: Vec::new() })?.remove(0);
        let rate_hz = part.rate_hz();
        let NoteSamples { samples, .. } = part.note_samples()?;
        let settings = SpectrogramSettings {
            axis: FrequencyAxis::Logarithmic,
            size: (560, 256),
            pooling: Pooling::Maximum,
            ..SpectrogramSettings::default()
        };
        let made = spectrogram(&samples, rate_hz, &settings)?;
        let resolution = text::number(made.plan.resolution_hz(), 0);
        let cut = until.map_or(String::new(), |s| format!(", the first {s} s"));
        let caption = format!("Level over time and frequency{cut}; resolution {resolution} Hz");
        let (full_scale_db, unit) = (part.reference.full_scale_db(), part.level_unit());
        let chart = map_chart("map", &caption, &made, full_scale_db, self.colours, &unit)?;
        let sound = if self.sound {
            let mut file = std::io::Cursor::new(Vec::new());
            write_wav(&mut file, rate_hz as u32, &[samples], WavEncoding::Integer(16))?;
            Some(file.into_inner())
        } else {
            None
        };
        Ok((chart, sound))
    }

    fn add_comparison(
        &self,
        page: &mut Page,
        results: &mut Vec<Saved>,
        analyses: &Analyses,
        n: usize,
        sides: &[String],
    ) -> Result<()> {
        let mut arguments = vec!["compare".to_string(), "--curve".into()];
        let mut takes = Vec::new();
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        for words in sides {
            let side = Side::read(words)?;
            let named = studies::find_takes(&side.paths(), &source)?;
            let names: Vec<String> = named.iter().map(word_of).collect();
            arguments.push(side.renamed(&names));
            takes.extend(named);
        }
        let kept = analyses.about(&arguments, &takes.iter().collect::<Vec<_>>())?;
        for result in kept.saved()? {
            let id = format!("compare-{n}-{}", page.comparisons.len());
            let section = comparison_section(&id, &result);
            collect(&mut page.findings, &section, &result.findings());
            page.comparisons.push(section);
            results.push(result);
        }
        Ok(())
    }
}

/// The sides of a comparison as they were typed.
fn sides_of(words: &str) -> Result<Vec<String>> {
    shlex::split(words).filter(|sides| sides.len() > 1).ok_or_else(|| {
        Usage(format!("'{words}' names no two takes to compare; write 'a.wav b.wav'")).into()
    })
}

/// A quantity and a condition as they were typed.
fn trend_of(words: &str) -> Result<(String, String)> {
    let Some((quantity, condition)) = words.split_once(" over ") else {
        return Err(Usage(format!(
            "'{words}' is no trend; write 'timbre.centroid_hz over cut', a quantity and a condition"
        ))
        .into());
    };
    Ok((quantity.trim().into(), condition.trim().into()))
}

/// Adds a trend over the takes of the page that have the condition.
fn add_trend(
    page: &mut Page,
    results: &mut Vec<Saved>,
    analyses: &Analyses,
    (n, (quantity, condition)): (usize, &(String, String)),
    named: &[Named],
) -> Result<()> {
    let has_it = |named: &&Named| {
        named.entry.as_ref().is_some_and(|e| e.take.conditions.contains_key(condition))
    };
    let takes: Vec<&Named> = named.iter().filter(has_it).collect();
    if takes.is_empty() {
        bail!("no take of the page has the condition '{condition}'; set it in study.toml");
    }
    let mut arguments: Vec<String> =
        ["trend", "--quantity", quantity, "--over", condition].map(String::from).to_vec();
    arguments.extend(takes.into_iter().map(word_of));
    // Its analyses are kept one by one; the trend itself is soon made.
    let result = analyses.anew(&arguments)?.saved()?.remove(0);
    let section = trend_section(&format!("trend-{n}"), &result);
    collect(&mut page.findings, &section, &result.findings());
    page.trends.push(section);
    results.push(result);
    Ok(())
}

/// Adds the results of a file.
fn add_saved(page: &mut Page, results: &mut Vec<Saved>, file: &Path) -> Result<()> {
    for (n, result) in saved::read(file)?.into_iter().enumerate() {
        let id = format!("saved-{}-{n}", page.saved.len());
        let section = saved_section(&id, file, &result);
        collect(&mut page.findings, &section, &result.findings());
        page.saved.push(section);
        results.push(result);
    }
    Ok(())
}

/// Findings as a section has them: each with what it concerns, if that is not the section itself.
fn told(findings: &[Finding], section: &str) -> Vec<(Severity, String)> {
    let shown: Vec<Finding> =
        findings.iter().filter(|finding| finding.severity > Severity::Note).cloned().collect();
    let line = |(finding, places): (&Finding, Vec<String>)| {
        let places: Vec<String> = places.into_iter().filter(|place| place != section).collect();
        let place = places_text(&places);
        let text = &finding.text;
        (finding.severity, if place.is_empty() { text.clone() } else { format!("{place}: {text}") })
    };
    merged(&shown).into_iter().map(line).collect()
}

/// Adds the findings of a section to those of the page. Only those that say the same stand
/// together.
fn collect(all: &mut Vec<ReportFinding>, section: &ReportSection, findings: &[Finding]) {
    for finding in findings.iter().filter(|finding| finding.severity > Severity::Note) {
        let name = finding.place().unwrap_or_else(|| section.title.clone());
        let about = (name, section.id.clone());
        let is_same =
            |known: &&mut ReportFinding| known.code == finding.code && known.text == finding.text;
        match all.iter_mut().find(is_same) {
            // A comparison has the findings of its takes, which the page has already.
            Some(known) if known.about.iter().any(|(name, _)| *name == about.0) => (),
            Some(known) => known.about.push(about),
            None => all.push(ReportFinding {
                code: finding.code.to_string(),
                about: vec![about],
                severity: finding.severity,
                text: finding.text.clone(),
            }),
        }
    }
}

/// The ends of a condition, to be compared.
fn ends_of((_, takes): &(String, Vec<(f64, String)>)) -> Vec<String> {
    takes.first().into_iter().chain(takes.last()).map(|(_, name)| name.clone()).collect()
}

/// What is followed over a condition unless it is said.
fn trends_of((condition, _): &(String, Vec<(f64, String)>)) -> [(String, String); 2] {
    ["partials.f0_hz", "timbre.centroid_hz"].map(|key| (key.into(), condition.clone()))
}

/// Conditions that run over three numbers at least, each with its takes in order.
fn series(named: &[Named]) -> Vec<(String, Vec<(f64, String)>)> {
    let mut all: BTreeMap<String, Vec<(f64, String)>> = BTreeMap::new();
    for entry in named.iter().filter_map(|named| named.entry.as_ref()) {
        for (name, value) in &entry.take.conditions {
            if let Some((number, _)) = value.quantity() {
                all.entry(name.clone()).or_default().push((number, entry.take.name.clone()));
            }
        }
    }
    let enough = |takes: &mut Vec<(f64, String)>| {
        takes.sort_by(|a, b| a.0.total_cmp(&b.0));
        takes.chunk_by(|a, b| a.0 == b.0).count() >= 3
    };
    all.into_iter()
        .filter_map(|(name, mut takes)| enough(&mut takes).then_some((name, takes)))
        .collect()
}

fn summary(page: &Page) -> Vec<String> {
    let found = |severity: Severity| -> usize {
        let of = page.findings.iter().filter(|finding| finding.severity == severity);
        of.map(|finding| finding.about.len()).sum()
    };
    let (serious, warnings) = (found(Severity::Serious), found(Severity::Warning));
    let count =
        |n: usize, one: &str, many: &str| format!("{n} {}", if n == 1 { one } else { many });
    let mut lines = vec![format!(
        "{}, {}, {}, {}. Findings: {serious} serious, {}.",
        count(page.sections.len(), "take", "takes"),
        count(page.comparisons.len(), "comparison", "comparisons"),
        count(page.trends.len(), "trend", "trends"),
        count(page.saved.len(), "saved result", "saved results"),
        count(warnings, "warning", "warnings"),
    )];
    for section in page.comparisons.iter().chain(&page.trends) {
        lines.push(format!("{}: {}", section.title, section.text));
    }
    lines
}

/// The conditions of a take in a sentence.
fn conditions_of(named: &Named) -> String {
    let Some(entry) = &named.entry else { return String::new() };
    let mut parts: Vec<String> =
        entry.take.conditions.iter().map(|(name, value)| format!("{name} {value}")).collect();
    parts.extend(entry.take.group.as_ref().map(|group| format!("group {group}")));
    parts.extend(entry.take.note.as_ref().map(|note| format!("expected {note}")));
    parts.join(", ")
}

fn value(measured: Option<Measured>) -> Option<f64> {
    measured.map(|measured| measured.value)
}

/// The level of the first channel: of sound pressure if it is calibrated.
fn level_of(inspect: &Kept) -> Option<f64> {
    let of = |field| value(inspect.number(&Key::item("channels", 1).then(field)));
    of("rms_db").or_else(|| of("rms_dbfs"))
}

/// Numbers in a list; unknown ones are left out with their partner.
fn curve(x: &Value, y: &Value) -> impl Iterator<Item = (f64, f64)> {
    let lists = x.as_array().into_iter().flatten().zip(y.as_array().into_iter().flatten());
    lists.filter_map(|(x, y)| Some((x.as_f64()?, y.as_f64()?)))
}

fn comparison_section(id: &str, result: &Saved) -> ReportSection {
    let found = &result.value["result"];
    let words = |key: &str| found[key].as_str().unwrap_or_default().to_string();
    let names = [words("reference"), words("other")];
    let number = |key: &str| found[key].as_f64();
    let is_pair = found["bands"].is_array();
    let level_unit = "dB";
    let bands: Vec<DrawnBand> = found["bands"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|band| {
            Some(DrawnBand {
                center_hz: band["center_hz"].as_f64()?,
                width_hz: band["high_hz"].as_f64()? - band["low_hz"].as_f64()?,
                difference_db: band["difference_db"].as_f64()?,
                least_db: band["least_db"].as_f64(),
                is_real: band["distinguishable"] == true,
            })
        })
        .collect();
    let curves = ["a_db", "b_db"].iter().zip(&names).map(|(key, name)| {
        let points = curve(&found["curve"]["frequency_hz"], &found["curve"][key]);
        let (x, y) = thinned(points, PER_OCTAVE).unzip();
        ChartCurve { name: name.clone(), x, y }
    });
    let curves: Vec<ChartCurve> = curves.collect();
    let caption = format!(
        "Spectra of {} and {}, and the difference in bands on its own scale",
        names[0], names[1]
    );
    let charts = if is_pair {
        vec![difference_chart("chart", &caption, &curves, &bands, level_unit)]
    } else {
        Vec::new()
    };
    let real = bands.iter().filter(|band| band.is_real).count();
    let text = match (is_pair, number("delay_s")) {
        (false, _) => "two groups of repeats, judged by their spread".into(),
        (true, Some(_)) => format!(
            "aligned in time; gain {} dB, residual {} dB; {real} of {} bands differ",
            text::known(number("gain_db"), 2),
            text::known(number("residual_re_other_db"), 1),
            bands.len()
        ),
        (true, None) => format!(
            "not recordings of one sound; level difference {} dB, bands differ by {} dB RMS, {real} of {} significantly",
            text::known(number("level_difference_db"), 2),
            text::known(number("spectrum_difference_rms_db"), 2),
            bands.len()
        ),
    };
    let fact = |name: &str, key: &str, scale: f64, most: usize, unit: &str| {
        let value = number(key)?;
        let u = number(&format!("{key}_u")).unwrap_or(f64::NAN);
        text::fact(name, Some(Measured::new(scale * value, scale * u)), most, unit)
    };
    let facts = [
        fact("Delay", "delay_s", 1e3, 5, "ms"),
        fact("Drift of the clock", "drift_ppm", 1.0, 3, "ppm"),
        fact("Gain", "gain_db", 1.0, 3, "dB"),
        fact("Residual re the second", "residual_re_other_db", 1.0, 1, "dB"),
        fact("Level difference", "level_difference_db", 1.0, 2, "dB"),
        fact("A-weighted difference", "a_weighted_difference_db", 1.0, 2, "dB"),
    ];
    let title = format!("{} and {}", names[0], names[1]);
    let findings = told(&result.findings(), &title);
    ReportSection {
        id: id.into(),
        title,
        text,
        facts: facts.into_iter().flatten().collect(),
        charts,
        tables: vec![difference_table(found, is_pair)],
        findings,
        sound: None,
    }
}

/// Partials, descriptors, or the quantities of groups, that differ.
fn difference_table(found: &Value, is_pair: bool) -> ReportTable {
    const MOST: usize = 40;
    let keys: &[&str] = if is_pair { &["partials", "descriptors"] } else { &["values"] };
    let all: Vec<&Value> =
        keys.iter().flat_map(|key| found[key].as_array().into_iter().flatten()).collect();
    let real: Vec<&&Value> = all.iter().filter(|row| row["distinguishable"] == true).collect();
    let (a, b) = if is_pair { ("a", "b") } else { ("a_mean", "b_mean") };
    let rows = real.iter().take(MOST).map(|row| {
        let number = |key: &str| row[key].as_f64().map_or("–".into(), text::significant);
        let name = row["name"].as_str().unwrap_or_default();
        let unit = row["unit"].as_str().unwrap_or_default();
        let name = if unit.is_empty() { name.to_string() } else { format!("{name}, {unit}") };
        let [difference, u] = text::measured(
            row["difference"].as_f64().unwrap_or(f64::NAN),
            row["difference_u"].as_f64().unwrap_or(f64::NAN),
            5,
        );
        vec![name, number(a), number(b), text::signed(difference), u]
    });
    let same = all.iter().filter(|row| row["distinguishable"] == false).count();
    let shown = real.len().min(MOST);
    ReportTable {
        caption: format!(
            "{} quantities differ, the first {shown} are shown; {same} are not distinguishable",
            real.len()
        ),
        head: ["quantity", "reference", "other", "difference", "± u"].map(String::from).to_vec(),
        rows: rows.collect(),
    }
}

fn trend_section(id: &str, result: &Saved) -> ReportSection {
    let (found, settings) = (&result.value["result"], &result.value["settings"]);
    let words = |key: &str| settings[key].as_str().unwrap_or_default().to_string();
    let (quantity, over, unit) = (words("quantity"), words("over"), words("unit"));
    let points = found["points"].as_array().cloned().unwrap_or_default();
    let place = |n: usize, point: &Value| {
        let condition = &point["condition"];
        let of_words =
            || tonemap_study::Condition::read(condition.as_str()?).quantity().map(|q| q.0);
        condition.as_f64().or_else(of_words).unwrap_or(n as f64)
    };
    let values: Vec<(f64, Measured)> = points
        .iter()
        .enumerate()
        .filter_map(|(n, point)| {
            let u = point["value_u"].as_f64().unwrap_or(f64::NAN);
            Some((place(n, point), Measured::new(point["value"].as_f64()?, u)))
        })
        .collect();
    let course: Vec<tonemap_core::trend::CourseValue> = found["course"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|at| {
            let of = |key: &str| at[key].as_f64();
            Some(tonemap_core::trend::CourseValue {
                x: of("x")?,
                value: of("value")?,
                low: of("low")?,
                high: of("high")?,
            })
        })
        .collect();
    let per = if unit.is_empty() { &over } else { &unit };
    let text = match (found["slope"].as_f64(), found["slope_u"].as_f64()) {
        (Some(slope), Some(slope_u)) => {
            let [slope, u] = text::measured(slope, slope_u, 8);
            let said = if found["distinguishable"] == true {
                ""
            } else {
                ", not significantly different from zero"
            };
            format!("{} ± {u} per {per}{said}", text::signed(slope))
        }
        _ => "no straight line through the values".into(),
    };
    let condition_title = if unit.is_empty() { over.clone() } else { format!("{over}, {unit}") };
    let caption = format!("{quantity} over {over}");
    let chart = trend_chart("chart", &caption, &values, &course, (&condition_title, &quantity));
    let rows = points.iter().map(|point| {
        let [value, u] = text::measured(
            point["value"].as_f64().unwrap_or(f64::NAN),
            point["value_u"].as_f64().unwrap_or(f64::NAN),
            6,
        );
        let condition =
            point["condition"].as_str().map_or(point["condition"].to_string(), String::from);
        vec![point["take"].as_str().unwrap_or_default().into(), condition, value, u]
    });
    ReportSection {
        id: id.into(),
        findings: told(&result.findings(), &caption),
        title: caption,
        text,
        charts: vec![chart],
        tables: vec![ReportTable {
            caption: "Values".into(),
            head: ["take", &condition_title, &quantity, "± u"].map(String::from).to_vec(),
            rows: rows.collect(),
        }],
        ..ReportSection::default()
    }
}

/// A saved result: as what it is, or else number by number.
fn saved_section(id: &str, file: &Path, result: &Saved) -> ReportSection {
    const MOST: usize = 60;
    let mut section = match result.kind() {
        "compare" => comparison_section(id, result),
        "trend" => trend_section(id, result),
        kind => {
            let numbers = result.numbers();
            let rows = numbers.iter().take(MOST).map(|number| {
                let u = Some(number.value.u).filter(|u| u.is_finite());
                vec![
                    number.key.clone(),
                    text::significant(number.value.value),
                    u.map_or("–".into(), text::significant),
                ]
            });
            ReportSection {
                id: id.into(),
                title: format!("{}, {kind}", result.title()),
                tables: vec![ReportTable {
                    caption: format!("{} of {} numbers", numbers.len().min(MOST), numbers.len()),
                    head: ["quantity", "value", "± u"].map(String::from).to_vec(),
                    rows: rows.collect(),
                }],
                ..ReportSection::default()
            }
        }
    };
    let from = format!("Read from {}.", files::shown(file));
    section.text = if section.text.is_empty() { from } else { format!("{}. {from}", section.text) };
    section
}

/// Settings of each command, and the hash of every file.
fn methods(results: &[Saved]) -> Vec<ReportTable> {
    let mut kinds: Vec<&Saved> = Vec::new();
    let mut hashes: BTreeMap<String, String> = BTreeMap::new();
    for result in results {
        if !kinds.iter().any(|known| known.kind() == result.kind()) {
            kinds.push(result);
        }
        for (path, hash) in result.takes().into_iter().chain(result.files()) {
            hashes.insert(files::shown(&path), hash);
        }
    }
    let settings = kinds.iter().map(|result| {
        let fields = result.value["settings"].as_object().cloned().unwrap_or_default();
        let words: Vec<String> = fields
            .iter()
            .filter(|(_, value)| !value.is_null())
            .map(|(key, value)| match value {
                Value::String(words) => format!("{key} {words}"),
                other => format!("{key} {other}"),
            })
            .collect();
        vec![format!("tonemap {}", result.arguments().join(" ")), words.join("; ")]
    });
    let mut tables = vec![ReportTable {
        caption: "Commands, each with the settings of its first use".into(),
        head: vec!["command".into(), "settings".into()],
        rows: settings.collect(),
    }];
    if !hashes.is_empty() {
        tables.push(ReportTable {
            caption: "Files".into(),
            head: vec!["file".into(), "BLAKE3".into()],
            rows: hashes.into_iter().map(|(file, hash)| vec![file, hash]).collect(),
        });
    }
    tables
}
