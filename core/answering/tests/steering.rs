//! Where requests go by rules, hosts and folders' own settings: the table of what they mean, and the laws that hold of all.

use exedra_answering::answer::listing::Listed;
use exedra_answering::answer::{
    Answer, Body, Broken, Credentials, Entry, FileFacts, Folder, FolderChain, FolderLevel, Found, Password,
    Question, SitePath, Trace, answer, answer_traced,
};
use exedra_answering::config::diagnostic::draw;
use exedra_answering::config::{Config, FolderSettings, SiteId, Sources, understand};
use exedra_answering::facts::{Facts, Fields, Known, LocalTime, Scheme};
use http::{HeaderMap, HeaderName, HeaderValue, header};
use proptest::prelude::*;
use rstest::rstest;
use std::convert::Infallible;
use std::path::Path;
use std::sync::Arc;

const HEAD: &str = r#"
[[listener]]
address = "127.0.0.1:7380"
[[listener]]
address = "127.0.0.1:7343"
https = true
public_port = 443
[[realm]]
name = "staff"
title = "Harbour \"office\""
users = "staff.toml"
[[realm]]
name = "open"
users = "open.toml"
without_https = true
[[site]]
name = "harbour"
hosts = ["harbour.example", "www.harbour.example", "*.harbour.example"]
main_host = "harbour.example"
https = "required"
https_only = "1 year"
folder = "h"
[site.error_pages]
404 = "/errors/lost.html"
401 = "/staff/sign-in.html"
"#;

const LAMP: &str = r#"
[[site]]
name = "lamp"
hosts = ["lamp.example"]
folder = "l"
"#;

fn config(rules: &str) -> Config {
    let text = format!("{HEAD}{LAMP}{rules}");
    match understand(&text, Path::new("")) {
        Ok(config) => config,
        Err(found) => panic!("{}", draw(&found, &Sources::one("exedra.toml", &text), false)),
    }
}

/// A request by its address, some fields, and the folders that say something of themselves.
struct Ask<'c> {
    config: &'c Config,
    method: &'static str,
    fields: Vec<(HeaderName, &'static str)>,
    folders: Vec<(&'static str, Result<Arc<FolderSettings>, Broken>)>,
    client: &'static str,
}

impl Folder for Ask<'_> {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        let path = question.path.as_str();
        let is_folder = path.is_empty() || !path.rsplit('/').next().unwrap().contains('.');
        Ok(Found::Entry(match (is_folder, path.contains("missing") || path.ends_with("index.html")) {
            (true, _) => Entry::Folder,
            (false, true) => Entry::Missing,
            (false, false) => Entry::File(FileFacts { size: 10, modified: 0, stamp: 0 }),
        }))
    }

    fn names(&self, _: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        Ok(Ok(Arc::from([])))
    }

    fn settings(&self, question: &Question) -> Result<Option<Arc<FolderChain>>, Infallible> {
        Ok(self.chain(&question.path))
    }

    fn login(&self, who: &Credentials) -> Result<Password, Infallible> {
        Ok((who.user == "anna" && who.password == "tide" && who.realm < 2).into())
    }
}

impl<'c> Ask<'c> {
    fn of(config: &'c Config) -> Self {
        Ask { config, method: "GET", fields: Vec::new(), folders: Vec::new(), client: "192.0.2.1" }
    }

    fn folder(mut self, folder: &'static str, text: &str) -> Self {
        let settings = FolderSettings::understand(text, self.config, SiteId(0));
        let settings =
            settings.map(Arc::new).map_err(|found| Broken { line: 1, message: found[0].message.clone() });
        self.folders.push((folder, settings));
        self
    }

    fn field(mut self, name: HeaderName, value: &'static str) -> Self {
        self.fields.push((name, value));
        self
    }

    fn chain(&self, folder: &SitePath) -> Option<Arc<FolderChain>> {
        let levels: Vec<FolderLevel> = folder
            .ways()
            .filter_map(|way| {
                let (_, settings) = self.folders.iter().find(|(name, _)| *name == way.as_str())?;
                Some(FolderLevel { depth: way.depth(), folder: way, settings: settings.clone() })
            })
            .collect();
        (!levels.is_empty()).then(|| Arc::new(FolderChain { levels }))
    }

    fn run(&self, address: &str) -> (Answer, Trace) {
        let (scheme, rest) = address.split_once("://").unwrap();
        let (authority, target) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
        let (host, port) =
            authority.split_once(':').map_or((authority, None), |(host, port)| (host, port.parse().ok()));
        let (path, query) =
            target.split_once('?').map_or((target, None), |(path, query)| (path, Some(query)));
        let mut map = HeaderMap::new();
        for (name, value) in &self.fields {
            map.insert(name, HeaderValue::from_static(value));
        }
        let facts = Facts {
            client: Known::Is(self.client.parse().unwrap()),
            country: Known::Absent,
            scheme: Known::Is(if scheme == "https" { Scheme::Https } else { Scheme::Http }),
            host: Known::Is(host),
            port: port.into(),
            method: Known::Is(self.method),
            path: Known::Is(path),
            query: query.into(),
            fields: Fields::All(&map),
            time: Known::Is(LocalTime { date: jiff::civil::date(2030, 1, 1), hour: 23 }),
            ..Facts::UNKNOWN
        };
        let Ok((plain, ())) = answer(self.config, facts).by(self);
        let Ok((traced, trace)) = answer_traced(self.config, facts, Trace::complete()).by(self);
        assert_eq!(
            (plain.status, &plain.headers, &plain.body),
            (traced.status, &traced.headers, &traced.body)
        );
        (plain, trace)
    }

    fn what(&self, address: &str) -> String {
        let (answer, trace) = self.run(address);
        assert!(!trace.steps.is_empty());
        let status = answer.status.as_u16();
        let location = answer.headers.get(header::LOCATION).map(|value| value.to_str().unwrap());
        match (&answer.body, location) {
            (_, Some(location)) => format!("{status} {location}"),
            (Body::File { path, .. }, _) => format!("{status} {}", path.as_str()),
            _ => status.to_string(),
        }
    }
}

#[rstest]
#[case::host_and_https_at_once(
    "http://www.harbour.example/a%20b?x=%2f",
    "308 https://harbour.example/a%20b?x=%2f"
)]
#[case::https_alone("http://harbour.example:7380/a.txt?x", "308 https://harbour.example/a.txt?x")]
#[case::host_alone("https://www.harbour.example/./a/../b", "308 https://harbour.example/./a/../b")]
#[case::port_stays("https://deep.harbour.example:7343/", "308 https://harbour.example:7343/")]
#[case::slashes_as_well(
    "http://www.harbour.example//evil.example/x",
    "308 https://harbour.example/evil.example/x"
)]
#[case::for_whoever_proves_it("http://harbour.example/.well-known/token.txt", "200 .well-known/token.txt")]
#[case::there("https://harbour.example/a.txt", "200 a.txt")]
#[case::plain_is_fine("http://lamp.example/a.txt", "200 a.txt")]
fn hosts_and_schemes(#[case] address: &str, #[case] expected: &str) {
    assert_eq!(Ask::of(&config("")).what(address), expected);
}

#[rstest]
#[case::captures(
    "path = \"/m/{year}/{rest*}\"\nredirect = \"/n/{year}/{rest}\"\nstatus = 308",
    "/m/2030/a%2Fb/c?x=1",
    "308 http://lamp.example/n/2030/a%2Fb/c?x=1"
)]
#[case::temporary_unless_said("path = \"/a\"\nredirect = \"/b\"", "/a", "307 http://lamp.example/b")]
#[case::own_query(
    "path = \"/a\"\nredirect = \"/b?from={parameter:x}\"",
    "/a?x=%26",
    "307 http://lamp.example/b?from=%26"
)]
#[case::own_query_with_a_plus(
    "path = \"/a\"\nredirect = \"/b/{parameter:x}\"\nquery = \"drop\"",
    "/a?x=c+d",
    "307 http://lamp.example/b/c%20d"
)]
#[case::query_dropped(
    "path = \"/a\"\nredirect = \"/b\"\nquery = \"drop\"",
    "/a?x",
    "307 http://lamp.example/b"
)]
#[case::query_before_fragment("path = \"/a\"\nredirect = \"/b#c\"", "/a?x", "307 http://lamp.example/b?x#c")]
#[case::no_strangers_host(
    "path = \"/old/{rest*}\"\nredirect = \"/{rest}\"",
    "/old/%5Cevil.example/",
    "307 http://lamp.example/%5Cevil.example/"
)]
#[case::no_second_slash(
    "path = \"/old{rest*}\"\nredirect = \"/{rest}\"",
    "/old/evil.example/",
    "307 http://lamp.example/evil.example/"
)]
#[case::elsewhere(
    "path = \"/a\"\nredirect = \"https://other.example{path}\"",
    "/a?x",
    "307 https://other.example/a?x"
)]
#[case::another_site_at_home(
    "path = \"/a\"\nredirect = \"http://www.harbour.example/b\"",
    "/a",
    "307 https://harbour.example/b"
)]
#[case::dots("path = \"/a.html\"\nredirect = \"/b\"", "/axhtml.txt", "200 axhtml.txt")]
#[case::gone("path = \"/a\"\ngone = true", "/a", "410")]
#[case::refused("when = { agent = \"Bad*\" }\nrefuse = 403", "/a.txt", "403")]
#[case::not_for_this_agent("when = { agent = \"Other*\" }\nrefuse = 403", "/a.txt", "200 a.txt")]
#[case::served("path = \"/app/{*}\"\nserve = \"/app.html\"", "/app/x/y", "200 app.html")]
#[case::served_and_on(
    "path = \"/a/{x}\"\nserve = \"/b/{x}\"\n[[site.rules]]\npath = \"/b/{x}\"\nredirect = \"/c/{x}\"",
    "/a/1",
    "307 http://lamp.example/c/1"
)]
#[case::not_back(
    "path = \"/b/{x}\"\nredirect = \"/c\"\n[[site.rules]]\npath = \"/a/{x}\"\nserve = \"/b/{x}.txt\"",
    "/a/1",
    "200 b/1.txt"
)]
#[case::order(
    "path = \"/a\"\nredirect = \"/first\"\n[[site.rules]]\npath = \"/a\"\nredirect = \"/second\"",
    "/a",
    "307 http://lamp.example/first"
)]
#[case::encoded(
    "path = \"/sæl/{x}\"\nredirect = \"/seal/{x}\"",
    "/s%c3%a6l/1",
    "307 http://lamp.example/seal/1"
)]
#[case::itself("path = \"/a/{*}\"\nredirect = \"http://{host}{path}\"", "/a/1?x", "500")]
#[case::hour(
    "path = \"/a.txt\"\nwhen = { hour = \"22-5\", weekday = \"tuesday\" }\nredirect = \"/night\"",
    "/a.txt",
    "307 http://lamp.example/night"
)]
#[case::listing("path = \"/papers/{*}\"\nlisting = true", "/papers/", "200")]
#[case::no_listing("path = \"/papers/{*}\"\nlisting = true", "/other/", "403")]
#[case::login_over_http(
    "path = \"/s/{*}\"\nlogin = \"staff\"",
    "/s/a.txt?x",
    "307 https://lamp.example/s/a.txt?x"
)]
#[case::login("path = \"/s/{*}\"\nlogin = \"open\"", "/s/a.txt", "401")]
fn steered(#[case] rules: &str, #[case] target: &str, #[case] expected: &str) {
    let config = config(&format!("[[site.rules]]\n{rules}\n"));
    let ask = Ask::of(&config).field(header::USER_AGENT, "Bad/1");
    assert_eq!(ask.what(&format!("http://lamp.example{target}")), expected);
}

#[test]
fn a_redirect_names_the_final_host_and_scheme_at_once_and_a_condition_sees_the_real_one() {
    let rules = "[[site.rules]]\npath = \"/m/{rest*}\"\nwhen = { scheme = \"http\", host = \"www.*\" }\nredirect = \"/n/{rest}\"\n";
    let config = understand(&format!("{HEAD}{rules}{LAMP}"), Path::new("")).unwrap();
    let ask = Ask::of(&config);
    assert_eq!(ask.what("http://www.harbour.example/m/a?x"), "307 https://harbour.example/n/a?x");
    assert_eq!(ask.what("https://harbour.example/m/a.txt"), "200 m/a.txt");
}

#[test]
fn effects_add_up_and_the_later_one_wins() {
    let config = config(
        "[[site.rules]]\nheaders = { X-Frame-Options = \"DENY\", X-Where = \"{path} of {host}\" }\ncache = \"1 hour\"\n\
         [[site.rules]]\npath = \"/assets/{*}\"\ncache = \"1 year\"\nheaders = { X-Frame-Options = false }\ncors = [\"https://*.partner.example\"]\n",
    );
    let ask = Ask::of(&config).field(header::ORIGIN, "https://a.partner.example");
    let headers = ask.run("http://lamp.example/assets/a.css").0.headers;
    assert_eq!(headers[header::CACHE_CONTROL], "max-age=31536000");
    assert_eq!(headers["x-where"], "/assets/a.css of lamp.example");
    assert!(!headers.contains_key("x-frame-options"));
    assert_eq!(headers[header::ACCESS_CONTROL_ALLOW_ORIGIN], "https://a.partner.example");
    assert!(headers.get_all(header::VARY).iter().any(|value| value == "Origin"));
    let missing = ask.run("http://lamp.example/missing.css").0;
    assert_eq!((missing.status.as_u16(), missing.headers.contains_key(header::CACHE_CONTROL)), (404, false));
    assert_eq!(missing.headers["x-frame-options"], "DENY", "an error is an answer too");
    let mut preflight = Ask::of(&config).field(header::ORIGIN, "https://a.partner.example");
    (preflight.method, preflight.fields) =
        ("OPTIONS", [preflight.fields, vec![(header::ACCESS_CONTROL_REQUEST_METHOD, "GET")]].concat());
    let allowed = preflight.run("http://lamp.example/assets/a.css").0;
    assert_eq!(
        (allowed.status.as_u16(), &allowed.headers[header::ACCESS_CONTROL_ALLOW_METHODS]),
        (204, &"GET, HEAD".parse().unwrap())
    );
}

#[test]
fn who_signs_in_is_known_to_the_rules_that_follow_and_the_own_page_is_shown_to_who_does_not() {
    let rules = "[[site.rules]]\npath = \"/staff/{*}\"\nlogin = \"staff\"\ncache = \"1 hour\"\n\
                 [[site.rules]]\npath = \"/staff/{*}\"\nwhen = { user = \"!anna\" }\nrefuse = 403\n";
    let config = understand(&format!("{HEAD}{rules}{LAMP}"), Path::new("")).unwrap();
    let (answer, _) = Ask::of(&config).run("https://harbour.example/staff/a.txt");
    assert_eq!(answer.status, 401);
    assert!(
        matches!(&answer.body, Body::File { path, .. } if path.as_str() == "staff/sign-in.html"),
        "{:?}",
        answer.body
    );
    assert_eq!(
        answer.headers[header::WWW_AUTHENTICATE],
        "Basic realm=\"Harbour \\\"office\\\"\", charset=\"UTF-8\""
    );
    let named = understand(
        &format!("{}{rules}{LAMP}", HEAD.replace("Harbour \\\"office\\\"", "Hafnarstjóri")),
        Path::new(""),
    )
    .unwrap();
    let (answer, _) = Ask::of(&named).run("https://harbour.example/staff/a.txt");
    let challenge = answer.headers[header::WWW_AUTHENTICATE].as_bytes();
    assert_eq!(std::str::from_utf8(challenge).unwrap(), "Basic realm=\"Hafnarstjóri\", charset=\"UTF-8\"");
    let anna = Ask::of(&config).field(header::AUTHORIZATION, "Basic YW5uYTp0aWRl");
    let (answer, trace) = anna.run("https://harbour.example/staff/a.txt");
    assert!(!answer.is_for_same_octets());
    let obligations = answer.obligations.unwrap();
    assert_eq!((answer.status.as_u16(), obligations.user.as_deref()), (200, Some("anna")));
    assert_eq!(answer.headers[header::CACHE_CONTROL], "private, max-age=3600");
    assert_eq!(answer.headers[header::STRICT_TRANSPORT_SECURITY], "max-age=31536000");
    assert_eq!(obligations.fired.as_slice(), [0]);
    let words: Vec<String> = trace.steps.iter().map(|step| step.words()).collect();
    assert!(words.iter().any(|words| words == "`anna` of `staff` has signed in"), "{words:?}");
    let wrong = Ask::of(&config).field(header::AUTHORIZATION, "Basic YW5uYTp3cm9uZw==");
    assert_eq!(wrong.run("https://harbour.example/staff/a.txt").0.status, 401);
    // Nobody is asked for a password on the way to where it is safe.
    assert_eq!(anna.what("http://harbour.example/staff/a.txt"), "308 https://harbour.example/staff/a.txt");
}

#[test]
fn folders_speak_for_themselves_and_for_what_is_below_them() {
    let config = config("");
    let ask = Ask::of(&config)
        .folder("a", "listing = true\ncache = \"1 hour\"\n[error_pages]\n404 = \"/lost.html\"\n[headers]\nX-A = \"{path}\"\n")
        .folder("a/b", "listing = false\nrefuse = 403\n")
        .folder("a/c", "login = \"open\"\n[[rules]]\npath = \"/old/{rest*}\"\nredirect = \"/new/{rest}\"\n[[rules]]\npath = \"/up\"\nserve = \"/../x.txt\"\n")
        .folder("a/d", "[[rules]]\npath = \"/{name}.old\"\nserve = \"/e/{name}.txt\"\n")
        .folder("a/d/e", "cache = \"2 hours\"\n")
        .folder("broken", "listing = 7\n");
    let status = |path: &str| ask.what(&format!("http://lamp.example{path}"));
    assert_eq!(status("/a/"), "200");
    assert_eq!(status("/a/missing.txt"), "404 a/lost.html");
    assert_eq!(status("/other/"), "403");
    assert_eq!(status("/a/b/x.txt"), "403");
    assert_eq!(status("/a/b/deep/x.txt"), "403");
    assert_eq!(status("/a/c/old/1?x"), "401");
    assert_eq!(status("/broken/deep/x.txt"), "500");
    assert_eq!(status("/fine.txt"), "200 fine.txt");
    let headers = ask.run("http://lamp.example/a/d/x.old").0.headers;
    assert_eq!(
        (&headers[header::CACHE_CONTROL], &headers["x-a"]),
        (&"max-age=7200".parse().unwrap(), &"/a/d/x.old".parse().unwrap())
    );
    let anna = Ask { fields: vec![(header::AUTHORIZATION, "Basic YW5uYTp0aWRl")], ..ask };
    assert_eq!(anna.what("http://lamp.example/a/c/old/1?x"), "307 http://lamp.example/a/c/new/1?x");
    assert_eq!(anna.what("http://lamp.example/a/c/up"), "404 a/lost.html", "out of its folder nothing leads");
}

#[test]
fn a_site_may_forbid_folders_to_speak() {
    let text = format!("{HEAD}{}folder_settings = false\n", LAMP);
    let config = understand(&text, Path::new("")).unwrap();
    let ask = Ask::of(&config).folder("a", "refuse = 403");
    assert_eq!(ask.what("http://lamp.example/a/x.txt"), "200 a/x.txt");
}

#[test]
fn what_depends_on_more_than_its_octets_says_so() {
    let config =
        config("[[site.rules]]\npath = \"/a/{*}\"\nwhen = { client = \"203.0.113.0/24\" }\nrefuse = 403\n");
    let ask = Ask::of(&config);
    assert!(!ask.run("http://lamp.example/a/x.txt").0.is_for_same_octets());
    assert!(ask.run("http://lamp.example/b/x.txt").0.is_for_same_octets());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn a_redirect_keeps_path_and_query_byte_for_byte(
        path in "(/[a-z0-9%~.-]{0,3}([a-zæ!$&'()*+,;=:@-]|%[2-7][0-9A-Fa-f]){1,6}){1,4}/?",
        query in proptest::option::of("([a-z0-9=&?/%+.-]{0,12})"),
    ) {
        prop_assume!(exedra_answering::answer::path::tidy(&path).is_ok());
        let target = query.as_ref().map_or(path.clone(), |query| format!("{path}?{query}"));
        let config = config("[[site.rules]]\npath = \"/{rest*}\"\nredirect = \"/moved/{rest}\"\n");
        let ask = Ask::of(&config);
        // Raw letters beyond ASCII never come over a wire; they are encoded where they turn up.
        let wire = |text: &str| text.replace('æ', "%C3%A6");
        prop_assert_eq!(ask.what(&format!("http://www.harbour.example{target}")), format!("308 https://harbour.example{}", wire(&target)));
        let has_dots = path.split('/').any(|segment| matches!(segment.to_ascii_lowercase().replace("%2e", ".").as_str(), "." | ".."));
        if !has_dots {
            prop_assert_eq!(ask.what(&format!("http://lamp.example{target}")), format!("307 http://lamp.example/moved{}", wire(&target)));
        }
    }

    #[test]
    fn no_redirect_leads_to_a_strangers_host(path in "/(old)?([/\\\\.a%]|%2f|%5c|%2e|//evil\\.example){0,12}", template in "/(\\{rest\\}|x|/|\\\\|\\.){0,4}") {
        let rules = format!("[[site.rules]]\npath = \"/old{{rest*}}\"\nredirect = '{template}'\n");
        let text = format!("{HEAD}{LAMP}{rules}");
        let Ok(config) = understand(&text, Path::new("")) else { return Ok(()) };
        let (answer, _) = Ask::of(&config).run(&format!("http://lamp.example{path}"));
        if let Some(location) = answer.headers.get(header::LOCATION) {
            let location = location.to_str().unwrap();
            let path = location.strip_prefix("http://lamp.example").unwrap_or_default();
            prop_assert!(path.starts_with('/') && !path.starts_with("//") && !path.starts_with("/\\"), "{}", location);
        }
    }
}

#[rstest]
#[case("headers = { Set-Cookie = \"a=b\" }", false)]
#[case("headers = { strict-transport-security = \"max-age=9\" }", false)]
#[case(
    "headers = { Content-Security-Policy = \"default-src 'self'; REPORT-URI https://x.example/\" }",
    false
)]
#[case("[[rules]]\npath = \"/{*}\"\nheaders = { Clear-Site-Data = \"*\" }", false)]
#[case("headers = { Alt-Svc = false }", false)]
#[case("headers = { Content-Security-Policy = \"default-src 'self'\", X-Frame-Options = \"DENY\" }", true)]
fn folders_set_no_fields_for_the_whole_host(#[case] text: &str, #[case] is_allowed: bool) {
    let strict = config("");
    let understood = FolderSettings::understand(text, &strict, SiteId(1));
    assert_eq!(understood.is_ok(), is_allowed, "{text}: {understood:?}");
    if let Err(found) = understood {
        assert!(
            found[0].remedy.as_deref().is_some_and(|words| words.contains("folder_host_headers")),
            "{found:?}"
        );
    }
    // The site may say so, for itself alone.
    let open = config("folder_host_headers = true\n");
    assert!(FolderSettings::understand(text, &open, SiteId(1)).is_ok());
    assert_eq!(FolderSettings::understand(text, &open, SiteId(0)).is_ok(), is_allowed);
}
