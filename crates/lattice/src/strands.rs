//! Struts that run on through their nodes as strands, and curve where they do.
//!
//! At every node the two struts that go straightest through it are a pair, then the next two, as
//! long as they turn by less than a right angle. A strut becomes a cubic (Hermite) that leaves its
//! nodes along the mean of the pair's directions, cut into straight pieces; one without a partner
//! leaves along itself. Nodes stay where they are.

use super::skeleton::Skeleton;
use glam::DVec3;
use ulmix_mesh::parallel;
use ulmix_mesh::topology::UnionFind;

/// Partners of both ends of every strut: the strut that goes on there, [`ALONE`] where none does.
type Partners = Vec<[u32; 2]>;

const ALONE: u32 = u32::MAX;

/// The net with its strands as curves, and how many strands there are. A strut is halved until its
/// straight pieces are no longer than `fine`, and `most` times at most. `kind` tells struts apart
/// that never go on into each other; `put` places the inner points of a strut.
pub(crate) fn curved(
    net: &Skeleton,
    (most, fine): (u32, f64),
    kind: &(dyn Fn(usize) -> bool + Sync),
    put: &(dyn Fn(usize, DVec3) -> DVec3 + Sync),
) -> (Skeleton, usize) {
    let partners = partners(net, kind);
    let of_strut = |n: usize, strut: &[u32; 2]| -> Vec<DVec3> {
        let [a, b] = net.ends(*strut);
        let way = b - a;
        let components = (0..most)
            .map(|n| 1u32 << n)
            .find(|n| way.length() <= *n as f64 * fine)
            .unwrap_or(1 << most);
        // Where it comes from and where it goes on to, as unit vectors along the strut's own
        // direction.
        let through = |end: usize| match partners[n][end] {
            ALONE => way.normalize_or_zero(),
            other => {
                let at = strut[end];
                let [c, d] = net.struts[other as usize];
                let far = net.nodes[if c == at { d } else { c } as usize];
                let (own, beside) =
                    (way.normalize_or_zero(), (net.nodes[at as usize] - far).normalize_or_zero());
                (own + if end == 0 { beside } else { -beside }).normalize_or(own)
            }
        };
        let [first, last] = [through(0), through(1)].map(|direction| direction * way.length());
        (1..components)
            .map(|k| put(n, hermite(a, first, b, last, k as f64 / components as f64)))
            .collect()
    };
    let between: Vec<Vec<DVec3>> = parallel::map_list(&net.struts, of_strut);
    let mut out = Skeleton { nodes: net.nodes.clone(), struts: Vec::new() };
    for (strut, inner) in net.struts.iter().zip(between) {
        let mut from = strut[0];
        for p in inner {
            let next = out.nodes.len() as u32;
            out.nodes.push(p);
            out.struts.push([from, next]);
            from = next;
        }
        out.struts.push([from, strut[1]]);
    }
    let mut joined = UnionFind::new(net.struts.len());
    for (n, ends) in partners.iter().enumerate() {
        ends.iter()
            .filter(|other| **other != ALONE)
            .for_each(|other| _ = joined.join(n as u32, *other));
    }
    let strands = (0..net.struts.len() as u32).filter(|n| joined.root(*n) == *n).count();
    (out, strands)
}

fn partners(net: &Skeleton, kind: &(dyn Fn(usize) -> bool + Sync)) -> Partners {
    let mut at: Vec<Vec<u32>> = vec![Vec::new(); net.nodes.len()];
    for (s, ends) in net.struts.iter().enumerate() {
        ends.iter().for_each(|n| at[*n as usize].push(s as u32));
    }
    let of_node = |node: usize, struts: &Vec<u32>| -> Vec<[u32; 2]> {
        let way = |s: u32| {
            let [a, b] = net.struts[s as usize];
            let far = if a as usize == node { b } else { a };
            (net.nodes[far as usize] - net.nodes[node]).normalize_or_zero()
        };
        let ways: Vec<(u32, DVec3, bool)> =
            struts.iter().map(|s| (*s, way(*s), kind(*s as usize))).collect();
        let mut pairs: Vec<(f64, u32, u32)> = Vec::new();
        for (n, (s, a, own)) in ways.iter().enumerate() {
            let others =
                ways[n + 1..].iter().filter(|(_, b, other)| other == own && a.dot(*b) < 0.0);
            pairs.extend(others.map(|(t, b, _)| (a.dot(*b), *s, *t)));
        }
        pairs.sort_by(|a, b| a.0.total_cmp(&b.0).then((a.1, a.2).cmp(&(b.1, b.2))));
        let mut taken = Vec::new();
        let mut free = |(_, s, t): &(f64, u32, u32)| {
            let free = !taken.contains(s) && !taken.contains(t);
            if free {
                taken.extend([*s, *t]);
            }
            free
        };
        pairs.iter().filter(|pair| free(pair)).map(|(_, s, t)| [*s, *t]).collect()
    };
    let pairs: Vec<Vec<[u32; 2]>> = parallel::map_list(&at, of_node);
    let mut partners = vec![[ALONE; 2]; net.struts.len()];
    for (node, [s, t]) in pairs
        .iter()
        .enumerate()
        .flat_map(|(node, list)| list.iter().map(move |pair| (node as u32, *pair)))
    {
        for (own, other) in [(s, t), (t, s)] {
            let end = (net.struts[own as usize][0] != node) as usize;
            partners[own as usize][end] = other;
        }
    }
    partners
}

/// The cubic from `a` to `b` with those derivatives at its ends.
fn hermite(a: DVec3, at_a: DVec3, b: DVec3, at_b: DVec3, t: f64) -> DVec3 {
    let u = 1.0 - t;
    a * (u * u * (1.0 + 2.0 * t)) + at_a * (u * u * t) + b * (t * t * (1.0 + 2.0 * u))
        - at_b * (t * t * u)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn plain(net: &Skeleton, level: u32) -> (Skeleton, usize) {
        curved(net, (level, 0.0), &|_| true, &|_, p| p)
    }

    fn turn(net: &Skeleton, a: [u32; 2], b: [u32; 2]) -> f64 {
        let way = |s: [u32; 2]| (net.nodes[s[1] as usize] - net.nodes[s[0] as usize]).normalize();
        way(a).angle_between(way(b)).to_degrees()
    }

    #[test]
    fn a_polygon_becomes_a_round_loop_and_a_straight_line_stays_straight() {
        let at = |n: u32| {
            DVec3::new(
                (n as f64 * 60.0).to_radians().cos(),
                (n as f64 * 60.0).to_radians().sin(),
                0.0,
            ) * 10.0
        };
        let hexagon = Skeleton {
            nodes: (0..6).map(at).collect(),
            struts: (0..6).map(|n| [n, (n + 1) % 6]).collect(),
        };
        let (round, strands) = plain(&hexagon, 3);
        assert_eq!((strands, round.struts.len(), round.nodes.len()), (1, 48, 48));
        // Chords lie 13.4 % inside the circle, the curves almost on it.
        assert!(round.nodes.iter().all(|p| (p.length() / 10.0 - 1.0).abs() < 0.02));
        assert!(round.struts.windows(2).all(|s| turn(&round, s[0], s[1]) < 15.0));
        let line = Skeleton {
            nodes: (0..4).map(|n| DVec3::X * n as f64).collect(),
            struts: vec![[0, 1], [2, 1], [2, 3]],
        };
        let (straight, strands) = plain(&line, 2);
        assert_eq!(strands, 1);
        assert!(straight.nodes.iter().all(|p| p.y.abs() + p.z.abs() < 1e-12));
        // Of struts of one, two and four units, in pieces of up to one.
        let mixed = Skeleton {
            nodes: [0.0, 1.0, 3.0, 7.0].map(|x| DVec3::X * x).to_vec(),
            struts: vec![[0, 1], [1, 2], [2, 3]],
        };
        let components = |most| curved(&mixed, (most, 1.0), &|_| true, &|_, p| p).0.struts.len();
        assert_eq!([0, 1, 3].map(components), [3, 5, 7]);
    }

    #[test]
    fn struts_go_on_into_the_straightest_one_and_never_into_another_kind() {
        // Two lines cross; a fifth strut ends where they do.
        let nodes = [
            [0.0; 3],
            [1.0, 0.1, 0.0],
            [-1.0, 0.0, 0.0],
            [0.0, 1.0, 0.0],
            [0.0, -1.0, 0.2],
            [0.0, 0.3, 1.0],
        ]
        .map(DVec3::from);
        let cross = Skeleton { nodes: nodes.to_vec(), struts: (1..6).map(|n| [0, n]).collect() };
        let found = partners(&cross, &|_| true);
        assert_eq!(found.iter().map(|p| p[0]).collect::<Vec<_>>(), [1, 0, 3, 2, ALONE]);
        assert_eq!(plain(&cross, 1).1, 3);
        let apart = partners(&cross, &|s| s != 0);
        assert!(apart[0] == [ALONE; 2] && apart[2] == [3, ALONE]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn nodes_stay_and_every_strut_is_a_chain_between_its_own(
            places in prop::collection::vec(prop::array::uniform3(-10.0..10.0f64), 4..30),
            ends in prop::collection::vec((0usize..1000, 0usize..1000), 1..60),
            level in 0u32..4,
        ) {
            let nodes: Vec<DVec3> = places.into_iter().map(DVec3::from).collect();
            let count = nodes.len();
            let struts = ends.iter().map(|(a, b)| [(a % count) as u32, (b % count) as u32]).collect();
            let net = Skeleton { nodes, struts }.filtered(|_| true);
            let (out, strands) = plain(&net, level);
            prop_assert_eq!(&out.nodes[..net.nodes.len()], &net.nodes[..]);
            prop_assert!(out.nodes.iter().all(|p| p.is_finite()));
            let components = 1 << level;
            prop_assert_eq!(out.struts.len(), net.struts.len() * components);
            for (chain, own) in out.struts.chunks(components).zip(&net.struts) {
                prop_assert_eq!([chain[0][0], chain[components - 1][1]], *own);
                prop_assert!(chain.windows(2).all(|w| w[0][1] == w[1][0]));
                // A cubic whose derivatives are as long as the chord strays no farther than so.
                let [a, b] = net.ends(*own);
                let far = chain.iter().map(|s| out.nodes[s[1] as usize]).map(|p| p.distance(a).min(p.distance(b)));
                prop_assert!(far.fold(0.0, f64::max) <= 0.8 * a.distance(b) + 1e-9);
            }
            prop_assert_eq!(out.facts().components, net.facts().components);
            prop_assert!(strands <= net.struts.len() && strands >= net.facts().components);
        }
    }
}
