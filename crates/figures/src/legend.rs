//! Names of the curves of a figure, in the upper right corner outside the plot: nothing is hidden.

use plotters::style::RGBColor;

use crate::error::Error;
use crate::sheet::{Mark, Sheet, Type};
use crate::theme;

/// Height of the line of the legend, and of the middle of its signs.
const BASELINE_PX: f64 = 31.0;
const MIDDLE_PX: f64 = BASELINE_PX - 4.5;

/// What stands before a name.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Sign {
    /// The line and mark of the nth of several curves.
    Curve(usize),
    /// A mark alone, filled or not.
    Tone(bool),
    /// A line.
    Line(RGBColor),
    /// A dashed line.
    Dashes(RGBColor),
    /// A tick above the plot.
    Tick(RGBColor),
    /// A line over a picture.
    Track,
}

/// Draws a legend that ends at `right`.
pub(crate) fn draw(sheet: &Sheet<'_>, right: f64, entries: &[(&str, Sign)]) -> Result<(), Error> {
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let mut x = right;
    for (name, sign) in entries.iter().rev() {
        x -= look.width(name);
        sheet.text(x, BASELINE_PX, name, look)?;
        let line = [(x - 33.0, MIDDLE_PX), (x - 7.0, MIDDLE_PX)];
        x -= match sign {
            Sign::Curve(n) => {
                sheet.line(&line, theme::category(*n), 1.0, 2.0)?;
                let middle = x - 20.0;
                sheet.mark(middle, MIDDLE_PX, 4.0, theme::category(*n), true, Mark::of(*n))?;
                54.0
            }
            Sign::Tone(filled) => {
                sheet.dot(x - 12.0, MIDDLE_PX, 4.5, theme::TONE, *filled)?;
                32.0
            }
            Sign::Line(colour) => {
                sheet.line(&line, *colour, 1.0, 1.8)?;
                54.0
            }
            Sign::Dashes(colour) => {
                sheet.dashed(&line, *colour, 1.4)?;
                54.0
            }
            Sign::Tick(colour) => {
                let x = x - 9.0;
                sheet.line(&[(x, MIDDLE_PX - 5.0), (x, MIDDLE_PX + 5.0)], *colour, 1.0, 1.5)?;
                28.0
            }
            Sign::Track => {
                sheet.line_on_picture(&line, theme::TRACK, 1.0)?;
                54.0
            }
        };
    }
    Ok(())
}

/// The signs of several curves by name.
pub(crate) fn curves<'a>(names: impl Iterator<Item = &'a str>) -> Vec<(&'a str, Sign)> {
    names.enumerate().map(|(n, name)| (name, Sign::Curve(n))).collect()
}
