//! How two recordings of one sound lie to each other: delay, polarity, drift of the clocks, gain.
//!
//! 1. The loudest stretch of the first, of four seconds and of half a second at most, is correlated
//!    with the second by the generalized cross-correlation (C. H. Knapp and G. C.
//!    Carter, IEEE Trans. ASSP 24, 1976) G = A*·B·W, once with W = 1, which is best where noise is
//!    white, and once with W = |A*B|^−½, which a rumble or a filter in one of them does not
//!    mislead; and once over the powers of what lies over each other, which a recording that begins
//!    late does not mislead. The one that makes the two most alike stands.
//! 2. From there outwards, stretch by stretch, the delay that maximises Σ Re(A*·B·e^{jωτ}) is found
//!    between samples by Newton's method, near where the stretches before lead to expect it. With r
//!    the correlation of a stretch under the window w and ω_r the RMS frequency, its variance is
//!    (1 − r²)/(r²·L·ω_r²), L = (Σ w²)²/Σ w⁴: the Cramér–Rao bound for white noise in L samples.
//! 3. A straight line through them, weighted by these variances and without outlying stretches,
//!    gives the delay and the drift. Where the stretches scatter by more than the bound, so much
//!    greater is the uncertainty. A clock that runs unevenly is followed (module `uneven`).

use std::ops::Range;

use super::follow::{Followed, Follower};
use super::overlay::shared;
use super::search::{anchors, delays};
use super::uneven::{Course, uneven};
use crate::between::Interpolator;
use crate::error::Error;
use crate::fit;
use crate::lanes::product;
use crate::measured::Measured;
use crate::samples::{Reader, Samples};

/// The greatest difference of two clocks that is looked for, as a share.
pub(super) const MOST_DRIFT: f64 = 1e-3;
/// A delay is a rival of the best if what the two do not share there is less than so many times as
/// much, and little.
const RIVAL: f64 = 1.6;
const MOST_RIVAL_MISS: f64 = 0.1;
/// What is read between samples lacks frequencies near half the sample rate: less than this share of
/// the power.
const SLACK: f64 = 1e-5;
/// The line is a slope only if it is so many times its uncertainty.
const SURE_OF_DRIFT: f64 = 4.0;

/// How a second recording lies to a first. A sound at a time t of the first is at t + delay +
/// drift·t in the second, both counted in samples from the first of each.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Placed {
    pub(super) delay: Measured,
    /// Drift of the clock of the second, as a share; `None` for recordings too short to know.
    pub(super) drift: Option<Measured>,
    /// Whether the drift is taken into account.
    pub(super) is_drifting: bool,
    /// The drift as it is taken into account.
    pub(super) slope: f64,
    /// What the delay is beside that over time, where the clock does not run evenly.
    pub(super) course: Course,
    /// Another delay at which the two are nearly as much alike.
    pub(super) rival: Option<f64>,
    /// Nearly the gain of the second.
    pub(super) near_gain: f64,
    /// Samples of a stretch in which the delay was read.
    pub(super) stretch: usize,
}

/// One stretch of the first and where it lies in the second.
#[derive(Debug, Clone, Copy)]
pub(super) struct Stretch {
    pub(super) middle: f64,
    pub(super) delay: f64,
    pub(super) variance: f64,
}

/// Aligns `b` to `a`, both at one rate; `None` where nothing alike is in them.
pub(super) fn align(
    a: &dyn Samples,
    b: &dyn Samples,
    rate_hz: f64,
) -> Result<Option<Placed>, Error> {
    /// Of longer recordings so many seconds about the loud stretch decide where to follow the delay
    /// on, and so on.
    const JUDGED_S: [f64; 3] = [1.0, 10.0, f64::INFINITY];
    /// It is looked for so far away before it is looked for farther.
    const AWAY_S: [f64; 3] = [10.0, 60.0, f64::INFINITY];
    /// Of places that all share little so many are followed through a long recording.
    const MOST_DOUBTFUL: usize = 4;
    /// What is found near is not looked for elsewhere if it has so much of the power in common.
    const SURE: f64 = 0.5;
    let Some(follower) = Follower::new(a, b, rate_hz) else { return Ok(None) };
    let anchors = anchors(a, rate_hz, follower.length)?;
    let mut tried: Vec<Tried> = Vec::new();
    let mut searched = None;
    for away_s in AWAY_S {
        let away = away_s * rate_hz;
        for anchor in &anchors {
            let from = anchor.middle();
            let within = follower.near(from, JUDGED_S[0] * rate_hz);
            for delay in delays(anchor, b, searched, away)? {
                let is_known = |one: &Tried| one.from == from && (one.delay - delay).abs() <= 1.0;
                if !tried.iter().any(is_known) {
                    let followed = follower.follow(from, delay, within.clone())?;
                    tried.push(Tried { from, delay, followed, within: within.clone() });
                }
            }
        }
        tried.retain(|one| !one.followed.stretches.is_empty());
        searched = Some(away);
        let everywhere = away >= (a.count() + b.count()) as f64;
        if everywhere || most_shared(&tried) > SURE {
            break;
        }
    }
    for judged_s in &JUDGED_S[1..] {
        let farther = |one: &Tried| follower.near(one.from, judged_s * rate_hz);
        if tried.iter().all(|one| farther(one) == one.within) {
            continue;
        }
        let most = most_shared(&tried);
        tried.retain(|one| {
            let chance = 1.0 + by_chance(one.within.len() * follower.length / 2);
            1.0 - one.followed.shared <= RIVAL.max(chance) * (1.0 - most) + SLACK
        });
        if judged_s.is_infinite() && most < SURE {
            // Nothing leads far: to follow every place through a long recording shows no more.
            let mut shares: Vec<f64> = tried.iter().map(|one| one.followed.shared).collect();
            shares.sort_by(|x, y| y.total_cmp(x));
            let least = shares.get(MOST_DOUBTFUL - 1).copied().unwrap_or(0.0);
            tried.retain(|one| one.followed.shared >= least);
        }
        let mut judged: Vec<Tried> = Vec::with_capacity(tried.len());
        for mut one in tried {
            if judged.iter().any(|other| other.followed.leads_through(one.from, one.delay)) {
                continue;
            }
            one.within = farther(&one);
            one.followed = follower.follow(one.from, one.delay, one.within.clone())?;
            judged.push(one);
        }
        tried = judged;
    }
    let may_slope = a.count() as f64 / rate_hz >= 1.0;
    let place = |one: &Tried| {
        let placed = Placed::through(one.followed.stretches.clone(), may_slope)?;
        let (near_gain, stretch) = (one.followed.gain, follower.length);
        Some((Placed { near_gain, stretch, ..placed }, one.followed.shared))
    };
    let mut all: Vec<(Placed, f64)> = tried.iter().filter_map(place).collect();
    let is_near_best = |miss: f64, least: f64| miss <= RIVAL * least + SLACK;
    let least = 1.0 - all.iter().map(|one| one.1).fold(0.0, f64::max);
    all.retain(|(_, shared)| is_near_best(1.0 - shared, least));
    let mut known: Vec<f64> = Vec::new();
    all.retain(|(placed, _)| {
        let is_new = known.iter().all(|delay| (delay - placed.delay.value).abs() > 0.5);
        known.push(placed.delay.value);
        is_new
    });
    // Where several come near, what all of both have in common decides.
    if all.len() > 1 {
        for (placed, share) in &mut all {
            *share = shared(a, b, placed)?;
        }
    }
    // Of equals the first.
    let best = all.iter().rev().max_by(|x, y| x.1.total_cmp(&y.1));
    let Some((best, most)) = best else { return Ok(None) };
    let rivals = all.iter().filter(|(placed, share)| {
        let is_apart = (placed.delay.value - best.delay.value).abs() > 1.0;
        let miss = 1.0 - share;
        is_apart && miss < RIVAL * (1.0 - most) && miss < MOST_RIVAL_MISS
    });
    let rival = rivals.max_by(|x, y| x.1.total_cmp(&y.1)).map(|rival| rival.0.delay.value);
    let best = Placed { rival, ..best.clone() };
    let misses = |one: &&Tried| best.misses(&one.followed.stretches);
    let own = tried.iter().min_by(|x, y| misses(x).total_cmp(&misses(y)));
    match own {
        Some(own) => Ok(Some(uneven(a, b, rate_hz, best, own)?)),
        None => Ok(Some(best)),
    }
}

/// A place that was tried.
pub(super) struct Tried {
    pub(super) from: f64,
    pub(super) delay: f64,
    /// The stretches through which it was followed, and what came of it.
    within: Range<usize>,
    pub(super) followed: Followed,
}

fn most_shared(tried: &[Tried]) -> f64 {
    tried.iter().map(|one| one.followed.shared).fold(0.0, f64::max)
}

/// Five standard deviations of the power of noise in so many samples.
fn by_chance(samples: usize) -> f64 {
    5.0 * (2.0 / samples as f64).sqrt()
}

/// Value at 0 and slope of the line through stretches, each weighted by the inverse of its
/// variance, with the covariance of the two.
pub(super) fn weighted_line(stretches: &[Stretch]) -> Option<(f64, f64, [[f64; 2]; 2])> {
    let points = stretches.iter().map(|s| (s.middle, s.delay, 1.0 / s.variance));
    let line = fit::Line::through(points)?;
    let of_slope = 1.0 / line.square;
    let both = -line.mean_x * of_slope;
    Some((line.at(0.0), line.slope, [[line.variance_at(0.0), both], [both, of_slope]]))
}

impl Placed {
    /// The line through stretches: a slope only where it is sure.
    fn through(mut stretches: Vec<Stretch>, may_slope: bool) -> Option<Self> {
        // Stretches that overlap by half share Σ w²(n)·w²(n + L/2)/Σ w⁴(n) = 0.043 of their errors
        // with each neighbour.
        const OVERLAP: f64 = 1.086;
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
        let drift = may_slope.then_some(drift);
        Some(Self {
            delay,
            drift,
            is_drifting: is_sloping,
            slope,
            course: Course::default(),
            rival: None,
            near_gain: 1.0,
            stretch: 0,
        })
    }

    /// Where in the second a sample of the first lies.
    pub(super) fn place(&self, sample: usize) -> f64 {
        let on_line = sample as f64 * (1.0 + self.slope) + self.delay.value;
        on_line + self.course.at(sample as f64)
    }

    /// Mean distance of stretches from the line.
    fn misses(&self, stretches: &[Stretch]) -> f64 {
        let misses = stretches.iter().map(|stretch| self.off_line(stretch).abs());
        misses.sum::<f64>() / stretches.len().max(1) as f64
    }

    /// How far a stretch lies from the line.
    pub(super) fn off_line(&self, stretch: &Stretch) -> f64 {
        stretch.delay - self.delay.value - self.slope * stretch.middle
    }

    /// The samples of the first that lie over the second, of so many in each, and where the delay
    /// is known.
    pub(super) fn overlap(&self, a_count: usize, b_count: usize) -> Range<usize> {
        let whole = self.reached(a_count, b_count);
        let Some((first, last)) = self.course.known() else { return whole };
        let start = whole.start.max(first.ceil() as usize).min(whole.end);
        start..whole.end.min(last as usize).max(start)
    }

    /// The same wherever the delay is thought to be.
    pub(super) fn reached(&self, a_count: usize, b_count: usize) -> Range<usize> {
        let reach = self.course.reach();
        let first = ((reach - self.delay.value) / (1.0 + self.slope)).max(0.0).ceil() as usize;
        let last = (b_count as f64 - 1.0 - reach - self.delay.value) / (1.0 + self.slope);
        let end = if last < 0.0 { 0 } else { last.floor() as usize + 1 };
        let (first, end) = (first.min(a_count), end.min(a_count));
        first..end.max(first)
    }
}

/// The second on the clock of the first, read block by block.
pub(super) struct Shifted<'a> {
    placed: &'a Placed,
    b: Reader<'a>,
    between: Interpolator,
    values: Vec<f32>,
}

impl<'a> Shifted<'a> {
    pub(super) fn new(placed: &'a Placed, b: &'a dyn Samples) -> Self {
        Self { placed, b: Reader::new(b), between: Interpolator::wide(), values: Vec::new() }
    }

    /// What lies over so many samples of the first from one on, and the energy of the samples that
    /// it is read from: what is read between samples lacks the highest frequencies.
    pub(super) fn at(&mut self, sample: usize, count: usize) -> Result<(&[f32], f64), Error> {
        /// A delay this near a whole number of samples is one.
        const WHOLE: f64 = 1e-6;
        /// Over so few samples the step between places is one.
        const PIECE: usize = 128;
        let is_even = self.placed.course.is_even();
        let (place, end) = (self.placed.place(sample), self.placed.place(sample + count));
        let nearest = place.round() as i64;
        if is_even && self.placed.slope == 0.0 && (place - nearest as f64).abs() < WHOLE {
            let own = self.b.at(nearest, count)?;
            return Ok((own, product(own, own)));
        }
        let piece = if is_even { count.max(1) } else { PIECE };
        let starts = (sample..sample + count).step_by(piece).chain([sample + count]);
        let places: Vec<f64> = starts.map(|start| self.placed.place(start)).collect();
        let lowest = places.iter().copied().fold(place, f64::min).floor() as i64;
        let highest = places.iter().copied().fold(end, f64::max).ceil() as i64;
        let (before, behind) = self.between.needs(0, 1.0);
        let from = lowest - before as i64;
        let to = highest.max(nearest + count as i64) + behind as i64;
        let sound = self.b.at(from, (to - from) as usize)?;
        self.values.resize(count, 0.0);
        for (values, ends) in self.values.chunks_mut(piece).zip(places.windows(2)) {
            let step = (ends[1] - ends[0]) / values.len() as f64;
            self.between.along(sound, ends[0] - from as f64, step, values);
        }
        let own = &sound[(nearest - from) as usize..][..count];
        Ok((&self.values, product(own, own)))
    }
}

/// The weighted mean of the delays and its variance.
fn constant(stretches: &[Stretch]) -> Option<(f64, f64)> {
    let weights: f64 = stretches.iter().map(|s| 1.0 / s.variance).sum();
    let sum: f64 = stretches.iter().map(|s| s.delay / s.variance).sum();
    (weights > 0.0).then(|| (sum / weights, 1.0 / weights))
}
