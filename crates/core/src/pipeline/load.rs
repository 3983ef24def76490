//! What a final run has to do, counted before it is started, and the seconds and the memory that
//! follow.

use crate::result::{Filled, Linked, StageCost};
use crate::stages::blocks::Found;
use crate::stages::surface::STRETCH;
use crate::watch::Stage;
use std::f64::consts::FRAC_PI_4;
use ulmix_field::polygonise::LEAST_LAYERS;
use ulmix_part::Part;
use ulmix_recipe::{FaceMark, Filling, Kind, Place, Recipe, Skin, StrutSection, Zone};

/// Counts that the cost of a final run follows.
#[derive(Clone, Debug)]
pub(crate) struct Load {
    /// Samples of the grid, and how many layers they form.
    samples: f64,
    layers: f64,
    /// Triangles before reduction.
    pub raw: f64,
    /// Raw triangles at the part's own faces, at solids and at skins, where more than one smooth
    /// field decides.
    exact: f64,
    /// Triangles after reduction.
    pub kept: f64,
    /// Triangles of the part.
    of_part: f64,
    near: Near,
    /// Zones with a filling of their own.
    own: f64,
    /// Some struts have sharp edges, so that every place is looked at by itself.
    sharp: bool,
    /// Some filling is of struts, or of cells of seed points.
    members: bool,
    /// Cells of foam in the part's box.
    foam_cells: f64,
    /// The surface is made whole, because smoothing passes from layer to layer.
    whole: bool,
    bodies: f64,
}

impl Load {
    /// Counts for a grid of a step in mm.
    pub(crate) fn of(
        part: &Part,
        recipe: &Recipe,
        linked: &Linked,
        found: Found,
        step: f64,
    ) -> Load {
        let size = part.mesh.bounds().size() / step + 4.0;
        let fillings = recipe.fillings();
        let foam = fillings.iter().filter(|f| matches!(f.structure.kind(), Kind::Foam(_)));
        let box_mm3 = part.mesh.bounds().size().to_array().iter().product::<f64>();
        let is_sharp = |f: &Filling| {
            f.structure.kind().struts()
                && matches!(f.joins.section, StrutSection::Rectangular { .. })
        };
        let borders = linked.solid_open_area_mm2
            + linked.fills().map(|f| f.open_area_mm2 + f.solid_area_mm2).sum::<f64>();
        let share = (borders / linked.area_mm2().max(1e-9)).min(1.0);
        let raw = found.raw * linked.area_mm2() * dense(step);
        Load {
            samples: size.x * size.y * size.z,
            layers: size.z,
            raw,
            exact: raw * share,
            kept: (found.kept * kept(part, linked, recipe.mesh.reduce_mm, step)).min(raw),
            of_part: part.mesh.triangles.len() as f64,
            near: Near::of(part, recipe, step),
            own: linked.own.iter().flatten().count() as f64,
            sharp: fillings.iter().any(is_sharp),
            members: fillings
                .iter()
                .any(|f| !matches!(f.structure.kind(), Kind::Surface(_) | Kind::Foam(_))),
            foam_cells: foam.map(|f| box_mm3 / smallest_mm3(f)).sum(),
            whole: recipe.mesh.smoothing > 0,
            bodies: if recipe.mesh.apart_mm.is_some() { 2.0 } else { 1.0 },
        }
    }

    /// Seconds by stage. The factors are of two cores of the kind that the product is measured on,
    /// see benches/figures.rs.
    pub(crate) fn seconds(&self) -> Vec<StageCost> {
        let if_sharp = |more: f64| if self.sharp { more } else { 0.0 };
        // Sharp struts beside another filling are asked one by one.
        let if_mixed = |more: f64| if_sharp(more * self.own.min(1.0));
        let members = if self.members { 2.5e-8 } else { 0.0 };
        let of = |stage: Stage| match stage {
            Stage::Zones => {
                let faces = self.near.squares * 5e-8 * self.near.depth;
                0.02 + 3e-8 * self.bodies * self.samples + faces + 4e-7 * self.near.samples
            }
            Stage::Skeleton => 0.05 + 0.011 * self.foam_cells,
            Stage::Thickness => 0.03,
            Stage::Lattice => 0.02 + self.samples * (1e-9 + members + if_mixed(4e-7)),
            Stage::Surface => {
                let exact =
                    self.exact * (6e-8 * (2.0 + self.of_part).log2() + 9e-8 * self.near.depth);
                0.03 + self.raw * (1.5e-6 + if_sharp(1e-6) + if_mixed(6e-6)) + exact
            }
            Stage::Finish => 0.05 + self.kept * (2.2e-6 + 2e-6 * self.own) + 3e-8 * self.raw,
            Stage::Report => 0.7 + 1.3e-6 * self.kept + 0.03 * self.near.depth + 0.06 * self.own,
        };
        Stage::ALL.map(|stage| StageCost { stage, seconds: of(stage) }).to_vec()
    }

    /// Peak memory in MB, with the file that is written and read again. The peak is the grid's bits
    /// and the part, and beside them the larger of two: a stretch of the surface while the stretch
    /// is made, or all that is left while the mesh is checked. The sizes are measured on the demo
    /// parts and on cubes, see benches/figures.rs.
    pub(crate) fn memory_mb(&self) -> f64 {
        /// What the program holds in any case. MB.
        const BASE: f64 = 12.0;
        /// Bits that are held for every sample while memory is scarcest, without those of zones.
        const ARRAYS: f64 = 4.0;
        /// Bytes for a triangle of the part.
        const OF_PART: f64 = 300.0;
        /// Bytes for a raw triangle of a stretch.
        const RAW: f64 = 80.0;
        /// Bytes for a triangle that is left, while other stretches are made and while all is
        /// looked at.
        const WAITING: f64 = 50.0;
        const KEPT: f64 = 170.0;
        let bits = (ARRAYS + self.near.count + self.own) * self.samples / 8.0;
        let stretches = (self.layers / LEAST_LAYERS as f64).max(1.0);
        let stretch = if self.whole {
            self.raw
        } else {
            self.raw.min(STRETCH as f64).max(self.raw / stretches)
        };
        let making = stretch * RAW + self.kept * WAITING;
        BASE + (bits + self.of_part * OF_PART + making.max(self.kept * KEPT)) / 1e6
    }
}

/// Volume of the smallest cells of a structure. mm³.
fn smallest_mm3(filling: &Filling) -> f64 {
    filling.structure.cell_mm.iter().product::<f64>() * filling.least_cell_share().powi(3)
}

/// Skins, and zones that are told by the distance from faces.
#[derive(Clone, Debug)]
struct Near {
    count: f64,
    /// Squares of the grid's step on the faces of all those.
    squares: f64,
    /// Samples of the grid within their depth.
    samples: f64,
    /// Depth of a tree that holds the part's triangles on those faces.
    depth: f64,
}

impl Near {
    fn of(part: &Part, recipe: &Recipe, step: f64) -> Near {
        let area = |faces: &[FaceMark]| faces.iter().map(|f| f.area_mm2).sum::<f64>();
        let of_skin = |s: &Skin| (s.faces.as_deref().map_or(part.facts.area_mm2, area), s.depth_mm);
        let of_zone = |z: &Zone| match &z.place {
            Place::Faces { faces, depth_mm } => Some((area(faces), *depth_mm)),
            _ => None,
        };
        let skins = recipe.zones.skins.iter().map(of_skin);
        let each: Vec<(f64, f64)> =
            skins.chain(recipe.zones.list.iter().filter_map(of_zone)).collect();
        let all: f64 = each.iter().map(|n| n.0).sum();
        Near {
            count: each.len() as f64,
            squares: all / (step * step),
            samples: each.iter().map(|(area, depth)| area * depth).sum::<f64>() / step.powi(3),
            depth: (all / part.facts.area_mm2 * part.mesh.triangles.len() as f64 + 1.0).log2(),
        }
    }
}

/// Raw triangles per area on a grid of a step in mm. A surface of area A crosses 3A/2h² edges of a
/// grid of step h, and each of them gives two triangles. 1/mm².
fn dense(step: f64) -> f64 {
    3.0 / (step * step)
}

/// Triangles that reduction leaves within an error in mm. On a curved surface they are as large as
/// the error allows along both principal curvatures, and none are smaller than the grid's.
fn kept(part: &Part, linked: &Linked, error: f64, step: f64) -> f64 {
    /// Triangles per area on a curved surface, times the error and over the curvature.
    const CURVED: f64 = 0.93;
    /// How sharply they stop short of the grid's own.
    const FALL: f64 = 1.3;
    /// Triangles at an edge between facets of a curved face.
    const AT_SOFT: f64 = 7.0;
    /// Triangles along an edge, over its length and the root of their number per area.
    const AT_EDGES: f64 = 2.0;
    let dense = dense(step);
    if error <= 0.0 {
        return linked.area_mm2() * dense;
    }
    let per_area =
        |bend: f64| dense / (1.0 + (dense * error / (CURVED * bend).max(1e-12)).powf(FALL));
    let mean =
        |bends: &[f64]| bends.iter().map(|b| per_area(*b)).sum::<f64>() / bends.len().max(1) as f64;
    // On the part's own faces, to which the mesh is true, some triangles stay at every edge of its
    // facets.
    let own = 1.0 / (1.0 / dense + 1.0 / (AT_SOFT * part.chords().soft_edges()));
    let of_fill = |f: &Filled| {
        let density = (f.density_percent / 100.0).clamp(0.0, 1.0);
        let lattice = mean(&f.bends);
        // Where the lattice ends at a face runs an edge, whose length per area follows from the
        // lattice's surface (Underwood 1970); along it triangles are as long as on the lattice
        // beside it.
        let per_volume = f.lattice_area_mm2 / f.fill_volume_mm3.max(1e-9);
        let edge = FRAC_PI_4 * per_volume * (f.open_area_mm2 + f.solid_area_mm2);
        f.lattice_area_mm2 * lattice
            + AT_EDGES * edge * lattice.max(own).sqrt()
            + own * (f.open_area_mm2 * density + f.solid_area_mm2 * (1.0 - density))
    };
    linked.fills().map(of_fill).sum::<f64>() + own * linked.solid_open_area_mm2
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{plain, Pipeline, Unwatched};
    use crate::stages::blocks::Probe;
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
    use ulmix_recipe::{CellKind, FoamPattern, Pattern, Role, SurfaceKind, Zones};

    fn load(mesh: TriMesh, change: &dyn Fn(&mut Recipe), step: f64) -> Load {
        let part = Part::prepare(&mesh).unwrap();
        let mut r = plain(&part, Kind::Surface(SurfaceKind::Gyroid), 8.0, 1.0);
        change(&mut r);
        let (linked, _) = Pipeline::new(0).estimate(&part, &r, &Unwatched).unwrap();
        Load::of(&part, &r, &linked, Found::default(), step)
    }

    #[test]
    fn blocks_correct_triangles_and_what_follows_from_them() {
        let part = Part::prepare(&cube()).unwrap();
        let mut r = Recipe::for_part(&part.mesh.bounds());
        r.mesh.step_mm = Some(0.3);
        let (linked, cost) = Pipeline::new(0).estimate(&part, &r, &Unwatched).unwrap();
        let laws = [cost.raw_triangles, cost.triangles];
        let of = |found: Found| Load::of(&part, &r, &linked, found, 0.3);
        let law = of(Found::default());
        // As many triangles an area as the laws say, and twice and half as many.
        let area = linked.area_mm2();
        let probe = |raw: f64, left: f64| Probe {
            area: 10.0,
            raw: raw * law.raw / area * 10.0,
            left: left * law.kept / area * 10.0,
        };
        for (raw, left) in [(1.0, 1.0), (2.0, 0.5), (0.5, 0.4)] {
            let found = of(Found::of(&probe(raw, left), laws, area));
            assert!(
                (found.raw / law.raw / raw - 1.0).abs() < 1e-3
                    && (found.kept / law.kept / left - 1.0).abs() < 1e-3
            );
        }
        let seconds = |l: &Load| l.seconds().iter().map(|s| s.seconds).sum::<f64>();
        let more = of(Found::of(&probe(2.0, 2.0), laws, area));
        assert!(seconds(&more) > seconds(&law) && more.memory_mb() > law.memory_mb());
        // Never more than before reduction, and what no block meets changes nothing.
        assert!(of(Found::of(&probe(1.0, 1e6), laws, area)).kept <= law.raw * 1.001);
        assert_eq!(Found::of(&Probe::default(), laws, area), Found::default());
    }

    fn cube() -> TriMesh {
        TriMesh::cuboid(DVec3::ZERO, DVec3::splat(40.0))
    }

    #[test]
    fn raw_triangles_follow_the_area_and_the_square_of_the_step() {
        let solid = |r: &mut Recipe| r.zones = Zones { rest: Role::KeepSolid, ..Zones::default() };
        let [fine, coarse] = [0.2, 0.4].map(|step| load(cube(), &solid, step).raw);
        // Borders are counted by ways between points: right to some percent.
        assert!((fine / (3.0 * 6.0 * 1600.0 / 0.04) - 1.0).abs() < 0.04, "{fine}");
        assert!((fine / coarse - 4.0).abs() < 1e-9);
    }

    #[test]
    fn reduction_leaves_little_of_flat_faces_more_of_curved_ones_and_never_adds() {
        let share = |mesh: TriMesh, change: &dyn Fn(&mut Recipe)| {
            let l = load(mesh, change, 0.3);
            l.kept / l.raw
        };
        let solid = |r: &mut Recipe| r.zones = Zones { rest: Role::KeepSolid, ..Zones::default() };
        assert!(share(cube(), &solid) < 0.01 && share(TriMesh::sphere(20.0, 5), &solid) > 0.05);
        // Within a larger error fewer are left, and none go without one.
        let within = |error: f64| share(cube(), &|r| r.mesh.reduce_mm = error);
        let shares = [0.0, 0.002, 0.01, 0.05].map(within);
        assert!(shares[0] == 1.0 && shares.windows(2).all(|w| w[1] < w[0]), "{shares:?}");
    }

    #[test]
    fn memory_follows_what_is_left_and_not_what_the_grid_gives() {
        let plain = |_: &mut Recipe| ();
        let smoothed = |r: &mut Recipe| r.mesh.smoothing = 2;
        let of = |change: &dyn Fn(&mut Recipe)| load(cube(), change, 0.08);
        let (streams, whole) = (of(&plain), of(&smoothed));
        assert!(streams.raw > 3.0 * STRETCH as f64);
        assert!(
            whole.memory_mb() > 2.0 * streams.memory_mb(),
            "{} {}",
            whole.memory_mb(),
            streams.memory_mb()
        );
        // Zones and skins hold bits of their own.
        let skinned = |r: &mut Recipe| {
            r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 1.0 }]
        };
        assert!(
            (of(&skinned).samples - streams.samples).abs() < 1.0 && of(&skinned).near.count == 1.0
        );
    }

    #[test]
    fn every_stage_has_its_seconds_and_finer_grids_take_longer() {
        let seconds = |step: f64| load(cube(), &|_| (), step).seconds();
        let (coarse, fine) = (seconds(0.5), seconds(0.1));
        assert_eq!(coarse.iter().map(|s| s.stage).collect::<Vec<_>>(), Stage::ALL);
        assert!(coarse.iter().zip(&fine).all(|(c, f)| c.seconds > 0.0 && f.seconds >= c.seconds));
        let of = |all: &[StageCost], stage: Stage| {
            all.iter().find(|s| s.stage == stage).unwrap().seconds
        };
        assert!(of(&fine, Stage::Surface) > 15.0 * of(&coarse, Stage::Surface));
    }

    fn seconds_of(change: &dyn Fn(&mut Recipe), stage: Stage) -> f64 {
        let all = load(cube(), change, 0.3).seconds();
        all.iter().find(|s| s.stage == stage).unwrap().seconds
    }

    #[test]
    fn skins_cost_by_their_faces_and_their_depth() {
        let part = Part::prepare(&cube()).unwrap();
        let one = vec![ulmix_part::mark(&part.faces().list[0])];
        let skin = |faces: Option<Vec<FaceMark>>, depth_mm: f64| {
            move |r: &mut Recipe| {
                r.zones.skins =
                    vec![Skin { id: 2, name: "Skin".into(), faces: faces.clone(), depth_mm }]
            }
        };
        let zones = |change: &dyn Fn(&mut Recipe)| {
            seconds_of(change, Stage::Zones) - seconds_of(&|_| (), Stage::Zones)
        };
        let [face, all, deeper] =
            [zones(&skin(Some(one), 1.0)), zones(&skin(None, 1.0)), zones(&skin(None, 3.0))];
        // Of a cube's six faces one is a sixth of the squares and samples.
        assert!(face > 0.0 && all > 5.9 * face && deeper > all, "{face} {all} {deeper}");
    }

    #[test]
    fn sharp_sections_cost_where_there_are_struts_and_smaller_foam_more() {
        let section = StrutSection::Rectangular { taller_mm: 1.0, turn_deg: 0.0 };
        let of = |kind: Kind, section: StrutSection| {
            let change = |r: &mut Recipe| {
                r.structure.choose(kind);
                r.joins.section = section;
            };
            seconds_of(&change, Stage::Surface)
        };
        for (kind, costs) in
            [(Kind::Cell(CellKind::Octet), true), (Kind::Surface(SurfaceKind::Gyroid), false)]
        {
            assert_eq!(of(kind, section) > of(kind, StrutSection::Round), costs, "{kind:?}");
        }
        let foam = |share: Option<f64>| {
            let smaller = |share: f64| {
                let (of, shares) = (GradedValue::CellSize, [100.0 * share, 100.0]);
                Grading::fading(of, Given::Percent, [Source::Surface], shares, 10.0)
            };
            let change = |r: &mut Recipe| {
                r.structure.pattern = Pattern::FoamSheet(FoamPattern::default());
                r.gradings = share.map(smaller).into_iter().collect();
            };
            load(cube(), &change, 0.3).foam_cells
        };
        assert!((foam(Some(0.5)) / foam(None) - 8.0).abs() < 1e-9);
    }
}
