//! The form a file is sent in, with the header fields that say so.
//!
//! Whatever does not depend on the request stands ready-made on a [`FileMetadata`], which whoever looks at the disk
//! may keep beside what it found.
//!
//! ```
//! use exedra_answering::answer::represent::{FileMetadata, represent};
//! use exedra_answering::answer::{Encodings, FileFacts, Form, SitePath};
//! use exedra_answering::encode::Codec;
//! let facts = FileFacts { size: 5000, modified: 1_000_000_000_000_000_000, stamp: 0 };
//! let path = SitePath::root().join("tides.css");
//! let file = FileMetadata::new(&path, facts, None, b"", &Default::default());
//! let plain = represent(&file, None, &Encodings::default());
//! assert_eq!((plain.form, plain.size), (Form::Plain, Some(5000)));
//! let encoded = represent(&file, Some(&[Codec::Brotli]), &Encodings::default());
//! assert_eq!(encoded.headers["content-encoding"], "br");
//! assert!(encoded.tag.to_str().unwrap().starts_with("W/"), "what is encoded in passing has a weak entity tag");
//! ```

use super::negotiate::Codings;
use super::{Encoded, Encodings, FileFacts, Form, SitePath, negotiate};
use crate::config::Compress;
use crate::encode::Codec;
use crate::facts::RecordedFacts;
use crate::media_types::{MediaType, MediaTypes};
use http::header::{self, HeaderName};
use http::{HeaderMap, HeaderValue};
use siphasher::sip128::SipHasher13;
use std::borrow::Cow;

/// What is known of a file, and the header fields that say so.
#[derive(Debug, Clone)]
pub struct FileMetadata {
    /// Its length and when it changed.
    pub facts: FileFacts,
    /// Its media type.
    pub media: MediaType,
    /// The header fields of the file as it is.
    plain: HeaderMap,
    tag: HeaderValue,
    mark: String,
}

impl FileMetadata {
    /// The metadata of a file. Where its content is known, its entity tag says which content that is; otherwise how
    /// long it is and when it changed. `beginning` is what is known of the content where that is not all.
    pub fn new(
        path: &SitePath,
        facts: FileFacts,
        content: Option<&[u8]>,
        beginning: &[u8],
        types: &MediaTypes,
    ) -> Self {
        let mark = content.map_or_else(|| mark_of(&facts), hash_of);
        let seconds = u64::try_from(facts.modified / 1_000_000_000).unwrap_or(0).min(253_402_300_799);
        let changed = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
        let media = types.of(path.as_str(), content.unwrap_or(beginning), content.is_some());
        let tag = value(&entity_tag(&mark, None));
        let mut plain = HeaderMap::with_capacity(8);
        plain.insert(header::CONTENT_TYPE, media.value.clone());
        plain.insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
        plain.insert(header::ETAG, tag.clone());
        plain.insert(header::LAST_MODIFIED, value(&httpdate::fmt_http_date(changed)));
        FileMetadata { facts, media, plain, tag, mark }
    }
}

impl FileMetadata {
    /// A copy that shares nothing with this one, for a thread of its own.
    pub fn copy(&self) -> Self {
        let own =
            |value: &HeaderValue| HeaderValue::from_bytes(value.as_bytes()).unwrap_or_else(|_| value.clone());
        let plain = self.plain.iter().map(|(name, value)| (name.clone(), own(value))).collect();
        let media = MediaType { value: own(&self.media.value), essence: self.media.essence.clone() };
        FileMetadata { facts: self.facts, media, plain, tag: own(&self.tag), mark: self.mark.clone() }
    }
}

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
    pub tag: HeaderValue,
}

/// The codings in which so many octets of some type may be sent to this client; `None` where they never are encoded.
pub fn codings(compress: &Compress, facts: &RecordedFacts<'_>, size: u64, essence: &str) -> Option<Codings> {
    if compress.codecs.is_empty() || size < compress.at_least || !compress.has_type(essence) {
        return None;
    }
    // Both are read, whatever the first says, so that all answers for the file vary by the same.
    let accepted = accepted_encodings(facts);
    if !compress.not_for.is_empty() {
        let agent = facts.field(&header::USER_AGENT).value().unwrap_or_default();
        if compress.leaves_out(agent).is_some() {
            return Some(Codings::new());
        }
    }
    Some(negotiate::codings(accepted.as_deref(), &compress.codecs))
}

/// The field may stand in several lines, which mean the same as one (RFC 9110 §5.3).
pub fn accepted_encodings<'a>(facts: &RecordedFacts<'a>) -> Option<Cow<'a, str>> {
    facts.joined(&header::ACCEPT_ENCODING)
}

/// A file in one of the codings that the client likes, by what is known of its encodings. `liked` is `None`
/// where the file is never encoded.
pub fn represent(file: &FileMetadata, liked: Option<&[Codec]>, known: &Encodings) -> Representation {
    let mut headers = file.plain.clone();
    let form = liked.map_or(Form::Plain, |liked| negotiate::form(liked, known));
    let facts = &file.facts;
    let Some(codec) = form.codec() else {
        return Representation { form, size: Some(facts.size), headers, tag: file.tag.clone() };
    };
    let (size, tag) = match (form, known[codec as usize]) {
        (Form::Quick(_), _) => (None, format!("W/{}", entity_tag(&file.mark, Some(codec)))),
        (_, Encoded::Ready(beside)) => (Some(beside.size), entity_tag(&mark_of(&beside), Some(codec))),
        (_, Encoded::Settled(size)) => (Some(size), entity_tag(&file.mark, Some(codec))),
        (_, Encoded::Unknown | Encoded::NoGain) => (None, entity_tag(&file.mark, Some(codec))),
    };
    let tag = value(&tag);
    headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static(codec.name()));
    headers.insert(header::ETAG, tag.clone());
    if size.is_none() {
        headers.remove(header::ACCEPT_RANGES);
    }
    Representation { form, size, headers, tag }
}

/// What tells a content from every other. The key is the same everywhere, so that machines behind one name agree.
pub(super) fn hash_of(content: &[u8]) -> String {
    format!("{:x}", SipHasher13::new().hash(content).as_u128())
}

fn mark_of(FileFacts { size, modified, .. }: &FileFacts) -> String {
    format!("{modified:x}-{size:x}")
}

/// An entity tag (RFC 9110 §8.8.3), of the file as it is or in a coding. It is strong: whoever sends a form that
/// is not octet for octet the same each time must weaken it.
pub(super) fn entity_tag(mark: &str, coding: Option<Codec>) -> String {
    match coding {
        Some(codec) => format!("\"{mark}-{}\"", codec.name()),
        None => format!("\"{mark}\""),
    }
}

/// Adds a field whose value may come from elsewhere.
pub fn insert(headers: &mut HeaderMap, name: HeaderName, text: &str) {
    headers.insert(name, value(text));
}

/// A text as the value of a field: octets that a field may not hold (RFC 9110 §5.5) are percent-encoded.
pub(super) fn value(text: &str) -> HeaderValue {
    let mut octets = Vec::with_capacity(text.len());
    for octet in text.bytes() {
        match octet {
            0x20..0x7f => octets.push(octet),
            _ => octets.extend_from_slice(percent_encoding::percent_encode_byte(octet).as_bytes()),
        }
    }
    HeaderValue::try_from(octets).unwrap_or_else(|_| HeaderValue::from_static(""))
}
