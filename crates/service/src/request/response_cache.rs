//! Answers remembered whole: the second request that is octet for octet like an earlier one costs a look-up.
//!
//! An answer is a function of the request's octets and of what stands on the disk. So where the octets are the
//! same, and the file is still believed to be what it was, the answer is too: it is not decided again, nor is
//! the request taken apart. Whatever an answer depends on besides (who asks, the hour) must keep it from being
//! remembered; [`Candidate::of`] is where that is seen to.
//!
//! Each worker remembers for itself. A head is remembered when it comes for the second time, so that heads that
//! never come again cost nothing.

use crate::access::authority::host;
use crate::access::forwarded;
use crate::active::Active;
use crate::content::disk::{Disk, Kept};
use crate::content::folders;
use crate::content::thread_cache::{CacheOwner, ThreadCache};
use crate::logs::access_log::client_text;
use crate::request::in_flight::microseconds_since;
use bytes::Bytes;
use exedra_answering::answer::{Entry, Form, Obligations, Question};
use exedra_answering::config::SiteId;
use exedra_answering::facts::Scheme;
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::logs::LoggedRequest;
use foldhash::fast::RandomState;
use http::request::Parts;
use http::{HeaderMap, Method, StatusCode, Version, header};
use smallvec::SmallVec;
use smol_str::SmolStr;
use std::cell::RefCell;
use std::hash::BuildHasher;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

/// The largest body that is.
const LARGEST_BODY: usize = 64 << 10;
/// How many heads are known to have come once.
const SEEN_ONCE: usize = 4096;

/// A remembered answer.
pub struct CachedResponse {
    question: Question,
    kept: Arc<Kept>,
    folders: Option<Arc<folders::Known>>,
    /// Status line and header fields, up to the value of the date.
    head: Vec<u8>,
    content: Bytes,
    line: Line,
}

/// What is logged of it each time.
struct Line {
    site: SiteId,
    status: StatusCode,
    target: String,
    host: String,
    referrer: Vec<u8>,
    agent: Vec<u8>,
    encoding: &'static str,
    full_bytes: u64,
    /// The site's rules that have fitted.
    fired: SmallVec<[u32; 2]>,
    rule: SmolStr,
}

/// What an answer was made of, while it may yet be remembered.
pub struct Candidate {
    /// What was asked of the disk.
    pub question: Question,
    /// What was found there.
    pub kept: Arc<Kept>,
    /// What the folders on the way say of themselves, where they are asked.
    pub folders: Option<Arc<folders::Known>>,
}

impl Candidate {
    /// The candidate of an answer that rests upon one file, as it is or as it has settled. An encoding that may
    /// yet get better, and one that rests upon a second file, are not remembered.
    pub fn of(
        question: Question,
        kept: Arc<Kept>,
        form: Form,
        folders: Option<Arc<folders::Known>>,
    ) -> Option<Candidate> {
        let lasts = matches!(form, Form::Plain | Form::Settled(_)) && matches!(kept.entry, Entry::File(_));
        lasts.then_some(Candidate { question, kept, folders })
    }
}

struct Memory {
    cache: ThreadCache<Box<[u8]>, Arc<CachedResponse>>,
    once: Box<[u64]>,
    hasher: RandomState,
}

thread_local! {
    static MEMORY: RefCell<Memory> = RefCell::new(Memory {
        cache: ThreadCache::default(),
        once: vec![0; SEEN_ONCE].into_boxed_slice(),
        hasher: RandomState::default(),
    });
}

/// Whether nothing but the octets of a request could make a difference to its answer, nor to what comes after
/// it on its connection: there is no body, and nobody in front has a say.
pub fn stands_alone(request: &Parts) -> bool {
    let telling = [header::CONTENT_LENGTH, header::TRANSFER_ENCODING, header::UPGRADE, header::EXPECT];
    // What browsers say of it is what goes without saying (RFC 9112 §9.3).
    let connection = request.headers.get_all(header::CONNECTION).iter();
    let goes_on = |value: &http::HeaderValue| value.as_bytes().eq_ignore_ascii_case(b"keep-alive");
    request.method == Method::GET
        && request.version == Version::HTTP_11
        && connection.into_iter().all(goes_on)
        && !telling.iter().chain(&forwarded::FIELDS).any(|name| request.headers.contains_key(name))
}

/// Remembers an answer for the head it was given to, if that head came before.
pub fn remember(
    owner: CacheOwner,
    head: &[u8],
    request: &Parts,
    candidate: Candidate,
    (status, headers, content): (StatusCode, &HeaderMap, &Bytes),
    (site, encoding, full_bytes): (SiteId, &'static str, Option<u64>),
    obligations: Option<&Obligations>,
) {
    let target = request.uri.path_and_query().map_or("", |target| target.as_str());
    let begins = |head: &[u8]| {
        let rest = head.strip_prefix(b"GET ")?.strip_prefix(target.as_bytes())?;
        rest.starts_with(b" HTTP/1.1\r\n").then_some(())
    };
    if content.len() > LARGEST_BODY || !matches!(status.as_u16(), 200 | 304) || begins(head).is_none() {
        return;
    }
    MEMORY.with_borrow_mut(|memory| {
        let hash = memory.hasher.hash_one(head);
        let place = &mut memory.once[(hash as usize) % SEEN_ONCE];
        if *place != hash {
            *place = hash;
            return;
        }
        let field = |name| request.headers.get(name).map_or(Vec::new(), |value| value.as_bytes().to_vec());
        let line = Line {
            site,
            status,
            target: target.to_owned(),
            host: host(request).unwrap_or_default().to_ascii_lowercase(),
            referrer: field(header::REFERER),
            agent: field(header::USER_AGENT),
            encoding,
            full_bytes: full_bytes.unwrap_or(content.len() as u64),
            fired: obligations.map(|obligations| obligations.fired.clone()).unwrap_or_default(),
            rule: obligations.and_then(|obligations| obligations.rule.clone()).unwrap_or_default(),
        };
        let Candidate { question, kept, folders } = candidate;
        let octets = 800 + 2 * head.len() + content.len();
        let answer = CachedResponse {
            question,
            kept,
            folders,
            head: written(status, headers, content),
            content: content.clone(),
            line,
        };
        memory.cache.keep(owner, head.into(), Arc::new(answer), octets);
    });
}

/// The answer to a head, if it is remembered and still holds.
pub fn recall(owner: CacheOwner, head: &[u8], disk: &Disk) -> Option<Arc<CachedResponse>> {
    MEMORY.with_borrow_mut(|memory| {
        let answer = memory.cache.get(owner, head)?;
        let id = answer.line.site;
        let folders_hold = answer.folders.as_ref().is_none_or(|known| known.still_holds(id, disk));
        if folders_hold && disk.believes(&answer.question, &answer.kept) {
            return Some(Arc::clone(answer));
        }
        memory.cache.forget(head);
        None
    })
}

/// The head of an answer as it goes over the wire, but for the date's value and what ends it.
fn written(status: StatusCode, headers: &HeaderMap, content: &Bytes) -> Vec<u8> {
    let mut out =
        format!("HTTP/1.1 {} {}\r\n", status.as_u16(), status.canonical_reason().unwrap_or("")).into_bytes();
    for (name, value) in headers {
        out.extend_from_slice(name.as_str().as_bytes());
        out.extend_from_slice(b": ");
        out.extend_from_slice(value.as_bytes());
        out.extend_from_slice(b"\r\n");
    }
    if status != StatusCode::NOT_MODIFIED {
        out.extend_from_slice(format!("content-length: {}\r\n", content.len()).as_bytes());
    }
    out.extend_from_slice(b"date: ");
    out
}

impl CachedResponse {
    /// Octets of the whole answer.
    pub fn length(&self) -> usize {
        self.head.len() + DATE_LENGTH + 4 + self.content.len()
    }

    /// Appends the whole answer.
    pub fn write(&self, time: i64, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.head);
        date(time.div_euclid(1000), out);
        out.extend_from_slice(b"\r\n\r\n");
        out.extend_from_slice(&self.content);
    }

    /// Writes down that it was sent, so much of its body, and gives that much.
    pub fn record(
        &self,
        service: &Active,
        client: IpAddr,
        time: i64,
        began: Instant,
        unsent: usize,
    ) -> Option<u64> {
        let Line { site, status, target, host, referrer, agent, encoding, full_bytes, fired, rule } =
            &self.line;
        let log = service.logs.get(site.0)?;
        service.fired.count(*site, fired);
        let bytes = self.content.len().saturating_sub(unsent) as u64;
        log.record(
            &LoggedRequest::new(time, target.as_bytes())
                .number(NumberColumn::Status, status.as_u16().into())
                .number(NumberColumn::Bytes, bytes)
                .number(NumberColumn::FullBytes, *full_bytes)
                .number(NumberColumn::Duration, microseconds_since(began))
                .text(TextColumn::Client, client_text(client, log.masks_clients).as_str())
                .text(TextColumn::Method, "GET")
                .text(TextColumn::Protocol, "HTTP/1.1")
                .text(TextColumn::Referrer, referrer)
                .text(TextColumn::Agent, agent)
                .text(TextColumn::Scheme, Scheme::Http.as_str())
                .text(TextColumn::Host, host)
                .text(TextColumn::Encoding, encoding)
                .text(TextColumn::Rule, rule),
        );
        Some(bytes)
    }
}

/// Octets of a date in a header field.
const DATE_LENGTH: usize = 29;

/// The date of a second since 1970 UTC (RFC 9110 §5.6.7), made once a second.
fn date(second: i64, out: &mut Vec<u8>) {
    thread_local! {
        static LAST: RefCell<(i64, String)> = const { RefCell::new((i64::MIN, String::new())) };
    }
    LAST.with_borrow_mut(|(last, text)| {
        if *last != second {
            let since = std::time::Duration::from_secs(u64::try_from(second).unwrap_or(0));
            *text = httpdate::fmt_http_date(std::time::UNIX_EPOCH + since);
            *last = second;
        }
        out.extend_from_slice(text.as_bytes());
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::system::Clock;
    use exedra_answering::answer::Want;
    use exedra_answering::answer::path::resolve;
    use http::{HeaderValue, Request};
    use rstest::rstest;

    fn request(target: &str, fields: &[(&str, &str)]) -> Parts {
        let mut request = Request::get(target).header("host", "a.example");
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        request.body(()).unwrap().into_parts().0
    }

    #[rstest]
    #[case::plain(&[], true)]
    #[case::browser(&[("connection", "keep-alive"), ("user-agent", "Boat/1")], true)]
    #[case::last(&[("connection", "close")], false)]
    #[case::other_protocol(&[("connection", "keep-alive"), ("connection", "upgrade")], false)]
    #[case::body(&[("content-length", "0")], false)]
    #[case::chunks(&[("transfer-encoding", "chunked")], false)]
    #[case::forwarded(&[("forwarded", "for=192.0.2.1")], false)]
    fn what_stands_alone(#[case] fields: &[(&str, &str)], #[case] expected: bool) {
        assert_eq!(stands_alone(&request("/", fields)), expected);
    }

    #[test]
    fn a_head_is_remembered_when_it_comes_again_and_for_as_long_as_its_file_is_believed() {
        let place = tempfile::tempdir().unwrap();
        std::fs::write(place.path().join("a.txt"), "one").unwrap();
        let text = format!(
            "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = {:?}\n",
            place.path()
        );
        let config = exedra_answering::config::understand(&text, place.path()).unwrap();
        let disk = Disk::open(&config, Clock::new()).unwrap();
        let question =
            Question { site: SiteId(0), path: resolve("/a.txt").unwrap().place, want: Want::Entry };
        let head = b"GET /a.txt HTTP/1.1\r\nhost: a.example\r\n\r\n";
        let parts = request("/a.txt", &[]);
        let mut headers = HeaderMap::new();
        headers.insert(header::ETAG, HeaderValue::from_static("\"1\""));
        let owner = disk.owner();
        let keep = |head: &[u8]| {
            let candidate = Candidate::of(question.clone(), disk.look(&question), Form::Plain, None).unwrap();
            let answer = (StatusCode::OK, &headers, &Bytes::from_static(b"one"));
            remember(owner, head, &parts, candidate, answer, (SiteId(0), "", None), None);
        };
        keep(head);
        assert!(recall(owner, head, &disk).is_none(), "once is not enough");
        keep(head);
        let answer = recall(owner, head, &disk).unwrap();
        let mut out = Vec::new();
        answer.write(784_111_777_000, &mut out);
        let expected = "HTTP/1.1 200 OK\r\netag: \"1\"\r\ncontent-length: 3\r\ndate: Sun, 06 Nov 1994 08:49:37 GMT\r\n\r\none";
        assert_eq!(String::from_utf8(out.clone()).unwrap(), expected);
        assert_eq!(answer.length(), out.len());
        // Octets that do not begin as the request does were not all of its head.
        let tail = b"a.txt HTTP/1.1\r\nhost: a.example\r\n\r\n";
        keep(tail);
        keep(tail);
        assert!(recall(owner, tail, &disk).is_none());
        assert!(recall(CacheOwner::another(), head, &disk).is_none(), "another configuration's");

        let began = Instant::now();
        while disk.believes(&answer.question, &answer.kept) {
            assert!(began.elapsed().as_secs() < 30, "it is not believed for ever");
            // Nobody serves here, so nobody else lets the clock tick.
            disk.look(&Question { path: resolve("/b.txt").unwrap().place, ..question.clone() });
        }
        assert!(recall(owner, head, &disk).is_none());
    }
}
