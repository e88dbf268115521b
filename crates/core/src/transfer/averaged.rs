//! Averaged spectra of a reference and a response, and the cross spectrum of the two.

use rustfft::num_complex::Complex64;

use super::delay::Found;
use crate::error::Error;
use crate::frame::FramePlan;
use crate::samples::{Reader, Samples};
use crate::transform::RealTransform;

/// Sums over frames, the delay removed.
pub(super) struct Averaged {
    /// Powers of the reference and of the response, and the cross spectrum conj(A)·B.
    pub(super) aa: Vec<f64>,
    pub(super) bb: Vec<f64>,
    pub(super) ab: Vec<Complex64>,
    pub(super) frames: u64,
    /// How many independent frames they are worth.
    pub(super) independent: f64,
}

/// How frames count.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Averaging {
    /// All alike.
    Linear,
    /// Those before the end count less, by a factor of e in so many seconds.
    Exponential(f64),
}

/// Averages over the frames that both have.
pub(super) fn averaged(
    a: &dyn Samples,
    b: &dyn Samples,
    rate_hz: f64,
    plan: &FramePlan,
    delay: &Found,
    averaging: Averaging,
) -> Result<Averaged, Error> {
    let (segment, size) = (plan.segment(), plan.transform_size);
    let bins = size / 2 + 1;
    let mut transform = RealTransform::new(size);
    let (mut of_a, mut of_b) = (Reader::new(a), Reader::new(b));
    let mut sums = Averaged {
        aa: vec![0.0; bins],
        bb: vec![0.0; bins],
        ab: vec![Complex64::default(); bins],
        frames: 0,
        independent: 0.0,
    };
    let kept = match averaging {
        Averaging::Linear => 1.0,
        Averaging::Exponential(s) => (-(plan.hop as f64) / (s * rate_hz)).exp(),
    };
    let (mut weights, mut squares) = (0.0, 0.0);
    let mut block = vec![0.0; size];
    let mut spectrum_a = vec![Complex64::default(); bins];
    let mut from = 0;
    while from + segment <= a.count() {
        let late = delay.at(from as f64 + 0.5 * segment as f64);
        let whole = late.round();
        let place = from as i64 + whole as i64;
        if place >= 0 && place as usize + segment <= b.count() {
            let fill = |sound: &[f32], block: &mut [f64]| {
                block.fill(0.0);
                let both = sound.iter().zip(plan.window.samples());
                for (value, (x, w)) in block.iter_mut().zip(both) {
                    *value = f64::from(*x) * w;
                }
            };
            fill(of_a.at(from as i64, segment)?, &mut block);
            spectrum_a.copy_from_slice(transform.forward(&mut block));
            fill(of_b.at(place, segment)?, &mut block);
            let spectrum_b = transform.forward(&mut block);
            let turn =
                Complex64::from_polar(1.0, std::f64::consts::TAU * (late - whole) / size as f64);
            let mut turned = Complex64::new(1.0, 0.0);
            for (n, (a, b)) in spectrum_a.iter().zip(spectrum_b).enumerate() {
                sums.aa[n] = kept * sums.aa[n] + a.norm_sqr();
                sums.bb[n] = kept * sums.bb[n] + b.norm_sqr();
                sums.ab[n] = kept * sums.ab[n] + a.conj() * b * turned;
                turned *= turn;
            }
            weights = kept * weights + 1.0;
            squares = kept * kept * squares + 1.0;
            sums.frames += 1;
        }
        from += plan.hop;
    }
    if sums.frames == 0 {
        let needed = segment as u64;
        return Err(Error::TooShort { samples: a.count().min(b.count()) as u64, needed });
    }
    // Overlapping frames share what they know, and old ones count less.
    let all = plan.window.independent_frames(sums.frames, plan.hop);
    sums.independent = all * (weights * weights / squares) / sums.frames as f64;
    Ok(sums)
}
