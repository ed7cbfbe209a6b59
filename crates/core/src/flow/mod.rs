//! The way of events through a pipeline: from records to rows, then from station to station, into the landings.
//!
//! This is the only place that walks a plan. Run, replay, retry and rehearsal differ in their [`FlowSink`] alone, which sees
//! what each station did; so a rehearsal cannot disagree with the run that follows.

mod arrival;
mod fixed;
mod made;
mod remembered;
mod unfold;
mod walk;

pub use arrival::{ArrivalFlow, Arrived, LaneFlow};
pub use fixed::{FixedTime, LateEvents};
pub use remembered::{Ending, Memory, MemorySink, Remembered, Waiting, event_times};
pub use unfold::Unfold;
pub use walk::{Arriving, FlowSink, Passed, Walk};

use crate::plan::{Plan, Transform};

/// What a station gives its rows to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Output {
    /// A landing, by its place in the plan.
    Landing(usize),
    /// An event that is made, by its place in the plan.
    Event(usize),
    /// A station that remembers, and makes an event of what it takes, by the event's place in the plan.
    State(usize),
}

/// One station: it takes the rows of an event.
#[derive(Clone, Copy, Debug)]
pub struct Station<'a> {
    /// Its name: the label of a landing, or the name of a made event.
    pub name: &'a str,
    /// The list whose elements become rows before that.
    pub unfold: Option<&'a Unfold>,
    /// What it does with each row.
    pub transform: &'a Transform,
    /// Where its rows go.
    pub output: Output,
    /// Of a join, the side that its rows come from; else 0.
    pub side: usize,
}

/// The stations that take the rows of an event, in order: its landings, then the events that are made of it.
pub fn stations_of(plan: &Plan, event: usize) -> impl Iterator<Item = Station<'_>> {
    let event = &plan.events[event];
    let landings = event.landings.iter().map(|place| {
        let landing = &plan.landings[*place];
        let (name, transform) = (landing.label.as_str(), &landing.transform);
        Station { name, unfold: None, transform, output: Output::Landing(*place), side: 0 }
    });
    let made = event.makes.iter().map(|making| Station {
        name: &plan.events[making.event].name,
        unfold: making.unfold.as_ref(),
        transform: &making.transform,
        output: match making.state {
            None => Output::Event(making.event),
            Some(_) => Output::State(making.event),
        },
        side: making.side,
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
