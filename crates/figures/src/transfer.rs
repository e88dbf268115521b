//! A transfer function drawn: coherence, magnitude and phase over one frequency axis.

use plotters::style::RGBColor;
use tonemap_core::spectrum::ResponseCurve;
use tonemap_core::transfer::{Transfer, TransferCurve};

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Sheet, Size};
use crate::theme;

/// Between panels.
const GAP_PX: f64 = 20.0;
/// Shares of the height of coherence and of magnitude.
const COHERENCE: f64 = 0.16;
const MAGNITUDE: f64 = 0.5;

/// A transfer function to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct TransferFigure<'a> {
    /// What was measured, with its curve.
    pub found: &'a Transfer,
    /// The curves of the positions of which it is the mean.
    pub positions: &'a [&'a TransferCurve],
    /// What it should be.
    pub target: Option<&'a ResponseCurve>,
    /// Coherence below which points were omitted.
    pub least_coherence: f64,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws the coherence with the limit below which points are omitted, the magnitude with ± 2 u, and
/// the phase; what is omitted is left blank.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn transfer_figure(figure: &TransferFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let height = bottom - TOP_PX - 2.0 * GAP_PX;
        let of_coherence = (TOP_PX + COHERENCE * height).floor();
        let of_magnitude = (of_coherence + GAP_PX + MAGNITUDE * height).floor();
        let curve = figure.found.curve.clone().unwrap_or_default();
        let low = curve.frequency_hz.iter().copied().find(|hz| *hz > 0.0).unwrap_or(20.0);
        let high = curve.frequency_hz.last().copied().unwrap_or(20_000.0).max(1.1 * low);
        let x = Axis { low, high, scale: Scale::Logarithmic, from_px: left, to_px: right };
        let panel = |y: (f64, f64), along: (f64, f64)| Panel { x, y: Axis::linear(y, along) };

        let coherence = panel((0.0, 1.0), (of_coherence, TOP_PX));
        coherence.draw_grid(sheet)?;
        let limit = coherence.y.place(figure.least_coherence);
        sheet.dashed(&[(left, limit), (right, limit)], theme::PALE_INK, 1.0)?;
        let shares = curve.coherence.iter().map(|share| Some(*share));
        for line in lines(&curve.frequency_hz, shares, &coherence) {
            sheet.line(&line, theme::ESTIMATE, 1.0, 1.2)?;
        }
        coherence.draw_frame(sheet, "Coherence")?;

        let of_target = |hz: &f64| figure.target.map(|target| target.level_db(*hz));
        let targets: Vec<Option<f64>> = curve.frequency_hz.iter().map(of_target).collect();
        let others = figure.positions.iter().flat_map(|of| &of.magnitude_db);
        let all = curve.magnitude_db.iter().chain(others).chain(&targets).copied();
        let magnitude = panel(range_db(all), (of_magnitude, of_coherence + GAP_PX));
        magnitude.draw_grid(sheet)?;
        for position in figure.positions {
            let levels = position.magnitude_db.iter().copied();
            for line in lines(&position.frequency_hz, levels, &magnitude) {
                sheet.line(&line, theme::PALE_INK, 0.6, 0.9)?;
            }
        }
        draw_levels(sheet, &curve, &magnitude, theme::CURVE)?;
        for line in lines(&curve.frequency_hz, targets.iter().copied(), &magnitude) {
            sheet.dashed(&line, theme::category(1), 1.4)?;
        }
        if figure.target.is_some() || !figure.positions.is_empty() {
            let mean = if figure.positions.is_empty() { "measured" } else { "mean" };
            let mut entries = vec![(mean, Sign::Line(theme::CURVE))];
            if !figure.positions.is_empty() {
                entries.push(("positions", Sign::Line(theme::PALE_INK)));
            }
            if figure.target.is_some() {
                entries.push(("target", Sign::Dashes(theme::category(1))));
            }
            legend::draw(sheet, right, &entries)?;
        }
        magnitude.draw_frame(sheet, "Magnitude, dB")?;

        let phase = panel((-180.0, 180.0), (bottom, of_magnitude + GAP_PX));
        phase.draw_grid(sheet)?;
        for line in lines(&curve.frequency_hz, unwrapped(&curve.phase_deg), &phase) {
            sheet.line(&line, theme::category(1), 1.0, 1.2)?;
        }
        phase.draw_frame(sheet, "Phase, °")?;
        phase.draw_x_scale(sheet, "Frequency, Hz")
    })
}

/// Draws the levels of a curve with ± 2 u.
fn draw_levels(
    sheet: &Sheet<'_>,
    curve: &TransferCurve,
    panel: &Panel,
    colour: RGBColor,
) -> Result<(), Error> {
    let levels = || curve.magnitude_db.iter().copied();
    let beside = |sign: f64| {
        let both = levels().zip(&curve.magnitude_db_u);
        both.map(move |(db, u)| Some(db? + sign * 2.0 * (*u)?))
    };
    let upper = lines(&curve.frequency_hz, beside(1.0), panel);
    let lower = lines(&curve.frequency_hz, beside(-1.0), panel);
    for (upper, lower) in upper.iter().zip(&lower) {
        let area: Vec<(f64, f64)> = upper.iter().chain(lower.iter().rev()).copied().collect();
        sheet.shape(&area, colour, 0.18)?;
    }
    for line in lines(&curve.frequency_hz, levels(), panel) {
        sheet.line(&line, colour, 1.0, 1.6)?;
    }
    Ok(())
}

/// Transfer functions to be drawn over each other.
#[derive(Debug, Clone, Copy)]
pub struct TransferOverlay<'a> {
    /// Their names and curves.
    pub curves: &'a [(&'a str, &'a TransferCurve)],
    /// Those behind the first less the first.
    pub differences: &'a [TransferCurve],
    /// The words around them.
    pub words: Words<'a>,
}

/// Draws the magnitudes of several transfer functions over each other, what each has more than the
/// first with ± 2 u, and their phases.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn transfer_overlay_figure<'a>(
    figure: &TransferOverlay<'a>,
    size: Size,
) -> Result<Figure, Error> {
    /// Shares of the height.
    const MAGNITUDE: f64 = 0.44;
    const DIFFERENCE: f64 = 0.28;
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let height = bottom - TOP_PX - 2.0 * GAP_PX;
        let of_magnitude = (TOP_PX + MAGNITUDE * height).floor();
        let of_difference = (of_magnitude + GAP_PX + DIFFERENCE * height).floor();
        let all = || figure.curves.iter().flat_map(|(_, curve)| &curve.frequency_hz).copied();
        let low = all().filter(|hz| *hz > 0.0).fold(20_000.0, f64::min);
        let high = all().fold(1.1 * low, f64::max);
        let x = Axis { low, high, scale: Scale::Logarithmic, from_px: left, to_px: right };
        let panel = |y: (f64, f64), along: (f64, f64)| Panel { x, y: Axis::linear(y, along) };

        let levels = figure.curves.iter().flat_map(|(_, curve)| &curve.magnitude_db).copied();
        let magnitude = panel(range_db(levels), (of_magnitude, TOP_PX));
        magnitude.draw_grid(sheet)?;
        for (n, (_, curve)) in figure.curves.iter().enumerate() {
            draw_levels(sheet, curve, &magnitude, theme::category(n))?;
        }
        magnitude.draw_frame(sheet, "Magnitude, dB")?;

        let more = figure.differences.iter().flat_map(|of| &of.magnitude_db).copied();
        let difference = panel(around_zero(more), (of_difference, of_magnitude + GAP_PX));
        difference.draw_grid(sheet)?;
        for (n, curve) in (1..).zip(figure.differences) {
            draw_levels(sheet, curve, &difference, theme::category(n))?;
        }
        difference.draw_frame(sheet, "Difference, dB")?;

        let phase = panel((-180.0, 180.0), (bottom, of_difference + GAP_PX));
        phase.draw_grid(sheet)?;
        for (n, (_, curve)) in figure.curves.iter().enumerate() {
            for line in lines(&curve.frequency_hz, unwrapped(&curve.phase_deg), &phase) {
                sheet.line(&line, theme::category(n), 1.0, 1.2)?;
            }
        }
        phase.draw_frame(sheet, "Phase, °")?;
        let sign = |(n, (name, _)): (usize, &(&'a str, _))| (*name, Sign::Line(theme::category(n)));
        let entries: Vec<(&str, Sign)> = figure.curves.iter().enumerate().map(sign).collect();
        legend::draw(sheet, right, &entries)?;
        phase.draw_x_scale(sheet, "Frequency, Hz")
    })
}

/// Ends of an axis of differences, alike on both sides of zero.
fn around_zero(values: impl Iterator<Item = Option<f64>>) -> (f64, f64) {
    const LEAST_DB: f64 = 1.0;
    const MOST_DB: f64 = 40.0;
    let most = values.flatten().map(f64::abs).fold(LEAST_DB, f64::max);
    let end = (1.1 * most).min(MOST_DB).ceil();
    (-end, end)
}

/// Phases with a gap where they turn over from one end to the other.
fn unwrapped(phases: &[Option<f64>]) -> impl Iterator<Item = Option<f64>> + '_ {
    let mut before: Option<f64> = None;
    phases.iter().map(move |phase| {
        let turns = phase.zip(before).is_some_and(|(now, before)| (now - before).abs() > 180.0);
        before = *phase;
        phase.filter(|_| !turns)
    })
}

/// Lowest and highest level of an axis, in steps of 10 dB.
fn range_db(levels: impl Iterator<Item = Option<f64>>) -> (f64, f64) {
    const STEP_DB: f64 = 10.0;
    const DEEPEST_DB: f64 = 80.0;
    let (low, high) = levels
        .flatten()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), db| (low.min(db), high.max(db)));
    if high < low {
        return (-40.0, 10.0);
    }
    let low = low.max(high - DEEPEST_DB);
    (STEP_DB * ((low - 2.0) / STEP_DB).floor(), STEP_DB * ((high + 2.0) / STEP_DB).ceil())
}

/// The lines of a curve in a panel, one for each stretch without a gap.
fn lines(
    frequencies_hz: &[f64],
    values: impl Iterator<Item = Option<f64>>,
    panel: &Panel,
) -> Vec<Vec<(f64, f64)>> {
    let mut all: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
    for (hz, value) in frequencies_hz.iter().zip(values) {
        match value {
            Some(value) if *hz > 0.0 => {
                let point = panel.place(*hz, value);
                if let Some(line) = all.last_mut() {
                    line.push(point);
                }
            }
            _ if all.last().is_some_and(|line| !line.is_empty()) => all.push(Vec::new()),
            _ => (),
        }
    }
    // A point alone is drawn as a short dash.
    for line in &mut all {
        if let [(x, y)] = line[..] {
            line.push((x + 1.0, y));
        }
    }
    all.retain(|line| !line.is_empty());
    all
}
