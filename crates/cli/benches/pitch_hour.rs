//! `pitch` of ten minutes and of an hour, as a whole process on one thread, against the time they
//! last.
//!
//! `cargo bench -p tonemap --bench pitch_hour` prints how many times faster than real time it is,
//! with decoding, and the peak memory. The takes are 48 kHz, 24-bit, mono: notes of a harp in
//! noise, and one steady tone of harmonics, which gives every level tones to follow.

#[path = "support/process.rs"]
mod process;
#[path = "support/takes.rs"]
mod takes;

use tonemap_core::synth::{Vibrato, harmonics, mix, render, white_noise};

const ROUNDS: usize = 3;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let amplitudes: Vec<f64> = (1..=20).map(|n| 0.2 / f64::from(n)).collect();
    let partials = harmonics(220.0, &amplitudes);
    let mut tone = render(&partials, Vibrato::default(), f64::from(takes::RATE), 60.0);
    let noise = white_noise(2, 1e-4, tone.len());
    mix(&mut tone, &noise);
    println!("{:>24} {:>10} {:>16} {:>14}", "take", "seconds", "x real time", "memory MB");
    for (name, minute, minutes) in [
        ("tone, ten minutes", &tone, 10),
        ("harp, ten minutes", &takes::harp_minute(), 10),
        ("harp, an hour", &takes::harp_minute(), 60),
    ] {
        let take = folder.path().join("take.wav");
        takes::write(&take, minute, minutes, 1);
        let runs = (0..ROUNDS).map(|_| process::run(&["pitch", "--quiet"], &take));
        let (quickest, peak) = runs.min().expect("rounds");
        println!(
            "{name:>24} {:>10.2} {:>16.1} {:>14.1}",
            quickest.as_secs_f64(),
            60.0 * minutes as f64 / quickest.as_secs_f64(),
            peak as f64 * 1.024e-3
        );
    }
}
