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

/// Counts takes that are worked on side by side.
pub(crate) struct TakesProgress {
    bar: ProgressBar,
    started: Instant,
    quiet: bool,
}

impl TakesProgress {
    /// A bar over `total` takes; never shown if `quiet`.
    pub(crate) fn new(what: &'static str, total: usize, quiet: bool) -> Self {
        let hidden = ProgressDrawTarget::hidden();
        let bar = ProgressBar::with_draw_target(Some(total as u64), hidden);
        let template = "{msg:12} {wide_bar} {pos} of {len} takes  {eta} left";
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        bar.set_message(what);
        Self { bar, started: Instant::now(), quiet }
    }

    /// Counts a take that is done.
    pub(crate) fn advance(&self) {
        if !self.quiet && self.bar.is_hidden() && self.started.elapsed() > PATIENCE {
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        self.bar.inc(1);
    }
}

/// Counts takes of a survey, with how fast it goes and how many could not be measured.
pub(crate) struct SurveyProgress {
    bar: ProgressBar,
    started: Instant,
    quiet: bool,
}

impl SurveyProgress {
    /// A bar over `total` takes, of which the first `done` are; never shown if `quiet`.
    pub(crate) fn new(total: u64, done: u64, quiet: bool) -> Self {
        let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::hidden());
        let template = "{msg} {wide_bar} {pos} of {len} takes  {per_sec}  {eta} left";
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        bar.set_message("survey");
        bar.set_position(done);
        bar.reset_eta();
        Self { bar, started: Instant::now(), quiet }
    }

    /// Counts takes that are done, of which so many could not be measured until now.
    pub(crate) fn advance(&self, takes: u64, failed: u64) {
        if !self.quiet && self.bar.is_hidden() && self.started.elapsed() > PATIENCE {
            self.bar.set_draw_target(ProgressDrawTarget::stderr());
        }
        if failed > 0 {
            self.bar.set_message(format!("survey, {failed} failed"));
        }
        self.bar.inc(takes);
    }
}

impl Drop for SurveyProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

impl Drop for TakesProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}
