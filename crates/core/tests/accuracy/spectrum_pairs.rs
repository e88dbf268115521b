//! Tones nearer to each other than frames resolve, against their joint Cramér–Rao bound.

use std::f64::consts::{PI, TAU};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::spectrum::{Peak, SpectrumSettings, measure};
use tonemap_core::synth::{self, Partial, Vibrato, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    close_pairs_are_told_apart_near_their_joint_bound,
    a_tone_is_found_60_db_below_its_neighbour,
    single_tones_are_not_taken_for_pairs,
];

const RATE_HZ: f64 = 48_000.0;
const SPAN_S: f64 = 2.0;
/// Of the stronger tone, over the noise in the whole band.
const SNR_DB: f64 = 40.0;

/// Standard deviations of the frequencies of two tones by their joint bound, in Hz: the inverse of
/// Fisher's matrix over frequency, amplitude and phase of both, the tones being
/// A·cos(ωt + φ), t from the middle.
fn joint_bound_hz(tones: [Partial; 2], sigma: f64, samples: usize) -> [f64; 2] {
    let middle = (samples as f64 - 1.0) / 2.0;
    let mut fisher = [[0.0f64; 6]; 6];
    for n in 0..samples {
        let t = n as f64 - middle;
        let slopes: Vec<f64> = tones
            .iter()
            .flat_map(|tone| {
                let omega = TAU * tone.frequency_hz / RATE_HZ;
                let angle = omega * n as f64 + tone.phase_rad;
                let (sin, cos) = angle.sin_cos();
                [-tone.amplitude * (t / samples as f64) * sin, cos, -tone.amplitude * sin]
            })
            .collect();
        for (row, of) in fisher.iter_mut().zip(&slopes) {
            row.iter_mut().zip(&slopes).for_each(|(cell, other)| *cell += of * other);
        }
    }
    let inverse = inverted(fisher);
    [0, 3].map(|k| sigma * inverse[k][k].sqrt() / samples as f64 * RATE_HZ / TAU)
}

fn inverted(mut left: [[f64; 6]; 6]) -> [[f64; 6]; 6] {
    let mut right: [[f64; 6]; 6] =
        std::array::from_fn(|n| std::array::from_fn(|m| if n == m { 1.0 } else { 0.0 }));
    for pivot in 0..6 {
        let scale = left[pivot][pivot];
        left[pivot].iter_mut().chain(&mut right[pivot]).for_each(|x| *x /= scale);
        for other in (0..6).filter(|other| *other != pivot) {
            let factor = left[other][pivot];
            for n in 0..6 {
                left[other][n] -= factor * left[pivot][n];
                right[other][n] -= factor * right[pivot][n];
            }
        }
    }
    right
}

fn pair_of(peaks: &[Peak]) -> Option<[&Peak; 2]> {
    let beating: Vec<&Peak> = peaks.iter().filter(|peak| peak.beat_hz.is_some()).collect();
    <[&Peak; 2]>::try_from(beating).ok()
}

fn tone(frequency_hz: f64, amplitude: f64, random: &mut ChaCha8Rng) -> Partial {
    let phase_rad = random.random_range(-PI..PI);
    Partial { frequency_hz, amplitude, phase_rad, t60_s: f64::INFINITY }
}

fn rendered(tones: &[Partial], vibrato: Vibrato, sigma: f64, seed: u64) -> Vec<f32> {
    let mut sound = synth::render(tones, vibrato, RATE_HZ, SPAN_S);
    synth::mix(&mut sound, &white_noise(seed, sigma, (SPAN_S * RATE_HZ) as usize));
    synth::to_samples(&sound)
}

#[test]
pub(crate) fn close_pairs_are_told_apart_near_their_joint_bound() {
    let cases = [0.0, 20.0].map(|below_db| [1.2, 1.5, 2.0, 3.0].map(|apart| (apart, below_db)));
    for (apart, below_db) in cases.into_iter().flatten() {
        let count = trials(120, 500);
        let found = in_parallel(count, |case| {
            let seed = 31_000_000 + 10_000 * (10.0 * apart) as u64 + 1000 * below_db as u64 + case;
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let first_hz = random.random_range(200.0..4000.0);
            let weaker = 0.3 * 10f64.powf(-below_db / 20.0);
            let weaker_first = random.random_bool(0.5);
            let [one, other] = if weaker_first { [weaker, 0.3] } else { [0.3, weaker] };
            let tones = [
                tone(first_hz, one, &mut random),
                tone(first_hz + apart / SPAN_S, other, &mut random),
            ];
            let sigma = 0.3 / 2f64.sqrt() * 10f64.powf(-SNR_DB / 20.0);
            let sound = rendered(&tones, Vibrato::default(), sigma, seed + 5_000_000);
            let spectrum = measure(&sound, RATE_HZ, &SpectrumSettings::default()).expect("valid");
            let is_told = spectrum.findings.iter().any(|finding| finding.code == "drift");
            let found = pair_of(&spectrum.peaks)?;
            assert!(!is_told, "a beat is no change of the sound");
            let bound = joint_bound_hz(tones, sigma, sound.len());
            let of = [0, 1].map(|n| {
                let error_hz = found[n].frequency_hz - tones[n].frequency_hz;
                let level = found[n].level_db - 20.0 * tones[n].amplitude.log10();
                (error_hz, found[n].frequency_hz_u, error_hz / bound[n], level, found[n].level_db_u)
            });
            let beat = found[0].beat_hz? - apart / SPAN_S;
            Some((of, (beat, found[0].beat_hz_u?)))
        });
        let found: Vec<_> = found.into_iter().flatten().collect();
        let share = found.len() as f64 / count as f64;
        let name = format!("a pair {apart:.1}/T apart, {below_db} dB unequal");
        println!("{name}: {:.1} % found", 100.0 * share);
        assert!(share >= 0.99, "{name}: {share}");
        let each = || found.iter().flat_map(|(of, _)| of);
        Accuracy::all_bare(format!("{name}, over its bound"), "1", each().map(|of| of.2)).hold(1.5);
        let [frequency_hz, beat_hz, level_db] =
            if below_db == 0.0 { [1.8e-5, 2.7e-5, 5e-4] } else { [1.5e-4, 2.2e-4, 3.2e-3] };
        Accuracy::all(name.clone(), "Hz", each().map(|of| (of.0, of.1))).hold(frequency_hz);
        let beats = found.iter().map(|(_, beat)| *beat);
        Accuracy::all(format!("{name}, beat"), "Hz", beats).hold(beat_hz);
        let levels = each().map(|of| (of.3, of.4));
        Accuracy::all(format!("{name}, level"), "dB", levels).hold(level_db);
    }
}

#[test]
pub(crate) fn a_tone_is_found_60_db_below_its_neighbour() {
    for away_hz in [1.5, 2.5, 4.0, 6.0, 10.0, 14.0] {
        let count = trials(60, 300);
        let errors = in_parallel(count, |case| {
            let seed = 32_000_000 + 10_000 * away_hz as u64 + case;
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let strong_hz = random.random_range(200.0..4000.0);
            let sign = if random.random_bool(0.5) { 1.0 } else { -1.0 };
            let weak_hz = strong_hz + sign * away_hz;
            let tones = [tone(strong_hz, 0.3, &mut random), tone(weak_hz, 3e-4, &mut random)];
            let sound = rendered(&tones, Vibrato::default(), 1e-4, seed + 5_000_000);
            let spectrum = measure(&sound, RATE_HZ, &SpectrumSettings::default()).expect("valid");
            let near = |peak: &&Peak| (peak.frequency_hz - weak_hz).abs() < 0.3;
            let found = spectrum.peaks.iter().find(near)?;
            Some((found.frequency_hz - weak_hz, found.frequency_hz_u))
        });
        let share = errors.iter().flatten().count() as f64 / count as f64;
        println!("a tone 60 dB below another, {away_hz} Hz beside: {:.1} % found", 100.0 * share);
        assert!(share > 0.99, "{away_hz} Hz: {share}");
    }
}

#[test]
pub(crate) fn single_tones_are_not_taken_for_pairs() {
    let count = trials(300, 1500);
    let kinds = ["steady", "decaying", "vibrato", "tremolo", "gliding", "two-stage"];
    let found = in_parallel(count * kinds.len() as u64, |case| {
        let kind = (case % kinds.len() as u64) as usize;
        let seed = 33_000_000 + case;
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let hz = 100.0 * 40f64.powf(random.random::<f64>());
        let mut one = tone(hz, 0.3, &mut random);
        let mut vibrato = Vibrato::default();
        let mut tones = Vec::new();
        match kind {
            1 => one.t60_s = 0.3 * 200f64.powf(random.random::<f64>()),
            2 => {
                vibrato.rate_hz = random.random_range(0.3..8.0);
                vibrato.depth_cents = 0.2 * 200f64.powf(random.random::<f64>());
            }
            5 => {
                // Prompt sound and aftersound of one frequency.
                one.t60_s = random.random_range(0.5..3.0);
                let share = 10f64.powf(-random.random_range(0.3..1.5));
                tones.push(Partial { amplitude: share * 0.3, t60_s: 4.0 * one.t60_s, ..one });
            }
            _ => {}
        }
        tones.push(one);
        let sigma = 0.2 * 10f64.powf(-random.random_range(20.0..80.0) / 20.0);
        let mut sound = synth::render(&tones, vibrato, RATE_HZ, SPAN_S);
        let (rate, depth) = (random.random_range(0.3..8.0), random.random_range(0.001..0.5f64));
        let turn = random.random_range(-PI..PI);
        for (n, x) in sound.iter_mut().enumerate() {
            let t = n as f64 / RATE_HZ;
            match kind {
                3 => *x *= 1.0 + depth * (TAU * rate * t + turn).sin(),
                4 => {
                    let glide_hz = depth * rate;
                    *x = 0.3 * (TAU * (hz * t + 0.5 * glide_hz * t * t / SPAN_S)).cos();
                }
                _ => {}
            }
        }
        let noise = white_noise(seed + 5_000_000, sigma, sound.len());
        synth::mix(&mut sound, &noise);
        let found = measure(&synth::to_samples(&sound), RATE_HZ, &SpectrumSettings::default());
        let found = found.expect("valid");
        (kind, found.peaks.iter().any(|peak| peak.beat_hz.is_some()))
    });
    for (kind, name) in kinds.iter().enumerate() {
        let of = found.iter().filter(|(of, is_pair)| *of == kind && *is_pair).count();
        println!("{name} tones taken for pairs: {of} of {count}");
        assert!(of as f64 <= 0.01 * count as f64, "{name}: {of}");
    }
}
