//! The acoustics of rooms whose decay is known.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rustfft::FftPlanner;
use rustfft::num_complex::Complex64;
use tonemap_core::Measured;
use tonemap_core::room::{Excitation, FreeField, RoomAcoustics, RoomSettings, RoomValues, room};
use tonemap_core::synth::{to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    decays_have_their_time,
    means_of_decays_have_no_bias,
    noise_that_stops_decays_as_long,
    second_slopes_are_found,
    distortion_of_a_sweep_is_separated,
    strength_and_lateral_fraction_are_ratios_of_energies,
];

const RATE_HZ: f64 = 48_000.0;
/// A time of a band.
type Of = fn(&RoomValues) -> Option<Measured>;

/// Bands from this one on are those of 500 Hz and above.
const MIDDLE: usize = 3;

/// Noise that dies away by 60 dB in a time, from a level of 1.
fn decay(seed: u64, t60_s: f64, lasts_s: f64) -> Vec<f64> {
    let fall = -3.0 * std::f64::consts::LN_10 / (t60_s * RATE_HZ);
    let noise = white_noise(seed, 1.0, (lasts_s * RATE_HZ) as usize);
    noise.iter().enumerate().map(|(n, x)| x * (fall * n as f64).exp()).collect()
}

/// An impulse response in noise so far below its start, from 0.1 s on.
fn response(seed: u64, t60_s: f64, inr_db: f64) -> Vec<f64> {
    let lasts_s = t60_s * inr_db / 60.0 * 1.4 + 0.8;
    let decay = decay(seed, t60_s, lasts_s);
    in_noise(&decay, seed + 700_000, inr_db)
}

fn in_noise(decay: &[f64], seed: u64, inr_db: f64) -> Vec<f64> {
    const BEFORE: usize = 4800;
    let mut sound = white_noise(seed, 10f64.powf(-inr_db / 20.0), decay.len() + BEFORE);
    for (x, decay) in sound[BEFORE..].iter_mut().zip(decay) {
        *x += decay;
    }
    sound
}

fn measured(sound: &[f64], settings: &RoomSettings) -> RoomAcoustics {
    let quiet: Vec<f64> = sound.iter().map(|x| 0.1 * x).collect();
    room(&to_samples(&quiet), None, RATE_HZ, settings).expect("a room")
}

fn found(sound: &[f64]) -> RoomAcoustics {
    measured(sound, &RoomSettings::default())
}

/// How far a time is off, and its uncertainty, in percent.
fn off(time: Option<Measured>, truth_s: f64) -> Option<(f64, f64)> {
    time.map(|time| (100.0 * (time.value / truth_s - 1.0), 100.0 * time.u / truth_s))
}

#[test]
fn decays_have_their_time() {
    let all = in_parallel(trials(60, 400), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9100);
        let t60_s = 0.2 * 40f64.powf(random.random_range(0.0..1.0));
        let inr_db = random.random_range(25.0..60.0);
        (t60_s, found(&response(31 * seed, t60_s, inr_db)))
    });
    let times: [(&str, Of, [f64; 2]); 2] =
        [("T20", |of| of.t20_s, [4.5, 15.0]), ("T30", |of| of.t30_s, [3.5, 11.0])];
    for (name, of, tolerances) in times {
        let ranges = [(MIDDLE..8, "500 Hz to 8 kHz"), (0..MIDDLE, "63 to 250 Hz")];
        for ((bands, range), most) in ranges.into_iter().zip(tolerances) {
            let errors = all.iter().flat_map(|(t60_s, found)| {
                let bands = found.bands.get(bands.clone()).unwrap_or_default();
                bands.iter().filter_map(|band| off(of(&band.values), *t60_s))
            });
            Accuracy::all(format!("room, {range}: {name}"), "%", errors).hold(most);
        }
    }
    let doubles = all.iter().flat_map(|(_, found)| &found.bands);
    let doubles = doubles.filter(|band| band.values.late_s.is_some()).count();
    assert_eq!(doubles, 0, "a single slope was taken for two");
}

/// Means of 50 responses: times in bands where so many scatter by less than 0.4 %, and what is early
/// and late against the closed forms of an exponential decay.
#[test]
fn means_of_decays_have_no_bias() {
    const COUNT: u64 = 50;
    const SURE_PERCENT: f64 = 0.4;
    let mut times = Accuracy::new("room, mean of 50 responses: T20 and T30", "%");
    let mut mid = Accuracy::new("room: Tmid", "%");
    let mut clarity = Accuracy::new("room, mean of 50 responses: C50 and C80", "dB");
    let mut definition = Accuracy::new("room, mean of 50 responses: D50", "");
    let mut centre = Accuracy::new("room, mean of 50 responses: Ts", "%");
    for (n, (t60_s, inr_db)) in [(0.6, 50.0), (1.5, 30.0), (4.0, 40.0)].into_iter().enumerate() {
        let all = in_parallel(COUNT, |seed| {
            found(&response(500_000 + 1000 * n as u64 + 3 * seed, t60_s, inr_db))
        });
        let rate = 6.0 * std::f64::consts::LN_10 / t60_s;
        let of_mid = all.iter().filter_map(|one| off(one.mid_s, t60_s));
        of_mid.for_each(|(off, u)| mid.add(off, u));
        let c_db = |early_s: f64| 10.0 * (rate * early_s).exp_m1().log10();
        for band in MIDDLE..8 {
            for of in [(|of| of.t20_s) as Of, |of| of.t30_s] {
                let known: Vec<(f64, f64)> =
                    all.iter().filter_map(|one| off(of(&one.bands[band].values), t60_s)).collect();
                let count = known.len() as f64;
                let sure = known.iter().map(|(_, u)| u / count / count.sqrt()).sum::<f64>();
                if known.len() as u64 == COUNT && sure < SURE_PERCENT {
                    times.add_bare(known.iter().map(|(off, _)| off / count).sum());
                }
            }
            let mean = |of: fn(&RoomValues) -> Option<f64>| {
                let known = all.iter().map(|one| of(&one.bands[band].values).expect("known"));
                known.sum::<f64>() / COUNT as f64
            };
            clarity.add_bare(mean(|of| of.c50_db) - c_db(0.05));
            clarity.add_bare(mean(|of| of.c80_db) - c_db(0.08));
            definition.add_bare(mean(|of| of.d50) + (-rate * 0.05).exp_m1());
            centre.add_bare(100.0 * (mean(|of| of.ts_s) * rate - 1.0));
        }
    }
    times.hold_worst(1.0);
    mid.hold(5.0);
    clarity.hold_worst(0.3);
    definition.hold_worst(0.015);
    centre.hold_worst(4.0);
}

fn convolved(a: &[f64], b: &[f64]) -> Vec<f64> {
    let size = (a.len() + b.len()).next_power_of_two();
    let mut planner = FftPlanner::new();
    let mut spectrum = |of: &[f64]| {
        let mut all: Vec<Complex64> = of.iter().map(|x| Complex64::new(*x, 0.0)).collect();
        all.resize(size, Complex64::default());
        planner.plan_fft_forward(size).process(&mut all);
        all
    };
    let (mut of_a, of_b) = (spectrum(a), spectrum(b));
    of_a.iter_mut().zip(&of_b).for_each(|(a, b)| *a *= b / size as f64);
    FftPlanner::new().plan_fft_inverse(size).process(&mut of_a);
    of_a.iter().take(a.len() + b.len() - 1).map(|value| value.re).collect()
}

/// Noise that is switched on and off.
#[test]
fn noise_that_stops_decays_as_long() {
    let all = in_parallel(trials(24, 120), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9200);
        let t60_s: f64 = 0.3 * 8f64.powf(random.random_range(0.0..1.0));
        let stops = random.random_range(1..=3u64);
        let every_s = 2.0 + 1.3 * t60_s;
        let count = ((0.5 + stops as f64 * every_s) * RATE_HZ) as usize;
        let sounds = |n: &usize| {
            let t = *n as f64 / RATE_HZ - 0.5;
            t >= 0.0 && t % every_s < 1.8
        };
        let noise = white_noise(41 * seed + 7, 1.0, count);
        let played: Vec<f64> =
            (0..count).map(|n| if sounds(&n) { noise[n] } else { 0.0 }).collect();
        let mut sound = convolved(&played, &decay(43 * seed + 9, t60_s, 1.2 * t60_s));
        let steady = (t60_s * RATE_HZ / 13.8).sqrt();
        for (x, noise) in sound.iter_mut().zip(white_noise(47 * seed, 1.0, count)) {
            *x = *x / steady + 1e-3 * noise;
        }
        sound.truncate(count);
        let found = found(&sound);
        assert_eq!(found.excitation, Excitation::InterruptedNoise, "{seed}");
        assert_eq!(found.decays, stops, "{seed}");
        found.bands.iter().filter_map(|of| off(of.values.t20_s, t60_s)).collect::<Vec<_>>()
    });
    Accuracy::all("room, noise that stops: T20", "%", all.into_iter().flatten()).hold(9.0);
}

#[test]
fn second_slopes_are_found() {
    let all = in_parallel(trials(24, 120), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9300);
        let first_s = random.random_range(0.4..1.2);
        let late_s = first_s * random.random_range(2.5..4.0);
        let level_db: f64 = random.random_range(-22.0..-10.0);
        // Levels of a slope are those of its energy, which is its power by its time.
        let share = (10f64.powf(level_db / 10.0) / (1.0 - 10f64.powf(level_db / 10.0)) * first_s
            / late_s)
            .sqrt();
        let mut sum = decay(53 * seed, first_s, 1.5 * late_s);
        for (x, late) in sum.iter_mut().zip(decay(59 * seed + 1, late_s, 1.5 * late_s)) {
            *x += share * late;
        }
        let found = found(&in_noise(&sum, 61 * seed + 2, 62.0));
        let bands = &found.bands[MIDDLE..];
        bands.iter().map(|of| off(of.values.late_s, late_s)).collect::<Vec<_>>()
    });
    let bands: Vec<Option<(f64, f64)>> = all.into_iter().flatten().collect();
    let missed = bands.iter().filter(|found| found.is_none()).count();
    println!("second slopes: {missed} of {} missed", bands.len());
    assert!(100 * missed <= bands.len(), "{missed} of {}", bands.len());
    Accuracy::all("room, two slopes: the second", "%", bands.into_iter().flatten()).hold(6.0);
}

/// An exponential sweep below 6 kHz, whose harmonics are all there, or one of these.
fn sweep(harmonic: f64) -> Vec<f64> {
    let lasts_s = 4.0;
    let rate_s = lasts_s / f64::ln(6000.0 / 30.0);
    let turns = |t: f64| 30.0 * rate_s * (t / rate_s).exp_m1();
    let count = (lasts_s * RATE_HZ) as usize;
    let mut sweep: Vec<f64> = (0..count)
        .map(|n| (harmonic * std::f64::consts::TAU * turns(n as f64 / RATE_HZ)).sin())
        .collect();
    tonemap_core::synth::fade(&mut sweep, 0.01, RATE_HZ);
    sweep
}

#[test]
fn distortion_of_a_sweep_is_separated() {
    let [sweep, second, third] = [1.0, 2.0, 3.0].map(sweep);
    let differences = in_parallel(trials(40, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9400);
        let t60_s = random.random_range(0.3..3.0);
        let response = decay(67 * seed, t60_s, 1.4 * t60_s);
        let of = |distortion: f64| {
            let harmonics = second.iter().zip(&third);
            let all = sweep.iter().zip(harmonics);
            let played: Vec<f64> =
                all.map(|(x, (second, third))| x + distortion * (second + third)).collect();
            let mut sound = convolved(&played, &response);
            sound.extend(vec![0.0; (0.5 * RATE_HZ) as usize]);
            let noise = white_noise(71 * seed + 3, 0.01, sound.len());
            sound.iter_mut().zip(noise).for_each(|(x, noise)| *x = 0.02 * (*x + noise));
            let settings = RoomSettings { sweep: Some(sweep.clone()), ..RoomSettings::default() };
            measured(&sound, &settings)
        };
        let (clean, distorted) = (of(0.0), of(0.01));
        assert_eq!(distorted.excitation, Excitation::Sweep, "{seed}");
        let db = distorted.distortion_db.expect("harmonics");
        // Two of 1 %, of which a part is higher than the sweep goes.
        assert!((db + 37.0).abs() < 3.0, "{seed}: {db:.1} dB");
        let times = |of: &RoomAcoustics| -> Vec<Option<Measured>> {
            of.bands.iter().map(|band| band.values.t20_s).collect()
        };
        let both = times(&clean).into_iter().zip(times(&distorted));
        both.filter_map(|(a, b)| Some(100.0 * (b?.value / a?.value - 1.0))).collect::<Vec<_>>()
    });
    let differences = differences.into_iter().flatten();
    Accuracy::all_bare("room, sweep with 1 % of two harmonics: T20 moves", "%", differences)
        .hold_worst(1.0);
}

/// Energy of a sound in a range of frequencies, by its spectrum.
fn energy_within(sound: &[f64], (low_hz, high_hz): (f64, f64)) -> f64 {
    let size = sound.len().next_power_of_two().max(1 << 17);
    let mut all: Vec<Complex64> = sound.iter().map(|x| Complex64::new(*x, 0.0)).collect();
    all.resize(size, Complex64::default());
    FftPlanner::new().plan_fft_forward(size).process(&mut all);
    let bin = |hz: f64| (hz / RATE_HZ * size as f64) as usize;
    all[bin(low_hz)..bin(high_hz)].iter().map(Complex64::norm_sqr).sum::<f64>() / size as f64
}

/// A source in a free field and in a room, heard by two microphones: bursts, and a sweep.
#[test]
fn strength_and_lateral_fraction_are_ratios_of_energies() {
    let played = sweep(1.0);
    let all = in_parallel(trials(40, 200), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9450);
        let t60_s = random.random_range(0.4..2.5);
        let (away_m, free_m) = (random.random_range(2.0..20.0), random.random_range(1.0..8.0));
        let late = random.random_range(0.002..0.02);
        let side = random.random_range(0.3..0.9);
        let mut heard: Vec<f64> = decay(73 * seed, t60_s, 1.2 * t60_s);
        for x in &mut heard {
            *x *= late;
        }
        heard[0] = 1.0 / away_m;
        let mut lateral: Vec<f64> = decay(79 * seed + 5, t60_s, 1.2 * t60_s);
        for x in &mut lateral {
            *x *= side * late;
        }
        // The pattern has its null towards the source.
        lateral[..96].fill(0.0);
        let mut free = vec![0.0; 24_000];
        free[0] = 1.0 / free_m;
        let is_sweep = seed % 2 == 1;
        let recorded = |response: &[f64], noise: u64| {
            let sound = if is_sweep { convolved(&played, response) } else { response.to_vec() };
            let level = if is_sweep { 1e-3 } else { 1e-5 };
            let mut all = white_noise(noise, level, 4800 + sound.len());
            all[4800..].iter_mut().zip(&sound).for_each(|(x, sound)| *x += sound);
            to_samples(&all)
        };
        // The sweep ends at 6 kHz.
        let settings = RoomSettings {
            sweep: is_sweep.then(|| played.clone()),
            range_hz: (125.0, 4000.0),
            ..RoomSettings::default()
        };
        let seeds = [1, 2, 3].map(|n| 83 * seed + 900_000 * n);
        let direct = FreeField::measure(&recorded(&free, seeds[0]), RATE_HZ, &settings, free_m);
        let settings = RoomSettings { free_field: direct.expect("a take"), ..settings };
        let (omni, eight) = (recorded(&heard, seeds[1]), recorded(&lateral, seeds[2]));
        let found = room(&omni, Some(&eight), RATE_HZ, &settings).expect("a room");
        let (low, high) = (found.bands[0].band.low_hz, found.bands[5].band.high_hz);
        let of = |sound: &[f64], from_s: f64, to_s: f64| {
            let place = |s: f64| ((s * RATE_HZ) as usize).min(sound.len());
            energy_within(&sound[place(from_s)..place(to_s)], (low, high))
        };
        let strength = 10.0 * (of(&heard, 0.0, 60.0) / of(&free, 0.0, 60.0)).log10()
            + 20.0 * (10.0 / free_m).log10();
        let fraction = of(&lateral, 0.005, 0.08) / of(&heard, 0.0, 0.08);
        let values = &found.broadband;
        let [g, lf] = [values.strength_db, values.lateral_fraction].map(|of| of.expect("known"));
        (g - strength, 100.0 * (lf / fraction - 1.0))
    });
    let (strength, fraction): (Vec<f64>, Vec<f64>) = all.into_iter().unzip();
    Accuracy::all_bare("room: strength G", "dB", strength).hold_worst(0.15);
    Accuracy::all_bare("room: early lateral fraction", "%", fraction).hold_worst(6.0);
}
