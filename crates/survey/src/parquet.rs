//! Apache Parquet: columns with types, compressed by Snappy; what they hold stands in the metadata.

use std::io::{BufWriter, Write};
use std::sync::Arc;

use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::ByteArray;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;
use rusqlite::types::ValueRef;

use crate::error::Error;
use crate::table::{Described, Kind, Table};

/// Values that are held at a time.
const MOST_VALUES: usize = 2 << 20;
/// Rows of a group in Parquet.
const GROUP_ROWS: usize = 65_536;

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

/// Writes a table, and says how many rows it has.
pub(crate) fn write(
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
        built.map(Arc::new)
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
    let mut writer =
        SerializedFileWriter::new(BufWriter::new(out), Arc::new(schema), Arc::new(properties))?;
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
