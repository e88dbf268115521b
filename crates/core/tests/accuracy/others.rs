//! Tones off the series of a note against known truth.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::partials::{OtherTone, PartialsSettings, partials};
use tonemap_core::synth::{Partial, Vibrato, harmonics, render, to_samples};

use crate::partials::add_noise;
use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[phantom_partials_are_found_beside_those_of_the_string];

const RATE_HZ: f64 = 48_000.0;
const RESOLVE_HZ: f64 = 6.0;

fn others_of(sound: &[f64]) -> Vec<OtherTone> {
    let settings =
        PartialsSettings { others_resolve_hz: Some(RESOLVE_HZ), ..PartialsSettings::default() };
    let found = partials(&to_samples(sound), RATE_HZ, 0.0, &settings).expect("followed");
    let others = found.other_tones.expect("asked for");
    assert!(others.iter().all(|tone| tone.hz_from_partial.abs() >= RESOLVE_HZ), "{others:?}");
    others
}

/// A string with tones beside its partials.
struct Strange {
    sound: Vec<f64>,
    /// Each with the two partials that it is the sum of, or as a mode of its own.
    others: Vec<(Partial, Option<[usize; 2]>)>,
    noise: f64,
}

/// F of 40 to 200 Hz, four phantom partials and a longitudinal mode 25 to 50 dB below the strongest,
/// each resolved from all others.
fn strange(seed: u64) -> Strange {
    const PARTIALS: usize = 24;
    const PHANTOMS: usize = 4;
    const SNR_DB: f64 = 60.0;
    let mut rng = ChaCha8Rng::seed_from_u64(310_000 + seed);
    let f_hz = 40.0 * f64::exp2(rng.random_range(0.0..2.3));
    let inharmonicity = 10f64.powf(rng.random_range(-3.6..-3.0));
    let t60_s = rng.random_range(3.0..8.0);
    let mut all: Vec<Partial> = (1..=PARTIALS)
        .map(|number| {
            let n = number as f64;
            Partial {
                frequency_hz: n * f_hz * (1.0 + inharmonicity * n * n).sqrt(),
                amplitude: 0.1 / n * 10f64.powf(rng.random_range(-6.0..6.0) / 20.0),
                phase_rad: rng.random_range(0.0..TAU),
                t60_s: t60_s / (1.0 + 0.05 * n),
            }
        })
        .collect();
    let strongest = all.iter().map(|partial| partial.amplitude).fold(0.0, f64::max);
    let mut others = Vec::new();
    let mut tries = 0;
    while others.len() < PHANTOMS + 1 && tries < 1000 {
        tries += 1;
        let low = rng.random_range(4..=14);
        let high = low + rng.random_range(0..=1);
        let parents = [all[low - 1], all[high - 1]];
        let is_phantom = others.len() < PHANTOMS;
        // A product decays as fast as both together.
        let of_both_s = 1.0 / parents.iter().map(|parent| 1.0 / parent.t60_s).sum::<f64>();
        let (frequency_hz, t60_s) = if is_phantom {
            (parents.iter().map(|parent| parent.frequency_hz).sum(), of_both_s)
        } else {
            (f_hz * rng.random_range(5.0..20.0), rng.random_range(0.8..2.0))
        };
        let other = Partial {
            frequency_hz,
            amplitude: strongest * 10f64.powf(rng.random_range(-50.0..-25.0) / 20.0),
            phase_rad: rng.random_range(0.0..TAU),
            t60_s,
        };
        let is_clear = |hz: f64| (hz - frequency_hz).abs() > 1.5 * RESOLVE_HZ;
        if frequency_hz < 0.97 * all[PARTIALS - 1].frequency_hz
            && all.iter().all(|partial| is_clear(partial.frequency_hz))
        {
            all.push(other);
            others.push((other, is_phantom.then_some([low, high])));
        }
    }
    let mut sound = render(&all, Vibrato::default(), RATE_HZ, 3.0);
    let noise = add_noise(&mut sound, SNR_DB, seed);
    Strange { sound, others, noise }
}

/// What one string gave.
#[derive(Default)]
struct OfString {
    loud: usize,
    found: usize,
    phantoms: usize,
    as_such: usize,
    modes: usize,
    as_sums: usize,
    /// What is none of them.
    false_tones: usize,
    /// Errors with their uncertainties.
    frequency_hz: Vec<(f64, f64)>,
    from_sum_hz: Vec<(f64, f64)>,
    t60: Vec<(f64, f64)>,
    level_db: Vec<f64>,
}

#[test]
pub(crate) fn phantom_partials_are_found_beside_those_of_the_string() {
    /// A tone is found within this share of the resolution.
    const NEAR_HZ: f64 = 0.3 * RESOLVE_HZ;
    /// What stands out of the noise of a frame by so much is to be found.
    const LOUD_DB: f64 = 25.0;
    let strings = in_parallel(trials(60, 180), |seed| {
        let Strange { sound, others, noise } = strange(seed);
        let found = others_of(&sound);
        let mut of = OfString::default();
        let frame = 2.66 / RESOLVE_HZ * RATE_HZ;
        for (other, sum) in &others {
            let ratio = other.amplitude.powi(2) * frame / (4.0 * 2.02 * noise * noise);
            let is_loud = 10.0 * ratio.log10() > LOUD_DB;
            of.loud += usize::from(is_loud);
            let off_hz = |tone: &OtherTone| tone.frequency_hz - other.frequency_hz;
            let Some(tone) = found.iter().find(|tone| off_hz(tone).abs() < NEAR_HZ) else {
                continue;
            };
            of.found += usize::from(is_loud);
            of.frequency_hz.push((off_hz(tone), tone.frequency_hz_u));
            of.level_db.push(tone.level_db - 20.0 * other.amplitude.log10());
            let t60 = tone.decay_t60_s.zip(tone.decay_t60_s_u);
            let percent = |(s, u)| (100.0 * (s / other.t60_s - 1.0), 100.0 * u / other.t60_s);
            of.t60.extend(t60.map(percent));
            if sum.is_none() {
                of.modes += 1;
                of.as_sums += usize::from(tone.sum_of.is_some());
                continue;
            }
            of.phantoms += 1;
            if tone.sum_of == *sum {
                of.as_such += 1;
                of.from_sum_hz.extend(tone.hz_from_sum.zip(tone.hz_from_sum_u));
            }
        }
        let is_true = |tone: &OtherTone| {
            let off_hz = |other: &Partial| (tone.frequency_hz - other.frequency_hz).abs();
            others.iter().any(|(other, _)| off_hz(other) < NEAR_HZ)
        };
        of.false_tones = found.iter().filter(|tone| !is_true(tone)).count();
        of
    });
    let sum = |of: fn(&OfString) -> usize| strings.iter().map(of).sum::<usize>();
    let (found, loud) = (sum(|of| of.found), sum(|of| of.loud));
    let (as_such, phantoms) = (sum(|of| of.as_such), sum(|of| of.phantoms));
    let (as_sums, modes) = (sum(|of| of.as_sums), sum(|of| of.modes));
    let false_tones = sum(|of| of.false_tones);
    println!("tones off the series: {found} of {loud} found, {false_tones} made up");
    println!("{as_such} of {phantoms} phantom partials told as such, {as_sums} of {modes} modes");
    assert!(100 * found >= 98 * loud && 100 * false_tones <= loud);
    assert!(100 * as_such >= 99 * phantoms && 100 * as_sums <= 10 * modes);
    let all = |of: fn(&OfString) -> &[(f64, f64)]| -> Vec<(f64, f64)> {
        strings.iter().flat_map(of).copied().collect()
    };
    Accuracy::all("frequency of a tone off the series", "Hz", all(|of| &of.frequency_hz))
        .hold(9e-3);
    let from_sum = all(|of| &of.from_sum_hz);
    Accuracy::all("distance of a phantom partial from the sum of two", "Hz", from_sum).hold(6e-3);
    Accuracy::all("T60 of a tone off the series", "%", all(|of| &of.t60)).hold(2.1);
    let level = strings.iter().flat_map(|of| of.level_db.clone());
    Accuracy::all_bare("level of a tone off the series", "dB", level).hold(0.2);
}

/// Neither vibrato nor noise nor beats make tones off the series.
#[test]
fn a_note_without_others_has_none() {
    let notes = in_parallel(40, |seed| {
        let mut rng = ChaCha8Rng::seed_from_u64(320_000 + seed);
        let f0_hz = 60.0 * f64::exp2(rng.random_range(0.0..4.0));
        let amplitudes: Vec<f64> = (1..=16).map(|n| 0.1 / f64::from(n)).collect();
        let mut partials = harmonics(f0_hz, &amplitudes);
        for partial in &mut partials {
            partial.phase_rad = rng.random_range(0.0..TAU);
        }
        let mut vibrato = Vibrato::default();
        match seed % 4 {
            0 => vibrato = Vibrato { rate_hz: 5.5, depth_cents: 30.0 },
            1 => {
                let second = partials.clone().into_iter().map(|partial| Partial {
                    frequency_hz: 1.0005 * partial.frequency_hz,
                    amplitude: 0.5 * partial.amplitude,
                    ..partial
                });
                partials.extend(second.collect::<Vec<_>>());
            }
            2 => partials.iter_mut().for_each(|partial| partial.t60_s = 1.0),
            _ => (),
        }
        let mut sound = render(&partials, vibrato, RATE_HZ, 2.0);
        add_noise(&mut sound, rng.random_range(20.0..60.0), seed);
        others_of(&sound).len()
    });
    let false_tones: usize = notes.iter().sum();
    println!("{false_tones} tones off the series of {} notes without any", notes.len());
    assert!(false_tones <= 1, "{notes:?}");
}
