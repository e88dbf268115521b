//! The default spectrum of an hour, as a whole process, against the bare work.
//!
//! `cargo bench -p tonemap --bench spectrum_hour` prints both times, their ratio and the peak
//! memory of the process. The take is 3600 s of 48 kHz, 24-bit, mono: fifteen harmonics in noise.
//! The bare work reads the same file with the same reader and runs the same transforms (25 600
//! samples every 8533, in f64) in one thread, and does nothing else. It is run before and after the
//! process, and the quicker of the two counts.

#[path = "support/process.rs"]
mod process;

use std::fs::File;
use std::io::BufWriter;
use std::path::Path;
use std::time::{Duration, Instant};

use tonemap_core::synth::{harmonics, mix, render, to_samples, white_noise};
use tonemap_core::transform::RealTransform;
use tonemap_media::{Block, TakeReader, WavEncoding, write_wav};

const RATE: u32 = 48_000;
const SECONDS: f64 = 3600.0;
const FRAME: usize = 25_600;
const HOP: usize = 8533;
const ROUNDS: usize = 5;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let take = folder.path().join("hour.wav");
    write_take(&take);
    let mut ratios = Vec::new();
    let mut peak_kib = 0;
    println!("{:>12} {:>12} {:>8}", "bare work s", "spectrum s", "ratio");
    for _ in 0..ROUNDS {
        let before = bare_work(&take);
        let (whole, peak) = process::run(&["spectrum", "--quiet"], &take);
        let bare = before.min(bare_work(&take)).as_secs_f64();
        peak_kib = peak_kib.max(peak);
        let ratio = whole.as_secs_f64() / bare;
        println!("{bare:>12.3} {:>12.3} {ratio:>8.2}", whole.as_secs_f64());
        ratios.push(ratio);
    }
    ratios.sort_by(f64::total_cmp);
    println!("median ratio {:.2} (bar: 1.5)", ratios[ROUNDS / 2]);
    println!("peak memory {:.1} MB (bar: 100 MB)", peak_kib as f64 * 1.024e-3);
}

fn write_take(path: &Path) {
    let amplitudes: Vec<f64> = (1..=15).map(|n| 0.2 / f64::from(n)).collect();
    let mut sound = render(
        &harmonics(220.3, &amplitudes),
        tonemap_core::synth::Vibrato::default(),
        f64::from(RATE),
        SECONDS,
    );
    let samples = sound.len();
    mix(&mut sound, &white_noise(1, 1e-4, samples));
    let file = BufWriter::new(File::create(path).expect("created"));
    write_wav(file, RATE, &[to_samples(&sound)], WavEncoding::Integer(24)).expect("written");
}

/// Decodes and transforms, nothing else.
fn bare_work(take: &Path) -> Duration {
    let started = Instant::now();
    let mut reader = TakeReader::open(take).expect("opens");
    let mut transform = RealTransform::new(FRAME);
    let (mut block, mut input) = (Block::default(), vec![0.0; FRAME]);
    let frame: Vec<f64> = (0..FRAME).map(|n| (n as f64).sin()).collect();
    let (mut until_next, mut sum) = (FRAME, 0.0);
    while reader.read(&mut block).expect("reads") {
        let mut left = block.frames();
        while left >= until_next {
            left -= until_next;
            until_next = HOP;
            // The transform leaves garbage in its input.
            input.copy_from_slice(&frame);
            sum += transform.forward(&mut input)[1].re;
        }
        until_next -= left;
    }
    assert!(sum.is_finite());
    started.elapsed()
}
