//! Damped sinusoids in a complex envelope, by least squares.

use std::f64::consts::TAU;

use pulp::{Arch, Simd, WithSimd};

use super::C;
use crate::linear::{inverse, solve};

/// A search that has not converged by then is given up.
const MOST_ROUNDS: usize = 40;
/// Poles at most, each with the two parts of its amplitude, −α and δ.
const MOST_POLES: usize = 3;
const MOST: usize = 4 * MOST_POLES;

/// A damped sinusoid: its rate −α + jδ in 1/s, and its amplitude at the first value.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Pole {
    pub(crate) rate: C,
    pub(crate) amplitude: C,
}

impl Pole {
    /// Its complex amplitude a time after the first value.
    pub(crate) fn at(&self, seconds: f64) -> C {
        self.amplitude * (self.rate * seconds).exp()
    }

    pub(crate) fn offset_hz(&self) -> f64 {
        self.rate.im / TAU
    }
}

/// The poles that fit best.
pub(super) struct Fit<const P: usize> {
    pub(super) poles: [Pole; P],
    /// Sum of squares that is left.
    pub(super) misfit: f64,
    /// Variance of each α, and the covariance of all δ.
    pub(super) of_decay: [f64; P],
    pub(super) of_turn: [[f64; P]; P],
}

/// Points side by side.
const LANES: usize = 4;

/// Complex values at points side by side, as real and imaginary parts.
#[derive(Debug, Clone, Copy, Default)]
struct Side {
    re: [f64; LANES],
    im: [f64; LANES],
}

impl Side {
    fn set(&mut self, lane: usize, value: C) {
        (self.re[lane], self.im[lane]) = (value.re, value.im);
    }

    #[inline(always)]
    fn times(&self, factor: C) -> Self {
        let mut made = Self::default();
        for lane in 0..LANES {
            made.re[lane] = self.re[lane] * factor.re - self.im[lane] * factor.im;
            made.im[lane] = self.re[lane] * factor.im + self.im[lane] * factor.re;
        }
        made
    }

    /// Adds the products of the conjugates of values with others.
    #[inline(always)]
    fn add_products(&mut self, a: &Self, b: &Self) {
        for lane in 0..LANES {
            self.re[lane] += a.re[lane] * b.re[lane] + a.im[lane] * b.im[lane];
            self.im[lane] += a.re[lane] * b.im[lane] - a.im[lane] * b.re[lane];
        }
    }

    /// Each times a weight of its own.
    #[inline(always)]
    fn weighted(&self, weights: &[f64; LANES]) -> Self {
        let times = |part: &[f64; LANES]| std::array::from_fn(|lane| part[lane] * weights[lane]);
        Self { re: times(&self.re), im: times(&self.im) }
    }

    fn sum(&self) -> C {
        C::new(self.re.iter().sum(), self.im.iter().sum())
    }
}

/// Times, weights and weighted values of points side by side; what is not there is nothing.
#[derive(Debug, Clone, Copy, Default)]
struct Quartet {
    times_s: [f64; LANES],
    weights: [f64; LANES],
    values: Side,
    count: usize,
    /// Whether all four are there, each four steps after one of the quartet before.
    goes_on: bool,
}

/// Of each pole the wave and the slope, z·t, and what all poles leave of the values; all weighted.
#[derive(Debug, Clone, Copy)]
struct Row<const P: usize> {
    waves: [Side; P],
    slopes: [Side; P],
    left: Side,
}

/// Σ of the conjugate of each wave times each wave and the values.
struct Gram<const P: usize> {
    waves: [[C; P]; P],
    values: [C; P],
}

/// Fills in the waves of poles, and gives their products with each other and the values.
struct FillWaves<'a, const P: usize> {
    quartets: &'a [Quartet],
    step_s: f64,
    rates: [C; P],
    rows: &'a mut [Row<P>],
}

impl<const P: usize> WithSimd for FillWaves<'_, P> {
    type Output = Gram<P>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> Gram<P> {
        // From a quartet to the next the waves go on by turning.
        let turns = self.rates.map(|rate| (rate * (LANES as f64 * self.step_s)).exp());
        let mut waves = [Side::default(); P];
        let mut of_waves = [[Side::default(); P]; P];
        let mut of_values = [Side::default(); P];
        for (quartet, row) in self.quartets.iter().zip(self.rows) {
            for (n, wave) in waves.iter_mut().enumerate() {
                if quartet.goes_on {
                    *wave = wave.times(turns[n]);
                } else {
                    *wave = Side::default();
                    for lane in 0..quartet.count {
                        wave.set(lane, (self.rates[n] * quartet.times_s[lane]).exp());
                    }
                }
                row.waves[n] = wave.weighted(&quartet.weights);
            }
            for (n, (of_wave, of_value)) in of_waves.iter_mut().zip(&mut of_values).enumerate() {
                for (product, other) in of_wave.iter_mut().zip(&row.waves).skip(n) {
                    product.add_products(&row.waves[n], other);
                }
                of_value.add_products(&row.waves[n], &quartet.values);
            }
        }
        let product = |n: usize, m: usize| {
            if n > m { of_waves[m][n].sum().conj() } else { of_waves[n][m].sum() }
        };
        Gram {
            waves: std::array::from_fn(|n| std::array::from_fn(|m| product(n, m))),
            values: of_values.map(|sum| sum.sum()),
        }
    }
}

impl<const P: usize> Gram<P> {
    /// The amplitudes whose waves come nearest to the values; `None` where waves are as good as the
    /// same.
    fn amplitudes(mut self) -> Option<[C; P]> {
        const SAME: f64 = 1e-12;
        let own: [f64; P] = std::array::from_fn(|n| self.waves[n][n].re);
        for (n, own) in own.into_iter().enumerate() {
            let pivot = self.waves[n][n];
            if pivot.norm() < SAME * own {
                return None;
            }
            for other in n + 1..P {
                let factor = self.waves[other][n] / pivot;
                for m in n..P {
                    let taken = factor * self.waves[n][m];
                    self.waves[other][m] -= taken;
                }
                let taken = factor * self.values[n];
                self.values[other] -= taken;
            }
        }
        for n in (0..P).rev() {
            for m in n + 1..P {
                let taken = self.waves[n][m] * self.values[m];
                self.values[n] -= taken;
            }
            self.values[n] /= self.waves[n][n];
        }
        self.values.iter().all(|amplitude| amplitude.is_finite()).then_some(self.values)
    }
}

/// Fills in slopes and what poles leave, the sum of the squares of which it gives.
struct FillLeft<'a, const P: usize> {
    quartets: &'a [Quartet],
    poles: &'a [Pole; P],
    rows: &'a mut [Row<P>],
}

impl<const P: usize> WithSimd for FillLeft<'_, P> {
    type Output = f64;

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> f64 {
        let mut squares = [0.0; LANES];
        for (quartet, row) in self.quartets.iter().zip(self.rows) {
            let mut left = quartet.values;
            for (n, pole) in self.poles.iter().enumerate() {
                let whole = row.waves[n].times(pole.amplitude);
                for lane in 0..LANES {
                    left.re[lane] -= whole.re[lane];
                    left.im[lane] -= whole.im[lane];
                    row.slopes[n].re[lane] = whole.re[lane] * quartet.times_s[lane];
                    row.slopes[n].im[lane] = whole.im[lane] * quartet.times_s[lane];
                }
            }
            for (lane, sum) in squares.iter_mut().enumerate() {
                *sum += left.re[lane].powi(2) + left.im[lane].powi(2);
            }
            row.left = left;
        }
        squares.iter().sum()
    }
}

/// JᵀJ and Jᵀr over the real and imaginary part of each amplitude, −α and δ, in blocks of four for
/// a pole; what is beyond the poles is nothing.
struct NormalEquations<'a, const P: usize> {
    rows: &'a [Row<P>],
}

impl<const P: usize> WithSimd for NormalEquations<'_, P> {
    type Output = ([[f64; MOST]; MOST], [f64; MOST]);

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> Self::Output {
        let (mut normal, mut slope) = ([[0.0; MOST]; MOST], [0.0; MOST]);
        // Of the columns and i times either all products are parts of those of the columns.
        let mut set = |n: usize, m: usize, product: C| {
            normal[2 * n][2 * m] = product.re;
            normal[2 * n][2 * m + 1] = -product.im;
            normal[2 * n + 1][2 * m] = product.im;
            normal[2 * n + 1][2 * m + 1] = product.re;
        };
        for n in 0..P {
            let mut of_wave = [[Side::default(); P]; 2];
            let mut of_slope = [[Side::default(); P]; 2];
            let mut of_left = [Side::default(); 2];
            for row in self.rows {
                let (wave, slope) = (&row.waves[n], &row.slopes[n]);
                for m in 0..P {
                    of_wave[0][m].add_products(wave, &row.waves[m]);
                    of_wave[1][m].add_products(wave, &row.slopes[m]);
                    of_slope[0][m].add_products(slope, &row.waves[m]);
                    of_slope[1][m].add_products(slope, &row.slopes[m]);
                }
                of_left[0].add_products(wave, &row.left);
                of_left[1].add_products(slope, &row.left);
            }
            for m in 0..P {
                for kind in 0..2 {
                    set(2 * n, 2 * m + kind, of_wave[kind][m].sum());
                    set(2 * n + 1, 2 * m + kind, of_slope[kind][m].sum());
                }
            }
            for (kind, left) in of_left.iter().enumerate() {
                let left = left.sum();
                slope[4 * n + 2 * kind] = left.re;
                slope[4 * n + 2 * kind + 1] = left.im;
            }
        }
        (normal, slope)
    }
}

/// The first rows and columns of a matrix.
fn corner<const N: usize>(matrix: &[[f64; MOST]; MOST]) -> [[f64; N]; N] {
    std::array::from_fn(|n| std::array::from_fn(|m| matrix[n][m]))
}

/// Solves the first equations; what is beyond them stays put.
fn solve_first<const N: usize>(
    left: &[[f64; MOST]; MOST],
    right: &[f64; MOST],
) -> Option<[f64; MOST]> {
    let found = solve(corner::<N>(left), std::array::from_fn(|n| [right[n]]))?;
    Some(std::array::from_fn(|n| found.get(n).map_or(0.0, |[x]| *x)))
}

/// The inverse of the first rows and columns.
fn inverse_first<const N: usize>(left: &[[f64; MOST]; MOST]) -> Option<[[f64; MOST]; MOST]> {
    let found = inverse(corner::<N>(left))?;
    let at = |n: usize, m: usize| found.get(n).and_then(|row| row.get(m)).copied().unwrap_or(0.0);
    Some(std::array::from_fn(|n| std::array::from_fn(|m| at(n, m))))
}

/// Poles on the way to what fits best.
struct Search<const P: usize> {
    poles: [Pole; P],
    misfit: f64,
    damping: f64,
    /// Whether it gets no better.
    is_done: bool,
    /// The columns of the poles, and room for those that are tried.
    rows: Vec<Row<P>>,
    tried: Vec<Row<P>>,
}

/// Complex values over time, each with what it counts.
#[derive(Default)]
pub(super) struct Weighted {
    quartets: Vec<Quartet>,
    step_s: f64,
    count: usize,
}

impl Weighted {
    /// Of times in seconds and values, one step from each to the next where none is missing.
    pub(super) fn new(values: &[(f64, C)], weights: &[f64], step_s: f64) -> Self {
        let mut before = Quartet::default();
        let quartet = |(points, weights): (&[(f64, C)], &[f64])| {
            let mut quartet = Quartet { count: points.len(), ..Quartet::default() };
            for (lane, ((time_s, value), weight)) in points.iter().zip(weights).enumerate() {
                quartet.times_s[lane] = *time_s;
                quartet.weights[lane] = *weight;
                quartet.values.set(lane, *value * *weight);
            }
            let follows = |lane: usize| {
                let apart_s = quartet.times_s[lane] - before.times_s[lane];
                (apart_s - LANES as f64 * step_s).abs() < 1e-6 * step_s
            };
            quartet.goes_on =
                before.count == LANES && points.len() == LANES && (0..LANES).all(follows);
            before = quartet;
            quartet
        };
        let quartets = values.chunks(LANES).zip(weights.chunks(LANES)).map(quartet).collect();
        Self { quartets, step_s, count: values.len() }
    }

    /// Least squares of the amplitudes for poles, and what they leave; fills in their rows.
    fn try_poles<const P: usize>(
        &self,
        rates: [C; P],
        rows: &mut [Row<P>],
    ) -> Option<([Pole; P], f64)> {
        let quartets = &self.quartets;
        let fill = FillWaves { quartets, step_s: self.step_s, rates, rows: &mut *rows };
        let amplitudes = Arch::new().dispatch(fill).amplitudes()?;
        let poles = std::array::from_fn(|n| Pole { rate: rates[n], amplitude: amplitudes[n] });
        let misfit = Arch::new().dispatch(FillLeft { quartets, poles: &poles, rows });
        Some((poles, misfit))
    }

    pub(super) fn fit<const P: usize>(&self, rates: [C; P], correlated: f64) -> Option<Fit<P>> {
        self.best_of([rates], correlated)
    }

    /// Where the best of several beginnings leads; values are alike in so many steps as one.
    pub(super) fn best_of<const P: usize>(
        &self,
        starts: impl IntoIterator<Item = [C; P]>,
        correlated: f64,
    ) -> Option<Fit<P>> {
        /// By then it shows which beginning leads to the best.
        const FIRST_ROUNDS: usize = 12;
        let begun = starts.into_iter().filter_map(|start| {
            let mut search = self.search(start)?;
            self.go_on(&mut search, FIRST_ROUNDS);
            Some(search)
        });
        let mut best = begun.min_by(|a, b| a.misfit.total_cmp(&b.misfit))?;
        self.go_on(&mut best, MOST_ROUNDS);
        self.fit_of(&best, correlated)
    }

    fn search<const P: usize>(&self, rates: [C; P]) -> Option<Search<P>> {
        let nothing = [Side::default(); P];
        let row = Row { waves: nothing, slopes: nothing, left: Side::default() };
        let mut rows = vec![row; self.quartets.len()];
        let (poles, misfit) = self.try_poles(rates, &mut rows)?;
        Some(Search { poles, misfit, damping: 1e-3, is_done: false, tried: rows.clone(), rows })
    }

    /// Least squares by K. Levenberg's and D. Marquardt's method; the amplitudes follow the poles.
    fn go_on<const P: usize>(&self, search: &mut Search<P>, rounds: usize) {
        /// Of the noise that is left; it moves a pole by a hundredth of its uncertainty.
        const LEAST_GAIN: f64 = 1e-6;
        for _ in 0..rounds {
            if search.is_done {
                return;
            }
            let (mut normal, slope) = Arch::new().dispatch(NormalEquations { rows: &search.rows });
            for (n, row) in normal.iter_mut().enumerate() {
                row[n] *= 1.0 + search.damping;
            }
            let step = match P {
                1 => solve_first::<4>(&normal, &slope),
                2 => solve_first::<8>(&normal, &slope),
                _ => solve_first::<MOST>(&normal, &slope),
            };
            let tried = step.and_then(|step| {
                let moved = |n: usize| C::new(step[4 * n + 2], step[4 * n + 3]);
                let rates = std::array::from_fn(|n| search.poles[n].rate + moved(n));
                self.try_poles(rates, &mut search.tried)
            });
            let Some((poles, left)) = tried else {
                search.is_done = true;
                return;
            };
            if left < search.misfit {
                let gain = (search.misfit - left) / search.misfit.max(f64::MIN_POSITIVE);
                (search.poles, search.misfit) = (poles, left);
                std::mem::swap(&mut search.rows, &mut search.tried);
                search.damping = (search.damping / 5.0).max(1e-12);
                search.is_done = gain < LEAST_GAIN;
            } else {
                search.damping *= 8.0;
                search.is_done = search.damping > 1e6;
            }
        }
    }

    /// What a search has come to, with its uncertainties.
    fn fit_of<const P: usize>(&self, search: &Search<P>, correlated: f64) -> Option<Fit<P>> {
        let (normal, _) = Arch::new().dispatch(NormalEquations { rows: &search.rows });
        let covariance = match P {
            1 => inverse_first::<4>(&normal),
            2 => inverse_first::<8>(&normal),
            _ => inverse_first::<MOST>(&normal),
        }?;
        let free = (2.0 * self.count as f64 - 4.0 * P as f64).max(1.0);
        let noise = search.misfit / free * correlated;
        let of = |n: usize, m: usize| noise * covariance[n][m];
        let turns = |n: usize| std::array::from_fn(|m| of(4 * n + 3, 4 * m + 3));
        Some(Fit {
            poles: search.poles,
            misfit: search.misfit,
            of_decay: std::array::from_fn(|n| of(4 * n + 2, 4 * n + 2).max(0.0)),
            of_turn: std::array::from_fn(turns),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const STEP_S: f64 = 0.02;

    fn pole(decay_per_s: f64, hz: f64, amplitude: f64) -> Pole {
        Pole { rate: C::new(-decay_per_s, TAU * hz), amplitude: C::from_polar(amplitude, hz) }
    }

    /// Values of poles at steps, but for every so many.
    fn values(poles: &[Pole], count: usize, left_out: usize) -> Vec<(f64, C)> {
        let steps = (0..count).filter(|n| n % left_out != left_out - 1);
        let value = |t: f64| (t, poles.iter().map(|pole| pole.at(t)).sum());
        steps.map(|n| value(n as f64 * STEP_S)).collect()
    }

    #[test]
    fn three_poles_are_found_from_near_by_whatever_is_missing() {
        let made = [pole(1.0, 0.3, 1.0), pole(2.5, -0.6, 0.5), pole(0.4, 1.1, 0.1)];
        for left_out in [1000, 11, 5] {
            let values = values(&made, 200, left_out);
            let weighted = Weighted::new(&values, &vec![1.0; values.len()], STEP_S);
            let aside = [C::new(0.1, 0.4), C::new(-0.3, 0.2), C::new(0.05, -0.5)];
            let start: [C; 3] = std::array::from_fn(|n| made[n].rate + aside[n]);
            let fit = weighted.fit(start, 1.0).expect("a fit");
            for (found, made) in fit.poles.iter().zip(&made) {
                assert!((found.rate - made.rate).norm() < 1e-6, "{found:?} {made:?}");
                assert!((found.amplitude - made.amplitude).norm() < 1e-6, "{found:?} {made:?}");
            }
            assert!(fit.misfit < 1e-12, "{}", fit.misfit);
        }
    }

    #[test]
    fn what_counts_nothing_moves_nothing() {
        let made = [pole(1.0, 0.3, 1.0), pole(2.5, -0.6, 0.5)];
        let mut values = values(&made, 120, 1000);
        let mut weights = vec![1.0; values.len()];
        for n in (0..values.len()).step_by(7) {
            values[n].1 += C::new(0.3, -0.2);
            weights[n] = 0.0;
        }
        let start = [made[0].rate + 0.1, made[1].rate - 0.2];
        let fit = Weighted::new(&values, &weights, STEP_S).fit(start, 1.0).expect("a fit");
        for (found, made) in fit.poles.iter().zip(&made) {
            assert!((found.rate - made.rate).norm() < 1e-6, "{found:?} {made:?}");
        }
    }

    #[test]
    fn poles_that_are_the_same_have_no_amplitudes_of_their_own() {
        let one = pole(1.0, 0.3, 1.0);
        let values = values(&[one], 60, 1000);
        let weighted = Weighted::new(&values, &[1.0; 60], STEP_S);
        assert!(weighted.search([one.rate, one.rate]).is_none());
        assert!(weighted.search([one.rate, one.rate + 0.5, one.rate]).is_none());
        assert!(weighted.search([one.rate, one.rate + 0.5]).is_some());
    }

    #[test]
    fn uncertainties_are_those_of_the_noise() {
        // Of a single pole the variance of δ is that of −α, and of the closed form by least squares.
        let made = pole(0.0, 0.0, 1.0);
        let mut values = values(&[made], 100, 1000);
        let noise = 1e-3;
        for (n, (_, value)) in values.iter_mut().enumerate() {
            let sign = |bit: usize| if (n >> bit) & 1 == 0 { noise } else { -noise };
            *value += C::new(sign(0), sign(1));
        }
        let fit = Weighted::new(&values, &[1.0; 100], STEP_S).fit([made.rate], 1.0).expect("a fit");
        let middle_s = values.iter().map(|(t, _)| t).sum::<f64>() / 100.0;
        let square: f64 = values.iter().map(|(t, _)| (t - middle_s).powi(2)).sum();
        let expected = noise * noise * 200.0 / 196.0 / square;
        for found in [fit.of_decay[0], fit.of_turn[0][0]] {
            assert!((found / expected - 1.0).abs() < 0.01, "{found} {expected}");
        }
    }
}
