//! What a person should know of gradings: sources that are gone, and sizes that cells do not keep.

use crate::note::Note;
use crate::result::{Linked, LostSource};
use ulmix_lattice::SizeFit;
use ulmix_recipe::grading::Source;
use ulmix_recipe::Recipe;

/// Sources of gradings that name what the part does not have.
pub(crate) fn lost_sources<'a>(
    recipe: &'a Recipe,
    linked: &'a Linked,
) -> impl Iterator<Item = String> + 'a {
    linked.lost_sources.iter().map(|lost| lost_source(recipe, lost))
}

/// What is said of a source of a grading that the part does not have.
fn lost_source(recipe: &Recipe, lost: &LostSource) -> String {
    let value = lost.of.name();
    let (_, filling) = recipe.filling_of(lost.zone);
    let grading = filling.gradings.iter().find(|g| g.id == lost.grading);
    let gone = match (lost.faces, grading.map(|g| &g.sources[lost.source].from)) {
        (1, _) => "a face that is no longer found".into(),
        (faces, _) if faces > 1 => format!("{faces} faces that are no longer found"),
        (_, Some(Source::Zone { .. })) => "a zone that is gone".into(),
        (_, Some(Source::Body { name })) if name.is_empty() => "no body yet".into(),
        (_, Some(Source::Body { name })) => format!("a body “{name}” that the part does not have"),
        (_, Some(Source::Solids)) => "what is kept solid, and nothing is".into(),
        _ => "a grading that gives nothing".into(),
    };
    format!("The grading of the {value} follows {gone}. Choose another source in Grading.")
}

/// Share of a filling in which cells may be off by more than a tenth before that is said. Percent.
const FEW_OFF: f64 = 5.0;

/// Cells that repeat and do not keep the sizes that are asked, with the place where they are
/// farthest from that.
pub(crate) fn uneven_sizes(linked: &Linked) -> impl Iterator<Item = Note> + '_ {
    let fits = linked.fills().filter_map(|f| f.structure.as_ref()?.sizes);
    fits.filter(|fit| fit.beyond_percent > FEW_OFF).map(|fit| {
        let SizeFit { asked_mm: [least, most], beyond_percent, .. } = fit;
        let text = format!(
            "Cells from {least:.1} to {most:.1} mm are asked; in {beyond_percent:.0} % of the fill \
             they come out more than a tenth larger or smaller. A longer way between both sizes \
             helps; Voronoi and the foam sheet follow any size."
        );
        Note { text, place_mm: Some(fit.worst_at) }
    })
}
