//! Tuning against known truth: 88 stretched strings with random errors. `--nocapture` prints the figures.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use tonemap_core::Measured;
use tonemap_core::partials::{PartialsSettings, partials};
use tonemap_core::synth::{self, Partial, Vibrato};
use tonemap_core::tuning::{SoundedNote, Temperament, TuningSettings, interval, tuning};
use tonemap_core::units::Note;

const RATE_HZ: f64 = 48_000.0;

/// A string of the compass and what is true of it.
struct Truth {
    note: Note,
    /// Cents from equal temperament at the reference pitch.
    cents: f64,
    f0_hz: f64,
    inharmonicity: f64,
}

impl Truth {
    fn partial_hz(&self, number: usize) -> f64 {
        let n = number as f64;
        let b = self.inharmonicity;
        n * self.f0_hz * ((1.0 + b * n * n) / (1.0 + b)).sqrt()
    }

    fn sound(&self, random: &mut ChaCha8Rng, duration_s: f64) -> Vec<f32> {
        let position = 0.1 + 0.1 * random.random::<f64>();
        let t60_s = 12.0 * (-f64::from(self.note.0 - 21) / 30.0).exp() + 0.8;
        let parts: Vec<Partial> = (1..=40)
            .map(|n| Partial {
                frequency_hz: self.partial_hz(n),
                amplitude: 0.2 * (n as f64 * position * std::f64::consts::PI).sin().abs()
                    / n as f64,
                phase_rad: TAU * random.random::<f64>(),
                t60_s: t60_s / (1.0 + 0.1 * n as f64),
            })
            .collect();
        let mut sound = vec![0.0; (0.1 * RATE_HZ) as usize];
        sound.extend(synth::render(&parts, Vibrato::default(), RATE_HZ, duration_s));
        let rms = 0.2 / 2f64.sqrt() * 1e-3;
        let samples = sound.len();
        synth::mix(&mut sound, &synth::white_noise(random.random(), rms, samples));
        synth::to_samples(&sound)
    }
}

/// A stretched compass: B falls to the middle and rises again, octaves are tuned by their partials 4 and 2 in the bass and 2 and 1
/// above, each string with a random error.
fn compass(random: &mut ChaCha8Rng, reference_hz: f64, error_cents: f64) -> Vec<Truth> {
    let b =
        |midi: f64| (-0.093 * (midi - 21.0) - 8.2).exp() + (0.0945 * (midi - 21.0) - 13.3).exp();
    // Cents that a note asks of the one an octave above, a twelfth of it for each semitone.
    let pace = |midi: f64| {
        let sharp = |n: f64, b: f64| 600.0 * ((1.0 + b * n * n) / (1.0 + b)).log2();
        let (low, high) = if midi < 50.0 { (4.0, 2.0) } else { (2.0, 1.0) };
        (sharp(low, b(midi - 6.0)) - sharp(high, b(midi + 6.0))) / 12.0
    };
    let stretch = |midi: i32| {
        let steps = 20 * (midi - 69).abs();
        let step = f64::from((midi - 69).signum()) / 20.0;
        (0..steps).map(|n| step * pace(69.0 + step * (f64::from(n) + 0.5))).sum::<f64>()
    };
    (21..=108)
        .map(|midi| {
            let error: f64 = StandardNormal.sample(random);
            let cents = stretch(midi) + error_cents * error;
            let f0_hz = reference_hz * ((f64::from(midi - 69) + cents / 100.0) / 12.0).exp2();
            let scatter: f64 = StandardNormal.sample(random);
            let inharmonicity = b(f64::from(midi)) * (0.02 * scatter).exp();
            Truth { note: Note(midi), cents, f0_hz, inharmonicity }
        })
        .collect()
}

fn measured(truth: &Truth, sound: &[f32]) -> SoundedNote {
    let found = partials(sound, RATE_HZ, 0.0, &PartialsSettings::default()).expect("a note");
    SoundedNote {
        take: truth.note.to_string(),
        start_s: 0.0,
        expected: None,
        f0_hz: found.f0_hz.expect("a fundamental"),
        inharmonicity: found.inharmonicity,
        partials: (found.partials.iter())
            .map(|p| (p.number, Measured::new(p.frequency_hz, p.frequency_hz_u)))
            .collect(),
    }
}

#[test]
fn eighty_eight_strings_are_told() {
    let mut random = ChaCha8Rng::seed_from_u64(0x88);
    let reference_hz = 441.3;
    let mut truths = compass(&mut random, reference_hz, 0.25);
    for (apart, by) in [(37, 5.0), (71, -5.0)] {
        truths[apart].cents += by;
        truths[apart].f0_hz *= (by / 1200.0f64).exp2();
    }
    let notes: Vec<SoundedNote> = truths
        .iter()
        .map(|truth| {
            let sound = truth.sound(&mut random, 2.5);
            measured(truth, &sound)
        })
        .collect();
    let settings = TuningSettings {
        temperament: Temperament::named("equal", 0).expect("known"),
        reference_hz: 440.0,
        fit_reference: true,
    };
    let found = tuning(&notes, &settings);
    let fitted = found.fitted_reference_hz.expect("notes");
    let cents = |hz: f64| 1200.0 * (hz / reference_hz).log2();
    let off_cents = cents(fitted.value);
    let off_u = 1200.0 / std::f64::consts::LN_2 * fitted.u / fitted.value;
    println!(
        "reference {off_cents:+.3} cents off, u {off_u:.3}; order {}",
        found.stretch.as_ref().map_or(0, |s| s.order)
    );
    let (mut squares, mut covered, mut worst_b, mut with_b) = (0.0, 0, 0f64, 0);
    for (truth, note) in truths.iter().zip(&found.notes) {
        assert_eq!(truth.note, note.note);
        let error = note.cents + off_cents - truth.cents;
        if error.abs() > 0.2 {
            println!("{} {error:.3} u {:.3}", note.note, note.cents_u);
        }
        squares += error * error;
        covered += usize::from(error.abs() < 2.0 * note.cents_u);
        if let (Some(b), Some(u)) = (note.inharmonicity, note.inharmonicity_u) {
            // The highest strings have too few partials for a stiffness.
            let error = b / truth.inharmonicity - 1.0;
            if error.abs() > 0.03 {
                println!(
                    "{}: B {b:.3e} ± {u:.1e} of {:.3e}, {} partials",
                    note.note,
                    truth.inharmonicity,
                    notes[(note.midi - 21) as usize].partials.len()
                );
            }
            if u < 0.03 * b {
                worst_b = worst_b.max(error.abs());
                with_b += 1;
            }
        }
    }
    let rms = (squares / 88.0).sqrt();
    println!(
        "cents {rms:.4} RMS, 2u covers {covered} of 88; B of {with_b} strings worst {:.3} %",
        100.0 * worst_b
    );
    let stretch = found.stretch.expect("a compass");
    println!("scatter {:.3}; apart {:?}", stretch.scatter, stretch.apart);
    assert!(off_cents.abs() < 0.1 && off_cents.abs() < 2.5 * off_u);
    assert!(rms < 0.2 && worst_b < 0.03 && with_b > 75);
    assert_eq!(stretch.apart, [truths[37].note.to_string(), truths[71].note.to_string()]);
    assert!(found.findings.iter().any(|f| f.code == "stands_apart" && f.text.contains("A#3")));
    // Intervals within the middle octaves, against the partials as they are.
    let (mut worst, mut beats, mut inside) = (0f64, 0, 0);
    for (low, high) in
        [(39, 46), (39, 51), (39, 43), (39, 44), (27, 39), (30, 37), (45, 48), (36, 45)]
    {
        let found = interval(&notes[low], &notes[high]);
        assert!(found.ratio.is_some());
        for pair in &found.pairs {
            let truth = truths[high].partial_hz(pair.upper_partial)
                - truths[low].partial_hz(pair.lower_partial);
            worst = worst.max((pair.beat_hz - truth).abs());
            inside += usize::from((pair.beat_hz - truth).abs() < 2.0 * pair.beat_hz_u);
            beats += 1;
        }
    }
    println!("{beats} beats: worst {worst:.4} Hz; 2u covers {inside}");
    assert!(worst < 0.02 && beats >= 20);
}

/// The fitted reference over many instruments, from notes as exactly as they are told.
#[test]
fn the_reference_pitch_is_found_and_its_uncertainty_covers() {
    const TRIALS: usize = 200;
    let mut random = ChaCha8Rng::seed_from_u64(0x89);
    let (mut squares, mut covered) = (0.0, 0);
    for trial in 0..TRIALS {
        let reference_hz = 435.0 + 10.0 * random.random::<f64>();
        let stretched = trial % 2 == 0;
        let truths = compass(&mut random, reference_hz, 0.5);
        let chosen: Vec<&Truth> =
            if stretched { truths.iter().collect() } else { truths[32..56].iter().collect() };
        let notes: Vec<SoundedNote> = (chosen.iter())
            .map(|truth| SoundedNote {
                take: String::new(),
                start_s: 0.0,
                expected: None,
                f0_hz: Measured::new(truth.f0_hz, 2e-5 * truth.f0_hz),
                inharmonicity: None,
                partials: Vec::new(),
            })
            .collect();
        let settings = TuningSettings {
            temperament: Temperament::named("equal", 0).expect("known"),
            reference_hz: 440.0,
            fit_reference: false,
        };
        let fitted = tuning(&notes, &settings).fitted_reference_hz.expect("notes");
        let error = 1200.0 * (fitted.value / reference_hz).log2();
        squares += error * error;
        covered += usize::from((fitted.value - reference_hz).abs() < 2.0 * fitted.u);
    }
    let rms = (squares / TRIALS as f64).sqrt();
    println!(
        "reference pitch: {rms:.3} cents RMS with errors of 0.5; 2u covers {covered} of {TRIALS}"
    );
    assert!(rms < 0.2);
    assert!((0.85..=1.0).contains(&(f64::from(covered as u32) / TRIALS as f64)));
}
