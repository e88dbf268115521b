//! A periodic wave fitted to values over time: its rate, how that moves, its shape.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use crate::linear;
use crate::measured::Measured;
use crate::transform::{RealTransform, fast_length};

/// Harmonics of a wave at most.
pub(super) const MOST: usize = 6;
/// The mean, rate, slope and growth, and two for each harmonic.
const COUNT: usize = HARMONICS + 2 * MOST;
const RATE: usize = 1;
const SLOPE: usize = 2;
const GROWTH: usize = 3;
/// Where the harmonics begin.
const HARMONICS: usize = 4;

type Column = [f64; COUNT];
type Matrix = [[f64; COUNT]; COUNT];

/// Values at even distances, with what each is worth: the inverse of its variance, but for a factor.
#[derive(Debug, Clone, Copy)]
pub(super) struct Series<'a> {
    pub(super) values: &'a [f64],
    pub(super) weights: Option<&'a [f64]>,
    /// Values per second.
    pub(super) rate_hz: f64,
    /// Each is the mean of so many.
    pub(super) mean_of: usize,
}

impl<'a> Series<'a> {
    pub(super) fn part(&self, from: usize, to: usize) -> Series<'a> {
        let weights = self.weights.map(|weights| &weights[from..to]);
        Series { values: &self.values[from..to], weights, ..*self }
    }

    pub(super) fn lasts_s(&self) -> f64 {
        self.values.len() as f64 / self.rate_hz
    }

    fn weight(&self, n: usize) -> f64 {
        self.weights.map_or(1.0, |weights| weights[n])
    }

    /// Seconds from the middle.
    fn second(&self, n: usize) -> f64 {
        (n as f64 - 0.5 * (self.values.len() - 1) as f64) / self.rate_hz
    }
}

/// y(u) = exp(αu)·(c + Σ a_k·cos kθ + b_k·sin kθ), θ = 2π(ru + su²/2), u seconds from the middle.
#[derive(Debug, Clone)]
pub(super) struct Wave {
    /// Harmonics that are more than noise.
    pub(super) harmonics: usize,
    at: Column,
    /// Inverse of the curvature, times the noise.
    covariance: Matrix,
}

/// What a wave is looked for about.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Near {
    pub(super) rate_hz: f64,
    /// How fast the rate rises, in Hz per second.
    pub(super) slope: f64,
    /// How fast all grows, as a share per second.
    pub(super) growth: f64,
}

/// Where the cosine and the sine of a harmonic stand.
fn places(k: usize) -> (usize, usize) {
    (HARMONICS + 2 * (k - 1), HARMONICS + 2 * (k - 1) + 1)
}

/// Extremes of a wave over its period, with their phases.
struct Extremes {
    most: (f64, f64),
    least: (f64, f64),
}

impl Wave {
    /// Fits a wave whose rate lies near the one given, with harmonics up to `highest_hz`, and
    /// leaves out those that are no more than noise.
    pub(super) fn fit(
        of: Series<'_>,
        Near { rate_hz, slope, growth }: Near,
        highest_hz: f64,
    ) -> Option<Self> {
        /// Most waves have no more.
        const FEW: usize = 3;
        let most = ((highest_hz / rate_hz) as usize).clamp(1, MOST);
        let mut harmonics = most.min(FEW);
        let mut is_tried = false;
        loop {
            let mut free = [true; COUNT];
            free[HARMONICS + 2 * harmonics..].fill(false);
            // Over few periods a moving rate is a matter of shape.
            let periods = rate_hz * of.lasts_s();
            free[SLOPE] = periods > 3.5;
            free[GROWTH] = periods > 2.5;
            let mut at = [0.0; COUNT];
            at[RATE] = rate_hz;
            at[SLOPE] = if free[SLOPE] { slope } else { 0.0 };
            at[GROWTH] = if free[GROWTH] { growth } else { 0.0 };
            let new = Self { harmonics, at, covariance: [[0.0; COUNT]; COUNT] };
            let wave = new.refined(of, free)?;
            let last = (1..=harmonics).rev().find(|k| *k == 1 || wave.is_there(*k)).unwrap_or(1);
            if last > 1 && harmonics < most && !is_tried {
                harmonics = most;
            } else if last < harmonics {
                harmonics = last;
            } else {
                return Some(wave.restored(of));
            }
            is_tried = true;
        }
    }

    /// The same without what means of values lose of each harmonic.
    fn restored(mut self, of: Series<'_>) -> Self {
        let count = of.mean_of as f64;
        let mut lost = [1.0; COUNT];
        for k in 1..=self.harmonics {
            let half = 0.5 * TAU * k as f64 * self.at[RATE] / (of.rate_hz * count);
            let kept = (count * half).sin() / (count * half.sin());
            let (a, b) = places(k);
            (lost[a], lost[b]) = (1.0 / kept, 1.0 / kept);
        }
        self.at.iter_mut().zip(&lost).for_each(|(value, lost)| *value *= lost);
        for (row, row_lost) in self.covariance.iter_mut().zip(&lost) {
            row.iter_mut().zip(&lost).for_each(|(value, lost)| *value *= lost * row_lost);
        }
        self
    }

    /// Whether a harmonic is more than chance makes in one of a hundred.
    fn is_there(&self, k: usize) -> bool {
        let (a, b) = places(k);
        let variance = 0.5 * (self.covariance[a][a] + self.covariance[b][b]);
        self.at[a].powi(2) + self.at[b].powi(2) > 9.2 * variance
    }

    fn refined(mut self, of: Series<'_>, free: [bool; COUNT]) -> Option<Self> {
        const ROUNDS: usize = 30;
        // First what is linear alone.
        let mut linear_free = free;
        linear_free[RATE..HARMONICS].fill(false);
        let (curvature, slope, _) = self.normal(of, &linear_free);
        let step = linear::solve(curvature, slope.map(|value| [value]))?;
        self.at.iter_mut().zip(step).for_each(|(value, [step])| *value += step);
        let (mut curvature, mut slope, mut chi) = self.normal(of, &free);
        for _ in 0..ROUNDS {
            let step = linear::solve(curvature, slope.map(|value| [value]))?;
            let mut share = 1.0;
            let before = chi;
            // A step that goes too far is halved.
            loop {
                let mut next = self.clone();
                next.at.iter_mut().zip(step).for_each(|(value, [step])| *value += share * step);
                let found = next.normal(of, &free);
                if found.2 <= chi && next.at[RATE] > 0.0 {
                    (curvature, slope, chi) = found;
                    self = next;
                    break;
                }
                share *= 0.5;
                if share < 1e-3 {
                    break;
                }
            }
            if share < 1e-3 || before - chi <= 1e-10 * before {
                break;
            }
        }
        let noises = self.noises(of, free.iter().filter(|free| **free).count());
        let roots: Column = std::array::from_fn(|n| match n {
            HARMONICS.. => noises[(n - HARMONICS) / 2].sqrt(),
            _ => noises[0].sqrt(),
        });
        let inverse = linear::inverse(curvature)?;
        for (n, row) in self.covariance.iter_mut().enumerate().filter(|(n, _)| free[*n]) {
            *row = std::array::from_fn(|m| inverse[n][m] * roots[n] * roots[m]);
        }
        self.at.iter().all(|value| value.is_finite()).then_some(self)
    }

    /// The normal equations at this wave, and the sum of squares that is left.
    fn normal(&self, of: Series<'_>, free: &[bool; COUNT]) -> (Matrix, Column, f64) {
        // Half of all waves have three harmonics or fewer: less than the half of the work.
        match HARMONICS + 2 * self.harmonics {
            ..=10 => self.normal_of::<10>(of, free),
            _ => self.normal_of::<COUNT>(of, free),
        }
    }

    /// The same of the first so many numbers.
    fn normal_of<const N: usize>(
        &self,
        of: Series<'_>,
        free: &[bool; COUNT],
    ) -> (Matrix, Column, f64) {
        let mut sums = [[0.0; N]; N];
        let mut slopes = [0.0; N];
        let mut chi = 0.0;
        let mut row = [0.0; COUNT];
        for (n, value) in of.values.iter().enumerate() {
            let left = value - self.derivatives(of.second(n), &mut row);
            let weight = of.weight(n);
            chi += weight * left * left;
            let row: &[f64; N] = row.first_chunk().unwrap_or(&[0.0; N]);
            for i in 0..N {
                let weighted = weight * row[i];
                slopes[i] += weighted * left;
                for j in 0..N {
                    sums[i][j] += weighted * row[j];
                }
            }
        }
        let mut curvature = [[0.0; COUNT]; COUNT];
        let mut slope = [0.0; COUNT];
        for i in 0..COUNT {
            if i >= N || !free[i] {
                curvature[i][i] = 1.0;
                continue;
            }
            slope[i] = slopes[i];
            for j in (0..N).filter(|j| free[*j]) {
                curvature[i][j] = sums[i][j];
            }
        }
        (curvature, slope, chi)
    }

    /// Its value and how that changes with each number.
    fn derivatives(&self, u: f64, row: &mut Column) -> f64 {
        let at = &self.at;
        let growth = if at[GROWTH] == 0.0 { 1.0 } else { (at[GROWTH] * u).exp() };
        let turns = at[RATE] * u + 0.5 * at[SLOPE] * u * u;
        let (sin, cos) = (TAU * (turns - turns.round())).sin_cos();
        let (mut c, mut s) = (cos, sin);
        let (mut shape, mut turning) = (at[0], 0.0);
        row[0] = growth;
        for k in 1..=self.harmonics {
            let (at_a, at_b) = places(k);
            let (a, b) = (at[at_a], at[at_b]);
            row[at_a] = growth * c;
            row[at_b] = growth * s;
            shape += a * c + b * s;
            turning += k as f64 * (b * c - a * s);
            (c, s) = (c * cos - s * sin, s * cos + c * sin);
        }
        row[RATE] = growth * TAU * u * turning;
        row[SLOPE] = 0.5 * u * row[RATE];
        row[GROWTH] = u * growth * shape;
        growth * shape
    }

    /// What it leaves of the values.
    pub(super) fn left(&self, of: Series<'_>) -> Vec<f64> {
        let mut row = [0.0; COUNT];
        let each = of.values.iter().enumerate();
        each.map(|(n, value)| value - self.derivatives(of.second(n), &mut row)).collect()
    }

    /// Variance that white noise would have which is as strong as what is left about each harmonic,
    /// of a fit of so many numbers.
    fn noises(&self, of: Series<'_>, numbers: usize) -> [f64; MOST] {
        let left = self.left(of);
        let size = fast_length(left.len());
        let mut block = vec![0.0; size];
        let (mut sum, count) = (0.0, left.len() as f64);
        for (n, left) in left.iter().enumerate() {
            let window = 0.5 - 0.5 * (TAU * (n as f64 + 0.5) / count).cos();
            block[n] = window * left * of.weight(n).sqrt();
            sum += window * window;
        }
        let mut transform = RealTransform::new(size);
        let bins = transform.forward(&mut block);
        let bin_hz = of.rate_hz / size as f64;
        let last = bins.len() - 1;
        let near = |hz: f64| {
            let low = ((0.5 * hz / bin_hz) as usize).min(last - 1);
            // Wide enough to hold much more than was fitted.
            let high = ((1.5 * hz / bin_hz) as usize).max(low + 3 * numbers).min(last);
            let near = &bins[low..=high];
            let power = near.iter().map(Complex::norm_sqr).sum::<f64>() / sum;
            // Of each number that is fitted, half a bin is missing.
            let missing = if low < 2 { 0.5 * numbers as f64 } else { 1.5 };
            power / (near.len() as f64 - missing).max(1.0)
        };
        std::array::from_fn(|k| {
            if k < self.harmonics { near((k + 1) as f64 * self.at[RATE]) } else { 0.0 }
        })
    }

    pub(super) fn rate_hz(&self) -> Measured {
        Measured::new(self.at[RATE], self.covariance[RATE][RATE].sqrt())
    }

    /// How fast the rate rises, in Hz per second.
    pub(super) fn slope(&self) -> Measured {
        Measured::new(self.at[SLOPE], self.covariance[SLOPE][SLOPE].sqrt())
    }

    /// How fast all grows, as a share per second.
    pub(super) fn growth(&self) -> f64 {
        self.at[GROWTH]
    }

    pub(super) fn mean(&self) -> f64 {
        self.at[0]
    }

    /// Amplitude of the first harmonic.
    pub(super) fn amplitude(&self) -> f64 {
        let (a, b) = places(1);
        self.at[a].hypot(self.at[b])
    }

    fn extremes(&self) -> Extremes {
        const STEPS: usize = 720;
        let place = |n: f64| TAU * n / STEPS as f64;
        let values: Vec<f64> = (0..STEPS).map(|n| self.shape(place(n as f64))).collect();
        let best = |sign: f64| {
            let at = |n: usize| sign * values[n % STEPS];
            let n = (0..STEPS).max_by(|a, b| at(*a).total_cmp(&at(*b))).unwrap_or(0);
            let (before, here, after) = (at(n + STEPS - 1), at(n), at(n + 1));
            let bend = before - 2.0 * here + after;
            let beside = if bend < 0.0 { 0.5 * (before - after) / bend } else { 0.0 };
            let phase = place(n as f64 + beside);
            (phase, self.shape(phase))
        };
        Extremes { most: best(1.0), least: best(-1.0) }
    }

    /// Its value at a phase, growth apart.
    fn shape(&self, phase: f64) -> f64 {
        (1..=self.harmonics).fold(self.at[0], |sum, k| {
            let (sin, cos) = (k as f64 * phase).sin_cos();
            let (a, b) = places(k);
            sum + self.at[a] * cos + self.at[b] * sin
        })
    }

    /// Standard deviation of w_1·shape(phase_1) + w_2·shape(phase_2).
    fn u_of(&self, parts: [(f64, f64); 2]) -> f64 {
        let mut along = [0.0; COUNT];
        for (weight, phase) in parts {
            along[0] += weight;
            for k in 1..=self.harmonics {
                let (sin, cos) = (k as f64 * phase).sin_cos();
                let (a, b) = places(k);
                along[a] += weight * cos;
                along[b] += weight * sin;
            }
        }
        linear::square_of(&self.covariance, &along).max(0.0).sqrt()
    }

    /// (max − min)/(max + min), at most 1.
    pub(super) fn depth(&self) -> Measured {
        let Extremes { most, least } = self.extremes();
        let (high, low) = (most.1, least.1.max(0.0));
        let sum = high + low;
        let parts = [(2.0 * low / (sum * sum), most.0), (-2.0 * high / (sum * sum), least.0)];
        Measured::new((high - low) / sum, self.u_of(parts))
    }

    /// (max − min)/2.
    pub(super) fn deviation(&self) -> Measured {
        let Extremes { most, least } = self.extremes();
        let parts = [(0.5, most.0), (-0.5, least.0)];
        Measured::new(0.5 * (most.1 - least.1), self.u_of(parts))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::white_noise;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    #[test]
    fn a_wave_in_noise_is_found_within_its_uncertainty() {
        let (mut of_rate, mut of_depth, mut inside, mut trials) = (0.0, 0.0, 0, 0);
        for seed in 0..200u64 {
            let mut random = ChaCha8Rng::seed_from_u64(1000 + seed);
            let rate = 0.6 * 200f64.powf(random.random_range(0.0..1.0));
            let (depth, phase) = (random.random_range(0.1..0.9), random.random_range(0.0..TAU));
            let growth = random.random_range(-0.5..0.5);
            let slope = rate * random.random_range(-0.01..0.01);
            let noise = white_noise(seed, 0.02, 8000);
            let values: Vec<f64> = (0..8000)
                .map(|n| {
                    let u = (f64::from(n) - 3999.5) / 1000.0;
                    let theta = TAU * (rate * u + 0.5 * slope * u * u) + phase;
                    (growth * u / 4.0).exp() * (1.0 + depth * theta.cos()) + noise[n as usize]
                })
                .collect();
            let of = Series { values: &values, weights: None, rate_hz: 1000.0, mean_of: 1 };
            let near = Near { rate_hz: rate + 0.02, slope: slope + 0.01, growth: 0.0 };
            let wave = Wave::fit(of, near, 400.0).expect("a fit");
            let (found, found_depth) = (wave.rate_hz(), wave.depth());
            let z = (found.value - rate) / found.u;
            let z_depth = (found_depth.value - depth) / found_depth.u;
            of_rate += z * z;
            of_depth += z_depth * z_depth;
            inside += usize::from(z.abs() < 2.0) + usize::from(z_depth.abs() < 2.0);
            trials += 1;
        }
        let rms = |sum: f64| (sum / f64::from(trials)).sqrt();
        println!("error over u {:.2} {:.2}, {inside} of 400", rms(of_rate), rms(of_depth));
        assert!((0.8..1.25).contains(&rms(of_rate)) && (0.8..1.3).contains(&rms(of_depth)));
    }
}
