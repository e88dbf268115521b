//! Notes as a score in MusicXML 4.0 (W3C Music Notation Community Group, 2021).
//!
//! A score without a metre is one bar without a time signature, a second to a quarter note: heads without
//! stems, gaps without rests. With one, notes are parted at bar lines and into values that fit their
//! place, and tied.

use std::collections::{HashMap, HashSet};
use std::fmt::Display;
use std::io::{self, Cursor};

use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};

/// A score.
#[derive(Debug, Clone, PartialEq)]
pub struct Score {
    /// Its title.
    pub title: String,
    /// Name and version of the program that wrote it.
    pub software: String,
    /// Parts of a quarter note that times are counted in.
    pub divisions: u32,
    /// Quarter notes in a minute.
    pub tempo_bpm: f64,
    /// Beats in a bar and what a beat is; `None` without bars.
    pub metre: Option<(u32, u32)>,
    /// The staves, from the highest down.
    pub staves: Vec<ScoreStaff>,
    /// What is said above the beginning.
    pub remark: Option<String>,
    /// The notes, in any order.
    pub notes: Vec<ScoreNote>,
}

/// A staff.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScoreStaff {
    /// The letter of its clef, and the line from below that it stands on.
    pub clef: (char, u32),
    /// The octaves that it sounds higher than its clef has it.
    pub octaves: i32,
}

/// A note of a score.
#[derive(Debug, Clone, PartialEq)]
pub struct ScoreNote {
    /// When it begins and how long it lasts, in divisions.
    pub start: u32,
    /// See above.
    pub length: u32,
    /// Its staff, counted from 0.
    pub staff: usize,
    /// C to B, as it sounds.
    pub letter: char,
    /// What its accidental adds in semitones: a multiple of a quarter from −0.5 to 1.25.
    pub alter: f64,
    /// Its octave: that of middle C is 4.
    pub octave: i32,
    /// What is written above it: cents.
    pub above: String,
    /// What is written below it, once for all that begin with it: a time.
    pub below: String,
    /// Its dynamics: p, mf.
    pub dynamics: &'static str,
    /// The same as a MIDI velocity.
    pub velocity: u8,
}

/// Notes of a staff that begin and end together, the lowest first, in a voice.
struct Chord<'s> {
    notes: Vec<&'s ScoreNote>,
    voice: usize,
}

impl Chord<'_> {
    fn start(&self) -> u32 {
        self.notes[0].start
    }

    fn end(&self) -> u32 {
        self.notes[0].start + self.notes[0].length
    }
}

/// A stretch of a chord within a bar.
struct Piece<'c, 's> {
    chord: &'c Chord<'s>,
    length: u32,
    value: Value,
    ties: (bool, bool),
    is_first: bool,
}

/// A note value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Value {
    name: &'static str,
    is_dotted: bool,
}

type Out = Writer<Cursor<Vec<u8>>>;

/// The score as a file.
///
/// # Errors
///
/// What the writer refuses.
pub fn musicxml_file(score: &Score) -> io::Result<Vec<u8>> {
    const DOCTYPE: &str = "score-partwise PUBLIC \"-//Recordare//DTD MusicXML 4.0 Partwise//EN\" \
                           \"http://www.musicxml.org/dtds/partwise.dtd\"";
    let mut out = Writer::new_with_indent(Cursor::new(Vec::new()), b' ', 2);
    out.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), Some("no"))))?;
    out.write_event(Event::DocType(BytesText::from_escaped(DOCTYPE)))?;
    let root = out.create_element("score-partwise").with_attribute(("version", "4.0"));
    root.write_inner_content(|out| {
        parent(out, "work", |out| text(out, "work-title", &score.title))?;
        parent(out, "identification", |out| {
            parent(out, "encoding", |out| text(out, "software", &score.software))
        })?;
        parent(out, "part-list", |out| {
            let part = out.create_element("score-part").with_attribute(("id", "P1"));
            part.write_inner_content(|out| text(out, "part-name", &score.title))?;
            Ok(())
        })?;
        let part = out.create_element("part").with_attribute(("id", "P1"));
        part.write_inner_content(|out| write_bars(out, score))?;
        Ok(())
    })?;
    let mut bytes = out.into_inner().into_inner();
    bytes.push(b'\n');
    Ok(bytes)
}

fn parent(
    out: &mut Out,
    name: &'static str,
    content: impl FnOnce(&mut Out) -> io::Result<()>,
) -> io::Result<()> {
    out.create_element(name).write_inner_content(content)?;
    Ok(())
}

fn text(out: &mut Out, name: &'static str, words: &str) -> io::Result<()> {
    // Control characters are none of XML's.
    let words: String = words.chars().filter(|c| !c.is_control() || *c == '\n').collect();
    out.create_element(name).write_text_content(BytesText::new(&words))?;
    Ok(())
}

fn number(out: &mut Out, name: &'static str, value: impl Display) -> io::Result<()> {
    text(out, name, &format!("{value}"))
}

fn empty(out: &mut Out, name: &str) -> io::Result<()> {
    out.create_element(name).write_empty()?;
    Ok(())
}

fn write_bars(out: &mut Out, score: &Score) -> io::Result<()> {
    let voices = voices(score);
    let end = voices.iter().flatten().map(Chord::end).max().unwrap_or(1);
    let bar = match score.metre {
        Some((beats, beat)) => beats * 4 * score.divisions / beat,
        None => end,
    };
    let mut marks = Marks { timed: HashSet::new(), dynamics: changes_of_dynamics(score) };
    for n in 0..end.div_ceil(bar) {
        let element =
            out.create_element("measure").with_attribute(("number", &*(n + 1).to_string()));
        element.write_inner_content(|out| {
            if n == 0 {
                write_attributes(out, score)?;
                write_beginning(out, score)?;
            }
            let (from, to) = (n * bar, (n + 1) * bar);
            let mut is_first = true;
            let mut number = 0;
            for (staff, chords) in voices.iter().enumerate() {
                let in_staff = chords.iter().map(|chord| chord.voice + 1).max().unwrap_or(1);
                let mut accidentals = HashMap::new();
                for voice in 0..in_staff {
                    number += 1;
                    let here: Vec<&Chord<'_>> = chords
                        .iter()
                        .filter(|c| c.voice == voice && c.start() < to && c.end() > from)
                        .collect();
                    if here.is_empty() && voice > 0 {
                        continue;
                    }
                    if !is_first {
                        parent(out, "backup", |out| self::number(out, "duration", bar))?;
                    }
                    is_first = false;
                    let mut writing = Writing {
                        score,
                        staff,
                        voice: number,
                        accidentals: &mut accidentals,
                        marks: &mut marks,
                    };
                    writing.voice(out, &here, from, to)?;
                }
            }
            Ok(())
        })?;
    }
    Ok(())
}

fn write_attributes(out: &mut Out, score: &Score) -> io::Result<()> {
    parent(out, "attributes", |out| {
        number(out, "divisions", score.divisions)?;
        parent(out, "key", |out| number(out, "fifths", 0))?;
        match score.metre {
            Some((beats, beat)) => parent(out, "time", |out| {
                number(out, "beats", beats)?;
                number(out, "beat-type", beat)
            })?,
            None => {
                let time = out.create_element("time").with_attribute(("print-object", "no"));
                time.write_inner_content(|out| empty(out, "senza-misura"))?;
            }
        }
        number(out, "staves", score.staves.len())?;
        for (n, staff) in (1..).zip(&score.staves) {
            let clef = out.create_element("clef").with_attribute(("number", &*n.to_string()));
            clef.write_inner_content(|out| {
                number(out, "sign", staff.clef.0)?;
                number(out, "line", staff.clef.1)?;
                if staff.octaves != 0 {
                    number(out, "clef-octave-change", staff.octaves)?;
                }
                Ok(())
            })?;
        }
        Ok(())
    })
}

/// The tempo, and the remark.
fn write_beginning(out: &mut Out, score: &Score) -> io::Result<()> {
    let tempo = score.tempo_bpm.to_string();
    let direction = out.create_element("direction").with_attribute(("placement", "above"));
    direction.write_inner_content(|out| {
        if score.metre.is_some() {
            parent(out, "direction-type", |out| {
                parent(out, "metronome", |out| {
                    text(out, "beat-unit", "quarter")?;
                    text(out, "per-minute", &tempo)
                })
            })?;
        }
        let free = score.metre.is_none().then_some("free: a quarter note is a second");
        let said: Vec<&str> = free.into_iter().chain(score.remark.as_deref()).collect();
        if !said.is_empty() {
            parent(out, "direction-type", |out| text(out, "words", &said.join("; ")))?;
        }
        number(out, "staff", 1)?;
        out.create_element("sound").with_attribute(("tempo", &*tempo)).write_empty()?;
        Ok(())
    })?;
    Ok(())
}

/// The chords of each staff in voices that do not overlap, in the order of time.
fn voices(score: &Score) -> Vec<Vec<Chord<'_>>> {
    let of_staff = |staff: usize| {
        let mut notes: Vec<&ScoreNote> =
            score.notes.iter().filter(|note| note.staff == staff && note.length > 0).collect();
        let height = |note: &ScoreNote| {
            let letter = "CDEFGAB".find(note.letter).unwrap_or(0) as i32;
            (7 * note.octave + letter, (4.0 * note.alter).round() as i32)
        };
        notes.sort_by_key(|note| (note.start, note.length, height(note)));
        let mut chords: Vec<Chord<'_>> = Vec::new();
        let mut ends: Vec<u32> = Vec::new();
        for note in notes {
            let is_alike = |last: &&mut Chord<'_>| {
                (last.start(), last.end()) == (note.start, note.start + note.length)
            };
            if let Some(last) = chords.last_mut().filter(is_alike) {
                last.notes.push(note);
                continue;
            }
            let voice = ends.iter().position(|end| *end <= note.start).unwrap_or(ends.len());
            if voice == ends.len() {
                ends.push(0);
            }
            ends[voice] = note.start + note.length;
            chords.push(Chord { notes: vec![note], voice });
        }
        chords
    };
    (0..score.staves.len()).map(of_staff).collect()
}

/// A voice of a staff in a bar, being written.
struct Writing<'w> {
    score: &'w Score,
    staff: usize,
    voice: usize,
    /// Accidentals of the bar so far, by letter and octave.
    accidentals: &'w mut HashMap<(char, i32), f64>,
    marks: &'w mut Marks,
}

/// What stands once for all that begin together: the times that are written, and the dynamics that are
/// not yet, by staff and start.
struct Marks {
    timed: HashSet<u32>,
    dynamics: HashMap<(usize, u32), &'static str>,
}

/// The dynamics of the loudest note of those that begin together in a staff, where they change.
fn changes_of_dynamics(score: &Score) -> HashMap<(usize, u32), &'static str> {
    let mut notes: Vec<&ScoreNote> = score.notes.iter().collect();
    notes.sort_by_key(|note| (note.staff, note.start, std::cmp::Reverse(note.velocity)));
    notes.dedup_by_key(|note| (note.staff, note.start));
    let mut holds = (usize::MAX, "");
    let changes = notes.into_iter().filter_map(|note| {
        let now = (note.staff, note.dynamics);
        let is_change = now != holds;
        holds = now;
        let is_written = is_change && !note.dynamics.is_empty();
        is_written.then_some(((note.staff, note.start), note.dynamics))
    });
    changes.collect()
}

impl Writing<'_> {
    fn voice(
        &mut self,
        out: &mut Out,
        chords: &[&Chord<'_>],
        from: u32,
        to: u32,
    ) -> io::Result<()> {
        if chords.is_empty() && self.score.metre.is_some() {
            let rest = out.create_element("note");
            rest.write_inner_content(|out| {
                out.create_element("rest").with_attribute(("measure", "yes")).write_empty()?;
                number(out, "duration", to - from)?;
                number(out, "voice", self.voice)?;
                number(out, "staff", self.staff + 1)
            })?;
            return Ok(());
        }
        let mut at = from;
        for chord in chords {
            let (start, end) = (chord.start().max(from), chord.end().min(to));
            self.gap(out, at - from, start - at)?;
            let values = self.values(start - from, end - start);
            let count = values.len();
            for (n, (length, value)) in values.into_iter().enumerate() {
                let is_first = n == 0 && chord.start() >= from;
                let ties = (!is_first, n + 1 < count || chord.end() > to);
                self.piece(out, &Piece { chord, length, value, ties, is_first })?;
            }
            at = end;
        }
        self.gap(out, at - from, to - at)
    }

    /// Nothing for a while: rests, or empty room without a metre.
    fn gap(&self, out: &mut Out, at: u32, length: u32) -> io::Result<()> {
        if length == 0 {
            return Ok(());
        }
        if self.score.metre.is_none() {
            return parent(out, "forward", |out| {
                number(out, "duration", length)?;
                number(out, "voice", self.voice)?;
                number(out, "staff", self.staff + 1)
            });
        }
        for (length, value) in self.values(at, length) {
            parent(out, "note", |out| {
                empty(out, "rest")?;
                number(out, "duration", length)?;
                number(out, "voice", self.voice)?;
                write_value(out, value)?;
                number(out, "staff", self.staff + 1)
            })?;
        }
        Ok(())
    }

    /// The values that fill a stretch of a bar: each as long as fits, and none that begins off its own
    /// beat. Without a metre the one that is nearest.
    fn values(&self, mut at: u32, mut length: u32) -> Vec<(u32, Value)> {
        const NAMES: [&str; 7] = ["whole", "half", "quarter", "eighth", "16th", "32nd", "64th"];
        let whole = 4 * self.score.divisions;
        if self.score.metre.is_none() {
            let halvings = (f64::from(whole) / f64::from(length.max(1))).log2().round();
            let name = NAMES[(halvings.max(0.0) as usize).min(NAMES.len() - 1)];
            return vec![(length, Value { name, is_dotted: false })];
        }
        let mut all = Vec::new();
        while length > 0 {
            let plain = NAMES.iter().enumerate().map(|(n, name)| (whole >> n, *name));
            // A dot at the end of what is to be filled only.
            let with_dots = plain.flat_map(|(of, name)| {
                let dotted =
                    (of % 2 == 0 && of + of / 2 == length).then_some((length, of, name, true));
                dotted.into_iter().chain([(of, of, name, false)])
            });
            let mut fits = with_dots
                .filter(|(long, of, ..)| *of > 0 && *long <= length && at.is_multiple_of(*of));
            // The smallest value is one division, which always fits.
            let (long, _, name, is_dotted) = fits.next().unwrap_or((length, length, "64th", false));
            all.push((long, Value { name, is_dotted }));
            (at, length) = (at + long, length - long);
        }
        all
    }

    fn piece(&mut self, out: &mut Out, piece: &Piece<'_, '_>) -> io::Result<()> {
        let notes = &piece.chord.notes;
        if piece.is_first {
            // The highest stands at the top, and so do its words.
            let above: Vec<&str> = notes.iter().rev().map(|note| note.above.as_str()).collect();
            self.words(out, "above", &above.join("\n"))?;
            let start = piece.chord.start();
            if self.marks.timed.insert(start) {
                self.words(out, "below", &notes[0].below)?;
            }
            if let Some(dynamics) = self.marks.dynamics.remove(&(self.staff, start)) {
                self.direction(out, "below", |out| {
                    parent(out, "dynamics", |out| empty(out, dynamics))
                })?;
            }
        }
        for (n, note) in notes.iter().enumerate() {
            self.note(out, note, piece, n > 0)?;
        }
        Ok(())
    }

    fn words(&self, out: &mut Out, place: &str, words: &str) -> io::Result<()> {
        if words.trim().is_empty() {
            return Ok(());
        }
        self.direction(out, place, |out| text(out, "words", words))
    }

    fn direction(
        &self,
        out: &mut Out,
        place: &str,
        content: impl FnOnce(&mut Out) -> io::Result<()>,
    ) -> io::Result<()> {
        let direction = out.create_element("direction").with_attribute(("placement", place));
        direction.write_inner_content(|out| {
            parent(out, "direction-type", content)?;
            number(out, "staff", self.staff + 1)
        })?;
        Ok(())
    }

    fn note(
        &mut self,
        out: &mut Out,
        note: &ScoreNote,
        piece: &Piece<'_, '_>,
        in_chord: bool,
    ) -> io::Result<()> {
        /// MusicXML counts in per cent of this velocity.
        const FORTE: f64 = 90.0;
        let dynamics = format!("{:.2}", 100.0 * f64::from(note.velocity) / FORTE);
        let held = self.accidentals.insert((note.letter, note.octave), note.alter).unwrap_or(0.0);
        let is_marked = piece.is_first && (note.alter != 0.0 || held != 0.0);
        let element = out.create_element("note").with_attribute(("dynamics", &*dynamics));
        element.write_inner_content(|out| {
            if in_chord {
                empty(out, "chord")?;
            }
            parent(out, "pitch", |out| {
                number(out, "step", note.letter)?;
                if note.alter != 0.0 {
                    number(out, "alter", note.alter)?;
                }
                number(out, "octave", note.octave)
            })?;
            number(out, "duration", piece.length)?;
            let ties = [(piece.ties.0, "stop"), (piece.ties.1, "start")];
            let ties = ties.into_iter().filter_map(|(is, kind)| is.then_some(kind));
            for kind in ties.clone() {
                out.create_element("tie").with_attribute(("type", kind)).write_empty()?;
            }
            number(out, "voice", self.voice)?;
            write_value(out, piece.value)?;
            if is_marked {
                text(out, "accidental", accidental(note.alter))?;
            }
            if self.score.metre.is_none() {
                text(out, "stem", "none")?;
            }
            number(out, "staff", self.staff + 1)?;
            if ties.clone().next().is_some() {
                parent(out, "notations", |out| {
                    for kind in ties {
                        out.create_element("tied").with_attribute(("type", kind)).write_empty()?;
                    }
                    Ok(())
                })?;
            }
            Ok(())
        })?;
        Ok(())
    }
}

fn write_value(out: &mut Out, value: Value) -> io::Result<()> {
    text(out, "type", value.name)?;
    if value.is_dotted { empty(out, "dot") } else { Ok(()) }
}

/// The standard's name of an accidental.
fn accidental(alter: f64) -> &'static str {
    match (4.0 * alter).round() as i32 {
        -2 => "quarter-flat",
        -1 => "natural-down",
        0 => "natural",
        1 => "natural-up",
        2 => "quarter-sharp",
        3 => "sharp-down",
        4 => "sharp",
        _ => "sharp-up",
    }
}

#[cfg(test)]
mod tests {
    use roxmltree::{Document, Node, ParsingOptions};

    use super::*;

    /// A note as a strict reader finds it: start, length, staff, letter, quarters of its accidental, octave.
    type Found = (u32, u32, usize, char, i32, i32);

    const NOTE: [&str; 12] = [
        "chord",
        "rest",
        "pitch",
        "duration",
        "tie",
        "voice",
        "type",
        "dot",
        "accidental",
        "stem",
        "staff",
        "notations",
    ];
    const DIRECTION: [&str; 3] = ["direction-type", "staff", "sound"];
    const ATTRIBUTES: [&str; 5] = ["divisions", "key", "time", "staves", "clef"];

    fn words<'d>(node: Node<'d, '_>, name: &str) -> Option<&'d str> {
        node.descendants().find(|child| child.has_tag_name(name))?.text()
    }

    fn count(node: Node<'_, '_>, name: &str) -> u32 {
        words(node, name).and_then(|text| text.parse().ok()).expect("a number")
    }

    /// The children of an element stand in the order of the schema.
    fn check_order(node: Node<'_, '_>, order: &[&str]) {
        let places = node.children().filter(Node::is_element).map(|child| {
            let name = child.tag_name().name();
            order.iter().position(|known| *known == name).expect(name)
        });
        assert!(places.is_sorted(), "{:?}", node.document().input_text().get(node.range()));
    }

    fn ties(note: Node<'_, '_>, element: &str) -> (bool, bool) {
        let has = |kind: &str| {
            note.descendants()
                .any(|tie| tie.has_tag_name(element) && tie.attribute("type") == Some(kind))
        };
        (has("stop"), has("start"))
    }

    /// The length that the value of a note has.
    fn drawn_length(note: Node<'_, '_>, divisions: u32) -> f64 {
        let name = words(note, "type").expect("a value");
        let names = ["whole", "half", "quarter", "eighth", "16th", "32nd", "64th"];
        let halvings = names.iter().position(|known| *known == name).expect(name);
        let has_dot = note.children().any(|child| child.has_tag_name("dot"));
        let dotted = if has_dot { 1.5 } else { 1.0 };
        dotted * 4.0 * f64::from(divisions) / f64::from(1 << halvings)
    }

    /// Reads a score as strictly as the standard has it: order of elements, voices that fill their bars,
    /// values that last as long as they say, ties that are taken up.
    fn read(bytes: &[u8], bar: Option<u32>) -> Vec<Found> {
        let input = std::str::from_utf8(bytes).expect("UTF-8");
        let options = ParsingOptions { allow_dtd: true, ..ParsingOptions::default() };
        let document = Document::parse_with_options(input, options).expect("well-formed");
        assert_eq!(document.root_element().attribute("version"), Some("4.0"));
        let divisions = count(document.root_element(), "divisions");
        let mut found: Vec<Found> = Vec::new();
        let mut open: HashMap<(usize, char, i32, i32, u32), Found> = HashMap::new();
        let mut from = 0;
        for measure in document.descendants().filter(|node| node.has_tag_name("measure")) {
            let (mut at, mut start, mut length) = (0, 0, 0);
            for child in measure.children().filter(Node::is_element) {
                match child.tag_name().name() {
                    "attributes" => check_order(child, &ATTRIBUTES),
                    "direction" => check_order(child, &DIRECTION),
                    "forward" => at += count(child, "duration"),
                    "backup" => {
                        assert!(bar.is_none_or(|bar| at == bar), "a voice fills its bar: {at}");
                        at -= count(child, "duration");
                        assert_eq!(at, 0);
                    }
                    "note" => {
                        check_order(child, &NOTE);
                        let lasts = count(child, "duration");
                        let has = |name: &str| child.children().any(|c| c.has_tag_name(name));
                        if has("chord") {
                            assert_eq!(at, start + lasts);
                        } else {
                            start = at;
                            at += lasts;
                        }
                        if bar.is_some() && has("type") {
                            assert!(
                                (drawn_length(child, divisions) - f64::from(lasts)).abs() < 1e-9
                            );
                        }
                        if has("rest") {
                            continue;
                        }
                        let letter = words(child, "step").and_then(|s| s.chars().next());
                        let alter =
                            words(child, "alter").map_or(0.0, |a| a.parse().expect("a number"));
                        let staff = count(child, "staff") as usize - 1;
                        let octave = words(child, "octave").map(|o| o.parse::<i32>().expect("one"));
                        let pitch =
                            (letter.expect("a letter"), (4.0 * alter) as i32, octave.expect("one"));
                        let (stop, begin) = ties(child, "tie");
                        assert_eq!((stop, begin), ties(child, "tied"));
                        let key = |at| (staff, pitch.0, pitch.1, pitch.2, at);
                        let mut note = if stop {
                            open.remove(&key(from + start)).expect("a tie that begins")
                        } else {
                            (from + start, 0, staff, pitch.0, pitch.1, pitch.2)
                        };
                        note.1 += lasts;
                        if begin {
                            open.insert(key(from + start + lasts), note);
                        } else {
                            found.push(note);
                        }
                    }
                    other => panic!("<{other}> in a measure"),
                }
                length = length.max(at);
            }
            assert!(bar.is_none_or(|bar| at == bar), "the last voice fills its bar: {at}");
            from += bar.unwrap_or(length);
        }
        assert!(open.is_empty(), "ties that end nowhere: {open:?}");
        found.sort_unstable();
        found
    }

    fn score(metre: Option<(u32, u32)>, divisions: u32, notes: Vec<ScoreNote>) -> Score {
        let staff = |clef, octaves| ScoreStaff { clef, octaves };
        Score {
            title: "bell & <harp>".into(),
            software: "Tone Map".into(),
            divisions,
            tempo_bpm: 92.0,
            metre,
            staves: vec![staff(('G', 2), 2), staff(('G', 2), 0), staff(('F', 4), 0)],
            remark: None,
            notes,
        }
    }

    fn note(start: u32, length: u32, letter: char, quarters: i32) -> ScoreNote {
        ScoreNote {
            start,
            length,
            staff: 1,
            letter,
            alter: 0.25 * f64::from(quarters),
            octave: 4,
            above: "+12".into(),
            below: String::new(),
            dynamics: "mf",
            velocity: 68,
        }
    }

    /// Numbers that look random: the bits of a counter, mixed (G. Steele, D. Lea, C. Flood, 2014).
    fn random(seed: &mut u64, below: u32) -> u32 {
        *seed = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (*seed ^ (*seed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        ((mixed ^ (mixed >> 27)) >> 33) as u32 % below
    }

    #[test]
    fn every_score_reads_back_as_it_was_written() {
        let mut seed = 7;
        for round in 0..200 {
            let (metre, divisions) = match round % 4 {
                0 => (None, 1000),
                1 => (Some((4, 4)), 4),
                2 => (Some((6, 8)), 8),
                _ => (Some((3, 4)), 2),
            };
            let bar = metre.map(|(beats, beat)| beats * 4 * divisions / beat);
            let notes: Vec<ScoreNote> = (0..=random(&mut seed, 12))
                .map(|n| {
                    let letter = char::from(b"CDEFGAB"[random(&mut seed, 7) as usize]);
                    let start = random(&mut seed, 6 * divisions);
                    let length = 1 + random(&mut seed, 9 * divisions);
                    let quarters = random(&mut seed, 8) as i32 - 2;
                    let staff = random(&mut seed, 3) as usize;
                    // No two are alike, so that each can be found again.
                    ScoreNote {
                        staff,
                        octave: n as i32 - 2,
                        ..note(start, length, letter, quarters)
                    }
                })
                .collect();
            let mut wanted: Vec<Found> = (notes.iter())
                .map(|n| (n.start, n.length, n.staff, n.letter, (4.0 * n.alter) as i32, n.octave))
                .collect();
            wanted.sort_unstable();
            let bytes = musicxml_file(&score(metre, divisions, notes)).expect("written");
            assert_eq!(read(&bytes, bar), wanted, "round {round}");
        }
    }

    #[test]
    fn accidentals_stand_where_they_change_something() {
        let notes =
            [(0, 'F', 4), (4, 'F', 0), (8, 'F', 0), (12, 'G', 2), (16, 'F', 0), (20, 'F', -2)];
        let notes = notes.map(|(at, letter, quarters)| note(at, 4, letter, quarters)).to_vec();
        let bytes = musicxml_file(&score(Some((4, 4)), 4, notes)).expect("written");
        let text = String::from_utf8(bytes).expect("UTF-8");
        let marks: Vec<&str> = text
            .lines()
            .filter_map(|line| {
                line.trim().strip_prefix("<accidental>")?.strip_suffix("</accidental>")
            })
            .collect();
        assert_eq!(marks, ["sharp", "natural", "quarter-sharp", "quarter-flat"]);
        assert_eq!(text.matches("<dynamics>").count(), 1, "dynamics are written where they change");
    }

    #[test]
    fn what_begins_together_has_its_time_and_its_dynamics_once() {
        let at = |length: u32, letter: char, dynamics: &'static str, velocity: u8| ScoreNote {
            below: "0.5 s".into(),
            dynamics,
            velocity,
            ..note(500, length, letter, 0)
        };
        let notes = vec![at(900, 'C', "p", 34), at(400, 'E', "f", 96), at(700, 'G', "mp", 48)];
        let text = String::from_utf8(musicxml_file(&score(None, 1000, notes)).expect("written"));
        let text = text.expect("UTF-8");
        assert_eq!(text.matches("0.5 s").count(), 1);
        assert_eq!((text.matches("<f/>").count(), text.matches("<dynamics>").count()), (1, 1));
    }

    #[test]
    fn a_syncopated_note_is_tied_from_beat_to_beat() {
        let bytes =
            musicxml_file(&score(Some((4, 4)), 4, vec![note(3, 14, 'A', 0)])).expect("written");
        let text = String::from_utf8(bytes).expect("UTF-8");
        let lasts: Vec<&str> = text
            .split("<note dynamics")
            .skip(1)
            .filter_map(|note| note.split_once("<duration>")?.1.split_once('<').map(|two| two.0))
            .collect();
        // A sixteenth to the beat, three beats, and one into the next bar.
        assert_eq!(lasts, ["1", "4", "8", "1"]);
    }
}
