//! Expressions over the columns of an event: bound and typed before anything runs, evaluated column by column.
//!
//! [`bind`] turns SQL syntax into [`Expr`], [`eval`] computes it. A value that cannot be computed for one row, such as
//! a division by zero, is an error of that row alone: it travels beside the column and makes the row a reject.

mod arithmetic;
pub mod bind;
mod cast;
mod column;
mod condition;
mod differences;
pub mod eval;
pub mod functions;
mod limit;
mod literal;
mod operators;

use arrow_array::ArrayRef;

use crate::limit::Limit;
use crate::types::SqlType;

pub mod own;
pub mod secrets;
mod shared;

pub use bind::{
    BoundCall, Condition, SelectItem, bind_columns, bind_condition, bind_grouped, bind_joined, bind_parts, bind_select,
};
pub use cast::cast_column;
pub use column::{Column, RowErrors};
pub use differences::DIFFERENCES;
pub use eval::{EvalContext, evaluate};
pub(crate) use functions::Prepared;
pub use functions::{Function, GROUPS};
pub(crate) use functions::{json_length, json_members, json_type, regex_fault};
pub(crate) use literal::boolean_word;
pub use operators::OPERATORS;
pub use shared::{SharedValues, share};

/// The columns that an expression can name.
#[derive(Clone, Debug)]
pub struct ScopeColumn {
    /// The name.
    pub name: String,
    /// The type.
    pub ty: SqlType,
    /// Whether it can be null.
    pub nullable: bool,
    /// What narrows its values.
    pub limit: Option<Limit>,
}

/// A typed expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it computes.
    pub node: Node,
    /// The type of its values.
    pub ty: SqlType,
    /// Whether it can be null.
    pub nullable: bool,
    /// What narrows its values.
    pub limit: Option<Limit>,
}

/// What an expression computes.
#[derive(Clone, Debug)]
pub enum Node {
    /// A column of the scope, by its place.
    Column(usize),
    /// A constant, as an array of one.
    Literal(ArrayRef),
    /// The moment at which the batch was opened.
    Now,
    /// A cast to the expression's type; `lenient` gives null where a value does not fit.
    Cast {
        /// What is cast.
        inner: Box<Expr>,
        /// Whether it is a `try_cast`.
        lenient: bool,
    },
    /// A value of a narrower type, cut or rounded to it; `lenient` gives null where it does not fit.
    Limit {
        /// What is narrowed.
        inner: Box<Expr>,
        /// By what.
        limit: Limit,
        /// Whether it is a `try_cast`.
        lenient: bool,
    },
    /// What is computed once for each chunk of rows and used in several places, by its number.
    Shared(usize, Box<Expr>),
    /// `+ - * / %` of two numbers.
    Arithmetic(ArithmeticOp, Box<Expr>, Box<Expr>),
    /// A comparison of two values of one type.
    Compare(CompareOp, Box<Expr>, Box<Expr>),
    /// `and` under three-valued logic.
    And(Box<Expr>, Box<Expr>),
    /// `or` under three-valued logic.
    Or(Box<Expr>, Box<Expr>),
    /// `not`.
    Not(Box<Expr>),
    /// `is null`.
    IsNull(Box<Expr>),
    /// `is true` or `is false`: never null.
    IsTruth(Box<Expr>, bool),
    /// The first branch whose condition is true, else the last expression.
    Case(Vec<(Expr, Expr)>, Box<Expr>),
    /// The first value that is not null.
    Coalesce(Vec<Expr>),
    /// A function of the table.
    Call(Call),
}

/// A function with its arguments.
#[derive(Clone, Debug)]
pub struct Call {
    /// The function.
    pub function: &'static Function,
    /// What it made of its constant arguments.
    pub(crate) prepared: Prepared,
    /// The arguments.
    pub arguments: Vec<Expr>,
}

/// An operator of two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ArithmeticOp {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`; of whole numbers, the whole part
    Divide,
    /// `%`
    Remainder,
}

/// A comparison.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CompareOp {
    /// `=`
    Equal,
    /// `<>`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
}

impl Expr {
    /// An expression of a type.
    pub fn new(node: Node, ty: SqlType, nullable: bool) -> Self {
        Self { node, ty, nullable, limit: None }
    }

    /// A column of a scope.
    pub fn of_column(index: usize, ty: SqlType, nullable: bool, limit: Option<Limit>) -> Self {
        Self { limit, ..Self::new(Node::Column(index), ty, nullable) }
    }

    /// Adds the columns of the scope that it reads, by their places.
    pub fn add_columns(&self, found: &mut std::collections::BTreeSet<usize>) {
        match &self.node {
            Node::Column(index) => {
                found.insert(*index);
            }
            _ => self.for_each_part(&mut |part| part.add_columns(found)),
        }
    }

    /// Goes over the expressions that this one computes with.
    pub(crate) fn for_each_part(&self, visit: &mut dyn FnMut(&Self)) {
        match &self.node {
            Node::Column(_) | Node::Literal(_) | Node::Now => {}
            Node::Cast { inner, .. }
            | Node::Limit { inner, .. }
            | Node::Shared(_, inner)
            | Node::Not(inner)
            | Node::IsNull(inner)
            | Node::IsTruth(inner, _) => visit(inner),
            Node::Arithmetic(_, a, b) | Node::Compare(_, a, b) | Node::And(a, b) | Node::Or(a, b) => {
                visit(a);
                visit(b);
            }
            Node::Case(branches, otherwise) => {
                for (when, then) in branches {
                    visit(when);
                    visit(then);
                }
                visit(otherwise);
            }
            Node::Coalesce(items) | Node::Call(Call { arguments: items, .. }) => items.iter().for_each(visit),
        }
    }

    /// The same expression over a scope in which each column has another place.
    #[must_use]
    pub fn with_places(&self, place: &impl Fn(usize) -> usize) -> Self {
        match &self.node {
            Node::Column(index) => Self { node: Node::Column(place(*index)), ..self.clone() },
            _ => self.map_parts(&|part| part.with_places(place)),
        }
    }

    /// The same expression with each of its parts changed.
    fn map_parts(&self, change: &dyn Fn(&Self) -> Self) -> Self {
        let one = |expr: &Self| Box::new(change(expr));
        let all = |exprs: &[Self]| exprs.iter().map(change).collect();
        let node = match &self.node {
            Node::Column(_) | Node::Literal(_) | Node::Now => self.node.clone(),
            Node::Cast { inner, lenient } => Node::Cast { inner: one(inner), lenient: *lenient },
            Node::Limit { inner, limit, lenient } => {
                Node::Limit { inner: one(inner), limit: *limit, lenient: *lenient }
            }
            Node::Shared(number, inner) => Node::Shared(*number, one(inner)),
            Node::Arithmetic(op, a, b) => Node::Arithmetic(*op, one(a), one(b)),
            Node::Compare(op, a, b) => Node::Compare(*op, one(a), one(b)),
            Node::And(a, b) => Node::And(one(a), one(b)),
            Node::Or(a, b) => Node::Or(one(a), one(b)),
            Node::Not(inner) => Node::Not(one(inner)),
            Node::IsNull(inner) => Node::IsNull(one(inner)),
            Node::IsTruth(inner, truth) => Node::IsTruth(one(inner), *truth),
            Node::Case(branches, otherwise) => {
                Node::Case(branches.iter().map(|(when, then)| (change(when), change(then))).collect(), one(otherwise))
            }
            Node::Coalesce(values) => Node::Coalesce(all(values)),
            Node::Call(call) => {
                let (function, prepared) = (call.function, call.prepared.clone());
                Node::Call(Call { function, prepared, arguments: all(&call.arguments) })
            }
        };
        Self { node, ty: self.ty, nullable: self.nullable, limit: self.limit }
    }

    /// The column that this is, where it is nothing but a column.
    pub fn as_column(&self) -> Option<usize> {
        match self.node {
            Node::Column(index) => Some(index),
            _ => None,
        }
    }
}

#[cfg(test)]
mod random;
#[cfg(test)]
mod tests;
