//! glTF 2.0 binary for the view: positions in 16 bits, normals in 8 (KHR_mesh_quantization),
//! values per vertex as `_NAME` attributes, numbers for the page in the asset's extras.
//!
//! At 16 bits a 200 mm part is placed within 0.002 mm, below what a screen shows.

use glam::Vec3;
use serde_json::{json, Value};
use ulmix_mesh::shading::Shaded;

/// A named value for every drawn vertex.
pub struct Attribute<'a> {
    /// Upper case, without the leading underscore.
    pub name: &'a str,
    /// One value, or three, a point.
    pub values: Values,
}

/// Values of an attribute.
pub enum Values {
    /// Bytes, as shares of 255.
    Bytes(Vec<u8>),
    /// Numbers of 32 bits.
    Floats(Vec<f32>),
}

/// One mesh, one primitive. `extras` becomes `asset.extras`.
pub fn write(shaded: &Shaded, attributes: &[Attribute], extras: Value) -> Vec<u8> {
    let n = shaded.positions.len();
    let low = shaded.positions.iter().copied().fold(Vec3::splat(f32::INFINITY), Vec3::min);
    let high = shaded.positions.iter().copied().fold(Vec3::splat(f32::NEG_INFINITY), Vec3::max);
    let (low, high) = if n == 0 { (Vec3::ZERO, Vec3::ONE) } else { (low, high) };
    let step = ((high - low).max_element() / 65535.0).max(1e-9);

    let mut bin: Vec<u8> = Vec::with_capacity(n * 20 + shaded.triangles.len() * 12);
    let mut views = Vec::new();
    let mut accessors = Vec::new();
    let mut top = [0u16; 3];
    let at = bin.len();
    for p in &shaded.positions {
        // Never negative: cutting off after half a step more rounds.
        let q = ((*p - low) / step + 0.5).to_array().map(|v| v as u16);
        (0..3).for_each(|d| top[d] = top[d].max(q[d]));
        let all = q[0] as u64 | (q[1] as u64) << 16 | (q[2] as u64) << 32;
        bin.extend_from_slice(&all.to_le_bytes());
    }
    add(
        &mut views,
        &mut accessors,
        at,
        bin.len(),
        8,
        34962,
        json!({
            "componentType": 5123, "count": n, "type": "VEC3", "min": [0, 0, 0], "max": top
        }),
    );
    let at = bin.len();
    for v in &shaded.normals {
        let q = (*v * 127.0).round().to_array().map(|x| x as i8);
        bin.extend_from_slice(&[q[0] as u8, q[1] as u8, q[2] as u8, 0]);
    }
    add(
        &mut views,
        &mut accessors,
        at,
        bin.len(),
        4,
        34962,
        json!({
            "componentType": 5120, "normalized": true, "count": n, "type": "VEC3"
        }),
    );
    let mut named = json!({ "POSITION": 0, "NORMAL": 1 });
    for a in attributes {
        let at = bin.len();
        let kind = match &a.values {
            Values::Bytes(v) => {
                v.iter().for_each(|b| bin.extend_from_slice(&[*b, 0, 0, 0]));
                5121
            }
            Values::Floats(v) => {
                v.iter().for_each(|f| bin.extend(f.to_le_bytes()));
                5126
            }
        };
        named[format!("_{}", a.name)] = json!(accessors.len());
        add(
            &mut views,
            &mut accessors,
            at,
            bin.len(),
            4,
            34962,
            json!({
                "componentType": kind, "count": n, "type": "SCALAR"
            }),
        );
    }
    let indices = accessors.len();
    let at = bin.len();
    shaded.triangles.iter().flatten().for_each(|i| bin.extend_from_slice(&i.to_le_bytes()));
    views.push(
        json!({ "buffer": 0, "byteOffset": at, "byteLength": bin.len() - at, "target": 34963 }),
    );
    accessors.push(json!({
        "bufferView": views.len() - 1, "componentType": 5125, "count": shaded.triangles.len() * 3, "type": "SCALAR"
    }));

    let empty = shaded.triangles.is_empty();
    let mut doc = json!({
        "asset": { "version": "2.0", "generator": "Ulmix", "extras": extras },
        "extensionsUsed": ["KHR_mesh_quantization"],
        "extensionsRequired": ["KHR_mesh_quantization"],
        "scene": 0,
        "scenes": [{ "nodes": if empty { json!([]) } else { json!([0]) } }],
    });
    if !empty {
        doc["nodes"] =
            json!([{ "mesh": 0, "translation": low.to_array(), "scale": [step, step, step] }]);
        doc["meshes"] = json!([{ "primitives": [{ "attributes": named, "indices": indices }] }]);
        doc["bufferViews"] = json!(views);
        doc["accessors"] = json!(accessors);
        doc["buffers"] = json!([{ "byteLength": bin.len() }]);
    }
    let mut text = doc.to_string().into_bytes();
    text.resize(text.len().next_multiple_of(4), b' ');
    bin.resize(bin.len().next_multiple_of(4), 0);
    let total = 12 + 8 + text.len() + 8 + bin.len();
    let mut out = Vec::with_capacity(total);
    let word = |out: &mut Vec<u8>, v: u32| out.extend(v.to_le_bytes());
    word(&mut out, 0x4654_6C67);
    word(&mut out, 2);
    word(&mut out, total as u32);
    word(&mut out, text.len() as u32);
    word(&mut out, 0x4E4F_534A);
    out.extend(&text);
    word(&mut out, bin.len() as u32);
    word(&mut out, 0x004E_4942);
    out.extend(&bin);
    out
}

fn add(
    views: &mut Vec<Value>,
    accessors: &mut Vec<Value>,
    at: usize,
    end: usize,
    stride: usize,
    target: u32,
    mut accessor: Value,
) {
    views.push(json!({ "buffer": 0, "byteOffset": at, "byteLength": end - at, "byteStride": stride, "target": target }));
    accessor["bufferView"] = json!(views.len() - 1);
    accessors.push(accessor);
}

/// The JSON chunk of a GLB, for reading back its extras.
pub fn header(glb: &[u8]) -> Option<Value> {
    let len = u32::from_le_bytes(glb.get(12..16)?.try_into().ok()?) as usize;
    serde_json::from_slice(glb.get(20..20 + len)?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::{shading::shade, TriMesh};

    #[test]
    fn lengths_add_up_and_positions_come_back() {
        let m = TriMesh::sphere(25.0, 3);
        let s = shade(&m, 35.0);
        let values = Values::Bytes(vec![2; s.positions.len()]);
        let glb = write(&s, &[Attribute { name: "ZONE", values }], json!({ "seconds": 0.5 }));
        assert_eq!(u32::from_le_bytes(glb[8..12].try_into().unwrap()) as usize, glb.len());
        let doc = header(&glb).unwrap();
        assert_eq!(doc["asset"]["extras"]["seconds"], 0.5);
        assert_eq!(doc["accessors"][0]["count"], s.positions.len());
        assert_eq!(doc["meshes"][0]["primitives"][0]["attributes"]["_ZONE"], 2);
        let json_len = u32::from_le_bytes(glb[12..16].try_into().unwrap()) as usize;
        let bin = &glb[20 + json_len + 8..];
        let step = doc["nodes"][0]["scale"][0].as_f64().unwrap() as f32;
        let low = doc["nodes"][0]["translation"][0].as_f64().unwrap() as f32;
        let x = u16::from_le_bytes([bin[0], bin[1]]) as f32 * step + low;
        assert!((x - s.positions[0].x).abs() <= step);
    }

    #[test]
    fn an_empty_mesh_is_still_a_valid_file() {
        let glb = write(&Shaded::default(), &[], json!({}));
        assert_eq!(header(&glb).unwrap()["scenes"][0]["nodes"], json!([]));
    }
}
