//! `survey show`: what is in a survey, how it is spread, and which takes stand out.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;

use anyhow::{Result, bail};
use clap::Args;
use serde::Serialize;
use tonemap_core::collection::{
    Distribution, LEAST_GROUP, Member, Odd, distribution, histogram, odd,
};
use tonemap_core::fingerprint::{Alike, Finder, alike};
use tonemap_core::{Finding, Measured};
use tonemap_figures::{SurveyFigure, SurveyGroup, SurveyPanel, Words, survey_figure};
use tonemap_survey::{Chosen, Error, Quantity, Reader, RunRecord, Standing, View, name_of};

use crate::args::{FigureArgs, Format, OutputArgs};
use crate::json;
use crate::output;
use crate::status::{Status, Usage};
use crate::table::Table;
use crate::text;

/// What a survey holds: counts, spreads, the takes that stand out, and copies
///
/// Takes stand out where a quantity is farther off in their group than chance makes any value of the
/// survey in one of twenty. With --by they are compared within their group alone, as one instrument
/// or one note.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(super) struct Show {
    /// The survey
    #[arg(value_name = "SURVEY")]
    survey: PathBuf,
    /// Takes of which this holds, in SQL over 'takes', their conditions and the table of each
    /// command: "pitch.notes_1_cents > 10"
    #[arg(long = "where", value_name = "SQL")]
    condition: Option<String>,
    /// Compare takes within groups: by a condition, or 'folder'
    #[arg(long, value_name = "CONDITION")]
    by: Option<String>,
    #[arg(
        long = "quantity",
        value_name = "COMMAND.KEY",
        help = "Quantities that are looked at: timbre.centroid_hz, 'pitch.notes[1].f0_hz' [default: \
                all; those that most takes have are listed and drawn]"
    )]
    quantities: Vec<String>,
    /// Which run of the survey, as listed [default: the last]
    #[arg(long, value_name = "NUMBER")]
    run: Option<i64>,
    /// Takes that stand out which are listed
    #[arg(long, value_name = "NUMBER", default_value_t = 10)]
    most: usize,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap survey show archive.sqlite --by instrument --figure archive.png
      each instrument's spread, and the takes that stand out in it
  tonemap survey show archive.sqlite --where \"instrument = 'harp' AND timbre.centroid_hz > 2000\"
      the bright takes of the harp alone
  tonemap survey show archive.sqlite --where 'id IN (SELECT take_id FROM pitch_notes WHERE number = 3)'
      takes of at least three notes";

/// Probability that anything stands out where nothing does.
const SHARE: f64 = 0.05;
/// Quantities that are listed if none is asked for, and those that are drawn.
const LISTED: usize = 12;
const DRAWN: usize = 6;
/// Reasons that are given of a take, and takes that are named in a panel.
const REASONS: usize = 3;
const NAMED: usize = 3;
/// Steps of a histogram.
const STEPS: usize = 36;
/// Rows of the other tables.
const ROWS: usize = 10;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings<'a> {
    survey: String,
    #[serde(rename = "where")]
    condition: Option<&'a str>,
    by: Option<&'a str>,
    share: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct Shown<'a> {
    run: RunRow<'a>,
    runs: Vec<RunRow<'a>>,
    #[serde(flatten)]
    standing: Standing,
    /// Takes that were looked at.
    chosen: u64,
    reasons: Vec<Counted>,
    found: Vec<FoundRow>,
    groups: Vec<GroupRow>,
    quantities: Vec<Spread>,
    unusual: Vec<Unusual>,
    copies: Vec<Vec<String>>,
    near_copies: Vec<Vec<NearCopy>>,
}

/// A run of the survey.
#[derive(Serialize)]
struct RunRow<'a> {
    number: i64,
    measure: &'a str,
    reading: &'a str,
    tonemap: &'a str,
    program: &'a str,
    part: Option<String>,
    joined_of: Option<u32>,
}

#[derive(Serialize)]
struct Counted {
    reason: String,
    takes: u64,
}

#[derive(Serialize)]
struct FoundRow {
    severity: String,
    code: String,
    command: String,
    takes: u64,
}

#[derive(Serialize)]
struct GroupRow {
    group: String,
    takes: usize,
}

/// How a quantity is spread over all takes that were looked at.
#[derive(Serialize)]
struct Spread {
    key: String,
    name: String,
    unit: String,
    #[serde(skip)]
    decimals: usize,
    #[serde(flatten)]
    of_all: Distribution,
    /// The same of each group.
    groups: Vec<GroupSpread>,
}

#[derive(Serialize)]
struct GroupSpread {
    group: String,
    #[serde(flatten)]
    of_group: Distribution,
}

/// A take that stands out.
#[derive(Serialize)]
struct Unusual {
    path: String,
    why: Vec<Why>,
    /// In how many quantities.
    quantities: usize,
}

#[derive(Serialize)]
struct Why {
    key: String,
    name: String,
    unit: String,
    #[serde(skip)]
    decimals: usize,
    value: f64,
    value_u: Option<f64>,
    group: Option<String>,
    median: f64,
    spread: f64,
    times: f64,
    chance: f64,
}

/// A take that is the same recording as another.
#[derive(Serialize)]
struct NearCopy {
    path: String,
    /// When it begins, after the first of the group.
    offset_s: f64,
}

/// A quantity with the values of all takes.
struct Values {
    quantity: Quantity,
    /// Take, value, group.
    members: Vec<(i64, Member)>,
    odd: Vec<Odd>,
}

/// The groups of takes.
struct Groups {
    names: Vec<String>,
    of_take: HashMap<i64, usize>,
}

impl Groups {
    fn of(view: &View<'_>, by: Option<&str>) -> Result<Self> {
        let mut groups = Self { names: Vec::new(), of_take: HashMap::new() };
        let Some(by) = by else { return Ok(groups) };
        let all = view.groups(by).map_err(usage)?;
        let mut names: Vec<&String> = all.iter().map(|(_, name)| name).collect();
        names.sort_by(|a, b| natural(a).partial_cmp(&natural(b)).unwrap_or(a.cmp(b)));
        names.dedup();
        groups.names = names.into_iter().cloned().collect();
        let place: HashMap<&String, usize> =
            groups.names.iter().enumerate().map(|(n, name)| (name, n)).collect();
        groups.of_take =
            all.iter().filter_map(|(id, name)| Some((*id, *place.get(name)?))).collect();
        Ok(groups)
    }

    /// The group of a take; takes of none are compared with each other.
    fn group(&self, id: i64) -> usize {
        self.of_take.get(&id).copied().unwrap_or(self.names.len())
    }
}

/// Groups stand in the order of their numbers, if they begin with one.
fn natural(name: &str) -> (f64, &str) {
    let number = tonemap_study::Condition::read(name).quantity().map(|(number, _)| number);
    (number.unwrap_or(f64::INFINITY), name)
}

/// What was asked for cannot be: that is wrong usage.
fn usage(error: Error) -> anyhow::Error {
    match error {
        Error::Query { .. } => Usage(error.to_string()).into(),
        other => other.into(),
    }
}

impl Show {
    pub(super) fn run(&self) -> Result<Status> {
        output::begin(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        let reader = Reader::open(&self.survey)?;
        let runs = reader.runs()?;
        let Some(run) = self.run_of(&runs)? else {
            bail!("{}: nothing was measured yet", self.survey.display());
        };
        let standing = reader.standing(run.id)?;
        let chosen = Chosen { run: run.id, condition: self.condition.as_deref() };
        let view = reader.choose(chosen).map_err(usage)?;
        let groups = Groups::of(&view, self.by.as_deref())?;
        let (all, odd) = self.values(&view, &groups)?;
        let unusual = self.unusual(&view, odd, &groups)?;
        let shown = self.shown(&all);
        let findings = findings(&groups, &view);
        output::print_notes(&self.output, &findings);
        let result = Shown {
            run: row_of(run),
            runs: runs.iter().map(row_of).collect(),
            standing,
            chosen: view.takes,
            reasons: reasons(&view)?,
            found: found(&view)?,
            groups: group_rows(&groups),
            quantities: shown.iter().filter_map(|one| spread_of(one, &groups)).collect(),
            copies: view.copies()?,
            near_copies: near_copies(&view)?,
            unusual,
        };
        if let Some(file) = &self.figure.figure {
            let drawn = self.draw(&view, &shown, &groups, &findings)?;
            output::write_figure(file, &drawn, self.output.force)?;
        }
        let content = match self.output.format {
            Format::Text => self.text(&result, &findings),
            Format::Csv => spread_table().csv(&result.quantities)?,
            Format::Json => {
                let settings = Settings {
                    survey: self.survey.display().to_string(),
                    condition: self.condition.as_deref(),
                    by: self.by.as_deref(),
                    share: SHARE,
                };
                json::line_of_records("survey", Vec::new(), settings, &result, &findings)?
            }
        };
        output::write_result(&self.output, &content)?;
        Ok(Status::Done)
    }

    fn run_of<'r>(&self, runs: &'r [RunRecord]) -> Result<Option<&'r RunRecord>> {
        let Some(number) = self.run else { return Ok(runs.last()) };
        let found = runs.iter().find(|run| run.id == number);
        let known: Vec<String> = runs.iter().map(|run| run.id.to_string()).collect();
        found.map(Some).ok_or_else(|| {
            Usage(format!("there is no run {number}; there are {}", known.join(", "))).into()
        })
    }

    /// The values of the quantities that are shown, and of all what stands out.
    fn values(&self, view: &View<'_>, groups: &Groups) -> Result<(Vec<Values>, Vec<Values>)> {
        let mut quantities = view.quantities();
        self.check_quantities(&quantities)?;
        if !self.quantities.is_empty() {
            quantities.retain(|one| self.quantities.contains(&one.key()));
        }
        let chief = chief(&quantities, view.takes);
        let count = quantities.len().max(1) as f64;
        let (mut shown, mut with_odd) = (Vec::new(), Vec::new());
        for quantity in quantities {
            let values = view.values(&quantity)?;
            let members: Vec<(i64, Member)> = values
                .into_iter()
                .map(|(id, value)| (id, Member { value, group: groups.group(id) }))
                .collect();
            let plain: Vec<Member> = members.iter().map(|(_, member)| *member).collect();
            let odd = odd(&plain, quantity.column.decimals, SHARE / count);
            let key = quantity.key();
            let is_known = 2 * plain.len() as u64 >= view.takes;
            let spread = distribution(plain.iter().map(|member| member.value.value));
            let is_varied = spread.is_some_and(|one| one.differs(quantity.column.decimals));
            let is_asked = if self.quantities.is_empty() {
                is_known && is_varied && chief.contains(&key)
            } else {
                self.quantities.contains(&key)
            };
            if is_asked {
                let (quantity, members, odd) = (quantity.clone(), members.clone(), odd.clone());
                shown.push(Values { quantity, members, odd });
            }
            if !odd.is_empty() {
                // Of the others only what stands out is kept.
                let members = odd.iter().map(|one| members[one.index]).collect();
                with_odd.push(Values { quantity, members, odd });
            }
        }
        let order = if self.quantities.is_empty() { &chief } else { &self.quantities };
        shown.sort_by_key(|one| order.iter().position(|key| *key == one.quantity.key()));
        Ok((shown, with_odd))
    }

    fn check_quantities(&self, known: &[Quantity]) -> Result<()> {
        for asked in &self.quantities {
            if known.iter().any(|one| one.key() == *asked) {
                continue;
            }
            let keys = known.iter().map(Quantity::key);
            let meant = text::meant(asked, keys);
            return Err(Usage(format!("the survey has no quantity '{asked}'{meant}")).into());
        }
        Ok(())
    }

    /// The takes that stand out most, each with why.
    fn unusual(
        &self,
        view: &View<'_>,
        with_odd: Vec<Values>,
        groups: &Groups,
    ) -> Result<Vec<Unusual>> {
        let mut of_take: BTreeMap<i64, Vec<Why>> = BTreeMap::new();
        for Values { quantity, members, odd } in with_odd {
            for ((id, member), one) in members.iter().zip(odd) {
                let Measured { value, u } = member.value;
                of_take.entry(*id).or_default().push(Why {
                    key: quantity.key(),
                    name: quantity.column.words.clone(),
                    unit: quantity.column.unit.clone(),
                    decimals: quantity.column.decimals,
                    value,
                    value_u: Some(u).filter(|u| u.is_finite()),
                    group: groups.names.get(member.group).cloned(),
                    median: one.median,
                    spread: one.spread,
                    times: one.times,
                    chance: one.chance,
                });
            }
        }
        let mut all: Vec<(i64, Vec<Why>)> = of_take.into_iter().collect();
        for (_, why) in &mut all {
            why.sort_by(|a, b| a.chance.total_cmp(&b.chance).then(b.times.total_cmp(&a.times)));
        }
        all.sort_by(|(_, a), (_, b)| {
            let first = a[0].chance.total_cmp(&b[0].chance);
            first.then(b[0].times.total_cmp(&a[0].times))
        });
        all.truncate(self.most);
        let ids: Vec<i64> = all.iter().map(|(id, _)| *id).collect();
        let paths = view.paths(&ids)?;
        Ok(all
            .into_iter()
            .map(|(id, mut why)| {
                let quantities = why.len();
                // The same of another stretch of the take says nothing new.
                let mut fields: Vec<String> = Vec::new();
                why.retain(|one| {
                    let field = one.key.rsplit('.').next().unwrap_or_default().to_string();
                    let is_new = !fields.contains(&field);
                    fields.push(field);
                    is_new
                });
                why.truncate(REASONS);
                Unusual { path: paths.get(&id).cloned().unwrap_or_default(), why, quantities }
            })
            .collect())
    }

    /// Those that are listed.
    fn shown<'v>(&self, all: &'v [Values]) -> Vec<&'v Values> {
        let most = if self.quantities.is_empty() { LISTED } else { all.len() };
        all.iter().take(most).collect()
    }

    fn draw(
        &self,
        view: &View<'_>,
        shown: &[&Values],
        groups: &Groups,
        findings: &[Finding],
    ) -> Result<tonemap_figures::Figure> {
        let panels: Vec<SurveyPanel> = shown
            .iter()
            .take(DRAWN)
            .map(|one| panel_of(view, one, groups))
            .collect::<Result<_>>()?;
        let name = self.survey.file_name().unwrap_or(self.survey.as_os_str());
        let title = match &self.by {
            Some(by) => format!("{} by {by}", name.display()),
            None => name.display().to_string(),
        };
        let mut notes = vec![format!(
            "{}; {}",
            text::takes(view.takes),
            if groups.names.is_empty() {
                "height: number of takes; line: median; squares: what stands out"
            } else {
                "box: quartiles with the median; whiskers: 5 and 95 %; squares: what stands out in \
                 its group"
            }
        )];
        notes.extend(self.condition.iter().map(|condition| format!("where {condition}")));
        let figure = SurveyFigure {
            panels: &panels,
            by: self.by.as_deref().unwrap_or(""),
            words: Words { title: &title, notes: &notes, findings },
        };
        Ok(survey_figure(&figure, self.figure.size)?)
    }

    fn text(&self, result: &Shown<'_>, findings: &[Finding]) -> String {
        let mut parts = vec![head(&self.survey.display().to_string(), result)];
        if !result.reasons.is_empty() {
            let table = Table::new()
                .words("", "why something is missing", |row: &&Counted| row.reason.clone())
                .count("", "takes", |row| row.takes);
            parts.push(table.text(&result.reasons.iter().take(ROWS).collect::<Vec<_>>()));
        }
        if !result.found.is_empty() {
            let table = Table::new()
                .words("", "found", |row: &&FoundRow| row.code.replace('_', " "))
                .words("", "severity", |row| row.severity.clone())
                .words("", "by", |row| row.command.clone())
                .count("", "takes", |row| row.takes);
            parts.push(table.text(&result.found.iter().take(ROWS).collect::<Vec<_>>()));
        }
        if !result.groups.is_empty() {
            let table = Table::new()
                .words("", self.by.clone().unwrap_or_default(), |row: &&GroupRow| row.group.clone())
                .count("", "takes", |row| row.takes as u64);
            parts.push(table.text(&result.groups.iter().take(2 * ROWS).collect::<Vec<_>>()));
        }
        parts.push(spread_table().text(&result.quantities.iter().collect::<Vec<_>>()));
        parts.push(unusual_text(&result.unusual));
        parts.push(copies_text(result));
        parts.push(text::findings(findings));
        parts.retain(|part| !part.trim().is_empty());
        parts.join("\n")
    }
}

fn row_of(run: &RunRecord) -> RunRow<'_> {
    let identity = &run.identity;
    RunRow {
        number: run.id,
        measure: &identity.measure,
        reading: &identity.reading,
        tonemap: &identity.tonemap,
        program: &identity.program,
        part: identity.part.map(|part| part.to_string()),
        joined_of: run.joined_of,
    }
}

/// Quantities that are shown if none is asked for: of each command in turn those right under the
/// result or of a first item, those with an uncertainty first.
fn chief(quantities: &[Quantity], takes: u64) -> Vec<String> {
    let mut by_command: BTreeMap<&str, Vec<&Quantity>> = BTreeMap::new();
    for one in quantities.iter().filter(|_| takes > 0) {
        let key = &one.column.key;
        let is_chief =
            !key.contains(['.', '[']) || key.contains("[1].") && !key.contains("regions");
        let is_time = key.ends_with("start_s") || key.ends_with("end_s");
        if is_chief && !is_time {
            by_command.entry(&one.command).or_default().push(one);
        }
    }
    for all in by_command.values_mut() {
        all.sort_by_key(|one| !one.column.has_u);
    }
    let longest = by_command.values().map(Vec::len).max().unwrap_or(0);
    let in_turn = (0..longest).flat_map(|n| {
        let nth = by_command.values().filter_map(move |all| all.get(n));
        nth.map(|one| one.key()).collect::<Vec<_>>()
    });
    in_turn.take(4 * LISTED).collect()
}

fn spread_of(one: &Values, groups: &Groups) -> Option<Spread> {
    let values = |group: Option<usize>| {
        let members = one.members.iter().map(|(_, member)| member);
        let of_group = members.filter(move |member| group.is_none_or(|n| n == member.group));
        of_group.map(|member| member.value.value)
    };
    let of_group = |(n, name): (usize, &String)| {
        Some(GroupSpread { group: name.clone(), of_group: distribution(values(Some(n)))? })
    };
    Some(Spread {
        key: one.quantity.key(),
        name: one.quantity.column.words.clone(),
        unit: one.quantity.column.unit.clone(),
        decimals: one.quantity.column.decimals,
        of_all: distribution(values(None))?,
        groups: groups.names.iter().enumerate().filter_map(of_group).collect(),
    })
}

fn panel_of(view: &View<'_>, one: &Values, groups: &Groups) -> Result<SurveyPanel> {
    let mut named: Vec<&Odd> = one.odd.iter().collect();
    named.sort_by(|a, b| b.times.total_cmp(&a.times));
    let named: Vec<i64> = named.iter().take(NAMED).map(|odd| one.members[odd.index].0).collect();
    let paths = view.paths(&named)?;
    let count = groups.names.len().max(1);
    let of_group = |n: usize| {
        let members = one.members.iter().filter(move |(_, member)| member.group == n);
        let spread = distribution(members.map(|(_, member)| member.value.value))?;
        let odd = one.odd.iter().map(|odd| one.members[odd.index]);
        let odd = odd.filter(|(_, member)| member.group == n).map(|(id, member)| {
            let name = paths.get(&id).map(|path| name_of(path).to_string());
            (member.value.value, name)
        });
        let name = groups.names.get(n).map_or("", |name| name_of(name)).to_string();
        Some(SurveyGroup { name, spread, odd: odd.collect() })
    };
    let drawn: Vec<SurveyGroup> = (0..count).filter_map(of_group).collect();
    let values: Vec<f64> = one.members.iter().map(|(_, member)| member.value.value).collect();
    let histogram = match (groups.names.is_empty(), drawn.first()) {
        (true, Some(only)) => Some(histogram(&values, &only.spread, STEPS)),
        _ => None,
    };
    Ok(SurveyPanel { title: one.quantity.title(), groups: drawn, histogram })
}

fn findings(groups: &Groups, view: &View<'_>) -> Vec<Finding> {
    let mut counts = vec![0; groups.names.len()];
    groups.of_take.values().for_each(|group| counts[*group] += 1);
    let small: usize = counts.iter().filter(|count| **count < LEAST_GROUP).sum();
    let few = groups.names.is_empty() && view.takes < LEAST_GROUP as u64;
    if small == 0 && !few {
        return Vec::new();
    }
    let what = if few {
        format!("There are fewer than {LEAST_GROUP} takes")
    } else {
        let takes = if small == 1 { "One take is".into() } else { format!("{small} takes are") };
        format!("{takes} in groups of fewer than {LEAST_GROUP}")
    };
    vec![Finding::note(
        "small_groups",
        format!("{what}: that is too few to say what stands out among them."),
    )]
}

fn reasons(view: &View<'_>) -> Result<Vec<Counted>> {
    let all = view.reasons()?.into_iter();
    Ok(all.map(|(said, takes)| Counted { reason: said.concat(), takes }).collect())
}

fn found(view: &View<'_>) -> Result<Vec<FoundRow>> {
    let row = |(said, takes): (Vec<String>, u64)| {
        let mut said = said.into_iter();
        let mut next = || said.next().unwrap_or_default();
        FoundRow { severity: next(), code: next(), command: next(), takes }
    };
    Ok(view.findings()?.into_iter().map(row).collect())
}

fn group_rows(groups: &Groups) -> Vec<GroupRow> {
    let mut counts = vec![0; groups.names.len()];
    groups.of_take.values().for_each(|group| counts[*group] += 1);
    let rows = groups.names.iter().zip(counts);
    rows.map(|(group, takes)| GroupRow { group: group.clone(), takes }).collect()
}

/// Takes that are one recording and yet not the same file, in groups.
fn near_copies(view: &View<'_>) -> Result<Vec<Vec<NearCopy>>> {
    let (mut finder, mut ids) = (Finder::default(), Vec::new());
    view.prints(|id, words| {
        finder.push(&words);
        ids.push(id);
        Ok(())
    })?;
    // Which group a take is in, and when it begins in that: each begins alone.
    let mut place: BTreeMap<i64, (i64, f64)> = BTreeMap::new();
    let mut members: BTreeMap<i64, Vec<i64>> = BTreeMap::new();
    for (first, second) in finder.pairs() {
        let (first, second) = (ids[first as usize], ids[second as usize]);
        let at = |place: &BTreeMap<i64, (i64, f64)>, id: i64| {
            place.get(&id).copied().unwrap_or((id, 0.0))
        };
        let ((kept, first_s), (joined, second_s)) = (at(&place, first), at(&place, second));
        if kept == joined {
            continue;
        }
        let Some(Alike { offset_s, .. }) = alike(&view.print(first)?, &view.print(second)?) else {
            continue;
        };
        let shift_s = first_s + offset_s - second_s;
        for id in members.remove(&joined).unwrap_or_else(|| vec![joined]) {
            let (_, own_s) = at(&place, id);
            place.insert(id, (kept, own_s + shift_s));
            members.entry(kept).or_insert_with(|| vec![kept]).push(id);
        }
        place.entry(first).or_insert((kept, first_s));
    }
    let all: Vec<i64> = members.values().flatten().copied().collect();
    let paths = view.paths(&all)?;
    let mut groups = Vec::new();
    for mut group in members.into_values() {
        group.sort_unstable();
        let contents = view.contents(&group)?;
        if contents.iter().all(|hash| *hash == contents[0]) {
            continue;
        }
        let begins_s = |id: &i64| place.get(id).map_or(0.0, |(_, begins_s)| *begins_s);
        let first_s = begins_s(&group[0]);
        let near = |id: &i64| NearCopy {
            path: paths.get(id).cloned().unwrap_or_default(),
            offset_s: begins_s(id) - first_s,
        };
        groups.push(group.iter().map(near).collect());
    }
    Ok(groups)
}

fn head(name: &str, result: &Shown<'_>) -> String {
    let Standing { takes, measured, failed, waiting, sound_s } = result.standing;
    let mut said = vec![text::takes(takes)];
    said.push(format!("{} measured", text::grouped(measured)));
    if failed > 0 {
        said.push(format!("{} not in full", text::grouped(failed)));
    }
    if waiting > 0 {
        said.push(format!("{} not yet", text::grouped(waiting)));
    }
    said.push(format!("{} h of sound", text::significant(sound_s / 3600.0)));
    let mut lines = vec![text::head(&format!("{name}: {}", result.run.measure)), said.join(", ")];
    if result.chosen != takes - waiting {
        let are = if result.chosen == 1 { "is" } else { "are" };
        lines.push(format!("{} {are} looked at", text::takes(result.chosen)));
    }
    lines.extend(result.run.joined_of.map(|of| format!("joined of {of} parts")));
    if result.runs.len() > 1 {
        let others = result.runs.iter().filter(|run| run.number != result.run.number);
        let others: Vec<String> =
            others.map(|run| format!("--run {}: {}", run.number, run.measure)).collect();
        lines.push(format!("other runs: {}", others.join("; ")));
    }
    lines.join("\n") + "\n"
}

fn spread_table<'t>() -> Table<'t, &'t Spread> {
    let printed = |value: f64, row: &&Spread| text::number(value, row.decimals);
    Table::new()
        .words("key", "quantity", |row: &&Spread| row.key.clone())
        .words("unit", "unit", |row| row.unit.clone())
        .count("count", "takes", |row| row.of_all.count as u64)
        .number("least", "", 6, |row| Some(row.of_all.least))
        .number("low", "", 6, |row| Some(row.of_all.low))
        .number("lower_quartile", "", 6, |row| Some(row.of_all.lower_quartile))
        .number("median", "", 6, |row| Some(row.of_all.median))
        .number("upper_quartile", "", 6, |row| Some(row.of_all.upper_quartile))
        .number("high", "", 6, |row| Some(row.of_all.high))
        .number("greatest", "", 6, |row| Some(row.of_all.greatest))
        .printed("least", move |row| printed(row.of_all.least, row))
        .printed("5 %", move |row| printed(row.of_all.low, row))
        .printed("median", move |row| printed(row.of_all.median, row))
        .printed("95 %", move |row| printed(row.of_all.high, row))
        .printed("greatest", move |row| printed(row.of_all.greatest, row))
}

/// The takes that stand out, in words: the take, and below it why.
fn unusual_text(unusual: &[Unusual]) -> String {
    if unusual.is_empty() {
        return "no take stands out\n".into();
    }
    let mut lines = vec!["takes that stand out, the most unusual first".to_string()];
    for one in unusual {
        lines.push(format!("  {}", one.path));
        lines.extend(one.why.iter().map(|why| format!("      {}", why_words(why))));
        let more = one.quantities - one.why.len();
        let word = if more == 1 { "quantity" } else { "quantities" };
        lines.extend((more > 0).then(|| format!("      and {more} more {word}")));
    }
    lines.join("\n") + "\n"
}

fn why_words(why: &Why) -> String {
    let unit = if why.unit.is_empty() { String::new() } else { format!(" {}", why.unit) };
    let value = match why.value_u {
        Some(u) => {
            let [value, u] = text::measured(why.value, u, why.decimals);
            format!("{value} ± {u}")
        }
        None => text::number(why.value, why.decimals),
    };
    let group = why.group.as_ref().map_or("all".into(), |group| format!("'{group}'"));
    let median = text::number(why.median, why.decimals);
    let times = text::significant(why.times);
    format!("{}: {value}{unit}; median of {group} {median}{unit}, {times} spreads off", why.key)
}

fn copies_text(result: &Shown<'_>) -> String {
    let list = |heading: &str, groups: Vec<Vec<String>>| {
        let head = (!groups.is_empty()).then(|| format!("{heading}\n"));
        let more = groups.len().saturating_sub(ROWS);
        let more = (more > 0).then(|| format!("  and {more} more\n"));
        let listed = groups.into_iter().take(ROWS);
        let listed = listed.map(|group| text::listed("", group.into_iter(), ROWS));
        head.into_iter().chain(listed).chain(more).collect::<String>()
    };
    let near = |one: &NearCopy| match text::number(one.offset_s, 2).as_str() {
        "0.00" | "−0.00" => one.path.clone(),
        offset => format!("{} (from {offset} s on)", one.path),
    };
    let groups = result.near_copies.iter().map(|group| group.iter().map(near).collect());
    list("the same file under several names", result.copies.clone())
        + &list("one recording in several files", groups.collect())
}
