//! Findings: what the engineer must know about a recording or a result.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Good to know; the result stands.
    Note,
    /// The result, or part of it, is in doubt.
    Warning,
    /// The result must not be used without looking at the cause.
    Serious,
}

impl Severity {
    /// The word printed in tables.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Serious => "serious",
        }
    }
}

/// What to do about a finding, to be worded by what shows it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Advice {
    /// Choose another of several notes, or measure each.
    Notes,
    /// Compare spans of the same length.
    LikeSpans,
    /// Assume no fundamental.
    NoFundamental,
    /// Keep shorter tracks.
    ShorterTracks,
    /// See what speaks for each reading at one time.
    Evidence,
    /// Stay below a frequency in Hz.
    Below(f64),
    /// Resolve tones this far apart, in Hz.
    Resolve(f64),
}

/// One thing the engineer must know, beside the result it concerns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Finding {
    /// Stable name for programs, such as `clipped`.
    pub code: Cow<'static, str>,
    /// How much it matters.
    pub severity: Severity,
    /// What was found, what it spoils and what to do, in one or two sentences.
    pub text: String,
    /// What to do, beyond what the text says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<Advice>,
    /// The take it concerns, where a result is about several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub take: Option<String>,
    /// The channel of that take, where it has several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channel: Option<String>,
}

impl Finding {
    /// A finding of severity note.
    #[must_use]
    pub fn note(code: &'static str, text: impl Into<String>) -> Self {
        Self::new(code, Severity::Note, text)
    }

    /// A finding of severity warning.
    #[must_use]
    pub fn warning(code: &'static str, text: impl Into<String>) -> Self {
        Self::new(code, Severity::Warning, text)
    }

    /// A finding of severity serious.
    #[must_use]
    pub fn serious(code: &'static str, text: impl Into<String>) -> Self {
        Self::new(code, Severity::Serious, text)
    }

    fn new(code: &'static str, severity: Severity, text: impl Into<String>) -> Self {
        let text = text.into();
        Self { code: code.into(), severity, text, advice: None, take: None, channel: None }
    }

    /// The same with what to do.
    #[must_use]
    pub fn advising(self, advice: Advice) -> Self {
        Self { advice: Some(advice), ..self }
    }

    /// The take and channel it concerns, in words, if it names them.
    #[must_use]
    pub fn place(&self) -> Option<String> {
        let take = self.take.as_ref()?;
        Some(match &self.channel {
            Some(channel) => format!("{take}, channel {channel}"),
            None => take.clone(),
        })
    }
}

/// Findings that say the same of several takes, brought together: each finding once, in the order
/// of the list, with all the places that it concerns.
#[must_use]
pub fn merged(findings: &[Finding]) -> Vec<(&Finding, Vec<String>)> {
    let mut all: Vec<(&Finding, Vec<String>)> = Vec::new();
    let (mut known, mut placed) = (HashMap::new(), HashSet::new());
    for finding in findings {
        let said = (&finding.code, finding.severity, &finding.text, finding.take.is_some());
        let at = *known.entry(said).or_insert_with(|| {
            all.push((finding, Vec::new()));
            all.len() - 1
        });
        if placed.insert((at, &finding.take, &finding.channel)) {
            all[at].1.extend(finding.place());
        }
    }
    all
}

/// Places in words: all of a few, the first and the number of many.
#[must_use]
pub fn places_text(places: &[String]) -> String {
    /// Four fit a line.
    const MOST: usize = 4;
    match places.len() {
        0..=MOST => places.join("; "),
        count => format!("{} and {} more", places[..MOST - 1].join("; "), count - MOST + 1),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_equal_findings_are_merged_and_each_keeps_its_place() {
        let of = |take: &str, text: &str| Finding {
            take: Some(take.into()),
            ..Finding::warning("clipped", text)
        };
        let all = [of("a", "x"), of("b", "x"), of("b", "y"), Finding::warning("clipped", "x")];
        let found = merged(&all);
        let places: Vec<&[String]> = found.iter().map(|(_, places)| places.as_slice()).collect();
        assert_eq!(places, [&["a".to_string(), "b".into()][..], &["b".to_string()], &[]]);
        let many: Vec<String> = (0..9).map(|n| format!("t{n}")).collect();
        assert_eq!(places_text(&many), "t0; t1; t2 and 6 more");
        assert_eq!(places_text(&many[..2]), "t0; t1");
    }

    #[test]
    fn a_finding_is_read_back_as_it_was_written() {
        let plain = Finding::note("n", "words");
        let text = serde_json::to_string(&plain).expect("written");
        assert_eq!(text, r#"{"code":"n","severity":"note","text":"words"}"#);
        let placed = Finding { take: Some("a".into()), channel: Some("2".into()), ..plain };
        let text = serde_json::to_string(&placed).expect("written");
        assert_eq!(serde_json::from_str::<Finding>(&text).expect("read"), placed);
        assert_eq!(placed.place().as_deref(), Some("a, channel 2"));
    }
}
