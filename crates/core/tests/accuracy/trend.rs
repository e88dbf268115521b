//! Lines through values under conditions, against known truth.

use tonemap_core::Measured;
use tonemap_core::synth::white_noise;
use tonemap_core::trend::{TrendFit, TrendPoint, trend};

use crate::support::{Accuracy, trials};

pub(crate) const MEASURES: &[fn()] = &[the_slope_of_a_line_is_covered];

/// Lines through 4 to 9 values, whose uncertainties explain their scatter, or do not.
#[test]
pub(crate) fn the_slope_of_a_line_is_covered() {
    for scatter in [0.0, 0.5] {
        let (mut slope, mut intercept, mut in_band) = (Vec::new(), Vec::new(), 0);
        let lines = trials(400, 8000);
        for seed in 0..lines {
            let count = 4 + seed as usize % 6;
            let noise = white_noise(seed, 1.0, 2 * count);
            let value =
                |n: usize| 3.0 - 1.7 * n as f64 + 0.2 * noise[n] + scatter * noise[n + count];
            let points: Vec<TrendPoint> = (0..count)
                .map(|n| TrendPoint { x: n as f64, value: Measured::new(value(n), 0.2) })
                .collect();
            let found = trend(&points, TrendFit::Line);
            let line = found.line.expect("a line");
            slope.push((line.slope.value + 1.7, line.slope.u));
            intercept.push((line.intercept.value - 3.0, line.intercept.u));
            let middle = found.course[20];
            in_band += u32::from((middle.low..middle.high).contains(&(3.0 - 1.7 * middle.x)));
        }
        let share = f64::from(in_band) / lines as f64;
        assert!((0.93..=0.99).contains(&share), "the band of 95 % holds {share}");
        let kind = if scatter > 0.0 { "that scatter" } else { "as uncertain as they say" };
        let tolerance = if scatter > 0.0 { 0.28 } else { 0.11 };
        Accuracy::all(format!("slope of a line through values {kind}"), "1", slope).hold(tolerance);
        let name = format!("intercept of a line through values {kind}");
        Accuracy::all(name, "1", intercept).hold(2.8 * tolerance);
    }
}
