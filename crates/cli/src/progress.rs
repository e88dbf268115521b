//! A progress bar for work that takes long, on a terminal only.

use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// Work shorter than this shows nothing.
const PATIENCE: Duration = Duration::from_millis(700);

/// Counts samples of a pass over a take.
pub(crate) struct Progress {
    bar: ProgressBar,
    started: Instant,
    shown: bool,
}

impl Progress {
    /// A bar over `total` samples; never shown if `quiet`.
    pub(crate) fn new(what: &'static str, total: u64, quiet: bool) -> Self {
        let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::hidden());
        if let Ok(style) =
            ProgressStyle::with_template("{msg:12} {wide_bar} {percent:>3} %  {eta} left")
        {
            bar.set_style(style);
        }
        bar.set_message(what);
        Self { bar, started: Instant::now(), shown: quiet }
    }

    /// Counts samples that have been worked on.
    pub(crate) fn advance(&mut self, samples: u64) {
        if !self.shown && self.started.elapsed() > PATIENCE {
            self.shown = true;
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        self.bar.inc(samples);
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
