//! The level of each channel.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tonemap_core::units::LevelReference;

use crate::plot::{Axis, clipped, number};
use crate::theme::Looks;
use crate::watch::{Meter, Watch};

/// What a meter shows, in dB re full scale.
const RANGE_DBFS: (f64, f64) = (-60.0, 0.0);
/// From these levels on, a peak is nearly, and almost, too high.
const NEAR_DBFS: f64 = -12.0;
const HIGH_DBFS: f64 = -3.0;
/// A clip light is lit so long, in seconds.
const LIT_S: f64 = 3.0;
/// Eighths of a cell.
const EIGHTHS: [&str; 9] = [" ", "▏", "▎", "▍", "▌", "▋", "▊", "▉", "█"];

impl Watch {
    /// One row a channel: RMS as a bar, peak as a mark, both in numbers, the weighted level, clips.
    pub(crate) fn draw_meters(&self, area: Rect, buffer: &mut Buffer) {
        for (n, meter) in self.meters.iter().take(usize::from(area.height)).enumerate() {
            let row = Rect { y: area.y + n as u16, height: 1, ..area };
            self.draw_meter(meter, row, buffer);
        }
    }

    fn draw_meter(&self, meter: &Meter, row: Rect, buffer: &mut Buffer) {
        let settings = &self.settings;
        let unit = match settings.reference {
            LevelReference::FullScale => "dBFS",
            _ => "dB",
        };
        let weighting =
            format!("L{}{}", settings.weighting.letter(), settings.time_weighting.letter());
        let numbers = format!(
            " peak {:>6} dBFS  {weighting} {:>6} {unit}",
            number(meter.peak_dbfs, 1),
            number(meter.now.level_db, 1),
        );
        let clipped_text = match meter.clipped() {
            0 => String::new(),
            count => format!(" CLIP {count} "),
        };
        let width = numbers.chars().count() as u16 + 13;
        let name = clipped(&meter.now.name, 8);
        buffer.set_string(row.x, row.y, &name, self.looks.quiet());
        let left = row.x + 9;
        let bar = row.width.saturating_sub(9 + width);
        let axis = Axis::linear(RANGE_DBFS.0, RANGE_DBFS.1);
        let place = |dbfs: Option<f64>| {
            axis.share(dbfs.unwrap_or(RANGE_DBFS.0)).clamp(0.0, 1.0) * f64::from(bar)
        };
        let filled = place(meter.now.rms_dbfs);
        for n in 0..bar {
            let eighths = ((filled - f64::from(n)) * 8.0).clamp(0.0, 8.0) as usize;
            let dbfs = axis.value(f64::from(n) / f64::from(bar.max(1)));
            let style = match dbfs {
                dbfs if dbfs >= HIGH_DBFS => self.looks.bad(),
                dbfs if dbfs >= NEAR_DBFS => self.looks.near(),
                _ => self.looks.good(),
            };
            let (symbol, style) = match eighths {
                0 => ("·", self.looks.quiet()),
                eighths => (EIGHTHS[eighths], style),
            };
            buffer[(left + n, row.y)].set_symbol(symbol).set_style(style);
        }
        if meter.peak_dbfs.is_some_and(|dbfs| dbfs > RANGE_DBFS.0) && bar > 0 {
            let at = (place(meter.peak_dbfs) as u16).min(bar - 1);
            buffer[(left + at, row.y)].set_symbol("┃").set_style(Looks::NUMBER);
        }
        let is_high = meter.peak_dbfs.is_some_and(|dbfs| dbfs >= HIGH_DBFS);
        let style = if is_high { self.looks.near() } else { Looks::NUMBER };
        buffer.set_string(left + bar, row.y, &numbers, style);
        let is_lit = meter.clipped_s.is_some_and(|at_s| self.time_s - at_s < LIT_S);
        let style = if is_lit { self.looks.bad() } else { self.looks.near() };
        let x = left + bar + numbers.chars().count() as u16;
        buffer.set_string(x + 1, row.y, clipped(&clipped_text, 12), style);
    }
}
