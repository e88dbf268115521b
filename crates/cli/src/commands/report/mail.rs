//! The short form of the page, for mail: its results and its findings in words.

use tonemap_figures::Report;

use crate::text;

/// The short form: as Markdown (CommonMark), or as plain text.
pub(super) fn short_form(page: &Report, is_markdown: bool) -> String {
    let escaped = |words: &str| if is_markdown { escape(words) } else { words.to_string() };
    let heading = |level: usize, words: &str| {
        if is_markdown {
            format!("{} {}\n\n", "#".repeat(level), escape(words))
        } else {
            let line = if level == 1 { "=" } else { "-" };
            format!("{words}\n{}\n\n", line.repeat(words.chars().count()))
        }
    };
    let item = |words: &str| {
        if is_markdown { format!("- {words}\n") } else { text::wrapped("- ", words) }
    };
    let mut out = heading(1, &page.title);
    out += &format_line(&escaped(&page.summary), is_markdown);
    out += &heading(2, "Results");
    for one in &page.headlines {
        let u = if one.u.is_empty() { String::new() } else { format!(" ± {}", one.u) };
        let number = format!("{}{u} {}", one.value, one.unit);
        let number = escaped(number.trim());
        let number = if is_markdown { format!("**{number}**") } else { number };
        out += &item(&format!("{}: {number}. {}", escaped(&one.kind), escaped(&one.text)));
    }
    if page.headlines.is_empty() {
        out += "None that can be said in a line.\n";
    }
    out.push('\n');
    out += &heading(2, "Findings");
    if page.findings.is_empty() {
        out += "Nothing was found that puts the results in doubt.\n";
    }
    for (severity, kinds) in page.findings_by_severity() {
        for finding in kinds.into_iter().flat_map(|(one, others)| [vec![one], others].concat()) {
            let names: Vec<String> = finding.about.iter().map(|(name, _)| escaped(name)).collect();
            let word = severity.word();
            let word = if is_markdown { format!("**{word}**") } else { word.to_string() };
            out += &item(&format!("{word} {}: {}", names.join(", "), escaped(&finding.text)));
        }
    }
    out
}

fn format_line(words: &str, is_markdown: bool) -> String {
    let line = if is_markdown { format!("{words}\n") } else { text::wrapped("", words) };
    line + "\n"
}

/// Names and words as they are: no sign in them has a meaning for Markdown.
fn escape(words: &str) -> String {
    let mut escaped = String::new();
    for letter in words.chars() {
        if "\\`*_{}[]<>#|&~!".contains(letter) {
            escaped.push('\\');
        }
        // A name of two lines would begin a paragraph of its own.
        escaped.push(if letter == '\n' || letter == '\r' { ' ' } else { letter });
    }
    escaped
}
