//! The server: REST interface, runs, events, and the store.
//!
//! | module | idea |
//! |---|---|
//! | [`api`] | what is answered under /api |
//! | [`studio`] | where runs happen |
//! | [`parts`] | parts in memory |
//! | [`waiting`] | who waits for a piece of work |
//! | [`lanes`] | work of which only the newest is of use |
//! | [`store`] | one SQLite file |
//! | [`card`] | what the start screen shows |
//! | [`resting`] | memory given back in pauses |
//! | [`events`] | what listeners are told |
//! | [`connections`] | clients, and how long they may take |
//! | [`guard`] | who may speak to it |
//! | [`assets`] | the web app inside the binary |
//! | [`problem`] | errors in words |
//!
//! ```
//! let document = ulmix_server::api::openapi();
//! let document: serde_json::Value = serde_json::from_str(&document)?;
//! let project = &document["paths"]["/api/projects/{id}"];
//! assert!(project["get"]["responses"]["404"].is_object());
//! # Ok::<(), serde_json::Error>(())
//! ```

pub mod api;
pub mod assets;
pub mod card;
pub mod connections;
pub mod events;
pub mod guard;
pub mod lanes;
pub mod parts;
pub mod problem;
pub mod resting;
pub mod store;
pub mod studio;
pub mod waiting;

use api::App;
use guard::Guard;
use std::future::Future;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use store::{OpenError, Store};
use studio::Studio;
use tokio::net::TcpListener;

/// What a server is started with.
pub struct Config {
    /// The SQLite file; made when missing.
    pub data: PathBuf,
    /// Asked of everybody where it is given.
    pub token: Option<String>,
    /// Triangles of a draft's picture once values rest, about; the usual number when absent.
    pub picture_triangles: Option<u32>,
    /// Memory that a final run may use, in MB; a share of what is free when absent.
    pub memory_mb: Option<u64>,
}

/// A server whose file is open: it can say that it is ready.
pub struct Server {
    app: App,
    guard: Guard,
    listener: TcpListener,
}

/// How often files that nobody asked for are looked at.
const TIDY: Duration = Duration::from_secs(60);
/// Time for a final run to notice that it is to end.
const LAST_RUN: Duration = Duration::from_secs(2);

impl Server {
    /// Opens the file of projects and tells in its lock where it is served.
    pub fn open(config: Config, listener: TcpListener) -> Result<Server, OpenError> {
        let store = Store::open(&config.data)?;
        if let Ok(address) = listener.local_addr() {
            store.tell_address(&format!("http://{address}/"));
        }
        let uploads = api::uploads::Uploads::beside(&config.data).map_err(|e| OpenError {
            message: format!("Files cannot be kept beside {}: {e}.", config.data.display()),
            hint: "Check that its folder can be written to.".into(),
        })?;
        let guard = Guard::new(config.token.as_deref());
        let app = App {
            studio: Studio::new(store, config.picture_triangles, config.memory_mb),
            uploads: Arc::new(uploads),
            exports: Default::default(),
            places: Arc::new(tokio::sync::Semaphore::new(api::AT_ONCE)),
            locked: guard.is_locked(),
        };
        Ok(Server { app, guard, listener })
    }

    /// Serves until `stop` ends; then work under way ends within seconds, and all that was saved
    /// lies in the one file.
    pub async fn run(self, stop: impl Future<Output = ()>) {
        let Server { app, guard, listener } = self;
        let router = api::router(app.clone())
            .fallback(assets::serve)
            .layer(axum::middleware::from_fn_with_state(guard, guard::check));
        let tidying = tokio::spawn(tidy(app.clone()));
        let studio = app.studio.clone();
        let resting = app.clone();
        let giving_back = tokio::spawn(resting::watch(move || {
            resting.studio.rest();
            resting.uploads.rest();
            resting.exports.rest();
        }));
        drop(app);
        let stop = async {
            stop.await;
            // Who waits for a run is answered that it was cancelled.
            studio.close();
        };
        connections::serve(listener, router, stop).await;
        tidying.abort();
        giving_back.abort();
        let settling = tokio::task::spawn_blocking(move || {
            studio.wait_for_runs(LAST_RUN);
            studio.store.settle();
        });
        if let Err(e) = settling.await {
            tracing::warn!("the file of projects was left as it was: {e}");
        }
    }
}

/// Lets go of files that wait for nobody.
async fn tidy(app: App) {
    let mut pause = tokio::time::interval(TIDY);
    loop {
        pause.tick().await;
        app.uploads.expire();
        app.exports.expire();
    }
}
