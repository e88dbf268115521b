//! A panel: two axes and what lies between them.

use tonemap_core::spectrogram::FrequencyAxis;

use crate::error::Error;
use crate::notes::elided;
use crate::sheet::{Align, Picture, Sheet, Type};
use crate::theme;
use crate::ticks::{self, Tick};

/// Pixels that a linear axis leaves between its ticks, about.
const X_TICK_PX: f64 = 110.0;
const Y_TICK_PX: f64 = 46.0;
/// And the least that it leaves, where it is short.
const SHORT_TICK_PX: f64 = 40.0;

/// Labels at the left stand no closer.
const LEAST_LABEL_PX: f64 = 14.0;
/// Smallest type of a title that has to fit its axis.
const LEAST_TITLE_PX: f64 = 10.0;
/// What a title may stand over both ends of its axis together: panels lie farther apart.
const TITLE_SLACK_PX: f64 = 12.0;

/// How values are spread along an axis.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Scale {
    Linear,
    Logarithmic,
    /// As an ear spreads frequencies.
    Frequency(FrequencyAxis),
}

/// Values from `low` to `high` along a stretch of pixels.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Axis {
    pub(crate) low: f64,
    pub(crate) high: f64,
    pub(crate) scale: Scale,
    /// Pixels of the two ends.
    pub(crate) from_px: f64,
    pub(crate) to_px: f64,
}

impl Axis {
    /// Equal differences take equal space.
    pub(crate) fn linear((low, high): (f64, f64), (from_px, to_px): (f64, f64)) -> Self {
        Self { low, high, scale: Scale::Linear, from_px, to_px }
    }

    /// Where a value lies, in pixels.
    pub(crate) fn place(&self, value: f64) -> f64 {
        let share = match self.scale {
            Scale::Linear => (value - self.low) / (self.high - self.low),
            Scale::Logarithmic => (value / self.low).ln() / (self.high / self.low).ln(),
            Scale::Frequency(axis) => {
                let low = axis.position(self.low);
                (axis.position(value) - low) / (axis.position(self.high) - low)
            }
        };
        self.from_px + share * (self.to_px - self.from_px)
    }

    /// Where a value lies, cut to the ends.
    pub(crate) fn place_within(&self, value: f64) -> f64 {
        self.place(value.clamp(self.low, self.high))
    }

    pub(crate) fn contains(&self, value: f64) -> bool {
        (self.low..=self.high).contains(&value)
    }

    fn ticks(&self, px_per_tick: f64) -> Vec<Tick> {
        let length = (self.to_px - self.from_px).abs();
        // A short axis has a few values too.
        let count = (length / px_per_tick).max((length / SHORT_TICK_PX).min(4.0));
        match self.scale {
            Scale::Linear => ticks::linear(self.low, self.high, count),
            Scale::Logarithmic => ticks::logarithmic(self.low, self.high),
            Scale::Frequency(_) => ticks::logarithmic(self.low.max(20.0), self.high),
        }
    }
}

/// A frame with an axis below and one at the left.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Panel {
    pub(crate) x: Axis,
    /// From bottom to top: `from_px` is the larger.
    pub(crate) y: Axis,
}

/// A curve through the middles of the short runs in which its height stays the same, given its
/// points as position in pixels and height: what takes its values from steps does not show them as
/// stairs.
pub(crate) fn without_stairs(points: impl IntoIterator<Item = (f64, f64)>) -> Vec<(f64, f64)> {
    const WIDEST_STAIR_PX: f64 = 16.0;
    let mut runs: Vec<(f64, f64, f64)> = Vec::new();
    for (position, height) in points {
        match runs.last_mut() {
            Some((_, end, held)) if *held == height => *end = position,
            _ => runs.push((position, position, height)),
        }
    }
    let corners = |(start, end, height): (f64, f64, f64)| {
        let middle = f64::midpoint(start, end);
        let is_stair = (end - start).abs() <= WIDEST_STAIR_PX;
        let ends = if is_stair { [middle, middle] } else { [start, end] };
        ends.map(|position| (position, height))
    };
    let mut curve: Vec<(f64, f64)> = runs.into_iter().flat_map(corners).collect();
    curve.dedup();
    curve
}

impl Panel {
    /// Pixels, row by row, that fill it.
    pub(crate) fn picture(&self, width: usize, height: usize, pixels: Vec<[u8; 3]>) -> Picture {
        Picture {
            x: self.x.from_px as usize,
            y: self.y.to_px as usize,
            width,
            height,
            pixels: pixels.into_flattened(),
        }
    }

    pub(crate) fn place(&self, x: f64, y: f64) -> (f64, f64) {
        (self.x.place_within(x), self.y.place_within(y))
    }

    /// Labelled values of the axis below.
    pub(crate) fn x_values(&self) -> Vec<f64> {
        let ticks = self.x.ticks(X_TICK_PX).into_iter();
        ticks.filter(|tick| !tick.label.is_empty()).map(|tick| tick.value).collect()
    }

    /// Where the values at the left lie, in pixels, each on one row of them.
    pub(crate) fn y_lines(&self) -> Vec<f64> {
        self.y.ticks(Y_TICK_PX).iter().map(|tick| crisp(self.y.place(tick.value))).collect()
    }

    /// Grid lines alone. To be drawn before what the panel holds.
    pub(crate) fn draw_lines(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        let (left, right) = (self.x.from_px, self.x.to_px);
        let (bottom, top) = (self.y.from_px, self.y.to_px);
        for tick in self.x.ticks(X_TICK_PX) {
            let x = crisp(self.x.place(tick.value));
            let alpha = if tick.label.is_empty() { 0.55 } else { 1.0 };
            sheet.line(&[(x, top), (x, bottom)], theme::GRID, alpha, 1.0)?;
        }
        for tick in self.y.ticks(Y_TICK_PX) {
            let y = crisp(self.y.place(tick.value));
            sheet.line(&[(left, y), (right, y)], theme::GRID, 1.0, 1.0)?;
        }
        Ok(())
    }

    /// Grid lines, and the values at the left. To be drawn before what the panel holds.
    pub(crate) fn draw_grid(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        self.draw_lines(sheet)?;
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Right);
        let mut last_y = f64::INFINITY;
        for tick in self.y.ticks(Y_TICK_PX) {
            let y = crisp(self.y.place(tick.value));
            if last_y - y > LEAST_LABEL_PX && !tick.label.is_empty() {
                sheet.text(self.x.from_px - 8.0, y + 4.5, &tick.label, look)?;
                last_y = y;
            }
        }
        Ok(())
    }

    /// Marks and values at the left of a picture, as many as have room.
    pub(crate) fn draw_y_scale(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        let left = self.x.from_px;
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Right);
        let mut last_y = f64::INFINITY;
        for tick in self.y.ticks(Y_TICK_PX) {
            let y = crisp(self.y.place(tick.value));
            let has_room = last_y - y > LEAST_LABEL_PX && !tick.label.is_empty();
            let length = if has_room { 6.0 } else { 3.0 };
            sheet.line(&[(left - length, y), (left, y)], theme::INK, 1.0, 1.0)?;
            if has_room {
                sheet.text(left - 9.0, y + 4.5, &tick.label, look)?;
                last_y = y;
            }
        }
        Ok(())
    }

    /// The frame alone.
    pub(crate) fn draw_box(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        let (left, right) = (crisp(self.x.from_px), crisp(self.x.to_px));
        let (bottom, top) = (crisp(self.y.from_px), crisp(self.y.to_px));
        let frame = [(left, top), (left, bottom), (right, bottom), (right, top), (left, top)];
        sheet.line(&frame, theme::INK, 1.0, 1.0)
    }

    /// Frame, and the title of the values at the left. To be drawn after what the panel holds.
    pub(crate) fn draw_frame(&self, sheet: &Sheet<'_>, y_title: &str) -> Result<(), Error> {
        self.draw_box(sheet)?;
        self.draw_title(sheet, y_title)
    }

    /// The title of the values at the left.
    pub(crate) fn draw_title(&self, sheet: &Sheet<'_>, y_title: &str) -> Result<(), Error> {
        let (left, middle) = (crisp(self.x.from_px), f64::midpoint(self.y.to_px, self.y.from_px));
        let room = self.y.from_px - self.y.to_px + TITLE_SLACK_PX;
        let sized = |px: f64| Type::new(px, theme::INK);
        let width = sized(theme::AXIS_PX).width(y_title);
        let px = (theme::AXIS_PX * room / width).min(theme::AXIS_PX);
        if px >= LEAST_TITLE_PX {
            return sheet.text_upwards(left - 52.0, middle, y_title, sized(px));
        }
        // A short axis has its title in two lines.
        let (first, second) = halves(y_title);
        let look = sized(LEAST_TITLE_PX);
        for (line, away) in [(first, 60.0), (second, 48.0)] {
            let line = elided(line, look, room);
            sheet.text_upwards(left - away, middle, &line, look)?;
        }
        Ok(())
    }

    /// The values below, as many as have room, and their title.
    pub(crate) fn draw_x_scale(&self, sheet: &Sheet<'_>, title: &str) -> Result<(), Error> {
        let bottom = self.y.from_px;
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
        let mut last_right = f64::NEG_INFINITY;
        for tick in self.x.ticks(X_TICK_PX) {
            let x = crisp(self.x.place(tick.value));
            let half = look.width(&tick.label) / 2.0;
            if !tick.label.is_empty() && x - half > last_right + 8.0 {
                last_right = x + half;
                sheet.text(x, bottom + 19.0, &tick.label, look)?;
            }
        }
        let middle = f64::midpoint(self.x.from_px, self.x.to_px);
        let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
        sheet.text(middle, bottom + 42.0, title, look)
    }

    /// A second scale on top, of notes; nothing where no note has room.
    pub(crate) fn draw_note_scale(
        &self,
        sheet: &Sheet<'_>,
        reference_hz: f64,
    ) -> Result<(), Error> {
        let top = self.y.to_px;
        let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
        let notes =
            ticks::notes(self.x.low, self.x.high, reference_hz, 30.0, |hz| self.x.place(hz));
        for tick in &notes {
            let x = crisp(self.x.place(tick.value));
            let length = if tick.label.is_empty() { 4.0 } else { 8.0 };
            sheet.line(&[(x, top - length), (x, top)], theme::PALE_INK, 1.0, 1.0)?;
            if !tick.label.is_empty() {
                sheet.text(x, top - 12.0, &tick.label, look)?;
            }
        }
        Ok(())
    }
}

/// A text in two lines, as alike in length as its words allow.
fn halves(text: &str) -> (&str, &str) {
    let middle = text.len() / 2;
    let spaces = text.match_indices(' ').map(|(at, _)| at);
    match spaces.min_by_key(|at| at.abs_diff(middle)) {
        Some(at) => (&text[..at], &text[at + 1..]),
        None => (text, ""),
    }
}

/// The middle of the pixel, where a thin line is sharp.
fn crisp(position: f64) -> f64 {
    position.floor() + 0.5
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::Size;

    #[test]
    fn titles_fit_their_axis() {
        let title = "Harmonics over noise, flatness and spectral flux, dB re 20 µPa";
        for height in [60.0, 90.0, 200.0, 420.0] {
            let axis =
                |from_px, to_px| Axis { low: 0.0, high: 1.0, scale: Scale::Linear, from_px, to_px };
            let panel = Panel { x: axis(78.0, 700.0), y: axis(100.0 + height, 100.0) };
            let figure = Sheet::draw(Size::default(), |sheet| panel.draw_frame(sheet, title));
            let svg = figure.expect("drawn").svg().expect("encoded");
            let document = roxmltree::Document::parse(&svg).expect("well-formed");
            let texts = document.descendants().filter(|node| node.has_tag_name("text"));
            let mut count = 0;
            for text in texts {
                let px: f64 =
                    text.attribute("font-size").and_then(|px| px.parse().ok()).expect("a size");
                let words = text.text().expect("words").trim();
                let width = Type::new(px / 20.0, theme::INK).width(words);
                assert!(width <= height + TITLE_SLACK_PX + 0.5, "{words}: {width} of {height}");
                assert!(px / 20.0 >= LEAST_TITLE_PX, "{words}: {px}");
                count += 1;
            }
            assert_eq!(count, if height < 300.0 { 2 } else { 1 }, "{height}");
        }
    }
}
