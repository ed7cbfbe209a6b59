//! Syntax of SQL that expressions do not have.

use sqlparser::ast;

/// The message about syntax that expressions do not have, and its remedy.
pub(super) fn unknown_syntax(syntax: &ast::Expr) -> (String, &'static str) {
    let (word, help) = match syntax {
        ast::Expr::Like { .. } | ast::Expr::ILike { .. } => ("`like any`", "write: t like 'a%' or t like 'b%'"),
        ast::Expr::RLike { .. } => ("`rlike`", "write: t ~ 'pattern'"),
        ast::Expr::Ceil { .. } | ast::Expr::Floor { .. } => {
            ("this form of it", "write: ceil(x), floor(x), date_trunc('day', t)")
        }
        ast::Expr::Subquery(_) | ast::Expr::Exists { .. } | ast::Expr::InSubquery { .. } => (
            "a query within an expression",
            "the manual lists what expressions can do; joins and references are made events",
        ),
        _ => (
            "this part of SQL",
            "the manual lists what expressions can do; transforms of several events are made events",
        ),
    };
    (format!("{word} is not known here"), help)
}
