//! What is sent once the place is known: a file in the form that suits, parts of it, or what is in a folder.

use super::conditions::{self, Outcome};
use super::decide::Deciding;
use super::listing::{self, Listed};
use super::ranges::{self, Ranges};
use super::represent::{self, FileMetadata, Representation, insert};
use super::stage::Stage;
use super::trace::{Cause, Observer, Step, Verdict};
use super::verdicts::verdicts;
use super::{Body, Decision, Encodings, FileFacts, Form, Piece, SitePath};
use crate::config::{Compress, Site};
use crate::encode::Codec;
use crate::facts::Fields;
use http::{HeaderMap, HeaderValue, StatusCode, header};
use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

impl<'a, W: Observer> Deciding<'a, W> {
    /// How answers are compressed: as the site says, but for what rules and folders have changed.
    fn compress(&self, site: &'a Site) -> Cow<'a, Compress> {
        let mut compress = Cow::Borrowed(&site.compress);
        if let Some(change) = self.added.as_ref().and_then(|added| added.changes.compress.as_ref()) {
            compress.to_mut().change(change);
        }
        compress
    }

    /// What is in a folder: a page, or JSON. It is made anew each time, so its entity tag is what it says.
    pub(super) fn list(mut self: Box<Self>, folder: &SitePath, names: &[Listed]) -> Decision<'a, W> {
        let Some(site) = self.settings() else { return self.built_in(StatusCode::INTERNAL_SERVER_ERROR) };
        let wanted = listing::Wanted::understand(self.facts.kept_query().value().unwrap_or_default());
        let may_be_seen = |entry: &Listed| !self.is_refused_below(site, entry);
        let (media_type, essence, body) = match self.prefers_json() {
            true => ("application/json", "application/json", listing::json(names, wanted, may_be_seen)),
            false => {
                let path = if folder.as_str().is_empty() { "/".to_owned() } else { format!("{folder}/") };
                let page = listing::page(&path, names, wanted, may_be_seen);
                ("text/html; charset=utf-8", "text/html", page)
            }
        };
        let compress = &*self.compress(site);
        let codings = represent::codings(compress, &self.facts, body.len() as u64, essence);
        let codec = codings.and_then(|codings| codings.first().copied());
        let form = codec.map_or(Form::Plain, Form::Quick);
        self.observer.see(|| Step::Form { form, bytes: codec.is_none().then_some(body.len() as u64) });
        // Weak, as it is for everything that is encoded in passing.
        let tag = format!("W/{}", represent::entity_tag(&represent::hash_of(body.as_bytes()), codec));
        let mut headers = HeaderMap::new();
        // What is in a folder changes without notice.
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
        insert(&mut headers, header::ETAG, &tag);
        let outcome = conditions::evaluate(&self.facts, &tag, None);
        self.see_conditions(outcome);
        match outcome {
            Outcome::Proceed => {}
            Outcome::Failed => {
                self.cause = Cause::of(Step::Condition { fields: Vec::new(), outcome }, Some(folder));
                return self.failed(StatusCode::PRECONDITION_FAILED);
            }
            Outcome::NotModified => return self.done(StatusCode::NOT_MODIFIED, headers, Body::None),
        }
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
        let body = match codec {
            Some(codec) => {
                headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static(codec.name()));
                Body::PageEncoded(body, codec)
            }
            None => Body::Page(body),
        };
        self.done(StatusCode::OK, headers, body)
    }

    /// Asks about a file's encodings where that matters. With a status, the file is the page for it.
    pub(super) fn choose_form(
        mut self: Box<Self>,
        path: SitePath,
        file: Arc<FileMetadata>,
        status: Option<StatusCode>,
    ) -> Decision<'a, W> {
        let (Some(id), Some(site)) = (self.site, self.settings()) else {
            return self.built_in(StatusCode::INTERNAL_SERVER_ERROR);
        };
        let compress = &*self.compress(site);
        match represent::codings(compress, &self.facts, file.facts.size, &file.media.essence) {
            Some(liked) if !liked.is_empty() => self.ask(id, path, Stage::Encodings(file, liked, status)),
            liked => self.encoded(path, &file, liked.as_deref(), &Encodings::default(), status),
        }
    }

    /// A file in the form that suits: conditions first, then parts.
    pub(super) fn encoded(
        mut self: Box<Self>,
        path: SitePath,
        file: &FileMetadata,
        liked: Option<&[Codec]>,
        known: &Encodings,
        status: Option<StatusCode>,
    ) -> Decision<'a, W> {
        let Some(site) = self.settings() else { return self.built_in(StatusCode::INTERNAL_SERVER_ERROR) };
        let compress = &*self.compress(site);
        let facts = &self.facts;
        let is_get = facts.method().value() == Some("GET");
        let range = facts.field(&header::RANGE).value().filter(|range| {
            // One that is not to be heeded is as good as none.
            is_get && status.is_none() && ranges::understand(range, file.facts.size) != Ranges::Ignored
        });
        let mut found = represent::represent(file, liked, known);
        if range.is_some() && matches!(found.form, Form::Quick(_)) {
            // What is encoded in passing has no parts; the file as it is has.
            found = represent::represent(file, liked.map(|_| &[][..]), known);
        }
        let Representation { form, size, mut headers, tag } = found;
        if facts.has_passed(file.facts.changed() - 1) == Some(false) {
            // A date that is yet to come is told to nobody (RFC 9110 §8.8.2.1), and will be in time.
            headers.remove(header::LAST_MODIFIED);
        }
        for (codec, verdict) in self.verdicts(compress, file, known, form, range.is_some()) {
            self.observer.see(|| Step::Codec { codec, verdict });
        }
        self.observer.see(|| Step::Form { form, bytes: size });
        if let Some(status) = status {
            headers.remove(header::ACCEPT_RANGES);
            return self.done(status, headers, Body::File { path, form });
        }
        let tag = tag.to_str().unwrap_or_default();
        let outcome = conditions::evaluate(&self.facts, tag, Some(file.facts.changed()));
        self.see_conditions(outcome);
        match outcome {
            Outcome::Proceed => {}
            Outcome::Failed => {
                self.cause = Cause::of(Step::Condition { fields: Vec::new(), outcome }, Some(&path));
                return self.failed(StatusCode::PRECONDITION_FAILED);
            }
            Outcome::NotModified => {
                headers.remove(header::CONTENT_TYPE);
                headers.remove(header::CONTENT_ENCODING);
                headers.remove(header::ACCEPT_RANGES);
                return self.done(StatusCode::NOT_MODIFIED, headers, Body::None);
            }
        }
        let Some((field, size)) = range.zip(size) else {
            return self.done(StatusCode::OK, headers, Body::File { path, form });
        };
        let ranges =
            conditions::parts_hold(&self.facts, tag, &file.facts).then(|| ranges::understand(field, size));
        self.observer.see(|| Step::Range { written: field.to_owned(), ranges: ranges.clone() });
        match ranges {
            Some(Ranges::Parts(parts)) => {
                let pieces = parts_of(&parts, size, &file.facts, &mut headers);
                self.done(StatusCode::PARTIAL_CONTENT, headers, Body::Parts { path, form, pieces })
            }
            Some(ranges @ Ranges::Outside) => {
                let step = Step::Range { written: field.to_owned(), ranges: Some(ranges) };
                self.cause = Cause::of(step, Some(&path));
                self.outside(size)
            }
            Some(Ranges::Ignored) | None => self.done(StatusCode::OK, headers, Body::File { path, form }),
        }
    }

    /// The verdicts on all codecs, where somebody listens.
    fn verdicts(
        &mut self,
        compress: &Compress,
        file: &FileMetadata,
        known: &Encodings,
        form: Form,
        parts_asked: bool,
    ) -> Vec<(Codec, Verdict)> {
        match W::LISTENS {
            true => verdicts(compress, self.facts.unrecorded(), file, known, form, parts_asked).into(),
            false => Vec::new(),
        }
    }

    fn see_conditions(&mut self, outcome: Outcome) {
        let Fields::All(map) = self.facts.unrecorded().fields else { return };
        if W::LISTENS && conditions::FIELDS.iter().any(|name| map.contains_key(name)) {
            let written =
                |name: &header::HeaderName| Some(format!("{name}: {}", map.get(name)?.to_str().ok()?));
            let fields = conditions::FIELDS.iter().filter_map(written).collect();
            self.observer.see(|| Step::Condition { fields, outcome });
        }
    }

    /// None of the parts asked for is there: 416, with the length that is (RFC 9110 §15.5.17).
    fn outside(&mut self, size: u64) -> Decision<'a, W> {
        let mut decision = self.built_in(StatusCode::RANGE_NOT_SATISFIABLE);
        if let Decision::Done(answer, _) = &mut decision {
            insert(&mut answer.headers, header::CONTENT_RANGE, &format!("bytes */{size}"));
        }
        decision
    }
}

/// Some parts of a file: one as it is, several with their own headers between them (RFC 9110 §14.6).
fn parts_of(parts: &[Range<u64>], size: u64, file: &FileFacts, headers: &mut HeaderMap) -> Vec<Piece> {
    let place = |part: &Range<u64>| format!("bytes {}-{}/{size}", part.start, part.end - 1);
    if let [part] = parts {
        insert(headers, header::CONTENT_RANGE, &place(part));
        return vec![Piece::File(part.clone())];
    }
    let media_type =
        headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let boundary = format!("part-{:x}-{size:x}", file.modified);
    let mut pieces = Vec::with_capacity(parts.len() * 2 + 1);
    for part in parts {
        let range = place(part);
        let head =
            format!("\r\n--{boundary}\r\nContent-Type: {media_type}\r\nContent-Range: {range}\r\n\r\n");
        pieces.push(Piece::Octets(head.into_bytes()));
        pieces.push(Piece::File(part.clone()));
    }
    pieces.push(Piece::Octets(format!("\r\n--{boundary}--\r\n").into_bytes()));
    insert(headers, header::CONTENT_TYPE, &format!("multipart/byteranges; boundary={boundary}"));
    pieces
}
