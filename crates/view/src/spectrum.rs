//! The spectrum, with what was highest before, cursors, and its tones.

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Color;
use ratatui::symbols::Marker;
use ratatui::widgets::Widget;
use ratatui::widgets::canvas::{Canvas, Line};
use tonemap_core::live::{levels_db, pooled};
use tonemap_core::units::{LevelReference, Note, cents_between};

use crate::plot::{Axis, axes, clipped, number, signed};
use crate::theme::Looks;
use crate::watch::Watch;

/// Columns of the table of tones.
const TABLE: u16 = 32;

impl Watch {
    /// The spectrum with its tones beside it.
    pub(crate) fn draw_spectrum_pane(&self, area: Rect, buffer: &mut Buffer) {
        let parts = [Constraint::Min(30), Constraint::Length(TABLE)];
        let [left, right] = Layout::horizontal(parts).spacing(1).areas(area);
        self.draw_spectrum(left, buffer);
        self.tones(right, buffer);
    }

    pub(crate) fn draw_spectrum(&self, area: Rect, buffer: &mut Buffer) {
        let readout = if self.frequency_cursors.is_some() { 2 } else { 0 };
        let rows = [Constraint::Length(1), Constraint::Min(4), Constraint::Length(readout)];
        let [head, plot, below] = Layout::vertical(rows).areas(area);
        buffer.set_string(
            head.x,
            head.y,
            clipped(&self.spectrum_words(), usize::from(head.width)),
            self.looks.quiet(),
        );
        let (low, high) = self.levels_db;
        let full_scale_db = self.full_scale_db();
        let up = Axis::linear(low + full_scale_db, high + full_scale_db);
        let unit = match self.settings.reference {
            LevelReference::FullScale => "dBFS",
            _ => "dB",
        };
        let inner = axes(plot, (&self.frequencies, "Hz"), (&up, unit), &self.looks, buffer);
        if inner.width == 0 {
            return;
        }
        let columns = 2 * usize::from(inner.width);
        let axis = self.frequencies;
        let edges = axis.scale.edges_hz(axis.low, axis.high, columns);
        let Some(now) = &self.power else {
            buffer.set_string(inner.x + 2, inner.y + 1, "listening …", self.looks.quiet());
            return;
        };
        let levels = pooled(&levels_db(&now.power), now.bin_spacing_hz, &edges);
        let held = if self.holds {
            pooled(&levels_db(&self.held), now.bin_spacing_hz, &edges)
        } else {
            Vec::new()
        };
        let colour = |style: ratatui::style::Style| style.fg.unwrap_or(Color::Reset);
        let (curve, before) = (colour(self.looks.curve()), colour(self.looks.held()));
        Canvas::default()
            .marker(Marker::Braille)
            .x_bounds([0.0, columns as f64 - 1.0])
            .y_bounds([low, high])
            .paint(|canvas| {
                for (x, two) in held.windows(2).enumerate() {
                    let [y1, y2] = [two[0], two[1]].map(|db| db.clamp(low, high));
                    if y1 > low || y2 > low {
                        let (x1, x2) = (x as f64, x as f64 + 1.0);
                        canvas.draw(&Line { x1, y1, x2, y2, color: before });
                    }
                }
                canvas.layer();
                for (x, db) in levels.iter().enumerate().filter(|(_, db)| **db > low) {
                    let (x, y2) = (x as f64, db.min(high));
                    canvas.draw(&Line { x1: x, y1: low, x2: x, y2, color: curve });
                }
            })
            .render(inner, buffer);
        if let Some(cursors) = &self.frequency_cursors {
            for (n, place) in cursors.places.iter().enumerate() {
                let name = if n == 0 { "A" } else { "B" };
                self.draw_cursor(inner, axis.share(*place), name, n == cursors.moved, buffer);
            }
            self.frequency_readout(below, buffer);
        }
    }

    /// How the spectrum is measured.
    fn spectrum_words(&self) -> String {
        let resolution = match &self.power {
            Some(now) => format!("{} Hz resolution", number(Some(now.resolution_hz), 1)),
            None => String::new(),
        };
        let average = match self.settings.average_s {
            0.0 => "one frame".into(),
            average_s => format!("average of {} s", number(Some(average_s), 1)),
        };
        let held = if self.holds { ", highest held" } else { "" };
        format!("{} window, {resolution}, {average}{held}", self.settings.spectrum.frames.window)
    }

    fn frequency_readout(&self, area: Rect, buffer: &mut Buffer) {
        let Some((cursors, now)) = self.frequency_cursors.zip(self.power.as_ref()) else { return };
        let reference_hz = self.settings.pitch.reference_hz;
        let levels = levels_db(&now.power);
        let level = |hz: f64| {
            let half_hz = 0.5 * now.bin_spacing_hz;
            let cell = [hz - half_hz, hz + half_hz];
            pooled(&levels, now.bin_spacing_hz, &cell).first().copied().unwrap_or(-300.0)
        };
        let place = |name: &str, hz: f64| {
            let note = Note::nearest(hz, reference_hz);
            let note = note
                .map_or(String::new(), |(note, cents)| format!(" {note} {} ct", signed(cents, 0)));
            let db = level(hz) + self.full_scale_db();
            format!("{name} {} Hz{note} {} dB", number(Some(hz), 1), number(Some(db), 1))
        };
        let [a, b] = cursors.places;
        let first = format!("{}   {}", place("A", a), place("B", b));
        let second = format!(
            "B−A {} Hz = {} ct, ratio {}  level B−A {} dB",
            signed(b - a, 1),
            signed(cents_between(a, b), 0),
            number(Some(b / a), 4),
            signed(level(b) - level(a), 1)
        );
        let width = usize::from(area.width);
        buffer.set_string(area.x, area.y, clipped(&first, width), self.looks.cursor());
        buffer.set_string(area.x, area.y + 1, clipped(&second, width), self.looks.cursor());
    }

    /// The tones, lowest first.
    fn tones(&self, area: Rect, buffer: &mut Buffer) {
        buffer.set_string(area.x, area.y, "       Hz  note      ct      dB", self.looks.quiet());
        let rows = usize::from(area.height).saturating_sub(1);
        for (n, peak) in self.peaks.iter().take(rows).enumerate() {
            let hz = tonemap_core::Measured::new(peak.frequency_hz, peak.frequency_hz_u);
            let text = format!(
                "{:>9}  {:<4} {:>7} {:>7}",
                hz.text(2).0,
                peak.note.to_string(),
                signed(peak.cents, 1),
                number(Some(peak.level_db), 1)
            );
            buffer.set_string(area.x, area.y + 1 + n as u16, &text, Looks::NUMBER);
        }
        if self.peaks.is_empty() {
            let text = "no tone over the noise";
            buffer.set_string(area.x + 2, area.y + 1, text, self.looks.quiet());
        }
    }
}
