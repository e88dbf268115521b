//! A number of a result, with all that is said of it: where it stands, its name, unit and decimals,
//! and its value.
//!
//! Every result lists its numbers ([`Quantities`]); whatever compares results, follows them over a
//! condition, sets limits to them or puts them on a page reads that list and nothing else.
//!
//! ```
//! use tonemap_core::quantity::{Key, Label, Quantity, Unit};
//! use tonemap_core::Measured;
//!
//! const FREQUENCY: Label = Label::new("frequency_hz", "frequency", Unit::Hertz, 4);
//! let third = Key::item("partials", 3).then(FREQUENCY.field);
//! let quantity = Quantity::new(third, &FREQUENCY, Some(Measured::new(660.1, 0.02)));
//! assert_eq!(quantity.key.to_string(), "partials[3].frequency_hz");
//! assert_eq!(quantity.key, "partials[3].frequency_hz".parse().unwrap());
//! ```

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::error::Error;
use crate::measured::Measured;

/// Where a number stands in a result: names from the result down, each perhaps with an item of a
/// list.
///
/// Written as in JSON, with items by their number: `f0_hz`, `partials[3].frequency_hz`, and bands
/// by their nominal frequency: `bands[31.5Hz].level_db`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key(Vec<Step>);

/// A name, and which item of the list of that name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Step {
    name: Cow<'static, str>,
    item: Option<Item>,
}

/// An item of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Item {
    /// By its own number, or by its place, from 1.
    Number(usize),
    /// By its frequency in millihertz.
    Frequency(u64),
}

/// An item on the way to a number: of which list, by the names down to it, and which.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListItem {
    /// Names down to the list, with dots between them.
    pub list: String,
    /// Which item.
    pub item: Item,
}

impl Key {
    /// A number right under the result; deeper ones have dots in their path.
    #[must_use]
    pub fn of(path: &'static str) -> Self {
        Self(Vec::new()).then(path)
    }

    /// An item of a list under the result.
    #[must_use]
    pub fn item(list: &'static str, number: usize) -> Self {
        Self(Vec::new()).then_item(list, number)
    }

    /// A band of a list under the result, by its nominal middle.
    #[must_use]
    pub fn band(list: &'static str, nominal_hz: f64) -> Self {
        let item = Some(Item::Frequency((1e3 * nominal_hz).round() as u64));
        Self(vec![Step { name: list.into(), item }])
    }

    /// What stands under this.
    #[must_use]
    pub fn then(mut self, path: &'static str) -> Self {
        self.0.extend(path.split('.').map(|name| Step { name: name.into(), item: None }));
        self
    }

    /// An item of a list under this.
    #[must_use]
    pub fn then_item(mut self, list: &'static str, number: usize) -> Self {
        self.0.push(Step { name: list.into(), item: Some(Item::Number(number)) });
        self
    }

    /// The same under a name.
    #[must_use]
    pub fn under(mut self, name: &'static str) -> Self {
        self.0.insert(0, Step { name: name.into(), item: None });
        self
    }

    /// The name of the number itself, which ends in its unit.
    #[must_use]
    pub fn field(&self) -> &str {
        self.0.last().map_or("", |step| &step.name)
    }

    /// The number of the item, if the key begins with one of this list.
    #[must_use]
    pub fn number_in(&self, list: &str) -> Option<usize> {
        match self.0.first()? {
            Step { name, item: Some(Item::Number(number)) } if name == list => Some(*number),
            _ => None,
        }
    }

    /// The same of another item of the list that it begins with.
    #[must_use]
    pub fn with_number(mut self, number: usize) -> Self {
        if let Some(Step { item: Some(item), .. }) = self.0.first_mut() {
            *item = Item::Number(number);
        }
        self
    }

    /// Names between the result and the number.
    #[must_use]
    pub fn depth(&self) -> usize {
        self.0.len().saturating_sub(1)
    }

    /// The items that it leads through, from the outermost, and the names below the last, which are
    /// none where the item is the number itself: `notes[2].rivals[1].f0_hz` leads through item 2 of
    /// `notes` and item 1 of `notes.rivals` to `f0_hz`.
    #[must_use]
    pub fn items(&self) -> (Vec<ListItem>, String) {
        let (mut items, mut path, mut below) = (Vec::new(), String::new(), String::new());
        for step in &self.0 {
            for names in [&mut path, &mut below] {
                names.push_str(if names.is_empty() { "" } else { "." });
                names.push_str(&step.name);
            }
            if let Some(item) = step.item {
                items.push(ListItem { list: path.clone(), item });
                below.clear();
            }
        }
        (items, below)
    }

    /// The key as the head of a column: `tristimulus_1`, `partials_3_frequency_hz`.
    #[must_use]
    pub fn column(&self) -> String {
        self.to_string().replace(['[', '.'], "_").replace(']', "")
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, step) in self.0.iter().enumerate() {
            f.write_str(if n > 0 { "." } else { "" })?;
            f.write_str(&step.name)?;
            match step.item {
                Some(Item::Number(number)) => write!(f, "[{number}]")?,
                Some(Item::Frequency(mhz)) => write!(f, "[{}Hz]", mhz as f64 / 1e3)?,
                None => (),
            }
        }
        Ok(())
    }
}

impl FromStr for Key {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let item = |text: &str| match text.strip_suffix("Hz") {
            Some(hz) => hz.parse().ok().map(|hz: f64| Item::Frequency((1e3 * hz).round() as u64)),
            None => text.parse().ok().map(Item::Number),
        };
        // A frequency may have a dot of its own.
        let (mut steps, mut rest) = (Vec::new(), text.trim());
        let read = || -> Option<Vec<Step>> {
            loop {
                let end = rest.find(['.', '[']).unwrap_or(rest.len());
                let (name, after) = rest.split_at(end);
                let (item, after) = match after.strip_prefix('[') {
                    Some(inner) => {
                        let (inner, after) = inner.split_once(']')?;
                        (Some(item(inner)?), after)
                    }
                    None => (None, after),
                };
                if name.is_empty() {
                    return None;
                }
                steps.push(Step { name: name.to_string().into(), item });
                if after.is_empty() {
                    return Some(steps);
                }
                rest = after.strip_prefix('.')?;
            }
        };
        read().map(Self).ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a key of a result",
            forms: "f0_hz, partials[2].frequency_hz or bands[31.5Hz].level_db",
        })
    }
}

impl Serialize for Key {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Key {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// The unit of a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// A pure number.
    One,
    /// Hz.
    Hertz,
    /// Seconds.
    Second,
    /// Hundredths of an equal semitone.
    Cent,
    /// A level in dB, re full scale or, where the channel is calibrated, re 20 µPa.
    Level,
    /// A level re full scale, calibrated or not.
    FullScale,
    /// A ratio in dB.
    Decibel,
    /// dB per octave.
    DecibelPerOctave,
    /// dB per second.
    DecibelPerSecond,
    /// Cents per second.
    CentPerSecond,
    /// Parts per million.
    PartPerMillion,
    /// Per cent.
    Percent,
    /// Radians.
    Radian,
    /// Degrees of an angle.
    Degree,
    /// Metres.
    Metre,
    /// Metres per second.
    MetrePerSecond,
    /// Fluctuation strength: that of a tone of 1 kHz and 60 dB, all of it modulated at 4 Hz, is 1.
    Vacil,
    /// Roughness: that of the same tone modulated at 70 Hz is 1.
    Asper,
    /// Loudness: that of a tone of 1 kHz and 40 dB is 1.
    Sone,
    /// Loudness level: that of a tone of 1 kHz is its level in dB.
    Phon,
    /// Sharpness: that of a critical band of noise at 1 kHz and 60 dB is 1.
    Acum,
    /// Critical-band rate.
    Bark,
    /// Programme loudness re full scale.
    Lufs,
    /// A difference of programme loudness.
    LoudnessUnit,
}

impl Unit {
    /// The unit of a difference of two of its numbers.
    #[must_use]
    pub fn of_difference(self) -> Self {
        match self {
            Self::Level | Self::FullScale => Self::Decibel,
            Self::Lufs => Self::LoudnessUnit,
            other => other,
        }
    }

    /// Its symbol; empty for a pure number.
    #[must_use]
    pub fn symbol(self) -> &'static str {
        match self {
            Self::One => "",
            Self::Hertz => "Hz",
            Self::Second => "s",
            Self::Cent => "cents",
            Self::Level | Self::Decibel => "dB",
            Self::FullScale => "dBFS",
            Self::DecibelPerOctave => "dB/octave",
            Self::DecibelPerSecond => "dB/s",
            Self::CentPerSecond => "cents/s",
            Self::PartPerMillion => "ppm",
            Self::Percent => "%",
            Self::Radian => "rad",
            Self::Degree => "°",
            Self::Metre => "m",
            Self::MetrePerSecond => "m/s",
            Self::Vacil => "vacil",
            Self::Asper => "asper",
            Self::Sone => "sone",
            Self::Phon => "phon",
            Self::Acum => "acum",
            Self::Bark => "Bark",
            Self::Lufs => "LUFS",
            Self::LoudnessUnit => "LU",
        }
    }
}

/// What a number is called, and how it is printed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Label {
    /// Its own name in JSON and CSV, with its unit last.
    pub field: &'static str,
    /// Its name in words.
    pub name: &'static str,
    /// Its unit.
    pub unit: Unit,
    /// Decimals that are worth printing.
    pub decimals: usize,
    /// Whether an uncertainty belongs to it, under the same key with `_u` behind it.
    pub has_u: bool,
}

impl Label {
    /// A number without an uncertainty.
    #[must_use]
    pub const fn new(field: &'static str, name: &'static str, unit: Unit, decimals: usize) -> Self {
        Self { field, name, unit, decimals, has_u: false }
    }

    /// The same with one.
    #[must_use]
    pub const fn with_u(self) -> Self {
        Self { has_u: true, ..self }
    }
}

/// A number that each item of a list has.
#[derive(Debug)]
pub struct Field<T> {
    /// What it is called.
    pub label: Label,
    of: Of<T>,
}

/// Its value in an item; `None` where it is not known.
#[derive(Debug)]
enum Of<T> {
    /// With an uncertainty, which stands under the same key with `_u` behind it.
    Measured(fn(&T) -> Option<Measured>),
    /// By itself.
    Plain(fn(&T) -> Option<f64>),
}

impl<T> Field<T> {
    /// A number with an uncertainty.
    #[must_use]
    pub const fn measured(
        field: &'static str,
        name: &'static str,
        unit: Unit,
        decimals: usize,
        of: fn(&T) -> Option<Measured>,
    ) -> Self {
        Self { label: Label::new(field, name, unit, decimals).with_u(), of: Of::Measured(of) }
    }

    /// A number without.
    #[must_use]
    pub const fn plain(
        field: &'static str,
        name: &'static str,
        unit: Unit,
        decimals: usize,
        of: fn(&T) -> Option<f64>,
    ) -> Self {
        Self { label: Label::new(field, name, unit, decimals), of: Of::Plain(of) }
    }

    /// Its value in an item.
    #[must_use]
    pub fn value(&self, item: &T) -> Option<Measured> {
        match self.of {
            Of::Measured(of) => of(item),
            Of::Plain(of) => of(item).map(|value| Measured::new(value, f64::NAN)),
        }
    }
}

/// A number of a result.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Quantity {
    /// Where it stands.
    pub key: Key,
    /// Its name in words.
    pub name: Cow<'static, str>,
    /// Its unit.
    pub unit: Unit,
    /// Decimals that are worth printing.
    pub decimals: usize,
    /// Whether an uncertainty belongs to it.
    pub has_u: bool,
    /// Its value; `None` where it is not known.
    pub value: Option<Measured>,
}

impl Quantity {
    /// The number under a key that has the name of its label.
    #[must_use]
    pub fn new(key: Key, label: &Label, value: Option<Measured>) -> Self {
        Self {
            key,
            name: label.name.into(),
            unit: label.unit,
            decimals: label.decimals,
            has_u: label.has_u,
            value: value.filter(|value| value.value.is_finite()),
        }
    }

    /// A number right under the result, by its label.
    #[must_use]
    pub fn top(label: &Label, value: Option<Measured>) -> Self {
        Self::new(Key::of(label.field), label, value)
    }

    /// The numbers of an item of a list, whose name stands before theirs.
    pub fn of_item<T>(
        key: &Key,
        name: &str,
        fields: &[Field<T>],
        item: &T,
    ) -> impl Iterator<Item = Self> {
        fields.iter().map(move |field| Self {
            name: format!("{name}, {}", field.label.name).into(),
            ..Self::new(key.clone().then(field.label.field), &field.label, field.value(item))
        })
    }

    /// Key, name and unit as keys of their own.
    pub(crate) fn identity<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeMap;
        let mut map = serializer.serialize_map(Some(3))?;
        map.serialize_entry("key", &self.key)?;
        map.serialize_entry("name", &self.name)?;
        map.serialize_entry("unit", self.unit.symbol())?;
        map.end()
    }

    /// Its name with its unit, as the title of a column or an axis.
    #[must_use]
    pub fn title(&self) -> String {
        match self.unit.symbol() {
            "" => self.name.to_string(),
            symbol => format!("{}, {symbol}", self.name),
        }
    }
}

/// What lists its numbers.
pub trait Quantities {
    /// All numbers of the result but those of its curves and tracks, those that are not known too.
    fn quantities(&self) -> Vec<Quantity>;
}

/// A value whose uncertainty is not known.
#[must_use]
pub fn bare(value: f64) -> Option<Measured> {
    Some(Measured::new(value, f64::NAN))
}

/// A value with its uncertainty, either of which may be unknown.
#[must_use]
pub fn pair(value: Option<f64>, u: Option<f64>) -> Option<Measured> {
    value.map(|value| Measured::new(value, u.unwrap_or(f64::NAN)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_as_they_are_written() {
        let deep = Key::of("regions.attack.median").then("centroid_hz");
        let band = Key::band("bands", 31.5).then("level_db");
        let nested = Key::item("takes", 2).then_item("targets", 1).then("cents").under("other");
        for (key, text) in [
            (deep, "regions.attack.median.centroid_hz"),
            (band, "bands[31.5Hz].level_db"),
            (nested, "other.takes[2].targets[1].cents"),
            (Key::item("tristimulus", 3), "tristimulus[3]"),
        ] {
            assert_eq!(key.to_string(), text);
            assert_eq!(text.parse::<Key>().expect("a key"), key);
        }
        for wrong in ["", ".", "a.", "a[", "a[x]", "a[1", "a[1]b", "[1]"] {
            assert!(wrong.parse::<Key>().is_err(), "{wrong}");
        }
        assert_eq!(Key::item("tristimulus", 3).column(), "tristimulus_3");
    }

    #[test]
    fn items_are_known_by_their_number() {
        let third = Key::item("partials", 3).then("frequency_hz");
        assert_eq!((third.number_in("partials"), third.number_in("notes")), (Some(3), None));
        assert_eq!(third.with_number(4).to_string(), "partials[4].frequency_hz");
        assert_eq!(Key::of("f0_hz").number_in("partials"), None);
    }
}
