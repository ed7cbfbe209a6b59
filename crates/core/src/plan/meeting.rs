//! Arrivals that meet: events that are joined are read by one lane, so that a batch has what belongs together.

use std::collections::BTreeSet;

use super::{ArrivalPlan, Making, Plan};
use crate::batch::{LaneId, Ranges};
use crate::failure::{Failure, Outcome};

/// Arrivals that share a lane, which has the name of the first of them. Most are alone.
pub struct Meeting<'p> {
    /// The arrivals.
    pub arrivals: Vec<&'p ArrivalPlan>,
}

impl<'p> Meeting<'p> {
    /// The arrival that the lanes are named after.
    pub fn first(&self) -> &'p ArrivalPlan {
        self.arrivals[0]
    }

    /// The events that arrive, by their places in the plan.
    pub fn events(&self) -> Vec<usize> {
        self.arrivals.iter().flat_map(|arrival| arrival.events()).collect()
    }

    /// The arrivals whose events a batch of a lane has, by its ranges: they may share no lane any more.
    ///
    /// # Errors
    /// Where the pipeline does not have one of them any more.
    pub fn of_batch(plan: &'p Plan, lane: &LaneId, ranges: &Ranges) -> Outcome<Self> {
        let named: BTreeSet<&str> = ranges.0.iter().map(|range| lane.arrival_of(&range.partition).0).collect();
        let others = named.into_iter().filter(|label| *label != lane.arrival());
        let find = |label: &str| {
            let missing = || {
                Failure::findings(format!("the pipeline has no arrival {label} any more"))
                    .with_help("its events cannot be read again; bring the arrival back into the pipeline file")
            };
            plan.arrivals.iter().find(|arrival| arrival.label == label).ok_or_else(missing)
        };
        let arrivals = std::iter::once(lane.arrival()).chain(others).map(find).collect::<Outcome<_>>()?;
        Ok(Self { arrivals })
    }

    /// The arrival of a name in the ledger.
    pub fn arrival(&self, label: &str) -> Option<&'p ArrivalPlan> {
        self.arrivals.iter().copied().find(|arrival| arrival.label == label)
    }

    /// Whether rows of an arrival are looked up for others: they are read before them.
    pub fn is_reference(&self, plan: &Plan, arrival: &ArrivalPlan) -> bool {
        let below = plan.events_below(&arrival.events().collect::<Vec<_>>());
        below.iter().any(|event| plan.events[*event].makes.iter().any(Making::is_looked_up))
    }

    /// The landings that rows of the arrivals can reach, by their places.
    pub fn landings(&self, plan: &Plan) -> Vec<usize> {
        let all: BTreeSet<usize> = self.events().into_iter().flat_map(|event| plan.landings_of(event)).collect();
        all.into_iter().collect()
    }
}

impl Plan {
    /// All arrivals, those together that share a lane.
    pub fn meetings(&self) -> Vec<Meeting<'_>> {
        let mut groups: Vec<BTreeSet<usize>> = (0..self.arrivals.len()).map(|place| [place].into()).collect();
        for event in self.joins() {
            let arrivals = self.arrivals_of(event);
            let (met, apart): (Vec<_>, Vec<_>) = groups.into_iter().partition(|group| !group.is_disjoint(&arrivals));
            groups = apart;
            groups.push(met.into_iter().flatten().collect());
        }
        groups.retain(|group| !group.is_empty());
        groups.sort();
        let meeting = |group: BTreeSet<usize>| Meeting { arrivals: group.iter().map(|i| &self.arrivals[*i]).collect() };
        groups.into_iter().map(meeting).collect()
    }

    /// The arrivals that share the lane of an arrival.
    pub fn meeting_of(&self, label: &str) -> Option<Meeting<'_>> {
        self.meetings().into_iter().find(|meeting| meeting.arrival(label).is_some())
    }

    /// The events for which rows of an event are looked up, by their places, whatever columns are computed of it before.
    pub fn looked_up_by(&self, event: usize) -> Vec<usize> {
        let one = |making: &Making| match &making.state {
            None => self.looked_up_by(making.event),
            Some(_) if making.is_looked_up() => vec![making.event],
            Some(_) => Vec::new(),
        };
        self.events[event].makes.iter().flat_map(one).collect()
    }

    /// The events that are made of two others.
    fn joins(&self) -> impl Iterator<Item = usize> {
        self.events.iter().flat_map(|event| &event.makes).filter(|making| making.side > 0).map(|making| making.event)
    }

    /// The arrivals that an event is made of, by their places.
    pub fn arrivals_of(&self, event: usize) -> BTreeSet<usize> {
        let own = self.arrivals.iter().enumerate().filter(|(_, arrival)| arrival.events().any(|e| e == event));
        let mut found: BTreeSet<usize> = own.map(|(place, _)| place).collect();
        for (parent, plan) in self.events.iter().enumerate() {
            if plan.makes.iter().any(|making| making.event == event) {
                found.extend(self.arrivals_of(parent));
            }
        }
        found
    }
}
