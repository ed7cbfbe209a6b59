//! Saying which arrival of the ledger an arrival of the pipeline file is, where that is not certain.

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::Ledger;
use sluice_core::plan::ArrivalChoice;

use crate::args::{Arguments, OutputKind, PositionsArgs};
use crate::confirm::confirm;
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::LoadedPipeline;

/// An arrival by its name in the pipeline file, and what it is.
pub(super) struct ChosenArrival {
    arrival: String,
    choice: ArrivalChoice,
}

/// What the options ask for.
pub(super) fn asked(args: &PositionsArgs) -> Outcome<Option<ChosenArrival>> {
    if let Some(arrival) = &args.as_new {
        return Ok(Some(ChosenArrival { arrival: arrival.clone(), choice: ArrivalChoice::AsNew }));
    }
    let Some(text) = &args.take_over else { return Ok(None) };
    let (old, new) = text.split_once('=').ok_or_else(|| {
        Failure::new(FailureKind::Configuration, format!("`{text}` does not name two arrivals"))
            .with_help("write the name in the ledger, then the name now: --take-over passage.0=lock_passage.0")
    })?;
    Ok(Some(ChosenArrival { arrival: new.trim().into(), choice: ArrivalChoice::TakeOver(old.trim().into()) }))
}

pub(super) fn choose(
    arguments: &Arguments,
    args: &PositionsArgs,
    pipeline: &LoadedPipeline,
    ledger: &dyn Ledger,
    asked: &ChosenArrival,
) -> Outcome<Exit> {
    let name = &pipeline.config.name;
    let Some(reason) = args.reason.as_deref().filter(|r| !r.trim().is_empty()) else {
        let option = if args.take_over.is_some() { "--take-over" } else { "--as-new" };
        return Err(Failure::new(FailureKind::Configuration, format!("{option} of {name} needs a reason"))
            .with_help("add --reason \"…\": the ledger keeps it"));
    };
    let _lock = ledger.lock(name)?;
    let known = ledger.known(name)?;
    let known = pipeline.plan.choose(&asked.arrival, &asked.choice, &known)?;
    let what = match &asked.choice {
        ArrivalChoice::TakeOver(old) if *old == asked.arrival => {
            format!("{old} continues at the positions that it has")
        }
        ArrivalChoice::TakeOver(old) => format!("{} continues at the positions of {old}", asked.arrival),
        ArrivalChoice::AsNew => format!("{} starts as a new arrival, as its keys say", asked.arrival),
    };
    if arguments.output == OutputKind::Text {
        output::print(&format!("{}: {what}\n", style::bold(name)));
    }
    if !confirm("keep this choice?", args.yes)? {
        output::note("nothing was changed\n");
        return Ok(Exit::Fine);
    }
    ledger.note_known(name, &known, Some(reason))?;
    match arguments.output {
        OutputKind::Json => {
            output::json("positions-chosen", json!({ "pipeline": name, "what": what, "reason": reason }))
        }
        OutputKind::Text => output::note("noted in the ledger, with the reason\n"),
    }
    Ok(Exit::Fine)
}
