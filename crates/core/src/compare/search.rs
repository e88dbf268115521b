//! Where in a second recording a loud stretch of the first may be.

use rustfft::num_complex::Complex;

use crate::between::Interpolator;
use crate::error::Error;
use crate::lanes::product;
use crate::samples::{Reader, Samples, held};
use crate::transform::{InverseTransform, RealTransform, fast_length};

type C = Complex<f32>;

/// What is looked for, in seconds: the long one resolves periods, the short one bears a drift.
const ANCHORS_S: [f64; 2] = [4.0, 0.5];
/// Places that are tried at the highest tops of each correlation.
const TRIED: usize = 4;

/// A loud stretch of the first.
pub(super) struct Anchor {
    from: usize,
    samples: Vec<f32>,
}

impl Anchor {
    pub(super) fn middle(&self) -> f64 {
        self.from as f64 + 0.5 * self.samples.len() as f64
    }
}

/// The loudest stretches of the first, none shorter than `shortest` samples.
pub(super) fn anchors(
    a: &dyn Samples,
    rate_hz: f64,
    shortest: usize,
) -> Result<Vec<Anchor>, Error> {
    let mut all: Vec<Anchor> = Vec::new();
    for longest_s in ANCHORS_S {
        let longest = ((longest_s * rate_hz) as usize).max(shortest);
        let (from, count) = if a.count() <= longest {
            (0, a.count())
        } else {
            let step = longest / 4;
            let energies = energies(a, 0, a.count() / step, step)?;
            let of_four = energies.windows(4).map(|four| four.iter().sum::<f64>());
            let loudest = of_four.enumerate().max_by(|x, y| x.1.total_cmp(&y.1));
            (loudest.map_or(0, |(n, _)| n * step), longest.min(a.count()))
        };
        let from = from.min(a.count() - count);
        if all.iter().all(|other| (other.from, other.samples.len()) != (from, count)) {
            all.push(Anchor { from, samples: held(a, from, count)? });
        }
    }
    Ok(all)
}

/// Energies of so many steps of a sound, from a place on.
fn energies(sound: &dyn Samples, from: i64, steps: usize, step: usize) -> Result<Vec<f64>, Error> {
    let mut reader = Reader::new(sound);
    (0..steps)
        .map(|n| {
            let here = reader.at(from + (n * step) as i64, step)?;
            Ok(product(here, here))
        })
        .collect()
}

/// Delays in samples at which an anchor may lie in the second, no further than `away` from none, and
/// further than was `searched` before.
pub(super) fn delays(
    anchor: &Anchor,
    b: &dyn Samples,
    searched: Option<f64>,
    away: f64,
) -> Result<Vec<f64>, Error> {
    /// A top is seen between its neighbours.
    const BESIDE: i64 = 2;
    let (from, length) = (anchor.from as i64, anchor.samples.len());
    let away = away.min((anchor.from + length + b.count()) as f64) as i64;
    let sides = match searched {
        None => vec![(-away, away)],
        Some(searched) => {
            let beside = (searched as i64).saturating_sub(BESIDE);
            vec![(-away, -beside), (beside, away)]
        }
    };
    let mut found: Vec<f64> = Vec::new();
    for (least, most) in sides {
        // Where the first sample of the anchor may lie.
        let first = (1 - length as i64).max(from.saturating_add(least));
        let last = (b.count() as i64 - 1).min(from.saturating_add(most));
        for place in tops(anchor, b, (first, last))? {
            let delay = (place - from) as f64;
            if found.iter().all(|other| (other - delay).abs() > 1.0) {
                found.push(delay);
            }
        }
    }
    Ok(found)
}

/// Where from one place to another in the second an anchor may begin: the tops of the correlation G
/// = A*·B·W with W = 1, with W = |A*B|^−½, and with that over the powers of what lies over each
/// other. Block by block of the second.
fn tops(anchor: &Anchor, b: &dyn Samples, (first, last): (i64, i64)) -> Result<Vec<i64>, Error> {
    /// Blocks this many times as long as what is looked for spend a quarter on their overlap.
    const BLOCK: usize = 4;
    const SHORTEST_BLOCK: usize = 1 << 17;
    let length = anchor.samples.len();
    if last < first {
        return Ok(Vec::new());
    }
    let places = (last - first) as usize + 1;
    let size = fast_length((places + length).min((BLOCK * length).max(SHORTEST_BLOCK)));
    let mut correlator = Correlator::new(&anchor.samples, size);
    let of_anchor = Energies::new(&anchor.samples);
    let step = length.div_ceil(4);
    let steps = energies(b, first, (places + length).div_ceil(step), step)?;
    let most = steps.windows(4).map(|four| four.iter().sum::<f64>()).fold(0.0, f64::max);
    let most = if steps.len() < 4 { steps.iter().sum() } else { most };
    let least = 0.2 * (of_anchor.whole() * most).sqrt();
    let mut reader = Reader::new(b);
    // A period aside a tone looks much the same: several places are tried.
    let mut tops = [Tops::new(TRIED), Tops::new(TRIED), Tops::new(2 * TRIED)];
    let between = Interpolator::quick();
    let in_block = size - length + 1;
    let mut at = first;
    while at <= last {
        let block = reader.at(at, size)?;
        let count = in_block.min((last - at) as usize + 1);
        let [plain, flatter] = correlator.correlate(block);
        let of_block = Energies::new(block);
        let over_energy = (0..count).map(|n| {
            let there = at + n as i64;
            // What of the anchor lies over the second.
            let (from, to) = ((-there).max(0), (b.count() as i64 - there).min(length as i64));
            let (from, to) = (from as usize, to.max(from) as usize);
            let energy = of_anchor.between(from, to) * of_block.between(n + from, n + to);
            (f64::from(plain[n]) / energy.sqrt().max(least).max(f64::MIN_POSITIVE)) as f32
        });
        let over_energy: Vec<f32> = over_energy.collect();
        for (tops, values) in
            tops.iter_mut().zip([&plain[..count], &flatter[..count], &over_energy])
        {
            tops.offer(values, at, &between);
        }
        if count < in_block {
            break;
        }
        // A top is seen between its neighbours.
        at += in_block as i64 - 2;
    }
    Ok(tops.into_iter().flat_map(|tops| tops.highest).map(|(place, _)| place).collect())
}

/// Correlates a stretch with one block after another, in single precision: what is found is looked
/// at more closely.
struct Correlator {
    forward: RealTransform<f32>,
    inverse: InverseTransform<f32>,
    of_anchor: Vec<C>,
    input: Vec<f32>,
    cross: Vec<C>,
    values: [Vec<f32>; 2],
}

impl Correlator {
    fn new(anchor: &[f32], size: usize) -> Self {
        let mut forward = RealTransform::new(size);
        let mut input = vec![0.0; size];
        input[..anchor.len()].copy_from_slice(anchor);
        let of_anchor = forward.forward(&mut input).to_vec();
        let cross = vec![C::default(); of_anchor.len()];
        let values = [vec![0.0; size], vec![0.0; size]];
        let inverse = InverseTransform::new(size);
        Self { forward, inverse, of_anchor, input, cross, values }
    }

    /// Σ a\[n\]·b\[n + lag\] for lags from 0 on, plain and with a flatter spectrum.
    fn correlate(&mut self, block: &[f32]) -> &[Vec<f32>; 2] {
        self.input.copy_from_slice(block);
        let of_block = self.forward.forward(&mut self.input);
        let cross = |(a, b): (&C, &C)| a.conj() * b;
        let top = self.of_anchor.iter().zip(of_block).map(|pair| cross(pair).norm_sqr());
        let floor = 1e-9 * top.fold(0.0, f32::max).sqrt();
        for flat in [false, true] {
            let of_both = self.of_anchor.iter().zip(of_block);
            for (product, pair) in self.cross.iter_mut().zip(of_both) {
                let plain = cross(pair);
                let weight = if flat { (plain.norm_sqr().sqrt() + floor).sqrt() } else { 1.0 };
                *product = if weight > 0.0 { plain / weight } else { C::default() };
            }
            let found = self.inverse.backward(&mut self.cross);
            let scale = 1.0 / found.len() as f32;
            for (value, found) in self.values[usize::from(flat)].iter_mut().zip(found) {
                *value = found * scale;
            }
        }
        &self.values
    }
}

/// The highest tops of a curve that comes in pieces.
struct Tops {
    count: usize,
    /// Places and heights, the highest first.
    highest: Vec<(i64, f32)>,
}

impl Tops {
    fn new(count: usize) -> Self {
        Self { count, highest: Vec::new() }
    }

    /// Looks through a piece that begins at a place, either sign being as good.
    fn offer(&mut self, values: &[f32], from: i64, between: &Interpolator) {
        /// Between two samples a top may be so many times as high as the higher of them.
        const HIGHER: f32 = 1.6;
        for (n, v) in values.windows(3).enumerate() {
            let [before, here, after] = [v[0], v[1], v[2]].map(f32::abs);
            let least =
                if self.highest.len() < self.count { 0.0 } else { self.highest[self.count - 1].1 };
            if !(here > before && here >= after && HIGHER * here > least) {
                continue;
            }
            let top = (from + n as i64 + 1, height(values, n + 1, between));
            let at = self.highest.partition_point(|other| other.1 >= top.1);
            if at < self.count {
                self.highest.insert(at, top);
                self.highest.truncate(self.count);
            }
        }
    }
}

/// The magnitude of a curve at its top near a value, between its values: of harmonics up to half the
/// sample rate a top is so narrow that its nearest value may be a third lower.
fn height(values: &[f32], top: usize, between: &Interpolator) -> f32 {
    /// From a sample before the value to a sample after it.
    const STEPS: usize = 16;
    const STEP: f64 = 2.0 / STEPS as f64;
    let mut near = [0.0f32; STEPS + 1];
    let (before, behind) = between.needs(near.len(), STEP);
    let first = top.checked_sub(before + 1);
    let around = first.and_then(|first| values.get(first..first + before + behind));
    let Some(around) = around else { return values[top].abs() };
    between.along(around, before as f64, STEP, &mut near);
    let tops = near.windows(3).map(|v| [v[0], v[1], v[2]].map(f32::abs));
    let tops = tops.filter(|[before, here, after]| here > before && here >= after);
    let heights = tops.map(|[before, here, after]| {
        let slope = 0.5 * (after - before);
        here - 0.5 * slope * slope / (before - 2.0 * here + after)
    });
    heights.fold(values[top].abs(), f32::max)
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

    fn between(&self, from: usize, to: usize) -> f64 {
        self.up_to[to] - self.up_to[from]
    }
}
