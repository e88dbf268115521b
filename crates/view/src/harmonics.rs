//! The partials of what sounds now, as a table with bars.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tonemap_core::Measured;

use crate::plot::{Axis, clipped, number, signed};
use crate::theme::Looks;
use crate::watch::Watch;

/// Columns of the numbers.
const NUMBERS: u16 = 50;

impl Watch {
    pub(crate) fn draw_partials(&self, area: Rect, buffer: &mut Buffer) {
        let quiet = self.looks.quiet();
        let Some(found) = self.partials.as_ref().filter(|found| !found.partials.is_empty()) else {
            let text = "no partials: no note sounds, or not for a second yet";
            buffer.set_string(area.x + 2, area.y, clipped(text, area.width.into()), quiet);
            return;
        };
        let text = |value: Option<Measured>, most: usize| {
            let (value, u) = value.map_or(("–".into(), "–".into()), |value| value.text(most));
            format!("{value} ± {u}")
        };
        let head = format!(
            "f0 {} Hz   inharmonicity B {}",
            text(found.f0_hz, 3),
            text(found.inharmonicity, 7)
        );
        buffer.set_string(area.x, area.y, clipped(&head, area.width.into()), Looks::NUMBER);
        let columns = "  n            Hz      ± Hz  ct from harmonic     dB";
        buffer.set_string(area.x, area.y + 1, clipped(columns, area.width.into()), quiet);
        let (low, high) = self.levels_db;
        let full_scale_db = self.full_scale_db();
        let axis = Axis::linear(low + full_scale_db, high + full_scale_db);
        let room = area.width.saturating_sub(NUMBERS + 3);
        let rows = usize::from(area.height).saturating_sub(2);
        for (n, partial) in found.partials.iter().take(rows).enumerate() {
            let y = area.y + 2 + n as u16;
            let hz = Measured::new(partial.frequency_hz, partial.frequency_hz_u).text(3);
            let cents = partial.cents_from_harmonic;
            let line = format!(
                "{:>3} {:>13} {:>9} {:>17} {:>6}",
                partial.number,
                hz.0,
                hz.1,
                cents.map_or("–".into(), |cents| signed(cents, 2)),
                number(Some(partial.level_db), 1)
            );
            buffer.set_string(area.x, y, clipped(&line, area.width.into()), Looks::NUMBER);
            let share = axis.share(partial.level_db).clamp(0.0, 1.0);
            let filled = (share * f64::from(room)) as u16;
            for x in 0..filled {
                let place = (area.x + NUMBERS + 3 + x, y);
                buffer[place].set_symbol("█").set_style(self.looks.curve());
            }
        }
        let more = found.partials.len().saturating_sub(rows);
        if more > 0 {
            let text = format!(" and {more} more ");
            let x = area.right().saturating_sub(text.chars().count() as u16);
            buffer.set_string(x, area.bottom() - 1, text, quiet);
        }
    }
}
