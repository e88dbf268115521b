//! What can go wrong in an analysis.

/// Why an analysis could not be made.
///
/// Every message names the value that was given, what would be accepted and, where it helps,
/// what to do next. The command line adds the name of the file.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A quantity typed by the user could not be read.
    #[error("'{given}' is not {wanted}; write it like {forms}")]
    Unreadable {
        /// What was typed.
        given: String,
        /// The kind of quantity, with its article: "a frequency".
        wanted: &'static str,
        /// Accepted forms, ready to print.
        forms: &'static str,
    },
    /// A setting lies outside what makes sense.
    #[error("{setting} is {}, but must be {allowed}", brief(given))]
    Setting {
        /// The setting in the user's words.
        setting: &'static str,
        /// The value given, with its unit.
        given: String,
        /// The legal range, in words.
        allowed: String,
    },
    /// A span lies outside the recording or is empty.
    #[error(
        "the span {from_s:.6} s to {to_s:.6} s is empty or outside the recording, which lasts \
         {duration_s:.6} s"
    )]
    Span {
        /// Start asked for, in seconds.
        from_s: f64,
        /// End asked for, in seconds.
        to_s: f64,
        /// Length of the recording in seconds.
        duration_s: f64,
    },
    /// There are too few samples to say anything.
    #[error(
        "the span holds {samples} samples, but at least {needed} are needed; take a longer span"
    )]
    TooShort {
        /// Samples at hand.
        samples: u64,
        /// Samples needed.
        needed: u64,
    },
    /// Samples that were there could not be read again.
    #[error("the samples could not be read again: {reason}")]
    Lost {
        /// What the system says.
        reason: String,
    },
    /// Two rooms have no band in common in which both are heard.
    #[error(
        "no band has a level in both rooms: one of them is silent, or its span is too short; look at \
         the levels of each take"
    )]
    NoCommonBand,
    /// Nothing in the sound is a tone.
    #[error("nothing in this span stands out as a tone; choose one in which the sound is heard")]
    NoTone,
    /// No tone shifts.
    #[error(
        "no tone in this span shifts as that of a passing source does: it stays where it is, or is \
         not clear enough; choose a span with the whole pass"
    )]
    NoShift,
    /// Nothing in the sound has a fundamental.
    #[error(
        "nothing in this span has a fundamental; assume none, or set the range in which it is \
         looked for"
    )]
    NoFundamental,
}

/// A value as it is printed: hundreds of digits say no more than a power of ten.
fn brief(given: &str) -> String {
    /// More than any 64-bit number needs (17 digits), with sign, point and exponent.
    const MOST_DIGITS: usize = 24;
    let (number, unit) = given.split_once(' ').unwrap_or((given, ""));
    match number.parse::<f64>() {
        Ok(value) if number.len() > MOST_DIGITS => format!("{value:e} {unit}").trim_end().into(),
        _ => given.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_value_is_printed_with_hundreds_of_digits() {
        let said = |hz: f64| {
            let allowed = "positive".into();
            Error::Setting { setting: "the hop", given: format!("{hz} Hz"), allowed }.to_string()
        };
        assert_eq!(said(1e-300), "the hop is 1e-300 Hz, but must be positive");
        assert_eq!(said(-2.5e99), "the hop is -2.5e99 Hz, but must be positive");
        assert_eq!(said(0.001), "the hop is 0.001 Hz, but must be positive");
    }
}
