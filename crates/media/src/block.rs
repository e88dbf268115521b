//! A stretch of samples of all channels.

/// Samples of all channels over the same frames, one slice a channel.
///
/// A block is made once and filled again and again.
#[derive(Debug, Clone, Default)]
pub struct Block {
    channels: Vec<Vec<f32>>,
}

impl Block {
    /// Samples of one channel, counted from 0.
    ///
    /// # Panics
    ///
    /// If there is no such channel.
    #[must_use]
    pub fn channel(&self, channel: usize) -> &[f32] {
        &self.channels[channel]
    }

    /// All channels.
    #[must_use]
    pub fn channels(&self) -> &[Vec<f32>] {
        &self.channels
    }

    /// Number of frames: samples in each channel.
    #[must_use]
    pub fn frames(&self) -> usize {
        self.channels.first().map_or(0, Vec::len)
    }

    /// The mean of all channels, into `mean`.
    pub fn mean_into(&self, mean: &mut Vec<f32>) {
        let share = 1.0 / self.channels.len().max(1) as f64;
        mean.clear();
        mean.extend((0..self.frames()).map(|frame| {
            let sum: f64 = self.channels.iter().map(|channel| f64::from(channel[frame])).sum();
            (sum * share) as f32
        }));
    }

    /// Keeps only frames `start..end`.
    ///
    /// # Panics
    ///
    /// If `start > end` or `end` exceeds [`frames`](Self::frames).
    pub(crate) fn keep(&mut self, start: usize, end: usize) {
        for channel in &mut self.channels {
            channel.truncate(end);
            channel.drain(..start);
        }
    }

    /// Adds the frames of another block, of as many channels, behind those of this one.
    pub(crate) fn append(&mut self, other: &Self) {
        self.channels.resize_with(other.channels.len(), Vec::new);
        for (own, other) in self.channels.iter_mut().zip(&other.channels) {
            own.extend_from_slice(other);
        }
    }

    /// Leaves no frame; the memory stays.
    pub(crate) fn clear(&mut self) {
        self.channels.iter_mut().for_each(Vec::clear);
    }

    /// Makes room for `frames` frames of `channels` channels, with arbitrary content.
    pub(crate) fn resize(&mut self, channels: usize, frames: usize) -> &mut [Vec<f32>] {
        self.channels.resize_with(channels, Vec::new);
        for channel in &mut self.channels {
            channel.resize(frames, 0.0);
        }
        &mut self.channels
    }

    /// Replaces samples that are not finite by 0 and counts them.
    pub(crate) fn silence_not_finite(&mut self) -> u64 {
        let mut count = 0;
        for channel in &mut self.channels {
            // A sum over a chunk is finite unless a sample is not, or overflows, which the second
            // look takes in: the common case costs one addition.
            for chunk in channel.chunks_mut(1024) {
                let sum: f32 = chunk.iter().map(|x| x * 0.0).sum();
                if sum == 0.0 {
                    continue;
                }
                for x in chunk.iter_mut().filter(|x| !x.is_finite()) {
                    *x = 0.0;
                    count += 1;
                }
            }
        }
        count
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_that_are_no_numbers_become_silence_and_are_counted() {
        let mut block = Block::default();
        let channels = block.resize(2, 3000);
        channels[0][5] = f32::NAN;
        channels[1][2999] = f32::NEG_INFINITY;
        channels[1][7] = f32::MAX;
        assert_eq!(block.silence_not_finite(), 2);
        assert_eq!(block.channel(0)[5].to_bits(), 0);
        assert_eq!(block.channel(1)[7].to_bits(), f32::MAX.to_bits());
        block.keep(7, 10);
        assert_eq!((block.frames(), block.channel(1)[0]), (3, f32::MAX));
    }
}
