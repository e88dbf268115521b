//! Notes of a phrase, or partials of a sound, as they are written on staves.
//!
//! # What it computes
//!
//! **Pitch.** A frequency f is written as the nearest step to 1200·lb(f/A4) cents, in semitones, quarter
//! tones or eighth tones; what is left is given in cents, with the uncertainty of f.
//!
//! **Chord.** The tones of the spectrum from 0.1 s before an instant to 0.4 s after it
//! ([`crate::spectrum`]), the strongest first. Tones that are written alike are one, with their powers
//! added.
//!
//! **Audible.** Of tones that sound together those are left out on request that the others mask, by the
//! rule of E. Terhardt, G. Stoll and M. Seewann (JASA 71, 1982) and the threshold in quiet. It depends on
//! the sound pressure: where that is not known the strongest tone is taken to have 70 dB.
//!
//! **Dynamics.** From the level below that of the loudest note, which is *f*: a step for each 6 dB. The
//! velocity is v = 96·10^(L/40), L that level in dB: instruments turn it back by 40 lg v (General MIDI
//! level 2).
//!
//! The level of a note of a phrase is that of its loudest 50 ms, RMS.

mod staff_pitch;
mod timing;

pub use staff_pitch::{Accidental, Spelling, Staff, StaffPitch, Steps};
pub use timing::{Placed, Timing};

use serde::{Serialize, Serializer};

use crate::error::Error;
use crate::finding::Finding;
use crate::frame::FrameSettings;
use crate::hearing::excess_db;
use crate::measured::{Measured, flat};
use crate::partials::{Partial, Partials};
use crate::pitch::{Pitch, PitchNote};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare};
use crate::samples::{Reader, Samples};
use crate::spectrum::{Peak, SpectrumSettings, measure, thinned};
use crate::units::{Note, amplitude_from_db, cents_between, cents_u, db_from_power, power_from_db};

/// How what was measured is written.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct NotateSettings {
    /// The steps of the notation.
    pub steps: Steps,
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
    /// Notes that sound together at most, the strongest.
    pub most: usize,
    /// Whether those that others mask are left out.
    pub audible_only: bool,
    /// Level of a full-scale sine in dB: re 20 µPa where that is known, else 0.
    pub full_scale_db: f64,
    /// Whether it is known.
    pub is_calibrated: bool,
}

impl Default for NotateSettings {
    fn default() -> Self {
        Self {
            steps: Steps::Semitone,
            reference_hz: 440.0,
            most: 12,
            audible_only: false,
            full_scale_db: 0.0,
            is_calibrated: false,
        }
    }
}

/// What is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Content {
    /// The notes of a phrase, one after the other.
    Phrase,
    /// The partials of a sound, each from its beginning to its end.
    Partials,
    /// What sounds at an instant.
    Chord,
}

/// How loud a note is beside the loudest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Dynamics {
    /// 27 dB below the loudest, or more.
    Ppp,
    /// About 24 dB below.
    Pp,
    /// About 18 dB below.
    P,
    /// About 12 dB below.
    Mp,
    /// About 6 dB below.
    Mf,
    /// As loud as the loudest.
    F,
}

impl Dynamics {
    fn of(below_db: f64) -> Self {
        const STEP_DB: f64 = 6.0;
        let steps = (below_db / STEP_DB).round() as usize;
        [Self::F, Self::Mf, Self::Mp, Self::P, Self::Pp, Self::Ppp][steps.min(5)]
    }

    /// As it is written.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ppp => "ppp",
            Self::Pp => "pp",
            Self::P => "p",
            Self::Mp => "mp",
            Self::Mf => "mf",
            Self::F => "f",
        }
    }
}

/// A note as it is written. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct WrittenNote {
    /// Number of the partial; `None` for notes of a phrase and for tones on no harmonic series.
    pub partial: Option<usize>,
    /// When it begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// Its frequency.
    #[serde(flatten, serialize_with = "flat::f0_hz")]
    pub f0_hz: Option<Measured>,
    /// MIDI number of the semitone that it is written from.
    pub midi: i32,
    /// Cents from that semitone to what is written: 0, ±25 or 50.
    pub step_cents: i32,
    /// What is written.
    #[serde(rename = "note", serialize_with = "as_text")]
    pub pitch: StaffPitch,
    /// Cents from what is written to its frequency.
    #[serde(flatten, serialize_with = "flat::cents")]
    pub cents: Option<Measured>,
    /// Its level in dB.
    pub level_db: f64,
    /// How loud it is beside the loudest.
    pub dynamics: Dynamics,
    /// The same as a MIDI velocity.
    pub velocity: u8,
    /// Its frequency in Hz over time in seconds.
    #[serde(skip)]
    pub course: Vec<(f64, f64)>,
}

// The serializer hands over a reference.
#[expect(clippy::trivially_copy_pass_by_ref)]
fn as_text<S: Serializer>(pitch: &StaffPitch, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(pitch)
}

impl WrittenNote {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 9] = [
        Field::plain("partial", "partial", Unit::One, 0, |note| note.partial.map(|n| n as f64)),
        Field::plain("start_s", "start", Unit::Second, 3, |note| Some(note.start_s)),
        Field::plain("end_s", "end", Unit::Second, 3, |note| Some(note.end_s)),
        Field::measured("f0_hz", "frequency", Unit::Hertz, 4, |note| note.f0_hz),
        Field::plain("midi", "MIDI number", Unit::One, 0, |note| Some(f64::from(note.midi))),
        Field::plain("step_cents", "cents of the step", Unit::Cent, 0, |note| {
            Some(f64::from(note.step_cents))
        }),
        Field::measured("cents", "distance from what is written", Unit::Cent, 3, |note| note.cents),
        Field::plain("level_db", "level", Unit::Level, 2, |note| Some(note.level_db)),
        Field::plain("velocity", "velocity", Unit::One, 0, |note| Some(f64::from(note.velocity))),
    ];

    /// The number of the note that plays it: that of its semitone, as far as there are such.
    #[must_use]
    pub fn key(&self) -> u8 {
        self.midi.clamp(0, 127) as u8
    }

    /// The cents from that note, with A4 at 440 Hz, to its frequency over time.
    #[must_use]
    pub fn bends(&self) -> Vec<(f64, f64)> {
        const MIDI_A4_HZ: f64 = 440.0;
        let played_hz = Note(i32::from(self.key())).frequency_hz(MIDI_A4_HZ);
        let bend = |(time_s, hz): &(f64, f64)| (*time_s, cents_between(played_hz, *hz));
        self.course.iter().map(bend).collect()
    }
}

/// What is written of a sound.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Notation {
    /// What it is.
    pub of: Content,
    /// The notes: of a phrase in the order of time, else the lowest first.
    pub notes: Vec<WrittenNote>,
    /// Tones that others mask, and left out for that.
    pub masked: usize,
    /// Weaker ones that were left out.
    pub weaker: usize,
    /// Of a chord its spectrum: frequencies in Hz and levels in dB.
    #[serde(skip)]
    pub curve: Vec<(f64, f64)>,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Quantities for Notation {
    fn quantities(&self) -> Vec<Quantity> {
        const MASKED: Label = Label::new("masked", "tones masked", Unit::One, 0);
        const WEAKER: Label = Label::new("weaker", "weaker tones left out", Unit::One, 0);
        let mut all = vec![
            Quantity::top(&MASKED, bare(self.masked as f64)),
            Quantity::top(&WEAKER, bare(self.weaker as f64)),
        ];
        for (n, note) in (1..).zip(&self.notes) {
            let key = Key::item("notes", n);
            all.extend(Quantity::of_item(&key, &format!("note {n}"), &WrittenNote::FIELDS, note));
        }
        all
    }
}

/// A tone before it is written.
struct Tone {
    number: Option<usize>,
    start_s: f64,
    end_s: f64,
    hz: Measured,
    /// Re a full-scale sine.
    level_dbfs: f64,
    course: Vec<(f64, f64)>,
}

/// Writes the notes of a phrase, given its samples from `start_s` on.
///
/// # Errors
///
/// [`Error::NoFundamental`] where there is no note, [`Error::Lost`] where the samples can no longer be
/// read.
pub fn notate_phrase(
    pitch: &Pitch,
    samples: &dyn Samples,
    sample_rate_hz: f64,
    start_s: f64,
    settings: &NotateSettings,
) -> Result<Notation, Error> {
    let mut reader = Reader::new(samples);
    let mut tones = Vec::with_capacity(pitch.notes.len());
    for note in &pitch.notes {
        let inside = |time_s: f64| (note.start_s..=note.end_s).contains(&time_s);
        let points = pitch.track.iter().filter(|point| inside(point.time_s));
        tones.push(Tone {
            number: None,
            start_s: note.start_s,
            end_s: note.end_s,
            hz: Measured::new(note.f0_hz, note.f0_hz_u),
            level_dbfs: loudest_dbfs(&mut reader, note, sample_rate_hz, start_s)?,
            course: points.filter_map(|point| Some((point.time_s, point.f0_hz?))).collect(),
        });
    }
    if tones.is_empty() {
        return Err(Error::NoFundamental);
    }
    Ok(written(Content::Phrase, tones, settings))
}

/// Writes the partials of a sound, each from its beginning to its end.
///
/// # Errors
///
/// [`Error::NoTone`] where there is none.
pub fn notate_partials(found: &Partials, settings: &NotateSettings) -> Result<Notation, Error> {
    let tone = |partial: &Partial| {
        let tracks = found.tracks.iter().filter(|track| track.number == partial.number);
        let points = tracks.flat_map(|track| {
            let timed = track.points.iter().enumerate();
            timed.map(|(n, point)| (track.start_s + n as f64 * track.hop_s, point.frequency_hz))
        });
        Tone {
            number: Some(partial.number),
            start_s: partial.start_s,
            end_s: partial.end_s,
            hz: Measured::new(partial.frequency_hz, partial.frequency_hz_u),
            level_dbfs: partial.level_db - found.full_scale_db,
            course: points.collect(),
        }
    };
    let tones: Vec<Tone> = found.partials.iter().map(tone).collect();
    if tones.is_empty() {
        return Err(Error::NoTone);
    }
    let mut notation = written(Content::Partials, tones, settings);
    notation.findings.extend(found.findings.iter().cloned());
    Ok(notation)
}

/// Before an instant, and after it: what its chord is read from.
pub const CHORD_BEFORE_S: f64 = 0.1;
/// See above.
pub const CHORD_AFTER_S: f64 = 0.4;

/// Writes what sounds in a stretch around an instant, whose first sample lies `start_s` seconds into its
/// take.
///
/// # Errors
///
/// [`Error::NoTone`] where no tone stands out of the noise, and those of [`measure`].
pub fn notate_chord(
    stretch: &[f32],
    sample_rate_hz: f64,
    start_s: f64,
    settings: &NotateSettings,
) -> Result<Notation, Error> {
    /// Tones at most, before the strongest are chosen.
    const TONES: usize = 40;
    const RESOLVE_HZ: f64 = 8.0;
    /// No note is to be of noise.
    const FALSE_ALARM: f64 = 1e-4;
    /// Points of the spectrum that are kept.
    const PER_OCTAVE: u32 = 96;
    let spectrum = measure(
        stretch,
        sample_rate_hz,
        &SpectrumSettings {
            frames: FrameSettings { resolution_hz: Some(RESOLVE_HZ), ..FrameSettings::default() },
            peaks: TONES,
            reference_hz: settings.reference_hz,
            false_alarm: FALSE_ALARM,
            ..SpectrumSettings::default()
        },
    )?;
    let end_s = start_s + stretch.len() as f64 / sample_rate_hz;
    let tone = |peak: &Peak| Tone {
        number: peak.harmonic.map(|n| n as usize),
        start_s,
        end_s,
        hz: Measured::new(peak.frequency_hz, peak.frequency_hz_u),
        level_dbfs: peak.level_db,
        course: vec![(start_s, peak.frequency_hz)],
    };
    let tones: Vec<Tone> = spectrum.peaks.iter().map(tone).collect();
    if tones.is_empty() {
        return Err(Error::NoTone);
    }
    let level = |(n, power): (usize, &f64)| {
        let hz = n as f64 * spectrum.bin_spacing_hz;
        (hz, db_from_power(*power) + settings.full_scale_db)
    };
    let bins = spectrum.power.iter().enumerate().skip(1).map(level);
    let curve = thinned(bins, PER_OCTAVE).collect();
    Ok(Notation { curve, ..written(Content::Chord, tones, settings) })
}

/// RMS level of the loudest 50 ms of a note, re a full-scale sine.
fn loudest_dbfs(
    reader: &mut Reader<'_>,
    note: &PitchNote,
    sample_rate_hz: f64,
    start_s: f64,
) -> Result<f64, Error> {
    const BLOCK_S: f64 = 0.05;
    let at = |time_s: f64| ((time_s - start_s) * sample_rate_hz) as i64;
    let (mut from, end) = (at(note.start_s), at(note.end_s));
    // What follows the note is none of it.
    let block = ((BLOCK_S * sample_rate_hz) as i64).min(end - from).max(1) as usize;
    let mut loudest = 0.0f64;
    while from + block as i64 <= end {
        let samples = reader.at(from, block)?;
        let power: f64 = samples.iter().map(|x| f64::from(*x).powi(2)).sum();
        loudest = loudest.max(power / block as f64);
        from += block as i64;
    }
    Ok(db_from_power(2.0 * loudest.max(f64::MIN_POSITIVE)))
}

/// Leaves out what is not wanted, and writes the rest.
fn written(of: Content, mut tones: Vec<Tone>, settings: &NotateSettings) -> Notation {
    let together = of != Content::Phrase;
    let mut masked = 0;
    if together && settings.audible_only {
        let before = tones.len();
        let heard = audible(&tones, settings);
        tones = tones.into_iter().zip(heard).filter_map(|(tone, is)| is.then_some(tone)).collect();
        masked = before - tones.len();
    }
    if of == Content::Chord {
        tones = without_doubles(tones, settings);
    }
    let mut weaker = 0;
    if together && tones.len() > settings.most {
        tones.sort_by(|a, b| b.level_dbfs.total_cmp(&a.level_dbfs));
        weaker = tones.len() - settings.most;
        tones.truncate(settings.most);
    }
    if together {
        tones.sort_by(|a, b| a.hz.value.total_cmp(&b.hz.value));
    }
    let loudest = tones.iter().map(|tone| tone.level_dbfs).fold(f64::NEG_INFINITY, f64::max);
    let note = |tone: Tone| {
        let (pitch, cents) = pitch_of(&tone, settings)?;
        let (semitone, step_cents) = pitch.semitone();
        let below_db = loudest - tone.level_dbfs;
        Some(WrittenNote {
            partial: tone.number,
            start_s: tone.start_s,
            end_s: tone.end_s,
            f0_hz: Some(tone.hz),
            midi: semitone.0,
            step_cents,
            pitch,
            cents: Some(Measured::new(cents, cents_u(&tone.hz))),
            level_db: tone.level_dbfs + settings.full_scale_db,
            dynamics: Dynamics::of(below_db),
            velocity: velocity(below_db),
            course: tone.course,
        })
    };
    let notes: Vec<WrittenNote> = tones.into_iter().filter_map(note).collect();
    Notation { of, notes, masked, weaker, curve: Vec::new(), findings: Vec::new() }
}

fn pitch_of(tone: &Tone, settings: &NotateSettings) -> Option<(StaffPitch, f64)> {
    StaffPitch::nearest(tone.hz.value, settings.reference_hz, settings.steps)
}

/// Which tones stand over what the others mask.
fn audible(tones: &[Tone], settings: &NotateSettings) -> Vec<bool> {
    const ASSUMED_DB: f64 = 70.0;
    let strongest = tones.iter().map(|tone| tone.level_dbfs).fold(f64::NEG_INFINITY, f64::max);
    let full_scale_db =
        if settings.is_calibrated { settings.full_scale_db } else { ASSUMED_DB - strongest };
    let levels: Vec<(f64, f64)> =
        tones.iter().map(|tone| (tone.hz.value, tone.level_dbfs + full_scale_db)).collect();
    excess_db(&levels).into_iter().map(|excess| excess > 0.0).collect()
}

/// Of tones that are written alike the strongest, with the power of all.
fn without_doubles(mut tones: Vec<Tone>, settings: &NotateSettings) -> Vec<Tone> {
    tones.sort_by(|a, b| b.level_dbfs.total_cmp(&a.level_dbfs));
    let mut kept: Vec<Tone> = Vec::new();
    for tone in tones {
        let pitch = pitch_of(&tone, settings).map(|of| of.0);
        match kept.iter_mut().find(|other| pitch_of(other, settings).map(|of| of.0) == pitch) {
            Some(stronger) => {
                let power = power_from_db(stronger.level_dbfs) + power_from_db(tone.level_dbfs);
                stronger.level_dbfs = db_from_power(power);
            }
            None => kept.push(tone),
        }
    }
    kept
}

/// Velocity of a note so far below the loudest.
fn velocity(below_db: f64) -> u8 {
    const LOUDEST: f64 = 96.0;
    (LOUDEST * amplitude_from_db(-0.5 * below_db)).round().clamp(1.0, 127.0) as u8
}
