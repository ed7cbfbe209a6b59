//! `sluice`: moves events from brokers, change feeds and files into storage, once each, and proves it.

mod args;
mod background;
mod commands;
mod confirm;
mod crew;
mod demo;
mod draw;
mod emit;
mod exit;
#[cfg(feature = "failpoints")]
mod kill;
mod log;
mod manual;
mod names;
mod new_tables;
mod notices;
mod output;
mod pipeline_state;
mod place;
mod progress;
mod project;
mod random;
mod rotating;
mod sampling;
mod schemas;
mod secrets;
mod signals;
mod watch;
mod whole;
mod written;

use clap::{CommandFactory as _, Parser as _};
use clap_complete::CompleteEnv;

fn main() -> std::process::ExitCode {
    #[cfg(feature = "failpoints")]
    kill::arm();
    // The shell asks by a variable of the environment; then this ends here.
    CompleteEnv::with_factory(args::Arguments::command).var(commands::COMPLETE).complete();
    let arguments = match args::Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return output::usage::show(&error).into(),
    };
    if arguments.output == args::OutputKind::Json {
        output::expect_json();
    }
    std::panic::set_hook(Box::new(|panic| {
        // Whoever guards a call says what it means.
        if sluice_core::guard::is_guarded() {
            return;
        }
        output::note(&format!("{panic}\nthis is a fault of Sluice: please report it with the lines above\n"));
    }));
    // A broken invariant has printed its message already; what was sealed is finished by the next run.
    let result = std::panic::catch_unwind(|| commands::dispatch(&arguments));
    let code = match result {
        Ok(Ok(code)) => code,
        Ok(Err(failure)) => output::failure::show(&failure, arguments.output),
        Err(_) => exit::Exit::Internal,
    };
    output::end(code);
    code.into()
}
