//! The float shell: half of a smooth closed hull as a sheet, with two round openings.

use super::recipe;
use crate::builder::{circle, flat, Builder};
use glam::{DVec2, DVec3};
use std::f64::consts::FRAC_PI_2;
use ulmix_mesh::remesh::{remesh, RemeshOptions};
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::{Kind, Pattern, Recipe, SeededKind, Seeds, Shell, Thicken, VoronoiPattern};

/// Half the hull's length and width, and its height. mm.
const HALF: DVec3 = DVec3::new(72.0, 46.0, 40.0);
/// Openings on the hull spread flat to a disc of radius 1: middle and radius.
const OPENINGS: [(DVec2, f64); 2] =
    [(DVec2::new(0.42, 0.0), 0.16), (DVec2::new(-0.38, 0.22), 0.11)];
const THICKNESS: f64 = 7.0;

pub(super) fn float_shell() -> (TriMesh, Recipe) {
    let mesh = hull();
    let mut recipe = recipe(&mesh, Kind::Seeded(SeededKind::Voronoi), 9.0);
    let seeds = Seeds { rounds: 8, ..Seeds::default() };
    recipe.structure.pattern =
        Pattern::Voronoi(VoronoiPattern { seeds, ..VoronoiPattern::default() });
    recipe.part.shell = Some(Shell { thickness_mm: THICKNESS, front_percent: 0.0 });
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.6 };
    (mesh, recipe)
}

fn hull() -> TriMesh {
    let rim = circle(DVec2::ZERO, 1.0, 160);
    let holes = OPENINGS.map(|(middle, radius)| circle(middle, radius, 48));
    let mut b = Builder::default();
    b.face(&rim, &[&holes[0], &holes[1]], true, flat(0.0));
    let disc = weld(&b.mesh, 1e-9).mesh;
    let disc =
        remesh(&disc, &RemeshOptions { edge: 0.035, crease_degrees: 30.0, cancelled: &|| false });
    disc.mapped(|p| {
        let (sin, cos) = (p.truncate().length().min(1.0) * FRAC_PI_2).sin_cos();
        (p.truncate().normalize_or_zero() * sin).extend(cos) * HALF
    })
}
