//! PLY, ASCII and both binaries (Turk 1994): points, polygons; other elements are passed over.

use crate::polygon;
use crate::{usable, Format, FormatError, Limits, Loaded};
use glam::DVec3;
use ulmix_mesh::TriMesh;

#[derive(Clone, Copy, PartialEq)]
enum PlyEncoding {
    Ascii,
    Little,
    Big,
}

#[derive(Clone, Copy)]
enum Scalar {
    I8,
    U8,
    I16,
    U16,
    I32,
    U32,
    F32,
    F64,
}

enum PlyScalar {
    One(Scalar),
    List { count: Scalar, item: Scalar },
}

struct Property {
    name: String,
    kind: PlyScalar,
}

struct Element {
    name: String,
    count: u64,
    properties: Vec<Property>,
}

fn broken(what: impl Into<String>) -> FormatError {
    FormatError::damaged(Format::Ply, what)
}

/// Reads a PLY file, as text or binary.
///
/// # Errors
/// A file that is damaged, holds no triangles or passes a limit, and work that was stopped.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    let (form, elements, start) = header(bytes)?;
    let mut body = PlyBody { bytes: &bytes[start..], form };
    let mut mesh = TriMesh::default();
    let (mut list, mut places) = (Vec::new(), Vec::new());
    for e in &elements {
        let axis = |p: &Property| ["x", "y", "z"].iter().position(|a| *a == p.name);
        let is_points = e.name == "vertex";
        if is_points && (0..3).any(|a| !e.properties.iter().any(|p| axis(p) == Some(a))) {
            return Err(broken("The points of the file have no x, y and z."));
        }
        let indices = |p: &Property| {
            e.name == "face" && matches!(p.name.as_str(), "vertex_indices" | "vertex_index")
        };
        for row in 0..e.count {
            limits.go_on(row as usize)?;
            let cut =
                || broken(format!("The file ends within {} {} of {}.", e.name, row + 1, e.count));
            let mut point = DVec3::ZERO;
            for p in &e.properties {
                match p.kind {
                    PlyScalar::One(scalar) => {
                        let v = body.value(scalar).ok_or_else(cut)?;
                        if let Some(a) = axis(p).filter(|_| is_points) {
                            point[a] = v;
                        }
                    }
                    PlyScalar::List { count, item } => {
                        let n = body.value(count).ok_or_else(cut)?;
                        if !(0.0..=1e6).contains(&n) {
                            return Err(broken(format!(
                                "{} {} has a list of {n} items.",
                                e.name,
                                row + 1
                            )));
                        }
                        list.clear();
                        for _ in 0..n as usize {
                            list.push(body.value(item).ok_or_else(cut)?);
                        }
                        if indices(p) {
                            let bad = || {
                                broken(format!("Face {} names a point that is not there.", row + 1))
                            };
                            places.clear();
                            for &v in &list {
                                let at = (v >= 0.0 && v < mesh.points.len() as f64)
                                    .then_some(v as usize)
                                    .ok_or_else(bad)?;
                                places.push(mesh.points[at]);
                            }
                            let cut = polygon::triangles(&places, limits.corners)?;
                            mesh.triangles
                                .extend(cut.into_iter().map(|t| t.map(|c| list[c] as u32)));
                            limits.hold(&mesh)?;
                        }
                    }
                }
            }
            if is_points {
                mesh.points.push(point);
                limits.hold(&mesh)?;
            } else if e.properties.is_empty() {
                // Rows of nothing: any count is read already.
                break;
            }
        }
    }
    usable(mesh, Vec::new(), limits, "PLY", None)
}

fn header(bytes: &[u8]) -> Result<(PlyEncoding, Vec<Element>, usize), FormatError> {
    const LONGEST: usize = 1 << 16;
    let (mut form, mut elements, mut at) = (None, Vec::<Element>::new(), 0);
    loop {
        let rest = &bytes[at..bytes.len().min(at + LONGEST)];
        let end = rest
            .iter()
            .position(|b| *b == b'\n')
            .ok_or_else(|| broken("The header of the file has no end."))?;
        let line = std::str::from_utf8(&rest[..end])
            .map_err(|_| broken("The header of the file is not text."))?;
        at += end + 1;
        if at > LONGEST {
            return Err(broken("The header of the file has no end."));
        }
        let words: Vec<&str> = line.split_ascii_whitespace().collect();
        let unknown = || broken(format!("The header says “{line}”, which no PLY says."));
        match words[..] {
            ["end_header"] => break,
            ["format", "ascii", _] => form = Some(PlyEncoding::Ascii),
            ["format", "binary_little_endian", _] => form = Some(PlyEncoding::Little),
            ["format", "binary_big_endian", _] => form = Some(PlyEncoding::Big),
            ["element", name, count] => {
                let count = count.parse().map_err(|_| unknown())?;
                elements.push(Element { name: name.into(), count, properties: Vec::new() });
            }
            ["property", "list", count, item, name] => {
                let kind = PlyScalar::List {
                    count: scalar(count).ok_or_else(unknown)?,
                    item: scalar(item).ok_or_else(unknown)?,
                };
                let of = elements.last_mut().ok_or_else(unknown)?;
                of.properties.push(Property { name: name.into(), kind });
            }
            ["property", kind, name] => {
                let kind = PlyScalar::One(scalar(kind).ok_or_else(unknown)?);
                elements
                    .last_mut()
                    .ok_or_else(unknown)?
                    .properties
                    .push(Property { name: name.into(), kind });
            }
            ["ply"] | ["comment", ..] | ["obj_info", ..] | [] => {}
            _ => return Err(unknown()),
        }
    }
    Ok((form.ok_or_else(|| broken("The header states no format."))?, elements, at))
}

fn scalar(name: &str) -> Option<Scalar> {
    Some(match name {
        "char" | "int8" => Scalar::I8,
        "uchar" | "uint8" => Scalar::U8,
        "short" | "int16" => Scalar::I16,
        "ushort" | "uint16" => Scalar::U16,
        "int" | "int32" => Scalar::I32,
        "uint" | "uint32" => Scalar::U32,
        "float" | "float32" => Scalar::F32,
        "double" | "float64" => Scalar::F64,
        _ => return None,
    })
}

struct PlyBody<'a> {
    bytes: &'a [u8],
    form: PlyEncoding,
}

impl PlyBody<'_> {
    /// The next number; `None` at the end, or where there is none.
    fn value(&mut self, scalar: Scalar) -> Option<f64> {
        if self.form == PlyEncoding::Ascii {
            let start = self.bytes.iter().position(|b| !b.is_ascii_whitespace())?;
            let word = &self.bytes[start..];
            let end = word.iter().position(u8::is_ascii_whitespace).unwrap_or(word.len());
            self.bytes = &word[end..];
            return std::str::from_utf8(&word[..end]).ok()?.parse().ok();
        }
        Some(match scalar {
            Scalar::I8 => i8::from_le_bytes(self.take()?) as f64,
            Scalar::U8 => u8::from_le_bytes(self.take()?) as f64,
            Scalar::I16 => i16::from_le_bytes(self.take()?) as f64,
            Scalar::U16 => u16::from_le_bytes(self.take()?) as f64,
            Scalar::I32 => i32::from_le_bytes(self.take()?) as f64,
            Scalar::U32 => u32::from_le_bytes(self.take()?) as f64,
            Scalar::F32 => f32::from_le_bytes(self.take()?) as f64,
            Scalar::F64 => f64::from_le_bytes(self.take()?),
        })
    }

    /// The next bytes, lowest first.
    fn take<const N: usize>(&mut self) -> Option<[u8; N]> {
        let mut out: [u8; N] = self.bytes.get(..N)?.try_into().ok()?;
        self.bytes = &self.bytes[N..];
        if self.form == PlyEncoding::Big {
            out.reverse();
        }
        Some(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A ball in one of the three forms, with properties that are of no use here.
    fn write(m: &TriMesh, form: PlyEncoding) -> Vec<u8> {
        let name = match form {
            PlyEncoding::Ascii => "ascii",
            PlyEncoding::Little => "binary_little_endian",
            PlyEncoding::Big => "binary_big_endian",
        };
        let head = format!(
            "ply\nformat {name} 1.0\ncomment made here\nelement vertex {}\nproperty double x\nproperty double y\nproperty double z\n\
             property uchar red\nelement face {}\nproperty list uchar int vertex_indices\nproperty short flags\nend_header\n",
            m.points.len(),
            m.triangles.len()
        );
        let mut out = head.into_bytes();
        let mut put = |text: String, bytes: &[u8]| match form {
            PlyEncoding::Ascii => out.extend(format!("{text} ").bytes()),
            PlyEncoding::Little => out.extend(bytes),
            PlyEncoding::Big => out.extend(bytes.iter().rev()),
        };
        for p in &m.points {
            p.to_array().iter().for_each(|v| put(format!("{v:?}"), &v.to_le_bytes()));
            put("7".into(), &[7]);
        }
        for t in &m.triangles {
            put("3".into(), &[3]);
            t.iter().for_each(|v| put(v.to_string(), &(*v as i32).to_le_bytes()));
            put("-2".into(), &(-2i16).to_le_bytes());
        }
        out
    }

    #[test]
    fn all_three_forms_come_back_exactly() {
        let m = TriMesh::sphere(3.3, 3);
        for form in [PlyEncoding::Ascii, PlyEncoding::Little, PlyEncoding::Big] {
            let again = crate::read(&write(&m, form), &Limits::default()).unwrap();
            assert!(again.mesh == m && again.format == "PLY");
        }
    }

    #[test]
    fn lying_and_cut_files_are_refused_in_words() {
        let whole = write(&TriMesh::sphere(1.0, 1), PlyEncoding::Little);
        let said = |b: &[u8]| read(b, &Limits::default()).unwrap_err().to_string();
        assert!(said(&whole[..whole.len() - 3]).contains("ends within face"));
        let lying = String::from_utf8_lossy(&whole[..200])
            .replace("element vertex ", "element vertex 99999999999");
        assert!(
            said(lying.as_bytes()).contains("ends within")
                || said(lying.as_bytes()).contains("header")
        );
        assert!(said(
            b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nend_header\n1\n"
        )
        .contains("no x, y and z"));
        assert!(said(b"ply\nelement face 18446744073709551615\nformat ascii 1.0\nend_header\n")
            .contains("no triangles"));
        assert!(said(b"ply\nformat ascii 1.0\n").contains("no end"));
    }

    proptest! {
        #[test]
        fn no_bytes_make_a_reader_fall(seed in any::<u64>(), cut in 0usize..3000, form in 0u8..3) {
            let form = [PlyEncoding::Ascii, PlyEncoding::Little, PlyEncoding::Big][form as usize];
            let mut bytes = write(&TriMesh::sphere(1.0, 2), form);
            bytes.truncate(cut.max(4));
            let mut state = seed;
            for _ in 0..8 {
                state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                let at = (state >> 33) as usize % bytes.len();
                bytes[at] = (state >> 17) as u8;
            }
            // Refused or read: never a panic.
            let _ = crate::read(&bytes, &Limits { triangles: 10_000, ..Limits::default() });
        }
    }
}
