//! Numbers at places, from a measurement or a simulation.

use super::TableFault;
use crate::table_rows::rows;
use crate::zones::FARTHEST;
use crate::{check, RecipeError, RecipeFault};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use ulmix_formats::{vtu, Limits};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// Rows of a table that a recipe holds, at most.
const MOST: usize = 20_000;
/// Rows of a file, at most.
const MOST_OF_FILE: usize = 2_000_000;

/// Numbers at places; without any it gives nothing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ValueTable {
    /// Name of the file that the numbers came from.
    pub name: String,
    /// Name of the column or array.
    pub column: String,
    /// Places in the part's axes. mm.
    pub places_mm: Vec<[f64; 3]>,
    /// Numbers by place, in the file's own unit.
    pub values: Vec<f64>,
}

/// A table from a file, and what else the file holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundTable {
    /// The numbers of one column.
    pub table: ValueTable,
    /// All columns that could have been taken.
    pub columns: Vec<String>,
    /// Rows of the file; more than the table has where those that lie near to each other became one.
    pub rows: usize,
    /// Least and greatest number.
    pub range: [f64; 2],
}

const FIELD: &str = "gradings";

fn refuse(fault: impl Into<RecipeFault>) -> RecipeError {
    RecipeError::new(FIELD, fault.into())
}

/// Places and numbers of a file, before they are thinned out.
struct FileNumbers {
    columns: Vec<String>,
    column: String,
    places: Vec<DVec3>,
    values: Vec<f64>,
}

impl ValueTable {
    /// A table of a file: CSV with x, y, z and one or more columns of numbers, or the VTU file of a
    /// simulation. `column` names the column or array, or the first one is taken; `mm` is the file's
    /// unit of length.
    ///
    /// # Errors
    /// A file that is damaged, empty or too large, a line without its numbers, a column that is not
    /// there, and work that was stopped.
    pub fn read(
        name: &str,
        bytes: &[u8],
        column: Option<&str>,
        mm: f64,
        limits: &Limits,
    ) -> Result<FoundTable, RecipeError> {
        check("mm", "The unit of length", "mm", mm, 1e-3, 1e5)?;
        let start = &bytes[..bytes.len().min(400)];
        let is_xml = String::from_utf8_lossy(start)
            .trim_start_matches('\u{feff}')
            .trim_start()
            .starts_with('<');
        let rows = if is_xml {
            let file = |error| refuse(RecipeFault::File { name: name.into(), error });
            of_simulation(name, vtu::read(bytes, limits).map_err(file)?, column)?
        } else {
            of_text(name, &String::from_utf8_lossy(bytes), column)?
        };
        let FileNumbers { columns, column, places, values } = rows;
        let count = values.len();
        let places: Vec<DVec3> = places.into_iter().map(|p| p * mm).collect();
        if let Some(n) = places.iter().position(|p| p.abs().max_element() > FARTHEST) {
            let (name, line, text) = (name.into(), n + 1, places[n].to_string());
            return Err(refuse(RecipeFault::NotAPoint { name, line, text }));
        }
        let (places, values) = thinned(places, values);
        let least = values.iter().copied().fold(f64::INFINITY, f64::min);
        let most = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let places_mm = places.iter().map(|p| p.to_array()).collect();
        let table = ValueTable { name: name.into(), column, places_mm, values };
        Ok(FoundTable { table, columns, rows: count, range: [least, most] })
    }

    pub(super) fn validate(&self, field: &str) -> Result<(), RecipeError> {
        let count = self.values.len();
        check(field, "The number of rows", "", count as f64, 0.0, MOST as f64)?;
        if self.places_mm.len() != count {
            return Err(RecipeError::new(field, TableFault::RaggedTable(self.name.clone()).into()));
        }
        let places = self.places_mm.iter().flatten();
        places
            .copied()
            .try_for_each(|v| check(field, "A place of the table", "mm", v, -FARTHEST, FARTHEST))?;
        self.values.iter().try_for_each(|v| check(field, "A number", "", *v, -1e30, 1e30))
    }
}

/// Numbers of points, or of the middles of cells.
fn of_simulation(
    name: &str,
    file: vtu::PlacedNumbers,
    column: Option<&str>,
) -> Result<FileNumbers, RecipeError> {
    let called = |a: &vtu::NumberArray| {
        format!("{} of {}", a.name, if a.of_cells { "cells" } else { "points" })
    };
    let columns: Vec<String> = file.arrays.iter().map(called).collect();
    let at = chosen(name, &columns, column)?;
    let array = &file.arrays[at];
    if let Some(n) = array.values.iter().position(|v| !v.is_finite()) {
        let (column, row) = (columns[at].clone(), n + 1);
        return Err(refuse(TableFault::NotANumber { name: name.into(), column, row }));
    }
    let places = if array.of_cells { file.middles } else { file.points };
    let values = array.values.clone();
    Ok(FileNumbers { column: columns[at].clone(), columns, places, values })
}

/// Numbers of a text's lines.
fn of_text(name: &str, text: &str, column: Option<&str>) -> Result<FileNumbers, RecipeError> {
    let mut columns: Vec<String> = Vec::new();
    let mut at = 0;
    let (mut places, mut values) = (Vec::new(), Vec::new());
    for row in rows(text) {
        if row.first {
            let named = row.number(0).is_none();
            let title = |n: usize| {
                let given = row.cells.get(n).filter(|_| named);
                given.map_or_else(
                    || format!("column {}", n + 1),
                    |cell| cell.chars().take(80).collect(),
                )
            };
            columns = (3..row.cells.len()).map(title).collect();
            if columns.is_empty() {
                return Err(refuse(TableFault::NoColumn(name.into())));
            }
            at = chosen(name, &columns, column)?;
            if named {
                continue;
            }
        }
        let (Some(x), Some(y), Some(z), Some(value)) =
            (row.number(0), row.number(1), row.number(2), row.number(3 + at))
        else {
            let (name, line, text) = (name.into(), row.line, row.text());
            return Err(refuse(TableFault::NotARow { name, line, text }));
        };
        places.push(DVec3::new(x, y, z));
        values.push(value);
        if values.len() > MOST_OF_FILE {
            return Err(refuse(TableFault::TooManyRows { name: name.into(), most: MOST_OF_FILE }));
        }
    }
    if values.is_empty() {
        return Err(refuse(TableFault::NoRows(name.into())));
    }
    Ok(FileNumbers { column: columns[at].clone(), columns, places, values })
}

/// Number of the column of a name, or of the first one.
fn chosen(name: &str, columns: &[String], column: Option<&str>) -> Result<usize, RecipeError> {
    let Some(wanted) = column else { return Ok(0) };
    columns.iter().position(|c| c == wanted).ok_or_else(|| {
        refuse(TableFault::NoSuchColumn { name: name.into(), column: wanted.into() })
    })
}

/// Rows that lie in one bin of a grid become one in their middle, with the mean of their numbers,
/// where there are more than a recipe holds. Rows at one place always become one.
fn thinned(places: Vec<DVec3>, values: Vec<f64>) -> (Vec<DVec3>, Vec<f64>) {
    let bounds = Bounds::of(places.iter().copied());
    let longest = bounds.size().max_element().max(1e-9);
    let binned = |edge: f64| {
        let mut bins: BTreeMap<[i64; 3], (DVec3, f64, f64)> = BTreeMap::new();
        for (p, v) in places.iter().zip(&values) {
            let key = ((*p - bounds.min) / edge).floor().to_array().map(|c| c as i64);
            let bin = bins.entry(key).or_default();
            *bin = (bin.0 + *p, bin.1 + v, bin.2 + 1.0);
        }
        bins.into_values()
            .map(|(p, v, count)| (p / count, v / count))
            .unzip::<_, _, Vec<_>, Vec<_>>()
    };
    let mut edge = 1e-6 * longest;
    let mut found = binned(edge);
    if found.1.len() > MOST {
        edge = longest / MOST as f64;
    }
    while found.1.len() > MOST {
        edge *= 1.5;
        found = binned(edge);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str, column: Option<&str>) -> Result<FoundTable, RecipeError> {
        ValueTable::read("t.csv", text.as_bytes(), column, 1.0, &Limits::default())
    }

    #[test]
    fn tables_of_every_make_are_read() {
        for text in [
            "x,y,z,heat,force\n1,2,3,4,5\n6,7,8,9,10\n",
            "x;y;z;heat;force\n1;2;3;4;5\n6;7;8,0;9;10",
        ] {
            let found = read(text, None).unwrap();
            assert_eq!(found.columns, ["heat", "force"]);
            assert_eq!(found.table.values, [4.0, 9.0]);
            assert_eq!((found.rows, found.range), (2, [4.0, 9.0]));
            let force = read(text, Some("force")).unwrap().table;
            assert_eq!((&force.column[..], &force.values[..]), ("force", &[5.0, 10.0][..]));
            assert!(force.validate("gradings.0").is_ok());
        }
        let named = read("x,y,z,impact g,\n1,2,3,4,\n", None).unwrap();
        assert_eq!(named.columns, ["impact g"]);
        let unnamed = read("1 2 3 4\n", None).unwrap();
        assert_eq!(unnamed.columns, ["column 4"]);
        let metres = ValueTable::read("t.csv", b"1,0,0,7", None, 1000.0, &Limits::default());
        assert_eq!(metres.unwrap().table.places_mm, [[1000.0, 0.0, 0.0]]);
    }

    #[test]
    fn what_is_wrong_is_told_by_its_line() {
        for (text, words) in [
            ("", "no rows"),
            ("x,y,z,heat\n", "no rows"),
            ("x,y,z\n1,2,3\n", "no column"),
            ("x,y,z,heat\n1,2,3,4\n1,2,3\n", "Line 3"),
            ("x,y,z,heat\n1,2,3,NaN\n", "Line 2"),
            ("1,2,1e9,4\n", "Line 1"),
            ("<VTKFile type=\"PolyData\"/>", "unstructured grid"),
        ] {
            let told = read(text, None).unwrap_err().message();
            assert!(told.contains(words), "{told} for {text}");
        }
        assert!(read("1,2,3,4\n", Some("cold")).unwrap_err().message().contains("cold"));
    }

    /// More rows than a recipe holds become fewer with the same mean; none is left out.
    #[test]
    fn many_rows_become_fewer_with_the_same_mean() {
        let mut text = String::from("x,y,z,v\n");
        for n in 0..50_000 {
            let place = [n % 50, n / 50 % 50, n / 2500];
            text += &format!("{},{},{},{}\n", place[0], place[1], place[2], place[0]);
        }
        let found = read(&text, None).unwrap();
        assert_eq!(found.rows, 50_000);
        let held = found.table.values.len();
        assert!((3000..=MOST).contains(&held), "{held}");
        assert!(found
            .table
            .places_mm
            .iter()
            .zip(&found.table.values)
            .all(|(p, v)| (p[0] - v).abs() < 1e-9));
        let twice = read("1,2,3,4\n1,2,3,6\n", None).unwrap();
        assert_eq!(twice.table.values, [5.0]);
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[0-9a-z,;. \t\n\"#eE+<>-]{0,200}") {
            if let Ok(found) = read(&text, None) {
                prop_assert!(found.table.validate("gradings.0").is_ok());
            }
        }
    }
}
