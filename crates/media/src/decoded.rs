//! Every format but WAV, decoded by symphonia.

use std::fs::File;
use std::io::ErrorKind;
use std::ops::Range;

use symphonia::core::audio::Channels;
use symphonia::core::codecs::audio::well_known::{
    CODEC_ID_AAC, CODEC_ID_ALAC, CODEC_ID_FLAC, CODEC_ID_MP1, CODEC_ID_MP2, CODEC_ID_MP3,
    CODEC_ID_PCM_ALAW, CODEC_ID_PCM_F32BE, CODEC_ID_PCM_F32LE, CODEC_ID_PCM_F64BE,
    CODEC_ID_PCM_F64LE, CODEC_ID_PCM_MULAW, CODEC_ID_VORBIS,
};
use symphonia::core::codecs::audio::{
    AudioCodecId, AudioCodecParameters, AudioDecoder, AudioDecoderOptions,
};
use symphonia::core::errors::Error as DecoderError;
use symphonia::core::formats::probe::Hint;
use symphonia::core::formats::{FormatOptions, FormatReader, TrackType};
use symphonia::core::io::{MediaSourceStream, MediaSourceStreamOptions};
use symphonia::core::meta::MetadataOptions;

use crate::block::Block;
use crate::error::Error;
use crate::info::{TakeInfo, check_channels};
use crate::mp4;

/// Packets in a row that may be damaged before the file is given up.
const MOST_DAMAGED_PACKETS: u32 = 100;

/// The container that a file's first bytes show, as an engineer names it.
pub(crate) fn container(start: &[u8]) -> Option<&'static str> {
    let at = |from: usize, bytes: &[u8]| start.get(from..from + bytes.len()) == Some(bytes);
    match start {
        _ if at(0, b"fLaC") => Some("FLAC"),
        _ if at(0, b"FORM") && (at(8, b"AIFF") || at(8, b"AIFC")) => Some("AIFF"),
        _ if at(0, b"caff") => Some("CAF"),
        _ if at(0, b"OggS") => Some("Ogg"),
        _ if at(4, b"ftyp") => Some("MP4"),
        _ if at(0, b"ID3") => Some("MPEG audio"),
        // Eleven set bits open a frame; layer 0 is that of AAC.
        [0xFF, second, ..] if second & 0xF6 == 0xF0 => Some("ADTS"),
        [0xFF, second, ..] if second & 0xE0 == 0xE0 && second & 0x06 != 0 => Some("MPEG audio"),
        _ => None,
    }
}

/// Decodes packet after packet.
pub(crate) struct DecodedReader {
    format: &'static str,
    container: Box<dyn FormatReader>,
    decoder: Box<dyn AudioDecoder>,
    track: u32,
    channels: usize,
    /// Decoded frames to keep, and how many have been decoded.
    heard: Range<u64>,
    position: u64,
    ended: bool,
}

impl DecodedReader {
    pub(crate) fn new(mut file: File, format: &'static str) -> Result<(Self, TakeInfo), Error> {
        let refused = |error| refusal(format, &error);
        let missing = |what: &str| Error::Damaged { format, what: what.into() };
        let times = if format == "MP4" { mp4::heard_frames(&mut file) } else { None };
        let stream = MediaSourceStream::new(Box::new(file), MediaSourceStreamOptions::default());
        let container = symphonia::default::get_probe()
            .probe(&Hint::new(), stream, FormatOptions::default(), MetadataOptions::default())
            .map_err(refused)?;
        let track = container
            .default_track(TrackType::Audio)
            .ok_or_else(|| missing("it has no sound data"))?;
        let parameters = track
            .codec_params
            .as_ref()
            .and_then(|parameters| parameters.audio())
            .ok_or_else(|| missing("its header does not describe its sound"))?;
        let channels = parameters.channels.as_ref().map_or(0, Channels::count);
        // The decoder makes room for all of them at once.
        check_channels(channels, format)?;
        let decoder = symphonia::default::get_codecs()
            .make_audio_decoder(parameters, &AudioDecoderOptions::default())
            .map_err(refused)?;
        let sample_rate_hz = f64::from(parameters.sample_rate.unwrap_or(0));
        if channels == 0 || sample_rate_hz <= 0.0 {
            return Err(missing("its header states no channels or no sample rate"));
        }
        let (codec, lossy_codec, bits_per_sample) = describe(parameters);
        let frames = track.num_frames.filter(|frames| *frames > 0);
        let mut reader = Self {
            format,
            decoder,
            track: track.id,
            channels,
            heard: 0..u64::MAX,
            position: 0,
            ended: false,
            container,
        };
        let mut info = TakeInfo {
            container: format,
            codec,
            lossy_codec,
            sample_rate_hz,
            bits_per_sample,
            channels,
            frames,
            missing_frames: 0,
            stray_bytes: 0,
        };
        // The file counts in units of its own; they are frames in all but odd files.
        if let Some((heard, timescale)) = times
            && f64::from(timescale) == info.sample_rate_hz
        {
            info.frames = Some(heard.end - heard.start);
            reader.heard = heard;
        }
        Ok((reader, info))
    }

    pub(crate) fn read(&mut self, block: &mut Block) -> Result<bool, Error> {
        let mut damaged_packets = 0;
        while !self.ended {
            let packet = match self.container.next_packet() {
                Ok(Some(packet)) => packet,
                Ok(None) => break,
                // A file cut short ends in the middle of a packet; what came before it stands.
                Err(DecoderError::IoError(error)) if error.kind() == ErrorKind::UnexpectedEof => {
                    break;
                }
                Err(error) => return Err(refusal(self.format, &error)),
            };
            if packet.track_id != self.track {
                continue;
            }
            let audio = match self.decoder.decode(&packet) {
                Ok(audio) => audio,
                // A lossy stream that was cut may begin or end in half a frame.
                Err(DecoderError::DecodeError(_)) if damaged_packets < MOST_DAMAGED_PACKETS => {
                    damaged_packets += 1;
                    continue;
                }
                Err(error) => return Err(refusal(self.format, &error)),
            };
            if audio.frames() == 0 {
                continue;
            }
            if audio.spec().channels().count() != self.channels {
                return Err(Error::Unsupported {
                    format: self.format,
                    what: "sound whose number of channels changes".into(),
                });
            }
            let planes = block.resize(self.channels, audio.frames());
            audio.copy_to_slice_planar(planes);
            let (before, frames) = (self.position, block.frames() as u64);
            self.position += frames;
            let first = self.heard.start.saturating_sub(before).min(frames);
            let last = self.heard.end.saturating_sub(before).min(frames);
            if first >= last {
                continue;
            }
            if last - first < frames {
                block.keep(first as usize, last as usize);
            }
            return Ok(true);
        }
        self.ended = true;
        Ok(false)
    }
}

fn refusal(format: &'static str, error: &DecoderError) -> Error {
    match error {
        DecoderError::Unsupported(what) => Error::Unsupported { format, what: (*what).into() },
        DecoderError::IoError(error) if error.kind() == ErrorKind::UnexpectedEof => {
            Error::Damaged { format, what: "it ends too early".into() }
        }
        error => Error::Damaged { format, what: error.to_string() },
    }
}

/// Name of the coding, whether it loses anything, and the bits of an integer sample.
fn describe(parameters: &AudioCodecParameters) -> (String, bool, Option<u32>) {
    const FLOATS: [AudioCodecId; 4] =
        [CODEC_ID_PCM_F32LE, CODEC_ID_PCM_F32BE, CODEC_ID_PCM_F64LE, CODEC_ID_PCM_F64BE];
    let codec = parameters.codec;
    let lossy = [
        (CODEC_ID_VORBIS, "Vorbis"),
        (CODEC_ID_MP1, "MPEG layer 1"),
        (CODEC_ID_MP2, "MPEG layer 2"),
        (CODEC_ID_MP3, "MPEG layer 3"),
        (CODEC_ID_AAC, "AAC"),
        (CODEC_ID_PCM_ALAW, "A-law"),
        (CODEC_ID_PCM_MULAW, "µ-law"),
    ];
    if let Some((_, name)) = lossy.into_iter().find(|(id, _)| *id == codec) {
        return (name.into(), true, None);
    }
    // ALAC keeps its own in the sixth byte of its configuration.
    let configured = parameters.extra_data.as_ref().and_then(|data| data.get(5)).copied();
    let bits = match codec {
        CODEC_ID_ALAC => configured.map(u32::from),
        _ => parameters.bits_per_sample.or(parameters.bits_per_coded_sample),
    };
    let width = bits.map_or(String::new(), |bits| format!(" {bits}-bit"));
    match codec {
        CODEC_ID_FLAC => (format!("FLAC{width}"), false, bits),
        CODEC_ID_ALAC => (format!("ALAC{width}"), false, bits),
        codec if FLOATS.contains(&codec) => {
            let wide = [CODEC_ID_PCM_F64LE, CODEC_ID_PCM_F64BE].contains(&codec);
            (format!("float {}-bit", if wide { 64 } else { 32 }), false, None)
        }
        _ => (format!("PCM{width}"), false, bits),
    }
}
