//! Memory goes back to the system in pauses between runs.

use std::time::Duration;
use ulmix_runner::memory::{give_back, work_done};

/// Without work for this long, memory goes back.
const PAUSE: Duration = Duration::from_secs(20);

/// Gives memory back in every pause, after `rest` has let go of what need not be held through it.
pub async fn watch(rest: impl Fn() + Send + Sync + Clone + 'static) {
    let mut given = 0;
    let mut last = 0;
    let mut pause = tokio::time::interval(PAUSE);
    loop {
        pause.tick().await;
        let now = work_done();
        if now == last && now != given {
            let rest = rest.clone();
            let given_back = tokio::task::spawn_blocking(move || {
                rest();
                give_back();
            });
            given_back.await.unwrap_or_default();
            given = now;
        }
        last = now;
    }
}
