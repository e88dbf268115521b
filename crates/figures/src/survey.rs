//! Quantities over the takes of a survey, drawn as small multiples.

use tonemap_core::collection::{Distribution, Histogram};

use crate::error::Error;
use crate::notes::{Room, TOP_PX, Words, elided};
use crate::panel::{Axis, Panel};
use crate::sheet::{Align, Figure, Mark, Sheet, Size, Type};
use crate::theme;

/// Panels beside each other.
const COLUMNS: usize = 3;
/// Room of a panel for its numbers at the left, its title above, and its names below.
const LEFT_PX: f64 = 62.0;
const ABOVE_PX: f64 = 30.0;
const BELOW_PX: f64 = 46.0;
const BETWEEN_PX: f64 = 22.0;
/// What a name may stand over either end of its axis.
const SLACK_PX: f64 = 30.0;

/// Takes of a survey to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct SurveyFigure<'a> {
    /// A panel for each quantity; six are shown.
    pub panels: &'a [SurveyPanel],
    /// What the groups are; empty if there is one.
    pub by: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// A quantity.
#[derive(Debug, Clone, PartialEq)]
pub struct SurveyPanel {
    /// Its name with its unit.
    pub title: String,
    /// The groups of takes: a box each.
    pub groups: Vec<SurveyGroup>,
    /// How often each value is, where there is one group.
    pub histogram: Option<Histogram>,
}

/// Takes of a group.
#[derive(Debug, Clone, PartialEq)]
pub struct SurveyGroup {
    /// Its name.
    pub name: String,
    /// How its values are spread.
    pub spread: Distribution,
    /// Values that stand out, with the name of their take where it is to be read.
    pub odd: Vec<(f64, Option<String>)>,
}

/// Draws a panel for each quantity: the spread of every group as a box from quartile to quartile,
/// with its median, whiskers from 5 to 95 % and dots at the ends, and what stands out as marks; of one group how often
/// each value is.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn survey_figure(figure: &SurveyFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { right, bottom, .. } = figure.words.draw(sheet, size)?;
        let shown = &figure.panels[..figure.panels.len().min(2 * COLUMNS)];
        let rows = shown.len().div_ceil(COLUMNS).max(1);
        let columns = shown.len().clamp(1, COLUMNS);
        // The words leave room for one scale below; each panel has its own.
        let height = (bottom + BELOW_PX - TOP_PX + 8.0) / rows as f64;
        let width = (right - BETWEEN_PX) / columns as f64;
        for (n, one) in shown.iter().enumerate() {
            let left = BETWEEN_PX + width * (n % columns) as f64 + LEFT_PX;
            let top = TOP_PX - 14.0 + height * (n / columns) as f64 + ABOVE_PX;
            let along = (left, left - LEFT_PX + width - BETWEEN_PX);
            let down = (top + height - ABOVE_PX - BELOW_PX, top);
            let look = Type::new(theme::AXIS_PX, theme::INK).bold();
            let title = elided(&one.title, look, along.1 - along.0);
            sheet.text(along.0, top - 10.0, &title, look)?;
            match &one.histogram {
                Some(histogram) => draw_histogram(sheet, one, histogram, (along, down))?,
                None => draw_groups(sheet, one, figure.by, (along, down))?,
            }
        }
        Ok(())
    })
}

/// Ends of an axis that holds all values, with some room.
fn ends(one: &SurveyPanel) -> (f64, f64) {
    let odd = |group: &SurveyGroup| group.odd.iter().map(|(value, _)| *value).collect::<Vec<_>>();
    let all = one.groups.iter().flat_map(|group| {
        let Distribution { least, greatest, .. } = group.spread;
        [least, greatest].into_iter().chain(odd(group))
    });
    let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| {
        (low.min(value), high.max(value))
    });
    if low > high {
        return (0.0, 1.0);
    }
    let margin = (0.08 * (high - low)).max(1e-9 * low.abs().max(high.abs())).max(1e-12);
    (low - margin, high + margin)
}

type Place = ((f64, f64), (f64, f64));

fn draw_groups(
    sheet: &Sheet<'_>,
    one: &SurveyPanel,
    by: &str,
    (along, down): Place,
) -> Result<(), Error> {
    let count = one.groups.len().max(1);
    let panel =
        Panel { x: Axis::linear((0.0, count as f64), along), y: Axis::linear(ends(one), down) };
    draw_levels(sheet, &panel)?;
    let wide = (along.1 - along.0) / count as f64;
    let half = (0.32 * wide).min(26.0);
    let mut drawn = Vec::new();
    for (n, group) in one.groups.iter().enumerate() {
        let spread = &group.spread;
        let x = panel.x.place(n as f64 + 0.5);
        let y = |value: f64| panel.y.place_within(value);
        sheet.line(&[(x, y(spread.low)), (x, y(spread.high))], theme::CURVE, 1.0, 1.4)?;
        let (lower, upper) = (y(spread.lower_quartile), y(spread.upper_quartile));
        let (lower, upper) = (lower.max(upper + 1.0), upper);
        let corners = [(x - half, lower), (x + half, lower), (x + half, upper), (x - half, upper)];
        sheet.shape(&corners, theme::PAPER, 1.0)?;
        sheet.shape(&corners, theme::CURVE, 0.3)?;
        let closed: Vec<(f64, f64)> = corners.iter().copied().chain([corners[0]]).collect();
        sheet.line(&closed, theme::CURVE, 1.0, 1.2)?;
        let middle = y(spread.median);
        sheet.line(&[(x - half, middle), (x + half, middle)], theme::INK, 1.0, 2.2)?;
        // Where a whisker ends well within the values.
        for (end, whisker) in [(spread.least, spread.low), (spread.greatest, spread.high)] {
            if (y(end) - y(whisker)).abs() > 3.0 {
                sheet.dot(x, y(end), 2.0, theme::CURVE, true)?;
            }
        }
        for (value, name) in &group.odd {
            let place = (x, y(*value));
            sheet.mark(place.0, place.1, 4.4, theme::TONE, true, Mark::of(1))?;
            draw_name(sheet, name.as_deref(), place, along, &mut drawn)?;
        }
    }
    // Names stand under their box, as many as there is room for.
    let look = Type::new(theme::LABEL_PX, theme::INK).align(Align::Centre);
    let widest = one.groups.iter().map(|group| look.width(&group.name)).fold(0.0, f64::max);
    let every = ((widest.min(90.0) + 10.0) / wide).ceil().max(1.0) as usize;
    for (n, group) in one.groups.iter().enumerate().step_by(every) {
        let x = panel.x.place(n as f64 + 0.5);
        let beside = (x - along.0).min(along.1 - x) + SLACK_PX;
        let room = (wide * every as f64 - 8.0).min(2.0 * beside);
        let name = elided(&group.name, look, room);
        sheet.text(x, down.0 + 17.0, &name, look)?;
    }
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
    sheet.text(f64::midpoint(along.0, along.1), down.0 + 34.0, by, look)?;
    panel.draw_box(sheet)
}

fn draw_histogram(
    sheet: &Sheet<'_>,
    one: &SurveyPanel,
    histogram: &Histogram,
    (along, down): Place,
) -> Result<(), Error> {
    let most = histogram.counts.iter().copied().max().unwrap_or(0).max(1);
    let (low, high) = ends(one);
    let low = low.min(histogram.from);
    let high = high.max(histogram.from + histogram.step * histogram.counts.len() as f64);
    let panel = Panel {
        x: Axis::linear((low, high), along),
        y: Axis::linear((0.0, 1.12 * most as f64), down),
    };
    draw_levels(sheet, &panel)?;
    for (n, count) in histogram.counts.iter().enumerate().filter(|(_, count)| **count > 0) {
        let from = histogram.from + histogram.step * n as f64;
        let (left, top) = panel.place(from, *count as f64);
        let (right, bottom) = panel.place(from + histogram.step, 0.0);
        let right = (right - 1.0).max(left + 1.0);
        let corners = [(left, bottom), (left, top), (right, top), (right, bottom)];
        sheet.shape(&corners, theme::CURVE, 0.55)?;
    }
    let mut drawn = Vec::new();
    for group in &one.groups {
        let x = panel.x.place(group.spread.median);
        sheet.line(&[(x, down.0), (x, down.1)], theme::INK, 1.0, 1.4)?;
        for (value, name) in &group.odd {
            let place = (panel.x.place(*value), down.0 - 8.0);
            sheet.mark(place.0, place.1, 4.4, theme::TONE, true, Mark::of(1))?;
            draw_name(sheet, name.as_deref(), (place.0, place.1 - 4.0), along, &mut drawn)?;
        }
    }
    // The quantity stands above; how high a bar is, the words below the figure say.
    panel.draw_x_scale(sheet, "")?;
    panel.draw_box(sheet)
}

/// The lines and numbers of the vertical scale.
fn draw_levels(sheet: &Sheet<'_>, panel: &Panel) -> Result<(), Error> {
    let (left, right) = (panel.x.from_px, panel.x.to_px);
    for y in panel.y_lines() {
        sheet.line(&[(left, y), (right, y)], theme::GRID, 1.0, 1.0)?;
    }
    panel.draw_y_scale(sheet)
}

/// Draws the name of a take beside its mark, on the side that has room, unless it would cover
/// another.
fn draw_name(
    sheet: &Sheet<'_>,
    name: Option<&str>,
    (x, y): (f64, f64),
    (left, right): (f64, f64),
    drawn: &mut Vec<(f64, f64, f64)>,
) -> Result<(), Error> {
    let Some(name) = name else { return Ok(()) };
    let look = Type::new(theme::LABEL_PX, theme::TONE);
    let is_left = x > f64::midpoint(left, right);
    let room = if is_left { x - left } else { right - x } - 14.0;
    let name = elided(name, look, room);
    let width = look.width(&name);
    let from = if is_left { x - 8.0 - width } else { x + 8.0 };
    let covers = |(other, to, height): &(f64, f64, f64)| {
        from < to + 4.0 && *other < from + width + 4.0 && (y - height).abs() < theme::LABEL_PX
    };
    if drawn.iter().any(covers) {
        return Ok(());
    }
    drawn.push((from, from + width, y));
    sheet.text(from, y + 4.0, &name, look)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::drawn;
    use tonemap_core::collection::{distribution, histogram};

    fn group(name: &str, n: usize) -> SurveyGroup {
        let values = (0..40).map(|k| 100.0 * n as f64 + f64::from(k * k % 37));
        let spread = distribution(values).expect("values");
        let odd = vec![(spread.greatest + 80.0, Some(format!("a take of group {n}.wav")))];
        SurveyGroup { name: name.into(), spread, odd }
    }

    /// One group and many, with long names, on three sizes: no text covers another, and what stands
    /// out is named.
    #[test]
    fn groups_and_takes_are_named_where_there_is_room() {
        let long = "a group whose name is rather long";
        for count in [1, 2, 7, 40] {
            let groups: Vec<SurveyGroup> = (0..count).map(|n| group(long, n)).collect();
            let values: Vec<f64> = (0..40).map(|k| f64::from(k * k % 37)).collect();
            let spread = groups[0].spread;
            let panel = SurveyPanel {
                title: "pitch, note 1, fundamental, Hz".into(),
                histogram: (count == 1).then(|| histogram(&values, &spread, 24)),
                groups,
            };
            for panels in [1, 2, 6, 9] {
                let panels = vec![panel.clone(); panels];
                let notes = ["40 takes".to_string()];
                let words = Words { title: "archive.sqlite", notes: &notes, findings: &[] };
                let figure = SurveyFigure { panels: &panels, by: "instrument", words };
                for (width, height) in [(900, 600), (1280, 800), (1920, 1080)] {
                    let drawn = survey_figure(&figure, Size { width, height }).expect("drawn");
                    let collisions = drawn::collisions(&drawn);
                    assert_eq!(collisions, Vec::<String>::new(), "{count} {width}");
                    let named = drawn::texts(&drawn);
                    let named =
                        named.iter().filter(|text| text.words.starts_with("a take")).count();
                    let wanted = if count == 40 { 0 } else { panels.len().min(6) };
                    assert!(named >= wanted, "{count} {width}: {named} of {wanted}");
                }
            }
        }
    }
}
