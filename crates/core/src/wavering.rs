//! A course that wavers: a straight line, a sine and what both leave.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use crate::linear::solve;

/// A course as a straight line, a sine and a rest.
pub(crate) struct Wavering {
    /// Its middle without the sine.
    pub(crate) centre: f64,
    /// Slope per second.
    pub(crate) drift: f64,
    pub(crate) rate_hz: f64,
    pub(crate) depth: f64,
    /// Share of what the line leaves that the sine accounts for.
    share: f64,
    /// RMS of what both leave.
    pub(crate) rest: f64,
    duration_s: f64,
}

impl Wavering {
    /// Whether the sine accounts for most of the course and lasts two turns.
    pub(crate) fn is_regular(&self) -> bool {
        /// Share of the variance that one rate takes: most of it.
        const LEAST_SHARE: f64 = 0.6;
        self.share > LEAST_SHARE && self.rate_hz * self.duration_s >= 2.0
    }
}

/// Fits a line and a sine of 2.5 to 12 Hz by least squares, the rate to where most is accounted
/// for; of a long course to its middle, since no vibrato keeps its phase for longer.
pub(crate) fn wavering(course: &[f64], hop_s: f64) -> Wavering {
    /// A vibrato has 4 to 8 Hz (C. E. Seashore, 1932); wider by what a take of a second resolves.
    const RATES_HZ: (f64, f64) = (2.5, 12.0);
    /// The golden section.
    const INNER: f64 = 0.618_033_988_749_895;
    /// The rate of a player changes over longer ones.
    const LONGEST_S: f64 = 8.0;
    let most = ((LONGEST_S / hop_s) as usize).max(16);
    let from = course.len().saturating_sub(most) / 2;
    let course = &course[from..course.len().min(from + most)];
    let count = course.len();
    let duration_s = count as f64 * hop_s;
    let fit = |rate_hz: f64| line_and_sine(course, hop_s, rate_hz);
    let rest_at = |rate_hz: f64| fit(rate_hz).3;
    let (centre, drift, _, line_rest) = fit(0.0);
    let none = Wavering {
        centre,
        drift,
        rate_hz: 0.0,
        depth: 0.0,
        share: 0.0,
        rest: line_rest,
        duration_s,
    };
    let highest = RATES_HZ.1.min(0.3 / hop_s);
    if count < 12 || duration_s * highest < 2.0 || line_rest <= 0.0 {
        return none;
    }
    let step = 0.4 / duration_s;
    let low = RATES_HZ.0.max(1.2 / duration_s);
    let steps = ((highest - low) / step).max(0.0) as usize;
    let rates = (0..=steps).map(|n| low + n as f64 * step);
    // Means of a few, four of which in the shortest turn, show where to look.
    let few = ((0.25 / (highest * hop_s)) as usize).max(1);
    let mean = |values: &[f64]| values.iter().sum::<f64>() / few as f64;
    let means: Vec<f64> = course.chunks_exact(few).map(mean).collect();
    let rest_of_means = |rate_hz: f64| line_and_sine(&means, few as f64 * hop_s, rate_hz).3;
    let best = rates.map(|rate| (rest_of_means(rate), rate)).min_by(|a, b| a.0.total_cmp(&b.0));
    let Some((_, coarse)) = best else { return none };
    // The least of the rest, each time within a shorter stretch: of two places one is known from the last step.
    let (mut a, mut b) = (coarse - step, coarse + step);
    let (mut c, mut d) = (b - INNER * (b - a), a + INNER * (b - a));
    let (mut at_c, mut at_d) = (rest_at(c), rest_at(d));
    for _ in 0..24 {
        if at_c < at_d {
            (b, d, at_d) = (d, c, at_c);
            c = b - INNER * (b - a);
            at_c = rest_at(c);
        } else {
            (a, c, at_c) = (c, d, at_d);
            d = a + INNER * (b - a);
            at_d = rest_at(d);
        }
    }
    let rate_hz = f64::midpoint(a, b);
    let (centre, drift, depth, rest) = fit(rate_hz);
    let share = 1.0 - (rest / line_rest).powi(2);
    Wavering { centre, drift, rate_hz, depth, share, rest, duration_s }
}

/// Least squares of a + b·t + c·cos + d·sin, t from the middle: a, slope, amplitude of the sine,
/// and RMS of the rest. A rate of 0 leaves the sine out.
fn line_and_sine(course: &[f64], hop_s: f64, rate_hz: f64) -> (f64, f64, f64, f64) {
    let terms = if rate_hz > 0.0 { 4 } else { 2 };
    let middle = 0.5 * (course.len() as f64 - 1.0);
    // The sine goes on by turning.
    let turn = Complex::cis(TAU * rate_hz * hop_s);
    let mut wave = Complex::cis(-TAU * rate_hz * middle * hop_s);
    let (mut normal, mut squares) = ([[0.0; 5]; 4], 0.0);
    for (n, value) in course.iter().enumerate() {
        let basis = [1.0, (n as f64 - middle) * hop_s, wave.re, wave.im];
        for i in 0..terms {
            for j in i..terms {
                normal[i][j] += basis[i] * basis[j];
            }
            normal[i][4] += basis[i] * value;
        }
        squares += value * value;
        wave *= turn;
    }
    for (i, j) in [(1, 0), (2, 0), (3, 0), (2, 1), (3, 1), (3, 2)] {
        normal[i][j] = normal[j][i];
    }
    // What is left out stands alone in its row.
    for (n, row) in normal.iter_mut().enumerate().skip(terms) {
        row[n] = 1.0;
    }
    let left = normal.map(|row| [row[0], row[1], row[2], row[3]]);
    let right = normal.map(|row| [row[4]]);
    let solution = solve(left, right).unwrap_or_default().map(|[x]| x);
    let accounted: f64 = solution.iter().zip(normal).map(|(x, row)| x * row[4]).sum();
    let rest = ((squares - accounted).max(0.0) / course.len().max(1) as f64).sqrt();
    (solution[0], solution[1], solution[2].hypot(solution[3]), rest)
}
