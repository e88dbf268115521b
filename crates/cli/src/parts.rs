//! The takes of a command, and their parts side by side.

use anyhow::Result;
use rayon::prelude::*;
use std::path::PathBuf;

use tonemap_core::Finding;
use tonemap_core::units::LevelReference;

use crate::args::SourceArgs;
use crate::progress::TakesProgress;
use crate::status::{self, Status};
use crate::studies;
use crate::take::{Part, Take};

/// Finds the takes of a command in files or the study, and opens them. One that cannot be opened is
/// named and does not stop the others; the status says so.
pub(crate) fn open_named(paths: &[PathBuf], source: &SourceArgs) -> Result<(Vec<Take>, Status)> {
    let named = studies::find_takes(paths, source)?;
    let mut status = Status::Done;
    let mut takes = Vec::new();
    for named in named {
        match Take::open(named, source) {
            Ok(take) => takes.push(take),
            Err(error) => {
                status::print_error(&error);
                status = Status::CouldNot;
            }
        }
    }
    Ok((takes, status))
}

/// The parts asked for of all takes. A take that has no such span is named and does not stop the
/// others.
pub(crate) fn parts_of<'a>(
    takes: &'a mut [Take],
    of: impl Fn(&'a mut Take) -> Result<Vec<Part<'a>>>,
    status: &mut Status,
) -> Result<Vec<Part<'a>>> {
    let several = takes.len() > 1;
    let mut parts = Vec::new();
    for take in takes {
        match of(take) {
            Ok(of_take) => parts.extend(of_take),
            Err(error) if several && Status::of(&error) == Status::CouldNot => {
                status::print_error(&error);
                *status = Status::CouldNot;
            }
            Err(error) => return Err(error),
        }
    }
    Ok(parts)
}

/// Works on parts side by side; what comes back is in the order of the parts. One that fails is
/// named and does not stop the others, unless it is the only one or the usage is wrong.
pub(crate) fn each_part<'a, T: Send>(
    parts: Vec<Part<'a>>,
    what: &'static str,
    quiet: bool,
    status: &mut Status,
    work: impl Fn(Part<'a>) -> Result<T> + Sync,
) -> Result<Vec<T>> {
    let several = parts.len() > 1;
    let progress = TakesProgress::new(what, parts.len(), quiet || !several);
    let results: Vec<Result<T>> = parts
        .into_par_iter()
        .map(|part| {
            let title = part.title();
            let file = part.take().path();
            // What is wrong with a file names it already.
            let result = work(part).map_err(|error| {
                let words = format!("{error:#}");
                let is_named = words.contains(&title) || words.contains(&file);
                if several && !is_named { error.context(title) } else { error }
            });
            progress.advance();
            result
        })
        .collect();
    drop(progress);
    let mut done = Vec::new();
    for result in results {
        match result {
            Ok(one) => done.push(one),
            Err(error) if several && Status::of(&error) == Status::CouldNot => {
                status::print_error(&error);
                *status = Status::CouldNot;
            }
            Err(error) => return Err(error),
        }
    }
    Ok(done)
}

/// Lets the levels of parts that stand side by side refer to the same: sound pressure if all are
/// calibrated, else full scale, which a finding says.
pub(crate) fn share_reference<'p, 'a: 'p>(
    parts: impl IntoIterator<Item = &'p mut Part<'a>>,
) -> Option<Finding> {
    let (mut full_scale, mut pressure): (Vec<&mut Part<'_>>, Vec<_>) =
        parts.into_iter().partition(|part| part.reference == LevelReference::FullScale);
    let (other, known) = (full_scale.first_mut()?, pressure.first_mut()?);
    let finding = Finding::note(
        "mixed_calibration",
        format!(
            "{} is calibrated and {} is not: all levels are re full scale. For dB re 20 µPa \
             calibrate both, or measure them one by one.",
            known.title(),
            other.title()
        ),
    );
    for part in pressure {
        part.reference = LevelReference::FullScale;
    }
    Some(finding)
}
