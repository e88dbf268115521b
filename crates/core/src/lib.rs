//! Signal analysis for Tone Map: everything that is computed, as plain functions and small structs
//! over samples.
//!
//! The crate takes slices, or [`Samples`] that need not fit into memory, and settings, and returns
//! values. It opens no file, prints nothing, draws
//! nothing, starts no thread and keeps no global state.
//!
//! # Where things stand
//!
//! | module | holds |
//! |---|---|
//! | [`units`] | Hz, seconds, notes, cents, decibels, and how a user types them |
//! | [`Measured`] | a value with its standard uncertainty |
//! | [`quantity`] | a number of a result with its key, name, unit and decimals |
//! | [`Span`] | a stretch of time of a recording |
//! | [`Finding`] | what the engineer must know beside a result |
//! | [`bands`] | levels in 1/N-octave bands, weighted in frequency and time, their statistics |
//! | [`stiffness`] | where the partials of a stiff string lie |
//! | [`significance`] | when a difference is more than chance |
//! | [`window`] | window functions and their figures of merit |
//! | [`transform`] | the one place that plans Fourier transforms |
//! | [`frame`] | how a running analysis cuts a recording into frames |
//! | [`intake`] | what a recording is worth: levels, DC, clipping; its course over time |
//! | [`spectrum`] | the averaged spectrum and the tones in it, their series, a zoom |
//! | [`spectrogram`] | level over time and frequency, as cells of a picture |
//! | [`pitch`] | the fundamental over time, its notes, and what speaks for them |
//! | [`partials`] | each partial over time: inharmonicity, decay, beating |
//! | [`timbre`] | descriptors of a note over time: spectrum, attack, harmonic content, noise |
//! | [`tuning`] | notes against a temperament: cents, reference pitch, stretch, beats of intervals |
//! | [`unison`] | strings sounding together: mistuning, beats, a grade |
//! | [`modulation`] | envelope, rate and depth of AM and FM, beats, fluctuation strength, roughness |
//! | [`loudness`] | loudness over the ear and over time, sharpness, programme loudness |
//! | [`transfer`] | what lies between a reference and a response: delay, magnitude, phase, coherence |
//! | [`room`] | reverberation times, clarity and definition of a room |
//! | [`rebuild`] | a sound made again from its partials and noise, changed |
//! | [`notate`] | notes or partials as they are written on staves, with the cents left |
//! | [`resample`] | a sound at another sample rate |
//! | [`passby`] | speed and closest distance of a source from how its tones shift |
//! | [`isolation`] | sound insulation between rooms, and its single numbers |
//! | [`compare`] | two sounds: delay, drift, gain, differences and which of them are real |
//! | [`live`] | a sound while it goes on: the same numbers of what was heard last |
//! | [`collection`] | a quantity over many takes: its spread, and what stands out |
//! | [`fingerprint`] | whether two takes are one recording, copied or coded anew |
//! | [`trend`] | a quantity against a condition: line, course, steps |
//! | [`filter`] | bands kept or removed, with linear phase and no delay |
//! | [`synth`] | sounds whose truth is known |
//!
//! # Conventions
//!
//! - Samples are `f32`, full scale is 1; whatever is measured is computed in `f64`, and
//!   pictures ([`spectrogram`]) in `f32`.
//! - A bare number says its unit in its name: `_hz`, `_s`, `_db`, `_cents`, `_samples`, `_bins`.
//! - Levels are in dB re full scale: a full-scale sine reads 0 dB, both as amplitude and as RMS.
//! - An uncertainty is a standard uncertainty (k = 1) and ends in `_u`.
//! - `Option::None` means unknown; it is never a made-up value.
//!
//! # Example
//!
//! ```
//! use tonemap_core::spectrum::{SpectrumSettings, measure};
//! use tonemap_core::synth::{self, PluckedString};
//!
//! let harp = PluckedString { frequency_hz: 196.0, ..PluckedString::default() };
//! let samples = synth::to_samples(&harp.render(48_000.0, 2.0));
//! let spectrum = measure(&samples, 48_000.0, &SpectrumSettings::default())?;
//! assert_eq!(spectrum.peaks[0].note.to_string(), "G3");
//! # Ok::<(), tonemap_core::Error>(())
//! ```

pub mod bands;
mod between;
pub mod collection;
pub mod compare;
mod error;
pub mod filter;
mod finding;
pub mod fingerprint;
mod fit;
pub mod frame;
mod hearing;
mod histogram;
pub mod intake;
pub mod isolation;
mod lanes;
mod linear;
pub mod live;
pub mod loudness;
mod measured;
pub mod modulation;
pub mod notate;
mod onsets;
pub mod partials;
pub mod passby;
pub mod pitch;
pub mod quantity;
pub mod rebuild;
pub mod resample;
pub mod room;
mod samples;
pub mod significance;
mod span;
pub mod spectrogram;
pub mod spectrum;
pub mod stiffness;
pub mod synth;
pub mod timbre;
pub mod transfer;
pub mod transform;
pub mod trend;
pub mod tuning;
pub mod unison;
pub mod units;
mod wavering;
pub mod window;

pub use error::Error;
pub use finding::{Advice, Finding, Severity, merged, places_text};
pub use measured::Measured;
pub use samples::Samples;
pub use span::{SampleSpan, Span};
