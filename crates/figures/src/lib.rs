//! Tone Map's results drawn.
//!
//! Every figure is drawn once, as SVG; its PNG is a rendering of that SVG, so that the two are the
//! same picture. Fonts are embedded: no system font is needed, and none is used.
//!
//! | module | holds |
//! |---|---|
//! | [`spectrum_figure`] | level against frequency, with its tones |
//! | [`waveform_figure`] | waveforms and their RMS levels over time |
//! | [`index_page`] | a page that shows a run of commands with their tables and figures |
//!
//! Inside, a figure is made of `panel`s (two axes and what lies between them) on a `sheet`
//! (lines, shapes and text in pixels); `theme` holds every colour and size, and `ticks` chooses
//! round values.

mod colours;
mod error;
mod labels;
mod legend;
mod narrow;
mod notes;
mod page;
mod panel;
mod sheet;
mod spectrogram;
mod spectrum;
mod theme;
mod ticks;
mod waveform;

pub use colours::ColourMap;
pub use error::Error;
pub use narrow::{DrawnLook, NarrowFigure, narrow_figure};
pub use page::{PageStep, index_page};
pub use sheet::{Figure, Size};
pub use spectrogram::{DrawnSpectrogram, SpectrogramFigure, spectrogram_cells, spectrogram_figure};
pub use spectrum::{DrawnSpectrum, FrequencyScale, LevelAxis, SpectrumFigure, spectrum_figure};
pub use waveform::{
    AmplitudeScale, ChannelCourse, WaveformFigure, waveform_columns, waveform_figure,
};
