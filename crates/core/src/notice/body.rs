//! The body of a request that carries a notice.

use super::Message;

/// The values that a body can name in braces.
pub const PARTS: &[&str] =
    &["message", "help", "headline", "text", "notice", "phase", "project", "pipeline", "at", "began_at", "id"];

/// What is sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Body {
    /// All of it as JSON.
    Json,
    /// A text for a person.
    Text,
    /// JSON of the recipient's own form: text between values.
    Form(Vec<Piece>),
}

/// A piece of a form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// As it stands.
    Text(String),
    /// The value of this name, as a JSON string.
    Value(&'static str),
}

impl Body {
    /// Reads a body as it stands in sluice.toml.
    ///
    /// # Errors
    /// Where it is neither a known word nor valid JSON once its values stand in it.
    pub fn parse(text: &str) -> Result<Self, String> {
        match text {
            "json" => return Ok(Self::Json),
            "text" => return Ok(Self::Text),
            _ => {}
        }
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some((before, part, after)) = next_value(rest) {
            pieces.push(Piece::Text(before.into()));
            pieces.push(Piece::Value(part));
            rest = after;
        }
        pieces.push(Piece::Text(rest.into()));
        let form = Self::Form(pieces);
        // Values that would break out of a string must not pass: a quote in one shows where it stands.
        let probe = Message {
            id: "\"id\"".into(),
            notice: "\"notice\"".into(),
            phase: super::Phase::Begins,
            project: "\"project\"".into(),
            pipeline: "\"pipeline\"".into(),
            message: "\"message\"".into(),
            help: "\"help\"".into(),
            at: "\"at\"".into(),
            began_at: "\"began\"".into(),
        };
        match serde_json::from_str::<serde_json::Value>(&form.filled(&probe)) {
            Ok(_) => Ok(form),
            Err(error) => Err(format!("not valid JSON once its values stand in it: {error}")),
        }
    }

    /// The body for a message.
    pub fn filled(&self, message: &Message) -> String {
        let pieces = match self {
            Self::Json => return message.as_json(),
            Self::Text => return message.as_text(),
            Self::Form(pieces) => pieces,
        };
        let one = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Value(name) => serde_json::Value::from(value(message, name)).to_string(),
        };
        pieces.iter().map(one).collect()
    }

    /// The type of the body.
    pub fn content_type(&self) -> &'static str {
        match self {
            Self::Text => "text/plain; charset=utf-8",
            Self::Json | Self::Form(_) => "application/json",
        }
    }
}

/// The text before the next value, its name, and the text after it.
fn next_value(text: &str) -> Option<(&str, &'static str, &str)> {
    let mut from = 0;
    while let Some(open) = text[from..].find('{') {
        let start = from + open;
        let inner = &text[start + 1..];
        let found = PARTS.iter().find(|part| inner.strip_prefix(**part).is_some_and(|rest| rest.starts_with('}')));
        if let Some(part) = found {
            return Some((&text[..start], part, &inner[part.len() + 1..]));
        }
        from = start + 1;
    }
    None
}

fn value(message: &Message, name: &str) -> String {
    match name {
        "message" => message.message.clone(),
        "help" => message.help.clone(),
        "headline" => message.headline(),
        "text" => message.as_text(),
        "notice" => message.notice.clone(),
        "phase" => message.phase.word().into(),
        "project" => message.project.clone(),
        "pipeline" => message.pipeline.clone(),
        "at" => message.at.clone(),
        "began_at" => message.began_at.clone(),
        _ => message.id.clone(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::Phase;
    use super::*;

    fn message() -> Message {
        let text = "tolls stopped: a row of \"ship\" \\ has {help}\nand more";
        Message::new(
            ("tarrow-7-begins", "tarrow", "stops", "tolls"),
            Phase::Begins,
            (text, "sluice start tolls"),
            (1_775_031_300_000_000, 1_775_031_300_000_000),
        )
    }

    #[rstest]
    #[case("{\"text\": {message}}")]
    #[case("{\"content\":{text},\"embeds\":[{\"title\":{headline},\"footer\":{\"text\":{at}}}]}")]
    #[case("[{id}, {notice}, {phase}, {project}, {pipeline}, {help}, {began_at}]")]
    #[case("{\"a\": 1}")]
    fn a_form_becomes_json_whatever_its_values_hold(#[case] form: &str) {
        let filled = Body::parse(form).unwrap().filled(&message());
        serde_json::from_str::<serde_json::Value>(&filled).unwrap();
    }

    #[test]
    fn values_stand_where_they_are_named() {
        let filled = Body::parse("{\"text\": {message}, \"by\": {pipeline}}").unwrap().filled(&message());
        let parsed: serde_json::Value = serde_json::from_str(&filled).unwrap();
        assert_eq!(parsed["by"], "tolls");
        // What looks like a value inside of a value stays as it is.
        assert!(parsed["text"].as_str().unwrap().contains("{help}"), "{parsed}");
        assert!(!parsed["text"].as_str().unwrap().contains('\n'));
    }

    #[rstest]
    #[case("plain")]
    #[case("{\"text\": \"{message}\"}")]
    #[case("{\"text\": {mesage}}")]
    #[case("{\"text\": {message}")]
    #[case("")]
    fn what_is_no_json_is_refused(#[case] form: &str) {
        assert!(Body::parse(form).is_err(), "{form}");
    }
}
