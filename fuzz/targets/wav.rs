//! WAV, RF64 and BW64.

#![no_main]

mod reading;

libfuzzer_sys::fuzz_target!(|data: &[u8]| reading::read(data, &[(0, b"RIFF"), (8, b"WAVE")]));
