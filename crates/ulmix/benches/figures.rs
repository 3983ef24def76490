//! The figures that the product promises, one JSON line each: `make bench [-- WORD …]`. A run of all
//! cases writes docs/figures.md.
//!
//! `seconds` is the best of three; making the input is outside. Cases with a rival are named as
//! theirs, so that both can be run in turn on one machine and compared.

#[path = "../../core/tests/random_recipes/mod.rs"]
mod random_recipes;

use glam::DVec3;
use serde_json::json;
use std::time::Instant;
use ulmix_core::compose::Composed;
use ulmix_core::pipeline::pace::Paces;
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_field::grid::Grid;
use ulmix_field::polygonise::{polygonise, Care};
use ulmix_formats::{glb, stl, Limits};
use ulmix_lattice::make::structure as structure_in;
use ulmix_lattice::site::Site;
use ulmix_lattice::sizes::GradedValues;
use ulmix_mesh::shading::shade;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};
use ulmix_part::demo::{keel_bracket, Reedling};
use ulmix_part::grading::GradedField;
use ulmix_part::inspect::inspect;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::grading::{
    Given, GradedValue, Grading, GradingSource, PlacedGrading, Source, ValueCurve, ValuePoint,
};
use ulmix_recipe::{
    CellKind, FoamPattern, Joins, Kind, Pattern, Recipe, Seeds, Spread, Structure, SurfaceNet,
    Thicken, Unit, VoronoiPattern, Zones,
};
use ulmix_runner::stopwatch::Stopwatch;

/// Name, what it measures, and the measurement.
type Case = (&'static str, &'static str, fn() -> serde_json::Value);

#[rustfmt::skip]
const CASES: [Case; 21] = [
    ("gyroid_400", "Gyroid walls in a 100 mm cube at 0.25 mm, trimmed, to a closed mesh", gyroid),
    ("struts_10000", "10,648 struts of 1 mm to one closed mesh at 0.25 mm", struts),
    ("voronoi_clip_2000", "2,000 loose seed points in the box of a ball to a clipped, cleaned skeleton", || voronoi_clipped(2_000)),
    ("voronoi_clip_100000", "100,000 of them", || voronoi_clipped(100_000)),
    ("voronoi_2000", "2,000 seed points in the ball itself, with the net on its surface", || voronoi(2_000, 0, true)),
    ("voronoi_100000", "100,000 of them", || voronoi(100_000, 0, true)),
    ("voronoi_8000_relaxed", "8,000 of them, relaxed 30 rounds", || voronoi(8_000, 30, true)),
    ("foam_200", "Foam sheet of 200³ cells, half of them inside, one cell size", || foam(false, false)),
    ("foam_graded", "The same with cells of three to one", || foam(true, false)),
    ("foam_graded_draft", "The draft of that", || foam(true, true)),
    ("keel_final_025", "Keel bracket at 0.25 mm, final, reduced and held against its recipe", keel_final),
    ("field", "A field of three points, a face distance and a curve, sampled and asked for at 20 M places", field),
    ("graded_final", "Keel bracket at 0.25 mm, final, with walls that fall from its sole upward", graded_final),
    ("mapped_final", "The same with even walls and cells that double along it", mapped_final),
    ("slider", "Slider to picture, on the side of the server, median", slider),
    ("distance_256", "Exact distance in a band around 131,072 triangles, 256³ samples", distance),
    ("import_1m", "1 M triangles from the bytes of a file to a first draft, shaded and encoded", import),
    ("faces_200k", "Faces of a part of 200,000 triangles", faces_of_many),
    ("stl_read_5m", "STL of 5 M triangles read and welded", stl_read),
    ("stl_write_5m", "STL of 5 M triangles written", stl_write),
    ("start_to_picture", "Empty process to the first settled picture, without the browser", start),
];

fn main() {
    // As the program does.
    ulmix_runner::memory::keep();
    let words: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    let wanted = |name: &str| words.is_empty() || words.iter().any(|w| name.contains(w.as_str()));
    let mut rows = String::new();
    for (name, title, run) in CASES.into_iter().filter(|c| wanted(c.0)) {
        let mut line = run();
        line["case"] = json!(name);
        line["peak_mb"] = json!(peak_mb());
        println!("{line}");
        rows += &row(title, &line);
    }
    if words.is_empty() {
        write_page(&rows);
    }
    if wanted("estimates") {
        println!("{}", estimates());
    }
}

/// A row of the page of figures.
fn row(title: &str, line: &serde_json::Value) -> String {
    let seconds = line["seconds"].as_f64().unwrap_or(0.0);
    let seconds = if seconds < 0.1 { format!("{seconds:.3} s") } else { format!("{seconds:.2} s") };
    let later = line["p95_seconds"].as_f64().map(|s| format!("; 95th percentile {s:.3} s"));
    let triangles = line["triangles"].as_u64().map(|n| format!("{:.1} M", n as f64 / 1e6));
    let (later, triangles) = (later.unwrap_or_default(), triangles.unwrap_or_default());
    format!("| {title} | {seconds}{later} | {triangles} |\n")
}

/// Writes what was measured into the documentation.
fn write_page(rows: &str) {
    let info = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let model = info.lines().find_map(|l| l.strip_prefix("model name")).unwrap_or(": unknown");
    let model = model.trim_start_matches([' ', '\t', ':']);
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    let page = format!(
        "# Figures\n\n`make bench` writes this page. Each figure is the best of three on {threads} \
         threads of this processor: {model}.\nMaking the input is not counted.\n\n| work | \
         measured | triangles |\n|---|---|---|\n{rows}"
    );
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/figures.md");
    std::fs::write(path, page).expect("docs/figures.md can be written");
}

fn peak_mb() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap_or_default();
    line.split_whitespace().next().and_then(|kb| kb.parse::<u64>().ok()).unwrap_or(0) / 1024
}

/// Best of three, each with the memory of the one before.
fn best<T>(mut f: impl FnMut() -> T) -> (f64, T) {
    let (mut least, mut last) = (f64::INFINITY, None);
    for _ in 0..3 {
        drop(last.take());
        let t = Instant::now();
        last = Some(f());
        least = least.min(t.elapsed().as_secs_f64());
    }
    (least, last.expect("three runs"))
}

/// Gyroid walls in a 100 mm cube on a 0.25 mm grid, trimmed by the part, field to closed mesh.
fn gyroid() -> serde_json::Value {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(100.0))).expect("a cube");
    let structure = Structure { cell_mm: [20.0; 3], ..Structure::default() };
    let (seconds, mesh) = best(|| {
        let regions = Regions::of(&part, &Zones::default());
        let zoned =
            Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.25), &|| false)
                .expect("not cancelled");
        let lattice = structure_in(&part, &structure, Joins::default(), &|| false)
            .expect("not cancelled")
            .thicken(1.1);
        let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
        let signs = shape.signs();
        polygonise(&zoned.grid, &signs, Some(&zoned.fill), &shape, Care::Full, &|| false)
            .expect("not cancelled")
    });
    let sound = Topology::of(&mesh).sound();
    json!({ "seconds": seconds, "triangles": mesh.triangles.len(), "sound": sound })
}

/// Body-centred struts of 1 mm in cells of 5 mm, about ten thousand, on a 0.25 mm grid, to one
/// closed mesh.
fn struts() -> serde_json::Value {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(55.0))).expect("a cube");
    let kind = Kind::Cell(CellKind::BodyCentred);
    let structure = Structure { cell_mm: [5.0; 3], shift_mm: [2.5; 3], ..Structure::of_kind(kind) };
    let (seconds, mesh) = best(|| {
        let regions = Regions::of(&part, &Zones::default());
        let zoned =
            Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.25), &|| false)
                .expect("not cancelled");
        let lattice = structure_in(&part, &structure, Joins::default(), &|| false)
            .expect("not cancelled")
            .thicken(1.0);
        let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
        let signs = shape.signs();
        polygonise(&zoned.grid, &signs, Some(&zoned.fill), &shape, Care::Full, &|| false)
            .expect("not cancelled")
    });
    json!({ "seconds": seconds, "struts": 11 * 11 * 11 * 8, "triangles": mesh.triangles.len(), "sound": Topology::of(&mesh).sound() })
}

/// Seed points in the box of a ball of 82 000 triangles, those in the ball to a clipped, cleaned
/// skeleton, as the rival's.
fn voronoi_clipped(in_box: u32) -> serde_json::Value {
    let inside = (in_box as f64 * std::f64::consts::PI / 6.0).round() as u32;
    voronoi(inside, 0, false)
}

/// Seed points in a ball of 82 000 triangles to a clipped, cleaned skeleton, with its outer net if
/// wanted.
fn voronoi(points: u32, rounds: u32, net: bool) -> serde_json::Value {
    let part = Part::prepare(&TriMesh::sphere(50.0, 6)).expect("a ball");
    let seeds = Seeds { count: Some(points), spread: Spread::Loose, rounds, ..Seeds::default() };
    let net = net.then(SurfaceNet::default);
    let pattern = Pattern::Voronoi(VoronoiPattern { seeds, net, ..VoronoiPattern::default() });
    let structure = Structure { pattern, ..Structure::default() };
    let (seconds, bare) = best(|| {
        structure_in(&part, &structure, Joins::default(), &|| false).expect("not cancelled")
    });
    json!({ "seconds": seconds, "part_triangles": part.mesh.triangles.len(), "facts": bare.facts() })
}

/// A foam sheet in a ball whose box holds 200³ cells of its grid, half of them inside.
fn foam(is_graded: bool, draft: bool) -> serde_json::Value {
    let part = Part::prepare(&TriMesh::sphere(50.0, 6)).expect("a ball");
    // A ball fills half of its box: 200³ cells of the grid, ten to the smallest wave, of which half
    // lie inside.
    let cell = if is_graded { 15.0 } else { 8.0 };
    let pattern = Pattern::FoamSheet(FoamPattern::default());
    let structure = Structure { pattern, cell_mm: [cell; 3], ..Structure::default() };
    // Three to one, smallest at the surface.
    let (of, shares) = (GradedValue::CellSize, [100.0 / 3.0, 100.0]);
    let grading = Grading::fading(of, Given::Percent, [Source::Surface], shares, 45.0);
    let zones = Zones::default();
    let placed = PlacedGrading::new(&grading, &[], &zones);
    let field = GradedField::of(&part, &placed).expect("a surface");
    let values = field.sampled(&part, cell, &|| false).expect("not cancelled");
    let sizes = GradedValues { values: &values, given: grading.given };
    let site = Site { draft, sizes: is_graded.then_some(sizes), ..Site::from(&part) };
    let (seconds, bare) = best(|| {
        structure_in(site, &structure, Joins::default(), &|| false).expect("not cancelled")
    });
    json!({ "seconds": seconds, "facts": bare.facts() })
}

/// A wavy ring of so many triangles, twice `around` times `across`.
fn ring(around: u32, across: u32) -> TriMesh {
    let turn = |n: u32, of: u32| std::f64::consts::TAU * (n % of) as f64 / of as f64;
    let place = |i: u32, j: u32| {
        let (u, v) = (turn(i, around), turn(j, across));
        let r = 10.0 + 1.5 * (5.0 * u).sin() * (3.0 * v).cos();
        DVec3::new((30.0 + r * v.cos()) * u.cos(), (30.0 + r * v.cos()) * u.sin(), r * v.sin())
    };
    let at = |i: u32, j: u32| (i % around) * across + j % across;
    let each = || (0..around).flat_map(|i| (0..across).map(move |j| (i, j)));
    TriMesh {
        points: each().map(|(i, j)| place(i, j)).collect(),
        triangles: each()
            .flat_map(|(i, j)| {
                let [a, b, c, d] = [at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)];
                [[a, b, c], [a, c, d]]
            })
            .collect(),
    }
}

/// A file of a million triangles to its part and a first draft, shaded and encoded.
fn import() -> serde_json::Value {
    let bytes = stl::write(&ring(1000, 500));
    let (seconds, triangles) = best(|| {
        let found = inspect(&bytes, &Limits::default()).expect("a ring");
        let recipe = Recipe::for_part(&found.part.mesh.bounds());
        let o = Pipeline::new(0)
            .run(&found.part, &recipe, Quality::Draft, &Unwatched)
            .expect("a good recipe");
        glb::write(&shade(&o.solid.mesh, 32.0), &[], json!({}));
        found.told.triangles
    });
    json!({ "seconds": seconds, "part_triangles": triangles })
}

/// Faces of a part of 200 000 triangles, recognised.
fn faces_of_many() -> serde_json::Value {
    let mesh = ring(400, 250);
    let (seconds, found) = best(|| ulmix_mesh::faces::faces(&mesh, 28.0).list.len());
    json!({ "seconds": seconds, "part_triangles": mesh.triangles.len(), "faces": found })
}

/// Values at three points, the distance from a face and a curve, brought together: sampled in the
/// keel bracket's box, and asked for at many places.
fn field() -> serde_json::Value {
    let (mesh, recipe) = keel_bracket();
    let part = Part::prepare(&mesh).expect("the bracket");
    let points = [[10.0, 0.0, 10.0], [60.0, 10.0, 20.0], [110.0, 0.0, 30.0]];
    let point = |(place_mm, value)| ValuePoint { place_mm, value };
    let points = points.into_iter().zip([0.8, 1.6, 2.4]).map(point).collect();
    let faces = vec![ulmix_part::mark(&part.faces().list[0])];
    let fade = ValueCurve { points: vec![[0.0, 2.4], [12.0, 1.8], [40.0, 1.0]], smooth: true };
    let sources = vec![
        GradingSource { from: Source::Points { points }, curve: None, weight: 1.0 },
        GradingSource::new(Source::Faces { faces }, fade),
    ];
    let grading = Grading::new(1, GradedValue::Thickness, sources);
    let placed = PlacedGrading::new(&grading, &[], &recipe.zones);
    const PLACES: usize = 20_000_000;
    let bounds = part.mesh.bounds();
    let make = || {
        let field = GradedField::of(&part, &placed).expect("a face");
        field.sampled(&part, 11.0, &|| false).expect("not cancelled")
    };
    let (making, field) = best(make);
    let (seconds, sum) = best(|| {
        let run = |places: std::ops::Range<usize>| {
            let place = |n: usize| bounds.min + bounds.size() * (n % 1000) as f64 / 1000.0;
            let eights = places.step_by(8).map(|n| field.eight(|lane| place(n + lane)));
            eights.fold(0.0f32, |sum, eight| sum + eight.reduce_add())
        };
        ulmix_mesh::parallel::runs(PLACES, 1 << 16, run).into_iter().sum::<f32>()
    });
    let a_second = PLACES as f64 / seconds / 1e6;
    json!({ "seconds": seconds, "sampled_in": making, "million_places_a_second": a_second, "sum": sum })
}

/// The keel bracket with walls that fall from its sole upward.
fn graded_final() -> serde_json::Value {
    let from = Source::Direction { from_mm: [0.0; 3], along: [0.0, 0.0, 1.0] };
    over_even(GradedValue::Thickness, from, vec![[0.0, 1.9], [88.0, 0.9]])
}

/// The keel bracket with cells that double along it.
fn mapped_final() -> serde_json::Value {
    let from = Source::Direction { from_mm: [0.0; 3], along: [1.0, 0.0, 0.0] };
    over_even(GradedValue::CellSize, from, vec![[0.0, 14.0], [120.0, 7.0]])
}

/// The keel bracket with a grading, over the time without, as triangles of the grid a second.
fn over_even(of: GradedValue, from: Source, points: Vec<[f64; 2]>) -> serde_json::Value {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).expect("the bracket");
    recipe.mesh.step_mm = Some(0.25);
    let made = |recipe: &Recipe| {
        let (seconds, o) = best(|| {
            Pipeline::new(0).run(&part, recipe, Quality::Final, &Unwatched).expect("a good recipe")
        });
        (seconds, o.solid.raw_triangles as f64)
    };
    let (even, even_raw) = made(&recipe);
    let curve = ValueCurve { points, smooth: true };
    recipe.gradings = vec![Grading::new(1, of, vec![GradingSource::new(from, curve)])];
    let (seconds, raw) = made(&recipe);
    json!({ "seconds": seconds, "even_seconds": even, "ratio_a_triangle": (seconds / raw) / (even / even_raw) })
}

fn keel_final() -> serde_json::Value {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).expect("the bracket");
    recipe.mesh.step_mm = Some(0.25);
    let (seconds, o) = best(|| {
        Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).expect("a good recipe")
    });
    json!({ "seconds": seconds, "triangles": o.report.triangles, "raw_triangles": o.solid.raw_triangles })
}

/// Server side of a moving slider: run, shade, encode. Forty values of thickness and cell size.
fn slider() -> serde_json::Value {
    let (mesh, recipe) = keel_bracket();
    let part = Part::prepare(&mesh).expect("the bracket");
    let pipeline = Pipeline::new(512 << 20);
    let mut times: Vec<f64> = (0..40)
        .map(|i| {
            let mut r: Recipe = recipe.clone();
            let v = i as f64 / 40.0;
            if i % 2 == 0 {
                r.thicken = Thicken::Thickness { thickness_mm: 0.9 + v };
            } else {
                r.structure.cell_mm = [9.0 + 6.0 * v; 3];
            }
            let t = Instant::now();
            let o = pipeline.run(&part, &r, Quality::Drag, &Unwatched).expect("a good recipe");
            let shaded = shade(&o.solid.mesh, 32.0);
            std::hint::black_box(glb::write(&shaded, &[], json!({})));
            t.elapsed().as_secs_f64()
        })
        .collect();
    times.sort_by(f64::total_cmp);
    json!({ "seconds": times[20], "p95_seconds": times[37] })
}

/// Exact signed distance in a band of two steps around a part of 131 072 triangles, 256³.
fn distance() -> serde_json::Value {
    use rayon::prelude::*;
    let mesh = TriMesh::sphere(50.0, 7);
    let distance = SignedDistance::new(&mesh, &Topology::of(&mesh));
    let n = 256u32;
    let grid = Grid {
        origin: DVec3::splat(-52.0),
        step: 104.0 / (n - 1) as f64,
        size: glam::UVec3::splat(n),
    };
    let (seconds, held) = best(|| {
        // Blocks that the band passes, then every sample in them.
        let band = 2.0 * grid.step;
        (0..n / 8)
            .into_par_iter()
            .map(|bk| {
                let mut held = 0u64;
                for bj in 0..n / 8 {
                    for bi in 0..n / 8 {
                        let low = grid.at(bi * 8, bj * 8, bk * 8);
                        let centre = low + 3.5 * grid.step;
                        let radius = 3.5 * grid.step * 3f64.sqrt() + band;
                        if distance.query(centre, radius).is_none() {
                            continue;
                        }
                        for k in 0..8 {
                            for j in 0..8 {
                                for i in 0..8 {
                                    let p = grid.at(bi * 8 + i, bj * 8 + j, bk * 8 + k);
                                    held += distance.query(p, band).is_some() as u64;
                                }
                            }
                        }
                    }
                }
                held
            })
            .sum::<u64>()
    });
    json!({ "seconds": seconds, "triangles": mesh.triangles.len(), "samples_in_band": held })
}

/// A bumpy sheet of five million triangles.
fn sheet() -> TriMesh {
    let k = 1581usize;
    let points = (0..=k)
        .flat_map(|i| (0..=k).map(move |j| DVec3::new(i as f64 * 0.1, j as f64 * 0.1, 0.0)))
        .map(|p| DVec3::new(p.x, p.y, p.x.sin() * p.y.cos()).as_vec3().as_dvec3())
        .collect();
    let at = |i: usize, j: usize| (i * (k + 1) + j) as u32;
    let triangles = (0..k)
        .flat_map(|i| {
            (0..k).flat_map(move |j| {
                [
                    [at(i, j), at(i + 1, j), at(i + 1, j + 1)],
                    [at(i, j), at(i + 1, j + 1), at(i, j + 1)],
                ]
            })
        })
        .take(5_000_000 - 1000)
        .collect();
    TriMesh { points, triangles }
}

fn stl_read() -> serde_json::Value {
    let file = std::env::temp_dir().join(format!("ulmix-bench-{}.stl", std::process::id()));
    std::fs::write(&file, stl::write(&sheet())).expect("a temporary file");
    let (seconds, mesh) = best(|| {
        let bytes = std::fs::read(&file).expect("the file just written");
        stl::read(&bytes, &Limits::default()).expect("a good file").mesh
    });
    let _ = std::fs::remove_file(&file);
    json!({ "seconds": seconds, "triangles": mesh.triangles.len(), "points": mesh.points.len() })
}

fn stl_write() -> serde_json::Value {
    let mesh = sheet();
    let file = std::env::temp_dir().join(format!("ulmix-bench-out-{}.stl", std::process::id()));
    let (seconds, ()) =
        best(|| std::fs::write(&file, stl::write(&mesh)).expect("a temporary file"));
    let _ = std::fs::remove_file(&file);
    json!({ "seconds": seconds, "triangles": mesh.triangles.len() })
}

/// From an empty process to the first settled picture of the demo part, without the browser.
fn start() -> serde_json::Value {
    let (seconds, bytes) = best(|| {
        let (file, recipe) = Reedling::KeelBracket.file();
        let part = Part::read(&file, Unit::Mm).expect("the bracket");
        let o = Pipeline::new(512 << 20)
            .run(&part, &recipe, Quality::Draft, &Unwatched)
            .expect("a good recipe");
        glb::write(&shade(&o.solid.mesh, 32.0), &[], json!({})).len()
    });
    json!({ "seconds": seconds, "picture_bytes": bytes })
}

/// Actual over estimated seconds and triangles of random recipes; with `ULMIX_ESTIMATES=1` a line
/// for each as well.
fn estimates() -> serde_json::Value {
    const RECIPES: u64 = 60;
    /// Larger ones take too long for a bench.
    const MOST_TRIANGLES: u64 = 4_000_000;
    let told = std::env::var("ULMIX_ESTIMATES").ok();
    let each = told.is_some();
    let only: Vec<u64> =
        told.iter().flat_map(|list| list.split(',')).filter_map(|n| n.parse().ok()).collect();
    let (mut seconds, mut triangles, mut raw) = (Vec::new(), Vec::new(), Vec::new());
    let mut paces = Paces::default();
    for n in (0..RECIPES).filter(|n| only.is_empty() || only.contains(n)) {
        let (name, part, recipe) = random_recipes::numbered(n);
        let pipeline = Pipeline::new(0);
        let Ok((linked, _)) = pipeline.estimate(&part, &recipe, &Unwatched) else { continue };
        let Ok(estimate) = pipeline.cost(&part, &recipe, &Unwatched) else { continue };
        if estimate.raw_triangles > MOST_TRIANGLES {
            continue;
        }
        let watch = Stopwatch::new(Default::default(), |_| {});
        let Ok(o) = pipeline.run(&part, &recipe, Quality::Final, &watch) else { continue };
        let stages = watch.log();
        let took: f64 = stages.iter().map(|s| s.seconds).sum();
        // As a server that has made those before.
        let estimated: f64 = paces.corrected(&estimate.stages).iter().map(|s| s.seconds).sum();
        paces.learn(&estimate.stages, stages.iter().map(|s| (s.stage, s.seconds)));
        seconds.push(took / estimated);
        triangles.push(o.report.triangles.max(1) as f64 / estimate.triangles.max(1) as f64);
        raw.push(o.solid.raw_triangles.max(1) as f64 / estimate.raw_triangles.max(1) as f64);
        if each {
            let of: Vec<_> = stages
                .iter()
                .map(|s| json!([s.stage, (s.seconds * 1000.0).round() / 1000.0]))
                .collect();
            let told = json!({
                "n": n, "part": name, "kind": recipe.structure.kind(), "walls": linked.fill.walls, "step": o.step_mm,
                "estimate": [estimated, estimate.raw_triangles, estimate.triangles],
                "actual": [took, o.solid.raw_triangles, o.report.triangles], "stages": of, "stage_estimates": estimate.stages, "reduce": recipe.mesh.reduce_mm,
                "cell": linked.fill.cell_mm, "thickness": linked.fill.thickness_mm, "area": linked.area_mm2(),
                "lattice_area": linked.fill.lattice_area_mm2, "linked": linked, "bends": linked.fills().map(|f| f.bends.clone()).collect::<Vec<_>>(), "recipe_kinds": recipe.fillings().iter().map(|f| json!([f.structure.kind(), f.structure.form(), f.joins.section, f.joins.proud, f.joins.blend_mm])).collect::<Vec<_>>(), "smoothing": recipe.mesh.smoothing, "bounds": part.mesh.bounds().size().to_array(), "part_triangles": part.mesh.triangles.len(), "zones": recipe.zones.list.len(), "skins": recipe.zones.skins.len(), "peak_mb": peak_mb(), "apart": recipe.mesh.apart_mm, "fills": linked.fills().count(),
            });
            println!("{told}");
        }
    }
    let share = |of: &[f64], factor: f64| {
        let within = of.iter().filter(|r| **r <= factor && **r >= 1.0 / factor).count();
        100.0 * within as f64 / of.len().max(1) as f64
    };
    let median = |of: &mut Vec<f64>| {
        of.sort_by(f64::total_cmp);
        of[of.len() / 2]
    };
    json!({
        "recipes": seconds.len(), "within_twice_percent": share(&seconds, 2.0), "seconds_over_estimate": median(&mut seconds),
        "triangles_within_quarter_percent": share(&triangles, 1.25), "triangles_over_estimate": median(&mut triangles),
        "raw_within_quarter_percent": share(&raw, 1.25), "raw_over_estimate": median(&mut raw),
    })
}
