//! Marks over a picture of time and frequency: tracks, onsets and clips, all through one function.

use plotters::style::RGBColor;
use tonemap_core::intake::Clip;

use crate::error::Error;
use crate::legend::Sign;
use crate::panel::Panel;
use crate::sheet::Sheet;
use crate::theme;

/// A point of a track.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrackPoint {
    /// Time in seconds from the start of the take.
    pub time_s: f64,
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// How far to trust it, from 0 to 1: the less, the paler.
    pub confidence: f64,
}

/// Something followed over time, in stretches without gaps.
#[derive(Debug, Clone, Default)]
pub struct DrawnTrack {
    /// Each stretch by itself.
    pub stretches: Vec<Vec<TrackPoint>>,
}

/// A tone that keeps its frequency from one time to another, in seconds from the start of the take.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DrawnTone {
    /// In Hz.
    pub frequency_hz: f64,
    /// See above.
    pub from_s: f64,
    /// See above.
    pub to_s: f64,
}

/// What is overlaid on a picture.
#[derive(Debug, Clone, Copy, Default)]
pub struct Marks<'a> {
    /// Clipped runs, in seconds from the start of the take: what stands there is in doubt.
    pub clips: &'a [Clip],
    /// When something begins to sound, in seconds from the start of the take.
    pub onsets_s: &'a [f64],
    /// The fundamental or partials over time.
    pub tracks: &'a [DrawnTrack],
    /// What the tracks are called in the legend.
    pub tracks_name: &'a str,
    /// Tones that belong to none of the tracks, dashed.
    pub tones: &'a [DrawnTone],
    /// What they are called in the legend.
    pub tones_name: &'a str,
    /// Whether the tracks stand on paper and not on a picture.
    pub on_paper: bool,
}

/// Draws marks over a panel whose axes are time in seconds and frequency in Hz.
pub(crate) fn draw(sheet: &Sheet<'_>, panel: &Panel, marks: &Marks<'_>) -> Result<(), Error> {
    let starts = marks.clips.iter().map(|clip| clip.start_s);
    draw_ticks(sheet, panel, starts, theme::TONE)?;
    draw_ticks(sheet, panel, marks.onsets_s.iter().copied(), theme::ONSET)?;
    for time_s in marks.onsets_s.iter().filter(|time_s| panel.x.contains(**time_s)) {
        let x = panel.x.place(*time_s);
        sheet.line_on_picture(&[(x, panel.y.to_px), (x, panel.y.from_px)], theme::PAPER, 0.45)?;
    }
    for stretch in marks.tracks.iter().flat_map(|track| &track.stretches) {
        draw_stretch(sheet, panel, stretch, marks.on_paper)?;
    }
    for tone in marks.tones.iter().filter(|tone| panel.y.contains(tone.frequency_hz)) {
        let (from_s, to_s) = (tone.from_s.max(panel.x.low), tone.to_s.min(panel.x.high));
        if from_s < to_s {
            let ends = [from_s, to_s].map(|time_s| panel.place(time_s, tone.frequency_hz));
            sheet.line(&ends, theme::INK, 0.6, 2.6)?;
            sheet.dashed(&ends, theme::TRACK, 1.2)?;
        }
    }
    Ok(())
}

/// Ticks above a picture, one a pixel at most.
fn draw_ticks(
    sheet: &Sheet<'_>,
    panel: &Panel,
    times_s: impl Iterator<Item = f64>,
    colour: RGBColor,
) -> Result<(), Error> {
    let top = panel.y.to_px;
    let mut last = f64::NEG_INFINITY;
    for time_s in times_s.filter(|time_s| panel.x.contains(*time_s)) {
        let x = panel.x.place(time_s);
        if x - last >= 1.0 {
            sheet.line(&[(x, top - 6.0), (x, top - 1.0)], colour, 1.0, 1.2)?;
            last = x;
        }
    }
    Ok(())
}

/// A stretch of a track in runs of like confidence.
fn draw_stretch(
    sheet: &Sheet<'_>,
    panel: &Panel,
    stretch: &[TrackPoint],
    on_paper: bool,
) -> Result<(), Error> {
    let line = |points: &[(f64, f64)], alpha: f64| {
        if on_paper {
            sheet.line(points, theme::CURVE, alpha, 1.8)
        } else {
            sheet.line_on_picture(points, theme::TRACK, alpha)
        }
    };
    let step = |point: &TrackPoint| (point.confidence.clamp(0.0, 1.0) * 4.0).round();
    let mut start = 0;
    while start < stretch.len() {
        let alike = |point: &&TrackPoint| step(point) == step(&stretch[start]);
        let end = start + stretch[start..].iter().take_while(alike).count();
        // On to the first point of the next run, so that the line does not break.
        let points: Vec<(f64, f64)> = stretch[start..(end + 1).min(stretch.len())]
            .iter()
            .filter(|point| panel.x.contains(point.time_s) && panel.y.contains(point.frequency_hz))
            .map(|point| panel.place(point.time_s, point.frequency_hz))
            .collect();
        let alpha = 0.25 + 0.75 * step(&stretch[start]) / 4.0;
        if points.len() > 1 {
            line(&points, alpha)?;
        } else if let [(x, y)] = points[..] {
            line(&[(x - 1.0, y), (x + 1.0, y)], alpha)?;
        }
        start = end;
    }
    Ok(())
}

/// What the marks of a figure's pictures mean.
pub(crate) fn legend_entries<'a>(all: &[Marks<'a>]) -> Vec<(&'a str, Sign)> {
    let mut entries = Vec::new();
    if all.iter().any(|marks| !marks.clips.is_empty()) {
        entries.push(("clipped", Sign::Tick(theme::TONE)));
    }
    if all.iter().any(|marks| !marks.onsets_s.is_empty()) {
        entries.push(("onset", Sign::Tick(theme::ONSET)));
    }
    if let Some(marks) = all.iter().find(|marks| !marks.tracks.is_empty()) {
        entries.push((marks.tracks_name, Sign::Track));
    }
    if let Some(marks) = all.iter().find(|marks| !marks.tones.is_empty()) {
        entries.push((marks.tones_name, Sign::Dashes(theme::TRACK)));
    }
    entries
}
