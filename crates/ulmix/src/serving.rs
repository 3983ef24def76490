//! `serve`, `demo` and `backup`: the server in this process, and its file of projects.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;
use ulmix_core::demo::Reedling;
use ulmix_core::part::Part;
use ulmix_server::card::CardFacts;
use ulmix_server::problem::Problem;
use ulmix_server::store::{OpenError, Store};
use ulmix_server::{Config, Server};

/// How much a server may draw and use; absent: as it finds best.
#[derive(Clone, Copy)]
pub struct Sizes {
    pub picture_triangles: Option<u32>,
    pub memory_mb: Option<u64>,
}

/// Where an access token comes from.
#[derive(Clone, Debug, Default)]
pub struct Token {
    /// As given on the command line or in the environment.
    pub given: Option<String>,
    /// The first line of a file.
    pub file: Option<PathBuf>,
}

impl Token {
    /// The token that is asked for, and whether it was made here. An address that others can reach always has one.
    fn read(self, bind: SocketAddr) -> Result<Option<(String, bool)>, [String; 2]> {
        let read = |path: PathBuf| -> Result<String, [String; 2]> {
            let text = std::fs::read_to_string(&path).map_err(|e| {
                [format!("{} cannot be read: {e}.", path.display()), "Name a file that holds the access token.".into()]
            })?;
            Ok(text.lines().next().unwrap_or_default().trim_end().to_owned())
        };
        let given = match (self.given, self.file) {
            (Some(token), _) => token,
            (None, Some(path)) => read(path)?,
            (None, None) if bind.ip().is_loopback() => return Ok(None),
            (None, None) => {
                let made = ulmix_server::guard::new_token();
                let token =
                    made.map_err(|e| [format!("No access token can be made: {e}."), "Give one by --token-file.".into()])?;
                return Ok(Some((token, true)));
            }
        };
        match ulmix_server::guard::weak(&given) {
            Some(why) => Err([why, "Give a longer one, or none: then Ulmix makes one.".into()]),
            None => Ok(Some((given, false))),
        }
    }
}

/// Time for the system to end what still runs.
const LAST_CALL: Duration = Duration::from_secs(1);

pub fn serve(data: PathBuf, bind: SocketAddr, token: Token, sizes: Sizes) -> ExitCode {
    let token = match token.read(bind) {
        Ok(token) => token,
        Err([message, hint]) => return failed(&message, &hint),
    };
    tracing_subscriber::fmt()
        .with_env_filter(tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "info".into()))
        .with_writer(std::io::stderr)
        .init();
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(r) => r,
        Err(e) => return failed(&format!("The server cannot start: {e}."), "Free some memory or processes and try again."),
    };
    let done = runtime.block_on(served(data, bind, token, sizes));
    // Work that does not notice that it is to end is not waited for: everything saved lies on disk.
    runtime.shutdown_timeout(LAST_CALL);
    done
}

async fn served(data: PathBuf, bind: SocketAddr, token: Option<(String, bool)>, sizes: Sizes) -> ExitCode {
    // From here on a wish to end is heard.
    let stop = match Stop::new() {
        Ok(stop) => stop,
        Err(e) => return failed(&format!("The server cannot start: {e}."), "Free some memory or processes and try again."),
    };
    let listener = match tokio::net::TcpListener::bind(bind).await {
        Ok(l) => l,
        Err(e) => {
            let hint = "Choose another --bind address or stop what uses it.";
            return failed(&format!("{bind} cannot be listened on: {e}."), hint);
        }
    };
    let address = listener.local_addr().unwrap_or(bind);
    let Sizes { picture_triangles, memory_mb } = sizes;
    let config = Config { data, token: token.as_ref().map(|t| t.0.clone()), picture_triangles, memory_mb };
    let server = match Server::open(config, listener) {
        Ok(server) => server,
        Err(OpenError { message, hint }) => return failed(&message, &hint),
    };
    let query = match &token {
        None => String::new(),
        // Only a token that nobody else knows is printed.
        Some((token, true)) => format!("?token={token}"),
        Some((_, false)) => "?token=…".into(),
    };
    crate::say::say!("Ulmix is ready at http://{address}/{query}");
    server.run(stop.asked()).await;
    ExitCode::SUCCESS
}

/// The wish to end: Ctrl-C in a terminal, or the signal by which the system ends a service.
struct Stop {
    #[cfg(unix)]
    terminate: tokio::signal::unix::Signal,
}

impl Stop {
    fn new() -> std::io::Result<Stop> {
        Ok(Stop {
            #[cfg(unix)]
            terminate: tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?,
        })
    }

    #[cfg(unix)]
    async fn asked(mut self) {
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = self.terminate.recv() => {}
        }
    }

    #[cfg(not(unix))]
    async fn asked(self) {
        let _ = tokio::signal::ctrl_c().await;
    }
}

/// Copies a file of projects, also beside a running server, and checks the copy.
pub fn back_up(data: &Path, to: &Path) -> ExitCode {
    match ulmix_server::store::back_up(data, to) {
        Err(OpenError { message, hint }) => failed(&message, &hint),
        Ok(projects) => {
            let bytes = std::fs::metadata(to).map_or(0, |m| m.len());
            let plural = if projects == 1 { "" } else { "s" };
            crate::say::say!(
                "{} holds {projects} project{plural}, {:.1} MB, opened and checked",
                to.display(),
                bytes as f64 / 1e6
            );
            ExitCode::SUCCESS
        }
    }
}

pub fn demo(data: Option<PathBuf>, port: u16, files: Option<PathBuf>, sizes: Sizes) -> ExitCode {
    if let Some(folder) = files {
        return match write_files(&folder) {
            Ok(()) => ExitCode::SUCCESS,
            Err(e) => failed(&format!("{} cannot be written to: {e}.", folder.display()), "Choose another folder."),
        };
    }
    let data = data.unwrap_or_else(|| std::env::temp_dir().join(format!("ulmix-demo-{}.sqlite", std::process::id())));
    if let Err([message, hint]) = fill(&data) {
        return failed(&message, &hint);
    }
    serve(data, SocketAddr::from((Ipv4Addr::LOCALHOST, port)), Token::default(), sizes)
}

/// The keel bracket as a project, unless the store has projects already.
fn fill(data: &Path) -> Result<(), [String; 2]> {
    let store = Store::open(data).map_err(|OpenError { message, hint }| [message, hint])?;
    let told = |p: Problem| [p.message, p.hint];
    if !store.list().map_err(told)?.is_empty() {
        return Ok(());
    }
    let (bytes, recipe) = Reedling::KeelBracket.file();
    let part = Part::read(&bytes, recipe.part.unit).map_err(|e| [e.message, e.hint])?;
    let facts = serde_json::to_string(&part.facts).map_err(|e| told(Problem::internal(e)))?;
    store.create_project("keel-bracket", &recipe.to_json(), "keel-bracket.stl", &bytes, &facts).map_err(told)?;
    let card = CardFacts::of(&recipe, &part.facts, None).to_json().map_err(told)?;
    store.set_facts("keel-bracket", 1, &card).map_err(told)
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
