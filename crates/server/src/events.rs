//! What is told to a project's listeners: final runs, revisions, and what a draft is at.

use crate::problem::Problem;
use serde::{Deserialize, Serialize};
use ulmix_core::pipeline::Stage;
use ulmix_runner::stopwatch::StageTime;
use utoipa::ToSchema;

/// How far a final run is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// The run waits for others.
    Queued,
    /// The run is under way.
    Running,
    /// The run's result is there.
    Done,
    /// The run failed and has no result.
    Failed,
    /// Somebody ended the run.
    Cancelled,
}

/// A final run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Number of the run.
    pub id: String,
    /// Number of the project.
    pub project: String,
    /// Revision of the recipe that is being made.
    pub revision: i64,
    /// How far it is.
    pub state: JobState,
    /// The stage that is under way.
    pub stage: Option<Stage>,
    /// Seconds of the stages that are done.
    pub stages: Vec<StageTime>,
    /// Seconds that it will take.
    pub predicted_seconds: f64,
    /// When it began, in ms since 1970.
    pub started_ms: Option<i64>,
    /// Why it has no result.
    pub problem: Option<Problem>,
}

/// What goes out to a project's listeners.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "event")]
pub enum Event {
    /// A final run has come farther.
    Job {
        /// The run.
        job: Job,
    },
    /// The recipe has a new revision.
    Recipe {
        /// Number of the project.
        project: String,
        /// Newest revision of the project.
        revision: i64,
    },
    /// Seed points of a draft are being relaxed; what was reached is kept.
    Relaxing {
        /// Number of the project.
        project: String,
        /// Rounds done so far.
        rounds: u32,
        /// Rounds that were asked for.
        of: u32,
    },
    /// What a draft is at; no stage: the part is made ready.
    Drawing {
        /// Number of the project.
        project: String,
        /// The stage that is under way.
        stage: Option<Stage>,
    },
}

impl Event {
    /// Number of the project that it is about.
    pub fn project(&self) -> &str {
        match self {
            Event::Job { job } => &job.project,
            Event::Recipe { project, .. }
            | Event::Relaxing { project, .. }
            | Event::Drawing { project, .. } => project,
        }
    }
}
