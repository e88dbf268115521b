//! The last seconds of a sound that goes on.

/// Which of the channels is listened to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heard {
    /// One, counted from 0.
    Channel(usize),
    /// The mean of all.
    Mean,
}

/// The newest samples of all channels, as many as it was made for.
#[derive(Debug, Clone)]
pub struct History {
    channels: Vec<Vec<f32>>,
    capacity: usize,
    end: u64,
}

impl History {
    /// Room for `capacity` samples of each channel.
    #[must_use]
    pub fn new(channels: usize, capacity: usize) -> Self {
        Self {
            channels: vec![vec![0.0; capacity.max(1)]; channels],
            capacity: capacity.max(1),
            end: 0,
        }
    }

    /// Takes the next samples of all channels, of each as many.
    pub fn push<C: AsRef<[f32]>>(&mut self, channels: &[C]) {
        let count = channels.first().map_or(0, |samples| samples.as_ref().len());
        for (kept, samples) in self.channels.iter_mut().zip(channels) {
            let samples = samples.as_ref();
            let skipped = count.saturating_sub(self.capacity);
            let mut place = ((self.end + skipped as u64) % self.capacity as u64) as usize;
            let mut rest = &samples[skipped..];
            while !rest.is_empty() {
                let (now, later) = rest.split_at(rest.len().min(self.capacity - place));
                kept[place..place + now.len()].copy_from_slice(now);
                (place, rest) = (0, later);
            }
        }
        self.end += count as u64;
    }

    /// Samples of each channel that have come in all.
    #[must_use]
    pub fn end(&self) -> u64 {
        self.end
    }

    /// Number of the oldest sample that is still there.
    #[must_use]
    pub fn start(&self) -> u64 {
        self.end.saturating_sub(self.capacity as u64)
    }

    /// Number of channels.
    #[must_use]
    pub fn channels(&self) -> usize {
        self.channels.len()
    }

    /// The last `count` samples, or all that are there if they are fewer.
    #[must_use]
    pub fn last(&self, heard: Heard, count: usize) -> Vec<f32> {
        let count = count.min((self.end - self.start()) as usize);
        let from = self.end - count as u64;
        match heard {
            Heard::Channel(n) => {
                let Some(kept) = self.channels.get(n) else { return Vec::new() };
                let place = (from % self.capacity as u64) as usize;
                let first = count.min(self.capacity - place);
                [&kept[place..place + first], &kept[..count - first]].concat()
            }
            Heard::Mean => {
                let share = 1.0 / self.channels.len().max(1) as f64;
                let all: Vec<Vec<f32>> =
                    (0..self.channels.len()).map(|n| self.last(Heard::Channel(n), count)).collect();
                let mean = |n: usize| {
                    let sum: f64 = all.iter().map(|samples| f64::from(samples[n])).sum();
                    (share * sum) as f32
                };
                (0..count).map(mean).collect()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_samples_are_there_in_their_order() {
        let mut history = History::new(2, 100);
        let mut next = 0u16;
        for count in [1, 7, 64, 99, 100, 101, 250, 3] {
            let of = |sign: f32| -> Vec<f32> {
                (next..next + count).map(|n| sign * f32::from(n)).collect()
            };
            history.push(&[of(1.0), of(-3.0)]);
            next += count;
            let held = usize::from(next.min(100));
            assert_eq!(history.end() - history.start(), held as u64);
            for asked in [0, 1, 50, 100, 1000] {
                let found = history.last(Heard::Channel(0), asked);
                assert_eq!(found.len(), asked.min(held));
                let first = f32::from(next) - found.len() as f32;
                assert!((0..).zip(&found).all(|(n, x): (u16, _)| *x == first + f32::from(n)));
                let mean = history.last(Heard::Mean, asked);
                assert!(mean.iter().zip(&found).all(|(mean, x)| *mean == -x));
            }
        }
        assert!(history.last(Heard::Channel(2), 5).is_empty());
    }
}
