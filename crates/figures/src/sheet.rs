//! A sheet of paper: lines, shapes and text in pixels, kept as SVG.

use std::borrow::Cow;
use std::cell::RefCell;
use std::str::FromStr;
use std::sync::OnceLock;

use plotters::coord::Shift;
use plotters::element::DashedPathElement;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontTransform, RGBAColor, register_font};
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg;

use crate::error::Error;
use crate::{glyphs, theme};

/// Units of the drawing in one pixel: the drawing library counts in whole units, and curves need
/// finer steps than pixels.
const UNITS: f64 = 20.0;
/// What the library calls the size of a text is this much more than the size of its em square.
const TEXT_FACTOR: f64 = 1.24;

/// Width and height of a figure in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
}

impl Default for Size {
    fn default() -> Self {
        Self { width: 1280, height: 800 }
    }
}

impl FromStr for Size {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let read = || {
            let (width, height) = text.split_once('x')?;
            let size =
                Self { width: width.trim().parse().ok()?, height: height.trim().parse().ok()? };
            let fits = (480..=8000).contains(&size.width) && (320..=8000).contains(&size.height);
            fits.then_some(size)
        };
        read().ok_or_else(|| Error::Size { given: text.into() })
    }
}

/// A picture of pixels at a place of the sheet, in pixels.
#[derive(Debug, Clone)]
pub(crate) struct Picture {
    pub(crate) x: usize,
    pub(crate) y: usize,
    pub(crate) width: usize,
    pub(crate) height: usize,
    /// Red, green and blue of each pixel, row by row from the top.
    pub(crate) pixels: Vec<u8>,
}

impl Picture {
    /// As an element of an SVG in drawing units, its pixels kept sharp.
    fn element(&self) -> Result<String, Error> {
        use base64::Engine;
        let file = encoded(self.width as u32, self.height as u32, &self.pixels)?;
        let data = base64::engine::general_purpose::STANDARD.encode(file);
        let [x, y, width, height] =
            [self.x, self.y, self.width, self.height].map(|length| length as f64 * UNITS);
        Ok(format!(
            "<image x=\"{x}\" y=\"{y}\" width=\"{width}\" height=\"{height}\" \
             style=\"image-rendering:pixelated\" href=\"data:image/png;base64,{data}\"/>\n"
        ))
    }

    /// Puts it onto the rendered sheet, pixel by pixel.
    fn put(&self, sheet: &mut Pixmap) {
        let width = sheet.width() as usize;
        let held = width.saturating_sub(self.x).min(self.width);
        let rows = self.pixels.chunks_exact(3 * self.width.max(1));
        let lines = sheet.data_mut().chunks_exact_mut(4 * width).skip(self.y);
        for (row, line) in rows.zip(lines) {
            let places = line[4 * self.x.min(width)..].chunks_exact_mut(4);
            for (pixel, place) in row.chunks_exact(3).take(held).zip(places) {
                place.copy_from_slice(&[pixel[0], pixel[1], pixel[2], 255]);
            }
        }
    }
}

/// A finished drawing: lines, shapes and text in layers, with a picture between one layer and the
/// next.
#[derive(Debug, Clone)]
pub struct Figure {
    size: Size,
    /// The element that holds everything.
    head: String,
    layers: Vec<String>,
    pictures: Vec<Picture>,
}

/// What stands in a drawing where a picture belongs.
const PICTURE_MARK: &str = "\u{2af6}picture\u{2af6}";

/// Pixels as a PNG file.
fn encoded(width: u32, height: u32, pixels: &[u8]) -> Result<Vec<u8>, Error> {
    let mut file = Vec::new();
    let mut encoder = png::Encoder::new(&mut file, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_compression(png::Compression::Fast);
    let mut writer = encoder.write_header().map_err(Error::drawing)?;
    writer.write_image_data(pixels).map_err(Error::drawing)?;
    writer.finish().map_err(Error::drawing)?;
    Ok(file)
}

impl Figure {
    /// The drawing as a self-contained SVG file, fonts included.
    ///
    /// # Errors
    ///
    /// [`Error::Drawing`] if a picture cannot be encoded.
    pub fn svg(&self) -> Result<String, Error> {
        let has_signs = self.layers.iter().any(|layer| layer.contains(theme::SIGNS_FAMILY));
        let signs = if has_signs { theme::signs_face() } else { String::new() };
        let mut svg = format!("{}<style>{}{signs}</style>\n", self.head, theme::font_faces());
        for (n, layer) in self.layers.iter().enumerate() {
            svg.push_str(layer);
            if let Some(picture) = self.pictures.get(n) {
                svg.push_str(&picture.element()?);
            }
        }
        svg.push_str("</svg>\n");
        Ok(svg)
    }

    /// The drawing as a PNG file.
    ///
    /// # Errors
    ///
    /// [`Error::Drawing`] if it cannot be rendered, for lack of memory.
    pub fn png(&self) -> Result<Vec<u8>, Error> {
        let options = usvg::Options::default();
        let mut sheet = Pixmap::new(self.size.width, self.size.height)
            .ok_or_else(|| Error::drawing("the picture is too large"))?;
        for (n, layer) in self.layers.iter().enumerate() {
            let svg = glyphs::outlined(&self.head, layer)?;
            let tree = usvg::Tree::from_str(&svg, &options).map_err(Error::drawing)?;
            resvg::render(&tree, Transform::identity(), &mut sheet.as_mut());
            if let Some(picture) = self.pictures.get(n) {
                picture.put(&mut sheet);
            }
        }
        // The paper is opaque: three bytes a pixel are enough.
        let pixels: Vec<u8> =
            sheet.pixels().iter().flat_map(|p| [p.red(), p.green(), p.blue()]).collect();
        encoded(self.size.width, self.size.height, &pixels)
    }
}

/// Where a text stands relative to its point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Align {
    Left,
    Centre,
    Right,
}

/// Shapes that distinguish marks beside their colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mark {
    Disc,
    Square,
    Diamond,
    Triangle,
}

impl Mark {
    /// The shape of the nth of several things; they begin anew after the last.
    pub(crate) fn of(n: usize) -> Self {
        [Self::Disc, Self::Square, Self::Diamond, Self::Triangle][n % 4]
    }
}

/// How a text looks.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Type {
    pub(crate) px: f64,
    pub(crate) colour: RGBColor,
    pub(crate) bold: bool,
    pub(crate) align: Align,
}

impl Type {
    pub(crate) fn new(px: f64, colour: RGBColor) -> Self {
        Self { px, colour, bold: false, align: Align::Left }
    }

    pub(crate) fn bold(self) -> Self {
        Self { bold: true, ..self }
    }

    pub(crate) fn align(self, align: Align) -> Self {
        Self { align, ..self }
    }

    /// The style in drawing units, with the baseline (not the top) at the point.
    fn style(&self) -> TextStyle<'static> {
        let horizontal = match self.align {
            Align::Left => HPos::Left,
            Align::Centre => HPos::Center,
            Align::Right => HPos::Right,
        };
        let weight = if self.bold { FontStyle::Bold } else { FontStyle::Normal };
        (theme::FONT_FAMILY, self.px * UNITS * TEXT_FACTOR, weight)
            .into_font()
            .color(&self.colour)
            .pos(Pos::new(horizontal, VPos::Top))
    }

    /// Width of a text in pixels.
    pub(crate) fn width(&self, text: &str) -> f64 {
        fonts();
        let size = self.px * UNITS * TEXT_FACTOR;
        let weight = if self.bold { FontStyle::Bold } else { FontStyle::Normal };
        let font = FontDesc::new(FontFamily::Name(theme::FONT_FAMILY), size, weight);
        match font.box_size(text) {
            Ok((width, _)) => f64::from(width) / UNITS,
            Err(_) => 0.6 * self.px * text.chars().count() as f64,
        }
    }
}

/// Makes the embedded fonts known to the drawing library, once.
fn fonts() {
    static ONCE: OnceLock<()> = OnceLock::new();
    ONCE.get_or_init(|| {
        // Registering can only fail on a damaged font file, which the tests would show.
        let _ = register_font(theme::FONT_FAMILY, FontStyle::Normal, theme::REGULAR);
        let _ = register_font(theme::FONT_FAMILY, FontStyle::Bold, theme::SEMI_BOLD);
        let _ = register_font(theme::SIGNS_FAMILY, FontStyle::Normal, theme::SIGNS);
    });
}

/// The paper that is being drawn on. All coordinates are pixels from the upper left corner.
pub(crate) struct Sheet<'a> {
    area: DrawingArea<SVGBackend<'a>, Shift>,
    pictures: RefCell<Vec<Picture>>,
}

impl Sheet<'_> {
    /// Draws a figure.
    pub(crate) fn draw(
        size: Size,
        drawing: impl FnOnce(&Sheet<'_>) -> Result<(), Error>,
    ) -> Result<Figure, Error> {
        fonts();
        let mut svg = String::new();
        let units = |pixels: u32| (f64::from(pixels) * UNITS) as u32;
        let inner = (units(size.width), units(size.height));
        let pictures = {
            let area = SVGBackend::with_string(&mut svg, inner).into_drawing_area();
            let sheet = Sheet { area, pictures: RefCell::default() };
            sheet.area.fill(&theme::PAPER).map_err(Error::drawing)?;
            drawing(&sheet)?;
            sheet.area.present().map_err(Error::drawing)?;
            sheet.pictures.take()
        };
        // The file is as large as asked for; its inside is counted in finer units. Round joins keep
        // the spikes of a noisy curve from growing needles.
        let stated = format!("width=\"{}\" height=\"{}\"", inner.0, inner.1);
        let wanted = format!(
            "width=\"{}\" height=\"{}\" stroke-linejoin=\"round\" stroke-linecap=\"round\"",
            size.width, size.height
        );
        let svg = svg.replacen(&stated, &wanted, 1);
        let (head, content) = svg.split_once('\n').unwrap_or((&svg, ""));
        let content = content.trim_end().trim_end_matches("</svg>");
        // Each mark is a text element of its own; the picture takes its place.
        let layers = content
            .split(PICTURE_MARK)
            .enumerate()
            .map(|(n, part)| {
                let part = match part.find("</text>") {
                    Some(end) if n > 0 => &part[end + "</text>".len()..],
                    _ => part,
                };
                match part.rfind("<text") {
                    Some(start) if n < pictures.len() => part[..start].to_string(),
                    _ => part.to_string(),
                }
            })
            .collect();
        Ok(Figure { size, head: format!("{head}\n"), layers, pictures })
    }

    /// A picture over all that has been drawn so far, and under what follows.
    pub(crate) fn picture(&self, picture: Picture) -> Result<(), Error> {
        self.pictures.borrow_mut().push(picture);
        self.text(0.0, 0.0, PICTURE_MARK, Type::new(theme::LABEL_PX, theme::PAPER))
    }

    fn at(x: f64, y: f64) -> (i32, i32) {
        ((x * UNITS).round() as i32, (y * UNITS).round() as i32)
    }

    fn all_at(points: &[(f64, f64)]) -> Vec<(i32, i32)> {
        points.iter().map(|(x, y)| Self::at(*x, *y)).collect()
    }

    /// A line through points; `alpha` from 0 to 1.
    pub(crate) fn line(
        &self,
        points: &[(f64, f64)],
        colour: RGBColor,
        alpha: f64,
        width: f64,
    ) -> Result<(), Error> {
        let style = stroke(colour.mix(alpha), width);
        let points = Self::all_at(points);
        self.area.draw(&PathElement::new(points, style)).map_err(Error::drawing)
    }

    /// A thin line that shows on dark and on light parts of a picture.
    pub(crate) fn line_on_picture(
        &self,
        points: &[(f64, f64)],
        colour: RGBColor,
        alpha: f64,
    ) -> Result<(), Error> {
        self.line(points, theme::INK, 0.6 * alpha, 2.6)?;
        self.line(points, colour, alpha, 1.2)
    }

    /// A dashed line through points.
    pub(crate) fn dashed(
        &self,
        points: &[(f64, f64)],
        colour: RGBColor,
        width: f64,
    ) -> Result<(), Error> {
        let points = Self::all_at(points);
        let (dash, gap) = ((7.0 * UNITS) as i32, (5.0 * UNITS) as i32);
        let line = DashedPathElement::new(points, dash, gap, stroke(colour.to_rgba(), width));
        self.area.draw(&line).map_err(Error::drawing)
    }

    /// A filled shape.
    pub(crate) fn shape(
        &self,
        points: &[(f64, f64)],
        colour: RGBColor,
        alpha: f64,
    ) -> Result<(), Error> {
        let points = Self::all_at(points);
        self.area.draw(&Polygon::new(points, colour.mix(alpha).filled())).map_err(Error::drawing)
    }

    /// A mark of a tone: filled, or its outline on paper.
    pub(crate) fn mark(
        &self,
        x: f64,
        y: f64,
        radius: f64,
        colour: RGBColor,
        filled: bool,
        mark: Mark,
    ) -> Result<(), Error> {
        let corners: &[(f64, f64)] = match mark {
            Mark::Disc => return self.dot(x, y, radius, colour, filled),
            Mark::Square => &[(-0.9, -0.9), (0.9, -0.9), (0.9, 0.9), (-0.9, 0.9)],
            Mark::Diamond => &[(0.0, -1.3), (1.3, 0.0), (0.0, 1.3), (-1.3, 0.0)],
            Mark::Triangle => &[(0.0, -1.2), (1.15, 0.9), (-1.15, 0.9)],
        };
        let mut outline: Vec<(f64, f64)> =
            corners.iter().map(|(dx, dy)| (x + radius * dx, y + radius * dy)).collect();
        self.shape(&outline, if filled { colour } else { theme::PAPER }, 1.0)?;
        outline.push(outline[0]);
        self.line(&outline, if filled { theme::PAPER } else { colour }, 1.0, 1.5)
    }

    /// A disc, or a ring on paper.
    pub(crate) fn dot(
        &self,
        x: f64,
        y: f64,
        radius: f64,
        colour: RGBColor,
        filled: bool,
    ) -> Result<(), Error> {
        let radius = (radius * UNITS) as i32;
        let inside = if filled { colour } else { theme::PAPER };
        let centre = Self::at(x, y);
        self.area.draw(&Circle::new(centre, radius, inside.filled())).map_err(Error::drawing)?;
        let ring = stroke(if filled { theme::PAPER.to_rgba() } else { colour.to_rgba() }, 1.5);
        self.area.draw(&Circle::new(centre, radius, ring)).map_err(Error::drawing)
    }

    /// A text with its baseline at `y`.
    pub(crate) fn text(&self, x: f64, y: f64, text: &str, look: Type) -> Result<(), Error> {
        // The library hangs text from its top, 0.76 of the size above the baseline.
        let top = Self::at(x, y - 0.76 * look.px);
        self.area.draw_text(&drawable(text), &look.style(), top).map_err(Error::drawing)
    }

    /// Signs of music with their origin at (`x`, `y`), on a staff of a height in pixels.
    pub(crate) fn signs(
        &self,
        x: f64,
        y: f64,
        signs: &str,
        staff_px: f64,
        colour: RGBColor,
    ) -> Result<(), Error> {
        let style =
            (theme::SIGNS_FAMILY, staff_px * UNITS * TEXT_FACTOR).into_font().color(&colour);
        let top = Self::at(x, y - 0.76 * staff_px);
        self.area.draw_text(signs, &style, top).map_err(Error::drawing)
    }

    /// A text that runs upwards, its middle at (`x`, `y`), its baseline to the right of `x`.
    pub(crate) fn text_upwards(&self, x: f64, y: f64, text: &str, look: Type) -> Result<(), Error> {
        let style = look.align(Align::Centre).style().transform(FontTransform::Rotate270);
        let place = Self::at(x - 0.76 * look.px, y);
        self.area.draw_text(&drawable(text), &style, place).map_err(Error::drawing)
    }
}

/// A text without the control characters that XML cannot hold.
fn drawable(text: &str) -> Cow<'_, str> {
    if !text.contains(char::is_control) {
        return text.into();
    }
    text.replace(char::is_control, "\u{fffd}").into()
}

fn stroke(colour: RGBAColor, width: f64) -> ShapeStyle {
    ShapeStyle { color: colour, filled: false, stroke_width: (width * UNITS).round() as u32 }
}

/// What stands in a drawing, for tests of figures.
#[cfg(test)]
pub(crate) mod drawn {
    use super::{Figure, Type, UNITS};
    use crate::theme;

    /// A text that does not run upwards, and the pixels that it covers.
    #[derive(Debug, Clone)]
    pub(crate) struct Text {
        pub(crate) words: String,
        pub(crate) left: f64,
        pub(crate) right: f64,
        pub(crate) top: f64,
        pub(crate) bottom: f64,
    }

    /// The texts of a figure.
    pub(crate) fn texts(figure: &Figure) -> Vec<Text> {
        let svg = figure.svg().expect("encoded");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let nodes = document.descendants().filter(|node| node.has_tag_name("text"));
        let text = |node: roxmltree::Node<'_, '_>| {
            let is_sign = node.attribute("font-family") == Some(theme::SIGNS_FAMILY);
            if node.attribute("transform").is_some() || is_sign {
                return None;
            }
            let number = |name: &str| node.attribute(name)?.parse::<f64>().ok();
            let (x, y) = (number("x")? / UNITS, number("y")? / UNITS);
            let px = number("font-size")? / UNITS;
            let words = node.text()?.trim().to_string();
            let look = Type::new(px, theme::INK);
            let is_bold = node.attribute("font-weight") == Some("bold");
            let width = if is_bold { look.bold() } else { look }.width(&words);
            let left = match node.attribute("text-anchor") {
                Some("middle") => x - 0.5 * width,
                Some("end") => x - width,
                _ => x,
            };
            // Ascenders and descenders, without the space between lines.
            Some(Text { words, left, right: left + width, top: y + 0.1 * px, bottom: y + 0.9 * px })
        };
        nodes.filter_map(text).collect()
    }

    /// Pairs of texts that cover each other, and texts that leave the page.
    pub(crate) fn collisions(figure: &Figure) -> Vec<String> {
        let all = texts(figure);
        let mut found = Vec::new();
        for (n, a) in all.iter().enumerate() {
            let (width, height) = (f64::from(figure.size.width), f64::from(figure.size.height));
            if a.left < 0.0 || a.right > width || a.top < 0.0 || a.bottom > height {
                found.push(format!("'{}' leaves the page", a.words));
            }
            for b in &all[n + 1..] {
                let meets =
                    a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;
                if meets {
                    found.push(format!("'{}' and '{}'", a.words, b.words));
                }
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_or_refused() {
        assert_eq!("1280x800".parse(), Ok(Size { width: 1280, height: 800 }));
        for wrong in ["1280", "x", "100x100", "100000x800", "-1x5", "1280×800"] {
            assert!(wrong.parse::<Size>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn text_is_measured_with_the_embedded_font() {
        let look = Type::new(12.0, theme::INK);
        let (narrow, wide) = (look.width("iiii"), look.width("MMMM"));
        assert!(narrow > 5.0 && wide > 2.5 * narrow, "{narrow} {wide}");
        assert!(look.bold().width("MMMM") > wide);
    }

    #[test]
    fn svg_and_png_have_the_size_asked_for() {
        let size = Size { width: 640, height: 480 };
        let figure = Sheet::draw(size, |sheet| {
            sheet.line(&[(0.0, 0.0), (640.0, 480.0)], theme::INK, 1.0, 2.0)?;
            sheet.text(100.0, 100.0, "level & <frequency>\u{1b}[31m", Type::new(20.0, theme::INK))
        })
        .expect("drawn");
        let svg = figure.svg().expect("encoded");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        assert_eq!(document.root_element().attribute("width"), Some("640"));
        assert!(document.descendants().any(|node| node.has_tag_name("style")));
        let png = figure.png().expect("rendered");
        let decoder = png::Decoder::new(std::io::Cursor::new(png));
        let mut reader = decoder.read_info().expect("a PNG");
        assert_eq!(reader.info().size(), (640, 480));
        let mut pixels = vec![0; reader.output_buffer_size().expect("known")];
        reader.next_frame(&mut pixels).expect("a picture");
        // The diagonal is drawn in ink, and the text leaves dark pixels where it stands.
        let pixel = |x: usize, y: usize| &pixels[3 * (y * 640 + x)..][..3];
        assert_eq!(pixel(320, 240), [29, 39, 51]);
        let dark = (100..300).flat_map(|x| (80..102).map(move |y| (x, y)));
        assert!(dark.filter(|(x, y)| pixel(*x, *y)[0] < 100).count() > 200);
    }
}
