//! A level over time: its mean, its extremes, how long it lies above which level.

use serde::{Serialize, Serializer};

use super::weighting::settled;
use crate::error::Error;
use crate::histogram::Histogram;
use crate::lanes;
use crate::measured::Measured;
use crate::significance::deviation_of_mean;
use crate::units::{DB_PER_POWER, db_from_power, power_from_db};

/// How quickly a level follows the sound (IEC 61672-1:2013).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum TimeWeighting {
    /// A mean that forgets with 125 ms.
    #[default]
    Fast,
    /// A mean that forgets with 1 s.
    Slow,
    /// It rises with 35 ms and falls by 2.9 dB a second.
    Impulse,
}

impl TimeWeighting {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Fast, Self::Slow, Self::Impulse];

    /// Its letter.
    #[must_use]
    pub fn letter(self) -> &'static str {
        match self {
            Self::Fast => "F",
            Self::Slow => "S",
            Self::Impulse => "I",
        }
    }

    /// Its time constant in seconds.
    #[must_use]
    pub fn time_constant_s(self) -> f64 {
        match self {
            Self::Fast => 0.125,
            Self::Slow => 1.0,
            Self::Impulse => 0.035,
        }
    }

    /// What it rises from counts for a twentieth after so long, and what is missing is known.
    pub(super) fn settles_s(self) -> f64 {
        3.0 * self.time_constant_s()
    }
}

impl std::str::FromStr for TimeWeighting {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let named = Self::ALL.into_iter().find(|one| one.letter().eq_ignore_ascii_case(text));
        named.ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a time weighting",
            forms: "F, S or I",
        })
    }
}

impl Serialize for TimeWeighting {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.letter())
    }
}

/// Levels that are exceeded during so much of the time, in percent.
pub const EXCEEDED_PERCENT: [f64; 7] = [1.0, 5.0, 10.0, 50.0, 90.0, 95.0, 99.0];

/// How long the steps are of which a level is made up at most: the time-weighted level is sampled
/// at their ends.
pub(super) const TICK_S: f64 = 0.01;
/// Parts of the averaging time of which the scatter is looked at, at most and at least.
const MOST_PARTS: usize = 64;
const FEWEST_PARTS: usize = 8;

/// Mean squares below −250 dB re full scale are silence: what is left of a filter that rings out.
pub(super) const SILENCE: f64 = 1e-25;

/// Times that differ by less are the same.
const SLACK_S: f64 = 1e-9;

/// What a level is made of.
#[derive(Debug, Clone, Copy)]
pub(super) struct Timing {
    /// Sample rate.
    pub(super) rate_hz: f64,
    /// Length of a tick in seconds.
    pub(super) tick_s: f64,
    /// Ticks that make a step of the course.
    pub(super) ticks_per_step: u64,
    /// When the averaging begins, in seconds from the first sample, and how long it takes.
    pub(super) from_s: f64,
    pub(super) lasts_s: f64,
    /// When filter and time weighting have forgotten the start of the sound.
    pub(super) settled_s: f64,
    /// When the course begins, which may be before: steps of all bands lie side by side.
    pub(super) course_from_s: f64,
    pub(super) time_weighting: TimeWeighting,
    /// Width of the band, if it has one.
    pub(super) width_hz: Option<f64>,
    /// Whether the course is kept.
    pub(super) keeps_course: bool,
}

/// Squares of a stretch of time.
#[derive(Debug, Clone, Copy, Default)]
struct Stretch {
    sum: f64,
    count: u64,
    ticks: u64,
    /// Highest time-weighted level.
    highest: f64,
}

impl Stretch {
    fn add(&mut self, other: &Self) {
        self.sum += other.sum;
        self.count += other.count;
        self.ticks += other.ticks;
        self.highest = self.highest.max(other.highest);
    }

    fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum / self.count as f64)
    }
}

/// Follows the level of a squared signal.
#[derive(Debug, Clone)]
pub(super) struct ShortTime {
    timing: Timing,
    smoothing: Smoothing,
    /// The tick that is being filled, its number, and the square behind its last.
    tick: Stretch,
    number: u64,
    end: u64,
    /// Squares so far.
    count: u64,
    /// The averaging time so far, and its lowest time-weighted level.
    all: Stretch,
    least: f64,
    levels: Histogram,
    /// Means of its parts, and the part that is being filled.
    parts: Vec<f64>,
    part: Stretch,
    ticks_per_part: u64,
    steps: Vec<Step>,
    step: Stretch,
    /// Whether the filter, and the time-weighted level, have been settled all through the step.
    is_averaged: bool,
    is_settled: bool,
}

/// A step of the course, in powers.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Step {
    /// 0 where the filter has not settled.
    pub(super) mean: f64,
    /// Of the time-weighted level; 0 where that has not settled.
    pub(super) highest: f64,
}

/// What was found of a level, in powers: mean squares.
#[derive(Debug, Clone, Default)]
pub(super) struct Followed {
    pub(super) mean: Option<Measured>,
    pub(super) averaged_s: f64,
    pub(super) most: Option<f64>,
    pub(super) least: Option<f64>,
    pub(super) exceeded: [Option<f64>; EXCEEDED_PERCENT.len()],
    pub(super) steps: Vec<Step>,
    /// By how much it rises over the averaging time, in dB, if that is more than chance.
    pub(super) drift_db: Option<f64>,
}

impl ShortTime {
    pub(super) fn new(timing: Timing) -> Self {
        let Timing { rate_hz, tick_s, lasts_s, width_hz, .. } = timing;
        // Parts that are shorter than what the band remembers would not scatter by themselves.
        let part_s = (lasts_s / MOST_PARTS as f64).max(width_hz.map_or(0.0, |hz| 2.0 / hz));
        let ticks_per_part = (part_s / tick_s).ceil().max(1.0) as u64;
        let mut made = Self {
            timing,
            smoothing: Smoothing::new(timing.time_weighting, rate_hz),
            tick: Stretch::default(),
            number: 0,
            end: 0,
            count: 0,
            all: Stretch::default(),
            least: f64::INFINITY,
            // In steps of 0.05 dB.
            levels: Histogram::new(SILENCE, power_from_db(0.05), 6000),
            parts: Vec::with_capacity(MOST_PARTS),
            part: Stretch::default(),
            ticks_per_part,
            steps: Vec::new(),
            step: Stretch::default(),
            is_averaged: true,
            is_settled: true,
        };
        made.end = made.end_of(0);
        made
    }

    fn end_of(&self, tick: u64) -> u64 {
        ((tick + 1) as f64 * self.timing.tick_s * self.timing.rate_hz).round() as u64
    }

    pub(super) fn push(&mut self, mut squares: &[f64]) {
        loop {
            let room = (self.end - self.count) as usize;
            let (now, later) = squares.split_at(room.min(squares.len()));
            self.tick.sum += lanes::sum(now);
            self.tick.count += now.len() as u64;
            self.tick.highest = self.tick.highest.max(self.smoothing.run(now));
            self.count += now.len() as u64;
            squares = later;
            if self.count < self.end {
                return;
            }
            self.end_tick();
        }
    }

    /// When the tick begins that is being filled, in seconds from the first square.
    fn begins_s(&self) -> f64 {
        self.number as f64 * self.timing.tick_s
    }

    /// Whether a tick that begins then is averaged.
    fn averages(&self, begins_s: f64) -> bool {
        let Timing { from_s, lasts_s, .. } = self.timing;
        begins_s >= from_s - SLACK_S && begins_s < from_s + lasts_s - SLACK_S
    }

    fn end_tick(&mut self) {
        let begins_s = self.begins_s();
        let tick = Stretch { ticks: 1, ..std::mem::take(&mut self.tick) };
        if self.averages(begins_s) {
            self.average(&tick, begins_s);
        }
        if self.timing.keeps_course && begins_s >= self.timing.course_from_s - SLACK_S {
            self.go_on(&tick, begins_s);
        }
        self.number += 1;
        self.end = self.end_of(self.number);
        let Timing { from_s, course_from_s, .. } = self.timing;
        if from_s > course_from_s && !self.averages(begins_s) && self.averages(self.begins_s()) {
            // What the start of the sound left behind is no level of the span.
            self.smoothing.forget();
        }
    }

    /// Takes a tick of the averaging time.
    fn average(&mut self, tick: &Stretch, begins_s: f64) {
        self.all.add(tick);
        self.part.add(tick);
        if self.part.ticks == self.ticks_per_part {
            self.parts.extend(std::mem::take(&mut self.part).mean());
        }
        if begins_s >= self.timing.settled_s - SLACK_S {
            let level = self.smoothing.settled_level();
            self.least = self.least.min(level);
            self.levels.add(level);
        }
    }

    /// Takes a tick of the course.
    fn go_on(&mut self, tick: &Stretch, begins_s: f64) {
        self.is_averaged &= begins_s >= self.timing.from_s - SLACK_S;
        self.is_settled &= begins_s >= self.timing.settled_s - SLACK_S;
        self.step.add(tick);
        if self.step.ticks == self.timing.ticks_per_step {
            let step = std::mem::take(&mut self.step);
            let mean = step.mean().filter(|_| self.is_averaged).unwrap_or(0.0);
            let highest = if self.is_settled { step.highest } else { 0.0 };
            self.steps.push(Step { mean, highest });
            (self.is_averaged, self.is_settled) = (true, true);
        }
    }

    pub(super) fn finish(mut self) -> Followed {
        // What is left of the last tick counts for the mean.
        if self.averages(self.begins_s()) {
            self.all.add(&self.tick);
        }
        let averaged_s = self.all.count as f64 / self.timing.rate_hz;
        let mean = self.all.mean();
        let spread = self.timing.width_hz.map(|hz| (hz * averaged_s).max(1e-9).sqrt().recip());
        let relative = scatter(&self.parts).or(spread);
        Followed {
            mean: mean
                .and_then(settled_power)
                .map(|mean| Measured::new(mean, relative.map_or(f64::NAN, |share| share * mean))),
            averaged_s,
            most: settled_power(self.all.highest),
            least: settled_power(self.least),
            exceeded: EXCEEDED_PERCENT
                .map(|percent| self.levels.exceeded(percent).filter(|power| *power > 0.0)),
            steps: self.steps,
            drift_db: drift(&self.parts),
        }
    }
}

/// A mean square that is more than silence.
pub(super) fn settled_power(power: f64) -> Option<f64> {
    Some(power).filter(|power| *power > SILENCE && power.is_finite())
}

/// A level of the power of noise with its uncertainty, in dB re full scale: a sine of full scale,
/// whose mean square is ½, reads 0 dB.
pub(super) fn level(power: Measured) -> Measured {
    Measured::new(db_from_power(2.0 * power.value), DB_PER_POWER * power.u / power.value)
}

/// The same without an uncertainty.
pub(super) fn bare_level(power: f64) -> f64 {
    db_from_power(2.0 * power)
}

/// Standard deviation of the mean of parts over that mean; `None` of too few parts.
fn scatter(parts: &[f64]) -> Option<f64> {
    let mean = parts.iter().sum::<f64>() / parts.len() as f64;
    if parts.len() < FEWEST_PARTS || mean <= 0.0 {
        return None;
    }
    Some(deviation_of_mean(parts) / mean)
}

/// By how much a level rises from the first to the last part, in dB, by the line through them; if
/// that is more than chance makes of it, and at least 1 dB.
fn drift(parts: &[f64]) -> Option<f64> {
    const LEAST_DB: f64 = 1.0;
    /// Chance makes more of it in one take of fifteen thousand.
    const OVER_U: f64 = 4.0;
    let levels: Vec<f64> = parts.iter().filter(|x| **x > 0.0).map(|x| db_from_power(*x)).collect();
    if levels.len() < FEWEST_PARTS || levels.len() < parts.len() {
        return None;
    }
    let n = levels.len() as f64;
    let mean = levels.iter().sum::<f64>() / n;
    let place = |k: usize| k as f64 - 0.5 * (n - 1.0);
    let squares = n * (n * n - 1.0) / 12.0;
    let slope = levels.iter().enumerate().map(|(k, db)| place(k) * db).sum::<f64>() / squares;
    let left = levels.iter().enumerate().map(|(k, db)| (db - mean - slope * place(k)).powi(2));
    let u = (left.sum::<f64>() / (n - 2.0) / squares).sqrt();
    let rise = slope * (n - 1.0);
    (slope.abs() > OVER_U * u && rise.abs() >= LEAST_DB).then_some(rise)
}

/// An exponential mean of a squared signal.
#[derive(Debug, Clone)]
pub(super) struct Smoothing {
    /// Share that is kept from a sample to the next, and of four.
    kept: f64,
    kept_4: f64,
    /// Share that a held level keeps over four samples; nothing is held at 0.
    held_4: f64,
    mean: f64,
    level: f64,
    /// Share of what the mean forgets that is not made up yet.
    missing: f64,
}

impl Smoothing {
    pub(super) fn new(weighting: TimeWeighting, rate_hz: f64) -> Self {
        /// How fast impulse weighting falls.
        const FALLS_DB_PER_S: f64 = 2.9;
        let kept = (-1.0 / (weighting.time_constant_s() * rate_hz)).exp();
        let held_4 = match weighting {
            TimeWeighting::Impulse => power_from_db(-FALLS_DB_PER_S * 4.0 / rate_hz),
            _ => 0.0,
        };
        Self { kept, kept_4: kept.powi(4), held_4, mean: 0.0, level: 0.0, missing: 1.0 }
    }

    fn forget(&mut self) {
        (self.mean, self.level, self.missing) = (0.0, 0.0, 1.0);
    }

    /// The level as if the sound had gone on before its start as it does since.
    pub(super) fn settled_level(&self) -> f64 {
        self.level / (1.0 - self.missing)
    }

    /// Takes squares; the highest level on the way. Four go together: the level is looked at behind
    /// the last of them.
    pub(super) fn run(&mut self, squares: &[f64]) -> f64 {
        let Self { kept, kept_4, held_4, mut mean, mut level, missing } = *self;
        let one = 1.0 - kept;
        let weights = [one * kept * kept * kept, one * kept * kept, one * kept, one];
        let (fours, rest) = squares.as_chunks::<4>();
        let mut highest = 0.0f64;
        for [a, b, c, d] in fours {
            let fresh = (a * weights[0] + b * weights[1]) + (c * weights[2] + d * weights[3]);
            mean = kept_4 * mean + fresh;
            level = larger(mean, held_4 * level);
            highest = larger(highest, level);
        }
        let held = held_4.sqrt().sqrt();
        for x in rest {
            mean = kept * mean + one * x;
            level = larger(mean, held * level);
            highest = larger(highest, level);
        }
        (self.mean, self.level) = (settled(mean), settled(level));
        self.missing = settled(missing * kept.powi(squares.len() as i32));
        highest
    }
}

/// The larger of two numbers, in one instruction.
fn larger(a: f64, b: f64) -> f64 {
    if a > b { a } else { b }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn timing(time_weighting: TimeWeighting, lasts_s: f64) -> Timing {
        Timing {
            rate_hz: 48_000.0,
            tick_s: TICK_S,
            ticks_per_step: 100,
            from_s: 0.0,
            lasts_s,
            settled_s: time_weighting.settles_s(),
            course_from_s: 0.0,
            time_weighting,
            width_hz: None,
            keeps_course: true,
        }
    }

    /// Squares of a tone of 4 kHz that lasts so long, a fifth of a second after the start, among
    /// silence.
    fn burst(lasts_s: f64, all_s: f64) -> Vec<f64> {
        (0..(48_000.0 * all_s) as usize)
            .map(|n| {
                let t = n as f64 / 48_000.0 - 0.2;
                let sine = (std::f64::consts::TAU * 4000.0 * t).sin();
                if (0.0..lasts_s).contains(&t) { sine * sine } else { 0.0 }
            })
            .collect()
    }

    /// IEC 61672-1:2013, table 4: level of a tone burst less that of the steady tone.
    #[test]
    fn bursts_read_what_the_standard_says() {
        const BURSTS: [(f64, f64, f64); 8] = [
            (1.0, 0.0, -2.0),
            (0.5, -0.1, -4.1),
            (0.2, -1.0, -7.4),
            (0.05, -4.8, -13.1),
            (0.02, -8.3, -17.0),
            (0.005, -14.1, -23.0),
            (0.002, -18.0, -27.0),
            (0.001, -21.0, f64::NAN),
        ];
        for (lasts_s, fast_db, slow_db) in BURSTS {
            let kinds = [(TimeWeighting::Fast, fast_db), (TimeWeighting::Slow, slow_db)];
            for (weighting, wanted_db) in kinds.into_iter().filter(|(_, db)| db.is_finite()) {
                let mut course = ShortTime::new(timing(weighting, 4.0));
                burst(lasts_s, 2.0).chunks(777).for_each(|part| course.push(part));
                let found = course.finish();
                let db = bare_level(found.most.expect("a level"));
                assert!((db - wanted_db).abs() < 0.06, "{weighting:?} {lasts_s} s: {db:.2}");
                let exposure_db = bare_level(found.mean.expect("a mean").value * found.averaged_s);
                assert!((exposure_db - db_from_power(lasts_s)).abs() < 0.01, "{exposure_db}");
            }
        }
    }

    /// F falls by 34.7 dB a second, S by 4.3, I by 2.9 (IEC 61672-1:2013, 5.8).
    #[test]
    fn levels_fall_as_the_standard_says() {
        for (weighting, wanted) in [
            (TimeWeighting::Fast, 34.74),
            (TimeWeighting::Slow, 4.343),
            (TimeWeighting::Impulse, 2.9),
        ] {
            let timing = Timing { settled_s: 0.0, ..timing(weighting, 10.0) };
            let mut course = ShortTime::new(timing);
            course.push(&burst(3.0, 6.25));
            let steps = course.finish().steps;
            let fall = bare_level(steps[4].highest) - bare_level(steps[5].highest);
            assert!((fall / wanted - 1.0).abs() < 0.01, "{weighting:?}: {fall:.3} dB/s");
        }
    }

    #[test]
    fn percentiles_of_steps_are_the_steps() {
        // 20 dB up for 7 s of 100, then 60 s at 0 dB, then 10 dB down.
        let at = |n: usize| match n {
            0..700 => 50.0,
            700..6700 => 0.5,
            _ => 0.05,
        };
        let mut course = ShortTime::new(timing(TimeWeighting::Fast, 100.0));
        for n in 0..10_000 {
            course.push(&vec![at(n); 480]);
        }
        let found = course.finish().exceeded.map(|power| bare_level(power.expect("a level")));
        for (n, wanted) in [20.0, 20.0, 0.0, 0.0, -10.0, -10.0, -10.0].into_iter().enumerate() {
            let (percent, db) = (EXCEEDED_PERCENT[n], found[n]);
            // Resolved to 0.05 dB; behind a step the level is on its way for two seconds.
            let slack = if percent == 10.0 { 0.1 } else { 0.051 };
            assert!((db - wanted).abs() < slack, "L{percent}: {db:.3}");
        }
    }
}
