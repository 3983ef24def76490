//! Kinds of structures and their families.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Kind of structure, by family. In JSON the kind's name alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "no structure has that kind")]
pub enum Kind {
    /// Walls or networks along a surface that repeats in three directions.
    Surface(SurfaceKind),
    /// Struts in known cells that repeat.
    Cell(CellKind),
    /// Struts in drawn cells that repeat.
    Drawn(DrawnKind),
    /// Walls that stand upright on a pattern that repeats in the plane.
    Extruded(ExtrudedKind),
    /// Walls that stand upright between the cells of points in the plane.
    Planar(PlanarKind),
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
}

/// Cells of struts that the person draws.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DrawnKind {
    /// See [`OwnCellPattern`](super::OwnCellPattern).
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
}

/// Walls that run straight along the third axis and repeat nowhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PlanarKind {
    /// Between the cells of points in the plane.
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
    /// See [`OwnStrutsPattern`](super::OwnStrutsPattern).
    OwnStruts,
    /// See [`OwnMeshPattern`](super::OwnMeshPattern).
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
    /// What seed points make of their cells.
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
        ]
        .map(Kind::Cell);
        let extruded = [Hexagons, Squares, Triangles, BowTies].map(Kind::Extruded);
        let seeded = [Voronoi, VoronoiWalls, Delaunay, Neighbours].map(Kind::Seeded);
        [
            &surfaces[..],
            &[Kind::Foam(FoamKind::FoamSheet)],
            &cells,
            &[Kind::Drawn(DrawnKind::OwnCell)],
            &extruded,
            &[Kind::Planar(PlanarKind::PlanarVoronoi)],
            &seeded,
        ]
        .concat()
    }

    /// The family that it is shown in.
    pub fn family(self) -> Family {
        match self {
            Kind::Surface(_) | Kind::Foam(_) => Family::Surfaces,
            Kind::Cell(_) | Kind::Drawn(_) | Kind::Given(_) => Family::Cells,
            Kind::Extruded(_) | Kind::Planar(_) => Family::Extruded,
            Kind::Seeded(_) => Family::Seeded,
        }
    }

    /// Is it made of walls, not of struts?
    pub fn walls(self, form: Form) -> bool {
        match self {
            Kind::Surface(_) => form == Form::Walls,
            Kind::Cell(_) | Kind::Drawn(_) | Kind::Given(GivenKind::OwnStruts) => false,
            Kind::Extruded(_)
            | Kind::Planar(_)
            | Kind::Foam(_)
            | Kind::Given(GivenKind::OwnMesh) => true,
            Kind::Seeded(kind) => kind == SeededKind::VoronoiWalls,
        }
    }

    /// Is the structure made of struts? Networks beside a surface are neither struts nor walls.
    pub fn struts(self) -> bool {
        match self {
            Kind::Cell(_) | Kind::Drawn(_) | Kind::Given(GivenKind::OwnStruts) => true,
            Kind::Seeded(kind) => kind != SeededKind::VoronoiWalls,
            Kind::Surface(_)
            | Kind::Extruded(_)
            | Kind::Planar(_)
            | Kind::Foam(_)
            | Kind::Given(GivenKind::OwnMesh) => false,
        }
    }

    /// Does it grow from seed points?
    pub fn seeded(self) -> bool {
        matches!(self, Kind::Seeded(_) | Kind::Planar(_))
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
            },
            Kind::Drawn(DrawnKind::OwnCell) => "Own cell",
            Kind::Foam(FoamKind::FoamSheet) => "Foam sheet",
            Kind::Given(GivenKind::OwnStruts) => "Own struts",
            Kind::Given(GivenKind::OwnMesh) => "Cell from a file",
            Kind::Extruded(kind) => match kind {
                ExtrudedKind::Hexagons => "Hexagons",
                ExtrudedKind::Squares => "Squares",
                ExtrudedKind::Triangles => "Triangles",
                ExtrudedKind::BowTies => "Bow ties",
            },
            Kind::Planar(PlanarKind::PlanarVoronoi) => "Planar Voronoi",
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
}
