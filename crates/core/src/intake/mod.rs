//! What a recording is worth before anything else is measured in it.

mod course;
mod envelope;
mod faults;
mod grain;
mod hum;
mod inspector;
mod levels;
mod noise;
mod period;
mod relation;
mod true_peak;

pub use course::{Course, Region};
pub use envelope::{Column, Envelope};
pub use faults::{Dropout, Faults};
pub use hum::Hum;
pub use inspector::{
    ChannelInspection, Inspection, Inspector, LevelInspector, PressureLevels, SoundInspector,
};
pub use levels::{ChannelLevels, Clip, LevelMeter};
pub use noise::{Noise, NoiseMeter};
pub use period::{Period, period};
pub(crate) use period::{interpolated, rising_crossings, zero_between};
pub use relation::ChannelRelation;
pub(crate) use true_peak::{TruePeak, interpolation_taps};
