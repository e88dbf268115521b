//! A zoom around one frequency: level against cents, with what was expected and what is there.

use tonemap_core::spectrum::{Peak, Spectrum, Zoom};
use tonemap_core::units::{Note, cents_above, cents_between, db_from_power};
use tonemap_core::{Finding, Measured};

use crate::error::Error;
use crate::labels::{Frame, Skyline, Taken};
use crate::legend::{self, Sign};
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// One of the looks of a figure.
#[derive(Debug, Clone, Copy)]
pub struct DrawnLook<'a> {
    /// What it is called where there are several.
    pub name: &'a str,
    /// What was measured.
    pub spectrum: &'a Spectrum,
    /// The fine curve.
    pub zoom: &'a Zoom,
}

/// A zoom to be drawn, and what stands around it.
#[derive(Debug, Clone, Copy)]
pub struct NarrowFigure<'a> {
    /// The looks, at least one, all at the same frequencies.
    pub looks: &'a [DrawnLook<'a>],
    /// The frequency that was expected, in Hz.
    pub expected_hz: f64,
    /// Its note, if it was given as one.
    pub expected_note: Option<Note>,
    /// How far the look goes to either side, in cents.
    pub cents: f64,
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
}

const HEADROOM: f64 = 0.2;
const LONGEST_DB: f64 = 90.0;
const SHORTEST_DB: f64 = 30.0;

/// Draws a zoom.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn narrow_figure(figure: &NarrowFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let panel = panel(figure, size, notes.len());
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(panel.x.from_px, 32.0, figure.title, title)?;
        panel.draw_grid(sheet)?;
        let line = draw_expected(sheet, &panel, figure)?;
        let mut skyline = Skyline::new(&panel);
        for (n, look) in figure.looks.iter().enumerate() {
            let line: Vec<(f64, f64)> = points(figure, look)
                .map(|(cents, level)| panel.place(cents, level.max(panel.y.low)))
                .collect();
            skyline.raise(&line);
            if figure.looks.len() == 1 {
                let mut under = line.clone();
                under
                    .extend([(panel.x.to_px, panel.y.from_px), (panel.x.from_px, panel.y.from_px)]);
                sheet.shape(&under, theme::category(n), 0.13)?;
            }
            sheet.line(&line, theme::category(n), 1.0, 1.5)?;
        }
        draw_tones(sheet, &panel, figure, &skyline, line)?;
        draw_hertz(sheet, &panel, figure.expected_hz)?;
        let reference = figure.looks[0].spectrum.reference.words();
        panel.draw_frame(sheet, &format!("Level, dB {reference}"))?;
        panel.draw_x_scale(sheet, &format!("Cents from {}", expected(figure)))?;
        notes::draw(sheet, panel.y.from_px + 64.0, &notes)
    })
}

fn expected(figure: &NarrowFigure<'_>) -> String {
    let hz = ticks::number(figure.expected_hz, 3);
    figure.expected_note.map_or(format!("{hz} Hz"), |note| format!("{note}, {hz} Hz"))
}

/// Cents from what was expected, and levels.
fn points(figure: &NarrowFigure<'_>, look: &DrawnLook<'_>) -> impl Iterator<Item = (f64, f64)> {
    let (expected_hz, offset) = (figure.expected_hz, look.spectrum.reference.full_scale_db());
    look.zoom
        .frequency_hz
        .iter()
        .zip(&look.zoom.power)
        .map(move |(hz, power)| (cents_between(expected_hz, *hz), db_from_power(*power) + offset))
}

/// The tones of a look that lie within it.
fn tones<'a>(
    figure: &NarrowFigure<'_>,
    look: &DrawnLook<'a>,
) -> impl Iterator<Item = (f64, &'a Peak)> {
    let (expected_hz, reach) = (figure.expected_hz, figure.cents);
    let with_cents = move |peak: &'a Peak| (cents_between(expected_hz, peak.frequency_hz), peak);
    look.spectrum.peaks.iter().map(with_cents).filter(move |(cents, _)| cents.abs() <= reach)
}

fn panel(figure: &NarrowFigure<'_>, size: Size, lines_below: usize) -> Panel {
    let mut levels: Vec<f64> = figure
        .looks
        .iter()
        .flat_map(|look| points(figure, look))
        .map(|(_, level)| level)
        .filter(|level| level.is_finite())
        .collect();
    levels.sort_by(f64::total_cmp);
    let tones = figure.looks.iter().flat_map(|look| tones(figure, look));
    let highest = levels.last().copied().unwrap_or(0.0);
    let highest = tones.map(|(_, peak)| peak.level_db).fold(highest, f64::max);
    // The deepest valleys of noise need not be seen whole.
    let low = levels.get(levels.len() / 50).copied().unwrap_or(-SHORTEST_DB);
    let reach = (highest - low + 6.0).clamp(SHORTEST_DB, LONGEST_DB);
    let low = ((highest - reach) / 10.0).floor() * 10.0;
    Panel {
        x: Axis {
            low: -figure.cents,
            high: figure.cents,
            scale: Scale::Linear,
            from_px: LEFT_PX,
            to_px: f64::from(size.width) - RIGHT_PX,
        },
        y: Axis {
            low,
            high: low + (highest - low) / (1.0 - HEADROOM),
            scale: Scale::Linear,
            from_px: f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64,
            to_px: 78.0,
        },
    }
}

/// The line of what was expected, and the legend. Returns what no label may cover.
fn draw_expected(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &NarrowFigure<'_>,
) -> Result<Frame, Error> {
    let x = panel.x.place(0.0);
    sheet.dashed(&[(x, panel.y.from_px), (x, panel.y.to_px)], theme::ESTIMATE, 1.6)?;
    let words = format!("expected {}", expected(figure));
    let mut entries = vec![(words.as_str(), Sign::Dashes(theme::ESTIMATE))];
    if figure.looks.len() > 1 {
        entries.extend(legend::curves(figure.looks.iter().map(|look| look.name)));
    }
    legend::draw(sheet, panel.x.to_px, &entries)?;
    Ok(Frame { left: x - 2.0, right: x + 2.0, top: panel.y.to_px, bottom: panel.y.from_px })
}

fn draw_tones(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &NarrowFigure<'_>,
    skyline: &Skyline,
    expected: Frame,
) -> Result<(), Error> {
    let mut all: Vec<(usize, f64, &Peak)> = figure
        .looks
        .iter()
        .enumerate()
        .flat_map(|(n, look)| tones(figure, look).map(move |(cents, peak)| (n, cents, peak)))
        .collect();
    all.sort_by(|a, b| b.2.level_db.total_cmp(&a.2.level_db));
    let places: Vec<(f64, f64)> =
        all.iter().map(|(_, cents, peak)| panel.place(*cents, peak.level_db)).collect();
    let mut taken = Taken::new(&[expected], &places);
    for ((n, cents, peak), place) in all.iter().zip(&places) {
        let frequency = Measured::new(peak.frequency_hz, peak.frequency_hz_u).text(6);
        let cents = Measured::new(*cents, peak.cents_u).text(4);
        let sign = if cents.0.starts_with('-') { "" } else { "+" };
        let lines = [
            format!("{} ± {} Hz", frequency.0, frequency.1),
            format!("{sign}{} ± {} cents", cents.0.replace('-', "−"), cents.1),
        ];
        let colour = (figure.looks.len() > 1).then(|| theme::category(*n));
        taken.draw(sheet, panel, skyline, *place, &lines, colour)?;
    }
    for ((n, _, _), (x, y)) in all.iter().zip(&places) {
        let (colour, mark) = if figure.looks.len() > 1 {
            (theme::category(*n), Mark::of(*n))
        } else {
            (theme::TONE, Mark::Disc)
        };
        sheet.mark(*x, *y, 4.5, colour, true, mark)?;
    }
    Ok(())
}

/// The frequencies in Hz, on top.
fn draw_hertz(sheet: &Sheet<'_>, panel: &Panel, expected_hz: f64) -> Result<(), Error> {
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
    let hz = |cents: f64| cents_above(expected_hz, cents);
    let top = panel.y.to_px;
    for tick in ticks::linear(hz(panel.x.low), hz(panel.x.high), 8.0) {
        let x = panel.x.place(cents_between(expected_hz, tick.value));
        sheet.line(&[(x, top - 8.0), (x, top)], theme::PALE_INK, 1.0, 1.0)?;
        let label = format!("{} Hz", tick.label);
        let half = look.width(&label) / 2.0;
        let middle = x.clamp(panel.x.from_px + half, panel.x.to_px - half);
        sheet.text(middle, top - 12.0, &label, look)?;
    }
    Ok(())
}
