//! What a survey was asked to measure: commands with their options.

use anyhow::{Context, Result};

use super::super::{ForMany, of_takes};
use crate::status::Usage;
use crate::text;

/// A command that is run on every take.
pub(super) struct Asked {
    pub(super) command: &'static str,
    pub(super) line: ForMany,
    /// As it was typed, with one space between words.
    pub(super) words: String,
}

/// Options that a survey has itself, or that have no meaning for a row of a table.
const NOT_HERE: [&str; 9] = [
    "--format",
    "--output",
    "--figure",
    "--require",
    "--where",
    "--study",
    "--raw",
    "--assume",
    "--each",
];

/// Reads 'pitch, timbre --resolve 2Hz': a comma parts commands where a command follows it.
pub(super) fn read(text: &str) -> Result<Vec<Asked>> {
    let mut parts: Vec<String> = Vec::new();
    for piece in text.split(',') {
        let first = piece.split_whitespace().next().unwrap_or_default();
        match parts.last_mut() {
            // A comma within an option's value.
            Some(last) if !first.starts_with(char::is_alphabetic) || !is_command(first) => {
                last.push(',');
                last.push_str(piece);
            }
            _ => parts.push(piece.into()),
        }
    }
    let asked: Vec<Asked> = parts.iter().map(|part| one(part)).collect::<Result<_>>()?;
    for (n, command) in asked.iter().enumerate() {
        if asked[..n].iter().any(|other| other.command == command.command) {
            let reason = "it is named twice, and its table has one row a take; make a survey of \
                          its own for other options";
            return Err(Usage(format!("{}: {reason}", command.command)).into());
        }
    }
    Ok(asked)
}

fn is_command(word: &str) -> bool {
    of_takes().any(|known| known == word)
}

fn one(text: &str) -> Result<Asked> {
    let words = shlex::split(text)
        .ok_or_else(|| Usage(format!("'{text}' cannot be read: a quote is not closed")))?;
    let name = words.first().map_or("", String::as_str);
    let Some(command) = of_takes().find(|known| *known == name) else {
        let known: Vec<&str> = of_takes().collect();
        let meant = text::meant(name, &known);
        let list = known.join(", ");
        let reason = format!("'{name}' is no command on takes{meant} There are {list}");
        return Err(Usage(reason.replace("takes There", "takes. There")).into());
    };
    for word in &words[1..] {
        let name = word.split('=').next().unwrap_or_default();
        if NOT_HERE.contains(&name) {
            let reason = "this option has no place behind --measure";
            return Err(Usage(format!("{command} {name}: {reason}")).into());
        }
    }
    check_channel(command, &words)?;
    let joined = shlex::try_join(words.iter().map(String::as_str)).context("a word")?;
    let line = ForMany::new(words).with_context(|| format!("--measure '{}'", text.trim()))?;
    Ok(Asked { command, line, words: joined })
}

/// A take has one row: of one channel, or of their mean.
fn check_channel(command: &str, words: &[String]) -> Result<()> {
    let place = words.iter().position(|word| word.starts_with("--channel"));
    let value = place.and_then(|n| match words[n].split_once('=') {
        Some((_, value)) => Some(value),
        None => words.get(n + 1).map(String::as_str),
    });
    match value {
        Some(value) if value == "all" || value.contains(',') => {
            let reason = "a take has one row: name one channel, or 'mean'";
            Err(Usage(format!("{command} --channel {value}: {reason}")).into())
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_read_with_their_options() {
        let words = |text: &str| {
            let asked = read(text).expect("commands");
            asked.into_iter().map(|one| one.words).collect::<Vec<_>>()
        };
        assert_eq!(
            words("pitch, timbre --from  0.1,inspect"),
            ["pitch", "timbre --from 0.1", "inspect"]
        );
        for wrong in [
            "",
            "pich",
            "pitch pitch",
            "pitch, pitch --from 1",
            "pitch --figure a.png",
            "pitch --format=csv",
            "pitch --no-such",
            "bands --channel all",
            "bands --channel=1,2",
            "compare",
            "pitch 'a",
        ] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
