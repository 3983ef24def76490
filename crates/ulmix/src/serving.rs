//! `serve` and `demo`: the server in this process.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use ulmix_core::demo::Reedling;
use ulmix_core::part::Part;
use ulmix_server::store::Store;
use ulmix_server::Config;

/// How much a server may draw and use; absent: as it finds best.
#[derive(Clone, Copy)]
pub struct Sizes {
    pub picture_triangles: Option<u32>,
    pub memory_mb: Option<u64>,
}

pub fn serve(data: PathBuf, bind: SocketAddr, token: Option<String>, sizes: Sizes) -> ExitCode {
    if !bind.ip().is_loopback() && token.as_deref().unwrap_or_default().len() < 16 {
        eprintln!("{bind} can be reached from elsewhere.\nGive --token with at least 16 characters, or bind to 127.0.0.1.");
        return ExitCode::from(2);
    }
    tracing_subscriber::fmt()
        .with_env_filter(tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "info".into()))
        .with_writer(std::io::stderr)
        .init();
    let Sizes { picture_triangles, memory_mb } = sizes;
    let token = token.filter(|_| !bind.ip().is_loopback());
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(r) => r,
        Err(e) => return failed(&format!("The server cannot start: {e}."), "Free some memory or processes and try again."),
    };
    runtime.block_on(async {
        let listener = match tokio::net::TcpListener::bind(bind).await {
            Ok(l) => l,
            Err(e) => {
                return failed(
                    &format!("{bind} cannot be listened on: {e}."),
                    "Choose another --bind address or stop what uses it.",
                )
            }
        };
        if let Ok(address) = listener.local_addr() {
            let query = if token.is_some() { "/?token=…" } else { "/" };
            println!("Ulmix is ready at http://{address}{query}");
        }
        tokio::select! {
            done = ulmix_server::serve(Config { data, token, picture_triangles, memory_mb }, listener) => match done {
                Ok(()) => ExitCode::SUCCESS,
                Err(e) => failed(&format!("The server stopped: {e}."), "Check that the data file can be written to."),
            },
            _ = tokio::signal::ctrl_c() => ExitCode::SUCCESS,
        }
    })
}

pub fn demo(data: Option<PathBuf>, port: u16, files: Option<PathBuf>, sizes: Sizes) -> ExitCode {
    if let Some(folder) = files {
        return match write_files(&folder) {
            Ok(()) => ExitCode::SUCCESS,
            Err(e) => failed(&format!("{} cannot be written to: {e}.", folder.display()), "Choose another folder."),
        };
    }
    let data = data.unwrap_or_else(|| std::env::temp_dir().join(format!("ulmix-demo-{}.sqlite", std::process::id())));
    if let Err(e) = fill(&data) {
        return failed(&format!("{} cannot be used: {e}.", data.display()), "Choose another --data file.");
    }
    serve(data, SocketAddr::from((Ipv4Addr::LOCALHOST, port)), None, sizes)
}

/// The keel bracket as a project, unless the store has projects already.
fn fill(data: &Path) -> Result<(), String> {
    let store = Store::open(data).map_err(|e| e.to_string())?;
    if !store.projects().map_err(|p| p.message)?.is_empty() {
        return Ok(());
    }
    let (bytes, recipe) = Reedling::KeelBracket.file();
    let part = Part::read(&bytes, recipe.part.unit).map_err(|e| e.message)?;
    let facts = serde_json::to_string(&part.facts).map_err(|e| e.to_string())?;
    store.create_project("keel-bracket", &recipe.to_json(), "keel-bracket.stl", &bytes, &facts).map_err(|p| p.message)
}

fn write_files(folder: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(folder)?;
    for part in Reedling::ALL {
        let (bytes, recipe) = part.file();
        std::fs::write(folder.join(format!("{}.stl", part.file_name())), bytes)?;
        std::fs::write(folder.join(format!("{}.recipe.json", part.file_name())), recipe.to_json())?;
    }
    Ok(())
}

fn failed(message: &str, hint: &str) -> ExitCode {
    eprintln!("{message}\n{hint}");
    ExitCode::from(2)
}
