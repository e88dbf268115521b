//! Files that are nothing but samples, of which the user must give the rest.

use std::num::{NonZeroU16, NonZeroU32};

/// How samples without a header are to be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RawFormat {
    /// How one sample is stored.
    pub coding: RawCoding,
    /// Whether the most significant byte comes first.
    pub big_endian: bool,
    /// Samples per second and channel.
    pub sample_rate_hz: NonZeroU32,
    /// Number of channels, interleaved.
    pub channels: NonZeroU16,
}

/// How one sample without a header is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RawCoding {
    /// Unsigned byte with 128 in the middle.
    Unsigned8,
    /// Signed integer of 2, 3 or 4 bytes.
    Signed {
        /// Bytes in a sample.
        bytes: usize,
    },
    /// Floating point of 4 or 8 bytes.
    Float {
        /// Bytes in a sample.
        bytes: usize,
    },
}

impl RawFormat {
    /// The coding and byte order that a name such as `s24le` stands for: `u8`, or `s16`, `s24`,
    /// `s32`, `f32`, `f64` with `le` or `be`.
    #[must_use]
    pub fn coding_named(name: &str) -> Option<(RawCoding, bool)> {
        if name == "u8" {
            return Some((RawCoding::Unsigned8, false));
        }
        let big_endian = name.ends_with("be");
        let coding = match name.strip_suffix("le").or_else(|| name.strip_suffix("be"))? {
            "s16" => RawCoding::Signed { bytes: 2 },
            "s24" => RawCoding::Signed { bytes: 3 },
            "s32" => RawCoding::Signed { bytes: 4 },
            "f32" => RawCoding::Float { bytes: 4 },
            "f64" => RawCoding::Float { bytes: 8 },
            _ => return None,
        };
        Some((coding, big_endian))
    }
}

impl std::fmt::Display for RawFormat {
    /// Coding, rate and channels, as `s24le,48000Hz,2`.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let order = if self.big_endian { "be" } else { "le" };
        let (rate_hz, channels) = (self.sample_rate_hz, self.channels);
        match self.coding {
            RawCoding::Unsigned8 => write!(f, "u8,{rate_hz}Hz,{channels}"),
            RawCoding::Signed { bytes } => {
                write!(f, "s{}{order},{rate_hz}Hz,{channels}", 8 * bytes)
            }
            RawCoding::Float { bytes } => write!(f, "f{}{order},{rate_hz}Hz,{channels}", 8 * bytes),
        }
    }
}
