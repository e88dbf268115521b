//! Writing WAV files.

use std::io::{Seek, Write};

use crate::error::Error;

/// How samples are stored in a WAV file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WavEncoding {
    /// Integer samples of this many bits: 8, 16, 24 or 32. Values beyond full scale are clipped.
    Integer(u16),
    /// 32-bit floating point.
    Float,
}

/// Writes `channels`, all of the same length, as a WAV file.
///
/// Integer samples are rounded to the nearest code: no dither is added, so that the file depends
/// on nothing but its samples.
///
/// # Errors
///
/// If the encoding is none of those listed or the writer fails; the file is incomplete then.
pub fn write_wav<W: Write + Seek>(
    writer: W,
    sample_rate_hz: u32,
    channels: &[Vec<f32>],
    encoding: WavEncoding,
) -> Result<(), Error> {
    let (bits, format) = match encoding {
        WavEncoding::Integer(bits) => (bits, hound::SampleFormat::Int),
        WavEncoding::Float => (32, hound::SampleFormat::Float),
    };
    let spec = hound::WavSpec {
        channels: channels.len() as u16,
        sample_rate: sample_rate_hz,
        bits_per_sample: bits,
        sample_format: format,
    };
    let mut wav = hound::WavWriter::new(writer, spec)?;
    let frames = channels.first().map_or(0, Vec::len);
    let scale = 2f64.powi(i32::from(bits) - 1);
    for frame in 0..frames {
        for channel in channels {
            let sample = channel.get(frame).copied().unwrap_or(0.0);
            match encoding {
                WavEncoding::Integer(_) => {
                    let code = (f64::from(sample) * scale).round().clamp(-scale, scale - 1.0);
                    wav.write_sample(code as i32)?;
                }
                WavEncoding::Float => wav.write_sample(sample)?,
            }
        }
    }
    wav.finalize()?;
    Ok(())
}
