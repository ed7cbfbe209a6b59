//! Parts that stand in several places of expressions: they are computed once for each chunk of rows.

use std::cell::RefCell;
use std::collections::HashMap;

use super::column::Column;
use super::{Expr, Node};

/// What was computed so far, by the numbers of parts.
#[derive(Debug, Default)]
pub struct SharedValues(RefCell<Vec<Option<Column>>>);

impl SharedValues {
    /// The values of a part, computed where they have not been yet.
    pub(super) fn get(&self, number: usize, compute: impl FnOnce() -> Column) -> Column {
        if let Some(Some(found)) = self.0.borrow().get(number) {
            return found.clone();
        }
        // Computing it may need other shared parts: nothing is borrowed meanwhile.
        let column = compute();
        let mut all = self.0.borrow_mut();
        if all.len() <= number {
            all.resize(number + 1, None);
        }
        all[number] = Some(column.clone());
        column
    }
}

/// Marks what several of the expressions, or several places of one, compute alike. They must be computed over the same rows.
pub fn share(expressions: Vec<Expr>) -> Vec<Expr> {
    let mut counts = HashMap::new();
    expressions.iter().for_each(|expr| count(expr, &mut counts));
    counts.retain(|_, places: &mut usize| *places > 1);
    if counts.is_empty() {
        return expressions;
    }
    let mut numbers = HashMap::new();
    expressions.iter().map(|expr| marked(expr, &counts, &mut numbers)).collect()
}

/// Whether computing it costs more than keeping it.
fn is_worth_it(expr: &Expr) -> bool {
    matches!(
        expr.node,
        Node::Cast { .. }
            | Node::Limit { .. }
            | Node::Arithmetic(..)
            | Node::Case(..)
            | Node::Coalesce(_)
            | Node::Call(_)
    )
}

/// Two expressions with one key compute the same: it shows every node with its constants.
fn key(expr: &Expr) -> String {
    format!("{expr:?}")
}

fn count(expr: &Expr, counts: &mut HashMap<String, usize>) {
    if is_worth_it(expr) {
        let places = counts.entry(key(expr)).or_default();
        *places += 1;
        // Its own parts are computed with it, once.
        if *places > 1 {
            return;
        }
    }
    expr.for_each_part(&mut |part| count(part, counts));
}

fn marked(expr: &Expr, counts: &HashMap<String, usize>, numbers: &mut HashMap<String, usize>) -> Expr {
    let number =
        Some(expr).filter(|expr| is_worth_it(expr)).map(key).filter(|key| counts.contains_key(key)).map(|key| {
            let next = numbers.len();
            *numbers.entry(key).or_insert(next)
        });
    // The numbers are given from outside to inside, so that those of parts are others.
    let numbers = RefCell::new(numbers);
    let inner = expr.map_parts(&|part| marked(part, counts, &mut numbers.borrow_mut()));
    match number {
        Some(number) => {
            let (ty, nullable, limit) = (inner.ty, inner.nullable, inner.limit);
            Expr { limit, ..Expr::new(Node::Shared(number, Box::new(inner)), ty, nullable) }
        }
        None => inner,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::ScopeColumn;
    use crate::expr::bind::bind_select;
    use crate::problem::Problems;
    use crate::sql::tests::embed;
    use crate::types::SqlType;
    use rstest::rstest;

    fn shared(select: &str) -> Vec<Expr> {
        let column = |name: &str, ty| ScopeColumn { name: name.into(), ty, nullable: true, limit: None };
        let scope = [column("t", SqlType::Text), column("k", SqlType::Json), column("i", SqlType::Integer)];
        let mut problems = Problems::new();
        let items = bind_select(&embed(select), &scope, &mut problems);
        assert!(problems.is_empty(), "{select}");
        share(items.into_iter().map(|item| item.expr).collect())
    }

    fn numbers(expr: &Expr, found: &mut Vec<usize>) {
        if let Node::Shared(number, _) = expr.node {
            found.push(number);
        }
        expr.for_each_part(&mut |part| numbers(part, found));
    }

    #[rstest]
    #[case("lower(t) as a, lower(t) as b", &[0, 0])]
    #[case("lower(t) as a, upper(t) as b, t as c", &[])]
    #[case("lower(t) in ('a', 'b', 'c') as a", &[0, 0, 0])]
    #[case("(k -> 'a' ->> 'b') as a, (k -> 'a' ->> 'c') as b", &[0, 0])]
    #[case("lower(trim(t)) as a, lower(trim(t)) || trim(t) as b", &[0, 1, 0, 1, 1])]
    #[case("i + 1 as a, i + 2 as b", &[])]
    #[case("regexp_replace(t, 'a', 'b') as a, regexp_replace(t, 'a', 'c') as b", &[])]
    fn what_is_alike_has_one_number(#[case] select: &str, #[case] expected: &[usize]) {
        let mut found = Vec::new();
        shared(select).iter().for_each(|expr| numbers(expr, &mut found));
        assert_eq!(found, expected);
    }

    #[test]
    fn a_part_is_computed_once() {
        let values = SharedValues::default();
        let made = std::cell::Cell::new(0);
        let compute = || {
            made.set(made.get() + 1);
            Column::constant(std::sync::Arc::new(arrow_array::Int32Array::from(vec![7])))
        };
        assert_eq!(values.get(3, compute).array.len(), 1);
        values.get(3, compute);
        assert_eq!(made.get(), 1);
    }
}
