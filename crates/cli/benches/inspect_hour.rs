//! `inspect` of one hour, as a whole process, against bare decoding.
//!
//! `cargo bench -p tonemap --bench inspect_hour` prints the times, their ratios and the peak memory
//! of the process. The take is 3600 s of 48 kHz, 24-bit, mono, in two kinds: plucked strings with
//! noise, a note every two seconds, and one steady tone, which asks most of the true peak. Bare
//! decoding, in one thread and with nothing else done, is measured twice: of WAV by our own reader,
//! which only widens the samples and costs little more than the copy out of the system's cache, and
//! of the same samples in AIFF by symphonia, which reads all other formats. Each is run before and
//! after the process, and the quicker of the two counts.

#[path = "support/process.rs"]
mod process;

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::time::{Duration, Instant};

use tonemap_core::synth::{PluckedString, mix, sine, to_samples, white_noise};
use tonemap_media::{Block, TakeReader, WavEncoding, write_wav};

const RATE: u32 = 48_000;
const SECONDS: usize = 3600;
const ROUNDS: usize = 5;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let (wav, aiff) = (folder.path().join("hour.wav"), folder.path().join("hour.aiff"));
    for (words, minute) in [("plucked strings", plucked_strings()), ("steady tone", steady_tone())]
    {
        write_wave(&wav, &minute);
        write_aiff(&aiff, &minute);
        println!(
            "{words}\n{:>14} {:>14} {:>14} {:>14} {:>8} {:>8}",
            "own reader s", "symphonia s", "inspect WAV s", "inspect AIFF s", "ratio", "ratio"
        );
        let (mut own_ratios, mut ratios, mut peak_kib) = (Vec::new(), Vec::new(), 0);
        for _ in 0..ROUNDS {
            let before = [bare_decoding(&wav), bare_decoding(&aiff)];
            let [(whole, peak), (whole_aiff, peak_aiff)] =
                [&wav, &aiff].map(|take| process::run(&["inspect", "--quiet"], take));
            let own = before[0].min(bare_decoding(&wav)).as_secs_f64();
            let other = before[1].min(bare_decoding(&aiff)).as_secs_f64();
            peak_kib = peak_kib.max(peak).max(peak_aiff);
            let (whole, whole_aiff) = (whole.as_secs_f64(), whole_aiff.as_secs_f64());
            let (own_ratio, ratio) = (whole / own, whole_aiff / other);
            println!(
                "{own:>14.3} {other:>14.3} {whole:>14.3} {whole_aiff:>14.3} {own_ratio:>8.2} {ratio:>8.2}"
            );
            own_ratios.push(own_ratio);
            ratios.push(ratio);
        }
        own_ratios.sort_by(f64::total_cmp);
        ratios.sort_by(f64::total_cmp);
        println!(
            "median ratios: WAV to our own reader {:.2}, AIFF to symphonia {:.2} (bar: 1.5)",
            own_ratios[ROUNDS / 2],
            ratios[ROUNDS / 2]
        );
        println!("peak memory {:.1} MB (bar: 100 MB)\n", peak_kib as f64 * 1.024e-3);
    }
}

/// One minute of notes, all over the compass of a harp.
fn plucked_strings() -> Vec<f32> {
    let rate = f64::from(RATE);
    let mut sound = white_noise(1, 3e-5, 60 * RATE as usize);
    for n in 0..30 {
        let string = PluckedString {
            frequency_hz: 65.4 * 2f64.powf(f64::from(n * 7 % 48) / 12.0),
            t60_s: 3.0,
            ..PluckedString::default()
        };
        let start = (2.0 * f64::from(n) * rate) as usize;
        mix(&mut sound[start..], &string.render(rate, 4.0));
    }
    to_samples(&sound)
}

fn steady_tone() -> Vec<f32> {
    sine(997.0, 0.5, 0.0, f64::from(RATE), 60 * RATE as usize)
}

fn write_wave(path: &Path, minute: &[f32]) {
    let file = BufWriter::new(File::create(path).expect("created"));
    let hour = minute.repeat(SECONDS / 60);
    write_wav(file, RATE, &[hour], WavEncoding::Integer(24)).expect("written");
}

/// The same hour as AIFF, 24-bit.
fn write_aiff(path: &Path, minute: &[f32]) {
    let frames = (SECONDS * RATE as usize) as u32;
    let bytes = 3 * frames;
    let mut file = BufWriter::new(File::create(path).expect("created"));
    let mut put = |part: &[u8]| file.write_all(part).expect("written");
    put(b"FORM");
    put(&(46 + bytes).to_be_bytes());
    put(b"AIFFCOMM\0\0\0\x12\0\x01");
    put(&frames.to_be_bytes());
    // 24 bits; 48 000 Hz as an 80-bit float.
    put(b"\0\x18\x40\x0e\xbb\x80\0\0\0\0\0\0SSND");
    put(&(8 + bytes).to_be_bytes());
    put(&[0; 8]);
    let minute: Vec<u8> = minute
        .iter()
        .flat_map(|x| {
            let [_, a, b, c] = ((x * 8_388_607.0) as i32).to_be_bytes();
            [a, b, c]
        })
        .collect();
    for _ in 0..SECONDS / 60 {
        put(&minute);
    }
}

fn bare_decoding(take: &Path) -> Duration {
    let started = Instant::now();
    let mut reader = TakeReader::open(take).expect("opens");
    let mut block = Block::default();
    while reader.read(&mut block).expect("reads") {}
    assert_eq!(reader.position(), (SECONDS * RATE as usize) as u64);
    started.elapsed()
}
