//! The delay between two recordings, stretch by stretch, from a place outwards.

use std::ops::Range;

use pulp::{Arch, Simd, WithSimd};

use super::align::{MOST_DRIFT, Stretch, weighted_line};
use super::overlay::lowered;
use crate::between::Interpolator;
use crate::error::Error;
use crate::lanes::product;
use crate::samples::{Reader, Samples};
use crate::transform::{RealTransform, fast_length};
use crate::window::WindowKind;

/// Stretches are not longer, in seconds, nor shorter, in samples.
const LONGEST_STRETCH_S: f64 = 0.5;
const SHORTEST_STRETCH: usize = 64;
/// Stretches, which overlap by half, at least.
const FEWEST_STRETCHES: usize = 11;
/// So many samples are searched to either side of the place that neighbours lead to expect.
const SEARCHED: f64 = 2.0;
/// Stretches that lead to the next.
const RECENT: usize = 6;
/// A stretch that is less alike shows nothing.
const LEAST_CORRELATION: f64 = 0.1;

/// Looks for stretches of the first in the second.
pub(super) struct Follower<'a> {
    pub(super) a: &'a dyn Samples,
    pub(super) b: &'a dyn Samples,
    /// Samples of a stretch, and from one to the next.
    pub(super) length: usize,
    hop: usize,
    taper: Vec<f32>,
    /// Samples that would show as much without a taper.
    equal_length: f64,
}

/// What was found on the way.
pub(super) struct Followed {
    /// Stretches that were found, in the order of the first.
    pub(super) stretches: Vec<Stretch>,
    /// How much of the power the two have in common.
    pub(super) shared: f64,
    /// Gain of the second, as far as their powers tell it.
    pub(super) gain: f64,
}

impl Followed {
    /// Whether a place in the first, with a delay, lies on the way.
    pub(super) fn leads_through(&self, place: f64, delay: f64) -> bool {
        let after = self.stretches.partition_point(|stretch| stretch.middle < place);
        let before = after.checked_sub(1).and_then(|n| self.stretches.get(n));
        let Some((a, b)) = before.zip(self.stretches.get(after)) else { return false };
        let there = a.delay + (b.delay - a.delay) * (place - a.middle) / (b.middle - a.middle);
        (there - delay).abs() <= 1.0
    }
}

impl<'a> Follower<'a> {
    /// `None` where either is shorter than a stretch.
    pub(super) fn new(a: &'a dyn Samples, b: &'a dyn Samples, rate_hz: f64) -> Option<Self> {
        Self::with(a, b, rate_hz, LONGEST_STRETCH_S)
    }

    /// The same with stretches no longer than so many seconds.
    pub(super) fn with(
        a: &'a dyn Samples,
        b: &'a dyn Samples,
        rate_hz: f64,
        longest_s: f64,
    ) -> Option<Self> {
        let shorter = a.count().min(b.count());
        let most = ((longest_s * rate_hz) as usize).max(SHORTEST_STRETCH);
        let length = (2 * shorter / (FEWEST_STRETCHES + 1)).clamp(SHORTEST_STRETCH, most);
        let taper = WindowKind::Hann.samples(length);
        // Both are tapered: their products weigh as w², the noise in those as w⁴.
        let sum = |power: i32| taper.iter().map(|w| w.powi(power)).sum::<f64>();
        let equal_length = sum(2).powi(2) / sum(4);
        let taper = taper.into_iter().map(|w| w as f32).collect();
        (length <= shorter).then_some(Self { a, b, length, hop: length / 2, taper, equal_length })
    }

    /// All stretches of the first.
    pub(super) fn all(&self) -> Range<usize> {
        0..(self.a.count() - self.length) / self.hop + 1
    }

    /// Those of them that begin within so many samples of a place.
    pub(super) fn near(&self, place: f64, away: f64) -> Range<usize> {
        let of = |place: f64| (place.max(0.0) / self.hop as f64) as usize;
        let all = self.all();
        of(place - away).min(all.end - 1)..of(place + away).saturating_add(1).min(all.end)
    }

    /// Follows the delay through a range of stretches, from a place outwards.
    pub(super) fn follow(
        &self,
        from: f64,
        delay: f64,
        within: Range<usize>,
    ) -> Result<Followed, Error> {
        let hop = self.hop;
        let middle = |n: usize| (n * hop) as f64 + self.length as f64 / 2.0;
        let first = ((from - middle(0)) / hop as f64).round().max(0.0) as usize;
        let first = first.clamp(within.start, within.end - 1);
        let mut reader = StretchReader::new(self);
        let mut stretches: Vec<Stretch> = Vec::with_capacity(within.len());
        // One gain for all stretches: a fade distinguishes periods that are else alike.
        let mut sums = [0.0; 3];
        let mut visit = |n: usize, nearest: &mut Vec<Stretch>| {
            let (expected, reach) = expected(nearest, middle(n), delay);
            if let Some(read) = reader.read(n * hop, expected, reach)? {
                sums.iter_mut().zip(read.alike).for_each(|(sum, x)| *sum += x);
                if read.r > LEAST_CORRELATION {
                    nearest.push(read.stretch);
                    stretches.push(read.stretch);
                }
            }
            Ok(())
        };
        let mut later = Vec::new();
        (first..within.end).try_for_each(|n| visit(n, &mut later))?;
        let mut earlier: Vec<Stretch> = later.iter().take(RECENT).rev().copied().collect();
        (within.start..first).rev().try_for_each(|n| visit(n, &mut earlier))?;
        stretches.sort_by(|x, y| x.middle.total_cmp(&y.middle));
        let [products, of_a, of_b] = sums;
        let whole = of_a * of_b;
        let shared = if whole > 0.0 { products * products / whole } else { 0.0 };
        let gain = if of_a > 0.0 { (of_b / of_a).sqrt().copysign(products) } else { 0.0 };
        Ok(Followed { stretches, shared, gain })
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
    let Some((at_0, slope, _)) = weighted_line(recent) else { return (last.delay, SEARCHED) };
    // A line through few stretches must not lead astray, nor where the clock runs unevenly.
    let off = |stretch: &Stretch| (stretch.delay - at_0 - slope * stretch.middle).abs();
    let farthest = recent.iter().map(off).fold(0.0, f64::max);
    let slack = MOST_DRIFT * away;
    if farthest > SEARCHED {
        return (last.delay, SEARCHED + 2.0 * slack);
    }
    ((at_0 + slope * middle).clamp(last.delay - slack, last.delay + slack), SEARCHED)
}

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
    taper: &'a [f32],
    equal_length: f64,
    a: Reader<'a>,
    b: Reader<'a>,
    b_count: usize,
    transform: RealTransform<f32>,
    input: Vec<f32>,
    /// What is tapered of both, to be correlated in time.
    tapered: [Vec<f32>; 2],
    /// Reads the second between its samples; what it read last.
    between: Interpolator,
    moved: Vec<f32>,
    lowered: [Vec<f32>; 2],
    /// Spectrum of the first, and the cross-spectrum: real and imaginary parts.
    of_a: [Vec<f32>; 2],
    cross: [Vec<f32>; 2],
}

impl<'a> StretchReader<'a> {
    fn new(follower: &'a Follower<'a>) -> Self {
        let size = fast_length(follower.length);
        Self {
            taper: &follower.taper,
            equal_length: follower.equal_length,
            a: Reader::new(follower.a),
            b: Reader::new(follower.b),
            b_count: follower.b.count(),
            transform: RealTransform::new(size),
            input: vec![0.0; size],
            tapered: [Vec::new(), Vec::new()],
            between: Interpolator::quick(),
            moved: Vec::new(),
            lowered: [Vec::new(), Vec::new()],
            of_a: [Vec::new(), Vec::new()],
            cross: [Vec::new(), Vec::new()],
        }
    }

    /// Σ a·b, Σ a² and Σ b² without what is near half the sample rate, the second being late by so
    /// many samples.
    fn alike(&mut self, from: usize, delay: f64) -> Result<[f64; 3], Error> {
        let length = self.taper.len();
        let place = from as f64 + delay;
        let first = place.floor() as i64;
        if first < 0 || first as usize + length > self.b_count {
            return Ok([0.0; 3]);
        }
        let (before, behind) = self.between.needs(length, 1.0);
        let a = self.a.at(from as i64, length)?;
        let b = self.b.at(first - before as i64, before + behind)?;
        self.moved.resize(length, 0.0);
        self.between.along(b, before as f64 + (place - first as f64), 1.0, &mut self.moved);
        for (sound, lower) in [a, &self.moved].into_iter().zip(&mut self.lowered) {
            lowered(sound, lower);
        }
        let [a, b] = &self.lowered;
        Ok([product(a, b), product(a, a), product(b, b)])
    }

    /// The stretch of the first that begins at `from`, searched within `reach` of the delay
    /// expected; `None` where it lies beyond the second, or holds nothing.
    fn read(&mut self, from: usize, expected: f64, reach: f64) -> Result<Option<Read>, Error> {
        let length = self.taper.len();
        let whole = expected.round();
        let there = from as i64 + whole as i64;
        if there < 0 || there as usize + length > self.b_count {
            return Ok(None);
        }
        let size = self.input.len();
        let last = if size.is_multiple_of(2) { size / 2 } else { usize::MAX };
        let sounds = [self.a.at(from as i64, length)?, self.b.at(there, length)?];
        let mut energies = [0.0; 2];
        for (side, (sound, tapered)) in sounds.into_iter().zip(&mut self.tapered).enumerate() {
            tapered.clear();
            tapered.extend(sound.iter().zip(self.taper).map(|(x, w)| x * w));
            self.input[..length].copy_from_slice(tapered);
            self.input[length..].fill(0.0);
            let spectrum = self.transform.forward(&mut self.input);
            let parts = if side == 0 { &mut self.of_a } else { &mut self.cross };
            parts.iter_mut().for_each(Vec::clear);
            parts[0].extend(spectrum.iter().map(|x| x.re));
            parts[1].extend(spectrum.iter().map(|x| x.im));
            // Both ends count once in a sum over all frequencies, all others twice.
            let of_ends: f64 = [0, last]
                .iter()
                .filter_map(|k| spectrum.get(*k))
                .map(|x| f64::from(x.re).powi(2))
                .sum();
            let all: f64 = parts.iter().map(|part| product(part, part)).sum();
            energies[side] = all - 0.5 * of_ends;
        }
        let energy = (energies[0] * energies[1]).sqrt();
        if energy <= 0.0 {
            return Ok(None);
        }
        let [cross_re, cross_im] = &mut self.cross;
        let of_a = self.of_a[0].iter().zip(&self.of_a[1]);
        for ((re, im), (a_re, a_im)) in cross_re.iter_mut().zip(cross_im.iter_mut()).zip(of_a) {
            (*re, *im) = (a_re * *re + a_im * *im, a_re * *im - a_im * *re);
        }
        for k in [0, last] {
            if let Some(re) = cross_re.get_mut(k) {
                *re *= 0.5;
            }
        }
        let [a, b] = &self.tapered;
        let most = reach.ceil().min(length as f64 / 4.0) as i64;
        let value = |lag: i64| match usize::try_from(lag) {
            Ok(lag) => product(&a[..length - lag], &b[lag..]),
            Err(_) => product(&b[..length - lag.unsigned_abs() as usize], &a[-lag as usize..]),
        };
        let values = (-most..=most).map(|lag| (lag, value(lag).abs()));
        let Some((lag, _)) = values.max_by(|m, n| m.1.total_cmp(&n.1)) else { return Ok(None) };
        let (delay, sum, curvature) = refined(&self.cross, size, lag as f64);
        let r = (sum.abs() / energy).min(1.0);
        let mean_square_frequency = curvature / sum;
        // Least: the rounding of samples stored in 24 bits.
        let variance =
            ((1.0 - r * r) / (r * r)).max(1e-13) / (self.equal_length * mean_square_frequency);
        if !variance.is_finite() {
            return Ok(None);
        }
        let stretch = Stretch {
            middle: from as f64 + length as f64 / 2.0,
            delay: whole + delay,
            variance: variance.abs(),
        };
        // What begins or ends at the edge of a stretch is hidden under the taper: its neighbours lead.
        let is_found = r > LEAST_CORRELATION;
        let alike = self.alike(from, if is_found { stretch.delay } else { expected })?;
        Ok(Some(Read { stretch, r, alike }))
    }
}

/// The delay near `lag` at which Σ Re(G·e^{jωτ}) is extreme, that sum, and −its second derivative.
fn refined(cross: &[Vec<f32>; 2], size: usize, lag: f64) -> (f64, f64, f64) {
    /// Newton's method doubles its digits each step; this many are never used up.
    const STEPS: usize = 10;
    /// Half-way between two samples of white noise the curve bends little: a full step would lead
    /// astray.
    const LONGEST: f64 = 0.3;
    /// The sums are the same to the last digit so near to the top.
    const NEAR: f64 = 1e-7;
    let step = std::f64::consts::TAU / size as f64;
    let mut delay = lag;
    let mut sums = [0.0; 3];
    for _ in 0..STEPS {
        sums = Arch::new().dispatch(TurnedSums { cross, step, delay });
        let [_, slope, curvature] = sums;
        let next = delay + (slope / curvature).clamp(-LONGEST, LONGEST);
        if !next.is_finite() || (next - lag).abs() > 1.0 {
            break;
        }
        let is_there = (next - delay).abs() < NEAR;
        delay = next;
        if is_there {
            break;
        }
    }
    let [sum, _, curvature] = sums;
    (delay, sum, curvature)
}

/// Σ Re(G·e^{jωτ}), its derivative, and −its second.
struct TurnedSums<'a> {
    cross: &'a [Vec<f32>; 2],
    step: f64,
    delay: f64,
}

impl WithSimd for TurnedSums<'_> {
    type Output = [f64; 3];

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> [f64; 3] {
        /// Phases that turn side by side, each by as many steps at once; made anew before their
        /// rounding adds up.
        const SIDE: usize = 16;
        const ANEW: usize = 4096;
        let Self { cross: [all_re, all_im], step, delay } = self;
        let (turn_im, turn_re) = (step * delay * SIDE as f64).sin_cos();
        let mut sums = [[0.0; SIDE]; 3];
        for (part, (some_re, some_im)) in all_re.chunks(ANEW).zip(all_im.chunks(ANEW)).enumerate() {
            let first = part * ANEW;
            let angle = |lane: usize| step * delay * (first + lane) as f64;
            let mut re: [f64; SIDE] = std::array::from_fn(|lane| angle(lane).cos());
            let mut im: [f64; SIDE] = std::array::from_fn(|lane| angle(lane).sin());
            let mut omega: [f64; SIDE] = std::array::from_fn(|lane| step * (first + lane) as f64);
            for (g_re, g_im) in some_re.chunks(SIDE).zip(some_im.chunks(SIDE)) {
                let (mut of_re, mut of_im) = ([0.0f32; SIDE], [0.0f32; SIDE]);
                of_re[..g_re.len()].copy_from_slice(g_re);
                of_im[..g_im.len()].copy_from_slice(g_im);
                for lane in 0..SIDE {
                    let (g_re, g_im) = (f64::from(of_re[lane]), f64::from(of_im[lane]));
                    let turned_re = g_re * re[lane] - g_im * im[lane];
                    let turned_im = g_re * im[lane] + g_im * re[lane];
                    sums[0][lane] += turned_re;
                    sums[1][lane] -= omega[lane] * turned_im;
                    sums[2][lane] += omega[lane] * omega[lane] * turned_re;
                    let next = re[lane] * turn_re - im[lane] * turn_im;
                    im[lane] = re[lane] * turn_im + im[lane] * turn_re;
                    re[lane] = next;
                    omega[lane] += step * SIDE as f64;
                }
            }
        }
        sums.map(|lanes| lanes.iter().sum())
    }
}
