//! Grid steps, and what a final run will cost before it is started.

use super::load::Load;
use super::too_large::LargeRun;
use crate::asked::{thinnest_features, Feature, WHOLE};
use crate::note::Note;
use crate::result::{Cost, Linked};
use crate::stages::blocks::Found;
use crate::watch::Quality;
use ulmix_field::grid::HELD;
use ulmix_part::Part;
use ulmix_recipe::{floor_two, round_two, Recipe, Thicken};

/// Steps through a strut that a final grid aims for: with the three that do for walls its facets
/// cut a tenth off.
const STEPS_THROUGH_STRUT: f64 = 4.0;
/// Grid steps per cell below which the curved surface loses its shape.
const STEPS_PER_CELL: f64 = 20.0;
/// Length of a grid's chords on a curved surface, in steps.
const CHORD: f64 = 1.5;
/// Share of the surface tolerance that is left for chords: reducing takes the rest.
const FOR_CHORDS: f64 = 0.85;
/// The finest step that may be typed, and of which three make the thinnest member that a density
/// leads to, as a share of the part's longest side.
const FINEST: f64 = 1.0 / 3000.0;
/// No step is chosen finer than this share of it: what asks for more is refused for its memory.
const LEAST: f64 = 1.0 / 20_000.0;
/// Border triangles of a picture while a value moves, about: what two cores mesh, shade and send in
/// a tenth of a second.
const DRAG_TRIANGLES: f64 = 100_000.0;
/// Triangles of a draft once the value rests, unless the recipe chooses a number.
pub(crate) const DRAFT_TRIANGLES: f64 = 700_000.0;

/// Samples in the part by which density is surveyed.
const SURVEY: f64 = 250_000.0;

/// Step of the grid on which density is surveyed.
pub(crate) fn survey_step(part: &Part) -> f64 {
    (part.facts.volume_mm3 / SURVEY).cbrt()
}

/// Thickness below which none is made to reach a density: three steps of the finest grid. mm.
pub(crate) fn least_thickness(part: &Part) -> f64 {
    WHOLE * FINEST * part.mesh.bounds().size().max_element()
}

/// Step of a draft of about `at_rest` triangles once values rest: as fine as the time of a blink
/// allows, but never finer than the final's.
pub(crate) fn draft_step(
    part: &Part,
    recipe: &Recipe,
    linked: &Linked,
    quality: Quality,
    at_rest: f64,
) -> f64 {
    let (triangles, more) =
        if quality == Quality::Drag { (DRAG_TRIANGLES.min(at_rest), 1.5) } else { (at_rest, 3.0) };
    let of = |triangles: f64| (3.0 * linked.area_mm2() / triangles).sqrt();
    // Openings must stay open when thin members are widened, see [`reach`]; so many times the
    // triangles are spent on that at most.
    let open =
        linked.fills().map(|f| f.opening_mm + f.thinnest_mm()).fold(f64::INFINITY, f64::min) / 3.0;
    let step = of(triangles).min(open.max(of(more * triangles)));
    // On a ladder of six to the doubling, so that a small change of a value keeps the grid, and
    // with it what is already sampled.
    let rung = round_two(2f64.powf((step.log2() * 6.0).ceil() / 6.0));
    rung.max(auto_step(part, recipe, linked, false))
}

/// How far a draft widens the lattice's signs, so that thin walls stay whole. mm.
pub(crate) fn reach(quality: Quality, step: f64, thickness: f64) -> f64 {
    match quality {
        Quality::Drag | Quality::Draft => (HELD * step - 0.5 * thickness).max(0.0),
        Quality::Final => 0.0,
    }
}

/// Rounds of smoothing on a grid, so that a draft's coarser one is smoothed about as far as the
/// final one.
pub(crate) fn smoothing_rounds(level: u32, step: f64, final_step: f64) -> usize {
    const ROUNDS: f64 = 5.0;
    let rounds = ROUNDS * level as f64 * (final_step / step).powi(2).min(1.0);
    rounds.ceil() as usize
}

/// Final step: the largest that shows everything that is asked for, where it is thinnest, and cells
/// if they count.
fn auto_step(part: &Part, recipe: &Recipe, linked: &Linked, cells: bool) -> f64 {
    let longest = part.mesh.bounds().size().max_element();
    let through =
        |f: &Feature| f.thickness_mm / if f.round { STEPS_THROUGH_STRUT } else { f.whole };
    let thinnest =
        thinnest_features(part, recipe, linked).iter().map(through).fold(f64::INFINITY, f64::min);
    let of_cells = linked.fills().map(|f| f.cell_mm / STEPS_PER_CELL).fold(f64::INFINITY, f64::min);
    // Only what is kept is promised to be true.
    let kept = linked.solid_open_area_mm2 > 0.0;
    let curved = if kept {
        part.chords().within(FOR_CHORDS * recipe.mesh.tolerance_mm) / CHORD
    } else {
        f64::INFINITY
    };
    let wanted = thinnest.min(curved).min(if cells { of_cells } else { f64::INFINITY });
    floor_two(wanted.clamp(longest * LEAST, longest / 24.0))
}

/// Fillings of so little of the part that the density of their cells cannot be told as closely as
/// it is asked for.
fn small_fillings<'a>(
    part: &'a Part,
    recipe: &'a Recipe,
    linked: &'a Linked,
) -> impl Iterator<Item = Note> + 'a {
    let own = recipe
        .zones
        .list
        .iter()
        .zip(&linked.own)
        .filter_map(|(z, f)| Some((z, z.own_fill()?, f.as_ref()?)));
    own.filter_map(|(zone, fill, filled)| {
        let asked = matches!(fill.thicken, Thicken::RelativeDensity { .. });
        // Half a cell more or less, in a place of few cells; and the samples by which the thickness
        // is found.
        let cells = filled.fill_volume_mm3 / filled.cell_mm.powi(3);
        let samples = filled.fill_volume_mm3 / part.facts.volume_mm3 * SURVEY;
        let density = filled.density_percent / 100.0;
        let off = 200.0 * (density * (1.0 - density) / samples.max(1.0)).sqrt();
        (asked && filled.fill_volume_mm3 > 0.0 && (cells < 1.0 || off > 1.0)).then(|| Note {
            text: format!(
                "“{}” holds {cells:.1} cells: its density of {:.0} % will be \
                     right to about {:.0} points only.",
                zone.name,
                filled.density_percent,
                off.max(2.0).ceil()
            ),
            place_mm: zone.place.middle(),
        })
    })
}

/// What a final run will take, of which it may use up to `memory_cap_mb` of memory. `found`: what
/// blocks of it tell.
pub(crate) fn cost(
    part: &Part,
    recipe: &Recipe,
    linked: &Linked,
    found: Found,
    memory_cap_mb: f64,
) -> Cost {
    let cell = linked.finest().cell_mm;
    let step_mm = recipe.mesh.step_mm.unwrap_or_else(|| auto_step(part, recipe, linked, true));
    let load = Load::of(part, recipe, linked, found, step_mm);
    let (memory_mb, stages) = (load.memory_mb(), load.seconds());
    let seconds = stages.iter().map(|s| s.seconds).sum();
    let mut notes = Vec::new();
    let features = thinnest_features(part, recipe, linked);
    let scarcest = Feature::scarcest(&features);
    if let Some(f) = scarcest.filter(|f| f.thickness_mm / step_mm < f.whole - 1e-6) {
        let text = format!(
            "A step of {step_mm} mm is coarse for {} of {:.2} mm: {} mm or less shows it whole.",
            f.name,
            f.thickness_mm,
            floor_two(f.thickness_mm / f.whole)
        );
        notes.push(Note { text, place_mm: f.place_mm });
    }
    notes.extend(small_fillings(part, recipe, linked));
    let too_large = (memory_mb > memory_cap_mb).then(|| {
        let memory_at = |step: f64| Load::of(part, recipe, linked, found, step).memory_mb();
        LargeRun { memory_mb, memory_cap_mb, seconds, step_mm, cell_mm: cell, scarcest }
            .refusal(&memory_at)
    });
    notes.extend(too_large.iter().map(|e| Note::from(format!("{} {}", e.message(), e.hint()))));
    Cost {
        step_mm,
        raw_triangles: load.raw as u64,
        triangles: load.kept as u64,
        seconds,
        stages,
        memory_mb,
        crumb_mm3: recipe.mesh.crumb(cell),
        notes,
        too_large,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{plain, Pipeline, Unwatched};
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{CellKind, ExtrudedKind, Kind, Skin, SurfaceKind};

    fn of(
        kind: Kind,
        cell: f64,
        thickness_mm: f64,
        change: &dyn Fn(&mut Recipe),
    ) -> (Part, Recipe, Linked, Cost) {
        let part =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(60.0, 48.0, 40.0))).unwrap();
        let mut r = plain(&part, kind, cell, thickness_mm);
        change(&mut r);
        let (linked, cost) = Pipeline::new(0).estimate(&part, &r, &Unwatched).unwrap();
        (part, r, linked, cost)
    }

    const GYROID: Kind = Kind::Surface(SurfaceKind::Gyroid);

    #[test]
    fn the_step_follows_the_thinnest_thing_asked_for_and_then_the_cells() {
        let step = |kind: Kind, cell: f64, thickness: f64, change: &dyn Fn(&mut Recipe)| {
            of(kind, cell, thickness, change).3.step_mm
        };
        // Three steps through walls, four through struts, twenty along a cell.
        assert!((step(GYROID, 15.0, 0.9, &|_| ()) - 0.3).abs() < 0.011);
        assert!((step(Kind::Cell(CellKind::Cubic), 15.0, 1.2, &|_| ()) - 0.3).abs() < 0.011);
        assert!((step(GYROID, 8.0, 3.0, &|_| ()) - 0.4).abs() < 0.011);
        // A skin thinner than the walls counts, and so does a step that was typed.
        let skin = Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 0.6 };
        assert!(
            (step(GYROID, 15.0, 0.9, &|r| r.zones.skins = vec![skin.clone()]) - 0.2).abs() < 0.011
        );
        assert_eq!(step(GYROID, 15.0, 0.9, &|r| r.mesh.step_mm = Some(0.77)), 0.77);
    }

    #[test]
    fn a_step_too_coarse_for_what_it_is_to_show_is_told_by_name_and_with_one_that_does() {
        let told = |step: f64| {
            let (.., p) = of(GYROID, 15.0, 0.9, &|r| r.mesh.step_mm = Some(step));
            p.notes.into_iter().map(|n| n.text).collect::<Vec<String>>()
        };
        assert_eq!(told(0.3), Vec::<String>::new());
        let [one] = &told(0.5)[..] else { panic!("one note") };
        assert!(
            one.contains("0.5 mm is coarse")
                && one.contains("0.90 mm")
                && one.contains("0.3 mm or less"),
            "{one}"
        );
    }

    #[test]
    fn drafts_step_on_rungs_and_never_below_the_final() {
        let (part, r, linked, cost) = of(GYROID, 12.0, 1.2, &|_| ());
        let mut last = 0.0;
        for at_rest in [4e6, 1e6, 7e5, 2e5, 5e4, 1e4, 2e3] {
            let steps =
                [Quality::Draft, Quality::Drag].map(|q| draft_step(&part, &r, &linked, q, at_rest));
            assert!(
                steps[0] <= steps[1] && steps[0] >= last,
                "fewer triangles, larger steps: {steps:?} after {last}"
            );
            assert!(steps[0] >= cost.step_mm.min(auto_step(&part, &r, &linked, false)));
            last = steps[0];
        }
        // So a small change of the thickness keeps the grid.
        let near = of(GYROID, 12.0, 1.21, &|_| ());
        let step = |x: &(Part, Recipe, Linked, Cost)| {
            draft_step(&x.0, &x.1, &x.2, Quality::Drag, DRAFT_TRIANGLES)
        };
        assert_eq!(step(&near), step(&(part, r, linked, cost)));
    }

    #[test]
    fn drafts_widen_thin_walls_until_the_grid_holds_them_and_finals_none() {
        for quality in [Quality::Drag, Quality::Draft] {
            assert!((reach(quality, 1.0, 0.4) + 0.2 - HELD).abs() < 1e-12);
            assert_eq!(reach(quality, 1.0, 2.0), 0.0);
        }
        assert_eq!(reach(Quality::Final, 1.0, 0.01), 0.0);
    }

    #[test]
    fn smoothing_goes_equally_far_on_a_coarser_grid() {
        assert_eq!(smoothing_rounds(0, 0.5, 0.5), 0);
        let own = smoothing_rounds(2, 0.5, 0.5);
        // A round spreads over a step: half as far on half the step needs four times as many.
        assert_eq!(smoothing_rounds(2, 1.0, 0.5), own.div_ceil(4));
        assert_eq!(smoothing_rounds(2, 0.25, 0.5), own);
        assert!(
            (1..4)
                .all(|level| smoothing_rounds(level + 1, 0.5, 0.5)
                    > smoothing_rounds(level, 0.5, 0.5))
        );
    }

    #[test]
    fn a_zone_of_less_than_a_cell_says_that_its_density_is_rough() {
        use ulmix_recipe::{OwnFill, Place, Role, Zone};
        let told = |radius_mm: f64| {
            let zone = |r: &Recipe| Zone {
                id: 1,
                name: "Rim".into(),
                role: Role::Fill,
                place: Place::Sphere { centre_mm: [30.0, 24.0, 20.0], radius_mm },
                own: Some(Box::new(OwnFill {
                    structure: r.structure.clone(),
                    thicken: Thicken::RelativeDensity { percent: 30.0 },
                    joins: r.joins,
                    gradings: Vec::new(),
                    blend_mm: 0.0,
                    loose_ends: false,
                })),
            };
            let (.., p) = of(Kind::Extruded(ExtrudedKind::Squares), 10.0, 1.0, &|r| {
                r.zones.list = vec![zone(r)]
            });
            p.notes.into_iter().map(|n| n.text).find(|t| t.contains("“Rim”"))
        };
        assert!(told(4.0).is_some_and(|t| t.contains("cells") && t.contains("30 %")));
        assert_eq!(told(14.0), None);
    }
}
