//! A quantity over many takes: how it is spread, and which takes stand out.
//!
//! # What it computes
//!
//! **Spread.** Quantiles by linear interpolation between the ordered values (definition 7 of
//! R. J. Hyndman and Y. Fan, Am. Stat. 50, 1996).
//!
//! **What stands out.** Within a group of takes that are alike, a value x with uncertainty u is
//! compared with the median m of its group: z = |x − m| / √(s² + u²), where s is the spread of the
//! values on its side of the median, or on both in groups of less than [`GROUP_WITH_SIDES`]. It is
//! the greatest of
//!
//! - 1.4826 times their median distance from the median: the standard deviation of normal values,
//!   which up to half of the values being astray cannot spoil (F. R. Hampel, J. Am. Stat. Assoc. 69,
//!   1974),
//! - what one of ten exceeds, over 1.645, so that neither a distribution with long tails nor a group
//!   of two kinds has values that stand out; in groups of ten and less, the second largest distance;
//! - in groups of at least [`GROUP_WITH_FAR_TAILS`], what one of a hundred exceeds, over 2.326,
//! - the last digit of the quantity.
//!
//! As s is itself uncertain, z is compared with Student's t with 0.37 · (n − 1) degrees of freedom:
//! n values that it is known from, and the efficiency of that spread on normal values.
//!
//! The probability that any of the n values of a group lies so far off by chance is at most n
//! times that of one (C. E. Bonferroni, 1936), which [`Odd::chance`] says. Of values that are not
//! normal it says less: what stands out is to be looked at, not to be thrown away.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::measured::Measured;

/// Smallest group in which a value can stand out.
pub const LEAST_GROUP: usize = 8;
/// Smallest group whose two sides have a spread each.
pub const GROUP_WITH_SIDES: usize = 40;
/// Smallest group whose far tails are looked at.
pub const GROUP_WITH_FAR_TAILS: usize = 200;
/// Of the standard deviation of normal values, their median distance from the median.
const DEVIATION_OF_MEDIAN: f64 = 1.482_602_2;
/// Shares of distances from the median, and the standard deviations of normal values they lie at.
const TAIL: (f64, f64) = (0.9, 1.644_853_6);
const FAR_TAIL: (f64, f64) = (0.98, 2.326_347_9);
/// Efficiency of the spread from median distances, on normal values.
const EFFICIENCY: f64 = 0.37;

/// How values are spread.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Distribution {
    /// How many there are.
    pub count: usize,
    /// The least.
    pub least: f64,
    /// 5 % are below.
    pub low: f64,
    /// A quarter is below.
    pub lower_quartile: f64,
    /// Half are below.
    pub median: f64,
    /// A quarter is above.
    pub upper_quartile: f64,
    /// 5 % are above.
    pub high: f64,
    /// The greatest.
    pub greatest: f64,
}

impl Distribution {
    /// Whether its values differ in digits that are worth printing.
    #[must_use]
    pub fn differs(&self, decimals: usize) -> bool {
        self.high - self.low > 10_f64.powi(-(decimals as i32))
    }
}

/// How values are spread; `None` if there are none. Values that are not finite are left out.
#[must_use]
pub fn distribution(values: impl IntoIterator<Item = f64>) -> Option<Distribution> {
    let mut sorted: Vec<f64> = values.into_iter().filter(|value| value.is_finite()).collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let at = |share: f64| quantile(&sorted, share);
    Some(Distribution {
        count: sorted.len(),
        least: *sorted.first()?,
        low: at(0.05),
        lower_quartile: at(0.25),
        median: at(0.5),
        upper_quartile: at(0.75),
        high: at(0.95),
        greatest: *sorted.last()?,
    })
}

/// A quantile of values in their order.
fn quantile(sorted: &[f64], share: f64) -> f64 {
    let place = share * (sorted.len() - 1) as f64;
    let (below, above) = (sorted[place.floor() as usize], sorted[place.ceil() as usize]);
    below + place.fract() * (above - below)
}

/// How many values lie in steps of one length.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Histogram {
    /// Where the first step begins.
    pub from: f64,
    /// Length of a step.
    pub step: f64,
    /// Values in each.
    pub counts: Vec<usize>,
}

/// How many values lie in steps from the least to the greatest, which are as long as their quartiles
/// ask for (D. Freedman and P. Diaconis, Probab. Theory Relat. Fields 57, 1981), and at most `most`.
#[must_use]
pub fn histogram(values: &[f64], spread: &Distribution, most: usize) -> Histogram {
    let range = spread.greatest - spread.least;
    let quartiles = spread.upper_quartile - spread.lower_quartile;
    let wanted = 2.0 * quartiles / (spread.count as f64).cbrt();
    let steps = if wanted > 0.0 { (range / wanted).ceil() } else { most as f64 };
    let steps = if range > 0.0 { steps.clamp(1.0, most as f64) as usize } else { 1 };
    let step = if range > 0.0 { range / steps as f64 } else { 1.0 };
    let from = if range > 0.0 { spread.least } else { spread.least - 0.5 };
    let mut counts = vec![0; steps];
    for value in values.iter().filter(|value| value.is_finite()) {
        counts[(((value - from) / step) as usize).min(steps - 1)] += 1;
    }
    Histogram { from, step, counts }
}

/// A value of a take, and the group that it is compared within.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Member {
    /// The value; its uncertainty may be unknown (NaN).
    pub value: Measured,
    /// Which group.
    pub group: usize,
}

/// A value that stands out.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Odd {
    /// Which of the values.
    pub index: usize,
    /// Median of its group.
    pub median: f64,
    /// Spread of its group on its side.
    pub spread: f64,
    /// By how many times the spread, with its own uncertainty, it is off.
    pub times: f64,
    /// Probability that some value of its group is so far off by chance.
    pub chance: f64,
}

/// Values that are farther off in their group than chance makes any of it in a share of groups;
/// `decimals` are those of the quantity that mean something. Groups of less than
/// [`LEAST_GROUP`] have none.
#[must_use]
pub fn odd(values: &[Member], decimals: usize, share: f64) -> Vec<Odd> {
    let digit = 10_f64.powi(-(decimals as i32));
    let mut order: Vec<usize> =
        (0..values.len()).filter(|n| values[*n].value.value.is_finite()).collect();
    order.sort_by(|a, b| {
        let key = |n: usize| (values[n].group, values[n].value.value);
        let ((a_group, a), (b_group, b)) = (key(*a), key(*b));
        a_group.cmp(&b_group).then(a.total_cmp(&b))
    });
    let mut found = Vec::new();
    for group in order.chunk_by(|a, b| values[*a].group == values[*b].group) {
        if group.len() >= LEAST_GROUP {
            of_group(values, group, digit, share, &mut found);
        }
    }
    found.sort_by_key(|one| one.index);
    found
}

fn of_group(values: &[Member], order: &[usize], digit: f64, share: f64, found: &mut Vec<Odd>) {
    let sorted: Vec<f64> = order.iter().map(|n| values[*n].value.value).collect();
    let median = quantile(&sorted, 0.5);
    let below: Vec<f64> =
        sorted.iter().rev().map(|x| median - x).filter(|far| *far >= 0.0).collect();
    let above: Vec<f64> = sorted.iter().map(|x| x - median).filter(|far| *far >= 0.0).collect();
    // A few values on one side say little: small groups have one spread.
    let is_even = order.len() < GROUP_WITH_SIDES;
    let mut all = [below.as_slice(), above.as_slice()].concat();
    all.sort_unstable_by(f64::total_cmp);
    let count = order.len() as f64;
    // One value that is astray does not hide itself.
    let all_but_one = (count - 2.0) / (count - 1.0);
    let spread = |far: &[f64]| {
        let far = if is_even { &all } else { far };
        let half = DEVIATION_OF_MEDIAN * quantile(far, 0.5);
        let tail = quantile(far, TAIL.0.min(all_but_one)) / TAIL.1;
        let has_far_tails = order.len() >= GROUP_WITH_FAR_TAILS;
        let far_tail = if has_far_tails { quantile(far, FAR_TAIL.0) / FAR_TAIL.1 } else { 0.0 };
        half.max(tail).max(far_tail).max(digit)
    };
    let (below, above) = (spread(&below), spread(&above));
    let known_from = if is_even { count } else { 0.5 * count };
    let Ok(student) = StudentsT::new(0.0, 1.0, EFFICIENCY * (known_from - 1.0)) else { return };
    // Beyond this no value need be looked at more closely.
    let limit = student.inverse_cdf(1.0 - 0.5 * share / count);
    for n in order {
        let Measured { value, u } = values[*n].value;
        let spread = if value < median { below } else { above };
        let u = if u.is_finite() { u } else { 0.0 };
        let times = (value - median).abs() / spread.hypot(u);
        if times > limit {
            let chance = (2.0 * count * student.sf(times)).min(1.0);
            found.push(Odd { index: *n, median, spread, times, chance });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_lie_between_the_ordered_values() {
        let spread = distribution((0..=20).map(f64::from).chain([f64::NAN])).expect("values");
        assert_eq!((spread.count, spread.least, spread.greatest), (21, 0.0, 20.0));
        assert_eq!((spread.low, spread.lower_quartile, spread.median), (1.0, 5.0, 10.0));
        assert_eq!((spread.upper_quartile, spread.high), (15.0, 19.0));
        assert_eq!(distribution([3.0]).map(|one| (one.low, one.high)), Some((3.0, 3.0)));
        assert_eq!(distribution([f64::NAN]), None);
    }

    #[test]
    fn a_histogram_holds_every_value_once() {
        let values: Vec<f64> = (0..100).map(|n| f64::from(n * n)).collect();
        let spread = distribution(values.iter().copied()).expect("values");
        let found = histogram(&values, &spread, 24);
        assert_eq!(found.counts.iter().sum::<usize>(), 100);
        assert!((2..=24).contains(&found.counts.len()), "{found:?}");
        let end = found.from + found.step * found.counts.len() as f64;
        assert!((end - 9801.0).abs() < 1e-9 && found.counts[0] > found.counts[1]);
        let same = distribution([2.0; 5]).expect("values");
        let one = histogram(&[2.0; 5], &same, 24);
        assert_eq!((one.from, one.step, one.counts), (1.5, 1.0, vec![5]));
    }

    #[test]
    fn one_that_is_off_is_found_in_its_group_alone() {
        let member = |value: f64, group| Member { value: Measured::new(value, 0.1), group };
        let mut values: Vec<Member> = (0..20).map(|n| member(f64::from(n % 5), 0)).collect();
        values.extend((0..20).map(|n| member(100.0 + f64::from(n % 5), 1)));
        values.push(member(100.0, 0));
        let found = odd(&values, 2, 0.05);
        assert_eq!(found.iter().map(|one| one.index).collect::<Vec<_>>(), [40]);
        assert_eq!(found[0].median, 2.0);
        // Where all are the same, the last digit is the spread.
        let mut same: Vec<Member> = (0..40).map(|_| member(1.0, 0)).collect();
        same.push(member(1.05, 0));
        assert!(odd(&same, 2, 0.05).is_empty());
        same.push(member(9.0, 0));
        assert_eq!(odd(&same, 2, 0.05).len(), 1);
        // What many have does not.
        same.extend((0..8).map(|n| member(10.0 + f64::from(n), 0)));
        assert!(odd(&same, 2, 0.05).is_empty());
        // Few say nothing.
        let few: Vec<Member> = (0..6).map(|n| member(f64::from(n), 0)).collect();
        assert!(odd(&[few, vec![member(1e6, 0)]].concat(), 2, 0.05).is_empty());
    }
}
