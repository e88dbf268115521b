//! When a difference is real: larger than chance makes any of so many differences in [`FALSE_RATE`]
//! of all comparisons.

use std::collections::HashMap;

use statrs::distribution::{ContinuousCDF, FisherSnedecor, StudentsT};

use crate::measured::Measured;
use crate::units::db_from_power;

/// Share of comparisons of two sounds without a difference in which some difference, of any table,
/// is reported as real.
pub const FALSE_RATE: f64 = 0.05;
/// Tables of a comparison, which share the rate: levels, bands, bins, partials, descriptors.
const TABLES: f64 = 5.0;

/// Limits for one table of differences.
pub(crate) struct Family {
    /// Probability that one difference of the table is reported as real by chance, on either side.
    one_sided: f64,
    of_powers: HashMap<(u32, u32), f64>,
}

impl Family {
    /// A table of `count` independent differences (C. E. Bonferroni, 1936).
    pub(crate) fn new(count: f64) -> Self {
        Self { one_sided: FALSE_RATE / TABLES / (2.0 * count.max(1.0)), of_powers: HashMap::new() }
    }

    /// Over its uncertainty, what a difference exceeds that is real; the uncertainty comes from so
    /// many degrees of freedom.
    pub(crate) fn over_u(&self, freedom: f64) -> f64 {
        let freedom = freedom.clamp(1.0, 1e6);
        StudentsT::new(0.0, 1.0, freedom)
            .map_or(f64::INFINITY, |t| t.inverse_cdf(1.0 - self.one_sided))
    }

    /// What the ratio of two noise powers exceeds that differ, in dB. Each is worth so many
    /// independent periodograms; their ratio follows an F distribution with twice as many degrees
    /// of freedom.
    pub(crate) fn powers_db(&mut self, a_periodograms: f64, b_periodograms: f64) -> f64 {
        // In steps of a sixteenth of an octave, downwards.
        const STEPS: f64 = 16.0;
        let step = |n: f64| (n.clamp(0.5, 1e9).log2() * STEPS + 1e-6).floor();
        let (a, b) = (step(a_periodograms), step(b_periodograms));
        let one_sided = self.one_sided;
        *self.of_powers.entry((a as i32 as u32, b as i32 as u32)).or_insert_with(|| {
            let freedom = |step: f64| 2.0 * (step / STEPS).exp2();
            let far = |a: f64, b: f64| db_from_power(f_exceeded(freedom(a), freedom(b), one_sided));
            far(a, b).max(far(b, a))
        })
    }
}

/// By how much a standard deviation from so many degrees of freedom is widened, so that two of it
/// cover 95.45 % all the same (JCGM 100:2008, annex G).
pub(crate) fn widened(freedom: f64) -> f64 {
    const TWO_SIGMA: f64 = 0.977_249_868;
    StudentsT::new(0.0, 1.0, freedom).map_or(1.0, |t| 0.5 * t.inverse_cdf(TWO_SIGMA))
}

/// Over its uncertainty, what one of so many differences exceeds that is real, where all
/// uncertainties come from some ten values each.
#[must_use]
pub fn limit_over_u(count: usize) -> f64 {
    // See above.
    const FREEDOM: f64 = 10.0;
    Family::new(count as f64).over_u(FREEDOM)
}

/// Differences of pairs, the second less the first, and whether each is real, as far as both
/// uncertainties are known.
#[must_use]
pub fn judged(pairs: &[(Measured, Measured)]) -> Vec<(Measured, Option<bool>)> {
    let is_known = |(a, b): &&(Measured, Measured)| a.u.is_finite() && b.u.is_finite();
    let limit = limit_over_u(pairs.iter().filter(is_known).count());
    let judge = |(a, b): &(Measured, Measured)| {
        let difference = Measured::new(b.value - a.value, a.u.hypot(b.u));
        let known = difference.u.is_finite();
        (difference, known.then(|| difference.value.abs() > limit * difference.u))
    };
    pairs.iter().map(judge).collect()
}

/// What an F-distributed ratio exceeds with a probability.
fn f_exceeded(above: f64, below: f64, probability: f64) -> f64 {
    let Ok(ratio) = FisherSnedecor::new(above, below) else { return f64::INFINITY };
    let (mut low, mut high) = (0.0f64, 1.0f64);
    while ratio.sf(high.exp()) > probability {
        (low, high) = (high, 2.0 * high);
        if high > 200.0 {
            return f64::INFINITY;
        }
    }
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if ratio.sf(middle.exp()) > probability {
            low = middle;
        } else {
            high = middle;
        }
    }
    high.exp()
}

/// Standard deviation of the mean of values in a row, with what neighbours have in common.
///
/// s² = (γ_0 + 2·Σ γ_k)/(n − 1) with the covariances γ_k at a distance of k values, as far as they
/// are more than chance; widened where few values leave s itself uncertain, so that two of it cover
/// 95.4 %.
pub(crate) fn deviation_of_mean(values: &[f64]) -> f64 {
    let count = values.len();
    let n = count as f64;
    let mean = values.iter().sum::<f64>() / n;
    let covariance = |lag: usize| -> f64 {
        let pairs = values.iter().zip(&values[lag..]);
        pairs.map(|(a, b)| (a - mean) * (b - mean)).sum::<f64>() / n
    };
    let own = covariance(0);
    let together: f64 =
        (1..=count / 4).map(covariance).take_while(|of_lag| *of_lag > 2.0 / n.sqrt() * own).sum();
    widened(n - 1.0) * ((own + 2.0 * together) / (n - 1.0)).sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_agree_with_tables() {
        // One test of 1 % on both sides: t of 10 degrees 3.169, of many 2.576; F of 10 and 10
        // degrees 5.847.
        let mut one = Family::new(1.0);
        assert!((one.over_u(10.0) - 3.169).abs() < 1e-3);
        assert!((one.over_u(1e6) - 2.576).abs() < 1e-3);
        let of_f = 10f64.powf(one.powers_db(5.0, 5.0) / 10.0);
        assert!((5.847..6.2).contains(&of_f), "{of_f}");
        assert!(Family::new(30.0).over_u(10.0) > 4.0);
        assert!(one.powers_db(1e8, 1e8) < 0.01);
    }
}
