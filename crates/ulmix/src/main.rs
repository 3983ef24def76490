//! The one binary: `serve`, `demo`, `backup`, `build`, `check`.

mod headless;
mod processor;
mod refused;
mod say;
mod serving;

use clap::{Parser, Subcommand};
use headless::{Asked, RunLimits};
use serving::{Sizes, Token};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Parser)]
#[command(
    name = "ulmix",
    version,
    about = "Make parts lighter: fill them with a lattice, export a closed mesh."
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Start with the Reedling demo part on a free loopback port and print the address.
    Demo {
        /// Where to keep projects; a folder of its own for each start when absent.
        #[arg(long)]
        data: Option<PathBuf>,
        #[arg(long, default_value_t = 0)]
        port: u16,
        /// Write the demo part and its recipe into this folder instead, for `build`.
        #[arg(long)]
        files: Option<PathBuf>,
        /// Triangles of a picture while designing, about: fewer for a computer without a graphics
        /// card.
        #[arg(long, env = "ULMIX_PICTURE_TRIANGLES", value_parser = clap::value_parser!(u32).range(10_000..=10_000_000))]
        picture_triangles: Option<u32>,
        /// Memory that a final mesh may use, in MB; three quarters of what is free when absent.
        #[arg(long, env = "ULMIX_MEMORY_MB")]
        memory_mb: Option<u64>,
    },
    /// Start the server.
    Serve {
        /// The file that holds all projects; made when missing.
        #[arg(long, default_value = "ulmix.sqlite")]
        data: PathBuf,
        /// Address to listen on. Any other than loopback asks for an access token, made at start
        /// where none is given.
        #[arg(long, default_value = "127.0.0.1:7450")]
        bind: SocketAddr,
        /// Access token that a browser must show once. Other users of this computer can see it:
        /// prefer --token-file.
        #[arg(long, env = "ULMIX_TOKEN", hide_env_values = true)]
        token: Option<String>,
        /// File whose first line is the access token.
        #[arg(long, conflicts_with = "token")]
        token_file: Option<PathBuf>,
        /// Triangles of a picture while designing, about: fewer for a computer without a graphics
        /// card.
        #[arg(long, env = "ULMIX_PICTURE_TRIANGLES", value_parser = clap::value_parser!(u32).range(10_000..=10_000_000))]
        picture_triangles: Option<u32>,
        /// Memory that a final mesh may use, in MB; three quarters of what is free when absent.
        #[arg(long, env = "ULMIX_MEMORY_MB")]
        memory_mb: Option<u64>,
    },
    /// Copy all projects into a new file, also while a server has them open, and check the copy.
    Backup {
        /// The copy; nothing is overwritten.
        file: PathBuf,
        /// The file that holds all projects.
        #[arg(long, default_value = "ulmix.sqlite")]
        data: PathBuf,
    },
    /// Print the OpenAPI document.
    #[command(hide = true)]
    Openapi,
    /// Make the final mesh of a recipe and print its report.
    Build {
        /// A recipe exported from the bench.
        recipe: PathBuf,
        /// The part, unless the recipe holds its dimensions: STL, 3MF, OBJ, PLY or GLB.
        #[arg(long)]
        part: Option<PathBuf>,
        /// A file with more bodies that the recipe names; once for each.
        #[arg(long = "body")]
        bodies: Vec<PathBuf>,
        /// Where to write: the ending, .3mf or .stl, chooses the format.
        #[arg(short, long)]
        output: PathBuf,
        /// Threads to use; all cores when absent. The file is the same for any number.
        #[arg(long)]
        threads: Option<usize>,
        /// Memory to use, in MB; three quarters of what is free when absent.
        #[arg(long, env = "ULMIX_MEMORY_MB")]
        memory_mb: Option<u64>,
        /// Print the report as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Check a mesh file: closed, manifold, outward, bodies, crossings; and against a recipe where
    /// one is named.
    Check {
        /// STL, 3MF, OBJ, PLY or GLB.
        file: PathBuf,
        /// The recipe that the file was made by: density, thickness, skins and kept solids are
        /// measured, too.
        #[arg(long)]
        recipe: Option<PathBuf>,
        /// The part of that recipe, unless the recipe holds its dimensions.
        #[arg(long, requires = "recipe")]
        part: Option<PathBuf>,
        /// A file with more bodies that the recipe names; once for each.
        #[arg(long = "body", requires = "recipe")]
        bodies: Vec<PathBuf>,
        #[arg(long)]
        json: bool,
    },
}

/// Looks at the processor before anything else, for all other code is made for newer ones.
fn main() -> ExitCode {
    if !processor::will_do() {
        return ExitCode::from(2);
    }
    run()
}

#[inline(never)]
fn run() -> ExitCode {
    ulmix_runner::memory::keep();
    match Cli::parse().command {
        Command::Demo { data, port, files, picture_triangles, memory_mb } => {
            serving::demo(data, port, files, Sizes { picture_triangles, memory_mb })
        }
        Command::Serve { data, bind, token, token_file, picture_triangles, memory_mb } => {
            let token = Token { given: token, file: token_file };
            serving::serve(data, bind, token, Sizes { picture_triangles, memory_mb })
        }
        Command::Backup { file, data } => serving::back_up(&data, &file),
        Command::Openapi => {
            say::say!("{}", ulmix_server::api::openapi().trim_end());
            ExitCode::SUCCESS
        }
        Command::Build { recipe, part, bodies, output, threads, memory_mb, json } => {
            let asked = Asked { recipe: &recipe, part: part.as_deref(), bodies: &bodies };
            headless::build(asked, &output, RunLimits { threads, memory_mb }, json)
        }
        Command::Check { file, recipe, part, bodies, json } => {
            let asked = recipe.as_ref().map(|recipe| Asked {
                recipe,
                part: part.as_deref(),
                bodies: &bodies,
            });
            headless::check(&file, asked, json)
        }
    }
}
