//! `sluice renew`: lets a pipeline of the background go on under its edited file.

use std::time::{Duration, Instant};

use serde_json::{Value, json};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::plan::SealedTexts;
use sluice_core::problem::SourceText;
use sluice_core::rehearse::compare::{ExpectedDifference, compare, outcome};
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_duration, show_many};

use super::check;
use super::rehearse::expected::{documents, listed};
use super::rehearse::sampled::{SampleRequest, Sampled};
use crate::args::{Arguments, OutputKind, RenewArgs};
use crate::background::{self, Request};
use crate::crew::{Doing, MemberReport};
use crate::exit::Exit;
use crate::output::{self, problems, style};
use crate::project::{LoadedPipeline, Project, TableSource};

/// How often is looked whether it goes on.
const AGAIN: Duration = Duration::from_millis(50);

/// What the same events become under both files.
enum Difference {
    /// They cannot be compared, and why.
    Unknown(&'static str),
    /// So many events, and what differs.
    Known(u64, Vec<ExpectedDifference>),
}

pub(crate) fn renew(arguments: &Arguments, args: &RenewArgs) -> Outcome<Exit> {
    let name = &args.pipeline;
    let project = Project::need(arguments.project.as_deref())?.asking(TableSource::Now);
    let pipeline = project.pipeline(name)?;
    let Some(before) = running(&project, name)? else {
        return Err(Failure::new(FailureKind::Configuration, format!("{name} does not run in the background"))
            .with_help(format!("sluice start {name}")));
    };
    let texts = pipeline.plan.texts.clone();
    if texts == before {
        report(arguments, name, None, None);
        return Ok(Exit::Fine);
    }
    refuse_problems(&project, &pipeline)?;
    let difference = difference(&project, pipeline, &before, args)?;
    if arguments.output == OutputKind::Text {
        output::print(&as_text(name, &difference));
    }
    let mut took = None;
    if !args.plan {
        let started = Instant::now();
        let request = Request::Renew { pipeline: name.clone(), texts: texts.digest() };
        background::ask(&project.root, &request)?;
        wait(&project, name, &texts)?;
        took = Some(started.elapsed());
    }
    report(arguments, name, Some(&difference), took);
    Ok(Exit::Fine)
}

/// The texts that it runs under; None where it does not run in the background.
fn running(project: &Project, name: &str) -> Outcome<Option<SealedTexts>> {
    let answer = background::ask(&project.root, &Request::Texts { pipeline: name.to_string() })?;
    Ok(answer.and_then(|answer| answer.texts))
}

/// Everything that `check` would find, places outside included.
fn refuse_problems(project: &Project, pipeline: &LoadedPipeline) -> Outcome<()> {
    let name = &pipeline.config.name;
    if let Some(failure) = pipeline.unknown.as_ref().or(pipeline.uncertain.as_ref()) {
        return Err(failure.clone());
    }
    let found = check::all_problems(project, pipeline);
    if !found.has_errors() {
        return Ok(());
    }
    problems::show_errors(found);
    Err(Failure::new(FailureKind::Configuration, format!("{name} was not renewed: `sluice check` finds errors"))
        .with_help("it continues as before; fix what is underlined, then renew it again"))
}

/// Takes the same events through both files.
fn difference(
    project: &Project,
    pipeline: LoadedPipeline,
    before: &SealedTexts,
    args: &RenewArgs,
) -> Outcome<Difference> {
    let name = pipeline.config.source.name.clone();
    let new = pipeline.for_looking();
    let old_project = project.with_text(&before.project);
    let old = old_project.load(&SourceText::new(name, before.pipeline.clone())).for_looking();
    if old.problems.has_errors() {
        return Ok(Difference::Unknown("a file that it uses, such as a schema, has changed"));
    }
    let request = SampleRequest { newest: true, ..SampleRequest::default() };
    let sampled = Sampled::take(project, &new.plan, &request, args.events, &Stop::new())?;
    if !sampled.serves(&old.plan) {
        return Ok(Difference::Unknown("it reads other events now, or reads them in another way"));
    }
    for plan in [&old.plan, &new.plan] {
        plan.read_secrets(project.surroundings().secrets.as_ref())?;
    }
    let (was, is) = (sampled.rehearse(&old.plan)?, sampled.rehearse(&new.plan)?);
    let differences = compare(&outcome(&old.plan, &was), &outcome(&new.plan, &is));
    Ok(Difference::Known(is.records.len() as u64, differences))
}

/// Waits until it goes on under the texts.
fn wait(project: &Project, name: &str, texts: &SealedTexts) -> Outcome<()> {
    let digest = texts.digest();
    loop {
        let answer = background::ask(&project.root, &Request::Report)?;
        let own = answer.and_then(|answer| answer.pipelines.into_iter().find(|p| p.pipeline == name));
        match own {
            Some(MemberReport { texts, .. }) if texts == digest => return Ok(()),
            Some(MemberReport { doing: Doing::Stopped { reason }, .. }) => {
                return Err(Failure::unreachable(format!("{name} failed before it could be renewed: {reason}"))
                    .with_help(format!("see why, then: sluice start {name}")));
            }
            None => {
                return Err(Failure::new(FailureKind::Interrupted, "the background process ended; nothing is lost")
                    .with_help("sluice start runs it with the files as they are now"));
            }
            Some(MemberReport { doing: Doing::Ended, .. }) => {
                return Err(Failure::new(FailureKind::Interrupted, format!("{name} was stopped"))
                    .with_help(format!("sluice start {name} runs it with the edited file")));
            }
            Some(_) => std::thread::sleep(AGAIN),
        }
    }
}

fn as_text(name: &str, difference: &Difference) -> String {
    let name = style::bold(name);
    match difference {
        Difference::Unknown(why) => format!("{name}: the differences cannot be shown: {why}\n"),
        Difference::Known(events, found) if found.is_empty() => {
            format!("{} {name}: no differences in {}\n", style::good("✓"), show_many(*events, "event"))
        }
        Difference::Known(events, found) => {
            let what = style::warn(&show_many(found.len() as u64, "difference"));
            let events = show_count(*events);
            format!("{name}: {what} in {events} events that went through both files\n{}\n", listed(found, "before"))
        }
    }
}

fn report(arguments: &Arguments, name: &str, difference: Option<&Difference>, took: Option<Duration>) {
    if arguments.output == OutputKind::Json {
        let (events, differences): (Value, Value) = match difference {
            Some(Difference::Known(events, found)) => ((*events).into(), documents(found).into()),
            _ => (Value::Null, Value::Null),
        };
        output::json(
            "renew",
            json!({
                "pipeline": name, "has_changed": difference.is_some(), "events": events, "differences": differences,
                "renewed": took.is_some(), "seconds": took.map(|took| took.as_secs_f64()),
            }),
        );
        return;
    }
    let name = style::bold(name);
    match (difference, took) {
        (None, _) => output::print(&format!("{name} already runs with these files\n")),
        (Some(_), None) => {}
        (Some(_), Some(took)) => {
            output::print(&format!("{name} continues with the edited file after {}\n", show_duration(took)));
        }
    }
}
