//! `bands` and `loudness` of an hour, as whole processes, against the time it lasts.
//!
//! `cargo bench -p tonemap --bench levels_hour` prints how many times faster than real time they
//! are, with decoding, on all cores, and the peak memory. The takes are 48 kHz, 24-bit: notes of a
//! harp in noise on one channel, and on four.

#[path = "support/process.rs"]
mod process;
#[path = "support/takes.rs"]
mod takes;

const ROUNDS: usize = 3;
const COMMANDS: [&[&str]; 2] = [
    &["bands", "--channel", "all", "--quiet"],
    &["loudness", "--assume", "full-scale=94dB", "--channel", "all", "--quiet"],
];

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let take = folder.path().join("take.wav");
    println!(
        "{:>10} {:>24} {:>10} {:>16} {:>14}",
        "command", "take", "seconds", "x real time", "memory MB"
    );
    for (name, minutes, channels) in
        [("six minutes", 6, 1), ("an hour", 60, 1), ("an hour, four channels", 60, 4)]
    {
        takes::write(&take, &takes::harp_minute(), minutes, channels);
        for words in COMMANDS {
            let runs = (0..ROUNDS).map(|_| process::run(words, &take));
            let (quickest, peak) = runs.min().expect("rounds");
            println!(
                "{:>10} {name:>24} {:>10.2} {:>16.1} {:>14.1}",
                words[0],
                quickest.as_secs_f64(),
                60.0 * minutes as f64 / quickest.as_secs_f64(),
                peak as f64 * 1.024e-3
            );
        }
    }
}
