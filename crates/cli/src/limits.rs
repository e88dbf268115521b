//! Limits that results must keep to, so that a script can accept or refuse.

use std::io::{self, Write};
use std::str::FromStr;

use clap::Args;
use tonemap_core::Error;
use tonemap_core::quantity::{Key, Quantity};

use crate::status::{Status, Usage};
use crate::text;

/// Limits that must be met.
#[derive(Args, Clone)]
#[command(next_help_heading = "Limits")]
pub(crate) struct LimitArgs {
    /// What must hold of a key of the result, or the exit status is 3: cents<3. Keys in cents are
    /// compared without their sign. Given more than once, all must hold
    #[arg(long = "require", value_name = "KEY<VALUE")]
    limits: Vec<Limit>,
}

/// A limit as typed: `cents<3`, `harmonic_to_noise_db>=30`.
#[derive(Debug, Clone, PartialEq)]
struct Limit {
    key: Key,
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
            Some(Self { key: key.parse().ok()?, below, inclusive, value })
        };
        read().ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a limit",
            forms: "cents<3 or harmonic_to_noise_db>=30, in the unit that the key names",
        })
    }
}

impl Limit {
    /// What is wrong with a result, if anything is.
    fn missed(&self, quantities: &[Quantity]) -> Option<String> {
        let Some(value) = self.find(quantities).and_then(|quantity| quantity.value) else {
            return Some(format!("{} is not known", self.key));
        };
        let is_deviation = self.key.field().ends_with("cents");
        let compared = if is_deviation { value.value.abs() } else { value.value };
        let holds = match (self.below, self.inclusive) {
            (true, false) => compared < self.value,
            (true, true) => compared <= self.value,
            (false, false) => compared > self.value,
            (false, true) => compared >= self.value,
        };
        (!holds).then(|| format!("{} is {}", self.key, text::number(value.value, 3)))
    }

    fn find<'q>(&self, quantities: &'q [Quantity]) -> Option<&'q Quantity> {
        quantities.iter().find(|quantity| quantity.key == self.key)
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

impl LimitArgs {
    /// Compares results, each with its name, and names those that miss a limit. A key that no
    /// result has is wrong usage. The numbers are listed only if there is a limit.
    pub(crate) fn check(
        &self,
        results: impl FnOnce() -> Vec<(String, Vec<Quantity>)>,
        status: Status,
    ) -> anyhow::Result<Status> {
        if self.limits.is_empty() {
            return Ok(status);
        }
        let results = results();
        let mut missed = false;
        for limit in &self.limits {
            if results.iter().all(|(_, quantities)| limit.find(quantities).is_none()) {
                let all = results.first().into_iter().flat_map(|(_, quantities)| quantities);
                let meant = meant(&limit.key, all);
                return Err(Usage(format!("no result has a key '{}'{meant}", limit.key)).into());
            }
            for (name, quantities) in &results {
                if let Some(why) = limit.missed(quantities) {
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

/// The key that was meant, as the end of a sentence.
fn meant<'q>(asked: &Key, known: impl Iterator<Item = &'q Quantity>) -> String {
    let asked = asked.to_string();
    let alike = |key: &String| strsim::jaro_winkler(key, &asked);
    let ends_alike =
        |key: &String| f64::from(u8::from(key.ends_with(&asked) || key.contains(&asked)));
    let nearest = known
        .map(|quantity| quantity.key.to_string())
        .max_by(|a, b| (ends_alike(a) + alike(a)).total_cmp(&(ends_alike(b) + alike(b))));
    nearest.map_or(String::new(), |key| format!("; did you mean '{key}'? --format json shows all"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_read_and_compared() {
        use tonemap_core::Measured;
        use tonemap_core::quantity::{Label, Unit};
        let label = Label::new("x", "x", Unit::One, 3);
        let quantity = |key: &str, value: Option<f64>| {
            let value = value.map(|value| Measured::new(value, f64::NAN));
            Quantity::new(key.parse().expect("a key"), &label, value)
        };
        let all = [
            quantity("cents", Some(-2.5)),
            quantity("regions.whole.flux", Some(0.5)),
            quantity("b", None),
            quantity("partials[2].level_db", Some(-3.0)),
        ];
        let missed = |limit: &str| limit.parse::<Limit>().expect("a limit").missed(&all);
        assert_eq!(missed("cents<3"), None);
        assert_eq!(missed("cents <= 2"), Some("cents is −2.500".into()));
        assert_eq!(missed("regions.whole.flux>0.4"), None);
        assert_eq!(missed("b>0"), Some("b is not known".into()));
        assert_eq!(missed("partials[2].level_db>-4"), None);
        for wrong in ["cents", "cents<", "<3", "cents<x", "cents=3", "cents<inf"] {
            assert!(wrong.parse::<Limit>().is_err(), "{wrong}");
        }
    }
}
