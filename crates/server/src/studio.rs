//! Where runs happen: parts in memory, live drafts of which the latest wins, and a bounded queue of
//! final runs worked one at a time.

use crate::card::CardFacts;
use crate::events::{Event, Job, JobState};
use crate::lanes::Lanes;
use crate::parts::Parts;
use crate::problem::{Answer, Problem};
use crate::store::{now_ms, ProjectRow, Store};
use crate::waiting::Waiting;
use axum::http::StatusCode;
use std::collections::{HashMap, VecDeque};
use std::panic::{catch_unwind, AssertUnwindSafe};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::broadcast;
use ulmix_core::pipeline::pace::Paces;
use ulmix_core::pipeline::{Pipeline, Quality, RunError};
use ulmix_core::report::estimated;
use ulmix_core::result::Cost;
use ulmix_formats::{Limits, Stopped};
use ulmix_part::spread::SourceSpread;
use ulmix_part::Part;
use ulmix_recipe::Recipe;
use ulmix_runner::locked::lock;
use ulmix_runner::picture::{draw, Estimate, RunInfo};
use ulmix_runner::stopwatch::Stopwatch;
use ulmix_runner::{memory, packed};

/// Stage results kept in memory.
const CACHE_BYTES: usize = 1 << 30;
/// Stage results and parts, each, that are kept through a pause.
pub const RESTING_BYTES: usize = 100 << 20;
/// Final runs that may wait.
const QUEUE: usize = 8;

/// Projects and all work on them.
pub struct Studio {
    /// The file of projects.
    pub store: Store,
    pipeline: Pipeline,
    parts: Parts,
    /// Work that a page waits for.
    pub lanes: Lanes,
    jobs: Mutex<HashMap<String, Entry>>,
    queue: Mutex<VecDeque<String>>,
    /// Something is queued, or the server is about to end.
    wake: Condvar,
    /// A final run has changed.
    changed: Condvar,
    /// Tells pages what happens.
    pub events: broadcast::Sender<Event>,
    /// How fast this machine is, as the store knows it.
    paces: Mutex<Paces>,
    ids: AtomicU64,
    /// Memory that may be used, in MB; a share of what is free when absent.
    memory_mb: Option<u64>,
    /// The server is about to end.
    closing: AtomicBool,
}

struct Entry {
    job: Job,
    recipe: Recipe,
    cancel: Arc<AtomicBool>,
}

/// What tells a project's parts apart.
fn part_key(project: &ProjectRow, recipe: &Recipe) -> Answer<String> {
    let step = serde_json::to_string(&recipe.part).map_err(Problem::internal)?;
    Ok(format!("{} {} {step}", project.id, project.part_blob))
}

impl Studio {
    /// Starts the worker of final runs.
    pub fn new(
        store: Store,
        picture_triangles: Option<u32>,
        memory_mb: Option<u64>,
    ) -> Arc<Studio> {
        let pipeline =
            Pipeline::new(CACHE_BYTES).with_memory(Box::new(move || memory::for_runs(memory_mb)));
        // Without them estimates are only less good.
        let paces = store.paces().unwrap_or_default();
        let studio = Arc::new(Studio {
            store,
            pipeline: match picture_triangles {
                Some(n) => pipeline.with_drafts(n as f64),
                None => pipeline,
            },
            parts: Parts::default(),
            lanes: Lanes::default(),
            closing: AtomicBool::new(false),
            jobs: Mutex::default(),
            queue: Mutex::default(),
            wake: Condvar::new(),
            changed: Condvar::new(),
            events: broadcast::channel(256).0,
            paces: Mutex::new(paces),
            ids: AtomicU64::new(0),
            memory_mb,
        });
        let worker = studio.clone();
        std::thread::Builder::new()
            .name("final-runs".into())
            .spawn(move || worker.work())
            .expect("a thread at start");
        studio
    }

    /// An id that nobody had before.
    pub fn new_id(&self) -> String {
        let n = self.ids.fetch_add(1, Ordering::Relaxed);
        let seed = format!(
            "{} {} {n}",
            std::process::id(),
            std::time::UNIX_EPOCH.elapsed().map_or(0, |d| d.as_nanos())
        );
        crate::store::hash(seed.as_bytes())[..16].to_owned()
    }

    /// The part of a project that was just made, so that it need not be made again.
    pub fn keep_part(&self, id: &str, recipe: &Recipe, part: Arc<Part>) -> Answer<()> {
        self.parts.keep(part_key(&self.store.project(id)?, recipe)?, part);
        Ok(())
    }

    /// What reading a file may spend.
    pub fn limits<'a>(&self, stopped: Stopped<'a>) -> Limits<'a> {
        memory::for_files(self.memory_mb, stopped)
    }

    /// The part of a project, made ready.
    ///
    /// # Errors
    /// Its file is damaged or cannot be read, and nobody waits any longer.
    pub fn part(
        &self,
        project: &ProjectRow,
        recipe: &Recipe,
        waiting: &Waiting,
    ) -> Answer<Arc<Part>> {
        self.parts.get(&part_key(project, recipe)?, waiting, || {
            let file = |sha256: Option<&str>| match sha256 {
                None => Ok::<_, Problem>(self.store.blob(&project.part_blob, "The part")?),
                Some(sha256) => Ok(self.store.file(&project.id, sha256)?),
            };
            let stopped = || waiting.stopped();
            guarded(|| Part::of(&recipe.part, file, &self.limits(&stopped)))?
        })
    }

    /// Runs a draft. `keep`: file the picture, so that reopening shows it at once.
    pub fn draft(
        &self,
        project: &str,
        recipe: &Recipe,
        (quality, thickness): (Quality, bool),
        keep: bool,
        waiting: &Waiting,
    ) -> Answer<Vec<u8>> {
        let row = self.store.project(project)?;
        let watch = self.told(project, waiting);
        let part = self.part(&row, recipe, waiting)?;
        let outcome = guarded(|| self.pipeline.run(&part, recipe, quality, &watch))??;
        let mut info = RunInfo::new(&outcome, watch.log(), thickness);
        self.correct(&mut info.cost);
        let glb = guarded(|| draw(&outcome.solid, &info))?;
        if keep {
            self.store.set_picture(project, &Pipeline::recipe_key(&part, recipe), &glb)?;
        }
        Ok(glb)
    }

    /// What is known without a mesh: the stages that make one wait.
    pub fn estimate(&self, project: &str, recipe: &Recipe, waiting: &Waiting) -> Answer<Estimate> {
        let row = self.store.project(project)?;
        let watch = self.told(project, waiting);
        let part = self.part(&row, recipe, waiting)?;
        let (linked, mut cost) = guarded(|| self.pipeline.estimate(&part, recipe, &watch))??;
        self.correct(&mut cost);
        let (report, stages) = (estimated(&part, recipe, &linked), watch.log());
        Ok(Estimate {
            linked,
            cost,
            report,
            seconds: stages.iter().map(|s| s.seconds).sum(),
            stages,
        })
    }

    /// What the final mesh will take, from blocks that are made of it.
    pub fn cost(&self, project: &str, recipe: &Recipe, waiting: &Waiting) -> Answer<Cost> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, waiting)?;
        let mut cost = guarded(|| self.pipeline.cost(&part, recipe, &silent(waiting)))??;
        self.correct(&mut cost);
        Ok(cost)
    }

    /// The watch of a draft, whose stages and rounds are told to listeners.
    fn told(&self, project: &str, waiting: &Waiting) -> Stopwatch {
        let (events, project) = (self.events.clone(), project.to_owned());
        // Nobody may be listening.
        let drawing = {
            let (events, project) = (events.clone(), project.clone());
            move |stage| drop(events.send(Event::Drawing { project: project.clone(), stage }))
        };
        drawing(None);
        Stopwatch::new(waiting.flag().clone(), move |stage| drawing(Some(stage))).telling(
            move |rounds, of| {
                let _ = events.send(Event::Relaxing { project: project.clone(), rounds, of });
            },
        )
    }

    /// Lets go of what is held for the next wish, but for the newest of it: nobody has wished for
    /// anything in a while.
    pub fn rest(&self) {
        self.pipeline.shrink(RESTING_BYTES);
        self.parts.shrink(RESTING_BYTES);
    }

    /// Stops all work and takes no more: the server is about to end.
    pub fn close(&self) {
        self.lanes.end_all();
        lock(&self.jobs).values().for_each(|e| e.cancel.store(true, Ordering::Relaxed));
        // The worker looks at it with the queue locked, before it sleeps.
        let _queue = lock(&self.queue);
        self.closing.store(true, Ordering::Relaxed);
        self.wake.notify_all();
    }

    /// The recipe's struts ([`packed::struts`]). Empty for walls.
    pub fn skeleton(
        &self,
        project: &str,
        recipe: &Recipe,
        zone: Option<usize>,
        waiting: &Waiting,
    ) -> Answer<Vec<u8>> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, waiting)?;
        let found = guarded(|| self.pipeline.skeleton(&part, recipe, zone, &silent(waiting)))??;
        let (net, states) = found.unwrap_or_default();
        Ok(packed::struts(&net, &states))
    }

    /// The recipe's seed points and the edges of their cells ([`packed::seed_cells`]).
    pub fn seed_cells(
        &self,
        project: &str,
        recipe: &Recipe,
        zone: Option<usize>,
        waiting: &Waiting,
    ) -> Answer<Vec<u8>> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, waiting)?;
        let found = guarded(|| self.pipeline.seed_cells(&part, recipe, zone, &silent(waiting)))??;
        Ok(packed::seed_cells(&found))
    }

    /// What a grading of a recipe gives ([`packed::field`]).
    pub fn graded_field(
        &self,
        project: &str,
        recipe: &Recipe,
        of: (Option<usize>, u32),
        waiting: &Waiting,
    ) -> Answer<Vec<u8>> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, waiting)?;
        let found = guarded(|| self.pipeline.graded_field(&part, recipe, of, &silent(waiting)))??;
        Ok(packed::field((*found).as_ref()))
    }

    /// How the numbers of a grading's sources are spread over the part.
    pub fn source_spreads(
        &self,
        project: &str,
        recipe: &Recipe,
        of: (Option<usize>, u32),
        waiting: &Waiting,
    ) -> Answer<Vec<Option<SourceSpread>>> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, waiting)?;
        Ok(guarded(|| self.pipeline.source_spreads(&part, recipe, of))??)
    }

    /// The stored picture of the current recipe: the final's, or the last settled draft's.
    pub fn picture(&self, project: &str, waiting: &Waiting) -> Answer<Option<Arc<Vec<u8>>>> {
        let row = self.store.project(project)?;
        let recipe = row.read_recipe()?;
        let part = self.part(&row, &recipe, waiting)?;
        if let Some(f) = self.store.finished(project, &Pipeline::recipe_key(&part, &recipe))? {
            let what = "The picture of the final mesh";
            return Ok(Some(self.store.shared_blob(&f.picture, what)?));
        }
        Ok(self.store.picture(project, &Pipeline::recipe_key(&part, &recipe))?)
    }

    /// Estimates as this machine's earlier runs correct them.
    fn correct(&self, p: &mut Cost) {
        p.stages = lock(&self.paces).corrected(&p.stages);
        p.seconds = p.stages.iter().map(|s| s.seconds).sum();
    }

    /// Queues the final run of the current recipe.
    pub fn start_final(&self, project: &str, waiting: &Waiting) -> Answer<Job> {
        let row = self.store.project(project)?;
        let recipe = row.read_recipe()?;
        let part = self.part(&row, &recipe, waiting)?;
        let mut cost = guarded(|| self.pipeline.cost(&part, &recipe, &silent(waiting)))??;
        self.correct(&mut cost);
        if let Some(refused) = cost.too_large {
            return Err(RunError::TooLarge(refused).into());
        }
        // A newer final replaces the project's older one.
        self.cancel_project(project);
        let job = Job {
            id: self.new_id(),
            project: project.to_owned(),
            revision: row.head,
            state: JobState::Queued,
            stage: None,
            stages: Vec::new(),
            predicted_seconds: cost.seconds,
            started_ms: None,
            problem: None,
        };
        let mut queue = lock(&self.queue);
        if queue.len() >= QUEUE {
            return Err(Problem::new(
                StatusCode::TOO_MANY_REQUESTS,
                "queue_full",
                "Too many final runs are waiting.",
                "Cancel one, or start this one when one has finished.",
            ));
        }
        self.store.put_job(&job.id, project, &Pipeline::recipe_key(&part, &recipe), "queued")?;
        lock(&self.jobs)
            .insert(job.id.clone(), Entry { job: job.clone(), recipe, cancel: Arc::default() });
        queue.push_back(job.id.clone());
        self.wake.notify_one();
        drop(queue);
        self.tell(&job);
        Ok(job)
    }

    /// The last final run of a project.
    pub fn job_of(&self, project: &str) -> Option<Job> {
        let jobs = lock(&self.jobs);
        jobs.values()
            .map(|e| &e.job)
            .filter(|j| j.project == project)
            .max_by_key(|j| (j.revision, j.started_ms))
            .cloned()
    }

    /// Ends a final run.
    ///
    /// # Errors
    /// There is none of this number.
    pub fn cancel(&self, id: &str) -> Answer<Job> {
        let mut jobs = lock(&self.jobs);
        let entry = jobs.get_mut(id).ok_or_else(|| Problem::not_found("The run"))?;
        entry.cancel.store(true, Ordering::Relaxed);
        let waiting = entry.job.state == JobState::Queued;
        if waiting {
            entry.job.state = JobState::Cancelled;
        }
        let job = entry.job.clone();
        drop(jobs);
        if waiting {
            lock(&self.queue).retain(|q| q != id);
            self.store.put_job(id, &job.project, "", "cancelled")?;
            self.tell(&job);
        }
        Ok(job)
    }

    /// Ends all final runs of a project.
    pub fn cancel_project(&self, project: &str) {
        let running: Vec<String> = lock(&self.jobs)
            .values()
            .filter(|e| {
                e.job.project == project
                    && matches!(e.job.state, JobState::Queued | JobState::Running)
            })
            .map(|e| e.job.id.clone())
            .collect();
        for id in running {
            // A run that has just ended needs no cancelling.
            let _ = self.cancel(&id);
        }
    }

    /// Waits until no final run is under way, for so long at most.
    pub fn wait_for_runs(&self, most: Duration) {
        let running = |jobs: &mut HashMap<String, Entry>| {
            jobs.values().any(|e| e.job.state == JobState::Running)
        };
        let waited = self.changed.wait_timeout_while(lock(&self.jobs), most, running);
        drop(waited.unwrap_or_else(PoisonError::into_inner));
    }

    fn tell(&self, job: &Job) {
        // Nobody listening is fine.
        let _ = self.events.send(Event::Job { job: job.clone() });
    }

    fn update(&self, id: &str, change: impl FnOnce(&mut Job)) -> Option<Job> {
        let mut jobs = lock(&self.jobs);
        let job = &mut jobs.get_mut(id)?.job;
        change(job);
        let job = job.clone();
        drop(jobs);
        self.changed.notify_all();
        self.tell(&job);
        Some(job)
    }

    fn work(self: Arc<Self>) {
        loop {
            let mut queue = lock(&self.queue);
            let id = loop {
                if self.closing.load(Ordering::Relaxed) {
                    return;
                }
                match queue.pop_front() {
                    Some(id) => break id,
                    None => queue = self.wake.wait(queue).unwrap_or_else(PoisonError::into_inner),
                }
            };
            drop(queue);
            let started = lock(&self.jobs)
                .get(&id)
                .map(|e| (e.job.project.clone(), e.recipe.clone(), e.cancel.clone()));
            let Some((project, recipe, cancel)) = started else { continue };
            self.update(&id, |j| {
                j.state = JobState::Running;
                j.started_ms = Some(now_ms());
            });
            let result = self.make_final(&id, &project, &recipe, cancel);
            let (state, name, problem) = match result {
                Ok(()) => (JobState::Done, "done", None),
                Err(p) if p.code == "cancelled" => (JobState::Cancelled, "cancelled", None),
                Err(p) => (JobState::Failed, "failed", Some(p)),
            };
            // Cut off by the server's end, it stays in the store as it is and is told as
            // interrupted at the next start.
            let cut_off = self.closing.load(Ordering::Relaxed) && state == JobState::Cancelled;
            if !cut_off {
                if let Err(e) = self.store.put_job(&id, &project, "", name) {
                    tracing::warn!("state of run {id} not kept: {e}");
                }
            }
            self.update(&id, |j| {
                j.state = state;
                j.stage = None;
                j.problem = problem;
            });
        }
    }

    fn make_final(
        self: &Arc<Self>,
        id: &str,
        project: &str,
        recipe: &Recipe,
        cancel: Arc<AtomicBool>,
    ) -> Answer<()> {
        let row = self.store.project(project)?;
        let part = self.part(&row, recipe, &Waiting::of(cancel.clone()))?;
        let key = Pipeline::recipe_key(&part, recipe);
        self.store.put_job(id, project, &key, "running")?;
        let (studio, job) = (self.clone(), id.to_owned());
        let watch = Arc::new_cyclic(|weak: &std::sync::Weak<Stopwatch>| {
            let weak = weak.clone();
            Stopwatch::new(cancel, move |stage| {
                let stages = weak.upgrade().map_or_else(Vec::new, |w| w.log());
                studio.update(&job, |j| {
                    j.stage = Some(stage);
                    j.stages = stages;
                });
            })
        });
        let outcome = guarded(|| self.pipeline.run(&part, recipe, Quality::Final, &*watch))??;
        let stages = watch.log();
        let info = RunInfo::new(&outcome, stages, true);
        let worked = info.stages.iter().filter(|s| !s.cached).map(|s| (s.stage, s.seconds));
        let paces = {
            let mut paces = lock(&self.paces);
            paces.learn(&outcome.cost.stages, worked);
            paces.clone()
        };
        self.store.set_paces(&paces)?;
        let glb = guarded(|| draw(&outcome.solid, &info))?;
        let json = serde_json::to_string(&info).map_err(Problem::internal)?;
        self.store.put_final(
            project,
            &key,
            &json,
            &packed::pack(&outcome.solid.as_it_leaves()),
            &glb,
        )?;
        // Unless the recipe has changed meanwhile, the start screen shows what came out.
        let now = self.store.project(project)?;
        if now.recipe == row.recipe && now.read_recipe()? == *recipe {
            self.store.set_facts(
                project,
                now.head,
                &CardFacts::of(recipe, &part.facts, Some(&info)).to_json()?,
            )?;
        }
        Ok(())
    }
}

/// A watch that tells nobody.
fn silent(waiting: &Waiting) -> Stopwatch {
    Stopwatch::new(waiting.flag().clone(), |_| {})
}

/// A panic ends this run alone.
pub fn guarded<T>(work: impl FnOnce() -> T) -> Answer<T> {
    let done = catch_unwind(AssertUnwindSafe(work));
    memory::used();
    done.map_err(|p| {
        let what = p
            .downcast_ref::<&str>()
            .map(|s| s.to_string())
            .or_else(|| p.downcast_ref::<String>().cloned());
        Problem::internal(format!("run panicked: {}", what.unwrap_or_default()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_becomes_a_problem() {
        let p = guarded(|| -> () { panic!("boom") }).unwrap_err();
        assert_eq!(p.code, "internal");
    }
}
