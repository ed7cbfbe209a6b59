//! How far event time had come when a batch ended: by that it is known what a batch gave on, where it is read again.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::state::NEVER;

/// Where the stations of a lane that remember stood at the end of a batch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BatchMarks {
    /// The newest event time that had been read, in microseconds since 1970.
    pub newest: i64,
    /// The stations, by the events that they make.
    pub stations: BTreeMap<String, StationMark>,
}

/// Where one station stood.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StationMark {
    /// The watermark with which the batch ended, lateness not taken off, in microseconds since 1970.
    pub reached: i64,
    /// Whether everything was closed, since a run had read all there was.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub all: bool,
    /// How many rows the station had made before the batch.
    #[serde(default)]
    pub made: u64,
}

impl Default for BatchMarks {
    fn default() -> Self {
        Self { newest: NEVER, stations: BTreeMap::new() }
    }
}

impl BatchMarks {
    /// The watermark of a station; [`NEVER`] where it was not there.
    pub fn reached(&self, station: &str) -> i64 {
        self.stations.get(station).map_or(NEVER, |mark| mark.reached)
    }
}
