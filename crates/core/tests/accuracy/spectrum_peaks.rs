//! Close tones, merged peaks and harmonic families, against known truth.

use std::f64::consts::PI;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::frame::FrameSettings;
use tonemap_core::spectrum::{Peak, Spectrum, SpectrumSettings, measure};
use tonemap_core::synth::{self, Partial, PluckedString, Vibrato, white_noise};
use tonemap_core::units::cents_between;

use crate::support::{Accuracy, in_parallel, tolerance, trials};

pub(crate) const MEASURES: &[fn()] = &[
    equal_tones_one_and_a_half_resolutions_apart_are_both_found,
    harmonic_series_are_found_with_their_fundamental,
    differences_are_beats_with_their_uncertainty,
];

const RATE_HZ: f64 = 48_000.0;

fn steady(frequency_hz: f64, amplitude: f64, phase_rad: f64) -> Partial {
    Partial { frequency_hz, amplitude, phase_rad, t60_s: f64::INFINITY }
}

fn add_noise(sound: &mut [f64], seed: u64, rms: f64) {
    let noise = white_noise(seed, rms, sound.len());
    synth::mix(sound, &noise);
}

fn spectrum_of(sound: &[f64], settings: &SpectrumSettings) -> Spectrum {
    measure(&synth::to_samples(sound), RATE_HZ, settings).expect("measured")
}

fn has(spectrum: &Spectrum, code: &str) -> bool {
    spectrum.findings.iter().any(|finding| finding.code == code)
}

/// Two equal tones 1.5 resolutions apart with random phases, 40 dB over the noise of the whole
/// band.
#[test]
pub(crate) fn equal_tones_one_and_a_half_resolutions_apart_are_both_found() {
    for (duration_s, most_hz) in [(0.6, 1.1e-4), (1.0, 5.2e-5), (3.0, 1e-5)] {
        let found = in_parallel(trials(200, 400), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let low_hz = random.random_range(100.0..5000.0);
            let spacing_hz = 7.5;
            let amplitude = 0.2;
            let mut sound = synth::render(
                &[
                    steady(low_hz, amplitude, random.random_range(-PI..PI)),
                    steady(low_hz + spacing_hz, amplitude, random.random_range(-PI..PI)),
                ],
                Vibrato::default(),
                RATE_HZ,
                duration_s,
            );
            add_noise(&mut sound, seed, amplitude / 2f64.sqrt() * 0.01);
            let spectrum = spectrum_of(&sound, &SpectrumSettings::default());
            let [low, high] = &spectrum.peaks[..] else { return None };
            let error = |peak: &Peak, hz: f64| (peak.frequency_hz - hz, peak.frequency_hz_u);
            Some([error(low, low_hz), error(high, low_hz + spacing_hz)])
        });
        let pairs: Vec<_> = found.iter().flatten().flatten().copied().collect();
        let near = pairs.iter().filter(|(error, _)| error.abs() < 0.15).count();
        println!("{duration_s} s: both found in {} of {} pairs", pairs.len() / 2, found.len());
        assert!(near * 100 >= 2 * found.len() * 95, "{duration_s} s: {near}");
        let name = format!("frequency of each of two equal tones, {duration_s} s");
        Accuracy::all(name, "Hz", pairs).hold(most_hz);
    }
}

#[test]
fn what_is_too_close_to_be_told_apart_is_told() {
    let looks = in_parallel(100, |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let hz = random.random_range(100.0..5000.0);
        let mut sound = synth::render(
            &[
                steady(hz, 0.2, random.random_range(-PI..PI)),
                steady(hz + random.random_range(2.5..4.0), 0.2, random.random_range(-PI..PI)),
            ],
            Vibrato::default(),
            RATE_HZ,
            3.0,
        );
        add_noise(&mut sound, seed, 1e-4);
        let spectrum = spectrum_of(&sound, &SpectrumSettings::default());
        let is_told = has(&spectrum, "merged_peak") || spectrum.peaks.len() == 2;
        let fading = Partial { t60_s: random.random_range(1.0..8.0), ..steady(hz, 0.2, 0.0) };
        let mut sound = synth::render(&[fading], Vibrato::default(), RATE_HZ, 3.0);
        add_noise(&mut sound, seed, 1e-4);
        (is_told, has(&spectrum_of(&sound, &SpectrumSettings::default()), "merged_peak"))
    });
    let told = looks.iter().filter(|look| look.0).count();
    let false_alarms = looks.iter().filter(|look| look.1).count();
    println!("merged peaks: {told} of 100 told; of single fading tones {false_alarms}");
    assert!(told >= 90 && false_alarms <= 2);
}

/// Tones with missing, weak and odd-only fundamentals, stiff or not, some with tones that do not
/// belong.
#[test]
pub(crate) fn harmonic_series_are_found_with_their_fundamental() {
    let series = in_parallel(trials(300, 600), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let f0 = 40.0 * 25f64.powf(random.random::<f64>());
        let b: f64 = if seed % 3 == 0 { random.random_range(1e-5..5e-4) } else { 0.0 };
        let first = random.random_range(1..=3u32);
        let step = if first == 1 && seed % 4 == 0 { 2 } else { 1 };
        let count = random.random_range(4..=10u32);
        let mut partials: Vec<Partial> = (0..count)
            .map(|m| f64::from(first + m * step))
            .map(|n| {
                let stretch = (1.0 + b * n * n).sqrt();
                let amplitude = 0.05 * 10f64.powf(random.random_range(-1.0..0.0));
                steady(n * f0 * stretch, amplitude, random.random_range(-PI..PI))
            })
            .filter(|partial| partial.frequency_hz < 20_000.0)
            .collect();
        if seed % 5 == 0 {
            partials.push(steady(f0 * 2.637, 0.02, 0.0));
        }
        let mut sound = synth::render(&partials, Vibrato::default(), RATE_HZ, 1.5);
        add_noise(&mut sound, seed, 3e-5);
        let spectrum = spectrum_of(&sound, &SpectrumSettings::default());
        let truth = f0 * (1.0 + b).sqrt();
        let family = spectrum.families.first()?;
        let error = cents_between(truth, family.fundamental_hz);
        let is_right = error.abs() < 3.0;
        assert!(!is_right || family.fundamental_present == (first == 1), "{seed}");
        let u = 1731.234 * family.fundamental_hz_u / truth;
        is_right.then_some((error, u))
    });
    let right: Vec<_> = series.iter().flatten().copied().collect();
    println!("series: {} of {} right", right.len(), series.len());
    assert!(right.len() * 100 >= series.len() * 98);
    Accuracy::all("fundamental of a series of tones", "cents", right).hold(tolerance(2.4e-5, 0.12));
}

#[test]
fn tones_that_belong_to_no_series_are_not_made_one() {
    let chance = in_parallel(200, |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let partials: Vec<Partial> = (0..random.random_range(3..=12))
            .map(|_| steady(100.0 * 50f64.powf(random.random::<f64>()), 0.05, 0.0))
            .collect();
        let mut sound = synth::render(&partials, Vibrato::default(), RATE_HZ, 1.0);
        add_noise(&mut sound, seed, 3e-5);
        !spectrum_of(&sound, &SpectrumSettings::default()).families.is_empty()
    });
    let chance = chance.into_iter().filter(|found| *found).count();
    println!("series by chance: {chance} of 200 random chords");
    assert!(chance <= 8, "{chance}");
}

#[test]
fn a_plucked_string_is_one_family_with_its_stiffness() {
    let string = PluckedString { inharmonicity: 2e-4, ..PluckedString::default() };
    let mut sound = string.render(RATE_HZ, 3.0);
    add_noise(&mut sound, 1, 1e-6);
    let settings = SpectrumSettings {
        frames: FrameSettings { resolution_hz: Some(5.0), ..FrameSettings::default() },
        peaks: 30,
        ..SpectrumSettings::default()
    };
    let spectrum = spectrum_of(&sound, &settings);
    let family = &spectrum.families[0];
    assert!(family.members.len() >= 15, "{family:?}");
    assert!((family.inharmonicity / 2e-4 - 1.0).abs() < 0.05, "{family:?}");
    assert!(cents_between(196.0, family.spacing_hz).abs() < 0.2, "{family:?}");
    assert!(spectrum.peaks.iter().filter(|peak| peak.harmonic.is_some()).count() >= 15);
}

#[test]
pub(crate) fn differences_are_beats_with_their_uncertainty() {
    let errors = in_parallel(trials(200, 400), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(0xd1_0000 + seed);
        let difference_hz = random.random_range(7.0..20.0);
        let tones = [(440.0, 0.2), (440.0 + difference_hz, 0.1), (1000.0, 0.01)];
        let tones =
            tones.map(|(hz, amplitude)| steady(hz, amplitude, random.random_range(-PI..PI)));
        let mut sound = synth::render(&tones, Vibrato::default(), RATE_HZ, 3.0);
        add_noise(&mut sound, seed, 1e-3);
        let spectrum = spectrum_of(&sound, &SpectrumSettings::default());
        let pairs = spectrum.differences(2);
        assert_eq!(pairs.len(), 1);
        let beat = pairs[0];
        assert!((beat.period_s * beat.difference_hz - 1.0).abs() < 1e-12);
        assert!((beat.level_difference_db + 6.02).abs() < 0.05, "{beat:?}");
        assert_eq!(spectrum.differences(3).len(), 3);
        (beat.difference_hz - difference_hz, beat.difference_hz_u)
    });
    Accuracy::all("difference of two tones", "Hz", errors).hold(1.5e-5);
}

#[test]
fn thresholds_and_prominence_choose_peaks() {
    let mut sound = synth::render(
        &[steady(440.0, 0.2, 0.0), steady(2000.0, 2e-3, 0.0)],
        Vibrato::default(),
        RATE_HZ,
        2.0,
    );
    add_noise(&mut sound, 1, 1e-4);
    let all = spectrum_of(&sound, &SpectrumSettings::default());
    assert_eq!(all.peaks.len(), 2);
    // Over the noise between them, which reads −104 dB in a bin.
    assert!((45.0..80.0).contains(&all.peaks[1].prominence_db), "{:?}", all.peaks[1]);
    assert!(all.peaks[0].width_hz.is_some_and(|width| (width / 5.0 - 1.0).abs() < 0.02));
    let settings = SpectrumSettings { threshold_db: Some(-50.0), ..SpectrumSettings::default() };
    assert_eq!(spectrum_of(&sound, &settings).peaks.len(), 1);
}
