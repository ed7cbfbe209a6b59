//! Transforms of changes: conditions and columns where values may be absent, and rows that leave a condition.

use arrow_array::cast::AsArray as _;
use arrow_array::{Array as _, BooleanArray, RecordBatch};
use arrow_buffer::BooleanBuffer;

use rustc_hash::{FxHashMap, FxHashSet};

use super::transform::{RowFault, Transform, Transformed, filter};
use crate::change::{Absent, ChangeKind, Marks};
use crate::expr::{EvalContext, evaluate};
use crate::reject::Reason;

/// What becomes of one row at a condition.
enum ConditionChange {
    Passes(ChangeKind),
    Filtered,
    Faulty(String),
}

impl Transform {
    /// The columns that the condition reads, and those of columns that read several, each with its text and whether it is
    /// the condition.
    pub(super) fn computed(&self) -> Vec<(std::collections::BTreeSet<usize>, String, bool)> {
        let mut found = Vec::new();
        if let Some(when) = &self.when {
            let mut reads = std::collections::BTreeSet::new();
            when.expr.add_columns(&mut reads);
            let parts: Vec<&str> = when.parts.iter().map(|p| p.0.as_str()).collect();
            found.push((reads, parts.join(" and "), true));
        }
        for (expr, text) in self.select.iter().zip(&self.texts) {
            let mut reads = std::collections::BTreeSet::new();
            expr.add_columns(&mut reads);
            if reads.len() > 1 {
                found.push((reads, text.clone(), false));
            }
        }
        found
    }

    /// Computes rows that are changes; gives the marks of the rows that come out.
    ///
    /// A row without the value that a condition reads passes if it is gone, since a delete of what is not there does no
    /// harm, and is at fault otherwise. `keeps_left` lets an updated row that does not meet the condition pass as
    /// [`ChangeKind::Left`]. A column computed from absent values alone is absent; one that needs absent and present
    /// values together is at fault.
    pub fn apply_changes(&self, rows: &RecordBatch, marks: &Marks, now: i64, keeps_left: bool) -> (Transformed, Marks) {
        let mut faults = Vec::new();
        let mut kept = Vec::with_capacity(rows.num_rows());
        let mut kinds = Vec::with_capacity(rows.num_rows());
        let mut filtered = 0;
        if self.when.is_none() && (keeps_left || !marks.kinds.contains(&ChangeKind::Left)) {
            kept.extend((0..rows.num_rows()).map(narrow));
            kinds.clone_from(&marks.kinds);
        } else {
            for (row, fate) in self.fates(rows, marks, now, keeps_left).into_iter().enumerate() {
                match fate {
                    ConditionChange::Passes(kind) => {
                        kept.push(narrow(row));
                        kinds.push(kind);
                    }
                    ConditionChange::Filtered => filtered += 1,
                    ConditionChange::Faulty(message) => {
                        faults.push(RowFault { row, column: None, reason: Reason::EXPRESSION, message })
                    }
                }
            }
        }
        let all = kept.len() == rows.num_rows();
        let (mut source, absent, mut origin) = match all {
            true => (rows.clone(), marks.absent.clone(), None),
            false => {
                let mask = mask(rows.num_rows(), &kept);
                (filter(rows, &mask), marks.absent.take(&kept), Some(kept))
            }
        };
        let mut batch = self.compute(&source, now, origin.as_deref(), &mut faults);
        let mut out = Marks { absent: self.absent(&absent, &kinds, origin.as_deref(), &mut faults), kinds };
        if let Some(good) = self.without_faults(&source, &faults, origin.as_deref()) {
            let places: Vec<u32> = (0..good.len()).filter(|i| good.value(*i)).map(narrow).collect();
            out = out.take(&places);
            origin = Some(match &origin {
                Some(before) => places.iter().map(|i| before[wide(*i)]).collect(),
                None => places,
            });
            batch = filter(&batch, &good);
            source = filter(&source, &good);
        }
        (Transformed { batch, source, origin, filtered, faults }, out)
    }

    fn fates(&self, rows: &RecordBatch, marks: &Marks, now: i64, keeps_left: bool) -> Vec<ConditionChange> {
        let unconditional = |kind: &ChangeKind| match kind {
            ChangeKind::Left if !keeps_left => ConditionChange::Filtered,
            kind => ConditionChange::Passes(*kind),
        };
        let Some(when) = &self.when else { return marks.kinds.iter().map(unconditional).collect() };
        let condition = evaluate(&when.expr, &EvalContext::new(rows, now)).expand(rows.num_rows());
        let errors: FxHashMap<usize, String> = condition.errors.clone().into_iter().collect();
        let truth = condition.array.as_boolean();
        let mut reads = std::collections::BTreeSet::new();
        when.expr.add_columns(&mut reads);
        let fate = |(row, kind): (usize, &ChangeKind)| {
            if kind.is_of_table() || (*kind == ChangeKind::Left && !keeps_left) {
                return unconditional(kind);
            }
            if let Some(column) = reads.iter().find(|c| marks.absent.of(**c).is_some_and(|bits| bits.value(row))) {
                return match kind.is_gone() {
                    true => ConditionChange::Passes(*kind),
                    false => ConditionChange::Faulty(not_sent(rows.schema().field(*column).name())),
                };
            }
            if let Some(message) = errors.get(&row) {
                return ConditionChange::Faulty(message.clone());
            }
            match (!truth.is_null(row) && truth.value(row), kind) {
                (true, kind) => ConditionChange::Passes(*kind),
                (false, ChangeKind::Updated | ChangeKind::Early | ChangeKind::Left) if keeps_left => {
                    ConditionChange::Passes(ChangeKind::Left)
                }
                (false, _) => ConditionChange::Filtered,
            }
        };
        marks.kinds.iter().enumerate().map(fate).collect()
    }

    /// Which values of the columns are absent.
    fn absent(
        &self,
        input: &Absent,
        kinds: &[ChangeKind],
        origin: Option<&[u32]>,
        faults: &mut Vec<RowFault>,
    ) -> Absent {
        if input.is_empty() || self.select.is_empty() {
            return input.clone();
        }
        let mut out = Absent::default();
        let mut known: FxHashSet<usize> = faults.iter().map(|f| f.row).collect();
        for (place, expr) in self.select.iter().enumerate() {
            let mut reads = std::collections::BTreeSet::new();
            expr.add_columns(&mut reads);
            let lacking: Vec<&BooleanBuffer> = reads.iter().filter_map(|c| input.of(*c)).collect();
            if lacking.is_empty() {
                continue;
            }
            let lacks = |row: usize| lacking.iter().filter(|bits| bits.value(row)).count();
            for (row, kind) in kinds.iter().enumerate().filter(|(_, kind)| !kind.is_gone()) {
                let (lacks, row_of_event) = (lacks(row), origin.map_or(row, |o| wide(o[row])));
                let mixed = lacks > 0 && lacks < reads.len() && *kind != ChangeKind::Loaded;
                if mixed && known.insert(row_of_event) {
                    let column = Some(self.columns[place].name.clone());
                    let message = not_sent(&self.texts[place]);
                    faults.push(RowFault { row: row_of_event, column, reason: Reason::EXPRESSION, message });
                }
            }
            out.set(place, Some((0..kinds.len()).map(|row| lacks(row) > 0).collect()));
        }
        out
    }
}

fn not_sent(what: &str) -> String {
    format!(
        "`{what}` needs a large value that did not change, and the source did not send it; with alter table … replica \
         identity full it sends all values"
    )
}

fn mask(rows: usize, kept: &[u32]) -> BooleanArray {
    let mut mask = vec![false; rows];
    kept.iter().for_each(|row| mask[wide(*row)] = true);
    BooleanArray::from(mask)
}

fn narrow(row: usize) -> u32 {
    u32::try_from(row).unwrap_or(u32::MAX)
}

fn wide(row: u32) -> usize {
    usize::try_from(row).unwrap_or(usize::MAX)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::columns::OutputColumn;
    use crate::expr::{ScopeColumn, bind_condition, bind_select};
    use crate::plan::transform::schema_of;
    use crate::problem::Problems;
    use crate::sql::tests::embed;
    use crate::types::SqlType;
    use ChangeKind::{Deleted, Inserted, Left, Loaded, Truncated, Updated};
    use arrow_array::types::Int32Type;
    use arrow_array::{ArrayRef, Int32Array};
    use rstest::rstest;

    fn transform(when: &str, columns: &str) -> Transform {
        let column = |name: &str| OutputColumn { name: name.into(), ty: SqlType::Integer, nullable: true, limit: None };
        let input = vec![column("n"), column("m")];
        let scope: Vec<ScopeColumn> =
            input.iter().map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: true, limit: None }).collect();
        let mut problems = Problems::new();
        let when = (!when.is_empty()).then(|| bind_condition(&embed(when), &scope, &mut problems).unwrap());
        let items = if columns.is_empty() { Vec::new() } else { bind_select(&embed(columns), &scope, &mut problems) };
        assert!(!problems.has_errors(), "{:?}", problems.into_sorted());
        Transform::new(when, items, &input)
    }

    /// Rows of n and m; `absent` names the rows in which m is absent.
    fn rows(n: &[Option<i32>], absent: &[usize]) -> (RecordBatch, Absent) {
        let column = |name: &str| OutputColumn { name: name.into(), ty: SqlType::Integer, nullable: true, limit: None };
        let m: Vec<Option<i32>> = (0..n.len()).map(|row| (!absent.contains(&row)).then_some(7)).collect();
        let arrays: Vec<ArrayRef> = vec![Arc::new(Int32Array::from(n.to_vec())), Arc::new(Int32Array::from(m))];
        let mut marks = Absent::default();
        marks.set(1, Some((0..n.len()).map(|row| absent.contains(&row)).collect()));
        (RecordBatch::try_new(schema_of(&[column("n"), column("m")]), arrays).unwrap(), marks)
    }

    fn apply(
        transform: &Transform,
        n: &[i32],
        kinds: &[ChangeKind],
        absent: &[usize],
        keeps_left: bool,
    ) -> (Transformed, Marks) {
        let (batch, absent) = rows(&n.iter().map(|n| Some(*n)).collect::<Vec<_>>(), absent);
        let marks = Marks { kinds: kinds.to_vec(), absent };
        let (out, after) = transform.apply_changes(&batch, &marks, 0, keeps_left);
        let counted = out.batch.num_rows() + usize::try_from(out.filtered).unwrap() + out.faults.len();
        assert_eq!(counted, n.len(), "in = out + filtered + faults");
        assert_eq!(after.kinds.len(), out.batch.num_rows());
        (out, after)
    }

    #[rstest]
    #[case(true, &[Inserted, Left, Deleted, Truncated], 2)]
    #[case(false, &[Inserted, Deleted, Truncated], 3)]
    fn a_row_that_leaves_the_condition_is_gone_for_a_mirror(
        #[case] mirror: bool,
        #[case] kinds: &[ChangeKind],
        #[case] filtered: u64,
    ) {
        let n = [5, 1, 1, 5, 1, 0];
        let input = [Inserted, Updated, Inserted, Deleted, Loaded, Truncated];
        let (out, marks) = apply(&transform("n > 2", ""), &n, &input, &[], mirror);
        assert_eq!((marks.kinds.as_slice(), out.filtered), (kinds, filtered));
    }

    #[test]
    fn a_delete_passes_a_condition_over_what_was_not_sent_and_an_update_does_not() {
        let (out, marks) = apply(&transform("m > 2", "n"), &[1, 2, 3], &[Deleted, Updated, Updated], &[0, 1], true);
        assert_eq!(marks.kinds, [Deleted, Updated]);
        assert_eq!(out.faults.len(), 1);
        assert!(out.faults[0].message.contains("`m` needs a large value"), "{}", out.faults[0].message);
        assert_eq!(out.batch.column(0).as_primitive::<Int32Type>().values(), &[1, 3]);
    }

    #[test]
    fn what_is_computed_from_absent_values_alone_is_absent() {
        let transform = transform("", "m * 2 as twice, n, n + m as both");
        let (out, marks) = apply(&transform, &[1, 2, 3], &[Updated, Deleted, Updated], &[0, 1], true);
        assert_eq!(out.faults.iter().map(|f| (f.row, f.column.as_deref())).collect::<Vec<_>>(), [(0, Some("both"))]);
        assert_eq!(marks.kinds, [Deleted, Updated]);
        assert_eq!(marks.absent.of(0).unwrap().iter().collect::<Vec<_>>(), [true, false]);
        assert!(marks.absent.of(1).is_none());
        assert_eq!(marks.absent.of(2).unwrap().iter().collect::<Vec<_>>(), [true, false]);
    }
}
