//! Damped sinusoids through the bands of a note by least squares: those of a band each by itself,
//! or strings that all bands have in common.
//!
//! A component is A·exp((−α + jω)t). Free, each has its own ω. As strings, ω of string s in partial
//! n follows from that of the first: ω_ns = ω_n1·exp(δ_s + ½·ln((1 + (B + b_s)·n²)/(1 + B·n²)) +
//! ε_ns), where δ_s = ln(F_s/F_1) and b_s = B_s − B are the same for all partials, and ε_ns is what
//! a partial strays by itself, with an expected scatter.
//!
//! By K. Levenberg's and D. Marquardt's method; what belongs to one band alone is eliminated from
//! the normal equations (Schur's complement), so that a round costs as much as the bands do one by
//! one.

use std::f64::consts::TAU;

use super::C;
use super::band::Band;
use crate::linear::{inverse, product, solve, square_of, times, transposed};
pub(super) use crate::partials::Pole;

/// Components of a band at most.
pub(super) const MOST: usize = 3;
/// Parameters of a component: both parts of its amplitude, −α and ω.
const EACH: usize = 4;
/// Parameters of a band, and those that all bands share: δ and b of the second and third string.
pub(super) const OWN: usize = MOST * EACH;
pub(super) const SHARED: usize = 2 * (MOST - 1);

/// The place of the strongest.
pub(super) fn strongest(poles: &[Pole]) -> usize {
    let size = |n: &usize| poles[*n].amplitude.norm();
    (0..poles.len()).max_by(|a, b| size(a).total_cmp(&size(b))).unwrap_or(0)
}

/// The place of the strongest, and of the next.
pub(super) fn two_strongest(poles: &[Pole]) -> (usize, usize) {
    let mut order: Vec<usize> = (0..poles.len()).collect();
    order.sort_by(|a, b| poles[*b].amplitude.norm().total_cmp(&poles[*a].amplitude.norm()));
    (order[0], order[1.min(order.len() - 1)])
}

/// What strings have in common in all partials.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Strings {
    /// Stiffness of the first.
    pub(super) inharmonicity: f64,
    /// δ and b of each other.
    pub(super) others: [(f64, f64); MOST - 1],
    /// Whether δ is fitted, and b.
    pub(super) fits_mistuning: bool,
    /// See above.
    pub(super) fits_stiffness: bool,
    /// Expected scatter of ε; 0 for none.
    pub(super) strays: f64,
}

impl Strings {
    /// ln of the ratio of a partial of another string to that of the first.
    pub(super) fn apart(&self, other: usize, number: usize) -> f64 {
        let (delta, b) = self.others[other];
        let square = (number * number) as f64;
        let stiff = |b: f64| (1.0 + b * square).max(1e-3).ln();
        delta + 0.5 * (stiff(self.inharmonicity + b) - stiff(self.inharmonicity))
    }

    fn slope(&self, other: usize, number: usize) -> f64 {
        let square = (number * number) as f64;
        0.5 * square / (1.0 + (self.inharmonicity + self.others[other].1) * square).max(1e-3)
    }
}

/// Components of a band, and what is known of them.
#[derive(Debug, Clone)]
pub(super) struct Fitted {
    /// Number of the partial.
    pub(super) number: usize,
    pub(super) poles: Vec<Pole>,
    /// What its partial strays from each other string.
    pub(super) strays: [f64; MOST - 1],
    stray_variances: [f64; MOST - 1],
    /// Sum of squares that is left.
    pub(super) misfit: f64,
    /// Covariance of its parameters while those that are shared hold, and how it moves with them;
    /// see [`Solution::variance`].
    covariance: Box<[[f64; OWN]; OWN]>,
    moves: [[f64; SHARED]; OWN],
}

/// A fit of one or more bands.
#[derive(Debug, Clone)]
pub(super) struct Solution {
    pub(super) bands: Vec<Fitted>,
    pub(super) strings: Option<Strings>,
    /// Of δ and b.
    pub(super) covariance: [[f64; SHARED]; SHARED],
    /// What is left, in variances of the noise of each band.
    pub(super) left: f64,
}

impl Solution {
    /// Rates of the components of each band.
    pub(super) fn rates(&self) -> Vec<Vec<C>> {
        let of = |band: &Fitted| band.poles.iter().map(|pole| pole.rate).collect();
        self.bands.iter().map(of).collect()
    }

    /// Variance of what depends so on the parameters of each band, and so on those shared.
    pub(super) fn variance(&self, slopes: &[[f64; OWN]], direct: [f64; SHARED]) -> f64 {
        let mut total = 0.0;
        let mut through = direct;
        for (band, slope) in self.bands.iter().zip(slopes) {
            total += square_of(&band.covariance, slope);
            let moved = times(&transposed(&band.moves), slope);
            through.iter_mut().zip(moved).for_each(|(sum, moved)| *sum += moved);
        }
        (total + square_of(&self.covariance, &through)).max(0.0)
    }

    /// Variance of what a partial strays from another string.
    pub(super) fn stray_variance(&self, band: usize, other: usize) -> f64 {
        self.bands[band].stray_variances[other]
    }

    /// Variance of what depends so on the parameters of one band.
    pub(super) fn variance_of(&self, band: usize, slope: [f64; OWN]) -> f64 {
        let mut slopes = vec![[0.0; OWN]; self.bands.len()];
        slopes[band] = slope;
        self.variance(&slopes, [0.0; SHARED])
    }
}

/// A band with the variance of the noise of a value.
#[derive(Debug, Clone, Copy)]
pub(super) struct Noisy<'a> {
    pub(super) band: &'a Band,
    /// Of both parts of a value together, per independent value.
    pub(super) noise: f64,
}

/// Components of a band for rates, their amplitudes by least squares.
#[derive(Debug, Clone)]
struct Settled {
    poles: Vec<Pole>,
    /// Σ w*·z and Σ t·w*·z of each wave w and the values z.
    onto: [[C; 2]; MOST],
    /// Σ q, Σ t·q and Σ t²·q of the product q of each conjugate wave and each wave.
    products: [[[C; 3]; MOST]; MOST],
    misfit: f64,
}

/// Products of the slopes of a band along the parameters of its components, and those with what is
/// left.
struct Sums {
    normal: [[f64; OWN]; OWN],
    slope: [f64; OWN],
}

impl Band {
    /// Components of these rates; `None` where two of them are the same.
    fn settled(&self, rates: &[C]) -> Option<Settled> {
        const FEW_DIGITS: f64 = 1e-6;
        let mut onto = [[C::default(); 2]; MOST];
        onto.iter_mut().zip(rates).for_each(|(onto, rate)| *onto = self.onto(*rate));
        let mut products = [[[C::default(); 3]; MOST]; MOST];
        for n in 0..rates.len() {
            for m in n..rates.len() {
                products[n][m] = self.products(rates[n], rates[m]);
                products[m][n] = products[n][m].map(|sum| sum.conj());
            }
        }
        let (mut left, mut right) = ([[0.0; 2 * MOST]; 2 * MOST], [[0.0; 1]; 2 * MOST]);
        for n in 0..MOST {
            if n >= rates.len() {
                (left[2 * n][2 * n], left[2 * n + 1][2 * n + 1]) = (1.0, 1.0);
                continue;
            }
            (right[2 * n][0], right[2 * n + 1][0]) = (onto[n][0].re, onto[n][0].im);
            for m in 0..rates.len() {
                let [product, ..] = products[n][m];
                left[2 * n][2 * m] = product.re;
                left[2 * n][2 * m + 1] = -product.im;
                left[2 * n + 1][2 * m] = product.im;
                left[2 * n + 1][2 * m + 1] = product.re;
            }
        }
        let solved = solve(left, right)?;
        let pole = |(n, rate): (usize, &C)| Pole {
            rate: *rate,
            amplitude: C::new(solved[2 * n][0], solved[2 * n + 1][0]),
        };
        let poles: Vec<Pole> = rates.iter().enumerate().map(pole).collect();
        let made =
            poles.iter().zip(&onto).map(|(pole, [onto, _])| (pole.amplitude.conj() * onto).re);
        // What is left of large numbers that nearly cancel has few digits.
        let mut misfit = self.energy - made.sum::<f64>();
        if misfit < FEW_DIGITS * self.energy {
            misfit = self.left(&poles).iter().map(C::norm_sqr).sum();
        }
        misfit.is_finite().then_some(Settled { poles, onto, products, misfit })
    }

    /// What components of these rates leave.
    pub(super) fn misfit_of(&self, rates: &[C]) -> f64 {
        self.settled(rates).map_or(f64::INFINITY, |settled| settled.misfit)
    }

    /// Σ w*·z and Σ t·w*·z of the wave of a rate, in lanes that do not wait for each other.
    fn onto(&self, rate: C) -> [C; 2] {
        const LANES: usize = 4;
        let turn = (rate * self.step_s).exp().conj();
        let mut waves: [C; LANES] = std::array::from_fn(|n| turn.powu(n as u32));
        let far = turn.powu(LANES as u32);
        let (mut sums, mut timed) = ([C::default(); LANES], [C::default(); LANES]);
        let (parts, rest) = self.values.as_chunks::<LANES>();
        let mut count = 0.0;
        for part in parts {
            for n in 0..LANES {
                let product = waves[n] * part[n];
                sums[n] += product;
                timed[n] += product * count;
                waves[n] *= far;
            }
            count += LANES as f64;
        }
        for (n, z) in rest.iter().enumerate() {
            let product = waves[n] * z;
            sums[n] += product;
            timed[n] += product * count;
        }
        let later = sums.iter().enumerate().map(|(n, sum)| sum * n as f64);
        let timed = timed.iter().sum::<C>() + later.sum::<C>();
        [sums.iter().sum(), timed * self.step_s]
    }

    /// Σ q, Σ t·q and Σ t²·q over all values, q being the product of one wave and the conjugate of
    /// another: those of twice as many values follow from those of half.
    fn products(&self, conjugate: C, wave: C) -> [C; 3] {
        let turn = ((conjugate.conj() + wave) * self.step_s).exp();
        let all = self.values.len();
        let (mut sums, mut count, mut power) = ([C::default(); 3], 0.0, C::new(1.0, 0.0));
        for bit in (0..usize::BITS - all.leading_zeros()).rev() {
            let [s, st, stt] = sums;
            sums = [
                s + power * s,
                st + power * (st + s * count),
                stt + power * (stt + st * (2.0 * count) + s * (count * count)),
            ];
            (power, count) = (power * power, 2.0 * count);
            if all >> bit & 1 == 1 {
                sums[0] += power;
                sums[1] += power * count;
                sums[2] += power * (count * count);
                (power, count) = (power * turn, count + 1.0);
            }
        }
        [sums[0], sums[1] * self.step_s, sums[2] * self.step_s * self.step_s]
    }

    /// What components leave of it.
    pub(super) fn left(&self, poles: &[Pole]) -> Vec<C> {
        let of = |(n, z): (usize, &C)| {
            let made: C = poles.iter().map(|pole| pole.at(n as f64 * self.step_s)).sum();
            z - made
        };
        self.values.iter().enumerate().map(of).collect()
    }

    /// The columns are the wave w of each component and its value A·w·t, and i times either: all
    /// products are parts of Σ w*·w, Σ t·w*·w and Σ t²·w*·w.
    fn sums(settled: &Settled) -> Sums {
        let poles = &settled.poles;
        let mut products = [[C::default(); 2 * MOST]; 2 * MOST];
        let mut with_left = [C::default(); 2 * MOST];
        for (n, a) in poles.iter().enumerate() {
            let [onto, timed] = settled.onto[n];
            (with_left[2 * n], with_left[2 * n + 1]) = (onto, a.amplitude.conj() * timed);
            for (m, b) in poles.iter().enumerate() {
                let [q, qt, qtt] = settled.products[n][m];
                let (x, y) = (a.amplitude.conj(), b.amplitude);
                products[2 * n][2 * m] = q;
                products[2 * n][2 * m + 1] = qt * y;
                products[2 * n + 1][2 * m] = x * qt;
                products[2 * n + 1][2 * m + 1] = x * qtt * y;
                with_left[2 * n] -= q * y;
                with_left[2 * n + 1] -= x * qt * y;
            }
        }
        // A complex product has two parts on either side.
        let mut sums = Sums { normal: [[0.0; OWN]; OWN], slope: [0.0; OWN] };
        for (n, (row, with_left)) in products.iter().zip(with_left).enumerate() {
            (sums.slope[2 * n], sums.slope[2 * n + 1]) = (with_left.re, with_left.im);
            for (m, product) in row.iter().enumerate() {
                sums.normal[2 * n][2 * m] = product.re;
                sums.normal[2 * n][2 * m + 1] = -product.im;
                sums.normal[2 * n + 1][2 * m] = product.im;
                sums.normal[2 * n + 1][2 * m + 1] = product.re;
            }
        }
        sums
    }
}

/// Normal equations of a band in what belongs to it alone and what is shared: those of its own
/// parameters, between both, of what is shared, and what is left along each.
struct Blocks {
    own: [[f64; OWN]; OWN],
    between: [[f64; SHARED]; OWN],
    shared: [[f64; SHARED]; SHARED],
    own_slope: [f64; OWN],
    shared_slope: [f64; SHARED],
}

/// Where a fit stands.
#[derive(Clone)]
struct State {
    bands: Vec<Settled>,
    strays: Vec<[f64; MOST - 1]>,
    strings: Option<Strings>,
    left: f64,
}

/// Fits components that start from rates, for each band as many: each with a frequency of its own,
/// or those of strings.
pub(super) fn fit(
    bands: &[Noisy],
    rates: Vec<Vec<C>>,
    strings: Option<Strings>,
) -> Option<Solution> {
    /// What has not converged by then stands as it is.
    const ROUNDS: usize = 40;
    fit_within(ROUNDS, bands, rates, strings)
}

/// The same in no more than so many rounds.
pub(super) fn fit_within(
    rounds: usize,
    bands: &[Noisy],
    rates: Vec<Vec<C>>,
    strings: Option<Strings>,
) -> Option<Solution> {
    /// In variances of the noise, or of what is left where that is more: moves nothing by more than a
    /// tenth of its uncertainty.
    const LEAST_GAIN: f64 = 1e-2;
    let strays = vec![[0.0; MOST - 1]; bands.len()];
    let mut state = State { bands: Vec::new(), strays, strings, left: 0.0 };
    state = settled(bands, state, rates)?;
    let independent = |noisy: &Noisy| 2.0 * noisy.band.values.len() as f64 / noisy.band.correlated;
    let values: f64 = bands.iter().map(independent).sum();
    let mut damping = 1e-3;
    let mut blocks: Vec<Blocks> = blocks_of(bands, &state);
    for _ in 0..rounds {
        let Some(tried) = stepped(bands, &state, &blocks, damping) else {
            damping *= 8.0;
            if damping > 1e7 {
                break;
            }
            continue;
        };
        if tried.left < state.left {
            let gain = state.left - tried.left;
            state = tried;
            if gain < LEAST_GAIN * (state.left / values).max(1.0) {
                break;
            }
            damping = (damping / 5.0).max(1e-10);
            blocks = blocks_of(bands, &state);
        } else {
            damping *= 8.0;
            if damping > 1e7 {
                break;
            }
        }
    }
    solution(bands, &state)
}

/// The state with the amplitudes that belong to rates.
fn settled(bands: &[Noisy], mut state: State, rates: Vec<Vec<C>>) -> Option<State> {
    let mut of_bands = Vec::with_capacity(bands.len());
    state.left = 0.0;
    for (n, (noisy, mut rates)) in bands.iter().zip(rates).enumerate() {
        if let Some(strings) = &state.strings {
            let whole = TAU * noisy.band.centre_hz;
            let first = whole + rates[0].im;
            for (other, rate) in rates[1..].iter_mut().enumerate() {
                let stray = state.strays[n][other];
                let apart = strings.apart(other, noisy.band.number) + stray;
                rate.im = first * apart.exp() - whole;
                if strings.strays > 0.0 {
                    state.left += (stray / strings.strays).powi(2);
                }
            }
        }
        let of_band = noisy.band.settled(&rates)?;
        // The noise of either part has half the variance.
        state.left += 2.0 * of_band.misfit / noisy.noise;
        of_bands.push(of_band);
    }
    state.bands = of_bands;
    Some(state)
}

fn blocks_of(bands: &[Noisy], state: &State) -> Vec<Blocks> {
    let of = |(n, noisy): (usize, &Noisy)| blocks(noisy, &state.bands[n], state.strays[n], state);
    bands.iter().enumerate().map(of).collect()
}

fn blocks(noisy: &Noisy, settled: &Settled, strays: [f64; MOST - 1], state: &State) -> Blocks {
    let poles = &settled.poles;
    let sums = Band::sums(settled);
    let scale = 2.0 / noisy.noise;
    let normal = sums.normal.map(|row| row.map(|x| scale * x));
    let slope = sums.slope.map(|x| scale * x);
    let (to_own, to_shared) = transfer(noisy.band, poles, state.strings.as_ref());
    let (from_own, from_shared) = (transposed(&to_own), transposed(&to_shared));
    let half_shared = product(&normal, &to_shared);
    let mut blocks = Blocks {
        own: product(&from_own, &product(&normal, &to_own)),
        between: product(&from_own, &half_shared),
        shared: product(&from_shared, &half_shared),
        own_slope: times(&from_own, &slope),
        shared_slope: times(&from_shared, &slope),
    };
    if let Some(strings) = state.strings.filter(|strings| strings.strays > 0.0) {
        let weight = strings.strays.powi(-2);
        for (other, stray) in strays.iter().enumerate().take(poles.len() - 1) {
            let place = EACH * (other + 1) + 3;
            blocks.own[place][place] += weight;
            blocks.own_slope[place] -= weight * stray;
        }
    }
    // What is not used stays put.
    for (n, row) in blocks.own.iter_mut().enumerate() {
        row[n] = if row[n] == 0.0 { 1.0 } else { row[n] };
    }
    blocks
}

/// Slopes of the parameters of components along those of their band alone, and along those shared.
/// Of a band they are the same, but ω of another string follows that of the first, δ and b, with ε
/// in its place.
fn transfer(
    band: &Band,
    poles: &[Pole],
    strings: Option<&Strings>,
) -> ([[f64; OWN]; OWN], [[f64; SHARED]; OWN]) {
    let mut to_own = [[0.0; OWN]; OWN];
    let mut to_shared = [[0.0; SHARED]; OWN];
    for (n, row) in to_own.iter_mut().enumerate().take(EACH * poles.len()) {
        row[n] = 1.0;
    }
    let Some(strings) = strings else { return (to_own, to_shared) };
    let whole = TAU * band.centre_hz;
    for (other, pole) in poles[1..].iter().enumerate() {
        let place = EACH * (other + 1) + 3;
        let omega = whole + pole.rate.im;
        to_own[place][place] = if strings.strays > 0.0 { omega } else { 0.0 };
        to_own[place][3] = omega / (whole + poles[0].rate.im);
        to_shared[place][2 * other] = if strings.fits_mistuning { omega } else { 0.0 };
        if strings.fits_stiffness {
            to_shared[place][2 * other + 1] = omega * strings.slope(other, band.number);
        }
    }
    (to_own, to_shared)
}

/// The inverse of a matrix of sums of squares whose parameters differ in size; `None` where some
/// parameter is not known at all.
fn scaled_inverse<const N: usize>(matrix: [[f64; N]; N]) -> Option<[[f64; N]; N]> {
    let sizes: [f64; N] = std::array::from_fn(|n| matrix[n][n].max(0.0).sqrt());
    let scaled = |mut matrix: [[f64; N]; N]| {
        for (row, a) in matrix.iter_mut().zip(&sizes) {
            row.iter_mut().zip(&sizes).for_each(|(x, b)| *x /= a * b);
        }
        matrix
    };
    let inverted = scaled(inverse(scaled(matrix))?);
    let is_known = (0..N).all(|n| inverted[n][n] > 0.0 && inverted[n][n].is_finite());
    is_known.then_some(inverted)
}

/// Normal equations of what is shared once what belongs to each band alone is eliminated, and the
/// inverses of those of each band.
struct Reduced {
    normal: [[f64; SHARED]; SHARED],
    slope: [f64; SHARED],
    inverses: Vec<[[f64; OWN]; OWN]>,
}

fn reduced(blocks: &[Blocks], damping: f64) -> Option<Reduced> {
    fn damped<const N: usize>(mut matrix: [[f64; N]; N], damping: f64) -> [[f64; N]; N] {
        for (n, row) in matrix.iter_mut().enumerate() {
            row[n] *= 1.0 + damping;
        }
        matrix
    }
    let (mut normal, mut slope) = ([[0.0; SHARED]; SHARED], [0.0; SHARED]);
    let mut inverses = Vec::with_capacity(blocks.len());
    for block in blocks {
        let inverted = scaled_inverse(damped(block.own, damping))?;
        let along = product(&transposed(&block.between), &inverted);
        let (less, slope_less) = (product(&along, &block.between), times(&along, &block.own_slope));
        let shared = damped(block.shared, damping);
        for a in 0..SHARED {
            slope[a] += block.shared_slope[a] - slope_less[a];
            let row = shared[a].iter().zip(&less[a]);
            normal[a].iter_mut().zip(row).for_each(|(sum, (x, less))| *sum += x - less);
        }
        inverses.push(inverted);
    }
    // What is not fitted stays put.
    for n in 0..SHARED {
        if !is_fitted(blocks, n) {
            (normal[n], normal[n][n], slope[n]) = ([0.0; SHARED], 1.0, 0.0);
        }
    }
    Some(Reduced { normal, slope, inverses })
}

fn is_fitted(blocks: &[Blocks], shared: usize) -> bool {
    blocks.iter().any(|block| block.shared[shared][shared] > 0.0)
}

fn stepped(bands: &[Noisy], state: &State, blocks: &[Blocks], damping: f64) -> Option<State> {
    let Reduced { normal, slope, inverses } = reduced(blocks, damping)?;
    let shared = solve(normal, slope.map(|x| [x]))?.map(|row| row[0]);
    let mut moved = state.clone();
    if let Some(strings) = &mut moved.strings {
        for (other, (delta, b)) in strings.others.iter_mut().enumerate() {
            *delta += if strings.fits_mistuning { shared[2 * other] } else { 0.0 };
            *b += if strings.fits_stiffness { shared[2 * other + 1] } else { 0.0 };
        }
    }
    let mut rates = Vec::with_capacity(bands.len());
    for (n, (block, inverted)) in blocks.iter().zip(&inverses).enumerate() {
        let of_shared = times(&block.between, &shared);
        let rest: [f64; OWN] = std::array::from_fn(|a| block.own_slope[a] - of_shared[a]);
        let step = times(inverted, &rest);
        let mut of_band: Vec<C> = state.bands[n].poles.iter().map(|pole| pole.rate).collect();
        for (m, rate) in of_band.iter_mut().enumerate() {
            rate.re += step[EACH * m + 2];
            if m == 0 || state.strings.is_none() {
                rate.im += step[EACH * m + 3];
            } else if state.strings.is_some_and(|strings| strings.strays > 0.0) {
                moved.strays[n][m - 1] += step[EACH * m + 3];
            }
        }
        rates.push(of_band);
    }
    settled(bands, moved, rates)
}

fn solution(bands: &[Noisy], state: &State) -> Option<Solution> {
    let blocks = blocks_of(bands, state);
    let Reduced { normal, inverses, .. } = reduced(&blocks, 0.0)?;
    let mut covariance = scaled_inverse(normal)?;
    for (n, row) in covariance.iter_mut().enumerate() {
        row[n] = if is_fitted(&blocks, n) { row[n] } else { 0.0 };
    }
    let mut fitted = Vec::with_capacity(bands.len());
    for (n, (block, inverted)) in blocks.iter().zip(&inverses).enumerate() {
        let Settled { poles, misfit, .. } = &state.bands[n];
        let (to_own, to_shared) = transfer(bands[n].band, poles, state.strings.as_ref());
        let half = product(&to_own, inverted);
        let indirect = product(&half, &block.between);
        let through = product(inverted, &block.between);
        let moves =
            std::array::from_fn(|a| std::array::from_fn(|b| to_shared[a][b] - indirect[a][b]));
        let stray_variance = |other: usize| {
            let place = EACH * (other + 1) + 3;
            inverted[place][place] + square_of(&covariance, &through[place])
        };
        fitted.push(Fitted {
            number: bands[n].band.number,
            poles: poles.clone(),
            strays: state.strays[n],
            stray_variances: std::array::from_fn(stray_variance),
            misfit: *misfit,
            covariance: Box::new(product(&half, &transposed(&to_own))),
            moves,
        });
    }
    Some(Solution { bands: fitted, strings: state.strings, covariance, left: state.left })
}
