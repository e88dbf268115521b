//! The spectrogram: level over time and frequency as colour.

use tonemap_core::Finding;
use tonemap_core::spectrogram::{FrequencyAxis, Slice, SliceAt, Spectrogram};
use tonemap_core::units::{LevelReference, db_from_power};

use crate::colours::{COLOURS, ColourMap, cyclic};
use crate::error::Error;
use crate::legend;
use crate::marks::{self, Marks};
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_WITH_BAR_PX, TOP_PX};
use crate::panel::{self, Axis, Panel, Scale};
use crate::sheet::{Figure, Mark, Picture, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// What of a spectrogram is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Shown {
    /// Its levels.
    #[default]
    Level,
    /// Its phases from frame to frame, the paler the lower the level.
    Phase,
}

/// One of the spectrograms of a figure.
#[derive(Debug, Clone, Copy)]
pub struct DrawnSpectrogram<'a> {
    /// What it is called: the take, the channel.
    pub name: &'a str,
    /// Its cells.
    pub spectrogram: &'a Spectrogram,
    /// What of them is drawn.
    pub shows: Shown,
    /// Time of the first and the last sample of its span in seconds.
    pub span_s: (f64, f64),
    /// What levels refer to.
    pub reference: LevelReference,
    /// What is overlaid on it.
    pub marks: Marks<'a>,
    /// Cuts through it, the same places in each spectrogram of a figure.
    pub slices: &'a [Slice],
}

/// How several spectrograms stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Arrangement {
    /// One above the other.
    #[default]
    Stacked,
    /// Side by side.
    Beside,
}

/// What there is to be drawn, as far as it takes space.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SpectrogramLayout {
    /// How many spectrograms, at least one.
    pub count: usize,
    /// How they stand.
    pub arrangement: Arrangement,
    /// Whether slices at times stand beside each.
    pub time_slices: bool,
    /// Whether slices at frequencies stand below each.
    pub frequency_slices: bool,
}

/// Spectrograms to be drawn, and what stands around them.
#[derive(Debug, Clone, Copy)]
pub struct SpectrogramFigure<'a> {
    /// The spectrograms, at least one, all on the same frequency axis.
    pub spectrograms: &'a [DrawnSpectrogram<'a>],
    /// How they stand.
    pub arrangement: Arrangement,
    /// What the slices are called.
    pub slice_names: &'a [String],
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

/// Space between spectrograms one above the other, and side by side.
const GAP_PX: f64 = 30.0;
const BESIDE_GAP_PX: f64 = 18.0;
/// Width of the slices at times with the space before them, and share of the height that slices at
/// frequencies take, with the space above them.
const SIDE_PX: f64 = 180.0;
const SIDE_GAP_PX: f64 = 12.0;
const BELOW_SHARE: f64 = 0.27;
const BELOW_GAP_PX: f64 = 14.0;
/// Width of the bar of colours, and its distance from the pictures.
const BAR_PX: f64 = 16.0;
const BAR_FROM_PX: f64 = 58.0;

/// Cells that fill a picture in a figure of a size: columns and rows.
#[must_use]
pub fn spectrogram_cells(size: Size, layout: SpectrogramLayout) -> (usize, usize) {
    const LINES: usize = 4;
    let place = places(size, layout, LINES)[0].picture;
    let side = |length: f64| length.max(8.0) as usize;
    (side(place.right - place.left), side(place.bottom - place.top))
}

/// A stretch of the sheet in pixels.
#[derive(Debug, Clone, Copy)]
struct Place {
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
}

/// Where a spectrogram and its slices stand.
#[derive(Debug, Clone, Copy)]
struct Places {
    picture: Place,
    at_times: Option<Place>,
    at_frequencies: Option<Place>,
}

fn places(size: Size, layout: SpectrogramLayout, lines_below: usize) -> Vec<Places> {
    let count = layout.count as f64;
    let bottom = (f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64).floor();
    let (width, height) = (f64::from(size.width) - LEFT_PX - RIGHT_WITH_BAR_PX, bottom - TOP_PX);
    let (across, down) = match layout.arrangement {
        Arrangement::Stacked => (1.0, count),
        Arrangement::Beside => (count, 1.0),
    };
    let width = ((width - BESIDE_GAP_PX * (across - 1.0)) / across).floor();
    // Each of several ends in its own scale of levels if it has slices at times.
    let gap = if layout.time_slices && down > 1.0 { GAP_PX + 22.0 } else { GAP_PX };
    let height = ((height - gap * (down - 1.0)) / down).floor();
    (0..layout.count)
        .map(|n| {
            let (column, row) = match layout.arrangement {
                Arrangement::Stacked => (0.0, n as f64),
                Arrangement::Beside => (n as f64, 0.0),
            };
            let left = LEFT_PX + column * (width + BESIDE_GAP_PX);
            let top = TOP_PX + row * (height + gap);
            let mut picture = Place { left, right: left + width, top, bottom: top + height };
            let whole = picture;
            if layout.frequency_slices {
                picture.bottom -= (BELOW_SHARE * height).floor() + BELOW_GAP_PX;
            }
            if layout.time_slices {
                picture.right -= SIDE_PX.min(0.4 * width).floor();
            }
            Places {
                picture,
                at_times: layout.time_slices.then_some(Place {
                    left: picture.right + SIDE_GAP_PX,
                    bottom: picture.bottom,
                    ..whole
                }),
                at_frequencies: layout.frequency_slices.then_some(Place {
                    top: picture.bottom + BELOW_GAP_PX,
                    right: picture.right,
                    ..whole
                }),
            }
        })
        .collect()
}

/// The panels of a spectrogram and its slices.
#[derive(Debug, Clone, Copy)]
struct Panels {
    picture: Panel,
    at_times: Option<Panel>,
    at_frequencies: Option<Panel>,
}

impl Panels {
    /// The lowest panel, under which times stand.
    fn lowest(&self) -> &Panel {
        self.at_frequencies.as_ref().unwrap_or(&self.picture)
    }

    /// The pixel at which the rightmost panel ends.
    fn right(&self) -> f64 {
        self.at_times.as_ref().unwrap_or(&self.picture).x.to_px
    }
}

fn panels(figure: &SpectrogramFigure<'_>, size: Size, lines_below: usize) -> Vec<Panels> {
    let is_at_time = |slice: &Slice| matches!(slice.at, SliceAt::Time(_));
    let slices = figure.spectrograms.first().map_or(&[][..], |drawn| drawn.slices);
    let layout = SpectrogramLayout {
        count: figure.spectrograms.len(),
        arrangement: figure.arrangement,
        time_slices: slices.iter().any(is_at_time),
        frequency_slices: slices.iter().any(|slice| !is_at_time(slice)),
    };
    // Scales are locked: times share the length of the longest, levels their range.
    let spans = figure.spectrograms.iter().map(|drawn| drawn.span_s);
    let length = spans.map(|(from, to)| to - from).fold(0.0, f64::max);
    let greatest_db = figure
        .spectrograms
        .iter()
        .flat_map(|drawn| drawn.slices.iter().flat_map(|slice| levels_db(drawn, slice)))
        .fold(figure.range_db.1, f64::max);
    let level = |from_px, to_px| Axis {
        low: figure.range_db.0,
        high: (greatest_db / 5.0).ceil() * 5.0,
        scale: Scale::Linear,
        from_px,
        to_px,
    };
    let places = places(size, layout, lines_below);
    let panels = figure.spectrograms.iter().zip(places).map(|(drawn, places)| {
        let plan = &drawn.spectrogram.plan;
        let edges = &plan.edges_hz;
        let x = Axis {
            low: drawn.span_s.0,
            high: drawn.span_s.0 + length,
            scale: Scale::Linear,
            from_px: places.picture.left,
            to_px: places.picture.right,
        };
        let y = Axis {
            low: edges[0],
            high: edges[edges.len() - 1],
            scale: match plan.axis {
                FrequencyAxis::Linear => Scale::Linear,
                FrequencyAxis::Logarithmic => Scale::Logarithmic,
                other => Scale::Frequency(other),
            },
            from_px: places.picture.bottom,
            to_px: places.picture.top,
        };
        Panels {
            picture: Panel { x, y },
            at_times: places.at_times.map(|place| Panel { x: level(place.left, place.right), y }),
            at_frequencies: places
                .at_frequencies
                .map(|place| Panel { x, y: level(place.bottom, place.top) }),
        }
    });
    panels.collect()
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
        for (n, (drawn, panels)) in figure.spectrograms.iter().zip(&panels).enumerate() {
            let panel = &panels.picture;
            sheet.picture(picture(drawn, figure.range_db, figure.colours, panel))?;
            let is_leftmost = n == 0 || figure.arrangement == Arrangement::Stacked;
            if is_leftmost {
                panel.draw_y_scale(sheet)?;
                panel.draw_title(sheet, "Frequency, Hz")?;
            }
            panel.draw_box(sheet)?;
            marks::draw(sheet, panel, &drawn.marks)?;
            draw_slices(sheet, panels, drawn, is_leftmost)?;
            let is_rightmost = n + 1 == figure.spectrograms.len();
            let has_notes = is_rightmost || figure.arrangement == Arrangement::Stacked;
            if has_notes && drawn.spectrogram.plan.axis == FrequencyAxis::Logarithmic {
                draw_note_scale(sheet, panel, panels.right(), figure.reference_hz)?;
            }
            if several {
                let look = Type::new(theme::LABEL_PX, theme::INK).bold();
                sheet.text(panel.x.from_px, panel.y.to_px - 9.0, drawn.name, look)?;
            }
            if is_rightmost || figure.arrangement == Arrangement::Beside {
                panels.lowest().draw_x_scale(sheet, "Time, s")?;
            }
        }
        let Some(last) = panels.last() else { return Ok(()) };
        draw_legend(sheet, figure, last.right())?;
        let (top, bottom) = (panels[0].picture.y.to_px, last.lowest().y.from_px);
        let bar = ColourBar {
            colours: figure.colours,
            range_db: figure.range_db,
            reference: figure.spectrograms[0].reference,
        };
        if figure.spectrograms.iter().any(|drawn| drawn.shows == Shown::Phase) {
            let middle = (0.5 * (top + bottom)).floor();
            let (above, below) = (middle - 0.5 * GAP_PX, middle + 0.5 * GAP_PX);
            draw_colour_bar(sheet, &bar, (top, above), last.right())?;
            let left = last.right() + BAR_FROM_PX;
            draw_bar(sheet, &cyclic(), (-180.0, 180.0), "phase, °", (below, bottom), left)?;
        } else {
            draw_colour_bar(sheet, &bar, (top, bottom), last.right())?;
        }
        notes::draw(sheet, last.lowest().y.from_px + 64.0, &notes)
    })
}

/// What slices and marks mean.
fn draw_legend(sheet: &Sheet<'_>, figure: &SpectrogramFigure<'_>, right: f64) -> Result<(), Error> {
    let mut entries = legend::curves(figure.slice_names.iter().map(String::as_str));
    let all: Vec<Marks<'_>> = figure.spectrograms.iter().map(|drawn| drawn.marks).collect();
    entries.extend(marks::legend_entries(&all));
    legend::draw(sheet, right, &entries)
}

/// Levels of a slice in dB, on the reference of its take.
fn levels_db<'a>(
    drawn: &DrawnSpectrogram<'a>,
    slice: &'a Slice,
) -> impl Iterator<Item = f64> + use<'a> {
    let offset = drawn.reference.full_scale_db();
    slice.power.iter().map(move |power| db_from_power(f64::from(*power).max(1e-30)) + offset)
}

/// Slices as curves in their panels, and as lines where they cut through the picture.
fn draw_slices(
    sheet: &Sheet<'_>,
    panels: &Panels,
    drawn: &DrawnSpectrogram<'_>,
    is_leftmost: bool,
) -> Result<(), Error> {
    let plan = &drawn.spectrogram.plan;
    if let Some(panel) = &panels.at_times {
        draw_level_grid(sheet, panel)?;
    }
    if let Some(panel) = &panels.at_frequencies {
        panel.draw_lines(sheet)?;
        if is_leftmost {
            panel.draw_y_scale(sheet)?;
            panel.draw_title(sheet, "Level, dB")?;
        }
    }
    for (n, slice) in drawn.slices.iter().enumerate() {
        let colour = theme::category(n);
        let levels = levels_db(drawn, slice);
        let (curve, cut): (Vec<_>, _) = match slice.at {
            SliceAt::Time(time_s) => {
                let Some(panel) = &panels.at_times else { continue };
                let rows = plan.row_hz();
                let points = levels.zip(rows).map(|(level, hz)| (panel.y.place(hz), level));
                let place = |(y, level): (f64, f64)| (panel.x.place_within(level), y);
                let x = panels.picture.x.place_within(drawn.span_s.0 + time_s);
                let y = panels.picture.y;
                let curve = panel::without_stairs(points).into_iter().map(place);
                (curve.collect(), [(x, y.to_px), (x, y.from_px)])
            }
            SliceAt::Frequency(hz) => {
                let Some(panel) = &panels.at_frequencies else { continue };
                let place = |(column, level): (usize, f64)| {
                    panel.place(drawn.span_s.0 + plan.time_s(column), level)
                };
                let (x, y) = (panels.picture.x, panels.picture.y.place_within(hz));
                (levels.enumerate().map(place).collect(), [(x.from_px, y), (x.to_px, y)])
            }
        };
        sheet.line(&curve, colour, 0.9, 1.3)?;
        sheet.line(&cut, theme::PAPER, 0.45, 2.4)?;
        sheet.dashed(&cut, colour, 1.4)?;
        let (x, y) = cut[0];
        sheet.mark(x, y, 4.0, colour, true, Mark::of(n))?;
        // The mark stands at the loudest of the curve too.
        let along = |point: &(f64, f64)| match slice.at {
            SliceAt::Time(_) => point.0,
            SliceAt::Frequency(_) => -point.1,
        };
        if let Some((x, y)) = curve.iter().max_by(|a, b| along(a).total_cmp(&along(b))) {
            sheet.mark(*x, *y, 4.0, colour, true, Mark::of(n))?;
        }
    }
    for panel in [&panels.at_times, &panels.at_frequencies].into_iter().flatten() {
        panel.draw_box(sheet)?;
    }
    Ok(())
}

/// Lines and values of a level axis below a panel.
fn draw_level_grid(sheet: &Sheet<'_>, panel: &Panel) -> Result<(), Error> {
    panel.draw_lines(sheet)?;
    panel.draw_x_scale(sheet, "Level, dB")
}

/// The pixels of a spectrogram. Each shows the cell that its middle lies in: nothing is blended.
pub(crate) fn picture(
    drawn: &DrawnSpectrogram<'_>,
    range_db: (f64, f64),
    colours: ColourMap,
    panel: &Panel,
) -> Picture {
    let spectrogram = drawn.spectrogram;
    let plan = &spectrogram.plan;
    let table = colours.table();
    let (low_db, high_db) = range_db;
    let full_scale_db = drawn.reference.full_scale_db();
    let (width, height) =
        ((panel.x.to_px - panel.x.from_px) as usize, (panel.y.from_px - panel.y.to_px) as usize);
    let rows: Vec<usize> =
        (0..height).map(|y| ((height - 1 - y) * plan.rows() + plan.rows() / 2) / height).collect();
    let paper = [theme::PAPER.0, theme::PAPER.1, theme::PAPER.2];
    let seconds_per_px = (panel.x.high - panel.x.low) / width as f64;
    let length_s = drawn.span_s.1 - drawn.span_s.0;
    let columns = (0..width).map(|x| {
        let time = (x as f64 + 0.5) * seconds_per_px;
        (time <= length_s).then(|| plan.column_at(time))
    });
    let share_of = |power: f32| {
        let level = db_from_power(f64::from(power.max(1e-37))) + full_scale_db;
        (level - low_db) / (high_db - low_db)
    };
    let at = |share: f64| ((share * COLOURS as f64).max(0.0) as usize).min(COLOURS - 1);
    let angles = cyclic();
    let of_phase = |power: f32, degrees: f32| {
        let full = if degrees.is_nan() { 0.0 } else { share_of(power).clamp(0.0, 1.0) };
        let colour = angles[at(f64::from(degrees) / 360.0 + 0.5)];
        [0, 1, 2].map(|n| {
            let (from, to) = (f64::from(paper[n]), f64::from(colour[n]));
            (from + full * (to - from)).round() as u8
        })
    };
    let mut pixels = vec![paper; width * height];
    let mut colours = Vec::new();
    let mut last = None;
    for (x, column) in columns.enumerate() {
        let Some(column) = column else { continue };
        if last != Some(column) {
            let power = spectrogram.column(column);
            colours = match drawn.shows {
                Shown::Level => power.iter().map(|power| table[at(share_of(*power))]).collect(),
                Shown::Phase => {
                    let phases = spectrogram.phases(column);
                    power
                        .iter()
                        .zip(phases)
                        .map(|(power, phase)| of_phase(*power, *phase))
                        .collect()
                }
            };
            last = Some(column);
        }
        for (y, row) in rows.iter().enumerate() {
            pixels[y * width + x] = colours[(*row).min(colours.len() - 1)];
        }
    }
    panel.picture(width, height, pixels)
}

/// The notes at the right of a picture.
pub(crate) fn draw_note_scale(
    sheet: &Sheet<'_>,
    panel: &Panel,
    right: f64,
    reference_hz: f64,
) -> Result<(), Error> {
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

/// What a bar of colours shows.
pub(crate) struct ColourBar {
    pub(crate) colours: ColourMap,
    pub(crate) range_db: (f64, f64),
    pub(crate) reference: LevelReference,
}

/// The colours with their levels.
pub(crate) fn draw_colour_bar(
    sheet: &Sheet<'_>,
    bar: &ColourBar,
    (top, bottom): (f64, f64),
    right: f64,
) -> Result<(), Error> {
    let title = format!("dB {}", bar.reference.words());
    draw_bar(sheet, &bar.colours.table(), bar.range_db, &title, (top, bottom), right + BAR_FROM_PX)
}

/// A bar of colours with what they mean, its left side at `left`.
pub(crate) fn draw_bar(
    sheet: &Sheet<'_>,
    table: &[[u8; 3]; COLOURS],
    (low, high): (f64, f64),
    title: &str,
    (top, bottom): (f64, f64),
    left: f64,
) -> Result<(), Error> {
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
    let axis = Axis { low, high, scale: Scale::Linear, from_px: bottom, to_px: top };
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
    panel.draw_box(sheet)?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let width = look.width(title);
    sheet.text(left + BAR_PX + 38.0 - width, top - 11.0, title, look)
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
            size: spectrogram_cells(size, SpectrogramLayout { count: 1, ..Default::default() }),
            ..SpectrogramSettings::default()
        };
        let made = spectrogram(&sound, 48_000.0, &settings).expect("made");
        let figure = SpectrogramFigure {
            spectrograms: &[DrawnSpectrogram {
                name: "a",
                spectrogram: &made,
                shows: Shown::Level,
                span_s: (0.0, 1.0),
                reference: LevelReference::FullScale,
                marks: Marks::default(),
                slices: &[],
            }],
            arrangement: Arrangement::Stacked,
            slice_names: &[],
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
        let panel = panels(&figure, size, 1)[0].picture;
        let at = |time: f64, hz: f64| {
            let (x, y) = panel.place(time, hz);
            pixels[3 * (y as usize * 640 + x as usize)]
        };
        // The louder the darker.
        assert!(at(0.75, 1000.0) < 40, "{}", at(0.75, 1000.0));
        assert!(at(0.25, 1000.0) > 240 && at(0.75, 300.0) > 240);
    }
}
