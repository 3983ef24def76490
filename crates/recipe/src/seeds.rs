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
    /// Cells are smaller near some places.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub finer: Option<Finer>,
}

/// Where cells are smaller: around the zones that ask for it, and along the surface if wanted. With
/// a count of points cells elsewhere become larger; without one there are more points.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Finer {
    /// Size there over the cell size.
    pub share: f64,
    /// Distance over which they grow to the cell size. mm.
    pub reach_mm: f64,
    /// Also along the part's surface.
    pub surface: bool,
}

/// Smallest [`Finer::share`].
const LEAST_SHARE: f64 = 0.15;

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
            finer: None,
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
        )?;
        self.finer
            .as_ref()
            .map_or(Ok(()), |finer| finer.validate(part, "structure.pattern.seeds.finer"))
    }

    /// Seeds as points in the plane: none lie on the surface, and none closer than elsewhere.
    pub fn in_plane(self) -> Seeds {
        Seeds {
            layout: Layout::Inside,
            surface_count: None,
            from_above: false,
            finer: None,
            ..self
        }
    }
}

impl Finer {
    /// `field`: its path in the recipe.
    pub(super) fn validate(&self, part: &Bounds, field: &str) -> Result<(), RecipeError> {
        let longest = part.size().max_element();
        let share = format!("{field}.share");
        check(&share, "The share of the cell size", "", self.share, LEAST_SHARE, 1.0)?;
        let (what, reach) = ("The distance over which cells grow", format!("{field}.reach_mm"));
        check(&reach, what, "mm", self.reach_mm, longest / 1000.0, 1000.0 * longest)
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
        let finer = |share: f64, reach_mm: f64| Some(Finer { share, reach_mm, surface: true });
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
        assert_eq!(field(&|s| s.finer = finer(LEAST_SHARE, 100_000.0)), None);
        assert_eq!(field(&|s| s.finer = finer(0.1, 10.0)).as_deref(), Some("finer.share"));
        assert_eq!(field(&|s| s.finer = finer(0.5, 0.05)).as_deref(), Some("finer.reach_mm"));
    }
}
