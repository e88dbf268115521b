//! The two axes of a pane, with round values.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tonemap_core::spectrogram::FrequencyAxis;

use crate::theme::Looks;

/// An axis from its low end to its high end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Axis {
    pub(crate) low: f64,
    pub(crate) high: f64,
    pub(crate) scale: FrequencyAxis,
}

impl Axis {
    pub(crate) fn linear(low: f64, high: f64) -> Self {
        Self { low, high, scale: FrequencyAxis::Linear }
    }

    /// Share of the way from the low end to the high end.
    pub(crate) fn share(&self, value: f64) -> f64 {
        let place = |value: f64| self.scale.position(value);
        (place(value) - place(self.low)) / (place(self.high) - place(self.low))
    }

    /// The value there.
    pub(crate) fn value(&self, share: f64) -> f64 {
        let (low, high) = (self.scale.position(self.low), self.scale.position(self.high));
        self.scale.hz(low + share * (high - low))
    }

    /// Round values within, `most` at most.
    pub(crate) fn ticks(&self, most: usize) -> Vec<f64> {
        let most = most.max(2);
        if self.scale == FrequencyAxis::Logarithmic {
            for within in [&[1.0, 2.0, 5.0][..], &[1.0, 3.0], &[1.0]] {
                let decades = std::iter::successors(Some(1.0), |x| Some(10.0 * x)).take(7);
                let all = decades.flat_map(|decade| within.iter().map(move |x| decade * x));
                let found: Vec<f64> = all.filter(|x| (self.low..=self.high).contains(x)).collect();
                if (2..=most).contains(&found.len()) {
                    return found;
                }
            }
        }
        let span = self.high - self.low;
        let mut step = 1e-6;
        let mut factors = [2.0, 2.5, 2.0].into_iter().cycle();
        while span / step > most as f64 && step < 1e9 {
            step *= factors.next().unwrap_or(2.0);
        }
        let within = |step: f64| {
            (self.low / step - 1e-9).ceil() as i64..=(self.high / step + 1e-9).floor() as i64
        };
        if within(step).count() > most {
            step *= factors.next().unwrap_or(2.0);
        }
        within(step).map(|n| n as f64 * step).collect()
    }
}

/// A value of an axis with as many decimals as its neighbours need, thousands as k if it is so
/// wanted.
pub(crate) fn tick_text(value: f64, ticks: &[f64], in_thousands: bool) -> String {
    if in_thousands && value >= 1000.0 {
        let text = format!("{:.2}", value / 1000.0);
        return format!("{}k", text.trim_end_matches('0').trim_end_matches('.'));
    }
    let step = ticks.windows(2).map(|two| two[1] - two[0]).fold(f64::INFINITY, f64::min);
    let decimals = match step {
        step if step >= 0.999 => 0,
        step if step >= 0.0999 => 1,
        step if step >= 0.00999 => 2,
        _ => 3,
    };
    format!("{value:.decimals$}").replace('-', "−")
}

/// Draws the axes of a pane: values and unit to the left and below. Gives the place between them.
pub(crate) fn axes(
    area: Rect,
    (across, across_unit): (&Axis, &str),
    (up, up_unit): (&Axis, &str),
    looks: &Looks,
    buffer: &mut Buffer,
) -> Rect {
    const LEFT: u16 = 6;
    if area.width < LEFT + 8 || area.height < 4 {
        return Rect { width: 0, height: 0, ..area };
    }
    let inner =
        Rect { x: area.x + LEFT, y: area.y, width: area.width - LEFT, height: area.height - 1 };
    let quiet = looks.quiet();
    let ticks = up.ticks((inner.height / 2) as usize + 1);
    let last_row = f64::from(inner.height - 1);
    for value in &ticks {
        let row = ((1.0 - up.share(*value)) * last_row).round() as u16;
        let text = tick_text(*value, &ticks, up.scale == FrequencyAxis::Logarithmic);
        let x = area.x + (LEFT - 1).saturating_sub(text.chars().count() as u16);
        buffer.set_string(x, inner.y + row.min(inner.height - 1), &text, quiet);
        buffer.set_string(area.x + LEFT - 1, inner.y + row.min(inner.height - 1), "┤", quiet);
    }
    for row in 0..inner.height {
        let cell = &mut buffer[(area.x + LEFT - 1, inner.y + row)];
        if cell.symbol() == " " {
            cell.set_symbol("│").set_style(quiet);
        }
    }
    let bottom = area.bottom() - 1;
    let up_unit = format!("{:>5}", clipped(up_unit, usize::from(LEFT) - 1));
    buffer.set_string(area.x, bottom, up_unit, quiet);
    let unit_width = across_unit.chars().count() as u16;
    let unit_at = area.right().saturating_sub(unit_width);
    let ticks = across.ticks((inner.width / 9).max(2) as usize);
    let mut free = area.x + LEFT;
    for value in &ticks {
        let text = tick_text(*value, &ticks, across.scale == FrequencyAxis::Logarithmic);
        let width = text.chars().count() as u16;
        let column = inner.x + (across.share(*value) * f64::from(inner.width - 1)).round() as u16;
        let x = column.saturating_sub(width / 2).max(free);
        // What has no room under its place is left out.
        if x > column {
            continue;
        }
        if x + width + 1 > unit_at {
            continue;
        }
        buffer.set_string(x, bottom, &text, quiet);
        free = x + width + 1;
    }
    buffer.set_string(unit_at, bottom, across_unit, quiet);
    inner
}

/// A text cut to a width.
pub(crate) fn clipped(text: &str, width: usize) -> String {
    text.chars().take(width).collect()
}

/// A number with a true minus sign; a dash where there is none.
pub(crate) fn number(value: Option<f64>, decimals: usize) -> String {
    match value.filter(|value| value.is_finite()) {
        Some(value) => {
            let text = format!("{value:.decimals$}");
            let is_zero = text.chars().all(|c| !c.is_ascii_digit() || c == '0');
            text.replace('-', if is_zero { "" } else { "−" })
        }
        None => "–".into(),
    }
}

/// The same with its sign.
pub(crate) fn signed(value: f64, decimals: usize) -> String {
    let text = number(Some(value), decimals);
    let is_zero = text.chars().all(|c| !c.is_ascii_digit() || c == '0');
    if value > 0.0 && !is_zero { format!("+{text}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_an_axis_are_round_and_not_too_many() {
        let logarithmic = Axis { low: 20.0, high: 20_000.0, scale: FrequencyAxis::Logarithmic };
        assert_eq!(logarithmic.ticks(12)[..4], [20.0, 50.0, 100.0, 200.0]);
        assert_eq!(logarithmic.ticks(4), [100.0, 1000.0, 10_000.0]);
        for (low, high) in [(0.0, 10.0), (-120.0, 0.0), (0.0, 0.02), (-1.0, 1.0), (430.0, 450.0)] {
            for most in 2..15 {
                let ticks = Axis::linear(low, high).ticks(most);
                assert!((1..=most).contains(&ticks.len()), "{low} {high} {most}: {ticks:?}");
            }
        }
        assert_eq!(Axis::linear(-90.0, 0.0).ticks(5), [-80.0, -60.0, -40.0, -20.0, 0.0]);
        assert_eq!(tick_text(-0.5, &[-0.5, 0.0], false), "−0.5");
        assert_eq!(tick_text(2500.0, &[], true), "2.5k");
        assert_eq!((number(Some(-0.04), 1), signed(0.04, 1)), ("0.0".into(), "0.0".into()));
    }
}
