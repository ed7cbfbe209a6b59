//! The core of Sluice: contracts, expressions, decoding, batches and the commit protocol.
//!
//! Nothing here opens a socket, prints, or reads the environment. Kinds of intakes, landings and ledgers live in
//! `sluice-connect` and reach this crate through the traits of [`kinds`] and [`ledger`]; what a person sees lives in
//! the command line crate and reaches this one through [`run::Observer`].
//!
//! The way of the data, and where to look for each step:
//! read ([`kinds::LaneReader`]) → decode under the contract ([`formats`]) → transform ([`plan::transform`]) →
//! stage and land ([`kinds::Landing`]) → commit ([`batch`]).

pub mod audit;
pub mod batch;
pub mod change;
pub mod columns;
pub mod config;
pub mod context;
pub mod contract;
mod distinct;
pub mod draft;
pub mod drift;
pub mod durable;
pub mod event;
pub mod expr;
pub mod fail_points;
pub mod failure;
pub mod flow;
pub mod forecast;
pub mod formats;
pub mod guard;
pub mod kinds;
pub mod ledger;
pub mod limit;
pub mod names;
pub mod notice;
pub mod plan;
pub mod printable;
pub mod private;
pub mod problem;
pub mod profile;
pub mod rehearse;
pub mod reject;
pub mod run;
pub mod sample;
pub mod schedule;
pub mod secret;
pub mod sql;
pub mod state;
pub mod table;
pub mod threads;
pub mod throttle;
pub mod types;
pub mod units;
pub mod values;

#[cfg(test)]
#[path = "../testing/mutate.rs"]
mod mutate;
