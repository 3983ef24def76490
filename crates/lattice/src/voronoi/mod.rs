//! Voronoi cells of points, by clipping.
//!
//! | module | idea |
//! |---|---|
//! | `cell` | one point's cell |
//! | `emit` | what cells add to the diagram |

mod cell;
mod emit;

use super::skeleton::Skeleton;
use cell::Cell;
pub use emit::DiagramRequest;
use emit::{joined, Batch, Emitter, TOGETHER};
use glam::DVec3;
use std::ops::Range;
use ulmix_mesh::parallel;
use ulmix_mesh::PointGrid;

/// What bounds cells.
#[derive(Clone, Copy, Debug)]
pub struct DiagramBounds {
    /// Low corner of the box. mm.
    pub low: DVec3,
    /// High corner of the box. mm.
    pub high: DVec3,
    /// No cell reaches farther from its point along an axis: at the rim of the points cells would
    /// have no end, and ask all others.
    pub radius: f64,
    /// Points from this number on only complete the cells of those before. Nothing lies on their
    /// far side, and their own cells need not be whole there: they reach no farther than this.
    pub outer: (usize, f64),
}

/// What is known of a point's cell.
#[derive(Clone, Copy, Debug, Default)]
pub struct CellFacts {
    /// Volume of the cell. mm³.
    pub volume: f64,
    /// Centre of gravity of the cell. mm.
    pub middle: DVec3,
}

/// Cells of points that move a little at a time: what bounded a cell last time is looked at first.
#[derive(Clone, Default)]
pub struct VoronoiCells {
    likely: Vec<Vec<u32>>,
}

impl VoronoiCells {
    /// Memory held, about.
    pub fn bytes(&self) -> usize {
        self.likely.iter().map(|l| 24 + 4 * l.capacity()).sum()
    }

    /// Volume and middle of the cells of the first `count` points.
    pub fn facts(
        &mut self,
        points: &[DVec3],
        count: usize,
        bounds: &DiagramBounds,
    ) -> Vec<CellFacts> {
        let grid = PointGrid::new(points);
        self.likely.resize(points.len(), Vec::new());
        let mut runs: Vec<&mut [Vec<u32>]> = self.likely[..count].chunks_mut(TOGETHER).collect();
        let facts = parallel::map_mut(&mut runs, |run, likely| {
            let mut cell = Cell::default();
            let of_point = |(likely, own): (&mut Vec<u32>, usize)| {
                cell.build(points, &grid, own, bounds, likely);
                cell.neighbours(likely);
                let (volume, middle) = cell.centroid();
                CellFacts { volume, middle: points[own] + middle }
            };
            likely.iter_mut().zip(run * TOGETHER..).map(of_point).collect::<Vec<_>>()
        });
        facts.concat()
    }

    /// Do all corners of the cells of the first `count` points lie `inside`?
    pub fn whole(
        &self,
        points: &[DVec3],
        count: usize,
        bounds: &DiagramBounds,
        inside: &(dyn Fn(DVec3) -> bool + Sync),
    ) -> Vec<bool> {
        let grid = PointGrid::new(points);
        let is_whole = |cell: &mut Cell, own: usize| {
            cell.build(points, &grid, own, bounds, self.likely.get(own).map_or(&[], |l| l));
            (0..cell.corner_count()).all(|n| inside(points[own] + cell.corner(n).place))
        };
        parallel::gather(count, |run, out| {
            let mut cell = Cell::default();
            out.extend(run.map(|own| is_whole(&mut cell, own)));
        })
    }
}

/// The cells of all points together.
pub struct Diagram {
    /// Edges of the cells that are asked for; those on the box are left out.
    pub edges: Skeleton,
    /// Of every cell.
    pub volumes: Vec<f64>,
    /// For every wall the diameter of the widest ball that fits through, about.
    pub widths: Vec<f64>,
    /// Pairs of points whose cells share a wall, each once, first point first.
    pub pairs: Vec<[u32; 2]>,
    /// For every wall the middle of its area, and the radius of the widest circle around that in
    /// the wall where it is asked for.
    pub discs: Vec<(DVec3, f64)>,
}

/// The cells of points of which nothing is known yet, and all of their edges.
#[cfg(test)]
pub fn diagram(points: &[DVec3], bounds: &DiagramBounds) -> Diagram {
    VoronoiCells::default().diagram(
        points,
        bounds,
        &DiagramRequest { edge: &|_, _| true, circles: true },
    )
}

impl VoronoiCells {
    /// What is asked for of all of them.
    pub fn diagram(
        &self,
        points: &[DVec3],
        bounds: &DiagramBounds,
        asked: &DiagramRequest,
    ) -> Diagram {
        let grid = PointGrid::new(points);
        // Neighbours one after the other: what one has asked for is still near the processor for
        // the next.
        let order = grid.in_order();
        let of_run = |run: Range<usize>| {
            let (mut emitter, mut batch) = (Emitter::default(), Batch::default());
            for &own in &order[run] {
                let (p, likely) = (points[own as usize], self.likely.get(own as usize));
                emitter.cell.build(points, &grid, own as usize, bounds, likely.map_or(&[], |l| l));
                emitter.add(p, own, asked, &mut batch);
            }
            batch
        };
        let batches: Vec<Batch> = parallel::runs(order.len(), TOGETHER, of_run);
        let mut volumes = vec![0.0; points.len()];
        let found = batches.iter().flat_map(|batch| &batch.volumes);
        order.iter().zip(found).for_each(|(own, volume)| volumes[*own as usize] = *volume);
        let walls = || batches.iter().flat_map(|batch| &batch.walls);
        Diagram {
            edges: joined(points, &batches, order),
            volumes,
            widths: walls().map(|w| w.width).collect(),
            pairs: walls().map(|w| w.pair).collect(),
            discs: walls().map(|w| w.disc).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;
    use ulmix_field::numeric::low_discrepancy;

    fn scattered(n: u64, seed: u64) -> Vec<DVec3> {
        (1..=n).map(|i| (low_discrepancy(i * 2 + seed) * 7919.0).fract() * 10.0).collect()
    }
    const ALL: DiagramBounds = DiagramBounds {
        low: DVec3::ZERO,
        high: DVec3::splat(10.0),
        radius: f64::INFINITY,
        outer: (usize::MAX, f64::INFINITY),
    };

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20))]
        #[test]
        fn cells_fill_the_box_and_obey_their_laws(n in 5u64..120, seed in 0u64..1000) {
            let points = scattered(n, seed);
            let facts = VoronoiCells::default().facts(&points, points.len(), &ALL);
            let sum: f64 = facts.iter().map(|f| f.volume).sum();
            prop_assert!((sum - 1000.0).abs() < 1e-6, "{sum}");
            // A vertex is as far from four points, and no point is nearer.
            let net = diagram(&points, &ALL).edges;
            for v in &net.nodes {
                let mut d: Vec<f64> = points.iter().map(|p| p.distance(*v)).collect();
                d.sort_by(f64::total_cmp);
                prop_assert!(d[3] - d[0] < 1e-6, "{:?}", &d[..5]);
            }
            let mut seen = std::collections::BTreeSet::new();
            prop_assert!(net.struts.iter().all(|s| seen.insert((s[0].min(s[1]), s[0].max(s[1])))));
        }
    }

    #[test]
    fn cells_of_rows_are_whole_where_all_of_their_corners_are_inside() {
        let points: Vec<DVec3> = (0..125)
            .map(|n| DVec3::from([n % 5, n / 5 % 5, n / 25].map(|i| 2.0 * i as f64 + 1.0)))
            .collect();
        // Cubes with a side of 2 in a box of 10: those of three of five rows lie in it without the
        // outermost 1.9.
        let inside = |p: DVec3| (p - 5.0).abs().max_element() < 3.1;
        let whole = VoronoiCells::default().whole(&points, points.len(), &ALL, &inside);
        assert!(whole
            .iter()
            .zip(&points)
            .all(|(w, p)| *w == ((*p - 5.0).abs().max_element() < 2.1)));
        assert_eq!(whole.iter().filter(|w| **w).count(), 27);
    }

    #[test]
    fn cells_obey_euler_and_inner_nodes_have_four_struts() {
        let points = scattered(200, 3);
        let grid = PointGrid::new(&points);
        for own in 0..200 {
            let mut cell = Cell::default();
            cell.build(&points, &grid, own, &ALL, &[]);
            let (mut walls, mut edges) = (std::collections::BTreeSet::new(), 0);
            cell.each_edge(|a, _, _, _, _| {
                walls.insert(a);
                edges += 1;
            });
            assert_eq!(cell.corner_count() + walls.len(), edges / 2 + 2);
        }
        let Diagram { edges: net, widths, .. } = diagram(&points, &ALL);
        let mut degree: BTreeMap<u32, usize> = BTreeMap::new();
        net.struts.iter().flatten().for_each(|n| *degree.entry(*n).or_default() += 1);
        let inner = |p: DVec3| p.min_element() > 3.0 && p.max_element() < 7.0;
        let degrees: Vec<usize> = (0..net.nodes.len())
            .filter(|n| inner(net.nodes[*n]))
            .map(|n| degree[&(n as u32)])
            .collect();
        assert!(degrees.len() > 20 && degrees.iter().all(|d| *d == 4));
        assert!(widths.iter().all(|w| *w > 0.0 && *w < 10.0));
    }

    #[test]
    fn points_in_rows_and_equal_points_break_nothing() {
        let mut points: Vec<DVec3> = (0..125)
            .map(|n| DVec3::new((n % 5) as f64, (n / 5 % 5) as f64, (n / 25) as f64) * 2.0 + 1.0)
            .collect();
        points.push(points[17]);
        let facts = VoronoiCells::default().facts(&points, points.len(), &ALL);
        for (n, f) in facts.iter().enumerate() {
            if n != 17 && n != 125 {
                assert!((f.volume - 8.0).abs() < 1e-6, "{n}: {}", f.volume);
            }
        }
        assert_eq!(
            diagram(&points[..125], &ALL).pairs.iter().filter(|p| p[1] - p[0] == 1).count(),
            100
        );
    }
}
