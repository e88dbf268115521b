//! Tone Map's live view: a sound while it goes on, drawn in the cells of a terminal.
//!
//! A [`Watch`] is shown a listener ([`tonemap_core::live::Listener`]) again and again, measures with
//! it what is to be seen, and draws it; keys change what is seen, and some of them are requests to
//! whoever runs it. It reads no samples, opens no terminal and writes no file.
//!
//! | module | holds |
//! |---|---|
//! | [`watch`](Watch) | what is seen now, and when it is measured anew |
//! | [`keys`](KEYS) | the keys, what they do, and their names in the footer and the help |
//! | `frame` | where everything stands: title, meters, panes, footer |
//! | `waveform`, `spectrum`, `gram`, `tuner`, `harmonics`, `meters` | one pane each |
//! | `plot` | a pane's two axes with round values |
//! | `theme` | colours, for terminals that show many, 256 or none |
//! | `big` | letters of several rows |
//! | `picture` | the cells as a figure |

mod big;
mod frame;
mod gram;
mod harmonics;
mod keys;
mod meters;
mod picture;
mod plot;
mod spectrum;
mod theme;
mod tuner;
mod watch;
mod waveform;

pub use frame::SMALLEST;
pub use keys::{Binding, KEYS, Key};
pub use picture::picture;
pub use theme::{Colours, Looks};
pub use watch::{Pane, Request, Running, Watch};
