//! `sluice rehearse`: what would land? Real events through the whole pipeline, nothing written.

mod against;
pub(crate) mod expected;
mod follow;
pub(crate) mod sampled;
mod show;
mod trace;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names;
use sluice_core::plan::Plan;
use sluice_core::rehearse::compare::{EventResult, Key, outcome};
use sluice_core::rehearse::{Rehearsal, kept};
use sluice_core::run::Stop;

use crate::args::{Arguments, Events, OutputKind, RehearseArgs};
use crate::crew::one::refuse_mistakes;
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::{Project, TableSource};
use crate::signals;
use crate::whole;
use sampled::Sampled;

/// Events of each arrival, where nothing else is asked for.
const EVENTS: u64 = 1_000;

pub(crate) fn rehearse(arguments: &Arguments, args: &RehearseArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?.asking(TableSource::Now);
    let pipeline = project.pipeline(&args.pipeline)?.for_looking();
    let stop = Arc::new(Stop::new());
    signals::end_on_signals(&stop);
    if args.follow && arguments.output == OutputKind::Json {
        return Err(output::one_document("--follow"));
    }
    if args.follow {
        return follow::follow(arguments, args, &stop);
    }
    refuse_mistakes(&project, &pipeline)?;
    let plan = &pipeline.plan;
    let landing = landing(plan, args)?;
    if args.against.is_some() {
        return against::against(arguments, args, &project, &pipeline, landing, &stop);
    }
    let expected = args.expect.as_deref().map(expected::read).transpose()?;
    let sampled = match (&args.events, &expected) {
        (Some(Events::Kept(file)), _) => Sampled::kept(plan, expected::read(file)?)?,
        (None, Some(expected)) => Sampled::kept(plan, expected.clone_events())?,
        (Some(Events::Count(count)), _) => Sampled::take(&project, plan, &args.into(), *count, &stop)?,
        (None, None) => Sampled::take(&project, plan, &args.into(), EVENTS, &stop)?,
    };
    if stop.is_settling() {
        return Ok(Exit::Interrupted);
    }
    plan.read_secrets(project.surroundings().secrets.as_ref())?;
    let rehearsal = sampled.rehearse(plan)?;
    if let Some(number) = args.trace {
        return trace::show(arguments, plan, &rehearsal, number);
    }
    let became = outcome(plan, &rehearsal);
    if let Some(file) = &args.keep {
        keep(args, file, plan, &rehearsal, &became)?;
    }
    if let (Some(expected), Some(file)) = (&expected, &args.expect) {
        return Ok(expected::compare(arguments, args, plan, file, &expected.outcome, &became));
    }
    match arguments.output {
        OutputKind::Json => show::as_json(args, plan, &rehearsal, &sampled, landing),
        OutputKind::Text => {
            let mut text = show::as_text(args, plan, &rehearsal, &sampled, landing, &show::Marks::default());
            if let Some(file) = &args.keep {
                let file = file.display();
                text.push_str(&format!(
                    "\nkept in {file}; {} compares with it\n",
                    style::command(&format!("sluice rehearse {} --expect {file}", plan.pipeline))
                ));
            }
            output::print(&text);
        }
    }
    Ok(Exit::Fine)
}

/// The place of the landing that was asked for.
fn landing(plan: &Plan, args: &RehearseArgs) -> Outcome<Option<usize>> {
    let Some(wanted) = &args.landing else { return Ok(None) };
    let found = plan.landings.iter().position(|l| l.label == *wanted || l.name == *wanted);
    if found.is_some() {
        return Ok(found);
    }
    let failure = Failure::new(FailureKind::Configuration, format!("{} has no landing `{wanted}`", plan.pipeline));
    let known = plan.landings.iter().flat_map(|l| [l.label.as_str(), l.name.as_str()]);
    Err(match names::remedy(wanted, "landings", known) {
        Some(help) => failure.with_help(help),
        None => failure,
    })
}

/// Writes the kept file, whole or not at all.
fn keep(
    args: &RehearseArgs,
    file: &Path,
    plan: &Plan,
    rehearsal: &Rehearsal,
    became: &BTreeMap<Key, EventResult>,
) -> Outcome<()> {
    if file.exists() && !args.yes {
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("{} is there already; nothing was written", file.display()),
        )
        .with_help("name another file, or replace it with --yes"));
    }
    whole::write(file, &kept::write(plan, rehearsal, became))
}
