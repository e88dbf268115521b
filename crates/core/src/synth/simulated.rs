//! An instrument that plays on and on in a room: what stands for a microphone.

use std::collections::VecDeque;
use std::f64::consts::TAU;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::SeedableRng;
use rand_distr::{Distribution, StandardNormal};
use rustfft::num_complex::Complex;

use super::alder_hall::{HALL_NOISE, HALL_T60_S, harp_string, reverberation};
use super::partials::Partial;
use super::player::Player;
use super::recipe::Recipe;
use crate::error::Error;
use crate::transform::Convolver;

/// Sounds without end, block by block.
pub struct Simulated {
    source: Source,
    sample_rate_hz: f64,
}

enum Source {
    /// The harp, note after note, at two places in the hall.
    Harp {
        /// Each string at each place.
        notes: Vec<[Vec<f32>; PLACES]>,
        every: u64,
        position: u64,
        noise: Box<ChaCha8Rng>,
    },
    /// Voices of a recipe, in the open or in the hall.
    Voices(Player<'static>, Option<Hall>),
}

/// The hall around a sound: what it has heard and not given yet.
struct Hall {
    convolver: Convolver,
    heard: VecDeque<f64>,
}

impl Hall {
    /// The hall as it is heard at a place: how much of the instrument, and how much of the hall.
    fn response(place: u64, direct: f64, late: f64, sample_rate_hz: f64) -> Vec<f64> {
        let samples = (HALL_S * sample_rate_hz) as usize;
        let mut hall = reverberation(place, &HALL_T60_S, sample_rate_hz, samples);
        for x in &mut hall {
            *x *= late;
        }
        hall[0] += direct;
        hall
    }

    /// The next samples of voices as they sound in it, fewer at the end.
    fn play(&mut self, player: &mut Player<'_>, into: &mut [f64]) -> Result<usize, Error> {
        let mut dry = vec![0.0; self.convolver.block()];
        while self.heard.len() < into.len() {
            let played = player.play(&mut dry)?;
            if played == 0 {
                break;
            }
            self.heard.extend(self.convolver.convolve(&dry[..played]));
        }
        let count = into.len().min(self.heard.len());
        for (x, heard) in into.iter_mut().zip(self.heard.drain(..count)) {
            *x = heard;
        }
        Ok(count)
    }
}

/// Microphones in the hall.
const PLACES: usize = 2;
/// MIDI numbers of the strings, and the order in which they are plucked: a chord of G up and down.
const STRINGS: [i32; 5] = [55, 59, 62, 67, 71];
const ORDER: [usize; 8] = [0, 1, 2, 3, 4, 3, 2, 1];
/// Time between notes, how long each sounds, and the hall, in seconds.
const EVERY_S: f64 = 1.5;
const SOUNDS_S: f64 = 5.0;
const HALL_S: f64 = 1.2;

impl Simulated {
    /// The harp of Alder Hall, plucked every one and a half seconds: near it, and from the seats.
    #[must_use]
    pub fn harp(sample_rate_hz: f64) -> Self {
        let halls = [(1, 1.0, 0.004), (2, 0.35, 0.012)]
            .map(|(place, direct, late)| Hall::response(place, direct, late, sample_rate_hz));
        let note = |number: i32| {
            let dry = plucked(&harp_string(number, 0.0).truth(), sample_rate_hz);
            halls.each_ref().map(|hall| {
                let mut convolver = Convolver::new(hall);
                let blocks = dry.chunks(convolver.block()).map(<[f64]>::to_vec);
                let blocks: Vec<Vec<f64>> = blocks.collect();
                let all = blocks.iter().flat_map(|part| convolver.convolve(part).to_vec());
                all.map(|x| x as f32).collect()
            })
        };
        let source = Source::Harp {
            notes: STRINGS.map(note).into(),
            every: (EVERY_S * sample_rate_hz) as u64,
            position: 0,
            noise: Box::new(ChaCha8Rng::seed_from_u64(91)),
        };
        Self { source, sample_rate_hz }
    }

    /// The voices of a recipe, to its end: in the open, or as they sound from the seats of the hall.
    ///
    /// # Errors
    ///
    /// As [`Recipe::player`].
    pub fn voices(recipe: &Recipe, in_hall: bool) -> Result<Self, Error> {
        let sample_rate_hz = recipe.sample_rate_hz;
        let hall = in_hall.then(|| Hall {
            convolver: Convolver::new(&Hall::response(2, 0.35, 0.012, sample_rate_hz)),
            heard: VecDeque::new(),
        });
        Ok(Self { source: Source::Voices(recipe.player()?, hall), sample_rate_hz })
    }

    /// Samples per second.
    #[must_use]
    pub fn sample_rate_hz(&self) -> f64 {
        self.sample_rate_hz
    }

    /// Number of channels.
    #[must_use]
    pub fn channels(&self) -> usize {
        match self.source {
            Source::Harp { .. } => PLACES,
            Source::Voices(..) => 1,
        }
    }

    /// The next samples of each channel, as many as `count`, fewer at the end.
    ///
    /// # Errors
    ///
    /// As [`Player::play`].
    pub fn play(&mut self, count: usize) -> Result<Vec<Vec<f32>>, Error> {
        match &mut self.source {
            Source::Voices(player, hall) => {
                let mut block = vec![0.0; count];
                let played = match hall {
                    Some(hall) => hall.play(player, &mut block)?,
                    None => player.play(&mut block)?,
                };
                Ok(vec![block[..played].iter().map(|x| *x as f32).collect()])
            }
            Source::Harp { notes, every, position, noise } => {
                let mut hiss = || {
                    let x: f64 = StandardNormal.sample(&mut **noise);
                    (HALL_NOISE * x) as f32
                };
                let mut all: Vec<Vec<f32>> =
                    (0..PLACES).map(|_| (0..count).map(|_| hiss()).collect()).collect();
                let lasts = notes[0][0].len() as u64;
                // The notes that sound at the end of the block, and those that ended within it.
                let newest = (*position + count as u64) / *every;
                let oldest = position.saturating_sub(lasts) / *every;
                for number in oldest..=newest {
                    let start = number * *every;
                    let note = &notes[ORDER[(number % ORDER.len() as u64) as usize]];
                    for (channel, sound) in all.iter_mut().zip(note) {
                        let skipped = start.saturating_sub(*position) as usize;
                        let from = position.saturating_sub(start) as usize;
                        let rest = sound.get(from..).unwrap_or_default();
                        let places = channel.get_mut(skipped..).unwrap_or_default();
                        places.iter_mut().zip(rest).for_each(|(x, note)| *x += note);
                    }
                }
                *position += count as u64;
                Ok(all)
            }
        }
    }
}

/// Partials that die away, each turned on from sample to sample: fast, since it is waited for.
fn plucked(partials: &[Partial], sample_rate_hz: f64) -> Vec<f64> {
    let mut sound = vec![0.0; (SOUNDS_S * sample_rate_hz) as usize];
    for partial in partials {
        let fall = 10f64.powf(-3.0 / (partial.t60_s * sample_rate_hz));
        let step = Complex::from_polar(fall, TAU * partial.frequency_hz / sample_rate_hz);
        let mut turning = Complex::from_polar(partial.amplitude, partial.phase_rad);
        for x in &mut sound {
            *x += turning.re;
            turning *= step;
        }
    }
    sound
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pitch::{PitchSettings, PitchTracker};
    use crate::synth::Voice;
    use crate::units::cents_between;

    #[test]
    fn the_harp_plays_its_notes_however_it_is_asked() {
        let rate_hz = 32_000.0;
        let mut whole = Simulated::harp(rate_hz);
        let all = whole.play(6 * 32_000).expect("sound");
        assert_eq!((all.len(), whole.channels()), (2, 2));
        let mut parts = Simulated::harp(rate_hz);
        let mut joined: Vec<Vec<f32>> = vec![Vec::new(); 2];
        for count in (0..60).map(|n| 1 + (n * 997) % 5000) {
            for (joined, part) in joined.iter_mut().zip(parts.play(count).expect("sound")) {
                joined.extend(part);
            }
        }
        // The noise of the channels depends on the blocks; the notes do not.
        let off = joined[0].iter().zip(&all[0]).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(off < 12.0 * HALL_NOISE as f32, "{off}");
        let mut tracker = PitchTracker::new(PitchSettings::default(), rate_hz, 0.0).expect("rate");
        tracker.push(&all[0]);
        let notes = tracker.finish().notes;
        for (n, number) in STRINGS[..4].iter().enumerate() {
            let at_s = (n as f64 + 0.5) * EVERY_S;
            let note = notes.iter().find(|note| note.start_s < at_s && note.end_s > at_s);
            let note = note.expect("a note");
            let wanted_hz = harp_string(*number, 0.0).truth()[0].frequency_hz;
            let off = cents_between(wanted_hz, note.f0_hz);
            assert!(off.abs() < 6.0, "{number}: {off}");
        }
    }

    /// Level of a stretch in dB re a full-scale sine.
    fn level_db(sound: &[f32]) -> f64 {
        let squares: f64 = sound.iter().map(|x| f64::from(*x) * f64::from(*x)).sum();
        crate::units::db_from_power(2.0 * squares / sound.len() as f64)
    }

    #[test]
    fn voices_die_away_in_the_hall_and_not_in_the_open() {
        let rate_hz = 48_000.0;
        let voice = Voice::from_line("noise level=-20dB length=1s", 440.0).expect("a voice");
        let recipe =
            Recipe { voices: vec![voice], sample_rate_hz: rate_hz, duration_s: 2.0, seed: 3 };
        let all = |in_hall: bool| {
            let mut sound = Simulated::voices(&recipe, in_hall).expect("a recipe");
            let mut all = Vec::new();
            loop {
                let part = sound.play(977).expect("sound").remove(0);
                if part.is_empty() {
                    return all;
                }
                all.extend(part);
            }
        };
        let (open, hall) = (all(false), all(true));
        assert_eq!((open.len(), hall.len()), (96_000, 96_000));
        assert!((level_db(&open[..48_000]) + 20.0).abs() < 0.3);
        assert!(open[48_000..].iter().all(|x| *x == 0.0));
        // What is left of it falls as the octaves of the hall do, 60 dB in 0.7 to 2.1 s.
        let fall = level_db(&hall[52_800..57_600]) - level_db(&hall[67_200..72_000]);
        println!("the hall falls by {fall:.1} dB in 0.3 s");
        assert!((8.6..26.0).contains(&fall), "{fall}");
    }
}
