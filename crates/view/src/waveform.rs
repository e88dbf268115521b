//! The waveform, standing still, with cursors.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::widgets::Widget;
use ratatui::widgets::canvas::{Canvas, Line};
use tonemap_core::live::{level_around, trace};
use tonemap_core::units::Note;

use crate::plot::{Axis, axes, clipped, number, signed};
use crate::theme::Looks;
use crate::watch::Watch;

/// Levels at a cursor are those of so many seconds around it.
const AROUND_S: f64 = 0.005;

impl Watch {
    pub(crate) fn draw_waveform(&self, area: Rect, buffer: &mut Buffer) {
        let readout = if self.time_cursors.is_some() { 2 } else { 0 };
        let plot = Rect { height: area.height.saturating_sub(readout), ..area };
        let shown_s = self.shown_s();
        let (factor, unit) = if shown_s < 1.0 { (1000.0, "ms") } else { (1.0, "s") };
        let across = Axis::linear(0.0, factor * shown_s);
        let reach = self.reach();
        let up = Axis::linear(-reach, reach);
        let inner = axes(plot, (&across, unit), (&up, "FS"), &self.looks, buffer);
        if inner.width == 0 {
            return;
        }
        let columns = 2 * usize::from(inner.width);
        let shown = shown_s * self.format.sample_rate_hz;
        let picture = trace(&self.wave, self.wave_from, shown, columns);
        let curve = self.looks.curve().fg.unwrap_or_default();
        Canvas::default()
            .marker(Marker::Braille)
            .x_bounds([0.0, columns as f64 - 1.0])
            .y_bounds([-reach, reach])
            .paint(|canvas| {
                for (x, (low, high)) in picture.iter().enumerate() {
                    let x = x as f64;
                    let (low, high) = (low.max(-reach), high.min(reach));
                    if low <= high {
                        canvas.draw(&Line { x1: x, y1: low, x2: x, y2: high, color: curve });
                    }
                }
            })
            .render(inner, buffer);
        if let Some(cursors) = &self.time_cursors {
            for (n, place) in cursors.places.iter().enumerate() {
                let share = place / shown_s;
                let name = if n == 0 { "A" } else { "B" };
                self.draw_cursor(inner, share, name, n == cursors.moved, buffer);
            }
            let below = Rect { y: plot.bottom(), height: readout, ..area };
            self.time_readout(below, buffer);
        }
    }

    /// A cursor as a line across a pane, with its name.
    pub(crate) fn draw_cursor(
        &self,
        inner: Rect,
        share: f64,
        name: &str,
        is_moved: bool,
        buffer: &mut Buffer,
    ) {
        if !(0.0..=1.0).contains(&share) {
            return;
        }
        let x = inner.x + (share * f64::from(inner.width - 1)).round() as u16;
        for y in inner.y..inner.bottom() {
            buffer[(x, y)].set_symbol("│").set_style(self.looks.cursor());
        }
        let style = if is_moved { Looks::BAR } else { self.looks.cursor() };
        buffer[(x, inner.y)].set_symbol(name).set_style(style);
    }

    fn time_readout(&self, area: Rect, buffer: &mut Buffer) {
        let Some((cursors, (period, apart_s))) = self.time_cursors.zip(self.between_cursors())
        else {
            return;
        };
        let rate_hz = self.format.sample_rate_hz;
        let level = |place: f64| {
            let place = self.wave_from + place * rate_hz;
            level_around(&self.wave, place, AROUND_S * rate_hz)
        };
        let [a, b] = cursors.places;
        let difference = level(b).zip(level(a)).map(|(b, a)| b - a);
        let first = format!(
            "A {} ms  B {} ms  B−A {} ms = 1/{} Hz  level B−A {} dB",
            number(Some(1000.0 * a), 3),
            number(Some(1000.0 * b), 3),
            signed(1000.0 * apart_s, 3),
            number(Some(1.0 / apart_s.abs()), 1),
            difference.map_or("–".into(), |db| signed(db, 1)),
        );
        let second = match period {
            Some(period) => {
                let reference_hz = self.settings.pitch.reference_hz;
                let note = Note::nearest(period.frequency_hz, reference_hz);
                let note = note.map_or(String::new(), |(note, cents)| {
                    format!("  {note} {} ct", signed(cents, 1))
                });
                let measured =
                    tonemap_core::Measured::new(period.frequency_hz, period.frequency_hz_u);
                let (hz, u) = measured.text(3);
                format!(
                    "period {} ms = {hz} ± {u} Hz{note}  ({} periods)",
                    number(Some(1000.0 * period.period_s), 4),
                    period.periods
                )
            }
            None => "no period between A and B: 1.4 periods are needed".into(),
        };
        let width = usize::from(area.width);
        buffer.set_string(area.x, area.y, clipped(&first, width), self.looks.cursor());
        buffer.set_string(area.x, area.y + 1, clipped(&second, width), self.looks.cursor());
    }
}
