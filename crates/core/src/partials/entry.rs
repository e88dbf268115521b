//! How the partials of a note begin to sound.

use std::f64::consts::PI;

use serde::Serializer;
use serde::ser::SerializeMap;

use super::{PartialTrack, TrackPoint};
use crate::lanes::product;

/// The partials of a note enter together: the damped sinusoids that its first frame shows do not sound
/// in full at the onset, but rise from nothing to what they are between two times, along half a
/// cosine. What sounds before is a knock, a finger or the air, not the partials.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Entry {
    /// In seconds from the start of the take.
    pub from_s: f64,
    /// See above.
    pub to_s: f64,
}

impl Entry {
    /// The entry that leaves least of a sound, which begins with the onset, and how its partials would
    /// sound in full: of all g = ½ − ½·cos(π·(t − from)/(to − from)) the one that makes Σ (x − g·y)²
    /// least, times in seconds after the onset. `None` where that is hardly less than without.
    pub(super) fn of(sound: &[f32], partials: &[f32], rate_hz: f64) -> Option<Self> {
        /// Sums over so many parts are kept in place of samples.
        const PARTS: usize = 256;
        /// Parts between places that are looked at first.
        const FIRST_STEP: usize = 16;
        /// It must leave so much less.
        const BETTER: f64 = 0.8;
        let samples = sound.len().min(partials.len());
        let length = samples.div_ceil(PARTS).max(1);
        let (sound, partials) = (&sound[..samples], &partials[..samples]);
        let all = product(sound, sound);
        let pairs = sound.chunks(length).zip(partials.chunks(length));
        let parts: Vec<(f64, f64)> = pairs.map(|(x, y)| (product(x, y), product(y, y))).collect();
        let gained = |(xy, yy): &(f64, f64), gain: f64| gain * (2.0 * xy - gain * yy);
        // What is gained from each part on if all sounds in full from there.
        let mut in_full = vec![0.0; parts.len() + 1];
        for n in (0..parts.len()).rev() {
            in_full[n] = in_full[n + 1] + gained(&parts[n], 1.0);
        }
        let of = |from: usize, to: usize| {
            let rising = parts[from..to]
                .iter()
                .enumerate()
                .map(|(n, part)| gained(part, share((n as f64 + 0.5) / (to - from) as f64)));
            rising.sum::<f64>() + in_full[to]
        };
        let mut best = (0, 0, in_full[0]);
        let look = |from: usize, to: usize, best: &mut (usize, usize, f64)| {
            let gained = of(from, to);
            if gained > best.2 {
                *best = (from, to, gained);
            }
        };
        for from in (0..parts.len()).step_by(FIRST_STEP) {
            for to in (from..=parts.len()).step_by(FIRST_STEP) {
                look(from, to, &mut best);
            }
        }
        let mut step = FIRST_STEP / 2;
        while step > 0 {
            let (from, to, before) = best;
            for a in [from.saturating_sub(step), from, from + step] {
                for b in [to.saturating_sub(step), to, to + step] {
                    if a <= b && b <= parts.len() {
                        look(a, b, &mut best);
                    }
                }
            }
            if best.2 <= before {
                step /= 2;
            }
        }
        let (from, to, gained) = best;
        let after_s = |part: usize| (part * length) as f64 / rate_hz;
        (all - gained < BETTER * (all - in_full[0]))
            .then(|| Self { from_s: after_s(from), to_s: after_s(to) })
    }

    /// The same so many seconds later.
    pub(crate) fn later(self, by_s: f64) -> Self {
        Self { from_s: self.from_s + by_s, to_s: self.to_s + by_s }
    }

    /// What the amplitude of partials has to be multiplied by.
    #[must_use]
    pub fn gain(&self, time_s: f64) -> f64 {
        match time_s {
            t if t >= self.to_s => 1.0,
            t if t <= self.from_s => 0.0,
            t => share((t - self.from_s) / (self.to_s - self.from_s)),
        }
    }

    /// A track as it is heard: of the points before it enters the last is left, 40 dB down.
    pub(super) fn heard(&self, track: &PartialTrack) -> PartialTrack {
        /// 40 dB down.
        const LEAST: f64 = 0.01;
        let time_s = |n: usize| track.start_s + n as f64 * track.hop_s;
        let silent = (0..track.points.len()).take_while(|n| self.gain(time_s(*n)) <= LEAST).count();
        let first = silent.saturating_sub(1);
        let heard = |(n, point): (usize, &TrackPoint)| {
            let gain = self.gain(time_s(first + n)).max(LEAST);
            TrackPoint { amplitude: gain * point.amplitude, ..*point }
        };
        PartialTrack {
            start_s: time_s(first),
            points: track.points[first..].iter().enumerate().map(heard).collect(),
            ..*track
        }
    }
}

/// Both times beside the other numbers of a note, or nothing in their place.
pub(super) fn flat<S: Serializer>(entry: &Option<Entry>, serializer: S) -> Result<S::Ok, S::Error> {
    let mut map = serializer.serialize_map(Some(2))?;
    map.serialize_entry("entry_from_s", &entry.map(|entry| entry.from_s))?;
    map.serialize_entry("entry_to_s", &entry.map(|entry| entry.to_s))?;
    map.end()
}

/// Half a cosine from 0 to 1.
fn share(place: f64) -> f64 {
    0.5 - 0.5 * (PI * place).cos()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{sine, white_noise};

    const RATE_HZ: f64 = 48_000.0;

    #[test]
    fn the_entry_of_partials_is_found() {
        let full = sine(220.0, 0.3, 0.4, RATE_HZ, 2400);
        for (from_s, to_s) in [(0.0, 0.004), (0.0031, 0.0062), (0.011, 0.029), (0.02, 0.0205)] {
            let entry = Entry { from_s, to_s };
            let noise = white_noise(7, 0.003, full.len());
            let sound: Vec<f32> = (full.iter().zip(noise).enumerate())
                .map(|(n, (x, noise))| {
                    (entry.gain(n as f64 / RATE_HZ) * f64::from(*x) + noise) as f32
                })
                .collect();
            let found = Entry::of(&sound, &full, RATE_HZ).expect("an entry");
            let off_s = (found.from_s - from_s).abs().max((found.to_s - to_s).abs());
            assert!(off_s < 0.0012, "{found:?} for {entry:?}");
        }
    }

    #[test]
    fn what_sounds_in_full_from_the_onset_on_does_not_enter_later() {
        let full = sine(220.0, 0.3, 0.4, RATE_HZ, 2400);
        let noise = white_noise(7, 0.03, full.len());
        let sound: Vec<f32> = full.iter().zip(noise).map(|(x, noise)| x + noise as f32).collect();
        assert_eq!(Entry::of(&sound, &full, RATE_HZ), None);
        assert_eq!(Entry::of(&sound, &vec![0.0; full.len()], RATE_HZ), None);
    }
}
