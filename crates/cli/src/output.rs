//! Results out: text, JSON and CSV, figures, exit status.

use std::fs;
use std::io::{self, ErrorKind, IsTerminal, Write};
use std::path::Path;
use std::process::ExitCode;

use anyhow::{Context, Result};
use serde::Serialize;
use tonemap_core::{Finding, Severity};
use tonemap_figures::Figure;

use crate::args::{FigureArgs, OutputArgs};
use crate::files::{self, Content};
use crate::take::TakeRecord;
use crate::text;

/// How a run ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Status {
    /// Done.
    Done,
    /// Could not: said on standard error.
    CouldNot,
    /// Wrong usage: said on standard error.
    WrongUsage,
    /// Done, but a limit that the user set is not met: said on standard error.
    Missed,
}

impl Status {
    /// The status that an error ends in: a setting that makes no sense is wrong usage.
    pub(crate) fn of(error: &anyhow::Error) -> Self {
        let is_usage = error.chain().any(|cause| {
            matches!(
                cause.downcast_ref(),
                Some(tonemap_core::Error::Setting { .. } | tonemap_core::Error::Unreadable { .. })
            ) || cause.is::<Usage>()
        });
        if is_usage { Self::WrongUsage } else { Self::CouldNot }
    }
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> Self {
        match status {
            Status::Done => Self::SUCCESS,
            Status::CouldNot => Self::from(1),
            Status::WrongUsage => Self::from(2),
            Status::Missed => Self::from(3),
        }
    }
}

/// Arguments that are each right but do not go together.
#[derive(Debug)]
pub(crate) struct Usage(pub(crate) String);

impl std::fmt::Display for Usage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Usage {}

/// Prints an error as one sentence: what it concerns, then why.
pub(crate) fn print_error(error: &anyhow::Error) {
    let causes = causes(error);
    // A standard error that cannot be written to leaves nothing to be done.
    let _ = writeln!(io::stderr(), "tonemap: {}.", causes.join(": ").trim_end_matches('.'));
}

/// What an error says from the outermost cause in; what a cause repeats of the one before it is left
/// out, as the name of a file that both know.
pub(crate) fn causes(error: &anyhow::Error) -> Vec<String> {
    let mut causes: Vec<String> = Vec::new();
    for cause in error.chain().map(ToString::to_string) {
        let last = causes.last().cloned().unwrap_or_default();
        let rest = cause.strip_prefix(&format!("{last}: ")).unwrap_or(&cause);
        if !last.ends_with(rest) {
            causes.push(rest.into());
        }
    }
    causes
}

/// Whether the reader of our output has gone, which is no error.
pub(crate) fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error
        .chain()
        .filter_map(|cause| cause.downcast_ref::<io::Error>())
        .any(|cause| cause.kind() == ErrorKind::BrokenPipe)
}

/// Starts the log on standard error if the user wants to hear what is being done.
pub(crate) fn start_log(args: &OutputArgs) {
    if args.verbose {
        tracing_subscriber::fmt()
            .with_writer(io::stderr)
            .with_max_level(tracing::Level::INFO)
            .with_target(false)
            .with_ansi(io::stderr().is_terminal())
            .without_time()
            .init();
    }
}

/// Refuses a file whose name does not end as its kind does.
pub(crate) fn check_ending(file: &Path, endings: &[&str], reason: &str) -> Result<()> {
    let fits = file
        .extension()
        .is_some_and(|ending| endings.iter().any(|known| ending.eq_ignore_ascii_case(known)));
    if fits { Ok(()) } else { Err(Usage(format!("{}: {reason}", file.display())).into()) }
}

/// Finds out before the work which of the files asked for could not be written at the end.
pub(crate) fn check_outputs(figure: &FigureArgs, output: &OutputArgs) -> Result<()> {
    check_figure(figure, output.force)?;
    match &output.output {
        Some(file) => files::claim(file, Content::Text, output.force),
        None => Ok(()),
    }
}

/// The same for a figure alone.
pub(crate) fn check_figure(figure: &FigureArgs, force: bool) -> Result<()> {
    let Some(file) = &figure.figure else { return Ok(()) };
    Picture::of(file)?;
    files::claim(file, Content::Result, force)
}

/// Writes a result to standard output, or to the file, pipe or device that was asked for.
pub(crate) fn write_result(args: &OutputArgs, content: &str) -> Result<()> {
    match &args.output {
        None => print(content),
        Some(file) if files::is_standard_output(file) => print(content),
        Some(file) if files::takes_text(file) => {
            let name = || format!("{}: it could not be written", files::shown(file));
            let mut out = fs::OpenOptions::new().write(true).open(file).with_context(name)?;
            out.write_all(content.as_bytes()).with_context(name)
        }
        Some(file) => files::write_whole(file, Content::Text, content.as_bytes(), args.force),
    }
}

/// Prints a result, or what a command did, on standard output.
pub(crate) fn print(text: &str) -> Result<()> {
    let mut out = io::stdout().lock();
    out.write_all(text.as_bytes())?;
    Ok(out.flush()?)
}

/// The kinds of picture file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Picture {
    Png,
    Svg,
}

impl Picture {
    /// The kind that the name of a file asks for.
    pub(crate) fn of(file: &Path) -> Result<Self> {
        let ending = file.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase());
        match ending.as_deref() {
            Some("png") => Ok(Self::Png),
            Some("svg") => Ok(Self::Svg),
            _ => Err(Usage(format!(
                "{}: a figure is a PNG or an SVG file; name it FILE.png or FILE.svg",
                file.display()
            ))
            .into()),
        }
    }
}

/// Writes a figure as PNG or SVG, by the ending of its name.
pub(crate) fn write_figure(file: &Path, figure: &Figure, force: bool) -> Result<()> {
    let content = match Picture::of(file)? {
        Picture::Png => figure.png()?,
        Picture::Svg => figure.svg()?.into_bytes(),
    };
    files::write_whole(file, Content::Result, &content, force)
}

/// Prints findings of severity *note* on standard error: good to know, not part of the result.
pub(crate) fn print_notes(args: &OutputArgs, findings: &[Finding]) {
    if args.quiet {
        return;
    }
    let notes: Vec<Finding> =
        findings.iter().filter(|finding| finding.severity == Severity::Note).cloned().collect();
    let _ = write!(io::stderr(), "{}", text::all_findings(&notes));
}

/// The JSON form of every result.
#[derive(Serialize)]
pub(crate) struct Envelope<'a, S: Serialize, R: Serialize> {
    /// Version of the program.
    pub(crate) tonemap: &'static str,
    /// The command.
    pub(crate) kind: &'static str,
    /// Version of the keys of `result`.
    pub(crate) schema: u32,
    /// What was typed, as far as it bears on the result.
    pub(crate) arguments: Vec<String>,
    /// Where it comes from.
    #[serde(flatten)]
    pub(crate) source: SourceRecord,
    /// All settings, as they were used.
    pub(crate) settings: S,
    /// What was measured.
    pub(crate) result: R,
    /// What must be known beside it.
    pub(crate) findings: &'a [Finding],
    /// Files that were read beside the takes: curves, temperaments.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) files: Vec<files::ReadFile>,
}

/// The take that a result comes from, or several that it is about together.
#[derive(Serialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum SourceRecord {
    Take(TakeRecord),
    Takes(Vec<TakeRecord>),
    /// As other results have them.
    #[serde(untagged)]
    Known {
        takes: Vec<serde_json::Value>,
    },
}

/// One line of JSON.
pub(crate) fn json_line<S: Serialize, R: Serialize>(
    kind: &'static str,
    take: TakeRecord,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    json_of(kind, SourceRecord::Take(take), settings, result, findings)
}

/// One line of JSON about one take or several together.
pub(crate) fn json_of_takes<S: Serialize, R: Serialize>(
    kind: &'static str,
    mut takes: Vec<TakeRecord>,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    let source = match (takes.pop(), takes.is_empty()) {
        (Some(one), true) => SourceRecord::Take(one),
        (last, _) => {
            takes.extend(last);
            SourceRecord::Takes(takes)
        }
    };
    json_of(kind, source, settings, result, findings)
}

/// One line of JSON about takes whose records come from other results.
pub(crate) fn json_of_records<S: Serialize, R: Serialize>(
    kind: &'static str,
    takes: Vec<serde_json::Value>,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    json_of(kind, SourceRecord::Known { takes }, settings, result, findings)
}

fn json_of<S: Serialize, R: Serialize>(
    kind: &'static str,
    source: SourceRecord,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    let envelope = Envelope {
        tonemap: env!("CARGO_PKG_VERSION"),
        kind,
        schema: 1,
        arguments: crate::recipe::typed(),
        source,
        settings,
        result,
        findings,
        files: files::read_files(),
    };
    Ok(serde_json::to_string(&envelope)? + "\n")
}

/// A CSV table whose columns are known only when it is written.
pub(crate) fn csv_lines<'a>(
    head: impl Iterator<Item = &'a str>,
    rows: &[Vec<String>],
) -> Result<String> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(head)?;
    for row in rows {
        writer.write_record(row)?;
    }
    Ok(String::from_utf8(writer.into_inner()?)?)
}

/// A CSV table of rows with named fields.
pub(crate) fn csv_table<R: Serialize>(rows: impl IntoIterator<Item = R>) -> Result<String> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    for row in rows {
        writer.serialize(row)?;
    }
    Ok(String::from_utf8(writer.into_inner()?)?)
}
