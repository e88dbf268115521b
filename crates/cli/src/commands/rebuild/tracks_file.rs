//! Tracks of partials as SDIF files, in and out.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::{Context, Result, bail};
use tonemap_core::partials::TrackPoint;
use tonemap_core::rebuild::MadeTrack;
use tonemap_media::{SdifFrame, SdifKind, SdifPartial, read_sdif, sdif_file};

use crate::files;

/// Tracks as a file: all points of a time in a frame.
pub(super) fn written(tracks: &[MadeTrack], is_harmonic: bool) -> Vec<u8> {
    let mut frames: BTreeMap<u64, SdifFrame> = BTreeMap::new();
    for track in tracks.iter().filter(|track| !track.is_removed) {
        for (time_s, point) in &track.points {
            // Times are positive: their bits are in their order.
            let frame = frames
                .entry(time_s.max(0.0).to_bits())
                .or_insert_with(|| SdifFrame { time_s: time_s.max(0.0), partials: Vec::new() });
            frame.partials.push(SdifPartial {
                index: track.number as u32,
                frequency_hz: point.frequency_hz,
                amplitude: point.amplitude,
                phase_rad: point.phase_rad,
            });
        }
    }
    let kind = if is_harmonic { SdifKind::Harmonic } else { SdifKind::Free };
    sdif_file(kind, &frames.into_values().collect::<Vec<_>>())
}

/// The tracks of a file: a partial goes on from one of its points to the next unless it pauses.
pub(super) fn read(file: &Path) -> Result<Vec<MadeTrack>> {
    /// A partial that has no point for so long has paused.
    const PAUSE_S: f64 = 0.1;
    let name = || files::shown(file);
    let bytes = std::fs::read(file).with_context(|| format!("{}: it could not be read", name()))?;
    let (_, frames) = read_sdif(&bytes).with_context(name)?;
    let mut open: BTreeMap<u32, Vec<(f64, TrackPoint)>> = BTreeMap::new();
    let mut tracks = Vec::new();
    let mut close = |index: u32, points: Vec<(f64, TrackPoint)>| {
        if points.len() > 1 {
            tracks.push(MadeTrack::new(index as usize, points));
        }
    };
    let mut before_s = f64::NEG_INFINITY;
    for SdifFrame { time_s, partials } in frames {
        if !(time_s >= 0.0 && time_s > before_s) {
            bail!("{}: the times of its frames do not rise from 0 s on: {time_s} s", name());
        }
        before_s = time_s;
        for SdifPartial { index, frequency_hz, amplitude, phase_rad } in partials {
            let points = open.entry(index).or_default();
            if points.last().is_some_and(|(last_s, _)| time_s - last_s > PAUSE_S) {
                close(index, std::mem::take(points));
            }
            points.push((time_s, TrackPoint { frequency_hz, amplitude, phase_rad }));
        }
    }
    for (index, points) in open {
        close(index, points);
    }
    if tracks.is_empty() {
        bail!("{}: it has no partial that lasts", name());
    }
    Ok(tracks)
}
