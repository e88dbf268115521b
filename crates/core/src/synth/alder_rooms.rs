//! The rooms of Alder Hall: the hall at night, and both sides of the wall of the green room.

use super::alder_hall::{HALL_T60_S, reverberation};
use super::{Recipe, Voice, mix, shaped_noise, white_noise};
use crate::error::Error;
use crate::transform::Convolver;
use crate::units::{db_from_power, power_from_db, sound_speed_m_s};

/// Positions in each room beside the green-room wall.
pub const WALL_POSITIONS: u64 = 5;
/// What the wall between the hall and the green room keeps back, in dB, in thirds of an octave from
/// 50 Hz to 5 kHz: less around 2.5 kHz, where its boards coincide with the sound.
pub const WALL_DB: [f64; 21] = [
    17.0, 19.0, 21.0, 24.0, 27.0, 29.0, 32.0, 35.0, 37.0, 40.0, 42.0, 44.0, 45.0, 46.0, 47.0, 48.0,
    46.0, 42.0, 41.0, 45.0, 48.0,
];
/// Reverberation time of the green room in seconds, its volume in m³ and the area of the wall in m².
pub const GREEN_ROOM: (f64, f64, f64) = (0.6, 32.0, 11.0);

/// Level of a full-scale sine in dB re 20 µPa on the microphone near the stage.
const FULL_SCALE_DB: f64 = 120.0;
/// Thirds of an octave begin here, in Hz.
const LOWEST_THIRD_HZ: f64 = 50.118_723;

/// Noise of so much in each third of an octave, in dB re 20 µPa, given from 50 Hz on and held
/// beyond both ends; it fades below 20 Hz and above 20 kHz.
fn noise_in_thirds(
    seed: u64,
    level_db: impl Fn(f64) -> f64,
    sample_rate_hz: f64,
    duration_s: f64,
) -> Vec<f64> {
    let samples = (duration_s * sample_rate_hz) as usize;
    let width = 10f64.powf(0.05) - 10f64.powf(-0.05);
    let heard = |hz: f64| 1.0 / (1.0 + (20.0 / hz).powi(8) + (hz / 20_000.0).powi(8));
    shaped_noise(seed, samples, sample_rate_hz, |hz| {
        let power = 0.5 * power_from_db(level_db(hz.max(1.0)) - FULL_SCALE_DB);
        heard(hz.max(1.0)) * power / (width * hz.max(1.0))
    })
}

/// A value between those of thirds of an octave from 50 Hz on.
fn in_thirds(values: &[f64], hz: f64) -> f64 {
    let place = 10.0 * (hz / LOWEST_THIRD_HZ).log10();
    let place = place.clamp(0.0, (values.len() - 1) as f64);
    let (low, share) = (place.floor() as usize, place.fract());
    let high = (low + 1).min(values.len() - 1);
    values[low] + share * (values[high] - values[low])
}

/// By how much a position in a room is off the mean: more where its modes lie far apart.
fn off_mean_db(position: u64, hz: f64) -> f64 {
    let p = position as f64;
    2.5 * (100.0 / (100.0 + hz)).sqrt() * (2.4 * p + 3.0 * (1.0 + 0.1 * p) * hz.ln()).sin()
}

/// Level of the loudspeaker in the hall in each third of an octave.
fn loudspeaker_db(hz: f64) -> f64 {
    84.0 - 3.0 * (hz / 500.0).log2().powi(2) * 0.4
}

/// What is heard in the green room when all is quiet: a compressor hums at 63 Hz.
fn quiet_db(hz: f64) -> f64 {
    let compressor = 17.0 * (-((hz / 63.0).ln() / 0.12).powi(2)).exp();
    30.0 - 4.0 * (hz / 125.0).log2() + compressor
}

/// Noise from a loudspeaker, at a position in the hall.
#[must_use]
pub fn hall_noise(position: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let level = |hz: f64| loudspeaker_db(hz) + off_mean_db(position, hz);
    noise_in_thirds(400 + position, level, sample_rate_hz, duration_s)
}

/// The same through the wall, at a position in the green room.
#[must_use]
pub fn green_room_noise(position: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let level =
        |hz: f64| loudspeaker_db(hz) - in_thirds(&WALL_DB, hz) + off_mean_db(position + 20, hz);
    let mut sound = noise_in_thirds(420 + position, level, sample_rate_hz, duration_s);
    mix(&mut sound, &noise_in_thirds(440 + position, quiet_db, sample_rate_hz, duration_s));
    sound
}

/// The green room when all is quiet.
#[must_use]
pub fn green_room_quiet(position: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    noise_in_thirds(460 + position, quiet_db, sample_rate_hz, duration_s)
}

/// The empty hall at night: air in the ducts, and a road far away.
#[must_use]
pub fn hall_at_night(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let level = |hz: f64| {
        let ducts = 24.0 - 2.5 * (hz / 250.0).log2().powi(2);
        let road = 36.0 - 6.0 * (hz / 50.0).log2();
        db_from_power(power_from_db(ducts) + power_from_db(road) + power_from_db(4.0))
    };
    noise_in_thirds(480, level, sample_rate_hz, duration_s)
}

/// Distances of the seats in the hall from the loudspeaker on the stage, in metres.
pub const SEATS_M: [f64; 3] = [5.0, 9.0, 14.0];
/// The sweep that the loudspeaker plays.
pub const HALL_SWEEP: &str = "sweep from=30Hz to=20kHz length=6s fade=10ms level=-9dB";
/// Reverberation times of the green room in octaves.
pub const GREEN_ROOM_T60_S: [(f64, f64); 8] = [
    (63.0, 0.75),
    (125.0, 0.70),
    (250.0, 0.64),
    (500.0, 0.60),
    (1000.0, 0.58),
    (2000.0, 0.54),
    (4000.0, 0.48),
    (8000.0, 0.40),
];

/// The sweep as it is heard on one of the seats of the empty hall, by a loudspeaker that distorts a
/// little.
///
/// # Errors
///
/// [`Error::Setting`] for a sample rate that does not hold the sweep.
pub fn hall_sweep(seat: usize, sample_rate_hz: f64) -> Result<Vec<f64>, Error> {
    const LASTS_S: f64 = 9.5;
    const STARTS_S: f64 = 0.5;
    const SECOND_HARMONIC: f64 = 0.03;
    let samples = |s: f64| (s * sample_rate_hz) as usize;
    let voice = Voice::from_line(HALL_SWEEP, 440.0)?;
    let recipe = Recipe { voices: vec![voice], sample_rate_hz, duration_s: 6.0, seed: 1 };
    let mut played = vec![0.0; samples(6.0)];
    recipe.player()?.play(&mut played)?;
    for x in &mut played {
        *x += SECOND_HARMONIC * *x * *x;
    }
    let distance_m = SEATS_M[seat % SEATS_M.len()];
    let direct = samples(distance_m / sound_speed_m_s(20.0));
    let mut response = vec![0.0; samples(3.2)];
    response[direct] = 1.0 / distance_m;
    for (later_s, share) in [(0.0061, 0.45), (0.0113, -0.36), (0.0174, 0.3), (0.0262, -0.22)] {
        response[direct + samples(later_s * (1.0 + 0.1 * seat as f64))] += share / distance_m;
    }
    let late = reverberation(700 + 20 * seat as u64, &HALL_T60_S, sample_rate_hz, samples(3.0));
    for (x, late) in response[direct..].iter_mut().zip(late) {
        *x += 0.011 * late;
    }
    let mut sound = white_noise(690 + seat as u64, 3e-5, samples(LASTS_S));
    mix(&mut sound[samples(STARTS_S)..], &convolved(&played, &response));
    Ok(sound)
}

/// A balloon that bursts in the green room at 0.1 s.
#[must_use]
pub fn green_room_burst(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let samples = (duration_s * sample_rate_hz) as usize;
    let mut sound = white_noise(770, 3e-5, samples);
    let start = (0.1 * sample_rate_hz) as usize;
    let late = reverberation(771, &GREEN_ROOM_T60_S, sample_rate_hz, samples - start);
    for (n, (x, late)) in sound[start..].iter_mut().zip(late).enumerate() {
        let burst = if n == 0 { 0.6 } else { 0.0 };
        *x += 0.4 * late + burst;
    }
    sound
}

fn convolved(sound: &[f64], response: &[f64]) -> Vec<f64> {
    let mut convolver = Convolver::new(response);
    let silence = std::iter::repeat_n(0.0, response.len() - 1);
    let all: Vec<f64> = sound.iter().copied().chain(silence).collect();
    all.chunks(convolver.block()).flat_map(|block| convolver.convolve(block).to_vec()).collect()
}
