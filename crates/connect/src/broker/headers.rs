//! Headers of a message as one JSON object, and back, so that nothing of them is lost.

use base64::Engine as _;
use rdkafka::message::Headers;
use serde_json::{Map, Value, json};

/// The headers by name: text, null for one without a value, `{"base64": …}` for bytes that are not UTF-8; a list where
/// a name occurs more than once, in the order of the message. [`spread`] makes headers of it again.
pub fn object<H: Headers>(headers: &H) -> String {
    let mut found = Map::new();
    let mut repeated: Map<String, Value> = Map::new();
    for header in headers.iter() {
        let value = header.value.map_or(Value::Null, to_value);
        if let Some(Value::Array(list)) = repeated.get_mut(header.key) {
            list.push(value);
        } else if let Some(first) = found.insert(header.key.to_string(), value.clone()) {
            repeated.insert(header.key.to_string(), Value::Array(vec![first, value]));
        }
    }
    found.extend(repeated);
    Value::Object(found).to_string()
}

fn to_value(bytes: &[u8]) -> Value {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.into(),
        Err(_) => json!({ "base64": base64::engine::general_purpose::STANDARD.encode(bytes) }),
    }
}

/// Adds the members of a JSON object as headers, as [`object`] wrote them: a list is several headers of
/// one name, `{"base64": …}` is bytes, null is a header without a value. Other values keep their JSON text.
pub fn spread(json: &str, into: &mut Vec<(String, Option<Vec<u8>>)>) {
    let Ok(Value::Object(object)) = serde_json::from_str::<Value>(json) else { return };
    for (name, value) in object {
        match value {
            Value::Array(values) => into.extend(values.iter().map(|value| (name.clone(), of_value(value)))),
            value => into.push((name, of_value(&value))),
        }
    }
}

fn of_value(value: &Value) -> Option<Vec<u8>> {
    match value {
        Value::Null => None,
        Value::String(text) => Some(text.as_bytes().to_vec()),
        Value::Object(object) => {
            let reported = object.get("base64").and_then(Value::as_str).filter(|_| object.len() == 1);
            let reported = reported.and_then(|text| base64::engine::general_purpose::STANDARD.decode(text).ok());
            Some(reported.unwrap_or_else(|| value.to_string().into_bytes()))
        }
        other => Some(other.to_string().into_bytes()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rdkafka::message::{Header, OwnedHeaders};
    use rstest::rstest;

    #[rstest]
    #[case(&[("a", Some(b"1".as_slice()))], r#"{"a":"1"}"#)]
    #[case(&[("a", Some(b"1".as_slice())), ("b", None), ("a", Some(b"2")), ("a", Some(b"1"))], r#"{"a":["1","2","1"],"b":null}"#)]
    #[case(&[("a", Some([0xff, 0x00].as_slice())), ("", Some(b"".as_slice()))], r#"{"":"","a":{"base64":"/wA="}}"#)]
    fn nothing_of_headers_is_lost(#[case] headers: &[(&str, Option<&[u8]>)], #[case] expected: &str) {
        let mut all = OwnedHeaders::new();
        for (key, value) in headers {
            all = all.insert(Header { key, value: *value });
        }
        let reported = object(&all);
        assert_eq!(reported, expected);
        let mut back = Vec::new();
        spread(&reported, &mut back);
        let mut sent: Vec<(String, Option<Vec<u8>>)> =
            headers.iter().map(|(key, value)| ((*key).to_string(), value.map(<[u8]>::to_vec))).collect();
        sent.sort_by(|a, b| a.0.cmp(&b.0));
        assert_eq!(back, sent);
    }
}
