//! Tables as landings.

mod crash;
mod landing;
