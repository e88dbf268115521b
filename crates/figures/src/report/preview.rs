//! A take in the overview of the report: its waveform and spectrum as small pictures.

use std::fmt::Write as _;

use tonemap_core::Severity;
use tonemap_core::spectrogram::Spectrogram;
use tonemap_core::units::db_from_power;

/// A take in the overview.
#[derive(Debug, Clone, Default)]
pub struct ReportPreview {
    /// Anchor of its section.
    pub section: String,
    /// Its name.
    pub name: String,
    /// Its note, if it has one.
    pub note: String,
    /// Its level with its unit.
    pub level: String,
    /// The most serious finding about it.
    pub mark: Option<Severity>,
    /// Outlines of the two pictures.
    pub pictures: PreviewPictures,
}

/// Outlines of waveform and spectrum, as paths in a field of 120 by 40.
#[derive(Debug, Clone, Default)]
pub struct PreviewPictures {
    pub(crate) waveform: String,
    pub(crate) spectrum: String,
}

const WIDTH: f64 = 120.0;
const HEIGHT: f64 = 40.0;
/// Points across.
const COLUMNS: usize = 120;
/// The spectrum is drawn over this range, and so far below its strongest part.
const FREQUENCIES_HZ: (f64, f64) = (20.0, 20_000.0);
const REACH_DB: f64 = 80.0;

impl PreviewPictures {
    /// The pictures of a take: its samples, and its spectrogram over a logarithmic axis.
    #[must_use]
    pub fn new(samples: &[f32], spectrogram: &Spectrogram) -> Self {
        Self { waveform: waveform(samples), spectrum: spectrum(spectrogram) }
    }
}

/// The outline of a waveform, to its own peak.
fn waveform(samples: &[f32]) -> String {
    let peak = samples.iter().fold(0.0f32, |peak, x| peak.max(x.abs()));
    if peak <= 0.0 || samples.is_empty() {
        return String::new();
    }
    let y = |value: f32| HEIGHT / 2.0 * (1.0 - f64::from(value / peak) * 0.96);
    let stretches = samples.chunks(samples.len().div_ceil(COLUMNS));
    let ends = stretches.map(|stretch| {
        let low = stretch.iter().copied().fold(f32::INFINITY, f32::min);
        (low, stretch.iter().copied().fold(f32::NEG_INFINITY, f32::max))
    });
    let ends: Vec<(f32, f32)> = ends.collect();
    let step = WIDTH / ends.len() as f64;
    // At least as thick as a hair, so that silence shows as a line.
    let above = ends.iter().enumerate().map(|(n, (_, high))| (step * n as f64, y(*high) - 0.3));
    let below = ends.iter().enumerate().rev();
    let below = below.map(|(n, (low, _))| (step * n as f64, y(*low) + 0.3));
    path(above.chain(below)) + "Z"
}

/// The mean spectrum, down from its strongest part.
fn spectrum(spectrogram: &Spectrogram) -> String {
    let power = spectrogram.mean_power();
    let highest = power.iter().copied().fold(0.0, f64::max);
    if highest <= 0.0 {
        return String::new();
    }
    let (low, high) = FREQUENCIES_HZ;
    let x = |hz: f64| WIDTH * (hz / low).ln() / (high / low).ln();
    let middles = spectrogram.plan.edges_hz.windows(2).map(|edge| f64::midpoint(edge[0], edge[1]));
    let points = middles.zip(&power).filter(|(hz, _)| (low..=high).contains(hz));
    let points: Vec<(f64, f64)> = points
        .map(|(hz, power)| (x(hz), db_from_power((power / highest).max(1e-30)).max(-REACH_DB)))
        .collect();
    // The strongest of those that share a point: lines must not get lost.
    let stretches = points.chunks(points.len().div_ceil(COLUMNS).max(1));
    path(stretches.filter_map(|stretch| {
        let strongest = stretch.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1))?;
        Some((strongest.0, 1.0 - (HEIGHT - 2.0) * strongest.1 / REACH_DB))
    }))
}

fn path(points: impl Iterator<Item = (f64, f64)>) -> String {
    let mut path = String::new();
    for (n, (x, y)) in points.enumerate() {
        let _ = write!(path, "{}{x:.1} {y:.1}", if n == 0 { 'M' } else { 'L' });
    }
    path
}
