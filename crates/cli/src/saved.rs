//! Results that were saved as JSON, read back.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use serde_json::Value;
use tonemap_core::{Measured, Severity};

/// A saved result.
#[derive(Debug, Clone)]
pub(crate) struct Saved {
    pub(crate) value: Value,
}

/// A number in a result, with its place.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Number {
    /// Keys from the result down, as `partials[2].frequency_hz`; lists of numbered things by number, others by place.
    pub(crate) key: String,
    /// The value; its uncertainty is NaN where none is told.
    pub(crate) value: Measured,
}

/// A finding as it was saved.
#[derive(Debug, Clone)]
pub(crate) struct ReadFinding {
    pub(crate) code: String,
    pub(crate) severity: Severity,
    pub(crate) text: String,
}

/// Whether a name is that of a file of results.
pub(crate) fn is_saved(path: &Path) -> bool {
    let known = |ending: &std::ffi::OsStr| {
        ["json", "jsonl"].iter().any(|known| ending.eq_ignore_ascii_case(known))
    };
    path.extension().is_some_and(known)
}

/// Reads the results of a file, one a line.
pub(crate) fn read(path: &Path) -> Result<Vec<Saved>> {
    let name = || path.display().to_string();
    let text = std::fs::read_to_string(path).with_context(name)?;
    results_of(&text).with_context(name)
}

/// The results in lines of JSON.
pub(crate) fn results_of(text: &str) -> Result<Vec<Saved>> {
    let mut results = Vec::new();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let value: Value = serde_json::from_str(line).context(
            "this is no result of Tone Map; save one with --format json --output FILE.json",
        )?;
        if value.get("tonemap").is_none()
            || value.get("kind").is_none()
            || value.get("result").is_none()
        {
            bail!(
                "this JSON is no result of Tone Map; save one with --format json --output FILE.json"
            );
        }
        results.push(Saved { value });
    }
    if results.is_empty() {
        bail!("the file holds no result; save one with --format json --output FILE.json");
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
        all.filter_map(|take| {
            Some((take["path"].as_str()?.into(), take["blake3"].as_str()?.to_string()))
        })
        .collect()
    }

    /// Its findings.
    pub(crate) fn findings(&self) -> Vec<ReadFinding> {
        let list = self.value["findings"].as_array().into_iter().flatten();
        list.filter_map(|finding| {
            let severity = match finding["severity"].as_str()? {
                "serious" => Severity::Serious,
                "warning" => Severity::Warning,
                _ => Severity::Note,
            };
            let words = |key: &str| finding[key].as_str().map(String::from);
            Some(ReadFinding { code: words("code")?, severity, text: words("text")? })
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
                // Numbered things are found by their number, others by their place, from 1.
                let number = item.get("number").and_then(Value::as_u64).unwrap_or(n as u64 + 1);
                let here = format!("{path}[{number}]");
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
    ["number", "midi", "transform_size", "averaged_frames"].contains(&key)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_found_by_key_with_their_uncertainty() {
        let line = r#"{"tonemap":"0","kind":"partials","arguments":[],"take":{"path":"a/b.wav","blake3":"00"},"result":
            {"f0_hz":440.5,"f0_hz_u":0.1,"partials":[{"number":2,"frequency_hz":881.0,"frequency_hz_u":0.2}],"late":null}}"#;
        let saved = results_of(&line.replace('\n', "")).expect("a result").remove(0);
        assert_eq!(saved.title(), "b");
        assert_eq!(saved.number("partials[2].frequency_hz"), Some(Measured::new(881.0, 0.2)));
        assert_eq!(saved.number("partials.partials[2].frequency_hz").map(|m| m.value), Some(881.0));
        assert_eq!(saved.number("late"), None);
        assert_eq!(saved.numbers().len(), 2);
        assert!(results_of("{}").is_err() && results_of("x").is_err() && results_of("\n").is_err());
    }
}
