//! `report`: takes, comparisons and trends on one page to hand on.

mod sections;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use anyhow::{Result, bail};
use clap::Args;
use rayon::prelude::*;
use tonemap_core::quantity::Key;
use tonemap_core::spectrogram::{FrequencyAxis, Pooling, SpectrogramSettings, spectrogram};
use tonemap_core::units::Note;
use tonemap_core::{Finding, Measured, Severity};
use tonemap_figures::{
    Chart, ColourMap, Report as Page, ReportFinding, ReportSection, map_chart, report_page,
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
use sections::{comparison_section, methods, saved_section, sentences, trend_section};

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
  tonemap report --where group=bell --trend 'partials[3].frequency_hz over cut' --pair 'bell-cut0 \
  bell-cut6'
      a bell, cut after cut
  tonemap report near.wav far.wav --pair 'near.wav far.wav' --sound --output microphones.html
      two recordings, with their sounds
  tonemap report compared.json timbre.json
      results that were saved";

/// A page above this size opens slowly.
const LARGE_BYTES: usize = 25_000_000;
/// Longest stretch that is drawn over time, in seconds.
const DRAWN_S: f64 = 120.0;

/// What the page shows of a take.
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
                let reason = "a report is about takes or a study; name takes, or the folder of \
                              the study with --study";
                Err(Usage(reason.into()).into())
            }
            _ => Ok(Vec::new()),
        }
    }

    /// The sections of all takes, in their order. One that cannot be measured is named and does not
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
        // What is no note is asked how loud it is, also to the ear where it is calibrated.
        let of_sound = |command: &str| {
            if is_note { None } else { analyses.of(named, command, &[]).ok() }
        };
        let (levels, loudness) = (of_sound("bands"), of_sound("loudness"));
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
        let all = [Some(inspect), Some(spectrum), levels, loudness, pitch, timbre, partials];
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
        section.findings = sentences(&findings, &name);
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
