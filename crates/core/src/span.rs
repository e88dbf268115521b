//! A stretch of time of a recording.

use crate::error::Error;
use crate::finding::Finding;

/// A stretch of time as asked for, in seconds from the start of the recording; `None` means
/// from the beginning or to the end.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Span {
    /// Start in seconds.
    pub from_s: Option<f64>,
    /// End in seconds.
    pub to_s: Option<f64>,
}

/// A span in samples of one recording: `start` is the first sample, `end` is one past the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SampleSpan {
    /// Index of the first sample.
    pub start: u64,
    /// Index after the last sample.
    pub end: u64,
}

impl SampleSpan {
    /// Number of samples.
    #[must_use]
    pub fn len(&self) -> u64 {
        self.end - self.start
    }

    /// Whether it holds no sample.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.end == self.start
    }
}

impl Span {
    /// The samples that this span covers in a recording of `samples` samples.
    ///
    /// The end is cut to the end of the recording.
    ///
    /// # Errors
    ///
    /// [`Error::Span`] if the span is empty or begins after the recording has ended.
    pub fn samples(&self, sample_rate_hz: f64, samples: u64) -> Result<SampleSpan, Error> {
        let duration_s = samples as f64 / sample_rate_hz;
        let from_s = self.from_s.unwrap_or(0.0);
        let to_s = self.to_s.unwrap_or(duration_s);
        let start = (from_s * sample_rate_hz).round();
        let end = (to_s * sample_rate_hz).round().min(samples as f64);
        if start >= 0.0 && start < end {
            Ok(SampleSpan { start: start as u64, end: end as u64 })
        } else {
            Err(Error::Span { from_s, to_s, duration_s })
        }
    }

    /// What must be said of a span whose end lies beyond that of the recording, by more than a
    /// sample.
    #[must_use]
    pub fn cut(&self, sample_rate_hz: f64, samples: u64) -> Option<Finding> {
        let to_s = self.to_s.filter(|to_s| to_s * sample_rate_hz > samples as f64 + 1.0)?;
        Some(Finding::warning(
            "span_cut",
            format!(
                "The span was to end at {to_s} s, but the recording ends at {:.3} s; the result \
                 is for the shorter span.",
                samples as f64 / sample_rate_hz
            ),
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_span_is_cut_to_the_recording() {
        let span = Span { from_s: Some(0.5), to_s: Some(9.0) };
        assert_eq!(span.samples(100.0, 200), Ok(SampleSpan { start: 50, end: 200 }));
        assert_eq!(Span::default().samples(100.0, 200), Ok(SampleSpan { start: 0, end: 200 }));
        let cut = span.cut(100.0, 200).expect("a finding");
        assert!(cut.text.contains("at 9 s") && cut.text.contains("at 2.000 s"), "{}", cut.text);
        let whole = Span { to_s: Some(2.001), ..span };
        assert_eq!((whole.cut(100.0, 200), Span::default().cut(100.0, 200)), (None, None));
    }

    #[test]
    fn an_empty_span_is_refused() {
        for (from, to) in [(2.0, 3.0), (1.0, 1.0), (1.5, 0.5), (-1.0, 1.0), (f64::NAN, 1.0)] {
            let span = Span { from_s: Some(from), to_s: Some(to) };
            assert!(span.samples(100.0, 200).is_err(), "{from} to {to}");
        }
        assert!(Span::default().samples(100.0, 0).is_err());
    }
}
