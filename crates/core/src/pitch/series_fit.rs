//! Fundamental and inharmonicity that fit the tones of a series.

/// Scatter of the tones of a steady series over what is taken for it, beside the noise and where
/// that cannot be seen, and as how many tones that counts.
const USUAL_SCATTER: f64 = 0.003;
const UNSEEN_SCATTER: f64 = 0.01;
const USUAL_COUNT: f64 = 2.0;
/// Tones closer than this have no bins between their main lobes, which end three bins away; from
/// the other on, a quarter of all bins lies where side lobes are below -70 dB.
const SKIRTS_BINS: f64 = 6.0;
const CLEAR_BINS: f64 = 11.0;
/// Inharmonicity of a string before anything is known of it.
const USUAL_B: f64 = 1e-3;

/// A tone of a frame.
#[derive(Debug, Clone, Copy)]
pub(super) struct Tone {
    pub(super) frequency_hz: f64,
    pub(super) power: f64,
    /// What speaks for it, in nats.
    pub(super) evidence: f64,
    /// Variance of its frequency in Hz² for the noise, and for the side lobes of the strongest
    /// tone.
    pub(super) variance: f64,
    pub(super) of_others: f64,
}

/// F and B of a series by weighted least squares of (f/n)² = F²·(1 + B·n²), relative to the F that
/// was proposed, with what is usual for B as one more observation.
#[derive(Debug, Clone, Copy)]
pub(super) struct SeriesFit {
    proposed_hz: f64,
    weights: f64,
    x: f64,
    xx: f64,
    y: f64,
    xy: f64,
    yy: f64,
    /// Shares of the noise in the variances that the weights rest on, added up.
    of_noise: f64,
    /// F² and B·F² over the square of the proposed F.
    pub(super) square: f64,
    pub(super) slope: f64,
}

impl SeriesFit {
    pub(super) fn new(proposed_hz: f64) -> Self {
        let prior = 1.0 / (USUAL_B * USUAL_B);
        let (weights, x, y, xy, yy) = (0.0, 0.0, 0.0, 0.0, 0.0);
        Self {
            proposed_hz,
            weights,
            x,
            xx: prior,
            y,
            xy,
            yy,
            of_noise: 0.0,
            square: 1.0,
            slope: 0.0,
        }
    }

    pub(super) fn place_hz(&self, number: usize) -> f64 {
        let n = number as f64;
        n * self.proposed_hz * (self.square + self.slope * n * n).sqrt()
    }

    pub(super) fn learn(&mut self, number: usize, tone: &Tone, bin_hz: f64) {
        let n = number as f64;
        let place_hz = n * self.proposed_hz;
        let per_place = tone.frequency_hz / place_hz;
        let (x, y) = (n * n, per_place * per_place);
        // Noise moves a tone, and no series is exact.
        let of_series = (2e-4 * tone.frequency_hz).powi(2) + (0.002 * bin_hz * n).powi(2);
        let variance = tone.variance + tone.of_others + of_series;
        // The variance of y is that of the frequency times (2y/f)².
        let certainty = 1.0 / variance;
        let weight = certainty * (0.25 * place_hz * place_hz / y);
        self.of_noise += tone.variance * certainty;
        self.weights += weight;
        self.x += weight * x;
        self.xx += weight * x * x;
        self.y += weight * y;
        self.xy += weight * x * y;
        self.yy += weight * y * y;
    }

    /// F and B from what was learned.
    pub(super) fn solve(&mut self) {
        let per_determinant = 1.0 / (self.weights * self.xx - self.x * self.x);
        self.slope = (self.weights * self.xy - self.x * self.y) * per_determinant;
        self.square = (self.xx * self.y - self.x * self.xy) * per_determinant;
        if self.slope < 0.0 {
            (self.slope, self.square) = (0.0, self.y / self.weights);
        }
    }

    /// Frequency of the first partial, its uncertainty, and B, of tones so many bins apart. A
    /// stiffness that hardly stands out of its own uncertainty is none: keeping only those above 0
    /// would put f0 too low.
    pub(super) fn fundamental(&self, matched: usize, spacing_bins: f64) -> (f64, f64, f64) {
        const STANDS_OUT: f64 = 3.0;
        let determinant = self.weights * self.xx - self.x * self.x;
        let slope_u = (self.weights / determinant).sqrt();
        let rest = |square: f64, slope: f64| {
            self.yy - 2.0 * (square * self.y + slope * self.xy)
                + square * square * self.weights
                + 2.0 * square * slope * self.x
                + slope * slope * (self.xx - 1.0 / (USUAL_B * USUAL_B))
        };
        let of_noise = self.of_noise / matched as f64;
        // Between tones so close there is no noise to be seen, but the skirts of their main lobes.
        let is_seen = ((spacing_bins - SKIRTS_BINS) / (CLEAR_BINS - SKIRTS_BINS)).clamp(0.0, 1.0);
        let usual = UNSEEN_SCATTER + is_seen * (USUAL_SCATTER + of_noise - UNSEEN_SCATTER);
        // The scatter of the tones says how far to trust them; few say little of it, and then what
        // is usual counts. A variance that is itself known from so few is not divided by all of
        // them.
        let scatter = |misfit: f64, fitted: f64| {
            let free = (matched as f64 - fitted).max(0.0);
            let sum = misfit.max(0.0) + USUAL_COUNT * usual;
            (sum / (free + USUAL_COUNT - 1.0)).max(is_seen * of_noise)
        };
        let stiff = scatter(rest(self.square, self.slope), 2.0);
        let least = slope_u * stiff.max(of_noise).sqrt();
        let (square, slope, variance) = if self.slope > STANDS_OUT * least {
            let variance = (self.xx - 2.0 * self.x + self.weights) / determinant;
            (self.square, self.slope, variance * stiff)
        } else {
            let square = self.y / self.weights;
            (square, 0.0, scatter(rest(square, 0.0), 1.0) / self.weights)
        };
        let first = (square + slope).max(1e-9);
        let f0_hz = self.proposed_hz * first.sqrt();
        (f0_hz, 0.5 * f0_hz * variance.sqrt() / first, slope / square)
    }
}
