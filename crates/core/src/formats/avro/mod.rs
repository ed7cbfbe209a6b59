//! Avro data: values of a schema, one after the other, without their schema beside them.

mod datums;

pub use datums::{Datums, Found};
