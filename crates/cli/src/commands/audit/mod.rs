//! `sluice audit`: compares the mirrors of a pipeline with the tables that they follow.

mod reload;
mod show;

use std::sync::Arc;
use std::time::{Duration, Instant};

use sluice_core::audit::{Audited, Mirror, Side, audit as compare};
use sluice_core::batch::LaneId;
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::Ledger;
use sluice_core::names;
use sluice_core::run::{RunLimit, Stop};

use crate::args::{Arguments, AuditArgs, OutputKind};
use crate::crew::one::{Seen, refuse_mistakes, refuse_uncertain, run_and_renew};
use crate::exit::Exit;
use crate::output;
use crate::progress::Counting;
use crate::project::{LoadedPipeline, Project, TableSource};
use crate::signals;

/// How long to wait before asking again whether something has landed.
const AGAIN: Duration = Duration::from_millis(200);

/// How often the count of rows is shown.
const SHOWN: u64 = 1_000;

/// One mirror and what was found.
pub(super) struct Compared<'p> {
    pub mirror: Mirror<'p>,
    pub found: Audited,
}

pub(crate) fn audit(arguments: &Arguments, args: &AuditArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?.asking(TableSource::Now);
    let pipeline = project.pipeline(&args.pipeline)?;
    refuse_mistakes(&project, &pipeline)?;
    refuse_uncertain(&pipeline)?;
    let ledger: Arc<dyn Ledger> = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let split = project.pipeline(&args.pipeline)?.for_looking();
    let (mirrors, left_out) = chosen(&split, args)?;
    let mut waiting = Waiting { project: &project, pipeline: &pipeline, ledger: ledger.as_ref(), args };
    let around = project.surroundings();
    split.plan.read_secrets(around.secrets.as_ref())?;
    let mut compared = Vec::new();
    for mirror in mirrors {
        let counting = Counting::new("rows compared");
        let mut reading = |side: Side, rows: u64| {
            if side == Side::Source && rows.is_multiple_of(SHOWN) {
                counting.at(rows);
            }
        };
        let event = mirror.arrival.event;
        let found = compare(&mirror, &around, &mut |place| waiting.has_landed(event, place), &mut reading);
        counting.finish();
        compared.push(Compared { found: found?, mirror });
    }
    let name = &split.plan.pipeline;
    if arguments.output == OutputKind::Text {
        output::print(&show::as_text(name, &compared, &left_out, args));
    }
    let is_same = compared.iter().all(|c| c.found.is_same() && c.found.changing == 0);
    let again = match args.reload && !is_same {
        true => reload::reload(arguments, args, &project, &pipeline, ledger.as_ref(), &compared),
        false => Ok(Vec::new()),
    };
    if arguments.output == OutputKind::Json {
        show::as_json(name, &compared, &left_out, again.as_deref().unwrap_or_default());
    }
    again.map(|_| if is_same { Exit::Fine } else { Exit::Findings })
}

/// A landing that is not compared, and why.
pub(super) type LeftOut = (String, String);

/// The mirrors that are asked for, and those that cannot be compared.
fn chosen<'p>(split: &'p LoadedPipeline, args: &AuditArgs) -> Outcome<(Vec<Mirror<'p>>, Vec<LeftOut>)> {
    let all = Mirror::of(&split.plan);
    let name = &split.plan.pipeline;
    if all.is_empty() {
        return Err(Failure::new(FailureKind::Configuration, format!("{name} has no mirror of a table to compare"))
            .with_help(format!(
                "`audit` compares landings with mode = \"mirror\" whose events arrive from a change feed; `sluice ledger {name}` \
                 shows whether the counts of other pipelines balance"
            )));
    }
    let labels: Vec<String> = all.iter().map(|(landing, _)| landing.label.clone()).collect();
    if let Some(unknown) = args.landing.iter().find(|wanted| !labels.contains(wanted)) {
        let help = names::remedy(unknown, "mirrors", labels.iter().map(String::as_str));
        let failure = Failure::new(FailureKind::Configuration, format!("{name} has no mirror `{unknown}`"));
        return Err(failure.with_help(help.unwrap_or_else(|| format!("it has {}", labels.join(", ")))));
    }
    let (mut mirrors, mut left_out) = (Vec::new(), Vec::new());
    for (landing, mirror) in all {
        if !args.landing.is_empty() && !args.landing.contains(&landing.label) {
            continue;
        }
        match mirror {
            Ok(mirror) => mirrors.push(mirror),
            Err(why) => left_out.push((landing.label.clone(), why)),
        }
    }
    Ok((mirrors, left_out))
}

/// Waits until what the source has already has landed.
struct Waiting<'a> {
    project: &'a Project,
    pipeline: &'a LoadedPipeline,
    ledger: &'a dyn Ledger,
    args: &'a AuditArgs,
}

impl Waiting<'_> {
    fn has_landed(&mut self, event: usize, place: Position) -> Outcome<bool> {
        let plan = &self.pipeline.plan;
        let arrival = plan.arrivals.iter().find(|a| a.events().any(|e| e == event));
        let arrival = arrival.ok_or_else(|| Failure::internal("an event of a change feed has no arrival"))?;
        let intake = arrival.view(&self.project.surroundings())?;
        let started = Instant::now();
        let mut sealed: Option<Vec<(LaneId, u64)>> = None;
        loop {
            let known = self.ledger.positions(&plan.pipeline, &arrival.label)?;
            if sealed.is_none() && known.iter().any(|known| intake.has_landed(known, place)) {
                // Positions move when a batch is sealed, before it lands.
                sealed = Some(self.unsettled()?);
            }
            if let Some(sealed) = &mut sealed {
                let still = self.unsettled()?;
                sealed.retain(|batch| still.contains(batch));
                if sealed.is_empty() {
                    return Ok(true);
                }
            }
            if self.ledger.holder(&plan.pipeline)?.is_none() {
                return self.catch_up();
            }
            if started.elapsed() > Duration::from_secs(self.args.wait) {
                return Ok(false);
            }
            std::thread::sleep(AGAIN);
        }
    }

    /// Batches that are sealed and have not settled.
    fn unsettled(&self) -> Outcome<Vec<(LaneId, u64)>> {
        let unfinished = self.ledger.unfinished(&self.pipeline.plan.pipeline)?;
        Ok(unfinished.into_iter().map(|(sealed, _)| (sealed.identity.lane, sealed.identity.number)).collect())
    }

    /// Runs the pipeline until it has caught up, where that is wanted: what the source had when it began has landed then.
    fn catch_up(&self) -> Outcome<bool> {
        if !self.args.catch_up {
            return Ok(false);
        }
        let stop = Arc::new(Stop::new());
        signals::stop_on_signals(&stop);
        let until = RunLimit { caught_up: true, batches: None, adopt: false };
        let pipeline = self.project.pipeline(&self.args.pipeline)?;
        let (_, report) = run_and_renew(self.project, pipeline, until, &stop, Seen::default(), &|| false);
        let report = report?;
        report.limit.map_or(Ok(report.caught_up), Err)
    }
}
