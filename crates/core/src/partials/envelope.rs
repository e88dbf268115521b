//! How a partial dies away and beats: its complex envelope as one or two damped sinusoids.

use std::f64::consts::TAU;

use pulp::{Arch, Simd, WithSimd};
use rustfft::num_complex::Complex;

use crate::fit::median;
use crate::linear::{inverse, solve};
use crate::measured::Measured;
use crate::transform::complex_forward;

type C = Complex<f64>;

/// Nats of 60 dB.
const SIXTY_DB: f64 = 6.907_755_278_982_137;
/// The envelope is averaged into at most so many points.
const MOST_POINTS: usize = 160;
const FEWEST_POINTS: usize = 5;
const FEWEST_FOR_TWO: usize = 14;
/// Two components are fitted for good only if one misfits by this share, and two fit so much
/// better: the ratio of variances.
const ONE_IS_ENOUGH: f64 = 4e-4;
const MUCH_BETTER: f64 = 15.0;
/// A search that has not converged by then is given up.
const MOST_ROUNDS: usize = 40;
/// Beyond this share one or two damped sinusoids are no account of an envelope.
const NO_ACCOUNT: f64 = 0.25;

/// A component: A·exp((−α + jδ)t), t from the start of the envelope.
#[derive(Debug, Clone, Copy)]
pub(super) struct Component {
    pub(super) frequency_hz: Measured,
    /// α in 1/s.
    pub(super) decay_per_s: Measured,
    pub(super) amplitude: C,
}

impl Component {
    pub(super) fn at(&self, seconds: f64) -> f64 {
        self.amplitude.norm() * (-self.decay_per_s.value * seconds).exp()
    }

    /// The complex amplitude, its turn included.
    pub(super) fn wave(&self, seconds: f64) -> C {
        let turned = TAU * self.frequency_hz.value * seconds;
        self.amplitude * C::from_polar((-self.decay_per_s.value * seconds).exp(), turned)
    }

    /// Mean power from one time to another.
    fn power(&self, from_s: f64, lasting_s: f64) -> f64 {
        let fall = 2.0 * self.decay_per_s.value * lasting_s;
        let share = if fall.abs() < 1e-6 { 1.0 } else { (1.0 - (-fall).exp()) / fall };
        self.at(from_s).powi(2) * share
    }

    /// The time to fall by 60 dB, if it falls enough to be known.
    pub(super) fn t60_s(&self, lasting_s: f64) -> Option<Measured> {
        /// In nats: 2.6 dB.
        const LEAST_FALL: f64 = 0.3;
        let decay = self.decay_per_s;
        let is_known = decay.value > 4.0 * decay.u && decay.value * lasting_s > LEAST_FALL;
        let t60_s = SIXTY_DB / decay.value;
        is_known.then(|| Measured::new(t60_s, t60_s * decay.u / decay.value))
    }
}

/// What an envelope is made of.
#[derive(Debug, Clone)]
pub(super) enum Envelope {
    /// One damped sinusoid.
    One(Component),
    /// Two, the one with more energy first, and how far apart they are in Hz; with the one that
    /// comes nearest to both.
    Two { both: [Component; 2], apart: Measured, one: Component },
    /// Neither: the frequency wavers, or the level does.
    Other,
}

impl Envelope {
    pub(super) fn components_mut(&mut self) -> impl Iterator<Item = &mut Component> {
        let (one, both) = match self {
            Self::One(one) => (Some(one), None),
            Self::Two { both, one, .. } => (Some(one), Some(both)),
            Self::Other => (None, None),
        };
        one.into_iter().chain(both.into_iter().flatten())
    }
}

/// A complex envelope: amplitudes at equal steps; `None` where it is too weak to be read.
pub(super) struct Course<'a> {
    pub(super) values: &'a [Option<C>],
    /// Power of the noise of each, re any.
    pub(super) noise: &'a [f64],
    pub(super) step_s: f64,
    /// Frequency that its phases run at.
    pub(super) frequency_hz: f64,
    /// Time between values whose noise is as good as independent.
    pub(super) independent_s: f64,
}

/// Fits one damped sinusoid, or two where one does not do. Each point counts by the noise there
/// where that makes what is left likelier, with no more components: what a beat leaves in its
/// troughs looks like noise too, and so does an attack.
pub(super) fn envelope(course: &Course) -> Envelope {
    let Some(points) = Points::new(course) else { return Envelope::Other };
    let (even, likelihood) = points.envelope(true);
    let Some(points) = points.weighted() else { return even };
    let (weighted, of_weighted) = points.envelope(!matches!(even, Envelope::One(_)));
    if of_weighted > likelihood { weighted } else { even }
}

/// A pole: −α + jδ in 1/s, with the amplitude at the start.
#[derive(Debug, Clone, Copy)]
struct Pole {
    rate: C,
    amplitude: C,
}

struct Fit<const P: usize> {
    poles: [Pole; P],
    /// Sum of squares that is left.
    misfit: f64,
    /// Variances of α and of δ of each, and of their differences in δ from the first.
    variances: [(f64, f64); P],
    apart_variance: f64,
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

/// Of each pole the waves and the slopes, z·t, and then what poles leave of the values; all weighted.
type Row = [Side; COLUMNS + 1];
/// Two for each of two poles.
const COLUMNS: usize = 4;
const LEFT: usize = COLUMNS;

/// Σ of the conjugate of some columns times each column.
#[inline(always)]
fn products(rows: &[Row], columns: &[usize]) -> [[C; COLUMNS + 1]; COLUMNS] {
    let mut products = [[C::default(); COLUMNS + 1]; COLUMNS];
    for column in columns {
        let mut sums = [Side::default(); COLUMNS + 1];
        for row in rows {
            let of_column = row[*column];
            for (sum, other) in sums.iter_mut().zip(row) {
                sum.add_products(&of_column, other);
            }
        }
        products[*column] = sums.map(|sum| sum.sum());
    }
    products
}

/// Fills the columns of the waves of poles, and gives their products with each other and the
/// values, which stand where what is left will.
struct FillWaves<'a, const P: usize> {
    quartets: &'a [Quartet],
    step_s: f64,
    rates: [C; P],
    rows: &'a mut [Row],
}

impl<const P: usize> WithSimd for FillWaves<'_, P> {
    type Output = [[C; COLUMNS + 1]; COLUMNS];

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> Self::Output {
        // From a quartet to the next the waves go on by turning.
        let turns = self.rates.map(|rate| (rate * (LANES as f64 * self.step_s)).exp());
        let mut waves = [Side::default(); P];
        for (quartet, row) in self.quartets.iter().zip(&mut *self.rows) {
            for (n, wave) in waves.iter_mut().enumerate() {
                if quartet.goes_on {
                    *wave = wave.times(turns[n]);
                } else {
                    *wave = Side::default();
                    for lane in 0..quartet.count {
                        wave.set(lane, (self.rates[n] * quartet.times_s[lane]).exp());
                    }
                }
                row[2 * n] = wave.weighted(&quartet.weights);
            }
            row[LEFT] = quartet.values;
        }
        products(self.rows, if P == 1 { &[0] } else { &[0, 2] })
    }
}

/// Fills the columns of slopes and what poles leave, the sum of the squares of which it gives.
struct FillLeft<'a, const P: usize> {
    quartets: &'a [Quartet],
    poles: &'a [Pole; P],
    rows: &'a mut [Row],
}

impl<const P: usize> WithSimd for FillLeft<'_, P> {
    type Output = f64;

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> f64 {
        let mut squares = [0.0; LANES];
        for (quartet, row) in self.quartets.iter().zip(self.rows) {
            let mut left = quartet.values;
            for (n, pole) in self.poles.iter().enumerate() {
                let whole = row[2 * n].times(pole.amplitude);
                for lane in 0..LANES {
                    left.re[lane] -= whole.re[lane];
                    left.im[lane] -= whole.im[lane];
                    row[2 * n + 1].re[lane] = whole.re[lane] * quartet.times_s[lane];
                    row[2 * n + 1].im[lane] = whole.im[lane] * quartet.times_s[lane];
                }
            }
            for (lane, sum) in squares.iter_mut().enumerate() {
                *sum += left.re[lane].powi(2) + left.im[lane].powi(2);
            }
            row[LEFT] = left;
        }
        squares.iter().sum()
    }
}

/// The products of all columns.
struct Products<'a> {
    rows: &'a [Row],
    used: usize,
}

impl WithSimd for Products<'_> {
    type Output = [[C; COLUMNS + 1]; COLUMNS];

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> Self::Output {
        products(self.rows, &[0, 1, 2, 3][..self.used])
    }
}

/// Poles on the way to what fits best.
struct Search<const P: usize> {
    poles: [Pole; P],
    misfit: f64,
    damping: f64,
    /// Whether it gets no better.
    is_done: bool,
    /// The columns of the poles, and room for those that are tried.
    rows: Vec<Row>,
    tried: Vec<Row>,
}

/// The envelope with the mean frequency taken out, averaged in blocks.
struct Points {
    /// Time of each from the start, with its value.
    values: Vec<(f64, C)>,
    /// Power of the noise of each, and what it counts.
    noise: Vec<f64>,
    weights: Vec<f64>,
    /// The same side by side, and the energy of the weighted values.
    quartets: Vec<Quartet>,
    energy: f64,
    frequency_hz: f64,
    step_s: f64,
    block: usize,
    correlated: f64,
    lasting_s: f64,
}

impl Points {
    /// What fits the points, one component or perhaps two, and the logarithm of the likelihood of
    /// what it leaves.
    fn envelope(&self, perhaps_two: bool) -> (Envelope, f64) {
        let count = self.values.len() as f64;
        let of_weights: f64 = self.weights.iter().map(|weight| 2.0 * weight.ln()).sum();
        let likelihood = |misfit: f64| of_weights - count * misfit.max(f64::MIN_POSITIVE).ln();
        let Some(one) = self.fit([self.start()]) else {
            return (Envelope::Other, f64::NEG_INFINITY);
        };
        let misfit = one.misfit / self.energy;
        if perhaps_two
            && misfit > ONE_IS_ENOUGH.powi(2)
            && self.values.len() >= FEWEST_FOR_TWO
            && let Some(two) = self.best_two(&one.poles[0])
        {
            let free = (2.0 * count / self.correlated - 8.0).max(2.0);
            let better =
                (one.misfit - two.misfit) / 4.0 / (two.misfit / free).max(f64::MIN_POSITIVE);
            if better > MUCH_BETTER && two.misfit < NO_ACCOUNT * self.energy {
                return (self.two(&two, &one), likelihood(two.misfit));
            }
        }
        let envelope = if misfit > NO_ACCOUNT {
            Envelope::Other
        } else {
            Envelope::One(self.component(&one, 0))
        };
        (envelope, likelihood(one.misfit))
    }

    /// The same points, each counting by the noise there; `None` if it is the same for all.
    fn weighted(mut self) -> Option<Self> {
        self.weights = weights_in(&self.noise);
        self.weigh();
        self.weights.iter().any(|weight| *weight != 1.0).then_some(self)
    }

    fn weigh(&mut self) {
        let step_s = self.block as f64 * self.step_s;
        self.quartets = quartets(&self.values, &self.weights, step_s);
        let weighted = self.values.iter().zip(&self.weights);
        self.energy = weighted.map(|((_, z), weight)| weight * weight * z.norm_sqr()).sum();
    }

    fn new(course: &Course) -> Option<Self> {
        let first = course.values.iter().position(Option::is_some)?;
        let last = course.values.iter().rposition(Option::is_some)?;
        let values = &course.values[first..=last];
        let pairs = values.windows(2).filter_map(|pair| Some((pair[0]?, pair[1]?)));
        let turned: C = pairs.map(|(a, b)| b * a.conj()).sum();
        let offset = turned.arg() / course.step_s;
        let block = values.len().div_ceil(MOST_POINTS);
        let blocks = values.chunks(block).zip(course.noise[first..=last].chunks(block));
        let mean = |(n, (block_values, noise)): (usize, (&[Option<C>], &[f64]))| {
            // A block that is not whole would lie beside its middle.
            if block_values.len() < block || block_values.iter().any(Option::is_none) {
                return None;
            }
            let sum: C = (block_values.iter().flatten().enumerate())
                .map(|(m, value)| value * C::cis(-offset * (n * block + m) as f64 * course.step_s))
                .sum();
            let middle = (n * block) as f64 + (block as f64 - 1.0) / 2.0;
            let value = ((first as f64 + middle) * course.step_s, sum / block as f64);
            Some((value, noise.iter().sum::<f64>() / block as f64))
        };
        let (values, noise): (Vec<(f64, C)>, Vec<f64>) =
            blocks.enumerate().filter_map(mean).unzip();
        // The times are from the start of the course, the turn from that of its first value.
        let back = C::cis(-offset * first as f64 * course.step_s);
        let values: Vec<(f64, C)> = values.into_iter().map(|(t, z)| (t, z * back)).collect();
        let (from, to) = (values.first()?.0, values.last()?.0);
        if values.len() < FEWEST_POINTS {
            return None;
        }
        let mut points = Self {
            correlated: (course.independent_s / (block as f64 * course.step_s)).max(1.0),
            frequency_hz: course.frequency_hz + offset / TAU,
            weights: vec![1.0; values.len()],
            noise,
            values,
            quartets: Vec::new(),
            energy: 0.0,
            step_s: course.step_s,
            block,
            lasting_s: to - from,
        };
        points.weigh();
        Some(points)
    }

    /// A single pole by the ratio of neighbours.
    fn start(&self) -> C {
        let (mut products, mut squares) = (C::default(), 0.0);
        let mut step_s = self.step_s;
        for pair in self.values.windows(2) {
            products += pair[1].1 * pair[0].1.conj();
            squares += pair[0].1.norm_sqr();
            step_s = pair[1].0 - pair[0].0;
        }
        (products / squares).ln() / step_s
    }

    fn best_two(&self, one: &Pole) -> Option<Fit<2>> {
        /// By then it shows which start leads to the best.
        const FIRST_ROUNDS: usize = 12;
        let begun = self.starts_of_two(one)?.into_iter().filter_map(|start| {
            let mut search = self.search(start)?;
            self.go_on(&mut search, FIRST_ROUNDS);
            Some(search)
        });
        let mut best = begun.min_by(|a, b| a.misfit.total_cmp(&b.misfit))?;
        self.go_on(&mut best, MOST_ROUNDS);
        self.fit_of(&best)
    }

    /// Pairs of poles to begin with: what one leaves is another frequency, or another decay, or
    /// both lie close on either side. `None` if what it leaves is noise.
    fn starts_of_two(&self, one: &Pole) -> Option<[[C; 2]; 3]> {
        /// What is no more than noise has a spectrum whose greatest lies so little above its mean.
        const OF_NOISE: f64 = 5.0;
        let step_s = self.lasting_s / (self.values.len() - 1) as f64;
        let mut left: Vec<C> = (self.values.iter().zip(&self.weights))
            .map(|((t, z), weight)| (z - one.amplitude * (one.rate * *t).exp()) * weight)
            .collect();
        left.resize(4 * left.len(), C::default());
        let length = left.len();
        complex_forward(&mut left);
        let top = (0..length).max_by(|a, b| left[*a].norm_sqr().total_cmp(&left[*b].norm_sqr()));
        let top = top.unwrap_or(0);
        let mean = left.iter().map(C::norm_sqr).sum::<f64>() / length as f64;
        if left[top].norm_sqr() < OF_NOISE * self.correlated * mean {
            return None;
        }
        let top = top as f64;
        let signed = if top > length as f64 / 2.0 { top - length as f64 } else { top };
        let other = C::new(one.rate.re, TAU * signed / (length as f64 * step_s));
        let aside = C::new(0.0, TAU * 0.4 / self.lasting_s);
        let slope = |part: &[(f64, C)]| {
            let half = part.len() / 2;
            let level = |part: &[(f64, C)]| {
                0.5 * (part.iter().map(|(_, z)| z.norm_sqr()).sum::<f64>() / part.len() as f64).ln()
            };
            (level(&part[half..]) - level(&part[..half])) / (half as f64 * step_s)
        };
        let count = self.values.len();
        let early = slope(&self.values[..(count / 8).max(6)]).min(1.3 * one.rate.re);
        let late = slope(&self.values[count / 2..]).max(0.7 * one.rate.re);
        Some([
            [one.rate, other],
            [C::new(early, one.rate.im), C::new(late, one.rate.im)],
            [one.rate + aside, one.rate - aside],
        ])
    }

    /// Least squares of the amplitudes for poles, and what they leave; fills their columns.
    fn try_poles<const P: usize>(
        &self,
        rates: [C; P],
        rows: &mut [Row],
    ) -> Option<([Pole; P], f64)> {
        let step_s = self.block as f64 * self.step_s;
        let quartets = &self.quartets;
        let gram = Arch::new().dispatch(FillWaves { quartets, step_s, rates, rows: &mut *rows });
        // For one or two poles the normal equations are solved by hand.
        let right = [gram[0][LEFT], gram[2][LEFT]];
        let amplitudes = if P == 1 {
            [right[0] / gram[0][0], C::default()]
        } else {
            let determinant = gram[0][0] * gram[2][2] - gram[0][2] * gram[2][0];
            if determinant.norm() < 1e-12 * (gram[0][0] * gram[2][2]).norm() {
                return None;
            }
            let first = (right[0] * gram[2][2] - gram[0][2] * right[1]) / determinant;
            let second = (gram[0][0] * right[1] - gram[2][0] * right[0]) / determinant;
            [first, second]
        };
        if !amplitudes.iter().all(|amplitude| amplitude.is_finite()) {
            return None;
        }
        let poles = std::array::from_fn(|n| Pole { rate: rates[n], amplitude: amplitudes[n] });
        let misfit = Arch::new().dispatch(FillLeft { quartets, poles: &poles, rows });
        Some((poles, misfit))
    }

    fn fit<const P: usize>(&self, rates: [C; P]) -> Option<Fit<P>> {
        let mut search = self.search(rates)?;
        self.go_on(&mut search, MOST_ROUNDS);
        self.fit_of(&search)
    }

    fn search<const P: usize>(&self, rates: [C; P]) -> Option<Search<P>> {
        let mut rows = vec![Row::default(); self.quartets.len()];
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
            let (normal, slope) = normal_equations::<P>(&search.rows);
            let mut damped = normal;
            for (n, row) in damped.iter_mut().enumerate() {
                row[n] *= 1.0 + search.damping;
            }
            let step = solve(damped, slope.map(|x| [x]));
            let moved = |step: [[f64; 1]; 8]| {
                let turn = |n: usize| C::new(step[4 * n + 2][0], step[4 * n + 3][0]);
                std::array::from_fn(|n| search.poles[n].rate + turn(n))
            };
            let tried = step.and_then(|step| self.try_poles(moved(step), &mut search.tried));
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
    fn fit_of<const P: usize>(&self, search: &Search<P>) -> Option<Fit<P>> {
        let (normal, _) = normal_equations::<P>(&search.rows);
        let covariance = inverse(normal)?;
        let free = (2.0 * self.values.len() as f64 - 4.0 * P as f64).max(1.0);
        let noise = search.misfit / free * self.correlated;
        let of = |n: usize| noise * covariance[n][n].max(0.0);
        let last = 4 * P - 1;
        let shared = if P == 2 { covariance[3][last] } else { 0.0 };
        Some(Fit {
            poles: search.poles,
            misfit: search.misfit,
            variances: std::array::from_fn(|n| (of(4 * n + 2), of(4 * n + 3))),
            apart_variance: (of(3) + of(last) - 2.0 * noise * shared).max(0.0),
        })
    }

    fn component<const P: usize>(&self, fit: &Fit<P>, n: usize) -> Component {
        let pole = fit.poles[n];
        let (of_decay, of_frequency) = fit.variances[n];
        // Averaging a block weakens what turns within it.
        let step = pole.rate * self.step_s;
        let block = self.block as f64;
        let gain = match (step / 2.0).sinh() {
            small if small.norm() < 1e-9 => C::new(1.0, 0.0),
            one => (step * block / 2.0).sinh() / (block * one),
        };
        Component {
            frequency_hz: Measured::new(
                self.frequency_hz + pole.rate.im / TAU,
                of_frequency.sqrt() / TAU,
            ),
            decay_per_s: Measured::new(-pole.rate.re, of_decay.sqrt()),
            amplitude: pole.amplitude / gain,
        }
    }

    fn two(&self, fit: &Fit<2>, of_one: &Fit<1>) -> Envelope {
        let mut both = [self.component(fit, 0), self.component(fit, 1)];
        // A component that is over at once may be huge before the first point, where nothing is
        // known of it.
        let power = |component: &Component| component.power(self.values[0].0, self.lasting_s);
        if power(&both[1]) > power(&both[0]) {
            both.swap(0, 1);
        }
        let apart = (both[0].frequency_hz.value - both[1].frequency_hz.value).abs();
        let apart = Measured::new(apart, fit.apart_variance.sqrt() / TAU);
        Envelope::Two { both, apart, one: self.component(of_one, 0) }
    }
}

/// What values count in least squares of amplitudes, in noise of such powers: 1 in the middle one,
/// and in what may be another by chance alone.
pub(super) fn weights_in(noise: &[f64]) -> Vec<f64> {
    const BY_CHANCE: f64 = 4.0;
    /// Further from the middle none counts as more, or less.
    const LEAST: f64 = 1e-3;
    const MOST: f64 = 1e6;
    let middle = median(noise.iter().copied()).filter(|middle| *middle > 0.0);
    let weight = |noise: &f64| {
        let ratio = middle.map_or(1.0, |middle| noise / middle);
        let is_other = ratio.max(1.0 / ratio) > BY_CHANCE;
        if is_other { ratio.clamp(LEAST, MOST).sqrt().recip() } else { 1.0 }
    };
    noise.iter().map(weight).collect()
}

/// Points as they stand side by side, one step from each to the next where none is missing.
fn quartets(values: &[(f64, C)], weights: &[f64], step_s: f64) -> Vec<Quartet> {
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
        quartet.goes_on = before.count == LANES && points.len() == LANES && (0..LANES).all(follows);
        before = quartet;
        quartet
    };
    values.chunks(LANES).zip(weights.chunks(LANES)).map(quartet).collect()
}

/// JᵀJ and Jᵀr over the real and imaginary part of each amplitude, −α and δ, in blocks of four for
/// a pole: of the columns and i times either, all products are parts of those of the columns.
fn normal_equations<const P: usize>(rows: &[Row]) -> ([[f64; 8]; 8], [f64; 8]) {
    let used = 2 * P;
    let products = Arch::new().dispatch(Products { rows, used });
    let (mut normal, mut slope) = ([[0.0; 8]; 8], [0.0; 8]);
    for n in 0..used {
        slope[2 * n] = products[n][LEFT].re;
        slope[2 * n + 1] = products[n][LEFT].im;
        for m in 0..used {
            let product = products[n][m];
            normal[2 * n][2 * m] = product.re;
            normal[2 * n][2 * m + 1] = -product.im;
            normal[2 * n + 1][2 * m] = product.im;
            normal[2 * n + 1][2 * m + 1] = product.re;
        }
    }
    // What is not used stays put.
    for (n, row) in normal.iter_mut().enumerate().skip(2 * used) {
        row[n] = 1.0;
    }
    (normal, slope)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn course(parts: &[(f64, f64, f64)]) -> Vec<Option<C>> {
        (0..400)
            .map(|n| {
                let t = 0.01 * f64::from(n);
                let part = |(a, hz, decay): &(f64, f64, f64)| {
                    C::new(-decay * t, TAU * hz * t + 0.4).exp() * *a
                };
                let noise = C::new((f64::from(n) * 12.9898).sin(), (f64::from(n) * 78.233).sin());
                Some(parts.iter().map(part).sum::<C>() + 1e-5 * noise)
            })
            .collect()
    }

    fn fitted(parts: &[(f64, f64, f64)]) -> Envelope {
        envelope(&Course {
            values: &course(parts),
            noise: &[1.0; 400],
            step_s: 0.01,
            frequency_hz: 100.0,
            independent_s: 0.01,
        })
    }

    #[test]
    fn one_component_is_one() {
        let Envelope::One(one) = fitted(&[(0.3, 0.7, 2.0)]) else { panic!("one component") };
        assert!((one.frequency_hz.value - 100.7).abs() < 1e-4, "{one:?}");
        assert!((one.decay_per_s.value - 2.0).abs() < 1e-3, "{one:?}");
        assert!((one.amplitude.norm() - 0.3).abs() < 1e-4, "{one:?}");
    }

    #[test]
    fn two_frequencies_and_two_decays_are_told_apart() {
        let Envelope::Two { both: [strong, weak], apart, .. } =
            fitted(&[(0.3, 0.7, 1.0), (0.1, 1.1, 1.4)])
        else {
            panic!("two components")
        };
        assert!((apart.value - 0.4).abs() < 1e-3, "{apart:?}");
        assert!((strong.decay_per_s.value - 1.0).abs() < 0.01, "{strong:?}");
        assert!((weak.amplitude.norm() - 0.1).abs() < 1e-3, "{weak:?}");
        let Envelope::Two { both, .. } = fitted(&[(0.3, 0.0, 5.0), (0.05, 0.0, 0.8)]) else {
            panic!("two decays")
        };
        let mut decays = both.map(|part| part.decay_per_s.value);
        decays.sort_by(f64::total_cmp);
        assert!((decays[0] - 0.8).abs() < 0.01 && (decays[1] - 5.0).abs() < 0.05, "{decays:?}");
    }
}
