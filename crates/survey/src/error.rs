//! What can go wrong with a survey.

use std::path::PathBuf;

/// What can go wrong with a survey.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The file is no survey.
    #[error(
        "{}: this file is no survey; name one that 'survey' has made, or a new one",
        .0.display()
    )]
    NotASurvey(PathBuf),
    /// The file has another form than this program knows.
    #[error(
        "{}: this survey has form {found}, and this program reads form {known}; use the program \
         that made it, or make the survey anew",
        .file.display()
    )]
    OtherForm {
        /// The file.
        file: PathBuf,
        /// Its form.
        found: i32,
        /// The form that is known.
        known: i32,
    },
    /// There is no such file.
    #[error("{}: there is no such survey; check the name and the folder", .0.display())]
    NotThere(PathBuf),
    /// There is no room for more.
    #[error("the disk is full; what was measured until now is kept: make room and run it again")]
    DiskFull,
    /// The file cannot be written to.
    #[error("the survey cannot be written to: check who may write to the file and its folder")]
    ReadOnly,
    /// The file is damaged.
    #[error("the survey is damaged: {0}; restore a copy of it, or make it anew")]
    Damaged(String),
    /// It holds another part.
    #[error("it holds {found}; give {asked} a file of its own")]
    OtherPart {
        /// The part it holds, in words.
        found: String,
        /// The part that was asked for, in words.
        asked: String,
    },
    /// A part that cannot be.
    #[error("'{0}' is no part; write it as 3/16: the third of sixteen")]
    Part(String),
    /// Parts are missing.
    #[error(
        "{what} missing: {missing} of {of}; measure them, or join without them by --incomplete"
    )]
    PartsMissing {
        /// "part 3 is" or "parts 3, 5 are".
        what: &'static str,
        /// Their numbers.
        missing: String,
        /// How many there should be.
        of: u32,
    },
    /// Parts that do not belong together.
    #[error("{}: {reason}", .file.display())]
    PartsDiffer {
        /// The part.
        file: PathBuf,
        /// What is different.
        reason: String,
    },
    /// A condition in SQL that cannot be read.
    #[error("'{given}' cannot be asked: {reason}")]
    Query {
        /// As typed.
        given: String,
        /// What the database says.
        reason: String,
    },
    /// A pattern of names that cannot be read.
    #[error("'{pattern}' is no pattern of names: {reason}")]
    Pattern {
        /// As typed.
        pattern: String,
        /// What is wrong.
        reason: String,
    },
    /// A folder that cannot be read at all.
    #[error("{0}")]
    Folder(String),
    /// What the database says.
    #[error("{0}")]
    Database(rusqlite::Error),
    /// Reading or writing a file.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The form that is left out of a build that is done fast.
    #[error(
        "this build writes no Parquet: export by --csv or --json, or build the program with \
         '--features parquet', as its packages are"
    )]
    BuiltWithoutParquet,
    /// Writing a table.
    #[error("a table could not be written: {0}")]
    Table(String),
}

impl From<rusqlite::Error> for Error {
    fn from(error: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode;
        match error.sqlite_error_code() {
            Some(ErrorCode::DiskFull) => Self::DiskFull,
            Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
                Self::ReadOnly
            }
            Some(ErrorCode::DatabaseCorrupt) => Self::Damaged(error.to_string()),
            _ => Self::Database(error),
        }
    }
}

impl From<csv::Error> for Error {
    fn from(error: csv::Error) -> Self {
        match error.into_kind() {
            csv::ErrorKind::Io(error) => Self::Io(error),
            other => Self::Table(format!("{other:?}")),
        }
    }
}

#[cfg(feature = "parquet")]
impl From<parquet::errors::ParquetError> for Error {
    fn from(error: parquet::errors::ParquetError) -> Self {
        Self::Table(error.to_string())
    }
}
