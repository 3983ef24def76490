//! Where a way leaves a part.

use crate::part::Part;
use glam::DVec3;
use std::cell::RefCell;
use ulmix_mesh::bvh::SegmentCrossing;

/// Where the way from `a`, inside the part, to `b`, outside, leaves the part: its share of the way,
/// and the outward normal there. The way leaves at the first triangle met, or across a hole where
/// the winding turns. Where bodies overlap or touch, or one crosses itself, the way leaves at the
/// triangle after which no body is left. Normals are looked for within `step`, in mm.
pub fn exit(part: &Part, [a, b]: [DVec3; 2], step: f64) -> (f64, DVec3) {
    thread_local!(static HITS: RefCell<Vec<SegmentCrossing>> = const { RefCell::new(Vec::new()) });
    let first = HITS.with_borrow_mut(|crossings| {
        part.distance.segment_crossings(a, b, crossings);
        let leaving = |h: &&SegmentCrossing| part.distance.face_normal(h.triangle).dot(b - a) > 0.0;
        let by_t = |x: &SegmentCrossing, y: &SegmentCrossing| {
            x.t.total_cmp(&y.t).then(x.triangle.cmp(&y.triangle))
        };
        if crossings.len() > 1 {
            crossings.sort_unstable_by(by_t);
            let steps: Vec<i32> =
                crossings.iter().map(|h| if leaving(&h) { -1 } else { 1 }).collect();
            let mut around = -steps.iter().sum::<i32>();
            for (n, step) in steps.iter().enumerate() {
                around += step;
                // Faces of touching bodies lie in one place but for rounding.
                let entered = |m: usize| crossings[m].t - crossings[n].t < 1e-9 && steps[m] > 0;
                if around <= 0 && *step < 0 && !(n + 1..crossings.len()).any(entered) {
                    return Some(crossings[n]);
                }
            }
        }
        crossings
            .iter()
            .filter(leaving)
            .min_by(|x, y| by_t(x, y))
            .or_else(|| crossings.iter().min_by(|x, y| by_t(x, y)))
            .copied()
    });
    if let Some(h) = first {
        return (h.t, part.distance.face_normal(h.triangle));
    }
    let t = bisect(|t| if part.distance.inside(a.lerp(b, t)) { -1.0 } else { 1.0 });
    (t, part.distance.normal_near(a.lerp(b, t), step))
}

fn bisect(f: impl Fn(f64) -> f64) -> f64 {
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..30 {
        let mid = 0.5 * (low + high);
        *(if f(mid) < 0.0 { &mut low } else { &mut high }) = mid;
    }
    0.5 * (low + high)
}
