//! Commands before, beside and after runs.

mod against;
mod authoring;
mod check;
mod draw;
mod drift;
mod emit;
mod expressions;
mod guides;
mod history;
mod json_output;
mod live;
mod peek;
mod peers;
mod rehearse;
mod run_log;
mod schemas;
mod secrets;
mod shape;
mod terminal;
mod tour;
