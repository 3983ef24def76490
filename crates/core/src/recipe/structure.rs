//! What fills a zone: kind, cell size, placement, seed points, joins.

use super::{check, own_mesh, CleanUp, Course, FaceMark, OwnCell, OwnMesh, OwnPoints, OwnStruts, RecipeError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Kind of structure, by family. In JSON the kind's name alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "no structure has that kind")]
pub enum Kind {
    Surface(SurfaceKind),
    Cell(CellKind),
    Extruded(ExtrudedKind),
    Seeded(SeededKind),
    Foam(FoamKind),
    Given(GivenKind),
}

/// Triply periodic surfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SurfaceKind {
    Gyroid,
    SchwarzP,
    SchwarzD,
    Iwp,
    Neovius,
    Frd,
    SplitP,
    Lidinoid,
}

impl SurfaceKind {
    pub const COUNT: usize = SurfaceKind::Lidinoid as usize + 1;
}

/// Cells of struts that repeat along three axes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CellKind {
    Cubic,
    BodyCentred,
    /// With struts along the third axis.
    BodyCentredVertical,
    FaceCentred,
    /// With struts along the third axis.
    FaceCentredVertical,
    /// Body-centred and face-centred together.
    BodyFaceCentred,
    Octet,
    Kelvin,
    Diamond,
    RhombicDodecahedron,
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
    Squares,
    /// Equilateral; the size is a side.
    Triangles,
    /// Bow ties, which grow wider when they are pulled.
    BowTies,
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
    Surfaces,
    Cells,
    Extruded,
    Seeded,
}

impl Kind {
    /// Every kind that needs no file, family by family.
    pub fn all() -> Vec<Kind> {
        use {CellKind::*, ExtrudedKind::*, SeededKind::*, SurfaceKind::*};
        let surfaces = [Gyroid, SchwarzP, SchwarzD, Iwp, Neovius, Frd, SplitP, Lidinoid].map(Kind::Surface);
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
    #[schema(required = true)]
    pub layout: Layout,
    /// Points on the surface, where some lie there; absent: as many as sides of the cell size cover it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub surface_count: Option<u32>,
    /// Those lie evenly as they are seen along the structure's z, not by the area of the surface: steep faces hold few.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub from_above: bool,
    /// The integer that repeats an arrangement.
    #[schema(required = true)]
    pub random: u32,
    #[schema(required = true)]
    pub spread: Spread,
    /// Rounds in which every point moves to the middle of its cell.
    #[schema(required = true)]
    pub rounds: u32,
    /// Loose points keep this distance from each other, in cells; 0: as chance has it. There may then be fewer of them.
    #[schema(required = true)]
    pub apart: f64,
    /// Nearest points that each point is joined to.
    #[schema(required = true)]
    pub neighbours: u32,
    /// Struts between points that are shorter, in cells, are left out.
    #[schema(required = true)]
    pub shortest: f64,
    /// And those that are longer.
    #[schema(required = true)]
    pub longest: f64,
    /// Struts where the cells meet the part's surface, so that the lattice ends in a closed net.
    #[schema(required = true)]
    pub net: bool,
    /// Struts inside the part too, where there is a net.
    #[schema(required = true)]
    pub inner: bool,
    /// Width of the holes in walls over that of the walls, for powder and resin to leave; 0 for none.
    #[schema(required = true)]
    pub holes: f64,
    /// Struts along the part's sharp edges, where there is a net.
    #[schema(required = true)]
    pub edges: bool,
    /// Struts shorter than this share of the cell size are drawn together into one node.
    #[schema(required = true)]
    pub weld: f64,
    /// Cells are smaller near some places.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub finer: Option<Finer>,
}

/// Where cells are smaller: around the zones that ask for it, and along the surface if wanted. With a count of
/// points cells elsewhere become larger; without one there are more points.
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
            neighbours: 4,
            shortest: 0.0,
            longest: 2.2,
            net: true,
            inner: true,
            holes: 0.0,
            edges: true,
            weld: 0.1,
            finer: None,
        }
    }
}

/// Most rounds of relaxing; they end before when nothing moves.
const MOST_ROUNDS: u32 = 2000;

/// Most seed points of a structure.
pub const MOST_SEEDS: u32 = 500_000;

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Structure {
    pub kind: Kind,
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
    /// Extruded walls stand upright on this face, or run along its axis where it has one; they are turned from there.
    /// Absent: from the part's own axes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upright: Option<FaceMark>,
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
        let Seeds { own, count, layout, surface_count, from_above, random, spread, apart, finer, .. } = seeds.clone();
        let planar = Kind::Extruded(ExtrudedKind::PlanarVoronoi);
        let kind = if self.kind == planar { planar } else { Kind::Seeded(SeededKind::Voronoi) };
        let seeds =
            Seeds { own, count, layout, surface_count, from_above, random, spread, apart, finer, rounds: 0, ..Seeds::default() };
        Structure { kind, cell_mm, shift_mm, rotation_deg, upright: self.standing().cloned(), seeds, ..Structure::default() }
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

    pub(super) fn validate(&self, longest: f64) -> Result<(), RecipeError> {
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
        let s = &self.seeds;
        s.own.as_ref().map_or(Ok(()), OwnPoints::validate)?;
        if let Some(count) = s.count {
            check("structure.seeds.count", "The number of seed points", "", count as f64, 1.0, MOST_SEEDS as f64)?;
        }
        if let Some(count) = s.surface_count {
            check(
                "structure.seeds.surface_count",
                "The number of points on the surface",
                "",
                count as f64,
                1.0,
                MOST_SEEDS as f64,
            )?;
        }
        check("structure.seeds.rounds", "The number of rounds", "", s.rounds as f64, 0.0, MOST_ROUNDS as f64)?;
        check("structure.seeds.apart", "The distance that points keep, in cells,", "", s.apart, 0.0, 0.7)?;
        check("structure.seeds.shortest", "The length of the shortest struts, in cells,", "", s.shortest, 0.0, 1.0)?;
        check("structure.seeds.longest", "The length of the longest struts, in cells,", "", s.longest, 0.5, 5.0)?;
        if s.shortest >= s.longest {
            return Err(RecipeError::new(
                "structure.seeds.shortest",
                "No strut is as long as the shortest and as short as the longest that are allowed.",
                "Make the upper limit larger than the lower one.",
            ));
        }
        check("structure.seeds.holes", "The share of walls that holes take", "", s.holes, 0.0, 0.95)?;
        check("structure.seeds.neighbours", "The number of neighbours", "", s.neighbours as f64, 1.0, 12.0)?;
        if let Some(f) = &s.finer {
            check("structure.seeds.finer.share", "The share of the cell size", "", f.share, LEAST_SHARE, 1.0)?;
            let what = "The distance over which cells grow";
            check("structure.seeds.finer.reach_mm", what, "mm", f.reach_mm, longest / 1000.0, 10.0 * longest)?;
        }
        check("structure.seeds.weld", "The share below which struts are welded", "", s.weld, 0.0, 0.4)
    }
}

/// How struts and walls meet. Absolute, so that thickness and density stay in step.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Joins {
    /// Radius within which members that meet flow into each other. mm.
    #[schema(required = true)]
    pub blend_mm: f64,
    /// By how much nodes are thicker than the struts that meet there. mm.
    #[schema(required = true)]
    pub node_mm: f64,
    /// By how much struts of the net on the part's surface are thicker than those inside. mm.
    #[schema(required = true)]
    pub net_mm: f64,
    /// Where no skin or solid covers it the lattice reaches past the part's surface by half its thickness, so that struts
    /// there are whole; else it is trimmed.
    #[schema(required = true)]
    pub proud: bool,
    /// What struts look like where they are cut across.
    #[serde(skip_serializing_if = "StrutSection::is_round")]
    pub section: StrutSection,
    /// Struts are thicker toward some places; absent: as thick at both ends.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub taper: Option<Taper>,
}

/// Struts that are thicker where they are nearer to something: every end by what holds at its node.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Taper {
    pub toward: Toward,
    /// By how much, right there. mm.
    pub more_mm: f64,
    /// Distance over which that fades to nothing. mm.
    pub reach_mm: f64,
}

/// Where tapered struts are thickest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Toward {
    /// The part's surface.
    Surface,
    /// What is kept solid.
    Solids,
    /// Zones that ask for it.
    Zones,
}

/// The section of struts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "shape", deny_unknown_fields)]
pub enum StrutSection {
    /// As wide as the thickness.
    #[default]
    Round,
    /// As wide as the thickness, and higher.
    Rectangular {
        /// By how much. mm.
        taller_mm: f64,
        /// About the strut's axis; untwisted the height of a strut points as far along z as it can, that of an upright
        /// one along x. Degrees.
        turn_deg: f64,
    },
}

impl StrutSection {
    pub fn is_round(&self) -> bool {
        *self == StrutSection::Round
    }
}

impl Joins {
    pub(super) fn validate(&self, cell: f64) -> Result<(), RecipeError> {
        check("joins.blend_mm", "The blend", "mm", self.blend_mm, 0.0, 0.5 * cell)?;
        check("joins.net_mm", "The net's extra thickness", "mm", self.net_mm, 0.0, 0.8 * cell)?;
        if let StrutSection::Rectangular { taller_mm, turn_deg } = self.section {
            check("joins.section.taller_mm", "The height of struts over their width", "mm", taller_mm, 0.0, cell)?;
            check("joins.section.turn_deg", "The turn of struts about their axes", "°", turn_deg, -360.0, 360.0)?;
        }
        if let Some(t) = &self.taper {
            check("joins.taper.more_mm", "What tapered struts are thicker by", "mm", t.more_mm, 0.0, 0.8 * cell)?;
            check("joins.taper.reach_mm", "The distance over which struts taper", "mm", t.reach_mm, 0.1 * cell, 1000.0 * cell)?;
        }
        check("joins.node_mm", "The nodes' extra thickness", "mm", self.node_mm, 0.0, 0.8 * cell)
    }
}
