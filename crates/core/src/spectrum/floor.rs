//! The local noise floor of an averaged power spectrum.

use statrs::distribution::{ContinuousCDF, FisherSnedecor};

/// Bins of independent noise over which the floor is taken as level.
const BINS_PER_STRETCH: f64 = 64.0;
/// Share of the information of a stretch that its median uses: 2/π for a symmetric distribution.
const MEDIAN_WORTH: f64 = std::f64::consts::FRAC_2_PI;

/// Estimates the mean noise power in each bin.
///
/// `power` is an average of `independent_frames` (effective) periodograms, in which neighbouring
/// values `bins_per_independent` apart are independent. In stretches of 64 independent bins that
/// overlap by half, the floor is the median, which tones do not move, divided by the median of
/// the distribution of averaged noise (a gamma distribution of mean 1); between the middles of
/// stretches it is interpolated in dB.
pub(crate) fn noise_floor(
    power: &[f64],
    bins_per_independent: f64,
    independent_frames: f64,
) -> Vec<f64> {
    let width = ((BINS_PER_STRETCH * bins_per_independent).ceil() as usize).min(power.len());
    let stride = (width / 2).max(1);
    let median_of_noise = gamma_median(independent_frames);
    let mut middles = Vec::new();
    let mut logs = Vec::new();
    let mut scratch = Vec::with_capacity(width);
    let mut start = 0;
    loop {
        let end = (start + width).min(power.len());
        let first = end.saturating_sub(width);
        scratch.clear();
        scratch.extend_from_slice(&power[first..end]);
        let half = scratch.len() / 2;
        let (_, median, _) = scratch.select_nth_unstable_by(half, f64::total_cmp);
        middles.push((first + end) as f64 / 2.0);
        logs.push((*median / median_of_noise).max(f64::MIN_POSITIVE).ln());
        if end == power.len() {
            break;
        }
        start += stride;
    }
    let mut next = 0;
    (0..power.len())
        .map(|k| {
            let k = k as f64;
            while next < middles.len() && middles[next] <= k {
                next += 1;
            }
            match next {
                0 => logs[0].exp(),
                next if next == middles.len() => logs[next - 1].exp(),
                next => {
                    let share = (k - middles[next - 1]) / (middles[next] - middles[next - 1]);
                    (logs[next - 1] + share * (logs[next] - logs[next - 1])).exp()
                }
            }
        })
        .collect()
}

/// Ratio to the estimated floor that one bin of averaged noise exceeds with `probability`.
///
/// A bin of noise follows a gamma distribution of shape n, the number of independent frames; the
/// floor is known as well as from [`MEDIAN_WORTH`] × 64 such bins. Their ratio follows an F
/// distribution with 2n and 2n·64·worth degrees of freedom.
pub(crate) fn noise_threshold(independent_frames: f64, probability: f64) -> f64 {
    let freedom = 2.0 * independent_frames;
    let Ok(ratio) = FisherSnedecor::new(freedom, freedom * BINS_PER_STRETCH * MEDIAN_WORTH) else {
        return f64::INFINITY;
    };
    let (mut low, mut high) = (1.0, 2.0);
    while ratio.sf(high) > probability && high < 1e6 {
        high *= 2.0;
    }
    for _ in 0..50 {
        let middle = 0.5 * (low + high);
        if ratio.sf(middle) > probability {
            low = middle;
        } else {
            high = middle;
        }
    }
    high
}

/// Variance of the power P of one bin in one frame, over P²: 1 for noise; beside a steady tone of
/// power P − F, F being the floor, 1 − (1 − F/P)². Below thirty times the floor a bin is taken to
/// hold noise.
pub(crate) fn varying_share(power: f64, floor: f64) -> f64 {
    // See above.
    const TONE_RATIO: f64 = 30.0;
    if power > TONE_RATIO * floor { 1.0 - (1.0 - floor / power).powi(2) } else { 1.0 }
}

/// Median of a gamma distribution of mean 1 and shape k (Wilson and Hilferty, PNAS 17, 1931).
fn gamma_median(shape: f64) -> f64 {
    (1.0 - 1.0 / (9.0 * shape)).powi(3)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thresholds_agree_with_closed_forms() {
        // One periodogram over a floor from m others: P(x > t) = (1 + t/m)^−m.
        let others = BINS_PER_STRETCH * MEDIAN_WORTH;
        let closed = others * (1e-7f64.powf(-1.0 / others) - 1.0);
        assert!((noise_threshold(1.0, 1e-7) / closed - 1.0).abs() < 1e-6);
        assert!(noise_threshold(100.0, 1e-7) < 1.8);
        assert!((gamma_median(1.0) - 2f64.ln()).abs() < 0.01);
    }

    #[test]
    fn a_level_floor_with_tones_is_found_level() {
        let mut power = vec![1.0; 1000];
        (0..1000).step_by(40).for_each(|k| power[k] = 1e6);
        let floor = noise_floor(&power, 1.0, 1e9);
        assert!(floor.iter().all(|floor| (floor - 1.0).abs() < 1e-6));
        assert_eq!(noise_floor(&[2.0], 1.0, 1e9).len(), 1);
    }
}
