//! Samples in grains of about a millisecond, each with its totals, which several meters share.

/// Length of a grain in seconds.
const GRAIN_S: f64 = 0.00125;
/// Shortest grain in samples: as long as the interpolation between samples reaches.
const SHORTEST_GRAIN: usize = 16;

/// A grain of one channel.
#[derive(Debug, Clone, Copy)]
pub(super) struct Grain<'a> {
    /// The two samples before it and its own. Silence comes before the first.
    pub(super) window: &'a [f32],
    pub(super) totals: Totals,
}

impl<'a> Grain<'a> {
    pub(super) fn samples(&self) -> &'a [f32] {
        &self.window[2..]
    }
}

/// Extremes and sums over the samples of a grain, their differences, and their second differences
/// x_n − 2x_{n−1} + x_{n−2}.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Totals {
    pub(super) highest: f32,
    pub(super) lowest: f32,
    pub(super) sum: f64,
    pub(super) squares: f64,
    pub(super) first_squares: f64,
    pub(super) second_squares: f64,
    /// Largest magnitude of a second difference.
    pub(super) bend: f32,
}

impl Totals {
    /// In eight running totals each: the compiler turns them into vector instructions. Within a
    /// grain single precision does.
    fn of(window: &[f32]) -> Self {
        const NO: [f32; 8] = [0.0; 8];
        let (mut highest, mut lowest) = ([f32::NEG_INFINITY; 8], [f32::INFINITY; 8]);
        let (mut sum, mut squares, mut firsts, mut seconds, mut bend) = (NO, NO, NO, NO, NO);
        let mut add = |lane: usize, x: f32, last: f32, before: f32| {
            let (first, last_first) = (x - last, last - before);
            let second = first - last_first;
            highest[lane] = highest[lane].max(x);
            lowest[lane] = lowest[lane].min(x);
            sum[lane] += x;
            squares[lane] += x * x;
            firsts[lane] += first * first;
            seconds[lane] += second * second;
            bend[lane] = bend[lane].max(second.abs());
        };
        let count = window.len() - 2;
        for start in (0..count / 8).map(|n| 8 * n) {
            let ten = &window[start..start + 10];
            for lane in 0..8 {
                add(lane, ten[lane + 2], ten[lane + 1], ten[lane]);
            }
        }
        for n in count / 8 * 8..count {
            add(0, window[n + 2], window[n + 1], window[n]);
        }
        let total = |lanes: [f32; 8]| lanes.iter().map(|x| f64::from(*x)).sum();
        Self {
            highest: highest.into_iter().fold(f32::NEG_INFINITY, f32::max),
            lowest: lowest.into_iter().fold(f32::INFINITY, f32::min),
            sum: total(sum),
            squares: total(squares),
            first_squares: total(firsts),
            second_squares: total(seconds),
            bend: bend.into_iter().fold(0.0, f32::max),
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
    /// For each channel, the two samples before the grain and those of it so far.
    windows: Vec<Vec<f32>>,
}

impl Grains {
    pub(super) fn new(sample_rate_hz: f64, channels: usize) -> Self {
        Self { length: grain_length(sample_rate_hz), windows: vec![vec![0.0; 2]; channels] }
    }

    /// Takes the next samples of all channels, and hands each grain that is full to `work`, with the
    /// number of its channel: the first grain of all channels, then the second.
    pub(super) fn push(
        &mut self,
        channels: &[impl AsRef<[f32]>],
        mut work: impl FnMut(usize, Grain<'_>),
    ) {
        let count = channels.first().map_or(0, |samples| samples.as_ref().len());
        let mut start = 0;
        while start < count {
            let held = self.windows[0].len() - 2;
            let end = count.min(start + self.length - held);
            for (n, (window, samples)) in self.windows.iter_mut().zip(channels).enumerate() {
                window.extend_from_slice(&samples.as_ref()[start..end]);
                if window.len() == self.length + 2 {
                    work(n, Grain { totals: Totals::of(window), window });
                    window.drain(..self.length);
                }
            }
            start = end;
        }
    }

    /// Hands what is left, less than a grain, to `work`.
    pub(super) fn finish(self, mut work: impl FnMut(usize, Grain<'_>)) {
        for (n, window) in self.windows.iter().enumerate().filter(|(_, window)| window.len() > 2) {
            work(n, Grain { totals: Totals::of(window), window });
        }
    }
}

/// Samples in a grain.
pub(super) fn grain_length(sample_rate_hz: f64) -> usize {
    ((GRAIN_S * sample_rate_hz).round() as usize).max(SHORTEST_GRAIN)
}
