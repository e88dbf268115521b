//! A note that is struck or plucked, as a microphone hears it, through every analysis that takes a
//! note.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::partials::{PartialsSettings, partials};
use tonemap_core::pitch::{PitchSettings, pitch};
use tonemap_core::synth::{
    PluckedString, StruckUnison, Vibrato, fade, harmonics, mix, render, room, to_samples,
};
use tonemap_core::timbre::{TimbreSettings, timbre};
use tonemap_core::units::cents_between;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    a_struck_note_is_one_note,
    a_string_struck_again_is_another_note,
    the_partials_of_a_struck_note_are_there,
    the_attack_of_a_struck_note_is_told,
    notes_begin_within_the_uncertainty_of_their_onset,
];

const RATE_HZ: f64 = 48_000.0;

/// A note of a piano, harp or guitar as a microphone hears it: one to three strings, a prompt sound
/// and an aftersound, a knock, in a room with rumble and hum.
fn struck(random: &mut ChaCha8Rng, f0_hz: f64) -> StruckUnison {
    // Treble strings die sooner, are stiffer and have fewer partials.
    let height = (f0_hz / 27.5).log2() / 7.0;
    let partials = (40.0 * (1.0 - height)).max(2.0) as u32;
    StruckUnison {
        string: PluckedString {
            frequency_hz: f0_hz,
            inharmonicity: 1e-4 * (8.0 * (height - 0.4).max(0.0)).exp2(),
            pluck_position: random.random_range(0.1..0.4),
            t60_s: 12.0 * (-4.0 * height).exp2() * random.random_range(0.7..1.4),
            damping: 0.15,
            amplitude: 0.1,
            partials,
        },
        strings: random.random_range(1..=3),
        spread_cents: random.random_range(0.0..2.0),
        aftersound_db: random.random_range(-25.0..-10.0),
        aftersound_lasts: random.random_range(2.0..4.0),
        rise_s: random.random_range(0.001..0.008),
        knock_db: random.random_range(-40.0..-15.0),
        knock_hz: random.random_range(80.0..1200.0),
    }
}

/// Of the lowest note of a piano to one of the top octave.
fn any_f0_hz(random: &mut ChaCha8Rng) -> f64 {
    27.5 * random.random_range(0.0..6.8f64).exp2()
}

/// The note in its room, and when it begins.
fn heard(random: &mut ChaCha8Rng, seed: u64, note: &StruckUnison) -> (f64, Vec<f64>) {
    let noise_db = random.random_range(-90.0..-70.0f64);
    let rms = 0.1 * 10f64.powf(noise_db / 20.0);
    let (rumble_db, hum_db) = (random.random_range(0.0..20.0), random.random_range(-10.0..15.0));
    let mut sound = room(seed, rms, rumble_db, hum_db, RATE_HZ, (4.0 * RATE_HZ) as usize);
    let onset_s = random.random_range(0.2..0.5);
    let start = (onset_s * RATE_HZ) as usize;
    mix(&mut sound[start..], &note.render(seed, RATE_HZ, 4.0 - onset_s));
    (onset_s, sound)
}

/// A struck note is one note, begins with the stroke, and is read at its pitch, whatever its strings
/// beat, the room rumbles and the case knocks.
#[test]
pub(crate) fn a_struck_note_is_one_note() {
    let found = in_parallel(trials(40, 400), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x570 + case);
        let f0_hz = any_f0_hz(&mut random);
        let note = struck(&mut random, f0_hz);
        let (onset_s, sound) = heard(&mut random, case, &note);
        let notes = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        let notes = notes.expect("settings").notes;
        let is_one = notes.len() == 1;
        let begins = notes.first().is_some_and(|n| (n.start_s - onset_s).abs() < 0.015);
        let longest =
            notes.iter().max_by(|a, b| (a.end_s - a.start_s).total_cmp(&(b.end_s - b.start_s)));
        let is_right = longest.is_some_and(|n| cents_between(f0_hz, n.f0_hz).abs() < 50.0);
        if !(is_one && begins && is_right) {
            println!(
                "{case}: {f0_hz:.1} Hz, {} notes, first {:?} (truth {onset_s:.3}), f0 {:?}",
                notes.len(),
                notes.first().map(|n| n.start_s),
                longest.map(|n| n.f0_hz)
            );
        }
        [is_one, begins, is_right]
    });
    let count = |which: usize| found.iter().filter(|of| of[which]).count();
    let all = found.len();
    let (one, begun, right) = (count(0), count(1), count(2));
    println!(
        "struck notes, {all}: {one} are one note, {begun} begin within 15 ms, {right} at their pitch"
    );
    assert!([one, begun, right].iter().all(|count| 100 * count >= 97 * all));
}

/// A string struck again, softer or louder, while it sounds, is another note; its beats are none.
#[test]
pub(crate) fn a_string_struck_again_is_another_note() {
    let found = in_parallel(trials(20, 150), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x9e1 + case);
        let f0_hz = 55.0 * random.random_range(0.0..5.0f64).exp2();
        let note = struck(&mut random, f0_hz);
        let samples = (5.0 * RATE_HZ) as usize;
        let mut sound = room(case, 3e-6, 15.0, 0.0, RATE_HZ, samples);
        let mut onsets_s = vec![0.3];
        while onsets_s[onsets_s.len() - 1] < 3.0 {
            onsets_s.push(onsets_s[onsets_s.len() - 1] + random.random_range(0.2..0.9));
        }
        let rings = case % 2 == 0;
        for (n, onset_s) in onsets_s.iter().enumerate() {
            let start = (onset_s * RATE_HZ) as usize;
            let gain = 10f64.powf(random.random_range(-8.0..0.0) / 20.0);
            let mut again = note.render(case * 100 + n as u64, RATE_HZ, 5.0 - onset_s);
            if let Some(next_s) = onsets_s.get(n + 1).filter(|_| !rings) {
                // The damper falls within 20 ms.
                let from = ((next_s - onset_s - 0.01) * RATE_HZ) as usize;
                for (k, x) in again[from..].iter_mut().enumerate() {
                    *x *= (1.0 - k as f64 / (0.02 * RATE_HZ)).max(0.0);
                }
            }
            for x in &mut again {
                *x *= gain;
            }
            mix(&mut sound[start..], &again);
        }
        let found = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        let starts: Vec<f64> =
            found.expect("settings").notes.iter().map(|note| note.start_s).collect();
        let near = |all: &[f64], time_s: f64| all.iter().any(|s| (s - time_s).abs() < 0.05);
        let met = onsets_s.iter().filter(|time_s| near(&starts, **time_s)).count();
        let false_ones = starts.iter().filter(|time_s| !near(&onsets_s, **time_s)).count();
        [onsets_s.len(), met, false_ones]
    });
    let sum = |which: usize| found.iter().map(|of| of[which]).sum::<usize>();
    let (all, met, false_ones) = (sum(0), sum(1), sum(2));
    println!("strings struck again: {met} of {all} notes within 50 ms, {false_ones} false");
    assert!(100 * met >= 98 * all && 100 * false_ones <= all);
}

/// The lowest partials are there and where the middle of their strings is, F and B as well.
#[test]
pub(crate) fn the_partials_of_a_struck_note_are_there() {
    const LOWEST: usize = 6;
    let found = in_parallel(trials(120, 300), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x9a27 + case);
        let f0_hz = 27.5 * random.random_range(0.0..5.5f64).exp2();
        let note = struck(&mut random, f0_hz);
        let (_, sound) = heard(&mut random, case, &note);
        let found = partials(&to_samples(&sound), RATE_HZ, 0.0, &PartialsSettings::default())
            .expect("followed");
        // One string is the first of those that spread to either side.
        let off_cents = if note.strings == 1 { -0.5 * note.spread_cents } else { 0.0 };
        let truth = note.string.truth();
        let loudest = truth.iter().map(|p| p.amplitude.abs()).fold(0.0, f64::max);
        let lowest: Vec<_> = (truth.iter().take(LOWEST).enumerate())
            .filter(|(_, p)| p.amplitude.abs() > 0.03 * loudest)
            .map(|(n, p)| (p.frequency_hz, found.partials.iter().find(|q| q.number == n + 1)))
            .collect();
        let missing = lowest.iter().filter(|(_, partial)| partial.is_none()).count();
        if missing > 0 {
            println!("{case}: {f0_hz:.1} Hz: {missing} of {} are missing", lowest.len());
        }
        let cents: Vec<f64> = (lowest.iter())
            .filter_map(|(hz, partial)| {
                partial.map(|partial| cents_between(*hz, partial.frequency_hz) - off_cents)
            })
            .collect();
        let b = found.inharmonicity.filter(|_| found.partials.len() >= 8);
        let b = b.map(|b| 100.0 * (b.value / note.string.inharmonicity - 1.0));
        (lowest.len(), missing, cents, b)
    });
    let all: usize = found.iter().map(|of| of.0).sum();
    let missing: usize = found.iter().map(|of| of.1).sum();
    println!("partials 1 to {LOWEST} of struck notes: {missing} of {all} are missing");
    assert!(100 * missing <= all);
    let cents = found.iter().flat_map(|of| of.2.iter().copied());
    Accuracy::all_bare("partials of struck unisons from their middle", "cents", cents).hold(0.6);
    let b = found.iter().filter_map(|of| of.3);
    Accuracy::all_bare("B of struck unisons", "%", b).hold(5.0);
}

/// The attack is given for every stroke: within a factor of two, or as the bound that a period sets.
#[test]
pub(crate) fn the_attack_of_a_struck_note_is_told() {
    let found = in_parallel(trials(60, 300), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0xa77a + case);
        let f0_hz = 55.0 * random.random_range(0.0..5.0f64).exp2();
        let note = struck(&mut random, f0_hz);
        let (_, sound) = heard(&mut random, case, &note);
        let found = timbre(&to_samples(&sound), RATE_HZ, 0.0, &TimbreSettings::default());
        let Some(rise) = found.expect("measured").rise else { return [false; 2] };
        let of = rise.duration_s;
        let is_near = (0.5..2.0).contains(&(of.value / note.rise_s))
            || (of.value - note.rise_s).abs() < 2.0 * of.u;
        if !is_near {
            let ms = 1e3;
            println!(
                "{case}: {f0_hz:.1} Hz: {:.2} ± {:.2} ms for {:.2} ms",
                ms * of.value,
                ms * of.u,
                ms * note.rise_s
            );
        }
        [true, is_near]
    });
    let count = |which: usize| found.iter().filter(|of| of[which]).count();
    println!("attacks of {} struck notes: {} given, {} right", found.len(), count(0), count(1));
    assert!(100 * count(0) >= 98 * found.len() && 100 * count(1) >= 90 * found.len());
}

/// Plucked, struck and blown notes of any pitch begin when they do, as well as is said.
#[test]
pub(crate) fn notes_begin_within_the_uncertainty_of_their_onset() {
    let found = in_parallel(trials(240, 1200), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x0a5e7 + case);
        let f0_hz = any_f0_hz(&mut random);
        let note = struck(&mut random, f0_hz);
        let noise_db = random.random_range(-80.0..-40.0f64);
        let rms = 0.1 * 10f64.powf(noise_db / 20.0);
        let mut sound = room(case, rms, 5.0, 0.0, RATE_HZ, (2.0 * RATE_HZ) as usize);
        let onset_s = random.random_range(0.2..0.5);
        let start = (onset_s * RATE_HZ) as usize;
        let lasts_s = 1.8 - onset_s;
        let rise_s = 0.004 * random.random_range(0.0..4.0f64).exp2();
        let voice = match case % 3 {
            0 => note.render(case, RATE_HZ, lasts_s),
            1 => note.string.render(RATE_HZ, lasts_s),
            _ => {
                let amplitudes: Vec<f64> = (1..13).map(|n| 0.1 / f64::from(n)).collect();
                let tone = harmonics(f0_hz, &amplitudes);
                let mut tone = render(&tone, Vibrato::default(), RATE_HZ, lasts_s);
                fade(&mut tone, rise_s, RATE_HZ);
                tone
            }
        };
        mix(&mut sound[start..], &voice);
        let notes = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        let note = notes.expect("settings").notes.into_iter().find(|n| n.end_s > onset_s + 0.1)?;
        let u = note.start_s_u?;
        Some((note.start_s - onset_s, u))
    });
    let known: Vec<(f64, f64)> = found.iter().copied().flatten().collect();
    println!("notes that begin with an onset: {} of {}", known.len(), found.len());
    assert!(10 * known.len() >= 9 * found.len());
    Accuracy::all("beginning of a note by its onset", "s", known).hold(0.01);
}
