//! A table of a survey that can be written, with what its columns are.

use serde::Serialize;

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Kind {
    Integer,
    Real,
    Text,
}

/// A column of a file, as its metadata describe it.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct Described {
    pub(crate) name: String,
    #[serde(rename = "type")]
    pub(crate) kind: Kind,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) key: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) words: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) unit: Option<String>,
}

/// A table that can be written.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    pub(crate) columns: Vec<Described>,
    pub(crate) order: String,
}
