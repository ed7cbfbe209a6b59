//! Single values and their spellings: what decoders, casts, path templates and JSON writers share.

pub mod bytes;
pub mod clock;
pub mod interval;
pub mod json;
pub mod list;
pub mod number;
pub mod rows;
pub mod time;
