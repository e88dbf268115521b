//! Limits that results must keep to, so that a script can accept or refuse.

use std::io::{self, Write};
use std::str::FromStr;

use clap::Args;
use serde_json::Value;
use tonemap_core::Error;

use crate::output::{Status, Usage};
use crate::text;

/// Limits that must be met.
#[derive(Args, Clone)]
#[command(next_help_heading = "Limits")]
pub(crate) struct LimitArgs {
    /// What must hold of a key of the result, or the exit status is 3: cents<3. Keys in cents are compared without their sign.
    /// Given more than once, all must hold
    #[arg(long = "require", value_name = "KEY<VALUE")]
    limits: Vec<Limit>,
}

/// A limit as typed: `cents<3`, `harmonic_to_noise_db>=30`.
#[derive(Debug, Clone, PartialEq)]
struct Limit {
    key: String,
    below: bool,
    inclusive: bool,
    value: f64,
}

impl FromStr for Limit {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let read = || {
            let place = text.find(['<', '>'])?;
            let (key, rest) = text.split_at(place);
            let below = rest.starts_with('<');
            let rest = &rest[1..];
            let (inclusive, number) = match rest.strip_prefix('=') {
                Some(number) => (true, number),
                None => (false, rest),
            };
            let value: f64 = number.trim().parse().ok().filter(|value: &f64| value.is_finite())?;
            let key = key.trim().to_string();
            (!key.is_empty()).then_some(Self { key, below, inclusive, value })
        };
        read().ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a limit",
            forms: "cents<3 or harmonic_to_noise_db>=30, in the unit that the key names",
        })
    }
}

impl Limit {
    /// What is wrong with a row, if anything is.
    fn missed(&self, row: &Value) -> Option<String> {
        let Some(value) = find(row, &self.key).and_then(Value::as_f64) else {
            return Some(format!("{} is not known", self.key));
        };
        let compared = if self.key.ends_with("cents") { value.abs() } else { value };
        let holds = match (self.below, self.inclusive) {
            (true, false) => compared < self.value,
            (true, true) => compared <= self.value,
            (false, false) => compared > self.value,
            (false, true) => compared >= self.value,
        };
        (!holds).then(|| format!("{} is {}", self.key, text::number(value, 3)))
    }

    fn words(&self) -> String {
        let sign = match (self.below, self.inclusive) {
            (true, false) => "<",
            (true, true) => "<=",
            (false, false) => ">",
            (false, true) => ">=",
        };
        format!("{}{sign}{}", self.key, self.value)
    }
}

/// The value under a key, or under its parts with dots between them.
fn find<'a>(row: &'a Value, key: &str) -> Option<&'a Value> {
    row.get(key).or_else(|| key.split('.').try_fold(row, |value, part| value.get(part)))
}

impl LimitArgs {
    /// Compares rows, each with its name, and tells those that miss a limit. A key that no row has is wrong usage.
    pub(crate) fn check(&self, rows: &[(String, Value)], status: Status) -> anyhow::Result<Status> {
        let mut missed = false;
        for limit in &self.limits {
            if let Some((_, row)) =
                rows.first().filter(|_| rows.iter().all(|(_, row)| find(row, &limit.key).is_none()))
            {
                let known: Vec<&str> = (row.as_object().into_iter().flatten())
                    .filter(|(_, value)| value.is_number())
                    .map(|(key, _)| key.as_str())
                    .collect();
                return Err(Usage(format!(
                    "no result has a key '{}'; there are {}",
                    limit.key,
                    known.join(", ")
                ))
                .into());
            }
            for (name, row) in rows {
                if let Some(why) = limit.missed(row) {
                    missed = true;
                    // A standard error that cannot be written to leaves nothing to be done.
                    let _ = writeln!(
                        io::stderr(),
                        "tonemap: {name}: {why}, and {} is required.",
                        limit.words()
                    );
                }
            }
        }
        Ok(if missed && status == Status::Done { Status::Missed } else { status })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_read_and_compared() {
        let limit: Limit = "cents<3".parse().expect("a limit");
        let row =
            serde_json::json!({"cents": -2.5, "regions": {"whole": {"flux": 0.5}}, "b": null});
        assert_eq!(limit.missed(&row), None);
        let tight: Limit = "cents <= 2".parse().expect("a limit");
        assert_eq!(tight.missed(&row), Some("cents is −2.500".into()));
        let deep: Limit = "regions.whole.flux>0.4".parse().expect("a limit");
        assert_eq!(deep.missed(&row), None);
        let unknown: Limit = "b>0".parse().expect("a limit");
        assert_eq!(unknown.missed(&row), Some("b is not known".into()));
        let flat = serde_json::json!({"partials[2].level_db": -3.0});
        let of_flat: Limit = "partials[2].level_db>-4".parse().expect("a limit");
        assert_eq!(of_flat.missed(&flat), None);
        for wrong in ["cents", "cents<", "<3", "cents<x", "cents=3", "cents<inf"] {
            assert!(wrong.parse::<Limit>().is_err(), "{wrong}");
        }
    }
}
