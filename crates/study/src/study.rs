//! The study and its file.

use std::collections::{BTreeMap, HashSet};
use std::path::{Component, Path};

use serde::Deserialize;
use toml_edit::{
    Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike, Value, value,
};

use crate::condition::{Condition, Wanted};
use crate::error::Error;

/// Name of the file in the folder of a study.
pub const FILE_NAME: &str = "study.toml";

/// Likeness (Jaro-Winkler, 0 to 1) from which an unknown key is taken for a known one.
const LIKE: f64 = 0.75;
/// Pressure that levels are referred to, in pascal (ISO 1683).
const REFERENCE_PA: f64 = 20e-6;

/// A study, and the text it was read from.
#[derive(Debug, Clone)]
pub struct Study {
    /// Heading.
    pub title: String,
    /// Frequency of A4 in Hz.
    pub reference_pitch_hz: f64,
    /// Name of the temperament.
    pub temperament: String,
    /// Microphones by name, each with its line.
    pub microphones: BTreeMap<String, Microphone>,
    /// Takes, in the order of the file.
    pub takes: Vec<Take>,
    document: DocumentMut,
}

#[derive(Deserialize)]
struct Content {
    #[serde(default)]
    title: String,
    #[serde(default = "usual_pitch")]
    reference_pitch_hz: f64,
    #[serde(default = "usual_temperament")]
    temperament: String,
    #[serde(default)]
    microphones: BTreeMap<String, Microphone>,
    #[serde(default)]
    takes: Vec<Take>,
}

fn usual_pitch() -> f64 {
    440.0
}

fn usual_temperament() -> String {
    "equal".into()
}

/// A microphone with its line, up to full scale.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
pub struct Microphone {
    /// Sensitivity in mV/Pa.
    pub sensitivity_mv_per_pa: Option<f64>,
    /// Peak voltage at full scale.
    pub full_scale_v: Option<f64>,
    /// Level of a full-scale sine in dB re 20 µPa. It is what counts, if it is there.
    pub full_scale_db: Option<f64>,
    /// How it was calibrated.
    pub calibrated: Option<String>,
    /// Its frequency response: by how much it reads too high, in dB, at frequencies in Hz.
    #[serde(default)]
    pub response_db: Vec<(f64, f64)>,
}

/// A take of a study.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
pub struct Take {
    /// Its name in the study.
    pub name: String,
    /// Its file, in the folder.
    pub file: String,
    /// Hash of the file when it was added.
    pub blake3: Option<String>,
    /// Its channels, from the first.
    #[serde(default)]
    pub channels: Vec<Channel>,
    /// The note expected.
    pub note: Option<String>,
    /// Takes that belong together.
    pub group: Option<String>,
    /// What was varied.
    #[serde(default)]
    pub conditions: BTreeMap<String, Condition>,
}

/// A channel of a take.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
pub struct Channel {
    /// Its name.
    pub name: String,
    /// The microphone, by its name in the study.
    pub microphone: Option<String>,
}

impl Microphone {
    /// Level of a full-scale sine in dB re 20 µPa: as calibrated, or from the sensitivity s and the
    /// peak voltage U at full scale, 20 lg (U / (√2·s·20 µPa)).
    #[must_use]
    pub fn full_scale_level_db(&self) -> Option<f64> {
        self.full_scale_db.or_else(|| {
            let (sensitivity, voltage) = (self.sensitivity_mv_per_pa?, self.full_scale_v?);
            let pressure = voltage / std::f64::consts::SQRT_2 / (sensitivity / 1000.0);
            Some(20.0 * (pressure / REFERENCE_PA).log10())
        })
    }
}

impl Take {
    /// Whether the take was made under a condition; `group` and `note` count as conditions.
    #[must_use]
    pub fn meets(&self, wanted: &Wanted) -> bool {
        match (wanted.name.as_str(), self.conditions.get(&wanted.name)) {
            (_, Some(value)) => value.is_same(&wanted.value),
            ("group", None) => self.group.as_deref() == Some(&wanted.value.to_string()),
            ("note", None) => self.note.as_deref() == Some(&wanted.value.to_string()),
            _ => false,
        }
    }
}

impl Study {
    /// The text of a new study.
    #[must_use]
    pub fn new_text(title: &str) -> String {
        let title = value(title);
        format!(
            "# A study of Tone Map. It may be edited by hand; comments and order are kept.\n\
             title = {title}\n\
             reference_pitch_hz = 440.0 # of A4\n\
             temperament = \"equal\"\n"
        )
    }

    /// Reads the text of a study.
    pub fn read(text: &str) -> Result<Self, Error> {
        let document: DocumentMut = text.parse().map_err(|error| syntax(&error))?;
        check_keys(&document)?;
        let content: Content =
            toml_edit::de::from_document(document.clone()).map_err(|error| syntax(&error))?;
        let Content { title, reference_pitch_hz, temperament, microphones, takes } = content;
        let study = Self { title, reference_pitch_hz, temperament, microphones, takes, document };
        study.check()?;
        Ok(study)
    }

    /// The text of the study, with its comments.
    #[must_use]
    pub fn text(&self) -> String {
        self.document.to_string()
    }

    fn check(&self) -> Result<(), Error> {
        let refuse = |place: &str, key, given: f64, allowed| {
            let given = given.to_string();
            Err(Error::Value { place: place.into(), key, given, allowed })
        };
        if !(100.0..=2000.0).contains(&self.reference_pitch_hz) {
            let allowed = "a frequency from 100 to 2000 Hz";
            return refuse("the study", "reference_pitch_hz", self.reference_pitch_hz, allowed);
        }
        for (name, microphone) in &self.microphones {
            let place = format!("microphone '{name}'");
            let positive = [
                ("sensitivity_mv_per_pa", microphone.sensitivity_mv_per_pa),
                ("full_scale_v", microphone.full_scale_v),
            ];
            for (key, number) in positive {
                if let Some(number) = number.filter(|number| !(1e-6..=1e6).contains(number)) {
                    return refuse(&place, key, number, "a number from 0.000001 to 1000000");
                }
            }
            let is_level = |db: &f64| (-200.0..=400.0).contains(db);
            if let Some(db) = microphone.full_scale_db.filter(|db| !is_level(db)) {
                let allowed = "a level from -200 to 400 dB re 20 µPa";
                return refuse(&place, "full_scale_db", db, allowed);
            }
            for (hz, db) in &microphone.response_db {
                if !(1e-3..=1e6).contains(hz) {
                    let allowed = "a list of [frequency, dB], frequencies from 0.001 to 1000000 Hz";
                    return refuse(&place, "response_db", *hz, allowed);
                }
                if !(-100.0..=100.0).contains(db) {
                    let allowed = "a list of [frequency, dB], of -100 to 100 dB";
                    return refuse(&place, "response_db", *db, allowed);
                }
            }
        }
        let mut names = HashSet::new();
        for take in &self.takes {
            check_take(take, &self.microphones)?;
            if !names.insert(&take.name) {
                return Err(Error::SameName { name: take.name.clone() });
            }
        }
        Ok(())
    }

    /// The take with a name.
    #[must_use]
    pub fn take(&self, name: &str) -> Option<&Take> {
        self.takes.iter().find(|take| take.name == name)
    }

    /// The take whose name is most like `name`, if one is.
    #[must_use]
    pub fn nearest_take(&self, name: &str) -> Option<&str> {
        nearest(name, self.takes.iter().map(|take| take.name.as_str()))
    }

    /// Adds a take at the end.
    pub fn add(&mut self, take: Take) -> Result<(), Error> {
        check_take(&take, &self.microphones)?;
        if self.take(&take.name).is_some() {
            return Err(Error::SameName { name: take.name });
        }
        let mut table = Table::new();
        table["name"] = value(&take.name);
        table["file"] = value(&take.file);
        let words = [("blake3", &take.blake3), ("note", &take.note), ("group", &take.group)];
        for (key, text) in words {
            if let Some(text) = text {
                table[key] = value(text);
            }
        }
        if !take.channels.is_empty() {
            table["channels"] = value(take.channels.iter().map(channel_table).collect::<Array>());
        }
        if !take.conditions.is_empty() {
            let mut conditions = InlineTable::new();
            for (name, condition) in &take.conditions {
                conditions.insert(name, condition_value(condition));
            }
            table["conditions"] = value(conditions);
        }
        let takes =
            self.document.entry("takes").or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
        let Some(takes) = takes.as_array_of_tables_mut() else {
            let allowed = "written as [[takes]], a take each, so that more can be added";
            let given = "one list".into();
            return Err(Error::Value { place: "the study".into(), key: "takes", given, allowed });
        };
        takes.push(table);
        self.takes.push(take);
        Ok(())
    }

    /// Keeps what is known of a microphone; what is `None` stays as it was.
    pub fn set_microphone(&mut self, name: &str, known: &Microphone) -> Result<(), Error> {
        let microphones = self.document.entry("microphones").or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        });
        let entry = microphones
            .as_table_like_mut()
            .map(|table| table.entry(name).or_insert(Item::Table(Table::new())))
            .and_then(Item::as_table_like_mut);
        let Some(table) = entry else {
            return Err(Error::Syntax(format!("microphones.{name} is not a table")));
        };
        let numbers = [
            ("sensitivity_mv_per_pa", known.sensitivity_mv_per_pa),
            ("full_scale_v", known.full_scale_v),
            ("full_scale_db", known.full_scale_db),
        ];
        for (key, number) in numbers {
            if let Some(number) = number {
                set(table, key, number.into());
            }
        }
        if let Some(words) = &known.calibrated {
            set(table, "calibrated", words.into());
        }
        *self = Self::read(&self.text())?;
        Ok(())
    }
}

/// Sets a value, and keeps the comment behind it.
fn set(table: &mut dyn TableLike, key: &str, mut new: Value) {
    if let Some(old) = table.get(key).and_then(Item::as_value) {
        *new.decor_mut() = old.decor().clone();
    }
    table.insert(key, Item::Value(new));
}

fn channel_table(channel: &Channel) -> InlineTable {
    let mut table = InlineTable::new();
    table.insert("name", channel.name.as_str().into());
    if let Some(microphone) = &channel.microphone {
        table.insert("microphone", microphone.as_str().into());
    }
    table
}

fn condition_value(condition: &Condition) -> Value {
    match condition {
        // Whole numbers are written without a point.
        Condition::Number(number) if number.fract() == 0.0 && number.abs() < 1e15 => {
            Value::from(*number as i64)
        }
        Condition::Number(number) => Value::from(*number),
        Condition::Words(words) => Value::from(words.as_str()),
    }
}

fn check_take(take: &Take, microphones: &BTreeMap<String, Microphone>) -> Result<(), Error> {
    if take.name.trim().is_empty() {
        let place = format!("the take of {}", take.file);
        let allowed = "a name that is not empty";
        return Err(Error::Value { place, key: "name", given: "empty".into(), allowed });
    }
    let unreadable = |text: &&str| text.contains(char::is_control);
    let words = [&take.name, &take.file].map(String::as_str).into_iter();
    let words = words.chain(take.group.as_deref());
    if let Some(text) = words.into_iter().find(unreadable) {
        return Err(Error::Value {
            place: format!("take '{}'", take.name.escape_debug()),
            key: "name, file or group",
            given: text.escape_debug().to_string(),
            allowed: "without control characters; rename it",
        });
    }
    check_channel_names(take)?;
    for (name, condition) in &take.conditions {
        if matches!(condition, Condition::Number(number) if !number.is_finite()) {
            return Err(Error::Value {
                place: format!("take '{}', condition '{name}'", take.name),
                key: "its value",
                given: condition.to_string(),
                allowed: "a finite number, or words",
            });
        }
    }
    let is_inside = |part| matches!(part, Component::Normal(_) | Component::CurDir);
    if take.file.is_empty() || !Path::new(&take.file).components().all(is_inside) {
        return Err(Error::Outside { file: take.file.clone() });
    }
    let named = take.channels.iter().filter_map(|channel| channel.microphone.as_ref());
    match named.into_iter().find(|name| !microphones.contains_key(*name)) {
        Some(name) => {
            Err(Error::NoMicrophone { take: take.name.clone(), microphone: name.clone() })
        }
        None => Ok(()),
    }
}

/// Channels are named on the command line: a name must be no number, no other channel's name and
/// none of the words for several.
fn check_channel_names(take: &Take) -> Result<(), Error> {
    for (n, channel) in take.channels.iter().enumerate() {
        let name = &channel.name;
        let is_name = name.starts_with(char::is_alphabetic) && !name.contains(char::is_control);
        let is_taken = ["all", "mean", "mean-energy"].contains(&name.as_str())
            || take.channels[..n].iter().any(|other| other.name == *name);
        if !is_name || is_taken {
            return Err(Error::Value {
                place: format!("take '{}'", take.name),
                key: "the name of a channel",
                given: format!("'{}'", name.escape_debug()),
                allowed: "a word that begins with a letter, is no other channel's, and is not \
                          'all', 'mean' or 'mean-energy'",
            });
        }
    }
    Ok(())
}

/// Finds keys that mean nothing.
fn check_keys(document: &DocumentMut) -> Result<(), Error> {
    const STUDY: &[&str] = &["title", "reference_pitch_hz", "temperament", "microphones", "takes"];
    const MICROPHONE: &[&str] =
        &["sensitivity_mv_per_pa", "full_scale_v", "full_scale_db", "calibrated", "response_db"];
    const TAKE: &[&str] = &["name", "file", "blake3", "channels", "note", "group", "conditions"];
    const CHANNEL: &[&str] = &["name", "microphone"];
    check_table("the study", document.as_table(), STUDY)?;
    let microphones = document.get("microphones").and_then(Item::as_table_like);
    for (name, microphone) in microphones.into_iter().flat_map(TableLike::iter) {
        if let Some(table) = microphone.as_table_like() {
            check_table(&format!("microphone '{name}'"), table, MICROPHONE)?;
        }
    }
    for (number, take) in (1..).zip(tables(document.get("takes"))) {
        let name = take.get("name").and_then(Item::as_str);
        let place = name.map_or(format!("take {number}"), |name| format!("take '{name}'"));
        check_table(&place, take, TAKE)?;
        for channel in tables(take.get("channels")) {
            check_table(&format!("a channel of {place}"), channel, CHANNEL)?;
        }
    }
    Ok(())
}

/// The tables of a list, however it is written.
fn tables(item: Option<&Item>) -> Vec<&dyn TableLike> {
    match item {
        Some(Item::ArrayOfTables(list)) => {
            list.iter().map(|table| table as &dyn TableLike).collect()
        }
        Some(Item::Value(Value::Array(list))) => list
            .iter()
            .filter_map(|entry| entry.as_inline_table().map(|table| table as &dyn TableLike))
            .collect(),
        _ => Vec::new(),
    }
}

fn check_table(place: &str, table: &dyn TableLike, known: &[&str]) -> Result<(), Error> {
    for (key, _) in table.iter() {
        if !known.contains(&key) {
            return Err(Error::UnknownKey {
                place: place.into(),
                key: key.into(),
                nearest: nearest(key, known.iter().copied()).map(Into::into),
                known: known.join(", "),
            });
        }
    }
    Ok(())
}

/// The one that is most like `given`, if one is.
fn nearest<'a>(given: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    known
        .map(|name| (strsim::jaro_winkler(given, name), name))
        .filter(|(likeness, _)| *likeness >= LIKE)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

/// What is wrong with the text, on one line.
fn syntax(error: &impl ToString) -> Error {
    let text = error.to_string();
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    // The library draws the place over several lines; the first and the last say what and where.
    match lines[..] {
        [first, .., last] => Error::Syntax(format!("{first}: {last}")),
        [only] => Error::Syntax(only.into()),
        [] => Error::Syntax("it is not TOML".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const TEXT: &str = r#"# The bell of Alder Hall
title = "Bell"          # working title
temperament = "equal"
reference_pitch_hz = 442.0

[microphones.near]
full_scale_db = 118.0   # last spring

# before the lathe
[[takes]]
file = "bell-cut0.wav"
name = "bell-cut0"
channels = [{ name = "rim", microphone = "near" }]
conditions = { cut = 0, distance = "1.2 m" }
"#;

    #[test]
    fn a_study_is_read_and_its_comments_stay_when_it_is_changed() {
        let mut study = Study::read(TEXT).expect("a study");
        assert_eq!((study.title.as_str(), study.reference_pitch_hz), ("Bell", 442.0));
        assert_eq!(study.takes[0].channels[0].microphone.as_deref(), Some("near"));
        assert!(study.takes[0].meets(&"distance=1.20m".parse().expect("a condition")));
        let take = Take {
            name: "bell-cut1".into(),
            file: "bell-cut1.wav".into(),
            note: Some("C5".into()),
            conditions: [("cut".to_string(), Condition::Number(1.0))].into(),
            ..Take::default()
        };
        study.add(take.clone()).expect("added");
        assert_eq!(study.add(take), Err(Error::SameName { name: "bell-cut1".into() }));
        let known = Microphone { full_scale_db: Some(117.5), ..Microphone::default() };
        study.set_microphone("near", &known).expect("set");
        study.set_microphone("far", &known).expect("set");
        let text = study.text();
        for kept in ["# The bell of", "# working title", "# before the lathe", "# last spring"] {
            assert!(text.contains(kept), "{kept} in\n{text}");
        }
        assert!(text.contains("full_scale_db = 117.5   # last spring"), "{text}");
        assert!(text.contains("conditions = { cut = 1 }"), "{text}");
        let again = Study::read(&text).expect("still a study");
        assert_eq!(again.takes, study.takes);
        assert_eq!(again.microphones["far"].full_scale_level_db(), Some(117.5));
        assert!(Study::read(&Study::new_text("A \"new\"\nstudy")).is_ok());
    }

    #[test]
    fn sensitivity_and_voltage_give_the_level_of_full_scale() {
        // 1 Pa is 94 dB; 10 mV/Pa and a peak of √2 V: 100 Pa RMS, 134 dB.
        let microphone = Microphone {
            sensitivity_mv_per_pa: Some(10.0),
            full_scale_v: Some(std::f64::consts::SQRT_2),
            ..Microphone::default()
        };
        let level = microphone.full_scale_level_db().expect("known");
        assert!((level - 133.979_400_086_720_37).abs() < 1e-9, "{level}");
    }

    #[test]
    fn slips_are_told_with_what_was_meant() {
        let refused = |from: &str, to: &str| -> String {
            Study::read(&TEXT.replace(from, to)).expect_err("refused").to_string()
        };
        assert_eq!(
            refused("temperament", "temprament"),
            "the study has the unknown key 'temprament'; did you mean 'temperament'?"
        );
        assert_eq!(
            refused("conditions", "condition"),
            "take 'bell-cut0' has the unknown key 'condition'; did you mean 'conditions'?"
        );
        assert!(refused("full_scale_db", "xyz").contains("known are sensitivity_mv_per_pa,"));
        assert!(refused("\"near\" }]", "\"naer\" }]").contains("add [microphones.naer]"));
        assert!(refused("\"bell-cut0.wav\"", "\"../bell.wav\"").contains("outside the folder"));
        assert!(refused("\"bell-cut0.wav\"", "\"/bell.wav\"").contains("outside the folder"));
        assert!(refused("442.0", "-1").contains("reference_pitch_hz is -1"));
        assert!(refused("442.0", "\"A\"").contains("it cannot be read"));
        assert!(refused("442.0", "1e300").contains("from 100 to 2000 Hz"));
        assert!(refused("118.0", "1e308").contains("from -200 to 400 dB"));
        assert!(refused("cut = 0", "cut = nan").contains("'cut': its value is NaN"));
        assert!(refused("cut = 0", "cut = inf").contains("a finite number"));
        for wrong in ["all", "mean", "2", ""] {
            let name = format!("name = \"{wrong}\", microphone");
            let said = refused("name = \"rim\", microphone", &name);
            assert!(said.contains("the name of a channel is"), "{said}");
        }
        assert!(
            refused("file = \"bell-cut0.wav\"", "file = \"a\\u001bb\"")
                .contains("control characters")
        );
        let broken = refused("title =", "title");
        assert!(!broken.contains('\n') && broken.contains("line 2"), "{broken}");
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[a-z\\[\\]{}=\"., \n0-9_]{0,200}") {
            let _ = Study::read(&text);
        }
    }
}
