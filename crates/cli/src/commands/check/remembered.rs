//! Stations that cannot go on with what they remember: a run would stop there.

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::ledger::Ledger as _;
use sluice_core::problem::{Problem, Problems};
use sluice_core::state::{LaneState, StateStore as _};

use super::retention::place_of;
use crate::project::{LoadedPipeline, Project};

/// Reports events whose file has changed what they remember. A ledger that cannot be read is reported by whoever needs it.
pub(super) fn look(project: &Project, pipeline: &LoadedPipeline, found: &mut Problems) {
    let plan = &pipeline.plan;
    let Ok(Some(ledger)) = SqliteLedger::open_existing(&project.ledger_path()) else { return };
    let Ok(kept) = ledger.state_stations(&plan.pipeline) else { return };
    for (event, state) in plan.remembering() {
        let name = &plan.events[event].name;
        let config = pipeline.config.events.iter().find(|e| e.name == *name);
        let Some(place) = config.and_then(place_of) else { continue };
        let refusal = kept.iter().filter(|(_, station)| station == name).find_map(|(lane, _)| {
            let store = LaneState { ledger: &ledger, pipeline: &plan.pipeline, lane: lane.clone() };
            state.refusal(name, &plan.pipeline, &store.kept(name).ok()??)
        });
        let Some(refusal) = refusal else { continue };
        let problem = Problem::error("state.changed", refusal.message, place);
        found.add(match refusal.help {
            Some(help) => problem.with_help(help),
            None => problem,
        });
    }
}
