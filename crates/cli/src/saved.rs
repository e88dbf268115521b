//! Results that were saved as JSON, read back.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use serde_json::Value;
use tonemap_core::{Finding, Measured};

use crate::files;

/// A saved result.
#[derive(Debug, Clone)]
pub(crate) struct Saved {
    pub(crate) value: Value,
    /// As it was written.
    pub(crate) text: String,
}

/// A file of results is not larger than this: in memory it takes ten times as much.
const MOST_BYTES: u64 = 64 << 20;

/// A number in a result, with its place.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Number {
    /// Keys from the result down, as `partials[2].frequency_hz`; lists of numbered things by
    /// number, others by place.
    pub(crate) key: String,
    /// The value; its uncertainty is NaN where none is given.
    pub(crate) value: Measured,
}

/// Whether a name is that of a file of results.
pub(crate) fn is_saved(path: &Path) -> bool {
    let known = |ending: &std::ffi::OsStr| {
        ["json", "jsonl"].iter().any(|known| ending.eq_ignore_ascii_case(known))
    };
    path.extension().is_some_and(known)
}

/// Reads the results of a file, one after the other.
pub(crate) fn read(path: &Path) -> Result<Vec<Saved>> {
    let text = files::read_named(path, MOST_BYTES)?;
    results_of(&text).with_context(|| files::shown(path))
}

/// The results in a text, one after the other, on a line each or spread over several.
pub(crate) fn results_of(text: &str) -> Result<Vec<Saved>> {
    const HOW: &str = "save one with --format json --output FILE.json";
    let text = text.trim_start_matches('\u{feff}');
    let mut results = Vec::new();
    let mut values = serde_json::Deserializer::from_str(text).into_iter::<Value>();
    let mut start = 0;
    while let Some(value) = values.next() {
        let value = value.with_context(|| format!("this is no result of Tone Map; {HOW}"))?;
        let is_result = ["tonemap", "kind", "result"].iter().all(|key| value.get(key).is_some());
        if !is_result {
            bail!("this JSON is no result of Tone Map; {HOW}");
        }
        let end = values.byte_offset();
        results.push(Saved { value, text: text[start..end].trim().into() });
        start = end;
    }
    if results.is_empty() {
        bail!("the file holds no result; {HOW}");
    }
    Ok(results)
}

impl Saved {
    /// The command it comes from.
    pub(crate) fn kind(&self) -> &str {
        self.value["kind"].as_str().unwrap_or_default()
    }

    /// What was typed.
    pub(crate) fn arguments(&self) -> Vec<String> {
        let words = self.value["arguments"].as_array().into_iter().flatten();
        words.filter_map(|word| word.as_str().map(String::from)).collect()
    }

    /// The takes it comes from: path and hash.
    pub(crate) fn takes(&self) -> Vec<(PathBuf, String)> {
        let one = self.value.get("take").into_iter();
        let all = one.chain(self.value["takes"].as_array().into_iter().flatten());
        all.filter_map(path_and_hash).collect()
    }

    /// The files that were read beside the takes.
    pub(crate) fn files(&self) -> Vec<(PathBuf, String)> {
        let all = self.value["files"].as_array().into_iter().flatten();
        all.filter_map(path_and_hash).collect()
    }

    /// Its findings, each with the take and channel that it concerns.
    pub(crate) fn findings(&self) -> Vec<Finding> {
        let take = self.value.get("take");
        let name = take.map(|_| self.title());
        let several = take.is_some_and(|take| take["channels"].as_u64() > Some(1));
        let channel = take.and_then(|take| take["channel"].as_str()).filter(|_| several);
        let list = self.value["findings"].as_array().into_iter().flatten();
        let read = list.filter_map(|one| serde_json::from_value::<Finding>(one.clone()).ok());
        read.map(|finding| Finding {
            take: finding.take.or_else(|| name.clone()),
            channel: finding.channel.or_else(|| channel.map(String::from)),
            ..finding
        })
        .collect()
    }

    /// A name: that of its take.
    pub(crate) fn title(&self) -> String {
        let takes = self.takes();
        let name = |(path, _): &(PathBuf, String)| {
            path.file_stem()
                .map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into())
        };
        let names: Vec<String> = takes.iter().map(name).collect();
        if names.is_empty() { self.kind().to_string() } else { names.join(", ") }
    }

    /// All numbers of the result that are quantities, not their uncertainties, and no curves.
    pub(crate) fn numbers(&self) -> Vec<Number> {
        let mut found = Vec::new();
        gather("", &self.value["result"], &mut found);
        found
    }

    /// One number of the result by its key; the name of the command may stand before it.
    pub(crate) fn number(&self, key: &str) -> Option<Measured> {
        let own = key.strip_prefix(self.kind()).and_then(|rest| rest.strip_prefix('.'));
        self.numbers().into_iter().find(|n| n.key == own.unwrap_or(key)).map(|n| n.value)
    }
}

fn path_and_hash(of: &Value) -> Option<(PathBuf, String)> {
    Some((of["path"].as_str()?.into(), of["blake3"].as_str()?.to_string()))
}

/// Lists longer than this are curves, not quantities.
const LONGEST_LIST: usize = 400;

fn gather(path: &str, value: &Value, found: &mut Vec<Number>) {
    match value {
        Value::Object(fields) => {
            for (key, inner) in fields {
                let here = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                if let Some(number) = inner.as_f64() {
                    // An uncertainty stands with its value.
                    let is_u = key.strip_suffix("_u").is_some_and(|base| fields.contains_key(base));
                    if !is_u && !is_place(key) {
                        let u = fields.get(&format!("{key}_u")).and_then(Value::as_f64);
                        let value = Measured::new(number, u.unwrap_or(f64::NAN));
                        found.push(Number { key: here, value });
                    }
                } else {
                    gather(&here, inner, found);
                }
            }
        }
        Value::Array(items) if items.len() <= LONGEST_LIST => {
            for (n, item) in items.iter().enumerate() {
                // Numbered things are found by their number, bands by their middle, others by their
                // place, from 1.
                let number = item.get("number").and_then(Value::as_u64).unwrap_or(n as u64 + 1);
                let here = match item.get("center_hz").and_then(Value::as_f64) {
                    Some(hz) => format!("{path}[{hz}Hz]"),
                    None => format!("{path}[{number}]"),
                };
                if let Some(value) = item.as_f64() {
                    found.push(Number { key: here, value: Measured::new(value, f64::NAN) });
                } else {
                    gather(&here, item, found);
                }
            }
        }
        _ => {}
    }
}

/// Keys that say which thing it is, not what it measures.
fn is_place(key: &str) -> bool {
    ["number", "midi", "transform_size", "averaged_frames", "center_hz", "exact_center_hz"]
        .contains(&key)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_found_by_key_with_their_uncertainty() {
        let line = r#"{"tonemap":"0","kind":"partials","arguments":[],"take":{"path":"a/b.wav","blake3":"00"},"result":
            {"f0_hz":440.5,"f0_hz_u":0.1,"partials":[{"number":2,"frequency_hz":881.0,"frequency_hz_u":0.2}],
            "bands":[{"center_hz":31.5,"level_db":-20.0}],"late":null}}"#;
        let saved = results_of(&line.replace('\n', "")).expect("a result").remove(0);
        assert_eq!(saved.title(), "b");
        assert_eq!(saved.number("partials[2].frequency_hz"), Some(Measured::new(881.0, 0.2)));
        assert_eq!(saved.number("partials.partials[2].frequency_hz").map(|m| m.value), Some(881.0));
        assert_eq!(saved.number("late"), None);
        assert_eq!(saved.number("bands[31.5Hz].level_db").map(|m| m.value), Some(-20.0));
        assert_eq!(saved.numbers().len(), 3);
        assert!(results_of("{}").is_err() && results_of("x").is_err() && results_of("\n").is_err());
        // Spread over lines, behind a mark of the byte order, or several: all are read.
        let spread = format!("\u{feff}{line}\n{line}");
        assert_eq!(results_of(&spread).expect("results").len(), 2);
    }
}
