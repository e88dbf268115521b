//! The components of a partial by itself: one damped sinusoid, or two or three where the evidence
//! asks for them.

use std::f64::consts::TAU;

use super::C;
use super::band::Band;
use super::fit::{MOST, Noisy, Pole, Solution, fit, strongest};
use super::steadiness::heard_s;
use crate::transform::complex_forward;

/// Another component is believed if it leaves so much less, in χ² for its four parameters: what
/// noise gains by the best of a thousand frequencies is less than 30.
const MUCH_BETTER: f64 = 40.0;
/// A partial must stand so far above the noise of a value, as a ratio of powers, to be judged.
const STANDS_OUT: f64 = 10.0;
/// A line that falls by less than so many nats while the partial falls by many times that is hum.
const LINE_FALLS: f64 = 0.35;
const PARTIAL_FALLS: f64 = 2.5;

/// Whether a partial can be judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// It dies away as strings do.
    Heard,
    /// Noise hides it.
    Hidden,
    /// It wavers as no sum of a few decaying tones does: it is blown, bowed or sung.
    Wavers,
}

/// A band with its components and its noise.
#[derive(Debug)]
pub(super) struct Own {
    pub(super) band: Band,
    /// The best fit of one component, of two, of three, as far as they are believed.
    pub(super) fits: Vec<Solution>,
    /// Variance of a value per independent one.
    pub(super) noise: f64,
    /// Whether it can be judged, and if not, why.
    pub(super) state: State,
    /// Frequencies of steady lines that were removed from it, in Hz.
    pub(super) hum_hz: Vec<f64>,
}

impl Own {
    pub(super) fn is_heard(&self) -> bool {
        self.state == State::Heard
    }

    pub(super) fn noisy(&self) -> Noisy<'_> {
        Noisy { band: &self.band, noise: self.noise }
    }

    pub(super) fn best(&self) -> &Solution {
        &self.fits[self.fits.len() - 1]
    }

    pub(super) fn poles(&self, count: usize) -> &[Pole] {
        &self.fits[count.min(self.fits.len()) - 1].bands[0].poles
    }
}

/// Finds the components of a band; `None` where it holds nothing that can be fitted.
pub(super) fn own(mut band: Band) -> Option<Own> {
    const MOST_LINES: usize = 4;
    let (mut fits, mut noise) = components(&band)?;
    let mut hum_hz = Vec::new();
    while hum_hz.len() < MOST_LINES {
        let poles = &fits[fits.len() - 1].bands[0].poles;
        let Some(line) = steady_line(&band, poles).or_else(|| line_beside(&band, poles, noise))
        else {
            break;
        };
        hum_hz.push(band.centre_hz + line.offset_hz());
        band.remove(&line);
        (fits, noise) = components(&band)?;
    }
    let poles = &fits[fits.len() - 1].bands[0].poles;
    let state = state(&band, poles, noise);
    Some(Own { band, fits, noise, state, hum_hz })
}

fn state(band: &Band, poles: &[Pole], noise: f64) -> State {
    /// More of the energy than this is left of no sum of decaying tones.
    const MOST_LEFT: f64 = 0.03;
    /// What is left beside a partial has so much more within this share of the band than beyond.
    const MUCH_MORE: f64 = 6.0;
    const NEAR: f64 = 0.25;
    let early = &band.values[..=band.values.len() / 8];
    let power = early.iter().map(C::norm_sqr).sum::<f64>() / early.len() as f64;
    let is_over = power * band.correlated > STANDS_OUT * noise;
    let left = band.left(poles);
    let share = left.iter().map(C::norm_sqr).sum::<f64>() / band.energy;
    if is_over && share < MOST_LEFT {
        return State::Heard;
    }
    let spectrum = matched(band, &left, 0.0);
    let length = spectrum.len();
    let near = ((NEAR * band.farthest_hz() * band.step_s * length as f64) as usize).max(1);
    let mean = |values: &mut dyn Iterator<Item = usize>| {
        let (sum, count) = values.fold((0.0, 0.0), |(sum, n), k| (sum + spectrum[k], n + 1.0));
        sum / f64::max(count, 1.0)
    };
    let inside = mean(&mut (0..near).chain(length - near..length));
    let outside = mean(&mut (near..length - near));
    match (inside > MUCH_MORE * outside, is_over) {
        (true, _) => State::Wavers,
        (false, true) => State::Heard,
        (false, false) => State::Hidden,
    }
}

fn components(band: &Band) -> Option<(Vec<Solution>, f64)> {
    let guess = 1e-6 * band.energy / band.values.len() as f64;
    if guess <= 0.0 {
        return None;
    }
    let start = start(band);
    let by = |rates: Vec<C>, noise: f64| fit(&[Noisy { band, noise }], vec![rates], None);
    let mut fits = vec![by(vec![start], guess)?];
    let mut noise = noise_of(band, fits[0].bands[0].misfit, 1);
    while fits.len() < MOST {
        let before = fits[fits.len() - 1].bands[0].clone();
        let starts = starts_of_more(band, &before.poles);
        let more = starts.into_iter().filter_map(|rates| by(rates, guess));
        let more = more.filter(|solution| is_sound(band, &solution.bands[0].poles));
        let Some(best) = more.min_by(|a, b| a.left.total_cmp(&b.left)) else { break };
        let misfit = best.bands[0].misfit;
        let of_more = noise_of(band, misfit, fits.len() + 1);
        if 2.0 * (before.misfit - misfit) / of_more < MUCH_BETTER {
            break;
        }
        noise = of_more;
        fits.push(best);
    }
    // Again with the noise that is known now, for what is said of the uncertainty.
    let again = |solution: Solution| {
        let rates = solution.bands[0].poles.iter().map(|pole| pole.rate).collect();
        by(rates, noise)
    };
    let fits: Vec<Solution> = fits.into_iter().filter_map(again).collect();
    (!fits.is_empty()).then_some((fits, noise))
}

/// Whether components lie within the band, and none is much more than the sound that they make:
/// large terms that cancel are no account of it. Those that begin in opposite phase have more than
/// the sound at its peak or in its energy, not in both.
pub(super) fn is_sound(band: &Band, poles: &[Pole]) -> bool {
    const STRONGER: f64 = 3.0;
    const BEYOND: f64 = 1.5;
    let greatest = band.values.iter().map(C::norm_sqr).fold(0.0, f64::max);
    let lasting_s = band.lasting_s();
    let energy = band.energy / band.values.len() as f64 * lasting_s;
    poles.iter().all(|pole| {
        let power = pole.amplitude.norm_sqr();
        let of_energy = power * heard_s(-2.0 * pole.rate.re, lasting_s) / energy;
        of_energy.min(power / greatest) < STRONGER * STRONGER
            && pole.offset_hz().abs() < BEYOND * band.reach_hz
    })
}

/// Variance of a value per independent one, from what components leave.
fn noise_of(band: &Band, misfit: f64, components: usize) -> f64 {
    let free = band.values.len() as f64 / band.correlated - 2.0 * components as f64;
    let rounding = 1e-14 * band.energy / band.values.len() as f64;
    misfit / free.max(2.0) + rounding
}

/// A single rate by the ratio of neighbours.
fn start(band: &Band) -> C {
    let mut product = C::default();
    let mut square = 0.0;
    for pair in band.values.windows(2) {
        product += pair[1] * pair[0].conj();
        square += pair[0].norm_sqr();
    }
    (product / square).ln() / band.step_s
}

/// Rates to begin with for one component more: what is left has a frequency of its own, or one of
/// those that are there is two: by frequency, or by decay.
fn starts_of_more(band: &Band, poles: &[Pole]) -> Vec<Vec<C>> {
    let rates: Vec<C> = poles.iter().map(|pole| pole.rate).collect();
    let strongest = strongest(poles);
    let decay = rates[strongest].re.min(-0.1 / band.lasting_s());
    let mut starts = Vec::new();
    if let Some((offset_hz, _)) = greatest(band, &band.left(poles), decay, band.reach_hz) {
        let mut with = rates.clone();
        with.push(C::new(decay, TAU * offset_hz));
        starts.push(with);
    }
    // What is lived through, not what is recorded, says how near frequencies may lie.
    let lived_s = (1.0 / -decay).min(band.lasting_s());
    let aside = C::new(0.0, TAU * 0.2 / lived_s);
    let mut apart = rates.clone();
    apart.push(rates[strongest] - aside);
    apart[strongest] += aside;
    starts.push(apart);
    let mut stages = rates.clone();
    stages.push(C::new(0.4 * decay, rates[strongest].im));
    stages[strongest].re *= 1.8;
    starts.push(stages);
    starts
}

/// Offset in Hz of the greatest maximum of the spectrum of what is left, each value weighted as a
/// component of this rate would be heard, with its power.
fn greatest(band: &Band, left: &[C], decay: f64, reach_hz: f64) -> Option<(f64, f64)> {
    let spectrum = matched(band, left, decay);
    let length = spectrum.len();
    let hz = |k: usize| {
        let signed = if k > length / 2 { k as f64 - length as f64 } else { k as f64 };
        signed / (length as f64 * band.step_s)
    };
    let within = (0..length).filter(|k| hz(*k).abs() <= reach_hz);
    let top = within.max_by(|a, b| spectrum[*a].total_cmp(&spectrum[*b]))?;
    Some((hz(top), spectrum[top]))
}

/// Power of what is left along a decaying sinusoid of each frequency, from 0 on, four times as
/// finely as it is resolved.
pub(super) fn matched(band: &Band, left: &[C], decay: f64) -> Vec<f64> {
    let fall = (decay * band.step_s).exp();
    let mut weight = 1.0;
    let mut weighted: Vec<C> = Vec::with_capacity(4 * left.len());
    let mut square = 0.0;
    for value in left {
        weighted.push(value * weight);
        square += weight * weight;
        weight *= fall;
    }
    weighted.resize(crate::transform::fast_length(4 * left.len()), C::default());
    complex_forward(&mut weighted);
    weighted.iter().map(|x| x.norm_sqr() / square).collect()
}

/// A line that goes on while the partial dies away: hum, or a machine.
fn steady_line(band: &Band, poles: &[Pole]) -> Option<Pole> {
    let falls = |pole: &Pole| -pole.rate.re * band.lasting_s();
    let strongest = poles.get(strongest(poles))?;
    if falls(strongest) < PARTIAL_FALLS {
        return None;
    }
    let line = poles.iter().find(|pole| falls(pole).abs() < LINE_FALLS)?;
    (line.amplitude.norm() < 0.5 * strongest.amplitude.norm()).then_some(*line)
}

/// A steady line too far off to be a string, that stands out of what components leave.
fn line_beside(band: &Band, poles: &[Pole], noise: f64) -> Option<Pole> {
    let (offset_hz, power) = greatest(band, &band.left(poles), 0.0, band.farthest_hz())?;
    if offset_hz.abs() < band.reach_hz || 2.0 * power < MUCH_BETTER * noise {
        return None;
    }
    let mut rates: Vec<C> = poles.iter().map(|pole| pole.rate).take(MOST - 1).collect();
    rates.push(C::new(0.0, TAU * offset_hz));
    let solution = fit(&[Noisy { band, noise }], vec![rates], None)?;
    let line = *solution.bands[0].poles.last()?;
    let is_it = (line.offset_hz() - offset_hz).abs() < 1.0 / band.lasting_s();
    (is_it && (line.rate.re * band.lasting_s()).abs() < LINE_FALLS).then_some(line)
}
