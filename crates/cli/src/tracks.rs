//! Tracks of partials as SDIF files, in and out.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::{Context, Result, bail};
use tonemap_core::partials::TrackPoint;
use tonemap_core::rebuild::MadeTrack;
use tonemap_media::{SdifFrame, SdifKind, SdifPartial, read_sdif, sdif_file};

use crate::files;

/// Points of a partial, each with its time, under the number of the partial.
pub(crate) type Timed<'t> = (usize, Box<dyn Iterator<Item = (f64, TrackPoint)> + 't>);

/// Tracks as a file: all points of a time in a frame.
pub(crate) fn written<'t>(tracks: impl Iterator<Item = Timed<'t>>, is_harmonic: bool) -> Vec<u8> {
    // Times are one where they differ by rounding.
    let nanoseconds = |time_s: f64| (1e9 * time_s).round() as u64;
    let mut frames: BTreeMap<u64, SdifFrame> = BTreeMap::new();
    for (number, points) in tracks {
        for (time_s, point) in points {
            let time_s = time_s.max(0.0);
            let frame = frames
                .entry(nanoseconds(time_s))
                .or_insert_with(|| SdifFrame { time_s, partials: Vec::new() });
            frame.partials.push(SdifPartial {
                index: number as u32,
                frequency_hz: point.frequency_hz,
                amplitude: point.amplitude,
                phase_rad: point.phase_rad,
            });
        }
    }
    let kind = if is_harmonic { SdifKind::Harmonic } else { SdifKind::Free };
    sdif_file(kind, &frames.into_values().collect::<Vec<_>>())
}

/// A partial of a frame as a point of its track.
pub(crate) fn point(partial: &SdifPartial) -> (u32, TrackPoint) {
    let SdifPartial { index, frequency_hz, amplitude, phase_rad } = *partial;
    (index, TrackPoint { frequency_hz, amplitude, phase_rad })
}

/// The tracks of a file: a partial goes on from one of its points to the next unless it pauses.
pub(crate) fn read(file: &Path) -> Result<Vec<MadeTrack>> {
    /// A partial that has no point for so long has paused.
    const PAUSE_S: f64 = 0.1;
    const MOST_BYTES: u64 = 1 << 30;
    let name = || files::shown(file);
    let bytes = files::read_named_bytes(file, MOST_BYTES)?;
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
        for (index, point) in partials.iter().map(point) {
            let points = open.entry(index).or_default();
            if points.last().is_some_and(|(last_s, _)| time_s - last_s > PAUSE_S) {
                close(index, std::mem::take(points));
            }
            points.push((time_s, point));
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
