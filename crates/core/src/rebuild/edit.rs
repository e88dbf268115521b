//! What is changed of a sound: which partials, how, and when.

use std::str::FromStr;

use serde::Serialize;

use crate::error::Error;
use crate::units::{Cents, Decibels, Frequency, FrequencyRange, Seconds};

/// A value over time: straight between breakpoints, held before the first and after the last.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(transparent)]
pub struct Course {
    points: Vec<(f64, f64)>,
}

impl Course {
    /// One value at all times.
    #[must_use]
    pub fn steady(value: f64) -> Self {
        Self { points: vec![(0.0, value)] }
    }

    /// From breakpoints of time and value.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] without points, or for times that do not rise.
    pub fn new(points: Vec<(f64, f64)>) -> Result<Self, Error> {
        let refuse = |given: String, allowed: &str| {
            Err(Error::Setting { setting: "breakpoints", given, allowed: allowed.into() })
        };
        if points.is_empty() {
            return refuse("none".into(), "one or more");
        }
        match points.windows(2).find(|pair| pair[1].0 <= pair[0].0) {
            Some(pair) => {
                refuse(format!("{} s behind {} s", pair[1].0, pair[0].0), "times that rise")
            }
            None => Ok(Self { points }),
        }
    }

    /// Reads one value, or breakpoints: '0s: 0ct, 1.5s: +300ct'.
    ///
    /// # Errors
    ///
    /// [`Error::Unreadable`] for text of no such form, [`Error::Setting`] for times that do not rise.
    pub fn read(text: &str, value: impl Fn(&str) -> Result<f64, Error>) -> Result<Self, Error> {
        if !text.contains(':') {
            return Ok(Self::steady(value(text.trim())?));
        }
        let point = |text: &str| {
            let (time, at) = text.split_once(':').ok_or_else(|| Error::Unreadable {
                given: text.into(),
                wanted: "a breakpoint",
                forms: "1.5s: +300ct",
            })?;
            Ok((time.trim().parse::<Seconds>()?.0, value(at.trim())?))
        };
        Self::new(text.split(',').map(point).collect::<Result<_, Error>>()?)
    }

    /// Its value at a time.
    #[must_use]
    pub fn at(&self, t: f64) -> f64 {
        let after = self.points.partition_point(|(time, _)| *time <= t);
        match (after.checked_sub(1).map(|n| self.points[n]), self.points.get(after).copied()) {
            (Some((t0, a)), Some((t1, b))) => a + (b - a) * (t - t0) / (t1 - t0),
            (Some((_, only)), None) | (None, Some((_, only))) => only,
            (None, None) => 0.0,
        }
    }

    /// The same so many seconds later.
    pub(super) fn later(&self, by_s: f64) -> Self {
        Self { points: self.points.iter().map(|(t, value)| (t + by_s, *value)).collect() }
    }

    /// Its values.
    pub fn values(&self) -> impl Iterator<Item = f64> + '_ {
        self.points.iter().map(|(_, value)| *value)
    }

    /// Time of its last breakpoint.
    fn end_s(&self) -> f64 {
        self.points.last().map_or(0.0, |(t, _)| *t)
    }
}

/// Reads a level with its sign: +15dB, -6dB.
///
/// # Errors
///
/// [`Error::Unreadable`] for text of no such form.
pub fn read_gain(text: &str) -> Result<f64, Error> {
    Ok(text.parse::<Decibels>()?.0)
}

/// Reads an interval with its sign: +50ct, -3ct.
///
/// # Errors
///
/// [`Error::Unreadable`] for text of no such form.
pub fn read_cents(text: &str) -> Result<f64, Error> {
    Ok(text.parse::<Cents>()?.0)
}

/// Reads a share from 0 to 1.
///
/// # Errors
///
/// [`Error::Unreadable`] for text of no such form.
pub fn read_share(text: &str) -> Result<f64, Error> {
    text.parse().ok().filter(|share| (0.0..=1.0).contains(share)).ok_or_else(|| Error::Unreadable {
        given: text.into(),
        wanted: "a share",
        forms: "0.3, from 0 to 1",
    })
}

fn signed(text: &str) -> (f64, &str) {
    match text.strip_prefix(['-', '−']) {
        Some(bare) => (-1.0, bare),
        None => (1.0, text.strip_prefix('+').unwrap_or(text)),
    }
}

/// When of the source is heard when: straight between breakpoints, at its own speed outside them.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(transparent)]
pub struct TimeMap {
    /// Times of the source, and of what is made of it.
    points: Vec<(f64, f64)>,
}

impl TimeMap {
    /// From times of the source and of what is made of it.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] unless both rise, between a twentieth of the speed and twenty times it.
    pub fn new(points: Vec<(f64, f64)>) -> Result<Self, Error> {
        const MOST: f64 = 20.0;
        let refuse = |given: String, allowed: &str| {
            Err(Error::Setting { setting: "the time map", given, allowed: allowed.into() })
        };
        for pair in points.windows(2) {
            let [(s0, t0), (s1, t1)] = [pair[0], pair[1]];
            if s1 <= s0 || t1 <= t0 {
                let given = format!("{s1} s: {t1} s behind {s0} s: {t0} s");
                return refuse(given, "times that rise on both sides");
            }
            let slower = (t1 - t0) / (s1 - s0);
            if !(1.0 / MOST..=MOST).contains(&slower) {
                return refuse(
                    format!("{slower:.3} times as long"),
                    "a twentieth to twenty times as long",
                );
            }
        }
        match points.first() {
            Some((s, t)) if *s >= 0.0 && *t >= 0.0 => Ok(Self { points }),
            Some((s, t)) => refuse(format!("{s} s: {t} s"), "times from 0 s on"),
            None => refuse("none".into(), "'0s: 0s, 3s: 6s'"),
        }
    }

    /// When a time of the source is heard.
    #[must_use]
    pub fn heard_s(&self, source_s: f64) -> f64 {
        Self::along(&self.points, source_s, |point| point)
    }

    /// Which time of the source is heard at a time.
    #[must_use]
    pub fn source_s(&self, heard_s: f64) -> f64 {
        Self::along(&self.points, heard_s, |(source, heard)| (heard, source))
    }

    fn along(points: &[(f64, f64)], t: f64, of: fn((f64, f64)) -> (f64, f64)) -> f64 {
        let after = points.partition_point(|point| of(*point).0 <= t);
        let pair =
            after.checked_sub(1).map(|n| of(points[n])).zip(points.get(after).copied().map(of));
        if let Some(((t0, a), (t1, b))) = pair {
            return a + (b - a) * (t - t0) / (t1 - t0);
        }
        // At its own speed beyond the ends.
        let end = if after == 0 { points.first() } else { points.last() };
        end.copied().map(of).map_or(t, |(t0, a)| a + t - t0)
    }
}

impl FromStr for TimeMap {
    type Err = Error;

    /// Reads '0s: 0s, 3s: 6s', or one factor by which it lasts longer: '2'.
    fn from_str(text: &str) -> Result<Self, Error> {
        const FAR_S: f64 = 1e5;
        if let Ok(factor) = text.trim().parse::<f64>() {
            return Self::new(vec![(0.0, 0.0), (FAR_S, FAR_S * factor)]);
        }
        let course = Course::read(text, |value| Ok(value.parse::<Seconds>()?.0))?;
        Self::new(course.points)
    }
}

/// Which partials are meant.
#[derive(Debug, Clone, PartialEq)]
pub enum Which {
    /// All of them.
    All,
    /// Those of even numbers.
    Even,
    /// Those of odd numbers.
    Odd,
    /// From one number to another, both included.
    Numbers(Vec<(usize, usize)>),
    /// Those in a range of frequency.
    Range(FrequencyRange),
    /// Those above a level, in dB re the loudest.
    Above(f64),
    /// Those below it.
    Below(f64),
}

impl Which {
    /// Whether it means a partial of a number, at a frequency in Hz, so many dB below the loudest.
    #[must_use]
    pub fn means(&self, number: usize, hz: f64, level_db: f64) -> bool {
        match self {
            Self::All => true,
            Self::Even => number.is_multiple_of(2),
            Self::Odd => !number.is_multiple_of(2),
            Self::Numbers(ranges) => ranges.iter().any(|(a, b)| (*a..=*b).contains(&number)),
            Self::Range(range) => {
                let end = |end: Option<Frequency>, usual: f64| end.map_or(usual, |f| f.hz(440.0));
                (end(range.low, 0.0)..=end(range.high, f64::INFINITY)).contains(&hz)
            }
            Self::Above(db) => level_db >= *db,
            Self::Below(db) => level_db < *db,
        }
    }
}

impl Which {
    /// In words, as typed.
    #[must_use]
    pub fn words(&self) -> String {
        let range = |(from, to): &(usize, usize)| match (from == to, *to == usize::MAX) {
            (true, _) => from.to_string(),
            (_, true) => format!("{from}.."),
            _ => format!("{from}..{to}"),
        };
        match self {
            Self::All => "all".into(),
            Self::Even => "even".into(),
            Self::Odd => "odd".into(),
            Self::Numbers(ranges) => ranges.iter().map(range).collect::<Vec<_>>().join(","),
            Self::Range(range) => {
                let hz = |end: Option<Frequency>| {
                    end.map_or(String::new(), |f| format!("{}Hz", f.hz(440.0)))
                };
                format!("{}..{}", hz(range.low), hz(range.high))
            }
            Self::Above(db) => format!("above {db} dB"),
            Self::Below(db) => format!("below {db} dB"),
        }
    }
}

impl FromStr for Which {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let unreadable = || Error::Unreadable {
            given: text.into(),
            wanted: "a choice of partials",
            forms: "all, even, odd, 3, 3..5, 1,4,7, 200Hz..2kHz, above -30dB or below -30dB",
        };
        let text = text.trim();
        match text {
            "all" => return Ok(Self::All),
            "even" => return Ok(Self::Even),
            "odd" => return Ok(Self::Odd),
            _ => (),
        }
        if let Some(level) = text.strip_prefix("above ") {
            return Ok(Self::Above(read_gain(level.trim())?));
        }
        if let Some(level) = text.strip_prefix("below ") {
            return Ok(Self::Below(read_gain(level.trim())?));
        }
        let number = |text: &str| text.trim().parse::<usize>().ok().filter(|n| *n > 0);
        let range = |text: &str| match text.split_once("..") {
            Some((from, to)) => {
                let to = if to.trim().is_empty() { usize::MAX } else { number(to)? };
                Some((number(from)?, to)).filter(|(from, to)| from <= to)
            }
            None => number(text).map(|n| (n, n)),
        };
        if let Some(numbers) = text.split(',').map(range).collect::<Option<Vec<_>>>() {
            return Ok(Self::Numbers(numbers));
        }
        text.parse().map(Self::Range).map_err(|_| unreadable())
    }
}

/// By how much partials are moved.
#[derive(Debug, Clone, PartialEq)]
pub enum Shift {
    /// By an interval in cents.
    Cents(Course),
    /// By a frequency in Hz.
    Hertz(Course),
}

impl FromStr for Shift {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        if text.contains("Hz") {
            let hertz = |text: &str| {
                let (sign, bare) = signed(text);
                Ok(sign * bare.parse::<Frequency>()?.hz(440.0))
            };
            return Course::read(text, hertz).map(Self::Hertz);
        }
        Course::read(text, read_cents).map(Self::Cents)
    }
}

/// A change that has a beginning or an end is faded over this.
const FADE_S: f64 = 0.02;

/// A change of some partials.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// Which partials.
    pub which: Which,
    /// They are left out.
    pub remove: bool,
    /// They are raised by so many dB.
    pub gain_db: Option<Course>,
    /// They are moved.
    pub shift: Option<Shift>,
    /// They decay so many times as slowly.
    pub decay: Option<f64>,
    /// From when to when, in seconds of the source, with a fade over 20 ms at both ends.
    pub from_s: Option<f64>,
    /// See above.
    pub to_s: Option<f64>,
}

impl Change {
    /// One that changes nothing yet.
    #[must_use]
    pub fn of(which: Which) -> Self {
        Self {
            which,
            remove: false,
            gain_db: None,
            shift: None,
            decay: None,
            from_s: None,
            to_s: None,
        }
    }

    /// When it is faded in and out.
    pub(super) fn fades_s(&self) -> impl Iterator<Item = (f64, f64)> {
        let rise = self.from_s.map(|from| (from, from + FADE_S));
        let fall = self.to_s.map(|to| (to - FADE_S, to));
        rise.into_iter().chain(fall)
    }

    /// How much of it there is at a time, from 0 to 1.
    pub(super) fn share(&self, t: f64) -> f64 {
        let rise = |from: Option<f64>, t: f64| {
            from.map_or(1.0, |from| ((t - from) / FADE_S).clamp(0.0, 1.0))
        };
        let share = rise(self.from_s, t) * rise(self.to_s.map(|to| -to), -t);
        0.5 - 0.5 * (std::f64::consts::PI * share).cos()
    }
}

/// A partial that was not there.
#[derive(Debug, Clone, PartialEq)]
pub struct Added {
    /// Its frequency over time in Hz, from the first breakpoint to the last.
    pub frequency_hz: Course,
    /// Its level in dB re a full-scale sine.
    pub level_db: Course,
    /// When it begins and ends, in seconds of the source.
    pub from_s: f64,
    /// See above.
    pub to_s: f64,
}

/// All that is changed.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Edit {
    /// Changes of some partials, one after the other.
    pub changes: Vec<Change>,
    /// Partials that are added.
    pub added: Vec<Added>,
    /// Partial n is moved to n^s times its frequency.
    pub stretch: f64,
    /// Inharmonicity B that the partials get; 0 makes them harmonic.
    pub inharmonicity: Option<f64>,
    /// All partials are moved by so many cents.
    pub pitch_cents: Option<Course>,
    /// When what is heard.
    pub time: Option<TimeMap>,
    /// Partials that are moved take the level that the spectrum had where they come to.
    pub keep_envelope: bool,
    /// Gain of the noise in dB, and the range that it is meant for.
    pub noise: Vec<(Option<FrequencyRange>, Course)>,
}

impl Edit {
    /// Whether nothing is changed.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        *self == Self { keep_envelope: self.keep_envelope, ..Self::default() }
    }

    /// Refuses what makes no sense.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a setting out of its range.
    pub fn check(&self) -> Result<(), Error> {
        const MOST_CENTS: f64 = 4800.0;
        const MOST_DB: f64 = 80.0;
        let refuse = |setting, given: String, allowed: &str| {
            Err(Error::Setting { setting, given, allowed: allowed.into() })
        };
        if !(-0.9..=2.0).contains(&self.stretch) {
            return refuse("the stretch", self.stretch.to_string(), "-0.9 to 2");
        }
        if let Some(b) = self.inharmonicity.filter(|b| !(0.0..=0.1).contains(b)) {
            return refuse("the inharmonicity", b.to_string(), "0 to 0.1");
        }
        let pitch = self.pitch_cents.iter().flat_map(Course::values);
        let shifts = self.changes.iter().filter_map(|change| match &change.shift {
            Some(Shift::Cents(course)) => Some(course.values()),
            _ => None,
        });
        if let Some(ct) = pitch.chain(shifts.flatten()).find(|ct| ct.abs() > MOST_CENTS) {
            return refuse("the pitch", format!("{ct} ct"), "four octaves either way, 4800 ct");
        }
        let gains = self.changes.iter().filter_map(|change| change.gain_db.as_ref());
        let gains = gains.chain(self.noise.iter().map(|(_, gain)| gain)).flat_map(Course::values);
        if let Some(db) = gains.into_iter().find(|db| *db > MOST_DB) {
            return refuse("the gain", format!("{db} dB"), "80 dB at most");
        }
        let decays = self.changes.iter().filter_map(|change| change.decay);
        if let Some(by) = decays.into_iter().find(|by| !(0.05..=20.0).contains(by)) {
            return refuse("the decay", format!("{by} times as long"), "0.05 to 20 times");
        }
        for change in &self.changes {
            if let (Some(from), Some(to)) = (change.from_s, change.to_s)
                && to <= from
            {
                return refuse(
                    "the time of a change",
                    format!("{from} s to {to} s"),
                    "rising times",
                );
            }
        }
        if let Some(added) = self.added.iter().find(|added| added.to_s <= added.from_s) {
            let given = format!("{} s to {} s", added.from_s, added.to_s);
            return refuse("the time of an added partial", given, "rising times");
        }
        Ok(())
    }

    /// When a time of the source is heard.
    pub(super) fn heard_s(&self, source_s: f64) -> f64 {
        self.time.as_ref().map_or(source_s, |map| map.heard_s(source_s))
    }

    /// The last time that is added.
    pub(super) fn added_to_s(&self) -> f64 {
        self.added.iter().map(|added| added.to_s).fold(0.0, f64::max)
    }
}

impl Added {
    /// From the courses of its frequency and its level, over the time that they span.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for courses of a single value, which have no end.
    pub fn new(frequency_hz: Course, level_db: Course) -> Result<Self, Error> {
        let first = |course: &Course| course.points.first().map_or(0.0, |(t, _)| *t);
        let from_s = first(&frequency_hz).min(first(&level_db));
        let to_s = frequency_hz.end_s().max(level_db.end_s());
        if to_s <= from_s {
            return Err(Error::Setting {
                setting: "an added partial",
                given: "one value".into(),
                allowed: "breakpoints that say when it begins and ends: '0s: 440Hz, 2s: 430Hz'"
                    .into(),
            });
        }
        Ok(Self { frequency_hz, level_db, from_s, to_s })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn courses_are_straight_between_their_points_and_held_beyond() {
        let course = Course::read("1s: 0ct, 3s: +200ct", read_cents).expect("a course");
        for (t, cents) in [(0.0, 0.0), (1.5, 50.0), (2.0, 100.0), (9.0, 200.0)] {
            assert!((course.at(t) - cents).abs() < 1e-9, "{t}");
        }
        assert_eq!(Course::read("-50ct", read_cents).expect("one").at(7.0), -50.0);
        let falls = Course::read("1s: 0ct, 1s: 5ct", read_cents).expect_err("falls");
        assert!(falls.to_string().contains("times that rise"), "{falls}");
    }

    #[test]
    fn times_go_there_and_back() {
        let map: TimeMap = "0s: 0s, 1s: 3s, 2s: 3.5s".parse().expect("a map");
        for (source, heard) in [(0.5, 1.5), (1.5, 3.25), (3.0, 4.5)] {
            assert!((map.heard_s(source) - heard).abs() < 1e-9);
            assert!((map.source_s(heard) - source).abs() < 1e-9);
        }
        let twice: TimeMap = "2".parse().expect("a factor");
        assert!((twice.heard_s(1.5) - 3.0).abs() < 1e-9);
        assert!("0s: 0s, 2s: 1s, 3s: 0.5s".parse::<TimeMap>().is_err(), "backwards");
    }

    #[test]
    fn partials_are_chosen_in_words() {
        let means = |text: &str, n: usize, hz: f64, db: f64| {
            text.parse::<Which>().expect("a choice").means(n, hz, db)
        };
        assert!(means("even", 4, 800.0, 0.0) && !means("even", 3, 600.0, 0.0));
        assert!(means("3..5", 5, 1e3, 0.0) && !means("3..5", 6, 1e3, 0.0));
        assert!(means("1,4..", 90, 1e3, 0.0) && !means("1,4..", 3, 1e3, 0.0));
        assert!(means("200Hz..2kHz", 1, 500.0, 0.0) && !means("200Hz..2kHz", 1, 100.0, 0.0));
        assert!(means("below -30dB", 1, 1.0, -40.0) && !means("above -30dB", 1, 1.0, -40.0));
        assert!("evens".parse::<Which>().is_err());
    }
}
