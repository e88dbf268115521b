//! What a recording is worth before anything else is measured in it.

mod levels;

pub use levels::{ChannelLevels, Clip, LevelMeter};
