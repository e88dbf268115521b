//! Where a note begins, and the stretch of sound that it takes.

use super::harmonic::Stretch;
use crate::pitch::{Pitch, PitchNote};

/// The stretch from the onset of a note to the next note, or to the end.
pub(super) fn stretch_of<'a>(
    sound: &'a [f32],
    rate_hz: f64,
    pitch: &Pitch,
    note: &PitchNote,
) -> Stretch<'a> {
    const BEFORE_S: f64 = 0.06;
    let sample = |seconds: f64| ((seconds.max(0.0) * rate_hz) as usize).min(sound.len());
    let before = pitch.notes.iter().rfind(|other| other.end_s <= note.start_s + 1e-9);
    let earliest = before.map_or(0.0, |other| other.end_s).max(note.start_s - BEFORE_S);
    let next = pitch.notes.iter().find(|other| other.start_s >= note.end_s - 1e-9);
    let to = next.map_or(sound.len(), |other| sample(other.start_s - 0.01));
    let from = onset(sound, rate_hz, sample(earliest), sample(note.end_s).min(to));
    Stretch { sound, rate_hz, from, to: to.max(from) }
}

/// The first sample between two that stands out of what is before, and is more than a trace of what
/// comes.
pub(super) fn onset(sound: &[f32], rate_hz: f64, from: usize, to: usize) -> usize {
    const BLOCK_S: f64 = 0.005;
    const PEAK_WITHIN_S: f64 = 0.5;
    const TRACE: f32 = 0.004;
    const STANDS_OUT: f32 = 6.0;
    let block = ((BLOCK_S * rate_hz) as usize).max(1);
    let rms = |block: &[f32]| {
        (block.iter().map(|x| x * x).sum::<f32>() / block.len().max(1) as f32).sqrt()
    };
    let quietest = sound[from..to].chunks_exact(block).map(rms).fold(f32::INFINITY, f32::min);
    let within = (from + (PEAK_WITHIN_S * rate_hz) as usize).min(to);
    let peak = sound[from..to].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let near_peak = sound[from..within].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let peak = if near_peak > 0.1 * peak { near_peak } else { peak };
    // A sound that is there from the beginning has no quiet before it.
    let begins_at_once = rms(&sound[from..(from + block).min(to)]) > 0.1 * peak;
    let noise = if begins_at_once { 0.0 } else { quietest };
    let least = (STANDS_OUT * noise).max(TRACE * peak);
    let first = sound[from..to].iter().position(|x| x.abs() > least).unwrap_or(0);
    // Back to where it left the noise.
    let quiet = |n: &usize| sound[*n].abs() <= (2.0 * noise).max(0.1 * least);
    let reach = (from + first).saturating_sub(block).max(from)..from + first;
    reach.clone().rev().find(quiet).unwrap_or(reach.end)
}
