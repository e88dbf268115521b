//! Two sounds blended, partial by partial.
//!
//! Notes are paired in order and aligned by their onsets, partials by their numbers. Between two partials
//! with a share s of the second the level is straight in dB, L = (1 − s)·L1 + s·L2, and so is the
//! frequency from the run of the phases, dφ = (1 − s)·dφ1 + s·dφ2: at 0 and at 1 the blend is either
//! sound. A partial that has ended goes on as it died away; one that the other sound does not have is
//! faded by its share. Of what the tones leave, the powers are shared.

use std::collections::BTreeSet;
use std::f64::consts::{LN_10, TAU};

use super::edit::Course;
use super::tracks::{MadeTrack, turned};
use crate::partials::{PartialTrack, Partials, Sum, TrackPoint};

/// A sound to blend with, and how much of it there is over time, from 0 to 1.
#[derive(Debug, Clone, PartialEq)]
pub struct Blend<'s> {
    /// The other sound, at the same sample rate.
    pub sound: &'s [f32],
    /// Its share of the frequencies.
    pub frequency: Course,
    /// Its share of the levels.
    pub level: Course,
    /// Its share of the noise.
    pub noise: Course,
}

impl Blend<'_> {
    /// Whether nothing of the other sound is heard at any time.
    pub(super) fn is_nothing(&self) -> bool {
        [&self.frequency, &self.level, &self.noise].iter().all(|of| of.values().all(|s| s <= 0.0))
    }

    /// What both leave together, the other one so many samples later.
    pub(super) fn rest(&self, left: &[f32], other: &[f32], later: i64, rate_hz: f64) -> Vec<f32> {
        let behind = (other.len() as i64 + later).max(0) as usize;
        let count = if self.is_nothing() { left.len() } else { left.len().max(behind) };
        let at = |of: &[f32], n: i64| {
            usize::try_from(n).ok().and_then(|n| of.get(n)).map_or(0.0, |x| f64::from(*x))
        };
        let sample = |n: usize| {
            let share = self.noise.at(n as f64 / rate_hz).clamp(0.0, 1.0);
            let (one, two) = (at(left, n as i64), at(other, n as i64 - later));
            ((1.0 - share).sqrt() * one + share.sqrt() * two) as f32
        };
        (0..count).map(sample).collect()
    }

    /// The tracks of a note and of the one that it is blended with; `source_s` is the time of the source
    /// that is heard at a time.
    pub(super) fn tracks(
        &self,
        one: &[MadeTrack],
        two: &[MadeTrack],
        source_s: impl Fn(f64) -> f64,
    ) -> Vec<MadeTrack> {
        let numbers: BTreeSet<usize> = one.iter().chain(two).map(|track| track.number).collect();
        let of = |number: usize| {
            let shares = |t: f64| {
                let t = source_s(t);
                [&self.frequency, &self.level].map(|share| share.at(t).clamp(0.0, 1.0))
            };
            blended(number, &Side::new(one, number), &Side::new(two, number), shares)
        };
        numbers.into_iter().flat_map(of).collect()
    }
}

/// A note as it would be so many seconds later.
pub(super) fn later(note: &Partials, by_s: f64) -> Partials {
    let mut note = note.clone();
    note.start_s += by_s;
    note.end_s += by_s;
    note.level_at_s += by_s;
    note.entry = note.entry.map(|entry| entry.later(by_s));
    for partial in &mut note.partials {
        partial.start_s += by_s;
        partial.end_s += by_s;
        partial.knee_s = partial.knee_s.map(|knee_s| knee_s + by_s);
    }
    let moved = |track: PartialTrack| PartialTrack { start_s: track.start_s + by_s, ..track };
    note.tracks = note.tracks.into_iter().map(moved).collect();
    note
}

/// The tracks of a partial in one of the sounds.
struct Side<'t> {
    tracks: Vec<Followed<'t>>,
}

/// A track with its phase as it runs on.
struct Followed<'t> {
    points: &'t [(f64, TrackPoint)],
    phases: Vec<f64>,
    /// How its level falls at its end, in nepers a second.
    falls: f64,
}

/// A partial of one of the sounds at a time.
struct At {
    hz: f64,
    /// Natural logarithm of its amplitude.
    level: f64,
    /// Its phase, which runs on within a track, and the track.
    phase: f64,
    track: usize,
    is_heard: bool,
}

impl<'t> Followed<'t> {
    /// Nepers of a decibel.
    const DB: f64 = LN_10 / 20.0;

    fn new(points: &'t [(f64, TrackPoint)]) -> Self {
        /// The end of a track, and how steeply it can fall there in dB/s.
        const END_S: f64 = 0.08;
        const FALL_DB_PER_S: (f64, f64) = (10.0, 1000.0);
        let mut phases = vec![points[0].1.phase_rad];
        for pair in points.windows(2) {
            let ran = turned(&pair[0].1, &pair[1].1, pair[1].0 - pair[0].0);
            phases.push(phases[phases.len() - 1] + ran);
        }
        let (end_s, last) = points[points.len() - 1];
        let from = points.partition_point(|(t, _)| *t < end_s - END_S).min(points.len() - 1);
        let (from_s, first) = points[from];
        let fell = (first.amplitude / last.amplitude.max(1e-15)).max(1e-15).ln();
        let (least, most) = FALL_DB_PER_S;
        let falls = fell / (end_s - from_s).max(1e-3);
        Self { points, phases, falls: falls.clamp(Self::DB * least, Self::DB * most) }
    }

    fn contains(&self, t: f64) -> bool {
        (self.points[0].0..=self.points[self.points.len() - 1].0).contains(&t)
    }

    fn at(&self, t: f64, track: usize) -> At {
        /// Before it begins a partial rises so fast.
        const RISE_DB_PER_S: f64 = 6000.0;
        let level = |point: &TrackPoint| point.amplitude.max(1e-15).ln();
        let behind = self.points.partition_point(|(time, _)| *time <= t);
        let beside = |n: usize, slope: f64| {
            let (time, point) = &self.points[n];
            At {
                hz: point.frequency_hz,
                level: level(point) + slope * (t - time),
                phase: self.phases[n] + TAU * point.frequency_hz * (t - time),
                track,
                is_heard: false,
            }
        };
        if behind == 0 {
            return beside(0, Self::DB * RISE_DB_PER_S);
        }
        let (from_s, from) = &self.points[behind - 1];
        let Some((to_s, to)) = self.points.get(behind) else {
            let is_heard = *from_s == t;
            return At { is_heard, ..beside(behind - 1, -self.falls) };
        };
        let point = Sum::between(to_s - from_s, (t - from_s) / (to_s - from_s), from, to);
        At {
            hz: point.frequency_hz,
            level: level(&point),
            phase: self.phases[behind - 1] + point.phase_rad - from.phase_rad,
            track,
            is_heard: true,
        }
    }
}

impl<'t> Side<'t> {
    fn new(tracks: &'t [MadeTrack], number: usize) -> Self {
        let of_number = tracks.iter().filter(|track| track.number == number && !track.is_removed);
        let followed = of_number.filter(|track| !track.points.is_empty());
        Self { tracks: followed.map(|track| Followed::new(&track.points)).collect() }
    }

    fn times(&self) -> impl Iterator<Item = f64> + '_ {
        self.tracks.iter().flat_map(|track| track.points.iter().map(|(t, _)| *t))
    }

    /// What it is at a time: in a track, else behind the last one, else before the first.
    fn at(&self, t: f64) -> Option<At> {
        let inside = self.tracks.iter().position(|track| track.contains(t));
        let behind = || self.tracks.iter().rposition(|track| track.points[0].0 <= t);
        let n = inside.or_else(behind).unwrap_or(0);
        Some(self.tracks.get(n)?.at(t, n))
    }
}

/// A partial of both sounds, given the shares of the second in frequency and level at a time.
fn blended(
    number: usize,
    one: &Side<'_>,
    two: &Side<'_>,
    shares: impl Fn(f64) -> [f64; 2],
) -> Vec<MadeTrack> {
    /// Fainter is nothing: −140 dB.
    const FAINTEST: f64 = -16.1;
    let mut times: Vec<f64> = one.times().chain(two.times()).collect();
    times.sort_by(f64::total_cmp);
    times.dedup_by(|a, b| *a - *b < 1e-9);
    let mut tracks: Vec<MadeTrack> = Vec::new();
    let mut points: Vec<(f64, TrackPoint)> = Vec::new();
    let mut before: Option<(f64, Option<At>, Option<At>)> = None;
    for t in times {
        let [of_frequency, of_level] = shares(t);
        let (a, b) = (one.at(t), two.at(t));
        let heard = |at: &Option<At>| at.as_ref().is_some_and(|at| at.is_heard);
        let is_heard = (heard(&a) && of_level < 1.0) || (heard(&b) && of_level > 0.0);
        let level = match (&a, &b) {
            (Some(a), Some(b)) => mixed(a.level, b.level, of_level),
            (Some(a), None) => a.level + (1.0 - of_level).max(1e-15).ln(),
            (None, Some(b)) => b.level + of_level.max(1e-15).ln(),
            (None, None) => f64::NEG_INFINITY,
        };
        if !is_heard || level < FAINTEST {
            close(number, &mut points, &mut tracks);
            before = None;
            continue;
        }
        // Where only one sound has it there is nothing to move it to.
        let hz = of_both(a.as_ref(), b.as_ref(), of_frequency, |at| at.hz);
        let phase_rad = match (&before, points.last()) {
            (Some((then, a0, b0)), Some((_, last))) => {
                let ran = |at: &At, was: Option<&At>| match was {
                    Some(was) if was.track == at.track => at.phase - was.phase,
                    _ => TAU * at.hz * (t - then),
                };
                let a = a.as_ref().map(|at| ran(at, a0.as_ref()));
                let b = b.as_ref().map(|at| ran(at, b0.as_ref()));
                last.phase_rad + of_both(a.as_ref(), b.as_ref(), of_frequency, |ran| *ran)
            }
            _ => {
                let nearer = if of_frequency < 0.5 {
                    a.as_ref().or(b.as_ref())
                } else {
                    b.as_ref().or(a.as_ref())
                };
                nearer.map_or(0.0, |at| at.phase)
            }
        };
        points.push((t, TrackPoint { frequency_hz: hz, amplitude: level.exp(), phase_rad }));
        before = Some((t, a, b));
    }
    close(number, &mut points, &mut tracks);
    tracks
}

/// A value of both, or of the one that there is.
fn of_both<T>(a: Option<&T>, b: Option<&T>, share: f64, value: impl Fn(&T) -> f64) -> f64 {
    match (a, b) {
        (Some(a), Some(b)) => mixed(value(a), value(b), share),
        (Some(one), None) | (None, Some(one)) => value(one),
        (None, None) => 0.0,
    }
}

/// Straight between two values, and exactly either at the ends.
fn mixed(a: f64, b: f64, share: f64) -> f64 {
    (1.0 - share) * a + share * b
}

/// Ends a track.
fn close(number: usize, points: &mut Vec<(f64, TrackPoint)>, tracks: &mut Vec<MadeTrack>) {
    let points = std::mem::take(points);
    if points.len() > 1 {
        tracks.push(MadeTrack::new(number, points));
    }
}
