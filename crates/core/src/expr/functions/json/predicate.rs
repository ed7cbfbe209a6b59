//! Conditions of SQL/JSON paths. What cannot be compared is neither true nor false.

use std::cmp::Ordering;

use super::reach::{Step, Value, walk};
use crate::expr::functions::pattern::Pattern;
use crate::formats::json::scan::unescape;
use crate::values::number;

/// A condition.
#[derive(Debug)]
pub(super) enum Predicate {
    /// `&&`
    And(Box<Predicate>, Box<Predicate>),
    /// `||`
    Or(Box<Predicate>, Box<Predicate>),
    /// `!`
    Not(Box<Predicate>),
    /// `exists (path)`
    Exists(Operand),
    /// `a == b` and others.
    Compare(Comparison, Operand, Operand),
    /// `path like_regex "…"`
    Matches(Operand, Pattern),
    /// `path starts with "…"`
    StartsWith(Operand, String),
}

/// A comparison.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Comparison {
    fn holds(self, order: Ordering) -> bool {
        match self {
            Self::Equal => order.is_eq(),
            Self::NotEqual => order.is_ne(),
            Self::Less => order.is_lt(),
            Self::LessOrEqual => order.is_le(),
            Self::Greater => order.is_gt(),
            Self::GreaterOrEqual => order.is_ge(),
        }
    }
}

/// A side of a comparison.
#[derive(Debug)]
pub(super) enum Operand {
    /// `@` with steps.
    Here(Vec<Step>),
    /// `$` with steps.
    Root(Vec<Step>),
    /// A constant, as JSON.
    Constant(Vec<u8>),
}

impl Operand {
    fn values<'j>(&'j self, here: &Value<'j>, root: &'j str) -> Vec<Value<'j>> {
        let values = match self {
            Self::Here(steps) => walk(steps, vec![here.clone()], root),
            Self::Root(steps) => walk(steps, vec![root.trim().as_bytes().into()], root),
            Self::Constant(json) => return vec![json.as_slice().into()],
        };
        // Lax comparisons look into a list on their own.
        walk(&[Step::Elements], values, root)
    }
}

impl Predicate {
    /// Whether a value meets the condition; None where that cannot be said.
    pub(super) fn holds(&self, here: &Value<'_>, root: &str) -> Option<bool> {
        match self {
            Self::And(a, b) => match (a.holds(here, root), b.holds(here, root)) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            },
            Self::Or(a, b) => match (a.holds(here, root), b.holds(here, root)) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            },
            Self::Not(inner) => inner.holds(here, root).map(|found| !found),
            Self::Exists(Operand::Constant(_)) => Some(true),
            Self::Exists(operand) => {
                let (Operand::Here(steps) | Operand::Root(steps)) = operand else { return None };
                let from = match operand {
                    Operand::Here(_) => here.clone(),
                    _ => root.trim().as_bytes().into(),
                };
                Some(!walk(steps, vec![from], root).is_empty())
            }
            Self::Compare(op, left, right) => {
                let (left, right) = (left.values(here, root), right.values(here, root));
                any(left.iter().flat_map(|a| right.iter().map(move |b| compare(*op, a, b))))
            }
            Self::Matches(operand, pattern) => {
                any(operand.values(here, root).iter().map(|v| string(v).map(|text| pattern.matches(&text))))
            }
            Self::StartsWith(operand, start) => {
                any(operand.values(here, root).iter().map(|v| string(v).map(|text| text.starts_with(start.as_str()))))
            }
        }
    }
}

/// True where one of them is; not known where one is not known.
fn any(found: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut unknown = false;
    for one in found {
        match one {
            Some(true) => return Some(true),
            Some(false) => {}
            None => unknown = true,
        }
    }
    (!unknown).then_some(false)
}

/// The text of a JSON string.
fn string(value: &[u8]) -> Option<String> {
    let [b'"', raw @ .., b'"'] = value.trim_ascii() else { return None };
    let mut text = Vec::with_capacity(raw.len());
    unescape(raw, &mut text).then(|| String::from_utf8(text).ok()).flatten()
}

fn compare(op: Comparison, left: &[u8], right: &[u8]) -> Option<bool> {
    let (left, right) = (left.trim_ascii(), right.trim_ascii());
    let is_null = |value: &[u8]| value == b"null";
    if is_null(left) || is_null(right) {
        // Null equals null alone, and is neither less nor more.
        let both = is_null(left) && is_null(right);
        return Some(match op {
            Comparison::Equal | Comparison::LessOrEqual | Comparison::GreaterOrEqual => both,
            Comparison::NotEqual => !both,
            Comparison::Less | Comparison::Greater => false,
        });
    }
    if let (Some(a), Some(b)) = (string(left), string(right)) {
        return Some(op.holds(a.cmp(&b)));
    }
    let truth = |value: &[u8]| match value {
        b"true" => Some(true),
        b"false" => Some(false),
        _ => None,
    };
    if let (Some(a), Some(b)) = (truth(left), truth(right)) {
        return Some(op.holds(a.cmp(&b)));
    }
    if let (Some(a), Some(b)) = (number::parse_whole(left), number::parse_whole(right)) {
        return Some(op.holds(a.cmp(&b)));
    }
    let double = |value: &[u8]| if number::is_number(value) { number::parse_double(value) } else { None };
    double(left)?.partial_cmp(&double(right)?).map(|order| op.holds(order))
}
