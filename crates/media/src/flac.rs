//! Writing FLAC files (RFC 9639), which hold the same samples as WAV in less space.

use flacenc::bitsink::ByteSink;
use flacenc::component::BitRepr;
use flacenc::config::Encoder;
use flacenc::encode_with_fixed_block_size;
use flacenc::error::Verify;
use flacenc::source::MemSource;

const BITS: usize = 16;

/// A FLAC file of one channel in 16 bits: samples are rounded to the nearest code, and what is
/// beyond full scale is cut to it. `None` where the format cannot hold it: for some sample rates.
#[must_use]
pub fn flac_file(sample_rate_hz: u32, samples: &[f32]) -> Option<Vec<u8>> {
    let full_scale = f32::from(i16::MIN).abs();
    let code = |x: &f32| (x * full_scale).round().clamp(-full_scale, full_scale - 1.0) as i32;
    let codes: Vec<i32> = samples.iter().map(code).collect();
    let settings = Encoder::default().into_verified().ok()?;
    let source = MemSource::from_samples(&codes, 1, BITS, sample_rate_hz as usize);
    let block = settings.block_size;
    let mut stream = encode_with_fixed_block_size(&settings, source, block).ok()?;
    // The least block does not count the last one (RFC 9639, 8.2), as the encoder does: strict
    // decoders take the blocks for blocks of changing length, and find none.
    stream.stream_info_mut().set_block_sizes(block, block).ok()?;
    let mut file = ByteSink::new();
    stream.write(&mut file).ok()?;
    Some(file.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Block, TakeReader};

    #[test]
    fn what_is_written_is_read_back_to_the_sample() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("tone.flac");
        let tone = |n: usize| 0.7 * (0.03 * n as f32).sin() + 0.2 * (n as f32 * 0.77).sin();
        // Less than a block, whole blocks, and a last one that is short.
        for length in [100, 8_190, 10_007] {
            let samples: Vec<f32> = (0..length).map(tone).chain([1.5, -1.5]).collect();
            let file = flac_file(44_100, &samples).expect("a file");
            assert!(file.len() < 2 * samples.len() + 100, "{} bytes", file.len());
            std::fs::write(&path, file).expect("written");
            let mut reader = TakeReader::open(&path).expect("read");
            let (mut block, mut read) = (Block::default(), Vec::new());
            while reader.read(&mut block).expect("samples") {
                read.extend_from_slice(block.channel(0));
            }
            assert_eq!(read.len(), samples.len());
            for (was, is) in samples.iter().zip(&read) {
                let held = (was * 32_768.0).round().clamp(-32_768.0, 32_767.0) / 32_768.0;
                assert_eq!(*is, held);
            }
        }
    }
}
