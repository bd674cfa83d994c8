//! Rehearsals: what is decided once for many requests is what each of them would have been answered, on however many threads; what a log
//! does not tell is never taken for absent.

use exedra_acting::rehearsal::{
    AnswerChange, ChangeCause, RecordedRequest, Rehearsal, RehearsalGroup, RehearsalOutcome, Surroundings,
};
use exedra_answering::answer::Tree;
use exedra_answering::config::{Config, understand};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeMap;
use std::path::Path;

const HEAD: &str = r#"
[[listener]]
address = "127.0.0.1:7380"
[[realm]]
name = "staff"
users = "staff.toml"
without_https = true
[[site]]
name = "harbour"
hosts = ["harbour.example", "www.harbour.example"]
main_host = "harbour.example"
folder = "h"
error_pages = { 404 = "/lost.html" }
[site.compress]
not_for = ["Kiosk/*"]
"#;

const PERSON: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";

/// Conditions on what a log tells, and effects.
const WHEN: [&str; 8] = [
    "",
    "when = { client = \"192.0.2.0/25\" }",
    "when = { agent = \"Kiosk/*\" }",
    "when = { referrer = \"https://forum.example/*\" }",
    "when = { parameter = { day = \"1\" } }",
    "when = { hour = \"8-17\" }",
    "when = { method = \"HEAD\" }",
    "when = { scheme = \"https\", host = \"harbour.example\" }",
];
const EFFECTS: [&str; 9] = [
    "redirect = \"/b.html\"",
    "redirect = \"/a.html\"",
    "redirect = \"/nowhere\"",
    "refuse = 403",
    "gone = true",
    "cache = \"1 hour\"",
    "headers = { X-Seen = \"{agent} {hour}\" }",
    "login = \"staff\"",
    "serve = \"/b.html\"",
];

fn config(more: &str) -> Config {
    understand(&format!("{HEAD}{more}"), Path::new("")).unwrap()
}

fn folder() -> Tree {
    Tree::default().file("a.html", 5_000).file("b.html", 700).file("lost.html", 400)
}

fn rules(written: &[(usize, usize, usize)]) -> String {
    let paths = ["", "path = \"/a.html\"\n", "path = \"/{name}.html\"\n"];
    let rule = |(path, when, effect): &(usize, usize, usize)| {
        format!("[[site.rules]]\n{}{}\n{}\n", paths[*path], WHEN[*when], EFFECTS[*effect])
    };
    written.iter().map(rule).collect()
}

/// Requests of which a log tells everything.
fn requests() -> impl Strategy<Value = Vec<RecordedRequest<'static>>> {
    let of = |all: Vec<&'static str>| prop::sample::select(all);
    let maybe = |all: Vec<Option<&'static str>>| prop::sample::select(all);
    let request = (
        of(vec!["/a.html", "/b.html", "/missing", "/a.html/"]),
        maybe(vec![None, Some("day=1"), Some("day=2&x")]),
        of(vec!["192.0.2.1", "192.0.2.200", "2001:db8::1"]),
        maybe(vec![Some(PERSON), Some("Kiosk/2"), None]),
        maybe(vec![None, Some("https://forum.example/t")]),
        of(vec!["GET", "HEAD", "POST"]),
        of(vec!["http", "https"]),
        (
            of(vec!["harbour.example", "www.harbour.example", "other.example"]),
            maybe(vec![None, Some("mara")]),
        ),
        (0i64..3, maybe(vec![None, Some("br"), Some("gzip")])),
    );
    let request = request.prop_map(
        |(path, query, client, agent, referrer, method, scheme, (host, user), (third, encoding))| {
            RecordedRequest {
                time: 1_794_600_000_000 + third * 8 * 3_600_000,
                site: Some("harbour"),
                client: Some(client),
                user,
                method: Some(method),
                scheme: Some(scheme),
                host: Some(host),
                path: Some(path),
                query,
                protocol: Some("HTTP/1.1"),
                referrer,
                agent,
                encoding,
                status: 200,
                bytes: 500,
            }
        },
    );
    prop::collection::vec(request, 1..60)
}

fn rehearsed(old: &Config, new: &Config, requests: &[RecordedRequest<'_>]) -> RehearsalOutcome {
    let (folder, around) = (folder(), Surroundings::new(TimeZone::UTC));
    let mut rehearsal = Rehearsal::new((old, &folder), (new, &folder), &around);
    requests.iter().for_each(|request| rehearsal.take(request));
    rehearsal.finish()
}

/// What each change touches, without what is only an example.
type Touched = BTreeMap<(AnswerChange, ChangeCause), (u64, u64)>;

fn changes(outcome: &RehearsalOutcome) -> Touched {
    let of =
        |group: &RehearsalGroup| ((group.change, group.cause.clone()), (group.requests, group.bytes_before));
    outcome.groups.iter().map(of).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Each request by itself comes to the same as all of them, of which many are decided once; so do two halves, merged.
    #[test]
    fn requests_decided_once_are_answered_as_each_alone(
        old in prop::collection::vec((0..3usize, 0..WHEN.len(), 0..EFFECTS.len()), 0..4),
        new in prop::collection::vec((0..3usize, 0..WHEN.len(), 0..EFFECTS.len()), 0..4),
        requests in requests(),
        half in 0..60usize,
    ) {
        let (old, new) = (config(&rules(&old)), config(&rules(&new)));
        let together = rehearsed(&old, &new, &requests);
        prop_assert_eq!(together.requests, requests.len() as u64);
        prop_assert!(together.distinct <= together.requests);
        prop_assert_eq!(together.unsure_requests, 0, "the log tells everything that these rules ask for");
        let mut alone = Touched::new();
        for request in &requests {
            for (key, (count, bytes)) in changes(&rehearsed(&old, &new, &[*request])) {
                let known = alone.entry(key).or_default();
                *known = (known.0 + count, known.1 + bytes);
            }
        }
        prop_assert_eq!(changes(&together), alone);

        let (folder, around) = (folder(), Surroundings::new(TimeZone::UTC));
        let begin = || Rehearsal::new((&old, &folder), (&new, &folder), &around);
        let (mut first, mut second) = (begin(), begin());
        let half = half.min(requests.len());
        requests[..half].iter().for_each(|request| first.take(request));
        requests[half..].iter().for_each(|request| second.take(request));
        let merged = first.merge(second).finish();
        prop_assert_eq!(changes(&merged), changes(&together));
        prop_assert_eq!(merged.sites, together.sites);
    }

    /// The same configuration, however it is written, changes nothing for anybody.
    #[test]
    fn nothing_differs_where_nothing_was_changed(
        written in prop::collection::vec((0..3usize, 0..WHEN.len(), 0..EFFECTS.len()), 0..5),
        requests in requests(),
    ) {
        let written = rules(&written);
        let outcome = rehearsed(&config(&written), &config(&format!("# the same\n\n{written}")), &requests);
        prop_assert!(outcome.groups.is_empty(), "{:?}", outcome.groups);
        prop_assert_eq!(outcome.unchanged, outcome.requests);
    }
}

fn get(path: &'static str) -> RecordedRequest<'static> {
    RecordedRequest {
        time: 1_794_600_000_000,
        site: Some("harbour"),
        client: Some("192.0.2.1"),
        method: Some("GET"),
        scheme: Some("http"),
        host: Some("harbour.example"),
        path: Some(path),
        agent: Some(PERSON),
        status: 200,
        bytes: 5_000,
        ..RecordedRequest::default()
    }
}

#[rstest]
#[case::found(
    "",
    "path = \"/old\"\nredirect = \"/a.html\"",
    "/old",
    AnswerChange::Found,
    "404",
    "307 to /a.html (200)"
)]
#[case::lost("", "path = \"/a.html\"\nserve = \"/none\"", "/a.html", AnswerChange::Lost, "200", "404")]
#[case::refused("", "path = \"/a.html\"\nrefuse = 403", "/a.html", AnswerChange::Refused, "200", "403")]
#[case::asked("", "path = \"/a.html\"\nlogin = \"staff\"", "/a.html", AnswerChange::LoginAsked, "200", "401")]
#[case::let_in("path = \"/a.html\"\nrefuse = 403", "", "/a.html", AnswerChange::LetIn, "403", "200")]
#[case::redirected(
    "",
    "path = \"/a.html\"\nredirect = \"/b.html\"",
    "/a.html",
    AnswerChange::Redirected,
    "200",
    "307 to /b.html (200)"
)]
#[case::to_missing(
    "",
    "path = \"/a.html\"\nredirect = \"/none\"",
    "/a.html",
    AnswerChange::RedirectedToMissing,
    "200",
    "307 to /none (404)"
)]
#[case::other_content(
    "",
    "path = \"/a.html\"\nserve = \"/b.html\"",
    "/a.html",
    AnswerChange::OtherContent,
    "200 /a.html",
    "200 /b.html"
)]
#[case::kept(
    "",
    "path = \"/a.html\"\ncache = \"1 hour\"",
    "/a.html",
    AnswerChange::Caching,
    "no lifetime",
    "max-age=3600"
)]
#[case::fields(
    "",
    "path = \"/a.html\"\nheaders = { X-A = \"b\" }",
    "/a.html",
    AnswerChange::Fields,
    "200",
    "200"
)]
#[case::gone("", "path = \"/none\"\ngone = true", "/none", AnswerChange::OtherStatus, "404", "410")]
fn each_difference_is_told_for_what_it_means(
    #[case] before: &str,
    #[case] after: &str,
    #[case] path: &'static str,
    #[case] change: AnswerChange,
    #[case] was: &str,
    #[case] will_be: &str,
) {
    let rule = |text: &str| if text.is_empty() { String::new() } else { format!("[[site.rules]]\n{text}\n") };
    let outcome = rehearsed(&config(&rule(before)), &config(&rule(after)), &[get(path)]);
    let [group] = &*outcome.groups else { panic!("{:?}", outcome.groups) };
    let example = &group.examples[0];
    assert_eq!((group.change, &*example.before, &*example.after), (change, was, will_be));
    assert_eq!((group.cause.is_new, group.people), (before.is_empty(), 1));
    assert!(group.cause.what.contains("rule 1") && group.cause.line.is_some(), "{:?}", group.cause);
    assert_eq!(outcome.is_worse_for_somebody(), change.is_worse());
}

#[test]
fn a_loop_is_found_by_following_it() {
    let around = "[[site.rules]]\npath = \"/a.html\"\nredirect = \"/b.html\"\n";
    let back = format!("{around}[[site.rules]]\npath = \"/b.html\"\nredirect = \"/a.html\"\n");
    let outcome = rehearsed(&config(around), &config(&back), &[get("/a.html"), get("/b.html")]);
    // The first is sent to the second as before: that it goes on from there is the second's.
    let [group] = &*outcome.groups else { panic!("{:?}", outcome.groups) };
    assert_eq!((group.change, group.requests, outcome.new_failures()), (AnswerChange::RedirectLoop, 1, 1));
}

#[rstest]
#[case::a_rule_of_its_own(
    "",
    "when = { cookie = { tongue = true } }\nredirect = \"/b.html\"",
    Some("the cookie `tongue`")
)]
#[case::the_same_rule(
    "when = { cookie = { tongue = true } }\nredirect = \"/b.html\"",
    "when = { cookie = { tongue = true } }\nredirect = \"/b.html\"",
    None
)]
#[case::in_a_target(
    "",
    "path = \"/a.html\"\nredirect = \"/{cookie:tongue}.html\"",
    Some("the cookie `tongue`")
)]
#[case::known_after_all("", "when = { agent = \"Kiosk/*\" }\nredirect = \"/b.html\"", None)]
fn what_the_log_does_not_hold_is_not_guessed(
    #[case] before: &str,
    #[case] after: &str,
    #[case] lacking: Option<&str>,
) {
    let rule = |text: &str| if text.is_empty() { String::new() } else { format!("[[site.rules]]\n{text}\n") };
    let outcome = rehearsed(&config(&rule(before)), &config(&rule(after)), &[get("/a.html"), get("/b.html")]);
    let found: Vec<&str> = outcome.unsure.iter().map(|unsure| &*unsure.lacking).collect();
    assert_eq!(found, Vec::from_iter(lacking), "{outcome:?}");
    assert_eq!(outcome.changed, 0);
}

/// Without the scheme in the log, nobody can tell who would be sent to HTTPS.
#[test]
fn a_common_log_does_not_say_by_which_scheme_somebody_came() {
    let required = HEAD.replace("folder = \"h\"", "folder = \"h\"\nhttps = \"required\"");
    let required = understand(
        &format!("{required}[[listener]]\naddress = \"127.0.0.1:7343\"\nhttps = true\n"),
        Path::new(""),
    )
    .unwrap();
    let common = RecordedRequest { scheme: None, host: None, ..get("/a.html") };
    let outcome = rehearsed(&config(""), &required, &[common, get("/a.html")]);
    assert_eq!((outcome.unsure_requests, &*outcome.unsure[0].lacking), (1, "the scheme"));
    assert_eq!(outcome.groups[0].change, AnswerChange::Redirected);
}

#[test]
fn limits_and_lifetimes_are_played_through_in_time() {
    let second = |second: i64, path| RecordedRequest { time: 1_794_600_000_000 + second * 1000, ..get(path) };
    let hurried: Vec<RecordedRequest<'_>> = (0..60).map(|nth| second(nth, "/a.html")).collect();
    let limit = "[[site.rules]]\nname = \"slow\"\nlimit = { requests = \"6 a minute\", at_once = 10 }\n";
    let outcome = rehearsed(&config(""), &config(limit), &hurried);
    let [group] = &*outcome.groups else { panic!("{:?}", outcome.groups) };
    // Ten at once, and one every ten seconds of a minute.
    assert_eq!((group.change, group.requests, group.people), (AnswerChange::Limited, 60 - 10 - 5, 1));
    assert!(group.cause.what.contains("slow"));
    assert_eq!(outcome.changed, group.requests);
    let lifted = rehearsed(&config(limit), &config(""), &hurried);
    assert_eq!(lifted.groups[0].change, AnswerChange::Unlimited);

    let cache = "[[site.rules]]\npath = \"/a.html\"\ncache = \"30 seconds\"\n";
    let kept = rehearsed(&config(""), &config(cache), &hurried);
    assert_eq!(
        (kept.groups[0].change, kept.groups[0].spared),
        (AnswerChange::Caching, 58),
        "one each half minute is made"
    );
    assert!(kept.groups[0].bytes_after < kept.groups[0].bytes_before / 10);
}

/// Whoever was sent something compressed once takes it again; of others nobody knows.
#[test]
fn compression_is_rehearsed_for_those_who_take_it() {
    let off = "codecs = []\n";
    let program = |encoding| RecordedRequest { agent: Some("Kiosk"), encoding, ..get("/a.html") };
    let outcome = rehearsed(&config(""), &config(off), &[program(Some("br")), program(None), get("/a.html")]);
    let [group] = &*outcome.groups else { panic!("{:?}", outcome.groups) };
    assert_eq!((group.change, group.requests, group.people), (AnswerChange::Compression, 2, 1));
    // Of a program that never was sent anything compressed nobody knows; every browser takes it.
    assert_eq!(
        (outcome.unsure_requests, &*outcome.unsure[0].lacking),
        (1, "the codings that the client takes")
    );
    assert_eq!((&*group.examples[0].before, &*group.examples[0].after), ("br", "uncompressed"));
    assert!(group.cause.what.contains("compress"), "{:?}", group.cause);
}

/// A rule that does not fit has been asked all the same: what depends on who asks is kept by no cache for others.
#[test]
fn a_rule_that_only_asks_is_named_for_what_it_costs() {
    let rule = "[[site.rules]]\nname = \"slow\"\nwhen = { client = \"203.0.113.9\" }\nlimit = { requests = \"1 a minute\", at_once = 5 }\n";
    let outcome = rehearsed(&config(""), &config(rule), &[get("/a.html"), get("/b.html")]);
    let [group] = &*outcome.groups else { panic!("{:?}", outcome.groups) };
    assert_eq!((group.change, &*group.cause.what), (AnswerChange::Caching, "the rule `slow`"));
    assert_eq!((&*group.examples[0].before, &*group.examples[0].after), ("no lifetime", "private"));
}
