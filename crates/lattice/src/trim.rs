//! A raw net of struts made into the part's skeleton: what lies outside goes, short struts are
//! welded, loose pieces dropped.

use super::clean::{histogram, is_on_surface, spread_out, without_dead_ends};
use super::skeleton::{Skeleton, GONE};
use super::strands::curved;
use super::Facts;
use glam::DVec3;
use ulmix_mesh::parallel;
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;
use ulmix_recipe::CleanUp;

/// Only what reaches into the part, cut off at its surface where an outer net closes it, short
/// struts welded, and of several pieces those that count; then cleaned as is asked. `weld` is the
/// length below which a strut at a place is short.
pub fn cleaned(
    part: &Part,
    sides: &PointLocator,
    raw: Skeleton,
    outer: Skeleton,
    cell: f64,
    weld: &(dyn Fn(DVec3) -> f64 + Sync),
    clean: &CleanUp,
) -> (Skeleton, Facts) {
    let once = raw.filtered(|_| true);
    let duplicates = raw.struts.len() - once.struts.len();
    let inside: Vec<bool> = parallel::map_list(&once.nodes, |_, p| sides.inside(*p));
    // A strut that cannot reach the part is dropped.
    let reaches = |s: [u32; 2]| {
        s.iter().any(|n| inside[*n as usize]) || {
            let [p, q] = once.ends(s);
            let (middle, half) = ((p + q) * 0.5, 0.5 * p.distance(q));
            !sides.apart(middle - half, middle + half)
                && part.distance.query(middle, half).is_some()
        }
    };
    // With an outer net what is short becomes one of its nodes.
    let least = if outer.struts.is_empty() { clean.least_left * cell } else { 0.0 };
    let is_whole = |s: [u32; 2]| s.iter().all(|n| inside[*n as usize]);
    let enough = |s: [u32; 2]| least == 0.0 || is_whole(s) || left(part, once.ends(s)) >= least;
    let reaching: Vec<[u32; 2]> = parallel::filter(&once.struts, |s| reaches(*s));
    let struts: Vec<[u32; 2]> = parallel::filter(&reaching, |s| enough(*s));
    let cut_short = reaching.len() - struts.len();
    let reaching = Skeleton { struts, ..once };
    let (joined, held) = if outer.struts.is_empty() {
        left_open(part, sides, &reaching, cell)
    } else {
        closed_by(outer, part, sides, reaching, &inside, cell)
    };
    let (welded, drawn) = joined.welded(weld, &held);
    // Pieces of a strut or two that hang on nothing would come out loose.
    let (component_of, components) = welded.components();
    let mut length = vec![0.0; components];
    for s in &welded.struts {
        length[component_of[s[0] as usize] as usize] += welded.length(*s);
    }
    let most = length.iter().copied().fold(0.0, f64::max);
    let is_loose = |s: [u32; 2]| length[component_of[s[0] as usize] as usize] <= LOOSE * most;
    let in_loose = welded.struts.iter().filter(|s| is_loose(**s)).count();
    let whole =
        if clean.keep_loose || in_loose == 0 { welded } else { welded.filtered(|s| !is_loose(s)) };
    let (ended, dead_ends) = without_dead_ends(part, whole, clean.dead_ends, cell);
    let (spread, drawn_apart) = spread_out(ended, clean.most_at_node as usize, cell);
    // Pieces of the net on the surface are as short as the part's triangles.
    let inner = joined.struts.iter().filter(|s| !s.iter().all(|n| held[*n as usize]));
    let lengths = histogram(&inner.map(|s| joined.length(*s)).collect::<Vec<f64>>());
    let facts = Facts {
        welded: drawn,
        in_loose,
        duplicates,
        dead_ends,
        cut_short,
        drawn_apart,
        lengths,
        ..spread.facts()
    };
    if clean.curved == 0 {
        return (spread, facts);
    }
    let (curves, strands) = in_curves(part, &spread, clean.curved, cell);
    (curves, Facts { strands, ..facts })
}

/// A net that no other closes, and which of its nodes lie on the surface.
fn left_open(
    part: &Part,
    sides: &PointLocator,
    net: &Skeleton,
    cell: f64,
) -> (Skeleton, Vec<bool>) {
    let close = 1e-6 * cell;
    let on_surface = |p: &DVec3| {
        !sides.apart(*p - close, *p + close) && part.bvh().nearest(*p, close * close).is_some()
    };
    let net = net.filtered(|_| true);
    let held = parallel::map_list(&net.nodes, |_, p| on_surface(p));
    (net, held)
}

/// A net cut off at the surface and joined to the `outer` one that closes it there, and which nodes
/// lie on the surface.
fn closed_by(
    outer: Skeleton,
    part: &Part,
    sides: &PointLocator,
    net: Skeleton,
    is_inside: &[bool],
    cell: f64,
) -> (Skeleton, Vec<bool>) {
    let own = net.nodes.len();
    // Where a cell's edge leaves the part three borders of the net meet: the same place but for
    // rounding.
    let (joined, number) =
        cut_off(part, sides, net, is_inside).with(outer).merged_and_numbered(1e-5 * cell);
    // Where struts are cut, and the net's.
    let mut held = vec![false; joined.nodes.len()];
    number[own..].iter().filter(|n| **n != GONE).for_each(|n| held[*n as usize] = true);
    (joined, held)
}

/// The net with its strands as curves, and how many there are. Struts of the net on the surface go
/// on into each other alone, and stay there.
fn in_curves(part: &Part, net: &Skeleton, halvings: u32, cell: f64) -> (Skeleton, usize) {
    let of_net: Vec<bool> =
        parallel::map_list(&net.struts, |_, s| is_on_surface(part, net.ends(*s), cell));
    let put = |n: usize, p: DVec3| {
        if of_net[n] {
            part.bvh().nearest(p, f64::INFINITY).map_or(p, |near| near.point)
        } else {
            p
        }
    };
    curved(net, (halvings, FINE * cell), &|n| of_net[n], &put)
}

/// Straight pieces of curved struts need not be shorter than this share of a cell.
const FINE: f64 = 0.1;

/// Pieces of less than this share of the largest one's length are loose.
const LOOSE: f64 = 0.02;

/// Length of the stretches of a strut that lie inside the part.
fn left(part: &Part, [a, b]: [DVec3; 2]) -> f64 {
    stretches(part, [a, b], None)
        .into_iter()
        .flatten()
        .map(|[from, to]| (to - from) * a.distance(b))
        .sum()
}

/// The stretches of a strut between places where it passes the part's surface that lie inside: 0 at
/// its first end, 1 at the second. `None` when it passes it nowhere. `ends_inside` tells which ends
/// lie inside, where that is known.
fn stretches(
    part: &Part,
    [a, b]: [DVec3; 2],
    ends_inside: Option<[bool; 2]>,
) -> Option<Vec<[f64; 2]>> {
    let mut crossings = Vec::new();
    part.distance.segment_crossings(a, b, &mut crossings);
    match (&crossings[..], ends_inside) {
        ([], _) => return None,
        ([only], Some([true, false])) => return Some(vec![[0.0, only.t]]),
        ([only], Some([false, true])) => return Some(vec![[only.t, 1.0]]),
        _ => {}
    }
    let mut at: Vec<f64> = crossings.iter().map(|h| h.t).chain([0.0, 1.0]).collect();
    at.sort_by(f64::total_cmp);
    let inside =
        |w: &&[f64]| w[1] - w[0] > 1e-9 && part.distance.inside(a.lerp(b, 0.5 * (w[0] + w[1])));
    Some(at.windows(2).filter(inside).map(|w| [w[0], w[1]]).collect())
}

/// An end of what is left of a strut: one of its own, or a place where it leaves the part.
#[derive(Clone, Copy)]
enum End {
    Own(u32),
    Cut(DVec3),
}

/// The stretches of struts that lie inside the part; places where they are cut come after the
/// nodes. `is_inside` tells of those.
fn cut_off(part: &Part, sides: &PointLocator, net: Skeleton, is_inside: &[bool]) -> Skeleton {
    let are_inside = |s: [u32; 2]| s.map(|n| is_inside[n as usize]);
    let is_clear = |s: &[u32; 2]| {
        let ([first, last], [a, b]) = (are_inside(*s), net.ends(*s));
        first == last && sides.apart(a, b)
    };
    let clear = parallel::map_list(&net.struts, |_, s| is_clear(s));
    let [clear, others] = [true, false].map(|wanted| {
        let alike = net.struts.iter().zip(&clear).filter(|(_, c)| **c == wanted);
        alike.map(|(s, _)| *s).collect::<Vec<[u32; 2]>>()
    });
    let of_strut = |s: &[u32; 2]| -> Vec<[End; 2]> {
        let [a, b] = net.ends(*s);
        let Some(inside) = stretches(part, [a, b], Some(are_inside(*s))) else {
            // Of ends on different sides one lies on the surface but for rounding.
            let deeper = || part.distance.value(a) + part.distance.value(b) < 0.0;
            let [first, last] = are_inside(*s);
            let whole = if first == last { first } else { deeper() };
            return whole.then_some(s.map(End::Own)).into_iter().collect();
        };
        let end = |t: f64| match t {
            0.0 => End::Own(s[0]),
            1.0 => End::Own(s[1]),
            _ => End::Cut(a.lerp(b, t)),
        };
        inside.into_iter().map(|w| w.map(end)).collect()
    };
    let stretches: Vec<[End; 2]> = parallel::flat_map(others.len(), |n| of_strut(&others[n]));
    let Skeleton { mut nodes, .. } = net;
    let mut number = |end: End| match end {
        End::Own(n) => n,
        End::Cut(p) => {
            nodes.push(p);
            nodes.len() as u32 - 1
        }
    };
    let mut struts: Vec<[u32; 2]> = clear.into_iter().filter(|s| are_inside(*s)[0]).collect();
    struts.extend(stretches.into_iter().map(|[from, to]| [number(from), number(to)]));
    Skeleton { nodes, struts }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::TriMesh;

    /// Two blocks of 10 mm, 6 mm from each other along x.
    fn two_blocks() -> Part {
        let mut mesh = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        mesh.append(&TriMesh::cuboid(DVec3::X * 16.0, DVec3::new(26.0, 10.0, 10.0)));
        Part::prepare(&mesh).unwrap()
    }

    fn at(x: f64) -> DVec3 {
        DVec3::new(x, 4.1, 5.3)
    }

    #[test]
    fn of_a_strut_the_stretches_inside_are_left() {
        let part = two_blocks();
        for (ends, inside) in [
            // From block to block, over both, out of one, and in neither.
            ([4.0, 24.0], 6.0 + 8.0),
            ([-5.0, 31.0], 20.0),
            ([7.0, 13.0], 3.0),
            ([11.0, 15.0], 0.0),
        ] {
            let [a, b] = ends.map(at);
            assert!(
                (left(&part, [a, b]) - inside).abs() < 1e-9
                    && (left(&part, [b, a]) - inside).abs() < 1e-9
            );
        }
        // One that passes no border is told as such, wherever it lies.
        assert!(
            stretches(&part, [at(2.0), at(8.0)], None).is_none()
                && stretches(&part, [at(11.0), at(15.0)], None).is_none()
        );
        // With one crossing and known ends nothing else is asked.
        let [only] = stretches(&part, [at(13.0), at(20.0)], Some([false, true])).unwrap()[..]
        else {
            panic!()
        };
        assert!((only[0] - 3.0 / 7.0).abs() < 1e-9 && only[1] == 1.0);
    }

    #[test]
    fn a_net_is_cut_off_where_it_leaves_the_part() {
        let part = two_blocks();
        let sides = PointLocator::new(&part, 100);
        let nodes = vec![at(4.0), at(24.0), at(13.0), at(40.0), at(8.0)];
        // Through the gap, into the gap, far outside, and within.
        let net = Skeleton { nodes, struts: vec![[0, 1], [1, 2], [2, 3], [0, 4]] };
        let inside: Vec<bool> = net.nodes.iter().map(|p| sides.inside(*p)).collect();
        let cut = cut_off(&part, &sides, net, &inside);
        let mut lengths: Vec<f64> = cut.struts.iter().map(|s| cut.length(*s)).collect();
        lengths.sort_by(f64::total_cmp);
        // The third passes through the whole second block.
        let wanted = [4.0, 6.0, 8.0, 8.0, 10.0];
        assert!(
            lengths.len() == 5 && lengths.iter().zip(wanted).all(|(l, w)| (l - w).abs() < 1e-9),
            "{lengths:?}"
        );
        let ends = cut.struts.iter().flat_map(|s| cut.ends(*s));
        assert!(ends.into_iter().all(|p| part.distance.value(p) < 1e-9));
    }

    #[test]
    fn loose_pieces_and_doubles_go_and_what_is_kept_is_counted() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let sides = PointLocator::new(&part, 100);
        // A square of struts, one of them twice, a strut that hangs on nothing, and one outside.
        let square = [(3.0, 3.0), (15.0, 3.0), (15.0, 15.0), (3.0, 15.0)]
            .map(|(x, y)| DVec3::new(x, y, 10.0));
        let others = [
            DVec3::new(8.0, 8.0, 2.0),
            DVec3::new(8.2, 8.0, 2.0),
            DVec3::splat(40.0),
            DVec3::splat(50.0),
        ];
        let nodes: Vec<DVec3> = square.into_iter().chain(others).collect();
        let net = || Skeleton {
            nodes: nodes.clone(),
            struts: vec![[0, 1], [1, 2], [2, 3], [3, 0], [1, 0], [4, 5], [6, 7]],
        };
        let clean = |keep_loose: bool| {
            let asked = CleanUp { keep_loose, ..CleanUp::default() };
            cleaned(&part, &sides, net(), Skeleton::default(), 5.0, &|_| 0.01, &asked)
        };
        let (kept, facts) = clean(true);
        assert_eq!((kept.struts.len(), facts.duplicates, facts.in_loose), (5, 1, 1));
        let (kept, facts) = clean(false);
        assert_eq!((kept.struts.len(), facts.duplicates, facts.in_loose), (4, 1, 1));
        assert!(kept.struts.iter().all(|s| (kept.length(*s) - 12.0).abs() < 1e-9));
    }
}
