//! Opening a recording and reading it in blocks.

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::path::Path;

use crate::block::Block;
use crate::decoded::{self, DecodedReader};
use crate::error::Error;
use crate::raw::RawFormat;
use crate::wav::WavReader;

/// Channels read at most. A header that states more is likely to lie, and each costs memory.
const MOST_CHANNELS: usize = 256;

/// Highest sample rate that is read, in Hz: far above any converter's. Frames are as long as the rate
/// says, so that a header that lies would ask for any amount of memory.
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
fn check_info(info: &TakeInfo) -> Result<(), Error> {
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
    /// Frames that can be read, where the header or the size of the file tells.
    pub frames: Option<u64>,
    /// Frames that the header states but the file does not hold.
    pub missing_frames: u64,
    /// Bytes after the sound that belong to no part of the format: the stated size may be wrong.
    pub stray_bytes: u64,
}

/// A source of decoded blocks.
enum Source {
    Wav(WavReader),
    Decoded(Box<DecodedReader>),
}

/// Reads one recording from its beginning to its end.
pub struct TakeReader {
    info: TakeInfo,
    source: Source,
    position: u64,
    not_finite: u64,
}

impl TakeReader {
    /// Opens a recording and reads its header.
    ///
    /// # Errors
    ///
    /// If there is no such file, if it is none that can be read, or if its header makes no sense.
    pub fn open(path: &Path) -> Result<Self, Error> {
        let mut file = open_file(path)?;
        let mut start = Vec::with_capacity(64);
        Read::by_ref(&mut file).take(64).read_to_end(&mut start)?;
        file.seek(SeekFrom::Start(0))?;
        let (source, info) = match start.get(..4) {
            Some(b"RIFF" | b"RF64" | b"BW64") => {
                let (reader, info) = WavReader::new(file)?;
                (Source::Wav(reader), info)
            }
            _ if start.is_empty() => return Err(Error::Empty),
            _ => {
                let container = decoded::container(&start)
                    .ok_or_else(|| Error::Unknown { looks: looks_like(&start) })?;
                let (reader, info) = DecodedReader::new(file, container)?;
                (Source::Decoded(Box::new(reader)), info)
            }
        };
        check_info(&info)?;
        Ok(Self { info, source, position: 0, not_finite: 0 })
    }

    /// Opens a file that is nothing but samples.
    ///
    /// # Errors
    ///
    /// If there is no such file.
    pub fn open_raw(path: &Path, format: RawFormat) -> Result<Self, Error> {
        let (reader, info) = WavReader::raw(open_file(path)?, format)?;
        check_info(&info)?;
        Ok(Self { info, source: Source::Wav(reader), position: 0, not_finite: 0 })
    }

    /// What the header says.
    #[must_use]
    pub fn info(&self) -> &TakeInfo {
        &self.info
    }

    /// Frames read so far.
    #[must_use]
    pub fn position(&self) -> u64 {
        self.position
    }

    /// Samples read so far that were not finite and were replaced by 0.
    #[must_use]
    pub fn not_finite(&self) -> u64 {
        self.not_finite
    }

    /// Frames that the header states but the file does not hold. Once all has been read this is
    /// sure for every format.
    #[must_use]
    pub fn missing_frames(&self) -> u64 {
        self.info.missing_frames
    }

    /// Fills `block` with the next frames; `false` at the end.
    ///
    /// # Errors
    ///
    /// If the file cannot be read on or its coding is damaged.
    pub fn read(&mut self, block: &mut Block) -> Result<bool, Error> {
        let more = match &mut self.source {
            Source::Wav(reader) => reader.read(block)?,
            Source::Decoded(reader) => reader.read(block)?,
        };
        if more {
            self.position += block.frames() as u64;
            if self.info.bits_per_sample.is_none() {
                self.not_finite += block.silence_not_finite();
            }
        } else if let Some(stated) = self.info.frames {
            self.info.missing_frames =
                self.info.missing_frames.max(stated.saturating_sub(self.position));
        }
        Ok(more)
    }

    /// Hands the frames `start..end` to `take`, block by block; it may keep a block and leave another.
    ///
    /// # Errors
    ///
    /// As [`read`](Self::read).
    ///
    /// # Panics
    ///
    /// If frames after `start` have been read already.
    pub fn for_span(
        &mut self,
        start: u64,
        end: u64,
        mut take: impl FnMut(&mut Block),
    ) -> Result<(), Error> {
        assert!(self.position <= start, "the reader only goes forward");
        if let Source::Wav(reader) = &mut self.source {
            reader.skip_to(start)?;
            self.position = start;
        }
        let mut block = Block::default();
        while self.position < end && self.read(&mut block)? {
            let after = self.position;
            let before = after - block.frames() as u64;
            if after <= start {
                continue;
            }
            let first = start.saturating_sub(before) as usize;
            let last = (end.min(after) - before) as usize;
            if first > 0 || after > end {
                block.keep(first, last);
            }
            take(&mut block);
        }
        Ok(())
    }
}

fn open_file(path: &Path) -> Result<File, Error> {
    let file = File::open(path).map_err(|error| match error.kind() {
        ErrorKind::NotFound => Error::NotFound,
        _ => Error::Io(error),
    })?;
    if file.metadata()?.is_dir() { Err(Error::Folder) } else { Ok(file) }
}

/// What unknown content looks like, for an error.
fn looks_like(start: &[u8]) -> String {
    let printable = |byte: &u8| byte.is_ascii_graphic() || byte.is_ascii_whitespace();
    if start.iter().all(printable) {
        let words: String = start.iter().take(24).map(|byte| char::from(*byte)).collect();
        format!("it is text that begins \"{}\"", words.escape_debug())
    } else {
        "its first bytes are those of no format known here".into()
    }
}
