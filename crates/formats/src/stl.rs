//! STL, binary and ASCII.
//!
//! A file is binary when its length fits its triangle count, whatever its header begins with
//! ("solid" included), and ASCII when it reads as text with facets.

use crate::{Format, FormatError, Limits, Loaded};
use glam::DVec3;
use rayon::prelude::*;
use ulmix_mesh::TriMesh;

const HEADER: usize = 84;
const RECORD: usize = 50;

/// Reads an STL file, as text or binary.
///
/// # Errors
/// A file that is damaged, holds no triangles or passes a limit, and work that was stopped.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    let soup = if looks_ascii(bytes) { ascii(bytes, limits)? } else { binary(bytes, limits)? };
    if soup.is_empty() {
        return Err(FormatError::NoTriangles);
    }
    limits.go_on(0)?;
    let bad = soup.par_iter().position_first(|p| p.iter().any(|c| !c.is_finite() || c.abs() > 1e9));
    if let Some(corner) = bad {
        return Err(FormatError::Coordinate {
            of: "Triangle",
            number: corner / 3 + 1,
            place: format!("{:?}", soup[corner]),
        });
    }
    Ok(Loaded {
        mesh: weld_exact(&soup),
        bodies: Vec::new(),
        millimetres_per_unit: None,
        beams: Vec::new(),
        format: "STL",
    })
}

fn claimed(bytes: &[u8]) -> Option<usize> {
    let n = bytes.get(80..84)?;
    Some(u32::from_le_bytes([n[0], n[1], n[2], n[3]]) as usize)
}

fn looks_ascii(bytes: &[u8]) -> bool {
    if claimed(bytes).is_some_and(|n| HEADER + n.saturating_mul(RECORD) == bytes.len()) {
        return false;
    }
    let start = bytes.iter().position(|b| !b.is_ascii_whitespace()).unwrap_or(0);
    let head = &bytes[start..bytes.len().min(start + 4096)];
    head.len() >= 5
        && head[..5].eq_ignore_ascii_case(b"solid")
        && head.iter().all(|&b| b != 0)
        && head.to_ascii_lowercase().windows(5).any(|w| w == b"facet" || w == b"endso")
}

fn binary(bytes: &[u8], limits: &Limits) -> Result<Vec<[f32; 3]>, FormatError> {
    let Some(n) = claimed(bytes) else {
        return Err(FormatError::TooShort(bytes.len()));
    };
    let held = (bytes.len() - HEADER) / RECORD;
    if n > held {
        // A lying count on something that is no STL reads as nonsense: tell the two apart.
        let text = bytes[..bytes.len().min(512)]
            .iter()
            .all(|b| b.is_ascii_graphic() || b.is_ascii_whitespace());
        return Err(if text { FormatError::Text } else { FormatError::CutShort { told: n, held } });
    }
    if n > limits.triangles {
        return Err(too_many(n, limits));
    }
    let body = &bytes[HEADER..HEADER + n * RECORD];
    let mut soup = vec![[0f32; 3]; n * 3];
    soup.par_chunks_mut(3 * 4096).zip(body.par_chunks(RECORD * 4096)).for_each(|(out, records)| {
        for (tri, r) in out.chunks_exact_mut(3).zip(records.chunks_exact(RECORD)) {
            let f = |at: usize| f32::from_le_bytes([r[at], r[at + 1], r[at + 2], r[at + 3]]);
            for (c, p) in tri.iter_mut().enumerate() {
                *p = [f(12 + 12 * c), f(16 + 12 * c), f(20 + 12 * c)];
            }
        }
    });
    Ok(soup)
}

fn too_many(n: usize, limits: &Limits) -> FormatError {
    FormatError::TooManyTriangles { found: n, most: limits.triangles }
}

fn ascii(bytes: &[u8], limits: &Limits) -> Result<Vec<[f32; 3]>, FormatError> {
    let mut soup: Vec<[f32; 3]> = Vec::new();
    for (number, line) in bytes.split(|&b| b == b'\n').enumerate() {
        limits.go_on(number)?;
        let mut words = line.split(|b| b.is_ascii_whitespace()).filter(|w| !w.is_empty());
        let Some(first) = words.next() else { continue };
        if first.eq_ignore_ascii_case(b"vertex") {
            let mut p = [0f32; 3];
            for slot in &mut p {
                let parsed = words
                    .next()
                    .and_then(|w| std::str::from_utf8(w).ok())
                    .and_then(|w| w.parse().ok());
                *slot = parsed.ok_or_else(|| {
                    let what = format!("Line {}: a vertex needs three numbers.", number + 1);
                    FormatError::damaged(Format::Stl, what)
                })?;
            }
            soup.push(p);
            if soup.len() > 3 * limits.triangles {
                return Err(too_many(soup.len() / 3, limits));
            }
        } else if first.eq_ignore_ascii_case(b"endfacet") && !soup.len().is_multiple_of(3) {
            return Err(FormatError::NoTriangle(number + 1));
        }
    }
    if !soup.len().is_multiple_of(3) {
        return Err(FormatError::EndsWithin);
    }
    Ok(soup)
}

/// Gives equal positions one index, in order of first appearance; drops collapsed triangles.
fn weld_exact(soup: &[[f32; 3]]) -> TriMesh {
    // A closed surface has half as many points as triangles; a soup of separate ones has more, and
    // the table grows with them.
    let mut table = vec![u32::MAX; (soup.len() / 3).next_power_of_two().max(64) * 2];
    let mut points: Vec<[f32; 3]> = Vec::with_capacity(soup.len() / 5);
    // Adding 0.0 makes −0.0 and 0.0 the same key.
    let hash = |p: &[f32; 3]| {
        let [x, y, z] = p.map(|v| (v + 0.0).to_bits() as u64);
        let h = (x ^ y.rotate_left(21) ^ z.rotate_left(42)).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        (h ^ h >> 32) as usize
    };
    let mut index = Vec::with_capacity(soup.len());
    for p in soup {
        if points.len() * 2 > table.len() {
            table = vec![u32::MAX; table.len() * 2];
            for (i, q) in points.iter().enumerate() {
                let free = slot(&table, hash(q), |_| false);
                table[free] = i as u32;
            }
        }
        let at = slot(&table, hash(p), |i| points[i as usize] == *p);
        if table[at] == u32::MAX {
            table[at] = points.len() as u32;
            points.push(*p);
        }
        index.push(table[at]);
    }
    let triangles = index
        .chunks_exact(3)
        .map(|t| [t[0], t[1], t[2]])
        .filter(|[a, b, c]| a != b && b != c && c != a)
        .collect();
    let points = points.iter().map(|p| DVec3::new(p[0] as f64, p[1] as f64, p[2] as f64)).collect();
    TriMesh { points, triangles }
}

/// Where a table of a power of two in length holds what is sought, or its first free place from
/// there on. One is always free.
#[inline(always)]
fn slot(table: &[u32], hash: usize, is_sought: impl Fn(u32) -> bool) -> usize {
    let mask = table.len() - 1;
    let mut at = hash & mask;
    while table[at] != u32::MAX && !is_sought(table[at]) {
        at = (at + 1) & mask;
    }
    at
}

/// Binary STL with unit normals; coordinates are rounded to 32-bit floats.
pub fn write(mesh: &TriMesh) -> Vec<u8> {
    let mut out = vec![0u8; HEADER + RECORD * mesh.triangles.len()];
    let title = b"Ulmix, binary STL, millimetres";
    out[..title.len()].copy_from_slice(title);
    out[80..84].copy_from_slice(&(mesh.triangles.len() as u32).to_le_bytes());
    out[HEADER..].par_chunks_mut(RECORD * 4096).enumerate().for_each(|(k, chunk)| {
        for (i, r) in chunk.chunks_exact_mut(RECORD).enumerate() {
            let t = k * 4096 + i;
            let normal = mesh.area_vector(t).normalize_or_zero();
            let [a, b, c] = mesh.corners(t);
            for (v, p) in [normal, a, b, c].into_iter().enumerate() {
                for (d, x) in p.to_array().into_iter().enumerate() {
                    let at = 12 * v + 4 * d;
                    r[at..at + 4].copy_from_slice(&(x as f32).to_le_bytes());
                }
            }
        }
    });
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn refuse(bytes: &[u8]) -> String {
        let e = crate::read(bytes, &Limits::default()).expect_err("must be refused");
        assert!(!e.hint().is_empty());
        e.to_string()
    }

    fn ball() -> TriMesh {
        TriMesh::sphere(10.0, 3).mapped(|p| p.as_vec3().as_dvec3())
    }

    #[test]
    fn binary_round_trip_keeps_shape_and_closedness() {
        let m = ball();
        let back = read(&write(&m), &Limits::default()).unwrap().mesh;
        assert_eq!(back.triangles.len(), m.triangles.len());
        assert_eq!(back.points.len(), m.points.len());
        assert!((back.volume() - m.volume()).abs() < 1e-9);
    }

    proptest! {
        /// Three corners a triangle, none shared, at any number of triangles: the table of corners
        /// grows with them.
        #[test]
        fn separate_triangles_stay_separate(count in 1usize..3000) {
            let corner = |n: usize| DVec3::new((n % 97) as f64, (n / 97) as f64, 0.5 * (n % 3) as f64);
            let points: Vec<DVec3> = (0..3 * count).map(corner).collect();
            let triangles = (0..count as u32).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect();
            let soup = TriMesh { points, triangles };
            prop_assert_eq!(read(&write(&soup), &Limits::default()).unwrap().mesh, soup);
        }
    }

    #[test]
    fn a_binary_file_that_begins_with_solid_is_binary() {
        let mut bytes = write(&ball());
        bytes[..12].copy_from_slice(b"solid facet ");
        assert_eq!(
            read(&bytes, &Limits::default()).unwrap().mesh.triangles.len(),
            ball().triangles.len()
        );
    }

    #[test]
    fn ascii_reads_with_odd_spacing_and_case() {
        let text = "  SOLID x\nFACET normal 0 0 1\n outer loop\n\tVERTEX 0 0 0\r\n vertex \
             1e0 0 0\nvertex 0 1. 0\nendloop\nendfacet\nendsolid";
        let m = read(text.as_bytes(), &Limits::default()).unwrap().mesh;
        assert_eq!(m.triangles, vec![[0, 1, 2]]);
        assert_eq!(m.points[1], DVec3::X);
    }

    #[test]
    fn hostile_files_are_refused_with_words() {
        assert_eq!(refuse(b""), "The file is empty.");
        assert!(refuse(b"hello").contains("too short"));
        assert!(refuse(&b"just a long letter. ".repeat(40)).contains("not a mesh"));
        assert!(refuse(b"\x89PNG\r\n").contains("PNG"));
        assert!(refuse(b"solid nothing\nendsolid nothing\n").contains("no triangles"));
        assert!(refuse(b"solid x\nfacet normal 0 0 1\nouter loop\nvertex 0 0\n").contains("Line 4"));

        let good = write(&ball());
        assert!(refuse(&good[..good.len() - 7]).contains("ends after 511"));
        let mut lying = good.clone();
        lying[80..84].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(refuse(&lying).contains("4294967295"));
        for bad in [f32::NAN, f32::INFINITY, -2e9] {
            let mut b = good.clone();
            b[HEADER + 50 + 12..HEADER + 50 + 16].copy_from_slice(&bad.to_le_bytes());
            assert!(refuse(&b).starts_with("Triangle 2 "), "{bad}");
        }
        let few = Limits { triangles: 10, ..Limits::default() };
        assert!(read(&good, &few).is_err());
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400), ascii in any::<bool>()) {
            let mut b = if ascii { b"solid x\nfacet ".to_vec() } else { Vec::new() };
            b.extend(bytes);
            let _ = crate::read(&b, &Limits::default());
        }
    }
}
