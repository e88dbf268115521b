//! Pitches that can be written: semitones, quarter tones and eighth tones, and how they are spelled.

use std::fmt;

use crate::units::{Note, cents_between};

/// The steps that a pitch is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Steps {
    /// 100 cents.
    #[default]
    Semitone,
    /// 50 cents.
    Quarter,
    /// 25 cents.
    Eighth,
}

impl Steps {
    /// How many eighth tones a step has.
    fn eighths(self) -> i32 {
        match self {
            Self::Semitone => 4,
            Self::Quarter => 2,
            Self::Eighth => 1,
        }
    }

    /// The size of a step.
    #[must_use]
    pub fn cents(self) -> f64 {
        EIGHTH_CENTS * f64::from(self.eighths())
    }
}

const EIGHTH_CENTS: f64 = 25.0;
const EIGHTHS_PER_OCTAVE: i32 = 48;

/// What stands before a note.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Accidental {
    /// Nothing: the note of the letter.
    Natural,
    /// An eighth tone up.
    NaturalUp,
    /// A quarter tone up.
    QuarterSharp,
    /// Three eighth tones up.
    SharpDown,
    /// A semitone up.
    Sharp,
    /// Five eighth tones up.
    SharpUp,
    /// A quarter tone down.
    QuarterFlat,
    /// An eighth tone down.
    NaturalDown,
}

impl Accidental {
    /// What it does to the note of the letter, in semitones.
    #[must_use]
    pub fn alter(self) -> f64 {
        match self {
            Self::Natural => 0.0,
            Self::NaturalUp => 0.25,
            Self::QuarterSharp => 0.5,
            Self::SharpDown => 0.75,
            Self::Sharp => 1.0,
            Self::SharpUp => 1.25,
            Self::QuarterFlat => -0.5,
            Self::NaturalDown => -0.25,
        }
    }
}

/// A pitch as it is written: in eighth tones from note 0 of MIDI.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct StaffPitch(i32);

/// The staff that a pitch stands on, by its range: two octaves each, with few ledger lines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Staff {
    /// A bass clef that sounds two octaves lower: below C2.
    Lowest,
    /// A bass clef: from C2.
    Bass,
    /// A treble clef: from C4.
    Treble,
    /// A treble clef that sounds two octaves higher: from C6.
    Highest,
}

impl Staff {
    /// All, from the highest down, as they stand on paper.
    pub const ALL: [Self; 4] = [Self::Highest, Self::Treble, Self::Bass, Self::Lowest];

    /// The letter of its clef, and the line from below that it stands on.
    #[must_use]
    pub fn clef(self) -> (char, u32) {
        match self {
            Self::Lowest | Self::Bass => ('F', 4),
            Self::Treble | Self::Highest => ('G', 2),
        }
    }

    /// The octaves that it sounds higher than its clef has it.
    #[must_use]
    pub fn octaves(self) -> i32 {
        match self {
            Self::Lowest => -2,
            Self::Bass | Self::Treble => 0,
            Self::Highest => 2,
        }
    }

    /// The place of its lowest line, as [`Spelling::place`] counts.
    #[must_use]
    pub fn lowest_line(self) -> i32 {
        let of_clef = match self {
            // G2 and E4.
            Self::Lowest | Self::Bass => 7 * 2 + 4,
            Self::Treble | Self::Highest => 7 * 4 + 2,
        };
        of_clef + 7 * self.octaves()
    }
}

/// How a pitch is spelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spelling {
    /// C to B.
    pub letter: char,
    /// What stands before it.
    pub accidental: Accidental,
    /// Octave of the letter: that of middle C is 4.
    pub octave: i32,
    /// Lines and spaces from C of octave 0.
    pub place: i32,
}

impl StaffPitch {
    /// The one nearest to a frequency with A4 at `reference_hz`, and how many cents the frequency lies
    /// above it; `None` unless both are positive and finite.
    #[must_use]
    pub fn nearest(frequency_hz: f64, reference_hz: f64, steps: Steps) -> Option<(Self, f64)> {
        let (note, cents) = Note::nearest(frequency_hz, reference_hz)?;
        let above = (cents / steps.cents()).round();
        let eighths = 4 * note.0 + steps.eighths() * above as i32;
        Some((Self(eighths), cents - steps.cents() * above))
    }

    /// The semitone that it is written from, and the cents that it lies from that: 50 for quarter tones
    /// between two, 25 or −25 beside one.
    #[must_use]
    pub fn semitone(self) -> (Note, i32) {
        let (note, over) = (self.0.div_euclid(4), self.0.rem_euclid(4));
        let (note, over) = if over == 3 { (note + 1, -1) } else { (note, over) };
        (Note(note), over * EIGHTH_CENTS as i32)
    }

    /// Its frequency with A4 at `reference_hz`.
    #[must_use]
    pub fn frequency_hz(self, reference_hz: f64) -> f64 {
        let octaves = f64::from(self.0 - 4 * 69) / f64::from(EIGHTHS_PER_OCTAVE);
        reference_hz * octaves.exp2()
    }

    /// The cents from it to a frequency.
    #[must_use]
    pub fn cents_to(self, frequency_hz: f64, reference_hz: f64) -> f64 {
        cents_between(self.frequency_hz(reference_hz), frequency_hz)
    }

    /// Where a frequency lies among lines and spaces, C of each octave on its own and evenly between.
    #[must_use]
    pub fn place_of_hz(frequency_hz: f64, reference_hz: f64) -> f64 {
        const MIDDLE_C: Note = Note(60);
        let octaves = (frequency_hz / MIDDLE_C.frequency_hz(reference_hz)).log2();
        7.0 * (4.0 + octaves)
    }

    /// The staff that it stands on.
    #[must_use]
    pub fn staff(self) -> Staff {
        match self.spelling().octave {
            ..2 => Staff::Lowest,
            2..4 => Staff::Bass,
            4..6 => Staff::Treble,
            6.. => Staff::Highest,
        }
    }

    /// Letter and accidental: sharps, and from a quarter tone below the next letter that one.
    #[must_use]
    pub fn spelling(self) -> Spelling {
        /// Letters, and the eighth tones from C to each.
        const LETTERS: [(char, i32); 8] = [
            ('C', 0),
            ('D', 8),
            ('E', 16),
            ('F', 20),
            ('G', 28),
            ('A', 36),
            ('B', 44),
            ('C', EIGHTHS_PER_OCTAVE),
        ];
        let (octave, within) =
            (self.0.div_euclid(EIGHTHS_PER_OCTAVE), self.0.rem_euclid(EIGHTHS_PER_OCTAVE));
        let below = LETTERS.iter().rposition(|(_, from)| *from <= within).unwrap_or(0);
        let (above, next) = (within - LETTERS[below].1, LETTERS[(below + 1).min(7)].1);
        let (place, accidental) = match (above, next - within) {
            (0, _) => (below, Accidental::Natural),
            (_, 1) => (below + 1, Accidental::NaturalDown),
            (1, _) => (below, Accidental::NaturalUp),
            (2, _) => (below, Accidental::QuarterSharp),
            (_, 2) => (below + 1, Accidental::QuarterFlat),
            (3, _) => (below, Accidental::SharpDown),
            (4, _) => (below, Accidental::Sharp),
            _ => (below, Accidental::SharpUp),
        };
        let octave = octave - 1 + i32::from(place == 7);
        let letter = LETTERS[place].0;
        Spelling { letter, accidental, octave, place: 7 * octave + (place % 7) as i32 }
    }
}

impl fmt::Display for StaffPitch {
    /// The semitone, and the cents from it where there are any: `A4`, `A4+50`, `A#4-25`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (note, cents) = self.semitone();
        write!(f, "{note}")?;
        if cents == 0 { Ok(()) } else { write!(f, "{cents:+}") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_eighth_tone_is_spelled_as_it_sounds() {
        for eighths in 0..48 * 11 {
            let pitch = StaffPitch(eighths);
            let Spelling { letter, accidental, octave, place } = pitch.spelling();
            let natural: Note = format!("{letter}{octave}").parse().expect("a note");
            let sounds = f64::from(natural.0) + accidental.alter();
            assert!((sounds - f64::from(eighths) / 4.0).abs() < 1e-12, "{pitch}");
            assert_eq!(place.rem_euclid(7), "CDEFGAB".find(letter).expect("a letter") as i32);
            assert_eq!(place.div_euclid(7), octave);
            let of_hz = StaffPitch::place_of_hz(pitch.frequency_hz(442.0), 442.0);
            assert!((of_hz - f64::from(place)).abs() < 1.0, "{pitch}: {of_hz}");
            // Never more than three ledger lines within the compass of a grand piano.
            let over = place - pitch.staff().lowest_line();
            assert!(!(84..=432).contains(&eighths) || (-6..=14).contains(&over), "{pitch}: {over}");
            let hz = pitch.frequency_hz(442.0);
            assert_eq!(StaffPitch::nearest(hz, 442.0, Steps::Eighth).expect("one").0, pitch);
        }
    }

    #[test]
    fn a_frequency_is_written_in_the_steps_asked_for() {
        let of = |cents: f64, steps| {
            let (pitch, left) =
                StaffPitch::nearest(440.0 * (cents / 1200.0).exp2(), 440.0, steps).expect("one");
            (pitch.to_string(), (100.0 * left).round() / 100.0)
        };
        assert_eq!(of(40.0, Steps::Semitone), ("A4".into(), 40.0));
        assert_eq!(of(40.0, Steps::Quarter), ("A4+50".into(), -10.0));
        assert_eq!(of(30.0, Steps::Eighth), ("A4+25".into(), 5.0));
        assert_eq!(of(80.0, Steps::Eighth), ("A#4-25".into(), 5.0));
        assert_eq!(of(-48.0, Steps::Quarter), ("G#4+50".into(), 2.0));
        assert_eq!(StaffPitch::nearest(0.0, 440.0, Steps::Quarter), None);
    }
}
