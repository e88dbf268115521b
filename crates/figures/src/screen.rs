//! The cells of a terminal as a picture.

use plotters::style::RGBColor;

use crate::error::Error;
use crate::sheet::{Align, Figure, Picture, Sheet, Size, Type};

/// A cell: what stands in it, and its colours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScreenCell {
    /// A letter or a sign.
    pub symbol: String,
    /// Red, green and blue of it.
    pub front: [u8; 3],
    /// And of what is behind it.
    pub back: [u8; 3],
    /// Whether it is bold.
    pub is_bold: bool,
}

/// Pixels of a cell.
const WIDTH: usize = 10;
const HEIGHT: usize = 20;
/// Height of letters, and the baseline below the top of a cell.
const LETTERS_PX: f64 = 15.0;
const BASELINE: f64 = 15.0;

/// Draws cells, `columns` in a row. Blocks, lines and dots are drawn as pixels, so that they join;
/// letters stand in the middle of their cells.
///
/// # Errors
///
/// [`Error::Drawing`] if it cannot be drawn.
pub fn screen_figure(cells: &[ScreenCell], columns: usize) -> Result<Figure, Error> {
    let columns = columns.max(1);
    let rows = cells.len().div_ceil(columns);
    let (width, height) = (WIDTH * columns, HEIGHT * rows);
    let mut pixels = vec![0; 3 * width * height];
    for (n, cell) in cells.iter().enumerate() {
        let (left, top) = (n % columns * WIDTH, n / columns * HEIGHT);
        let ink = ink(cell.symbol.chars().next().unwrap_or(' '));
        for y in 0..HEIGHT {
            for x in 0..WIDTH {
                let colour = match &ink {
                    Some(ink) if ink(x, y) => cell.front,
                    _ => cell.back,
                };
                let at = 3 * ((top + y) * width + left + x);
                pixels[at..at + 3].copy_from_slice(&colour);
            }
        }
    }
    let size = Size { width: width as u32, height: height as u32 };
    Sheet::draw(size, |sheet| {
        sheet.picture(Picture { x: 0, y: 0, width, height, pixels })?;
        for (n, cell) in cells.iter().enumerate() {
            let symbol = cell.symbol.chars().next().unwrap_or(' ');
            if symbol == ' ' || ink(symbol).is_some() {
                continue;
            }
            let x = (n % columns * WIDTH) as f64 + 0.5 * WIDTH as f64;
            let y = (n / columns * HEIGHT) as f64 + BASELINE;
            let [red, green, blue] = cell.front;
            let letters = Type::new(LETTERS_PX, RGBColor(red, green, blue)).align(Align::Centre);
            let letters = if cell.is_bold { letters.bold() } else { letters };
            sheet.text(x, y, &cell.symbol, letters)?;
        }
        Ok(())
    })
}

/// Which pixels of a cell a sign covers that must join with its neighbours; `None` for letters.
fn ink(symbol: char) -> Option<Box<dyn Fn(usize, usize) -> bool>> {
    let (across, down) = (WIDTH / 2, HEIGHT / 2);
    Some(match symbol {
        '▀' => Box::new(move |_, y| y < down),
        '▄' => Box::new(move |_, y| y >= down),
        '█'..='▏' => {
            // From the full block on they lose an eighth each.
            let eighths = 8 - (symbol as usize - '█' as usize);
            Box::new(move |x, _| x * 8 < WIDTH * eighths)
        }
        '░' => Box::new(|x, y| x.is_multiple_of(2) && y.is_multiple_of(2)),
        '▒' => Box::new(|x, y| (x + y).is_multiple_of(2)),
        '▓' => Box::new(|x, y| !(x.is_multiple_of(2) && y.is_multiple_of(2))),
        '│' => Box::new(move |x, _| x == across),
        '┃' => Box::new(move |x, _| x.abs_diff(across) < 2),
        '─' => Box::new(move |_, y| y == down),
        '┼' => Box::new(move |x, y| x == across || y == down),
        '┤' => Box::new(move |x, y| x == across || (y == down && x < across)),
        '┌' => Box::new(move |x, y| (x == across && y >= down) || (y == down && x >= across)),
        '┐' => Box::new(move |x, y| (x == across && y >= down) || (y == down && x <= across)),
        '└' => Box::new(move |x, y| (x == across && y <= down) || (y == down && x >= across)),
        '┘' => Box::new(move |x, y| (x == across && y <= down) || (y == down && x <= across)),
        '\u{2800}'..='\u{28FF}' => {
            let dots = symbol as u32 - 0x2800;
            Box::new(move |x, y| {
                let (column, row) = (2 * x / WIDTH, 4 * y / HEIGHT);
                let bit = match (column, row) {
                    (0, 3) => 6,
                    (1, 3) => 7,
                    (column, row) => 3 * column + row,
                };
                // A dot fills the middle of its place.
                let (in_x, in_y) = (x % (WIDTH / 2), y % (HEIGHT / 4));
                dots >> bit & 1 == 1 && (1..4).contains(&in_x) && (1..4).contains(&in_y)
            })
        }
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_cover_their_share_of_a_cell() {
        let covered = |symbol: char| {
            let ink = ink(symbol).expect("a sign");
            let all = (0..WIDTH).flat_map(|x| (0..HEIGHT).map(move |y| (x, y)));
            all.filter(|(x, y)| ink(*x, *y)).count() as f64 / (WIDTH * HEIGHT) as f64
        };
        for (symbol, share) in [('█', 1.0), ('▌', 0.5), ('▏', 0.2), ('▀', 0.5), ('▒', 0.5)]
        {
            assert!((covered(symbol) - share).abs() < 0.01, "{symbol}: {}", covered(symbol));
        }
        assert_eq!(covered('\u{2800}'), 0.0);
        assert!((covered('\u{28FF}') - 8.0 * covered('\u{2801}')).abs() < 1e-9);
        assert!(ink('A').is_none());
    }

    #[test]
    fn a_screen_is_drawn_with_its_colours_and_letters() {
        let cell = |symbol: &str, front, back| ScreenCell {
            symbol: symbol.into(),
            front,
            back,
            is_bold: false,
        };
        let cells = [
            cell("█", [255, 0, 0], [0, 0, 0]),
            cell(" ", [0, 0, 0], [0, 0, 255]),
            cell("A", [255, 255, 255], [0, 0, 0]),
            cell("▀", [0, 255, 0], [10, 20, 30]),
        ];
        let figure = screen_figure(&cells, 2).expect("drawn");
        assert!(figure.svg().expect("an SVG").contains(">\nA\n<"));
        let file = figure.png().expect("a PNG");
        let mut reader = png::Decoder::new(std::io::Cursor::new(file)).read_info().expect("a PNG");
        let mut pixels = vec![0; reader.output_buffer_size().expect("a size")];
        reader.next_frame(&mut pixels).expect("pixels");
        let at = |x: usize, y: usize| &pixels[3 * (y * 20 + x)..][..3];
        assert_eq!((at(3, 3), at(13, 3)), (&[255, 0, 0][..], &[0, 0, 255][..]));
        assert_eq!((at(15, 22), at(15, 38)), (&[0, 255, 0][..], &[10, 20, 30][..]));
        assert!((0..200).any(|n| at(n % 10, 20 + n / 10)[0] > 200));
    }
}
