//! A transfer function drawn: coherence, magnitude and phase over one frequency axis.

use tonemap_core::transfer::Transfer;

use crate::error::Error;
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

        let magnitudes = || curve.magnitude_db.iter().copied();
        let magnitude = panel(range_db(magnitudes()), (of_magnitude, of_coherence + GAP_PX));
        magnitude.draw_grid(sheet)?;
        let beside = |sign: f64| {
            let both = magnitudes().zip(&curve.magnitude_db_u);
            both.map(move |(db, u)| Some(db? + sign * 2.0 * (*u)?))
        };
        let upper = lines(&curve.frequency_hz, beside(1.0), &magnitude);
        let lower = lines(&curve.frequency_hz, beside(-1.0), &magnitude);
        for (upper, lower) in upper.iter().zip(&lower) {
            let area: Vec<(f64, f64)> = upper.iter().chain(lower.iter().rev()).copied().collect();
            sheet.shape(&area, theme::CURVE, 0.18)?;
        }
        for line in lines(&curve.frequency_hz, magnitudes(), &magnitude) {
            sheet.line(&line, theme::CURVE, 1.0, 1.6)?;
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
