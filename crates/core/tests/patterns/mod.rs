//! Values that only some kinds of structures have, to be changed in a recipe.
#![allow(dead_code, reason = "not every test needs each of them")]

use ulmix_recipe::{
    CleanUp, Form, OwnStruts, OwnStrutsPattern, Pattern, Recipe, Seeds, StrutLengths, SurfaceNet,
};

pub(super) fn seeds(r: &mut Recipe) -> &mut Seeds {
    r.structure.seeds_mut().expect("a kind with seed points")
}

pub(super) fn clean(r: &mut Recipe) -> &mut CleanUp {
    r.structure.clean_mut().expect("struts that are listed one by one")
}

pub(super) fn net(r: &mut Recipe) -> &mut Option<SurfaceNet> {
    let Pattern::Voronoi(p) = &mut r.structure.pattern else { panic!("no Voronoi struts") };
    &mut p.net
}

pub(super) fn lengths(r: &mut Recipe) -> &mut StrutLengths {
    match &mut r.structure.pattern {
        Pattern::Delaunay(p) => &mut p.lengths,
        Pattern::Neighbours(p) => &mut p.lengths,
        other => panic!("no lengths in {other:?}"),
    }
}

/// Sets the form of a surface that repeats; other structures have none.
pub(super) fn set_form(r: &mut Recipe, form: Form) {
    if let Pattern::Surface(p) = &mut r.structure.pattern {
        p.form = form;
    }
}

pub(super) fn set_holes(r: &mut Recipe, holes: f64) {
    let Pattern::VoronoiWalls(p) = &mut r.structure.pattern else { panic!("no Voronoi walls") };
    p.holes = holes;
}

/// Fills with given struts; nothing of them goes.
pub(super) fn set_struts(r: &mut Recipe, own: OwnStruts) {
    let clean = r.structure.clean().copied().unwrap_or_default();
    r.structure.pattern = Pattern::OwnStruts(OwnStrutsPattern { own, clean });
}
