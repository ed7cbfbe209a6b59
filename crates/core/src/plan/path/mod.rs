//! Path templates such as `passages/{passed_at:%Y/%m/%d}/{lock_id}`: the folder of each row.

mod batch;
mod groups;

use std::sync::Arc;

use arrow_array::RecordBatch;
pub use batch::BatchFolders;
pub use groups::Groups;
use groups::finest_step;

use super::transform::Transformed;
use crate::columns::OutputColumn;
use crate::config::EmbeddedText;
use crate::event::LandingRows;
use crate::kinds::Unfit;
use crate::problem::{Problem, Problems};
use crate::reject::Reason;
use crate::types::SqlType;
use crate::values::time;

/// The folder part for a null value. No text gives it: in a text `%` is written as `%25`.
pub const NULL_FOLDER: &str = "%null";

/// The folder part for an empty text.
pub const EMPTY_FOLDER: &str = "%empty";

/// Bytes of one value within a folder's name; of a longer one the start is kept, and a digest of the whole.
const VALUE_LIMIT: usize = 200;

/// Bytes that a file system takes in the name of one folder.
const NAME_LIMIT: usize = 255;

/// Bytes of a whole folder below its connection's: with the place of that and the file's name they stay below what a
/// system takes as a path.
const PATH_LIMIT: usize = 2_000;

/// A bound template.
#[derive(Clone, Debug)]
pub struct PathTemplate {
    parts: Vec<PathPart>,
    /// Whether a row may give a folder that cannot be made.
    may_refuse: bool,
    /// How many folders a batch may fill.
    most: usize,
}

#[derive(Clone, Debug)]
enum PathPart {
    Literal(String),
    Value { place: ColumnPlace, pattern: Option<String> },
}

#[derive(Clone, Copy, Debug)]
enum ColumnPlace {
    Output(usize),
    Event(usize),
}

impl PathTemplate {
    /// Binds a template; names mean a column that lands, else one of the event. None where it has a mistake.
    pub fn bind(
        text: &EmbeddedText,
        output: &[OutputColumn],
        event: &[OutputColumn],
        problems: &mut Problems,
    ) -> Option<Self> {
        let mut binder = PathBinder { text, output, event, problems, good: true };
        let mut parts = Vec::new();
        let mut at = 0;
        while let Some(open) = text.text[at..].find('{').map(|i| at + i) {
            binder.literal(at..open, &mut parts);
            let Some(close) = text.text[open..].find('}').map(|i| open + i) else {
                binder.problem(
                    "syntax.sql",
                    "this brace is never closed",
                    open..open + 1,
                    "write {column} or {column:%Y/%m}",
                );
                return None;
            };
            binder.value(open + 1..close, &mut parts);
            at = close + 1;
        }
        binder.literal(at..text.text.len(), &mut parts);
        let whole = text.text.trim_matches('/');
        if text.text.starts_with('/')
            || whole.split('/').any(|s| s == ".." || s == "." || s.is_empty()) && !whole.is_empty()
        {
            binder.problem(
                "value.range",
                "a path stays inside its connection's folder",
                0..text.text.len(),
                "no slash at the start, no empty part, no `.` or `..`",
            );
        }
        let may_refuse = may_refuse(&parts, output, event);
        binder.good.then_some(Self { parts, may_refuse, most: usize::MAX })
    }

    /// The columns of the event that it reads, by their places.
    pub fn event_columns(&self) -> impl Iterator<Item = usize> {
        self.parts.iter().filter_map(|part| match part {
            PathPart::Value { place: ColumnPlace::Event(i), .. } => Some(*i),
            _ => None,
        })
    }

    /// The folder of each row.
    pub fn folders(&self, batch: &RecordBatch, source: &RecordBatch) -> Vec<Arc<str>> {
        if batch.num_rows() == 0 {
            return Vec::new();
        }
        let groups = self.groups(batch, source);
        let names: Vec<Arc<str>> = groups.names.iter().map(|n| Arc::from(n.trim_matches('/'))).collect();
        match groups.rows.is_empty() {
            true => vec![Arc::clone(&names[0]); batch.num_rows()],
            false => groups.rows.iter().map(|g| Arc::clone(&names[usize::try_from(*g).unwrap_or(0)])).collect(),
        }
    }

    /// The same with a limit to the folders that one batch may fill.
    #[must_use]
    pub fn with_most(self, most: usize) -> Self {
        Self { most, ..self }
    }

    /// Takes out rows whose folder cannot be made, or is one too many for the batch that was opened at a moment: they are
    /// at fault, before anything of them is staged. Gives the folders of the rows, where all of them stay.
    pub fn refuse(
        &self,
        result: &mut Transformed,
        batch: &BatchFolders,
        landing: usize,
        opened_at: i64,
    ) -> Option<Groups> {
        if result.batch.num_rows() == 0 {
            return None;
        }
        let groups = self.groups(&result.batch, &result.source);
        let fault = |name: &String| if self.may_refuse { fault_of(name) } else { None };
        let mut faults: Vec<Option<String>> = groups.names.iter().map(fault).collect();
        let admitted = batch.admit(landing, opened_at, &groups.names, self.most);
        for (fault, _) in faults.iter_mut().zip(admitted).filter(|(fault, fits)| !fits && fault.is_none()) {
            *fault = Some(format!("the batch fills {} folders already (max_folders)", self.most));
        }
        if faults.iter().all(Option::is_none) {
            return Some(groups);
        }
        let group = |row: usize| groups.rows.get(row).map_or(0, |g| usize::try_from(*g).unwrap_or(0));
        let unfit = |row: usize| faults[group(row)].clone().map(|message| Unfit { row, column: None, message });
        result.take_out((0..result.batch.num_rows()).filter_map(unfit).collect(), Reason::PATH);
        None
    }

    /// Splits rows by their folder, in the order in which folders first occur.
    pub fn split(&self, batch: RecordBatch, source: &RecordBatch) -> Vec<LandingRows> {
        if batch.num_rows() == 0 {
            return Vec::new();
        }
        self.groups(&batch, source).split(batch)
    }

    fn groups(&self, batch: &RecordBatch, source: &RecordBatch) -> Groups {
        let mut groups = Groups::one(batch.num_rows());
        for part in &self.parts {
            match part {
                PathPart::Literal(text) => groups.append_literal(text),
                PathPart::Value { place, pattern } => {
                    let column = match place {
                        ColumnPlace::Output(i) => batch.column(*i),
                        ColumnPlace::Event(i) => source.column(*i),
                    };
                    groups.append_values(column, pattern.as_deref());
                }
            }
        }
        groups
    }
}

struct PathBinder<'a> {
    text: &'a EmbeddedText,
    output: &'a [OutputColumn],
    event: &'a [OutputColumn],
    problems: &'a mut Problems,
    good: bool,
}

impl PathBinder<'_> {
    fn problem(&mut self, code: &'static str, message: &str, range: std::ops::Range<usize>, help: &str) {
        self.good = false;
        self.problems.add(Problem::error(code, message, self.text.place(range)).with_help(help));
    }

    fn literal(&mut self, range: std::ops::Range<usize>, parts: &mut Vec<PathPart>) {
        let text = &self.text.text[range.clone()];
        if text.contains('}') {
            self.problem("syntax.sql", "this brace was never opened", range, "write {column} or {column:%Y/%m}");
        } else if !text.is_empty() {
            parts.push(PathPart::Literal(text.to_string()));
        }
    }

    fn value(&mut self, range: std::ops::Range<usize>, parts: &mut Vec<PathPart>) {
        let text = &self.text.text[range.clone()];
        let (name, pattern) = match text.split_once(':') {
            Some((name, pattern)) => (name.trim(), Some(pattern)),
            None => (text.trim(), None),
        };
        let find = |columns: &[OutputColumn]| {
            columns
                .iter()
                .position(|c| c.name == name)
                .or_else(|| columns.iter().position(|c| c.name.eq_ignore_ascii_case(name)))
        };
        let (place, ty) = match (find(self.output), find(self.event)) {
            (Some(i), _) => (ColumnPlace::Output(i), self.output[i].ty),
            (None, Some(i)) => (ColumnPlace::Event(i), self.event[i].ty),
            (None, None) => {
                self.good = false;
                let known = self.output.iter().chain(self.event).map(|c| c.name.as_str());
                self.problems.add(
                    Problem::error("name.unknown", format!("there is no column `{name}`"), self.text.place(range))
                        .with_label("binds to nothing")
                        .with_nearest(name, "columns", known),
                );
                return;
            }
        };
        let is_time = matches!(ty, SqlType::Timestamptz | SqlType::Date);
        match pattern {
            Some(pattern) if is_time => {
                if let Err(reason) = time::check_pattern(pattern) {
                    self.problem("value.type", &reason, range.clone(), "such as {passed_at:%Y/%m/%d}");
                } else if ty == SqlType::Date && finest_step(pattern) < time::DAY {
                    let message = format!("`{name}` is a date and has no time of day");
                    self.problem("type.mismatch", &message, range.clone(), "such as {day:%Y/%m/%d}");
                }
            }
            Some(_) => {
                let message = format!("a pattern is for timestamps and dates; `{name}` is {ty}");
                self.problem("type.mismatch", &message, range.clone(), "write {column} without a pattern");
            }
            None if ty == SqlType::Timestamptz => {
                let message = format!("`{name}` is a timestamptz: one folder for each moment");
                self.problem("type.mismatch", &message, range.clone(), "add a pattern, such as {passed_at:%Y/%m/%d}");
            }
            None if matches!(ty, SqlType::Double | SqlType::Json) => {
                self.problem(
                    "type.mismatch",
                    &format!("a {ty} makes no folder"),
                    range.clone(),
                    "choose another column",
                );
            }
            None => {}
        }
        parts.push(PathPart::Value { place, pattern: pattern.map(str::to_string) });
    }
}

/// Whether rows may give folders that cannot be made: a part of several texts may be too long, and what a pattern of
/// times gives may be a name of its own, such as `..`.
fn may_refuse(parts: &[PathPart], output: &[OutputColumn], event: &[OutputColumn]) -> bool {
    let is_text = |place: &ColumnPlace| match place {
        ColumnPlace::Output(i) => output[*i].ty == SqlType::Text,
        ColumnPlace::Event(i) => event[*i].ty == SqlType::Text,
    };
    let (mut name, mut whole) = (0, 0);
    for part in parts {
        match part {
            PathPart::Literal(text) => {
                whole += text.len();
                // What follows the last slash begins a new name.
                match text.rsplit_once('/') {
                    Some((before, after)) => {
                        let longest = before.split('/').map(str::len).max().unwrap_or(0);
                        if name + longest > NAME_LIMIT {
                            return true;
                        }
                        name = after.len();
                    }
                    None => name += text.len(),
                }
            }
            PathPart::Value { pattern: Some(pattern), .. } if pattern.contains('.') || pattern.len() > 60 => {
                return true;
            }
            PathPart::Value { place, .. } => {
                let longest = if is_text(place) { VALUE_LIMIT } else { 64 };
                (name, whole) = (name + longest, whole + longest);
            }
        }
        if name > NAME_LIMIT || whole > PATH_LIMIT {
            return true;
        }
    }
    false
}

/// Why a folder cannot be made.
fn fault_of(folder: &str) -> Option<String> {
    let folder = folder.trim_matches('/');
    if folder.len() > PATH_LIMIT {
        return Some(format!("the path gives a folder of {} bytes; at most {PATH_LIMIT} can be made", folder.len()));
    }
    let parts: Vec<&str> = folder.split('/').collect();
    if let Some(long) = parts.iter().find(|part| part.len() > NAME_LIMIT) {
        let start: String = long.chars().take(40).collect();
        return Some(format!(
            "the path gives a folder name of {} bytes (`{start}…`); file systems take at most {NAME_LIMIT}",
            long.len()
        ));
    }
    let odd = parts.iter().find(|part| part.is_empty() || matches!(**part, "." | "..")).filter(|_| !folder.is_empty());
    odd.map(|part| format!("the path gives a folder named `{part}`, which would leave the landing's folder"))
}

#[cfg(test)]
mod tests {
    use super::groups::escape;
    use super::*;
    use crate::plan::transform::schema_of;
    use crate::sql::tests::embed;
    use arrow_array::{ArrayRef, StringArray, TimestampMicrosecondArray};
    use rstest::rstest;

    fn columns() -> Vec<OutputColumn> {
        let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: true, limit: None };
        vec![column("lock_id", SqlType::Text), column("at", SqlType::Timestamptz)]
    }

    fn split(template: &str, rows: &[(Option<&str>, i64)]) -> Vec<(String, usize)> {
        let columns = columns();
        let mut problems = Problems::new();
        let template = PathTemplate::bind(&embed(template), &columns, &columns, &mut problems);
        let template = template.unwrap_or_else(|| panic!("{:?}", problems.into_sorted()));
        let ids: ArrayRef = Arc::new(StringArray::from(rows.iter().map(|r| r.0).collect::<Vec<_>>()));
        let hour = 3_600_000_000;
        let times = TimestampMicrosecondArray::from(rows.iter().map(|r| r.1 * hour).collect::<Vec<_>>());
        let times: ArrayRef = Arc::new(times.with_timezone("UTC"));
        let batch = RecordBatch::try_new(schema_of(&columns), vec![ids, times]).unwrap();
        let parts = template.split(batch.clone(), &batch);
        assert_eq!(parts.iter().map(|p| p.batch.num_rows()).sum::<usize>(), rows.len());
        parts.into_iter().map(|p| (p.folder.to_string(), p.batch.num_rows())).collect()
    }

    #[rstest]
    #[case("all")]
    #[case("{lock_id}/{at:%d}")]
    fn the_folder_of_each_row_is_that_of_its_part(#[case] template: &str) {
        let columns = columns();
        let template = PathTemplate::bind(&embed(template), &columns, &columns, &mut Problems::new()).unwrap();
        let ids: ArrayRef = Arc::new(StringArray::from(vec![Some("a"), Some("b"), None, Some("a")]));
        let times: ArrayRef = Arc::new(TimestampMicrosecondArray::from(vec![0, 0, 1, time::DAY]).with_timezone("UTC"));
        let batch = RecordBatch::try_new(schema_of(&columns), vec![ids, times]).unwrap();
        let folders = template.folders(&batch, &batch);
        assert_eq!(folders.len(), 4);
        for part in template.split(batch.clone(), &batch) {
            let count = folders.iter().filter(|f| **f == part.folder).count();
            assert_eq!(count, part.batch.num_rows(), "{}", part.folder);
        }
        assert!(template.folders(&batch.slice(0, 0), &batch.slice(0, 0)).is_empty());
    }

    #[rstest]
    #[case("all", &[("all", 4)])]
    #[case("d/{at:%Y/%m/%d}", &[("d/1970/01/01", 3), ("d/1970/01/02", 1)])]
    #[case("{at:%Y%m%dT%H}", &[("19700101T00", 2), ("19700101T23", 1), ("19700102T01", 1)])]
    #[case("{lock_id}", &[("a", 2), ("b%2Fc", 1), ("%null", 1)])]
    #[case("{lock_id}/{at:%d}", &[("a/01", 1), ("b%2Fc/01", 1), ("%null/01", 1), ("a/02", 1)])]
    fn rows_find_their_folder(#[case] template: &str, #[case] expected: &[(&str, usize)]) {
        let rows = [(Some("a"), 0), (Some("b/c"), 0), (None, 23), (Some("a"), 25)];
        let expected: Vec<(String, usize)> = expected.iter().map(|(n, c)| ((*n).to_string(), *c)).collect();
        assert_eq!(split(template, &rows), expected);
    }

    #[rstest]
    #[case("{lokc_id}", "did you mean `lock_id`?")]
    #[case("{at}", "add a pattern")]
    #[case("{lock_id:%Y}", "without a pattern")]
    #[case("{at:%Q}", "such as")]
    #[case("{at:%Y", "write {column}")]
    #[case("a}b", "write {column}")]
    #[case("../up", "no slash at the start")]
    #[case("/root", "no slash at the start")]
    #[case("a//b", "no empty part")]
    fn mistakes(#[case] template: &str, #[case] help: &str) {
        let mut problems = Problems::new();
        assert!(PathTemplate::bind(&embed(template), &columns(), &columns(), &mut problems).is_none());
        let found = problems.into_sorted();
        assert!(found.iter().any(|p| p.help.as_ref().unwrap().contains(help)), "{found:?}");
    }

    #[rstest]
    #[case("..", "%2E.")]
    #[case("", "%empty")]
    #[case("%null", "%25null")]
    #[case("a=b", "a%3Db")]
    #[case("a\nb", "a%0Ab")]
    #[case("閘門", "閘門")]
    fn values_cannot_leave_their_folder(#[case] value: &str, #[case] expected: &str) {
        assert_eq!(escape(value), expected);
    }

    #[rstest]
    #[case::two_texts("{lock_id}-{lock_id}", 180, 1)]
    #[case::two_short_ones("{lock_id}-{lock_id}", 120, 2)]
    #[case::one_is_shortened("{lock_id}", 300, 2)]
    #[case::in_one_part_of_several("a/{lock_id}{lock_id}/b", 180, 1)]
    #[case::in_two_parts("{lock_id}/{lock_id}", 180, 2)]
    #[case::out_of_the_folder("{at:.%.f}", 1, 0)]
    fn a_row_whose_folder_cannot_be_made_is_at_fault(
        #[case] template: &str,
        #[case] length: usize,
        #[case] lands: usize,
    ) {
        let columns = columns();
        let template = PathTemplate::bind(&embed(template), &columns, &columns, &mut Problems::new()).unwrap();
        let long = "x".repeat(length);
        let ids: ArrayRef = Arc::new(StringArray::from(vec![Some(long.as_str()), Some("a")]));
        let times: ArrayRef = Arc::new(TimestampMicrosecondArray::from(vec![0, 0]).with_timezone("UTC"));
        let batch = RecordBatch::try_new(schema_of(&columns), vec![ids, times]).unwrap();
        let mut result = crate::plan::Transform::new(None, Vec::new(), &columns).apply(&batch, 0);
        let groups = template.refuse(&mut result, &BatchFolders::default(), 0, 0);
        assert_eq!(groups.is_some(), lands == 2);
        assert_eq!((result.batch.num_rows(), result.source.num_rows()), (lands, lands));
        assert_eq!(result.faults.len(), 2 - lands);
        assert!(result.faults.iter().all(|f| f.reason == Reason::PATH), "{:?}", result.faults);
        if lands == 1 {
            assert_eq!((result.faults[0].row, result.origin), (0, Some(vec![1])));
        }
    }

    #[test]
    fn a_batch_fills_so_many_folders_at_most() {
        let columns = columns();
        let bound = PathTemplate::bind(&embed("{lock_id}"), &columns, &columns, &mut Problems::new());
        let (template, batches) = (bound.unwrap().with_most(2), BatchFolders::default());
        let landed = |locks: &[&str], landing: usize, opened_at: i64| {
            let ids: ArrayRef = Arc::new(StringArray::from(locks.to_vec()));
            let times: ArrayRef = Arc::new(TimestampMicrosecondArray::from(vec![0; locks.len()]).with_timezone("UTC"));
            let batch = RecordBatch::try_new(schema_of(&columns), vec![ids, times]).unwrap();
            let mut result = crate::plan::Transform::new(None, Vec::new(), &columns).apply(&batch, 0);
            let groups = template.refuse(&mut result, &batches, landing, opened_at);
            assert!(result.faults.iter().all(|f| f.reason == Reason::PATH && f.message.contains("2 folders")));
            assert_eq!(groups.is_some(), result.faults.is_empty());
            result.batch.num_rows()
        };
        assert_eq!(landed(&["a", "b", "a", "c"], 0, 7), 3);
        assert_eq!(landed(&["c", "b", "d"], 0, 7), 1);
        // Another landing, and another batch.
        assert_eq!(landed(&["c", "d"], 1, 7), 2);
        assert_eq!(landed(&["c", "d"], 0, 8), 2);
        (9..300).for_each(|at| assert_eq!(landed(&["c", "e"], 0, at), 2));
        assert_eq!(batches.batches(), 8);
        // So many landings of one batch do not push each other out.
        (0..300).for_each(|landing| assert_eq!(landed(&["a", "b"], landing, 300), 2));
        (0..300).for_each(|landing| assert_eq!(landed(&["c"], landing, 300), 0));
    }

    #[test]
    fn a_date_has_no_hours() {
        let columns = vec![OutputColumn { name: "day".into(), ty: SqlType::Date, nullable: true, limit: None }];
        let mut problems = Problems::new();
        assert!(PathTemplate::bind(&embed("{day:%Y/%H}"), &columns, &columns, &mut problems).is_none());
        assert!(PathTemplate::bind(&embed("{day:%Y/%m}"), &columns, &columns, &mut problems).is_some());
    }

    #[test]
    fn long_values_stay_apart() {
        let (a, b) = (escape(&"x".repeat(300)), escape(&"x".repeat(301)));
        assert!(a.len() < 255 && a != b);
    }
}
