//! Laws that every spectrum obeys, for any input.

use proptest::prelude::*;
use tonemap_core::frame::FrameSettings;
use tonemap_core::spectrum::{Spectrum, SpectrumSettings, measure};
use tonemap_core::synth::{mix, sine, to_samples, white_noise};
use tonemap_core::units::Extent;
use tonemap_core::window::WindowKind;

const RATE_HZ: f64 = 8000.0;

fn any_window() -> impl Strategy<Value = WindowKind> {
    prop_oneof![
        Just(WindowKind::Rectangular),
        Just(WindowKind::Hann),
        Just(WindowKind::Hamming),
        Just(WindowKind::BlackmanHarris),
        Just(WindowKind::FlatTop),
        (0.0..30.0).prop_map(|beta| WindowKind::Kaiser { beta }),
    ]
}

fn noisy_tone(seed: u64, frequency_hz: f64, gain: f64, dc: f64) -> Vec<f32> {
    let tone = sine(frequency_hz, 0.3, 1.0, RATE_HZ, 8000);
    let mut sound: Vec<f64> = tone.into_iter().map(f64::from).collect();
    mix(&mut sound, &white_noise(seed, 0.001, 8000));
    to_samples(&sound.iter().map(|x| gain * x + dc).collect::<Vec<f64>>())
}

fn measured(samples: &[f32]) -> Spectrum {
    measure(samples, RATE_HZ, &SpectrumSettings::default()).expect("valid settings")
}

fn strongest(spectrum: &Spectrum) -> &tonemap_core::spectrum::Peak {
    spectrum.peaks.iter().max_by(|a, b| a.level_db.total_cmp(&b.level_db)).expect("a tone")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn gain_moves_levels_and_nothing_else(seed in 0u64..1000, frequency in 60.0..3800.0, gain_db in -40.0..9.0f64) {
        let gain = 10f64.powf(gain_db / 20.0);
        let (before, after) = (
            measured(&noisy_tone(seed, frequency, 1.0, 0.0)),
            measured(&noisy_tone(seed, frequency, gain, 0.0)),
        );
        let (before, after) = (strongest(&before), strongest(&after));
        prop_assert!((after.level_db - before.level_db - gain_db).abs() < 1e-5);
        prop_assert!((after.frequency_hz - before.frequency_hz).abs() < 0.01 * before.frequency_hz_u);
        prop_assert!((after.level_db_u / before.level_db_u - 1.0).abs() < 0.01);
    }

    #[test]
    fn a_constant_offset_does_not_move_a_tone(seed in 0u64..1000, frequency in 60.0..3800.0, dc in -0.5..0.5f64) {
        let (before, after) = (
            measured(&noisy_tone(seed, frequency, 1.0, 0.0)),
            measured(&noisy_tone(seed, frequency, 1.0, dc)),
        );
        let (before, after) = (strongest(&before), strongest(&after));
        prop_assert!((after.frequency_hz - before.frequency_hz).abs() < 0.02 * before.frequency_hz_u);
        prop_assert!((after.level_db - before.level_db).abs() < 0.02 * before.level_db_u);
    }

    #[test]
    fn power_adds_up_to_that_of_the_samples(seed in 0u64..1000, window in any_window()) {
        // One frame, no padding: Σ P·Σw²-scaling is Parseval's theorem for the windowed samples.
        let samples = to_samples(&white_noise(seed, 0.1, 1000));
        let frames = FrameSettings { window, segment: Some(Extent::Samples(1000)), ..FrameSettings::default() };
        let settings = SpectrumSettings { frames, ..SpectrumSettings::default() };
        let spectrum = measure(&samples, RATE_HZ, &settings).expect("valid settings");
        let w = window.samples(1000);
        let sum: f64 = w.iter().sum();
        let direct: f64 = samples.iter().zip(&w).map(|(x, w)| (f64::from(*x) * w).powi(2)).sum();
        let last = spectrum.power.len() - 1;
        // A² is twice the mean square of a tone, but at the two ends the mean square itself.
        let in_bins: f64 = spectrum.power.iter().enumerate()
            .map(|(k, power)| if k == 0 || k == last { *power } else { power / 2.0 })
            .sum::<f64>() * sum * sum / 1000.0;
        prop_assert!((in_bins / direct - 1.0).abs() < 1e-12, "{in_bins} {direct}");
    }

    /// Anything that can be asked for is answered with numbers or refused, never with a panic.
    #[test]
    fn odd_requests_give_numbers_or_a_refusal(
        seed in 0u64..1000,
        samples in 0usize..3000,
        window in any_window(),
        segment in 0usize..4000,
        hop in 0usize..5000,
        zero_pad in proptest::option::of(0.0..9.0),
        scale in prop_oneof![Just(0.0), Just(1e-30), Just(1.0), Just(1e30)],
        peaks in 0usize..50,
    ) {
        let sound: Vec<f64> = white_noise(seed, 1.0, samples).iter().map(|x| x * scale).collect();
        let frames = FrameSettings {
            window,
            segment: Some(Extent::Samples(segment)),
            hop: Some(Extent::Samples(hop)),
            zero_pad,
            ..FrameSettings::default()
        };
        let settings = SpectrumSettings { frames, peaks, ..SpectrumSettings::default() };
        if let Ok(spectrum) = measure(&to_samples(&sound), RATE_HZ, &settings) {
            prop_assert!(spectrum.peaks.len() <= peaks);
            for peak in &spectrum.peaks {
                prop_assert!(peak.frequency_hz.is_finite() && peak.frequency_hz > 0.0 && peak.frequency_hz < 4000.0, "{peak:?}");
                prop_assert!(peak.frequency_hz_u >= 0.0 && peak.level_db.is_finite() && peak.level_db_u >= 0.0, "{peak:?}");
            }
        }
    }
}
