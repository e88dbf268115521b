//! What the header of a recording says, and what it cannot say.

use crate::error::Error;

/// Channels read at most. A header that states more is likely to lie, and each costs memory.
const MOST_CHANNELS: usize = 256;

/// Highest sample rate that is read, in Hz: far above any converter's. Frames are as long as the
/// rate says, so that a header that lies would ask for any amount of memory.
const HIGHEST_RATE_HZ: f64 = 10e6;

/// Refuses a number of channels that is out of the ordinary.
pub(crate) fn check_channels(channels: usize, format: &'static str) -> Result<(), Error> {
    if channels <= MOST_CHANNELS {
        return Ok(());
    }
    let what = format!("{channels} channels (at most {MOST_CHANNELS} are read)");
    Err(Error::Unsupported { format, what })
}

/// Refuses a header that cannot be true.
pub(crate) fn check_info(info: &TakeInfo) -> Result<(), Error> {
    check_channels(info.channels, info.container)?;
    if info.sample_rate_hz <= HIGHEST_RATE_HZ {
        return Ok(());
    }
    let what = format!(
        "its header states {} samples a second, and at most {HIGHEST_RATE_HZ} are read",
        info.sample_rate_hz
    );
    Err(Error::Damaged { format: info.container, what })
}

/// What the header of a recording says.
#[derive(Debug, Clone, PartialEq)]
pub struct TakeInfo {
    /// Container, as an engineer names it: "WAV", "RF64", "FLAC".
    pub container: &'static str,
    /// Coding of the samples: "PCM 24-bit", "float 32-bit", "FLAC 16-bit".
    pub codec: String,
    /// Whether the coding loses anything.
    pub lossy_codec: bool,
    /// Samples per second and channel.
    pub sample_rate_hz: f64,
    /// Bits of an integer sample; `None` for floating point.
    pub bits_per_sample: Option<u32>,
    /// Number of channels, at least 1.
    pub channels: usize,
    /// Frames that can be read, where the header or the size of the file gives.
    pub frames: Option<u64>,
    /// Frames that the header states but the file does not hold.
    pub missing_frames: u64,
    /// Bytes after the sound that belong to no part of the format: the stated size may be wrong.
    pub stray_bytes: u64,
}
