//! What is taken away from the level of a band: the response of the microphone, the background.

use serde::Serialize;

use crate::measured::Measured;
use crate::units::{db_from_power, power_from_db};

/// The frequency response of a microphone: by how much it reads too high, in dB, at frequencies in
/// Hz.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Response(Vec<(f64, f64)>);

impl Response {
    /// From points in any order.
    #[must_use]
    pub fn new(mut points: Vec<(f64, f64)>) -> Self {
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        Self(points)
    }

    /// At a frequency: on the line between two points over the logarithm of frequency, beyond the
    /// ends as at them.
    #[must_use]
    pub fn at(&self, hz: f64) -> f64 {
        let above = self.0.partition_point(|(at, _)| *at < hz);
        match (above.checked_sub(1).map(|n| self.0[n]), self.0.get(above)) {
            (Some((low, a)), Some((high, b))) => a + (b - a) * (hz / low).ln() / (high / low).ln(),
            (Some((_, db)), None) | (None, Some(&(_, db))) => db,
            (None, None) => 0.0,
        }
    }

    /// Whether there is nothing to correct.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// What was done about the background in a band.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Correction {
    /// It is so far below that nothing need be done.
    None,
    /// Its power was subtracted.
    Subtracted,
    /// It is too near: the level is an upper limit.
    Limited,
}

/// How near a background may be, in dB.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Rule {
    /// From so many below the level on nothing is done.
    pub(crate) far: f64,
    /// Less far below it is too near.
    pub(crate) near: f64,
    /// What is subtracted where it is.
    pub(crate) off: f64,
}

/// Of levels in bands: power subtracted where the background is at least 3 dB below.
pub(super) const OF_BANDS: Rule = Rule { far: f64::INFINITY, near: 3.0, off: 0.0 };

impl Rule {
    /// The level without the background, and what was done: 10 lg(10^{L/10} − 10^{L_b/10}).
    pub(crate) fn apply(self, level: Measured, background: Measured) -> (Measured, Correction) {
        let apart = level.value - background.value;
        if apart >= self.far {
            return (level, Correction::None);
        }
        if apart < self.near {
            return (Measured::new(level.value - self.off, level.u), Correction::Limited);
        }
        let left = 1.0 - power_from_db(-apart);
        let known = |u: f64| if u.is_finite() { u } else { 0.0 };
        let u = level.u.hypot((1.0 - left) * known(background.u)) / left;
        (Measured::new(level.value + db_from_power(left), u), Correction::Subtracted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_response_is_read_between_its_points() {
        let response = Response::new(vec![(1000.0, 1.0), (100.0, 0.0), (10_000.0, -2.0)]);
        let wanted =
            [(10.0, 0.0), (316.227_766, 0.5), (1000.0, 1.0), (3_162.277_66, -0.5), (2e4, -2.0)];
        for (hz, db) in wanted {
            assert!((response.at(hz) - db).abs() < 1e-6, "{hz}: {}", response.at(hz));
        }
        assert_eq!(Response::default().at(100.0), 0.0);
    }

    #[test]
    fn backgrounds_are_subtracted_where_they_may_be() {
        let of = |db| Measured::new(db, 0.1);
        let (level, done) = OF_BANDS.apply(of(53.010_3), of(50.0));
        assert_eq!(done, Correction::Subtracted);
        assert!((level.value - 50.0).abs() < 1e-4 && (level.u - 0.2236).abs() < 1e-3, "{level:?}");
        assert_eq!(OF_BANDS.apply(of(52.0), of(50.0)), (of(52.0), Correction::Limited));
        let rule = Rule { far: 10.0, near: 6.0, off: 1.3 };
        assert_eq!(rule.apply(of(60.0), of(50.0)), (of(60.0), Correction::None));
        assert!((rule.apply(of(55.0), of(50.0)).0.value - 53.7).abs() < 1e-9);
    }
}
