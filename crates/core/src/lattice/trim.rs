//! A raw net of struts made into the part's skeleton: what lies outside goes, short struts are welded, loose
//! pieces dropped.

use super::clean::{lengths, spread_out, without_dead_ends};
use super::skeleton::Skeleton;
use super::Facts;
use crate::grid::{Bits, Grid};
use crate::part::Part;
use crate::recipe::CleanUp;
use crate::sample::sample_part;
use glam::DVec3;
use rayon::prelude::*;

/// Only what reaches into the part, cut off at its surface where an outer net closes it, short struts
/// welded, and of several pieces those that count; then cleaned as is asked. `weld` is the length below which a strut at a
/// place is short.
pub fn cleaned(
    part: &Part,
    raw: Skeleton,
    outer: Skeleton,
    cell: f64,
    weld: &(dyn Fn(DVec3) -> f64 + Sync),
    clean: &CleanUp,
) -> (Skeleton, Facts) {
    let once = raw.filtered(|_| true);
    let duplicates = raw.struts.len() - once.struts.len();
    // Nodes inside, and how far from the part the others are: a strut that cannot reach it is dropped.
    let longest = once.struts.iter().map(|s| once.length(*s)).fold(0.0, f64::max);
    let deep = Deep::new(part, longest);
    let away: Vec<f64> = once
        .nodes
        .par_iter()
        .map(|p| part.distance.query(*p, longest).map_or_else(|| if deep.inside(*p) { -longest } else { f64::INFINITY }, |q| q.0))
        .collect();
    let reaches = |s: [u32; 2]| {
        let [a, b] = s.map(|n| away[n as usize]);
        a < 0.0 || b < 0.0 || {
            let l = once.length(s);
            let [p, q] = once.ends(s);
            a.min(b) < l && part.distance.query((p + q) * 0.5, l).is_some_and(|(d, _)| d < 0.5 * l)
        }
    };
    // With an outer net what is short becomes one of its nodes.
    let least = if outer.struts.is_empty() { clean.least_left * cell } else { 0.0 };
    let is_whole = |s: [u32; 2]| s.iter().all(|n| away[*n as usize] < 0.0);
    let enough = |s: [u32; 2]| least == 0.0 || is_whole(s) || left(part, once.ends(s)) >= least;
    let reaching: Vec<[u32; 2]> = once.struts.par_iter().copied().filter(|s| reaches(*s)).collect();
    let struts: Vec<[u32; 2]> = reaching.par_iter().copied().filter(|s| enough(*s)).collect();
    let cut_short = reaching.len() - struts.len();
    let inside = Skeleton { struts, ..once };
    let joined = if outer.struts.is_empty() {
        inside.filtered(|_| true)
    } else {
        // Where a cell's edge leaves the part three borders of the net meet: the same place but for
        // rounding.
        cut_off(part, &inside, &away).with(outer).merged(1e-5 * cell)
    };
    let on_surface = |p: &DVec3| part.bvh().nearest(*p, (1e-6 * cell).powi(2)).is_some();
    let held: Vec<bool> = joined.nodes.par_iter().map(on_surface).collect();
    let (welded, drawn) = joined.welded(weld, &held);
    // Pieces of a strut or two that hang on nothing would come out loose.
    let (piece_of, pieces) = welded.pieces();
    let mut length = vec![0.0; pieces];
    for s in &welded.struts {
        length[piece_of[s[0] as usize] as usize] += welded.length(*s);
    }
    let most = length.iter().copied().fold(0.0, f64::max);
    let whole = welded.filtered(|s| length[piece_of[s[0] as usize] as usize] > 0.02 * most);
    let dropped = welded.struts.len() - whole.struts.len();
    let (ended, dead_ends) = without_dead_ends(part, whole, clean.dead_ends, cell);
    let (spread, drawn_apart) = spread_out(ended, clean.most_at_node as usize, cell);
    // Pieces of the net on the surface are as short as the part's triangles.
    let lengths = lengths(&joined.filtered(|s| !s.iter().all(|n| held[*n as usize])));
    let facts = Facts { welded: drawn, dropped, duplicates, dead_ends, cut_short, drawn_apart, lengths, ..spread.facts() };
    (spread, facts)
}

/// Sides of places that are far from the part's surface, without asking for what is nearest.
struct Deep<'a> {
    part: &'a Part,
    /// None where it would need too many samples.
    signs: Option<(Grid, Bits)>,
}

impl Deep<'_> {
    /// For places farther than `far` mm from the surface: a sample within half a diagonal of its cell is on the
    /// same side.
    fn new(part: &Part, far: f64) -> Deep<'_> {
        const MOST_SAMPLES: u64 = 100_000_000;
        let bounds = part.mesh.bounds();
        let few = far > bounds.size().max_element() / 2000.0;
        let grid = few.then(|| Grid::covering(&bounds, far)).filter(|g| g.samples() < MOST_SAMPLES);
        Deep { part, signs: grid.and_then(|g| sample_part(part, &g, &|| false).map(|bits| (g, bits))) }
    }

    fn inside(&self, p: DVec3) -> bool {
        let Some((grid, bits)) = &self.signs else { return self.part.distance.inside(p) };
        let at = ((p - grid.origin) / grid.step).round();
        let within = at.cmpge(DVec3::ZERO).all() && at.cmplt(grid.size.as_dvec3()).all();
        within && bits.get(at.x as u32, at.y as u32, at.z as u32)
    }
}

/// Length of the stretches of a strut that lie inside the part.
fn left(part: &Part, [a, b]: [DVec3; 2]) -> f64 {
    stretches(part, [a, b]).into_iter().flatten().map(|[from, to]| (to - from) * a.distance(b)).sum()
}

/// The stretches of a strut between places where it passes the part's surface that lie inside: 0 at its first end, 1 at the
/// second. `None` when it passes it nowhere.
fn stretches(part: &Part, [a, b]: [DVec3; 2]) -> Option<Vec<[f64; 2]>> {
    let mut hits = Vec::new();
    part.distance.segment_hits(a, b, &mut hits);
    if hits.is_empty() {
        return None;
    }
    let mut at: Vec<f64> = hits.iter().map(|h| h.t).chain([0.0, 1.0]).collect();
    at.sort_by(f64::total_cmp);
    let inside = |w: &&[f64]| w[1] - w[0] > 1e-9 && part.distance.inside(a.lerp(b, 0.5 * (w[0] + w[1])));
    Some(at.windows(2).filter(inside).map(|w| [w[0], w[1]]).collect())
}

/// The stretches of struts that lie inside the part. `away` is how far the nodes are from its surface, negative
/// inside.
fn cut_off(part: &Part, net: &Skeleton, away: &[f64]) -> Skeleton {
    let stretches: Vec<[DVec3; 2]> = net
        .struts
        .par_iter()
        .flat_map_iter(|s| {
            let [a, b] = net.ends(*s);
            let Some(inside) = stretches(part, [a, b]) else {
                let deeper = s.map(|n| away[n as usize]).into_iter().max_by(|x, y| x.abs().total_cmp(&y.abs()));
                return deeper.filter(|d| *d < 0.0).map(|_| [a, b]).into_iter().collect::<Vec<_>>();
            };
            inside.into_iter().map(|w| w.map(|t| a.lerp(b, t))).collect()
        })
        .collect();
    Skeleton {
        nodes: stretches.iter().flatten().copied().collect(),
        struts: (0..stretches.len() as u32).map(|n| [2 * n, 2 * n + 1]).collect(),
    }
}
