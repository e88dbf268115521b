//! The waveform of each channel over time, and their RMS levels.

use plotters::style::RGBColor;
use tonemap_core::intake::{Clip, Envelope, Region};
use tonemap_core::units::db_from_amplitude;

use crate::error::Error;
use crate::notes::{self, LEFT_PX, NOTES_LINE_PX, RIGHT_PX};
use crate::panel::{Axis, Panel, Scale};
use crate::sheet::{Align, Figure, Sheet, Size, Type};
use crate::theme;
use tonemap_core::Finding;

/// One channel of a waveform figure.
#[derive(Debug, Clone, Copy)]
pub struct ChannelCourse<'a> {
    /// Name of the channel.
    pub name: &'a str,
    /// Its waveform over the span.
    pub envelope: &'a Envelope,
    /// Its clipped runs, in seconds from the start of the take.
    pub clips: &'a [Clip],
}

/// How amplitudes are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AmplitudeScale {
    /// Both signs, re full scale.
    Linear,
    /// Magnitudes in dBFS.
    Db,
}

/// A waveform to be drawn, and what stands around it.
#[derive(Debug, Clone, Copy)]
pub struct WaveformFigure<'a> {
    /// Heading: usually the name of the take.
    pub title: &'a str,
    /// The channels; those beyond the eighth are not drawn.
    pub channels: &'a [ChannelCourse<'a>],
    /// How amplitudes are drawn.
    pub amplitude: AmplitudeScale,
    /// Where something sounds, in seconds from the start of the take.
    pub regions: &'a [Region],
    /// Where something begins, in seconds from the start of the take.
    pub onsets_s: &'a [f64],
    /// Start and end of the span in seconds.
    pub span_s: (f64, f64),
    /// Samples per second.
    pub sample_rate_hz: f64,
    /// Lines of small text under the plot.
    pub notes: &'a [String],
    /// Findings; those above *note* are printed under the settings.
    pub findings: &'a [Finding],
}

/// Columns that the envelopes of a figure of this size should have: one a pixel.
#[must_use]
pub fn waveform_columns(size: Size) -> usize {
    (f64::from(size.width) - LEFT_PX - RIGHT_PX) as usize
}

const TOP_PX: f64 = 52.0;
/// Space between panels.
const GAP_PX: f64 = 12.0;
/// Space beyond the largest round amplitude, so that it gets its label.
const HEADROOM: f64 = 1.08;
/// Share of the height that the level panel takes.
const LEVEL_SHARE: f64 = 0.32;
/// Thickness of the bar where something sounds, and strength of the lines where it begins.
const SOUNDING_PX: f64 = 5.0;
const ONSET_ALPHA: f64 = 0.8;
/// Channels drawn at most.
const MOST_CHANNELS: usize = 8;
/// RMS levels are taken over this long, or longer where a pixel is.
const LEVEL_TIME_S: f64 = 0.05;
/// In a shorter span single periods are looked at, and there is no level over time.
const SHORTEST_WITH_LEVEL_S: f64 = 0.5;
/// Reach of the level axis below its top, in dB.
const LEVEL_REACH_DB: f64 = 90.0;

/// Draws a waveform.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn waveform_figure(figure: &WaveformFigure<'_>, size: Size) -> Result<Figure, Error> {
    let channels = &figure.channels[..figure.channels.len().min(MOST_CHANNELS)];
    Sheet::draw(size, |sheet| {
        let notes = notes::lines(figure.notes, figure.findings, size);
        let bottom = f64::from(size.height) - 66.0 - NOTES_LINE_PX * notes.len() as f64;
        let with_level = figure.span_s.1 - figure.span_s.0 >= SHORTEST_WITH_LEVEL_S;
        let share = if with_level { LEVEL_SHARE } else { 0.0 };
        let level_top = bottom - share * (bottom - TOP_PX);
        let gap = if with_level || channels.len() > 1 { GAP_PX } else { 0.0 };
        let title = Type::new(theme::TITLE_PX, theme::INK).bold();
        sheet.text(LEFT_PX, 32.0, figure.title, title)?;
        draw_legend(sheet, size, figure, channels)?;
        let row = (level_top - TOP_PX) / channels.len() as f64;
        let reach = full_reach(channels);
        let amplitudes = match figure.amplitude {
            AmplitudeScale::Linear => (-HEADROOM * reach, HEADROOM * reach),
            AmplitudeScale::Db => {
                let high = (db_from_amplitude(reach) / 10.0).ceil() * 10.0;
                (high - LEVEL_REACH_DB, high + 3.0)
            }
        };
        for (n, channel) in channels.iter().enumerate() {
            let top = TOP_PX + n as f64 * row;
            let is_last = !with_level && n + 1 == channels.len();
            let foot = if is_last { top + row } else { top + row - gap };
            let panel = Panel { x: time_axis(figure, size), y: axis(amplitudes, foot, top) };
            let name = match (channels.len(), figure.amplitude) {
                (1, AmplitudeScale::Linear) => "Amplitude re full scale".into(),
                (1, AmplitudeScale::Db) => "Magnitude, dBFS".into(),
                (_, AmplitudeScale::Linear) => format!("channel {}", channel.name),
                (_, AmplitudeScale::Db) => format!("channel {}, dBFS", channel.name),
            };
            draw_wave(sheet, &panel, channel, colour(n), figure)?;
            panel.draw_frame(sheet, &name)?;
            if is_last {
                panel.draw_x_scale(sheet, "Time, s")?;
            }
        }
        if with_level {
            let levels = level_panel(figure, size, channels, bottom, level_top);
            draw_levels(sheet, &levels, figure, channels)?;
            draw_onsets(sheet, figure, &levels.x, TOP_PX, bottom)?;
        }
        notes::draw(sheet, bottom + 64.0, &notes)
    })
}

fn axis((low, high): (f64, f64), from_px: f64, to_px: f64) -> Axis {
    Axis { low, high, scale: Scale::Linear, from_px, to_px }
}

fn time_axis(figure: &WaveformFigure<'_>, size: Size) -> Axis {
    axis(figure.span_s, LEFT_PX, f64::from(size.width) - RIGHT_PX)
}

fn colour(channel: usize) -> RGBColor {
    theme::category(channel)
}

/// All channels share one scale: full scale, or less if the take is quiet.
fn full_reach(channels: &[ChannelCourse<'_>]) -> f64 {
    let peak = channels
        .iter()
        .flat_map(|channel| channel.envelope.columns())
        .map(|column| f64::from(column.highest.max(-column.lowest)))
        .filter(|peak| peak.is_finite())
        .fold(0.0, f64::max);
    let steps = [1e-4, 2e-4, 5e-4, 1e-3, 2e-3, 5e-3, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0];
    let peak = 1.02 * peak;
    steps.into_iter().find(|step| *step >= peak).unwrap_or(peak.max(1.0))
}

fn draw_wave(
    sheet: &Sheet<'_>,
    panel: &Panel,
    channel: &ChannelCourse<'_>,
    colour: RGBColor,
    figure: &WaveformFigure<'_>,
) -> Result<(), Error> {
    panel.draw_grid(sheet)?;
    let (from_s, to_s) = figure.span_s;
    let columns = channel.envelope.columns();
    let step_s = (to_s - from_s) / columns.len() as f64;
    let line: Vec<(f64, f64)> = if figure.amplitude == AmplitudeScale::Db {
        columns
            .iter()
            .enumerate()
            .filter(|(_, column)| column.highest >= column.lowest)
            .map(|(n, column)| {
                let magnitude = f64::from(column.highest.max(-column.lowest));
                let db = db_from_amplitude(magnitude).max(panel.y.low);
                panel.place(from_s + (n as f64 + 0.5) * step_s, db)
            })
            .collect()
    } else if channel.envelope.is_single_samples() {
        // A sample stands at its instant, the first at the start of the span.
        let values = columns.iter().enumerate();
        values
            .map(|(n, column)| panel.place(from_s + n as f64 * step_s, f64::from(column.highest)))
            .collect()
    } else {
        columns
            .iter()
            .enumerate()
            .filter(|(_, column)| column.highest >= column.lowest)
            .flat_map(|(n, column)| {
                let time = from_s + (n as f64 + 0.5) * step_s;
                let ends = [column.lowest, column.highest];
                // In turns, so that the line goes from column to column by the shorter way.
                let ends = if n % 2 == 0 { ends } else { [ends[1], ends[0]] };
                ends.map(|value| panel.place(time, f64::from(value)))
            })
            .collect()
    };
    if line.len() > 1 {
        sheet.line(&line, colour, 1.0, 1.0)?;
    }
    let are_samples_seen = channel.envelope.is_single_samples() && columns.len() < 160;
    if are_samples_seen && figure.amplitude == AmplitudeScale::Linear {
        for (x, y) in &line {
            sheet.dot(*x, *y, 3.0, colour, true)?;
        }
    }
    let top = panel.y.to_px;
    for clip in channel.clips {
        if panel.x.contains(clip.start_s) {
            let x = panel.x.place(clip.start_s);
            sheet.line(&[(x, top), (x, top + 9.0)], theme::TONE, 1.0, 1.5)?;
        }
    }
    Ok(())
}

fn level_panel(
    figure: &WaveformFigure<'_>,
    size: Size,
    channels: &[ChannelCourse<'_>],
    bottom: f64,
    top: f64,
) -> Panel {
    let levels = channels.iter().flat_map(|channel| course(figure, channel));
    let (lowest, highest) = levels
        .filter_map(|(_, level)| level)
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), level| {
            (low.min(level), high.max(level))
        });
    let high = if highest.is_finite() { ((highest + 3.0) / 10.0).ceil() * 10.0 } else { 0.0 };
    let low = if lowest.is_finite() { ((lowest - 3.0) / 10.0).floor() * 10.0 } else { -60.0 };
    let low = low.clamp(high - LEVEL_REACH_DB, high - 20.0);
    Panel { x: time_axis(figure, size), y: axis((low, high), bottom, top) }
}

/// Time in seconds and RMS level of a channel.
fn course(figure: &WaveformFigure<'_>, channel: &ChannelCourse<'_>) -> Vec<(f64, Option<f64>)> {
    let (from_s, to_s) = figure.span_s;
    let least = (LEVEL_TIME_S * figure.sample_rate_hz).max(1.0) as u64;
    let levels = channel.envelope.levels(least);
    levels.into_iter().map(|(place, level)| (from_s + place * (to_s - from_s), level)).collect()
}

fn draw_levels(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &WaveformFigure<'_>,
    channels: &[ChannelCourse<'_>],
) -> Result<(), Error> {
    panel.draw_grid(sheet)?;
    for (n, channel) in channels.iter().enumerate() {
        let course = course(figure, channel);
        for stretch in course.split(|(_, level)| level.is_none()) {
            let points: Vec<(f64, f64)> = stretch
                .iter()
                .filter_map(|(time, level)| level.map(|level| panel.place(*time, level)))
                .collect();
            if points.len() > 1 {
                sheet.line(&points, colour(n), 1.0, 1.6)?;
            }
        }
    }
    // What sounds, along the foot of the panel.
    let foot = panel.y.from_px - SOUNDING_PX / 2.0 - 1.0;
    for region in figure.regions {
        let ends = [region.start_s, region.end_s].map(|time_s| panel.x.place_within(time_s));
        sheet.line(&[(ends[0], foot), (ends[1], foot)], theme::SOUNDING, 1.0, SOUNDING_PX)?;
    }
    panel.draw_frame(sheet, "RMS, dBFS")?;
    panel.draw_x_scale(sheet, "Time, s")
}

/// A line where something begins, through all panels.
fn draw_onsets(
    sheet: &Sheet<'_>,
    figure: &WaveformFigure<'_>,
    time: &Axis,
    top: f64,
    bottom: f64,
) -> Result<(), Error> {
    for time_s in figure.onsets_s.iter().filter(|time_s| time.contains(**time_s)) {
        let x = time.place(*time_s);
        sheet.line(&[(x, top), (x, bottom)], theme::ONSET, ONSET_ALPHA, 1.2)?;
    }
    Ok(())
}

/// The meaning of the marks and of the colours, above the plot.
fn draw_legend(
    sheet: &Sheet<'_>,
    size: Size,
    figure: &WaveformFigure<'_>,
    channels: &[ChannelCourse<'_>],
) -> Result<(), Error> {
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Right);
    let mut x = f64::from(size.width) - RIGHT_PX;
    if channels.iter().any(|channel| !channel.clips.is_empty()) {
        sheet.text(x, 31.0, "clipped", look)?;
        x -= look.width("clipped") + 9.0;
        sheet.line(&[(x, 22.0), (x, 31.0)], theme::TONE, 1.0, 1.5)?;
        x -= 20.0;
    }
    if figure.span_s.1 - figure.span_s.0 >= SHORTEST_WITH_LEVEL_S {
        if !figure.onsets_s.is_empty() {
            sheet.text(x, 31.0, "onset", look)?;
            x -= look.width("onset") + 9.0;
            sheet.line(&[(x, 20.0), (x, 34.0)], theme::ONSET, ONSET_ALPHA, 1.2)?;
            x -= 20.0;
        }
        if !figure.regions.is_empty() {
            sheet.text(x, 31.0, "sounding", look)?;
            x -= look.width("sounding") + 7.0;
            sheet.line(&[(x - 20.0, 26.5), (x, 26.5)], theme::SOUNDING, 1.0, SOUNDING_PX)?;
            x -= 38.0;
        }
    }
    if channels.len() > 1 {
        for (n, channel) in channels.iter().enumerate().rev() {
            let name = format!("channel {}", channel.name);
            sheet.text(x, 31.0, &name, look)?;
            x -= look.width(&name) + 7.0;
            sheet.line(&[(x - 20.0, 26.5), (x, 26.5)], colour(n), 1.0, 2.0)?;
            x -= 38.0;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::synth::sine;

    #[test]
    fn a_waveform_has_a_row_a_channel_and_a_level() {
        let size = Size { width: 900, height: 600 };
        let samples = sine(440.0, 0.3, 0.0, 48_000.0, 48_000);
        let mut envelope = Envelope::new(48_000, waveform_columns(size));
        envelope.push(&samples);
        let clips = [Clip { start_s: 1.5, end_s: 1.6, samples: 4800 }];
        let channel = |name| ChannelCourse { name, envelope: &envelope, clips: &clips };
        let figure = WaveformFigure {
            title: "take.wav",
            channels: &[channel("1"), channel("2")],
            amplitude: AmplitudeScale::Linear,
            regions: &[Region { start_s: 1.1, end_s: 1.9 }],
            onsets_s: &[1.1],
            span_s: (1.0, 2.0),
            sample_rate_hz: 48_000.0,
            notes: &["1.000 s to 2.000 s".into()],
            findings: &[],
        };
        let svg = waveform_figure(&figure, size).expect("drawn").svg().expect("encoded");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let texts: Vec<&str> = document
            .descendants()
            .filter(|node| node.has_tag_name("text"))
            .filter_map(|node| node.text().map(str::trim))
            .collect();
        for wanted in [
            "take.wav",
            "Time, s",
            "RMS, dBFS",
            "clipped",
            "onset",
            "sounding",
            "channel 2",
            "1.2",
            "−0.5",
            "1.000 s to 2.000 s",
        ] {
            assert!(texts.contains(&wanted), "{wanted} in {texts:?}");
        }
    }
}
