//! A picture in the terminal: two cells a character, by half blocks in colour.

use std::fmt::Write;

use terminal_size::{Height, Width, terminal_size};
use tonemap_core::spectrogram::Spectrogram;
use tonemap_core::units::db_from_power;
use tonemap_figures::ColourMap;

use crate::text;

/// Width of the frequencies at the left.
const LABEL_WIDTH: usize = 8;
/// Lines that are kept free: times, and room for the prompt and what is said of the take.
const FREE_LINES: usize = 10;

/// How colours are sent to the terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Depth {
    /// Red, green and blue, eight bits each.
    Full,
    /// The colour cube and the greys of 256 colours.
    Indexed,
}

impl Depth {
    /// What the terminal says it can show.
    pub(crate) fn of_terminal() -> Self {
        match std::env::var("COLORTERM").as_deref() {
            Ok("truecolor" | "24bit") => Self::Full,
            _ => Self::Indexed,
        }
    }

    /// The colour as the end of an escape sequence.
    fn code(self, [r, g, b]: [u8; 3]) -> String {
        match self {
            Self::Full => format!("2;{r};{g};{b}"),
            Self::Indexed => {
                let step = |value: u8| (u32::from(value) * 5 + 127) / 255;
                format!("5;{}", 16 + 36 * step(r) + 6 * step(g) + step(b))
            }
        }
    }
}

/// Columns and rows of cells that fill the terminal; 100 by 30 characters where there is none.
pub(crate) fn cells() -> (usize, usize) {
    let (columns, lines) = match terminal_size() {
        Some((Width(columns), Height(lines))) => (usize::from(columns), usize::from(lines)),
        None => (100, 40),
    };
    let columns = columns.saturating_sub(LABEL_WIDTH + 1).max(20);
    (columns, 2 * lines.saturating_sub(FREE_LINES).max(8))
}

/// The cells of a spectrogram as text, levels in dB from `range_db.0` to `range_db.1` above
/// `full_scale_db`, with frequencies at the left and times below.
pub(crate) fn sketch(
    spectrogram: &Spectrogram,
    range_db: (f64, f64),
    full_scale_db: f64,
    span_s: (f64, f64),
    colours: ColourMap,
    depth: Depth,
) -> String {
    let plan = &spectrogram.plan;
    let table = colours.table();
    let colour = |column: usize, row: usize| {
        let power = spectrogram.column(column)[row];
        let level = db_from_power(f64::from(power.max(1e-37))) + full_scale_db;
        let share = (level - range_db.0) / (range_db.1 - range_db.0);
        depth.code(table[((share * table.len() as f64).max(0.0) as usize).min(table.len() - 1)])
    };
    let rows = plan.row_hz();
    let lines = rows.len() / 2;
    let mut out = String::new();
    for line in 0..lines {
        let (upper, lower) = (rows.len() - 1 - 2 * line, rows.len() - 2 - 2 * line);
        let label = match line % 4 {
            0 => text::number(rows[lower], 0),
            _ => String::new(),
        };
        let _ = write!(out, "{label:>LABEL_WIDTH$} ");
        for column in 0..plan.columns {
            let (above, below) = (colour(column, upper), colour(column, lower));
            let _ = write!(out, "\x1b[38;{above}m\x1b[48;{below}m▀");
        }
        out.push_str("\x1b[0m\n");
    }
    let [start, end] = [span_s.0, span_s.1].map(|time| format!("{} s", text::number(time, 3)));
    let between = plan.columns.saturating_sub(start.chars().count() + end.chars().count());
    let _ = writeln!(out, "{}{start}{}{end}", " ".repeat(LABEL_WIDTH + 1), " ".repeat(between));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::spectrogram::{SpectrogramSettings, spectrogram};

    #[test]
    fn a_tone_is_a_bright_line_of_half_blocks() {
        let tone = tonemap_core::synth::sine(1000.0, 0.5, 0.0, 48_000.0, 48_000);
        let settings = SpectrogramSettings { size: (40, 40), ..SpectrogramSettings::default() };
        let made = spectrogram(&tone, 48_000.0, &settings).expect("made");
        let loudest = ColourMap::Grey.table()[255];
        for depth in [Depth::Full, Depth::Indexed] {
            let drawn = sketch(&made, (-100.0, -6.0), 0.0, (0.0, 1.0), ColourMap::Grey, depth);
            assert_eq!(drawn.lines().count(), 21);
            assert!(drawn.ends_with("1.000 s\n") && drawn.lines().all(|line| !line.ends_with('▀')));
            let code = depth.code(loudest);
            let lit = drawn.lines().filter(|line| line.contains(&code)).count();
            assert!((1..=3).contains(&lit), "{depth:?} {lit}");
        }
        assert_eq!(Depth::Indexed.code([255, 0, 0]), "5;196");
    }
}
