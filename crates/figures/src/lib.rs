//! Tone Map's results drawn.
//!
//! Every figure is drawn once, as layers of SVG with pictures of pixels between them; its PNG is a
//! rendering of those, so that the two are the same picture. Fonts are embedded: no system font is
//! needed, and none is used.
//!
//! | module | holds |
//! |---|---|
//! | [`spectrum_figure`] | level against frequency, with its tones |
//! | [`narrow_figure`] | level against cents around one frequency |
//! | [`bands_figure`] | levels in bands, weighted levels, and the level over time |
//! | [`spectrogram_figure`] | level over time and frequency as colour |
//! | [`pitch_figure`] | the fundamental over time, with its notes |
//! | [`evidence_figure`] | what speaks for the fundamental at one instant |
//! | [`partials_figure`] | the partials of a note: decays, levels, distance from harmonic |
//! | [`course_figure`] | the descriptors of a note over time |
//! | [`content_figure`] | harmonics over the noise beside them |
//! | [`compass_figure`] | cents and inharmonicity of notes across the compass |
//! | [`map_figure`] | the spectra of all notes side by side |
//! | [`notate_figure`] | notes on staves: a phrase over time, a chord beside its spectrum |
//! | [`unison_figure`] | the partials of strings sounding together, with their decay removed |
//! | [`transfer_figure`] | coherence, magnitude and phase from a reference to a response |
//! | [`room_figure`] | reverberation times over bands, the level over time, the decay of each band |
//! | [`isolation_figure`] | levels in two rooms, and what the wall between them keeps back |
//! | [`loudness_figure`] | loudness along the ear and over time, what bands would save |
//! | [`modulation_figure`] | a sound with its envelope, the rates of that and its depth |
//! | [`targets_figure`] | partials of bells against the ratios wanted |
//! | [`difference_figure`] | two spectra and their difference |
//! | [`maps_figure`] | two spectrograms and their difference |
//! | [`survey_figure`] | quantities over the takes of a survey |
//! | [`trend_figure`] | a quantity against a condition |
//! | [`waterfall_figure`] | spectra one behind the other, over time |
//! | [`waveform_figure`] | waveforms and their RMS levels over time |
//! | [`screen_figure`] | the cells of a terminal |
//! | [`report_page`] | a page of charts that can be zoomed and read |
//! | [`index_page`] | a page that shows a run of commands with their tables and figures |
//!
//! Inside, a figure is made of `panel`s (two axes and what lies between them) on a `sheet` (lines,
//! shapes, text and pictures in pixels); `theme` holds every colour and size, `colours` the maps of
//! pictures, `marks` lays tracks and events over them, `ticks` chooses round values, and `labels`
//! and `legend` name what is drawn.
//!
//! # Example
//!
//! ```
//! use tonemap_core::Measured;
//! use tonemap_core::trend::{TrendFit, TrendPoint, trend};
//! use tonemap_figures::{Size, TrendFigure, Words, trend_figure};
//!
//! let points = [(0.0, 1592.4), (1.0, 1585.0), (2.0, 1577.9)]
//!     .map(|(x, hz)| TrendPoint { x, value: Measured::new(hz, 0.2) });
//! let found = trend(&points, TrendFit::Line);
//! let figure = TrendFigure {
//!     points: &points.map(|point| (point.x, point.value)),
//!     course: &found.course,
//!     names: &[],
//!     value_title: "Second partial, Hz",
//!     condition_title: "Cut",
//!     words: Words { title: "bell", notes: &[], findings: &found.findings },
//! };
//! let drawn = trend_figure(&figure, Size::default())?;
//! assert!(drawn.svg()?.contains("Second partial, Hz"));
//! # Ok::<(), tonemap_figures::Error>(())
//! ```

mod bands;
mod colours;
mod compare;
mod error;
mod glyphs;
mod isolation;
mod labels;
mod legend;
mod loudness;
mod marks;
mod modulation;
mod narrow;
mod notate;
mod notes;
mod page;
mod panel;
mod partials;
mod pitch;
mod rebuild;
mod report;
mod room;
mod screen;
mod sheet;
mod spectrogram;
mod spectrum;
mod survey;
mod theme;
mod ticks;
mod timbre;
mod transfer;
mod trend;
mod tuning;
mod unison;
mod waterfall;
mod waveform;

pub use bands::{BandsFigure, DrawnLevels, bands_figure};
pub use colours::ColourMap;
pub use compare::{DifferenceFigure, MapsFigure, difference_figure, maps_cells, maps_figure};
pub use error::Error;
pub use isolation::{IsolationFigure, isolation_figure};
pub use loudness::{DrawnLoudness, LoudnessFigure, loudness_figure};
pub use marks::{DrawnTone, DrawnTrack, Marks, TrackPoint};
pub use modulation::{ModulationFigure, modulation_cells, modulation_figure};
pub use narrow::{DrawnLook, NarrowFigure, narrow_figure};
pub use notate::{DRAWN_NOTES, NotateFigure, notate_figure};
pub use notes::Words;
pub use page::{PageStep, index_page};
pub use partials::{PartialsFigure, partials_figure};
pub use pitch::{EvidenceFigure, PitchFigure, evidence_figure, pitch_cells, pitch_figure};
pub use rebuild::{RebuildFigure, rebuild_figure};
pub use report::{
    Chart, ChartCurve, DrawnBand, FindingKind, Headline, PreviewPictures, Report, ReportFinding,
    ReportPart, ReportPreview, ReportSection, ReportTable, Theme, bands_chart, course_chart,
    difference_chart, ear_chart, map_chart, report_page, response_chart, rows_chart,
    spectrum_chart, spread_chart, trend_chart,
};
pub use room::{RoomFigure, room_figure};
pub use screen::{ScreenCell, screen_figure};
pub use sheet::{Figure, Size};
pub use spectrogram::{
    Arrangement, DrawnSpectrogram, Shown, SpectrogramFigure, SpectrogramLayout, spectrogram_cells,
    spectrogram_figure,
};
pub use spectrum::{DrawnSpectrum, FrequencyScale, LevelAxis, SpectrumFigure, spectrum_figure};
pub use survey::{SurveyFigure, SurveyGroup, SurveyPanel, survey_figure};
pub use timbre::{ContentFigure, CourseFigure, content_figure, course_figure};
pub use transfer::{TransferFigure, TransferOverlay, transfer_figure, transfer_overlay_figure};
pub use trend::{TrendFigure, trend_figure};
pub use tuning::{
    CompassFigure, MapColumn, MapFigure, TargetSeries, TargetsFigure, compass_figure, map_figure,
    targets_figure,
};
pub use unison::{UnisonFigure, unison_figure};
pub use waterfall::{WaterfallFigure, waterfall_cells, waterfall_figure};
pub use waveform::{
    AmplitudeScale, ChannelCourse, WaveformFigure, waveform_columns, waveform_figure,
};
