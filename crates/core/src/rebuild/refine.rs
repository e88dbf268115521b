//! Points of partials corrected by what they leave.
//!
//! A frame reads a damped sinusoid; of one that swells, ends or wavers within the frame it leaves a
//! little. What is left of each partial is read in frames of what all leave, δ = the amplitude of a steady
//! sinusoid of its frequency there, and added to its points, A·exp(jφ) + δ, as long as that takes away
//! more than half of what is left: noise beside a partial is no part of it.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex64;

use super::Edit;
use super::tracks::{self, Attack};
use crate::lanes::product;
use crate::partials::{FrameReader, Partials};

/// The note with its points corrected, where that leaves less of the sound between its ends.
pub(super) fn refined(note: Partials, rate_hz: f64, sound: &[f32]) -> Partials {
    /// Rounds at most, and the share of the power that each must leave at most.
    const ROUNDS: usize = 3;
    const ENOUGH: f64 = 0.5;
    let sample = |time_s: f64| ((time_s * rate_hz).max(0.0) as usize).min(sound.len());
    let half = 0.5 * note.frame_s;
    let (from, to) = (sample(note.start_s - half), sample(note.end_s + half));
    let left_of = |note: &Partials| {
        let mut left = sound[from..to].to_vec();
        let attack = Attack::as_read(note.start_s);
        let tracks = tracks::made(note, &Edit::default(), &attack);
        tracks::add_later(&tracks, note.start_s, from as f64 / rate_hz, rate_hz, -1.0, &mut left);
        let power = product(&left, &left);
        (left, power)
    };
    let mut best = note;
    let (mut left, mut power) = left_of(&best);
    for _ in 0..ROUNDS {
        let next = corrected(&best, &left, from, rate_hz);
        let (next_left, next_power) = left_of(&next);
        if next_power > ENOUGH * power {
            break;
        }
        (best, left, power) = (next, next_left, next_power);
    }
    best
}

/// The note with what is left of each partial added to its points; `left` begins at a sample.
fn corrected(note: &Partials, left: &[f32], from: usize, rate_hz: f64) -> Partials {
    let length = ((note.frame_s * rate_hz).round() as usize).next_multiple_of(2);
    let mut reader = FrameReader::new(length, rate_hz);
    let mut note = note.clone();
    let (start_s, hop_s) = (note.start_s, note.hop_s);
    let first_of = |track_s: f64| ((track_s - start_s) / hop_s).round() as usize;
    let steps = note.tracks.iter().map(|track| first_of(track.start_s) + track.points.len()).max();
    let mut turns: Vec<Vec<f64>> = vec![Vec::new(); note.tracks.len()];
    for step in 0..steps.unwrap_or(0) {
        let time_s = start_s + step as f64 * hop_s;
        let middle = (time_s * rate_hz).round();
        reader.take(left, middle as i64 - from as i64 - length as i64 / 2);
        for (track, turns) in note.tracks.iter_mut().zip(&mut turns) {
            let k = step.checked_sub(first_of(track.start_s));
            let Some(point) = k.and_then(|k| track.points.get_mut(k)) else { continue };
            let since_s = time_s - middle / rate_hz;
            let rest = reader.amplitude_at(point.frequency_hz)
                * Complex64::cis(TAU * point.frequency_hz * since_s - point.phase_rad);
            let whole = point.amplitude + rest;
            point.amplitude = whole.norm().max(1e-15);
            point.phase_rad += whole.arg();
            turns.push(whole.arg());
        }
    }
    // Frequencies follow the phases.
    for (track, turns) in note.tracks.iter_mut().zip(turns) {
        for (n, point) in track.points.iter_mut().enumerate() {
            let (a, b) = (n.saturating_sub(1), (n + 1).min(turns.len() - 1));
            let lasts_s = ((b - a) as f64 * hop_s).max(hop_s);
            point.frequency_hz += (turns[b] - turns[a]) / (TAU * lasts_s);
        }
    }
    note
}
