//! A unison drawn: each partial with its decay removed, one row each, and how far the strings are
//! apart in each.

use tonemap_core::unison::{SteadyCourse, Unison, UnisonPartial};

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// Levels of the rows in dB: two strings of equal level add up to 3 dB over their mean.
const HIGHEST_DB: f64 = 5.0;
const LOWEST_DB: f64 = -25.0;
/// A row is at least so high.
const LEAST_ROW_PX: f64 = 40.0;
/// Between rows.
const GAP_PX: f64 = 8.0;
/// Width of what stands behind a row.
const WORDS_PX: f64 = 132.0;

/// A unison to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct UnisonFigure<'a> {
    /// What was found.
    pub found: &'a Unison,
    /// Another take of the note, with its name.
    pub beside: Option<(&'a str, &'a Unison)>,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws one row a partial, level over time with the decay removed, and how far the strings are
/// apart over the square of the number.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn unison_figure(figure: &UnisonFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let middle = (left + 0.62 * (right - left)).floor();
        draw_rows(sheet, figure, (left, middle - WORDS_PX), (TOP_PX, bottom))?;
        let is_apart = |partial: &UnisonPartial| partial.spacing_cents.is_some();
        let beats = |partial: &UnisonPartial| partial.beat_hz.is_some();
        let partials = &figure.found.partials;
        let (across, along) = ((middle + 78.0, right), (TOP_PX, bottom));
        if partials.iter().any(beats) && !partials.iter().any(is_apart) {
            draw_beats(sheet, figure.found, across, along)?;
        } else {
            draw_spacings(sheet, figure.found, across, along)?;
        }
        let mut entries =
            vec![("measured", Sign::Line(theme::PALE_INK)), ("fitted", Sign::Line(theme::CURVE))];
        if let Some((name, _)) = figure.beside {
            entries.push((name, Sign::Line(theme::category(1))));
        }
        legend::draw(sheet, right, &entries)
    })
}

fn linear((low, high): (f64, f64), (from_px, to_px): (f64, f64)) -> Axis {
    Axis { low, high, scale: Scale::Linear, from_px, to_px }
}

/// One row a partial, all on the same scales.
fn draw_rows(
    sheet: &Sheet<'_>,
    figure: &UnisonFigure<'_>,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let found = figure.found;
    let most = ((bottom - top + GAP_PX) / (LEAST_ROW_PX + GAP_PX)) as usize;
    let courses = &found.courses[..found.courses.len().min(most.max(1))];
    if courses.is_empty() {
        let look = Type::new(theme::AXIS_PX, theme::PALE_INK).align(Align::Centre);
        let (x, y) = (0.5 * (across.0 + across.1), 0.5 * (top + bottom));
        return sheet.text(x, y, "no partial stands out of the noise", look);
    }
    let ends = |of: fn(&SteadyCourse) -> Option<&f64>, fold: fn(f64, f64) -> f64, start: f64| {
        courses.iter().filter_map(of).copied().fold(start, fold)
    };
    let from_s = ends(|course| course.time_s.first(), f64::min, f64::INFINITY);
    let to_s = ends(|course| course.time_s.last(), f64::max, from_s + 0.01);
    let row = (bottom - top + GAP_PX) / courses.len() as f64;
    for (n, course) in courses.iter().enumerate() {
        let row_top = top + n as f64 * row;
        let panel = Panel {
            x: linear((from_s, to_s), across),
            y: linear((LOWEST_DB, HIGHEST_DB), (row_top + row - GAP_PX, row_top)),
        };
        draw_row(sheet, figure, &panel, course)?;
        if n + 1 == courses.len() {
            panel.draw_x_scale(sheet, "Time, s")?;
        }
    }
    let whole = Panel { x: linear((0.0, 1.0), across), y: linear((0.0, 1.0), (bottom, top)) };
    whole.draw_title(sheet, "Level with the decay removed, dB")
}

fn draw_row(
    sheet: &Sheet<'_>,
    figure: &UnisonFigure<'_>,
    panel: &Panel,
    course: &SteadyCourse,
) -> Result<(), Error> {
    panel.draw_lines(sheet)?;
    let line = |times: &[f64], levels: &[f64]| -> Vec<(f64, f64)> {
        times.iter().zip(levels).map(|(time_s, db)| panel.place(*time_s, *db)).collect()
    };
    if let Some((_, beside)) = figure.beside
        && let Some(other) = beside.courses.iter().find(|other| other.number == course.number)
    {
        // Both begin with their notes.
        let shift_s = figure.found.start_s - beside.start_s;
        let times: Vec<f64> = other.time_s.iter().map(|time_s| time_s + shift_s).collect();
        let inside = times.partition_point(|time_s| *time_s <= panel.x.high);
        let other_line = line(&times[..inside], &other.level_db[..inside]);
        sheet.line(&other_line, theme::category(1), 0.8, 1.2)?;
    }
    sheet.line(&line(&course.time_s, &course.level_db), theme::PALE_INK, 0.75, 1.1)?;
    sheet.line(&line(&course.time_s, &course.fitted_db), theme::CURVE, 1.0, 1.8)?;
    for dip_s in &course.dips_s {
        let (x, y) = (panel.x.place(*dip_s), panel.y.from_px);
        sheet.line(&[(x, y - 7.0), (x, y)], theme::TONE, 1.0, 2.0)?;
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_box(sheet)?;
    let partial = figure.found.partials.iter().find(|partial| partial.number == course.number);
    let Some(partial) = partial else { return Ok(()) };
    let (x, y) = (panel.x.to_px + 10.0, panel.y.to_px + 14.0);
    let name = format!("{}  {} Hz", partial.number, ticks::number(partial.frequency_hz, 1));
    sheet.text(x, y, &name, Type::new(theme::LABEL_PX, theme::INK).bold())?;
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    sheet.text(x, y + 15.0, &words_of(partial), look)
}

/// What is said of a partial beside its row.
fn words_of(partial: &UnisonPartial) -> String {
    match (partial.beat_hz, partial.spacing_cents, partial.slower_than_hz) {
        (Some(hz), Some(cents), _) => {
            format!("{} Hz, {} ¢", ticks::number(hz, 3), ticks::number(cents, 2))
        }
        (Some(hz), None, _) => format!("beats at {} Hz", ticks::number(hz, 2)),
        (None, _, Some(hz)) => {
            format!("no beat over {} Hz", ticks::number(hz, if hz < 0.1 { 3 } else { 2 }))
        }
        _ => String::new(),
    }
}

/// How far the strings are apart in each partial, over the square of its number, with the fitted
/// line; where one string is heard, how far two could be.
fn draw_spacings(
    sheet: &Sheet<'_>,
    found: &Unison,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    const LEAST_CENTS: f64 = 0.05;
    let square = |partial: &UnisonPartial| (partial.number * partial.number) as f64;
    let last = found.partials.iter().map(square).fold(1.0, f64::max);
    let measured: Vec<(&UnisonPartial, f64, f64)> = (found.partials.iter())
        .filter_map(|p| Some((p, p.spacing_cents?, p.spacing_cents_u?)))
        .collect();
    let limits: Vec<(&UnisonPartial, f64)> =
        (found.partials.iter()).filter_map(|p| Some((p, p.nearer_than_cents()?))).collect();
    let spread = measured.iter().flat_map(|(_, cents, u)| [cents - 2.0 * u, cents + 2.0 * u]);
    let reached = limits.iter().flat_map(|(_, cents)| [-cents, *cents]);
    // What is hardly known does not set the scale.
    let known = measured.iter().map(|(_, cents, _)| cents.abs()).fold(LEAST_CENTS, f64::max);
    let widest = if measured.is_empty() { f64::INFINITY } else { 3.0 * known };
    let (low, high) = spread
        .chain(reached)
        .map(|cents| cents.clamp(-widest, widest))
        .fold((-LEAST_CENTS, LEAST_CENTS), |(low, high), c| (low.min(c), high.max(c)));
    let margin = 0.08 * (high - low);
    let panel = Panel {
        x: linear((0.0, 1.06 * last), across),
        y: linear((low - margin, high + margin), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let zero = panel.y.place(0.0);
    sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.5, 1.0)?;
    let is_pair = found.apart_cents(0.0).is_some();
    let curve: Vec<(f64, f64)> = (0..=60)
        .map(|n| f64::from(n) / 60.0 * last)
        .filter_map(|square| Some(panel.place(square, found.apart_cents(square)?)))
        .collect();
    sheet.line(&curve, theme::CURVE, 0.9, 1.6)?;
    for (partial, cents, u) in &measured {
        let x = square(partial);
        let bar = [panel.place(x, cents - 2.0 * u), panel.place(x, cents + 2.0 * u)];
        sheet.line(&bar, theme::TONE, 1.0, 1.4)?;
        let (x, y) = panel.place(x, *cents);
        sheet.mark(x, y, 3.6, theme::TONE, true, Mark::Disc)?;
        let look = Type::new(theme::LABEL_PX, theme::INK);
        sheet.text(x + 6.0, y - 6.0, &partial.number.to_string(), look)?;
    }
    for (partial, cents) in &limits {
        let x = square(partial);
        let bar = [panel.place(x, -cents), panel.place(x, *cents)];
        sheet.line(&bar, theme::ESTIMATE, 1.0, 1.4)?;
        for (x, y) in bar {
            sheet.line(&[(x - 4.0, y), (x + 4.0, y)], theme::ESTIMATE, 1.0, 1.4)?;
        }
    }
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let words = match (is_pair, measured.is_empty()) {
        (true, _) => "line: mistuning and difference of inharmonicity; bars ± 2 u",
        (false, false) => "the second string from the first; bars ± 2 u",
        (false, true) => "one string is heard: two of equal level lie nearer than the bars",
    };
    sheet.text(across.0 + 10.0, top + 18.0, words, look)?;
    panel.draw_frame(sheet, "Strings apart, cents")?;
    panel.draw_x_scale(sheet, "Square of the number of the partial")
}

/// How often each partial beats by itself, over its number; beats of strings would lie on a line
/// through nothing.
fn draw_beats(
    sheet: &Sheet<'_>,
    found: &Unison,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let beats: Vec<(f64, f64, f64)> = (found.partials.iter())
        .filter_map(|p| Some((p.number as f64, p.beat_hz?, p.beat_hz_u?)))
        .collect();
    let last = found.partials.iter().map(|p| p.number).max().unwrap_or(1) as f64;
    let highest = beats.iter().map(|(_, hz, u)| hz + 2.0 * u).fold(0.0, f64::max);
    let panel = Panel {
        x: linear((0.0, last + 1.0), across),
        y: linear((0.0, 1.12 * highest), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    for (n, hz, u) in beats {
        let bar = [panel.place(n, (hz - 2.0 * u).max(0.0)), panel.place(n, hz + 2.0 * u)];
        sheet.line(&bar, theme::TONE, 1.0, 1.4)?;
        let (x, y) = panel.place(n, hz);
        sheet.mark(x, y, 3.6, theme::TONE, true, Mark::Disc)?;
    }
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let words = "beats of two strings would grow evenly with the number";
    sheet.text(across.0 + 10.0, top + 18.0, words, look)?;
    panel.draw_frame(sheet, "Beat, Hz")?;
    panel.draw_x_scale(sheet, "Number of the partial")
}
