//! A quick query: rows that meet a condition, some columns of them.

use arrow_array::RecordBatch;
use serde_json::json;
use sluice_core::columns::OutputColumn;
use sluice_core::config::EmbeddedText;
use sluice_core::expr::{ScopeColumn, bind_condition, bind_select};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::plan::Transform;
use sluice_core::problem::{Problems, SourceText};
use sluice_core::units::{show_count, show_many};

use super::stored::objects;
use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::output::rows::Rows;
use crate::output::table::screen_width;
use crate::output::{self, problems, style};

/// A query while rows go by.
pub(super) struct Question {
    transform: Transform,
    show: usize,
    now: i64,
    answer: Answer,
}

/// What came out.
pub(super) struct Answer {
    matched: u64,
    faults: u64,
    first_fault: Option<String>,
    columns: Vec<OutputColumn>,
    first: Vec<RecordBatch>,
    shown: usize,
}

impl Question {
    /// Binds `--when` and `--columns` to the columns of the rows.
    pub(super) fn new(args: &PeekArgs, columns: &[OutputColumn]) -> Outcome<Self> {
        let scope: Vec<ScopeColumn> = columns
            .iter()
            .map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: c.nullable, limit: c.limit })
            .collect();
        let mut found = Problems::new();
        let when = args.when.as_ref().and_then(|t| bind_condition(&embed("--when", t), &scope, &mut found));
        let items =
            args.columns.as_ref().map_or_else(Vec::new, |t| bind_select(&embed("--columns", t), &scope, &mut found));
        if found.has_errors() {
            problems::show_errors(found);
            return Err(Failure::new(FailureKind::Configuration, "the query has errors")
                .with_help("fix the underlined text; without --when and --columns, the columns are listed"));
        }
        let transform = Transform::new(when, items, columns);
        let answer = Answer {
            matched: 0,
            faults: 0,
            first_fault: None,
            columns: transform.columns.clone(),
            first: Vec::new(),
            shown: 0,
        };
        Ok(Self { transform, show: args.show, now: output::times::now(), answer })
    }

    /// Runs the query over some rows.
    pub(super) fn add(&mut self, rows: &RecordBatch) {
        let result = self.transform.apply(rows, self.now);
        let answer = &mut self.answer;
        answer.matched += result.batch.num_rows() as u64;
        answer.faults += result.faults.len() as u64;
        if let Some(fault) = result.faults.first() {
            answer.first_fault.get_or_insert_with(|| fault.message.clone());
        }
        let take = (self.show - answer.shown).min(result.batch.num_rows());
        if take > 0 {
            answer.first.push(result.batch.slice(0, take));
            answer.shown += take;
        }
    }

    pub(super) fn answer(self) -> Answer {
        self.answer
    }
}

/// A text of the command line as if it stood in a file, so that mistakes are underlined.
fn embed(name: &str, text: &str) -> EmbeddedText {
    let source = SourceText::new(name, text);
    EmbeddedText::new(&source, 0..text.len(), text)
}

impl Answer {
    pub(super) fn show(&self, arguments: &Arguments, label: &str, of: &str, broken: u64) {
        let batch =
            arrow_select::concat::concat_batches(&sluice_core::plan::transform::schema_of(&self.columns), &self.first)
                .unwrap_or_else(|_| RecordBatch::new_empty(sluice_core::plan::transform::schema_of(&self.columns)));
        if arguments.output == OutputKind::Json {
            output::json(
                "peek",
                json!({
                    "place": label, "matched": self.matched, "faults": self.faults, "broken": broken,
                    "rows": objects(&batch, &self.columns, usize::MAX),
                }),
            );
            return;
        }
        let mut out = format!("{}: {} of {of}\n", style::bold(label), style::bold(&show_many(self.matched, "row")));
        if let Some(fault) = &self.first_fault {
            let text = format!("{} could not be computed: {fault}", show_many(self.faults, "row"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
        if broken > 0 {
            let text = format!("{} cannot be read as rows", show_many(broken, "record"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
        if self.shown > 0 {
            out.push('\n');
            out.push_str(&Rows::of(&batch, &self.columns, self.shown).render(screen_width(), 1));
        }
        if (self.shown as u64) < self.matched {
            let rest = self.matched - self.shown as u64;
            out.push_str(&format!(
                " {}\n",
                style::dim(&format!("… {} more; --show N shows more of them", show_count(rest)))
            ));
        }
        output::print(&out);
    }
}
