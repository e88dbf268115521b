//! The waterfall: spectra one behind the other, the earliest at the back.

use tonemap_core::Finding;
use tonemap_core::spectrogram::{FrequencyAxis, Spectrogram};
use tonemap_core::units::{LevelReference, db_from_power};

use crate::error::Error;
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX};
use crate::panel::{self, Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// A spectrogram to be drawn as stacked spectra, and what stands around it.
#[derive(Debug, Clone, Copy)]
pub struct WaterfallFigure<'a> {
    /// Its cells: a spectrum for each column.
    pub spectrogram: &'a Spectrogram,
    /// Time of the first sample of its span in seconds.
    pub start_s: f64,
    /// What levels refer to.
    pub reference: LevelReference,
    /// Levels at the foot and at the full height of a spectrum, in dB.
    pub range_db: (f64, f64),
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
    /// Frequency of A4 in Hz, for the scale of notes.
    pub reference_hz: f64,
}

const TOP_PX: f64 = 78.0;
/// Space at the right, for times.
const RIGHT_PX: f64 = 84.0;
/// Share of the height that a spectrum may rise, and of the width by which the last is shifted
/// against the first.
const RISE: f64 = 0.34;
const SHIFT: f64 = 0.10;
/// Spectra, at least this many pixels apart.
const MOST_SPECTRA: usize = 64;
const LEAST_APART_PX: f64 = 6.0;

/// Spectra and points of each that fill a figure of a size.
#[must_use]
pub fn waterfall_cells(size: Size) -> (usize, usize) {
    let height = f64::from(size.height) - 134.0 - TOP_PX;
    let width = (f64::from(size.width) - LEFT_PX - RIGHT_PX) * (1.0 - SHIFT);
    let spectra = ((height * (1.0 - RISE) / LEAST_APART_PX) as usize).clamp(8, MOST_SPECTRA);
    (spectra, width.max(8.0) as usize)
}

/// Draws a waterfall.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn waterfall_figure(figure: &WaterfallFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, figure.title, title)?;
        let stack = Stack::new(figure, size, notes.len());
        stack.draw_floor(sheet)?;
        for column in spectra(figure) {
            stack.draw_spectrum(sheet, figure, column)?;
        }
        let front = stack.panel(1.0);
        front.draw_x_scale(sheet, "Frequency, Hz")?;
        stack.panel(0.0).draw_note_scale(sheet, figure.reference_hz)?;
        stack.draw_level_scale(sheet, figure)?;
        stack.draw_times(sheet, figure)?;
        notes::draw(sheet, front.y.from_px + 64.0, &notes)
    })
}

/// The columns that are shown: those whose frames lie in the span as a whole, if there are any, so
/// that the cut at its ends does not look like sound.
fn spectra(figure: &WaterfallFigure<'_>) -> std::ops::Range<usize> {
    let plan = &figure.spectrogram.plan;
    match plan.whole_columns() {
        few if few.len() < 2 => 0..plan.columns,
        whole => whole,
    }
}

/// Times of the first and last spectrum in seconds from the start of the span.
fn times_s(figure: &WaterfallFigure<'_>) -> (f64, f64) {
    let (plan, spectra) = (&figure.spectrogram.plan, spectra(figure));
    (plan.time_s(spectra.start), plan.time_s(spectra.end - 1))
}

/// Where spectra stand: the first at the back, above and to the right.
struct Stack {
    frequency: Axis,
    level: Axis,
    /// How far the back is shifted to the right and up, in pixels.
    shift_px: f64,
    depth_px: f64,
}

impl Stack {
    fn new(figure: &WaterfallFigure<'_>, size: Size, lines_below: usize) -> Self {
        let plan = &figure.spectrogram.plan;
        let (low_hz, high_hz) = (plan.edges_hz[0], plan.edges_hz[plan.rows()]);
        let width = f64::from(size.width) - LEFT_PX - RIGHT_PX;
        let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64;
        let height = bottom - TOP_PX;
        Self {
            frequency: Axis {
                low: low_hz,
                high: high_hz,
                scale: match plan.axis {
                    FrequencyAxis::Linear => Scale::Linear,
                    FrequencyAxis::Logarithmic => Scale::Logarithmic,
                    other => Scale::Frequency(other),
                },
                from_px: LEFT_PX,
                to_px: LEFT_PX + width * (1.0 - SHIFT),
            },
            level: Axis {
                low: figure.range_db.0,
                high: figure.range_db.1,
                scale: Scale::Linear,
                from_px: bottom,
                to_px: bottom - RISE * height,
            },
            shift_px: SHIFT * width,
            depth_px: (1.0 - RISE) * height,
        }
    }

    /// The panel of a spectrum: 0 is the back, 1 the front.
    fn panel(&self, place: f64) -> Panel {
        let (right, up) = ((1.0 - place) * self.shift_px, (1.0 - place) * self.depth_px);
        let (mut x, mut y) = (self.frequency, self.level);
        x.from_px += right;
        x.to_px += right;
        y.from_px -= up;
        y.to_px -= up;
        Panel { x, y }
    }

    /// How far to the front a time in seconds from the start of the span stands.
    fn place_of(figure: &WaterfallFigure<'_>, time_s: f64) -> f64 {
        let (first, last) = times_s(figure);
        if last > first { (time_s - first) / (last - first) } else { 1.0 }
    }

    /// The ground that spectra stand on, with a line for each labelled frequency.
    fn draw_floor(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        let (back, front) = (self.panel(0.0), self.panel(1.0));
        for hz in back.x_values() {
            let line = [back.place(hz, back.y.low), front.place(hz, front.y.low)];
            sheet.line(&line, theme::GRID, 1.0, 1.0)?;
        }
        let corners = [
            (back.x.from_px, back.y.from_px),
            (back.x.to_px, back.y.from_px),
            (front.x.to_px, front.y.from_px),
            (front.x.from_px, front.y.from_px),
            (back.x.from_px, back.y.from_px),
        ];
        sheet.line(&corners, theme::PALE_INK, 1.0, 1.0)
    }

    fn draw_spectrum(
        &self,
        sheet: &Sheet<'_>,
        figure: &WaterfallFigure<'_>,
        column: usize,
    ) -> Result<(), Error> {
        let spectrogram = figure.spectrogram;
        let plan = &spectrogram.plan;
        let panel = self.panel(Self::place_of(figure, plan.time_s(column)));
        let offset_db = figure.reference.full_scale_db();
        let level = |power: &f32| db_from_power(f64::from(*power).max(1e-30)) + offset_db;
        let powers = spectrogram.column(column).iter().zip(plan.row_hz());
        let points = panel::without_stairs(powers.map(|(power, hz)| panel.place(hz, level(power))));
        // What stands in front hides what is behind.
        let mut outline = vec![(panel.x.from_px, panel.y.from_px)];
        outline.extend(&points);
        outline.push((panel.x.to_px, panel.y.from_px));
        sheet.shape(&outline, theme::PAPER, 0.88)?;
        sheet.line(&points, theme::CURVE, 1.0, 1.1)
    }

    /// The levels of the front spectrum, at the left.
    fn draw_level_scale(
        &self,
        sheet: &Sheet<'_>,
        figure: &WaterfallFigure<'_>,
    ) -> Result<(), Error> {
        let front = self.panel(1.0);
        let (left, bottom, top) = (front.x.from_px, front.y.from_px, front.y.to_px);
        sheet.line(&[(left, bottom), (left, top)], theme::INK, 1.0, 1.0)?;
        front.draw_y_scale(sheet)?;
        front.draw_title(sheet, &format!("Level, dB {}", figure.reference.words()))
    }

    /// Times of the spectra, at the right.
    fn draw_times(&self, sheet: &Sheet<'_>, figure: &WaterfallFigure<'_>) -> Result<(), Error> {
        let (first, last) = times_s(figure);
        let look = Type::new(theme::TICK_PX, theme::INK);
        let (from, to) = (figure.start_s + first, figure.start_s + last);
        for tick in ticks::linear(from, to, self.depth_px / 52.0) {
            let panel = self.panel(Self::place_of(figure, tick.value - figure.start_s));
            let (x, y) = (panel.x.to_px, panel.y.from_px);
            sheet.line(&[(x, y), (x + 6.0, y)], theme::INK, 1.0, 1.0)?;
            sheet.text(x + 10.0, y + 4.5, &tick.label, look)?;
        }
        let middle = self.panel(0.5);
        let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Right);
        let (x, y) = (middle.x.to_px + RIGHT_PX + 0.5 * self.shift_px, middle.y.from_px);
        sheet.text(x - 10.0, y, "Time, s", look)
    }
}
