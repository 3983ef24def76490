//! Thickness and density of every filling, one from the other, and what they lead to.

use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::result::{Filled, Linked, LostFaces, LostSource};
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::density::DensityCurve;
use ulmix_lattice::ties::Ties;
use ulmix_part::sample::volume;
use ulmix_part::zoned::{Borders, Shares};
use ulmix_part::Part;
use ulmix_recipe::{floor_two, Filling, RecipeError, RecipeFault, Role, Thicken, ZonePlaces};

/// What thickness and density follow from.
#[derive(Serialize)]
pub(crate) struct LinkedInput<'a> {
    pub part: Keyed<&'a Part>,
    pub places: ZonePlaces<'a>,
    pub fillings: Vec<Filling<'a>>,
    /// Zones on the grid of the survey.
    pub survey: Keyed<Arc<ZonesOnGrid>>,
    /// By filling.
    pub curves: Vec<Keyed<Arc<DensityCurve>>>,
    pub ties: Keyed<Arc<Vec<Ties>>>,
    pub shares: Keyed<Arc<Shares>>,
    /// Thickness below which none is made to reach a density. mm.
    pub least_mm: f64,
    /// What does not find all its faces.
    pub lost_faces: Vec<LostFaces>,
    pub lost_sources: Vec<LostSource>,
}

impl StageInput for LinkedInput<'_> {
    type Output = Linked;
    const NAME: &'static str = "linked";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<Linked>, RunError> {
        for (filling, curve) in self.fillings.iter().zip(&self.curves) {
            fits_cell(filling, curve)?;
        }
        Ok(Made::weighed(self.linked(), |linked| 512 + linked.zone_mm3.len() * 200))
    }
}

impl LinkedInput<'_> {
    /// The part's volume. Of a part with holes only what counts as inside is known. mm³.
    fn whole(&self) -> f64 {
        let zoned = &self.survey.zoned;
        if self.part.facts.closed {
            self.part.facts.volume_mm3
        } else {
            volume(&zoned.inside, &zoned.grid)
        }
    }

    fn linked(self) -> Linked {
        let whole = self.whole();
        let shares = &**self.shares;
        let Borders { fill_open, fill_solid, solid_open } = &shares.borders;
        let all = self.fillings.iter().zip(&self.curves).zip(&shares.fill).enumerate();
        let tied = |filling: usize| {
            let own = self.ties.iter().filter(|t| t.fillings[0] == filling);
            own.map(|t| t.struts.len()).sum()
        };
        let mut fills = all.map(|(n, ((filling, curve), share))| Filled {
            ties: tied(n),
            open_area_mm2: fill_open[n] * whole,
            solid_area_mm2: fill_solid[n] * whole,
            ..filled(filling, curve, whole * share, self.least_mm)
        });
        let fill = fills.next().expect("the part's own");
        let zones = &self.places.zones;
        let own = zones.iter().map(|z| z.own_blend_mm.and_then(|_| fills.next())).collect();
        // References take nothing.
        let mut taken = shares.zones.iter().map(|s| s * whole);
        let zone_mm3 = zones.iter().map(|z| {
            if z.role == Role::Reference {
                0.0
            } else {
                taken.next().unwrap_or(0.0)
            }
        });
        Linked {
            fill,
            own,
            solid_volume_mm3: whole * shares.solid,
            solid_open_area_mm2: whole * solid_open,
            zone_mm3: zone_mm3.collect(),
            lost_faces: self.lost_faces,
            lost_sources: self.lost_sources,
        }
    }
}

/// Refuses a thickness of more than the cells that seed points make, which may be smaller than the
/// recipe's.
fn fits_cell(filling: &Filling, curve: &DensityCurve) -> Result<(), RunError> {
    let Thicken::Thickness { thickness_mm } = filling.thicken else { return Ok(()) };
    let cell = curve.bare().cell();
    if !filling.structure.kind().seeded() || thickness_mm <= cell {
        return Ok(());
    }
    let most_mm = floor_two(cell);
    let fault = RecipeFault::WiderThanCells { thickness_mm, cell_mm: cell, most_mm };
    Err(RecipeError::new("thicken.thickness_mm", fault).into())
}

fn filled(filling: &Filling, curve: &DensityCurve, fill_volume_mm3: f64, least: f64) -> Filled {
    let bare = curve.bare();
    let led = || match filling.thicken {
        Thicken::Thickness { thickness_mm } => thickness_mm,
        Thicken::RelativeDensity { percent } => {
            curve.thickness(percent / 100.0, bare.cell()).max(least)
        }
    };
    let thickness_mm = bare.fixed_thickness().unwrap_or_else(led);
    let range = bare.thickness_range(thickness_mm);
    Filled {
        thickness_mm,
        thickness_range_mm: (range[0] < range[1]).then_some(range),
        walls: filling.structure.walls(),
        density_percent: 100.0 * curve.density(thickness_mm),
        cell_mm: bare.cell(),
        opening_mm: bare.opening(thickness_mm).max(0.0),
        fill_volume_mm3,
        lattice_area_mm2: curve.area_per_volume(thickness_mm) * fill_volume_mm3,
        open_area_mm2: 0.0,
        solid_area_mm2: 0.0,
        bends: if fill_volume_mm3 > 0.0 { curve.bends(thickness_mm) } else { Vec::new() },
        structure: bare.facts().cloned(),
        ties: 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{plain, Pipeline};
    use crate::watch::Unwatched;
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_part::Part;
    use ulmix_recipe::Recipe;
    use ulmix_recipe::{CellKind, Kind, Place, Role, SeededKind, Skin, SurfaceKind, Zone};

    const SIDE: f64 = 40.0;

    fn linked(kind: Kind, change: &dyn Fn(&mut Recipe)) -> Result<Linked, RunError> {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(SIDE))).unwrap();
        let mut r = plain(&part, kind, 8.0, 1.0);
        change(&mut r);
        Pipeline::new(0).estimate(&part, &r, &Unwatched).map(|f| f.0)
    }

    const GYROID: Kind = Kind::Surface(SurfaceKind::Gyroid);

    #[test]
    fn either_of_thickness_and_density_leads_to_the_other() {
        for kind in
            [GYROID, Kind::Cell(CellKind::BodyCentred), Kind::Seeded(SeededKind::VoronoiWalls)]
        {
            let by_thickness = linked(kind, &|_| ()).unwrap();
            let percent = by_thickness.fill.density_percent;
            let back = linked(kind, &|r| r.thicken = Thicken::RelativeDensity { percent }).unwrap();
            assert!(
                (back.fill.thickness_mm - 1.0).abs() < 2e-3,
                "{kind:?}: {} mm for {percent} %",
                back.fill.thickness_mm
            );
            assert!((back.fill.density_percent - percent).abs() < 0.05, "{kind:?}");
        }
    }

    #[test]
    fn a_thin_wall_holds_its_thickness_times_the_surface() {
        // Of a sheet in the middle of the wall: both sides have its area.
        let l = linked(GYROID, &|r| r.thicken = Thicken::Thickness { thickness_mm: 0.2 }).unwrap();
        let one_side = 0.5 * l.fill.lattice_area_mm2;
        let volume = l.lattice_volume_mm3();
        assert!((volume / (one_side * 0.2) - 1.0).abs() < 0.02, "{volume} mm³ of {one_side} mm²");
        // A gyroid's area in a cubic cell (Schoen 1970).
        assert!((one_side / SIDE.powi(3) * 8.0 / 3.0915 - 1.0).abs() < 0.02, "{one_side}");
    }

    #[test]
    fn what_is_kept_and_what_is_filled_make_up_the_part() {
        let cube = SIDE.powi(3);
        let skinned = linked(GYROID, &|r| {
            r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 2.0 }];
        })
        .unwrap();
        let inner = (SIDE - 4.0).powi(3);
        assert!((skinned.fill_volume_mm3() / inner - 1.0).abs() < 0.01);
        assert!((skinned.solid_volume_mm3 / (cube - inner) - 1.0).abs() < 0.02);
        assert!((skinned.solid_open_area_mm2 / (6.0 * SIDE * SIDE) - 1.0).abs() < 0.06);
        assert_eq!(skinned.fill.open_area_mm2, 0.0);
        // A zone that is cleared takes from both and belongs to neither; a reference takes nothing.
        let zone = |role: Role| {
            Zone::new(1, "Post", role, Place::Sphere { centre_mm: [20.0; 3], radius_mm: 10.0 })
        };
        let cleared = linked(GYROID, &|r| r.zones.list = vec![zone(Role::KeepClear)]).unwrap();
        let ball = 4.0 / 3.0 * std::f64::consts::PI * 1000.0;
        assert!((cleared.zone_mm3[0] / ball - 1.0).abs() < 0.02);
        assert!(
            (cleared.fill_volume_mm3() - (cube - ball)).abs() < 0.01 * cube
                && cleared.solid_volume_mm3 == 0.0
        );
        let shown = linked(GYROID, &|r| r.zones.list = vec![zone(Role::Reference)]).unwrap();
        assert_eq!(
            (shown.zone_mm3[0], shown.fill_volume_mm3()),
            (0.0, linked(GYROID, &|_| ()).unwrap().fill_volume_mm3())
        );
    }

    #[test]
    fn areas_of_the_result_are_those_of_its_parts() {
        let solid = linked(GYROID, &|r| r.zones.rest = Role::KeepSolid).unwrap();
        assert!(
            (solid.area_mm2() / (6.0 * SIDE * SIDE) - 1.0).abs() < 0.05,
            "{}",
            solid.area_mm2()
        );
        let open = linked(GYROID, &|_| ()).unwrap();
        let on_faces = open.fill.open_area_mm2 * open.fill.density_percent / 100.0;
        assert!(
            (open.area_mm2() - open.fill.lattice_area_mm2 - on_faces).abs()
                < 1e-6 * open.area_mm2()
        );
    }

    #[test]
    fn members_wider_than_the_cells_of_seed_points_are_refused_with_what_fits() {
        let many = |r: &mut Recipe| {
            r.structure.seeds_mut().unwrap().count = Some(4000);
            r.thicken = Thicken::Thickness { thickness_mm: 5.0 };
        };
        let Err(RunError::Recipe(e)) = linked(Kind::Seeded(SeededKind::Voronoi), &many) else {
            panic!("5 mm in cells of 2.5")
        };
        assert_eq!(e.field, "thicken.thickness_mm");
        let most: f64 = e
            .hint()
            .trim_start_matches("Choose up to ")
            .split(' ')
            .next()
            .unwrap()
            .parse()
            .unwrap();
        assert!((2.0..3.2).contains(&most), "{e:?}");
        let fits = |r: &mut Recipe| {
            many(r);
            r.thicken = Thicken::Thickness { thickness_mm: most };
        };
        assert!(linked(Kind::Seeded(SeededKind::Voronoi), &fits).is_ok());
    }
}
