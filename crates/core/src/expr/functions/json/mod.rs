//! Functions of JSON. Values keep the spelling that they came with; nothing is built to look into them.

mod build;
mod look;
mod path;
mod predicate;
mod reach;

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::column::{map_boolean, map_primitive, map_text, map_text_or_null};
use crate::types::SqlType;
pub(crate) use look::{json_length, json_members, json_type};
pub(crate) use reach::Path;

const NULL_IF_ABSENT: &str = "null if an argument is null, or where there is no such value";

/// The operator `->`: a member by its name, or an element by its place, counted from 0.
pub(in crate::expr) static AT: Function = Function {
    name: "->",
    signature: "json -> name or place",
    parameters: &[Parameter::Json, Parameter::KeyOrPlace],
    result: |_| SqlType::Json,
    nullable: true,
    compute: |a| look::at(a, false),
    ..Function::PLAIN
};

/// The operator `->>`: the same as text.
pub(in crate::expr) static AT_TEXT: Function = Function {
    name: "->>",
    signature: "json ->> name or place",
    parameters: &[Parameter::Json, Parameter::KeyOrPlace],
    nullable: true,
    compute: |a| look::at(a, true),
    ..Function::PLAIN
};

/// The operator `#>`: a value by its way, `'{a,0,b}'`.
pub(in crate::expr) static AT_PATH: Function = Function {
    name: "#>",
    signature: "json #> '{name,0}'",
    parameters: &[Parameter::Json, Parameter::Constant],
    result: |_| SqlType::Json,
    nullable: true,
    prepare: Some(look::prepare),
    compute: |a| look::along(a, false),
    ..Function::PLAIN
};

/// The operator `#>>`: the same as text.
pub(in crate::expr) static AT_PATH_TEXT: Function = Function {
    name: "#>>",
    signature: "json #>> '{name,0}'",
    parameters: &[Parameter::Json, Parameter::Constant],
    nullable: true,
    prepare: Some(look::prepare),
    compute: |a| look::along(a, true),
    ..Function::PLAIN
};

/// A text as a JSON string.
pub(in crate::expr) static TO_JSON_TEXT: Function = Function {
    name: "to_json",
    result: |_| SqlType::Json,
    compute: |a| {
        let mut text = String::new();
        map_text(&a.all(), a.rows, |row, out| {
            text.clear();
            crate::values::json::write_string(&mut text, a.text(0, row));
            out.extend_from_slice(text.as_bytes());
            Ok(())
        })
    },
    ..Function::PLAIN
};

/// Functions of JSON.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "json_array_length",
        signature: "json_array_length(json) → integer",
        about: "How many elements a list has; an error for what is not a list.",
        example: "json_array_length(json '[1, [2, 3]]')",
        gives: "2",
        parameters: &[Parameter::Json],
        result: |_| SqlType::Integer,
        compute: look::array_length,
        ..Function::PLAIN
    },
    Function {
        name: "json_build_array",
        signature: "json_build_array(any, …) → json",
        about: "A list of the arguments.",
        example: "json_build_array('a', 1, null)",
        gives: "[\"a\",1,null]",
        nulls: "never null; a null becomes JSON's null",
        parameters: &[],
        optional: &[Parameter::AsJson],
        repeats: true,
        skips_nulls: true,
        result: |_| SqlType::Json,
        compute: build::array,
        ..Function::PLAIN
    },
    Function {
        name: "json_build_object",
        signature: "json_build_object(name, any, …) → json",
        about: "An object; names and values follow each other.",
        example: "json_build_object('lock', 'low', 'level', 1.5)",
        gives: "{\"lock\":\"low\",\"level\":1.5}",
        nulls: "never null; a null becomes JSON's null, and a name must not be null",
        parameters: &[],
        optional: &[Parameter::AsJson],
        repeats: true,
        skips_nulls: true,
        result: |_| SqlType::Json,
        prepare: Some(build::prepare_object),
        compute: build::object,
        ..Function::PLAIN
    },
    Function {
        name: "json_extract_path",
        signature: "json_extract_path(json, name, …) → json",
        about: "The value at the end of a way of names and places. Also written json #> '{name,0}'.",
        example: "json_extract_path(json '{\"a\": [{\"b\": 1}]}', 'a', '0', 'b')",
        gives: "1",
        nulls: NULL_IF_ABSENT,
        parameters: &[Parameter::Json, Parameter::Text],
        repeats: true,
        result: |_| SqlType::Json,
        nullable: true,
        compute: |a| look::extract(a, false),
        ..Function::PLAIN
    },
    Function {
        name: "json_extract_path_text",
        signature: "json_extract_path_text(json, name, …) → text",
        about: "The same as text. Also written json #>> '{name,0}'.",
        example: "json_extract_path_text(json '{\"a\": {\"b\": \"low\"}}', 'a', 'b')",
        gives: "low",
        nulls: NULL_IF_ABSENT,
        parameters: &[Parameter::Json, Parameter::Text],
        repeats: true,
        nullable: true,
        compute: |a| look::extract(a, true),
        ..Function::PLAIN
    },
    Function {
        name: "json_path_exists",
        signature: "json_path_exists(json, path) → boolean",
        about: "Whether a SQL/JSON path leads to a value.",
        example: "json_path_exists(json '{\"items\": [{\"tons\": 7}]}', '$.items[*] ? (@.tons > 5)')",
        gives: "true",
        parameters: &[Parameter::Json, Parameter::Constant],
        result: |_| SqlType::Boolean,
        prepare: Some(path::prepare),
        compute: |a| map_boolean(&[&a.columns[0]], a.rows, |row| Ok(!reach::of(a).values(a.text(0, row)).is_empty())),
        ..Function::PLAIN
    },
    Function {
        name: "json_path_query_array",
        signature: "json_path_query_array(json, path) → json",
        about: "A list of the values to which a SQL/JSON path leads.",
        example: "json_path_query_array(json '{\"items\": [{\"t\": 7}, {\"t\": 9}]}', '$.items[*].t')",
        gives: "[7,9]",
        parameters: &[Parameter::Json, Parameter::Constant],
        result: |_| SqlType::Json,
        prepare: Some(path::prepare),
        compute: |a| {
            map_text(&[&a.columns[0]], a.rows, |row, out| {
                out.push(b'[');
                for (i, value) in reach::of(a).values(a.text(0, row)).iter().enumerate() {
                    if i > 0 {
                        out.push(b',');
                    }
                    out.extend_from_slice(value);
                }
                out.push(b']');
                Ok(())
            })
        },
        ..Function::PLAIN
    },
    Function {
        name: "json_path_query_first",
        signature: "json_path_query_first(json, path) → json",
        about: "The first value to which a SQL/JSON path leads: $.name, [0], [last], [*], .*, ? (@.tons > 5 && exists (@.kind)), \
                .size(), .type(); like_regex and starts with in conditions. Paths are lax.",
        example: "json_path_query_first(json '{\"items\": [{\"t\": 7}, {\"t\": 9}]}', '$.items[last].t')",
        gives: "9",
        nulls: NULL_IF_ABSENT,
        parameters: &[Parameter::Json, Parameter::Constant],
        result: |_| SqlType::Json,
        nullable: true,
        prepare: Some(path::prepare),
        compute: |a| {
            map_text_or_null(&[&a.columns[0]], a.rows, |row, out| {
                let values = reach::of(a).values(a.text(0, row));
                out.extend_from_slice(values.first().map_or(&[][..], |value| value));
                Ok(!values.is_empty())
            })
        },
        ..Function::PLAIN
    },
    Function {
        name: "json_typeof",
        signature: "json_typeof(json) → text",
        about: "What the value is: object, array, string, number, boolean or null.",
        example: "json_typeof(json '[1]')",
        gives: "array",
        parameters: &[Parameter::Json],
        compute: |a| {
            map_text(&a.all(), a.rows, |row, out| {
                out.extend_from_slice(look::type_of(a.text(0, row).trim().as_bytes()).as_bytes());
                Ok(())
            })
        },
        ..Function::PLAIN
    },
    Function {
        name: "to_json",
        signature: "to_json(any) → json",
        about: "The value as JSON: a text as a string, numbers and truth values as they are.",
        example: "to_json('a \"b\"')",
        gives: "\"a \\\"b\\\"\"",
        parameters: &[Parameter::AsJson],
        result: |_| SqlType::Json,
        ..Function::PLAIN
    },
];
