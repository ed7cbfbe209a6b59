//! Topics as sources and landings.

mod again;
mod avro;
mod avro_written;
mod basics;
mod change;
mod clients;
mod crash;
mod days;
mod packed;
mod protobuf;
mod protobuf_written;
mod real;
mod whole;
