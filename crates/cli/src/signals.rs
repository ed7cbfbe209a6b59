//! Ctrl-C and SIGTERM: the first settles the batch in hand, the second leaves at once.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use sluice_core::run::Stop;

use crate::exit::Exit;
use crate::output;

/// Makes signals stop a run.
pub(crate) fn stop_on_signals(stop: &Arc<Stop>) {
    on_signals(stop, "\nsettling the batch in hand … (once more to leave at once, which loses nothing)\n");
}

/// Makes signals end what only looks: the first ends it with what it has, the second at once.
pub(crate) fn end_on_signals(stop: &Arc<Stop>) {
    on_signals(stop, "");
}

/// The first signal says something and asks to settle, the second leaves.
fn on_signals(stop: &Arc<Stop>, said: &'static str) {
    let stop = Arc::clone(stop);
    let asked = AtomicBool::new(false);
    // Where no handler can be set, a signal ends the program at once, which is as safe as a crash.
    let _ = ctrlc::set_handler(move || {
        if asked.swap(true, Ordering::SeqCst) {
            output::end(Exit::Interrupted);
            std::process::exit(Exit::Interrupted.code().into());
        }
        output::note(said);
        stop.settle();
    });
}
