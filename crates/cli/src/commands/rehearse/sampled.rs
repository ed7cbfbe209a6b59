//! The events of a rehearsal.

use sluice_core::event::Chunk;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Mark, Part};
use sluice_core::plan::Plan;
use sluice_core::rehearse::kept::KeptSample;
use sluice_core::rehearse::{Rehearsal, rehearse};
use sluice_core::run::Stop;
use sluice_core::sample::{TimeFilter, Window, take};

use crate::args::RehearseArgs;
use crate::output::times;
use crate::progress::CountingReader;
use crate::project::Project;

/// Which events are taken.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct SampleRequest {
    /// Those at or after this moment.
    pub since: Option<i64>,
    /// Those before this moment.
    pub until: Option<i64>,
    /// The newest, where the source can be read from its end.
    pub newest: bool,
}

impl From<&RehearseArgs> for SampleRequest {
    fn from(args: &RehearseArgs) -> Self {
        Self { since: args.since, until: args.until, newest: args.newest }
    }
}

/// Events, each chunk with the label of its arrival.
pub(crate) struct Sampled {
    chunks: Vec<(String, Chunk)>,
    /// The value of `now()`.
    now: i64,
    /// What each arrival said of itself when it was sampled; empty for kept events.
    signatures: Vec<(String, String)>,
    /// Whether there is more than was taken.
    pub more: bool,
    /// Records that were left out because their time could not be read.
    pub without_time: u64,
    /// Whether the events were kept by an earlier rehearsal.
    pub is_kept: bool,
}

impl Sampled {
    /// Takes real events of every arrival.
    pub(crate) fn take(project: &Project, plan: &Plan, args: &SampleRequest, count: u64, stop: &Stop) -> Outcome<Self> {
        let around = project.surroundings();
        let window = Window { since: args.since, until: args.until };
        let mut sampled = Self {
            chunks: Vec::new(),
            now: times::now(),
            signatures: signatures(plan),
            more: false,
            without_time: 0,
            is_kept: false,
        };
        for arrival in &plan.arrivals {
            let event = &plan.events[arrival.event];
            let filter = match (window.is_open(), &event.contract, event.time) {
                (true, _, _) => None,
                (false, Some(contract), Some(time)) => {
                    Some(TimeFilter::new(arrival.format()?.as_ref(), contract, time, window))
                }
                (false, _, _) if arrival.kind.has_messages() => Some(TimeFilter::by_broker(window)),
                (false, _, _) => {
                    return Err(Failure::new(
                        FailureKind::Configuration,
                        format!("--since and --until need the event time of `{}`", event.name),
                    )
                    .with_help(format!("name it in the pipeline file: [event.{}] time = \"FIELD\"", event.name)));
                }
            };
            let spread = if filter.is_some() { u64::MAX } else { count };
            let intake = arrival.view(&around)?;
            let part = match (args.newest, args.since) {
                (true, _) => Some(Part::Last(count)),
                (false, Some(since)) if event.time.is_none() => Some(Part::From(Mark::Time(since))),
                _ => None,
            };
            let mut reader = match part.map(|part| intake.sample_part(&part)).transpose()?.flatten() {
                Some(reader) => reader,
                None => intake.sample(spread)?,
            };
            let sample = take(&mut CountingReader::new(reader.as_mut()), count, filter, stop)?;
            sampled.more |= sample.more;
            sampled.without_time += sample.without_time;
            sampled.chunks.extend(sample.chunks.into_iter().map(|chunk| (arrival.label.clone(), chunk)));
        }
        Ok(sampled)
    }

    /// Takes the events of a kept file.
    pub(super) fn kept(plan: &Plan, kept: KeptSample) -> Outcome<Self> {
        if let Some((label, _)) = kept.chunks.iter().find(|(l, _)| !plan.arrivals.iter().any(|a| a.label == *l)) {
            return Err(Failure::new(
                FailureKind::Configuration,
                format!("the kept events arrived at `{label}`, which {} does not have", plan.pipeline),
            )
            .with_help("keep events of the pipeline as it is now: sluice rehearse PIPELINE --keep FILE"));
        }
        Ok(Self {
            chunks: kept.chunks,
            now: kept.now,
            signatures: Vec::new(),
            more: false,
            without_time: 0,
            is_kept: true,
        })
    }

    /// Whether a changed plan still reads the same events.
    pub(crate) fn serves(&self, plan: &Plan) -> bool {
        match self.is_kept {
            true => self.chunks.iter().all(|(label, _)| plan.arrivals.iter().any(|a| a.label == *label)),
            false => self.signatures == signatures(plan),
        }
    }

    /// Takes the events through a plan.
    pub(crate) fn rehearse(&self, plan: &Plan) -> Outcome<Rehearsal> {
        let place = |label: &str| plan.arrivals.iter().position(|a| a.label == label);
        rehearse(plan, self.chunks.iter().filter_map(|(label, chunk)| Some((place(label)?, chunk))), self.now)
    }
}

/// What each arrival reads, in one text.
fn signatures(plan: &Plan) -> Vec<(String, String)> {
    let of = |a: &sluice_core::plan::ArrivalPlan| {
        (a.label.clone(), format!("{}\n{}\n{}", a.connection.scheme, a.connection.target, a.options.signature()))
    };
    plan.arrivals.iter().map(of).collect()
}
