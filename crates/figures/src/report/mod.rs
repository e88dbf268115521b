//! The report: one page with everything in it, charts that can be zoomed and read, and no need of a
//! network.

mod charts;
mod preview;

pub use charts::{
    Chart, ChartCurve, DrawnBand, bands_chart, course_chart, difference_chart, ear_chart,
    map_chart, response_chart, rows_chart, spectrum_chart, spread_chart, trend_chart,
};
pub use preview::{PreviewPictures, ReportPreview};

use std::io::Write as _;

use askama::Template;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use flate2::{Compression, GzBuilder};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use tonemap_core::Severity;

use crate::colours::{ColourMap, diverging};
use crate::error::Error;
use crate::theme;

/// A table of words.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ReportTable {
    /// What it shows.
    pub caption: String,
    /// Heads of the columns.
    pub head: Vec<String>,
    /// Rows; the first cell of each is its head.
    pub rows: Vec<Vec<String>>,
    /// Anchors that the rows lead to, if they lead anywhere.
    pub links: Vec<String>,
}

impl ReportTable {
    /// Whether a column holds words rather than numbers.
    fn is_words(&self, column: usize) -> bool {
        let is_number = |cell: &str| {
            let digits = cell.replace('\u{2212}', "-").replace(['+', '<', ',', '\u{202f}'], "");
            cell == "–" || cell.is_empty() || digits.trim().parse::<f64>().is_ok()
        };
        column == 0 || !self.rows.iter().all(|row| row.get(column).is_none_or(|c| is_number(c)))
    }

    /// Heads and cells, each with how it is set.
    fn set(&self) -> SetTable<'_> {
        let classes = (0..self.head.len()).map(|n| if self.is_words(n) { "words" } else { "" });
        let classes: Vec<&str> = classes.collect();
        let rows = self.rows.iter().enumerate().map(|(n, row)| {
            let cells = row.iter().zip(classes.iter().copied().chain(std::iter::repeat("")));
            let cells = cells.map(|(cell, class)| match class {
                "words" if cell.len() > LONG_CELL => (cell.as_str(), "words long"),
                _ => (cell.as_str(), class),
            });
            (self.links.get(n).map(String::as_str), cells.collect())
        });
        SetTable {
            rows: rows.collect(),
            head: self.head.iter().map(String::as_str).zip(classes.iter().copied()).collect(),
        }
    }

    /// Its name for a screen reader.
    fn name(&self) -> &str {
        if self.caption.is_empty() { "Table of takes" } else { &self.caption }
    }
}

/// A cell with more letters than this is wrapped.
const LONG_CELL: usize = 60;

/// A cell as it is set: its text, and its class.
type SetCell<'t> = (&'t str, &'static str);

/// A table as it is set: rows with the anchors that they lead to.
struct SetTable<'t> {
    head: Vec<SetCell<'t>>,
    rows: Vec<(Option<&'t str>, Vec<SetCell<'t>>)>,
}

/// A result in a line.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Headline {
    /// What kind of result it is: `differs`, `trend`, `stands out`, `measured`.
    pub kind: String,
    /// The number, or a word.
    pub value: String,
    /// Its standard uncertainty, if it has one.
    pub u: String,
    /// Its unit.
    pub unit: String,
    /// What it is of.
    pub text: String,
    /// Section that it leads to.
    pub section: String,
}

/// A finding and what it is about.
#[derive(Debug, Clone)]
pub struct ReportFinding {
    /// Stable name of what is found.
    pub code: String,
    /// The takes, channels or comparisons of which it says the same, each with its section.
    pub about: Vec<(String, String)>,
    /// How much it matters.
    pub severity: Severity,
    /// What it says.
    pub text: String,
}

/// What one measurement has to say in a section.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ReportPart {
    /// Facts with their names.
    pub facts: Vec<(String, String)>,
    /// Charts.
    pub charts: Vec<Chart>,
    /// Tables.
    pub tables: Vec<ReportTable>,
    /// Its result in a line.
    pub headline: Option<Headline>,
}

impl ReportSection {
    /// Adds what a measurement has to say.
    pub fn add(&mut self, part: ReportPart) {
        self.facts.extend(part.facts);
        self.charts.extend(part.charts);
        self.tables.extend(part.tables);
    }
}

/// Part of the page: a take, a comparison, a trend.
#[derive(Debug, Clone, Default)]
pub struct ReportSection {
    /// Anchor, which must be its own.
    pub id: String,
    /// Heading.
    pub title: String,
    /// One or two sentences below it.
    pub text: String,
    /// Facts with their names.
    pub facts: Vec<(String, String)>,
    /// Charts.
    pub charts: Vec<Chart>,
    /// Tables.
    pub tables: Vec<ReportTable>,
    /// Findings.
    pub findings: Vec<(Severity, String)>,
    /// A file to play: its media type, and its bytes.
    pub sound: Option<(&'static str, Vec<u8>)>,
}

/// What the page is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Theme {
    /// A screen, light or dark as the reader has it.
    #[default]
    Reader,
    /// A light screen.
    Light,
    /// A dark screen.
    Dark,
    /// Paper: all unfolded, in one column.
    Print,
}

impl Theme {
    fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Light => "light",
            Self::Dark => "dark",
            Self::Print => "print",
        }
    }
}

/// The page.
#[derive(Debug, Clone, Default)]
pub struct Report {
    /// Heading.
    pub title: String,
    /// Frequency of A4 in Hz, of which the reading under the cursor counts notes and cents.
    pub reference_hz: f64,
    /// What it is about, in a line.
    pub summary: String,
    /// What matters most.
    pub headlines: Vec<Headline>,
    /// All findings above *note*, the most serious first.
    pub findings: Vec<ReportFinding>,
    /// The takes as small pictures.
    pub previews: Vec<ReportPreview>,
    /// The takes at a glance.
    pub takes: ReportTable,
    /// Comparisons.
    pub comparisons: Vec<ReportSection>,
    /// Trends.
    pub trends: Vec<ReportSection>,
    /// Measurements that were asked for.
    pub measurements: Vec<ReportSection>,
    /// Saved results.
    pub saved: Vec<ReportSection>,
    /// Takes, one by one.
    pub sections: Vec<ReportSection>,
    /// How it was measured, and hashes.
    pub methods: Vec<ReportTable>,
    /// Version of the program.
    pub version: String,
}

/// Anchor of the takes, one by one.
const TAKES: &str = "take-by-take";
/// With more takes than this, they are folded.
const OPEN_TAKES: usize = 4;

/// What is done with a group of sections in the template.
impl Report {
    /// The groups of sections that there are, with their anchors and headings.
    fn groups(&self) -> Vec<(&'static str, &'static str, &[ReportSection])> {
        let all: [(_, _, &[ReportSection]); 5] = [
            ("comparisons", "Comparisons", &self.comparisons),
            ("trends", "Trends", &self.trends),
            ("measurements", "Measurements", &self.measurements),
            ("saved", "Saved results", &self.saved),
            (TAKES, "Take by take", &self.sections),
        ];
        all.into_iter().filter(|(_, _, sections)| !sections.is_empty()).collect()
    }

    /// Whether the sections of a group are open at first.
    fn is_open(&self, group: &str) -> bool {
        group != TAKES || self.sections.len() <= OPEN_TAKES
    }

    /// How many findings of a severity there are, each counted with all that it is about.
    #[must_use]
    pub fn count(&self, severity: &Severity) -> usize {
        let of = self.findings.iter().filter(|finding| finding.severity == *severity);
        of.map(|finding| finding.about.len()).sum()
    }

    /// The same in words.
    #[must_use]
    pub fn counted(&self, severity: &Severity) -> String {
        let count = self.count(severity);
        match (severity, count) {
            (Severity::Serious, 1) => "1 serious finding".into(),
            (Severity::Serious, _) => format!("{count} serious findings"),
            (_, 1) => format!("1 {}", severity.word()),
            _ => format!("{count} {}s", severity.word()),
        }
    }

    /// The findings of each severity by kind, in their order: those of one code stand together,
    /// each with its own words.
    #[must_use]
    pub fn findings_by_severity(&self) -> Vec<(Severity, Vec<FindingKind<'_>>)> {
        let mut all: Vec<(Severity, Vec<FindingKind<'_>>)> = Vec::new();
        for finding in &self.findings {
            if all.last().is_none_or(|(severity, _)| *severity != finding.severity) {
                all.push((finding.severity, Vec::new()));
            }
            let Some((_, kinds)) = all.last_mut() else { continue };
            match kinds.iter_mut().find(|(first, _)| first.code == finding.code) {
                Some((_, others)) => others.push(finding),
                None => kinds.push((finding, Vec::new())),
            }
        }
        all
    }

    /// Whether there is nothing to show.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.groups().is_empty()
    }
}

/// The first finding of a kind, and the others.
pub type FindingKind<'r> = (&'r ReportFinding, Vec<&'r ReportFinding>);

impl ReportSection {
    fn sound_data(&self) -> Option<(&'static str, String)> {
        self.sound.as_ref().map(|(kind, file)| (*kind, STANDARD.encode(file)))
    }
}

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    report: &'a Report,
    form: Theme,
    policy: String,
    style: String,
    plotly: String,
    script: &'a str,
    /// Colours of levels, and of differences.
    palettes: [String; 2],
}

/// Writes the page.
///
/// Only what the page brings along is run: its scripts and its style are named by their hash in the
/// policy that it states, and nothing is fetched. The script that draws is packed, and unpacked
/// when the first chart is looked at.
///
/// # Errors
///
/// [`Error::Drawing`] if the template fails, which would be a fault of this program.
pub fn report_page(report: &Report, colours: ColourMap, form: Theme) -> Result<String, Error> {
    let scripts = plotly::Plot::offline_js_sources();
    let drawing = chart_script(&scripts).ok_or_else(|| Error::drawing("no script for charts"))?;
    let script = include_str!("../../templates/report.js");
    let palettes = [palette(&colours.table()), palette(&diverging())];
    let style = style(form);
    let policy = format!(
        "default-src 'none'; script-src {} {}; style-src 'unsafe-inline'; img-src data: blob:; \
         media-src data:; font-src data:; base-uri 'none'; form-action 'none'",
        hash(script),
        hash(drawing)
    );
    let plotly = packed(drawing).map_err(Error::drawing)?;
    Page { report, form, policy, style, plotly, script, palettes }.render().map_err(Error::drawing)
}

/// The style of the page: dark where the reader has it so, and for paper.
fn style(form: Theme) -> String {
    let dark = include_str!("../../templates/dark.css");
    let paper = include_str!("../../templates/paper.css");
    let always = if form == Theme::Print { paper } else { "" };
    format!(
        "{}\n{}\n@media screen and (prefers-color-scheme: dark) {{ \
         [data-form=reader] {{ color-scheme: dark; {dark} }} }}\n\
         @media screen {{ [data-form=dark] {{ color-scheme: dark; {dark} }} }}\n\
         @page {{ size: A4; margin: 14mm; }}\n@media print {{ {paper} }}\n{always}",
        theme::font_faces(),
        include_str!("../../templates/report.css")
    )
}

/// The colours of a table as numbers.
fn palette(table: &[[u8; 3]]) -> String {
    let number = |[r, g, b]: &[u8; 3]| {
        (usize::from(*r) << 16 | usize::from(*g) << 8 | usize::from(*b)).to_string()
    };
    table.iter().map(number).collect::<Vec<_>>().join(",")
}

/// A script by its hash, as a content security policy names it.
fn hash(script: &str) -> String {
    format!("'sha256-{}'", STANDARD.encode(Sha256::digest(script.as_bytes())))
}

/// A text packed by gzip (RFC 1952), the same whenever it is packed, in base64.
fn packed(text: &str) -> std::io::Result<String> {
    let mut file = GzBuilder::new().write(Vec::new(), Compression::best());
    file.write_all(text.as_bytes())?;
    Ok(STANDARD.encode(file.finish()?))
}

/// Of the scripts that the library brings along, the one that draws charts; formulas are not set.
fn chart_script(scripts: &str) -> Option<&str> {
    let bodies = scripts.split("<script").skip(1).filter_map(|part| {
        let (_, body) = part.split_once('>')?;
        Some(body.rsplit_once("</script>")?.0)
    });
    bodies.max_by_key(|body| body.len())
}
