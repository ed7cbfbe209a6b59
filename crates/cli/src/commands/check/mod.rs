//! `sluice check`: is it right before it runs?

mod remembered;
mod retention;
mod samples;
mod tables;

use serde_json::json;
use sluice_core::failure::Outcome;
use sluice_core::kinds::Settings;
use sluice_core::plan::{FEED, Plan};
use sluice_core::problem::{Problem, Problems, Severity};
use sluice_core::state::StateCost;
use sluice_core::units::{show_count, show_many, show_size};

use crate::args::{Arguments, CheckArgs, OutputKind};
use crate::exit::Exit;
use crate::notices::unknown_pipelines;
use crate::output::table::screen_width;
use crate::output::{self, problems, style};
use crate::project::{LoadedPipeline, Project, TableSource, no_pipeline};
use samples::SampledEvent;

pub(crate) fn check(arguments: &Arguments, args: &CheckArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let project = project.asking(if args.offline { TableSource::Never } else { TableSource::Now });
    let all: Vec<LoadedPipeline> = project.pipelines()?.into_iter().map(LoadedPipeline::for_looking).collect();
    for name in &args.pipelines {
        if !all.iter().any(|p| p.config.name == *name) {
            return Err(no_pipeline(name, all.iter().map(|p| p.config.name.as_str())));
        }
    }
    let chosen: Vec<&LoadedPipeline> =
        all.iter().filter(|p| args.pipelines.is_empty() || args.pipelines.contains(&p.config.name)).collect();
    let mut found = project.problems.clone();
    let names: Vec<String> = all.iter().map(|p| p.config.name.clone()).collect();
    unknown_pipelines(&project, &names).into_iter().for_each(|problem| found.add(problem));
    let mut sampled = Vec::new();
    let mut differing = Vec::new();
    if args.apply {
        fix(&project, &chosen, args.yes)?;
    }
    for pipeline in &chosen {
        found.extend(pipeline.problems.clone());
        if !pipeline.problems.has_errors() && !project.problems.has_errors() {
            remembered::look(&project, pipeline, &mut found);
        }
        // What is there outside is of interest only once the names bind.
        if !args.offline && !pipeline.problems.has_errors() && !project.problems.has_errors() {
            let outside = outside(&project, &pipeline.plan);
            if outside.iter().any(|p| p.code.starts_with("table.")) {
                differing.extend(tables::look(&project, &pipeline.plan));
            }
            if !outside.has_errors() && args.events > 0 {
                match samples::look(&project, pipeline, args.events, &mut found) {
                    Ok(looked) => sampled.extend(looked),
                    Err(failure) => found.add(samples::unreadable(pipeline, &failure)),
                }
            }
            if !outside.has_errors() {
                retention::look(&project, pipeline, &mut found);
            }
            found.extend(outside);
        }
    }
    let found = found.into_sorted();
    match arguments.output {
        OutputKind::Json => as_json(&chosen, &found, &sampled, &differing),
        OutputKind::Text => {
            as_text(&project, &chosen, &found, &sampled);
            for one in &differing {
                output::print(&tables::show(one));
            }
        }
    }
    let wrong = found.iter().any(|p| p.severity == Severity::Error);
    Ok(if wrong { Exit::Configuration } else { Exit::Fine })
}

/// What is wrong with a pipeline, outside too.
pub(crate) fn all_problems(project: &Project, pipeline: &LoadedPipeline) -> Problems {
    let mut found = project.problems.clone();
    found.extend(pipeline.problems.clone());
    if !found.has_errors() {
        remembered::look(project, pipeline, &mut found);
        found.extend(outside(project, &pipeline.plan));
    }
    found
}

/// Runs what fixes the tables of pipelines whose files are right.
fn fix(project: &Project, chosen: &[&LoadedPipeline], yes: bool) -> Outcome<()> {
    let readable = chosen.iter().filter(|p| !p.problems.has_errors() && !project.problems.has_errors());
    let differing: Vec<_> = readable.flat_map(|p| tables::look(project, &p.plan)).collect();
    tables::apply(project, &differing, yes).map(|_| ())
}

/// What is missing outside: folders, services.
pub(crate) fn outside(project: &Project, plan: &Plan) -> Problems {
    let around = project.surroundings();
    let mut found = Problems::new();
    for arrival in &plan.arrivals {
        let settings = arrival.settings(&around);
        arrival.kind.check(&settings).into_iter().for_each(|p| found.add(p));
    }
    for landing in &plan.landings {
        let label = format!("{}.{}", plan.pipeline, landing.label);
        let settings = Settings { label, ..around.settings(&landing.connection, &landing.options) };
        landing.kind.check(&settings, landing.columns()).into_iter().for_each(|p| found.add(p));
    }
    found
}

fn is_good(pipeline: &LoadedPipeline, found: &[Problem]) -> bool {
    let here = |p: &Problem| {
        p.severity == Severity::Error
            && p.place.as_ref().is_none_or(|at| {
                at.source.name == pipeline.config.source.name || at.source.name == crate::project::PROJECT_FILE
            })
    };
    !found.iter().any(here)
}

fn as_text(project: &Project, chosen: &[&LoadedPipeline], found: &[Problem], sampled: &[SampledEvent]) {
    problems::show(found);
    if chosen.is_empty() {
        output::note(&format!(
            "{} has no pipelines yet: make one of real events with `sluice draft PIPELINE FILE`\n",
            project.config.name
        ));
    }
    for pipeline in chosen.iter().filter(|p| is_good(p, found)) {
        let plan = &pipeline.plan;
        output::print(&format!("{} {}\n", style::good("✓"), style::bold(&plan.pipeline)));
        for event in &plan.events {
            let from: Vec<String> = plan
                .arrivals
                .iter()
                .filter(|a| plan.events[a.event].name == event.name)
                .map(|a| format!("{} ({})", a.connection.name, a.kind.name()))
                .collect();
            let origin = if from.is_empty() { "made".to_string() } else { format!("from {}", from.join(", ")) };
            let fields = show_many(event.fields().len() as u64, "field");
            let looked = sampled.iter().find(|l| l.pipeline == plan.pipeline && l.event == event.name);
            let seen = looked.map_or_else(String::new, |l| format!("; {}", l.describe()));
            output::print(&format!("  {} {fields}, {origin}{seen}\n", event.name));
            if let Some((_, state)) = plan.remembering().find(|(made, _)| plan.events[*made].name == event.name) {
                for line in problems::wrap(&remembered(&state.cost()), screen_width().saturating_sub(4), 0) {
                    output::print(&format!("    {}\n", style::dim(&line)));
                }
            }
            for landing in event.landings.iter().map(|i| &plan.landings[*i]) {
                // What a feed reports of every row is not a column of anybody's.
                let from_feed = landing.columns().iter().any(|c| c.name == FEED);
                let own = landing.columns().iter().filter(|c| !from_feed || !c.name.starts_with('@'));
                let columns: Vec<(String, String)> = own.map(|c| (c.name.clone(), c.type_shown())).collect();
                output::print(&format!("    {} {} ({}):\n", style::dim("→"), landing.name, landing.kind.name()));
                output::print(&in_lines(&columns, screen_width()));
            }
        }
    }
}

/// What a station that remembers takes up.
fn remembered(cost: &StateCost) -> String {
    let StateCost { of, memory, ledger, in_memory, most } = *cost;
    let size = show_size(in_memory.saturating_mul(memory));
    let others = "the others are looked up in the ledger";
    let bounds = match most {
        Some(most) if most == in_memory => format!("at most {}, all in memory, {size}", show_count(most)),
        Some(most) => {
            format!("at most {}; of these {} in memory, {size}, and {others}", show_count(most), show_count(in_memory))
        }
        None => format!("{} in memory, {size}, and {others}", show_count(in_memory)),
    };
    format!(
        "each {of} that it remembers takes about {} of memory and {} of the ledger; {bounds}",
        show_size(memory),
        show_size(ledger),
    )
}

/// Columns with their types, as many on a line as fit.
fn in_lines(columns: &[(String, String)], width: usize) -> String {
    const INDENT: &str = "      ";
    let mut out = String::from(INDENT);
    let mut used = INDENT.len();
    for (i, (name, ty)) in columns.iter().enumerate() {
        let length = name.chars().count() + ty.len() + 3;
        if used + length > width && used > INDENT.len() {
            out.push('\n');
            out.push_str(INDENT);
            used = INDENT.len();
        }
        let comma = if i + 1 == columns.len() { "" } else { ", " };
        out.push_str(&format!("{name} {}{comma}", style::dim(ty)));
        used += length;
    }
    out.push('\n');
    out
}

fn as_json(
    chosen: &[&LoadedPipeline],
    found: &[Problem],
    sampled: &[SampledEvent],
    differing: &[tables::Differing<'_>],
) {
    let pipelines: Vec<_> = chosen
        .iter()
        .map(|p| {
            let landings: Vec<_> = p
                .plan
                .landings
                .iter()
                .map(|l| {
                    let columns: Vec<_> = l
                        .columns()
                        .iter()
                        .map(|c| json!({ "name": c.name, "type": c.type_shown(), "nullable": c.nullable }))
                        .collect();
                    json!({ "name": l.label, "kind": l.kind.name(), "columns": columns })
                })
                .collect();
            let samples: Vec<_> = sampled
                .iter()
                .filter(|l| l.pipeline == p.config.name)
                .map(|l| json!({ "event": l.event, "events": l.events, "rejected": l.rejected }))
                .collect();
            let remembering: Vec<_> = p
                .plan
                .remembering()
                .map(|(event, state)| json!({ "event": p.plan.events[event].name, "each": state.cost() }))
                .collect();
            json!({
                "name": p.config.name, "file": p.config.source.name, "good": is_good(p, found), "landings": landings,
                "samples": samples, "remembers": remembering,
            })
        })
        .collect();
    let problems: Vec<_> = found.iter().map(problems::json).collect();
    let tables: Vec<_> = differing.iter().map(tables::as_json).collect();
    output::json("check", json!({ "pipelines": pipelines, "problems": problems, "tables": tables }));
}
