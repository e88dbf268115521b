//! AIFF and AIFC.

#![no_main]

mod reading;

libfuzzer_sys::fuzz_target!(|data: &[u8]| reading::read(data, &[(0, b"FORM"), (8, b"AIFF")]));
