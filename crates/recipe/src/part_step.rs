//! Where the part comes from, and what is mended of it.

use super::{check, round_two, zones, FaceMark, OwnShape, RecipeError, RecipeFault, Role};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Bodies with a role of their own that a part may have.
pub const MOST_WITH_ROLES: usize = 64;
/// Files that may stand beside the part's own.
const MOST_FILES: usize = 16;

/// Where the part comes from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PartStep {
    /// Unit of a file that states none.
    pub unit: Unit,
    /// The part is made from its dimensions, not read from a file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shape: Option<OwnShape>,
    /// The file in place of the one that the project began with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<FileMark>,
    /// Files with more bodies.
    #[serde(default)]
    #[schema(required = true)]
    pub beside: Vec<Beside>,
    /// Roles of bodies by name; a body without one is what the rest of the part is.
    #[serde(default)]
    #[schema(required = true)]
    pub roles: BTreeMap<String, Role>,
    /// What is mended of it.
    #[serde(default)]
    #[schema(required = true)]
    pub mend: Mend,
    /// Open surfaces are sheets that are given thickness; absent: their holes count as covered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<Shell>,
    /// Where neighbouring triangles turn by more, one face ends and another begins. Degrees.
    #[serde(default = "first_crease")]
    #[schema(required = true)]
    pub crease_deg: f64,
    /// Hollows that are bodies of the part.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pockets: Vec<Pocket>,
}

fn first_crease() -> f64 {
    28.0
}

/// A hollow of the part by the faces around it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pocket {
    /// Number of the pocket, which no other pocket of the recipe has.
    pub id: u32,
    /// Name of the body that it becomes.
    pub name: String,
    /// Faces around the hollow.
    pub faces: Vec<FaceMark>,
}

/// What open surfaces become.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Shell {
    /// Thickness of the shell.
    pub thickness_mm: f64,
    /// Share of the thickness on the side that triangles face. Percent.
    pub front_percent: f64,
}

impl Shell {
    /// First values for a sheet with a longest side.
    pub fn for_size(longest: f64) -> Shell {
        Shell { thickness_mm: round_two(longest / 40.0), front_percent: 50.0 }
    }
}

/// What is mended of the part's files. The files stay as they are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Mend {
    /// Holes up to this span are closed; 0 for none. mm.
    #[schema(required = true)]
    pub holes_mm: f64,
    /// Pieces of less than this volume are removed; 0 for none. mm³.
    #[schema(required = true)]
    pub crumbs_mm3: f64,
    /// Pieces that cross themselves are wound anew at this step; 0 for never. mm.
    #[schema(required = true)]
    pub rewrap_mm: f64,
    /// Triangles are made anew with edges of about this length; 0 for never. mm.
    #[schema(required = true)]
    pub even_mm: f64,
    /// Triangles are joined where that moves no point by more; 0 for never. mm.
    #[schema(required = true)]
    pub fewer_mm: f64,
    /// Triangles are joined until there are no more than so many; 0 for never.
    #[schema(required = true)]
    pub fewer_to: u32,
}

impl Mend {
    /// The mending without what moves a sound surface.
    pub fn without_moving(self) -> Mend {
        Mend { rewrap_mm: 0.0, even_mm: 0.0, fewer_mm: 0.0, fewer_to: 0, ..self }
    }

    /// Are triangles made anew, or joined?
    pub fn remakes(&self) -> bool {
        self.even_mm > 0.0 || self.fewer_mm > 0.0 || self.fewer_to > 0
    }

    /// Does it move a surface?
    pub fn moves(&self) -> bool {
        *self != self.without_moving()
    }

    fn validate(&self, longest: f64) -> Result<(), RecipeError> {
        check(
            "part.mend.holes_mm",
            "The span of holes that are closed",
            "mm",
            self.holes_mm,
            0.0,
            10.0 * longest,
        )?;
        if self.rewrap_mm != 0.0 {
            let what = "The step at which crossings are resolved";
            check(
                "part.mend.rewrap_mm",
                what,
                "mm",
                self.rewrap_mm,
                longest / 1000.0,
                longest / 8.0,
            )?;
        }
        if self.even_mm != 0.0 {
            let what = "The length of even triangles' edges";
            check("part.mend.even_mm", what, "mm", self.even_mm, longest / 2000.0, longest)?;
        }
        let what = "The deviation within which triangles are joined";
        check("part.mend.fewer_mm", what, "mm", self.fewer_mm, 0.0, longest / 20.0)?;
        if self.fewer_to != 0 {
            check(
                "part.mend.fewer_to",
                "The number of triangles",
                "",
                self.fewer_to as f64,
                20.0,
                1e7,
            )?;
        }
        let what = "The volume of pieces that are removed";
        check("part.mend.crumbs_mm3", what, "mm³", self.crumbs_mm3, 0.0, longest.powi(3))
    }
}

impl PartStep {
    /// The file that the project began with, alone.
    pub fn plain(unit: Unit) -> PartStep {
        PartStep {
            unit,
            shape: None,
            file: None,
            beside: Vec::new(),
            roles: BTreeMap::new(),
            mend: Mend::default(),
            shell: None,
            crease_deg: first_crease(),
            pockets: Vec::new(),
        }
    }

    /// Refuses values that no part could use. `longest` is the part's longest side, in mm.
    ///
    /// # Errors
    /// The first value that is out of its range.
    pub fn validate(&self, longest: f64) -> Result<(), RecipeError> {
        if self.beside.len() > MOST_FILES {
            return Err(RecipeError::new("part.beside", RecipeFault::TooManyFiles(MOST_FILES)));
        }
        self.mend.validate(longest)?;
        check("part.crease_deg", "The angle at which faces end", "°", self.crease_deg, 1.0, 120.0)?;
        if let Some(shell) = &self.shell {
            check(
                "part.shell.thickness_mm",
                "The shell's thickness",
                "mm",
                shell.thickness_mm,
                longest / 5000.0,
                longest / 4.0,
            )?;
            check(
                "part.shell.front_percent",
                "The share in front",
                "%",
                shell.front_percent,
                0.0,
                100.0,
            )?;
        }
        if self.pockets.len() > MOST_WITH_ROLES {
            return Err(RecipeError::new(
                "part.pockets",
                RecipeFault::TooManyPockets(MOST_WITH_ROLES),
            ));
        }
        zones::distinct(self.pockets.iter().map(|p| p.id), "part.pockets", "pockets")?;
        self.pockets.iter().try_for_each(|p| zones::marks(&p.faces, "part.pockets", &p.name))?;
        if self.roles.len() > MOST_WITH_ROLES {
            return Err(RecipeError::new("part.roles", RecipeFault::TooManyRoles(MOST_WITH_ROLES)));
        }
        Ok(())
    }
}

/// A file by its contents.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileMark {
    /// Name that the file had.
    pub name: String,
    /// SHA-256 of its bytes, in hexadecimal.
    pub sha256: String,
}

/// A file beside the part's own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Beside {
    /// The file.
    pub file: FileMark,
    /// Unit, when the file states none.
    pub unit: Unit,
}

/// Units a file without its own may be in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    /// Millimetres.
    Mm,
    /// Centimetres.
    Cm,
    /// Metres.
    M,
    /// Inches.
    Inch,
}

impl Unit {
    /// In the order in which they are likely for a file that states none.
    pub const ALL: [Unit; 4] = [Unit::Mm, Unit::Inch, Unit::Cm, Unit::M];

    /// Millimetres of one of it.
    pub fn millimetres(self) -> f64 {
        match self {
            Unit::Mm => 1.0,
            Unit::Cm => 10.0,
            Unit::M => 1000.0,
            Unit::Inch => 25.4,
        }
    }
}
