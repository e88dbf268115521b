//! The energy of a response over time in each band, filtered backwards in time.
//!
//! A filter rings after what excites it. Run backwards it rings before it, where a decay has more
//! energy, so that its ringing hides a decay only where the bandwidth times the reverberation time is
//! below 4, rather than 16 (ISO 3382-1:2009, 7.3.2).

use crate::bands::{Band, Bank};

/// A band has so many cells in the time of its inverse width, and none shorter than this.
const PER_WIDTH: f64 = 4.0;
const SHORTEST_S: f64 = 0.000_5;
/// A filter is silent so many inverse widths after what excites it, to some −100 dB.
const RINGS: f64 = 14.0;
/// What a filter run backwards makes of the end of the response is left out, in inverse widths.
const STARTS: f64 = 2.0;
/// The width that the scatter of energy is that of, (∫|H|²)²/∫|H|⁴, over the width of the band: of
/// 1/(1 + x¹⁰), made as wide as the ideal band.
const STATISTICAL: f64 = 1.11;

/// Mean power of a band over time.
#[derive(Debug, Clone)]
pub(super) struct Cells {
    /// Length of a cell.
    pub(super) step_s: f64,
    /// Power of each cell from time zero on.
    pub(super) power: Vec<f64>,
    /// Energy before time zero: that of the filter's ringing.
    pub(super) before: f64,
    /// Its first moment; negative.
    pub(super) moment_before: f64,
    /// Energy from before time zero to the end, with what the filter makes of it.
    pub(super) whole: f64,
    /// Bandwidth that rules the scatter: the power over a time t scatters by 1/√(B·t).
    pub(super) bandwidth_hz: f64,
}

impl Cells {
    /// Adds the power of another decay, as far as both go.
    pub(super) fn add(&mut self, other: &Self) {
        self.power.truncate(other.power.len());
        self.power.iter_mut().zip(&other.power).for_each(|(sum, power)| *sum += power);
    }

    /// With so many decays taken together.
    pub(super) fn over(mut self, decays: f64) -> Self {
        self.power.iter_mut().for_each(|power| *power /= decays);
        self
    }

    /// All the energy from time zero on.
    pub(super) fn energy(&self) -> f64 {
        self.step_s * self.power.iter().sum::<f64>()
    }
}

/// Filters of bands, each for itself, and how late each is.
pub(super) struct Filters {
    filters: Vec<Filter>,
    rate_hz: f64,
}

struct Filter {
    bank: Bank,
    band: Band,
    rate_hz: f64,
    /// When the energy of its response to an impulse comes in the mean.
    delay_s: f64,
}

impl Filters {
    pub(super) fn new(bands: &[Band], rate_hz: f64) -> Self {
        let filter = |band: &Band| {
            let (bank, places) = Bank::new(std::slice::from_ref(band), rate_hz);
            let at_hz = places[0].rate_hz;
            let mut impulse = vec![0.0; (RINGS / width(band) * rate_hz) as usize + 1024];
            impulse[0] = 1.0;
            let (mut energy, mut moment, mut n) = (0.0, 0.0, 0.0);
            bank.clone().run(&impulse, |_, out| {
                for y in out {
                    energy += y * y;
                    moment += n * y * y;
                    n += 1.0;
                }
            });
            Filter { bank, band: *band, rate_hz: at_hz, delay_s: moment / energy / at_hz }
        };
        Self { filters: bands.iter().map(filter).collect(), rate_hz }
    }

    /// The power of each band of a response over time, from a sample of it on.
    pub(super) fn cells(&self, response: &[f64], zero: usize) -> Vec<Cells> {
        let cells = |filter: &Filter| self.cells_of(filter, response, zero);
        self.filters.iter().map(cells).collect()
    }

    /// Power of each band at the end of what follows a response: that of its last fifth.
    pub(super) fn noise(&self, samples: &[f64]) -> Vec<f64> {
        let tail = &samples[samples.len() - samples.len() / 5..];
        let mean = |cells: Cells| cells.power.iter().sum::<f64>() / cells.power.len().max(1) as f64;
        self.cells(tail, 0).into_iter().map(mean).collect()
    }

    fn cells_of(&self, filter: &Filter, response: &[f64], zero: usize) -> Cells {
        const BLOCK: usize = 1 << 14;
        let width = width(&filter.band);
        let step = (filter.rate_hz * (1.0 / (PER_WIDTH * width)).max(SHORTEST_S)).round().max(1.0);
        let step_s = step / filter.rate_hz;
        let lasts_s = (response.len() - zero) as f64 / self.rate_hz;
        let mut power = vec![0.0; (lasts_s / step_s) as usize];
        let (mut before, mut moment_before, mut whole) = (0.0, 0.0, 0.0);
        // Where time zero lies in what comes out.
        let at_zero =
            filter.rate_hz * ((response.len() - 1 - zero) as f64 / self.rate_hz + filter.delay_s);
        let mut place = at_zero;
        let mut bank = filter.bank.clone();
        let mut add = |_: usize, out: &[f64]| {
            for y in out {
                // A sample holds the energy from half a sample before it to half a sample behind.
                let cell = ((place + 0.5) / step).floor();
                whole += y * y / filter.rate_hz;
                if cell < 0.0 {
                    before += y * y / filter.rate_hz;
                    moment_before += y * y / filter.rate_hz * place / filter.rate_hz;
                } else if let Some(power) = power.get_mut(cell as usize) {
                    *power += y * y / step;
                }
                place -= 1.0;
            }
        };
        let mut block = Vec::with_capacity(BLOCK);
        let rings = (RINGS / width * self.rate_hz) as usize;
        let all = response.iter().rev().copied().chain(std::iter::repeat_n(0.0, rings));
        for x in all {
            block.push(x);
            if block.len() == BLOCK {
                bank.run(&block, &mut add);
                block.clear();
            }
        }
        bank.run(&block, &mut add);
        let left_s = STARTS / width;
        power.truncate(((lasts_s - left_s).max(0.0) / step_s) as usize);
        Cells { step_s, power, before, moment_before, whole, bandwidth_hz: STATISTICAL * width }
    }
}

fn width(band: &Band) -> f64 {
    band.high_hz - band.low_hz
}
