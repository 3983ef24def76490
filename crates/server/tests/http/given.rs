//! What comes from files or is picked: beams, faces, loops of edges.

use super::server::fresh;
use super::{draft_body, extras};
use glam::DVec3;
use serde_json::json;
use std::io::{Cursor, Write};
use ulmix_formats::stl;
use ulmix_mesh::TriMesh;
use zip::{write::SimpleFileOptions, ZipWriter};

#[test]
fn beams_beside_a_solid_come_as_the_struts_that_fill_it() {
    let (_dir, s) = fresh();
    let model = r#"<model unit="millimeter"><resources>
        <object id="1" name="Block"><mesh><vertices>VERTICES</vertices><triangles>TRIANGLES</triangles></mesh></object>
        <object id="2" name="Frame"><mesh><vertices><vertex x="-5" y="10" z="10"/><vertex x="25" y="10" z="10"/><vertex x="10" y="10" z="25"/></vertices>
        <beamlattice radius="1.5"><beams><beam v1="0" v2="1"/><beam v1="0" v2="2"/></beams></beamlattice></mesh></object>
        </resources><build><item objectid="1"/><item objectid="2"/></build></model>"#;
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::ZERO + 20.0);
    let vertices: String = block
        .points
        .iter()
        .map(|p| format!(r#"<vertex x="{}" y="{}" z="{}"/>"#, p.x, p.y, p.z))
        .collect();
    let triangles: String = block
        .triangles
        .iter()
        .map(|[a, b, c]| format!(r#"<triangle v1="{a}" v2="{b}" v3="{c}"/>"#))
        .collect();
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    zip.start_file("3D/3dmodel.model", SimpleFileOptions::default()).unwrap();
    zip.write_all(model.replace("VERTICES", &vertices).replace("TRIANGLES", &triangles).as_bytes())
        .unwrap();
    let file = zip.finish().unwrap().into_inner();

    let told = s.send("POST", "/api/uploads?name=frame.3mf", &[], &file).json();
    assert_eq!((&told["contents"]["struts"], &told["contents"]["bodies"]), (&json!(2), &json!(1)));
    let p = s
        .post("/api/projects", &json!({ "from": "upload", "upload": told["upload"], "unit": "mm" }))
        .json();
    let (structure, thicken) = (&p["recipe"]["structure"], &p["recipe"]["thicken"]);
    assert_eq!(
        (&structure["pattern"]["kind"], &thicken["thickness_mm"]),
        (&json!("own_struts"), &json!(3.0))
    );
    assert!((p["part"]["volume_mm3"].as_f64().unwrap() - 8000.0).abs() < 1e-6);
    let id = p["id"].as_str().unwrap();
    let draft = s.post(&format!("/api/projects/{id}/draft"), &draft_body(&p["recipe"], false));
    assert_eq!(draft.status, 200, "{}", String::from_utf8_lossy(&draft.body));
    assert_eq!(extras(&draft.body)["linked"]["structure"]["struts"], 2);
    // The same file as struts alone, and one without any.
    let again = s.send("POST", "/api/struts?name=frame.3mf", &[], &file).json();
    assert_eq!(again["own"]["struts"], structure["pattern"]["own"]["struts"]);
    let none =
        s.send("POST", "/api/struts?name=ball.stl", &[], &stl::write(&TriMesh::sphere(3.0, 2)));
    assert!(none.problem(422, "bad_value").contains("no struts"));
}

#[test]
fn a_cell_from_a_file_fills_a_part_and_a_wrong_one_is_refused() {
    let (_dir, s) = fresh();
    let send = |name: &str, mesh: &TriMesh| {
        s.send("POST", &format!("/api/cell?name={name}"), &[], &stl::write(mesh))
    };
    // A ball in a cell of its own size: it reaches no neighbour, and the part is left with balls.
    let found = send("ball.stl", &TriMesh::sphere(3.0, 3)).json();
    assert_eq!(
        (&found["own"]["apart"], &found["own"]["name"]),
        (&json!([true, true, true]), &json!("ball.stl"))
    );
    let p =
        s.post("/api/projects", &json!({ "from": "reedling", "part": "battery_cradle" })).json();
    let mut recipe = p["recipe"].clone();
    recipe["structure"]["pattern"] = json!({ "kind": "own_mesh" });
    let draft = |recipe: &serde_json::Value| {
        s.post(
            &format!("/api/projects/{}/draft", p["id"].as_str().unwrap()),
            &draft_body(recipe, false),
        )
    };
    // A kind that comes from a file is nothing without it.
    assert!(draft(&recipe).problem(422, "bad_request").contains("own"));
    recipe["structure"]["pattern"]["own"] = found["own"].clone();
    recipe["structure"]["cell_mm"] = found["cell_mm"].clone();
    recipe["thicken"] = json!({ "lead": "thickness", "thickness_mm": found["thickness_mm"] });
    let drawn = draft(&recipe);
    assert_eq!(drawn.status, 200, "{}", String::from_utf8_lossy(&drawn.body));
    // A ball fills π/6 of its box; the part's sides cut some of them.
    let percent = extras(&drawn.body)["linked"]["density_percent"].as_f64().unwrap();
    assert!((percent - 52.4).abs() < 5.0, "{percent}");

    let mut two = TriMesh::cuboid(DVec3::ZERO, DVec3::new(5.0, 2.0, 2.0));
    two.append(&TriMesh::cuboid(DVec3::new(6.0, 1.0, 0.0), DVec3::new(10.0, 3.0, 2.0)));
    assert!(send("two.stl", &two).problem(422, "bad_value").contains("along x"));
    assert!(s
        .send("POST", "/api/cell?name=x.stl", &[], b"no mesh at all")
        .problem(422, "bad_value")
        .contains("x.stl"));
}

#[test]
fn loops_of_edges_and_what_lies_within_are_told() {
    let (_dir, s) = fresh();
    let p = s.post("/api/projects", &json!({ "from": "reedling", "part": "keel_bracket" })).json();
    let id = p["id"].as_str().unwrap();
    let path = |n: usize| format!("/api/projects/{id}/faces/{n}/loops");
    let loops = s.post(&path(0), &p["recipe"]["part"]).json();
    assert!(
        !loops.as_array().unwrap().is_empty()
            && loops[0]["points_mm"].as_array().unwrap().len() > 2,
        "{loops}"
    );
    assert_eq!(s.post(&path(9999), &p["recipe"]["part"]).status, 404);

    // The bracket's first zone is a cylinder: its base's middle lies on its border, a point on the
    // axis inside.
    let place = &p["recipe"]["zones"]["list"][0]["place"];
    let at = |key: &str, n: usize| place[key][n].as_f64().unwrap();
    let points = [0.0, 0.5, 2.0]
        .map(|along| [0, 1, 2].map(|n| (at("base_mm", n) + along * at("axis_mm", n)) as f32));
    let body: Vec<u8> = points.iter().flatten().flat_map(|v| v.to_le_bytes()).collect();
    let zone = p["recipe"]["zones"]["list"][0]["id"].as_u64().unwrap();
    let within = |query: &str, body: &[u8]| {
        s.send("POST", &format!("/api/projects/{id}/within?{query}"), &[], body)
    };
    let far = within(&format!("zone={zone}"), &body).body;
    let far: Vec<f32> =
        far.chunks_exact(4).map(|b| f32::from_le_bytes(b.try_into().unwrap())).collect();
    assert!(far.len() == 3 && far[0].abs() < 1e-3 && far[1] < -1.0 && far[2] > 1.0, "{far:?}");
    assert_eq!(within("zone=77", &body).status, 404);
    assert_eq!(within(&format!("zone={zone}"), &body[1..]).status, 422);
}
