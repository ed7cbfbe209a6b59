//! Several pipelines in one process, each in a thread of its own: one that fails leaves the others alone.

pub(crate) mod figures;
mod member;
pub(crate) mod one;
mod pauses;
mod turns;
mod watched;

use std::collections::BTreeMap;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use indicatif::MultiProgress;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::plan::SealedTexts;
use sluice_core::run::{RunLimit, RunReport};
use sluice_core::threads;
use sluice_core::throttle::Throttles;

pub(crate) use member::{Doing, Loaded, MemberReport, exit_of};

use self::member::Member;
use self::turns::Turns;
use crate::project::LoadedPipeline;
use crate::{log, output};

/// How often files of secrets and certificates are looked at.
const LOOK: Duration = Duration::from_secs(2);

/// How a pipeline of a crew ended: its name, and what it did or why it failed.
pub(crate) type Ended = (String, Outcome<(LoadedPipeline, RunReport)>);

/// Pipelines that one process runs.
pub(crate) struct Crew {
    /// How far each of them runs.
    until: RunLimit,
    /// Whether what may pass is tried again.
    retries: bool,
    bars: Option<MultiProgress>,
    turns: Turns,
    throttles: Arc<Throttles>,
    members: Mutex<BTreeMap<String, Arc<Member>>>,
    /// Woken when one of them is at an end.
    over: Condvar,
}

impl Crew {
    /// Nobody yet. `shows` draws a line for each on a terminal.
    pub(crate) fn new(until: RunLimit, retries: bool, shows: bool) -> Arc<Self> {
        let crew = Arc::new(Self {
            until,
            retries,
            bars: shows.then(MultiProgress::new),
            turns: Turns::default(),
            throttles: Arc::default(),
            members: Mutex::default(),
            over: Condvar::new(),
        });
        let watched = Arc::downgrade(&crew);
        threads::spawn("secrets", move || {
            loop {
                std::thread::sleep(LOOK);
                let Some(crew) = watched.upgrade() else { return };
                let members: Vec<Arc<Member>> = crew.members().values().cloned().collect();
                members.iter().filter(|member| !member.is_over()).for_each(|member| member.look_at_files());
            }
        });
        crew
    }

    /// Lets a pipeline run.
    ///
    /// # Errors
    /// Where it runs here already.
    pub(crate) fn start(self: &Arc<Self>, loaded: Loaded) -> Outcome<()> {
        let member = Arc::new(Member::new(loaded));
        let name = member.name().to_string();
        {
            let mut members = self.members();
            if members.get(&name).is_some_and(|known| !known.is_over()) {
                return Err(Failure::new(FailureKind::InUse, format!("{name} is already running")));
            }
            members.insert(name.clone(), Arc::clone(&member));
        }
        let crew = Arc::clone(self);
        threads::spawn(&name, move || {
            member.work(&crew);
            // Under the lock, so that who waits cannot miss it.
            let _members = crew.members();
            crew.over.notify_all();
        });
        Ok(())
    }

    /// Asks a pipeline to settle and end; false where it does not run here.
    pub(crate) fn settle(&self, name: &str) -> bool {
        let member = self.members().get(name).filter(|member| !member.is_over()).cloned();
        member.as_ref().inspect(|member| member.settle()).is_some()
    }

    /// Asks all of them.
    pub(crate) fn settle_all(&self) {
        let members: Vec<Arc<Member>> = self.members().values().cloned().collect();
        members.iter().for_each(|member| member.settle());
    }

    /// Settles the batch in hand of a pipeline, which then continues with its edited file.
    ///
    /// # Errors
    /// Where it does not run here.
    pub(crate) fn renew(&self, loaded: Loaded) -> Outcome<()> {
        let name = &loaded.pipeline.config.name;
        let member = self.members().get(name).filter(|member| !member.is_over()).cloned();
        let Some(member) = member else {
            return Err(Failure::new(FailureKind::Configuration, format!("{name} does not run in the background"))
                .with_help(format!("sluice start {name}")));
        };
        member.renew(loaded);
        Ok(())
    }

    /// The texts that a pipeline runs under.
    pub(crate) fn texts(&self, name: &str) -> Option<SealedTexts> {
        self.members().get(name).filter(|member| !member.is_over()).map(|member| member.texts())
    }

    /// All of them as they are now, by name.
    pub(crate) fn reports(&self) -> Vec<MemberReport> {
        let members: Vec<Arc<Member>> = self.members().values().cloned().collect();
        members.iter().map(|member| member.report()).collect()
    }

    /// Waits until all are at an end, or for so long; whether all are.
    pub(crate) fn wait(&self, at_most: Option<Duration>) -> bool {
        let is_going_on =
            |members: &mut BTreeMap<String, Arc<Member>>| members.values().any(|member| !member.is_over());
        let members = self.members();
        match at_most {
            None => {
                drop(self.over.wait_while(members, is_going_on).unwrap_or_else(PoisonError::into_inner));
                true
            }
            Some(at_most) => {
                let (mut members, _) =
                    self.over.wait_timeout_while(members, at_most, is_going_on).unwrap_or_else(PoisonError::into_inner);
                !is_going_on(&mut members)
            }
        }
    }

    /// How those ended that have, by name. Each is given once.
    pub(crate) fn take_results(&self) -> Vec<Ended> {
        let members: Vec<Arc<Member>> = self.members().values().cloned().collect();
        members.iter().filter_map(|m| Some((m.name().to_string(), m.take_result()?))).collect()
    }

    /// Says something at a terminal, where nothing is logged.
    fn say(&self, text: &str) {
        if log::is_on() {
            return;
        }
        let text = format!("{text}\n");
        match &self.bars {
            Some(bars) => bars.suspend(|| output::note(&text)),
            None => output::note(&text),
        }
    }

    fn members(&self) -> MutexGuard<'_, BTreeMap<String, Arc<Member>>> {
        self.members.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
