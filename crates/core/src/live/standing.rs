//! A waveform that stands still from picture to picture.

use crate::intake::{interpolated, interpolation_taps, rising_crossings, zero_between};

/// Points in which two pictures are compared.
const COMPARED: usize = 96;
/// Pictures that differ by more show another sound.
const ALIKE: f64 = 0.6;
/// Share of a new picture in what the next is compared with.
const FRESH: f64 = 0.25;

/// Finds where a picture of a waveform begins, so that it looks like the one before.
///
/// The first picture begins at a rising zero crossing, placed between samples by band-limited
/// interpolation: that from which the waveform rises highest. Of all places in the last period the
/// next begins where it is most like those before, by the normalised correlation
/// Σab/√(Σa²·Σb²); the place between samples is the top of the parabola through three. A picture
/// that is like none before begins at a crossing again.
#[derive(Debug, Clone, Default)]
pub struct Standing {
    before: Vec<f64>,
}

impl Standing {
    /// Nothing was shown before.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// The place in `samples`, with its fraction, at which a picture of `shown` samples begins: late,
    /// so that it shows what is new. Of a waveform whose period in samples is known the last periods
    /// are searched, of others as much as is shown.
    pub fn place(&mut self, samples: &[f32], shown: f64, period: Option<f64>) -> f64 {
        /// Samples behind the picture that interpolation needs.
        const BEHIND: f64 = 9.0;
        let mean = samples.iter().map(|x| f64::from(*x)).sum::<f64>() / samples.len().max(1) as f64;
        let latest = samples.len() as f64 - shown - BEHIND;
        if latest < 4.0 {
            return 0.0;
        }
        let reach = period.map_or(shown, |period| 1.2 * period).clamp(8.0, latest);
        let wave: Vec<f64> = samples.iter().map(|x| f64::from(*x) - mean).collect();
        let looks = |from: f64| -> Vec<f64> {
            let step = shown / COMPARED as f64;
            (0..COMPARED).map(|k| between(&wave, from + step * k as f64)).collect()
        };
        if !self.before.is_empty() {
            let alike = |from: f64| likeness(&self.before, &looks(from));
            let (from, alike) = most_alike(latest - reach, latest, alike);
            if alike >= ALIKE {
                for (before, now) in self.before.iter_mut().zip(looks(from)) {
                    *before += FRESH * (now - *before);
                }
                return from;
            }
        }
        let first = (latest - 2.0 * reach).max(0.0) as usize;
        let crossings = rising_crossings(&wave[first..]).into_iter().map(|n| first + n);
        let crossings = crossings.filter(|n| (*n as f64) < latest).map(|n| zero_between(&wave, n));
        let rises = |from: f64| looks(from)[..COMPARED / 4].iter().copied().fold(0.0, f64::max);
        let highest = crossings.max_by(|a, b| rises(*a).total_cmp(&rises(*b)));
        self.before = highest.map_or_else(Vec::new, looks);
        highest.unwrap_or(latest)
    }
}

/// The place between two that is most alike, and how much.
fn most_alike(first: f64, last: f64, alike: impl Fn(f64) -> f64) -> (f64, f64) {
    /// Places that are looked at first, then between their neighbours, until they are so near.
    const PLACES: usize = 160;
    const NEAR: f64 = 0.5;
    let mut step = ((last - first) / PLACES as f64).max(NEAR);
    let count = ((last - first) / step) as usize;
    let place_of = |k: usize| first + step * k as f64;
    let judged: Vec<f64> = (0..=count).map(|k| alike(place_of(k))).collect();
    // At an end the top may lie beyond, and its like a period away.
    let is_top = |k: &usize| judged[*k] >= judged[k - 1] && judged[*k] >= judged[k + 1];
    let tops = (1..count.max(1)).filter(is_top).map(|k| (place_of(k), judged[k]));
    let top = tops.max_by(|a, b| a.1.total_cmp(&b.1));
    let (mut place, mut best) = top.unwrap_or((last, judged.last().copied().unwrap_or(-1.0)));
    while step > NEAR {
        step *= 0.5;
        for beside in [place - step, place + step] {
            let there = alike(beside);
            if there > best {
                (place, best) = (beside, there);
            }
        }
    }
    let (before, after) = (alike(place - step), alike(place + step));
    let bend = before - 2.0 * best + after;
    if bend < 0.0 {
        place += (0.5 * step * (before - after) / bend).clamp(-step, step);
    }
    (place.clamp(first, last), best)
}

fn likeness(a: &[f64], b: &[f64]) -> f64 {
    let product = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
    product(a, b) / (product(a, a) * product(b, b)).sqrt().max(f64::MIN_POSITIVE)
}

/// The cubic through the four samples around a place, which is near enough to compare pictures.
fn between(wave: &[f64], place: f64) -> f64 {
    let n = (place.max(1.0) as usize).min(wave.len() - 3);
    let (t, [a, b, c, d]) = (place - n as f64, [wave[n - 1], wave[n], wave[n + 1], wave[n + 2]]);
    b + 0.5 * t * (c - a + t * (2.0 * a - 5.0 * b + 4.0 * c - d + t * (3.0 * (b - c) + d - a)))
}

/// The lowest and highest value of the waveform in each of `columns` that share `shown` samples from
/// the place `from` on: of the samples in a column and its ends, which lie on the cubic between
/// samples; where there are more columns than samples, on the band-limited waveform, to 1/64 of a
/// sample. Beyond the samples it is 0.
#[must_use]
pub fn trace(samples: &[f32], from: f64, shown: f64, columns: usize) -> Vec<(f64, f64)> {
    /// Places between two samples whose taps are computed once.
    const PHASES: usize = 32;
    let step = shown / columns.max(1) as f64;
    if samples.len() < 4 {
        return vec![(0.0, 0.0); columns];
    }
    let wave: Vec<f64> = samples.iter().map(|x| f64::from(*x)).collect();
    let taps: Vec<[f64; 16]> = if step < 1.0 {
        (0..PHASES).map(|phase| interpolation_taps(phase as f64 / PHASES as f64)).collect()
    } else {
        Vec::new()
    };
    let at = |place: f64| {
        let is_inside = place >= 0.0 && place < wave.len() as f64 - 1.0;
        match taps.as_slice() {
            _ if !is_inside => 0.0,
            [] => between(&wave, place),
            taps => {
                let near = (place * PHASES as f64).round() as usize;
                let (n, phase) = (near / PHASES, near % PHASES);
                let share = phase as f64 / PHASES as f64;
                interpolated(&wave, n.min(wave.len() - 2), share, &taps[phase])
            }
        }
    };
    let place = |x: f64| (x.max(0.0) as usize).min(samples.len());
    let mut left = (from, at(from));
    let mut column = |n: usize| {
        let right = from + step * (n + 1) as f64;
        let right = (right, at(right));
        let inside = &wave[place(left.0.ceil()).min(place(right.0))..place(right.0)];
        let ends = (left.1.min(right.1), left.1.max(right.1));
        left = right;
        inside.iter().fold(ends, |(low, high), x| (low.min(*x), high.max(*x)))
    };
    (0..columns).map(&mut column).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{Vibrato, harmonics, mix, render, to_samples, white_noise};
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    const RATE: f64 = 48_000.0;

    /// By how much of its RMS a picture differs from the one before, at worst.
    fn unrest(sound: &[f32], f0_hz: f64, periods: f64) -> f64 {
        let shown = periods * RATE / f0_hz;
        let mut standing = Standing::new();
        let mut before: Option<Vec<(f64, f64)>> = None;
        let mut worst = 0.0f64;
        for end in (24_000..sound.len()).step_by(1931) {
            let samples = &sound[end - 24_000..end];
            let from = standing.place(samples, shown, Some(RATE / f0_hz));
            assert!(from + shown < 24_000.0 && from > 23_970.0 - 2.5 * RATE / f0_hz - shown);
            let picture = trace(samples, from, shown, 160);
            let middle = |point: &(f64, f64)| 0.5 * (point.0 + point.1);
            if let Some(before) = &before {
                let pairs = before.iter().zip(&picture);
                let off: f64 = pairs.map(|(a, b)| (middle(a) - middle(b)).powi(2)).sum();
                let power: f64 = picture.iter().map(|point| middle(point).powi(2)).sum();
                worst = worst.max((off / power).sqrt());
            }
            before = Some(picture);
        }
        worst
    }

    #[test]
    fn a_periodic_waveform_stands_still() {
        let mut worst_of_all = 0.0f64;
        for seed in 0..40 {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let f0_hz = 40.0 * random.random_range(0.0..6.5f64).exp2();
            let highest = ((16_000.0 / f0_hz) as usize).clamp(1, 12);
            let amplitudes: Vec<f64> =
                (1..=highest).map(|n| random.random_range(0.2..1.0) * 0.3 / n as f64).collect();
            let mut partials = harmonics(f0_hz, &amplitudes);
            for partial in &mut partials {
                partial.phase_rad = random.random_range(0.0..6.0);
            }
            let mut sound = render(&partials, Vibrato::default(), RATE, 2.0);
            let noise = white_noise(seed + 1000, 0.0005, sound.len());
            mix(&mut sound, &noise);
            let worst = unrest(&to_samples(&sound), f0_hz, random.random_range(1.5..5.0));
            worst_of_all = worst_of_all.max(worst);
        }
        println!("standing waveform: pictures differ by {:.2} % at most", 100.0 * worst_of_all);
        assert!(worst_of_all < 0.05, "{worst_of_all}");
    }

    #[test]
    fn a_trace_shows_the_waveform_between_the_samples() {
        let sound = crate::synth::sine(9000.0, 0.5, 0.0, RATE, 400);
        let picture = trace(&sound, 100.0, 32.0, 323);
        let highest = picture.iter().map(|point| point.1).fold(0.0, f64::max);
        let lowest = picture.iter().map(|point| point.0).fold(0.0, f64::min);
        assert!((highest - 0.5).abs() < 0.005 && (lowest + 0.5).abs() < 0.005, "{highest}");
        // Many samples in a column.
        let picture = trace(&sound, 0.0, 400.0, 10);
        assert!(picture.iter().all(|(low, high)| *low < -0.48 && *high > 0.48));
        // Beyond the samples there is nothing.
        assert!(trace(&sound, 390.0, 100.0, 10)[5..].iter().all(|point| *point == (0.0, 0.0)));
        assert!(trace(&[], 0.0, 100.0, 10).iter().all(|point| *point == (0.0, 0.0)));
    }
}
