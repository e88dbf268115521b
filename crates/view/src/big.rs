//! Letters of several rows, to be read from a distance.

use font8x8::legacy::BASIC_LEGACY;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Rows of a letter that is so many times as large as it is at least.
pub(crate) fn rows(scale: u16) -> u16 {
    4 * scale
}

/// Columns of a text.
pub(crate) fn columns(text: &str, scale: u16) -> u16 {
    8 * scale * text.chars().count() as u16
}

/// Writes a text of ASCII letters into the upper left of an area: each pixel of a letter is half a
/// cell high and one wide, times the scale.
pub(crate) fn write(text: &str, area: Rect, scale: u16, style: Style, buffer: &mut Buffer) {
    for (n, letter) in (0..).zip(text.chars()) {
        let glyph = BASIC_LEGACY.get(letter as usize).copied().unwrap_or_default();
        let is_set = |x: u16, y: u16| {
            let row = glyph.get((y / scale) as usize).copied().unwrap_or(0);
            row >> (x / scale) & 1 == 1
        };
        for y in 0..rows(scale) {
            for x in 0..8 * scale {
                let place = (area.x + n * 8 * scale + x, area.y + y);
                if place.0 >= area.right() || place.1 >= area.bottom() {
                    continue;
                }
                let symbol = match (is_set(x, 2 * y), is_set(x, 2 * y + 1)) {
                    (true, true) => "█",
                    (true, false) => "▀",
                    (false, true) => "▄",
                    (false, false) => continue,
                };
                buffer[place].set_symbol(symbol).set_style(style);
            }
        }
    }
}
