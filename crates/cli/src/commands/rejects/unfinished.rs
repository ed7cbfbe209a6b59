//! Making rejects of the events of sealed batches that cannot be finished.

use serde_json::json;
use sluice_connect::ledgers;
use sluice_core::failure::Outcome;
use sluice_core::run::give_up::give_up;
use sluice_core::run::replay::replay_lock;
use sluice_core::units::show_many;

use crate::args::{Arguments, OutputKind, RejectsArgs};
use crate::confirm::confirm;
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::{LoadedPipeline, Project};

pub(super) fn reject(
    arguments: &Arguments,
    args: &RejectsArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
) -> Outcome<Exit> {
    let name = &pipeline.config.name;
    let ledger = ledgers::open(&project.root, &project.config.ledger)?;
    let _lock = ledger.lock(name)?;
    let _replays = ledger.lock(&replay_lock(name))?;
    let unfinished = ledger.unfinished(name)?;
    if unfinished.is_empty() {
        match arguments.output {
            OutputKind::Json => output::json("rejects-unfinished", json!({ "pipeline": name, "given_up": [] })),
            OutputKind::Text => output::note("every sealed batch is finished\n"),
        }
        return Ok(Exit::Fine);
    }
    let mut list = String::new();
    for (sealed, _) in &unfinished {
        let waiting: Vec<&str> = sealed.works.iter().filter(|w| !w.landed).map(|w| w.landing.as_str()).collect();
        let identity = &sealed.identity;
        list.push_str(&format!("  batch {} of lane {}: {}\n", identity.number, identity.lane, waiting.join(", ")));
    }
    output::note(&format!(
        "{}: {} not finished\n{list}Each is tried once more. What a landing cannot publish becomes rejects with the reason \
         `unfinished`: nothing is lost, and those events land only when the rejects are read again.\n",
        style::bold(name),
        show_many(unfinished.len() as u64, "sealed batch"),
    ));
    if !confirm("finish them, or make rejects of them?", args.yes)? {
        output::note("nothing was changed\n");
        return Ok(Exit::Fine);
    }
    let done = give_up(name, &project.surroundings(), ledger.as_ref())?;
    match arguments.output {
        OutputKind::Json => {
            let one = |g: &sluice_core::run::give_up::GivenUpLanding| json!({ "lane": g.batch.lane, "number": g.batch.number, "landing": g.landing, "why": g.why, "events": g.events });
            let given_up: Vec<_> = done.iter().map(one).collect();
            output::json("rejects-unfinished", json!({ "pipeline": name, "given_up": given_up }));
        }
        OutputKind::Text => {
            let mut text = String::new();
            for one in &done {
                text.push_str(&format!(
                    "{} of batch {} of lane {} are rejects of {} now: {}\n",
                    show_many(one.events, "event"),
                    one.batch.number,
                    one.batch.lane,
                    one.landing,
                    one.why
                ));
            }
            text.push_str(match done.is_empty() {
                true => "every batch could be finished after all\n",
                false => "continue with `sluice run`; read them again with `sluice rejects … --retry`\n",
            });
            output::note(&text);
        }
    }
    Ok(Exit::Fine)
}
