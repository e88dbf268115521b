//! A measured quantity against a condition: straight line, monotone course, change from step to
//! step.
//!
//! # What it computes
//!
//! **Line.** y = a + b·x by least squares, each value weighted by 1/(u² + s²): u its own
//! uncertainty, s what the values scatter beside it, which is 0 where the uncertainties explain the
//! scatter about the line, and else so large that Σ r²/(u² + s²) is the number of degrees of
//! freedom (J. Mandel and R. C. Paule, Anal. Chem. 42, 1970). The uncertainty of slope and
//! intercept follows from the weights; where s is not 0 it is itself known from n − 2 degrees of
//! freedom only, and they are widened so that ± 2 u hold as often as for a normal distribution
//! (Student's t; JCGM 100:2008, G.3). The band about the line holds the true line with 95 % at each
//! place, by the same distribution.
//!
//! **Monotone.** The rising or the falling course that is nearest by the same weights, by pooling
//! of adjacent violators (M. Ayer et al., Ann. Math. Stat. 26, 1955); of the two the nearer one.
//! Its band is ± 2 u of the mean of each pool.
//!
//! **Steps.** The change from the mean at one value of the condition to that at the next, and
//! whether it is real ([`crate::significance::FALSE_RATE`]).

use serde::{Serialize, Serializer};
use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::finding::Finding;
use crate::fit::Line;
use crate::measured::{Measured, flat};
use crate::quantity::{Key, Label, Quantities, Quantity, Unit, pair};
use crate::significance::limit_over_u;

/// A value under a condition.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrendPoint {
    /// The condition: its number, or its place among words.
    pub x: f64,
    /// The value; its uncertainty may be unknown (NaN).
    pub value: Measured,
}

/// What is laid through the values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum TrendFit {
    /// A straight line.
    #[default]
    Line,
    /// A course that only rises or only falls.
    Monotone,
    /// Nothing.
    None,
}

/// The curve that was laid through the values at one place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct CourseValue {
    /// The condition.
    pub x: f64,
    /// The curve, and its band of 95 %.
    pub value: f64,
    /// See above.
    pub low: f64,
    /// See above.
    pub high: f64,
}

/// A straight line.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrendLine {
    /// Change per unit of the condition.
    pub slope: Measured,
    /// The line where the condition is 0.
    pub intercept: Measured,
    /// Scatter of the values beside their uncertainties.
    pub scatter: f64,
    /// Whether the slope is more than chance.
    pub is_real: bool,
}

/// The change from one value of the condition to the next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrendStep {
    /// From which condition.
    pub from: f64,
    /// To which.
    pub to: f64,
    /// The change.
    pub change: Measured,
    /// Whether it is more than chance; `None` where the uncertainties are not known.
    pub is_real: Option<bool>,
}

/// The greatest or the least value, and where it is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Extreme {
    /// The condition.
    pub x: f64,
    /// The value, the mean where there are several.
    pub value: Measured,
    /// Whether it differs from those at the conditions beside it by more than chance; `None` where
    /// the uncertainties are not known.
    pub is_real: Option<bool>,
}

/// A quantity against a condition.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Trend {
    /// The line, if one was asked for and there are three values of the condition.
    #[serde(flatten, serialize_with = "line_or_unknown")]
    pub line: Option<TrendLine>,
    /// The curve with its band.
    pub course: Vec<CourseValue>,
    /// The steps.
    #[serde(skip)]
    pub steps: Vec<TrendStep>,
    /// The greatest value and the least, of two conditions or more.
    #[serde(skip)]
    pub greatest: Option<Extreme>,
    /// See above.
    #[serde(skip)]
    pub least: Option<Extreme>,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// The line as keys of their own, all null where there is none.
fn line_or_unknown<S: Serializer>(
    line: &Option<TrendLine>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Flat {
        #[serde(flatten, serialize_with = "flat::slope")]
        slope: Option<Measured>,
        #[serde(flatten, serialize_with = "flat::intercept")]
        intercept: Option<Measured>,
        scatter: Option<f64>,
        distinguishable: Option<bool>,
    }
    let flat = Flat {
        slope: line.map(|line| line.slope),
        intercept: line.map(|line| line.intercept),
        scatter: line.map(|line| line.scatter),
        distinguishable: line.map(|line| line.is_real),
    };
    flat.serialize(serializer)
}

impl Quantities for Trend {
    fn quantities(&self) -> Vec<Quantity> {
        const SLOPE: Label = Label::new("slope", "slope", Unit::One, 8).with_u();
        const INTERCEPT: Label = Label::new("intercept", "intercept", Unit::One, 6).with_u();
        const SCATTER: Label = Label::new("scatter", "scatter", Unit::One, 6);
        const CHANGE: Label = Label::new("change", "change", Unit::One, 6).with_u();
        const GREATEST: Label =
            Label::new("greatest_value", "greatest value", Unit::One, 6).with_u();
        const LEAST: Label = Label::new("least_value", "least value", Unit::One, 6).with_u();
        let mut all = vec![
            Quantity::top(&SLOPE, self.line.map(|line| line.slope)),
            Quantity::top(&INTERCEPT, self.line.map(|line| line.intercept)),
            Quantity::top(&SCATTER, pair(self.line.map(|line| line.scatter), None)),
        ];
        let value = |extreme: Option<Extreme>| extreme.map(|extreme| extreme.value);
        all.push(Quantity::top(&GREATEST, value(self.greatest)));
        all.push(Quantity::top(&LEAST, value(self.least)));
        for (n, step) in (1..).zip(&self.steps) {
            let key = Key::item("steps", n).then(CHANGE.field);
            all.push(Quantity::new(key, &CHANGE, Some(step.change)));
        }
        all
    }
}

/// Lays a curve through values, in whatever order they are.
#[must_use]
pub fn trend(points: &[TrendPoint], fit: TrendFit) -> Trend {
    let mut sorted = points.to_vec();
    sorted.sort_by(|a, b| a.x.total_cmp(&b.x));
    let means = means(&sorted);
    let mut findings = Vec::new();
    let steps = steps(&means);
    let enough = means.len() >= 3 && sorted.len() >= 3;
    if fit != TrendFit::None && !enough {
        findings.push(Finding::note(
            "too_few_values",
            "A curve needs at least three values of the condition; only the steps are given.",
        ));
    }
    let (line, course) = match fit {
        TrendFit::Line if enough => match line(&sorted) {
            Some((line, course)) => (Some(line), course),
            None => (None, Vec::new()),
        },
        TrendFit::Monotone if enough => (None, monotone(&means)),
        _ => (None, Vec::new()),
    };
    if let Some(line) = &line {
        let known: Vec<f64> = sorted.iter().map(|p| p.value.u).filter(|u| u.is_finite()).collect();
        let usual = known.iter().sum::<f64>() / known.len().max(1) as f64;
        if known.len() == sorted.len() && line.scatter > 2.0 * usual {
            findings.push(Finding::note(
                "more_scatter_than_uncertainty",
                "The values scatter about the line by more than their uncertainties explain: the \
                 takes differ in something else \
                 too, or the relation is not linear. The band includes this scatter.",
            ));
        }
    }
    let [greatest, least] = [1.0, -1.0].map(|sign| extreme(&means, &steps, sign));
    Trend { line, course, steps, greatest, least, findings }
}

/// The greatest of the means, or for a negative sign the least, and whether the steps to it and from
/// it are real.
fn extreme(means: &[TrendPoint], steps: &[TrendStep], sign: f64) -> Option<Extreme> {
    let by_value = |a: &&TrendPoint, b: &&TrendPoint| {
        (sign * a.value.value).total_cmp(&(sign * b.value.value))
    };
    let TrendPoint { x, value } = *means.iter().max_by(by_value).filter(|_| means.len() > 1)?;
    let beside = steps.iter().filter(|step| step.from == x || step.to == x);
    let are_real: Option<Vec<bool>> = beside.map(|step| step.is_real).collect();
    Some(Extreme { x, value, is_real: are_real.map(|all| all.into_iter().all(|is_real| is_real)) })
}

/// The mean at each value of the condition.
fn means(sorted: &[TrendPoint]) -> Vec<TrendPoint> {
    sorted
        .chunk_by(|a, b| a.x == b.x)
        .map(|group| {
            let count = group.len() as f64;
            let mean = group.iter().map(|p| p.value.value).sum::<f64>() / count;
            let squares: f64 = group.iter().map(|p| (p.value.value - mean).powi(2)).sum();
            // Of repeats the spread counts, of one its own uncertainty.
            let stated = group.iter().map(|p| p.value.u.powi(2)).sum::<f64>().sqrt() / count;
            let spread = (squares / (count - 1.0).max(1.0) / count).sqrt();
            let u = if group.len() > 1 { spread.max(stated) } else { stated };
            TrendPoint { x: group[0].x, value: Measured::new(mean, u) }
        })
        .collect()
}

fn steps(means: &[TrendPoint]) -> Vec<TrendStep> {
    let limit = limit_over_u(means.len().saturating_sub(1));
    means
        .windows(2)
        .map(|pair| {
            let u = pair[0].value.u.hypot(pair[1].value.u);
            let change = Measured::new(pair[1].value.value - pair[0].value.value, u);
            let is_real = u.is_finite().then(|| change.value.abs() > limit * u);
            TrendStep { from: pair[0].x, to: pair[1].x, change, is_real }
        })
        .collect()
}

/// The line through values, each weighted by the inverse of its variance and of what scatters
/// beside it.
fn fitted(points: &[TrendPoint], extra: f64) -> Option<Line> {
    let weight = |point: &TrendPoint| {
        let u = if point.value.u.is_finite() { point.value.u } else { 0.0 };
        1.0 / (u * u + extra).max(f64::MIN_POSITIVE)
    };
    Line::through(points.iter().map(|point| (point.x, point.value.value, weight(point))))
}

/// Share of a normal distribution below its mean + 2 standard deviations.
const NORMAL_WITHIN_2U: f64 = 0.977_249_868;

fn line(points: &[TrendPoint]) -> Option<(TrendLine, Vec<CourseValue>)> {
    /// A parabola drawn through so many looks smooth.
    const PLACES: usize = 41;
    let freedom = points.len() as f64 - 2.0;
    // What scatters beside the uncertainties: between none and all there is.
    let spread = {
        let mean = points.iter().map(|p| p.value.value).sum::<f64>() / points.len() as f64;
        points.iter().map(|p| (p.value.value - mean).powi(2)).sum::<f64>()
    };
    // Where all uncertainties are tiny the weights must stay finite.
    let tiny = 1e-24 * points.iter().map(|p| p.value.value.powi(2)).fold(spread, f64::max);
    let (mut low, mut high) = (tiny, spread.max(2.0 * tiny));
    let misfit = |extra: f64| fitted(points, extra).map_or(0.0, |line| line.left);
    if misfit(low) > freedom {
        for _ in 0..100 {
            let middle = (low * high).sqrt();
            if misfit(middle) > freedom {
                low = middle;
            } else {
                high = middle;
            }
        }
    } else {
        high = low;
    }
    let fit = fitted(points, high)?;
    // Where the scatter had to be estimated the limits are those of Student's t, where the
    // uncertainties explain it those of a normal distribution.
    let freedom = if high > tiny { freedom } else { 1e6 };
    let student = StudentsT::new(0.0, 1.0, freedom).ok()?;
    let t = student.inverse_cdf(0.975);
    let widened = student.inverse_cdf(NORMAL_WITHIN_2U) / 2.0;
    let slope_u = fit.square.sqrt().recip();
    let (first, last) = (points[0].x, points[points.len() - 1].x);
    let course = (0..PLACES)
        .map(|n| {
            let x = first + (last - first) * n as f64 / (PLACES - 1) as f64;
            let half = t * fit.variance_at(x).sqrt();
            let value = fit.at(x);
            CourseValue { x, value, low: value - half, high: value + half }
        })
        .collect();
    let line = TrendLine {
        slope: Measured::new(fit.slope, widened * slope_u),
        intercept: Measured::new(fit.at(0.0), widened * fit.variance_at(0.0).sqrt()),
        scatter: if high > tiny { high.sqrt() } else { 0.0 },
        is_real: fit.slope.abs() > t * slope_u,
    };
    Some((line, course))
}

fn monotone(means: &[TrendPoint]) -> Vec<CourseValue> {
    let known = means.iter().all(|p| p.value.u.is_finite() && p.value.u > 0.0);
    let weight = |p: &TrendPoint| if known { p.value.u.powi(-2) } else { 1.0 };
    let pooled = |sign: f64| {
        // Each pool: weighted sum, weight, members.
        let mut pools: Vec<(f64, f64, usize)> = Vec::new();
        for point in means {
            let mut pool = (weight(point) * sign * point.value.value, weight(point), 1);
            while let Some(last) = pools.last().filter(|last| last.0 / last.1 >= pool.0 / pool.1) {
                pool = (pool.0 + last.0, pool.1 + last.1, pool.2 + last.2);
                pools.pop();
            }
            pools.push(pool);
        }
        let values = pools.iter().flat_map(|(sum, weight, count)| {
            let u = if known { weight.sqrt().recip() } else { f64::NAN };
            std::iter::repeat_n((sign * sum / weight, u), *count)
        });
        let values: Vec<(f64, f64)> = values.collect();
        let misfit: f64 = means
            .iter()
            .zip(&values)
            .map(|(p, (value, _))| weight(p) * (p.value.value - value).powi(2))
            .sum();
        (misfit, values)
    };
    let (rising, falling) = (pooled(1.0), pooled(-1.0));
    let nearer = if rising.0 <= falling.0 { rising.1 } else { falling.1 };
    means
        .iter()
        .zip(nearer)
        .map(|(point, (value, u))| {
            let half = if u.is_finite() { 2.0 * u } else { 0.0 };
            CourseValue { x: point.x, value, low: value - half, high: value + half }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(values: &[f64], u: f64) -> Vec<TrendPoint> {
        let point =
            |(n, value): (usize, &f64)| TrendPoint { x: n as f64, value: Measured::new(*value, u) };
        values.iter().enumerate().map(point).collect()
    }

    #[test]
    fn an_exact_line_has_no_scatter() {
        let line = trend(&points(&[1.0, 3.0, 5.0, 7.0], 0.1), TrendFit::Line).line.expect("a line");
        assert!((line.slope.value - 2.0).abs() < 1e-9 && line.scatter == 0.0 && line.is_real);
        assert!((line.intercept.value - 1.0).abs() < 1e-9);
    }

    #[test]
    fn a_monotone_course_pools_what_turns_back() {
        let found = trend(&points(&[1.0, 3.0, 2.0, 4.0], 0.1), TrendFit::Monotone);
        let values: Vec<f64> = found.course.iter().map(|c| c.value).collect();
        assert_eq!(values, [1.0, 2.5, 2.5, 4.0]);
        let falling = trend(&points(&[4.0, 3.5, 3.6, 1.0], 0.1), TrendFit::Monotone);
        assert!((falling.course[1].value - 3.55).abs() < 1e-9);
    }

    #[test]
    fn steps_are_real_where_they_exceed_their_uncertainty() {
        let found = trend(&points(&[1.0, 1.05, 3.0], 0.1), TrendFit::None);
        let real: Vec<Option<bool>> = found.steps.iter().map(|step| step.is_real).collect();
        assert_eq!(real, [Some(false), Some(true)]);
        let [greatest, least] = [found.greatest, found.least].map(|one| one.expect("three values"));
        assert_eq!((greatest.x, greatest.is_real), (2.0, Some(true)));
        assert_eq!((least.x, least.is_real), (0.0, Some(false)));
        let unknown = trend(&points(&[1.0, 2.0], f64::NAN), TrendFit::Line);
        assert_eq!(unknown.greatest.and_then(|greatest| greatest.is_real), None);
        assert_eq!(unknown.steps[0].is_real, None);
        assert_eq!(unknown.findings[0].code, "too_few_values");
    }
}
