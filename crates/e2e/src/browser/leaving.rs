//! A part that leaves as a file.

use super::Bench;
use ulmix_formats::{Limits, Loaded};

/// Has the file written, checked and saved, and reads what the browser saved.
pub async fn written(b: &Bench, name: &str) -> Loaded {
    b.click_text("button", "Write and check the file").await;
    b.until("the file is ready", || async {
        b.seen(".ready", "Read again").await && !b.seen(".ready", "check fails").await
    })
    .await;
    b.click_text("a", &format!("Save {name}")).await;
    ulmix_formats::read(&b.downloaded(name).await, &Limits::default()).unwrap()
}

/// Makes the final mesh, with the step Mesh open, and has it written and saved under a name.
pub async fn made(b: &Bench, name: &str) -> Loaded {
    b.click_text("button", "Make the final mesh").await;
    b.painted("final").await;
    b.step("Hand-off").await;
    b.fill("[aria-label='File name']", name.rsplit_once('.').unwrap().0).await;
    written(b, name).await
}
