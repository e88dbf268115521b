//! Why a recording could not be read or written.

/// An error of this crate. The messages do not name the file; whoever knows it adds it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// It is not there.
    #[error("there is no such file; check the name and the folder")]
    NotFound,
    /// It is a folder.
    #[error("this is a folder; name the recordings in it")]
    Folder,
    /// It has no content.
    #[error("the file is empty; copy it again from where it was recorded")]
    Empty,
    /// Its content is of no known format.
    #[error("this is no recording that can be read: {looks}; convert it to WAV or FLAC")]
    Unknown {
        /// What it looks like instead.
        looks: String,
    },
    /// It breaks the rules of its format.
    #[error("the {format} file is damaged: {what}; copy or export it again")]
    Damaged {
        /// The format, as an engineer names it.
        format: &'static str,
        /// What is wrong.
        what: String,
    },
    /// It uses a part of its format that cannot be read.
    #[error("the {format} file holds {what}, which cannot be read; convert it to PCM WAV or FLAC")]
    Unsupported {
        /// The format.
        format: &'static str,
        /// What it holds.
        what: String,
    },
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The WAV encoder refused.
    #[error("the WAV file could not be written: {0}")]
    Write(#[from] hound::Error),
    /// The MIDI encoder refused.
    #[error("the MIDI file could not be written: {0}")]
    Midi(std::io::Error),
}
