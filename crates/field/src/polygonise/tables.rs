//! Loop tables of dual marching cubes.
//!
//! A cell's corner `c` has bits x, y, z. Edge `4a + b + 2c` runs along axis `a` at offset `b` along
//! axis `a + 1` and `c` along axis `a + 2` (modulo 3). The cut edges of a cell are joined in
//! pairs on its faces and the pairs followed into closed loops; each loop is one vertex
//! (Nielson 2004). A face with diagonal signs always cuts off its inside corners, so that both
//! cells that share it agree.

use std::sync::OnceLock;

/// Loops of one sign pattern.
#[derive(Clone, Copy, Default)]
pub(super) struct Loops {
    pub count: u8,
    /// Cut edges of each loop, as a mask of 12 bits.
    pub edges: [u16; 4],
    /// Loop that holds each edge.
    pub of_edge: [u8; 12],
}

pub(super) struct Tables {
    /// Per sign pattern (bit `c` set when corner `c` is inside); from 256 on with the opposite rule
    /// on ambiguous faces.
    pub loops: [Loops; 512],
    /// Where the vertex of each loop starts on its way to the border.
    pub starts: [[LoopStart; 4]; 512],
    /// Face (`2·axis + side`) whose two segments lie in one loop, or 255. Two cells that share such
    /// a face from both sides must both use the opposite rule, or an edge would serve four
    /// triangles.
    pub pinch: [u8; 256],
}

/// The two corners of an edge, lower first.
pub(super) fn edge_corners(edge: usize) -> (usize, usize) {
    let (axis, b, c) = (edge / 4, edge & 1, edge >> 1 & 1);
    let low = b << ((axis + 1) % 3) | c << ((axis + 2) % 3);
    (low, low | 1 << axis)
}

fn edge_between(p: usize, q: usize) -> usize {
    let axis = (p ^ q).trailing_zeros() as usize;
    let low = p & q;
    4 * axis + (low >> ((axis + 1) % 3) & 1) + 2 * (low >> ((axis + 2) % 3) & 1)
}

/// Corners of a face in cyclic order.
fn face_corners(face: usize) -> [usize; 4] {
    let (axis, side) = (face / 2, face & 1);
    let (u, v) = (1 << ((axis + 1) % 3), 1 << ((axis + 2) % 3));
    let base = side << axis;
    [base, base | u, base | u | v, base | v]
}

fn inside(config: usize, corner: usize) -> bool {
    config >> corner & 1 == 1
}

/// Pairs of cut edges joined on a face; `cut_off` tells which corners of an ambiguous face are
/// separated: the inside ones (true) or the outside ones.
fn segments(config: usize, face: usize, cut_off: bool) -> Vec<[usize; 2]> {
    let c = face_corners(face);
    let cut: Vec<usize> = (0..4)
        .filter(|&i| inside(config, c[i]) != inside(config, c[(i + 1) % 4]))
        .map(|i| edge_between(c[i], c[(i + 1) % 4]))
        .collect();
    match cut.len() {
        2 => vec![[cut[0], cut[1]]],
        4 => (0..4)
            .filter(|&i| inside(config, c[i]) == cut_off)
            .map(|i| [edge_between(c[(i + 3) % 4], c[i]), edge_between(c[i], c[(i + 1) % 4])])
            .collect(),
        _ => vec![],
    }
}

fn loops(config: usize, cut_off: bool) -> Loops {
    let mut joined = vec![Vec::new(); 12];
    for face in 0..6 {
        for [p, q] in segments(config, face, cut_off) {
            joined[p].push(q);
            joined[q].push(p);
        }
    }
    let mut out = Loops { of_edge: [255; 12], ..Default::default() };
    for start in 0..12 {
        if joined[start].is_empty() || out.of_edge[start] != 255 {
            continue;
        }
        let id = out.count;
        let mut stack = vec![start];
        while let Some(e) = stack.pop() {
            if out.of_edge[e] == 255 {
                out.of_edge[e] = id;
                out.edges[id as usize] |= 1 << e;
                stack.extend(&joined[e]);
            }
        }
        out.count += 1;
    }
    out
}

/// Where the vertex of a loop starts on its way to the border.
#[derive(Clone, Copy, Default)]
pub(super) struct LoopStart {
    /// The middle of the loop's cut edges, in steps from the cell's low corner.
    pub mean: [f32; 3],
    /// A corner beyond one of them.
    pub outside: u8,
}

fn start(config: usize, loops: &Loops, of: usize) -> LoopStart {
    let edges = (0..12).filter(|e| loops.edges[of] >> e & 1 == 1).map(edge_corners);
    let at = |c: usize, axis: usize| (c >> axis & 1) as f32;
    let sum =
        |axis: usize| edges.clone().map(|(a, b)| 0.5 * (at(a, axis) + at(b, axis))).sum::<f32>();
    let mean = [0, 1, 2].map(|axis| sum(axis) / loops.edges[of].count_ones().max(1) as f32);
    let outside =
        edges.clone().next_back().map_or(0, |(a, b)| if inside(config, a) { b } else { a });
    LoopStart { mean, outside: outside as u8 }
}

pub(super) fn tables() -> &'static Tables {
    static TABLES: OnceLock<Tables> = OnceLock::new();
    TABLES.get_or_init(|| {
        let loops: [Loops; 512] = std::array::from_fn(|c| loops(c % 256, c < 256));
        let starts = std::array::from_fn(|c| std::array::from_fn(|l| start(c % 256, &loops[c], l)));
        let pinch = std::array::from_fn(|c| {
            let l = &loops[c];
            let pinched = (0..6).find(|&f| {
                let s = segments(c, f, true);
                s.len() == 2 && l.of_edge[s[0][0]] == l.of_edge[s[1][0]]
            });
            pinched.map_or(255, |f| f as u8)
        });
        Tables { loops, starts, pinch }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_match_the_published_tables() {
        let t = tables();
        let with = |n: u8| (0..256).filter(|&c| t.loops[c].count == n).count();
        assert_eq!([with(0), with(1), with(2), with(3), with(4)], [2, 162, 82, 8, 2]);
        assert_eq!(t.pinch.iter().filter(|&&f| f != 255).count(), 36);
    }

    #[test]
    fn every_cut_edge_lies_in_exactly_one_loop() {
        for (c, l) in tables().loops.iter().enumerate() {
            for e in 0..12 {
                let (a, b) = edge_corners(e);
                let cut = inside(c % 256, a) != inside(c % 256, b);
                let held = (0..l.count as usize).filter(|&i| l.edges[i] >> e & 1 == 1).count();
                assert_eq!(held, cut as usize);
            }
        }
    }
}
