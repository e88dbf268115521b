//! Every analysis against known truth.
//!
//! - a file for each analysis
//! - `support.rs`: trials on all cores, and what their errors are held to
//!
//! `cargo accuracy` makes all trials of every quantity and prints the table of their errors.

mod bands;
mod collection;
mod compare;
mod components;
mod loudness;
mod modulation;
mod notate;
mod others;
mod partials;
mod passby;
mod pitch;
mod rebuild;
mod room;
mod spectrogram;
mod spectrum_averages;
mod spectrum_laws;
mod spectrum_pairs;
mod spectrum_peaks;
mod spectrum_tones;
mod struck;
mod support;
mod timbre;
mod transfer;
mod trend;
mod tuning;
mod unison;

#[test]
#[ignore = "makes all trials: minutes"]
fn whole_table() {
    support::make_all_trials();
    // What fails is said where it does; the table is made to its end all the same.
    let mut failed = 0;
    for measures in [
        bands::MEASURES,
        collection::MEASURES,
        components::MEASURES,
        compare::MEASURES,
        loudness::MEASURES,
        modulation::MEASURES,
        notate::MEASURES,
        others::MEASURES,
        partials::MEASURES,
        passby::MEASURES,
        rebuild::MEASURES,
        pitch::MEASURES,
        room::MEASURES,
        spectrogram::MEASURES,
        spectrum_averages::MEASURES,
        spectrum_pairs::MEASURES,
        spectrum_peaks::MEASURES,
        spectrum_tones::MEASURES,
        struck::MEASURES,
        timbre::MEASURES,
        transfer::MEASURES,
        trend::MEASURES,
        tuning::MEASURES,
        unison::MEASURES,
    ] {
        for measure in measures {
            failed += u32::from(std::panic::catch_unwind(measure).is_err());
        }
    }
    support::print_table();
    assert_eq!(failed, 0);
}
