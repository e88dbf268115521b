//! Modulation drawn: the sound with its envelope, the rates of the envelope over time, depth and
//! strength over time, and the spectra of both.

use tonemap_core::modulation::{Modulation, Moment};
use tonemap_core::units::{LevelReference, db_from_power};

use crate::colours::{COLOURS, ColourMap};
use crate::error::Error;
use crate::legend::{self, Sign};
use crate::marks::Marks;
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Sheet, Size, Type};
use crate::spectrogram::{DrawnSpectrogram, Shown, draw_bar, picture};
use crate::theme;

/// Between panels one above the other, and beside each other.
const GAP_PX: f64 = 16.0;
const MIDDLE_PX: f64 = 168.0;
/// Share of the height that each panel over time has: sound, frequencies, rates, depth.
const SHARES: [f64; 4] = [0.18, 0.27, 0.33, 0.22];
/// Share of the width that they have.
const TIME_SHARE: f64 = 0.58;
/// Depths that the colours and the spectrum of the envelope show, in dB re a depth of 1.
const LEAST_DB: f64 = -60.0;

/// A modulation to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct ModulationFigure<'a> {
    /// What was found.
    pub found: &'a Modulation,
    /// Start and end of the span in seconds.
    pub span_s: (f64, f64),
    /// What levels refer to.
    pub reference: LevelReference,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws what swells and fades, and how fast.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn modulation_figure(figure: &ModulationFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let middle = (left + TIME_SHARE * (right - left)).floor();
        let time = Axis {
            low: figure.span_s.0,
            high: figure.span_s.1,
            scale: Scale::Linear,
            from_px: left,
            to_px: middle,
        };
        let height = bottom - TOP_PX - 3.0 * GAP_PX;
        let mut top = TOP_PX;
        let panels = SHARES.map(|share| {
            let end = (top + share * height).floor();
            let rows = (end, top);
            top = end + GAP_PX;
            rows
        });
        draw_sound(sheet, figure, time, panels[0])?;
        draw_frequencies(sheet, figure, time, panels[1])?;
        draw_rates(sheet, figure, time, panels[2])?;
        draw_depth(sheet, figure, time, panels[3])?;
        let across = (middle + MIDDLE_PX, right);
        let half = (0.5 * (bottom - TOP_PX) - 33.0).floor();
        draw_spectrum(sheet, figure, across, (TOP_PX + half, TOP_PX))?;
        draw_depths(sheet, figure, across, (bottom, bottom - half))?;
        let mut entries = vec![
            ("sound", Sign::Line(theme::SOUNDING)),
            ("envelope", Sign::Line(theme::CURVE)),
            ("rate", Sign::Track),
        ];
        if has_strength(figure.found) {
            entries.push(("fluctuation strength", Sign::Line(theme::category(1))));
            entries.push(("roughness", Sign::Dashes(theme::category(2))));
        }
        legend::draw(sheet, right, &entries)
    })
}

fn linear((low, high): (f64, f64), (from_px, to_px): (f64, f64)) -> Axis {
    Axis { low, high, scale: Scale::Linear, from_px, to_px }
}

fn has_strength(found: &Modulation) -> bool {
    found.roughness_asper.is_some()
}

/// The sound between its extremes, with its envelope to both sides.
fn draw_sound(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    x: Axis,
    rows: (f64, f64),
) -> Result<(), Error> {
    let outline = &figure.found.outline;
    let most = outline
        .sound
        .iter()
        .fold(1e-6f64, |most, (low, high)| most.max(f64::from(-*low)).max(f64::from(*high)));
    let panel = Panel { x, y: linear((-1.1 * most, 1.1 * most), rows) };
    panel.draw_lines(sheet)?;
    let second = |n: usize| figure.span_s.0 + (n as f64 + 0.5) * outline.step_s;
    let edge = |side: fn(&(f32, f32)) -> f32| {
        let each = outline.sound.iter().enumerate();
        each.map(move |(n, ends)| panel.place(second(n), f64::from(side(ends))))
    };
    let mut shape: Vec<(f64, f64)> = edge(|ends| ends.1).collect();
    shape.extend(edge(|ends| ends.0).collect::<Vec<_>>().into_iter().rev());
    sheet.shape(&shape, theme::SOUNDING, 0.85)?;
    for sign in [1.0, -1.0] {
        let each = outline.envelope.iter().enumerate();
        let line: Vec<(f64, f64)> =
            each.map(|(n, value)| panel.place(second(n), sign * f64::from(*value))).collect();
        sheet.line(&line, theme::CURVE, 1.0, 1.2)?;
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_title(sheet, "Sample value")?;
    panel.draw_box(sheet)
}

/// The sound over time and frequency.
fn draw_frequencies(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    x: Axis,
    rows: (f64, f64),
) -> Result<(), Error> {
    let edges = figure.found.spectrogram.as_ref().map(|map| &map.plan.edges_hz);
    let Some((spectrogram, [low, .., high])) =
        figure.found.spectrogram.as_ref().zip(edges.map(Vec::as_slice))
    else {
        return Ok(());
    };
    let (from_px, to_px) = rows;
    let y = Axis { low: *low, high: *high, scale: Scale::Logarithmic, from_px, to_px };
    let panel = Panel { x, y };
    let range = spectrogram.usual_range_db().unwrap_or((-100.0, 0.0));
    let full_scale_db = figure.reference.full_scale_db();
    let range_db = (range.0 + full_scale_db, range.1 + full_scale_db);
    let drawn = DrawnSpectrogram {
        name: "",
        spectrogram,
        shows: Shown::Level,
        span_s: figure.span_s,
        reference: figure.reference,
        marks: Marks::default(),
        slices: &[],
    };
    sheet.picture(picture(&drawn, range_db, ColourMap::default(), &panel))?;
    panel.draw_y_scale(sheet)?;
    panel.draw_title(sheet, "Frequency, Hz")?;
    panel.draw_box(sheet)?;
    let table = ColourMap::default().table();
    draw_bar(sheet, &table, range_db, "Level, dB", (to_px + 14.0, from_px), x.to_px + 14.0)
}

/// Columns and rows of the spectrogram of a figure.
#[must_use]
pub fn modulation_cells(size: Size) -> (usize, usize) {
    let side = |pixels: u32, share: f64| ((f64::from(pixels) * share) as usize).clamp(8, 4000);
    (side(size.width, TIME_SHARE), side(size.height, SHARES[1]))
}

/// A scale of rates.
fn rates(found: &Modulation, (from_px, to_px): (f64, f64)) -> Axis {
    let low = found.rates_hz.0.max(found.map.spacing_hz);
    let high = found.rates_hz.1.max(4.0 * low);
    Axis { low, high, scale: Scale::Logarithmic, from_px, to_px }
}

/// Depth of each rate over time, with the rate that is strongest.
fn draw_rates(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    x: Axis,
    rows: (f64, f64),
) -> Result<(), Error> {
    let (found, map) = (figure.found, &figure.found.map);
    let panel = Panel { x, y: rates(found, rows) };
    let (width, height) = ((x.to_px - x.from_px) as usize, (rows.0 - rows.1) as usize);
    let table = ColourMap::default().table();
    let paper = [theme::PAPER.0, theme::PAPER.1, theme::PAPER.2];
    let mut pixels = vec![paper; width * height];
    // The pixels of each rate: from half-way to the one below it to half-way to the one above.
    let row_of = |bin: f64| (panel.y.place_within(bin * map.spacing_hz) - rows.1) as usize;
    let bins = map.rows.first().map_or(0, Vec::len);
    let pixels_of: Vec<(usize, usize)> = (0..bins)
        .map(|bin| (row_of(bin as f64 + 0.5).min(height - 1), row_of(bin as f64 - 0.5)))
        .map(|(top, end)| (top, end.clamp(top + 1, height)))
        .collect();
    let first = (panel.y.low / map.spacing_hz) as usize;
    for column in 0..width {
        let time_s = x.low + (column as f64 + 0.5) / width as f64 * (x.high - x.low);
        // Stretches stand for what lies nearest to their middle.
        let place = ((time_s - map.start_s) / map.hop_s).round().max(0.0);
        let last = map.rows.len().saturating_sub(1);
        let Some(row) = map.rows.get((place as usize).min(last)) else { continue };
        let mut powers = vec![0.0f32; height];
        for (power, (top, end)) in row.iter().zip(&pixels_of).skip(first) {
            powers[*top..*end].iter_mut().for_each(|most| *most = most.max(*power));
        }
        for (y, power) in powers.iter().enumerate() {
            let share = 1.0 - db_from_power(f64::from(power.max(1e-12))) / LEAST_DB;
            let colour = (share.clamp(0.0, 1.0) * (COLOURS - 1) as f64) as usize;
            pixels[y * width + column] = table[colour];
        }
    }
    sheet.picture(panel.picture(width, height, pixels))?;
    let mut line = Vec::new();
    for at in found.course.iter().map(Some).chain([None]) {
        match at.and_then(|at| Some((at.time_s, at.rate_hz?))) {
            Some((time_s, rate_hz)) => line.push(panel.place(time_s, rate_hz)),
            None => {
                if let [(x, y)] = line[..] {
                    line = vec![(x - 3.0, y), (x + 3.0, y)];
                }
                sheet.line_on_picture(&line, theme::TRACK, 1.0)?;
                line.clear();
            }
        }
    }
    panel.draw_y_scale(sheet)?;
    panel.draw_title(sheet, "Rate, Hz")?;
    panel.draw_box(sheet)?;
    draw_bar(sheet, &table, (LEAST_DB, 0.0), "Depth, dB", (rows.1 + 14.0, rows.0), x.to_px + 14.0)
}

/// Depth over time, and beside it how strongly it is heard.
fn draw_depth(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    x: Axis,
    rows: (f64, f64),
) -> Result<(), Error> {
    let course = &figure.found.course;
    let panel = Panel { x, y: linear((0.0, 100.0), rows) };
    panel.draw_grid(sheet)?;
    let depth = |at: &Moment| at.depth.map(|depth| 100.0 * depth);
    draw_course(&panel, course, &depth, &|line| sheet.line(line, theme::CURVE, 1.0, 1.8))?;
    if has_strength(figure.found) {
        let values =
            course.iter().flat_map(|at| [at.fluctuation_strength_vacil, at.roughness_asper]);
        let most = values.flatten().fold(0.1f64, f64::max);
        let strength = Panel { x, y: linear((0.0, 1.15 * most), rows) };
        draw_course(&strength, course, &|at| at.fluctuation_strength_vacil, &|line| {
            sheet.line(line, theme::category(1), 1.0, 1.6)
        })?;
        draw_course(&strength, course, &|at| at.roughness_asper, &|line| {
            sheet.dashed(line, theme::category(2), 1.6)
        })?;
        let look = Type::new(theme::TICK_PX, theme::INK);
        let right = x.to_px;
        for tick in crate::ticks::linear(0.0, 1.15 * most, (rows.0 - rows.1) / 40.0) {
            let y = strength.y.place(tick.value);
            sheet.line(&[(right, y), (right + 5.0, y)], theme::INK, 1.0, 1.0)?;
            sheet.text(right + 8.0, y + 4.5, &tick.label, look)?;
        }
        let title = Type::new(theme::LABEL_PX, theme::INK);
        sheet.text_upwards(right + 50.0, 0.5 * (rows.0 + rows.1), "vacil, asper", title)?;
    }
    panel.draw_frame(sheet, "Depth, %")?;
    panel.draw_x_scale(sheet, "Time, s")
}

type Line<'l> = dyn Fn(&[(f64, f64)]) -> Result<(), Error> + 'l;

/// A value over time, with gaps where it is not known.
fn draw_course(
    panel: &Panel,
    course: &[Moment],
    of: &dyn Fn(&Moment) -> Option<f64>,
    draw: &Line<'_>,
) -> Result<(), Error> {
    for run in course.split(|at| of(at).is_none()).filter(|run| !run.is_empty()) {
        let points = run.iter().filter_map(|at| Some(panel.place(at.time_s, of(at)?)));
        let mut line: Vec<(f64, f64)> = points.collect();
        if let [(x, y)] = line[..] {
            line = vec![(x - 4.0, y), (x + 4.0, y)];
        }
        draw(&line)?;
    }
    Ok(())
}

/// The spectrum of the sound, with the band of which the envelope is.
fn draw_spectrum(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    (from_px, to_px): (f64, f64),
    rows: (f64, f64),
) -> Result<(), Error> {
    const SHOWN_DB: f64 = 100.0;
    let sound = &figure.found.sound;
    let most = sound.iter().map(|(_, db)| *db).fold(f64::NEG_INFINITY, f64::max);
    if !most.is_finite() {
        return Ok(());
    }
    let high = (most / 10.0).ceil() * 10.0 + 5.0;
    let last_hz = sound.last().map_or(20_000.0, |(hz, _)| *hz);
    let x = Axis { low: 20.0, high: last_hz, scale: Scale::Logarithmic, from_px, to_px };
    let panel = Panel { x, y: linear((high - SHOWN_DB, high), rows) };
    let (low_hz, high_hz) = figure.found.band_hz;
    let band = [low_hz, high_hz].map(|hz| panel.x.place_within(hz));
    let corners = [(band[0], rows.0), (band[0], rows.1), (band[1], rows.1), (band[1], rows.0)];
    sheet.shape(&corners, theme::SOUNDING, 0.3)?;
    panel.draw_grid(sheet)?;
    let line: Vec<(f64, f64)> = sound.iter().map(|(hz, db)| panel.place(*hz, *db)).collect();
    sheet.line(&line, theme::INK, 0.9, 1.2)?;
    panel.draw_frame(sheet, &format!("Level, dB {}", figure.reference.words()))?;
    panel.draw_x_scale(sheet, "Frequency, Hz (shaded: the band of the envelope)")
}

/// The spectrum of the envelope.
fn draw_depths(
    sheet: &Sheet<'_>,
    figure: &ModulationFigure<'_>,
    across: (f64, f64),
    rows: (f64, f64),
) -> Result<(), Error> {
    let found = figure.found;
    let most = found.spectrum.iter().map(|line| line.depth).fold(0.01, f64::max);
    let panel = Panel { x: rates(found, across), y: linear((0.0, 115.0 * most), rows) };
    panel.draw_grid(sheet)?;
    let shown = found.spectrum.iter().filter(|line| line.rate_hz >= panel.x.low);
    let line: Vec<(f64, f64)> =
        shown.map(|line| panel.place(line.rate_hz, 100.0 * line.depth)).collect();
    sheet.line(&line, theme::CURVE, 1.0, 1.6)?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let mut last_px = f64::NEG_INFINITY;
    let mut rates: Vec<f64> = found.rates.iter().map(|rate| rate.rate_hz).collect();
    rates.sort_by(f64::total_cmp);
    for rate_hz in rates.into_iter().filter(|hz| panel.x.contains(*hz)) {
        let x = panel.x.place(rate_hz);
        sheet.line(&[(x, rows.1), (x, rows.1 + 8.0)], theme::TONE, 1.0, 2.0)?;
        let words = format!("{} Hz", crate::ticks::number(rate_hz, 2));
        let width = look.width(&words);
        let left = (x + 5.0).min(across.1 - width - 4.0);
        if left > last_px {
            sheet.text(left, rows.1 + 18.0, &words, look)?;
            last_px = left + width + 6.0;
        }
    }
    panel.draw_frame(sheet, "Depth, %")?;
    panel.draw_x_scale(sheet, "Rate of the envelope, Hz")
}
