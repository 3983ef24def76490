//! `serve`, `demo` and `backup`: the server in this process, and its file of projects.

use crate::refused::Refused;
use crate::say::say;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;
use ulmix_check::counted;
use ulmix_part::demo::Reedling;
use ulmix_part::Part;
use ulmix_server::card::CardFacts;
use ulmix_server::guard::{new_token, weak};
use ulmix_server::problem::Problem;
use ulmix_server::store::Store;
use ulmix_server::{Config, Server};

/// How much a server may draw and use; absent: as it finds best.
#[derive(Clone, Copy)]
pub(crate) struct Sizes {
    pub picture_triangles: Option<u32>,
    pub memory_mb: Option<u64>,
}

/// Where an access token comes from.
#[derive(Clone, Debug, Default)]
pub(crate) struct Token {
    /// As given on the command line or in the environment.
    pub given: Option<String>,
    /// The first line of a file.
    pub file: Option<PathBuf>,
}

/// The access token that is asked for.
struct Access {
    token: String,
    /// Nobody else knows it yet: it is to be printed.
    is_new: bool,
}

impl Token {
    /// An address that others can reach always has one.
    fn read(self, bind: SocketAddr) -> Result<Option<Access>, Refused> {
        let given = match (self.given, self.file) {
            (Some(token), _) => token,
            (None, Some(path)) => {
                let text = std::fs::read_to_string(&path).map_err(|e| {
                    let message = format!("{} cannot be read: {e}.", path.display());
                    Refused::new(message, "Name a file that holds the access token.")
                })?;
                text.lines().next().unwrap_or_default().trim_end().to_owned()
            }
            (None, None) if bind.ip().is_loopback() => return Ok(None),
            (None, None) => {
                let token = new_token().map_err(|e| {
                    Refused::new(
                        format!("No access token can be made: {e}."),
                        "Give one by --token-file.",
                    )
                })?;
                return Ok(Some(Access { token, is_new: true }));
            }
        };
        match weak(&given) {
            Some(why) => {
                Err(Refused::new(why, "Give a longer one, or none: then Ulmix makes one."))
            }
            None => Ok(Some(Access { token: given, is_new: false })),
        }
    }
}

/// Time for the system to end what still runs.
const LAST_CALL: Duration = Duration::from_secs(1);

pub(crate) fn serve(data: PathBuf, bind: SocketAddr, token: Token, sizes: Sizes) -> ExitCode {
    finish(try_serve(data, bind, token, sizes))
}

fn try_serve(data: PathBuf, bind: SocketAddr, token: Token, sizes: Sizes) -> Result<(), Refused> {
    let access = token.read(bind)?;
    tracing_subscriber::fmt()
        .with_max_level(tracing::Level::INFO)
        .with_writer(std::io::stderr)
        .init();
    let runtime = tokio::runtime::Runtime::new().map_err(cannot_start)?;
    let done = runtime.block_on(served(data, bind, access, sizes));
    // Work that does not notice that it is to end is not waited for: everything saved lies on disk.
    runtime.shutdown_timeout(LAST_CALL);
    done
}

fn cannot_start(e: std::io::Error) -> Refused {
    Refused::new(
        format!("The server cannot start: {e}."),
        "Free some memory or processes and try again.",
    )
}

async fn served(
    data: PathBuf,
    bind: SocketAddr,
    access: Option<Access>,
    sizes: Sizes,
) -> Result<(), Refused> {
    // From here on a wish to end is heard.
    let stop = Stop::new().map_err(cannot_start)?;
    let listener = tokio::net::TcpListener::bind(bind).await.map_err(|e| {
        let hint = "Choose another --bind address or stop what uses it.";
        Refused::new(format!("{bind} cannot be listened on: {e}."), hint)
    })?;
    let address = listener.local_addr().unwrap_or(bind);
    let Sizes { picture_triangles, memory_mb } = sizes;
    let token = access.as_ref().map(|a| a.token.clone());
    let server = Server::open(Config { data, token, picture_triangles, memory_mb }, listener)?;
    let query = match &access {
        None => String::new(),
        Some(Access { token, is_new: true }) => format!("?token={token}"),
        Some(_) => "?token=…".into(),
    };
    say!("Ulmix is ready at http://{address}/{query}");
    server.run(stop.asked()).await;
    Ok(())
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
pub(crate) fn back_up(data: &Path, to: &Path) -> ExitCode {
    finish(ulmix_server::store::back_up(data, to).map_err(Refused::from).map(|projects| {
        let bytes = std::fs::metadata(to).map_or(0, |m| m.len());
        let projects = counted(projects as usize, ["project", "projects"]);
        say!("{} holds {projects}, {:.1} MB, opened and checked", to.display(), bytes as f64 / 1e6);
    }))
}

pub(crate) fn demo(
    data: Option<PathBuf>,
    port: u16,
    files: Option<PathBuf>,
    sizes: Sizes,
) -> ExitCode {
    if let Some(folder) = files {
        let refused = |e| {
            Refused::new(
                format!("{} cannot be written to: {e}.", folder.display()),
                "Choose another folder.",
            )
        };
        return finish(write_files(&folder).map_err(refused));
    }
    let data = data.unwrap_or_else(|| {
        std::env::temp_dir().join(format!("ulmix-demo-{}.sqlite", std::process::id()))
    });
    let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    finish(fill(&data).and_then(|()| try_serve(data, address, Token::default(), sizes)))
}

/// The keel bracket as a project, unless the store has projects already.
fn fill(data: &Path) -> Result<(), Refused> {
    let store = Store::open(data)?;
    if !store.list()?.is_empty() {
        return Ok(());
    }
    let (bytes, recipe) = Reedling::KeelBracket.file();
    let part = Part::read(&bytes, recipe.part.unit)?;
    let facts = serde_json::to_string(&part.facts).map_err(Problem::internal)?;
    store.create_project("keel-bracket", &recipe.to_json(), "keel-bracket.stl", &bytes, &facts)?;
    store.set_facts("keel-bracket", 1, &CardFacts::of(&recipe, &part.facts, None).to_json()?)?;
    Ok(())
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

fn finish(done: Result<(), Refused>) -> ExitCode {
    done.map_or_else(|refused| refused.told(), |()| ExitCode::SUCCESS)
}
