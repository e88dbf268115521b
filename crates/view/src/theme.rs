//! Colours of the view, for terminals that show many, 256 or none.

use ratatui::style::{Color, Modifier, Style};
use tonemap_figures::ColourMap;

/// How many colours a terminal shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Colours {
    /// Red, green and blue in 256 steps each.
    All,
    /// 256.
    Few,
    /// None, or none are wanted.
    None,
}

/// What things look like.
#[derive(Clone)]
pub struct Looks {
    colours: Colours,
    map: [[u8; 3]; 256],
}

/// Shades from the quietest to the loudest where there are no colours.
const SHADES: [&str; 5] = [" ", "░", "▒", "▓", "█"];

impl Looks {
    /// For so many colours.
    #[must_use]
    pub fn new(colours: Colours) -> Self {
        Self { colours, map: ColourMap::default().table() }
    }

    fn colour(&self, [red, green, blue]: [u8; 3]) -> Color {
        match self.colours {
            Colours::All => Color::Rgb(red, green, blue),
            Colours::Few => Color::Indexed(indexed([red, green, blue])),
            Colours::None => Color::Reset,
        }
    }

    fn style(&self, rgb: [u8; 3], otherwise: Modifier) -> Style {
        match self.colours {
            Colours::None => Style::new().add_modifier(otherwise),
            _ => Style::new().fg(self.colour(rgb)),
        }
    }

    /// A curve that is measured now.
    pub(crate) fn curve(&self) -> Style {
        self.style([86, 180, 233], Modifier::empty())
    }

    /// What was highest before.
    pub(crate) fn held(&self) -> Style {
        self.style([200, 150, 60], Modifier::DIM)
    }

    /// Axes and their values, and words that explain.
    pub(crate) fn quiet(&self) -> Style {
        self.style([150, 150, 150], Modifier::DIM)
    }

    /// Numbers that matter.
    pub(crate) const NUMBER: Style = Style::new().add_modifier(Modifier::BOLD);

    /// What is in tune, or sounds.
    pub(crate) fn good(&self) -> Style {
        self.style([80, 200, 140], Modifier::BOLD)
    }

    /// What is nearly too much.
    pub(crate) fn near(&self) -> Style {
        self.style([240, 200, 66], Modifier::BOLD)
    }

    /// What is too much, or wrong.
    pub(crate) fn bad(&self) -> Style {
        self.style([240, 110, 90], Modifier::REVERSED)
    }

    /// Cursors.
    pub(crate) fn cursor(&self) -> Style {
        self.style([230, 130, 190], Modifier::BOLD)
    }

    /// Title and footer.
    pub(crate) const BAR: Style = Style::new().add_modifier(Modifier::REVERSED);

    /// Two cells of a picture, one over the other in one place: shares from the quietest, 0, to the
    /// loudest, 1.
    pub(crate) fn cells(&self, upper: f64, lower: f64) -> (&'static str, Style) {
        if self.colours == Colours::None {
            let share = upper.max(lower).clamp(0.0, 1.0);
            return (SHADES[(share * 4.999) as usize], Style::new());
        }
        let of = |share: f64| self.colour(self.map[(share.clamp(0.0, 1.0) * 255.0) as usize]);
        ("▀", Style::new().fg(of(upper)).bg(of(lower)))
    }
}

/// The nearest of the 6·6·6 colours and the greys that terminals of 256 have.
fn indexed([red, green, blue]: [u8; 3]) -> u8 {
    const STEPS: [u8; 6] = [0, 95, 135, 175, 215, 255];
    let nearest = |value: u8| {
        let by = |n: &usize| STEPS[*n].abs_diff(value);
        (0..STEPS.len()).min_by_key(by).unwrap_or(0)
    };
    let (r, g, b) = (nearest(red), nearest(green), nearest(blue));
    let off = |[x, y, z]: [u8; 3]| {
        u32::from(x.abs_diff(red)) + u32::from(y.abs_diff(green)) + u32::from(z.abs_diff(blue))
    };
    let grey = u8::try_from((u16::from(red) + u16::from(green) + u16::from(blue)) / 3);
    let step = (grey.unwrap_or(255).saturating_sub(3) / 10).min(23);
    let level = 8 + 10 * step;
    if off([level; 3]) < off([STEPS[r], STEPS[g], STEPS[b]]) {
        return 232 + step;
    }
    (16 + 36 * r + 6 * g + b) as u8
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn colours_are_shown_as_near_as_256_allow() {
        assert_eq!(indexed([0, 0, 0]), 16);
        assert_eq!(indexed([255, 255, 255]), 231);
        assert_eq!(indexed([255, 0, 0]), 196);
        assert_eq!(indexed([128, 128, 128]), 244);
    }

    #[test]
    fn without_colours_there_are_shades() {
        let looks = Looks::new(Colours::None);
        let shades: Vec<&str> = [0.0, 0.3, 0.5, 0.7, 1.0].map(|x| looks.cells(x, 0.0).0).into();
        assert_eq!(shades, SHADES);
        assert_eq!(looks.curve().fg, None);
        assert!(Looks::new(Colours::All).cells(1.0, 0.0).1.fg.is_some());
    }
}
