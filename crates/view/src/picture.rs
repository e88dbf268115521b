//! The cells of a view as a figure.

use ratatui::buffer::Buffer;
use ratatui::style::{Color, Modifier};
use tonemap_figures::{Figure, ScreenCell, screen_figure};

/// What is seen, as it is seen on a dark terminal.
///
/// # Errors
///
/// If it cannot be drawn.
pub fn picture(cells: &Buffer) -> Result<Figure, tonemap_figures::Error> {
    let cell = |cell: &ratatui::buffer::Cell| {
        let rgb = |colour: Color, otherwise: [u8; 3]| match colour {
            Color::Rgb(red, green, blue) => [red, green, blue],
            Color::Indexed(n) => of_256(n),
            _ => otherwise,
        };
        let (mut front, mut back) = (rgb(cell.fg, [225; 3]), rgb(cell.bg, [18, 18, 22]));
        if cell.modifier.contains(Modifier::REVERSED) {
            std::mem::swap(&mut front, &mut back);
        }
        let is_bold = cell.modifier.contains(Modifier::BOLD);
        ScreenCell { symbol: cell.symbol().into(), front, back, is_bold }
    };
    let all: Vec<ScreenCell> = cells.content.iter().map(cell).collect();
    screen_figure(&all, usize::from(cells.area.width))
}

/// Of the 256 colours of terminals, those of the cube and the greys.
fn of_256(n: u8) -> [u8; 3] {
    const STEPS: [u8; 6] = [0, 95, 135, 175, 215, 255];
    match n {
        232.. => [8 + 10 * (n - 232); 3],
        16.. => {
            let n = usize::from(n - 16);
            [n / 36, n / 6 % 6, n % 6].map(|step| STEPS[step])
        }
        _ => [128; 3],
    }
}
