//! Tuning drawn: cents and inharmonicity across the compass, the spectra of all notes, partials
//! against ratios wanted.

use tonemap_core::tuning::{CompassCurve, TunedNote, Tuning};
use tonemap_core::units::{LevelReference, Note};

use crate::colours::{COLOURS, ColourMap};
use crate::error::Error;
use crate::labels::Taken;
use crate::notes::{self, Room, TOP_PX, Words};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Mark, Picture, Sheet, Size, Type};
use crate::spectrogram::{ColourBar, draw_colour_bar};
use crate::theme;
use crate::ticks::{self, Tick};

/// Notes against their temperament, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct CompassFigure<'a> {
    /// What was found.
    pub found: &'a Tuning,
    /// The words around it.
    pub words: Words<'a>,
}

/// The spectrum of a note, as a column of the map.
#[derive(Debug, Clone)]
pub struct MapColumn {
    /// MIDI number of the note.
    pub midi: i32,
    /// Its name.
    pub name: String,
    /// Its fundamental in Hz.
    pub f0_hz: f64,
    /// Levels in dB, row by row from the lowest.
    pub levels_db: Vec<f32>,
}

/// Spectra of all notes, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct MapFigure<'a> {
    /// The notes from the lowest up.
    pub columns: &'a [MapColumn],
    /// Edges of the rows in Hz, one more than there are rows.
    pub row_hz: &'a [f64],
    /// What levels refer to.
    pub reference: LevelReference,
    /// Colours.
    pub colours: ColourMap,
    /// The words around it.
    pub words: Words<'a>,
}

/// How far partials are from a ratio wanted, take by take.
#[derive(Debug, Clone)]
pub struct TargetSeries {
    /// The ratio wanted.
    pub ratio: f64,
    /// Cents and their standard uncertainty; `None` where no partial is near.
    pub cents: Vec<Option<(f64, f64)>>,
}

/// Partials against ratios wanted, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct TargetsFigure<'a> {
    /// Names of the takes.
    pub takes: &'a [String],
    /// The ratios.
    pub series: &'a [TargetSeries],
    /// The words around it.
    pub words: Words<'a>,
}

/// Draws cents over the notes with their uncertainty and the curve of the stretch, and below, where
/// there are any, the inharmonicities on a logarithmic axis.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn compass_figure(figure: &CompassFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let across = (left, right);
        let found = figure.found;
        let has_b = found.notes.iter().filter(|note| drawn_b(note).is_some()).count() > 1;
        let split = if has_b { (TOP_PX + 0.58 * (bottom - TOP_PX)).floor() } else { bottom + 62.0 };
        draw_cents(sheet, found, (across, (TOP_PX, split - 62.0)))?;
        if has_b {
            draw_inharmonicity(sheet, found, (across, (split, bottom)))?;
        }
        Ok(())
    })
}

/// The compass of notes along a stretch of pixels, with a little room at the ends.
fn compass_axis(found: &Tuning, (from_px, to_px): (f64, f64)) -> Axis {
    let all = || found.notes.iter().map(|note| f64::from(note.midi));
    let (low, high) =
        (all().fold(f64::INFINITY, f64::min), all().fold(f64::NEG_INFINITY, f64::max));
    Axis { low: low - 0.8, high: high + 0.8, scale: Scale::Linear, from_px, to_px }
}

/// Grid lines at values of the left axis and at the notes of the other, with their labels.
fn draw_grid(
    sheet: &Sheet<'_>,
    panel: &Panel,
    values: &[Tick],
    names_below: bool,
) -> Result<(), Error> {
    let (left, right) = (panel.x.from_px, panel.x.to_px);
    let (bottom, top) = (panel.y.from_px, panel.y.to_px);
    let semitone_px = panel.x.place(1.0) - panel.x.place(0.0);
    let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
    let mut last_right = f64::NEG_INFINITY;
    for midi in panel.x.low.ceil() as i32..=panel.x.high.floor() as i32 {
        let is_c = midi.rem_euclid(12) == 0;
        if !is_c && semitone_px < 26.0 {
            continue;
        }
        let x = panel.x.place(f64::from(midi)).floor() + 0.5;
        sheet.line(&[(x, top), (x, bottom)], theme::GRID, 1.0, 1.0)?;
        let name = Note(midi).to_string();
        let half = 0.5 * look.width(&name);
        if names_below && x - half > last_right + 6.0 {
            sheet.text(x, bottom + 19.0, &name, look)?;
            last_right = x + half;
        }
    }
    let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Right);
    for tick in values {
        let y = panel.y.place(tick.value).floor() + 0.5;
        let alpha = if tick.label.is_empty() { 0.55 } else { 1.0 };
        sheet.line(&[(left, y), (right, y)], theme::GRID, alpha, 1.0)?;
        sheet.text(left - 8.0, y + 4.5, &tick.label, look)?;
    }
    Ok(())
}

/// A value with its bar of ± 2 u; that of an outlier is hollow.
fn draw_value(
    sheet: &Sheet<'_>,
    panel: &Panel,
    (midi, low, value, high): (f64, f64, f64, f64),
    is_apart: bool,
) -> Result<(), Error> {
    let (x, y) = panel.place(midi, value);
    let ends = [panel.y.place_within(low), panel.y.place_within(high)];
    sheet.line(&[(x, ends[0]), (x, ends[1])], theme::CURVE, 1.0, 1.4)?;
    if (ends[0] - ends[1]).abs() > 8.0 {
        for end in ends {
            sheet.line(&[(x - 3.0, end), (x + 3.0, end)], theme::CURVE, 1.0, 1.4)?;
        }
    }
    if is_apart {
        sheet.mark(x, y, 5.0, theme::TONE, false, Mark::Diamond)
    } else {
        sheet.mark(x, y, 3.8, theme::CURVE, true, Mark::Disc)
    }
}

/// A name and the mark that it belongs to.
type PlacedName = ((f64, f64), String);

/// The names of outliers, in bold, then the values of the others, each where it covers no mark and
/// no other; what has no room is left out, an outlier never.
fn draw_names(
    sheet: &Sheet<'_>,
    panel: &Panel,
    marks: &[(f64, f64)],
    outliers: &[PlacedName],
    others: &[PlacedName],
) -> Result<(), Error> {
    let mut taken = Taken::new(&[], marks);
    let bold = Type::new(theme::LABEL_PX, theme::TONE).bold();
    for (place, name) in outliers {
        taken.draw_beside(sheet, panel, *place, name, bold, true)?;
    }
    let plain = Type::new(theme::LABEL_PX, theme::INK);
    for (place, name) in others {
        taken.draw_beside(sheet, panel, *place, name, plain, false)?;
    }
    Ok(())
}

fn draw_curve(sheet: &Sheet<'_>, panel: &Panel, curve: &CompassCurve) -> Result<(), Error> {
    let points: Vec<(f64, f64)> =
        curve.curve.iter().map(|point| panel.place(f64::from(point.midi), point.value)).collect();
    sheet.line(&points, theme::ESTIMATE, 0.9, 1.8)
}

fn draw_cents(
    sheet: &Sheet<'_>,
    found: &Tuning,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<(), Error> {
    const LEAST_CENTS: f64 = 2.0;
    /// So few notes all have their cents beside them.
    const ALL_LABELLED: usize = 14;
    let ends =
        |note: &TunedNote| [note.cents - 2.0 * note.cents_u, note.cents + 2.0 * note.cents_u];
    let (low, high) = found
        .notes
        .iter()
        .flat_map(ends)
        .fold((-LEAST_CENTS, LEAST_CENTS), |(low, high), cents| (low.min(cents), high.max(cents)));
    let margin = 0.1 * (high - low);
    let panel = Panel {
        x: compass_axis(found, across),
        y: Axis {
            low: low - margin,
            high: high + margin,
            scale: Scale::Linear,
            from_px: bottom,
            to_px: top,
        },
    };
    let values = ticks::linear(panel.y.low, panel.y.high, (bottom - top) / 46.0);
    draw_grid(sheet, &panel, &values, true)?;
    let zero = panel.y.place(0.0);
    sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.6, 1.2)?;
    let curve = found.stretch.as_ref().filter(|stretch| stretch.order > 0 || found.notes.len() > 3);
    if let Some(stretch) = curve {
        draw_curve(sheet, &panel, stretch)?;
    }
    let mut marks = Vec::new();
    let (mut outliers, mut others) = (Vec::new(), Vec::new());
    for note in &found.notes {
        let [low, high] = ends(note);
        let midi = f64::from(note.midi);
        draw_value(sheet, &panel, (midi, low, note.cents, high), note.is_apart)?;
        let place = panel.place(midi, note.cents);
        marks.push(place);
        if note.is_apart {
            outliers.push((place, format!("{} {}", note.note, signed(note.cents, 1))));
        } else if found.notes.len() <= ALL_LABELLED {
            others.push((place, signed(note.cents, 1)));
        }
    }
    draw_names(sheet, &panel, &marks, &outliers, &others)?;
    let what = match curve {
        Some(curve) if curve.order > 0 => "curve: stretch;",
        Some(_) => "line: mean;",
        None => "",
    };
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Right);
    let words = format!("{what} bars ± 2 u; hollow: outliers");
    sheet.text(across.1, top - 9.0, &words, look)?;
    panel.draw_frame(sheet, "From the tempered note, cents")?;
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    sheet.text(f64::midpoint(across.0, across.1), bottom + 42.0, "Note", look)
}

/// B and its uncertainty, where it is known to better than its half.
fn drawn_b(note: &TunedNote) -> Option<(f64, f64)> {
    note.inharmonicity.zip(note.inharmonicity_u).filter(|(b, u)| *b > 0.0 && *u < 0.5 * *b)
}

fn draw_inharmonicity(
    sheet: &Sheet<'_>,
    found: &Tuning,
    (across, (top, bottom)): ((f64, f64), (f64, f64)),
) -> Result<(), Error> {
    let all = || found.notes.iter().filter_map(drawn_b).map(|(b, _)| b);
    let (low, high) = (all().fold(f64::INFINITY, f64::min), all().fold(0.0, f64::max));
    let panel = Panel {
        x: compass_axis(found, across),
        y: Axis {
            low: 1e6 * low / 1.6,
            high: 1e6 * high * 1.6,
            scale: Scale::Logarithmic,
            from_px: bottom,
            to_px: top,
        },
    };
    draw_grid(sheet, &panel, &ticks::logarithmic(panel.y.low, panel.y.high), true)?;
    if let Some(curve) = &found.inharmonicity {
        let curve = CompassCurve {
            curve: (curve.curve.iter().copied())
                .map(|mut point| {
                    point.value *= 1e6;
                    point
                })
                .collect(),
            ..curve.clone()
        };
        draw_curve(sheet, &panel, &curve)?;
    }
    let (mut marks, mut outliers) = (Vec::new(), Vec::new());
    for note in &found.notes {
        let Some((b, u)) = drawn_b(note) else { continue };
        let values =
            (f64::from(note.midi), 1e6 * (b - 2.0 * u).max(0.1 * b), 1e6 * b, 1e6 * (b + 2.0 * u));
        draw_value(sheet, &panel, values, note.inharmonicity_is_apart)?;
        let place = panel.place(f64::from(note.midi), 1e6 * b);
        marks.push(place);
        if note.inharmonicity_is_apart {
            outliers.push((place, note.note.to_string()));
        }
    }
    draw_names(sheet, &panel, &marks, &outliers, &[])?;
    panel.draw_frame(sheet, "Inharmonicity B, 1e-6")?;
    let look = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
    sheet.text(f64::midpoint(across.0, across.1), bottom + 42.0, "Note", look)
}

fn signed(value: f64, decimals: usize) -> String {
    let text = ticks::number(value, decimals);
    if value < 0.0 { text } else { format!("+{text}") }
}

/// Draws the spectrum of each note as a column of colours, the lowest note at the left.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn map_figure(figure: &MapFigure<'_>, size: Size) -> Result<Figure, Error> {
    const DEEPEST_DB: f64 = 90.0;
    Sheet::draw(size, |sheet| {
        let Room { left, bottom, .. } = figure.words.draw(sheet, size)?;
        let right = f64::from(size.width) - notes::RIGHT_WITH_BAR_PX;
        let all = || figure.columns.iter().flat_map(|column| column.levels_db.iter().copied());
        let greatest = f64::from(all().fold(f32::NEG_INFINITY, f32::max));
        let lowest = f64::from(all().fold(f32::INFINITY, f32::min));
        let high = (greatest / 10.0).ceil() * 10.0;
        let low = (lowest.max(high - DEEPEST_DB) / 10.0).floor() * 10.0;
        let (low_hz, high_hz) = (figure.row_hz[0], figure.row_hz[figure.row_hz.len() - 1]);
        let y = Axis {
            low: low_hz,
            high: high_hz,
            scale: Scale::Logarithmic,
            from_px: bottom.floor(),
            to_px: TOP_PX,
        };
        let count = figure.columns.len();
        let x = Axis {
            low: 0.0,
            high: count as f64,
            scale: Scale::Linear,
            from_px: left,
            to_px: right,
        };
        let panel = Panel { x, y };
        draw_cells(sheet, figure, &panel, (low, high))?;
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
        let mut last_right = f64::NEG_INFINITY;
        for (n, column) in figure.columns.iter().enumerate() {
            let middle = panel.x.place(n as f64 + 0.5);
            let half = 0.5 * look.width(&column.name);
            let is_wanted = count < 30 || column.midi.rem_euclid(12) == 0;
            if is_wanted && middle - half > last_right + 6.0 {
                sheet.text(middle, y.from_px + 19.0, &column.name, look)?;
                last_right = middle + half;
            }
        }
        panel.draw_box(sheet)?;
        panel.draw_y_scale(sheet)?;
        panel.draw_title(sheet, "Frequency, Hz")?;
        let axis = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
        sheet.text(f64::midpoint(left, right), y.from_px + 42.0, "Note", axis)?;
        let bar = ColourBar {
            colours: figure.colours,
            range_db: (low, high),
            reference: figure.reference,
        };
        draw_colour_bar(sheet, &bar, (TOP_PX, y.from_px), right)?;
        Ok(())
    })
}

fn draw_cells(
    sheet: &Sheet<'_>,
    figure: &MapFigure<'_>,
    panel: &Panel,
    (low, high): (f64, f64),
) -> Result<(), Error> {
    let table = figure.colours.table();
    let (left, top) = (panel.x.from_px as usize, panel.y.to_px as usize);
    let width = panel.x.to_px as usize - left;
    let height = panel.y.from_px as usize - top;
    let (count, rows) = (figure.columns.len(), figure.row_hz.len() - 1);
    let mut pixels = Vec::with_capacity(3 * width * height);
    for y in 0..height {
        // Several rows in one pixel: the greatest stands.
        let from = (height - 1 - y) * rows / height;
        let to = ((height - y) * rows).div_ceil(height).clamp(from + 1, rows);
        for x in 0..width {
            let column = &figure.columns[x * count / width].levels_db[from..to];
            let db = f64::from(column.iter().copied().fold(f32::NEG_INFINITY, f32::max));
            let share = ((db - low) / (high - low)).clamp(0.0, 1.0);
            pixels.extend(table[(share * (COLOURS - 1) as f64).round() as usize]);
        }
    }
    sheet.picture(Picture { x: left, y: top, width, height, pixels })
}

/// Draws how far partials are from the ratios wanted, take by take.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn targets_figure(figure: &TargetsFigure<'_>, size: Size) -> Result<Figure, Error> {
    const LEAST_CENTS: f64 = 2.0;
    Sheet::draw(size, |sheet| {
        let Room { left, right, bottom } = figure.words.draw(sheet, size)?;
        let across = (left, right);
        let known = figure.series.iter().flat_map(|series| series.cents.iter().flatten());
        let (low, high) = known.fold((-LEAST_CENTS, LEAST_CENTS), |(low, high), (cents, u)| {
            (low.min(cents - 2.0 * u), high.max(cents + 2.0 * u))
        });
        let margin = 0.1 * (high - low);
        let count = figure.takes.len();
        let panel = Panel {
            x: Axis {
                low: -0.5,
                high: count as f64 - 0.5,
                scale: Scale::Linear,
                from_px: across.0,
                to_px: across.1,
            },
            y: Axis {
                low: low - margin,
                high: high + margin,
                scale: Scale::Linear,
                from_px: bottom,
                to_px: TOP_PX,
            },
        };
        let grid = Panel { x: Axis { low: 0.1, high: 0.2, ..panel.x }, ..panel };
        let values = ticks::linear(panel.y.low, panel.y.high, (bottom - TOP_PX) / 46.0);
        draw_grid(sheet, &grid, &values, false)?;
        let zero = panel.y.place(0.0);
        sheet.line(&[(across.0, zero), (across.1, zero)], theme::INK, 0.7, 1.4)?;
        let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Centre);
        let mut last_right = f64::NEG_INFINITY;
        for (n, take) in figure.takes.iter().enumerate() {
            let x = panel.x.place(n as f64);
            let half = 0.5 * look.width(take);
            if x - half > last_right + 6.0 {
                sheet.text(x, bottom + 19.0, take, look)?;
                last_right = x + half;
            }
        }
        let mut values = Vec::new();
        for (n, series) in figure.series.iter().enumerate() {
            values.extend(draw_series(sheet, &panel, series, n)?);
        }
        let marks: Vec<(f64, f64)> = values.iter().map(|(place, _)| *place).collect();
        draw_names(sheet, &panel, &marks, &[], &values)?;
        let names: Vec<String> =
            figure.series.iter().map(|series| format!("ratio {}", series.ratio)).collect();
        crate::legend::draw(
            sheet,
            across.1,
            &crate::legend::curves(names.iter().map(String::as_str)),
        )?;
        panel.draw_frame(sheet, "From the ratio wanted, cents")?;
        let axis = Type::new(theme::AXIS_PX, theme::INK).align(Align::Centre);
        sheet.text(f64::midpoint(across.0, across.1), bottom + 42.0, "Take", axis)?;
        Ok(())
    })
}

/// A series with its bars; returns the places of its values and what they are.
fn draw_series(
    sheet: &Sheet<'_>,
    panel: &Panel,
    series: &TargetSeries,
    n: usize,
) -> Result<Vec<PlacedName>, Error> {
    let colour = theme::category(n);
    let mut values = Vec::new();
    let points =
        || series.cents.iter().enumerate().filter_map(|(at, cents)| Some((at as f64, (*cents)?)));
    let line: Vec<(f64, f64)> = points().map(|(at, (cents, _))| panel.place(at, cents)).collect();
    sheet.line(&line, colour, 0.7, 1.6)?;
    for (at, (cents, u)) in points() {
        let bar = [panel.place(at, cents - 2.0 * u), panel.place(at, cents + 2.0 * u)];
        sheet.line(&bar, colour, 1.0, 1.6)?;
        let (x, y) = panel.place(at, cents);
        sheet.mark(x, y, 5.0, colour, true, Mark::of(n))?;
        values.push(((x, y), signed(cents, 1)));
    }
    Ok(values)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::drawn;
    use tonemap_core::Finding;
    use tonemap_core::tuning::CurvePoint;

    /// Forty notes, of which neighbours are outliers in pitch and in stiffness, and ten findings.
    fn forty() -> Tuning {
        let note = |n: i32| {
            let is_apart = (8..14).contains(&n) || n > 36;
            let cents =
                if is_apart { 9.0 + 0.2 * f64::from(n % 3) } else { 0.3 * f64::from(n % 5) };
            let b = 4e-5 * 2f64.powf(f64::from(n) / 10.0);
            let stiffer = (20..24).contains(&n);
            TunedNote {
                take: format!("take-{n}"),
                start_s: 0.0,
                note: Note(40 + n),
                midi: 40 + n,
                f0_hz: 100.0,
                f0_hz_u: 0.01,
                cents,
                cents_u: 0.2,
                cents_from_curve: Some(cents),
                is_apart,
                inharmonicity: Some(if stiffer { 3.0 * b } else { b }),
                inharmonicity_u: Some(0.01 * b),
                inharmonicity_is_apart: stiffer,
            }
        };
        let curve = (0..40).map(|n| CurvePoint { midi: 40 + n, value: 0.5 }).collect();
        Tuning {
            temperament: "equal".into(),
            reference_hz: 440.0,
            fitted_reference_hz: None,
            notes: (0..40).map(note).collect(),
            stretch: Some(CompassCurve { order: 0, scatter: 0.5, curve, apart: Vec::new() }),
            inharmonicity: None,
            findings: (0..10)
                .map(|n| {
                    let words =
                        format!("Something is wrong with take {n}, and this is what to do. ");
                    Finding::warning("clipped", words.repeat(3))
                })
                .collect(),
        }
    }

    #[test]
    fn forty_notes_with_ten_findings_stay_readable() {
        let found = forty();
        let notes = ["equal temperament".to_string(), "notes scatter".to_string()];
        for size in [Size::default(), Size { width: 900, height: 640 }] {
            let words =
                Words { title: "Tuning of 40 takes", notes: &notes, findings: &found.findings };
            let figure =
                compass_figure(&CompassFigure { found: &found, words }, size).expect("drawn");
            assert_eq!(drawn::collisions(&figure), Vec::<String>::new(), "{size:?}");
            let texts = drawn::texts(&figure);
            // The drawing keeps its share of the page, whatever there is to say.
            let lowest = texts.iter().filter(|text| text.words == "Note").map(|text| text.bottom);
            let share = lowest.fold(0.0, f64::max) / f64::from(size.height);
            assert!(share > 0.85, "{share}");
            let said =
                texts.iter().any(|text| text.words.starts_with("and 9 warnings, see the text"));
            assert!(said, "{texts:?}");
            // Every outlier is named, beside its mark.
            let outliers = texts.iter().filter(|text| text.words.contains(" +9")).count();
            assert_eq!(outliers, found.notes.iter().filter(|note| note.is_apart).count());
        }
    }
}
