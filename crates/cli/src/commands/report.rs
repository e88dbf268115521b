//! `report`: takes, comparisons and trends on one page to hand on.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use anyhow::{Result, bail};
use clap::Args;
use rayon::prelude::*;
use serde_json::Value;
use tonemap_core::compare::NOTE_OVER_NOISE_DB;
use tonemap_core::spectrogram::{FrequencyAxis, Pooling, SpectrogramSettings, spectrogram};
use tonemap_core::units::Note;
use tonemap_core::{Finding, Measured, Severity, merged, places_text};
use tonemap_figures::{
    Chart, ChartCurve, ColourMap, DrawnBand, Report as Page, ReportFinding, ReportSection,
    ReportTable, course_chart, difference_chart, map_chart, report_page, spectrum_chart,
    trend_chart,
};
use tonemap_media::{WavEncoding, write_wav};

use crate::analyses::Analyses;
use crate::args::{PartArgs, SourceArgs};
use crate::files::{self, Content};
use crate::output;
use crate::progress::TakesProgress;
use crate::saved::{self, Saved};
use crate::sides::Side;
use crate::status::{self, Status, Usage};
use crate::studies::{self, Named, OpenStudy};
use crate::take::{NoteSamples, Take};
use crate::text;

/// One page about takes, to hand on: tables, charts to zoom and read, methods
///
/// A self-contained HTML page that needs no network: what was found first, the takes at a glance, comparisons and trends, then every take with what its kind
/// calls for, and how it was measured, with hashes. Analyses are run once and kept with the study, so that the next report is soon made.
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

/// A page above this size opens slowly.
const LARGE_BYTES: usize = 25_000_000;
/// Longest stretch that is drawn over time, in seconds.
const DRAWN_S: f64 = 120.0;

/// What the page tells of a take.
struct TakeSection {
    section: ReportSection,
    row: Vec<String>,
    findings: Vec<Finding>,
    results: Vec<Saved>,
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
        let analyses = Analyses::new(study.as_ref(), self.source.raw)?;
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
        page.takes.head = [
            "take",
            "note",
            "seconds",
            "Hz",
            "level, dB",
            "f0, Hz",
            "± u",
            "cents",
            "centroid, Hz",
            "findings",
        ]
        .map(String::from)
        .to_vec();
        let mut results = Vec::new();
        for take in made {
            page.takes.rows.push(take.row);
            page.take_ids.push(take.section.id.clone());
            collect(&mut page.findings, &take.section, &take.findings);
            results.extend(take.results);
            page.sections.push(take.section);
        }
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

    /// The sections of all takes, in their order. One that cannot be measured is told and does not stop the others.
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
        let id = format!("take-{n}");
        let words = |words: &str| words.split(' ').map(String::from).collect::<Vec<_>>();
        let inspect = analyses.of(named, "inspect", &[])?;
        let spectrum = analyses.of(named, "spectrum", &words("--curve --peaks 12"))?;
        // Not every sound has a timbre that can be told; that is no fault of the report.
        let timbre = analyses.of(named, "timbre", &[]).ok();
        let is_note = timbre.as_ref().is_some_and(|timbre| {
            let over_noise = timbre.number("harmonic_to_noise_db").map_or(0.0, |db| db.value);
            timbre.number("f0_hz").is_some() && over_noise > NOTE_OVER_NOISE_DB
        });
        let (partials, pitch) = if is_note {
            (
                analyses.of(named, "partials", &words("--tracks")).ok(),
                analyses.of(named, "pitch", &[]).ok(),
            )
        } else {
            (None, None)
        };
        let unit = format!("dB {}", level_words(&inspect));
        let name = named.name();
        let mut charts = vec![spectrum_of(&format!("{id}-spectrum"), &spectrum, &unit)];
        let (map, sound) = self.map_and_sound(&format!("{id}-map"), named, &unit)?;
        charts.push(map);
        charts.extend(pitch.as_ref().and_then(|pitch| pitch_chart(&format!("{id}-pitch"), pitch)));
        charts.extend(
            partials
                .as_ref()
                .and_then(|found| decay_chart(&format!("{id}-partials"), found, &unit)),
        );
        let mut tables = vec![tone_table(&spectrum, &unit)];
        tables.extend(partials.as_ref().map(|found| partial_table(found, &unit)));
        tables.extend(timbre.as_ref().map(descriptor_table));
        let mut findings: Vec<Finding> = Vec::new();
        let known =
            [Some(&inspect), Some(&spectrum), timbre.as_ref(), partials.as_ref(), pitch.as_ref()];
        for finding in known.into_iter().flatten().flat_map(Saved::findings) {
            // Several analyses find the same of one take.
            let is_same =
                |other: &Finding| other.code == finding.code && other.text == finding.text;
            if !findings.iter().any(is_same) {
                findings.push(finding);
            }
        }
        findings.retain(|finding| finding.severity > Severity::Note);
        for finding in &mut findings {
            finding.take = Some(name.clone());
        }
        let section = ReportSection {
            id,
            title: name.clone(),
            text: conditions_of(named),
            facts: facts(&inspect, timbre.as_ref().filter(|_| is_note), partials.as_ref()),
            charts,
            tables,
            findings: told(&findings, &name),
            sound,
        };
        let row = row(&name, named, &inspect, timbre.as_ref(), is_note, findings.len());
        let mut results = vec![inspect, spectrum];
        results.extend(timbre);
        results.extend(partials);
        results.extend(pitch);
        Ok(TakeSection { section, row, findings, results })
    }

    /// The spectrogram of the first channel, and its sound if it is wanted.
    fn map_and_sound(
        &self,
        id: &str,
        named: &Named,
        unit: &str,
    ) -> Result<(Chart, Option<Vec<u8>>)> {
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        let mut take = Take::open(named.clone(), &source)?;
        let until = (take.duration_s() > DRAWN_S).then_some(DRAWN_S);
        let span = crate::args::SpanArgs::until(until);
        let part = take.parts(&PartArgs { span, channels: Vec::new() })?.remove(0);
        let rate_hz = part.take().info.sample_rate_hz;
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
        let caption = format!("Level over time and frequency{cut}; {resolution} Hz are told apart");
        let full_scale_db = part.full_scale_db().unwrap_or(0.0);
        let chart = map_chart(id, &caption, &made, full_scale_db, self.colours, unit)?;
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
            let names =
                named.iter().map(|take| analyses.word_of(take)).collect::<Result<Vec<_>>>()?;
            arguments.push(side.renamed(&names));
            takes.extend(named);
        }
        let text = analyses.run(&arguments, &takes.iter().collect::<Vec<_>>())?;
        for result in saved::results_of(&text)? {
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
    for take in takes {
        arguments.push(analyses.word_of(take)?);
    }
    // Its analyses are kept one by one; the trend itself is soon made.
    let text = analyses.run_anew(&arguments)?;
    let result = saved::results_of(&text)?.remove(0);
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

/// Adds the findings of a section to those of the page. Only those that say the same stand together.
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

fn level_words(inspect: &Saved) -> &'static str {
    let is_calibrated = inspect.number("channels[1].full_scale_db").is_some();
    if is_calibrated { "re 20 µPa" } else { "re full scale" }
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

fn value_text(value: Option<Measured>, most: usize, unit: &str) -> Option<String> {
    let value = value?;
    let [number, u] = text::measured(value.value, value.u, most);
    let known = value.u.is_finite();
    let number = if known { number } else { text::number(value.value, most.min(2)) };
    let u = u.replace('<', "below ");
    Some(if known { format!("{number} ± {u} {unit}") } else { format!("{number} {unit}") })
}

fn facts(inspect: &Saved, note: Option<&Saved>, partials: Option<&Saved>) -> Vec<(String, String)> {
    let result = &inspect.value["result"];
    let words = |key: &str| result[key].as_str().unwrap_or_default().to_string();
    let number = |key: &str| inspect.number(key).map(|m| m.value);
    let is_calibrated = inspect.number("channels[1].full_scale_db").is_some();
    let (level, noise) = if is_calibrated {
        ("channels[1].rms_db", "channels[1].noise_floor_db")
    } else {
        ("channels[1].rms_dbfs", "channels[1].noise_floor_dbfs")
    };
    let mut facts: Vec<(String, Option<String>)> = vec![
        ("Format".into(), Some(format!("{} {}", words("container"), words("codec")))),
        ("Length".into(), number("duration_s").map(|s| format!("{} s", text::number(s, 3)))),
        ("Sample rate".into(), number("sample_rate_hz").map(|hz| format!("{} Hz", text::rate(hz)))),
        ("Level".into(), number(level).map(|db| format!("{} dB", text::number(db, 1)))),
        (
            "Peak".into(),
            number("channels[1].peak_dbfs").map(|db| format!("{} dBFS", text::number(db, 1))),
        ),
        ("Noise floor".into(), number(noise).map(|db| format!("{} dB", text::number(db, 1)))),
    ];
    if let Some(note) = note {
        let of = |key: &str| note.number(key);
        facts.push(("Fundamental".into(), value_text(of("f0_hz"), 5, "Hz")));
        facts.push(("Attack".into(), value_text(of("attack_s"), 5, "s")));
        facts
            .push(("Harmonics over noise".into(), value_text(of("harmonic_to_noise_db"), 2, "dB")));
        facts.push(("Decay of the whole, T60".into(), value_text(of("decay_t60_s"), 3, "s")));
    }
    if let Some(partials) = partials {
        let b = partials.number("inharmonicity").filter(|b| b.value.abs() > 2.0 * b.u);
        facts.push(("Inharmonicity B".into(), value_text(b, 9, "")));
    }
    facts.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
}

fn row(
    name: &str,
    named: &Named,
    inspect: &Saved,
    timbre: Option<&Saved>,
    is_note: bool,
    findings: usize,
) -> Vec<String> {
    let number = |key: &str| inspect.number(key).map(|m| m.value);
    let level = number("channels[1].rms_db").or(number("channels[1].rms_dbfs"));
    let reference_hz = named.entry.as_ref().map_or(440.0, |entry| entry.reference_hz);
    let f0 = timbre.filter(|_| is_note).and_then(|timbre| timbre.number("f0_hz"));
    let [f0_text, u] =
        f0.map_or(["–".into(), "–".into()], |f0| text::measured(f0.value, f0.u, 5));
    let nearest = f0.and_then(|f0| Note::nearest(f0.value, reference_hz));
    let centroid = timbre.and_then(|timbre| timbre.number("centroid_hz"));
    vec![
        name.into(),
        nearest.map_or("–".into(), |(note, _)| note.to_string()),
        text::known(number("duration_s"), 2),
        text::known(number("sample_rate_hz"), 0),
        text::known(level, 1),
        f0_text,
        u,
        nearest.map_or("–".into(), |(_, cents)| text::signed(text::number(cents, 1))),
        text::known(centroid.map(|m| m.value), 1),
        findings.to_string(),
    ]
}

/// Numbers in a list; unknown ones are left out with their partner.
fn curve(x: &Value, y: &Value) -> (Vec<f64>, Vec<f64>) {
    let lists = x.as_array().into_iter().flatten().zip(y.as_array().into_iter().flatten());
    lists.filter_map(|(x, y)| Some((x.as_f64()?, y.as_f64()?))).unzip()
}

/// A spectrum with at most one point per 1/96 octave, the loudest: what is drawn is not lost, and what is read is true.
fn thinned((x, y): (Vec<f64>, Vec<f64>)) -> (Vec<f64>, Vec<f64>) {
    const PER_OCTAVE: f64 = 96.0;
    const LOWEST_HZ: f64 = 20.0;
    let mut kept: Vec<(f64, f64)> = Vec::new();
    let mut last = f64::NEG_INFINITY;
    for (hz, db) in x.into_iter().zip(y).filter(|(hz, _)| *hz >= LOWEST_HZ) {
        let place = (hz.log2() * PER_OCTAVE).floor();
        match kept.last_mut() {
            Some(held) if place == last => {
                if db > held.1 {
                    *held = (hz, db);
                }
            }
            _ => kept.push((hz, db)),
        }
        last = place;
    }
    kept.into_iter().unzip()
}

fn spectrum_of(id: &str, spectrum: &Saved, unit: &str) -> Chart {
    let result = &spectrum.value["result"];
    let (x, y) = thinned(curve(&result["curve"]["frequency_hz"], &result["curve"]["level_db"]));
    let peaks = result["peaks"].as_array().cloned().unwrap_or_default();
    let of = |key: &str| peaks.iter().filter_map(|peak| peak[key].as_f64()).collect::<Vec<f64>>();
    let tones = ChartCurve { name: "tones".into(), x: of("frequency_hz"), y: of("level_db") };
    let resolution = spectrum.number("resolution_hz").map_or(0.0, |m| m.value);
    let caption = format!(
        "Averaged spectrum; tones {} Hz apart are told apart. Of each 1/96 octave the loudest value is kept",
        text::number(resolution, 1)
    );
    let curves = [ChartCurve { name: "spectrum".into(), x, y }];
    spectrum_chart(id, &caption, &curves, &tones, unit)
}

fn pitch_chart(id: &str, pitch: &Saved) -> Option<Chart> {
    const MOST: usize = 1500;
    let track = pitch.value["result"]["track"].as_array()?;
    let voiced: Vec<(f64, f64)> = track
        .iter()
        .filter(|point| point["voiced"] == true)
        .filter_map(|point| Some((point["time_s"].as_f64()?, point["f0_hz"].as_f64()?)))
        .collect();
    if voiced.len() < 3 {
        return None;
    }
    let step = voiced.len().div_ceil(MOST);
    let (x, y) = voiced.into_iter().step_by(step).unzip();
    let curves = [ChartCurve { name: "fundamental".into(), x, y }];
    Some(course_chart(id, "Fundamental over time", &curves, ("Fundamental, Hz", "Hz")))
}

fn decay_chart(id: &str, partials: &Saved, unit: &str) -> Option<Chart> {
    const TRACKS: usize = 8;
    const POINTS: usize = 300;
    let tracks = partials.value["result"]["tracks"].as_array()?;
    let curves: Vec<ChartCurve> = tracks
        .iter()
        .take(TRACKS)
        .filter_map(|track| {
            let (start, hop) = (track["start_s"].as_f64()?, track["hop_s"].as_f64()?);
            let levels = track["level_db"].as_array()?;
            let step = levels.len().div_ceil(POINTS).max(1);
            let points = levels.iter().enumerate().step_by(step);
            let points = points.filter_map(|(n, db)| Some((start + n as f64 * hop, db.as_f64()?)));
            let (x, y) = points.unzip();
            Some(ChartCurve { name: format!("partial {}", track["number"]), x, y })
        })
        .collect();
    let level_title = format!("Level, {unit}");
    let title = (level_title.as_str(), "dB");
    (!curves.is_empty())
        .then(|| course_chart(id, "Partials over time, the first eight", &curves, title))
}

fn tone_table(spectrum: &Saved, unit: &str) -> ReportTable {
    let peaks = spectrum.value["result"]["peaks"].as_array().cloned().unwrap_or_default();
    let rows = peaks.iter().map(|peak| {
        let measured = |key: &str, most: usize| {
            let value = peak[key].as_f64().unwrap_or(f64::NAN);
            text::measured(value, peak[format!("{key}_u")].as_f64().unwrap_or(f64::NAN), most)
        };
        let [hz, hz_u] = measured("frequency_hz", 6);
        let [db, db_u] = measured("level_db", 3);
        let note = peak["note"].as_str().unwrap_or("–").to_string();
        let cents =
            peak["cents"].as_f64().map_or("–".into(), |c| text::signed(text::number(c, 1)));
        vec![hz, hz_u, db, db_u, note, cents]
    });
    ReportTable {
        caption: "Tones of the averaged spectrum".into(),
        head: ["frequency, Hz", "± u", &format!("level, {unit}"), "± u", "note", "cents"]
            .map(String::from)
            .to_vec(),
        rows: rows.collect(),
    }
}

fn partial_table(partials: &Saved, unit: &str) -> ReportTable {
    const MOST: usize = 16;
    let level_head = format!("level, {unit}");
    let all = partials.value["result"]["partials"].as_array().cloned().unwrap_or_default();
    let rows = all.iter().take(MOST).map(|partial| {
        let measured = |key: &str, most: usize| match partial[key].as_f64() {
            Some(value) => {
                let u = partial[format!("{key}_u")].as_f64().unwrap_or(f64::NAN);
                text::measured(value, u, most)
            }
            None => ["–".into(), "–".into()],
        };
        let [hz, hz_u] = measured("frequency_hz", 5);
        let [t60, t60_u] = measured("decay_t60_s", 3);
        let cents = partial["cents_from_harmonic"].as_f64();
        vec![
            partial["number"].to_string(),
            hz,
            hz_u,
            cents.map_or("–".into(), |cents| text::signed(text::number(cents, 2))),
            text::known(partial["level_db"].as_f64(), 1),
            t60,
            t60_u,
            text::known(partial["beat_hz"].as_f64(), 3),
        ]
    });
    let head = [
        "partial",
        "frequency, Hz",
        "± u",
        "cents from harmonic",
        &level_head,
        "T60, s",
        "± u",
        "beat, Hz",
    ];
    ReportTable {
        caption: format!("Partials, the first {}", MOST.min(all.len())),
        head: head.map(String::from).to_vec(),
        rows: rows.collect(),
    }
}

fn descriptor_table(timbre: &Saved) -> ReportTable {
    let rows = tonemap_core::timbre::DESCRIPTORS.iter().filter_map(|(descriptor, label)| {
        let value = timbre.number(&descriptor.key(None).to_string())?;
        let [number, u] = text::measured(value.value, value.u, label.decimals);
        Some(vec![label.name.to_string(), number, u, label.unit.symbol().to_string()])
    });
    ReportTable {
        caption: "Timbre: medians over the note, weighted by power".into(),
        head: ["descriptor", "value", "± u", "unit"].map(String::from).to_vec(),
        rows: rows.collect(),
    }
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
        let (x, y) = thinned(curve(&found["curve"]["frequency_hz"], &found["curve"][key]));
        ChartCurve { name: name.clone(), x, y }
    });
    let curves: Vec<ChartCurve> = curves.collect();
    let caption = format!(
        "Spectra of {} and {}, and the difference in bands on its own scale",
        names[0], names[1]
    );
    let charts = if is_pair {
        vec![difference_chart(&format!("{id}-chart"), &caption, &curves, &bands, level_unit)]
    } else {
        Vec::new()
    };
    let real = bands.iter().filter(|band| band.is_real).count();
    let text = match (is_pair, number("delay_s")) {
        (false, _) => "two groups of repeats, judged by their spread".into(),
        (true, Some(_)) => format!(
            "one sound, laid over each other; gain {} dB, residual {} dB; {real} of {} bands differ",
            text::known(number("gain_db"), 2),
            text::known(number("residual_re_other_db"), 1),
            bands.len()
        ),
        (true, None) => format!(
            "not one sound; level difference {} dB, bands differ by {} dB RMS, {real} of {} by more than chance",
            text::known(number("level_difference_db"), 2),
            text::known(number("spectrum_difference_rms_db"), 2),
            bands.len()
        ),
    };
    let fact = |name: &str, key: &str, scale: f64, most: usize, unit: &str| {
        let value = number(key)?;
        let u = number(&format!("{key}_u")).unwrap_or(f64::NAN);
        Some((
            name.to_string(),
            value_text(Some(Measured::new(scale * value, scale * u)), most, unit)?,
        ))
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
                ", not distinguishable from none"
            };
            format!("{} ± {u} per {per}{said}", text::signed(slope))
        }
        _ => "no straight line through the values".into(),
    };
    let condition_title = if unit.is_empty() { over.clone() } else { format!("{over}, {unit}") };
    let caption = format!("{quantity} over {over}");
    let chart = trend_chart(
        &format!("{id}-chart"),
        &caption,
        &values,
        &course,
        (&condition_title, &quantity),
    );
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
