//! The command line.

use std::path::PathBuf;

use clap::{Parser, Subcommand, ValueEnum};

mod audit;
mod check;
mod completions;
mod demo;
mod draft;
mod draw;
mod emit;
mod init;
mod ledger;
mod manual;
mod notices;
mod peek;
mod positions;
mod rehearse;
mod rejects;
mod renew;
mod replay;
mod run;
mod stand_in;
mod start;
mod status;
mod stop;

pub(crate) use audit::AuditArgs;
pub(crate) use check::CheckArgs;
pub(crate) use completions::CompletionsArgs;
pub(crate) use demo::DemoArgs;
pub(crate) use draft::DraftArgs;
pub(crate) use draw::DrawArgs;
pub(crate) use emit::{EmitArgs, EmitFormat};
pub(crate) use init::InitArgs;
pub(crate) use ledger::{LedgerArgs, Period};
pub(crate) use manual::{ManualArgs, ShapeForm};
pub(crate) use notices::NoticesArgs;
pub(crate) use peek::PeekArgs;
pub(crate) use positions::PositionsArgs;
pub(crate) use rehearse::{Events, RehearseArgs};
pub(crate) use rejects::RejectsArgs;
pub(crate) use renew::RenewArgs;
pub(crate) use replay::ReplayArgs;
pub(crate) use run::{KeepArgs, LogArgs, RunArgs};
pub(crate) use stand_in::{BrokerArgs, StandInArgs, StandInService};
pub(crate) use start::StartArgs;
pub(crate) use status::StatusArgs;
pub(crate) use stop::StopArgs;

/// How results are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum OutputKind {
    /// For reading.
    #[default]
    Text,
    /// One JSON document in a versioned shape.
    Json,
}

/// The heading of options that every command has.
const EVERYWHERE: &str = "Options of every command";

/// Move events from brokers, change feeds and files into storage, once each, and prove it
///
/// Without a command: show the pipelines of this project, their state, and what to do next.
#[derive(Debug, Parser)]
#[command(name = "sluice", version, disable_help_subcommand = true, after_long_help = crate::exit::help())]
pub(crate) struct Arguments {
    /// The project's folder [default: the nearest folder with a sluice.toml, from here upwards]
    #[arg(long, global = true, value_name = "DIR", help_heading = EVERYWHERE)]
    pub project: Option<PathBuf>,

    /// How results are printed
    #[arg(long, global = true, value_enum, default_value_t, value_name = "FORM", help_heading = EVERYWHERE)]
    pub output: OutputKind,

    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new project
    #[command(after_help = init::EXAMPLES)]
    Init(InitArgs),
    /// Show what events look like, and what has landed
    #[command(after_help = peek::EXAMPLES)]
    Peek(PeekArgs),
    /// Write a first pipeline file from real events
    #[command(after_help = draft::EXAMPLES)]
    Draft(DraftArgs),
    /// Check pipeline files, connections and tables before anything runs
    #[command(after_help = check::EXAMPLES)]
    Check(CheckArgs),
    /// Show what would land: take real events through the whole pipeline, and write nothing
    #[command(after_help = rehearse::EXAMPLES)]
    Rehearse(RehearseArgs),
    /// Move data: until caught up, for a number of batches, or until stopped
    ///
    /// Several pipelines run side by side. A pipeline that fails does not affect the others; if a retry can help, it is retried
    /// with growing pauses.
    #[command(after_help = run::EXAMPLES)]
    Run(RunArgs),
    /// Run pipelines in the background
    ///
    /// One process runs all of them and keeps running after the terminal is closed. A pipeline that fails does not affect the
    /// others; if a retry can help, it is retried with growing pauses.
    #[command(after_help = start::EXAMPLES)]
    Start(StartArgs),
    /// Stop background pipelines after their current batch
    #[command(after_help = stop::EXAMPLES)]
    Stop(StopArgs),
    /// Switch a background pipeline to its edited file
    ///
    /// Checks the edited file, runs real events through the old and the new file, and shows the differences. Then the current batch
    /// settles, and the pipeline continues at exactly that position with the new file. If the check finds an error, nothing
    /// changes.
    #[command(after_help = renew::EXAMPLES)]
    Renew(RenewArgs),
    /// The process that `start` makes
    #[command(hide = true)]
    Background(KeepArgs),
    /// Show whether pipelines run, how far behind they are, and what holds them up
    #[command(after_help = status::EXAMPLES)]
    Status(StatusArgs),
    /// Show what people have been told about pipelines; send a test message
    ///
    /// Rules are `[notice.NAME]` in sluice.toml, recipients `[recipient.NAME]`. Running pipelines are watched by `start`, and by `run`
    /// without an end.
    #[command(after_help = notices::EXAMPLES)]
    Notices(NoticesArgs),
    /// Draw a pipeline, or its figures over time, as a picture; or a page with all pipelines
    #[command(after_help = draw::EXAMPLES)]
    Draw(DrawArgs),
    /// Show the batches of a pipeline: their size, duration and counts
    #[command(after_help = ledger::EXAMPLES)]
    Ledger(LedgerArgs),
    /// Compare the mirrors of a pipeline with the tables that they follow
    ///
    /// Reads both sides at one place of the source's log: counts and checksums first, then the rows that differ. The pipeline
    /// may run meanwhile. Nothing is changed without --catch-up or --reload.
    #[command(after_help = audit::EXAMPLES)]
    Audit(AuditArgs),
    /// Show which events were rejected, and why; retry them
    #[command(after_help = rejects::EXAMPLES)]
    Rejects(RejectsArgs),
    /// Show the position and lag of every partition, and when unread data expires; set positions
    #[command(after_help = positions::EXAMPLES)]
    Positions(PositionsArgs),
    /// Read batches or ranges again, without duplicates
    #[command(after_help = replay::EXAMPLES)]
    Replay(ReplayArgs),
    /// Look up kinds, options, types, functions, reasons and codes
    #[command(after_help = manual::EXAMPLES)]
    Manual(ManualArgs),
    /// Try everything on sample data
    #[command(after_help = demo::EXAMPLES)]
    Demo(DemoArgs),
    /// Write invented events to a topic, a table, a folder or standard output
    #[command(after_help = emit::EXAMPLES)]
    Emit(EmitArgs),
    /// Start a simulated service on this machine
    #[command(after_help = stand_in::EXAMPLES)]
    StandIn(StandInArgs),
    /// Print completions for a shell
    #[command(after_help = completions::EXAMPLES)]
    Completions(CompletionsArgs),
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Arguments::command().debug_assert();
    }
}
