//! Shapes to begin with, at sizes that fit a hand.

use ulmix_recipe::{OwnShape, ProfilePoint, Section};

/// Name and shape, in the order in which they are offered.
pub fn first_shapes() -> Vec<(&'static str, OwnShape)> {
    let size_mm = [60.0, 40.0, 30.0];
    let profile = [
        [0.0, 0.0, 0.0],
        [24.0, 0.0, 0.0],
        [28.0, 8.0, -5.0],
        [14.0, 40.0, 3.0],
        [16.0, 56.0, 0.0],
        [0.0, 56.0, 0.0],
    ]
    .map(|[x, y, bow_mm]| ProfilePoint { at_mm: [x, y], bow_mm });
    let sections = vec![
        Section::rounded(0.0, [50.0, 34.0], 30.0, 0.0),
        Section::rounded(30.0, [34.0, 26.0], 70.0, 30.0),
        Section::rounded(60.0, [40.0, 40.0], 100.0, 60.0),
    ];
    // Five across, four rows: its inner points are pulled up.
    let control = (0..20).map(|n| {
        let (across, row) = (n % 5, n / 5);
        let inner = across % 4 != 0 && row % 3 != 0;
        [20.0 * across as f64, 20.0 * row as f64, if inner { 14.0 } else { 0.0 }]
    });
    vec![
        ("Box", OwnShape::Box { size_mm, round_mm: 0.0 }),
        ("Rounded box", OwnShape::Box { size_mm, round_mm: 6.0 }),
        ("Hollow box", OwnShape::HollowBox { size_mm, wall_mm: 8.0, open: true, corner_mm: 0.0 }),
        ("Sphere", OwnShape::Sphere { diameter_mm: 50.0 }),
        ("Cylinder", OwnShape::Cylinder { diameter_mm: 40.0, height_mm: 60.0, sheet: false }),
        ("Tube", OwnShape::Tube { diameter_mm: 60.0, bore_mm: 30.0, height_mm: 50.0 }),
        ("Cone", OwnShape::Cone { bottom_mm: 50.0, top_mm: 24.0, height_mm: 60.0, sheet: false }),
        ("Torus", OwnShape::Torus { diameter_mm: 80.0, thickness_mm: 24.0 }),
        ("Geodesic sphere", OwnShape::Geodesic { diameter_mm: 50.0, parts: 12 }),
        (
            "Revolved profile",
            OwnShape::Revolved { points: profile.to_vec(), axis_mm: 0.0, steps: 96, sheet: false },
        ),
        ("Loft", OwnShape::Loft { sections, smooth: true, sheet: false, open: false }),
        ("Free-form sheet", OwnShape::FreeForm { across: 5, points_mm: control.collect() }),
        ("Plate", OwnShape::Plate { size_mm: [90.0, 60.0, 12.0], corner_mm: 10.0, hole_mm: 5.0 }),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::own_shapes::mesh;

    #[test]
    fn every_first_shape_is_allowed_and_made() {
        for (name, shape) in first_shapes() {
            shape.validate().unwrap();
            assert!(mesh(&shape).area() > 1000.0, "{name}");
        }
    }
}
