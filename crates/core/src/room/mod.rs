//! The acoustics of a room: reverberation times, clarity, definition and centre time per band.
//!
//! # What it computes
//!
//! **Response.** The impulse response is the take itself (of a burst too), or comes from a sweep and
//! its recording (module `sweep`). Time zero is where it first comes to within 20 dB of its peak
//! (ISO 3382-1:2009, 5.3.4).
//!
//! **Decay.** In each band (IEC 61260-1, filters run backwards, module `cells`) one exponential decay or
//! two above steady noise are fitted by maximum likelihood from 5 dB below the start on (module
//! `model`). The power less that of the noise, up to where the decay has sunk into it, and the energy
//! that the model has from there on, are integrated backwards (M. R. Schroeder, J. Acoust. Soc. Am. 37
//! (1965) 409): L(t) = 10 lg(∫ₜ p²/∫₀ p²). T20, T30 and EDT are −60 dB over the slopes of the
//! least-squares lines from −5 to −25 dB, −5 to −35 dB and 0 to −10 dB (ISO 3382-1:2009, ISO
//! 3382-2:2008). The decay of noise that stops is that of its power itself: the lines go through the
//! fitted model.
//!
//! **Uncertainty** of T is that of a response made of noise in a band of width B: the power over a time t
//! scatters by 1/√(B·t), and what the slope makes of that, with what the model and the noise make of it,
//! is carried through.
//!
//! **Noise.** The impulse-to-noise ratio is INR = 10 lg(E·k/n), E being the energy, k the rate of the
//! decay and n the power of the noise: that of a pure decay of the same energy at its start (C. Hak, R.
//! Wenmaekers and L. van Luxemburg, Acta Acust. united Ac. 98 (2012) 907).
//!
//! **Early and late energy.** C = 10 lg(E_early/E_late), split 50 or 80 ms after the direct sound before
//! filtering, D50 = E₅₀/E, and the centre time Ts = ∫t·p²/E (ISO 3382-1:2009, annex A).

mod cells;
mod decay;
mod excitation;
mod model;
mod ratios;
mod result;
mod sweep;

pub use decay::{DecayCurve, DecayLine};
pub use excitation::Excitation;
pub use ratios::FreeField;
pub use result::{RoomAcoustics, RoomBand, RoomValues, mean_of};

use cells::{Cells, Filters};
use decay::BandDecay;
use excitation::{Cut, Powers};

use crate::bands::{Band, octave_bands};
use crate::error::Error;
use crate::finding::Finding;
use crate::samples::Samples;
use crate::units::db_from_power;

/// How the acoustics of a room are measured.
#[derive(Debug, Clone, PartialEq)]
pub struct RoomSettings {
    /// Share of an octave that a band is.
    pub fraction: u32,
    /// Middles of the lowest and the highest band, in Hz.
    pub range_hz: (f64, f64),
    /// What excites the room; by itself, what the take looks like.
    pub excitation: Option<Excitation>,
    /// The sweep that was played, at the rate of the take.
    pub sweep: Option<Vec<f64>>,
    /// The source in a free field, which strength refers to.
    pub free_field: Option<FreeField>,
}

impl Default for RoomSettings {
    fn default() -> Self {
        Self {
            fraction: 1,
            range_hz: (63.0, 8000.0),
            excitation: None,
            sweep: None,
            free_field: None,
        }
    }
}

/// Early sound ends so long after the direct sound.
const EARLY_S: [f64; 2] = [0.05, 0.08];

/// Measures the acoustics of a room from a take of its response; the early lateral fraction with that of
/// a microphone beside it with a figure-of-eight pattern.
///
/// # Errors
///
/// [`Error::Setting`] for settings that make no sense, [`Error::TooShort`] for less than 50 ms,
/// [`Error::Lost`] where samples can no longer be read.
pub fn room(
    take: &dyn Samples,
    lateral: Option<&dyn Samples>,
    rate_hz: f64,
    settings: &RoomSettings,
) -> Result<RoomAcoustics, Error> {
    settings.check()?;
    let needed = (0.05 * rate_hz) as usize;
    if take.count() < needed {
        return Err(Error::TooShort { samples: take.count() as u64, needed: needed as u64 });
    }
    if let Some(sweep) = &settings.sweep {
        return of_sweep((take, lateral), rate_hz, sweep, settings);
    }
    let powers = Powers::new(take, rate_hz)?;
    let stops = match settings.excitation {
        Some(Excitation::Impulse) => Vec::new(),
        _ => powers.stops(),
    };
    if !stops.is_empty() || settings.excitation == Some(Excitation::InterruptedNoise) {
        return of_noise(take, rate_hz, &powers, &stops, settings);
    }
    let Some(cut) = powers.impulse(take, lateral)? else {
        return Ok(RoomAcoustics::unknown(Excitation::Impulse, settings.fraction, nothing()));
    };
    let mut found = of_response(&cut, rate_hz, Excitation::Impulse, settings);
    if cut.others > 0 {
        found.findings.push(Finding::note(
            "several_bursts",
            format!(
                "The take has {} bursts of about the same level: the loudest is measured. For \
                 another one choose its span.",
                cut.others + 1
            ),
        ));
    }
    Ok(found)
}

fn nothing() -> Finding {
    Finding::serious(
        "no_decay",
        "No decay was found: the take is silent, or has no burst and no noise that stops. With a \
         recorded sweep, name the sweep.",
    )
}

fn of_sweep(
    (take, lateral): (&dyn Samples, Option<&dyn Samples>),
    rate_hz: f64,
    sweep: &[f64],
    settings: &RoomSettings,
) -> Result<RoomAcoustics, Error> {
    /// A response stands out of what is before it by more.
    const LEAST_DB: f64 = 10.0;
    /// What the ends of a sweep make is no distortion.
    const LITTLE_DB: f64 = -55.0;
    /// Harmonics of 3 %.
    const MUCH_DB: f64 = -30.0;
    let refused = |text: &str| {
        let finding = Finding::serious("sweep_not_found", text);
        Ok(RoomAcoustics::unknown(Excitation::Sweep, settings.fraction, finding))
    };
    let Some(found) = sweep::deconvolved(take, lateral, sweep, rate_hz)? else {
        return refused(
            "The take is shorter than the sweep, or silent: it holds no recording of it. Record the \
             whole sweep and its decay.",
        );
    };
    if found.stands_out_db.is_nan() || found.stands_out_db < LEAST_DB {
        return refused(
            "The recording does not match the sweep: no response stands out of what is before it. \
             Name the sweep that was played, with its own length, or check for noise.",
        );
    }
    let within = RoomSettings {
        range_hz: (
            settings.range_hz.0.max(1.12 * found.range_hz.0),
            settings.range_hz.1.min(found.range_hz.1 / 1.12),
        ),
        ..settings.clone()
    };
    let mut made = of_response(&found.cut, rate_hz, Excitation::Sweep, &within);
    made.distortion_db = found.distortion_db.filter(|db| *db > LITTLE_DB);
    if let Some(db) = found.distortion_db.filter(|db| *db > MUCH_DB) {
        made.findings.push(Finding::warning(
            "much_distortion",
            format!(
                "The harmonics of the sweep have {db:.0} dB of the response, as of an overdriven \
                 loudspeaker or input: they are separated, but what they take from the response is \
                 missing in it. Play it more softly."
            )
            .replace('-', "−"),
        ));
    }
    Ok(made)
}

fn of_noise(
    take: &dyn Samples,
    rate_hz: f64,
    powers: &Powers,
    stops: &[(usize, usize)],
    settings: &RoomSettings,
) -> Result<RoomAcoustics, Error> {
    /// Until so shortly before it stops, noise is steady.
    const STEADY_TO_S: f64 = 0.15;
    if stops.is_empty() {
        let (excitation, fraction) = (Excitation::InterruptedNoise, settings.fraction);
        return Ok(RoomAcoustics::unknown(excitation, fraction, nothing()));
    }
    let bands = settings.bands(rate_hz);
    let filters = Filters::new(&bands, rate_hz);
    let mut decays: Vec<Option<Cells>> = vec![None; bands.len()];
    let mut steady = vec![0.0; bands.len()];
    let (mut lasts_s, mut at) = (f64::INFINITY, 0);
    let mut curve = (Vec::new(), 0);
    let mut unsteady = 0;
    for number in 0..stops.len() {
        let cut = powers.interrupted(take, stops, number)?;
        let ends = cut.zero - ((STEADY_TO_S * rate_hz) as usize).min(cut.zero / 4);
        let of_steady = filters.cells(&cut.samples[..ends], 0);
        for (n, cells) in filters.cells(&cut.samples, cut.zero).into_iter().enumerate() {
            let power = &of_steady[n].power;
            unsteady += usize::from(number == 0 && !model::is_steady(&of_steady[n]));
            steady[n] += power.iter().sum::<f64>() / (power.len() * stops.len()) as f64;
            match &mut decays[n] {
                Some(sum) => sum.add(&cells),
                first => *first = Some(cells),
            }
        }
        lasts_s = f64::min(lasts_s, (cut.samples.len() - cut.zero) as f64 / rate_hz);
        if number == 0 {
            at = cut.at;
            curve = (cut.samples, cut.zero);
        }
    }
    if settings.excitation.is_none() && 3 * unsteady > bands.len() {
        let (excitation, fraction) = (Excitation::InterruptedNoise, settings.fraction);
        let finding = Finding::serious(
            "not_steady",
            "The sound that stops in this take is no steady noise in all bands: it is not measured. For \
             a recorded sweep, name the sweep; if it is noise, say so.",
        );
        return Ok(RoomAcoustics::unknown(excitation, fraction, finding));
    }
    let count = stops.len() as f64;
    let of_band = |(cells, steady): (Option<Cells>, f64)| {
        decay::of_interrupted(&cells?.over(count), steady, count)
    };
    let found: Vec<Option<BandDecay>> = decays.into_iter().zip(steady).map(of_band).collect();
    let values =
        |decay: &Option<BandDecay>| decay.as_ref().map_or_else(RoomValues::default, RoomValues::of);
    let all = bands.iter().zip(&found);
    let made = RoomAcoustics {
        excitation: Excitation::InterruptedNoise,
        starts_s: Some(at as f64 / rate_hz),
        lasts_s: Some(lasts_s),
        decays: stops.len() as u64,
        bands: all
            .map(|(band, decay)| RoomBand::new(*band, settings.fraction, values(decay), decay))
            .collect(),
        energy: result::energy_time(&curve.0, curve.1, rate_hz),
        ..RoomAcoustics::empty(settings.fraction)
    };
    Ok(made.finished(&found))
}

fn of_response(
    cut: &Cut,
    rate_hz: f64,
    excitation: Excitation,
    settings: &RoomSettings,
) -> RoomAcoustics {
    let bands = settings.bands(rate_hz);
    let all = with_whole(&bands);
    let filters = Filters::new(&all, rate_hz);
    let mut cells = filters.cells(&cut.samples, cut.zero);
    if let Some((broad, bands)) = cells.split_last_mut() {
        // The width that its scatter has, as its power is spread over bands.
        let (sum, squares) = bands.iter().fold((0.0, 0.0), |(sum, squares), of| {
            (sum + of.energy(), squares + of.energy().powi(2) / of.bandwidth_hz)
        });
        broad.bandwidth_hz = if squares > 0.0 { sum * sum / squares } else { broad.bandwidth_hz };
    }
    let early = EARLY_S.map(|s| {
        let end = (cut.zero + (s * rate_hz) as usize).min(cut.samples.len());
        filters.cells(&cut.samples[..end], cut.zero)
    });
    let lateral = ratios::lateral_energies(&filters, cut, rate_hz);
    let lead_s = cut.zero as f64 / rate_hz;
    let mut values = Vec::new();
    let mut found: Vec<Option<BandDecay>> = Vec::new();
    for (n, cells) in cells.iter().enumerate() {
        let decay = decay::of_response(cells);
        values.push(decay.as_ref().map_or_else(RoomValues::default, |decay| {
            let early = [0, 1].map(|w| early[w][n].whole - decay.noise * (EARLY_S[w] + lead_s));
            let are_resolved = EARLY_S.map(|s| cells.bandwidth_hz * s >= 1.0);
            let values = RoomValues::of(decay).with_early(decay, early, are_resolved);
            let lateral = lateral.as_ref().map(|all| all[n] / early[1]);
            let free_field = settings.free_field.as_ref();
            RoomValues {
                strength_db: free_field.and_then(|f| f.strength_db(all[n].center_hz, decay.energy)),
                lateral_fraction: lateral.filter(|of| *of > 0.0 && are_resolved[1]),
                ..values
            }
        }));
        found.push(decay);
    }
    let broadband = values.get(bands.len()).cloned().unwrap_or_default();
    found.truncate(bands.len());
    let bands = bands.iter().zip(values).zip(&found);
    let made = RoomAcoustics {
        excitation,
        starts_s: Some(cut.at as f64 / rate_hz),
        lasts_s: Some((cut.samples.len() - cut.zero) as f64 / rate_hz),
        decays: 1,
        bands: bands
            .map(|((band, values), decay)| RoomBand::new(*band, settings.fraction, values, decay))
            .collect(),
        broadband,
        energy: result::energy_time(&cut.samples, cut.zero, rate_hz),
        ..RoomAcoustics::empty(settings.fraction)
    };
    made.finished(&found)
}

/// Bands with one more that all together are.
fn with_whole(bands: &[Band]) -> Vec<Band> {
    let mut all = bands.to_vec();
    if let (Some(first), Some(last)) = (bands.first(), bands.last()) {
        let center_hz = (first.low_hz * last.high_hz).sqrt();
        all.push(Band { center_hz, low_hz: first.low_hz, high_hz: last.high_hz });
    }
    all
}

impl RoomSettings {
    fn check(&self) -> Result<(), Error> {
        let refuse = |setting, given: String, allowed: &str| {
            Err(Error::Setting { setting, given, allowed: allowed.into() })
        };
        if !(1..=6).contains(&self.fraction) {
            let given = format!("1/{}", self.fraction);
            return refuse("the fraction of an octave", given, "1/1 to 1/6");
        }
        let (low, high) = self.range_hz;
        if !(low >= 10.0 && low <= high) {
            let given = format!("{low} Hz to {high} Hz");
            return refuse("the range of bands", given, "rising, from 10 Hz up");
        }
        Ok(())
    }

    /// Its bands that end below half the sample rate.
    fn bands(&self, rate_hz: f64) -> Vec<Band> {
        let bands = octave_bands(self.fraction, self.range_hz);
        bands.into_iter().filter(|band| band.high_hz < 0.49 * rate_hz).collect()
    }
}

impl RoomValues {
    /// With what the energy before 50 and 80 ms says, where the band is wide enough to resolve it.
    fn with_early(mut self, decay: &BandDecay, early: [f64; 2], are_resolved: [bool; 2]) -> Self {
        let clarity = |n: usize| {
            let late = decay.energy - early[n];
            let are_known = are_resolved[n] && early[n] > 0.0 && late > 0.0;
            are_known.then(|| db_from_power(early[n] / late))
        };
        (self.c50_db, self.c80_db) = (clarity(0), clarity(1));
        self.d50 = self.c50_db.map(|_| early[0] / decay.energy);
        self.ts_s = Some(decay.moment / decay.energy).filter(|s| *s > 0.0);
        self
    }
}
