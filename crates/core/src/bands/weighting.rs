//! The frequency weightings A, C and Z (IEC 61672-1:2013), as curves and as filters.

use std::f64::consts::{PI, TAU};

use pulp::{Arch, Simd, WithSimd};
use serde::{Serialize, Serializer};

use crate::error::Error;
use crate::linear::solve;

/// A frequency weighting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub enum Weighting {
    /// About as sensitive as an ear at low levels.
    A,
    /// Nearly flat, with both ends rolled off.
    C,
    /// Flat.
    #[default]
    Z,
}

/// The poles of the weightings in Hz (IEC 61672-1:2013, annex E): two at the low end of A and C,
/// one each below and above the middle of A, two at the high end of A and C.
const LOW_HZ: f64 = 20.598_997;
const MIDDLE_HZ: [f64; 2] = [107.652_65, 737.862_23];
const HIGH_HZ: f64 = 12_194.217;
/// The pole of Z, which would let DC through.
const DC_HZ: f64 = 0.5;
/// The frequency at which the weightings are 0 dB.
const REFERENCE_HZ: f64 = 1000.0;

impl Weighting {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::A, Self::C, Self::Z];

    /// Its letter.
    #[must_use]
    pub fn letter(self) -> &'static str {
        match self {
            Self::A => "A",
            Self::C => "C",
            Self::Z => "Z",
        }
    }

    /// The weighting at a frequency as a ratio of powers, 1 at 1 kHz:
    /// with f_1 = 20.6 Hz, f_2 = 107.7 Hz, f_3 = 737.9 Hz and f_4 = 12194 Hz,
    /// C ∝ f_4⁴·f⁴ / ((f² + f_1²)²·(f² + f_4²)²) and A ∝ C·f⁴ / ((f² + f_2²)·(f² + f_3²)).
    #[must_use]
    pub fn power(self, hz: f64) -> f64 {
        self.unscaled(hz) / self.unscaled(REFERENCE_HZ)
    }

    fn unscaled(self, hz: f64) -> f64 {
        let low_pass = |pole: f64| 1.0 / (1.0 + (hz / pole).powi(2));
        let high_pass = |pole: f64| hz * hz / (hz * hz + pole * pole);
        let middle: f64 = MIDDLE_HZ.into_iter().map(high_pass).product();
        let c = || low_pass(HIGH_HZ).powi(2) * high_pass(LOW_HZ).powi(2);
        match self {
            Self::A => c() * middle,
            Self::C => c(),
            Self::Z => 1.0,
        }
    }

    /// The poles of its high-pass filters in Hz.
    fn high_pass_hz(self) -> &'static [f64] {
        match self {
            Self::A => &[LOW_HZ, LOW_HZ, MIDDLE_HZ[0], MIDDLE_HZ[1]],
            Self::C => &[LOW_HZ, LOW_HZ],
            Self::Z => &[DC_HZ],
        }
    }
}

impl std::str::FromStr for Weighting {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let named = Self::ALL.into_iter().find(|one| one.letter().eq_ignore_ascii_case(text));
        named.ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a frequency weighting",
            forms: "A, C or Z",
        })
    }
}

impl Serialize for Weighting {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.letter())
    }
}

/// The weightings as filters in time, side by side, right up to half the sample rate.
///
/// The poles at the low end are far below half the sample rate: each is a high-pass filter of first
/// order by the bilinear transform. What is left of the curve, which must not be bent where it
/// meets half the sample rate, is a filter B/A of fifth order of least phase: its poles are those
/// of the curve, and three on the negative axis that follow the corner which every analogue curve
/// has at half the sample rate; its zeros come from |B|² = |H|²·|A|², a polynomial in cos ω fitted
/// by least squares of the relative error. From 32 kHz up it follows the curve to 0.01 dB up to
/// 0.45 of the sample rate and to 0.03 dB at its half; at 8 kHz to 0.04 dB. Z is a high pass at
/// 0.5 Hz, which keeps DC out and takes 0.01 dB at 10 Hz.
#[derive(Debug, Clone)]
pub(super) struct WeightingFilters {
    high_passes: [HighPasses; MOST_HIGH_PASSES],
    rest: Rests,
}

/// A, C and Z, and room to fill a vector.
const WIDTH: usize = 4;
/// High-pass filters that A has; C has fewer.
const MOST_HIGH_PASSES: usize = 4;
/// Zeros and poles that the rest of a curve is made of.
const ORDER: usize = 5;
/// Poles that follow the corner at half the sample rate.
const CORNER_POLES: [f64; 3] = [-0.4, -0.75, -0.95];

/// g·(1 − q·z⁻¹) / (1 − p·z⁻¹) with q = 1, for each weighting; where there is none, g = 1 and the
/// others 0.
#[derive(Debug, Clone, Copy)]
struct HighPass {
    gain: f64,
    zero: f64,
    pole: f64,
}

/// The same side by side, with what they remember.
#[derive(Debug, Clone, Copy, Default)]
struct HighPasses {
    gain: [f64; WIDTH],
    zero: [f64; WIDTH],
    pole: [f64; WIDTH],
    last_in: [f64; WIDTH],
    last: [f64; WIDTH],
}

/// B/A, the denominator without its leading 1.
#[derive(Debug, Clone, Copy)]
struct Rest {
    numerator: [f64; ORDER + 1],
    denominator: [f64; ORDER],
}

/// The same side by side, in transposed direct form.
#[derive(Debug, Clone, Copy, Default)]
struct Rests {
    numerator: [[f64; WIDTH]; ORDER + 1],
    denominator: [[f64; WIDTH]; ORDER],
    state: [[f64; WIDTH]; ORDER],
}

impl WeightingFilters {
    pub(super) fn new(rate_hz: f64) -> Self {
        let mut made = Self { high_passes: Default::default(), rest: Rests::default() };
        for (lane, weighting) in Weighting::ALL.into_iter().enumerate() {
            let (high_passes, rest) = designed(weighting, rate_hz);
            let none = HighPass { gain: 1.0, zero: 0.0, pole: 0.0 };
            let all = high_passes.into_iter().chain(std::iter::repeat(none));
            for (of_both, one) in made.high_passes.iter_mut().zip(all) {
                of_both.gain[lane] = one.gain;
                of_both.zero[lane] = one.zero;
                of_both.pole[lane] = one.pole;
            }
            for (of_both, b) in made.rest.numerator.iter_mut().zip(rest.numerator) {
                of_both[lane] = b;
            }
            for (of_both, a) in made.rest.denominator.iter_mut().zip(rest.denominator) {
                of_both[lane] = a;
            }
        }
        made
    }

    /// Weights samples by each.
    pub(super) fn run(&mut self, samples: &[f64], out: &mut [Vec<f64>; 3]) {
        for out in &mut *out {
            out.resize(samples.len(), 0.0);
        }
        Arch::new().dispatch(Weighing { filters: self, samples, out });
        let of_rest = self.rest.state.as_flattened_mut().iter_mut();
        let of_high_passes = self.high_passes.iter_mut().flat_map(|filter| &mut filter.last);
        of_rest.chain(of_high_passes).for_each(|state| *state = settled(*state));
    }
}

struct Weighing<'a> {
    filters: &'a mut WeightingFilters,
    samples: &'a [f64],
    out: &'a mut [Vec<f64>; 3],
}

impl WithSimd for Weighing<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        let Self { filters, samples, out: [a, c, z] } = self;
        let mut high_passes = filters.high_passes;
        let Rests { numerator, denominator, mut state } = filters.rest;
        for ((x, z), (a, c)) in samples.iter().zip(z).zip(a.iter_mut().zip(c)) {
            let mut value = [*x; WIDTH];
            for HighPasses { gain, zero, pole, last_in, last } in &mut high_passes {
                for lane in 0..WIDTH {
                    let fresh = gain[lane] * (value[lane] - zero[lane] * last_in[lane]);
                    last_in[lane] = value[lane];
                    last[lane] = fresh + pole[lane] * last[lane];
                }
                value = *last;
            }
            let mut out = [0.0; WIDTH];
            for lane in 0..WIDTH {
                out[lane] = numerator[0][lane] * value[lane] + state[0][lane];
            }
            for n in 0..ORDER {
                for lane in 0..WIDTH {
                    let next = if n + 1 < ORDER { state[n + 1][lane] } else { 0.0 };
                    let fed = numerator[n + 1][lane] * value[lane];
                    state[n][lane] = next + fed - denominator[n][lane] * out[lane];
                }
            }
            [*a, *c, *z, _] = out;
        }
        filters.high_passes = high_passes;
        filters.rest.state = state;
    }
}

/// The filters that make up a weighting.
fn designed(weighting: Weighting, rate_hz: f64) -> (Vec<HighPass>, Rest) {
    let poles = weighting.high_pass_hz().iter();
    let high_passes: Vec<HighPass> = poles.map(|hz| HighPass::new(*hz, rate_hz)).collect();
    let rest = match weighting {
        Weighting::Z => Rest::flat(),
        _ => Rest::new(weighting, &high_passes, rate_hz),
    };
    (high_passes, rest)
}

impl HighPass {
    fn new(hz: f64, rate_hz: f64) -> Self {
        // Right at low frequencies, so that what is left to the fit has no bend at the pole.
        let k = PI * hz / rate_hz;
        Self { gain: 1.0 / (1.0 + k), zero: 1.0, pole: (1.0 - k) / (1.0 + k) }
    }

    /// |H|² at an angle.
    fn power(&self, angle: f64) -> f64 {
        let cos = angle.cos();
        let of_zero = 2.0 * self.gain * self.gain * (1.0 - cos);
        of_zero / (1.0 - 2.0 * self.pole * cos + self.pole * self.pole)
    }
}

impl Rest {
    fn flat() -> Self {
        let mut numerator = [0.0; ORDER + 1];
        numerator[0] = 1.0;
        Self { numerator, denominator: [0.0; ORDER] }
    }

    fn new(weighting: Weighting, high_passes: &[HighPass], rate_hz: f64) -> Self {
        const POINTS: usize = 400;
        let high = (-TAU * HIGH_HZ / rate_hz).exp();
        let mut poles = vec![high, high];
        poles.extend(CORNER_POLES);
        let of_poles = |angle: f64| -> f64 {
            poles.iter().map(|p| 1.0 - 2.0 * p * angle.cos() + p * p).product()
        };
        let wanted = |angle: f64| {
            let curve = weighting.power(angle * rate_hz / TAU);
            curve / high_passes.iter().map(|filter| filter.power(angle)).product::<f64>()
        };
        // Densest at both ends.
        let angles = (0..POINTS).map(|n| {
            let share = (n as f64 + 0.5) / POINTS as f64;
            0.5 * PI * (1.0 - (PI * share).cos())
        });
        let mut left = [[0.0; ORDER + 1]; ORDER + 1];
        let mut right = [[0.0]; ORDER + 1];
        for angle in angles {
            let target = wanted(angle) * of_poles(angle);
            let row: [f64; ORDER + 1] = std::array::from_fn(|k| (k as f64 * angle).cos() / target);
            for (j, x) in row.iter().enumerate() {
                right[j][0] += x;
                for (sum, y) in left[j].iter_mut().zip(&row) {
                    *sum += x * y;
                }
            }
        }
        let fitted = solve(left, right).unwrap_or([[0.0]; ORDER + 1]);
        let numerator = of_least_phase(|angle| {
            fitted.iter().enumerate().map(|(k, b)| b[0] * (k as f64 * angle).cos()).sum()
        });
        let mut whole = [0.0; ORDER + 1];
        whole[0] = 1.0;
        for pole in poles {
            for n in (1..=ORDER).rev() {
                whole[n] -= pole * whole[n - 1];
            }
        }
        Self { numerator, denominator: std::array::from_fn(|n| whole[n + 1]) }
    }
}

/// The polynomial of least phase whose squared magnitude is given: from the cepstrum c of that,
/// b_0 = e^{c_0/2} and n·b_n = Σ k·c_k·b_{n−k} (A. V. Oppenheim and R. W. Schafer, "Discrete-Time
/// Signal Processing", the chapter on cepstra).
fn of_least_phase(power: impl Fn(f64) -> f64) -> [f64; ORDER + 1] {
    const POINTS: usize = 2048;
    let mut cepstrum = [0.0; ORDER + 1];
    for n in 0..POINTS {
        let angle = PI * (n as f64 + 0.5) / POINTS as f64;
        let log = power(angle).max(f64::MIN_POSITIVE).ln() / POINTS as f64;
        for (k, c) in cepstrum.iter_mut().enumerate() {
            *c += log * (k as f64 * angle).cos();
        }
    }
    let mut made = [0.0; ORDER + 1];
    made[0] = (0.5 * cepstrum[0]).exp();
    for n in 1..=ORDER {
        made[n] = (1..=n).map(|k| k as f64 * cepstrum[k] * made[n - k]).sum::<f64>() / n as f64;
    }
    made
}

/// What is left of a state: nothing where the processor would become slow for it.
pub(super) fn settled(state: f64) -> f64 {
    if state.abs() < 1e-60 { 0.0 } else { state }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::db_from_power;
    use rustfft::num_complex::Complex64;

    /// |H|² of a weighting at a frequency.
    fn power_at(weighting: Weighting, rate_hz: f64) -> impl Fn(f64) -> f64 {
        let (high_passes, rest) = designed(weighting, rate_hz);
        move |hz| {
            let angle = TAU * hz / rate_hz;
            let back = Complex64::from_polar(1.0, -angle);
            let of = |values: &[f64]| -> Complex64 {
                values.iter().rev().fold(Complex64::default(), |sum, x| sum * back + x)
            };
            let mut whole = vec![1.0];
            whole.extend(rest.denominator);
            let of_rest = (of(&rest.numerator) / of(&whole)).norm_sqr();
            of_rest * high_passes.iter().map(|filter| filter.power(angle)).product::<f64>()
        }
    }

    #[test]
    fn the_curves_are_those_of_the_standard() {
        // IEC 61672-1:2013, table 3.
        for (hz, a_db, c_db) in [
            (10.0, -70.4, -14.3),
            (31.622_776_6, -39.4, -3.0),
            (100.0, -19.1, -0.3),
            (1000.0, 0.0, 0.0),
            (3_162.277_66, 1.2, -0.5),
            (10_000.0, -2.5, -4.4),
            (19_952.623, -9.3, -11.2),
        ] {
            for (weighting, db) in [(Weighting::A, a_db), (Weighting::C, c_db)] {
                let found = db_from_power(weighting.power(hz));
                assert!((found - db).abs() < 0.051, "{weighting:?} at {hz} Hz: {found:.3}, {db}");
            }
        }
    }

    #[test]
    fn filters_follow_the_curves_up_to_half_the_sample_rate() {
        for rate_hz in [1000.0, 8000.0, 11_025.0, 32_000.0, 44_100.0, 48_000.0, 96_000.0, 192_000.0]
        {
            for weighting in [Weighting::A, Weighting::C] {
                let power = power_at(weighting, rate_hz);
                let error_db = |hz: f64| db_from_power(power(hz) / weighting.power(hz)).abs();
                let worst = |from: f64, to: f64| {
                    (0..=400)
                        .map(|n| error_db(from * (to / from).powf(f64::from(n) / 400.0)))
                        .fold(0.0, f64::max)
                };
                let (most, end) = (worst(10.0, 0.45 * rate_hz), error_db(0.499_99 * rate_hz));
                let slack = match rate_hz {
                    ..8000.0 => 0.1,
                    ..32_000.0 => 0.05,
                    _ => 0.01,
                };
                assert!(most < slack && end < 0.03, "{weighting:?} {rate_hz}: {most:.4} {end:.4}");
            }
        }
    }
}
