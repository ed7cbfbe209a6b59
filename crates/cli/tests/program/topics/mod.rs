//! Topics as sources and landings.

mod again;
mod basics;
mod change;
mod clients;
mod crash;
mod days;
mod packed;
mod real;
mod whole;
