//! Where the part may be hollow: zones with their roles, and skins.
//!
//! A zone is a region of the part. Where zones overlap, the first of the list holds; where none
//! does, the rest's role. A skin is material within a distance of some faces: it stays in whatever
//! is filled.

use super::grading::Grading;
use super::zone_places::{FacesOf, SkinPlace, ZonePlace, ZonePlaces};
use super::{check, Filling, Joins, RecipeError, RecipeFault, Structure, Thicken};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// Where the part is filled, kept and cleared.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Zones {
    /// What the part is where no zone of the list is: filled or kept solid.
    pub rest: Role,
    /// The first that holds a place decides.
    pub list: Vec<Zone>,
    /// Skins along the surface.
    pub skins: Vec<Skin>,
}

impl Default for Zones {
    fn default() -> Zones {
        Zones { rest: Role::Fill, list: Vec::new(), skins: Vec::new() }
    }
}

/// What becomes of a zone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// The structure fills it.
    Fill,
    /// Material stays as it is.
    KeepSolid,
    /// Material goes: drain holes, room for tools.
    KeepClear,
    /// Shown, and changes nothing.
    Reference,
    /// Of a body: exported beside the result as it came.
    Alongside,
}

/// A place of the part with a role of its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Zone {
    /// Number of the zone, which no other zone of the recipe has.
    pub id: u32,
    /// Name of the zone; others may have the same.
    pub name: String,
    /// What becomes of the part there.
    pub role: Role,
    /// Where it is.
    pub place: Place,
    /// What fills it, where that is not what fills the rest of the part.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<Box<OwnFill>>,
}

/// What fills a zone of its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnFill {
    /// What fills it.
    pub structure: Structure,
    /// How thick that is.
    pub thicken: Thicken,
    /// What it looks like where members meet.
    pub joins: Joins,
    /// Values that change from place to place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gradings: Vec<Grading>,
    /// Width across the zone's border over which it passes into what is around it; 0 for a sharp
    /// border. mm.
    pub blend_mm: f64,
    /// At a sharp border struts end; else ties run from there to the ends of struts beyond it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub loose_ends: bool,
}

impl OwnFill {
    /// The filling as one of the recipe's.
    pub fn filling(&self) -> Filling<'_> {
        Filling {
            structure: &self.structure,
            thicken: self.thicken,
            joins: self.joins,
            gradings: &self.gradings,
        }
    }
}

impl Zone {
    /// A zone without a structure of its own.
    pub fn new(id: u32, name: impl Into<String>, role: Role, place: Place) -> Zone {
        Zone { id, name: name.into(), role, place, own: None }
    }

    /// What fills it in its own way, if anything does.
    pub fn own_fill(&self) -> Option<&OwnFill> {
        self.own.as_deref().filter(|_| self.role == Role::Fill)
    }
}

/// Where a zone lies. Lengths mm, angles degrees.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "shape", deny_unknown_fields)]
pub enum Place {
    /// With flat ends.
    Cylinder {
        /// Centre of the first end.
        base_mm: [f64; 3],
        /// From the first end to the second.
        axis_mm: [f64; 3],
        /// Radius of the cylinder. mm.
        radius_mm: f64,
    },
    /// A box that may be turned.
    Box {
        /// Middle of the box. mm.
        centre_mm: [f64; 3],
        /// Sides of the box. mm.
        size_mm: [f64; 3],
        /// Turned about x, then y, then z.
        rotation_deg: [f64; 3],
    },
    /// A ball.
    Sphere {
        /// Middle of the ball. mm.
        centre_mm: [f64; 3],
        /// Radius of the ball. mm.
        radius_mm: f64,
    },
    /// All within a depth of faces of the part.
    Faces {
        /// The faces.
        faces: Vec<FaceMark>,
        /// How far from them.
        depth_mm: f64,
    },
}

impl Place {
    /// The middle of the place, in mm: of faces the middle of the first one. `None` where no face
    /// is named.
    pub fn middle(&self) -> Option<[f64; 3]> {
        match self {
            Place::Cylinder { base_mm, axis_mm, .. } => {
                Some([0, 1, 2].map(|d| base_mm[d] + 0.5 * axis_mm[d]))
            }
            Place::Box { centre_mm, .. } | Place::Sphere { centre_mm, .. } => Some(*centre_mm),
            Place::Faces { faces, .. } => faces.first().map(|f| f.place_mm),
        }
    }
}

/// Material within `depth_mm` of faces stays.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Skin {
    /// Number of the skin, which no other skin of the recipe has.
    pub id: u32,
    /// Name of the skin; others may have the same.
    pub name: String,
    /// Absent for the whole surface.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub faces: Option<Vec<FaceMark>>,
    /// Depth of the skin.
    pub depth_mm: f64,
}

/// What a face is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FaceKind {
    /// A plane.
    Plane,
    /// A cylinder.
    Cylinder,
    /// A cone.
    Cone,
    /// A sphere.
    Sphere,
    /// None of these.
    Free,
}

/// A face by its description, so that it is found again on a slightly changed part.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FaceMark {
    /// The shape of the face.
    pub kind: FaceKind,
    /// Middle of its area. mm.
    pub place_mm: [f64; 3],
    /// A plane's outward normal, an axis, or the mean normal.
    pub direction: [f64; 3],
    /// Area of the face.
    pub area_mm2: f64,
}

/// Zones and skins that a recipe may hold.
const MOST: usize = 64;
/// Faces that a zone, skin or pocket may name.
const MOST_FACES: f64 = 10_000.0;
/// Characters of a name.
const LONGEST_NAME: f64 = 200.0;
/// Coordinates beyond this are no part's. mm.
pub(super) const FARTHEST: f64 = 1e6;

impl Zones {
    /// Where zones and skins lie, without their names and without what fills them.
    pub fn places(&self) -> ZonePlaces<'_> {
        let zones = self.list.iter().map(|z| ZonePlace {
            id: z.id,
            role: z.role,
            place: &z.place,
            own_blend_mm: z.own_fill().map(|own| own.blend_mm),
        });
        let skins = self.skins.iter().map(|s| SkinPlace {
            id: s.id,
            faces: s.faces.as_deref(),
            depth_mm: s.depth_mm,
        });
        ZonePlaces { rest: self.rest, zones: zones.collect(), skins: skins.collect() }
    }

    /// The name of what lost faces belong to; empty where there is no such zone or skin.
    pub fn name_of(&self, owner: FacesOf) -> &str {
        let name = match owner {
            FacesOf::Zone(id) => self.list.iter().find(|z| z.id == id).map(|z| &z.name),
            FacesOf::Skin(id) => self.skins.iter().find(|s| s.id == id).map(|s| &s.name),
        };
        name.map_or("", |name| name)
    }

    /// By zone that changes something: does what fills it end at a sharp border from which ties are
    /// to run?
    pub fn tied(&self) -> Vec<bool> {
        let tied =
            |z: &Zone| z.own_fill().is_some_and(|own| own.blend_mm == 0.0 && !own.loose_ends);
        self.list.iter().filter(|z| z.role != Role::Reference).map(tied).collect()
    }

    /// Refuses zones that cannot be used.
    ///
    /// # Errors
    /// The first value that is out of its range.
    pub fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        let longest = part.size().max_element();
        let refuse = |field: &str, fault: RecipeFault| Err(RecipeError::new(field, fault));
        if !matches!(self.rest, Role::Fill | Role::KeepSolid) {
            return refuse("zones.rest", RecipeFault::RoleOfRest);
        }
        if self.list.len() > MOST || self.skins.len() > MOST {
            return refuse("zones.list", RecipeFault::TooManyZones(MOST));
        }
        distinct(self.list.iter().map(|z| z.id), "zones.list", "zones")?;
        distinct(self.skins.iter().map(|s| s.id), "zones.skins", "skins")?;
        for (i, z) in self.list.iter().enumerate() {
            let field = format!("zones.list.{i}");
            if z.role == Role::Alongside {
                return refuse(&field, RecipeFault::ZoneAlongside(z.name.clone()));
            }
            check(
                &field,
                "The length of a zone's name",
                "",
                z.name.chars().count() as f64,
                0.0,
                LONGEST_NAME,
            )?;
            let called = |what: &str| format!("{what} of “{}”", z.name);
            let place = |v: [f64; 3]| {
                v.iter().try_for_each(|v| {
                    check(&field, &called("A place"), "mm", *v, -FARTHEST, FARTHEST)
                })
            };
            let radius =
                |v: f64| check(&field, &called("The radius"), "mm", v, 1e-3, 10.0 * longest);
            match &z.place {
                Place::Cylinder { base_mm, axis_mm, radius_mm } => {
                    place(*base_mm)?;
                    radius(*radius_mm)?;
                    let length = axis_mm.iter().map(|v| v * v).sum::<f64>().sqrt();
                    check(&field, &called("The length"), "mm", length, 1e-3, 100.0 * longest)?;
                }
                Place::Box { centre_mm, size_mm, rotation_deg } => {
                    place(*centre_mm)?;
                    for v in size_mm {
                        check(&field, &called("A side"), "mm", *v, 1e-3, 100.0 * longest)?;
                    }
                    for v in rotation_deg {
                        check(&field, &called("The rotation"), "°", *v, -360.0, 360.0)?;
                    }
                }
                Place::Sphere { centre_mm, radius_mm } => {
                    place(*centre_mm)?;
                    radius(*radius_mm)?;
                }
                Place::Faces { faces, depth_mm } => {
                    check(&field, &called("The depth"), "mm", *depth_mm, 1e-4 * longest, longest)?;
                    marks(faces, &field, &z.name)?;
                }
            }
            if let Some(own) = z.own.as_deref() {
                let of_zone = |e: RecipeError| {
                    let (name, fault) = (z.name.clone(), Box::new(e.fault));
                    RecipeError::new(
                        format!("{field}.own.{}", e.field),
                        RecipeFault::InZone { name, fault },
                    )
                };
                own.filling().validate(part).map_err(of_zone)?;
                check(
                    &field,
                    &called("The width of the border"),
                    "mm",
                    own.blend_mm,
                    0.0,
                    longest,
                )?;
            }
        }
        for (i, s) in self.skins.iter().enumerate() {
            let field = format!("zones.skins.{i}");
            check(
                &field,
                "The length of a skin's name",
                "",
                s.name.chars().count() as f64,
                0.0,
                LONGEST_NAME,
            )?;
            check(
                &field,
                &format!("The depth of “{}”", s.name),
                "mm",
                s.depth_mm,
                1e-4 * longest,
                longest,
            )?;
            marks(s.faces.as_deref().unwrap_or_default(), &field, &s.name)?;
        }
        Ok(())
    }
}

/// Refuses numbers of which two are the same.
pub(super) fn distinct(
    ids: impl Iterator<Item = u32>,
    field: &str,
    what: &'static str,
) -> Result<(), RecipeError> {
    let mut seen = BTreeSet::new();
    let Some(twice) = ids.into_iter().find(|id| !seen.insert(*id)) else { return Ok(()) };
    Err(RecipeError::new(field, RecipeFault::SameNumber { what, number: twice }))
}

pub(super) fn marks(faces: &[FaceMark], field: &str, name: &str) -> Result<(), RecipeError> {
    let called = |what: &str| format!("{what} of a face of “{name}”");
    check(
        field,
        &format!("The number of faces of “{name}”"),
        "",
        faces.len() as f64,
        0.0,
        MOST_FACES,
    )?;
    for f in faces {
        for v in f.place_mm {
            check(field, &called("A place"), "mm", v, -FARTHEST, FARTHEST)?;
        }
        // Means of normals are shorter than one, and written with few digits.
        let length = f.direction.iter().map(|v| v * v).sum::<f64>().sqrt();
        check(field, &called("The length of the direction"), "", length, 0.0, 1.001)?;
        check(field, &called("The area"), "mm²", f.area_mm2, 0.0, FARTHEST * FARTHEST)?;
    }
    Ok(())
}
