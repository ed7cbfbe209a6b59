//! Looks, while a pipeline runs, for tables that have come to its source and fit a group that follows it. The run is then
//! begun again, so that they are read too.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, mpsc};
use std::time::Duration;

use sluice_core::config::PipelineConfig;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names::shown;
use sluice_core::plan::{self, Plan};
use sluice_core::problem::Severity;
use sluice_core::run::Stop;

use crate::output::{self, style};
use crate::project::{LoadedPipeline, Project, TableSource};

/// How often a source is asked.
const EVERY: Duration = Duration::from_secs(5);

/// Looks until the run has ended.
pub(crate) struct Watch {
    state: Arc<Mutex<SeenTables>>,
    /// Closing this channel ends the thread.
    _over: mpsc::Sender<()>,
}

/// A run is paused under its lock, and never once the run is over: another one may have begun by then.
enum SeenTables {
    Looking,
    /// Why the run is to begin again.
    Found(String),
    Over,
}

impl Watch {
    /// Begins to look, where the pipeline follows a source.
    pub(crate) fn start(project: &Project, pipeline: &LoadedPipeline, stop: &Arc<Stop>) -> Option<Self> {
        if !pipeline.config.groups.iter().any(|g| g.follows()) {
            return None;
        }
        let (sender, over) = mpsc::channel();
        let state = Arc::new(Mutex::new(SeenTables::Looking));
        let looker = TableWatcher {
            root: project.root.clone(),
            config: pipeline.config.clone(),
            around: project.surroundings(),
            stop: Arc::clone(stop),
            said: BTreeSet::new(),
        };
        let own = Arc::clone(&state);
        sluice_core::threads::spawn("new tables", move || looker.look(&over, &own));
        Some(Self { state, _over: sender })
    }

    /// The run has ended: why it is to begin again, where new tables have come.
    pub(crate) fn end(self) -> Option<Failure> {
        match std::mem::replace(&mut *lock(&self.state), SeenTables::Over) {
            SeenTables::Found(message) => Some(Failure::renewing(message)),
            SeenTables::Looking | SeenTables::Over => None,
        }
    }
}

fn lock(state: &Mutex<SeenTables>) -> MutexGuard<'_, SeenTables> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

struct TableWatcher {
    root: PathBuf,
    config: PipelineConfig,
    around: plan::Surroundings,
    stop: Arc<Stop>,
    /// Tables that cannot be read, which has been said.
    said: BTreeSet<String>,
}

impl TableWatcher {
    fn look(mut self, over: &mpsc::Receiver<()>, state: &Mutex<SeenTables>) {
        while over.recv_timeout(EVERY) == Err(mpsc::RecvTimeoutError::Timeout) {
            // A source that is away is noticed by the one that reads it.
            let Ok(new) = plan::new_tables(&self.config, &self.around) else { continue };
            let new: Vec<String> = new.into_iter().filter(|t| !self.said.contains(t)).collect();
            if new.is_empty() {
                continue;
            }
            let names: Vec<String> = new.iter().map(|t| shown(t)).collect();
            let are = if new.len() == 1 { "is" } else { "are" };
            let found = format!("{} {are} at the source now", names.join(", "));
            let can_run = self.can_run();
            let mut state = lock(state);
            if matches!(*state, SeenTables::Over) {
                return;
            }
            match can_run {
                Ok(()) => {
                    *state = SeenTables::Found(found);
                    self.stop.pause();
                    return;
                }
                Err(failure) if failure.passing => {}
                Err(failure) => {
                    let why = failure.message;
                    output::note(&format!(
                        "{} {found} and cannot be read: {why}. The run continues\n",
                        style::warn("!")
                    ));
                    self.said.extend(new);
                }
            }
        }
    }

    /// Whether the pipeline, written out again, could run.
    fn can_run(&self) -> Outcome<()> {
        let project = Project::need(Some(&self.root))?.asking(TableSource::Now);
        let pipeline = project.pipeline(&self.config.name)?;
        if let Some(failure) = pipeline.unknown {
            return Err(failure);
        }
        let errors = project.problems.into_sorted().into_iter().chain(pipeline.problems.into_sorted());
        match errors.into_iter().find(|p| p.severity == Severity::Error) {
            Some(error) => Err(Failure::new(FailureKind::Configuration, error.message)),
            None => Ok(()),
        }
    }
}

/// Says which tables are read from now on, and which are not any more.
pub(crate) fn report_difference(before: &Plan, after: &Plan) {
    let (before, after) = (tables(before), tables(after));
    for table in after.difference(&before) {
        output::note(&format!("  {} is read from now on\n", shown(table)));
    }
    for table in before.difference(&after) {
        output::note(&format!("  {} is no longer read; the rows that have landed stay\n", shown(table)));
    }
}

fn tables(plan: &Plan) -> BTreeSet<String> {
    let feeds = plan.arrivals.iter().filter(|a| a.kind.is_feed());
    let options = feeds.flat_map(|a| std::iter::once(&a.options).chain(a.others.iter().map(|(_, options)| options)));
    options.filter_map(|o| o.text("table")).collect()
}
