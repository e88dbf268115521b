//! What is written of chords and phrases.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::notate::{
    CHORD_AFTER_S, CHORD_BEFORE_S, NotateSettings, Notation, StaffPitch, Steps, notate_chord,
    notate_phrase,
};
use tonemap_core::pitch::{PitchSettings, pitch};
use tonemap_core::synth::{Vibrato, fade, harmonics, render, to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] =
    &[chords_are_written_as_they_sound, phrases_are_written_note_by_note];

const RATE_HZ: f64 = 48_000.0;
const STEPS: [Steps; 3] = [Steps::Semitone, Steps::Quarter, Steps::Eighth];

/// Partials that decay, no two nearer than a whole tone and 40 Hz: frequency, amplitude, T60.
fn partials(random: &mut ChaCha8Rng) -> Vec<(f64, f64, f64)> {
    let mut all: Vec<(f64, f64, f64)> = Vec::new();
    let count = random.random_range(3..=8);
    while all.len() < count {
        let hz = 90.0 * 70f64.powf(random.random_range(0.0..1.0));
        let is_apart = |other: f64| (hz - other).abs() > 40.0 && (hz / other).log2().abs() > 0.17;
        if all.iter().all(|(other, ..)| is_apart(*other)) {
            let amplitude = 10f64.powf(random.random_range(-1.7..-0.7));
            all.push((hz, amplitude, random.random_range(1.0..8.0)));
        }
    }
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all
}

/// The notes of a chord and the truth of each.
fn chord(seed: u64) -> (Notation, Vec<(f64, f64, f64)>, NotateSettings) {
    let mut random = ChaCha8Rng::seed_from_u64(seed + 31_000);
    let truth = partials(&mut random);
    let settings = NotateSettings {
        steps: STEPS[seed as usize % 3],
        reference_hz: random.random_range(430.0..450.0),
        ..NotateSettings::default()
    };
    let at_s = random.random_range(0.2..1.0);
    let first = ((at_s - CHORD_BEFORE_S) * RATE_HZ) as usize;
    let count = ((CHORD_BEFORE_S + CHORD_AFTER_S) * RATE_HZ) as usize;
    let noise = white_noise(7 * seed + 5, 1e-4, count);
    let phases: Vec<f64> = truth.iter().map(|_| random.random_range(0.0..TAU)).collect();
    let sample = |(n, noise): (usize, f64)| {
        let t = (first + n) as f64 / RATE_HZ;
        let tones = truth.iter().zip(&phases).map(|((hz, amplitude, t60_s), phase)| {
            amplitude * 10f64.powf(-3.0 * t / t60_s) * (TAU * hz * t + phase).cos()
        });
        noise + tones.sum::<f64>()
    };
    let sound: Vec<f64> = noise.into_iter().enumerate().map(sample).collect();
    let start_s = first as f64 / RATE_HZ;
    let found = notate_chord(&to_samples(&sound), RATE_HZ, start_s, &settings).expect("written");
    (found, truth, settings)
}

#[test]
fn chords_are_written_as_they_sound() {
    let found = in_parallel(trials(60, 300), chord);
    let mut cents = Accuracy::new("notate: tones of a chord", "cents");
    let (mut wrong, mut missed) = (0, 0);
    for (notation, truth, settings) in &found {
        for (hz, ..) in truth {
            let away = |note: f64| 1200.0 * (note / hz).log2();
            let nearest = notation
                .notes
                .iter()
                .find(|note| note.f0_hz.is_some_and(|found| away(found.value).abs() < 30.0));
            let Some(note) = nearest else {
                missed += 1;
                continue;
            };
            let f0_hz = note.f0_hz.expect("a frequency");
            cents.add(away(f0_hz.value), 1200.0 / std::f64::consts::LN_2 * f0_hz.u / f0_hz.value);
            let (pitch, left) =
                StaffPitch::nearest(*hz, settings.reference_hz, settings.steps).expect("one");
            // On the border between two steps either is right.
            let is_clear = left.abs() < 0.5 * settings.steps.cents() - 0.5;
            wrong += usize::from(is_clear && pitch != note.pitch);
        }
        let false_ones = notation.notes.len().saturating_sub(truth.len());
        assert_eq!(false_ones, 0, "{:?}", notation.notes);
    }
    println!("{wrong} written wrong, {missed} missed");
    assert_eq!((wrong, missed), (0, 0));
    cents.hold(0.03);
}

#[test]
fn phrases_are_written_note_by_note() {
    let found = in_parallel(trials(30, 150), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 32_000);
        let settings = NotateSettings { steps: STEPS[seed as usize % 3], ..Default::default() };
        let mut sound = white_noise(11 * seed + 3, 1e-5, (4.0 * RATE_HZ) as usize);
        let mut truth = Vec::new();
        for n in 0..5 {
            let hz = 150.0 * 5f64.powf(random.random_range(0.0..1.0));
            let level_db = random.random_range(-24.0..0.0);
            let amplitude = 0.3 * 10f64.powf(level_db / 20.0);
            let amplitudes = [1.0, 0.5, 0.3, 0.2].map(|a| a * amplitude);
            let vibrato = Vibrato { rate_hz: 5.0, depth_cents: 0.0 };
            let mut note = render(&harmonics(hz, &amplitudes), vibrato, RATE_HZ, 0.5);
            fade(&mut note, 0.02, RATE_HZ);
            // With a rest between, or one right after the other.
            let apart_s = if seed % 2 == 0 { 0.75 } else { 0.51 };
            let start = ((0.2 + apart_s * f64::from(n)) * RATE_HZ) as usize;
            sound[start..].iter_mut().zip(note).for_each(|(x, note)| *x += note);
            truth.push((start as f64 / RATE_HZ, hz, level_db));
        }
        let sound = to_samples(&sound);
        let pitch = pitch(&sound, RATE_HZ, &PitchSettings::default()).expect("pitch");
        (notate_phrase(&pitch, &sound, RATE_HZ, 0.0, &settings).expect("written"), truth, settings)
    });
    let mut cents = Accuracy::new("notate: notes of a phrase", "cents");
    let mut velocity = Accuracy::new("notate: velocity against 96·10^(L/40)", "");
    for (notation, truth, settings) in &found {
        let written: Vec<_> = notation
            .notes
            .iter()
            .map(|n| (n.start_s, n.end_s, n.f0_hz.map(|f| f.value), n.level_db))
            .collect();
        assert_eq!(written.len(), truth.len(), "{truth:?} {written:?}");
        let loudest = truth.iter().map(|(.., db)| *db).fold(f64::NEG_INFINITY, f64::max);
        for (note, (start_s, hz, level_db)) in notation.notes.iter().zip(truth) {
            assert!((note.start_s - start_s).abs() < 0.05, "{} {start_s}", note.start_s);
            let f0_hz = note.f0_hz.expect("a frequency");
            let left = note.cents.expect("cents").value;
            let written_hz = note.pitch.frequency_hz(settings.reference_hz);
            cents.add(
                left - 1200.0 * (hz / written_hz).log2(),
                1200.0 / std::f64::consts::LN_2 * f0_hz.u / f0_hz.value,
            );
            let wanted = 96.0 * 10f64.powf((level_db - loudest) / 40.0);
            velocity.add_bare(f64::from(note.velocity) - wanted);
        }
    }
    cents.hold(0.05);
    velocity.hold_worst(2.0);
}
