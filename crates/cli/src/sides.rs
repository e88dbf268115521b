//! What is compared: takes, parts of them, and groups of repeats, as they are typed.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};

use crate::args::{Channel, ChannelList, PartArgs, SourceArgs, SpanArgs};
use crate::status::Usage;
use crate::studies;
use crate::take::{Part, Take};

/// A side of a comparison as typed: one take, or repeats of it with a plus between them.
#[derive(Debug, Clone)]
pub(crate) struct Side {
    /// As typed.
    pub(crate) words: String,
    members: Vec<Member>,
}

/// A take with what stands behind its name.
#[derive(Debug, Clone)]
struct Member {
    path: PathBuf,
    /// What stands behind the name, as typed.
    behind: String,
    span: Option<SpanArgs>,
    channel: Option<Channel>,
}

impl Side {
    /// Reads what was typed. A file may have the signs in its name.
    pub(crate) fn read(words: &str) -> Result<Self> {
        let members = if Path::new(words).exists() {
            vec![words]
        } else {
            words.split('+').map(str::trim).collect()
        };
        let members = members.into_iter().map(Member::read).collect::<Result<_>>()?;
        Ok(Self { words: words.into(), members })
    }

    /// Reads all that were typed.
    pub(crate) fn read_all(words: &[String]) -> Result<Vec<Self>> {
        words.iter().map(|words| Self::read(words)).collect()
    }

    pub(crate) fn is_group(&self) -> bool {
        self.members.len() > 1
    }

    /// Its files, or names of takes.
    pub(crate) fn paths(&self) -> Vec<PathBuf> {
        self.members.iter().map(|member| member.path.clone()).collect()
    }

    /// The side as it is typed where its takes have other names, one for each of [`Side::paths`].
    pub(crate) fn renamed(&self, names: &[String]) -> String {
        let member = |(member, name): (&Member, &String)| match member.behind.as_str() {
            "" => name.clone(),
            behind => format!("{name}@{behind}"),
        };
        self.members.iter().zip(names).map(member).collect::<Vec<_>>().join("+")
    }

    /// Opens its takes.
    pub(crate) fn open(&self, args: &SourceArgs) -> Result<Vec<OpenMember>> {
        self.members
            .iter()
            .map(|member| {
                let mut named = studies::find_takes(std::slice::from_ref(&member.path), args)?;
                let named = named.pop().context("no take")?;
                Ok(OpenMember { take: Take::open(named, args)?, member: member.clone() })
            })
            .collect()
    }
}

/// Opens the takes of all sides.
pub(crate) fn open_all(sides: &[Side], args: &SourceArgs) -> Result<Vec<OpenMember>> {
    let opened = sides.iter().map(|side| side.open(args)).collect::<Result<Vec<_>>>()?;
    Ok(opened.into_iter().flatten().collect())
}

/// An opened take, and which part of it is meant.
pub(crate) struct OpenMember {
    take: Take,
    member: Member,
}

impl OpenMember {
    /// The part that is meant: what stands behind the name goes before what holds for all.
    pub(crate) fn part(&mut self, all: &PartArgs) -> Result<Part<'_>> {
        let chosen = self.chosen(all);
        self.take.part(&chosen)
    }

    /// The parts that are meant where levels are measured, which may be of energy means of channels.
    pub(crate) fn level_parts(&mut self, all: &PartArgs) -> Result<Vec<Part<'_>>> {
        let chosen = self.chosen(all);
        self.take.level_parts(&chosen)
    }

    /// What stands behind the name, or what holds for all.
    fn chosen(&self, all: &PartArgs) -> PartArgs {
        let channels = match &self.member.channel {
            Some(channel) => vec![ChannelList(vec![channel.clone()])],
            None => all.channels.clone(),
        };
        let span = self.member.span.clone().unwrap_or_else(|| all.span.clone());
        PartArgs { span, channels }
    }

    /// The one channel that is meant, and another one of the same span.
    pub(crate) fn part_beside(
        &mut self,
        all: &PartArgs,
        other: &Channel,
    ) -> Result<(Part<'_>, Part<'_>)> {
        let mut chosen = self.chosen(all);
        let mut channels: Vec<Channel> =
            chosen.channels.into_iter().flat_map(|list| list.0).collect();
        if channels.is_empty() {
            channels.push(Channel::Number(1));
        }
        channels.push(other.clone());
        chosen.channels = vec![ChannelList(channels)];
        let parts = <[Part<'_>; 2]>::try_from(self.take.parts(&chosen)?);
        let [one, other] = parts.map_err(|_| {
            Usage("one channel of each take is measured beside the lateral one: --channel 1".into())
        })?;
        Ok((one, other))
    }

    /// All channels that are meant.
    pub(crate) fn parts(&mut self, all: &PartArgs) -> Result<Vec<Part<'_>>> {
        let chosen = self.chosen(all);
        self.take.parts(&chosen)
    }
}

impl Member {
    fn read(words: &str) -> Result<Self> {
        if words.is_empty() {
            let reason = "a plus stands between the names of repeats: a.wav+b.wav";
            return Err(Usage(reason.into()).into());
        }
        let (path, behind) = match words.rsplit_once('@') {
            Some((path, behind)) if !Path::new(words).exists() && !path.is_empty() => {
                (path, behind)
            }
            _ => (words, ""),
        };
        let mut member =
            Self { path: path.into(), behind: behind.into(), span: None, channel: None };
        for part in behind.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            if part.contains("..") {
                member.span = Some(SpanArgs::between(part)?);
            } else {
                member.channel = Some(part.parse()?);
            }
        }
        Ok(member)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sides_are_read_with_what_stands_behind_them() {
        let side = Side::read("soft-1.wav@0.5..1.2,left+soft-2.wav@2").expect("a side");
        assert!(side.is_group());
        let [first, second] = &side.members[..] else { panic!("two") };
        assert_eq!(first.path, Path::new("soft-1.wav"));
        assert_eq!(first.channel, Some(Channel::Name("left".into())));
        assert_eq!(first.span.as_ref().and_then(|span| span.span().to_s), Some(1.2));
        assert_eq!(second.channel, Some(Channel::Number(2)));
        let renamed = side.renamed(&["x/soft-1.wav".into(), "./-2.wav".into()]);
        assert_eq!(renamed, "x/soft-1.wav@0.5..1.2,left+./-2.wav@2");
        for wrong in ["a.wav+", "a.wav@..", "a.wav@x..y", "a.wav@0"] {
            assert!(Side::read(wrong).is_err(), "{wrong}");
        }
    }
}
