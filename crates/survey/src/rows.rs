//! The numbers of a result as rows of tables.
//!
//! A command has a wide table of its own name with one row a take, and a long one for each list in
//! its results, with one row an item:
//!
//! | key | wide: `pitch` | long: `pitch_notes` |
//! |---|---|---|
//! | `f0_hz` | column `f0_hz` | |
//! | `notes[1].f0_hz` | column `notes_1_f0_hz` | row with `number` 1, column `f0_hz` |
//! | `notes[40].f0_hz` | | row with `number` 40, column `f0_hz` |
//! | `tristimulus[2]` | column `tristimulus_2` | |
//!
//! The wide table has the first items of a list ([`WIDE_ITEMS`], [`WIDE_BANDS`]), which a take of one
//! note is about; the long one has all. Items within items stand in the long tables alone.

use std::collections::BTreeMap;

use tonemap_core::quantity::{Item, Quantity};

/// Items of a list by number that the wide table has.
pub const WIDE_ITEMS: usize = 8;
/// Bands of a list that the wide table has: third octaves from 1 Hz to 20 kHz.
pub const WIDE_BANDS: usize = 48;
/// Items of a list that are themselves numbers.
const WIDE_NUMBERS: usize = 64;
/// Columns of a wide table; a database holds 2000.
const WIDE_COLUMNS: usize = 1900;

/// A column of a table, with what it holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// The key of the number in JSON; of items of a list without which item.
    pub key: String,
    /// The number in words.
    pub words: String,
    /// Symbol of its unit; empty for a pure number.
    pub unit: String,
    /// Decimals that are worth printing.
    pub decimals: usize,
    /// Whether an uncertainty belongs to it, in a column of the same name with `_u` behind it.
    pub has_u: bool,
}

/// One row of a table: which item of a take it is of, and what is known of it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Row {
    /// Which item: columns and values; none for the take itself.
    pub item: Vec<(String, f64)>,
    /// Columns, each with value and uncertainty as far as they are known.
    pub cells: Vec<(Column, Option<f64>, Option<f64>)>,
}

/// The rows of a result, by the names of their tables.
#[must_use]
pub fn rows_of(command: &str, quantities: &[Quantity]) -> BTreeMap<String, Vec<Row>> {
    let mut tables: BTreeMap<String, Vec<Row>> = BTreeMap::new();
    tables.insert(command.into(), vec![Row::default()]);
    // Bands of a list are counted as they come.
    let mut bands: BTreeMap<String, Vec<u64>> = BTreeMap::new();
    for quantity in quantities {
        let (items, below) = quantity.key.items();
        let is_wide = match items.as_slice() {
            [] => true,
            [one] => match one.item {
                Item::Number(number) if below.is_empty() => number <= WIDE_NUMBERS,
                Item::Number(number) => number <= WIDE_ITEMS,
                Item::Frequency(mhz) => {
                    let seen = bands.entry(one.list.clone()).or_default();
                    if !seen.contains(&mhz) {
                        seen.push(mhz);
                    }
                    seen.iter().position(|known| *known == mhz).is_some_and(|n| n < WIDE_BANDS)
                }
            },
            _ => false,
        };
        let value = quantity.value.map(|measured| measured.value);
        let u = quantity.value.map(|measured| measured.u).filter(|u| u.is_finite());
        let column = |name: String, key: String, words: &str| Column {
            name,
            key,
            words: words.into(),
            unit: quantity.unit.symbol().into(),
            decimals: quantity.decimals,
            has_u: quantity.has_u,
        };
        let wide = tables.entry(command.into()).or_default();
        if let (true, [row]) = (is_wide, wide.as_mut_slice())
            && row.cells.len() < WIDE_COLUMNS / 2
        {
            let name = quantity.key.column();
            row.cells.push((column(name, quantity.key.to_string(), &quantity.name), value, u));
        }
        let Some(list) = items.last().filter(|_| !below.is_empty()) else { continue };
        let table = format!("{command}_{}", list.list.replace('.', "_"));
        let which = which(&items);
        let rows = tables.entry(table).or_default();
        if rows.last().is_none_or(|row| row.item != which) {
            rows.push(Row { item: which, cells: Vec::new() });
        }
        // "partial 3, decay" is the decay of an item of the list.
        let words = quantity.name.split_once(", ").map_or(&*quantity.name, |(_, rest)| rest);
        let key = format!("{}[].{below}", list.list);
        let name = below.replace('.', "_");
        // A number that says which item it is of stands there already.
        let is_place = |row: &Row| row.item.iter().any(|(place, _)| *place == name);
        if let Some(row) = rows.last_mut().filter(|row| !is_place(row)) {
            row.cells.push((column(name, key, words), value, u));
        }
    }
    tables
}

/// Which item of a take a row is of: a column for each list on the way, the last one's `number` or
/// `center_hz`.
fn which(items: &[tonemap_core::quantity::ListItem]) -> Vec<(String, f64)> {
    let last = items.len().saturating_sub(1);
    let named = |(n, one): (usize, &tonemap_core::quantity::ListItem)| {
        let list = one.list.rsplit('.').next().unwrap_or_default();
        let (plain, value) = match one.item {
            Item::Number(number) => ("number", number as f64),
            Item::Frequency(mhz) => ("center_hz", mhz as f64 / 1e3),
        };
        (if n == last { plain.into() } else { format!("{list}_{plain}") }, value)
    };
    items.iter().enumerate().map(named).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use tonemap_core::Measured;
    use tonemap_core::quantity::{Label, Unit};

    fn quantity(key: &str, name: &'static str, value: f64) -> Quantity {
        let label = Label::new("x", name, Unit::Hertz, 2).with_u();
        Quantity::new(key.parse().expect("a key"), &label, Some(Measured::new(value, 0.5)))
    }

    #[test]
    fn a_number_stands_where_it_is_looked_for() {
        let keys = [
            ("f0_hz", "fundamental", 440.0),
            ("tristimulus[2]", "tristimulus 2", 0.3),
            ("notes[1].f0_hz", "note 1, fundamental", 441.0),
            ("notes[1].rivals[2].f0_hz", "note 1, alternative 2, fundamental", 220.0),
            ("notes[9].f0_hz", "note 9, fundamental", 449.0),
            ("regions.whole.partials[3].level_db", "partial 3, level", -3.0),
            ("bands[31.5Hz].level_db", "31.5 Hz, level", -30.0),
            ("bands[31.5Hz].center_hz", "31.5 Hz, middle", 31.5),
        ];
        let all: Vec<Quantity> = keys.map(|(key, name, x)| quantity(key, name, x)).into();
        let tables = rows_of("pitch", &all);
        let names: Vec<&String> = tables.keys().collect();
        assert_eq!(
            names,
            [
                "pitch",
                "pitch_bands",
                "pitch_notes",
                "pitch_notes_rivals",
                "pitch_regions_whole_partials"
            ]
        );
        let wide: Vec<&str> =
            tables["pitch"][0].cells.iter().map(|(column, ..)| column.name.as_str()).collect();
        assert_eq!(
            wide,
            [
                "f0_hz",
                "tristimulus_2",
                "notes_1_f0_hz",
                "regions_whole_partials_3_level_db",
                "bands_31_5Hz_level_db",
                "bands_31_5Hz_center_hz"
            ]
        );
        let notes = &tables["pitch_notes"];
        assert_eq!(notes[1].item, [("number".to_string(), 9.0)]);
        let (column, value, u) = &notes[1].cells[0];
        assert_eq!((column.name.as_str(), *value, *u), ("f0_hz", Some(449.0), Some(0.5)));
        assert_eq!((column.key.as_str(), column.words.as_str()), ("notes[].f0_hz", "fundamental"));
        let rival = &tables["pitch_notes_rivals"][0];
        assert_eq!(rival.item, [("notes_number".to_string(), 1.0), ("number".to_string(), 2.0)]);
        let band = &tables["pitch_bands"][0];
        assert_eq!(
            (band.item.clone(), band.cells.len()),
            (vec![("center_hz".to_string(), 31.5)], 1)
        );
    }

    #[test]
    fn bands_and_items_beyond_the_first_stand_in_the_long_table_alone() {
        let bands = (0..100).map(|n| quantity(&format!("bands[{}Hz].level_db", n + 1), "x", 0.0));
        let notes = (1..=100).map(|n| quantity(&format!("notes[{n}].f0_hz"), "x", 0.0));
        let tables = rows_of("c", &bands.chain(notes).collect::<Vec<_>>());
        assert_eq!(tables["c"][0].cells.len(), WIDE_BANDS + WIDE_ITEMS);
        assert_eq!((tables["c_bands"].len(), tables["c_notes"].len()), (100, 100));
    }
}
