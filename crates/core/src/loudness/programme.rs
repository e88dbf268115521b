//! Programme loudness (ITU-R BS.1770-5, EBU R 128, EBU Tech 3341 and 3342).
//!
//! Each channel goes through the K weighting, a high shelf of 4 dB and a high pass; with the mean
//! squares z of blocks and the channel weights G the loudness of a block is
//!
//! −0.691 + 10·lg Σ G·z LUFS.
//!
//! - Momentary loudness is that of 0.4 s, short-term loudness that of 3 s, each every 0.1 s.
//! - The integrated loudness is that of all blocks of 0.4 s above −70 LUFS which lie less than 10 LU
//!   below the mean of those.
//! - The loudness range is the distance from the 10 % to the 95 % quantile of the short-term loudness
//!   above −70 LUFS which lies less than 20 LU below its mean.
//!
//! The filters are given at 48 kHz; at other rates they come from the same analogue ones by the
//! bilinear transform.

use serde::Serialize;

use crate::intake::TruePeak;
use crate::units::{db_from_amplitude, db_from_power, power_from_db};

/// The sections of the weighting at 48 kHz: b_0 to b_2, and a_1, a_2 (BS.1770-5, tables 1 and 2).
const SECTIONS: [([f64; 3], [f64; 2]); 2] = [
    (
        [1.535_124_859_586_97, -2.691_696_189_406_38, 1.198_392_810_852_85],
        [-1.690_659_293_182_41, 0.732_480_774_215_85],
    ),
    ([1.0, -2.0, 1.0], [-1.990_047_454_833_98, 0.990_072_250_366_21]),
];
const OFFSET_DB: f64 = -0.691;
/// Loudness of blocks that never count.
const SILENT_LUFS: f64 = -70.0;
/// Steps of 0.1 s in a block, and in what short-term loudness is of.
const BLOCK_STEPS: usize = 4;
const SHORT_TERM_STEPS: usize = 30;

/// Programme loudness.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Programme {
    /// Integrated loudness in LUFS.
    pub programme_lufs: Option<f64>,
    /// Largest momentary loudness.
    pub max_momentary_lufs: Option<f64>,
    /// Largest short-term loudness.
    pub max_short_term_lufs: Option<f64>,
    /// Loudness range in LU.
    pub loudness_range_lu: Option<f64>,
    /// Largest true peak of all channels in dB re full scale.
    pub true_peak_dbfs: Option<f64>,
}

/// What the power of each of so many channels counts, in the order of WAV files: 1.41 for those
/// at the sides of five or six, nothing for the low-frequency one of six.
#[must_use]
pub fn channel_weights(channels: usize) -> Vec<f64> {
    const SURROUND: f64 = 1.41;
    match channels {
        5 => vec![1.0, 1.0, 1.0, SURROUND, SURROUND],
        6 => vec![1.0, 1.0, 1.0, 0.0, SURROUND, SURROUND],
        _ => vec![1.0; channels],
    }
}

/// Measures programme loudness, block by block.
#[derive(Debug, Clone)]
pub struct ProgrammeMeter {
    rate_hz: f64,
    channels: Vec<Channel>,
    /// Samples of the present step that are still to come, and steps that are full.
    left: usize,
    steps: u64,
    /// Weighted mean squares of all steps.
    powers: Vec<f32>,
}

#[derive(Debug, Clone)]
struct Channel {
    weight: f64,
    weighting: KWeighting,
    sum: f64,
    peak: TruePeak,
}

impl ProgrammeMeter {
    /// A meter for so many channels.
    #[must_use]
    pub fn new(rate_hz: f64, channels: usize) -> Self {
        let of = |weight: f64| Channel {
            weight,
            weighting: KWeighting::new(rate_hz),
            sum: 0.0,
            peak: TruePeak::new(rate_hz),
        };
        let channels = channel_weights(channels).into_iter().map(of).collect();
        let mut made = Self { rate_hz, channels, left: 0, steps: 0, powers: Vec::new() };
        made.left = made.step_samples();
        made
    }

    /// Samples of the present step: a tenth of a second, on the average.
    fn step_samples(&self) -> usize {
        let end = |n: u64| (0.1 * self.rate_hz * n as f64).round() as usize;
        end(self.steps + 1) - end(self.steps)
    }

    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[&[f32]]) {
        let count = channels.first().map_or(0, |samples| samples.len());
        for (channel, samples) in self.channels.iter_mut().zip(channels) {
            channel.peak.push(samples);
        }
        let mut from = 0;
        while from < count {
            let to = count.min(from + self.left);
            for (channel, samples) in self.channels.iter_mut().zip(channels) {
                channel.sum += channel.weighting.energy(&samples[from..to]);
            }
            self.left -= to - from;
            from = to;
            if self.left == 0 {
                let samples = self.step_samples() as f64;
                let sum: f64 = self.channels.iter_mut().map(Channel::end_step).sum();
                self.powers.push((sum / samples) as f32);
                self.steps += 1;
                self.left = self.step_samples();
            }
        }
    }

    /// Ends the stream.
    #[must_use]
    pub fn finish(self) -> Programme {
        let blocks = |steps: usize| -> Vec<f64> {
            let mean = |of: &[f32]| of.iter().copied().map(f64::from).sum::<f64>() / steps as f64;
            self.powers.windows(steps).map(mean).collect()
        };
        let (momentary, short_term) = (blocks(BLOCK_STEPS), blocks(SHORT_TERM_STEPS));
        let most = |powers: &[f64]| {
            let most = powers.iter().copied().fold(0.0, f64::max);
            (most > 0.0).then(|| lufs(most))
        };
        let peaks = self.channels.into_iter().map(|channel| channel.peak.finish());
        let peak = f64::from(peaks.fold(0.0, f32::max));
        let gated = gated(&momentary, 10.0);
        Programme {
            programme_lufs: (!gated.is_empty()).then(|| lufs(mean(&gated))),
            max_momentary_lufs: most(&momentary),
            max_short_term_lufs: most(&short_term),
            loudness_range_lu: range_lu(gated_of_range(&short_term)),
            true_peak_dbfs: (peak > 0.0).then(|| db_from_amplitude(peak)),
        }
    }
}

impl Channel {
    fn end_step(&mut self) -> f64 {
        self.weight * std::mem::take(&mut self.sum)
    }
}

fn lufs(power: f64) -> f64 {
    OFFSET_DB + db_from_power(power)
}

fn mean(powers: &[f64]) -> f64 {
    powers.iter().sum::<f64>() / powers.len() as f64
}

/// Powers of blocks that are not silent and lie less than so many LU below the mean of those.
fn gated(powers: &[f64], below_lu: f64) -> Vec<f64> {
    let silent = power_from_db(SILENT_LUFS - OFFSET_DB);
    let heard: Vec<f64> = powers.iter().copied().filter(|power| *power > silent).collect();
    if heard.is_empty() {
        return heard;
    }
    let least = mean(&heard) * power_from_db(-below_lu);
    heard.into_iter().filter(|power| *power > least).collect()
}

fn gated_of_range(short_term: &[f64]) -> Vec<f64> {
    gated(short_term, 20.0)
}

/// From the 10 % to the 95 % quantile.
fn range_lu(mut powers: Vec<f64>) -> Option<f64> {
    powers.sort_by(f64::total_cmp);
    let last = powers.len().checked_sub(1)?;
    let at = |share: f64| powers[(share * last as f64).round() as usize];
    Some(db_from_power(at(0.95) / at(0.1)))
}

/// The K weighting of one channel.
#[derive(Debug, Clone)]
struct KWeighting {
    sections: [([f64; 3], [f64; 2]); 2],
    state: [[f64; 2]; 2],
}

impl KWeighting {
    fn new(rate_hz: f64) -> Self {
        let sections = SECTIONS.map(|(b, [a1, a2])| {
            // (1 − z⁻¹)/(1 + z⁻¹) at 48 kHz is that at another rate times its share of 48 kHz.
            let share = rate_hz / 48_000.0;
            let moved = |[c0, c1, c2]: [f64; 3]| {
                let [d0, d1, d2] =
                    [c0 + c1 + c2, 2.0 * (c0 - c2) * share, (c0 - c1 + c2) * share * share];
                [d0 + d1 + d2, 2.0 * (d0 - d2), d0 - d1 + d2]
            };
            let (b, [a0, a1, a2]) = (moved(b), moved([1.0, a1, a2]));
            (b.map(|b| b / a0), [a1 / a0, a2 / a0])
        });
        Self { sections, state: [[0.0; 2]; 2] }
    }

    /// The sum of squares of what comes of samples.
    fn energy(&mut self, samples: &[f32]) -> f64 {
        const NOTHING: f64 = 1e-60;
        let Self { sections, state } = self;
        let mut sum = 0.0;
        for x in samples {
            let mut value = f64::from(*x);
            for (([b0, b1, b2], [a1, a2]), [s1, s2]) in sections.iter().zip(&mut *state) {
                let out = b0 * value + *s1;
                *s1 = b1 * value - a1 * out + *s2;
                *s2 = b2 * value - a2 * out;
                value = out;
            }
            sum += value * value;
        }
        for value in state.as_flattened_mut() {
            *value = if value.abs() < NOTHING { 0.0 } else { *value };
        }
        sum
    }
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use super::*;

    /// A name, steps of so many dB for so many seconds, and what they give.
    type Case = (&'static str, Vec<(f64, f64)>, f64);

    /// Tones of so many dB re full scale for so long, in each channel.
    fn programme(rate_hz: f64, levels_db: &[(Vec<f64>, f64)]) -> Programme {
        let channels = levels_db[0].0.len();
        let mut sounds: Vec<Vec<f32>> = vec![Vec::new(); channels];
        let mut n = 0;
        for (levels_db, lasts_s) in levels_db {
            for _ in 0..(lasts_s * rate_hz) as usize {
                let wave = (TAU * 1000.0 * f64::from(n) / rate_hz).sin();
                for (sound, db) in sounds.iter_mut().zip(levels_db) {
                    sound.push((10f64.powf(db / 20.0) * wave) as f32);
                }
                n += 1;
            }
        }
        let mut meter = ProgrammeMeter::new(rate_hz, channels);
        let count = sounds[0].len();
        for from in (0..count).step_by(30_011) {
            let parts: Vec<&[f32]> =
                sounds.iter().map(|sound| &sound[from..count.min(from + 30_011)]).collect();
            meter.push(&parts);
        }
        meter.finish()
    }

    fn stereo(steps: &[(f64, f64)]) -> Programme {
        stereo_at(48_000.0, steps)
    }

    fn stereo_at(rate_hz: f64, steps: &[(f64, f64)]) -> Programme {
        let steps: Vec<_> = steps.iter().map(|(db, s)| (vec![*db, *db], *s)).collect();
        programme(rate_hz, &steps)
    }

    fn assert_near(name: &str, found: Option<f64>, expected: f64, slack: f64) {
        let found = found.unwrap_or_else(|| panic!("{name}: nothing found"));
        println!("{name}: {found:.3}, {expected} expected");
        assert!((found - expected).abs() <= slack, "{name}: {found}, {expected} expected");
    }

    /// EBU Tech 3341, cases 1 to 6: all within 0.1 LU.
    #[test]
    fn integrated_loudness_is_gated() {
        let cases: [Case; 5] = [
            ("case 1", vec![(-23.0, 20.0)], -23.0),
            ("case 2", vec![(-33.0, 20.0)], -33.0),
            ("case 3", vec![(-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0)], -23.0),
            (
                "case 4",
                vec![(-72.0, 10.0), (-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0), (-72.0, 10.0)],
                -23.0,
            ),
            ("case 5", vec![(-26.0, 20.0), (-20.0, 20.1), (-26.0, 20.0)], -23.0),
        ];
        for (name, steps, expected) in cases {
            assert_near(name, stereo(&steps).programme_lufs, expected, 0.05);
        }
        let surround = programme(48_000.0, &[(vec![-28.0, -28.0, -24.0, -30.0, -30.0], 20.0)]);
        assert_near("case 6", surround.programme_lufs, -23.0, 0.05);
        for rate_hz in [32_000.0, 44_100.0, 96_000.0, 192_000.0] {
            let name = format!("case 1 at {rate_hz} Hz");
            assert_near(&name, stereo_at(rate_hz, &[(-23.0, 5.0)]).programme_lufs, -23.0, 0.05);
        }
        assert_eq!(stereo(&[(-23.0, 0.3)]).programme_lufs, None);
        assert_eq!(stereo(&[(-80.0, 2.0)]).programme_lufs, None);
    }

    /// EBU Tech 3341, cases 9 and 12: short-term and momentary loudness.
    #[test]
    fn short_term_and_momentary_loudness_follow() {
        let again = |steps: &[(f64, f64)], times| steps.repeat(times);
        let nine = stereo(&again(&[(-20.0, 1.34), (-30.0, 1.66)], 5));
        assert_near("case 9", nine.max_short_term_lufs, -23.0, 0.1);
        let twelve = stereo(&again(&[(-20.0, 0.18), (-30.0, 0.22)], 25));
        assert_near("case 12", twelve.max_momentary_lufs, -23.0, 0.1);
    }

    /// EBU Tech 3342, cases 1 to 4: within 1 LU.
    #[test]
    fn the_loudness_range_is_that_of_the_steps() {
        let cases: [Case; 4] = [
            ("range 1", vec![(-20.0, 20.0), (-30.0, 20.0)], 10.0),
            ("range 2", vec![(-20.0, 20.0), (-15.0, 20.0)], 5.0),
            ("range 3", vec![(-40.0, 20.0), (-20.0, 20.0)], 20.0),
            (
                "range 4",
                vec![(-50.0, 20.0), (-35.0, 20.0), (-20.0, 20.0), (-35.0, 20.0), (-50.0, 20.0)],
                15.0,
            ),
        ];
        for (name, steps, expected) in cases {
            assert_near(name, stereo(&steps).loudness_range_lu, expected, 0.1);
        }
    }

    /// A full-scale sine of 997 Hz in one channel reads −3.01 LUFS (BS.1770-5), and its peak 0 dB.
    #[test]
    fn a_full_scale_sine_is_at_minus_three() {
        let found = programme(48_000.0, &[(vec![0.0], 3.0)]);
        assert_near("full scale", found.programme_lufs, -3.01, 0.02);
        assert_near("its peak", found.true_peak_dbfs, 0.0, 0.05);
    }
}
