//! What is said of a spectrum beside its table of tones.

use tonemap_core::frame::FrameFigures;
use tonemap_core::quantity::pair;
use tonemap_core::spectrum::{Averaging, Cumulative, Difference, Family, Peak, Spectrum};

use crate::table::Table;
use crate::text;

/// What a family says about the pitch.
pub(super) fn family_line(family: &Family) -> String {
    let [fundamental, u] = text::measured(family.fundamental_hz, family.fundamental_hz_u, 4);
    let stiff = family.inharmonicity_u.map_or(String::new(), |u| {
        let [b, u] = text::measured(1e6 * family.inharmonicity, 1e6 * u, 1);
        format!(", stretched by an inharmonicity B of ({b} ± {u})·10⁻⁶")
    });
    let missing = match (family.fundamental_present, family.strongest_number) {
        (false, number) => {
            format!("; the fundamental itself has no tone, the strongest is harmonic {number}")
        }
        (true, 1) => String::new(),
        (true, number) => format!("; the strongest is harmonic {number}"),
    };
    text::sentence(&format!(
        "{} tones are harmonics of {fundamental} ± {u} Hz ({} {} cents){stiff}{missing}",
        family.members.len(),
        family.note,
        text::signed(text::number(family.cents, 1)),
    ))
}

/// How two tones beat that the frames do not resolve; said of the lower.
pub(super) fn beat_line(peak: &Peak) -> Option<String> {
    let beat = pair(peak.beat_hz, peak.beat_hz_u)?;
    let other_hz = peak.beats_with_hz.filter(|other_hz| *other_hz > peak.frequency_hz)?;
    let [hz, u] = text::measured(beat.value, beat.u, 6);
    Some(text::sentence(&format!(
        "{} Hz and {} Hz beat at {hz} ± {u} Hz, every {} s: closer than the frames resolve, \
         resolved by the fit over the span.",
        text::number(peak.frequency_hz, 2),
        text::number(other_hz, 2),
        text::number(1.0 / beat.value, 3),
    )))
}

/// Where the power lies.
pub(super) fn power_line(marks: Cumulative) -> String {
    format!(
        "  a tenth of the power lies below {} Hz, half below {} Hz, nine tenths below {} Hz\n",
        text::number(marks.power_10_hz, 0),
        text::number(marks.power_50_hz, 0),
        text::number(marks.power_90_hz, 0)
    )
}

pub(super) fn difference_table<'t>() -> Table<'t, &'t Difference> {
    Table::new()
        .printed("tones Hz", |pair: &&Difference| {
            format!("{} and {}", text::number(pair.low_hz, 2), text::number(pair.high_hz, 2))
        })
        .measured("", "difference Hz", 6, |found| {
            pair(Some(found.difference_hz), Some(found.difference_hz_u))
        })
        .measured("", "period s", 6, |found| pair(Some(found.period_s), Some(found.period_s_u)))
        .rank(2)
        .number("", "interval cents", 1, |found| Some(found.interval_cents))
        .rank(1)
        .number("", "level difference dB", 1, |found| Some(-found.level_difference_db))
        .rank(3)
}

/// Which window, and what it resolves.
pub(super) fn window_line(spectrum: &Spectrum) -> String {
    format!(
        "{} window of {} ms, resolution {} Hz",
        spectrum.window,
        text::number(1000.0 * spectrum.window_s, 1),
        text::number(spectrum.resolution_hz, 2),
    )
}

/// How many frames, and how fine the curve is.
pub(super) fn average_line(spectrum: &Spectrum, frames: &FrameFigures) -> String {
    let averaged = match spectrum.averaged_frames {
        1 => "1 frame".into(),
        count => {
            let kind = match spectrum.averaging {
                Averaging::Mean => "frames averaged".into(),
                Averaging::Median => "frames, their median".into(),
                Averaging::Maximum => "frames, their maximum".into(),
                Averaging::Exponential { time_s } => {
                    format!("frames averaged exponentially over {time_s} s")
                }
            };
            let overlap = text::number(100.0 * frames.overlap, 0);
            format!("{} {kind}, {overlap} % overlap", text::grouped(count))
        }
    };
    format!("{averaged}, bins of {} Hz", text::number(spectrum.bin_spacing_hz, 3))
}

/// How far the average of noise can be trusted.
pub(super) fn confidence_line(spectrum: &Spectrum) -> String {
    spectrum.noise_interval_db().map_or(String::new(), |(low, high)| {
        format!(
            "  95 % interval of a bin of noise: {} to +{} dB; noise bandwidth {} Hz\n",
            text::number(low, 1),
            text::number(high, 1),
            text::number(spectrum.noise_bandwidth_hz, 2)
        )
    })
}
