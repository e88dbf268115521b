//! A unison beside another take: one of its strings alone, or the same strings at another time.

use serde::Serialize;

use super::Unison;
use crate::measured::{Measured, flat};
use crate::quantity::{Label, Quantities, Quantity, Unit};
use crate::significance::judged;

/// What a string recorded alone says of a unison.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Alone {
    /// Which string of the unison it is, the strongest being 1.
    pub string: usize,
    /// How far that string lies in the unison from where it lies alone, in cents.
    #[serde(flatten, serialize_with = "flat::moved_cents")]
    pub moved_cents: Option<Measured>,
    /// How far the other string lies above it, in cents; of three the farther; `None` where one is
    /// heard.
    #[serde(flatten, serialize_with = "flat::other_cents")]
    pub other_cents: Option<Measured>,
    /// Grade of the string alone.
    #[serde(flatten, serialize_with = "flat::grade")]
    pub grade: Option<Measured>,
    /// Partials of the string that beat alone.
    pub beats_alone: Vec<usize>,
}

/// What became of a unison.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Since {
    /// Grade now less that before.
    #[serde(flatten, serialize_with = "flat::grade_change")]
    pub grade_change: Option<Measured>,
    /// Whether that is more than chance; `None` where it cannot be known.
    pub distinguishable: Option<bool>,
    /// Mistuning now less that before, both without sign, in cents.
    #[serde(flatten, serialize_with = "flat::mistuning_change_cents")]
    pub mistuning_change_cents: Option<Measured>,
    /// Partials that fluctuate more than before, and those that fluctuate less.
    pub worse: Vec<usize>,
    /// See above.
    pub better: Vec<usize>,
}

impl Quantities for Alone {
    fn quantities(&self) -> Vec<Quantity> {
        const MOVED: Label =
            Label::new("against.moved_cents", "string from where it was alone", Unit::Cent, 3)
                .with_u();
        const OTHER: Label =
            Label::new("against.other_cents", "other string from the one alone", Unit::Cent, 3)
                .with_u();
        const GRADE: Label =
            Label::new("against.grade", "grade of the string alone", Unit::One, 1).with_u();
        vec![
            Quantity::top(&MOVED, self.moved_cents),
            Quantity::top(&OTHER, self.other_cents),
            Quantity::top(&GRADE, self.grade),
        ]
    }
}

impl Quantities for Since {
    fn quantities(&self) -> Vec<Quantity> {
        const GRADE: Label =
            Label::new("before.grade_change", "change of the grade", Unit::One, 1).with_u();
        const MISTUNING: Label =
            Label::new("before.mistuning_change_cents", "change of the mistuning", Unit::Cent, 3)
                .with_u();
        vec![
            Quantity::top(&GRADE, self.grade_change),
            Quantity::top(&MISTUNING, self.mistuning_change_cents),
        ]
    }
}

impl Unison {
    /// Sets a string alone beside the unison in which it sounds.
    #[must_use]
    pub fn beside_alone(&self, alone: &Self) -> Option<Alone> {
        let (here, there) = (self.stiff_f_hz?, alone.stiff_f_hz?);
        let cents = 1200.0 * (here.value / there.value).log2();
        let u =
            1200.0 / std::f64::consts::LN_2 * (here.u / here.value).hypot(there.u / there.value);
        // The string of the unison that lies nearest to the one alone.
        let off = |n: &usize| (cents + self.strings[*n].cents).abs();
        let string = (0..self.strings.len()).min_by(|a, b| off(a).total_cmp(&off(b)))?;
        let own = self.strings[string];
        let apart = |n: usize| {
            let other = self.strings[n];
            let u = if string == 0 || n == 0 {
                own.cents_u.hypot(other.cents_u)
            } else {
                // Both are known from the first.
                own.cents_u.max(other.cents_u)
            };
            Measured::new(other.cents - own.cents, u)
        };
        let others = (0..self.strings.len()).filter(|n| *n != string).map(apart);
        let other_cents = others.max_by(|a, b| a.value.abs().total_cmp(&b.value.abs()));
        let beating = alone.partials.iter().filter(|partial| partial.beat_hz.is_some());
        Some(Alone {
            string: string + 1,
            moved_cents: Some(Measured::new(cents + own.cents, u.hypot(own.cents_u))),
            other_cents,
            grade: alone.grade,
            beats_alone: beating.map(|partial| partial.number).collect(),
        })
    }

    /// What became of the unison since another take of it.
    #[must_use]
    pub fn since(&self, before: &Self) -> Since {
        let grades = before.grade.zip(self.grade).map(|pair| judged(&[pair])[0]);
        let without_sign = |unison: &Self| {
            unison.mistuning_cents.map(|cents| Measured::new(cents.value.abs(), cents.u))
        };
        let mistuning = without_sign(before).zip(without_sign(self));
        let (mut numbers, mut pairs) = (Vec::new(), Vec::new());
        for partial in &self.partials {
            let same = before.partials.iter().find(|one| one.number == partial.number);
            let values = same.and_then(|same| same.unsteadiness).zip(partial.unsteadiness);
            if let Some(pair) = values {
                numbers.push(partial.number);
                pairs.push(pair);
            }
        }
        let changes = judged(&pairs);
        let changed = |is_it: fn(f64) -> bool| {
            let all = numbers.iter().zip(&changes);
            let is_so = |(_, (change, is_real)): &(&usize, &(Measured, Option<bool>))| {
                *is_real == Some(true) && is_it(change.value)
            };
            all.filter(is_so).map(|(number, _)| *number).collect()
        };
        Since {
            grade_change: grades.map(|(change, _)| change),
            distinguishable: grades.and_then(|(_, is_real)| is_real),
            mistuning_change_cents: mistuning.map(|pair| judged(&[pair])[0].0),
            worse: changed(|change| change > LEAST_CHANGE),
            better: changed(|change| change < -LEAST_CHANGE),
        }
    }
}

/// A change of the unsteadiness of a partial that is worth a word.
const LEAST_CHANGE: f64 = 0.01;
