//! Sources are asked how far pipelines are behind, in a thread of its own: one that does not answer holds up no other notice.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use sluice_connect::ledgers;
use sluice_core::config::notice::Condition;
use sluice_core::failure::Outcome;
use sluice_core::notice::Observed;
use sluice_core::run::Stop;
use sluice_core::threads;

use super::rules::Rules;
use crate::commands::positions::{Standing, standings};
use crate::crew::MemberReport;
use crate::output::times;
use crate::project::{Project, TableSource};

/// How often they are asked at least, and at most.
const SELDOM: Duration = Duration::from_secs(15);
const OFTEN: Duration = Duration::from_secs(1);

/// What was asked longer ago is not known any more.
const STALE: i64 = 120_000_000;

/// How far a pipeline was behind, and when.
#[derive(Clone, Copy)]
struct Behind {
    at: i64,
    events: Option<u64>,
    /// The time of the oldest unread event, where the source tells it.
    oldest: Option<i64>,
    /// Whether anything is unread.
    any: bool,
}

#[derive(Default)]
struct Inner {
    /// The pipelines to ask about, and how often.
    wanted: BTreeMap<String, Duration>,
    known: BTreeMap<String, Behind>,
}

/// How far pipelines are behind.
pub(super) struct Sources(Mutex<Inner>);

impl Sources {
    /// Asks from now on, until the end.
    pub(super) fn start(root: PathBuf, stop: &Arc<Stop>) -> Arc<Self> {
        let sources = Arc::new(Self(Mutex::default()));
        let (own, stop) = (Arc::clone(&sources), Arc::clone(stop));
        threads::spawn("lag", move || {
            let mut due: BTreeMap<String, i64> = BTreeMap::new();
            while !stop.is_settling() {
                let wanted = own.lock().wanted.clone();
                due.retain(|name, _| wanted.contains_key(name));
                for (name, every) in wanted {
                    let now = times::now();
                    if due.get(&name).is_some_and(|at| *at > now) || stop.is_settling() {
                        continue;
                    }
                    // A pipeline whose source cannot be asked is one of which nothing is known.
                    match ask(&root, &name) {
                        Ok(behind) => _ = own.lock().known.insert(name.clone(), behind),
                        Err(_) => _ = own.lock().known.remove(&name),
                    }
                    due.insert(name, times::now() + i64::try_from(every.as_micros()).unwrap_or(i64::MAX));
                }
                stop.wait(Duration::from_millis(500));
            }
        });
        sources
    }

    /// Says which pipelines are asked about.
    pub(super) fn want(&self, rules: &Rules, reports: &[MemberReport]) {
        let mut wanted = BTreeMap::new();
        for rule in rules.notices.iter().filter(|rule| rule.condition.asks_source()) {
            let every = match rule.condition {
                Condition::Behind(limit) => (limit / 4).clamp(OFTEN, SELDOM),
                _ => SELDOM / 3,
            };
            for report in reports.iter().filter(|report| rule.is_about(&report.pipeline)) {
                let known = wanted.entry(report.pipeline.clone()).or_insert(every);
                *known = every.min(*known);
            }
        }
        self.lock().wanted = wanted;
    }

    /// Adds what the source has told. `behind_since` is when the pipeline last stopped having read everything: where the source does
    /// not tell how old events are, what is unread is taken to be as old as that.
    pub(super) fn add_to(&self, seen: &mut Observed, pipeline: &str, behind_since: Option<i64>, now: i64) {
        let Some(behind) = self.lock().known.get(pipeline).copied().filter(|known| now - known.at < STALE) else {
            return;
        };
        seen.events_behind = behind.events;
        seen.behind = match (behind.any, behind.oldest.or(behind_since)) {
            (false, _) => Some(Duration::ZERO),
            (true, Some(at)) => Some(Duration::from_micros(u64::try_from(now - at).unwrap_or(0))),
            (true, None) => None,
        };
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn ask(root: &Path, name: &str) -> Outcome<Behind> {
    let project = Project::need(Some(root))?.asking(TableSource::Never);
    let pipeline = project.pipeline(name)?;
    let ledger = ledgers::open(&project.root, &project.config.ledger)?;
    let standings = standings(&project, &pipeline, ledger.as_ref())?;
    let sums = standings.iter().map(Standing::behind).collect::<Vec<_>>();
    let events = sums.iter().try_fold(0_u64, |sum, (events, _)| Some(sum.saturating_add((*events)?)));
    let any =
        sums.iter().any(|(events, bytes)| events.unwrap_or(0) > 0 || (events.is_none() && bytes.unwrap_or(0) > 0));
    let oldest = standings.iter().flat_map(|standing| &standing.states).filter_map(|state| state.oldest_unread).min();
    Ok(Behind { at: times::now(), events, oldest, any })
}
