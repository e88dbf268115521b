//! AAC and ALAC in MP4.

#![no_main]

mod reading;

libfuzzer_sys::fuzz_target!(|data: &[u8]| reading::read(data, &[(4, b"ftyp")]));
