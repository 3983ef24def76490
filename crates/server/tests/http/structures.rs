//! Structures before they are a mesh: small pictures, struts and cells to look at, points from a
//! table, relaxing.

use super::server::fresh;
use super::{draft_body, extras};
use serde_json::{json, Value};

#[test]
fn structures_are_drawn_small_and_their_struts_listed() {
    let (_dir, s) = fresh();
    let options = s.get("/api/options").json();
    let kinds = options["structures"].as_array().unwrap();
    assert!(kinds.len() >= 28 && kinds.iter().all(|k| !k["title"].as_str().unwrap().is_empty()));
    let picture =
        |kind: &str, query: &str| s.get(&format!("/api/structures/{kind}/picture?{query}"));
    for kind in ["gyroid", "kelvin", "hexagons", "voronoi"] {
        let p = picture(kind, "x=10&y=10&z=10&thickness=1.2");
        assert_eq!(p.status, 200);
        assert!(p.body.starts_with(b"\x89PNG") && p.body.len() > 1000, "{kind}");
    }
    for (kind, query) in [
        ("no_such", "x=10&y=10&z=10&thickness=1"),
        ("gyroid", "x=0&y=10&z=10&thickness=1"),
        ("gyroid", "x=10&y=10&z=10&thickness=NaN"),
        ("kelvin", "x=1e-9&y=1&z=1&thickness=1"),
    ] {
        let p = picture(kind, query);
        assert!(
            p.status == 422 && !p.json()["hint"].as_str().unwrap().is_empty(),
            "{kind} {query}: {}",
            p.status
        );
    }
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    let struts = |recipe: &Value| {
        let r = s.post(&format!("/api/projects/{id}/skeleton"), recipe);
        assert_eq!(r.status, 200);
        // By how they lie in the part.
        let mut count = [0; 4];
        r.body
            .chunks_exact(28)
            .for_each(|s| count[f32::from_le_bytes(s[24..].try_into().unwrap()) as usize] += 1);
        count
    };
    assert_eq!(struts(&recipe), [0; 4], "walls have none");
    recipe["structure"]["pattern"] = json!({ "kind": "cell", "cell": "cubic" });
    let cubic = struts(&recipe);
    assert!(cubic[0] + cubic[1] > 10 && cubic[3] == 0, "{cubic:?}");
    recipe["structure"]["pattern"] = json!({ "kind": "voronoi" });
    let net = struts(&recipe);
    assert!(net[0] > 10 && net[2] > 10 && net[3] == 0, "{net:?}");
    // Seed points and the edges of their cells: three of those meet at each corner inside.
    recipe["structure"]["pattern"]["seeds"]["count"] = json!(40);
    let told: Vec<f32> = s
        .post(&format!("/api/projects/{id}/cells"), &recipe)
        .body
        .chunks_exact(4)
        .map(|v| f32::from_le_bytes(v.try_into().unwrap()))
        .collect();
    assert!(
        told[0] == 40.0 && (told.len() - 122).is_multiple_of(6) && told.len() > 720,
        "{}",
        told.len()
    );
    assert!(told.iter().all(|v| v.is_finite()));
    assert!(told[1] > 0.0 && told[1] < 40.0, "{} cells are whole", told[1]);
    // Without a mesh the same is known as with one, and no stage that leads to one has run.
    let estimated = s.post(&format!("/api/projects/{id}/estimate"), &recipe).json();
    let stages: Vec<&str> = estimated["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| s["stage"].as_str().unwrap())
        .collect();
    assert!(
        stages.contains(&"skeleton")
            && !stages.contains(&"surface")
            && !stages.contains(&"lattice"),
        "{stages:?}"
    );
    let drawn =
        extras(&s.post(&format!("/api/projects/{id}/draft"), &draft_body(&recipe, false)).body);
    assert_eq!(estimated["linked"], drawn["linked"]);
    for figure in ["mass_g", "saved_percent", "fill_density_percent"] {
        assert_eq!(estimated["report"][figure], drawn["report"][figure], "{figure}");
    }
    recipe["structure"]["pattern"] = json!({ "kind": "surface", "surface": "gyroid" });
    assert_eq!(s.post(&format!("/api/projects/{id}/cells"), &recipe).body, [0; 8]);
    recipe["structure"]["pattern"] = json!({ "kind": "no_such" });
    assert_ne!(s.post(&format!("/api/projects/{id}/skeleton"), &recipe).status, 200);
    assert_eq!(s.post(&format!("/api/projects/{id}/estimate"), &recipe).status, 422);
    assert_eq!(s.post("/api/projects/none/estimate", &p["recipe"]).status, 404);
}

#[test]
fn points_of_a_table_fill_a_part_of_the_buoy_and_a_bad_line_is_told() {
    let (_dir, s) = fresh();
    let read = |text: &str| {
        s.send(
            "POST",
            "/api/points?name=sites.csv",
            &[("content-type", "text/csv")],
            text.as_bytes(),
        )
    };
    assert!(read("x,y,z\n1,2\n").problem(422, "bad_value").contains("Line 2 of sites.csv"));
    read("\u{0}\u{1}\n\u{2}").problem(422, "bad_value");
    let own = read("x;y;z\n0,5;0;2\n9;0;2\n-9;0;2\n0;9;2\n900;0;0\n").json();
    assert_eq!(
        (own["points_mm"].as_array().unwrap().len(), &own["points_mm"][0][0]),
        (5, &json!(0.5))
    );

    let p = s.post("/api/projects", &json!({ "from": "reedling", "part": "vent_panel" })).json();
    let id = p["id"].as_str().unwrap();
    let mut recipe = p["recipe"].clone();
    recipe["structure"]["pattern"] = json!({ "kind": "voronoi" });
    recipe["structure"]["pattern"]["seeds"]["own"] = own;
    recipe["structure"]["pattern"]["seeds"]["rounds"] = json!(0);
    let draft = s.post(&format!("/api/projects/{id}/draft"), &draft_body(&recipe, false));
    assert_eq!(draft.status, 200);
    assert_eq!(extras(&draft.body)["linked"]["structure"]["seeds"], json!(4), "one lies far away");
}

#[test]
fn struts_and_cells_of_a_zone_of_its_own_are_those_that_reach_into_it() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    let mut own = recipe["structure"].clone();
    own["pattern"] = json!({ "kind": "voronoi" });
    own["cell_mm"] = json!([4, 4, 4]);
    // The half of the box with negative x: its middle is the origin but for its height.
    recipe["zones"]["list"] = json!([{
        "id": 1,
        "name": "Left",
        "role": "fill",
        "place": { "shape": "box", "centre_mm": [-20, 0, 0], "size_mm": [40, 90, 90], "rotation_deg": [0, 0, 0] },
        "own": { "structure": own, "thicken": { "lead": "thickness", "thickness_mm": 1 }, "joins": {}, "blend_mm": 0 },
    }]);
    let told = |what: &str, zone: &str| -> Vec<f32> {
        let r = s.post(&format!("/api/projects/{id}/{what}{zone}"), &recipe);
        assert_eq!(r.status, 200);
        r.body.chunks_exact(4).map(|v| f32::from_le_bytes(v.try_into().unwrap())).collect()
    };
    assert!(
        told("skeleton", "").is_empty() && told("cells", "") == [0.0, 0.0],
        "the part's are walls"
    );
    assert!(told("skeleton", "?zone=5").is_empty(), "there is no such zone");
    let struts = told("skeleton", "?zone=0");
    let left = |ends: &[f32]| ends[0].min(ends[3]).min(0.5 * (ends[0] + ends[3])) < 1e-4;
    assert!(struts.len() > 7 * 50 && struts.chunks_exact(7).all(left));
    let cells = told("cells", "?zone=0");
    let count = cells[0] as usize;
    assert!(count > 10 && cells[2..2 + 3 * count].chunks_exact(3).all(|p| p[0] < 0.0));
    assert!(cells[2 + 3 * count..].chunks_exact(6).all(left));
    assert_eq!(s.post(&format!("/api/projects/{id}/skeleton?zone=x"), &recipe).status, 400);
}

#[test]
fn another_kind_keeps_what_both_have() {
    let (_dir, s) = fresh();
    let voronoi = json!({ "kind": "voronoi", "seeds": { "count": 40 }, "clean": { "weld": 0.3 } });
    let of = |kind: &str| s.post(&format!("/api/structures/{kind}/pattern"), &voronoi);
    let walls = of("voronoi_walls").json();
    assert_eq!((&walls["seeds"]["count"], &walls["holes"]), (&json!(40), &json!(0.0)));
    let near = of("neighbours").json();
    assert_eq!((&near["clean"]["weld"], &near["neighbours"]), (&json!(0.3), &json!(4)));
    assert_eq!(of("octet").json(), json!({ "kind": "cell", "cell": "octet" }));
    assert!(of("own_mesh").problem(422, "bad_structure").contains("comes from a file"));
    of("no_such").problem(422, "bad_structure");
}

#[test]
fn relaxing_is_told_and_goes_on_where_it_was_told_to_stop() {
    let (_dir, s) = fresh();
    let p = s.post("/api/projects", &json!({ "from": "reedling", "part": "tow_grip" })).json();
    let id = p["id"].as_str().unwrap();
    let path = format!("/api/projects/{id}/estimate");
    let mut recipe = p["recipe"].clone();
    recipe["structure"]["pattern"]["seeds"]["count"] = json!(8000);
    let of = |rounds: &Value| {
        let mut recipe = recipe.clone();
        recipe["structure"]["pattern"]["seeds"]["rounds"] = rounds.clone();
        recipe
    };
    s.post(&path, &of(&json!(2001))).problem(422, "bad_value");
    let mut told = s.events(id).filter(|event| event["event"] == "relaxing");
    std::thread::scope(|scope| {
        let long = scope.spawn(|| s.post(&path, &of(&json!(2000))));
        let first = told.next().unwrap();
        assert!(first["of"] == 2000 && first["rounds"].as_u64().unwrap() < 2000, "{first}");
        let second = told.next().unwrap()["rounds"].clone();
        assert!(second.as_u64() > first["rounds"].as_u64());
        // The newer question stops the older one, and has next to nothing left to do.
        let stopped = s.post(&path, &of(&second)).json();
        assert_eq!(stopped["linked"]["structure"]["rounds"], second);
        long.join().unwrap().problem(409, "cancelled");
        // The same as if it had been asked for at once.
        let (_dir, other) = fresh();
        let p =
            other.post("/api/projects", &json!({ "from": "reedling", "part": "tow_grip" })).json();
        let again = other
            .post(&format!("/api/projects/{}/estimate", p["id"].as_str().unwrap()), &of(&second))
            .json();
        assert_eq!(again["linked"], stopped["linked"]);
    });
}
