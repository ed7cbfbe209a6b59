//! What stations remember: open windows, how far time has come, and which partition is the slowest.

use serde_json::{Value, json};
use sluice_core::batch::LaneId;
use sluice_core::failure::Outcome;
use sluice_core::flow::Memory;
use sluice_core::ledger::Ledger;
use sluice_core::plan::{Meeting, Plan};
use sluice_core::state::{LaneState, Standing, StatePlan, StateSize, TimeReached};
use sluice_core::units::{show_many, show_size};
use sluice_core::values::time::show_timestamp;

use crate::output::problems::wrap;
use crate::output::style;
use crate::output::table::screen_width;

enum StationKind {
    Keys,
    Windows,
    Rows,
}

/// One station.
pub(super) struct RememberedStation {
    name: String,
    kind: StationKind,
    standing: Standing,
    size: Option<StateSize>,
}

/// What the stations of a lane remember.
#[derive(Default)]
pub(super) struct Remembered {
    stations: Vec<RememberedStation>,
    reached: TimeReached,
    /// Why what is kept cannot be read.
    wrong: Option<String>,
}

/// What the stations remember that events of these arrivals go through. They have one lane.
pub(super) fn look(plan: &Plan, meeting: &Meeting<'_>, ledger: &dyn Ledger) -> Outcome<Remembered> {
    let events = meeting.events();
    if !events.iter().any(|event| plan.feeds_state(*event)) {
        return Ok(Remembered::default());
    }
    let lane = LaneId::new(&meeting.first().label, 0);
    let state = LaneState { ledger, pipeline: &plan.pipeline, lane: lane.clone() };
    let memory = match Memory::open(plan, &meeting.arrivals, Box::new(state)) {
        Ok(Some(memory)) => memory,
        Ok(None) => return Ok(Remembered::default()),
        Err(failure) => return Ok(Remembered { wrong: Some(failure.message), ..Remembered::default() }),
    };
    let sizes = ledger.state_sizes(&plan.pipeline)?;
    let (stations, reached) = memory.standing();
    let one = |(name, plan, standing): (&str, &StatePlan, Standing)| RememberedStation {
        name: name.to_string(),
        kind: match plan {
            StatePlan::Once(_) => StationKind::Keys,
            StatePlan::Window(_) => StationKind::Windows,
            StatePlan::Join(_) | StatePlan::Reference(_) => StationKind::Rows,
        },
        standing,
        size: sizes.iter().find(|s| s.lane == lane && s.station == name).cloned(),
    };
    Ok(Remembered { stations: stations.into_iter().map(one).collect(), reached, wrong: None })
}

/// Columns before what is said of a station.
const INDENT: usize = 13;

impl Remembered {
    pub(super) fn as_text(&self) -> String {
        let mut out = String::new();
        let mut line = |name: &str, text: String| out.push_str(&format!("    {name:<9}{text}\n"));
        if let Some(wrong) = &self.wrong {
            line("", style::bad(&format!("! {wrong}")));
        }
        if let (Some(newest), Some((time, partition))) = (self.reached.newest, &self.reached.slowest) {
            let slowest = match *time == newest {
                true => String::new(),
                false => format!("; {partition} has come to {}", to_the_second(*time)),
            };
            line("time", format!("{}{slowest}", to_the_second(newest)));
        }
        for station in &self.stations {
            wrap(&station.as_text(), screen_width().saturating_sub(INDENT), 0)
                .into_iter()
                .for_each(|part| line("", part));
        }
        out
    }

    pub(super) fn as_json(&self) -> Value {
        let stations = self.stations.iter().map(|s| {
            json!({
                "station": s.name,
                "windows": s.standing.windows,
                "groups": s.standing.groups,
                "events": s.standing.events,
                "waiting": s.standing.waiting,
                "closed": s.standing.closed,
                "keys": s.size.as_ref().map_or(0, |size| size.keys),
                "bytes": s.size.as_ref().map_or(0, |size| size.bytes),
            })
        });
        json!({
            "stations": stations.collect::<Vec<_>>(),
            "newest": self.reached.newest,
            "slowest": self.reached.slowest.as_ref().map(|(time, partition)| json!({ "partition": partition, "newest": time })),
            "wrong": self.wrong,
        })
    }
}

impl RememberedStation {
    fn as_text(&self) -> String {
        let size = self.size.as_ref().map_or(String::new(), |s| format!(" ({})", show_size(s.bytes)));
        let Standing { windows, groups, events, waiting, closed } = self.standing;
        let up_to = |what: &str| closed.map_or(String::new(), |end| format!("; {what} {}", to_the_second(end)));
        let what = match self.kind {
            StationKind::Windows => {
                let closed = up_to("closed up to");
                let open = format!("{} open, {}", show_many(windows, "window"), show_many(groups, "group"));
                format!("{open}, {}{size}{closed}", show_many(events, "event"))
            }
            StationKind::Rows => {
                let wait = match waiting {
                    0 => String::new(),
                    1 => ", 1 event waits for its row".into(),
                    n => format!(", {} wait for their rows", show_many(n, "event")),
                };
                format!("{} remembered{size}{wait}{}", show_many(events, "row"), up_to("takes events from"))
            }
            StationKind::Keys => {
                format!("{} remembered{size}", show_many(self.size.as_ref().map_or(0, |s| s.keys), "key"))
            }
        };
        format!("{}: {what}", self.name)
    }
}

/// A moment without the fractions of its second.
fn to_the_second(micros: i64) -> String {
    show_timestamp(micros.div_euclid(1_000_000).saturating_mul(1_000_000))
}
