//! The built program on files in a temporary folder.
//!
//! - `inspect.rs`, `spectrum.rs`, `spectrogram.rs`, `demo.rs`: what each command gives, in every form
//! - `signal.rs`: test sounds whose truth is known, and filtered takes
//! - `sources.rs`: every format, standard input, samples without a header
//! - `bad_input.rs`: what is refused, how it is said, and that nothing is left behind
//! - `bench.rs`: helpers: a folder with takes, and the program run in it

mod again;
mod bad_input;
mod bench;
mod compare;
mod demo;
mod inspect;
mod partials;
mod pitch;
mod report;
mod signal;
mod sources;
mod spectrogram;
mod spectrum;
mod study;
mod timbre;
mod trend;
mod tuning;
