//! Stand-ins: small simulated services for trying things and for tests, kept in memory and forgotten at the end.
//!
//! [`broker`] speaks the Kafka protocol.

pub mod broker;
pub mod registry;

#[cfg(test)]
#[path = "../../core/testing/mutate.rs"]
mod mutate;
