//! The takes that the benches read.

use std::fs::File;
use std::io::BufWriter;
use std::path::Path;

use tonemap_core::synth::{PluckedString, mix, to_samples, white_noise};
use tonemap_media::{WavEncoding, write_wav};

pub(crate) const RATE: u32 = 48_000;

/// A minute of notes all over the compass of a harp, in noise.
pub(crate) fn harp_minute() -> Vec<f64> {
    let rate = f64::from(RATE);
    let mut sound = white_noise(1, 3e-5, 60 * RATE as usize);
    for n in 0..30 {
        let string = PluckedString {
            frequency_hz: 65.4 * 2f64.powf(f64::from(n * 7 % 48) / 12.0),
            t60_s: 3.0,
            ..PluckedString::default()
        };
        mix(&mut sound[(2.0 * f64::from(n) * rate) as usize..], &string.render(rate, 4.0));
    }
    sound
}

/// Writes a minute again and again, 24-bit, the same on all channels.
pub(crate) fn write(path: &Path, minute: &[f64], minutes: usize, channels: usize) {
    let file = BufWriter::new(File::create(path).expect("created"));
    let samples = vec![to_samples(minute).repeat(minutes); channels];
    write_wav(file, RATE, &samples, WavEncoding::Integer(24)).expect("written");
}
