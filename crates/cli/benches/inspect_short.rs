//! `inspect` of short takes, as a whole process: the period is sought in them, and they must be as
//! soon done as longer ones.
//!
//! `cargo bench -p tonemap --bench inspect_short` prints the median of five runs in milliseconds,
//! for white noise, which has the most zero crossings, and a tone, of 0.1 to 0.6 s at 48 to 192
//! kHz. The bar is 50 ms.

#[path = "support/process.rs"]
mod process;

use tonemap_core::synth::{sine, to_samples, white_noise};
use tonemap_media::{WavEncoding, write_wav};

const ROUNDS: usize = 5;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let take = folder.path().join("short.wav");
    println!("{:>7} {:>9} {:>9} {:>12} {:>12}", "s", "Hz", "channels", "noise, ms", "tone, ms");
    for seconds in [0.1, 0.3, 0.5, 0.6] {
        for rate in [48_000, 96_000, 192_000] {
            for channels in [1, 2, 64] {
                let count = (seconds * f64::from(rate)) as usize;
                let noise = |seed| to_samples(&white_noise(seed, 0.1, count));
                let tone = |n: u64| sine(300.0 + n as f64, 0.3, 0.0, f64::from(rate), count);
                let sounds: [Vec<Vec<f32>>; 2] =
                    [(0..channels).map(noise).collect(), (0..channels).map(tone).collect()];
                let [noise_ms, tone_ms] = sounds.map(|sound| {
                    let file = std::fs::File::create(&take).expect("created");
                    write_wav(file, rate, &sound, WavEncoding::Float).expect("written");
                    let mut times: Vec<f64> = (0..ROUNDS)
                        .map(|_| process::run(&["inspect", "--quiet"], &take).0.as_secs_f64())
                        .collect();
                    times.sort_by(f64::total_cmp);
                    1e3 * times[ROUNDS / 2]
                });
                println!("{seconds:>7} {rate:>9} {channels:>9} {noise_ms:>12.1} {tone_ms:>12.1}");
            }
        }
    }
}
