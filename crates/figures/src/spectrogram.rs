//! The spectrogram: level over time and frequency as colour.

use tonemap_core::Finding;
use tonemap_core::intake::Clip;
use tonemap_core::spectrogram::{FrequencyAxis, Spectrogram};
use tonemap_core::units::LevelReference;

use crate::colours::{COLOURS, ColourMap};
use crate::error::Error;
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Picture, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// One of the spectrograms of a figure.
#[derive(Debug, Clone, Copy)]
pub struct DrawnSpectrogram<'a> {
    /// What it is called: the take, the channel.
    pub name: &'a str,
    /// Its cells.
    pub spectrogram: &'a Spectrogram,
    /// Time of the first and the last sample of its span in seconds.
    pub span_s: (f64, f64),
    /// What levels refer to.
    pub reference: LevelReference,
    /// Its clipped runs, in seconds from the start of the take: what stands there is in doubt.
    pub clips: &'a [Clip],
}

/// Spectrograms to be drawn one above the other, and what stands around them.
#[derive(Debug, Clone, Copy)]
pub struct SpectrogramFigure<'a> {
    /// The spectrograms, at least one, all on the same frequency axis.
    pub spectrograms: &'a [DrawnSpectrogram<'a>],
    /// Lowest and highest level of the colours in dB, for all alike.
    pub range_db: (f64, f64),
    /// The colours.
    pub colours: ColourMap,
    /// Heading.
    pub title: &'a str,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
    /// Frequency of A4 in Hz, for the scale of notes.
    pub reference_hz: f64,
}

/// Space right of the pictures, for notes and the colours.
const RIGHT_PX: f64 = 136.0;
const TOP_PX: f64 = 60.0;
const GAP_PX: f64 = 30.0;
/// Width of the bar of colours, and its distance from the pictures.
const BAR_PX: f64 = 16.0;
const BAR_FROM_PX: f64 = 58.0;

/// Cells that fill a picture of `count` spectrograms in a figure of a size: columns and rows.
#[must_use]
pub fn spectrogram_cells(size: Size, count: usize) -> (usize, usize) {
    let lines = 4.0;
    let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines;
    let height = (bottom - TOP_PX - GAP_PX * (count as f64 - 1.0)) / count as f64;
    let width = f64::from(size.width) - LEFT_PX - RIGHT_PX;
    (width.max(8.0) as usize, height.max(8.0) as usize)
}

/// Draws spectrograms.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn spectrogram_figure(figure: &SpectrogramFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, figure.title, title)?;
        let panels = panels(figure, size, notes.len());
        let several = panels.len() > 1;
        for (drawn, panel) in figure.spectrograms.iter().zip(&panels) {
            sheet.picture(picture(figure, drawn, panel))?;
            panel.draw_y_scale(sheet)?;
            panel.draw_frame(sheet, "Frequency, Hz")?;
            draw_clips(sheet, panel, drawn.clips)?;
            if drawn.spectrogram.plan.axis == FrequencyAxis::Logarithmic {
                draw_note_scale(sheet, panel, figure.reference_hz)?;
            }
            if several {
                let look = Type::new(theme::LABEL_PX, theme::INK).bold();
                sheet.text(panel.x.from_px, panel.y.to_px - 9.0, drawn.name, look)?;
            }
        }
        let Some(last) = panels.last() else { return Ok(()) };
        if figure.spectrograms.iter().any(|drawn| !drawn.clips.is_empty()) {
            let look = Type::new(theme::LABEL_PX, theme::INK);
            let x = last.x.to_px - look.width("clipped");
            sheet.line(&[(x - 8.0, 22.0), (x - 8.0, 32.0)], theme::TONE, 1.0, 1.5)?;
            sheet.text(x, 31.0, "clipped", look)?;
        }
        last.draw_x_scale(sheet, "Time, s")?;
        draw_colour_bar(sheet, figure, panels[0].y.to_px, last.y.from_px, last.x.to_px)?;
        notes::draw(sheet, last.y.from_px + 64.0, &notes)
    })
}

fn panels(figure: &SpectrogramFigure<'_>, size: Size, lines_below: usize) -> Vec<Panel> {
    let count = figure.spectrograms.len() as f64;
    let bottom = (f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64).floor();
    let height = ((bottom - TOP_PX - GAP_PX * (count - 1.0)) / count).floor();
    // Times are locked: all begin together and share the length of the longest.
    let spans = || figure.spectrograms.iter().map(|drawn| drawn.span_s);
    let start = spans().map(|(from, _)| from).fold(f64::INFINITY, f64::min);
    let length = spans().map(|(from, to)| to - from).fold(0.0, f64::max);
    figure
        .spectrograms
        .iter()
        .enumerate()
        .map(|(n, drawn)| {
            let top = TOP_PX + n as f64 * (height + GAP_PX);
            let plan = &drawn.spectrogram.plan;
            let edges = &plan.edges_hz;
            let from = if count > 1.0 { drawn.span_s.0 } else { start };
            Panel {
                x: Axis {
                    low: from,
                    high: from + length,
                    scale: Scale::Linear,
                    from_px: LEFT_PX,
                    to_px: (f64::from(size.width) - RIGHT_PX).floor(),
                },
                y: Axis {
                    low: edges[0],
                    high: edges[edges.len() - 1],
                    scale: match plan.axis {
                        FrequencyAxis::Linear => Scale::Linear,
                        FrequencyAxis::Logarithmic => Scale::Logarithmic,
                        other => Scale::Frequency(other),
                    },
                    from_px: top + height,
                    to_px: top,
                },
            }
        })
        .collect()
}

/// The pixels of a spectrogram. Each shows the cell that its middle lies in: nothing is blended.
fn picture(figure: &SpectrogramFigure<'_>, drawn: &DrawnSpectrogram<'_>, panel: &Panel) -> Picture {
    let spectrogram = drawn.spectrogram;
    let plan = &spectrogram.plan;
    let table = figure.colours.table();
    let (low_db, high_db) = figure.range_db;
    let full_scale_db = drawn.reference.full_scale_db();
    let (width, height) =
        ((panel.x.to_px - panel.x.from_px) as usize, (panel.y.from_px - panel.y.to_px) as usize);
    // Columns from the middles of their frames.
    let times: Vec<f64> = (0..plan.columns).map(|column| plan.time_s(column)).collect();
    let rows: Vec<usize> =
        (0..height).map(|y| ((height - 1 - y) * plan.rows() + plan.rows() / 2) / height).collect();
    let paper = [theme::PAPER.0, theme::PAPER.1, theme::PAPER.2];
    let seconds_per_px = (panel.x.high - panel.x.low) / width as f64;
    let length_s = drawn.span_s.1 - drawn.span_s.0;
    let mut columns: Vec<Option<usize>> = Vec::with_capacity(width);
    for x in 0..width {
        let time = (x as f64 + 0.5) * seconds_per_px;
        let after = times.partition_point(|middle| *middle < time);
        let nearest = match after {
            0 => 0,
            after if after == times.len() => after - 1,
            after => after - usize::from(time - times[after - 1] < times[after] - time),
        };
        columns.push((time <= length_s).then_some(nearest));
    }
    let colour_of = |power: f32| {
        let level = 10.0 * power.max(1e-37).log10() + full_scale_db as f32;
        let share = (f64::from(level) - low_db) / (high_db - low_db);
        table[((share * COLOURS as f64).max(0.0) as usize).min(COLOURS - 1)]
    };
    let mut pixels = vec![paper; width * height];
    let mut colours = Vec::new();
    let mut last = None;
    for (x, column) in columns.into_iter().enumerate() {
        let Some(column) = column else { continue };
        if last != Some(column) {
            colours = spectrogram.column(column).iter().map(|power| colour_of(*power)).collect();
            last = Some(column);
        }
        for (y, row) in rows.iter().enumerate() {
            pixels[y * width + x] = colours[(*row).min(colours.len() - 1)];
        }
    }
    Picture {
        x: panel.x.from_px as usize,
        y: panel.y.to_px as usize,
        width,
        height,
        pixels: pixels.into_flattened(),
    }
}

/// Marks over the picture where the recording is clipped, one a pixel at most.
fn draw_clips(sheet: &Sheet<'_>, panel: &Panel, clips: &[Clip]) -> Result<(), Error> {
    let top = panel.y.to_px;
    let mut last = f64::NEG_INFINITY;
    for clip in clips.iter().filter(|clip| panel.x.contains(clip.start_s)) {
        let x = panel.x.place(clip.start_s);
        if x - last >= 1.0 {
            sheet.line(&[(x, top - 6.0), (x, top - 1.0)], theme::TONE, 1.0, 1.2)?;
            last = x;
        }
    }
    Ok(())
}

/// The notes at the right of a picture.
fn draw_note_scale(sheet: &Sheet<'_>, panel: &Panel, reference_hz: f64) -> Result<(), Error> {
    let right = panel.x.to_px;
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let place = |hz: f64| -panel.y.place(hz);
    for tick in ticks::notes(panel.y.low, panel.y.high, reference_hz, 17.0, place) {
        let y = panel.y.place(tick.value);
        let length = if tick.label.is_empty() { 4.0 } else { 8.0 };
        sheet.line(&[(right, y), (right + length, y)], theme::PALE_INK, 1.0, 1.0)?;
        if !tick.label.is_empty() {
            sheet.text(right + 12.0, y + 4.0, &tick.label, look)?;
        }
    }
    Ok(())
}

/// The colours with their levels.
fn draw_colour_bar(
    sheet: &Sheet<'_>,
    figure: &SpectrogramFigure<'_>,
    top: f64,
    bottom: f64,
    right: f64,
) -> Result<(), Error> {
    let left = right + BAR_FROM_PX;
    let table = figure.colours.table();
    let height = (bottom - top) as usize;
    let row = |y: usize| [table[(height - 1 - y) * COLOURS / height]; BAR_PX as usize];
    let pixels = (0..height).flat_map(row).collect::<Vec<_>>().into_flattened();
    sheet.picture(Picture {
        x: left as usize,
        y: top as usize,
        width: BAR_PX as usize,
        height,
        pixels,
    })?;
    let axis = Axis {
        low: figure.range_db.0,
        high: figure.range_db.1,
        scale: Scale::Linear,
        from_px: bottom,
        to_px: top,
    };
    let panel = Panel { x: Axis { from_px: left, to_px: left + BAR_PX, ..axis }, y: axis };
    let look = Type::new(theme::TICK_PX, theme::INK);
    let mut last_y = f64::INFINITY;
    for tick in ticks::linear(axis.low, axis.high, (bottom - top) / 46.0) {
        let y = axis.place(tick.value);
        sheet.line(&[(left + BAR_PX, y), (left + BAR_PX + 5.0, y)], theme::INK, 1.0, 1.0)?;
        if last_y - y > 14.0 {
            sheet.text(left + BAR_PX + 8.0, y + 4.5, &tick.label, look)?;
            last_y = y;
        }
    }
    let words = figure.spectrograms[0].reference.words();
    panel.draw_box(sheet)?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let title = format!("dB {words}");
    let width = look.width(&title);
    sheet.text(left + BAR_PX + 38.0 - width, top - 11.0, &title, look)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::spectrogram::{SpectrogramSettings, spectrogram};
    use tonemap_core::synth;

    #[test]
    fn a_tone_is_a_bright_line_where_it_sounds() {
        let mut sound = vec![0.0; 48_000];
        sound[24_000..].copy_from_slice(&synth::sine(1000.0, 0.5, 0.0, 48_000.0, 24_000));
        let size = Size { width: 640, height: 480 };
        let settings = SpectrogramSettings {
            size: spectrogram_cells(size, 1),
            ..SpectrogramSettings::default()
        };
        let made = spectrogram(&sound, 48_000.0, &settings).expect("made");
        let figure = SpectrogramFigure {
            spectrograms: &[DrawnSpectrogram {
                name: "a",
                spectrogram: &made,
                span_s: (0.0, 1.0),
                reference: LevelReference::FullScale,
                clips: &[],
            }],
            range_db: (-100.0, 0.0),
            colours: ColourMap::Grey,
            title: "late tone",
            notes: &["settings".into()],
            findings: &[],
            reference_hz: 440.0,
        };
        let drawn = spectrogram_figure(&figure, size).expect("drawn");
        let svg = drawn.svg().expect("encoded");
        assert!(
            svg.contains("<image") && svg.contains("dB re full scale") && svg.contains("Time, s")
        );
        let png = drawn.png().expect("rendered");
        let mut reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().expect("a PNG");
        let mut pixels = vec![0; reader.output_buffer_size().expect("known")];
        reader.next_frame(&mut pixels).expect("a picture");
        let panel = panels(&figure, size, 1)[0];
        let at = |time: f64, hz: f64| {
            let (x, y) = panel.place(time, hz);
            pixels[3 * (y as usize * 640 + x as usize)]
        };
        // The louder the darker.
        assert!(at(0.75, 1000.0) < 40, "{}", at(0.75, 1000.0));
        assert!(at(0.25, 1000.0) > 240 && at(0.75, 300.0) > 240);
    }
}
