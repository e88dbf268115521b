//! Sound out: takes that commands write, as WAV.

use std::fs::File;
use std::io::{BufWriter, Seek};
use std::path::PathBuf;
use std::str::FromStr;

use anyhow::{Result, bail};
use clap::Args;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::Error;
use tonemap_core::units::{amplitude_from_db, db_from_amplitude, db_from_power};
use tonemap_media::{WavEncoding, WavSink};

use crate::args::Format;
use crate::files::{self, Content};
use crate::text;

/// Where a take goes, and how it is coded.
#[derive(Args, Clone)]
#[command(next_help_heading = "Output")]
pub(crate) struct SoundArgs {
    /// Take to write: FILE.wav
    #[arg(long, short, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Bits of a sample: 8, 16, 24 or 32, or float for 32-bit floating point
    #[arg(long, value_name = "BITS", default_value = "float")]
    pub(crate) bits: Bits,
    /// Add noise of half a bit before rounding, so that what is lost is noise and not distortion
    #[arg(long)]
    pub(crate) dither: bool,
    /// Form of the account of what was written
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Replace files that exist already
    #[arg(long, help_heading = "Files")]
    pub(crate) force: bool,
    /// Print nothing but the result
    #[arg(long, short, help_heading = "Messages")]
    pub(crate) quiet: bool,
}

/// Bits of a sample as typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Bits(pub(crate) WavEncoding);

impl FromStr for Bits {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match (text, text.parse()) {
            ("float", _) => Ok(Self(WavEncoding::Float)),
            (_, Ok(bits @ (8 | 16 | 24 | 32))) => Ok(Self(WavEncoding::Integer(bits))),
            _ => Err(Error::Unreadable {
                given: text.into(),
                wanted: "a number of bits",
                forms: "16, 24, 32 or float",
            }),
        }
    }
}

impl Bits {
    /// In words.
    pub(crate) fn words(self) -> String {
        match self.0 {
            WavEncoding::Integer(bits) => format!("{bits} bits"),
            WavEncoding::Float => "32-bit float".into(),
        }
    }

    fn bytes(self) -> u64 {
        match self.0 {
            WavEncoding::Integer(bits) => u64::from(bits) / 8,
            WavEncoding::Float => 4,
        }
    }
}

/// Levels of a take that was written, and the hash of its file.
#[derive(Debug, Clone, serde::Serialize)]
pub(crate) struct Levels {
    /// Greatest sample in dB re full scale.
    pub(crate) peak_dbfs: Option<f64>,
    /// RMS re that of a full-scale sine.
    pub(crate) rms_dbfs: Option<f64>,
    pub(crate) blake3: String,
}

/// A take that is being written.
pub(crate) struct Sound<'a> {
    sink: WavSink<BufWriter<&'a mut File>>,
    /// Half a code, and where its noise comes from.
    dither: Option<(f64, ChaCha8Rng)>,
    dithered: Vec<f64>,
    peak: f64,
    squares: f64,
    samples: u64,
}

impl Sound<'_> {
    /// Appends samples, one of each channel after the other.
    pub(crate) fn write(&mut self, interleaved: &[f64]) -> Result<()> {
        for x in interleaved {
            self.peak = self.peak.max(x.abs());
            self.squares += x * x;
        }
        self.samples += interleaved.len() as u64;
        let Some((code, random)) = &mut self.dither else {
            return Ok(self.sink.write(interleaved)?);
        };
        self.dithered.clear();
        // Two noises of one code each make a triangular one: its power does not follow the sound.
        self.dithered.extend(
            interleaved
                .iter()
                .map(|x| x + *code * (random.random::<f64>() + random.random::<f64>() - 1.0)),
        );
        Ok(self.sink.write(&self.dithered)?)
    }
}

/// Writes a take of `frames` samples in each channel; `fill` writes the samples. A take that would
/// clip is not written.
pub(crate) fn write_sound(
    args: &SoundArgs,
    sample_rate_hz: f64,
    channels: usize,
    frames: u64,
    fill: impl FnOnce(&mut Sound<'_>) -> Result<()>,
) -> Result<Levels> {
    const MOST_BYTES: u64 = u32::MAX as u64 - 1024;
    if frames * channels as u64 * args.bits.bytes() > MOST_BYTES {
        bail!(
            "{}: the take would be larger than 4 GiB, which a WAV file cannot hold; take a shorter \
             span or fewer channels",
            files::shown(&args.output)
        );
    }
    files::write_by(&args.output, Content::Sound, args.force, |file| {
        let (peak, power) = write_into(file, args, sample_rate_hz, channels, fill)?;
        file.rewind()?;
        let hash = blake3::Hasher::new().update_reader(file)?.finalize();
        let level = |level: f64| Some(level).filter(|level| level.is_finite());
        Ok(Levels {
            blake3: hash.to_hex().to_string(),
            peak_dbfs: level(db_from_amplitude(peak)),
            rms_dbfs: level(db_from_power(2.0 * power)),
        })
    })
}

/// Writes the samples into a file; gives their greatest, and their mean power.
fn write_into(
    file: &mut File,
    args: &SoundArgs,
    sample_rate_hz: f64,
    channels: usize,
    fill: impl FnOnce(&mut Sound<'_>) -> Result<()>,
) -> Result<(f64, f64)> {
    let out = BufWriter::with_capacity(1 << 18, file);
    let code = match args.bits.0 {
        WavEncoding::Integer(bits) => amplitude_from_db(-6.020_599_913 * f64::from(bits - 1)),
        WavEncoding::Float => 0.0,
    };
    let mut sound = Sound {
        sink: WavSink::new(out, sample_rate_hz as u32, channels, args.bits.0)?,
        dither: (args.dither && code > 0.0).then(|| (code, ChaCha8Rng::seed_from_u64(1))),
        dithered: Vec::new(),
        peak: 0.0,
        squares: 0.0,
        samples: 0,
    };
    fill(&mut sound)?;
    let Sound { sink, peak, squares, samples, .. } = sound;
    if sink.finish()? > 0 {
        bail!(
            "the sound reaches {} dBFS, more than {} hold; lower its levels, or write it with \
             --bits float",
            text::number(db_from_amplitude(peak), 2),
            args.bits.words()
        );
    }
    Ok((peak, squares / samples.max(1) as f64))
}
