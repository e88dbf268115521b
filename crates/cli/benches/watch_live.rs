//! The live view in a terminal: how long a click takes from the source to the screen, what 25
//! pictures a second cost, and what a long sound keeps in memory.
//!
//! `cargo bench --bench watch_live` prints the figures; nothing depends on them.

use std::io::{Read, Write};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use portable_pty::{CommandBuilder, PtySize, native_pty_system};

const PROGRAM: &str = env!("CARGO_BIN_EXE_tonemap");
const RATE_HZ: f64 = 48_000.0;

/// A terminal in which the view is drawn, and when each of its bytes came.
struct Terminal {
    child: Box<dyn portable_pty::Child + Send + Sync>,
    seen: Arc<Mutex<vt100::Parser>>,
    _master: Box<dyn portable_pty::MasterPty + Send>,
}

impl Terminal {
    fn new(line: &str, (columns, rows): (u16, u16)) -> Self {
        let size = PtySize { rows, cols: columns, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).expect("a terminal");
        let mut command = CommandBuilder::new("sh");
        command.args(["-c", &format!("exec {line}")]);
        command.env("TERM", "xterm-256color");
        command.env("COLORTERM", "truecolor");
        command.env_remove("NO_COLOR");
        let child = pair.slave.spawn_command(command).expect("a shell");
        let mut reader = pair.master.try_clone_reader().expect("output");
        let cells = |count: u16| count.try_into().expect("cells");
        let seen = Arc::new(Mutex::new(vt100::Parser::new(cells(rows), cells(columns), 0)));
        let all = seen.clone();
        std::thread::spawn(move || {
            let mut bytes = vec![0; 65_536];
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                all.lock().expect("seen").process(&bytes[..count]);
            }
        });
        Self { child, seen, _master: pair.master }
    }

    fn row(&self, n: usize) -> String {
        let seen = self.seen.lock().expect("seen");
        let screen = seen.screen();
        screen.rows(0, screen.size().1.get()).nth(n).unwrap_or_default()
    }

    /// Seconds of one core, and megabytes, that the program has used.
    fn used(&self) -> (f64, f64) {
        let id = self.child.process_id().expect("a process");
        let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
        let rest = stat.rsplit(')').next().unwrap_or_default().to_string();
        let numbers: Vec<f64> = rest.split_whitespace().filter_map(|n| n.parse().ok()).collect();
        let status = std::fs::read_to_string(format!("/proc/{id}/status")).unwrap_or_default();
        let memory = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
        let kilobytes = memory.and_then(|text| text.split_whitespace().next()?.parse().ok());
        // Behind the state, which is no number, user and system time are the 11th and 12th.
        let ticks = numbers.get(10).unwrap_or(&0.0) + numbers.get(11).unwrap_or(&0.0);
        (ticks / 100.0, kilobytes.unwrap_or(0.0) / 1024.0)
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

/// Sends silence as fast as it lasts, then clicks, and waits for the peak to be seen.
fn latency(clicks: usize) -> Vec<f64> {
    let folder = tempfile::tempdir().expect("a folder");
    let pipe = folder.path().join("samples");
    Command::new("mkfifo").arg(&pipe).status().expect("a pipe");
    let line = format!("{PROGRAM} watch - --raw s16le,48kHz,2 < {}", pipe.display());
    let terminal = Terminal::new(&line, (120, 40));
    let mut source = std::fs::File::options().write(true).open(&pipe).expect("a pipe");
    let began = Instant::now();
    let mut sent = 0u32;
    // Blocks of 5 ms, as a sound card gives them.
    let mut send = |code: i16| {
        let due = Duration::from_secs_f64(f64::from(sent) / RATE_HZ);
        std::thread::sleep(due.saturating_sub(began.elapsed()));
        let block: Vec<u8> = (0..2 * 240).flat_map(|_| code.to_le_bytes()).collect();
        source.write_all(&block).expect("sent");
        sent += 240;
        Instant::now()
    };
    let mut all = Vec::new();
    for n in 0..clicks {
        // Peaks are shown for two seconds; clicks fall anywhere between two pictures.
        for k in 0..440 + 7 * (n % 13) {
            send(if k % 2 == 0 { 3 } else { -3 });
        }
        let clicked = send(16_000);
        loop {
            let row = terminal.row(1);
            let peak = row.split("peak").nth(1).and_then(|rest| rest.split_whitespace().next());
            if peak.is_some_and(|peak| peak == "−6.2") {
                break;
            }
            if clicked.elapsed() > Duration::from_secs(3) {
                break;
            }
            std::thread::sleep(Duration::from_micros(200));
        }
        all.push(clicked.elapsed().as_secs_f64() * 1000.0);
    }
    all.sort_by(f64::total_cmp);
    all
}

fn cost() {
    for (columns, rows) in [(80, 24), (120, 40), (200, 60)] {
        for view in ["all", "waveform", "spectrum", "spectrogram", "pitch", "partials"] {
            let line = format!("{PROGRAM} watch --simulate --view {view}");
            let terminal = Terminal::new(&line, (columns, rows));
            std::thread::sleep(Duration::from_secs(3));
            let (before, began) = (terminal.used().0, Instant::now());
            std::thread::sleep(Duration::from_secs(6));
            let share = (terminal.used().0 - before) / began.elapsed().as_secs_f64();
            println!("{columns}x{rows} {view:<12} {:>5.1} % of one core", 100.0 * share);
        }
    }
}

fn long_run(hours: f64) {
    let line = format!("{PROGRAM} watch --simulate --speed 50 --for {}s", 3600.0 * hours);
    let terminal = Terminal::new(&line, (120, 40));
    let began = Instant::now();
    loop {
        std::thread::sleep(Duration::from_secs(20));
        let row = terminal.row(0);
        let (_, megabytes) = terminal.used();
        let clock = row.trim_end().rsplit(' ').next().unwrap_or_default().to_string();
        println!("after {:>4.0} s at {clock}: {megabytes:.1} MB", began.elapsed().as_secs_f64());
        if megabytes < 1.0 || began.elapsed().as_secs_f64() > 3600.0 * hours / 50.0 + 60.0 {
            return;
        }
    }
}

/// Lines of JSON of a file of a minute, as fast as they can be measured.
fn lines() {
    let folder = tempfile::tempdir().expect("a folder");
    let take = folder.path().join("minute.wav");
    let made = Command::new(PROGRAM)
        .args(["signal", "string frequency=G3", "noise level=-60dB", "--duration", "60s"])
        .args(["--output".as_ref(), take.as_os_str()])
        .output();
    made.expect("a take");
    let began = Instant::now();
    let input = std::fs::File::open(&take).expect("a take");
    let run =
        Command::new(PROGRAM).args(["watch", "-", "--json"]).stdin(Stdio::from(input)).output();
    let out = run.expect("lines").stdout;
    let lines = String::from_utf8_lossy(&out).lines().count();
    println!("{lines} lines of JSON of a minute in {:.1} s", began.elapsed().as_secs_f64());
}

fn main() {
    let all = latency(40);
    let at = |share: f64| all[((all.len() - 1) as f64 * share) as usize];
    println!(
        "from sample to screen: median {:.0} ms, 95 % within {:.0} ms, longest {:.0} ms",
        at(0.5),
        at(0.95),
        at(1.0)
    );
    cost();
    lines();
    let hours = std::env::args().skip(1).find_map(|word| word.parse().ok());
    long_run(hours.unwrap_or(0.5));
}
