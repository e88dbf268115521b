//! Notes as a Standard MIDI File (MIDI 1.0, RP-001), with pitch bend.

use midly::num::{u7, u15, u24, u28};
use midly::{
    Format, Header, MetaMessage, MidiMessage, PitchBend, Smf, Timing, TrackEvent, TrackEventKind,
};

use crate::error::Error;

/// A note to be written.
#[derive(Debug, Clone, PartialEq)]
pub struct MidiNote {
    /// When it begins and ends, in seconds.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// Its number: 69 is A4.
    pub number: u8,
    /// How hard it is struck, 1 to 127.
    pub velocity: u8,
    /// Its course: times in seconds, and distances from the note in cents.
    pub bends: Vec<(f64, f64)>,
}

/// Ticks of a second: 480 to a quarter, 120 quarters to a minute.
const TICKS_PER_S: f64 = 960.0;
const TICKS_PER_QUARTER: u16 = 480;
const MICROSECONDS_PER_QUARTER: u32 = 500_000;
/// Reach of the pitch bend in cents, to either side: what instruments have unless they are set
/// otherwise.
const BEND_CENTS: f64 = 200.0;
/// Bends that differ by less are left out, in cents.
const LEAST_BEND_CENTS: f64 = 1.0;

/// The notes as a file of one track on channel 1.
///
/// # Errors
///
/// [`Error::Midi`] if the library cannot write it.
pub fn midi_file(notes: &[MidiNote], name: &str) -> Result<Vec<u8>, Error> {
    let tick = |time_s: f64| (time_s.max(0.0) * TICKS_PER_S).round() as u32;
    let message = |message| TrackEventKind::Midi { channel: 0.into(), message };
    // What ends comes before what begins at the same time, and bends before notes.
    let mut events: Vec<(u32, u8, TrackEventKind<'_>)> = Vec::new();
    for note in notes {
        let (start, end) = (tick(note.start_s), tick(note.end_s).max(tick(note.start_s) + 1));
        let key = u7::from(note.number.min(127));
        let vel = u7::from(note.velocity.clamp(1, 127));
        events.push((start, 2, message(MidiMessage::NoteOn { key, vel })));
        events.push((end, 0, message(MidiMessage::NoteOff { key, vel: u7::from(64) })));
        let mut last = f64::INFINITY;
        for (n, (time_s, cents)) in note.bends.iter().enumerate() {
            if n > 0 && (cents - last).abs() < LEAST_BEND_CENTS {
                continue;
            }
            last = *cents;
            let at = if n == 0 { start } else { tick(*time_s).clamp(start, end - 1) };
            let bend = PitchBend::from_f64((cents / BEND_CENTS).clamp(-1.0, 0.999_9));
            events.push((at, 1, message(MidiMessage::PitchBend { bend })));
        }
    }
    events.sort_by_key(|(tick, order, _)| (*tick, *order));
    let meta = |message| TrackEvent { delta: u28::from(0), kind: TrackEventKind::Meta(message) };
    let mut track = vec![
        meta(MetaMessage::TrackName(name.as_bytes())),
        meta(MetaMessage::Tempo(u24::from(MICROSECONDS_PER_QUARTER))),
    ];
    let mut last = 0;
    for (tick, _, kind) in events {
        track.push(TrackEvent { delta: u28::from(tick - last), kind });
        last = tick;
    }
    track.push(meta(MetaMessage::EndOfTrack));
    let timing = Timing::Metrical(u15::from(TICKS_PER_QUARTER));
    let file = Smf { header: Header::new(Format::SingleTrack, timing), tracks: vec![track] };
    let mut bytes = Vec::new();
    file.write_std(&mut bytes).map_err(Error::Midi)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn notes_are_read_back_with_their_times_and_bends() {
        let notes = [
            MidiNote {
                start_s: 0.5,
                end_s: 1.0,
                number: 69,
                velocity: 100,
                bends: vec![(0.5, 5.0), (0.6, 5.4), (0.75, -40.0)],
            },
            MidiNote {
                start_s: 1.0,
                end_s: 1.5,
                number: 71,
                velocity: 80,
                bends: vec![(1.0, 0.0)],
            },
        ];
        let bytes = midi_file(&notes, "flute").expect("written");
        let file = Smf::parse(&bytes).expect("read back");
        let mut time = 0;
        let mut seen = Vec::new();
        for event in &file.tracks[0] {
            time += event.delta.as_int();
            if let TrackEventKind::Midi { message, .. } = event.kind {
                seen.push(match message {
                    MidiMessage::NoteOn { key, .. } => (time, "on", i32::from(key.as_int())),
                    MidiMessage::NoteOff { key, .. } => (time, "off", i32::from(key.as_int())),
                    MidiMessage::PitchBend { bend } => {
                        (time, "bend", (200.0 * bend.as_f64()).round() as i32)
                    }
                    _ => (time, "other", 0),
                });
            }
        }
        assert_eq!(
            seen,
            [
                (480, "bend", 5),
                (480, "on", 69),
                (720, "bend", -40),
                (960, "off", 69),
                (960, "bend", 0),
                (960, "on", 71),
                (1440, "off", 71),
            ]
        );
    }
}
