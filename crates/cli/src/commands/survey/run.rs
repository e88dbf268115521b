//! The measuring of a survey: takes are found, measured side by side, and written in batches.

use std::collections::HashMap;
use std::panic::{self, AssertUnwindSafe};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use anyhow::{Context, Result, anyhow, bail};
use tonemap_core::Error as CoreError;
use tonemap_core::fingerprint::Printer;
use tonemap_core::units::Seconds;
use tonemap_media::Block;
use tonemap_survey::walk::{self, About, Choice};
use tonemap_survey::{
    CommandResult, Identity, MeasuredTake, Outcome, Reader, SoundInfo, Standing, Survey, Waiting,
};

use super::asked::{self, Asked};
use super::lock::Lock;
use super::{Reading, What, Which, Work};
use crate::args::{PartArgs, SourceArgs, SpanArgs};
use crate::files;
use crate::interrupt;
use crate::output;
use crate::progress::SurveyProgress;
use crate::status::{self, Status, Usage};
use crate::studies::{Named, OpenStudy};
use crate::take::Take;
use crate::text;

/// What was measured is written at least this often.
const BATCH: Duration = Duration::from_millis(500);
/// Takes of a batch.
const BATCH_TAKES: usize = 256;
/// Takes that are looked up at a time.
const AHEAD: usize = 512;
/// How much of a take has a fingerprint, in seconds.
const PRINTED_S: f64 = 60.0;
/// Problems that are named one by one.
const NAMED_PROBLEMS: usize = 10;
/// How often a take is read again that changes while it is read.
const READINGS: usize = 2;

/// A time as long as a run may last.
pub(super) fn long_time(typed: &str) -> Result<Seconds, CoreError> {
    let read = || {
        let (mut rest, mut seconds) = (typed.trim(), 0.0);
        while !rest.is_empty() {
            let end = rest.find(|c: char| !(c.is_ascii_digit() || c == '.'))?;
            let (number, unit) = rest.split_at(end);
            let number: f64 = number.parse().ok()?;
            let length = unit.find(|c: char| c.is_ascii_digit()).unwrap_or(unit.len());
            let (unit, after) = unit.split_at(length);
            seconds += number
                * match unit.trim() {
                    "h" => 3600.0,
                    "m" | "min" => 60.0,
                    "s" => 1.0,
                    _ => return None,
                };
            rest = after;
        }
        (seconds > 0.0).then_some(Seconds(seconds))
    };
    read().ok_or_else(|| CoreError::Unreadable {
        given: typed.into(),
        wanted: "a time",
        forms: "45s, 30m, 1h or 1h30m",
    })
}

/// All that is the same for every take.
struct Plan<'a> {
    asked: Vec<Asked>,
    source: SourceArgs,
    reading: &'a Reading,
    study: Option<StudyTakes>,
}

/// The takes of a study, by their files.
struct StudyTakes {
    open: OpenStudy,
    by_file: HashMap<PathBuf, usize>,
}

impl StudyTakes {
    fn new(open: OpenStudy) -> Self {
        let file = |(n, take): (usize, &tonemap_study::Take)| {
            Some((open.folder.join(&take.file).canonicalize().ok()?, n))
        };
        let by_file = open.study.takes.iter().enumerate().filter_map(file).collect();
        Self { open, by_file }
    }

    fn named(&self, path: &Path) -> Option<Named> {
        let n = self.by_file.get(&path.canonicalize().ok()?)?;
        let Named { entry, .. } = self.open.named(self.open.study.takes.get(*n)?);
        Some(Named { path: path.into(), entry })
    }
}

/// A run, as it was asked for.
pub(super) struct Run<'a> {
    pub(super) what: &'a What,
    pub(super) which: &'a Which,
    pub(super) reading: &'a Reading,
    pub(super) work: &'a Work,
}

impl Run<'_> {
    pub(super) fn run(&self) -> Result<Status> {
        output::log(self.work.verbose);
        let plan = Plan::new(self)?;
        let (folders, choice) = self.places();
        walk::check(&folders, &choice).map_err(of_list)?;
        let &Which { part, again, drop_gone, .. } = self.which;
        let lock = Lock::of(&self.what.into, || {
            let name = files::shown(&self.what.into);
            status::say(&format!("another run writes into {name}; this one begins when it ends"));
        })?;
        let name = || files::shown(&self.what.into);
        let mut survey = Survey::open(&self.what.into).with_context(name)?;
        let identity = plan.identity(part)?;
        let run = survey.run(&identity, &now()).with_context(name)?;
        let (listed, problems) =
            survey.list(run, again, |take| self.find(take)).map_err(of_list)?;
        say_problems(&problems);
        if drop_gone {
            survey.drop_gone(run)?;
        } else if listed.gone > 0 && !self.work.quiet {
            let (are, stay) = if listed.gone == 1 { ("is", "stays") } else { ("are", "stay") };
            status::say(&format!(
                "{} of the survey {are} no longer there, and {stay} in it; --drop-gone takes such \
                 out",
                text::takes(listed.gone),
            ));
        }
        let began = Instant::now();
        let progress = SurveyProgress::new(
            listed.takes,
            listed.takes - listed.waiting,
            self.work.quiet || listed.waiting == 0,
        );
        tracing::info!(takes = listed.takes, waiting = listed.waiting, "listed");
        let reader = Reader::open(&self.what.into)?;
        let measured = plan.measure(&mut survey, reader, run, self.work, &progress);
        drop(progress);
        let done = measured.with_context(name)?;
        let standing = Reader::open(&self.what.into)?.standing(run)?;
        survey.close()?;
        if !self.work.quiet {
            let seconds = began.elapsed().as_secs_f64();
            status::say(&work_words(&done, seconds));
            output::print(&summary(&name(), &standing))?;
        }
        if interrupt::is_asked_to_end() {
            drop(lock);
            interrupt::end_by_signal();
        }
        Ok(Status::Done)
    }

    /// The folders, and which of their files are takes.
    fn places(&self) -> (Vec<PathBuf>, Choice) {
        let choice = Choice {
            only: self.which.only.clone(),
            without: self.which.without.clone(),
            part: self.which.part,
        };
        let named = self.what.folders.iter().filter(|folder| !is_list(folder));
        (named.cloned().collect(), choice)
    }

    /// Finds the takes.
    fn find(
        &self,
        take: &mut dyn FnMut(walk::Found) -> Result<(), tonemap_survey::Error>,
    ) -> Result<Vec<String>, tonemap_survey::Error> {
        let (folders, choice) = self.places();
        let mut problems = walk::walk(&folders, &choice, &mut *take)?;
        if self.what.folders.iter().any(|folder| is_list(folder)) {
            problems.extend(walk::list(std::io::stdin().lock(), &choice, take)?);
        }
        Ok(problems)
    }
}

/// Whether a list of takes is meant.
fn is_list(folder: &Path) -> bool {
    folder.as_os_str() == "-"
}

fn say_problems(problems: &[String]) {
    for problem in problems.iter().take(NAMED_PROBLEMS) {
        status::say(problem);
    }
    if problems.len() > NAMED_PROBLEMS {
        status::say(&format!("and {} more like these", problems.len() - NAMED_PROBLEMS));
    }
}

/// An error of what was asked for, not of the survey, is wrong usage.
fn of_list(error: tonemap_survey::Error) -> anyhow::Error {
    match error {
        tonemap_survey::Error::Pattern { .. } => Usage(error.to_string()).into(),
        other => other.into(),
    }
}

/// The time as it is written in a survey: in seconds since 1970.
fn now() -> String {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH);
    format!("{} s since 1970", since.map_or(0, |since| since.as_secs()))
}

/// How a survey stands, in words.
fn summary(name: &str, standing: &Standing) -> String {
    let mut said = vec![format!("{name}: {}", text::takes(standing.takes))];
    if standing.failed > 0 {
        said.push(format!(
            "{} not in full (why: column 'reason' of the table 'takes')",
            text::grouped(standing.failed)
        ));
    }
    if standing.waiting > 0 {
        said.push(format!("{} left for the next run", text::grouped(standing.waiting)));
    }
    said.join(", ") + "\n"
}

/// What a run has done, in words.
fn work_words(done: &Done, seconds: f64) -> String {
    if done.takes == 0 {
        return "nothing was to be measured".into();
    }
    let [seconds, rate, speed] =
        [seconds, done.takes as f64 / seconds, done.sound_s / seconds].map(text::significant);
    let takes = text::takes(done.takes);
    format!("measured {takes} in {seconds} s, {rate} a second, {speed} × real time")
}

/// What was done in a run.
#[derive(Debug, Clone, Copy, Default)]
struct Done {
    takes: u64,
    failed: u64,
    sound_s: f64,
}

/// Hands out takes that wait, until there are no more or it is time to stop.
struct Feeder {
    reader: Reader,
    run: i64,
    behind: i64,
    held: Vec<Waiting>,
}

impl Feeder {
    fn next(&mut self) -> Result<Option<Waiting>> {
        if self.held.is_empty() {
            self.held = self.reader.waiting(self.run, self.behind, AHEAD)?;
            self.held.reverse();
        }
        let next = self.held.pop();
        self.behind = next.as_ref().map_or(self.behind, |take| take.id);
        Ok(next)
    }
}

impl<'a> Plan<'a> {
    fn new(run: &Run<'a>) -> Result<Self> {
        let reading = run.reading;
        let source = SourceArgs {
            raw: reading.raw,
            study: reading.study.clone(),
            assume: reading.assume,
            ..SourceArgs::default()
        };
        let study = OpenStudy::of(&source)?.map(StudyTakes::new);
        let mut asked = asked::read(&run.what.measure)?;
        for one in &mut asked {
            one.line = one.line.reading(&source)?;
        }
        Ok(Self { asked, source, reading, study })
    }

    fn identity(&self, part: Option<tonemap_survey::Part>) -> Result<Identity> {
        let measure: Vec<&str> = self.asked.iter().map(|one| one.words.as_str()).collect();
        let mut reading = Vec::new();
        reading.extend(self.reading.raw.map(|raw| format!("raw {raw}")));
        reading.extend(self.reading.assume.map(|assumed| format!("assume {assumed}")));
        reading.extend(self.reading.names.as_ref().map(|names| format!("names {names}")));
        if let Some(study) = &self.study {
            reading.push(format!("study {}", files::hash_of(&study.open.file())?));
        }
        let program = std::env::current_exe().context("the program cannot find itself")?;
        Ok(Identity {
            measure: measure.join(", "),
            reading: reading.join(", "),
            tonemap: env!("CARGO_PKG_VERSION").into(),
            program: files::hash_of(&program).context("the program cannot be read")?,
            part,
        })
    }

    /// Measures all takes that wait.
    fn measure(
        &self,
        survey: &mut Survey,
        reader: Reader,
        run: i64,
        work: &Work,
        progress: &SurveyProgress,
    ) -> Result<Done> {
        files::forget_inputs();
        interrupt::wait_to_be_asked();
        // What a fault of the program says stands in the row of the take.
        panic::set_hook(Box::new(|_| {}));
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let jobs = work.jobs.map_or(cores, usize::from);
        let end = work.stop_after.map(|after| Instant::now() + Duration::from_secs_f64(after.0));
        let is_over = AtomicBool::new(false);
        let feeder = Mutex::new(Feeder { reader, run, behind: 0, held: Vec::new() });
        let (send, outcomes) = mpsc::sync_channel(2 * jobs);
        let written = std::thread::scope(|scope| {
            for _ in 0..jobs {
                let (send, feeder, is_over) = (send.clone(), &feeder, &is_over);
                scope.spawn(move || {
                    let is_late = || end.is_some_and(|end| Instant::now() >= end);
                    let is_done = || {
                        is_over.load(Ordering::SeqCst) || interrupt::is_asked_to_end() || is_late()
                    };
                    // Each take has one core: what a command does side by side, it does in turn.
                    let own = rayon::ThreadPoolBuilder::new().num_threads(1).use_current_thread();
                    let own = own.build();
                    while !is_done() {
                        let next = feeder.lock().unwrap_or_else(PoisonError::into_inner).next();
                        let outcome = match next {
                            Ok(Some(take)) => Ok(match &own {
                                Ok(pool) => pool.install(|| self.outcome(&take)),
                                Err(_) => self.outcome(&take),
                            }),
                            Ok(None) => break,
                            Err(error) => Err(error),
                        };
                        let is_wrong = outcome.is_err();
                        if send.send(outcome).is_err() || is_wrong {
                            break;
                        }
                    }
                });
            }
            drop(send);
            let written = write(survey, &outcomes, progress);
            // Takes under way find nobody who wants them.
            is_over.store(true, Ordering::SeqCst);
            drop(outcomes);
            written
        });
        let _ = panic::take_hook();
        written
    }

    /// What is to be written of a take.
    fn outcome(&self, take: &Waiting) -> Outcome {
        let caught = panic::catch_unwind(AssertUnwindSafe(|| self.measured(take)));
        caught.unwrap_or_else(|fault| {
            let said = fault.downcast_ref::<String>().map(String::as_str);
            let said = said.or_else(|| fault.downcast_ref::<&str>().copied()).unwrap_or("unknown");
            let reason = Some(format!("a fault of the program: {said}; please report it"));
            let measured = Some(MeasuredTake { reason, ..MeasuredTake::default() });
            Outcome { id: take.id, about: About::of(&take.path).ok(), measured }
        })
    }

    fn measured(&self, take: &Waiting) -> Outcome {
        let failed = |reason: String| Outcome {
            id: take.id,
            about: None,
            measured: Some(MeasuredTake { reason: Some(reason), ..MeasuredTake::default() }),
        };
        for _ in 0..READINGS {
            let before = About::of(&take.path);
            let hash = files::hash_of(&take.path);
            let (before, hash) = match (before, hash) {
                (Ok(before), Ok(hash)) => (before, hash),
                (Err(error), _) => return failed(walk::plain(&error)),
                (_, Err(error)) => {
                    let of_system = error.downcast_ref().map(walk::plain);
                    return failed(of_system.unwrap_or_else(|| reason_of(&error, &take.path)));
                }
            };
            if !take.failed && take.blake3.as_ref() == Some(&hash) {
                return Outcome { id: take.id, about: Some(before), measured: None };
            }
            let measured = MeasuredTake { blake3: Some(hash), ..self.of_take(&take.path) };
            if About::of(&take.path).is_ok_and(|after| after == before) {
                return Outcome { id: take.id, about: Some(before), measured: Some(measured) };
            }
        }
        failed("it changed while it was read; it is measured by the next run".into())
    }

    /// What all commands give of a take.
    fn of_take(&self, path: &Path) -> MeasuredTake {
        let known = self.study.as_ref().and_then(|study| study.named(path));
        let named = known.unwrap_or_else(|| Named { path: path.into(), entry: None });
        let mut measured =
            MeasuredTake { conditions: self.conditions(&named), ..MeasuredTake::default() };
        match self.open(&named) {
            Ok((info, print)) => {
                measured.info = Some(info);
                measured.print = print;
            }
            Err(error) => {
                measured.reason = Some(reason_of(&error, path));
                return measured;
            }
        }
        let mut reasons: Vec<String> = Vec::new();
        for asked in &self.asked {
            match result_of(asked, &named) {
                Ok(result) => measured.results.push(result),
                Err(error) => {
                    reasons.push(format!("{}: {}", asked.command, reason_of(&error, path)));
                }
            }
        }
        measured.reason = Some(reasons.join("; ")).filter(|reasons| !reasons.is_empty());
        measured
    }

    /// What the file says of its sound, and its fingerprint.
    fn open(&self, named: &Named) -> Result<(SoundInfo, Vec<u16>)> {
        let mut take = Take::open(named.clone(), &self.source)?;
        if take.frames == 0 {
            bail!("the recording holds no samples");
        }
        let all = PartArgs { span: SpanArgs::default(), channels: Vec::new() };
        let reference = take.parts(&all)?.first().map(|part| part.reference.words());
        let info = SoundInfo {
            sample_rate_hz: take.info.sample_rate_hz,
            channels: take.info.channels as u64,
            duration_s: take.duration_s(),
            level_reference: reference.unwrap_or("re full scale"),
        };
        Ok((info, print_of(&take)?))
    }

    /// Under which conditions a take was made: by the study, and by its path.
    fn conditions(&self, named: &Named) -> Vec<(String, String)> {
        let mut conditions: Vec<(String, String)> = Vec::new();
        if let Some(entry) = &named.entry {
            let take = &entry.take;
            conditions.extend(take.group.iter().map(|group| ("group".into(), group.clone())));
            conditions.extend(take.note.iter().map(|note| ("note".into(), note.clone())));
            let of_study = take.conditions.iter();
            conditions.extend(of_study.map(|(name, value)| (name.clone(), value.to_string())));
        }
        if let Some(names) = &self.reading.names {
            let path = walk::text_of(&named.path);
            let levels = names.to_string().matches('/').count() + 1;
            let parts: Vec<&str> = path.split('/').collect();
            let end = parts[parts.len().saturating_sub(levels)..].join("/");
            let read = names.read(&end).into_iter().flatten();
            conditions.extend(read.map(|(name, value)| (name, value.to_string())));
        }
        conditions
    }
}

/// What a command gives for a take.
fn result_of(asked: &Asked, named: &Named) -> Result<CommandResult> {
    let kept = asked.line.numbers(named)?;
    let saved = kept.saved()?;
    let first = saved.first().ok_or_else(|| anyhow!("it gave no result"))?;
    Ok(CommandResult {
        command: asked.command,
        settings: first.value["settings"].to_string(),
        quantities: kept.quantities,
        findings: kept.findings,
    })
}

/// The fingerprint of the beginning of a take, of the mean of its channels.
fn print_of(take: &Take) -> Result<Vec<u16>> {
    let rate_hz = take.info.sample_rate_hz;
    let mut printer = Printer::new(rate_hz);
    let mut reader = take.reader()?;
    let (mut block, mut mean) = (Block::default(), Vec::new());
    while (reader.position() as f64) < PRINTED_S * rate_hz && reader.read(&mut block)? {
        block.mean_into(&mut mean);
        printer.push(&mean);
    }
    Ok(printer.finish())
}

/// Writes what comes, in batches.
fn write(
    survey: &mut Survey,
    outcomes: &Receiver<Result<Outcome>>,
    progress: &SurveyProgress,
) -> Result<Done> {
    let mut done = Done::default();
    let (mut batch, mut began) = (Vec::new(), Instant::now());
    let (mut said, started) = (Instant::now(), Instant::now());
    loop {
        let left = BATCH.saturating_sub(began.elapsed());
        let next = outcomes.recv_timeout(left);
        let is_end = matches!(next, Err(RecvTimeoutError::Disconnected));
        if let Ok(outcome) = next {
            if batch.is_empty() {
                began = Instant::now();
            }
            batch.push(outcome?);
        }
        let is_due = batch.len() >= BATCH_TAKES || began.elapsed() >= BATCH || is_end;
        if is_due && !batch.is_empty() {
            survey.store(&batch)?;
            let measured = || batch.iter().filter_map(|outcome| outcome.measured.as_ref());
            done.takes += batch.len() as u64;
            done.failed += measured().filter(|take| take.reason.is_some()).count() as u64;
            done.sound_s +=
                measured().filter_map(|take| take.info).map(|i| i.duration_s).sum::<f64>();
            progress.advance(batch.len() as u64, done.failed);
            batch.clear();
        }
        if said.elapsed() > Duration::from_secs(10) {
            said = Instant::now();
            let rate = done.takes as f64 / started.elapsed().as_secs_f64();
            tracing::info!(takes = done.takes, failed = done.failed, per_second = rate, "measured");
        }
        if is_end {
            return Ok(done);
        }
        if batch.is_empty() {
            began = Instant::now();
        }
    }
}

/// Why a take could not be measured, without its name, which stands beside it.
fn reason_of(error: &anyhow::Error, path: &Path) -> String {
    let whole = files::shown(path);
    let own = path.file_name().map_or_else(String::new, |name| files::shown(name.as_ref()));
    let stem = path.file_stem().map_or_else(String::new, |name| files::shown(name.as_ref()));
    let causes = status::causes(error);
    let causes = causes.iter().map(|cause| {
        let named =
            [&whole, &own, &stem].into_iter().find_map(|name| cause.strip_prefix(name.as_str()));
        let Some(rest) = named else { return cause.trim_end_matches('.').to_string() };
        // A channel may stand behind the name.
        let rest = match rest.strip_prefix(", channel ") {
            Some(channel) => channel.find([' ', ':']).map_or("", |end| &channel[end..]),
            None => rest,
        };
        let rest = rest.trim_end_matches('.');
        if rest.starts_with(' ') {
            format!("it{rest}")
        } else {
            rest.trim_start_matches([':', ' ']).into()
        }
    });
    causes.filter(|cause| !cause.is_empty()).collect::<Vec<_>>().join(": ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reason_does_not_name_the_take() {
        let reason = |words: &str| reason_of(&anyhow!("{words}"), Path::new("hall/d4-01.wav"));
        assert_eq!(reason("hall/d4-01.wav: the file is empty."), "the file is empty");
        assert_eq!(reason("d4-01.wav is not calibrated"), "it is not calibrated");
        assert_eq!(reason("d4-01, channel front is not calibrated"), "it is not calibrated");
        assert_eq!(reason("d4-01.wav, channel 2: no tone"), "no tone");
        assert_eq!(reason("no tone in it"), "no tone in it");
    }

    #[test]
    fn long_times_are_read() {
        let read = |text: &str| long_time(text).ok().map(|time| time.0);
        for (text, seconds) in [("45s", 45.0), ("30m", 1800.0), ("1h", 3600.0), ("1h30m", 5400.0)] {
            assert_eq!(read(text), Some(seconds), "{text}");
        }
        assert_eq!(read("1.5h"), Some(5400.0));
        for wrong in ["", "1", "h", "0s", "-1h", "1d"] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
