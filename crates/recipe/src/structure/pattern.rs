//! What a structure is made of: one variant a family, with the values that it has and no others.

use super::{
    CellKind, DrawnKind, ExtrudedKind, FoamKind, Form, GivenKind, Kind, PlanarKind, SeededKind,
    SurfaceKind,
};
use crate::{
    check, CleanUp, Course, FaceMark, Layout, OwnCell, OwnMesh, OwnStruts, RecipeError,
    RecipeFault, Seeds,
};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// What a structure is made of.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Pattern {
    /// A surface that repeats.
    Surface(SurfacePattern),
    /// A foam sheet.
    FoamSheet(FoamPattern),
    /// Known cells of struts.
    Cell(CellPattern),
    /// Cells of struts that were drawn.
    OwnCell(OwnCellPattern),
    /// Walls that stand upright on a pattern that repeats in the plane.
    Extruded(ExtrudedPattern),
    /// Walls that stand upright between the cells of points in the plane.
    PlanarVoronoi(PlanarPattern),
    /// Struts along the edges of cells of points.
    Voronoi(VoronoiPattern),
    /// Walls between the cells of points.
    VoronoiWalls(WallsPattern),
    /// Struts between points whose cells touch.
    Delaunay(DelaunayPattern),
    /// Struts from each point to its nearest ones.
    Neighbours(NeighboursPattern),
    /// Struts from a file.
    OwnStruts(OwnStrutsPattern),
    /// A cell from a file as a solid.
    OwnMesh(OwnMeshPattern),
}

/// A triply periodic surface.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SurfacePattern {
    /// The surface, by its name.
    pub surface: SurfaceKind,
    /// Walls or a network.
    #[serde(default)]
    #[schema(required = true)]
    pub form: Form,
}

impl Default for SurfacePattern {
    fn default() -> Self {
        SurfacePattern { surface: SurfaceKind::Gyroid, form: Form::Walls }
    }
}

/// A sheet that repeats nowhere.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct FoamPattern {
    /// The integer that repeats an arrangement.
    #[schema(required = true)]
    pub random: u32,
}

impl Default for FoamPattern {
    fn default() -> Self {
        FoamPattern { random: Seeds::default().random }
    }
}

/// Cells of struts that repeat along three axes or in rows that bend.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CellPattern {
    /// The known cell that repeats.
    pub cell: CellKind,
    /// Absent: rows run straight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<BentRows>,
}

/// Cells of struts that were drawn.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OwnCellPattern {
    /// The drawn cell.
    #[schema(required = true)]
    pub own: OwnCell,
    /// Absent: rows run straight.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<BentRows>,
}

/// Rows of cells that follow the part. Bent cells keep their neighbours: nodes move, struts stay
/// straight.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BentRows {
    /// Where they run.
    pub course: Course,
    /// What becomes of what the struts have too much of.
    #[serde(default)]
    #[schema(required = true)]
    pub clean: CleanUp,
}

/// Walls that stand upright on a pattern that repeats in the plane.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExtrudedPattern {
    /// The pattern across the walls.
    pub walls: ExtrudedKind,
    /// Walls stand upright on this face, or run along its axis where it has one; they are turned
    /// from there. Absent: from the part's own axes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upright: Option<FaceMark>,
}

/// Walls that stand upright between the cells of points in the plane.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct PlanarPattern {
    /// The points; all lie inside, and none closer than elsewhere.
    #[schema(required = true)]
    pub seeds: Seeds,
    /// As of [`ExtrudedPattern::upright`].
    #[serde(skip_serializing_if = "Option::is_none")]
    pub upright: Option<FaceMark>,
}

/// Struts along the edges of cells of points.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct VoronoiPattern {
    /// The points.
    #[schema(required = true)]
    pub seeds: Seeds,
    /// Struts where the cells meet the part's surface, so that the lattice ends in a closed net;
    /// `null`: none.
    #[schema(required = true)]
    pub net: Option<SurfaceNet>,
    /// What becomes of what the struts have too much of.
    #[schema(required = true)]
    pub clean: CleanUp,
}

impl Default for VoronoiPattern {
    fn default() -> Self {
        VoronoiPattern {
            seeds: Seeds::default(),
            net: Some(SurfaceNet::default()),
            clean: CleanUp::default(),
        }
    }
}

/// A net of struts on the part's surface.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SurfaceNet {
    /// Struts inside the part too.
    #[schema(required = true)]
    pub inner: bool,
    /// Struts along the part's sharp edges.
    #[schema(required = true)]
    pub edges: bool,
}

impl Default for SurfaceNet {
    fn default() -> Self {
        SurfaceNet { inner: true, edges: true }
    }
}

/// Walls between the cells of points.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct WallsPattern {
    /// The points.
    #[schema(required = true)]
    pub seeds: Seeds,
    /// Width of the holes in walls over that of the walls, for powder and resin to leave; 0 for
    /// none.
    #[schema(required = true)]
    pub holes: f64,
}

/// How long struts between points may be, in cells; others are left out.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct StrutLengths {
    /// The least.
    #[schema(required = true)]
    pub shortest: f64,
    /// The most.
    #[schema(required = true)]
    pub longest: f64,
}

impl Default for StrutLengths {
    fn default() -> Self {
        StrutLengths { shortest: 0.0, longest: 2.2 }
    }
}

/// Struts between points whose cells touch.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct DelaunayPattern {
    /// The points.
    #[schema(required = true)]
    pub seeds: Seeds,
    /// Struts of other lengths are left out.
    #[schema(required = true)]
    pub lengths: StrutLengths,
    /// What becomes of what the struts have too much of.
    #[schema(required = true)]
    pub clean: CleanUp,
}

/// Struts from each point to its nearest ones.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NeighboursPattern {
    /// The points.
    #[schema(required = true)]
    pub seeds: Seeds,
    /// Nearest points that each point is joined to.
    #[schema(required = true)]
    pub neighbours: u32,
    /// Struts of other lengths are left out.
    #[schema(required = true)]
    pub lengths: StrutLengths,
    /// What becomes of what the struts have too much of.
    #[schema(required = true)]
    pub clean: CleanUp,
}

impl Default for NeighboursPattern {
    fn default() -> Self {
        NeighboursPattern {
            seeds: Seeds::default(),
            neighbours: 4,
            lengths: StrutLengths::default(),
            clean: CleanUp::default(),
        }
    }
}

/// Struts from a file.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnStrutsPattern {
    /// The struts.
    pub own: OwnStruts,
    /// What becomes of what they have too much of.
    #[serde(default)]
    #[schema(required = true)]
    pub clean: CleanUp,
}

/// A cell from a file as a solid.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnMeshPattern {
    /// What repeats.
    pub own: OwnMesh,
}

impl Pattern {
    /// The kind of structure that the pattern makes.
    pub fn kind(&self) -> Kind {
        match self {
            Pattern::Surface(p) => Kind::Surface(p.surface),
            Pattern::FoamSheet(_) => Kind::Foam(FoamKind::FoamSheet),
            Pattern::Cell(p) => Kind::Cell(p.cell),
            Pattern::OwnCell(_) => Kind::Drawn(DrawnKind::OwnCell),
            Pattern::Extruded(p) => Kind::Extruded(p.walls),
            Pattern::PlanarVoronoi(_) => Kind::Planar(PlanarKind::PlanarVoronoi),
            Pattern::Voronoi(_) => Kind::Seeded(SeededKind::Voronoi),
            Pattern::VoronoiWalls(_) => Kind::Seeded(SeededKind::VoronoiWalls),
            Pattern::Delaunay(_) => Kind::Seeded(SeededKind::Delaunay),
            Pattern::Neighbours(_) => Kind::Seeded(SeededKind::Neighbours),
            Pattern::OwnStruts(_) => Kind::Given(GivenKind::OwnStruts),
            Pattern::OwnMesh(_) => Kind::Given(GivenKind::OwnMesh),
        }
    }

    /// A pattern of a kind: its first values, and of this one what both have. `None` for kinds that
    /// come from a file.
    pub fn of_kind(&self, kind: Kind) -> Option<Pattern> {
        if kind == self.kind() {
            return Some(self.clone());
        }
        let seeds = self.shared_seeds();
        let (lengths, clean) = (self.lengths().unwrap_or_default(), self.clean().copied());
        let (clean, rows) = (clean.unwrap_or_default(), self.rows().cloned());
        let upright = self.upright().copied();
        Some(match kind {
            Kind::Surface(surface) => {
                let form = if let Pattern::Surface(p) = self { p.form } else { Form::Walls };
                Pattern::Surface(SurfacePattern { surface, form })
            }
            Kind::Foam(FoamKind::FoamSheet) => {
                Pattern::FoamSheet(FoamPattern { random: seeds.random })
            }
            Kind::Cell(cell) => Pattern::Cell(CellPattern { cell, rows }),
            Kind::Drawn(DrawnKind::OwnCell) => {
                Pattern::OwnCell(OwnCellPattern { own: OwnCell::default(), rows })
            }
            Kind::Extruded(walls) => Pattern::Extruded(ExtrudedPattern { walls, upright }),
            Kind::Planar(PlanarKind::PlanarVoronoi) => {
                Pattern::PlanarVoronoi(PlanarPattern { seeds: seeds.in_plane(), upright })
            }
            Kind::Seeded(SeededKind::Voronoi) => {
                let net = Some(SurfaceNet::default());
                Pattern::Voronoi(VoronoiPattern { seeds, net, clean })
            }
            Kind::Seeded(SeededKind::VoronoiWalls) => {
                Pattern::VoronoiWalls(WallsPattern { seeds, ..WallsPattern::default() })
            }
            Kind::Seeded(SeededKind::Delaunay) => {
                Pattern::Delaunay(DelaunayPattern { seeds, lengths, clean })
            }
            Kind::Seeded(SeededKind::Neighbours) => Pattern::Neighbours(NeighboursPattern {
                seeds,
                lengths,
                clean,
                ..NeighboursPattern::default()
            }),
            Kind::Given(_) => return None,
        })
    }

    /// Seed points for another kind: those of this one, or what a foam sheet has of them.
    fn shared_seeds(&self) -> Seeds {
        match self {
            Pattern::FoamSheet(p) => Seeds { random: p.random, ..Seeds::default() },
            _ => self.seeds().cloned().unwrap_or_default(),
        }
    }

    /// The points that the pattern grows from, where it does.
    pub fn seeds(&self) -> Option<&Seeds> {
        match self {
            Pattern::PlanarVoronoi(p) => Some(&p.seeds),
            Pattern::Voronoi(p) => Some(&p.seeds),
            Pattern::VoronoiWalls(p) => Some(&p.seeds),
            Pattern::Delaunay(p) => Some(&p.seeds),
            Pattern::Neighbours(p) => Some(&p.seeds),
            _ => None,
        }
    }

    /// The points that the pattern grows from, to be changed.
    pub fn seeds_mut(&mut self) -> Option<&mut Seeds> {
        match self {
            Pattern::PlanarVoronoi(p) => Some(&mut p.seeds),
            Pattern::Voronoi(p) => Some(&mut p.seeds),
            Pattern::VoronoiWalls(p) => Some(&mut p.seeds),
            Pattern::Delaunay(p) => Some(&mut p.seeds),
            Pattern::Neighbours(p) => Some(&mut p.seeds),
            _ => None,
        }
    }

    /// What becomes of what struts have too much of, where they are listed one by one.
    pub fn clean(&self) -> Option<&CleanUp> {
        match self {
            Pattern::Voronoi(p) => Some(&p.clean),
            Pattern::Delaunay(p) => Some(&p.clean),
            Pattern::Neighbours(p) => Some(&p.clean),
            Pattern::OwnStruts(p) => Some(&p.clean),
            _ => Some(&self.rows()?.clean),
        }
    }

    /// The clean-up of struts that are listed one by one, to be changed.
    pub fn clean_mut(&mut self) -> Option<&mut CleanUp> {
        match self {
            Pattern::Voronoi(p) => Some(&mut p.clean),
            Pattern::Delaunay(p) => Some(&mut p.clean),
            Pattern::Neighbours(p) => Some(&mut p.clean),
            Pattern::OwnStruts(p) => Some(&mut p.clean),
            Pattern::Cell(CellPattern { rows, .. })
            | Pattern::OwnCell(OwnCellPattern { rows, .. }) => Some(&mut rows.as_mut()?.clean),
            _ => None,
        }
    }

    /// Rows of cells that bend.
    pub fn rows(&self) -> Option<&BentRows> {
        match self {
            Pattern::Cell(CellPattern { rows, .. })
            | Pattern::OwnCell(OwnCellPattern { rows, .. }) => rows.as_ref(),
            _ => None,
        }
    }

    /// The face that walls stand on.
    pub fn upright(&self) -> Option<&FaceMark> {
        match self {
            Pattern::Extruded(ExtrudedPattern { upright, .. })
            | Pattern::PlanarVoronoi(PlanarPattern { upright, .. }) => upright.as_ref(),
            _ => None,
        }
    }

    /// How long struts between points may be.
    fn lengths(&self) -> Option<StrutLengths> {
        match self {
            Pattern::Delaunay(DelaunayPattern { lengths, .. })
            | Pattern::Neighbours(NeighboursPattern { lengths, .. }) => Some(*lengths),
            _ => None,
        }
    }

    pub(crate) fn validate(&self, part: &Bounds) -> Result<(), RecipeError> {
        self.rows().map_or(Ok(()), |rows| rows.course.validate())?;
        self.lengths().map_or(Ok(()), |lengths| lengths.validate())?;
        self.seeds().map_or(Ok(()), |seeds| seeds.validate(part))?;
        self.clean().map_or(Ok(()), CleanUp::validate)?;
        match self {
            Pattern::OwnCell(p) => p.own.validate(),
            Pattern::PlanarVoronoi(p) => in_plane(&p.seeds),
            Pattern::VoronoiWalls(p) => {
                let what = "The share of walls that holes take";
                check("structure.pattern.holes", what, "", p.holes, 0.0, 0.95)
            }
            Pattern::Neighbours(p) => {
                let (field, what) = ("structure.pattern.neighbours", "The number of neighbours");
                check(field, what, "", p.neighbours as f64, 1.0, 12.0)
            }
            Pattern::OwnStruts(p) => p.own.validate(),
            Pattern::OwnMesh(p) => p.own.validate(),
            Pattern::Surface(_)
            | Pattern::FoamSheet(_)
            | Pattern::Cell(_)
            | Pattern::Extruded(_)
            | Pattern::Voronoi(_)
            | Pattern::Delaunay(_) => Ok(()),
        }
    }
}

/// Refuses points that cannot be those of cells in the plane.
fn in_plane(seeds: &Seeds) -> Result<(), RecipeError> {
    if seeds.layout != Layout::Inside {
        return Err(RecipeError::new("structure.pattern.seeds.layout", RecipeFault::FlatOnSurface));
    }
    Ok(())
}

impl StrutLengths {
    fn validate(&self) -> Result<(), RecipeError> {
        let field = |name: &str| format!("structure.pattern.lengths.{name}");
        let what = |which: &str| format!("The length of the {which} struts, in cells,");
        check(&field("shortest"), &what("shortest"), "", self.shortest, 0.0, 1.0)?;
        check(&field("longest"), &what("longest"), "", self.longest, 0.5, 5.0)?;
        if self.shortest >= self.longest {
            return Err(RecipeError::new(field("shortest"), RecipeFault::NoLengthLeft));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn field(pattern: Pattern) -> Option<String> {
        let part = Bounds { min: glam::DVec3::ZERO, max: glam::DVec3::splat(100.0) };
        pattern.validate(&part).err().map(|e| e.field)
    }

    #[test]
    fn each_value_is_refused_by_its_own_field() {
        let walls = |holes| Pattern::VoronoiWalls(WallsPattern { holes, ..<_>::default() });
        assert_eq!(field(walls(0.95)), None);
        assert_eq!(field(walls(1.0)).as_deref(), Some("structure.pattern.holes"));
        let near =
            |neighbours| Pattern::Neighbours(NeighboursPattern { neighbours, ..<_>::default() });
        assert_eq!(field(near(12)), None);
        assert_eq!(field(near(0)).as_deref(), Some("structure.pattern.neighbours"));
        let of = |shortest, longest| {
            let lengths = StrutLengths { shortest, longest };
            field(Pattern::Delaunay(DelaunayPattern { lengths, ..<_>::default() }))
        };
        assert_eq!(of(0.0, 5.0), None);
        assert_eq!(of(0.0, f64::INFINITY).as_deref(), Some("structure.pattern.lengths.longest"));
        // No strut is as long as the shortest and as short as the longest.
        assert_eq!(of(0.9, 0.8).as_deref(), Some("structure.pattern.lengths.shortest"));
        let planar = |seeds| field(Pattern::PlanarVoronoi(PlanarPattern { seeds, upright: None }));
        assert_eq!(planar(Seeds::default()), None);
        let both = Seeds { layout: Layout::Both, ..Seeds::default() };
        assert_eq!(planar(both.clone()).as_deref(), Some("structure.pattern.seeds.layout"));
        assert_eq!(planar(both.in_plane()), None);
    }

    #[test]
    fn a_kind_alone_is_a_pattern_with_first_values() {
        let read = |text: &str| serde_json::from_str::<Pattern>(text).unwrap();
        assert_eq!(read(r#"{"kind":"voronoi"}"#), Pattern::Voronoi(VoronoiPattern::default()));
        assert_eq!(
            read(r#"{"kind":"voronoi","net":null}"#),
            Pattern::Voronoi(VoronoiPattern { net: None, ..<_>::default() })
        );
        assert_eq!(
            read(r#"{"kind":"surface","surface":"gyroid"}"#),
            Pattern::Surface(SurfacePattern::default())
        );
        let unknown = serde_json::from_str::<Pattern>(r#"{"kind":"own_cell","seeds":{}}"#);
        assert!(unknown.unwrap_err().to_string().contains("seeds"));
    }
}
