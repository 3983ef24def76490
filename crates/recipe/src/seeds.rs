//! Seed points that own cells: how many, where they lie, and how they are spread.

use super::{check, OwnPoints, RecipeError};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// How seed points are spread.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Spread {
    /// Each well away from its neighbours.
    #[default]
    Even,
    /// As chance has it.
    Loose,
}

/// Where seed points lie.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Layout {
    /// Inside the part.
    #[default]
    Inside,
    /// On its surface.
    Surface,
    /// On its surface, and inside away from those.
    Both,
}

/// Points that own cells.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Seeds {
    /// Given one by one, in place of scattered ones.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnPoints>,
    /// Points inside the part; absent: as many as cells of the cell size fill it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub count: Option<u32>,
    /// Where the points lie.
    #[schema(required = true)]
    pub layout: Layout,
    /// Points on the surface, where some lie there; absent: as many as sides of the cell size cover
    /// it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub surface_count: Option<u32>,
    /// Points on the surface lie evenly as they are seen along the structure's z, not by the area
    /// of the surface: steep faces hold few.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub from_above: bool,
    /// The integer that repeats an arrangement.
    #[schema(required = true)]
    pub random: u32,
    /// How they are spread.
    #[schema(required = true)]
    pub spread: Spread,
    /// Rounds in which every point moves to the middle of its cell.
    #[schema(required = true)]
    pub rounds: u32,
    /// Loose points keep this distance from each other, in cells, and may then be fewer; 0: as
    /// chance has it.
    #[schema(required = true)]
    pub apart: f64,
}

impl Default for Seeds {
    fn default() -> Self {
        Seeds {
            own: None,
            count: None,
            layout: Layout::Inside,
            surface_count: None,
            from_above: false,
            random: 1,
            spread: Spread::Even,
            rounds: 4,
            apart: 0.0,
        }
    }
}

/// Most rounds of relaxing; they end before when nothing moves.
const MOST_ROUNDS: u32 = 2000;

/// Most seed points of a structure.
pub const MOST_SEEDS: u32 = 500_000;

impl Seeds {
    pub(super) fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        self.own.as_ref().map_or(Ok(()), |own| own.validate(part))?;
        if let Some(count) = self.count {
            check(
                "structure.pattern.seeds.count",
                "The number of seed points",
                "",
                count as f64,
                1.0,
                MOST_SEEDS as f64,
            )?;
        }
        if let Some(count) = self.surface_count {
            check(
                "structure.pattern.seeds.surface_count",
                "The number of points on the surface",
                "",
                count as f64,
                1.0,
                MOST_SEEDS as f64,
            )?;
        }
        check(
            "structure.pattern.seeds.rounds",
            "The number of rounds",
            "",
            self.rounds as f64,
            0.0,
            MOST_ROUNDS as f64,
        )?;
        check(
            "structure.pattern.seeds.apart",
            "The distance that points keep, in cells,",
            "",
            self.apart,
            0.0,
            0.7,
        )
    }

    /// Seeds as points in the plane: none lie on the surface.
    pub fn in_plane(self) -> Seeds {
        Seeds { layout: Layout::Inside, surface_count: None, from_above: false, ..self }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    fn cube(side: f64) -> Bounds {
        Bounds { min: DVec3::ZERO, max: DVec3::splat(side) }
    }

    #[test]
    fn bounds_of_seeds_hold_on_both_sides_and_name_their_field() {
        let field = |change: &dyn Fn(&mut Seeds)| {
            let mut s = Seeds::default();
            change(&mut s);
            s.validate(&cube(100.0))
                .err()
                .map(|e| e.field.trim_start_matches("structure.pattern.seeds.").to_owned())
        };
        assert_eq!(field(&|_| ()), None);
        type Change = Box<dyn Fn(&mut Seeds)>;
        let cases: [(&str, Change, Change); 5] = [
            (
                "count",
                Box::new(|s| s.count = Some(MOST_SEEDS)),
                Box::new(|s| s.count = Some(MOST_SEEDS + 1)),
            ),
            ("count", Box::new(|s| s.count = Some(1)), Box::new(|s| s.count = Some(0))),
            (
                "surface_count",
                Box::new(|s| s.surface_count = Some(1)),
                Box::new(|s| s.surface_count = Some(0)),
            ),
            (
                "rounds",
                Box::new(|s| s.rounds = MOST_ROUNDS),
                Box::new(|s| s.rounds = MOST_ROUNDS + 1),
            ),
            ("apart", Box::new(|s| s.apart = 0.7), Box::new(|s| s.apart = 0.71)),
        ];
        for (name, holds, past) in &cases {
            assert_eq!(field(holds), None, "{name}");
            assert_eq!(field(past).as_deref(), Some(*name));
        }
    }
}
