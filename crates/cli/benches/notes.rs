//! `timbre`, `tuning` and `unison` of 88 notes of five seconds, as whole processes, against the time that the
//! notes last.
//!
//! `cargo bench -p tonemap --bench notes` prints how many times faster than real time each is with
//! decoding, for one note at a time on one thread, and for all at once on all cores. The notes are
//! those of stiff strings from A0 to C8 in noise, 48 kHz, 24-bit, mono.

#[path = "support/process.rs"]
mod process;

use std::fs::File;
use std::io::BufWriter;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

use tonemap_core::synth::{PluckedString, mix, to_samples, white_noise};
use tonemap_core::units::Note;
use tonemap_media::{WavEncoding, write_wav};

const RATE: u32 = 48_000;
const LASTS_S: f64 = 5.0;

/// Writes the notes into a folder.
fn notes(folder: &Path) -> Vec<PathBuf> {
    let rate_hz = f64::from(RATE);
    (21..=108)
        .map(|midi| {
            let above = f64::from(midi - 21);
            let string = PluckedString {
                frequency_hz: Note(midi).frequency_hz(440.0),
                inharmonicity: (-0.09 * above - 8.3).exp() + (0.093 * above - 13.2).exp(),
                t60_s: 0.8 + 14.0 * (-above / 28.0).exp(),
                pluck_position: 0.13,
                ..PluckedString::default()
            };
            let start = (0.1 * rate_hz) as usize;
            let mut sound = white_noise(midi as u64, 1e-4, (LASTS_S * rate_hz) as usize);
            mix(&mut sound[start..], &string.render(rate_hz, LASTS_S - 0.1));
            let file = folder.join(format!("{midi:03}.wav"));
            let out = BufWriter::new(File::create(&file).expect("created"));
            let coding = WavEncoding::Integer(24);
            write_wav(out, RATE, &[to_samples(&sound)], coding).expect("written");
            file
        })
        .collect()
}

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let files = notes(folder.path());
    println!("{:>26} {:>10} {:>14}", "what", "seconds", "x real time");
    let report = |what: &str, seconds: f64, notes: usize| {
        println!("{what:>26} {seconds:>10.2} {:>14.1}", notes as f64 * LASTS_S / seconds);
    };
    for command in ["timbre", "tuning", "unison"] {
        let singles = files.iter().step_by(8);
        let count = singles.len();
        let one_by_one: f64 =
            singles.map(|file| process::run(&[command, "--quiet"], file).0.as_secs_f64()).sum();
        report(&format!("{command}, one by one"), one_by_one, count);
        let begun = Instant::now();
        let run = Command::new(env!("CARGO_BIN_EXE_tonemap"))
            .args([command, "--quiet", "--format", "csv"])
            .args(&files)
            .output()
            .expect("the program runs");
        assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
        report(&format!("{command}, all at once"), begun.elapsed().as_secs_f64(), files.len());
    }
}
