//! A layout as a person writes it, understood: literal text and `{field}` places.
//!
//! `{client} {skip} {user} [{time:%d/%b/%Y:%H:%M:%S %z}] "{method} {target} {protocol}" {status}`
//!
//! `{{` and `}}` stand for the braces themselves. What a place may be called is one list, [`FIELDS`].

use super::columns::TextColumn;
use super::moment::{CLASSIC, TimeForm};
use thiserror::Error;

/// What a place in a line holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Field {
    /// A text that goes into a column as it is.
    Text(TextColumn),
    /// Path and query in one.
    Target,
    /// Response status.
    Status,
    /// Body bytes sent.
    Bytes,
    /// Body bytes before compression.
    FullBytes,
    /// How long the answer took; the number of microseconds in one unit.
    Duration(u32),
    /// When the request came in.
    Time(TimeForm),
    /// Something nobody needs.
    Skip,
}

/// A piece of a layout.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Text that stands there in every line.
    Literal(String),
    /// A place for a field.
    Place(Field),
}

/// Every name a place may have, with its example.
pub const FIELDS: &[(&str, &str)] = &[
    ("client", "address of the client"),
    ("user", "signed-in name"),
    ("time", "when: {time:seconds}, {time:milliseconds}, {time:rfc3339} or strftime codes"),
    ("method", "GET, HEAD, …"),
    ("target", "path and query together"),
    ("path", "path without query"),
    ("query", "query without its question mark"),
    ("protocol", "HTTP/1.1, …"),
    ("status", "response status"),
    ("bytes", "body bytes sent"),
    ("full_bytes", "body bytes before compression"),
    ("duration", "{duration:microseconds}, {duration:milliseconds} or {duration:seconds}"),
    ("referrer", "the page that linked here"),
    ("agent", "what the client calls itself"),
    ("scheme", "http or https"),
    ("host", "host asked for"),
    ("encoding", "content coding of the answer"),
    ("rule", "the rule that answered"),
    ("skip", "read and forgotten"),
];

/// What is wrong with a layout, and where (in bytes from its beginning).
#[derive(Debug, Error, PartialEq, Eq)]
pub enum TemplateError {
    /// A brace that nothing closes.
    #[error("the place that begins at {at} has no closing brace: write {{{{ for a brace itself")]
    Unclosed {
        /// Where it begins.
        at: usize,
    },
    /// A brace that nothing opened.
    #[error("the closing brace at {at} closes nothing: write }}}} for a brace itself")]
    Unopened {
        /// Where it stands.
        at: usize,
    },
    /// No such field.
    #[error("there is no field `{name}` (at {at}){}", nearest.map(|near| format!(": did you mean `{near}`?")).unwrap_or_default())]
    NoField {
        /// Where the place begins.
        at: usize,
        /// What was written.
        name: String,
        /// The nearest field there is.
        nearest: Option<&'static str>,
    },
    /// An argument that the field does not take.
    #[error("`{{{name}:{argument}}}` (at {at}) does not say how to read it: {remedy}")]
    BadArgument {
        /// Where the place begins.
        at: usize,
        /// The field.
        name: String,
        /// What was written.
        argument: String,
        /// What to write.
        remedy: &'static str,
    },
    /// Two places without anything between them.
    #[error("nothing stands between the place at {at} and the one before it, so no reader could part them")]
    Touching {
        /// Where the second begins.
        at: usize,
    },
    /// No time, so that its lines could not be put anywhere.
    #[error("the layout has no {{time}}")]
    NoTime,
}

/// Understands a template.
pub fn parse(template: &str) -> Result<Vec<Piece>, TemplateError> {
    let mut pieces = Vec::new();
    let mut literal = String::new();
    let mut at = 0;
    while at < template.len() {
        let rest = &template[at..];
        if rest.starts_with("{{") || rest.starts_with("}}") {
            literal.push_str(&rest[..1]);
            at += 2;
        } else if rest.starts_with('}') {
            return Err(TemplateError::Unopened { at });
        } else if rest.starts_with('{') {
            let end = rest.find('}').ok_or(TemplateError::Unclosed { at })?;
            if !literal.is_empty() {
                pieces.push(Piece::Literal(std::mem::take(&mut literal)));
            } else if matches!(pieces.last(), Some(Piece::Place(_))) {
                return Err(TemplateError::Touching { at });
            }
            pieces.push(Piece::Place(field(&rest[1..end], at)?));
            at += end + 1;
        } else {
            let letter = rest.chars().next().unwrap_or_default();
            literal.push(letter);
            at += letter.len_utf8();
        }
    }
    if !literal.is_empty() {
        pieces.push(Piece::Literal(literal));
    }
    if !pieces.iter().any(|piece| matches!(piece, Piece::Place(Field::Time(_)))) {
        return Err(TemplateError::NoTime);
    }
    Ok(pieces)
}

fn field(text: &str, at: usize) -> Result<Field, TemplateError> {
    let (name, argument) = text.split_once(':').unwrap_or((text, ""));
    let bad = |remedy| TemplateError::BadArgument {
        at,
        name: name.to_owned(),
        argument: argument.to_owned(),
        remedy,
    };
    let found = match name {
        "time" if argument.is_empty() => Field::Time(TimeForm::named(CLASSIC).ok_or_else(|| bad("codes"))?),
        "time" => Field::Time(
            TimeForm::named(argument)
                .ok_or_else(|| bad("write seconds, milliseconds, rfc3339 or strftime codes"))?,
        ),
        "duration" => Field::Duration(match argument {
            "microseconds" => 1,
            "milliseconds" => 1_000,
            "seconds" => 1_000_000,
            _ => return Err(bad("write microseconds, milliseconds or seconds")),
        }),
        _ if !argument.is_empty() => return Err(bad("this field takes none")),
        "target" => Field::Target,
        "status" => Field::Status,
        "bytes" => Field::Bytes,
        "full_bytes" => Field::FullBytes,
        "skip" => Field::Skip,
        _ => match super::columns::Column::named(name).and_then(|column| column.as_text()) {
            Some(column) => Field::Text(column),
            None => {
                let nearest = crate::config::nearest(name, FIELDS.iter().map(|(name, _)| *name));
                return Err(TemplateError::NoField { at, name: name.to_owned(), nearest });
            }
        },
    };
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::typo("{time} {cleint}", "there is no field `cleint` (at 7): did you mean `client`?")]
    #[case::open(
        "{time} {client",
        "the place that begins at 7 has no closing brace: write {{ for a brace itself"
    )]
    #[case::close("{time} }", "the closing brace at 7 closes nothing: write }} for a brace itself")]
    #[case::touching(
        "{time}{client}",
        "nothing stands between the place at 6 and the one before it, so no reader could part them"
    )]
    #[case::no_unit(
        "{time} {duration}",
        "`{duration:}` (at 7) does not say how to read it: write microseconds, milliseconds or seconds"
    )]
    #[case::no_time("{client}", "the layout has no {time}")]
    fn mistakes(#[case] template: &str, #[case] message: &str) {
        assert_eq!(parse(template).unwrap_err().to_string(), message);
    }

    #[test]
    fn braces_can_be_written() {
        let pieces = parse("{{x}} {time:seconds}").unwrap();
        assert_eq!(pieces[0], Piece::Literal("{x} ".into()));
    }
}
