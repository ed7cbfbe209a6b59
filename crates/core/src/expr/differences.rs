//! Where expressions differ from PostgreSQL, on purpose. Everything else is compared with it by a test.

/// Each difference: what it is about, then what is done here, and why.
pub const DIFFERENCES: &[(&str, &str)] = &[
    (
        "rounding doubles",
        "halves round away from zero for every numeric type, by the shortest decimal spelling: cast(2.5e0 as integer) \
         gives 3, where PostgreSQL rounds doubles to even. round takes digits for doubles as well",
    ),
    ("exponents in constants", "1e0 is a double precision; PostgreSQL reads it as a numeric"),
    ("doubles as text", "are spelled as in JSON, without an exponent"),
    ("booleans within concat", "are true and false, as a cast gives them; concat of PostgreSQL gives t and f"),
    (
        "decimals",
        "have at most 38 digits, and no NaN: a sum or product without room for all of its digits is an error of its row",
    ),
    (
        "quotients of decimals",
        "have max(6, s1 + p2 + 1) digits after the point, where PostgreSQL chooses by the values",
    ),
    (
        "whole numbers as text",
        "may have an exponent or zeros after the point, as JSON has them: cast('1e3' as integer) gives 1000",
    ),
    (
        "moments as days",
        "only a timestamptz is cut to its day by a cast: cast('2026-07-01T05:06:07Z' as date) is an error of its row",
    ),
    (
        "moments",
        "are written with a zone and with seconds; the hour 24 and the second 60 are errors, as are years before 1 and after 9999",
    ),
    ("dates", "are written YYYY-MM-DD, with years from 0001 to 9999; neither infinity nor names such as today"),
    ("fractions of a second", "are rounded to microseconds, halves away from zero"),
    (
        "the second argument of nullif",
        "is compared in the type that both share, and that is the type of the result: nullif(i, 1.5) is a decimal",
    ),
    ("dates beside moments", "are not compared; cast one to the type of the other"),
    (
        "errors beside and, or",
        "an error on one side is ignored if the other side alone decides the result, on either side; PostgreSQL \
         usually evaluates the left side first",
    ),
    ("upper case", "follows Unicode's full rules: upper('ß') gives SS"),
];
