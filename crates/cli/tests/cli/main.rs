//! The built program on files in a temporary folder.
//!
//! - a file for each command: what it gives, in every form
//! - `sources.rs`: every format, standard input, pipes, samples without a header
//! - `bad_input.rs`: what is refused, how it is said, and that nothing is left behind
//! - `levels.rs`: a level means the same everywhere
//! - `reach.rs`: what is found reaches the reader
//! - `kept.rs`: what is the user's stays the user's
//! - `kills.rs`: interrupted runs leave nothing
//! - `shapes.rs`: keys of JSON and heads of CSV; `texts.rs`: help and errors; both as reviewed,
//!   under `snapshots`
//! - `drawn.rs`: what stands in figures
//! - `house.rs`: the order of the sources themselves
//! - `hostile.rs`: damaged and odd input of every kind
//! - `bench.rs`: helpers: a folder with takes, and the program run in it

mod again;
mod bad_input;
mod bands;
mod bench;
mod compare;
mod demo;
mod drawn;
mod findings;
mod hostile;
mod house;
mod inspect;
mod isolation;
mod kept;
mod kills;
mod levels;
mod loudness;
mod manual;
mod modulation;
mod notate;
mod partials;
mod passby;
mod pitch;
mod reach;
mod rebuild;
mod report;
mod room;
mod shapes;
mod signal;
mod sources;
mod spectrogram;
mod spectrum;
mod study;
mod survey;
mod texts;
mod timbre;
mod transfer;
mod trend;
mod tuning;
mod unison;
mod watch;
