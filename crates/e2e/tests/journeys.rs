//! A person's journeys in a real browser against the real binary. Assertions are on what is seen
//! and on the file that is saved, read again.

use glam::DVec3;
use ulmix_e2e::browser::leaving::{made, written};
use ulmix_e2e::browser::Bench;
use ulmix_formats::{stl, Limits};
use ulmix_mesh::{Topology, TriMesh};

/// What the server tells of the open project's triangles at a step of 0.8 mm.
const ESTIMATE: &str = r#"
    const ask = (method, path, body) => {
        const request = new XMLHttpRequest();
        request.open(method, '/api/projects/' + location.pathname.split('/').pop() + path, false);
        request.setRequestHeader('content-type', 'application/json');
        request.send(body);
        return JSON.parse(request.responseText);
    };
    const recipe = ask('GET', '').recipe;
    recipe.mesh.step_mm = 0.8;
    return ask('POST', '/cost', JSON.stringify(recipe)).triangles;
"#;

/// From the start screen over slider, cut and final mesh to a saved file.
#[tokio::test]
async fn the_keel_bracket_becomes_lighter_and_leaves_as_a_file() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Keel bracket").await;
    b.painted("draft").await;
    assert!(b.seen(".step", "3 kept solid").await && b.seen(".step", "Walls 1.4 mm thick").await);
    let before = b.text("[data-testid=saved]").await;

    // Wall thickness by keyboard on the slider: the picture follows and the recipe is saved.
    b.step("Thicken").await;
    for _ in 0..12 {
        b.press("[aria-label='Wall thickness'][role=slider]", "\u{E014}").await;
    }
    b.until("the saving shrinks", || async { b.text("[data-testid=saved]").await != before }).await;
    b.painted("draft").await;
    b.saved().await;

    // Nothing that thickness does not touch is made again.
    let cached = b.attribute("[data-stage=zones]", "data-cached").await;
    assert_eq!(cached, "true", "zones do not depend on thickness");

    // Undo takes it all back, redo brings it again.
    let thicker = b.text("[data-testid=saved]").await;
    b.click("[aria-label=Undo]").await;
    b.until("undo shows", || async { b.text("[data-testid=saved]").await != thicker }).await;
    b.click("[aria-label=Redo]").await;
    b.until("redo shows", || async { b.text("[data-testid=saved]").await == thicker }).await;

    b.click_text(".ant-segmented-item-label", "Cut").await;
    b.until("the cut's values show", || async { b.present("[aria-label='Cut at']").await }).await;

    let estimated = b.js(ESTIMATE).await.as_u64().expect("so many triangles");
    // A coarser step keeps this test short.
    b.grid_step("0.8").await;
    b.until("the new step is saved", || async {
        b.seen(".facts", "0.8 mm").await && b.text("[data-testid=saved-state]").await == "Saved"
    })
    .await;
    // Once the value rests, the figure is that of blocks of the final mesh.
    let shown =
        || async { b.attribute("[data-triangles]", "data-triangles").await.parse::<u64>().ok() };
    b.until("the triangles are estimated", || async { shown().await == Some(estimated) }).await;
    b.click_text("button", "Make the final mesh").await;
    b.painted("final").await;
    let saved: f64 = b.text("[data-testid=saved]").await.trim_end_matches(" %").parse().unwrap();
    assert!(saved > 20.0 && saved < 60.0, "{saved}");

    b.step("Hand-off").await;
    b.fill("[aria-label='File name']", "keel v2").await;
    for (format, name) in [("3MF, in millimetres", "keel v2.3mf"), ("STL, binary", "keel v2.stl")] {
        b.click_text(".ant-segmented-item-label", format).await;
        let read = written(&b, name).await;
        assert!(name.ends_with("stl") || read.millimetres_per_unit == Some(1.0));
        let t = Topology::of(&read.mesh);
        assert!(t.sound() && t.components == 1, "{name}: {} pieces", t.components);
        let triangles = read.mesh.triangles.len() as f64;
        assert!(
            (triangles / estimated as f64 - 1.0).abs() < 0.25,
            "{triangles} triangles for {estimated}"
        );
        let size = read.mesh.bounds().size();
        assert!((size - DVec3::new(120.0, 72.0, 88.0)).abs().max_element() < 0.2, "{size}");
        let part = ulmix_part::demo::keel_bracket().0.volume();
        let share = 100.0 * (1.0 - read.mesh.volume() / part);
        assert!(
            (share - saved).abs() < 0.2,
            "the file is {share} % lighter, the screen said {saved} %"
        );
    }

    // Reopening shows the same picture from the store.
    b.open(&b.path().await).await;
    b.painted("final").await;
}

/// Two bodies dropped together, one kept solid, leave as one; then the part is swapped for another.
#[tokio::test]
async fn two_bodies_with_roles_become_one_file_and_the_part_is_swapped() {
    let b = Bench::start().await;
    b.open("/").await;
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(24.0));
    let plate = TriMesh::cuboid(DVec3::new(24.0, -4.0, -4.0), DVec3::new(30.0, 28.0, 28.0));
    b.drop_files(&[("block.stl", &stl::write(&block)), ("plate.stl", &stl::write(&plate))]).await;
    b.until("the unit is asked", || async {
        b.seen(".ant-modal", "With it, in the same unit: plate.stl").await
    })
    .await;
    b.click_text(".ant-modal button", "Use this part").await;
    b.painted("draft").await;
    b.step("Part").await;
    b.until("both bodies are listed", || async { b.seen(".bodyrow", "plate").await }).await;
    b.click("[aria-label='Role of plate']").await;
    b.click_text(".ant-select-item-option-content", "Keep solid").await;
    b.saved().await;
    b.painted("draft").await;

    b.grid_step("0.4").await;
    let mesh = made(&b, "both.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let (volume, solid) = (mesh.volume(), plate.volume());
    assert!(volume > solid + 500.0 && volume < solid + 0.6 * block.volume(), "{volume}");

    // The same again with lattice and plate apart: two objects of a file, or a file of one.
    b.step("Mesh").await;
    b.click_text("[aria-label='Lattice and solids'] .ant-segmented-item-label", "Apart").await;
    b.until("that is saved", || async {
        b.text("[data-testid=saved-state]").await == "Saved"
            && b.seen("button", "Make the final mesh").await
    })
    .await;
    b.click_text("button", "Make the final mesh").await;
    b.painted("final").await;
    b.until("both are weighed", || async { b.seen("[data-testid=apart]", "Solids, apart").await })
        .await;
    b.step("Hand-off").await;
    b.fill("[aria-label='File name']", "apart").await;
    let both = written(&b, "apart.3mf").await;
    assert_eq!(
        both.bodies.iter().map(|n| n.name.as_str()).collect::<Vec<_>>(),
        ["Lattice", "Solids"]
    );
    assert!((both.mesh.volume() / volume - 1.0).abs() < 0.01, "{} of {volume}", both.mesh.volume());
    b.click_text("[aria-label=Format] .ant-segmented-item-label", "STL, binary").await;
    b.click("[aria-label='Bodies to write']").await;
    b.click_text(".ant-select-item-option-content", "Solids alone").await;
    let alone = written(&b, "apart solids.stl").await.mesh;
    assert!(
        Topology::of(&alone).sound() && (alone.volume() - solid).abs() < 1.0,
        "{}",
        alone.volume()
    );

    // Another part: roles, cells and thickness stay.
    b.step("Part").await;
    b.click_text("button", "Swap the part").await;
    let taller = TriMesh::cuboid(DVec3::ZERO, DVec3::new(24.0, 24.0, 40.0));
    b.choose_file("[aria-label='File of a body']", "taller.stl", &stl::write(&taller)).await;
    b.until("the unit is asked", || async { b.seen(".ant-modal", "24 × 24 × 40 mm").await }).await;
    b.click_text(".ant-modal button", "Use this part").await;
    b.until("the new part is there", || async {
        b.seen(".facts", "taller.stl").await && b.seen(".bodyrow", "taller").await
    })
    .await;
    b.painted("draft").await;
    b.click("[aria-label=Undo]").await;
    b.until("undo brings the old one back", || async { b.seen(".facts", "block.stl").await }).await;
}

/// A foreign STL in inches, dropped on the start screen.
#[tokio::test]
async fn a_foreign_part_in_inches_is_asked_for_its_unit() {
    let b = Bench::start().await;
    b.open("/").await;
    b.drop_file("not a part.stl", b"PK no, not this").await;
    b.until("the wrong file is explained", || async { b.seen(".refused", "not a part.stl").await })
        .await;

    // 2 × 1.5 × 1 inches, with a hole of one triangle.
    let part = TriMesh::cuboid(DVec3::ZERO, DVec3::new(2.0, 1.5, 1.0)).filtered(|t| t != 4);
    b.drop_file("sensor block.stl", &stl::write(&part)).await;
    b.until("the unit is asked", || async { b.seen(".ant-modal", "Which unit").await }).await;
    assert!(b.seen(".ant-modal", "50.8 × 38.1 × 25.4 mm").await);
    assert!(b.seen(".ant-modal", "3 open edges along holes").await);
    b.click_text(".units span", "Inches").await;
    b.click_text(".ant-modal button", "Use this part").await;
    b.painted("draft").await;
    assert!(b.seen(".step", "50.8 × 38.1 × 25.4 mm").await && b.seen(".step", "not closed").await);

    // The hole is found in words, and closed.
    b.step("Part").await;
    b.until("its health is told", || async {
        b.seen(".check", "Holes").await && b.seen(".check", "1, up to 50.8 mm").await
    })
    .await;
    b.click("[aria-label='Close holes']").await;
    b.until("the hole is closed", || async {
        b.seen(".remark", "1 hole was closed, the widest of 50.8 mm").await
    })
    .await;
    b.painted("draft").await;
    b.step("Structure").await;
    b.until("the sentence says so", || async { b.seen(".step", "49.16 cm³, closed").await }).await;

    // A typed tenfold jump is asked about and can be refused.
    b.fill("[aria-label='Cell size, mm']", "60").await;
    b.until("the jump is asked about", || async {
        b.seen(".ant-modal-confirm", "Cell size: 60 mm?").await
    })
    .await;
    b.click_text(".ant-modal-confirm button", "Keep").await;
    b.until("the old value stays", || async {
        b.value("[aria-label='Cell size, mm']").await == "4.8"
    })
    .await;

    // What the server refuses is told beside the value, which keeps what was typed, until the next
    // edit.
    b.step("Thicken").await;
    let typed = b.value("[aria-label='Wall thickness, mm']").await;
    b.fill("[aria-label='Wall thickness, mm']", "5").await;
    b.until("the value is refused", || async {
        b.seen(".value .remark", "The thickness is 5 mm").await
    })
    .await;
    b.saved().await;
    b.painted("draft").await;
    assert!(
        b.seen(".value .remark", "Choose a value from").await
            && b.seen(".notes", "The thickness is 5 mm").await
    );
    assert_eq!(b.value("[aria-label='Wall thickness, mm']").await.parse(), Ok(5.0));
    b.fill("[aria-label='Wall thickness, mm']", &typed).await;
    b.fill("[aria-label='Wall thickness, mm']", "0.7").await;
    b.until("the refusal is gone", || async {
        !b.present(".value .remark").await && !b.present(".notes .bad").await
    })
    .await;
    b.painted("draft").await;
    b.step("Structure").await;

    // Another kind keeps everything else.
    b.kind("Surfaces", "Schwarz P").await;
    b.until("the sentence follows", || async {
        b.value("[aria-label='Cell size, mm']").await == "4.8"
    })
    .await;
    b.painted("draft").await;
    b.step("Structure").await;
    b.until("the sentence says so", || async {
        b.seen(".step", "Schwarz P walls, 4.8 mm cells").await
    })
    .await;
}

/// A shape of our own, resized, with a skin on two picked faces and a bore kept clear.
#[tokio::test]
async fn a_plate_is_resized_and_gets_skins_on_picked_faces() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Plate").await;
    b.painted("draft").await;
    b.step("Part").await;
    b.fill("[aria-label='Side X, mm']", "100").await;
    b.until("the part follows", || async { b.seen(".step", "100 × 60 × 12 mm").await }).await;
    b.painted("draft").await;

    b.step("Zones").await;
    b.click_text("button", "Skin on some faces").await;
    b.until("faces can be picked", || async { b.present(".facewords").await }).await;
    // The top, then the long side that looks at us.
    for (x, y, faces) in [(0.5, 0.42, "1 face"), (0.42, 0.61, "2 faces")] {
        let act = || b.click_in(".view canvas", x, y);
        b.acted("the face is taken", act, || b.seen(".editor .label", faces)).await;
    }
    // A box around all of it takes every face; a step back lets them go again.
    b.click_text("[aria-label='Pick by'] .ant-segmented-item-label", "Box").await;
    let act = || b.drag(".view canvas", (0.02, 0.2), (690.0, 440.0));
    b.acted("a box takes what lies in it", act, || b.seen(".editor .label", "14 faces")).await;
    b.click("[aria-label=Undo]").await;
    b.until("two are left", || async { b.seen(".editor .label", "2 faces").await }).await;
    // The loop of edges nearest to the top's middle is its outline: four sides and four corners,
    // one of which is held.
    b.click_text("[aria-label='Pick by'] .ant-segmented-item-label", "Loop").await;
    let act = || b.click_in(".view canvas", 0.5, 0.42);
    b.acted("a loop takes the faces along it", act, || b.seen(".editor .label", "9 faces")).await;
    b.click("[aria-label=Undo]").await;
    b.until("two are left again", || async { b.seen(".editor .label", "2 faces").await }).await;
    b.click_text("button", "Done picking").await;
    b.click_text("button", "Add a zone").await;
    b.click_text(".ant-dropdown-menu-title-content", "Cylinder").await;
    b.until("the zone opens", || async { b.present("[aria-label=Role]").await }).await;
    b.click(".ant-select[aria-label=Role], .editor .ant-select").await;
    b.click_text(".ant-select-item-option-content", "Keep clear").await;
    b.saved().await;

    // A drain hole where the top is clicked.
    b.click_text("button", "Drain hole").await;
    b.until("a place can be clicked", || async {
        b.seen(".facewords", "Click where the hole goes in").await
    })
    .await;
    b.acted(
        "the hole is there",
        || b.click_in(".view canvas", 0.6, 0.45),
        || b.seen(".zonerow", "Drain hole 1"),
    )
    .await;
    b.until("its values show", || async { !b.value("[aria-label=Diameter]").await.is_empty() })
        .await;
    let drain = 0.5 * b.value("[aria-label=Diameter]").await.parse::<f64>().unwrap();
    b.saved().await;
    b.grid_step("0.6").await;
    b.until("the zones read as a sentence", || async {
        b.seen(".step", "a skin on faces, 2 kept clear").await
    })
    .await;
    let read = made(&b, "Plate.3mf").await;
    let (m, t) = (&read.mesh, Topology::of(&read.mesh));
    assert!(t.sound());
    // The whole top is there but for its holes and the bore; the bottom is open.
    let area = |z: f64| -> f64 {
        let flat = |t: &usize| m.corners(*t).iter().all(|p| (p.z - z).abs() < 0.01);
        (0..m.triangles.len()).filter(flat).map(|t| m.area_vector(t).length() * 0.5).sum()
    };
    let (pi, bore) = (std::f64::consts::PI, 2.2f64);
    let whole = 100.0 * 60.0
        - (4.0 - pi) * 100.0
        - 4.0 * pi * 2.5 * 2.5
        - pi * (bore * bore + drain * drain);
    assert!((area(12.0) / whole - 1.0).abs() < 0.01, "{} of {whole}", area(12.0));
    assert!(area(0.0) < 0.8 * whole);
}

/// A sheet is pulled, given thickness, stood on its side, and leaves so.
#[tokio::test]
async fn a_sheet_is_pulled_thickened_and_stands_on_the_bed() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Free-form sheet").await;
    b.painted("draft").await;
    b.step("Part").await;
    // The corner that is chosen first goes up.
    b.fill("[aria-label='At Z']", "25").await;
    b.saved().await;
    b.fill("[aria-label='Sheet thickness, mm']", "5").await;
    b.saved().await;
    b.until("it is told", || async { b.seen(".remark", "1 sheet was given thickness").await })
        .await;
    b.click("[aria-label='Stand it on the print bed']").await;
    b.saved().await;
    b.click_text("[aria-label=Down] .ant-segmented-item-label", "+Y").await;
    b.saved().await;
    b.until("how it stands is told", || async { b.seen("body", "Stands 82").await }).await;
    b.painted("draft").await;
    b.grid_step("0.6").await;
    let mesh = made(&b, "sheet.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let bounds = mesh.bounds();
    // 60 mm deep, and somewhat more where its rims lean; now that is its height.
    assert!(
        bounds.min.z.abs() < 1e-3 && bounds.size().z > 60.0 && bounds.size().z < 66.0,
        "{bounds:?}"
    );
    assert!((bounds.centre().truncate() - glam::DVec2::splat(110.0)).length() < 0.05, "{bounds:?}");
}

/// A profile is drawn and turned, pulled at, and edited again after the project was left.
#[tokio::test]
async fn a_revolved_part_is_drawn_and_edited_later() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Revolved profile").await;
    b.painted("draft").await;
    b.step("Part").await;
    b.until("its profile is there", || async { b.present("[aria-label='Point 6']").await }).await;
    let bench = &b;
    let point = |n: &'static str, of: &'static str| async move {
        bench.click(&format!("[aria-label='Point {n}']")).await;
        bench
            .until("the point is chosen", || async {
                bench.seen(".pointfields", &format!("Point {n} of{of}")).await
            })
            .await;
    };
    // A plain cylinder of radius 20 and height 50: two points go, four get their places.
    for n in ["4", "3"] {
        point(n, "").await;
        b.click_text(".pointfields button", "Remove").await;
        b.saved().await;
    }
    for (n, field, value) in [
        ("2", "From the axis", "20"),
        ("2", "Arc to the next, bow", "0"),
        ("3", "From the axis", "20"),
        ("3", "Height", "50"),
        ("4", "Height", "50"),
    ] {
        point(n, " 4").await;
        b.fill(&format!("[aria-label='{field}']"), value).await;
        b.saved().await;
    }
    b.until("the part follows", || async { b.seen(".step", "40 × 40 × 50 mm").await }).await;
    b.painted("draft").await;

    // The side pulled out becomes an arc; what cannot be turned is refused in words and changes
    // nothing.
    b.drag("[aria-label='Line after point 2']", (0.5, 0.5), (14.0, 0.0)).await;
    b.until("the part bulges", || async { !b.seen(".step", "40 × 40 × 50 mm").await }).await;
    b.fill("[aria-label='Axis at']", "5").await;
    b.until("the axis is refused", || async { b.seen("body", "passes over the axis").await }).await;
    b.until("what was typed stays beside it", || async {
        b.value("[aria-label='Axis at']").await == "5"
    })
    .await;

    // Later: the arc goes to a round figure, and the axis moves off to make a ring.
    b.open(&b.path().await).await;
    b.painted("draft").await;
    b.step("Part").await;
    point("2", " 4").await;
    b.fill("[aria-label='Arc to the next, bow']", "4").await;
    b.saved().await;
    b.fill("[aria-label='Axis at']", "-10").await;
    b.until("it is a ring", || async { b.seen(".step", "68 × 68 × 50 mm").await }).await;
    b.click_text("a", "Save the part as STL").await;
    let mesh = stl::read(&b.downloaded("Revolved part.stl").await, &Limits::default()).unwrap();
    let mesh = ulmix_mesh::weld::weld(&mesh.mesh, 0.0).mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let ring = |p: &DVec3| p.truncate().length();
    let [low, high] =
        mesh.points.iter().map(ring).fold([f64::MAX, 0.0], |[a, b], r| [a.min(r), b.max(r)]);
    assert!((low - 10.0).abs() < 0.05 && (high - 34.0).abs() < 0.05, "{low} {high}");
}

/// Two tabs on one project, and a server that goes away for a while.
#[tokio::test]
async fn tabs_follow_each_other_and_a_stopped_server_loses_nothing() {
    let mut b = Bench::start().await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    let first = b.tab().await;
    let second = b.new_tab().await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    b.kind("Surfaces", "Schwarz D").await;
    b.until("the change is saved", || async {
        b.attribute("[aria-label=Undo]", "disabled").await.is_empty()
    })
    .await;
    b.switch(&first).await;
    b.step("Structure").await;
    b.until("the first tab follows", || async { b.seen(".step", "Schwarz D walls").await }).await;

    b.kill_server();
    b.step("Zones").await;
    b.click("[aria-label='Skin all around']").await;
    b.until("the page says it is not saved", || async {
        b.seen(".banner", "does not answer").await
    })
    .await;
    b.restart_server();
    b.until("the change is saved after all", || async {
        b.text("[data-testid=saved-state]").await == "Saved" && !b.present(".banner").await
    })
    .await;
    b.switch(&second).await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    b.until("the other tab has it too", || async { b.seen(".step", "skin 2 mm").await }).await;
}

/// Nothing is asked from anywhere else, and the smallest screen holds all steps.
#[tokio::test]
async fn the_recipe_reads_top_to_bottom_at_1280_by_800() {
    let b = Bench::start().await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    let titles = b
        .js("return [...document.querySelectorAll('.step h2')].map(h => \
             [h.textContent, h.getBoundingClientRect().bottom])")
        .await;
    let titles = titles.as_array().unwrap();
    assert_eq!(titles.len(), 8);
    for t in titles {
        assert!(t[1].as_f64().unwrap() <= 800.0, "{t} is below the fold");
    }
    let outside = b
        .js("return performance.getEntriesByType('resource').map(e => e.name).filter(n => \
         !n.startsWith(location.origin) && !n.startsWith('blob:'))")
        .await;
    assert_eq!(outside.as_array().unwrap().len(), 0, "{outside}");
    let wide = b.js("return document.documentElement.scrollWidth <= innerWidth").await;
    assert_eq!(wide, true);
}
