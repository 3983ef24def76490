//! The server: REST interface, runs, events, and the store.
//!
//! | module | idea |
//! |---|---|
//! | [`api`] | what is answered under /api |
//! | [`studio`] | where runs happen |
//! | [`store`] | one SQLite file |
//! | [`picture`] | meshes for the view |
//! | [`stopwatch`] | times of stages |
//! | [`memory`] | kept between runs |
//! | [`guard`] | who may speak to it |
//! | [`assets`] | the web app inside the binary |
//! | [`problem`] | errors in words |

pub mod api;
pub mod assets;
pub mod guard;
pub mod memory;
pub mod picture;
pub mod problem;
pub mod stopwatch;
pub mod store;
pub mod studio;

use api::App;
use std::path::PathBuf;
use store::Store;
use studio::Studio;
use tokio::net::TcpListener;

pub struct Config {
    /// The SQLite file; made when missing.
    pub data: PathBuf,
    /// Needed when the listener is not on loopback.
    pub token: Option<String>,
    /// Triangles of a draft's picture once values rest, about; the usual number when absent.
    pub picture_triangles: Option<u32>,
    /// Memory that a final run may use, in MB; a share of what is free when absent.
    pub memory_mb: Option<u64>,
}

/// Serves until the process ends or is asked to stop.
pub async fn serve(config: Config, listener: TcpListener) -> std::io::Result<()> {
    let store = Store::open(&config.data).map_err(|e| std::io::Error::other(format!("{}: {e}", config.data.display())))?;
    let app = App {
        studio: Studio::new(store, config.picture_triangles, config.memory_mb),
        uploads: Default::default(),
        exports: Default::default(),
    };
    let router = api::router(app)
        .fallback(assets::serve)
        .layer(axum::middleware::from_fn_with_state(guard::Guard { token: config.token }, guard::check));
    tokio::spawn(memory::watch());
    axum::serve(listener, router).await
}
