//! The small text under a figure: settings, then findings, wrapped.

use tonemap_core::{Finding, Severity, merged, places_text};

use crate::error::Error;
use crate::sheet::{Sheet, Size, Type};
use crate::theme;

/// Margins left and right of a plot, and the height of a line of text under it.
pub(crate) const LEFT_PX: f64 = 78.0;
pub(crate) const RIGHT_PX: f64 = 26.0;
/// Right margin where a colour bar stands in it.
pub(crate) const RIGHT_WITH_BAR_PX: f64 = 136.0;
/// Top margin.
pub(crate) const TOP_PX: f64 = 60.0;
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

/// Lines under a plot at most: of settings, and of findings. The drawing keeps its share of the
/// page.
const SETTINGS_LINES: usize = 4;
const FINDING_LINES: usize = 2;

/// The lines: settings, then the findings above *note*: in full where there is room for them, else
/// the most serious as far as it goes, how many others there are and which.
pub(crate) fn lines(notes: &[String], findings: &[Finding], size: Size) -> Vec<(String, Type)> {
    let settings = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let alarm = Type::new(theme::LABEL_PX, theme::FINDING);
    let width = f64::from(size.width) - LEFT_PX - RIGHT_PX;
    let mut shown: Vec<Finding> =
        findings.iter().filter(|finding| finding.severity > Severity::Note).cloned().collect();
    shown.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let shown = merged(&shown);
    let in_full = shown.iter().flat_map(|one| wrapped(&in_words(one), alarm, width));
    let mut of_findings: Vec<String> = in_full.take(FINDING_LINES + 1).collect();
    if of_findings.len() > FINDING_LINES {
        // The most serious begins in words, the others are named.
        let (first, others) = (&shown[..1], &shown[1..]);
        let first = elided(&in_words(&first[0]), alarm, width);
        of_findings = vec![first];
        if !others.is_empty() {
            of_findings.push(elided(&in_brief(others), alarm, width));
        }
    }
    let mut of_settings: Vec<String> =
        notes.iter().flat_map(|note| wrapped(note, settings, width)).collect();
    if of_settings.len() > SETTINGS_LINES {
        let more = of_settings.len() - SETTINGS_LINES + 1;
        of_settings.truncate(SETTINGS_LINES - 1);
        of_settings.push(format!("and {more} lines more, see the text"));
    }
    let of_settings = of_settings.into_iter().map(|line| (line, settings));
    of_settings.chain(of_findings.into_iter().map(|line| (line, alarm))).collect()
}

fn in_words((finding, places): &(&Finding, Vec<String>)) -> String {
    let place = places_text(places);
    let place = if place.is_empty() { place } else { format!("{place}: ") };
    format!("{}: {place}{}", finding.severity.word(), finding.text)
}

/// How many findings there are of each severity, and their codes.
fn in_brief(findings: &[(&Finding, Vec<String>)]) -> String {
    let count = |severity: Severity| findings.iter().filter(|f| f.0.severity == severity).count();
    let (serious, warnings) = (count(Severity::Serious), count(Severity::Warning));
    let mut counts = Vec::new();
    if serious > 0 {
        counts.push(format!("{serious} serious"));
    }
    if warnings > 0 {
        counts.push(format!("{warnings} warning{}", if warnings == 1 { "" } else { "s" }));
    }
    let mut codes: Vec<String> = Vec::new();
    for code in findings.iter().map(|(finding, _)| finding.code.replace('_', " ")) {
        if !codes.contains(&code) {
            codes.push(code);
        }
    }
    format!("and {}, see the text: {}", counts.join(", "), codes.join(", "))
}

/// A text that is cut where it would be wider than `width`.
pub(crate) fn elided(text: &str, look: Type, width: f64) -> String {
    if look.width(text) <= width {
        return text.into();
    }
    let mut kept = text.to_string();
    while !kept.is_empty() && look.width(&format!("{kept}…")) > width {
        kept.pop();
    }
    format!("{}…", kept.trim_end())
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_leave_the_drawing_its_room() {
        let size = Size::default();
        let few = [Finding::warning("clipped", "Channel 1 is clipped."), Finding::note("n", "x")];
        let shown = lines(&["settings".into()], &few, size);
        let texts: Vec<&str> = shown.iter().map(|(line, _)| line.as_str()).collect();
        assert_eq!(texts, ["settings", "warning: Channel 1 is clipped."]);
        let many: Vec<Finding> = (0..12)
            .map(|n| match n {
                5 => Finding::serious("not_finite", "Samples are not finite. ".repeat(20)),
                n => Finding::warning("dc_offset", format!("Channel {n} has DC. ").repeat(9)),
            })
            .collect();
        let notes: Vec<String> = (0..40).map(|n| format!("settings of take {n}")).collect();
        let shown = lines(&notes, &many, size);
        let texts: Vec<&str> = shown.iter().map(|(line, _)| line.as_str()).collect();
        assert_eq!(texts.len(), 6, "{texts:?}");
        assert_eq!(texts[3], "and 37 lines more, see the text");
        assert!(
            texts[4].starts_with("serious: Samples are not finite.") && texts[4].ends_with('…')
        );
        assert_eq!(texts[5], "and 11 warnings, see the text: dc offset");
    }

    #[test]
    fn what_is_too_wide_is_cut() {
        let look = Type::new(12.0, theme::INK);
        let cut = elided(&"wide ".repeat(50), look, 100.0);
        assert!(look.width(&cut) <= 100.0 && cut.ends_with('…') && cut.len() > 10, "{cut}");
        assert_eq!(elided("short", look, 100.0), "short");
    }
}
