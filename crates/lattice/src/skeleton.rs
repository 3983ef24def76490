//! Struts as a graph of nodes and edges.

use super::Facts;
use glam::DVec3;
use rayon::prelude::*;
use std::collections::HashMap;
use ulmix_mesh::parallel;
use ulmix_mesh::topology::UnionFind;

/// Number of a node that holds no strut any more.
pub const GONE: u32 = u32::MAX;

/// Nodes and the struts between them. mm.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Skeleton {
    /// Places of the nodes. mm.
    pub nodes: Vec<DVec3>,
    /// Numbers of the nodes at both ends of each strut.
    pub struts: Vec<[u32; 2]>,
}

impl Skeleton {
    /// Length of a strut. mm.
    pub fn length(&self, strut: [u32; 2]) -> f64 {
        self.nodes[strut[0] as usize].distance(self.nodes[strut[1] as usize])
    }

    /// Places of a strut's ends. mm.
    pub fn ends(&self, strut: [u32; 2]) -> [DVec3; 2] {
        strut.map(|n| self.nodes[n as usize])
    }

    /// Without the struts that `keep` refuses, without nodes that then hold none, each strut once.
    pub fn filtered(&self, keep: impl Fn([u32; 2]) -> bool + Sync) -> Skeleton {
        self.renumbered(keep).0
    }

    /// The skeleton without the struts that `keep` refuses, and the number that every node has now;
    /// [`GONE`] where a node has none.
    fn renumbered(&self, keep: impl Fn([u32; 2]) -> bool + Sync) -> (Skeleton, Vec<u32>) {
        let mut struts = parallel::filter_map(self.struts.len(), |n| {
            let s = self.struts[n];
            (s[0] != s[1] && keep(s)).then(|| [s[0].min(s[1]), s[0].max(s[1])])
        });
        struts.par_sort_unstable();
        struts.dedup();
        let mut number = vec![GONE; self.nodes.len()];
        let mut nodes = Vec::new();
        for n in struts.iter_mut().flatten() {
            let number = &mut number[*n as usize];
            if *number == GONE {
                *number = nodes.len() as u32;
                nodes.push(self.nodes[*n as usize]);
            }
            *n = *number;
        }
        (Skeleton { nodes, struts }, number)
    }

    /// Struts shorter than `limit` at their middle drawn together into one node at the middle of
    /// their ends, shortest first, and never so that a node gathers ends farther apart than twice
    /// the limit. Where some of a node's ends are `held`, on a surface, it is the one of them
    /// nearest to their middle. Also gives how many struts there were, but for those with both ends
    /// held.
    pub fn welded(&self, limit: impl Fn(DVec3) -> f64 + Sync, held: &[bool]) -> (Skeleton, usize) {
        let held = |n: usize| held.get(n).copied().unwrap_or(false);
        let limit_of =
            |s: [u32; 2]| limit((self.nodes[s[0] as usize] + self.nodes[s[1] as usize]) * 0.5);
        let mut short: Vec<(f64, usize, f64)> = parallel::filter_map(self.struts.len(), |n| {
            let (length, limit) = (self.length(self.struts[n]), limit_of(self.struts[n]));
            (length < limit).then_some((length, n, limit))
        });
        short.par_sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let mut joined = UnionFind::new(self.nodes.len());
        let mut boxes: Vec<(DVec3, DVec3)> = self.nodes.iter().map(|p| (*p, *p)).collect();
        let mut drawn = 0;
        for &(_, n, limit) in &short {
            let [a, b] = self.struts[n].map(|v| joined.root(v));
            let both = (
                boxes[a as usize].0.min(boxes[b as usize].0),
                boxes[a as usize].1.max(boxes[b as usize].1),
            );
            if a == b || (both.1 - both.0).max_element() > 2.0 * limit {
                continue;
            }
            joined.join(a, b);
            boxes[joined.root(a) as usize] = both;
            // Pieces of a net on the surface are no struts of the structure.
            drawn += !self.struts[n].iter().all(|v| held(*v as usize)) as usize;
        }
        let roots: Vec<u32> = (0..self.nodes.len() as u32).map(|n| joined.root(n)).collect();
        let mut any = vec![false; self.nodes.len()];
        (0..roots.len()).filter(|n| held(*n)).for_each(|n| any[roots[n] as usize] = true);
        let mut sums = vec![(DVec3::ZERO, 0.0); self.nodes.len()];
        for (n, &root) in roots.iter().enumerate().filter(|(n, r)| held(*n) || !any[**r as usize]) {
            sums[root as usize].0 += self.nodes[n];
            sums[root as usize].1 += 1.0;
        }
        let mut nodes: Vec<DVec3> = sums
            .iter()
            .map(|(sum, count)| if *count > 0.0 { *sum / *count } else { *sum })
            .collect();
        let mut nearest = vec![f64::INFINITY; self.nodes.len()];
        let middle = nodes.clone();
        for (n, &root) in roots.iter().enumerate().filter(|(n, _)| held(*n)) {
            let (root, d) = (root as usize, self.nodes[n].distance(middle[root as usize]));
            if d < nearest[root] {
                (nearest[root], nodes[root]) = (d, self.nodes[n]);
            }
        }
        let struts = self.struts.iter().map(|s| s.map(|n| roots[n as usize])).collect();
        (Skeleton { nodes, struts }.filtered(|_| true), drawn)
    }

    /// Nodes closer than `limit` as one, at the place of the first. For places that are equal but
    /// for rounding.
    pub fn merged(&self, limit: f64) -> Skeleton {
        self.merged_and_numbered(limit).0
    }

    /// The skeleton of [`Skeleton::merged`], and the number that every node has now; [`GONE`] where
    /// a node has none.
    pub fn merged_and_numbered(&self, limit: f64) -> (Skeleton, Vec<u32>) {
        // Bins far larger than the limit: few places lie so near to a border that the next bin
        // matters too.
        let bin = |p: DVec3| (p / (512.0 * limit)).floor().to_array().map(|c| c as i64);
        // Bins may share a key: that only makes more places to look at.
        let key = |bin: [i64; 3]| {
            bin.iter().fold(0u64, |key, c| {
                (key.rotate_left(21) ^ *c as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15)
            })
        };
        let mut keyed: Vec<(u64, u32)> =
            parallel::map_list(&self.nodes, |n, p| (key(bin(*p)), n as u32));
        keyed.par_sort_unstable();
        let near_border: Vec<u32> = parallel::filter_map(self.nodes.len(), |n| {
            let p = self.nodes[n];
            (bin(p - limit) != bin(p + limit)).then_some(n as u32)
        });
        let mut joined = UnionFind::new(self.nodes.len());
        let mut join_near = |n: u32, others: &[(u64, u32)]| {
            let p = self.nodes[n as usize];
            for &(_, m) in
                others.iter().filter(|(_, m)| self.nodes[*m as usize].distance(p) < limit)
            {
                joined.join(n, m);
            }
        };
        for places in keyed.chunk_by(|a, b| a.0 == b.0) {
            (1..places.len()).for_each(|n| join_near(places[n].1, &places[..n]));
        }
        for n in near_border {
            let p = self.nodes[n as usize];
            let (own, low, high) = (bin(p), bin(p - limit), bin(p + limit));
            let along = |axis: usize| low[axis]..=high[axis];
            let bins =
                along(2).flat_map(|z| along(1).flat_map(move |y| along(0).map(move |x| [x, y, z])));
            for key in bins.filter(|b| *b != own).map(key) {
                let places = &keyed[keyed.partition_point(|k| k.0 < key)..];
                join_near(n, &places[..places.partition_point(|k| k.0 == key)]);
            }
        }
        // A root is the first of those joined.
        let roots: Vec<u32> = (0..self.nodes.len() as u32).map(|n| joined.root(n)).collect();
        let struts = self.struts.iter().map(|s| s.map(|n| roots[n as usize])).collect();
        let (merged, number) = Skeleton { nodes: self.nodes.clone(), struts }.renumbered(|_| true);
        (merged, roots.into_iter().map(|n| number[n as usize]).collect())
    }

    /// The nodes and struts of both skeletons.
    pub fn with(mut self, other: Skeleton) -> Skeleton {
        let base = self.nodes.len() as u32;
        self.nodes.extend(other.nodes);
        self.struts.extend(other.struts.into_iter().map(|s| s.map(|n| n + base)));
        self
    }

    /// Piece of every node, and how many pieces there are.
    pub fn components(&self) -> (Vec<u32>, usize) {
        let mut joined = UnionFind::new(self.nodes.len());
        for [a, b] in &self.struts {
            joined.join(*a, *b);
        }
        let mut number = vec![u32::MAX; self.nodes.len()];
        let mut count = 0;
        let of = (0..self.nodes.len() as u32)
            .map(|n| {
                let number = &mut number[joined.root(n) as usize];
                if *number == u32::MAX {
                    *number = count;
                    count += 1;
                }
                *number
            })
            .collect();
        (of, count as usize)
    }

    /// Figures of all struts.
    pub fn facts(&self) -> Facts {
        let lengths: Vec<f64> = parallel::map_list(&self.struts, |_, s| self.length(*s));
        let count = self.struts.len().max(1) as f64;
        Facts {
            nodes: self.nodes.len(),
            struts: self.struts.len(),
            degree: 2.0 * self.struts.len() as f64 / self.nodes.len().max(1) as f64,
            shortest_mm: if lengths.is_empty() {
                0.0
            } else {
                lengths.iter().copied().fold(f64::INFINITY, f64::min)
            },
            mean_mm: lengths.iter().sum::<f64>() / count,
            longest_mm: lengths.iter().copied().fold(0.0, f64::max),
            components: self.components().1,
            ..Facts::default()
        }
    }

    /// Memory that it takes.
    pub fn bytes(&self) -> usize {
        self.nodes.len() * 24 + self.struts.len() * 8
    }
}

/// Nodes of cells side by side, each once: they are told apart by their places in cells.
#[derive(Default)]
pub(crate) struct CellNodes {
    numbers: HashMap<[i64; 3], u32>,
    /// Places of the nodes by their numbers.
    pub places: Vec<DVec3>,
}

impl CellNodes {
    /// Steps along the side of a cell in which places are told apart.
    pub(crate) const FINE: i64 = 10_000;

    /// A place in cells as whole numbers.
    pub(crate) fn key(at: DVec3) -> [i64; 3] {
        (at * Self::FINE as f64).round().to_array().map(|v| v as i64)
    }

    /// Number of the node of a key; a new one lies at `place`.
    pub(crate) fn number(&mut self, key: [i64; 3], place: impl FnOnce() -> DVec3) -> u32 {
        *self.numbers.entry(key).or_insert_with(|| {
            self.places.push(place());
            self.places.len() as u32 - 1
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_struts_become_one_node_and_equal_struts_one() {
        // A square whose one corner is split by a short strut, and a strut given twice.
        let nodes = [(0.0, 0.0), (10.0, 0.0), (10.0, 10.0), (9.8, 10.2), (0.0, 10.0)]
            .map(|(x, y)| DVec3::new(x, y, 0.0));
        let s = Skeleton {
            nodes: nodes.to_vec(),
            struts: vec![[0, 1], [1, 2], [2, 3], [3, 4], [4, 0], [1, 0], [2, 4]],
        };
        let (w, drawn) = s.welded(|_| 1.0, &[]);
        assert_eq!((drawn, w.nodes.len(), w.struts.len()), (1, 4, 4));
        assert!(w.nodes.iter().any(|p| p.distance(DVec3::new(9.9, 10.1, 0.0)) < 1e-12));
        assert_eq!(w.facts().components, 1);
        assert!((w.facts().degree - 2.0).abs() < 1e-12);
        let (w, _) = s.welded(|_| 1.0, &[false, false, true]);
        assert!(w.nodes.contains(&nodes[2]), "a held end does not move");
        assert_eq!(s.filtered(|e| e != [2, 3]).facts().components, 1);
        assert_eq!(s.filtered(|e| s.length(e) > 1.0 && e != [2, 4]).facts().components, 1);
    }

    #[test]
    fn a_chain_of_short_struts_does_not_swallow_itself() {
        let nodes: Vec<DVec3> = (0..100).map(|i| DVec3::X * i as f64 * 0.5).collect();
        let s = Skeleton { nodes, struts: (0..99).map(|i| [i, i + 1]).collect() };
        let (w, _) = s.welded(|_| 1.0, &[]);
        assert!(w.nodes.len() > 15 && w.facts().components == 1, "{}", w.nodes.len());
    }
}
