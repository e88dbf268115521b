//! Damaged and odd input of every kind: whatever comes, a run ends, in one of the four ways, with
//! one sentence, in bounded memory, and leaves nothing behind.
//!
//! The cases of a seed are the same in every run. `cargo test --release -p tonemap --test cli --
//! --ignored hostile --nocapture` makes many thousands and prints their counts.

#![cfg(unix)]

use std::fs;
use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, sine};

/// A run that goes on for longer does not end.
const LONGEST: Duration = Duration::from_secs(60);
/// Address space of a run: a file that claims to be huge must not make it grow.
const MOST_MEMORY_KIB: u64 = 3 << 20;

/// What a run came to.
struct Ended {
    lasted: Duration,
    memory_kib: u64,
    fault: Option<String>,
}

/// Runs the program in a folder and looks at how it ends.
fn ended(folder: &Path, arguments: &[String]) -> Ended {
    let begun = Instant::now();
    let limit = format!("ulimit -v {MOST_MEMORY_KIB}; exec \"$0\" \"$@\"");
    let mut child = Command::new("sh")
        .args(["-c", &limit])
        .arg(assert_cmd::cargo::cargo_bin!("tonemap"))
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .expect("a shell");
    let mut stderr = child.stderr.take().expect("piped");
    let said = std::thread::spawn(move || {
        let mut bytes = Vec::new();
        stderr.read_to_end(&mut bytes).map(|_| bytes)
    });
    let status_file = format!("/proc/{}/status", child.id());
    let mut memory_kib = 0;
    let status = loop {
        if let Some(status) = child.try_wait().expect("a child") {
            break Some(status);
        }
        if begun.elapsed() > LONGEST {
            child.kill().expect("killed");
            child.wait().expect("gone");
            break None;
        }
        let held = fs::read_to_string(&status_file).unwrap_or_default();
        let peak =
            held.lines().find_map(|line| line.strip_prefix("VmHWM:")?.trim().split(' ').next());
        memory_kib = memory_kib.max(peak.and_then(|kib| kib.parse().ok()).unwrap_or(0));
        std::thread::sleep(Duration::from_millis(2));
    };
    let said = said.join().expect("read").expect("readable");
    let said = String::from_utf8_lossy(&said);
    let last = said.lines().last().unwrap_or_default();
    let fault = match status.map(|status| status.code()) {
        None => Some("it does not end".into()),
        Some(None) => Some("it crashed".into()),
        Some(Some(1 | 2)) if said.trim().is_empty() => Some("it failed without a word".into()),
        Some(Some(0..=3)) => None,
        Some(Some(code)) => Some(format!("it ended with {code}")),
    };
    let fault = fault.or_else(|| said.contains("panicked").then(|| "it panicked".into()));
    let fault = fault.or_else(|| (last.len() > 2000).then(|| "it said too much".into()));
    let fault = fault.map(|fault| format!("{fault}: {arguments:?}: {said}"));
    Ended { lasted: begun.elapsed(), memory_kib, fault }
}

/// Bytes altered, cut out, doubled, cut off or put in.
fn damaged(whole: &[u8], chance: &mut ChaCha8Rng) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    for _ in 0..chance.random_range(1..8) {
        if bytes.is_empty() {
            break;
        }
        // Heads are what readers believe.
        let reach = if chance.random_bool(0.6) { bytes.len().min(200) } else { bytes.len() };
        let at = chance.random_range(0..reach);
        let end = (at + chance.random_range(1..16)).min(bytes.len());
        match chance.random_range(0..6) {
            0 => bytes[at] = chance.random(),
            1 => bytes[at] = [0x00, 0xff, 0x7f, 0x80][chance.random_range(0..4)],
            2 => bytes[at..end].fill(0xff),
            3 => drop(bytes.drain(at..end)),
            4 => bytes.extend_from_within(at..end),
            _ => bytes.truncate(at.max(4)),
        }
    }
    bytes
}

/// Words that numbers, times, frequencies, notes and names may be by mistake or on purpose.
const EXTREMES: &[&str] = &[
    "0",
    "-1",
    "1",
    "1e-300",
    "1e300",
    "inf",
    "-inf",
    "nan",
    "",
    " ",
    "0Hz",
    "1e15",
    "1e15Hz",
    "-5Hz",
    "24kHz",
    "24000.1Hz",
    "..",
    "1..",
    "..1",
    "5kHz..1kHz",
    "1..1.0000001",
    "0..inf",
    "18446744073709551616",
    "4294967295",
    "1e-12s",
    "1:99:99",
    "9999:59",
    "C-99",
    "C99",
    "H9",
    "A4",
    "♯",
    "\u{202e}x",
    "all",
    "mean",
    "a'b\"c",
    "100%",
    "99.9999%",
    "100000x100000",
    "0x0",
    "480x320",
    "/dev/null",
    "../x",
    "-",
    "--",
    "kaiser:1e9",
];

/// Options of each command that take a value.
const OPTIONS: &[(&str, &[&str])] = &[
    ("inspect", &["--from", "--to", "--channel", "--raw", "--require", "--size"]),
    (
        "spectrum",
        &[
            "--from",
            "--to",
            "--resolve",
            "--window",
            "--segment",
            "--transform-size",
            "--hop",
            "--overlap",
            "--zero-pad",
            "--range",
            "--peaks",
            "--smooth",
            "--reference",
        ],
    ),
    (
        "spectrogram",
        &[
            "--from",
            "--to",
            "--resolve",
            "--time",
            "--window",
            "--segment",
            "--hop",
            "--zero-pad",
            "--range",
            "--size",
            "--slice",
        ],
    ),
    ("pitch", &["--from", "--to", "--channel", "--range", "--reference", "--fundamental"]),
    ("partials", &["--from", "--to", "--resolve", "--fundamental", "--channel"]),
    ("timbre", &["--from", "--to", "--range", "--fundamental", "--channel"]),
    (
        "tuning",
        &["--reference", "--root", "--temperament", "--interval", "--target", "--ratios-to"],
    ),
    ("filter", &["--keep", "--remove", "--from", "--to"]),
];

/// A case of a kind in a folder of its own: the arguments of a run.
fn case(bench: &Bench, chance: &mut ChaCha8Rng) -> Vec<String> {
    let words = |line: &str| line.split(' ').map(String::from).collect::<Vec<_>>();
    let seconds = chance.random_range(0.05..0.6);
    let tone = sine(10f64.powf(chance.random_range(1.5..4.0)));
    let tone: Vec<f32> = tone.into_iter().take((seconds * 48_000.0) as usize).collect();
    bench.take("take.wav", 48_000, WavEncoding::Float, &[tone]);
    match chance.random_range(0..8) {
        0 | 1 => {
            let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/data");
            let mut files: Vec<_> = fs::read_dir(data)
                .expect("there")
                .map(|entry| entry.expect("one").path())
                .collect();
            files.sort();
            let file = &files[chance.random_range(0..files.len())];
            let ending = file.extension().expect("one").to_string_lossy().into_owned();
            let name = format!("damaged.{ending}");
            bench.write(&name, &damaged(&fs::read(file).expect("readable"), chance));
            let commands = ["inspect", "spectrum", "spectrogram", "pitch", "partials", "timbre"];
            words(&format!("{} {name}", commands[chance.random_range(0..commands.len())]))
        }
        2 => {
            let whole = b"title = 'x'\n[[take]]\nname = 'a'\nfile = 'take.wav'\nnote = 'A4'\nconditions = {cut = 1}\n\
                [[take.channel]]\nname = 'near'\nfull_scale_db = 120.0\n[tuning]\nreference_pitch_hz = 440\n";
            bench.write("study.toml", &damaged(whole, chance));
            let lines = [
                "study list",
                "study check",
                "inspect a",
                "tuning a",
                "study add take.wav --name b",
            ];
            words(lines[chance.random_range(0..lines.len())])
        }
        3 => {
            let saved = bench.run("partials take.wav --free --format json --quiet").out;
            let saved = if saved.is_empty() {
                "{\"tonemap\":\"0.1.0\",\"kind\":\"pitch\",\"schema\":1}".into()
            } else {
                saved
            };
            bench.write("saved.json", &damaged(saved.as_bytes(), chance));
            bench.write("other.json", saved.as_bytes());
            let lines = [
                "again saved.json",
                "compare saved.json other.json",
                "report saved.json --output r.html",
            ];
            words(lines[chance.random_range(0..lines.len())])
        }
        4 => {
            let whole = b"rate = 48000\nduration = 0.2\nseed = 3\n[[voice]]\nkind = 'tone'\nfrequency = '440Hz'\nlevel = '-6dB'\n";
            bench.write("recipe.toml", &damaged(whole, chance));
            words("signal --recipe recipe.toml --output new.wav --duration 0.2s")
        }
        5 => {
            bench.write(
                "curve.csv",
                &damaged(b"frequency_hz,level_db\n100,0\n1000,1.5\n10000,-3\n", chance),
            );
            words("spectrum take.wav --response curve.csv")
        }
        6 => oddly_named(bench, chance),
        _ => extreme(chance),
    }
}

/// A take with a name that shells, terminals and pages may trip over.
fn oddly_named(bench: &Bench, chance: &mut ChaCha8Rng) -> Vec<String> {
    let names = [
        "-dash.wav",
        "a b.wav",
        "\u{1b}[31mred.wav",
        "é\u{301}.wav",
        "a\nb.wav",
        "<b>.wav",
        "'\".wav",
        "%s.wav",
        "con.wav",
        "a..b.wav",
    ];
    let name = names[chance.random_range(0..names.len())];
    fs::copy(bench.path("take.wav"), bench.path(name)).expect("copied");
    let commands = ["inspect", "spectrum", "report", "study"];
    match commands[chance.random_range(0..commands.len())] {
        "report" => {
            vec!["report".into(), format!("./{name}"), "--output".into(), "r.html".into()]
        }
        "study" => {
            bench.run("study make .");
            vec!["study".into(), "add".into(), format!("./{name}")]
        }
        command => {
            vec![command.into(), format!("./{name}"), "--figure".into(), "f.svg".into()]
        }
    }
}

/// Options with extreme values.
fn extreme(chance: &mut ChaCha8Rng) -> Vec<String> {
    let (command, options) = OPTIONS[chance.random_range(0..OPTIONS.len())];
    let mut line = vec![command.to_string(), "take.wav".into()];
    for _ in 0..chance.random_range(1..4) {
        let option = options[chance.random_range(0..options.len())];
        line.push(format!("{option}={}", EXTREMES[chance.random_range(0..EXTREMES.len())]));
    }
    if command == "filter" {
        line.extend(["--output".into(), "out.wav".into()]);
    }
    line
}

/// Makes so many cases on all cores and prints what came of them.
fn hostile(cases: u64, seed: u64) {
    let next = AtomicU64::new(0);
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let work = || {
        let mut all = Vec::new();
        loop {
            let n = next.fetch_add(1, Ordering::Relaxed);
            if n >= cases {
                return all;
            }
            let mut chance = ChaCha8Rng::seed_from_u64(seed + n);
            let bench = Bench::new();
            let arguments = case(&bench, &mut chance);
            let mut run = ended(bench.folder(), &arguments);
            let left: Vec<String> =
                bench.files().into_iter().filter(|name| name.starts_with(".tonemap-")).collect();
            if run.fault.is_none() && !left.is_empty() {
                run.fault = Some(format!("it left {left:?}: {arguments:?}"));
            }
            all.push((n, run));
        }
    };
    let runs: Vec<(u64, Ended)> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..cores).map(|_| scope.spawn(work)).collect();
        workers.into_iter().flat_map(|worker| worker.join().expect("no panic")).collect()
    });
    let faults: Vec<String> = runs
        .iter()
        .filter_map(|(n, run)| Some(format!("case {n}: {}", run.fault.as_ref()?)))
        .collect();
    let longest = runs.iter().map(|(_, run)| run.lasted).max().unwrap_or_default();
    let memory = runs.iter().map(|(_, run)| run.memory_kib).max().unwrap_or(0) >> 10;
    println!(
        "{cases} hostile cases: {} faults, longest {:.1} s, largest memory {memory} MiB",
        faults.len(),
        longest.as_secs_f64()
    );
    assert!(faults.is_empty(), "{}", faults.join("\n\n"));
}

#[test]
fn hostile_input_is_refused_or_read() {
    hostile(200, 1_000_000);
}

#[test]
#[ignore = "takes some minutes"]
fn much_hostile_input_is_refused_or_read() {
    hostile(10_000, 2_000_000);
}
