//! Syntax of SQL that expressions do not have.

use sqlparser::ast;

/// The message about syntax that expressions do not have, and its remedy.
pub(super) fn unknown_syntax(syntax: &ast::Expr) -> (String, &'static str) {
    const TIME: &str = "date_trunc('day', t) cuts a moment; compare moments with >= and <";
    let (word, help) = match syntax {
        ast::Expr::Like { .. } | ast::Expr::ILike { .. } | ast::Expr::SimilarTo { .. } | ast::Expr::RLike { .. } => {
            ("like", "compare parts of a text: substring(t, 1, 3) = 'TN-'")
        }
        ast::Expr::Extract { .. } => ("extract", TIME),
        ast::Expr::Interval(_) => ("interval", TIME),
        ast::Expr::AtTimeZone { .. } => ("at time zone", TIME),
        ast::Expr::Ceil { .. } => ("ceil", "round(x) rounds to the nearest number"),
        ast::Expr::Floor { .. } => ("floor", "round(x) rounds to the nearest number"),
        ast::Expr::Position { .. } => ("position", "substring and length cut texts"),
        ast::Expr::Overlay { .. } => ("overlay", "substring and || put texts together"),
        ast::Expr::Trim { .. } => ("trim with a side or characters", "trim(t) takes blanks from both ends"),
        ast::Expr::IsDistinctFrom(..) | ast::Expr::IsNotDistinctFrom(..) => {
            ("is distinct from", "write: coalesce(a <> b, (a is null) <> (b is null))")
        }
        ast::Expr::Subquery(_) | ast::Expr::Exists { .. } | ast::Expr::InSubquery { .. } => {
            ("a query within an expression", "the manual lists what expressions can do")
        }
        _ => (
            "this part of SQL",
            "the manual lists what expressions can do; transforms of several events are made events",
        ),
    };
    (if word.contains(' ') { format!("{word} is not known here") } else { format!("`{word}` is not known here") }, help)
}
