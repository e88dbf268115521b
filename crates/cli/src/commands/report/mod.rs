//! `report`: takes, comparisons and trends on one page to hand on.

mod headlines;
mod mail;
mod sections;
mod takes;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use clap::{Args, ValueEnum};
use tonemap_core::{Finding, Severity};
use tonemap_figures::{
    ColourMap, Headline, Report as Page, ReportFinding, ReportSection, Theme, report_page,
};

use crate::analyses::{Analyses, word_of};
use crate::args::SourceArgs;
use crate::files::{self, Content};
use crate::output;
use crate::saved::{self, Saved};
use crate::sides::Side;
use crate::status::{self, Status, Usage};
use crate::studies::{self, Named, OpenStudy};
use crate::text;
use headlines::{chosen, headline_of};
use sections::{comparison_section, measured_section, methods, saved_section, trend_section};
use takes::take_table;

/// One page about takes, to hand on: tables, charts to zoom and read, methods
///
/// A self-contained HTML page that needs no network: the results that matter most, what was found,
/// the takes at a glance, comparisons, trends and other measurements, then every take with what its
/// kind calls for, and how it was measured, with hashes. Analyses are run once and kept with the
/// study, so that the next report is soon made.
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
    #[arg(
        long = "with",
        value_name = "COMMAND TAKE…",
        help_heading = "Contents",
        help = "A measurement to be added, as its command line in quotes: 'unison harp-pair'. May \
                be given again"
    )]
    measurements: Vec<String>,
    /// Heading of the page [default: title of the study]
    #[arg(long, value_name = "TEXT", help_heading = "Contents")]
    title: Option<String>,
    /// Include the sounds, to be played: at most 0.13 MB a second and take
    #[arg(long, help_heading = "Contents")]
    sound: bool,
    /// Colours of the spectrograms: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember", help_heading = "Contents")]
    colours: ColourMap,
    /// What the page is made for
    #[arg(long, value_name = "THEME", default_value = "reader", help_heading = "Contents")]
    theme: ThemeArg,
    #[command(flatten)]
    written: Written,
}

/// Where the page goes.
#[derive(Args)]
struct Written {
    /// The page
    #[arg(long, value_name = "FILE.html", default_value = "report.html", help_heading = "Output")]
    output: PathBuf,
    /// A short form for mail, too: results and findings as Markdown, FILE.md, or text, FILE.txt
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    summary: Option<PathBuf>,
    /// Open the page in the browser
    #[arg(long, help_heading = "Output")]
    open: bool,
    /// Replace a file that exists already
    #[arg(long, help_heading = "Output")]
    force: bool,
    /// Print nothing
    #[arg(long, short, help_heading = "Output")]
    quiet: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ThemeArg {
    /// A screen, light or dark as the reader has it
    Reader,
    /// A light screen
    Light,
    /// A dark screen
    Dark,
    /// Paper: all unfolded, in one column
    Print,
}

impl From<ThemeArg> for Theme {
    fn from(arg: ThemeArg) -> Self {
        match arg {
            ThemeArg::Reader => Self::Reader,
            ThemeArg::Light => Self::Light,
            ThemeArg::Dark => Self::Dark,
            ThemeArg::Print => Self::Print,
        }
    }
}

const EXAMPLES: &str = "Examples:
  tonemap report
      the study in this folder, as report.html
  tonemap report --where group=bell --trend 'partials[3].frequency_hz over cut' --pair 'bell-cut0 \
  bell-cut6'
      a bell, cut after cut
  tonemap report near.wav far.wav --pair 'near.wav far.wav' --sound --output microphones.html
      two recordings, with their sounds
  tonemap report --with 'unison harp-pair' --with 'room hall-sweep.wav --sweep sweep.wav' --open
      with a unison and a room beside the takes, in the browser
  tonemap report --summary findings.md
      a short form for mail beside the page
  tonemap report compared.json timbre.json
      results that were saved";

/// A page above this size opens slowly.
const LARGE_BYTES: usize = 25_000_000;
impl Report {
    pub(crate) fn run(&self) -> Result<Status> {
        output::check_ending(
            &self.written.output,
            &["html", "htm"],
            "a report is a page; name it FILE.html",
        )?;
        files::claim(&self.written.output, Content::Result, self.written.force)?;
        if let Some(file) = &self.written.summary {
            let kind = "the short form is Markdown or text; name it FILE.md or FILE.txt";
            output::check_ending(file, &["md", "txt"], kind)?;
            files::claim(file, Content::Result, self.written.force)?;
        }
        let pairs = self.pairs.iter().map(|words| sides_of(words)).collect::<Result<Vec<_>>>()?;
        let trends = self.trends.iter().map(|words| trend_of(words)).collect::<Result<Vec<_>>>()?;
        let measurements = self.measurements.iter().map(|words| line_of(words));
        let measurements = measurements.collect::<Result<Vec<_>>>()?;
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
        let mut making = Making {
            page: Page {
                reference_hz: references.map(|entry| entry.reference_hz).next().unwrap_or(440.0),
                title: self.title(study.as_ref(), &named),
                version: env!("CARGO_PKG_VERSION").into(),
                ..Page::default()
            },
            ..Making::default()
        };
        let is_own_choice = !pairs.is_empty() || !trends.is_empty() || study.is_none();
        let all = if is_own_choice { Vec::new() } else { series(&named) };
        let pairs = if is_own_choice { pairs } else { all.iter().map(ends_of).collect() };
        let trends: Vec<Followed<'_>> = if is_own_choice {
            trends.into_iter().map(|asked| Followed::over_all(asked, &named)).collect()
        } else {
            all.iter().flat_map(|series| trends_of(series, &made)).collect()
        };
        let of_takes = making.add_takes(made);
        // What fails is said, and the page is made of the rest.
        let mut added = |made: Result<()>| {
            if let Err(error) = made {
                status::print_error(&error);
                status = Status::CouldNot;
            }
        };
        for (n, sides) in pairs.iter().enumerate() {
            added(making.add_comparison(&self.source, &analyses, n, sides));
        }
        for (n, followed) in trends.iter().enumerate() {
            added(making.add_trend(&analyses, n, followed));
        }
        for words in &measurements {
            added(making.add_measurement(&analyses, words));
        }
        for file in &files {
            added(making.add_saved(file));
        }
        if making.page.is_empty() {
            return Ok(status);
        }
        let page = making.finished(of_takes);
        let html = report_page(&page, self.colours, self.theme.into())?;
        files::write_whole(
            &self.written.output,
            Content::Result,
            html.as_bytes(),
            self.written.force,
        )?;
        if let Some(file) = &self.written.summary {
            let short = mail::short_form(&page, !ends_with(file, "txt"));
            files::write_whole(file, Content::Result, short.as_bytes(), self.written.force)?;
        }
        if !self.written.quiet {
            output::print(&text::sentence(&written(&self.written.output, &page, html.len())))?;
        }
        if self.written.open {
            open::that_detached(&self.written.output).with_context(|| {
                format!(
                    "{} is written, but no browser could be started; open it by hand",
                    files::shown(&self.written.output)
                )
            })?;
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
}

/// The page while it is made, with the results that it is made from.
#[derive(Default)]
struct Making {
    page: Page,
    results: Vec<Saved>,
    said: Vec<Headline>,
}

impl Making {
    /// Adds the takes, and gives what each has to say in a line.
    fn add_takes(&mut self, made: Vec<takes::TakeSection>) -> Vec<Headline> {
        let (mut rows, mut lines, mut links) = (Vec::new(), Vec::new(), Vec::new());
        for take in made {
            let section = take.section.id.clone();
            lines.extend(take.row.headline().map(|line| Headline { section, ..line }));
            links.push(take.section.id.clone());
            rows.push(take.row);
            collect(&mut self.page.findings, &take.section, &take.findings);
            self.results.extend(take.results);
            self.page.previews.push(take.preview);
            self.page.sections.push(take.section);
        }
        self.page.takes = take_table(&rows);
        self.page.takes.links = links;
        lines
    }

    /// Takes a section and its result in, and what it has to say in a line.
    fn note(&mut self, section: &ReportSection, result: Saved, line: Option<Headline>) {
        collect(&mut self.page.findings, section, &result.findings());
        let line = line.or_else(|| headline_of(&result));
        self.said.extend(line.map(|line| Headline { section: section.id.clone(), ..line }));
        self.results.push(result);
    }

    fn add_comparison(
        &mut self,
        source: &SourceArgs,
        analyses: &Analyses,
        n: usize,
        sides: &[String],
    ) -> Result<()> {
        let mut arguments = vec!["compare".to_string(), "--curve".into()];
        let mut takes = Vec::new();
        let source = SourceArgs { conditions: Vec::new(), ..source.clone() };
        for words in sides {
            let side = Side::read(words)?;
            let named = studies::find_takes(&side.paths(), &source)?;
            let names: Vec<String> = named.iter().map(word_of).collect();
            arguments.push(side.renamed(&names));
            takes.extend(named);
        }
        let kept = analyses.about(&arguments, &takes.iter().collect::<Vec<_>>())?;
        for result in kept.saved()? {
            let id = format!("compare-{n}-{}", self.page.comparisons.len());
            let section = comparison_section(&id, &result);
            self.note(&section, result, None);
            self.page.comparisons.push(section);
        }
        Ok(())
    }

    fn add_trend(&mut self, analyses: &Analyses, n: usize, followed: &Followed<'_>) -> Result<()> {
        let Followed { quantity, condition, takes } = followed;
        if takes.is_empty() {
            bail!("no take of the page has the condition '{condition}'; set it in study.toml");
        }
        let mut arguments: Vec<String> =
            ["trend", "--quantity", quantity, "--over", condition].map(String::from).to_vec();
        arguments.extend(takes.iter().copied().map(word_of));
        // Its analyses are kept one by one; the trend itself is soon made.
        let result = analyses.anew(&arguments)?.saved()?.remove(0);
        let section = trend_section(&format!("trend-{n}"), &result);
        self.note(&section, result, None);
        self.page.trends.push(section);
        Ok(())
    }

    /// Adds what a command line measures: of each take that it names, or of all together.
    fn add_measurement(&mut self, analyses: &Analyses, words: &[String]) -> Result<()> {
        let line = analyses.line(words);
        for mut kept in super::all_within(&line).with_context(|| words.join(" "))? {
            let part = std::mem::take(&mut kept.part);
            for result in kept.saved()? {
                let id = format!("measured-{}", self.page.measurements.len());
                let section = measured_section(&id, &result, part.clone());
                self.note(&section, result, part.headline.clone());
                self.page.measurements.push(section);
            }
        }
        Ok(())
    }

    /// Adds the results of a file.
    fn add_saved(&mut self, file: &Path) -> Result<()> {
        for (n, result) in saved::read(file)?.into_iter().enumerate() {
            let id = format!("saved-{}-{n}", self.page.saved.len());
            let section = saved_section(&id, file, &result);
            self.note(&section, result, None);
            self.page.saved.push(section);
        }
        Ok(())
    }

    fn finished(self, of_takes: Vec<Headline>) -> Page {
        let Self { mut page, results, said } = self;
        page.findings.sort_by_key(|one| std::cmp::Reverse(one.severity));
        page.methods = methods(&results);
        page.summary = summary(&page);
        page.headlines = chosen(&page, &said, of_takes);
        page
    }
}

/// What is said of a page that is written.
fn written(file: &Path, page: &Page, bytes: usize) -> String {
    let large = if bytes > LARGE_BYTES {
        "; it opens slowly: leave out --sound, or name fewer takes"
    } else {
        ""
    };
    format!(
        "{}: {}, {}, {}, {} MB{large}",
        files::shown(file),
        text::count(page.sections.len(), "take", "takes"),
        text::count(page.comparisons.len(), "comparison", "comparisons"),
        text::count(page.trends.len(), "trend", "trends"),
        text::number(bytes as f64 / 1e6, 1)
    )
}

/// Whether a file name ends so, in capitals or not.
fn ends_with(file: &Path, ending: &str) -> bool {
    file.extension().is_some_and(|of| of.eq_ignore_ascii_case(ending))
}

/// A command line as it was typed.
fn line_of(words: &str) -> Result<Vec<String>> {
    let known = |line: &Vec<String>| {
        super::RESULTS.iter().any(|(name, _)| line.first().is_some_and(|word| word == name))
    };
    shlex::split(words).filter(known).ok_or_else(|| {
        let names: Vec<&str> = super::RESULTS.iter().map(|(name, _)| *name).collect();
        Usage(format!(
            "'{words}' is no command that measures; write one with its takes, 'unison \
             harp-pair'. Commands are {}",
            names.join(", ")
        ))
        .into()
    })
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

/// A condition with its takes in order.
type Series<'a> = (String, Vec<(f64, &'a Named)>);

/// A quantity followed over the takes that have a condition.
struct Followed<'a> {
    quantity: String,
    condition: String,
    takes: Vec<&'a Named>,
}

impl<'a> Followed<'a> {
    fn over_all((quantity, condition): (String, String), named: &'a [Named]) -> Self {
        let has_it = |named: &&Named| {
            named.entry.as_ref().is_some_and(|e| e.take.conditions.contains_key(&condition))
        };
        let takes = named.iter().filter(has_it).collect();
        Self { quantity, condition, takes }
    }
}

/// The ends of a condition, to be compared.
fn ends_of((_, takes): &Series<'_>) -> Vec<String> {
    takes.first().into_iter().chain(takes.last()).map(|(_, named)| named.name()).collect()
}

/// What is followed over a condition unless it is said: what takes have at three of its values.
fn trends_of<'a>(
    (condition, takes): &Series<'a>,
    made: &[takes::TakeSection],
) -> Vec<Followed<'a>> {
    let mut by_quantity: Vec<(&str, Vec<(f64, &Named)>)> = Vec::new();
    for (number, named) in takes {
        let row = made.iter().map(|take| &take.row).find(|row| row.is_of(named));
        for quantity in row.into_iter().flat_map(takes::TakeRow::followed).flatten() {
            match by_quantity.iter_mut().find(|(known, _)| *known == quantity) {
                Some((_, takes)) => takes.push((*number, named)),
                None => by_quantity.push((quantity, vec![(*number, named)])),
            }
        }
    }
    by_quantity.retain(|(_, takes)| are_enough(takes));
    let followed = |(quantity, takes): (&str, Vec<(f64, &'a Named)>)| Followed {
        quantity: quantity.into(),
        condition: condition.clone(),
        takes: takes.into_iter().map(|(_, named)| named).collect(),
    };
    by_quantity.into_iter().map(followed).collect()
}

/// Conditions that run over three numbers at least.
fn series(named: &[Named]) -> Vec<Series<'_>> {
    let mut all: BTreeMap<String, Vec<(f64, &Named)>> = BTreeMap::new();
    for one in named {
        for (name, value) in one.entry.iter().flat_map(|entry| &entry.take.conditions) {
            if let Some((number, _)) = value.quantity() {
                all.entry(name.clone()).or_default().push((number, one));
            }
        }
    }
    for takes in all.values_mut() {
        takes.sort_by(|a, b| a.0.total_cmp(&b.0));
    }
    all.into_iter().filter(|(_, takes)| are_enough(takes)).collect()
}

/// Whether takes in order are at three places of a condition.
fn are_enough(takes: &[(f64, &Named)]) -> bool {
    takes.chunk_by(|a, b| a.0 == b.0).count() >= 3
}

fn summary(page: &Page) -> String {
    let mut parts: Vec<String> = [
        (page.sections.len(), "take", "takes"),
        (page.comparisons.len(), "comparison", "comparisons"),
        (page.trends.len(), "trend", "trends"),
        (page.measurements.len(), "measurement", "measurements"),
        (page.saved.len(), "saved result", "saved results"),
    ]
    .into_iter()
    .filter(|(count, ..)| *count > 0)
    .map(|(count, one, many)| text::count(count, one, many))
    .collect();
    let severities = [Severity::Serious, Severity::Warning];
    let found = severities.iter().filter(|severity| page.count(severity) > 0);
    let found: Vec<String> = found.map(|severity| page.counted(severity)).collect();
    parts.push(if found.is_empty() { "no warnings".into() } else { found.join(", ") });
    parts.join("; ") + "."
}
