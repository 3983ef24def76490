//! glTF 2.0 binary, read: the triangles of the default scene in their places, from metres with y up
//! to millimetres with z up. Compressed and external geometry is refused.

use crate::{usable, Format, FormatError, Limits, Loaded, Named};
use glam::{DMat4, DQuat, DVec3};
use serde_json::Value;
use std::cell::{Cell, RefCell};
use ulmix_mesh::TriMesh;

const MM_PER_UNIT: f64 = 1000.0;
const DEEPEST: usize = 64;
/// Bytes of the largest description: each of its values takes some 32 bytes in memory, and has two
/// in the file.
const LONGEST: usize = 32 << 20;

fn broken(what: impl Into<String>) -> FormatError {
    FormatError::damaged(Format::Glb, what)
}

/// Reads a binary glTF file.
///
/// # Errors
/// A file that is damaged, holds no triangles or passes a limit, and work that was stopped.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    let (json, binary) = chunks(bytes)?;
    if json.len() > LONGEST {
        return Err(FormatError::LongDescription {
            megabytes: json.len() >> 20,
            most: LONGEST >> 20,
        });
    }
    let json: Value = serde_json::from_slice(json)
        .map_err(|e| broken(format!("The file's description is not valid: {e}.")))?;
    let needed =
        json["extensionsRequired"].as_array().into_iter().flatten().filter_map(Value::as_str);
    if let Some(other) =
        { needed }.find(|n| !matches!(*n, "KHR_mesh_quantization" | "KHR_materials_unlit"))
    {
        return Err(broken(format!("The file needs {other}.")));
    }
    let file =
        File { json: &json, binary, limits, placed: Cell::new(0), bodies: RefCell::default() };
    let mut mesh = TriMesh::default();
    let scene = json["scene"].as_u64().unwrap_or(0) as usize;
    let upright = DMat4::from_cols_array_2d(&[
        [1.0, 0.0, 0.0, 0.0],
        [0.0, 0.0, 1.0, 0.0],
        [0.0, -1.0, 0.0, 0.0],
        [0.0, 0.0, 0.0, 1.0],
    ]);
    let start = DMat4::from_scale(DVec3::splat(MM_PER_UNIT)) * upright;
    for node in json["scenes"][scene]["nodes"].as_array().into_iter().flatten() {
        file.node(node, start, 0, &mut mesh)?;
    }
    let bodies = file.bodies.into_inner();
    usable(mesh, bodies, limits, "GLB", Some(MM_PER_UNIT))
}

/// The description, and the binary part, if there is one.
fn chunks(bytes: &[u8]) -> Result<(&[u8], &[u8]), FormatError> {
    let word =
        |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?) as usize);
    let chunk = |at: usize| {
        let length = word(at)?;
        Some((bytes.get(at + 4..at + 8)?, bytes.get(at + 8..(at + 8).checked_add(length)?)?))
    };
    if word(4) != Some(2) {
        return Err(broken("The file is not glTF 2.0."));
    }
    let (kind, json) = chunk(12).ok_or_else(|| broken("The file ends within its description."))?;
    if kind != b"JSON" {
        return Err(broken("The file does not begin with its description."));
    }
    let next = 20 + json.len();
    let binary = match chunk(next) {
        Some((b"BIN\0", data)) => data,
        None if bytes.len() > next => return Err(broken("The file ends within its data.")),
        _ => &[],
    };
    Ok((json, binary))
}

struct File<'a> {
    json: &'a Value,
    binary: &'a [u8],
    limits: &'a Limits<'a>,
    /// Nodes placed so far: a few lines of a file can name millions.
    placed: Cell<usize>,
    bodies: RefCell<Vec<Named>>,
}

impl File<'_> {
    fn node(
        &self,
        index: &Value,
        above: DMat4,
        depth: usize,
        out: &mut TriMesh,
    ) -> Result<(), FormatError> {
        if depth > DEEPEST {
            return Err(broken("The file's parts hold each other without end."));
        }
        self.count_placed()?;
        let node = self.item("nodes", index)?;
        let list = |name: &str| -> Vec<f64> {
            node[name].as_array().into_iter().flatten().filter_map(Value::as_f64).collect()
        };
        let own = match (
            list("matrix").try_into(),
            list("translation")[..].try_into(),
            list("rotation")[..].try_into(),
            list("scale")[..].try_into(),
        ) {
            (Ok(m), ..) => DMat4::from_cols_array(&m),
            (_, t, r, s) => DMat4::from_scale_rotation_translation(
                s.map_or(DVec3::ONE, |v: [f64; 3]| v.into()),
                r.map_or(DQuat::IDENTITY, |v: [f64; 4]| DQuat::from_array(v)),
                t.map_or(DVec3::ZERO, |v: [f64; 3]| v.into()),
            ),
        };
        let place = above * own;
        if !node["mesh"].is_null() {
            let from = out.triangles.len();
            for p in
                self.item("meshes", &node["mesh"])?["primitives"].as_array().into_iter().flatten()
            {
                self.primitive(p, place, out)?;
            }
            Named::end(
                node["name"].as_str().unwrap_or_default(),
                from,
                out,
                &mut self.bodies.borrow_mut(),
            );
        }
        for child in node["children"].as_array().into_iter().flatten() {
            self.node(child, place, depth + 1, out)?;
        }
        Ok(())
    }

    /// A node or primitive more.
    fn count_placed(&self) -> Result<(), FormatError> {
        self.placed.set(self.placed.get() + 1);
        self.limits.go_on(self.placed.get())?;
        self.limits.place(self.placed.get())
    }

    fn primitive(&self, p: &Value, place: DMat4, out: &mut TriMesh) -> Result<(), FormatError> {
        self.count_placed()?;
        // 4 is triangles; points and lines are no body.
        if p["mode"].as_u64().unwrap_or(4) != 4 {
            return Ok(());
        }
        let (position, indices) = (&p["attributes"]["POSITION"], &p["indices"]);
        let count = self.count(position)?;
        let corners = if indices.is_null() { count } else { self.count(indices)? };
        // Points of no triangle are no body; what is too much is not even read.
        if corners < 3 {
            return Ok(());
        }
        self.limits.hold_more(out, count, corners / 3)?;
        let base = out.points.len();
        self.numbers(position, |c: [f64; 3]| out.points.push(place.transform_point3(c.into())))?;
        let mut named: Vec<f64> = Vec::new();
        if indices.is_null() {
            named.extend((0..count).map(|i| i as f64));
        } else {
            self.numbers(indices, |[i]: [f64; 1]| named.push(i))?;
        }
        if named.iter().any(|&i| i >= count as f64) || base + count > u32::MAX as usize {
            return Err(broken("A triangle names a point that the file does not hold."));
        }
        // A mirrored place turns triangles over.
        let mirrored = place.determinant() < 0.0;
        for t in named.chunks_exact(3) {
            let [a, b, c] = [t[0], t[1], t[2]].map(|i| base as u32 + i as u32);
            out.triangles.push(if mirrored { [a, c, b] } else { [a, b, c] });
        }
        Ok(())
    }

    fn item(&self, list: &str, index: &Value) -> Result<&Value, FormatError> {
        let found = index.as_u64().and_then(|i| self.json[list].get(i as usize));
        found.ok_or_else(|| broken(format!("The file names one of its {list} that is not there.")))
    }

    /// How many vectors an accessor holds.
    fn count(&self, accessor: &Value) -> Result<usize, FormatError> {
        Ok(self.item("accessors", accessor)?["count"].as_u64().unwrap_or(0) as usize)
    }

    /// All vectors of an accessor, in order.
    fn numbers<const N: usize>(
        &self,
        accessor: &Value,
        mut each: impl FnMut([f64; N]),
    ) -> Result<(), FormatError> {
        let a = self.item("accessors", accessor)?;
        let view = self.item("bufferViews", &a["bufferView"])?;
        if view["buffer"].as_u64() != Some(0)
            || !self.json["buffers"][0]["uri"].is_null()
            || !a["sparse"].is_null()
        {
            return Err(broken("The file keeps its geometry elsewhere."));
        }
        let whole = |v: &Value, name: &str| v[name].as_u64().unwrap_or(0) as usize;
        let (size, read): (usize, fn(&[u8]) -> f64) = match a["componentType"].as_u64() {
            Some(5120) => (1, |b| b[0] as i8 as f64),
            Some(5121) => (1, |b| b[0] as f64),
            Some(5122) => (2, |b| i16::from_le_bytes([b[0], b[1]]) as f64),
            Some(5123) => (2, |b| u16::from_le_bytes([b[0], b[1]]) as f64),
            Some(5125) => (4, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]) as f64),
            Some(5126) => (4, |b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]) as f64),
            _ => return Err(broken("The file holds numbers of an unknown kind.")),
        };
        let scale = match (a["normalized"].as_bool(), a["componentType"].as_u64()) {
            (Some(true), Some(5120)) => 127.0,
            (Some(true), Some(5121)) => 255.0,
            (Some(true), Some(5122)) => 32_767.0,
            (Some(true), Some(5123)) => 65_535.0,
            _ => 1.0,
        };
        let (count, stride) = (self.count(accessor)?, whole(view, "byteStride").max(size * N));
        let start = whole(view, "byteOffset").checked_add(whole(a, "byteOffset"));
        let data = start.and_then(|s| self.binary.get(s..)).unwrap_or_default();
        // The last row may end where its numbers end.
        if count > 0 && (count - 1).saturating_mul(stride).saturating_add(size * N) > data.len() {
            return Err(broken("The file ends within its numbers."));
        }
        for row in 0..count {
            each(std::array::from_fn(|c| {
                let at = row * stride + c * size;
                read(&data[at..at + size]) / scale
            }));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::glb::write;
    use proptest::prelude::*;
    use serde_json::json;
    use ulmix_mesh::shading::shade;

    /// A file by hand: one triangle mesh with a node's place.
    fn file(mesh: &TriMesh, node: Value) -> Vec<u8> {
        files(mesh, json!([node]))
    }

    /// Files of the mesh with several nodes, of which the first is the scene's.
    fn files(mesh: &TriMesh, nodes: Value) -> Vec<u8> {
        let mut data: Vec<u8> = mesh
            .points
            .iter()
            .flat_map(|p| p.as_vec3().to_array())
            .flat_map(f32::to_le_bytes)
            .collect();
        let places = data.len();
        data.extend(mesh.triangles.iter().flatten().flat_map(|v| v.to_le_bytes()));
        let json = json!({
            "asset": { "version": "2.0" }, "scene": 0, "scenes": [{ "nodes": [0] }], "nodes": nodes,
            "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 }, "indices": 1 }] }],
            "buffers": [{ "byteLength": data.len() }],
            "bufferViews": [{ "buffer": 0, "byteLength": places }, { "buffer": 0, "byteOffset": places, "byteLength": data.len() - places }],
            "accessors": [
                { "bufferView": 0, "componentType": 5126, "count": mesh.points.len(), "type": "VEC3" },
                { "bufferView": 1, "componentType": 5125, "count": mesh.triangles.len() * 3, "type": "SCALAR" }
            ]
        });
        let mut text = json.to_string().into_bytes();
        text.resize(text.len().next_multiple_of(4), b' ');
        let mut out = b"glTF\x02\0\0\0".to_vec();
        out.extend((28 + text.len() as u32 + data.len() as u32).to_le_bytes());
        out.extend((text.len() as u32).to_le_bytes());
        out.extend(b"JSON");
        out.extend(text);
        out.extend((data.len() as u32).to_le_bytes());
        out.extend(b"BIN\0");
        out.extend(data);
        out
    }

    #[test]
    fn places_units_and_the_upright_axis_are_applied() {
        let m = TriMesh::cuboid(DVec3::ZERO, DVec3::new(0.01, 0.02, 0.03));
        let r = crate::read(
            &file(
                &m,
                json!({ "mesh": 0, "translation": [0.0, 1.0, 0.0], "scale": [1.0, 1.0, -1.0] }),
            ),
            &Limits::default(),
        )
        .unwrap();
        assert!((r.mesh.volume() - 6000.0).abs() < 1e-2, "{}", r.mesh.volume());
        let b = r.mesh.bounds();
        // Up is y in the file: one metre up is z here.
        assert!(
            (b.min - DVec3::new(0.0, 0.0, 1000.0)).length() < 1e-3
                && (b.size() - DVec3::new(10.0, 30.0, 20.0)).length() < 1e-3,
            "{b:?}"
        );
        assert_eq!(r.millimetres_per_unit, Some(1000.0));
    }

    #[test]
    fn our_own_pictures_are_read() {
        let m = TriMesh::sphere(20.0, 3);
        let r = read(&write(&shade(&m, 30.0), &[], json!({})), &Limits::default()).unwrap();
        assert_eq!(r.mesh.triangles.len(), m.triangles.len());
    }

    #[test]
    fn hostile_files_are_refused() {
        let m = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let good = file(&m, json!({ "mesh": 0 }));
        assert!(read(&good[..good.len() - 9], &Limits::default()).is_err());
        assert!(read(&file(&m, json!({ "mesh": 7 })), &Limits::default())
            .unwrap_err()
            .to_string()
            .contains("meshes"));
        assert!(read(&file(&m, json!({ "children": [0] })), &Limits::default())
            .unwrap_err()
            .to_string()
            .contains("without end"));
        // Every node twice the one below: 2⁶⁴ places in a line.
        let said = read(&file(&m, json!({ "children": [0, 0] })), &Limits::default())
            .unwrap_err()
            .to_string();
        assert!(said.contains("without end") || said.contains("more than"), "{said}");
        assert!(read(&good, &Limits { triangles: 3, ..Limits::default() }).is_err());
    }

    #[test]
    fn points_of_no_triangle_are_none_and_much_that_is_placed_often_is_refused() {
        let cloud = TriMesh { points: vec![DVec3::ONE; 50_000], triangles: vec![] };
        let places = |n: usize| json!({ "children": vec![1; n], "mesh": 0 });
        let said = |bytes: &[u8]| read(bytes, &Limits::default()).unwrap_err().to_string();
        assert!(
            said(&files(&cloud, json!([places(40_000), { "mesh": 0 }]))).contains("no triangles")
        );
        assert!(said(&files(&cloud, json!([places(200_000), { "mesh": 0 }])))
            .contains("places more than"));
        let mut one = cloud.clone();
        one.triangles.push([0, 1, 2]);
        assert!(
            said(&files(&one, json!([places(40_000), { "mesh": 0 }]))).contains("million points")
        );
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_fall(seed in any::<u64>(), cut in 12usize..2000) {
            let mut bytes = file(&TriMesh::sphere(1.0, 1), json!({ "mesh": 0 }));
            bytes.truncate(cut.max(12));
            let mut state = seed;
            for _ in 0..6 {
                state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                let at = 4 + (state >> 33) as usize % (bytes.len() - 4);
                bytes[at] = (state >> 17) as u8;
            }
            let _ = read(&bytes, &Limits { triangles: 10_000, ..Limits::default() });
        }
    }
}
