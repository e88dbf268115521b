//! The instruments of Alder Hall: a made-up village hall with a harp, a flute and a bell that do
//! not exist, so that examples have sounds whose truth is known.

use std::f64::consts::FRAC_PI_2;

use rustfft::num_complex::Complex;

use super::partials::{Partial, Vibrato, harmonics, render};
use super::string::PluckedString;
use super::{coloured_noise, fade, low_passed, mix, white_noise};
use crate::passby::law::Law;
use crate::transform::{complex_forward, fast_length};
use crate::units::sound_speed_m_s;

/// Noise of the empty hall, RMS re full scale: −94 dB.
pub(super) const HALL_NOISE: f64 = 2e-5;

/// One string of the harp, G3, four cents flat, plucked a third of the way along.
#[must_use]
pub fn harp_g3() -> PluckedString {
    PluckedString { frequency_hz: 195.54, inharmonicity: 1.1e-4, ..PluckedString::default() }
}

/// The other string to the same note, which has slipped by 2.5 cents more than it should.
#[must_use]
pub fn harp_g3_other() -> PluckedString {
    PluckedString {
        frequency_hz: 195.824,
        inharmonicity: 1.05e-4,
        pluck_position: 0.34,
        t60_s: 5.4,
        amplitude: 0.21,
        ..PluckedString::default()
    }
}

/// Both strings of the harp's G3 plucked together, when they had been tuned to each other, or a week
/// later: the other has slipped by so many cents from its place, and takes the stroke a little
/// later.
#[must_use]
pub fn harp_pair(other_cents: f64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    const LATER_S: f64 = 0.0011;
    let mut sound = white_noise(38, HALL_NOISE, (duration_s * sample_rate_hz) as usize);
    let other = PluckedString {
        frequency_hz: harp_g3().frequency_hz * (other_cents / 1200.0).exp2(),
        ..harp_g3_other()
    };
    for (string, start_s) in [(harp_g3(), 0.1), (other, 0.1 + LATER_S)] {
        let start = (start_s * sample_rate_hz) as usize;
        let note = string.render(sample_rate_hz, duration_s - start_s);
        mix(&mut sound[start..], &note);
    }
    sound
}

/// How far the other string lies from the first when both were just tuned, and a week later, in
/// cents.
pub const HARP_PAIR_CENTS: [f64; 2] = [0.35, 1.4];

/// The strings of the harp from C3 to C6, on the white keys: MIDI number, and cents that each has
/// slipped. One was not tuned at all.
pub const HARP_COMPASS: [(i32, f64); 22] = [
    (48, 0.6),
    (50, -0.9),
    (52, 0.3),
    (53, 1.2),
    (55, -0.4),
    (57, -1.1),
    (59, 0.8),
    (60, 0.1),
    (62, -0.6),
    (64, -7.4),
    (65, 0.9),
    (67, 0.4),
    (69, -0.3),
    (71, 1.0),
    (72, -0.8),
    (74, 0.5),
    (76, -0.2),
    (77, -1.0),
    (79, 0.7),
    (81, 0.2),
    (83, -0.5),
    (84, 0.3),
];

/// Frequency of A4 that the harp was tuned to, in Hz.
pub const HARP_A4_HZ: f64 = 441.0;

/// MIDI number of the string of the harp that was replaced by one of another gauge.
pub const HARP_OTHER_GAUGE: i32 = 74;

/// A string of the compass of the harp: its octaves are a little wide towards the ends, and its
/// stiffness grows from the middle to either side.
#[must_use]
pub fn harp_string(number: i32, slipped_cents: f64) -> PluckedString {
    let octaves = f64::from(number - 66) / 12.0;
    let gauge = if number == HARP_OTHER_GAUGE { 1.7 } else { 1.0 };
    let inharmonicity = gauge * 6e-5 * (0.9 * octaves * octaves).exp();
    let stretch = 0.7 * (octaves - 0.25).powi(3);
    let f0_hz =
        HARP_A4_HZ * ((f64::from(number - 69) + (stretch + slipped_cents) / 100.0) / 12.0).exp2();
    PluckedString {
        frequency_hz: f0_hz / (1.0 + inharmonicity).sqrt(),
        inharmonicity,
        pluck_position: 0.36 + 0.002 * f64::from(number % 7),
        t60_s: 6.5 * (-0.35 * octaves).exp2(),
        ..PluckedString::default()
    }
}

/// A harp string from 0.1 s on, with the noise of the hall.
#[must_use]
pub fn harp_note(string: &PluckedString, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let mut sound = white_noise(31, HALL_NOISE, (duration_s * sample_rate_hz) as usize);
    let start = (0.1 * sample_rate_hz) as usize;
    mix(&mut sound[start..], &string.render(sample_rate_hz, duration_s - 0.1));
    sound
}

/// Strings of the harp that were plucked many times, by MIDI number, and how often each.
pub const PLUCKED_STRINGS: [i32; 3] = [55, 62, 69];
/// See above.
pub const PLUCKS: u64 = 24;
/// The pluck, of the second string, at which the string had slipped, and by how many cents.
pub const SLIPPED_PLUCK: (u64, f64) = (7, -6.5);

/// One of many plucks of a string: no two are as hard, nor at the same place.
#[must_use]
pub fn harp_pluck(number: i32, pluck: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let seed = 100 * number as u64 + pluck;
    let chance = white_noise(seed, 1.0, 3);
    let (slipped, by_cents) = SLIPPED_PLUCK;
    let is_slipped = number == PLUCKED_STRINGS[1] && pluck == slipped;
    let cents = 0.3 * chance[0] + if is_slipped { by_cents } else { 0.0 };
    let string = harp_string(number, cents);
    let string = PluckedString {
        pluck_position: (string.pluck_position + 0.008 * chance[1]).clamp(0.3, 0.45),
        amplitude: string.amplitude * (0.2 * chance[2]).exp(),
        ..string
    };
    // With the door open.
    let noise = 10.0 * HALL_NOISE;
    let mut sound = white_noise(seed + 50, noise, (duration_s * sample_rate_hz) as usize);
    let start = (0.1 * sample_rate_hz) as usize;
    mix(&mut sound[start..], &string.render(sample_rate_hz, duration_s - 0.1));
    sound
}

/// Frequency of the flute's long tone in Hz: A4, five cents sharp.
pub const FLUTE_A4_HZ: f64 = 441.27;

/// A long, straight tone of the wooden flute, with breath.
#[must_use]
pub fn flute_tone(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let partials = harmonics(FLUTE_A4_HZ, &[0.28, 0.11, 0.045, 0.012, 0.006, 0.0025, 0.0008]);
    let mut sound = render(&partials, Vibrato::default(), sample_rate_hz, duration_s);
    let samples = sound.len();
    mix(&mut sound, &coloured_noise(32, 0.002, 1800.0, 0.7, sample_rate_hz, samples));
    fade(&mut sound, 0.06, sample_rate_hz);
    mix(&mut sound, &white_noise(33, HALL_NOISE, samples));
    sound
}

/// A slow scale of the wooden flute from D4 up: MIDI numbers, and cents that its holes are off.
pub const FLUTE_SCALE: [(i32, f64); 8] =
    [(62, -6.0), (64, 3.0), (66, 14.0), (67, -2.0), (69, 5.0), (71, 9.0), (73, -12.0), (74, 1.0)];

/// The scale of the flute, half a second a note with a short rest between, with breath and a slight
/// vibrato.
#[must_use]
pub fn flute_scale(sample_rate_hz: f64) -> Vec<f64> {
    let mut sound = Vec::new();
    for (number, cents) in FLUTE_SCALE {
        let f0_hz = 440.0 * ((f64::from(number - 69) + cents / 100.0) / 12.0).exp2();
        let partials = harmonics(f0_hz, &[0.26, 0.12, 0.05, 0.014, 0.006, 0.0025]);
        let vibrato = Vibrato { rate_hz: 5.2, depth_cents: 8.0 };
        let mut note = render(&partials, vibrato, sample_rate_hz, 0.5);
        let breath =
            coloured_noise(70 + number as u64, 0.002, 1800.0, 0.7, sample_rate_hz, note.len());
        mix(&mut note, &breath);
        fade(&mut note, 0.03, sample_rate_hz);
        note.resize(note.len() + (0.08 * sample_rate_hz) as usize, 0.0);
        sound.extend(note);
    }
    let samples = sound.len();
    mix(&mut sound, &white_noise(69, HALL_NOISE, samples));
    sound
}

/// The partials of the hand bell before it goes to the lathe. Its wall is not perfectly round, so
/// that each mode is a pair a little apart; the second is meant to be three times the first, and
/// is 37 cents sharp.
#[must_use]
pub fn bell_before_tuning() -> Vec<Partial> {
    let modes = [
        (519.8, 0.22, 9.0, 0.42),
        (1593.0, 0.15, 5.0, 0.9),
        (2946.0, 0.05, 2.2, 1.6),
        (3310.0, 0.035, 1.8, 2.1),
        (4671.0, 0.03, 1.1, 0.0),
        (6184.0, 0.018, 0.7, 3.4),
        (8320.0, 0.009, 0.4, 0.0),
    ];
    modes
        .into_iter()
        .flat_map(|(frequency_hz, amplitude, t60_s, apart_hz)| {
            let one = Partial { frequency_hz, amplitude, phase_rad: -1.2, t60_s };
            let other = Partial {
                frequency_hz: frequency_hz + apart_hz,
                amplitude: 0.6 * amplitude,
                phase_rad: 0.7,
                t60_s: 0.9 * t60_s,
            };
            if apart_hz > 0.0 { vec![one, other] } else { vec![one] }
        })
        .collect()
}

/// Cuts on the lathe until the bell is in tune.
pub const BELL_CUTS: u32 = 6;

/// The partials of the hand bell after a number of cuts. Each cut lowers the second pair by the
/// same amount, and the others by next to nothing; after the last it is three times the first.
#[must_use]
pub fn bell_after(cuts: u32) -> Vec<Partial> {
    let share = f64::from(cuts.min(BELL_CUTS)) / f64::from(BELL_CUTS);
    let mut partials = bell_before_tuning();
    for partial in &mut partials {
        let is_second = (1590.0..1600.0).contains(&partial.frequency_hz);
        let fall = if is_second { 34.5 / 1593.0 } else { 0.000_55 };
        partial.frequency_hz *= 1.0 - share * fall;
    }
    partials
}

/// The hand bell before tuning, struck at 0.1 s, with the noise of the hall.
#[must_use]
pub fn bell_note(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    bell_note_after(0, sample_rate_hz, duration_s)
}

/// The hand bell after a number of cuts, struck at 0.1 s, with the noise of the hall.
#[must_use]
pub fn bell_note_after(cuts: u32, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let seed = 34 + u64::from(100 * cuts);
    let mut sound = white_noise(seed, HALL_NOISE, (duration_s * sample_rate_hz) as usize);
    let start = (0.1 * sample_rate_hz) as usize;
    let bell = render(&bell_after(cuts), Vibrato::default(), sample_rate_hz, duration_s - 0.1);
    mix(&mut sound[start..], &bell);
    sound
}

/// How the hall dies away: middles of octave bands in Hz, and the time in seconds in which they
/// fall by 60 dB.
pub const HALL_T60_S: [(f64, f64); 8] = [
    (63.0, 2.1),
    (125.0, 1.9),
    (250.0, 1.7),
    (500.0, 1.55),
    (1000.0, 1.45),
    (2000.0, 1.25),
    (4000.0, 0.95),
    (8000.0, 0.6),
];

/// The part of a sound that lies in an octave band, with edges that neighbouring bands share.
fn octave_of(sound: &[f64], centre_hz: f64, sample_rate_hz: f64) -> Vec<f64> {
    let length = fast_length(2 * sound.len());
    let mut values: Vec<Complex<f64>> = sound.iter().map(|x| Complex::new(*x, 0.0)).collect();
    values.resize(length, Complex::default());
    complex_forward(&mut values);
    for (k, value) in values.iter_mut().enumerate() {
        let hz = k.min(length - k) as f64 * sample_rate_hz / length as f64;
        let octaves = (hz.max(1.0) / centre_hz).log2().abs();
        *value = value.conj() * if octaves < 1.0 { (FRAC_PI_2 * octaves).cos() } else { 0.0 };
    }
    // The transform of the conjugates is the inverse, but for its length: a real sound.
    complex_forward(&mut values);
    values.iter().take(sound.len()).map(|value| value.re / length as f64).collect()
}

/// Noise in octave bands that dies away, each with a reverberation time of its own; it grows dense over
/// the first 15 ms.
pub(super) fn reverberation(
    seed: u64,
    t60_s: &[(f64, f64)],
    sample_rate_hz: f64,
    samples: usize,
) -> Vec<f64> {
    let mut sound = vec![0.0; samples];
    for (n, (centre_hz, t60_s)) in t60_s.iter().enumerate() {
        let noise = white_noise(seed + n as u64, 0.3, samples);
        let mut band = octave_of(&noise, *centre_hz, sample_rate_hz);
        let fall = -3.0 * std::f64::consts::LN_10 / (t60_s * sample_rate_hz);
        for (n, x) in band.iter_mut().enumerate() {
            let dense = (n as f64 / (0.015 * sample_rate_hz)).min(1.0);
            *x *= dense * (fall * n as f64).exp();
        }
        mix(&mut sound, &band);
    }
    sound
}

/// A balloon that bursts in the empty hall at 0.1 s: the burst, the first reflections, and noise in
/// octave bands that dies away.
#[must_use]
pub fn hall_burst(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let samples = (duration_s * sample_rate_hz) as usize;
    let mut sound = white_noise(41, HALL_NOISE, samples);
    let start = (0.1 * sample_rate_hz) as usize;
    let after = samples.saturating_sub(start);
    mix(&mut sound[start..], &reverberation(42, &HALL_T60_S, sample_rate_hz, after));
    let reflections = [
        (0.0, 0.85),
        (0.0072, 0.34),
        (0.0119, -0.27),
        (0.0171, 0.24),
        (0.0236, 0.2),
        (0.031, -0.16),
    ];
    for (time_s, amplitude) in reflections {
        let burst = coloured_noise(60, 0.4 * amplitude, 900.0, 1.2, sample_rate_hz, 24);
        let at = start + (time_s * sample_rate_hz) as usize;
        if let Some(place) = sound.get_mut(at..) {
            mix(place, &burst);
        }
    }
    for x in &mut sound {
        *x = x.clamp(-0.99, 0.99);
    }
    sound
}

/// The flute through a faulty input: far too loud, with an offset, and cut at full scale.
#[must_use]
pub fn overdriven_flute(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    flute_tone(sample_rate_hz, duration_s)
        .into_iter()
        .map(|x| (3.4 * x + 0.03).clamp(-1.0, 1.0))
        .collect()
}

/// The harp string as a poor copy: coded by something that keeps nothing above 11 kHz, with mains
/// hum, a click, and a stretch that is missing.
#[must_use]
pub fn poor_copy(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let mut sound =
        low_passed(&harp_note(&harp_g3(), sample_rate_hz, duration_s), 11_000.0, sample_rate_hz);
    let hum = harmonics(50.02, &[3e-4, 5e-5, 2e-4, 3e-5, 8e-5]);
    mix(&mut sound, &render(&hum, Vibrato::default(), sample_rate_hz, duration_s));
    let at = |time_s: f64| (time_s * sample_rate_hz) as usize;
    if let Some(x) = sound.get_mut(at(2.2)) {
        *x += 0.12;
    }
    if let Some(missing) = sound.get_mut(at(0.9)..at(0.915)) {
        missing.fill(0.0);
    }
    sound
}

/// How much faster the clock of the recorder on the seat runs, as a share.
pub const SEAT_CLOCK: f64 = 12e-6;
/// How much later a sound is there, in seconds, and its gain.
pub const SEAT_DELAY_S: f64 = 0.0117;
/// See above.
pub const SEAT_GAIN: f64 = 0.28;

/// The harp string as a second recorder hears it, on a seat four metres away: late, quieter,
/// duller, by another clock.
#[must_use]
pub fn harp_from_the_seat(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    /// A dull seat: a low-pass of first order.
    const DULL_HZ: f64 = 5000.0;
    let rate_hz = sample_rate_hz * (1.0 + SEAT_CLOCK);
    let mut sound = white_noise(37, HALL_NOISE, (duration_s * sample_rate_hz) as usize);
    let start = ((0.1 + SEAT_DELAY_S) * rate_hz).round() as usize;
    let note = harp_g3().render(rate_hz, duration_s - 0.1);
    let share = 1.0 - (-std::f64::consts::TAU * DULL_HZ / rate_hz).exp();
    let mut dull = 0.0;
    for (x, note) in sound[start..].iter_mut().zip(note) {
        dull += share * (SEAT_GAIN * note - dull);
        *x += dull;
    }
    sound
}

/// Speed of the fairground-organ wagon in m/s, its closest distance from the window in metres, and when
/// it is closest, in seconds.
pub const WAGON: (f64, f64, f64) = (8.4, 6.5, 4.2);
/// The chord that its organ holds, in Hz.
pub const WAGON_CHORD_HZ: [f64; 4] = [392.8, 493.4, 587.9, 785.6];

/// The wagon as it passes the window of the hall: a chord of pipes with their harmonics over the noise of
/// the road.
#[must_use]
pub fn passing_wagon(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let (speed_m_s, distance_m, closest_s) = WAGON;
    let law = Law { speed_m_s, distance_m, closest_s, sound_m_s: sound_speed_m_s(20.0) };
    let samples = (duration_s * sample_rate_hz) as usize;
    let mut sound = coloured_noise(71, 0.004, 300.0, 0.6, sample_rate_hz, samples);
    for (n, x) in sound.iter_mut().enumerate() {
        let t = n as f64 / sample_rate_hz;
        let emitted_s = law.emitted_s(t) - closest_s;
        let near = distance_m / law.distance_at(t);
        for (pipe, hz) in WAGON_CHORD_HZ.into_iter().enumerate() {
            for (number, share) in [(1.0, 1.0), (2.0, 0.45), (3.0, 0.22)] {
                let turns = (number * hz * emitted_s + 0.31 * pipe as f64).rem_euclid(1.0);
                *x += 0.06 * near * share * (std::f64::consts::TAU * turns).sin();
            }
        }
    }
    sound
}

/// One of the two candidates for the hall's ventilation, 0 or 1, in one of several runs: noise of
/// the air, and the tones of its blades. The second turns more slowly and its blades are quieter.
#[must_use]
pub fn fan(candidate: u64, run: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let (blade_hz, blade, noise, centre_hz) = match candidate {
        0 => (171.5, 0.010, 0.012, 320.0),
        _ => (132.0, 0.003, 0.009, 260.0),
    };
    // No two runs are quite alike.
    let change = 1.0 + 0.02 * (run as f64 * 2.4).sin();
    let samples = (duration_s * sample_rate_hz) as usize;
    let seed = 200 + 20 * candidate + run;
    let tones =
        harmonics(blade_hz * (1.0 + 0.001 * run as f64), &[blade, 0.4 * blade, 0.2 * blade]);
    let mut sound = render(&tones, Vibrato::default(), sample_rate_hz, duration_s);
    mix(&mut sound, &coloured_noise(seed, noise * change, centre_hz, 1.8, sample_rate_hz, samples));
    mix(&mut sound, &white_noise(seed + 10, 2.0 * HALL_NOISE, samples));
    sound
}

/// How fast the slipping belt of the first fan lets it throb, in Hz, and how deep.
pub const BELT_HZ: f64 = 4.1;
/// Depth of that, from 0 to 1.
pub const BELT_DEPTH: f64 = 0.42;
/// How fast its wheel turns, in turns per second, and how deep one bent blade makes it pulse.
pub const WHEEL_HZ: f64 = 24.5;
/// Depth of that, from 0 to 1.
pub const WHEEL_DEPTH: f64 = 0.16;

/// The first of the fans after a summer: its belt slips, and one of its seven blades is bent.
#[must_use]
pub fn worn_fan(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let mut sound = fan(0, 4, sample_rate_hz, duration_s);
    for (n, x) in sound.iter_mut().enumerate() {
        let t = n as f64 / sample_rate_hz;
        let swell = |hz: f64, depth: f64| 1.0 + depth * (std::f64::consts::TAU * hz * t).cos();
        *x *= swell(BELT_HZ, BELT_DEPTH) * swell(WHEEL_HZ, WHEEL_DEPTH);
    }
    sound
}

/// A sound calibrator on a microphone: 1 kHz, 94.0 dB re 20 µPa where a full-scale sine has 120 dB.
#[must_use]
pub fn calibrator(sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
    let tone = harmonics(1000.0, &[10f64.powf(-26.0 / 20.0), 2e-4]);
    let mut sound = render(&tone, Vibrato::default(), sample_rate_hz, duration_s);
    let samples = sound.len();
    mix(&mut sound, &white_noise(35, HALL_NOISE, samples));
    sound
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn takes_have_the_length_asked_for_and_stay_within_full_scale() {
        for sound in [
            harp_note(&harp_g3(), 44_100.0, 1.5),
            flute_tone(44_100.0, 1.5),
            bell_note(44_100.0, 1.5),
        ] {
            assert_eq!(sound.len(), 66_150);
            assert!(sound.iter().all(|x| x.abs() < 1.0));
        }
        let second_hz = bell_after(BELL_CUTS)[2].frequency_hz;
        assert!(
            (second_hz - 3.0 * bell_after(BELL_CUTS)[0].frequency_hz).abs() < 0.1,
            "{second_hz}"
        );
        assert_eq!(bell_after(0), bell_before_tuning());
        let overdriven = overdriven_flute(44_100.0, 1.5);
        assert!(overdriven.iter().filter(|x| **x >= 1.0).count() > 1000);
    }
}
