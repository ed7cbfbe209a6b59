//! `sluice replay`: read a range again, without duplicates.

use std::sync::Arc;
use std::time::Instant;

use serde_json::json;
use sluice_core::batch::{LaneId, Range, Readings, first_of, own_partition};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Mark;
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Ledger};
use sluice_core::names;
use sluice_core::plan::Plan;
use sluice_core::reject::REJECTS;
use sluice_core::run::Stop;
use sluice_core::run::rebuild::{self, LaneRebuild};
use sluice_core::run::replay::{
    Portion, ReplayReport, ReplayWork, is_left_out, refuse_left_out, replay as read_again, replay_lock,
};
use sluice_core::state::NEVER;
use sluice_core::units::{show_count, show_duration, show_many, show_size};
use sluice_core::values::time::show_timestamp;

use crate::args::{Arguments, OutputKind, ReplayArgs};
use crate::confirm::confirm;
use crate::crew::one::{Seen, refuse_mistakes, refuse_uncertain};
use crate::exit::Exit;
use crate::output::problems::wrap;
use crate::output::table::{Align, Table, screen_width};
use crate::output::times::second;
use crate::output::{self, style};
use crate::progress::RunProgress;
use crate::project::{LoadedPipeline, Project};
use crate::signals;

/// What would be read again, and where it would land.
struct ReplayPlan {
    batches: Vec<BatchRecord>,
    /// What is read of each.
    portions: Vec<Portion>,
    /// Lanes whose batches go through stations that remember.
    rebuilds: Vec<LaneRebuild>,
    all: Vec<BatchRecord>,
    into: Vec<usize>,
    what: String,
}

impl ReplayPlan {
    /// The readings of the batches that hold rows in a landing now.
    fn standing(&self, label: &str) -> Vec<&BatchRecord> {
        let readings = Readings::new(&self.all);
        self.batches.iter().flat_map(|b| readings.in_landing(&first_of(b), label)).collect()
    }
}

pub(crate) fn replay(arguments: &Arguments, args: &ReplayArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let pipeline = project.pipeline(&args.pipeline)?;
    refuse_mistakes(&project, &pipeline)?;
    refuse_uncertain(&pipeline)?;
    let name = &pipeline.config.name;
    let ledger = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _lock = ledger.lock(&replay_lock(name))?;
    let asked = asked(args, &project, &pipeline, ledger.as_ref())?;
    if arguments.output == OutputKind::Text || args.plan {
        match arguments.output {
            OutputKind::Text => output::print(&plan_text(name, &pipeline.plan, &asked)),
            OutputKind::Json => output::json("replay-plan", plan_json(name, &pipeline.plan, &asked)),
        }
    }
    if args.plan {
        return Ok(Exit::Fine);
    }
    if !confirm("read them again?", args.yes)? {
        output::note("nothing was read again\n");
        return Ok(Exit::Fine);
    }
    let work = ReplayWork { portions: &asked.portions, into: &asked.into, what: &asked.what, reason: &args.reason };
    execute(arguments, &project, &pipeline, ledger.as_ref(), &work)
}

/// Reads portions again and reports. The caller has locked the replays.
pub(super) fn execute(
    arguments: &Arguments,
    project: &Project,
    pipeline: &LoadedPipeline,
    ledger: &dyn Ledger,
    work: &ReplayWork<'_>,
) -> Outcome<Exit> {
    let name = &pipeline.config.name;
    let stop = Arc::new(Stop::new());
    signals::stop_on_signals(&stop);
    let progress = RunProgress::new(name, Seen::default());
    let started = Instant::now();
    let report = read_again(&pipeline.plan, &project.surroundings(), ledger, work, &stop, &progress);
    progress.finish();
    let report = report?;
    match arguments.output {
        OutputKind::Json => output::json(
            "replay",
            json!({
                "pipeline": name, "number": report.number, "what": work.what, "batches": report.batches,
                "read": report.read, "landed": report.landed, "rejected": report.rejected,
                "stopped": report.stopped, "seconds": started.elapsed().as_secs_f64(),
            }),
        ),
        OutputKind::Text => {
            let mut text = done(&report);
            text.push_str(&format!(" in {}\n", show_duration(started.elapsed())));
            output::note(&text);
        }
    }
    Ok(if report.stopped { Exit::Interrupted } else { Exit::Fine })
}

fn done(report: &ReplayReport) -> String {
    let mut text = format!(
        "replay {}: {} read again in {}, {} landed",
        report.number,
        show_many(report.read, "event"),
        show_many(report.batches, "batch"),
        show_many(report.landed, "row"),
    );
    if report.rejected > 0 {
        text.push_str(&format!(", {} rejected", show_count(report.rejected)));
    }
    if report.stopped {
        text.push_str(", stopped before the end; what was done stays");
    }
    text
}

fn wrong(message: impl Into<String>, help: impl Into<String>) -> Failure {
    Failure::new(FailureKind::Configuration, message).with_help(help)
}

fn asked(args: &ReplayArgs, project: &Project, pipeline: &LoadedPipeline, ledger: &dyn Ledger) -> Outcome<ReplayPlan> {
    let plan = &pipeline.plan;
    let all = ledger.batches(&plan.pipeline, BatchQuery::default())?;
    let is_first =
        |b: &&BatchRecord| matches!(b.state, BatchState::Settled | BatchState::Adopted) && !b.lane.is_out_of_order();
    let in_lane = |b: &&BatchRecord| args.lane.as_ref().is_none_or(|lane| b.lane.as_str() == lane);
    if let Some(lane) = &args.lane
        && all.iter().all(|b| b.lane.as_str() != lane)
    {
        let lanes: Vec<&str> = all.iter().map(|b| b.lane.as_str()).collect();
        let help = names::remedy(lane, "lanes", lanes.iter().copied()).unwrap_or_else(|| "see `sluice ledger`".into());
        return Err(wrong(format!("there is no lane `{lane}`"), help));
    }
    let (wanted, what) = wanted(args, project, pipeline)?;
    let batches: Vec<BatchRecord> =
        all.iter().filter(is_first).filter(in_lane).filter(|b| wanted.takes(b)).cloned().collect();
    if batches.is_empty() {
        return Err(wrong(
            format!("no settled batch of {} holds {what}", plan.pipeline),
            format!("see which there are: sluice ledger {}", plan.pipeline),
        ));
    }
    let into = into(args, plan, &batches, &all)?;
    let what = match &args.landing {
        Some(landing) => format!("{what} into {landing}"),
        None => what,
    };
    let mut batches = batches;
    let rebuilds = rebuild::rebuilds(plan, &all, &batches, &into)?;
    for lane in &rebuilds {
        let is_new = |batch: &BatchRecord| !batches.iter().any(|b| (&b.lane, b.number) == (&batch.lane, batch.number));
        let between: Vec<BatchRecord> = lane.batches.iter().filter(|b| is_new(b)).cloned().collect();
        batches.extend(between);
    }
    batches.sort_by_key(|batch| batch.opened);
    let portions: Vec<Portion> = batches.iter().map(|batch| Portion::of_batch(plan, batch)).collect();
    refuse_left_out(plan, &portions, &into)?;
    Ok(ReplayPlan { batches, portions, rebuilds, all, into, what })
}

/// Which batches are asked for.
enum Wanted {
    Numbers(u64, u64),
    Ranges(Vec<Range>),
}

impl Wanted {
    fn takes(&self, batch: &BatchRecord) -> bool {
        let overlap = |a: &Range, b: &Range| {
            own_partition(&a.partition) == own_partition(&b.partition) && a.from < b.to && b.from < a.to
        };
        match self {
            Self::Numbers(first, last) => (*first..=*last).contains(&batch.number),
            Self::Ranges(ranges) => ranges.iter().any(|w| batch.ranges.0.iter().any(|r| overlap(w, r))),
        }
    }
}

fn wanted(args: &ReplayArgs, project: &Project, pipeline: &LoadedPipeline) -> Outcome<(Wanted, String)> {
    let has_time = args.since.is_some() || args.until.is_some();
    let ways = [args.batches.is_some(), !args.range.is_empty(), has_time].into_iter().filter(|w| *w).count();
    if ways != 1 {
        return Err(wrong(
            "no batches or ranges given",
            "use --batches 12-18, --range PARTITION=FROM..TO, or --since MOMENT with or without --until MOMENT",
        ));
    }
    if let Some(text) = &args.batches {
        let (first, last) = numbers(text)?;
        return Ok((Wanted::Numbers(first, last), format!("batches {text}")));
    }
    if has_time {
        let ranges = by_time(args, project, pipeline)?;
        let show = |m: Option<i64>, otherwise: &str| m.map_or(otherwise.to_string(), show_timestamp);
        let what = format!("events from {} to {}", show(args.since, "the beginning"), show(args.until, "the end"));
        return Ok((Wanted::Ranges(ranges), what));
    }
    let ranges = args.range.iter().map(|text| range(text)).collect::<Outcome<Vec<_>>>()?;
    Ok((Wanted::Ranges(ranges), args.range.join(", ")))
}

/// `17`, `12-18` or `12-`, both ends included.
pub(super) fn numbers(text: &str) -> Outcome<(u64, u64)> {
    let bad = || wrong(format!("`{text}` is not a range of batches"), "write 17, 12-18 or 12-");
    let number = |t: &str, otherwise: u64| match t.trim() {
        "" => Ok(otherwise),
        t => t.parse::<u64>().map_err(|_| bad()),
    };
    match text.split_once('-') {
        None => number(text, 0).and_then(|n| if n == 0 { Err(bad()) } else { Ok((n, n)) }),
        Some((first, last)) => Ok((number(first, 1)?, number(last, u64::MAX)?)),
    }
}

/// `PARTITION=FROM..TO`, the last not included.
fn range(text: &str) -> Outcome<Range> {
    let parse = || {
        let (partition, ends) = text.rsplit_once('=')?;
        let (from, to) = ends.split_once("..")?;
        let number = |t: &str, otherwise: u64| if t.is_empty() { Some(otherwise) } else { t.parse().ok() };
        let (from, to) = (number(from, 0)?, number(to, u64::MAX)?);
        let (from, to) = (Position::at(from), Position::at(to));
        (from < to).then(|| Range { partition: partition.into(), from, to, identity: String::new() })
    };
    parse().ok_or_else(|| {
        wrong(format!("`{text}` is not a range"), "write PARTITION=FROM..TO, such as lock.passages/0=100..200")
    })
}

fn by_time(args: &ReplayArgs, project: &Project, pipeline: &LoadedPipeline) -> Outcome<Vec<Range>> {
    let around = project.surroundings();
    let mut ranges = Vec::new();
    for arrival in &pipeline.plan.arrivals {
        let intake = arrival.view(&around)?;
        let find = |mark: Mark| {
            intake.find(&mark)?.ok_or_else(|| {
                wrong(
                    format!("{} reads {}, which have no index by time", arrival.label, arrival.kind.name()),
                    "name batches instead: --batches 12-18",
                )
            })
        };
        let from = find(args.since.map_or(Mark::Earliest, Mark::Time))?;
        let to = find(args.until.map_or(Mark::Latest, Mark::Time))?;
        for start in from {
            let Some(end) = to.iter().find(|p| p.partition == start.partition) else { continue };
            if start.position < end.position {
                ranges.push(Range {
                    partition: start.partition,
                    from: start.position,
                    to: end.position,
                    identity: String::new(),
                });
            }
        }
    }
    Ok(ranges)
}

/// The landings that are written. What they hold of the batches is replaced.
fn into(args: &ReplayArgs, plan: &Plan, batches: &[BatchRecord], all: &[BatchRecord]) -> Outcome<Vec<usize>> {
    let into = match &args.landing {
        None => (0..plan.landings.len()).collect(),
        Some(wanted) => {
            let Some(landing) = plan.landings.iter().position(|l| l.label == *wanted || l.name == *wanted) else {
                let known = plan.landings.iter().flat_map(|l| [l.label.as_str(), l.name.as_str()]);
                let help = names::remedy(wanted, "landings", known)
                    .unwrap_or_else(|| "write it into the pipeline file".into());
                return Err(wrong(format!("{} has no landing `{wanted}`", plan.pipeline), help));
            };
            vec![landing]
        }
    };
    let readings = Readings::new(all);
    for landing in into.iter().map(|place| &plan.landings[*place]) {
        let in_landing = |b: &BatchRecord| readings.in_landing(&first_of(b), &landing.label);
        for batch in batches {
            if in_landing(batch).iter().any(|b| b.state == BatchState::Adopted) {
                return Err(Failure::findings(format!(
                    "{} holds batch {} of lane {}, which was adopted: the ledger does not know its rows, so they cannot \
                     be replaced",
                    landing.label, batch.number, batch.lane
                ))
                .with_help("read it into a landing that is new: --landing LANDING; write it into the pipeline file first"));
            }
        }
        let holds = batches.iter().any(|b| in_landing(b).iter().any(|b| rows_in(b, &landing.label) > 0));
        let replaces = args.landing.is_none() || holds;
        if let (true, Err(why)) = (replaces, landing.kind.can_replace(&landing.options)) {
            return Err(wrong(
                format!(
                    "{} {} in {}, where landed rows cannot be replaced: {why}",
                    landing.label,
                    if holds { "holds rows of these batches already," } else { "lands" },
                    landing.kind.name()
                ),
                "name a landing that does not hold the batches yet: --landing LANDING; write it into the pipeline file first",
            ));
        }
    }
    Ok(into)
}

fn rows_in(batch: &BatchRecord, label: &str) -> u64 {
    batch.landings.iter().filter(|l| l.landing == label).map(|l| l.rows).sum()
}

/// What a landing holds of the batches now.
fn standing(asked: &ReplayPlan, label: &str) -> (u64, u64) {
    let mut rows = 0;
    let mut files: Vec<&str> = Vec::new();
    for batch in asked.standing(label) {
        let newer = asked
            .standing(label)
            .into_iter()
            .any(|b| first_of(b) == first_of(batch) && b.opened > batch.opened && (b.whole || b.first.is_none()));
        for landing in batch.landings.iter().filter(|l| l.landing == label && !newer) {
            rows += landing.rows;
            let paths = landing.detail["files"].as_array().into_iter().flatten();
            files.extend(paths.filter_map(|f| f["path"].as_str()));
        }
    }
    files.sort_unstable();
    files.dedup();
    (rows, files.len() as u64)
}

fn lanes(batches: &[BatchRecord]) -> Vec<(LaneId, Vec<&BatchRecord>)> {
    let mut lanes: Vec<(LaneId, Vec<&BatchRecord>)> = Vec::new();
    for batch in batches {
        match lanes.iter_mut().find(|(lane, _)| *lane == batch.lane) {
            Some((_, list)) => list.push(batch),
            None => lanes.push((batch.lane.clone(), vec![batch])),
        }
    }
    lanes
}

fn plan_text(name: &str, plan: &Plan, asked: &ReplayPlan) -> String {
    // What is left out is not read.
    let expected = |batch: &BatchRecord| {
        let is_its = |portion: &&Portion| portion.first == (batch.lane.clone(), batch.number);
        asked.portions.iter().find(is_its).and_then(|portion| portion.expected).unwrap_or(batch.read)
    };
    let left_out = |batch: &BatchRecord, range: &Range| {
        let label = batch.lane.arrival_of(&range.partition).0;
        let arrival = plan.arrivals.iter().find(|arrival| arrival.label == label);
        arrival.is_some_and(|arrival| is_left_out(arrival, &batch.lane, &batch.ranges))
    };
    let mut out = format!(
        "{} · {}: {} of {} ({})\n\n",
        style::bold(name),
        asked.what,
        show_many(asked.batches.len() as u64, "batch"),
        show_many(asked.batches.iter().map(&expected).sum(), "event"),
        show_size(asked.batches.iter().map(|b| b.bytes).sum()),
    );
    let mut table = Table::new(&[
        ("lane", Align::Left),
        ("batches", Align::Left),
        ("partition", Align::Left),
        ("positions", Align::Left),
        ("events", Align::Right),
    ]);
    for (lane, batches) in lanes(&asked.batches) {
        let mut partitions: Vec<(Arc<str>, Position, Position)> = Vec::new();
        let ranges = batches.iter().flat_map(|b| b.ranges.0.iter().filter(|range| !left_out(b, range)));
        for range in ranges {
            match partitions.iter_mut().find(|(p, ..)| *p == range.partition) {
                Some((_, from, to)) => (*from, *to) = ((*from).min(range.from), (*to).max(range.to)),
                None => partitions.push((range.partition.clone(), range.from, range.to)),
            }
        }
        let (first, last) = (batches.first().map_or(0, |b| b.number), batches.last().map_or(0, |b| b.number));
        let numbers = match batches.len() as u64 {
            1 => first.to_string(),
            n if n == last - first + 1 => format!("{first}-{last}"),
            n => format!("{n} of {first}-{last}"),
        };
        let events = batches.iter().map(|b| expected(b)).sum();
        for (i, (partition, from, to)) in partitions.iter().enumerate() {
            let of_lane = |text: String| if i == 0 { text } else { String::new() };
            table.row(vec![
                of_lane(lane.to_string()),
                of_lane(numbers.clone()),
                partition.to_string(),
                format!("{from}..{to}"),
                of_lane(show_count(events)),
            ]);
        }
    }
    out.push_str(&table.render(screen_width()));
    out.push('\n');
    out.push_str(&remembered_text(&asked.rebuilds));
    let mut table = Table::new(&[
        ("landing", Align::Left),
        ("what happens", Align::Left),
        ("rows now", Align::Right),
        ("files now", Align::Right),
    ]);
    let mut labels: Vec<&str> = asked.into.iter().map(|i| plan.landings[*i].label.as_str()).collect();
    labels.push(REJECTS);
    for label in labels {
        let (rows, files) = standing(asked, label);
        let becomes = match asked.standing(label).is_empty() {
            false => "its rows of these batches are replaced",
            true => "gets the rows; it has none of these batches",
        };
        let files = if files > 0 { show_count(files) } else { String::new() };
        let rows = show_count(rows);
        table.row(vec![label.to_string(), becomes.to_string(), rows, files]);
    }
    out.push_str(&table.render(screen_width()));
    out.push_str(&format!("  {}\n", style::dim("positions stay where they are; the ledger keeps both readings")));
    out
}

/// What is read so that stations remember again what they did, and what they give.
fn remembered_text(rebuilds: &[LaneRebuild]) -> String {
    let mut lines = Vec::new();
    for LaneRebuild { lane, before, batches } in rebuilds {
        let from = reached(before.last()).map_or("the beginning".into(), |at| format!("{} UTC", second(at)));
        lines.push(match reached(batches.last()) {
            Some(to) => {
                format!("{lane}: gives again what closed while event time went from {from} to {} UTC", second(to))
            }
            None => format!("{lane}: no window had closed by then"),
        });
        if let (Some(first), Some(last)) = (before.first(), before.last()) {
            let which = match first.number == last.number {
                true => format!("batch {}", first.number),
                false => format!("batches {}-{}", first.number, last.number),
            };
            let events = show_many(before.iter().map(|b| b.read).sum(), "event");
            lines.push(format!(
                "read before them, for what was remembered then: {which} ({events}); nothing of that is replaced"
            ));
        }
    }
    let wrapped = lines.iter().flat_map(|line| wrap(line, screen_width(), 4).into_iter().enumerate());
    let mut out: String = wrapped.map(|(i, part)| format!("{}{part}\n", if i == 0 { "  " } else { "    " })).collect();
    if !out.is_empty() {
        out.push('\n');
    }
    out
}

/// How far the stations had come at the end of a batch, in microseconds since 1970.
fn reached(batch: Option<&BatchRecord>) -> Option<i64> {
    let marks = batch?.marks.as_ref()?;
    marks.stations.values().map(|mark| mark.reached).max().filter(|at| *at != NEVER)
}

fn plan_json(name: &str, plan: &Plan, asked: &ReplayPlan) -> serde_json::Value {
    let batch = |b: &BatchRecord| json!({ "lane": b.lane, "number": b.number, "read": b.read, "ranges": b.ranges });
    let landing = |label: &str| {
        let (rows, files) = standing(asked, label);
        json!({ "landing": label, "replaced": !asked.standing(label).is_empty(), "rows_now": rows, "files_now": files })
    };
    let landings: Vec<_> = asked.into.iter().map(|i| landing(&plan.landings[*i].label)).collect();
    json!({
        "pipeline": name, "what": asked.what,
        "batches": asked.batches.iter().map(batch).collect::<Vec<_>>(),
        "before": asked.rebuilds.iter().flat_map(|lane| &lane.before).map(batch).collect::<Vec<_>>(),
        "landings": landings,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("17", Some((17, 17)))]
    #[case("12-18", Some((12, 18)))]
    #[case("12-", Some((12, u64::MAX)))]
    #[case("0", None)]
    #[case("x-", None)]
    #[case("12..18", None)]
    fn batch_numbers(#[case] text: &str, #[case] expected: Option<(u64, u64)>) {
        assert_eq!(numbers(text).ok(), expected);
    }

    #[rstest]
    #[case("lock.passages/0=100..200", Some((100, 200)))]
    #[case("a=b/c.jsonl=..7", Some((0, 7)))]
    #[case("lock.passages/0=200..100", None)]
    #[case("lock.passages/0", None)]
    fn ranges(#[case] text: &str, #[case] expected: Option<(u64, u64)>) {
        assert_eq!(range(text).ok().map(|r| (r.from.major, r.to.major)), expected);
    }
}
