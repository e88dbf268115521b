//! The fundamental over time with its notes, and what speaks for it at one instant.

use tonemap_core::Finding;
use tonemap_core::pitch::{Evidence, PitchNote};
use tonemap_core::units::Note;

use crate::colours::ColourMap;
use crate::error::Error;
use crate::marks::{self, Marks};
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_WITH_BAR_PX, TOP_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::spectrogram::{self, ColourBar, DrawnSpectrogram, SpectrogramLayout};
use crate::theme;
use crate::ticks;

/// A track of the fundamental to be drawn, and what stands around it.
#[derive(Debug, Clone, Copy)]
pub struct PitchFigure<'a> {
    /// The spectrogram behind it with the levels of its first and last colour and the colours, on a
    /// logarithmic axis; `None` for the track alone.
    pub background: Option<(DrawnSpectrogram<'a>, (f64, f64), ColourMap)>,
    /// The track, and what else is overlaid.
    pub marks: Marks<'a>,
    /// The notes.
    pub notes_found: &'a [PitchNote],
    /// First and last time in seconds.
    pub span_s: (f64, f64),
    /// Lowest and highest frequency in Hz.
    pub range_hz: (f64, f64),
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
}

/// Cells of a spectrogram that fills the background of a figure of a size.
#[must_use]
pub fn pitch_cells(size: Size) -> (usize, usize) {
    spectrogram::spectrogram_cells(size, SpectrogramLayout { count: 1, ..Default::default() })
}

/// Draws a track.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn pitch_figure(figure: &PitchFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, figure.title, title)?;
        let bottom = (f64::from(size.height) - 66.0 - NOTES_LINE_PX * notes.len() as f64).floor();
        let panel = Panel {
            x: Axis {
                low: figure.span_s.0,
                high: figure.span_s.1,
                scale: Scale::Linear,
                from_px: LEFT_PX,
                to_px: (f64::from(size.width) - RIGHT_WITH_BAR_PX).floor(),
            },
            y: Axis {
                low: figure.range_hz.0,
                high: figure.range_hz.1,
                scale: Scale::Logarithmic,
                from_px: bottom,
                to_px: TOP_PX,
            },
        };
        match &figure.background {
            Some((drawn, range_db, colours)) => {
                sheet.picture(spectrogram::picture(drawn, *range_db, *colours, &panel))?;
                panel.draw_y_scale(sheet)?;
                let (colours, range_db) = (*colours, *range_db);
                let bar = ColourBar { colours, range_db, reference: drawn.reference };
                spectrogram::draw_colour_bar(sheet, &bar, (TOP_PX, bottom), panel.x.to_px)?;
            }
            None => panel.draw_grid(sheet)?,
        }
        panel.draw_frame(sheet, "Frequency, Hz")?;
        draw_notes(sheet, &panel, figure)?;
        marks::draw(sheet, &panel, &figure.marks)?;
        spectrogram::draw_note_scale(sheet, &panel, panel.x.to_px, figure.reference_hz)?;
        let entries = marks::legend_entries(&[figure.marks]);
        crate::legend::draw(sheet, panel.x.to_px, &entries)?;
        panel.draw_x_scale(sheet, "Time, s")?;
        notes::draw(sheet, bottom + 64.0, &notes)
    })
}

/// Notes as bars at their place in the scale, named, with their cents.
fn draw_notes(sheet: &Sheet<'_>, panel: &Panel, figure: &PitchFigure<'_>) -> Result<(), Error> {
    let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
    let mut last_right = f64::NEG_INFINITY;
    for note in figure.notes_found {
        let (from, to) = (panel.x.place_within(note.start_s), panel.x.place_within(note.end_s));
        let in_tune = note.note.frequency_hz(figure.reference_hz);
        if !panel.y.contains(in_tune) || !panel.y.contains(note.f0_hz) {
            continue;
        }
        // A quarter of a semitone to either side of the note in tune.
        let (low, high) = (panel.y.place(in_tune * 0.985_663), panel.y.place(in_tune * 1.014_545));
        let bar = [(from, low), (to, low), (to, high), (from, high)];
        let alpha = if figure.background.is_some() { 0.28 } else { 0.9 };
        sheet.shape(&bar, theme::GRID, alpha)?;
        let sign = if note.cents < 0.0 { "" } else { "+" };
        let label = format!("{} {sign}{}", note.note, ticks::number(note.cents, 1));
        let half = look.width(&label) / 2.0 + 4.0;
        let middle = f64::midpoint(from, to).clamp(panel.x.from_px + half, panel.x.to_px - half);
        if middle - half < last_right {
            continue;
        }
        last_right = middle + half;
        let y = high - 8.0;
        let plate = [
            (middle - half, y - 12.0),
            (middle + half, y - 12.0),
            (middle + half, y + 4.0),
            (middle - half, y + 4.0),
        ];
        sheet.shape(&plate, theme::PAPER, 0.85)?;
        sheet.text(middle, y, &label, look)?;
    }
    Ok(())
}

/// What speaks for a fundamental, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct EvidenceFigure<'a> {
    /// What was laid open.
    pub evidence: &'a Evidence,
    /// The fundamental expected in Hz, if one is.
    pub expected_hz: Option<f64>,
    /// Unit of its levels: "dB re full scale".
    pub level_unit: &'a str,
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
}

/// Draws what speaks for a fundamental: the spectrum with the series that won, the correlation with
/// itself, and the rivals.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn evidence_figure(figure: &EvidenceFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, &[], size);
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, figure.title, title)?;
        let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * notes.len() as f64;
        let right = f64::from(size.width) - notes::RIGHT_PX;
        let split = (TOP_PX + 0.56 * (bottom - TOP_PX)).floor();
        draw_series(sheet, figure, (LEFT_PX, right), (TOP_PX + 8.0, split - 62.0))?;
        let middle = LEFT_PX + 0.52 * (right - LEFT_PX);
        draw_correlation(sheet, figure, (LEFT_PX, middle), (split, bottom))?;
        draw_rivals(sheet, figure, (middle + 60.0, right), (split, bottom))?;
        notes::draw(sheet, bottom + 64.0, &notes)
    })
}

/// The spectrum, the noise floor, and the places of the harmonics with those that are there.
fn draw_series(
    sheet: &Sheet<'_>,
    figure: &EvidenceFigure<'_>,
    (left, right): (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let evidence = figure.evidence;
    let best = evidence.readings.first();
    let last_hz = evidence.frequency_hz.last().copied().unwrap_or(1.0);
    let high_hz = best.map_or(last_hz, |reading| (21.0 * reading.f0_hz).min(last_hz));
    let greatest = evidence.level_db.iter().copied().fold(-300.0, f64::max);
    let high_db = (greatest / 10.0).ceil() * 10.0 + 12.0;
    let lowest = evidence.floor_db.iter().copied().fold(f64::INFINITY, f64::min);
    let low_db = ((lowest - 10.0).clamp(greatest - 110.0, greatest - 50.0) / 10.0).floor() * 10.0;
    let panel = Panel {
        x: Axis::linear((0.0, high_hz), (left, right)),
        y: Axis::linear((low_db, high_db), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let curve = |levels: &[f64]| -> Vec<(f64, f64)> {
        let points = evidence.frequency_hz.iter().zip(levels);
        let inside = points.filter(|(hz, _)| **hz <= high_hz);
        inside.map(|(hz, level)| panel.place(*hz, *level)).collect()
    };
    sheet.dashed(&curve(&evidence.floor_db), theme::ESTIMATE, 1.2)?;
    sheet.line(&curve(&evidence.level_db), theme::CURVE, 1.0, 1.6)?;
    if let Some(best) = best {
        let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
        for number in 1..=20 {
            let hz = best.harmonic_hz(number);
            if hz > high_hz {
                break;
            }
            let x = panel.x.place(hz);
            let is_there = best.harmonics >> (number - 1) & 1 == 1;
            let colour = if is_there { theme::TONE } else { theme::PALE_INK };
            sheet.dashed(&[(x, top + 20.0), (x, bottom)], colour, 1.0)?;
            sheet.text(x, top + 13.0, &number.to_string(), look)?;
            if is_there {
                let near = evidence.frequency_hz.iter().zip(&evidence.level_db);
                let reach = 1.5 / evidence.frame_s;
                let level = near
                    .filter(|(bin, _)| (**bin - hz).abs() < reach)
                    .map(|(_, level)| *level)
                    .fold(f64::NEG_INFINITY, f64::max);
                let (x, y) = panel.place(hz, level);
                sheet.mark(x, y, 4.5, theme::TONE, true, Mark::Disc)?;
            }
        }
    }
    panel.draw_frame(sheet, &format!("Level, {}", figure.level_unit))?;
    panel.draw_x_scale(sheet, "Frequency, Hz")
}

/// The correlation with itself over the lag, with the period found and the one expected.
fn draw_correlation(
    sheet: &Sheet<'_>,
    figure: &EvidenceFigure<'_>,
    (left, right): (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let evidence = figure.evidence;
    let period_s = evidence.readings.first().map(|reading| 1.0 / reading.f0_hz);
    let longest_s = evidence.lag_s.last().copied().unwrap_or(1.0);
    let shown_s = period_s.map_or(longest_s, |period| (3.4 * period).min(longest_s));
    let panel = Panel {
        x: Axis::linear((0.0, 1e3 * shown_s), (left, right)),
        y: Axis::linear((-1.0, 1.0), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let points = evidence.lag_s.iter().zip(&evidence.correlation);
    let curve: Vec<(f64, f64)> = points
        .filter(|(lag, _)| **lag <= shown_s)
        .map(|(lag, r)| panel.place(1e3 * lag, *r))
        .collect();
    sheet.line(&curve, theme::CURVE, 1.0, 1.6)?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let expected_s = figure.expected_hz.map(|hz| 1.0 / hz);
    for (lag, words, colour) in
        [(expected_s, "expected", theme::ESTIMATE), (period_s, "found", theme::TONE)]
    {
        let Some(lag) = lag.filter(|lag| *lag <= shown_s) else { continue };
        let x = panel.x.place(1e3 * lag);
        sheet.dashed(&[(x, top), (x, bottom)], colour, 1.4)?;
        let y = if words == "found" { bottom - 8.0 } else { bottom - 24.0 };
        sheet.text(x + 5.0, y, &format!("{words} {} ms", ticks::number(1e3 * lag, 3)), look)?;
    }
    panel.draw_frame(sheet, "Correlation")?;
    panel.draw_x_scale(sheet, "Lag, ms")
}

/// The readings with what speaks for each.
fn draw_rivals(
    sheet: &Sheet<'_>,
    figure: &EvidenceFigure<'_>,
    (left, right): (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let readings = &figure.evidence.readings;
    let head = Type::new(theme::AXIS_PX, theme::INK).bold();
    sheet.text(left, top + 4.0, "Readings and what speaks for each, nats", head)?;
    let greatest = readings.first().map_or(1.0, |reading| reading.evidence.max(1.0));
    let look = Type::new(theme::TICK_PX, theme::INK);
    let pale = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let row = ((bottom - top - 24.0) / 5.0).min(48.0);
    for (n, reading) in readings.iter().enumerate() {
        let y = top + 34.0 + row * n as f64;
        let note = Note::nearest(reading.f0_hz, figure.reference_hz);
        let name = note.map_or(String::new(), |(note, cents)| {
            let sign = if cents < 0.0 { "" } else { "+" };
            format!("{note} {sign}{}", ticks::number(cents, 1))
        });
        sheet.text(left, y, &format!("{} Hz", ticks::number(reading.f0_hz, 2)), look)?;
        sheet.text(left + 96.0, y, &name, pale)?;
        let bar_left = left + 178.0;
        let length = (right - 62.0 - bar_left) * (reading.evidence / greatest).max(0.0);
        let corners = [
            (bar_left, y - 11.0),
            (bar_left + length, y - 11.0),
            (bar_left + length, y + 2.0),
            (bar_left, y + 2.0),
        ];
        let colour = if n == 0 { theme::TONE } else { theme::SOUNDING };
        sheet.shape(&corners, colour, 1.0)?;
        let value = ticks::number(reading.evidence, 0);
        sheet.text(bar_left + length + 7.0, y, &value, look)?;
        let about = format!(
            "{} harmonics, {} % of the power, correlation {}",
            reading.harmonics.count_ones(),
            ticks::number(100.0 * reading.explained, 0),
            ticks::number(reading.periodicity, 2)
        );
        sheet.text(bar_left, y + 16.0, &about, pale)?;
    }
    Ok(())
}
