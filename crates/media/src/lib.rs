//! Audio files for Tone Map: read in streaming blocks, written whole; notes as MIDI files and scores.
//!
//! [`TakeReader::open`] recognises a file by its content, never by its name, and gives what its
//! header says ([`TakeInfo`]); [`TakeReader::read`] then fills one [`Block`] after another with
//! planar samples. A file of any length is read in the same memory.
//!
//! | format | how |
//! |---|---|
//! | WAV, RF64, BW64: integer PCM of 8 to 64 bits, float of 32 or 64 bits, extensible or not, any number of channels | own block reader: 2 to 3 times as fast as a general decoder, and it takes headers that state a wrong size |
//! | samples without a header, of which the rest is given ([`RawFormat`]) | the same block reader |
//! | FLAC, AIFF and AIFC, CAF, ALAC in MP4 | symphonia |
//! | Ogg Vorbis, MPEG audio layers 1 to 3, AAC in MP4 or ADTS: lossy | symphonia; encoder delay and padding are cut where the file states them |
//!
//! # Conventions
//!
//! - Integer samples of b bits are divided by 2^(b−1): full scale is 1, the largest positive code
//!   1 − 2^(1−b). Samples wider than 25 bits are rounded to `f32`.
//! - A sample that is not a number, or infinite, is read as 0 and counted
//!   ([`TakeReader::not_finite`]): nothing else in the program has to deal with it.
//! - A file that ends early gives what it has; [`TakeReader::missing_frames`] says how much it
//!   lacks.
//!
//! # Example
//!
//! ```
//! use std::fs::File;
//! use tonemap_media::{Block, TakeReader, WavEncoding, write_wav};
//!
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("door.wav");
//! write_wav(File::create(&path)?, 48_000, &[vec![0.0, 0.5, -0.25]], WavEncoding::Float)?;
//!
//! let mut reader = TakeReader::open(&path)?;
//! assert_eq!(reader.info().channels, 1);
//! let mut block = Block::default();
//! let mut peak = 0.0f32;
//! while reader.read(&mut block)? {
//!     peak = block.channel(0).iter().fold(peak, |peak, x| peak.max(x.abs()));
//! }
//! assert_eq!(peak, 0.5);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod ahead;
mod block;
mod decoded;
mod error;
mod flac;
mod info;
mod midi;
mod mp4;
mod musicxml;
mod raw;
mod reader;
mod sdif;
mod stream;
mod wav;
mod write;

pub use block::Block;
pub use error::Error;
pub use flac::flac_file;
pub use info::TakeInfo;
pub use midi::{MidiNote, midi_file};
pub use musicxml::{Score, ScoreNote, ScoreStaff, musicxml_file};
pub use raw::{RawCoding, RawFormat};
pub use reader::TakeReader;
pub use sdif::{SdifFrame, SdifKind, SdifPartial, read_sdif, sdif_file};
pub use stream::TakeStream;
pub use write::{WavEncoding, WavSink, write_wav};
