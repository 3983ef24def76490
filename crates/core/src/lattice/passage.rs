//! The narrowest place on the way through a periodic structure.

use glam::DVec3;
use rayon::prelude::*;

/// Places along a side of the cell: windows of most cells have their middles at halves, thirds or quarters of such shares.
const N: usize = 48;

/// The highest value at which the places of at least that value still connect a periodic cell to its neighbours, and the
/// place where they do; `None` where they never do. `value` is asked at places of the unit cube. Places are joined from
/// the highest value down, with the cell that each is of, so that a way around the cell shows (Newman & Ziff 2001).
pub fn narrowest(value: impl Fn(DVec3) -> f64 + Sync) -> Option<(f64, DVec3)> {
    let place = |n: u32| {
        let n = n as usize;
        DVec3::new((n % N) as f64, (n / N % N) as f64, (n / (N * N)) as f64) / N as f64
    };
    let value: Vec<f64> = (0..(N * N * N) as u32).into_par_iter().map(|n| value(place(n))).collect();
    let index = |w: [usize; 3]| (w[2] * N + w[1]) * N + w[0];
    let mut order: Vec<u32> = (0..value.len() as u32).collect();
    order.par_sort_by(|&a, &b| value[b as usize].total_cmp(&value[a as usize]).then(a.cmp(&b)));
    let mut up: Vec<(u32, [i32; 3])> = (0..value.len() as u32).map(|n| (n, [0; 3])).collect();
    let mut open = vec![false; value.len()];
    for &n in &order {
        open[n as usize] = true;
        let (i, j, k) = (n as usize % N, n as usize / N % N, n as usize / (N * N));
        // Also across edges and corners: the way through a window seldom runs along an axis.
        for step in (0..27i32).filter(|s| *s != 13).map(|s| [s % 3 - 1, s / 3 % 3 - 1, s / 9 - 1]) {
            let c = [0, 1, 2].map(|a| [i, j, k][a] as i32 + step[a]);
            let moved = c.map(|v| v.div_euclid(N as i32));
            let m = index(c.map(|v| v.rem_euclid(N as i32) as usize));
            if !open[m] {
                continue;
            }
            let (ra, da) = root(&mut up, n);
            let (rb, db) = root(&mut up, m as u32);
            let gap = [0, 1, 2].map(|d| da[d] - db[d] - moved[d]);
            if ra != rb {
                up[rb as usize] = (ra, gap);
            } else if gap != [0; 3] {
                return Some((value[n as usize], place(n)));
            }
        }
    }
    None
}

/// Root of `n` and the displacement in cells from the root's copy to `n`'s. What was passed on the way is led there
/// directly.
fn root(up: &mut [(u32, [i32; 3])], n: u32) -> (u32, [i32; 3]) {
    let mut way = Vec::new();
    let mut at = n;
    while up[at as usize].0 != at {
        way.push(at);
        at = up[at as usize].0;
    }
    let mut from_root = [0; 3];
    for &passed in way.iter().rev() {
        let step = up[passed as usize].1;
        (0..3).for_each(|i| from_root[i] += step[i]);
        up[passed as usize] = (at, from_root);
    }
    (at, from_root)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_way_through_a_grid_of_bars_is_as_wide_as_its_windows() {
        // From cubic struts along the cell's edges: a ball passes through the middle of a square window.
        let near = |x: f64| x - x.round();
        let from_axis = |p: DVec3, a: usize| near(p[(a + 1) % 3]).hypot(near(p[(a + 2) % 3]));
        let to_struts = |p: DVec3| (0..3).map(|a| from_axis(p, a)).fold(f64::MAX, f64::min);
        let (value, place) = narrowest(to_struts).unwrap();
        assert!((value - 0.5).abs() < 1e-9, "{value}");
        assert!((to_struts(place) - value).abs() < 1e-12);
    }

    #[test]
    fn what_never_connects_to_its_neighbours_has_no_way_through() {
        // The value falls without end toward all sides of the cell.
        let walls = |p: DVec3| (0..3).map(|a| if p[a] == 0.0 { f64::NEG_INFINITY } else { 1.0 }).fold(f64::MAX, f64::min);
        assert_eq!(narrowest(walls).map(|n| n.0), Some(f64::NEG_INFINITY));
        // A slab is open along two of its sides.
        let (value, _) = narrowest(|p| if p.z < 0.5 { -1.0 } else { (p.z - 0.75).abs() }).unwrap();
        assert!(value > 0.2, "{value}");
    }
}
