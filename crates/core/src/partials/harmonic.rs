//! Partials followed where a fundamental says they are.

use super::reading::{FrameReader, Reading};
use super::{PERIODS, SHORTEST_FRAME_S};

/// A stretch of sound in which one note sounds: it begins with its onset.
#[derive(Clone, Copy)]
pub(super) struct Stretch<'a> {
    pub(super) sound: &'a [f32],
    pub(super) rate_hz: f64,
    /// First sample, and the one after the last.
    pub(super) from: usize,
    pub(super) to: usize,
}

impl Stretch<'_> {
    /// First sample of the frame for a time after the onset: centred on it, or, near the ends of
    /// the stretch, as near as it can be without reaching beyond them. With it, how long after the
    /// middle of the frame the time is, in seconds.
    pub(super) fn frame(&self, at_s: f64, length: usize) -> (i64, f64) {
        let centre = self.from as f64 + at_s * self.rate_hz;
        let wanted = (centre - length as f64 / 2.0).round() as i64;
        let last = (self.to as i64 - length as i64).max(self.from as i64);
        let start = wanted.clamp(self.from as i64, last);
        (start, (centre - (start as f64 + length as f64 / 2.0)) / self.rate_hz)
    }

    /// Points of a track over the whole stretch: the last lies at its end or beyond.
    pub(super) fn steps(&self, hop_s: f64) -> usize {
        (self.duration_s() / hop_s).ceil() as usize + 1
    }

    pub(super) fn duration_s(&self) -> f64 {
        (self.to - self.from) as f64 / self.rate_hz
    }
}

/// The fundamental over time, as it guides the partials: times after the onset, and Hz.
pub(super) struct Guide {
    pub(super) points: Vec<(f64, f64)>,
    /// Stiffness to begin with.
    pub(super) inharmonicity: f64,
    /// Whether it has a vibrato: then what waves in an envelope is no beating.
    pub(super) has_vibrato: bool,
}

impl Guide {
    /// Length of the frames in which its partials are read.
    pub(super) fn frame_s(&self) -> f64 {
        let lowest = self.points.iter().map(|(_, hz)| *hz).fold(f64::INFINITY, f64::min);
        (PERIODS / lowest).max(SHORTEST_FRAME_S)
    }

    pub(super) fn at(&self, seconds: f64) -> f64 {
        let after = self.points.partition_point(|(t, _)| *t < seconds);
        match (after.checked_sub(1).map(|n| self.points[n]), self.points.get(after)) {
            (Some((from, a)), Some((to, b))) => a + (b - a) * (seconds - from) / (to - from),
            (Some((_, hz)), None) => hz,
            (None, Some((_, hz))) => *hz,
            (None, None) => 0.0,
        }
    }
}

/// The place of a partial as a multiple of the fundamental.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    pub(super) number: usize,
    pub(super) ratio: f64,
}

/// Finds the partials of a note one after the other, the places of those found showing where the
/// next must be. A faint one beside others is found in longer frames alone.
pub(super) fn places(
    stretch: &Stretch,
    guide: &Guide,
    reader: &FrameReader,
    most: usize,
) -> Vec<Place> {
    const FIRST_LOOK: Way =
        Way { lengths: 1, frames: 40, reach: 0.3, agreement: 0.07, no_chance: 2.5 };
    const SECOND_LOOK: Way =
        Way { lengths: 4, frames: 20, reach: 0.12, agreement: 0.02, no_chance: 3.5 };
    /// Fainter than the strongest by this ratio of powers are the side lobes of the window.
    const WEAKEST: f64 = 2e-9;
    const MISSES: usize = 10;
    let first_look = Look::new(stretch, guide, reader, FIRST_LOOK);
    let mut second_look = None;
    let mut places: Vec<Place> = Vec::new();
    // (f/f0)² over n² against n², from what was found.
    let mut law = Law::new(guide.inharmonicity, first_look.highest_hz());
    let mut strongest = first_look.greatest_power();
    let mut missed = 0;
    for number in 1..=most {
        let ratio = law.ratio(number);
        let spacing = law.ratio(number + 1) - ratio;
        if ratio * first_look.highest_hz() > 0.49 * stretch.rate_hz || missed > MISSES {
            break;
        }
        let mut agreed = first_look.at(ratio, spacing);
        strongest = strongest.max(agreed.power);
        if !agreed.is_no_chance {
            let new = || Look::new(stretch, guide, reader, SECOND_LOOK);
            agreed = second_look.get_or_insert_with(new).at(ratio, spacing);
        }
        let at = ratio + agreed.middle * spacing;
        // No partial lies below the one before.
        let is_low = |before: &Place| at < before.ratio + FIRST_LOOK.reach * spacing;
        let is_faint = agreed.power <= WEAKEST * strongest;
        if is_faint || !agreed.is_no_chance || places.last().is_some_and(is_low) {
            missed += 1;
            continue;
        }
        missed = 0;
        law.learn(number, at, agreed.scatter * spacing);
        places.push(Place { number, ratio: at });
    }
    places
}

/// How a partial is looked for.
#[derive(Clone, Copy)]
struct Way {
    /// How many times as long frames are as those in which partials are read.
    lengths: usize,
    /// How many are looked at.
    frames: usize,
    /// How far a partial may lie from where it is thought to be, as a share of the spacing.
    reach: f64,
    /// How near to each other readings agree, as a share of the spacing.
    agreement: f64,
    /// Standard deviations of what agrees by chance that are no chance.
    no_chance: f64,
}

/// Frames over a note, more of them early on, where high partials still sound.
struct Look {
    way: Way,
    /// Each with its fundamental, and how much it shows that the one before does not.
    frames: Vec<(f64, f64, FrameReader)>,
}

impl Look {
    fn new(stretch: &Stretch, guide: &Guide, reader: &FrameReader, way: Way) -> Self {
        const EARLY_S: f64 = 2.5;
        let lasts = stretch.duration_s().min(EARLY_S);
        let length = way.lengths * reader.length();
        let reader = FrameReader::new(length, stretch.rate_hz);
        let mut frames: Vec<(f64, f64, FrameReader)> = Vec::with_capacity(way.frames);
        let mut before = None;
        for n in 0..way.frames {
            let at_s = lasts * (n as f64 / way.frames as f64).powi(2);
            let (start, after) = stretch.frame(at_s, length);
            if before == Some(start) {
                continue;
            }
            let mut own = reader.clone();
            own.take(stretch.sound, start);
            let apart = before.map_or(length as i64, |before| start - before);
            let own_share = (2.0 * apart as f64 / length as f64).min(1.0);
            frames.push((guide.at(at_s - after), own_share, own));
            before = Some(start);
        }
        Self { way, frames }
    }

    fn greatest_power(&self) -> f64 {
        self.frames.iter().map(|(.., frame)| frame.greatest_power()).sum()
    }

    fn highest_hz(&self) -> f64 {
        self.frames.iter().map(|(f0_hz, ..)| *f0_hz).fold(0.0, f64::max)
    }

    /// What its frames show near a multiple of the fundamental, partials being so far from each
    /// other there.
    fn at(&self, ratio: f64, spacing: f64) -> Agreed {
        let mut read: Vec<(f64, f64, f64)> = Vec::with_capacity(self.frames.len());
        for (f0_hz, own_share, frame) in &self.frames {
            let reach_bins = self.way.reach * spacing * f0_hz / frame.bin_hz();
            let Some(reading) = frame.near(ratio * f0_hz, reach_bins) else { continue };
            let off = (reading.frequency_hz / f0_hz - ratio) / spacing;
            read.push((off, reading.amplitude.norm(), *own_share));
        }
        Agreed::of(&mut read, self.way)
    }
}

/// What the readings of a partial in many frames agree on.
struct Agreed {
    /// Where it is, and the scatter of those that agree, as shares of the spacing.
    middle: f64,
    scatter: f64,
    power: f64,
    /// Whether more of them agree than would by chance.
    is_no_chance: bool,
}

impl Agreed {
    /// Of readings within a reach, with their amplitudes and what is their own: those near their
    /// median. A beat that fades out, a knock and what comes after the partial do not agree, and do
    /// not count.
    fn of(read: &mut [(f64, f64, f64)], way: Way) -> Self {
        read.sort_by(|a, b| a.0.total_cmp(&b.0));
        let weight = |(_, amplitude, own): &(f64, f64, f64)| amplitude * own;
        let all: f64 = read.iter().map(weight).sum();
        let squares: f64 = read.iter().map(|one| weight(one).powi(2)).sum();
        let mut sum = 0.0;
        let median = read.iter().find(|one| {
            sum += weight(one);
            sum >= 0.5 * all
        });
        let median = median.map_or(0.0, |(off, ..)| *off);
        let (mut agree, mut power, mut mean, mut square) = (0.0, 0.0, 0.0, 0.0);
        for one in read.iter().filter(|(off, ..)| (off - median).abs() <= way.agreement) {
            let (off, strength) = (one.0, one.1 * one.1);
            agree += weight(one);
            power += strength;
            mean += strength * off;
            square += strength * off * off;
        }
        let middle = mean / power;
        let scatter = (square / power - middle * middle).max(0.0).sqrt();
        let chance = way.agreement / way.reach;
        let deviation = (chance * (1.0 - chance) * squares).sqrt() / all;
        let is_no_chance = agree / all > chance + way.no_chance * deviation;
        Self { middle, scatter, power, is_no_chance }
    }
}

/// Where partials must be, learned from those that were found: the ratio of the nth is n·√(a +
/// b·n²).
struct Law {
    sums: [f64; 5],
    /// Stiffness to begin with, and its uncertainty.
    inharmonicity: f64,
    inharmonicity_u: f64,
}

impl Law {
    fn new(inharmonicity: f64, f0_hz: f64) -> Self {
        /// In the middle of the compass; the shorter a string, the stiffer: on a piano by a factor
        /// of about 2.6 an octave.
        const B_U: f64 = 3e-4;
        const MIDDLE_HZ: f64 = 262.0;
        const GROWTH: f64 = 1.4;
        let inharmonicity_u = B_U * (f0_hz / MIDDLE_HZ).max(1.0).powf(GROWTH);
        Self { sums: [0.0; 5], inharmonicity, inharmonicity_u }
    }

    fn learn(&mut self, number: usize, ratio: f64, scatter: f64) {
        let n = number as f64;
        let y = (ratio / n).powi(2);
        let u = 2.0 * y * (scatter / ratio).hypot(5e-4);
        let weight = 1.0 / (u * u);
        for (sum, x) in self.sums.iter_mut().zip([1.0, n * n, n.powi(4), y, y * n * n]) {
            *sum += weight * x;
        }
    }

    fn ratio(&self, number: usize) -> f64 {
        /// Uncertainty of the place of the first partial.
        const PLACE_U: f64 = 3e-3;
        /// The partials of no instrument lie closer and closer: of some, singly, coupling makes it
        /// seem so.
        const LEAST_SLOPE: f64 = -1e-4;
        let [w, x, xx, y, xy] = self.sums;
        let of_b = self.inharmonicity_u.powi(-2);
        let of_place = 1.0 / (PLACE_U * PLACE_U);
        let (w, y) = (w + of_place, y + of_place * (1.0 - self.inharmonicity));
        let (xx, xy) = (xx + of_b, xy + of_b * self.inharmonicity);
        let determinant = w * xx - x * x;
        let slope = ((w * xy - x * y) / determinant).max(LEAST_SLOPE);
        let base = (y - slope * x) / w;
        let n = number as f64;
        n * (base + slope * n * n).max(0.01).sqrt()
    }
}

/// What was read of a partial at each step; `None` where nothing stands there.
pub(super) struct Followed {
    pub(super) place: Place,
    /// Readings with how long after the middle of their frames they are given, in seconds.
    pub(super) readings: Vec<Option<(Reading, f64)>>,
}

/// Reads each partial at each step of a stretch.
pub(super) fn follow(
    stretch: &Stretch,
    guide: &Guide,
    places: &[Place],
    reader: &mut FrameReader,
    hop_s: f64,
) -> Vec<Followed> {
    /// How far a partial may lie from its place in a frame, in bins.
    const REACH_BINS: f64 = 1.3;
    let steps = stretch.steps(hop_s);
    let mut followed: Vec<Followed> = places
        .iter()
        .map(|place| Followed { place: *place, readings: Vec::with_capacity(steps) })
        .collect();
    let mut held = None;
    for n in 0..steps {
        let at_s = n as f64 * hop_s;
        let (start, after) = stretch.frame(at_s, reader.length());
        if held == Some(start) {
            for partial in &mut followed {
                let before = partial.readings.last().copied().flatten();
                partial.readings.push(before.map(|(reading, _)| (reading, after)));
            }
            continue;
        }
        reader.take(stretch.sound, start);
        held = Some(start);
        let f0_hz = guide.at(at_s - after);
        for partial in &mut followed {
            let reading = reader.near(partial.place.ratio * f0_hz, REACH_BINS);
            partial.readings.push(reading.map(|reading| (reading, after)));
        }
    }
    followed
}
