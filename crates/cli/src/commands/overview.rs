//! `sluice` alone: pipelines, their state, and what to do next.

use serde_json::json;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::failure::Outcome;
use sluice_core::kinds::Behind;
use sluice_core::ledger::{Holder, Ledger, PipelineTotals, RunEnd};
use sluice_core::units::{show_count, show_many, show_size};

use crate::args::{Arguments, OutputKind};
use crate::background::{self, Answer, Place};
use crate::crew::MemberReport;
use crate::exit::Exit;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style, times};
use crate::pipeline_state::PipelineState;
use crate::project::{LoadedPipeline, Project};

/// One pipeline as it is now.
struct State {
    name: String,
    good: bool,
    holder: Option<Holder>,
    totals: PipelineTotals,
    /// Whether it reads change feeds.
    is_feed: bool,
    behind: Result<Behind, String>,
    /// Why the last run ended before it was asked to.
    end: Option<RunEnd>,
    /// How the background process of the project has it.
    background: Option<MemberReport>,
}

pub(crate) fn overview(arguments: &Arguments) -> Outcome<Exit> {
    let project = match arguments.project.as_deref() {
        // A folder that was named must hold a project.
        Some(named) => Project::need(Some(named))?,
        None => match Project::find(None)? {
            Some(project) => project,
            None => return Ok(nothing_here(arguments)),
        },
    };
    let ledger = SqliteLedger::open_existing(&project.ledger_path())?;
    let background = background::find(&project.root);
    let mut states = Vec::new();
    for pipeline in project.pipelines()? {
        states.push(state(&project, &pipeline, ledger.as_ref(), background.as_ref())?);
    }
    match arguments.output {
        OutputKind::Json => as_json(&project, &states),
        OutputKind::Text => as_text(&project, &states),
    }
    Ok(Exit::Fine)
}

fn nothing_here(arguments: &Arguments) -> Exit {
    if arguments.output == OutputKind::Json {
        output::json("overview", json!({ "project": null }));
        return Exit::Fine;
    }
    output::print(&format!(
        "There is no project here: no sluice.toml in this folder or above.\n\n  {}   make one here\n  {}   see one at work on sample data\n  {}   all commands\n",
        style::command("sluice init  "),
        style::command("sluice demo  "),
        style::command("sluice --help"),
    ));
    Exit::Fine
}

fn state(
    project: &Project,
    pipeline: &LoadedPipeline,
    ledger: Option<&SqliteLedger>,
    background: Option<&Answer>,
) -> Outcome<State> {
    let name = pipeline.config.name.clone();
    let background = background.and_then(|answer| answer.pipelines.iter().find(|p| p.pipeline == name)).cloned();
    let good = !pipeline.problems.has_errors() && !project.problems.has_errors();
    let (mut totals, mut holder, mut end) = (PipelineTotals::default(), None, None);
    if let Some(ledger) = ledger {
        totals = ledger.totals(&name)?;
        holder = ledger.holder(&name)?;
        end = ledger.last_end(&name)?;
    }
    let behind = if good { behind(project, pipeline, ledger) } else { Err("not known".into()) };
    let is_feed = pipeline.plan.arrivals.iter().any(|a| a.kind.is_feed());
    Ok(State { name, good, holder, totals, is_feed, behind, end, background })
}

/// What is left to read, or why that is unknown.
fn behind(project: &Project, pipeline: &LoadedPipeline, ledger: Option<&SqliteLedger>) -> Result<Behind, String> {
    let around = project.surroundings();
    let mut sum = Behind::default();
    for arrival in &pipeline.plan.arrivals {
        let positions = match ledger {
            Some(ledger) => ledger.positions(&pipeline.config.name, &arrival.label).map_err(|f| f.message)?,
            None => Vec::new(),
        };
        let one = arrival.view(&around).and_then(|intake| intake.behind(&positions)).map_err(|f| f.message)?;
        sum.partitions += one.partitions;
        sum.unread_partitions += one.unread_partitions;
        sum.bytes += one.bytes;
        sum.events += one.events;
        sum.misplaced += one.misplaced;
        sum.waiting += one.waiting;
    }
    Ok(sum)
}

impl State {
    fn pipeline_state(&self) -> PipelineState {
        let Self { good, holder, end, totals, .. } = self;
        PipelineState::of(*good, holder.as_ref(), end.as_ref(), totals.last_settled_at.is_some(), totals.unfinished)
            .beside(self.background.as_ref())
    }

    fn behind_text(&self) -> String {
        match &self.behind {
            Ok(behind) if behind.misplaced > 0 => {
                style::bad(&format!("{} not as in the ledger", show_many(behind.misplaced, "partition")))
            }
            Ok(behind) if behind.bytes == 0 && behind.events == 0 && behind.waiting > 0 => {
                style::warn(&format!("caught up; {} behind an open transaction", show_many(behind.waiting, "message")))
            }
            Ok(behind) if behind.bytes == 0 && behind.events == 0 => "caught up".into(),
            Ok(behind) if behind.bytes == 0 => {
                let partitions = show_many(behind.unread_partitions, "partition");
                format!("{} in {partitions}", show_many(behind.events, "event"))
            }
            Ok(behind) if self.is_feed => format!("{} of the log", show_size(behind.bytes)),
            Ok(behind) => format!("{} in {}", show_size(behind.bytes), show_many(behind.unread_partitions, "file")),
            Err(_) if !self.good => String::new(),
            Err(reason) => style::bad(reason),
        }
    }

    /// The command to type next, and why.
    fn next(&self) -> Option<(String, &'static str)> {
        let name = &self.name;
        let unread = self.behind.as_ref().is_ok_and(|b| b.bytes > 0 || b.events > 0);
        match (&self.holder, self.good) {
            (_, false) => Some(("sluice check".into(), "see what needs fixing")),
            (Some(_), _) => None,
            // It runs again by itself.
            _ if self.background.as_ref().is_some_and(|report| !report.doing.is_over()) => None,
            (None, _) if self.end.is_some() => Some((format!("sluice status {name}"), "see why it stopped")),
            (None, _) if self.behind.as_ref().is_ok_and(|b| b.misplaced > 0) => {
                Some((format!("sluice positions {name}"), "see where ledger and source do not agree"))
            }
            (None, _) if self.behind.is_err() => Some((format!("sluice check {name}"), "see what is missing")),
            (None, _) if unread || self.totals.unfinished > 0 => {
                Some((format!("sluice run {name} --until-caught-up"), "read what is there"))
            }
            (None, _) if self.totals.rejected > 0 => {
                Some((format!("sluice rejects {name}"), "see what was rejected and why"))
            }
            (None, _) => None,
        }
    }
}

fn as_text(project: &Project, states: &[State]) {
    // Where the reader is needs no words.
    let is_here = std::env::current_dir().is_ok_and(|here| here == project.root);
    let place =
        if is_here { String::new() } else { format!(" · {}", style::dim(&project.root.display().to_string())) };
    let pipelines = show_many(states.len() as u64, "pipeline");
    let mut out = format!("{} · {pipelines}{place}\n\n", style::bold(&project.config.name));
    if states.is_empty() {
        out.push_str("  no pipeline yet: make one of real events with `sluice draft PIPELINE FILE`\n");
        output::print(&out);
        return;
    }
    let mut table = Table::new(&[
        ("pipeline", Align::Left),
        ("state", Align::Left),
        ("behind by", Align::Left),
        ("landed", Align::Right),
        ("rejects", Align::Right),
        ("last batch", Align::Left),
    ]);
    for state in states {
        let rejected = match state.totals.rejected {
            0 => "0".to_string(),
            n => style::warn(&show_count(n)),
        };
        table.row(vec![
            style::bold(&state.name),
            state.pipeline_state().shown(),
            state.behind_text(),
            show_count(state.totals.landed),
            rejected,
            state.totals.last_settled_at.map(times::ago).unwrap_or_default(),
        ]);
    }
    out.push_str(&table.render(screen_width()));
    for state in states.iter().filter(|s| s.holder.is_none()) {
        if let Some(end) = &state.end {
            let why = format!("{} stopped {}: {}", state.name, times::ago(end.at), end.message);
            out.push_str(&format!("\n{} {why}\n", style::bad("!")));
        }
    }
    let next: Vec<_> = states.iter().filter_map(State::next).collect();
    if !next.is_empty() {
        out.push_str("\nnext:\n");
        let width = next.iter().map(|(c, _)| c.len()).max().unwrap_or(0);
        for (text, why) in next {
            out.push_str(&format!("  {}  {}\n", style::command(&format!("{text:width$}")), style::dim(why)));
        }
    }
    if let Some(gone) = Place::of(&project.root).gone() {
        let why = "ended without settling, for example by a kill; nothing is lost";
        let start = style::command("sluice start");
        out.push_str(&format!("\n{} the background process {} {why}: {start}\n", style::bad("!"), gone.process));
    }
    output::print(&out);
}

fn as_json(project: &Project, states: &[State]) {
    let pipelines: Vec<_> = states
        .iter()
        .map(|s| {
            json!({
                "name": s.name,
                "state": s.pipeline_state().word(),
                "good": s.good,
                "holder": s.holder,
                "totals": s.totals,
                "behind": s.behind.as_ref().ok(),
                "unreachable": s.behind.as_ref().err(),
                "last_end": s.end,
                "next": s.next().map(|(command, _)| command),
            })
        })
        .collect();
    output::json(
        "overview",
        json!({
            "project": { "name": project.config.name, "root": project.root },
            "pipelines": pipelines,
        }),
    );
}
