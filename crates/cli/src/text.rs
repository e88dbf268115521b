//! Text for reading: numbers, sentences, findings, and how they look on a terminal.

use std::io::IsTerminal;
use std::sync::OnceLock;

use anstyle::{AnsiColor, Style};
use tonemap_core::{Finding, Measured, Severity, merged, places_text};
use tonemap_figures::Headline;

/// Width to which running text is wrapped.
const LINE_WIDTH: usize = 96;

/// How the result is read: the columns of the terminal it is printed on, and whether in colour.
static READING: OnceLock<(Option<usize>, bool)> = OnceLock::new();

/// Says whether the result goes to standard output: tables fit a terminal, and its colours are used
/// unless NO_COLOR or TERM forbids them.
pub(crate) fn goes_to_standard_output(is_so: bool) {
    let out = std::io::stdout();
    let reading = if is_so && out.is_terminal() {
        let width = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
        (width, anstream::AutoStream::choice(&out) != anstream::ColorChoice::Never)
    } else {
        (None, false)
    };
    // The first to say it is the command that was typed.
    let _ = READING.set(reading);
}

/// Columns of the terminal that the result is printed on, if it is.
pub(crate) fn terminal_width() -> Option<usize> {
    READING.get().and_then(|(width, _)| *width)
}

fn styled(text: &str, style: Style) -> String {
    let in_colour = READING.get().is_some_and(|(_, in_colour)| *in_colour);
    if in_colour { format!("{style}{text}{style:#}") } else { text.into() }
}

/// The head of a table.
pub(crate) fn head(line: &str) -> String {
    styled(line, Style::new().bold())
}

/// A row that stands out from the others.
pub(crate) fn outlier(line: &str) -> String {
    styled(line, AnsiColor::Yellow.on_default())
}

fn severity(severity: Severity) -> String {
    let style = match severity {
        Severity::Serious => AnsiColor::Red.on_default().bold(),
        Severity::Warning => AnsiColor::Yellow.on_default(),
        Severity::Note => Style::new(),
    };
    styled(severity.word(), style)
}

/// What stands for a value that is not known.
pub(crate) const UNKNOWN: &str = "–";

/// A number with `decimals` decimals and a true minus sign; a dash for one that is not finite.
pub(crate) fn number(value: f64, decimals: usize) -> String {
    if !value.is_finite() {
        return UNKNOWN.into();
    }
    let text = format!("{value:.decimals$}");
    match text.strip_prefix('-') {
        Some(digits) if digits.chars().any(|c| c.is_ascii_digit() && c != '0') => {
            format!("−{digits}")
        }
        Some(digits) => digits.to_string(),
        None => text,
    }
}

/// A number that may be unknown.
pub(crate) fn known(value: Option<f64>, decimals: usize) -> String {
    value.map_or(UNKNOWN.into(), |value| number(value, decimals))
}

/// A number with five significant digits.
pub(crate) fn significant(value: f64) -> String {
    if value == 0.0 {
        return "0".into();
    }
    let magnitude = value.abs().log10().floor();
    if (-5.0..5.0).contains(&magnitude) || !value.is_finite() {
        number(value, (4.0 - magnitude) as usize)
    } else {
        format!("{value:.4e}").replace('-', "−")
    }
}

/// A value and its uncertainty, with the digits that mean something, at most `most` decimals.
pub(crate) fn measured(value: f64, u: f64, most: usize) -> [String; 2] {
    let (_, u_text) = Measured::new(value, u).text(most);
    [number(value, Measured::new(value, u).decimals(most)), u_text]
}

/// A whole number with thin groups of three digits.
pub(crate) fn grouped(value: u64) -> String {
    let digits = value.to_string();
    let mut text = String::new();
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && (digits.len() - n).is_multiple_of(3) && digits.len() > 4 {
            text.push(' ');
        }
        text.push(digit);
    }
    text
}

/// The middle of a band in Hz: 31.5, 1000.
pub(crate) fn hertz(hz: f64) -> String {
    number(hz, usize::from(hz.fract() != 0.0))
}

/// A sample rate: whole where it is whole.
pub(crate) fn rate(rate_hz: f64) -> String {
    if rate_hz.fract() == 0.0 { grouped(rate_hz as u64) } else { number(rate_hz, 3) }
}

/// The name that was meant, as the end of a sentence; nothing if none is like it.
pub(crate) fn meant<S: AsRef<str>>(asked: &str, known: impl IntoIterator<Item = S>) -> String {
    const ALIKE: f64 = 0.75;
    let alike = known.into_iter().map(|name| (strsim::jaro_winkler(name.as_ref(), asked), name));
    let nearest = alike.max_by(|a, b| a.0.total_cmp(&b.0)).filter(|(alike, _)| *alike > ALIKE);
    nearest.map_or(String::new(), |(_, name)| format!("; did you mean '{}'?", name.as_ref()))
}

/// So many of something.
pub(crate) fn count(count: usize, one: &str, many: &str) -> String {
    format!("{} {}", grouped(count as u64), if count == 1 { one } else { many })
}

/// So many takes, in words.
pub(crate) fn takes(count: u64) -> String {
    if count == 1 { "one take".into() } else { grouped(count) + " takes" }
}

/// A list under a heading, wrapped, at most `most` of it.
pub(crate) fn listed(heading: &str, items: impl Iterator<Item = String>, most: usize) -> String {
    let mut items: Vec<String> = items.collect();
    let more = items.len().saturating_sub(most);
    items.truncate(most);
    let more = if more > 0 { format!(", and {more} more") } else { String::new() };
    wrapped(&format!("  {heading} "), &(items.join(", ") + &more))
}

/// A fact with its name and unit, if it is known.
pub(crate) fn fact(
    name: &str,
    value: Option<Measured>,
    most: usize,
    unit: &str,
) -> Option<(String, String)> {
    let value = value?;
    let words = if value.u.is_finite() {
        let [number, u] = measured(value.value, value.u, most);
        format!("{number} ± {} {unit}", u.replace('<', "below "))
    } else {
        format!("{} {unit}", number(value.value, most.min(2)))
    };
    Some((name.into(), words))
}

/// A result in a line, if it is known.
pub(crate) fn headline(
    value: Option<Measured>,
    most: usize,
    unit: &str,
    text: String,
) -> Option<Headline> {
    let value = value?;
    let (value, u) = if value.u.is_finite() {
        let [number, u] = measured(value.value, value.u, most);
        (number, u.replace('<', "below "))
    } else {
        (number(value.value, most.min(2)), String::new())
    };
    let unit = unit.to_string();
    Some(Headline { kind: "measured".into(), value, u, unit, text, ..Headline::default() })
}

/// What is said of a difference.
pub(crate) fn verdict(is_real: Option<bool>) -> &'static str {
    match is_real {
        Some(true) => "different",
        Some(false) => "not distinguishable",
        None => "uncertainty not known",
    }
}

/// A number with its sign, as it stands for a difference.
pub(crate) fn signed(number: String) -> String {
    if number.starts_with('−') || number == UNKNOWN { number } else { format!("+{number}") }
}

/// A sentence, indented and wrapped.
pub(crate) fn sentence(words: &str) -> String {
    wrapped("  ", words)
}

/// Words behind a beginning, wrapped and indented under it.
/// Words wrapped behind a beginning, under which the next lines are indented.
pub(crate) fn wrapped(beginning: &str, words: &str) -> String {
    let mut text = String::new();
    // The words bring their own space.
    let mut line = beginning.strip_suffix(' ').unwrap_or(beginning).to_string();
    for word in words.split_whitespace() {
        if line.chars().count() + 1 + word.chars().count() > LINE_WIDTH {
            text.push_str(&line);
            text.push('\n');
            line = " ".repeat(beginning.chars().count().saturating_sub(1));
        }
        line.push(' ');
        line.push_str(word);
    }
    text + &line + "\n"
}

/// Findings above *note*, wrapped, the most serious first; nothing if there are none.
pub(crate) fn findings(findings: &[Finding]) -> String {
    let mut shown: Vec<Finding> =
        findings.iter().filter(|finding| finding.severity > Severity::Note).cloned().collect();
    shown.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    all_findings(&shown)
}

/// The same below a table, with a line between.
pub(crate) fn findings_below(findings: &[Finding]) -> String {
    match self::findings(findings) {
        none if none.is_empty() => none,
        some => format!("\n{some}"),
    }
}

/// All findings, wrapped: severity and code, then what it concerns and the text, indented. Those
/// that say the same of several takes stand once.
pub(crate) fn all_findings(findings: &[Finding]) -> String {
    let lines = merged(findings).into_iter().map(|(finding, places)| {
        let place =
            if places.is_empty() { String::new() } else { format!("{}: ", places_text(&places)) };
        format!("  {} [{}]\n", severity(finding.severity), finding.code)
            + &wrapped("    ", &format!("{place}{}", finding.text))
    });
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_true_signs_and_no_negative_zero() {
        assert_eq!(number(-1.25, 1), "−1.2");
        assert_eq!(number(-0.001, 2), "0.00");
        assert_eq!(known(None, 2), "–");
        assert_eq!(grouped(48_000), "48 000");
        assert_eq!(grouped(1234), "1234");
        assert_eq!([0.197_991_4, 3.0, 1.5e-9].map(significant), ["0.19799", "3.0000", "1.5000e−9"]);
        assert_eq!(
            [0.0, -0.0, -7.5e-6, -2.5e9].map(significant),
            ["0", "0", "−7.5000e−6", "−2.5000e9"]
        );
        let unknown = [f64::NAN, f64::INFINITY, f64::NEG_INFINITY];
        assert_eq!(unknown.map(|x| number(x, 2)), [UNKNOWN; 3]);
        assert_eq!(unknown.map(significant), [UNKNOWN; 3]);
        assert_eq!(measured(f64::NAN, f64::NAN, 2).map(signed), [UNKNOWN; 2]);
    }

    #[test]
    fn findings_wrap_and_notes_stay_out() {
        let long = "word ".repeat(40);
        let list =
            [Finding::note("n", "x"), Finding::warning("w", &long), Finding::serious("s", "y")];
        let shown = findings(&list);
        assert!(shown.starts_with("  serious [s]\n    y\n  warning [w]\n"), "{shown}");
        assert!(shown.lines().all(|line| line.chars().count() <= LINE_WIDTH), "{shown}");
        assert!(!shown.contains("[n]"));
    }
}
