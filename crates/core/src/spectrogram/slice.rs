//! Cuts through a spectrogram: the spectrum at a time, and the level over time at a frequency.

use super::Spectrogram;
use crate::error::Error;

/// Where a spectrogram is cut.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SliceAt {
    /// At a time in seconds from the start of the span.
    Time(f64),
    /// At a frequency in Hz.
    Frequency(f64),
}

/// A cut through a spectrogram.
#[derive(Debug, Clone, PartialEq)]
pub struct Slice {
    /// Where it was asked for.
    pub at: SliceAt,
    /// Square of the amplitude re full scale: for each row at a time, for each column at a
    /// frequency.
    pub power: Vec<f32>,
}

impl Spectrogram {
    /// Cuts through the cells: at a time, the column nearest to it; at a frequency, what lies
    /// within half the resolution of it on either side, by the greatest cell, or added up in a
    /// sharpened one. A steady tone reads its level, as in the picture.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a place outside the picture.
    pub fn slice(&self, at: SliceAt) -> Result<Slice, Error> {
        let plan = &self.plan;
        let edges = &plan.edges_hz;
        let outside = |given: String, allowed: String| {
            Err(Error::Setting { setting: "the slice", given, allowed })
        };
        let power = match at {
            SliceAt::Time(time_s) => {
                if !(0.0..=plan.span_s()).contains(&time_s) {
                    let allowed = format!("within the span, which lasts {:.3} s", plan.span_s());
                    return outside(format!("{time_s:.3} s from its start"), allowed);
                }
                self.column(plan.column_at(time_s)).to_vec()
            }
            SliceAt::Frequency(hz) => {
                if !(edges[0]..=edges[plan.rows()]).contains(&hz) {
                    let allowed =
                        format!("within the picture, {} Hz to {} Hz", edges[0], edges[plan.rows()]);
                    return outside(format!("{hz} Hz"), allowed);
                }
                let half = plan.resolution_hz() / 2.0;
                let first = edges[1..plan.rows()].partition_point(|edge| *edge <= hz - half);
                let end = edges[..plan.rows()].partition_point(|edge| *edge < hz + half);
                let near = first..end.max(first + 1);
                let of_column = |column: usize| {
                    let cells = self.column(column)[near.clone()].iter().copied();
                    if self.is_sharpened { cells.sum() } else { cells.fold(0.0, f32::max) }
                };
                (0..plan.columns).map(of_column).collect()
            }
        };
        Ok(Slice { at, power })
    }
}
