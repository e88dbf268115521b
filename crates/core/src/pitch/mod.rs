//! The fundamental over time, with what speaks for it and against it.
//!
//! # What it computes
//!
//! **Levels.** The sound is halved in rate again and again by a half-band filter. Each level has
//! frames of the same number of samples, so of twice the length of the level above: a frame holds
//! at least 4.2 periods of the lowest fundamental that is read from it, 5.5 but at the lowest
//! level, and not much more, since a note that moves is blurred by a long frame.
//!
//! **Tones.** Under a Blackman window, the local maxima of the power that stand out of the noise
//! floor (the lower quarter of the bins around, over what that is in noise) by a ratio S ≥ 5 are
//! tones. Their frequency is that of the phase, f̂ = f − Im(X_d/X)·f_s/2π with X_d under the
//! derivative of the window, which is exact for a steady tone. Noise reaches S with the probability
//! e^−S, and in one of many places far more often; S − 3, at most 30, is what speaks for the tone
//! in nats, less for one that is far weaker than the strongest.
//!
//! **Series.** Each of the strongest tones, taken as the nth of a series for n up to 8, proposes
//! one. It is followed upwards, f_n = n·F·√(1 + B·n²) (H. Fletcher, J. Acoust. Soc. Am. 36, 1964),
//! F and B being fitted on the way by weighted least squares. What speaks for its tones is added; a
//! harmonic that is missing between others takes away a quarter of their mean, one below the lowest
//! an eighth, and a tone that the series leaves out half of what speaks for it. F/2 accounts for
//! all tones that F does and misses every other harmonic; 2F leaves out every other tone; both lose
//! to F, whichever tone is the strongest and whether or not the first is there.
//!
//! **Periodicity.** The correlation of the frame with itself one period later, r, must agree: the
//! evidence is taken in full from r = 0.4 and not at all below 0.1.
//!
//! **Path.** Of the candidates of all levels the best five are kept; the path through them of least
//! cost (R. Bellman's dynamic programming) weighs their evidence against moving, leaping, and
//! beginning and ending. A frame without a fundamental is said to have none.
//!
//! A leap and a beginning where nothing is new (`onsets`) are dear: a note that goes on
//! keeps its fundamental.
//!
//! **Notes.** The track is cut at onsets and slurs; what follows without is the same note.
//!
//! **Frequency.** The F and B of the chosen series give the first partial F·√(1 + B), with the
//! uncertainty that the noise and the misfit of its tones leave.

mod candidates;
mod correlation;
mod course;
mod evidence;
mod levels;
mod noise_floor;
mod notes;
mod path;
mod series_fit;

pub use candidates::Candidate;
pub use evidence::{Evidence, evidence};
pub use notes::{PitchNote, Rival, VibratoFigures};

use std::collections::VecDeque;

use candidates::FrameReader;
use course::PowerCourse;
use levels::Levels;
use path::{PathFinder, Settled};
use serde::Serialize;

use crate::error::Error;
use crate::finding::{Advice, Finding};
use crate::quantity::{Field, Key, Quantities, Quantity, Unit};
use crate::units::{Extent, cents_between};

/// How the fundamental is looked for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PitchSettings {
    /// Lowest and highest fundamental in Hz.
    pub range_hz: (f64, f64),
    /// Distance between frames.
    pub hop: Extent,
    /// The fundamental that is expected, in Hz: readings near it are preferred where two are nearly
    /// even.
    pub expected_hz: Option<f64>,
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
}

/// Fundamentals that are looked for unless a range is set, in Hz.
pub const DEFAULT_RANGE_HZ: (f64, f64) = (25.0, 5000.0);

impl Default for PitchSettings {
    fn default() -> Self {
        Self {
            range_hz: DEFAULT_RANGE_HZ,
            hop: Extent::Seconds(0.01),
            expected_hz: None,
            reference_hz: 440.0,
        }
    }
}

impl PitchSettings {
    fn check(&self, sample_rate_hz: f64) -> Result<(), Error> {
        const LOWEST_HZ: f64 = 5.0;
        let (low, high) = self.range_hz;
        if !(low >= LOWEST_HZ && low < high && low < 0.2 * sample_rate_hz) {
            return Err(Error::Setting {
                setting: "the range of fundamentals",
                given: format!("{low} Hz to {high} Hz"),
                allowed: format!(
                    "rising, from {LOWEST_HZ} Hz on, and begin below a fifth of the sample rate"
                ),
            });
        }
        let hop = self.hop.samples(sample_rate_hz);
        let hop_s = hop as f64 / sample_rate_hz;
        if !(0.0005..=1.0).contains(&hop_s) {
            return Err(Error::Setting {
                setting: "the hop",
                given: format!("{hop_s} s"),
                allowed: "0.5 ms to 1 s".into(),
            });
        }
        Ok(())
    }
}

/// The fundamental at one time.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct PitchPoint {
    /// Time in seconds from the start of the take.
    pub time_s: f64,
    /// The fundamental in Hz; `None` where there is none.
    pub f0_hz: Option<f64>,
    /// Its standard uncertainty in Hz.
    pub f0_hz_u: Option<f64>,
    /// How surely this and no other reading, nor none, is right, from 0 to 1.
    pub confidence: f64,
    /// Whether there is a fundamental.
    pub voiced: bool,
    /// What it rests on.
    #[serde(skip)]
    basis: Option<Basis>,
    /// The next best readings and their confidences, the best first; of frequency 0 where there are
    /// fewer.
    #[serde(skip)]
    rivals: [(f32, f32); 2],
}

/// What is kept of the reading of a frame, small since every frame of an hour has one.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Basis {
    frame_s: f32,
    power: f32,
    inharmonicity: f32,
    stretch: f32,
    explained: f32,
    tones_explained: f32,
    strongest: u8,
    has_first: bool,
}

impl Basis {
    fn of(reading: &Candidate) -> Self {
        Self {
            frame_s: reading.frame_s as f32,
            power: reading.power as f32,
            inharmonicity: reading.inharmonicity as f32,
            stretch: reading.stretch as f32,
            explained: reading.explained as f32,
            tones_explained: reading.tones_explained as f32,
            strongest: reading.strongest as u8,
            has_first: reading.harmonics & 1 == 1,
        }
    }
}

impl PitchPoint {
    /// What is said of a frame beside this one, which is too little of its own to read.
    fn held(&self) -> Self {
        Self { f0_hz_u: self.f0_hz_u.map(|u| 3.0 * u), confidence: 0.5 * self.confidence, ..*self }
    }

    /// The same tones as a series of so many times the fundamental.
    fn times(&self, by: f64) -> Self {
        Self { f0_hz: self.f0_hz.map(|hz| by * hz), f0_hz_u: self.f0_hz_u.map(|u| by * u), ..*self }
    }

    fn make_unvoiced(&mut self) {
        (self.f0_hz, self.f0_hz_u, self.basis, self.voiced) = (None, None, None, false);
    }
}

/// Time over which the level of a sound is taken to see it swell, in seconds.
const LEVEL_S: f64 = 0.1;
/// Something new is found so long after it has begun, and frames hear it so long before, in seconds.
const WAITING_S: f64 = 0.18;

/// What was found.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Pitch {
    /// Distance between frames in seconds.
    pub hop_s: f64,
    /// Its notes.
    pub notes: Vec<PitchNote>,
    /// The fundamental frame by frame.
    pub track: Vec<PitchPoint>,
}

impl Quantities for Pitch {
    fn quantities(&self) -> Vec<Quantity> {
        const RIVAL: [Field<Rival>; 2] = [
            Field::plain("f0_hz", "fundamental", Unit::Hertz, 1, |rival| Some(rival.f0_hz)),
            Field::plain("confidence", "confidence", Unit::One, 3, |rival| Some(rival.confidence)),
        ];
        let mut all = Vec::new();
        for (n, note) in (1..).zip(&self.notes) {
            let (key, name) = (Key::item("notes", n), format!("note {n}"));
            all.extend(Quantity::of_item(&key, &name, &PitchNote::FIELDS, note));
            for (k, rival) in (1..).zip(&note.rivals) {
                let (key, name) =
                    (key.clone().then_item("rivals", k), format!("{name}, alternative {k}"));
                all.extend(Quantity::of_item(&key, &name, &RIVAL, rival));
            }
        }
        all
    }
}

/// Follows the fundamental of a stream of samples.
pub struct PitchTracker {
    settings: PitchSettings,
    hop_s: f64,
    start_s: f64,
    levels: Levels,
    reader: FrameReader,
    /// Readings of frames near which something new may still be found.
    waiting: VecDeque<Vec<Candidate>>,
    path: PathFinder,
    settled: Vec<Settled>,
    track: Vec<PitchPoint>,
    /// Frames that were read.
    frames: u64,
    samples: u64,
    sample_rate_hz: f64,
    course: PowerCourse,
}

impl PitchTracker {
    /// Prepares for a stream whose first sample lies `start_s` seconds into its take.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a range or a hop that makes no sense.
    pub fn new(settings: PitchSettings, sample_rate_hz: f64, start_s: f64) -> Result<Self, Error> {
        settings.check(sample_rate_hz)?;
        let hop_s = settings.hop.samples(sample_rate_hz) as f64 / sample_rate_hz;
        let levels = Levels::new(sample_rate_hz, settings.range_hz);
        Ok(Self {
            reader: FrameReader::new(levels.frame),
            settings,
            hop_s,
            start_s,
            levels,
            waiting: VecDeque::new(),
            path: PathFinder::new(hop_s),
            settled: Vec::new(),
            track: Vec::new(),
            frames: 0,
            samples: 0,
            sample_rate_hz,
            course: PowerCourse::new(sample_rate_hz),
        })
    }

    /// Takes the next samples.
    pub fn push(&mut self, samples: &[f32]) {
        const BLOCK: usize = 4096;
        for block in samples.chunks(BLOCK) {
            self.samples += block.len() as u64;
            self.levels.push(block);
            self.course.push(block);
            self.read_frames();
        }
    }

    fn read_frames(&mut self) {
        let duration_s = self.samples as f64 / self.sample_rate_hz;
        loop {
            let time_s = self.frames as f64 * self.hop_s;
            if time_s >= duration_s || !self.levels.holds(time_s, self.hop_s) {
                self.levels.let_go(time_s);
                return;
            }
            let mut candidates = self.reader.read_next(&self.levels, self.frames, self.hop_s);
            if let Some(expected_hz) = self.settings.expected_hz {
                prefer(&mut candidates, expected_hz);
            }
            self.waiting.push_back(candidates);
            self.frames += 1;
            let heard = (WAITING_S / self.hop_s).ceil() as usize;
            self.join(heard);
        }
    }

    /// Leads the path through all waiting frames but so many.
    fn join(&mut self, but: usize) {
        while self.waiting.len() > but {
            let Some(candidates) = self.waiting.pop_front() else { return };
            let number = self.frames - 1 - self.waiting.len() as u64;
            let is_new = self.course.is_new(number as f64 * self.hop_s);
            self.path.push(candidates, is_new, &mut self.settled);
        }
        self.take_settled();
    }

    fn take_settled(&mut self) {
        for settled in self.settled.drain(..) {
            let time_s = self.start_s + self.track.len() as f64 * self.hop_s;
            self.track.push(point(time_s, &settled));
        }
    }

    /// Finishes the track and finds its notes.
    #[must_use]
    pub fn finish(mut self) -> Pitch {
        self.levels.end();
        self.read_frames();
        self.join(0);
        self.path.finish(&mut self.settled);
        self.take_settled();
        self.course.trim(&mut self.track, self.start_s, self.hop_s);
        let mut onsets = self.course.onsets();
        for onset in &mut onsets {
            onset.time_s += self.start_s;
        }
        let level = |time_s: f64| self.course.around(time_s - self.start_s, LEVEL_S);
        let runs = notes::runs(&self.track, &onsets, self.hop_s);
        let notes = notes::notes(
            &mut self.track,
            runs,
            &onsets,
            level,
            (self.hop_s, self.settings.reference_hz),
        );
        Pitch { hop_s: self.hop_s, track: self.track, notes }
    }
}

impl Pitch {
    /// What must be known beside the result.
    #[must_use]
    pub fn findings(&self) -> Vec<Finding> {
        const NEARLY_EVEN: f64 = 0.3;
        /// Of the power and of the tones: breath and bow leave tones of their own, which are weak.
        const OFF_SERIES: (f64, f64) = (0.7, 0.54);
        const NO_STRING: f64 = 2.5e-3;
        let mut findings = Vec::new();
        if self.notes.is_empty() {
            findings.push(Finding::warning(
                "no_fundamental",
                "No fundamental was found in this span: it is silent, noise, or outside the range \
                 searched. Widen the range, or \
                     look at the spectrum.",
            ));
        }
        let lasting = |note: &&PitchNote| note.end_s - note.start_s > 0.1;
        let even = self.notes.iter().filter(lasting).filter(|note| {
            note.rivals
                .first()
                .is_some_and(|rival| rival.confidence > NEARLY_EVEN * note.confidence)
        });
        if let Some((count, note)) = count_and_first(even) {
            let rival = note.rivals[0];
            findings.push(
                Finding::warning(
                    "nearly_even",
                    format!(
                        "{count}: from {:.2} s, {:.2} Hz has a confidence of {:.0} %, but {:.2} Hz \
                     has {:.0} %.",
                        note.start_s,
                        note.f0_hz,
                        100.0 * note.confidence,
                        rival.f0_hz,
                        100.0 * rival.confidence
                    ),
                )
                .advising(Advice::Evidence),
            );
        }
        let implied = self.notes.iter().filter(lasting).filter(|note| !note.fundamental_present);
        if let Some((count, note)) = count_and_first(implied) {
            let others: Vec<String> = (note.rivals.iter().filter(|r| r.confidence >= 0.005))
                .map(|r| format!("{:.2} Hz ({:.0} %)", r.f0_hz, 100.0 * r.confidence))
                .collect();
            let others = match others.join(", ") {
                none if none.is_empty() => String::new(),
                others => format!(" Other readings: {others}."),
            };
            findings.push(Finding::note(
                "implied_fundamental",
                format!(
                    "{count}: from {:.2} s, there is no partial at {:.2} Hz itself: the \
                     fundamental is implied by its harmonics, of \
                     which number {} is the strongest.{others}",
                    note.start_s, note.f0_hz, note.strongest_harmonic
                ),
            ));
        }
        let off = self.notes.iter().filter(lasting).filter(|note| {
            note.explained < OFF_SERIES.0
                || note.tones_explained < OFF_SERIES.1
                || note.stretch > NO_STRING
        });
        if let Some((count, note)) = count_and_first(off) {
            let stretched = match note.stretch {
                stretch if stretch > NO_STRING => {
                    format!(", and only if stretched more than a string's, by B = {stretch:.4}")
                }
                _ => String::new(),
            };
            findings.push(Finding::warning(
                "off_series",
                format!(
                    "{count}: from {:.2} s, {:.0} % of the power and {:.0} % of the tones lie on \
                     the series of {:.2} Hz{stretched}. Several notes sound at once, or one that is \
                     not harmonic, such as a bell or a bar: one fundamental does not describe it; \
                     see the tones in the spectrum.",
                    note.start_s,
                    100.0 * note.explained,
                    100.0 * note.tones_explained,
                    note.f0_hz,
                ),
            ));
        }
        findings
    }
}

/// How many notes in words, and the first of them.
fn count_and_first<'a>(
    mut notes: impl Iterator<Item = &'a PitchNote>,
) -> Option<(String, &'a PitchNote)> {
    let first = notes.next()?;
    let count = 1 + notes.count();
    Some((if count == 1 { "One note".into() } else { format!("{count} notes") }, first))
}

/// Follows the fundamental of samples that are all at hand.
///
/// # Errors
///
/// As [`PitchTracker::new`].
pub fn pitch(
    samples: &[f32],
    sample_rate_hz: f64,
    settings: &PitchSettings,
) -> Result<Pitch, Error> {
    let mut tracker = PitchTracker::new(*settings, sample_rate_hz, 0.0)?;
    tracker.push(samples);
    Ok(tracker.finish())
}

/// Adds to what speaks for readings within a semitone of what is expected.
fn prefer(candidates: &mut [Candidate], expected_hz: f64) {
    const BONUS: f64 = 10.0;
    for candidate in &mut *candidates {
        if cents_between(expected_hz, candidate.f0_hz).abs() < 100.0 {
            candidate.evidence += BONUS;
        }
    }
    candidates.sort_by(|a, b| b.evidence.total_cmp(&a.evidence));
}

/// A settled frame as a point of the track.
fn point(time_s: f64, settled: &Settled) -> PitchPoint {
    // Evidence is added up from tones that are not independent of each other: it is believed in
    // part.
    const NATS: f64 = 8.0;
    let share = |evidence: f64| (evidence / NATS).min(80.0).exp();
    let all: f64 = settled.candidates.iter().map(|c| share(c.evidence)).sum();
    let none = share(20.0);
    let reading = settled.chosen.map(|n| settled.candidates[n]);
    let others = (0..settled.candidates.len()).filter(|n| Some(*n) != settled.chosen);
    let mut rivals = [(0.0, 0.0); 2];
    for (rival, n) in rivals.iter_mut().zip(others) {
        let other = &settled.candidates[n];
        *rival = (other.f0_hz as f32, (share(other.evidence) / (all + none)) as f32);
    }
    PitchPoint {
        time_s,
        f0_hz: reading.map(|r| r.f0_hz),
        f0_hz_u: reading.map(|r| r.f0_hz_u),
        confidence: reading.map_or(none, |r| share(r.evidence)) / (all + none),
        voiced: reading.is_some(),
        basis: reading.as_ref().map(Basis::of),
        rivals,
    }
}
