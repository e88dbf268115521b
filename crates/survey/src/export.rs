//! The tables of a survey as files that other programs read.

use std::io::{BufWriter, Write};

use rusqlite::types::ValueRef;

use crate::database::{Reader, quoted};
use crate::error::Error;
use crate::table::{Described, Kind, Table};

/// Tables that every survey has, in the order in which they are written, and the order of their
/// rows.
const FIXED: [(&str, &str); 6] = [
    ("runs", "id"),
    ("takes", "id"),
    ("findings", "take_id, command, number"),
    ("conditions", "take_id, name"),
    ("settings", "hash"),
    ("columns", "table_name, column_name"),
];

/// The form of the files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Apache Parquet: columns with types, compressed by Snappy.
    Parquet,
    /// Comma-separated values (RFC 4180).
    Csv,
    /// JSON Lines: an object a row.
    JsonLines,
}

impl Form {
    /// An error where this build cannot write it.
    pub fn check(self) -> Result<(), Error> {
        let is_built = self != Self::Parquet || cfg!(feature = "parquet");
        if is_built { Ok(()) } else { Err(Error::BuiltWithoutParquet) }
    }

    /// How the names of the files end.
    #[must_use]
    pub fn ending(self) -> &'static str {
        match self {
            Self::Parquet => "parquet",
            Self::Csv => "csv",
            Self::JsonLines => "jsonl",
        }
    }
}

impl Reader {
    /// The tables of the survey.
    pub fn tables(&self) -> Result<Vec<Table>, Error> {
        let mut tables = Vec::new();
        for (name, order) in FIXED {
            let columns = self.declared(name)?;
            tables.push(Table { name: name.into(), columns, order: order.into() });
        }
        for (name, numbers) in self.columns()? {
            // Columns of numbers are added as they are met: here they stand in one order.
            let mut columns = self.declared(&name)?;
            columns.retain(|one| {
                !numbers.iter().any(|number| {
                    one.name == number.name || one.name.strip_suffix("_u") == Some(&number.name)
                })
            });
            let keys: Vec<&Described> =
                columns.iter().filter(|one| one.name != "settings").collect();
            let keys: Vec<String> = keys.into_iter().map(|one| quoted(&one.name)).collect();
            for number in numbers {
                let described = |name: String, words: String| Described {
                    name,
                    kind: Kind::Real,
                    key: Some(number.key.clone()),
                    words: Some(words),
                    unit: Some(number.unit.clone()),
                };
                columns.push(described(number.name.clone(), number.words.clone()));
                if number.has_u {
                    let words = format!("standard uncertainty of {}", number.words);
                    columns.push(described(format!("{}_u", number.name), words));
                }
            }
            tables.push(Table { name, columns, order: keys.join(", ") });
        }
        Ok(tables)
    }

    /// The columns of a table as they were declared.
    fn declared(&self, table: &str) -> Result<Vec<Described>, Error> {
        let sql = format!("PRAGMA table_info({})", quoted(table));
        let mut all = self.connection.prepare(&sql)?;
        let columns = all.query_map([], |row| {
            let kind: String = row.get(2)?;
            let kind = match kind.as_str() {
                "INTEGER" => Kind::Integer,
                "REAL" => Kind::Real,
                _ => Kind::Text,
            };
            Ok(Described { name: row.get(1)?, kind, key: None, words: None, unit: None })
        })?;
        Ok(columns.collect::<rusqlite::Result<_>>()?)
    }

    /// Writes a table, and says how many rows it has.
    pub fn write(&self, table: &Table, form: Form, out: impl Write + Send) -> Result<u64, Error> {
        let names: Vec<String> = table.columns.iter().map(|one| quoted(&one.name)).collect();
        let sql = format!(
            "SELECT {} FROM {} ORDER BY {}",
            names.join(", "),
            quoted(&table.name),
            table.order
        );
        let mut statement = self.connection.prepare(&sql)?;
        let rows = statement.query([])?;
        match form {
            #[cfg(feature = "parquet")]
            Form::Parquet => crate::parquet::write(table, rows, out),
            #[cfg(not(feature = "parquet"))]
            Form::Parquet => Err(Error::BuiltWithoutParquet),
            Form::Csv => csv_file(table, rows, out),
            Form::JsonLines => json_lines(table, rows, out),
        }
    }
}

fn csv_file(table: &Table, mut rows: rusqlite::Rows<'_>, out: impl Write) -> Result<u64, Error> {
    let mut writer = csv::Writer::from_writer(BufWriter::new(out));
    writer.write_record(table.columns.iter().map(|one| &one.name))?;
    let mut count = 0;
    while let Some(row) = rows.next()? {
        for n in 0..table.columns.len() {
            match row.get_ref(n)? {
                ValueRef::Null => writer.write_field("")?,
                ValueRef::Integer(number) => writer.write_field(number.to_string())?,
                ValueRef::Real(number) => writer.write_field(number.to_string())?,
                ValueRef::Text(text) | ValueRef::Blob(text) => writer.write_field(text)?,
            }
        }
        writer.write_record(None::<&[u8]>)?;
        count += 1;
    }
    writer.flush()?;
    Ok(count)
}

fn json_lines(table: &Table, mut rows: rusqlite::Rows<'_>, out: impl Write) -> Result<u64, Error> {
    let mut out = BufWriter::new(out);
    let mut count = 0;
    while let Some(row) = rows.next()? {
        let mut object = serde_json::Map::new();
        for (n, column) in table.columns.iter().enumerate() {
            let value = match row.get_ref(n)? {
                ValueRef::Null => serde_json::Value::Null,
                ValueRef::Integer(number) => number.into(),
                ValueRef::Real(number) => number.into(),
                ValueRef::Text(text) | ValueRef::Blob(text) => {
                    String::from_utf8_lossy(text).into_owned().into()
                }
            };
            object.insert(column.name.clone(), value);
        }
        serde_json::to_writer(&mut out, &object).map_err(std::io::Error::from)?;
        out.write_all(b"\n")?;
        count += 1;
    }
    out.flush()?;
    Ok(count)
}
