//! A note as a microphone hears it: strings in unison, the knock of what strikes them, the room.

use super::{PluckedString, coloured_noise, mix, render, white_noise};
use crate::synth::{Partial, Vibrato};

/// Two or three strings struck together, each in two directions.
///
/// A string that moves towards the bridge sounds louder and dies sooner than one that moves along
/// it: the prompt sound and the aftersound (G. Weinreich, J. Acoust. Soc. Am. 62, 1977). Strings
/// that are a cent apart beat; what strikes them is heard with them, and the case under it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StruckUnison {
    /// The string, of which the others are copies.
    pub string: PluckedString,
    /// Number of strings.
    pub strings: u32,
    /// Distance of the outermost from each other, in cents.
    pub spread_cents: f64,
    /// Level of the aftersound re the prompt sound in dB, and how much longer it lasts.
    pub aftersound_db: f64,
    /// See above.
    pub aftersound_lasts: f64,
    /// Time in which it rises, in seconds.
    pub rise_s: f64,
    /// Level of the knock re the first partial, in dB, and its frequency in Hz.
    pub knock_db: f64,
    /// See above.
    pub knock_hz: f64,
}

impl StruckUnison {
    /// The sound from the stroke on; the knock is made from `seed`.
    #[must_use]
    pub fn render(&self, seed: u64, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
        let after = 10f64.powf(self.aftersound_db / 20.0);
        let share = 1.0 / f64::from(self.strings);
        let mut partials = Vec::new();
        for n in 0..self.strings {
            let place = f64::from(n) / f64::from(self.strings.max(2) - 1) - 0.5;
            let apart = (place * self.spread_cents / 1200.0).exp2();
            for partial in self.string.truth() {
                let frequency_hz = partial.frequency_hz * apart;
                if frequency_hz > 0.49 * sample_rate_hz {
                    continue;
                }
                let prompt = partial.amplitude * share;
                partials.push(Partial { frequency_hz, amplitude: prompt, ..partial });
                partials.push(Partial {
                    // The bridge gives way, and draws the prompt sound a little down.
                    frequency_hz: frequency_hz * 1.000_1,
                    amplitude: prompt * after,
                    t60_s: partial.t60_s * self.aftersound_lasts,
                    ..partial
                });
            }
        }
        let mut sound = render(&partials, Vibrato::default(), sample_rate_hz, duration_s);
        let rise = (self.rise_s * sample_rate_hz).max(1.0);
        for (n, x) in sound.iter_mut().enumerate().take(rise as usize) {
            *x *= 0.5 - 0.5 * (std::f64::consts::PI * n as f64 / rise).cos();
        }
        let lasting_s = 0.15f64.min(duration_s);
        let samples = (lasting_s * sample_rate_hz) as usize;
        let rms = self.string.amplitude * 10f64.powf(self.knock_db / 20.0) / 2f64.sqrt();
        let mut knock = coloured_noise(seed, rms, self.knock_hz, 2.0, sample_rate_hz, samples);
        for (n, x) in knock.iter_mut().enumerate() {
            *x *= (-6.9 * n as f64 / samples as f64).exp() * 2.0;
        }
        mix(&mut sound, &knock);
        sound
    }
}

/// What a room adds while nothing is played: white noise of an RMS, rumble of machines and traffic
/// at 5 to 30 Hz, and hum at 50 Hz and its multiples, both in dB re that noise.
#[must_use]
pub fn room(
    seed: u64,
    rms: f64,
    rumble_db: f64,
    hum_db: f64,
    sample_rate_hz: f64,
    samples: usize,
) -> Vec<f64> {
    let level = |db: f64| rms * 10f64.powf(db / 20.0);
    let mut sound = white_noise(seed, rms, samples);
    for (n, hz) in [5.0, 9.0, 27.0].into_iter().enumerate() {
        let seed = seed + 1 + n as u64;
        mix(&mut sound, &coloured_noise(seed, level(rumble_db), hz, 4.0, sample_rate_hz, samples));
    }
    let hum: Vec<Partial> = (1..=4)
        .map(|n| Partial {
            frequency_hz: 50.0 * f64::from(n),
            amplitude: level(hum_db) * 2f64.sqrt() / f64::from(n),
            phase_rad: f64::from(n),
            t60_s: f64::INFINITY,
        })
        .collect();
    let duration_s = samples as f64 / sample_rate_hz;
    mix(&mut sound, &render(&hum, Vibrato::default(), sample_rate_hz, duration_s));
    sound
}
