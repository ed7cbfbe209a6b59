//! Rows that a store will never take, found before their batch is sealed.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::RecordBatch;

/// A row that its store will never take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unfit {
    /// Its place among the rows.
    pub row: usize,
    /// The column at fault, where there is one.
    pub column: Option<String>,
    /// Why, in words.
    pub message: String,
}

/// What a store says of itself: how large a row may be, say. Rows beyond that are rejected before they are staged; once
/// a batch is sealed, a row that its store refuses as a whole would stop the pipeline for good.
pub trait Fit: Send + Sync {
    /// The rows that the store will never take, in order, each once.
    fn unfit(&self, rows: &RecordBatch) -> Vec<Unfit>;
}

/// The landings that know beforehand what they cannot take, by label.
pub type Fits = HashMap<String, Arc<dyn Fit>>;
