//! Timbre drawn: the descriptors of a note over time, and its harmonics over the noise beside them.

use tonemap_core::timbre::{DESCRIPTORS, Descriptor, HarmonicContent, Timbre, TimbrePoint};
use tonemap_core::units::db_from_power;

use crate::error::Error;
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Sheet, Size, Type};
use crate::theme;

/// The descriptors of a note over time, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct CourseFigure<'a> {
    /// What was found.
    pub found: &'a Timbre,
    /// See above.
    pub level_unit: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// The harmonics of a note, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct ContentFigure<'a> {
    /// What was found.
    pub content: &'a HarmonicContent,
    /// See above.
    pub level_unit: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// A panel of the course: its title and what is drawn in it.
struct Course {
    title: String,
    curves: Vec<(&'static str, Vec<(f64, f64)>)>,
    /// The range is at least so wide, so that what hardly moves looks steady.
    least_range: f64,
    scale: Scale,
}

/// Draws the level and the descriptors over time, the attack and the sustained part marked.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn course_figure(figure: &CourseFigure<'_>, size: Size) -> Result<Figure, Error> {
    const BETWEEN_PX: f64 = 96.0;
    const ROW_GAP_PX: f64 = 40.0;
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let courses = courses(figure);
        let rows = courses.len().div_ceil(2);
        let width = 0.5 * (right - left - BETWEEN_PX);
        let pitch = (bottom - TOP_PX + ROW_GAP_PX) / rows as f64;
        for (n, course) in courses.iter().enumerate() {
            let (column, row) = (n / rows, n % rows);
            let left = left + column as f64 * (width + BETWEEN_PX);
            let top = TOP_PX + row as f64 * pitch;
            let below = top + pitch - ROW_GAP_PX;
            let is_last = row + 1 == rows || n + 1 == courses.len();
            draw_course(
                sheet,
                figure.found,
                course,
                ((left, left + width), (top, below)),
                is_last,
            )?;
        }
        Ok(())
    })
}

/// What is drawn, as far as there is anything.
fn courses(figure: &CourseFigure<'_>) -> Vec<Course> {
    let found = figure.found;
    let name = |descriptor: Descriptor| DESCRIPTORS[descriptor as usize].1.name;
    let of = |descriptor: Descriptor| -> (&'static str, Vec<(f64, f64)>) {
        let value = |point: &TimbrePoint| Some((point.time_s, point.descriptors.get(descriptor)?));
        (name(descriptor), found.track.iter().filter_map(value).collect())
    };
    let course = |title: &str, descriptors: &[Descriptor], least_range: f64, scale: Scale| Course {
        title: title.into(),
        curves: descriptors.iter().map(|d| of(*d)).collect(),
        least_range,
        scale,
    };
    let level = found.track.iter().map(|p| (p.time_s, p.level_db));
    let mut all = vec![
        Course {
            title: format!("Level, {}", figure.level_unit),
            curves: vec![("level", level.collect())],
            least_range: 20.0,
            scale: Scale::Linear,
        },
        course(
            "Frequency, Hz",
            &[Descriptor::Centroid, Descriptor::Rolloff85, Descriptor::Rolloff95],
            2.0,
            Scale::Logarithmic,
        ),
        course(
            "Ratio, dB",
            &[Descriptor::HarmonicToNoise, Descriptor::OddEven],
            20.0,
            Scale::Linear,
        ),
        course(
            "Share of amplitude",
            &[Descriptor::Tristimulus1, Descriptor::Tristimulus2, Descriptor::Tristimulus3],
            1.0,
            Scale::Linear,
        ),
        course("Slope, dB/octave", &[Descriptor::Slope], 10.0, Scale::Linear),
        course(
            "Flatness and flux, dB",
            &[Descriptor::Flatness, Descriptor::Flux],
            20.0,
            Scale::Linear,
        ),
    ];
    // Both are shares that span many powers of ten.
    if let Some(shares) = all.last_mut() {
        for (_, points) in &mut shares.curves {
            for (_, share) in points.iter_mut() {
                *share = db_from_power(share.max(1e-9));
            }
        }
    }
    for course in &mut all {
        course.curves.retain(|(_, points)| points.len() > 1);
    }
    all.retain(|course| course.curves.iter().any(|(_, points)| points.len() > 1));
    all
}

/// A range that holds all values between the first and the last percent, at least so wide.
fn range_of(course: &Course) -> (f64, f64) {
    let mut values: Vec<f64> =
        course.curves.iter().flat_map(|(_, points)| points.iter().map(|p| p.1)).collect();
    values.sort_by(f64::total_cmp);
    let at = |share: f64| values[(share * (values.len() - 1) as f64) as usize];
    let (low, high) = (at(0.01), at(0.99));
    if course.scale == Scale::Logarithmic {
        let least = course.least_range.sqrt();
        let middle = (low * high).sqrt();
        return ((low / 1.3).min(middle / least), (high * 1.3).max(middle * least));
    }
    let middle = f64::midpoint(low, high);
    let half = (0.58 * (high - low)).max(0.5 * course.least_range);
    if course.least_range == 1.0 { (0.0, 1.0) } else { (middle - half, middle + half) }
}

fn draw_course(
    sheet: &Sheet<'_>,
    found: &Timbre,
    course: &Course,
    ((left, right), (top, bottom)): ((f64, f64), (f64, f64)),
    is_last: bool,
) -> Result<(), Error> {
    let (low, high) = range_of(course);
    let (start_s, end_s) = (
        found.regions.whole.start_s,
        found.regions.whole.end_s.max(found.regions.whole.start_s + 1e-3),
    );
    let panel = Panel {
        x: Axis { low: start_s, high: end_s, scale: Scale::Linear, from_px: left, to_px: right },
        y: Axis { low, high, scale: course.scale, from_px: bottom, to_px: top },
    };
    if let Some(attack) = &found.regions.attack {
        let (from, to) = (panel.x.place_within(attack.start_s), panel.x.place_within(attack.end_s));
        let corners = [(from, top), (to, top), (to, bottom), (from, bottom)];
        sheet.shape(&corners, theme::ONSET, 0.14)?;
    }
    panel.draw_grid(sheet)?;
    let sustain_px = panel.x.place_within(found.regions.sustain.end_s);
    sheet.dashed(&[(sustain_px, top), (sustain_px, bottom)], theme::PALE_INK, 1.0)?;
    let mut name_px = left + 10.0;
    for (n, (name, points)) in course.curves.iter().enumerate() {
        let line: Vec<(f64, f64)> = points.iter().map(|(t, v)| panel.place(*t, *v)).collect();
        match n {
            1 => sheet.dashed(&line, theme::category(n), 1.8)?,
            _ => sheet.line(&line, theme::category(n), 1.0, 1.8)?,
        }
        if course.curves.len() > 1 {
            let look = Type::new(theme::LABEL_PX, theme::INK);
            let y = top - 8.0;
            let sign = [(name_px, y - 4.0), (name_px + 20.0, y - 4.0)];
            match n {
                1 => sheet.dashed(&sign, theme::category(n), 2.0)?,
                _ => sheet.line(&sign, theme::category(n), 1.0, 2.4)?,
            }
            sheet.text(name_px + 26.0, y, name, look)?;
            name_px += 44.0 + look.width(name);
        }
    }
    panel.draw_frame(sheet, &course.title)?;
    if is_last {
        panel.draw_x_scale(sheet, "Time, s")?;
    }
    Ok(())
}

/// Draws the levels of the harmonics as bars with the noise around each, their cumulative power,
/// and the noise by octaves.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn content_figure(figure: &ContentFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let split = (TOP_PX + 0.6 * (bottom - TOP_PX)).floor();
        draw_bars(sheet, figure, ((left, right), (TOP_PX, split - 62.0)))?;
        let middle = left + 0.5 * (right - left);
        draw_shares(sheet, figure, ((left, middle - 20.0), (split, bottom)))?;
        draw_noise(sheet, figure, ((middle + 70.0, right), (split, bottom)))
    })
}

fn harmonic_axis(figure: &ContentFigure<'_>, (from_px, to_px): (f64, f64)) -> Axis {
    let last = figure.content.harmonics.iter().map(|h| h.number).max().unwrap_or(1);
    Axis { low: 0.3, high: last as f64 + 0.7, scale: Scale::Linear, from_px, to_px }
}

fn draw_bars(
    sheet: &Sheet<'_>,
    figure: &ContentFigure<'_>,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<(), Error> {
    const DEEPEST_DB: f64 = 110.0;
    let harmonics = &figure.content.harmonics;
    let noise = || harmonics.iter().filter_map(|h| h.noise_level_db);
    let levels = || harmonics.iter().map(|h| h.level_db);
    let high = ((levels().fold(-400.0, f64::max) + 8.0) / 10.0).ceil() * 10.0;
    let low = levels().chain(noise()).fold(f64::INFINITY, f64::min) - 4.0;
    let low = (low.max(high - DEEPEST_DB) / 10.0).floor() * 10.0;
    let panel = Panel {
        x: harmonic_axis(figure, across),
        y: Axis { low, high, scale: Scale::Linear, from_px: bottom, to_px: top },
    };
    panel.draw_grid(sheet)?;
    let spacing = panel.x.place(2.0) - panel.x.place(1.0);
    let half = (0.36 * spacing).clamp(1.0, 22.0);
    for harmonic in harmonics {
        let (x, y) = panel.place(harmonic.number as f64, harmonic.level_db);
        let bar = [(x - half, y), (x + half, y), (x + half, bottom), (x - half, bottom)];
        sheet.shape(&bar, theme::CURVE, 0.85)?;
        if let Some(noise_db) = harmonic.noise_level_db {
            let y = panel.y.place_within(noise_db);
            let floor = [(x - half, y), (x + half, y), (x + half, bottom), (x - half, bottom)];
            sheet.shape(&floor, theme::ESTIMATE, 1.0)?;
        }
        if spacing > 34.0 {
            let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
            let db = crate::ticks::number(harmonic.level_db, 1);
            sheet.text(x, y - 7.0, &db, look)?;
        }
    }
    panel.draw_frame(sheet, &format!("Level, {}", figure.level_unit))?;
    panel.draw_x_scale(sheet, "Number of the harmonic")?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let names =
        [("harmonics", theme::CURVE), ("noise within one spacing around each", theme::ESTIMATE)];
    let mut x = across.1;
    for (name, colour) in names.into_iter().rev() {
        x -= look.width(name);
        sheet.text(x, 31.0, name, look)?;
        let square = [(x - 18.0, 21.0), (x - 6.0, 21.0), (x - 6.0, 33.0), (x - 18.0, 33.0)];
        sheet.shape(&square, colour, 1.0)?;
        x -= 38.0;
    }
    Ok(())
}

/// The cumulative power of the harmonics.
fn draw_shares(
    sheet: &Sheet<'_>,
    figure: &ContentFigure<'_>,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<(), Error> {
    let harmonics = &figure.content.harmonics;
    let panel = Panel {
        x: harmonic_axis(figure, across),
        y: Axis { low: 0.0, high: 105.0, scale: Scale::Linear, from_px: bottom, to_px: top },
    };
    panel.draw_grid(sheet)?;
    let point = |number: usize, share: f64| panel.place(number as f64, 100.0 * share);
    let line: Vec<(f64, f64)> =
        harmonics.iter().map(|h| point(h.number, h.cumulative_share)).collect();
    sheet.line(&line, theme::CURVE, 1.0, 1.8)?;
    for (x, y) in line {
        sheet.dot(x, y, 3.6, theme::CURVE, true)?;
    }
    panel.draw_frame(sheet, "Power up to it, %")?;
    panel.draw_x_scale(sheet, "Number of the harmonic")
}

/// The noise in octave bands, with its share of their power.
fn draw_noise(
    sheet: &Sheet<'_>,
    figure: &ContentFigure<'_>,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<(), Error> {
    let bands = &figure.content.noise_bands;
    let (low, high) = bands.iter().fold((f64::INFINITY, -400.0f64), |(low, high), band| {
        (low.min(band.noise_level_db), high.max(band.noise_level_db))
    });
    if bands.is_empty() {
        let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
        return sheet.text(
            across.0,
            top + 18.0,
            "too short to separate noise from harmonics",
            look,
        );
    }
    let panel = Panel {
        x: Axis {
            low: bands[0].band.low_hz,
            high: bands[bands.len() - 1].band.high_hz,
            scale: Scale::Logarithmic,
            from_px: across.0,
            to_px: across.1,
        },
        y: Axis {
            low: ((low - 6.0) / 10.0).floor() * 10.0,
            high: ((high + 10.0) / 10.0).ceil() * 10.0,
            scale: Scale::Linear,
            from_px: bottom,
            to_px: top,
        },
    };
    panel.draw_grid(sheet)?;
    for band in bands {
        let gap = 0.1 * (panel.x.place(band.band.high_hz) - panel.x.place(band.band.low_hz));
        let left = panel.x.place(band.band.low_hz) + gap;
        let right = panel.x.place(band.band.high_hz) - gap;
        let y = panel.y.place_within(band.noise_level_db);
        let bar = [(left, y), (right, y), (right, bottom), (left, bottom)];
        sheet.shape(&bar, theme::ESTIMATE, 0.9)?;
        let share = 100.0 * band.noise_share;
        let decimals = usize::from(share < 9.95);
        let words = match share {
            share if share < 0.05 => "<0.1".to_string(),
            share => crate::ticks::number(share, decimals),
        };
        let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
        sheet.text(0.5 * (left + right), y - 7.0, &words, look)?;
    }
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Right);
    sheet.text(
        across.1,
        top - 8.0,
        "above each bar: its share of the power of its octave, %",
        look,
    )?;
    panel.draw_frame(sheet, &format!("Noise, {}", figure.level_unit))?;
    panel.draw_x_scale(sheet, "Octave, Hz")
}
