//! When the sound begins and ends, which long frames do not show.

use super::PitchPoint;
use super::notes::OF_ONSET_S;
use crate::lanes::dot;
use crate::onsets::{Onset, OnsetFinder};
use crate::units::cents_between;

/// The power of the sound in short blocks, which knows better than long frames when a note begins
/// and ends.
#[derive(Clone)]
pub(super) struct PowerCourse {
    block: usize,
    block_s: f64,
    powers: Vec<f32>,
    /// Squares of the samples of the block that is being filled.
    sum: f64,
    filled: usize,
    onsets: OnsetFinder,
}

impl PowerCourse {
    pub(super) fn new(sample_rate_hz: f64) -> Self {
        const BLOCK_S: f64 = 0.0025;
        let block = ((BLOCK_S * sample_rate_hz) as usize).max(1);
        let block_s = block as f64 / sample_rate_hz;
        let onsets = OnsetFinder::new(sample_rate_hz);
        Self { block, block_s, powers: Vec::new(), sum: 0.0, filled: 0, onsets }
    }

    pub(super) fn push(&mut self, samples: &[f32]) {
        self.onsets.push(samples);
        let mut rest = samples;
        while !rest.is_empty() {
            let (now, later) = rest.split_at(rest.len().min(self.block - self.filled));
            rest = later;
            self.sum += f64::from(dot(now, now));
            self.filled += now.len();
            if self.filled == self.block {
                self.powers.push((self.sum / self.block as f64) as f32);
                (self.sum, self.filled) = (0.0, 0);
            }
        }
    }

    /// Whether something may begin or be slurred near a time in seconds from the first sample.
    pub(super) fn is_new(&self, time_s: f64) -> bool {
        let near = self.onsets.found().iter().rev();
        near.take_while(|onset| onset.time_s > time_s - OF_ONSET_S)
            .any(|onset| onset.time_s < time_s + OF_ONSET_S && onset.is_slur())
    }

    /// When something may begin.
    pub(super) fn onsets(&self) -> Vec<Onset> {
        self.onsets.found().to_vec()
    }

    /// Mean power over a time around another.
    pub(super) fn around(&self, time_s: f64, over_s: f64) -> f64 {
        let at = |time_s: f64| {
            ((time_s / self.block_s).max(0.0).round() as usize).min(self.powers.len())
        };
        let (from, to) = (at(time_s - 0.5 * over_s), at(time_s + 0.5 * over_s));
        let blocks = &self.powers[from..to.max(from + 1).min(self.powers.len()).max(from)];
        blocks.iter().map(|power| f64::from(*power)).sum::<f64>() / blocks.len().max(1) as f64
    }

    /// Mean power over a period at a point, if its fundamental were this.
    fn at(&self, point: &PitchPoint, f0_hz: f64, start_s: f64) -> f64 {
        const LEAST_S: f64 = 0.005;
        self.around(point.time_s - start_s, (1.0 / f0_hz).max(LEAST_S))
    }

    /// Lets voiced stretches end where their sound does, not where their frames do.
    pub(super) fn trim(&self, track: &mut [PitchPoint], start_s: f64, hop_s: f64) {
        /// The power over a period, over that of the frame, or of what is next to it inside the
        /// stretch, where the frame hears of the note only from afar.
        const AFAR: f64 = 0.2;
        const OUTSIDE: f64 = 0.25;
        const STILL: f64 = 0.6;
        const INSIDE_S: f64 = 0.22;
        for point in track.iter_mut() {
            if let Some((basis, f0_hz)) = point.basis.zip(point.f0_hz) {
                let of_frame = self.around(point.time_s - start_s, basis.frame_s.into());
                if self.at(point, f0_hz, start_s) < AFAR * of_frame {
                    point.make_unvoiced();
                }
            }
        }
        hold_ends(track, hop_s);
        let inside = ((INSIDE_S / hop_s).round() as usize).max(2);
        let mut start = 0;
        while start < track.len() {
            let end = start + track[start..].iter().take_while(|point| point.voiced).count();
            // What is added behind a stretch is no stretch of its own, to be added to again.
            let mut next = end + 1;
            if start < end {
                // Forwards from the first frame, and backwards from the last.
                for (edge, is_first) in [(start, true), (end - 1, false)] {
                    let along = |n: usize| if is_first { edge + n } else { edge - n };
                    let Some((basis, f0_hz)) = track[edge].basis.zip(track[edge].f0_hz) else {
                        continue;
                    };
                    let count = inside.min(end - start);
                    let power = |n: usize| self.at(&track[n], f0_hz, start_s);
                    let powers: Vec<f64> = (0..count).map(|n| power(along(n))).collect();
                    let mean = powers.iter().sum::<f64>() / count as f64;
                    let early = powers.iter().take_while(|p| **p < OUTSIDE * mean).count();
                    // Where the sound is there already, and only the frame was not full of it yet.
                    let most = (0.5 * f64::from(basis.frame_s) / hop_s) as usize;
                    let before = (1..=most).map_while(|n| {
                        let place = if is_first { edge.checked_sub(n)? } else { edge + n };
                        let point = track.get(place).filter(|point| !point.voiced)?;
                        let power = self.at(point, f0_hz, start_s);
                        (power > STILL * mean).then_some(place)
                    });
                    let before: Vec<usize> = if early == 0 { before.collect() } else { Vec::new() };
                    for n in 0..early {
                        track[along(n)].make_unvoiced();
                    }
                    for place in before {
                        track[place] =
                            PitchPoint { time_s: track[place].time_s, ..track[edge].held() };
                        next = next.max(place + 1);
                    }
                }
            }
            start = next;
        }
    }
}

/// At the ends of a voiced stretch frames are not full of the note yet: a reading that leaps from
/// the one further inside, sooner than that one's frame could show, gives way to it.
fn hold_ends(track: &mut [PitchPoint], hop_s: f64) {
    const SOONER: f64 = 0.4;
    const LEAP_CENTS: f64 = 70.0;
    let mut start = 0;
    while start < track.len() {
        let end = start + track[start..].iter().take_while(|point| point.voiced).count();
        for is_first in [true, false] {
            let along = |n: usize| if is_first { start + n } else { end - 1 - n };
            let leaps = |n: &usize| {
                let (outer, inner) = (&track[along(n - 1)], &track[along(*n)]);
                let too_soon = inner
                    .basis
                    .is_some_and(|basis| *n as f64 * hop_s < SOONER * f64::from(basis.frame_s));
                let apart = outer.f0_hz.zip(inner.f0_hz).map(|(a, b)| cents_between(a, b).abs());
                too_soon && apart.is_some_and(|cents| cents > LEAP_CENTS)
            };
            let reach = 1..(end - start).min(40);
            let Some(inner) = reach.rev().find(leaps) else { continue };
            let held = track[along(inner)].held();
            for n in 0..inner {
                track[along(n)] = PitchPoint { time_s: track[along(n)].time_s, ..held };
            }
        }
        start = end + 1;
    }
}
