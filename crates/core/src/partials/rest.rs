//! Where the power is that the tracks of partials leave.

use serde::Serialize;

use crate::bands::octave_bands;
use crate::lanes::product;
use crate::quantity::{Label, Quantity, Unit, bare, pair};
use crate::transform::RealTransform;
use crate::window::WindowKind;

/// What the tracks leave of a sound, and where it is.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Rest {
    /// In dB re the sound: of all.
    pub residual_db: f64,
    /// The same from 0.1 s after the onset on.
    pub residual_sustain_db: Option<f64>,
    /// Middle in Hz of the octave band (IEC 61260-1) that holds most of it; `None` where nothing is
    /// left, or the sound is too short to tell.
    pub residual_band_hz: Option<f64>,
    /// Its share of what is left.
    pub residual_band_share: Option<f64>,
    /// How long after the onset half of what is left has been, in seconds.
    pub residual_half_by_s: Option<f64>,
}

impl Rest {
    /// Of a sound from its onset on and of what is left of it, sample by sample.
    pub(super) fn of(sound: &[f32], left: &[f32], rate_hz: f64) -> Self {
        /// Attacks of struck and plucked notes are over by then.
        const SUSTAIN_AFTER_S: f64 = 0.1;
        let power = |x: &[f32]| product(x, x);
        let left_db = |from: usize| {
            let (all, left) = (power(&sound[from..]), power(&left[from..]));
            (all > 0.0).then(|| 10.0 * (left / all).max(1e-30).log10())
        };
        let sustain = (SUSTAIN_AFTER_S * rate_hz) as usize;
        let band = loudest_octave(left, rate_hz);
        Self {
            residual_db: left_db(0).unwrap_or(0.0),
            residual_sustain_db: (sustain < sound.len()).then(|| left_db(sustain)).flatten(),
            residual_band_hz: band.map(|(hz, _)| hz),
            residual_band_share: band.map(|(_, share)| share),
            residual_half_by_s: half_by(left).map(|sample| sample as f64 / rate_hz),
        }
    }

    pub(super) fn quantities(&self) -> [Quantity; 5] {
        const LEFT: Label = Label::new("residual_db", "residual", Unit::Decibel, 1);
        const LATER: Label =
            Label::new("residual_sustain_db", "residual after the attack", Unit::Decibel, 1);
        const BAND: Label =
            Label::new("residual_band_hz", "loudest octave of the residual", Unit::Hertz, 0);
        const SHARE: Label =
            Label::new("residual_band_share", "share of that octave", Unit::One, 2);
        const HALF: Label =
            Label::new("residual_half_by_s", "half of the residual by", Unit::Second, 3);
        [
            Quantity::top(&LEFT, bare(self.residual_db)),
            Quantity::top(&LATER, pair(self.residual_sustain_db, None)),
            Quantity::top(&BAND, pair(self.residual_band_hz, None)),
            Quantity::top(&SHARE, pair(self.residual_band_share, None)),
            Quantity::top(&HALF, pair(self.residual_half_by_s, None)),
        ]
    }
}

/// The octave that holds most of the power of a sound: its nominal middle and its share.
fn loudest_octave(sound: &[f32], rate_hz: f64) -> Option<(f64, f64)> {
    const FRAME: usize = 4096;
    /// The octave bands of the audio range.
    const RANGE_HZ: (f64, f64) = (16.0, 16_000.0);
    let window: Vec<f32> = WindowKind::Hann.samples(FRAME).iter().map(|w| *w as f32).collect();
    let mut transform = RealTransform::<f32>::new(FRAME);
    let mut powers = vec![0.0f64; FRAME / 2 + 1];
    let mut input = vec![0.0; FRAME];
    for frame in sound.windows(FRAME).step_by(FRAME / 2) {
        for ((value, x), w) in input.iter_mut().zip(frame).zip(&window) {
            *value = x * w;
        }
        let bins = transform.forward(&mut input);
        powers.iter_mut().zip(bins).for_each(|(sum, x)| *sum += f64::from(x.norm_sqr()));
    }
    let all: f64 = powers.iter().sum();
    let bin_hz = rate_hz / FRAME as f64;
    let bands = octave_bands(1, RANGE_HZ).into_iter().map(|band| {
        let bins =
            (band.low_hz / bin_hz).round() as usize..(band.high_hz / bin_hz).round() as usize;
        let power: f64 =
            powers.get(bins.start..bins.end.min(powers.len())).unwrap_or_default().iter().sum();
        (band.nominal_hz(1), power / all)
    });
    bands.max_by(|a, b| a.1.total_cmp(&b.1)).filter(|_| all > 0.0)
}

/// The sample by which half of the energy has been.
fn half_by(sound: &[f32]) -> Option<usize> {
    let half = 0.5 * product(sound, sound);
    let mut sum = 0.0;
    let reaches = |x: &f32| {
        sum += f64::from(*x).powi(2);
        sum >= half
    };
    sound.iter().position(reaches).filter(|_| half > 0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::sine;

    #[test]
    fn what_is_left_is_told_with_its_place() {
        let rate_hz = 48_000.0;
        let sound = sine(500.0, 0.5, 0.0, rate_hz, 48_000);
        // A tone of 3 kHz in the second half, 40 dB below, is left.
        let mut left = sine(3000.0, 0.005 * 2f64.sqrt(), 0.0, rate_hz, 48_000);
        left[..24_000].fill(0.0);
        let rest = Rest::of(&sound, &left, rate_hz);
        assert!((rest.residual_db + 40.0).abs() < 0.01, "{rest:?}");
        assert_eq!(rest.residual_band_hz, Some(4000.0));
        assert!(rest.residual_band_share.is_some_and(|share| share > 0.99));
        assert!(rest.residual_half_by_s.is_some_and(|by_s| (by_s - 0.75).abs() < 1e-3));
        assert_eq!(Rest::of(&sound, &vec![0.0; 48_000], rate_hz).residual_band_hz, None);
    }
}
