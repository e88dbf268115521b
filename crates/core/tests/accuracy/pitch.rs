//! The fundamental over time against known truth.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::pitch::{Pitch, PitchSettings, PitchTracker, pitch};
use tonemap_core::synth::{
    Partial, PluckedString, Vibrato, coloured_noise, harmonics, mix, render, to_samples,
    white_noise,
};
use tonemap_core::units::cents_between;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    no_octave_is_wrong,
    steady_notes_are_exact_and_their_uncertainty_covers,
    a_note_that_comes_back_out_of_a_silence_is_another,
    vibrato_and_glide_are_followed,
    vibrato_and_glide_of_low_notes_are_followed,
];

const RATE_HZ: f64 = 48_000.0;

/// What is wrong or hard about a note.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Class {
    Plain,
    Missing,
    Weak,
    OddOnly,
    Strongest,
    Stiff,
    Vibrato,
    Glide,
    Rests,
    Reverberant,
}

const CLASSES: [Class; 10] = [
    Class::Plain,
    Class::Missing,
    Class::Weak,
    Class::OddOnly,
    Class::Strongest,
    Class::Stiff,
    Class::Vibrato,
    Class::Glide,
    Class::Rests,
    Class::Reverberant,
];

/// A sound whose fundamental is known at each time; 0 where there is none.
struct Known {
    sound: Vec<f64>,
    f0_hz: Vec<f64>,
}

impl Known {
    fn at(&self, time_s: f64) -> f64 {
        self.f0_hz.get((time_s * RATE_HZ).round() as usize).copied().unwrap_or(0.0)
    }
}

/// A note from A0 to C8, or a few, of a class.
fn known(class: Class, rng: &mut ChaCha8Rng) -> Known {
    let semitone = rng.random_range(0.0..87.0);
    let note_hz = 27.5 * f64::exp2(semitone / 12.0);
    let duration_s = 1.2;
    let count = (duration_s * RATE_HZ) as usize;
    let (rate, depth, glide) =
        (rng.random_range(4.5..7.0), rng.random_range(10.0..60.0), rng.random_range(-1.0..1.0));
    let times_on: &[(f64, f64)] = match class {
        Class::Rests => &[(0.1, 0.4), (0.6, 0.8), (0.95, 1.15)],
        _ => &[(0.15, 1.05)],
    };
    let mut f0_hz = vec![0.0; count];
    let mut envelope = vec![0.0; count];
    for (n, (hz, gain)) in f0_hz.iter_mut().zip(&mut envelope).enumerate() {
        let t = n as f64 / RATE_HZ;
        let on = times_on.iter().find(|(from, to)| (*from..*to).contains(&t));
        if let Some((from, to)) = on {
            *hz = note_hz
                * match class {
                    Class::Vibrato => f64::exp2(depth / 1200.0 * (TAU * rate * t).sin()),
                    Class::Glide => f64::exp2(glide * (t - 0.6)),
                    _ => 1.0,
                };
            *gain = ((t - from) / 0.008).min((to - t) / 0.008).min(1.0);
        }
    }
    let b = if class == Class::Stiff { 10f64.powf(rng.random_range(-5.0..-2.7)) } else { 0.0 };
    let partials: usize = rng.random_range(6..25);
    let slope: f64 = rng.random_range(0.6..1.6);
    let strongest: usize = rng.random_range(2..7);
    let mut sound = vec![0.0; count];
    for n in 1..=partials {
        let number = n as f64;
        let stretch = number * (1.0 + b * number * number).sqrt() / (1.0 + b).sqrt();
        let mut amplitude = number.powf(-slope) * rng.random_range(0.5..1.5);
        match class {
            Class::Missing if n == 1 => amplitude = 0.0,
            Class::Weak if n == 1 => amplitude *= 0.02,
            Class::OddOnly if n % 2 == 0 => amplitude = 0.0,
            Class::Strongest if n == strongest => amplitude = 2.5,
            _ => (),
        }
        let mut phase = rng.random_range(0.0..TAU);
        for ((x, hz), gain) in sound.iter_mut().zip(&f0_hz).zip(&envelope) {
            phase += TAU * hz * stretch / RATE_HZ;
            if hz * stretch < 0.45 * RATE_HZ {
                *x += amplitude * gain * phase.sin();
            }
        }
    }
    if class == Class::Reverberant {
        reverberate(&mut sound, rng.random());
    }
    let power = sound.iter().map(|x| x * x).sum::<f64>()
        / f0_hz.iter().filter(|hz| **hz > 0.0).count() as f64;
    let scale = 0.1 / power.sqrt();
    for x in &mut sound {
        *x *= scale;
    }
    Known { sound, f0_hz }
}

/// The sound in a room: what comes straight, and echoes that grow denser and die away within a
/// second.
fn reverberate(sound: &mut [f64], seed: u64) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let dry = sound.to_vec();
    for n in 0..160 {
        let delay_s = 0.008 + 0.35 * f64::from(n) / 160.0 + rng.random_range(0.0..0.002);
        let gain = 0.22 * 10f64.powf(-3.0 * delay_s / 0.7) * rng.random_range(-1.0..1.0);
        let delay = (delay_s * RATE_HZ) as usize;
        for (x, echo) in sound[delay..].iter_mut().zip(&dry) {
            *x += gain * echo;
        }
    }
}

/// Counts of frames, and of notes read an octave or more off.
#[derive(Debug, Clone, Copy, Default)]
struct Score {
    frames: usize,
    voiced: usize,
    gross: usize,
    voicing: usize,
    octaves: usize,
    notes: usize,
}

impl Score {
    fn add(&mut self, known: &Known, found: &Pitch, reverberant: bool) {
        let mut off = Vec::new();
        for point in &found.track {
            let truth = known.at(point.time_s);
            // In a room a note sounds on after it has ended.
            if reverberant && truth == 0.0 && point.time_s > 0.6 {
                continue;
            }
            self.frames += 1;
            self.voicing += usize::from((truth > 0.0) != point.voiced);
            if let (true, Some(f0_hz)) = (truth > 0.0, point.f0_hz) {
                self.voiced += 1;
                let cents = cents_between(truth, f0_hz);
                self.gross += usize::from(cents.abs() > 50.0);
                off.push(cents.abs());
            }
        }
        off.sort_by(f64::total_cmp);
        self.notes += 1;
        self.octaves += usize::from(off.get(off.len() / 2).is_none_or(|cents| *cents > 600.0));
    }

    /// Both together.
    fn with(self, other: Self) -> Self {
        Self {
            frames: self.frames + other.frames,
            voiced: self.voiced + other.voiced,
            gross: self.gross + other.gross,
            voicing: self.voicing + other.voicing,
            octaves: self.octaves + other.octaves,
            notes: self.notes + other.notes,
        }
    }

    fn percent(part: usize, all: usize) -> f64 {
        100.0 * part as f64 / all.max(1) as f64
    }

    fn columns(&self) -> String {
        format!("{:>9.2}{:>7.2}{:>4}", self.gross_percent(), self.voicing_percent(), self.octaves)
    }

    fn gross_percent(&self) -> f64 {
        Self::percent(self.gross, self.voiced)
    }

    fn voicing_percent(&self) -> f64 {
        Self::percent(self.voicing, self.frames)
    }
}

fn scored(class: Class, snr_db: f64, notes: u64) -> Score {
    let of_notes = in_parallel(notes, |note| {
        let mut rng = ChaCha8Rng::seed_from_u64(1000 * (100 + note) + class as u64);
        let known = known(class, &mut rng);
        let mut sound = known.sound.clone();
        let noise = white_noise(rng.random(), 0.1 * 10f64.powf(-snr_db / 20.0), sound.len());
        mix(&mut sound, &noise);
        let found =
            pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default()).expect("followed");
        let mut score = Score::default();
        score.add(&known, &found, class == Class::Reverberant);
        score
    });
    of_notes.into_iter().fold(Score::default(), Score::with)
}

#[test]
pub(crate) fn no_octave_is_wrong() {
    println!("gross errors and voicing errors in % of frames, octaves wrong in notes");
    println!(
        "{:<14}{:>20}{:>20}{:>20}{:>20}{:>20}",
        "", "60 dB", "40 dB", "20 dB", "10 dB", "0 dB"
    );
    let mut totals = [Score::default(); 5];
    for class in CLASSES {
        let scores =
            [60.0, 40.0, 20.0, 10.0, 0.0].map(|snr_db| scored(class, snr_db, trials(12, 24)));
        let columns: Vec<String> = scores.iter().map(Score::columns).collect();
        println!("{:<14}{}", format!("{class:?}"), columns.concat());
        for (total, score) in totals.iter_mut().zip(scores) {
            *total = total.with(score);
        }
    }
    let columns: Vec<String> = totals.iter().map(Score::columns).collect();
    println!("{:<14}{}", "all", columns.concat());
    for total in &totals[..3] {
        assert_eq!(total.octaves, 0);
        assert!(total.gross_percent() <= 0.2, "{total:?}");
        assert!(total.voicing_percent() <= 2.0, "{total:?}");
    }
    assert!(totals[3].gross_percent() <= 1.0, "{:?}", totals[3]);
}

#[test]
fn what_has_no_pitch_is_unvoiced() {
    let seconds = 20.0;
    let count = (seconds * RATE_HZ) as usize;
    let mut clicks = vec![0.0; count];
    for x in clicks.iter_mut().step_by(4800) {
        *x = 0.8;
    }
    let pink = {
        let mut sum = vec![0.0; count];
        for octave in 0..10 {
            let hz = 20.0 * f64::exp2(f64::from(octave));
            mix(
                &mut sum,
                &coloured_noise(u64::from(octave as u32) + 5, 0.03, hz, 0.8, RATE_HZ, count),
            );
        }
        sum
    };
    for (name, sound) in [
        ("white noise", white_noise(3, 0.1, count)),
        ("pink noise", pink),
        ("clicks 10 a second", clicks),
        ("silence", vec![0.0; count]),
    ] {
        let found =
            pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default()).expect("followed");
        let voiced = found.track.iter().filter(|point| point.voiced).count();
        let percent = Score::percent(voiced, found.track.len());
        println!("{name}: {percent:.2} % of frames voiced");
        assert!(percent <= 1.0, "{name}: {percent}");
    }
}

/// A note of harmonics with an unhurried start and end.
fn steady(
    f0_hz: f64,
    rng: &mut ChaCha8Rng,
    f0_at: impl Fn(f64) -> f64,
    duration_s: f64,
) -> Vec<f64> {
    let count = (duration_s * RATE_HZ) as usize;
    let partials: usize = rng.random_range(4..16);
    let slope: f64 = rng.random_range(0.6..1.6);
    let mut sound = vec![0.0; count];
    for n in 1..=partials {
        let number = n as f64;
        if number * f0_hz > 0.42 * RATE_HZ {
            break;
        }
        let amplitude = number.powf(-slope);
        let mut phase = rng.random_range(0.0..TAU);
        for (m, x) in sound.iter_mut().enumerate() {
            phase += TAU * number * f0_at(m as f64 / RATE_HZ) / RATE_HZ;
            *x += amplitude * phase.sin();
        }
    }
    let power = sound.iter().map(|x| x * x).sum::<f64>() / count as f64;
    let scale = 0.1 / power.sqrt();
    sound.iter().map(|x| scale * x).collect()
}

#[test]
pub(crate) fn steady_notes_are_exact_and_their_uncertainty_covers() {
    let cents_of = |hz: f64, at_hz: f64| 1200.0 / std::f64::consts::LN_2 * hz / at_hz;
    let notes = in_parallel(trials(160, 320), |seed| {
        let mut rng = ChaCha8Rng::seed_from_u64(7000 + seed);
        let f0_hz = 27.5 * f64::exp2(rng.random_range(0.0..7.25));
        let mut sound = steady(f0_hz, &mut rng, |_| f0_hz, 1.0);
        let mut loud = sound.clone();
        let noise = white_noise(rng.random(), 0.001, sound.len());
        mix(&mut sound, &noise);
        mix(&mut loud, &noise.iter().map(|x| 10.0 * x).collect::<Vec<_>>());
        let [found, noisy] = [sound, loud].map(|sound| {
            pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default()).expect("followed")
        });
        let frames = [&found, &noisy].map(|found| {
            let inner = found.track.iter().filter(|point| (0.1..0.9).contains(&point.time_s));
            let known = inner.filter_map(|point| point.f0_hz.zip(point.f0_hz_u));
            known.map(|(hz, u)| (cents_between(f0_hz, hz), cents_of(u, f0_hz))).collect::<Vec<_>>()
        });
        assert_eq!(found.notes.len(), 1, "seed {seed}, {f0_hz} Hz: {:?}", found.notes);
        let note = &found.notes[0];
        ((cents_between(f0_hz, note.f0_hz), cents_of(note.f0_hz_u, f0_hz)), frames)
    });
    let of_notes = notes.iter().map(|(note, _)| *note);
    Accuracy::all("f0 of a steady note A0 to A7 at 40 dB", "cents", of_notes).hold(0.022);
    for (n, snr_db) in [40, 20].into_iter().enumerate() {
        let frames = notes.iter().flat_map(|(_, frames)| frames[n].clone());
        let name = format!("f0 of single frames of a steady note at {snr_db} dB");
        Accuracy::all(name, "cents", frames).hold([0.13, 1.0][n]);
    }
}

/// Two notes of nearly one pitch with a silence between are two, however soft the second.
#[test]
pub(crate) fn a_note_that_comes_back_out_of_a_silence_is_another() {
    let found = in_parallel(trials(40, 200), |seed| {
        let mut rng = ChaCha8Rng::seed_from_u64(44_000 + seed);
        let f0_hz = 110.0 * f64::exp2(rng.random_range(0.0..3.0));
        let again_hz = f0_hz * f64::exp2(rng.random_range(-40.0..40.0) / 1200.0);
        let softer = 10f64.powf(rng.random_range(-20.0..0.0) / 20.0);
        let silent_s = rng.random_range(0.15..0.6);
        let mut sound = vec![0.0; (0.2 * RATE_HZ) as usize];
        for (hz, factor) in [(f0_hz, 1.0), (again_hz, softer)] {
            let mut note = steady(hz, &mut rng, |_| hz, 0.5);
            tonemap_core::synth::fade(&mut note, 0.02, RATE_HZ);
            sound.extend(note.iter().map(|x| factor * x));
            sound.extend(vec![0.0; (silent_s * RATE_HZ) as usize]);
        }
        let noise = white_noise(rng.random(), 1e-5, sound.len());
        mix(&mut sound, &noise);
        pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default())
            .expect("followed")
            .notes
            .len()
    });
    let right = found.iter().filter(|notes| **notes == 2).count();
    println!("{right} of {} come back as notes of their own", found.len());
    assert_eq!(right, found.len(), "{found:?}");
}

/// By how much, in percent, the rate and the depth of a vibrato of 5.5 Hz and 30 cents are found off,
/// and by how many cents the frames of a glide of an octave a second.
fn moving_note(seed: u64, lowest_hz: f64, octaves: f64) -> (f64, f64, Vec<f64>) {
    let mut rng = ChaCha8Rng::seed_from_u64(9000 + seed);
    let f0_hz = lowest_hz * f64::exp2(rng.random_range(0.0..octaves));
    let wavering = |t: f64| f0_hz * f64::exp2(30.0 / 1200.0 * (TAU * 5.5 * t).sin());
    let mut sound = steady(f0_hz, &mut rng, wavering, 2.0);
    let noise = white_noise(rng.random(), 0.001, sound.len());
    mix(&mut sound, &noise);
    let found = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default()).expect("followed");
    let vibrato = found.notes[0].vibrato;
    let rate = vibrato.vibrato_rate_hz.expect("a vibrato");
    let depth = vibrato.vibrato_depth_cents.expect("a vibrato");
    let gliding = |t: f64| f0_hz * f64::exp2(t - 0.5);
    let sound = to_samples(&steady(f0_hz, &mut rng, gliding, 1.0));
    let found = pitch(&sound, RATE_HZ, &PitchSettings::default()).expect("followed");
    // The first and last frames hang over the ends.
    let inner = found.track.iter().filter(|point| (0.06..0.94).contains(&point.time_s));
    let of_glide = inner.filter_map(|point| {
        point.f0_hz.map(|found_hz| cents_between(gliding(point.time_s), found_hz))
    });
    (100.0 * (rate / 5.5 - 1.0), 100.0 * (depth / 30.0 - 1.0), of_glide.collect())
}

#[test]
pub(crate) fn vibrato_and_glide_are_followed() {
    let notes = in_parallel(trials(24, 48), |seed| moving_note(seed, 110.0, 4.0));
    let (rates, depths) = (notes.iter().map(|n| n.0), notes.iter().map(|n| n.1));
    Accuracy::all_bare("rate of a vibrato of 30 cents", "%", rates).hold(0.0034);
    Accuracy::all_bare("depth of a vibrato of 30 cents", "%", depths).hold(0.39);
    let glide: Vec<f64> = notes.iter().flat_map(|note| note.2.clone()).collect();
    assert!(glide.len() > 75 * notes.len(), "{}", glide.len());
    Accuracy::all_bare("f0 of a glide of an octave a second", "cents", glide).hold(0.26);
}

#[test]
pub(crate) fn vibrato_and_glide_of_low_notes_are_followed() {
    let notes = in_parallel(trials(24, 48), |seed| moving_note(200 + seed, 55.0, 1.0));
    let (rates, depths) = (notes.iter().map(|n| n.0), notes.iter().map(|n| n.1));
    Accuracy::all_bare("rate of a vibrato of 30 cents, A1 to A2", "%", rates).hold(0.03);
    Accuracy::all_bare("depth of a vibrato of 30 cents, A1 to A2", "%", depths).hold(5.0);
    let glide: Vec<f64> = notes.iter().flat_map(|note| note.2.clone()).collect();
    Accuracy::all_bare("f0 of a glide of an octave a second, A1 to A2", "cents", glide).hold(1.5);
}

/// A note that dies away into steady noise ends where it is no longer heard, and does not drag on.
#[test]
fn a_long_fade_ends_in_the_noise() {
    for (seed, f0_hz) in [(1, 55.0), (2, 110.0), (3, 220.0), (4, 440.0)] {
        let partials: Vec<Partial> = harmonics(f0_hz, &[0.2, 0.1, 0.06, 0.04])
            .into_iter()
            .map(|partial| Partial { t60_s: 1.0, ..partial })
            .collect();
        let mut sound = render(&partials, Vibrato::default(), RATE_HZ, 4.0);
        let noise = white_noise(seed, 1e-3, sound.len());
        mix(&mut sound, &noise);
        let found =
            pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default()).expect("followed");
        let last = found.track.iter().rev().find(|point| point.voiced).expect("a note");
        // The first partial falls below the noise of its own bin some 1.5 s after the start.
        println!("{f0_hz} Hz with a decay of 1 s into noise: voiced until {:.2} s", last.time_s);
        assert!((0.6..2.2).contains(&last.time_s), "{f0_hz} Hz: {}", last.time_s);
    }
}

/// A string plucked again while it sounds begins a new note; what wavers, beats or clicks does not.
#[test]
fn a_note_struck_anew_is_another_note() {
    let string = |frequency_hz: f64| PluckedString {
        frequency_hz,
        t60_s: 4.0,
        amplitude: 0.1,
        ..PluckedString::default()
    };
    let (mut right, mut all) = (0, 0);
    for seed in 0..30 {
        let mut rng = ChaCha8Rng::seed_from_u64(11_000 + seed);
        let f0_hz = 65.0 * f64::exp2(rng.random_range(0.0..4.0));
        let mut sound = white_noise(seed, 2e-5, 3 * RATE_HZ as usize);
        let times_s = [0.2, rng.random_range(0.5..1.0), rng.random_range(1.3..2.2)];
        for time_s in times_s {
            let (damped, from) = sound.split_at_mut((time_s * RATE_HZ) as usize);
            // The finger stops the string a little before.
            let stopped = 1200.min(damped.len());
            let count = damped.len();
            for (n, x) in damped[count - stopped..].iter_mut().enumerate() {
                *x *= 1.0 - 0.7 * n as f64 / stopped as f64;
            }
            for x in from.iter_mut() {
                *x *= 0.3;
            }
            mix(from, &string(f0_hz).render(RATE_HZ, 3.0 - time_s));
        }
        let found = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        for (note, time_s) in found.expect("followed").notes.iter().zip(times_s) {
            right += u32::from((note.start_s - time_s).abs() < 0.04);
        }
        all += 3;
    }
    println!("plucked again while they sound: {right} of {all} notes within 40 ms");
    assert!(right >= all - 4, "{right} of {all}");
    for seed in 0..20 {
        let mut rng = ChaCha8Rng::seed_from_u64(12_000 + seed);
        let f0_hz = 110.0 * f64::exp2(rng.random_range(0.0..3.0));
        let rate_hz = rng.random_range(0.5..5.0);
        let mut sound = steady(f0_hz, &mut rng, |_| f0_hz, 3.0);
        if seed % 2 == 0 {
            sound[70_000] += 0.5;
        } else {
            for (n, x) in sound.iter_mut().enumerate() {
                *x *= 1.0 + 0.6 * (TAU * rate_hz * n as f64 / RATE_HZ).cos();
            }
        }
        let found = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        assert_eq!(found.expect("followed").notes.len(), 1, "{f0_hz} Hz, {rate_hz} Hz");
    }
}

/// However the samples arrive, the same result.
#[test]
fn blocks_change_nothing() {
    let mut rng = ChaCha8Rng::seed_from_u64(3);
    let sound: Vec<f32> =
        (0..6).flat_map(|_| to_samples(&known(Class::Rests, &mut rng).sound)).collect();
    let whole = pitch(&sound, RATE_HZ, &PitchSettings::default()).expect("followed");
    let mut tracker = PitchTracker::new(PitchSettings::default(), RATE_HZ, 0.0).expect("prepared");
    let mut rest = &sound[..];
    while !rest.is_empty() {
        let (now, later) = rest.split_at(rng.random_range(1..3000).min(rest.len()));
        tracker.push(now);
        rest = later;
    }
    assert_eq!(tracker.finish(), whole);
}

/// Under a formant the strongest harmonics have numbers from 5 to 16: none of them is a low
/// multiple of the fundamental.
#[test]
fn tones_of_one_formant_are_read_at_their_fundamental() {
    let mut random = ChaCha8Rng::seed_from_u64(0x61);
    for case in 0..60 {
        let f0_hz = 85.0 + 70.0 * random.random::<f64>();
        let centre_hz = 600.0 + 1000.0 * random.random::<f64>();
        let width_hz = 120.0 + 280.0 * random.random::<f64>();
        let partials: Vec<Partial> = (1..=30)
            .map(|n| {
                let away = (f64::from(n) * f0_hz - centre_hz) / (width_hz / 2.0);
                Partial {
                    frequency_hz: f64::from(n) * f0_hz,
                    amplitude: 0.1 / (1.0 + away * away).sqrt(),
                    phase_rad: TAU * random.random::<f64>(),
                    t60_s: f64::INFINITY,
                }
            })
            .collect();
        let mut sound = render(&partials, Vibrato::default(), 48_000.0, 0.5);
        mix(&mut sound, &white_noise(case, 1e-4, 24_000));
        let found = pitch(&to_samples(&sound), 48_000.0, &PitchSettings::default());
        let notes = found.expect("settings").notes;
        assert_eq!(notes.len(), 1, "{f0_hz} {centre_hz} {width_hz}");
        let cents = cents_between(f0_hz, notes[0].f0_hz);
        assert!(cents.abs() < 1.0, "{f0_hz} Hz under {centre_hz} Hz: {cents}");
    }
}

/// Half the rate again and again folds a tone near half the sample rate into the levels below.
#[test]
fn a_tone_that_only_bats_hear_is_no_low_note() {
    for hz in [21_000.0, 22_154.0, 23_500.0] {
        let sound = render(&harmonics(hz, &[0.8]), Vibrato::default(), RATE_HZ, 0.6);
        let found = pitch(&to_samples(&sound), RATE_HZ, &PitchSettings::default());
        let notes = found.expect("settings").notes;
        assert!(
            notes.is_empty(),
            "{hz} Hz: {:?}",
            notes.iter().map(|n| n.f0_hz).collect::<Vec<_>>()
        );
    }
}
