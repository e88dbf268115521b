//! The law of a stiff string through its partials, with those left out that do not keep to it.

use crate::fit::median;
use crate::linear::inverse;
use crate::measured::Measured;
use crate::units::{cents_between, cents_u};

/// A partial stands off the law if it lies beyond so many times the scatter, and by this many
/// cents.
const OFF_SCATTERS: f64 = 6.0;
const OFF_CENTS: f64 = 1.0;
/// Scatter below which only rounding is left, in cents.
const LEAST_SCATTER: f64 = 1e-6;

/// F and B of f_n = n·F·√(1 + B·n²).
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct StringLaw {
    pub(crate) stiff_f_hz: Measured,
    pub(crate) inharmonicity: Measured,
    /// Frequency of the first partial, F·√(1 + B).
    pub(crate) f0_hz: Measured,
    /// Scatter of the partials about the law, in cents.
    pub(crate) scatter_cents: f64,
}

impl StringLaw {
    pub(super) fn place_hz(&self, number: usize) -> f64 {
        let n = number as f64;
        n * self.stiff_f_hz.value * (1.0 + self.inharmonicity.value * n * n).max(0.0).sqrt()
    }

    pub(super) fn is_off(&self, number: usize, frequency_hz: f64) -> bool {
        let cents = cents_between(self.place_hz(number), frequency_hz).abs();
        cents > OFF_CENTS && cents > OFF_SCATTERS * self.scatter_cents
    }
}

/// Fits the law by least squares of (f/n)² = F²·(1 + B·n²), reweighted by J. W. Tukey's biweight so
/// that single partials off the law do not bend it. The weights take in the scatter of the partials
/// about the law: it is no noise of the measurement, but goes into what is stated.
pub(crate) fn string_law(partials: &[(usize, Measured)]) -> Option<StringLaw> {
    /// Reweighting settles within ten rounds.
    const ROUNDS: usize = 30;
    /// Tukey's biweight with 95 % efficiency for normal noise (Holland and Welsch, 1977).
    const CUT: f64 = 4.685;
    let first = partials.iter().min_by_key(|(number, _)| *number)?;
    let base_hz = first.1.value / first.0 as f64;
    if partials.len() == 1 {
        let u = first.1.u / first.0 as f64;
        let f_hz = Measured::new(base_hz, u);
        return Some(StringLaw {
            stiff_f_hz: f_hz,
            inharmonicity: Measured::new(0.0, f64::NAN),
            f0_hz: f_hz,
            scatter_cents: 0.0,
        });
    }
    let cent = 2.0 * std::f64::consts::LN_2 / 1200.0;
    let mut scatter: f64 = 5.0;
    let mut kept = vec![1.0; partials.len()];
    let (mut f, mut slope, mut covariance) = (1.0, 0.0, [[0.0; 2]; 2]);
    for _ in 0..ROUNDS {
        let mut normal = [[0.0; 2]; 2];
        let mut right = [0.0; 2];
        for ((number, hz), kept) in partials.iter().zip(&kept) {
            let n = *number as f64;
            let y = (hz.value / (n * base_hz)).powi(2);
            let variance = (cent * y).powi(2) * (cents_u(hz).powi(2) + scatter * scatter);
            let weight = kept / variance;
            let row = [1.0, n * n];
            for a in 0..2 {
                right[a] += weight * row[a] * y;
                for b in 0..2 {
                    normal[a][b] += weight * row[a] * row[b];
                }
            }
        }
        covariance = inverse(normal)?;
        f = covariance[0][0] * right[0] + covariance[0][1] * right[1];
        slope = covariance[1][0] * right[0] + covariance[1][1] * right[1];
        let off: Vec<f64> = partials
            .iter()
            .map(|(number, hz)| {
                let n = *number as f64;
                let place = n * base_hz * (f + slope * n * n).max(1e-9).sqrt();
                cents_between(place, hz.value)
            })
            .collect();
        // Two constants are fitted: they take up part of the scatter.
        let count = off.len() as f64;
        let taken_up = (count / (count - 2.0).max(0.5)).sqrt();
        let usual = median(off.iter().map(|cents| cents.abs())).unwrap_or(0.0);
        let spread = 1.4826 * taken_up * usual;
        let of_noise = partials.iter().map(|(_, hz)| cents_u(hz)).fold(0.0, f64::max);
        for ((weight, cents), (_, hz)) in kept.iter_mut().zip(&off).zip(partials) {
            let reach = CUT * spread.max(LEAST_SCATTER).hypot(cents_u(hz));
            *weight = (1.0 - (cents / reach).powi(2)).max(0.0).powi(2);
        }
        // What the noise accounts for is no scatter, and what is hardly known shows little of it.
        let (mut whitened, mut weights, mut squares) = (0.0, 0.0, 0.0);
        for ((cents, (_, hz)), kept) in off.iter().zip(partials).zip(&kept) {
            let noise = cents_u(hz).powi(2);
            let weight = kept / (noise + spread * spread + scatter * scatter).powi(2);
            whitened += weight * (cents * cents - noise);
            weights += weight;
            squares += weight * weight;
        }
        // As many as weigh alike.
        let all = weights * weights / squares;
        let before = scatter;
        let variance = whitened / weights * all / (all - 2.0).max(0.5);
        scatter = variance.max(0.0).sqrt().max(LEAST_SCATTER);
        if (scatter - before).abs() < 1e-6 * before.max(of_noise) {
            break;
        }
    }
    let b = slope / f;
    let stiff_f_hz = base_hz * f.max(1e-9).sqrt();
    // B = slope/f: its variance by the rule of products.
    let b_variance =
        (covariance[1][1] - 2.0 * b * covariance[0][1] + b * b * covariance[0][0]) / (f * f);
    let f0_square = f + slope;
    let f0_variance = covariance[0][0] + 2.0 * covariance[0][1] + covariance[1][1];
    let f0_hz = base_hz * f0_square.max(1e-9).sqrt();
    Some(StringLaw {
        stiff_f_hz: Measured::new(stiff_f_hz, 0.5 * stiff_f_hz * covariance[0][0].sqrt() / f),
        inharmonicity: Measured::new(b, b_variance.max(0.0).sqrt()),
        f0_hz: Measured::new(f0_hz, 0.5 * f0_hz * f0_variance.max(0.0).sqrt() / f0_square),
        scatter_cents: scatter,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partials_off_the_law_are_left_out() {
        let place = |n: usize| {
            let n = n as f64;
            Measured::new(n * 110.0 * (1.0 + 3e-4 * n * n).sqrt(), 1e-4)
        };
        let mut partials: Vec<(usize, Measured)> = (1..=16).map(|n| (n, place(n))).collect();
        partials[0].1.value *= (4.0f64 / 1200.0).exp2();
        partials[9].1.value *= (-9.0f64 / 1200.0).exp2();
        let law = string_law(&partials).expect("a law");
        assert!((law.inharmonicity.value / 3e-4 - 1.0).abs() < 1e-4, "{law:?}");
        let off: Vec<usize> = partials
            .iter()
            .filter(|(number, hz)| law.is_off(*number, hz.value))
            .map(|(number, _)| *number)
            .collect();
        assert_eq!(off, [1, 10]);
    }
}
