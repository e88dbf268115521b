//! Sources that pass by on a straight line.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::Error;
use tonemap_core::passby::{Passby, PassbySettings, passby};
use tonemap_core::synth::{to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[passing_sources_have_their_speed, steady_tones_are_refused];

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

    /// When it emitted what is heard at a time: te = t - r(te)/c, from te to te.
    fn emitted_s(&self, t: f64, sound_m_s: f64) -> f64 {
        let away = |te: f64| self.distance_m.hypot(self.speed_m_s * (te - self.closest_s));
        (0..18).fold(t, |te, _| t - away(te) / sound_m_s)
    }

    fn heard(&self, lasts_s: f64, snr_db: f64, sound_m_s: f64, seed: u64) -> Vec<f32> {
        let noise = white_noise(seed, 10f64.powf(-snr_db / 20.0), (lasts_s * RATE_HZ) as usize);
        let of = |(n, noise): (usize, f64)| {
            let te = self.emitted_s(n as f64 / RATE_HZ, sound_m_s);
            let away = self.distance_m.hypot(self.speed_m_s * (te - self.closest_s));
            let tones = (1..=self.harmonics).map(f64::from).map(|k| {
                let amplitude = self.distance_m / away / k;
                amplitude * (TAU * k * self.rest_hz * te).sin()
            });
            0.1 * (tones.sum::<f64>() + noise)
        };
        to_samples(&noise.into_iter().enumerate().map(of).collect::<Vec<_>>())
    }
}

#[test]
fn passing_sources_have_their_speed() {
    let found = in_parallel(trials(110, 300), |seed| {
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
    Accuracy::all("passby: speed", "%", speed).hold(0.06);
    let distance = found.iter().filter_map(|(source, found)| {
        let distance = found.distance_m?;
        Some(relative(distance.value, distance.u, source.distance_m))
    });
    Accuracy::all("passby: closest distance", "%", distance).hold(0.34);
    let closest = found.iter().filter_map(|(source, found)| {
        let closest = found.closest_s?;
        let heard_s = source.closest_s + source.distance_m / found.sound_m_s;
        Some((1e3 * (closest.value - heard_s), 1e3 * closest.u))
    });
    Accuracy::all("passby: closest point heard", "ms", closest).hold(0.4);
    let rest = found.iter().map(|(source, found)| {
        let rest = found.rest_frequency_hz.expect("a frequency");
        (rest.value - source.rest_hz, rest.u)
    });
    Accuracy::all("passby: frequency at rest", "Hz", rest).hold(0.035);
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
