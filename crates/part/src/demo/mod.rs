//! Parts of the Reedling drift buoy, made by our own code, each with a first recipe.
//!
//! | module | part |
//! |---|---|
//! | `keel_bracket` | a sole with bolt bosses, an upright, an eye |
//! | `tow_grip` | a curved bar with a swell for the fingers |
//! | `cradle` | a block with pockets for two cells |
//! | `turned` | the lamp guard and the mooring link sleeve |
//! | `vent_panel` | a plate with a rim |
//! | `float_shell` | half of a hull, a sheet with two openings |
//! | `graded` | three of them again, with values that change from place to place |

mod cradle;
mod float_shell;
mod graded;
mod keel_bracket;
mod tow_grip;
mod turned;
mod vent_panel;

pub use keel_bracket::keel_bracket;

use crate::part::Part;
use serde::{Deserialize, Serialize};
use ulmix_formats::stl;
use ulmix_mesh::faces::Face;
use ulmix_mesh::TriMesh;
use ulmix_recipe::{Kind, Recipe, Skin, Structure};
use utoipa::ToSchema;

/// A part of the buoy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Reedling {
    /// A bracket with two bosses and an eye.
    KeelBracket,
    /// A curved bar to hold on to.
    TowGrip,
    /// A cradle with two pockets.
    BatteryCradle,
    /// A dome on a ring.
    LampGuard,
    /// A plate in a rim.
    VentPanel,
    /// A short tube.
    LinkSleeve,
    /// An open hull.
    FloatShell,
    /// The keel bracket with walls of graded thickness.
    GradedBracket,
    /// The tow grip with graded cells and struts.
    GradedGrip,
    /// The battery cradle, dense where a measurement says so.
    GradedCradle,
}

/// What there is to say of one.
struct About {
    title: &'static str,
    words: &'static str,
    file_name: &'static str,
    make: fn() -> (TriMesh, Recipe),
}

impl Reedling {
    /// All parts, in the order in which they are shown.
    pub const ALL: [Reedling; 10] = [
        Reedling::KeelBracket,
        Reedling::TowGrip,
        Reedling::BatteryCradle,
        Reedling::LampGuard,
        Reedling::VentPanel,
        Reedling::LinkSleeve,
        Reedling::FloatShell,
        Reedling::GradedBracket,
        Reedling::GradedGrip,
        Reedling::GradedCradle,
    ];

    /// The parts that differ in shape; the others are some of them with other recipes.
    pub const SHAPES: &'static [Reedling] = Reedling::ALL.split_at(7).0;

    fn about(self) -> About {
        let about = |title, words, file_name, make| About { title, words, file_name, make };
        match self {
            Reedling::KeelBracket => about(
                "Keel bracket",
                "Gyroid walls; two bolt bosses and an eye stay solid.",
                "keel-bracket",
                keel_bracket,
            ),
            Reedling::TowGrip => about(
                "Tow grip",
                "A curved bar filled with Voronoi struts.",
                "tow-grip",
                tow_grip::tow_grip,
            ),
            Reedling::BatteryCradle => about(
                "Battery cradle",
                "Hexagons around two lined pockets.",
                "battery-cradle",
                cradle::cradle,
            ),
            Reedling::LampGuard => about(
                "Lamp guard",
                "A dome of foam on a solid ring.",
                "lamp-guard",
                turned::lamp_guard,
            ),
            Reedling::VentPanel => about(
                "Vent panel",
                "A plate of planar cells in its rim.",
                "vent-panel",
                vent_panel::vent_panel,
            ),
            Reedling::LinkSleeve => about(
                "Mooring link sleeve",
                "A short tube of Kelvin cells.",
                "link-sleeve",
                turned::link_sleeve,
            ),
            Reedling::FloatShell => about(
                "Float shell",
                "An open hull, given thickness and Voronoi struts.",
                "float-shell",
                float_shell::float_shell,
            ),
            Reedling::GradedBracket => about(
                "Keel bracket, graded",
                "Walls thick at the sole and the bosses, thin at the eye.",
                "keel-bracket-graded",
                graded::bracket,
            ),
            Reedling::GradedGrip => about(
                "Tow grip, graded",
                "Small cells at the ends; struts end inside.",
                "tow-grip-graded",
                graded::grip,
            ),
            Reedling::GradedCradle => about(
                "Battery cradle, graded",
                "Dense where drop tests hit hardest.",
                "battery-cradle-graded",
                graded::dense_cradle,
            ),
        }
    }

    /// Name of the part.
    pub fn title(self) -> &'static str {
        self.about().title
    }

    /// What it is and what its first recipe shows.
    pub fn words(self) -> &'static str {
        self.about().words
    }

    /// Without its ending.
    pub fn file_name(self) -> &'static str {
        self.about().file_name
    }

    /// The part as its recipe has it.
    pub fn part(self) -> (Part, Recipe) {
        let (mesh, recipe) = self.make();
        let part = Part::assemble(vec![(self.title().into(), mesh)], &recipe.part, &|| false);
        (part.expect("a part of our own can be used"), recipe)
    }

    /// What its file holds, in mm, and its first recipe.
    pub fn make(self) -> (TriMesh, Recipe) {
        let (mesh, mut recipe) = (self.about().make)();
        recipe.name = self.title().into();
        (mesh, recipe)
    }

    /// The part as the file a person would bring, and its first recipe.
    pub fn file(self) -> (Vec<u8>, Recipe) {
        let (mesh, recipe) = self.make();
        (stl::write(&mesh), recipe)
    }
}

/// A recipe with first values for a part and a structure of a kind.
fn recipe(mesh: &TriMesh, kind: Kind, cell_mm: f64) -> Recipe {
    let mut recipe = Recipe::for_part(&mesh.bounds());
    recipe.structure = Structure { cell_mm: [cell_mm; 3], ..Structure::of_kind(kind) };
    recipe
}

/// A skin on the faces of a part that are meant.
fn skin(mesh: &TriMesh, name: &str, depth_mm: f64, meant: impl Fn(&Face) -> bool) -> Skin {
    let part = Part::prepare(mesh).expect("a part of our own is sound");
    let faces = part.faces().list.iter().filter(|f| meant(f)).map(crate::part::mark).collect();
    Skin { id: 1, name: name.into(), faces: Some(faces), depth_mm }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zoned::Regions;
    use ulmix_mesh::Topology;

    #[test]
    fn every_part_is_one_sound_body_and_its_recipe_finds_its_faces() {
        for reedling in Reedling::ALL {
            let (part, recipe) = reedling.part();
            let t = Topology::of(&part.mesh);
            assert!(t.sound() && t.components == 1 && part.mesh.volume() > 0.0, "{reedling:?}");
            recipe.validate(&part.mesh.bounds()).unwrap_or_else(|e| panic!("{reedling:?}: {e}"));
            assert!(part.facts.defects.is_empty(), "{reedling:?}: {:?}", part.facts.defects);
            assert_eq!(part.facts.changes.len(), recipe.part.shell.iter().count(), "{reedling:?}");
            for skin in &recipe.zones.skins {
                let marks = skin.faces.as_deref().unwrap_or_default();
                assert!(
                    !marks.is_empty() && part.surface_of(marks).1 == 0,
                    "{reedling:?}: {}",
                    skin.name
                );
            }
            assert!(
                !Regions::of(&part, &recipe.zones).zones.iter().any(|z| z.filling != 0),
                "{reedling:?}"
            );
        }
    }
}
