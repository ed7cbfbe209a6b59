//! The way of events through a pipeline: from records to rows, then from station to station, into the landings.
//!
//! This is the only place that walks a plan. Run, replay, retry and rehearsal differ in their [`FlowSink`] alone, which sees
//! what each station did; so a rehearsal cannot disagree with the run that follows.

mod arrival;
mod walk;

pub use arrival::{ArrivalFlow, Arrived};
pub use walk::{Arriving, FlowSink, Passed, Walk};

use crate::plan::{Plan, Transform};

/// What a station gives its rows to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Output {
    /// A landing, by its place in the plan.
    Landing(usize),
    /// An event that is made, by its place in the plan.
    Event(usize),
}

/// One station: it takes the rows of an event.
#[derive(Clone, Copy, Debug)]
pub struct Station<'a> {
    /// Its name: the label of a landing, or the name of a made event.
    pub name: &'a str,
    /// What it does with each row.
    pub transform: &'a Transform,
    /// Where its rows go.
    pub output: Output,
}

/// The stations that take the rows of an event, in order: its landings, then the events that are made of it.
pub fn stations_of(plan: &Plan, event: usize) -> impl Iterator<Item = Station<'_>> {
    let event = &plan.events[event];
    let landings = event.landings.iter().map(|place| {
        let landing = &plan.landings[*place];
        Station { name: &landing.label, transform: &landing.transform, output: Output::Landing(*place) }
    });
    let made = event.makes.iter().map(|(made, transform)| Station {
        name: &plan.events[*made].name,
        transform,
        output: Output::Event(*made),
    });
    landings.chain(made)
}

/// The names of all stations in the order of the plan: each event, then its landings.
pub fn station_names(plan: &Plan) -> Vec<String> {
    let of = |event: &crate::plan::EventPlan| {
        let landings = event.landings.iter().map(|i| plan.landings[*i].label.clone());
        std::iter::once(event.name.clone()).chain(landings).collect::<Vec<_>>()
    };
    plan.events.iter().flat_map(of).collect()
}
