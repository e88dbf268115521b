//! Round values for axes.

use tonemap_core::units::Note;

/// A marked value of an axis.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Tick {
    pub(crate) value: f64,
    /// Its label; empty for a minor tick.
    pub(crate) label: String,
}

impl Tick {
    fn is_labelled(&self) -> bool {
        !self.label.is_empty()
    }
}

/// A number with thin spaces between thousands and a true minus sign.
pub(crate) fn number(value: f64, decimals: usize) -> String {
    let text = format!("{:.decimals$}", value.abs());
    let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
    let mut grouped = String::new();
    for (n, digit) in whole.chars().enumerate() {
        let left = whole.len() - n;
        if n > 0 && left.is_multiple_of(3) && whole.len() > 4 {
            grouped.push('\u{202f}');
        }
        grouped.push(digit);
    }
    if !fraction.is_empty() {
        grouped.push('.');
        grouped.push_str(fraction);
    }
    let is_zero = grouped.chars().all(|c| c == '0' || c == '.');
    if value < 0.0 && !is_zero { format!("−{grouped}") } else { grouped }
}

/// Round values (1, 2 or 5 times a power of ten) from `low` to `high`, about `count` of them.
pub(crate) fn linear(low: f64, high: f64, count: f64) -> Vec<Tick> {
    /// Fewer do not show how an axis is divided.
    const FEWEST: usize = 3;
    if !(low < high && (high - low).is_finite()) {
        return Vec::new();
    }
    let counts = [1.0, 1.5, 2.5, 4.0, 8.0].map(|factor| factor * count.max(1.0));
    let tried = counts.into_iter().map(|count| round_values(low, high, count));
    let mut last = Vec::new();
    for ticks in tried {
        if ticks.len() >= FEWEST {
            return ticks;
        }
        last = ticks;
    }
    last
}

fn round_values(low: f64, high: f64, count: f64) -> Vec<Tick> {
    let rough = (high - low) / count;
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].map(|m| m * power).into_iter().find(|s| *s >= rough * 0.999);
    let step = step.unwrap_or(10.0 * power);
    let decimals = (-(step.log10() + 1e-9).floor()).max(0.0) as usize;
    let first = (low / step - 1e-9).ceil() as i64;
    let last = (high / step + 1e-9).floor() as i64;
    (first..=last)
        .map(|n| {
            let value = n as f64 * step;
            Tick { value, label: number(value, decimals) }
        })
        .collect()
}

/// 1, 2 and 5 times each power of ten are labelled, the other digits marked; over less than a
/// decade, linear ticks.
pub(crate) fn logarithmic(low: f64, high: f64) -> Vec<Tick> {
    if high / low < 8.0 {
        return linear(low, high, 8.0);
    }
    let decades = low.log10().floor() as i32..=high.log10().floor() as i32;
    let mut ticks: Vec<Tick> = decades
        .flat_map(|decade| {
            (1..10).map(move |digit| {
                let value = f64::from(digit) * 10f64.powi(decade);
                let decimals = (-decade).max(0) as usize;
                let labelled = matches!(digit, 1 | 2 | 5);
                Tick {
                    value,
                    label: if labelled { number(value, decimals) } else { String::new() },
                }
            })
        })
        .filter(|tick| (low * 0.999_999..=high * 1.000_001).contains(&tick.value))
        .collect();
    // Little more than a decade may hold few of the labelled digits.
    if ticks.iter().filter(|tick| tick.is_labelled()).count() < 3 {
        for tick in &mut ticks {
            let decimals = (-(tick.value.log10() + 1e-9).floor()).max(0.0) as usize;
            tick.label = number(tick.value, decimals);
        }
    }
    ticks
}

/// The notes from `low_hz` to `high_hz` as ticks, labelled so that labels stay `apart` from each
/// other; `place` gives the position of a frequency.
///
/// All notes are labelled where there is room, else C, E, G and A, else C and G, else C; notes
/// that have no room even as marks are left out.
pub(crate) fn notes(
    low_hz: f64,
    high_hz: f64,
    reference_hz: f64,
    apart: f64,
    place: impl Fn(f64) -> f64,
) -> Vec<Tick> {
    const LEAST_BETWEEN_MARKS: f64 = 4.0;
    let steps_labelled: [&[i32]; 4] =
        [&[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11], &[0, 4, 7, 9], &[0, 7], &[0]];
    let frequency = |note: &Note| note.frequency_hz(reference_hz);
    let all: Vec<Note> =
        (0..=140).map(Note).filter(|note| (low_hz..=high_hz).contains(&frequency(note))).collect();
    // Labels must have room where they stand densest, but on a linear scale that is where the low
    // octaves crowd together: there single labels give way, not all of them.
    let room_for = |steps: &[i32]| {
        let places: Vec<f64> = all
            .iter()
            .filter(|note| steps.contains(&note.0.rem_euclid(12)))
            .map(|note| place(frequency(note)))
            .collect();
        let fitting = places.windows(2).filter(|pair| pair[1] - pair[0] >= apart).count();
        2 * fitting >= places.len()
    };
    let labelled =
        steps_labelled.into_iter().find(|steps| room_for(steps)).unwrap_or(steps_labelled[3]);
    let mut ticks: Vec<Tick> = Vec::new();
    // From the top down, where a linear scale has room.
    let (mut last_label, mut last_mark) = (f64::INFINITY, f64::INFINITY);
    for note in all.iter().rev() {
        let value = frequency(note);
        let position = place(value);
        let wants_label = labelled.contains(&note.0.rem_euclid(12));
        if wants_label && last_label - position >= apart {
            last_label = position;
            last_mark = position;
            ticks.push(Tick { value, label: note.to_string() });
        } else if last_mark - position >= LEAST_BETWEEN_MARKS {
            last_mark = position;
            ticks.push(Tick { value, label: String::new() });
        }
    }
    if !ticks.iter().any(Tick::is_labelled) {
        ticks.clear();
    }
    ticks
}

#[cfg(test)]
mod tests {
    use super::*;

    fn labels(ticks: &[Tick]) -> Vec<&str> {
        ticks.iter().filter(|tick| tick.is_labelled()).map(|tick| tick.label.as_str()).collect()
    }

    #[test]
    fn linear_ticks_are_round() {
        assert_eq!(labels(&linear(-97.0, 3.0, 6.0)), ["−80", "−60", "−40", "−20", "0"]);
        assert_eq!(labels(&linear(0.0, 1.0, 5.0)), ["0.0", "0.2", "0.4", "0.6", "0.8", "1.0"]);
        assert_eq!(
            labels(&linear(439.9, 440.1, 4.0)),
            ["439.90", "439.95", "440.00", "440.05", "440.10"]
        );
        assert_eq!(labels(&linear(0.0, 24_000.0, 3.0)), ["0", "10\u{202f}000", "20\u{202f}000"]);
    }

    #[test]
    fn logarithmic_ticks_are_one_two_five() {
        assert_eq!(
            labels(&logarithmic(20.0, 2000.0)),
            ["20", "50", "100", "200", "500", "1000", "2000"]
        );
        assert_eq!(labels(&logarithmic(400.0, 500.0)).first(), Some(&"400"));
        assert_eq!(labels(&logarithmic(5.5, 48.0)), ["6", "7", "8", "9", "10", "20", "30", "40"]);
    }

    #[test]
    fn every_axis_has_three_ticks() {
        for n in 1..400 {
            let low = -50.0 + 0.37 * f64::from(n);
            let high = low + 0.003 * 1.03f64.powi(n);
            for count in [0.5, 1.0, 2.0, 6.0] {
                let ticks = linear(low, high, count);
                assert!(ticks.len() >= 3, "{low} to {high}, {count}: {ticks:?}");
                assert!(ticks.iter().all(|tick| (low - 1e-9..=high + 1e-9).contains(&tick.value)));
            }
            let (low, high) =
                (0.11 * f64::from(n), 0.11 * f64::from(n) * (1.2 + 0.1 * f64::from(n)));
            let labelled = labels(&logarithmic(low, high)).len();
            assert!(labelled >= 3, "{low} to {high}: {labelled}");
        }
        assert!(linear(1.0, 1.0, 4.0).is_empty() && linear(f64::NAN, 1.0, 4.0).is_empty());
    }

    #[test]
    fn notes_get_the_labels_there_is_room_for() {
        let octave = |width: f64| move |hz: f64| width * hz.log2();
        let ticks = notes(60.0, 1000.0, 440.0, 30.0, octave(50.0));
        assert_eq!(labels(&ticks), ["C5", "C4", "C3", "C2"]);
        assert!(ticks.len() > 40, "the others are marked");
        let ticks = notes(60.0, 1000.0, 440.0, 30.0, octave(600.0));
        assert_eq!(labels(&ticks).len(), ticks.len());
        assert!(notes(3000.0, 3010.0, 440.0, 30.0, octave(50.0)).is_empty());
    }
}
