//! What a person is told about a mesh: what is wrong with it, and what was made of it.

use crate::bodies::Clean;
use crate::triangles::Remade;

pub(crate) fn many(n: usize, one: &str, more: &str) -> String {
    if n == 1 {
        format!("1 {one}")
    } else {
        format!("{n} {more}")
    }
}

/// What is wrong with a mesh.
pub(crate) fn defects(c: &Clean) -> Vec<String> {
    let (t, put_right) = (&c.topology, &c.corrected);
    let were = if put_right.turned == 1 { "was" } else { "were" };
    let turned = format!("faced the wrong way and {were} turned");
    let triangles = ["triangle", "triangles"];
    let edges = ["edge", "edges"];
    let all = [
        (
            t.open_edges,
            ["open edge", "open edges"],
            "along holes; the inside is taken as if they were covered",
        ),
        (t.non_manifold_edges, edges, "shared by more than two triangles"),
        (put_right.turned, triangles, &turned),
        (put_right.dropped, triangles, "without area left out"),
        (put_right.duplicates, ["triangle was", "triangles were"], "there twice and left out"),
    ];
    let there = all.into_iter().filter(|(n, ..)| *n > 0);
    there.map(|(n, [one, more], what)| format!("{} {what}", many(n, one, more))).collect()
}

/// What was mended or made of a mesh because it was asked for.
pub(crate) fn changes(c: &Clean) -> Vec<String> {
    let mut out = Vec::new();
    if let Some(widest) = c.closed.first() {
        let holes = many(c.closed.len(), "hole was", "holes were");
        out.push(format!("{holes} closed, the widest of {widest:.1} mm"));
    }
    if c.removed > 0 {
        out.push(format!("{} removed", many(c.removed, "crumb was", "crumbs were")));
    }
    if !c.rewrapped.is_empty() {
        let pieces = many(
            c.rewrapped.len(),
            "piece that crossed itself was",
            "pieces that crossed themselves were",
        );
        let greatest = c.rewrapped.iter().map(|r| r.moved.greatest).fold(0.0, f64::max);
        let mean = c.rewrapped.iter().map(|r| r.moved.mean).fold(0.0, f64::max);
        let left = match c.rewrapped.iter().map(|r| r.crossing).sum::<usize>() {
            0 => String::new(),
            n => format!(
                "; {} still, and a finer step may resolve them",
                many(n, "triangle crosses", "triangles cross")
            ),
        };
        out.push(format!(
            "{pieces} wound anew: no point moved by more than {greatest:.3} mm, \
             {mean:.4} mm in the mean{left}"
        ));
    }
    let surface = |r: &Remade| {
        format!(
            "the surface moved by up to {:.3} mm, {:.4} mm in the mean",
            r.moved.greatest, r.moved.mean
        )
    };
    if let Some(r) = &c.evened {
        out.push(format!(
            "{} triangles were made anew as {} of one size: {}",
            r.before,
            r.after,
            surface(r)
        ));
    }
    for r in &c.fewer {
        out.push(if r.before == r.after {
            "No more triangles could be joined".into()
        } else {
            format!("{} triangles were joined to {}: {}", r.before, r.after, surface(r))
        });
    }
    if c.shells > 0 {
        out.push(format!("{} given thickness", many(c.shells, "sheet was", "sheets were")));
    }
    out
}
