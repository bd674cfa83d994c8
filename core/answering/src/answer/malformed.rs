//! Requests that HTTP can read but whose target or host is none: what is wrong with them, and how they are answered.
//!
//! Such a request runs through no rule: what it asks for cannot be told. The site's own page for the status is shown
//! where its host is known; the built-in one says what is wrong.
//!
//! ```
//! use exedra_answering::answer::malformed::{Malformed, fault_of_target, is_authority};
//! assert_eq!(fault_of_target(b"/tides?day=14"), None);
//! let fault = fault_of_target(b"/a<b").unwrap();
//! assert_eq!((&fault, fault.status().as_u16()), (&Malformed::Character('<'), 400));
//! assert!(is_authority("harbour.example:8080") && !is_authority("user@harbour.example"));
//! ```

use super::decide::Deciding;
use super::home::site_for;
use super::{Decision, Observer, Step};
use crate::config::Config;
use crate::facts::Facts;
use http::StatusCode;

/// How long a target may be, in octets: at least 8000 should be borne (RFC 9110 §4.1).
pub const LONGEST_TARGET: usize = 8192;

/// What is wrong with a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Malformed {
    /// It names no host (RFC 9112 §3.2).
    NoHost,
    /// It names several.
    SeveralHosts,
    /// What it names can be no host (RFC 3986 §3.2.2).
    Host(String),
    /// Its target has a character that stands in no address as it is (RFC 3986 §2).
    Character(char),
    /// Its target has a character that stands in no address, and that is no text either.
    Octet(u8),
    /// Its target is longer than any that is looked at.
    TooLong,
    /// Its `Content-Length` is no length, or says two (RFC 9112 §6.3).
    Length(String),
}

impl Malformed {
    /// The status that says so.
    pub fn status(&self) -> StatusCode {
        match self {
            Malformed::TooLong => StatusCode::URI_TOO_LONG,
            _ => StatusCode::BAD_REQUEST,
        }
    }

    /// What is wrong, in words for whoever asked.
    pub fn words(&self) -> String {
        match self {
            Malformed::NoHost => "The request has no Host header.".to_owned(),
            Malformed::SeveralHosts => "The request has more than one Host header.".to_owned(),
            Malformed::Host(written) => format!("The Host header is not valid: “{written}”."),
            Malformed::Character(' ') => "The URL contains a space, which must be written as %20.".to_owned(),
            Malformed::Character(character) => {
                let mut octets = [0; 4];
                let encoded: String = character
                    .encode_utf8(&mut octets)
                    .bytes()
                    .map(percent_encoding::percent_encode_byte)
                    .collect();
                format!("The URL contains the character “{character}”, which must be written as {encoded}.")
            }
            Malformed::Octet(octet) => format!(
                "The URL contains the octet {octet:#04x}, which must be written as {}.",
                percent_encoding::percent_encode_byte(*octet)
            ),
            Malformed::TooLong => {
                format!("The URL is longer than this server accepts ({LONGEST_TARGET} octets).")
            }
            Malformed::Length(written) => {
                format!("The Content-Length header is not valid: “{written}”.")
            }
        }
    }
}

/// What is wrong with a target: a path, perhaps with a query. Characters that the URL Standard lets browsers send as they
/// are (`|`, `[` and `]`, in queries also `{`, `}`, `\`, `^` and the grave accent) are borne.
pub fn fault_of_target(target: &[u8]) -> Option<Malformed> {
    if target.len() > LONGEST_TARGET {
        return Some(Malformed::TooLong);
    }
    let query = memchr::memchr(b'?', target).unwrap_or(target.len());
    let at = target.iter().enumerate().position(|(at, octet)| match octet {
        0x21..0x7f => match octet {
            b'"' | b'<' | b'>' | b'#' => true,
            b'\\' | b'^' | b'`' | b'{' | b'}' => at < query,
            _ => false,
        },
        _ => true,
    })?;
    let rest = &target[at..target.len().min(at + 4)];
    let text = rest.utf8_chunks().next().map(|chunk| chunk.valid()).unwrap_or_default();
    Some(match text.chars().next().filter(|character| !character.is_control()) {
        Some(character) => Malformed::Character(character),
        None => Malformed::Octet(target[at]),
    })
}

/// Whether an authority is one: a name or an address, perhaps a port (RFC 3986 §3.2, without what RFC 9110 §4.2.4
/// forbids). An empty one is, and names no host.
pub fn is_authority(text: &str) -> bool {
    let (host, port) = match text.strip_prefix('[') {
        Some(rest) => match rest.split_once(']') {
            Some((address, port)) if address.parse::<std::net::Ipv6Addr>().is_ok() => ("", port),
            _ => return false,
        },
        None => text.split_at(text.find(':').unwrap_or(text.len())),
    };
    let is_port = match port.strip_prefix(':') {
        Some(digits) => {
            digits.is_empty()
                || digits.parse::<u16>().is_ok() && digits.bytes().all(|digit| digit.is_ascii_digit())
        }
        None => port.is_empty(),
    };
    let is_of_name = |octet: u8| octet.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=%".contains(&octet);
    is_port && host.bytes().all(is_of_name)
}

/// The answer to a request that is malformed.
pub fn malformed<'a, W: Observer>(
    config: &'a Config,
    facts: Facts<'a>,
    why: &Malformed,
    observer: W,
) -> Decision<'a, W> {
    let mut deciding = Deciding::new(config, facts, observer);
    deciding.see_cause(Step::Malformed { words: why.words() }, None);
    deciding.site = facts.host.value().and_then(|host| site_for(config, host)).map(|(id, _)| id);
    deciding.failed_because(why.status(), why.words())
}

impl<'a, W: Observer> Deciding<'a, W> {
    /// The same as [`Deciding::failed`], and the built-in page says why.
    pub(super) fn failed_because(mut self: Box<Self>, status: StatusCode, why: String) -> Decision<'a, W> {
        self.why = Some(why.into());
        self.failed(status)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("/a%20b/c.html?x=1&y=(2)", None)]
    #[case::what_browsers_send("/a|b[1]?q={x}|^`\\", None)]
    #[case::quotation_mark("/a\"b", Some("“\"”, which must be written as %22"))]
    #[case::angle("/a?b=<c>", Some("“<”, which must be written as %3C"))]
    #[case::brace("/a{b}", Some("“{”, which must be written as %7B"))]
    #[case::beyond_ascii("/sæl", Some("“æ”, which must be written as %C3%A6"))]
    #[case::space("/a b", Some("%20"))]
    #[case::control("/a\u{1}b", Some("the octet 0x01, which must be written as %01"))]
    fn characters(#[case] target: &str, #[case] expected: Option<&str>) {
        let words = fault_of_target(target.as_bytes()).map(|fault| fault.words());
        match (&words, expected) {
            (Some(words), Some(expected)) => assert!(words.contains(expected), "{words}"),
            _ => assert_eq!(words.as_deref(), expected),
        }
    }

    #[test]
    fn what_is_no_text_is_told_by_its_octet() {
        assert_eq!(fault_of_target(b"/\xe6"), Some(Malformed::Octet(0xe6)));
        let long = [&b"/"[..], &[b'a'; LONGEST_TARGET]].concat();
        assert_eq!(fault_of_target(&long).map(|fault| fault.status()), Some(StatusCode::URI_TOO_LONG));
        assert_eq!(fault_of_target(&long[..LONGEST_TARGET]), None);
    }

    #[rstest]
    #[case("harbour.example", true)]
    #[case("harbour.example.:8080", true)]
    #[case("a_b.example:", true)]
    #[case("[2001:db8::1]:80", true)]
    #[case("", true)]
    #[case("harbour example", false)]
    #[case("harbour.example/x", false)]
    #[case("user@harbour.example", false)]
    #[case("harbour.example:http", false)]
    #[case("harbour.example:+80", false)]
    #[case("harbour.example:80:80", false)]
    #[case("[harbour.example]", false)]
    #[case("<harbour>", false)]
    fn authorities(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_authority(text), expected);
    }
}
