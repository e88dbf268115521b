//! The tables of a survey as files that other programs read.

use std::io::{BufWriter, Write};

use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::ByteArray;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;
use rusqlite::types::ValueRef;
use serde::Serialize;

use crate::database::{Reader, quoted};
use crate::error::Error;

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
/// Values that are held at a time.
const MOST_VALUES: usize = 2 << 20;
/// Rows of a group in Parquet.
const GROUP_ROWS: usize = 65_536;

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

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
enum Kind {
    Integer,
    Real,
    Text,
}

/// A column of a file, as its metadata describe it.
#[derive(Debug, Clone, Serialize)]
struct Described {
    name: String,
    #[serde(rename = "type")]
    kind: Kind,
    #[serde(skip_serializing_if = "Option::is_none")]
    key: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    words: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    unit: Option<String>,
}

/// A table that can be written.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    columns: Vec<Described>,
    order: String,
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
            Form::Parquet => parquet_file(table, rows, out),
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

/// The values of a column, with the level of definition of each row: 0 where it is null.
enum Held {
    Integer(Vec<i64>, Vec<i16>),
    Real(Vec<f64>, Vec<i16>),
    Text(Vec<ByteArray>, Vec<i16>),
}

impl Held {
    fn new(kind: Kind) -> Self {
        match kind {
            Kind::Integer => Self::Integer(Vec::new(), Vec::new()),
            Kind::Real => Self::Real(Vec::new(), Vec::new()),
            Kind::Text => Self::Text(Vec::new(), Vec::new()),
        }
    }

    fn push(&mut self, value: ValueRef<'_>) {
        match (&mut *self, value) {
            (Self::Integer(all, levels), ValueRef::Integer(number)) => {
                all.push(number);
                levels.push(1);
            }
            (Self::Real(all, levels), ValueRef::Real(number)) => {
                all.push(number);
                levels.push(1);
            }
            (Self::Real(all, levels), ValueRef::Integer(number)) => {
                all.push(number as f64);
                levels.push(1);
            }
            (Self::Text(all, levels), ValueRef::Text(text) | ValueRef::Blob(text)) => {
                all.push(text.to_vec().into());
                levels.push(1);
            }
            (Self::Integer(_, levels) | Self::Real(_, levels) | Self::Text(_, levels), _) => {
                levels.push(0);
            }
        }
    }
}

fn parquet_file(
    table: &Table,
    mut rows: rusqlite::Rows<'_>,
    out: impl Write + Send,
) -> Result<u64, Error> {
    let field = |column: &Described| {
        let (physical, logical) = match column.kind {
            Kind::Integer => (Physical::INT64, None),
            Kind::Real => (Physical::DOUBLE, None),
            Kind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
        };
        let built = Type::primitive_type_builder(&column.name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_logical_type(logical)
            .build();
        built.map(std::sync::Arc::new)
    };
    let fields = table.columns.iter().map(field).collect::<Result<_, _>>()?;
    let schema = Type::group_type_builder(&table.name).with_fields(fields).build()?;
    let described = serde_json::to_string(&table.columns).map_err(std::io::Error::from)?;
    let about = [
        ("tonemap.version", env!("CARGO_PKG_VERSION").to_string()),
        ("tonemap.table", table.name.clone()),
        ("tonemap.columns", described),
    ];
    let about = about.map(|(key, value)| KeyValue::new(key.to_string(), value));
    let properties = WriterProperties::builder()
        .set_compression(Compression::SNAPPY)
        .set_key_value_metadata(Some(about.to_vec()))
        .build();
    let mut writer = SerializedFileWriter::new(
        BufWriter::new(out),
        std::sync::Arc::new(schema),
        std::sync::Arc::new(properties),
    )?;
    let group = (MOST_VALUES / table.columns.len().max(1)).clamp(1024, GROUP_ROWS);
    let (mut count, mut is_over) = (0, false);
    while !is_over {
        let mut held: Vec<Held> = table.columns.iter().map(|one| Held::new(one.kind)).collect();
        let mut in_group = 0;
        while in_group < group {
            let Some(row) = rows.next()? else {
                is_over = true;
                break;
            };
            for (n, column) in held.iter_mut().enumerate() {
                column.push(row.get_ref(n)?);
            }
            in_group += 1;
        }
        if in_group > 0 {
            write_group(&mut writer, &held)?;
            count += in_group as u64;
        }
    }
    writer.close()?;
    Ok(count)
}

fn write_group<W: Write + Send>(
    writer: &mut SerializedFileWriter<W>,
    held: &[Held],
) -> Result<(), Error> {
    let mut group = writer.next_row_group()?;
    for column in held {
        let Some(mut into) = group.next_column()? else { break };
        match (into.untyped(), column) {
            (ColumnWriter::Int64ColumnWriter(into), Held::Integer(all, levels)) => {
                into.write_batch(all, Some(levels), None)?;
            }
            (ColumnWriter::DoubleColumnWriter(into), Held::Real(all, levels)) => {
                into.write_batch(all, Some(levels), None)?;
            }
            (ColumnWriter::ByteArrayColumnWriter(into), Held::Text(all, levels)) => {
                into.write_batch(all, Some(levels), None)?;
            }
            _ => return Err(Error::Table("a column is of another type than its file".into())),
        }
        into.close()?;
    }
    group.close()?;
    Ok(())
}
