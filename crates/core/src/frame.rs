//! Frames: how a running analysis cuts a recording into windowed stretches.
//!
//! The engineer states an intention (what must be resolved) or sets lengths by hand; both end
//! in a [`FramePlan`].

use serde::Serialize;

use crate::error::Error;
use crate::transform::fast_length;
use crate::units::Extent;
use crate::window::{Window, WindowKind};

/// How frames are asked for. `None` means: derived from the rest.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FrameSettings {
    /// The window. Default: Blackman–Harris, whose side lobes lie below −92 dB.
    pub window: WindowKind,
    /// Spacing in Hz of two equal tones to be resolved. Default: [`DEFAULT_RESOLUTION_HZ`].
    pub resolution_hz: Option<f64>,
    /// Length of a frame by hand; overrides the resolution.
    pub segment: Option<Extent>,
    /// Transform length in samples by hand. Default: the next fast length.
    pub transform_size: Option<usize>,
    /// Transform length as a multiple of the frame. Default: 1.
    pub zero_pad: Option<f64>,
    /// Distance between the starts of frames by hand; overrides the overlap.
    pub hop: Option<Extent>,
    /// Share by which frames overlap. Default: [`WindowKind::usual_overlap`].
    pub overlap: Option<f64>,
}

/// Resolution in Hz unless set: resolves the partials of the lowest notes, and a frame lasts
/// about half a second.
pub const DEFAULT_RESOLUTION_HZ: f64 = 5.0;

/// Longest transform that is planned, in samples: 2^26 takes 1.6 GB to hold.
const LONGEST_TRANSFORM: usize = 1 << 26;

impl Default for FrameSettings {
    fn default() -> Self {
        Self {
            window: WindowKind::BlackmanHarris,
            resolution_hz: None,
            segment: None,
            transform_size: None,
            zero_pad: None,
            hop: None,
            overlap: None,
        }
    }
}

/// Frames as they will be used, all lengths in samples.
#[derive(Debug, Clone)]
pub struct FramePlan {
    /// The window; its length is that of a frame.
    pub window: Window,
    /// Transform length, at least that of a frame.
    pub transform_size: usize,
    /// Distance between the starts of successive frames.
    pub hop: usize,
    /// Set if the span could not hold the frame that was asked for: the length it would need.
    pub wanted_samples: Option<usize>,
}

/// The plan in numbers, for a result's record.
#[derive(Debug, Clone, Serialize)]
pub struct FrameFigures {
    /// Name of the window.
    pub window: WindowKind,
    /// Length of a frame in samples.
    pub segment_samples: usize,
    /// Distance between frames in samples.
    pub hop_samples: usize,
    /// Share by which frames overlap.
    pub overlap: f64,
    /// Transform length in samples.
    pub transform_size: usize,
    /// Mean of the window.
    pub coherent_gain: f64,
    /// Noise bandwidth in Hz.
    pub noise_bandwidth_hz: f64,
    /// Level of a tone half-way between two bins of 1/length, in dB, before refinement.
    pub worst_scalloping_db: f64,
    /// Highest side lobe in dB.
    pub highest_side_lobe_db: f64,
}

impl FramePlan {
    /// Works out the frames for a span of `span_samples` samples.
    ///
    /// A frame longer than the span is cut to it, and [`wanted_samples`](Self::wanted_samples)
    /// says so.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a setting that makes no sense, [`Error::TooShort`] for a span of
    /// fewer than 16 samples.
    pub fn new(
        settings: &FrameSettings,
        sample_rate_hz: f64,
        span_samples: u64,
    ) -> Result<Self, Error> {
        /// No window has room for its main lobe in fewer.
        const FEWEST_SAMPLES: u64 = 16;
        if span_samples < FEWEST_SAMPLES {
            return Err(Error::TooShort { samples: span_samples, needed: FEWEST_SAMPLES });
        }
        let wanted = match (settings.segment, settings.resolution_hz) {
            (Some(segment), _) => segment.samples(sample_rate_hz),
            (None, resolution) => {
                // A take of a very low sample rate resolves what it can unless more is asked for.
                let usual_hz = DEFAULT_RESOLUTION_HZ.min(sample_rate_hz / 8.0);
                let resolution_hz = resolution.unwrap_or(usual_hz);
                check_resolution(resolution_hz, sample_rate_hz)?;
                let width = Window::new(settings.window, 4096)?.figures().width_6db_bins;
                fast_length((width * sample_rate_hz / resolution_hz).ceil() as usize)
            }
        };
        let segment = wanted.min(usize::try_from(span_samples).unwrap_or(usize::MAX));
        let transform_size = transform_size(settings, segment)?;
        Ok(Self {
            window: Window::new(settings.window, segment)?,
            transform_size,
            hop: hop(settings, segment, sample_rate_hz)?,
            wanted_samples: (wanted > segment).then_some(wanted),
        })
    }

    /// Length of a frame in samples.
    #[must_use]
    pub fn segment(&self) -> usize {
        self.window.samples().len()
    }

    /// Frames that a span of `span_samples` samples holds.
    #[must_use]
    pub fn frames(&self, span_samples: u64) -> u64 {
        match span_samples.checked_sub(self.segment() as u64) {
            Some(beyond) => 1 + beyond / self.hop as u64,
            None => 0,
        }
    }

    /// Distance between two values of a spectrum, in Hz.
    #[must_use]
    pub fn bin_spacing_hz(&self, sample_rate_hz: f64) -> f64 {
        sample_rate_hz / self.transform_size as f64
    }

    /// Spacing at which two equal tones are still resolved, in Hz: the −6 dB width of the
    /// window. Zero padding does not change it.
    #[must_use]
    pub fn resolution_hz(&self, sample_rate_hz: f64) -> f64 {
        self.window.figures().width_6db_bins * sample_rate_hz / self.segment() as f64
    }

    /// What the side lobes of the power elsewhere bring into each bin at most, groups of bins taken
    /// together; of a spectrum of which noise is so many bins wide.
    pub(crate) fn leaked(&self, mean: &[f64], noise_bins: f64) -> Vec<f64> {
        /// So many are summed pair by pair in less time than a transform takes.
        const GROUPS: usize = 128;
        let size = mean.len().div_ceil(GROUPS);
        let per_bin = self.segment() as f64 / self.transform_size as f64;
        // By distance in groups, from edge to edge.
        let lobes: Vec<f64> = (0..GROUPS)
            .map(|apart| {
                let bins = (apart.max(1) - 1) * size;
                self.window.side_lobe_beyond(bins as f64 * per_bin).powi(2)
            })
            .collect();
        let powers: Vec<f64> =
            mean.chunks(size).map(|bins| bins.iter().sum::<f64>() / noise_bins).collect();
        let of_group = |group: usize| -> f64 {
            let apart = |other: usize| group.abs_diff(other);
            let others = powers.iter().enumerate().filter(|(other, _)| apart(*other) > 1);
            others.map(|(other, power)| power * lobes[apart(other)]).sum()
        };
        let of_groups: Vec<f64> = (0..powers.len()).map(of_group).collect();
        (0..mean.len()).map(|k| of_groups[k / size]).collect()
    }

    /// The plan in numbers.
    #[must_use]
    pub fn figures(&self, sample_rate_hz: f64) -> FrameFigures {
        let window = self.window.figures();
        FrameFigures {
            window: self.window.kind(),
            segment_samples: self.segment(),
            hop_samples: self.hop,
            overlap: 1.0 - self.hop as f64 / self.segment() as f64,
            transform_size: self.transform_size,
            coherent_gain: window.coherent_gain,
            noise_bandwidth_hz: window.noise_bandwidth_bins * sample_rate_hz
                / self.segment() as f64,
            worst_scalloping_db: window.worst_scalloping_db,
            highest_side_lobe_db: window.highest_side_lobe_db,
        }
    }
}

/// Cuts a stream of samples into frames.
#[derive(Clone)]
pub(crate) struct Framer {
    segment: usize,
    /// From the start of a frame to that of the next.
    step: usize,
    /// Samples to leave out before the next frame begins.
    skip: usize,
    /// Samples of the current frame and what has arrived after them.
    pending: Vec<f32>,
}

impl Framer {
    /// Frames of `segment` samples every `step` samples; the first begins `skip` samples into the
    /// stream.
    pub(crate) fn new(segment: usize, step: usize, skip: usize) -> Self {
        Self { segment, step, skip, pending: Vec::with_capacity(2 * segment) }
    }

    /// Takes the next samples and hands over each frame that they complete.
    pub(crate) fn push(&mut self, mut samples: &[f32], mut with_frame: impl FnMut(&[f32])) {
        while !samples.is_empty() {
            let left_out = self.skip.min(samples.len());
            self.skip -= left_out;
            samples = &samples[left_out..];
            let room = 2 * self.segment - self.pending.len();
            let (now, later) = samples.split_at(samples.len().min(room));
            self.pending.extend_from_slice(now);
            samples = later;
            let mut start = 0;
            while start + self.segment <= self.pending.len() {
                with_frame(&self.pending[start..start + self.segment]);
                start += self.step;
            }
            let held = self.pending.len();
            self.skip += start.saturating_sub(held);
            self.pending.drain(..start.min(held));
        }
    }
}

fn check_resolution(resolution_hz: f64, sample_rate_hz: f64) -> Result<(), Error> {
    let lowest = sample_rate_hz / (LONGEST_TRANSFORM / 4) as f64;
    let highest = sample_rate_hz / 8.0;
    if (lowest..=highest).contains(&resolution_hz) {
        return Ok(());
    }
    Err(Error::Setting {
        setting: "the resolution",
        given: format!("{resolution_hz} Hz"),
        allowed: format!("{lowest:.3} Hz to {highest} Hz at this sample rate"),
    })
}

fn transform_size(settings: &FrameSettings, segment: usize) -> Result<usize, Error> {
    let refused = |given: String| Error::Setting {
        setting: "the transform size",
        given,
        allowed: format!("from the frame's {segment} to {LONGEST_TRANSFORM} samples"),
    };
    let size = match (settings.transform_size, settings.zero_pad) {
        (Some(size), _) => size,
        (None, Some(factor)) => {
            let wanted = (factor * segment as f64).ceil();
            // A length is sought only near one that can be had.
            if !(wanted >= 0.0 && wanted <= LONGEST_TRANSFORM as f64) {
                return Err(refused(format!("{factor} times the frame")));
            }
            fast_length(wanted as usize)
        }
        (None, None) => fast_length(segment),
    };
    if (segment..=LONGEST_TRANSFORM).contains(&size) {
        return Ok(size);
    }
    Err(refused(format!("{size} samples")))
}

fn hop(settings: &FrameSettings, segment: usize, sample_rate_hz: f64) -> Result<usize, Error> {
    let hop = match (settings.hop, settings.overlap) {
        (Some(hop), _) => hop.samples(sample_rate_hz),
        (None, overlap) => {
            let overlap = overlap.unwrap_or_else(|| settings.window.usual_overlap());
            (segment as f64 * (1.0 - overlap)).round().max(1.0) as usize
        }
    };
    if (1..=segment).contains(&hop) {
        return Ok(hop);
    }
    Err(Error::Setting {
        setting: "the hop",
        given: format!("{hop} samples"),
        allowed: format!("1 to {segment} samples, the length of a frame"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn resolution_becomes_a_frame_that_reaches_it() {
        for (window, resolution_hz) in [
            (WindowKind::Hann, 1.0),
            (WindowKind::BlackmanHarris, 5.0),
            (WindowKind::FlatTop, 40.0),
        ] {
            let settings = FrameSettings {
                window,
                resolution_hz: Some(resolution_hz),
                ..FrameSettings::default()
            };
            let plan = FramePlan::new(&settings, 44_743.0, 1 << 20).expect("a plan");
            let reached = plan.resolution_hz(44_743.0);
            assert!(reached <= resolution_hz && reached > 0.95 * resolution_hz, "{reached}");
            assert_eq!(plan.wanted_samples, None);
        }
    }

    #[test]
    fn a_short_span_cuts_the_frame_and_says_so() {
        let plan = FramePlan::new(&FrameSettings::default(), 48_000.0, 1000).expect("a plan");
        assert_eq!(plan.segment(), 1000);
        assert!(plan.wanted_samples.is_some_and(|wanted| (25_590..25_700).contains(&wanted)));
        assert!(FramePlan::new(&FrameSettings::default(), 48_000.0, 15).is_err());
    }

    #[test]
    fn settings_by_hand_are_kept_or_refused() {
        let by_hand = FrameSettings {
            segment: Some(Extent::Samples(1000)),
            transform_size: Some(4001),
            hop: Some(Extent::Samples(123)),
            ..FrameSettings::default()
        };
        let plan = FramePlan::new(&by_hand, 48_000.0, 10_000).expect("a plan");
        assert_eq!((plan.segment(), plan.transform_size, plan.hop), (1000, 4001, 123));
        for wrong in [
            FrameSettings { transform_size: Some(999), ..by_hand },
            FrameSettings { transform_size: None, zero_pad: Some(1e15), ..by_hand },
            FrameSettings { transform_size: None, zero_pad: Some(f64::INFINITY), ..by_hand },
            FrameSettings { transform_size: None, zero_pad: Some(f64::NAN), ..by_hand },
            FrameSettings { transform_size: None, zero_pad: Some(0.5), ..by_hand },
            FrameSettings { hop: Some(Extent::Samples(0)), ..by_hand },
            FrameSettings { hop: Some(Extent::Samples(1001)), ..by_hand },
            FrameSettings { segment: Some(Extent::Samples(2)), ..by_hand },
            FrameSettings { segment: None, resolution_hz: Some(0.0), ..by_hand },
        ] {
            assert!(FramePlan::new(&wrong, 48_000.0, 10_000).is_err(), "{wrong:?}");
        }
    }
}
