//! Why a figure could not be drawn.

/// An error of this crate.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The size typed by the user cannot be used.
    #[error(
        "'{given}' is not the size of a figure; write it like 1280x800, from 480x320 to 8000x8000"
    )]
    Size {
        /// What was typed.
        given: String,
    },
    /// A name of a colour map could not be read.
    #[error("'{given}' is not a colour map; write ember, lagoon or grey")]
    Colours {
        /// What was typed.
        given: String,
    },
    /// A library refused to draw: a fault of this program.
    #[error("the figure could not be drawn: {0}")]
    Drawing(String),
}

impl Error {
    pub(crate) fn drawing(error: impl std::fmt::Display) -> Self {
        Self::Drawing(error.to_string())
    }
}
