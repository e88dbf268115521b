//! How a command that measures takes one by one is run: open → measure → present → judge, once for
//! all.
//!
//! A command says what it measures and how that reads ([`Measure`]); [`drive`] does the rest, in
//! one order: what can be known to fail is found before the work, one bad take is named and passed
//! over, and nothing is printed that could not be written.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::quantity::Quantity;
use tonemap_figures::{Figure, ReportPart};

use crate::advice;
use crate::args::{FigureArgs, Format, OutputArgs, PartArgs, SourceArgs, SpanArgs, TakesArgs};
use crate::files::{self, Content};
use crate::json;
use crate::kept::Kept;
use crate::limits::LimitArgs;
use crate::output;
use crate::parts;
use crate::status::{Status, Usage};
use crate::studies::{Named, find_takes};
use crate::table::{Row, RowHead};
use crate::take::{Part, Take};

/// What was measured of a part.
pub(crate) struct Made<'a, F> {
    pub(crate) part: Part<'a>,
    pub(crate) found: F,
    pub(crate) findings: Vec<Finding>,
}

impl<F> Made<'_, F> {
    /// What stands before and behind its rows in CSV.
    pub(crate) fn row_head(&self) -> RowHead {
        RowHead {
            take: self.part.row_name(),
            channel: self.part.channel_name(),
            level_reference: self.part.reference.name(),
        }
    }

    /// Its findings as they stand beside those of others, if there are any.
    pub(crate) fn named_findings(&self, several: bool) -> Vec<Finding> {
        self.part.named_findings(&self.findings, several)
    }
}

/// Items of all parts as rows of a table.
pub(crate) fn rows<'r, F, T: 'r, I: Iterator<Item = &'r T>>(
    made: &'r [Made<'_, F>],
    heads: &'r [RowHead],
    items: impl Fn(&'r F) -> I,
) -> Vec<Row<'r, T>> {
    let of_part = made.iter().zip(heads);
    of_part.flat_map(|(one, part)| items(&one.found).map(move |item| Row { part, item })).collect()
}

/// What stands before and behind the rows of each part.
pub(crate) fn row_heads<F>(made: &[Made<'_, F>]) -> Vec<RowHead> {
    made.iter().map(Made::row_head).collect()
}

/// What of a take is measured at once.
pub(crate) enum Parts<'c> {
    /// One channel after the other.
    EachChannel(&'c PartArgs),
    /// The same where levels are measured: energy means of channels too.
    EachLevel(&'c PartArgs),
    /// All channels of a span together.
    AllChannels(&'c SpanArgs),
}

impl Parts<'_> {
    fn of<'a>(&self, take: &'a mut Take) -> Result<Vec<Part<'a>>> {
        match self {
            Self::EachChannel(part) => take.parts(part),
            Self::EachLevel(part) => take.level_parts(part),
            Self::AllChannels(span) => Ok(vec![take.whole(span)?]),
        }
    }
}

/// Arguments that the driver needs to know.
pub(crate) struct Common<'c> {
    pub(crate) takes: &'c [PathBuf],
    pub(crate) source: &'c SourceArgs,
    pub(crate) parts: Parts<'c>,
    pub(crate) limits: &'c LimitArgs,
    pub(crate) figure: &'c FigureArgs,
    pub(crate) output: Cow<'c, OutputArgs>,
}

impl<'c> Common<'c> {
    /// Those of a command on takes.
    pub(crate) fn of(
        takes: &'c TakesArgs,
        limits: &'c LimitArgs,
        figure: &'c FigureArgs,
        output: &'c OutputArgs,
    ) -> Self {
        let TakesArgs { takes, source, part } = takes;
        let output = Cow::Borrowed(output);
        Self { takes, source, parts: Parts::EachChannel(part), limits, figure, output }
    }

    /// Those of a command on levels, which has energy means of channels too.
    pub(crate) fn of_levels(
        takes: &'c TakesArgs,
        limits: &'c LimitArgs,
        figure: &'c FigureArgs,
        output: &'c OutputArgs,
    ) -> Self {
        Self { parts: Parts::EachLevel(&takes.part), ..Self::of(takes, limits, figure, output) }
    }
}

/// What stands in a side file, from the parts measured.
type SideContent<'c, F> = dyn Fn(&[Made<'_, F>]) -> Result<Vec<u8>> + 'c;

/// A file that a command writes beside its result.
pub(crate) struct SideFile<'c, F> {
    pub(crate) file: &'c Path,
    /// How its name may end.
    pub(crate) endings: &'static [&'static str],
    /// What is said of a name that does not.
    pub(crate) kind: &'static str,
    /// Whether it is of one part only.
    pub(crate) is_of_one: bool,
    pub(crate) content: Box<SideContent<'c, F>>,
}

/// A command that measures takes one by one.
pub(crate) trait Measure: Sync + Sized {
    /// Its name.
    const KIND: &'static str;
    /// What its figure is of, if it is not of all parts together.
    const DRAWS: Option<&'static str> = Some("one channel of one take");
    /// What it measures of a part, with the settings that it was measured with.
    type Found: Send + Sync;

    fn common(&self) -> Common<'_>;

    /// Finds out before anything is read what cannot be done.
    fn check(&self) -> Result<()> {
        Ok(())
    }

    /// What the levels of the parts refer to, if it is not what each is calibrated to.
    fn refer(&self, _parts: &mut [Part<'_>]) -> Result<Option<Finding>> {
        Ok(None)
    }

    /// The notes of a part that are measured, each a part of its own.
    fn notes<'a>(&self, part: Part<'a>, _quiet: bool) -> Result<Vec<Part<'a>>> {
        Ok(vec![part])
    }

    /// Measures a part, and says what it found on the way.
    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Self::Found, Vec<Finding>)>;

    /// Finds out what parts that were measured say together.
    fn relate(&self, _made: &mut [Made<'_, Self::Found>]) {}

    /// `settings` in JSON.
    fn settings(&self, made: &Made<'_, Self::Found>) -> impl Serialize;

    /// `result` in JSON.
    fn result(&self, made: &Made<'_, Self::Found>) -> impl Serialize;

    /// The numbers of the result.
    fn quantities(&self, made: &Made<'_, Self::Found>) -> Vec<Quantity>;

    fn text(&self, made: &[Made<'_, Self::Found>]) -> String;

    fn csv(&self, made: &[Made<'_, Self::Found>]) -> Result<String>;

    fn draw(&self, made: &[Made<'_, Self::Found>]) -> Result<Figure>;

    /// What it has to say of a take on a page.
    fn section(&self, _made: &Made<'_, Self::Found>) -> Result<ReportPart> {
        Ok(ReportPart::default())
    }

    /// The same of several takes that were measured together, in their order.
    fn sections(&self, made: &[Made<'_, Self::Found>]) -> Result<Vec<ReportPart>> {
        made.iter().map(|one| self.section(one)).collect()
    }

    /// Files beside the result.
    fn files(&self) -> Vec<SideFile<'_, Self::Found>> {
        Vec::new()
    }
}

/// The text of each part, one after the other.
pub(crate) fn each<F>(made: &[Made<'_, F>], text: impl Fn(&Made<'_, F>) -> String) -> String {
    made.iter().map(text).collect::<Vec<_>>().join("\n")
}

/// Runs a command.
pub(crate) fn drive<M: Measure>(command: &M) -> Result<Status> {
    let Common { takes, source, parts: chosen, limits, figure, output } = command.common();
    let output = &*output;
    output::begin(output);
    command.check()?;
    output::check_outputs(figure, output)?;
    let files = command.files();
    for file in &files {
        output::check_ending(file.file, file.endings, file.kind)?;
        files::claim(file.file, Content::Result, output.force)?;
    }
    let (mut takes, mut status) = parts::open_named(takes, source)?;
    let mut parts = parts::parts_of(&mut takes, |take| chosen.of(take), &mut status)?;
    // What cannot be known of a part fails when it is measured.
    let notes_of = |part| command.notes(part, output.quiet).unwrap_or_else(|_| vec![part]);
    parts = parts.into_iter().flat_map(notes_of).collect();
    if parts.len() > 1 {
        refuse_several(M::DRAWS.filter(|_| figure.figure.is_some()), &files)?;
    }
    let mixed = command.refer(&mut parts)?;
    let quiet_each = output.quiet || parts.len() > 1;
    let mut made = parts::each_part(parts, M::KIND, output.quiet, &mut status, |part| {
        let (found, findings) = command.measure(&part, quiet_each)?;
        Ok(Made { part, found, findings: advice::worded(findings) })
    })?;
    if made.is_empty() {
        return Ok(status);
    }
    command.relate(&mut made);
    let several = made.len() > 1;
    let mut notes = Vec::new();
    for one in &mut made {
        one.findings.extend(mixed.clone());
        notes.extend(one.named_findings(several));
    }
    output::print_notes(output, &notes);
    let content = match output.format {
        Format::Text => command.text(&made),
        Format::Json => made.iter().map(|one| json_of(command, one)).collect::<Result<String>>()?,
        Format::Csv => command.csv(&made)?,
    };
    if let Some(file) = &figure.figure {
        output::write_figure(file, &command.draw(&made)?, output.force)?;
    }
    for file in &files {
        let content = (file.content)(&made)?;
        files::write_whole(file.file, Content::Result, &content, output.force)?;
    }
    output::write_result(output, &content)?;
    let judged = || made.iter().map(|one| (one.part.title(), command.quantities(one)));
    limits.check(|| judged().collect(), status)
}

/// What another command wants of a result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wants {
    /// Its numbers, and what was found.
    Numbers,
    /// What it has to say on a page, too.
    Page,
}

/// Measures a take for another command: its first part, with all that is said of it.
pub(crate) fn on<M: Measure>(command: &M, named: &Named, wants: Wants) -> Result<Kept> {
    command.check()?;
    let Common { source, parts: chosen, .. } = command.common();
    let mut take = Take::open(named.clone(), source)?;
    let mut parts = chosen.of(&mut take)?;
    parts.truncate(1);
    if let [part] = parts[..] {
        parts = command.notes(part, true)?;
        parts.truncate(1);
    }
    let mixed = command.refer(&mut parts)?;
    let part = parts.pop().context("the take has no channel")?;
    let (found, mut findings) = command.measure(&part, true)?;
    findings.extend(mixed);
    let made = Made { part, found, findings: advice::worded(findings) };
    Ok(Kept {
        json: json_of(command, &made)?,
        quantities: command.quantities(&made),
        findings: made.named_findings(true),
        part: match wants {
            Wants::Page => command.section(&made)?,
            Wants::Numbers => ReportPart::default(),
        },
    })
}

/// Measures the takes that it names for a page: all their parts, with what they say together.
pub(crate) fn on_all<M: Measure>(command: &M) -> Result<Vec<Kept>> {
    command.check()?;
    let Common { takes, source, parts: chosen, .. } = command.common();
    let mut takes: Vec<Take> = find_takes(takes, source)?
        .into_iter()
        .map(|named| Take::open(named, source))
        .collect::<Result<_>>()?;
    let mut parts = Vec::new();
    for take in &mut takes {
        for part in chosen.of(take)? {
            parts.extend(command.notes(part, true)?);
        }
    }
    let mixed = command.refer(&mut parts)?;
    let mut made = Vec::new();
    for part in parts {
        let (found, mut findings) = command.measure(&part, true)?;
        findings.extend(mixed.clone());
        made.push(Made { part, found, findings: advice::worded(findings) });
    }
    command.relate(&mut made);
    let sections = command.sections(&made)?;
    let kept = |(one, part): (&Made<'_, M::Found>, ReportPart)| -> Result<Kept> {
        Ok(Kept {
            json: json_of(command, one)?,
            quantities: command.quantities(one),
            findings: one.named_findings(true),
            part,
        })
    };
    made.iter().zip(sections).map(kept).collect()
}

fn json_of<M: Measure>(command: &M, made: &Made<'_, M::Found>) -> Result<String> {
    let (settings, result) = (command.settings(made), command.result(made));
    json::line(M::KIND, made.part.record()?, settings, result, &made.findings)
}

/// Several parts do not go into what is of one.
fn refuse_several<F>(drawn: Option<&str>, files: &[SideFile<'_, F>]) -> Result<()> {
    let of_one = files.iter().filter(|file| file.is_of_one);
    let refused = drawn
        .map(|one| ("a figure".to_string(), one))
        .or_else(|| of_one.map(|file| (files::shown(file.file), "one channel of one take")).next());
    let Some((name, one)) = refused else { return Ok(()) };
    Err(Usage(format!("{name} is of {one}; name one, or leave it out")).into())
}
