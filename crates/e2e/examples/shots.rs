//! Renews the pictures of the documentation from the demo data: `shots FOLDER`.

use glam::DVec3;
use std::path::PathBuf;
use ulmix_e2e::browser::{Bench, Pictures};
use ulmix_formats::stl;
use ulmix_mesh::TriMesh;

#[tokio::main(flavor = "current_thread")]
async fn main() {
    let folder = PathBuf::from(std::env::args().nth(1).expect("a folder for the pictures"));
    std::fs::create_dir_all(&folder).unwrap();
    let b = Bench::with(Pictures::Full).await;
    let take = async |name: &str| b.screenshot(&folder.join(name)).await;

    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    take("bench-structure.png").await;

    b.step("Thicken").await;
    b.click_text(".ant-segmented-item-label", "Cut").await;
    b.click("[aria-label='Colour by']").await;
    b.click_text(".ant-select-item-option-content", "by wall thickness").await;
    b.until("thickness is measured", || async {
        b.seen(".legend", "Wall thickness").await && !b.seen(".legend", "measuring").await
    })
    .await;
    b.painted("draft").await;
    take("bench-cut-thickness.png").await;

    b.click("[aria-label='Colour by']").await;
    b.click_text(".ant-select-item-option-content", "by zone").await;
    b.step("Zones").await;
    b.click("[aria-label='Skin all around']").await;
    b.until("the skin shows", || async { b.seen(".legend", "Skin").await }).await;
    b.painted("draft").await;
    b.click("[aria-label='Dark colours']").await;
    take("bench-skin-dark.png").await;
    b.click("[aria-label='Light colours']").await;
    b.click("[aria-label=Undo]").await;
    b.click_text(".ant-segmented-item-label", "Whole").await;

    b.step("Mesh").await;
    b.painted("draft").await;
    take("bench-mesh.png").await;
    b.click_text("button", "Make the final mesh").await;
    b.painted("final").await;
    b.step("Checks").await;
    take("bench-checks.png").await;
    b.step("Hand-off").await;
    b.click_text("button", "Write and check the file").await;
    b.until("the file is ready", || async { b.seen(".ready", "every check passes").await }).await;
    b.until("the start screen has its picture", || async {
        b.js("return fetch('/api/projects/keel-bracket/card').then(r => r.ok)").await == true
    })
    .await;
    take("bench-final.png").await;

    // Faces picked for a skin.
    b.step("Zones").await;
    b.click_text("button", "Skin on some faces").await;
    b.until("faces can be picked", || async { b.present(".facewords").await }).await;
    b.until("the face is taken", || async {
        if !b.seen(".editor .label", "1 face").await {
            b.click_in(".view canvas", 0.25, 0.63).await;
        }
        b.seen(".editor .label", "1 face").await
    })
    .await;
    b.click_in(".view canvas", 0.42, 0.3).await;
    b.until("the second is taken", || async { b.seen(".editor .label", "2 faces").await }).await;
    b.painted("draft").await;
    take("bench-faces.png").await;
    b.click("[aria-label=Undo]").await;
    b.click("[aria-label=Undo]").await;
    b.click("[aria-label=Undo]").await;
    b.painted("final").await;

    // A shape with its dimensions.
    b.open("/").await;
    b.click_text("button", "Tube").await;
    b.painted("draft").await;
    b.kind("Surfaces", "I-WP").await;
    b.until("the kind shows", || async { b.seen(".chosen-kind", "I-WP").await }).await;
    b.step("Part").await;
    b.painted("draft").await;
    take("bench-shape.png").await;

    // A drawn profile.
    b.open("/").await;
    b.click_text("button", "Revolved profile").await;
    b.painted("draft").await;
    b.step("Part").await;
    b.click("[aria-label='Point 3']").await;
    b.painted("draft").await;
    take("bench-profile.png").await;

    // A sheet that stands on its openings.
    b.open("/").await;
    b.click_text("button", "Float shell").await;
    b.painted("draft").await;
    b.step("Part").await;
    b.click("[aria-label='Stand it on the print bed']").await;
    b.saved().await;
    b.click_text("[aria-label=Down] .ant-segmented-item-label", "+Z").await;
    b.saved().await;
    b.painted("draft").await;
    take("bench-float-shell.png").await;
    // Voronoi struts and their skeleton; the bracket goes back to how it was.
    b.open("/project/keel-bracket").await;
    b.painted("final").await;
    b.kind("Seeded", "Voronoi struts").await;
    b.painted("draft").await;
    b.kinds_drawn().await;
    take("bench-voronoi.png").await;
    b.click_text(".ant-segmented-item-label", "Skeleton").await;
    b.until("the struts are drawn", || async { b.seen(".legend", "Strut length").await }).await;
    take("bench-skeleton.png").await;
    b.click_text(".ant-segmented-item-label", "Whole").await;
    b.click("[aria-label=Undo]").await;
    b.painted("final").await;

    // Values that change from place to place.
    b.open("/").await;
    b.click_text("button", "Keel bracket, graded").await;
    b.painted("draft").await;
    b.step("Grading").await;
    b.click(".gradinghead").await;
    b.click_text(".ant-segmented-item-label", "Cut").await;
    b.until("the part is painted", || async { b.seen(".legend", "a line every").await }).await;
    b.open_group("Curve").await;
    b.until("its material stands behind it", || async { b.present(".spread rect").await }).await;
    b.painted("draft").await;
    take("bench-grading.png").await;
    b.open("/").await;
    b.click_text("button", "Tow grip, graded").await;
    b.painted("draft").await;
    b.click_text(".ant-segmented-item-label", "Cut").await;
    b.painted("draft").await;
    take("bench-graded-grip.png").await;
    b.open("/").await;
    b.click_text("button", "Battery cradle, graded").await;
    b.painted("draft").await;
    b.step("Grading").await;
    b.click(".gradinghead").await;
    b.click_text(".ant-segmented-item-label", "Cut").await;
    b.until("the part is painted", || async { b.seen(".legend", "a line every").await }).await;
    b.painted("draft").await;
    take("bench-graded-cradle.png").await;
    b.open("/project/keel-bracket").await;
    b.painted("final").await;

    // A zone with a structure of its own.
    let place = [
        ("Middle X", "95"),
        ("Middle Z", "10"),
        ("Side X", "75"),
        ("Side Y", "90"),
        ("Side Z", "60"),
    ];
    b.filled_box(&place).await;
    b.kind("Struts", "Octet").await;
    b.saved().await;
    b.painted("draft").await;
    b.step("Thicken").await;
    b.until("struts are asked for", || async {
        b.present("[aria-label='Strut thickness, mm']").await
    })
    .await;
    b.fill("[aria-label='Strut thickness, mm']", "1.8").await;
    b.saved().await;
    b.painted("draft").await;
    take("bench-two-structures.png").await;
    for _ in 0..10 {
        b.click("[aria-label=Undo]").await;
        b.saved().await;
    }
    b.painted("final").await;
    b.step("Structure").await;

    // A foam sheet.
    b.kind("Surfaces", "Foam sheet").await;
    b.painted("draft").await;
    take("bench-foam.png").await;
    b.click("[aria-label=Undo]").await;
    b.painted("final").await;

    // A float between a sole plate and what it must leave room for.
    b.open("/").await;
    let sole = TriMesh::cuboid(DVec3::new(-3.0, -3.0, -6.0), DVec3::new(63.0, 43.0, 0.0));
    let core = TriMesh::cuboid(DVec3::ZERO, DVec3::new(60.0, 40.0, 36.0));
    let float = TriMesh::sphere(15.0, 5).mapped(|p| p + DVec3::new(16.0, 6.0, 38.0));
    let files = [
        ("core.stl", stl::write(&core)),
        ("sole plate.stl", stl::write(&sole)),
        ("float.stl", stl::write(&float)),
    ];
    b.drop_files(&files.each_ref().map(|(name, bytes)| (*name, bytes.as_slice()))).await;
    b.until("the unit is asked", || async { b.present(".units").await }).await;
    b.click_text(".ant-modal button", "Use this part").await;
    b.painted("draft").await;
    b.step("Part").await;
    for (body, role) in [("sole plate", "Keep solid"), ("float", "Keep clear")] {
        b.click(&format!("[aria-label='Role of {body}']")).await;
        b.click_text(
            ".ant-select-dropdown:not(.ant-select-dropdown-hidden) .ant-select-item-option-content",
            role,
        )
        .await;
        b.painted("draft").await;
    }
    b.until("the health is told", || async { b.seen(".step.open", "nothing found").await }).await;
    take("bench-bodies.png").await;

    b.open("/").await;
    b.until("the card's picture is there", || async {
        b.js("return document.querySelector('.card img')?.naturalWidth > 0").await == true
    })
    .await;
    take("start.png").await;
}
