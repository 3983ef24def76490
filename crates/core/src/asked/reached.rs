//! Is there lattice everywhere? The largest place that it does not reach.

use super::result::Meshes;
use super::sites::Sites;
use super::{largest, numbered, titled, within, Case};
use crate::compose::Owner;
use glam::DVec3;
use ulmix_check::Check;
use ulmix_mesh::parallel;
use ulmix_recipe::Pattern;

/// Points of a filling that are asked.
const ASKED: usize = 20_000;

/// One check for every filling: how far its farthest point lies from its lattice, in cells.
pub(super) fn check(case: &Case, meshes: &Meshes, sites: &Sites) -> Vec<Check> {
    let Case { solid, recipe, .. } = *case;
    let triangles = solid.apart.map_or(solid.mesh.triangles.len(), |a| a.lattice_triangles);
    let of_lattice = |t: u32| {
        (t as usize) < triangles
            && solid.mesh.triangles[t as usize]
                .iter()
                .any(|&v| solid.owners[v as usize] == Owner::Fill)
    };
    let all = recipe.fillings().into_iter().zip(case.linked.fills()).zip(&sites.fill).enumerate();
    all.filter_map(|(n, ((filling, filled), points))| {
        let alike = filled.structure.as_ref().map_or(0.0, |facts| facts.alike_mm);
        let of_axes = filling.structure.cell_mm.into_iter().fold(0.0, f64::max);
        let cell = if alike > 0.0 { alike.max(filled.cell_mm) } else { of_axes.max(filled.cell_mm) };
        // With smaller cells in places those elsewhere are larger than the mean.
        let cell = cell * if filling.sizes_by_place() { 2.0 } else { 1.0 };
        // A net on the surface alone leaves the inside empty, as it is to.
        let net_alone = match &filling.structure.pattern {
            Pattern::Voronoi(p) => p.net.is_some_and(|net| !net.inner),
            _ => false,
        };
        let wanted = |p: &DVec3| !net_alone || case.part.bvh().nearest(*p, 0.25 * cell * cell).is_some();
        let points = parallel::filter(points, wanted);
        let every = points.len().div_ceil(ASKED).max(1);
        let away = |n: usize| {
            let p = points[n * every];
            let lattice = meshes.lattice();
            let near = lattice.bvh().nearest_where(p, f64::INFINITY, of_lattice);
            let distance = near.map_or(f64::INFINITY, |near| near.distance_squared.sqrt());
            (if distance > cell && lattice.inside(p) { 0.0 } else { distance }, p)
        };
        let (far, place) = largest(parallel::map(points.len().div_ceil(every), away))?;
        let figure = if far.is_finite() { format!("within {far:.1} mm") } else { "there is none".into() };
        let title = titled(recipe, "Lattice everywhere", n);
        let check = Check::new(&numbered("reached", n), title, within(far, cell), figure, far.min(1e9));
        let advice = "No lattice is left there: what was there was loose, or too thin for the grid. Smaller cells, thicker \
                      members or a smaller crumb size fill it.";
        Some(check.with_limit(format!("≤ {cell:.1} mm, one cell")).at((far > cell).then_some(place)).with_hint(advice))
    })
    .collect()
}
