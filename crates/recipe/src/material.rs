//! What the result is made of.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the result is made of.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Material {
    /// Name of the material.
    pub name: String,
    /// g/cm³.
    pub density: f64,
}

impl Material {
    /// The known one of this name.
    pub fn known(&self) -> Option<&'static KnownMaterial> {
        MATERIALS.iter().find(|m| m.name == self.name)
    }

    /// Walls below this seldom print; of a material that is not known, as of the first that is. mm.
    pub fn least_mm(&self) -> f64 {
        self.known().unwrap_or(&MATERIALS[0]).least_mm
    }
}

/// A print material to choose.
pub struct KnownMaterial {
    /// Name of the material.
    pub name: &'static str,
    /// Typical. g/cm³.
    pub density: f64,
    /// Walls and struts below this thickness seldom print by the process that is common for it: a
    /// powder bed of polymer, a filament of 0.4 mm, a powder bed of metal. mm.
    pub least_mm: f64,
}

const fn known(name: &'static str, density: f64, least_mm: f64) -> KnownMaterial {
    KnownMaterial { name, density, least_mm }
}

/// Common print materials.
pub const MATERIALS: [KnownMaterial; 8] = [
    known("PA12", 1.01, 0.6),
    known("PA11", 1.03, 0.6),
    known("PLA", 1.24, 0.8),
    known("PETG", 1.27, 0.8),
    known("TPU", 1.2, 0.8),
    known("AlSi10Mg", 2.67, 0.4),
    known("Ti-6Al-4V", 4.43, 0.3),
    known("Steel 316L", 7.95, 0.3),
];
