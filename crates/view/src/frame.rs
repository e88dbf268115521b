//! Where everything stands: title, meters, panes, footer.

use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Paragraph, Widget, Wrap};
use tonemap_core::live::Heard;

use crate::keys::KEYS;
use crate::plot::{clipped, number};
use crate::theme::Looks;
use crate::watch::{Pane, Running, Watch};

/// Columns and rows of the smallest terminal in which there is room.
pub const SMALLEST: (u16, u16) = (60, 18);
/// From so many columns on, panes stand side by side.
const WIDE: u16 = 110;

impl Watch {
    /// Draws all that is seen.
    pub fn draw(&self, frame: &mut Frame<'_>, running: &Running) {
        self.draw_into(frame.area(), frame.buffer_mut(), running);
    }

    /// The same into cells that belong to no terminal.
    pub fn draw_into(&self, area: Rect, buffer: &mut Buffer, running: &Running) {
        if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
            let text = format!(
                "This terminal has {} columns and {} rows; the view needs {} and {}. Make it \
                 larger, or its letters smaller; q leaves.",
                area.width, area.height, SMALLEST.0, SMALLEST.1
            );
            Paragraph::new(text).wrap(Wrap { trim: true }).render(area, buffer);
            return;
        }
        let meters = (self.meters.len() as u16).clamp(1, area.height / 6);
        let rows = [
            Constraint::Length(1),
            Constraint::Length(meters),
            Constraint::Min(1),
            Constraint::Length(1),
        ];
        let [title, top, middle, footer] = Layout::vertical(rows).areas(area);
        self.title(title, buffer, running);
        self.draw_meters(top, buffer);
        match self.pane {
            Pane::Overview => self.draw_overview(middle, buffer),
            Pane::Waveform => self.draw_waveform(middle, buffer),
            Pane::Spectrum => self.draw_spectrum_pane(middle, buffer),
            Pane::Spectrogram => self.draw_gram(middle, buffer),
            Pane::Pitch => self.draw_tuner(middle, buffer),
            Pane::Partials => self.draw_partials(middle, buffer),
        }
        self.footer(footer, buffer, running);
        if self.shows_help {
            help(area, buffer);
        }
    }

    fn draw_overview(&self, area: Rect, buffer: &mut Buffer) {
        let halves = [Constraint::Percentage(46), Constraint::Min(8)];
        let [above, below] = Layout::vertical(halves).areas(area);
        let beside =
            [Constraint::Min(30), Constraint::Length(if area.width < WIDE { 30 } else { 44 })];
        let [left, right] = Layout::horizontal(beside).spacing(2).areas(above);
        self.draw_waveform(left, buffer);
        self.draw_tuner(right, buffer);
        if area.width < WIDE {
            self.draw_spectrum(below, buffer);
        } else {
            let halves = [Constraint::Percentage(58), Constraint::Min(30)];
            let [left, right] = Layout::horizontal(halves).spacing(2).areas(below);
            self.draw_spectrum(left, buffer);
            self.draw_gram(right, buffer);
        }
    }

    fn title(&self, area: Rect, buffer: &mut Buffer, running: &Running) {
        buffer.set_style(area, Looks::BAR);
        let heard = match self.settings.heard {
            Heard::Channel(n) => format!("channel {} of {}", n + 1, self.format.channels),
            Heard::Mean => "mean of all channels".into(),
        };
        let rate = number(Some(self.format.sample_rate_hz / 1000.0), 1);
        let rate = rate.trim_end_matches(".0").to_string();
        let left = format!(" {} · {rate} kHz · {heard}", running.source);
        let mut signs = Vec::new();
        if self.is_frozen {
            signs.push("FROZEN".to_string());
        }
        if let Some(recording_s) = running.recording_s {
            signs.push(format!("● recording {}", clock(recording_s)));
        }
        if running.lost_samples > 0 {
            signs.push(format!("{} samples lost", running.lost_samples));
        }
        if running.behind_s > 0.5 {
            signs.push(format!("{} s behind", number(Some(running.behind_s), 1)));
        }
        if running.has_ended {
            signs.push("ended".into());
        } else if running.silent_s > 1.0 {
            signs.push(format!("no samples for {} s", number(Some(running.silent_s), 0)));
        }
        signs.push(clock(self.time_s));
        let right = format!("{} ", signs.join(" · "));
        let width = usize::from(area.width);
        let room = width.saturating_sub(right.chars().count() + 1);
        buffer.set_string(area.x, area.y, clipped(&left, room), Looks::BAR);
        let x = area.right().saturating_sub(right.chars().count() as u16);
        buffer.set_string(x, area.y, &right, Looks::BAR);
    }

    /// What was done last, or what is wrong with the sound; else the keys, as many as fit.
    fn footer(&self, area: Rect, buffer: &mut Buffer, running: &Running) {
        let width = usize::from(area.width);
        let message = match (&running.notice, self.findings.first()) {
            (Some(notice), _) => Some((notice.clone(), self.looks.good())),
            (None, Some(finding)) => Some((finding.text.clone(), self.looks.bad())),
            (None, None) => None,
        };
        if let Some((text, style)) = message {
            buffer.set_string(area.x, area.y, clipped(&format!(" {text}"), width), style);
            return;
        }
        let mut x = area.x + 1;
        for binding in &KEYS {
            let text = format!("{} {}", binding.name, binding.short);
            let length = text.chars().count() as u16;
            if x + length > area.right() {
                break;
            }
            let name = Looks::NUMBER;
            let (after, _) = buffer.set_stringn(x, area.y, binding.name, width, name);
            buffer.set_string(after + 1, area.y, binding.short, self.looks.quiet());
            x += length + 2;
        }
    }
}

/// The list of keys over what is seen.
fn help(area: Rect, buffer: &mut Buffer) {
    let line = |binding: &crate::keys::Binding| {
        Line::from(vec![
            Span::styled(format!(" {:<6}", binding.name), Looks::NUMBER),
            Span::raw(binding.long),
        ])
    };
    let lines: Vec<Line<'_>> = KEYS.iter().map(line).collect();
    let width = 70.min(area.width);
    let height = (lines.len() as u16 + 2).min(area.height);
    let place = Rect {
        x: area.x + (area.width - width) / 2,
        y: area.y + (area.height - height) / 2,
        width,
        height,
    };
    Clear.render(place, buffer);
    let block = Block::bordered().title(" Keys · any key closes this ");
    Paragraph::new(lines).block(block).style(Style::new()).render(place, buffer);
}

/// A time as it stands on a clock.
pub(crate) fn clock(time_s: f64) -> String {
    let tenths = (10.0 * time_s).max(0.0) as u64;
    let (hours, minutes) = (tenths / 36_000, tenths / 600 % 60);
    let seconds = format!("{:02}.{}", tenths / 10 % 60, tenths % 10);
    if hours > 0 {
        format!("{hours}:{minutes:02}:{seconds}")
    } else {
        format!("{minutes}:{seconds}")
    }
}
