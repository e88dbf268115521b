//! Level over time and frequency, the newest to the right.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tonemap_core::live::pooled;

use crate::plot::{Axis, axes, clipped, number};
use crate::watch::{COLUMNS, COURSE_S, Watch};

impl Watch {
    pub(crate) fn draw_gram(&self, area: Rect, buffer: &mut Buffer) {
        let plot = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
        let across = Axis::linear(-COURSE_S, 0.0);
        let inner = axes(plot, (&across, "s"), (&self.frequencies, "Hz"), &self.looks, buffer);
        if inner.width == 0 {
            return;
        }
        let (low, high) = self.levels_db;
        self.scale_words(Rect { height: 1, ..area }, buffer);
        let rows = 2 * usize::from(inner.height);
        let edges =
            self.frequencies.scale.edges_hz(self.frequencies.low, self.frequencies.high, rows);
        let shown = self.columns.len().saturating_sub(self.columns_seen % 2);
        let missing = COLUMNS - shown.min(COLUMNS);
        for x in 0..inner.width {
            // Of the columns in a cell the newest is shown.
            let n = (usize::from(x) + 1) * COLUMNS / usize::from(inner.width) - 1;
            let Some(column) = n.checked_sub(missing).and_then(|n| self.columns.get(n)) else {
                continue;
            };
            if column.levels_db.is_empty() {
                continue;
            }
            let levels = pooled(&column.levels_db, self.column_hz, &edges);
            let share = |row: usize| (levels[row] - low) / (high - low);
            for y in 0..inner.height {
                let row = rows - 1 - 2 * usize::from(y);
                let (symbol, style) = self.looks.cells(share(row), share(row - 1));
                buffer[(inner.x + x, inner.y + y)].set_symbol(symbol).set_style(style);
            }
        }
    }

    /// The colours from the quietest to the loudest, with their levels.
    fn scale_words(&self, area: Rect, buffer: &mut Buffer) {
        const STEPS: u16 = 12;
        let (low, high) = self.levels_db;
        let full_scale_db = self.full_scale_db();
        let [low, high] = [low, high].map(|db| number(Some(db + full_scale_db), 0));
        let x = area.x + 6;
        let (after, _) = buffer.set_stringn(x, area.y, format!("{low} "), 8, self.looks.quiet());
        for n in 0..STEPS {
            let share = f64::from(n) / f64::from(STEPS - 1);
            let (symbol, style) = self.looks.cells(share, share);
            buffer[(after + n, area.y)].set_symbol(symbol).set_style(style);
        }
        let words = clipped(&format!(" {high} dB"), usize::from(area.width));
        buffer.set_string(after + STEPS, area.y, words, self.looks.quiet());
    }
}
