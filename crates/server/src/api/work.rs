//! Work beside the async runtime: how it runs, and when it ends.

use super::App;
use crate::lanes::LaneOf;
use crate::problem::{Answer, Problem};
use crate::waiting::Waiting;
use std::time::Duration;

/// Runs what takes long beside the async runtime.
pub(super) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Answer<T> + Send + 'static,
) -> Answer<T> {
    tokio::task::spawn_blocking(work).await.map_err(Problem::internal)?
}

/// Does work on a blocking thread that ends when the client leaves.
pub(super) async fn watched<T: Send + 'static>(
    app: App,
    work: impl FnOnce(&App, &Waiting) -> Answer<T> + Send + 'static,
) -> Answer<T> {
    while_waited(app, Waiting::patient(), work).await
}

/// Does work on a blocking thread that ends when the client leaves or after a time.
pub(super) async fn watched_for<T: Send + 'static>(
    app: App,
    time: Duration,
    work: impl FnOnce(&App, &Waiting) -> Answer<T> + Send + 'static,
) -> Answer<T> {
    while_waited(app, Waiting::at_most(time), work).await
}

async fn while_waited<T: Send + 'static>(
    app: App,
    waiting: Waiting,
    work: impl FnOnce(&App, &Waiting) -> Answer<T> + Send + 'static,
) -> Answer<T> {
    // Dropped with this future when the client leaves.
    let _leaving = waiting.leaving();
    blocking(move || waiting.tell(work(&app, &waiting))).await
}

/// Work of a lane that keeps the computer busy: what is older of the lane stops, and it waits for a
/// place.
pub(super) async fn computed<T: Send + 'static>(
    app: App,
    (lane, project, tab): LaneOf,
    work: impl FnOnce(&App, &str, &Waiting) -> Answer<T> + Send + 'static,
) -> Answer<T> {
    let waiting = Waiting::patient();
    let _leaving = waiting.leaving();
    let newest = app.studio.lanes.take_over((lane, project.clone(), tab), &waiting);
    let place = app.places.clone().acquire_owned().await.map_err(Problem::internal)?;
    waiting.go_on()?;
    blocking(move || {
        // They are held until the work has ended, also when the client has left.
        let _held = (newest, place);
        work(&app, &project, &waiting)
    })
    .await
}
