//! Conditional requests, in the order of precedence of RFC 9110 §13.2.2.
//!
//! ```
//! use exedra_answering::answer::conditions::{Outcome, evaluate};
//! use exedra_answering::facts::{Facts, Fields, RecordedFacts};
//! let headers = [(http::header::IF_NONE_MATCH, "\"v1\"".parse().unwrap())].into_iter().collect();
//! let facts = RecordedFacts::new(Facts { fields: Fields::All(&headers), ..Facts::UNKNOWN });
//! assert_eq!(evaluate(&facts, "\"v1\"", None), Outcome::NotModified);
//! assert_eq!(evaluate(&facts, "\"v2\"", None), Outcome::Proceed);
//! ```

use super::FileFacts;
use crate::facts::RecordedFacts;
use http::header;

/// The fields that make a request conditional, in the order in which they are looked at.
pub const FIELDS: [http::HeaderName; 4] =
    [header::IF_MATCH, header::IF_UNMODIFIED_SINCE, header::IF_NONE_MATCH, header::IF_MODIFIED_SINCE];

/// What the conditions of a `GET` or `HEAD` come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// Send it.
    Proceed,
    /// The client has it already: 304.
    NotModified,
    /// The client wants it only if it were another: 412.
    Failed,
}

/// Holds the conditions of a request against what would be sent.
/// `changed` is when that was last changed, in seconds since 1970 UTC, where anybody knows; without it no date counts.
pub fn evaluate(facts: &RecordedFacts<'_>, tag: &str, changed: Option<i64>) -> Outcome {
    let date = |name| {
        let time = httpdate::parse_http_date(facts.field(&name).value()?).ok()?;
        time.duration_since(std::time::UNIX_EPOCH).ok().map(|since| since.as_secs() as i64)
    };
    if let Some(tags) = facts.whole_field(&header::IF_MATCH).value() {
        if !tags_hold(&tags, tag, strongly_equal) {
            return Outcome::Failed;
        }
    } else if changed.zip(date(header::IF_UNMODIFIED_SINCE)).is_some_and(|(changed, limit)| changed > limit) {
        return Outcome::Failed;
    }
    let known = match facts.whole_field(&header::IF_NONE_MATCH).value() {
        Some(tags) => tags_hold(&tags, tag, weakly_equal),
        None => changed.zip(date(header::IF_MODIFIED_SINCE)).is_some_and(|(changed, known)| changed <= known),
    };
    if known { Outcome::NotModified } else { Outcome::Proceed }
}

/// Whether a request for parts still holds (RFC 9110 §13.1.5): there is no `If-Range`, or it names exactly
/// what would be sent. A date does so only once its second has passed: until then the file may change again
/// without another date (§8.8.2.2).
pub fn parts_hold(facts: &RecordedFacts<'_>, tag: &str, file: &FileFacts) -> bool {
    match facts.field(&header::IF_RANGE).value() {
        None => true,
        Some(known) if known.starts_with('"') || known.starts_with("W/") => strongly_equal(known, tag),
        Some(date) => {
            let known = httpdate::parse_http_date(date).ok();
            let known = known.and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok());
            let has_passed = facts.has_passed(file.changed()).unwrap_or(true);
            has_passed && known.is_some_and(|since| i64::try_from(since.as_secs()) == Ok(file.changed()))
        }
    }
}

fn tags_hold(listed: &str, tag: &str, equal: fn(&str, &str) -> bool) -> bool {
    listed.trim() == "*" || entity_tags(listed).any(|known| equal(known, tag))
}

fn strongly_equal(a: &str, b: &str) -> bool {
    a == b && !a.starts_with("W/")
}

fn weakly_equal(a: &str, b: &str) -> bool {
    a.trim_start_matches("W/") == b.trim_start_matches("W/")
}

/// The tags of a list. A comma may stand inside a tag, so the quotation marks decide.
fn entity_tags(listed: &str) -> impl Iterator<Item = &str> {
    let mut rest = listed;
    std::iter::from_fn(move || {
        rest = rest.trim_start_matches([' ', '\t', ',']);
        let opening = rest.find('"')?;
        let closing = opening + 1 + rest[opening + 1..].find('"')?;
        let (tag, after) = rest.split_at(closing + 1);
        rest = after;
        Some(tag)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{Facts, Fields, Known};
    use http::{HeaderMap, HeaderName, HeaderValue};
    use rstest::rstest;

    const FILE: FileFacts = FileFacts { size: 10, modified: 784_111_777_000_000_000, stamp: 0 };
    const THEN: &str = "Sun, 06 Nov 1994 08:49:37 GMT";
    const BEFORE: &str = "Sun, 06 Nov 1994 08:49:36 GMT";

    #[rstest]
    #[case::plain(&[], Outcome::Proceed)]
    #[case::same_tag(&[("if-none-match", "\"t\"")], Outcome::NotModified)]
    #[case::weak_tag(&[("if-none-match", "\"x,y\", W/\"t\"")], Outcome::NotModified)]
    #[case::any_tag(&[("if-none-match", "*")], Outcome::NotModified)]
    #[case::other_tag(&[("if-none-match", "\"u\"")], Outcome::Proceed)]
    #[case::of_several_lines(&[("if-none-match", "\"u\""), ("if-none-match", "\"t\"")], Outcome::NotModified)]
    #[case::must_match_one_of_several_lines(&[("if-match", "\"u\""), ("if-match", "\"t\"")], Outcome::Proceed)]
    #[case::tag_before_date(&[("if-none-match", "\"u\""), ("if-modified-since", THEN)], Outcome::Proceed)]
    #[case::same_date(&[("if-modified-since", THEN)], Outcome::NotModified)]
    #[case::older_date(&[("if-modified-since", BEFORE)], Outcome::Proceed)]
    #[case::no_date(&[("if-modified-since", "yesterday")], Outcome::Proceed)]
    #[case::must_match(&[("if-match", "\"t\"")], Outcome::Proceed)]
    #[case::must_match_strongly(&[("if-match", "W/\"t\"")], Outcome::Failed)]
    #[case::must_match_other(&[("if-match", "\"u\"")], Outcome::Failed)]
    #[case::changed_since(&[("if-unmodified-since", BEFORE)], Outcome::Failed)]
    #[case::match_before_date(&[("if-match", "\"t\""), ("if-unmodified-since", BEFORE)], Outcome::Proceed)]
    fn precedence(#[case] fields: &[(&'static str, &'static str)], #[case] expected: Outcome) {
        let mut map = HeaderMap::new();
        for (name, value) in fields {
            map.append(HeaderName::from_static(name), HeaderValue::from_static(value));
        }
        let facts = Facts { fields: Fields::All(&map), ..Facts::UNKNOWN };
        assert_eq!(evaluate(&RecordedFacts::new(facts), "\"t\"", Some(FILE.changed())), expected);
    }

    #[rstest]
    #[case::same_tag("\"t\"", 784_111_777, true)]
    #[case::weak_tag("W/\"t\"", 784_111_999, false)]
    #[case::same_date(THEN, 784_111_778, true)]
    #[case::older_date(BEFORE, 784_111_999, false)]
    #[case::may_change_yet(THEN, 784_111_777, false)]
    #[case::no_date("yesterday", 784_111_999, false)]
    fn parts(#[case] known: &'static str, #[case] now: i64, #[case] expected: bool) {
        let map = HeaderMap::from_iter([(header::IF_RANGE, HeaderValue::from_static(known))]);
        let facts = Facts { fields: Fields::All(&map), now: Known::Is(now), ..Facts::UNKNOWN };
        assert_eq!(parts_hold(&RecordedFacts::new(facts), "\"t\"", &FILE), expected);
    }
}
