//! Conditions: what was varied between takes.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::error::Error;

/// The value of a condition: a number, or words; words that begin with a number have a unit, as
/// `1.2 m`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Condition {
    /// A number without a unit.
    Number(f64),
    /// Words, or a number with its unit.
    Words(String),
}

impl Condition {
    /// A condition from what was typed or stands in a file name.
    #[must_use]
    pub fn read(text: &str) -> Self {
        let text = text.trim();
        match text.parse::<f64>() {
            Ok(number) if number.is_finite() => Self::Number(number),
            _ => Self::Words(text.into()),
        }
    }

    /// Its number and unit, if it has a number.
    #[must_use]
    pub fn quantity(&self) -> Option<(f64, &str)> {
        match self {
            Self::Number(number) => Some((*number, "")),
            Self::Words(words) => {
                let is_number = |c: char| c.is_ascii_digit() || "+-.".contains(c);
                let end = words.find(|c| !is_number(c)).unwrap_or(words.len());
                let (number, unit) = words.split_at(end);
                number.parse().ok().map(|number| (number, unit.trim()))
            }
        }
    }

    /// Whether both say the same: `1.2 m` and `1.20m` do.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        match (self.quantity(), other.quantity()) {
            (Some(a), Some(b)) => a == b,
            (None, None) => self.to_string() == other.to_string(),
            _ => false,
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => write!(f, "{number}"),
            Self::Words(words) => f.write_str(words),
        }
    }
}

/// A condition with its name, as typed: `cut=3`.
#[derive(Debug, Clone, PartialEq)]
pub struct Wanted {
    /// Name of the condition.
    pub name: String,
    /// Its value.
    pub value: Condition,
}

impl FromStr for Wanted {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text.split_once('=') {
            Some((name, value)) if !name.trim().is_empty() && !value.trim().is_empty() => {
                Ok(Self { name: name.trim().into(), value: Condition::read(value) })
            }
            _ => Err(Error::Condition { given: text.into() }),
        }
    }
}

impl fmt::Display for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.name, self.value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_units_and_words_compare_as_they_read() {
        let same = |a: &str, b: &str| Condition::read(a).is_same(&Condition::read(b));
        assert!(same("3", "3.0") && same("1.2 m", "1.20m") && same("both", " both "));
        assert!(!same("3", "3 m") && !same("3", "both") && !same("left", "right"));
        assert_eq!(Condition::read("-4.5 dB").quantity(), Some((-4.5, "dB")));
        assert_eq!(Condition::read("nan").quantity(), None);
    }

    #[test]
    fn a_condition_needs_a_name_and_a_value() {
        let cut: Wanted = "cut = 3".parse().expect("a condition");
        assert_eq!((cut.name.as_str(), cut.value), ("cut", Condition::Number(3.0)));
        for bad in ["", "cut", "=3", "cut="] {
            assert!(bad.parse::<Wanted>().is_err(), "{bad}");
        }
    }
}
