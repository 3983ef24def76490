//! Wavefront OBJ: points and polygons, and the objects that they belong to. Groups, materials,
//! textures and curves are passed over.

use crate::polygon;
use crate::{usable, Format, FormatError, Limits, Loaded, Named};
use glam::DVec3;
use ulmix_mesh::TriMesh;

/// Do the first lines read as OBJ?
pub fn looks_like(bytes: &[u8]) -> bool {
    let head = &bytes[..bytes.len().min(1 << 16)];
    let mut points = 0;
    for line in head.split(|b| *b == b'\n').take(400) {
        let mut words = line.split(|b| b.is_ascii_whitespace()).filter(|w| !w.is_empty());
        match words.next() {
            Some(b"v") => points += words.filter(|w| number(w).is_some()).count() / 3,
            Some(b"solid" | b"facet") => return false,
            _ => {}
        }
        if points >= 2 {
            return true;
        }
    }
    false
}

/// Reads an OBJ file.
///
/// # Errors
/// A file that is damaged, holds no triangles or passes a limit, and work that was stopped.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    let mut mesh = TriMesh::default();
    let (mut corners, mut places) = (Vec::new(), Vec::new());
    let mut joined: Vec<u8> = Vec::new();
    let (mut bodies, mut name, mut from) = (Vec::new(), String::new(), 0);
    for (n, raw) in bytes.split(|b| *b == b'\n').enumerate() {
        limits.go_on(n)?;
        let raw = raw.strip_suffix(b"\r").unwrap_or(raw);
        // A backslash at the end continues on the next line.
        if let Some(part) = raw.strip_suffix(b"\\") {
            joined.extend(part);
            joined.push(b' ');
            continue;
        }
        let line = if joined.is_empty() {
            raw
        } else {
            joined.extend(raw);
            &joined
        };
        let bad =
            |what: String| FormatError::damaged(Format::Obj, format!("Line {}: {what}", n + 1));
        let mut words = line.split(|b| b.is_ascii_whitespace()).filter(|w| !w.is_empty());
        match words.next() {
            Some(b"v") => {
                let mut p = DVec3::ZERO;
                for axis in 0..3 {
                    p[axis] = words
                        .next()
                        .and_then(number)
                        .ok_or_else(|| bad("a point has fewer than three numbers.".into()))?;
                }
                mesh.points.push(p);
                limits.hold(&mesh)?;
            }
            Some(b"f") => {
                corners.clear();
                for w in words {
                    let index: i64 = w
                        .split(|b| *b == b'/')
                        .next()
                        .and_then(|w| std::str::from_utf8(w).ok()?.parse().ok())
                        .ok_or_else(|| bad("a face has a corner that is no number.".into()))?;
                    // Counted from 1, or backwards from the last point so far.
                    let at = if index < 0 { mesh.points.len() as i64 + index } else { index - 1 };
                    if index == 0 || at < 0 || at >= u32::MAX as i64 {
                        return Err(bad(format!(
                            "a face names point {index}, which is not there."
                        )));
                    }
                    corners.push(at as u32);
                }
                places.clear();
                places.extend(corners.iter().filter_map(|&v| mesh.points.get(v as usize)));
                if places.len() != corners.len() {
                    return Err(bad("a face names a point that comes later or not at all.".into()));
                }
                let cut = polygon::triangles(&places, limits.corners)?;
                mesh.triangles.extend(cut.into_iter().map(|t| t.map(|c| corners[c])));
                limits.hold(&mesh)?;
            }
            Some(b"o") => {
                Named::end(&name, from, &mesh, &mut bodies);
                limits.place(bodies.len())?;
                from = mesh.triangles.len();
                name = String::from_utf8_lossy(&words.collect::<Vec<_>>().join(&b' ')).into_owned();
            }
            _ => {}
        }
        joined.clear();
    }
    Named::end(&name, from, &mesh, &mut bodies);
    usable(mesh, bodies, limits, "OBJ", None)
}

fn number(word: &[u8]) -> Option<f64> {
    std::str::from_utf8(word).ok()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const CUBE: &str =
        "# a cube\nmtllib x.mtl\no body\nv 0 0 0\nv 2 0 0\nv 2 2 0\nv 0 2 0\nv 0 0 2\nv 2 0 2\nv 2 2 2\nv 0 2 2\ng sides\n\
        f 4 3 2 1\nf 5/1 6/2 7/3 8/4\nf -8//1 -7//1 \\\n -3//1 -4//1\nf 2 3 7 6\nf 3 4 8 7\nf 4 1 5 8\n";

    #[test]
    fn quads_groups_and_negative_indices_are_read() {
        for text in [CUBE.to_owned(), CUBE.replace('\n', "\r\n")] {
            let m = crate::read(text.as_bytes(), &Limits::default()).unwrap();
            assert_eq!((m.format, m.mesh.triangles.len()), ("OBJ", 12));
            assert!((m.mesh.volume() - 8.0).abs() < 1e-12, "{}", m.mesh.volume());
        }
    }

    #[test]
    fn hostile_files_are_refused_by_line() {
        let said = |text: &str| read(text.as_bytes(), &Limits::default()).unwrap_err().to_string();
        assert!(said("v 0 0 0\nv 1 0 0\nf 1 2 9\n").contains("Line 3"));
        assert!(said("v 0 0 0\nf 1 0 1\n").contains("point 0"));
        assert!(said("v 0 0\n").contains("Line 1"));
        assert!(said("v 0 0 0\nv 1 0 0\nv 0 1 nan\nf 1 2 3\n").contains("Point 3"));
        assert!(said("v 0 0 0\n").contains("no triangles"));
        let few = Limits { triangles: 5, ..Limits::default() };
        assert!(read(CUBE.as_bytes(), &few).is_err());
    }

    #[test]
    fn a_face_of_very_many_corners_is_refused() {
        // A comb, which is nowhere near convex.
        let corners = 80_000;
        let tooth = |n: usize| if n == 0 { -9 } else { (n % 2) as i32 };
        let points: String = (0..corners).map(|n| format!("v {n} {} 0\n", tooth(n))).collect();
        let face: String = (1..=corners).map(|n| format!(" {n}")).collect();
        let said = read(format!("{points}f{face}\n").as_bytes(), &Limits::default())
            .map(|_| ())
            .unwrap_err();
        assert!(said.to_string().contains("80000 corners"), "{said}");
        // Objects without end, each of one triangle.
        let objects = "v 0 0 0\nv 1 0 0\nv 0 1 0\n".to_owned() + &"o x\nf 1 2 3\n".repeat(100_002);
        assert!(read(objects.as_bytes(), &Limits::default())
            .unwrap_err()
            .to_string()
            .contains("more than 100000 objects"));
    }
}
