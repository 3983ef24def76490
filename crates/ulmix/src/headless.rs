//! `build` and `check`: the same recipe and checks as in the app, without a screen.
//!
//! Exit codes: 0 every check passes, 1 a check fails, 2 bad input, 3 nothing fails and something is
//! to be looked at.

use crate::refused::Refused;
use crate::say::say;
use serde_json::json;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use ulmix_check::{checks, Check, Summary, Verdict};
use ulmix_core::export::{export, Contents, FileKind};
use ulmix_core::pipeline::judge::FileMesh;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_part::Part;
use ulmix_recipe::Recipe;
use ulmix_runner::memory::for_runs;
use ulmix_runner::stopwatch::Stopwatch;

/// What a build may use; absent: all there is.
#[derive(Clone, Copy)]
pub(crate) struct RunLimits {
    pub threads: Option<usize>,
    pub memory_mb: Option<u64>,
}

/// A recipe and the files that it names.
#[derive(Clone, Copy)]
pub(crate) struct Asked<'a> {
    pub recipe: &'a Path,
    /// The part, unless the recipe holds its dimensions.
    pub part: Option<&'a Path>,
    /// Files with more bodies.
    pub bodies: &'a [PathBuf],
}

impl Asked<'_> {
    fn read(&self) -> Result<(Recipe, Part), Refused> {
        let text = String::from_utf8(read(self.recipe)?).map_err(|_| {
            Refused::new("The recipe is not text.", "Choose a recipe exported from the bench.")
        })?;
        let recipe = Recipe::from_json(&text)?;
        let first = || {
            read(self.part.ok_or_else(|| {
                Refused::new("This recipe needs the part's file.", "Name it with --part.")
            })?)
        };
        let file = |sha256: Option<&str>| {
            let Some(wanted) = sha256 else { return first() };
            // A file by its contents, whatever it is called now.
            for path in self.part.into_iter().chain(self.bodies.iter().map(PathBuf::as_path)) {
                let bytes = read(path)?;
                if ulmix_server::store::hash(&bytes) == wanted {
                    return Ok(bytes);
                }
            }
            let files = recipe.part.file.iter().chain(recipe.part.beside.iter().map(|b| &b.file));
            let name = files
                .filter(|f| f.sha256 == wanted)
                .map(|f| f.name.as_str())
                .next()
                .unwrap_or_default();
            Err(Refused::new(
                format!("This recipe also needs the file “{name}”, unchanged."),
                "Name it with --body.",
            ))
        };
        let part = Part::of::<Refused, _>(&recipe.part, file, &ulmix_formats::Limits::default())?;
        Ok((recipe, part))
    }
}

pub(crate) fn build(asked: Asked, output: &Path, limits: RunLimits, as_json: bool) -> ExitCode {
    if let Some(n) = limits.threads {
        if n == 0 || n > 1024 {
            return finish(
                Err(Refused::new(format!("{n} threads cannot be used."), "Choose from 1 to 1024.")),
                as_json,
            );
        }
        // Only the first call can set the pool, and this is it.
        let _ = rayon::ThreadPoolBuilder::new().num_threads(n).build_global();
    }
    finish(try_build(asked, output, limits, as_json), as_json)
}

fn try_build(
    asked: Asked,
    output: &Path,
    limits: RunLimits,
    as_json: bool,
) -> Result<Verdict, Refused> {
    let kind = FileKind::of_name(&output.to_string_lossy()).ok_or_else(|| {
        Refused::new(
            format!("{} has no known ending.", output.display()),
            "End the output's name in .3mf or .stl.",
        )
    })?;
    let (recipe, part) = asked.read()?;
    let watch = Stopwatch::new(Default::default(), |_| {});
    let pipeline = Pipeline::new(1 << 20).with_memory(Box::new(move || for_runs(limits.memory_mb)));
    let Outcome { linked, cost, step_mm, solid, report, .. } =
        pipeline.run(&part, &recipe, Quality::Final, &watch)?;
    if solid.mesh.triangles.is_empty() {
        return Err(Refused::new(
            report.notes.iter().map(|n| n.text.as_str()).collect::<Vec<_>>().join(" "),
            "Change the recipe and build again.",
        ));
    }
    let (bodies, alongside) = (report.bodies, &part.alongside());
    let (mesh, placing, raw_triangles) =
        (&solid.as_it_leaves(), solid.placing, solid.raw_triangles);
    // Its own mesh is not needed beside the file's.
    drop(solid);
    let contents = Contents { mesh, placing, apart: &report.apart, only: None, bodies, alongside };
    let file = export(&contents, &recipe, kind)?;
    std::fs::write(output, &file.bytes).map_err(|e| {
        Refused::new(
            format!("{} cannot be written: {e}.", output.display()),
            "Choose a folder that can be written to.",
        )
    })?;
    let found = file.all_checks(report.checks.as_deref());
    let summary = Summary::of(&found);
    let peak = peak_memory_mb();
    if as_json {
        let stages: Vec<_> =
            watch.log().iter().map(|s| json!({ "stage": s.stage, "seconds": s.seconds })).collect();
        print_json(&json!({
            "output": output, "bytes": file.bytes.len(), "step_mm": step_mm, "linked": linked,
            "cost": cost, "report": *report, "file_checks": file.checks, "summary": summary, "stages": stages,
            "peak_memory_mb": peak,
        }));
    } else {
        say!("{} · {}", recipe.name, ulmix_core::export::describe(&recipe));
        say!("  lighter by        {:.1} %", report.saved_percent);
        say!(
            "  mass              {:.1} g of {:.1} g, {}",
            report.mass_g,
            report.part_mass_g,
            recipe.material.name
        );
        say!(
            "  volume            {:.2} cm³ of {:.2} cm³",
            report.volume_mm3 / 1e3,
            report.part_volume_mm3 / 1e3
        );
        say!("  surface           {:.1} cm²", report.area_mm2 / 100.0);
        say!("  fill density      {:.1} %", report.fill_density_percent);
        for (g, filled) in report.gauged.iter().zip(linked.fills()) {
            let Some(g) = g else { continue };
            let what = if filled.walls { "walls" } else { "struts" };
            say!(
                "  {what:<16}  {:.2} mm in the median, {:.2} mm at the thinnest (asked {:.2} mm)",
                g.median_mm,
                g.thinnest_mm,
                g.asked_mm
            );
        }
        say!("  triangles         {} (of {} before reduction)", report.triangles, raw_triangles);
        if report.crumbs_removed > 0 {
            say!("  crumbs removed    {}, {:.2} mm³", report.crumbs_removed, report.crumbs_mm3);
            for c in &report.crumbs {
                say!("                    {:.3} mm³{}", c.volume_mm3, at(Some(c.place_mm)));
            }
        }
        for b in &report.apart {
            say!(
                "  {:<16}  {} triangles, {:.2} cm³",
                b.name.to_lowercase(),
                b.triangles,
                b.volume_mm3 / 1e3
            );
        }
        print_checks(&found);
        for note in &report.notes {
            say!("  note: {}{}", note.text, at(note.place_mm));
        }
        for caution in &report.cautions {
            say!("  caution: {caution}");
        }
        for s in watch.log() {
            say!("  {:<16}  {:.2} s", format!("{:?}", s.stage).to_lowercase(), s.seconds);
        }
        say!("  peak memory       {peak:.0} MB");
        let size = file.bytes.len() as f64 / 1e6;
        say!(
            "  written           {} ({size:.1} MB, read again and checked: {})",
            output.display(),
            summary.words
        );
    }
    Ok(summary.verdict)
}

/// `asked`: what the file was made by, if it is to be held against that.
pub(crate) fn check(file: &Path, asked: Option<Asked>, as_json: bool) -> ExitCode {
    finish(try_check(file, asked, as_json), as_json)
}

fn try_check(file: &Path, asked: Option<Asked>, as_json: bool) -> Result<Verdict, Refused> {
    let loaded = ulmix_formats::read(&read(file)?, &ulmix_formats::Limits::default())?;
    let found = match asked {
        None => checks(&loaded.mesh, None),
        Some(asked) => {
            let (recipe, part) = asked.read()?;
            let to_mm = loaded.millimetres_per_unit.unwrap_or(1.0);
            let bodies = loaded.bodies.iter().map(|b| (b.name.clone(), b.triangles)).collect();
            let file = FileMesh { mesh: loaded.mesh.clone().mapped(|p| p * to_mm), bodies };
            Pipeline::new(0).judge(&part, &recipe, file, &Unwatched)?
        }
    };
    let summary = Summary::of(&found);
    let size = loaded.mesh.bounds().size().to_array();
    if as_json {
        print_json(&json!({
            "format": loaded.format, "triangles": loaded.mesh.triangles.len(), "size": size,
            "volume": loaded.mesh.volume(), "area": loaded.mesh.area(), "checks": found, "summary": summary,
        }));
    } else {
        say!("{} · {} · {} triangles", file.display(), loaded.format, loaded.mesh.triangles.len());
        let unit = if loaded.millimetres_per_unit.is_some() { "mm" } else { "file units" };
        say!("  size              {:.3} × {:.3} × {:.3} {unit}", size[0], size[1], size[2]);
        say!("  volume            {:.3} {unit}³", loaded.mesh.volume());
        print_checks(&found);
        say!("  {}", summary.words);
    }
    Ok(summary.verdict)
}

fn print_checks(checks: &[Check]) {
    for c in checks {
        let mark = match c.verdict {
            Verdict::Pass => "ok  ",
            Verdict::Look => "look",
            Verdict::Fail => "FAIL",
        };
        let limit = c.limit.as_ref().map_or_else(String::new, |l| format!(" ({l})"));
        say!("  {mark} {:<38} {}{limit}{}", c.title, c.figure, at(c.place_mm));
        if let Some(hint) = &c.hint {
            say!("       {hint}");
        }
    }
}

/// A place for a person, in mm.
fn at(place: Option<[f64; 3]>) -> String {
    place.map_or_else(String::new, |[x, y, z]| format!(", at {x:.1}, {y:.1}, {z:.1} mm"))
}

fn print_json(value: &serde_json::Value) {
    say!("{value:#}");
}

/// A file's bytes, up to the largest an import takes.
fn read(path: &Path) -> Result<Vec<u8>, Refused> {
    let failed = |e: std::io::Error| {
        Refused::new(
            format!("{} cannot be read: {e}.", path.display()),
            "Check the path and try again.",
        )
    };
    let length = std::fs::metadata(path).map_err(failed)?.len();
    if length > ulmix_formats::LARGEST_FILE {
        return Err(Refused::new(
            format!(
                "{} has {} MB; files up to {} MB can be read.",
                path.display(),
                length >> 20,
                ulmix_formats::LARGEST_FILE >> 20
            ),
            "Reduce the part before bringing it in.",
        ));
    }
    std::fs::read(path).map_err(failed)
}

fn finish(result: Result<Verdict, Refused>, as_json: bool) -> ExitCode {
    match result {
        Ok(Verdict::Pass) => ExitCode::SUCCESS,
        Ok(Verdict::Fail) => ExitCode::from(1),
        Ok(Verdict::Look) => ExitCode::from(3),
        Err(e) => {
            if as_json {
                print_json(&json!({ "error": e.message, "hint": e.hint }));
            }
            e.told()
        }
    }
}

/// Greatest resident memory of this process, from the kernel. MB.
fn peak_memory_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"));
    line.and_then(|l| l.split_whitespace().next()?.parse::<f64>().ok())
        .map_or(0.0, |kb| kb / 1024.0)
}
