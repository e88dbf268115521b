//! Sources that pass by on a straight line.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::Error;
use tonemap_core::passby::{Passby, PassbySettings, passby};
use tonemap_core::synth::{to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    passing_sources_have_their_speed,
    sources_hidden_at_their_closest_point_keep_their_distance,
    steady_tones_are_refused,
];

const RATE_HZ: f64 = 48_000.0;

/// A source with some harmonics that passes by.
struct Source {
    speed_m_s: f64,
    distance_m: f64,
    closest_s: f64,
    rest_hz: f64,
    harmonics: u32,
}

impl Source {
    fn random(random: &mut ChaCha8Rng, lasts_s: f64) -> Self {
        Self {
            speed_m_s: 5.0 * 12f64.powf(random.random_range(0.0..1.0)),
            distance_m: 20f64.powf(random.random_range(0.0..1.0)),
            closest_s: lasts_s * random.random_range(0.35..0.65),
            rest_hz: 440.0 * (3200.0f64 / 440.0).powf(random.random_range(0.0..1.0)),
            harmonics: random.random_range(1..=4),
        }
    }

    fn away_m(&self, emitted_s: f64) -> f64 {
        let moved_m = self.speed_m_s * (emitted_s - self.closest_s);
        (self.distance_m * self.distance_m + moved_m * moved_m).sqrt()
    }

    fn heard(&self, lasts_s: f64, snr_db: f64, sound_m_s: f64, seed: u64) -> Vec<f32> {
        /// Each brings what is left nearer by the speed over that of sound.
        const ROUNDS: usize = 8;
        let noise = white_noise(seed, 10f64.powf(-snr_db / 20.0), (lasts_s * RATE_HZ) as usize);
        // When it emitted what is heard at a time: te = t - r(te)/c, from that of the sample before.
        let mut emitted_s = -self.away_m(0.0) / sound_m_s;
        let of = |(n, noise): (usize, f64)| {
            let t = n as f64 / RATE_HZ;
            for _ in 0..ROUNDS {
                emitted_s = t - self.away_m(emitted_s) / sound_m_s;
            }
            let gain = self.distance_m / self.away_m(emitted_s);
            let tones = (1..=self.harmonics)
                .map(f64::from)
                .map(|k| gain / k * (TAU * k * self.rest_hz * emitted_s).sin());
            0.1 * (tones.sum::<f64>() + noise)
        };
        to_samples(&noise.into_iter().enumerate().map(of).collect::<Vec<_>>())
    }
}

#[test]
fn passing_sources_have_their_speed() {
    let found = in_parallel(trials(160, 300), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9500);
        let lasts_s = random.random_range(4.0..8.0);
        let source = Source::random(&mut random, lasts_s);
        let settings = PassbySettings { temperature_c: random.random_range(-5.0..35.0) };
        let snr_db = random.random_range(0.0..40.0);
        let heard = source.heard(lasts_s, snr_db, settings.sound_m_s(), 73 * seed + 4);
        (source, passby(&heard, RATE_HZ, 0.0, &settings).ok())
    });
    // One that is heard for a few tenths of a second in as much noise may be too short.
    let refused = found.iter().filter(|(_, found)| found.is_none()).count();
    println!("{refused} of {} passes refused", found.len());
    assert!(20 * refused <= found.len(), "{refused}");
    let found: Vec<(Source, Passby)> =
        found.into_iter().filter_map(|(source, found)| Some((source, found?))).collect();
    let relative =
        |value: f64, u: f64, truth: f64| (100.0 * (value / truth - 1.0), 100.0 * u / truth);
    let speed = found.iter().map(|(source, found)| {
        let speed = found.speed_m_s.expect("a speed");
        relative(speed.value, speed.u, source.speed_m_s)
    });
    let worst = speed.clone().map(|(off, _)| off.abs()).fold(0.0, f64::max);
    println!("speeds are {worst:.3} % off at most");
    assert!(worst < 0.5, "{worst}");
    Accuracy::all("passby: speed", "%", speed).hold(0.04);
    let distance = found.iter().filter_map(|(source, found)| {
        let distance = found.distance_m?;
        Some(relative(distance.value, distance.u, source.distance_m))
    });
    Accuracy::all("passby: closest distance", "%", distance).hold(0.3);
    let closest = found.iter().filter_map(|(source, found)| {
        let closest = found.closest_s?;
        let heard_s = source.closest_s + source.distance_m / found.sound_m_s;
        Some((1e3 * (closest.value - heard_s), 1e3 * closest.u))
    });
    Accuracy::all("passby: closest point heard", "ms", closest).hold(0.39);
    let rest = found.iter().map(|(source, found)| {
        let rest = found.rest_frequency_hz.expect("a frequency");
        (rest.value - source.rest_hz, rest.u)
    });
    Accuracy::all("passby: frequency at rest", "Hz", rest).hold(0.035);
}

/// A house stands between while the source is closest: what is heard there is noise, and what is known of
/// the distance is in the turn before and behind it.
#[test]
fn sources_hidden_at_their_closest_point_keep_their_distance() {
    const LASTS_S: f64 = 10.0;
    let found = in_parallel(trials(110, 300), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9700);
        let source = Source {
            speed_m_s: random.random_range(5.0..30.0),
            distance_m: random.random_range(3.0..15.0),
            harmonics: 4,
            rest_hz: random.random_range(200.0..400.0),
            ..Source::random(&mut random, LASTS_S)
        };
        let settings = PassbySettings::default();
        let mut heard = source.heard(LASTS_S, 150.0, settings.sound_m_s(), seed);
        let heard_s = source.closest_s + source.distance_m / settings.sound_m_s();
        let hidden_s = random.random_range(1.0..4.0);
        let noise = white_noise(37 * seed + 5, 0.001, heard.len());
        for (n, (x, noise)) in heard.iter_mut().zip(noise).enumerate() {
            let is_hidden = (n as f64 / RATE_HZ - heard_s).abs() < 0.5 * hidden_s;
            *x = if is_hidden { noise as f32 } else { *x + noise as f32 };
        }
        (source, passby(&heard, RATE_HZ, 0.0, &settings).ok())
    });
    let told: Vec<(f64, f64)> = (found.iter())
        .filter_map(|(source, found)| {
            let distance = found.as_ref()?.distance_m?;
            let truth = source.distance_m;
            Some((100.0 * (distance.value / truth - 1.0), 100.0 * distance.u / truth))
        })
        .collect();
    println!("{} of {} hidden passes have a distance", told.len(), found.len());
    assert!(10 * told.len() >= 9 * found.len());
    Accuracy::all("passby: closest distance, hidden 1 to 4 s", "%", told).hold(0.55);
}

#[test]
fn steady_tones_are_refused() {
    for seed in 0..trials(8, 120) {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 9600);
        let hz: f64 = random.random_range(440.0..3200.0);
        let noise = white_noise(seed, 10f64.powf(random.random_range(-3.0..-1.0)), 5 * 48_000);
        let tones = |n: usize| -> f64 {
            (1..=3).map(|k| (TAU * f64::from(k) * hz * n as f64 / RATE_HZ).sin()).sum()
        };
        let sound: Vec<f64> =
            noise.iter().enumerate().map(|(n, noise)| 0.1 * (tones(n) + noise)).collect();
        let found = passby(&to_samples(&sound), RATE_HZ, 0.0, &PassbySettings::default());
        assert!(
            matches!(found, Err(Error::NoShift | Error::NoTone)),
            "{seed}: {:?}",
            found.ok().map(|f| f.speed_m_s)
        );
        let noise = passby(&to_samples(&noise), RATE_HZ, 0.0, &PassbySettings::default());
        assert!(
            matches!(noise, Err(Error::NoShift | Error::NoTone)),
            "{seed}: {:?}",
            noise.ok().map(|f| f.speed_m_s)
        );
    }
}
