//! The pitch: note and cents to be read from a distance, and its course.

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::symbols::Marker;
use ratatui::widgets::Widget;
use ratatui::widgets::canvas::{Canvas, Points};
use tonemap_core::Measured;
use tonemap_core::live::PitchNow;
use tonemap_core::units::{Note, cents_between};

use crate::big;
use crate::plot::{Axis, axes, clipped, number, signed};
use crate::theme::Looks;
use crate::watch::{COURSE_S, Watch};

/// So near in cents it is in tune, and nearly.
const IN_TUNE: f64 = 2.0;
const NEARLY: f64 = 10.0;

impl Watch {
    pub(crate) fn draw_tuner(&self, area: Rect, buffer: &mut Buffer) {
        /// The note, and the cents beside it or, where that is too wide, below it.
        const BESIDE: &str = "A#4 +9.9";
        let is_beside = |scale: &u16| {
            big::columns(BESIDE, *scale) <= area.width && 2 * big::rows(*scale) + 4 <= area.height
        };
        let is_below = |scale: &u16| {
            big::columns("+9.9", *scale) <= area.width && 3 * big::rows(*scale) + 2 <= area.height
        };
        let scales = [6, 5, 4, 3, 2, 1].into_iter();
        let beside = scales.clone().find(is_beside);
        let below = scales.clone().find(is_below).filter(|scale| beside.is_none_or(|b| b < *scale));
        let scale = below.or(beside).unwrap_or(0);
        let height = match below {
            Some(scale) => 2 * big::rows(scale) + 1,
            None if scale == 0 => 1,
            None => big::rows(scale),
        };
        let rows = [
            Constraint::Length(height),
            Constraint::Length(1),
            Constraint::Length(1),
            Constraint::Min(0),
        ];
        let [large, words, needle, course] = Layout::vertical(rows).areas(area);
        match &self.pitch {
            Some(pitch) => {
                self.draw_note(pitch, large, (scale, below.is_some()), buffer);
                let text = clipped(&self.pitch_words(pitch), words.width.into());
                buffer.set_string(words.x, words.y, text, Looks::NUMBER);
            }
            None => {
                let text = clipped("no pitch", large.width.into());
                buffer.set_string(large.x, large.y, text, self.looks.quiet());
            }
        }
        self.draw_needle(needle, buffer);
        if course.height >= 5 {
            self.draw_course(course, buffer);
        }
    }

    /// Note and cents, so many times as large, one beside or below the other.
    fn draw_note(
        &self,
        pitch: &PitchNow,
        area: Rect,
        (scale, is_below): (u16, bool),
        buffer: &mut Buffer,
    ) {
        let style = match pitch.cents.abs() {
            cents if cents < IN_TUNE => self.looks.good(),
            cents if cents < NEARLY => self.looks.near(),
            _ => Looks::NUMBER,
        };
        let note = pitch.note.to_string();
        let cents = signed(pitch.cents, usize::from(pitch.cents.abs() < 9.95));
        if scale == 0 {
            let text = clipped(&format!("{note} {cents} ct"), area.width.into());
            buffer.set_string(area.x, area.y, text, style);
            return;
        }
        big::write(&note, area, scale, style, buffer);
        let (right, down) =
            if is_below { (0, big::rows(scale) + 1) } else { (big::columns("A#4 ", scale), 0) };
        let beside = Rect {
            x: area.x + right,
            y: area.y + down,
            width: area.width.saturating_sub(right),
            height: area.height.saturating_sub(down),
        };
        // Letters of several rows know no other minus sign.
        big::write(&cents.replace('−', "-"), beside, scale, style, buffer);
    }

    fn pitch_words(&self, pitch: &PitchNow) -> String {
        let (hz, u) = Measured::new(pitch.f0_hz, pitch.f0_hz_u).text(3);
        let cents_u = number(Some(pitch.cents_u), 2);
        let reference = number(Some(self.settings.pitch.reference_hz), 1);
        format!("{hz} ± {u} Hz  ± {cents_u} ct  A4 {} Hz", reference.trim_end_matches(".0"))
    }

    /// How far it is from the note, from 50 cents flat to 50 cents sharp.
    fn draw_needle(&self, area: Rect, buffer: &mut Buffer) {
        let width = area.width;
        let place = |cents: f64| {
            area.x + (Axis::linear(-50.0, 50.0).share(cents) * f64::from(width - 1)).round() as u16
        };
        for x in area.x..area.right() {
            buffer[(x, area.y)].set_symbol("─").set_style(self.looks.quiet());
        }
        for (cents, text) in [(-50.0, "−50"), (0.0, "┼"), (50.0, "+50")] {
            let length = text.chars().count() as u16;
            let x = place(cents).min(area.right().saturating_sub(length));
            buffer.set_string(x, area.y, text, self.looks.quiet());
        }
        if let Some(pitch) = &self.pitch {
            let style =
                if pitch.cents.abs() < IN_TUNE { self.looks.good() } else { self.looks.near() };
            buffer[(place(pitch.cents), area.y)].set_symbol("█").set_style(style);
        }
    }

    /// Cents from the nearest note over the last seconds.
    fn draw_course(&self, area: Rect, buffer: &mut Buffer) {
        let across = Axis::linear(-COURSE_S, 0.0);
        let up = Axis::linear(-50.0, 50.0);
        let inner = axes(area, (&across, "s"), (&up, "ct"), &self.looks, buffer);
        if inner.width == 0 {
            return;
        }
        let reference_hz = self.settings.pitch.reference_hz;
        // Of the note that sounds now, or else of each by itself.
        let now = self.pitch.as_ref().map(|pitch| pitch.note.frequency_hz(reference_hz));
        let cents = |hz: f64| match now {
            Some(note_hz) if cents_between(note_hz, hz).abs() <= 50.0 => {
                Some(cents_between(note_hz, hz))
            }
            _ => Note::nearest(hz, reference_hz).map(|(_, cents)| cents),
        };
        let points: Vec<(f64, f64)> = (self.course.iter())
            .filter_map(|point| Some((point.time_s - self.time_s, cents(point.f0_hz?)?)))
            .collect();
        let color = self.looks.curve().fg.unwrap_or_default();
        Canvas::default()
            .marker(Marker::Braille)
            .x_bounds([-COURSE_S, 0.0])
            .y_bounds([-50.0, 50.0])
            .paint(|canvas| canvas.draw(&Points { coords: &points, color }))
            .render(inner, buffer);
    }
}
