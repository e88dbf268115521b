//! Whether two recordings may be compared at all.

use crate::finding::{Advice, Finding};

/// How a sound was recorded, as far as it matters to a comparison.
#[derive(Debug, Clone, PartialEq)]
pub struct Recorded {
    /// What it is called.
    pub name: String,
    /// Its sample rate in Hz, and its length in seconds.
    pub rate_hz: f64,
    /// See above.
    pub duration_s: f64,
    /// Whether its level re sound pressure is known.
    pub is_calibrated: bool,
    /// Samples that are clipped.
    pub clipped_samples: u64,
    /// Frequency in Hz above which it holds nothing, if its spectrum ends there in an edge.
    pub band_edge_hz: Option<f64>,
    /// Level of its noise in dB re full scale.
    pub noise_floor_dbfs: Option<f64>,
}

/// What stands against comparing `b` with `a`.
#[must_use]
pub fn comparability(a: &Recorded, b: &Recorded) -> Vec<Finding> {
    /// Edges a quarter of an octave apart.
    const BAND_SHARE: f64 = 0.85;
    /// Four times the noise power.
    const NOISE_DB: f64 = 6.0;
    /// Twice as long: means over a decay no longer say the same.
    const LENGTHS: f64 = 2.0;
    let mut findings = Vec::new();
    if a.rate_hz != b.rate_hz {
        findings.push(Finding::warning(
            "rates_differ",
            format!(
                "The sample rates differ: {} Hz in {}, {} Hz in {}. They are compared up to half \
                 the lower one.",
                a.rate_hz, a.name, b.rate_hz, b.name
            ),
        ));
    }
    if a.is_calibrated != b.is_calibrated {
        let (known, other) = if a.is_calibrated { (a, b) } else { (b, a) };
        findings.push(Finding::warning(
            "calibration_differs",
            format!(
                "{} is calibrated, {} is not: levels are compared re full scale, and say nothing \
                 of sound pressure. Calibrate both with \
                 'tonemap study calibrate'.",
                known.name, other.name
            ),
        ));
    }
    for one in [a, b].into_iter().filter(|one| one.clipped_samples > 0) {
        findings.push(Finding::warning(
            "clipping_compared",
            format!(
                "{} is clipped in {} samples: part of the difference is the distortion caused by \
                 it.",
                one.name, one.clipped_samples
            ),
        ));
    }
    for (narrow, wide) in [(a, b), (b, a)] {
        let reach = |one: &Recorded| one.band_edge_hz.unwrap_or(one.rate_hz / 2.0);
        if narrow.band_edge_hz.is_some() && reach(narrow) < BAND_SHARE * reach(wide) {
            findings.push(Finding::warning(
                "bands_differ",
                format!(
                    "The spectrum of {} ends at {:.0} Hz, as a filter or a coder leaves it; that \
                     of {} goes on. Above that frequency \
                 the difference comes from the recording chain.",
                    narrow.name,
                    reach(narrow),
                    wide.name
                ),
            ).advising(Advice::Below(reach(narrow))));
        }
    }
    if let (Some(of_a), Some(of_b)) = (a.noise_floor_dbfs, b.noise_floor_dbfs)
        && (of_a - of_b).abs() > NOISE_DB
    {
        let (loud, quiet) = if of_a > of_b { (a, b) } else { (b, a) };
        findings.push(Finding::note(
            "noise_differs",
            format!(
                "The noise floor of {} is {:.1} dB above that of {}: differences in quiet bands \
                 and weak partials show the \
                 noise, not the source.",
                loud.name,
                (of_a - of_b).abs(),
                quiet.name
            ),
        ));
    }
    let ratio = a.duration_s / b.duration_s;
    if !(1.0 / LENGTHS..=LENGTHS).contains(&ratio) {
        findings.push(Finding::note(
            "lengths_differ",
            format!(
                "{} lasts {:.2} s, {} {:.2} s: averages over a decaying sound depend on how much \
                 of it is included.",
                a.name, a.duration_s, b.name, b.duration_s
            ),
        ).advising(Advice::LikeSpans));
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_trouble_is_told_and_likes_are_not() {
        let a = Recorded {
            name: "a".into(),
            rate_hz: 48_000.0,
            duration_s: 2.0,
            is_calibrated: true,
            clipped_samples: 0,
            band_edge_hz: None,
            noise_floor_dbfs: Some(-80.0),
        };
        assert!(comparability(&a, &Recorded { name: "b".into(), ..a.clone() }).is_empty());
        let b = Recorded {
            name: "b".into(),
            rate_hz: 44_100.0,
            duration_s: 5.0,
            is_calibrated: false,
            clipped_samples: 7,
            band_edge_hz: Some(9000.0),
            noise_floor_dbfs: Some(-60.0),
        };
        let found = comparability(&a, &b);
        let codes: Vec<&str> = found.iter().map(|finding| finding.code.as_ref()).collect();
        let wanted = [
            "rates_differ",
            "calibration_differs",
            "clipping_compared",
            "bands_differ",
            "noise_differs",
            "lengths_differ",
        ];
        assert_eq!(codes, wanted);
    }
}
