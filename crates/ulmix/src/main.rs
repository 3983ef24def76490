//! The one binary: `serve`, `demo`, `build`, `check`.

mod headless;

use clap::{Parser, Subcommand};
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Parser)]
#[command(name = "ulmix", version, about = "Make parts lighter: fill them with a lattice, export a closed mesh.")]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Make the final mesh of a recipe and print its report.
    Build {
        /// A recipe exported from the bench.
        recipe: PathBuf,
        /// The part: STL or 3MF.
        #[arg(long)]
        part: PathBuf,
        /// Where to write: the ending, .3mf or .stl, chooses the format.
        #[arg(short, long)]
        output: PathBuf,
        /// Threads to use; all cores when absent. The file is the same for any number.
        #[arg(long)]
        threads: Option<usize>,
        /// Print the report as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Check a mesh file: closed, manifold, outward, bodies, crossings.
    Check {
        /// STL or 3MF.
        file: PathBuf,
        #[arg(long)]
        json: bool,
    },
}

fn main() -> ExitCode {
    match Cli::parse().command {
        Command::Build { recipe, part, output, threads, json } => headless::build(&recipe, &part, &output, threads, json),
        Command::Check { file, json } => headless::check(&file, json),
    }
}
