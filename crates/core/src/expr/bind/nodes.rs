//! Puts typed expressions together.

use crate::expr::{Expr, Node};
use crate::limit::Limit;
use crate::types::SqlType;

/// Casts where the type differs.
pub(super) fn convert(expr: Expr, ty: SqlType) -> Expr {
    if expr.ty == ty {
        return expr;
    }
    let nullable = expr.nullable;
    Expr::new(Node::Cast { inner: Box::new(expr), lenient: false }, ty, nullable)
}

/// Narrows values, as a cast to the narrower type does.
pub(super) fn limited(expr: Expr, limit: Option<Limit>, lenient: bool) -> Expr {
    let Some(limit) = limit.filter(|_| expr.limit != limit) else { return expr };
    let (ty, nullable) = (expr.ty, expr.nullable || lenient);
    let node = Node::Limit { inner: Box::new(expr), limit, lenient };
    Expr { limit: Some(limit), ..Expr::new(node, ty, nullable) }
}

/// A constant of a type that narrows texts, as it is kept.
pub(super) fn literal_of(kept: &str, limit: Limit) -> Expr {
    Expr { limit: Some(limit), ty: limit.base(), ..Expr::text_literal(kept) }
}

pub(super) fn boolean(make: fn(Box<Expr>, Box<Expr>) -> Node, left: Expr, right: Expr) -> Expr {
    let nullable = left.nullable || right.nullable;
    Expr::new(make(Box::new(left), Box::new(right)), SqlType::Boolean, nullable)
}

/// What `and` or `or` joins, as a tree without a deep side: a list may be long.
pub(super) fn balanced(make: fn(Box<Expr>, Box<Expr>) -> Node, mut all: Vec<Expr>) -> Option<Expr> {
    while all.len() > 1 {
        let mut pairs = all.into_iter();
        let mut halved = Vec::new();
        while let Some(left) = pairs.next() {
            halved.push(match pairs.next() {
                Some(right) => boolean(make, left, right),
                None => left,
            });
        }
        all = halved;
    }
    all.pop()
}

pub(super) fn not(inner: Expr) -> Expr {
    let nullable = inner.nullable;
    Expr::new(Node::Not(Box::new(inner)), SqlType::Boolean, nullable)
}

pub(super) fn is_null(inner: Expr) -> Expr {
    Expr::new(Node::IsNull(Box::new(inner)), SqlType::Boolean, false)
}
