//! Samples in grains of 2.5 ms, each with its totals, which several meters share.

use wide::f32x4;

/// Length of a grain in seconds.
const GRAIN_S: f64 = 0.0025;
/// Shortest grain in samples: as long as the interpolation between samples reaches.
const SHORTEST_GRAIN: usize = 16;

/// Samples before a grain that are kept with it.
pub(super) const BEFORE: usize = 15;

/// A grain of one channel.
#[derive(Debug, Clone, Copy)]
pub(super) struct Grain<'a> {
    /// The [`BEFORE`] samples before it and its own. Silence comes before the first.
    pub(super) window: &'a [f32],
    pub(super) totals: Totals,
}

impl<'a> Grain<'a> {
    pub(super) fn samples(&self) -> &'a [f32] {
        &self.window[BEFORE..]
    }
}

/// Extremes and sums over the samples of a grain, and of their second differences
/// x_n − 2x_{n−1} + x_{n−2}.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Totals {
    pub(super) highest: f32,
    pub(super) lowest: f32,
    pub(super) sum: f64,
    pub(super) squares: f64,
    /// Σx² − (Σx)²/n: the squares about the mean.
    pub(super) alternating: f64,
    /// Largest magnitude of a second difference.
    pub(super) bend: f32,
}

impl Totals {
    /// Four samples at a time. Within a grain single precision does, once the first sample is taken
    /// away, so that DC leaves no digits to lose.
    fn of(window: &[f32]) -> Self {
        let window = &window[BEFORE - 2..];
        let origin = window.get(2).copied().unwrap_or(0.0);
        let [mut highest, mut lowest] =
            [f32x4::splat(f32::NEG_INFINITY), f32x4::splat(f32::INFINITY)];
        let [mut sum, mut squares, mut bend] = [f32x4::ZERO; 3];
        let mut add = |x: f32x4, last: f32x4, before: f32x4| {
            let second = (x - last) - (last - before);
            highest = highest.fast_max(x);
            lowest = lowest.fast_min(x);
            let shifted = x - f32x4::splat(origin);
            sum += shifted;
            squares += shifted * shifted;
            bend = bend.fast_max(second.abs());
        };
        let count = window.len() - 2;
        let own = window[2..].as_chunks::<4>().0.iter();
        let last = window[1..].as_chunks::<4>().0.iter();
        let before = window.as_chunks::<4>().0.iter();
        for ((x, last), before) in own.zip(last).zip(before) {
            add(f32x4::new(*x), f32x4::new(*last), f32x4::new(*before));
        }
        // What is left is repeated in all four for the extremes, and counts once in the sums.
        let [mut rest_sum, mut rest_squares] = [0.0f32; 2];
        for n in count / 4 * 4..count {
            let (x, last, before) = (window[n + 2], window[n + 1], window[n]);
            let second = (x - last) - (last - before);
            highest = highest.fast_max(f32x4::splat(x));
            lowest = lowest.fast_min(f32x4::splat(x));
            bend = bend.fast_max(f32x4::splat(second.abs()));
            rest_sum += x - origin;
            rest_squares += (x - origin) * (x - origin);
        }
        let total = |lanes: f32x4, rest: f32| f64::from(lanes.reduce_add() + rest);
        let (sum, squares) = (total(sum, rest_sum), total(squares, rest_squares));
        let (origin, number) = (f64::from(origin), count as f64);
        Self {
            highest: highest.to_array().into_iter().fold(f32::NEG_INFINITY, f32::max),
            lowest: lowest.to_array().into_iter().fold(f32::INFINITY, f32::min),
            sum: sum + number * origin,
            squares: squares + origin * (2.0 * sum + number * origin),
            alternating: (squares - sum * sum / number.max(1.0)).max(0.0),
            bend: bend.to_array().into_iter().fold(0.0, f32::max),
        }
    }

    /// Largest magnitude of a sample.
    pub(super) fn peak(&self) -> f32 {
        self.highest.max(-self.lowest)
    }
}

/// Cuts the samples of several channels into grains.
#[derive(Debug, Clone)]
pub(super) struct Grains {
    length: usize,
    /// For each channel, the samples before the grain and those of it so far.
    windows: Vec<Vec<f32>>,
}

impl Grains {
    pub(super) fn new(sample_rate_hz: f64, channels: usize) -> Self {
        Self { length: grain_length(sample_rate_hz), windows: vec![vec![0.0; BEFORE]; channels] }
    }

    /// Takes the next samples of all channels, and hands each grain that is full to `work`, with
    /// the number of its channel: the first grain of all channels, then the second.
    pub(super) fn push(
        &mut self,
        channels: &[impl AsRef<[f32]>],
        mut work: impl FnMut(usize, Grain<'_>),
    ) {
        let count = channels.first().map_or(0, |samples| samples.as_ref().len());
        let mut start = 0;
        while start < count {
            let held = self.windows[0].len() - BEFORE;
            let end = count.min(start + self.length - held);
            for (n, (window, samples)) in self.windows.iter_mut().zip(channels).enumerate() {
                window.extend_from_slice(&samples.as_ref()[start..end]);
                if window.len() == self.length + BEFORE {
                    work(n, Grain { totals: Totals::of(window), window });
                    window.drain(..self.length);
                }
            }
            start = end;
        }
    }

    /// Hands what is left, less than a grain, to `work`.
    pub(super) fn finish(self, mut work: impl FnMut(usize, Grain<'_>)) {
        for (n, window) in
            self.windows.iter().enumerate().filter(|(_, window)| window.len() > BEFORE)
        {
            work(n, Grain { totals: Totals::of(window), window });
        }
    }
}

/// Samples in a grain.
pub(super) fn grain_length(sample_rate_hz: f64) -> usize {
    ((GRAIN_S * sample_rate_hz).round() as usize).max(SHORTEST_GRAIN)
}
