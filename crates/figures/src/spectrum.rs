//! The spectrum: level against frequency, with its tones.

use tonemap_core::spectrum::{Method, Peak, Spectrum};
use tonemap_core::units::db_from_power;
use tonemap_core::{Finding, Measured};

use crate::error::Error;
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Sheet, Size, Type};
use crate::theme;
use crate::ticks;

/// How frequencies are spread.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FrequencyScale {
    /// Equal intervals take equal space.
    #[default]
    Logarithmic,
    /// Equal differences take equal space.
    Linear,
}

/// A spectrum to be drawn, and what stands around it.
#[derive(Debug, Clone, Copy)]
pub struct SpectrumFigure<'a> {
    /// What was measured.
    pub spectrum: &'a Spectrum,
    /// Heading: usually the name of the take.
    pub title: &'a str,
    /// Lines of small text under the plot: settings, take, span.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings. All is wrapped.
    pub findings: &'a [Finding],
    /// Frequency of A4 in Hz, for the scale of notes.
    pub reference_hz: f64,
    /// How frequencies are spread.
    pub scale: FrequencyScale,
}

/// Lowest frequency drawn on a logarithmic scale unless a range is set, in Hz.
const LOWEST_HZ: f64 = 20.0;
/// How far below the noise floor the level axis reaches, and its longest and shortest reach, in dB.
const BELOW_FLOOR_DB: f64 = 12.0;
const LONGEST_DB: f64 = 140.0;
const SHORTEST_DB: f64 = 40.0;
/// Free space above the highest level, for labels, as a share of the axis.
const HEADROOM: f64 = 0.17;

/// Draws a spectrum.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn spectrum_figure(figure: &SpectrumFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let panel = panel(figure, size, notes.len());
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(panel.x.from_px, 32.0, figure.title, title)?;
        panel.draw_grid(sheet)?;
        let curve = draw_curve(sheet, &panel, figure.spectrum)?;
        draw_floor(sheet, &panel, figure.spectrum)?;
        let legend = draw_legend(sheet, &panel, figure)?;
        draw_tones(sheet, &panel, &figure.spectrum.peaks, &curve, legend)?;
        panel.draw_note_scale(sheet, figure.reference_hz)?;
        let level = format!("Level, dB {}", figure.spectrum.reference.words());
        panel.draw_frame(sheet, &level)?;
        panel.draw_x_scale(sheet, "Frequency, Hz")?;
        notes::draw(sheet, panel.y.from_px + 64.0, &notes)
    })
}

fn panel(figure: &SpectrumFigure<'_>, size: Size, lines_below: usize) -> Panel {
    let spectrum = figure.spectrum;
    let (mut low_hz, high_hz) = spectrum.range_hz;
    let scale = match figure.scale {
        FrequencyScale::Linear => Scale::Linear,
        FrequencyScale::Logarithmic => {
            if low_hz <= 0.0 {
                low_hz = LOWEST_HZ.min(high_hz / 10.0);
            }
            Scale::Logarithmic
        }
    };
    let (low_db, high_db) = level_range(spectrum, low_hz, high_hz);
    let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64;
    Panel {
        x: Axis {
            low: low_hz,
            high: high_hz,
            scale,
            from_px: LEFT_PX,
            to_px: f64::from(size.width) - RIGHT_PX,
        },
        y: Axis { low: low_db, high: high_db, scale: Scale::Linear, from_px: bottom, to_px: 78.0 },
    }
}

/// Levels from a little below the noise floor to the highest peak, with headroom.
fn level_range(spectrum: &Spectrum, low_hz: f64, high_hz: f64) -> (f64, f64) {
    let bins = |power: &[f64]| -> Vec<f64> {
        power
            .iter()
            .enumerate()
            .filter(|(k, _)| (low_hz..=high_hz).contains(&(*k as f64 * spectrum.bin_spacing_hz)))
            .map(|(_, power)| db_from_power(*power))
            .filter(|db| db.is_finite())
            .collect()
    };
    let peaks = spectrum.peaks.iter().map(|peak| peak.level_db);
    let highest = bins(&spectrum.power).into_iter().chain(peaks).fold(f64::NEG_INFINITY, f64::max);
    let highest = if highest.is_finite() { highest } else { 0.0 };
    let lowest_floor = bins(&spectrum.floor).into_iter().fold(f64::INFINITY, f64::min);
    let reach = (highest - lowest_floor + BELOW_FLOOR_DB).clamp(SHORTEST_DB, LONGEST_DB);
    let low_db = ((highest - reach) / 10.0).floor() * 10.0;
    (low_db, low_db + (highest - low_db) / (1.0 - HEADROOM))
}

/// Highest point of the curve in each pixel column, as a height in pixels.
struct Skyline {
    left: f64,
    tops: Vec<f64>,
}

impl Skyline {
    /// Smallest y (highest point) between two x.
    fn top(&self, from: f64, to: f64) -> f64 {
        let index = |x: f64| ((x - self.left).max(0.0) as usize).min(self.tops.len());
        self.tops[index(from)..index(to + 1.0)].iter().copied().fold(f64::INFINITY, f64::min)
    }
}

fn draw_curve(sheet: &Sheet<'_>, panel: &Panel, spectrum: &Spectrum) -> Result<Skyline, Error> {
    let (left, right, bottom) = (panel.x.from_px, panel.x.to_px, panel.y.from_px);
    // One value beyond each end, so that the line reaches the frame.
    let spacing = spectrum.bin_spacing_hz;
    let first = ((panel.x.low / spacing).floor() as usize).max(1);
    let last = ((panel.x.high / spacing).ceil() as usize).min(spectrum.power.len() - 1);
    let mut columns: Vec<(f64, f64)> = Vec::new();
    let mut line: Vec<(f64, f64)> = Vec::new();
    let mut tops = vec![bottom; (right - left).ceil() as usize + 1];
    let mut column = f64::NEG_INFINITY;
    let mut lowest = bottom;
    for (k, power) in spectrum.power.iter().enumerate().take(last + 1).skip(first) {
        let level = db_from_power(*power).max(panel.y.low);
        let (x, y) = panel.place(k as f64 * spacing, level);
        if x.floor() > column {
            // Where many values share a pixel, the column shows their highest and lowest.
            if let Some((x, _)) = columns.last().copied() {
                line.push((x, lowest));
            }
            column = x.floor();
            lowest = y;
            columns.push((x, y));
            line.push((x, y));
        } else if let Some(top) = columns.last_mut() {
            top.1 = top.1.min(y);
            lowest = lowest.max(y);
            line.push((top.0, top.1));
        }
    }
    for pair in columns.windows(2) {
        let ((x0, y0), (x1, y1)) = (pair[0], pair[1]);
        for x in (x0 - left) as usize..=((x1 - left) as usize).min(tops.len() - 1) {
            tops[x] = tops[x].min(y0.min(y1));
        }
    }
    if let (Some(first), Some(last)) = (columns.first().copied(), columns.last().copied()) {
        let mut under = columns.clone();
        under.extend([(last.0, bottom), (first.0, bottom)]);
        sheet.shape(&under, theme::CURVE, 0.13)?;
        sheet.line(&thinned(&line), theme::CURVE, 1.0, 1.2)?;
    }
    Ok(Skyline { left, tops })
}

/// The same line without points that repeat the one before.
fn thinned(line: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let mut kept: Vec<(f64, f64)> = Vec::with_capacity(line.len());
    for point in line {
        let near = |last: &(f64, f64)| (last.0 - point.0).abs() + (last.1 - point.1).abs() < 0.05;
        if !kept.last().is_some_and(near) {
            kept.push(*point);
        }
    }
    kept
}

fn draw_floor(sheet: &Sheet<'_>, panel: &Panel, spectrum: &Spectrum) -> Result<(), Error> {
    let mut points: Vec<(f64, f64)> = Vec::new();
    for (k, power) in spectrum.floor.iter().enumerate() {
        let (hz, level) = (k as f64 * spectrum.bin_spacing_hz, db_from_power(*power));
        if !panel.x.contains(hz) || level < panel.y.low {
            continue;
        }
        let point = panel.place(hz, level);
        if points.last().is_none_or(|last| point.0 - last.0 >= 3.0) {
            points.push(point);
        }
    }
    if points.len() < 2 { Ok(()) } else { sheet.dashed(&points, theme::ESTIMATE, 1.3) }
}

/// A rectangle that a label covers.
#[derive(Debug, Clone, Copy)]
struct Frame {
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
}

impl Frame {
    fn meets(&self, other: &Self) -> bool {
        self.left < other.right
            && other.left < self.right
            && self.top < other.bottom
            && other.top < self.bottom
    }

    /// Whether a straight line from `a` to `b` runs through it.
    fn is_crossed(&self, a: (f64, f64), b: (f64, f64)) -> bool {
        (0..=24).any(|step| {
            let share = f64::from(step) / 24.0;
            let (x, y) = (a.0 + share * (b.0 - a.0), a.1 + share * (b.1 - a.1));
            (self.left..=self.right).contains(&x) && (self.top..=self.bottom).contains(&y)
        })
    }
}

/// Where the label of a tone stands, and the line that leads to it from the mark.
struct LabelPlace {
    frame: Frame,
    leader: Option<[(f64, f64); 2]>,
}

/// The legend, in the upper right corner outside the plot; nothing is hidden by it.
fn draw_legend(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &SpectrumFigure<'_>,
) -> Result<Frame, Error> {
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let peaks = &figure.spectrum.peaks;
    let mut entries: Vec<(&str, Option<Method>)> = Vec::new();
    if peaks.iter().any(|peak| peak.method == Method::Span) {
        entries.push(("steady tone", Some(Method::Span)));
    }
    if peaks.iter().any(|peak| peak.method == Method::Frames) {
        entries.push(("tone that changes", Some(Method::Frames)));
    }
    entries.push(("noise floor", None));
    let mut x = panel.x.to_px;
    let y = 31.0;
    for (name, method) in entries.into_iter().rev() {
        x -= look.width(name);
        sheet.text(x, y, name, look)?;
        match method {
            Some(method) => {
                x -= 12.0;
                sheet.dot(x, y - 4.5, 4.5, theme::TONE, method == Method::Span)?;
                x -= 12.0;
            }
            None => {
                sheet.dashed(&[(x - 33.0, y - 4.5), (x - 7.0, y - 4.5)], theme::ESTIMATE, 1.3)?;
                x -= 46.0;
            }
        }
        x -= 8.0;
    }
    Ok(Frame { left: x, right: panel.x.to_px, top: 0.0, bottom: 0.0 })
}

/// The text of a tone's label: frequency, then note and cents.
fn label(peak: &Peak) -> [String; 2] {
    let decimals = Measured::new(peak.frequency_hz, peak.frequency_hz_u).decimals(2);
    let cents = Measured::new(peak.cents, peak.cents_u).decimals(1);
    let sign = if peak.cents >= 0.0 { "+" } else { "" };
    [
        format!("{} Hz", ticks::number(peak.frequency_hz, decimals)),
        format!("{} {sign}{}¢", peak.note, ticks::number(peak.cents, cents)),
    ]
}

/// Height of a line of a label.
const LABEL_LINE_PX: f64 = 14.0;

/// The lowest free place for a label of half-width `half` above a mark: clear of the curve, of
/// everything taken and of the lines that lead to other labels.
fn label_place(
    panel: &Panel,
    (x, y): (f64, f64),
    half: f64,
    curve: &Skyline,
    taken: &[Frame],
    leaders: &[[(f64, f64); 2]],
) -> Option<LabelPlace> {
    let middles = [0.0, -0.45 * half, 0.45 * half, -0.85 * half, 0.85 * half];
    let heights = (0..60).map(|step| f64::from(step) * 0.5 * LABEL_LINE_PX);
    heights
        .flat_map(|raise| middles.map(|shift| (shift, raise)))
        .map(|(shift, raise)| {
            let middle = (x + shift).clamp(panel.x.from_px + half, panel.x.to_px - half);
            let bottom = curve.top(middle - half, middle + half).min(y) - 9.0 - raise;
            let top = bottom - 2.0 * LABEL_LINE_PX;
            let frame = Frame { left: middle - half, right: middle + half, top, bottom };
            // Straight up: the label stands over its mark, if not always in the middle.
            let leader = (y - bottom > 18.0).then_some([(x, y - 7.0), (x, bottom + 1.0)]);
            LabelPlace { frame, leader }
        })
        .find(|LabelPlace { frame, leader }| {
            frame.top > panel.y.to_px + 3.0
                && !taken.iter().any(|other| other.meets(frame))
                && !leaders.iter().any(|[a, b]| frame.is_crossed(*a, *b))
                && leader.is_none_or(|[a, b]| !taken.iter().any(|other| other.is_crossed(a, b)))
        })
}

/// Marks every tone and labels as many as have room, the strongest first.
fn draw_tones(
    sheet: &Sheet<'_>,
    panel: &Panel,
    peaks: &[Peak],
    curve: &Skyline,
    legend: Frame,
) -> Result<(), Error> {
    let upper = Type::new(theme::LABEL_PX, theme::INK).bold().align(Align::Centre);
    let lower = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
    let mut by_level: Vec<&Peak> =
        peaks.iter().filter(|peak| panel.x.contains(peak.frequency_hz)).collect();
    by_level.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
    let mut taken = vec![legend];
    let mut marks = Vec::new();
    for peak in &by_level {
        let (x, y) = panel.place(peak.frequency_hz, peak.level_db);
        marks.push((x, y, peak.method == Method::Span));
        taken.push(Frame { left: x - 6.0, right: x + 6.0, top: y - 6.0, bottom: y + 6.0 });
    }
    let mut leaders: Vec<[(f64, f64); 2]> = Vec::new();
    for (peak, (x, y, _)) in by_level.iter().zip(&marks) {
        let [frequency, note] = label(peak);
        let half = upper.width(&frequency).max(lower.width(&note)) / 2.0 + 4.0;
        let Some(LabelPlace { frame, leader }) =
            label_place(panel, (*x, *y), half, curve, &taken, &leaders)
        else {
            continue;
        };
        if let Some(line) = leader {
            sheet.line(&line, theme::TONE, 0.6, 1.0)?;
            leaders.push(line);
        }
        let middle = f64::midpoint(frame.left, frame.right);
        sheet.text(middle, frame.bottom - LABEL_LINE_PX - 1.0, &frequency, upper)?;
        sheet.text(middle, frame.bottom - 2.0, &note, lower)?;
        taken.push(frame);
    }
    for (x, y, steady) in marks {
        sheet.dot(x, y, 4.5, theme::TONE, steady)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::spectrum::{SpectrumSettings, measure};
    use tonemap_core::synth::{self, Vibrato};

    fn texts(svg: &str) -> Vec<String> {
        let document = roxmltree::Document::parse(svg).expect("well-formed");
        document
            .descendants()
            .filter(|node| node.has_tag_name("text"))
            .filter_map(|node| node.text())
            .map(|text| text.trim().to_string())
            .collect()
    }

    fn drawn(scale: FrequencyScale, range_hz: Option<(f64, f64)>) -> Vec<String> {
        let partials = synth::harmonics(220.0, &[0.3, 0.1, 0.05, 0.02, 0.01]);
        let sound = synth::render(&partials, Vibrato::default(), 48_000.0, 1.0);
        let settings = SpectrumSettings { range_hz, ..SpectrumSettings::default() };
        let spectrum = measure(&synth::to_samples(&sound), 48_000.0, &settings).expect("measured");
        let figure = SpectrumFigure {
            spectrum: &spectrum,
            title: "test tone",
            notes: &["settings".into()],
            findings: &[Finding::warning("dc_offset", "There is DC.")],
            reference_hz: 440.0,
            scale,
        };
        texts(&spectrum_figure(&figure, Size::default()).expect("drawn").svg())
    }

    #[test]
    fn axes_say_what_they_are_and_tones_are_labelled() {
        let found = drawn(FrequencyScale::Logarithmic, None);
        for wanted in [
            "test tone",
            "Frequency, Hz",
            "Level, dB re full scale",
            "settings",
            "noise floor",
            "steady tone",
            "warning: There is DC.",
            "100",
            "1000",
            "C4",
            "220.00 Hz",
            "A3 +0.0¢",
            "660.00 Hz",
        ] {
            assert!(found.iter().any(|text| text == wanted), "{wanted} is missing: {found:?}");
        }
    }

    #[test]
    fn a_range_narrows_the_axis() {
        let found = drawn(FrequencyScale::Linear, Some((200.0, 500.0)));
        assert!(found.iter().any(|text| text == "250"), "{found:?}");
        assert!(!found.iter().any(|text| text == "1000"), "{found:?}");
        assert!(found.iter().any(|text| text == "440.00 Hz"), "{found:?}");
        assert!(!found.iter().any(|text| text == "660.00 Hz"), "{found:?}");
    }
}
