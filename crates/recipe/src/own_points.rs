//! Seed points from a table.

use super::table_rows::rows;
use super::zones::FARTHEST;
use super::{check, RecipeError, RecipeFault};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// Most points of a table.
pub const MOST: usize = 20_000;

/// Points that own cells, where they are given one by one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnPoints {
    /// Of the file they came from.
    pub name: String,
    /// In the part's axes.
    pub points_mm: Vec<[f64; 3]>,
}

/// How far points may lie beside the part, over its longest side.
const FARTHEST_BESIDE: f64 = 10.0;

fn refuse(fault: RecipeFault) -> RecipeError {
    RecipeError::new("structure.pattern.seeds.own", fault)
}

impl OwnPoints {
    /// Three numbers a line, apart by commas, semicolons, tabs or spaces; more columns are passed
    /// over. A first line of names, empty lines and lines from `#` on are, too. Between semicolons
    /// a comma is a decimal one.
    ///
    /// # Errors
    /// A line that is no point, by its number, or too many points.
    pub fn from_csv(name: &str, text: &str) -> Result<OwnPoints, RecipeError> {
        let mut points_mm = Vec::new();
        for row in rows(text) {
            let number = |n: usize| row.number(n).filter(|v| v.abs() <= FARTHEST);
            let found: Vec<f64> = (0..3).map_while(number).collect();
            match found[..] {
                [x, y, z] => points_mm.push([x, y, z]),
                [] if row.first => {}
                _ => {
                    let (name, line, text) = (name.into(), row.line, row.text());
                    return Err(refuse(RecipeFault::NotAPoint { name, line, text }));
                }
            }
            if points_mm.len() > MOST {
                return Err(refuse(RecipeFault::TooManyPoints { name: name.into(), most: MOST }));
            }
        }
        if points_mm.is_empty() {
            return Err(refuse(RecipeFault::NoPoints(name.into())));
        }
        Ok(OwnPoints { name: name.into(), points_mm })
    }

    /// Points may lie beside the part, whose box is `part`, by ten times its length: those farther
    /// off own none of its cells, and what is near a point would have to be looked for very far.
    pub(super) fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        let field = "structure.pattern.seeds.own";
        check(
            field,
            "The number of own points",
            "",
            self.points_mm.len() as f64,
            1.0,
            MOST as f64,
        )?;
        self.points_mm
            .iter()
            .flatten()
            .try_for_each(|v| check(field, "A point's place", "mm", *v, -FARTHEST, FARTHEST))?;
        let most = FARTHEST_BESIDE * part.size().max_element();
        let far = |p: &[f64; 3]| part.distance_squared(DVec3::from(*p)).sqrt();
        match self.points_mm.iter().position(|p| far(p) > most) {
            Some(n) => Err(refuse(RecipeFault::FarPoint {
                name: self.name.clone(),
                number: n + 1,
                away_mm: far(&self.points_mm[n]),
            })),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn tables_of_every_make_are_read_and_others_refused_by_their_line() {
        let want = vec![[1.0, -2.5, 3.0], [4.0, 5.0, 6e1]];
        for text in [
            "1,-2.5,3\n4,5,6e1\n",
            "\u{feff}x;y;z\r\n1;-2,5;3\r\n4;5;60",
            "# made by hand\n\nx y z note\n1 -2.5 3 first\n4\t5\t60\tsecond\n",
            "\"1\",\"-2.5\",\"3\"\n4 , 5 , 60",
        ] {
            assert_eq!(OwnPoints::from_csv("t.csv", text).unwrap().points_mm, want, "{text}");
        }
        for (text, words) in [
            ("1,2,3\n4,5\n", "Line 2"),
            ("x,y,z\na,b,c\n", "Line 2"),
            ("1,2,NaN\n", "Line 1"),
            ("1,2,1e9\n", "Line 1"),
            ("x,y,z\n", "no points"),
            ("", "no points"),
        ] {
            assert!(
                OwnPoints::from_csv("t.csv", text).unwrap_err().message().contains(words),
                "{text}"
            );
        }
        assert!(OwnPoints::from_csv("t.csv", &"1,2,3\n".repeat(MOST + 1))
            .unwrap_err()
            .message()
            .contains("more than"));
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[0-9a-z,;. \t\n\"#eE+-]{0,200}") {
            if let Ok(own) = OwnPoints::from_csv("t.csv", &text) {
                let all = own.points_mm.iter().fold(Bounds::EMPTY, |all, p| all.union(Bounds::of([DVec3::from(*p)])));
                prop_assert!(own.validate(&all).is_ok());
            }
        }
    }
}
