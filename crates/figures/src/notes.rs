//! The small text under a figure: settings, then findings, wrapped.

use tonemap_core::{Finding, Severity};

use crate::error::Error;
use crate::sheet::{Sheet, Size, Type};
use crate::theme;

/// Margins left and right of a plot, and the height of a line of text under it.
pub(crate) const LEFT_PX: f64 = 78.0;
pub(crate) const RIGHT_PX: f64 = 26.0;
pub(crate) const NOTES_LINE_PX: f64 = 17.0;

/// The words around a figure.
#[derive(Debug, Clone, Copy)]
pub struct Words<'a> {
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
}

/// What the words leave for the plot, in pixels.
pub(crate) struct Room {
    pub(crate) left: f64,
    pub(crate) right: f64,
    /// Lower end of the plot, with room for a scale below it.
    pub(crate) bottom: f64,
}

impl Words<'_> {
    /// Draws the words.
    pub(crate) fn draw(&self, sheet: &Sheet<'_>, size: Size) -> Result<Room, Error> {
        const SCALE_PX: f64 = 64.0;
        let lines = lines(self.notes, self.findings, size);
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, self.title, title)?;
        let bottom = f64::from(size.height) - SCALE_PX - 2.0 - NOTES_LINE_PX * lines.len() as f64;
        draw(sheet, bottom + SCALE_PX, &lines)?;
        Ok(Room { left: LEFT_PX, right: f64::from(size.width) - RIGHT_PX, bottom })
    }
}

/// The lines: settings, then the findings above *note*.
pub(crate) fn lines(notes: &[String], findings: &[Finding], size: Size) -> Vec<(String, Type)> {
    let settings = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let finding = Type::new(theme::LABEL_PX, theme::FINDING);
    let width = f64::from(size.width) - LEFT_PX - RIGHT_PX;
    let findings = findings
        .iter()
        .filter(|finding| finding.severity > Severity::Note)
        .map(|finding| format!("{}: {}", finding.severity.word(), finding.text));
    let notes = notes.iter().map(|note| (note.clone(), settings));
    notes
        .chain(findings.map(|text| (text, finding)))
        .flat_map(|(text, look)| {
            wrapped(&text, look, width).into_iter().map(move |line| (line, look))
        })
        .collect()
}

/// Draws the lines, the first with its baseline at `y`.
pub(crate) fn draw(sheet: &Sheet<'_>, mut y: f64, lines: &[(String, Type)]) -> Result<(), Error> {
    for (line, look) in lines {
        sheet.text(LEFT_PX, y, line, *look)?;
        y += NOTES_LINE_PX;
    }
    Ok(())
}

/// The text in lines no wider than `width`.
fn wrapped(text: &str, look: Type, width: f64) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if look.width(&format!("{line} {word}")) <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.into()),
        }
    }
    lines
}
