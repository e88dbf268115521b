//! Every analysis against known truth.
//!
//! - a file for each analysis
//! - `support.rs`: trials on all cores, and what their errors are held to
//!
//! `cargo accuracy` makes all trials of every quantity and prints the table of their errors.

mod compare;
mod partials;
mod pitch;
mod spectrogram;
mod spectrum_averages;
mod spectrum_laws;
mod spectrum_peaks;
mod spectrum_tones;
mod support;
mod timbre;
mod trend;
mod tuning;

#[test]
#[ignore = "makes all trials: minutes"]
fn whole_table() {
    support::make_all_trials();
    for measures in [
        compare::MEASURES,
        partials::MEASURES,
        pitch::MEASURES,
        spectrogram::MEASURES,
        spectrum_averages::MEASURES,
        spectrum_peaks::MEASURES,
        spectrum_tones::MEASURES,
        timbre::MEASURES,
        trend::MEASURES,
        tuning::MEASURES,
    ] {
        for measure in measures {
            measure();
        }
    }
    support::print_table();
}
