//! Files as sources and landings, and runs as such.

mod archives;
mod crash;
mod logs;
mod replay_crash;
mod run;
mod typed;
mod whole;
