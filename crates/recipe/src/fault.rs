//! What can be wrong with a value of a recipe, with the words for a person in one place.

use crate::grading::TableFault;
use crate::GradedValue;
use thiserror::Error;
use ulmix_formats::FormatError;

/// What is wrong with a value. Displayed, it is a sentence; [`RecipeFault::hint`] is what to do.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum RecipeFault {
    /// A number outside its range.
    #[error("{what} is {}{}.", plain(*.value), in_unit(.unit))]
    OutOfRange {
        /// What the number is, as a sentence begins.
        what: String,
        /// Unit of the number; empty for none.
        unit: &'static str,
        /// The number.
        value: f64,
        /// Ends of the range.
        range: [f64; 2],
    },
    /// Text that is no JSON, by what the parser says.
    #[error("The recipe is not valid JSON: {0}.")]
    NotJson(String),
    /// JSON that is no recipe of this version, by what the parser says.
    #[error("The recipe cannot be read: {0}.")]
    Unreadable(String),
    /// JSON that states no version.
    #[error("The file is not an Ulmix recipe.")]
    NotARecipe,
    /// A version that is not read.
    #[error("The recipe has version {found}; this program reads version {read}.")]
    OtherVersion {
        /// Version of the recipe.
        found: u64,
        /// Version that is read.
        read: u32,
    },
    /// A structure of version 2 that cannot be brought up, by what the parser says.
    #[error("The structure of a recipe of version 2 cannot be read: {0}.")]
    OldStructure(String),
    /// A structure of version 2 whose file is not in the recipe.
    #[error("The structure comes from a file that the recipe does not hold.")]
    WithoutFile,
    /// A name that no card could show.
    #[error("The name is longer than {0} characters.")]
    LongName(usize),
    /// Patterns beside the structures.
    #[error("More than {0} patterns are kept.")]
    TooManyKept(usize),
    /// Files beside that of the part.
    #[error("The part has more than {0} files beside it.")]
    TooManyFiles(usize),
    /// Pockets that are filled.
    #[error("More than {0} pockets are filled.")]
    TooManyPockets(usize),
    /// Bodies with roles.
    #[error("More than {0} bodies have a role of their own.")]
    TooManyRoles(usize),
    /// Zones, or skins.
    #[error("There are more than {0} zones.")]
    TooManyZones(usize),
    /// Two of a kind with one number.
    #[error("Two {what} have the number {number}.")]
    SameNumber {
        /// What they are, in the plural.
        what: &'static str,
        /// The number.
        number: u32,
    },
    /// A role that the rest of the part cannot have.
    #[error("The rest of the part can only be filled or kept solid.")]
    RoleOfRest,
    /// A zone that is to leave as it came.
    #[error("The zone “{0}” cannot be left as it is.")]
    ZoneAlongside(String),
    /// What is wrong with a zone's own filling.
    #[error("In the zone “{name}”: {fault}")]
    InZone {
        /// Name of the zone.
        name: String,
        /// What is wrong.
        fault: Box<RecipeFault>,
    },
    /// A direction of length zero.
    #[error("The direction towards the bed has no length.")]
    NoDirection,
    /// Seed points of cells in the plane that lie on the surface.
    #[error("Points in the plane do not lie on the part's surface.")]
    FlatOnSurface,
    /// Limits of the length of struts that exclude each other.
    #[error("No strut is as long as the shortest and as short as the longest that are allowed.")]
    NoLengthLeft,
    /// Rows around an axis that are no rows.
    #[error("One or two cells do not go round an axis.")]
    TooFewAround,
    /// More cells in rows that bend than can be laid one by one.
    #[error("Rows that bend would have {cells} cells here; {most} can be laid.")]
    TooManyInRows {
        /// Cells that the rows would have.
        cells: usize,
        /// Cells that can be laid.
        most: usize,
    },
    /// A table of numbers that cannot be used.
    #[error(transparent)]
    Table(#[from] TableFault),
    /// Sizes of cells too far apart.
    #[error("Cells from {least:.2} to {most:.2} mm differ by more than fifty times.")]
    CellsTooUnequal {
        /// Size of the smallest. mm.
        least: f64,
        /// Size of the largest. mm.
        most: f64,
    },
    /// More cells of graded size than can be laid one by one.
    #[error("The part would hold about {cells} cells of the graded size; {most} can be laid.")]
    TooManyGradedCells {
        /// Cells that the part would hold.
        cells: usize,
        /// Cells that can be laid.
        most: usize,
    },
    /// Gradings of one filling.
    #[error("A filling has more than {0} gradings.")]
    TooManyGradings(usize),
    /// Sources of one grading.
    #[error("A grading has more than {0} sources.")]
    TooManySources(usize),
    /// A source whose numbers are no values, without a curve.
    #[error("A source has no curve that makes values of its numbers.")]
    NoCurve,
    /// A curve without points.
    #[error("The curve of a source has no points.")]
    EmptyCurve,
    /// A curve with too many points.
    #[error("The curve of a source has more than {0} points.")]
    LongCurve(usize),
    /// Two points of a curve at one place, or in the wrong order; numbers count from 1.
    #[error("Point {} of a curve does not lie beyond point {}.", .points[1], .points[0])]
    CurveTurnsBack {
        /// Numbers of the points.
        points: [usize; 2],
    },
    /// A source of values at places without any.
    #[error("A source of points has none.")]
    NoValuePoints,
    /// A source of values at places with too many.
    #[error("A source has more than {0} points.")]
    TooManyValuePoints(usize),
    /// Two values at one place; numbers count from 1.
    #[error("Points {} and {} lie in one place.", .0[0], .0[1])]
    ValuePointsCoincide([usize; 2]),
    /// A line that is none, or with too many points.
    #[error("A line of a grading has less than 2 or more than {0} points.")]
    PointsOfLine(usize),
    /// Two gradings of one value.
    #[error("The {} is led by two gradings.", .0.name())]
    GradedTwice(GradedValue),
    /// A grading that follows itself, through others or at once, by its name.
    #[error("The grading “{0}” follows itself.")]
    FollowsItself(String),
    /// A grading that follows one that is not there, by its own name.
    #[error("The grading “{0}” follows one that is not there.")]
    FollowsNone(String),
    /// A thickness that is graded in mm while the relative density is asked for.
    #[error("The thickness is graded in mm, and the relative density is asked for as well.")]
    DensityAndThickness,
    /// A relative density that is graded in another way than by itself.
    #[error("A graded relative density is a share of the volume, not one of another density.")]
    DensityOfDensity,
    /// Two gradings that lead thickness in different ways.
    #[error("The thickness and the relative density are both graded.")]
    DensityAndThicknessGraded,
    /// Members wider than the cells of seed points.
    #[error("The thickness is {thickness_mm} mm, and cells are {cell_mm:.2} mm wide.")]
    WiderThanCells {
        /// Thickness that was asked for.
        thickness_mm: f64,
        /// Width of the cells.
        cell_mm: f64,
        /// Thickness that fits.
        most_mm: f64,
    },
    /// Two points of a drawn line in one place; numbers count from 1.
    #[error("Points {} and {} of {line} lie in one place.", .points[0], .points[1])]
    PointsCoincide {
        /// What the line is called within a sentence.
        line: String,
        /// The points.
        points: [usize; 2],
    },
    /// An arc of a profile that is more than can be drawn; numbers count from 1.
    #[error("The arc from point {} to point {} bows out too far.", .0[0], .0[1])]
    BowsTooFar([usize; 2]),
    /// A profile on both sides of its axis.
    #[error("The profile passes over the axis at or after point {0}.")]
    OverAxis(usize),
    /// A drawn line that crosses or touches itself; numbers count from 1.
    #[error("T{} meets itself after point {} and after point {}.", &.line[1..], .points[0], .points[1])]
    MeetsItself {
        /// What the line is called within a sentence; begins with "the".
        line: String,
        /// The points after which it does.
        points: [usize; 2],
    },
    /// A profile that is on its axis in one point alone.
    #[error(
        "The profile touches the axis in one point, near point {0}: the part would hang together \
         there only."
    )]
    TouchesAxis(usize),
    /// A profile that lies on its axis more than once.
    #[error("The profile lies on the axis in more than one stretch.")]
    OnAxisTwice,
    /// Control points of a sheet that fill no grid.
    #[error("{points} control points do not fill rows of {across}.")]
    RaggedRows {
        /// Number of control points.
        points: usize,
        /// Points in a row.
        across: u32,
    },
    /// A strut of a drawn cell without length; numbers count from 1.
    #[error("Strut {0} of the cell has both ends in one place.")]
    StrutWithoutLength(usize),
    /// A triangle of a cell with a corner that is not there; numbers count from 1.
    #[error("Triangle {0} of the cell has a corner that is not there.")]
    CornerMissing(usize),
    /// A strut that does not join two nodes; numbers count from 1.
    #[error("Strut {0} does not join two nodes that are there.")]
    NodeMissing(usize),
    /// A file that comes with a recipe and cannot be read.
    #[error("{name}: {error}")]
    File {
        /// Name of the file.
        name: String,
        /// What is wrong with it.
        error: FormatError,
    },
    /// A file of struts with too many.
    #[error("{name} has more than {most} beams.")]
    TooManyBeams {
        /// Name of the file.
        name: String,
        /// Beams that it may have.
        most: usize,
    },
    /// A file of struts without any.
    #[error("{0} has no struts.")]
    NoStruts(String),
    /// A line of a table that is no point; numbers count from 1.
    #[error("Line {line} of {name} is not a point: “{text}”.")]
    NotAPoint {
        /// Name of the file.
        name: String,
        /// Number of the line.
        line: usize,
        /// How the line begins.
        text: String,
    },
    /// A table with too many points.
    #[error("{name} has more than {most} points.")]
    TooManyPoints {
        /// Name of the file.
        name: String,
        /// Points that it may have.
        most: usize,
    },
    /// A table without points.
    #[error("{0} has no points.")]
    NoPoints(String),
    /// A seed point far from the part; numbers count from 1.
    #[error("Point {number} of {name} lies {away_mm:.0} mm beside the part.")]
    FarPoint {
        /// Name of the file.
        name: String,
        /// Number of the point.
        number: usize,
        /// Distance of the point from the part's box. mm.
        away_mm: f64,
    },
    /// A cell from a file with too many triangles.
    #[error("{name} has {found} triangles; a cell may have {most}.")]
    LargeCell {
        /// Name of the file.
        name: String,
        /// Triangles of the file.
        found: usize,
        /// Triangles that a cell may have.
        most: usize,
    },
    /// A cell from a file that is no solid.
    #[error("{0} is flat.")]
    FlatCell(String),
    /// A cell from a file that is not closed.
    #[error("The cell of {name} is open at {edges} edges.")]
    OpenCell {
        /// Name of the file.
        name: String,
        /// Open edges.
        edges: usize,
    },
    /// A cell from a file that crosses itself.
    #[error("The mesh of {name} crosses itself in {places} places.")]
    CrossingCell {
        /// Name of the file.
        name: String,
        /// Pairs of triangles that cross.
        places: usize,
    },
    /// A cell from a file that does not repeat.
    #[error(
        "The cell of {name} does not meet its neighbours along {axis}: of what its two sides there \
         hold {percent:.0} % lies on one alone."
    )]
    UnlikeSides {
        /// Name of the file.
        name: String,
        /// The axis.
        axis: &'static str,
        /// Share that lies on one side alone.
        percent: f64,
    },
    /// A file that is to hold lattice and solids apart and does not name both.
    #[error(
        "The recipe makes lattice and solids as bodies of their own, and the file does not name \
         both."
    )]
    SidesNotNamed,
    /// A file on a bed that is not as large as the part.
    #[error(
        "The file is {} large and the part on its bed {}: where it lay cannot be told.",
        sides(.file_mm), sides(.part_mm)
    )]
    OtherSize {
        /// Sides of the file's box.
        file_mm: [f64; 3],
        /// Sides of the part's box.
        part_mm: [f64; 3],
    },
    /// A final mesh that needs more memory than there is.
    #[error("{0}")]
    TooLarge(Box<TooLarge>),
    /// A fault that was told before, in its words.
    #[error("{message}")]
    Told {
        /// What is wrong.
        message: String,
        /// What to do about it.
        hint: String,
    },
}

/// A final mesh that needs more memory than there is, and what would fit.
#[derive(Clone, Debug, PartialEq, Error)]
#[error(
    "The final mesh would need about {} of memory and {}; {} may be used here.",
    in_bytes(*memory_mb), in_time(*seconds), in_bytes(*memory_cap_mb)
)]
pub struct TooLarge {
    /// Memory that the final mesh would need. MB.
    pub memory_mb: f64,
    /// Memory that may be used. MB.
    pub memory_cap_mb: f64,
    /// How long the final mesh would take. Seconds.
    pub seconds: f64,
    /// A grid step that fits. mm.
    pub step_mm: f64,
    /// What suffers first at the grid step that fits.
    pub suffers: Option<Suffers>,
    /// A cell size that fits, where thickness grows with it. mm.
    pub cell_mm: f64,
}

/// What a coarser grid shows no more.
#[derive(Clone, Debug, PartialEq)]
pub struct Suffers {
    /// Name of the members, in the plural.
    pub name: String,
    /// Steps of the grid through the members.
    pub steps: f64,
    /// Steps at which the members are whole.
    pub whole: f64,
}

impl TooLarge {
    fn hint(&self) -> String {
        let loses = self.suffers.as_ref().map_or_else(String::new, |s| {
            let then = match s.steps / s.whole {
                s if s >= 1.0 => "which still shows everything",
                s if s >= 0.5 => "which may break them",
                _ => "which loses them",
            };
            format!(" ({:.1} steps through {}, {then})", s.steps, s.name)
        });
        format!(
            "It fits with a grid step of {} mm{loses}, with cells of about {} mm that are as much \
             thicker, or with {:.0} % of the part filled and the rest kept solid or clear.",
            self.step_mm,
            self.cell_mm,
            (100.0 * self.memory_cap_mb / self.memory_mb).floor().max(1.0)
        )
    }
}

impl RecipeFault {
    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> String {
        use RecipeFault::*;
        match self {
            OutOfRange { unit, range: [least, most], .. } => {
                let (least, most, unit) = (plain(*least), plain(*most), in_unit(unit));
                return format!("Choose a value from {least} to {most}{unit}.");
            }
            NotJson(_) => "Export the recipe again from the bench.",
            Unreadable(_) | OldStructure(_) => "Correct that value or export the recipe again.",
            NotARecipe => "Choose a recipe exported from the bench.",
            OtherVersion { .. } => "Open it with the program version that wrote it.",
            WithoutFile => "Export the recipe again.",
            LongName(_) => "Choose a shorter name.",
            TooManyKept(_) => "Let go of some of them.",
            TooManyFiles(_) => "Join some of them into one file.",
            TooManyPockets(_) => "Take some of them away.",
            TooManyRoles(_) => "Join some of them into one body.",
            TooManyZones(_) => "Join some of them.",
            SameNumber { .. } => "Give each a number of its own.",
            RoleOfRest => "Choose one of the two.",
            ZoneAlongside(_) => "Only a body can; choose another role.",
            InZone { fault, .. } => return fault.hint(),
            NoDirection => "Choose an axis or pick a face of the part.",
            FlatOnSurface => "Let them lie inside, or choose another structure.",
            NoLengthLeft => "Make the upper limit larger than the lower one.",
            TooFewAround => "Choose three or more, or 0 for as many as fit the cell size.",
            Table(fault) => fault.hint(),
            CellsTooUnequal { .. } => "Bring both ends of the grading nearer to each other.",
            TooManyGradedCells { .. } => "Choose larger cells at the ends of the grading.",
            TooManyInRows { .. } => "Choose larger cells or smaller counts.",
            TooManyGradings(_) | TooManySources(_) => "Take some of them away.",
            NoCurve | EmptyCurve => "Give the curve at least one point.",
            LongCurve(_) | TooManyValuePoints(_) => "Leave some out.",
            CurveTurnsBack { .. } => "Move one of them along the axis, or remove it.",
            NoValuePoints => "Place a point, or take the source away.",
            ValuePointsCoincide(_) => "Move one of them away, or remove it.",
            PointsOfLine(_) => "Place its points one after the other.",
            GradedTwice(_) => "Put the sources of both into one grading.",
            FollowsItself(_) | FollowsNone(_) => "Choose another source.",
            DensityOfDensity => "Give its values in percent of the volume.",
            DensityAndThicknessGraded => "Keep one of both: each leads the thickness.",
            DensityAndThickness => {
                "Let the thickness lead, or grade it in percent of the thickness that the density \
                 leads to."
            }
            WiderThanCells { most_mm, .. } => {
                return format!("Choose up to {most_mm} mm, or fewer seed points.")
            }
            PointsCoincide { .. } => "Move one of them away, or remove it.",
            BowsTooFar(_) => "Its bow may be up to twice the distance of its ends.",
            OverAxis(_) => "Keep all of it on one side: move its points, or the axis.",
            MeetsItself { .. } => "Move points until no line crosses or touches another.",
            TouchesAxis(_) => "Let a line lie on the axis, or keep the point off it.",
            OnAxisTwice => "Make them one, or keep all but one off the axis.",
            RaggedRows { .. } => "Give every row as many points.",
            StrutWithoutLength(_) => "Draw it from one point to another.",
            CornerMissing(_) => "Bring the cell in again.",
            NodeMissing(_) => "Bring the struts in again.",
            File { error, .. } => error.hint(),
            TooManyBeams { .. } | TooManyPoints { .. } => "Leave some out.",
            NoStruts(_) => "Choose a 3MF file with a beam lattice.",
            NotAPoint { .. } | NoPoints(_) => "Each line gives x, y and z in mm.",
            FarPoint { .. } => {
                "Leave out points that lie farther from the part than ten times its length."
            }
            LargeCell { .. } => "Reduce its mesh first.",
            FlatCell(_) => "A cell is a solid: choose a file of one.",
            OpenCell { .. } => {
                "A cell is a closed solid, with flat ends where it meets its neighbours: close it \
                 first."
            }
            CrossingCell { .. } => "Unite what the cell is made of into one solid first.",
            UnlikeSides { .. } => "Make both sides alike, and let the cell reach them.",
            SidesNotNamed => "Check the 3MF file that holds both bodies.",
            OtherSize { .. } => {
                "Write the file in the part's own place, with no bed in the recipe, and check that."
            }
            TooLarge(job) => return job.hint(),
            Told { hint, .. } => hint,
        }
        .into()
    }
}

fn plain(v: f64) -> String {
    if v == v.trunc() && v.abs() < 1e9 {
        format!("{v}")
    } else {
        format!("{v:.3}")
    }
}

fn in_unit(unit: &str) -> String {
    if unit.is_empty() {
        String::new()
    } else {
        format!(" {unit}")
    }
}

fn sides([x, y, z]: &[f64; 3]) -> String {
    format!("{x:.2} × {y:.2} × {z:.2} mm")
}

fn in_bytes(mb: f64) -> String {
    if mb < 950.0 {
        format!("{mb:.0} MB")
    } else {
        format!("{:.1} GB", mb / 1024.0)
    }
}

fn in_time(seconds: f64) -> String {
    match seconds {
        s if s < 90.0 => format!("{s:.0} s"),
        s if s < 5400.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.0} h", s / 3600.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_told_with_their_units_and_ranges() {
        let of = |unit, value| RecipeFault::OutOfRange {
            what: "The step".into(),
            unit,
            value,
            range: [0.5, 20.0],
        };
        assert_eq!(of("mm", 0.25).to_string(), "The step is 0.250 mm.");
        assert_eq!(of("mm", 40.0).hint(), "Choose a value from 0.500 to 20 mm.");
        assert_eq!(of("", 40.0).to_string(), "The step is 40.");
    }

    #[test]
    fn a_fault_in_a_zone_names_the_zone_and_keeps_its_hint() {
        let inner = RecipeFault::TooManyGradings(5);
        let outer = RecipeFault::InZone { name: "Rim".into(), fault: Box::new(inner.clone()) };
        assert_eq!(outer.to_string(), format!("In the zone “Rim”: {inner}"));
        assert_eq!(outer.hint(), inner.hint());
    }

    #[test]
    fn what_does_not_fit_tells_how_much_and_what_a_coarser_step_loses() {
        let told = |steps: f64| {
            RecipeFault::TooLarge(Box::new(TooLarge {
                memory_mb: 3000.0,
                memory_cap_mb: 900.0,
                seconds: 150.0,
                step_mm: 0.4,
                suffers: Some(Suffers { name: "walls".into(), steps, whole: 3.0 }),
                cell_mm: 9.0,
            }))
        };
        let words = told(2.0).to_string();
        assert!(words.contains("2.9 GB") && words.contains("2 min") && words.contains("900 MB"));
        assert!(told(3.0).hint().contains("still shows everything"));
        assert!(told(2.0).hint().contains("2.0 steps through walls, which may break them"));
        assert!(told(1.0).hint().contains("which loses them") && told(1.0).hint().contains("30 %"));
    }

    #[test]
    fn small_and_large_figures_have_their_units() {
        assert_eq!([in_bytes(349.6), in_bytes(6_070_272.0)], ["350 MB", "5928.0 GB"]);
        assert_eq!([61.0, 750.0, 75_600.0].map(in_time), ["61 s", "12 min", "21 h"]);
    }
}
