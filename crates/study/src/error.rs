//! What can be wrong with a study.

/// Why a study, or a change to it, was refused. The caller adds the name of the file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The file is not TOML, or a value has the wrong type.
    #[error("it cannot be read: {0}")]
    Syntax(String),
    /// A key that means nothing.
    #[error("{place} has the unknown key '{key}'{}", suggestion(.nearest.as_deref(), .known))]
    UnknownKey {
        /// Where it stands.
        place: String,
        /// The key.
        key: String,
        /// The known key that is most like it, if one is.
        nearest: Option<String>,
        /// All known keys.
        known: String,
    },
    /// A value that makes no sense.
    #[error("{place}: {key} is {given}, but must be {allowed}")]
    Value {
        /// Where it stands.
        place: String,
        /// Its key.
        key: &'static str,
        /// The value.
        given: String,
        /// What would do.
        allowed: &'static str,
    },
    /// A file that is not in the folder.
    #[error(
        "{file} lies outside the folder of the study; copy it into the folder, and add it there"
    )]
    Outside {
        /// The file.
        file: String,
    },
    /// Two takes with one name.
    #[error("there are two takes with the name '{name}'; rename one")]
    SameName {
        /// The name.
        name: String,
    },
    /// A channel names a microphone that is not listed.
    #[error(
        "take '{take}' names the microphone '{microphone}', which is not listed; add \
         [microphones.{microphone}]"
    )]
    NoMicrophone {
        /// The take.
        take: String,
        /// The microphone.
        microphone: String,
    },
    /// A pattern that cannot be used.
    #[error("'{pattern}' is not a pattern: {reason}; write it like bell-cut{{cut}}.wav")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong.
        reason: &'static str,
    },
    /// A condition that cannot be read.
    #[error("'{given}' is not a condition; write it like cut=3 or strings=both")]
    Condition {
        /// What was typed.
        given: String,
    },
}

fn suggestion(nearest: Option<&str>, known: &str) -> String {
    match nearest {
        Some(nearest) => format!("; did you mean '{nearest}'?"),
        None => format!("; known are {known}"),
    }
}
