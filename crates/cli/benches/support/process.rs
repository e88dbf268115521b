//! The program as a whole process, with its time and peak memory.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Runs the program on a take and watches its peak memory, in KiB (Linux only; 0 elsewhere).
pub(crate) fn run(arguments: &[&str], take: &Path) -> (Duration, u64) {
    let started = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_tonemap"))
        .args(arguments)
        .arg(take)
        .stdout(Stdio::null())
        .spawn()
        .expect("the program starts");
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().expect("the program is there").is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok());
        peak = peak.max(kib.unwrap_or(0));
        std::thread::sleep(Duration::from_millis(2));
    }
    (started.elapsed(), peak)
}
