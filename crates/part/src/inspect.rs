//! What a file holds, before its unit is known.

use crate::bodies::named;
use crate::part::{Part, SIZES};
use crate::sheet::shell_of;
use crate::PartError;
use serde::{Deserialize, Serialize};
use ulmix_formats::{Beam, Limits};
use ulmix_recipe::{PartStep, Unit};
use utoipa::ToSchema;

/// A file's contents before it becomes a part.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Inspection {
    /// Name of the format.
    pub format: String,
    /// The format states its unit: there is one choice.
    pub unit_stated: bool,
    /// What the part would be in each unit.
    pub choices: Vec<UnitChoice>,
    /// Triangles that the file holds.
    pub triangles: usize,
    /// Bodies that the file holds.
    pub bodies: usize,
    /// Beams of a lattice.
    pub struts: usize,
    /// Is every body without a gap?
    pub closed: bool,
    /// Is the body a sheet, which is given thickness?
    pub sheet: bool,
    /// What is not right, as sentences.
    pub defects: Vec<String>,
}

/// What the part would be in a unit.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UnitChoice {
    /// The unit meant.
    pub unit: Unit,
    /// Size of the part in it.
    pub size_mm: [f64; 3],
    /// The longest side beside a thing that everybody knows.
    pub words: String,
    /// Volume of the part in it.
    pub volume_mm3: f64,
    /// The size is one that can be worked on.
    pub usable: bool,
    /// Why hardly anybody would print a part of this size.
    pub unlikely: Option<String>,
}

/// A file as it was inspected: what is told of it, and the part that it is in one of its units.
pub struct Inspected {
    /// What a person is told.
    pub told: Inspection,
    /// The first step of a recipe for it.
    pub step: PartStep,
    /// The part in one of the units.
    pub part: Part,
    /// Beams of a lattice that the file holds.
    pub beams: Vec<Beam>,
    /// Do the beams stand beside a solid, which is the part without them?
    pub beams_fill: bool,
}

/// Reads a file and tells what it would be in each unit.
///
/// # Errors
/// A file that no part can be made of within the limits, and work that was stopped.
pub fn inspect(bytes: &[u8], limits: &Limits) -> Result<Inspected, PartError> {
    let loaded = ulmix_formats::read(bytes, limits)?;
    let stated = loaded.millimetres_per_unit.is_some();
    let longest = loaded.mesh.bounds().size().max_element();
    let fits = |u: &Unit| SIZES.contains(&(longest * u.millimetres()));
    // Any unit that gives a workable size will do: facts scale.
    let unit = if stated { Unit::Mm } else { Unit::ALL.into_iter().find(fits).unwrap_or(Unit::Mm) };
    let scale = unit.millimetres();
    let bodies = named(&loaded, scale, "Part");
    let shell = shell_of(&bodies)?;
    let step = PartStep { shell, ..PartStep::plain(unit) };
    let part = Part::assemble(bodies, &step, limits.stopped)?;
    let facts = part.facts.clone();
    let units = if stated { &[Unit::Mm][..] } else { &Unit::ALL[..] };
    let choices = units.iter().map(|&unit| {
        let by = unit.millimetres() / scale;
        let longest = longest * unit.millimetres();
        UnitChoice {
            unit,
            size_mm: facts.size_mm.map(|v| v * by),
            words: in_words(longest),
            volume_mm3: facts.volume_mm3 * by.powi(3),
            usable: SIZES.contains(&longest),
            unlikely: unlikely(longest),
        }
    });
    let told = Inspection {
        struts: loaded.beams.len(),
        format: loaded.format.into(),
        unit_stated: stated,
        choices: choices.collect(),
        triangles: facts.triangles,
        bodies: facts.list.len(),
        closed: facts.closed,
        sheet: shell.is_some(),
        defects: facts.defects,
    };
    Ok(Inspected { told, step, part, beams_fill: loaded.beams_fill(), beams: loaded.beams })
}

/// Lengths of things, by the longest part that is about as long. mm.
const THINGS: [(f64, &str); 14] = [
    (0.2, "as a hair is thick"),
    (0.8, "as a grain of sand"),
    (3.5, "as a pinhead is wide"),
    (9.0, "as a grain of rice"),
    (20.0, "as a fingernail"),
    (45.0, "as a paper clip"),
    (100.0, "as a finger"),
    (220.0, "as a hand"),
    (400.0, "as a forearm"),
    (800.0, "as an arm"),
    (1400.0, "as a bicycle is high"),
    (2500.0, "as a person is tall"),
    (7000.0, "as a car"),
    (20_000.0, "as a bus"),
];

fn in_words(longest: f64) -> String {
    let thing = THINGS.iter().find(|t| longest < t.0);
    thing.map_or("longer than a bus".into(), |t| format!("about as long {}", t.1))
}

fn unlikely(longest: f64) -> Option<String> {
    const PRINTED: std::ops::RangeInclusive<f64> = 10.0..=1000.0;
    let small = longest < *PRINTED.start();
    (!PRINTED.contains(&longest)).then(|| {
        format!(
            "Few printers make a part this {}. Is the unit right?",
            if small { "small" } else { "large" }
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_formats::stl;
    use ulmix_mesh::TriMesh;

    #[test]
    fn each_unit_tells_its_size_in_words_and_doubts_what_nobody_prints() {
        let file = stl::write(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(180.0, 60.0, 40.0)));
        let found = inspect(&file, &Limits::default()).unwrap().told;
        let told: Vec<_> =
            found.choices.iter().map(|c| (c.words.as_str(), c.unlikely.is_some())).collect();
        assert_eq!(
            told,
            [
                ("about as long as a hand", false),
                ("about as long as a car", true),
                ("about as long as a person is tall", true),
                ("longer than a bus", true)
            ]
        );
        assert!(found.choices.iter().map(|c| c.size_mm[0]).eq([180.0, 4572.0, 1800.0, 180_000.0]));
        assert_eq!(
            found.choices.iter().map(|c| c.usable).collect::<Vec<_>>(),
            [true, true, true, false]
        );
        // A part of four inches: in millimetres hardly anybody would print it, and inches come
        // next.
        let file = stl::write(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(4.0, 2.5, 1.0)));
        let found = inspect(&file, &Limits::default()).unwrap().told;
        let plausible =
            found.choices.iter().find(|c| c.usable && c.unlikely.is_none()).map(|c| c.unit);
        assert!(
            plausible == Some(Unit::Inch)
                && found.choices[0].unlikely.as_ref().is_some_and(|u| u.contains("small"))
        );
        assert!(THINGS.windows(2).all(|t| t[0].0 < t[1].0));
    }
}
