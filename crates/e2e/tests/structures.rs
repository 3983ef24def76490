//! Journeys through structures: each is chosen and shaped in the browser and leaves as a file that
//! is read again.

use glam::DVec3;
use ulmix_e2e::browser::leaving::made;
use ulmix_e2e::browser::Bench;
use ulmix_formats::stl;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};

/// A zone is filled in its own way, and the file holds both structures.
#[tokio::test]
async fn a_zone_gets_a_structure_of_its_own() {
    let b = Bench::start().await;
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(48.0, 24.0, 24.0));
    b.begin_with("block.stl", &stl::write(&block), "48 × 24 × 24 mm").await;
    b.fill("[aria-label='Cell size, mm']", "8").await;
    b.saved().await;
    // A new zone lies where the picture is looked at: on the cut, which is made 3 mm behind the
    // middle.
    b.click_text("[aria-label=View] .ant-segmented-item-label", "Cut").await;
    b.fill("[aria-label='Cut at']", "15").await;
    b.step("Zones").await;
    b.click_text("button", "Add a zone").await;
    b.click_text(".ant-dropdown-menu-title-content", "Sphere").await;
    b.until("the zone lies on the cut", || async {
        b.value("[aria-label='Middle Y']").await == "15"
    })
    .await;
    assert!(b.seen(".zonerow", "Sphere 1").await);
    b.saved().await;
    b.click("[aria-label=Undo]").await;
    b.until("it is taken back", || async { !b.seen(".zonerow", "Sphere 1").await }).await;
    b.saved().await;
    b.click_text("[aria-label=View] .ant-segmented-item-label", "Whole").await;
    b.step("Structure").await;
    b.filled_box(&[("Middle X", "36"), ("Side X", "24"), ("Side Y", "30"), ("Side Z", "30")]).await;

    // The steps after it work on the zone's structure now.
    b.until("the zone is worked on", || async { b.seen(".step.open", "Box 1").await }).await;
    b.kind("Struts", "Octet").await;
    b.saved().await;
    b.step("Thicken").await;
    b.until("struts are asked for", || async { b.seen(".step.open", "Strut thickness").await })
        .await;
    b.fill("[aria-label='Strut thickness, mm']", "1.2").await;
    b.saved().await;
    b.painted("draft").await;
    b.fill("[aria-label='Relative density, %']", "45").await;
    b.saved().await;
    // And on the rest of the part's again.
    b.click("[aria-label=Fills]").await;
    b.click_text(".ant-select-item-option-content", "The rest of the part").await;
    b.until("walls are asked for", || async { b.seen(".step.open", "Wall thickness").await }).await;
    b.fill("[aria-label='Relative density, %']", "15").await;
    b.saved().await;
    b.step("Mesh").await;
    let mesh = made(&b, "two.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let distance = SignedDistance::new(&mesh, &t);
    // As many places along a side as share no factor with the cells there.
    const N: u32 = 31;
    let share = |low: f64| {
        let at = |n: u32| (n as f64 + 0.5) / N as f64 * 24.0;
        let place = |n: u32| DVec3::new(low + at(n % N), at(n / N % N), at(n / (N * N)));
        let inside = (0..N * N * N).filter(|n| distance.inside(place(*n)));
        100.0 * inside.count() as f64 / (N * N * N) as f64
    };
    let (rest, zone) = (share(0.0), share(24.0));
    assert!((rest - 15.0).abs() < 2.0 && (zone - 45.0).abs() < 2.0, "{rest} {zone}");
}

/// The tow grip with Voronoi struts and the cradle with hexagons, each from its first recipe to the
/// file.
#[tokio::test]
async fn the_tow_grip_and_the_cradle_leave_as_files() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Tow grip").await;
    b.painted("draft").await;
    b.fill("[aria-label='Points, ']", "110").await;
    b.saved().await;
    b.grid_step("0.5").await;
    b.until("the points read as a sentence", || async {
        b.seen(".step", "Voronoi struts, 110 points").await
    })
    .await;
    let grip = made(&b, "grip.3mf").await.mesh;
    let t = Topology::of(&grip);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let part = ulmix_part::demo::Reedling::TowGrip.make().0;
    assert!(
        (grip.bounds().size() - part.bounds().size()).abs().max_element() < 0.3,
        "{}",
        grip.bounds().size()
    );
    // Nothing of it leaves the part.
    let inside = SignedDistance::new(&part, &Topology::of(&part));
    let out = grip.points.iter().map(|p| inside.value(*p)).fold(f64::MIN, f64::max);
    assert!(out < 0.02, "{out}");

    b.open("/").await;
    b.click_text("button", "Battery cradle").await;
    b.painted("draft").await;
    b.fill("[aria-label='Cell size, mm']", "8").await;
    b.saved().await;
    b.grid_step("0.5").await;
    b.until("the cells read as a sentence", || async {
        b.seen(".step", "Hexagons, 8 mm cells").await
    })
    .await;
    let cradle = made(&b, "cradle.3mf").await.mesh;
    assert!(Topology::of(&cradle).sound());
    // A cell fits its pocket: the lining is whole, and nothing stands inside it.
    let from_axis = |p: &DVec3| (p.truncate() - glam::DVec2::new(13.0, 0.0)).length();
    let pocket: Vec<f64> =
        cradle.points.iter().filter(|p| p.z > 6.5 && p.z < 45.5).map(from_axis).collect();
    let least = pocket.iter().copied().fold(f64::MAX, f64::min);
    assert!((least - 9.4).abs() < 0.03, "{least}");
}

/// A cell is drawn strut by strut, what does not fit is told, and the file holds what was drawn.
#[tokio::test]
async fn an_own_cell_is_drawn_and_used() {
    let b = Bench::start().await;
    b.begin_with(
        "block.stl",
        &stl::write(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(24.0))),
        "24 × 24 × 24 mm",
    )
    .await;
    b.fill("[aria-label='Cell size, mm']", "8").await;
    b.saved().await;
    b.kind("Struts", "Own cell").await;
    b.saved().await;
    b.until("the cube is there", || async { b.present("[aria-label='Own cell'] .node").await })
        .await;
    b.click("[aria-label='Begin again with']").await;
    b.click_text(".ant-select-item-option-content", "Cubic").await;
    b.until("three struts are left", || async {
        b.js("return document.querySelectorAll('.celleditor .strut').length").await == 3
    })
    .await;

    // A strut that meets nothing is told, and taken back.
    for axis in ["X", "Y", "Z"] {
        b.click_text(".celleditor .ant-checkbox-wrapper", axis).await;
    }
    b.click("[aria-label='Point 0 0 0']").await;
    b.click("[aria-label='Point 6 6 6']").await;
    b.until("the loose end is told", || async {
        b.seen("body", "1 end of a strut meets nothing").await
    })
    .await;
    b.click("[aria-label=Undo]").await;
    b.until("it is gone", || async { !b.seen("body", "1 end of a strut meets nothing").await })
        .await;

    // Mirrored on all axes one strut makes eight.
    for axis in ["X", "Y", "Z"] {
        b.click_text(".celleditor .ant-checkbox-wrapper", axis).await;
    }
    b.click("[aria-label='Point 0 0 0']").await;
    b.click("[aria-label='Point 6 6 6']").await;
    b.until("all are there", || async {
        b.js("return document.querySelectorAll('.celleditor .strut').length").await == 11
    })
    .await;
    b.saved().await;
    b.step("Thicken").await;
    b.fill("[aria-label='Strut thickness, mm']", "1.5").await;
    b.saved().await;
    b.step("Mesh").await;
    b.until("it reads as a sentence", || async { b.seen(".step", "Own cell, 8 mm cells").await })
        .await;
    let mesh = made(&b, "own.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    // Cells' corners lie around the middle of the part.
    let distance = SignedDistance::new(&mesh, &t);
    for p in [[16.0, 12.0, 12.0], [12.0, 12.0, 16.0], [14.0, 14.0, 14.0], [18.0, 14.0, 18.0]] {
        assert!(distance.inside(DVec3::from(p)), "{p:?}");
    }
    for p in [[16.0, 16.0, 12.0], [16.0, 12.0, 16.0], [14.0, 16.0, 12.0]] {
        assert!(!distance.inside(DVec3::from(p)), "{p:?}");
    }

    // A cell may come from a file as well; what is no cell is refused in words.
    b.step("Structure").await;
    b.open_kinds().await;
    let choose = |name, mesh: TriMesh| {
        let b = &b;
        async move { b.choose_file("[aria-label='File of a cell']", name, &stl::write(&mesh)).await }
    };
    choose("open.stl", TriMesh::cuboid(DVec3::ZERO, DVec3::splat(6.0)).filtered(|t| t > 0)).await;
    b.until("the open one is refused", || async {
        b.seen(".remark", "The cell of open.stl is open at 3 edges").await
    })
    .await;
    choose("ball.stl", TriMesh::sphere(3.0, 3)).await;
    b.until("it is told how it lies", || async {
        b.seen(".remark", "the cell does not reach its neighbours").await
    })
    .await;
    b.saved().await;
    b.step("Thicken").await;
    b.until("it reads as a sentence", || async {
        b.seen(".step", "Cell from a file, 6 mm cells").await
    })
    .await;
    b.painted("draft").await;
}

/// Cells go round a tube, a count is typed, the axis is that of a picked face, and the file holds
/// whole cells.
#[tokio::test]
async fn rows_of_cells_go_round_a_tube() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Tube").await;
    b.painted("draft").await;
    b.kind("Struts", "Cubic").await;
    b.saved().await;
    b.click_text(".ant-segmented-item", "Polar").await;
    b.until("counts follow the cell size", || async {
        b.value("[aria-label='All round']").await == "19"
    })
    .await;
    b.fill("[aria-label='All round']", "12").await;
    b.fill("[aria-label='Along the axis']", "4").await;
    b.fill("[aria-label=Outward]", "1").await;
    b.saved().await;
    b.click_text("button", "Pick faces").await;
    b.until("faces can be picked", || async { b.present(".facewords").await }).await;
    b.acted(
        "the tube is under the pointer",
        || b.click_in("canvas", 0.5, 0.7),
        || b.seen(".step", "1 face"),
    )
    .await;
    b.click_text("button", "Done picking").await;
    b.saved().await;
    b.step("Thicken").await;
    b.fill("[aria-label='Strut thickness, mm']", "2").await;
    b.saved().await;
    b.step("Mesh").await;
    b.until("it reads as a sentence", || async {
        b.seen(".step", "Cubic, 7.5 mm cells, polar").await
    })
    .await;
    let mesh = made(&b, "polar.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    // Outer diameter 60, bore 30, height 50: rows at both rims, every thirty degrees, every 12.5
    // mm.
    let distance = SignedDistance::new(&mesh, &t);
    let low = mesh.bounds().min.z;
    let at = |r: f64, degrees: f64, z: f64| {
        let (sin, cos) = degrees.to_radians().sin_cos();
        DVec3::new(r * cos, r * sin, low + z)
    };
    for degrees in [0.0, 30.0, 150.0, 270.0] {
        // Outward, in the middle of the height, and along the axis.
        assert!(
            distance.inside(at(22.0, degrees, 25.0)) && distance.inside(at(15.5, degrees, 31.0)),
            "{degrees}"
        );
        assert!(
            !distance.inside(at(22.0, degrees + 15.0, 25.0))
                && !distance.inside(at(22.0, degrees, 31.0)),
            "{degrees}"
        );
    }
}

/// Kinds are switched without losing what still means something, and a Voronoi lattice leaves as
/// one body.
#[tokio::test]
async fn a_voronoi_lattice_is_chosen_by_its_picture_and_leaves_as_one_body() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Plate").await;
    b.painted("draft").await;
    b.fill("[aria-label='Cell size, mm']", "9").await;
    b.saved().await;
    for (family, kind, sentence) in [
        ("Struts", "Octet", "Octet, 9 mm cells"),
        ("Extruded", "Hexagons", "Hexagons, 9 mm cells"),
        ("Seeded", "Voronoi struts", "Voronoi struts, 9 mm cells"),
    ] {
        b.kind(family, kind).await;
        b.kinds_drawn().await;
        b.painted("draft").await;
        b.step("Structure").await;
        b.until("the sentence follows", || async { b.seen(".step", sentence).await }).await;
        b.step("Structure").await;
        assert_eq!(b.value("[aria-label='Cell size, mm']").await, "9");
    }
    // Points of one's own come from a table; a bad line is told by its number.
    b.open_group("Seed points").await;
    b.choose_file("[aria-label='File of points']", "sites.csv", b"x,y,z\n1,2\n").await;
    b.until("the line is told", || async {
        b.seen(".remark", "Line 2 of sites.csv is not a point").await
    })
    .await;
    let sites = "-30,-20,6\n30,-20,6\n0,0,6\n-30,20,6\n30,20,6\n0,0,60\n";
    b.choose_file("[aria-label='File of points']", "sites.csv", sites.as_bytes()).await;
    b.until("they are taken", || async { b.seen(".line", "5 of 6 inside the part").await }).await;
    b.click_text("button", "Scatter again").await;
    b.until("as many as before are scattered again", || async {
        b.value("[aria-label='Points, ']").await.parse().is_ok_and(|n: u32| n > 20)
    })
    .await;

    // A number of points leads over the size, which follows.
    b.fill("[aria-label='Points, ']", "60").await;
    b.until("the size follows", || async { b.value("[aria-label='Cell size, mm']").await != "9" })
        .await;
    b.painted("draft").await;
    b.step("Mesh").await;
    b.step("Structure").await;
    // Smaller cells along the surface: the points stay as many, and the step says so.
    b.step("Grading").await;
    b.click_text("button", "Grade the cell size").await;
    b.click_text(".ant-dropdown-menu-title-content", "Distance from the part's surface").await;
    b.saved().await;
    b.until("it reads as a sentence", || async { b.seen(".gradinghead", "at the surface").await })
        .await;
    b.step("Structure").await;
    b.until("the size is told as graded", || async { b.seen(".step.open", "graded in mm").await })
        .await;
    assert_eq!(b.value("[aria-label='Points, ']").await, "60");
    // Points, cells and struts are looked at by themselves.
    b.click_text(".ant-segmented-item-label", "Cells").await;
    b.until("the points are counted", || async { b.seen(".legend", "Seed points 60").await }).await;
    // While they are, they follow what is typed, and the mesh waits.
    for points in ["64", "60"] {
        b.fill("[aria-label='Points, ']", points).await;
        b.until("the points follow", || async {
            b.seen(".legend", &format!("Seed points {points}")).await
        })
        .await;
        b.until("the mesh waits", || async { b.seen(".state", "the mesh waits").await }).await;
    }
    b.click_text(".ant-segmented-item-label", "Skeleton").await;
    b.click("[aria-label='Colour struts by']").await;
    b.click_text(".ant-select-item-option-content", "by how struts lie").await;
    b.until("no end is loose", || async { b.seen(".legend", "Dead end 0").await }).await;
    b.click_text(".ant-segmented-item-label", "Whole").await;
    b.until("it is drawn again", || async { b.seen(".state", "draft").await }).await;
    b.grid_step("0.5").await;
    b.until("the points read as a sentence", || async {
        b.seen(".step", "Voronoi struts, 60 points").await
    })
    .await;
    let read = made(&b, "Plate.3mf").await;
    let t = Topology::of(&read.mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    let size = read.mesh.bounds().size();
    assert!((size - DVec3::new(90.0, 60.0, 12.0)).abs().max_element() < 0.1, "{size}");
}

/// Struts get a rectangular section, stand proud of the part and are smoothed; walls stand upright
/// on a picked face: the file holds what the values say.
#[tokio::test]
async fn struts_get_a_section_and_stand_proud() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Plate").await;
    b.painted("draft").await;
    b.kind("Struts", "Cubic").await;
    b.fill("[aria-label='Cell size, mm']", "6").await;
    b.saved().await;
    b.step("Thicken").await;
    b.fill("[aria-label='Strut thickness, mm']", "1.2").await;
    b.click_text("[aria-label=Section] .ant-segmented-item", "Rectangular").await;
    b.fill("[aria-label='Height, mm']", "2").await;
    b.click_text("[aria-label=\"At the part's surface\"] .ant-segmented-item", "Stands proud")
        .await;
    b.saved().await;
    b.until("what stands outside is told", || async {
        b.seen(".ledger", "Past the surface").await
    })
    .await;
    b.grid_step("0.3").await;
    b.fill("[aria-label='Smoothing, ']", "1").await;
    b.saved().await;
    let mesh = made(&b, "proud.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
    // The plate is 12 mm high and the cells begin in its middle: struts lie on its faces and reach
    // half of 1.2 mm further.
    let high = mesh.bounds().size().z;
    assert!((high - 13.2).abs() < 0.1, "{high}");
}

/// Points are relaxed for long, stopped on the way, and struts through them run in curves.
#[tokio::test]
async fn relaxing_is_stopped_on_its_way_and_struts_run_in_curves() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Tow grip").await;
    b.painted("draft").await;
    b.click_text(".ant-segmented-item-label", "Cells").await;
    b.fill("[aria-label='Points, ']", "1300").await;
    b.until("the points follow", || async { b.seen(".legend", "Seed points 1 300").await }).await;
    b.open_group("Seed points").await;
    b.fill("[aria-label='Relaxed, ']", "2000").await;
    b.click_text("button", "Use 2000").await;
    // What takes long says what it is at, is stopped as a whole, and goes on when it is asked to.
    b.until("it says what it does", || async {
        b.seen(".state", "Points, cells and struts").await
    })
    .await;
    b.click_text(".state button", "Stop").await;
    b.until("it has stopped", || async {
        b.seen(".state", "stopped: the picture is of earlier values").await
    })
    .await;
    b.click_text(".state button", "Draw").await;
    b.click_text("button", "Stop here").await;
    b.until("it stops", || async { b.seen("p", "In the last round points moved by").await }).await;
    b.saved().await;
    let rounds: u32 = b.value("[aria-label='Relaxed, ']").await.parse().unwrap();
    assert!(rounds > 4 && rounds < 2000, "{rounds}");

    b.fill("[aria-label='Points, ']", "150").await;
    b.until("the points follow", || async { b.seen(".legend", "Seed points 150").await }).await;
    b.open_group("Clean-up").await;
    b.click_text("[aria-label='Struts run'] .ant-segmented-item-label", "In curves").await;
    b.open_group("Struts found").await;
    b.until("strands are counted", || async {
        b.seen(".facts", "Strands that run on through nodes").await
    })
    .await;
    b.click_text(".ant-segmented-item-label", "Whole").await;
    b.painted("draft").await;
    b.grid_step("0.5").await;
    let grip = made(&b, "curves.3mf").await.mesh;
    let t = Topology::of(&grip);
    assert!(t.sound() && t.components == 1, "{} pieces", t.components);
}
