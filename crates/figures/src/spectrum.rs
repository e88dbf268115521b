//! The spectrum: level or value against frequency, with its tones; several take one scale.

use tonemap_core::Finding;
use tonemap_core::spectrum::{Curve, Method, Peak, Scaling, Spectrum};

use crate::error::Error;
use crate::labels::{Skyline, Taken};
use crate::legend::{self, Sign};
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Figure, Mark, Sheet, Size, Type};
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

/// What the vertical axis shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LevelAxis {
    /// Levels in dB.
    #[default]
    Decibels,
    /// Values, from 0.
    Values,
}

/// One of the spectra of a figure.
#[derive(Debug, Clone, Copy)]
pub struct DrawnSpectrum<'a> {
    /// What it is called where there are several: the take, the channel.
    pub name: &'a str,
    /// What was measured.
    pub spectrum: &'a Spectrum,
    /// Its curve, with a margin of one bin.
    pub curve: &'a Curve,
}

/// Spectra to be drawn, and what stands around them.
#[derive(Debug, Clone, Copy)]
pub struct SpectrumFigure<'a> {
    /// The spectra, at least one, all in the same units and range.
    pub spectra: &'a [DrawnSpectrum<'a>],
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
    /// What the curves show.
    pub scaling: Scaling,
    /// Whether as levels or as values.
    pub level_axis: LevelAxis,
    /// Whether tones stand where the curve is, since it does not show their amplitudes.
    pub tones_on_curve: bool,
    /// Whether a panel below shows the cumulative power.
    pub cumulative: bool,
}

/// Lowest frequency drawn on a logarithmic scale unless a range is set, in Hz.
const LOWEST_HZ: f64 = 20.0;
/// How far below the noise floor the level axis reaches, and its longest and shortest reach, in dB.
const BELOW_FLOOR_DB: f64 = 12.0;
const LONGEST_DB: f64 = 140.0;
const SHORTEST_DB: f64 = 40.0;
/// Free space above the highest level, for labels, as a share of the axis.
const HEADROOM: f64 = 0.17;
/// Height of the panel of cumulative power, and of the gap above it.
const CUMULATIVE_SHARE: f64 = 0.26;
const PANEL_GAP_PX: f64 = 22.0;

/// Draws spectra.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn spectrum_figure(figure: &SpectrumFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let (panel, below) = panels(figure, size, notes.len());
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(panel.x.from_px, 32.0, figure.title, title)?;
        panel.draw_grid(sheet)?;
        let mut skyline = Skyline::new(&panel);
        for (n, drawn) in figure.spectra.iter().enumerate() {
            draw_curve(sheet, &panel, figure, drawn, theme::category(n), &mut skyline)?;
        }
        if let [only] = figure.spectra {
            draw_floor(sheet, &panel, figure, only)?;
        }
        legend::draw(sheet, panel.x.to_px, &legend_entries(figure))?;
        draw_tones(sheet, &panel, figure, &skyline)?;
        panel.draw_note_scale(sheet, figure.reference_hz)?;
        panel.draw_frame(sheet, &level_title(figure))?;
        let bottom = match &below {
            Some(below) => {
                draw_cumulative(sheet, below, figure)?;
                below
            }
            None => &panel,
        };
        bottom.draw_x_scale(sheet, "Frequency, Hz")?;
        notes::draw(sheet, bottom.y.from_px + 64.0, &notes)
    })
}

fn level_title(figure: &SpectrumFigure<'_>) -> String {
    let spectrum = figure.spectra[0].spectrum;
    match figure.level_axis {
        LevelAxis::Decibels => {
            let of = if figure.scaling == Scaling::Density { "Density level" } else { "Level" };
            format!("{of}, dB {}", figure.scaling.level_words(spectrum.reference))
        }
        LevelAxis::Values => {
            let words = figure.scaling.words();
            let (first, rest) = words.split_at(1);
            format!("{}{rest}, {}", first.to_uppercase(), spectrum.unit(figure.scaling))
        }
    }
}

fn panels(figure: &SpectrumFigure<'_>, size: Size, lines_below: usize) -> (Panel, Option<Panel>) {
    let ranges = || figure.spectra.iter().map(|drawn| drawn.spectrum.range_hz);
    let mut low_hz = ranges().map(|(low, _)| low).fold(f64::INFINITY, f64::min);
    let high_hz = ranges().map(|(_, high)| high).fold(0.0, f64::max);
    let scale = match figure.scale {
        FrequencyScale::Linear => Scale::Linear,
        FrequencyScale::Logarithmic => {
            if low_hz <= 0.0 {
                low_hz = LOWEST_HZ.min(high_hz / 10.0);
            }
            Scale::Logarithmic
        }
    };
    let (low, high) = match figure.level_axis {
        LevelAxis::Decibels => level_range(figure, low_hz, high_hz),
        LevelAxis::Values => (0.0, greatest(figure, low_hz, high_hz) / (1.0 - HEADROOM)),
    };
    let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * lines_below as f64;
    let top = 78.0;
    let split = if figure.cumulative { bottom - CUMULATIVE_SHARE * (bottom - top) } else { bottom };
    let x = Axis {
        low: low_hz,
        high: high_hz,
        scale,
        from_px: LEFT_PX,
        to_px: f64::from(size.width) - RIGHT_PX,
    };
    let y = |low, high, from_px, to_px| Axis { low, high, scale: Scale::Linear, from_px, to_px };
    let gap = if figure.cumulative { PANEL_GAP_PX } else { 0.0 };
    (
        Panel { x, y: y(low, high, split - gap, top) },
        figure.cumulative.then(|| Panel { x, y: y(0.0, 100.0, bottom, split) }),
    )
}

/// Where a tone stands on the vertical axis.
fn tone_height(figure: &SpectrumFigure<'_>, drawn: &DrawnSpectrum<'_>, peak: &Peak) -> f64 {
    if figure.tones_on_curve {
        let heights = heights(figure, drawn.curve);
        let after = drawn.curve.frequency_hz.partition_point(|hz| *hz < peak.frequency_hz);
        let near = after.saturating_sub(1)..(after + 1).min(drawn.curve.frequency_hz.len());
        return heights.skip(near.start).take(near.len()).fold(f64::NEG_INFINITY, f64::max);
    }
    match figure.level_axis {
        LevelAxis::Decibels => peak.level_db,
        LevelAxis::Values => {
            let amplitude = peak.amplitude * drawn.spectrum.reference.per_full_scale();
            figure.scaling.of_tone(amplitude).unwrap_or(0.0)
        }
    }
}

/// What the vertical axis shows of a curve.
fn heights<'a>(
    figure: &SpectrumFigure<'_>,
    curve: &'a Curve,
) -> Box<dyn Iterator<Item = f64> + 'a> {
    match figure.level_axis {
        LevelAxis::Decibels => {
            Box::new(curve.level_db.iter().map(|level| level.unwrap_or(f64::NEG_INFINITY)))
        }
        LevelAxis::Values => Box::new(curve.value.iter().copied()),
    }
}

/// The highest that any curve or tone reaches within the range.
fn greatest(figure: &SpectrumFigure<'_>, low_hz: f64, high_hz: f64) -> f64 {
    let mut greatest = f64::NEG_INFINITY;
    for drawn in figure.spectra {
        let points = drawn.curve.frequency_hz.iter().zip(heights(figure, drawn.curve));
        let inside = points.filter(|(hz, _)| (low_hz..=high_hz).contains(*hz));
        greatest = inside.map(|(_, height)| height).fold(greatest, f64::max);
        let tones = drawn.spectrum.peaks.iter().map(|peak| tone_height(figure, drawn, peak));
        greatest = tones.fold(greatest, f64::max);
    }
    match (greatest.is_finite() && greatest != 0.0, figure.level_axis) {
        (true, _) => greatest,
        (false, LevelAxis::Decibels) => 0.0,
        (false, LevelAxis::Values) => 1.0,
    }
}

/// Levels from a little below the noise floors to the highest peak, with headroom.
fn level_range(figure: &SpectrumFigure<'_>, low_hz: f64, high_hz: f64) -> (f64, f64) {
    let highest = greatest(figure, low_hz, high_hz);
    let lowest_floor = figure
        .spectra
        .iter()
        .flat_map(|drawn| floor_points(figure, drawn))
        .filter(|(hz, level)| (low_hz..=high_hz).contains(hz) && level.is_finite())
        .map(|(_, level)| level)
        .fold(f64::INFINITY, f64::min);
    let reach = (highest - lowest_floor + BELOW_FLOOR_DB).clamp(SHORTEST_DB, LONGEST_DB);
    let low_db = ((highest - reach) / 10.0).floor() * 10.0;
    (low_db, low_db + (highest - low_db) / (1.0 - HEADROOM))
}

/// The noise floor over frequency, as the vertical axis shows it.
fn floor_points<'a>(
    figure: &SpectrumFigure<'a>,
    drawn: &DrawnSpectrum<'a>,
) -> impl Iterator<Item = (f64, f64)> + use<'a> {
    let (spectrum, scaling, axis) = (drawn.spectrum, figure.scaling, figure.level_axis);
    spectrum.floor.iter().enumerate().map(move |(k, power)| {
        let height = match axis {
            LevelAxis::Decibels => spectrum.level_db(k, *power, scaling),
            LevelAxis::Values => spectrum.value(k, *power, scaling),
        };
        (k as f64 * spectrum.bin_spacing_hz, height)
    })
}

fn draw_curve(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &SpectrumFigure<'_>,
    drawn: &DrawnSpectrum<'_>,
    colour: plotters::style::RGBColor,
    skyline: &mut Skyline,
) -> Result<(), Error> {
    let bottom = panel.y.from_px;
    let mut columns: Vec<(f64, f64)> = Vec::new();
    let mut line: Vec<(f64, f64)> = Vec::new();
    let mut column = f64::NEG_INFINITY;
    let mut lowest = bottom;
    for (hz, height) in drawn.curve.frequency_hz.iter().zip(heights(figure, drawn.curve)) {
        if *hz <= 0.0 && panel.x.scale == Scale::Logarithmic {
            continue;
        }
        let (x, y) = panel.place(*hz, height.max(panel.y.low));
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
    skyline.raise(&columns);
    if let (Some(first), Some(last)) = (columns.first().copied(), columns.last().copied()) {
        if figure.spectra.len() == 1 {
            let mut under = columns.clone();
            under.extend([(last.0, bottom), (first.0, bottom)]);
            sheet.shape(&under, colour, 0.13)?;
        }
        sheet.line(
            &thinned(&line),
            colour,
            if figure.spectra.len() == 1 { 1.0 } else { 0.85 },
            1.2,
        )?;
    }
    Ok(())
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

fn draw_floor(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &SpectrumFigure<'_>,
    drawn: &DrawnSpectrum<'_>,
) -> Result<(), Error> {
    let mut points: Vec<(f64, f64)> = Vec::new();
    for (hz, height) in floor_points(figure, drawn) {
        if !panel.x.contains(hz) || height < panel.y.low {
            continue;
        }
        let point = panel.place(hz, height);
        if points.last().is_none_or(|last| point.0 - last.0 >= 3.0) {
            points.push(point);
        }
    }
    if points.len() < 2 { Ok(()) } else { sheet.dashed(&points, theme::ESTIMATE, 1.3) }
}

/// The power below each frequency, in percent, with marks at a tenth, half and nine tenths.
fn draw_cumulative(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &SpectrumFigure<'_>,
) -> Result<(), Error> {
    panel.draw_grid(sheet)?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    for (n, drawn) in figure.spectra.iter().enumerate() {
        let colour = theme::category(n);
        let points = drawn.curve.frequency_hz.iter().zip(&drawn.curve.cumulative_share);
        let line: Vec<(f64, f64)> = points
            .filter(|(hz, _)| panel.x.contains(**hz))
            .map(|(hz, share)| panel.place(*hz, 100.0 * share))
            .collect();
        sheet.line(&thinned(&line), colour, 1.0, 1.6)?;
        let Some(marks) = drawn.spectrum.cumulative() else { continue };
        let marks =
            [(10.0, marks.power_10_hz), (50.0, marks.power_50_hz), (90.0, marks.power_90_hz)];
        for (percent, hz) in marks {
            let (x, y) = panel.place(hz, percent);
            sheet.mark(x, y, 4.0, colour, true, Mark::of(n))?;
            if figure.spectra.len() == 1 {
                let text = format!("{percent} % below {} Hz", ticks::number(hz, 0));
                let fits = x + 12.0 + look.width(&text) < panel.x.to_px;
                let x = if fits { x + 10.0 } else { x - 10.0 - look.width(&text) };
                let y = if percent > 80.0 { y + 14.0 } else { y + 4.5 };
                sheet.text(x, y, &text, look)?;
            }
        }
    }
    panel.draw_frame(sheet, "Power below, %")
}

/// What the legend names: the spectra, or what is drawn of the one.
fn legend_entries<'a>(figure: &SpectrumFigure<'a>) -> Vec<(&'a str, Sign)> {
    let [only] = figure.spectra else {
        return legend::curves(figure.spectra.iter().map(|drawn| drawn.name));
    };
    let has = |method: Method| only.spectrum.peaks.iter().any(|peak| peak.method == method);
    let steady = has(Method::Span).then_some(("steady tone", Sign::Tone(true)));
    let changing = has(Method::Frames).then_some(("tone that changes", Sign::Tone(false)));
    let floor = Some(("noise floor", Sign::Dashes(theme::ESTIMATE)));
    [steady, changing, floor].into_iter().flatten().collect()
}

/// Marks every tone and labels as many as have room, the strongest first.
fn draw_tones(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &SpectrumFigure<'_>,
    skyline: &Skyline,
) -> Result<(), Error> {
    let several = figure.spectra.len() > 1;
    let mut tones: Vec<(usize, &Peak, f64)> = figure
        .spectra
        .iter()
        .enumerate()
        .flat_map(|(n, drawn)| {
            let peaks = drawn.spectrum.peaks.iter();
            peaks.map(move |peak| (n, peak, tone_height(figure, drawn, peak)))
        })
        .filter(|(_, peak, _)| panel.x.contains(peak.frequency_hz))
        .collect();
    tones.sort_by(|a, b| b.2.total_cmp(&a.2));
    let places: Vec<(f64, f64)> =
        tones.iter().map(|(_, peak, height)| panel.place(peak.frequency_hz, *height)).collect();
    let mut taken = Taken::new(&[], &places);
    for ((n, peak, _), place) in tones.iter().zip(&places) {
        let colour = if several { theme::category(*n) } else { theme::TONE };
        taken.draw_label(sheet, panel, skyline, *place, peak, several.then_some(colour))?;
    }
    for ((n, peak, _), (x, y)) in tones.iter().zip(&places) {
        if figure.level_axis == LevelAxis::Values {
            // A tone between two bins stands above both.
            let stem = [(*x, *y), (*x, skyline.top(*x, *x).max(*y))];
            sheet.line(&stem, if several { theme::category(*n) } else { theme::TONE }, 0.6, 1.0)?;
        }
        let (colour, mark) =
            if several { (theme::category(*n), Mark::of(*n)) } else { (theme::TONE, Mark::Disc) };
        sheet.mark(*x, *y, 4.5, colour, peak.method == Method::Span, mark)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::spectrum::{CurveSettings, SpectrumSettings, measure};
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
        let curve = spectrum.curve(&CurveSettings { margin: 1, ..CurveSettings::default() });
        let figure = SpectrumFigure {
            spectra: &[DrawnSpectrum { name: "a", spectrum: &spectrum, curve: &curve }],
            title: "test tone",
            notes: &["settings".into()],
            findings: &[Finding::warning("dc_offset", "There is DC.")],
            reference_hz: 440.0,
            scale,
            scaling: Scaling::Amplitude,
            level_axis: LevelAxis::Decibels,
            tones_on_curve: false,
            cumulative: false,
        };
        texts(&spectrum_figure(&figure, Size::default()).expect("drawn").svg().expect("encoded"))
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
