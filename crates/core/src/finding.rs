//! Findings: what the engineer must know about a recording or a result.

use serde::Serialize;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
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

/// One thing the engineer must know, beside the result it concerns.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Finding {
    /// Stable name for programs, such as `clipped`.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What was found, what it spoils and what to do, in one or two sentences.
    pub text: String,
}

impl Finding {
    /// A finding of severity note.
    #[must_use]
    pub fn note(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, severity: Severity::Note, text: text.into() }
    }

    /// A finding of severity warning.
    #[must_use]
    pub fn warning(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, severity: Severity::Warning, text: text.into() }
    }

    /// A finding of severity serious.
    #[must_use]
    pub fn serious(code: &'static str, text: impl Into<String>) -> Self {
        Self { code, severity: Severity::Serious, text: text.into() }
    }
}
