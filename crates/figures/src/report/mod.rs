//! The report: one page with everything in it, charts that can be zoomed and read, and no need of a
//! network.

mod charts;

pub use charts::{
    Chart, ChartCurve, DrawnBand, course_chart, difference_chart, map_chart, spectrum_chart,
    spread_chart, trend_chart,
};

use askama::Template;
use serde::{Deserialize, Serialize};
use tonemap_core::Severity;

use crate::colours::ColourMap;
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
    /// A WAV file to play.
    pub sound: Option<Vec<u8>>,
}

/// The page.
#[derive(Debug, Clone, Default)]
pub struct Report {
    /// Heading.
    pub title: String,
    /// Frequency of A4 in Hz, of which the reading under the cursor counts notes and cents.
    pub reference_hz: f64,
    /// What it is about, in sentences.
    pub summary: Vec<String>,
    /// All findings above *note*, the most serious first.
    pub findings: Vec<ReportFinding>,
    /// The takes at a glance.
    pub takes: ReportTable,
    /// Anchor of each row of that table.
    pub take_ids: Vec<String>,
    /// Comparisons.
    pub comparisons: Vec<ReportSection>,
    /// Trends.
    pub trends: Vec<ReportSection>,
    /// Takes, one by one.
    pub sections: Vec<ReportSection>,
    /// Saved results.
    pub saved: Vec<ReportSection>,
    /// How it was measured, and hashes.
    pub methods: Vec<ReportTable>,
    /// Version of the program.
    pub version: String,
}

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    report: &'a Report,
    fonts: String,
    plotly: &'a str,
    script: &'a str,
    palette: String,
}

/// What is done with a group of sections in the template.
impl Report {
    /// The groups of sections that there are, with their anchors and headings.
    fn groups(&self) -> Vec<(&'static str, &'static str, &[ReportSection])> {
        let all: [(_, _, &[ReportSection]); 4] = [
            ("comparisons", "Comparisons", &self.comparisons),
            ("trends", "Trends", &self.trends),
            ("take-by-take", "Take by take", &self.sections),
            ("saved", "Saved results", &self.saved),
        ];
        all.into_iter().filter(|(_, _, sections)| !sections.is_empty()).collect()
    }
}

impl Report {
    /// The findings by kind, in their order: those of one code stand together, each with its own
    /// words.
    fn findings_by_kind(&self) -> Vec<(&ReportFinding, Vec<&ReportFinding>)> {
        let mut kinds: Vec<(&ReportFinding, Vec<&ReportFinding>)> = Vec::new();
        for finding in &self.findings {
            let is_same = |(first, _): &&mut (&ReportFinding, Vec<&ReportFinding>)| {
                first.code == finding.code && first.severity == finding.severity
            };
            match kinds.iter_mut().find(is_same) {
                Some((_, others)) => others.push(finding),
                None => kinds.push((finding, Vec::new())),
            }
        }
        kinds
    }

    /// Whether there is nothing to show.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.sections.is_empty() && self.groups().is_empty()
    }

    /// Rows of the table of takes, each with its anchor.
    fn linked_rows(&self) -> impl Iterator<Item = (&String, &Vec<String>)> {
        self.take_ids.iter().zip(&self.takes.rows)
    }
}

impl ReportSection {
    fn sound_data(&self) -> Option<String> {
        use base64::Engine;
        let encode = |file| base64::engine::general_purpose::STANDARD.encode(file);
        self.sound.as_ref().map(encode)
    }
}

/// Writes the page.
///
/// # Errors
///
/// [`Error::Drawing`] if the template fails, which would be a fault of this program.
pub fn report_page(report: &Report, colours: ColourMap) -> Result<String, Error> {
    let scripts = plotly::Plot::offline_js_sources();
    let palette: Vec<String> = colours
        .table()
        .iter()
        .map(|[r, g, b]| {
            (usize::from(*r) << 16 | usize::from(*g) << 8 | usize::from(*b)).to_string()
        })
        .collect();
    Page {
        report,
        fonts: theme::font_faces(),
        plotly: chart_script(&scripts).ok_or_else(|| Error::drawing("no script for charts"))?,
        script: include_str!("../../templates/report.js"),
        palette: palette.join(","),
    }
    .render()
    .map_err(Error::drawing)
}

/// Of the scripts that the library brings along, the one that draws charts; formulas are not set.
fn chart_script(scripts: &str) -> Option<&str> {
    let bodies = scripts.split("<script").skip(1).filter_map(|part| {
        let (_, body) = part.split_once('>')?;
        Some(body.rsplit_once("</script>")?.0)
    });
    bodies.max_by_key(|body| body.len())
}
