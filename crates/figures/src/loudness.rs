//! Loudness drawn: along the ear, over time, both as colour, and which bands carry a difference.

use tonemap_core::loudness::{Loudness, Stretch, critical_band_rate};

use crate::colours::{COLOURS, ColourMap, diverging};
use crate::error::Error;
use crate::legend;
use crate::notes::{Room, TOP_PX, Words, elided};
use crate::panel::{Axis, Panel};
use crate::sheet::{Align, Figure, Mark, Picture, Sheet, Size, Type};
use crate::spectrogram::draw_bar;
use crate::theme;

/// The critical-band rates that are drawn.
const BARK: (f64, f64) = (0.0, 24.0);
/// Between panels: room for the scale of the upper one, and for the values of the right one.
const BELOW_PX: f64 = 58.0;
const BESIDE_PX: f64 = 92.0;
/// Above the plot: the scale of frequencies.
const ABOVE_PX: f64 = 22.0;
/// Width of a bar of colours with its values.
const BAR_PX: f64 = 92.0;
/// So many sounds are named above the plot.
const MOST_NAMED: usize = 12;

/// Loudness with the name of its take.
#[derive(Debug, Clone, Copy)]
pub struct DrawnLoudness<'a> {
    /// Name of the take and channel.
    pub name: &'a str,
    /// What was measured.
    pub loudness: &'a Loudness,
}

/// Loudness to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct LoudnessFigure<'a> {
    /// That of each take; there must be one.
    pub shown: &'a [DrawnLoudness<'a>],
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws specific loudness over the critical-band rate, loudness over time, and specific loudness
/// over time as colour: of two sounds side by side on locked colours, with their difference, and what
/// each band of the louder one would save.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn loudness_figure(figure: &LoudnessFigure<'_>, size: Size) -> Result<Figure, Error> {
    /// Shares of the height above the maps, and of the width left of the course.
    const ABOVE: f64 = 0.6;
    const LEFT: f64 = 0.54;
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let shown = figure.shown;
        let top = TOP_PX + ABOVE_PX;
        let is_over_time = shown.iter().all(|of| !of.loudness.stretches.is_empty());
        let has_maps = is_over_time && shown.len() <= 2;
        let under = if has_maps { (top + ABOVE * (bottom - top) - 10.0).floor() } else { bottom };
        let middle = if is_over_time { left + (LEFT * (right - left)).floor() } else { right };
        draw_ear(sheet, figure, (left, middle), (under, top))?;
        if is_over_time {
            draw_course(sheet, shown, (middle + BESIDE_PX, right), (under, top))?;
        }
        if has_maps {
            draw_maps(sheet, shown, (left, right), (bottom, under + BELOW_PX + 12.0))?;
        }
        if shown.len() == 1 {
            return Ok(());
        }
        let room = (right - left - 200.0) / shown.len() as f64 - 58.0;
        let look = Type::new(theme::LABEL_PX, theme::INK);
        let name = |of: &DrawnLoudness<'_>| elided(of.name, look, room.clamp(12.0, 180.0));
        let names: Vec<String> = shown.iter().take(MOST_NAMED).map(name).collect();
        legend::draw(sheet, right, &legend::curves(names.iter().map(String::as_str)))
    })
}

/// The end of an axis that begins at 0 and holds a value.
fn above(most: f64) -> f64 {
    if most > 0.0 { 1.06 * most } else { 1.0 }
}

/// Specific loudness, and below it what bands would save.
fn draw_ear(
    sheet: &Sheet<'_>,
    figure: &LoudnessFigure<'_>,
    across: (f64, f64),
    (bottom, top): (f64, f64),
) -> Result<(), Error> {
    /// Share of the height that the bars have.
    const BARS: f64 = 0.36;
    const GAP_PX: f64 = 32.0;
    let louder = louder_of(figure.shown);
    let under = match louder {
        Some(_) => (bottom - BARS * (bottom - top)).floor() - GAP_PX,
        None => bottom,
    };
    let points = |of: &DrawnLoudness<'_>| {
        of.loudness.specific.iter().map(|at| (at.bark, at.sone_per_bark)).collect::<Vec<_>>()
    };
    let most = figure.shown.iter().flat_map(points).fold(0.0, |most, (_, sone)| sone.max(most));
    let panel =
        Panel { x: Axis::linear(BARK, across), y: Axis::linear((0.0, above(most)), (under, top)) };
    panel.draw_grid(sheet)?;
    for (n, of) in figure.shown.iter().enumerate() {
        let line: Vec<(f64, f64)> =
            points(of).into_iter().map(|(bark, sone)| panel.place(bark, sone)).collect();
        let colour = theme::category(n);
        if figure.shown.len() == 1 {
            let ends = [panel.place(BARK.1, 0.0), panel.place(BARK.0, 0.0)];
            let area: Vec<(f64, f64)> = line.iter().copied().chain(ends).collect();
            sheet.shape(&area, colour, 0.25)?;
        }
        sheet.line(&line, colour, 1.0, 2.0)?;
        // Where the curves are highest they are told apart.
        let peak = line.iter().copied().min_by(|a, b| a.1.total_cmp(&b.1));
        if let Some((x, y)) = peak.filter(|_| figure.shown.len() > 1) {
            sheet.mark(x, y, 4.0, colour, true, Mark::of(n))?;
        }
    }
    panel.draw_frame(sheet, "Specific loudness, sone/Bark")?;
    draw_hertz(sheet, &panel)?;
    match louder {
        Some(place) => draw_weights(sheet, figure.shown, place, across, (bottom, under + GAP_PX)),
        None => panel.draw_x_scale(sheet, "Critical-band rate, Bark"),
    }
}

/// Frequencies on top of critical-band rates.
fn draw_hertz(sheet: &Sheet<'_>, panel: &Panel) -> Result<(), Error> {
    const HERTZ: [(f64, &str); 9] = [
        (50.0, "50 Hz"),
        (100.0, "100"),
        (200.0, "200"),
        (500.0, "500"),
        (1000.0, "1k"),
        (2000.0, "2k"),
        (4000.0, "4k"),
        (8000.0, "8k"),
        (15_000.0, "15k"),
    ];
    let top = panel.y.to_px;
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
    let mut last = f64::NEG_INFINITY;
    for (hz, label) in HERTZ {
        let x = panel.x.place(critical_band_rate(hz)).floor() + 0.5;
        sheet.line(&[(x, top - 5.0), (x, top)], theme::PALE_INK, 1.0, 1.0)?;
        let half = 0.5 * look.width(label);
        if x - half > last + 6.0 {
            sheet.text(x, top - 10.0, label, look)?;
            last = x + half;
        }
    }
    Ok(())
}

/// Which of two sounds lies over the other, if bands were weighed.
fn louder_of(shown: &[DrawnLoudness<'_>]) -> Option<usize> {
    let [a, b] = shown else { return None };
    let more = |of: &DrawnLoudness<'_>| -> f64 {
        of.loudness.weighs_most.iter().map(|band| band.sone).sum()
    };
    let is_known = shown.iter().all(|of| !of.loudness.weighs_most.is_empty());
    is_known.then(|| usize::from(more(b) > more(a)))
}

fn draw_weights(
    sheet: &Sheet<'_>,
    shown: &[DrawnLoudness<'_>],
    place: usize,
    across: (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    const WIDTH_BARK: f64 = 0.7;
    let bands = &shown[place].loudness.weighs_most;
    let ends = bands.iter().fold((0.0f64, 0.0f64), |(low, high), band| {
        (low.min(band.gain_sone), high.max(band.gain_sone))
    });
    let room = 0.12 * (ends.1 - ends.0).max(1e-3);
    let low = if ends.0 < 0.0 { ends.0 - room } else { 0.0 };
    let panel =
        Panel { x: Axis::linear(BARK, across), y: Axis::linear((low, ends.1 + room), along) };
    panel.draw_grid(sheet)?;
    let zero = panel.y.place(0.0);
    for band in bands {
        let end = panel.y.place(band.gain_sone);
        let (from, to) = (
            panel.x.place(band.bark - 0.5 * WIDTH_BARK),
            panel.x.place(band.bark + 0.5 * WIDTH_BARK),
        );
        let colour = theme::category(if band.gain_sone > 0.0 { place } else { 1 - place });
        sheet.shape(&[(from, zero), (to, zero), (to, end), (from, end)], colour, 0.85)?;
    }
    sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.8, 1.0)?;
    let [a, b] = [place, 1 - place].map(|n| shown[n].name);
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let words = format!("What {a} would save if a band had the level that it has in {b}");
    let words = elided(&words, look, across.1 - across.0);
    sheet.text(across.0, along.1 - 9.0, &words, look)?;
    panel.draw_frame(sheet, "Saved, sone")?;
    panel.draw_x_scale(sheet, "Critical-band rate, Bark")
}

/// The span of time that stretches of a sound cover.
fn span_s(loudness: &Loudness) -> (f64, f64) {
    let half = 0.5 * loudness.stretch_s;
    let ends = |at: Option<&Stretch>, by: f64| at.map_or(0.0, |at| at.time_s + by);
    (ends(loudness.stretches.first(), -half), ends(loudness.stretches.last(), half))
}

fn draw_course(
    sheet: &Sheet<'_>,
    shown: &[DrawnLoudness<'_>],
    across: (f64, f64),
    along: (f64, f64),
) -> Result<(), Error> {
    let spans = || shown.iter().map(|of| span_s(of.loudness));
    let from_s = spans().map(|span| span.0).fold(f64::INFINITY, f64::min);
    let to_s = spans().map(|span| span.1).fold(f64::NEG_INFINITY, f64::max);
    let most = |of: &DrawnLoudness<'_>| {
        let stretches = of.loudness.stretches.iter().map(|at| at.loudness_sone);
        stretches.chain(of.loudness.n5_sone).fold(0.0, f64::max)
    };
    let high = shown.iter().map(most).fold(0.0, f64::max);
    let panel = Panel {
        x: Axis::linear((from_s, to_s), across),
        y: Axis::linear((0.0, above(high)), along),
    };
    panel.draw_grid(sheet)?;
    for (n, of) in shown.iter().enumerate() {
        let colour = theme::category(n);
        let place = |at: &Stretch| panel.place(at.time_s, at.loudness_sone);
        let line: Vec<(f64, f64)> = of.loudness.stretches.iter().map(place).collect();
        sheet.line(&line, colour, 1.0, 1.8)?;
        if let Some((x, y)) = line.last().filter(|_| shown.len() > 1) {
            sheet.mark(*x, *y, 4.0, colour, true, Mark::of(n))?;
        }
        if let Some(sone) = of.loudness.n5_sone.filter(|_| shown.len() <= 2) {
            let y = panel.y.place_within(sone);
            sheet.dashed(&[(across.0, y), (across.1, y)], colour, 1.0)?;
        }
    }
    panel.draw_frame(sheet, "Loudness, sone")?;
    panel.draw_x_scale(sheet, "Time, s")?;
    if shown.len() <= 2 {
        let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Right);
        sheet.text(across.1, along.1 - 8.0, "dashed: exceeded 5 % of the time", look)?;
    }
    Ok(())
}

fn draw_maps(
    sheet: &Sheet<'_>,
    shown: &[DrawnLoudness<'_>],
    (left, right): (f64, f64),
    (bottom, top): (f64, f64),
) -> Result<(), Error> {
    const GAP_PX: f64 = 20.0;
    let most = shown
        .iter()
        .flat_map(|of| &of.loudness.stretches)
        .flat_map(|at| &at.specific)
        .fold(0.0f32, |most, sone| most.max(*sone));
    let range = (0.0, if most > 0.0 { f64::from(most) } else { 1.0 });
    let table = ColourMap::default().table();
    let bars = if shown.len() == 1 { BAR_PX } else { 2.0 * BAR_PX + GAP_PX };
    let count = if shown.len() == 1 { 1.0 } else { 3.0 };
    let width = ((right - left - bars - (count - 1.0) * GAP_PX + 24.0) / count).floor();
    let panel = |from: f64, span: (f64, f64)| Panel {
        x: Axis::linear(span, (from, from + width)),
        y: Axis::linear(BARK, (bottom, top)),
    };
    let name = Type::new(theme::LABEL_PX, theme::INK).bold();
    let share = |sone: f32| f64::from(sone) / range.1;
    for (n, of) in shown.iter().enumerate() {
        let panel = panel(left + n as f64 * (width + GAP_PX), span_s(of.loudness));
        let value = |x: f64, bark: f64| share(at(of.loudness, x, bark));
        sheet.picture(picture(&panel, &table, value))?;
        finish(sheet, &panel, n == 0)?;
        if shown.len() > 1 {
            let words = elided(of.name, name, width);
            sheet.text(panel.x.from_px, top - 8.0, &words, name)?;
        }
    }
    let at_bar = left + shown.len() as f64 * (width + GAP_PX) + 2.0;
    draw_bar(sheet, &table, range, "sone/Bark", (top, bottom), at_bar)?;
    let [a, b] = shown else { return Ok(()) };
    let place = louder_of(shown).unwrap_or(0);
    let (louder, other) = if place == 0 { (a, b) } else { (b, a) };
    // As long as there are both.
    let ((from_s, to_s), (other_from_s, other_to_s)) =
        (span_s(louder.loudness), span_s(other.loudness));
    let lasts_s = (to_s - from_s).min(other_to_s - other_from_s);
    let panel = panel(at_bar + BAR_PX, (from_s, from_s + lasts_s));
    let difference = |time_s: f64, bark: f64| {
        let other_s = time_s - from_s + other_from_s;
        at(louder.loudness, time_s, bark) - at(other.loudness, other_s, bark)
    };
    let furthest = (louder.loudness.stretches.iter())
        .take_while(|of| of.time_s < from_s + lasts_s)
        .flat_map(|of| (1..=240).map(move |n| difference(of.time_s, 0.1 * f64::from(n)).abs()))
        .fold(0.0f32, f32::max);
    let reach = if furthest > 0.0 { f64::from(furthest) } else { 1.0 };
    let table = diverging();
    let value = |x: f64, bark: f64| 0.5 + 0.5 * f64::from(difference(x, bark)) / reach;
    sheet.picture(picture(&panel, &table, value))?;
    finish(sheet, &panel, false)?;
    let words = elided(&format!("{} less {}", louder.name, other.name), name, width);
    sheet.text(panel.x.from_px, top - 8.0, &words, name)?;
    let at_bar = panel.x.to_px + GAP_PX + 2.0;
    draw_bar(sheet, &table, (-reach, reach), "sone/Bark", (top, bottom), at_bar)
}

/// Specific loudness of a sound at a time and a critical-band rate; nothing where it has ended.
fn at(loudness: &Loudness, time_s: f64, bark: f64) -> f32 {
    let from_s = span_s(loudness).0;
    let place = (time_s - from_s) / loudness.stretch_s;
    if place < 0.0 {
        return 0.0;
    }
    let point = ((10.0 * bark).round() as usize).clamp(1, 240) - 1;
    loudness.stretches.get(place as usize).map_or(0.0, |stretch| stretch.specific[point])
}

/// The pixels of a panel from shares of a table of colours.
fn picture(panel: &Panel, table: &[[u8; 3]; COLOURS], share: impl Fn(f64, f64) -> f64) -> Picture {
    let (x, y) = (panel.x, panel.y);
    let (width, height) = ((x.to_px - x.from_px) as usize, (y.from_px - y.to_px) as usize);
    let value = |axis: Axis, place: f64| axis.low + place * (axis.high - axis.low);
    let colour = |row: usize, column: usize| {
        let time_s = value(x, (column as f64 + 0.5) / width as f64);
        let bark = value(y, 1.0 - (row as f64 + 0.5) / height as f64);
        let place = share(time_s, bark) * (COLOURS - 1) as f64;
        table[place.round().clamp(0.0, (COLOURS - 1) as f64) as usize]
    };
    let pixels = (0..height).flat_map(|row| (0..width).map(move |column| (row, column)));
    panel.picture(width, height, pixels.map(|(row, column)| colour(row, column)).collect())
}

fn finish(sheet: &Sheet<'_>, panel: &Panel, is_first: bool) -> Result<(), Error> {
    if is_first {
        panel.draw_y_scale(sheet)?;
        panel.draw_title(sheet, "Critical-band rate, Bark")?;
    }
    panel.draw_box(sheet)?;
    panel.draw_x_scale(sheet, "Time, s")
}
