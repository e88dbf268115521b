//! What a unison suffers from, in words, with the evidence.

use serde::Serialize;

use super::components::{Own, State};
use super::fit::two_strongest;
use super::{CENTS, Unison, strings};

/// What was found, what it means, and what shows it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Diagnosis {
    /// Stable name for programs: `in_tune`, `mistuned`, `stiffness_differs`, `false_string`,
    /// `same_beat`, `no_string`, `wavers`, `hidden`, `hum`.
    pub code: &'static str,
    /// In a sentence.
    pub text: String,
    /// What shows it.
    pub evidence: String,
}

/// Scatter about a stiff string beyond which partials belong to no one string.
pub(super) const NO_STRING_CENTS: f64 = 15.0;

/// Partials that belong to no one string.
pub(super) fn no_string(scatter_cents: f64) -> Diagnosis {
    say(
        "no_string",
        "This is no unison: the partials belong to no one note of strings. Two different notes \
         sound, or a bar, a bell or a drum."
            .into(),
        format!("they scatter by {scatter_cents:.0} cents about a stiff string"),
    )
}

fn say(code: &'static str, text: String, evidence: String) -> Diagnosis {
    Diagnosis { code, text, evidence }
}

/// A rate at which all partials fluctuate alike: tremolo, or a microphone that moves. Beats of two
/// strings get faster with the number of the partial.
pub(super) fn common_rate_hz(heard: &[&Own]) -> Option<f64> {
    const FEWEST: usize = 3;
    const ALIKE: f64 = 0.06;
    let rate = |own: &&Own| {
        let fitted = &own.best().bands[0];
        let (a, b) = (fitted.poles.len() > 1).then(|| two_strongest(&fitted.poles))?;
        let (hz, u) = strings::spacing_hz(own.best(), 0, a, b);
        (hz.abs() > 6.0 * u).then_some((own.band.number, hz.abs()))
    };
    let mut rates: Vec<(usize, f64)> = heard.iter().filter_map(rate).collect();
    let numbers = (rates.first()?.0, rates.last()?.0);
    rates.sort_by(|a, b| a.1.total_cmp(&b.1));
    let middle = rates[rates.len() / 2].1;
    let alike = rates.iter().filter(|(_, hz)| (hz / middle - 1.0).abs() < ALIKE).count();
    let is_common =
        alike >= FEWEST && 4 * alike >= 3 * rates.len() && 3 * rates.len() >= 2 * heard.len();
    (is_common && numbers.1 >= 2 * numbers.0).then_some(middle)
}

pub(super) fn diagnosis(unison: &Unison, owns: &[Own], common_hz: Option<f64>) -> Vec<Diagnosis> {
    let mut all = Vec::new();
    if let Some(hz) = common_hz {
        all.push(say(
            "same_beat",
            format!(
                "All partials fluctuate at the same {hz:.2} Hz: tremolo, or a microphone or \
                 instrument that moves. It is no beat between strings."
            ),
            "beats between strings get faster with the number of the partial".into(),
        ));
    } else {
        all.extend(tuned(unison));
    }
    let list = |of: &dyn Fn(&Own) -> bool| -> Vec<String> {
        owns.iter().filter(|own| of(own)).map(|own| own.band.number.to_string()).collect()
    };
    let wavers = list(&|own| own.state == State::Wavers);
    if !wavers.is_empty() {
        let (subject, verb) =
            if wavers.len() == 1 { ("Partial", "wavers") } else { ("Partials", "waver") };
        all.push(say(
            "wavers",
            format!(
                "{subject} {} {verb} and cannot be judged: a string that is left alone dies away \
                 evenly or beats; one that is bowed, bent or damped, or a wind, does neither.",
                wavers.join(", ")
            ),
            "no sum of three decaying tones accounts for it".into(),
        ));
    }
    let hidden = list(&|own| own.state == State::Hidden);
    if !hidden.is_empty() {
        let (subject, verb) =
            if hidden.len() == 1 { ("Partial", "is") } else { ("Partials", "are") };
        all.push(say(
            "hidden",
            format!("{subject} {} {verb} hidden by noise and not judged.", hidden.join(", ")),
            "less than 10 dB over the noise beside it".into(),
        ));
    }
    for own in owns {
        for hz in &own.hum_hz {
            all.push(say(
                "hum",
                format!(
                    "A steady tone of {hz:.2} Hz beside partial {} was removed: hum or a \
                     machine, no string.",
                    own.band.number
                ),
                "it stays while the partial dies away".into(),
            ));
        }
    }
    all
}

fn tuned(unison: &Unison) -> Vec<Diagnosis> {
    let beating: Vec<String> = (unison.partials.iter())
        .filter(|partial| partial.beat_hz.is_some())
        .map(|partial| partial.number.to_string())
        .collect();
    let Some(mistuning) = unison.mistuning_cents else {
        if !beating.is_empty() {
            let (subject, verb) =
                if beating.len() == 1 { ("Partial", "beats") } else { ("Partials", "beat") };
            return vec![say(
                "false_string",
                format!(
                    "{subject} {} {verb}, but not as strings do that are apart by one distance: a \
                     false string, a string that swings in two directions, or strings that drive \
                     each other over the bridge.",
                    beating.join(", ")
                ),
                "the beats do not follow from one mistuning".into(),
            )];
        }
        return unison
            .nearer_than_cents
            .map(|cents| {
                say(
                    "in_tune",
                    format!(
                        "No beat is heard: a single string, or strings within {} cents.",
                        decimals(cents)
                    ),
                    "two strings of equal level farther apart would have been seen".into(),
                )
            })
            .into_iter()
            .collect();
    };
    let (value, u) = mistuning.text(3);
    let fastest = unison.partials.iter().filter_map(|partial| partial.beat_hz).fold(0.0, f64::max);
    let evidence = format!("{} partials beat, the fastest at {fastest:.2} Hz", beating.len());
    let mut all = Vec::new();
    if unison.strings.len() > 2 {
        all.push(say(
            "mistuned",
            format!("Three strings are heard, up to {value} ± {u} cents apart."),
            evidence,
        ));
    } else if mistuning.value.abs() > 3.0 * mistuning.u {
        let side = if mistuning.value > 0.0 { "higher" } else { "lower" };
        all.push(say(
            "mistuned",
            format!(
                "The weaker string is {} ± {u} cents {side} than the stronger.",
                value.trim_start_matches('-')
            ),
            evidence,
        ));
    } else {
        all.push(say(
            "in_tune",
            format!("The strings are in tune: {value} ± {u} cents apart."),
            evidence,
        ));
    }
    all.extend(stiffer(unison));
    all
}

/// Strings that differ in stiffness: no tuning brings all partials together.
fn stiffer(unison: &Unison) -> Option<Diagnosis> {
    let (difference, b) = (unison.inharmonicity_difference?, unison.inharmonicity?);
    if difference.value.abs() < 4.0 * difference.u {
        return None;
    }
    let last = unison.partials.iter().rfind(|partial| partial.spacing_cents.is_some())?;
    let n = last.number as f64;
    let left = 0.5 * CENTS * difference.value.abs() * n * n;
    if left < 0.1 {
        return None;
    }
    Some(say(
        "stiffness_differs",
        format!(
            "The strings differ in inharmonicity by {:.1} %: tuned at the first partial they are \
             {} cents apart at partial {}, which no retuning removes.",
            100.0 * difference.value.abs() / b.value,
            decimals(left),
            last.number
        ),
        "the spacing in cents grows with the square of the number of the partial".into(),
    ))
}

fn decimals(cents: f64) -> String {
    if cents < 0.1 { format!("{cents:.3}") } else { format!("{cents:.2}") }
}
