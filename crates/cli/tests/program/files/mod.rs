//! Files as sources and landings, and runs as such.

mod crash;
mod replay_crash;
mod run;
