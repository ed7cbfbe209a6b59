//! Ctrl-C and SIGTERM: the first settles the batch in hand, the second leaves at once.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use sluice_core::run::Stop;

use crate::exit::Exit;
use crate::output;

const SETTLING: &str = "\nsettling the batch in hand … (once more to leave at once, which loses nothing)\n";

/// Makes signals stop a run.
pub(crate) fn stop_on_signals(stop: &Arc<Stop>) {
    on_signals(stop, SETTLING);
}

/// Makes signals end what only looks: the first ends it with what it has, the second at once.
pub(crate) fn end_on_signals(stop: &Arc<Stop>) {
    on_signals(stop, "");
}

/// Makes every signal call something.
pub(crate) fn call_on_signals(call: impl Fn() + Send + 'static) {
    // As above.
    let _ = ctrlc::set_handler(call);
}

/// Makes signals stop several runs: the first calls what settles them, the second leaves.
pub(crate) fn settle_on_signals(settle: impl Fn() + Send + 'static) {
    first_and_second(SETTLING, settle);
}

/// The first signal says something and asks to settle, the second leaves.
fn on_signals(stop: &Arc<Stop>, said: &'static str) {
    let stop = Arc::clone(stop);
    first_and_second(said, move || stop.settle());
}

fn first_and_second(said: &'static str, first: impl Fn() + Send + 'static) {
    let asked = AtomicBool::new(false);
    // Where no handler can be set, a signal ends the program at once, which is as safe as a crash.
    let _ = ctrlc::set_handler(move || {
        if asked.swap(true, Ordering::SeqCst) {
            output::end(Exit::Interrupted);
            std::process::exit(Exit::Interrupted.code().into());
        }
        output::note(said);
        first();
    });
}
