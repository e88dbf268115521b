//! WAV files in all their forms (RIFF, and RF64 or BW64 beyond 4 GiB), integer and float.
//!
//! Sources: "Multimedia Programming Interface and Data Specifications 1.0" (1991) for RIFF/WAVE,
//! EBU Tech 3306 v1.1 (2009) for RF64, ITU-R BS.2088-1 (2019) for BW64.

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};

use crate::block::Block;
use crate::error::Error;
use crate::info::TakeInfo;
use crate::raw::{RawCoding, RawFormat};

const FORMAT: &str = "WAV";
/// Bytes read at a time: big enough to cost no time, small enough to stay in the cache.
const BYTES_PER_READ: usize = 1 << 17;
/// Format tags.
const PCM: u16 = 1;
const IEEE_FLOAT: u16 = 3;
const EXTENSIBLE: u16 = 0xFFFE;
/// A size that a stream could not know when it was written.
const UNKNOWN_SIZE: u32 = u32::MAX;

/// How one sample is stored.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Coding {
    /// Unsigned with 128 in the middle.
    Unsigned8,
    /// Signed, little-endian, in this many bytes; narrower samples are left-justified.
    Signed(usize),
    Float32,
    Float64,
}

/// The `fmt ` chunk.
pub(crate) struct Format {
    coding: Coding,
    bits: u16,
    channels: u16,
    sample_rate: u32,
    pub(crate) frame_bytes: usize,
    big_endian: bool,
}

/// Reads blocks from the data chunk.
pub(crate) struct WavReader {
    file: File,
    format: Format,
    data_start: u64,
    /// Frames of the data chunk that are in the file, and how many have been read.
    frames: u64,
    position: u64,
    bytes: Vec<u8>,
}

pub(crate) fn damaged(what: impl Into<String>) -> Error {
    Error::Damaged { format: FORMAT, what: what.into() }
}

fn u16_at(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

pub(crate) fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

/// Fills `bytes`, or says that the file ends inside `what`.
pub(crate) fn read_exactly(
    file: &mut impl Read,
    bytes: &mut [u8],
    what: &str,
) -> Result<(), Error> {
    file.read_exact(bytes).map_err(|error| match error.kind() {
        ErrorKind::UnexpectedEof => damaged(format!("it ends inside {what}")),
        _ => Error::Io(error),
    })
}

impl WavReader {
    /// A file that is nothing but samples.
    pub(crate) fn raw(file: File, raw: RawFormat) -> Result<(Self, TakeInfo), Error> {
        let file_bytes = file.metadata()?.len();
        let format = Format::of(raw);
        let stray_bytes = file_bytes % format.frame_bytes as u64;
        let (reader, info) = Self::at_data(file, format, "raw", Some(file_bytes), file_bytes)?;
        Ok((reader, TakeInfo { stray_bytes, ..info }))
    }

    pub(crate) fn new(mut file: File) -> Result<(Self, TakeInfo), Error> {
        let file_bytes = file.metadata()?.len();
        let mut head = [0; 12];
        read_exactly(&mut file, &mut head, "its header")?;
        if &head[8..] != b"WAVE" {
            return Err(Error::Unknown {
                looks: "it is a RIFF file but holds no WAVE sound".into(),
            });
        }
        let container = match &head[..4] {
            b"RF64" => "RF64",
            b"BW64" => "BW64",
            _ => "WAV",
        };
        let mut format = None;
        let mut long_data_bytes = None;
        loop {
            let mut chunk = [0; 8];
            if file_bytes.saturating_sub(file.stream_position()?) < 8 {
                return Err(damaged("it has no sound data"));
            }
            read_exactly(&mut file, &mut chunk, "its header")?;
            let size = u32_at(&chunk, 4);
            match &chunk[..4] {
                b"fmt " => format = Some(Format::read(&mut file, size)?),
                b"ds64" => {
                    let mut sizes = [0; 24];
                    if size < 24 {
                        return Err(damaged("its table of long sizes is cut short"));
                    }
                    read_exactly(&mut file, &mut sizes, "its table of long sizes")?;
                    long_data_bytes =
                        Some(u64::from(u32_at(&sizes, 8)) | u64::from(u32_at(&sizes, 12)) << 32);
                    skip(&mut file, u64::from(size) - 24 + u64::from(size & 1))?;
                }
                b"data" => {
                    let format =
                        format.ok_or_else(|| damaged("its data stand before their format"))?;
                    let stated = match (size, long_data_bytes) {
                        (UNKNOWN_SIZE, long) => long,
                        (size, _) => Some(u64::from(size)),
                    };
                    return Self::at_data(file, format, container, stated, file_bytes);
                }
                _ => skip(&mut file, u64::from(size) + u64::from(size & 1))?,
            }
        }
    }

    /// The file stands at the first byte of the data.
    fn at_data(
        mut file: File,
        format: Format,
        container: &'static str,
        stated_bytes: Option<u64>,
        file_bytes: u64,
    ) -> Result<(Self, TakeInfo), Error> {
        let data_start = file.stream_position()?;
        let held = file_bytes - data_start;
        // A recorder that stopped without finishing leaves a size of 0.
        let stated = stated_bytes.filter(|stated| *stated > 0).unwrap_or(held);
        let available = stated.min(held);
        let frame_bytes = format.frame_bytes as u64;
        let stray_bytes = held - available;
        let stray_bytes = if follows_chunk(&mut file, data_start + available, stray_bytes)? {
            0
        } else {
            stray_bytes
        };
        file.seek(SeekFrom::Start(data_start))?;
        let frames = available / frame_bytes;
        let info = TakeInfo {
            frames: Some(frames),
            missing_frames: (stated / frame_bytes).saturating_sub(frames),
            stray_bytes,
            ..format.info(container)
        };
        Ok((Self { file, format, data_start, frames, position: 0, bytes: Vec::new() }, info))
    }

    /// Continues at a frame, or at the end if that comes first.
    pub(crate) fn skip_to(&mut self, frame: u64) -> Result<(), Error> {
        self.position = frame.min(self.frames);
        let offset = self.position * self.format.frame_bytes as u64;
        self.file.seek(SeekFrom::Start(self.data_start + offset))?;
        Ok(())
    }

    pub(crate) fn read(&mut self, block: &mut Block) -> Result<bool, Error> {
        let frame_bytes = self.format.frame_bytes;
        let most = (BYTES_PER_READ / frame_bytes).max(1) as u64;
        let frames = most.min(self.frames - self.position) as usize;
        if frames == 0 {
            return Ok(false);
        }
        self.bytes.resize(frames * frame_bytes, 0);
        read_exactly(&mut self.file, &mut self.bytes, "its sound data")?;
        self.position += frames as u64;
        self.format.decode(&mut self.bytes, block);
        Ok(true)
    }
}

impl Format {
    /// Of samples without a header.
    pub(crate) fn of(raw: RawFormat) -> Self {
        let (coding, width) = match raw.coding {
            RawCoding::Unsigned8 => (Coding::Unsigned8, 1),
            RawCoding::Signed { bytes } => (Coding::Signed(bytes), bytes),
            RawCoding::Float { bytes: 4 } => (Coding::Float32, 4),
            RawCoding::Float { .. } => (Coding::Float64, 8),
        };
        Self {
            coding,
            bits: 8 * width as u16,
            channels: raw.channels.get(),
            sample_rate: raw.sample_rate_hz.get(),
            frame_bytes: width * usize::from(raw.channels.get()),
            big_endian: raw.big_endian,
        }
    }

    /// Turns the bytes of whole frames into samples; what is left in `bytes` is of no use.
    pub(crate) fn decode(&self, bytes: &mut [u8], block: &mut Block) {
        if self.big_endian {
            let width = self.frame_bytes / usize::from(self.channels);
            bytes.chunks_exact_mut(width).for_each(<[u8]>::reverse);
        }
        let frames = bytes.len() / self.frame_bytes;
        let channels = block.resize(usize::from(self.channels), frames);
        decode(bytes, self.frame_bytes, self.coding, channels);
    }

    /// What its samples are, beside how many.
    pub(crate) fn info(&self, container: &'static str) -> TakeInfo {
        let is_float = matches!(self.coding, Coding::Float32 | Coding::Float64);
        let name = if is_float { "float" } else { "PCM" };
        TakeInfo {
            container,
            codec: format!("{name} {}-bit", self.bits),
            lossy_codec: false,
            sample_rate_hz: f64::from(self.sample_rate),
            bits_per_sample: (!is_float).then_some(u32::from(self.bits)),
            channels: usize::from(self.channels),
            frames: None,
            missing_frames: 0,
            stray_bytes: 0,
        }
    }

    /// Reads the chunk of `size` bytes at which the file stands.
    pub(crate) fn read(file: &mut impl Read, size: u32) -> Result<Self, Error> {
        const LONGEST: u32 = 40;
        if size < 16 {
            return Err(damaged("its format chunk is cut short"));
        }
        let mut bytes = [0; LONGEST as usize];
        let known = size.min(LONGEST);
        read_exactly(file, &mut bytes[..known as usize], "its format chunk")?;
        pass_over(file, u64::from(size - known) + u64::from(size & 1))?;
        let (channels, sample_rate) = (u16_at(&bytes, 2), u32_at(&bytes, 4));
        let (frame_bytes, container_bits) = (u16_at(&bytes, 12), u16_at(&bytes, 14));
        let (tag, bits) = match u16_at(&bytes, 0) {
            // The true tag opens the sub-format; valid bits of 0 mean: all.
            EXTENSIBLE if known == LONGEST => match u16_at(&bytes, 18) {
                0 => (u16_at(&bytes, 24), container_bits),
                valid => (u16_at(&bytes, 24), valid.min(container_bits)),
            },
            tag => (tag, container_bits),
        };
        if channels == 0 {
            return Err(damaged("its header states 0 channels"));
        }
        if sample_rate == 0 {
            return Err(damaged("its header states a sample rate of 0 Hz"));
        }
        if frame_bytes == 0 || frame_bytes % channels != 0 {
            return Err(damaged(format!(
                "its header states frames of {frame_bytes} bytes for {channels} channels"
            )));
        }
        let width = usize::from(frame_bytes / channels);
        let coding = match (tag, width) {
            (PCM, 1) => Coding::Unsigned8,
            (PCM, 2..=8) => Coding::Signed(width),
            (IEEE_FLOAT, 4) => Coding::Float32,
            (IEEE_FLOAT, 8) => Coding::Float64,
            (PCM | IEEE_FLOAT, _) => {
                return Err(Error::Unsupported {
                    format: FORMAT,
                    what: format!("samples of {width} bytes"),
                });
            }
            _ => {
                return Err(Error::Unsupported {
                    format: FORMAT,
                    what: format!("sound in the coding 0x{tag:04X}"),
                });
            }
        };
        if bits == 0 || usize::from(bits) > 8 * width {
            return Err(damaged(format!("its header states {bits} bits in {width} bytes")));
        }
        let frame_bytes = usize::from(frame_bytes);
        Ok(Self { coding, bits, channels, sample_rate, frame_bytes, big_endian: false })
    }
}

/// The same where nothing can be skipped.
pub(crate) fn pass_over(stream: &mut impl Read, bytes: u64) -> Result<(), Error> {
    std::io::copy(&mut stream.take(bytes), &mut std::io::sink())?;
    Ok(())
}

fn skip(file: &mut File, bytes: u64) -> Result<(), Error> {
    let bytes = i64::try_from(bytes).map_err(|_| damaged("a part of it states an absurd size"))?;
    file.seek(SeekFrom::Current(bytes))?;
    Ok(())
}

/// Whether the bytes after the data are more chunks, or nothing but padding.
fn follows_chunk(file: &mut File, position: u64, bytes: u64) -> Result<bool, Error> {
    if bytes < 8 {
        return Ok(true);
    }
    file.seek(SeekFrom::Start(position))?;
    let mut start = [0; 9];
    let read = file.read(&mut start)?;
    // Chunks begin at even positions.
    let chunk = start.get((position % 2) as usize..).and_then(|rest| rest.get(..4));
    Ok(read < 8 || chunk.is_some_and(|id| id.iter().all(|byte| (b' '..=b'~').contains(byte))))
}

/// Takes interleaved bytes apart into planar samples.
fn decode(bytes: &[u8], frame_bytes: usize, coding: Coding, channels: &mut [Vec<f32>]) {
    /// One pass a channel: `sample` turns WIDTH bytes into a sample.
    fn planes<const WIDTH: usize>(
        bytes: &[u8],
        frame_bytes: usize,
        channels: &mut [Vec<f32>],
        sample: impl Fn([u8; WIDTH]) -> f32,
    ) {
        for (channel, plane) in channels.iter_mut().enumerate() {
            let frames = bytes.chunks_exact(frame_bytes);
            for (value, frame) in plane.iter_mut().zip(frames) {
                let mut stored = [0; WIDTH];
                stored.copy_from_slice(&frame[channel * WIDTH..][..WIDTH]);
                *value = sample(stored);
            }
        }
    }
    const SCALE_16: f32 = 1.0 / 32_768.0;
    const SCALE_32: f64 = 1.0 / 2_147_483_648.0;
    match coding {
        Coding::Unsigned8 => {
            planes(bytes, frame_bytes, channels, |[b]: [u8; 1]| (f32::from(b) - 128.0) / 128.0);
        }
        Coding::Signed(2) => planes(bytes, frame_bytes, channels, |stored: [u8; 2]| {
            f32::from(i16::from_le_bytes(stored)) * SCALE_16
        }),
        Coding::Signed(3) => planes(bytes, frame_bytes, channels, |[a, b, c]: [u8; 3]| {
            // In the upper three bytes the sign stands where i32 has it; 24 bits fit f32 exactly.
            (i32::from_le_bytes([0, a, b, c]) >> 8) as f32 * (1.0 / 8_388_608.0)
        }),
        Coding::Signed(4) => planes(bytes, frame_bytes, channels, |stored: [u8; 4]| {
            (f64::from(i32::from_le_bytes(stored)) * SCALE_32) as f32
        }),
        Coding::Signed(width) => {
            // Rare widths share one slow loop.
            for (channel, plane) in channels.iter_mut().enumerate() {
                for (value, frame) in plane.iter_mut().zip(bytes.chunks_exact(frame_bytes)) {
                    let mut stored = [0; 8];
                    stored[8 - width..].copy_from_slice(&frame[channel * width..][..width]);
                    *value = (i64::from_le_bytes(stored) as f64 / 2f64.powi(63)) as f32;
                }
            }
        }
        Coding::Float32 => planes(bytes, frame_bytes, channels, f32::from_le_bytes),
        Coding::Float64 => planes(bytes, frame_bytes, channels, |stored: [u8; 8]| {
            f64::from_le_bytes(stored) as f32
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_width_puts_its_codes_on_the_same_scale() {
        // −1, −½, 0, ½ in each coding.
        for width in 2..=8 {
            let mut bytes = Vec::new();
            for quarter in [-2i64, -1, 0, 1] {
                let code = (quarter << 62).to_le_bytes();
                bytes.extend_from_slice(&code[8 - width..]);
            }
            let mut planes = vec![vec![0.0; 2]; 2];
            decode(&bytes, 2 * width, Coding::Signed(width), &mut planes);
            assert_eq!(planes, [[-1.0, 0.0], [-0.5, 0.5]], "{width} bytes");
        }
        let mut planes = vec![vec![0.0; 3]];
        decode(&[0, 128, 192], 1, Coding::Unsigned8, &mut planes);
        assert_eq!(planes[0], [-1.0, 0.0, 0.5]);
        let mut planes = vec![vec![0.0; 1]];
        decode(&0.25f64.to_le_bytes(), 8, Coding::Float64, &mut planes);
        assert_eq!(planes[0], [0.25]);
        let mut planes = vec![vec![0.0; 1]];
        decode(&[0xFF, 0xFF, 0x7F], 3, Coding::Signed(3), &mut planes);
        assert_eq!(planes[0], [8_388_607.0 / 8_388_608.0]);
    }
}
