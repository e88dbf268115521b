//! One look for all figures: colours, sizes and fonts.
//!
//! Teal, vermilion and blue stay apart for all common kinds of colour blindness; where colour
//! distinguishes things, a shape or a dash does too.

use plotters::style::RGBColor;

/// Paper.
pub(crate) const PAPER: RGBColor = RGBColor(255, 255, 255);
/// Text and frames.
pub(crate) const INK: RGBColor = RGBColor(29, 39, 51);
/// Text of less weight.
pub(crate) const PALE_INK: RGBColor = RGBColor(93, 105, 120);
/// Grid lines.
pub(crate) const GRID: RGBColor = RGBColor(226, 230, 235);
/// The first curve.
pub(crate) const CURVE: RGBColor = RGBColor(11, 110, 117);
/// Colours that distinguish curves (after M. Okabe and K. Ito, "Color Universal Design", 2008).
const CATEGORIES: [RGBColor; 6] = [
    CURVE,
    RGBColor(213, 94, 0),
    RGBColor(0, 90, 160),
    RGBColor(150, 60, 130),
    RGBColor(150, 125, 0),
    RGBColor(70, 75, 85),
];

/// The colour of the nth of several things; they begin anew after the last.
pub(crate) fn category(n: usize) -> RGBColor {
    CATEGORIES[n % CATEGORIES.len()]
}
/// Tones.
pub(crate) const TONE: RGBColor = RGBColor(196, 61, 33);
/// A track over a picture.
pub(crate) const TRACK: RGBColor = RGBColor(120, 240, 220);
/// Estimates drawn beside a measurement, such as the noise floor.
pub(crate) const ESTIMATE: RGBColor = RGBColor(122, 108, 158);
/// Where something sounds, and where it begins.
pub(crate) const SOUNDING: RGBColor = RGBColor(150, 186, 190);
pub(crate) const ONSET: RGBColor = RGBColor(92, 76, 140);
/// Findings.
pub(crate) const FINDING: RGBColor = RGBColor(168, 98, 0);

/// Font sizes in pixels.
pub(crate) const TITLE_PX: f64 = 19.0;
pub(crate) const AXIS_PX: f64 = 14.0;
pub(crate) const TICK_PX: f64 = 13.0;
pub(crate) const LABEL_PX: f64 = 12.0;

/// The embedded font family: a subset of Inter (SIL Open Font License, `assets/Inter-LICENSE.txt`).
pub(crate) const FONT_FAMILY: &str = "Inter";
/// Its faces for drawing and measuring.
pub(crate) const REGULAR: &[u8] = include_bytes!("../assets/Inter-Regular.otf");
pub(crate) const SEMI_BOLD: &[u8] = include_bytes!("../assets/Inter-SemiBold.otf");
/// Its faces packed for embedding in an SVG or a page.
const REGULAR_PACKED: &[u8] = include_bytes!("../assets/Inter-Regular.woff2");
const SEMI_BOLD_PACKED: &[u8] = include_bytes!("../assets/Inter-SemiBold.woff2");

/// The embedded signs of music: a subset of Bravura under another name (SIL Open Font License,
/// `assets/StaffSigns-LICENSE.txt`), laid out as SMuFL 1.40 has it.
pub(crate) const SIGNS_FAMILY: &str = "Staff Signs";
pub(crate) const SIGNS: &[u8] = include_bytes!("../assets/StaffSigns.otf");
const SIGNS_PACKED: &[u8] = include_bytes!("../assets/StaffSigns.woff2");

/// A style sheet that brings the fonts along.
pub(crate) fn font_faces() -> String {
    face(FONT_FAMILY, "400", REGULAR_PACKED) + &face(FONT_FAMILY, "600 700", SEMI_BOLD_PACKED)
}

/// The same for signs of music.
pub(crate) fn signs_face() -> String {
    face(SIGNS_FAMILY, "400", SIGNS_PACKED)
}

fn face(family: &str, weight: &str, bytes: &[u8]) -> String {
    use base64::Engine;
    let data = base64::engine::general_purpose::STANDARD.encode(bytes);
    format!(
        "@font-face{{font-family:{family};font-weight:{weight};\
         src:url(data:font/woff2;base64,{data}) format('woff2')}}"
    )
}
