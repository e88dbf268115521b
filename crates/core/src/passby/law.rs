//! How a source that moves along a straight line is heard.

/// A source that moves at a speed along a straight line past a listener.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Law {
    pub(crate) speed_m_s: f64,
    /// Its closest distance.
    pub(crate) distance_m: f64,
    /// When it is closest.
    pub(crate) closest_s: f64,
    pub(crate) sound_m_s: f64,
}

impl Law {
    /// The root in the retarded time: with τ = t − t0, √(c²·v²·τ² + (c² − v²)·d²).
    fn root(&self, t: f64) -> (f64, f64, f64, f64) {
        let (c2, v2) = (self.sound_m_s.powi(2), self.speed_m_s.powi(2));
        let tau = t - self.closest_s;
        let root = (c2 * v2 * tau * tau + (c2 - v2) * self.distance_m.powi(2)).sqrt();
        (c2, v2, tau, root)
    }

    /// When what is heard at a time left the source: t = te + r(te)/c solved for te,
    /// te − t0 = (c²·τ − √(c²·v²·τ² + (c² − v²)·d²))/(c² − v²).
    pub(crate) fn emitted_s(&self, t: f64) -> f64 {
        let (c2, v2, tau, root) = self.root(t);
        self.closest_s + (c2 * tau - root) / (c2 - v2)
    }

    /// The frequency heard at a time over that of the source, dte/dt.
    pub(super) fn shift(&self, t: f64) -> f64 {
        let (c2, v2, tau, root) = self.root(t);
        (c2 - c2 * v2 * tau / root) / (c2 - v2)
    }

    /// How far the source was when what is heard at a time left it.
    pub(crate) fn distance_at(&self, t: f64) -> f64 {
        let moved = self.speed_m_s * (self.emitted_s(t) - self.closest_s);
        self.distance_m.hypot(moved)
    }

    /// How long the change from approach to recession takes, d/v.
    pub(super) fn turn_s(&self) -> f64 {
        self.distance_m / self.speed_m_s
    }

    /// The law with ln v, ln d and t0 moved.
    pub(super) fn moved(&self, by: [f64; 3]) -> Self {
        let most = 0.97 * self.sound_m_s;
        Self {
            speed_m_s: (self.speed_m_s * by[0].exp()).min(most),
            distance_m: self.distance_m * by[1].exp(),
            closest_s: self.closest_s + by[2],
            ..*self
        }
    }

    /// By how much ln D moves at a time with ln v, ln d and t0.
    pub(super) fn slopes(&self, t: f64) -> [f64; 3] {
        const STEP: f64 = 1e-4;
        let steps = [STEP, STEP, STEP * self.turn_s()];
        std::array::from_fn(|n| {
            let mut by = [0.0; 3];
            by[n] = steps[n];
            let above = self.moved(by).shift(t).ln();
            let below = self.moved(by.map(|x| -x)).shift(t).ln();
            (above - below) / (2.0 * steps[n])
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_heard_left_the_source_as_long_ago_as_it_was_far() {
        for (speed_m_s, distance_m) in [(5.0, 20.0), (60.0, 1.0), (200.0, 3.0)] {
            let law = Law { speed_m_s, distance_m, closest_s: 2.0, sound_m_s: 343.2 };
            for t in [-3.0, 1.9, 2.0, 2.01, 2.5, 9.0] {
                let emitted_s = law.emitted_s(t);
                let away = distance_m.hypot(speed_m_s * (emitted_s - 2.0));
                assert!((emitted_s + away / 343.2 - t).abs() < 1e-9, "{t}");
                assert!((law.distance_at(t) - away).abs() < 1e-9);
                let by_hand = 1.0 / (1.0 + speed_m_s.powi(2) * (emitted_s - 2.0) / (343.2 * away));
                assert!((law.shift(t) - by_hand).abs() < 1e-9, "{t}");
            }
            let far = [law.shift(-1e4), law.shift(1e4)];
            assert!((far[0] - 1.0 / (1.0 - speed_m_s / 343.2)).abs() < 1e-4);
            assert!((far[1] - 1.0 / (1.0 + speed_m_s / 343.2)).abs() < 1e-4);
        }
    }
}
