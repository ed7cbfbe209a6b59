//! The SQL that we read: whatever the parser knows of any, with the operators of PostgreSQL 15, which bind as its manual says ("Operator
//! Precedence"). The parser's own general dialect has other rules: there `a ->> 'b' || 'c'` means something else.

use std::any::TypeId;

use sqlparser::ast::{BinaryOperator, Expr, UnaryOperator};
use sqlparser::dialect::{Dialect, GenericDialect, Precedence};
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::Token;

/// How tightly operators bind.
const PERIOD: u8 = 200;
const CAST: u8 = 140;
const BRACKET: u8 = 130;
const SIGN: u8 = 125;
const ZONE: u8 = 110;
const POWER: u8 = 100;
const PRODUCT: u8 = 90;
const SUM: u8 = 80;
const OTHER: u8 = 70;
const LIKE: u8 = 60;
const COMPARISON: u8 = 50;
const IS: u8 = 40;
const NOT: u8 = 30;
const AND: u8 = 20;
const OR: u8 = 10;

/// The dialect.
#[derive(Debug)]
pub(super) struct OurDialect;

/// What the general dialect takes.
macro_rules! as_general {
    ($($method:ident),* $(,)?) => {
        $(fn $method(&self) -> bool {
            GenericDialect.$method()
        })*
    };
}

impl Dialect for OurDialect {
    // The parser asks which dialect it is, too.
    fn dialect(&self) -> TypeId {
        TypeId::of::<GenericDialect>()
    }

    fn is_delimited_identifier_start(&self, ch: char) -> bool {
        GenericDialect.is_delimited_identifier_start(ch)
    }

    // Signs that are operators are no letters.
    fn is_identifier_start(&self, ch: char) -> bool {
        !matches!(ch, '#' | '@') && GenericDialect.is_identifier_start(ch)
    }

    fn is_identifier_part(&self, ch: char) -> bool {
        !matches!(ch, '#' | '@') && GenericDialect.is_identifier_part(ch)
    }

    as_general! {
    supports_unicode_string_literal, supports_partition_by_after_order_by, supports_array_join_syntax,
        supports_group_by_expr, supports_group_by_with_modifier, supports_left_associative_joins_without_parens,
        supports_connect_by, supports_match_recognize, supports_pipe_operator, supports_start_transaction_modifier,
        supports_window_function_null_treatment_arg, supports_dictionary_syntax,
        supports_window_clause_named_window_reference, supports_parenthesized_set_variables,
        supports_select_wildcard_except, support_map_literal_syntax, allow_extract_custom, allow_extract_single_quotes,
        supports_extract_comma_syntax, supports_create_view_comment_syntax, supports_parens_around_table_factor,
        supports_values_as_table_factor, supports_create_index_with_clause, supports_explain_with_utility_options,
        supports_exclude_constraint, supports_limit_comma, supports_update_order_by, supports_from_first_select,
        supports_projection_trailing_commas, supports_asc_desc_in_column_definition, supports_try_convert,
        supports_bitwise_shift_operators, supports_comment_on, supports_load_extension,
        supports_named_fn_args_with_assignment_operator, supports_struct_literal, supports_empty_projections,
        supports_nested_comments, supports_multiline_comment_hints, supports_user_host_grantee,
        supports_string_escape_constant, supports_array_typedef_with_brackets, supports_match_against,
        supports_set_names, supports_comma_separated_set_assignments, supports_filter_during_aggregation,
        supports_select_wildcard_exclude, supports_data_type_signed_suffix, supports_interval_options,
        supports_quote_delimited_string, supports_select_wildcard_replace, supports_select_wildcard_ilike,
        supports_select_wildcard_rename, supports_optimize_table, supports_install, supports_detach, supports_prewhere,
        supports_with_fill, supports_limit_by, supports_interpolate, supports_settings, supports_select_format,
        supports_comment_optimizer_hint, supports_constraint_keyword_without_name, supports_key_column_option,
        supports_comma_separated_trim, supports_cte_without_as, supports_select_item_multi_column_alias,
        supports_xml_expressions, supports_aliased_function_args,
    }

    fn prec_value(&self, precedence: Precedence) -> u8 {
        match precedence {
            Precedence::Period => PERIOD,
            Precedence::DoubleColon => CAST,
            Precedence::AtTz => ZONE,
            Precedence::Caret => POWER,
            Precedence::MulDivModOp => PRODUCT,
            Precedence::PlusMinus => SUM,
            Precedence::Xor | Precedence::Ampersand | Precedence::Pipe | Precedence::Colon | Precedence::PgOther => {
                OTHER
            }
            Precedence::Between | Precedence::Like => LIKE,
            Precedence::Eq => COMPARISON,
            Precedence::Is => IS,
            Precedence::UnaryNot => NOT,
            Precedence::And => AND,
            Precedence::Or => OR,
        }
    }

    fn get_next_precedence(&self, parser: &Parser<'_>) -> Option<Result<u8, ParserError>> {
        let precedence = match &parser.peek_token_ref().token {
            Token::LBracket => BRACKET,
            Token::Ampersand
            | Token::Arrow
            | Token::ArrowAt
            | Token::AtArrow
            | Token::AtAt
            | Token::AtQuestion
            | Token::CaretAt
            | Token::CustomBinaryOperator(_)
            | Token::DoubleTilde
            | Token::DoubleTildeAsterisk
            | Token::ExclamationMarkDoubleTilde
            | Token::ExclamationMarkDoubleTildeAsterisk
            | Token::ExclamationMarkTilde
            | Token::ExclamationMarkTildeAsterisk
            | Token::HashArrow
            | Token::HashLongArrow
            | Token::HashMinus
            | Token::LongArrow
            | Token::Overlap
            | Token::Pipe
            | Token::Question
            | Token::QuestionAnd
            | Token::QuestionPipe
            | Token::Sharp
            | Token::ShiftLeft
            | Token::ShiftRight
            | Token::StringConcat
            | Token::Tilde
            | Token::TildeAsterisk => OTHER,
            _ => return None,
        };
        Some(Ok(precedence))
    }

    // A sign before a value binds more tightly than any operator between values, `~` like the other operators.
    fn parse_prefix(&self, parser: &mut Parser<'_>) -> Option<Result<Expr, ParserError>> {
        let (op, precedence) = match &parser.peek_token_ref().token {
            Token::Minus => (UnaryOperator::Minus, SIGN),
            Token::Plus => (UnaryOperator::Plus, SIGN),
            Token::Tilde => (UnaryOperator::BitwiseNot, OTHER),
            _ => return None,
        };
        parser.next_token();
        Some(parser.parse_subexpr(precedence).map(|expr| Expr::UnaryOp { op, expr: Box::new(expr) }))
    }

    fn parse_infix(&self, parser: &mut Parser<'_>, expr: &Expr, precedence: u8) -> Option<Result<Expr, ParserError>> {
        if !matches!(parser.peek_token_ref().token, Token::Sharp) {
            return None;
        }
        parser.next_token();
        let left = Box::new(expr.clone());
        let right = parser.parse_subexpr(precedence).map(Box::new);
        Some(right.map(|right| Expr::BinaryOp { left, op: BinaryOperator::PGBitwiseXor, right }))
    }
}
