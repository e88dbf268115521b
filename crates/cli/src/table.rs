//! A table, described once, column by column: its head, alignment, digits and ± u stand in one
//! line. It is printed as text, as CSV or as a table of the report.
//!
//! A column without a key stands in no CSV, one without a head in no text. Text has the digits that
//! the uncertainty allows, CSV all of them. Where a terminal is narrower than the table, the
//! columns of the highest rank are left out, and a line says which.

use std::borrow::Cow;

use anyhow::Result;
use comfy_table::{Cell as Printed, CellAlignment, Table as Layout, presets};
use serde::Serialize;
use tonemap_core::Measured;
use tonemap_core::quantity::{Field, Label, Unit};
use tonemap_figures::ReportTable;

use crate::text;

/// Whether a row stands out among the others.
type Marks<'t, R> = dyn Fn(&R) -> bool + 't;

/// A table of rows of a kind.
pub(crate) struct Table<'t, R> {
    columns: Vec<Column<'t, R>>,
    marks: Option<Box<Marks<'t, R>>>,
}

struct Column<'t, R> {
    /// Head in CSV.
    key: Cow<'t, str>,
    /// Head in text.
    head: Cow<'t, str>,
    form: Form,
    /// The higher the sooner it is left out; 0 never.
    rank: u8,
    cell: Box<dyn Fn(&R) -> Cell + 't>,
}

/// How the cells of a column are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    /// Words, to the left.
    Words,
    /// What is printed already, to the right.
    Printed,
    /// Whole numbers in groups.
    Count,
    /// So many decimals.
    Number { decimals: usize, signed: bool },
    /// A value with ± u, in the digits that u allows, at most so many decimals.
    Measured { most: usize, signed: bool },
    /// Five significant digits.
    Significant,
}

/// What stands in a cell.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Cell {
    Unknown,
    Words(String),
    Count(u64),
    Flag(bool),
    Number(f64),
    Measured(Measured),
}

impl From<Option<f64>> for Cell {
    fn from(value: Option<f64>) -> Self {
        value.filter(|value| value.is_finite()).map_or(Self::Unknown, Self::Number)
    }
}

impl From<Option<Measured>> for Cell {
    fn from(value: Option<Measured>) -> Self {
        value.filter(|value| value.value.is_finite()).map_or(Self::Unknown, Self::Measured)
    }
}

/// A cell of CSV.
#[derive(Serialize)]
#[serde(untagged)]
enum Plain<'c> {
    Unknown(Option<()>),
    Words(&'c str),
    Count(u64),
    Flag(bool),
    Number(f64),
}

impl Plain<'_> {
    fn number(value: f64) -> Self {
        if value.is_finite() { Self::Number(value) } else { Self::Unknown(None) }
    }
}

impl<'t, R> Table<'t, R> {
    pub(crate) fn new() -> Self {
        Self { columns: Vec::new(), marks: None }
    }

    fn column(
        mut self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        form: Form,
        cell: impl Fn(&R) -> Cell + 't,
    ) -> Self {
        let (key, head) = (key.into(), head.into());
        self.columns.push(Column { key, head, form, rank: 0, cell: Box::new(cell) });
        self
    }

    /// Words.
    pub(crate) fn words(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        of: impl Fn(&R) -> String + 't,
    ) -> Self {
        self.column(key, head, Form::Words, move |row| Cell::Words(of(row)))
    }

    /// What is printed by the caller, and stands in text alone.
    pub(crate) fn printed(
        self,
        head: impl Into<Cow<'t, str>>,
        of: impl Fn(&R) -> String + 't,
    ) -> Self {
        self.column("", head, Form::Printed, move |row| Cell::Words(of(row)))
    }

    /// Whole numbers.
    pub(crate) fn count(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        of: impl Fn(&R) -> u64 + 't,
    ) -> Self {
        self.column(key, head, Form::Count, move |row| Cell::Count(of(row)))
    }

    /// Whole numbers that may be unknown, in CSV alone.
    pub(crate) fn whole(
        self,
        key: impl Into<Cow<'t, str>>,
        of: impl Fn(&R) -> Option<u64> + 't,
    ) -> Self {
        self.column(key, "", Form::Count, move |row| of(row).map_or(Cell::Unknown, Cell::Count))
    }

    /// Yes or no, in CSV alone.
    pub(crate) fn flag(self, key: impl Into<Cow<'t, str>>, of: impl Fn(&R) -> bool + 't) -> Self {
        self.column(key, "", Form::Words, move |row| Cell::Flag(of(row)))
    }

    /// Numbers that may be unknown.
    pub(crate) fn number(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        decimals: usize,
        of: impl Fn(&R) -> Option<f64> + 't,
    ) -> Self {
        let form = Form::Number { decimals, signed: false };
        self.column(key, head, form, move |row| of(row).into())
    }

    /// The same with their sign, as differences have.
    pub(crate) fn signed(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        decimals: usize,
        of: impl Fn(&R) -> Option<f64> + 't,
    ) -> Self {
        let form = Form::Number { decimals, signed: true };
        self.column(key, head, form, move |row| of(row).into())
    }

    /// Numbers in five digits, whatever their size.
    pub(crate) fn significant(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        of: impl Fn(&R) -> Option<f64> + 't,
    ) -> Self {
        self.column(key, head, Form::Significant, move |row| of(row).into())
    }

    /// Numbers with ± u, in two columns.
    pub(crate) fn measured(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        most: usize,
        of: impl Fn(&R) -> Option<Measured> + 't,
    ) -> Self {
        let form = Form::Measured { most, signed: false };
        self.column(key, head, form, move |row| of(row).into())
    }

    /// The same with their sign.
    pub(crate) fn signed_measured(
        self,
        key: impl Into<Cow<'t, str>>,
        head: impl Into<Cow<'t, str>>,
        most: usize,
        of: impl Fn(&R) -> Option<Measured> + 't,
    ) -> Self {
        let form = Form::Measured { most, signed: true };
        self.column(key, head, form, move |row| of(row).into())
    }

    /// Lets the last column be left out where there is no room: the higher the rank the sooner.
    pub(crate) fn rank(mut self, rank: u8) -> Self {
        if let Some(column) = self.columns.last_mut() {
            column.rank = rank;
        }
        self
    }

    /// Adds columns if there is something to say in them.
    pub(crate) fn when(self, holds: bool, add: impl FnOnce(Self) -> Self) -> Self {
        if holds { add(self) } else { self }
    }

    /// Marks the rows that stand out from the others.
    pub(crate) fn mark(mut self, is_outlier: impl Fn(&R) -> bool + 't) -> Self {
        self.marks = Some(Box::new(is_outlier));
        self
    }

    /// The table for reading, cut to the terminal if it is printed on one.
    pub(crate) fn text(&self, rows: &[R]) -> String {
        self.text_within(rows, text::terminal_width())
    }

    fn text_within(&self, rows: &[R], width: Option<usize>) -> String {
        let mut shown: Vec<&Column<'t, R>> =
            self.columns.iter().filter(|column| !column.head.is_empty()).collect();
        let mut left_out: Vec<&str> = Vec::new();
        loop {
            let layout = laid_out(&shown, rows);
            let needed: usize = layout
                .column_max_content_widths()
                .iter()
                .map(|width| usize::from(*width) + 2)
                .sum();
            let highest = shown.iter().map(|column| column.rank).max().unwrap_or(0);
            if highest == 0 || width.is_none_or(|width| needed <= width) {
                return self.printed_lines(&layout, &shown, rows, &left_out);
            }
            // The last of the highest rank goes first.
            if let Some(place) = shown.iter().rposition(|column| column.rank == highest) {
                left_out.insert(0, &shown.remove(place).head);
            }
        }
    }

    fn printed_lines(
        &self,
        layout: &Layout,
        shown: &[&Column<'t, R>],
        rows: &[R],
        left_out: &[&str],
    ) -> String {
        let head_lines =
            shown.iter().map(|column| column.head.lines().count()).max().unwrap_or(1).max(1);
        let mut lines: Vec<String> = layout.trim_fmt().lines().map(String::from).collect();
        for (n, line) in lines.iter_mut().enumerate() {
            let row = n.checked_sub(head_lines).and_then(|n| rows.get(n));
            match (row, &self.marks) {
                (None, _) => *line = text::head(line),
                (Some(row), Some(marks)) if marks(row) => *line = text::outlier(line),
                _ => (),
            }
        }
        if !left_out.is_empty() {
            let names: Vec<String> = left_out.iter().map(|head| head.replace('\n', " ")).collect();
            let words = format!(
                "no room for: {}; widen the terminal or use --format csv",
                names.join(", ")
            );
            lines.push(text::sentence(&words).trim_end().into());
        }
        lines.join("\n") + "\n"
    }

    /// The table as CSV.
    pub(crate) fn csv(&self, rows: impl IntoIterator<Item = R>) -> Result<String> {
        let columns: Vec<&Column<'t, R>> =
            self.columns.iter().filter(|column| !column.key.is_empty()).collect();
        let mut writer = csv::WriterBuilder::new().from_writer(Vec::new());
        let heads = columns.iter().flat_map(|column| {
            let u = matches!(column.form, Form::Measured { .. });
            [Some(column.key.to_string()), u.then(|| format!("{}_u", column.key))]
        });
        writer.write_record(heads.flatten())?;
        let mut cells = Vec::with_capacity(columns.len());
        for row in rows {
            cells.clear();
            cells.extend(columns.iter().map(|column| (column.form, (column.cell)(&row))));
            writer.serialize(cells.iter().flat_map(plain).flatten().collect::<Vec<_>>())?;
        }
        Ok(String::from_utf8(writer.into_inner()?)?)
    }

    /// The table for the report, whole.
    pub(crate) fn page(&self, caption: impl Into<String>, rows: &[R]) -> ReportTable {
        let shown: Vec<&Column<'t, R>> =
            self.columns.iter().filter(|column| !column.head.is_empty()).collect();
        ReportTable {
            caption: caption.into(),
            head: shown.iter().flat_map(|column| column.heads()).collect(),
            rows: rows
                .iter()
                .map(|row| shown.iter().flat_map(|column| column.texts(row)).collect())
                .collect(),
            links: Vec::new(),
        }
    }
}

impl<R> Column<'_, R> {
    fn heads(&self) -> Vec<String> {
        let mut heads = vec![self.head.to_string()];
        if let Form::Measured { .. } = self.form {
            heads.push("± u".into());
        }
        heads
    }

    /// What a row has in this column: two texts if it has an uncertainty.
    fn texts(&self, row: &R) -> Vec<String> {
        let cell = (self.cell)(row);
        let with_sign = |text: String, signed| if signed { text::signed(text) } else { text };
        match (self.form, cell) {
            (Form::Measured { .. }, Cell::Unknown) => vec![text::UNKNOWN.into(), String::new()],
            (_, Cell::Unknown) => vec![text::UNKNOWN.into()],
            (Form::Measured { most, signed }, Cell::Measured(value)) => {
                let [number, u] = text::measured(value.value, value.u, most);
                vec![with_sign(number, signed), u]
            }
            (Form::Number { decimals, signed }, Cell::Number(value)) => {
                vec![with_sign(text::number(value, decimals), signed)]
            }
            (_, Cell::Number(value)) => vec![text::significant(value)],
            (_, Cell::Measured(value)) => vec![text::significant(value.value)],
            (_, Cell::Count(count)) => vec![text::grouped(count)],
            (_, Cell::Words(words)) => vec![words],
            (_, Cell::Flag(is_so)) => vec![if is_so { "yes" } else { "no" }.into()],
        }
    }

    fn side(&self) -> CellAlignment {
        if self.form == Form::Words { CellAlignment::Left } else { CellAlignment::Right }
    }
}

fn laid_out<R>(columns: &[&Column<'_, R>], rows: &[R]) -> Layout {
    let mut layout = Layout::new();
    layout.load_style(presets::NOTHING);
    let aligned = |texts: Vec<String>, side: CellAlignment| {
        texts.into_iter().map(move |text| Printed::new(text).set_alignment(side))
    };
    let head = columns.iter().flat_map(|column| aligned(column.heads(), column.side()));
    layout.set_header(head.collect::<Vec<_>>());
    for row in rows {
        let cells = columns.iter().flat_map(|column| aligned(column.texts(row), column.side()));
        layout.add_row(cells.collect::<Vec<_>>());
    }
    for column in layout.column_iter_mut() {
        column.set_padding((2, 0));
    }
    layout
}

/// A cell as CSV has it: with its uncertainty beside it if the column has one.
fn plain((form, cell): &(Form, Cell)) -> [Option<Plain<'_>>; 2] {
    let has_u = matches!(form, Form::Measured { .. });
    let u = |value: Plain<'static>| has_u.then_some(value);
    match cell {
        Cell::Unknown => [Some(Plain::Unknown(None)), u(Plain::Unknown(None))],
        Cell::Words(words) => [Some(Plain::Words(words)), None],
        Cell::Count(count) => [Some(Plain::Count(*count)), None],
        Cell::Flag(is_so) => [Some(Plain::Flag(*is_so)), None],
        Cell::Number(value) => [Some(Plain::number(*value)), None],
        Cell::Measured(value) => [Some(Plain::number(value.value)), u(Plain::number(value.u))],
    }
}

/// An item of what was measured of a part, with what stands before and behind it in CSV.
pub(crate) struct Row<'r, T: ?Sized> {
    pub(crate) part: &'r RowHead,
    pub(crate) item: &'r T,
}

/// What the rows of a part have in common.
pub(crate) struct RowHead {
    pub(crate) take: String,
    pub(crate) channel: String,
    pub(crate) level_reference: &'static str,
}

impl<'t, T: ?Sized> Table<'t, Row<'_, T>> {
    /// A table that begins with the take and the channel, in CSV.
    pub(crate) fn of_parts() -> Self {
        Self::new()
            .words("take", "", |row| row.part.take.clone())
            .words("channel", "", |row| row.part.channel.clone())
    }

    /// What levels refer to, as the last column in CSV.
    pub(crate) fn level_reference(self) -> Self {
        self.words("level_reference", "", |row| row.part.level_reference.into())
    }

    /// The fields of an item in their order: all of them in CSV, in text those that are shown.
    pub(crate) fn fields<U>(
        self,
        fields: &'t [Field<U>],
        shown: &[Shown<'t>],
        of: impl Fn(&T) -> &U + Copy + 't,
    ) -> Self {
        fields.iter().fold(self, |table, field| {
            let (key, decimals) = (field.label.field, field.label.decimals);
            let shown = shown.iter().find(|shown| shown.field == key);
            let head = shown.map_or(Cow::Borrowed(""), |shown| shown.head.clone());
            let (signed, rank) = shown.map_or((false, 0), |shown| (shown.signed, shown.rank));
            let form = match field.label {
                Label { has_u: true, .. } => Form::Measured { most: decimals, signed },
                Label { unit: Unit::One, decimals: 0, .. } => Form::Count,
                _ => Form::Number { decimals, signed },
            };
            let cell = move |row: &Row<'_, T>| match (form, field.value(of(row.item))) {
                (Form::Measured { .. }, value) => value.into(),
                (Form::Count, Some(value)) => Cell::Count(value.value as u64),
                (_, value) => value.map(|value| value.value).into(),
            };
            table.column(key, head, form, cell).rank(rank)
        })
    }
}

/// How a field is shown in text.
#[derive(Debug, Clone)]
pub(crate) struct Shown<'t> {
    field: &'static str,
    head: Cow<'t, str>,
    signed: bool,
    rank: u8,
}

impl<'t> Shown<'t> {
    /// A field under a head.
    pub(crate) fn new(field: &'static str, head: impl Into<Cow<'t, str>>) -> Self {
        Self { field, head: head.into(), signed: false, rank: 0 }
    }

    /// Which field it is.
    pub(crate) fn field(&self) -> &'static str {
        self.field
    }

    /// With its sign, as a difference has it.
    pub(crate) fn signed(self) -> Self {
        Self { signed: true, ..self }
    }

    /// Left out where there is no room: the higher the rank the sooner.
    pub(crate) fn rank(self, rank: u8) -> Self {
        Self { rank, ..self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table<'t>() -> Table<'t, (&'static str, f64, Option<f64>)> {
        Table::new()
            .words("name", "name", |row: &(&str, f64, Option<f64>)| row.0.to_string())
            .measured("f0_hz", "f0 Hz", 4, |row| Some(Measured::new(row.1, 0.02)))
            .signed("cents", "cents", 1, |row| row.2)
            .rank(2)
            .number("only_csv", "", 0, |row| Some(row.1))
    }

    #[test]
    fn one_description_makes_text_csv_and_page() {
        let rows = [("a", 440.123, Some(-1.25)), ("bbb", 22.0, None)];
        let wanted = "  name    f0 Hz    ± u  cents\n  a     440.123  0.020   −1.2\n  bbb    \
                      22.000  \
                      0.020      –\n";
        assert_eq!(table().text_within(&rows, None), wanted);
        let csv = table().csv(rows).expect("written");
        assert_eq!(
            csv,
            "name,f0_hz,f0_hz_u,cents,only_csv\na,440.123,0.02,-1.25,440.123\nbbb,22.0,0.02,,22.0\n"
        );
        let page = table().page("notes", &rows);
        assert_eq!(page.head, ["name", "f0 Hz", "± u", "cents"]);
        assert_eq!(page.rows[1], ["bbb", "22.000", "0.020", "–"]);
    }

    #[test]
    fn a_narrow_terminal_loses_what_matters_least() {
        let rows = [("a", 440.123, Some(-1.25))];
        let narrow = table().text_within(&rows, Some(26));
        assert!(narrow.starts_with("  name    f0 Hz    ± u\n  a     440.123  0.020\n"), "{narrow}");
        assert!(narrow.contains("no room for: cents"), "{narrow}");
        assert!(!table().text_within(&rows, Some(80)).contains("no room"));
    }
}
