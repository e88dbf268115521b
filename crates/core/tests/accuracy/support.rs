//! Trials on all cores, and what their errors are held to.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether all trials are made, for the whole table, or as many as show a fault.
static ALL_TRIALS: AtomicBool = AtomicBool::new(false);

/// What has been held so far, each with what is wrong with it.
static TABLE: Mutex<Vec<(String, Option<String>)>> = Mutex::new(Vec::new());

/// So many times what was measured a tolerance may be at most.
const LARGEST_MARGIN: f64 = 3.0;

/// Fewest values of which a share of 90 to 99 % says something.
const FEWEST_COVERED: usize = 100;

/// From now on all trials are made.
pub(crate) fn make_all_trials() {
    ALL_TRIALS.store(true, Ordering::Relaxed);
}

/// Whether all trials are made: in the table, and of single quantities with `ALL_TRIALS=1`.
fn are_all_made() -> bool {
    ALL_TRIALS.load(Ordering::Relaxed) || std::env::var_os("ALL_TRIALS").is_some()
}

/// A number of trials: a few in each run of the tests, all for the table.
pub(crate) fn trials(few: u64, all: u64) -> u64 {
    if are_all_made() { all } else { few }
}

/// A tolerance: that of few trials, and that of all where single ones among many err by more.
pub(crate) fn tolerance(few: f64, all: f64) -> f64 {
    if are_all_made() { all } else { few }
}

/// Runs `trials` numbered trials on all cores; what they give is in their order.
pub(crate) fn in_parallel<T: Send>(trials: u64, trial: impl Fn(u64) -> T + Sync) -> Vec<T> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    let mut numbered: Vec<(u64, T)> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..cores)
            .map(|first| {
                let trial = &trial;
                let of = move |n| (n, trial(n));
                scope.spawn(move || {
                    (first..trials).step_by(cores as usize).map(of).collect::<Vec<_>>()
                })
            })
            .collect();
        workers.into_iter().flat_map(|worker| worker.join().expect("a trial panicked")).collect()
    });
    numbered.sort_by_key(|(n, _)| *n);
    numbered.into_iter().map(|(_, of)| of).collect()
}

/// Errors of one quantity against known truth.
pub(crate) struct Accuracy {
    quantity: String,
    unit: &'static str,
    errors: Vec<f64>,
    /// Errors over their stated uncertainties, where such are stated.
    over_u: Vec<f64>,
}

impl Accuracy {
    pub(crate) fn new(quantity: impl Into<String>, unit: &'static str) -> Self {
        Self { quantity: quantity.into(), unit, errors: Vec::new(), over_u: Vec::new() }
    }

    /// Adds an error with its stated uncertainty.
    pub(crate) fn add(&mut self, error: f64, u: f64) {
        assert!(u > 0.0, "{}: the uncertainty of a value is {u}", self.quantity);
        self.errors.push(error);
        self.over_u.push(error / u);
    }

    /// Adds an error of a value without an uncertainty.
    pub(crate) fn add_bare(&mut self, error: f64) {
        self.errors.push(error);
    }

    pub(crate) fn all(
        quantity: impl Into<String>,
        unit: &'static str,
        errors: impl IntoIterator<Item = (f64, f64)>,
    ) -> Self {
        let mut accuracy = Self::new(quantity, unit);
        for (error, u) in errors {
            accuracy.add(error, u);
        }
        accuracy
    }

    pub(crate) fn all_bare(
        quantity: impl Into<String>,
        unit: &'static str,
        errors: impl IntoIterator<Item = f64>,
    ) -> Self {
        let mut accuracy = Self::new(quantity, unit);
        for error in errors {
            accuracy.add_bare(error);
        }
        accuracy
    }

    pub(crate) fn rms(&self) -> f64 {
        let count = self.errors.len().max(1) as f64;
        (self.errors.iter().map(|x| x * x).sum::<f64>() / count).sqrt()
    }

    pub(crate) fn worst(&self) -> f64 {
        self.errors.iter().fold(0.0, |worst, x| if x.is_nan() { *x } else { x.abs().max(worst) })
    }

    /// Share of the errors within two stated uncertainties, in percent.
    fn covered(&self) -> f64 {
        let within = self.over_u.iter().filter(|x| x.abs() <= 2.0).count();
        100.0 * within as f64 / self.over_u.len().max(1) as f64
    }

    /// RMS of the errors over their uncertainties: 1 where these are what they say.
    fn rms_over_u(&self) -> f64 {
        let squares: f64 = self.over_u.iter().map(|x| x * x).sum();
        (squares / self.over_u.len().max(1) as f64).sqrt()
    }

    /// The RMS error is at most the tolerance, which is at most three times what is measured; and
    /// where uncertainties are stated, two of them cover 90 to 99 % of the errors.
    pub(crate) fn hold(self, tolerance: f64) {
        let rms = self.rms();
        self.hold_figure("RMS", rms, tolerance);
    }

    /// The same of the largest error.
    pub(crate) fn hold_worst(self, tolerance: f64) {
        let worst = self.worst();
        self.hold_figure("worst", worst, tolerance);
    }

    fn hold_figure(self, figure: &str, measured: f64, tolerance: f64) {
        let covered = if self.over_u.is_empty() {
            "–".into()
        } else {
            format!("{:.1} % {:.2}", self.covered(), self.rms_over_u())
        };
        let row = format!(
            "{:<58} {:>6} {:>12.3e} {:>12.3e} {:>10.2e} {:<5} {:<8} {covered:>16}",
            self.quantity,
            self.errors.len(),
            self.rms(),
            self.worst(),
            tolerance,
            figure,
            self.unit,
        );
        println!("{row}");
        let margin = tolerance / measured;
        let covered = self.covered();
        let fault = if measured.is_nan() || measured > tolerance {
            Some("the error is too large".into())
        } else if margin > LARGEST_MARGIN {
            Some(format!("the tolerance is {margin:.1} times the error"))
        } else if self.over_u.is_empty() || (90.0..=99.0).contains(&covered) {
            None
        } else {
            Some("2 u cover too few or too many".into())
        };
        let is_enough = self.over_u.is_empty() || self.over_u.len() >= FEWEST_COVERED;
        assert!(is_enough, "too few values: {row}");
        // The whole table is made to its end.
        let is_table = ALL_TRIALS.load(Ordering::Relaxed);
        assert!(is_table || fault.is_none(), "{}: {row}", fault.unwrap_or_default());
        let row = (row, fault);
        TABLE.lock().expect("no test panics while it holds the table").push(row);
    }
}

/// Prints what has been held, in the order of names, and fails where something is wrong.
pub(crate) fn print_table() {
    let mut rows = TABLE.lock().expect("no test panics while it holds the table").clone();
    rows.sort();
    println!(
        "{:<58} {:>6} {:>12} {:>12} {:>16} {:<8} {:>16}",
        "quantity", "values", "RMS error", "worst", "tolerance of", "unit", "2 u cover, RMS/u"
    );
    for (row, _) in &rows {
        println!("{row}");
    }
    let faults: Vec<String> = rows
        .iter()
        .filter_map(|(row, fault)| Some(format!("{}: {row}", fault.as_ref()?)))
        .collect();
    assert!(faults.is_empty(), "\n{}", faults.join("\n"));
}
