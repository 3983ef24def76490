//! What a net of struts has too much of: dead ends, crowded nodes; how long its struts are, and how
//! they lie in the part.

use super::skeleton::Skeleton;
use super::LengthSpread;
use glam::{DMat3, DVec3};
use std::collections::BTreeSet;
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::numeric::median;
use ulmix_mesh::parallel;
use ulmix_part::Part;
use ulmix_recipe::DeadEnds;

/// Nodes nearer to the part's surface than this share of a cell end there.
const AT_SURFACE: f64 = 1e-5;

/// How a strut lies in the part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum StrutState {
    /// Joined at both ends.
    Inside = 0,
    /// The part's surface cuts it, or it ends there.
    Cut = 1,
    /// On the part's surface.
    Net = 2,
    /// With an end inside at which no other begins.
    DeadEnd = 3,
}

/// How each strut lies in the part.
pub fn states(part: &Part, net: &Skeleton, cell: f64) -> Vec<StrutState> {
    let near = NEAR_SURFACE * cell;
    let dead: BTreeSet<usize> = dead_ends(part, net, near).into_iter().map(|d| d.0).collect();
    let inside: Vec<bool> = parallel::map_list(&net.nodes, |_, p| {
        part.distance.inside(*p) && !is_near_surface(part, *p, near)
    });
    let state = |n: usize, strut: &[u32; 2]| {
        if is_on_surface(part, net.ends(*strut), cell) {
            StrutState::Net
        } else if dead.contains(&n) {
            StrutState::DeadEnd
        } else if strut.iter().any(|n| !inside[*n as usize]) {
            StrutState::Cut
        } else {
            StrutState::Inside
        }
    };
    parallel::map_list(&net.struts, state)
}

/// Welded struts of the net on the surface are chords, so many cells away from it.
const NEAR_SURFACE: f64 = 0.02;

fn is_near_surface(part: &Part, p: DVec3, near: f64) -> bool {
    part.bvh().nearest(p, near.powi(2)).is_some()
}

/// Is a strut of the net on the part's surface?
pub fn is_on_surface(part: &Part, [a, b]: [DVec3; 2], cell: f64) -> bool {
    [a, b, (a + b) * 0.5].into_iter().all(|p| is_near_surface(part, p, NEAR_SURFACE * cell))
}

/// Struts with an end inside the part, farther than `near` from its surface, at which no other
/// begins: by strut, which of its ends.
fn dead_ends(part: &Part, net: &Skeleton, near: f64) -> Vec<(usize, usize)> {
    let mut at = vec![0; net.nodes.len()];
    net.struts.iter().flatten().for_each(|n| at[*n as usize] += 1);
    let is_dead = |n: u32| {
        let p = net.nodes[n as usize];
        at[n as usize] == 1 && part.distance.inside(p) && !is_near_surface(part, p, near)
    };
    let ends =
        net.struts.iter().enumerate().flat_map(|(s, ends)| [(s, 0, ends[0]), (s, 1, ends[1])]);
    ends.filter(|e| is_dead(e.2)).map(|(s, end, _)| (s, end)).collect()
}

/// Deals with dead ends; also gives how many there were.
pub fn without_dead_ends(
    part: &Part,
    mut net: Skeleton,
    what: DeadEnds,
    cell: f64,
) -> (Skeleton, usize) {
    let near = AT_SURFACE * cell;
    let first = dead_ends(part, &net, near);
    let found = first.len();
    match what {
        DeadEnds::Kept => {}
        DeadEnds::Extended => {
            let far = part.mesh.bounds().size().length();
            for (strut, end) in first {
                let (node, from) =
                    (net.struts[strut][end] as usize, net.struts[strut][1 - end] as usize);
                let (p, along) =
                    (net.nodes[node], (net.nodes[node] - net.nodes[from]).normalize_or_zero());
                let mut crossings = Vec::new();
                part.distance.segment_crossings(p, p + along * far, &mut crossings);
                if let Some(t) = crossings.iter().map(|h| h.t).min_by(f64::total_cmp) {
                    net.nodes[node] = p + along * (t * far);
                }
            }
        }
        DeadEnds::Removed => {
            // What hung on nothing but a dead end is one next.
            let mut dead = first;
            while !dead.is_empty() {
                let gone: BTreeSet<[u32; 2]> = dead.iter().map(|d| net.struts[d.0]).collect();
                net = net.filtered(|s| !gone.contains(&s));
                dead = dead_ends(part, &net, near);
            }
        }
    }
    (net, found)
}

/// Halves of a node are drawn so far apart, in cells.
const APART: f64 = 0.15;

/// Draws nodes with more struts apart along the way in which those spread most, each half with a
/// strut to the other, until none is left. Also gives how many nodes there were.
pub fn spread_out(mut net: Skeleton, most: usize, cell: f64) -> (Skeleton, usize) {
    if most == 0 {
        return (net, 0);
    }
    let mut at: Vec<Vec<u32>> = vec![Vec::new(); net.nodes.len()];
    for (s, ends) in net.struts.iter().enumerate() {
        ends.iter().for_each(|n| at[*n as usize].push(s as u32));
    }
    let mut crowded: Vec<usize> = (0..at.len()).filter(|n| at[*n].len() > most).collect();
    let found = crowded.len();
    let mut drawn: BTreeSet<u32> = BTreeSet::new();
    while let Some(node) = crowded.pop() {
        let p = net.nodes[node];
        let way = |s: u32| {
            let [a, b] = net.struts[s as usize];
            (net.nodes[if a as usize == node { b } else { a } as usize] - p).normalize_or_zero()
        };
        let axis = widest(at[node].iter().map(|s| way(*s)));
        let mut sorted: Vec<(f64, u32)> =
            at[node].iter().map(|s| (way(*s).dot(axis), *s)).collect();
        sorted.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let upper: Vec<u32> = sorted[sorted.len() / 2..].iter().map(|s| s.1).collect();
        let new = net.nodes.len();
        net.nodes[node] = p - axis * (0.5 * APART * cell);
        net.nodes.push(p + axis * (0.5 * APART * cell));
        for s in &upper {
            net.struts[*s as usize]
                .iter_mut()
                .filter(|n| **n as usize == node)
                .for_each(|n| *n = new as u32);
        }
        at[node].retain(|s| !upper.contains(s));
        let link = net.struts.len() as u32;
        net.struts.push([node as u32, new as u32]);
        at[node].push(link);
        at.push(upper);
        at[new].push(link);
        drawn.extend([node as u32, new as u32]);
        crowded.extend([node, new].into_iter().filter(|n| at[*n].len() > most));
    }
    lengthen(&mut net, &drawn, LEAST * APART * cell);
    (net, found)
}

/// Struts at nodes that were drawn apart are at least this share of [`APART`] long.
const LEAST: f64 = 0.5;

/// Moves some nodes until struts at them are at least so long, in mm: a node that is drawn apart
/// again moves along another way, and may come to lie beside its neighbour.
fn lengthen(net: &mut Skeleton, movable: &BTreeSet<u32>, least: f64) {
    const ROUNDS: usize = 50;
    let at_them: Vec<[u32; 2]> =
        net.struts.iter().copied().filter(|s| s.iter().any(|n| movable.contains(n))).collect();
    for _ in 0..ROUNDS {
        let short: Vec<[u32; 2]> =
            at_them.iter().copied().filter(|s| net.length(*s) < least).collect();
        if short.is_empty() {
            break;
        }
        for s in short {
            let [a, b] = net.ends(s);
            // Ends at one place part along a way that their numbers give.
            let along = (b - a)
                .try_normalize()
                .unwrap_or_else(|| (low_discrepancy(s[1] as u64 + 1) - 0.5).normalize());
            let ends: Vec<u32> = s.into_iter().filter(|n| movable.contains(n)).collect();
            // Somewhat more than what is missing, so that pushing and being pushed ends.
            let by = 1.1 * (least - a.distance(b)).max(0.0) / ends.len() as f64;
            for n in ends {
                net.nodes[n as usize] += along * if n == s[0] { -by } else { by };
            }
        }
    }
}

/// The direction along which unit vectors spread most (power iteration on their second moments).
fn widest(ways: impl Iterator<Item = DVec3>) -> DVec3 {
    let m = ways.fold(DMat3::ZERO, |m, w| m + DMat3::from_cols(w * w.x, w * w.y, w * w.z));
    let start = DVec3::new(1.0, 0.83, 0.61);
    (0..60).fold(start, |v, _| (m * v).normalize_or(start)).normalize()
}

/// Bins of a histogram of lengths.
const BINS: usize = 32;
/// Struts that make the cells are at least this share of the median length.
const OF_CELLS: f64 = 0.6;

/// How many struts are how long.
pub fn histogram(all: &[f64]) -> Option<LengthSpread> {
    let longest = all.iter().copied().fold(0.0, f64::max);
    let middle = median(all.to_vec()).filter(|_| longest > 0.0)?;
    // A few long ones would leave the others to few bins.
    let bin_mm = longest.min(4.0 * middle) / BINS as f64;
    let mut counts = vec![0; BINS];
    all.iter().for_each(|l| counts[((l / bin_mm) as usize).min(BINS - 1)] += 1);
    // The last of the lowest bins below those: shorter struts are of another kind, or none are
    // there.
    let below = ((OF_CELLS * middle / bin_mm) as usize).clamp(1, BINS);
    let least = counts[..below].iter().copied().min().unwrap_or(0);
    let valley = (0..below).rev().find(|n| counts[*n] == least).unwrap_or(0);
    let any = counts[..valley].iter().any(|n| *n > 0);
    Some(LengthSpread {
        bin_mm,
        suggested_weld_mm: if any { (valley as f64 + 0.5) * bin_mm } else { 0.0 },
        counts,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::TriMesh;

    fn part() -> Part {
        Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap()
    }

    /// A triangle with a tail of two struts that ends inside, and a strut that leaves the part.
    fn tailed() -> Skeleton {
        let at = |x: f64, y: f64| DVec3::new(x, y, 10.0);
        let nodes = vec![
            at(4.0, 4.0),
            at(10.0, 4.0),
            at(7.0, 9.0),
            at(7.0, 13.0),
            at(7.0, 16.0),
            at(-5.0, 4.0),
        ];
        Skeleton { nodes, struts: vec![[0, 1], [1, 2], [0, 2], [2, 3], [3, 4], [0, 5]] }
    }

    #[test]
    fn dead_ends_are_kept_removed_to_their_root_or_reach_the_surface() {
        let part = part();
        let (kept, found) = without_dead_ends(&part, tailed(), DeadEnds::Kept, 5.0);
        assert_eq!((kept.struts.len(), found), (6, 1));
        use StrutState::*;
        assert_eq!(states(&part, &kept, 5.0), [Inside, Inside, Inside, Inside, DeadEnd, Cut]);
        let (removed, found) = without_dead_ends(&part, tailed(), DeadEnds::Removed, 5.0);
        // The tail goes, both struts of it; the one that leaves the part has no dead end.
        assert_eq!((removed.struts.len(), found), (4, 1));
        assert!(
            removed.nodes.iter().any(|p| p.x < 0.0) && removed.nodes.iter().all(|p| p.y < 10.0)
        );
        let (extended, found) = without_dead_ends(&part, tailed(), DeadEnds::Extended, 5.0);
        assert_eq!((extended.struts.len(), found), (6, 1));
        assert_eq!(states(&part, &extended, 5.0)[4], Cut);
        let flat = Skeleton {
            nodes: extended.nodes.iter().map(|p| p.with_z(0.0)).collect(),
            ..extended.clone()
        };
        assert!(states(&part, &flat, 5.0)[..5].iter().all(|s| *s == Net));
        assert!(extended.nodes[4].distance(DVec3::new(7.0, 20.0, 10.0)) < 1e-9);
        assert_eq!(without_dead_ends(&part, extended, DeadEnds::Removed, 5.0).1, 0);
    }

    #[test]
    fn a_crowded_node_becomes_several_and_the_net_stays_one_piece() {
        // A star of 30 struts.
        let tips = (1..=30u64).map(|i| {
            let v = low_discrepancy(i) - 0.5;
            DVec3::splat(10.0) + v.normalize() * 6.0
        });
        let nodes: Vec<DVec3> = std::iter::once(DVec3::splat(10.0)).chain(tips).collect();
        let star = Skeleton { nodes, struts: (1..=30).map(|n| [0, n]).collect() };
        for most in [4, 8, 12, 29] {
            let (out, found) = spread_out(star.clone(), most, 4.0);
            assert_eq!(found, 1);
            let mut at = vec![0; out.nodes.len()];
            out.struts.iter().flatten().for_each(|n| at[*n as usize] += 1);
            assert!(at.iter().all(|n| *n <= most), "{most}: {at:?}");
            assert_eq!(out.facts().components, 1);
            // Every tip is where it was, with its own strut.
            assert_eq!(out.struts.len() - star.struts.len(), out.nodes.len() - star.nodes.len());
            assert!(out.nodes[1..31] == star.nodes[1..]);
            let shortest = out.struts.iter().map(|s| out.length(*s)).fold(f64::MAX, f64::min);
            assert!(shortest > 0.49 * APART * 4.0, "{most}: {shortest}");
        }
        assert_eq!(spread_out(star.clone(), 30, 4.0), (star.clone(), 0));
        assert_eq!(spread_out(star.clone(), 0, 4.0), (star, 0));
    }

    #[test]
    fn nodes_part_until_struts_are_long_enough_and_others_stay() {
        // A chain with two nodes in one place, and one of them a hair from a node that stays.
        let at = |x: f64| DVec3::new(x, 1.0, 2.0);
        let nodes = vec![at(0.0), at(3.0), at(3.0), at(3.001), at(9.0)];
        let net = Skeleton { nodes: nodes.clone(), struts: vec![[0, 1], [1, 2], [2, 3], [3, 4]] };
        let mut out = net.clone();
        lengthen(&mut out, &BTreeSet::from([1, 2]), 0.6);
        assert!(out.struts.iter().all(|s| out.length(*s) > 0.59), "{:?}", out.nodes);
        assert!([0, 3, 4].into_iter().all(|n| out.nodes[n] == nodes[n]));
        assert!(out.nodes.iter().zip(&nodes).all(|(p, q)| p.distance(*q) < 2.0));
        // What none of them may move stays short.
        let mut same = net.clone();
        lengthen(&mut same, &BTreeSet::new(), 0.6);
        assert_eq!(same, net);
    }

    #[test]
    fn short_struts_are_told_from_those_of_cells() {
        // Three hundred of about 5 mm, forty of about 0.4.
        let strut = |n: u32, l: f64| [DVec3::X * 20.0 * n as f64, DVec3::X * (20.0 * n as f64 + l)];
        let ends = (0..340).map(|n| {
            strut(n, if n < 300 { 4.0 + (n % 20) as f64 * 0.1 } else { 0.3 + (n % 3) as f64 * 0.1 })
        });
        let nodes: Vec<DVec3> = ends.flatten().collect();
        let net = Skeleton { nodes, struts: (0..340).map(|n| [2 * n, 2 * n + 1]).collect() };
        let lengths = |net: &Skeleton| {
            histogram(&net.struts.iter().map(|s| net.length(*s)).collect::<Vec<f64>>())
        };
        let found = lengths(&net).unwrap();
        assert_eq!(found.counts.iter().sum::<usize>(), 340);
        assert!((0.6..4.0).contains(&found.suggested_weld_mm), "{}", found.suggested_weld_mm);
        assert_eq!(
            net.struts.iter().filter(|s| net.length(**s) < found.suggested_weld_mm).count(),
            40
        );
        let long = net.filtered(|s| net.length(s) > 1.0);
        assert_eq!(lengths(&long).unwrap().suggested_weld_mm, 0.0);
        assert_eq!(lengths(&Skeleton::default()), None);
    }
}
