//! Small files that ask for more than there is.

use super::running::{binary, ServedApp};
use glam::DVec3;
use std::io::{Cursor, Write};
use ulmix_formats::stl;
use ulmix_mesh::TriMesh;

fn model(xml: &str) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    zip.start_file("3D/3dmodel.model", zip::write::SimpleFileOptions::default()).unwrap();
    zip.write_all(xml.as_bytes()).unwrap();
    zip.finish().unwrap().into_inner()
}

fn numbers() -> impl FnMut() -> f64 {
    let mut state = 7u64;
    move || {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as f64 / (1u64 << 31) as f64
    }
}

/// Loose tetrahedra in a cube of 100 mm.
fn tetrahedra(count: usize, size: f64) -> TriMesh {
    let mut number = numbers();
    let mut mesh = TriMesh::default();
    for _ in 0..count {
        let at = DVec3::new(number(), number(), number()) * 100.0;
        let n = mesh.points.len() as u32;
        mesh.points.extend([DVec3::ZERO, DVec3::X, DVec3::Y, DVec3::Z].map(|p| at + size * p));
        mesh.triangles.extend(
            [[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]].map(|t: [u32; 3]| t.map(|v| v + n)),
        );
    }
    mesh
}

/// Every family, with a word that tells how it is refused; none where it may be read.
fn families() -> Vec<(&'static str, Vec<u8>, Option<&'static str>)> {
    let nested = |first: &str| {
        let times = |id: usize| format!("<component objectid='{id}'/>").repeat(10);
        let objects: String = (2..=15)
            .map(|id| {
                format!("<object id='{id}'><components>{}</components></object>", times(id - 1))
            })
            .collect();
        model(&format!(
            "<model><object id='1'>{first}</object>{objects}<item objectid='15'/></model>"
        ))
    };
    let face = |corners: usize| {
        let points: String = (0..corners)
            .map(|n| format!("v {n} {} 0\n", if n == 0 { -9 } else { (n % 2) as i32 }))
            .collect();
        let all: String = (1..=corners).map(|n| format!(" {n}")).collect();
        format!("{points}f{all}\n").into_bytes()
    };
    let separate = |n: usize| {
        let mut mesh = TriMesh::default();
        for i in 0..n {
            let at = DVec3::new((i % 1000) as f64, (i / 1000) as f64, 0.0);
            mesh.points.extend([at, at + 0.5 * DVec3::X, at + DVec3::new(0.0, 0.5, 0.1)]);
            mesh.triangles.push([0, 1, 2].map(|v| v + 3 * i as u32));
        }
        stl::write(&mesh)
    };
    let mut number = numbers();
    // Each triangle has corners of its own, a millionth apart from its neighbours'.
    let ball = TriMesh::sphere(10.0, 5);
    let noisy = TriMesh {
        points: ball
            .triangles
            .iter()
            .flatten()
            .map(|&v| ball.points[v as usize] + 1e-6 * DVec3::new(number(), number(), number()))
            .collect(),
        triangles: (0..ball.triangles.len() as u32)
            .map(|t| [3 * t, 3 * t + 1, 3 * t + 2])
            .collect(),
    };
    // A spiral around its middle.
    let around =
        |i: usize| DVec3::new((i as f64 * 1e-3).cos(), (i as f64 * 1e-3).sin(), i as f64 * 1e-3);
    let fan = TriMesh {
        points: std::iter::once(DVec3::ZERO).chain((0..=100_000).map(around)).collect(),
        triangles: (1..=100_000).map(|i| [0, i, i + 1]).collect(),
    };
    let crossing = TriMesh {
        points: (0..30_000).map(|_| DVec3::new(number(), number(), number()) * 50.0).collect(),
        triangles: (0..10_000).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect(),
    };
    let attributes: String = (0..60_000).map(|n| format!(" a{n}='1'")).collect();
    vec![
        ("components.3mf", nested(""), Some("places more than")),
        (
            "points.3mf",
            nested(&format!("<mesh>{}</mesh>", "<vertex x='0' y='0' z='0'/>".repeat(5_000))),
            Some("million points"),
        ),
        (
            "attributes.3mf",
            model(&format!("<model{attributes}><build/></model>")),
            Some("no triangles"),
        ),
        ("deep.3mf", model(&"<a>".repeat(1_000_000)), Some("nested too deeply")),
        ("face.obj", face(80_000), Some("80000 corners")),
        ("wide.obj", face(1_000_000), Some("1000000 corners")),
        ("tetrahedra.stl", stl::write(&tetrahedra(6_000, 1.0)), None),
        ("within.stl", stl::write(&tetrahedra(6_000, 60.0)), None),
        ("separate.stl", separate(32), None),
        ("many.stl", separate(200_000), Some("200000 separate pieces")),
        ("fan.stl", stl::write(&fan), Some("100000 triangles of the part meet at one point")),
        ("noisy.stl", stl::write(&noisy), None),
        ("crossing.stl", stl::write(&crossing), None),
    ]
}

#[test]
fn small_files_are_read_or_refused_in_words_and_cost_no_more_than_they_should() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    for (name, bytes, refused) in families() {
        let r = s.send("POST", &format!("/api/uploads?name={name}"), &[], &bytes);
        match refused {
            Some(words) => {
                assert!(r.problem(422, "bad_file").contains(words), "{name}: {}", r.json())
            }
            None => assert!(r.status == 200 || r.status == 422, "{name}: {}", r.status),
        }
        assert!(s.megabytes("VmHWM") < 1000, "{name}: {} MB", s.megabytes("VmHWM"));
    }
    // It goes on as ever.
    s.small_box();
}

#[test]
fn crossings_beyond_number_are_told_as_such() {
    let dir = tempfile::tempdir().unwrap();
    let (_, bytes, _) = families().into_iter().find(|f| f.0 == "crossing.stl").unwrap();
    let path = dir.path().join("crossing.stl");
    std::fs::write(&path, bytes).unwrap();
    let o = binary().arg("check").arg(&path).output().unwrap();
    let told = String::from_utf8_lossy(&o.stdout);
    assert!(o.status.code() == Some(1) && told.contains("not all looked at"), "{told}");
}
