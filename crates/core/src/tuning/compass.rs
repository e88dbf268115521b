//! A smooth curve through a value of every note across the compass, with outliers left out.

use serde::Serialize;

use crate::fit::median;
use crate::linear::{inverse, solve};
use crate::units::Note;

/// Highest order of the curve, plus one.
const MOST_TERMS: usize = 8;
/// So few notes, or so narrow a compass in semitones, have a mean and no curve.
const FEWEST_NOTES: usize = 16;
const NARROWEST: i32 = 24;

/// A value of a note.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct NoteValue {
    pub(super) note: Note,
    pub(super) value: f64,
    /// Its standard uncertainty.
    pub(super) u: f64,
}

/// A point of a fitted curve.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct CurvePoint {
    /// MIDI number of the note.
    pub midi: i32,
    /// The value of the curve there.
    pub value: f64,
}

/// A polynomial over the compass.
#[derive(Debug, Clone)]
pub(super) struct Compass {
    terms: usize,
    coefficients: [f64; MOST_TERMS],
    covariance: [[f64; MOST_TERMS]; MOST_TERMS],
    lowest: f64,
    highest: f64,
    /// Those of the polynomial with two terms more, one of which is even.
    longer: Option<[f64; MOST_TERMS]>,
    /// Scatter of the notes about it.
    pub(super) scatter: f64,
}

impl Compass {
    /// Fits polynomials of rising order by least squares, reweighted by J. W. Tukey's biweight so
    /// that single notes do not bend the curve, and takes the one of least G. Schwarz's criterion,
    /// n·ln σ² + k·ln n.
    pub(super) fn fit(values: &[NoteValue]) -> Option<Self> {
        let lowest = values.iter().map(|v| v.note.0).min()?;
        let highest = values.iter().map(|v| v.note.0).max()?;
        let most = if values.len() < FEWEST_NOTES || highest - lowest < NARROWEST {
            1
        } else {
            (values.len() / 5).clamp(1, MOST_TERMS)
        };
        let count = values.len() as f64;
        let fits = (1..=most).filter_map(|terms| Self::of_terms(values, terms, (lowest, highest)));
        let cost = |fit: &Self| {
            let k = fit.terms as f64;
            let variance = fit.scatter.powi(2) * (count - k).max(0.5) / count;
            count * variance.max(1e-12).ln() + k * count.ln()
        };
        let mut best = fits.min_by(|a, b| cost(a).total_cmp(&cost(b)))?;
        if best.terms < most {
            let terms = (best.terms + 2).min(most);
            let longer = Self::of_terms(values, terms, (lowest, highest));
            best.longer = longer.map(|fit| fit.coefficients);
        }
        Some(best)
    }

    fn of_terms(values: &[NoteValue], terms: usize, (lowest, highest): (i32, i32)) -> Option<Self> {
        /// Reweighting settles within ten rounds.
        const ROUNDS: usize = 40;
        /// Tukey's biweight with 95 % efficiency for normal noise (Holland and Welsch, 1977).
        const CUT: f64 = 4.685;
        /// The biweight lets a normal scatter appear smaller by this.
        const OF_NORMAL: f64 = 1.086;
        let mut fit = Self {
            terms,
            coefficients: [0.0; MOST_TERMS],
            covariance: [[0.0; MOST_TERMS]; MOST_TERMS],
            lowest: lowest.into(),
            highest: highest.into(),
            longer: None,
            scatter: 0.0,
        };
        let count = values.len() as f64;
        let taken_up = (count / (count - terms as f64).max(0.5)).sqrt();
        let mut kept = vec![1.0; values.len()];
        for _ in 0..ROUNDS {
            let mut normal = [[0.0; MOST_TERMS]; MOST_TERMS];
            let mut right = [[0.0]; MOST_TERMS];
            for (value, kept) in values.iter().zip(&kept) {
                // Notes scatter by more than what is not known of each, so they weigh alike unless
                // one is poor.
                let poor = value.u / fit.scatter.max(1e-9);
                let weight = if fit.scatter > 0.0 { kept / (1.0 + poor * poor) } else { *kept };
                let row = fit.terms_at(value.note);
                for a in 0..terms {
                    right[a][0] += weight * row[a] * value.value;
                    for b in 0..terms {
                        normal[a][b] += weight * row[a] * row[b];
                    }
                }
            }
            for (n, row) in normal.iter_mut().enumerate().skip(terms) {
                row[n] = 1.0;
            }
            fit.coefficients = solve(normal, right)?.map(|[x]| x);
            fit.covariance = inverse(normal)?;
            let off: Vec<f64> = values.iter().map(|v| v.value - fit.at(v.note)).collect();
            let usual = median(off.iter().map(|off| off.abs())).unwrap_or(0.0);
            let spread = (1.4826 * taken_up * usual).max(1e-9);
            let before = fit.scatter;
            let (mut squares, mut weights) = (0.0, 0.0);
            for ((weight, off), value) in kept.iter_mut().zip(&off).zip(values) {
                *weight = (1.0 - (off / (CUT * spread.hypot(value.u))).powi(2)).max(0.0).powi(2);
                squares += *weight * off * off;
                weights += *weight;
            }
            let free = (weights - terms as f64).max(0.5);
            fit.scatter = OF_NORMAL * (squares / free).sqrt().max(1e-9);
            if (fit.scatter - before).abs() < 1e-7 * before {
                break;
            }
        }
        Some(fit)
    }

    /// Legendre polynomials at a note, over the compass.
    fn terms_at(&self, note: Note) -> [f64; MOST_TERMS] {
        let width = (self.highest - self.lowest).max(1.0);
        let x = 2.0 * (f64::from(note.0) - self.lowest) / width - 1.0;
        let mut terms = [1.0; MOST_TERMS];
        terms[1] = x;
        for n in 2..MOST_TERMS {
            let k = n as f64;
            terms[n] = ((2.0 * k - 1.0) * x * terms[n - 1] - (k - 1.0) * terms[n - 2]) / k;
        }
        terms
    }

    /// Order of the curve; 0 for a mean.
    pub(super) fn order(&self) -> usize {
        self.terms - 1
    }

    /// The curve at a note.
    pub(super) fn at(&self, note: Note) -> f64 {
        let terms = self.terms_at(note);
        terms.iter().zip(&self.coefficients).take(self.terms).map(|(t, c)| t * c).sum()
    }

    /// The standard uncertainty of the curve at a note: of its coefficients by the scatter, and of
    /// its order by what two terms more would change there.
    pub(super) fn u_at(&self, note: Note) -> f64 {
        let terms = self.terms_at(note);
        let mut variance = 0.0;
        for a in 0..self.terms {
            for b in 0..self.terms {
                variance += terms[a] * self.covariance[a][b] * terms[b];
            }
        }
        let of_order = self.longer.map_or(0.0, |longer| {
            let of = |coefficients: &[f64; MOST_TERMS]| {
                terms.iter().zip(coefficients).map(|(t, c)| t * c).sum::<f64>()
            };
            of(&longer) - of(&self.coefficients)
        });
        (self.scatter * variance.max(0.0).sqrt()).hypot(of_order)
    }

    pub(super) fn contains(&self, note: Note) -> bool {
        (self.lowest..=self.highest).contains(&f64::from(note.0))
    }

    /// Whether a note is an outlier: beyond four times the scatter and what is not known of the
    /// curve there, as at the ends, where one note less leaves it open; and at least by so much.
    pub(super) fn is_apart(&self, value: &NoteValue, least: f64) -> bool {
        /// Of normal noise one in 16 000 lies farther off.
        const SCATTERS: f64 = 4.0;
        let off = (value.value - self.at(value.note)).abs();
        let usual = self.scatter.hypot(value.u).hypot(self.u_at(value.note));
        off > least && off > SCATTERS * usual
    }

    /// The curve at each note of the compass.
    pub(super) fn curve(&self, of: impl Fn(f64) -> f64) -> Vec<CurvePoint> {
        let notes = self.lowest as i32..=self.highest as i32;
        notes.map(|midi| CurvePoint { midi, value: of(self.at(Note(midi))) }).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_smooth_curve_is_followed_and_a_note_apart_is_told() {
        let truth = |midi: i32| {
            let x = f64::from(midi - 69) / 40.0;
            3.0 * x + 12.0 * x.powi(3) + (3.0 * x).exp() * 0.05
        };
        let mut values: Vec<NoteValue> = (21..=108)
            .map(|midi| NoteValue {
                note: Note(midi),
                value: truth(midi) + 0.3 * f64::from((midi * 37) % 11 - 5) / 3.2,
                u: 0.02,
            })
            .collect();
        values[30].value += 5.0;
        let compass = Compass::fit(&values).expect("enough");
        for midi in [21, 40, 69, 100, 108] {
            let off = compass.at(Note(midi)) - truth(midi);
            assert!(off.abs() < 0.3, "{midi} {off} order {}", compass.order());
        }
        let apart: Vec<i32> =
            values.iter().filter(|v| compass.is_apart(v, 1.0)).map(|v| v.note.0).collect();
        assert_eq!(apart, [51]);
        let few = Compass::fit(&values[..5]).expect("a mean");
        assert_eq!(few.order(), 0);
    }
}
