//! Plays a recipe block by block.

use std::f64::consts::TAU;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::SeedableRng;
use rand_distr::{Distribution, StandardNormal};

use super::partials::Partial;
use super::recipe::{Motion, Recipe, RecordedVoice, Source, Timing, Voice};
use super::sweep::Sweep;
use crate::error::Error;
use crate::samples::{Reader, Samples};
use crate::transform::{Convolver, real_inverse};

/// Plays a recipe from beginning to end.
pub struct Player<'a> {
    playing: Vec<Playing<'a>>,
    position: u64,
    samples: u64,
}

impl Player<'_> {
    /// Fills `block` with the next samples and returns how many there were.
    ///
    /// # Errors
    ///
    /// [`Error::Lost`] where a take can no longer be read.
    pub fn play(&mut self, block: &mut [f64]) -> Result<usize, Error> {
        let left = usize::try_from(self.samples - self.position).unwrap_or(usize::MAX);
        let count = block.len().min(left);
        let block = &mut block[..count];
        block.fill(0.0);
        for voice in &mut self.playing {
            voice.add(block, self.position)?;
        }
        self.position += count as u64;
        Ok(count)
    }
}

impl Recipe {
    /// The sound, block by block, of a recipe without takes.
    ///
    /// # Errors
    ///
    /// As [`player_with`](Self::player_with).
    pub fn player(&self) -> Result<Player<'static>, Error> {
        self.player_with(&[])
    }

    /// The sound, block by block, given the samples of each voice that is a take.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a rate or length that makes no sense, for a voice that begins after
    /// the end, and for a frequency at or above half the sample rate.
    pub fn player_with<'a>(&self, takes: &[Option<&'a dyn Samples>]) -> Result<Player<'a>, Error> {
        let rate = self.sample_rate_hz;
        let wrong = |setting: &'static str, given: String, allowed: String| {
            Err(Error::Setting { setting, given, allowed })
        };
        if !(1000.0..=1e6).contains(&rate) {
            return wrong("the sample rate", format!("{rate} Hz"), "1 kHz to 1 MHz".into());
        }
        if self.samples() == 0 || self.duration_s > 86_400.0 {
            let given = format!("{} s", self.duration_s);
            return wrong("the duration", given, "one sample to a day".into());
        }
        let mut playing = Vec::new();
        for (n, voice) in self.voices.iter().enumerate() {
            let timing = voice.timing;
            if timing.start_s >= self.duration_s {
                let given = format!("{} s", timing.start_s);
                let allowed = format!("before the end at {} s", self.duration_s);
                return wrong("the start of a voice", given, allowed);
            }
            let highest = match &voice.source {
                // Partials above it are simply not heard; without its first a voice is a mistake.
                Source::Partials(partials) => partials.first().map_or(0.0, |p| p.frequency_hz),
                Source::Sweep(sweep) => sweep.from_hz.max(sweep.to_hz),
                Source::Noise { .. } | Source::Take(_) => 0.0,
            };
            if highest >= rate / 2.0 {
                let allowed = format!("below half the sample rate, {} Hz", rate / 2.0);
                return wrong("the frequency of a voice", format!("{highest} Hz"), allowed);
            }
            let take = takes.get(n).copied().flatten();
            if let (Some(RecordedVoice { file, .. }), None) = (voice.recorded(), take) {
                return wrong("a take of the recipe", file.clone(), "one that can be read".into());
            }
            playing.push(Playing::new(voice, self, n as u64, take));
        }
        Ok(Player { playing, position: 0, samples: self.samples() })
    }
}

/// A voice that is being played.
struct Playing<'a> {
    sound: Sound<'a>,
    motion: Motion,
    timing: Timing,
    start: u64,
    end: u64,
    sample_rate_hz: f64,
    /// Time in seconds as a wavering voice counts it, which no closed form gives.
    warped_s: f64,
}

enum Sound<'a> {
    Partials(Vec<Partial>),
    Sweep(Sweep),
    White { rms: f64, random: Box<ChaCha8Rng> },
    Pink { noise: Box<PinkNoise> },
    Take { reader: Reader<'a>, gain: f64 },
}

impl<'a> Playing<'a> {
    fn new(voice: &Voice, recipe: &Recipe, number: u64, take: Option<&'a dyn Samples>) -> Self {
        let rate = recipe.sample_rate_hz;
        let timing = voice.timing;
        let (start, mut end) = recipe.reach(timing);
        if let Some(take) = take {
            end = end.min(start + take.count() as u64);
        }
        let random = || {
            Box::new(ChaCha8Rng::seed_from_u64(
                recipe.seed.wrapping_mul(1_000_003).wrapping_add(number),
            ))
        };
        let nothing: &'static Vec<f32> = const { &Vec::new() };
        let sound = match &voice.source {
            Source::Take(recorded) => {
                let reader = Reader::new(take.unwrap_or(nothing));
                Sound::Take { reader, gain: recorded.gain }
            }
            Source::Partials(partials) => Sound::Partials(
                partials.iter().filter(|p| p.frequency_hz < rate / 2.0).copied().collect(),
            ),
            Source::Sweep(sweep) => Sound::Sweep(*sweep),
            Source::Noise { pink: false, rms } => Sound::White { rms: *rms, random: random() },
            Source::Noise { pink: true, rms } => {
                Sound::Pink { noise: Box::new(PinkNoise::new(*rms, rate, *random())) }
            }
        };
        Self {
            sound,
            motion: voice.motion,
            timing,
            start,
            end,
            sample_rate_hz: rate,
            warped_s: 0.0,
        }
    }

    fn add(&mut self, block: &mut [f64], position: u64) -> Result<(), Error> {
        let length_s = (self.end.saturating_sub(self.start)) as f64 / self.sample_rate_hz;
        let mut recorded = Vec::new();
        if let Sound::Take { reader, gain } = &mut self.sound {
            let samples = reader.at(position as i64 - self.start as i64, block.len())?;
            recorded.extend(samples.iter().map(|x| *gain * f64::from(*x)));
        }
        for (n, x) in block.iter_mut().enumerate() {
            let at = position + n as u64;
            if !(self.start..self.end).contains(&at) {
                continue;
            }
            let t = (at - self.start) as f64 / self.sample_rate_hz;
            let warped = self.warped(t, length_s);
            let sound = match &mut self.sound {
                Sound::Partials(partials) => partials.iter().map(|p| sinusoid(p, warped, t)).sum(),
                Sound::Sweep(sweep) => {
                    sweep.amplitude * (TAU * sweep.turns(t, length_s).fract()).sin()
                }
                Sound::White { rms, random } => {
                    let value: f64 = StandardNormal.sample(random);
                    *rms * value
                }
                Sound::Pink { noise } => noise.next(),
                Sound::Take { .. } => recorded[n],
            };
            *x += sound * self.gain(t, length_s);
        }
        Ok(())
    }

    /// Time as the voice counts it: ∫ of its frequency over the first.
    fn warped(&mut self, t: f64, length_s: f64) -> f64 {
        let Motion { vibrato_hz, vibrato_cents, glide, .. } = self.motion;
        let growth = glide.map_or(0.0, |ratio| ratio.ln() / length_s);
        if vibrato_hz * vibrato_cents == 0.0 {
            return if growth == 0.0 { t } else { (growth * t).exp_m1() / growth };
        }
        let depth = vibrato_cents / 1200.0 * std::f64::consts::LN_2;
        let ratio = |t: f64| (growth * t + depth * (TAU * vibrato_hz * t).sin()).exp();
        // Simpson's rule over each sample.
        let step = 1.0 / self.sample_rate_hz;
        let now = self.warped_s;
        self.warped_s += step / 6.0 * (ratio(t) + 4.0 * ratio(t + step / 2.0) + ratio(t + step));
        now
    }

    /// Tremolo, fades and bursts.
    fn gain(&self, t: f64, length_s: f64) -> f64 {
        let Motion { tremolo_hz, tremolo_depth, .. } = self.motion;
        let tremolo = 1.0 + tremolo_depth * (TAU * tremolo_hz * t).sin();
        let (t, length) = match self.timing.bursts {
            None => (t, length_s),
            Some((on, every)) => (t % every, on),
        };
        if t >= length {
            return 0.0;
        }
        let from_end = length - t - 1.0 / self.sample_rate_hz;
        let fade_s = self.timing.fade_s;
        let edge = |t: f64| {
            if t >= fade_s || fade_s <= 0.0 {
                return 1.0;
            }
            0.5 - 0.5 * (TAU / 2.0 * t.max(0.0) / fade_s).cos()
        };
        tremolo * edge(t) * edge(from_end)
    }
}

/// A partial at the time t, `warped` as its frequency counts it.
fn sinusoid(partial: &Partial, warped: f64, t: f64) -> f64 {
    // 60 dB are a factor of 1000 in amplitude.
    let fallen = (-1000f64.ln() * t / partial.t60_s).exp();
    partial.amplitude
        * fallen
        * (TAU * (partial.frequency_hz * warped).fract() + partial.phase_rad).cos()
}

/// White noise through a filter that falls by 3 dB an octave above 10 Hz and is level below.
struct PinkNoise {
    random: ChaCha8Rng,
    convolver: Convolver,
    white: Vec<f64>,
    ready: Vec<f64>,
    next: usize,
}

impl PinkNoise {
    fn new(rms: f64, sample_rate_hz: f64, random: ChaCha8Rng) -> Self {
        /// Below this the noise is white, so that its power is finite.
        const LOWEST_HZ: f64 = 10.0;
        // A resolution of a fifth of the lowest frequency.
        let length = ((5.0 * sample_rate_hz / LOWEST_HZ) as usize).next_power_of_two();
        let response: Vec<f64> = (0..=length / 2)
            .map(|k| (k as f64 * sample_rate_hz / length as f64).max(LOWEST_HZ).powf(-0.5))
            .collect();
        let centred = real_inverse(&response, length);
        // From −length/2, under a Hann window that lets it end gently.
        let mut kernel: Vec<f64> = (0..length)
            .map(|n| {
                let hann = 0.5 - 0.5 * (TAU * n as f64 / length as f64).cos();
                centred[(n + length / 2) % length] * hann
            })
            .collect();
        let scale = rms / kernel.iter().map(|h| h * h).sum::<f64>().sqrt();
        for h in &mut kernel {
            *h *= scale;
        }
        let mut noise = Self {
            random,
            convolver: Convolver::new(&kernel),
            white: Vec::new(),
            ready: Vec::new(),
            next: 0,
        };
        // What comes before the filter is full is not noise of the stated level.
        for _ in 0..length {
            noise.next();
        }
        noise
    }

    fn next(&mut self) -> f64 {
        if self.next == self.ready.len() {
            let random = &mut self.random;
            self.white.clear();
            let block = self.convolver.block();
            self.white.extend((0..block).map(|_| -> f64 { StandardNormal.sample(random) }));
            self.ready.clear();
            self.ready.extend_from_slice(self.convolver.convolve(&self.white));
            self.next = 0;
        }
        self.next += 1;
        self.ready[self.next - 1]
    }
}
