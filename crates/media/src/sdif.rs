//! Partial tracks in the Sound Description Interchange Format (M. Wright et al., 1999; version 3 of
//! its frames): frames 1HRM for the partials of a harmonic sound, 1TRC for others.
//!
//! All numbers are big-endian. A file begins with the frame `SDIF`; each frame has four letters,
//! its size, a time in seconds, the number of its stream and of its matrices; each matrix four
//! letters, the type of its numbers, its rows and columns, and the numbers row by row, filled up to
//! a multiple of eight bytes. Here a row is a partial: its index (in 1HRM the number of the
//! harmonic), frequency in Hz, amplitude and phase of a cosine in radians, all as 64-bit floats, so
//! that what is read is what was written to the bit.

use crate::error::Error;

/// Which kind of partials a file holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SdifKind {
    /// Near harmonics, counted by their numbers: frames 1HRM.
    Harmonic,
    /// Any others: frames 1TRC.
    Free,
}

/// A partial at one time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SdifPartial {
    /// What distinguishes it from the others: the same at all times.
    pub index: u32,
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Amplitude re full scale.
    pub amplitude: f64,
    /// Phase of a cosine in radians.
    pub phase_rad: f64,
}

/// The partials at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct SdifFrame {
    /// Time in seconds.
    pub time_s: f64,
    /// The partials that sound.
    pub partials: Vec<SdifPartial>,
}

const VERSION: u32 = 3;
const TYPES_VERSION: u32 = 1;
const FLOAT_32: u32 = 0x4;
const FLOAT_64: u32 = 0x8;
const COLUMNS: u32 = 4;
/// Bytes of a matrix before its numbers, and of a frame between its size and its matrices.
const MATRIX_HEAD: usize = 16;
const FRAME_HEAD: usize = 16;

impl SdifKind {
    fn signature(self) -> [u8; 4] {
        match self {
            Self::Harmonic => *b"1HRM",
            Self::Free => *b"1TRC",
        }
    }
}

/// The file of frames.
#[must_use]
pub fn sdif_file(kind: SdifKind, frames: &[SdifFrame]) -> Vec<u8> {
    let mut bytes = Vec::new();
    bytes.extend(b"SDIF");
    for number in [8, VERSION, TYPES_VERSION] {
        bytes.extend(number.to_be_bytes());
    }
    for frame in frames {
        let numbers = 8 * COLUMNS as usize * frame.partials.len();
        let size = FRAME_HEAD + MATRIX_HEAD + numbers;
        bytes.extend(kind.signature());
        bytes.extend((size as u32).to_be_bytes());
        bytes.extend(frame.time_s.to_be_bytes());
        let (stream, matrices) = (0u32, 1u32);
        bytes.extend(stream.to_be_bytes());
        bytes.extend(matrices.to_be_bytes());
        bytes.extend(kind.signature());
        for number in [FLOAT_64, frame.partials.len() as u32, COLUMNS] {
            bytes.extend(number.to_be_bytes());
        }
        for partial in &frame.partials {
            let row = [
                f64::from(partial.index),
                partial.frequency_hz,
                partial.amplitude,
                partial.phase_rad,
            ];
            bytes.extend(row.iter().flat_map(|value| value.to_be_bytes()));
        }
    }
    bytes
}

/// Reads the partials of a file; frames and matrices of other kinds are passed over.
///
/// # Errors
///
/// [`Error::Unknown`] if it is no such file, [`Error::Damaged`] if it breaks the rules of the
/// format, [`Error::Unsupported`] if it holds no partials, or both kinds.
pub fn read_sdif(bytes: &[u8]) -> Result<(SdifKind, Vec<SdifFrame>), Error> {
    let mut file = Bytes { rest: bytes };
    if file.take(4).ok() != Some(b"SDIF") {
        return Err(Error::Unknown { looks: "it does not begin as an SDIF file does".into() });
    }
    let size = file.u32()? as usize;
    file.take(size)?;
    let mut kind = None;
    let mut frames = Vec::new();
    while !file.rest.is_empty() {
        let signature = file.take(4)?;
        let size = file.u32()? as usize;
        let mut frame = Bytes { rest: file.take(size)? };
        let this = match signature {
            b"1HRM" => SdifKind::Harmonic,
            b"1TRC" => SdifKind::Free,
            _ => continue,
        };
        if *kind.get_or_insert(this) != this {
            let what = "harmonic and other partials (1HRM and 1TRC) side by side".into();
            return Err(Error::Unsupported { format: "SDIF", what });
        }
        let time_s = frame.f64()?;
        if !time_s.is_finite() {
            return Err(damaged("the time of a frame is no number"));
        }
        frame.u32()?;
        for _ in 0..frame.u32()? {
            if let Some(partials) = matrix(&mut frame, this)? {
                frames.push(SdifFrame { time_s, partials });
            }
        }
    }
    let kind = kind.ok_or_else(|| Error::Unsupported {
        format: "SDIF",
        what: "no partials (frames 1HRM or 1TRC)".into(),
    })?;
    Ok((kind, frames))
}

/// The partials of a matrix; `None` if it is of another kind.
fn matrix(frame: &mut Bytes<'_>, kind: SdifKind) -> Result<Option<Vec<SdifPartial>>, Error> {
    let signature = frame.take(4)?;
    let (coding, rows, columns) = (frame.u32()?, frame.u32()?, frame.u32()?);
    let width = u64::from(coding & 0xff);
    let length = u64::from(rows).checked_mul(u64::from(columns)).and_then(|n| n.checked_mul(width));
    let filled = length.and_then(|length| length.checked_next_multiple_of(8));
    let filled = filled.and_then(|length| usize::try_from(length).ok());
    let mut numbers = Bytes { rest: frame.take(filled.unwrap_or(usize::MAX))? };
    if signature != kind.signature() {
        return Ok(None);
    }
    if columns < COLUMNS || (coding != FLOAT_32 && coding != FLOAT_64) {
        let what = format!("partials as {columns} columns of the type {coding:#x}");
        return Err(Error::Unsupported { format: "SDIF", what });
    }
    let mut partials = Vec::new();
    for _ in 0..rows {
        let mut row = [0.0; COLUMNS as usize];
        for column in 0..columns as usize {
            let value = if coding == FLOAT_32 { numbers.f32()?.into() } else { numbers.f64()? };
            if let Some(place) = row.get_mut(column) {
                *place = value;
            }
        }
        let [index, frequency_hz, amplitude, phase_rad] = row;
        let is_index = (0.0..=f64::from(u32::MAX)).contains(&index) && index.fract() == 0.0;
        if !is_index || !row.iter().all(|value| value.is_finite()) {
            return Err(damaged("a partial has a value that is no number"));
        }
        partials.push(SdifPartial { index: index as u32, frequency_hz, amplitude, phase_rad });
    }
    Ok(Some(partials))
}

fn damaged(what: &str) -> Error {
    Error::Damaged { format: "SDIF", what: what.into() }
}

/// Bytes that are taken from the front.
struct Bytes<'a> {
    rest: &'a [u8],
}

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], Error> {
        let (taken, rest) = (self.rest.split_at_checked(count))
            .ok_or_else(|| damaged("it ends within a frame, or a size in it is wrong"))?;
        self.rest = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Error> {
        let taken = self.take(N)?;
        taken.try_into().map_err(|_| damaged("it ends within a number"))
    }

    fn u32(&mut self) -> Result<u32, Error> {
        Ok(u32::from_be_bytes(self.array()?))
    }

    fn f32(&mut self) -> Result<f32, Error> {
        Ok(f32::from_be_bytes(self.array()?))
    }

    fn f64(&mut self) -> Result<f64, Error> {
        Ok(f64::from_be_bytes(self.array()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frames() -> Vec<SdifFrame> {
        let partial = |n: u32, m: u32| SdifPartial {
            index: n,
            frequency_hz: 110.1 * f64::from(n) + f64::from(m).sin(),
            amplitude: 0.3 / f64::from(n + m),
            phase_rad: (f64::from(n) * 0.7 + f64::from(m)).cos(),
        };
        (0..20u32)
            .map(|m| SdifFrame {
                time_s: 0.1 + f64::from(m) / 300.0,
                partials: (1..=m % 5).map(|n| partial(n, m)).collect(),
            })
            .collect()
    }

    #[test]
    fn what_is_written_is_read_to_the_bit() {
        for kind in [SdifKind::Harmonic, SdifKind::Free] {
            let bytes = sdif_file(kind, &frames());
            let (read_kind, read) = read_sdif(&bytes).expect("read");
            assert_eq!((read_kind, &read), (kind, &frames()));
            assert_eq!(sdif_file(read_kind, &read), bytes);
        }
    }

    #[test]
    fn narrower_numbers_more_columns_and_other_frames_are_read() {
        let mut bytes = sdif_file(SdifKind::Free, &[]);
        bytes.extend(b"1NVT");
        bytes.extend(8u32.to_be_bytes());
        bytes.extend([7; 8]);
        bytes.extend(b"1TRC");
        bytes.extend((16u32 + 16 + 24).to_be_bytes());
        bytes.extend(1.5f64.to_be_bytes());
        for number in [3u32, 1] {
            bytes.extend(number.to_be_bytes());
        }
        bytes.extend(b"1TRC");
        for number in [FLOAT_32, 1, 5] {
            bytes.extend(number.to_be_bytes());
        }
        for value in [2.0f32, 440.0, 0.5, 0.25, 9.0, 0.0] {
            bytes.extend(value.to_be_bytes());
        }
        let (_, read) = read_sdif(&bytes).expect("read");
        assert_eq!(read.len(), 1);
        let expected =
            SdifPartial { index: 2, frequency_hz: 440.0, amplitude: 0.5, phase_rad: 0.25 };
        assert_eq!((read[0].time_s, read[0].partials[0]), (1.5, expected));
    }

    #[test]
    fn damaged_files_are_refused_and_nothing_panics() {
        let whole = sdif_file(SdifKind::Harmonic, &frames());
        let frame_ends = |length: usize| read_sdif(&whole[..length]).is_ok();
        // Only between frames can a file end unnoticed.
        let whole_frames = (0..whole.len()).filter(|length| frame_ends(*length)).count();
        assert_eq!(whole_frames, 19);
        let mut state = 1u64;
        for _ in 0..20_000 {
            let mut bytes = whole.clone();
            for _ in 0..3 {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(99);
                let place = (state >> 33) as usize % bytes.len();
                bytes[place] = (state >> 20) as u8;
            }
            if let Err(error) = read_sdif(&bytes) {
                assert!(error.to_string().contains("SDIF"), "{error}");
            }
        }
        assert!(read_sdif(b"RIFF").is_err() && read_sdif(b"").is_err());
    }
}
