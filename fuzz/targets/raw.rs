//! Files without a header; the first bytes choose the coding.

#![no_main]

mod reading;

use std::num::NonZeroU32;

use tonemap_media::RawFormat;

const CODINGS: [&str; 11] = [
    "u8", "s16le", "s16be", "s24le", "s24be", "s32le", "s32be", "f32le", "f32be", "f64le", "f64be",
];

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let [coding, channels, samples @ ..] = data else { return };
    let name = CODINGS[usize::from(*coding) % CODINGS.len()];
    let (coding, big_endian) = RawFormat::coding_named(name).unwrap();
    let sample_rate_hz = NonZeroU32::new(48_000).unwrap();
    let channels = (u16::from(*channels) % 40 + 1).try_into().unwrap();
    reading::read_raw(samples, RawFormat { coding, big_endian, sample_rate_hz, channels });
});
