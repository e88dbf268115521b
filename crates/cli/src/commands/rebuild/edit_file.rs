//! The changes of a sound as they are typed, and as they stand in an edit file.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::{Context, Result};
use serde::Deserialize;
use serde_json::Value;
use tonemap_core::rebuild::{Added, Change, Course, Edit, TimeMap, Which, read_gain};
use tonemap_core::units::{Frequency, Seconds};

use crate::files;
use crate::status::Usage;
use crate::text;

/// Keys of the whole.
const WHOLE: [&str; 7] =
    ["stretch", "inharmonicity", "pitch", "time", "envelope", "noise", "decay"];
/// Keys of a change.
const OF_CHANGE: [&str; 7] = ["partials", "gain", "remove", "shift", "decay", "from", "to"];
/// Keys of a partial that is added.
const OF_ADDED: [&str; 2] = ["frequency", "level"];
/// Keys of a band of the noise.
const OF_NOISE: [&str; 2] = ["range", "gain"];

/// An edit file.
#[derive(Deserialize)]
struct EditFile {
    #[serde(default)]
    change: Vec<Table>,
    #[serde(default)]
    add: Vec<Table>,
    #[serde(default, rename = "noise-band")]
    noise_band: Vec<Table>,
    #[serde(flatten)]
    whole: Table,
}

type Table = BTreeMap<String, Value>;

/// Adds what an edit file says to an edit.
pub(super) fn read(file: &Path, edit: &mut Edit) -> Result<()> {
    let text = files::read_named(file, files::MOST_TEXT_BYTES)?;
    let name = || files::shown(file);
    let read: EditFile = toml_edit::de::from_str(&text)
        .map_err(|error| Usage(format!("{}: {}", name(), error.to_string().trim_end())))?;
    for (key, value) in &read.whole {
        known(key, &WHOLE).with_context(name)?;
        set(edit, key, &in_words(value)).with_context(name)?;
    }
    for (number, table) in (1..).zip(&read.change) {
        let change = change(table).with_context(|| format!("{}, change {number}", name()))?;
        edit.changes.push(change);
    }
    for (number, table) in (1..).zip(&read.add) {
        let added = added(table).with_context(|| format!("{}, add {number}", name()))?;
        edit.added.push(added);
    }
    for (number, table) in (1..).zip(&read.noise_band) {
        let place = || format!("{}, noise-band {number}", name());
        keys(table, &OF_NOISE).with_context(place)?;
        let range = wanted(table, "range").with_context(place)?.parse().with_context(place)?;
        let gain = Course::read(&wanted(table, "gain").with_context(place)?, read_gain);
        edit.noise.push((Some(range), gain.with_context(place)?));
    }
    Ok(())
}

/// Sets what holds for the whole.
pub(super) fn set(edit: &mut Edit, key: &str, words: &str) -> Result<()> {
    match key {
        "stretch" => edit.stretch = number(words)?,
        "inharmonicity" => edit.inharmonicity = Some(number(words)?),
        "pitch" => {
            edit.pitch_cents = Some(Course::read(words, tonemap_core::rebuild::read_cents)?);
        }
        "time" => edit.time = Some(words.parse::<TimeMap>()?),
        "envelope" => {
            edit.keep_envelope = match words {
                "keep" => true,
                "move" => false,
                _ => {
                    let reason = format!("envelope is keep or move, not '{words}'");
                    return Err(Usage(reason).into());
                }
            }
        }
        "noise" => edit.noise.push((None, Course::read(words, read_gain)?)),
        "decay" => {
            let decay = Some(number(words)?);
            edit.changes.push(Change { decay, ..Change::of(Which::All) });
        }
        _ => (),
    }
    Ok(())
}

fn change(table: &Table) -> Result<Change> {
    keys(table, &OF_CHANGE)?;
    let mut change = Change::of(wanted(table, "partials")?.parse()?);
    for (key, value) in table {
        let words = in_words(value);
        match key.as_str() {
            "remove" => {
                change.remove = value
                    .as_bool()
                    .ok_or_else(|| Usage(format!("remove is true or false, not '{words}'")))?;
            }
            "gain" => change.gain_db = Some(Course::read(&words, read_gain)?),
            "shift" => change.shift = Some(words.parse()?),
            "decay" => change.decay = Some(number(&words)?),
            "from" => change.from_s = Some(words.parse::<Seconds>()?.0),
            "to" => change.to_s = Some(words.parse::<Seconds>()?.0),
            _ => (),
        }
    }
    Ok(change)
}

fn added(table: &Table) -> Result<Added> {
    keys(table, &OF_ADDED)?;
    let hertz = |text: &str| Ok(text.parse::<Frequency>()?.hz(440.0));
    let frequency_hz = Course::read(&wanted(table, "frequency")?, hertz)?;
    let level_db = Course::read(&wanted(table, "level")?, read_gain)?;
    Ok(Added::new(frequency_hz, level_db)?)
}

fn number(words: &str) -> Result<f64> {
    let reason = || Usage(format!("'{words}' is no number"));
    Ok(words.trim().parse().map_err(|_| reason())?)
}

fn wanted(table: &Table, key: &str) -> Result<String> {
    let value = table.get(key).map(in_words);
    value.ok_or_else(|| Usage(format!("'{key}' is missing")).into())
}

fn keys(table: &Table, allowed: &[&str]) -> Result<()> {
    table.keys().try_for_each(|key| known(key, allowed))
}

/// Refuses a key that is none, with the one that was meant.
fn known(key: &str, allowed: &[&str]) -> Result<()> {
    if allowed.contains(&key) {
        return Ok(());
    }
    let nearest = text::meant(key, allowed);
    Err(Usage(format!("'{key}' is no key of an edit file{nearest}")).into())
}

/// A value as it would be typed.
fn in_words(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), Into::into)
}
