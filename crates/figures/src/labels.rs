//! Labels of tones: placed so that they hide neither the curve nor each other.

use plotters::style::RGBColor;
use tonemap_core::Measured;
use tonemap_core::spectrum::Peak;

use crate::error::Error;
use crate::panel::Panel;
use crate::sheet::{Align, Sheet, Type};
use crate::theme;
use crate::ticks;

/// Highest point of all curves in each pixel column, as a height in pixels.
pub(crate) struct Skyline {
    left: f64,
    tops: Vec<f64>,
}

impl Skyline {
    /// With nothing drawn yet.
    pub(crate) fn new(panel: &Panel) -> Self {
        let columns = (panel.x.to_px - panel.x.from_px).ceil() as usize + 1;
        Self { left: panel.x.from_px, tops: vec![panel.y.from_px; columns] }
    }

    /// Adds a line.
    pub(crate) fn raise(&mut self, line: &[(f64, f64)]) {
        for pair in line.windows(2) {
            let ((x0, y0), (x1, y1)) = (pair[0], pair[1]);
            let last = self.tops.len() - 1;
            for x in (x0 - self.left) as usize..=((x1 - self.left) as usize).min(last) {
                self.tops[x] = self.tops[x].min(y0.min(y1));
            }
        }
    }

    /// Smallest y (highest point) between two x.
    pub(crate) fn top(&self, from: f64, to: f64) -> f64 {
        let index = |x: f64| ((x - self.left).max(0.0) as usize).min(self.tops.len());
        self.tops[index(from)..index(to + 1.0)].iter().copied().fold(f64::INFINITY, f64::min)
    }
}

/// A rectangle that a label covers.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Frame {
    pub(crate) left: f64,
    pub(crate) right: f64,
    pub(crate) top: f64,
    pub(crate) bottom: f64,
}

impl Frame {
    fn meets(&self, other: &Self) -> bool {
        self.left < other.right
            && other.left < self.right
            && self.top < other.bottom
            && other.top < self.bottom
    }

    /// Whether a straight line from `a` to `b` runs through it.
    fn is_crossed(&self, a: (f64, f64), b: (f64, f64)) -> bool {
        (0..=24).any(|step| {
            let share = f64::from(step) / 24.0;
            let (x, y) = (a.0 + share * (b.0 - a.0), a.1 + share * (b.1 - a.1));
            (self.left..=self.right).contains(&x) && (self.top..=self.bottom).contains(&y)
        })
    }
}

/// Where the label of a tone stands, and the line that leads to it from the mark.
struct LabelPlace {
    frame: Frame,
    leader: Option<[(f64, f64); 2]>,
}

/// The text of a tone's label: frequency, then note and cents.
fn label(peak: &Peak) -> [String; 2] {
    let decimals = Measured::new(peak.frequency_hz, peak.frequency_hz_u).decimals(2);
    let cents = Measured::new(peak.cents, peak.cents_u).decimals(1);
    let sign = if peak.cents >= 0.0 { "+" } else { "" };
    [
        format!("{} Hz", ticks::number(peak.frequency_hz, decimals)),
        format!("{} {sign}{}¢", peak.note, ticks::number(peak.cents, cents)),
    ]
}

/// Height of a line of a label.
const LABEL_LINE_PX: f64 = 14.0;

/// The lowest free place for a label of half-width `half` above a mark: clear of the curve, of
/// everything taken and of the lines that lead to other labels.
fn label_place(
    panel: &Panel,
    (x, y): (f64, f64),
    half: f64,
    curve: &Skyline,
    taken: &[Frame],
    leaders: &[[(f64, f64); 2]],
) -> Option<LabelPlace> {
    let over = [0.0, -0.45, 0.45, -0.85, 0.85].map(|share| share * half);
    let beside = [half + 8.0, -half - 8.0];
    let heights = (0..60).map(|step| f64::from(step) * 0.5 * LABEL_LINE_PX);
    // Over the mark as low as possible; right beside it; then ever higher.
    let low = over.into_iter().chain(beside).map(|shift| (shift, 0.0));
    let high = heights.skip(1).flat_map(|raise| over.map(|shift| (shift, raise)));
    low.chain(high)
        .filter_map(|(shift, raise)| {
            let middle = (x + shift).clamp(panel.x.from_px + half, panel.x.to_px - half);
            let is_beside = shift.abs() > half;
            let gap = if is_beside { -LABEL_LINE_PX } else { 9.0 };
            let over_curve = curve.top(middle - half, middle + half) - 9.0;
            let bottom = over_curve.min(y - gap) - raise;
            let top = bottom - 2.0 * LABEL_LINE_PX;
            let frame = Frame { left: middle - half, right: middle + half, top, bottom };
            // Beside the mark, but not far above it.
            if is_beside && (y - bottom > 12.0 || (frame.left..=frame.right).contains(&x)) {
                return None;
            }
            // Straight up: the label stands over its mark, if not always in the middle.
            let leader = (y - bottom > 18.0).then_some([(x, y - 7.0), (x, bottom + 1.0)]);
            Some(LabelPlace { frame, leader })
        })
        .find(|LabelPlace { frame, leader }| {
            frame.top > panel.y.to_px + 3.0
                && !taken.iter().any(|other| other.meets(frame))
                && !leaders.iter().any(|[a, b]| frame.is_crossed(*a, *b))
                && leader.is_none_or(|[a, b]| !taken.iter().any(|other| other.is_crossed(a, b)))
        })
}

/// What no further label may cover.
pub(crate) struct Taken {
    frames: Vec<Frame>,
    leaders: Vec<[(f64, f64); 2]>,
}

impl Taken {
    /// What stands there already, and the marks of the tones.
    pub(crate) fn new(standing: &[Frame], marks: &[(f64, f64)]) -> Self {
        let around = |(x, y): &(f64, f64)| Frame {
            left: x - 6.0,
            right: x + 6.0,
            top: y - 6.0,
            bottom: y + 6.0,
        };
        let frames = standing.iter().copied().chain(marks.iter().map(around)).collect();
        Self { frames, leaders: Vec::new() }
    }

    /// Labels the tone whose mark is at `place`, if there is room; in a colour of its own where
    /// there are several spectra.
    pub(crate) fn draw_label(
        &mut self,
        sheet: &Sheet<'_>,
        panel: &Panel,
        skyline: &Skyline,
        place: (f64, f64),
        peak: &Peak,
        colour: Option<RGBColor>,
    ) -> Result<(), Error> {
        self.draw(sheet, panel, skyline, place, &label(peak), colour)
    }

    /// A label of one line beside, above or below its mark, where it covers nothing; if it must be
    /// there, in the first place inside the panel even so.
    pub(crate) fn draw_beside(
        &mut self,
        sheet: &Sheet<'_>,
        panel: &Panel,
        (x, y): (f64, f64),
        text: &str,
        look: Type,
        must: bool,
    ) -> Result<(), Error> {
        const GAP_PX: f64 = 9.0;
        const HALF_PX: f64 = 0.5 * LABEL_LINE_PX;
        let width = look.width(text);
        let rows = [0.0, -15.0, 15.0, -29.0, 29.0, -43.0, 43.0];
        let beside = [x + GAP_PX, x - GAP_PX - width];
        let over = [x - 0.5 * width, x + 2.0, x - 2.0 - width];
        let places = rows.into_iter().flat_map(|row| {
            let lefts =
                if row == 0.0 { beside.to_vec() } else { [&beside[..], &over[..]].concat() };
            lefts.into_iter().map(move |left| Frame {
                left,
                right: left + width,
                top: y + row - HALF_PX,
                bottom: y + row + HALF_PX,
            })
        });
        let inside: Vec<Frame> = places
            .filter(|frame| {
                frame.left > panel.x.from_px.min(panel.x.to_px) + 2.0
                    && frame.right < panel.x.to_px.max(panel.x.from_px) - 2.0
                    && frame.top > panel.y.to_px + 1.0
                    && frame.bottom < panel.y.from_px - 1.0
            })
            .collect();
        let free = inside.iter().find(|frame| !self.frames.iter().any(|other| other.meets(frame)));
        let Some(frame) = free.or(inside.first().filter(|_| must)).copied() else {
            return Ok(());
        };
        sheet.text(frame.left, frame.bottom - 3.0, text, look.align(Align::Left))?;
        self.frames.push(frame);
        Ok(())
    }

    /// The same for any label of two lines.
    pub(crate) fn draw(
        &mut self,
        sheet: &Sheet<'_>,
        panel: &Panel,
        skyline: &Skyline,
        place: (f64, f64),
        [frequency, note]: &[String; 2],
        colour: Option<RGBColor>,
    ) -> Result<(), Error> {
        let upper = Type::new(theme::LABEL_PX, colour.unwrap_or(theme::INK)).bold();
        let upper = upper.align(Align::Centre);
        let lower = Type::new(theme::LABEL_PX, theme::PALE_INK).align(Align::Centre);
        let half = upper.width(frequency).max(lower.width(note)) / 2.0 + 4.0;
        let Some(LabelPlace { frame, leader }) =
            label_place(panel, place, half, skyline, &self.frames, &self.leaders)
        else {
            return Ok(());
        };
        if let Some(line) = leader {
            sheet.line(&line, colour.unwrap_or(theme::TONE), 0.6, 1.0)?;
            self.leaders.push(line);
        }
        let middle = f64::midpoint(frame.left, frame.right);
        sheet.text(middle, frame.bottom - LABEL_LINE_PX - 1.0, frequency, upper)?;
        sheet.text(middle, frame.bottom - 2.0, note, lower)?;
        self.frames.push(frame);
        Ok(())
    }
}
