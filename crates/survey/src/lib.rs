//! Surveys: what was measured of many takes, in one database file.
//!
//! # The file
//!
//! It is an SQLite database, in which `application_id` and `user_version` say that it is a survey,
//! and of which form. Any program that reads SQLite reads it.
//!
//! | table | a row for | columns |
//! |---|---|---|
//! | `takes` | a take | `id`, `run_id`, `path`, `folder`, `reason` why something is missing, `waits` (1: to be measured), `bytes`, `modified_ns`, `blake3`, `sample_rate_hz`, `channels`, `duration_s`, `level_reference` |
//! | `pitch`, `timbre`, … | a take | `take_id`, `settings`, and the numbers of the result ([`rows`]) |
//! | `pitch_notes`, … | an item of a list | `take_id`, `number` or `center_hz`, and its numbers |
//! | `findings` | a finding | `take_id`, `command`, `code`, `severity`, `channel`, `text` |
//! | `conditions` | a condition of a take | `take_id`, `name`, `value` |
//! | `prints` | a take | `take_id`, `words`: its fingerprint, little-endian |
//! | `settings` | settings of a command | `hash`, `command`, `json` |
//! | `runs` | what was asked for | `id`, `measure`, `reading`, `tonemap` (version), `program` (hash), `part`, `parts`, `began` |
//! | `columns` | a number | `table_name`, `column_name`, `key`, `name`, `unit`, `decimals`, `has_u` |
//!
//! A path is text as it was named; one that is not UTF-8 is a file URI. The uncertainty of a number
//! stands in a column of its name with `_u` behind it. What is not known is null.
//!
//! Numbers depend on neither the order in which takes were measured nor on how often the work was
//! broken off: takes are numbered by their paths, in the order of their bytes, before the first is
//! measured.
//!
//! # What survives
//!
//! Results are written by one transaction for each batch, in the mode with a log of what is to be
//! written, which is forced to the disk at each end of one: whatever happens, the file holds all
//! batches but the last.

mod database;
mod error;
pub mod export;
mod join;
#[cfg(feature = "parquet")]
mod parquet;
mod part;
mod query;
pub mod rows;
mod table;
pub mod walk;

pub use database::{
    Identity, Listed, MeasuredTake, Outcome, Reader, Result as CommandResult, RunRecord, SoundInfo,
    Standing, Survey, Waiting,
};
pub use error::Error;
pub use join::{Joined, join};
pub use part::Part;
pub use query::{Chosen, Counted, Quantity, View, name_of};
pub use table::Table;
