//! Questions to brokers that librdkafka cannot ask, over a connection of our own.
//!
//! The protocol is that of <https://kafka.apache.org/protocol>: a length, a header, a body. Answers are read with care,
//! since a broker may be another than expected: every length is compared with what there is before anything is kept.

mod fields;
mod scram;
mod session;
mod writers;

pub(crate) use writers::open_writers;
