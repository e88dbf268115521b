//! The parts of the manual that the program brings along, as text for a terminal.

/// What can be asked about, beside commands and findings.
pub(crate) const TOPICS: [Topic; 10] = [
    Topic::new("units", "what can be typed: times, frequencies, notes, ranges", UNITS),
    Topic::new("levels", "dB re full scale and re 20 µPa; calibration", LEVELS),
    Topic::new("frames", "windows and resolution, by intention or by hand", FRAMES),
    Topic::new("uncertainty", "what ± u, – and 'not distinguishable' mean", UNCERTAINTY),
    Topic::new("formats", "files that are read and written", FORMATS),
    Topic::new("study-file", "study.toml, key by key", STUDY_FILE),
    Topic::new("edit-file", "the edit file of rebuild", EDIT_FILE),
    Topic::new("json", "results as JSON and CSV; names of numbers", JSON),
    Topic::new("exit-status", "what 0, 1, 2 and 3 mean; limits", EXIT_STATUS),
    Topic::new("glossary", "the words", GLOSSARY),
];

const UNITS: &str = include_str!("../../../docs/reference/units.md");
const LEVELS: &str = include_str!("../../../docs/reference/levels.md");
const FRAMES: &str = include_str!("../../../docs/reference/frames.md");
const UNCERTAINTY: &str = include_str!("../../../docs/reference/uncertainty.md");
const FORMATS: &str = include_str!("../../../docs/reference/formats.md");
const STUDY_FILE: &str = include_str!("../../../docs/reference/study-file.md");
const EDIT_FILE: &str = include_str!("../../../docs/edit-file.md");
const JSON: &str = include_str!("../../../docs/reference/json.md");
const EXIT_STATUS: &str = include_str!("../../../docs/reference/exit-status.md");
const GLOSSARY: &str = include_str!("../../../docs/reference/glossary.md");
const FINDINGS: &str = include_str!("../../../docs/findings.md");

/// A page that is asked for by name.
pub(crate) struct Topic {
    pub(crate) name: &'static str,
    /// What it is about, in a line.
    pub(crate) about: &'static str,
    page: &'static str,
}

impl Topic {
    const fn new(name: &'static str, about: &'static str, page: &'static str) -> Self {
        Self { name, about, page }
    }

    pub(crate) fn text(&self) -> String {
        as_text(self.page)
    }
}

/// The codes of all findings, in their order.
pub(crate) fn finding_codes() -> impl Iterator<Item = &'static str> {
    FINDINGS.lines().filter_map(|line| line.strip_prefix("## "))
}

/// What a finding means and what to do.
pub(crate) fn finding(code: &str) -> Option<String> {
    let entry = FINDINGS.split("\n## ").skip(1).find(|entry| entry.lines().next() == Some(code))?;
    Some(as_text(&format!("# {entry}")))
}

/// Letters in a line.
const WIDTH: usize = 96;

/// A page in Markdown as text: paragraphs wrapped, tables aligned, links by their words.
fn as_text(page: &str) -> String {
    let mut out = String::new();
    let mut lines = page.lines().peekable();
    while let Some(line) = lines.next() {
        if line.starts_with("```") {
            for code in lines.by_ref().take_while(|code| !code.starts_with("```")) {
                out += &format_line("    ", code);
            }
        } else if line.starts_with('|') {
            let mut rows = vec![cells(line)];
            while let Some(row) = lines.next_if(|next| next.starts_with('|')) {
                rows.push(cells(row));
            }
            out += &table(&rows);
        } else if let Some(head) = line.strip_prefix('#') {
            out += &format_line("", &plain(head.trim_start_matches('#').trim()));
        } else if line.trim().is_empty() {
            out.push('\n');
        } else {
            let starts_item = |line: &str| {
                let number = line.trim_start_matches(|c: char| c.is_ascii_digit());
                line.starts_with("- ") || (number.starts_with(". ") && number != line)
            };
            let mut words = line.to_string();
            let goes_on = |next: &&str| {
                !next.trim().is_empty() && !next.starts_with(['|', '#', '`']) && !starts_item(next)
            };
            while let Some(next) = lines.next_if(goes_on) {
                words.push(' ');
                words += next.trim();
            }
            let indent = if starts_item(line) { "  " } else { "" };
            out += &wrapped(&plain(&words), WIDTH, indent).join("\n");
            out.push('\n');
        }
    }
    out
}

fn format_line(indent: &str, words: &str) -> String {
    format!("{indent}{words}\n")
}

/// Words without the marks of Markdown.
fn plain(words: &str) -> String {
    let mut out = String::new();
    let mut rest = words;
    // A link is its words: [words](target).
    while let Some(start) = rest.find('[') {
        let link = rest[start..].split_once("](").and_then(|(words, behind)| {
            let (_, after) = behind.split_once(')')?;
            Some((&words[1..], after))
        });
        let Some((words, after)) = link else { break };
        out += rest[..start].trim_end_matches('!');
        out += words;
        rest = after;
    }
    (out + rest).replace("**", "").replace(['*', '`'], "")
}

/// Words in lines of a width, all but the first indented.
fn wrapped(words: &str, width: usize, indent: &str) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in words.split_whitespace() {
        let line = lines.last_mut().filter(|line| {
            line.trim().is_empty() || line.chars().count() + 1 + word.chars().count() <= width
        });
        match line {
            Some(line) if line.trim().is_empty() => line.push_str(word),
            Some(line) => {
                line.push(' ');
                line.push_str(word);
            }
            None => lines.push(format!("{indent}{word}")),
        }
    }
    lines
}

/// The cells of a row; none of the line below the heads.
fn cells(row: &str) -> Vec<String> {
    let inner = row.trim().trim_matches('|');
    if inner.chars().all(|c| "|-: ".contains(c)) {
        return Vec::new();
    }
    inner.split('|').map(|cell| plain(cell.trim())).collect()
}

/// A table whose last column is wrapped.
fn table(rows: &[Vec<String>]) -> String {
    let rows: Vec<&Vec<String>> = rows.iter().filter(|row| !row.is_empty()).collect();
    let columns = rows.iter().map(|row| row.len()).max().unwrap_or(0);
    let widest =
        |n: usize| rows.iter().filter_map(|row| row.get(n)).map(|c| c.chars().count()).max();
    let widths: Vec<usize> =
        (0..columns.saturating_sub(1)).map(|n| widest(n).unwrap_or(0).min(WIDTH / 2)).collect();
    let left: usize = widths.iter().map(|width| width + 2).sum::<usize>() + 2;
    let mut out = String::new();
    for row in rows {
        let mut line = "  ".to_string();
        for (width, cell) in widths.iter().zip(row) {
            let missing = width.saturating_sub(cell.chars().count());
            line += cell;
            line += &" ".repeat(missing + 2);
        }
        let last = row.last().filter(|_| row.len() == columns).map_or("", String::as_str);
        let indent = " ".repeat(left);
        let lines = wrapped(last, WIDTH.saturating_sub(left).max(30), "");
        out += (line + &lines.join(&format!("\n{indent}"))).trim_end();
        out.push('\n');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_are_plain_text_of_one_width() {
        for topic in &TOPICS {
            let text = topic.text();
            assert!(!text.contains("](") && !text.contains("**"), "{}: {text}", topic.name);
            // Examples stand as they are written.
            let words = text.lines().filter(|line| !line.starts_with("    "));
            let widest = words.map(|line| line.chars().count()).max().unwrap_or(0);
            assert!(widest <= WIDTH + 40, "{}: {widest}", topic.name);
        }
    }

    #[test]
    fn every_finding_has_its_entry() {
        assert!(finding_codes().count() > 90);
        for code in finding_codes() {
            let text = finding(code).expect("an entry");
            assert!(text.starts_with(code) && text.lines().count() >= 5, "{text}");
        }
        assert_eq!(finding("no such code"), None);
    }
}
