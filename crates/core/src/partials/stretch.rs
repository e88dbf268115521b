//! The stretch of sound that a note takes.

use super::harmonic::Stretch;
use crate::onsets::note_onset;
use crate::pitch::{Pitch, PitchNote};

/// The stretch from the onset of a note to the next note, or to the end.
pub(super) fn stretch_of<'a>(
    sound: &'a [f32],
    rate_hz: f64,
    pitch: &Pitch,
    note: &PitchNote,
) -> Stretch<'a> {
    /// A frame of the pitch is at most this late at an onset.
    const BEFORE_S: f64 = 0.06;
    let sample = |seconds: f64| ((seconds.max(0.0) * rate_hz) as usize).min(sound.len());
    let before = pitch.notes.iter().rfind(|other| other.end_s <= note.start_s + 1e-9);
    let earliest = before.map_or(0.0, |other| other.end_s).max(note.start_s - BEFORE_S);
    let next = pitch.notes.iter().find(|other| other.start_s >= note.end_s - 1e-9);
    let to = next.map_or(sound.len(), |other| sample(other.start_s - 0.01));
    let from = note_onset(sound, rate_hz, sample(earliest), sample(note.end_s).min(to));
    Stretch { sound, rate_hz, from, to: to.max(from) }
}
