//! What fills a zone: its pattern, the size of its cells, and how it is placed.

mod kind;
mod pattern;

pub use kind::{
    CellKind, DrawnKind, ExtrudedKind, Family, FoamKind, Form, GivenKind, Kind, PlanarKind,
    SeededKind, SurfaceKind,
};
pub use pattern::{
    BentRows, CellPattern, DelaunayPattern, ExtrudedPattern, FoamPattern, NeighboursPattern,
    OwnCellPattern, OwnMeshPattern, OwnStrutsPattern, Pattern, PlanarPattern, StrutLengths,
    SurfaceNet, SurfacePattern, VoronoiPattern, WallsPattern,
};

use super::{check, zones, CleanUp, Course, FaceMark, RecipeError, Seeds};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// What fills a zone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Structure {
    /// What it is made of.
    pub pattern: Pattern,
    /// Cell size along the cell's own axes. mm.
    pub cell_mm: [f64; 3],
    /// From the middle of the part's box to a cell's corner. mm.
    pub shift_mm: [f64; 3],
    /// Turned about x, then y, then z. Degrees.
    pub rotation_deg: [f64; 3],
}

impl Default for Structure {
    fn default() -> Self {
        Structure {
            pattern: Pattern::Surface(SurfacePattern::default()),
            cell_mm: [12.0; 3],
            shift_mm: [0.0; 3],
            rotation_deg: [0.0; 3],
        }
    }
}

impl Structure {
    /// A structure of a kind with first values.
    ///
    /// # Panics
    /// For kinds that come from a file, which have no first values.
    pub fn of_kind(kind: Kind) -> Structure {
        let mut out = Structure::default();
        out.choose(kind);
        out
    }

    /// Makes it one of another kind. What both kinds have stays: seed points, clean-up, the face
    /// that walls stand on, the course of rows.
    ///
    /// # Panics
    /// For kinds that come from a file, which are brought in with it.
    pub fn choose(&mut self, kind: Kind) {
        self.pattern = self.pattern.of_kind(kind).expect("a kind that needs no file");
    }

    /// The kind of structure.
    pub fn kind(&self) -> Kind {
        self.pattern.kind()
    }

    /// The smallest size of a cell. mm.
    pub fn smallest(&self) -> f64 {
        self.cell_mm.iter().copied().fold(f64::INFINITY, f64::min)
    }

    /// Is it made of walls, not of struts?
    pub fn walls(&self) -> bool {
        self.kind().walls(self.form())
    }

    /// Walls or a network, of a surface that repeats; [`Form::Walls`] for all others.
    pub fn form(&self) -> Form {
        match &self.pattern {
            Pattern::Surface(s) => s.form,
            _ => Form::Walls,
        }
    }

    /// Does it look the same all along its third axis?
    pub fn flat(&self) -> bool {
        matches!(self.pattern, Pattern::Extruded(_) | Pattern::PlanarVoronoi(_))
    }

    /// Can its cells change their size from place to place?
    pub fn sizes_by_place(&self) -> bool {
        match &self.pattern {
            Pattern::PlanarVoronoi(_) | Pattern::OwnStruts(_) | Pattern::OwnMesh(_) => false,
            // Rows that bend already say where each cell lies.
            Pattern::Cell(_) | Pattern::OwnCell(_) => self.bent().is_none(),
            _ => true,
        }
    }

    /// The points that it grows from, where it does.
    pub fn seeds(&self) -> Option<&Seeds> {
        self.pattern.seeds()
    }

    /// The points that it grows from, to be changed.
    pub fn seeds_mut(&mut self) -> Option<&mut Seeds> {
        self.pattern.seeds_mut()
    }

    /// What becomes of what its struts have too much of, where they are listed one by one.
    pub fn clean(&self) -> Option<&CleanUp> {
        self.pattern.clean()
    }

    /// The clean-up of struts that are listed one by one, to be changed.
    pub fn clean_mut(&mut self) -> Option<&mut CleanUp> {
        self.pattern.clean_mut()
    }

    /// The course of its rows where they bend.
    pub fn bent(&self) -> Option<&BentRows> {
        self.pattern.rows()
    }

    /// The face that its walls stand on.
    pub fn standing(&self) -> Option<&FaceMark> {
        self.pattern.upright()
    }

    /// What its seed points follow from before they are relaxed.
    pub fn of_points(&self) -> Structure {
        let seeds = Seeds { rounds: 0, ..self.seeds().cloned().unwrap_or_default() };
        let pattern = match &self.pattern {
            Pattern::PlanarVoronoi(p) => {
                Pattern::PlanarVoronoi(PlanarPattern { seeds, upright: p.upright })
            }
            _ => Pattern::Voronoi(VoronoiPattern { seeds, ..VoronoiPattern::default() }),
        };
        Structure { pattern, ..*self }
    }

    /// Faces of the part that it follows, by what they are for.
    pub fn followed(&self) -> Vec<(&'static str, Vec<&FaceMark>)> {
        let standing = self.standing().map(|m| ("Walls stand on", vec![m]));
        let of_rows = match self.bent().map(|rows| &rows.course) {
            None => vec![],
            Some(Course::Polar { about, .. }) => vec![("Axis of rows", about.iter().collect())],
            Some(Course::Between { from, to, .. }) => {
                vec![("Rows begin", from.iter().collect()), ("Rows end", to.iter().collect())]
            }
        };
        standing.into_iter().chain(of_rows).collect()
    }

    pub(super) fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        let longest = part.size().max_element();
        for v in self.cell_mm {
            check("structure.cell_mm", "The cell size", "mm", v, longest / 200.0, 4.0 * longest)?;
        }
        for v in self.shift_mm {
            check("structure.shift_mm", "The shift", "mm", v, -10.0 * longest, 10.0 * longest)?;
        }
        for v in self.rotation_deg {
            check("structure.rotation_deg", "The rotation", "°", v, -360.0, 360.0)?;
        }
        for (what, marks) in self.followed() {
            marks
                .into_iter()
                .try_for_each(|m| zones::marks(std::slice::from_ref(m), "structure", what))?;
        }
        self.pattern.validate(part)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_follow_what_tells_where_they_begin_and_nothing_else() {
        let first = Structure::of_kind(Kind::Seeded(SeededKind::Voronoi));
        let same = |change: &dyn Fn(&mut Structure)| {
            let mut other = first.clone();
            change(&mut other);
            other.of_points() == first.of_points()
        };
        let seeds = |change: &dyn Fn(&mut Seeds)| {
            same(&|s| change(s.seeds_mut().expect("a kind with points")))
        };
        assert!(same(&|s| s.choose(Kind::Seeded(SeededKind::Delaunay))));
        assert!(same(&|s| s.clean_mut().expect("listed struts").weld = 0.3));
        assert!(seeds(&|s| s.rounds = 90));
        assert!(!same(&|s| s.choose(Kind::Planar(PlanarKind::PlanarVoronoi))));
        assert!(!same(&|s| s.cell_mm[1] = 3.0));
        assert!(!seeds(&|s| s.random = 2) && !seeds(&|s| s.count = Some(9)));
    }

    #[test]
    fn what_two_kinds_have_stays_when_one_is_chosen_after_the_other() {
        let mut s = Structure::of_kind(Kind::Seeded(SeededKind::Voronoi));
        s.seeds_mut().unwrap().count = Some(77);
        s.clean_mut().unwrap().weld = 0.3;
        s.choose(Kind::Seeded(SeededKind::Neighbours));
        assert_eq!((s.seeds().unwrap().count, s.clean().unwrap().weld), (Some(77), 0.3));
        s.choose(Kind::Planar(PlanarKind::PlanarVoronoi));
        assert_eq!((s.seeds().unwrap().count, s.clean()), (Some(77), None));
        s.choose(Kind::Extruded(ExtrudedKind::Hexagons));
        assert_eq!(s.seeds(), None);
        for kind in Kind::all() {
            assert_eq!(Structure::of_kind(kind).kind(), kind);
        }
    }

    #[test]
    fn faces_are_followed_only_where_the_kind_makes_use_of_them() {
        let face = FaceMark {
            kind: crate::FaceKind::Plane,
            place_mm: [0.0; 3],
            direction: [0.0, 0.0, 1.0],
            area_mm2: 10.0,
        };
        let walls = ExtrudedKind::Hexagons;
        let pattern = Pattern::Extruded(ExtrudedPattern { walls, upright: Some(face) });
        let mut s = Structure { pattern, ..Structure::default() };
        let names: Vec<_> = s.followed().iter().map(|f| (f.0, f.1.len())).collect();
        assert_eq!(names, [("Walls stand on", 1)]);
        s.choose(Kind::Planar(PlanarKind::PlanarVoronoi));
        assert_eq!(s.standing(), Some(&face));
        s.choose(Kind::Cell(CellKind::Cubic));
        assert!(s.followed().is_empty() && s.standing().is_none());
    }

    #[test]
    fn each_value_is_refused_by_its_own_field() {
        let field = |change: &dyn Fn(&mut Structure)| {
            let mut s = Structure::default();
            change(&mut s);
            s.validate(&Bounds { min: glam::DVec3::ZERO, max: glam::DVec3::splat(100.0) })
                .err()
                .map(|e| e.field)
        };
        assert_eq!(field(&|_| ()), None);
        // Half a millimetre is the smallest cell of a part of 100 mm, and four times the part the
        // largest.
        assert_eq!(field(&|s| s.cell_mm[2] = 0.5), None);
        assert_eq!(field(&|s| s.cell_mm[2] = 0.49).as_deref(), Some("structure.cell_mm"));
        assert_eq!(field(&|s| s.cell_mm[0] = 401.0).as_deref(), Some("structure.cell_mm"));
        assert_eq!(field(&|s| s.shift_mm[1] = f64::NAN).as_deref(), Some("structure.shift_mm"));
        assert_eq!(
            field(&|s| s.rotation_deg[0] = 361.0).as_deref(),
            Some("structure.rotation_deg")
        );
    }
}
