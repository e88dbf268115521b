//! `spectrogram` of one hour to a picture, as a whole process, against the bare work.
//!
//! `cargo bench -p tonemap --bench spectrogram_hour` prints both times, their ratio, the peak
//! memory, and how time and memory grow from six minutes to an hour. The take is 48 kHz, 24-bit,
//! mono: plucked strings in noise; frames of 4096 samples every 1024, drawn as a PNG of 1280x800.
//! The bare work reads the same file with the same reader and runs the same transforms (in f32, on
//! as many threads), and does nothing else. It is run before and after the process, and the quicker
//! of the two counts.

#[path = "support/process.rs"]
mod process;
#[path = "support/takes.rs"]
mod takes;

use std::path::Path;
use std::time::{Duration, Instant};

use rayon::prelude::*;
use realfft::RealFftPlanner;
use tonemap_media::{Block, TakeReader};

const FRAME: usize = 4096;
const HOP: usize = 1024;
const ROUNDS: usize = 5;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let (short, long) = (folder.path().join("short.wav"), folder.path().join("hour.wav"));
    let minute = takes::harp_minute();
    takes::write(&short, &minute, 6, 1);
    takes::write(&long, &minute, 60, 1);
    let picture = folder.path().join("picture.png");
    let picture = picture.to_str().expect("text");
    let arguments = [
        "spectrogram",
        "--quiet",
        "--segment",
        "4096",
        "--hop",
        "1024",
        "--force",
        "--figure",
        picture,
    ];
    let (mut ratios, mut growths, mut peaks) = (Vec::new(), Vec::new(), [0u64; 2]);
    println!(
        "{:>12} {:>16} {:>8} {:>18}",
        "bare work s", "spectrogram s", "ratio", "six minutes s"
    );
    for _ in 0..ROUNDS {
        let before = bare_work(&long);
        let (whole, peak) = process::run(&arguments, &long);
        let bare = before.min(bare_work(&long)).as_secs_f64();
        let (part, part_peak) = process::run(&arguments, &short);
        peaks = [peaks[0].max(part_peak), peaks[1].max(peak)];
        let (whole, part) = (whole.as_secs_f64(), part.as_secs_f64());
        println!("{bare:>12.3} {whole:>16.3} {:>8.2} {part:>18.3}", whole / bare);
        ratios.push(whole / bare);
        growths.push(whole / part);
    }
    ratios.sort_by(f64::total_cmp);
    growths.sort_by(f64::total_cmp);
    println!("median ratio {:.2} (bar: 1.5)", ratios[ROUNDS / 2]);
    println!("median growth of time {:.1} (bar: 10.5)", growths[ROUNDS / 2]);
    let [short, long] = peaks.map(|kib| kib as f64 * 1.024e-3);
    println!("peak memory {long:.1} MB (bar: 200 MB), {:.2} x that of six minutes", long / short);
}

/// Decodes and transforms, nothing else.
fn bare_work(take: &Path) -> Duration {
    const BATCH: usize = 1 << 20;
    let started = Instant::now();
    let mut reader = TakeReader::open(take).expect("opens");
    let plan = RealFftPlanner::<f32>::new().plan_fft_forward(FRAME);
    let (mut block, mut held) = (Block::default(), Vec::new());
    let mut sum = 0.0;
    let mut transform = |held: &mut Vec<f32>| {
        let frames = (held.len().saturating_sub(FRAME)) / HOP;
        sum += (0..frames)
            .into_par_iter()
            .map_init(
                || (plan.make_input_vec(), plan.make_output_vec(), plan.make_scratch_vec()),
                |(input, output, scratch), frame| {
                    input.copy_from_slice(&held[frame * HOP..][..FRAME]);
                    plan.process_with_scratch(input, output, scratch).expect("lengths agree");
                    output[1].re
                },
            )
            .sum::<f32>();
        held.drain(..frames * HOP);
    };
    while reader.read(&mut block).expect("reads") {
        held.extend_from_slice(block.channel(0));
        if held.len() >= BATCH {
            transform(&mut held);
        }
    }
    transform(&mut held);
    assert!(sum.is_finite());
    started.elapsed()
}
