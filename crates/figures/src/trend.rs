//! A quantity against a condition, drawn.

use tonemap_core::Measured;
use tonemap_core::trend::CourseValue;

use crate::error::Error;
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;

/// A trend to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct TrendFigure<'a> {
    /// Each value with its condition.
    pub points: &'a [(f64, Measured)],
    /// The curve through them, with its band.
    pub course: &'a [CourseValue],
    /// Words for the conditions, in their order; none for numbers.
    pub names: &'a [String],
    /// Title of the values, with their unit.
    pub value_title: &'a str,
    /// Title of the conditions.
    pub condition_title: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws values with bars of ± 2 u over the condition, and the curve through them with its band of
/// 95 %.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn trend_figure(figure: &TrendFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let panel = panel(figure, ((left + 22.0, right), (TOP_PX, bottom)));
        panel.draw_grid(sheet)?;
        let band = |of: fn(&CourseValue) -> f64| figure.course.iter().map(move |at| (at.x, of(at)));
        let place = |(x, y): (f64, f64)| panel.place(x, y);
        if figure.course.len() > 1 {
            let mut outline: Vec<(f64, f64)> = band(|at| at.high).map(place).collect();
            outline.extend(band(|at| at.low).map(place).collect::<Vec<_>>().into_iter().rev());
            sheet.shape(&outline, theme::ESTIMATE, 0.18)?;
            let line: Vec<(f64, f64)> = band(|at| at.value).map(place).collect();
            sheet.line(&line, theme::ESTIMATE, 0.95, 1.8)?;
        }
        for (x, value) in figure.points {
            let (px, py) = panel.place(*x, value.value);
            if value.u.is_finite() {
                let ends = [value.value - 2.0 * value.u, value.value + 2.0 * value.u]
                    .map(|end| panel.y.place_within(end));
                sheet.line(&[(px, ends[0]), (px, ends[1])], theme::CURVE, 1.0, 1.6)?;
                if (ends[0] - ends[1]).abs() > 12.0 {
                    for end in ends {
                        sheet.line(&[(px - 4.0, end), (px + 4.0, end)], theme::CURVE, 1.0, 1.6)?;
                    }
                }
            }
            sheet.mark(px, py, 4.6, theme::CURVE, true, Mark::Disc)?;
        }
        panel.draw_frame(sheet, figure.value_title)?;
        if figure.names.is_empty() {
            return panel.draw_x_scale(sheet, figure.condition_title);
        }
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
        for (n, name) in figure.names.iter().enumerate() {
            sheet.text(panel.x.place(n as f64), bottom + 19.0, name, look)?;
        }
        let middle = f64::midpoint(panel.x.from_px, panel.x.to_px);
        let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
        sheet.text(middle, bottom + 42.0, figure.condition_title, look)
    })
}

fn panel(
    figure: &TrendFigure<'_>,
    ((from_px, to_px), (top, bottom)): ((f64, f64), (f64, f64)),
) -> Panel {
    let range = |values: &mut dyn Iterator<Item = f64>, share: f64| {
        let (low, high) = values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| {
            (low.min(value), high.max(value))
        });
        let least = 1e-9 * low.abs().max(high.abs()).max(1e-9);
        let margin = share * (high - low).max(least);
        (low - margin, high + margin)
    };
    let u = |value: &Measured| if value.u.is_finite() { 2.0 * value.u } else { 0.0 };
    let ends = figure.points.iter().flat_map(|(_, v)| [v.value - u(v), v.value + u(v)]);
    let course = figure.course.iter().flat_map(|at| [at.low, at.high]);
    let (low, high) = range(&mut ends.chain(course), 0.08);
    let (first, last) = range(&mut figure.points.iter().map(|(x, _)| *x), 0.04);
    let scale = Scale::Linear;
    Panel {
        x: Axis { low: first, high: last, scale, from_px, to_px },
        y: Axis { low, high, scale, from_px: bottom, to_px: top },
    }
}
