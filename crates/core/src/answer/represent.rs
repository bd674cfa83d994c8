//! The form a file is sent in, with the header fields that say so.

use super::conditions::entity_tag;
use super::{Encoded, Encodings, FileFacts, Form, SitePath, negotiate, types};
use crate::config::Site;
use crate::encode::Codec;
use crate::facts::{Facts, Fields};
use http::header::{self, HeaderName};
use http::{HeaderMap, HeaderValue};
use std::borrow::Cow;

/// A file in the form that suits the client.
#[derive(Debug)]
pub struct Representation {
    /// In which form.
    pub form: Form,
    /// Its length in that form in bytes, where it is known beforehand.
    pub size: Option<u64>,
    /// Its header fields.
    pub headers: HeaderMap,
    /// Its entity tag.
    pub tag: String,
}

/// The codings a file may be sent in to this client; `None` where the file is never encoded.
pub fn codings(site: &Site, facts: &Facts<'_>, path: &SitePath, file: &FileFacts) -> Option<Vec<Codec>> {
    let essence = types::media_type(path.as_str()).essence;
    let compress = &site.compress;
    if compress.codecs.is_empty() || file.size < compress.at_least || !compress.has_type(essence) {
        return None;
    }
    let agent = facts.field(&header::USER_AGENT).value().unwrap_or_default();
    if compress.leaves_out(agent) {
        return Some(Vec::new());
    }
    Some(negotiate::codings(accepted_encodings(facts).as_deref(), &compress.codecs))
}

/// The field may stand in several lines, which mean the same as one (RFC 9110 §5.3).
fn accepted_encodings<'a>(facts: &Facts<'a>) -> Option<Cow<'a, str>> {
    let Fields::All(map) = facts.fields else { return None };
    let mut lines = map.get_all(header::ACCEPT_ENCODING).iter().filter_map(|line| line.to_str().ok());
    let first = lines.next()?;
    Some(lines.fold(first.into(), |all, line| format!("{all}, {line}").into()))
}

/// A file in one of the codings that the client likes, by what is known of its encodings. `liked` is `None`
/// where the file is never encoded.
pub fn represent(
    site: &Site,
    path: &SitePath,
    file: &FileFacts,
    liked: Option<&[Codec]>,
    known: &Encodings,
) -> Representation {
    let mut headers = HeaderMap::with_capacity(8);
    headers.insert(header::CONTENT_TYPE, types::media_type(path.as_str()).value);
    if liked.is_some() {
        let varies = match site.compress.not_for.is_empty() {
            true => "Accept-Encoding",
            false => "Accept-Encoding, User-Agent",
        };
        headers.insert(header::VARY, HeaderValue::from_static(varies));
    }
    let form = liked.map_or(Form::Plain, |liked| negotiate::form(liked, known));
    let (size, tag) = match form {
        Form::Plain => (Some(file.size), entity_tag(file, None)),
        Form::Quick(codec) => (None, format!("W/{}", entity_tag(file, Some(codec.name())))),
        Form::Settled(codec) | Form::Ready(codec) => match known[codec as usize] {
            Encoded::Ready(beside) => (Some(beside.size), entity_tag(&beside, Some(codec.name()))),
            Encoded::Settled(size) => (Some(size), entity_tag(file, Some(codec.name()))),
            Encoded::Unknown | Encoded::NoGain => (None, entity_tag(file, Some(codec.name()))),
        },
    };
    if let Some(codec) = form.codec() {
        headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static(codec.name()));
    }
    if size.is_some() {
        headers.insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    }
    insert(&mut headers, header::ETAG, &tag);
    let seconds = u64::try_from(file.modified / 1_000_000_000).unwrap_or(0).min(253_402_300_799);
    let changed = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
    insert(&mut headers, header::LAST_MODIFIED, &httpdate::fmt_http_date(changed));
    Representation { form, size, headers, tag }
}

/// Adds a field whose value may come from elsewhere: octets that a field may not hold (RFC 9110 §5.5) are
/// percent-encoded.
pub fn insert(headers: &mut HeaderMap, name: HeaderName, text: &str) {
    let mut octets = Vec::with_capacity(text.len());
    for octet in text.bytes() {
        match octet {
            0x20..0x7f => octets.push(octet),
            _ => octets.extend_from_slice(percent_encoding::percent_encode_byte(octet).as_bytes()),
        }
    }
    if let Ok(value) = HeaderValue::from_bytes(&octets) {
        headers.insert(name, value);
    }
}
