//! FLAC.

#![no_main]

mod reading;

libfuzzer_sys::fuzz_target!(|data: &[u8]| reading::read(data, &[(0, b"fLaC")]));
