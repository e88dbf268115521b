//! What is asked of a survey: takes by a condition in SQL, and their numbers.

use std::collections::BTreeMap;

use rusqlite::{params, params_from_iter};
use tonemap_core::Measured;

use crate::database::{Reader, quoted};
use crate::error::Error;
use crate::rows::Column;
use crate::walk;

/// Takes of a run that were chosen.
pub struct View<'r> {
    reader: &'r Reader,
    tables: BTreeMap<String, Vec<Column>>,
    /// Commands that measured them.
    commands: Vec<String>,
    /// How many there are.
    pub takes: u64,
}

/// Which takes of a survey are looked at.
#[derive(Debug, Clone, Copy)]
pub struct Chosen<'c> {
    /// Of which run.
    pub run: i64,
    /// What must hold of a take, in SQL over `takes`, its conditions, and the wide tables.
    pub condition: Option<&'c str>,
}

/// A number that takes of a survey have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Quantity {
    /// The command.
    pub command: String,
    /// The column.
    pub column: Column,
}

impl Quantity {
    /// The command and the key, as elsewhere in the program.
    #[must_use]
    pub fn key(&self) -> String {
        format!("{}.{}", self.command, self.column.key)
    }

    /// In words, with its unit.
    #[must_use]
    pub fn title(&self) -> String {
        match self.column.unit.as_str() {
            "" => self.column.words.clone(),
            unit => format!("{}, {unit}", self.column.words),
        }
    }
}

impl Reader {
    /// Chooses takes that were measured.
    pub fn choose(&self, chosen: Chosen<'_>) -> Result<View<'_>, Error> {
        let tables = self.columns()?;
        let commands = self.commands()?;
        let names = self.condition_names()?;
        let conditions: Vec<String> = names
            .iter()
            .map(|name| {
                format!(
                    ", (SELECT value FROM conditions WHERE take_id = takes.id AND name = {}) AS {}",
                    text(name),
                    quoted(name)
                )
            })
            .collect();
        let joined: Vec<String> = commands
            .iter()
            .map(|command| {
                let name = quoted(command);
                format!(" LEFT JOIN {name} ON {name}.take_id = takes.id")
            })
            .collect();
        let asked = chosen.condition.unwrap_or("1");
        let sql = format!(
            "SELECT takes.id FROM (SELECT takes.*{} FROM takes WHERE run_id = ?1 AND waits = 0) \
             AS takes{} WHERE ({asked}\n) ORDER BY takes.id",
            conditions.concat(),
            joined.concat(),
        );
        let wrong = |error: &rusqlite::Error| {
            let said = match error {
                rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
                rusqlite::Error::SqliteFailure(_, Some(said)) => said.clone(),
                other => other.to_string(),
            };
            Error::Query { given: asked.into(), reason: said }
        };
        let mut statement = self.connection.prepare(&sql).map_err(|error| wrong(&error))?;
        if !statement.readonly() {
            let reason = "it would change the survey".into();
            return Err(Error::Query { given: asked.into(), reason });
        }
        self.connection.execute_batch(
            "DROP TABLE IF EXISTS temp.chosen;
             CREATE TEMP TABLE chosen (id INTEGER PRIMARY KEY)",
        )?;
        let mut keep = self.connection.prepare("INSERT OR IGNORE INTO temp.chosen VALUES (?1)")?;
        self.connection.execute_batch("BEGIN")?;
        let mut rows = statement.query([chosen.run]).map_err(|error| wrong(&error))?;
        let mut takes = 0;
        while let Some(row) = rows.next().map_err(|error| wrong(&error))? {
            let id: i64 = row.get(0).map_err(|error| wrong(&error))?;
            takes += keep.execute([id])? as u64;
        }
        self.connection.execute_batch("COMMIT")?;
        Ok(View { reader: self, tables, commands, takes })
    }

    /// Commands that have a table.
    fn commands(&self) -> Result<Vec<String>, Error> {
        let mut all = self.connection.prepare(
            "SELECT name FROM sqlite_schema WHERE type = 'table' AND name IN
             (SELECT DISTINCT command FROM settings) ORDER BY name",
        )?;
        let names = all.query_map([], |row| row.get(0))?;
        Ok(names.collect::<rusqlite::Result<_>>()?)
    }

    /// Names of the conditions of takes.
    pub fn condition_names(&self) -> Result<Vec<String>, Error> {
        let mut all =
            self.connection.prepare("SELECT DISTINCT name FROM conditions ORDER BY name")?;
        let names = all.query_map([], |row| row.get(0))?;
        Ok(names.collect::<rusqlite::Result<_>>()?)
    }
}

/// A text as SQL has it.
fn text(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// How often something is the case: what, and in how many takes.
pub type Counted = (Vec<String>, u64);

impl View<'_> {
    /// The numbers that takes have, in an order that depends on their names alone.
    #[must_use]
    pub fn quantities(&self) -> Vec<Quantity> {
        let of_command = |command: &String| {
            let columns = self.tables.get(command).into_iter().flatten().cloned();
            let command = command.clone();
            columns.map(move |column| Quantity { command: command.clone(), column })
        };
        self.commands.iter().flat_map(of_command).collect()
    }

    /// The numbers of the takes, by their number: take, value and uncertainty.
    pub fn values(&self, quantity: &Quantity) -> Result<Vec<(i64, Measured)>, Error> {
        let name = quoted(&quantity.column.name);
        let u = if quantity.column.has_u {
            quoted(&format!("{}_u", quantity.column.name))
        } else {
            "NULL".into()
        };
        let sql = format!(
            "SELECT take_id, {name}, {u} FROM {} JOIN temp.chosen ON id = take_id
             WHERE {name} IS NOT NULL ORDER BY take_id",
            quoted(&quantity.command)
        );
        let mut all = self.reader.connection.prepare(&sql)?;
        let rows = all.query_map([], |row| {
            let u: Option<f64> = row.get(2)?;
            Ok((row.get(0)?, Measured::new(row.get(1)?, u.unwrap_or(f64::NAN))))
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    /// The group of each take, by the take's number: the value of a condition, or a column of
    /// `takes`, as the folder.
    pub fn groups(&self, by: &str) -> Result<Vec<(i64, String)>, Error> {
        let known = self.reader.condition_names()?;
        let sql = if known.iter().any(|name| name == by) {
            "SELECT take_id, value FROM conditions JOIN temp.chosen ON id = take_id
             WHERE name = ?1 ORDER BY take_id"
                .to_string()
        } else if ["folder", "sample_rate_hz", "channels"].contains(&by) {
            format!(
                "SELECT takes.id, {by} FROM takes JOIN temp.chosen USING (id)
                 WHERE {by} IS NOT NULL AND ?1 <> '' ORDER BY takes.id"
            )
        } else {
            let known: Vec<String> = known.into_iter().chain(["folder".into()]).collect();
            let reason = format!("no take has this condition; there are {}", known.join(", "));
            return Err(Error::Query { given: by.into(), reason });
        };
        let mut all = self.reader.connection.prepare(&sql)?;
        let rows = all.query_map([by], |row| {
            let value: rusqlite::types::Value = row.get(1)?;
            let value = match value {
                rusqlite::types::Value::Text(text) => text,
                rusqlite::types::Value::Real(number) => number.to_string(),
                rusqlite::types::Value::Integer(number) => number.to_string(),
                _ => String::new(),
            };
            Ok((row.get(0)?, value))
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    /// The paths of some takes, by their numbers.
    pub fn paths(&self, ids: &[i64]) -> Result<BTreeMap<i64, String>, Error> {
        let mut one = self.reader.connection.prepare("SELECT path FROM takes WHERE id = ?1")?;
        let path = |id: &i64| Ok((*id, one.query_row([id], |row| row.get(0))?));
        ids.iter().map(path).collect()
    }

    /// What was found, by code, severity and command, and in how many takes, most first.
    pub fn findings(&self) -> Result<Vec<Counted>, Error> {
        self.counted(
            "SELECT severity, code, command, count(DISTINCT take_id) FROM findings
             JOIN temp.chosen ON id = take_id GROUP BY severity, code, command
             ORDER BY severity = 'note', severity = 'warning', 4 DESC, code, command",
            3,
        )
    }

    /// Why something is missing, and of how many takes, most first.
    pub fn reasons(&self) -> Result<Vec<Counted>, Error> {
        self.counted(
            "SELECT reason, count(*) FROM takes JOIN temp.chosen USING (id)
             WHERE reason IS NOT NULL GROUP BY reason ORDER BY 2 DESC, reason",
            1,
        )
    }

    fn counted(&self, sql: &str, words: usize) -> Result<Vec<Counted>, Error> {
        let mut all = self.reader.connection.prepare(sql)?;
        let rows = all.query_map([], |row| {
            let said = (0..words).map(|n| row.get(n)).collect::<rusqlite::Result<_>>()?;
            Ok((said, row.get::<_, i64>(words)? as u64))
        })?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }

    /// Takes of the same content, to the byte: the groups of their paths.
    pub fn copies(&self) -> Result<Vec<Vec<String>>, Error> {
        let mut all = self.reader.connection.prepare(
            "SELECT blake3, path FROM takes JOIN temp.chosen USING (id) WHERE blake3 IN (
                SELECT blake3 FROM takes JOIN temp.chosen USING (id)
                GROUP BY blake3 HAVING count(*) > 1
             ) ORDER BY blake3, takes.id",
        )?;
        let mut groups: Vec<(String, Vec<String>)> = Vec::new();
        let mut rows = all.query([])?;
        while let Some(row) = rows.next()? {
            let (hash, path): (String, String) = (row.get(0)?, row.get(1)?);
            match groups.last_mut().filter(|(known, _)| *known == hash) {
                Some((_, paths)) => paths.push(path),
                None => groups.push((hash, vec![path])),
            }
        }
        let mut groups: Vec<Vec<String>> = groups.into_iter().map(|(_, paths)| paths).collect();
        groups.sort();
        Ok(groups)
    }

    /// Hands on the fingerprint of every take, by its number.
    pub fn prints(
        &self,
        mut each: impl FnMut(i64, Vec<u16>) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let mut all = self.reader.connection.prepare(
            "SELECT take_id, words FROM prints JOIN temp.chosen ON id = take_id ORDER BY take_id",
        )?;
        let mut rows = all.query([])?;
        while let Some(row) = rows.next()? {
            each(row.get(0)?, words_of(&row.get::<_, Vec<u8>>(1)?))?;
        }
        Ok(())
    }

    /// The fingerprint of a take.
    pub fn print(&self, id: i64) -> Result<Vec<u16>, Error> {
        let bytes: Vec<u8> = self
            .reader
            .connection
            .prepare_cached("SELECT words FROM prints WHERE take_id = ?1")?
            .query_row(params![id], |row| row.get(0))?;
        Ok(words_of(&bytes))
    }

    /// The hashes of some takes: those of the same content have the same.
    pub fn contents(&self, ids: &[i64]) -> Result<Vec<String>, Error> {
        let places: Vec<String> = (1..=ids.len()).map(|n| format!("?{n}")).collect();
        let sql = format!(
            "SELECT coalesce(blake3, '') FROM takes WHERE id IN ({}) ORDER BY id",
            places.join(", ")
        );
        let mut all = self.reader.connection.prepare(&sql)?;
        let rows = all.query_map(params_from_iter(ids), |row| row.get(0))?;
        Ok(rows.collect::<rusqlite::Result<_>>()?)
    }
}

fn words_of(bytes: &[u8]) -> Vec<u16> {
    bytes.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect()
}

/// The name of a take without its folders.
#[must_use]
pub fn name_of(path: &str) -> &str {
    let folder = walk::folder_of(path);
    if folder.is_empty() { path } else { &path[folder.len() + 1..] }
}
