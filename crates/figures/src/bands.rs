//! Levels drawn: bands as bars with the weighted levels beside them, and the level over time.

use tonemap_core::bands::{BandLevel, Levels, Weighting};
use tonemap_core::units::LevelReference;

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words, elided};
use crate::panel::{Axis, Panel};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// Share of the height that the bars have.
const BARS_SHARE: f64 = 0.6;
/// Between the panels: room for the names of the bands.
const GAP_PX: f64 = 64.0;
/// Between the bands and the weighted levels, in widths of a bar.
const APART: f64 = 1.0;
/// A bar is at most so wide.
const WIDEST_PX: f64 = 48.0;
/// So many takes are named above the plot.
const MOST_NAMED: usize = 12;
/// Room behind the level over time, for percentiles.
const BEHIND_PX: f64 = 74.0;

/// Levels with the name of their take.
#[derive(Debug, Clone, Copy)]
pub struct DrawnLevels<'a> {
    /// Name of the take and channel.
    pub name: &'a str,
    /// What was measured.
    pub levels: &'a Levels,
}

/// Levels to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct BandsFigure<'a> {
    /// Those of each take; there must be one.
    pub levels: &'a [DrawnLevels<'a>],
    /// What they refer to.
    pub reference: LevelReference,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws a bar for each band and take with ± 2 u, the highest level over it and the background
/// before it; A, C and Z beside them; and the level over time with its percentiles.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn bands_figure(figure: &BandsFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let height = bottom - TOP_PX - GAP_PX;
        let middle = (TOP_PX + BARS_SHARE * height).floor();
        draw_bars(sheet, figure, (left, right), (middle, TOP_PX))?;
        draw_course(sheet, figure, (left, right - BEHIND_PX), (bottom, middle + GAP_PX))?;
        if figure.levels.len() > 1 {
            // Beside a title of two words; each name has a sign before it.
            let room = (right - left - 260.0) / figure.levels.len() as f64 - 58.0;
            let look = Type::new(theme::LABEL_PX, theme::INK);
            let name = |of: &DrawnLevels<'_>| elided(of.name, look, room.clamp(12.0, 180.0));
            let names: Vec<String> = figure.levels.iter().take(MOST_NAMED).map(name).collect();
            return legend::draw(sheet, right, &legend::curves(names.iter().map(String::as_str)));
        }
        let mut entries = vec![("highest level", Sign::Line(theme::PALE_INK))];
        if figure.levels[0].levels.bands.iter().any(|band| band.background_db.is_some()) {
            entries.push(("background", Sign::Line(theme::ESTIMATE)));
        }
        legend::draw(sheet, right, &entries)
    })
}

/// Bars in one group: the name below, and the level, its u and the highest level of each take.
struct Group {
    name: String,
    bars: Vec<Option<Bar>>,
}

#[derive(Clone, Copy)]
struct Bar {
    db: f64,
    u: f64,
    highest_db: Option<f64>,
    background_db: Option<f64>,
}

impl Bar {
    fn of_band(band: &BandLevel) -> Option<Self> {
        let level = band.own_db()?;
        Some(Self {
            db: level.value,
            u: level.u,
            highest_db: band.max_db,
            background_db: band.background_db,
        })
    }
}

fn groups(figure: &BandsFigure<'_>) -> (Vec<Group>, Vec<Group>) {
    let mut centers: Vec<f64> = (figure.levels.iter())
        .flat_map(|of| of.levels.bands.iter().map(|band| band.center_hz))
        .collect();
    centers.sort_by(f64::total_cmp);
    centers.dedup();
    let of_band = |center_hz: f64| {
        let bar = |of: &DrawnLevels<'_>| {
            let band = of.levels.bands.iter().find(|band| band.center_hz == center_hz);
            band.and_then(Bar::of_band)
        };
        Group { name: short(center_hz), bars: figure.levels.iter().map(bar).collect() }
    };
    let of_weighting = |weighting: Weighting| {
        let bar = |of: &DrawnLevels<'_>| {
            let found = of.levels.weighted.iter().find(|of| of.weighting == weighting)?;
            let level = found.leq_db?;
            let (db, u, highest_db) = (level.value, level.u, found.max_db);
            Some(Bar { db, u, highest_db, background_db: None })
        };
        let name = weighting.letter().to_string();
        Group { name, bars: figure.levels.iter().map(bar).collect() }
    };
    (centers.into_iter().map(of_band).collect(), Weighting::ALL.map(of_weighting).into())
}

/// The name of a band, as short as it is usual: 31.5, 1k, 12.5k.
fn short(hz: f64) -> String {
    let (value, suffix) = if hz >= 1000.0 { (hz / 1000.0, "k") } else { (hz, "") };
    format!("{value}{suffix}")
}

/// Lowest and highest level of an axis that holds these, in steps of 5 dB, with so much below.
fn range_db(levels: impl Iterator<Item = f64>, below_db: f64) -> (f64, f64) {
    /// What lies further below the highest is cut off.
    const DEEPEST_DB: f64 = 90.0;
    const STEP_DB: f64 = 5.0;
    let (low, high) = levels
        .filter(|db| db.is_finite())
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), db| (low.min(db), high.max(db)));
    if high < low {
        return (-100.0, 0.0);
    }
    let low = low.max(high - DEEPEST_DB);
    (STEP_DB * ((low - below_db) / STEP_DB).floor(), STEP_DB * ((high + 2.0) / STEP_DB).ceil())
}

fn draw_bars(
    sheet: &Sheet<'_>,
    figure: &BandsFigure<'_>,
    (left, right): (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    let (bands, totals) = groups(figure);
    let all = || bands.iter().chain(&totals).flat_map(|group| group.bars.iter().flatten());
    let (low, high) =
        range_db(all().flat_map(|bar| [bar.db, bar.highest_db.unwrap_or(bar.db)]), 8.0);
    let slots = bands.len() as f64 + totals.len() as f64 + APART;
    let slot = ((right - left) / slots).min(3.0 * WIDEST_PX);
    let y = Axis::linear((low, high), along);
    let panel = Panel { x: Axis::linear((0.0, 1.0), (left, right)), y };
    for value in ticks::linear(low, high, (along.0 - along.1) / 46.0) {
        let at = y.place(value.value).floor() + 0.5;
        sheet.line(&[(left, at), (right, at)], theme::GRID, 1.0, 1.0)?;
    }
    let totals_px = right - slot * totals.len() as f64;
    for (from, groups) in [(left, &bands), (totals_px, &totals)] {
        for (n, group) in groups.iter().enumerate() {
            draw_group(sheet, group, (from + n as f64 * slot, slot), y)?;
        }
        draw_names(sheet, groups, from, slot, along.0)?;
    }
    panel.draw_y_scale(sheet)?;
    let unit = format!("Level, dB {}", figure.reference.words());
    panel.draw_frame(sheet, &unit)?;
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    let of_bands_px = left + 0.5 * slot * bands.len() as f64;
    if !bands.is_empty() {
        sheet.text(of_bands_px, along.0 + 38.0, "Middle of the band, Hz", look)?;
    }
    let middle = totals_px + 0.5 * slot * totals.len() as f64;
    let words = elided("Weighted", look, slot * totals.len() as f64 + 20.0);
    sheet.text(middle, along.0 + 38.0, &words, look)
}

fn draw_group(
    sheet: &Sheet<'_>,
    group: &Group,
    (from, slot): (f64, f64),
    y: Axis,
) -> Result<(), Error> {
    let count = group.bars.len() as f64;
    let width = (0.82 * slot / count).min(WIDEST_PX);
    let first = from + 0.5 * (slot - width * count);
    for (n, bar) in group.bars.iter().enumerate() {
        let Some(bar) = bar else { continue };
        let (x, end) = (first + n as f64 * width, first + (n as f64 + 1.0) * width - 0.8);
        let top = y.place_within(bar.db);
        let corners = [(x, y.from_px), (x, top), (end, top), (end, y.from_px)];
        sheet.shape(&corners, theme::category(n), 0.85)?;
        let middle = 0.5 * (x + end);
        if group.bars.len() > 1 && width > 9.0 {
            sheet.mark(middle, y.from_px - 9.0, 3.4, theme::category(n), false, Mark::of(n))?;
        }
        if bar.u.is_finite() {
            let (low, high) =
                (y.place_within(bar.db - 2.0 * bar.u), y.place_within(bar.db + 2.0 * bar.u));
            if low - high > 2.0 {
                sheet.line(&[(middle, low), (middle, high)], theme::INK, 1.0, 1.2)?;
            }
        }
        if let Some(db) = bar.highest_db {
            let at = y.place_within(db);
            sheet.line(&[(x, at), (end, at)], theme::PALE_INK, 1.0, 1.4)?;
        }
        if let Some(db) = bar.background_db {
            let at = y.place_within(db);
            sheet.line(&[(x - 1.0, at), (end + 1.0, at)], theme::ESTIMATE, 1.0, 2.2)?;
        }
    }
    Ok(())
}

/// Names below the bars, as many as have room: all, or one of so many.
fn draw_names(
    sheet: &Sheet<'_>,
    groups: &[Group],
    from: f64,
    slot: f64,
    bottom: f64,
) -> Result<(), Error> {
    const LEAST_PX: f64 = 10.0;
    const APART_PX: f64 = 3.0;
    let widest = |px: f64| {
        let look = Type::new(px, theme::INK);
        groups.iter().map(|group| look.width(&group.name)).fold(1.0, f64::max)
    };
    let fitting = theme::TICK_PX * (slot - APART_PX) / widest(theme::TICK_PX);
    let px = fitting.clamp(LEAST_PX, theme::TICK_PX);
    let every = ((widest(px) + APART_PX) / slot - 0.02).ceil().max(1.0) as usize;
    let look = Type::new(px, theme::INK).align(Align::Centre);
    for (n, group) in groups.iter().enumerate().filter(|(n, _)| n % every == 0) {
        sheet.text(from + (n as f64 + 0.5) * slot, bottom + 17.0, &group.name, look)?;
    }
    Ok(())
}

fn draw_course(
    sheet: &Sheet<'_>,
    figure: &BandsFigure<'_>,
    (left, right): (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    let courses = || figure.levels.iter().map(|of| of.levels);
    let half = |levels: &Levels| 0.5 * levels.every_s;
    let begin = |levels: &Levels| levels.course.first().map(|at| at.time_s - half(levels));
    let end = |levels: &Levels| levels.course.last().map(|at| at.time_s + half(levels));
    let from_s = courses().filter_map(begin).fold(f64::INFINITY, f64::min);
    let to_s = courses().filter_map(end).fold(f64::NEG_INFINITY, f64::max);
    let is_one = figure.levels.len() == 1;
    let of = |levels: &Levels| -> Vec<f64> {
        let at = levels.course.iter();
        let mut all: Vec<f64> = at.flat_map(|at| [at.level_db, at.max_db]).flatten().collect();
        all.extend(levels.percentiles.0.iter().flatten());
        all
    };
    let (low, high) = range_db(courses().flat_map(of), 2.0);
    let (from_s, to_s) = if from_s < to_s { (from_s, to_s) } else { (0.0, 1.0) };
    let panel = Panel {
        x: Axis::linear((from_s, to_s), (left, right)),
        y: Axis::linear((low, high), along),
    };
    panel.draw_lines(sheet)?;
    for (n, levels) in courses().enumerate() {
        let colour = theme::category(n);
        // Steps, as each holds for its stretch.
        let mut line: Vec<(f64, f64)> = Vec::new();
        for at in &levels.course {
            let Some(db) = at.level_db else {
                sheet.line(&line, colour, 1.0, 1.8)?;
                line.clear();
                continue;
            };
            line.push(panel.place(at.time_s - half(levels), db));
            line.push(panel.place(at.time_s + half(levels), db));
        }
        sheet.line(&line, colour, 1.0, 1.8)?;
        if let Some((x, y)) = line.last().filter(|_| !is_one) {
            sheet.mark(*x, *y, 4.0, colour, true, Mark::of(n))?;
        }
        if is_one {
            let highest = levels.course.iter().filter_map(|at| Some((at.time_s, at.max_db?)));
            let points: Vec<(f64, f64)> = highest.map(|(s, db)| panel.place(s, db)).collect();
            sheet.line(&points, theme::PALE_INK, 1.0, 1.2)?;
            draw_percentiles(sheet, levels, &panel)?;
        }
    }
    panel.draw_y_scale(sheet)?;
    let weighting = figure.levels[0].levels.weighting.letter();
    panel.draw_frame(sheet, &format!("L{weighting}eq, dB"))?;
    panel.draw_x_scale(sheet, "Time, s")
}

/// Percentiles behind the course, those that have room.
fn draw_percentiles(sheet: &Sheet<'_>, levels: &Levels, panel: &Panel) -> Result<(), Error> {
    const LEAST_PX: f64 = 14.0;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let right = panel.x.to_px;
    let mut last = f64::NEG_INFINITY;
    for percent in [10.0, 50.0, 90.0] {
        let Some(db) = levels.percentiles.exceeded(percent) else { continue };
        let at = panel.y.place_within(db);
        sheet.line(&[(panel.x.from_px, at), (right + 6.0, at)], theme::TONE, 0.6, 1.0)?;
        let y = at.max(last + LEAST_PX);
        sheet.text(right + 9.0, y + 4.5, &format!("L{percent} {}", ticks::number(db, 1)), look)?;
        last = y;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bands_have_short_names() {
        let names: Vec<String> =
            [16.0, 31.5, 250.0, 1000.0, 1250.0, 12_500.0, 1030.0].map(short).into();
        assert_eq!(names, ["16", "31.5", "250", "1k", "1.25k", "12.5k", "1.03k"]);
    }
}
