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
    (
        "narrower types",
        "smallint, real, varchar(n), char(n) and uuid are checked where a value arrives or is cast, and computed with as integer, \
         double precision and text: a sum of two smallints may be larger; a real is the number of 64 bits that is spelled alike, \
         0.1 rather than 0.10000000149011612; char(n) is not padded; a uuid is a text, and is compared as one",
    ),
    (
        "bytes",
        "are kept and shown as \\x and hexadecimal digits. encode(…, 'base64') has no line ends, `like` does not take bytes, convert_from gives zero bytes as \
         they are, and digests of bytes are texts of hexadecimal digits",
    ),
    (
        "patterns of numbers",
        "to_char takes exact numbers, and letters that mean nothing stand in double quotes: '99 kg' is a mistake, where PostgreSQL takes \
         the g for a separator",
    ),
    (
        "times of day",
        "go to 23:59:59.999999: the hour 24 and the second 60 are errors. A text function takes one as its text",
    ),
    ("dates beside moments", "are not compared; cast one to the type of the other"),
    (
        "errors beside and, or",
        "an error on one side is ignored if the other side alone decides the result, on either side; PostgreSQL \
         usually evaluates the left side first",
    ),
    (
        "rounding whole numbers",
        "ceil, floor and trunc of whole numbers are whole numbers; PostgreSQL makes floating-point numbers of them",
    ),
    ("buckets", "a number inside the borders stays in the last bucket however near it is to the border"),
    (
        "regular expressions",
        "take time in proportion to the text: there is neither looking ahead or behind nor a reference to a group, of several \
         branches the first one that fits counts rather than the longest, and each part is greedy or not by itself. A pattern is a \
         constant and is compiled once",
    ),
    (
        "functions of floating-point numbers",
        "give double precision for decimals as well: sqrt, power, exp, ln, log, cbrt",
    ),
    (
        "functions of our own",
        "mask, hmac_sha256, name_uuid; json_path_exists and its like, which PostgreSQL has for jsonb alone",
    ),
    (
        "timestamps and intervals",
        "exist within expressions alone: a column has a timestamptz, a number of seconds or a text",
    ),
    ("fields of moments", "date_part gives what extract gives: whole numbers, and decimals for seconds and epoch"),
    ("timestamps as text", "have a T between day and time, as RFC 3339 has it"),
    (
        "reading by a pattern",
        "to_date and to_timestamp take what fits the pattern: a month 13, a sign in the wrong place and text that is left over are \
         errors of the row; two digits of a year are those from 1970 to 2069",
    ),
    ("time zones", "are named as in the database of time zones: Europe/Oslo; no abbreviations but UTC, no offsets"),
    (
        "JSON",
        "keeps the spelling that it came with, under the names of jsonb as well; what is built has no blanks in it",
    ),
    ("paths into JSON", "are lax; without variables, arithmetic, .** and methods other than size() and type()"),
    ("log(base, number)", "is double precision, as the other logarithms are; PostgreSQL computes it as numeric"),
    ("trim without characters", "takes all white space; btrim takes spaces alone"),
    ("names in format", "%I quotes what is not a plain name, but does not know the reserved words"),
    ("upper case", "follows Unicode's full rules: upper('ß') gives SS"),
];
