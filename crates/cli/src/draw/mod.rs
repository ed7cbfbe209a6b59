//! Pipelines and their figures as pictures: SVG, and a page that holds them. Nothing in them comes from elsewhere: no script, no font, no
//! image.

pub(crate) mod flow;
pub(crate) mod page;
pub(crate) mod plots;
mod svg;

pub(crate) use svg::escape;

/// Ink, channels, what is rejected, and what is less important. All print well on white.
pub(crate) const INK: &str = "#16262e";
pub(crate) const FAINT: &str = "#5c717b";
pub(crate) const WATER: &str = "#1f7a8c";
pub(crate) const SHALLOW: &str = "#d6e9ec";
pub(crate) const ALARM: &str = "#b0470c";
