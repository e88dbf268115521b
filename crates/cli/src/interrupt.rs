//! Ends: what an interrupted run cleans up, and how it ends with the run that started it.

use std::collections::BTreeSet;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::sync::{Mutex, MutexGuard};

/// Files that go away if the run is interrupted.
static DRAFTS: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// Environment variable that is set where a run ends when its standard input does.
const ENDS_WITH_INPUT: &str = "TONEMAP_ENDS_WITH_INPUT";

/// The files that go away if the run is interrupted. While they are held, the run cannot end so.
pub(crate) fn drafts() -> MutexGuard<'static, BTreeSet<PathBuf>> {
    DRAFTS.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Cleans up from now on when the run is interrupted, terminated or hung up, or when the run that
/// started it is gone.
pub(crate) fn watch() {
    #[cfg(unix)]
    watch_signals();
    if std::env::var_os(ENDS_WITH_INPUT).is_some() {
        std::thread::spawn(|| {
            let mut input = io::stdin().lock();
            // The other end is held by the run that started this one, which never writes.
            while input.read(&mut [0; 64]).is_ok_and(|count| count > 0) {}
            let _held = remove_drafts();
            std::process::exit(1);
        });
    }
}

/// Whether the run ends by itself when it is asked to; which signal asked it, and whether it is to
/// stop for a while.
static ENDS_ITSELF: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicI32 = AtomicI32::new(0);
#[cfg(unix)]
static STOPS: std::sync::LazyLock<std::sync::Arc<AtomicBool>> =
    std::sync::LazyLock::new(Default::default);

/// From now on a run that is interrupted, terminated or hung up finishes what it does and ends by
/// itself ([`is_asked_to_end`]); asked twice, it ends at once.
pub(crate) fn wait_to_be_asked() {
    ENDS_ITSELF.store(true, Ordering::SeqCst);
    #[cfg(unix)]
    {
        // Without the handler the terminal is not given back while the run is stopped.
        let _ = signal_hook::flag::register(signal_hook::consts::SIGTSTP, STOPS.clone());
    }
}

/// Whether the run was asked to end.
pub(crate) fn is_asked_to_end() -> bool {
    ASKED.load(Ordering::SeqCst) != 0
}

/// Whether the run was asked to stop for a while, since this was last asked.
pub(crate) fn is_to_stop() -> bool {
    #[cfg(unix)]
    return STOPS.swap(false, Ordering::SeqCst);
    #[cfg(not(unix))]
    false
}

/// Ends by the signal that asked for it.
pub(crate) fn end_by_signal() {
    #[cfg(unix)]
    {
        let _held = remove_drafts();
        let _ = signal_hook::low_level::emulate_default_handler(ASKED.load(Ordering::SeqCst));
    }
}

#[cfg(unix)]
fn watch_signals() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    use signal_hook::low_level::emulate_default_handler;

    // What the caller wants ignored, as nohup does, stays ignored.
    let ignored = ignored_signals();
    let wanted = [SIGHUP, SIGINT, SIGTERM].into_iter();
    let wanted = wanted.filter(|signal| ignored >> (signal - 1) & 1 == 0);
    // Without the handlers a signal ends the run as well, and the next one cleans up.
    let Ok(mut signals) = Signals::new(wanted) else { return };
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if ENDS_ITSELF.load(Ordering::SeqCst) && ASKED.swap(signal, Ordering::SeqCst) == 0 {
                continue;
            }
            let _held = remove_drafts();
            let _ = emulate_default_handler(signal);
            std::process::exit(1);
        }
    });
}

/// Signals that are ignored, a bit each from the first, as far as the system says.
#[cfg(unix)]
fn ignored_signals() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}

/// Removes all drafts; none can begin while what is returned is held.
fn remove_drafts() -> MutexGuard<'static, BTreeSet<PathBuf>> {
    let drafts = drafts();
    for draft in drafts.iter() {
        let _ = std::fs::remove_file(draft);
    }
    drafts
}

/// Runs this program in a folder, and ends it if this run ends.
pub(crate) fn run_self(
    arguments: &[String],
    folder: &Path,
    environment: &[(&str, String)],
) -> io::Result<Output> {
    let mut command = Command::new(std::env::current_exe()?);
    command.args(arguments).env(ENDS_WITH_INPUT, "yes");
    command.envs(environment.iter().map(|(name, value)| (name, value)));
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    if !folder.as_os_str().is_empty() {
        command.current_dir(folder);
    }
    let mut child = command.spawn()?;
    let _held = child.stdin.take();
    child.wait_with_output()
}
