//! How loudness follows a sound in time (ISO 532-1:2017, 6.3 and 6.4).
//!
//! **Decay.** The specific loudness of a band rises with the sound at once. It falls as a network of
//! two capacitors with diodes does, with 5 ms and 15 ms after a short sound and 75 ms after a long
//! one: the longer it lasts, the more of the second is charged.
//!
//! **Weighting.** The loudness is 0.47 of a low pass of 3.5 ms and 0.53 of one of 70 ms.
//!
//! Between ticks the input is a straight line of 24 steps.

use pulp::{Arch, Simd, WithSimd};

use super::pattern::Core;
use super::tables::CRITICAL;
use super::thirds::TICK_S;

/// Steps of a tick.
const STEPS: usize = 24;
const STEP_S: f64 = TICK_S / STEPS as f64;
/// Places for critical bands side by side.
const LANES: usize = CRITICAL.next_multiple_of(4);

/// The decay of specific loudness.
#[derive(Debug, Clone)]
pub(super) struct Decay {
    arch: Arch,
    factors: [f64; 6],
    /// What is heard, and the charge of the second capacitor.
    heard: [f64; LANES],
    charge: [f64; LANES],
}

impl Decay {
    pub(super) fn new() -> Self {
        const SHORT_S: f64 = 0.005;
        const LONG_S: f64 = 0.015;
        const CHARGING_S: f64 = 0.075;
        let p = (CHARGING_S + LONG_S) / (CHARGING_S * SHORT_S);
        let q = 1.0 / (SHORT_S * CHARGING_S);
        let root = (0.25 * p * p - q).sqrt();
        let (first, second) = (-0.5 * p + root, -0.5 * p - root);
        let per = CHARGING_S * (first - second);
        let (one, other) = ((first * STEP_S).exp(), (second * STEP_S).exp());
        let (a, b) = (CHARGING_S * first + 1.0, CHARGING_S * second + 1.0);
        Self {
            arch: Arch::new(),
            factors: [
                (one - other) / per,
                (b * one - a * other) / per,
                (a * one - b * other) / per,
                a * b * (one - other) / per,
                (-STEP_S / LONG_S).exp(),
                (-STEP_S / CHARGING_S).exp(),
            ],
            heard: [0.0; LANES],
            charge: [0.0; LANES],
        }
    }

    /// Takes the specific loudness at a tick and at the next one; what is heard at the first.
    pub(super) fn step(&mut self, now: &Core, next: &Core) -> Core {
        let mut inputs = [[0.0; LANES]; 2];
        for (input, core) in inputs.iter_mut().zip([now, next]) {
            input[..CRITICAL].copy_from_slice(core);
        }
        let mut heard = [0.0; LANES];
        self.arch.dispatch(Falling { decay: self, inputs: &inputs, first: &mut heard });
        std::array::from_fn(|n| heard[n])
    }
}

struct Falling<'a> {
    decay: &'a mut Decay,
    inputs: &'a [[f64; LANES]; 2],
    first: &'a mut [f64; LANES],
}

impl WithSimd for Falling<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        /// What rises by less stands still.
        const STILL: f64 = 1e-5;
        let Self { decay: Decay { factors, heard, charge, .. }, inputs, first } = self;
        let [to_charge, of_charge, to_heard, of_heard, long, charging] = *factors;
        for n in 0..STEPS {
            let share = n as f64 / STEPS as f64;
            for k in 0..LANES {
                let (was, held) = (heard[k], charge[k]);
                let input = inputs[0][k] + share * (inputs[1][k] - inputs[0][k]);
                // Falling while the second capacitor is charged from the first, or with it.
                let apart = was * to_heard - held * of_heard;
                let apart = if input > apart { input } else { apart };
                let moved = was * to_charge - held * of_charge;
                let moved = if moved > apart { apart } else { moved };
                let together = was * long;
                let together = if input > together { input } else { together };
                let is_apart = was > held;
                let fallen = if is_apart { apart } else { together };
                let fallen_charge = if is_apart { moved } else { together };
                // Rising, or still.
                let charged = (held - input) * charging + input;
                let is_full = (input - was).abs() < STILL && input <= held;
                let risen_charge = if is_full { input } else { charged };
                let falls = input < was;
                heard[k] = if falls { fallen } else { input };
                charge[k] = if falls { fallen_charge } else { risen_charge };
            }
            if n == 0 {
                *first = *heard;
            }
        }
    }
}

/// The temporal weighting of loudness.
#[derive(Debug, Clone)]
pub(super) struct TimeWeighting {
    /// What the low passes take of their input in a step.
    takes: [f64; 2],
    weighted: [f64; 2],
}

impl TimeWeighting {
    const TIMES_S: [f64; 2] = [0.0035, 0.07];
    const SHARES: [f64; 2] = [0.47, 0.53];

    pub(super) fn new() -> Self {
        Self { takes: Self::TIMES_S.map(|s| 1.0 - (-STEP_S / s).exp()), weighted: [0.0; 2] }
    }

    /// Takes the loudness at a tick and at the next one; the weighted one at the first.
    pub(super) fn step(&mut self, now: f64, next: f64) -> f64 {
        let mut first = 0.0;
        for n in 0..STEPS {
            let input = now + n as f64 / STEPS as f64 * (next - now);
            for (weighted, takes) in self.weighted.iter_mut().zip(self.takes) {
                *weighted += takes * (input - *weighted);
            }
            if n == 0 {
                first = self.weighted.iter().zip(Self::SHARES).map(|(x, share)| share * x).sum();
            }
        }
        first
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// How long after the end of a burst its loudness needs to fall to so much of what it was.
    fn falls_to(share: f64, burst_s: f64) -> f64 {
        let mut decay = Decay::new();
        let at = |n: usize| -> Core {
            let is_on = (n as f64) * TICK_S < burst_s;
            std::array::from_fn(|band| if is_on && band == 5 { 2.0 } else { 0.0 })
        };
        let ends = (burst_s / TICK_S).round() as usize;
        for n in 0..ends + 4000 {
            let heard = decay.step(&at(n), &at(n + 1))[5];
            if n >= ends && heard < 2.0 * share {
                return (n - ends) as f64 * TICK_S;
            }
        }
        f64::INFINITY
    }

    /// After a short sound loudness falls quickly, after a long one slowly.
    #[test]
    fn long_sounds_die_away_slowly() {
        let [short, middle, long] = [0.005, 0.05, 0.5].map(|burst_s| falls_to(0.1, burst_s));
        println!("to a tenth in {short:.4} s, {middle:.4} s, {long:.4} s");
        assert!(short < 0.6 * middle && middle < long, "{short} {middle} {long}");
        // A charged network falls with 15 ms: ln 10 of it.
        assert!((long - 0.0345).abs() < 0.001, "{long}");
    }
}
