//! What is said to a client whose octets could not be read as a request: the status, and a page with the reason.
//!
//! Whoever reads HTTP for us answers such octets with a status and nothing else. What was wrong with them is looked for
//! again, in the beginning of the head that was kept.

use exedra_answering::answer::malformed::fault_of_target;
use exedra_answering::answer::{Malformed, pages};
use http::StatusCode;

/// A refusal.
pub struct Refusal {
    /// Its status.
    pub status: StatusCode,
    /// Octets of its body.
    pub bytes: u64,
    /// All its octets.
    pub octets: Vec<u8>,
}

impl Refusal {
    /// The refusal of a head of which this has come in, by whoever read it. A head that grows too long before its first line
    /// ends is too long because of its target.
    pub fn of(status: u16, head: &[u8], is_line_whole: bool) -> Self {
        let status = StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST);
        let fault = match (status, is_line_whole) {
            (StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE, false) | (StatusCode::URI_TOO_LONG, _) => {
                Some(Malformed::TooLong)
            }
            (StatusCode::BAD_REQUEST, true) => fault_of(head),
            _ => None,
        };
        let status = fault.as_ref().map_or(status, Malformed::status);
        Self::because(status, fault.map(|fault| fault.words()).as_deref())
    }

    /// A refusal with a reason.
    pub fn because(status: StatusCode, why: Option<&str>) -> Self {
        let page = pages::built_in(status, why);
        let octets = format!(
            "HTTP/1.1 {status}\r\nConnection: close\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {}\r\nDate: {}\r\n\r\n{page}",
            page.len(),
            httpdate::fmt_http_date(std::time::SystemTime::now()),
        );
        Refusal { status, bytes: page.len() as u64, octets: octets.into_bytes() }
    }
}

/// What is wrong with a head, where that can be told.
fn fault_of(head: &[u8]) -> Option<Malformed> {
    let mut lines = head.split(|octet| *octet == b'\n').map(|line| line.strip_suffix(b"\r").unwrap_or(line));
    let first = lines.next()?;
    let (_, rest) = split_at(first, b' ')?;
    // A target with a space in it is read to the last one.
    let target = rest.iter().rposition(|octet| *octet == b' ').map_or(rest, |at| &rest[..at]);
    if target.starts_with(b"/")
        && let Some(fault) = fault_of_target(target)
    {
        return Some(fault);
    }
    let mut length: Option<&[u8]> = None;
    for line in lines.take_while(|line| !line.is_empty()) {
        let Some((name, value)) = split_at(line, b':') else { continue };
        if !name.eq_ignore_ascii_case(b"content-length") {
            continue;
        }
        let value = value.trim_ascii();
        let is_length = !value.is_empty() && value.iter().all(u8::is_ascii_digit);
        if !is_length || length.is_some_and(|length| length != value) || value.len() > 19 {
            return Some(Malformed::Length(String::from_utf8_lossy(value).into_owned()));
        }
        length = Some(value);
    }
    None
}

fn split_at(octets: &[u8], at: u8) -> Option<(&[u8], &[u8])> {
    let place = octets.iter().position(|octet| *octet == at)?;
    Some((&octets[..place], &octets[place + 1..]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::head_too_long(431, b"GET / HTTP/1.1\r\nX: y", true, 431, "header fields are longer")]
    #[case::target_too_long(431, b"GET /aaaa", false, 414, "longer than this server accepts")]
    #[case::target_too_long_for_the_reader(414, b"GET /aaaa", false, 414, "longer than this server accepts")]
    #[case::character(400, b"GET /a<b HTTP/1.1\r\n\r\n", true, 400, "\u{201c}&lt;\u{201d}")]
    #[case::space(400, b"GET /a b HTTP/1.1\n\n", true, 400, "%20")]
    #[case::length(400, b"GET / HTTP/1.1\r\ncontent-LENGTH: many\r\n\r\n", true, 400, "\u{201c}many\u{201d}")]
    #[case::lengths(
        400,
        b"GET / HTTP/1.1\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\n",
        true,
        400,
        "\u{201c}2\u{201d}"
    )]
    #[case::equal_lengths(
        400,
        b"GET / HTTP/1.1\r\nContent-Length: 1\r\nContent-Length: 1\r\n\r\n",
        true,
        400,
        "could not be understood"
    )]
    #[case::too_slow(408, b"GE", false, 408, "too long to come in")]
    #[case::nonsense(400, b"\x16\x03\x01", false, 400, "could not be understood")]
    fn what_was_wrong_is_found_again(
        #[case] status: u16,
        #[case] head: &[u8],
        #[case] is_line_whole: bool,
        #[case] expected: u16,
        #[case] words: &str,
    ) {
        let refusal = Refusal::of(status, head, is_line_whole);
        let text = String::from_utf8(refusal.octets).unwrap();
        let (fields, page) = text.split_once("\r\n\r\n").unwrap();
        assert_eq!(refusal.status, expected);
        assert!(fields.starts_with(&format!("HTTP/1.1 {expected} ")) && page.contains(words), "{text}");
        assert!(
            fields.contains(&format!("Content-Length: {}", page.len())) && refusal.bytes == page.len() as u64
        );
    }
}
