//! Reading a take from bytes to its end, as every command does.

use std::io::Write;

use tonemap_media::{Block, RawFormat, TakeReader};

#[allow(dead_code)]
/// Reads `data` as a file, with `signs` put in their places so that it reaches its reader.
pub fn read(data: &[u8], signs: &[(usize, &[u8])]) {
    let mut bytes = data.to_vec();
    for (place, sign) in signs {
        if let Some(part) = bytes.get_mut(*place..*place + sign.len()) {
            part.copy_from_slice(sign);
        }
    }
    with_file(&bytes, |path| read_on(TakeReader::open(path)));
}

/// Reads `data` as a file without a header.
#[allow(dead_code)]
pub fn read_raw(data: &[u8], format: RawFormat) {
    with_file(data, |path| read_on(TakeReader::open_raw(path, format)));
}

fn with_file(bytes: &[u8], work: impl FnOnce(&std::path::Path)) {
    thread_local! {
        static FILE: tempfile::NamedTempFile =
            tempfile::NamedTempFile::new_in("/dev/shm").or_else(|_| tempfile::NamedTempFile::new()).unwrap();
    }
    FILE.with(|file| {
        file.as_file().set_len(0).unwrap();
        let mut writer = std::fs::File::create(file.path()).unwrap();
        writer.write_all(bytes).unwrap();
        drop(writer);
        work(file.path());
    });
}

fn read_on(reader: Result<TakeReader, tonemap_media::Error>) {
    let Ok(mut reader) = reader else { return };
    let info = reader.info().clone();
    assert!(info.channels > 0 && info.sample_rate_hz > 0.0);
    let mut block = Block::default();
    while let Ok(true) = reader.read(&mut block) {
        assert_eq!(block.channels().len(), info.channels);
        for channel in block.channels() {
            assert!(channel.len() == block.frames() && channel.iter().all(|x| x.is_finite()));
        }
    }
}
