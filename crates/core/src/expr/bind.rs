//! Binds SQL syntax to the columns of a scope and gives every part a type, before anything runs.

use sqlparser::ast::{self, BinaryOperator, CastKind, DataType, Spanned as _, UnaryOperator, Value};
use sqlparser::tokenizer::{Span, TokenWithSpan};

use super::functions::{self, CALL_SYNTAX, FUNCTIONS, Parameter};
use super::literal::{decimal_literal, number_literal, text_as};
use super::{ArithmeticOp, CompareOp, Expr, Node, ScopeColumn, arithmetic, cast};
use crate::config::EmbeddedText;
use crate::contract::sql_type;
use crate::problem::{Place, Problem, Problems};
use crate::sql::SqlText;
use crate::types::SqlType;

/// One column of a select list.
#[derive(Clone, Debug)]
pub struct SelectItem {
    /// Its name.
    pub name: String,
    /// What it computes.
    pub expr: Expr,
    /// Where it stands.
    pub place: Place,
}

/// Binds a condition; None where it has a mistake.
pub fn bind_condition(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Option<Expr> {
    let sql = SqlText::new(text, problems);
    let piece = sql.whole();
    if piece.is_empty() {
        return None;
    }
    let mut parser = SqlText::parser(&piece);
    let parsed = match parser.parse_expr() {
        Ok(parsed) => parsed,
        Err(error) => {
            problems.add(sql.syntax_problem(&error, &piece));
            return None;
        }
    };
    if let Some(problem) = sql.leftover_problem(&parser) {
        problems.add(problem);
        return None;
    }
    let mut binder = Binder { sql: &sql, piece: &piece, scope, problems };
    let expr = binder.bind(&parsed)?;
    let expr = binder.typed_as(expr, SqlType::Boolean);
    if expr.ty != SqlType::Boolean {
        binder.mismatch(parsed.span(), format!("a condition must be boolean, this is {}", expr.ty), None);
        return None;
    }
    Some(expr)
}

/// Binds a select list. Items with a mistake become problems; the others are returned.
pub fn bind_select(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Vec<SelectItem> {
    let sql = SqlText::new(text, problems);
    let mut items: Vec<SelectItem> = Vec::new();
    for piece in sql.pieces(problems) {
        let mut binder = Binder { sql: &sql, piece: &piece, scope, problems };
        for item in binder.select_item() {
            if items.iter().any(|i| i.name.eq_ignore_ascii_case(&item.name)) {
                problems.add(
                    Problem::error("name.taken", format!("two columns are named `{}`", item.name), item.place)
                        .with_label("the second one")
                        .with_help("give one of them another name with `as`"),
                );
                continue;
            }
            items.push(item);
        }
    }
    items
}

struct Binder<'a> {
    sql: &'a SqlText<'a>,
    piece: &'a [TokenWithSpan],
    scope: &'a [ScopeColumn],
    problems: &'a mut Problems,
}

impl Binder<'_> {
    fn place(&self, span: Span) -> Place {
        self.sql.place(span, self.piece)
    }

    fn mismatch(&mut self, span: Span, message: String, help: Option<&str>) {
        let mut problem =
            Problem::error("type.mismatch", message, self.place(span)).with_label("types do not go together");
        if let Some(help) = help {
            problem = problem.with_help(help);
        }
        self.problems.add(problem);
    }

    fn unsupported(&mut self, span: Span, what: &str, help: &str) {
        let place = self.place(span);
        self.problems.add(Problem::error("unsupported", what.to_string(), place).with_help(help));
    }

    fn select_item(&mut self) -> Vec<SelectItem> {
        let mut parser = SqlText::parser(self.piece);
        let parsed = match parser.parse_select_item() {
            Ok(parsed) => parsed,
            Err(error) => {
                self.problems.add(self.sql.syntax_problem(&error, self.piece));
                return Vec::new();
            }
        };
        if let Some(problem) = self.sql.leftover_problem(&parser) {
            self.problems.add(problem);
            return Vec::new();
        }
        let (syntax, name, span) = match parsed {
            ast::SelectItem::UnnamedExpr(expr) => {
                let span = expr.span();
                (expr, None, span)
            }
            ast::SelectItem::ExprWithAlias { expr, alias } => (expr, Some(alias.value), alias.span),
            ast::SelectItem::Wildcard(_) => return self.all_columns(),
            _ => {
                self.unsupported(Span::empty(), "this form of a column is not known here", "write: expression as name");
                return Vec::new();
            }
        };
        let Some(expr) = self.bind(&syntax) else { return Vec::new() };
        let name = name.or_else(|| expr.as_column().map(|i| self.scope[i].name.clone()));
        let Some(name) = name else {
            let text = self.sql.piece_text(self.piece);
            self.problems.add(
                Problem::error("key.missing", "this column needs a name", self.sql.piece_place(self.piece))
                    .with_help(format!("write: {text} as name")),
            );
            return Vec::new();
        };
        let expr = self.typed_as(expr, SqlType::Text);
        vec![SelectItem { name, expr, place: self.place(span) }]
    }

    fn all_columns(&self) -> Vec<SelectItem> {
        let place = self.sql.piece_place(self.piece);
        let item = |(i, c): (usize, &ScopeColumn)| SelectItem {
            name: c.name.clone(),
            expr: Expr::new(Node::Column(i), c.ty, c.nullable),
            place: place.clone(),
        };
        self.scope.iter().enumerate().map(item).collect()
    }

    /// Gives a bare null a type.
    fn typed_as(&self, expr: Expr, ty: SqlType) -> Expr {
        if expr.ty == SqlType::Null { convert(expr, ty) } else { expr }
    }

    fn bind(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        match syntax {
            ast::Expr::Identifier(ident) => self.column(&ident.value, ident.span),
            ast::Expr::CompoundIdentifier(parts) => {
                let name: Vec<&str> = parts.iter().map(|p| p.value.as_str()).collect();
                self.column(&name.join("."), syntax.span())
            }
            ast::Expr::Value(value) => self.literal(&value.value, value.span),
            ast::Expr::Nested(inner) => self.bind(inner),
            ast::Expr::UnaryOp { op, expr } => self.unary(*op, expr, syntax.span()),
            ast::Expr::BinaryOp { left, op, right } => self.binary(left, op, right, syntax.span()),
            ast::Expr::IsNull(inner) => Some(is_null(self.bind(inner)?)),
            ast::Expr::IsNotNull(inner) => Some(not(is_null(self.bind(inner)?))),
            ast::Expr::IsTrue(inner) => self.truth(inner, true, false),
            ast::Expr::IsNotTrue(inner) => self.truth(inner, true, true),
            ast::Expr::IsFalse(inner) => self.truth(inner, false, false),
            ast::Expr::IsNotFalse(inner) => self.truth(inner, false, true),
            ast::Expr::Between { expr, negated, low, high } => {
                let above = self.compare(CompareOp::GreaterOrEqual, expr, low, syntax.span());
                let below = self.compare(CompareOp::LessOrEqual, expr, high, syntax.span());
                let both = boolean(Node::And, above?, below?);
                Some(if *negated { not(both) } else { both })
            }
            ast::Expr::InList { expr, list, negated } => {
                let bound: Vec<_> =
                    list.iter().map(|item| self.compare(CompareOp::Equal, expr, item, syntax.span())).collect();
                let bound: Option<Vec<Expr>> = bound.into_iter().collect();
                let any = bound?.into_iter().reduce(|a, b| boolean(Node::Or, a, b))?;
                Some(if *negated { not(any) } else { any })
            }
            ast::Expr::Case { operand, conditions, else_result, .. } => {
                self.case(operand.as_deref(), conditions, else_result.as_deref(), syntax.span())
            }
            ast::Expr::Cast { kind, expr, data_type, .. } => self.cast(kind, expr, data_type, syntax.span()),
            ast::Expr::TypedString(typed) => {
                let target = self.sql_type(&typed.data_type, syntax.span())?;
                let text = Expr::text_literal(&text_of(&typed.value.value)?);
                self.coerce_literal(&text, target, typed.value.span)
            }
            ast::Expr::Substring { expr, substring_from, substring_for, .. } => {
                let arguments: Vec<&ast::Expr> = [Some(expr), substring_from.as_ref(), substring_for.as_ref()]
                    .into_iter()
                    .flatten()
                    .map(AsRef::as_ref)
                    .collect();
                self.call("substring", &arguments, syntax.span())
            }
            ast::Expr::Trim { expr, trim_where: None, trim_what: None, trim_characters: None } => {
                self.call("trim", &[expr], syntax.span())
            }
            ast::Expr::Function(function) => self.function(function),
            other => {
                let help = "the manual lists what expressions can do; transforms of several events are made events";
                self.unsupported(other.span(), "this part of SQL is not known here", help);
                None
            }
        }
    }

    fn column(&mut self, name: &str, span: Span) -> Option<Expr> {
        let exact = self.scope.iter().position(|c| c.name == name);
        let folded = || self.scope.iter().position(|c| c.name.eq_ignore_ascii_case(name));
        if let Some(index) = exact.or_else(folded) {
            let column = &self.scope[index];
            return Some(Expr::new(Node::Column(index), column.ty, column.nullable));
        }
        let place = self.place(span);
        self.problems.add(
            Problem::error("name.unknown", format!("there is no column `{name}`"), place)
                .with_label("binds to nothing")
                .with_nearest(name, "columns", self.scope.iter().map(|c| c.name.as_str())),
        );
        None
    }

    fn literal(&mut self, value: &Value, span: Span) -> Option<Expr> {
        match value {
            Value::Number(text, _) => {
                let literal = number_literal(text);
                if literal.is_none() {
                    self.unsupported(span, "this number has more digits than any type holds", "38 digits is the most");
                }
                literal
            }
            Value::Boolean(value) => Some(Expr::literal(
                std::sync::Arc::new(arrow_array::BooleanArray::from(vec![*value])),
                SqlType::Boolean,
            )),
            Value::Null => Some(Expr::null()),
            other => match text_of(other) {
                Some(text) => Some(Expr::text_literal(&text)),
                None => {
                    self.unsupported(
                        span,
                        "this spelling of a constant is not known here",
                        "write text in single quotes",
                    );
                    None
                }
            },
        }
    }

    fn unary(&mut self, op: UnaryOperator, inner: &ast::Expr, span: Span) -> Option<Expr> {
        match op {
            UnaryOperator::Not => {
                let bound = self.condition(inner)?;
                Some(not(bound))
            }
            UnaryOperator::Plus => self.bind(inner),
            UnaryOperator::Minus => {
                if let ast::Expr::Value(value) = inner
                    && let Value::Number(text, _) = &value.value
                {
                    return number_literal(&format!("-{text}"));
                }
                let bound = self.bind(inner)?;
                let zero = number_literal("0")?;
                self.arithmetic(ArithmeticOp::Subtract, zero, bound, span)
            }
            _ => {
                self.unsupported(span, "this operator is not known here", "known: + - * / % || and or not");
                None
            }
        }
    }

    fn binary(&mut self, left: &ast::Expr, op: &BinaryOperator, right: &ast::Expr, span: Span) -> Option<Expr> {
        let compare = match op {
            BinaryOperator::Eq => Some(CompareOp::Equal),
            BinaryOperator::NotEq => Some(CompareOp::NotEqual),
            BinaryOperator::Lt => Some(CompareOp::Less),
            BinaryOperator::LtEq => Some(CompareOp::LessOrEqual),
            BinaryOperator::Gt => Some(CompareOp::Greater),
            BinaryOperator::GtEq => Some(CompareOp::GreaterOrEqual),
            _ => None,
        };
        if let Some(compare) = compare {
            return self.compare(compare, left, right, span);
        }
        let arithmetic = match op {
            BinaryOperator::Plus => Some(ArithmeticOp::Add),
            BinaryOperator::Minus => Some(ArithmeticOp::Subtract),
            BinaryOperator::Multiply => Some(ArithmeticOp::Multiply),
            BinaryOperator::Divide => Some(ArithmeticOp::Divide),
            BinaryOperator::Modulo => Some(ArithmeticOp::Remainder),
            _ => None,
        };
        if let Some(arithmetic) = arithmetic {
            let (left, right) = (self.bind(left), self.bind(right));
            return self.arithmetic(arithmetic, left?, right?, span);
        }
        match op {
            BinaryOperator::And | BinaryOperator::Or => {
                let (left, right) = (self.condition(left), self.condition(right));
                let make = if *op == BinaryOperator::And { Node::And } else { Node::Or };
                Some(boolean(make, left?, right?))
            }
            BinaryOperator::StringConcat => {
                let (left, right) = (self.bind(left), self.bind(right));
                let arguments: Vec<Expr> = [left?, right?].into_iter().map(|e| convert(e, SqlType::Text)).collect();
                let nullable = arguments.iter().any(|a| a.nullable);
                Some(Expr::new(Node::Call(&JOIN, arguments), SqlType::Text, nullable))
            }
            _ => {
                self.unsupported(span, "this operator is not known here", "known: + - * / % || = <> < <= > >= and or");
                None
            }
        }
    }

    fn arithmetic(&mut self, op: ArithmeticOp, left: Expr, right: Expr, span: Span) -> Option<Expr> {
        let left = self.typed_as(left, right.ty);
        let right = self.typed_as(right, left.ty);
        let decimal = |e: &Expr| matches!(e.ty, SqlType::Decimal { .. });
        let (left, right) = match (decimal(&left), decimal(&right)) {
            (true, false) => (left, exact_literal(right)),
            (false, true) => (exact_literal(left), right),
            _ => (left, right),
        };
        let Some(ty) = arithmetic::result_type(op, left.ty, right.ty) else {
            let message = format!("this operator takes numbers, not {} and {}", left.ty, right.ty);
            self.mismatch(span, message, Some("cast one side: cast(x as decimal(12,2))"));
            return None;
        };
        let nullable = left.nullable || right.nullable;
        let side = |e: Expr| match ty {
            SqlType::Decimal { .. } => match e.ty.as_decimal() {
                Some((precision, scale)) => convert(e, SqlType::Decimal { precision, scale }),
                None => e,
            },
            _ => convert(e, ty),
        };
        Some(Expr::new(Node::Arithmetic(op, Box::new(side(left)), Box::new(side(right))), ty, nullable))
    }

    fn compare(&mut self, op: CompareOp, left: &ast::Expr, right: &ast::Expr, span: Span) -> Option<Expr> {
        let (l, r) = (self.bind(left), self.bind(right));
        let (l, r) = (l?, r?);
        let (l, r) = self.side_by_side(l, left.span(), r, right.span(), span)?;
        let nullable = l.nullable || r.nullable;
        Some(Expr::new(Node::Compare(op, Box::new(l), Box::new(r)), SqlType::Boolean, nullable))
    }

    /// Brings two expressions to one type; a quoted literal takes the type of the other side.
    fn side_by_side(&mut self, l: Expr, l_span: Span, r: Expr, r_span: Span, span: Span) -> Option<(Expr, Expr)> {
        if l.as_text().is_some() && !matches!(r.ty, SqlType::Text | SqlType::Null) {
            let ty = r.ty;
            return Some((self.coerce_literal(&l, ty, l_span)?, r));
        }
        if r.as_text().is_some() && !matches!(l.ty, SqlType::Text | SqlType::Null) {
            let ty = l.ty;
            return Some((l, self.coerce_literal(&r, ty, r_span)?));
        }
        match l.ty.common(r.ty) {
            Some(SqlType::Null) => Some((convert(l, SqlType::Boolean), convert(r, SqlType::Boolean))),
            Some(SqlType::Json) => {
                self.mismatch(span, "json values cannot be compared".into(), Some("cast them to text"));
                None
            }
            Some(ty) => Some((convert(l, ty), convert(r, ty))),
            None => {
                let message = format!("{} and {} cannot stand side by side", l.ty, r.ty);
                self.mismatch(span, message, Some("cast one side to the type of the other"));
                None
            }
        }
    }

    fn coerce_literal(&mut self, literal: &Expr, ty: SqlType, span: Span) -> Option<Expr> {
        let text = literal.as_text()?;
        let read = text_as(&text, ty);
        if read.is_none() {
            self.mismatch(span, format!("'{text}' is no {ty}"), None);
        }
        read
    }

    fn condition(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        let bound = self.bind(syntax)?;
        let bound = self.typed_as(bound, SqlType::Boolean);
        if bound.ty != SqlType::Boolean {
            self.mismatch(syntax.span(), format!("this must be boolean, it is {}", bound.ty), None);
            return None;
        }
        Some(bound)
    }

    fn truth(&mut self, inner: &ast::Expr, wanted: bool, negated: bool) -> Option<Expr> {
        let inner = self.condition(inner)?;
        let expr = Expr::new(Node::IsTruth(Box::new(inner), wanted), SqlType::Boolean, false);
        Some(if negated { not(expr) } else { expr })
    }

    fn case(
        &mut self,
        operand: Option<&ast::Expr>,
        conditions: &[ast::CaseWhen],
        otherwise: Option<&ast::Expr>,
        span: Span,
    ) -> Option<Expr> {
        let mut whens = Vec::new();
        let mut values = Vec::new();
        for branch in conditions {
            let when = match operand {
                Some(operand) => self.compare(CompareOp::Equal, operand, &branch.condition, branch.condition.span()),
                None => self.condition(&branch.condition),
            };
            let value = self.bind(&branch.result);
            whens.push(when?);
            values.push(value?);
        }
        values.push(match otherwise {
            Some(otherwise) => self.bind(otherwise)?,
            None => Expr::null(),
        });
        let mut values = self.one_type(values, span)?;
        let otherwise = values.pop()?;
        let (ty, nullable) = (otherwise.ty, otherwise.nullable || values.iter().any(|v| v.nullable));
        let branches = whens.into_iter().zip(values).collect();
        Some(Expr::new(Node::Case(branches, Box::new(otherwise)), ty, nullable))
    }

    /// Brings several expressions to one type.
    fn one_type(&mut self, values: Vec<Expr>, span: Span) -> Option<Vec<Expr>> {
        let mut common = SqlType::Null;
        for value in &values {
            let Some(ty) = common.common(value.ty) else {
                let message = format!("{common} and {} cannot stand side by side", value.ty);
                self.mismatch(span, message, Some("cast the values to one type"));
                return None;
            };
            common = ty;
        }
        let ty = if common == SqlType::Null { SqlType::Text } else { common };
        Some(values.into_iter().map(|v| convert(v, ty)).collect())
    }

    fn sql_type(&mut self, data_type: &DataType, span: Span) -> Option<SqlType> {
        match sql_type(data_type, self.place(span)) {
            Ok(ty) => Some(ty),
            Err(problem) => {
                self.problems.add(*problem);
                None
            }
        }
    }

    fn cast(&mut self, kind: &CastKind, inner: &ast::Expr, data_type: &DataType, span: Span) -> Option<Expr> {
        let (bound, ty) = (self.bind(inner), self.sql_type(data_type, span));
        let (bound, ty) = (bound?, ty?);
        if !cast::exists(bound.ty, ty) {
            self.mismatch(span, format!("there is no cast from {} to {ty}", bound.ty), None);
            return None;
        }
        let lenient = matches!(kind, CastKind::TryCast | CastKind::SafeCast);
        if cast::rounds(bound.ty, ty) {
            let place = self.place(span);
            self.problems.add(
                Problem::warning("cast.lossy", format!("a cast from {} to {ty} rounds", bound.ty), place)
                    .with_help("say round(…) where rounding is meant"),
            );
        }
        let nullable = bound.nullable || lenient;
        Some(Expr::new(Node::Cast { inner: Box::new(bound), lenient }, ty, nullable))
    }

    fn function(&mut self, syntax: &ast::Function) -> Option<Expr> {
        let name = syntax.name.to_string();
        let span = syntax.name.span();
        let list: &[ast::FunctionArg] = match &syntax.args {
            ast::FunctionArguments::List(list) => &list.args,
            _ => &[],
        };
        let mut arguments = Vec::with_capacity(list.len());
        for argument in list {
            match argument {
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr)) => arguments.push(expr),
                _ => {
                    self.unsupported(span, "this form of an argument is not known here", "pass plain expressions");
                    return None;
                }
            }
        }
        self.call(&name, &arguments, span)
    }

    fn call(&mut self, name: &str, arguments: &[&ast::Expr], span: Span) -> Option<Expr> {
        let lower = name.to_lowercase();
        match lower.as_str() {
            "now" if arguments.is_empty() => return Some(Expr::new(Node::Now, SqlType::Timestamptz, false)),
            "coalesce" if !arguments.is_empty() => {
                let bound: Vec<_> = arguments.iter().map(|a| self.bind(a)).collect();
                let bound: Option<Vec<Expr>> = bound.into_iter().collect();
                let items = self.one_type(bound?, span)?;
                let (ty, nullable) = (items[0].ty, items.iter().all(|i| i.nullable));
                return Some(Expr::new(Node::Coalesce(items), ty, nullable));
            }
            "nullif" if arguments.len() == 2 => {
                let same = self.compare(CompareOp::Equal, arguments[0], arguments[1], span)?;
                let value = self.bind(arguments[0])?;
                let ty = value.ty;
                let branches = vec![(same, convert(Expr::null(), ty))];
                return Some(Expr::new(Node::Case(branches, Box::new(value)), ty, true));
            }
            _ => {}
        }
        let Some(function) = functions::find(&lower) else {
            let known = FUNCTIONS.iter().map(|f| f.name).chain(CALL_SYNTAX.iter().copied());
            let place = self.place(span);
            self.problems.add(
                Problem::error("name.unknown", format!("there is no function `{name}`"), place)
                    .with_label("unknown function")
                    .with_nearest(&lower, "functions", known),
            );
            return None;
        };
        let bound: Vec<_> = arguments.iter().map(|a| self.bind(a)).collect();
        let bound: Option<Vec<Expr>> = bound.into_iter().collect();
        self.arguments(function, bound?, arguments, span)
    }

    fn arguments(
        &mut self,
        function: &'static functions::Function,
        bound: Vec<Expr>,
        syntax: &[&ast::Expr],
        span: Span,
    ) -> Option<Expr> {
        let (least, most) = (function.parameters.len(), function.parameters.len() + function.optional.len());
        if bound.len() < least || (bound.len() > most && !function.repeats) {
            let message = format!("`{}` does not take {} arguments", function.name, bound.len());
            self.mismatch(span, message, Some(function.signature));
            return None;
        }
        let mut arguments = Vec::with_capacity(bound.len());
        for (i, argument) in bound.into_iter().enumerate() {
            let parameter = function.parameters.iter().chain(function.optional).nth(i);
            let parameter = *parameter.or(function.parameters.last())?;
            arguments.push(self.argument(function, parameter, argument, syntax[i].span())?);
        }
        let types: Vec<SqlType> = arguments.iter().map(|a| a.ty).collect();
        let nullable = function.nullable || (function.name != "concat" && arguments.iter().any(|a| a.nullable));
        Some(Expr::new(Node::Call(function, arguments), (function.result)(&types), nullable))
    }

    fn argument(
        &mut self,
        function: &functions::Function,
        parameter: Parameter,
        argument: Expr,
        span: Span,
    ) -> Option<Expr> {
        let fits = match parameter {
            Parameter::Any => return Some(argument),
            Parameter::Text => return Some(convert(argument, SqlType::Text)),
            Parameter::Number => argument.ty.is_numeric(),
            Parameter::Whole => argument.ty.is_whole(),
            Parameter::Time => match argument.ty {
                SqlType::Date | SqlType::Null => return Some(convert(argument, SqlType::Timestamptz)),
                SqlType::Timestamptz => true,
                SqlType::Text if argument.as_text().is_some() => {
                    return self.coerce_literal(&argument, SqlType::Timestamptz, span);
                }
                _ => false,
            },
            Parameter::Word(words) => {
                let word = argument.as_text().unwrap_or_default().to_lowercase();
                if words.contains(&word.as_str()) {
                    return Some(argument);
                }
                let place = self.place(span);
                self.problems.add(
                    Problem::error("value.type", format!("`{}` needs a known word here", function.name), place)
                        .with_nearest(&word, "words", words.iter().copied()),
                );
                return None;
            }
        };
        if fits {
            return Some(argument);
        }
        let wanted = if parameter == Parameter::Time { "a timestamptz" } else { "a number" };
        let message = format!("`{}` takes {wanted} here, not {}", function.name, argument.ty);
        self.mismatch(span, message, Some(function.signature));
        None
    }
}

/// The operator `||`, evaluated like a function.
static JOIN: functions::Function = functions::Function {
    name: "||",
    signature: "text || text → text",
    about: "Two texts, one after the other.",
    example: "'a' || 'b'",
    gives: "ab",
    nulls: "null if either is null",
    parameters: &[Parameter::Text, Parameter::Text],
    optional: &[],
    repeats: false,
    result: |_| SqlType::Text,
    nullable: false,
    compute: functions::join,
};

/// Casts where the type differs.
fn convert(expr: Expr, ty: SqlType) -> Expr {
    if expr.ty == ty {
        return expr;
    }
    let nullable = expr.nullable;
    Expr::new(Node::Cast { inner: Box::new(expr), lenient: false }, ty, nullable)
}

/// A whole constant as a decimal with no more digits than it has.
fn exact_literal(expr: Expr) -> Expr {
    use arrow_array::cast::AsArray as _;
    use arrow_array::types::{Int32Type, Int64Type};
    match (&expr.node, expr.ty) {
        (Node::Literal(array), SqlType::Integer) => {
            decimal_literal(array.as_primitive::<Int32Type>().value(0).into(), 0)
        }
        (Node::Literal(array), SqlType::Bigint) => {
            decimal_literal(array.as_primitive::<Int64Type>().value(0).into(), 0)
        }
        _ => expr,
    }
}

fn boolean(make: fn(Box<Expr>, Box<Expr>) -> Node, left: Expr, right: Expr) -> Expr {
    let nullable = left.nullable || right.nullable;
    Expr::new(make(Box::new(left), Box::new(right)), SqlType::Boolean, nullable)
}

fn not(inner: Expr) -> Expr {
    let nullable = inner.nullable;
    Expr::new(Node::Not(Box::new(inner)), SqlType::Boolean, nullable)
}

fn is_null(inner: Expr) -> Expr {
    Expr::new(Node::IsNull(Box::new(inner)), SqlType::Boolean, false)
}

fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::SingleQuotedString(text) | Value::EscapedStringLiteral(text) | Value::NationalStringLiteral(text) => {
            Some(text.clone())
        }
        Value::DollarQuotedString(text) => Some(text.value.clone()),
        _ => None,
    }
}
