//! VTK XML files of unstructured grids, read: points, middles of cells, and the numbers that they
//! have (Kitware 2010, VTK file formats for version 4.2 and later). Text, base64 and raw arrays, in
//! line or appended, plain or compressed by zlib.

mod packed;

use crate::error::Format;
use crate::{FormatError, Limits};
use glam::DVec3;
use packed::{size_of, PackedArray, Packing};
use quick_xml::events::{BytesStart, Event};
use std::collections::HashMap;

/// Places with numbers, as a file of a simulation holds them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct PlacedNumbers {
    /// Places of points, in the file's unit.
    pub points: Vec<DVec3>,
    /// Middles of cells, in the file's unit.
    pub middles: Vec<DVec3>,
    /// Arrays of points and cells.
    pub arrays: Vec<NumberArray>,
}

/// A number for every point or cell.
#[derive(Clone, Debug, PartialEq)]
pub struct NumberArray {
    /// As the file calls it.
    pub name: String,
    /// Does it belong to cells, not to points?
    pub of_cells: bool,
    /// The number; of several components the length of their vector.
    pub values: Vec<f64>,
}

/// Arrays of a file, at most.
const MOST_ARRAYS: usize = 400;
/// Components of an array, at most: those of a tensor.
const MOST_COMPONENTS: usize = 9;
/// Corners of a cell in the mean, at most.
const MOST_CORNERS: usize = 64;

fn broken(what: impl Into<String>) -> FormatError {
    FormatError::damaged(Format::Vtu, what)
}

/// Reads a file.
///
/// # Errors
/// A file that is damaged, cut short, of another kind or passes a limit, and work that was stopped.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<PlacedNumbers, FormatError> {
    let (head, appended) = split(bytes)?;
    let mut reader = quick_xml::Reader::from_str(head);
    reader.config_mut().check_end_names = false;
    let mut found = VtuReader { appended, ..VtuReader::of(limits) };
    let mut open: Option<VtuArray> = None;
    for step in 0.. {
        limits.go_on(step)?;
        let at = reader.buffer_position();
        let wrong = |what: String| broken(format!("The file is not valid at byte {at}: {what}."));
        match reader.read_event().map_err(|e| wrong(e.to_string()))? {
            Event::Start(e) => open = found.begin(&e)?,
            Event::Empty(e) => {
                if let Some(array) = found.begin(&e)? {
                    found.end(array, "")?;
                }
                found.leave(e.local_name().as_ref());
            }
            Event::Text(text) => {
                if let Some(array) = open.take() {
                    found.end(array, &text)?;
                }
            }
            Event::End(e) => {
                if let Some(array) = open.take() {
                    found.end(array, "")?;
                }
                found.leave(e.local_name().as_ref());
            }
            Event::Eof => break,
            _ => {}
        }
    }
    found.finished()
}

/// What stands in the file before its appended data, and that data.
fn split(bytes: &[u8]) -> Result<(&str, Option<AppendedArrays<'_>>), FormatError> {
    let text = |bytes| std::str::from_utf8(bytes).map_err(|_| broken("The file is not text."));
    const TAG: &[u8] = b"<AppendedData";
    let Some(at) = bytes.windows(TAG.len()).position(|w| w == TAG) else {
        return Ok((text(bytes)?, None));
    };
    let rest = &bytes[at..];
    let start = rest.iter().position(|b| *b == b'_');
    let start = start.ok_or_else(|| broken("The appended data does not begin with “_”."))?;
    let raw = rest[..start].windows(5).any(|w| w == b"\"raw\"");
    Ok((text(&bytes[..at])?, Some(AppendedArrays { data: &rest[start + 1..], raw })))
}

/// Arrays that stand together at the file's end.
#[derive(Clone, Copy)]
struct AppendedArrays<'a> {
    data: &'a [u8],
    raw: bool,
}

/// Where an element stands.
#[derive(Clone, Copy, PartialEq)]
enum VtuSection {
    Points,
    Cells,
    PointData,
    CellData,
}

/// An array whose numbers come next.
struct VtuArray {
    room: VtuSection,
    name: String,
    kind: String,
    components: usize,
    format: String,
    offset: usize,
}

struct VtuReader<'a> {
    limits: &'a Limits<'a>,
    appended: Option<AppendedArrays<'a>>,
    packing: Packing,
    is_grid: bool,
    room: Option<VtuSection>,
    /// Points and cells of the piece that is read, and of those before.
    piece: [usize; 2],
    before: [usize; 2],
    cells: HashMap<String, Vec<f64>>,
    out: PlacedNumbers,
}

impl<'a> VtuReader<'a> {
    fn of(limits: &'a Limits<'a>) -> VtuReader<'a> {
        VtuReader {
            limits,
            appended: None,
            packing: Packing::default(),
            is_grid: false,
            room: None,
            piece: [0; 2],
            before: [0; 2],
            cells: HashMap::new(),
            out: PlacedNumbers::default(),
        }
    }

    /// An element begins. Gives the array whose numbers it holds.
    fn begin(&mut self, e: &BytesStart) -> Result<Option<VtuArray>, FormatError> {
        let attributes = attributes(e)?;
        let get = |name: &str| attributes.get(name).map(String::as_str);
        match e.local_name().as_ref() {
            "VTKFile" => {
                self.is_grid = get("type") == Some("UnstructuredGrid");
                self.packing.big_endian = get("byte_order") == Some("BigEndian");
                self.packing.wide_header = get("header_type") == Some("UInt64");
                match get("compressor") {
                    None => {}
                    Some("vtkZLibDataCompressor") => self.packing.compressed = true,
                    Some(other) => {
                        return Err(broken(format!("Its arrays are compressed by {other}.")))
                    }
                }
            }
            "Piece" => {
                let most = self.limits.points;
                let count = |name: &str| {
                    let count = get(name).and_then(|v| v.parse::<usize>().ok());
                    let count = count.ok_or_else(|| broken(format!("A piece lacks {name}.")))?;
                    if count > most {
                        return Err(FormatError::TooMany { what: "points", most });
                    }
                    Ok(count)
                };
                self.before = [self.out.points.len(), self.out.middles.len()];
                self.piece = [count("NumberOfPoints")?, count("NumberOfCells")?];
                if self.before[0] + self.piece[0] > most {
                    return Err(FormatError::TooMany { what: "points", most });
                }
            }
            "Points" => self.room = Some(VtuSection::Points),
            "Cells" => self.room = Some(VtuSection::Cells),
            "PointData" => self.room = Some(VtuSection::PointData),
            "CellData" => self.room = Some(VtuSection::CellData),
            "DataArray" => {
                let Some(room) = self.room else { return Ok(None) };
                let number = |name: &str, other: usize| {
                    get(name).and_then(|v| v.trim().parse::<usize>().ok()).unwrap_or(other)
                };
                let components = number("NumberOfComponents", 1);
                if components == 0 || components > MOST_COMPONENTS {
                    return Err(broken(format!("An array has {components} components.")));
                }
                return Ok(Some(VtuArray {
                    room,
                    name: get("Name").unwrap_or("").chars().take(100).collect(),
                    kind: get("type").unwrap_or("").into(),
                    components,
                    format: get("format").unwrap_or("ascii").into(),
                    offset: number("offset", 0),
                }));
            }
            _ => {}
        }
        Ok(None)
    }

    /// An element ends.
    fn leave(&mut self, name: &str) {
        if matches!(name, "Points" | "Cells" | "PointData" | "CellData") {
            self.room = None;
        }
    }

    /// Takes the numbers of an array, whose text is given.
    fn end(&mut self, array: VtuArray, text: &str) -> Result<(), FormatError> {
        let [points, cells] = self.piece;
        let count = match (array.room, array.name.as_str()) {
            (VtuSection::Points, _) => 3 * points,
            (VtuSection::PointData, _) => array.components * points,
            (VtuSection::CellData, _) | (VtuSection::Cells, "offsets") => array.components * cells,
            (VtuSection::Cells, "connectivity") => MOST_CORNERS * cells,
            (VtuSection::Cells, _) => return Ok(()),
        };
        let values = self.numbers(&array, text, count)?;
        let whole = array.room == VtuSection::Cells && array.name == "connectivity";
        if !whole && values.len() != count {
            let (name, held) = (&array.name, values.len());
            return Err(broken(format!("The array “{name}” has {held} of {count} numbers.")));
        }
        match array.room {
            VtuSection::Points => {
                self.out.points.extend(values.as_chunks::<3>().0.iter().map(|p| DVec3::from(*p)))
            }
            VtuSection::Cells => {
                self.cells.insert(array.name, values);
                self.middles()?;
            }
            VtuSection::PointData | VtuSection::CellData => {
                let of_cells = array.room == VtuSection::CellData;
                let length = |c: &[f64]| match c {
                    [one] => *one,
                    more => more.iter().map(|v| v * v).sum::<f64>().sqrt(),
                };
                let values = values.chunks(array.components).map(length);
                let same = |a: &&mut NumberArray| a.of_cells == of_cells && a.name == array.name;
                let room = self.out.arrays.len() < MOST_ARRAYS;
                let known = self.out.arrays.iter_mut().find(same);
                let before = self.before[of_cells as usize];
                match known {
                    Some(known) if known.values.len() == before => known.values.extend(values),
                    None if before == 0 && room => {
                        let values = values.collect();
                        self.out.arrays.push(NumberArray { name: array.name, of_cells, values });
                    }
                    // Not every piece has it, or there are too many.
                    _ => {}
                }
            }
        }
        Ok(())
    }

    /// Middles of the piece's cells, once both arrays that say their corners are there.
    fn middles(&mut self) -> Result<(), FormatError> {
        let (Some(corners), Some(ends)) =
            (self.cells.get("connectivity"), self.cells.get("offsets"))
        else {
            return Ok(());
        };
        let points = self.out.points.get(self.before[0]..).unwrap_or_default();
        let mut from = 0;
        for (n, end) in ends.iter().enumerate() {
            let fault = || broken(format!("Cell {} has corners that are not there.", n + 1));
            let to = *end as usize;
            let held = corners.get(from..to).filter(|held| !held.is_empty()).ok_or_else(fault)?;
            let places: Option<Vec<DVec3>> =
                held.iter().map(|c| points.get(*c as usize).copied()).collect();
            let places = places.ok_or_else(fault)?;
            self.out.middles.push(places.iter().sum::<DVec3>() / places.len() as f64);
            from = to;
        }
        self.cells.clear();
        Ok(())
    }

    /// The numbers of an array, no more than `most`.
    fn numbers(&self, array: &VtuArray, text: &str, most: usize) -> Result<Vec<f64>, FormatError> {
        let VtuArray { name, kind, format, .. } = array;
        if format == "ascii" {
            let number = |word: &str| {
                word.parse::<f64>()
                    .map_err(|_| broken(format!("The array “{name}” holds “{word:.20}”.")))
            };
            return text.split_ascii_whitespace().take(most + 1).map(number).collect();
        }
        let size = size_of(kind)
            .ok_or_else(|| broken(format!("The array “{name}” is of the type “{kind:.20}”.")))?;
        let cut = || broken(format!("The array “{name}” is cut short."));
        let packing = self.packing;
        let bytes = match (format.as_str(), self.appended) {
            ("binary", _) => {
                packing.unpacked(PackedArray::Text(text.as_bytes()), most * size).ok_or_else(cut)?
            }
            ("appended", Some(AppendedArrays { data, raw })) => {
                let data = data.get(array.offset..).ok_or_else(cut)?;
                let packed = if raw { PackedArray::Raw(data) } else { PackedArray::Text(data) };
                packing.unpacked(packed, most * size).ok_or_else(cut)?
            }
            _ => return Err(broken(format!("The array “{name}” is nowhere in the file."))),
        };
        let one = |bytes: &[u8]| packing.number(kind, bytes);
        Ok(bytes.chunks_exact(size).map(one).collect())
    }

    fn finished(self) -> Result<PlacedNumbers, FormatError> {
        if !self.is_grid {
            return Err(broken("It is no VTK XML file of an unstructured grid."));
        }
        let out = self.out;
        if out.points.is_empty() {
            return Err(broken("It holds no points."));
        }
        if let Some(n) = out.points.iter().position(|p| !p.is_finite()) {
            let place = format!("{}", out.points[n]);
            return Err(FormatError::Coordinate { of: "Point", number: n + 1, place });
        }
        let whole = |a: &NumberArray| {
            a.values.len() == if a.of_cells { out.middles.len() } else { out.points.len() }
        };
        let arrays: Vec<NumberArray> = out.arrays.iter().filter(|a| whole(a)).cloned().collect();
        if arrays.is_empty() {
            return Err(broken("It holds no numbers of points or cells."));
        }
        Ok(PlacedNumbers { arrays, ..out })
    }
}

fn attributes(e: &BytesStart) -> Result<HashMap<String, String>, FormatError> {
    let read = |a: Result<quick_xml::events::attributes::Attribute, _>| {
        let a = a.map_err(|_: quick_xml::events::attributes::AttrError| {
            broken("An element has attributes that cannot be read.")
        })?;
        Ok((a.key.local_name().as_ref().to_owned(), a.value.to_string()))
    };
    e.attributes().map(read).collect()
}

#[cfg(test)]
mod tests;
