//! What fills a zone: kind, cell size, placement.

use super::{
    check, own_mesh, zones, CleanUp, Course, FaceMark, OwnCell, OwnMesh, OwnStruts, RecipeError,
    Seeds,
};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// Kind of structure, by family. In JSON the kind's name alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "no structure has that kind")]
pub enum Kind {
    /// Walls or networks along a surface that repeats in three directions.
    Surface(SurfaceKind),
    /// Struts in cells that repeat.
    Cell(CellKind),
    /// Walls that stand upright on a pattern of the plane.
    Extruded(ExtrudedKind),
    /// What seed points make of their cells.
    Seeded(SeededKind),
    /// A foam sheet.
    Foam(FoamKind),
    /// What is given by the person.
    Given(GivenKind),
}

/// Triply periodic surfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SurfaceKind {
    /// The gyroid (Schoen 1970).
    Gyroid,
    /// The primitive surface (Schwarz 1890).
    SchwarzP,
    /// The diamond surface (Schwarz 1890).
    SchwarzD,
    /// The I-WP surface (Schoen 1970).
    Iwp,
    /// The surface of Neovius (1883).
    Neovius,
    /// The F-RD surface (Schoen 1970).
    Frd,
    /// The split P surface.
    SplitP,
    /// The lidinoid (Lidin and Larsson 1990).
    Lidinoid,
}

impl SurfaceKind {
    /// Number of surfaces.
    pub const COUNT: usize = SurfaceKind::Lidinoid as usize + 1;
}

/// Cells of struts that repeat along three axes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CellKind {
    /// Struts along the edges of cubes.
    Cubic,
    /// Struts from the middle of a cube to its corners.
    BodyCentred,
    /// With struts along the third axis.
    BodyCentredVertical,
    /// Struts from the middles of a cube's faces to its corners.
    FaceCentred,
    /// With struts along the third axis.
    FaceCentredVertical,
    /// Body-centred and face-centred together.
    BodyFaceCentred,
    /// An octahedron and tetrahedra in a cube.
    Octet,
    /// Edges of the truncated octahedron (Kelvin 1887).
    Kelvin,
    /// Bonds of the diamond lattice.
    Diamond,
    /// Edges of the rhombic dodecahedron.
    RhombicDodecahedron,
    /// Struts that draw in sideways when pressed.
    ReEntrant,
    /// Drawn: see [`Structure::own_cell`].
    OwnCell,
}

/// Walls that run straight along the third axis, by the pattern they make across it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ExtrudedKind {
    /// Regular; the size is across flats.
    Hexagons,
    /// Squares.
    Squares,
    /// Equilateral; the size is a side.
    Triangles,
    /// Bow ties, which grow wider when they are pulled.
    BowTies,
    /// Cells of points in the plane.
    PlanarVoronoi,
}

/// Structures of scattered seed points.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SeededKind {
    /// Struts along the edges of the points' Voronoi cells.
    Voronoi,
    /// Walls between the cells.
    VoronoiWalls,
    /// Struts between points whose cells touch.
    Delaunay,
    /// Struts from each point to its nearest ones.
    Neighbours,
}

/// Sheets that repeat nowhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FoamKind {
    /// Meets the part's surface at a right angle.
    FoamSheet,
}

/// Structures that come from a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GivenKind {
    /// See [`Structure::own_struts`].
    OwnStruts,
    /// See [`Structure::own_mesh`].
    OwnMesh,
}

/// Families of kinds, for choosing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Family {
    /// Surfaces that repeat.
    Surfaces,
    /// Strut cells.
    Cells,
    /// Upright walls.
    Extruded,
    /// Of seed points.
    Seeded,
}

impl Kind {
    /// Every kind that needs no file, family by family.
    pub fn all() -> Vec<Kind> {
        use {CellKind::*, ExtrudedKind::*, SeededKind::*, SurfaceKind::*};
        let surfaces =
            [Gyroid, SchwarzP, SchwarzD, Iwp, Neovius, Frd, SplitP, Lidinoid].map(Kind::Surface);
        let cells = [
            Cubic,
            BodyCentred,
            BodyCentredVertical,
            FaceCentred,
            FaceCentredVertical,
            BodyFaceCentred,
            Octet,
            Kelvin,
            Diamond,
            RhombicDodecahedron,
            ReEntrant,
            OwnCell,
        ]
        .map(Kind::Cell);
        let extruded = [Hexagons, Squares, Triangles, BowTies, PlanarVoronoi].map(Kind::Extruded);
        let seeded = [Voronoi, VoronoiWalls, Delaunay, Neighbours].map(Kind::Seeded);
        [&surfaces[..], &[Kind::Foam(FoamKind::FoamSheet)], &cells, &extruded, &seeded].concat()
    }

    /// The family that it is shown in.
    pub fn family(self) -> Family {
        match self {
            Kind::Surface(_) | Kind::Foam(_) => Family::Surfaces,
            Kind::Cell(_) | Kind::Given(_) => Family::Cells,
            Kind::Extruded(_) => Family::Extruded,
            Kind::Seeded(_) => Family::Seeded,
        }
    }

    /// Is it made of walls, not of struts?
    pub fn walls(self, form: Form) -> bool {
        match self {
            Kind::Surface(_) => form == Form::Walls,
            Kind::Cell(_) | Kind::Given(GivenKind::OwnStruts) => false,
            Kind::Extruded(_) | Kind::Foam(_) | Kind::Given(GivenKind::OwnMesh) => true,
            Kind::Seeded(kind) => kind == SeededKind::VoronoiWalls,
        }
    }

    /// Is it made of struts? Neither those nor walls are the networks beside a surface.
    pub fn struts(self) -> bool {
        match self {
            Kind::Cell(_) | Kind::Given(GivenKind::OwnStruts) => true,
            Kind::Seeded(kind) => kind != SeededKind::VoronoiWalls,
            Kind::Surface(_)
            | Kind::Extruded(_)
            | Kind::Foam(_)
            | Kind::Given(GivenKind::OwnMesh) => false,
        }
    }

    /// Does it grow from seed points?
    pub fn seeded(self) -> bool {
        matches!(self, Kind::Seeded(_) | Kind::Extruded(ExtrudedKind::PlanarVoronoi))
    }

    /// Does a random number tell its arrangements apart?
    pub fn random(self) -> bool {
        self.seeded() || matches!(self, Kind::Foam(_))
    }

    /// For a person.
    pub fn title(self) -> &'static str {
        match self {
            Kind::Surface(kind) => match kind {
                SurfaceKind::Gyroid => "Gyroid",
                SurfaceKind::SchwarzP => "Schwarz P",
                SurfaceKind::SchwarzD => "Schwarz D",
                SurfaceKind::Iwp => "I-WP",
                SurfaceKind::Neovius => "Neovius",
                SurfaceKind::Frd => "F-RD",
                SurfaceKind::SplitP => "Split P",
                SurfaceKind::Lidinoid => "Lidinoid",
            },
            Kind::Cell(kind) => match kind {
                CellKind::Cubic => "Cubic",
                CellKind::BodyCentred => "Body-centred",
                CellKind::BodyCentredVertical => "Body-centred, vertical",
                CellKind::FaceCentred => "Face-centred",
                CellKind::FaceCentredVertical => "Face-centred, vertical",
                CellKind::BodyFaceCentred => "Body and face-centred",
                CellKind::Octet => "Octet",
                CellKind::Kelvin => "Kelvin",
                CellKind::Diamond => "Diamond",
                CellKind::RhombicDodecahedron => "Rhombic dodecahedron",
                CellKind::ReEntrant => "Re-entrant",
                CellKind::OwnCell => "Own cell",
            },
            Kind::Foam(FoamKind::FoamSheet) => "Foam sheet",
            Kind::Given(GivenKind::OwnStruts) => "Own struts",
            Kind::Given(GivenKind::OwnMesh) => "Cell from a file",
            Kind::Extruded(kind) => match kind {
                ExtrudedKind::Hexagons => "Hexagons",
                ExtrudedKind::Squares => "Squares",
                ExtrudedKind::Triangles => "Triangles",
                ExtrudedKind::BowTies => "Bow ties",
                ExtrudedKind::PlanarVoronoi => "Planar Voronoi",
            },
            Kind::Seeded(kind) => match kind {
                SeededKind::Voronoi => "Voronoi struts",
                SeededKind::VoronoiWalls => "Voronoi walls",
                SeededKind::Delaunay => "Delaunay struts",
                SeededKind::Neighbours => "Nearest neighbours",
            },
        }
    }
}

/// What a periodic surface bounds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Form {
    /// Material around the surface.
    #[default]
    Walls,
    /// Material on its positive side.
    Network,
    /// Material on its other side.
    OtherNetwork,
}

/// What fills a zone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Structure {
    /// What it is.
    pub kind: Kind,
    /// Walls or a network, of surfaces that repeat.
    #[serde(default)]
    #[schema(required = true)]
    pub form: Form,
    /// Cell size along the cell's own axes. mm.
    pub cell_mm: [f64; 3],
    /// From the middle of the part's box to a cell's corner. mm.
    pub shift_mm: [f64; 3],
    /// Turned about x, then y, then z. Degrees.
    pub rotation_deg: [f64; 3],
    /// How rows of strut cells run.
    #[serde(default, skip_serializing_if = "Course::is_straight")]
    pub course: Course,
    /// Extruded walls stand upright on this face, or run along its axis where it has one; they are
    /// turned from there. Absent: from the part's own axes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upright: Option<FaceMark>,
    /// Points that own cells, of seeded kinds.
    #[serde(default)]
    #[schema(required = true)]
    pub seeds: Seeds,
    /// Of struts that are listed one by one.
    #[serde(default, skip_serializing_if = "CleanUp::is_default")]
    pub clean: CleanUp,
    /// What repeats where the kind is an own cell.
    #[serde(default)]
    #[schema(required = true)]
    pub own_cell: OwnCell,
    /// The struts where the kind is own struts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own_struts: Option<OwnStruts>,
    /// What repeats where the kind is an own mesh.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own_mesh: Option<OwnMesh>,
}

impl Default for Structure {
    fn default() -> Self {
        Structure {
            kind: Kind::Surface(SurfaceKind::Gyroid),
            form: Form::Walls,
            cell_mm: [12.0; 3],
            shift_mm: [0.0; 3],
            rotation_deg: [0.0; 3],
            course: Course::Straight,
            upright: None,
            seeds: Seeds::default(),
            clean: CleanUp::default(),
            own_cell: OwnCell::default(),
            own_struts: None,
            own_mesh: None,
        }
    }
}

impl Structure {
    /// The smallest size of a cell. mm.
    pub fn smallest(&self) -> f64 {
        self.cell_mm.iter().copied().fold(f64::INFINITY, f64::min)
    }

    /// The course of its rows where they bend.
    pub fn bent(&self) -> Option<&Course> {
        (matches!(self.kind, Kind::Cell(_)) && !self.course.is_straight()).then_some(&self.course)
    }

    /// The face that its walls stand on.
    pub fn standing(&self) -> Option<&FaceMark> {
        self.upright.as_ref().filter(|_| matches!(self.kind, Kind::Extruded(_)))
    }

    /// What its seed points follow from before they are relaxed.
    pub fn of_points(&self) -> Structure {
        let Structure { cell_mm, shift_mm, rotation_deg, ref seeds, .. } = *self;
        let Seeds {
            own,
            count,
            layout,
            surface_count,
            from_above,
            random,
            spread,
            apart,
            finer,
            ..
        } = seeds.clone();
        let planar = Kind::Extruded(ExtrudedKind::PlanarVoronoi);
        let kind = if self.kind == planar { planar } else { Kind::Seeded(SeededKind::Voronoi) };
        let seeds = Seeds {
            own,
            count,
            layout,
            surface_count,
            from_above,
            random,
            spread,
            apart,
            finer,
            rounds: 0,
            ..Seeds::default()
        };
        Structure {
            kind,
            cell_mm,
            shift_mm,
            rotation_deg,
            upright: self.standing().cloned(),
            seeds,
            ..Structure::default()
        }
    }

    /// Faces of the part that it follows, by what they are for.
    pub fn followed(&self) -> Vec<(&'static str, Vec<&FaceMark>)> {
        let standing = self.standing().map(|m| ("Walls stand on", vec![m]));
        let of_rows = match self.bent() {
            None | Some(Course::Straight) => vec![],
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
        self.course.validate()?;
        for (what, marks) in self.followed() {
            marks
                .into_iter()
                .try_for_each(|m| zones::marks(std::slice::from_ref(m), "structure", what))?;
        }
        self.clean.validate()?;
        self.own_cell.validate()?;
        self.own_struts.as_ref().map_or(Ok(()), OwnStruts::validate)?;
        self.own_mesh.as_ref().map_or(Ok(()), OwnMesh::validate)?;
        if self.kind == Kind::Given(GivenKind::OwnMesh) && self.own_mesh.is_none() {
            return Err(RecipeError::new(
                own_mesh::FIELD,
                "There is no cell from a file yet.",
                "Bring in the mesh of one cell, or choose another structure.",
            ));
        }
        if self.kind == Kind::Given(GivenKind::OwnStruts) && self.own_struts.is_none() {
            return Err(RecipeError::new(
                "structure.own_struts",
                "There are no own struts yet.",
                "Bring in a 3MF file with a beam lattice, or choose another structure.",
            ));
        }
        self.seeds.validate(part)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn kinds_have_titles_and_names_of_their_own_and_come_back_from_json() {
        let all = Kind::all();
        let titles: BTreeSet<&str> = all.iter().map(|k| k.title()).collect();
        assert_eq!(titles.len(), all.len());
        for kind in all {
            let name = serde_json::to_value(kind).unwrap();
            assert!(name.is_string(), "{kind:?} is {name}");
            assert_eq!(serde_json::from_value::<Kind>(name).unwrap(), kind);
        }
    }

    #[test]
    fn a_kind_is_of_walls_or_of_struts_and_networks_of_surfaces_are_neither() {
        for kind in Kind::all() {
            let surface = matches!(kind, Kind::Surface(_));
            assert_ne!(kind.walls(Form::Walls), kind.struts(), "{kind:?}");
            assert_eq!(kind.walls(Form::Network), kind.walls(Form::Walls) && !surface, "{kind:?}");
            assert_eq!(kind.walls(Form::Network), kind.walls(Form::OtherNetwork), "{kind:?}");
            assert!(!kind.seeded() || kind.random(), "{kind:?}");
        }
    }

    #[test]
    fn points_follow_what_tells_where_they_begin_and_nothing_else() {
        let first = Structure { kind: Kind::Seeded(SeededKind::Voronoi), ..Structure::default() };
        let same = |change: &dyn Fn(&mut Structure)| {
            let mut other = first.clone();
            change(&mut other);
            other.of_points() == first.of_points()
        };
        assert!(same(&|s| s.kind = Kind::Seeded(SeededKind::Delaunay)));
        assert!(
            same(&|s| s.seeds.rounds = 90)
                && same(&|s| s.seeds.weld = 0.3)
                && same(&|s| s.seeds.net = false)
        );
        assert!(!same(&|s| s.kind = Kind::Extruded(ExtrudedKind::PlanarVoronoi)));
        assert!(
            !same(&|s| s.seeds.random = 2)
                && !same(&|s| s.cell_mm[1] = 3.0)
                && !same(&|s| s.seeds.count = Some(9))
        );
    }

    #[test]
    fn faces_are_followed_only_where_the_kind_makes_use_of_them() {
        let face = FaceMark {
            kind: crate::FaceKind::Plane,
            place_mm: [0.0; 3],
            direction: [0.0, 0.0, 1.0],
            area_mm2: 10.0,
        };
        let of = |kind: Kind| Structure { kind, upright: Some(face), ..Structure::default() };
        let standing = of(Kind::Extruded(ExtrudedKind::Hexagons));
        assert_eq!(
            standing.followed().iter().map(|f| (f.0, f.1.len())).collect::<Vec<_>>(),
            [("Walls stand on", 1)]
        );
        assert!(of(Kind::Surface(SurfaceKind::Gyroid)).followed().is_empty());
        assert_eq!(of(Kind::Cell(CellKind::Cubic)).standing(), None);
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
        assert_eq!(
            field(&|s| s.kind = Kind::Given(GivenKind::OwnStruts)).as_deref(),
            Some("structure.own_struts")
        );
        assert_eq!(
            field(&|s| s.kind = Kind::Given(GivenKind::OwnMesh)).as_deref(),
            Some(own_mesh::FIELD)
        );
    }
}
