//! Which frames of the sound in an MP4 file are meant to be heard.
//!
//! An encoder adds frames before the sound (its delay) and after it (to fill the last packet). The
//! file says by an edit list how many to skip, and by the media duration where to stop
//! (ISO/IEC 14496-12:2022, 8.4.2 and 8.6.6).

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::ops::Range;

/// Largest box whose content is read; those that matter have some tens of bytes.
const LARGEST_READ: u64 = 1 << 16;

/// What is found on the way through the boxes of one track.
#[derive(Default)]
struct TrackTimes {
    is_sound: bool,
    timescale: u32,
    duration: u64,
    skipped: Option<u64>,
}

/// What to keep of the sound, counted from the first frame that is decoded, and how many of the
/// units in which this is counted make a second; `None` if the file does not say. Leaves the file
/// at its beginning.
pub(crate) fn heard_frames(file: &mut File) -> Option<(Range<u64>, u32)> {
    let length = file.metadata().ok()?.len();
    let mut tracks = Vec::new();
    let walked = walk(file, 0..length, 0, &mut tracks);
    file.seek(SeekFrom::Start(0)).ok()?;
    walked?;
    let track = tracks.iter().find(|track| track.is_sound)?;
    let skipped = track.skipped?;
    (skipped < track.duration).then_some((skipped..track.duration, track.timescale))
}

/// Goes through the boxes in a stretch of the file, and into those that hold what is sought.
fn walk(
    file: &mut File,
    within: Range<u64>,
    depth: u32,
    tracks: &mut Vec<TrackTimes>,
) -> Option<()> {
    const DEEPEST: u32 = 8;
    let mut position = within.start;
    while position + 8 <= within.end && depth < DEEPEST {
        file.seek(SeekFrom::Start(position)).ok()?;
        let mut head = [0; 16];
        file.read_exact(&mut head[..8]).ok()?;
        let (size, header) = match u32::from_be_bytes([head[0], head[1], head[2], head[3]]) {
            0 => (within.end - position, 8),
            1 => {
                file.read_exact(&mut head[8..]).ok()?;
                (u64::from_be_bytes(head[8..].try_into().ok()?), 16)
            }
            size => (u64::from(size), 8),
        };
        let end = position.checked_add(size).filter(|end| size >= header && *end <= within.end)?;
        let content = position + header..end;
        match &head[4..8] {
            b"trak" => {
                tracks.push(TrackTimes::default());
                walk(file, content, depth + 1, tracks)?;
            }
            b"moov" | b"mdia" | b"edts" => walk(file, content, depth + 1, tracks)?,
            kind @ (b"mdhd" | b"hdlr" | b"elst") => {
                let kind: [u8; 4] = kind.try_into().ok()?;
                let mut bytes = Vec::new();
                let length = (content.end - content.start).min(LARGEST_READ);
                file.by_ref().take(length).read_to_end(&mut bytes).ok()?;
                note(tracks.last_mut()?, kind, &bytes);
            }
            _ => {}
        }
        position = end;
    }
    Some(())
}

/// Takes down what a box says. Fields that are not there leave the track as it is.
fn note(track: &mut TrackTimes, kind: [u8; 4], bytes: &[u8]) {
    let u32_at = |at: usize| Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?));
    let u64_at = |at: usize| Some(u64::from_be_bytes(bytes.get(at..at + 8)?.try_into().ok()?));
    let wide = bytes.first() == Some(&1);
    match &kind {
        b"hdlr" => track.is_sound = bytes.get(8..12) == Some(b"soun"),
        b"mdhd" if wide => {
            track.timescale = u32_at(20).unwrap_or(0);
            track.duration = u64_at(24).unwrap_or(0);
        }
        b"mdhd" => {
            track.timescale = u32_at(12).unwrap_or(0);
            track.duration = u32_at(16).map_or(0, u64::from);
        }
        _ => {
            // Edits of time −1 are silence before the sound; the first other one begins it.
            let edits = u32_at(4).unwrap_or(0).min(64) as usize;
            track.skipped = (0..edits).find_map(|edit| {
                let time = if wide {
                    u64_at(8 + 20 * edit + 8).map(|time| time as i64)
                } else {
                    u32_at(8 + 12 * edit + 4).map(|time| i64::from(time as i32))
                };
                time.and_then(|time| u64::try_from(time).ok())
            });
        }
    }
}
