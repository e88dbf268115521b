//! Recordings that come as a stream, read while they come.

use std::io::{ErrorKind, Read};

use crate::block::Block;
use crate::error::Error;
use crate::info::{TakeInfo, check_info};
use crate::raw::RawFormat;
use crate::wav::{Format, damaged, pass_over, read_exactly, u32_at};

/// Samples that come as a stream, read as they come.
///
/// The stream is a WAV file, whose header may state no length or a wrong one, or nothing but samples.
pub struct TakeStream<R> {
    stream: R,
    format: Format,
    info: TakeInfo,
    /// Bytes of data that are still to come, if their number is known.
    left: Option<u64>,
    bytes: Vec<u8>,
    /// Bytes of a frame of which the rest has not come yet.
    begun: usize,
}

impl<R: Read> TakeStream<R> {
    /// Reads the header of a WAV stream.
    ///
    /// # Errors
    ///
    /// If it is no WAV, or its header makes no sense.
    pub fn wav(mut stream: R) -> Result<Self, Error> {
        /// A stream without a sound would be read to its end.
        const LONGEST_CHUNK: u32 = 1 << 24;
        /// A length that could not be known is 0, or the largest there is.
        const LIKELY_UNKNOWN: u32 = 0x7FFF_0000;
        let mut head = [0; 12];
        let mut held = 0;
        while held < head.len() {
            match stream.read(&mut head[held..])? {
                0 if held == 0 => return Err(Error::Empty),
                0 => return Err(damaged("it ends inside its header")),
                count => held += count,
            }
            if held >= 4 && !matches!(&head[..4], b"RIFF" | b"RF64" | b"BW64") {
                let looks = "a stream is read as WAV, or as samples without a header if their \
                             format is stated"
                    .into();
                return Err(Error::Unknown { looks });
            }
        }
        let mut format = None;
        loop {
            let mut chunk = [0; 8];
            read_exactly(&mut stream, &mut chunk, "its header")?;
            let size = u32_at(&chunk, 4);
            match &chunk[..4] {
                b"fmt " => format = Some(Format::read(&mut stream, size)?),
                b"data" => {
                    let format =
                        format.ok_or_else(|| damaged("its data stand before their format"))?;
                    let left = Some(u64::from(size));
                    let left = left.filter(|_| size > 0 && size < LIKELY_UNKNOWN);
                    return Self::of(stream, format, "WAV", left);
                }
                _ if size > LONGEST_CHUNK => return Err(damaged("it has no sound data")),
                _ => pass_over(&mut stream, u64::from(size) + u64::from(size & 1))?,
            }
        }
    }

    /// A stream of nothing but samples.
    ///
    /// # Errors
    ///
    /// If the format makes no sense.
    pub fn raw(stream: R, raw: RawFormat) -> Result<Self, Error> {
        Self::of(stream, Format::of(raw), "raw", None)
    }

    fn of(
        stream: R,
        format: Format,
        container: &'static str,
        left: Option<u64>,
    ) -> Result<Self, Error> {
        let info = format.info(container);
        check_info(&info)?;
        Ok(Self { stream, format, info, left, bytes: Vec::new(), begun: 0 })
    }

    /// What the samples are.
    #[must_use]
    pub fn info(&self) -> &TakeInfo {
        &self.info
    }

    /// Waits for samples and fills `block` with those that have come, at most `frames` of them;
    /// `false` at the end of the stream.
    ///
    /// # Errors
    ///
    /// If the stream cannot be read on.
    pub fn read(&mut self, block: &mut Block, frames: usize) -> Result<bool, Error> {
        let frame_bytes = self.format.frame_bytes;
        loop {
            let most = (frames.max(1) * frame_bytes - self.begun) as u64;
            let most = self.left.map_or(most, |left| most.min(left)) as usize;
            self.bytes.resize(self.begun + most, 0);
            let count = match self.stream.read(&mut self.bytes[self.begun..]) {
                Err(error) if error.kind() == ErrorKind::Interrupted => continue,
                count => count?,
            };
            if count == 0 {
                return Ok(false);
            }
            self.left = self.left.map(|left| left - count as u64);
            let held = self.begun + count;
            let whole = held - held % frame_bytes;
            if whole == 0 {
                self.begun = held;
                continue;
            }
            let rest = self.bytes[whole..held].to_vec();
            self.format.decode(&mut self.bytes[..whole], block);
            self.bytes[..rest.len()].copy_from_slice(&rest);
            self.begun = rest.len();
            if self.info.bits_per_sample.is_none() {
                block.silence_not_finite();
            }
            return Ok(true);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::write::{WavEncoding, write_wav};
    use std::io::Cursor;

    /// Gives a few bytes at a time, never the same number twice.
    struct Trickling<'a> {
        bytes: &'a [u8],
        next: usize,
    }

    impl Read for Trickling<'_> {
        fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
            self.next = self.next % 23 + 1;
            let count = self.next.min(into.len()).min(self.bytes.len());
            into[..count].copy_from_slice(&self.bytes[..count]);
            self.bytes = &self.bytes[count..];
            Ok(count)
        }
    }

    fn all_of<R: Read>(stream: &mut TakeStream<R>) -> Vec<Vec<f32>> {
        let (mut block, mut all) = (Block::default(), vec![Vec::new(); stream.info().channels]);
        while stream.read(&mut block, 5).expect("read") {
            assert!((1..=5).contains(&block.frames()));
            for (all, channel) in all.iter_mut().zip(block.channels()) {
                all.extend_from_slice(channel);
            }
        }
        all
    }

    #[test]
    fn a_stream_gives_the_samples_of_its_file_however_they_come() {
        let channel =
            |sign: f32| -> Vec<f32> { (0..500).map(|n| sign * (n - 250) as f32 / 256.0).collect() };
        let channels = vec![channel(1.0), channel(-0.5)];
        for encoding in [WavEncoding::Integer(16), WavEncoding::Integer(24), WavEncoding::Float] {
            let mut file = Cursor::new(Vec::new());
            write_wav(&mut file, 44_100, &channels, encoding).expect("written");
            let bytes = file.into_inner();
            let mut stream = TakeStream::wav(Trickling { bytes: &bytes, next: 0 }).expect("a WAV");
            assert_eq!((stream.info().sample_rate_hz, stream.info().channels), (44_100.0, 2));
            assert_eq!(all_of(&mut stream), channels, "{encoding:?}");
            // A length that could not be known when the header was written.
            for unknown in [0u32, u32::MAX] {
                let mut bytes = bytes.clone();
                let data = bytes.windows(4).position(|four| four == b"data").expect("data");
                bytes[data + 4..data + 8].copy_from_slice(&unknown.to_le_bytes());
                let trickling = Trickling { bytes: &bytes, next: 5 };
                assert_eq!(all_of(&mut TakeStream::wav(trickling).expect("a WAV")), channels);
            }
        }
    }

    #[test]
    fn samples_without_a_header_are_read_as_stated() {
        let (coding, big_endian) = RawFormat::coding_named("s24be").expect("a coding");
        let raw = RawFormat {
            coding,
            big_endian,
            sample_rate_hz: 48_000.try_into().expect("a rate"),
            channels: 1.try_into().expect("a channel"),
        };
        let bytes = [0x40, 0, 0, 0xC0, 0, 0, 0, 0, 1, 0x7F];
        let mut stream = TakeStream::raw(Trickling { bytes: &bytes, next: 0 }, raw).expect("raw");
        assert_eq!(all_of(&mut stream), [[0.5, -0.5, 1.0 / 8_388_608.0]]);
    }

    #[test]
    fn what_is_no_stream_of_samples_is_refused() {
        for (bytes, said) in [
            (&b""[..], "empty"),
            (b"RIFF1234", "ends inside"),
            (b"fLaC and more", "WAV"),
            (b"RIFF\0\0\0\0WAVEdata\x08\0\0\0", "before their format"),
        ] {
            let error = TakeStream::wav(Trickling { bytes, next: 0 }).err().expect("refused");
            assert!(error.to_string().contains(said), "{error}");
        }
    }
}
