//! Levels in bands and over all frequencies, and the insulation between rooms.

use std::f64::consts::{LN_2, TAU};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Normal};
use tonemap_core::Measured;
use tonemap_core::bands::{
    BandLevel, BandMeter, BandSettings, Correction, Levels, Stream, TimeWeighting, TotalMeter,
    Weighting, octave_bands,
};
use tonemap_core::isolation::{Isolation, Positions, Room, airborne, isolation};
use tonemap_core::synth::{shaped_noise, to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    steady_tones_keep_to_the_mask,
    sweeps_give_the_width_of_the_band,
    noise_is_known_by_its_bands,
    noise_is_known_by_its_weighted_levels,
    backgrounds_are_subtracted,
    bands_add_up_to_the_whole,
    weighted_tones_follow_the_curves,
    tone_bursts_read_what_they_should,
    percentiles_are_those_of_the_steps,
    insulation_is_known_in_bands,
];

fn measured(sound: &[f64], rate_hz: f64, settings: &BandSettings) -> Levels {
    with_lead(sound, rate_hz, settings, 0)
}

/// The same of what follows so many samples that are there before.
fn with_lead(sound: &[f64], rate_hz: f64, settings: &BandSettings, lead: usize) -> Levels {
    let samples = to_samples(sound);
    let stream = Stream {
        rate_hz,
        lead: lead as u64,
        samples: (samples.len() - lead) as u64,
        start_s: 0.0,
        weights: vec![1.0],
    };
    let mut bands = BandMeter::new(settings, &stream).expect("settings");
    let mut totals = TotalMeter::new(settings, &stream).expect("settings");
    // In pieces of odd length, as blocks come.
    for part in samples.chunks(7777) {
        bands.push(&[part]);
        totals.push(&[part]);
    }
    Levels::of(bands, totals, settings, &stream)
}

fn tone(hz: f64, lasts_s: f64, rate_hz: f64, phase: f64) -> Vec<f64> {
    (0..(lasts_s * rate_hz) as usize)
        .map(|n| (TAU * hz * n as f64 / rate_hz + phase).sin())
        .collect()
}

fn band_settings(fraction: u32) -> BandSettings {
    BandSettings { fraction, ..BandSettings::default() }
}

/// Attenuation at least and at most by the distance from the middle as a power of G (IEC
/// 61260-1:2014, table 1, class 1).
const MASK: [(f64, f64, f64); 9] = [
    (0.0, -0.4, 0.4),
    (0.125, -0.4, 0.5),
    (0.25, -0.4, 0.7),
    (0.375, -0.4, 1.4),
    (0.5, 1.6, 5.3),
    (1.0, 16.6, f64::INFINITY),
    (2.0, 40.5, f64::INFINITY),
    (3.0, 60.0, f64::INFINITY),
    (4.0, 70.0, f64::INFINITY),
];

/// The whole meter, with its lower sample rates, and not the filters alone.
#[test]
fn steady_tones_keep_to_the_mask() {
    let count = trials(60, 600);
    let margins = in_parallel(count, |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 61_260);
        let rate_hz = [44_100.0, 48_000.0, 96_000.0][random.random_range(0..3)];
        let fraction = [1, 3][random.random_range(0..2)];
        let settings = band_settings(fraction);
        let bands: Vec<_> = octave_bands(fraction, settings.range_hz)
            .into_iter()
            .filter(|band| band.high_hz < 0.499 * rate_hz)
            .collect();
        let band = bands[random.random_range(0..bands.len())];
        let (power, least, most) = MASK[random.random_range(0..MASK.len())];
        let wide = 10f64.powf(0.3);
        let by = (wide.powf(0.5 / f64::from(fraction)) - 1.0) / (wide.sqrt() - 1.0);
        let ratio = 1.0 + by * (wide.powf(power) - 1.0);
        let up = random.random_bool(0.5) && band.center_hz * ratio < 0.49 * rate_hz;
        let hz = if up { band.center_hz * ratio } else { band.center_hz / ratio };
        let lasts_s =
            (60.0 / band.center_hz.min(hz) + 60.0 / (band.high_hz - band.low_hz)).max(2.0);
        let sound = tone(hz, lasts_s, rate_hz, random.random_range(0.0..TAU));
        let found = measured(&sound, rate_hz, &settings);
        let mut own = found.bands.iter().filter(|of| of.exact_center_hz == band.center_hz);
        let attenuation = -own.next().and_then(|of| of.level_db).expect("a level").value;
        (attenuation - least).min(most - attenuation)
    });
    let least = margins.iter().copied().fold(f64::INFINITY, f64::min);
    println!("least margin to the mask of class 1: {least:.3} dB in {count} tones");
    assert!(least > 0.0, "{least}");
}

#[test]
fn sweeps_give_the_width_of_the_band() {
    for (fraction, rate_hz) in [(1, 48_000.0), (3, 44_100.0), (3, 96_000.0)] {
        let (from_hz, to_hz, lasts_s) = (8.0, 0.49 * rate_hz, 60.0);
        let octaves = f64::log2(to_hz / from_hz);
        let growth = octaves * LN_2 / lasts_s;
        let sound: Vec<f64> = (0..(lasts_s * rate_hz) as usize)
            .map(|n| {
                let t = n as f64 / rate_hz;
                (TAU * from_hz * ((growth * t).exp() - 1.0) / growth).sin()
            })
            .collect();
        let settings = BandSettings { range_hz: (31.5, 0.8 * to_hz), ..band_settings(fraction) };
        let found = measured(&sound, rate_hz, &settings);
        let width_db = 10.0 * (10f64.powf(0.3).log2() / f64::from(fraction) / octaves).log10();
        let errors = found.bands.iter().map(|band| {
            // The settling time of the filter holds none of the band.
            let of_all = 10.0 * (band.averaged_s / lasts_s).log10();
            band.level_db.expect("a level").value + of_all - width_db
        });
        let name = format!("bands, sweep, 1/{fraction} octave at {rate_hz} Hz: width");
        Accuracy::all_bare(name, "dB", errors).hold_worst(8e-4);
    }
}

#[test]
fn noise_is_known_by_its_bands() {
    for (name, slope) in [("white", 0.0), ("pink", -1.0)] {
        let errors = in_parallel(trials(12, 60), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed + 9000);
            let rate_hz = [32_000.0, 44_100.0, 48_000.0][random.random_range(0..3)];
            let fraction = [1, 3, 3, 6, 12][random.random_range(0..5)];
            let lasts_s: f64 = 3.0 * 15f64.powf(random.random_range(0.0..1.0));
            let count = (lasts_s * rate_hz) as usize;
            let sound = if slope == 0.0 {
                white_noise(seed ^ 0x77, 0.1, count)
            } else {
                pink(seed ^ 0x70, count, rate_hz)
            };
            let found = measured(&sound, rate_hz, &band_settings(fraction));
            let of_all = found.bands.iter().map(|of| {
                let (low, high) = (of.band.low_hz, of.band.high_hz);
                let power = if slope == 0.0 {
                    0.01 * (high - low) / (0.5 * rate_hz)
                } else {
                    0.01 * (high / low).ln()
                };
                let level = of.level_db.expect("a level");
                (level.value - 10.0 * (2.0 * power).log10(), level.u)
            });
            of_all.collect::<Vec<_>>()
        });
        let wide = errors.iter().flatten().copied().filter(|(_, u)| *u < 0.1);
        Accuracy::all(format!("bands, {name} noise, where u < 0.1 dB: level"), "dB", wide)
            .hold(0.15);
        let all = errors.iter().flatten().copied();
        Accuracy::all(format!("bands, {name} noise: level"), "dB", all).hold(1.0);
    }
}

/// Weighted levels of noise that is pink above a random frequency, and flat below.
#[test]
fn noise_is_known_by_its_weighted_levels() {
    const RATE_HZ: f64 = 48_000.0;
    let errors = in_parallel(trials(60, 300), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 31_000);
        let lasts_s: f64 = 2.0 * 10f64.powf(random.random_range(0.0..1.0));
        let corner_hz: f64 = 20.0 * 50f64.powf(random.random_range(0.0..1.0));
        let density = |hz: f64| 1e-3 / hz.max(corner_hz);
        let sound = shaped_noise(seed, (lasts_s * RATE_HZ) as usize, RATE_HZ, density);
        let found = measured(&sound, RATE_HZ, &BandSettings::default());
        let of = |weighting: Weighting| {
            let step_hz = 0.5;
            let powers = (1..48_000).map(|n| {
                let hz = step_hz * f64::from(n);
                step_hz * density(hz) * weighting.power(hz)
            });
            let level = found.weighted.iter().find(|of| of.weighting == weighting);
            let level = level.and_then(|of| of.leq_db).expect("a level");
            (level.value - 10.0 * (2.0 * powers.sum::<f64>()).log10(), level.u)
        };
        Weighting::ALL.map(of)
    });
    Accuracy::all("bands, noise: weighted levels", "dB", errors.into_iter().flatten()).hold(0.08);
}

/// Noise among a background that is 4 to 20 dB weaker, measured by itself.
#[test]
fn backgrounds_are_subtracted() {
    let errors = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 32_000);
        let below_db = random.random_range(4.0..20.0);
        let settings = BandSettings { range_hz: (50.0, 5000.0), ..band_settings(3) };
        let noise = |seed: u64, db: f64| {
            let count = 15 * WALL_RATE_HZ as usize;
            shaped_noise(seed, count, WALL_RATE_HZ, |hz| 1e-3 / hz.max(1.0) * 10f64.powf(0.1 * db))
        };
        let mut sound = noise(3 * seed, 0.0);
        for (x, other) in sound.iter_mut().zip(noise(3 * seed + 1, -below_db)) {
            *x += other;
        }
        let background = measured(&noise(3 * seed + 2, -below_db), WALL_RATE_HZ, &settings);
        let found = measured(&sound, WALL_RATE_HZ, &settings).without_background(&background);
        let of_band = |of: &BandLevel| {
            let level =
                of.corrected_db.filter(|_| of.correction == Some(Correction::Subtracted))?;
            let power = 1e-3 * (of.band.high_hz / of.band.low_hz).ln();
            Some((level.value - 10.0 * (2.0 * power).log10(), level.u))
        };
        found.bands.iter().filter_map(of_band).collect::<Vec<_>>()
    });
    Accuracy::all("bands, background subtracted: level", "dB", errors.into_iter().flatten())
        .hold(0.5);
}

/// Pink noise with a power of 0.01·ln(f_2/f_1) between f_1 and f_2: lines of random phase, dense
/// enough for every filter, made by the transform of white noise.
fn pink(seed: u64, count: usize, rate_hz: f64) -> Vec<f64> {
    shaped_noise(seed, count, rate_hz, |hz| {
        // Density of the power over frequency.
        if hz > 1.0 { 0.01 / hz } else { 0.0 }
    })
}

#[test]
fn bands_add_up_to_the_whole() {
    const RATE_HZ: f64 = 48_000.0;
    let errors = in_parallel(trials(8, 30), |seed| {
        let fraction = [1, 3, 6][seed as usize % 3];
        let bands = octave_bands(fraction, (63.0, 16_000.0));
        let (low, high) = (bands[0].low_hz, bands[bands.len() - 1].high_hz);
        let sound = shaped_noise(seed + 40, 30 * RATE_HZ as usize, RATE_HZ, |hz| {
            if (low..high).contains(&hz) { 0.01 / hz } else { 0.0 }
        });
        let settings = BandSettings { range_hz: (63.0, 16_000.0), ..band_settings(fraction) };
        let found = measured(&sound, RATE_HZ, &settings);
        let powers =
            found.bands.iter().map(|of| 10f64.powf(0.1 * of.level_db.expect("a level").value));
        10.0 * powers.sum::<f64>().log10() - found.leq_db.expect("a level").value
    });
    Accuracy::all_bare("bands, pink noise: sum of bands over the whole", "dB", errors)
        .hold_worst(0.05);
}

#[test]
fn weighted_tones_follow_the_curves() {
    for rate_hz in [32_000.0, 44_100.0, 48_000.0, 96_000.0, 192_000.0] {
        let bands = octave_bands(3, (10.0, 20_000.0));
        let of_band = |n: u64| {
            let hz = bands[n as usize].center_hz;
            if hz > 0.49 * rate_hz {
                return Vec::new();
            }
            let sound = tone(hz, 3.0, rate_hz, 0.3);
            let lead = rate_hz as usize;
            let found = with_lead(&sound, rate_hz, &BandSettings::default(), lead);
            let of = |weighting: Weighting| {
                let level = found.weighted.iter().find(|of| of.weighting == weighting);
                let level = level.and_then(|of| of.leq_db).expect("a level").value;
                level - 10.0 * weighting.power(hz).log10()
            };
            Weighting::ALL.map(of).to_vec()
        };
        let errors = in_parallel(bands.len() as u64, of_band);
        let name = format!("bands, tones at {rate_hz} Hz: weighting A, C, Z");
        Accuracy::all_bare(name, "dB", errors.into_iter().flatten()).hold_worst(0.06);
    }
}

/// IEC 61672-1:2013, table 4: highest level of a burst of 4 kHz less the level of the tone, and its
/// exposure, A-weighted.
#[test]
fn tone_bursts_read_what_they_should() {
    const RATE_HZ: f64 = 48_000.0;
    const LASTS_S: [f64; 7] = [1.0, 0.2, 0.05, 0.02, 0.005, 0.001, 0.000_5];
    let mut errors = Vec::new();
    let steady = measured(&tone(4000.0, 8.0, RATE_HZ, 0.0), RATE_HZ, &BandSettings::default());
    let steady_db = steady.laeq_db.expect("a level").value;
    for lasts_s in LASTS_S {
        for time_weighting in [TimeWeighting::Fast, TimeWeighting::Slow] {
            let mut sound = vec![0.0; 6 * RATE_HZ as usize];
            let burst = tone(4000.0, lasts_s, RATE_HZ, 0.0);
            sound[48_000..48_000 + burst.len()].copy_from_slice(&burst);
            let settings =
                BandSettings { time_weighting, weighting: Weighting::A, ..BandSettings::default() };
            let found = measured(&sound, RATE_HZ, &settings);
            let forgets = 1.0 - (-lasts_s / time_weighting.time_constant_s()).exp();
            let highest = found.max_db.expect("a level") - steady_db;
            let exposure = found.exposure_db.expect("a level") - steady_db;
            errors.push(highest - 10.0 * forgets.log10());
            errors.push(exposure - 10.0 * lasts_s.log10());
        }
    }
    // Class 1 allows 0.5 dB, and 1 dB of the shortest.
    Accuracy::all_bare("bands, tone bursts: highest level and exposure", "dB", errors)
        .hold_worst(0.25);
}

#[test]
fn percentiles_are_those_of_the_steps() {
    const RATE_HZ: f64 = 16_000.0;
    let errors = in_parallel(trials(6, 40), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 77);
        // Loud for 3 %, middling for 42 %, quiet for the rest, in any order of stretches.
        let steps = [random.random_range(10.0..25.0), 0.0, -random.random_range(5.0..20.0)];
        let mut parts: Vec<(f64, f64)> = vec![(steps[0], 3.0)];
        for (db, total) in [(steps[1], 42.0), (steps[2], 55.0)] {
            let cut = random.random_range(0.3..0.7) * total;
            parts.extend([(db, cut), (db, total - cut)]);
        }
        let at = random.random_range(0..parts.len());
        parts.swap(0, at);
        let sound: Vec<f64> = parts
            .iter()
            .flat_map(|(db, lasts_s)| {
                let amplitude = 0.01 * 10f64.powf(db / 20.0);
                tone(1000.0, *lasts_s, RATE_HZ, 0.0).into_iter().map(move |x| amplitude * x)
            })
            .collect();
        let found = measured(&sound, RATE_HZ, &BandSettings::default());
        let wanted = [(1.0, steps[0]), (10.0, steps[1]), (90.0, steps[2]), (95.0, steps[2])];
        wanted.map(|(percent, db)| {
            found.percentiles.exceeded(percent).expect("a level") - (db - 40.0)
        })
    });
    Accuracy::all_bare("bands, stepped levels: percentiles", "dB", errors.into_iter().flatten())
        .hold_worst(0.06);
}

/// A wall between two rooms: noise at several positions whose levels scatter, with a background.
struct Wall {
    difference_db: Vec<f64>,
    source: Vec<Levels>,
    receiver: Vec<Levels>,
    background: Vec<Levels>,
    background_below_db: f64,
}

const WALL_RATE_HZ: f64 = 12_000.0;

impl Wall {
    fn random(seed: u64, scatter_db: f64, background_below_db: f64, lasts_s: usize) -> Self {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 717_000);
        let settings = BandSettings { range_hz: (100.0, 3150.0), ..band_settings(3) };
        let bands = octave_bands(3, settings.range_hz);
        let (tilt, base) = (random.random_range(-0.5..2.0), random.random_range(10.0..30.0));
        let difference_db: Vec<f64> = (0..bands.len()).map(|n| base + tilt * n as f64).collect();
        let scatter = Normal::new(0.0, scatter_db).expect("a spread");
        let noise = |random: &mut ChaCha8Rng, less_db: &dyn Fn(usize) -> f64| {
            let gains: Vec<f64> = (0..bands.len()).map(|_| scatter.sample(random)).collect();
            let seed = random.random_range(0..u64::MAX);
            shaped_noise(seed, lasts_s * WALL_RATE_HZ as usize, WALL_RATE_HZ, |hz| {
                let n = bands.iter().position(|band| (band.low_hz..band.high_hz).contains(&hz));
                n.map_or(0.0, |n| 1e-3 / hz * 10f64.powf(0.1 * (gains[n] - less_db(n))))
            })
        };
        let levels = |sound: &[f64]| measured(sound, WALL_RATE_HZ, &settings);
        let source = (0..5).map(|_| levels(&noise(&mut random, &|_| 0.0))).collect();
        let quiet = |random: &mut ChaCha8Rng| {
            let below = |n: usize| difference_db[n] + background_below_db;
            noise(random, &below)
        };
        let background = (0..3).map(|_| levels(&quiet(&mut random))).collect();
        let receiver = (0..5)
            .map(|_| {
                let mut sound = noise(&mut random, &|n| difference_db[n]);
                for (x, other) in sound.iter_mut().zip(quiet(&mut random)) {
                    *x += other;
                }
                levels(&sound)
            })
            .collect();
        Self { difference_db, source, receiver, background, background_below_db }
    }

    fn found(&self) -> Isolation {
        let background: &[Levels] =
            if self.background_below_db < 50.0 { &self.background } else { &[] };
        let positions = Positions { source: &self.source, receiver: &self.receiver, background };
        isolation(&positions, &Room::default()).expect("insulation")
    }

    /// Error of the single number against that of the wall itself, and its uncertainty.
    fn rating_error(&self) -> (f64, f64) {
        let found = self.found();
        let bands = found.bands.iter().map(|band| band.center_hz);
        let wall: Vec<(f64, f64)> = bands.zip(self.difference_db.iter().copied()).collect();
        let wanted = airborne("Dw", 3, &wall).expect("a rating");
        let rating = found.rating.expect("a rating");
        let u = rating.value_db_u.expect("an uncertainty");
        (f64::from(rating.value_db - wanted.value_db), u)
    }

    fn errors(&self) -> Vec<(f64, f64)> {
        self.found()
            .bands
            .iter()
            .zip(&self.difference_db)
            .map(|(band, wanted)| {
                let Measured { value, u } = band.difference_db.expect("a difference");
                (value - wanted, u)
            })
            .collect()
    }
}

#[test]
fn insulation_is_known_in_bands() {
    for (name, scatter_db, below_db, lasts_s, tolerance) in [
        ("no background", 0.0, 60.0, 60, 0.1),
        ("background 16 dB below", 0.0, 16.0, 15, 0.3),
        ("background 8 dB below", 0.0, 8.0, 60, 0.1),
        ("positions scatter by 1.5 dB", 1.5, 60.0, 15, 2.5),
    ] {
        let walls = in_parallel(trials(10, 40), |seed| {
            let wall = Wall::random(seed, scatter_db, below_db, lasts_s);
            (wall.errors(), wall.rating_error())
        });
        let (errors, ratings): (Vec<_>, Vec<_>) = walls.into_iter().unzip();
        let held = ratings.iter().filter(|(error, u)| error.abs() <= 2.0 * u).count();
        println!("isolation, {name}: {held} of {} ratings within 2 u", ratings.len());
        assert!(ratings.len() - held <= 1 + ratings.len() / 10, "{ratings:?}");
        Accuracy::all(format!("isolation, {name}: D"), "dB", errors.into_iter().flatten())
            .hold(tolerance);
    }
}
