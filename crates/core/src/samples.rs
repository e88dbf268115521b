//! A sound that need not fit into memory.

use crate::error::Error;

/// Samples that are read stretch by stretch, in any order and as often as wanted.
pub trait Samples: Sync {
    /// How many there are.
    fn count(&self) -> usize;

    /// Fills `into` with the samples from `start` on, all of which there must be.
    ///
    /// # Errors
    ///
    /// [`Error::Lost`] where what keeps them can no longer be read.
    fn read(&self, start: usize, into: &mut [f32]) -> Result<(), Error>;
}

impl Samples for Vec<f32> {
    fn count(&self) -> usize {
        self.len()
    }

    fn read(&self, start: usize, into: &mut [f32]) -> Result<(), Error> {
        into.copy_from_slice(&self[start..start + into.len()]);
        Ok(())
    }
}

/// A view of samples that moves over them, silent before the first and behind the last.
pub(crate) struct Reader<'a> {
    samples: &'a dyn Samples,
    /// What is held, from this place on.
    held: Vec<f32>,
    from: i64,
}

impl<'a> Reader<'a> {
    pub(crate) fn new(samples: &'a dyn Samples) -> Self {
        Self { samples, held: Vec::new(), from: 0 }
    }

    /// So many samples from a place on, which may lie before the first.
    pub(crate) fn at(&mut self, from: i64, count: usize) -> Result<&[f32], Error> {
        /// Enough that steps to and fro seldom read anew, nor a look a little beside.
        const LEAST: usize = 1 << 17;
        const BESIDE: usize = 1 << 10;
        let to = from + count as i64;
        if from < self.from || to > self.from + self.held.len() as i64 {
            let held = count.max(LEAST) + 2 * BESIDE;
            let beside = BESIDE as i64;
            // Whoever goes backwards wants what lies before next.
            self.from = if from < self.from { to + beside - held as i64 } else { from - beside };
            self.held.resize(held, 0.0);
            let all = self.samples.count() as i64;
            let (first, last) = (self.from.max(0), (self.from + held as i64).min(all));
            let first_held = (first - self.from).clamp(0, held as i64) as usize;
            let end_held = (last - self.from).clamp(first_held as i64, held as i64) as usize;
            self.held[..first_held].fill(0.0);
            self.held[end_held..].fill(0.0);
            if first_held < end_held {
                self.samples.read(first as usize, &mut self.held[first_held..end_held])?;
            }
        }
        Ok(&self.held[(from - self.from) as usize..][..count])
    }
}

/// So many samples of a sound from a place on; silent where that lies beyond its ends.
pub(crate) fn padded(sound: &[f32], from: i64, count: usize, into: &mut Vec<f32>) {
    into.clear();
    into.resize(usize::try_from(-from).unwrap_or(0).min(count), 0.0);
    let first = usize::try_from(from).unwrap_or(0).min(sound.len());
    let last = sound.len().min(first + count - into.len());
    into.extend_from_slice(&sound[first..last]);
    into.resize(count, 0.0);
}

/// Up to `count` samples from a place on, in memory.
pub(crate) fn held(samples: &dyn Samples, from: usize, count: usize) -> Result<Vec<f32>, Error> {
    let count = count.min(samples.count().saturating_sub(from));
    let mut held = vec![0.0; count];
    samples.read(from, &mut held)?;
    Ok(held)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_view_moves_either_way_and_is_silent_beyond_the_ends() {
        let all: Vec<f32> = (0..400_000).map(|n| 1.0 + n as f32).collect();
        let mut reader = Reader::new(&all);
        let mut at_once = Vec::new();
        for from in [0, 10, 200_000, 199_000, 5, -7, 399_990, 399_000, -20, -30, 400_010] {
            let found = reader.at(from, 20).expect("samples").to_vec();
            let wanted = (from..from + 20)
                .map(|n| usize::try_from(n).ok().and_then(|n| all.get(n)).copied().unwrap_or(0.0));
            assert_eq!(found, wanted.collect::<Vec<f32>>(), "{from}");
            padded(&all, from, 20, &mut at_once);
            assert_eq!(at_once, found, "{from}");
        }
        assert_eq!(held(&all, 399_998, 10).expect("samples"), [399_999.0, 400_000.0]);
    }
}
