//! What answers depend on: the law that a fact which an answer does not name as its ground makes no difference to it,
//! and what caches on the way are told.

use exedra_answering::answer::{
    Answer, Entry, FileFacts, Folder, FolderChain, FolderLevel, Found, Question, SitePath, Trace, answer,
    answer_traced,
};
use exedra_answering::config::{Config, FolderSettings, SiteId, understand};
use exedra_answering::facts::{FactName, Facts, Fields, Known, LocalTime, Scheme};
use http::{HeaderMap, HeaderName, HeaderValue, header};
use proptest::prelude::*;
use rstest::rstest;
use std::convert::Infallible;
use std::path::Path;
use std::sync::Arc;

const HEAD: &str = r#"
[service]
countries = "countries.mmdb"
[[listener]]
address = "127.0.0.1:7380"
[[listener]]
address = "127.0.0.1:7343"
https = true
[[site]]
name = "lamp"
hosts = ["lamp.example", "www.lamp.example"]
folder = "l"
[site.compress]
not_for = ["Kiosk/*"]
"#;

/// Conditions and effects that rules are put together from, for sites and for folders.
const WHEN: [&str; 13] = [
    "",
    "when = { client = \"192.0.2.0/25\" }",
    "when = { country = \"FO\" }",
    "when = { hour = \"8-17\" }",
    "when = { weekday = \"sunday\" }",
    "when = { scheme = \"https\" }",
    "when = { agent = \"Kiosk/*\", client = \"!192.0.2.7\" }",
    "when = { field = { Accept-Language = \"fo*\" } }",
    "when = { cookie = { tongue = true }, field = { X-Tide = \"high\" } }",
    "when = { referrer = \"https://forum.example/*\" }",
    "when = { server_port = 7343, certificate = \"lamp.example\" }",
    "when = { server_address = \"192.0.2.0/28\", tls_name = true }",
    "when = { browser = \"kiosk*\" }",
];
const EFFECTS: [&str; 10] = [
    "headers = { X-Your-Address = \"{client}\" }",
    "headers = { X-Said = \"{field:X-Tide} {cookie:tongue} {tls}\" }",
    "headers = { X-When = \"{date} {hour}\" }",
    "redirect = \"/fo/{agent}\"",
    "refuse = 403",
    "serve = \"/b.html\"",
    "cache = \"1 hour\"",
    "headers = { X-From = \"{country}\" }",
    "headers = { X-By = \"{server_address} {server_port} {tls_name} {certificate} {system}\" }",
    "cors = { origins = [\"https://*.example\"] }",
];

/// Every page is there, and the folder says something.
struct EveryPage(Option<Arc<FolderChain>>);

impl Folder for EveryPage {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        Ok(Found::Entry(match question.path.as_str().ends_with(".html") {
            true => Entry::File(FileFacts { size: 5000, modified: 1_000_000_000_000_000_000, stamp: 0 }),
            false => Entry::Missing,
        }))
    }

    fn settings(&self, _: &Question) -> Result<Option<Arc<FolderChain>>, Infallible> {
        Ok(self.0.clone())
    }
}

/// Everything of a request that can be changed without asking for something else.
#[derive(Clone, Debug)]
struct Asker {
    client: &'static str,
    country: Known<&'static str>,
    scheme: Scheme,
    server: &'static str,
    tls_name: Option<&'static str>,
    certificate: Option<&'static str>,
    hour: u8,
    day: i8,
    fields: HeaderMap,
}

impl Asker {
    fn first() -> Self {
        let mut fields = HeaderMap::new();
        fields.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip"));
        Asker {
            client: "192.0.2.1",
            country: Known::Is("FO"),
            scheme: Scheme::Http,
            server: "192.0.2.10:7380",
            tls_name: None,
            certificate: None,
            hour: 12,
            day: 6,
            fields,
        }
    }

    /// The same with one fact changed: which, and the change.
    fn others(&self) -> Vec<(FactName, Asker)> {
        let field = |name: HeaderName, value: &'static str| {
            let mut other = self.clone();
            let is_there =
                other.fields.insert(&name, HeaderValue::from_static(value)).is_some_and(|was| was == value);
            if is_there {
                other.fields.remove(&name);
            }
            (FactName::Field(name), other)
        };
        vec![
            (FactName::Client, Asker { client: "192.0.2.7", ..self.clone() }),
            (FactName::Client, Asker { client: "2001:db8::9", ..self.clone() }),
            (FactName::Country, Asker { country: Known::Absent, ..self.clone() }),
            (FactName::Scheme, Asker { scheme: Scheme::Https, ..self.clone() }),
            (FactName::ServerAddress, Asker { server: "198.51.100.10:7380", ..self.clone() }),
            (FactName::ServerPort, Asker { server: "192.0.2.10:7343", ..self.clone() }),
            (FactName::TlsName, Asker { tls_name: Some("lamp.example"), ..self.clone() }),
            (FactName::Certificate, Asker { certificate: Some("lamp.example"), ..self.clone() }),
            (FactName::Hour, Asker { hour: 23, ..self.clone() }),
            (FactName::Date, Asker { day: 7, ..self.clone() }),
            field(header::ACCEPT_ENCODING, "br"),
            field(header::ACCEPT, "application/json"),
            field(header::ACCEPT_LANGUAGE, "fo"),
            field(header::USER_AGENT, "Kiosk/2"),
            field(header::REFERER, "https://forum.example/t"),
            field(header::COOKIE, "tongue=fo"),
            field(header::ORIGIN, "https://a.example"),
            field(HeaderName::from_static("x-tide"), "high"),
            field(HeaderName::from_static("x-never-asked-for"), "1"),
            field(header::IF_MODIFIED_SINCE, "Sat, 14 Nov 2026 05:12:40 GMT"),
            field(header::IF_NONE_MATCH, "*"),
            field(header::RANGE, "bytes=0-5"),
        ]
    }

    fn ask(&self, config: &Config, folder: Option<&Arc<FolderSettings>>, path: &str) -> Answer {
        let https = self.scheme == Scheme::Https;
        let facts = Facts {
            client: Known::Is(self.client.parse().unwrap()),
            country: self.country,
            scheme: Known::Is(self.scheme),
            tls: https.then_some("1.3").into(),
            tls_name: self.tls_name.into(),
            certificate: self.certificate.into(),
            server: Known::Is(self.server.parse().unwrap()),
            agents: Some(|agent, _| Some(agent.to_owned())),
            protocol: Known::Is("HTTP/1.1"),
            host: Known::Is("lamp.example"),
            port: Known::Absent,
            method: Known::Is("GET"),
            path: Known::Is(path),
            query: Known::Absent,
            fields: Fields::All(&self.fields),
            time: Known::Is(LocalTime { date: jiff::civil::date(2026, 11, self.day), hour: self.hour }),
            now: Known::Is(1_794_633_160),
        };
        let chain = folder.map(|settings| {
            let level =
                FolderLevel { folder: SitePath::root(), depth: 0, settings: Ok(Arc::clone(settings)) };
            Arc::new(FolderChain { levels: vec![level] })
        });
        let folder = EveryPage(chain);
        let Ok((plain, ())) = answer(config, facts).by(&folder);
        let Ok((told, _)) = answer_traced(config, facts, Trace::complete()).by(&folder);
        assert_eq!(
            (&plain.headers, &plain.depends),
            (&told.headers, &told.depends),
            "telling changes nothing"
        );
        plain
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn what_an_answer_does_not_depend_on_makes_no_difference(
        rules in prop::collection::vec((0..WHEN.len(), 0..EFFECTS.len(), any::<bool>()), 0..5),
        header in prop::option::of(prop::sample::select(vec!["{client}", "{hour}", "{field:X-Tide}", "{scheme}", "x"])),
        path in prop::sample::select(vec!["/a.html", "/missing"]),
        steps in prop::collection::vec(0..18usize, 0..4),
    ) {
        let rule = |when: usize, effect: usize| format!("{}\n{}\n", WHEN[when], EFFECTS[effect]);
        let (mut site, mut folder) = (HEAD.to_owned(), String::new());
        if let Some(header) = header {
            folder.push_str(&format!("headers = {{ X-Own = \"{header}\" }}\n"));
        }
        for (when, effect, in_folder) in &rules {
            match in_folder {
                true => folder.push_str(&format!("[[rules]]\n{}", rule(*when, *effect))),
                false => site.push_str(&format!("[[site.rules]]\n{}", rule(*when, *effect))),
            }
        }
        let config = understand(&site, Path::new("")).unwrap();
        let folder = Arc::new(FolderSettings::understand(&folder, &config, SiteId(0)).unwrap());
        let mut asker = Asker::first();
        for step in steps {
            asker = asker.others().swap_remove(step).1;
        }
        let given = asker.ask(&config, Some(&folder), path);
        for (changed, other) in asker.others() {
            // By another scheme come another protocol and TLS as well.
            let grounds = [changed.clone(), FactName::Tls].into_iter().filter(|fact| *fact != FactName::Tls || changed == FactName::Scheme);
            if grounds.into_iter().any(|fact| given.depends.is_on(&fact)) {
                continue;
            }
            let answer = other.ask(&config, Some(&folder), path);
            prop_assert_eq!(
                (answer.status, &answer.headers, &answer.body), (given.status, &given.headers, &given.body),
                "{:?} had a say that is not named; {:?}", changed, other
            );
        }
    }
}

#[rstest]
#[case::condition(
    "when = { field = { Accept-Language = \"fo*\" } }\nredirect = \"/fo/\"",
    "Accept-Encoding, User-Agent, Accept-Language",
    None
)]
#[case::condition_that_held(
    "when = { field = { Accept-Language = false } }\nredirect = \"/fo/\"",
    "Accept-Language",
    None
)]
#[case::cookie(
    "when = { cookie = { tongue = true } }\nserve = \"/b.html\"",
    "Accept-Encoding, User-Agent, Cookie",
    None
)]
#[case::agent("when = { agent = \"Boat/*\" }\nrefuse = 403", "Accept-Encoding, User-Agent", None)]
#[case::referrer(
    "when = { referrer = \"https://forum.example/*\" }\nrefuse = 403",
    "Accept-Encoding, User-Agent, Referer",
    None
)]
#[case::template("headers = { X-T = \"{field:X-Tide}\" }", "Accept-Encoding, User-Agent, X-Tide", None)]
#[case::client("headers = { X-T = \"{client}\" }", "Accept-Encoding, User-Agent", Some("private"))]
#[case::client_kept(
    "when = { client = \"192.0.2.0/24\" }\ncache = \"1 hour\"",
    "Accept-Encoding, User-Agent",
    Some("private, max-age=3600")
)]
#[case::hour(
    "when = { hour = \"8-17\" }\ncache = \"1 hour\"",
    "Accept-Encoding, User-Agent",
    Some("max-age=3600")
)]
fn caches_are_told(#[case] rule: &str, #[case] vary: &str, #[case] control: Option<&str>) {
    let config = understand(&format!("{HEAD}[[site.rules]]\n{rule}\n"), Path::new("")).unwrap();
    let answer = Asker::first().ask(&config, None, "/a.html");
    let text = |name: HeaderName| answer.headers.get(name).map(|value| value.to_str().unwrap());
    let named: Vec<&str> =
        text(header::VARY).unwrap_or_default().split(", ").filter(|name| !name.is_empty()).collect();
    let wanted: Vec<&str> = vary.split(", ").collect();
    assert_eq!(named, wanted, "{:?}", answer.headers);
    assert_eq!(text(header::CACHE_CONTROL), control);
}
