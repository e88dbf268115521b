//! A bank of band filters in time (IEC 61260-1:2014, class 1), at lower sample rates for lower
//! bands.

use std::f64::consts::PI;

use pulp::{Arch, Simd, WithSimd};
use rustfft::num_complex::Complex64;

use super::octave::Band;
use super::weighting::settled;
use crate::lanes;
use crate::window::{Kaiser, ideal_low_pass};

/// Order of the low-pass filter that a band filter is made from; the band filter has twice as many
/// poles.
const ORDER: usize = 5;
/// Bands side by side.
const WIDTH: usize = 4;
/// A band is filtered at the lowest sample rate of which its upper edge is at most this share.
const HIGHEST_SHARE: f64 = 0.25;
/// Taps at even places of a half-band filter, which beside them has the one in the middle, 0.5.
const HALF_BAND_TAPS: usize = 16;
/// Shape of the Kaiser window that ends it: 94 dB below from 0.35 of the sample rate on.
const HALF_BAND_BETA: f64 = 9.4;
/// What the start of a sound excites in a filter is over when it has fallen so far, in dB.
const SETTLED_DB: f64 = 40.0;

/// A band filter: second-order sections (1 − z⁻²) / (1 + a_1·z⁻¹ + a_2·z⁻²), all with one gain.
///
/// A Butterworth low pass of order 5, |H|² = 1/(1 + x¹⁰), brought to the band by the bilinear
/// transform: with w = tan(π·f/f_s) and the edges w_1, w_2, x = c·(w² − w_1·w_2) / (w·(w_2 − w_1)).
/// c is such that noise of equal power in each octave comes through as through the ideal band,
/// ∫|H|² d ln f = ln(f_2/f_1): it is near 1.015, so that the attenuation at the edges is 3.3 dB.
#[derive(Debug, Clone)]
pub(super) struct BandFilter {
    sections: [[f64; 2]; ORDER],
    gain: f64,
    /// How long the start of a sound is felt, in samples.
    settles: f64,
}

impl BandFilter {
    /// For a band that ends below half the sample rate.
    pub(super) fn new(band: &Band, rate_hz: f64) -> Self {
        let warped = |hz: f64| (PI * hz / rate_hz).tan();
        let (low, high) = (warped(band.low_hz), warped(band.high_hz));
        let (middle, width) = ((low * high).sqrt(), (high - low) / scale(band, rate_hz));
        let mut sections = [[0.0; 2]; ORDER];
        let (mut slowest, mut gain) = (0.0f64, Complex64::new(1.0, 0.0));
        let centre = Complex64::new(1.0, middle) / Complex64::new(1.0, -middle);
        let mut made = sections.iter_mut();
        for k in 0..ORDER.div_ceil(2) {
            let angle = PI * (2 * k + ORDER + 1) as f64 / (2 * ORDER) as f64;
            let half = 0.5 * width * Complex64::from_polar(1.0, angle);
            let root = (half * half - middle * middle).sqrt();
            let digital: [Complex64; 2] = [half + root, half - root].map(|s| (1.0 + s) / (1.0 - s));
            // The pole in the middle gives one section with both, the others one for each and its
            // conjugate.
            let is_middle = 2 * k + 1 == ORDER;
            let pairs = if is_middle {
                vec![digital]
            } else {
                digital.map(|pole| [pole, pole.conj()]).to_vec()
            };
            for ([one, other], section) in pairs.into_iter().zip(&mut made) {
                *section = [-(one + other).re, (one * other).re];
                slowest = slowest.max(one.norm()).max(other.norm());
                let back = 1.0 / centre;
                gain *= (1.0 - back * back) / ((1.0 - one * back) * (1.0 - other * back));
            }
        }
        let settles = SETTLED_DB / (-20.0 * slowest.log10());
        let delay = rate_hz / (band.high_hz - band.low_hz);
        Self { sections, gain: 1.0 / gain.norm(), settles: settles + delay }
    }
}

/// The factor c, by secants.
fn scale(band: &Band, rate_hz: f64) -> f64 {
    const POINTS: usize = 600;
    const REACH: f64 = 5.0;
    let warped = |hz: f64| (PI * hz / rate_hz).tan();
    let (low, high) = (warped(band.low_hz), warped(band.high_hz));
    let width = (band.high_hz / band.low_hz).ln();
    let (from, to) = (
        (band.center_hz.ln() - REACH * width),
        (band.center_hz.ln() + REACH * width).min((0.5 * rate_hz).ln()),
    );
    let step = (to - from) / POINTS as f64;
    let places: Vec<f64> = (0..POINTS)
        .map(|n| {
            let w = warped((from + (n as f64 + 0.5) * step).exp());
            (w * w - low * high) / (w * (high - low))
        })
        .collect();
    let wide = |c: f64| -> f64 {
        let power = |x: &f64| 1.0 / (1.0 + (c * x).powi(2 * ORDER as i32));
        step * places.iter().map(power).sum::<f64>() / width - 1.0
    };
    let (mut a, mut b) = (1.0, 1.016);
    for _ in 0..4 {
        let (of_a, of_b) = (wide(a), wide(b));
        if of_a == of_b {
            break;
        }
        (a, b) = (b, b - of_b * (b - a) / (of_b - of_a));
    }
    b
}

/// A bank for one channel.
#[derive(Debug, Clone)]
pub(crate) struct Bank {
    stages: Vec<Stage>,
}

/// The bands at one sample rate, and the way to half of it.
#[derive(Debug, Clone)]
struct Stage {
    /// Which bands, counted from the lowest.
    bands: Vec<usize>,
    groups: Vec<Group>,
    halved: Option<HalfBand>,
}

/// Where a band stands in the bank.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Place {
    /// The sample rate that it is filtered at.
    pub(crate) rate_hz: f64,
    /// How long the start of a sound is felt, in seconds.
    pub(super) settles_s: f64,
}

impl Bank {
    /// For bands from the lowest to the highest, all of which end below half the sample rate; with
    /// the place of each.
    pub(crate) fn new(bands: &[Band], rate_hz: f64) -> (Self, Vec<Place>) {
        let mut stages = Vec::new();
        let mut places = vec![Place { rate_hz, settles_s: 0.0 }; bands.len()];
        let (mut left, mut at_hz, mut delay_s) = (bands.len(), rate_hz, 0.0);
        loop {
            // Those that go on to half the rate are the lowest.
            let on = bands[..left].partition_point(|b| b.high_hz <= 0.5 * HIGHEST_SHARE * at_hz);
            let here: Vec<usize> = (on..left).collect();
            let filters: Vec<BandFilter> =
                here.iter().map(|n| BandFilter::new(&bands[*n], at_hz)).collect();
            for (n, filter) in here.iter().zip(&filters) {
                places[*n] = Place { rate_hz: at_hz, settles_s: filter.settles / at_hz + delay_s };
            }
            let groups = filters.chunks(WIDTH).map(Group::new).collect();
            let halved = (on > 0).then(HalfBand::new);
            stages.push(Stage { bands: here, groups, halved });
            left = on;
            if left == 0 {
                return (Self { stages }, places);
            }
            delay_s += HALF_BAND_TAPS as f64 / at_hz;
            at_hz *= 0.5;
        }
    }

    /// Filters samples, and hands what comes of each band to `work`.
    pub(crate) fn run(&mut self, samples: &[f64], mut work: impl FnMut(usize, &[f64])) {
        let mut held: Vec<f64>;
        let mut at = samples;
        for stage in &mut self.stages {
            for (bands, group) in stage.bands.chunks(WIDTH).zip(&mut stage.groups) {
                group.run(at);
                for (band, out) in bands.iter().zip(&group.out) {
                    work(*band, out);
                }
            }
            let Some(halved) = &mut stage.halved else { return };
            held = halved.run(at);
            at = &held;
        }
    }
}

/// Up to [`WIDTH`] band filters side by side.
#[derive(Debug, Clone)]
struct Group {
    a: [[[f64; WIDTH]; 2]; ORDER],
    gain: [f64; WIDTH],
    /// In transposed direct form: y = x + s_1, s_1 ← s_2 − a_1·y, s_2 ← −x − a_2·y.
    state: [[[f64; WIDTH]; 2]; ORDER],
    out: [Vec<f64>; WIDTH],
}

impl Group {
    fn new(filters: &[BandFilter]) -> Self {
        let mut made = Self {
            a: [[[0.0; WIDTH]; 2]; ORDER],
            gain: [0.0; WIDTH],
            state: [[[0.0; WIDTH]; 2]; ORDER],
            out: Default::default(),
        };
        for (lane, filter) in filters.iter().enumerate() {
            made.gain[lane] = filter.gain;
            for (of_all, of_one) in made.a.iter_mut().zip(&filter.sections) {
                of_all[0][lane] = of_one[0];
                of_all[1][lane] = of_one[1];
            }
        }
        made
    }

    fn run(&mut self, samples: &[f64]) {
        for out in &mut self.out {
            out.resize(samples.len(), 0.0);
        }
        Arch::new().dispatch(Filtering { group: self, samples });
        for value in self.state.as_flattened_mut().as_flattened_mut() {
            *value = settled(*value);
        }
    }
}

struct Filtering<'a> {
    group: &'a mut Group,
    samples: &'a [f64],
}

impl WithSimd for Filtering<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        let Group { a, gain, state, out } = self.group;
        let (a, mut now) = (*a, *state);
        let [first, second, third, fourth] = out;
        let outs = first.iter_mut().zip(second).zip(third.iter_mut().zip(fourth));
        for (x, ((first, second), (third, fourth))) in self.samples.iter().zip(outs) {
            let mut value = [0.0; WIDTH];
            for lane in 0..WIDTH {
                value[lane] = gain[lane] * x;
            }
            for ([a1, a2], [s1, s2]) in a.iter().zip(&mut now) {
                let mut next = [0.0; WIDTH];
                for lane in 0..WIDTH {
                    next[lane] = value[lane] + s1[lane];
                    s1[lane] = s2[lane] - a1[lane] * next[lane];
                    s2[lane] = -value[lane] - a2[lane] * next[lane];
                }
                value = next;
            }
            [*first, *second, *third, *fourth] = value;
        }
        *state = now;
    }
}

/// Halves the sample rate.
#[derive(Debug, Clone)]
struct HalfBand {
    taps: [f64; HALF_BAND_TAPS],
    /// Samples at even and odd places that are still needed.
    even: Vec<f64>,
    odd: Vec<f64>,
    /// Whether the next sample is at an odd place.
    is_odd: bool,
    sums: Vec<f64>,
}

impl HalfBand {
    fn new() -> Self {
        let kaiser = Kaiser::new(HALF_BAND_BETA);
        let half = HALF_BAND_TAPS as f64;
        let mut taps: [f64; HALF_BAND_TAPS] = std::array::from_fn(|n| {
            let at = (2 * n) as f64 + 1.0 - half;
            ideal_low_pass(0.25, at) * kaiser.at(at / half)
        });
        let sum: f64 = taps.iter().sum();
        for tap in &mut taps {
            *tap *= 0.5 / sum;
        }
        let before = vec![0.0; HALF_BAND_TAPS - 1];
        let odd = vec![0.0; HALF_BAND_TAPS / 2];
        Self { taps, even: before, odd, is_odd: false, sums: Vec::new() }
    }

    fn run(&mut self, samples: &[f64]) -> Vec<f64> {
        for x in samples {
            if self.is_odd {
                self.odd.push(*x);
            } else {
                self.even.push(*x);
            }
            self.is_odd = !self.is_odd;
        }
        let ready = self.even.len() - (HALF_BAND_TAPS - 1);
        self.sums.resize(ready, 0.0);
        lanes::convolve(&self.taps, &self.even, &mut self.sums);
        let made = self.sums.iter().zip(&self.odd).map(|(sum, x)| sum + 0.5 * x).collect();
        self.even.drain(..ready);
        self.odd.drain(..ready.min(self.odd.len()));
        made
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bands::octave_bands;
    use crate::units::db_from_power;
    use std::f64::consts::TAU;

    impl BandFilter {
        fn attenuation_db(&self, hz: f64, rate_hz: f64) -> f64 {
            let back = Complex64::from_polar(1.0, -TAU * hz / rate_hz);
            let of_section =
                |[a1, a2]: &[f64; 2]| (1.0 - back * back) / (1.0 + a1 * back + a2 * back * back);
            let all: Complex64 = self.sections.iter().map(of_section).product();
            -db_from_power((self.gain * all).norm_sqr())
        }
    }

    /// Attenuation at least and at most, by the distance from the middle as a power of G = 10^0.3
    /// for octaves (IEC 61260-1:2014, table 1, class 1).
    const MASK: [(f64, f64, f64); 10] = [
        (0.0, -0.4, 0.4),
        (0.125, -0.4, 0.5),
        (0.25, -0.4, 0.7),
        (0.375, -0.4, 1.4),
        (0.4999, -0.4, 5.3),
        (0.5001, 1.6, 5.3),
        (1.0, 16.6, f64::INFINITY),
        (2.0, 40.5, f64::INFINITY),
        (3.0, 60.0, f64::INFINITY),
        (4.0, 70.0, f64::INFINITY),
    ];

    #[test]
    fn filters_keep_to_the_mask_of_class_1() {
        let wide = 10f64.powf(0.3);
        for rate_hz in [44_100.0, 48_000.0, 96_000.0] {
            for fraction in [1, 2, 3, 6, 12, 24] {
                let bands = octave_bands(fraction, (16.0, 20_000.0));
                for band in bands.iter().filter(|band| band.high_hz < 0.5 * rate_hz) {
                    let mut at_hz = rate_hz;
                    while band.high_hz <= 0.5 * HIGHEST_SHARE * at_hz {
                        at_hz *= 0.5;
                    }
                    let filter = BandFilter::new(band, at_hz);
                    for (power, least, most) in MASK {
                        let of_band = 0.5 / f64::from(fraction);
                        let by = (wide.powf(of_band) - 1.0) / (wide.sqrt() - 1.0);
                        let ratio = 1.0 + by * (wide.powf(power) - 1.0);
                        for hz in [band.center_hz * ratio, band.center_hz / ratio] {
                            if hz < 0.5 * at_hz {
                                let db = filter.attenuation_db(hz, at_hz);
                                assert!(
                                    (least..=most).contains(&db),
                                    "1/{fraction} octave at {:.1} Hz of {at_hz} Hz: {db:.2} dB at {hz:.1} Hz",
                                    band.center_hz
                                );
                            }
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn halving_keeps_what_is_below_and_rejects_what_would_fold_over() {
        let level = |share: f64| {
            let sound: Vec<f64> = (0..8000).map(|n| (TAU * share * f64::from(n)).sin()).collect();
            // In pieces of odd length, as blocks come.
            let mut half = HalfBand::new();
            let made: Vec<f64> = sound.chunks(333).flat_map(|part| half.run(part)).collect();
            let steady = &made[100..];
            db_from_power(2.0 * steady.iter().map(|x| x * x).sum::<f64>() / steady.len() as f64)
        };
        for share in [0.01, 0.05, 0.125, 0.15] {
            assert!(level(share).abs() < 0.003, "{share}: {}", level(share));
        }
        for share in [0.35, 0.4, 0.49] {
            assert!(level(share) < -90.0, "{share}: {}", level(share));
        }
    }
}
