//! `sluice`: moves events from brokers, change feeds and files into storage, once each, and proves it.

mod args;
mod commands;
mod confirm;
mod demo;
mod emit;
mod exit;
#[cfg(feature = "failpoints")]
mod kill;
mod manual;
mod names;
mod new_tables;
mod output;
mod place;
mod progress;
mod project;
mod random;
mod sampling;
mod secrets;
mod signals;
mod written;

use clap::{CommandFactory as _, Parser as _};
use clap_complete::CompleteEnv;

fn main() -> std::process::ExitCode {
    #[cfg(feature = "failpoints")]
    kill::arm();
    // The shell asks by a variable of the environment; then this ends here.
    CompleteEnv::with_factory(args::Arguments::command).var(commands::COMPLETE).complete();
    let arguments = args::Arguments::parse();
    // A broken invariant has printed its message already; what was sealed is finished by the next run.
    let result = std::panic::catch_unwind(|| commands::dispatch(&arguments));
    let code = match result {
        Ok(Ok(code)) => code,
        Ok(Err(failure)) => output::failure::show(&failure, arguments.output),
        Err(_) => exit::Exit::Internal,
    };
    code.into()
}
