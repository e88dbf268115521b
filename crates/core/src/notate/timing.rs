//! When notes stand in a score: freely, or on the grid of a metre.

use crate::error::Error;

/// How the times of notes are written.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Timing {
    /// As they are, to the millisecond.
    Free,
    /// On the grid of a metre, the first note on its first beat.
    Metre {
        /// Quarter notes in a minute.
        tempo_bpm: f64,
        /// The smallest value: 16 for sixteenths.
        smallest: u32,
        /// Beats in a bar.
        beats: u32,
        /// What a beat is: 4 for quarters.
        beat: u32,
    },
}

/// When a note stands in a score, in [`Timing::divisions`] of a quarter note.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed {
    /// From the beginning of the score.
    pub start: u32,
    /// How long it lasts.
    pub length: u32,
}

/// Tempo and divisions of a score in free time: a quarter note lasts a second.
const FREE_TEMPO_BPM: f64 = 60.0;
const FREE_DIVISIONS: u32 = 1000;

impl Timing {
    /// Refuses what is no metre.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`].
    pub fn check(&self) -> Result<(), Error> {
        let Self::Metre { tempo_bpm, smallest, beats, beat } = *self else { return Ok(()) };
        let wrong = |setting, given: String, allowed: &str| {
            Err(Error::Setting { setting, given, allowed: allowed.into() })
        };
        let is_value = |value: u32| value.is_power_of_two() && value <= 64;
        if !(10.0..=600.0).contains(&tempo_bpm) {
            return wrong("the tempo", format!("{tempo_bpm} a minute"), "10 to 600 a minute");
        }
        if !(is_value(smallest) && smallest >= 4) {
            let allowed = "1/4, 1/8, 1/16, 1/32 or 1/64";
            return wrong("the smallest value", format!("1/{smallest}"), allowed);
        }
        if !(is_value(beat) && beat <= smallest && (1..=32).contains(&beats)) {
            let allowed = "such as 4/4 or 6/8, in beats no shorter than the smallest value";
            return wrong("the metre", format!("{beats}/{beat}"), allowed);
        }
        Ok(())
    }

    /// Quarter notes in a minute.
    #[must_use]
    pub fn tempo_bpm(&self) -> f64 {
        match self {
            Self::Free => FREE_TEMPO_BPM,
            Self::Metre { tempo_bpm, .. } => *tempo_bpm,
        }
    }

    /// The parts of a quarter note that times are counted in.
    #[must_use]
    pub fn divisions(&self) -> u32 {
        match self {
            Self::Free => FREE_DIVISIONS,
            Self::Metre { smallest, .. } => smallest / 4,
        }
    }

    /// Where notes stand, by their starts and ends in seconds; notes one after the other if they are a
    /// phrase, of which each has a place of its own. With them the number of notes that had to give
    /// way.
    #[must_use]
    pub fn places(&self, notes: &[(f64, f64)], is_phrase: bool) -> (Vec<Placed>, usize) {
        let first_s = notes.iter().map(|(start_s, _)| *start_s).fold(f64::INFINITY, f64::min);
        let from_s = if *self == Self::Free { 0.0 } else { first_s };
        let per_s = self.tempo_bpm() / 60.0 * f64::from(self.divisions());
        let at = |time_s: f64| ((time_s - from_s).max(0.0) * per_s).round() as u32;
        let mut places: Vec<Placed> = Vec::with_capacity(notes.len());
        let mut moved = 0;
        for (start_s, end_s) in notes {
            let mut start = at(*start_s);
            if let Some(before) = places.last_mut().filter(|_| is_phrase) {
                if start <= before.start {
                    start = before.start + 1;
                    moved += 1;
                }
                before.length = before.length.min(start - before.start);
            }
            places.push(Placed { start, length: at(*end_s).saturating_sub(start).max(1) });
        }
        (places, moved)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIXTEENTHS: Timing = Timing::Metre { tempo_bpm: 120.0, smallest: 16, beats: 4, beat: 4 };

    #[test]
    fn notes_stand_on_the_grid_from_the_first_on() {
        // A sixteenth lasts 0.125 s.
        let notes = [(1.0, 1.24), (1.26, 1.49), (1.51, 1.52), (1.53, 1.9)];
        let (places, moved) = SIXTEENTHS.places(&notes, true);
        let places: Vec<(u32, u32)> = places.iter().map(|at| (at.start, at.length)).collect();
        assert_eq!((places, moved), (vec![(0, 2), (2, 2), (4, 1), (5, 2)], 1));
        let (free, moved) = Timing::Free.places(&notes, true);
        assert_eq!((free[1], moved), (Placed { start: 1260, length: 230 }, 0));
    }

    #[test]
    fn what_sounds_together_stands_together() {
        let (places, moved) = SIXTEENTHS.places(&[(0.5, 1.0), (0.51, 2.0)], false);
        assert_eq!((places[0].start, places[1].start, moved), (0, 0, 0));
        assert_eq!((places[0].length, places[1].length), (4, 12));
    }

    #[test]
    fn a_metre_that_is_none_is_refused() {
        let of = |tempo_bpm, smallest, beats, beat| {
            Timing::Metre { tempo_bpm, smallest, beats, beat }.check().is_ok()
        };
        assert!(of(90.0, 16, 6, 8) && of(90.0, 4, 3, 4));
        for wrong in [of(0.0, 16, 4, 4), of(90.0, 12, 4, 4), of(90.0, 4, 6, 8), of(90.0, 16, 0, 4)]
        {
            assert!(!wrong);
        }
    }
}
