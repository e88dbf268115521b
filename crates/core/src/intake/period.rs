//! The period of a waveform between two instants.

use serde::Serialize;

use crate::measured::Measured;

/// A rising zero crossing is distinguished from noise if the waveform goes on to this share of its
/// RMS.
const CROSSING_SHARE: f64 = 0.2;
/// Least correlation of a waveform with itself one period later.
const ALIKE: f64 = 0.7;
/// Share of the best correlation that a shorter period may lack.
const NEARLY: f64 = 0.85;
/// Share of a period that must follow it, to be compared with its beginning.
const LEAST_OVERLAP: f64 = 0.4;
/// Crossings between which a period is looked for, and the difference in samples of two periods
/// that are tried.
const MOST_CROSSINGS: usize = 24;
const SAME_LAG: f64 = 0.5;
/// Samples at which a lag is first tried, and at which it is then judged: the correlation of noise
/// with itself scatters by 1/√128 = 0.09 in the first, by 0.016 in the second.
const FIRST_LOOK: usize = 128;
const SECOND_LOOK: usize = 4096;
/// Lags whose correlation at the first look is below this, four times its scatter under [`ALIKE`],
/// are not judged.
const UNLIKELY: f64 = 0.35;
/// Crossings at either end of the span between which the longest stretch of whole periods is
/// sought: few waveforms have so many in a period, and those lose a period or two of the stretch.
const END_CROSSINGS: usize = 48;
/// Part of a period by which two crossings may miss a whole number of periods; it grows with the
/// square root of the number.
const OFF_PERIOD: f64 = 0.04;
/// Samples on each side from which a crossing is interpolated.
const REACH: usize = 8;

/// The time between two rising zero crossings, and what it says of the period.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Period {
    /// The first rising zero crossing, in seconds from the start of the take.
    pub from_s: f64,
    /// The last one that is a whole number of periods later.
    pub to_s: f64,
    /// Number of periods between them.
    pub periods: u32,
    /// Duration of one period in seconds.
    pub period_s: f64,
    /// Its standard uncertainty.
    pub period_s_u: f64,
    /// Its frequency in Hz.
    pub frequency_hz: f64,
    /// Its standard uncertainty.
    pub frequency_hz_u: f64,
}

/// Measures the period of `samples`, whose first is at `start_s`.
///
/// The mean is taken away, and the crossings are those where the waveform rises through zero from
/// below −0.2 to above 0.2 of its RMS; each is placed between its samples by band-limited
/// interpolation. Which crossings are a period apart is decided by the correlation of the waveform
/// with itself, Σx(t)x(t+T) / √(Σx(t)²·Σx(t+T)²): the shortest T within 15 % of the best. The sums
/// run over 4096 instants spread over the span, all samples if there are fewer: noise, which has as
/// many crossings as samples, costs no more than a tone. With N periods T between two crossings at
/// t₁ and t₂, T = (t₂ − t₁)/N and f = 1/T.
///
/// The uncertainty is that of the two crossings: the waveform differs by σ√2 (RMS) from itself a
/// period later, and σ over the slope at a crossing is the uncertainty of its time. What changes
/// steadily, in level or shape, counts as noise.
///
/// `None` if there are no two crossings a period apart, or less than 1.4 periods in all.
#[must_use]
pub fn period(samples: &[f32], sample_rate_hz: f64, start_s: f64) -> Option<Period> {
    let mean = samples.iter().map(|x| f64::from(*x)).sum::<f64>() / samples.len().max(1) as f64;
    let wave: Vec<f64> = samples.iter().map(|x| f64::from(*x) - mean).collect();
    let crossings = rising_crossings(&wave);
    let lag = repeat_lag(&wave, &crossings)?;
    let (_, difference) = closely(&wave, lag)?;
    let (first, last) = farthest(&wave, &crossings, lag)?;
    let periods = ((last - first) / lag).round();
    let noise = difference / std::f64::consts::SQRT_2;
    let time_u = |crossing: f64| noise / slope_at(&wave, crossing).max(f64::MIN_POSITIVE);
    let span_u = time_u(first).hypot(time_u(last)) / sample_rate_hz;
    let period_s = (last - first) / periods / sample_rate_hz;
    let period = Measured::new(period_s, span_u / periods);
    Some(Period {
        from_s: start_s + first / sample_rate_hz,
        to_s: start_s + last / sample_rate_hz,
        periods: periods as u32,
        period_s,
        period_s_u: period.u,
        frequency_hz: 1.0 / period_s,
        frequency_hz_u: period.u / (period_s * period_s),
    })
}

/// The shortest lag after which the waveform is as good as the same, in samples.
fn repeat_lag(wave: &[f64], crossings: &[usize]) -> Option<f64> {
    let first = &crossings[..crossings.len().min(MOST_CROSSINGS)];
    let on_line = |n: &usize| *n as f64 + wave[*n] / (wave[*n] - wave[*n + 1]);
    let rough: Vec<f64> = first.iter().map(on_line).collect();
    // The time from any crossing to any later one may be a period: a waveform may cross zero more
    // than once in each, and noise adds crossings.
    let pairs = (0..first.len()).flat_map(|i| (i + 1..first.len()).map(move |j| (i, j)));
    let mut lags: Vec<(f64, usize, usize)> =
        pairs.map(|(i, j)| (rough[j] - rough[i], i, j)).collect();
    lags.sort_by(|a, b| a.0.total_cmp(&b.0));
    lags.dedup_by(|a, b| a.0 - b.0 < SAME_LAG);
    // Straight lines between samples are enough to see that noise does not repeat.
    lags.retain(|(lag, ..)| {
        let alike =
            likeness(wave, *lag, FIRST_LOOK, |n, share| wave[n] + share * (wave[n + 1] - wave[n]));
        alike.is_some_and(|(alike, _)| alike >= UNLIKELY)
    });
    if lags.is_empty() {
        return None;
    }
    let exact: Vec<f64> = first.iter().map(|n| zero_between(wave, *n)).collect();
    let judged = |(_, i, j): (f64, usize, usize)| {
        let lag = exact[j] - exact[i];
        Some((lag, closely(wave, lag)?.0))
    };
    let candidates: Vec<(f64, f64)> = lags.into_iter().filter_map(judged).collect();
    let best = candidates.iter().map(|candidate| candidate.1).fold(0.0, f64::max);
    let (lag, _) = candidates.iter().find(|(_, alike)| *alike >= ALIKE.max(NEARLY * best))?;
    Some(*lag)
}

/// The crossings farthest from each other that lie a whole number of periods apart.
fn farthest(wave: &[f64], crossings: &[usize], lag: f64) -> Option<(f64, f64)> {
    let early = &crossings[..crossings.len().min(END_CROSSINGS)];
    let late = &crossings[crossings.len().saturating_sub(END_CROSSINGS)..];
    let places = |ends: &[usize]| ends.iter().map(|n| zero_between(wave, *n)).collect::<Vec<f64>>();
    let (early, late) = (places(early), places(late));
    let pairs = early.iter().flat_map(|from| late.iter().map(move |to| (*from, *to)));
    pairs
        .filter(|(from, to)| {
            let ratio = (to - from) / lag;
            let periods = ratio.round();
            periods > 0.0 && (ratio - periods).abs() < OFF_PERIOD * periods.sqrt()
        })
        .max_by(|a, b| (a.1 - a.0).total_cmp(&(b.1 - b.0)))
}

/// The samples after which the waveform rises through zero.
pub(crate) fn rising_crossings(wave: &[f64]) -> Vec<usize> {
    let rms = (wave.iter().map(|x| x * x).sum::<f64>() / wave.len().max(1) as f64).sqrt();
    let limit = CROSSING_SHARE * rms;
    let mut crossings = Vec::new();
    let mut was_below = false;
    let mut crossing = None;
    for (n, pair) in wave.windows(2).enumerate() {
        was_below |= pair[0] < -limit;
        if was_below && pair[0] < 0.0 && pair[1] >= 0.0 {
            crossing = Some(n);
        }
        if pair[1] > limit && was_below {
            crossings.extend(crossing.take());
            was_below = false;
        }
    }
    crossings
}

/// The zero of the interpolated waveform between samples `n` and `n + 1`, where its sign changes,
/// in samples: the secant method, kept between the ends by bisection.
pub(crate) fn zero_between(wave: &[f64], n: usize) -> f64 {
    // Each step gains half as many digits again; the end is far below the noise of any converter.
    const STEPS: usize = 12;
    const NEAR_ENOUGH: f64 = 1e-9;
    let (mut low, mut high) = ((0.0, wave[n]), (1.0, wave[n + 1]));
    let mut last_low = false;
    for _ in 0..STEPS {
        let share = low.0 - low.1 * (high.0 - low.0) / (high.1 - low.1);
        let share =
            if share > low.0 && share < high.0 { share } else { f64::midpoint(low.0, high.0) };
        let value = value_at(wave, n, share);
        let is_low = value < 0.0;
        // An end that stays twice is halved, so that both ends come nearer (the Illinois method).
        if is_low == last_low {
            if is_low { high.1 *= 0.5 } else { low.1 *= 0.5 }
        }
        last_low = is_low;
        let moved = if is_low { share - low.0 } else { high.0 - share };
        if is_low {
            low = (share, value);
        } else {
            high = (share, value);
        }
        if moved < NEAR_ENOUGH || value == 0.0 {
            return n as f64 + share;
        }
    }
    n as f64 + f64::midpoint(low.0, high.0)
}

/// The band-limited waveform at a share of the way from sample `n` to the next.
fn value_at(wave: &[f64], n: usize, share: f64) -> f64 {
    interpolated(wave, n, share, &super::true_peak::interpolation_taps(share))
}

/// The same with taps that are known already.
pub(crate) fn interpolated(wave: &[f64], n: usize, share: f64, taps: &[f64; 2 * REACH]) -> f64 {
    // At the ends there are fewer samples: a straight line does.
    if n + 1 < REACH || n + REACH >= wave.len() {
        return wave[n] + share * (wave[n + 1] - wave[n]);
    }
    wave[n + 1 - REACH..=n + REACH].iter().zip(taps).map(|(x, tap)| x * tap).sum()
}

/// Slope at a place, per sample.
fn slope_at(wave: &[f64], place: f64) -> f64 {
    let n = (place as usize).min(wave.len() - 2);
    (wave[n + 1] - wave[n]).abs()
}

/// [`likeness`] by band-limited interpolation.
fn closely(wave: &[f64], lag: f64) -> Option<(f64, f64)> {
    let taps = super::true_peak::interpolation_taps(lag.fract());
    likeness(wave, lag, SECOND_LOOK, |n, share| interpolated(wave, n, share, &taps))
}

/// Correlation of the waveform with itself `lag` samples later, and the RMS of the difference, from
/// so many of its samples at most; `between` reads it at a share of the way to the next sample.
fn likeness(
    wave: &[f64],
    lag: f64,
    most: usize,
    between: impl Fn(usize, f64) -> f64,
) -> Option<(f64, f64)> {
    // Steps of the golden ratio, as a fraction of 2^64, spread evenly and share no rhythm with the
    // waveform.
    const GOLDEN: u64 = 0x9E37_79B9_7F4A_7C15;
    let (whole, share) = (lag as usize, lag.fract());
    let count = wave.len().checked_sub(whole + 1)?;
    if (count as f64) < LEAST_OVERLAP * lag {
        return None;
    }
    let place = |k: usize| match count {
        few if few <= most => k,
        many => ((u128::from((k as u64).wrapping_mul(GOLDEN)) * many as u128) >> 64) as usize,
    };
    let (mut product, mut own, mut later, mut difference) = (0.0, 0.0, 0.0, 0.0);
    for n in (0..count.min(most)).map(place) {
        let (x, y) = (wave[n], between(n + whole, share));
        product += x * y;
        own += x * x;
        later += y * y;
        difference += (x - y) * (x - y);
    }
    let scale = (own * later).sqrt();
    (scale > 0.0).then(|| (product / scale, (difference / count.min(most) as f64).sqrt()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{Vibrato, harmonics, mix, render, to_samples, white_noise};
    use rand_chacha::ChaCha8Rng;
    use rand_chacha::rand_core::SeedableRng;
    use rand_distr::{Distribution, Uniform};

    const RATE: f64 = 48_000.0;

    #[test]
    fn the_period_is_right_and_its_uncertainty_covers() {
        let (mut covered, mut all, mut worst_cents) = (0, 0, 0.0f64);
        for seed in 0..400 {
            let mut generator = ChaCha8Rng::seed_from_u64(seed);
            let mut pick = |low: f64, high: f64| {
                Uniform::new(low, high).expect("a range").sample(&mut generator)
            };
            let f0_hz = pick(60f64.log2(), 2000f64.log2()).exp2();
            let amplitudes: Vec<f64> = (1..8).map(|n| pick(0.0, 0.3) / f64::from(n)).collect();
            let seconds = pick(2.5, 12.0) / f0_hz;
            let mut partials = harmonics(f0_hz, &amplitudes);
            for partial in &mut partials {
                partial.phase_rad = pick(0.0, 6.0);
            }
            partials[0].amplitude = 0.3;
            let mut sound = render(&partials, Vibrato::default(), RATE, seconds);
            let noise = 10f64.powf(pick(-80.0, -45.0) / 20.0);
            let count = sound.len();
            mix(&mut sound, &white_noise(seed, noise, count));
            let Some(found) = period(&to_samples(&sound), RATE, 1.0) else { continue };
            let cents = crate::units::cents_between(f0_hz, found.frequency_hz);
            all += 1;
            worst_cents = worst_cents.max(cents.abs());
            covered +=
                usize::from((found.frequency_hz - f0_hz).abs() <= 2.0 * found.frequency_hz_u);
            assert!(found.from_s >= 1.0 && found.to_s <= 1.0 + seconds);
        }
        println!(
            "period: {all} of 400 measured, {covered} within 2u, worst {worst_cents:.1} cents"
        );
        assert!(all > 390 && worst_cents < 50.0);
        assert!(covered * 100 >= 90 * all && covered * 100 <= 99 * all);
    }

    #[test]
    fn without_two_crossings_there_is_no_period() {
        assert_eq!(period(&[], RATE, 0.0), None);
        assert_eq!(period(&[0.0; 100], RATE, 0.0), None);
        assert_eq!(period(&[0.1, -0.1, 0.1], RATE, 0.0), None);
        let noise = to_samples(&white_noise(1, 0.1, 2000));
        assert_eq!(period(&noise, RATE, 0.0), None);
    }
}
