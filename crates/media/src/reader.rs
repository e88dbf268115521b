//! Opening a recording and reading it in blocks.

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::path::Path;

use crate::block::Block;
use crate::decoded::{self, DecodedReader};
use crate::error::Error;
use crate::info::{TakeInfo, check_info};
use crate::raw::RawFormat;
use crate::wav::WavReader;

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

    /// Hands the frames `start..end` to `take`, block by block; it may keep a block and leave
    /// another.
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
