//! Looks at pipelines for the screen, in a thread of its own. What costs much is looked at seldom: the chosen pipeline's source every few
//! seconds, the others' in turn.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use sluice_connect::ledgers;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::failure::Outcome;
use sluice_core::ledger::{BatchQuery, Ledger as _};
use sluice_core::run::Stop;
use sluice_core::threads;
use sluice_core::units::{show_count, show_many, show_size};

use super::super::{Status, is_alarmed, look, show};
use crate::background::{self, Answer, Place};
use crate::commands::positions::long;
use crate::crew::Doing;
use crate::output::spark::spark;
use crate::output::{self, times};
use crate::project::{LoadedPipeline, Project, TableSource};

/// How often the screen changes.
const LOOK: Duration = Duration::from_secs(1);

/// How often the chosen pipeline is looked at in all, and the others at most.
const CHOSEN: Duration = Duration::from_secs(5);
const OTHERS: Duration = Duration::from_secs(30);

/// How often files are read again.
const FILES: Duration = Duration::from_secs(10);

/// Batches on their page, and notices on theirs.
const SHOWN: u64 = 100;

/// What stands below the list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Page {
    /// The status of the chosen pipeline.
    #[default]
    Status,
    /// Its batches.
    Batches,
    /// Its notices.
    Notices,
}

impl Page {
    pub(super) const ALL: &'static [Self] = &[Self::Status, Self::Batches, Self::Notices];

    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Status => "status",
            Self::Batches => "batches",
            Self::Notices => "notices",
        }
    }

    fn place(self) -> usize {
        Self::ALL.iter().position(|page| *page == self).unwrap_or(0)
    }

    pub(super) fn next(self) -> Self {
        Self::ALL[(self.place() + 1) % Self::ALL.len()]
    }

    pub(super) fn before(self) -> Self {
        Self::ALL[(self.place() + Self::ALL.len() - 1) % Self::ALL.len()]
    }
}

/// All that the screen shows at a moment.
#[derive(Clone, Debug, Default)]
pub(super) struct Snapshot {
    pub(super) project: String,
    /// The background process, in words.
    pub(super) process: String,
    /// The time of day, UTC.
    pub(super) time: String,
    /// Why nothing newer can be shown.
    pub(super) error: Option<String>,
    pub(super) rows: Vec<Row>,
    /// The page of the chosen pipeline: text with our colours.
    pub(super) page: String,
    pub(super) with_colours: bool,
}

/// A pipeline in the list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Row {
    pub(super) name: String,
    /// With our colours.
    pub(super) state: String,
    pub(super) rate: String,
    pub(super) spark: String,
    /// Events of each of the last 60 minutes.
    pub(super) minutes: Vec<u64>,
    pub(super) behind: String,
    pub(super) rejects: String,
    /// Whether something is wrong with it.
    pub(super) is_alarmed: bool,
}

impl Row {
    /// Whether there is anything to plot.
    pub(super) fn has_moved(&self) -> bool {
        self.minutes.iter().any(|count| *count > 0)
    }
}

/// What who looks and who draws share.
pub(super) struct Looking {
    shared: Mutex<Shared>,
    /// Woken by a new choice, and by the first snapshot.
    woken: Condvar,
}

#[derive(Default)]
struct Shared {
    number: u64,
    snapshot: Arc<Snapshot>,
    chosen: Option<String>,
    page: Page,
    has_chosen: bool,
    first: Option<Outcome<()>>,
}

impl Looking {
    /// Looks until it is told to stop.
    pub(super) fn start(root: PathBuf, pipeline: Option<String>, stop: &Arc<Stop>) -> Arc<Self> {
        let looking = Arc::new(Self { shared: Mutex::default(), woken: Condvar::new() });
        let (own, stop) = (Arc::clone(&looking), Arc::clone(stop));
        threads::spawn("status", move || {
            let mut eye = Eye { root, pipeline, files: None, ledger: None, known: BTreeMap::new() };
            while !stop.is_settling() {
                let (chosen, page) = {
                    let mut shared = own.lock();
                    shared.has_chosen = false;
                    (shared.chosen.clone(), shared.page)
                };
                let found = eye.look(chosen.as_deref(), page);
                own.publish(found);
                let shared = own.lock();
                let _ = own.woken.wait_timeout_while(shared, LOOK, |shared| !shared.has_chosen);
            }
        });
        looking
    }

    /// Waits for the first look.
    pub(super) fn wait_first(&self) -> Outcome<()> {
        let shared = self.lock();
        let mut shared =
            self.woken.wait_while(shared, |shared| shared.first.is_none()).unwrap_or_else(PoisonError::into_inner);
        shared.first.as_mut().map_or(Ok(()), |first| std::mem::replace(first, Ok(())))
    }

    /// The newest snapshot with its number.
    pub(super) fn newest(&self) -> (u64, Arc<Snapshot>) {
        let shared = self.lock();
        (shared.number, Arc::clone(&shared.snapshot))
    }

    /// Says what is looked at from now on.
    pub(super) fn select(&self, name: Option<String>, page: Page) {
        let mut shared = self.lock();
        if shared.chosen != name || shared.page != page {
            (shared.chosen, shared.page, shared.has_chosen) = (name, page, true);
            self.woken.notify_all();
        }
    }

    fn publish(&self, found: Outcome<Snapshot>) {
        let mut shared = self.lock();
        let first = found.as_ref().map(|_| ()).map_err(Clone::clone);
        shared.first.get_or_insert(first);
        let snapshot = match found {
            Ok(snapshot) => snapshot,
            Err(failure) => Snapshot { error: Some(failure.message), ..Snapshot::clone(&shared.snapshot) },
        };
        shared.number += 1;
        shared.snapshot = Arc::new(snapshot);
        self.woken.notify_all();
    }

    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

struct Files {
    read: Instant,
    project: Project,
    pipelines: Vec<LoadedPipeline>,
}

struct Known {
    at: Instant,
    status: Status,
}

/// Who looks.
struct Eye {
    root: PathBuf,
    pipeline: Option<String>,
    files: Option<Files>,
    ledger: Option<SqliteLedger>,
    known: BTreeMap<String, Known>,
}

impl Eye {
    fn look(&mut self, chosen: Option<&str>, page: Page) -> Outcome<Snapshot> {
        self.read_files()?;
        let Self { files: Some(files), ledger: Some(ledger), known, root, .. } = self else {
            return Ok(Snapshot::default());
        };
        let answer = background::find(root);
        let notices = ledger.open_notices()?;
        let chosen = files.pipelines.iter().map(|p| p.config.name.as_str()).find(|name| Some(*name) == chosen);
        let chosen = chosen.or_else(|| files.pipelines.first().map(|p| p.config.name.as_str())).map(str::to_string);
        known.retain(|name, _| files.pipelines.iter().any(|p| p.config.name == *name));
        let mut turns = 1;
        for pipeline in &files.pipelines {
            let name = &pipeline.config.name;
            let due = match known.get(name) {
                None => true,
                Some(known) if has_turned(&known.status, answer.as_ref()) => true,
                Some(known) if chosen.as_deref() == Some(name) => known.at.elapsed() >= CHOSEN,
                // One of the others at a time.
                Some(known) => known.at.elapsed() >= OTHERS && std::mem::take(&mut turns) > 0,
            };
            if due {
                let status = look(&files.project, pipeline, ledger, answer.as_ref())?;
                known.insert(name.clone(), Known { at: Instant::now(), status });
            }
            if let Some(known) = known.get_mut(name) {
                known.status.see_background(pipeline, answer.as_ref());
                known.status.notices = notices.iter().filter(|notice| notice.pipeline == *name).cloned().collect();
            }
        }
        let rows = files.pipelines.iter().filter_map(|p| Some(row(&known.get(&p.config.name)?.status))).collect();
        let text = match chosen.as_ref().and_then(|name| known.get(name)) {
            None => "no pipeline yet: sluice draft writes one from real events\n".into(),
            Some(known) => text(&files.project, ledger, &known.status, page)?,
        };
        Ok(Snapshot {
            project: files.project.config.name.clone(),
            process: process(root, answer.as_ref()),
            time: times::second(times::now())[11..].to_string(),
            error: None,
            rows,
            page: output::opened(&text).into_owned(),
            with_colours: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()),
        })
    }

    fn read_files(&mut self) -> Outcome<()> {
        if self.files.as_ref().is_some_and(|files| files.read.elapsed() < FILES) {
            return Ok(());
        }
        let project = Project::need(Some(&self.root))?.asking(TableSource::Never);
        let pipelines = match &self.pipeline {
            Some(name) => vec![project.pipeline(name)?],
            None => project.pipelines()?,
        };
        if self.ledger.is_none() {
            self.ledger = Some(ledgers::open_file(&project.root, &project.config.ledger)?);
        }
        self.files = Some(Files { read: Instant::now(), project, pipelines });
        Ok(())
    }
}

/// Whether a pipeline does something else than when it was looked at.
fn has_turned(status: &Status, answer: Option<&Answer>) -> bool {
    let now = answer.and_then(|answer| answer.pipelines.iter().find(|report| report.pipeline == status.name));
    let kind = |doing: &Doing| std::mem::discriminant(doing);
    now.map(|report| kind(&report.doing)) != status.background.as_ref().map(|report| kind(&report.doing))
}

fn process(root: &std::path::Path, answer: Option<&Answer>) -> String {
    match answer {
        Some(answer) => {
            let (own, started) = (&answer.process, times::ago(answer.process.since));
            format!("background process {}, started {started}", own.process)
        }
        None if Place::of(root).gone().is_some() => {
            "the background process ended without settling: sluice start".into()
        }
        None => "nothing runs in the background".into(),
    }
}

fn row(status: &Status) -> Row {
    let moved = status.background.as_ref().map(|report| &report.moved);
    let minutes = moved.map(|moved| moved.minutes.clone()).unwrap_or_default();
    Row {
        name: status.name.clone(),
        state: output::opened(&status.state.shown()).into_owned(),
        rate: moved
            .map_or(String::new(), |moved| show_count(crate::progress::per_second(1, 1.0 / moved.now.max(1e-9)))),
        spark: spark(&minutes[minutes.len().saturating_sub(30)..]),
        minutes,
        behind: behind(status),
        rejects: moved.map_or(String::new(), |moved| show_count(moved.rejected)),
        is_alarmed: is_alarmed(&status.state, status.background.as_ref(), &status.notices),
    }
}

/// How far it is behind, in few words.
fn behind(status: &Status) -> String {
    if status.away.is_some() || status.standings.is_empty() {
        return "not known".into();
    }
    let (mut events, mut bytes) = (Some(0_u64), 0_u64);
    for standing in &status.standings {
        let (own, size) = standing.behind();
        events = events.zip(own).map(|(sum, own)| sum + own);
        bytes += size.unwrap_or(0);
    }
    let oldest = status.standings.iter().flat_map(|standing| &standing.states).filter_map(|s| s.oldest_unread).min();
    let age = oldest.map(|at| long(Duration::from_micros(u64::try_from(times::now() - at).unwrap_or(0))));
    let amount = match events {
        Some(0) if bytes == 0 => return "caught up".into(),
        Some(events) if events > 0 => show_many(events, "event"),
        _ if bytes == 0 => return "caught up".into(),
        _ => show_size(bytes),
    };
    age.map_or(amount.clone(), |age| format!("{amount} · {age}"))
}

fn text(project: &Project, ledger: &SqliteLedger, status: &Status, page: Page) -> Outcome<String> {
    let name = &status.name;
    Ok(match page {
        Page::Status => show::as_text(std::slice::from_ref(status)),
        Page::Batches => {
            let mut batches = ledger.batches(name, BatchQuery { last: Some(SHOWN), number: None })?;
            // The newest stands where the eye is.
            batches.reverse();
            match batches.is_empty() {
                true => "no batches yet\n".into(),
                false => crate::commands::ledger::table_of(&batches),
            }
        }
        Page::Notices => {
            let own = ledger.notices(SHOWN)?.into_iter().filter(|notice| notice.pipeline == *name);
            let all: Vec<String> = own.map(|notice| crate::commands::notices::one(project, &notice)).collect();
            if all.is_empty() { "no notice so far: sluice manual notice\n".into() } else { all.join("\n") }
        }
    })
}
