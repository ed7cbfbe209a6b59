//! The operators of expressions, as the manual shows them.

/// An operator.
pub struct Operator {
    /// Its form.
    pub form: &'static str,
    /// What it gives.
    pub about: &'static str,
    /// An expression.
    pub example: &'static str,
    /// What that gives, as text.
    pub gives: &'static str,
}

const fn operator(form: &'static str, about: &'static str, example: &'static str, gives: &'static str) -> Operator {
    Operator { form, about, example, gives }
}

/// All operators.
pub const OPERATORS: &[Operator] = &[
    operator(
        "+ - * / %",
        "arithmetic; / of whole numbers gives the whole part; a % b is also written mod(a, b)",
        "7 / 2",
        "3",
    ),
    operator("^", "power, as double precision", "2 ^ 10", "1024"),
    operator("& | # ~ << >>", "whole numbers as bits", "6 & 3", "2"),
    operator("||", "two texts, one after the other", "'TN-' || 7", "TN-7"),
    operator("= <> < <= > >=", "comparisons; null if a side is null", "'a' < 'b'", "true"),
    operator("between … and …", "both borders count", "3 between 1 and 3", "true"),
    operator("in (…)", "whether a value is one of some", "3 in (1, 2)", "false"),
    operator("is [not] null", "whether there is no value", "null is null", "true"),
    operator("is [not] true, is [not] false", "never null", "null::boolean is true", "false"),
    operator("is [not] distinct from", "a comparison to which null is a value", "1 is distinct from null", "true"),
    operator("and or not", "three-valued logic", "not (true and false)", "true"),
    operator(
        "like, not like",
        "% is any text, _ any character, \\ takes their meaning away",
        "'TN-42' like 'TN-%'",
        "true",
    ),
    operator("ilike", "like, whatever the case of letters", "'TN-42' ilike 'tn-__'", "true"),
    operator(
        "similar to",
        "a pattern of the whole text with %, _, |, *, +, ?, {n}, ( ) and [ ]",
        "'abc' similar to '%(b|d)%'",
        "true",
    ),
    operator(
        "~ ~*",
        "whether a regular expression is found; ~* ignores case; !~ and !~* say the contrary",
        "'TN-42' ~ '^TN-[0-9]+$'",
        "true",
    ),
    operator(
        "json -> name, json -> place",
        "a member or an element as json; places are counted from 0",
        "json '{\"a\": [1, 2]}' -> 'a' -> 0",
        "1",
    ),
    operator("json ->> name, json ->> place", "the same as text", "json '{\"lock\": \"low\"}' ->> 'lock'", "low"),
    operator(
        "json #> '{name,0}', json #>> '{name,0}'",
        "a value at the end of a way, as json or as text",
        "json '{\"a\": [{\"b\": 7}]}' #>> '{a,0,b}'",
        "7",
    ),
    operator(
        "moment + interval, moment - interval",
        "a moment so much later or earlier; also date + 1",
        "timestamptz '2026-07-01T00:00:00Z' + interval '90 minutes'",
        "2026-07-01T01:30:00Z",
    ),
    operator(
        "moment - moment",
        "an interval; of dates, the number of days",
        "date '2026-07-01' - date '2026-06-01'",
        "30",
    ),
    operator(
        "timestamptz at time zone name",
        "what the clocks of the zone show; of a timestamp, the moment at which they show it",
        "(timestamptz '2026-07-01T10:00:00Z' at time zone 'Europe/Oslo')::text",
        "2026-07-01T12:00:00",
    ),
    operator(
        "case when … then … else … end",
        "the first branch whose condition is true",
        "case when 1 > 2 then 'a' else 'b' end",
        "b",
    ),
    operator(
        "cast(x as type), x::type",
        "a value in another type; try_cast gives null for what does not fit",
        "cast('42' as integer)",
        "42",
    ),
    operator(
        "coalesce(x, …), nullif(x, y)",
        "the first value that is not null; null where both are equal",
        "coalesce(null, 'a')",
        "a",
    ),
    operator(
        "greatest(x, …), least(x, …)",
        "the largest and the smallest value, nulls passed over",
        "greatest(1, 3, 2)",
        "3",
    ),
    operator(
        "now(), current_timestamp, current_date",
        "when the batch was opened; the same for all of its rows",
        "now()",
        "1970-01-01T00:00:01Z",
    ),
    operator(
        "extract(field from moment)",
        "a field of a date, a moment or an interval: see date_part",
        "extract(year from date '2026-07-01')",
        "2026",
    ),
    operator(
        "overlay(text placing new from start for count)",
        "another text in the place of some characters",
        "overlay('TN-0042' placing 'XX' from 4 for 2)",
        "TN-XX42",
    ),
];

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::tests::constant;

    #[test]
    fn every_example_gives_what_it_says() {
        for operator in OPERATORS {
            assert_eq!(constant(operator.example), operator.gives, "{}", operator.example);
        }
    }
}
