//! Keeping and removing bands: linear phase, no delay, a stated transition and stop band.
//!
//! # What it computes
//!
//! The ideal response is 1 in the bands that are kept and 0 elsewhere. Its impulse response, a sum
//! of sincs, is cut by a Kaiser window of β = 0.1102·(A − 8.7) to a length of (A − 7.95)/(2.285·Δω)
//! samples (J. F. Kaiser, Proc. IEEE Int. Symp. Circuits and Systems, 1974), Δω being the width of
//! the transition in radians per sample. Each edge is at −6 dB, in the middle of its transition;
//! beyond it the stop band lies below −A dB, and the pass band ripples by as little: with A = 110
//! dB by 3·10⁻⁵ dB. The response is symmetric, so that the phase is linear, and the delay of half
//! its length is taken out: what comes out is as long as what went in, and lies where it lay.

use crate::error::Error;
use crate::transform::Convolver;
use crate::window::{Kaiser, filter_half_length, ideal_low_pass};

/// Depth of the stop band that filters are designed for, in dB.
pub const STOP_BAND_DB: f64 = 110.0;
/// Longest response in samples.
const MOST_TAPS: f64 = 4_194_304.0;

/// What to do with the bands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bands {
    /// Nothing else is left.
    Keep,
    /// All else is left.
    Remove,
}

/// A filter to be designed.
#[derive(Debug, Clone, PartialEq)]
pub struct FilterSettings {
    /// Bands as lowest and highest frequency in Hz; 0 and the Nyquist frequency are no edges.
    pub bands_hz: Vec<(f64, f64)>,
    /// What to do with them.
    pub action: Bands,
    /// Width of each transition in Hz. Default: as wide as the bands allow, up to a tenth of the
    /// lowest edge but at least 1 Hz.
    pub transition_hz: Option<f64>,
}

/// A filter that works through a stream of samples.
pub struct BandFilter {
    taps: usize,
    transition_hz: f64,
    convolver: Convolver,
    pending: Vec<f64>,
    /// Samples still to be left out, so that nothing is late.
    early: usize,
}

impl BandFilter {
    /// Designs the filter.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] without bands, for bands that are empty, overlap or come closer than a
    /// transition, and for a transition that makes no sense.
    pub fn new(settings: &FilterSettings, sample_rate_hz: f64) -> Result<Self, Error> {
        let nyquist_hz = sample_rate_hz / 2.0;
        let mut bands = settings.bands_hz.clone();
        bands.sort_by(|a, b| a.0.total_cmp(&b.0));
        let refuse = |given: String, allowed: &str| {
            Err(Error::Setting { setting: "the band", given, allowed: allowed.into() })
        };
        for (low, high) in &mut bands {
            *high = high.min(nyquist_hz);
            if !(*low >= 0.0 && low < high) {
                let given = format!("{low} Hz to {high} Hz");
                return refuse(given, "rising and begin below half the sample rate");
            }
        }
        if let Some(pair) = bands.windows(2).find(|pair| pair[1].0 <= pair[0].1) {
            let given = format!("{} Hz to {} Hz beside {} Hz", pair[0].0, pair[0].1, pair[1].0);
            return refuse(given, "apart from each other");
        }
        let edges: Vec<f64> = bands
            .iter()
            .flat_map(|(low, high)| [*low, *high])
            .filter(|hz| *hz > 0.0 && *hz < nyquist_hz)
            .collect();
        let Some(lowest) = edges.first().copied() else {
            return refuse("all or nothing".into(), "a part of the spectrum");
        };
        // Transitions must not meet, nor reach 0 Hz or the Nyquist frequency.
        let gaps = edges.windows(2).map(|pair| pair[1] - pair[0]);
        let ends = [2.0 * lowest, 2.0 * (nyquist_hz - edges[edges.len() - 1])];
        let widest = gaps.chain(ends).fold(f64::INFINITY, f64::min);
        let transition_hz =
            settings.transition_hz.unwrap_or((0.1 * lowest).max(1.0).min(0.5 * widest));
        if !(transition_hz > 0.0 && transition_hz <= widest) {
            return Err(Error::Setting {
                setting: "the transition",
                given: format!("{transition_hz} Hz"),
                allowed: format!("above 0 Hz and at most {widest:.3} Hz between these bands"),
            });
        }
        let length = 2.0 * filter_half_length(STOP_BAND_DB, transition_hz / sample_rate_hz);
        if length > MOST_TAPS {
            return Err(Error::Setting {
                setting: "the transition",
                given: format!("{transition_hz} Hz"),
                allowed: format!(
                    "at least {:.4} Hz at this sample rate",
                    transition_hz * length / MOST_TAPS
                ),
            });
        }
        let half = (length / 2.0).ceil() as usize;
        let kernel = kernel(&bands, settings.action, half, sample_rate_hz);
        Ok(Self {
            taps: kernel.len(),
            transition_hz,
            convolver: Convolver::new(&kernel),
            pending: Vec::new(),
            early: half,
        })
    }

    /// Length of the impulse response in samples; it reaches half of that to either side.
    #[must_use]
    pub fn taps(&self) -> usize {
        self.taps
    }

    /// Width of each transition in Hz.
    #[must_use]
    pub fn transition_hz(&self) -> f64 {
        self.transition_hz
    }

    /// Takes the next samples and hands over what has come through.
    pub fn push(&mut self, samples: &[f32], mut filtered: impl FnMut(&[f64])) {
        self.pending.extend(samples.iter().map(|x| f64::from(*x)));
        let block = self.convolver.block();
        while self.pending.len() >= block {
            let rest = self.pending.split_off(block);
            self.convolve(&mut filtered);
            self.pending = rest;
        }
    }

    /// Ends the stream: hands over what is still on its way.
    pub fn finish(mut self, mut filtered: impl FnMut(&[f64])) {
        let late = (self.taps - 1) / 2;
        self.pending.extend(std::iter::repeat_n(0.0, late));
        let block = self.convolver.block();
        while !self.pending.is_empty() {
            let rest = self.pending.split_off(block.min(self.pending.len()));
            self.convolve(&mut filtered);
            self.pending = rest;
        }
    }

    /// Sends the pending samples through, which are no more than a block.
    fn convolve(&mut self, filtered: &mut impl FnMut(&[f64])) {
        let out = self.convolver.convolve(&self.pending);
        let left_out = self.early.min(out.len());
        self.early -= left_out;
        if left_out < out.len() {
            filtered(&out[left_out..]);
        }
    }
}

/// The impulse response, `half` samples to either side of its middle.
fn kernel(bands: &[(f64, f64)], action: Bands, half: usize, sample_rate_hz: f64) -> Vec<f64> {
    let kaiser = Kaiser::for_stop_band(STOP_BAND_DB);
    let length = half as f64;
    (0..=2 * half)
        .map(|n| {
            let t = n as f64 - length;
            let kept: f64 = bands
                .iter()
                .map(|(low, high)| {
                    ideal_low_pass(high / sample_rate_hz, t)
                        - ideal_low_pass(low / sample_rate_hz, t)
                })
                .sum();
            let ideal = match action {
                Bands::Keep => kept,
                Bands::Remove => f64::from(u8::from(t == 0.0)) - kept,
            };
            ideal * kaiser.at(t / length)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use super::*;
    use crate::synth::white_noise;

    fn filter(bands_hz: &[(f64, f64)], action: Bands, transition_hz: Option<f64>) -> BandFilter {
        let settings = FilterSettings { bands_hz: bands_hz.to_vec(), action, transition_hz };
        BandFilter::new(&settings, 48_000.0).expect("designed")
    }

    fn run(mut filter: BandFilter, samples: &[f32]) -> Vec<f64> {
        let mut out = Vec::new();
        for block in samples.chunks(1000) {
            filter.push(block, |y| out.extend_from_slice(y));
        }
        filter.finish(|y| out.extend_from_slice(y));
        out
    }

    /// Level in dB at a frequency, from the response to an impulse in the middle.
    fn level_db(response: &[f64], hz: f64) -> f64 {
        let (mut re, mut im) = (0.0, 0.0);
        for (n, h) in response.iter().enumerate() {
            let (sin, cos) = (TAU * (hz / 48_000.0 * n as f64).fract()).sin_cos();
            re += h * cos;
            im += h * sin;
        }
        10.0 * (re * re + im * im).log10()
    }

    #[test]
    fn stop_and_pass_bands_are_as_deep_and_as_flat_as_stated() {
        let mut impulse = vec![0.0f32; 60_001];
        impulse[30_000] = 1.0;
        let (mut stop, mut ripple) = (f64::NEG_INFINITY, 0.0f64);
        for (bands, transition) in [
            (vec![(200.0, 2000.0)], 20.0),
            (vec![(0.0, 8000.0)], 500.0),
            (vec![(5000.0, 24_000.0)], 100.0),
            (vec![(440.0, 460.0), (880.0, 900.0)], 10.0),
        ] {
            for action in [Bands::Keep, Bands::Remove] {
                let response = run(filter(&bands, action, Some(transition)), &impulse);
                assert_eq!(response.len(), impulse.len());
                for n in 0..400 {
                    let hz = 24_000.0 * (f64::from(n) + 0.37) / 400.0;
                    let distance = |edge: f64| (hz - edge).abs();
                    let near = bands.iter().any(|(low, high)| {
                        (*low > 0.0 && distance(*low) < transition / 2.0)
                            || (*high < 24_000.0 && distance(*high) < transition / 2.0)
                    });
                    if near {
                        continue;
                    }
                    let inside = bands.iter().any(|(low, high)| (*low..*high).contains(&hz));
                    let level = level_db(&response, hz);
                    if inside == (action == Bands::Keep) {
                        ripple = ripple.max(level.abs());
                    } else {
                        stop = stop.max(level);
                    }
                }
                // Half the amplitude at an edge.
                let edge = if bands[0].0 > 0.0 { bands[0].0 } else { bands[0].1 };
                assert!((level_db(&response, edge) + 6.02).abs() < 0.01);
                // Symmetric about the impulse: no delay.
                for n in 1..2000 {
                    assert!((response[30_000 + n] - response[30_000 - n]).abs() < 1e-12);
                }
            }
        }
        println!("stop band {stop:.1} dB, ripple {ripple:.1e} dB");
        assert!(stop < -106.0 && ripple < 1e-4);
    }

    #[test]
    fn what_is_kept_and_what_is_removed_make_the_whole() {
        let noise = crate::synth::to_samples(&white_noise(4, 0.1, 30_000));
        let bands = [(500.0, 700.0), (3000.0, 9000.0)];
        let kept = run(filter(&bands, Bands::Keep, None), &noise);
        let left = run(filter(&bands, Bands::Remove, None), &noise);
        for ((kept, left), whole) in kept.iter().zip(&left).zip(&noise) {
            assert!((kept + left - f64::from(*whole)).abs() < 1e-9);
        }
    }

    #[test]
    fn what_makes_no_sense_is_refused() {
        for (bands_hz, transition_hz) in [
            (vec![], None),
            (vec![(0.0, 24_000.0)], None),
            (vec![(300.0, 200.0)], None),
            (vec![(100.0, 300.0), (200.0, 400.0)], None),
            (vec![(100.0, 110.0)], Some(20.0)),
            (vec![(100.0, 110.0)], Some(1e-6)),
            (vec![(30_000.0, 40_000.0)], None),
        ] {
            let settings = FilterSettings { bands_hz, action: Bands::Keep, transition_hz };
            assert!(BandFilter::new(&settings, 48_000.0).is_err(), "{settings:?}");
        }
    }
}
