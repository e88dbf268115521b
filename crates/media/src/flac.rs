//! FLAC files, decoded by symphonia.

use std::fs::File;
use std::io::ErrorKind;

use symphonia::core::audio::Channels;
use symphonia::core::codecs::audio::{AudioDecoder, AudioDecoderOptions};
use symphonia::core::errors::Error as DecoderError;
use symphonia::core::formats::{FormatOptions, FormatReader, TrackType};
use symphonia::core::io::{MediaSourceStream, MediaSourceStreamOptions};
use symphonia::default::codecs::FlacDecoder;
use symphonia::default::formats::FlacReader as Container;

use crate::block::Block;
use crate::error::Error;
use crate::reader::TakeInfo;

const FORMAT: &str = "FLAC";

/// Decodes packet after packet.
pub(crate) struct FlacReader {
    container: Container<'static>,
    decoder: FlacDecoder,
    track: u32,
    channels: usize,
    ended: bool,
}

fn damaged(error: &DecoderError) -> Error {
    Error::Damaged { format: FORMAT, what: error.to_string() }
}

impl FlacReader {
    pub(crate) fn new(file: File) -> Result<(Self, TakeInfo), Error> {
        let stream = MediaSourceStream::new(Box::new(file), MediaSourceStreamOptions::default());
        let container = Container::try_new(stream, FormatOptions::default())
            .map_err(|error| damaged(&error))?;
        let missing = |what: &str| Error::Damaged { format: FORMAT, what: what.into() };
        let track = container
            .default_track(TrackType::Audio)
            .ok_or_else(|| missing("it has no sound data"))?;
        let parameters = track
            .codec_params
            .as_ref()
            .and_then(|parameters| parameters.audio())
            .ok_or_else(|| missing("its header does not describe its sound"))?;
        let decoder = FlacDecoder::try_new(parameters, &AudioDecoderOptions::default())
            .map_err(|error| damaged(&error))?;
        let channels = parameters.channels.as_ref().map_or(0, Channels::count);
        let bits = parameters.bits_per_sample.unwrap_or(16);
        let sample_rate_hz = f64::from(parameters.sample_rate.unwrap_or(0));
        if channels == 0 || sample_rate_hz <= 0.0 {
            return Err(missing("its header states no channels or no sample rate"));
        }
        let info = TakeInfo {
            container: FORMAT,
            codec: format!("FLAC {bits}-bit"),
            lossy_codec: false,
            sample_rate_hz,
            bits_per_sample: Some(bits),
            channels,
            frames: track.num_frames.filter(|frames| *frames > 0),
            missing_frames: 0,
            stray_bytes: 0,
        };
        let track = track.id;
        Ok((Self { container, decoder, track, channels, ended: false }, info))
    }

    pub(crate) fn read(&mut self, block: &mut Block) -> Result<bool, Error> {
        while !self.ended {
            let packet = match self.container.next_packet() {
                Ok(Some(packet)) => packet,
                Ok(None) => break,
                // A file cut short ends in the middle of a packet; what came before it stands.
                Err(DecoderError::IoError(error)) if error.kind() == ErrorKind::UnexpectedEof => {
                    break;
                }
                Err(DecoderError::IoError(error)) => return Err(Error::Io(error)),
                Err(error) => return Err(damaged(&error)),
            };
            if packet.track_id != self.track {
                continue;
            }
            let audio = self.decoder.decode(&packet).map_err(|error| damaged(&error))?;
            if audio.frames() == 0 {
                continue;
            }
            let planes = block.resize(self.channels, audio.frames());
            audio.copy_to_slice_planar(planes);
            return Ok(true);
        }
        self.ended = true;
        Ok(false)
    }
}
