//! Notices: what people are told when something goes wrong with a pipeline, and when it is over.
//!
//! A notice begins once and is over once, however often its condition is looked at in between. Whether it is open is kept by who
//! calls; here is decided what an observation means for it.

pub mod body;
mod judge;
mod message;

pub use judge::{Observed, Subject, Verdict, judge};
pub use message::{Message, Phase};
