//! What stands out of many takes, and which are one recording, against known truth.

use tonemap_core::Measured;
use tonemap_core::collection::{Member, odd};
use tonemap_core::fingerprint::{Alike, Finder, Printer, WORDS_PER_S, alike};
use tonemap_core::resample::resampled;
use tonemap_core::synth::alder_hall::harp_string;
use tonemap_core::synth::{PluckedString, low_passed, mix, to_samples, white_noise};

use crate::support::trials;

pub(crate) const MEASURES: &[fn()] =
    &[values_stand_out_by_chance_as_often_as_said, a_recording_is_found_however_it_was_copied];

/// A distribution by its name: from normal values, with the decimals that mean something.
type Kind = (&'static str, fn(f64) -> f64, usize);

/// Share of groups in which a value may stand out by chance.
const SHARE: f64 = 0.05;

/// Groups of 8 to 400 values of several distributions, in none of which a value is astray, and with
/// one that is by ten standard deviations.
#[test]
pub(crate) fn values_stand_out_by_chance_as_often_as_said() {
    let kinds: [Kind; 3] = [
        ("normal", |x| x, 2),
        ("log-normal", |x| (0.5 * x).exp(), 2),
        ("whole numbers", f64::round, 0),
    ];
    for (kind, of, decimals) in kinds {
        for count in [8, 12, 20, 39, 40, 400] {
            let groups = trials(400, 4000);
            let (mut with_some, mut found) = (0, 0);
            for seed in 0..groups {
                let noise = white_noise(seed, 1.0, count);
                let member = |x: f64| Member { value: Measured::new(of(x), 0.1), group: 0 };
                let mut values: Vec<Member> = noise.iter().map(|x| member(*x)).collect();
                with_some += u32::from(!odd(&values, decimals, SHARE).is_empty());
                let astray = seed as usize % count;
                values[astray].value.value += 10.0;
                found += u32::from(odd(&values, decimals, SHARE).iter().any(|o| o.index == astray));
            }
            let share = f64::from(with_some) / groups as f64;
            let found = f64::from(found) / groups as f64;
            println!("{kind}, {count}: some stand out in {share:.3}; one astray found {found:.3}");
            // Within what chance makes of so many groups; skewed values stand out more often.
            let most = if kind == "log-normal" { 0.3 } else { SHARE };
            assert!(
                share <= most + 3.0 * (most / groups as f64).sqrt(),
                "{kind}, {count}: {share}"
            );
            if count >= 20 {
                assert!(found > 0.9, "{kind}, {count}: found {found}");
            }
        }
    }
}

fn words_of(sound: &[f64], rate_hz: f64) -> Vec<u16> {
    let mut printer = Printer::new(rate_hz);
    printer.push(&to_samples(sound));
    printer.finish()
}

/// Notes of a harp in noise; copies of each that were turned down, cut, filtered, resampled, or got
/// noise; and other strikes of the same strings.
#[test]
pub(crate) fn a_recording_is_found_however_it_was_copied() {
    const RATE_HZ: f64 = 48_000.0;
    let notes = trials(24, 200) as usize;
    // No two strikes are at the same place of the string, nor as hard.
    let strike = |n: usize, seed: u64| {
        let mut sound = white_noise(seed, 3e-4, (2.0 * RATE_HZ) as usize);
        let string = harp_string(43 + (n % 30) as i32, 0.0);
        let string = PluckedString {
            pluck_position: (string.pluck_position + 100.0 * sound[0]).clamp(0.2, 0.5),
            t60_s: string.t60_s * (300.0 * sound[1]).exp(),
            ..string
        };
        mix(&mut sound[4800..], &string.render(RATE_HZ, 1.9));
        sound
    };
    let mut finder = Finder::default();
    let (mut prints, mut originals) = (Vec::new(), Vec::new());
    for n in 0..notes {
        let sound = strike(n, 10 + n as u64);
        let quieter: Vec<f64> = sound.iter().map(|x| 0.3 * x).collect();
        let cut = sound[11_111..80_000].to_vec();
        let duller = low_passed(&sound, 3000.0, RATE_HZ);
        let other_rate = resampled(&to_samples(&sound), 48_000, 44_100);
        let other_rate: Vec<f64> = other_rate.into_iter().map(f64::from).collect();
        let mut noisier = sound.clone();
        let noise = white_noise(500 + n as u64, 1e-4, sound.len());
        noisier.iter_mut().zip(&noise).for_each(|(x, noise)| *x += noise);
        let other_strike = strike(n, 1000 + n as u64);
        originals.push(prints.len());
        for (sound, rate_hz) in [
            (sound, RATE_HZ),
            (quieter, RATE_HZ),
            (cut, RATE_HZ),
            (duller, RATE_HZ),
            (other_rate, 44_100.0),
            (noisier, RATE_HZ),
            (other_strike, RATE_HZ),
        ] {
            prints.push(words_of(&sound, rate_hz));
            finder.push(&prints[prints.len() - 1]);
        }
    }
    let pairs = finder.pairs();
    let names = ["turned down", "cut", "low-passed", "resampled", "with noise", "another strike"];
    for (kind, name) in (1..).zip(names) {
        let (mut found, mut differing, mut offset_s): (u32, f64, f64) = (0, 0.0, 0.0);
        for first in &originals {
            let pair = (*first as u32, (*first + kind) as u32);
            let is = alike(&prints[*first], &prints[*first + kind]);
            if let Some(Alike { differing: share, offset_s: at }) =
                is.filter(|_| pairs.contains(&pair))
            {
                found += 1;
                differing = differing.max(share);
                let truth = if name == "cut" { 11_111.0 / RATE_HZ } else { 0.0 };
                offset_s = offset_s.max((at - truth).abs());
            }
        }
        let share = f64::from(found) / notes as f64;
        println!("{name}: {share:.3} found, at most {differing:.3} differ, offset {offset_s:.4} s");
        if name == "another strike" {
            assert!(share < 0.05, "{name}: {share}");
        } else {
            assert!(share >= 0.9, "{name}: {share}");
            // Noise that hides all but the attack leaves the offset open.
            assert!(name == "with noise" || offset_s <= 1.0 / WORDS_PER_S, "{name}: {offset_s}");
        }
    }
}
