//! SDIF: any bytes are read or refused, and what is read can be written and read again.

#![no_main]

use tonemap_media::{read_sdif, sdif_file};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Ok((kind, frames)) = read_sdif(data) else { return };
    if !frames.is_empty() {
        let again = read_sdif(&sdif_file(kind, &frames)).expect("what was written can be read");
        assert_eq!(again, (kind, frames));
    }
});
