//! What is so of every answer, whatever is configured and asked for: HEAD and GET, validators and conditions, parts, codings, methods
//! and failures (RFC 9110), over a folder in memory in which encodings are in every state that they can be in.

use exedra_answering::answer::listing::{Kind, Listed};
use exedra_answering::answer::{
    Answer, Body, Encoded, Encodings, Entry, FileFacts, Folder, Form, Found, Piece, Question, answer,
};
use exedra_answering::config::{Config, understand};
use exedra_answering::encode::Codec;
use exedra_answering::facts::{Facts, Fields, Known, Scheme};
use http::{HeaderMap, HeaderName, HeaderValue, header};
use proptest::collection::vec;
use proptest::prelude::*;
use std::convert::Infallible;
use std::path::Path;
use std::sync::Arc;

/// When the files changed, and what that is in a header field.
const CHANGED: i64 = 1_794_633_160;
const CHANGED_FIELD: &str = "Sat, 14 Nov 2026 05:12:40 GMT";

/// A folder of files, and what is known of their encodings.
struct Shelf;

/// Files with their sizes.
const FILES: [(&str, u64); 7] = [
    ("index.html", 5000),
    ("tides.css", 9000),
    ("small.txt", 100),
    ("chart.png", 20_000),
    ("moved.js", 7000),
    ("noise.txt", 8000),
    ("errors/lost.html", 3000),
];

fn facts_of(size: u64) -> FileFacts {
    FileFacts { size, modified: i128::from(CHANGED) * 1_000_000_000, stamp: 0 }
}

impl Folder for Shelf {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        let path = question.path.as_str();
        let file = FILES.iter().find(|(name, _)| *name == path);
        Ok(Found::Entry(match (path, file) {
            (_, Some((_, size))) => Entry::File(facts_of(*size)),
            ("" | "pictures" | "errors", _) => Entry::Folder,
            ("secret.txt", _) => Entry::Forbidden,
            ("broken.txt", _) => Entry::Failed,
            _ => Entry::Missing,
        }))
    }

    fn names(&self, _: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        let listed =
            |name: &str| Listed { name: name.to_owned(), kind: Kind::File, bytes: 5, changed: CHANGED };
        Ok(Ok((0..40).map(|number| listed(&format!("gull-{number}.png"))).collect()))
    }

    fn encodings(&self, question: &Question) -> Result<Encodings, Infallible> {
        let mut known = Encodings::default();
        match question.path.as_str() {
            "tides.css" => {
                known[Codec::Gzip as usize] = Encoded::Settled(2000);
                known[Codec::Brotli as usize] = Encoded::Settled(1500);
            }
            "moved.js" => known[Codec::Gzip as usize] = Encoded::Ready(facts_of(1800)),
            "noise.txt" => known = [Encoded::NoGain; Codec::ALL.len()],
            _ => {}
        }
        Ok(known)
    }
}

/// A request.
#[derive(Debug, Clone)]
struct Ask {
    method: &'static str,
    path: String,
    fields: Vec<(HeaderName, String)>,
}

impl Ask {
    fn get(path: &str) -> Self {
        Ask { method: "GET", path: path.to_owned(), fields: Vec::new() }
    }

    fn with(&self, name: HeaderName, value: &str) -> Self {
        let mut other = self.clone();
        other.fields.retain(|(known, _)| *known != name);
        other.fields.push((name, value.to_owned()));
        other
    }

    fn without(&self, names: &[HeaderName]) -> Self {
        let mut other = self.clone();
        other.fields.retain(|(known, _)| !names.contains(known));
        other
    }

    fn answer(&self, config: &Config) -> Answer {
        let headers: HeaderMap = self
            .fields
            .iter()
            .map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap()))
            .collect();
        let facts = Facts {
            client: Known::Is("192.0.2.7".parse().unwrap()),
            scheme: Known::Is(Scheme::Http),
            host: Known::Is("a.example"),
            port: Known::Absent,
            method: Known::Is(self.method),
            path: Known::Is(&self.path),
            query: Known::Absent,
            fields: Fields::All(&headers),
            now: Known::Is(CHANGED + 86_400),
            ..Facts::UNKNOWN
        };
        let Ok((answer, ())) = answer(config, facts).by(&Shelf);
        answer
    }
}

fn field(answer: &Answer, name: HeaderName) -> Option<&str> {
    answer.headers.get(name).map(|value| value.to_str().unwrap())
}

const HEAD: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";

/// Settings of a site that change how answers look, none of which changes what follows.
const SETTINGS: [&str; 9] = [
    "",
    "listing = true\n",
    "error_pages = { 404 = \"/errors/lost.html\", \"5xx\" = \"/errors/lost.html\" }\n",
    "[site.compress]\ncodecs = [\"gzip\"]\n",
    "[site.compress]\ncodecs = [\"br\", \"zstd\", \"gzip\"]\nat_least = \"6 kB\"\n",
    "[site.compress]\ncodecs = []\n",
    "[[site.rules]]\ncache = \"1 hour\"\nheaders = { X-Pier = \"7\" }\n",
    "[[site.rules]]\npath = \"/small.txt\"\nserve = \"/tides.css\"\n",
    "[[site.rules]]\npath = \"/chart.png\"\nrefuse = 410\n",
];

const PATHS: [&str; 13] = [
    "/",
    "/index.html",
    "/tides.css",
    "/small.txt",
    "/chart.png",
    "/moved.js",
    "/noise.txt",
    "/pictures/",
    "/pictures",
    "/nowhere",
    "/secret.txt",
    "/broken.txt",
    "/.hidden",
];

fn config(settings: &[usize]) -> Config {
    // Tables come after plain keys, and each once.
    let mut chosen: Vec<&str> = settings.iter().map(|nth| SETTINGS[*nth]).collect();
    chosen.sort_by_key(|text| (text.starts_with('['), text.contains("[["), *text));
    chosen.dedup();
    let mut compress = false;
    chosen.retain(|text| !text.contains("[site.compress]") || !std::mem::replace(&mut compress, true));
    let text = format!("{HEAD}{}", chosen.concat());
    understand(&text, Path::new("")).unwrap_or_else(|found| panic!("{text}\n{found:#?}"))
}

fn ask() -> impl Strategy<Value = Ask> {
    let fields = prop_oneof![
        prop::sample::select(vec![
            "gzip",
            "br",
            "gzip, br;q=0.5",
            "identity",
            "*",
            "gzip;q=0",
            "zstd, deflate"
        ])
        .prop_map(|value| (header::ACCEPT_ENCODING, value)),
        prop::sample::select(vec!["text/html", "application/json", "*/*"])
            .prop_map(|value| (header::ACCEPT, value)),
        prop::sample::select(vec![
            "bytes=0-9",
            "bytes=-5",
            "bytes=50-",
            "bytes=0-1,5-6",
            "bytes=999999-",
            "x"
        ])
        .prop_map(|value| (header::RANGE, value)),
        prop::sample::select(vec!["*", "\"other\"", CHANGED_FIELD])
            .prop_map(|value| (header::IF_NONE_MATCH, value)),
        prop::sample::select(vec!["*", "\"other\""]).prop_map(|value| (header::IF_MATCH, value)),
        prop::sample::select(vec![CHANGED_FIELD, "Sun, 06 Nov 1994 08:49:37 GMT", "yesterday"])
            .prop_map(|value| (header::IF_MODIFIED_SINCE, value)),
        prop::sample::select(vec!["https://b.example", "null"]).prop_map(|value| (header::ORIGIN, value)),
    ];
    (prop::sample::select(PATHS.to_vec()), vec(fields, 0..4)).prop_map(|(path, fields)| {
        fields.into_iter().fold(Ask::get(path), |ask, (name, value)| ask.with(name, value))
    })
}

const CONDITIONS: [HeaderName; 6] = [
    header::IF_MATCH,
    header::IF_NONE_MATCH,
    header::IF_MODIFIED_SINCE,
    header::IF_UNMODIFIED_SINCE,
    header::IF_RANGE,
    header::RANGE,
];

/// Octets of the body that would be sent, where that is known beforehand.
fn length(answer: &Answer) -> Option<u64> {
    match &answer.body {
        Body::None => Some(0),
        Body::Page(page) => Some(page.len() as u64),
        Body::PageEncoded(..) => None,
        Body::File { path, form } => {
            let size = FILES.iter().find(|(name, _)| *name == path.as_str()).map(|(_, size)| *size)?;
            match form {
                Form::Plain => Some(size),
                _ => None,
            }
        }
        Body::Parts { pieces, .. } => Some(
            pieces
                .iter()
                .map(|piece| match piece {
                    Piece::File(part) => part.end - part.start,
                    Piece::Octets(octets) => octets.len() as u64,
                })
                .sum(),
        ),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, max_global_rejects: 100_000, ..ProptestConfig::default() })]

    #[test]
    fn head_is_get_without_its_body(settings in vec(0..SETTINGS.len(), 0..4), ask in ask()) {
        let config = config(&settings);
        // Parts are of the body (RFC 9110 §14.2): HEAD has none.
        let get = ask.without(&[header::RANGE]).answer(&config);
        let head = Ask { method: "HEAD", ..ask.clone() }.answer(&config);
        prop_assert!(head.head_only && !get.head_only);
        prop_assert_eq!(head.status, get.status);
        prop_assert_eq!(&head.headers, &get.headers);
    }

    #[test]
    fn what_a_client_has_is_not_sent_again_and_what_it_has_not_is(settings in vec(0..SETTINGS.len(), 0..4), ask in ask()) {
        let config = config(&settings);
        let plain = ask.without(&CONDITIONS);
        let first = plain.answer(&config);
        prop_assume!(first.status == 200);
        let tag = field(&first, header::ETAG).expect("what is sent has an entity tag").to_owned();
        for tags in [tag.clone(), format!("\"x\", {tag}"), "*".to_owned(), format!("W/{}", tag.trim_start_matches("W/"))] {
            let again = plain.with(header::IF_NONE_MATCH, &tags).answer(&config);
            prop_assert_eq!(again.status.as_u16(), 304, "{}", tags);
            prop_assert_eq!(&again.body, &Body::None);
            for name in [header::ETAG, header::CACHE_CONTROL, header::VARY] {
                prop_assert_eq!(field(&again, name.clone()), field(&first, name));
            }
            for name in [header::CONTENT_TYPE, header::CONTENT_ENCODING, header::CONTENT_RANGE] {
                prop_assert!(!again.headers.contains_key(&name), "{}", name);
            }
        }
        let other = plain.with(header::IF_NONE_MATCH, "\"other\"").answer(&config);
        prop_assert_eq!((other.status, &other.headers), (first.status, &first.headers));
        let held = plain.with(header::IF_MATCH, "\"other\"").answer(&config);
        prop_assert_eq!(held.status.as_u16(), 412);
        if !tag.starts_with("W/") {
            let held = plain.with(header::IF_MATCH, &tag).answer(&config);
            prop_assert_eq!(held.status.as_u16(), 200);
        }
        if let Some(changed) = field(&first, header::LAST_MODIFIED) {
            let again = plain.with(header::IF_MODIFIED_SINCE, changed).answer(&config);
            prop_assert_eq!(again.status.as_u16(), 304);
            let later = plain.with(header::IF_UNMODIFIED_SINCE, "Sun, 06 Nov 1994 08:49:37 GMT").answer(&config);
            prop_assert_eq!(later.status.as_u16(), 412);
        }
    }

    #[test]
    fn parts_are_of_what_would_be_sent_as_a_whole(
        settings in vec(0..SETTINGS.len(), 0..4),
        ask in ask(),
        first in 0u64..30_000,
        count in 1u64..5000,
    ) {
        let config = config(&settings);
        let plain = ask.without(&CONDITIONS).without(&[header::ACCEPT_ENCODING]);
        let whole = plain.answer(&config);
        prop_assume!(whole.status == 200 && matches!(whole.body, Body::File { .. }));
        let size = length(&whole).unwrap();
        prop_assert_eq!(field(&whole, header::ACCEPT_RANGES), Some("bytes"));
        let asked = plain.with(header::RANGE, &format!("bytes={first}-{}", first + count - 1));
        let part = asked.answer(&config);
        if first >= size {
            prop_assert_eq!(part.status.as_u16(), 416);
            prop_assert_eq!(field(&part, header::CONTENT_RANGE).unwrap(), format!("bytes */{size}"));
            return Ok(());
        }
        let end = (first + count).min(size);
        prop_assert_eq!(part.status.as_u16(), 206);
        prop_assert_eq!(field(&part, header::CONTENT_RANGE).unwrap(), format!("bytes {first}-{}/{size}", end - 1));
        prop_assert_eq!(length(&part), Some(end - first));
        prop_assert_eq!(field(&part, header::ETAG), field(&whole, header::ETAG));
        // A part of what the client has no beginning of is of no use to it.
        let tag = field(&whole, header::ETAG).unwrap().to_owned();
        prop_assert_eq!(asked.with(header::IF_RANGE, &tag).answer(&config).status.as_u16(), 206);
        prop_assert_eq!(asked.with(header::IF_RANGE, "\"other\"").answer(&config).status.as_u16(), 200);
        prop_assert_eq!(asked.with(header::IF_NONE_MATCH, &tag).answer(&config).status.as_u16(), 304);
    }

    #[test]
    fn nothing_is_sent_in_a_coding_that_was_not_asked_for(settings in vec(0..SETTINGS.len(), 0..4), ask in ask()) {
        let config = config(&settings);
        let given = ask.answer(&config);
        let accepted = ask.fields.iter().find(|(name, _)| *name == header::ACCEPT_ENCODING).map(|(_, value)| value.as_str());
        let coding = field(&given, header::CONTENT_ENCODING);
        if let Some(coding) = coding {
            let accepted = accepted.expect("nobody who says nothing gets a coding");
            let is_named = accepted.split(',').any(|one| one.split(';').next().unwrap().trim() == coding && !one.contains("q=0"));
            let named = is_named || accepted.contains("q=0.5") && accepted.contains(coding) || accepted == "*";
            prop_assert!(named, "{} of {}", coding, accepted);
            prop_assert!(config.sites[0].compress.codecs.iter().any(|codec| codec.name() == coding));
            let is_strong = field(&given, header::ETAG).is_none_or(|tag| !tag.starts_with("W/"));
            prop_assert!(given.status != 206 || is_strong, "parts of what is not the same each time are of no use");
        }
        // Caches are told, also by the answer that has none.
        if let Body::File { path, form } = &given.body
            && given.status == 200
            && path.as_str().ends_with("css")
            && !config.sites[0].compress.codecs.is_empty()
        {
            prop_assert!(field(&given, header::VARY).unwrap_or_default().contains("Accept-Encoding"));
            prop_assert_eq!(form.codec().map(Codec::name), coding);
            let weak = field(&given, header::ETAG).unwrap().starts_with("W/");
            prop_assert_eq!(weak, matches!(form, Form::Quick(_)), "only what settles later is weak");
        }
        if let Body::File { path, .. } = &given.body {
            prop_assert!(path.as_str() != "chart.png" || coding.is_none(), "pictures do not get smaller");
            prop_assert!(path.as_str() != "noise.txt" || coding.is_none(), "it has been tried in vain");
        }
    }

    #[test]
    fn whatever_fails_says_why_and_sends_no_file_but_the_page_for_it(settings in vec(0..SETTINGS.len(), 0..4), ask in ask()) {
        let config = config(&settings);
        let given = ask.without(&CONDITIONS).answer(&config);
        let expected = match ask.path.as_str() {
            "/nowhere" | "/.hidden" => 404,
            "/secret.txt" => 403,
            "/broken.txt" => 500,
            "/pictures" => 308,
            "/pictures/" if !config.sites[0].listing => 403,
            "/chart.png" if settings.contains(&8) => 410,
            _ => 200,
        };
        prop_assert_eq!(given.status.as_u16(), expected);
        if expected < 400 {
            prop_assert!(given.cause.is_none());
            return Ok(());
        }
        let cause = given.cause.as_deref().expect("whatever fails says why");
        prop_assert!(!cause.step.words().is_empty());
        match &given.body {
            Body::File { path, .. } => prop_assert_eq!(path.as_str(), "errors/lost.html"),
            Body::Page(page) => prop_assert!(page.contains(&expected.to_string())),
            other => prop_assert!(matches!(other, Body::PageEncoded(..)), "{:?}", other),
        }
        for name in [header::ETAG, header::LAST_MODIFIED, header::ACCEPT_RANGES] {
            prop_assert!(!given.headers.contains_key(&name) || matches!(given.body, Body::File { .. }), "{}", name);
        }
        prop_assert!(!given.headers.contains_key(header::ACCEPT_RANGES));
    }

    #[test]
    fn other_methods_are_told_which_there_are(method in "[A-Z]{3,8}", path in prop::sample::select(PATHS.to_vec())) {
        prop_assume!(!["GET", "HEAD", "OPTIONS"].contains(&method.as_str()));
        let config = config(&[]);
        let method: &'static str = Box::leak(method.into_boxed_str());
        let refused = Ask { method, ..Ask::get(path) }.answer(&config);
        prop_assert_eq!(refused.status.as_u16(), 405);
        prop_assert_eq!(field(&refused, header::ALLOW), Some("GET, HEAD, OPTIONS"));
        let options = Ask { method: "OPTIONS", ..Ask::get("/index.html") }.answer(&config);
        prop_assert_eq!((options.status.as_u16(), field(&options, header::ALLOW)), (204, Some("GET, HEAD, OPTIONS")));
    }
}
