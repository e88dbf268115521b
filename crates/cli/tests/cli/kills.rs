//! Runs that are killed at any instant leave nothing half written, nothing behind and nothing lost.

#![cfg(unix)]

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use tonemap_core::synth;
use tonemap_media::{TakeReader, WavEncoding};
use tonemap_study::Study;

use crate::bench::{Bench, sine};
use crate::kept::program;

/// Numbers between 0 and 1 that are the same in every run.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }
}

fn drafts_in(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name.starts_with(".tonemap-") || name.starts_with(".tmp")).collect()
}

/// Processes of the program that work in a folder.
fn running_in(folder: &Path) -> usize {
    let folder = folder.canonicalize().expect("there");
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let is_there = |entry: &fs::DirEntry| {
        let working = fs::read_link(entry.path().join("cwd"));
        let program = fs::read_link(entry.path().join("exe"));
        program.is_ok_and(|file| file.file_name().is_some_and(|name| name == "tonemap"))
            && working.is_ok_and(|place| place.starts_with(&folder))
    };
    processes.filter(is_there).count()
}

fn is_whole(file: &Path) -> bool {
    let content = fs::read(file).expect("readable");
    match file.extension().and_then(|ending| ending.to_str()) {
        Some("wav") => TakeReader::open(file).is_ok_and(|reader| reader.info().missing_frames == 0),
        Some("png") => content.ends_with(b"IEND\xaeB`\x82"),
        Some("html") => content.trim_ascii_end().ends_with(b"</html>"),
        Some("npz") => content[content.len().saturating_sub(22)..].starts_with(b"PK\x05\x06"),
        _ => true,
    }
}

/// Kills so many runs of each command line, with each signal in turn, at random instants.
fn kill_runs(each: usize, seed: u64) {
    let bench = Bench::new();
    let folder = bench.path(".");
    bench.run("study make .");
    let noise = synth::to_samples(&synth::white_noise(1, 0.1, 2_880_000));
    bench.take("long.wav", 48_000, WavEncoding::Float, &[noise]);
    for n in 0..6 {
        bench.take(&format!("t{n}.wav"), 48_000, WavEncoding::Float, &[sine(300.0 + f64::from(n))]);
    }
    let added = bench.run("study add t0.wav t1.wav t2.wav --pattern t{cut}.wav");
    assert_eq!(added.status, 0, "{}", added.err);
    bench.run("spectrum t0.wav --format json --output saved.json --quiet");
    let lines: [&[&str]; 9] = [
        &["spectrogram", "long.wav", "--figure", "s.png", "--data", "s.npz", "--force", "--quiet"],
        &[
            "filter",
            "long.wav",
            "--remove",
            "50Hz..60Hz",
            "--output",
            "f.wav",
            "--force",
            "--quiet",
        ],
        &["signal", "noise level=-20dB", "--duration", "60s", "--output", "g.wav", "--force"],
        &["report", "t0", "t1", "--force", "--quiet"],
        &["trend", "--quantity", "pitch.notes[1].f0_hz", "--over", "cut", "--quiet"],
        &["study", "add", "t3.wav"],
        &["study", "calibrate", "m", "--sensitivity", "12.5mV/Pa", "--full-scale-voltage", "4V"],
        &["demo", "hall", "--force", "--quiet"],
        &["again", "saved.json"],
    ];
    let mut chance = Chance(seed);
    let study = fs::read_to_string(bench.path("study.toml")).expect("a study");
    let mut ended_first = 0;
    for n in 0..each * lines.len() {
        let (line, signal) = (lines[n % lines.len()], ["KILL", "TERM", "INT", "HUP"][n / 3 % 4]);
        fs::write(bench.path("study.toml"), &study).expect("written");
        if line[0] == "report" {
            // So that there is something to measure.
            let _ = fs::remove_dir_all(bench.path(".tonemap/results"));
        }
        let mut child = program(&folder).args(line).spawn().expect("started");
        // From 1 ms, within the start of a short run, to 0.15 s, within the work of a long one.
        std::thread::sleep(Duration::from_secs_f64(0.001 * 150f64.powf(chance.next())));
        let words = [format!("-{signal}"), child.id().to_string()];
        // One that has ended already cannot be killed.
        let _ = Command::new("kill").args(words).output();
        let ended = child.wait().expect("ended");
        ended_first += usize::from(ended.code().is_some());
        let begun = Instant::now();
        while running_in(&folder) > 0 {
            assert!(
                begun.elapsed() < Duration::from_secs(120),
                "{line:?}, {signal}: children live on"
            );
            std::thread::sleep(Duration::from_millis(10));
        }
        if signal == "KILL" {
            // What it left is swept by the next run that writes there.
            for (place, next) in [(".", "inspect t0.wav"), ("hall", "inspect ../t0.wav")] {
                let place = bench.path(place);
                if place.is_dir() {
                    assert!(program(&place).args(next.split(' ')).status().expect("ran").success());
                }
            }
            if line[0] == "trend" || line[0] == "report" {
                assert!(program(&folder).args(lines[4]).status().expect("ran").success());
            }
        }
        for place in [".", "hall", ".tonemap", ".tonemap/results"] {
            let left = drafts_in(&bench.path(place));
            assert_eq!(left, Vec::<String>::new(), "{line:?}, {signal}, in {place}");
        }
        let text = fs::read_to_string(bench.path("study.toml")).expect("the study is there");
        let found = Study::read(&text).expect("a whole study");
        assert!((3..=4).contains(&found.takes.len()), "{text}");
        for place in [".", "hall"] {
            for entry in fs::read_dir(bench.path(place)).into_iter().flatten().flatten() {
                let file = entry.path();
                assert!(!file.is_file() || is_whole(&file), "{}", file.display());
            }
        }
    }
    let all = each * lines.len();
    println!(
        "{all} kills, {} before the run had ended: nothing half written or left",
        all - ended_first
    );
    assert!(3 * ended_first < 2 * all, "too few were killed in time: {ended_first} of {all} ended");
}

#[test]
fn killed_runs_leave_nothing() {
    kill_runs(6, 1);
}

/// The long run: `cargo test -p tonemap --test cli -- --ignored killed`.
#[test]
#[ignore = "takes some minutes"]
fn many_killed_runs_leave_nothing() {
    kill_runs(100, 2);
}

#[test]
fn an_ignored_signal_stays_ignored() {
    let bench = Bench::new();
    let noise = synth::to_samples(&synth::white_noise(1, 0.1, 960_000));
    bench.take("long.wav", 48_000, WavEncoding::Float, &[noise]);
    // As nohup does: the run goes on when the terminal is closed.
    let program = assert_cmd::cargo::cargo_bin!("tonemap").display().to_string();
    let line = format!(
        "trap '' HUP; {program} spectrogram long.wav --data a.csv --every-frame --quiet >/dev/null & \
         sleep 0.1; kill -HUP $!; wait $!"
    );
    let mut shell = Command::new("bash");
    let done = shell.args(["-c", &line]).current_dir(bench.path(".")).status().expect("ran");
    assert!(done.success(), "{done}");
    assert!(bench.path("a.csv").exists());
}

/// A disk that is gone with the value.
struct Mounted(std::path::PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.0).status();
    }
}

#[test]
fn a_full_disk_is_named_and_nothing_of_the_file_is_there() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    fs::create_dir(bench.path("small")).expect("made");
    let small = bench.path("small");
    let mounted = Command::new("mount")
        .args(["-t", "tmpfs", "-o", "size=64k", "tmpfs"])
        .arg(&small)
        .stderr(std::process::Stdio::null())
        .status();
    if !mounted.is_ok_and(|status| status.success()) {
        eprintln!("no small disk can be mounted here: a full one was not tried");
        return;
    }
    let _mounted = Mounted(small.clone());
    for line in [
        "spectrogram a.wav --data small/x.npz --every-frame --quiet",
        "spectrogram a.wav --data small/x.csv --quiet",
        "spectrogram a.wav --figure small/x.png --size 4000x4000 --quiet",
        "filter a.wav --remove 50Hz..60Hz --output small/x.wav --quiet",
        "spectrum a.wav --curve --format json --output small/x.json --quiet",
        "report a.wav --output small/x.html --quiet",
    ] {
        let run = bench.run(line);
        assert_eq!(run.status, 1, "{line}: {}", run.err);
        assert_eq!(run.err.lines().count(), 1, "{line}: {}", run.err);
        let wanted = ["small/x.", "it could not be written, and nothing of it is there"];
        assert!(wanted.iter().all(|words| run.err.contains(words)), "{line}: {}", run.err);
        assert_eq!(run.err.matches("No space left").count(), 1, "{line}: {}", run.err);
        assert_eq!(fs::read_dir(&small).expect("there").count(), 0, "{line}");
    }
}
