//! A clock that runs unevenly, as that of a turntable or a tape does: the delay between two
//! recordings over time, beside a straight line.
//!
//! Where stretches lie off the line by more than their uncertainties, and neighbours alike, what they
//! are off is laid through them as a cubic; the second is read along it, and what is still off is
//! found in shorter stretches and added, until nothing is. The course counts if it halves what the two
//! do not share.

use std::ops::Range;

use super::align::{MOST_DRIFT, Placed, Shifted, Stretch, Tried};
use super::follow::Follower;
use super::overlay::shared;
use crate::error::Error;
use crate::fit;
use crate::measured::Measured;
use crate::samples::Samples;

/// The same with the course of an uneven clock, as that of a turntable is, if there is one: what the
/// two do not share must fall to half.
pub(super) fn uneven(
    a: &dyn Samples,
    b: &dyn Samples,
    rate_hz: f64,
    placed: Placed,
    tried: &Tried,
) -> Result<Placed, Error> {
    /// Each round takes most of what a moving delay blurs in the one before, and the shorter its
    /// stretches are the finer is the course.
    const STRETCHES_S: [f64; 5] = [0.25, 0.25, 0.125, 0.125, 0.125];
    /// Near enough, in samples.
    const NEAR: f64 = 0.01;
    /// What a stretch may be off after the first round, in samples.
    const STRAY: f64 = 8.0;
    /// Longer stretches may blur what is uneven where they leave so much.
    const LOOSE: f64 = 0.02;
    let coarse = &tried.followed;
    let Some(finer) = Follower::with(a, b, rate_hz, STRETCHES_S[0]) else {
        return Ok(placed);
    };
    if !wanders(&placed, &coarse.stretches) && 1.0 - coarse.shared < LOOSE {
        return Ok(placed);
    }
    let stretches = finer.follow(tried.from, tried.delay, finer.all())?.stretches;
    if !wanders(&placed, &stretches) {
        return Ok(placed);
    }
    let mut knots: Vec<(f64, f64)> =
        stretches.iter().map(|stretch| (stretch.middle, placed.off_line(stretch))).collect();
    for stretch_s in STRETCHES_S {
        let bent = Placed { course: Course { knots: knots.clone() }, ..placed.clone() };
        if bent.course.is_wild() {
            return Ok(placed);
        }
        let overlap = bent.reached(a.count(), b.count());
        let warped = Warped { placed: &bent, b, overlap: overlap.clone() };
        let Some(follower) = Follower::with(a, &warped, rate_hz, stretch_s) else { break };
        let middle = f64::midpoint(overlap.start as f64, overlap.end as f64);
        let found = follower.follow(middle, 0.0, follower.all())?;
        let is_inside = |stretch: &&Stretch| {
            stretch.delay.abs() < STRAY && stretch.middle > (overlap.start + follower.length) as f64
        };
        let inside: Vec<&Stretch> = found.stretches.iter().filter(is_inside).collect();
        let squares: f64 = inside.iter().map(|stretch| stretch.delay.powi(2)).sum();
        let knot =
            |stretch: &&Stretch| (stretch.middle, bent.course.at(stretch.middle) + stretch.delay);
        if inside.len() < 3 {
            break;
        }
        knots = inside.iter().map(knot).collect();
        if squares < NEAR * NEAR * knots.len() as f64 {
            break;
        }
    }
    // What wanders is alike from stretch to stretch: fewer of them say how the line lies.
    let (_, alike) = off_line(&placed, &coarse.stretches);
    let wider = ((1.0 + alike) / (1.0 - alike)).max(1.0).sqrt();
    let widened = |value: Measured| Measured::new(value.value, wider * value.u);
    let bent = Placed {
        delay: widened(placed.delay),
        drift: placed.drift.map(widened),
        course: Course { knots },
        ..placed.clone()
    };
    let (miss, left) = (1.0 - shared(a, b, &placed)?, 1.0 - shared(a, b, &bent)?);
    Ok(if left < 0.5 * miss { bent } else { placed })
}

/// Whether stretches lie off the line by more than their uncertainties, smoothly over time.
fn wanders(placed: &Placed, stretches: &[Stretch]) -> bool {
    const FEWEST: usize = 16;
    /// In samples.
    const LEAST: f64 = 0.2;
    const OVER_U: f64 = 5.0;
    const ALIKE: f64 = 0.5;
    let (squares, alike) = off_line(placed, stretches);
    let variances: f64 = stretches.iter().map(|stretch| stretch.variance).sum();
    let count = stretches.len();
    count >= FEWEST
        && squares > LEAST * LEAST * count as f64
        && squares > OVER_U * OVER_U * variances
        && alike > ALIKE
}

/// How far stretches lie off the line, as a sum of squares, and how alike neighbours are in that, as
/// their correlation.
fn off_line(placed: &Placed, stretches: &[Stretch]) -> (f64, f64) {
    let off: Vec<f64> = stretches.iter().map(|stretch| placed.off_line(stretch)).collect();
    let squares: f64 = off.iter().map(|x| x * x).sum();
    let products: f64 = off.windows(2).map(|pair| pair[0] * pair[1]).sum();
    (squares, if squares > 0.0 { products / squares } else { 0.0 })
}

/// The same as samples that are read in any order; silent where nothing lies over the first.
struct Warped<'a> {
    placed: &'a Placed,
    b: &'a dyn Samples,
    overlap: Range<usize>,
}

impl Samples for Warped<'_> {
    fn count(&self) -> usize {
        self.overlap.end
    }

    fn read(&self, start: usize, into: &mut [f32]) -> Result<(), Error> {
        let silent = self.overlap.start.saturating_sub(start).min(into.len());
        let (before, sounding) = into.split_at_mut(silent);
        before.fill(0.0);
        if !sounding.is_empty() {
            let mut shifted = Shifted::new(self.placed, self.b);
            sounding.copy_from_slice(shifted.at(start + silent, sounding.len())?.0);
        }
        Ok(())
    }
}

/// A delay over time beside a straight line: knots in the order of time, between them a cubic
/// (E. Catmull and R. Rom, 1974); none where the clock runs evenly.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Course {
    knots: Vec<(f64, f64)>,
}

impl Course {
    pub(super) fn is_even(&self) -> bool {
        self.knots.is_empty()
    }

    /// Between which samples it is known.
    pub(super) fn known(&self) -> Option<(f64, f64)> {
        Some((self.knots.first()?.0, self.knots.last()?.0))
    }

    /// The largest delay.
    pub(super) fn reach(&self) -> f64 {
        self.knots.iter().fold(0.0, |most, (_, delay)| most.max(delay.abs()))
    }

    /// RMS of the delays about a straight line; `None` where there is none.
    pub(super) fn rms(&self) -> Option<f64> {
        let line = fit::Line::of_equals(self.knots.iter().copied())?;
        Some((line.left / line.weight).sqrt())
    }

    /// Whether no clock is so uneven.
    fn is_wild(&self) -> bool {
        const MOST_UNEVEN: f64 = 3.0 * MOST_DRIFT;
        const STRAY: f64 = 4.0;
        let is_wild = |pair: &[(f64, f64)]| {
            (pair[1].1 - pair[0].1).abs() > MOST_UNEVEN * (pair[1].0 - pair[0].0) + STRAY
        };
        self.knots.windows(2).any(is_wild)
    }

    pub(super) fn at(&self, sample: f64) -> f64 {
        let after = self.knots.partition_point(|(at, _)| *at <= sample);
        let Some(last) = self.knots.len().checked_sub(1) else { return 0.0 };
        let knot = |n: usize| self.knots[n.min(last)];
        if after == 0 || after > last {
            // Straight on from the last two.
            let ((t1, p1), (t2, p2)) =
                if after == 0 { (knot(0), knot(1)) } else { (knot(last - 1), knot(last)) };
            return p1 + (p2 - p1) * (sample - t1) / (t2 - t1);
        }
        let ((t1, p1), (t2, p2)) = (knot(after - 1), knot(after));
        let ((t0, p0), (t3, p3)) = (knot(after.saturating_sub(2)), knot(after + 1));
        let (slope1, slope2) = ((p2 - p0) / (t2 - t0), (p3 - p1) / (t3 - t1));
        let (width, x) = (t2 - t1, (sample - t1) / (t2 - t1));
        let (rest, whole) = (1.0 - x, x * x * (3.0 - 2.0 * x));
        p1 + (p2 - p1) * whole + width * x * rest * (slope1 * rest - slope2 * x)
    }
}
