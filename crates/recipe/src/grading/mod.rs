//! Values that change from place to place.
//!
//! A grading leads one value of a filling. Each of its sources gives a number at every place of the
//! part; a curve makes a value of that number; a rule makes one value of those of all sources.

mod curve;
mod led;
mod placed;
mod rule;
mod source;
mod table;
mod table_fault;

pub use curve::ValueCurve;
pub use placed::{PlacedGrading, PlacedSource};
pub use rule::SourceRule;
pub use source::{Source, ValuePoint};
pub use table::{FoundTable, ValueTable};
pub use table_fault::TableFault;

use super::zones::distinct;
use super::{check, Filling, RecipeError, RecipeFault, Thicken};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// A value that changes from place to place.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Grading {
    /// Number of the grading, which no other grading of the recipe has.
    pub id: u32,
    /// Name of the grading; others may have the same.
    pub name: String,
    /// The value that the grading leads.
    pub of: GradedValue,
    /// What the values of the grading's curves and points are.
    #[serde(default)]
    #[schema(required = true)]
    pub given: Given,
    /// How the values of several sources become one.
    #[serde(default)]
    #[schema(required = true)]
    pub rule: SourceRule,
    /// Members that come out thinner end; 0 for none. mm.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub ends_mm: f64,
    /// Where the value comes from. Without a source nothing is graded.
    pub sources: Vec<GradingSource>,
}

/// The value that a grading leads.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "snake_case")]
pub enum GradedValue {
    /// Size of the cells.
    CellSize,
    /// Thickness of walls and struts.
    Thickness,
    /// Relative density, which thickness follows.
    Density,
}

impl GradedValue {
    /// What the value is called within a sentence.
    pub fn name(self) -> &'static str {
        match self {
            GradedValue::CellSize => "cell size",
            GradedValue::Thickness => "thickness",
            GradedValue::Density => "relative density",
        }
    }
}

/// What the values of a grading are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Given {
    /// The value itself: mm, or percent of a relative density.
    #[default]
    Value,
    /// A share of the value that the value's own step sets. Percent.
    Percent,
    /// What is added to the value that the value's own step sets. mm.
    Added,
}

/// A source of a grading with what is made of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GradingSource {
    /// What gives a number at every place.
    pub from: Source,
    /// The value by that number; absent where the source's numbers are the values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub curve: Option<ValueCurve>,
    /// Weight of the value among those of other sources.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub weight: f64,
}

fn one() -> f64 {
    1.0
}

fn is_zero(v: &f64) -> bool {
    *v == 0.0
}

fn is_one(weight: &f64) -> bool {
    *weight == 1.0
}

/// Gradings that a filling may have.
const MOST: usize = 32;
/// Sources that a grading may have.
const MOST_SOURCES: usize = 16;
/// How many times as large as its smallest cells a structure's largest may be.
const MOST_UNEQUAL: f64 = 50.0;
/// Characters of a name.
const LONGEST_NAME: f64 = 200.0;

impl GradingSource {
    /// A source whose numbers become values along a curve.
    pub fn new(from: Source, curve: ValueCurve) -> GradingSource {
        GradingSource { from, curve: Some(curve), weight: 1.0 }
    }
}

impl Given {
    /// The value in mm where a grading gives `value` and the value's own step sets `set` mm.
    pub fn applied(self, value: f64, set: f64) -> f64 {
        match self {
            Given::Value => value,
            Given::Percent => set * value / 100.0,
            Given::Added => set + value,
        }
    }
}

impl Grading {
    /// A grading by its sources, of values that are given in mm.
    pub fn new(id: u32, of: GradedValue, sources: Vec<GradingSource>) -> Grading {
        Grading {
            id,
            name: String::new(),
            of,
            given: Given::default(),
            rule: SourceRule::default(),
            ends_mm: 0.0,
            sources,
        }
    }

    /// A value at some sources that passes into another one over a distance in mm, without corners;
    /// where sources meet, the one that differs most from far away holds.
    pub fn fading(
        of: GradedValue,
        given: Given,
        from: impl IntoIterator<Item = Source>,
        [near, far]: [f64; 2],
        reach_mm: f64,
    ) -> Grading {
        let curve = ValueCurve::smooth([0.0, near], [reach_mm, far]);
        let sources = from.into_iter().map(|from| GradingSource::new(from, curve.clone()));
        let rule = if near < far { SourceRule::Least } else { SourceRule::Greatest };
        Grading { given, rule, ..Grading::new(1, of, sources.collect()) }
    }

    /// Unit of the values.
    pub fn unit(&self) -> &'static str {
        match (self.of, self.given) {
            (GradedValue::Density, _) | (_, Given::Percent) => "%",
            _ => "mm",
        }
    }

    /// Does the grading change anything?
    pub fn is_active(&self) -> bool {
        !self.sources.is_empty()
    }

    /// Numbers of the gradings that this one follows.
    fn followed(&self) -> impl Iterator<Item = u32> + '_ {
        self.sources.iter().filter_map(|s| match s.from {
            Source::Grading { id } => Some(id),
            _ => None,
        })
    }

    /// The values that the curves and points of the grading name.
    pub fn values(&self) -> impl Iterator<Item = f64> + '_ {
        self.sources.iter().flat_map(|s| {
            let of_curve = s.curve.iter().flat_map(|c| c.points.iter().map(|p| p[1]));
            let of_points = s.from.points().iter().map(|p| p.value);
            of_curve.chain(of_points.filter(|_| s.curve.is_none()))
        })
    }

    /// `cell`: size of the filling's cells, in mm.
    fn validate(&self, field: &str, cell: f64, part: &Bounds) -> Result<(), RecipeError> {
        let length = self.name.chars().count() as f64;
        check(field, "The length of a grading's name", "", length, 0.0, LONGEST_NAME)?;
        if self.sources.len() > MOST_SOURCES {
            return Err(RecipeError::new(field, RecipeFault::TooManySources(MOST_SOURCES)));
        }
        for (n, source) in self.sources.iter().enumerate() {
            let field = format!("{field}.sources.{n}");
            source.from.validate(&field, part)?;
            check(&field, "The weight of a source", "", source.weight, 1e-3, 1e3)?;
            match &source.curve {
                Some(curve) => curve.validate(&field)?,
                None if source.from.holds_values() => (),
                None => return Err(RecipeError::new(field, RecipeFault::NoCurve)),
            }
        }
        let what = "The thickness below which members end";
        check(field, what, "mm", self.ends_mm, 0.0, cell)?;
        let ([least, most], unit) = (self.range(cell, part), self.unit());
        self.values()
            .try_for_each(|v| check(field, "A value of the grading", unit, v, least, most))?;
        self.own_fault(cell).map_or(Ok(()), |fault| Err(RecipeError::new(field, fault)))
    }

    /// What is wrong with what the grading leads, by itself.
    fn own_fault(&self, cell: f64) -> Option<RecipeFault> {
        match self.of {
            GradedValue::CellSize => {
                let sizes = || self.values().map(|v| self.given.applied(v, cell));
                let (least, most) =
                    (sizes().fold(f64::INFINITY, f64::min), sizes().fold(0.0, f64::max));
                let apart = most > MOST_UNEQUAL * least;
                apart.then_some(RecipeFault::CellsTooUnequal { least, most })
            }
            GradedValue::Thickness => None,
            GradedValue::Density => {
                (self.given != Given::Value).then_some(RecipeFault::DensityOfDensity)
            }
        }
    }

    /// Values that make sense.
    fn range(&self, cell: f64, part: &Bounds) -> [f64; 2] {
        let longest = part.size().max_element();
        match (self.of, self.given) {
            (GradedValue::CellSize, Given::Value) => [longest / 200.0, 4.0 * longest],
            (GradedValue::CellSize, Given::Percent) => [2.0, 2000.0],
            (GradedValue::CellSize, Given::Added) => [-0.95 * cell, 4.0 * longest],
            // Down to nothing.
            (GradedValue::Thickness, Given::Value) => [0.0, 4.0 * cell],
            (GradedValue::Thickness, Given::Percent) => [0.0, 1000.0],
            (GradedValue::Thickness, Given::Added) => [-cell, 4.0 * cell],
            (GradedValue::Density, _) => [0.0, 95.0],
        }
    }
}

/// Refuses gradings of a filling that cannot be used.
pub(super) fn validate(filling: &Filling, part: &Bounds) -> Result<(), RecipeError> {
    let (all, cell) = (filling.gradings, filling.structure.smallest());
    if all.len() > MOST {
        return Err(RecipeError::new("gradings", RecipeFault::TooManyGradings(MOST)));
    }
    distinct(all.iter().map(|g| g.id), "gradings", "gradings")?;
    for (n, grading) in all.iter().enumerate() {
        let field = format!("gradings.{n}");
        let refuse = |fault| Err(RecipeError::new(field.clone(), fault));
        grading.validate(&field, cell, part)?;
        let is_rival = |g: &Grading| g.is_active() && g.of == grading.of;
        if grading.is_active() && all[..n].iter().any(is_rival) {
            return refuse(RecipeFault::GradedTwice(grading.of));
        }
        if let Some(fault) = fault_of_followed(grading, all) {
            return refuse(fault);
        }
        let is_other = |g: &Grading| g.is_active() && g.of == GradedValue::Thickness;
        if grading.of == GradedValue::Density && grading.is_active() && all.iter().any(is_other) {
            return refuse(RecipeFault::DensityAndThicknessGraded);
        }
        let in_mm = grading.of == GradedValue::Thickness && grading.given == Given::Value;
        let of_density = matches!(filling.thicken, Thicken::RelativeDensity { .. });
        if grading.is_active() && in_mm && of_density {
            return refuse(RecipeFault::DensityAndThickness);
        }
    }
    Ok(())
}

/// What is wrong with what a grading follows: itself, through others or at once, or nothing.
fn fault_of_followed(grading: &Grading, all: &[Grading]) -> Option<RecipeFault> {
    let mut open: Vec<u32> = grading.followed().collect();
    let mut seen = Vec::new();
    while let Some(id) = open.pop() {
        if id == grading.id {
            return Some(RecipeFault::FollowsItself(grading.name.clone()));
        }
        let Some(next) = all.iter().find(|g| g.id == id) else {
            return Some(RecipeFault::FollowsNone(grading.name.clone()));
        };
        if !seen.contains(&id) {
            seen.push(id);
            open.extend(next.followed());
        }
    }
    None
}

#[cfg(test)]
mod tests;
