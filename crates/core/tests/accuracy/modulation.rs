//! Modulation: rate and depth of AM, FM and beats, what is called which, how strongly it is heard.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::modulation::{Kind, Modulation, ModulationSettings, modulation};
use tonemap_core::spectrum::{SpectrumSettings, measure};
use tonemap_core::synth::{coloured_noise, to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    amplitude_modulation_is_known_by_rate_and_depth,
    frequency_modulation_is_no_other,
    beats_are_named_with_their_tones,
    a_beat_that_grows_faster_is_followed,
    modulations_at_once_are_separated,
    envelope_and_spectrum_agree_about_a_beat,
    nothing_is_found_where_nothing_is,
    unit_signals_have_their_units,
    strengths_follow_their_published_courses,
];

const RATE_HZ: f64 = 48_000.0;
/// Noise under the tone, in amplitude.
const NOISE: f64 = 0.01;

fn measured(sound: &[f64]) -> Modulation {
    let samples = to_samples(sound);
    modulation(&samples, RATE_HZ, 0.0, &ModulationSettings::default()).expect("measured")
}

fn sounding(seed: u64, lasts_s: f64, amplitude: f64, of: impl Fn(f64) -> f64) -> Vec<f64> {
    let count = (lasts_s * RATE_HZ) as usize;
    let noise = white_noise(seed ^ 0x6d6f, amplitude * NOISE / 2f64.sqrt(), count);
    noise.iter().enumerate().map(|(n, noise)| of(n as f64 / RATE_HZ) + noise).collect()
}

/// A number between two, as many to each octave.
fn spread(random: &mut ChaCha8Rng, low: f64, high: f64) -> f64 {
    low * (high / low).powf(random.random_range(0.0..1.0))
}

fn phase(random: &mut ChaCha8Rng) -> f64 {
    random.random_range(0.0..TAU)
}

struct Case {
    rate_hz: f64,
    depth: f64,
    carrier_hz: f64,
    phases: [f64; 2],
    lasts_s: f64,
}

impl Case {
    /// Rates of 0.5 Hz to 200 Hz, depths of 5 % to 100 %, carriers of 100 Hz to 8 kHz.
    fn random(seed: u64) -> Self {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let rate_hz = spread(&mut random, 0.5, 200.0);
        Self {
            rate_hz,
            depth: spread(&mut random, 0.05, 1.0),
            carrier_hz: spread(&mut random, 100.0, 8000.0).max(1.5 * rate_hz + 50.0),
            phases: [phase(&mut random), phase(&mut random)],
            lasts_s: random.random_range(5.0..9.0),
        }
    }
}

/// Errors of a rate as a share, and of a size, with their uncertainties.
type Errors = ((f64, f64), (f64, f64));

fn hold(
    name: &str,
    errors: &[Errors],
    rate_tolerance: f64,
    size: &str,
    unit: &'static str,
    size_tolerance: f64,
) {
    let rates = errors.iter().map(|(rate, _)| *rate);
    Accuracy::all(format!("modulation, {name}: rate"), "%", rates).hold(rate_tolerance);
    let sizes = errors.iter().map(|(_, size)| *size);
    Accuracy::all(format!("modulation, {name}: {size}"), unit, sizes).hold(size_tolerance);
}

fn percent(found: f64, u: f64, truth: f64) -> (f64, f64) {
    (100.0 * (found / truth - 1.0), 100.0 * u / truth)
}

#[test]
fn amplitude_modulation_is_known_by_rate_and_depth() {
    let errors = in_parallel(trials(120, 400), |seed| -> Errors {
        let case = Case::random(seed + 1000);
        let [a, b] = case.phases;
        let sound = sounding(seed, case.lasts_s, 0.2, |t| {
            let swell = 1.0 + case.depth * (TAU * case.rate_hz * t + a).cos();
            0.2 * swell * (TAU * case.carrier_hz * t + b).cos()
        });
        let found = measured(&sound);
        assert_eq!(found.kind, Kind::Am, "{seed}");
        let (rate, depth) = (found.rate_hz.expect("a rate"), found.depth.expect("a depth"));
        let error = percent(rate.value, rate.u, case.rate_hz);
        (error, (100.0 * (depth.value - case.depth), 100.0 * depth.u))
    });
    hold("AM 40 dB over noise", &errors, 2.5e-3, "depth", "points", 0.008);
}

#[test]
fn frequency_modulation_is_no_other() {
    let errors = in_parallel(trials(120, 400), |seed| -> Errors {
        let case = Case::random(seed + 2000);
        // From 0.15 to 3 radians, within a band that keeps clear of 0 Hz.
        let index = 3.0 * case.depth;
        let carrier_hz = case.carrier_hz.max(6.0 * case.rate_hz * (1.0 + index));
        let [a, b] = case.phases;
        let sound = sounding(seed, case.lasts_s, 0.2, |t| {
            let turned = index * (TAU * case.rate_hz * t + a).sin();
            0.2 * (TAU * carrier_hz * t + b + turned).cos()
        });
        let found = measured(&sound);
        assert_eq!(found.kind, Kind::Fm, "{seed}");
        let rate = found.frequency_rate_hz.expect("a rate");
        let deviation = found.frequency_deviation_hz.expect("a deviation");
        let error = percent(rate.value, rate.u, case.rate_hz);
        (error, percent(deviation.value, deviation.u, index * case.rate_hz))
    });
    hold("FM 40 dB over noise", &errors, 1.7e-3, "deviation", "%", 0.022);
}

#[test]
fn beats_are_named_with_their_tones() {
    let mut tones = Accuracy::new("modulation, beat: its tones", "Hz");
    let errors = in_parallel(trials(120, 400), |seed| {
        let case = Case::random(seed + 3000);
        let [a, b] = case.phases;
        let other_hz = case.carrier_hz + case.rate_hz;
        let sound = sounding(seed, case.lasts_s, 0.1, |t| {
            let strong = (TAU * case.carrier_hz * t + a).cos();
            0.1 * (strong + case.depth * (TAU * other_hz * t + b).cos())
        });
        let found = measured(&sound);
        assert_eq!((found.kind, found.beats.len()), (Kind::Beat, 1), "{seed}");
        let beat = found.beats[0];
        let off_hz =
            (beat.tones_hz.0 - case.carrier_hz).abs().max((beat.tones_hz.1 - other_hz).abs());
        let error = percent(beat.rate_hz, beat.rate_hz_u, case.rate_hz);
        ((error, (100.0 * (beat.depth - case.depth), 100.0 * beat.depth_u)), off_hz)
    });
    for (_, off_hz) in &errors {
        tones.add_bare(*off_hz);
    }
    tones.hold(5e-4);
    let errors: Vec<Errors> = errors.into_iter().map(|(errors, _)| errors).collect();
    hold("beat 40 dB over noise", &errors, 3.5e-3, "depth", "points", 0.018);
}

#[test]
fn a_beat_that_grows_faster_is_followed() {
    let mut errors = Accuracy::new("modulation, beat of 1 Hz to 20 Hz in 30 s", "%");
    let mut of_stretches = 0;
    for (seed, ratio) in [(1, 0.5), (2, 0.8), (3, 0.3)] {
        for is_even in [true, false] {
            let rate = |t: f64| if is_even { 1.0 + 19.0 * t / 30.0 } else { 20f64.powf(t / 30.0) };
            let turns = |t: f64| {
                let growth = 20f64.ln() / 30.0;
                if is_even { t + 19.0 * t * t / 60.0 } else { (growth * t).exp_m1() / growth }
            };
            let sound = sounding(seed, 30.0, 0.1, |t| {
                let tone = TAU * 500.0 * t;
                0.1 * (tone.cos() + ratio * (tone + TAU * turns(t)).cos())
            });
            let found = measured(&sound);
            let known = found.course.iter().filter_map(|at| Some((at.time_s, at.rate_hz?)));
            known.for_each(|(t, hz)| errors.add_bare(100.0 * (hz / rate(t) - 1.0)));
            of_stretches += found.course.len();
            assert!(found.slowest_hz.is_some() && found.beats.is_empty());
        }
    }
    println!("{of_stretches} stretches");
    errors.hold_worst(1.0);
}

#[test]
fn modulations_at_once_are_separated() {
    let errors = in_parallel(trials(40, 200), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 5000);
        let slow = spread(&mut random, 1.5, 15.0);
        let fast = slow * random.random_range(2.3..2.7);
        let depths = [random.random_range(0.3..0.6), random.random_range(0.1..0.25)];
        let (a, b) = (phase(&mut random), phase(&mut random));
        let sound = sounding(seed, 10.0, 0.1, |t| {
            let swell = |hz: f64, depth: f64, at: f64| 1.0 + depth * (TAU * hz * t + at).cos();
            0.1 * swell(slow, depths[0], a) * swell(fast, depths[1], b) * (TAU * 1000.0 * t).cos()
        });
        let found = measured(&sound);
        let near = |hz: f64| {
            let away = |rate: &&tonemap_core::modulation::Rate| (rate.rate_hz - hz).abs();
            *found.rates.iter().min_by(|x, y| away(x).total_cmp(&away(y))).expect("a rate")
        };
        [(slow, depths[0]), (fast, depths[1])].map(|(hz, depth)| {
            let rate = near(hz);
            (100.0 * (rate.rate_hz / hz - 1.0), 100.0 * (rate.depth - depth))
        })
    });
    let rates = errors.iter().flatten().map(|(rate, _)| *rate);
    Accuracy::all_bare("modulation, two at once: rate", "%", rates).hold(1.5e-3);
    let depths = errors.iter().flatten().map(|(_, depth)| *depth);
    Accuracy::all_bare("modulation, two at once: depth", "points", depths).hold(0.05);
}

#[test]
fn envelope_and_spectrum_agree_about_a_beat() {
    let errors = in_parallel(trials(60, 300), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 6000);
        let beat_hz = spread(&mut random, 8.0, 150.0);
        let tone_hz = spread(&mut random, 300.0, 3000.0);
        let sound = sounding(seed, 6.0, 0.1, |t| {
            0.1 * ((TAU * tone_hz * t).cos() + 0.6 * (TAU * (tone_hz + beat_hz) * t).cos())
        });
        let spectrum = measure(&to_samples(&sound), RATE_HZ, &SpectrumSettings::default());
        let differences = spectrum.expect("a spectrum").differences(2);
        let rate = measured(&sound).rate_hz.expect("a rate");
        let difference = &differences[0];
        let away_hz = rate.value - difference.difference_hz;
        (1e3 * away_hz, away_hz.abs() <= 2.0 * rate.u.hypot(difference.difference_hz_u))
    });
    let agree = errors.iter().filter(|(_, agrees)| *agrees).count();
    println!("{agree} of {} agree within 2 u", errors.len());
    assert!(100 * agree >= 95 * errors.len());
    let away = errors.iter().map(|(away, _)| *away);
    Accuracy::all_bare("modulation, beat: envelope less spectrum", "mHz", away).hold(6e-3);
}

#[test]
fn nothing_is_found_where_nothing_is() {
    let found = in_parallel(trials(60, 300), |seed| {
        let lasts_s = [2.0, 5.0, 10.0][(seed % 3) as usize];
        let count = (lasts_s * RATE_HZ) as usize;
        let sound = match seed / 3 % 3 {
            0 => white_noise(seed + 70, 0.1, count),
            1 => coloured_noise(seed + 70, 0.1, 400.0, 2.0, RATE_HZ, count),
            _ => {
                let hz = 200.0 + 37.0 * seed as f64;
                sounding(seed, lasts_s, 0.1, |t| 0.1 * (TAU * hz * t).cos())
            }
        };
        measured(&sound).kind == Kind::None
    });
    let wrong = found.iter().filter(|is_none| !**is_none).count();
    println!("modulation found in {wrong} of {} steady sounds", found.len());
    assert!(100 * wrong <= 3 * found.len());
}

/// Fluctuation strength and roughness of a tone that is modulated.
fn strengths(carrier_hz: f64, rate_hz: f64, depth: f64, level_db: f64) -> (f64, f64) {
    const FULL_SCALE_DB: f64 = 94.0;
    let amplitude =
        10f64.powf((level_db - FULL_SCALE_DB) / 20.0) / (1.0 + 0.5 * depth * depth).sqrt();
    let count = (2.5 * RATE_HZ) as usize;
    let sound: Vec<f64> = (0..count)
        .map(|n| {
            let t = n as f64 / RATE_HZ;
            amplitude * (1.0 + depth * (TAU * rate_hz * t).cos()) * (TAU * carrier_hz * t).sin()
        })
        .collect();
    let settings =
        ModulationSettings { full_scale_db: Some(FULL_SCALE_DB), ..ModulationSettings::default() };
    let found = modulation(&to_samples(&sound), RATE_HZ, 0.0, &settings).expect("measured");
    let strength = found.fluctuation_strength_vacil.expect("vacil");
    (strength, found.roughness_asper.expect("asper"))
}

#[test]
fn unit_signals_have_their_units() {
    let (vacil, _) = strengths(1000.0, 4.0, 1.0, 60.0);
    let (_, asper) = strengths(1000.0, 70.0, 1.0, 60.0);
    println!("{vacil:.3} vacil at 4 Hz, {asper:.3} asper at 70 Hz");
    assert!((vacil - 1.0).abs() < 0.005 && (asper - 1.0).abs() < 0.005);
}

#[test]
fn strengths_follow_their_published_courses() {
    // F ∝ 1/(r/4 + 4/r), and R ∝ m^1.6 (H. Fastl, E. Zwicker, Psychoacoustics, 10 and 11).
    let mut of_rate = Accuracy::new("fluctuation strength over the rate", "vacil");
    for rate in [1.0, 2.0, 8.0, 16.0, 32.0] {
        of_rate.add_bare(strengths(1000.0, rate, 1.0, 60.0).0 - 2.0 / (rate / 4.0 + 4.0 / rate));
    }
    of_rate.hold_worst(0.15);
    let mut of_depth = Accuracy::new("roughness over the depth", "asper");
    for depth in [0.2f64, 0.4, 0.6, 0.8] {
        of_depth.add_bare(strengths(1000.0, 70.0, depth, 60.0).1 - depth.powf(1.6));
    }
    of_depth.hold_worst(0.15);
    // Roughest at 70 Hz from 1 kHz up, at slower rates below.
    let best = |carrier_hz: f64, rates: [f64; 5]| {
        let rough = rates.map(|rate| (rate, strengths(carrier_hz, rate, 1.0, 60.0).1));
        rough.into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).map_or(0.0, |(rate, _)| rate)
    };
    assert!((60.0..=80.0).contains(&best(1000.0, [40.0, 50.0, 65.0, 80.0, 110.0])));
    assert!((60.0..=80.0).contains(&best(4000.0, [40.0, 50.0, 70.0, 90.0, 120.0])));
    assert!((30.0..=50.0).contains(&best(250.0, [20.0, 40.0, 60.0, 80.0, 110.0])));
    // Loud sound is rougher than soft.
    assert!(strengths(1000.0, 70.0, 1.0, 40.0).1 < strengths(1000.0, 70.0, 1.0, 80.0).1);
}
