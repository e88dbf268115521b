//! The peak of the waveform between the samples.

use wide::f32x4;

use super::grain::{BEFORE, Grain, Grains, Totals};
use crate::window::{Kaiser, ideal_low_pass};

/// Points of the waveform for each sample.
const OVERSAMPLING: usize = 4;
/// Samples on each side that a point between samples is computed from.
const REACH: usize = BEFORE.div_ceil(2);
/// Shape of the Kaiser window that ends the interpolating sinc: errors near −60 dB up to 0.45 of
/// the sample rate.
const BETA: f64 = 6.0;
/// Steps into which an interval is divided around a new largest point.
const FINE_STEPS: usize = 32;

/// Finds the largest magnitude of the band-limited waveform that the samples stand for.
///
/// As in annex 2 of ITU-R BS.1770-5, the waveform is computed at four points a sample by a windowed
/// sinc; around the largest of them at 32, so that the reading of a steady tone below 0.45 of the
/// sample rate is right to 0.05 dB rather than 0.5 dB.
///
/// With the taps h_k of a point at the share d between two samples, Σh_k = 1 and Σk·h_k = d, the
/// point differs from the straight line between the two by Σ g_k·δ²x_k, where δ²x are second
/// differences. So max |x| + Σ|g_k|·max |δ²x| bounds the waveform, and most of a recording need not
/// be interpolated at all.
#[derive(Debug, Clone)]
pub(super) struct TruePeakMeter {
    taps: [[f32x4; REACH / 2]; OVERSAMPLING - 1],
    /// Largest Σ|g_k| of the points.
    bend: f32,
    /// Totals of the grain before.
    before: Totals,
    peak: f32,
}

impl Default for TruePeakMeter {
    fn default() -> Self {
        let share = |n: usize| (n + 1) as f64 / OVERSAMPLING as f64;
        let wide: [[f64; 2 * REACH]; OVERSAMPLING - 1] =
            std::array::from_fn(|n| interpolation_taps(share(n)));
        let bend = wide.iter().enumerate().map(|(n, taps)| bend_of(taps, share(n)));
        Self {
            taps: wide.map(|taps| {
                std::array::from_fn(|n| f32x4::new(std::array::from_fn(|k| taps[4 * n + k] as f32)))
            }),
            bend: 1.0001 * bend.fold(0.0, f64::max) as f32,
            before: Totals::default(),
            peak: 0.0,
        }
    }
}

impl TruePeakMeter {
    /// Takes the next grain, and looks at the intervals whose last tap lies in it.
    pub(super) fn take(&mut self, grain: Grain<'_>) {
        let (before, totals) = (self.before, grain.totals);
        self.peak = self.peak.max(totals.peak());
        let margin = self.bend * before.bend.max(totals.bend);
        if before.peak().max(totals.peak()) + margin > self.peak {
            self.look(grain.window, margin);
        }
        self.before = totals;
    }

    fn look(&mut self, samples: &[f32], margin: f32) {
        // The samples at both ends of each interval, four intervals at a time.
        let starts = samples[REACH - 1..].chunks(4);
        let ends = samples[REACH..samples.len() - (REACH - 1)].chunks(4);
        for (n, (starts, ends)) in starts.zip(ends).enumerate() {
            let least = self.peak - margin;
            let four = |part: &[f32]| part.try_into().map_or(f32x4::splat(f32::MAX), f32x4::new);
            let larger = four(starts).abs().fast_max(four(ends).abs());
            if larger.simd_gt(f32x4::splat(least)).none() {
                continue;
            }
            for around in samples[4 * n..].windows(2 * REACH).take(4) {
                self.interpolate(around);
            }
        }
    }

    /// Looks between the two samples in the middle.
    fn interpolate(&mut self, around: &[f32]) {
        let fours = around.as_chunks::<4>().0;
        for taps in &self.taps {
            let products = fours.iter().zip(taps).map(|(x, taps)| f32x4::new(*x) * *taps);
            let value = products.fold(f32x4::ZERO, |sum, four| sum + four).reduce_add();
            if value.abs() > self.peak {
                self.peak = finest(around).max(value.abs());
            }
        }
    }

    /// The largest magnitude, re full scale.
    pub(super) fn finish(self) -> f32 {
        self.peak
    }
}

/// The true peak of one channel, from samples as they come.
#[derive(Debug, Clone)]
pub(crate) struct TruePeak {
    grains: Grains,
    meter: TruePeakMeter,
}

impl TruePeak {
    pub(crate) fn new(sample_rate_hz: f64) -> Self {
        Self { grains: Grains::new(sample_rate_hz, 1), meter: TruePeakMeter::default() }
    }

    pub(crate) fn push(&mut self, samples: &[f32]) {
        let Self { grains, meter } = self;
        grains.push(&[samples], |_, grain| meter.take(grain));
    }

    /// The largest magnitude, re full scale.
    pub(crate) fn finish(self) -> f32 {
        let Self { grains, mut meter } = self;
        grains.finish(|_, grain| meter.take(grain));
        meter.finish()
    }
}

/// Largest magnitude in the middle interval of `around`, on a fine grid.
fn finest(around: &[f32]) -> f32 {
    let points = (1..FINE_STEPS).map(|step| {
        let taps = interpolation_taps(step as f64 / FINE_STEPS as f64);
        around.iter().zip(taps).map(|(x, tap)| f64::from(*x) * tap).sum::<f64>().abs()
    });
    points.fold(0.0, f64::max) as f32
}

/// Taps for the point at `share` between samples REACH − 1 and REACH of 2·REACH, exact for straight
/// lines.
pub(crate) fn interpolation_taps(share: f64) -> [f64; 2 * REACH] {
    let kaiser = Kaiser::new(BETA);
    let place = |k: usize| k as f64 - (REACH - 1) as f64;
    let mut taps: [f64; 2 * REACH] = std::array::from_fn(|k| {
        let x = place(k) - share;
        ideal_low_pass(0.5, x) * kaiser.at(x / REACH as f64)
    });
    let sum: f64 = taps.iter().sum();
    let moment: f64 = taps.iter().enumerate().map(|(k, tap)| place(k) * tap).sum();
    // What the window spoils is put right at the two samples in the middle.
    let at_one = share - moment;
    taps[REACH] += at_one;
    taps[REACH - 1] += 1.0 - sum - at_one;
    taps
}

/// Σ|g_k|, where g is the part of the taps beyond the straight line, summed up twice.
fn bend_of(taps: &[f64; 2 * REACH], share: f64) -> f64 {
    let (mut once, mut twice, mut total) = (0.0, 0.0, 0.0f64);
    for (k, tap) in taps.iter().enumerate() {
        let line = match k {
            _ if k == REACH - 1 => 1.0 - share,
            _ if k == REACH => share,
            _ => 0.0,
        };
        once += tap - line;
        twice += once;
        total += f64::abs(twice);
    }
    total
}

#[cfg(test)]
mod tests {
    use std::f64::consts::PI;

    use super::*;
    use crate::synth::{sine, to_samples, white_noise};
    use crate::units::db_from_amplitude;

    fn true_peak(samples: &[f32], block: usize) -> f64 {
        let mut meter = TruePeak::new(48_000.0);
        samples.chunks(block).for_each(|block| meter.push(block));
        f64::from(meter.finish())
    }

    #[test]
    fn a_sine_has_its_peak_between_the_samples() {
        // A quarter of the sample rate at 45°: no sample comes nearer than 3 dB.
        let worst = sine(12_000.0, 0.5, PI / 4.0, 48_000.0, 4000);
        assert!((worst.iter().fold(0.0f32, |m, x| m.max(x.abs())) - 0.3536).abs() < 1e-4);
        for frequency_hz in [50.0, 997.0, 6000.0, 11_999.7, 12_000.0, 17_000.0, 21_600.0] {
            let mut tone = crate::synth::render(
                &crate::synth::harmonics(frequency_hz, &[0.5]),
                crate::synth::Vibrato::default(),
                48_000.0,
                1.0,
            );
            // A tone that starts at once has peaks of its own.
            crate::synth::fade(&mut tone, 0.1, 48_000.0);
            let error = db_from_amplitude(true_peak(&to_samples(&tone), 1000) / 0.5);
            assert!(error.abs() < 0.05, "{frequency_hz} Hz: {error} dB");
        }
    }

    #[test]
    fn nothing_that_was_left_out_is_larger() {
        // Without the bound, in one go, against all points of all samples.
        let noise = to_samples(&white_noise(5, 0.1, 20_000));
        let meter = TruePeakMeter::default();
        let padded = [vec![0.0; REACH - 1], noise.clone()].concat();
        let all = padded.windows(2 * REACH).flat_map(|around| {
            meter.taps.map(|taps| {
                let taps = taps.into_iter().flat_map(f32x4::to_array);
                around.iter().zip(taps).map(|(x, tap)| x * tap).sum::<f32>().abs()
            })
        });
        let largest = f64::from(all.fold(0.0, f32::max));
        let found = true_peak(&noise, 777);
        assert!(found >= 0.999_999 * largest && found < 1.02 * largest, "{found} {largest}");
        assert_eq!(found, true_peak(&noise, 20_000));
        assert_eq!(true_peak(&noise[..1], 1), f64::from(noise[0].abs()));
    }
}
