//! Straight lines and middles of values.

/// A straight line through points by weighted least squares, about their weighted mean:
/// y = ȳ + b·(x − x̄), b = Σ w·(x − x̄)·(y − ȳ) / Σ w·(x − x̄)².
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Line {
    /// Weighted means.
    pub(crate) mean_x: f64,
    pub(crate) mean_y: f64,
    pub(crate) slope: f64,
    /// Σ w.
    pub(crate) weight: f64,
    /// Σ w·(x − x̄)².
    pub(crate) square: f64,
    /// Σ w·r², r being what the line leaves.
    pub(crate) left: f64,
}

impl Line {
    /// The line through points x, y with their weights; `None` where they do not differ in x, or
    /// weigh nothing.
    pub(crate) fn through(points: impl Iterator<Item = (f64, f64, f64)> + Clone) -> Option<Self> {
        let (mut weight, mut of_x, mut of_y) = (0.0, 0.0, 0.0);
        for (x, y, w) in points.clone() {
            weight += w;
            of_x += w * x;
            of_y += w * y;
        }
        let (mean_x, mean_y) = (of_x / weight, of_y / weight);
        let (mut square, mut both) = (0.0, 0.0);
        for (x, y, w) in points.clone() {
            square += w * (x - mean_x).powi(2);
            both += w * (x - mean_x) * (y - mean_y);
        }
        let slope = both / square;
        if !(square > 0.0 && slope.is_finite()) {
            return None;
        }
        let left = points.map(|(x, y, w)| w * (y - mean_y - slope * (x - mean_x)).powi(2)).sum();
        Some(Self { mean_x, mean_y, slope, weight, square, left })
    }

    /// The same of points that weigh alike.
    pub(crate) fn of_equals(points: impl Iterator<Item = (f64, f64)> + Clone) -> Option<Self> {
        Self::through(points.map(|(x, y)| (x, y, 1.0)))
    }

    pub(crate) fn at(&self, x: f64) -> f64 {
        self.mean_y + self.slope * (x - self.mean_x)
    }

    /// Variance of the line at a place, where weights are the inverse of variances: 1/Σw + (x −
    /// x̄)²/Σw(x − x̄)².
    pub(crate) fn variance_at(&self, x: f64) -> f64 {
        1.0 / self.weight + (x - self.mean_x).powi(2) / self.square
    }
}

/// The value in the middle, of an even number the upper of the two there; `None` of nothing.
pub(crate) fn median(values: impl IntoIterator<Item = f64>) -> Option<f64> {
    let mut values: Vec<f64> = values.into_iter().collect();
    let half = values.len() / 2;
    if values.is_empty() {
        return None;
    }
    let (_, middle, _) = values.select_nth_unstable_by(half, f64::total_cmp);
    Some(*middle)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_goes_where_the_weight_is() {
        let exact = Line::of_equals([(1.0, 3.0), (2.0, 5.0), (4.0, 9.0)].into_iter());
        let exact = exact.expect("a line");
        assert!((exact.slope - 2.0).abs() < 1e-12 && exact.left < 1e-24);
        assert!((exact.at(0.0) - 1.0).abs() < 1e-12);
        // Two points of weight 1/u², u = 0.5, one apart: the slope has u·√2, the middle u/√2.
        let points = [(0.0, 0.0, 4.0), (1.0, 1.0, 4.0)];
        let line = Line::through(points.into_iter()).expect("a line");
        assert!((1.0 / line.square - 0.5).abs() < 1e-12);
        assert!((line.variance_at(0.5) - 0.125).abs() < 1e-12);
        assert!(Line::of_equals([(1.0, 2.0), (1.0, 3.0)].into_iter()).is_none());
    }

    #[test]
    fn the_middle_is_one_of_the_values() {
        assert_eq!(median([3.0, 1.0, 2.0]), Some(2.0));
        assert_eq!(median([4.0, 1.0, 2.0, 3.0]), Some(3.0));
        assert_eq!(median([]), None);
    }
}
