//! Timbre: where the power of a note lies, how it begins, what it is made of, and how noisy it is.
//!
//! # What it computes
//!
//! **Lines and noise.** With a fundamental, the spectrum at an instant is taken as lines, the
//! partials as they were followed ([`crate::partials`]), and noise, the power between them, evenly
//! from each to the next. Nothing is smeared by a window: the centroid of a harmonic tone is that
//! of its harmonics. Without a fundamental it is the power spectrum of a frame (Hann).
//!
//! With powers P at frequencies f, over 20 Hz to 20 kHz, and amplitudes a of the harmonics:
//!
//! | descriptor | equation | source |
//! |---|---|---|
//! | centroid μ | Σ f·P / Σ P | Peeters 2011 |
//! | spread σ, skewness, kurtosis | √(Σ (f − μ)²·P / Σ P); Σ (f − μ)³·P / σ³ΣP; the same with 4 | Peeters 2011 |
//! | slope | least squares of the levels of the partials in dB over octaves; without a fundamental of third-octave densities | – |
//! | roll-off | the frequency below which 85 or 95 % of the power lie | Peeters 2011 |
//! | flatness | e^γ·exp(mean ln P) / mean P over the bins of a frame, at most 1; γ is Euler's constant | Gray and Markel 1974; Davis and Jones 1968 |
//! | crest | max P / mean P over the bins | Peeters 2011 |
//! | flux | 1 − Σ \|X\|·\|X'\| / √(Σ\|X\|²·Σ\|X'\|²), X' the frame before that does not overlap | Peeters 2011 |
//! | odd over even | 10 lg(Σ a² of odd n / Σ a² of even n) | Peeters 2011 |
//! | tristimulus | a₁, a₂ + a₃ + a₄ and the rest, over Σ a | Pollard and Jansson 1982 |
//! | irregularity | Σ (a_n − a_{n+1})² / Σ a_n², a_{N+1} = 0 | Jensen 1999 |
//! | harmonics over noise | 10 lg(power of the harmonics / power of the noise, 0 Hz to half the sample rate) | Yumoto et al. 1982 |
//!
//! **Flatness** of noise: the logarithm of the power in a bin of noise has a mean γ below that of
//! its mean; the factor e^γ makes white noise read 1 and not 0.56.
//!
//! **Harmonics and noise.** See the module `noise`: frames of sixteen periods, the fundamental held
//! still; under each harmonic there is as much noise as beside it.
//!
//! **Rise.** The RMS over one period crosses 10 to 90 % of the top when a ramp does that is
//! averaged alike: its whole duration is given, and which of two shapes it has.
//!
//! **Summaries** are medians over time in which each instant weighs as much as it has power: over
//! the whole note, its rise, and its sustained part, from the end of the rise to where the level is
//! last within 12 dB of its own median.
//!
//! Sources: G. Peeters et al., J. Acoust. Soc. Am. 130, 2902 (2011); A. H. Gray and J. D. Markel,
//! IEEE Trans. ASSP 22 (1974); H. T. Davis and R. H. Jones, J. Am. Stat. Assoc. 63 (1968); H. F.
//! Pollard and E. V. Jansson, Acustica 51 (1982); K. Jensen, thesis, University of Copenhagen
//! (1999); E. Yumoto, W. J. Gould and T. Baer, J. Acoust. Soc. Am. 71 (1982).

mod content;
mod descriptors;
mod noise;
mod rise;
mod shape;

pub use content::{EnvelopeRegion, Harmonic, HarmonicContent, NoiseBand};
pub(crate) use descriptors::scatter_of_mean;
pub use descriptors::{
    DESCRIPTOR_COUNT, DESCRIPTORS, Descriptor, Descriptors, RegionSummary, Regions, TimbrePoint,
};
pub use rise::{Rise, RiseShape};

use std::collections::BTreeMap;

use serde::Serialize;

use crate::error::Error;
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::partials::{
    F0, INHARMONICITY, PartialTrack, Partials, PartialsSettings, partials_and_pitch,
};
use crate::pitch::{PitchNote, VibratoFigures};
use crate::quantity::{Label, Quantities, Quantity, Unit, bare, pair};
use crate::stiffness::stiff_ratio;
use crate::units::power_from_db;
use descriptors::summary;
use noise::{NoiseCourse, NoiseFrame, Voiced};
use rise::{Level, Waveform};
use shape::{FrameSpectrum, PowerSpectrum, slope};

/// How timbre is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimbreSettings {
    /// How the partials are followed; with `free` no fundamental is assumed, and what needs one is
    /// not available.
    pub partials: PartialsSettings,
    /// Frequencies that the descriptors of the spectrum are taken over, in Hz; cut to half the
    /// sample rate.
    pub range_hz: (f64, f64),
    /// Time between instants in seconds.
    pub hop_s: f64,
}

impl Default for TimbreSettings {
    fn default() -> Self {
        Self { partials: PartialsSettings::default(), range_hz: (20.0, 20_000.0), hop_s: 0.01 }
    }
}

/// The timbre of a note, or of a sound without a fundamental.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Timbre {
    /// The fundamental and the inharmonicity, as [`crate::partials`] has them.
    #[serde(flatten, serialize_with = "flat::f0_hz")]
    pub f0_hz: Option<Measured>,
    /// See above.
    #[serde(flatten, serialize_with = "flat::inharmonicity")]
    pub inharmonicity: Option<Measured>,
    /// Its partials, where it has a fundamental.
    #[serde(skip)]
    pub partials: Option<Partials>,
    /// Level of the whole, RMS, in dB; a full-scale sine has 0, or its level re 20 µPa after
    /// [`Timbre::calibrate`].
    pub level_db: f64,
    /// Level of a full-scale sine in dB: 0, or re 20 µPa after [`Timbre::calibrate`].
    #[serde(skip)]
    pub full_scale_db: f64,
    /// Descriptors over the whole note, its rise and its sustained part.
    #[serde(flatten, serialize_with = "Regions::flat")]
    pub regions: Regions,
    /// How it begins; `None` if it is there from the start, or rises too fast to be seen.
    #[serde(flatten, serialize_with = "rise::flat")]
    pub rise: Option<Rise>,
    /// Middle of its power over time, in seconds from its beginning.
    pub temporal_centroid_s: Option<f64>,
    /// How long its RMS stays above 40 % of the greatest, in seconds.
    pub effective_duration_s: Option<f64>,
    /// Time in which the whole falls by 60 dB; `None` if it does not die away evenly.
    #[serde(flatten, serialize_with = "flat::decay_t60_s")]
    pub decay_t60_s: Option<Measured>,
    /// Its vibrato.
    #[serde(flatten)]
    pub vibrato: VibratoFigures,
    /// Rate of a regular wavering of the level, and its depth, peak, in dB.
    pub tremolo_rate_hz: Option<f64>,
    /// See above.
    pub tremolo_depth_db: Option<f64>,
    /// Its harmonics, where it has a fundamental.
    pub content: Option<HarmonicContent>,
    /// The descriptors over time.
    #[serde(skip)]
    pub track: Vec<TimbrePoint>,
    /// Length of the frames of the spectrum, and of those that part noise from harmonics, in
    /// seconds.
    #[serde(skip)]
    pub frame_s: f64,
    /// See above.
    #[serde(skip)]
    pub noise_frame_s: Option<f64>,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Quantities for Timbre {
    fn quantities(&self) -> Vec<Quantity> {
        const LEVEL: Label = Label::new("level_db", "level", Unit::Level, 2);
        const ATTACK_START: Label =
            Label::new("attack_start_s", "start of the attack", Unit::Second, 3);
        const LOG_ATTACK: Label = Label::new("log_attack_time", "log attack time", Unit::One, 3);
        const ATTACK_SLOPE: Label =
            Label::new("attack_slope_db_per_s", "slope of the attack", Unit::DecibelPerSecond, 0);
        const MIDDLE: Label =
            Label::new("temporal_centroid_s", "temporal centroid", Unit::Second, 3);
        const EFFECTIVE: Label =
            Label::new("effective_duration_s", "effective duration", Unit::Second, 3);
        const DECAY: Label =
            Label::new("decay_t60_s", "decay of the whole", Unit::Second, 3).with_u();
        const VIBRATO_RATE: Label = Label::new("vibrato_rate_hz", "vibrato", Unit::Hertz, 2);
        const VIBRATO_DEPTH: Label =
            Label::new("vibrato_depth_cents", "depth of the vibrato", Unit::Cent, 1);
        const TREMOLO_RATE: Label = Label::new("tremolo_rate_hz", "tremolo", Unit::Hertz, 2);
        const TREMOLO_DEPTH: Label =
            Label::new("tremolo_depth_db", "depth of the tremolo", Unit::Decibel, 2);
        let rise = self.rise;
        let attack = rise.map(|rise| rise.duration_s);
        let known = |value: Option<f64>| pair(value, None);
        let mut all = vec![
            Quantity::top(&F0, self.f0_hz),
            Quantity::top(&INHARMONICITY, self.inharmonicity),
            Quantity::top(&LEVEL, bare(self.level_db)),
        ];
        all.extend(self.regions.whole.medians(None));
        all.extend([
            Quantity::top(&ATTACK_START, known(rise.map(|rise| rise.start_s))),
            Quantity::top(&ATTACK, attack),
            Quantity::top(&LOG_ATTACK, known(rise.as_ref().map(Rise::log_duration))),
            Quantity::top(&ATTACK_SLOPE, known(rise.map(|rise| rise.slope_db_per_s))),
            Quantity::top(&MIDDLE, known(self.temporal_centroid_s)),
            Quantity::top(&EFFECTIVE, known(self.effective_duration_s)),
            Quantity::top(&DECAY, self.decay_t60_s),
            Quantity::top(&VIBRATO_RATE, known(self.vibrato.vibrato_rate_hz)),
            Quantity::top(&VIBRATO_DEPTH, known(self.vibrato.vibrato_depth_cents)),
            Quantity::top(&TREMOLO_RATE, known(self.tremolo_rate_hz)),
            Quantity::top(&TREMOLO_DEPTH, known(self.tremolo_depth_db)),
        ]);
        all.extend(self.regions.quantities());
        all.extend(self.content.iter().flat_map(HarmonicContent::quantities));
        all
    }
}

/// How long a note takes to rise.
pub(crate) const ATTACK: Label = Label::new("attack_s", "attack", Unit::Second, 4).with_u();
/// The harmonics of a note have at least so much more power than the noise, in dB: noise with a
/// resonance seems to have a fundamental, as uncertain as it is.
const NOTE_OVER_NOISE_DB: f64 = 12.0;

impl Timbre {
    /// Whether it is that of a note: its partials were followed, and its harmonics are more than
    /// its noise.
    #[must_use]
    pub fn is_note(&self) -> bool {
        let over_noise = self.regions.whole.median.get(Descriptor::HarmonicToNoise);
        self.partials.is_some() && over_noise.is_none_or(|db| db > NOTE_OVER_NOISE_DB)
    }

    /// Refers all levels to sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        let change_db = full_scale_db - self.full_scale_db;
        self.full_scale_db = full_scale_db;
        self.level_db += change_db;
        for point in &mut self.track {
            point.level_db += change_db;
        }
        if let Some(content) = &mut self.content {
            content.shift_levels(change_db);
        }
        if let Some(partials) = &mut self.partials {
            partials.calibrate(full_scale_db);
        }
    }
}

/// Frames of the spectrum hold so many periods at least, and are not shorter than this.
const FRAME_PERIODS: f64 = 4.0;
const SHORTEST_FRAME_S: f64 = 0.04;
/// The level of a sound without a fundamental is averaged over this.
const LEVEL_BOX_S: f64 = 0.005;

/// Measures the timbre of the longest note of a sound whose first sample lies `start_s` seconds
/// into its take.
///
/// # Errors
///
/// [`Error::TooShort`] for a sound that holds no frame, [`Error::Setting`] for settings that make
/// no sense.
pub fn timbre(
    sound: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &TimbreSettings,
) -> Result<Timbre, Error> {
    let range_hz = check(settings, sample_rate_hz)?;
    let needed = (SHORTEST_FRAME_S * sample_rate_hz).ceil() as u64;
    if (sound.len() as u64) < needed {
        return Err(Error::TooShort { samples: sound.len() as u64, needed });
    }
    let mut findings = Vec::new();
    let note = match partials_and_pitch(sound, sample_rate_hz, start_s, &settings.partials) {
        Ok((_, None)) => None,
        Ok((found, Some((_, note)))) => {
            findings.extend(found.findings.iter().cloned());
            Some(NoteOf::new(found, &note, sample_rate_hz, start_s)).filter(NoteOf::has_harmonics)
        }
        Err(Error::NoFundamental | Error::TooShort { .. }) => {
            findings.push(Finding::note(
                "no_fundamental",
                "No sustained fundamental was found. Descriptors that need one are omitted; \
                 spectral descriptors come from whole \
                 frames, noise included.",
            ));
            None
        }
        Err(other) => return Err(other),
    };
    let measurement = Measurement { sound, rate_hz: sample_rate_hz, start_s, range_hz, settings };
    let found = measurement.timbre(note.as_ref(), findings);
    Ok(Timbre { partials: note.map(|note| note.found), ..found })
}

fn check(settings: &TimbreSettings, rate_hz: f64) -> Result<(f64, f64), Error> {
    let (low, high) = (settings.range_hz.0, settings.range_hz.1.min(rate_hz / 2.0));
    if !(low >= 0.0 && low < high) {
        return Err(Error::Setting {
            setting: "the range of the descriptors",
            given: format!("{low} Hz to {high} Hz"),
            allowed: "rising, and begin below half the sample rate".into(),
        });
    }
    if !(0.001..=1.0).contains(&settings.hop_s) {
        return Err(Error::Setting {
            setting: "the hop",
            given: format!("{} s", settings.hop_s),
            allowed: "1 ms to 1 s".into(),
        });
    }
    Ok((low, high))
}

/// The note that is measured.
struct NoteOf {
    found: Partials,
    f0_hz: Measured,
    /// The fundamental over time, in seconds from the first sample.
    course: Vec<(f64, f64)>,
    /// Frequencies of all harmonics below half the sample rate over the fundamental.
    ratios: Vec<f64>,
    vibrato: VibratoFigures,
}

impl NoteOf {
    fn new(found: Partials, note: &PitchNote, rate_hz: f64, start_s: f64) -> Self {
        /// As many as a note of 10 Hz has up to 20 kHz.
        const MOST: usize = 2000;
        let f0_hz = found.f0_hz.unwrap_or(Measured::new(f64::NAN, f64::NAN));
        let b = found.inharmonicity.map_or(0.0, |b| b.value.max(0.0));
        let law = |number: usize| stiff_ratio(number, b);
        let course = course(&found, start_s, law);
        let highest_hz = course.iter().map(|(_, hz)| *hz).fold(f0_hz.value, f64::max);
        let mut ratios: Vec<f64> =
            (1..=MOST).map(law).take_while(|ratio| ratio * highest_hz < 0.5 * rate_hz).collect();
        for partial in found.partials.iter().filter(|partial| !partial.on_law) {
            let near = partial.cents_from_law.is_some_and(|cents| cents.abs() < 50.0);
            if let Some(ratio) = ratios.get_mut(partial.number.wrapping_sub(1)).filter(|_| near) {
                *ratio = partial.frequency_hz / f0_hz.value;
            }
        }
        Self { found, f0_hz, course, ratios, vibrato: note.vibrato }
    }

    fn has_harmonics(&self) -> bool {
        self.f0_hz.value.is_finite() && !self.course.is_empty() && !self.found.partials.is_empty()
    }

    /// Harmonics that are heard at a time in seconds from the start of the take: number, frequency,
    /// amplitude.
    fn heard_at(&self, time_s: f64) -> impl Iterator<Item = (usize, f64, f64)> + '_ {
        self.found.tracks.iter().filter_map(move |track| {
            let (hz, amplitude) = point_at(track, time_s)?;
            Some((track.number, hz, amplitude))
        })
    }
}

/// The fundamental over time as the partials together give it, each by its place on the law,
/// weighted as its noise allows.
fn course(found: &Partials, start_s: f64, law: impl Fn(usize) -> f64) -> Vec<(f64, f64)> {
    let on_law: Vec<usize> =
        found.partials.iter().filter(|partial| partial.on_law).map(|p| p.number).collect();
    let mut sums: BTreeMap<i64, (f64, f64)> = BTreeMap::new();
    for track in found.tracks.iter().filter(|track| on_law.contains(&track.number)) {
        let ratio = law(track.number);
        let first = ((track.start_s - found.start_s) / found.hop_s).round() as i64;
        for (step, point) in (first..).zip(&track.points) {
            let weight = (point.amplitude * track.number as f64).powi(2);
            let (sum, weights) = sums.entry(step).or_default();
            *sum += weight * point.frequency_hz / ratio;
            *weights += weight;
        }
    }
    let from_s = found.start_s - start_s;
    let sums = sums.into_iter().filter(|(_, (_, weights))| *weights > 0.0);
    sums.map(|(step, (sum, weights))| (from_s + step as f64 * found.hop_s, sum / weights)).collect()
}

/// Frequency and amplitude of a track at a time.
fn point_at(track: &PartialTrack, time_s: f64) -> Option<(f64, f64)> {
    let place = (time_s - track.start_s) / track.hop_s;
    let n = place.floor();
    let (here, next) = match track.points.get(usize::try_from(n as i64).ok()?..)? {
        [here, next, ..] => (here, next),
        [last] if place == n => (last, last),
        _ => return None,
    };
    let between = |a: f64, b: f64| a + (place - n) * (b - a);
    Some((between(here.frequency_hz, next.frequency_hz), between(here.amplitude, next.amplitude)))
}

/// A sound and how it is to be measured.
struct Measurement<'a> {
    sound: &'a [f32],
    rate_hz: f64,
    start_s: f64,
    range_hz: (f64, f64),
    settings: &'a TimbreSettings,
}

/// When what happens, in seconds from the first sample.
struct Times {
    start_s: f64,
    end_s: f64,
    rise: Option<Rise>,
    attack_s: Option<(f64, f64)>,
    sustain_s: (f64, f64),
    /// Where noise can be separated from harmonics: a sound that rises, or ends at once, is no
    /// noise.
    noise_s: (f64, f64),
}

impl Measurement<'_> {
    fn timbre(&self, note: Option<&NoteOf>, mut findings: Vec<Finding>) -> Timbre {
        let level = self.level(note);
        let times = self.times(note, &level);
        match times.rise {
            None => findings.push(Finding::note(
                "no_attack",
                "The attack is not available: the sound is there from the start of the span.",
            )),
            Some(rise) if rise.is_hidden => findings.push(Finding::note(
                "attack_hidden",
                format!(
                    "The sound rises within {:.1} ms, and its period of {:.1} ms shows no more: the \
                     attack is given as half of that, and may be anything below it.",
                    2e3 * rise.duration_s.value,
                    1e3 * level.box_s
                ),
            )),
            Some(_) => (),
        }
        let frame_s = (FRAME_PERIODS * level.box_s).max(SHORTEST_FRAME_S);
        let noise = note.map(|note| {
            let voiced = Voiced {
                sound: self.sound,
                rate_hz: self.rate_hz,
                f0_hz: &note.course,
                ratios: &note.ratios,
            };
            NoiseCourse::new(&voiced, times.noise_s)
        });
        if noise.as_ref().is_some_and(|noise| noise.frames.is_empty()) {
            findings.push(Finding::note(
                "too_short_for_noise",
                "The note lasts fewer than about twelve periods: noise cannot be separated from \
                 harmonics.",
            ));
        }
        let noise = noise.filter(|noise| !noise.frames.is_empty());
        let track = self.track(note, noise.as_ref(), &level, &times, frame_s);
        let in_take = |(from, to): (f64, f64)| (from + self.start_s, to + self.start_s);
        let summed = |span_s: (f64, f64)| {
            let mut region = summary(&track, in_take(span_s), frame_s);
            if let Some(noise) = &noise {
                let inside_s = span_s.1.min(times.noise_s.1) - span_s.0.max(times.noise_s.0);
                let powers = noise.mean(span_s).filter(|_| inside_s > 0.9 * noise.frame_s);
                let found = powers.and_then(|powers| powers.harmonic_to_noise_db());
                let (db, u) = found.unwrap_or((f64::NAN, f64::NAN));
                region.median.set(Descriptor::HarmonicToNoise, db);
                region.median_u.set(Descriptor::HarmonicToNoise, u);
            }
            region
        };
        let content = note.and_then(|note| {
            let powers = noise.as_ref().and_then(|noise| noise.mean(times.sustain_s));
            let sustain_s = in_take(times.sustain_s);
            content::content(&note.found, powers.as_ref(), sustain_s, self.rate_hz)
        });
        let whole_s = (times.start_s, times.end_s);
        let figures = level.figures(whole_s, times.sustain_s);
        Timbre {
            f0_hz: note.map(|note| note.f0_hz),
            inharmonicity: note.and_then(|note| note.found.inharmonicity),
            partials: None,
            level_db: self.mean_level_db(whole_s),
            full_scale_db: 0.0,
            regions: Regions {
                whole: summed(whole_s),
                attack: times.attack_s.map(summed),
                sustain: summed(times.sustain_s),
            },
            rise: times.rise.map(|rise| Rise { start_s: times.start_s + self.start_s, ..rise }),
            temporal_centroid_s: figures.temporal_centroid_s,
            effective_duration_s: figures.effective_duration_s,
            decay_t60_s: figures.decay_t60_s,
            vibrato: note.map_or_else(VibratoFigures::default, |note| note.vibrato),
            tremolo_rate_hz: figures.tremolo_rate_hz,
            tremolo_depth_db: figures.tremolo_depth_db,
            content,
            noise_frame_s: noise.as_ref().map(|noise| noise.frame_s),
            track,
            frame_s,
            findings,
        }
    }

    /// The level of the note, or of all, with what is before it, which shows how quiet it was.
    fn level(&self, note: Option<&NoteOf>) -> Level {
        /// Room for a level of the noise.
        const BEFORE_S: f64 = 0.3;
        let place = |time_s: f64| ((time_s.max(0.0) * self.rate_hz) as usize).min(self.sound.len());
        let Some(note) = note else {
            return Level::new(self.sound, 0..self.sound.len(), self.rate_hz, LEVEL_BOX_S);
        };
        let from = place(note.found.start_s - self.start_s - BEFORE_S);
        let to = place(note.found.end_s - self.start_s).max(from);
        Level::new(self.sound, from..to, self.rate_hz, 1.0 / note.f0_hz.value)
    }

    /// When the sound begins, is steady, and ends.
    fn times(&self, note: Option<&NoteOf>, level: &Level) -> Times {
        /// A sustained sound swells and fades by less within a tone.
        const SUSTAIN_DB: f64 = 12.0;
        const ENDS_AT_ONCE_S: f64 = 0.25;
        const STEADY_DB: f64 = 1.0;
        let sounding_s = level.sounding_s();
        let begin_s = note.map_or(sounding_s.0, |note| note.found.start_s - self.start_s);
        // In loud noise the level does not show the end, but the partials do.
        let heard_to_s = note.and_then(|note| note.course.last()).map(|(time_s, _)| *time_s);
        let end_s = heard_to_s.map_or(sounding_s.1, |to_s| to_s.min(sounding_s.1)).max(begin_s);
        let waveform = note.map(|_| Waveform {
            sound: self.sound,
            rate_hz: self.rate_hz,
            period_s: level.box_s,
        });
        let rise = level.rise(begin_s, end_s, waveform.as_ref());
        let start_s = rise.as_ref().map_or(begin_s, |rise| rise.start_s).clamp(0.0, end_s);
        let attack_s = rise.map(|rise| (start_s, (start_s + rise.duration_s.value).min(end_s)));
        let risen_s = attack_s.map_or(start_s, |(_, end)| end);
        let levels_db: Vec<(f64, f64)> =
            self.instants_s(start_s, end_s).map(|time_s| (time_s, level.db_at(time_s))).collect();
        let median_db = power_median(&levels_db);
        let last_within = |db: f64| {
            let last = levels_db.iter().rfind(|(_, level_db)| *level_db > median_db - db);
            last.map_or(end_s, |(time_s, _)| *time_s).max(risen_s)
        };
        let steady_to_s = last_within(SUSTAIN_DB);
        let ends_at_once = end_s - steady_to_s < ENDS_AT_ONCE_S;
        let noise_to_s = if ends_at_once { last_within(STEADY_DB) } else { end_s };
        // A rise is known to within a twentieth. A sound that grows to its end is read as it is.
        let margin_s = attack_s.map_or(0.0, |(from, to)| 0.05 * (to - from) + level.box_s);
        let grows = noise_to_s - risen_s - margin_s < noise::PERIODS * level.box_s;
        let noise_from_s = if grows { start_s } else { risen_s + margin_s };
        Times {
            start_s,
            end_s,
            rise,
            attack_s,
            sustain_s: (risen_s, steady_to_s),
            noise_s: (noise_from_s, noise_to_s.max(noise_from_s)),
        }
    }

    /// Level of the mean power between two times, RMS re that of a full-scale sine.
    fn mean_level_db(&self, (from_s, to_s): (f64, f64)) -> f64 {
        let place = |time_s: f64| ((time_s * self.rate_hz) as usize).min(self.sound.len());
        let samples = &self.sound[place(from_s)..place(to_s)];
        let power: f64 = samples.iter().map(|x| f64::from(*x).powi(2)).sum();
        10.0 * (2.0 * power / samples.len().max(1) as f64).max(1e-30).log10()
    }

    /// A time every hop from one time to another.
    fn instants_s(&self, start_s: f64, end_s: f64) -> impl Iterator<Item = f64> + '_ {
        let steps = ((end_s - start_s) / self.settings.hop_s).floor().max(0.0) as usize;
        (0..=steps).map(move |step| start_s + step as f64 * self.settings.hop_s)
    }

    /// The descriptors over time.
    fn track(
        &self,
        note: Option<&NoteOf>,
        noise: Option<&NoiseCourse>,
        level: &Level,
        times: &Times,
        frame_s: f64,
    ) -> Vec<TimbrePoint> {
        let length = (frame_s * self.rate_hz).round() as usize;
        let hop = (self.settings.hop_s * self.rate_hz).round().max(1.0) as usize;
        let mut frames = FrameSpectrum::new(length, hop, self.rate_hz, self.range_hz);
        let mut spectrum = PowerSpectrum::default();
        self.instants_s(times.start_s, times.end_s)
            .map(|time_s| {
                let mut found = Descriptors::default();
                spectrum.clear();
                frames.read(self.sound, time_s * self.rate_hz);
                match note {
                    Some(note) => {
                        let noise = noise.and_then(|noise| noise.near(time_s));
                        self.describe_note(note, noise, time_s, &mut spectrum, &mut found);
                    }
                    None => {
                        frames.parts(&mut spectrum);
                        let bands = frames.third_octaves();
                        found.set(Descriptor::Slope, slope(bands.into_iter()).unwrap_or(f64::NAN));
                    }
                }
                spectrum.describe(self.range_hz, &mut found);
                if let (Some(note), Some(centroid)) = (note, found.get(Descriptor::Centroid)) {
                    let f0_hz = noise::at(&note.course, time_s).unwrap_or(note.f0_hz.value);
                    found.set(Descriptor::CentroidOverF0, centroid / f0_hz);
                }
                frames.describe(&mut found);
                let level_db = level.db_at(time_s);
                TimbrePoint { time_s: time_s + self.start_s, level_db, descriptors: found }
            })
            .collect()
    }

    /// What the harmonics of a note say at one instant; they and the noise make its spectrum.
    fn describe_note(
        &self,
        note: &NoteOf,
        noise: Option<&NoiseFrame>,
        time_s: f64,
        spectrum: &mut PowerSpectrum,
        found: &mut Descriptors,
    ) {
        let mut amplitudes: Vec<(usize, f64, f64)> = note.heard_at(time_s + self.start_s).collect();
        amplitudes.sort_by_key(|(number, ..)| *number);
        let Some((last, ..)) = amplitudes.last().copied() else { return };
        for (_, hz, amplitude) in &amplitudes {
            spectrum.line(*hz, amplitude.powi(2) / 2.0);
        }
        let levels = amplitudes.iter().map(|(_, hz, amplitude)| (*hz, amplitude.powi(2)));
        found.set(Descriptor::Slope, slope(levels).unwrap_or(f64::NAN));
        let is_heard =
            |number: usize| amplitudes.binary_search_by_key(&number, |(n, ..)| *n).is_ok();
        let (mut odd, mut even, mut unseen_even) = (0.0, 0.0, 0.0);
        for (number, _, amplitude) in &amplitudes {
            *(if number % 2 == 1 { &mut odd } else { &mut even }) += amplitude.powi(2) / 2.0;
        }
        if let Some(noise) = noise {
            found.set(Descriptor::HarmonicToNoise, noise.harmonic_to_noise_db());
            for (k, power) in noise.harmonics.iter().enumerate() {
                let number = k + 1;
                let around = 0.5 * (noise.gaps[k] + noise.gaps[k + 1]);
                if is_heard(number) {
                    continue;
                }
                // A harmonic that was not followed, but is there.
                if *power > around {
                    spectrum.line(note.ratios[k] * noise.f0_hz, *power);
                }
                if number <= last && number % 2 == 0 {
                    unseen_even += power.max(0.1 * around);
                }
            }
        }
        spectrum.describe_harmonics(self.range_hz, found);
        if let Some(noise) = noise {
            let edge = |k: usize| match k {
                0 => 0.0,
                k if k > note.ratios.len() => 0.5 * self.rate_hz,
                k => note.ratios[k - 1] * noise.f0_hz,
            };
            for (k, power) in noise.gaps.iter().enumerate() {
                spectrum.band(edge(k), edge(k + 1), *power);
            }
        }
        found.set(Descriptor::OddEven, 10.0 * (odd / (even + unseen_even)).log10());
        let sum: f64 = amplitudes.iter().map(|(.., amplitude)| amplitude).sum();
        let share = |from: usize, to: usize| {
            let inside = amplitudes.iter().filter(|(number, ..)| (from..to).contains(number));
            inside.map(|(.., amplitude)| amplitude).sum::<f64>() / sum
        };
        found.set(Descriptor::Tristimulus1, share(1, 2));
        found.set(Descriptor::Tristimulus2, share(2, 5));
        found.set(Descriptor::Tristimulus3, share(5, usize::MAX));
        let amplitude = |number: usize| {
            let at = amplitudes.binary_search_by_key(&number, |(n, ..)| *n);
            at.map_or(0.0, |at| amplitudes[at].2)
        };
        let steps: f64 = (1..=last).map(|n| (amplitude(n) - amplitude(n + 1)).powi(2)).sum();
        let squares: f64 = amplitudes.iter().map(|(.., amplitude)| amplitude.powi(2)).sum();
        found.set(Descriptor::Irregularity, steps / squares);
    }
}

/// The level above and below which lies half of the power, of times and levels.
fn power_median(levels_db: &[(f64, f64)]) -> f64 {
    let mut levels: Vec<f64> = levels_db.iter().map(|(_, db)| *db).collect();
    levels.sort_by(f64::total_cmp);
    let power = |db: &f64| power_from_db(*db);
    let total: f64 = levels.iter().map(power).sum();
    let mut below = 0.0;
    for level in &levels {
        below += power(level);
        if below >= 0.5 * total {
            return *level;
        }
    }
    f64::NEG_INFINITY
}
