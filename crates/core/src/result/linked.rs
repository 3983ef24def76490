//! What the thicken step leads to.

use serde::{Deserialize, Serialize};
use ulmix_lattice::Facts;
use ulmix_recipe::GradedValue;
use utoipa::ToSchema;

/// A filling with the two linked values of the thicken step, both known, and what they lead to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Filled {
    /// Wall, or strut of a network at its narrowest. mm.
    pub thickness_mm: f64,
    /// Least and greatest thickness in the part's box, where it is graded. mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub thickness_range_mm: Option<[f64; 2]>,
    /// Made of walls, not of struts.
    pub walls: bool,
    /// Predicted solid share of what it fills. Percent.
    pub density_percent: f64,
    /// Size of the cells, where they are smallest: what seed points make of it. mm.
    pub cell_mm: f64,
    /// Free width between neighbouring walls or struts, about. mm.
    pub opening_mm: f64,
    /// Volume that it fills.
    pub fill_volume_mm3: f64,
    /// Surface of the lattice there. mm².
    pub lattice_area_mm2: f64,
    /// Border of what it fills with the outside and with cleared places. mm².
    #[serde(default)]
    #[schema(required = true)]
    pub open_area_mm2: f64,
    /// Border of what it fills with what is solid. mm².
    #[serde(default)]
    #[schema(required = true)]
    pub solid_area_mm2: f64,
    /// See [`ulmix_lattice::density::DensityCurve::bends`].
    #[serde(skip)]
    pub bends: Vec<f64>,
    /// Figures of the skeleton or the cells, of structures that have any.
    pub structure: Option<Facts>,
    /// Struts that join it to others over a sharp border of its zone.
    #[serde(default)]
    #[schema(required = true)]
    pub ties: usize,
}

impl Filled {
    /// Thickness of the thinnest members. mm.
    pub fn thinnest_mm(&self) -> f64 {
        self.thickness_range_mm.map_or(self.thickness_mm, |range| range[0])
    }

    /// The thickness as it is asked for: one value, or from the least to the greatest.
    pub(crate) fn thickness_in_words(&self) -> String {
        match self.thickness_range_mm {
            Some([least, most]) => format!("{least:.2}–{most:.2} mm"),
            None => format!("{:.2} mm", self.thickness_mm),
        }
    }
}

/// What the thicken step leads to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Linked {
    /// The part's filling.
    #[serde(flatten)]
    pub fill: Filled,
    /// By zone of the list, its own filling.
    #[serde(default)]
    #[schema(required = true)]
    pub own: Vec<Option<Filled>>,
    /// Material outside what is filled: kept solids and skins.
    pub solid_volume_mm3: f64,
    /// Border of the kept material with the outside and with cleared places. mm².
    #[serde(default)]
    #[schema(required = true)]
    pub solid_open_area_mm2: f64,
    /// What each zone of the list takes of the part.
    pub zone_mm3: Vec<f64>,
    /// Zones and skins that do not find all their faces.
    pub lost_faces: Vec<LostFaces>,
    /// Sources of gradings that name what the part does not have.
    #[serde(default)]
    #[schema(required = true)]
    pub lost_sources: Vec<LostSource>,
}

impl Linked {
    /// All fillings, in the order of [`ulmix_recipe::Recipe::fillings`].
    pub fn fills(&self) -> impl Iterator<Item = &Filled> {
        std::iter::once(&self.fill).chain(self.own.iter().flatten())
    }

    /// Surface of the result, about. mm².
    pub fn area_mm2(&self) -> f64 {
        let of = |f: &Filled| {
            let density = (f.density_percent / 100.0).clamp(0.0, 1.0);
            f.lattice_area_mm2 + f.open_area_mm2 * density + f.solid_area_mm2 * (1.0 - density)
        };
        self.solid_open_area_mm2 + self.fills().map(of).sum::<f64>()
    }

    /// Volume that is filled.
    pub fn fill_volume_mm3(&self) -> f64 {
        self.fills().map(|f| f.fill_volume_mm3).sum()
    }

    /// Material there.
    pub fn lattice_volume_mm3(&self) -> f64 {
        self.fills().map(|f| f.fill_volume_mm3 * f.density_percent / 100.0).sum()
    }

    /// The filling with the smallest cells.
    pub fn finest(&self) -> &Filled {
        self.fills().min_by(|a, b| a.cell_mm.total_cmp(&b.cell_mm)).expect("there is one at least")
    }
}

/// A source of a grading that names what the part does not have; without it the grading follows its
/// other sources.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LostSource {
    /// Number of the zone whose own filling the grading belongs to; `None` for the part's.
    pub zone: Option<usize>,
    /// Id of the grading.
    pub grading: u32,
    /// What the grading leads.
    pub of: GradedValue,
    /// Number of the source in its list.
    pub source: usize,
    /// Faces that were not found; 0 where it is a zone, body or grading that is not there.
    pub faces: usize,
}

/// Faces that a zone or skin names and the part does not have.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LostFaces {
    /// Name of the zone or skin.
    pub name: String,
    /// Faces that were not found.
    pub faces: usize,
}
