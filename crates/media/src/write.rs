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

/// Writes a WAV file block by block.
pub struct WavSink<W: Write + Seek> {
    wav: hound::WavWriter<W>,
    encoding: WavEncoding,
    /// Samples beyond full scale, which an integer cannot hold.
    clipped: u64,
}

impl<W: Write + Seek> WavSink<W> {
    /// Begins a file.
    ///
    /// # Errors
    ///
    /// If the encoding is none of those listed or the writer fails.
    pub fn new(
        writer: W,
        sample_rate_hz: u32,
        channels: usize,
        encoding: WavEncoding,
    ) -> Result<Self, Error> {
        let (bits, format) = match encoding {
            WavEncoding::Integer(bits) => (bits, hound::SampleFormat::Int),
            WavEncoding::Float => (32, hound::SampleFormat::Float),
        };
        let spec = hound::WavSpec {
            channels: channels as u16,
            sample_rate: sample_rate_hz,
            bits_per_sample: bits,
            sample_format: format,
        };
        Ok(Self { wav: hound::WavWriter::new(writer, spec)?, encoding, clipped: 0 })
    }

    /// Appends samples, one of each channel after the other.
    ///
    /// Integer samples are rounded to the nearest code; values beyond full scale are cut to it.
    ///
    /// # Errors
    ///
    /// If the writer fails or the file would grow beyond 4 GiB, which its header cannot state.
    pub fn write(&mut self, interleaved: &[f64]) -> Result<(), Error> {
        match self.encoding {
            WavEncoding::Integer(bits) => {
                let scale = 2f64.powi(i32::from(bits) - 1);
                for sample in interleaved {
                    let code = (sample * scale).round();
                    let held = code.clamp(-scale, scale - 1.0);
                    self.clipped += u64::from(code < -scale || code > scale);
                    self.wav.write_sample(held as i32)?;
                }
            }
            WavEncoding::Float => {
                for sample in interleaved {
                    self.wav.write_sample(*sample as f32)?;
                }
            }
        }
        Ok(())
    }

    /// Ends the file and says how many samples lay beyond full scale and were cut to it.
    ///
    /// # Errors
    ///
    /// If the writer fails.
    pub fn finish(self) -> Result<u64, Error> {
        self.wav.finalize()?;
        Ok(self.clipped)
    }
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
    let mut sink = WavSink::new(writer, sample_rate_hz, channels.len(), encoding)?;
    let frames = channels.first().map_or(0, Vec::len);
    let mut interleaved = Vec::with_capacity(channels.len());
    for frame in 0..frames {
        interleaved.clear();
        let samples = channels.iter().map(|channel| channel.get(frame).copied().unwrap_or(0.0));
        interleaved.extend(samples.map(f64::from));
        sink.write(&interleaved)?;
    }
    sink.finish()?;
    Ok(())
}
