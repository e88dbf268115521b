//! How much the level of a partial fluctuates, how visible that is, and the grade of the whole.

use std::f64::consts::TAU;

use super::C;
use super::band::Band;
use super::fit::{OWN, Pole};

/// A beat of this rate counts half: slower ones are followed rather than heard as beats.
const HALF_HZ: f64 = 1.0;

/// Fluctuation of a partial that consists of components.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Fluctuation {
    /// Depth of its power about its mean, 0 to 1: √Σ m², with m = 2·a·b/Σa² for each two
    /// components, averaged over the note by power.
    pub(super) depth: f64,
    /// The same with each pair counted by its rate: r/(r + 1 Hz).
    pub(super) unsteadiness: f64,
    /// Energy, in squared amplitude times seconds.
    pub(super) energy: f64,
}

/// ∫ exp(−α·t) dt over a time.
pub(super) fn heard_s(decay: f64, lasting_s: f64) -> f64 {
    let fall = decay * lasting_s;
    if fall.abs() < 1e-6 { lasting_s } else { (1.0 - (-fall).exp()) / decay }
}

impl Fluctuation {
    /// Of components that are heard for a time.
    pub(super) fn of(poles: &[Pole], lasting_s: f64, gain: f64) -> Self {
        let lasts = |decay: f64| heard_s(decay, lasting_s);
        let energy_of = |pole: &Pole| pole.amplitude.norm_sqr() * lasts(-2.0 * pole.rate.re);
        let energy: f64 = poles.iter().map(energy_of).sum();
        let (mut depth, mut unsteadiness) = (0.0, 0.0);
        for (n, a) in poles.iter().enumerate() {
            for b in &poles[n + 1..] {
                let both = a.amplitude.norm() * b.amplitude.norm() * lasts(-a.rate.re - b.rate.re);
                let m = 2.0 * both / energy;
                depth += m * m;
                unsteadiness += (m * visible((a.offset_hz() - b.offset_hz()).abs())).powi(2);
            }
        }
        Self {
            depth: depth.sqrt().min(1.0),
            unsteadiness: unsteadiness.sqrt().min(1.0),
            energy: energy / (gain * gain),
        }
    }

    /// From the greatest level to the least, in dB.
    pub(super) fn depth_db(&self) -> f64 {
        /// Deeper than this nothing is measured in a recording.
        const DEEPEST: f64 = 0.999_9;
        let m = self.depth.min(DEEPEST);
        10.0 * ((1.0 + m) / (1.0 - m)).log10()
    }
}

/// How visible a beat of a rate is, 0 to 1.
pub(super) fn visible(rate_hz: f64) -> f64 {
    rate_hz / (rate_hz + HALF_HZ)
}

/// 100·(1 − Σ E·s / Σ E) of partials with energy E and unsteadiness s.
pub(super) fn grade(partials: &[Fluctuation]) -> f64 {
    let energy: f64 = partials.iter().map(|one| one.energy).sum();
    let unsteady: f64 = partials.iter().map(|one| one.energy * one.unsteadiness).sum();
    100.0 * (1.0 - unsteady / energy)
}

/// Slopes of what a fluctuation says along the parameters of its components.
pub(super) fn slopes(
    poles: &[Pole],
    lasting_s: f64,
    gain: f64,
    of: impl Fn(&Fluctuation) -> f64,
) -> [f64; OWN] {
    let of = |poles: &[Pole]| of(&Fluctuation::of(poles, lasting_s, gain));
    let mut slopes = [0.0; OWN];
    for n in 0..poles.len() {
        let size = poles[n].amplitude.norm() * 1e-4;
        let turn = 1e-4 / lasting_s;
        let steps = [
            (C::new(size, 0.0), C::default(), size),
            (C::new(0.0, size), C::default(), size),
            (C::default(), C::new(turn, 0.0), turn),
            (C::default(), C::new(0.0, turn), turn),
        ];
        for (m, (amplitude, rate, step)) in steps.into_iter().enumerate() {
            let moved = |sign: f64| {
                let mut poles = poles.to_vec();
                poles[n].amplitude += sign * amplitude;
                poles[n].rate += sign * rate;
                of(&poles)
            };
            slopes[4 * n + m] = (moved(1.0) - moved(-1.0)) / (2.0 * step);
        }
    }
    slopes
}

/// The spacing of two equal components that would just have been seen in a band that shows one: a
/// pair ± Δ/2 bends the level by −(πΔt)²/2, of which a single decay takes up all but what is
/// orthogonal to 1 and t under the weight of the power.
pub(super) fn least_spacing_hz(band: &Band, pole: &Pole, noise: f64) -> f64 {
    /// χ² that a second component must gain.
    const MUCH_BETTER: f64 = 40.0;
    let mut moments = [0.0; 5];
    for n in 0..band.values.len() {
        let t = n as f64 * band.step_s;
        let weight = pole.at(t).norm_sqr();
        let mut power = weight;
        for moment in &mut moments {
            *moment += power;
            power *= t;
        }
    }
    let [m0, m1, m2, m3, m4] = moments.map(|m| m / moments[0]);
    debug_assert!((m0 - 1.0).abs() < 1e-12);
    let (of_t, with_t) = (m2 - m1 * m1, m3 - m1 * m2);
    let bend = (m4 - m2 * m2 - with_t * with_t / of_t).max(0.0) * moments[0];
    // 2/noise · (π·Δ)⁴/4 · bend = χ².
    let fourth = MUCH_BETTER * noise * 2.0 / bend.max(f64::MIN_POSITIVE);
    fourth.powf(0.25) / (TAU / 2.0)
}
