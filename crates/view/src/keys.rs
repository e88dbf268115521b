//! The keys: what each does, and what it is called in the footer and the help.

/// A key that was pressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Key {
    /// A letter, digit or sign.
    Char(char),
    /// An arrow to the left; ten steps with the shift key.
    Left(bool),
    /// An arrow to the right.
    Right(bool),
    /// An arrow up.
    Up,
    /// An arrow down.
    Down,
    /// The tabulator.
    Tab,
    /// Escape.
    Escape,
}

/// What a key does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Action {
    Pane(usize),
    NextPane,
    Freeze,
    Cursor,
    Move(i32),
    Zoom(bool),
    Scale(bool),
    Axis,
    Window,
    Resolution(bool),
    Average,
    Hold,
    Reset,
    Reference(bool),
    Channel,
    Weighting,
    TimeWeighting,
    Save,
    Picture,
    Record,
    Help,
    Quit,
}

/// A key, its name, and what it does in the plain words of the help.
pub struct Binding {
    /// Its name as it is shown.
    pub name: &'static str,
    /// What it does, in a word or two.
    pub short: &'static str,
    /// What it does.
    pub long: &'static str,
}

/// All keys, the most wanted first: the footer shows as many as fit.
pub const KEYS: [Binding; 20] = [
    Binding {
        name: "1-6",
        short: "view",
        long: "all, waveform, spectrum, spectrogram, pitch, partials",
    },
    Binding { name: "Space", short: "freeze", long: "stop the picture; again: go on" },
    Binding { name: "c", short: "cursors", long: "cursor A, then B, then none" },
    Binding { name: "+ -", short: "zoom", long: "show less or more of time or frequency" },
    Binding { name: "s", short: "save", long: "save what was heard last, with its numbers" },
    Binding {
        name: "r",
        short: "record",
        long: "record from now on, with what was just before; again: stop",
    },
    Binding { name: "?", short: "keys", long: "this list" },
    Binding { name: "q", short: "leave", long: "leave; Escape and Ctrl-C too" },
    Binding {
        name: "← →",
        short: "move",
        long: "move the cursor, or what is shown; with Shift ten steps",
    },
    Binding { name: "↑ ↓", short: "scale", long: "show smaller or larger levels" },
    Binding { name: "h", short: "hold", long: "keep the highest level at each frequency" },
    Binding {
        name: "0",
        short: "reset",
        long: "forget held levels, peaks and clips; scale the waveform by itself",
    },
    Binding { name: "l", short: "axis", long: "frequencies on a logarithmic or a linear axis" },
    Binding {
        name: ", .",
        short: "resolution",
        long: "coarser or finer resolution of the spectrum",
    },
    Binding { name: "w", short: "window", long: "the next window" },
    Binding { name: "a", short: "average", long: "average over 0, 0.5, 1, 2 or 5 s" },
    Binding { name: "[ ]", short: "A4", long: "reference pitch lower or higher by 0.5 Hz" },
    Binding { name: "n", short: "channel", long: "the next channel, then the mean of all" },
    Binding {
        name: "f t",
        short: "weighting",
        long: "weighting of the level: A, C, Z; and F, S, I in time",
    },
    Binding { name: "p", short: "picture", long: "a picture of what is seen, as PNG" },
];

impl Key {
    pub(crate) fn action(self) -> Option<Action> {
        Some(match self {
            Self::Char(c @ '1'..='6') => Action::Pane(c as usize - '1' as usize),
            Self::Tab => Action::NextPane,
            Self::Char(' ') => Action::Freeze,
            Self::Char('c') => Action::Cursor,
            Self::Left(far) => Action::Move(if far { -10 } else { -1 }),
            Self::Right(far) => Action::Move(if far { 10 } else { 1 }),
            Self::Char('+' | '=') => Action::Zoom(true),
            Self::Char('-') => Action::Zoom(false),
            Self::Up => Action::Scale(true),
            Self::Down => Action::Scale(false),
            Self::Char('l') => Action::Axis,
            Self::Char('w') => Action::Window,
            Self::Char(',') => Action::Resolution(false),
            Self::Char('.') => Action::Resolution(true),
            Self::Char('a') => Action::Average,
            Self::Char('h') => Action::Hold,
            Self::Char('0') => Action::Reset,
            Self::Char('[') => Action::Reference(false),
            Self::Char(']') => Action::Reference(true),
            Self::Char('n') => Action::Channel,
            Self::Char('f') => Action::Weighting,
            Self::Char('t') => Action::TimeWeighting,
            Self::Char('s') => Action::Save,
            Self::Char('p') => Action::Picture,
            Self::Char('r') => Action::Record,
            Self::Char('?') => Action::Help,
            Self::Char('q') | Self::Escape => Action::Quit,
            Self::Char(_) => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_that_is_named_does_something() {
        for binding in &KEYS {
            let keys: Vec<Key> = match binding.name {
                "1-6" => "123456".chars().map(Key::Char).collect(),
                "Space" => vec![Key::Char(' ')],
                "← →" => vec![Key::Left(false), Key::Right(true)],
                "↑ ↓" => vec![Key::Up, Key::Down],
                name => name.chars().filter(|c| *c != ' ').map(Key::Char).collect(),
            };
            assert!(!keys.is_empty());
            assert!(keys.iter().all(|key| key.action().is_some()), "{}", binding.name);
        }
    }
}
