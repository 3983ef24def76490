//! VTK XML files of unstructured grids, read: points, middles of cells, and the numbers that they
//! have (Kitware 2010, VTK file formats for version 4.2 and later). Text, base64 and raw arrays, in
//! line or appended, plain or compressed by zlib.

use crate::error::Format;
use crate::{FormatError, Limits};
use flate2::read::ZlibDecoder;
use glam::DVec3;
use quick_xml::events::{BytesStart, Event};
use std::collections::HashMap;
use std::io::Read;

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
    let mut found = Found { appended, ..Found::of(limits) };
    let mut open: Option<Array> = None;
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
                if e.local_name().as_ref() != "DataArray" {
                    found.leave(e.local_name().as_ref());
                }
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
fn split(bytes: &[u8]) -> Result<(&str, Option<Appended<'_>>), FormatError> {
    let text = |bytes| std::str::from_utf8(bytes).map_err(|_| broken("The file is not text."));
    const TAG: &[u8] = b"<AppendedData";
    let Some(at) = bytes.windows(TAG.len()).position(|w| w == TAG) else {
        return Ok((text(bytes)?, None));
    };
    let rest = &bytes[at..];
    let start = rest.iter().position(|b| *b == b'_');
    let start = start.ok_or_else(|| broken("The appended data does not begin with “_”."))?;
    let raw = rest[..start].windows(5).any(|w| w == b"\"raw\"");
    Ok((text(&bytes[..at])?, Some(Appended { data: &rest[start + 1..], raw })))
}

/// Arrays that stand together at the file's end.
#[derive(Clone, Copy)]
struct Appended<'a> {
    data: &'a [u8],
    raw: bool,
}

/// Where an element stands.
#[derive(Clone, Copy, PartialEq)]
enum Room {
    Points,
    Cells,
    PointData,
    CellData,
}

/// An array whose numbers come next.
struct Array {
    room: Room,
    name: String,
    kind: String,
    components: usize,
    format: String,
    offset: usize,
}

struct Found<'a> {
    limits: &'a Limits<'a>,
    appended: Option<Appended<'a>>,
    big_endian: bool,
    wide_header: bool,
    compressed: bool,
    is_grid: bool,
    room: Option<Room>,
    /// Points and cells of the piece that is read, and of those before.
    piece: [usize; 2],
    before: [usize; 2],
    cells: HashMap<String, Vec<f64>>,
    out: PlacedNumbers,
}

impl<'a> Found<'a> {
    fn of(limits: &'a Limits<'a>) -> Found<'a> {
        Found {
            limits,
            appended: None,
            big_endian: false,
            wide_header: false,
            compressed: false,
            is_grid: false,
            room: None,
            piece: [0; 2],
            before: [0; 2],
            cells: HashMap::new(),
            out: PlacedNumbers::default(),
        }
    }

    /// An element begins. Gives the array whose numbers it holds.
    fn begin(&mut self, e: &BytesStart) -> Result<Option<Array>, FormatError> {
        let attributes = attributes(e)?;
        let get = |name: &str| attributes.get(name).map(String::as_str);
        match e.local_name().as_ref() {
            "VTKFile" => {
                self.is_grid = get("type") == Some("UnstructuredGrid");
                self.big_endian = get("byte_order") == Some("BigEndian");
                self.wide_header = get("header_type") == Some("UInt64");
                match get("compressor") {
                    None => {}
                    Some("vtkZLibDataCompressor") => self.compressed = true,
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
            "Points" => self.room = Some(Room::Points),
            "Cells" => self.room = Some(Room::Cells),
            "PointData" => self.room = Some(Room::PointData),
            "CellData" => self.room = Some(Room::CellData),
            "DataArray" => {
                let Some(room) = self.room else { return Ok(None) };
                let number = |name: &str, other: usize| {
                    get(name).and_then(|v| v.trim().parse::<usize>().ok()).unwrap_or(other)
                };
                let components = number("NumberOfComponents", 1);
                if components == 0 || components > MOST_COMPONENTS {
                    return Err(broken(format!("An array has {components} components.")));
                }
                return Ok(Some(Array {
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
    fn end(&mut self, array: Array, text: &str) -> Result<(), FormatError> {
        let [points, cells] = self.piece;
        let count = match (array.room, array.name.as_str()) {
            (Room::Points, _) => 3 * points,
            (Room::PointData, _) => array.components * points,
            (Room::CellData, _) | (Room::Cells, "offsets") => array.components * cells,
            (Room::Cells, "connectivity") => MOST_CORNERS * cells,
            (Room::Cells, _) => return Ok(()),
        };
        let values = self.numbers(&array, text, count)?;
        let whole = array.room == Room::Cells && array.name == "connectivity";
        if !whole && values.len() != count {
            let (name, held) = (&array.name, values.len());
            return Err(broken(format!("The array “{name}” has {held} of {count} numbers.")));
        }
        match array.room {
            Room::Points => {
                self.out.points.extend(values.as_chunks::<3>().0.iter().map(|p| DVec3::from(*p)))
            }
            Room::Cells => {
                self.cells.insert(array.name, values);
                self.middles()?;
            }
            Room::PointData | Room::CellData => {
                let of_cells = array.room == Room::CellData;
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
    fn numbers(&self, array: &Array, text: &str, most: usize) -> Result<Vec<f64>, FormatError> {
        let Array { name, kind, format, .. } = array;
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
        let bytes = match (format.as_str(), self.appended) {
            ("binary", _) => {
                self.unpacked(Packed::Text(text.as_bytes()), most * size).ok_or_else(cut)?
            }
            ("appended", Some(Appended { data, raw })) => {
                let data = data.get(array.offset..).ok_or_else(cut)?;
                let packed = if raw { Packed::Raw(data) } else { Packed::Text(data) };
                self.unpacked(packed, most * size).ok_or_else(cut)?
            }
            _ => return Err(broken(format!("The array “{name}” is nowhere in the file."))),
        };
        let one = |bytes: &[u8]| {
            let mut held = [0; 8];
            held[..size].copy_from_slice(bytes);
            if self.big_endian {
                held[..size].reverse();
            }
            number_of(kind, held)
        };
        Ok(bytes.chunks_exact(size).map(one).collect())
    }

    /// The bytes of a packed array, no more than `most`. `None` where it is cut short or says that
    /// it is longer.
    fn unpacked(&self, packed: Packed, most: usize) -> Option<Vec<u8>> {
        let word = if self.wide_header { 8 } else { 4 };
        let length = |bytes: &[u8], n: usize| -> Option<usize> {
            let mut held = [0; 8];
            held[..word].copy_from_slice(bytes.get(n * word..(n + 1) * word)?);
            if self.big_endian {
                held[..word].reverse();
            }
            usize::try_from(u64::from_le_bytes(held)).ok()
        };
        if !self.compressed {
            let head = packed.bytes(0, word)?;
            let count = length(&head, 0).filter(|count| *count <= most)?;
            return Some(packed.bytes(0, word + count)?.split_off(word));
        }
        let blocks = length(&packed.bytes(0, word)?, 0)?;
        // Each block is at least one byte of the file.
        if blocks > packed.len() {
            return None;
        }
        let header = packed.bytes(0, word * (3 + blocks))?;
        let sizes: Vec<usize> =
            (0..blocks).map(|n| length(&header, 3 + n)).collect::<Option<_>>()?;
        let all = sizes.iter().try_fold(0usize, |sum, n| sum.checked_add(*n))?;
        let data = packed.after(header.len())?.bytes(0, all)?;
        let (mut out, mut from) = (Vec::new(), 0);
        for size in sizes {
            let block = data.get(from..from + size)?;
            let left = (most - out.len()) as u64 + 1;
            ZlibDecoder::new(block).take(left).read_to_end(&mut out).ok()?;
            if out.len() > most {
                return None;
            }
            from += size;
        }
        Some(out)
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

/// An array as it stands in the file.
#[derive(Clone, Copy)]
enum Packed<'a> {
    /// Base64 (RFC 4648).
    Text(&'a [u8]),
    Raw(&'a [u8]),
}

impl<'a> Packed<'a> {
    /// Bytes that it stands in.
    fn len(&self) -> usize {
        match self {
            Packed::Text(data) | Packed::Raw(data) => data.len(),
        }
    }

    /// So many bytes from a place on; `None` where there are fewer.
    fn bytes(&self, from: usize, count: usize) -> Option<Vec<u8>> {
        match self {
            Packed::Raw(data) => data.get(from..from.checked_add(count)?).map(<[u8]>::to_vec),
            Packed::Text(data) => {
                let bytes = base64(data, from.checked_add(count)?)?;
                Some(bytes[from..].to_vec())
            }
        }
    }

    /// What comes after a header of so many bytes: in text it is written on its own.
    fn after(self, header: usize) -> Option<Packed<'a>> {
        match self {
            Packed::Raw(data) => Some(Packed::Raw(data.get(header..)?)),
            Packed::Text(data) => {
                let begin = data.iter().position(|b| !b.is_ascii_whitespace())?;
                Some(Packed::Text(data.get(begin + header.div_ceil(3) * 4..)?))
            }
        }
    }
}

/// The first `count` bytes of a base64 text; `None` where it holds fewer.
fn base64(text: &[u8], count: usize) -> Option<Vec<u8>> {
    // Every four letters are three bytes, whatever the file claims.
    let mut out = Vec::with_capacity(count.min(text.len()));
    let (mut bits, mut held) = (0u32, 0);
    for letter in text {
        if out.len() == count {
            break;
        }
        let value = match letter {
            b'A'..=b'Z' => letter - b'A',
            b'a'..=b'z' => letter - b'a' + 26,
            b'0'..=b'9' => letter - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            b if b.is_ascii_whitespace() => continue,
            _ => break,
        };
        bits = bits << 6 | value as u32;
        held += 6;
        if held >= 8 {
            held -= 8;
            out.push((bits >> held) as u8);
        }
    }
    (out.len() == count).then_some(out)
}

/// Bytes of a number of a type.
fn size_of(kind: &str) -> Option<usize> {
    Some(match kind {
        "Int8" | "UInt8" => 1,
        "Int16" | "UInt16" => 2,
        "Int32" | "UInt32" | "Float32" => 4,
        "Int64" | "UInt64" | "Float64" => 8,
        _ => return None,
    })
}

/// A number of a type from its bytes, the lowest first.
fn number_of(kind: &str, b: [u8; 8]) -> f64 {
    let [b0, b1, b2, b3, ..] = b;
    match kind {
        "Int8" => b0 as i8 as f64,
        "UInt8" => b0 as f64,
        "Int16" => i16::from_le_bytes([b0, b1]) as f64,
        "UInt16" => u16::from_le_bytes([b0, b1]) as f64,
        "Int32" => i32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "UInt32" => u32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "Float32" => f32::from_le_bytes([b0, b1, b2, b3]) as f64,
        "Int64" => i64::from_le_bytes(b) as f64,
        "UInt64" => u64::from_le_bytes(b) as f64,
        _ => f64::from_le_bytes(b),
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
