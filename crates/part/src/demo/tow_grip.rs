//! The tow grip: a curved bar, thicker where fingers lie and towards its ends, closed by round
//! ends.

use super::recipe;
use crate::builder::Builder;
use glam::{DVec2, DVec3};
use std::f64::consts::{PI, TAU};
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::{Kind, Recipe, SeededKind, Thicken};

/// Of the arc that the bar's middle follows. mm.
const BEND: f64 = 120.0;
/// Along the arc, from the middle to an end. mm.
const HALF_LENGTH: f64 = 72.0;
/// Share of the half length that the round ends take.
const ROUND: f64 = 0.2;
const RINGS: usize = 96;
const AROUND: usize = 64;

pub(super) fn tow_grip() -> (TriMesh, Recipe) {
    let mesh = bar();
    let mut recipe = recipe(&mesh, Kind::Seeded(SeededKind::Voronoi), 8.0);
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.4 };
    (mesh, recipe)
}

/// Half the section's height and width, at a share of the half length.
fn section(s: f64) -> DVec2 {
    let swell = 3.0 * (-(s / 0.4).powi(2)).exp() + 3.5 * s.powi(4);
    let end = ((s.abs() - 1.0 + ROUND) / ROUND).clamp(0.0, 1.0);
    let closed = (1.0 - end * end).sqrt();
    DVec2::new(10.5 + swell, 13.0 + 0.6 * swell) * closed
}

fn bar() -> TriMesh {
    let ring = |n: usize| -> Vec<DVec3> {
        // Rings lie closer where the ends close.
        let s = -(n as f64 / RINGS as f64 * PI).cos();
        let angle = s * HALF_LENGTH / BEND;
        let (out, half) = (DVec3::new(angle.sin(), 0.0, angle.cos()), section(s));
        (0..AROUND)
            .map(|i| {
                // Clockwise from above the arc, which goes to the right: outward.
                let around = DVec2::from_angle(-TAU * i as f64 / AROUND as f64) * half;
                out * (BEND + around.x) + DVec3::new(0.0, around.y, -BEND)
            })
            .collect()
    };
    let rings: Vec<Vec<DVec3>> = (0..=RINGS).map(ring).collect();
    let mut b = Builder::default();
    rings.windows(2).for_each(|pair| b.between(&pair[0], &pair[1]));
    // The round ends' last rings are points.
    weld(&b.mesh, 1e-6).mesh
}
