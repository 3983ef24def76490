//! The recipe: every value of every step, small readable JSON.
//!
//! Lengths are in millimetres, angles in degrees, densities in g/cm³. With the part, a recipe gives
//! the same mesh bit for bit. Values that no step could use are refused in [`Recipe::validate`],
//! in one place and in words for a person.
//!
//! | module | idea |
//! |---|---|
//! | `part_step` | where the part comes from and what is mended of it |
//! | [`shapes`] | shapes of our own to begin with |
//! | [`profile`], [`curve`] | drawn outlines to be turned about an axis; smooth curves through points |
//! | `clean_up` | what becomes of what a net of struts has too much of |
//! | [`structure`], [`own_cell`], [`own_mesh`], [`own_points`], [`own_struts`] | what fills a zone; cells drawn by hand or from a file; seed points from a table; struts from a file |
//! | [`seeds`] | seed points that own cells |
//! | `joins` | what walls and struts look like where they meet |
//! | [`grading`], `table_rows` | values that change from place to place; lines of a table of numbers |
//! | [`zones`] | where the part may be hollow, and its skins |
//! | `versions` | recipes of older versions |
//! | `material`, `rounding`, `error`, `fault` | print materials; short numbers; values that cannot be used |
//! | [`stand`] | how the part stands on the printer's bed |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_mesh::Bounds;
//! use ulmix_recipe::{Recipe, Thicken};
//!
//! let part = Bounds { min: DVec3::ZERO, max: DVec3::new(80.0, 60.0, 40.0) };
//! let mut recipe = Recipe::for_part(&part);
//! assert_eq!(Recipe::from_json(&recipe.to_json())?, recipe);
//!
//! recipe.thicken = Thicken::RelativeDensity { percent: 120.0 };
//! let refused = recipe.validate(&part).unwrap_err();
//! assert_eq!(refused.field, "thicken.percent");
//! # Ok::<(), ulmix_recipe::RecipeError>(())
//! ```

mod clean_up;
pub mod course;
pub mod curve;
mod error;
mod fault;
pub mod grading;
mod joins;
mod material;
pub mod own_cell;
pub mod own_mesh;
pub mod own_points;
pub mod own_struts;
mod part_step;
pub mod profile;
mod rounding;
pub mod seeds;
pub mod shapes;
pub mod stand;
pub mod structure;
mod table_rows;
mod versions;
mod zone_places;
pub mod zones;

pub use clean_up::{CleanUp, DeadEnds};
pub use course::Course;
pub use error::{check, RecipeError, Refusal};
pub use fault::{RecipeFault, Suffers, TooLarge};
pub use grading::{GradedValue, Grading};
pub use joins::{Joins, StrutSection};
pub use material::{KnownMaterial, Material, MATERIALS};
pub use own_cell::OwnCell;
pub use own_mesh::OwnMesh;
pub use own_points::OwnPoints;
pub use own_struts::{FoundStruts, OwnStruts};
pub use part_step::{Beside, FileMark, Mend, PartStep, Pocket, Shell, Unit, MOST_WITH_ROLES};
pub use rounding::{floor_two, round_two};
pub use seeds::{Layout, Seeds, Spread};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
pub use shapes::{OwnShape, ProfilePoint, Section};
pub use stand::Stand;
pub use structure::{
    BentRows, CellKind, CellPattern, DelaunayPattern, DrawnKind, ExtrudedKind, ExtrudedPattern,
    Family, FoamKind, FoamPattern, Form, GivenKind, Kind, NeighboursPattern, OwnCellPattern,
    OwnMeshPattern, OwnStrutsPattern, Pattern, PlanarKind, PlanarPattern, SeededKind, Structure,
    StrutLengths, SurfaceKind, SurfaceNet, SurfacePattern, VoronoiPattern, WallsPattern,
};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;
pub use zone_places::{FacesOf, SkinPlace, ZonePlace, ZonePlaces};
pub use zones::{FaceKind, FaceMark, OwnFill, Place, Role, Skin, Zone, Zones};

/// Characters of a name.
const LONGEST_NAME: usize = 200;

/// Version of the recipe's form; older ones are brought up by [`Recipe::from_json`].
pub const VERSION: u32 = 4;

/// Every value of every step. With the part it gives the same mesh bit for bit.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// Version of this form.
    pub ulmix: u32,
    /// Title of what is made; written into exported files.
    pub name: String,
    /// Where the part comes from and what is mended.
    pub part: PartStep,
    /// Where the part may be hollow.
    pub zones: Zones,
    /// What fills it.
    pub structure: Structure,
    /// How thick that is.
    pub thicken: Thicken,
    /// What it looks like where members meet.
    #[serde(default)]
    #[schema(required = true)]
    pub joins: Joins,
    /// Values that change from place to place, of what fills the part.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gradings: Vec<Grading>,
    /// Patterns that were drawn or brought in and fill nothing, to be chosen again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<Pattern>,
    /// How fine the mesh is.
    pub mesh: MeshStep,
    /// What it is made of.
    pub material: Material,
    /// Absent: files keep the part's own place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stand: Option<Stand>,
}

/// The one of two linked values that was typed last; the other follows.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "lead", deny_unknown_fields)]
pub enum Thicken {
    /// Thickness is given, and density follows.
    Thickness {
        /// Wall, or strut of a network at its narrowest. mm.
        thickness_mm: f64,
    },
    /// Density is given, and thickness follows.
    RelativeDensity {
        /// Solid share of the fill zone. Percent.
        percent: f64,
    },
}

/// How the mesh is made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MeshStep {
    /// Grid step of the final mesh; absent: chosen from thickness and part. mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step_mm: Option<f64>,
    /// Greatest deviation that reduction may cause. mm.
    pub reduce_mm: f64,
    /// Loose pieces smaller than this are removed; absent: follows the smallest cell. Pieces of
    /// more than a thousandth of the largest one stay in any case. mm³.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crumb_mm3: Option<f64>,
    /// How far curved faces that are kept may lie from the part's. mm.
    #[serde(default = "first_tolerance")]
    #[schema(required = true)]
    pub tolerance_mm: f64,
    /// How far the lattice's edges and ripples are smoothed; 0 for not at all.
    #[serde(default)]
    #[schema(required = true)]
    pub smoothing: u32,
    /// Lattice and solids are bodies of their own that overlap by so much, 0 for touching; absent:
    /// all is one body. mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub apart_mm: Option<f64>,
}

/// First [`MeshStep::tolerance_mm`].
fn first_tolerance() -> f64 {
    0.05
}

/// Most patterns in [`Recipe::kept`].
const MOST_KEPT: usize = 16;

/// Highest [`MeshStep::smoothing`].
const MOST_SMOOTHING: u32 = 5;

impl MeshStep {
    /// Below which loose pieces are removed where the smallest cell has a size in mm. mm³.
    pub fn crumb(&self, cell: f64) -> f64 {
        self.crumb_mm3.unwrap_or_else(|| round_two((cell / 4.0).powi(3)))
    }
}

impl Default for MeshStep {
    fn default() -> Self {
        MeshStep {
            step_mm: None,
            reduce_mm: 0.02,
            crumb_mm3: None,
            tolerance_mm: first_tolerance(),
            smoothing: 0,
            apart_mm: None,
        }
    }
}

/// A structure with the thickness it is given.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Filling<'a> {
    /// What fills it.
    pub structure: &'a Structure,
    /// How thick that is.
    pub thicken: Thicken,
    /// What it looks like where members meet.
    pub joins: Joins,
    /// Values that change from place to place.
    pub gradings: &'a [Grading],
}

impl Filling<'_> {
    fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        self.structure.validate(part)?;
        let longest = part.size().max_element();
        let smallest = self.structure.smallest();
        self.joins.validate(smallest)?;
        grading::validate(self, part)?;
        match self.thicken {
            Thicken::Thickness { thickness_mm } => check(
                "thicken.thickness_mm",
                "The thickness",
                "mm",
                thickness_mm,
                longest / 5000.0,
                smallest,
            ),
            Thicken::RelativeDensity { percent } => {
                check("thicken.percent", "The relative density", "%", percent, 1.0, 95.0)
            }
        }
    }
}

impl Recipe {
    /// First values for a part: cell an eighth of its middle dimension, wall an eighth of the cell.
    pub fn for_part(bounds: &Bounds) -> Recipe {
        let mut sides = bounds.size().to_array();
        sides.sort_by(f64::total_cmp);
        let cell = round_two(sides[1] / 8.0);
        Recipe {
            ulmix: VERSION,
            name: "Part".into(),
            part: PartStep::plain(Unit::Mm),
            zones: Zones::default(),
            structure: Structure { cell_mm: [cell; 3], ..Default::default() },
            thicken: Thicken::Thickness { thickness_mm: round_two(cell / 8.0) },
            joins: Joins { blend_mm: round_two(cell / 20.0), ..Joins::default() },
            gradings: Vec::new(),
            kept: Vec::new(),
            mesh: MeshStep {
                step_mm: None,
                reduce_mm: round_two((cell / 600.0).clamp(1e-4, 1.0)),
                tolerance_mm: first_tolerance().min(round_two(sides[2] / 400.0)),
                ..MeshStep::default()
            },
            material: Material { name: MATERIALS[0].name.into(), density: MATERIALS[0].density },
            stand: None,
        }
    }

    /// Reads a recipe; older versions are brought up.
    ///
    /// # Errors
    /// Text that is no recipe, a version that is not known, and values that do not fit together.
    pub fn from_json(text: &str) -> Result<Recipe, RecipeError> {
        let refuse = |fault: RecipeFault| RecipeError::new("recipe", fault);
        let not_json = |e: serde_json::Error| refuse(RecipeFault::NotJson(e.to_string()));
        let mut value: serde_json::Value = serde_json::from_str(text).map_err(not_json)?;
        versions::brought_up(&mut value)?;
        let unreadable = |e: serde_json::Error| refuse(RecipeFault::Unreadable(e.to_string()));
        serde_json::from_value(value).map_err(unreadable)
    }

    /// The size of a hole that powder and resin leave through: past the skins and half a cell on,
    /// so that it opens into the lattice.
    pub fn drain(&self) -> Drain {
        let cell = self.structure.smallest();
        let skin = self.zones.skins.iter().map(|s| s.depth_mm).fold(0.0, f64::max);
        Drain { depth_mm: skin + 0.5 * cell, radius_mm: round_two((0.25 * cell).min(2.5)) }
    }

    /// What fills the part where no zone has a filling of its own.
    pub fn filling(&self) -> Filling<'_> {
        Filling {
            structure: &self.structure,
            thicken: self.thicken,
            joins: self.joins,
            gradings: &self.gradings,
        }
    }

    /// All fillings: the part's, then those of zones in the list's order.
    pub fn fillings(&self) -> Vec<Filling<'_>> {
        let own = self.zones.list.iter().filter_map(|z| z.own_fill()).map(OwnFill::filling);
        std::iter::once(self.filling()).chain(own).collect()
    }

    /// A zone's own filling, by its number in the list, or the part's; and which of all of them it
    /// is.
    pub fn filling_of(&self, zone: Option<usize>) -> (usize, Filling<'_>) {
        let before = |zone: usize| {
            self.zones.list.iter().take(zone).filter(|z| z.own_fill().is_some()).count()
        };
        let own = zone.and_then(|zone| {
            Some((1 + before(zone), self.zones.list.get(zone)?.own_fill()?.filling()))
        });
        own.unwrap_or((0, self.filling()))
    }

    /// The recipe as text that a person can read.
    pub fn to_json(&self) -> String {
        serde_json::to_string_pretty(self).expect("a recipe holds only plain values") + "\n"
    }

    /// Refuses values that no step could use. Limits follow the part, whose box is `bounds`.
    ///
    /// # Errors
    /// The first value that no step could use.
    pub fn validate(&self, bounds: &Bounds) -> Result<(), RecipeError> {
        if self.ulmix != VERSION {
            return Err(versions::other_version(self.ulmix as u64));
        }
        let longest = bounds.size().max_element();
        if self.name.chars().count() > LONGEST_NAME {
            return Err(RecipeError::new("name", RecipeFault::LongName(LONGEST_NAME)));
        }
        self.part.validate(longest)?;
        self.zones.validate(bounds)?;
        self.filling().validate(bounds)?;
        if self.kept.len() > MOST_KEPT {
            return Err(RecipeError::new("kept", RecipeFault::TooManyKept(MOST_KEPT)));
        }
        self.kept.iter().try_for_each(|pattern| {
            pattern.validate(bounds).map_err(|e| RecipeError { field: "kept".into(), ..e })
        })?;
        if let Some(step) = self.mesh.step_mm {
            check("mesh.step_mm", "The grid step", "mm", step, longest / 3000.0, longest / 8.0)?;
        }
        if let Some(overlap) = self.mesh.apart_mm {
            check(
                "mesh.apart_mm",
                "The overlap of lattice and solids",
                "mm",
                overlap,
                0.0,
                longest / 10.0,
            )?;
        }
        check(
            "mesh.reduce_mm",
            "The reduction's deviation",
            "mm",
            self.mesh.reduce_mm,
            0.0,
            longest / 50.0,
        )?;
        if let Some(crumb) = self.mesh.crumb_mm3 {
            check(
                "mesh.crumb_mm3",
                "The size of loose crumbs",
                "mm³",
                crumb,
                0.0,
                longest.powi(3),
            )?;
        }
        check(
            "mesh.tolerance_mm",
            "The surface tolerance",
            "mm",
            self.mesh.tolerance_mm,
            longest / 20_000.0,
            longest / 20.0,
        )?;
        check(
            "mesh.smoothing",
            "The level of smoothing",
            "",
            self.mesh.smoothing as f64,
            0.0,
            MOST_SMOOTHING as f64,
        )?;
        self.stand.iter().try_for_each(Stand::validate)?;
        check(
            "material.name",
            "The length of the material's name",
            "",
            self.material.name.chars().count() as f64,
            0.0,
            200.0,
        )?;
        check(
            "material.density",
            "The material's density",
            "g/cm³",
            self.material.density,
            0.01,
            25.0,
        )
    }
}

/// See [`Recipe::drain`].
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Drain {
    /// How deep the drain goes into the part. mm.
    pub depth_mm: f64,
    /// Radius of the drain. mm.
    pub radius_mm: f64,
}

/// Ranges that sliders offer for a part; typed values may go further, up to what
/// [`Recipe::validate`] allows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Ranges {
    /// Cell size.
    pub cell_mm: [f64; 2],
    /// Thickness of walls and struts.
    pub thickness_mm: [f64; 2],
    /// Relative density.
    pub percent: [f64; 2],
    /// Depth of skins.
    pub skin_mm: [f64; 2],
    /// Shift of the structure.
    pub shift_mm: [f64; 2],
}

impl Ranges {
    /// Ranges of sliders for a part of this box.
    pub fn for_part(bounds: &Bounds) -> Ranges {
        let mut sides = bounds.size().to_array();
        sides.sort_by(f64::total_cmp);
        let [shortest, middle, _] = sides;
        let up_to = |low: f64, high: f64| [round_two(low), round_two(high)];
        Ranges {
            cell_mm: up_to(middle / 24.0, middle / 2.0),
            thickness_mm: up_to(middle / 360.0, middle / 18.0),
            percent: [3.0, 70.0],
            skin_mm: up_to(0.0, shortest / 6.0),
            shift_mm: up_to(-middle / 4.0, middle / 4.0).map(|v| {
                if v < 0.0 {
                    -round_two(-v)
                } else {
                    v
                }
            }),
        }
    }
}

/// SHA-256 of a value's JSON, as a stage key.
pub fn key_of(parts: &[&dyn Json]) -> String {
    let mut h = Sha256::new();
    for p in parts {
        h.update(p.json().as_bytes());
        h.update([0]);
    }
    h.finalize().iter().map(|b| format!("{b:02x}")).collect()
}

/// Anything that serialises, behind one reference type.
pub trait Json {
    /// The value as JSON.
    fn json(&self) -> String;
}

impl<T: Serialize> Json for T {
    fn json(&self) -> String {
        serde_json::to_string(self).expect("stage keys hold only plain values")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    fn bounds() -> Bounds {
        Bounds { min: DVec3::ZERO, max: DVec3::new(120.0, 72.0, 88.0) }
    }

    #[test]
    fn first_values_follow_the_part_and_survive_json() {
        let r = Recipe::for_part(&bounds());
        assert_eq!(r.structure.cell_mm, [11.0; 3]);
        assert_eq!(r.thicken, Thicken::Thickness { thickness_mm: 1.4 });
        assert_eq!(Recipe::from_json(&r.to_json()).unwrap(), r);
        assert!(r.validate(&bounds()).is_ok());
        let tiny = Recipe::for_part(&Bounds { min: DVec3::ZERO, max: DVec3::splat(0.3) });
        assert!(tiny.validate(&Bounds { min: DVec3::ZERO, max: DVec3::splat(0.3) }).is_ok());
    }

    #[test]
    fn unusable_values_are_named() {
        let mut r = Recipe::for_part(&bounds());
        r.structure.cell_mm[1] = f64::NAN;
        let e = r.validate(&bounds()).unwrap_err();
        assert_eq!(
            (e.field.as_str(), e.message().as_str()),
            ("structure.cell_mm", "The cell size is NaN mm.")
        );
        r.structure.cell_mm[1] = 12.0;
        r.thicken = Thicken::RelativeDensity { percent: 0.0 };
        assert_eq!(r.validate(&bounds()).unwrap_err().field, "thicken.percent");
        r.thicken = Thicken::RelativeDensity { percent: 20.0 };
        r.ulmix = VERSION + 1;
        assert_eq!(r.validate(&bounds()).unwrap_err().field, "ulmix");
        for bad in ["", "{}", "{\"ulmix\":99}", "{\"ulmix\":1}", "[1]"] {
            assert!(!Recipe::from_json(bad).unwrap_err().hint().is_empty());
        }
    }

    #[test]
    fn a_drain_hole_passes_the_skin_and_opens_into_a_cell() {
        let mut r = Recipe::for_part(&bounds());
        assert_eq!(r.drain(), Drain { depth_mm: 5.5, radius_mm: 2.5 });
        r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 2.0 }];
        r.structure.cell_mm = [4.0, 6.0, 8.0];
        assert_eq!(r.drain(), Drain { depth_mm: 4.0, radius_mm: 1.0 });
    }

    #[test]
    fn keys_tell_values_apart() {
        assert_ne!(key_of(&[&1.0, &2.0]), key_of(&[&1.0, &3.0]));
        assert_eq!(key_of(&[&"a"]), key_of(&[&"a"]));
    }
}
