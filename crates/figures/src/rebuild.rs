//! A sound that was made again, drawn: its partials before and after, over time and in level.

use tonemap_core::partials::{PartialTrack, TrackPoint};
use tonemap_core::rebuild::MadeTrack;

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Sheet, Size};
use crate::theme;

/// Between the panels above, with the scale of the second, and between these and the one below.
const BETWEEN_PX: f64 = 72.0;
const UNDER_PX: f64 = 62.0;
/// Share of the height of the panels above.
const ABOVE: f64 = 0.58;
/// Levels reach so far below the greatest, in dB.
const DEEPEST_DB: f64 = 90.0;

/// A sound that was made again, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct RebuildFigure<'a> {
    /// Its tracks as they were.
    pub before: &'a [PartialTrack],
    /// Its tracks as they were made.
    pub after: &'a [MadeTrack],
    /// The words around it.
    pub words: Words<'a>,
}

/// A track with the times of its points.
struct Line {
    points: Vec<(f64, TrackPoint)>,
    is_removed: bool,
}

impl Line {
    /// The frequency that it has where it is loudest, and its level there.
    fn loudest(&self) -> Option<(f64, f64)> {
        let points = self.points.iter().map(|(_, point)| point);
        let loudest = points.max_by(|a, b| a.amplitude.total_cmp(&b.amplitude))?;
        Some((loudest.frequency_hz, loudest.level_db()))
    }
}

/// Draws the partials over time before and after, the fainter the paler, with what was removed in
/// grey, and their highest levels over frequency.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn rebuild_figure(figure: &RebuildFigure<'_>, size: Size) -> Result<Figure, Error> {
    let timed = |track: &PartialTrack| {
        let at =
            |(n, point): (usize, &TrackPoint)| (track.start_s + n as f64 * track.hop_s, *point);
        Line { points: track.points.iter().enumerate().map(at).collect(), is_removed: false }
    };
    let mut before: Vec<Line> = figure.before.iter().map(timed).collect();
    let made =
        |track: &MadeTrack| Line { points: track.points.clone(), is_removed: track.is_removed };
    let after: Vec<Line> = figure.after.iter().map(made).collect();
    for (before, after) in before.iter_mut().zip(&after) {
        before.is_removed = after.is_removed;
    }
    let kept: Vec<Line> = after.into_iter().filter(|line| !line.is_removed).collect();
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let under = (TOP_PX + ABOVE * (bottom - TOP_PX)).floor();
        let middle = 0.5 * (left + right);
        let all = || before.iter().chain(&kept);
        let frequencies = || all().flat_map(|line| &line.points).map(|(_, p)| p.frequency_hz);
        let low = 0.85 * frequencies().fold(20_000.0, f64::min);
        let high = (1.15 * frequencies().fold(0.0, f64::max)).max(2.0 * low);
        let highest = all().filter_map(Line::loudest).map(|(_, db)| db).fold(-400.0, f64::max);
        let high_db = 10.0 * ((highest + 3.0) / 10.0).ceil();
        let level = Level { low_db: high_db - DEEPEST_DB, high_db };
        let halves = [
            (&before, (left, middle - 0.5 * BETWEEN_PX), "Frequency, Hz"),
            (&kept, (middle + 0.5 * BETWEEN_PX, right), ""),
        ];
        for (lines, (from_px, to_px), title) in halves {
            let times = || lines.iter().flat_map(|line| &line.points).map(|(t, _)| *t);
            let end_s = times().fold(0.1, f64::max);
            let panel = Panel {
                x: Axis { low: 0.0, high: end_s, scale: Scale::Linear, from_px, to_px },
                y: Axis { low, high, scale: Scale::Logarithmic, from_px: under, to_px: TOP_PX },
            };
            panel.draw_grid(sheet)?;
            for is_removed in [true, false] {
                for line in lines.iter().filter(|line| line.is_removed == is_removed) {
                    draw_line(sheet, line, &panel, level)?;
                }
            }
            panel.draw_frame(sheet, title)?;
            panel.draw_x_scale(sheet, "Time, s")?;
        }
        let panel = Panel {
            x: Axis { low, high, scale: Scale::Logarithmic, from_px: left, to_px: right },
            y: Axis::linear((level.low_db, level.high_db), (bottom, under + UNDER_PX)),
        };
        panel.draw_grid(sheet)?;
        for (lines, colour, aside_px) in
            [(&before, theme::PALE_INK, -1.2), (&kept, theme::CURVE, 1.2)]
        {
            for (hz, db) in lines.iter().filter_map(Line::loudest) {
                let (x, y) = panel.place(hz, db.max(level.low_db));
                let stem = [(x + aside_px, bottom), (x + aside_px, y)];
                sheet.line(&stem, colour, 0.9, 2.0)?;
            }
        }
        panel.draw_frame(sheet, "Highest level, dB re full scale")?;
        panel.draw_x_scale(sheet, "Frequency, Hz")?;
        let entries = [
            ("before, left", Sign::Line(theme::PALE_INK)),
            ("after, right", Sign::Line(theme::CURVE)),
        ];
        legend::draw(sheet, right, &entries)
    })
}

/// The levels that are drawn, from the palest to the darkest.
#[derive(Clone, Copy)]
struct Level {
    low_db: f64,
    high_db: f64,
}

/// A track over time, in pieces each as dark as it is loud.
fn draw_line(sheet: &Sheet<'_>, line: &Line, panel: &Panel, level: Level) -> Result<(), Error> {
    const PIECES: usize = 60;
    const PALEST: f64 = 0.08;
    let step = line.points.len().div_ceil(PIECES).max(1);
    let mut from = 0;
    while from + 1 < line.points.len() {
        let piece = &line.points[from..(from + step + 1).min(line.points.len())];
        let db = piece.iter().map(|(_, p)| p.level_db()).fold(f64::NEG_INFINITY, f64::max);
        from += step;
        let share = (db - level.low_db) / (level.high_db - level.low_db);
        if share <= 0.0 {
            continue;
        }
        let points: Vec<(f64, f64)> =
            piece.iter().map(|(t, p)| panel.place(*t, p.frequency_hz)).collect();
        let (colour, alpha) = if line.is_removed {
            (theme::PALE_INK, 0.35)
        } else {
            (theme::CURVE, PALEST + (1.0 - PALEST) * share.min(1.0))
        };
        sheet.line(&points, colour, alpha, 1.8)?;
    }
    Ok(())
}
