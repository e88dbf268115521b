//! Parts of a survey put together.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use rusqlite::{Connection, params};

use crate::database::{
    Identity, Reader, RunRecord, add_column, columns_in_order, insert_run, make_table, make_tables,
    quoted,
};
use crate::error::Error;
use crate::rows::Column;

/// What was joined.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize)]
pub struct Joined {
    /// Parts.
    pub parts: u64,
    /// Takes.
    pub takes: u64,
    /// Takes that wait to be measured, in their parts.
    pub waiting: u64,
}

/// Puts parts together in a new file that must not be there yet, and says what is in it. Takes are
/// numbered in the order of their paths, as if one machine had measured them all; the same parts
/// give the same file, in whichever order they are named.
///
/// Each part must be there once, unless `incomplete` says otherwise, and all must be of the same
/// commands, options and program.
pub fn join(parts: &[PathBuf], into: &Path, incomplete: bool) -> Result<Joined, Error> {
    let mut runs: Vec<(PathBuf, RunRecord)> = Vec::new();
    let mut tables: BTreeMap<String, Table> = BTreeMap::new();
    for file in parts {
        let reader = Reader::open(file)?;
        let of_file = reader.runs()?;
        if of_file.is_empty() {
            let reason = "it holds no take yet; measure the part".into();
            return Err(Error::PartsDiffer { file: file.clone(), reason });
        }
        runs.extend(of_file.into_iter().map(|run| (file.clone(), run)));
        for (name, columns) in columns_in_order(&reader.connection)? {
            let table = tables.entry(name.clone()).or_default();
            table.merge(&reader.connection, &name, columns)?;
        }
    }
    check(&mut runs, incomplete)?;
    let connection = Connection::open(into)?;
    connection.pragma_update(None, "journal_mode", "off")?;
    connection.pragma_update(None, "synchronous", "off")?;
    connection.pragma_update(None, "cache_size", -200_000)?;
    make_tables(&connection)?;
    for (name, table) in &tables {
        make_table(&connection, name, table.is_wide, &table.item)?;
        for column in &table.columns {
            add_column(&connection, name, column)?;
        }
    }
    number_takes(&connection, &runs)?;
    for file in files_of(&runs) {
        copy(&connection, &file, &tables)?;
    }
    let joined =
        connection.query_row("SELECT count(*), coalesce(sum(waits), 0) FROM takes", [], |row| {
            Ok(Joined {
                parts: files_of(&runs).len() as u64,
                takes: row.get::<_, i64>(0)? as u64,
                waiting: row.get::<_, i64>(1)? as u64,
            })
        })?;
    connection.execute_batch("DROP TABLE temp.numbered; PRAGMA optimize;")?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.close().map_err(|(_, error)| Error::from(error))?;
    Ok(joined)
}

/// A table of numbers as it is in all parts together.
#[derive(Debug, Default)]
struct Table {
    is_wide: bool,
    /// Columns that say which item a row is of.
    item: Vec<String>,
    columns: Vec<Column>,
}

impl Table {
    fn merge(
        &mut self,
        connection: &Connection,
        name: &str,
        columns: Vec<Column>,
    ) -> Result<(), Error> {
        let mut all = connection.prepare(&format!("PRAGMA table_info({})", quoted(name)))?;
        let names = all.query_map([], |row| row.get::<_, String>(1))?;
        let names: Vec<String> = names.collect::<rusqlite::Result<_>>()?;
        self.is_wide = names.iter().any(|name| name == "settings");
        let is_number = |name: &String| {
            let base = name.strip_suffix("_u").unwrap_or(name);
            columns.iter().any(|column| column.name == *name || column.name == base)
        };
        let own = ["take_id", "settings"];
        self.item = names
            .iter()
            .filter(|name| !own.contains(&name.as_str()) && !is_number(name))
            .cloned()
            .collect();
        let missing: Vec<Column> =
            columns.into_iter().filter(|column| !self.columns.contains(column)).collect();
        self.columns.extend(missing);
        Ok(())
    }
}

/// The files of parts, in the order of their numbers.
fn files_of(runs: &[(PathBuf, RunRecord)]) -> Vec<PathBuf> {
    let mut files: Vec<(u32, PathBuf)> = runs
        .iter()
        .map(|(file, run)| (run.identity.part.map_or(0, |part| part.number), file.clone()))
        .collect();
    files.sort();
    files.dedup();
    files.into_iter().map(|(_, file)| file).collect()
}

/// Finds out whether parts belong together, and whether one is missing. A part that is named twice
/// counts once.
fn check(runs: &mut Vec<(PathBuf, RunRecord)>, incomplete: bool) -> Result<(), Error> {
    let refuse =
        |file: &Path, reason: String| Err(Error::PartsDiffer { file: file.into(), reason });
    let Some((first_file, first)) = runs.first().cloned() else {
        return Err(Error::Table("there is nothing to join".into()));
    };
    let mut seen: BTreeMap<u32, PathBuf> = BTreeMap::new();
    for (file, run) in runs.iter() {
        let Some(part) = run.identity.part else {
            return refuse(file, "it is no part: it holds all takes".into());
        };
        let of = first.identity.part.map_or(0, |part| part.of);
        if part.of != of {
            let first = first_file.display();
            return refuse(file, format!("it is of {} parts, and {first} is of {of}", part.of));
        }
        let known = seen.entry(part.number).or_insert_with(|| file.clone());
        if known.canonicalize().ok() != file.canonicalize().ok() {
            return refuse(file, format!("part {part} is in {} already", known.display()));
        }
    }
    runs.retain(|(file, run)| {
        run.identity.part.is_some_and(|part| seen.get(&part.number) == Some(file))
    });
    // Every part must have every run.
    let what = |run: &RunRecord| Identity { part: None, ..run.identity.clone() };
    let mut by_file: BTreeMap<PathBuf, Vec<Identity>> = BTreeMap::new();
    for (file, run) in runs.iter() {
        let all = by_file.entry(file.clone()).or_default();
        if !all.contains(&what(run)) {
            all.push(what(run));
        }
    }
    let wanted: Vec<Identity> = by_file.get(&first_file).cloned().unwrap_or_default();
    for (file, has) in &by_file {
        if let Some(other) = has.iter().find(|one| !wanted.contains(one)) {
            return refuse(file, difference(other, &wanted, &first_file));
        }
        if let Some(lacking) = wanted.iter().find(|one| !has.contains(one)) {
            return refuse(file, format!("it lacks the run of '{}'", lacking.measure));
        }
    }
    let of = first.identity.part.map_or(0, |part| part.of);
    let missing: Vec<String> =
        (1..=of).filter(|n| !seen.contains_key(n)).map(|n| n.to_string()).collect();
    if !missing.is_empty() && !incomplete {
        let what = if missing.len() == 1 { "a part is" } else { "parts are" };
        return Err(Error::PartsMissing { what, missing: missing.join(", "), of });
    }
    Ok(())
}

/// In what a run is different from those of another part.
fn difference(run: &Identity, wanted: &[Identity], first: &Path) -> String {
    let first = first.display();
    let like = wanted.iter().find(|one| one.measure == run.measure);
    match like {
        None => format!("it measured '{}', and {first} did not", run.measure),
        Some(one) if one.reading != run.reading => {
            format!("its takes were read in another way than those of {first}")
        }
        Some(one) if one.tonemap != run.tonemap => {
            format!("it was measured by version {}, and {first} by {}", run.tonemap, one.tonemap)
        }
        Some(_) => format!("it was measured by another build of the program than {first}"),
    }
}

/// Numbers the takes of all parts in the order of their paths, run by run.
fn number_takes(connection: &Connection, runs: &[(PathBuf, RunRecord)]) -> Result<(), Error> {
    connection.execute_batch(
        "CREATE TEMP TABLE gathered (
            run_id INTEGER, path TEXT, file INTEGER, old_id INTEGER,
            PRIMARY KEY (run_id, path)
         ) WITHOUT ROWID;
         CREATE TEMP TABLE numbered (
            file INTEGER, old_id INTEGER, run_id INTEGER, id INTEGER, PRIMARY KEY (file, old_id)
         ) WITHOUT ROWID;",
    )?;
    let files = files_of(runs);
    let mut known: Vec<Identity> = Vec::new();
    for (file, run) in runs {
        let identity = Identity { part: None, ..run.identity.clone() };
        let place = known.iter().position(|one| *one == identity).unwrap_or_else(|| {
            known.push(identity.clone());
            known.len() - 1
        });
        if known.len()
            > connection.query_row("SELECT count(*) FROM runs", [], |row| {
                row.get::<_, i64>(0).map(|n| n as usize)
            })?
        {
            // The first part began first, as far as its clock is right.
            let of = run.identity.part.map(|part| part.of);
            insert_run(connection, &identity, of, &run.began)?;
        }
        let number = files.iter().position(|one| one == file).unwrap_or(0);
        attached(connection, file, || {
            connection.execute(
                "INSERT OR IGNORE INTO temp.gathered
                 SELECT ?1, path, ?2, id FROM part.takes WHERE run_id = ?3",
                params![place as i64 + 1, number as i64, run.id],
            )?;
            Ok(())
        })?;
    }
    connection.execute_batch(
        "INSERT INTO temp.numbered SELECT file, old_id, run_id,
            row_number() OVER (ORDER BY run_id, path) FROM temp.gathered;
         DROP TABLE temp.gathered;
         CREATE TEMP TABLE file_number (n INTEGER);
         INSERT INTO temp.file_number VALUES (-1);",
    )?;
    Ok(())
}

/// Does something while a part is at hand under the name `part`.
fn attached<T>(
    connection: &Connection,
    file: &Path,
    work: impl FnOnce() -> Result<T, Error>,
) -> Result<T, Error> {
    connection.execute("ATTACH ?1 AS part", [file.to_string_lossy()])?;
    let done = work();
    connection.execute_batch("DETACH part")?;
    done
}

/// Copies all rows of a part.
fn copy(
    connection: &Connection,
    file: &Path,
    tables: &BTreeMap<String, Table>,
) -> Result<(), Error> {
    connection.execute_batch("UPDATE temp.file_number SET n = n + 1")?;
    let joined = "JOIN temp.numbered ON numbered.file = (SELECT n FROM temp.file_number)
                  AND numbered.old_id =";
    attached(connection, file, || {
        connection.execute_batch(&format!(
            "BEGIN;
             INSERT INTO takes (id, run_id, path, folder, reason, waits, bytes, modified_ns, blake3,
                sample_rate_hz, channels, duration_s, level_reference)
             SELECT numbered.id, numbered.run_id, path, folder, reason, waits, bytes, modified_ns,
                blake3, sample_rate_hz, channels, duration_s, level_reference
             FROM part.takes {joined} takes.id ORDER BY numbered.id;
             INSERT INTO findings SELECT numbered.id, command, number, code, severity, channel, text
             FROM part.findings {joined} take_id ORDER BY numbered.id;
             INSERT INTO conditions SELECT numbered.id, name, value
             FROM part.conditions {joined} take_id ORDER BY numbered.id;
             INSERT INTO prints SELECT numbered.id, words
             FROM part.prints {joined} take_id ORDER BY numbered.id;
             INSERT OR IGNORE INTO settings SELECT hash, command, json FROM part.settings;"
        ))?;
        for (name, table) in tables {
            let there = columns_in_part(connection, name)?;
            if there.is_empty() {
                continue;
            }
            let names: Vec<String> =
                there.iter().filter(|name| *name != "take_id").map(|name| quoted(name)).collect();
            let name = quoted(name);
            let order: Vec<String> = table.item.iter().map(|name| quoted(name)).collect();
            let order = order.iter().fold("numbered.id".to_string(), |all, one| all + ", " + one);
            connection.execute_batch(&format!(
                "INSERT INTO {name} (take_id, {names}) SELECT numbered.id, {names}
                 FROM part.{name} {joined} take_id ORDER BY {order}",
                names = names.join(", ")
            ))?;
        }
        connection.execute_batch("COMMIT")?;
        Ok(())
    })
}

fn columns_in_part(connection: &Connection, table: &str) -> Result<BTreeSet<String>, Error> {
    let mut all = connection.prepare("SELECT name FROM pragma_table_info(?1, 'part')")?;
    let names = all.query_map([table], |row| row.get(0))?;
    Ok(names.collect::<rusqlite::Result<_>>()?)
}
