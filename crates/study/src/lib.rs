//! Studies: a folder whose `study.toml` keeps takes, channels, calibration and conditions together.
//!
//! # The file
//!
//! ```toml
//! title = "Alder Hall, first day"
//! reference_pitch_hz = 440.0        # of A4
//! temperament = "equal"
//!
//! [microphones.near]
//! sensitivity_mv_per_pa = 12.6      # with full_scale_v it gives full_scale_db
//! full_scale_v = 4.0                # peak voltage at full scale
//! full_scale_db = 110.0             # level of a full-scale sine, dB re 20 µPa
//! calibrated = "94.0 dB at 1000 Hz in calibrator.wav"
//!
//! [[takes]]
//! name = "bell-cut3"
//! file = "bell-cut3.wav"            # inside the folder
//! blake3 = "…"                      # of the file when it was added
//! channels = [{ name = "rim", microphone = "near" }]
//! note = "C5"                       # expected
//! group = "bell"                    # takes that belong together
//! conditions = { cut = 3, distance = "1.2 m", strings = "both" }
//! ```
//!
//! All keys may be left out but `name` and `file`. A key that is not listed here is an error: it
//! may be a slip of the pen. The file is meant to be edited by hand, too: when the tool changes it,
//! comments and order stay.
//!
//! Results that were measured for a trend or a report are kept in the hidden folder `.tonemap`,
//! which may be deleted at any time. Each has a checksum: one that is damaged is measured again.
//!
//! # Example
//!
//! ```
//! use tonemap_study::Study;
//!
//! let study = Study::read(
//!     r#"
//!     title = "Alder Hall, first day"
//!     [[takes]]
//!     name = "bell-cut3"
//!     file = "bell-cut3.wav"
//!     conditions = { cut = 3 }
//!     "#,
//! )?;
//! let take = study.take("bell-cut3").expect("it is listed");
//! assert!(take.meets(&"cut = 3".parse()?));
//! # Ok::<(), tonemap_study::Error>(())
//! ```

mod condition;
mod error;
mod pattern;
mod store;
mod study;

pub use condition::{Condition, Wanted};
pub use error::Error;
pub use pattern::Pattern;
pub use store::{OWN_FOLDER, ResultStore};
pub use study::{Channel, FILE_NAME, Microphone, Study, Take};
