//! Texts of a drawing turned into outlines of the embedded fonts, so that a picture of it needs no
//! engine for type.
//!
//! The width of a text is the sum of its glyphs' advances, as it was when the drawing was laid out.

use std::fmt::Write;

use ab_glyph::{Font, FontRef, OutlineCurve, Point};

use crate::error::Error;
use crate::theme;

/// A layer of an SVG drawing with a path in place of each text.
///
/// # Errors
///
/// [`Error::Drawing`] if the drawing is no XML or a font is damaged, which would be faults of this
/// program.
pub(crate) fn outlined(head: &str, layer: &str) -> Result<String, Error> {
    let svg = format!("{head}{layer}</svg>");
    let document = roxmltree::Document::parse(&svg).map_err(Error::drawing)?;
    let mut result = String::with_capacity(2 * svg.len());
    let mut done = 0;
    for text in document.descendants().filter(|node| node.has_tag_name("text")) {
        result.push_str(&svg[done..text.range().start]);
        result.push_str(&path_of(text)?);
        done = text.range().end;
    }
    result.push_str(&svg[done..]);
    Ok(result)
}

fn path_of(text: roxmltree::Node<'_, '_>) -> Result<String, Error> {
    let number = |name| text.attribute(name).and_then(|value| value.parse::<f32>().ok());
    let (x, y) = (number("x").unwrap_or(0.0), number("y").unwrap_or(0.0));
    let size = number("font-size").unwrap_or(0.0);
    // The library hangs a text from its top, by a share of the size.
    let hangs = text.attribute("dy").and_then(|dy| dy.trim_end_matches("em").parse::<f32>().ok());
    let is_sign = text.attribute("font-family") == Some(theme::SIGNS_FAMILY);
    let face = match text.attribute("font-weight") {
        _ if is_sign => theme::SIGNS,
        Some("bold") => theme::SEMI_BOLD,
        _ => theme::REGULAR,
    };
    let font = FontRef::try_from_slice(face).map_err(Error::drawing)?;
    let scale = size / font.units_per_em().unwrap_or(1000.0);
    let words = text.text().unwrap_or_default().trim();
    let glyphs = || words.chars().map(|letter| font.glyph_id(letter));
    let width: f32 = glyphs().map(|glyph| scale * font.h_advance_unscaled(glyph)).sum();
    let mut left = match text.attribute("text-anchor") {
        Some("middle") => x - 0.5 * width,
        Some("end") => x - width,
        _ => x,
    };
    let baseline = y + hangs.unwrap_or(0.0) * size;
    let mut path = String::new();
    for glyph in glyphs() {
        if let Some(outline) = font.outline(glyph) {
            let place = |point: Point| (left + scale * point.x, baseline - scale * point.y);
            draw(&mut path, &outline.curves, place);
        }
        left += scale * font.h_advance_unscaled(glyph);
    }
    let mut element = format!("<path d=\"{path}\"");
    for name in ["fill", "opacity", "transform"] {
        if let Some(value) = text.attribute(name) {
            let _ = write!(element, " {name}=\"{value}\"");
        }
    }
    Ok(element + "/>")
}

/// The curves of one glyph: contours that begin wherever a curve does not go on from the last one.
fn draw(path: &mut String, curves: &[OutlineCurve], place: impl Fn(Point) -> (f32, f32)) {
    let mut pen = None;
    let mut add = |command: char, points: &[Point]| {
        path.push(command);
        for point in points {
            let (x, y) = place(*point);
            let _ = write!(path, "{x:.1} {y:.1} ");
        }
    };
    for curve in curves {
        let (from, to) = match *curve {
            OutlineCurve::Line(from, to)
            | OutlineCurve::Quad(from, _, to)
            | OutlineCurve::Cubic(from, _, _, to) => (from, to),
        };
        if pen != Some(from) {
            add('M', &[from]);
        }
        match *curve {
            OutlineCurve::Line(_, to) => add('L', &[to]),
            OutlineCurve::Quad(_, control, to) => add('Q', &[control, to]),
            OutlineCurve::Cubic(_, first, second, to) => add('C', &[first, second, to]),
        }
        pen = Some(to);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEAD: &str = "<svg xmlns=\"http://www.w3.org/2000/svg\">";

    /// The outline of words at (1000, 500), 100 units high: the numbers of its path, and how many
    /// contours it has.
    fn outline(words: &str, anchor: &str) -> (Vec<(f64, f64)>, usize) {
        let layer = format!(
            "<rect/><text x=\"1000\" y=\"500\" dy=\"0.76em\" text-anchor=\"{anchor}\" \
             font-size=\"100\" fill=\"#123456\" opacity=\"0.5\">\n{words}\n</text><line/>"
        );
        let svg = outlined(HEAD, &layer).expect("outlined");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let names: Vec<&str> =
            document.root_element().children().map(|node| node.tag_name().name()).collect();
        assert_eq!(names, ["rect", "path", "line"]);
        let path = document.descendants().find(|node| node.has_tag_name("path")).expect("one");
        assert_eq!(
            (path.attribute("fill"), path.attribute("opacity")),
            (Some("#123456"), Some("0.5"))
        );
        let data = path.attribute("d").expect("a path");
        let is_command = |letter: char| letter.is_ascii_alphabetic();
        let numbers: Vec<f64> = data
            .split(|letter: char| is_command(letter) || letter == ' ')
            .filter_map(|number| number.parse().ok())
            .collect();
        let points = numbers.as_chunks::<2>().0.iter().map(|[x, y]| (*x, *y)).collect();
        (points, data.matches('M').count())
    }

    #[test]
    fn a_text_becomes_outlines_where_it_stood() {
        let (bar, contours) = outline("l", "start");
        assert_eq!(contours, 1);
        let lowest = bar.iter().map(|point| point.1).fold(f64::MIN, f64::max);
        assert!((lowest - 576.0).abs() < 0.2, "it stands on its baseline: {lowest}");
        assert_eq!(outline("i", "start").1, 2, "a stem and a dot");
        let middle = |points: &[(f64, f64)]| {
            let x = points.iter().map(|point| point.0);
            f64::midpoint(x.clone().fold(f64::MAX, f64::min), x.fold(f64::MIN, f64::max))
        };
        assert!((middle(&outline("HoH", "middle").0) - 1000.0).abs() < 2.0);
        let [left, right] = ["start", "end"].map(|anchor| middle(&outline("HoH", anchor).0));
        assert!((left + right - 2000.0).abs() < 2.0 && left > 1050.0, "{left} {right}");
        // Blanks have no outline.
        assert!(outline(" ", "start").0.is_empty());
    }
}
