//! Tuning against known truth: 88 stretched strings with random errors.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use tonemap_core::Measured;
use tonemap_core::partials::{PartialsSettings, partials};
use tonemap_core::synth::{self, Partial, Vibrato};
use tonemap_core::tuning::{SoundedNote, Temperament, TuningSettings, interval, tuning};
use tonemap_core::units::Note;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] =
    &[strings_of_the_compass_are_measured, the_reference_pitch_is_found_and_its_uncertainty_covers];

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

/// A stretched compass: B falls to the middle and rises again, octaves are tuned by their partials
/// 4 and 2 in the bass and 2 and 1 above, each string with a random error.
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

/// What one instrument of 88 strings gave: errors with their uncertainties.
struct OfInstrument {
    cents: Vec<(f64, f64)>,
    stiffness_percent: Vec<(f64, f64)>,
    beats_hz: Vec<(f64, f64)>,
}

fn instrument(seed: u64) -> OfInstrument {
    let mut random = ChaCha8Rng::seed_from_u64(0x88_0000 + seed);
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
    let off_cents = 1200.0 * (fitted.value / reference_hz).log2();
    let off_u = 1200.0 / std::f64::consts::LN_2 * fitted.u / fitted.value;
    assert!(off_cents.abs() < 0.1 && off_cents.abs() < 2.5 * off_u, "{off_cents} u {off_u}");
    let stretch = found.stretch.expect("a compass");
    assert_eq!(stretch.apart, [truths[37].note.to_string(), truths[71].note.to_string()]);
    assert!(found.findings.iter().any(|f| f.code == "stands_apart" && f.text.contains("A#3")));
    let mut of =
        OfInstrument { cents: Vec::new(), stiffness_percent: Vec::new(), beats_hz: Vec::new() };
    for (truth, note) in truths.iter().zip(&found.notes) {
        assert_eq!(truth.note, note.note);
        of.cents.push((note.cents + off_cents - truth.cents, note.cents_u));
        if let (Some(b), Some(u)) = (note.inharmonicity, note.inharmonicity_u) {
            // The highest strings have too few partials for a stiffness.
            if u < 0.03 * b {
                let percent = 100.0 / truth.inharmonicity;
                of.stiffness_percent.push((percent * (b - truth.inharmonicity), percent * u));
            }
        }
    }
    assert!(of.stiffness_percent.len() > 75);
    // Intervals within the middle octaves, against the partials as they are.
    for low in [27, 30, 36, 39, 42, 45, 48] {
        for high in [3, 4, 5, 7, 9, 12].map(|semitones| low + semitones) {
            let found = interval(&notes[low], &notes[high]);
            assert!(found.ratio.is_some());
            of.beats_hz.extend(found.pairs.iter().map(|pair| {
                let truth = truths[high].partial_hz(pair.upper_partial)
                    - truths[low].partial_hz(pair.lower_partial);
                (pair.beat_hz - truth, pair.beat_hz_u)
            }));
        }
    }
    of
}

#[test]
pub(crate) fn strings_of_the_compass_are_measured() {
    let instruments = in_parallel(trials(2, 4), instrument);
    let all = |name, unit, of: fn(&OfInstrument) -> &[(f64, f64)]| {
        Accuracy::all(name, unit, instruments.iter().flat_map(of).copied())
    };
    all("cents of a string of a compass", "cents", |of| &of.cents).hold(7e-5);
    all("B of a string of a compass", "%", |of| &of.stiffness_percent).hold(3.7e-4);
    all("beat of an interval", "Hz", |of| &of.beats_hz).hold(0.0022);
}

/// The fitted reference over many instruments, from notes as exactly as they are told.
#[test]
pub(crate) fn the_reference_pitch_is_found_and_its_uncertainty_covers() {
    let errors = in_parallel(trials(400, 800), |trial| {
        let mut random = ChaCha8Rng::seed_from_u64(0x89_0000 + trial);
        let reference_hz = 435.0 + 10.0 * random.random::<f64>();
        let stretched = trial % 2 == 0;
        let truths = compass(&mut random, reference_hz, 0.5);
        let chosen: Vec<&Truth> =
            if stretched { truths.iter().collect() } else { truths[32..56].iter().collect() };
        // Over two octaves the reference that fits best is a mean, with what stretch there is.
        let without_errors = compass(&mut random, reference_hz, 0.0);
        let mean_cents = without_errors[32..56].iter().map(|truth| truth.cents).sum::<f64>() / 24.0;
        let truth_hz = reference_hz * if stretched { 1.0 } else { (mean_cents / 1200.0).exp2() };
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
        let cents = 1200.0 * (fitted.value / truth_hz).log2();
        (cents, 1200.0 / std::f64::consts::LN_2 * fitted.u / fitted.value)
    });
    for (n, notes) in ["88 strings", "two octaves"].into_iter().enumerate() {
        let name = format!("reference pitch of {notes} tuned to 0.5 cents");
        let of = errors.iter().copied().skip(n).step_by(2);
        Accuracy::all(name, "cents", of).hold(0.28);
    }
}
