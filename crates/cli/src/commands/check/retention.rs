//! Sources that forget events sooner than the stations that remember them.

use std::collections::HashMap;

use sluice_core::config::EventConfig;
use sluice_core::plan::Plan;
use sluice_core::problem::{Place, Problem, Problems};
use sluice_core::state::StatePlan;
use sluice_core::units::show_micros;

use crate::project::{LoadedPipeline, Project};

/// Warns of stations that remember events for longer than their source retains them.
pub(super) fn look(project: &Project, pipeline: &LoadedPipeline, found: &mut Problems) {
    let plan = &pipeline.plan;
    let mut known = HashMap::new();
    for (event, state) in plan.remembering() {
        let Some(span) = state.span().filter(|_| !matches!(state, StatePlan::Reference(_))) else { continue };
        for arrival in plan.arrivals_of(event) {
            let retention = *known.entry(arrival).or_insert_with(|| retention(project, plan, arrival));
            let Some(retention) = retention.filter(|retention| *retention < span) else { continue };
            let config = pipeline.config.events.iter().find(|e| e.name == plan.events[event].name);
            let Some(place) = config.and_then(place_of) else { continue };
            let message = format!(
                "`{}` remembers events for up to {}, and the source of `{}` retains them for {}",
                plan.events[event].name,
                show_micros(span),
                plan.events[plan.arrivals[arrival].event].name,
                show_micros(retention)
            );
            found.add(Problem::warning("place.retention", message, place).with_help(
                "after a change of this event its state cannot be built again from the source; raise the topic's retention",
            ));
        }
    }
}

/// How long the source of an arrival retains events, in microseconds; None where it retains them for ever, or does not say.
fn retention(project: &Project, plan: &Plan, arrival: usize) -> Option<i64> {
    let view = plan.arrivals[arrival].view(&project.surroundings()).ok()?;
    view.states(&[]).ok()?.iter().filter_map(|state| state.retention).min()
}

/// Where a file says what an event remembers.
pub(super) fn place_of(config: &EventConfig) -> Option<Place> {
    let made = config.made.as_ref()?;
    let key = ["once", "window", "join", "reference"].into_iter().find(|key| made.options.is_set(key))?;
    Some(made.options.place_of(key))
}
