//! The commands, one file each.

mod audit;
mod check;
mod completions;
mod demo;
mod draft;
pub(crate) mod draw;
mod emit;
mod init;
pub(crate) mod ledger;
mod manual;
pub(crate) mod notices;
mod overview;
mod peek;
pub(crate) mod positions;
mod rehearse;
mod rejects;
mod renew;
mod replay;
mod run;
mod shape;
mod stand_in;
mod start;
mod status;
mod stop;

pub(crate) use completions::VARIABLE as COMPLETE;
use sluice_core::failure::Outcome;

use crate::args::{Arguments, Command};
use crate::exit::Exit;

/// Runs the command.
pub(crate) fn dispatch(arguments: &Arguments) -> Outcome<Exit> {
    match &arguments.command {
        None => overview::overview(arguments),
        Some(Command::Init(args)) => init::init(arguments, args),
        Some(Command::Peek(args)) => peek::peek(arguments, args),
        Some(Command::Draft(args)) => draft::draft(arguments, args),
        Some(Command::Rehearse(args)) => rehearse::rehearse(arguments, args),
        Some(Command::Check(args)) => check::check(arguments, args),
        Some(Command::Run(args)) => run::run(arguments, args),
        Some(Command::Start(args)) => start::start(arguments, args),
        Some(Command::Stop(args)) => stop::stop(arguments, args),
        Some(Command::Renew(args)) => renew::renew(arguments, args),
        Some(Command::Background(args)) => crate::background::keep(arguments, args),
        Some(Command::Status(args)) => status::status(arguments, args),
        Some(Command::Notices(args)) => notices::notices(arguments, args),
        Some(Command::Draw(args)) => draw::draw(arguments, args),
        Some(Command::Ledger(args)) => ledger::ledger(arguments, args),
        Some(Command::Audit(args)) => audit::audit(arguments, args),
        Some(Command::Rejects(args)) => rejects::rejects(arguments, args),
        Some(Command::Positions(args)) => positions::positions(arguments, args),
        Some(Command::Replay(args)) => replay::replay(arguments, args),
        Some(Command::StandIn(args)) => stand_in::stand_in(arguments, args),
        Some(Command::Manual(args)) => manual::manual(arguments, args),
        Some(Command::Demo(args)) => demo::demo(arguments, args),
        Some(Command::Emit(args)) => emit::emit(arguments, args),
        Some(Command::Completions(args)) => completions::completions(arguments, args),
    }
}
