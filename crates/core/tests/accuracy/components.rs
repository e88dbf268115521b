//! The components of a partial, those of two or three strings, against known truth.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::partials::{Partials, PartialsSettings, partials};
use tonemap_core::synth::{Partial, Vibrato, harmonics, render, to_samples};

use crate::partials::add_noise;
use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    three_strings_are_separated,
    no_more_components_are_given_than_there_are,
    what_wavers_is_no_string,
];

const RATE_HZ: f64 = 48_000.0;
const LASTS_S: f64 = 5.0;
/// Partials of a note, each of its own components.
const PARTIALS: usize = 6;

/// A note each partial of which is made of so many components, the strongest first: from 0.4 to
/// 1.6 Hz apart, of decays of their own, together 50 dB above the noise.
fn note(seed: u64, count: usize) -> (Vec<Vec<Partial>>, Partials) {
    let mut rng = ChaCha8Rng::seed_from_u64(910_000 + seed);
    let f0_hz = 80.0 * f64::exp2(rng.random_range(0.0..3.5));
    let made: Vec<Vec<Partial>> = (1..=PARTIALS)
        .map(|n| {
            let amplitude = 0.2 / n as f64;
            let frequency_hz = n as f64 * f0_hz;
            let offsets_hz = [0.0, rng.random_range(0.4..1.6), -rng.random_range(0.4..1.6)];
            let shares = [1.0, rng.random_range(0.3..0.75), rng.random_range(0.1..0.5)];
            (0..count)
                .map(|k| Partial {
                    frequency_hz: frequency_hz + offsets_hz[k],
                    amplitude: shares[k] * amplitude,
                    phase_rad: rng.random_range(0.0..TAU),
                    t60_s: rng.random_range(2.5..10.0),
                })
                .collect()
        })
        .collect();
    let all: Vec<Partial> = made.iter().flatten().copied().collect();
    let mut sound = vec![0.0; 4800];
    sound.extend(render(&all, Vibrato::default(), RATE_HZ, LASTS_S));
    add_noise(&mut sound, 50.0, 920_000 + seed);
    let found = partials(&to_samples(&sound), RATE_HZ, 0.0, &PartialsSettings::default());
    (made, found.expect("followed"))
}

/// Errors with their uncertainties: in mHz, in percent and in dB.
struct OfComponent {
    frequency: (f64, f64),
    apart: Option<(f64, f64)>,
    t60: Option<(f64, f64)>,
    level: f64,
}

#[test]
pub(crate) fn three_strings_are_separated() {
    let notes = in_parallel(trials(20, 100), |seed| {
        let (made, found) = note(seed, 3);
        let (mut three, mut errors) = (0, Vec::new());
        for (n, truth) in (1..).zip(&made) {
            let Some(partial) = found.partials.iter().find(|partial| partial.number == n) else {
                continue;
            };
            if partial.components.len() != 3 {
                continue;
            }
            three += 1;
            let made = |hz: f64| {
                let away_hz = |part: &&Partial| (part.frequency_hz - hz).abs();
                let nearest = truth.iter().min_by(|a, b| away_hz(a).total_cmp(&away_hz(b)));
                nearest.expect("one of three")
            };
            let strongest = made(partial.components[0].frequency_hz);
            for component in &partial.components {
                let part = made(component.frequency_hz);
                let off_hz = component.frequency_hz - part.frequency_hz;
                let apart = component.hz_from_strongest.zip(component.hz_from_strongest_u);
                let apart = apart.map(|(hz, u)| {
                    (1e3 * (hz - (part.frequency_hz - strongest.frequency_hz)), 1e3 * u)
                });
                let t60 = component.decay_t60_s.zip(component.decay_t60_s_u);
                let t60 = t60
                    .map(|(t60_s, u)| (100.0 * (t60_s / part.t60_s - 1.0), 100.0 * u / part.t60_s));
                // At the time for which levels are given.
                let since_s = found.level_at_s - 0.1;
                let level_db = 20.0 * part.amplitude.log10() - 60.0 * since_s / part.t60_s;
                errors.push(OfComponent {
                    frequency: (1e3 * off_hz, 1e3 * component.frequency_hz_u),
                    apart,
                    t60,
                    level: component.level_db - level_db,
                });
            }
        }
        (three, errors)
    });
    let there = notes.len() * PARTIALS;
    let three: usize = notes.iter().map(|(three, _)| three).sum();
    println!("{three} of {there} partials of three strings have three components");
    let errors: Vec<OfComponent> = notes.into_iter().flat_map(|(_, errors)| errors).collect();
    assert!(three as f64 >= 0.9 * there as f64, "{three} of {there}");
    let frequency = errors.iter().map(|of| of.frequency);
    Accuracy::all("frequency of one of three components", "mHz", frequency).hold(0.2);
    let apart = errors.iter().filter_map(|of| of.apart);
    Accuracy::all("distance of a component from the strongest", "mHz", apart).hold(0.3);
    let t60 = errors.iter().filter_map(|of| of.t60);
    Accuracy::all("T60 of one of three components", "%", t60).hold(0.08);
    let level = errors.iter().map(|of| of.level);
    Accuracy::all_bare("level of one of three components", "dB", level).hold(0.007);
}

#[test]
pub(crate) fn no_more_components_are_given_than_there_are() {
    for count in [1, 2] {
        let more = in_parallel(trials(30, 150), |seed| {
            let (_, found) = note(50_000 * count as u64 + seed, count);
            let more = found.partials.iter().filter(|partial| partial.components.len() > count);
            (more.count(), found.partials.len())
        });
        let (more, all) = more.iter().fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
        println!("{more} of {all} partials of {count} components are given more");
        assert!(more as f64 <= 0.01 * all as f64, "{more} of {all}");
    }
}

#[test]
fn what_outlives_the_loudest_is_the_late_stage() {
    for seed in 0..8 {
        let mut rng = ChaCha8Rng::seed_from_u64(930_000 + seed);
        let f0_hz = rng.random_range(100.0..800.0);
        let (quick_s, slow_s) = (rng.random_range(0.8..1.2), rng.random_range(6.0..9.0));
        let apart_hz = rng.random_range(0.7..2.0);
        let parts = (1..=4).map(f64::from).flat_map(|n| {
            [(0.0, 1.0, quick_s), (apart_hz, 0.1, slow_s)].map(|(hz, share, t60_s)| Partial {
                frequency_hz: n * f0_hz + hz,
                amplitude: 0.2 * share / n,
                phase_rad: 0.3 * n,
                t60_s,
            })
        });
        let parts: Vec<Partial> = parts.collect();
        let mut sound = vec![0.0; 4800];
        sound.extend(render(&parts, Vibrato::default(), RATE_HZ, 4.0));
        add_noise(&mut sound, 50.0, 940_000 + seed);
        let found = partials(&to_samples(&sound), RATE_HZ, 0.0, &PartialsSettings::default());
        let knee_s = 0.1 + 20.0 / (60.0 / quick_s - 60.0 / slow_s);
        for partial in &found.expect("followed").partials {
            let early = partial.decay_t60_s.expect("an early stage");
            let late = partial.late_t60_s.expect("a late stage");
            let knee = partial.knee_s.expect("a knee");
            let beat = partial.beat_hz.expect("a beat");
            assert!((early / quick_s - 1.0).abs() < 0.01, "{early} {quick_s}");
            assert!((late / slow_s - 1.0).abs() < 0.02, "{late} {slow_s}");
            assert!((knee - knee_s).abs() < 0.01, "{knee} {knee_s}");
            assert!((beat / apart_hz - 1.0).abs() < 0.01, "{beat} {apart_hz}");
        }
    }
}

/// A single tone a harmonic, with a tremolo, a swell, a straight fade or a vibrato.
#[test]
pub(crate) fn what_wavers_is_no_string() {
    for (n, kind) in ["tremolo", "swell", "fade", "vibrato"].into_iter().enumerate() {
        let three = in_parallel(trials(15, 100), |seed| {
            let mut rng = ChaCha8Rng::seed_from_u64(950_000 + 1000 * n as u64 + seed);
            let f0_hz = 100.0 * f64::exp2(rng.random_range(0.0..3.0));
            let amplitudes: Vec<f64> = (1..=PARTIALS).map(|n| 0.1 / n as f64).collect();
            let (rate_hz, turn) = (rng.random_range(0.5..8.0), rng.random_range(0.0..TAU));
            let depth = rng.random_range(0.05..0.5f64);
            let turns_s = rng.random_range(0.5..0.9) * LASTS_S;
            let depth_cents = if kind == "vibrato" { 100.0 * depth } else { 0.0 };
            let vibrato = Vibrato { rate_hz, depth_cents };
            let mut sound = vec![0.0; 4800];
            sound.extend(render(&harmonics(f0_hz, &amplitudes), vibrato, RATE_HZ, LASTS_S));
            for (n, x) in sound[4800..].iter_mut().enumerate() {
                let t = n as f64 / RATE_HZ;
                *x *= match kind {
                    "tremolo" => 1.0 + depth * (TAU * rate_hz * t + turn).sin(),
                    "swell" => (depth + (1.0 - depth) * t / turns_s).min(1.0),
                    "fade" => (1.0 - t / (LASTS_S + depth)).max(0.0),
                    _ => 1.0,
                };
            }
            add_noise(&mut sound, 50.0, 960_000 + 1000 * n as u64 + seed);
            let found = partials(&to_samples(&sound), RATE_HZ, 0.0, &PartialsSettings::default());
            let found = found.expect("followed").partials;
            (found.iter().filter(|partial| partial.components.len() == 3).count(), found.len())
        });
        let (three, all) = three.iter().fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
        println!("{three} of {all} partials with a {kind} are given three components");
        assert!(three as f64 <= 0.01 * all as f64, "{kind}: {three} of {all}");
    }
}
