//! Notes as a Standard MIDI File (MIDI 1.0, RP-001), each with its own pitch bend.
//!
//! Notes that sound together are spread over the channels of a zone (MIDI Polyphonic Expression, RP-053):
//! channel 1 is for all of them, each note has one of the channels 2 to 16 for itself. Further notes go into
//! tracks for further ports. The reach of the bend is set in each channel.

use midly::num::{u4, u7, u14, u15, u24, u28};
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
/// Reach of the pitch bend to either side: an octave, in steps of 0.15 cents.
const BEND_SEMITONES: u8 = 12;
const BEND_CENTS: f64 = 100.0 * BEND_SEMITONES as f64;
/// Bends that differ by less are left out, in cents.
const LEAST_BEND_CENTS: f64 = 1.0;
/// The channels of a zone that notes are spread over.
const MEMBERS: usize = 15;

/// An event with its tick, and its place among those of one tick: what ends comes before what begins, and
/// bends before notes.
type Timed<'e> = (u32, u8, TrackEventKind<'e>);

/// The notes as a file: one track for each port.
///
/// # Errors
///
/// [`Error::Midi`] if the library cannot write it.
pub fn midi_file(notes: &[MidiNote], name: &str) -> Result<Vec<u8>, Error> {
    let ports = spread(notes);
    let tracks = ports.iter().enumerate().map(|(port, notes)| {
        let mut events = zone();
        for (channel, note) in notes {
            events.extend(events_of(note, u4::from(*channel)));
        }
        track(events, name, port)
    });
    let tracks: Vec<_> = tracks.collect();
    let timing = Timing::Metrical(u15::from(TICKS_PER_QUARTER));
    let format = if tracks.len() == 1 { Format::SingleTrack } else { Format::Parallel };
    let file = Smf { header: Header::new(format, timing), tracks };
    let mut bytes = Vec::new();
    file.write_std(&mut bytes).map_err(Error::Midi)?;
    Ok(bytes)
}

fn tick(time_s: f64) -> u32 {
    (time_s.max(0.0) * TICKS_PER_S).round() as u32
}

/// The notes of each port with their channels: of those that are free the one that has been so longest, so
/// that what still rings is not bent.
fn spread(notes: &[MidiNote]) -> Vec<Vec<(u8, &MidiNote)>> {
    let mut in_order: Vec<&MidiNote> = notes.iter().collect();
    in_order.sort_by(|a, b| a.start_s.total_cmp(&b.start_s));
    let mut ports: Vec<Vec<(u8, &MidiNote)>> = vec![Vec::new()];
    let mut ends: Vec<[u32; MEMBERS]> = vec![[0; MEMBERS]];
    for note in in_order {
        let start = tick(note.start_s);
        let port = ends.iter().position(|ends| ends.iter().any(|end| *end <= start));
        let port = port.unwrap_or_else(|| {
            ends.push([0; MEMBERS]);
            ports.push(Vec::new());
            ends.len() - 1
        });
        let longest_free = (0..MEMBERS).min_by_key(|n| ends[port][*n]).unwrap_or(0);
        ends[port][longest_free] = tick(note.end_s).max(start + 1);
        ports[port].push((longest_free as u8 + 1, note));
    }
    ports
}

/// Declares the zone, and sets the reach of the bend in all its channels.
fn zone() -> Vec<Timed<'static>> {
    const ZONE: u8 = 6;
    const BEND_RANGE: u8 = 0;
    let mut all = parameter(u4::from(0), ZONE, MEMBERS as u8);
    for channel in 1..=MEMBERS as u8 {
        all.extend(parameter(u4::from(channel), BEND_RANGE, BEND_SEMITONES));
    }
    all
}

/// Sets a registered parameter of a channel.
fn parameter(channel: u4, parameter: u8, value: u8) -> Vec<Timed<'static>> {
    let control = |controller: u8, value: u8| {
        let message =
            MidiMessage::Controller { controller: u7::from(controller), value: u7::from(value) };
        (0, 0, TrackEventKind::Midi { channel, message })
    };
    vec![control(101, 0), control(100, parameter), control(6, value), control(38, 0)]
}

fn events_of(note: &MidiNote, channel: u4) -> Vec<Timed<'static>> {
    let message = |message| TrackEventKind::Midi { channel, message };
    let (start, end) = (tick(note.start_s), tick(note.end_s).max(tick(note.start_s) + 1));
    let key = u7::from(note.number.min(127));
    let vel = u7::from(note.velocity.clamp(1, 127));
    let mut events = vec![
        (start, 2, message(MidiMessage::NoteOn { key, vel })),
        (end, 0, message(MidiMessage::NoteOff { key, vel: u7::from(64) })),
    ];
    let mut last = f64::INFINITY;
    for (n, (time_s, cents)) in note.bends.iter().enumerate() {
        if n > 0 && (cents - last).abs() < LEAST_BEND_CENTS {
            continue;
        }
        last = *cents;
        let at = if n == 0 { start } else { tick(*time_s).clamp(start, end - 1) };
        // 14 bits, of which half are below the middle.
        let bend = (8192.0 * (1.0 + cents / BEND_CENTS)).round().clamp(0.0, 16383.0);
        let bend = PitchBend(u14::from(bend as u16));
        events.push((at, 1, message(MidiMessage::PitchBend { bend })));
    }
    events
}

fn track<'e>(mut events: Vec<Timed<'e>>, name: &'e str, port: usize) -> Vec<TrackEvent<'e>> {
    events.sort_by_key(|(tick, order, _)| (*tick, *order));
    let meta = |message| TrackEvent { delta: u28::from(0), kind: TrackEventKind::Meta(message) };
    let mut track = vec![
        meta(MetaMessage::TrackName(name.as_bytes())),
        meta(MetaMessage::MidiPort(u7::from(port.min(127) as u8))),
        meta(MetaMessage::Tempo(u24::from(MICROSECONDS_PER_QUARTER))),
    ];
    let mut last = 0;
    for (tick, _, kind) in events {
        track.push(TrackEvent { delta: u28::from(tick - last), kind });
        last = tick;
    }
    track.push(meta(MetaMessage::EndOfTrack));
    track
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What a player hears: when each note begins and ends in ticks, and how it is bent then, in cents.
    fn heard(bytes: &[u8]) -> Vec<(u32, u32, f64)> {
        let file = Smf::parse(bytes).expect("read back");
        let mut notes = Vec::new();
        for track in &file.tracks {
            let (mut time, mut bends, mut reach) = (0, [0.0; 16], [200.0; 16]);
            let (mut parameter, mut sounding) = ([127; 16], [None; 16]);
            for event in track {
                time += event.delta.as_int();
                let TrackEventKind::Midi { channel, message } = event.kind else { continue };
                let c = channel.as_int() as usize;
                match message {
                    MidiMessage::Controller { controller, value } => match controller.as_int() {
                        100 => parameter[c] = value.as_int(),
                        6 if parameter[c] == 0 => reach[c] = 100.0 * f64::from(value.as_int()),
                        _ => (),
                    },
                    MidiMessage::PitchBend { bend } => bends[c] = reach[c] * bend.as_f64(),
                    MidiMessage::NoteOn { key, .. } => {
                        assert_eq!(sounding[c], None, "each note has its channel");
                        sounding[c] = Some((time, 100.0 * f64::from(key.as_int()) + bends[c]));
                    }
                    MidiMessage::NoteOff { .. } => {
                        let (start, cents) = sounding[c].take().expect("it sounds");
                        notes.push((start, time, cents));
                    }
                    _ => (),
                }
            }
        }
        notes.sort_by(|a, b| (a.0, a.2).partial_cmp(&(b.0, b.2)).expect("numbers"));
        notes
    }

    fn note(start_s: f64, end_s: f64, number: u8, cents: f64) -> MidiNote {
        MidiNote { start_s, end_s, number, velocity: 90, bends: vec![(start_s, cents)] }
    }

    #[test]
    fn every_note_keeps_its_own_pitch_however_many_sound_together() {
        let notes: Vec<MidiNote> = (0..40u8)
            .map(|n| note(0.5 + 0.01 * f64::from(n), 3.0, 30 + n, 20.0 - f64::from(n)))
            .chain([note(4.0, 5.0, 69, 250.0), note(5.0, 6.0, 60, -3.25)])
            .collect();
        let heard = heard(&midi_file(&notes, "chord").expect("written"));
        assert_eq!(heard.len(), notes.len());
        for (wanted, (start, end, cents)) in notes.iter().zip(&heard) {
            assert_eq!((*start, *end), (tick(wanted.start_s), tick(wanted.end_s)));
            let wanted = 100.0 * f64::from(wanted.number) + wanted.bends[0].1;
            assert!((cents - wanted).abs() < 0.1, "{cents} for {wanted}");
        }
    }
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
                seen.extend(match message {
                    MidiMessage::NoteOn { key, .. } => Some((time, "on", i32::from(key.as_int()))),
                    MidiMessage::NoteOff { key, .. } => {
                        Some((time, "off", i32::from(key.as_int())))
                    }
                    MidiMessage::PitchBend { bend } => {
                        Some((time, "bend", (BEND_CENTS * bend.as_f64()).round() as i32))
                    }
                    _ => None,
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
