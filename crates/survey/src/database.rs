//! The file of a survey: its form, what waits to be measured, and what was.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, params, params_from_iter};
use tonemap_core::Finding;
use tonemap_core::quantity::Quantity;

use crate::error::Error;
use crate::part::Part;
use crate::rows::{self, Column, Row};
use crate::walk::{self, About, Found};

/// Says that a database is a survey: "Tone".
pub(crate) const APPLICATION: i32 = 0x546f_6e65;
/// The form of its tables.
pub(crate) const FORM: i32 = 1;
/// Why a take that waits has no numbers yet.
pub(crate) const NOT_YET: &str = "not measured yet";
/// How long a process waits for another that writes.
const PATIENCE: Duration = Duration::from_secs(600);

const TABLES: &str = "
CREATE TABLE runs (
    id INTEGER PRIMARY KEY, measure TEXT NOT NULL, reading TEXT NOT NULL, tonemap TEXT NOT NULL,
    program TEXT NOT NULL, part INTEGER, parts INTEGER, began TEXT NOT NULL
);
CREATE TABLE takes (
    id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES runs (id), path TEXT NOT NULL,
    folder TEXT NOT NULL, reason TEXT, waits INTEGER NOT NULL, bytes INTEGER NOT NULL,
    modified_ns INTEGER NOT NULL, blake3 TEXT, sample_rate_hz REAL, channels INTEGER,
    duration_s REAL, level_reference TEXT, UNIQUE (run_id, path)
);
CREATE INDEX takes_that_wait ON takes (run_id, id) WHERE waits = 1;
CREATE TABLE findings (
    take_id INTEGER NOT NULL REFERENCES takes (id), command TEXT NOT NULL, number INTEGER NOT NULL,
    code TEXT NOT NULL, severity TEXT NOT NULL, channel TEXT, text TEXT NOT NULL,
    PRIMARY KEY (take_id, command, number)
) WITHOUT ROWID;
CREATE TABLE conditions (
    take_id INTEGER NOT NULL REFERENCES takes (id), name TEXT NOT NULL, value TEXT NOT NULL,
    PRIMARY KEY (take_id, name)
) WITHOUT ROWID;
CREATE TABLE prints (
    take_id INTEGER PRIMARY KEY REFERENCES takes (id), words BLOB NOT NULL
);
CREATE TABLE settings (hash TEXT PRIMARY KEY, command TEXT NOT NULL, json TEXT NOT NULL)
    WITHOUT ROWID;
CREATE TABLE columns (
    table_name TEXT NOT NULL, column_name TEXT NOT NULL, key TEXT NOT NULL, name TEXT NOT NULL,
    unit TEXT NOT NULL, decimals INTEGER NOT NULL, has_u INTEGER NOT NULL,
    PRIMARY KEY (table_name, column_name)
) WITHOUT ROWID;
";

/// What makes two runs the same: takes of the same are measured once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// Commands with their options.
    pub measure: String,
    /// How takes are read.
    pub reading: String,
    /// Version of the program.
    pub tonemap: String,
    /// Hash of the program.
    pub program: String,
    /// The share of the takes.
    pub part: Option<Part>,
}

/// What of the takes was known before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Listed {
    /// All takes of the run.
    pub takes: u64,
    /// Those that are to be measured.
    pub waiting: u64,
    /// Those that were measured before and are no longer there.
    pub gone: u64,
}

/// A take that is to be measured.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiting {
    /// Its number.
    pub id: i64,
    /// Its file.
    pub path: PathBuf,
    /// Hash of its content when it was last measured.
    pub blake3: Option<String>,
    /// Whether something could not be measured then.
    pub failed: bool,
}

/// What a file says of its sound.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SoundInfo {
    /// Samples a second of each channel.
    pub sample_rate_hz: f64,
    /// Channels.
    pub channels: u64,
    /// Length.
    pub duration_s: f64,
    /// What levels refer to, in words.
    pub level_reference: &'static str,
}

/// What a command gave for a take.
#[derive(Debug, Clone, PartialEq)]
pub struct Result {
    /// The command.
    pub command: &'static str,
    /// Its settings as JSON.
    pub settings: String,
    /// Its numbers.
    pub quantities: Vec<Quantity>,
    /// What was found.
    pub findings: Vec<Finding>,
}

/// What was measured of a take.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct MeasuredTake {
    /// Hash of its content, if it could be read.
    pub blake3: Option<String>,
    /// Why something is missing, if something is.
    pub reason: Option<String>,
    /// What the file says of its sound, if it could be opened.
    pub info: Option<SoundInfo>,
    /// Under which conditions it was made.
    pub conditions: Vec<(String, String)>,
    /// What each command gave.
    pub results: Vec<Result>,
    /// Its fingerprint.
    pub print: Vec<u16>,
}

/// How the work on a take ended.
#[derive(Debug, Clone, PartialEq)]
pub struct Outcome {
    /// Number of the take.
    pub id: i64,
    /// Its file as it was read.
    pub about: Option<About>,
    /// What was measured; `None` if its content is the same as before.
    pub measured: Option<MeasuredTake>,
}

/// A run in a survey.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunRecord {
    /// Its number.
    pub id: i64,
    /// What it is.
    pub identity: Identity,
    /// Of how many parts it was joined.
    pub joined_of: Option<u32>,
    /// When it began.
    pub began: String,
}

/// How far a run has come.
#[derive(Debug, Clone, Copy, PartialEq, Default, serde::Serialize)]
pub struct Standing {
    /// Takes.
    pub takes: u64,
    /// Takes of which all was measured.
    pub measured: u64,
    /// Takes of which something could not be.
    pub failed: u64,
    /// Takes that wait.
    pub waiting: u64,
    /// Their sound.
    pub sound_s: f64,
}

/// A survey that is written to.
pub struct Survey {
    connection: Connection,
    file: PathBuf,
    /// Columns that there are, by table.
    known: HashMap<String, HashSet<String>>,
}

/// A survey that is read.
pub struct Reader {
    pub(crate) connection: Connection,
    pub(crate) file: PathBuf,
}

/// Says what is wrong with a file that is no survey, or one of another form.
fn check_form(connection: &Connection, file: &Path) -> std::result::Result<bool, Error> {
    let number = |name: &str| -> rusqlite::Result<i32> {
        connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get(0))
    };
    let asked = number("application_id").and_then(|application| {
        let tables: i32 =
            connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
        Ok((application, number("user_version")?, tables))
    });
    match asked {
        Ok((0, 0, 0)) => Ok(false),
        Ok((APPLICATION, FORM, _)) => Ok(true),
        Ok((APPLICATION, found, _)) => {
            Err(Error::OtherForm { file: file.into(), found, known: FORM })
        }
        Ok(_) => Err(Error::NotASurvey(file.into())),
        Err(error) => match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::NotADatabase) => Err(Error::NotASurvey(file.into())),
            _ => Err(error.into()),
        },
    }
}

/// A name as SQL has it.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Makes the tables of an empty database.
pub(crate) fn make_tables(connection: &Connection) -> std::result::Result<(), Error> {
    connection.execute_batch(&format!(
        "BEGIN; {TABLES} PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {FORM}; \
         COMMIT;"
    ))?;
    Ok(())
}

impl Survey {
    /// Opens a survey to write to, and makes it if it is not there.
    pub fn open(file: &Path) -> std::result::Result<Self, Error> {
        let connection = Connection::open(file)?;
        connection.busy_timeout(PATIENCE)?;
        let is_made = check_form(&connection, file)?;
        connection.pragma_update(None, "journal_mode", "wal")?;
        connection.pragma_update(None, "synchronous", "full")?;
        connection.pragma_update(None, "cache_size", -32_000)?;
        if !is_made {
            make_tables(&connection)?;
        }
        connection.set_prepared_statement_cache_capacity(256);
        let mut survey = Self { connection, file: file.into(), known: HashMap::new() };
        survey.known = columns_of(&survey.connection)?;
        Ok(survey)
    }

    /// The number of a run, which begins with this if it is new. A survey holds one part.
    pub fn run(&mut self, identity: &Identity, began: &str) -> std::result::Result<i64, Error> {
        for run in runs_of(&self.connection)? {
            if run.identity.part != identity.part {
                let words = |part: Option<Part>| {
                    part.map_or_else(|| "all takes".to_string(), |part| format!("part {part}"))
                };
                let (found, asked) = (words(run.identity.part), words(identity.part));
                return Err(Error::OtherPart { found, asked });
            }
            if run.identity == *identity {
                return Ok(run.id);
            }
        }
        insert_run(&self.connection, identity, None, began)?;
        Ok(self.connection.last_insert_rowid())
    }

    /// Notes the takes that were found, all of them or none: those that are new, or have another
    /// length or time than when they were measured, wait to be measured, and so do those that
    /// could not be, if `again` says so. They are numbered in the order of their paths.
    pub fn list(
        &mut self,
        run: i64,
        again: bool,
        find: impl FnOnce(
            &mut dyn FnMut(Found) -> std::result::Result<(), Error>,
        ) -> std::result::Result<Vec<String>, Error>,
    ) -> std::result::Result<(Listed, Vec<String>), Error> {
        self.connection.execute_batch(
            "DROP TABLE IF EXISTS temp.found;
             CREATE TEMP TABLE found (
                path TEXT PRIMARY KEY, folder TEXT NOT NULL, bytes INTEGER NOT NULL,
                modified_ns INTEGER NOT NULL
             ) WITHOUT ROWID;",
        )?;
        let transaction = self.connection.transaction()?;
        let own = self.file.canonicalize().ok();
        let problems = {
            let mut insert =
                transaction.prepare("INSERT OR IGNORE INTO temp.found VALUES (?1, ?2, ?3, ?4)")?;
            find(&mut |found| {
                let path = walk::text_of(&found.path);
                let is_own = || own.is_some() && found.path.canonicalize().ok() == own;
                if is_own() {
                    return Ok(());
                }
                let About { bytes, modified_ns } = found.about;
                let folder = walk::folder_of(&path);
                insert.execute(params![path, folder, bytes as i64, modified_ns])?;
                Ok(())
            })?
        };
        transaction.execute(
            "UPDATE takes SET waits = 1 FROM temp.found AS found
             WHERE takes.run_id = ?1 AND takes.path = found.path AND waits = 0
               AND (takes.bytes <> found.bytes OR takes.modified_ns <> found.modified_ns
                    OR (?2 AND reason IS NOT NULL))",
            params![run, again],
        )?;
        transaction.execute(
            "INSERT INTO takes (run_id, path, folder, reason, waits, bytes, modified_ns)
             SELECT ?1, path, folder, ?2, 1, bytes, modified_ns FROM temp.found AS found
             WHERE NOT EXISTS (
                SELECT 1 FROM takes WHERE run_id = ?1 AND takes.path = found.path
             ) ORDER BY path",
            params![run, NOT_YET],
        )?;
        let count = |sql: &str| -> rusqlite::Result<u64> {
            transaction.query_row(sql, [run], |row| row.get::<_, i64>(0)).map(|n| n as u64)
        };
        let listed = Listed {
            takes: count("SELECT count(*) FROM takes WHERE run_id = ?1")?,
            waiting: count("SELECT count(*) FROM takes WHERE run_id = ?1 AND waits = 1")?,
            gone: 0,
        };
        transaction.commit()?;
        let gone = self.gone(run)?.len() as u64;
        Ok((Listed { gone, ..listed }, problems))
    }

    /// Takes of a run that were not found when it was last listed, and are no longer there.
    fn gone(&self, run: i64) -> std::result::Result<Vec<i64>, Error> {
        let mut missing = self.connection.prepare(
            "SELECT id, path FROM takes WHERE run_id = ?1
             AND NOT EXISTS (SELECT 1 FROM temp.found WHERE found.path = takes.path)",
        )?;
        let mut rows = missing.query([run])?;
        let mut gone = Vec::new();
        while let Some(row) = rows.next()? {
            let path: String = row.get(1)?;
            if !walk::path_of(&path).exists() {
                gone.push(row.get(0)?);
            }
        }
        Ok(gone)
    }

    /// Takes out those of a run that are no longer there.
    pub fn drop_gone(&mut self, run: i64) -> std::result::Result<u64, Error> {
        let gone = self.gone(run)?;
        let tables = tables_of_takes(&self.known);
        let transaction = self.connection.transaction()?;
        for id in &gone {
            clear(&transaction, &tables, *id)?;
            transaction.execute("DELETE FROM takes WHERE id = ?1", [id])?;
        }
        transaction.commit()?;
        Ok(gone.len() as u64)
    }

    /// Writes what was measured, all of it or nothing.
    pub fn store(&mut self, outcomes: &[Outcome]) -> std::result::Result<(), Error> {
        let mut new = Vec::new();
        let tables = tables_of_takes(&self.known);
        let transaction = self.connection.transaction()?;
        for outcome in outcomes {
            store_one(&transaction, outcome, &tables, &self.known, &mut new)?;
            for (table, column) in new.drain(..) {
                self.known.entry(table).or_default().insert(column);
            }
        }
        transaction.commit()?;
        Ok(())
    }

    /// Ends the work: what is in the log goes into the file.
    pub fn close(self) -> std::result::Result<(), Error> {
        self.connection.execute_batch("PRAGMA optimize; PRAGMA wal_checkpoint(TRUNCATE)").ok();
        self.connection.close().map_err(|(_, error)| error.into())
    }
}

/// Tables with rows of takes, beside that of the takes themselves.
fn tables_of_takes(known: &HashMap<String, HashSet<String>>) -> Vec<String> {
    let own = ["findings", "conditions", "prints"].map(String::from);
    own.into_iter().chain(known.keys().cloned()).collect()
}

/// Takes away what was measured of a take.
fn clear(
    transaction: &Transaction<'_>,
    tables: &[String],
    id: i64,
) -> std::result::Result<(), Error> {
    for table in tables {
        let sql = format!("DELETE FROM {} WHERE take_id = ?1", quoted(table));
        transaction.prepare_cached(&sql)?.execute([id])?;
    }
    Ok(())
}

fn store_one(
    transaction: &Transaction<'_>,
    outcome: &Outcome,
    tables: &[String],
    known: &HashMap<String, HashSet<String>>,
    new: &mut Vec<(String, String)>,
) -> std::result::Result<(), Error> {
    if let Some(About { bytes, modified_ns }) = outcome.about {
        transaction
            .prepare_cached("UPDATE takes SET bytes = ?2, modified_ns = ?3 WHERE id = ?1")?
            .execute(params![outcome.id, bytes as i64, modified_ns])?;
    }
    let Some(take) = &outcome.measured else {
        transaction
            .prepare_cached("UPDATE takes SET waits = 0 WHERE id = ?1")?
            .execute([outcome.id])?;
        return Ok(());
    };
    let was_measured: bool = transaction
        .prepare_cached("SELECT blake3 IS NOT NULL FROM takes WHERE id = ?1")?
        .query_row([outcome.id], |row| row.get(0))?;
    if was_measured {
        clear(transaction, tables, outcome.id)?;
    }
    let info = take.info.as_ref();
    transaction
        .prepare_cached(
            "UPDATE takes SET waits = 0, reason = ?2, blake3 = ?3, sample_rate_hz = ?4,
             channels = ?5, duration_s = ?6, level_reference = ?7 WHERE id = ?1",
        )?
        .execute(params![
            outcome.id,
            take.reason,
            take.blake3,
            info.map(|info| info.sample_rate_hz),
            info.map(|info| info.channels as i64),
            info.map(|info| info.duration_s),
            info.map(|info| info.level_reference),
        ])?;
    for (name, value) in &take.conditions {
        transaction
            .prepare_cached("INSERT OR REPLACE INTO conditions VALUES (?1, ?2, ?3)")?
            .execute(params![outcome.id, name, value])?;
    }
    if !take.print.is_empty() {
        let bytes: Vec<u8> = take.print.iter().flat_map(|word| word.to_le_bytes()).collect();
        transaction
            .prepare_cached("INSERT OR REPLACE INTO prints VALUES (?1, ?2)")?
            .execute(params![outcome.id, bytes])?;
    }
    for result in &take.results {
        store_result(transaction, outcome.id, result, known, new)?;
    }
    Ok(())
}

fn store_result(
    transaction: &Transaction<'_>,
    id: i64,
    result: &Result,
    known: &HashMap<String, HashSet<String>>,
    new: &mut Vec<(String, String)>,
) -> std::result::Result<(), Error> {
    let hash = blake3::hash(result.settings.as_bytes()).to_hex();
    let hash = &hash[..16];
    transaction
        .prepare_cached("INSERT OR IGNORE INTO settings VALUES (?1, ?2, ?3)")?
        .execute(params![hash, result.command, result.settings])?;
    for (number, finding) in (1_i64..).zip(&result.findings) {
        transaction
            .prepare_cached("INSERT INTO findings VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?
            .execute(params![
                id,
                result.command,
                number,
                finding.code,
                finding.severity.word(),
                finding.channel,
                finding.text,
            ])?;
    }
    for (table, all) in rows::rows_of(result.command, &result.quantities) {
        let is_wide = table == result.command;
        ensure(transaction, &table, is_wide, &all, known, new)?;
        for row in &all {
            insert_row(transaction, &table, id, is_wide.then_some(hash), row)?;
        }
    }
    Ok(())
}

/// Makes the table of rows, and the columns that it lacks.
fn ensure(
    transaction: &Transaction<'_>,
    table: &str,
    is_wide: bool,
    rows: &[Row],
    known: &HashMap<String, HashSet<String>>,
    new: &mut Vec<(String, String)>,
) -> std::result::Result<(), Error> {
    let there = known.get(table);
    let made_now = |new: &[(String, String)]| new.iter().any(|(made, _)| made == table);
    if there.is_none() && !made_now(new) {
        let item = rows.first().map_or(&[][..], |row| &row.item);
        let names: Vec<String> = item.iter().map(|(name, _)| name.clone()).collect();
        make_table(transaction, table, is_wide, &names)?;
        new.push((table.into(), String::new()));
    }
    for (column, ..) in rows.iter().flat_map(|row| &row.cells) {
        let is_there = there.is_some_and(|columns| columns.contains(&column.name))
            || new.iter().any(|(made, name)| made == table && *name == column.name);
        if !is_there {
            add_column(transaction, table, column)?;
            new.push((table.into(), column.name.clone()));
        }
    }
    Ok(())
}

/// Makes a table of numbers: wide with the settings, long with the columns that say which item.
pub(crate) fn make_table(
    connection: &Connection,
    table: &str,
    is_wide: bool,
    item: &[String],
) -> std::result::Result<(), Error> {
    let name = quoted(table);
    let take = "INTEGER REFERENCES takes (id)";
    connection.execute_batch(&if is_wide {
        format!("CREATE TABLE {name} (take_id {take} PRIMARY KEY, settings TEXT)")
    } else {
        let typed = item.iter().map(|name| {
            let kind = if name.ends_with("number") { "INTEGER" } else { "REAL" };
            format!("{} {kind} NOT NULL", quoted(name))
        });
        let typed: Vec<String> = typed.collect();
        let keys: Vec<String> = item.iter().map(|name| quoted(name)).collect();
        format!(
            "CREATE TABLE {name} (take_id {take} NOT NULL, {}, PRIMARY KEY (take_id, {})) \
             WITHOUT ROWID",
            typed.join(", "),
            keys.join(", ")
        )
    })?;
    Ok(())
}

/// Adds a column, and that of its uncertainty, and says what it holds.
pub(crate) fn add_column(
    connection: &Connection,
    table: &str,
    column: &Column,
) -> std::result::Result<(), Error> {
    let mut names = vec![column.name.clone()];
    names.extend(column.has_u.then(|| format!("{}_u", column.name)));
    for name in names {
        let sql = format!("ALTER TABLE {} ADD COLUMN {} REAL", quoted(table), quoted(&name));
        connection.execute_batch(&sql)?;
    }
    connection.prepare_cached("INSERT INTO columns VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?.execute(
        params![
            table,
            column.name,
            column.key,
            column.words,
            column.unit,
            column.decimals as i64,
            column.has_u
        ],
    )?;
    Ok(())
}

fn insert_row(
    transaction: &Transaction<'_>,
    table: &str,
    id: i64,
    settings: Option<&str>,
    row: &Row,
) -> std::result::Result<(), Error> {
    use rusqlite::types::Value;
    let mut names = vec!["take_id".to_string()];
    let mut values = vec![Value::Integer(id)];
    if let Some(hash) = settings {
        names.push("settings".into());
        values.push(Value::Text(hash.into()));
    }
    for (name, which) in &row.item {
        names.push(quoted(name));
        values.push(Value::Real(*which));
    }
    for (column, value, u) in &row.cells {
        let with_u = u.map(|u| (format!("{}_u", column.name), u)).filter(|_| column.has_u);
        let known = value.map(|value| (column.name.clone(), value)).into_iter().chain(with_u);
        for (name, value) in known {
            names.push(quoted(&name));
            values.push(Value::Real(value));
        }
    }
    let places: Vec<String> = (1..=values.len()).map(|n| format!("?{n}")).collect();
    let sql = format!(
        "INSERT OR REPLACE INTO {} ({}) VALUES ({})",
        quoted(table),
        names.join(", "),
        places.join(", ")
    );
    transaction.prepare_cached(&sql)?.execute(params_from_iter(values))?;
    Ok(())
}

pub(crate) fn insert_run(
    connection: &Connection,
    identity: &Identity,
    joined_of: Option<u32>,
    began: &str,
) -> std::result::Result<(), Error> {
    let Identity { measure, reading, tonemap, program, part } = identity;
    connection.execute(
        "INSERT INTO runs (measure, reading, tonemap, program, part, parts, began)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        params![
            measure,
            reading,
            tonemap,
            program,
            part.map(|part| part.number),
            part.map(|part| part.of).or(joined_of),
            began
        ],
    )?;
    Ok(())
}

/// The runs of a survey, in the order in which they began.
pub(crate) fn runs_of(connection: &Connection) -> std::result::Result<Vec<RunRecord>, Error> {
    let mut all = connection.prepare(
        "SELECT id, measure, reading, tonemap, program, part, parts, began FROM runs ORDER BY id",
    )?;
    let runs = all.query_map([], |row| {
        let (number, of): (Option<u32>, Option<u32>) = (row.get(5)?, row.get(6)?);
        Ok(RunRecord {
            id: row.get(0)?,
            identity: Identity {
                measure: row.get(1)?,
                reading: row.get(2)?,
                tonemap: row.get(3)?,
                program: row.get(4)?,
                part: number.zip(of).map(|(number, of)| Part { number, of }),
            },
            joined_of: of.filter(|_| number.is_none()),
            began: row.get(7)?,
        })
    })?;
    Ok(runs.collect::<rusqlite::Result<_>>()?)
}

/// The columns of numbers, by table.
fn columns_of(
    connection: &Connection,
) -> std::result::Result<HashMap<String, HashSet<String>>, Error> {
    let mut known: HashMap<String, HashSet<String>> = HashMap::new();
    let mut all = connection.prepare("SELECT table_name, column_name FROM columns")?;
    let mut rows = all.query([])?;
    while let Some(row) = rows.next()? {
        known.entry(row.get(0)?).or_default().insert(row.get(1)?);
    }
    Ok(known)
}

impl Reader {
    /// Opens a survey to read.
    pub fn open(file: &Path) -> std::result::Result<Self, Error> {
        if !file.exists() {
            return Err(Error::NotThere(file.into()));
        }
        // One that may not write leaves the files of the log behind, and cannot be asked without.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let opened = Connection::open_with_flags(file, flags).and_then(|connection| {
            connection.busy_timeout(PATIENCE)?;
            connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))?;
            Ok(connection)
        });
        let connection = match opened {
            Err(error)
                if matches!(
                    error.sqlite_error_code(),
                    Some(rusqlite::ErrorCode::CannotOpen | rusqlite::ErrorCode::ReadOnly)
                ) =>
            {
                // Where nothing can be written, not even beside it, nothing changes either.
                let uri = walk::text_of(&file.canonicalize()?);
                let uri = uri.strip_prefix("file:").unwrap_or(&uri).replace('%', "%25");
                let uri = format!("file:{}?immutable=1", uri.replace('?', "%3f"));
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                Connection::open_with_flags(uri, flags | OpenFlags::SQLITE_OPEN_URI)?
            }
            Err(error) if error.sqlite_error_code() == Some(rusqlite::ErrorCode::NotADatabase) => {
                return Err(Error::NotASurvey(file.into()));
            }
            other => other?,
        };
        connection.pragma_update(None, "cache_size", -32_000)?;
        if !check_form(&connection, file)? {
            return Err(Error::NotASurvey(file.into()));
        }
        Ok(Self { connection, file: file.into() })
    }

    /// Its file.
    #[must_use]
    pub fn file(&self) -> &Path {
        &self.file
    }

    /// Its runs, in the order in which they began.
    pub fn runs(&self) -> std::result::Result<Vec<RunRecord>, Error> {
        runs_of(&self.connection)
    }

    /// The next takes that wait to be measured, behind one.
    pub fn waiting(
        &self,
        run: i64,
        behind: i64,
        most: usize,
    ) -> std::result::Result<Vec<Waiting>, Error> {
        let mut all = self.connection.prepare_cached(
            "SELECT id, path, blake3, reason IS NOT NULL FROM takes WHERE run_id = ?1 AND waits = 1 AND id > ?2
             ORDER BY id LIMIT ?3",
        )?;
        let rows = all.query_map(params![run, behind, most as i64], |row| {
            let path: String = row.get(1)?;
            Ok(Waiting {
                id: row.get(0)?,
                path: walk::path_of(&path),
                blake3: row.get(2)?,
                failed: row.get(3)?,
            })
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    /// How far a run has come.
    pub fn standing(&self, run: i64) -> std::result::Result<Standing, Error> {
        let sql = "SELECT count(*), sum(waits), sum(waits = 0 AND reason IS NOT NULL),
                   sum(duration_s) FROM takes WHERE run_id = ?1";
        let counted = self.connection.query_row(sql, [run], |row| {
            let number = |n: usize| row.get::<_, Option<i64>>(n).map(|x| x.unwrap_or(0) as u64);
            let (takes, waiting, failed) = (number(0)?, number(1)?, number(2)?);
            let sound_s = row.get::<_, Option<f64>>(3)?.unwrap_or(0.0);
            let measured = takes - waiting - failed;
            Ok(Standing { takes, measured, failed, waiting, sound_s })
        });
        Ok(counted?)
    }

    /// Whether the file is whole, by the database's own check.
    pub fn check(&self) -> std::result::Result<(), Error> {
        let said: Option<String> = self
            .connection
            .query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))
            .optional()?;
        match said.as_deref() {
            Some("ok") => Ok(()),
            other => Err(Error::Damaged(other.unwrap_or("it cannot be checked").into())),
        }
    }

    /// Tables of numbers with their columns, in an order that depends on their names alone.
    pub(crate) fn columns(&self) -> std::result::Result<BTreeMap<String, Vec<Column>>, Error> {
        columns_in_order(&self.connection)
    }
}

/// The same of any connection.
pub(crate) fn columns_in_order(
    connection: &Connection,
) -> std::result::Result<BTreeMap<String, Vec<Column>>, Error> {
    let mut tables: BTreeMap<String, Vec<Column>> = BTreeMap::new();
    let mut all = connection
        .prepare("SELECT table_name, column_name, key, name, unit, decimals, has_u FROM columns")?;
    let mut rows = all.query([])?;
    while let Some(row) = rows.next()? {
        tables.entry(row.get(0)?).or_default().push(Column {
            name: row.get(1)?,
            key: row.get(2)?,
            words: row.get(3)?,
            unit: row.get(4)?,
            decimals: row.get::<_, i64>(5)? as usize,
            has_u: row.get(6)?,
        });
    }
    for columns in tables.values_mut() {
        columns.sort_by_cached_key(|column| natural(&column.key));
    }
    Ok(tables)
}

/// A name that sorts as people count: numbers by their value, what stands right under the result
/// first.
fn natural(name: &str) -> (usize, Vec<(u64, String)>) {
    let mut parts = Vec::new();
    let mut rest = name;
    while !rest.is_empty() {
        let words = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
        let (word, after) = rest.split_at(words);
        let digits = after.find(|c: char| !c.is_ascii_digit()).unwrap_or(after.len());
        let (number, after) = after.split_at(digits);
        parts.push((0, word.to_string()));
        parts.push((number.parse().unwrap_or(0), String::new()));
        rest = after;
    }
    (name.matches(['[', '.']).count().min(1), parts)
}
