//! Results as JSON: one envelope for all.

use anyhow::Result;
use serde::Serialize;
use tonemap_core::Finding;

use crate::files;
use crate::record::{StreamRecord, TakeRecord};
use crate::rerun;

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
    #[serde(rename = "take")]
    Stream(StreamRecord),
    Takes(Vec<TakeRecord>),
    /// As other results have them.
    #[serde(untagged)]
    Known {
        takes: Vec<serde_json::Value>,
    },
}

/// One line of JSON.
pub(crate) fn line<S: Serialize, R: Serialize>(
    kind: &'static str,
    take: TakeRecord,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    envelope(kind, SourceRecord::Take(take), settings, result, findings)
}

/// One line of JSON about a sound that goes on.
pub(crate) fn line_of_stream<S: Serialize, R: Serialize>(
    kind: &'static str,
    stream: StreamRecord,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    envelope(kind, SourceRecord::Stream(stream), settings, result, findings)
}

/// One line of JSON about one take or several together.
pub(crate) fn line_of_takes<S: Serialize, R: Serialize>(
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
    envelope(kind, source, settings, result, findings)
}

/// One line of JSON about takes whose records come from other results.
pub(crate) fn line_of_records<S: Serialize, R: Serialize>(
    kind: &'static str,
    takes: Vec<serde_json::Value>,
    settings: S,
    result: R,
    findings: &[Finding],
) -> Result<String> {
    envelope(kind, SourceRecord::Known { takes }, settings, result, findings)
}

fn envelope<S: Serialize, R: Serialize>(
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
        arguments: rerun::typed(),
        source,
        settings,
        result,
        findings,
        files: files::read_files(),
    };
    Ok(serde_json::to_string(&envelope)? + "\n")
}
