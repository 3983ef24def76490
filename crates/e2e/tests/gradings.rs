//! Journeys through values that change from place to place, each to a file that is read again.

use glam::DVec3;
use ulmix_e2e::browser::leaving::made;
use ulmix_e2e::browser::Bench;
use ulmix_field::numeric::low_discrepancy;
use ulmix_formats::stl;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};

const SIZE: DVec3 = DVec3::new(48.0, 24.0, 24.0);

/// A bench with the block as its part.
async fn with_block() -> Bench {
    let b = Bench::start().await;
    let file = stl::write(&TriMesh::cuboid(DVec3::ZERO, SIZE));
    b.begin_with("block.stl", &file, "48 × 24 × 24 mm").await;
    b
}

/// Solid share of a block's mesh between two places along an axis. Percent.
fn share(mesh: &TriMesh, axis: usize, [low, high]: [f64; 2]) -> f64 {
    const N: u64 = 20_000;
    let solid = SignedDistance::new(mesh, &Topology::of(mesh));
    let place = |i| {
        let mut p = low_discrepancy(i) * SIZE;
        p[axis] = low + (high - low) * p[axis] / SIZE[axis];
        p
    };
    100.0 * (1..=N).filter(|i| solid.inside(place(*i))).count() as f64 / N as f64
}

/// A thickness falls from a picked face, cells follow three points of which one is moved, and the
/// file holds both.
#[tokio::test]
async fn walls_fall_from_a_picked_face_and_cells_follow_points() {
    let b = with_block().await;
    b.kind("Seeded", "Voronoi walls").await;
    b.saved().await;
    b.fill("[aria-label='Cell size, mm']", "8").await;
    b.saved().await;
    b.step("Grading").await;
    b.until("nothing is graded", || async { b.seen(".step.open", "changes from place").await })
        .await;
    b.click_text("button", "Grade the wall thickness").await;
    b.click_text(".ant-dropdown-menu-title-content", "Distance from faces").await;
    b.until("faces can be picked", || async { b.present(".facewords").await }).await;
    // The top.
    let act = || b.click_in(".view canvas", 0.5, 0.4);
    b.acted("the face is taken", act, || b.seen(".source .label", "1 face")).await;
    b.saved().await;
    b.click_text("button", "Done picking").await;
    for (field, value) in [("Value there", "2.2"), ("Value away", "0.8"), ("Over", "18")] {
        b.fill(&format!("[aria-label='{field}']"), value).await;
        b.saved().await;
    }
    b.until("it reads as a sentence", || async {
        b.seen(".gradinghead", "2.2 mm at 1 face falling to 0.8 mm over 18 mm").await
    })
    .await;
    b.until("the part is painted by it", || async {
        b.seen(".legend", "a line every").await && b.seen(".legend", "2.2").await
    })
    .await;

    // Cells by points: small at one end of the block.
    b.click_text("button", "Grade the cell size").await;
    b.click_text(".ant-dropdown-menu-title-content", "Values at points").await;
    b.until("a point is there", || async { b.present("[aria-label='Point 1 X']").await }).await;
    let points = [("1", ["1", "12", "12"], "4"), ("2", ["24", "12", "12"], "7")];
    b.click_text("button", "Place points on the part").await;
    b.until("places can be picked", || async {
        b.seen(".facewords", "Click where the value belongs").await
    })
    .await;
    for n in ["2", "3"] {
        let css = format!("[aria-label='Value at point {n}']");
        let at = if n == "2" { 0.45 } else { 0.55 };
        let act = || b.click_in(".view canvas", at, 0.42);
        b.acted("the point is there", act, || b.present(&css)).await;
        b.saved().await;
    }
    b.click_text("button", "Done placing").await;
    for (n, place, value) in points.into_iter().chain([("3", ["47", "12", "12"], "9")]) {
        for (axis, v) in ["X", "Y", "Z"].into_iter().zip(place) {
            b.fill(&format!("[aria-label='Point {n} {axis}']"), v).await;
            b.saved().await;
        }
        b.fill(&format!("[aria-label='Value at point {n}']"), value).await;
        b.saved().await;
    }
    b.until("points read as a sentence", || async {
        b.seen(".gradinghead", "Cell size: 4 mm to 9 mm at 3 points").await
    })
    .await;
    // A step back takes the last value, and forward again.
    b.click("[aria-label=Undo]").await;
    b.until("it is taken back", || async { !b.seen(".gradinghead", "to 9 mm").await }).await;
    b.saved().await;
    b.click("[aria-label=Redo]").await;
    b.until("it is there again", || async { b.seen(".gradinghead", "to 9 mm").await }).await;
    b.saved().await;
    b.step("Thicken").await;
    b.until("the thickness is told as graded", || async {
        b.seen(".step.open", "graded in mm").await
    })
    .await;
    b.grid_step("0.35").await;
    let mesh = made(&b, "graded.3mf").await.mesh;
    let t = Topology::of(&mesh);
    assert!(t.sound(), "{} pieces", t.components);
    // Thick at the top, and denser where cells are small.
    let (top, bottom) = (share(&mesh, 2, [18.0, 24.0]), share(&mesh, 2, [0.0, 6.0]));
    assert!(top > 1.5 * bottom, "{top} {bottom}");
    let (small, large) = (share(&mesh, 0, [0.0, 12.0]), share(&mesh, 0, [36.0, 48.0]));
    assert!(small > 1.3 * large, "{small} {large}");
}

/// What cannot be used is told where it stands and loses nothing.
#[tokio::test]
async fn a_grading_that_cannot_be_used_says_why_and_loses_nothing() {
    let b = Bench::start().await;
    b.open("/").await;
    b.click_text("button", "Box").await;
    b.painted("draft").await;
    b.step("Thicken").await;
    b.fill("[aria-label='Relative density, %']", "25").await;
    b.saved().await;
    b.step("Grading").await;
    b.click_text("button", "Grade the wall thickness").await;
    b.click_text(".ant-dropdown-menu-title-content", "Along a direction").await;
    b.saved().await;
    // The density leads: values are shares of what it leads to.
    b.until("values are in percent", || async { b.seen(".gradinghead", "160 % at z").await }).await;
    b.click_text("[aria-label='Values are'] .ant-segmented-item-label", "mm").await;
    b.until("mm and a density exclude each other", || async {
        b.seen("body", "the relative density is asked for as well").await
    })
    .await;
    b.until("the shares are still there", || async { b.seen(".gradinghead", "160 % at z").await })
        .await;
    // A ready curve, with the part's material behind it.
    b.open_group("Curve").await;
    b.until("material stands behind the curve", || async { b.present(".spread rect").await }).await;
    b.click_text("button", "Ready curves").await;
    b.click_text(".ant-dropdown-menu-title-content", "To nothing at the end").await;
    b.until("it falls to nothing", || async { b.seen(".gradinghead", "falling to 0 %").await })
        .await;
    b.saved().await;
    // Beside the thickness no density is graded.
    assert!(b.seen(".step.open", "Grade the cell size").await);
    assert!(!b.seen(".step.open", "Grade the density").await);
    b.click_text("button", "Remove the grading").await;
    b.until("it is gone", || async { b.seen(".step.open", "changes from place").await }).await;
}

/// Stress of a simulation at the corners of bricks along a block: from 10 at one end to 90 at the
/// other.
fn simulation() -> String {
    let corners: Vec<DVec3> = (0..=6)
        .flat_map(|i| {
            [0.0, 1.0]
                .into_iter()
                .flat_map(move |y| [0.0, 1.0].map(|z| DVec3::new(i as f64 / 6.0, y, z) * SIZE))
        })
        .collect();
    let points: String = corners.iter().map(|p| format!("{} {} {} ", p.x, p.y, p.z)).collect();
    let stress: String =
        corners.iter().map(|p| format!("{} ", 10.0 + 80.0 * p.x / SIZE.x)).collect();
    let bricks: String =
        (0..6).flat_map(|i| (0..8).map(move |n| format!("{} ", 4 * i + n))).collect();
    let ends: String = (1..=6).map(|n| format!("{} ", 8 * n)).collect();
    let array = |name: &str, n: usize, text: &str| {
        format!(
            "<DataArray type=\"Float64\" Name=\"{name}\" NumberOfComponents=\"{n}\" \
             format=\"ascii\">{text}</DataArray>"
        )
    };
    format!(
        "<VTKFile type=\"UnstructuredGrid\" version=\"0.1\" byte_order=\"LittleEndian\">\
         <UnstructuredGrid><Piece NumberOfPoints=\"28\" NumberOfCells=\"6\"><Points>{}</Points>\
         <Cells>{}{}</Cells><PointData>{}{}</PointData></Piece></UnstructuredGrid></VTKFile>",
        array("Points", 3, &points),
        array("connectivity", 1, &bricks),
        array("offsets", 1, &ends),
        array("heat", 1, &"1 ".repeat(28)),
        array("stress", 1, &stress),
    )
}

/// A density follows the stress of a simulation's file, and the file that leaves holds it.
#[tokio::test]
async fn a_density_follows_the_numbers_of_a_simulation() {
    let b = with_block().await;
    b.fill("[aria-label='Cell size, mm']", "10").await;
    b.saved().await;
    b.step("Grading").await;
    b.click_text("button", "Grade the density").await;
    b.click_text(".ant-dropdown-menu-title-content", "Numbers from a file").await;
    b.until("a file is asked for", || async { b.seen(".source", "No file yet").await }).await;
    b.saved().await;
    // A file that is no table is refused by its line, and another one can be chosen.
    let file = "[aria-label='File of numbers']";
    b.choose_file(file, "bad.csv", b"x,y,z,stress\n1,2,3\n").await;
    b.until("the line is told", || async { b.seen(".source", "Line 2").await }).await;
    b.choose_file(file, "load.vtu", simulation().as_bytes()).await;
    b.until("its first array is taken", || async { b.seen(".source", "heat of points").await })
        .await;
    b.saved().await;
    b.click("[aria-label=Numbers]").await;
    b.click_text(".ant-select-item-option-content", "stress of points").await;
    b.until("the stress leads", || async { b.seen(".gradinghead", "at 10 of stress").await }).await;
    b.saved().await;
    for (field, value) in [("Value at 10", "25"), ("Value at 90", "45")] {
        b.fill(&format!("[aria-label='{field}']"), value).await;
        b.saved().await;
    }
    b.until("the part is painted by it", || async {
        b.seen(".legend", "a line every").await && b.seen(".legend", "45").await
    })
    .await;
    b.step("Thicken").await;
    b.until("the thickness follows", || async {
        b.seen(".step.open", "for the graded density").await
    })
    .await;
    b.grid_step("0.25").await;
    let mesh = made(&b, "dense.3mf").await.mesh;
    // What was found at every place stands beside what was asked.
    b.step("Grading").await;
    b.until("the plot is drawn", || async {
        b.seen(".densityplot", "within 2 points").await && b.present(".densityplot svg").await
    })
    .await;
    assert!(Topology::of(&mesh).sound());
    for [low, high] in [[0.0, 16.0], [16.0, 32.0], [32.0, 48.0]] {
        // The curve is smooth: level at both ends, straight in the middle.
        let t: f64 = 0.5 * (low + high) / 48.0;
        let asked = 25.0 + 20.0 * t * t * (3.0 - 2.0 * t);
        let found = share(&mesh, 0, [low, high]);
        assert!((found - asked).abs() < 4.0, "{found} for {asked}");
    }
}
