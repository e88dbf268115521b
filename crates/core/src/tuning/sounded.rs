//! The notes of a take, and the spectrum of each for a map of all.

use super::SoundedNote;
use crate::error::Error;
use crate::finding::Finding;
use crate::measured::Measured;
use crate::partials::{PartialsSettings, partials_and_pitch};
use crate::pitch::{Pitch, PitchNote, pitch};
use crate::transform::{RealTransform, fast_length};
use crate::units::{Note, cents_between};
use crate::window::WindowKind;

/// The notes of a take.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundedNotes {
    /// In the order of time.
    pub notes: Vec<SoundedNote>,
    /// What must be known beside them.
    pub findings: Vec<Finding>,
}

/// The notes of a sound whose first sample lies `start_s` seconds into its take. One note is
/// measured by its partials, with its stiffness; of several, as in a scale, each is measured by its
/// fundamental over time.
///
/// # Errors
///
/// As [`crate::partials::partials`].
pub fn sounded_notes(
    sound: &[f32],
    rate_hz: f64,
    start_s: f64,
    settings: &PartialsSettings,
    take: &str,
    expected: Option<Note>,
) -> Result<SoundedNotes, Error> {
    let (found, pitch) = match partials_and_pitch(sound, rate_hz, start_s, settings) {
        Ok((found, Some((pitch, _)))) => (Some(found), pitch),
        Ok((_, None)) => return Err(Error::NoFundamental),
        Err(Error::TooShort { .. }) => (None, pitch(sound, rate_hz, &settings.pitch)?),
        Err(other) => return Err(other),
    };
    let lasting = lasting(&pitch);
    let single = found.filter(|_| lasting.len() < 2).and_then(|found| {
        let f0_hz = found.f0_hz?;
        let note = SoundedNote {
            take: take.into(),
            start_s: found.start_s,
            expected,
            f0_hz,
            inharmonicity: found.inharmonicity.filter(|b| b.value > 2.0 * b.u),
            partials: (found.partials.iter())
                .map(|p| (p.number, Measured::new(p.frequency_hz, p.frequency_hz_u)))
                .collect(),
        };
        let findings = found.findings.into_iter().filter(|f| f.code != "several_notes").collect();
        Some(SoundedNotes { notes: vec![note], findings })
    });
    if let Some(single) = single {
        return Ok(single);
    }
    sounded_in(&pitch, start_s, take, expected)
}

/// The same of a fundamental that was followed already, in seconds from `start_s` on: each note is
/// measured by it alone.
///
/// # Errors
///
/// [`Error::NoFundamental`] where it has no notes.
pub fn sounded_in(
    pitch: &Pitch,
    start_s: f64,
    take: &str,
    expected: Option<Note>,
) -> Result<SoundedNotes, Error> {
    let lasting = lasting(pitch);
    if lasting.is_empty() {
        return Err(Error::NoFundamental);
    }
    // What one take is expected to be says nothing of each of several.
    let expected = expected.filter(|_| lasting.len() == 1);
    let notes = lasting.into_iter().map(|note| SoundedNote {
        take: take.into(),
        start_s: start_s + note.start_s,
        expected,
        f0_hz: Measured::new(note.f0_hz, note.f0_hz_u),
        inharmonicity: None,
        partials: Vec::new(),
    });
    Ok(SoundedNotes { notes: notes.collect(), findings: pitch.findings() })
}

/// The notes that last; one, if all of them are the same note.
fn lasting(pitch: &Pitch) -> Vec<&PitchNote> {
    /// A tone that is shorter has no pitch to be tuned by.
    const SHORTEST_S: f64 = 0.12;
    const SHORTEST_SHARE: f64 = 0.1;
    const SAME_CENTS: f64 = 50.0;
    let lasts_s = |note: &PitchNote| note.end_s - note.start_s;
    let Some(longest) = pitch.notes.iter().max_by(|a, b| lasts_s(a).total_cmp(&lasts_s(b))) else {
        return Vec::new();
    };
    let least_s = SHORTEST_S.max(SHORTEST_SHARE * lasts_s(longest));
    let lasting: Vec<&PitchNote> =
        pitch.notes.iter().filter(|note| lasts_s(note) >= least_s).collect();
    let is_same = |note: &&PitchNote| cents_between(longest.f0_hz, note.f0_hz).abs() < SAME_CENTS;
    if lasting.is_empty() || lasting.iter().all(is_same) { vec![longest] } else { lasting }
}

/// Rows of a column of the map of spectra.
pub const MAP_ROWS: usize = 360;
/// Its range in Hz, spread evenly over octaves.
const MAP_RANGE_HZ: (f64, f64) = (20.0, 16_000.0);

/// The lower edge of a row of the map in Hz.
#[must_use]
pub fn map_row_hz(row: usize) -> f64 {
    let octaves = (MAP_RANGE_HZ.1 / MAP_RANGE_HZ.0).log2();
    MAP_RANGE_HZ.0 * (octaves * row as f64 / MAP_ROWS as f64).exp2()
}

/// The spectrum of a note from a time on, as the level in dB (a full-scale sine is 0) of each row
/// of the map: the mean power of frames of 0.37 s under a Hann window over 1.5 s, the greatest in
/// each row.
#[must_use]
pub fn spectrum_column(sound: &[f32], rate_hz: f64, from_s: f64) -> Vec<f32> {
    /// A main lobe 5 Hz wide at −6 dB: the partials of the lowest bass notes are resolved.
    const FRAME_S: f64 = 0.37;
    const OVER_S: f64 = 1.5;
    const SILENT_DB: f32 = -160.0;
    let length = (FRAME_S * rate_hz) as usize;
    let from = ((from_s.max(0.0) * rate_hz) as usize).min(sound.len());
    let to = (from + (OVER_S * rate_hz) as usize).min(sound.len());
    let sound = &sound[from..to];
    let window = WindowKind::Hann.samples(length);
    let size = fast_length(length);
    let mut transform = RealTransform::new(size);
    let mut buffer = vec![0.0; size];
    let mut power = vec![0.0; size / 2 + 1];
    let starts: Vec<usize> = (0..=sound.len().saturating_sub(length)).step_by(length / 2).collect();
    for start in &starts {
        buffer.fill(0.0);
        for ((x, w), sample) in buffer.iter_mut().zip(&window).zip(&sound[*start..]) {
            *x = w * f64::from(*sample);
        }
        for (power, value) in power.iter_mut().zip(transform.forward(&mut buffer)) {
            *power += value.norm_sqr() / starts.len() as f64;
        }
    }
    let full_scale = (0.5 * window.iter().sum::<f64>()).powi(2);
    let bin = |hz: f64| hz * size as f64 / rate_hz;
    (0..MAP_ROWS)
        .map(|row| {
            let (low, high) = (bin(map_row_hz(row)), bin(map_row_hz(row + 1)));
            let last = power.len() - 1;
            let range = (low.round() as usize).min(last)..=(high.round() as usize).min(last);
            let greatest = power[range].iter().copied().fold(0.0, f64::max);
            ((10.0 * (greatest / full_scale).max(1e-30).log10()) as f32).max(SILENT_DB)
        })
        .collect()
}
