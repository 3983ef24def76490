//! What stages find before there is a surface: regions, their samples, structures without
//! thickness, ties between them, and the linked values of the thicken step.

use super::relaxation::KeptRelaxation;
use super::{linked, plan, Held, Inner, Pipeline, RunError, Stage, Watch};
use crate::result::Linked;
use glam::DVec3;
use std::sync::Arc;
use ulmix_field::grid::Grid;
use ulmix_lattice::course::Rows;
use ulmix_lattice::density::DensityCurve;
use ulmix_lattice::finer::{self, Site};
use ulmix_lattice::make;
use ulmix_lattice::taper;
use ulmix_lattice::ties::{self, Strutted, Ties};
use ulmix_part::sample::{scatter, volume};
use ulmix_part::zoned::{Regions, Shares, Zoned};
use ulmix_part::Part;
use ulmix_recipe::{Filling, Joins, Kind, Place, Recipe, Structure, Zone, Zones};

impl Pipeline {
    /// The regions of a recipe's zones, as they were asked for. Trees of boxes over picked faces
    /// are built once, and not again while other values move.
    pub(super) fn regions(&self, part: &Part, zones: &Zones) -> Arc<Regions> {
        let Zones { rest, list, skins } = zones;
        let blend = |z: &Zone| z.own_fill().map(|own| own.blend_mm);
        let places: Vec<_> = list.iter().map(|z| (&z.name, z.role, &z.place, blend(z))).collect();
        let key = self.key(&[&"regions", &part.key, rest, &places, skins]);
        self.cache.get(&key).unwrap_or_else(|| {
            let regions = Arc::new(Regions::of(part, zones));
            self.cache.put(key, regions.clone(), regions.bytes(part));
            regions
        })
    }

    /// The regions as the lattice sees them where it reaches by `overlap` into what is solid, and
    /// on a grid.
    pub(super) fn zones(
        &self,
        part: &Part,
        recipe: &Recipe,
        step: f64,
        overlap: f64,
        proud: Vec<f64>,
        watch: &dyn Watch,
    ) -> Result<(Regions, Arc<Zoned>, String), RunError> {
        let regions =
            self.regions(part, &recipe.zones).reaching(part, overlap).standing_proud(proud);
        let Zones { rest, list, skins } = &recipe.zones;
        // Not what fills them: where something else does, and how it passes over.
        let places: Vec<_> =
            list.iter().map(|z| (z.role, &z.place, z.own_fill().map(|own| own.blend_mm))).collect();
        let depths: Vec<_> = skins.iter().map(|s| (&s.faces, s.depth_mm)).collect();
        let key = self.key(&[
            &"zones",
            &part.key,
            rest,
            &places,
            &depths,
            &step,
            &overlap,
            &regions.proud,
        ]);
        let zones = self.stage(Stage::Zones, &key, watch, Zoned::bytes, || {
            Zoned::sample(
                part,
                &regions,
                Grid::covering(&part.mesh.bounds().grown(regions.most_proud()), step),
                &|| watch.cancelled(),
            )
        })?;
        Ok((regions, zones, key))
    }

    /// A structure before it is given thickness. It follows the part.
    pub(super) fn bare(
        &self,
        part: &Part,
        recipe: &Recipe,
        filling: &Filling,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<(Held, String), RunError> {
        // Other structures are the same in both.
        let draft = draft && matches!(filling.structure.kind(), Kind::Foam(_));
        // Only where cells are smaller around some zones it follows the zones too.
        let finer = finer::marked(&recipe.zones, filling.structure.finer());
        // And where struts are thicker toward some.
        let thicker = taper::marked(&recipe.zones, filling.joins.taper);
        // Where it ends changes nothing yet.
        let joins = Joins { proud: false, ..filling.joins };
        let key =
            self.key(&[&"bare", &part.key, filling.structure, &joins, &finer, &thicker, &draft]);
        if self.cache.get::<Held>(&key).is_none() {
            Rows::few_enough(part, filling.structure)?;
            make::few_enough(part, filling.structure, filling.joins)?;
        }
        let relaxed = self.relaxation(part, filling.structure, &finer, watch);
        let site = Site { part, zones: Some(&recipe.zones), draft, relaxed: &relaxed };
        let bare = self.stage(
            Stage::Skeleton,
            &key,
            watch,
            |b: &Held| b.bytes(),
            || make::structure(site, filling.structure, filling.joins, &|| watch.cancelled()),
        )?;
        Ok(((*bare).clone(), key))
    }

    /// Where the points of a structure are relaxed to already. They follow no more than what tells
    /// where they begin.
    pub(super) fn relaxation<'a>(
        &'a self,
        part: &Part,
        s: &Structure,
        finer: &[&Place],
        watch: &'a dyn Watch,
    ) -> KeptRelaxation<'a> {
        let key = self.key(&[&"relaxed", &part.key, &s.of_points(), &finer]);
        KeptRelaxation { cache: &self.cache, key, watch }
    }

    /// Struts that join fillings over sharp borders.
    pub(super) fn ties(
        &self,
        part: &Part,
        recipe: &Recipe,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<Arc<Vec<Ties>>, RunError> {
        let tied = recipe.zones.tied();
        if !tied.contains(&true) {
            return Ok(Arc::default());
        }
        let held = |f: &Filling| self.bare(part, recipe, f, draft, &Inner(watch));
        let fillings = recipe.fillings();
        let (bare, keys): (Vec<Held>, Vec<String>) =
            fillings.iter().map(held).collect::<Result<Vec<_>, RunError>>()?.into_iter().unzip();
        let Zones { rest, list, skins } = &recipe.zones;
        let places: Vec<_> = list.iter().map(|z| (z.role, &z.place)).collect();
        let key = self.key(&[&"ties", &part.key, rest, &places, skins, &keys, &tied]);
        let bytes = |all: &Vec<Ties>| all.iter().map(Ties::bytes).sum::<usize>();
        self.stage(Stage::Skeleton, &key, &Inner(watch), bytes, || {
            let regions = self.regions(part, &recipe.zones);
            let may_end = |strut: [DVec3; 2]| ties::may_end(&regions, &tied, strut);
            let of =
                |(f, b): (&Filling, &Held)| make::some_struts(part, f.structure, &**b, &may_end);
            let listed: Vec<_> = fillings.iter().zip(&bare).map(of).collect();
            let strutted = listed
                .iter()
                .zip(&bare)
                .map(|(struts, b)| Some(Strutted { struts: struts.as_ref()?, cell: b.cell() }));
            Some(ties::between(part, &regions, &tied, &strutted.collect::<Vec<_>>()))
        })
    }

    /// On a grid of its own, so that draft and final agree but for foam sheets, which come to rest
    /// in the final one.
    pub(super) fn linked(
        &self,
        part: &Part,
        recipe: &Recipe,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<(Arc<Linked>, String), RunError> {
        let draft =
            draft && recipe.fillings().iter().any(|f| matches!(f.structure.kind(), Kind::Foam(_)));
        let key = self.key(&[
            &"linked",
            &part.key,
            &recipe.zones,
            &recipe.structure,
            &recipe.joins,
            &recipe.thicken,
            &draft,
        ]);
        if let Some(known) = self.cache.get::<Linked>(&key) {
            watch.begin(Stage::Thickness);
            watch.end(Stage::Thickness, true);
            return Ok((known, key));
        }
        // Whoever knows the linked values asks for the costs next.
        if !part.measure_chords(&|| watch.cancelled()) {
            return Err(RunError::Cancelled);
        }
        let step = plan::survey_step(part);
        let (regions, zones, zones_key) =
            self.zones(part, recipe, step, 0.0, Vec::new(), &Inner(watch))?;
        let mut curves = Vec::new();
        for (n, filling) in recipe.fillings().iter().enumerate() {
            let (bare, bare_key) = self.bare(part, recipe, filling, draft, &Inner(watch))?;
            let curve_key = self.key(&[&"curve", &zones_key, &n, &bare_key]);
            let curve = || {
                Some(DensityCurve::new(
                    bare,
                    &scatter(&zones.all_filled_by(n), &zones.grid, 60_000),
                ))
            };
            curves.push(self.stage(
                Stage::Thickness,
                &curve_key,
                &Inner(watch),
                |c: &DensityCurve| c.bytes(),
                curve,
            )?);
        }
        for (filling, curve) in recipe.fillings().iter().zip(&curves) {
            linked::fits_cell(filling, curve)?;
        }
        let ties = self.ties(part, recipe, draft, watch)?;
        // Zones move less often than thickness.
        let shares_key = self.key(&[&"shares", &zones_key]);
        let shares = self.stage(
            Stage::Thickness,
            &shares_key,
            &Inner(watch),
            |_: &Shares| 4096,
            || {
                let points = scatter(&zones.inside, &zones.grid, 60_000);
                Some(regions.shares(&points, &|p| part.distance.inside(p), step))
            },
        )?;
        let linked = self.stage(
            Stage::Thickness,
            &key,
            watch,
            |l: &Linked| 512 + l.zone_mm3.len() * 200,
            || {
                // Of a part with holes only what counts as inside is known.
                let whole = if part.facts.closed {
                    part.facts.volume_mm3
                } else {
                    volume(&zones.inside, &zones.grid)
                };
                let of_rows =
                    recipe.fillings().into_iter().flat_map(|f| make::lost(part, f.structure));
                let lost = of_rows.chain(regions.lost).collect();
                let least = plan::least_thickness(part);
                Some(linked::link(recipe, &curves, &ties, &shares, whole, least, lost))
            },
        )?;
        Ok((linked, key))
    }
}
