//! Temperaments: how far each of the twelve notes lies from equal steps.

use crate::error::Error;
use crate::units::Note;

/// A pure fifth, 1200 lb(3/2), and the commas of Pythagoras and Didymus, in cents.
const PURE_FIFTH: f64 = 701.955_000_865_387_4;
const PYTHAGOREAN_COMMA: f64 = 23.460_010_384_649_02;
const SYNTONIC_COMMA: f64 = 21.506_289_596_714_78;
/// By this much a fifth is narrowed beside four of a quarter of a syntonic comma, for the circle to
/// close: the schisma.
const SCHISMA: f64 = PYTHAGOREAN_COMMA - SYNTONIC_COMMA;

/// Names of the temperaments that are known, in the order in which they are listed.
pub const TEMPERAMENTS: [&str; 8] = [
    "equal",
    "pythagorean",
    "just",
    "quarter-comma-meantone",
    "werckmeister-iii",
    "kirnberger-iii",
    "vallotti",
    "young",
];

/// How the twelve notes of the octave are tuned.
#[derive(Debug, Clone, PartialEq)]
pub struct Temperament {
    /// Its name.
    pub name: String,
    /// The note it is built on, from 0 for C to 11 for B.
    pub root: usize,
    /// Cents of each note, from C on, above its equally tempered place, A being 0.
    from_equal: [f64; 12],
}

impl Temperament {
    /// A known temperament on a root (0 for C).
    ///
    /// Pythagorean and meantone have their wolf between G♯ and E♭ when the root is C; Young's is
    /// his second (1800), a fifth above Vallotti's; just intonation has the ratios 16/15, 9/8, 6/5,
    /// 5/4, 4/3, 45/32, 3/2, 8/5, 5/3, 9/5 and 15/8.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a name that is not known.
    pub fn named(name: &str, root: usize) -> Result<Self, Error> {
        /// G♯, in degrees over C: where meantone is usually left open.
        const WOLF: usize = 8;
        // What each fifth is narrowed by, from C–G round to F–C.
        let narrowed = |fifths: &[usize], by: f64| {
            let mut tempering = [0.0; 12];
            for fifth in fifths {
                tempering[*fifth] = by;
            }
            tempering
        };
        let with_wolf = |by: f64| {
            let mut tempering = [by; 12];
            tempering[WOLF] = PYTHAGOREAN_COMMA - 11.0 * by;
            tempering
        };
        let above_root = match name {
            "equal" => std::array::from_fn(|n| 100.0 * n as f64),
            "pythagorean" => chain(with_wolf(0.0)),
            "just" => [
                1.0,
                16.0 / 15.0,
                9.0 / 8.0,
                6.0 / 5.0,
                5.0 / 4.0,
                4.0 / 3.0,
                45.0 / 32.0,
                3.0 / 2.0,
                8.0 / 5.0,
                5.0 / 3.0,
                9.0 / 5.0,
                15.0 / 8.0,
            ]
            .map(|ratio: f64| 1200.0 * ratio.log2()),
            "quarter-comma-meantone" => chain(with_wolf(SYNTONIC_COMMA / 4.0)),
            "werckmeister-iii" => chain(narrowed(&[0, 1, 2, 5], PYTHAGOREAN_COMMA / 4.0)),
            "kirnberger-iii" => {
                let mut tempering = narrowed(&[0, 1, 2, 3], SYNTONIC_COMMA / 4.0);
                tempering[6] = SCHISMA;
                chain(tempering)
            }
            "vallotti" => chain(narrowed(&[11, 0, 1, 2, 3, 4], PYTHAGOREAN_COMMA / 6.0)),
            "young" => chain(narrowed(&[0, 1, 2, 3, 4, 5], PYTHAGOREAN_COMMA / 6.0)),
            _ => {
                return Err(Error::Setting {
                    setting: "the temperament",
                    given: format!("'{name}'"),
                    allowed: format!("{}, or a file NAME.toml", TEMPERAMENTS.join(", ")),
                });
            }
        };
        Self::of_cents(name, root, above_root)
    }

    /// A temperament from the cents of its twelve notes above the root, the first 0, rising.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for cents that do not rise from 0 to below 1200.
    pub fn of_cents(name: &str, root: usize, above_root: [f64; 12]) -> Result<Self, Error> {
        let rises = above_root.windows(2).all(|pair| pair[0] < pair[1]);
        if !(above_root[0] == 0.0 && rises && above_root[11] < 1200.0) {
            return Err(Error::Setting {
                setting: "the cents of a temperament",
                given: format!("{above_root:?}"),
                allowed: "twelve numbers that rise from 0 to below 1200".into(),
            });
        }
        let mut from_equal = [0.0; 12];
        for (step, cents) in above_root.into_iter().enumerate() {
            from_equal[(root + step) % 12] = cents - 100.0 * step as f64;
        }
        let of_a = from_equal[9];
        Ok(Self { name: name.into(), root: root % 12, from_equal: from_equal.map(|c| c - of_a) })
    }

    /// Cents of a note above its equally tempered place, A being 0.
    #[must_use]
    pub fn from_equal(&self, note: Note) -> f64 {
        self.from_equal[note.0.rem_euclid(12) as usize]
    }

    /// Frequency of a note in Hz with A4 at `reference_hz`.
    #[must_use]
    pub fn frequency_hz(&self, note: Note, reference_hz: f64) -> f64 {
        note.frequency_hz(reference_hz) * (self.from_equal(note) / 1200.0).exp2()
    }

    /// The note nearest to a frequency.
    #[must_use]
    pub fn nearest(&self, frequency_hz: f64, reference_hz: f64) -> Option<Note> {
        let (equal, _) = Note::nearest(frequency_hz, reference_hz)?;
        let away = |note: &Note| (self.frequency_hz(*note, reference_hz) / frequency_hz).ln().abs();
        (-1..=1).map(|step| Note(equal.0 + step)).min_by(|a, b| away(a).total_cmp(&away(b)))
    }
}

/// Cents above C of the twelve notes of a chain of fifths from C on, each narrowed by so much.
fn chain(narrowed: [f64; 12]) -> [f64; 12] {
    let mut cents = [0.0; 12];
    let mut height = 0.0f64;
    for (fifth, by) in narrowed.into_iter().enumerate().take(11) {
        height = (height + PURE_FIFTH - by).rem_euclid(1200.0);
        cents[7 * (fifth + 1) % 12] = height;
    }
    cents
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Cents from C as they are published (J. M. Barbour, "Tuning and Temperament", 1951).
    #[test]
    fn temperaments_have_their_published_cents() {
        let published: [(&str, [f64; 12]); 6] = [
            (
                "pythagorean",
                [0.0, 113.7, 203.9, 294.1, 407.8, 498.0, 611.7, 702.0, 815.6, 905.9, 996.1, 1109.8],
            ),
            (
                "quarter-comma-meantone",
                [0.0, 76.0, 193.2, 310.3, 386.3, 503.4, 579.5, 696.6, 772.6, 889.7, 1006.8, 1082.9],
            ),
            (
                "werckmeister-iii",
                [0.0, 90.2, 192.2, 294.1, 390.2, 498.0, 588.3, 696.1, 792.2, 888.3, 996.1, 1092.2],
            ),
            (
                "kirnberger-iii",
                [0.0, 90.2, 193.2, 294.1, 386.3, 498.0, 590.2, 696.6, 792.2, 889.7, 996.1, 1088.3],
            ),
            (
                "vallotti",
                [0.0, 94.1, 196.1, 298.0, 392.2, 502.0, 592.2, 698.0, 796.1, 894.1, 1000.0, 1090.2],
            ),
            (
                "young",
                [0.0, 90.2, 196.1, 294.1, 392.2, 498.0, 588.3, 698.0, 792.2, 894.1, 996.1, 1090.2],
            ),
        ];
        for (name, cents) in published {
            let temperament = Temperament::named(name, 0).expect(name);
            let of_a = cents[9] - 900.0;
            for (step, cents) in cents.into_iter().enumerate() {
                let found = temperament.from_equal(Note(60 + step as i32));
                let truth = cents - 100.0 * step as f64 - of_a;
                assert!((found - truth).abs() < 0.11, "{name} {step}: {found} {truth}");
            }
        }
    }

    #[test]
    fn roots_and_tables_of_ones_own_are_taken() {
        let on_d = Temperament::named("just", 2).expect("known");
        let ratio = |note: i32| on_d.frequency_hz(Note(note), 415.0);
        assert!((ratio(66) / ratio(62) - 5.0 / 4.0).abs() < 1e-12, "a pure third on D");
        assert!((ratio(69) - 415.0).abs() < 1e-9, "A4 stays the reference");
        let equal: [f64; 12] = std::array::from_fn(|n| 100.0 * n as f64);
        let own = Temperament::of_cents("own", 0, equal).expect("rising");
        assert_eq!(own.nearest(441.0, 440.0), Some(Note(69)));
        let mut wrong = equal;
        wrong[3] = 150.0;
        assert!(Temperament::of_cents("own", 0, wrong).is_err());
        assert!(
            Temperament::named("well", 0).expect_err("unknown").to_string().contains("vallotti")
        );
    }
}
