//! Texts with places for captures and facts: `/notices/{year}/{rest}`, `https://{host}{path}`, `{cookie:tongue}`.
//!
//! Captures, path and query are put in just as the client wrote them. In an address, everything else is encoded
//! first, so that nothing a client says can become more than a part of one.
//!
//! ```
//! use exedra_answering::rules::Template;
//! let template = Template::understand("/notices/{year}?season={parameter:season}", &["year".into()]).unwrap();
//! assert_eq!(template.facts().map(ToString::to_string).collect::<Vec<_>>(), ["parameter:season"]);
//! assert!(Template::understand("/notices/{yaer}", &["year".into()]).is_err());
//! ```

use crate::facts::{FACTS, FactName, RecordedFacts};
use exedra_common::text::nearest;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use std::borrow::Cow;
use std::ops::Range;
use thiserror::Error;

use super::pattern::Captures;
use super::seen::Seen;

/// What stays as it is in a part of an address (RFC 3986 §2.3).
const PART: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
/// What stays as it is in a host (RFC 3986 §3.2.2), which may be an address in brackets.
const HOST: &AsciiSet = &PART.remove(b'[').remove(b']').remove(b':');

/// A text with places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: Box<str>,
    pieces: Vec<Piece>,
}

/// A piece of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// This.
    Literal(Box<str>),
    /// What the rule's pattern captured: which of its names.
    Capture(usize),
    /// A fact of the request.
    Fact(FactName),
}

/// What is wrong with a template.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TemplateError {
    /// A brace that nothing closes.
    #[error("the brace is not closed: write {{name}} for a place, {{{{ for a brace itself")]
    Unclosed,
    /// A brace that nothing opened.
    #[error("the brace closes nothing: write }}}} for a brace itself")]
    Unopened,
    /// Neither a capture of the rule's path nor a fact.
    #[error("`{{{name}}}` is neither captured by the rule's path nor a fact{}", near.as_ref().map(|near| format!(": did you mean `{{{near}}}`?")).unwrap_or_default())]
    Unknown {
        /// What was written.
        name: String,
        /// What comes nearest.
        near: Option<String>,
    },
}

/// What a template's places are filled from.
#[derive(Debug, Clone, Copy)]
pub struct Values<'v> {
    /// The request.
    pub facts: &'v RecordedFacts<'v>,
    /// Who has signed in.
    pub user: Option<&'v str>,
    /// The path, which an earlier rule may have changed.
    pub path: &'v Seen<'v>,
    /// What the rule's pattern captured of it.
    pub captures: &'v Captures,
}

impl Template {
    /// Understands a template. `names` are those that the rule's pattern captures.
    pub fn understand(text: &str, names: &[Box<str>]) -> Result<Self, (TemplateError, Range<usize>)> {
        let mut pieces = Vec::new();
        let mut literal = String::new();
        let mut at = 0;
        while let Some(letter) = text[at..].chars().next() {
            let begin = at;
            at += letter.len_utf8();
            match letter {
                '{' | '}' if text[at..].starts_with(letter) => {
                    literal.push(letter);
                    at += 1;
                }
                '}' => return Err((TemplateError::Unopened, begin..at)),
                '{' => {
                    let end = text[at..].find('}').ok_or((TemplateError::Unclosed, begin..text.len()))? + at;
                    let piece = place(&text[at..end], names).map_err(|error| (error, begin..end + 1))?;
                    if !literal.is_empty() {
                        pieces.push(Piece::Literal(std::mem::take(&mut literal).into()));
                    }
                    pieces.push(piece);
                    at = end + 1;
                }
                letter => literal.push(letter),
            }
        }
        if !literal.is_empty() {
            pieces.push(Piece::Literal(literal.into()));
        }
        Ok(Template { text: text.into(), pieces })
    }

    /// A template that is only this text.
    pub fn literal(text: &str) -> Self {
        Template { text: text.into(), pieces: vec![Piece::Literal(text.into())] }
    }

    /// The template as it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Its pieces.
    pub fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// The facts it asks for.
    pub fn facts(&self) -> impl Iterator<Item = &FactName> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Fact(name) => Some(name),
            Piece::Literal(_) | Piece::Capture(_) => None,
        })
    }

    /// The text for an address.
    pub fn address(&self, values: &Values<'_>) -> String {
        self.fill(values, |name, value| match name {
            FactName::Path | FactName::Query | FactName::Parameter(_) => value,
            FactName::Host => utf8_percent_encode(&value, HOST).to_string().into(),
            _ => utf8_percent_encode(&value, PART).to_string().into(),
        })
    }

    /// The text for the value of a header field. What a field cannot hold is encoded by whoever makes it one.
    pub fn plain(&self, values: &Values<'_>) -> String {
        self.fill(values, |_, value| value)
    }

    fn fill<'v>(
        &self,
        values: &Values<'v>,
        form: impl Fn(&FactName, Cow<'v, str>) -> Cow<'v, str>,
    ) -> String {
        let mut out = String::with_capacity(self.text.len() + 40);
        for piece in &self.pieces {
            match piece {
                Piece::Literal(literal) => out.push_str(literal),
                Piece::Capture(nth) => {
                    if let Some(part) = values.captures.0.get(*nth) {
                        let part = part.start as usize..part.end as usize;
                        out.push_str(values.path.written().get(part).unwrap_or_default());
                    }
                }
                Piece::Fact(name) => {
                    let value = match name {
                        FactName::Path => Some(values.path.written().into()),
                        FactName::User => values.user.map(Cow::Borrowed),
                        FactName::Parameter(key) => {
                            // In a query a plus stands for a space; elsewhere it would be a plus.
                            let spaced = |value: &'_ str| Cow::Owned(value.replace('+', "%20"));
                            values.facts.raw_parameter(key).map(spaced).value()
                        }
                        name => values.facts.text(name).value(),
                    };
                    if let Some(value) = value {
                        out.push_str(&form(name, value));
                    }
                }
            }
        }
        out
    }
}

fn place(name: &str, names: &[Box<str>]) -> Result<Piece, TemplateError> {
    if let Some(nth) = names.iter().position(|known| **known == *name) {
        return Ok(Piece::Capture(nth));
    }
    let fact = match name.split_once(':') {
        Some((family, argument)) => FactName::of_family(family, argument),
        None => FactName::plain(name),
    };
    fact.map(Piece::Fact).ok_or_else(|| {
        let (bare, argument) =
            name.split_once(':').map_or((name, None), |(bare, argument)| (bare, Some(argument)));
        let facts =
            FACTS.iter().filter(|fact| (fact.kind == "family") == argument.is_some()).map(|fact| fact.name);
        // Whoever writes {rest*} here means what {rest*} captured.
        let captured = names.iter().map(|name| &**name).filter(|_| argument.is_none());
        let near = nearest(bare.trim_end_matches('*'), captured.chain(facts));
        let near = near.map(|near| argument.map_or(near.to_owned(), |argument| format!("{near}:{argument}")));
        TemplateError::Unknown { name: name.to_owned(), near }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{Facts, Fields, Known, Scheme};
    use crate::rules::Pattern;
    use http::HeaderMap;
    use rstest::rstest;

    #[rstest]
    #[case("/n/{year}/{rest}", "/n/2030/a%20b")]
    #[case("https://{host}{path}", "https://a.example/m/2030/a%20b")]
    #[case("/{parameter:season}/{query}", "/win%20ter/x=1&season=win%20ter")]
    #[case("/{cookie:tongue}/{field:X-Evil}", "/fo/%2F%2Fevil.example%2F")]
    #[case("/{{literal}}", "/{literal}")]
    #[case("/{scheme}/{parameter:none}/", "/http//")]
    #[case("/{user}/", "/anna/")]
    fn filled(#[case] template: &str, #[case] expected: &str) {
        let pattern = Pattern::understand("/m/{year}/{rest*}").unwrap();
        let mut map = HeaderMap::new();
        map.insert("cookie", "tongue=fo".parse().unwrap());
        map.insert("x-evil", "//evil.example/".parse().unwrap());
        let facts = Facts {
            host: Known::Is("a.example"),
            scheme: Known::Is(Scheme::Http),
            query: Known::Is("x=1&season=win%20ter"),
            fields: Fields::All(&map),
            ..Facts::UNKNOWN
        };
        let path = Seen::new("/m/2030/a%20b");
        let captures = pattern.capture(&path).unwrap();
        let template = Template::understand(template, pattern.names()).unwrap();
        let facts = RecordedFacts::new(facts);
        let values = Values { facts: &facts, user: Some("anna"), path: &path, captures: &captures };
        assert_eq!(template.address(&values), expected);
    }

    #[rstest]
    #[case("/{yaer}", "did you mean `{year}`?")]
    #[case("/{rest*}", "did you mean `{rest}`?")]
    #[case("/{hosst}", "did you mean `{host}`?")]
    #[case("/{cokie:a}", "did you mean `{cookie:a}`?")]
    #[case("/{year", "not closed")]
    #[case("/year}", "closes nothing")]
    fn mistakes(#[case] template: &str, #[case] words: &str) {
        let names = ["year".into(), "rest".into()];
        let (error, _) = Template::understand(template, &names).unwrap_err();
        assert!(error.to_string().contains(words), "{error}");
    }
}
