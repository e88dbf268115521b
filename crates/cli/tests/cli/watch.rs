//! The live view in a terminal of its own, and its lines of JSON.

use std::io::{Read, Write};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use serde_json::Value;

use crate::bench::{Bench, codes};

/// A terminal with a shell line in it, and what is seen of it.
struct Terminal {
    master: Box<dyn MasterPty + Send>,
    keys: Box<dyn Write + Send>,
    child: Box<dyn Child + Send + Sync>,
    seen: Arc<Mutex<(vt100::Parser, Vec<u8>)>>,
}

const PROGRAM: &str = env!("CARGO_BIN_EXE_tonemap");
fn size_of(cells: u16) -> std::num::NonZeroU16 {
    cells.try_into().expect("cells")
}

/// The slowest machine draws within it.
const PATIENCE: Duration = Duration::from_secs(60);

impl Terminal {
    /// Runs a line of the shell, in which `tonemap` is the built program.
    fn new(bench: &Bench, line: &str, (columns, rows): (u16, u16), colours: bool) -> Self {
        let size = PtySize { rows, cols: columns, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).expect("a terminal");
        let mut command = CommandBuilder::new("sh");
        command.args(["-c", &format!("tonemap() {{ {PROGRAM} \"$@\"; }}; {line}")]);
        command.cwd(bench.path("."));
        command.env("TERM", "xterm-256color");
        command.env_remove("COLORTERM");
        if colours {
            command.env_remove("NO_COLOR");
        } else {
            command.env("NO_COLOR", "1");
        }
        let child = pair.slave.spawn_command(command).expect("a shell");
        let mut reader = pair.master.try_clone_reader().expect("its output");
        let seen = Arc::new(Mutex::new((
            vt100::Parser::new(size_of(rows), size_of(columns), 0),
            Vec::new(),
        )));
        let all = seen.clone();
        std::thread::spawn(move || {
            let mut bytes = vec![0; 65_536];
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                let mut seen = all.lock().expect("seen");
                seen.0.process(&bytes[..count]);
                seen.1.extend_from_slice(&bytes[..count]);
            }
        });
        let keys = pair.master.take_writer().expect("its keys");
        Self { master: pair.master, keys, child, seen }
    }

    fn simulated(bench: &Bench, arguments: &str, size: (u16, u16)) -> Self {
        Self::new(bench, &format!("tonemap watch --simulate {arguments}"), size, true)
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).expect("keys");
        self.keys.flush().expect("keys");
    }

    /// The rows that are seen.
    fn rows(&self) -> Vec<String> {
        let seen = self.seen.lock().expect("seen");
        let screen = seen.0.screen();
        screen.rows(0, screen.size().1.get()).collect()
    }

    fn is_ours(&self) -> bool {
        !self.seen.lock().expect("seen").0.screen().alternate_screen()
    }

    /// Waits until something is seen.
    fn wait_for(&self, what: &str, is_seen: impl Fn(&[String]) -> bool) -> Vec<String> {
        let began = Instant::now();
        loop {
            let rows = self.rows();
            if is_seen(&rows) {
                return rows;
            }
            assert!(began.elapsed() < PATIENCE, "{what} is never seen:\n{}", rows.join("\n"));
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    fn wait_for_text(&self, text: &str) -> Vec<String> {
        self.wait_for(text, |rows| rows.iter().any(|row| row.contains(text)))
    }

    fn status(&mut self) -> u32 {
        let began = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().expect("a status") {
                return status.exit_code();
            }
            assert!(began.elapsed() < PATIENCE, "it never ends:\n{}", self.rows().join("\n"));
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The number of the program's process.
    fn process(&self) -> u32 {
        let shell = self.child.process_id().expect("a process");
        let children = format!("/proc/{shell}/task/{shell}/children");
        let list = std::fs::read_to_string(children).unwrap_or_default();
        list.split_whitespace().last().and_then(|id| id.parse().ok()).unwrap_or(shell)
    }

    fn signal(&self, name: &str) {
        let id = self.process().to_string();
        let sent = std::process::Command::new("kill").args([format!("-{name}"), id]).status();
        assert!(sent.expect("kill").success());
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

/// A number behind some words in a row.
fn number_after(rows: &[String], words: &str) -> f64 {
    let row = rows.iter().find(|row| row.contains(words)).unwrap_or_else(|| {
        panic!("'{words}' is not seen:\n{}", rows.join("\n"));
    });
    let rest = &row[row.find(words).expect("there") + words.len()..];
    let text: String = rest.trim_start().chars().take_while(|c| !c.is_whitespace()).collect();
    text.replace('−', "-").parse().unwrap_or_else(|_| panic!("no number in '{row}'"))
}

/// Seconds of a time as 1:02.5.
fn seconds_of(text: &str) -> Option<f64> {
    let (minutes, rest) = text.split_once(':')?;
    Some(60.0 * minutes.parse::<f64>().ok()? + rest.parse::<f64>().ok()?)
}

fn clock_is_at_least(seconds: f64) -> impl Fn(&[String]) -> bool {
    move |rows| {
        let text = rows.first().and_then(|row| row.trim_end().rsplit(' ').next());
        text.and_then(seconds_of).is_some_and(|clock_s| clock_s >= seconds)
    }
}

fn recording_lasts_at_least(seconds: f64) -> impl Fn(&[String]) -> bool {
    move |rows| {
        let text = rows.first().and_then(|row| row.split("● recording ").nth(1)?.split(' ').next());
        text.and_then(seconds_of).is_some_and(|recorded_s| recorded_s >= seconds)
    }
}

/// A raw take of 24 bits: its bytes, and its samples as codes.
fn raw_24(channels: usize, frames: usize, of: impl Fn(usize, usize) -> f64) -> (Vec<u8>, Vec<i32>) {
    let codes = (0..frames).flat_map(|n| (0..channels).map(move |channel| (n, channel)));
    let codes: Vec<i32> = codes.map(|(n, channel)| (of(n, channel) * 8_388_607.0) as i32).collect();
    let bytes = codes.iter().flat_map(|code| code.to_le_bytes()[..3].to_vec()).collect();
    (bytes, codes)
}

fn tone(n: usize, channel: usize) -> f64 {
    let turns = n as f64 * [440.0, 997.0][channel % 2] / 48_000.0;
    0.4 * (std::f64::consts::TAU * turns).sin() + 0.001 * ((n * 7919 % 2003) as f64 / 1001.5 - 1.0)
}

#[test]
fn each_view_has_its_axes_and_its_numbers_at_every_size() {
    let bench = Bench::new();
    let views: [(&str, &str, &[&str]); 6] = [
        ("1", "all", &["ms", "Hz", "dBFS", "FS", "ct", "±"]),
        ("2", "waveform", &["ms", "FS"]),
        ("3", "spectrum", &["Hz", "dBFS", "100", "1k", "note", "resolution"]),
        ("4", "spectrogram", &["Hz", "−100", "0 dB", "1k"]),
        ("5", "pitch", &["Hz", "ct", "−50", "+50", "A4 440 Hz", "±"]),
        ("6", "partials", &["inharmonicity B", "ct from harmonic", "f0"]),
    ];
    for size in [(80, 24), (120, 40), (200, 60)] {
        let mut terminal = Terminal::simulated(&bench, "", size);
        terminal.wait_for("the second note", clock_is_at_least(1.3));
        for (key, name, words) in views {
            terminal.press(key);
            let has_all = |rows: &[String]| {
                let text = rows.join("\n");
                words.iter().all(|word| text.contains(word))
            };
            let rows = terminal.wait_for(&format!("{name} at {size:?}: {words:?}"), has_all);
            let title = &rows[0];
            assert!(title.starts_with(" harp in Alder Hall"), "{name} at {size:?}: {title}");
            assert!(rows[1].contains("peak") && rows[2].contains("LZF"), "{name} at {size:?}");
            let footer = rows.last().expect("rows");
            assert!(footer.contains("1-6 view") && footer.contains("? keys"), "{footer}");
            // A line that is too long for its row would begin the next with its rest.
            assert!(rows.iter().all(|row| row.chars().count() <= usize::from(size.0)));
            let is_torn = |row: &&String| row.starts_with("dBFS") || row.starts_with("resolution");
            assert!(!rows[1..].iter().any(|row| is_torn(&row)), "{}", rows.join("\n"));
        }
        terminal.press("q");
        assert_eq!(terminal.status(), 0);
    }
}

#[test]
fn the_view_follows_the_size_of_its_terminal() {
    let bench = Bench::new();
    let mut terminal = Terminal::simulated(&bench, "--view spectrum", (120, 40));
    terminal.wait_for("a picture", clock_is_at_least(0.5));
    for (columns, rows) in [(80, 24), (150, 45), (50, 10), (80, 24)] {
        let size = PtySize { rows, cols: columns, pixel_width: 0, pixel_height: 0 };
        terminal
            .seen
            .lock()
            .expect("seen")
            .0
            .screen_mut()
            .set_size(size_of(rows), size_of(columns));
        terminal.master.resize(size).expect("resized");
        if rows < 18 {
            terminal.wait_for_text("needs 60 and 18");
        } else {
            terminal.wait_for("its footer", |seen| {
                seen.len() == usize::from(rows)
                    && seen.last().is_some_and(|row| row.contains("1-6 view"))
                    && seen[0].contains("harp in Alder Hall")
            });
        }
    }
    terminal.press("q");
    assert_eq!(terminal.status(), 0);
}

#[test]
fn frozen_cursors_measure_the_period_of_a_tone() {
    let bench = Bench::new();
    for (hz, size) in [(440.0, (80, 24)), (87.3, (120, 40)), (1760.0, (100, 30))] {
        let voices = format!("'tone frequency={hz}Hz level=-12dB' --simulate 'noise level=-60dB'");
        let mut terminal = Terminal::simulated(&bench, &format!("{voices} --view waveform"), size);
        terminal.wait_for("a picture", clock_is_at_least(1.0));
        terminal.press(" ");
        let frozen = terminal.wait_for_text("FROZEN");
        // Two periods and more of the lowest lie between the cursors.
        terminal.press(if hz < 100.0 { "--cc" } else { "cc" });
        let rows = terminal.wait_for_text("period ");
        let period_ms = number_after(&rows, "period ");
        let row = rows.iter().find(|row| row.contains("period ")).expect("a period").clone();
        let frequency = number_after(&[row], " ms = ");
        println!("period of {hz} Hz: {period_ms} ms, {frequency} Hz");
        assert!((period_ms * hz / 1000.0 - 1.0).abs() < 1e-3, "{hz}: {period_ms}");
        assert!((frequency / hz - 1.0).abs() < 1e-3, "{hz}: {frequency}");
        // The cursor that is moved moves, and what is frozen stays.
        let before = number_after(&rows, " B ");
        terminal.press("\x1b[C\x1b[C\x1b[C");
        let moved = terminal.wait_for("a moved cursor", |rows| {
            rows.iter().any(|row| row.contains("period ")) && number_after(rows, " B ") > before
        });
        assert_eq!(moved[0], frozen[0]);
        terminal.press("q");
        assert_eq!(terminal.status(), 0);
    }
}

#[test]
fn keys_do_what_the_footer_says() {
    let bench = Bench::new();
    let arguments =
        "'tone frequency=441Hz level=-20dB' --simulate 'noise level=-70dB' --view spectrum";
    let mut terminal = Terminal::simulated(&bench, arguments, (120, 40));
    let rows = terminal.wait_for("a tone", |rows| rows.iter().any(|row| row.contains("441.00")));
    assert!(rows.iter().any(|row| row.contains("+3.9")), "{}", rows.join("\n"));
    let steps = [
        ("?", "Keys · any key closes this"),
        ("x", "1-6 view"),
        ("]", "441.00  A4      +2.0"),
        (",", "20.0 Hz resolution"),
        (".", "10.0 Hz resolution"),
        ("w", "hann window"),
        ("a", "average of 1.0 s"),
        ("h", "highest held"),
        ("cc", "B−A"),
        ("f", "LAF"),
        ("t", "LAS"),
        ("5", "A4 440.5 Hz"),
        ("6", "ct from harmonic"),
        ("\t", "441"),
    ];
    for (keys, seen) in steps {
        terminal.press(keys);
        terminal.wait_for_text(seen);
    }
    terminal.press("l3");
    terminal.wait_for("a linear axis", |rows| {
        rows.iter().any(|row| row.contains("10000") || row.contains("5000"))
    });
    terminal.press("+");
    terminal.press("p");
    terminal.wait_for_text("saved watch-1.png");
    let picture = std::fs::read(bench.path("watch-1.png")).expect("a picture");
    assert!(picture.starts_with(b"\x89PNG") && picture.len() > 5000);
    terminal.press("\x1b");
    assert_eq!(terminal.status(), 0);
}

#[test]
fn what_is_saved_and_recorded_is_what_was_sent() {
    let bench = Bench::new();
    let (bytes, codes) = raw_24(2, 3 * 48_000, tone);
    std::fs::write(bench.path("sent.raw"), &bytes).expect("written");
    bench.run("study make .");
    // All of it comes at once, then nothing more until the view is left.
    let line = "(cat sent.raw; sleep 30) | tonemap watch - --raw s24le,48kHz,2 --pre-roll 5s";
    let mut terminal = Terminal::new(&bench, line, (100, 30), true);
    terminal.wait_for("all of it", clock_is_at_least(2.99));
    terminal.press("s");
    terminal.wait_for_text("saved watch-1.wav with the last 3.0 s");
    terminal.press("r");
    terminal.wait_for_text("recording 0:03.0");
    terminal.press("r");
    terminal.wait_for_text("recorded watch-2.wav with 3.0 s");
    terminal.press("q");
    for name in ["watch-1.wav", "watch-2.wav"] {
        let wav = std::fs::read(bench.path(name)).expect("a take");
        let data = wav.windows(4).position(|four| four == b"data").expect("data");
        assert_eq!(wav[data + 8..].len(), bytes.len());
        assert!(wav[data + 8..] == bytes[..], "{name} differs from what was sent");
        assert_eq!(codes.len(), 6 * 48_000);
    }
    let text = std::fs::read_to_string(bench.path("watch-1.json")).expect("numbers");
    let numbers: Value = serde_json::from_str(&text).expect("JSON");
    assert_eq!(numbers["result"]["time_s"], 3.0);
    assert!((numbers["result"]["pitch"]["f0_hz"].as_f64().expect("a pitch") - 440.0).abs() < 0.1);
    let study = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    assert!(study.contains("watch-1.wav") && study.contains("watch-2.wav"), "{study}");
}

#[test]
fn what_is_saved_of_a_frozen_picture_ends_with_it() {
    let bench = Bench::new();
    let (bytes, _) = raw_24(1, 4 * 48_000, tone);
    std::fs::write(bench.path("one.raw"), &bytes[..3 * 48_000]).expect("written");
    std::fs::write(bench.path("rest.raw"), &bytes[3 * 48_000..]).expect("written");
    let line =
        "(cat one.raw; sleep 2; cat rest.raw; sleep 30) | tonemap watch - --raw s24le,48kHz,1";
    let mut terminal = Terminal::new(&bench, line, (100, 30), true);
    terminal.wait_for("the first second", clock_is_at_least(0.99));
    terminal.press(" ");
    terminal.wait_for_text("FROZEN");
    std::thread::sleep(Duration::from_secs(3));
    assert!(terminal.rows()[0].contains("0:01.0"));
    terminal.press("s");
    terminal.wait_for_text("saved watch-1.wav with the last 1.0 s");
    terminal.press(" ");
    terminal.wait_for("the rest", clock_is_at_least(3.99));
    terminal.press("s");
    terminal.wait_for_text("saved watch-2.wav with the last 4.0 s");
    terminal.press("q");
}

#[test]
fn samples_are_passed_on_unchanged() {
    let bench = Bench::new();
    let (bytes, _) = raw_24(2, 48_000, tone);
    std::fs::write(bench.path("sent.raw"), &bytes[..bytes.len() - 1]).expect("written");
    let line = "cat sent.raw | tonemap watch - --raw s24le,48kHz,2 --through > passed.raw";
    let mut terminal = Terminal::new(&bench, line, (80, 24), true);
    terminal.wait_for_text("ended");
    terminal.press("q");
    assert_eq!(terminal.status(), 0);
    let passed = std::fs::read(bench.path("passed.raw")).expect("samples");
    assert!(passed == bytes[..bytes.len() - 1]);
    // Whoever took them is gone: the view goes on.
    let line = "(cat sent.raw; sleep 1; cat sent.raw sent.raw; sleep 30) | tonemap watch - --raw \
                s24le,48kHz,2 --through | head -c 1000 > passed.raw";
    let mut terminal = Terminal::new(&bench, line, (80, 24), true);
    terminal.wait_for_text("nobody takes the samples any more");
    terminal.wait_for("the rest", clock_is_at_least(2.9));
    terminal.press("q");
}

#[test]
fn the_terminal_is_left_as_it_was() {
    let bench = Bench::new();
    let ends: [(&str, &str); 4] = [("q", ""), ("\x03", ""), ("", "TERM"), ("", "INT")];
    for (key, signal) in ends {
        let line = "echo before; tonemap watch --simulate; echo after $?";
        let mut terminal = Terminal::new(&bench, line, (80, 24), true);
        terminal.wait_for("a picture", clock_is_at_least(0.2));
        assert!(!terminal.is_ours());
        match key {
            "" => terminal.signal(signal),
            key => terminal.press(key),
        }
        let rows = terminal.wait_for_text("after");
        assert!(terminal.is_ours());
        assert_eq!((rows[0].trim(), rows[1].trim()), ("before", rows[1].trim()));
        let seen = terminal.seen.lock().expect("seen");
        assert!(!seen.0.screen().hide_cursor(), "the cursor is hidden after {key}{signal}");
    }
}

#[test]
fn a_view_that_is_stopped_gives_the_terminal_back() {
    let bench = Bench::new();
    // A shell with job control puts what is stopped aside.
    let line =
        "set -m; tonemap watch --simulate; echo stopped; sleep 1; fg > /dev/null; echo ended";
    for by_key in [true, false] {
        let mut terminal = Terminal::new(&bench, line, (80, 24), true);
        terminal.wait_for("a picture", clock_is_at_least(0.2));
        if by_key {
            terminal.press("\x1a");
        } else {
            terminal.signal("TSTP");
        }
        terminal.wait_for_text("stopped");
        assert!(terminal.is_ours());
        terminal.wait_for("the picture again", |rows| rows[0].contains("harp in Alder Hall"));
        assert!(!terminal.is_ours());
        terminal.press("q");
        terminal.wait_for_text("ended");
        assert!(terminal.is_ours());
    }
}

#[test]
fn a_recording_is_finished_when_the_program_is_told_to_end() {
    let bench = Bench::new();
    let mut terminal = Terminal::simulated(&bench, "", (80, 24));
    terminal.wait_for("a picture", clock_is_at_least(0.5));
    terminal.press("r");
    terminal.wait_for("a second of recording", recording_lasts_at_least(1.1));
    terminal.signal("TERM");
    assert_ne!(terminal.status(), 0);
    let json = bench.json("inspect watch-1.wav --format json");
    let lasts_s = json["result"]["duration_s"].as_f64().expect("a duration");
    assert!(lasts_s > 1.0 && json["result"]["channels"].as_array().expect("all").len() == 2);
}

#[test]
fn without_colours_there_are_none() {
    let bench = Bench::new();
    for colours in [true, false] {
        let mut terminal = Terminal::new(&bench, "tonemap watch --simulate", (120, 40), colours);
        terminal.wait_for("a picture", clock_is_at_least(1.5));
        let seen = terminal.seen.lock().expect("seen").1.clone();
        let text = String::from_utf8_lossy(&seen);
        assert_eq!(text.contains("\x1b[38;5;"), colours);
        assert_eq!(text.contains('▓'), !colours);
        terminal.press("q");
    }
}

/// Makes a take of 24 bits.
fn make(bench: &Bench, voices: &[&str], lasts: &str, name: &str) {
    let rest = ["--duration", lasts, "--bits", "24", "--output", name];
    let words = [&["signal"], voices, &rest].concat();
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{}", run.err);
}

/// Lines of JSON.
fn lines(text: &str) -> Vec<Value> {
    text.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect()
}

#[test]
fn numbers_are_those_of_the_commands_on_the_same_samples() {
    let bench = Bench::new();
    let voices =
        ["string frequency=G3 level=-14dB", "string frequency=311Hz start=1.3s level=-20dB"];
    make(&bench, &[voices[0], voices[1], "noise level=-60dB"], "3s", "take.wav");
    let bytes = std::fs::read(bench.path("take.wav")).expect("a take");
    let run = bench.run_with_input("watch - --json --weighting A", &bytes);
    assert_eq!(run.status, 0, "{}", run.err);
    let all = lines(&run.out);
    assert_eq!(all.len(), 30);
    let mut compared = 0;
    for line in all.iter().skip(5).step_by(4) {
        let result = &line["result"];
        let end = |key: &str| result["spectrum"][key].as_f64().expect("a time");
        let (from, to) = (end("from_s"), end("to_s"));
        let spectrum = bench.json(&format!(
            "spectrum take.wav --resolve 10Hz --from {from} --to {to} --format json"
        ));
        assert_eq!(spectrum["result"]["peaks"], result["peaks"], "at {to} s");
        let Some(from) = result["pitch"]["stretch"]["from_s"].as_f64() else { continue };
        let pitch = bench.json(&format!("pitch take.wav --from {from} --to {to} --format json"));
        let last = pitch["result"]["notes"].as_array().expect("notes").last().expect("a note");
        for key in ["f0_hz", "f0_hz_u", "note", "cents", "confidence"] {
            assert_eq!(last[key], result["pitch"][key], "{key} at {to} s");
        }
        compared += 1;
    }
    assert!(compared >= 5, "{compared}");
    let course = bench.json("bands take.wav --weighting A --course --every 100ms --format json");
    let course = course["result"]["course"].as_array().expect("a course");
    let mut worst = 0.0f64;
    for (line, step) in all.iter().zip(course).skip(6) {
        let now = &line["result"]["channels"][0];
        for (live, known) in [("max_db", "max_db"), ("leq_db", "level_db")] {
            let (live, known) = (now[live].as_f64(), step[known].as_f64());
            worst = worst.max((live.expect("a level") - known.expect("a level")).abs());
        }
    }
    println!("levels of watch and bands differ by {worst:.5} dB at most");
    assert!(worst < 0.01, "{worst}");
}

#[test]
fn it_ends_with_the_sound_the_time_or_the_onset() {
    let bench = Bench::new();
    make(&bench, &["noise level=-70dB", "string frequency=A3 start=1.25s"], "3s", "t.wav");
    make(&bench, &["noise level=-70dB"], "2s", "quiet.wav");
    let bytes = |name: &str| std::fs::read(bench.path(name)).expect("a take");
    let run = bench.run_with_input("watch - --json --until-onset", &bytes("t.wav"));
    assert_eq!(run.status, 0, "{}", run.err);
    let last = lines(&run.out).pop().expect("a line");
    let onset_s = last["result"]["onsets_s"][0].as_f64().expect("an onset");
    assert!((onset_s - 1.25).abs() < 0.01, "{onset_s}");
    let run = bench.run_with_input("watch - --json --until-onset", &bytes("quiet.wav"));
    assert_eq!((run.status, run.err.as_str()), (1, "tonemap: nothing began to sound.\n"));
    let run = bench.run_with_input("watch - --json --for 0.35s", &bytes("t.wav"));
    assert_eq!((run.status, lines(&run.out).len()), (0, 3));
    let run = bench.run("watch t.wav --json --speed 20");
    assert_eq!((run.status, lines(&run.out).len()), (0, 30), "{}", run.err);
    assert_eq!(lines(&run.out)[29]["take"]["span"]["to_s"], 3.0);
}

#[test]
fn bad_input_is_said_and_what_is_no_sound_is_found() {
    let bench = Bench::new();
    let run = bench.run("watch --simulate");
    assert_eq!(run.status, 2);
    assert!(run.err.contains("standard output is no terminal"), "{}", run.err);
    let run = bench.run("watch take.wav --through");
    assert!(run.status == 2 && run.err.contains("name - as the take"), "{}", run.err);
    let run = bench.run_with_input("watch - --json", b"");
    assert_eq!(run.status, 1);
    assert!(run.err.contains("standard input: nothing came"), "{}", run.err);
    let run = bench.run_with_input("watch - --json", b"fLaC....");
    assert!(run.status == 1 && run.err.contains("as WAV"), "{}", run.err);
    let run = bench.run_words(&["watch", "--simulate", "take file=a.wav", "--json"]);
    assert!(run.status == 2 && run.err.contains("by its name"), "{}", run.err);
    let run = bench.run("watch --simulate --json --speed 0");
    assert!(run.status == 2 && run.err.contains("--speed"), "{}", run.err);
    let run = bench.run("watch --simulate --json --channel 3 --for 0.1s");
    assert!(run.status == 2 && run.err.contains("there are 2"), "{}", run.err);
    // Samples of 24 bits that are taken for 16 are noise; as they are, they are none.
    let (bytes, _) = raw_24(1, 3 * 48_000, tone);
    for (raw, code) in [("s24le,48kHz,1", None), ("s16le,48kHz,1", Some("looks_misread"))] {
        let run = bench.run_with_input(&format!("watch - --json --raw {raw} --for 2s"), &bytes);
        let last = lines(&run.out).pop().expect("a line");
        assert_eq!(codes(&last).first().copied(), code, "{raw}");
    }
    let still = vec![0u8; 2 * 96_000];
    let run = bench.run_with_input("watch - --json --raw s16le,48kHz,1", &still);
    assert_eq!(codes(&lines(&run.out)[19]), ["nothing_changes"]);
    let quiet: PathBuf = bench.path("watch-1.wav");
    assert!(!quiet.exists());
}
