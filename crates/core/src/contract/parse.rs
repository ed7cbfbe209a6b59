//! Contracts from SQL column definitions, with our additions `from 'path'` and `format '…'`.

use sqlparser::ast::{ArrayElemTypeDef, CharacterLength, DataType, ExactNumberInfo, TimezoneInfo};
use sqlparser::keywords::Keyword;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Token, TokenWithSpan};

use super::ContractField;
use crate::config::EmbeddedText;
use crate::limit::{Limit, shown};
use crate::names;
use crate::problem::{Place, Problem, Problems};
use crate::sql::SqlText;
use crate::types::{MAX_PRECISION, SqlType};
use crate::values::bytes::{BytesSpelling, SPELLINGS};
use crate::values::time::TimeFormat;

/// Names of types for suggestions.
const TYPE_NAMES: &[&str] = &[
    "text",
    "boolean",
    "integer",
    "bigint",
    "double precision",
    "decimal",
    "date",
    "timestamptz",
    "json",
    "numeric",
    "varchar",
    "char",
    "smallint",
    "real",
    "uuid",
    "int",
    "double",
    "timestamp",
];

/// Parses the text of `fields`. Every definition with a mistake becomes a problem; the others are returned.
pub fn parse_fields(text: &EmbeddedText, problems: &mut Problems) -> Vec<ContractField> {
    let sql = SqlText::new(text, problems);
    let pieces = sql.pieces(problems);
    let mut fields: Vec<ContractField> = Vec::with_capacity(pieces.len());
    for piece in &pieces {
        let Some(field) = parse_field(&sql, piece, problems) else { continue };
        if let Some(twin) = fields.iter().find(|f| f.name.eq_ignore_ascii_case(&field.name)) {
            problems.add(
                Problem::error("name.taken", format!("the field `{}` is declared twice", twin.name), field.place)
                    .with_label("the second one")
                    .with_help("rename one of them; several fields can take the same value with from 'path'"),
            );
            continue;
        }
        fields.push(field);
    }
    fields
}

fn parse_field(sql: &SqlText<'_>, piece: &[TokenWithSpan], problems: &mut Problems) -> Option<ContractField> {
    let mut parser = SqlText::parser(piece);
    if is_table_constraint(piece) {
        problems.add(
            Problem::warning(
                "unsupported",
                "a constraint of the whole table has no effect here",
                sql.piece_place(piece),
            )
            .with_help("the contract of an event knows `not null` for each field"),
        );
        return None;
    }
    let name_token = parser.peek_token();
    let name = match parser.parse_identifier() {
        Ok(ident) => ident.value,
        Err(error) => {
            problems.add(sql.syntax_problem(&error, piece));
            return None;
        }
    };
    let place = sql.place(name_token.span, piece);
    let type_token = parser.peek_token();
    if type_token.token == Token::EOF {
        problems.add(
            Problem::error("syntax.sql", format!("the field `{name}` has no type"), place)
                .with_help(format!("write: {name} text")),
        );
        return None;
    }
    let data_type = match parser.parse_data_type() {
        Ok(data_type) => data_type,
        Err(error) => {
            problems.add(sql.syntax_problem(&error, piece));
            return None;
        }
    };
    let type_place = sql.place(type_token.span, piece);
    // A field with a wrong type still declares its name and the type that was probably meant: else each use of it
    // would be one more mistake.
    let (ty, limit) = field_type(&data_type, type_place).unwrap_or_else(|problem| {
        problems.add(*problem);
        (probable_type(&data_type), None)
    });
    let (path, spelling) = (vec![name.clone()], BytesSpelling::default());
    let mut field = ContractField { path, name, ty, limit, not_null: false, format: None, spelling, place };
    let good = parse_additions(sql, piece, &mut parser, &mut field, problems);
    good.then_some(field)
}

fn is_table_constraint(piece: &[TokenWithSpan]) -> bool {
    let keyword = |t: &TokenWithSpan| match &t.token {
        Token::Word(w) if w.quote_style.is_none() => w.keyword,
        _ => Keyword::NoKeyword,
    };
    match piece {
        [first, second, ..] => {
            matches!(
                (keyword(first), keyword(second)),
                (Keyword::PRIMARY | Keyword::FOREIGN, Keyword::KEY) | (Keyword::CONSTRAINT, _)
            ) || (matches!(keyword(first), Keyword::UNIQUE | Keyword::CHECK) && second.token == Token::LParen)
        }
        _ => false,
    }
}

fn parse_additions(
    sql: &SqlText<'_>,
    piece: &[TokenWithSpan],
    parser: &mut Parser<'_>,
    field: &mut ContractField,
    problems: &mut Problems,
) -> bool {
    loop {
        let token = parser.next_token();
        let Token::Word(word) = &token.token else {
            if token.token == Token::EOF {
                return true;
            }
            parser.prev_token();
            problems.extend_one(sql.leftover_problem(parser));
            return false;
        };
        match word.keyword {
            Keyword::NOT if parser.parse_keyword(Keyword::NULL) => field.not_null = true,
            Keyword::NULL => {}
            Keyword::FROM => match text_after(parser) {
                Some((path, _)) if !path.is_empty() => field.path = split_path(&path),
                _ => return missing_text(sql, &token, piece, "from 'path.to.field'", problems),
            },
            Keyword::FORMAT => match text_after(parser) {
                Some((format, at)) => set_format(field, &format, sql.place(at.span, piece), problems),
                None => return missing_text(sql, &token, piece, "format '%Y-%m-%d %H:%M:%S'", problems),
            },
            Keyword::PRIMARY | Keyword::UNIQUE | Keyword::DEFAULT | Keyword::REFERENCES | Keyword::CHECK => {
                problems.add(
                    Problem::warning(
                        "unsupported",
                        format!("`{}` has no effect in the contract of an event", word.value),
                        sql.place(token.span, piece),
                    )
                    .with_help("everything from here to the comma is ignored; `not null` goes before it"),
                );
                return true;
            }
            _ => {
                let words = ["not null", "from", "format"];
                let place = sql.place(token.span, piece);
                problems.add(
                    Problem::error("syntax.sql", format!("`{}` does not belong here", word.value), place)
                        .with_label("unexpected here")
                        .with_nearest(&word.value, "words here", words),
                );
                return false;
            }
        }
    }
}

/// The names of a path such as `cargo.kind`. A name that holds a point stands in double quotes: `"cargo.kind".code`.
pub fn split_path(path: &str) -> Vec<String> {
    let mut names = Vec::new();
    let mut rest = path;
    loop {
        let (name, after) = match rest.strip_prefix('"').and_then(|r| r.split_once('"')) {
            Some((name, after)) if after.is_empty() || after.starts_with('.') => (name, after),
            _ => rest.split_at(rest.find('.').unwrap_or(rest.len())),
        };
        names.push(name.to_string());
        match after.strip_prefix('.') {
            Some(next) => rest = next,
            None => return names,
        }
    }
}

/// The path that [`split_path`] splits into these names.
pub fn join_path(names: &[String]) -> String {
    let part = |n: &String| if n.contains('.') || n.is_empty() { format!("\"{n}\"") } else { n.clone() };
    names.iter().map(part).collect::<Vec<_>>().join(".")
}

fn text_after(parser: &mut Parser<'_>) -> Option<(String, TokenWithSpan)> {
    let token = parser.next_token();
    match &token.token {
        Token::SingleQuotedString(text) => Some((text.clone(), token)),
        _ => None,
    }
}

fn missing_text(
    sql: &SqlText<'_>,
    token: &TokenWithSpan,
    piece: &[TokenWithSpan],
    example: &str,
    problems: &mut Problems,
) -> bool {
    let place = sql.place(token.span, piece);
    problems.add(
        Problem::error("syntax.sql", format!("`{}` needs a text in single quotes", token.token), place)
            .with_help(format!("write: {example}")),
    );
    false
}

fn set_format(field: &mut ContractField, format: &str, place: Place, problems: &mut Problems) {
    if field.limit == Some(Limit::Bytea) {
        match BytesSpelling::named(format) {
            Some(spelling) => field.spelling = spelling,
            None => problems.add(
                Problem::error("value.type", format!("bytes are not spelled as `{format}`"), place).with_nearest(
                    format,
                    "spellings",
                    SPELLINGS.iter().map(|(name, _)| *name),
                ),
            ),
        }
        return;
    }
    if !matches!(field.ty, SqlType::Timestamptz | SqlType::Date) {
        problems.add(
            Problem::error("value.type", format!("a {} has no format", shown(field.ty, field.limit)), place)
                .with_help("format is for timestamptz, date and bytea"),
        );
        return;
    }
    match TimeFormat::parse(format) {
        Ok(format) => field.format = Some(format),
        Err(reason) => problems.add(
            Problem::error("value.type", reason, place)
                .with_help("known: rfc3339, epoch_s, epoch_ms, epoch_us, or a pattern such as '%d.%m.%Y %H:%M'"),
        ),
    }
}

impl Problems {
    fn extend_one(&mut self, problem: Option<Problem>) {
        if let Some(problem) = problem {
            self.add(problem);
        }
    }
}

/// The type that a SQL spelling means.
///
/// # Errors
/// A problem with the nearest right type.
pub fn sql_type(data_type: &DataType, place: Place) -> Result<(SqlType, Option<Limit>), Box<Problem>> {
    if let Some(limit) = limit_of(data_type, &place)? {
        return Ok((limit.base(), Some(limit)));
    }
    if let Some((spelled, instead)) = unenforced(data_type) {
        return Err(Box::new(
            Problem::error("name.unknown", format!("there is no type `{spelled}`"), place)
                .with_label("its limit would not be kept")
                .with_help(format!("write {instead}; the store's own column keeps its limit")),
        ));
    }
    let ty = match data_type {
        DataType::Text | DataType::Varchar(_) | DataType::CharacterVarying(_) | DataType::String(_) => SqlType::Text,
        DataType::Boolean | DataType::Bool => SqlType::Boolean,
        DataType::Int(_) | DataType::Integer(_) | DataType::Int4(_) => SqlType::Integer,
        DataType::BigInt(_) | DataType::Int8(_) => SqlType::Bigint,
        DataType::Double(_) | DataType::DoublePrecision | DataType::Float(_) | DataType::Float8 => SqlType::Double,
        DataType::Decimal(info) | DataType::Numeric(info) | DataType::Dec(info) => decimal(*info, place)?,
        DataType::Date => SqlType::Date,
        DataType::Timestamp(_, TimezoneInfo::WithTimeZone | TimezoneInfo::Tz) => SqlType::Timestamptz,
        DataType::Timestamp(None, _) | DataType::Datetime(None) => SqlType::Timestamp,
        DataType::Interval { fields: None, precision: None } => SqlType::Interval,
        DataType::JSON | DataType::JSONB => SqlType::Json,
        DataType::Time(_, TimezoneInfo::WithTimeZone | TimezoneInfo::Tz) => {
            return Err(Box::new(
                Problem::error("name.unknown", "there is no time of day with a zone", place)
                    .with_label("which day?")
                    .with_help("write time without a zone, or timestamptz for a moment"),
            ));
        }
        other => {
            let spelled = other.to_string();
            return Err(Box::new(
                Problem::error("name.unknown", format!("there is no type `{spelled}`"), place)
                    .with_label("unknown type")
                    .with_nearest(&spelled, "types", TYPE_NAMES.iter().copied()),
            ));
        }
    };
    Ok((ty, None))
}

/// The narrower type that a spelling means.
///
/// # Errors
/// Where its length is none.
fn limit_of(data_type: &DataType, place: &Place) -> Result<Option<Limit>, Box<Problem>> {
    let length = |length: &Option<CharacterLength>, least: Option<u32>| match length {
        Some(CharacterLength::IntegerLength { length, unit: _ }) => match u32::try_from(*length) {
            Ok(n) if (1..=MAX_LENGTH).contains(&n) => Ok(Some(n)),
            _ => Err(Box::new(
                Problem::error("value.range", format!("a text cannot have a length of {length}"), place.clone())
                    .with_help(format!("use a length from 1 to {MAX_LENGTH}, or text")),
            )),
        },
        _ => Ok(least),
    };
    Ok(match data_type {
        DataType::Varchar(n) | DataType::CharacterVarying(n) | DataType::CharVarying(n) => {
            length(n, None)?.map(Limit::Varchar)
        }
        DataType::Char(n) | DataType::Character(n) => length(n, Some(1))?.map(Limit::Char),
        DataType::SmallInt(None) | DataType::Int2(None) => Some(Limit::Smallint),
        DataType::Real | DataType::Float4 => Some(Limit::Real),
        DataType::Uuid => Some(Limit::Uuid),
        DataType::Array(of) => match list_of(of, place)? {
            Some(limit) => Some(limit),
            None => return Err(Box::new(no_list(data_type, place.clone()))),
        },
        DataType::Bytea => Some(Limit::Bytea),
        DataType::Time(None, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => Some(Limit::Time),
        _ => None,
    })
}

/// The list that `integer[]` and the like mean; None where no list of ours has such items.
fn list_of(of: &ArrayElemTypeDef, place: &Place) -> Result<Option<Limit>, Box<Problem>> {
    let (ArrayElemTypeDef::SquareBracket(item, None) | ArrayElemTypeDef::AngleBracket(item)) = of else {
        return Ok(None);
    };
    Ok(match sql_type(item, place.clone())? {
        (item, None) => Limit::list_of(item),
        _ => None,
    })
}

fn no_list(data_type: &DataType, place: Place) -> Problem {
    Problem::error("name.unknown", format!("there is no list `{data_type}`"), place).with_label("unknown type").with_help(
        "items are text, boolean, integer, bigint, double precision, decimal(p, s), date or timestamptz: text[]; other \
         lists are json",
    )
}

/// The longest text that a type can name, as in PostgreSQL.
const MAX_LENGTH: u32 = 10_485_760;

/// The type of a field. Timestamps without a zone and intervals exist within expressions alone.
fn field_type(data_type: &DataType, place: Place) -> Result<(SqlType, Option<Limit>), Box<Problem>> {
    let problem = match sql_type(data_type, place.clone())? {
        (SqlType::Timestamp, _) => Problem::error("name.unknown", "a field has no timestamp without a zone", place)
            .with_label("which zone?")
            .with_help("write timestamptz; a source without a zone is read as UTC with format '%Y-%m-%d %H:%M:%S'"),
        (SqlType::Interval, _) => Problem::error("name.unknown", "a field cannot be an interval", place)
            .with_help("write text, and cast it in an expression: cast(waited as interval)"),
        ty => return Ok(ty),
    };
    Err(Box::new(problem))
}

/// Types whose limits we do not keep, each with the type to write instead: nothing is cut or rounded in silence.
fn unenforced(data_type: &DataType) -> Option<(String, &'static str)> {
    let instead = match data_type {
        DataType::String(Some(_)) => "text",
        DataType::SmallInt(_) | DataType::Int2(_) | DataType::TinyInt(_) => "smallint",
        DataType::Int(Some(_)) | DataType::Integer(Some(_)) | DataType::Int4(Some(_)) => "integer",
        DataType::BigInt(Some(_)) | DataType::Int8(Some(_)) => "bigint",
        DataType::Float(ExactNumberInfo::Precision(_) | ExactNumberInfo::PrecisionAndScale(..)) => "double precision",
        DataType::Double(ExactNumberInfo::Precision(_) | ExactNumberInfo::PrecisionAndScale(..)) => "double precision",
        DataType::Timestamp(Some(_), TimezoneInfo::WithTimeZone | TimezoneInfo::Tz) => "timestamptz",
        DataType::Time(Some(_), TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => "time",
        _ => return None,
    };
    Some((data_type.to_string().to_lowercase(), instead))
}

/// The type that a wrong spelling probably means; null, which goes with every type, where none is near.
fn probable_type(data_type: &DataType) -> SqlType {
    let spelled = data_type.to_string();
    let word = spelled.split('(').next().unwrap_or_default();
    match names::nearest(word, TYPE_NAMES.iter().copied()) {
        Some("text" | "varchar") => SqlType::Text,
        Some("boolean") => SqlType::Boolean,
        Some("integer" | "int") => SqlType::Integer,
        Some("bigint") => SqlType::Bigint,
        Some("double precision" | "double") => SqlType::Double,
        Some("decimal" | "numeric") => SqlType::Decimal { precision: 12, scale: 2 },
        Some("date") => SqlType::Date,
        Some("timestamptz" | "timestamp") => SqlType::Timestamptz,
        Some("json") => SqlType::Json,
        _ => SqlType::Null,
    }
}

fn decimal(info: ExactNumberInfo, place: Place) -> Result<SqlType, Box<Problem>> {
    let (precision, scale) = match info {
        ExactNumberInfo::PrecisionAndScale(p, s) => (p, s),
        ExactNumberInfo::Precision(p) => (p, 0),
        ExactNumberInfo::None => {
            return Err(Box::new(
                Problem::error("value.range", "a decimal needs its digits", place)
                    .with_help("write decimal(precision, scale), such as decimal(12,2)"),
            ));
        }
    };
    match (u8::try_from(precision), u8::try_from(scale)) {
        (Ok(precision @ 1..=MAX_PRECISION), Ok(scale)) if scale <= precision => {
            Ok(SqlType::Decimal { precision, scale })
        }
        _ => Err(Box::new(
            Problem::error("value.range", format!("decimal({precision},{scale}) cannot be"), place)
                .with_help("precision is 1 to 38, scale is 0 to the precision"),
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sql::tests::embed;
    use rstest::rstest;

    fn parse(sql: &str) -> (Vec<ContractField>, Vec<Problem>) {
        let mut problems = Problems::new();
        let fields = parse_fields(&embed(sql), &mut problems);
        (fields, problems.into_sorted())
    }

    #[test]
    fn a_whole_contract() {
        let (fields, problems) = parse(
            "passage_id text not null, passed_at timestamptz not null format 'epoch_ms',
             draught_cm integer, toll decimal(8,2) null, cargo_kind varchar from 'cargo.kind',",
        );
        assert!(problems.is_empty(), "{problems:?}");
        let types: Vec<String> = fields.iter().map(|f| f.ty.to_string()).collect();
        assert_eq!(types, ["text", "timestamptz", "integer", "decimal(8,2)", "text"]);
        assert!(fields[0].not_null && !fields[2].not_null);
        assert_eq!(fields[1].format, Some(TimeFormat::Epoch(1000)));
        assert_eq!(fields[4].path, ["cargo", "kind"]);
    }

    #[rstest]
    #[case("a", &["a"])]
    #[case("cargo.kind", &["cargo", "kind"])]
    #[case("\"a.b\".c", &["a.b", "c"])]
    #[case("a.\"\".c", &["a", "", "c"])]
    #[case("\"open.c", &["\"open", "c"])]
    fn paths_split_and_join(#[case] path: &str, #[case] names: &[&str]) {
        let names: Vec<String> = names.iter().map(|n| (*n).to_string()).collect();
        assert_eq!(split_path(path), names);
        assert_eq!(split_path(&join_path(&names)), names);
    }

    #[test]
    fn narrower_types_are_kept() {
        let (fields, problems) = parse(
            "a smallint, b int2, c real, d float4, e varchar(8) not null, f character varying(8), g char, h character(3),
             i uuid, j varchar, k text",
        );
        assert!(problems.is_empty(), "{problems:?}");
        let shown = |f: &ContractField| crate::limit::shown(f.ty, f.limit);
        let types: Vec<String> = fields.iter().map(shown).collect();
        let expected = [
            "smallint",
            "smallint",
            "real",
            "real",
            "varchar(8)",
            "varchar(8)",
            "char(1)",
            "char(3)",
            "uuid",
            "text",
            "text",
        ];
        assert_eq!(types, expected);
        assert!(fields.iter().all(|f| f.limit.is_none_or(|limit| limit.base() == f.ty)));
    }

    #[test]
    fn names_keep_their_spelling() {
        assert_eq!(parse("passedAt text, \"with space\" text").0[0].name, "passedAt");
    }

    #[rstest]
    #[case("a timestmaptz", "name.unknown", "did you mean `timestamptz`?")]
    #[case("a timestamp", "name.unknown", "write timestamptz")]
    #[case("a decimal(50,2)", "value.range", "1 to 38")]
    #[case("a decimal", "value.range", "decimal(12,2)")]
    #[case("a varchar(0)", "value.range", "a length from 1 to")]
    #[case("a char(99999999999)", "value.range", "or text")]
    #[case("a int(4)", "name.unknown", "write integer")]
    #[case("a", "syntax.sql", "write: a text")]
    #[case("a text form 'b'", "syntax.sql", "did you mean `from`?")]
    #[case("a text from b", "syntax.sql", "from 'path.to.field'")]
    #[case("a text format '%Y'", "value.type", "timestamptz, date and bytea")]
    #[case("a bytea format 'base46'", "value.type", "did you mean `base64`?")]
    #[case("a time(3)", "name.unknown", "write time")]
    #[case("a time with time zone", "name.unknown", "zone")]
    #[case("a date format 'Ymd'", "value.type", "pattern")]
    #[case("a text, A text", "name.taken", "rename")]
    #[case("a double precison", "syntax.sql", "words here")]
    fn mistakes(#[case] sql: &str, #[case] code: &str, #[case] help: &str) {
        let (_, problems) = parse(sql);
        assert_eq!(problems.len(), 1, "{problems:?}");
        assert_eq!(problems[0].code, code);
        assert!(problems[0].help.as_ref().unwrap().contains(help), "{problems:?}");
    }

    #[test]
    fn a_pasted_table_passes_with_warnings() {
        let (fields, problems) = parse("id bigint primary key, kind text default 'x', primary key (id)");
        assert_eq!(fields.len(), 2);
        assert!(problems.iter().all(|p| p.severity == crate::problem::Severity::Warning));
        assert_eq!(problems.len(), 3);
    }

    #[test]
    fn one_mistake_does_not_hide_the_next() {
        let (fields, problems) = parse("a txt, b integer, c timestmaptz");
        assert_eq!((fields.len(), problems.len()), (3, 2));
    }
}
