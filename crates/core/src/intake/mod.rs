//! What a recording is worth before anything else is measured in it.

mod envelope;
mod levels;
mod relation;

pub use envelope::{Column, Envelope};
pub use levels::{ChannelLevels, Clip, LevelMeter};
pub use relation::ChannelRelation;
