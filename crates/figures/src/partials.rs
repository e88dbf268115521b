//! The partials of a note drawn: how each dies away, how strong each is, and how far from harmonic.

use tonemap_core::Measured;
use tonemap_core::partials::{Partial, Partials};
use tonemap_core::stiffness::stiff_cents;
use tonemap_core::units::cents_u;

use crate::error::Error;
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// Partials that are drawn in colour and named.
const NAMED: usize = 6;
/// So few partials are all numbered.
const ALL_NUMBERED: usize = 14;
/// Levels reach so far below the greatest, in dB.
const DEEPEST_DB: f64 = 100.0;

/// The partials of a note, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct PartialsFigure<'a> {
    /// What was found.
    pub found: &'a Partials,
    /// See above.
    pub level_unit: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws levels over time, levels over frequency, and, where there is a fundamental, how far each
/// partial lies from harmonic with the law that was fitted.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn partials_figure(figure: &PartialsFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let split = (TOP_PX + 0.52 * (bottom - TOP_PX)).floor();
        let names_px = 60.0;
        draw_decays(sheet, figure, (left, right - names_px), (TOP_PX, split - 62.0))?;
        let middle = match figure.found.f0_hz {
            Some(_) => left + 0.5 * (right - left),
            None => right,
        };
        draw_levels(sheet, figure, (left, middle - 20.0), (split, bottom))?;
        if figure.found.f0_hz.is_some() {
            draw_deviations(sheet, figure, (middle + 70.0, right), (split, bottom))?;
        }
        Ok(())
    })
}

/// The strongest partials, by their numbers.
fn named(found: &Partials) -> Vec<usize> {
    let mut order: Vec<&Partial> = found.partials.iter().collect();
    order.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
    let mut numbers: Vec<usize> = order.iter().take(NAMED).map(|p| p.number).collect();
    numbers.sort_unstable();
    numbers
}

fn linear((low, high): (f64, f64), (from_px, to_px): (f64, f64)) -> Axis {
    Axis { low, high, scale: Scale::Linear, from_px, to_px }
}

/// Lowest and highest level drawn, round.
fn level_range(levels: impl Iterator<Item = f64>) -> (f64, f64) {
    let (low, high) = levels
        .filter(|level| level.is_finite())
        .fold((f64::INFINITY, -400.0f64), |(low, high), db| (low.min(db), high.max(db)));
    let high_db = ((high + 3.0) / 10.0).ceil() * 10.0;
    (((low - 3.0).max(high - DEEPEST_DB) / 10.0).floor() * 10.0, high_db)
}

/// Level of each partial over time: the strongest in colour, the others pale.
fn draw_decays(
    sheet: &Sheet<'_>,
    figure: &PartialsFigure<'_>,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let found = figure.found;
    let all = found.tracks.iter().flat_map(|track| &track.points);
    let panel = Panel {
        x: linear((found.start_s, found.end_s), across),
        y: linear(level_range(all.map(|point| found.level_db_at(point))), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let (named, tracks) = (named(found), found.heard_tracks());
    let mut ends: Vec<(f64, usize)> = Vec::new();
    for is_named in [false, true] {
        for track in &tracks {
            let rank = named.iter().position(|number| *number == track.number);
            if rank.is_some() != is_named {
                continue;
            }
            let points: Vec<(f64, f64)> = (track.points.iter().enumerate())
                .map(|(n, point)| {
                    (track.start_s + n as f64 * track.hop_s, found.level_db_at(point))
                })
                .skip_while(|(_, db)| *db <= panel.y.low)
                .take_while(|(_, db)| *db > panel.y.low)
                .map(|(t, db)| panel.place(t, db))
                .collect();
            let (colour, alpha, width) = match rank {
                Some(rank) => (theme::category(rank), 1.0, 1.8),
                None => (theme::PALE_INK, 0.35, 1.0),
            };
            sheet.line(&points, colour, alpha, width)?;
            if let (Some(rank), Some((_, y))) = (rank, points.last()) {
                ends.push((*y, rank));
            }
        }
    }
    draw_names(sheet, &named, ends, across.1, (top, bottom))?;
    panel.draw_frame(sheet, &format!("Level, {}", figure.level_unit))?;
    panel.draw_x_scale(sheet, "Time, s")
}

/// The numbers of the named partials at the right, none over another.
fn draw_names(
    sheet: &Sheet<'_>,
    named: &[usize],
    mut ends: Vec<(f64, usize)>,
    right: f64,
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    const ROW_PX: f64 = 17.0;
    ends.sort_by(|a, b| a.1.cmp(&b.1).then(b.0.total_cmp(&a.0)));
    ends.dedup_by_key(|(_, rank)| *rank);
    ends.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut lowest = top;
    let last = ends.len();
    for (n, (y, rank)) in ends.into_iter().enumerate() {
        let room_below = bottom - ROW_PX * (last - 1 - n) as f64;
        let y = (y + 5.0).max(lowest).min(room_below.max(lowest));
        let colour = theme::category(rank);
        sheet.line(&[(right + 8.0, y - 4.0), (right + 22.0, y - 4.0)], colour, 1.0, 2.4)?;
        let look = Type::new(theme::LABEL_PX, theme::INK);
        sheet.text(right + 27.0, y, &named[rank].to_string(), look)?;
        lowest = y + ROW_PX;
    }
    Ok(())
}

/// Levels of the partials over frequency, as lines.
fn draw_levels(
    sheet: &Sheet<'_>,
    figure: &PartialsFigure<'_>,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    let partials = &figure.found.partials;
    let highest_hz = partials.iter().map(|p| p.frequency_hz).fold(1.0, f64::max);
    let levels = partials.iter().map(|p| p.level_db);
    let (low, high) = level_range(levels);
    let panel = Panel {
        x: linear((0.0, 1.06 * highest_hz), across),
        y: linear((low, high + 6.0), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let named = named(figure.found);
    for partial in partials {
        let db = partial.level_db;
        let (x, y) = panel.place(partial.frequency_hz, db);
        let rank = named.iter().position(|number| *number == partial.number);
        let colour = rank.map_or(theme::PALE_INK, theme::category);
        sheet.line(&[(x, bottom), (x, y)], colour, 1.0, 2.0)?;
        sheet.mark(x, y, 4.0, colour, true, Mark::Disc)?;
        if rank.is_some() || partials.len() <= ALL_NUMBERED {
            let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
            sheet.text(x, y - 8.0, &partial.number.to_string(), look)?;
        }
    }
    panel.draw_frame(sheet, &format!("Level, {}", figure.level_unit))?;
    panel.draw_x_scale(sheet, "Frequency, Hz")
}

/// How far each partial lies from n times the first, with the fit of the stiff string.
fn draw_deviations(
    sheet: &Sheet<'_>,
    figure: &PartialsFigure<'_>,
    across: (f64, f64),
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    const LEAST_CENTS: f64 = 1.0;
    let found = figure.found;
    let points = || found.partials.iter().filter_map(|p| Some((p, p.cents_from_harmonic?)));
    let b = found.inharmonicity.map_or(0.0, |b| b.value);
    let fitted = |n: f64| stiff_cents(n, b);
    let last = found.partials.iter().map(|p| p.number).max().unwrap_or(1) as f64;
    let (low, high) = points()
        .flat_map(|(p, cents)| [cents, fitted(p.number as f64)])
        .fold((-LEAST_CENTS, LEAST_CENTS), |(low, high), cents| (low.min(cents), high.max(cents)));
    let margin = 0.08 * (high - low);
    let panel = Panel {
        x: linear((0.0, last + 1.0), across),
        y: linear((low - margin, high + margin), (bottom, top)),
    };
    panel.draw_grid(sheet)?;
    let zero = panel.y.place(0.0);
    sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.5, 1.0)?;
    if found.inharmonicity.is_some() {
        let steps = 8 * last as usize;
        let curve: Vec<(f64, f64)> =
            (8..=steps).map(|n| panel.place(n as f64 / 8.0, fitted(n as f64 / 8.0))).collect();
        sheet.line(&curve, theme::CURVE, 0.8, 1.6)?;
    }
    for (partial, cents) in points() {
        let n = partial.number as f64;
        let u = cents_u(&Measured::new(partial.frequency_hz, partial.frequency_hz_u));
        let (x, y) = panel.place(n, cents);
        let bar = [panel.place(n, cents - 2.0 * u), panel.place(n, cents + 2.0 * u)];
        sheet.line(&bar, theme::TONE, 1.0, 1.4)?;
        sheet.mark(x, y, 3.6, theme::TONE, partial.on_law, Mark::Disc)?;
    }
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    if let Some(b) = found.inharmonicity {
        let words = format!(
            "curve: B = {}e-6; bars ± 2 u; hollow: off the fit",
            ticks::number(1e6 * b.value, 2)
        );
        sheet.text(across.0 + 10.0, top + 18.0, &words, look)?;
    }
    panel.draw_frame(sheet, "From harmonic, cents")?;
    panel.draw_x_scale(sheet, "Number of the partial")
}
