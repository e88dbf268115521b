//! Window functions and their figures of merit.
//!
//! All windows are sampled *periodically* (as one period of length N), which is what averaged
//! spectra need: w\[n\] is symmetric about n = N/2.
//!
//! With s₁ = Σw and s₂ = Σw², over N samples:
//!
//! | figure | equation | unit |
//! |---|---|---|
//! | coherent gain | s₁ / N | – |
//! | noise bandwidth | N·s₂ / s₁² | bins of 1/N |
//! | width at −6 dB | 2·δ where \|W(δ)\| = \|W(0)\| / 2 | bins |
//! | worst scalloping | 20 lg \|W(½)\| / \|W(0)\| | dB |
//! | highest side lobe | max \|W(δ)\| / \|W(0)\| beyond the main lobe | dB |
//!
//! Sources: F. J. Harris, "On the use of windows for harmonic analysis with the discrete Fourier
//! transform", Proc. IEEE 66 (1978); the flat-top is the one of ISO 18431-2:2004; the Kaiser
//! window after J. F. Kaiser and R. W. Schafer, IEEE Trans. ASSP 28 (1980).

use std::f64::consts::{PI, TAU};
use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::error::Error;
use crate::transform::RealTransform;
use crate::units::db_from_amplitude;

/// The window functions.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum WindowKind {
    /// All ones: the narrowest main lobe, the highest side lobes.
    Rectangular,
    /// Raised cosine.
    Hann,
    /// Raised cosine on a pedestal.
    Hamming,
    /// The four-term window with side lobes below −92 dB.
    BlackmanHarris,
    /// Flat main lobe: levels of tones between bins right to 0.01 dB without refinement.
    FlatTop,
    /// Side lobes and width set by `beta`.
    Kaiser {
        /// Shape, from 0 (rectangular) to 30.
        beta: f64,
    },
}

/// Shape of the Kaiser window when none is given: side lobes below −100 dB.
const KAISER_BETA: f64 = 14.0;

impl WindowKind {
    /// Terms of the windows that are sums of cosines, with alternating sign.
    fn cosine_terms(self) -> Option<&'static [f64]> {
        match self {
            Self::Rectangular => Some(&[1.0]),
            Self::Hann => Some(&[0.5, 0.5]),
            Self::Hamming => Some(&[0.54, 0.46]),
            Self::BlackmanHarris => Some(&[0.35875, 0.48829, 0.14128, 0.01168]),
            Self::FlatTop => Some(&[1.0, 1.933, 1.286, 0.388, 0.0322]),
            Self::Kaiser { .. } => None,
        }
    }

    /// Half the width of the main lobe, from its middle to its first zero, in bins.
    #[must_use]
    pub fn main_lobe_half_bins(self) -> f64 {
        match (self, self.cosine_terms()) {
            (Self::Kaiser { beta }, _) => (1.0 + (beta / PI).powi(2)).sqrt(),
            (_, terms) => terms.map_or(1, <[f64]>::len) as f64,
        }
    }

    /// Share by which frames overlap unless set: enough for the average to use what the window
    /// lets through, little enough to cost no more than needed.
    #[must_use]
    pub fn usual_overlap(self) -> f64 {
        match self.main_lobe_half_bins() {
            half if half < 1.5 => 0.0,
            half if half < 2.5 => 0.5,
            half if half < 4.5 => 2.0 / 3.0,
            _ => 0.75,
        }
    }

    /// `length` samples of the window, one period.
    #[must_use]
    pub fn samples(self, length: usize) -> Vec<f64> {
        let n_total = length as f64;
        if let Some(terms) = self.cosine_terms() {
            return (0..length)
                .map(|n| {
                    let angle = TAU * n as f64 / n_total;
                    terms.iter().enumerate().fold(0.0, |sum, (m, term)| {
                        let sign = if m % 2 == 0 { 1.0 } else { -1.0 };
                        sum + sign * term * (m as f64 * angle).cos()
                    })
                })
                .collect();
        }
        let kaiser = Kaiser::new(if let Self::Kaiser { beta } = self { beta } else { 0.0 });
        (0..length).map(|n| kaiser.at(2.0 * n as f64 / n_total - 1.0)).collect()
    }
}

/// A window about its middle, and what filters are made of with it (J. F. Kaiser, Proc. IEEE Int.
/// Symp. Circuits and Systems, 1974).
pub(crate) struct Kaiser {
    beta: f64,
    middle: f64,
}

impl Kaiser {
    pub(crate) fn new(beta: f64) -> Self {
        Self { beta, middle: bessel_i0(beta) }
    }

    /// For a stop band so far down: β = 0.1102·(A − 8.7).
    pub(crate) fn for_stop_band(stop_band_db: f64) -> Self {
        Self::new(0.1102 * (stop_band_db - 8.7))
    }

    /// I₀(β·√(1 − x²))/I₀(β) at x, which is −1 and 1 at its ends.
    pub(crate) fn at(&self, x: f64) -> f64 {
        bessel_i0(self.beta * (1.0 - x * x).max(0.0).sqrt()) / self.middle
    }
}

/// Samples to either side of the middle of a filter with such a stop band and a transition so wide
/// in cycles per sample: (A − 7.95)/(2.285·Δω)/2.
pub(crate) fn filter_half_length(stop_band_db: f64, transition: f64) -> f64 {
    (stop_band_db - 7.95) / (2.285 * TAU * transition) / 2.0
}

/// Response of the ideal low-pass with an edge in cycles per sample, so many samples from its
/// middle.
pub(crate) fn ideal_low_pass(edge: f64, at: f64) -> f64 {
    if at == 0.0 { 2.0 * edge } else { (TAU * edge * at).sin() / (PI * at) }
}

/// Modified Bessel function of the first kind and order zero, by its power series.
fn bessel_i0(x: f64) -> f64 {
    let quarter_square = x * x / 4.0;
    let mut term = 1.0;
    let mut sum = 1.0;
    let mut k = 1.0;
    while term > sum * 1e-17 {
        term *= quarter_square / (k * k);
        sum += term;
        k += 1.0;
    }
    sum
}

impl fmt::Display for WindowKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rectangular => f.write_str("rectangular"),
            Self::Hann => f.write_str("hann"),
            Self::Hamming => f.write_str("hamming"),
            Self::BlackmanHarris => f.write_str("blackman-harris"),
            Self::FlatTop => f.write_str("flat-top"),
            Self::Kaiser { beta } => write!(f, "kaiser:{beta}"),
        }
    }
}

impl Serialize for WindowKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl FromStr for WindowKind {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let unreadable = || Error::Unreadable {
            given: text.into(),
            wanted: "a window",
            forms: "rectangular, hann, hamming, blackman-harris, flat-top, kaiser or kaiser:14",
        };
        match text.trim().to_ascii_lowercase().as_str() {
            "rectangular" => Ok(Self::Rectangular),
            "hann" => Ok(Self::Hann),
            "hamming" => Ok(Self::Hamming),
            "blackman-harris" => Ok(Self::BlackmanHarris),
            "flat-top" => Ok(Self::FlatTop),
            "kaiser" => Ok(Self::Kaiser { beta: KAISER_BETA }),
            name => name
                .strip_prefix("kaiser:")
                .and_then(|beta| beta.parse().ok())
                .filter(|beta| (0.0..=30.0).contains(beta))
                .map(|beta| Self::Kaiser { beta })
                .ok_or_else(unreadable),
        }
    }
}

/// The figures of merit of a window; see the [module](self) for the equations.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct WindowFigures {
    /// Mean of the samples: what a tone's amplitude is multiplied by.
    pub coherent_gain: f64,
    /// Width of the rectangular filter that lets the same noise power through, in bins.
    pub noise_bandwidth_bins: f64,
    /// Width of the main lobe at −6 dB, in bins: the resolution.
    pub width_6db_bins: f64,
    /// Level of a tone half-way between two bins, in dB (negative).
    pub worst_scalloping_db: f64,
    /// Highest side lobe re the main lobe, in dB (negative).
    pub highest_side_lobe_db: f64,
}

/// A window of a given length, ready for use.
#[derive(Debug, Clone)]
pub struct Window {
    kind: WindowKind,
    samples: Vec<f64>,
    /// A shorter copy: the transform of a window, over bins, hardly depends on its length.
    shape: Vec<f64>,
    shape_sum: f64,
    /// Greatest side lobe at or beyond a distance, as amplitude, in steps of 1/[`SIDE_LOBE_STEPS`].
    side_lobes: Vec<f64>,
    figures: WindowFigures,
}

/// Length at which the transform of the window is studied. Against a long window the main lobe is
/// right to (π·4 / 2048)² / 6 = 6e-6.
const SHAPE_LENGTH: usize = 2048;
/// Steps per bin at which side lobes are searched.
const SIDE_LOBE_STEPS: usize = 8;

impl Window {
    /// Makes the window. Allocates `length` samples.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] if `length` is below 4.
    pub fn new(kind: WindowKind, length: usize) -> Result<Self, Error> {
        if length < 4 {
            return Err(Error::Setting {
                setting: "the frame length",
                given: format!("{length} samples"),
                allowed: "4 samples or more".into(),
            });
        }
        let samples = kind.samples(length);
        let shape =
            if length > SHAPE_LENGTH { kind.samples(SHAPE_LENGTH) } else { samples.clone() };
        let side_lobes = side_lobe_envelope(kind, &shape);
        let sum: f64 = samples.iter().sum();
        let sum_of_squares: f64 = samples.iter().map(|w| w * w).sum();
        let mut window = Self {
            kind,
            figures: WindowFigures {
                coherent_gain: sum / length as f64,
                noise_bandwidth_bins: length as f64 * sum_of_squares / (sum * sum),
                width_6db_bins: 0.0,
                worst_scalloping_db: 0.0,
                highest_side_lobe_db: db_from_amplitude(side_lobes[0]),
            },
            samples,
            shape_sum: shape.iter().sum(),
            shape,
            side_lobes,
        };
        window.figures.width_6db_bins = 2.0 * window.half_width(0.5);
        window.figures.worst_scalloping_db = db_from_amplitude(window.response(0.5));
        Ok(window)
    }

    /// Which window it is.
    #[must_use]
    pub fn kind(&self) -> WindowKind {
        self.kind
    }

    /// Its samples.
    #[must_use]
    pub fn samples(&self) -> &[f64] {
        &self.samples
    }

    /// The window sampled at no more than 2048 points, for what depends on its shape alone.
    pub(crate) fn shape(&self) -> &[f64] {
        &self.shape
    }

    /// Its figures of merit.
    #[must_use]
    pub fn figures(&self) -> &WindowFigures {
        &self.figures
    }

    /// Amplitude of its transform `offset_bins` from the middle, re the middle; real, since the
    /// window is symmetric. One bin is 1/length.
    #[must_use]
    pub fn response(&self, offset_bins: f64) -> f64 {
        /// Samples side by side: one after the other, each would wait for the turn of the last.
        const LANES: usize = 8;
        let length = self.shape.len();
        let step = TAU * offset_bins / length as f64;
        // Phasors are turned instead of calling cos for each sample; over 2048 steps the error stays
        // near 1e-13.
        let begin = -step * (length / 2) as f64;
        let mut re: [f64; LANES] = std::array::from_fn(|lane| (begin + step * lane as f64).cos());
        let mut im: [f64; LANES] = std::array::from_fn(|lane| (begin + step * lane as f64).sin());
        let (turn_im, turn_re) = (step * LANES as f64).sin_cos();
        let mut sums = [0.0; LANES];
        let (groups, rest) = self.shape.as_chunks::<LANES>();
        for group in groups {
            for lane in 0..LANES {
                sums[lane] += group[lane] * re[lane];
                let turned = re[lane] * turn_im + im[lane] * turn_re;
                re[lane] = re[lane] * turn_re - im[lane] * turn_im;
                im[lane] = turned;
            }
        }
        let of_rest: f64 = rest.iter().zip(re).map(|(w, re)| w * re).sum();
        (sums.iter().sum::<f64>() + of_rest) / self.shape_sum
    }

    /// Greatest amplitude of any side lobe at `distance_bins` from the main lobe or farther, re the
    /// main lobe. Beyond a quarter of the range studied the envelope is taken to fall by 6 dB per
    /// octave at most, the slowest that any of the windows does.
    #[must_use]
    pub fn side_lobe_beyond(&self, distance_bins: f64) -> f64 {
        let beyond_main = (distance_bins - self.kind.main_lobe_half_bins()).max(0.0);
        let index = (beyond_main * SIDE_LOBE_STEPS as f64) as usize;
        let quarter = self.side_lobes.len() / 4;
        let studied = self.side_lobes.get(index).copied().unwrap_or(0.0);
        if index <= quarter {
            return studied;
        }
        // The ends of a sampled window make lobes that go as cot(πx/N) or 1/sin(πx/N): at a quarter
        // of the range within 6 % of 1/(πx/N), as for a long window, but far less or more at its
        // end.
        studied.max(1.06 * self.side_lobes[quarter] * quarter as f64 / index as f64)
    }

    /// Loss of frequency accuracy against the Cramér–Rao bound when one frame of this window is
    /// used alone: √(Σt²·Σw²t²) / |Σwt²| with t from the middle; 1.53 for Hann. The flat-top, whose
    /// main lobe has no definite top, loses a factor of a hundred.
    #[must_use]
    pub fn frequency_loss(&self) -> f64 {
        let middle = (self.samples.len() as f64 - 1.0) / 2.0;
        let (mut tt, mut wtt, mut wwtt) = (0.0, 0.0, 0.0);
        for (n, w) in self.samples.iter().enumerate() {
            let t = n as f64 - middle;
            tt += t * t;
            wtt += w * t * t;
            wwtt += w * w * t * t;
        }
        (tt * wwtt).sqrt() / wtt.abs()
    }

    /// Number of independent frames that are worth `frames` frames this far apart, for the
    /// variance of averaged noise power (P. D. Welch, IEEE Trans. Audio Electroacoust. 15, 1967):
    /// n / (1 + 2 Σ (1 − m/n) ρ_m²), ρ_m = Σ w\[t\]·w\[t + m·hop\] / Σ w².
    #[must_use]
    pub fn independent_frames(&self, frames: u64, hop: usize) -> f64 {
        let (frames, hop) = self.distinct_frames(frames, hop);
        let w = &self.samples;
        let power: f64 = w.iter().map(|w| w * w).sum();
        let n = frames as f64;
        let mut variance = 1.0;
        let mut lag = hop;
        while lag < w.len() && ((lag / hop) as u64) < frames {
            let rho = w.iter().zip(&w[lag..]).map(|(a, b)| a * b).sum::<f64>() / power;
            variance += 2.0 * (1.0 - (lag / hop) as f64 / n) * rho * rho;
            lag += hop;
        }
        n / variance
    }

    /// Fewer frames that show as much: those that overlap by more than 15/16 say nothing new, and
    /// need not be counted one by one.
    pub(crate) fn distinct_frames(&self, frames: u64, hop: usize) -> (u64, usize) {
        let least = (self.samples.len() / 16).max(1);
        if hop >= least {
            return (frames, hop);
        }
        let reach = frames.saturating_sub(1) as f64 * hop as f64;
        (1 + (reach / least as f64) as u64, least)
    }

    /// Distance from the middle, in bins, at which the main lobe has fallen to `amplitude`.
    fn half_width(&self, amplitude: f64) -> f64 {
        let (mut inside, mut outside) = (0.0, self.kind.main_lobe_half_bins());
        for _ in 0..60 {
            let middle = 0.5 * (inside + outside);
            if self.response(middle) > amplitude {
                inside = middle;
            } else {
                outside = middle;
            }
        }
        0.5 * (inside + outside)
    }
}

/// The greatest side lobe at or beyond each distance from the edge of the main lobe.
fn side_lobe_envelope(kind: WindowKind, shape: &[f64]) -> Vec<f64> {
    let length = shape.len() * SIDE_LOBE_STEPS;
    let mut transform = RealTransform::new(length);
    let mut input = vec![0.0; length];
    input[..shape.len()].copy_from_slice(shape);
    let spectrum = transform.forward(&mut input);
    let middle = spectrum[0].norm();
    let first = (kind.main_lobe_half_bins() * SIDE_LOBE_STEPS as f64).ceil() as usize;
    let mut envelope: Vec<f64> =
        spectrum.iter().skip(first).map(|bin| bin.norm() / middle).collect();
    let mut greatest = 0.0f64;
    for amplitude in envelope.iter_mut().rev() {
        greatest = greatest.max(*amplitude);
        *amplitude = greatest;
    }
    if envelope.is_empty() {
        envelope.push(0.0);
    }
    envelope
}

#[cfg(test)]
mod tests {
    use super::*;

    const ALL: [WindowKind; 6] = [
        WindowKind::Rectangular,
        WindowKind::Hann,
        WindowKind::Hamming,
        WindowKind::BlackmanHarris,
        WindowKind::FlatTop,
        WindowKind::Kaiser { beta: 14.0 },
    ];

    fn figures(kind: WindowKind) -> WindowFigures {
        *Window::new(kind, 16_384).expect("long enough").figures()
    }

    /// Table I of Harris (1978). Two of his figures are not those of the windows as he defines
    /// them, as the closed form of their transforms shows: Hamming's scalloping (he gives −1.78 dB)
    /// and the −6 dB width of Blackman–Harris (2.72). The flat-top's noise bandwidth is the closed
    /// form 1 + ½ Σ a², the other figures follow from the textbook sum below.
    #[test]
    fn figures_agree_with_the_published_ones() {
        for (kind, gain, bandwidth, width, scalloping, side_lobe) in [
            (WindowKind::Rectangular, 1.00, 1.00, 1.21, -3.92, -13.3),
            (WindowKind::Hann, 0.50, 1.50, 2.00, -1.42, -31.5),
            (WindowKind::Hamming, 0.54, 1.36, 1.81, -1.75, -42.7),
            (WindowKind::BlackmanHarris, 0.36, 2.00, 2.67, -0.83, -92.0),
        ] {
            let found = figures(kind);
            assert!((found.coherent_gain - gain).abs() < 0.005, "{kind}: {found:?}");
            assert!((found.noise_bandwidth_bins - bandwidth).abs() < 0.006, "{kind}: {found:?}");
            assert!((found.width_6db_bins - width).abs() < 0.006, "{kind}: {found:?}");
            assert!((found.worst_scalloping_db - scalloping).abs() < 0.006, "{kind}: {found:?}");
            assert!((found.highest_side_lobe_db - side_lobe).abs() < 0.35, "{kind}: {found:?}");
        }
        let terms = [1.933f64, 1.286, 0.388, 0.0322];
        let closed = 1.0 + 0.5 * terms.iter().map(|a| a * a).sum::<f64>();
        let flat = figures(WindowKind::FlatTop);
        assert!((flat.noise_bandwidth_bins - closed).abs() < 1e-9, "{flat:?}");
        assert!(flat.worst_scalloping_db.abs() < 0.02, "{flat:?}");
    }

    /// The transform of every window against the textbook sum over its own samples.
    #[test]
    fn response_agrees_with_the_textbook_sum() {
        for kind in ALL {
            let window = Window::new(kind, 5000).expect("long enough");
            let w = window.samples();
            let sum: f64 = w.iter().sum();
            for step in 0..64 {
                let offset = f64::from(step) / 16.0;
                let direct: f64 = w
                    .iter()
                    .enumerate()
                    .map(|(n, w)| w * (TAU * offset * (n as f64 - 2500.0) / 5000.0).cos())
                    .sum();
                let error = window.response(offset) - direct / sum;
                // Measured: 9e-6 for the rectangular window, whose ends are the steepest.
                assert!(error.abs() < 2e-5, "{kind} at {offset}: {error:e}");
            }
        }
    }

    #[test]
    fn side_lobes_never_exceed_their_envelope() {
        for kind in ALL {
            let window = Window::new(kind, 3000).expect("long enough");
            let first = kind.main_lobe_half_bins();
            for step in 0..2000 {
                let distance = first + f64::from(step) * 0.37;
                let lobe = window.response(distance).abs();
                assert!(
                    lobe <= 1.02 * window.side_lobe_beyond(distance) + 1e-12,
                    "{kind} {distance}"
                );
            }
        }
    }

    #[test]
    fn losses_agree_with_closed_forms() {
        let window = |kind| Window::new(kind, 8192).expect("long enough");
        assert!((window(WindowKind::Rectangular).frequency_loss() - 1.0).abs() < 1e-12);
        assert!((window(WindowKind::Hann).frequency_loss() - 1.53).abs() < 0.005);
        // Hann at 50 %: ρ = 1/6, so 1/(1 + 2/36) of the frames count.
        let worth = window(WindowKind::Hann).independent_frames(10_000, 4096);
        assert!((worth / 10_000.0 - 1.0 / (1.0 + 2.0 / 36.0)).abs() < 1e-4, "{worth}");
    }

    #[test]
    fn names_read_back() {
        for kind in ALL {
            assert_eq!(kind.to_string().parse(), Ok(kind));
        }
        assert!("kaiser:99".parse::<WindowKind>().is_err());
        assert!("hanning".parse::<WindowKind>().is_err());
    }
}
