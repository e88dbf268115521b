//! Timbre against closed forms, on random sounds whose truth is known.

use std::f64::consts::{PI, TAU};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::synth::{self, Partial, Vibrato};
use tonemap_core::timbre::{DESCRIPTORS, Descriptor, Timbre, TimbreSettings, timbre};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    descriptors_of_harmonic_tones_have_their_closed_forms,
    attacks_are_told,
    harmonics_over_noise_are_told,
    gain_rate_and_start_change_nothing,
    resonances_are_told,
];

const RATES_HZ: [f64; 3] = [44_100.0, 48_000.0, 96_000.0];

fn measured(sound: &[f64], rate_hz: f64) -> Timbre {
    timbre(&synth::to_samples(sound), rate_hz, 0.0, &TimbreSettings::default()).expect("measured")
}

/// Harmonics of random phases, after a rest, at `hnr_db` over white noise.
fn tone(
    random: &mut ChaCha8Rng,
    f0_hz: f64,
    amplitudes: &[(usize, f64)],
    rate_hz: f64,
    duration_s: f64,
) -> Vec<f64> {
    let partials: Vec<Partial> = (amplitudes.iter())
        .map(|(number, amplitude)| Partial {
            frequency_hz: *number as f64 * f0_hz,
            amplitude: *amplitude,
            phase_rad: TAU * random.random::<f64>(),
            t60_s: f64::INFINITY,
        })
        .collect();
    synth::render(&partials, Vibrato::default(), rate_hz, duration_s)
}

fn with_noise(random: &mut ChaCha8Rng, sound: &mut [f64], below_db: f64) {
    let power = sound.iter().map(|x| x * x).sum::<f64>() / sound.len() as f64;
    let rms = power.sqrt() * 10f64.powf(-below_db / 20.0);
    synth::mix(sound, &synth::white_noise(random.random(), rms, sound.len()));
}

/// The descriptors of a tone of steady harmonics as their equations give them.
fn closed_forms(f0_hz: f64, amplitudes: &[(usize, f64)]) -> Vec<(Descriptor, f64)> {
    let power = |a: f64| a * a / 2.0;
    let total: f64 = amplitudes.iter().map(|(_, a)| power(*a)).sum();
    let moment = |about: f64, order: i32| {
        let terms = amplitudes.iter();
        terms.map(|(n, a)| power(*a) * (*n as f64 * f0_hz - about).powi(order)).sum::<f64>() / total
    };
    let centroid = moment(0.0, 1);
    let spread = moment(centroid, 2).sqrt();
    let rolloff = |share: f64| {
        let mut below = 0.0;
        amplitudes
            .iter()
            .find(|(_, a)| {
                below += power(*a);
                below >= share * total
            })
            .map_or(f64::NAN, |(n, _)| *n as f64 * f0_hz)
    };
    let sum: f64 = amplitudes.iter().map(|(_, a)| a).sum();
    let share = |from: usize, to: usize| {
        let inside = amplitudes.iter().filter(|(n, _)| (from..to).contains(n));
        inside.map(|(_, a)| a).sum::<f64>() / sum
    };
    let parity = |odd: usize| {
        let inside = amplitudes.iter().filter(|(n, _)| n % 2 == odd);
        inside.map(|(_, a)| power(*a)).fold(0.0, |sum, power| sum + power)
    };
    let last = amplitudes.iter().map(|(n, _)| *n).max().unwrap_or(0);
    let amplitude = |n: usize| amplitudes.iter().find(|(m, _)| *m == n).map_or(0.0, |(_, a)| *a);
    let steps: f64 = (1..=last).map(|n| (amplitude(n) - amplitude(n + 1)).powi(2)).sum();
    let octaves: Vec<(f64, f64)> =
        amplitudes.iter().map(|(n, a)| ((*n as f64).log2(), 20.0 * a.log10())).collect();
    let count = octaves.len() as f64;
    let (mx, my) = (
        octaves.iter().map(|p| p.0).sum::<f64>() / count,
        octaves.iter().map(|p| p.1).sum::<f64>() / count,
    );
    let slope = octaves.iter().map(|p| (p.0 - mx) * (p.1 - my)).sum::<f64>()
        / octaves.iter().map(|p| (p.0 - mx).powi(2)).sum::<f64>();
    vec![
        (Descriptor::Centroid, centroid),
        (Descriptor::CentroidOverF0, centroid / f0_hz),
        (Descriptor::Spread, spread),
        (Descriptor::HarmonicCentroid, centroid),
        (Descriptor::HarmonicSpread, spread),
        (Descriptor::Skewness, moment(centroid, 3) / spread.powi(3)),
        (Descriptor::Kurtosis, moment(centroid, 4) / spread.powi(4)),
        (Descriptor::Slope, slope),
        (Descriptor::Rolloff85, rolloff(0.85)),
        (Descriptor::Rolloff95, rolloff(0.95)),
        (Descriptor::OddEven, 10.0 * (parity(1) / parity(0)).log10()),
        (Descriptor::Tristimulus1, share(1, 2)),
        (Descriptor::Tristimulus2, share(2, 5)),
        (Descriptor::Tristimulus3, share(5, usize::MAX)),
        (Descriptor::Irregularity, steps * 0.5 / total),
    ]
}

/// The error of a descriptor: in percent where it is no level, of shares near zero at least of
/// 0.001.
fn error_of(descriptor: Descriptor, value: f64, truth: f64) -> f64 {
    match descriptor {
        Descriptor::OddEven | Descriptor::Slope => value - truth,
        _ => 100.0 * (value - truth) / (truth.abs() + 1e-3),
    }
}

#[test]
pub(crate) fn descriptors_of_harmonic_tones_have_their_closed_forms() {
    let errors = in_parallel(trials(48, 96), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x7131_0000 + case);
        let f0_hz = 70.0 * 20f64.powf(random.random::<f64>());
        let rate_hz = RATES_HZ[case as usize % 3];
        let gain = 0.02 * 10f64.powf(random.random::<f64>());
        let most = (9000.0 / f0_hz).min(24.0) as usize;
        let formant = (2.5 * f0_hz, 1.5 * f0_hz);
        let amplitudes: Vec<(usize, f64)> = (1..=most)
            .filter(|n| case % 4 != 1 || n % 2 == 1)
            .map(|n| {
                let n_f = n as f64;
                let of = match case % 4 {
                    0 | 1 => 1.0 / n_f,
                    2 => (0.05 + random.random::<f64>()) / n_f.sqrt(),
                    _ => (1.0 + ((n_f * f0_hz - formant.0) / formant.1 * 2.0).powi(2)).powf(-0.5),
                };
                (n, gain * of)
            })
            .collect();
        let mut sound = vec![0.0; (0.2 * rate_hz) as usize];
        sound.extend(tone(&mut random, f0_hz, &amplitudes, rate_hz, 1.2));
        with_noise(&mut random, &mut sound, 85.0);
        let found = measured(&sound, rate_hz);
        let of = |(descriptor, truth): (Descriptor, f64)| {
            let value = found.regions.sustain.median.get(descriptor).unwrap_or(f64::NAN);
            if truth.is_infinite() {
                assert!(value > 40.0, "{case}: odd only, {value}");
                return None;
            }
            Some((descriptor, error_of(descriptor, value, truth)))
        };
        closed_forms(f0_hz, &amplitudes).into_iter().filter_map(of).collect::<Vec<_>>()
    });
    let errors: Vec<(Descriptor, f64)> = errors.into_iter().flatten().collect();
    for (descriptor, label) in DESCRIPTORS {
        let of: Vec<f64> = errors
            .iter()
            .filter(|(known, _)| *known == descriptor)
            .map(|(_, error)| *error)
            .collect();
        let Some((_, tolerance)) = TOLERANCES.iter().find(|(known, _)| *known == descriptor) else {
            assert!(of.is_empty(), "{} is measured and not held", label.field);
            continue;
        };
        let unit =
            if matches!(descriptor, Descriptor::OddEven | Descriptor::Slope) { "dB" } else { "%" };
        Accuracy::all_bare(format!("{} of a harmonic tone", label.field), unit, of)
            .hold(*tolerance);
    }
}

/// Of the descriptors of harmonic tones at 85 dB over noise: RMS errors.
const TOLERANCES: &[(Descriptor, f64)] = &[
    (Descriptor::Centroid, 5e-4),
    (Descriptor::CentroidOverF0, 5e-4),
    (Descriptor::Spread, 5e-4),
    (Descriptor::HarmonicCentroid, 5e-4),
    (Descriptor::HarmonicSpread, 5e-4),
    (Descriptor::Skewness, 7e-3),
    (Descriptor::Kurtosis, 0.095),
    (Descriptor::Slope, 2.4e-5),
    (Descriptor::Rolloff85, 3e-4),
    (Descriptor::Rolloff95, 1.8e-4),
    (Descriptor::OddEven, 7e-5),
    (Descriptor::Tristimulus1, 5e-4),
    (Descriptor::Tristimulus2, 1.3e-3),
    (Descriptor::Tristimulus3, 4e-4),
    (Descriptor::Irregularity, 1.3e-3),
];

#[test]
pub(crate) fn attacks_are_told() {
    for (n, (duration_s, tolerance)) in
        [(0.005, 0.15), (0.02, 0.14), (0.1, 1.8)].into_iter().enumerate()
    {
        let errors = in_parallel(trials(100, 200), |case| {
            let mut random = ChaCha8Rng::seed_from_u64(0x7132_0000 + 1000 * n as u64 + case);
            let f0_hz = 220.0 * 8f64.powf(random.random::<f64>());
            let rate_hz = RATES_HZ[case as usize % 3];
            let amplitudes: Vec<(usize, f64)> = (1..=8).map(|n| (n, 0.2 / n as f64)).collect();
            let before_s = 0.1 + 0.1 * random.random::<f64>();
            let mut sound = vec![0.0; (before_s * rate_hz) as usize];
            let note = tone(&mut random, f0_hz, &amplitudes, rate_hz, 1.0);
            let falls = if case % 2 == 0 { 0.0 } else { 3.0 * random.random::<f64>() };
            sound.extend(note.iter().enumerate().map(|(n, x)| {
                let time_s = n as f64 / rate_hz;
                let x_of = (time_s / duration_s).min(1.0);
                let gain = if case % 4 < 2 { x_of } else { 0.5 - 0.5 * (PI * x_of).cos() };
                x * gain * (-falls * time_s).exp()
            }));
            with_noise(&mut random, &mut sound, 50.0);
            let rise = measured(&sound, rate_hz).rise;
            let rise = rise.unwrap_or_else(|| panic!("case {case}, {f0_hz} Hz: no attack"));
            let of = rise.duration_s;
            (100.0 * (of.value / duration_s - 1.0), 100.0 * of.u / duration_s)
        });
        let attack = Accuracy::all(format!("attack of {:.0} ms", 1e3 * duration_s), "%", errors);
        assert!(attack.worst() < 10.0, "{}", attack.worst());
        attack.hold(tolerance);
    }
}

#[test]
pub(crate) fn harmonics_over_noise_are_told() {
    for levels_db in [[0.0, 10.0, 20.0], [30.0, 40.0, 50.0]] {
        let errors = in_parallel(trials(102, 204), |case| {
            let hnr_db = levels_db[case as usize % 3];
            let mut random = ChaCha8Rng::seed_from_u64(0x7133_0000 + 10_000 * hnr_db as u64 + case);
            let f0_hz = 80.0 * 12f64.powf(random.random::<f64>());
            let rate_hz = RATES_HZ[case as usize % 3];
            let amplitudes: Vec<(usize, f64)> = (1..=12).map(|n| (n, 0.1 / n as f64)).collect();
            let mut sound = if (case / 3) % 4 == 3 {
                let partials: Vec<Partial> = amplitudes
                    .iter()
                    .map(|(n, a)| Partial {
                        frequency_hz: *n as f64 * f0_hz,
                        amplitude: *a,
                        phase_rad: random.random::<f64>(),
                        t60_s: f64::INFINITY,
                    })
                    .collect();
                let vibrato = Vibrato { rate_hz: 5.5, depth_cents: 25.0 };
                synth::render(&partials, vibrato, rate_hz, 2.0)
            } else {
                tone(&mut random, f0_hz, &amplitudes, rate_hz, 2.0)
            };
            with_noise(&mut random, &mut sound, hnr_db);
            let found = measured(&sound, rate_hz).regions.whole;
            let of = |summary: &tonemap_core::timbre::Descriptors| {
                summary.get(Descriptor::HarmonicToNoise).unwrap_or(f64::NAN)
            };
            (of(&found.median) - hnr_db, of(&found.median_u))
        });
        let [from_db, _, to_db] = levels_db;
        let name = format!("harmonics {from_db:.0} to {to_db:.0} dB over noise");
        let harmonics = Accuracy::all(name, "dB", errors);
        assert!(harmonics.worst() < 1.0, "{}", harmonics.worst());
        harmonics.hold(if from_db == 0.0 { 0.085 } else { 0.06 });
    }
}

#[test]
fn noise_and_single_tones_have_their_closed_forms() {
    let noise = synth::white_noise(5, 0.1, 96_000);
    let found = measured(&noise, 48_000.0);
    let of = |descriptor| found.regions.whole.median.get(descriptor).expect("defined");
    println!("white noise: {:?} f0 {:?}", found.regions.whole.median, found.f0_hz);
    assert!(found.f0_hz.is_none());
    assert!((of(Descriptor::Flatness) - 1.0).abs() < 0.02);
    assert!((of(Descriptor::Flux) / (1.0 - PI / 4.0) - 1.0).abs() < 0.03);
    assert!((of(Descriptor::Centroid) / 10_010.0 - 1.0).abs() < 0.01);
    assert!((of(Descriptor::Spread) / (19_980.0 / 12f64.sqrt()) - 1.0).abs() < 0.01);
    assert!((of(Descriptor::Kurtosis) / 1.8 - 1.0).abs() < 0.01);
    assert!((of(Descriptor::Rolloff85) / 17_003.0 - 1.0).abs() < 0.01);
    assert!(of(Descriptor::Slope).abs() < 0.1);
    let mut tone: Vec<f64> =
        synth::sine(997.0, 0.5, 0.0, 48_000.0, 96_000).iter().map(|x| f64::from(*x)).collect();
    synth::mix(&mut tone, &synth::white_noise(6, 1e-6, 96_000));
    let found = measured(&tone, 48_000.0);
    let of = |descriptor| found.regions.sustain.median.get(descriptor);
    println!("tone: {:?}", found.regions.sustain.median);
    assert!(of(Descriptor::Flatness).expect("defined") < 1e-6);
    assert!((of(Descriptor::Centroid).expect("defined") - 997.0).abs() < 0.1);
    assert!(of(Descriptor::Flux).expect("defined") < 1e-4);
    let crest = of(Descriptor::Crest).expect("defined");
    println!("crest {crest} {}", 10.0 * (19_980.0 * 0.04 / 1.5f64).log10());
    assert!((crest - 10.0 * (19_980.0 * 0.04 / 1.5f64).log10()).abs() < 0.1);
}

/// A note with a rise and a decay in faint noise that begins so late.
fn note_with_everything(seed: u64, f0_hz: f64, rate_hz: f64, late_s: f64) -> Vec<f64> {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let partials: Vec<Partial> = (1..=12)
        .map(|n| Partial {
            frequency_hz: f64::from(n) * f0_hz,
            amplitude: (0.2 + 0.8 * random.random::<f64>()) * 0.2 / f64::from(n),
            phase_rad: TAU * random.random::<f64>(),
            t60_s: 4.0 / (1.0 + 0.1 * f64::from(n)),
        })
        .collect();
    let mut note = synth::render(&partials, Vibrato::default(), rate_hz, 1.5);
    for (n, x) in note.iter_mut().enumerate() {
        *x *= (n as f64 / rate_hz / 0.03).min(1.0);
    }
    let mut sound = vec![0.0; (late_s * rate_hz) as usize];
    sound.extend(note);
    let samples = sound.len();
    synth::mix(&mut sound, &synth::white_noise(seed, 1e-5, samples));
    sound
}

#[test]
pub(crate) fn gain_rate_and_start_change_nothing() {
    let worst = in_parallel(trials(6, 12), |seed| {
        let mut worst = [0f64; 3];
        let f0_hz = 150.0 * (f64::from(seed as u32 % 6) * 0.55).exp2();
        let sound = note_with_everything(seed, f0_hz, 48_000.0, 0.2);
        let usual = measured(&sound, 48_000.0);
        let quieter: Vec<f64> = sound.iter().map(|x| 0.05 * x).collect();
        let others = [
            measured(&quieter, 48_000.0),
            measured(&note_with_everything(seed, f0_hz, 96_000.0, 0.2), 96_000.0),
            measured(&note_with_everything(seed, f0_hz, 48_000.0, 0.4137), 48_000.0),
        ];
        let slower = measured(&note_with_everything(seed, f0_hz, 44_100.0, 0.2), 44_100.0);
        for (n, other) in others.iter().chain([&slower]).enumerate() {
            let n = if n == 3 { 1 } else { n };
            for (descriptor, label) in DESCRIPTORS {
                let of = |timbre: &Timbre| timbre.regions.whole.median.get(descriptor);
                let (Some(a), Some(b)) = (of(&usual), of(other)) else {
                    assert_eq!(of(&usual).is_some(), of(other).is_some(), "{}", label.field);
                    continue;
                };
                // A ratio in decibels differs by its difference; flatness and flux follow the
                // noise, which is made anew for each rate and start.
                let follows_noise = matches!(descriptor, Descriptor::Flatness | Descriptor::Flux);
                if follows_noise && n > 0 {
                    continue;
                }
                let error = match label.unit.symbol() {
                    // Noise that is made anew has its power to within half a decibel.
                    "dB" if descriptor == Descriptor::HarmonicToNoise => (a - b).abs() * 0.02,
                    "dB" | "dB/octave" => (a - b).abs() * 0.1,
                    _ => (a - b).abs() / (a.abs() + 0.01),
                };
                if error > 0.01 {
                    println!("seed {seed} way {n}: {} {a} {b}", label.field);
                }
                worst[n] = worst[n].max(error);
            }
            let durations = [&usual, other].map(|timbre| {
                [
                    timbre.rise.map(|rise| rise.duration_s.value),
                    timbre.temporal_centroid_s,
                    timbre.effective_duration_s,
                    timbre.decay_t60_s.map(|t60| t60.value),
                ]
            });
            for (a, b) in durations[0].iter().zip(durations[1]) {
                let (a, b) = (a.expect("defined"), b.expect("defined"));
                if (a / b - 1.0).abs() > 0.01 {
                    println!("seed {seed} way {n}: durations {a} {b}");
                }
                worst[n] = worst[n].max((a / b - 1.0).abs());
            }
        }
        worst
    });
    for (n, (way, tolerance)) in
        [("gain", 9e-7), ("rate", 0.016), ("start", 0.0033)].into_iter().enumerate()
    {
        let name = format!("timbre of a note by another {way}, share");
        Accuracy::all_bare(name, "1", worst.iter().map(|worst| worst[n])).hold_worst(tolerance);
    }
}

#[test]
pub(crate) fn resonances_are_told() {
    let errors = in_parallel(trials(8, 16), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x7134_0000 + case);
        let f0_hz = 90.0 + 60.0 * random.random::<f64>();
        let (centre_hz, width_hz) =
            (700.0 + 900.0 * random.random::<f64>(), 150.0 + 250.0 * random.random::<f64>());
        let amplitudes: Vec<(usize, f64)> = (1..=30)
            .map(|n| {
                let away = (n as f64 * f0_hz - centre_hz) / (width_hz / 2.0);
                (n, 0.1 / (1.0 + away * away).sqrt())
            })
            .collect();
        let mut sound = tone(&mut random, f0_hz, &amplitudes, 48_000.0, 1.0);
        with_noise(&mut random, &mut sound, 70.0);
        let content = measured(&sound, 48_000.0).content.expect("a note");
        let [region] = content.envelope_regions[..] else {
            panic!("{:?}", content.envelope_regions)
        };
        let percent = |found: f64, truth: f64| 100.0 * (found / truth - 1.0);
        (percent(region.centre_hz, centre_hz), percent(region.bandwidth_hz, width_hz))
    });
    let (centre, width): (Vec<f64>, Vec<f64>) = errors.into_iter().unzip();
    Accuracy::all_bare("centre of a resonance", "%", centre).hold(2e-4);
    Accuracy::all_bare("width of a resonance", "%", width).hold(0.0034);
}

#[test]
fn distortion_and_wavering_are_told() {
    let mut random = ChaCha8Rng::seed_from_u64(0x7134);
    // A test tone with 0.3 % of the second harmonic, 0.1 % of the third, and noise at −70 dB.
    let mut sound = tone(&mut random, 1000.0, &[(1, 0.5), (2, 0.0015), (3, 0.0005)], 48_000.0, 2.0);
    with_noise(&mut random, &mut sound, 70.0);
    let content = measured(&sound, 48_000.0).content.expect("a tone");
    let distortion = content.distortion_percent.expect("harmonics");
    let with_noise = content.distortion_and_noise_percent.expect("a first");
    let truth = 0.1f64.hypot(0.3);
    println!("THD {distortion:.5} of {truth:.5}, THD+N {with_noise:.5}");
    assert!((distortion / truth - 1.0).abs() < 0.01);
    let noisy = (truth.powi(2) + (100.0 * 10f64.powf(-3.5)).powi(2)).sqrt();
    assert!((with_noise / noisy - 1.0).abs() < 0.01, "{with_noise} {noisy}");
    // A tremolo of 3 dB and a vibrato of 20 cents.
    let partials = synth::harmonics(330.0, &[0.2, 0.1, 0.05]);
    let vibrato = Vibrato { rate_hz: 5.0, depth_cents: 20.0 };
    let index = 1.0 - 2.0 / (1.0 + 10f64.powf(0.3));
    let wavering: Vec<f64> = synth::render(&partials, vibrato, 48_000.0, 2.0)
        .iter()
        .enumerate()
        .map(|(n, x)| x * (1.0 + index * (TAU * 6.2 * n as f64 / 48_000.0).sin()))
        .collect();
    let found = measured(&wavering, 48_000.0);
    println!("{:?} {:?} {:?}", found.tremolo_rate_hz, found.tremolo_depth_db, found.vibrato);
    assert!((found.tremolo_rate_hz.expect("a tremolo") / 6.2 - 1.0).abs() < 0.01);
    assert!((found.tremolo_depth_db.expect("a tremolo") - 3.0).abs() < 0.05);
    assert!((found.vibrato.vibrato_depth_cents.expect("a vibrato") - 20.0).abs() < 0.4);
}
