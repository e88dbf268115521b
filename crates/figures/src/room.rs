//! The acoustics of a room drawn: reverberation times over bands, the level over time, and the decay of
//! each band with its lines.

use tonemap_core::Measured;
use tonemap_core::room::{DecayCurve, DecayLine, Excitation, RoomAcoustics, RoomBand, RoomValues};

use crate::error::Error;
use crate::legend::{self, Sign};
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// Share of the width that the bands' decays have, and what is beside them.
const DECAYS: f64 = 0.6;
const BESIDE_PX: f64 = 64.0;
/// Between the two panels at the left, with the scale of the upper one.
const BETWEEN_PX: f64 = 62.0;
/// Between small panels.
const GAP_PX: f64 = 8.0;
/// Decays are drawn down to this level.
const LOWEST_DB: f64 = -70.0;

/// The acoustics of a room to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct RoomFigure<'a> {
    /// What was found, in the mean of all positions.
    pub found: &'a RoomAcoustics,
    /// What was found at each position.
    pub positions: &'a [&'a RoomAcoustics],
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws T20 and T30 over the bands with ± 2 u, the level over time, and the decay curve of each band
/// with the lines through it; of several positions all curves, without lines.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn room_figure(figure: &RoomFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let middle = (right - DECAYS * (right - left)).floor();
        let ends = middle - BESIDE_PX;
        let upper = (TOP_PX + 0.5 * (bottom - TOP_PX - BETWEEN_PX)).floor();
        draw_times(sheet, figure, (left, ends), (upper, TOP_PX))?;
        draw_energy(sheet, figure, (left, ends), (bottom, upper + BETWEEN_PX))?;
        draw_decays(sheet, figure, (middle, right), (bottom, TOP_PX))?;
        let mut entries = vec![("decay", Sign::Line(theme::CURVE))];
        if figure.positions.len() == 1 {
            entries.push(("T20", Sign::Curve(1)));
            entries.push(("T30", Sign::Curve(2)));
            let is_double = figure.found.bands.iter().any(|band| band.curve.late.is_some());
            if is_double {
                entries.push(("second slope", Sign::Dashes(theme::TONE)));
            }
        } else {
            entries.push(("T20, mean", Sign::Curve(1)));
            entries.push(("T30, mean", Sign::Curve(2)));
        }
        legend::draw(sheet, right, &entries)
    })
}

/// Reverberation times over the bands.
fn draw_times(
    sheet: &Sheet<'_>,
    figure: &RoomFigure<'_>,
    (left, right): (f64, f64),
    (bottom, top): (f64, f64),
) -> Result<(), Error> {
    type Of = fn(&RoomValues) -> Option<Measured>;
    const CURVES: [(Of, usize); 2] = [(|of| of.t20_s, 1), (|of| of.t30_s, 2)];
    let bands = &figure.found.bands;
    let low = bands.first().map_or(20.0, |band| band.band.low_hz);
    let high = bands.last().map_or(20_000.0, |band| band.band.high_hz);
    let all = bands.iter().flat_map(|band| CURVES.iter().filter_map(|(of, _)| of(&band.values)));
    let most = all.map(|time| time.value + 2.0 * time.u).fold(0.0, f64::max);
    let most = if most > 0.0 { 1.1 * most } else { 1.0 };
    let x = Axis { low, high, scale: Scale::Logarithmic, from_px: left, to_px: right };
    let panel = Panel { x, y: Axis::linear((0.0, most), (bottom, top)) };
    for tick in ticks::linear(0.0, most, (bottom - top) / 46.0) {
        let y = panel.y.place(tick.value).floor() + 0.5;
        sheet.line(&[(left, y), (right, y)], theme::GRID, 1.0, 1.0)?;
    }
    let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
    let mut last_right = f64::NEG_INFINITY;
    for band in bands {
        let nominal_hz = band.band.nominal_hz(figure.found.fraction);
        let x = panel.x.place(band.band.center_hz).floor() + 0.5;
        sheet.line(&[(x, top), (x, bottom)], theme::GRID, 0.6, 1.0)?;
        let name = ticks::number(nominal_hz, usize::from(nominal_hz.fract() != 0.0));
        let half = 0.5 * look.width(&name);
        if x - half > last_right + 6.0 {
            sheet.text(x, bottom + 19.0, &name, look)?;
            last_right = x + half;
        }
    }
    for position in figure.positions.iter().filter(|_| figure.positions.len() > 1) {
        let times = position
            .bands
            .iter()
            .filter_map(|band| Some(panel.place(band.band.center_hz, band.values.time_s()?.value)));
        let line: Vec<(f64, f64)> = times.collect();
        sheet.line(&line, theme::CURVE, 0.4, 1.0)?;
    }
    for (of, number) in CURVES {
        draw_time(sheet, &panel, bands, of, number)?;
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_frame(sheet, "Reverberation time, s")?;
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    sheet.text(f64::midpoint(left, right), bottom + 40.0, "Middle of the band, Hz", look)
}

/// A time over the bands with ± 2 u, broken where a band has none.
fn draw_time(
    sheet: &Sheet<'_>,
    panel: &Panel,
    bands: &[RoomBand],
    of: impl Fn(&RoomValues) -> Option<Measured>,
    number: usize,
) -> Result<(), Error> {
    let colour = theme::category(number);
    let times: Vec<(f64, Option<Measured>)> =
        bands.iter().map(|band| (band.band.center_hz, of(&band.values))).collect();
    for run in times.split(|(_, time)| time.is_none()) {
        let known = run.iter().filter_map(|(hz, time)| Some((*hz, (*time)?)));
        let line: Vec<(f64, f64)> =
            known.clone().map(|(hz, time)| panel.place(hz, time.value)).collect();
        sheet.line(&line, colour, 1.0, 1.6)?;
        for (hz, time) in known {
            // Side by side, so that one does not hide the other.
            let (x, y) = panel.place(hz, time.value);
            let x = x + if number == 1 { -2.0 } else { 2.0 };
            let ends = [-2.0, 2.0].map(|k| (x, panel.y.place_within(time.value + k * time.u)));
            sheet.line(&ends, colour, 1.0, 1.3)?;
            sheet.mark(x, y, 3.4, colour, true, Mark::of(number))?;
        }
    }
    Ok(())
}

/// The level over time of the first position.
fn draw_energy(
    sheet: &Sheet<'_>,
    figure: &RoomFigure<'_>,
    across: (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    let empty = (Vec::new(), Vec::new());
    let (times, levels) = figure.positions.first().map_or(&empty, |first| &first.energy);
    let from_s = times.first().copied().unwrap_or(0.0);
    // A tail that is noise alone is not shown for long.
    let noise_s = figure.positions.iter().flat_map(|one| &one.bands);
    let noise_s = noise_s.map(|band| band.curve.noise_s).fold(0.0, f64::max);
    let to_s = times.last().copied().unwrap_or(1.0).min((1.5 * noise_s).max(0.05));
    let shown: Vec<f64> =
        times.iter().zip(levels).filter(|(t, _)| **t <= to_s).map(|(_, db)| *db).collect();
    let lowest = shown.iter().copied().fold(0.0, f64::min).max(-100.0);
    let low = 10.0 * (lowest / 10.0).floor();
    let panel =
        Panel { x: Axis::linear((from_s, to_s), across), y: Axis::linear((low, 0.0), along) };
    panel.draw_grid(sheet)?;
    let points = times.iter().zip(levels).filter(|(t, _)| **t <= to_s);
    let line: Vec<(f64, f64)> = points.map(|(t, db)| panel.place(*t, *db)).collect();
    sheet.line(&line, theme::CURVE, 1.0, 1.1)?;
    panel.draw_frame(sheet, "Level re its highest, dB")?;
    panel.draw_x_scale(sheet, "Time, s")
}

/// The decays of all bands as small panels with the same axes.
fn draw_decays(
    sheet: &Sheet<'_>,
    figure: &RoomFigure<'_>,
    (left, right): (f64, f64),
    (bottom, top): (f64, f64),
) -> Result<(), Error> {
    let bands = &figure.found.bands;
    let count = bands.len().max(1);
    // A little wider than high.
    let columns = (1..=count).find(|n| 5 * n * n >= 7 * count).unwrap_or(count);
    let rows = count.div_ceil(columns);
    let width = (right - left - GAP_PX * (columns - 1) as f64) / columns as f64;
    let height = (bottom - top - GAP_PX * (rows - 1) as f64) / rows as f64;
    let is_single = figure.positions.len() == 1;
    let curves: Vec<Vec<&DecayCurve>> = bands
        .iter()
        .map(|band| {
            let near =
                |of: &&RoomBand| (of.band.center_hz / band.band.center_hz - 1.0).abs() < 1e-6;
            let of = |one: &&'_ RoomAcoustics| one.bands.iter().position(|band| near(&band));
            let found = figure.positions.iter().filter_map(|one| Some(&one.bands[of(one)?].curve));
            found.collect()
        })
        .collect();
    // As far as the curve of any band is above the lowest level.
    let seen = curves.iter().flatten().filter_map(|curve| {
        let last = curve.level_db.iter().rposition(|db| *db > LOWEST_DB)?;
        Some(curve.time_s[last].min(curve.noise_s))
    });
    let to_s = seen.fold(0.1, f64::max);
    for (n, band) in bands.iter().enumerate() {
        let (column, row) = (n % columns, n / columns);
        let x = left + column as f64 * (width + GAP_PX);
        let y = top + row as f64 * (height + GAP_PX);
        let panel = Panel {
            x: Axis::linear((0.0, to_s), (x.floor(), (x + width).floor())),
            y: Axis::linear((LOWEST_DB, 5.0), ((y + height).floor(), y.floor())),
        };
        if column == 0 {
            panel.draw_grid(sheet)?;
        } else {
            panel.draw_lines(sheet)?;
        }
        for curve in &curves[n] {
            draw_decay(sheet, &panel, curve, is_single)?;
        }
        panel.draw_box(sheet)?;
        let name = band.band.name(figure.found.fraction);
        let look = Type::new(theme::LABEL_PX, theme::INK).bold().align(Align::Right);
        sheet.text(panel.x.to_px - 6.0, panel.y.to_px + 16.0, &name, look)?;
        let is_last = n + columns >= count;
        if is_last {
            let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
            let ticks = ticks::linear(0.0, to_s, (width / 70.0).max(2.0));
            let half = 0.5 * look.width("0.0");
            for tick in ticks.iter().filter(|tick| !tick.label.is_empty()) {
                let at = panel.x.place(tick.value).floor() + 0.5;
                // The names of neighbours do not touch.
                if (column == 0 || at - half > panel.x.from_px) && at + half < panel.x.to_px {
                    sheet.text(at, panel.y.from_px + 17.0, &tick.label, look)?;
                }
            }
        }
    }
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    sheet.text(f64::midpoint(left, right), bottom + 42.0, "Time, s", look)?;
    let title = match figure.found.excitation {
        Excitation::InterruptedNoise => "Level re the noise, dB",
        Excitation::Impulse | Excitation::Sweep => "Energy still to come, dB",
    };
    sheet.text_upwards(
        left - 46.0,
        f64::midpoint(top, bottom),
        title,
        Type::new(theme::AXIS_PX, theme::INK),
    )
}

/// One decay, with its lines where it is the only one.
fn draw_decay(
    sheet: &Sheet<'_>,
    panel: &Panel,
    curve: &DecayCurve,
    is_single: bool,
) -> Result<(), Error> {
    let points = curve.time_s.iter().zip(&curve.level_db);
    let shown = points.take_while(|(t, db)| **t <= panel.x.high && **db > LOWEST_DB);
    let line: Vec<(f64, f64)> = shown.map(|(t, db)| panel.place(*t, *db)).collect();
    sheet.line(&line, theme::CURVE, if is_single { 1.0 } else { 0.5 }, 1.6)?;
    if !is_single {
        return Ok(());
    }
    let ends = |of: &DecayLine| {
        [of.from_s, of.to_s].map(|t| panel.place(t, of.level_db + of.slope_db_s * t))
    };
    // The longer line is under the shorter one.
    for (of, number, width) in [(curve.t30, 2, 2.6), (curve.t20, 1, 1.4)] {
        if let Some(of) = of {
            sheet.line(&ends(&of), theme::category(number), 1.0, width)?;
        }
    }
    if let Some(late) = curve.late {
        let to_s = late.to_s.min(panel.x.high);
        let late = DecayLine { from_s: 0.0, to_s, ..late };
        sheet.dashed(&ends(&late), theme::TONE, 1.2)?;
    }
    Ok(())
}
