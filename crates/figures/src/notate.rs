//! Notes on staves: a phrase over time, or a chord beside its spectrum.
//!
//! Staves stand where their pitches are, an octave being seven places everywhere: the spectrum beside them
//! has the same scale.

use tonemap_core::notate::{
    Accidental, Content, Dynamics, Notation, Staff, StaffPitch, WrittenNote,
};
use tonemap_core::units::Note;

use crate::error::Error;
use crate::notes::{Room, TOP_PX, Words};
use crate::panel::{Axis, Panel};
use crate::sheet::{Align, Sheet, Size, Type};
use crate::{Figure, theme};

/// What is written of a sound, to be drawn.
#[derive(Debug, Clone, Copy)]
pub struct NotateFigure<'a> {
    /// What is written.
    pub notation: &'a Notation,
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
    /// What levels are in.
    pub level_unit: &'a str,
    /// The words around it.
    pub words: Words<'a>,
}

/// Notes that a figure of a phrase has room for; the first are drawn.
pub const DRAWN_NOTES: usize = 80;

/// Greatest height of a place in pixels: half the distance of two lines.
const HIGHEST_PLACE_PX: f64 = 9.0;
/// Widths in staff heights, as the font has them.
const CLEF: f64 = 0.70;
const HEAD: f64 = 0.295;
const ACCIDENTAL: f64 = 0.32;
/// Places of the lines of a staff.
const LINES: [i32; 5] = [0, 2, 4, 6, 8];

/// Draws it.
///
/// # Errors
///
/// [`Error::Drawing`] if a library fails.
pub fn notate_figure(figure: &NotateFigure<'_>, size: Size) -> Result<Figure, Error> {
    Sheet::draw(size, |sheet| {
        let room = figure.words.draw(sheet, size)?;
        match figure.notation.of {
            Content::Phrase => draw_phrase(sheet, figure, &room),
            Content::Chord | Content::Partials => draw_chord(sheet, figure, &room),
        }
    })
}

/// Staves at their height on the sheet.
struct Staves {
    drawn: Vec<Staff>,
    /// The lowest and the highest place that is used.
    places: (i32, i32),
    /// Height of place 0, and of a place.
    zero_px: f64,
    place_px: f64,
    left: f64,
    right: f64,
}

impl Staves {
    /// Those that notes stand on and those between, in a stretch of the sheet.
    fn new(notes: &[WrittenNote], (left, right): (f64, f64), (top, bottom): (f64, f64)) -> Self {
        let of = |note: &WrittenNote| note.pitch.staff();
        let lowest = notes.iter().map(of).min().unwrap_or(Staff::Treble);
        let highest = notes.iter().map(of).max().unwrap_or(Staff::Treble);
        let drawn: Vec<Staff> =
            Staff::ALL.into_iter().filter(|staff| (lowest..=highest).contains(staff)).collect();
        let places = || notes.iter().map(|note| note.pitch.spelling().place);
        let low = places().fold(lowest.lowest_line(), i32::min) - 2;
        let high = places().fold(highest.lowest_line() + LINES[4], i32::max) + 3;
        let place_px = ((bottom - top) / f64::from(high - low)).min(HIGHEST_PLACE_PX);
        let middle = 0.5 * f64::from(low + high);
        let zero_px = 0.5 * (top + bottom) + middle * place_px;
        Self { drawn, places: (low, high), zero_px, place_px, left, right }
    }

    fn height_px(&self) -> f64 {
        8.0 * self.place_px
    }

    fn y(&self, place: i32) -> f64 {
        self.zero_px - self.place_px * f64::from(place)
    }

    /// Where a frequency lies: that of C of each octave on its place, evenly between.
    fn y_of_hz(&self, hz: f64, reference_hz: f64) -> f64 {
        self.zero_px - self.place_px * StaffPitch::place_of_hz(hz, reference_hz)
    }

    /// Where notes can begin.
    fn inside(&self) -> f64 {
        self.left + (CLEF + 0.35) * self.height_px()
    }

    fn draw(&self, sheet: &Sheet<'_>) -> Result<(), Error> {
        for staff in &self.drawn {
            let lowest = staff.lowest_line();
            for line in LINES {
                let y = self.y(lowest + line).floor() + 0.5;
                sheet.line(&[(self.left, y), (self.right, y)], theme::INK, 0.55, 1.0)?;
            }
            // The clef stands on the line that it names.
            let (sign, line) = match (staff.clef().0, staff.octaves()) {
                ('G', 0) => ("\u{e050}", 2),
                ('G', _) => ("\u{e054}", 2),
                (_, 0) => ("\u{e062}", 6),
                _ => ("\u{e063}", 6),
            };
            let x = self.left + 0.12 * self.height_px();
            sheet.signs(x, self.y(lowest + line), sign, self.height_px(), theme::INK)?;
        }
        if let (Some(first), Some(last)) = (self.drawn.first(), self.drawn.last()) {
            let (top, bottom) =
                (self.y(first.lowest_line() + LINES[4]), self.y(last.lowest_line()));
            sheet.line(&[(self.left, top), (self.left, bottom)], theme::INK, 1.0, 1.2)?;
        }
        Ok(())
    }

    /// The head of a note with its left side at `x`, its ledger lines, and its accidental.
    fn draw_note(
        &self,
        sheet: &Sheet<'_>,
        note: &WrittenNote,
        x: f64,
        accidental_x: f64,
    ) -> Result<(), Error> {
        let spelling = note.pitch.spelling();
        let lowest = note.pitch.staff().lowest_line();
        let (place, height) = (spelling.place, self.height_px());
        let below = (place..lowest).filter(|line| (lowest - line) % 2 == 0);
        let above = (lowest + LINES[4] + 1..=place).filter(|line| (line - lowest) % 2 == 0);
        for line in below.chain(above) {
            let y = self.y(line).floor() + 0.5;
            let beyond = 0.1 * height;
            let ends = [(x - beyond, y), (x + HEAD * height + beyond, y)];
            sheet.line(&ends, theme::INK, 0.8, 1.1)?;
        }
        let y = self.y(place);
        sheet.signs(x, y, "\u{e0a4}", height, theme::INK)?;
        if let Some(sign) = accidental_sign(spelling.accidental) {
            sheet.signs(accidental_x, y, sign, height, theme::INK)?;
        }
        Ok(())
    }
}

fn accidental_sign(accidental: Accidental) -> Option<&'static str> {
    match accidental {
        Accidental::Natural => None,
        Accidental::NaturalUp => Some("\u{e272}"),
        Accidental::QuarterSharp => Some("\u{e282}"),
        Accidental::SharpDown => Some("\u{e275}"),
        Accidental::Sharp => Some("\u{e262}"),
        Accidental::SharpUp => Some("\u{e274}"),
        Accidental::QuarterFlat => Some("\u{e280}"),
        Accidental::NaturalDown => Some("\u{e273}"),
    }
}

fn dynamics_sign(dynamics: Dynamics) -> &'static str {
    match dynamics {
        Dynamics::Ppp => "\u{e52a}",
        Dynamics::Pp => "\u{e52b}",
        Dynamics::P => "\u{e520}",
        Dynamics::Mp => "\u{e52c}",
        Dynamics::Mf => "\u{e52d}",
        Dynamics::F => "\u{e522}",
    }
}

/// The cents that are left, as they stand beside a note.
fn cents_text(note: &WrittenNote) -> String {
    let cents = note.cents.map_or(0.0, |cents| cents.value.round());
    if cents == 0.0 { "0".into() } else { format!("{cents:+}").replace('-', "−") }
}

/// Notes over time: in rows, or in one with their courses below.
fn draw_phrase(sheet: &Sheet<'_>, figure: &NotateFigure<'_>, room: &Room) -> Result<(), Error> {
    const NOTES_IN_ROW: usize = 20;
    const MOST_ROWS: usize = 4;
    const STAFF_SHARE: f64 = 0.55;
    let notes = &figure.notation.notes;
    let notes = &notes[..notes.len().min(DRAWN_NOTES)];
    let (Some(first), Some(last)) = (notes.first(), notes.last()) else { return Ok(()) };
    let rows = notes.len().div_ceil(NOTES_IN_ROW).clamp(1, MOST_ROWS);
    let lasts_s = (last.end_s - first.start_s).max(0.1);
    let all = room.bottom - TOP_PX;
    let height = if rows == 1 { STAFF_SHARE * all } else { (all + SCALE_PX) / rows as f64 };
    let mut dynamics = None;
    for row in 0..rows {
        let from_s = first.start_s + lasts_s * row as f64 / rows as f64;
        let to_s = from_s + lasts_s / rows as f64;
        let top = TOP_PX + height * row as f64;
        let within = (top + CENTS_PX, top + height - DYNAMICS_PX - SCALE_PX);
        let staves = Staves::new(notes, (room.left, room.right), within);
        staves.draw(sheet)?;
        let margin = 0.4 * staves.height_px();
        let x = Axis::linear((from_s, to_s), (staves.inside() + margin, room.right - margin));
        draw_row(sheet, notes, &staves, x, &mut dynamics)?;
        let panel = Panel { x, y: Axis::linear((0.0, 1.0), (within.1 + DYNAMICS_PX, top)) };
        if rows > 1 {
            panel.draw_x_scale(sheet, if row + 1 == rows { "Time, s" } else { "" })?;
        } else {
            draw_courses(sheet, figure, x, (within.1 + DYNAMICS_PX, room.bottom))?;
        }
    }
    Ok(())
}

/// Room for the cents above a row, and for its dynamics and the scale of time below.
const CENTS_PX: f64 = 26.0;
const DYNAMICS_PX: f64 = 24.0;
const SCALE_PX: f64 = 30.0;

/// The notes of a row of staves; what goes on from the row before has a line only.
fn draw_row(
    sheet: &Sheet<'_>,
    notes: &[WrittenNote],
    staves: &Staves,
    x: Axis,
    dynamics: &mut Option<Dynamics>,
) -> Result<(), Error> {
    let height = staves.height_px();
    let look = Type::new(theme::LABEL_PX, theme::PALE_INK);
    let (above, below) = (staves.y(staves.places.1), staves.y(staves.places.0));
    let mut cents_right = f64::NEG_INFINITY;
    for note in notes.iter().filter(|note| note.start_s < x.high && note.end_s > x.low) {
        let (left, right) = (x.place_within(note.start_s), x.place_within(note.end_s));
        let y = staves.y(note.pitch.spelling().place);
        sheet.line(&[(left, y), (right, y)], theme::CURVE, 0.45, 0.7 * staves.place_px)?;
        if note.start_s < x.low {
            continue;
        }
        staves.draw_note(sheet, note, left, left - (ACCIDENTAL + 0.02) * height)?;
        let cents = cents_text(note);
        if left > cents_right + 6.0 {
            sheet.text(left, above - 6.0, &cents, look)?;
            cents_right = left + look.width(&cents);
        }
        if *dynamics != Some(note.dynamics) {
            *dynamics = Some(note.dynamics);
            sheet.signs(left, below + 20.0, dynamics_sign(note.dynamics), 28.0, theme::INK)?;
        }
    }
    Ok(())
}

/// How the notes move about what is written.
fn draw_courses(
    sheet: &Sheet<'_>,
    figure: &NotateFigure<'_>,
    x: Axis,
    (top, bottom): (f64, f64),
) -> Result<(), Error> {
    const LEAST_CENTS: f64 = 30.0;
    const MOST_CENTS: f64 = 200.0;
    let notes = &figure.notation.notes;
    let cents = |note: &WrittenNote, hz: f64| note.pitch.cents_to(hz, figure.reference_hz);
    let reach = notes.iter().flat_map(|note| note.course.iter().map(|at| cents(note, at.1).abs()));
    // Few points stray at the ends of a note.
    let mut reach: Vec<f64> = reach.collect();
    reach.sort_by(f64::total_cmp);
    let most = reach.get(reach.len() * 98 / 100).copied().unwrap_or(0.0);
    let reach = (10.0 * (1.2 * most / 10.0).ceil()).clamp(LEAST_CENTS, MOST_CENTS);
    let panel = Panel { x, y: Axis::linear((-reach, reach), (bottom, top)) };
    panel.draw_grid(sheet)?;
    let middle = panel.y.place(0.0);
    sheet.line(&[(x.from_px, middle), (x.to_px, middle)], theme::INK, 0.6, 1.0)?;
    for note in notes {
        let inside = |at: &&(f64, f64)| panel.y.contains(cents(note, at.1));
        let points: Vec<(f64, f64)> = (note.course.iter().filter(inside))
            .map(|(time_s, hz)| panel.place(*time_s, cents(note, *hz)))
            .collect();
        sheet.line(&points, theme::CURVE, 1.0, 1.6)?;
    }
    panel.draw_frame(sheet, "Cents from what is written")?;
    panel.draw_x_scale(sheet, "Time, s")
}

/// What sounds together: its heads, then a line for each tone to its place in the spectrum; partials over
/// time also have their length.
fn draw_chord(sheet: &Sheet<'_>, figure: &NotateFigure<'_>, room: &Room) -> Result<(), Error> {
    const LABELS_PX: f64 = 300.0;
    const GAP_PX: f64 = 54.0;
    let notes = &figure.notation.notes;
    let is_long = figure.notation.of == Content::Partials;
    let share = if is_long { 0.42 } else { 0.28 };
    let split = room.left + share * (room.right - room.left);
    let staves = Staves::new(notes, (room.left, split), (TOP_PX, room.bottom));
    staves.draw(sheet)?;
    let heads = staves.inside() + 4.0 * ACCIDENTAL * staves.height_px();
    // The scales end where the staves do.
    let (low, high) = staves.places;
    let (top, bottom) = (staves.y(high + 1), staves.y(low - 1));
    if is_long {
        let (from_s, to_s) = (notes.iter().map(|note| note.start_s), notes.iter().map(|n| n.end_s));
        let times = (from_s.fold(f64::MAX, f64::min), to_s.fold(0.0, f64::max));
        let x = Axis::linear(times, (heads + 0.5 * HEAD * staves.height_px(), split - 10.0));
        for note in notes {
            let y = staves.y(note.pitch.spelling().place);
            let line = [(x.place(note.start_s), y), (x.place(note.end_s), y)];
            sheet.line(&line, theme::CURVE, 0.45, 0.7 * staves.place_px)?;
        }
        let panel = Panel { x, y: Axis::linear((0.0, 1.0), (bottom, top)) };
        panel.draw_x_scale(sheet, "Time, s")?;
    }
    draw_heads(sheet, &staves, notes, heads)?;

    let right = room.right - LABELS_PX;
    let x = Axis::linear(level_range(notes), (split + GAP_PX, right));
    let panel = Panel { x, y: Axis::linear((0.0, 1.0), (bottom, top)) };
    for value in panel.x_values() {
        let x = panel.x.place(value);
        sheet.line(&[(x, top), (x, bottom)], theme::GRID, 1.0, 1.0)?;
    }
    let y_of = |hz: f64| staves.y_of_hz(hz, figure.reference_hz);
    draw_octaves(sheet, &panel, figure, y_of)?;
    let curve: Vec<(f64, f64)> = (figure.notation.curve.iter())
        .map(|(hz, db)| (panel.x.place_within(*db), y_of(*hz)))
        .filter(|(_, y)| (top..=bottom).contains(y))
        .collect();
    sheet.line(&curve, theme::PALE_INK, 0.7, 1.0)?;
    panel.draw_box(sheet)?;
    panel.draw_x_scale(sheet, &format!("Level, {}", figure.level_unit))?;
    let look = Type::new(theme::LABEL_PX, theme::INK);
    let mut labels: Vec<f64> = notes.iter().map(|note| y_of(hz_of(note)) + 4.0).collect();
    spread(&mut labels, 15.0, (TOP_PX, room.bottom));
    for (note, label) in notes.iter().zip(labels) {
        let y = y_of(hz_of(note));
        let x = panel.x.place(note.level_db);
        sheet.line(&[(panel.x.from_px, y), (x, y)], theme::TONE, 0.9, 1.8)?;
        sheet.dot(x, y, 4.5, theme::TONE, true)?;
        let lead = [(x + 5.0, y), (right, y), (right + 22.0, label - 4.0)];
        sheet.line(&lead, theme::TONE, 0.25, 1.0)?;
        sheet.text(right + 28.0, label, &label_of(note), look)?;
        let frequency = format!("{:.1} Hz", hz_of(note));
        let look = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Right);
        sheet.text(room.right, label, &frequency, look)?;
    }
    Ok(())
}

fn level_range(notes: &[WrittenNote]) -> (f64, f64) {
    let levels = notes.iter().map(|note| note.level_db);
    let (least, most) = levels.fold((f64::MAX, f64::MIN), |(a, b), db| (a.min(db), b.max(db)));
    (10.0 * ((least - 12.0) / 10.0).floor(), 10.0 * ((most + 2.0) / 10.0).ceil())
}

fn hz_of(note: &WrittenNote) -> f64 {
    note.f0_hz.map_or(1.0, |hz| hz.value)
}

/// What is written, the cents left, and the partial that it is.
fn label_of(note: &WrittenNote) -> String {
    let partial = note.partial.map_or(String::new(), |n| format!("   partial {n}"));
    let written = note.pitch.to_string().replace('-', "−");
    format!("{written}   {} cents{partial}", cents_text(note))
}

/// The octaves of the scale of a spectrum, by their C.
fn draw_octaves(
    sheet: &Sheet<'_>,
    panel: &Panel,
    figure: &NotateFigure<'_>,
    y_of: impl Fn(f64) -> f64,
) -> Result<(), Error> {
    let look = Type::new(theme::TICK_PX, theme::INK).align(Align::Right);
    for octave in 0..=10 {
        let note = Note(12 * octave);
        let y = y_of(note.frequency_hz(figure.reference_hz));
        if (panel.y.to_px + 4.0..panel.y.from_px - 4.0).contains(&y) {
            let ends = [(panel.x.from_px, y), (panel.x.to_px, y)];
            sheet.line(&ends, theme::GRID, 1.0, 1.0)?;
            sheet.text(panel.x.from_px - 8.0, y + 4.5, &note.to_string(), look)?;
        }
    }
    Ok(())
}

/// Heads one above the other, those a step apart side by side, accidentals in as many columns as they need.
fn draw_heads(
    sheet: &Sheet<'_>,
    staves: &Staves,
    notes: &[WrittenNote],
    x: f64,
) -> Result<(), Error> {
    /// Places that an accidental is high.
    const TALL: i32 = 6;
    const COLUMNS: usize = 4;
    let height = staves.height_px();
    let mut columns = [i32::MIN / 2; COLUMNS];
    let (mut before, mut is_aside) = (i32::MIN / 2, false);
    for note in notes {
        let place = note.pitch.spelling().place;
        is_aside = place - before < 2 && !is_aside;
        before = place;
        let free = columns.iter().position(|last| place - last >= TALL).unwrap_or(0);
        if note.pitch.spelling().accidental != Accidental::Natural {
            columns[free] = place;
        }
        let accidental_x = x - (ACCIDENTAL * (free + 1) as f64 + 0.04) * height;
        let head_x = if is_aside { x + HEAD * height } else { x };
        staves.draw_note(sheet, note, head_x, accidental_x)?;
    }
    Ok(())
}

/// Moves heights that fall, each the lower on the sheet the earlier it stands, so far apart as to be read.
fn spread(heights: &mut [f64], apart: f64, (top, bottom): (f64, f64)) {
    let mut limit = bottom;
    for height in heights.iter_mut() {
        *height = height.min(limit);
        limit = *height - apart;
    }
    let mut limit = top;
    for height in heights.iter_mut().rev() {
        *height = height.max(limit);
        limit = *height + apart;
    }
}
