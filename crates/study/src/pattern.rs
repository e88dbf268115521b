//! Conditions read from file names.

use std::fmt;
use std::str::FromStr;

use crate::condition::Condition;
use crate::error::Error;

/// A file name with places for conditions, such as `bell-cut{cut}.wav`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// What comes before the first place.
    start: String,
    /// Name of each place, and what follows it.
    places: Vec<(String, String)>,
}

impl FromStr for Pattern {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let refuse = |reason| Error::Pattern { pattern: text.into(), reason };
        let mut parts = text.split('{');
        let start = parts.next().unwrap_or_default();
        if start.contains('}') {
            return Err(refuse("a } has no {"));
        }
        let mut places: Vec<(String, String)> = Vec::new();
        for part in parts {
            let (name, after) = part.split_once('}').ok_or_else(|| refuse("a { has no }"))?;
            if name.is_empty() || after.contains('}') {
                return Err(refuse("a place needs a name between { and }"));
            }
            if places.iter().any(|(other, _)| other == name) {
                return Err(refuse("a name stands twice"));
            }
            if places.last().is_some_and(|(_, between)| between.is_empty()) {
                return Err(refuse("two places need something between them"));
            }
            places.push((name.into(), after.into()));
        }
        if places.is_empty() {
            return Err(refuse("it has no place in braces"));
        }
        Ok(Self { start: start.into(), places })
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.start)?;
        self.places.iter().try_for_each(|(name, after)| write!(f, "{{{name}}}{after}"))
    }
}

impl Pattern {
    /// The conditions in a file name; `None` if it does not match. A place takes as little as it
    /// can.
    #[must_use]
    pub fn read(&self, file_name: &str) -> Option<Vec<(String, Condition)>> {
        let mut rest = file_name.strip_prefix(&self.start)?;
        let mut found = Vec::new();
        for (n, (name, after)) in self.places.iter().enumerate() {
            let is_last = n + 1 == self.places.len();
            let value = if is_last {
                rest.strip_suffix(after.as_str())?
            } else {
                &rest[..rest.find(after)?]
            };
            if value.is_empty() {
                return None;
            }
            rest = &rest[value.len() + after.len()..];
            found.push((name.clone(), Condition::read(value)));
        }
        Some(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn places_are_read() {
        let pattern: Pattern = "bell-cut{cut}-{strike}.wav".parse().expect("a pattern");
        let found = pattern.read("bell-cut12-soft.wav").expect("matches");
        assert_eq!(found[0], ("cut".into(), Condition::Number(12.0)));
        assert_eq!(found[1], ("strike".into(), Condition::Words("soft".into())));
        for other in ["bell-cut-soft.wav", "bell-cut1.wav", "flute.wav", "bell-cut1-.wav", ""] {
            assert_eq!(pattern.read(other), None, "{other}");
        }
    }

    #[test]
    fn patterns_that_cannot_work_are_refused() {
        for bad in ["bell.wav", "{}", "{a}{b}", "{a", "a}", "{a}-{a}", "{a}}"] {
            assert!(bad.parse::<Pattern>().is_err(), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn any_pattern_reads_any_name_without_harm(pattern in ".{0,20}", name in ".{0,20}") {
            if let Ok(pattern) = pattern.parse::<Pattern>() {
                let _ = pattern.read(&name);
            }
        }
    }
}
