use super::*;
use proptest::collection::vec;
use proptest::prelude::*;

const MARGIN: f64 = 3.0;

fn place() -> impl Strategy<Value = DVec3> {
    proptest::array::uniform3(0.0..12.0f64).prop_map(DVec3::from)
}

fn members(source: &StrutSource, joins: Joins) -> Members {
    Members::new(source, joins, MARGIN, 2.0)
}

/// The distance at a place, found through the bins.
fn at(m: &Members, p: DVec3, blend: f64) -> f64 {
    m.distance(m.bins().reduced(p), blend, MARGIN)
}

fn from_line(p: DVec3, [a, b]: [DVec3; 2]) -> f64 {
    let t = (p - a).dot(b - a) / (b - a).length_squared();
    p.distance(a.lerp(b, t.clamp(0.0, 1.0)))
}

/// Eight places at once give what one after the other gives, and the gradient is that of the
/// distance.
fn agree(m: &Members, places: &[DVec3], blend: f64) -> Result<(), TestCaseError> {
    for p in places {
        let q = m.bins().reduced(*p);
        let bin = m.bins().of(q);
        let lanes = [q.x, q.y, q.z].map(|v| f32x8::splat(v as f32));
        let (d, g) = m.distance8(bin, &lanes, blend as f32, MARGIN as f32);
        let one = m.distance(q, blend, MARGIN);
        prop_assert!(
            (d.to_array()[3] as f64 - one).abs() < 2e-4,
            "{} {} at {}",
            d.to_array()[3],
            one,
            p
        );
        let h = 1e-4;
        let along = |axis: DVec3| {
            let of = |p: DVec3| m.distance(p, blend, MARGIN);
            (of(q + axis * h) - of(q - axis * h)) / (2.0 * h)
        };
        let slope = DVec3::from(DVec3::AXES.map(along));
        let told = DVec3::from(g.map(|g| g.to_array()[3] as f64));
        // Where members are equally near, and at the border of a bin, there is a kink.
        let kinked = (slope.length() - 1.0).abs() > 1e-3 && blend == 0.0;
        prop_assert!(
            kinked || one >= MARGIN || blend > 0.0 || slope.distance(told) < 1e-2,
            "{} {}",
            slope,
            told
        );
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn struts_are_as_far_as_the_nearest_of_all_and_eight_places_at_once_agree(
        ends in vec((place(), place()), 1..12), places in vec(place(), 12), blend in prop_oneof![Just(0.0), 0.2..1.5f64]
    ) {
        let struts: Vec<[DVec3; 2]> = ends.into_iter().map(|(a, b)| [a, b]).filter(|[a, b]| a.distance(*b) > 0.1).collect();
        prop_assume!(!struts.is_empty());
        let source = StrutSource::Struts { struts: struts.clone(), inner: struts.len(), ends: Vec::new() };
        let m = members(&source, Joins { blend_mm: blend, ..Joins::default() });
        for p in &places {
            let nearest = struts.iter().map(|s| from_line(*p, *s)).fold(f64::INFINITY, f64::min);
            let told = at(&m, *p, 0.0);
            prop_assert!((told - nearest.min(MARGIN)).abs() < 1e-9, "{} {}", told, nearest);
            // A blend only adds, and no more than a quarter of it for two members that meet.
            let blended = at(&m, *p, blend);
            prop_assert!(blended <= told + 1e-9);
        }
        agree(&m, &places, 0.0)?;
        agree(&m, &places, blend)?;
    }

    #[test]
    fn thicker_ends_and_nodes_reach_farther_by_what_they_are_thicker(
        a in place(), b in place(), p in place(), first in 0.0..0.5f64, second in 0.0..0.5f64, node in 0.0..0.8f64
    ) {
        prop_assume!(a.distance(b) > 2.0);
        let source = StrutSource::Struts { struts: vec![[a, b]], inner: 1, ends: vec![[first, second]] };
        let plain = members(&source, Joins::default());
        let d = at(&plain, p, 0.0);
        // A cone is the hull of balls along its axis (Barbier & Galin 2004).
        let balls = (0..=2000).map(|n| n as f64 / 2000.0).map(|t| p.distance(a.lerp(b, t)) - first - (second - first) * t);
        let hull = balls.fold(f64::INFINITY, f64::min).min(MARGIN);
        prop_assert!(d <= hull + 1e-9 && d > hull - 1e-3, "{} {}", d, hull);
        let noded = members(&source, Joins { node_mm: node, ..Joins::default() });
        let with_nodes = at(&noded, p, 0.0);
        let balls = [(a, first), (b, second)].map(|(c, r)| p.distance(c) - r - 0.5 * node);
        prop_assert!((with_nodes - balls.into_iter().fold(d, f64::min)).abs() < 1e-9);
        agree(&plain, &[p], 0.0)?;
    }

    #[test]
    fn repeated_cells_are_alike_everywhere(p in place(), shift in proptest::array::uniform3(-3i32..4)) {
        let cell = DVec3::new(5.0, 6.0, 4.0);
        let struts = vec![[DVec3::ZERO, cell], [DVec3::new(5.0, 0.0, 0.0), DVec3::new(0.0, 6.0, 4.0)]];
        let m = members(&StrutSource::Repeated { struts: struts.clone(), cell }, Joins::default());
        let far = at(&m, p + cell * DVec3::from(shift.map(f64::from)), 0.0);
        prop_assert!((at(&m, p, 0.0) - far).abs() < 1e-9);
        let copies = (0..343).map(|n| DVec3::from([n % 7, n / 7 % 7, n / 49].map(|c| (c - 3) as f64)) * cell);
        let nearest = copies.flat_map(|c| struts.iter().map(move |s| from_line(p, s.map(|e| e + c)))).fold(f64::INFINITY, f64::min);
        prop_assert!((at(&m, p, 0.0) - nearest).abs() < 1e-9, "{} {}", at(&m, p, 0.0), nearest);
    }

    #[test]
    fn walls_lie_halfway_between_points_and_holes_open_them(
        p in place(), radius in 0.0..1.5f64, gap in 3.0..6.0f64
    ) {
        // Two cells side by side: the wall is a plane, its hole a disc in it.
        let seeds = vec![DVec3::new(6.0 - 0.5 * gap, 6.0, 6.0), DVec3::new(6.0 + 0.5 * gap, 6.0, 6.0)];
        let middle = DVec3::splat(6.0);
        let holes = vec![WallOpening { middle, radius }];
        let source = StrutSource::Walls { seeds, pairs: vec![[0, 1]], holes };
        let m = members(&source, Joins::default());
        let off = p - middle;
        let past = (radius - off.with_x(0.0).length()).max(0.0);
        let wall = off.x.hypot(past).min(MARGIN);
        prop_assert!((at(&m, p, 0.0) - wall).abs() < 1e-9, "{} {}", at(&m, p, 0.0), wall);
        agree(&m, &[p], 0.0)?;
    }
}
