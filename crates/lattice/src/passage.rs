//! The narrowest place on the widest way through a structure: through cells that repeat, through
//! those of seed points, and through a cube of anything else.

use glam::DVec3;
use rayon::prelude::*;
use ulmix_field::numeric::median;
use ulmix_mesh::topology::UnionFind;
use ulmix_mesh::{parallel, Bounds};

/// Values at evenly spaced places of a cube.
struct WayRaster {
    /// Places along a side.
    along: usize,
    /// Steps between places that make a side of length 1.
    span: usize,
    /// By place, x first.
    value: Vec<f64>,
    /// Places from the highest value down.
    order: Vec<u32>,
}

impl WayRaster {
    fn of(along: usize, span: usize, value: impl Fn(DVec3) -> f64 + Sync) -> WayRaster {
        let count = along.pow(3) as u32;
        let mut out = WayRaster { along, span, value: Vec::new(), order: (0..count).collect() };
        out.value = parallel::map(count as usize, |n| value(out.place(n as u32)));
        let value = &out.value;
        out.order
            .par_sort_by(|&a, &b| value[b as usize].total_cmp(&value[a as usize]).then(a.cmp(&b)));
        out
    }

    fn at(&self, n: u32) -> [usize; 3] {
        let n = n as usize;
        [n % self.along, n / self.along % self.along, n / self.along.pow(2)]
    }

    fn index(&self, [x, y, z]: [usize; 3]) -> usize {
        (z * self.along + y) * self.along + x
    }

    fn place(&self, n: u32) -> DVec3 {
        DVec3::from(self.at(n).map(|c| c as f64)) / self.span as f64
    }
}

/// Places along a side of the cell: windows of most cells have their middles at halves, thirds or
/// quarters of such shares.
const N: usize = 48;

/// The highest value at which the places of at least that value still connect a periodic cell to
/// its neighbours, and the place where they do; `None` where they never do. `value` is asked at
/// places of the unit cube. Places are joined from the highest value down, with the cell that each
/// is of, so that a way around the cell shows (Newman & Ziff 2001).
pub(crate) fn narrowest(value: impl Fn(DVec3) -> f64 + Sync) -> Option<(f64, DVec3)> {
    let raster = WayRaster::of(N, N, value);
    let WayRaster { value, order, .. } = &raster;
    let mut up: Vec<(u32, [i32; 3])> = (0..value.len() as u32).map(|n| (n, [0; 3])).collect();
    let mut open = vec![false; value.len()];
    for &n in order {
        open[n as usize] = true;
        let at = raster.at(n);
        // Also across edges and corners: the way through a window seldom runs along an axis.
        for step in (0..27i32).filter(|s| *s != 13).map(|s| [s % 3 - 1, s / 3 % 3 - 1, s / 9 - 1]) {
            let c = [0, 1, 2].map(|a| at[a] as i32 + step[a]);
            let moved = c.map(|v| v.div_euclid(N as i32));
            let m = raster.index(c.map(|v| v.rem_euclid(N as i32) as usize));
            if !open[m] {
                continue;
            }
            let (ra, da) = root(&mut up, n);
            let (rb, db) = root(&mut up, m as u32);
            let gap = [0, 1, 2].map(|d| da[d] - db[d] - moved[d]);
            if ra != rb {
                up[rb as usize] = (ra, gap);
            } else if gap != [0; 3] {
                return Some((value[n as usize], raster.place(n)));
            }
        }
    }
    None
}

/// Root of `n` and the displacement in cells from the root's copy to `n`'s. What was passed on the
/// way is led there directly.
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

/// Places along a side of a cube that does not repeat.
const ALONG: usize = 38;

/// The highest value at which the places of at least that value connect a side of a cube to the one
/// opposite, along any axis; `None` where they do only at values below 0. `value` is asked at
/// places of the unit cube.
pub(crate) fn across(value: impl Fn(DVec3) -> f64 + Sync) -> Option<f64> {
    let raster = WayRaster::of(ALONG, ALONG - 1, value);
    let WayRaster { value, order, .. } = &raster;
    // By set of joined places, the sides of the cube that it reaches.
    let mut reached: Vec<u8> = (0..value.len() as u32).map(|n| sides_at(raster.at(n))).collect();
    let mut joined = UnionFind::new(value.len());
    let mut is_open = vec![false; value.len()];
    for &n in order.iter().take_while(|n| value[**n as usize] >= 0.0) {
        is_open[n as usize] = true;
        let c = raster.at(n);
        let (low, high) = (c.map(|c| c.saturating_sub(1)), c.map(|c| (c + 1).min(ALONG - 1)));
        for (z, y) in (low[2]..=high[2]).flat_map(|z| (low[1]..=high[1]).map(move |y| (z, y))) {
            for m in (low[0]..=high[0]).map(|x| raster.index([x, y, z])).filter(|&m| is_open[m]) {
                let both =
                    reached[joined.root(n) as usize] | reached[joined.root(m as u32) as usize];
                joined.join(n, m as u32);
                reached[joined.root(n) as usize] = both;
            }
        }
        let sides = reached[joined.root(n) as usize];
        if (0..3).any(|axis| sides >> (2 * axis) & 3 == 3) {
            return Some(value[n as usize]);
        }
    }
    None
}

/// The sides of a cube of places at which one lies: two bits an axis.
fn sides_at(place: [usize; 3]) -> u8 {
    let of = |c: usize| (c == 0) as u8 | ((c == ALONG - 1) as u8) << 1;
    (0..3).fold(0, |sides, axis| sides | of(place[axis]) << (2 * axis))
}

/// The width of the narrowest window on the widest way through the cells of points, from one end of
/// their longest side to the other: cells are joined from the widest window down. `pairs` of points
/// have windows of these `widths` between their cells. Where fewer than four cells lie along that
/// side, or no way leads through, it is the median window; `None` without windows.
pub(crate) fn way_through(points: &[DVec3], pairs: &[[u32; 2]], widths: &[f64]) -> Option<f64> {
    let of_points = |n: &usize| pairs[*n].iter().all(|p| (*p as usize) < points.len());
    let mut order: Vec<usize> = (0..pairs.len()).filter(of_points).collect();
    order.sort_by(|a, b| widths[*b].total_cmp(&widths[*a]).then(a.cmp(b)));
    let middle = median(order.iter().map(|n| widths[*n]).collect());
    let bounds = Bounds::of(points.iter().copied());
    let size = bounds.size();
    let axis = (0..3).max_by(|a, b| size[*a].total_cmp(&size[*b]))?;
    // Cells within one cell of either end begin and end the way.
    let beside = (size.x * size.y * size.z / points.len().max(1) as f64).cbrt();
    if size[axis] < 4.0 * beside {
        return middle;
    }
    let (low, high) = (points.len() as u32, points.len() as u32 + 1);
    let mut joined = UnionFind::new(points.len() + 2);
    for (n, p) in points.iter().enumerate() {
        if p[axis] < bounds.min[axis] + beside {
            joined.join(n as u32, low);
        } else if p[axis] > bounds.max[axis] - beside {
            joined.join(n as u32, high);
        }
    }
    let narrowest = order.into_iter().find(|n| {
        joined.join(pairs[*n][0], pairs[*n][1]);
        joined.root(low) == joined.root(high)
    });
    narrowest.map(|n| widths[n]).or(middle)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_way_through_a_grid_of_bars_is_as_wide_as_its_windows() {
        // From cubic struts along the cell's edges: a ball passes through the middle of a square
        // window.
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
        let walls = |p: DVec3| {
            (0..3)
                .map(|a| if p[a] == 0.0 { f64::NEG_INFINITY } else { 1.0 })
                .fold(f64::MAX, f64::min)
        };
        assert_eq!(narrowest(walls).map(|n| n.0), Some(f64::NEG_INFINITY));
        // A slab is open along two of its sides.
        let (value, _) = narrowest(|p| if p.z < 0.5 { -1.0 } else { (p.z - 0.75).abs() }).unwrap();
        assert!(value > 0.2, "{value}");
    }

    #[test]
    fn windows_across_the_axes_are_passed_through_their_middles() {
        // From the edges of a regular octahedron and its neighbours: triangles with sides of half a
        // diagonal.
        let ends =
            |n: usize| [[0.5, 0.5, 0.0], [0.5, 0.0, 0.5], [0.0, 0.5, 0.5]].map(DVec3::from)[n];
        let corners =
            || (0..27).map(|n| DVec3::from([n % 3, n / 3 % 3, n / 9].map(|c| c as f64 - 1.0)));
        let signs = || {
            (0..8)
                .map(|n| DVec3::from([n & 1, n >> 1 & 1, n >> 2 & 1].map(|b| 1.0 - 2.0 * b as f64)))
        };
        let from_origin: Vec<[DVec3; 2]> = corners()
            .flat_map(|o| signs().flat_map(move |s| (0..3).map(move |n| [o, o + s * ends(n)])))
            .collect();
        let across: Vec<[DVec3; 2]> = corners()
            .flat_map(|o| {
                signs().flat_map(move |s| {
                    (0..3).map(move |n| [o + s * ends(n), o + s * ends((n + 1) % 3)])
                })
            })
            .collect();
        let struts = [from_origin, across].concat();
        let away = |p: DVec3, [a, b]: [DVec3; 2]| {
            let t = ((p - a).dot(b - a) / (b - a).length_squared()).clamp(0.0, 1.0);
            p.distance(a.lerp(b, t))
        };
        let to_struts = |p: DVec3| struts.iter().map(|s| away(p, *s)).fold(f64::MAX, f64::min);
        let (value, _) = narrowest(to_struts).unwrap();
        let inscribed = 0.5f64.sqrt() / 12f64.sqrt();
        assert!((value / inscribed - 1.0).abs() < 1e-6, "{value} for {inscribed}");
    }

    #[test]
    fn a_cube_is_passed_along_the_axis_that_lets_most_across() {
        // Plates across x with a round hole off the middle in each, within a tube along x.
        let to_plates = |p: DVec3| (p.x - 0.3).abs().min((p.x - 0.8).abs());
        let hole = |p: DVec3| 0.2 - (p.y - 0.4).hypot(p.z - 0.7);
        let tube = |p: DVec3| {
            if p.y.min(p.z) < 0.1 || p.y.max(p.z) > 0.95 {
                -1.0
            } else {
                hole(p).max(to_plates(p))
            }
        };
        assert!((across(tube).unwrap() - 0.2).abs() < 0.02);
        // Places of no value are no way, even where nothing else is near.
        assert_eq!(across(|p| if p.x < 0.1 { -1.0 } else { tube(p) }), None);
        // Ways that begin and end at other sides do not make one.
        let beside = |p: DVec3| if p.x < 0.3 || p.x > 0.7 { 0.1 } else { -1.0 };
        let corners = |p: DVec3| {
            if (p.x < 0.4 || p.x > 0.6) && p.y < 0.3 && (0.2..0.8).contains(&p.z) {
                0.1
            } else {
                -1.0
            }
        };
        assert!(across(beside).is_some() && across(corners).is_none());
        // Past the plates the way along them is as wide as the cube has room.
        assert!((across(to_plates).unwrap() - 0.3).abs() < 0.02);
    }

    /// Points in rows a cell apart, and windows between neighbours, of which `width` tells the
    /// widths.
    fn rows(
        size: [usize; 3],
        width: impl Fn(DVec3) -> f64,
    ) -> (Vec<DVec3>, Vec<[u32; 2]>, Vec<f64>) {
        let [nx, ny, nz] = size;
        let at =
            |n: usize| DVec3::new((n % nx) as f64, (n / nx % ny) as f64, (n / (nx * ny)) as f64);
        let points: Vec<DVec3> = (0..nx * ny * nz).map(at).collect();
        let mut pairs = Vec::new();
        for a in 0..points.len() {
            pairs.extend(
                (a + 1..points.len())
                    .filter(|b| points[a].distance(points[*b]) < 1.1)
                    .map(|b| [a as u32, b as u32]),
            );
        }
        let widths = pairs
            .iter()
            .map(|[a, b]| width((points[*a as usize] + points[*b as usize]) * 0.5))
            .collect();
        (points, pairs, widths)
    }

    #[test]
    fn the_way_through_cells_is_as_wide_as_the_widest_gap_in_the_narrowest_wall() {
        // All windows are 2 wide, but for those across the middle: 0.5, and one of 1.3.
        let across = |p: DVec3| (p.x - 5.5).abs() < 0.1;
        let width = |p: DVec3| {
            if !across(p) {
                2.0
            } else if p.y == 1.0 && p.z == 2.0 {
                1.3
            } else {
                0.5
            }
        };
        let (points, pairs, widths) = rows([12, 4, 4], width);
        assert_eq!(way_through(&points, &pairs, &widths), Some(1.3));
        // Windows of points past the given ones do not count.
        let gap = pairs
            .iter()
            .position(|p| across((points[p[0] as usize] + points[p[1] as usize]) * 0.5))
            .unwrap();
        assert!(pairs[gap][1] > 0);
        let beyond = [points.len() as u32, 0];
        let (more, wider) = ([&pairs[..], &[beyond]].concat(), [&widths[..], &[9.0]].concat());
        assert_eq!(way_through(&points, &more, &wider), Some(1.3));
    }

    #[test]
    fn few_cells_and_cells_without_a_way_through_have_their_median_window() {
        let (points, pairs, widths) = rows([2, 2, 2], |p| p.x + 1.0);
        assert_eq!(way_through(&points, &pairs, &widths), median(widths.clone()));
        let (points, mut pairs, mut widths) = rows([10, 1, 1], |_| 1.0);
        pairs.truncate(4);
        widths.truncate(4);
        assert_eq!(way_through(&points, &pairs, &widths), Some(1.0));
        assert_eq!(way_through(&points, &[], &[]), None);
    }
}
