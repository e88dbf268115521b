//! Sound insulation drawn: the levels in both rooms, and their difference with the reference curve
//! that rates it.

use tonemap_core::Measured;
use tonemap_core::isolation::{BandIsolation, Isolation};
use tonemap_core::units::LevelReference;

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// Between the two panels.
const MIDDLE_PX: f64 = 84.0;

/// Sound insulation to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct IsolationFigure<'a> {
    /// What was found.
    pub found: &'a Isolation,
    /// What levels refer to.
    pub reference: LevelReference,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws L1, L2 and the background, and beside them what is rated with ± 2 u, the shifted reference
/// curve, and the unfavourable deviations shaded.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn isolation_figure(figure: &IsolationFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let middle = (0.5 * (left + right - MIDDLE_PX)).floor();
        draw_levels(sheet, figure, (left, middle), (bottom, TOP_PX))?;
        draw_rated(sheet, figure, (middle + MIDDLE_PX, right), (bottom, TOP_PX))?;
        let bands = &figure.found.bands;
        let mut entries = Vec::new();
        if !figure.found.is_impact {
            entries.push(("source room", Sign::Curve(0)));
        }
        entries.push(("receiving room", Sign::Curve(1)));
        if bands.iter().any(|band| band.background_db.is_some()) {
            entries.push(("background", Sign::Curve(2)));
        }
        if figure.found.rating.is_some() {
            entries.push(("shifted reference curve", Sign::Dashes(theme::TONE)));
        }
        legend::draw(sheet, right, &entries)
    })
}

/// What is rated, and its name: with the room, with its decay, or without.
fn rated(found: &Isolation) -> (&'static str, fn(&BandIsolation) -> Option<Measured>) {
    let has =
        |of: fn(&BandIsolation) -> Option<Measured>| found.bands.iter().any(|b| of(b).is_some());
    let normalized: fn(&BandIsolation) -> Option<Measured> = |band| band.normalized_db;
    let standardized: fn(&BandIsolation) -> Option<Measured> = |band| band.standardized_db;
    match (has(normalized), has(standardized), found.is_impact) {
        (true, _, false) => ("Apparent sound reduction R', dB", normalized),
        (true, _, true) => ("Normalized impact level L'n, dB", normalized),
        (_, true, false) => ("Standardized level difference DnT, dB", standardized),
        (_, true, true) => ("Standardized impact level L'nT, dB", standardized),
        (_, _, false) => ("Level difference D, dB", |band| band.difference_db),
        (_, _, true) => ("Impact level, dB", |band| band.corrected_db),
    }
}

/// Ends of an axis in steps of 5 dB that holds these.
fn range_db(values: impl Iterator<Item = f64>) -> (f64, f64) {
    let (low, high) = values
        .filter(|db| db.is_finite())
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), db| (low.min(db), high.max(db)));
    if high < low {
        return (0.0, 60.0);
    }
    (5.0 * ((low - 2.0) / 5.0).floor(), 5.0 * ((high + 2.0) / 5.0).ceil())
}

fn panel(
    found: &Isolation,
    (low, high): (f64, f64),
    (left, right): (f64, f64),
    (bottom, top): (f64, f64),
) -> Panel {
    let ends = |of: fn(f64, f64) -> f64, start: f64, edge: fn(&BandIsolation) -> f64| {
        found.bands.iter().map(edge).fold(start, of)
    };
    let from_hz = ends(f64::min, f64::INFINITY, |band| band.band.low_hz);
    let to_hz = ends(f64::max, 0.0, |band| band.band.high_hz);
    Panel {
        x: Axis {
            low: from_hz,
            high: to_hz,
            scale: Scale::Logarithmic,
            from_px: left,
            to_px: right,
        },
        y: Axis { low, high, scale: Scale::Linear, from_px: bottom, to_px: top },
    }
}

/// Grid lines at levels and at octaves, named as these are.
fn draw_grid(sheet: &Sheet<'_>, found: &Isolation, panel: &Panel) -> Result<(), Error> {
    let (left, right) = (panel.x.from_px, panel.x.to_px);
    let (bottom, top) = (panel.y.from_px, panel.y.to_px);
    for tick in ticks::linear(panel.y.low, panel.y.high, (bottom - top) / 46.0) {
        let y = panel.y.place(tick.value).floor() + 0.5;
        sheet.line(&[(left, y), (right, y)], theme::GRID, 1.0, 1.0)?;
    }
    let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
    let octaves = [31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16_000.0];
    let is_there = |hz: &&f64| found.bands.iter().any(|band| band.center_hz == **hz);
    for hz in octaves.iter().filter(is_there) {
        let x = panel.x.place(*hz).floor() + 0.5;
        sheet.line(&[(x, top), (x, bottom)], theme::GRID, 1.0, 1.0)?;
        let name = ticks::number(*hz, usize::from(hz.fract() != 0.0));
        sheet.text(x, bottom + 19.0, &name, look)?;
    }
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    sheet.text(0.5 * (left + right), bottom + 42.0, "Middle of the band, Hz", look)
}

/// A curve with a mark at each band; it is broken where a band has no value.
fn draw_curve(
    sheet: &Sheet<'_>,
    panel: &Panel,
    number: usize,
    points: &[(f64, Option<f64>)],
) -> Result<(), Error> {
    let colour = theme::category(number);
    for run in points.split(|(_, db)| db.is_none()) {
        let line: Vec<(f64, f64)> =
            run.iter().filter_map(|(hz, db)| Some(panel.place(*hz, (*db)?))).collect();
        sheet.line(&line, colour, 1.0, 1.8)?;
        for (x, y) in line {
            sheet.mark(x, y, 3.6, colour, true, Mark::of(number))?;
        }
    }
    Ok(())
}

fn draw_levels(
    sheet: &Sheet<'_>,
    figure: &IsolationFigure<'_>,
    across: (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    type Of = fn(&BandIsolation) -> Option<f64>;
    let curves: [Of; 3] =
        [|band| band.source_db, |band| Some(band.receiver_db), |band| band.background_db];
    let bands = &figure.found.bands;
    let all = curves.iter().flat_map(|of| bands.iter().filter_map(of));
    let panel = panel(figure.found, range_db(all), across, along);
    draw_grid(sheet, figure.found, &panel)?;
    for (n, of) in curves.iter().enumerate() {
        let points: Vec<(f64, Option<f64>)> =
            bands.iter().map(|band| (band.band.center_hz, of(band))).collect();
        draw_curve(sheet, &panel, n, &points)?;
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_frame(sheet, &format!("Level, dB {}", figure.reference.words()))
}

fn draw_rated(
    sheet: &Sheet<'_>,
    figure: &IsolationFigure<'_>,
    across: (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    let found = figure.found;
    let (title, of) = rated(found);
    let values: Vec<(f64, Option<Measured>)> =
        found.bands.iter().map(|band| (band.band.center_hz, of(band))).collect();
    let curve: &[(f64, f64)] = found.rating.as_ref().map_or(&[], |rating| &rating.curve);
    let all = values.iter().filter_map(|(_, value)| Some((*value)?.value));
    let panel = panel(found, range_db(all.chain(curve.iter().map(|(_, db)| *db))), across, along);
    draw_grid(sheet, found, &panel)?;
    // Between the curve and what falls short of it; for impacts, what exceeds it.
    let near = |hz: f64, at: f64| (hz / at - 1.0).abs() < 0.06;
    let short = |band: &BandIsolation| {
        let (_, wanted) = curve.iter().find(|(at, _)| near(*at, band.band.center_hz))?;
        let value = of(band)?.value;
        let is_short = if found.is_impact { value > *wanted } else { value < *wanted };
        is_short.then_some((value, *wanted))
    };
    for band in &found.bands {
        if let Some((value, wanted)) = short(band) {
            let low = panel.place(band.band.low_hz, value);
            let high = panel.place(band.band.high_hz, wanted);
            let corners = [(low.0, low.1), (high.0, low.1), (high.0, high.1), (low.0, high.1)];
            sheet.shape(&corners, theme::TONE, 0.22)?;
        }
    }
    let line: Vec<(f64, f64)> = curve.iter().map(|(hz, db)| panel.place(*hz, *db)).collect();
    sheet.dashed(&line, theme::TONE, 1.8)?;
    for (hz, value) in &values {
        let Some(value) = value.filter(|value| value.u.is_finite()) else { continue };
        let (x, low) = panel.place(*hz, value.value - 2.0 * value.u);
        let (_, high) = panel.place(*hz, value.value + 2.0 * value.u);
        sheet.line(&[(x, low), (x, high)], theme::INK, 1.0, 1.3)?;
    }
    let points: Vec<(f64, Option<f64>)> =
        values.iter().map(|(hz, value)| (*hz, value.map(|value| value.value))).collect();
    draw_curve(sheet, &panel, 3, &points)?;
    // Limits, as the background is too near: hollow.
    for (band, (hz, value)) in found.bands.iter().zip(&values) {
        let is_limit = band.correction == Some(tonemap_core::bands::Correction::Limited);
        if let Some(value) = value.filter(|_| is_limit) {
            let (x, y) = panel.place(*hz, value.value);
            sheet.mark(x, y, 4.2, theme::category(3), false, Mark::of(3))?;
        }
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_frame(sheet, title)
}
