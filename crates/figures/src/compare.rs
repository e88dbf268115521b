//! Two sounds drawn: their spectra and the difference, their spectrograms and the difference.

use plotters::style::RGBColor;
use tonemap_core::compare::{BandDifference, Comparison, DifferenceMaps};
use tonemap_core::units::{LevelReference, mean_power_db};

use crate::colours::{COLOURS, ColourMap, diverging};
use crate::error::Error;
use crate::marks::Marks;
use crate::notes::{LEFT_PX, Room, TOP_PX, Words, elided};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Picture, Sheet, Size, Type};
use crate::spectrogram::{DrawnSpectrogram, Shown, draw_bar, picture};
use crate::theme;

/// Spectra of two sounds, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct DifferenceFigure<'a> {
    /// What was found.
    pub found: &'a Comparison,
    /// What the two are called.
    pub names: [&'a str; 2],
    /// Unit of the levels.
    pub level_unit: &'a str,
    /// Frequency of A4 in Hz, for the scale of notes.
    pub reference_hz: f64,
    /// The words around it.
    pub words: Words<'a>,
}

/// Spectrograms of two sounds, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct MapsFigure<'a> {
    /// The maps.
    pub maps: &'a DifferenceMaps,
    /// What levels of each refer to.
    pub references: [LevelReference; 2],
    /// What the two are called.
    pub names: [&'a str; 2],
    /// Colours of levels.
    pub colours: ColourMap,
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws both spectra on one scale, and below it, on a scale of its own, the difference in bands:
/// shaded what chance explains, filled what is real.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn difference_figure(figure: &DifferenceFigure<'_>, size: Size) -> Result<Figure, Error> {
    /// Room for the notes on top.
    const NOTES_PX: f64 = 22.0;
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let top = TOP_PX + NOTES_PX;
        let split = (top + 0.6 * (bottom - top)).floor();
        let range = draw_spectra(sheet, figure, ((left, right), (top, split - 40.0)))?;
        draw_differences(sheet, figure, ((left, right), (split, bottom)), range)?;
        draw_names(sheet, figure, right)
    })
}

/// The two names with their lines, at the upper right.
fn draw_names(sheet: &Sheet<'_>, figure: &DifferenceFigure<'_>, right: f64) -> Result<(), Error> {
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let mut x = right;
    for (n, name) in figure.names.iter().enumerate().rev() {
        x -= look.width(name);
        sheet.text(x, 31.0, name, look)?;
        let line = [(x - 34.0, 26.5), (x - 8.0, 26.5)];
        match n {
            0 => sheet.line(&line, theme::category(0), 1.0, 2.4)?,
            _ => sheet.line(&line, theme::category(1), 1.0, 1.6)?,
        }
        x -= 54.0;
    }
    Ok(())
}

fn frequency_axis(figure: &DifferenceFigure<'_>, (from_px, to_px): (f64, f64)) -> Axis {
    let curve = &figure.found.curve;
    let ends = |bin: Option<&BandDifference>, other: f64| bin.map_or(other, |b| b.band.center_hz);
    let low = ends(curve.first(), 20.0).max(20.0);
    let high = ends(curve.last(), 20_000.0).max(2.0 * low);
    Axis { low, high, scale: Scale::Logarithmic, from_px, to_px }
}

/// A spectrum with as many points as there are pixels: where bins share one, their mean power.
fn line_of(
    figure: &DifferenceFigure<'_>,
    x: Axis,
    level: impl Fn(&BandDifference) -> Option<f64>,
) -> Vec<(f64, f64)> {
    let mut points: Vec<(f64, Vec<f64>)> = Vec::new();
    for bin in figure.found.curve.iter().filter(|bin| bin.band.center_hz >= x.low) {
        let Some(db) = level(bin) else { continue };
        let place = x.place(bin.band.center_hz).floor() + 0.5;
        match points.last_mut() {
            Some((last, levels)) if *last == place => levels.push(db),
            _ => points.push((place, vec![db])),
        }
    }
    points.into_iter().filter_map(|(x, levels)| Some((x, mean_power_db(levels)?))).collect()
}

/// Draws both spectra; gives the range of their scale.
fn draw_spectra(
    sheet: &Sheet<'_>,
    figure: &DifferenceFigure<'_>,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<f64, Error> {
    const DEEPEST_DB: f64 = 110.0;
    let x = frequency_axis(figure, across);
    let lines = [line_of(figure, x, |bin| bin.a_db), line_of(figure, x, |bin| bin.b_db)];
    let levels = || lines.iter().flatten().map(|(_, db)| *db);
    let highest = levels().fold(f64::NEG_INFINITY, f64::max);
    let high = if highest.is_finite() { ((highest + 3.0) / 10.0).ceil() * 10.0 } else { 0.0 };
    let low = levels().fold(f64::INFINITY, f64::min).max(high - DEEPEST_DB);
    let low = if low.is_finite() { (low / 10.0).floor() * 10.0 } else { high - DEEPEST_DB };
    let y = Axis { low, high, scale: Scale::Linear, from_px: bottom, to_px: top };
    let panel = Panel { x, y };
    panel.draw_grid(sheet)?;
    for (n, line) in lines.iter().enumerate() {
        let points: Vec<(f64, f64)> =
            line.iter().map(|(x, db)| (*x, panel.y.place_within(*db))).collect();
        let width = if n == 0 { 2.0 } else { 1.1 };
        sheet.line(&points, theme::category(n), 0.95, width)?;
    }
    panel.draw_frame(sheet, &format!("Level, {}", figure.level_unit))?;
    panel.draw_note_scale(sheet, figure.reference_hz)?;
    Ok(high - low)
}

fn draw_differences(
    sheet: &Sheet<'_>,
    figure: &DifferenceFigure<'_>,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
    levels_range_db: f64,
) -> Result<(), Error> {
    const LEAST_REACH_DB: f64 = 3.0;
    let bands = &figure.found.bands;
    let x = frequency_axis(figure, across);
    let shown = bands.iter().filter(|band| !band.is_masked);
    let most =
        shown.filter_map(|band| band.difference_db).fold(0.0, |most: f64, db| most.max(db.abs()));
    let reach = ((1.1 * most).max(LEAST_REACH_DB) / 3.0).ceil() * 3.0;
    let y = Axis { low: -reach, high: reach, scale: Scale::Linear, from_px: bottom, to_px: top };
    let panel = Panel { x, y };
    panel.draw_grid(sheet)?;
    for band in bands {
        let (from, to) =
            (panel.x.place_within(band.band.low_hz), panel.x.place_within(band.band.high_hz));
        if let Some(least) = band.least_db {
            let (up, down) = (panel.y.place_within(least), panel.y.place_within(-least));
            sheet.shape(&[(from, up), (to, up), (to, down), (from, down)], theme::ESTIMATE, 0.2)?;
        }
        let Some(db) = band.difference_db else { continue };
        let (zero, end) = (panel.y.place(0.0), panel.y.place_within(db));
        let gap = 0.12 * (to - from);
        let (from, to) = (from + gap, to - gap);
        if band.is_real {
            let colour = if db > 0.0 { theme::category(1) } else { theme::category(0) };
            sheet.shape(&[(from, zero), (to, zero), (to, end), (from, end)], colour, 0.9)?;
        } else if band.is_masked {
            sheet.dashed(&[(from, end), (to, end)], theme::PALE_INK, 1.2)?;
        } else {
            let outline = [(from, zero), (from, end), (to, end), (to, zero)];
            sheet.line(&outline, theme::PALE_INK, 1.0, 1.2)?;
        }
    }
    let zero = panel.y.place(0.0);
    sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.8, 1.2)?;
    panel.draw_frame(sheet, "Difference, dB")?;
    panel.draw_x_scale(sheet, "Frequency, Hz")?;
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let words = format!(
        "Difference of {} from {}: this scale spans {:.0} dB, the one above {levels_range_db:.0} \
         dB. Filled: significant. Outlined: not distinguishable, within what chance explains \
         (shaded). Dashed: masked.",
        figure.names[1],
        figure.names[0],
        2.0 * reach
    );
    sheet.text(across.0, top - 10.0, &words, look)
}

/// Width of a bar of levels with its values, and the space before it.
const BAR_PX: f64 = 74.0;
const BAR_GAP_PX: f64 = 20.0;

/// Width and height of a map in a figure of a size, in cells.
#[must_use]
pub fn maps_cells(size: Size) -> (usize, usize) {
    let width = map_width(size);
    // Notes and findings below take some lines.
    let height = f64::from(size.height) - TOP_PX - 170.0;
    (width.max(8.0) as usize, height.max(8.0) as usize)
}

fn map_width(size: Size) -> f64 {
    const GAP_PX: f64 = 22.0;
    let whole = f64::from(size.width) - LEFT_PX - 2.0 * (BAR_PX + BAR_GAP_PX) - GAP_PX - 8.0;
    (whole / 3.0).floor()
}

/// Draws both spectrograms on locked colours, and their difference beside them.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn maps_figure(figure: &MapsFigure<'_>, size: Size) -> Result<Figure, Error> {
    const GAP_PX: f64 = 22.0;
    Sheet::draw(size, |sheet| {
        let Room { left, bottom, .. } = figure.words.draw(sheet, size)?;
        let width = map_width(size);
        let maps = figure.maps;
        let plan = &maps.a.plan;
        let top = TOP_PX + 12.0;
        let panel = |left: f64, start_s: f64| Panel {
            x: Axis {
                low: start_s,
                high: start_s + plan.span_s(),
                scale: Scale::Linear,
                from_px: left,
                to_px: left + width,
            },
            y: Axis {
                low: plan.edges_hz[0],
                high: plan.edges_hz[plan.edges_hz.len() - 1],
                scale: Scale::Logarithmic,
                from_px: bottom,
                to_px: top,
            },
        };
        let name = Type::new(theme::LABEL_PX, theme::INK).bold();
        for (n, spectrogram) in [&maps.a, &maps.b].into_iter().enumerate() {
            let start_s = maps.start_s[n];
            let panel = panel(left + n as f64 * (width + GAP_PX), start_s);
            let drawn = DrawnSpectrogram {
                name: figure.names[n],
                spectrogram,
                shows: Shown::Level,
                span_s: (start_s, start_s + plan.span_s()),
                reference: figure.references[n],
                marks: Marks::default(),
                slices: &[],
            };
            sheet.picture(picture(&drawn, maps.range_db, figure.colours, &panel))?;
            if n == 0 {
                panel.draw_y_scale(sheet)?;
                panel.draw_title(sheet, "Frequency, Hz")?;
            }
            panel.draw_box(sheet)?;
            panel.draw_x_scale(sheet, "Time, s")?;
            sheet.text(panel.x.from_px, top - 9.0, &elided(figure.names[n], name, width), name)?;
        }
        let levels_left = left + 2.0 * width + GAP_PX + BAR_GAP_PX;
        let table = figure.colours.table();
        let title = format!("dB {}", figure.references[0].words());
        draw_bar(sheet, &table, maps.range_db, &title, (top, bottom), levels_left)?;
        let panel = panel(levels_left + BAR_PX, maps.start_s[0]);
        sheet.picture(difference_picture(maps, &panel))?;
        panel.draw_box(sheet)?;
        panel.draw_x_scale(sheet, "Time, s")?;
        let words = format!("{} less {}; pale: noise", figure.names[1], figure.names[0]);
        let words = elided(&words, name, width);
        sheet.text(panel.x.from_px, top - 9.0, &words, name)?;
        let reach = (-maps.reach_db, maps.reach_db);
        let bar_left = panel.x.to_px + BAR_GAP_PX;
        draw_bar(sheet, &diverging(), reach, "dB", (top, bottom), bar_left)
    })
}

/// A colour most of which is taken from it.
fn muted(colour: [u8; 3]) -> [u8; 3] {
    const KEPT: f64 = 0.16;
    let paper = [theme::GRID.0, theme::GRID.1, theme::GRID.2];
    std::array::from_fn(|n| {
        (KEPT * f64::from(colour[n]) + (1.0 - KEPT) * f64::from(paper[n])).round() as u8
    })
}

/// The pixels of a difference; grey where both are quieter than what is shown, pale where both are
/// noise, of which single cells say nothing.
fn difference_picture(maps: &DifferenceMaps, panel: &Panel) -> Picture {
    const QUIET: RGBColor = theme::GRID;
    let plan = &maps.a.plan;
    let table = diverging();
    let (width, height) =
        ((panel.x.to_px - panel.x.from_px) as usize, (panel.y.from_px - panel.y.to_px) as usize);
    let seconds_per_px = plan.span_s() / width as f64;
    let mut pixels = vec![[QUIET.0, QUIET.1, QUIET.2]; width * height];
    for x in 0..width {
        let column = plan.column_at((x as f64 + 0.5) * seconds_per_px);
        let cells = &maps.difference_db[column * plan.rows()..][..plan.rows()];
        for y in 0..height {
            let row = ((height - 1 - y) * plan.rows() + plan.rows() / 2) / height;
            if let Some(db) = cells[row.min(plan.rows() - 1)] {
                let share = 0.5 + 0.5 * f64::from(db) / maps.reach_db;
                let colour = (share * (COLOURS - 1) as f64).round().clamp(0.0, 255.0) as usize;
                let row = row.min(plan.rows() - 1);
                let is_noise = maps.is_noise[column * plan.rows() + row];
                pixels[y * width + x] = if is_noise { muted(table[colour]) } else { table[colour] };
            }
        }
    }
    panel.picture(width, height, pixels)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::drawn;
    use tonemap_core::Finding;
    use tonemap_core::compare::{Sound, difference_maps};
    use tonemap_core::synth::{mix, sine, to_samples, white_noise};
    use tonemap_core::units::LevelReference;

    const RATE: f64 = 48_000.0;

    /// A tone in noise of its own.
    fn tone(seed: u64, level: f64) -> Vec<f32> {
        let mut sound = white_noise(seed, 1e-3, 96_000);
        let tone: Vec<f64> =
            sine(1000.0, level, 0.0, RATE, 96_000).iter().map(|x| f64::from(*x)).collect();
        mix(&mut sound, &tone);
        to_samples(&sound)
    }

    #[test]
    fn where_noise_is_compared_a_map_of_differences_is_pale() {
        let (a, b) = (tone(1, 0.05), tone(2, 0.2));
        let sound = |samples| Sound { samples, rate_hz: RATE, full_scale_db: 0.0, note: None };
        let cells = maps_cells(Size::default());
        let maps = difference_maps(sound(&a), sound(&b), None, 0.0, (50.0, 16_000.0), cells);
        let maps = maps.expect("maps");
        let plan = &maps.a.plan;
        let panel = Panel {
            x: Axis::linear((0.0, plan.span_s()), (0.0, 200.0)),
            y: Axis {
                scale: Scale::Logarithmic,
                ..Axis::linear((plan.edges_hz[0], plan.edges_hz[plan.rows()]), (400.0, 0.0))
            },
        };
        let picture = difference_picture(&maps, &panel);
        // How far each pixel is from the grey of the paper.
        let grey = [theme::GRID.0, theme::GRID.1, theme::GRID.2];
        let strength = |x: usize, y: usize| {
            let pixel = &picture.pixels[3 * (y * picture.width + x)..][..3];
            pixel.iter().zip(grey).map(|(a, b)| a.abs_diff(b)).max().unwrap_or(0)
        };
        let at_tone = panel.y.place(1000.0) as usize;
        let of_tone: Vec<u8> = (10..190).map(|x| strength(x, at_tone)).collect();
        assert!(of_tone.iter().all(|strength| *strength > 60), "{of_tone:?}");
        let far = |y: &usize| y.abs_diff(at_tone) > 60;
        let of_noise = (0..400).filter(far).flat_map(|y| (10..190).map(move |x| (x, y)));
        let strong = of_noise.clone().filter(|(x, y)| strength(*x, *y) > 40).count();
        let share = strong as f64 / of_noise.count() as f64;
        println!("strongly coloured cells of noise: {share:.5}");
        assert!(share < 0.01, "{share}");
        // Ten findings leave the maps their room, and no words cover others.
        let findings: Vec<Finding> = (0..10)
            .map(|n| Finding::warning("x", format!("take {n} is odd. ").repeat(9)))
            .collect();
        let notes: Vec<String> = (0..4).map(|n| format!("settings {n}")).collect();
        let names = ["a take with a rather long name, channel 1", "another such take, channel 2"];
        let figure = MapsFigure {
            maps: &maps,
            references: [LevelReference::FullScale; 2],
            names,
            colours: ColourMap::default(),
            words: Words { title: "two takes", notes: &notes, findings: &findings },
        };
        let figure = maps_figure(&figure, Size::default()).expect("drawn");
        assert_eq!(drawn::collisions(&figure), Vec::<String>::new());
    }
}
