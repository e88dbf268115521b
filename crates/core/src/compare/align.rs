//! How two recordings of one sound lie to each other: delay, polarity, drift of the clocks, gain.
//!
//! 1. The loudest stretch of the first, of four seconds and of half a second at most, is correlated
//!    with the whole of the second by the generalized cross-correlation (C. H. Knapp and G. C.
//!    Carter, IEEE Trans. ASSP 24, 1976) G = A*·B·W, once with W = 1, which is best where noise is
//!    white, and once with W = |A*B|^−½, which a rumble or a filter in one of them does not
//!    mislead; and once over the powers of what lies over each other, which a recording that begins
//!    late does not mislead. The one that makes the two most alike stands.
//! 2. From there outwards, stretch by stretch, the delay that maximises Σ Re(A*·B·e^{jωτ}) is found
//!    between samples by Newton's method, near where the stretches before lead to expect it. With r
//!    the correlation of a stretch of L samples and ω_r the RMS frequency, its variance is (1 − r²)
//!    / (r²·L·ω_r²): the Cramér–Rao bound for white noise.
//! 3. A straight line through them, weighted by these variances and without outlying stretches,
//!    gives the delay and the drift. Where the stretches scatter by more than the bound, so much
//!    greater is the uncertainty.

use rustfft::num_complex::Complex;

use crate::between::Interpolator;
use crate::fit;
use crate::measured::Measured;
use crate::transform::{RealTransform, fast_length, inverse};
use crate::window::WindowKind;

type C = Complex<f64>;

/// What is correlated first, in seconds: the long one resolves periods, the short one bears a
/// drift.
const ANCHORS_S: [f64; 2] = [4.0, 0.5];
/// Stretches are not longer, in seconds, nor shorter, in samples.
const LONGEST_STRETCH_S: f64 = 0.5;
const SHORTEST_STRETCH: usize = 64;
/// Stretches, which overlap by half, at least.
const FEWEST_STRETCHES: usize = 11;
/// The greatest difference of two clocks that is looked for, as a share.
const MOST_DRIFT: f64 = 1e-3;
/// So many samples are searched to either side of the place that neighbours lead to expect.
const SEARCHED: f64 = 2.0;
/// Places that are tried at the highest tops of each correlation.
const TRIED: usize = 4;
/// A stretch that is less alike shows nothing.
const LEAST_CORRELATION: f64 = 0.1;
/// A delay is a rival of the best if what the two do not share there is less than so many times as
/// much, and little.
const RIVAL: f64 = 1.6;
const MOST_RIVAL_MISS: f64 = 0.1;
/// The line is a slope only if it is so many times its uncertainty.
const SURE_OF_DRIFT: f64 = 4.0;

/// How a second recording lies to a first. A sound at a time t of the first is at t + delay +
/// drift·t in the second, both counted in seconds from the first samples.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Placed {
    pub(super) delay_s: Measured,
    /// How much faster time runs in the second, in parts per million; `None` for recordings too
    /// short to tell.
    pub(super) drift_ppm: Option<Measured>,
    /// Whether the drift is taken into account.
    pub(super) is_drifting: bool,
    /// Gain of the second re the first, negative for reversed polarity.
    pub(super) gain: Measured,
    /// Another delay in seconds at which the two are nearly as much alike.
    pub(super) rival_s: Option<f64>,
    /// Correlation of the two where they lie over each other, from 0 to 1.
    pub(super) correlation: f64,
    /// The second on the clock of the first, and where in the first it begins.
    pub(super) shifted: Vec<f32>,
    pub(super) start: usize,
}

/// One stretch of the first and where it lies in the second.
#[derive(Debug, Clone, Copy)]
struct Stretch {
    middle: f64,
    delay: f64,
    variance: f64,
}

/// Aligns `b` to `a`, both at one rate; `None` where nothing alike is in them.
pub(super) fn align(a: &[f32], b: &[f32], rate_hz: f64) -> Option<Placed> {
    let finder = Finder::new(a, b, rate_hz)?;
    // Five standard deviations of the power of noise in so many samples.
    let by_chance = 5.0 * (2.0 / a.len().min(b.len()) as f64).sqrt();
    let mut misses: Vec<(f64, f64)> = Vec::new();
    let mut best: Option<(Vec<Stretch>, f64)> = None;
    let mut anchors = ANCHORS_S.map(|longest_s| finder.anchor(longest_s)).to_vec();
    anchors.dedup();
    for start in anchors.into_iter().flat_map(|span| finder.starts(span)) {
        let (found, shared) = finder.follow(start);
        if let Some(first) = found.first() {
            misses.push((first.delay, 1.0 - shared));
        }
        // Where two places are as good but for chance, the first is the likelier.
        let is_better =
            best.as_ref().is_none_or(|(_, most)| 1.0 - shared < (1.0 - by_chance) * (1.0 - most));
        if is_better {
            best = Some((found, shared));
        }
    }
    let (best, shared) = best.filter(|(stretches, _)| !stretches.is_empty())?;
    let apart = |delay: f64| (delay - best[0].delay).abs() > 1.0;
    let rivals = misses.iter().filter(|(delay, miss)| {
        apart(*delay) && *miss < RIVAL * (1.0 - shared) && *miss < MOST_RIVAL_MISS
    });
    let rival = rivals.min_by(|x, y| x.1.total_cmp(&y.1)).map(|(delay, _)| delay / rate_hz);
    let energy = |x: &[f32]| x.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>();
    let line = Line::through(best, a.len() as f64 / rate_hz >= 1.0)?;
    let between = Interpolator::wide();
    let (start, shifted) = line.shifted(b, a.len(), &between);
    let a = &a[start..start + shifted.len()];
    let gain = gain(a, &shifted, finder.length)?;
    // The power of the second is taken from its own samples: what is read between them lacks the
    // highest frequencies.
    let first = (start as f64 + line.delay.value + line.slope * start as f64).round() as usize;
    let own = &b[first.min(b.len())..(first + shifted.len()).min(b.len())];
    let (own_energy, read_energy) = (energy(own), energy(&shifted));
    let scale = if read_energy > 0.0 { (own_energy / read_energy).sqrt() } else { 1.0 };
    let gain = Measured::new(gain.value * scale, gain.u * scale);
    let products: f64 = a.iter().zip(&shifted).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum();
    let whole = (energy(a) * energy(&shifted)).sqrt();
    Some(Placed {
        delay_s: Measured::new(line.delay.value / rate_hz, line.delay.u / rate_hz),
        drift_ppm: line.drift.map(|drift| Measured::new(1e6 * drift.value, 1e6 * drift.u)),
        is_drifting: line.is_sloping,
        gain,
        rival_s: rival,
        correlation: if whole > 0.0 { (products.abs() / whole).min(1.0) } else { 0.0 },
        shifted,
        start,
    })
}

/// Gain of b re a, with the scatter that stretches of `length` samples show.
fn gain(a: &[f32], b: &[f32], length: usize) -> Option<Measured> {
    type Sums = (f64, f64, f64);
    let add = |x: Sums, y: Sums| (x.0 + y.0, x.1 + y.1, x.2 + y.2);
    let of_chunk = |(a, b): (&[f32], &[f32])| {
        a.iter().zip(b).fold((0.0, 0.0, 0.0), |sum, (a, b)| {
            let (a, b) = (f64::from(*a), f64::from(*b));
            add(sum, (a * a, a * b, b * b))
        })
    };
    let sums: Vec<Sums> = a.chunks(length).zip(b.chunks(length)).map(of_chunk).collect();
    let (aa, ab, bb) = sums.iter().fold((0.0, 0.0, 0.0), |sum, part| add(sum, *part));
    if aa <= 0.0 || bb <= 0.0 {
        return None;
    }
    let ab_of = |of_aa: f64| ab / aa * of_aa;
    // Noise in a lowers ab/aa, noise in b raises bb/ab: the gain lies between.
    let gain = (bb / aa).sqrt().copysign(ab);
    let alike = ab * ab / (aa * bb);
    let between = gain * 0.5 * (1.0 - alike) / 3f64.sqrt();
    let scatter: f64 = sums.iter().map(|(aa, ab, _)| (ab - ab_of(*aa)).powi(2)).sum();
    let count = sums.len() as f64;
    let u = (scatter * count / (count - 1.0).max(1.0)).sqrt() / aa;
    Some(Measured::new(gain, u.hypot(between)))
}

/// Looks for stretches of the first in the second.
struct Finder<'a> {
    a: &'a [f32],
    b: &'a [f32],
    rate_hz: f64,
    /// Samples of a stretch.
    length: usize,
    taper: Vec<f64>,
}

impl<'a> Finder<'a> {
    fn new(a: &'a [f32], b: &'a [f32], rate_hz: f64) -> Option<Self> {
        let shorter = a.len().min(b.len());
        let most = ((LONGEST_STRETCH_S * rate_hz) as usize).max(SHORTEST_STRETCH);
        let length = (2 * shorter / (FEWEST_STRETCHES + 1)).clamp(SHORTEST_STRETCH, most);
        let taper = WindowKind::Hann.samples(length);
        (length <= shorter).then_some(Self { a, b, rate_hz, length, taper })
    }

    /// Where the middle of a stretch of the first may lie in the second: that place, and the delay
    /// there.
    fn starts(&self, span: std::ops::Range<usize>) -> Vec<(f64, f64)> {
        let anchor = &self.a[span.clone()];
        let size = fast_length(anchor.len() + self.b.len());
        let mut transform = RealTransform::new(size);
        let mut of = |x: &[f32]| {
            let mut values = vec![0.0; size];
            values.iter_mut().zip(x).for_each(|(value, x)| *value = f64::from(*x));
            transform.forward(&mut values).to_vec()
        };
        let (fa, fb) = (of(anchor), of(self.b));
        let cross: Vec<C> = fa.iter().zip(&fb).map(|(a, b)| a.conj() * b).collect();
        let top = cross.iter().map(|c| c.norm()).fold(0.0, f64::max);
        if top <= 0.0 {
            return Vec::new();
        }
        let floor = 1e-9 * top;
        let flatter = cross.iter().map(|c| c / (c.norm() + floor).sqrt()).collect();
        let middle = f64::midpoint(span.start as f64, span.end as f64);
        let lags = 1 - anchor.len() as i64..self.b.len() as i64;
        let largest = |value: &dyn Fn(i64) -> f64, count: usize| {
            let values: Vec<f64> = lags.clone().map(value).collect();
            let from = lags.start - span.start as i64;
            let tops = highest_tops(&values, count).into_iter();
            tops.map(move |n| (middle, (from + n as i64) as f64)).collect::<Vec<_>>()
        };
        let at = |values: &[f64], lag: i64| values[lag.rem_euclid(size as i64) as usize].abs();
        let (plain, flatter) = (inverse(cross, size), inverse(flatter, size));
        let (of_anchor, of_b) = (Energies::new(anchor), Energies::new(self.b));
        let least = 0.2 * (of_anchor.whole() * of_b.most(anchor.len())).sqrt();
        let over_energy = |lag: i64| {
            let (from, to) = ((-lag).max(0), (self.b.len() as i64 - lag).min(anchor.len() as i64));
            let energy = of_anchor.between(from, to) * of_b.between(from + lag, to + lag);
            at(&plain, lag) / energy.sqrt().max(least)
        };
        // A period aside a tone looks much the same: several places are tried.
        let mut starts = largest(&|lag| at(&plain, lag), TRIED);
        let others = largest(&|lag| at(&flatter, lag), TRIED);
        for start in others.into_iter().chain(largest(&over_energy, 2 * TRIED)) {
            if !starts.contains(&start) {
                starts.push(start);
            }
        }
        starts
    }

    /// The loudest stretch of the first, long enough to be known again.
    fn anchor(&self, longest_s: f64) -> std::ops::Range<usize> {
        let longest = ((longest_s * self.rate_hz) as usize).max(self.length);
        if self.a.len() <= longest {
            return 0..self.a.len();
        }
        let step = longest / 4;
        let power = |from: usize| -> f64 {
            self.a[from..from + longest].iter().map(|x| f64::from(*x).powi(2)).sum()
        };
        let froms = (0..=(self.a.len() - longest) / step).map(|n| n * step);
        let loudest = froms.map(|from| (from, power(from))).max_by(|x, y| x.1.total_cmp(&y.1));
        let from = loudest.map_or(0, |(from, _)| from);
        from..from + longest
    }

    /// Follows the delay from a place outwards, and finds how much of the power the two have in
    /// common.
    fn follow(&self, (from, delay): (f64, f64)) -> (Vec<Stretch>, f64) {
        let hop = self.length / 2;
        let count = (self.a.len() - self.length) / hop + 1;
        let middle = |n: usize| (n * hop) as f64 + self.length as f64 / 2.0;
        let first = (((from - middle(0)) / hop as f64).round().max(0.0) as usize).min(count - 1);
        let mut reader = StretchReader::new(self);
        let mut found: Vec<Stretch> = Vec::with_capacity(count);
        // One gain for all stretches: a fade distinguishes periods that are else alike.
        let (mut products, mut energy_a, mut energy_b) = (0.0, 0.0, 0.0);
        let mut visit = |n: usize, nearest: &mut Vec<Stretch>, all: &mut Vec<Stretch>| {
            let (expected, reach) = expected(nearest, middle(n), delay);
            if let Some(read) = reader.read(n * hop, expected, reach) {
                let [product, of_a, of_b] = read.alike;
                products += product;
                energy_a += of_a;
                energy_b += of_b;
                if read.r > LEAST_CORRELATION {
                    nearest.push(read.stretch);
                    all.push(read.stretch);
                }
            }
        };
        let mut later = Vec::new();
        (first..count).for_each(|n| visit(n, &mut later, &mut found));
        let mut earlier: Vec<Stretch> = later.iter().take(RECENT).rev().copied().collect();
        (0..first).rev().for_each(|n| visit(n, &mut earlier, &mut found));
        found.sort_by(|x, y| x.middle.total_cmp(&y.middle));
        let whole = energy_a * energy_b;
        (found, if whole > 0.0 { products * products / whole } else { 0.0 })
    }
}

/// The delay that the last stretches lead to expect at a place, and how far about it is searched.
fn expected(nearest: &[Stretch], middle: f64, first: f64) -> (f64, f64) {
    let recent = &nearest[nearest.len().saturating_sub(RECENT)..];
    let Some(last) = recent.last() else { return (first, SEARCHED) };
    let away = (middle - last.middle).abs();
    if recent.len() < RECENT {
        return (last.delay, SEARCHED + MOST_DRIFT * away);
    }
    let line = weighted_line(recent);
    let expected = line.map_or(last.delay, |(at_0, slope, _)| at_0 + slope * middle);
    // A line through few stretches must not lead astray.
    let slack = MOST_DRIFT * away;
    (expected.clamp(last.delay - slack, last.delay + slack), SEARCHED)
}

/// Places of the highest tops of a curve, the highest first, each read between its values by a
/// parabola.
fn highest_tops(values: &[f64], count: usize) -> Vec<usize> {
    let mut tops: Vec<(usize, f64)> = values
        .windows(3)
        .enumerate()
        .filter(|(_, v)| v[1] > v[0] && v[1] >= v[2])
        .map(|(n, v)| {
            let bend = v[0] - 2.0 * v[1] + v[2];
            let slope = 0.5 * (v[2] - v[0]);
            (n + 1, v[1] - 0.5 * slope * slope / bend)
        })
        .collect();
    tops.sort_by(|a, b| b.1.total_cmp(&a.1));
    tops.truncate(count);
    tops.into_iter().map(|(n, _)| n).collect()
}

/// Energies of stretches of a sound.
struct Energies {
    /// Energy before each sample, and of all.
    up_to: Vec<f64>,
}

impl Energies {
    fn new(sound: &[f32]) -> Self {
        let mut up_to = Vec::with_capacity(sound.len() + 1);
        let mut sum = 0.0;
        up_to.push(sum);
        for x in sound {
            sum += f64::from(*x).powi(2);
            up_to.push(sum);
        }
        Self { up_to }
    }

    fn whole(&self) -> f64 {
        self.up_to.last().copied().unwrap_or(0.0)
    }

    fn between(&self, from: i64, to: i64) -> f64 {
        self.up_to[to as usize] - self.up_to[from as usize]
    }

    /// The most that a stretch of `length` samples has.
    fn most(&self, length: usize) -> f64 {
        let length = length.min(self.up_to.len() - 1);
        let ends = self.up_to.iter().zip(&self.up_to[length..]);
        ends.map(|(from, to)| to - from).fold(0.0, f64::max)
    }
}

/// Stretches that lead to the next.
const RECENT: usize = 6;

/// A stretch as it was found in the second.
struct Read {
    stretch: Stretch,
    /// Its correlation.
    r: f64,
    /// Sum of the products of both, and the energy of each, without a taper, under which a fade at
    /// an end is hidden.
    alike: [f64; 3],
}

/// Reads the delay of one stretch after another.
struct StretchReader<'a> {
    finder: &'a Finder<'a>,
    transform: RealTransform,
    size: usize,
}

impl<'a> StretchReader<'a> {
    fn new(finder: &'a Finder<'a>) -> Self {
        let size = fast_length(finder.length);
        Self { finder, transform: RealTransform::new(size), size }
    }

    /// Σ a·b with the second late by so many samples, read between them by a polynomial
    /// through five, Σ a² and Σ b².
    fn alike(&self, from: usize, delay: f64) -> [f64; 3] {
        let length = self.finder.length;
        let a = &self.finder.a[from..from + length];
        let first = from as i64 + delay.round() as i64;
        let part = |lag: i64| {
            let start = usize::try_from(first + lag).ok()?;
            self.finder.b.get(start..start + length)
        };
        let dot = |b: &[f32]| -> f64 {
            a.iter().zip(b).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum()
        };
        let energy = |x: &[f32]| x.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>();
        let Some(b) = part(0) else { return [0.0; 3] };
        let [far_before, before, after, far_after] = [-2, -1, 1, 2].map(part);
        let around = [far_before, before, Some(b), after, far_after];
        let d = delay - delay.round();
        let product = if around.iter().all(Option::is_some) {
            (-2..=2)
                .zip(around.into_iter().flatten())
                .map(|(k, b)| {
                    // Lagrange's polynomial that is 1 at k and 0 at the other four.
                    let others = (-2..=2).filter(|other| *other != k);
                    let weight: f64 =
                        others.map(|m| (d - f64::from(m)) / f64::from(k - m)).product();
                    weight * dot(b)
                })
                .sum()
        } else {
            dot(b)
        };
        [product, energy(a), energy(b)]
    }

    fn spectrum(&mut self, sound: &[f32], from: usize) -> (Vec<C>, f64) {
        let taper = &self.finder.taper;
        let mut values = vec![0.0; self.size];
        for ((value, x), w) in values.iter_mut().zip(&sound[from..from + taper.len()]).zip(taper) {
            *value = f64::from(*x) * w;
        }
        let energy = values.iter().map(|x| x * x).sum();
        (self.transform.forward(&mut values).to_vec(), energy)
    }

    /// The stretch of the first that begins at `from`, searched within `reach` of the delay
    /// expected; `None` where it lies beyond the second, or holds nothing.
    fn read(&mut self, from: usize, expected: f64, reach: f64) -> Option<Read> {
        let length = self.finder.length;
        let whole = expected.round();
        let there = usize::try_from(from as i64 + whole as i64).ok()?;
        if there + length > self.finder.b.len() {
            return None;
        }
        let (fa, energy_a) = self.spectrum(self.finder.a, from);
        let (fb, energy_b) = self.spectrum(self.finder.b, there);
        let energy = (energy_a * energy_b).sqrt();
        if energy <= 0.0 {
            return None;
        }
        let mut cross: Vec<C> = fa.iter().zip(&fb).map(|(a, b)| a.conj() * b).collect();
        let values = inverse(cross.clone(), self.size);
        let most = reach.ceil().min(length as f64 / 4.0) as i64;
        let value = |lag: i64| values[lag.rem_euclid(self.size as i64) as usize];
        let lag = (-most..=most).max_by(|m, n| value(*m).abs().total_cmp(&value(*n).abs()))?;
        // Both ends count once in the sum over all frequencies, all others twice.
        cross[0] *= 0.5;
        if let Some(last) = cross.last_mut().filter(|_| self.size.is_multiple_of(2)) {
            *last *= 0.5;
        }
        let (delay, sum, curvature) = refined(&cross, self.size, lag as f64);
        let r = (2.0 * sum.abs() / self.size as f64 / energy).min(1.0);
        let mean_square_frequency = curvature / sum;
        // Least: the rounding of samples stored in 24 bits.
        let variance =
            ((1.0 - r * r) / (r * r)).max(1e-13) / (length as f64 * mean_square_frequency);
        let stretch = Stretch {
            middle: from as f64 + length as f64 / 2.0,
            delay: whole + delay,
            variance: variance.abs(),
        };
        let alike = self.alike(from, stretch.delay);
        variance.is_finite().then_some(Read { stretch, r, alike })
    }
}

/// The delay near `lag` at which Σ Re(G·e^{jωτ}) is extreme, that sum, and −its second derivative.
fn refined(cross: &[C], size: usize, lag: f64) -> (f64, f64, f64) {
    /// Newton's method doubles its digits each step; this many are never used up.
    const STEPS: usize = 10;
    /// Half-way between two samples of white noise the curve bends little: a full step would lead
    /// astray.
    const LONGEST: f64 = 0.3;
    let step = std::f64::consts::TAU / size as f64;
    let sums = |delay: f64| {
        let turn = C::cis(step * delay);
        let mut phase = C::new(1.0, 0.0);
        let (mut sum, mut slope, mut curvature) = (0.0, 0.0, 0.0);
        for (k, g) in cross.iter().enumerate() {
            // The product of phases is made anew before its rounding adds up.
            if k % 512 == 0 {
                phase = C::cis(step * delay * k as f64);
            }
            let (omega, turned) = (step * k as f64, g * phase);
            sum += turned.re;
            slope -= omega * turned.im;
            curvature += omega * omega * turned.re;
            phase *= turn;
        }
        (sum, slope, curvature)
    };
    let mut delay = lag;
    for _ in 0..STEPS {
        let (_, slope, curvature) = sums(delay);
        let next = delay + (slope / curvature).clamp(-LONGEST, LONGEST);
        if !next.is_finite() || (next - lag).abs() > 1.0 {
            break;
        }
        let done = (next - delay).abs() < 1e-9;
        delay = next;
        if done {
            break;
        }
    }
    let (sum, _, curvature) = sums(delay);
    (delay, sum, curvature)
}

/// Value at 0 and slope of the line through stretches, each weighted by the inverse of its
/// variance, with the covariance of the two.
fn weighted_line(stretches: &[Stretch]) -> Option<(f64, f64, [[f64; 2]; 2])> {
    let points = stretches.iter().map(|s| (s.middle, s.delay, 1.0 / s.variance));
    let line = fit::Line::through(points)?;
    let of_slope = 1.0 / line.square;
    let both = -line.mean_x * of_slope;
    Some((line.at(0.0), line.slope, [[line.variance_at(0.0), both], [both, of_slope]]))
}

/// The delay over the first recording, in samples.
struct Line {
    delay: Measured,
    drift: Option<Measured>,
    is_sloping: bool,
    slope: f64,
}

impl Line {
    /// The line through stretches: a slope only where it is sure.
    fn through(mut stretches: Vec<Stretch>, may_slope: bool) -> Option<Self> {
        // Stretches that overlap by half under a Hann window share 0.086 of their errors.
        const OVERLAP: f64 = 1.17;
        const APART: f64 = 4.0;
        let (mut at_0, mut slope, mut covariance) = weighted_line(&stretches).or_else(|| {
            constant(&stretches).map(|(delay, u)| (delay, 0.0, [[u, 0.0], [0.0, 0.0]]))
        })?;
        let mut scatter = 1.0;
        for _ in 0..3 {
            let misses = stretches
                .iter()
                .map(|s| (s.delay - at_0 - slope * s.middle).abs() / s.variance.sqrt());
            // 0.6745: the median of the magnitude of a normal variable.
            let usual = (fit::median(misses).unwrap_or(0.0) / 0.6745).max(1.0);
            let kept = |s: &Stretch| {
                (s.delay - at_0 - slope * s.middle).abs() < APART * usual * s.variance.sqrt()
            };
            let before = stretches.len();
            stretches.retain(kept);
            let Some(line) = weighted_line(&stretches).filter(|_| stretches.len() > 3) else {
                break;
            };
            (at_0, slope, covariance) = line;
            if stretches.len() == before {
                break;
            }
        }
        let count = stretches.len() as f64;
        let spread = |at_0: f64, slope: f64, parameters: f64| {
            let squares: f64 = stretches
                .iter()
                .map(|s| (s.delay - at_0 - slope * s.middle).powi(2) / s.variance)
                .sum();
            (squares / (count - parameters).max(1.0)).max(1.0) * OVERLAP
        };
        if count > 3.0 {
            scatter = spread(at_0, slope, 2.0);
        }
        let drift = Measured::new(slope, (scatter * covariance[1][1]).sqrt());
        let may_slope = may_slope && count > 3.0;
        let is_sloping = may_slope && slope.abs() > SURE_OF_DRIFT * drift.u;
        let delay = if is_sloping {
            Measured::new(at_0, (scatter * covariance[0][0]).sqrt())
        } else {
            let (delay, variance) = constant(&stretches)?;
            Measured::new(delay, (spread(delay, 0.0, 1.0) * variance).sqrt())
        };
        let slope = if is_sloping { slope } else { 0.0 };
        Some(Self { delay, drift: may_slope.then_some(drift), is_sloping, slope })
    }

    /// The second on the clock of the first, as far as both go, and where in the first it begins.
    fn shifted(&self, b: &[f32], samples: usize, between: &Interpolator) -> (usize, Vec<f32>) {
        /// A delay this near a whole number of samples is one.
        const WHOLE: f64 = 1e-6;
        let rounded = self.delay.value.round();
        if self.slope == 0.0 && (self.delay.value - rounded).abs() < WHOLE {
            let start = (-rounded).max(0.0) as usize;
            let from = rounded.max(0.0) as usize;
            let count = samples.saturating_sub(start).min(b.len().saturating_sub(from));
            return (start.min(samples), b[from.min(b.len())..][..count].to_vec());
        }
        let place = |n: usize| n as f64 + self.delay.value + self.slope * n as f64;
        let inside = |n: &usize| place(*n) >= 0.0 && place(*n) <= (b.len() - 1) as f64;
        let start = (0..samples).find(inside).unwrap_or(samples);
        let values = (start..samples).take_while(inside).map(|n| between.at(b, place(n)) as f32);
        (start, values.collect())
    }
}

/// The weighted mean of the delays and its variance.
fn constant(stretches: &[Stretch]) -> Option<(f64, f64)> {
    let weights: f64 = stretches.iter().map(|s| 1.0 / s.variance).sum();
    let sum: f64 = stretches.iter().map(|s| s.delay / s.variance).sum();
    (weights > 0.0).then(|| (sum / weights, 1.0 / weights))
}
