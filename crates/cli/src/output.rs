//! Results out: to standard output, files, figures.

use std::fs;
use std::io::{self, IsTerminal, Write};
use std::path::Path;

use anyhow::{Context, Result};
use serde::Serialize;
use tonemap_core::{Finding, Severity};
use tonemap_figures::Figure;

use crate::args::{FigureArgs, OutputArgs};
use crate::files::{self, Content};
use crate::status::Usage;
use crate::text;

/// Begins a run: how its result is read, and a log on standard error if the user wants to hear what
/// is being done.
pub(crate) fn begin(args: &OutputArgs) {
    text::goes_to_standard_output(args.output.is_none());
    log(args.verbose);
}

/// The log, if the user wants it.
pub(crate) fn log(verbose: bool) {
    if verbose {
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
