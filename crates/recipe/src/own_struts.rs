//! Struts that come from a file.

use super::zones::FARTHEST;
use super::{check, OwnStrutsPattern, Pattern, Recipe, RecipeError, RecipeFault, Thicken};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use ulmix_field::numeric::median;
use ulmix_formats::{Beam, Limits};
use utoipa::ToSchema;

/// Most struts of a file.
pub const MOST: usize = 100_000;

/// Nodes and the struts between them, where they are given one by one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnStruts {
    /// Of the file they came from.
    pub name: String,
    /// In the part's axes.
    pub nodes_mm: Vec<[f64; 3]>,
    /// Numbers of the nodes at both ends.
    pub struts: Vec<[u32; 2]>,
}

const FIELD: &str = "structure.pattern.own";

fn refuse(fault: RecipeFault) -> RecipeError {
    RecipeError::new(FIELD, fault)
}

/// What a file's beams are as struts.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct FoundStruts {
    /// The struts as a recipe holds them.
    pub own: OwnStruts,
    /// Median of their lengths. mm.
    pub cell_mm: f64,
    /// Median of their diameters, and no more than that. mm.
    pub thickness_mm: f64,
}

impl FoundStruts {
    /// Fills a recipe's part, whose longest side is given, with them.
    pub fn fill(self, recipe: &mut Recipe, longest: f64) {
        let cell = self.cell_mm.clamp(longest / 100.0, longest);
        recipe.structure.cell_mm = [cell; 3];
        let clean = recipe.structure.clean().copied().unwrap_or_default();
        recipe.structure.pattern = Pattern::OwnStruts(OwnStrutsPattern { own: self.own, clean });
        recipe.thicken =
            Thicken::Thickness { thickness_mm: self.thickness_mm.clamp(longest / 2000.0, cell) };
    }
}

impl OwnStruts {
    /// The beams of a file; `None` for no beams.
    ///
    /// # Errors
    /// Struts of which there are too many.
    pub fn of(name: &str, beams: &[Beam]) -> Result<Option<FoundStruts>, RecipeError> {
        if beams.len() > MOST {
            return Err(refuse(RecipeFault::TooManyBeams { name: name.into(), most: MOST }));
        }
        let (mut number, mut nodes_mm) = (HashMap::new(), Vec::new());
        let mut node = |p: DVec3| {
            // Adding 0.0 makes −0.0 and 0.0 one place.
            *number.entry((p + 0.0).to_array().map(f64::to_bits)).or_insert_with(|| {
                nodes_mm.push(p.to_array());
                nodes_mm.len() as u32 - 1
            })
        };
        let struts: Vec<[u32; 2]> =
            beams.iter().map(|b| b.ends.map(&mut node)).filter(|[a, b]| a != b).collect();
        if struts.is_empty() {
            return Ok(None);
        }
        let middle =
            |of: &dyn Fn(&Beam) -> f64| median(beams.iter().map(of).collect()).unwrap_or(0.0);
        let cell_mm = middle(&|b| b.ends[0].distance(b.ends[1]));
        let thickness_mm = middle(&|b| b.radii[0] + b.radii[1]).min(cell_mm);
        Ok(Some(FoundStruts {
            own: OwnStruts { name: name.into(), nodes_mm, struts },
            cell_mm,
            thickness_mm,
        }))
    }

    /// Struts of a 3MF file with a beam lattice.
    ///
    /// # Errors
    /// A file that is no 3MF file, or that holds no beams.
    pub fn read(name: &str, bytes: &[u8], limits: &Limits) -> Result<FoundStruts, RecipeError> {
        let file = ulmix_formats::read(bytes, limits)
            .map_err(|error| refuse(RecipeFault::File { name: name.into(), error }))?;
        let found = OwnStruts::of(name, &file.beams)?;
        found.ok_or_else(|| refuse(RecipeFault::NoStruts(name.into())))
    }

    pub(super) fn validate(&self) -> Result<(), RecipeError> {
        check(FIELD, "The number of own struts", "", self.struts.len() as f64, 1.0, MOST as f64)?;
        check(
            FIELD,
            "The number of their nodes",
            "",
            self.nodes_mm.len() as f64,
            2.0,
            2.0 * MOST as f64,
        )?;
        self.nodes_mm
            .iter()
            .flatten()
            .try_for_each(|v| check(FIELD, "A node's place", "mm", *v, -FARTHEST, FARTHEST))?;
        match self
            .struts
            .iter()
            .position(|s| s.iter().any(|n| *n as usize >= self.nodes_mm.len()) || s[0] == s[1])
        {
            Some(n) => Err(refuse(RecipeFault::NodeMissing(n + 1))),
            None => Ok(()),
        }
    }
}
