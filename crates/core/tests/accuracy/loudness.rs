//! Loudness, sharpness and what a difference of loudness is made of.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::Measured;
use tonemap_core::bands::Stream;
use tonemap_core::loudness::{Loudness, LoudnessMeter, LoudnessSettings, Method, SoundField};
use tonemap_core::synth::{shaped_noise, to_samples};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    reference_sounds_have_their_loudness,
    pink_noise_has_its_loudness,
    ten_decibels_double_the_loudness,
    tones_follow_the_equal_loudness_contours,
    diffuse_fields_count_as_the_table_has_it,
    short_sounds_are_less_loud,
    bands_of_noise_have_their_sharpness,
    noise_is_known_by_its_loudness,
    levels_carry_their_uncertainty_on,
    bands_that_differ_weigh_most,
];

const RATE_HZ: f64 = 48_000.0;
/// Level of a full-scale sine.
const FULL_SCALE_DB: f64 = 100.0;

fn measured(sound: &[f64], rate_hz: f64, settings: &LoudnessSettings) -> Loudness {
    let samples = to_samples(sound);
    let stream = Stream {
        rate_hz,
        lead: 0,
        samples: samples.len() as u64,
        start_s: 0.0,
        weights: vec![1.0],
    };
    let mut meter = LoudnessMeter::new(settings, &stream).expect("settings");
    for part in samples.chunks(7777) {
        meter.push(&[part]);
    }
    meter.finish()
}

fn settings(method: Method) -> LoudnessSettings {
    LoudnessSettings { method, full_scale_db: FULL_SCALE_DB, ..LoudnessSettings::default() }
}

fn tone(hz: f64, level_db: f64, lasts_s: f64, rate_hz: f64) -> Vec<f64> {
    let amplitude = 10f64.powf((level_db - FULL_SCALE_DB) / 20.0);
    let count = (lasts_s * rate_hz) as usize;
    (0..count).map(|n| amplitude * (TAU * hz * n as f64 / rate_hz).sin()).collect()
}

fn sone(found: &Loudness) -> f64 {
    found.loudness_sone.expect("a loudness").value
}

/// ISO 532-1:2017, annex B: tones whose loudness is given, by both methods, at several sample rates.
#[test]
fn reference_sounds_have_their_loudness() {
    const TONES: [(f64, f64, f64); 3] =
        [(250.0, 80.0, 14.655), (1000.0, 60.0, 4.019), (4000.0, 40.0, 1.549)];
    let mut errors = Vec::new();
    for rate_hz in [RATE_HZ, 44_100.0, 96_000.0] {
        for (hz, level_db, expected) in TONES {
            for method in [Method::Stationary, Method::TimeVarying] {
                let found = measured(&tone(hz, level_db, 4.0, rate_hz), rate_hz, &settings(method));
                let found = sone(&found);
                println!("{hz} Hz, {level_db} dB, {rate_hz} Hz: {found:.4}, {expected} sone");
                errors.push(100.0 * (found / expected - 1.0));
            }
        }
    }
    Accuracy::all_bare("loudness, reference tones: N", "%", errors).hold_worst(0.8);
}

/// The same annex: pink noise of 60 dB. Its level is that of all it has; how far down it reaches is
/// not stated, and what lies below 20 Hz is not heard but counts. A line spectrum over 10 s, from
/// 0.1 Hz to half the sample rate, has the published loudness.
#[test]
fn pink_noise_has_its_loudness() {
    let errors = in_parallel(trials(8, 40), |seed| {
        let mut sound =
            shaped_noise(seed, 480_000, RATE_HZ, |hz| if hz > 0.0 { 1.0 / hz } else { 0.0 });
        let rms = (sound.iter().map(|x| x * x).sum::<f64>() / sound.len() as f64).sqrt();
        let wanted = 10f64.powf((60.0 - FULL_SCALE_DB) / 20.0) / 2f64.sqrt();
        for x in &mut sound {
            *x *= wanted / rms;
        }
        100.0 * (sone(&measured(&sound, RATE_HZ, &settings(Method::Stationary))) / 10.498 - 1.0)
    });
    let mean = errors.iter().sum::<f64>() / errors.len() as f64;
    println!("mean {mean:.2} %");
    Accuracy::all_bare("loudness, pink noise of 60 dB: N", "%", errors).hold(3.0);
}

/// Of a tone of 1 kHz the loudness doubles with every 10 dB from 40 dB on, and its loudness level is
/// its level.
#[test]
fn ten_decibels_double_the_loudness() {
    let errors = in_parallel(41, |n| {
        let level_db = 40.0 + n as f64;
        let found =
            measured(&tone(1000.0, level_db, 2.0, RATE_HZ), RATE_HZ, &settings(Method::Stationary));
        found.loudness_level_phon.expect("a level").value - level_db
    });
    Accuracy::all_bare("loudness, tones of 1 kHz, 40-80 dB: level", "phon", errors).hold_worst(0.5);
}

/// Exponents, transfer and threshold of ISO 226:2003, table 1, in thirds of an octave from 25 Hz.
const CONTOURS: [(f64, f64, f64); 28] = [
    (0.506, -27.2, 68.7),
    (0.480, -23.0, 59.5),
    (0.455, -19.1, 51.1),
    (0.432, -15.9, 44.0),
    (0.409, -13.0, 37.5),
    (0.387, -10.3, 31.5),
    (0.367, -8.1, 26.5),
    (0.349, -6.2, 22.1),
    (0.330, -4.5, 17.9),
    (0.315, -3.1, 14.4),
    (0.301, -2.0, 11.4),
    (0.288, -1.1, 8.6),
    (0.276, -0.4, 6.2),
    (0.267, 0.0, 4.4),
    (0.259, 0.3, 3.0),
    (0.253, 0.5, 2.2),
    (0.250, 0.0, 2.4),
    (0.246, -2.7, 3.5),
    (0.244, -4.1, 1.7),
    (0.243, -1.0, -1.3),
    (0.243, 1.7, -4.2),
    (0.243, 2.5, -6.0),
    (0.242, 1.2, -5.4),
    (0.242, -2.1, -1.5),
    (0.245, -7.1, 6.0),
    (0.254, -11.2, 12.6),
    (0.271, -10.7, 13.9),
    (0.301, -3.1, 12.3),
];

/// Level that a tone needs for a loudness level (ISO 226:2003, equation 1).
fn contour_db(third: usize, phon: f64) -> f64 {
    let (exponent, transfer, threshold) = CONTOURS[third];
    let heard = 4.47e-3 * (10f64.powf(0.025 * phon) - 1.15)
        + (0.4 * 10f64.powf((threshold + transfer) / 10.0 - 9.0)).powf(exponent);
    10.0 / exponent * heard.log10() - transfer + 94.0
}

/// ISO 532-1 rests on older contours than ISO 226:2003: how far it is from these is known, and shown.
#[test]
fn tones_follow_the_equal_loudness_contours() {
    for (phon, most) in [(40.0, 14.0), (60.0, 10.0), (80.0, 10.0)] {
        let errors = in_parallel(24, |n| {
            // 50 Hz to 10 kHz.
            let third = n as usize + 3;
            let hz = 1000.0 * 10f64.powf((third as f64 - 16.0) / 10.0);
            let sound = tone(hz, contour_db(third, phon), 2.0, RATE_HZ);
            let found = measured(&sound, RATE_HZ, &settings(Method::Stationary));
            found.loudness_level_phon.expect("a level").value - phon
        });
        let shown: Vec<String> = errors.iter().map(|error| format!("{error:+.1}")).collect();
        println!("{phon} phon, 50 Hz to 10 kHz: {}", shown.join(" "));
        let mean = errors.iter().sum::<f64>() / errors.len() as f64;
        println!("mean {mean:+.1} phon");
        Accuracy::all_bare(format!("loudness, contour of {phon} phon: level"), "phon", errors)
            .hold(most);
    }
}

/// A tone in a diffuse field is as loud as one in a free field that is louder by the table's
/// difference (ISO 532-1:2017, table A.5).
#[test]
fn diffuse_fields_count_as_the_table_has_it() {
    /// From 315 Hz on.
    const DIFFUSE_DB: [f64; 17] =
        [0.9, 1.2, 1.6, 2.3, 2.8, 3.0, 2.0, 0.0, -1.4, -2.0, -1.9, -1.0, 0.5, 3.0, 4.0, 4.3, 4.0];
    let errors = DIFFUSE_DB.iter().enumerate().map(|(n, by_db)| {
        let at = |db: f64| [(1000.0 * 10f64.powf((n as f64 - 5.0) / 10.0), Measured::new(db, 0.0))];
        let level = |db: f64, field| Loudness::of_levels(&at(db), field).expect("levels");
        let (diffuse, free) =
            (level(60.0, SoundField::Diffuse), level(60.0 + by_db, SoundField::Free));
        // Within the slopes only: a millionth is rounding.
        assert!((sone(&diffuse) / sone(&free) - 1.0).abs() < 1e-6);
        sone(&diffuse) / sone(&level(60.0, SoundField::Free))
    });
    let (least, most) = errors.fold((f64::INFINITY, 0.0f64), |(a, b), x| (a.min(x), b.max(x)));
    println!("diffuse over free, tones of 60 dB: {least:.2} to {most:.2}");
    assert!(least < 0.9 && most > 1.25, "{least} {most}");
}

/// Bursts of 1 kHz: one of 10 ms is about half as loud as a long one (E. Zwicker, H. Fastl,
/// Psychoacoustics, chapter 8.5), one of 100 ms nearly as loud, and all die away.
#[test]
fn short_sounds_are_less_loud() {
    let with_course = LoudnessSettings { keeps_course: true, ..settings(Method::TimeVarying) };
    let burst = |lasts_s: f64| {
        let mut sound = vec![0.0; 2 * RATE_HZ as usize];
        let mut tone = tone(1000.0, 70.0, lasts_s, RATE_HZ);
        // Without ramps it begins and ends with a click.
        tonemap_core::synth::fade(&mut tone, 0.002, RATE_HZ);
        let count = tone.len();
        sound[9600..9600 + count].copy_from_slice(&tone);
        measured(&sound, RATE_HZ, &with_course)
    };
    let steady = burst(1.2).max_sone.expect("a loudness");
    let share = |lasts_s: f64| burst(lasts_s).max_sone.expect("a loudness") / steady;
    let [ten, hundred, five_hundred] = [0.01, 0.1, 0.5].map(share);
    println!("10, 100, 500 ms: {ten:.3}, {hundred:.3}, {five_hundred:.3} of the tone");
    assert!((0.45..0.6).contains(&ten) && (0.8..0.95).contains(&hundred), "{ten} {hundred}");
    assert!((five_hundred - 1.0).abs() < 0.01, "{five_hundred}");
    // After its end it falls to a tenth within 100 to 250 ms, sooner after a shorter sound.
    let falls = |lasts_s: f64| {
        let found = burst(lasts_s);
        let end_s = 0.2 + lasts_s;
        let most = found.max_sone.expect("a loudness");
        let below = |at: &&tonemap_core::loudness::Moment| {
            at.time_s > end_s && at.loudness_sone < 0.1 * most
        };
        found.course.iter().find(below).expect("it ends").time_s - end_s
    };
    let [short, long] = [0.01, 0.5].map(falls);
    println!("to a tenth after 10 ms: {short:.3} s, after 500 ms: {long:.3} s");
    assert!(short < long && (0.1..0.25).contains(&long), "{short} {long}");
    // A tone whose level rises by 20 dB within 0.5 s is four times as loud in the end.
    let mut rising = tone(1000.0, 50.0, 2.0, RATE_HZ);
    for (n, x) in rising.iter_mut().enumerate() {
        let place = ((n as f64 / RATE_HZ - 0.5) / 0.5).clamp(0.0, 1.0);
        *x *= 10f64.powf(place);
    }
    let found = measured(&rising, RATE_HZ, &with_course);
    let at = |time_s: f64| found.course[(time_s / 0.002) as usize].loudness_sone;
    let [before, within, after] = [0.45, 0.75, 1.6].map(at);
    println!("rising tone: {before:.3}, {within:.3}, {after:.3} sone");
    // It follows with the delay of its weighting, some 40 ms: 1.6 dB.
    assert!((after / before - 4.0).abs() < 0.1 && (within / before / 1.79 - 1.0).abs() < 0.05);
}

/// DIN 45692:2009, annex A: noise of one critical band and 60 dB, by its middle.
#[test]
fn bands_of_noise_have_their_sharpness() {
    const MIDDLES: [(f64, f64, f64); 21] = [
        (250.0, 100.0, 0.38),
        (350.0, 100.0, 0.49),
        (450.0, 110.0, 0.60),
        (570.0, 120.0, 0.71),
        (700.0, 140.0, 0.82),
        (840.0, 150.0, 0.93),
        (1000.0, 160.0, 1.00),
        (1170.0, 190.0, 1.13),
        (1370.0, 210.0, 1.26),
        (1600.0, 240.0, 1.35),
        (1850.0, 280.0, 1.49),
        (2150.0, 320.0, 1.64),
        (2500.0, 380.0, 1.78),
        (2900.0, 450.0, 2.06),
        (3400.0, 550.0, 2.40),
        (4000.0, 700.0, 2.82),
        (4800.0, 900.0, 3.48),
        (5800.0, 1100.0, 4.43),
        (7000.0, 1300.0, 5.52),
        (8500.0, 1800.0, 6.81),
        (10_500.0, 2500.0, 8.55),
    ];
    let found = in_parallel(MIDDLES.len() as u64, |n| {
        let (middle, width, _) = MIDDLES[n as usize];
        let power = 0.5 * 10f64.powf((60.0 - FULL_SCALE_DB) / 10.0) / width;
        let sound = shaped_noise(n + 900, 480_000, RATE_HZ, |hz| {
            if (hz - middle).abs() < 0.5 * width { power } else { 0.0 }
        });
        let found = measured(&sound, RATE_HZ, &settings(Method::Stationary));
        found.sharpness_acum.expect("a sharpness").value
    });
    let reference = found[6];
    println!("reference: {reference:.4} acum");
    assert!((reference - 1.0).abs() < 0.01, "{reference}");
    let errors = found.iter().zip(MIDDLES).map(|(found, (middle, _, expected))| {
        println!("{middle} Hz: {found:.3}, {expected} acum");
        100.0 * (found / expected - 1.0)
    });
    let errors: Vec<f64> = errors.collect();
    Accuracy::all_bare("loudness, bands of noise, 250 Hz-10.5 kHz: sharpness", "%", errors)
        .hold_worst(8.0);
}

/// Noise of random slope and level, against a minute and more of the same.
#[test]
fn noise_is_known_by_its_loudness() {
    /// Sounds that are known, and takes of each.
    const TAKES: u64 = 20;
    for (method, name, most) in [
        (Method::Stationary, "stationary", [0.5, 0.4]),
        (Method::TimeVarying, "time-varying", [0.6, 0.4]),
    ] {
        let errors = in_parallel(trials(6, 30), |sound| {
            let mut random = ChaCha8Rng::seed_from_u64(sound + 81_000);
            let slope: f64 = random.random_range(-1.5..0.5);
            let level_db: f64 = random.random_range(45.0..75.0);
            let density = |hz: f64| {
                let power = 10f64.powf((level_db - FULL_SCALE_DB) / 10.0) / 4000.0;
                if (20.0..16_000.0).contains(&hz) { power * (hz / 1000.0).powf(slope) } else { 0.0 }
            };
            let noise = |seed: u64, lasts_s: f64| {
                shaped_noise(seed, (lasts_s * RATE_HZ) as usize, RATE_HZ, density)
            };
            let known = measured(&noise(900_000 + sound, 150.0), RATE_HZ, &settings(method));
            let mut of_takes = Vec::new();
            for take in 0..TAKES {
                let lasts_s = 2.0 * 6f64.powf(random.random_range(0.0..1.0));
                let sound = noise(1000 * sound + take, lasts_s);
                let found = measured(&sound, RATE_HZ, &settings(method));
                let both = [
                    (found.loudness_sone, known.loudness_sone),
                    (found.sharpness_acum, known.sharpness_acum),
                ];
                of_takes.push(both.map(|(found, known)| {
                    let (found, known) = (found.expect("a value"), known.expect("a value").value);
                    (100.0 * (found.value / known - 1.0), 100.0 * found.u / known)
                }));
            }
            of_takes
        });
        for (n, quantity) in ["N", "sharpness"].into_iter().enumerate() {
            let errors = errors.iter().flatten().map(|both| both[n]);
            Accuracy::all(format!("loudness, noise, {name}: {quantity}"), "%", errors)
                .hold(most[n]);
        }
    }
}

/// Levels of thirds that err at random give loudness and sharpness that err by their uncertainty.
#[test]
fn levels_carry_their_uncertainty_on() {
    use rand_distr::{Distribution, Normal};
    let mut random = ChaCha8Rng::seed_from_u64(5150);
    let (mut loudness, mut acum) = (Vec::new(), Vec::new());
    for _ in 0..400 {
        let slope: f64 = random.random_range(-2.0..1.0);
        let start: f64 = random.random_range(40.0..80.0);
        let bands: Vec<(f64, f64, f64)> = (0..28)
            .map(|n| {
                let u: f64 = random.random_range(0.05..1.0);
                let middle = 1000.0 * 10f64.powf((f64::from(n) - 16.0) / 10.0);
                (middle, start + slope * f64::from(n) + random.random_range(-5.0..5.0), u)
            })
            .collect();
        let exact: Vec<_> = bands.iter().map(|(hz, db, u)| (*hz, Measured::new(*db, *u))).collect();
        let known = Loudness::of_levels(&exact, SoundField::Free).expect("levels");
        let mut off = |(hz, db, u): &(f64, f64, f64)| {
            let error = Normal::new(0.0, *u).expect("a deviation").sample(&mut random);
            (*hz, Measured::new(db + error, *u))
        };
        let given: Vec<_> = bands.iter().map(&mut off).collect();
        let found = Loudness::of_levels(&given, SoundField::Free).expect("levels");
        let relative = |found: Option<Measured>, known: Option<Measured>| {
            let (found, known) = (found.expect("a value"), known.expect("a value").value);
            (100.0 * (found.value / known - 1.0), 100.0 * found.u / known)
        };
        loudness.push(relative(found.loudness_sone, known.loudness_sone));
        acum.push(relative(found.sharpness_acum, known.sharpness_acum));
    }
    Accuracy::all("loudness of levels that err: N", "%", loudness).hold(3.0);
    Accuracy::all("loudness of levels that err: sharpness", "%", acum).hold(3.0);
}

/// Levels of which one band is higher than in another sound: that band is first, and what it would
/// save is the whole difference; of noise it is first too.
#[test]
fn bands_that_differ_weigh_most() {
    let mut random = ChaCha8Rng::seed_from_u64(6100);
    let mut worst = 0.0f64;
    for seed in 0..trials(100, 1000) {
        let bands: [(f64, f64); 28] = std::array::from_fn(|n| {
            (1000.0 * 10f64.powf((n as f64 - 16.0) / 10.0), random.random_range(30.0..80.0))
        });
        let third: usize = random.random_range(11..28);
        let by_db = random.random_range(5.0..20.0);
        let of = |by_db: f64| {
            let level = |(n, (hz, db)): (usize, &(f64, f64))| {
                (*hz, Measured::new(if n == third { db + by_db } else { *db }, 0.0))
            };
            let levels: Vec<_> = bands.iter().enumerate().map(level).collect();
            Loudness::of_levels(&levels, SoundField::Free).expect("levels")
        };
        let (mut a, b) = (of(by_db), of(0.0));
        a.weigh_against(&b);
        let difference = sone(&a) - sone(&b);
        // What is masked by its neighbours saves nothing.
        if difference > 1e-6 {
            let first = a.weighs_most[0];
            assert!((first.frequency_hz / bands[third].0 - 1.0).abs() < 1e-9, "{seed}");
            worst = worst.max((first.gain_sone - difference).abs());
        }
    }
    println!("what the band would save is off by {worst:.1e} sone at most");
    assert!(worst < 1e-9, "{worst:.1e}");

    for seed in 0..trials(6, 40) {
        let third: usize = random.random_range(13..26);
        let middle = 1000.0 * 10f64.powf((third as f64 - 16.0) / 10.0);
        let base = |hz: f64| if hz > 30.0 { 1e-8 / hz } else { 0.0 };
        let more = random.random_range(30.0..300.0);
        let within = (middle / 1.1)..(middle * 1.1);
        let louder = |hz: f64| if within.contains(&hz) { more * base(hz) } else { base(hz) };
        let noise = |density: &dyn Fn(f64) -> f64| {
            let sound = shaped_noise(seed, 240_000, RATE_HZ, density);
            measured(&sound, RATE_HZ, &settings(Method::Stationary))
        };
        let (mut a, b) = (noise(&louder), noise(&base));
        a.weigh_against(&b);
        assert!((a.weighs_most[0].frequency_hz / middle - 1.0).abs() < 1e-9, "{middle} Hz");
        assert!(a.weighs_most.windows(2).all(|pair| pair[0].gain_sone >= pair[1].gain_sone));
    }
}
