//! One pipeline of a crew: it runs, rests, or waits to be tried again, in a thread of its own.

use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use serde::{Deserialize, Serialize};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::plan::SealedTexts;
use sluice_core::run::{RunLimit, RunReport, Stop};
use sluice_core::schedule::Schedule;
use sluice_core::throttle::Throttles;
use sluice_core::units::show_duration;

use super::Crew;
use super::figures::{Figures, Moved};
use super::one::{self, Seen};
use super::pauses::{Pauses, may_pass};
use super::turns::Turn;
use super::watched::WatchedFiles;
use crate::exit::Exit;
use crate::output::times;
use crate::project::{LoadedPipeline, Project};
use crate::random;

/// What a pipeline of a crew does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "doing", rename_all = "snake_case")]
pub(crate) enum Doing {
    /// It moves data, or waits for more.
    Runs,
    /// It was asked to stop, and settles the batch in hand.
    Settles,
    /// It failed, and is tried again.
    Waits {
        /// When, in microseconds since 1970.
        until: i64,
        /// How often in a row it has failed.
        failures: u32,
        /// Why.
        reason: String,
    },
    /// It has caught up, and runs again at a time of its schedule.
    Rests {
        /// When, in microseconds since 1970.
        until: i64,
    },
    /// It is time for it, and as many run as may at a time.
    Queues,
    /// It failed, and trying again would not help.
    Stopped {
        /// Why.
        reason: String,
    },
    /// It ended as it was asked to.
    Ended,
}

impl Doing {
    /// Whether nothing more comes of it.
    pub(crate) fn is_over(&self) -> bool {
        matches!(self, Self::Stopped { .. } | Self::Ended)
    }
}

/// A pipeline as its crew has it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct MemberReport {
    /// Its name.
    pub pipeline: String,
    /// What it does.
    #[serde(flatten)]
    pub doing: Doing,
    /// Since when, in microseconds since 1970.
    pub since: i64,
    /// How often it was tried again since it was started.
    pub retries: u64,
    /// SHA-256 of the texts that it runs under.
    pub texts: String,
    /// When it runs, where it has a schedule, in words.
    pub schedule: Option<String>,
    /// What it has moved.
    pub moved: Moved,
}

/// A pipeline with the project as both were read.
pub(crate) struct Loaded {
    pub(crate) project: Project,
    pub(crate) pipeline: LoadedPipeline,
}

/// One pipeline of a crew.
pub(crate) struct Member {
    name: String,
    stop: Arc<Stop>,
    figures: Arc<Figures>,
    standing: Mutex<Standing>,
    /// What it runs under from its next start on.
    next: Mutex<Option<Loaded>>,
}

struct Standing {
    doing: Doing,
    since: i64,
    retries: u64,
    texts: SealedTexts,
    schedule: Option<String>,
    files: WatchedFiles,
    /// How it ended, for who started it.
    result: Option<Outcome<(LoadedPipeline, RunReport)>>,
}

impl Member {
    pub(super) fn new(loaded: Loaded) -> Self {
        let standing = Standing {
            doing: Doing::Runs,
            since: times::now(),
            retries: 0,
            texts: loaded.pipeline.plan.texts.clone(),
            schedule: loaded.pipeline.config.schedule.as_ref().map(ToString::to_string),
            files: WatchedFiles::of(&loaded),
            result: None,
        };
        Self {
            name: loaded.pipeline.config.name.clone(),
            stop: Arc::new(Stop::new()),
            figures: Arc::new(Figures::new()),
            standing: Mutex::new(standing),
            next: Mutex::new(Some(loaded)),
        }
    }

    pub(super) fn name(&self) -> &str {
        &self.name
    }

    pub(crate) fn report(&self) -> MemberReport {
        let standing = self.standing();
        MemberReport {
            pipeline: self.name.clone(),
            doing: standing.doing.clone(),
            since: standing.since,
            retries: standing.retries,
            texts: standing.texts.digest(),
            schedule: standing.schedule.clone(),
            moved: self.figures.moved(),
        }
    }

    /// The texts that it runs under.
    pub(super) fn texts(&self) -> SealedTexts {
        self.standing().texts.clone()
    }

    pub(super) fn is_over(&self) -> bool {
        self.standing().doing.is_over()
    }

    /// How it ended; None before, and once it was taken.
    pub(super) fn take_result(&self) -> Option<Outcome<(LoadedPipeline, RunReport)>> {
        self.standing().result.take()
    }

    /// Asks it to settle and end.
    pub(super) fn settle(&self) {
        {
            let mut standing = self.standing();
            if !standing.doing.is_over() {
                standing.doing = Doing::Settles;
                standing.since = times::now();
            }
        }
        self.stop.settle();
    }

    /// Settles the batch in hand and continues with the edited file.
    pub(super) fn renew(&self, loaded: Loaded) {
        *self.next() = Some(loaded);
        self.stop.pause();
    }

    /// Reopens connections if a file of a secret or certificate of one has changed.
    pub(super) fn look_at_files(&self) {
        let Some(changed) = self.standing().files.changed() else { return };
        tracing::info!(pipeline = %self.name, file = %changed.display(), "a secret or certificate file changed: reopening connections");
        self.stop.pause();
    }

    fn standing(&self) -> MutexGuard<'_, Standing> {
        self.standing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn next(&self) -> MutexGuard<'_, Option<Loaded>> {
        self.next.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn now_does(&self, doing: Doing) {
        let mut standing = self.standing();
        // What was asked for stays said until it is done.
        if standing.doing != Doing::Settles || doing.is_over() {
            (standing.doing, standing.since) = (doing, times::now());
        }
    }

    /// Runs it until it is at an end. Called in its own thread.
    pub(super) fn work(&self, crew: &Crew) {
        let guarded = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| self.until_over(crew)));
        let result = guarded.unwrap_or_else(|_| {
            Err(Failure::internal(format!("{} broke down; the message stands above", self.name)).with_help(
                "this is a fault of the program, please report it; what was sealed is finished by the next run",
            ))
        });
        let doing = match &result {
            Err(failure) => Doing::Stopped { reason: failure.message.clone() },
            Ok((_, RunReport { limit: Some(failure), .. })) => Doing::Stopped { reason: failure.message.clone() },
            Ok(_) => Doing::Ended,
        };
        self.standing().result = Some(result);
        self.now_does(doing);
    }

    fn until_over(&self, crew: &Crew) -> Outcome<(LoadedPipeline, RunReport)> {
        let Some(first) = self.next().take() else {
            return Err(Failure::internal(format!("{} has nothing to run", self.name)));
        };
        let mut work = Work {
            member: self,
            crew,
            loaded: first.under(&crew.throttles),
            began: times::now(),
            due: None,
            whole: None,
            pauses: Pauses::default(),
        };
        work.due = work.first_start();
        loop {
            if self.stop.is_asked() {
                return Ok((work.loaded.pipeline, work.whole.unwrap_or_default()));
            }
            match work.turn() {
                AfterTurn::Continue(next) => work = next,
                AfterTurn::Break(result) => return result,
            }
        }
    }

    fn rest(&self, crew: &Crew, until: i64) {
        self.now_does(Doing::Rests { until });
        crew.say(&format!("{}: waiting for its next scheduled run, {} UTC", self.name, times::second(until)));
        tracing::info!(pipeline = %self.name, until = %sluice_core::values::time::show_timestamp(until), "waiting for the next scheduled run");
        // The clock may be set, or the machine may sleep: what it shows is looked at again every minute.
        loop {
            let left = u64::try_from(until.saturating_sub(times::now())).unwrap_or(0);
            if left == 0 || self.stop.is_settling() || self.next().is_some() {
                return;
            }
            self.stop.wait(std::time::Duration::from_micros(left.min(60_000_000)));
        }
    }
}

impl Loaded {
    /// The same, under the limits that the crew shares.
    fn under(self, throttles: &Arc<Throttles>) -> Self {
        Self { project: self.project.under(throttles), ..self }
    }
}

/// A member at work.
struct Work<'w> {
    member: &'w Member,
    crew: &'w Crew,
    loaded: Loaded,
    /// When it was started, in microseconds since 1970: schedules count from it.
    began: i64,
    /// When it runs next, in microseconds since 1970, where it has a schedule and that is not now.
    due: Option<i64>,
    /// What all its runs did; None before the first has ended.
    whole: Option<RunReport>,
    pauses: Pauses,
}

/// Whether it works on, or how it ended.
type AfterTurn<'w> = ControlFlow<Outcome<(LoadedPipeline, RunReport)>, Work<'w>>;

impl<'w> Work<'w> {
    /// The schedule, where runs follow it.
    fn schedule(&self) -> Option<&Schedule> {
        self.loaded.pipeline.config.schedule.as_ref().filter(|_| !self.crew.until.caught_up)
    }

    /// When the first run begins, where that is not now.
    fn first_start(&self) -> Option<i64> {
        let schedule = self.schedule().filter(|schedule| !schedule.starts_at_once())?;
        schedule.next(self.began, times::now())
    }

    /// Takes what it was renewed with.
    fn take_next(&mut self) {
        // In this order: who renews puts it there first, and asks to pause then.
        self.member.stop.go_on();
        let Some(next) = self.member.next().take() else { return };
        let schedule = next.pipeline.config.schedule.as_ref().map(ToString::to_string);
        {
            let mut standing = self.member.standing();
            (standing.texts, standing.schedule) = (next.pipeline.plan.texts.clone(), schedule);
            standing.files = WatchedFiles::of(&next);
        }
        self.crew.say(&format!("{}: continues with the edited file", self.member.name));
        tracing::info!(pipeline = %self.member.name, "continues with the edited file");
        self.loaded = next.under(&self.crew.throttles);
        if self.due.is_some() {
            self.due = self.schedule().and_then(|schedule| schedule.next(self.began, times::now()));
        }
    }

    /// One run, and the rest or the pause after it.
    fn turn(mut self) -> AfterTurn<'w> {
        self.take_next();
        if let Some(due) = self.due {
            self.member.rest(self.crew, due);
            // It was stopped or renewed meanwhile.
            if times::now() < due {
                return AfterTurn::Continue(self);
            }
            self.due = None;
        }
        let (member, crew) = (self.member, self.crew);
        let is_scheduled = self.schedule().is_some();
        let limits = if is_scheduled { turns_of(&self.loaded) } else { Vec::new() };
        let Some(turn) = crew.turns.take(limits, &member.stop, || member.now_does(Doing::Queues)) else {
            return AfterTurn::Continue(self);
        };
        member.now_does(Doing::Runs);
        member.figures.begin();
        let until = RunLimit { caught_up: crew.until.caught_up || is_scheduled, ..crew.until };
        let started = Instant::now();
        let seen = Seen { bars: crew.bars.as_ref(), figures: Some(&member.figures) };
        let Loaded { project, pipeline } = self.loaded;
        let is_renewed = || member.next().is_some();
        let (pipeline, ended) = one::run_and_renew(&project, pipeline, until, &member.stop, seen, &is_renewed);
        drop(turn);
        self.loaded = Loaded { project, pipeline };
        match ended {
            Ok(mut report) => {
                let failure = report.limit.take();
                self.whole = Some(match self.whole.take() {
                    Some(before) => before.and_then(report),
                    None => report,
                });
                match failure {
                    Some(failure) => self.failed(failure, started),
                    None => self.ended(),
                }
            }
            Err(failure) => self.failed(failure, started),
        }
    }

    /// It has ended without a failure: as it was asked to, or until its schedule names the next time.
    fn ended(mut self) -> AfterTurn<'w> {
        let stop = &self.member.stop;
        if !stop.is_asked() {
            // It was renewed, or its source has changed.
            if stop.is_settling() || self.member.next().is_some() {
                return AfterTurn::Continue(self);
            }
            self.due = self.schedule().and_then(|schedule| schedule.next(self.began, times::now()));
            if self.due.is_some() {
                return AfterTurn::Continue(self);
            }
        }
        AfterTurn::Break(Ok((self.loaded.pipeline, self.whole.unwrap_or_default())))
    }

    fn failed(mut self, failure: Failure, started: Instant) -> AfterTurn<'w> {
        let member = self.member;
        if member.stop.is_asked() || !self.crew.retries || !may_pass(&failure) {
            return AfterTurn::Break(match self.whole {
                // What landed before is told too.
                Some(whole) => Ok((self.loaded.pipeline, RunReport { limit: Some(failure), ..whole })),
                None => Err(failure),
            });
        }
        let pause = self.pauses.after(started.elapsed(), random::share());
        let (failures, pause_text) = (self.pauses.failures(), show_duration(pause));
        self.crew.say(&format!("{}: {}; retry in {pause_text}", member.name, failure.message));
        tracing::warn!(pipeline = %member.name, reason = %failure.message, failures, "failed; retry in {pause_text}");
        let until = times::now().saturating_add(i64::try_from(pause.as_micros()).unwrap_or(i64::MAX));
        member.standing().retries += 1;
        member.now_does(Doing::Waits { until, failures, reason: failure.message });
        member.stop.go_on();
        if member.next().is_none() {
            member.stop.wait(pause);
        }
        AfterTurn::Continue(self)
    }
}

/// The limits that a scheduled run of a pipeline stands under.
fn turns_of(loaded: &Loaded) -> Vec<Turn> {
    let Loaded { project, pipeline } = loaded;
    let mut limits: Vec<Turn> = project.config.runs_at_once.map(|most| (String::new(), most)).into_iter().collect();
    for arrival in &pipeline.plan.arrivals {
        let name = &arrival.connection.name;
        let most = arrival.connection.runs_at_once();
        limits.extend(most.filter(|_| limits.iter().all(|(known, _)| known != name)).map(|most| (name.clone(), most)));
    }
    limits
}

/// The exit code of a result.
pub(crate) fn exit_of(result: &Outcome<(LoadedPipeline, RunReport)>) -> Exit {
    match result {
        Ok((_, RunReport { limit: Some(failure), .. })) | Err(failure) => Exit::from(failure.kind),
        Ok(_) => Exit::Fine,
    }
}
