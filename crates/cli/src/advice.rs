//! What to do about a finding or an error, in the words of the command line.

use tonemap_core::{Advice, Error, Finding};

/// The same findings, each with its advice in words.
pub(crate) fn worded(findings: Vec<Finding>) -> Vec<Finding> {
    findings.into_iter().map(with_words).collect()
}

fn with_words(finding: Finding) -> Finding {
    let Some(advice) = finding.advice else { return finding };
    let words = match advice {
        Advice::Notes => "Choose another with --note, or measure each with --each.".into(),
        Advice::LikeSpans => "Compare spans of the same length with --from and --to.".into(),
        Advice::NoFundamental => "Follow the partials without a fundamental: --free.".into(),
        Advice::ShorterTracks => "Lower --shortest, or look at the spectrum.".into(),
        Advice::Evidence => {
            "See what speaks for either with --evidence TIME, or narrow the range with --range."
                .into()
        }
        Advice::Below(hz) => format!("Restrict the comparison with --range ..{hz:.0}Hz."),
        Advice::Resolve(hz) => format!("Look closer with --resolve {hz}Hz."),
    };
    Finding { text: format!("{} {words}", finding.text), advice: None, ..finding }
}

/// What an error says, with the option that helps.
pub(crate) fn of_error(error: &(dyn std::error::Error + 'static)) -> String {
    match error.downcast_ref() {
        Some(Error::NoFundamental) => {
            "nothing in this span has a fundamental; assume none with --free, or set the range in \
             which it is \
             looked for"
                .into()
        }
        _ => error.to_string(),
    }
}
