//! Two steady tones nearer to each other than frames resolve, in the block sums of one.
//!
//! The block sums of a tone, less what all others put there, are y\[b\] = g₁·exp(jδ₁t) +
//! g₂·exp(jδ₂t) + noise, t from −1 to 1 over the span. Frequencies and complex amplitudes follow by
//! least squares (K. Levenberg's and D. Marquardt's method) from the best pair on a grid a quarter
//! of a cycle per span wide, for which the amplitudes are linear: near the Cramér–Rao bound of both
//! jointly, from about one cycle per span apart.
//!
//! One tone that decays and glides is the rival, y\[b\] = g·exp((α + jδ)t + (β + jγ)t²), with as many
//! unknowns. Two tones are reported only where they explain the sums down to a white residual, and
//! far better than the rival.

use realfft::num_complex::Complex;
use std::f64::consts::{PI, TAU};

use super::tones::Slowness;
use crate::linear;
use crate::transform::complex_forward;

type C = Complex<f64>;

/// Unknowns of either model.
const UNKNOWNS: usize = 6;
/// Nearest tones that are told apart, in cycles per span.
const NEAREST_CYCLES: f64 = 0.6;
/// Steps of the grid in cycles per span, and how far from the tone it reaches at most.
const GRID_CYCLES: f64 = 0.25;
const FARTHEST_CYCLES: f64 = 12.0;
/// Each of the two stands out of its uncertainty by so much, and so does their distance.
const SURE: f64 = 5.0;
/// What is left of two tones is this many times less likely than what is left of the rival, as a
/// natural logarithm: chance gains 3 with as many unknowns.
const BETTER: f64 = 12.0;

/// Two tones in block sums.
#[derive(Debug, Clone)]
pub(super) struct Pair {
    /// Phase advance of each over half the span, in radians, and its amplitude in the middle.
    pub(super) tones: [(f64, C); 2],
    /// Covariance of (advance, real part, imaginary part) of one and the other.
    pub(super) covariance: [[f64; UNKNOWNS]; UNKNOWNS],
}

impl Pair {
    /// Looks for two tones where one leaves more than noise: for two that lie near each other and
    /// not farther than `reach` from the carrier of the sums, in cycles per span; and for one in
    /// what the strongest, `alone`, leaves.
    pub(super) fn find(sums: &[C], alone: (f64, C), reach: f64) -> Option<Self> {
        let near = best_on_grid(sums, reach.min(FARTHEST_CYCLES));
        let starts = near.into_iter().chain(Some([alone, strongest_beside(sums, alone)]));
        let pairs = starts.filter_map(|start| Self::refined(sums, start));
        let left = |pair: &Self| energy(&pair.residual(sums));
        let best = pairs.min_by(|x, y| left(x).total_cmp(&left(y)));
        best.filter(|pair| pair.is_likelier(sums))
    }

    /// The same from tones that are nearly known.
    pub(super) fn refined(sums: &[C], start: [(f64, C); 2]) -> Option<Self> {
        let unknowns = start.map(|(advance, g)| [advance, g.re, g.im]);
        let unknowns = std::array::from_fn(|n| unknowns[n / 3][n % 3]);
        let (unknowns, normal) = least_squares(sums, unknowns, two_tones)?;
        let of = |first: usize| (unknowns[first], C::new(unknowns[first + 1], unknowns[first + 2]));
        let mut pair = Self { tones: [of(0), of(3)], covariance: linear::inverse(normal)? };
        let noise =
            Slowness::of(&pair.residual(sums), pair.middle(), pair.slow(), UNKNOWNS).noise();
        pair.covariance.iter_mut().flatten().for_each(|value| *value *= noise);
        Some(pair)
    }

    /// What of the sums is left.
    fn residual(&self, sums: &[C]) -> Vec<C> {
        let [(first, g), (second, h)] = self.tones;
        let at = |(t, sum): (f64, &C)| sum - g * C::cis(first * t) - h * C::cis(second * t);
        times(sums.len()).zip(sums).map(at).collect()
    }

    /// The frequency between them, in cycles per span from the carrier.
    fn middle(&self) -> f64 {
        (self.tones[0].0 + self.tones[1].0) / TAU
    }

    /// Cycles per span between them.
    fn apart(&self) -> f64 {
        (self.tones[1].0 - self.tones[0].0).abs() / PI
    }

    /// Frequencies about the middle that belong to the pair, in cycles per span.
    fn slow(&self) -> f64 {
        0.5 * self.apart()
    }

    /// Variance of the difference of the advances.
    pub(super) fn beat_variance(&self) -> f64 {
        let c = &self.covariance;
        c[0][0] + c[3][3] - c[0][3] - c[3][0]
    }

    /// Whether two tones, each of which is sure, explain the sums far better than one that changes.
    fn is_likelier(&self, sums: &[C]) -> bool {
        let Some(alone) = rival(sums, self) else { return false };
        let freedom = 2.0 * sums.len() as f64 - UNKNOWNS as f64;
        let left = energy(&self.residual(sums)).max(f64::MIN_POSITIVE);
        self.is_sure() && 0.5 * freedom * (alone / left).ln() > BETTER
    }

    fn is_sure(&self) -> bool {
        let stands_out = |(_, g): &(f64, C), first: usize| {
            let of = |n: usize| self.covariance[first + n][first + n];
            g.norm_sqr() > SURE * SURE * of(1).max(of(2))
        };
        let [one, other] = &self.tones;
        let away = PI * self.apart();
        self.apart() > NEAREST_CYCLES
            && away * away > SURE * SURE * self.beat_variance()
            && stands_out(one, 0)
            && stands_out(other, 3)
    }

    /// The same, and that nothing but noise is left.
    pub(super) fn is_all(&self, sums: &[C]) -> bool {
        let left = self.residual(sums);
        let slowness = Slowness::of(&left, self.middle(), self.slow(), UNKNOWNS);
        self.is_likelier(sums) && !slowness.is_more_than_noise()
    }
}

/// From −1 to 1 over the span, at the middle of each block.
fn times(count: usize) -> impl Iterator<Item = f64> {
    (0..count).map(move |b| (2.0 * b as f64 + 1.0) / count as f64 - 1.0)
}

fn energy(values: &[C]) -> f64 {
    values.iter().map(C::norm_sqr).sum()
}

/// The pair of the grid that takes most from the sums.
fn best_on_grid(sums: &[C], reach: f64) -> Option<[(f64, C); 2]> {
    let steps = (reach / GRID_CYCLES) as i32;
    let advances: Vec<f64> = (-steps..=steps).map(|n| PI * GRID_CYCLES * f64::from(n)).collect();
    let overlap = |advance: f64| -> f64 {
        times(sums.len()).map(|t| (advance * t).cos()).sum::<f64>() / sums.len() as f64
    };
    let overlaps: Vec<f64> =
        (0..advances.len()).map(|n| overlap(PI * GRID_CYCLES * n as f64)).collect();
    let products: Vec<C> = advances
        .iter()
        .map(|advance| {
            let turned = times(sums.len()).zip(sums).map(|(t, sum)| sum * C::cis(-advance * t));
            turned.sum::<C>() / sums.len() as f64
        })
        .collect();
    let nearest = (NEAREST_CYCLES / GRID_CYCLES).ceil() as usize;
    let mut best: Option<(f64, [(f64, C); 2])> = None;
    for n in 0..advances.len() {
        for m in n + nearest..advances.len() {
            let (s, r, overlap) = (products[n], products[m], overlaps[m - n]);
            let determinant = 1.0 - overlap * overlap;
            let (g, h) = ((s - r * overlap) / determinant, (r - s * overlap) / determinant);
            let taken = (s.conj() * g + r.conj() * h).re;
            if best.is_none_or(|(most, _)| taken > most) {
                best = Some((taken, [(advances[n], g), (advances[m], h)]));
            }
        }
    }
    best.map(|(_, pair)| pair)
}

/// The strongest tone in what another leaves.
fn strongest_beside(sums: &[C], (advance, g): (f64, C)) -> (f64, C) {
    /// A maximum is met within an eighth of a cycle per span.
    const PADDING: usize = 4;
    let (count, length) = (sums.len(), PADDING * sums.len());
    let mut left: Vec<C> =
        times(count).zip(sums).map(|(t, sum)| sum - g * C::cis(advance * t)).collect();
    left.resize(length, C::default());
    complex_forward(&mut left);
    let highest = left.iter().map(C::norm_sqr).enumerate().max_by(|x, y| x.1.total_cmp(&y.1));
    let bin = highest.map_or(0, |(bin, _)| bin);
    let cycles = if bin > length / 2 { bin as f64 - length as f64 } else { bin as f64 };
    let advance = PI * cycles / PADDING as f64;
    // The transform counts from the first block, −1 + 1/B.
    let turn = C::cis(advance * (1.0 - 1.0 / count as f64));
    (advance, left[bin] * turn / count as f64)
}

/// Energy that one tone which decays and glides leaves.
fn rival(sums: &[C], pair: &Pair) -> Option<f64> {
    let [one, other] = pair.tones;
    // From the stronger, and from between them.
    let strongest = if one.1.norm_sqr() > other.1.norm_sqr() { one.0 } else { other.0 };
    let left = |advance: f64| {
        let turned = times(sums.len()).zip(sums).map(|(t, sum)| sum * C::cis(-advance * t));
        let g = turned.sum::<C>() / sums.len() as f64;
        let start = [advance, g.re, g.im, 0.0, 0.0, 0.0];
        let (unknowns, _) = least_squares(sums, start, one_that_changes)?;
        let at = |(t, sum): (f64, &C)| (sum - one_that_changes(&unknowns, t).0).norm_sqr();
        Some(times(sums.len()).zip(sums).map(at).sum::<f64>())
    };
    let lefts = [left(strongest), left(0.5 * (one.0 + other.0))];
    lefts.into_iter().flatten().min_by(f64::total_cmp)
}

/// A model's value at a time and its derivatives.
type Modelled = (C, [C; UNKNOWNS]);

fn two_tones(unknowns: &[f64; UNKNOWNS], t: f64) -> Modelled {
    let j = C::i();
    let tone = |first: usize| {
        let turn = C::cis(unknowns[first] * t);
        let value = C::new(unknowns[first + 1], unknowns[first + 2]) * turn;
        (value, [j * t * value, turn, j * turn])
    };
    let ((one, of_one), (other, of_other)) = (tone(0), tone(3));
    let slopes = [of_one, of_other];
    (one + other, std::array::from_fn(|n| slopes[n / 3][n % 3]))
}

fn one_that_changes(unknowns: &[f64; UNKNOWNS], t: f64) -> Modelled {
    let [advance, re, im, decay, bend, glide] = *unknowns;
    let j = C::i();
    let turn = (C::new(decay, advance) * t + C::new(bend, glide) * (t * t)).exp();
    let value = C::new(re, im) * turn;
    (value, [j * t * value, turn, j * turn, t * value, t * t * value, j * (t * t) * value])
}

/// Unknowns that leave least of the sums, and the normal matrix there.
fn least_squares(
    sums: &[C],
    mut unknowns: [f64; UNKNOWNS],
    model: fn(&[f64; UNKNOWNS], f64) -> Modelled,
) -> Option<([f64; UNKNOWNS], [[f64; UNKNOWNS]; UNKNOWNS])> {
    const STEPS: usize = 60;
    let left = |unknowns: &[f64; UNKNOWNS]| -> f64 {
        let at = |(t, sum): (f64, &C)| (sum - model(unknowns, t).0).norm_sqr();
        times(sums.len()).zip(sums).map(at).sum()
    };
    let equations = |unknowns: &[f64; UNKNOWNS]| {
        let mut normal = [[0.0; UNKNOWNS]; UNKNOWNS];
        let mut right = [[0.0; 1]; UNKNOWNS];
        for (t, sum) in times(sums.len()).zip(sums) {
            let (value, slopes) = model(unknowns, t);
            let rest = sum - value;
            for (n, slope) in slopes.iter().enumerate() {
                right[n][0] += (slope.conj() * rest).re;
                for (m, other) in slopes.iter().enumerate() {
                    normal[n][m] += (slope.conj() * other).re;
                }
            }
        }
        (normal, right)
    };
    let (mut now, mut damping) = (left(&unknowns), 1e-3);
    for _ in 0..STEPS {
        let (normal, right) = equations(&unknowns);
        let mut damped = normal;
        (0..UNKNOWNS).for_each(|n| damped[n][n] *= 1.0 + damping);
        let Some(step) = linear::solve(damped, right) else { break };
        let next: [f64; UNKNOWNS] = std::array::from_fn(|n| unknowns[n] + step[n][0]);
        let then = left(&next);
        if then < now {
            let is_done = now - then < 1e-14 * now;
            (unknowns, now) = (next, then);
            damping = (0.1 * damping).max(1e-12);
            if is_done {
                break;
            }
        } else {
            damping *= 10.0;
            if damping > 1e6 {
                break;
            }
        }
    }
    unknowns.iter().all(|x| x.is_finite()).then(|| (unknowns, equations(&unknowns).0))
}
