//! Recordings read back: every coding, spans, and files that lie or end early.

use std::fs;
use std::path::{Path, PathBuf};

use tonemap_media::{Block, Error, TakeReader, WavEncoding, write_wav};

/// All samples of a take, channel by channel.
fn read_all(path: &Path) -> (Vec<Vec<f32>>, TakeReader) {
    let mut reader = TakeReader::open(path).expect("opens");
    let mut channels = vec![Vec::new(); reader.info().channels];
    let mut block = Block::default();
    while reader.read(&mut block).expect("reads") {
        for (all, part) in channels.iter_mut().zip(block.channels()) {
            all.extend_from_slice(part);
        }
    }
    (channels, reader)
}

fn ramp(samples: usize) -> Vec<f32> {
    (0..samples).map(|n| (n as f32 / samples as f32 - 0.5) * 1.5).collect()
}

/// A WAV file by its parts: format tag, channels, rate, bytes and bits a sample, stated data size.
fn wav(
    tag: u16,
    channels: u16,
    rate: u32,
    width: u16,
    bits: u16,
    stated: u32,
    data: &[u8],
) -> Vec<u8> {
    let mut file = Vec::new();
    file.extend_from_slice(b"RIFF");
    file.extend_from_slice(&36u32.wrapping_add(stated).to_le_bytes());
    file.extend_from_slice(b"WAVEfmt ");
    file.extend_from_slice(&16u32.to_le_bytes());
    for half in [tag, channels] {
        file.extend_from_slice(&half.to_le_bytes());
    }
    file.extend_from_slice(&rate.to_le_bytes());
    file.extend_from_slice(&(rate * u32::from(channels) * u32::from(width)).to_le_bytes());
    for half in [channels * width, bits] {
        file.extend_from_slice(&half.to_le_bytes());
    }
    file.extend_from_slice(b"data");
    file.extend_from_slice(&stated.to_le_bytes());
    file.extend_from_slice(data);
    file
}

fn in_folder(name: &str, content: &[u8]) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join(name);
    fs::write(&path, content).expect("written");
    (folder, path)
}

fn data(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name)
}

#[test]
fn what_is_written_reads_back() {
    for (encoding, step) in [
        (WavEncoding::Integer(8), 1.0 / 128.0),
        (WavEncoding::Integer(16), 1.0 / 32_768.0),
        (WavEncoding::Integer(24), 1.0 / 8_388_608.0),
        (WavEncoding::Integer(32), 6e-8),
        (WavEncoding::Float, 0.0),
    ] {
        for channels in [1, 2, 32] {
            let written: Vec<Vec<f32>> = (0..channels)
                .map(|c| ramp(2000).iter().map(|x| x * (1.0 - c as f32 / 64.0)).collect())
                .collect();
            let mut file = std::io::Cursor::new(Vec::new());
            write_wav(&mut file, 384_000, &written, encoding).expect("written");
            let (_folder, path) = in_folder("take.wav", file.get_ref());
            let (read, reader) = read_all(&path);
            assert_eq!(reader.info().sample_rate_hz, 384_000.0);
            assert_eq!(reader.info().frames, Some(2000));
            for (read, written) in read.iter().zip(&written) {
                let worst = read.iter().zip(written).fold(0.0f32, |w, (a, b)| w.max((a - b).abs()));
                assert!(worst <= 0.5001 * step, "{encoding:?} {channels}: {worst}");
            }
        }
    }
}

/// The files were made from the WAV file by other encoders.
#[test]
fn lossless_formats_equal_the_wav_they_were_made_from() {
    let (wav, _) = read_all(&data("two-tones-24bit-44100Hz-stereo.wav"));
    assert_eq!(wav[0].len(), 4800);
    for (name, container, codec, bits) in [
        ("two-tones-24bit-44100Hz-stereo.flac", "FLAC", "FLAC 24-bit", Some(24)),
        ("two-tones-24bit-44100Hz-stereo.aiff", "AIFF", "PCM 24-bit", Some(24)),
        ("two-tones-float-44100Hz-stereo.aifc", "AIFF", "float 32-bit", None),
        ("two-tones-24bit-44100Hz-stereo.caf", "CAF", "PCM 24-bit", Some(24)),
        ("two-tones-24bit-44100Hz-stereo-alac.m4a", "MP4", "ALAC 24-bit", Some(24)),
    ] {
        let (read, reader) = read_all(&data(name));
        let info = reader.info();
        assert!(read == wav, "{name} differs");
        assert_eq!(
            (info.container, info.codec.as_str(), info.bits_per_sample, info.lossy_codec),
            (container, codec, bits, false)
        );
        assert_eq!((info.frames, reader.missing_frames()), (Some(4800), 0), "{name}");
    }
}

/// Lossy files come back with their beginning and end where they were: the delay of the encoder
/// and its padding are cut.
#[test]
fn lossy_formats_are_aligned_with_the_wav_they_were_made_from() {
    let (wav, _) = read_all(&data("two-tones-24bit-44100Hz-stereo.wav"));
    for (name, container, codec, worst) in [
        ("two-tones-24bit-44100Hz-stereo-lame.mp3", "MPEG audio", "MPEG layer 3", 0.05),
        ("two-tones-24bit-44100Hz-stereo-vorbis.ogg", "Ogg", "Vorbis", 0.05),
        // What its encoder loses of a tenth of a second; another decoder finds the same 13.8 %.
        ("two-tones-24bit-44100Hz-stereo-aac.m4a", "MP4", "AAC", 0.15),
    ] {
        let (read, reader) = read_all(&data(name));
        assert_eq!((reader.info().container, reader.info().codec.as_str()), (container, codec));
        assert!(reader.info().lossy_codec);
        for (read, wav) in read.iter().zip(&wav) {
            assert_eq!(read.len(), 4800, "{name}");
            // Share that is lost if the files are shifted against each other by some frames.
            let lost = |shift: usize, early: &[f32], late: &[f32]| {
                let pairs = || early[shift..].iter().zip(late);
                let energy: f32 = pairs().map(|(a, _)| a * a).sum();
                (pairs().map(|(a, b)| (a - b).powi(2)).sum::<f32>() / energy).sqrt()
            };
            let aligned = lost(0, wav, read);
            println!("{name}: RMS difference {:.2} % of the signal", 100.0 * aligned);
            assert!(aligned < worst, "{name}: {aligned}");
            for shift in 1..20 {
                assert!(lost(shift, wav, read) > aligned && lost(shift, read, wav) > aligned);
            }
        }
    }
    // Bare AAC does not tell its delay: 1024 frames stand before the sound.
    let (read, _) = read_all(&data("two-tones-24bit-44100Hz-stereo.aac"));
    assert_eq!(read[0].len(), 6144);
}

#[test]
fn a_flac_cut_short_gives_what_it_has_and_says_what_it_lacks() {
    let whole = fs::read(data("two-tones-24bit-44100Hz-stereo.flac")).expect("a fixture");
    let (all, _) = read_all(&data("two-tones-24bit-44100Hz-stereo.flac"));
    let (_folder, path) = in_folder("take.flac", &whole[..whole.len() * 95 / 100]);
    let (read, reader) = read_all(&path);
    let frames = read[0].len();
    assert!(frames > 0 && frames < 4800, "{frames}");
    assert_eq!(read[0], all[0][..frames]);
    assert_eq!(reader.missing_frames(), 4800 - frames as u64);
}

#[test]
fn spans_hold_exactly_their_samples() {
    for name in ["two-tones-24bit-44100Hz-stereo.wav", "two-tones-24bit-44100Hz-stereo.flac"] {
        let (all, _) = read_all(&data(name));
        for (start, end) in [(0, 4800), (1, 2), (1000, 4799), (4799, 4800), (4000, 9000)] {
            let mut reader = TakeReader::open(&data(name)).expect("opens");
            let mut span = Vec::new();
            reader
                .for_span(start, end, |block| span.extend_from_slice(block.channel(1)))
                .expect("reads");
            assert_eq!(span, all[1][start as usize..(end as usize).min(4800)], "{start} to {end}");
            let mut reader = TakeReader::open(&data(name)).expect("opens");
            let (mut first, mut second) = (Vec::new(), Vec::new());
            reader
                .for_span_in_two(
                    start,
                    end,
                    |block| first.extend_from_slice(block.channel(1)),
                    |block| second.extend_from_slice(block.channel(1)),
                )
                .expect("reads");
            assert_eq!((&first, &second), (&span, &span));
        }
    }
}

#[test]
fn a_wav_whose_header_lies_gives_what_is_there() {
    let samples: Vec<u8> = (0..100i16).flat_map(i16::to_le_bytes).collect();
    // Stated, frames read, frames missing, stray bytes.
    for (stated, frames, missing, stray) in [
        (200, 100, 0, 0),
        (400, 100, 100, 0),
        (0, 100, 0, 0),
        (u32::MAX - 40, 100, 2_147_483_527, 0),
        (20, 10, 0, 180),
    ] {
        let (_folder, path) = in_folder("take.wav", &wav(1, 1, 8000, 2, 16, stated, &samples));
        let (read, reader) = read_all(&path);
        let info = reader.info();
        assert_eq!(
            (read[0].len(), info.missing_frames, info.stray_bytes),
            (frames, missing, stray),
            "stated {stated}"
        );
    }
}

#[test]
fn rf64_and_extensible_headers_are_read() {
    let samples: Vec<u8> = (0..50i16).flat_map(i16::to_le_bytes).collect();
    let plain = wav(1, 1, 8000, 2, 16, u32::MAX, &samples);
    let mut file = b"RF64\xFF\xFF\xFF\xFFWAVEds64".to_vec();
    file.extend_from_slice(&28u32.to_le_bytes());
    for size in [0u64, 100, 50] {
        file.extend_from_slice(&size.to_le_bytes());
    }
    file.extend_from_slice(&0u32.to_le_bytes());
    file.extend_from_slice(&plain[12..]);
    let (_folder, path) = in_folder("take.wav", &file);
    let (read, reader) = read_all(&path);
    assert_eq!((read[0].len(), reader.info().container), (50, "RF64"));
    assert_eq!(read[0][49], 49.0 / 32_768.0);

    // 20 bits in three bytes, told by the extensible format.
    let mut file = wav(0xFFFE, 1, 8000, 3, 24, 3, &[0x00, 0x00, 0x40]);
    file[16..20].copy_from_slice(&40u32.to_le_bytes());
    let extension =
        [22, 0, 20, 0, 4, 0, 0, 0, 1, 0, 0, 0, 0, 0, 16, 0, 128, 0, 0, 170, 0, 56, 155, 113];
    file.splice(36..36, extension);
    let (_folder, path) = in_folder("take.wav", &file);
    let (read, reader) = read_all(&path);
    assert_eq!((read[0][0], reader.info().bits_per_sample), (0.5, Some(20)));
}

/// A header that lies about its channels; for 65 535 a decoder would make room for 300 MB.
fn aiff_of_many_channels() -> Vec<u8> {
    let mut file = b"FORM\0\0\0\x3eAIFFCOMM\0\0\0\x12\x01\x2c\0\0\0\x01\0\x08".to_vec();
    // 8000 Hz as an 80-bit float.
    file.extend(b"\x40\x0b\xfa\0\0\0\0\0\0\0SSND\0\0\0\x18\0\0\0\0\0\0\0\0");
    file.extend([0; 16]);
    file
}

#[test]
fn damaged_headers_are_told_in_words() {
    let data = [0u8; 64];
    for (file, wanted) in [
        (wav(1, 0, 8000, 2, 16, 64, &data), "0 channels"),
        (wav(1, 300, 8000, 2, 16, 600, &[0; 600]), "300 channels (at most 256 are read)"),
        (aiff_of_many_channels(), "300 channels (at most 256 are read)"),
        (wav(1, 1, 0, 2, 16, 64, &data), "sample rate of 0 Hz"),
        (wav(1, 1, 8000, 2, 17, 64, &data), "17 bits in 2 bytes"),
        (wav(3, 1, 8000, 2, 16, 64, &data), "samples of 2 bytes"),
        (wav(0x55, 1, 8000, 2, 16, 64, &data), "coding 0x0055"),
        (wav(1, 1, 8000, 2, 16, 64, &data)[..30].to_vec(), "ends inside its format chunk"),
        (wav(1, 1, 8000, 2, 16, 64, &data)[..36].to_vec(), "no sound data"),
        (b"RIFF\x10\0\0\0AVI LIST".to_vec(), "no WAVE sound"),
        (b"fLaC\0\0\0\x22garbage".to_vec(), "FLAC file is damaged"),
        (b"Dear Tone Map, this is no sound".to_vec(), "text that begins \"Dear"),
        (vec![0x89, 0xFF, 0, 1, 2], "no format known"),
        (Vec::new(), "empty"),
    ] {
        let (_folder, path) = in_folder("take.wav", &file);
        let error = TakeReader::open(&path).err().expect(wanted).to_string();
        assert!(error.contains(wanted), "{error} should tell of {wanted}");
    }
    let folder = tempfile::tempdir().expect("a folder");
    assert!(matches!(TakeReader::open(folder.path()), Err(Error::Folder)));
    assert!(matches!(TakeReader::open(&folder.path().join("no.wav")), Err(Error::NotFound)));
}

#[test]
fn every_cut_of_a_file_is_read_or_refused_without_panic() {
    let folder = fs::read_dir(data("")).expect("fixtures");
    for entry in folder {
        let name = entry.expect("a fixture").file_name();
        let name = name.to_str().expect("plain letters");
        let whole = fs::read(data(name)).expect("a fixture");
        for length in (0..200).chain((200..whole.len()).step_by(997)) {
            let (_folder, path) = in_folder("take", &whole[..length]);
            let Ok(mut reader) = TakeReader::open(&path) else { continue };
            let mut block = Block::default();
            while reader.read(&mut block).is_ok_and(|more| more) {}
        }
    }
}
