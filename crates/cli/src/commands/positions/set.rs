//! Setting positions: at rest, shown first, with a reason.

use serde_json::json;
use sluice_core::event::Position;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Mark, PartitionPosition, PartitionState};
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger};
use sluice_core::names;
use sluice_core::plan::Plan;
use sluice_core::units::{show_count, show_many};

use super::{Standing, standings};
use crate::args::{Arguments, OutputKind, PositionsArgs};
use crate::confirm::confirm;
use crate::exit::Exit;
use crate::output::table::{Align, Table, screen_width};
use crate::output::times::parse_moment;
use crate::output::{self, style};
use crate::project::{LoadedPipeline, Project};

/// One position that is to change.
struct Change {
    arrival: String,
    from: Option<Position>,
    to: PartitionPosition,
    /// Whether tables are loaded again.
    reloads: bool,
}

pub(super) fn set(
    arguments: &Arguments,
    args: &PositionsArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
    ledger: &dyn Ledger,
) -> Outcome<Exit> {
    let name = &pipeline.config.name;
    let Some(reason) = args.reason.as_deref().filter(|r| !r.trim().is_empty()) else {
        return Err(Failure::new(FailureKind::Configuration, "a position is set with a reason")
            .with_help("the ledger keeps the reason: --reason \"…\""));
    };
    // Locked until the change is written: nothing moves meanwhile.
    let _lock = ledger.lock(name)?;
    if !ledger.unfinished(name)?.is_empty() {
        return Err(Failure::findings(format!("{name} has sealed batches that are not finished"))
            .with_help(format!("finish them first: sluice run {name} --stop-after 1")));
    }
    let standings = standings(project, pipeline, ledger)?;
    let mut changes = Vec::new();
    for wanted in &args.set {
        gather(project, pipeline, &standings, args, wanted, &mut changes)?;
    }
    changes.retain(|c: &Change| c.reloads || c.from != Some(c.to.position));
    if changes.is_empty() {
        output::note("every position is there already; nothing was changed\n");
        return Ok(Exit::Fine);
    }
    for standing in standings.iter().filter(|s| changes.iter().any(|c| c.arrival == s.label)) {
        refuse_remembered(ledger, &pipeline.plan, &standing.label)?;
    }
    if arguments.output == OutputKind::Text {
        let batches = ledger.batches(name, BatchQuery::default())?;
        output::print(&shown(name, &changes, &batches));
    }
    if !confirm("set them?", args.yes)? {
        output::note("nothing was changed\n");
        return Ok(Exit::Fine);
    }
    for standing in &standings {
        let own: Vec<PartitionPosition> =
            changes.iter().filter(|c| c.arrival == standing.label).map(|c| c.to.clone()).collect();
        if !own.is_empty() {
            reach("positions.before");
            ledger.set_positions(name, &standing.label, &own, reason)?;
            reach("positions.after");
        }
    }
    match arguments.output {
        OutputKind::Json => {
            let one = |c: &Change| json!({ "partition": c.to.partition, "from": c.from.map(|p| p.major), "to": c.to.position.major });
            let changes: Vec<_> = changes.iter().map(one).collect();
            output::json("positions-set", json!({ "pipeline": name, "reason": reason, "changes": changes }));
        }
        OutputKind::Text => output::note(&format!(
            "{} set; the reason is in the ledger: {}\n",
            show_many(changes.len() as u64, "position"),
            style::command(&format!("sluice positions {name} --changes"))
        )),
    }
    Ok(Exit::Fine)
}

/// What one `--set` means.
fn gather(
    project: &Project,
    pipeline: &LoadedPipeline,
    standings: &[Standing],
    args: &PositionsArgs,
    wanted: &str,
    changes: &mut Vec<Change>,
) -> Outcome<()> {
    let is_asked = |partition: &str| args.of.as_deref().is_none_or(|of| partition.starts_with(of));
    if let Some((partition, position)) = wanted.rsplit_once('=') {
        let known = || standings.iter().flat_map(|s| s.states.iter().map(move |state| (s, state)));
        let Some((standing, state)) = known().find(|(_, s)| *s.partition == *partition) else {
            let failure = Failure::new(FailureKind::Configuration, format!("there is no partition `{partition}`"));
            let help = names::remedy(partition, "partitions", known().map(|(_, s)| &*s.partition));
            return Err(failure.with_help(help.unwrap_or_else(|| "look with `sluice positions PIPELINE`".into())));
        };
        let position = number(standing, state, position)?;
        let position = PartitionPosition { partition: state.partition.clone(), position, identity: String::new() };
        let around = project.surroundings();
        let arrival = standings.iter().zip(&pipeline.plan.arrivals).find(|(s, _)| s.label == standing.label);
        let position = match arrival {
            Some((_, arrival)) => arrival.view(&around)?.guard(position)?,
            None => position,
        };
        return add(standing, state, position, changes);
    }
    let mark = match wanted {
        "earliest" => Mark::Earliest,
        "latest" => Mark::Latest,
        moment => Mark::Time(parse_moment(moment).map_err(|help| {
            let message = format!("`{moment}` is not a position that can be set");
            Failure::new(FailureKind::Configuration, message)
                .with_help(format!("earliest, latest, PARTITION=POSITION, or {help}"))
        })?),
    };
    let around = project.surroundings();
    for (standing, arrival) in standings.iter().zip(&pipeline.plan.arrivals) {
        let Some(found) = arrival.view(&around)?.find(&mark)? else {
            return Err(Failure::new(
                FailureKind::Configuration,
                format!("{} reads {}, which have no index of their ends or times", standing.label, standing.kind),
            )
            .with_help("set earliest, or take a batch again with `sluice replay`"));
        };
        for position in found.into_iter().filter(|p| is_asked(&p.partition)) {
            let Some(state) = standing.states.iter().find(|s| s.partition == position.partition) else { continue };
            add(standing, state, position, changes)?;
        }
    }
    Ok(())
}

/// A position that was written as a number.
fn number(standing: &Standing, state: &PartitionState, text: &str) -> Outcome<Position> {
    let wrong = |message: String, help: String| Failure::new(FailureKind::Configuration, message).with_help(help);
    let number: u64 = text.replace(['_', ','], "").parse().map_err(|_| {
        wrong(format!("`{text}` is not a position"), "write PARTITION=NUMBER, such as lock.passages/0=1200".into())
    })?;
    if is_feed(standing) {
        return Err(wrong(
            "positions in a log cannot be set to a number".into(),
            "`--set earliest` starts again: mirrors are emptied, every table is loaded again, then followed".into(),
        ));
    }
    if standing.kind != "topics" && number != 0 {
        return Err(wrong(
            format!("a position within {} cannot be set by hand", state.partition),
            "0 reads the file again; a byte in the middle of a record would break it".into(),
        ));
    }
    let (low, high) = (state.earliest.major, state.latest.major);
    if !(low..=high).contains(&number) {
        return Err(wrong(
            format!("{} has no position {number}", state.partition),
            format!("it has {} to {}", show_count(low), show_count(high)),
        ));
    }
    Ok(Position::at(number))
}

/// Whether it is a change feed.
fn is_feed(standing: &Standing) -> bool {
    matches!(standing.kind, "postgres" | "mariadb")
}

fn add(
    standing: &Standing,
    state: &PartitionState,
    mut to: PartitionPosition,
    changes: &mut Vec<Change>,
) -> Outcome<()> {
    let known = standing.position(&state.partition);
    if standing.kind == "files" {
        // The fingerprint of the file's beginning still guards it.
        to.identity = known.map(|k| k.identity.clone()).unwrap_or_default();
    }
    changes.retain(|c| c.to.partition != to.partition || c.arrival != standing.label);
    let reloads = is_feed(standing);
    changes.push(Change { arrival: standing.label.clone(), from: known.map(|k| k.position), to, reloads });
    Ok(())
}

/// How many positions of a stretch no batch has read.
fn unread(change: &Change, from: u64, to: u64, batches: &[BatchRecord]) -> u64 {
    let own = batches.iter().flat_map(|b| b.ranges.of_arrival(&b.lane, &change.arrival).0);
    let mut read: Vec<(u64, u64)> = own
        .filter(|r| r.partition == change.to.partition)
        .map(|r| (r.from.major.max(from), r.to.major.min(to)))
        .filter(|(from, to)| from < to)
        .collect();
    read.sort_unstable();
    let (mut at, mut left) = (from, 0);
    for (begin, end) in read {
        left += begin.saturating_sub(at);
        at = at.max(end);
    }
    left + to.saturating_sub(at)
}

/// What moving a position onwards means for what stands between.
fn passed_over(between: u64, unread: u64) -> String {
    let were_read = show_many(between - unread, "position");
    match unread {
        0 => format!("{were_read} are skipped; their events were read before"),
        _ if unread == between => style::warn(&format!("{} are never read", show_many(unread, "position"))),
        _ => style::warn(&format!("{} are never read; {were_read} were read before", show_many(unread, "position"))),
    }
}

fn shown(pipeline: &str, changes: &[Change], batches: &[BatchRecord]) -> String {
    let mut table =
        Table::new(&[("partition", Align::Left), ("from", Align::Right), ("to", Align::Right), ("means", Align::Left)]);
    let mut again = false;
    for change in changes {
        let (from, to) = (change.from.map(|p| p.major), change.to.position.major);
        let means = match from {
            _ if change.reloads => style::warn("mirrors are emptied; every table is loaded again"),
            Some(from) if from > to => {
                again = true;
                style::warn(&format!("{} are read again and land again", show_many(from - to, "position")))
            }
            Some(from) => passed_over(to - from, unread(change, from, to, batches)),
            None => "reading starts here".into(),
        };
        table.row(vec![change.to.partition.to_string(), from.map_or("none".into(), show_count), show_count(to), means]);
    }
    let mut out = format!("{}\n{}", style::bold(pipeline), table.render(screen_width()));
    if again {
        out.push_str(&format!(
            "  to read again without landing twice: {}\n",
            style::command(&format!("sluice replay {pipeline}"))
        ));
    }
    out
}

/// Refuses to set the position of an arrival whose events are in the state of stations: events would count twice or never.
fn refuse_remembered(ledger: &dyn Ledger, plan: &Plan, arrival: &str) -> Outcome<()> {
    let kept = ledger.state_stations(&plan.pipeline)?;
    let lane = plan.meeting_of(arrival).map_or(arrival, |meeting| meeting.first().label.as_str());
    let is_kept = |name: &str| kept.iter().any(|(of, station)| of.arrival() == lane && station == name);
    let Some(name) = plan.remembering().map(|(event, _)| &plan.events[event].name).find(|name| is_kept(name)) else {
        return Ok(());
    };
    Err(Failure::findings(format!("`{name}` remembers the events before this position")).with_help(
        "nothing was changed: events would count twice or never. To read again, first give the made event another name, which \
         starts with an empty state",
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use sluice_core::batch::{LaneId, Range, Ranges};
    use sluice_core::ledger::BatchState;

    fn batch(from: u64, to: u64) -> BatchRecord {
        let range = Range {
            partition: "tolls/0".into(),
            from: Position::at(from),
            to: Position::at(to),
            identity: String::new(),
        };
        BatchRecord {
            lane: LaneId::new("toll.0", 0),
            number: 1,
            opened: 1,
            state: BatchState::Settled,
            read: to - from,
            bytes: 0,
            rejected: 0,
            opened_at: 0,
            sealed_at: None,
            settled_at: None,
            texts: None,
            ranges: Ranges(vec![range]),
            counts: Vec::new(),
            landings: Vec::new(),
            first: None,
            whole: false,
            replaced_by: None,
            marks: None,
        }
    }

    #[rstest]
    #[case(&[], 100)]
    #[case(&[(0, 100)], 0)]
    #[case(&[(0, 40), (30, 60)], 40)]
    #[case(&[(20, 40), (90, 200)], 70)]
    #[case(&[(200, 300)], 100)]
    fn what_a_batch_has_read_is_not_lost(#[case] read: &[(u64, u64)], #[case] expected: u64) {
        let batches: Vec<BatchRecord> = read.iter().map(|(from, to)| batch(*from, *to)).collect();
        let to =
            PartitionPosition { partition: "tolls/0".into(), position: Position::at(100), identity: String::new() };
        let change = Change { arrival: "toll.0".into(), from: Some(Position::at(0)), to, reloads: false };
        assert_eq!(unread(&change, 0, 100, &batches), expected);
    }
}
