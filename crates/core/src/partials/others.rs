//! Lasting tones off the series of a note: phantom partials, longitudinal modes, hum.

use serde::Serialize;

use super::harmonic::Stretch;
use super::{Partial, PartialTrack, Partials, PartialsSettings, RESOLUTION_BINS, of_stretch};
use crate::error::Error;
use crate::fit::median;
use crate::measured::Measured;
use crate::quantity::{Field, Unit, pair};
use crate::stiffness::stiff_ratio;

/// Tones that last are no knock, in seconds.
const LASTING_S: f64 = 0.1;
/// What lies lower is rumble, in Hz.
const LOWEST_HZ: f64 = 20.0;
/// What is hardly known to this share of the resolution is noise, and what is nearer than so much to
/// another is the same tone, heard again.
const KNOWN: f64 = 0.1;
const SAME: f64 = 0.2;

/// A tone that lies at no partial of the series. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct OtherTone {
    /// Its number in the order of frequency.
    pub number: usize,
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Its uncertainty.
    pub frequency_hz_u: f64,
    /// Level of its amplitude in dB, at the time [`Partials::level_at_s`].
    pub level_db: f64,
    /// The number of the partial that lies nearest, of those that are resolved from it.
    pub nearest_partial: usize,
    /// Distance from it in Hz.
    pub hz_from_partial: f64,
    /// Two partials whose frequencies add up to its own, where that is hardly by chance: a phantom
    /// partial (H. A. Conklin, J. Acoust. Soc. Am. 105, 1999). Twice the same is an even one.
    pub sum_of: Option<[usize; 2]>,
    /// Distance from their sum in Hz.
    pub hz_from_sum: Option<f64>,
    /// Its uncertainty.
    pub hz_from_sum_u: Option<f64>,
    /// Time to fall by 60 dB in seconds; `None` if it does not fall enough to be known.
    pub decay_t60_s: Option<f64>,
    /// Its uncertainty.
    pub decay_t60_s_u: Option<f64>,
    /// When it is heard, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
}

impl OtherTone {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 7] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 4, |tone| {
            Some(Measured::new(tone.frequency_hz, tone.frequency_hz_u))
        }),
        Field::plain("level_db", "level", Unit::Level, 2, |tone| Some(tone.level_db)),
        Field::plain("hz_from_partial", "distance from the partial", Unit::Hertz, 2, |tone| {
            Some(tone.hz_from_partial)
        }),
        Field::measured("hz_from_sum", "distance from the sum", Unit::Hertz, 3, |tone| {
            pair(tone.hz_from_sum, tone.hz_from_sum_u)
        }),
        Field::measured("decay_t60_s", "decay", Unit::Second, 3, |tone| {
            pair(tone.decay_t60_s, tone.decay_t60_s_u)
        }),
        Field::plain("start_s", "start", Unit::Second, 2, |tone| Some(tone.start_s)),
        Field::plain("end_s", "end", Unit::Second, 2, |tone| Some(tone.end_s)),
    ];

    /// Finds the tones of a note beside its partials, which were found: all lasting tones of frames that
    /// resolve so many Hz, but those that lie where a partial is or must be.
    ///
    /// # Errors
    ///
    /// [`Error::TooShort`] for a note that holds no frame.
    pub(super) fn beside(
        found: &Partials,
        stretch: Stretch,
        start_s: f64,
        settings: &PartialsSettings,
        resolve_hz: f64,
    ) -> Result<Vec<Self>, Error> {
        let free = PartialsSettings {
            free: true,
            resolve_hz,
            hop_s: None,
            most: settings.most + found.partials.len(),
            range_hz: (settings.range_hz.0.max(LOWEST_HZ), settings.range_hz.1),
            shortest_s: settings.shortest_s.max(LASTING_S),
            ..*settings
        };
        let all = of_stretch(stretch, start_s, &free, None, Some(found.level_at_s))?;
        let series = Series::of(found, &all.partials, resolve_hz);
        let is_known = |tone: &&Partial| tone.frequency_hz_u < KNOWN * resolve_hz;
        let tones = all.partials.iter().filter(is_known).filter_map(|tone| series.other(tone));
        let mut others: Vec<Self> = Vec::new();
        for tone in tones {
            match others.last_mut().filter(|last| last.is_near(&tone, SAME * resolve_hz)) {
                Some(last) => last.join(tone),
                None => others.push(Self { number: others.len() + 1, ..tone }),
            }
        }
        Ok(others)
    }

    fn is_near(&self, other: &Self, reach_hz: f64) -> bool {
        (self.frequency_hz - other.frequency_hz).abs() < reach_hz
    }

    /// Goes on with the same tone after a silence: what is said is of the louder.
    fn join(&mut self, again: Self) {
        let (start_s, end_s) = (self.start_s.min(again.start_s), self.end_s.max(again.end_s));
        let louder = if again.level_db > self.level_db { again } else { self.clone() };
        *self = Self { number: self.number, start_s, end_s, ..louder };
    }
}

/// The resolution in Hz at which the tones of a stretch are looked for: the one that is wanted, or
/// that of frames of a third of it.
pub(super) fn resolution_hz(stretch: &Stretch, wanted_hz: f64) -> f64 {
    wanted_hz.max(3.0 * RESOLUTION_BINS / stretch.duration_s())
}

/// The partials of a note, beside which others lie.
struct Series<'a> {
    partials: &'a [Partial],
    /// Where a partial is and what is not resolved from it, from and to, and whether it is sure to be
    /// one.
    taken_hz: Vec<(f64, f64, bool)>,
    /// The first partial in Hz and B, by which those lie that were not found.
    law: Option<(f64, f64)>,
    resolve_hz: f64,
}

impl<'a> Series<'a> {
    /// The series of what was found; one that lies off the law while a tone is where it must be was
    /// taken for a partial by mistake.
    fn of(found: &'a Partials, tones: &[Partial], resolve_hz: f64) -> Self {
        /// A vibrato reaches 1.4 standard deviations to either side.
        const DEVIATIONS: f64 = 2.0;
        // All move together; one alone is moved by what lies beside it.
        let all = found.partials.iter().map(|partial| deviation(&found.tracks, partial));
        let deviation = median(all).unwrap_or(0.0);
        let inharmonicity = found.inharmonicity.map_or(0.0, |b| b.value);
        let law = found.f0_hz.map(|f0| (f0.value, inharmonicity));
        let is_mistaken = |partial: &&Partial| {
            let place_hz = law.map(|(f0_hz, b)| f0_hz * stiff_ratio(partial.number, b));
            let is_there = |tone: &Partial| {
                place_hz.is_some_and(|hz| (tone.frequency_hz - hz).abs() < resolve_hz)
            };
            !partial.on_law && tones.iter().any(is_there)
        };
        let taken = |partial: &Partial| {
            let reach_hz = DEVIATIONS * deviation * partial.frequency_hz + resolve_hz;
            (partial.frequency_hz - reach_hz, partial.frequency_hz + reach_hz, partial.on_law)
        };
        let sure = found.partials.iter().filter(|partial| !is_mistaken(partial));
        let taken_hz = sure.map(taken).collect();
        Self { partials: &found.partials, taken_hz, law, resolve_hz }
    }

    /// Whether a partial must be at a frequency.
    fn must_be_at(&self, frequency_hz: f64) -> bool {
        /// Partials lie no closer than this share of the fundamental.
        const CLOSEST: f64 = 0.5;
        self.law.is_some_and(|(f0_hz, inharmonicity)| {
            let last = (frequency_hz / (CLOSEST * f0_hz)) as usize + 1;
            (1..=last)
                .map(|number| f0_hz * stiff_ratio(number, inharmonicity))
                .any(|hz| (hz - frequency_hz).abs() < self.resolve_hz)
        })
    }

    /// A tone as one off the series; `None` where it is a partial. What lies off the law and is the
    /// sum of two others is none.
    fn other(&self, tone: &Partial) -> Option<OtherTone> {
        let sum = self.sum(tone);
        let is_partial = self.taken_hz.iter().any(|(low, high, is_sure)| {
            (*low..=*high).contains(&tone.frequency_hz) && (*is_sure || sum.is_none())
        });
        if is_partial || self.must_be_at(tone.frequency_hz) {
            return None;
        }
        let off_hz = |partial: &&Partial| tone.frequency_hz - partial.frequency_hz;
        // One that is not resolved from it is itself, taken for a partial.
        let resolved = self.partials.iter().filter(|p| off_hz(p).abs() >= self.resolve_hz);
        let nearest = resolved.min_by(|a, b| off_hz(a).abs().total_cmp(&off_hz(b).abs()))?;
        Some(OtherTone {
            number: 0,
            frequency_hz: tone.frequency_hz,
            frequency_hz_u: tone.frequency_hz_u,
            level_db: tone.level_db,
            nearest_partial: nearest.number,
            hz_from_partial: off_hz(&nearest),
            sum_of: sum.map(|(numbers, _)| numbers),
            hz_from_sum: sum.map(|(_, off)| off.value),
            hz_from_sum_u: sum.map(|(_, off)| off.u),
            decay_t60_s: tone.decay_t60_s,
            decay_t60_s_u: tone.decay_t60_s_u,
            start_s: tone.start_s,
            end_s: tone.end_s,
        })
    }

    /// The two partials that add up to a tone, with its distance from their sum: of all sums near it
    /// the one of which the fewest as strong would lie as near by chance. `None` where some would.
    fn sum(&self, tone: &Partial) -> Option<([usize; 2], Measured)> {
        const BY_CHANCE: f64 = 0.1;
        /// Strings glide, and partials are known from other parts of a note: a share of the
        /// resolution.
        const GLIDE: f64 = 0.1;
        /// Sums are counted over so many times the spacing of the partials, to either side.
        const AROUND: f64 = 2.0;
        let (f0_hz, _) = self.law?;
        let around_hz = AROUND * f0_hz;
        // Of the sums around the tone: level, numbers, and the tone's distance.
        let mut around: Vec<(f64, [usize; 2], Measured)> = Vec::new();
        for (n, low) in self.partials.iter().enumerate() {
            for high in &self.partials[n..] {
                let off_hz = tone.frequency_hz - low.frequency_hz - high.frequency_hz;
                if off_hz.abs() > around_hz {
                    continue;
                }
                let u_hz = if low.number == high.number {
                    2.0 * low.frequency_hz_u
                } else {
                    low.frequency_hz_u.hypot(high.frequency_hz_u)
                };
                let off = Measured::new(off_hz, u_hz.hypot(tone.frequency_hz_u));
                around.push((low.level_db + high.level_db, [low.number, high.number], off));
            }
        }
        around.sort_by(|a, b| b.0.total_cmp(&a.0));
        // Each of the sums, the second strongest half as near, and so on, is as good: 1 + 1/2 + …
        let looks = 1.0 + (around.len().max(1) as f64).ln();
        let by_chance = |strongest: usize, off: &Measured| {
            (strongest + 1) as f64 * off.value.hypot(off.u) / around_hz * looks
        };
        let near = around.iter().enumerate().filter(|(_, (.., off))| {
            off.value.abs() < (GLIDE * self.resolve_hz).hypot(3.0 * off.u)
        });
        let (chance, numbers, off) = near
            .map(|(strongest, (_, numbers, off))| (by_chance(strongest, off), *numbers, *off))
            .min_by(|a, b| a.0.total_cmp(&b.0))?;
        (chance < BY_CHANCE).then_some((numbers, off))
    }
}

/// Standard deviation of the frequency of a partial over time as a share of it, each point counting
/// by its power.
fn deviation(tracks: &[PartialTrack], partial: &Partial) -> f64 {
    let of_it = tracks.iter().filter(|track| track.number == partial.number);
    let (mut powers, mut squares) = (0.0, 0.0);
    for point in of_it.flat_map(|track| &track.points) {
        let power = point.amplitude * point.amplitude;
        powers += power;
        squares += power * (point.frequency_hz - partial.frequency_hz).powi(2);
    }
    (squares / powers.max(f64::MIN_POSITIVE)).sqrt() / partial.frequency_hz
}
