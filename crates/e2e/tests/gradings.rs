//! Journeys through values that change from place to place, each to a file that is read again.

use glam::DVec3;
use ulmix_e2e::browser::leaving::made;
use ulmix_e2e::browser::Bench;
use ulmix_field::numeric::low_discrepancy;
use ulmix_formats::stl;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};

const SIZE: DVec3 = DVec3::new(48.0, 24.0, 24.0);

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
    let b = Bench::start().await;
    b.begin_with("block.stl", &stl::write(&TriMesh::cuboid(DVec3::ZERO, SIZE)), "48 × 24 × 24 mm")
        .await;
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
    // Cells of a gyroid are of one size.
    assert!(!b.seen(".step.open", "Grade the cell size").await);
    b.click_text("button", "Remove the grading").await;
    b.until("it is gone", || async { b.seen(".step.open", "changes from place").await }).await;
}
