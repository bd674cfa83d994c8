//! Mistakes that are found before visitors find them: each with its message as people read it, and the law that what
//! is not complained about does not lead in circles.

use exedra_answering::answer::listing::Listed;
use exedra_answering::answer::{Entry, FileFacts, Folder, Found, Question, Tree, answer};
use exedra_answering::check;
use exedra_answering::check::journey::{Journey, follow};
use exedra_answering::check::probe::Probe;
use exedra_answering::config::diagnostic::draw;
use exedra_answering::config::{Companions, Config, Diagnostic, Sources, understand, understand_with};
use exedra_answering::facts::Scheme;
use proptest::prelude::*;
use rstest::rstest;
use std::convert::Infallible;
use std::path::{Path, PathBuf};
use std::sync::Arc;

const HEAD: &str = r#"[[listener]]
address = "127.0.0.1:7380"
[[listener]]
address = "127.0.0.1:7343"
https = true
public_port = 443
[[realm]]
name = "staff"
users = "staff.toml"
[[site]]
name = "harbour"
hosts = ["harbour.example", "www.harbour.example"]
main_host = "harbour.example"
folder = "h"
"#;

/// Whatever ends like a file is one.
struct ByName;

impl Folder for ByName {
    type Missing = Infallible;

    fn entry(&self, question: &Question) -> Result<Found, Infallible> {
        let path = question.path.as_str();
        let entry = match path.ends_with(".html") || path.ends_with(".pdf") {
            true => Entry::File(FileFacts { size: 10, modified: 0, stamp: 0 }),
            false if path.is_empty() => Entry::Folder,
            false => Entry::Missing,
        };
        Ok(Found::Entry(entry))
    }

    fn names(&self, _: &Question) -> Result<Result<Arc<[Listed]>, Entry>, Infallible> {
        Ok(Ok(Arc::from([])))
    }
}

fn checked(text: &str) -> Vec<Diagnostic> {
    match understand(text, Path::new("")) {
        Ok(config) => check::check(&config, &ByName, &[], None),
        Err(found) => found,
    }
}

#[rstest]
#[case::sent_to_itself_for_want_of_the_scheme(
    "[[site.rules]]\nname = \"staff by HTTPS\"\npath = \"/staff/{*}\"\nredirect = \"https://{host}{path}\"\n"
)]
#[case::two_rules_in_a_circle(
    "[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/b/{rest}\"\n[[site.rules]]\npath = \"/b/{rest*}\"\nwhen = { parameter = { season = \"winter\" } }\nredirect = \"/a/{rest}\"\n"
)]
#[case::further_and_further("[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/a/b/{rest}\"\n")]
#[case::a_dot_that_fits_anything("[[site.rules]]\npath = { regex = \"/tide.html\" }\nrefuse = 403\n")]
#[case::a_path_without_its_first_slash(
    "[[site.rules]]\npath = \"tides/{day}\"\nredirect = \"/tide/{day}.html\"\n"
)]
#[case::a_target_without_its_first_slash(
    "[[site.rules]]\npath = \"/tides/{day}\"\nredirect = \"tide/{day}.html\"\n"
)]
#[case::a_target_that_the_client_chooses("[[site.rules]]\npath = \"/out/{rest*}\"\nredirect = \"{rest}\"\n")]
#[case::a_host_that_the_client_chooses(
    "[[site.rules]]\npath = \"/out/{rest*}\"\nredirect = \"https://{rest}\"\n"
)]
#[case::a_target_with_two_slashes("[[site.rules]]\npath = \"/out/{rest*}\"\nredirect = \"//{rest}\"\n")]
#[case::a_query_where_none_can_be("[[site.rules]]\npath = \"/list?page=1\"\nserve = \"/list.html?page=1\"\n")]
#[case::a_query_lost_on_purpose_but_misspelt(
    "[[site.rules]]\npath = \"/list\"\nredirect = \"/list.html\"\nquery = \"lose\"\n"
)]
#[case::for_good_at_once(
    "[[site.rules]]\nname = \"notices moved\"\npath = \"/mariners/{rest*}\"\nredirect = \"/notices.html\"\nstatus = 308\n"
)]
#[case::an_error_page_behind_the_password(
    "error_pages = { 401 = \"/staff/sign-in.html\" }\n[[site.rules]]\npath = \"/staff/{*}\"\nlogin = \"staff\"\n"
)]
#[case::never_fires(
    "[[site.rules]]\nname = \"all papers\"\npath = \"/papers/{*}\"\nrefuse = 403\n[[site.rules]]\nname = \"one paper\"\npath = \"/papers/plan.pdf\"\nwhen = { method = \"GET\" }\nredirect = \"/plan.pdf\"\n"
)]
#[case::sent_on_again(
    "[[site.rules]]\npath = \"/old\"\nredirect = \"/older\"\n[[site.rules]]\npath = \"/older\"\nredirect = \"/new.html\"\n"
)]
#[case::sent_to_nothing("[[site.rules]]\npath = \"/old\"\nredirect = \"/nowhere\"\n")]
#[case::round_the_guard(
    "[[site.rules]]\nname = \"staff only\"\npath = \"/staff/{*}\"\nlogin = \"staff\"\n[[site.rules]]\nname = \"rota\"\npath = \"/rota\"\nserve = \"/staff/rota.html\"\n"
)]
#[case::two_answers("[[site.rules]]\npath = \"/a\"\nredirect = \"/b.html\"\ngone = true\n")]
#[case::nothing_happens("[[site.rules]]\npath = \"/a\"\nwhen = { method = \"GET\" }\n")]
#[case::a_fact_there_is_not("[[site.rules]]\nwhen = { agnt = \"Bad*\" }\nrefuse = 403\n")]
#[case::an_address_that_is_none(
    "[[site.rules]]\nwhen = { client = [\"203.0.113.0/24\", \"!203.0.113\"] }\nrefuse = 403\n"
)]
#[case::a_capture_there_is_not(
    "[[site.rules]]\npath = \"/m/{year}/{rest*}\"\nredirect = \"/n/{yaer}/{rest}\"\n"
)]
#[case::a_realm_there_is_not("[[site.rules]]\npath = \"/staff/{*}\"\nlogin = \"stuff\"\n")]
#[case::a_limit_without_a_time("[[site.rules]]\nlimit = { requests = \"5\" }\n")]
fn mistakes(#[case] rules: &str) {
    let text = format!("{HEAD}{rules}");
    let found = checked(&text);
    assert!(!found.is_empty());
    let name =
        std::thread::current().name().unwrap_or_default().split("::").last().unwrap_or_default().to_owned();
    let name = name.splitn(3, '_').nth(2).unwrap_or_default().to_owned();
    insta::assert_snapshot!(name, draw(&found, &Sources::one("exedra.toml", &text), false));
}

#[test]
fn what_is_right_is_not_complained_about() {
    let rules = "https = \"required\"\n\
        [[site.rules]]\npath = \"/mariners/{year}/{rest*}\"\nredirect = \"/notices/{year}/{rest}\"\n\
        [[site.rules]]\npath = \"/staff/{*}\"\nwhen = { scheme = \"http\" }\nredirect = \"https://{host}{path}\"\n\
        [[site.rules]]\npath = \"/staff/{*}\"\nlogin = \"staff\"\n\
        [[site.rules]]\nwhen = { client = [\"203.0.113.0/24\", \"!203.0.113.7\"] }\nrefuse = 403\n\
        [[site.rules]]\npath = \"/assets/{*}\"\ncache = \"1 year\"\nheaders = { X-Content-Type-Options = \"nosniff\" }\n\
        [[site.rules]]\npath = { regex = \"/n/[0-9]+(\\\\.html)?\" }\nredirect = \"/plan.pdf\"\n";
    let text = format!("{HEAD}{rules}");
    let found = checked(&text);
    assert!(found.is_empty(), "{}", draw(&found, &Sources::one("exedra.toml", &text), false));
}

#[test]
fn a_redirect_that_was_in_force_for_good_is_no_longer_new() {
    let text = format!("{HEAD}[[site.rules]]\npath = \"/a\"\nredirect = \"/b.html\"\nstatus = 308\n");
    let config = understand(&text, Path::new("")).unwrap();
    assert_eq!(check::check(&config, &ByName, &[], None).len(), 1);
    assert_eq!(check::check(&config, &ByName, &[], Some(&config)), []);
}

/// A few rules over a small alphabet of segments, with and without conditions.
fn rules() -> impl Strategy<Value = String> {
    let segment = || prop_oneof![3 => Just("a"), 3 => Just("b"), 1 => Just("c")];
    let path = prop_oneof![
        segment().prop_map(|one| (format!("/{one}"), vec![])),
        (segment(), segment()).prop_map(|(one, two)| (format!("/{one}/{two}"), vec![])),
        segment().prop_map(|one| (format!("/{one}/{{x}}"), vec!["x"])),
        segment().prop_map(|one| (format!("/{{x}}/{one}"), vec!["x"])),
        Just(("/{x}/{y}".to_owned(), vec!["x", "y"])),
        segment().prop_map(|one| (format!("/{one}/{{x*}}"), vec!["x"])),
        segment().prop_map(|one| (format!("/{one}{{x*}}"), vec!["x"])),
    ];
    let when = prop_oneof![
        5 => Just(""),
        1 => Just("when = { scheme = \"http\" }\n"),
        1 => Just("when = { parameter = { s = \"w\" } }\n"),
        1 => Just("when = { cookie = { t = true } }\n"),
        1 => Just("when = { host = \"www.*\" }\n"),
        1 => Just("when = { agent = \"!Bad*\" }\n"),
    ];
    let target = (any::<prop::sample::Index>(), segment(), segment(), any::<bool>());
    let rule = (path, when, target, any::<bool>()).prop_map(
        |((path, names), when, (nth, one, two, https), serve)| {
            let mut targets = vec![format!("/{one}"), format!("/{one}/{two}")];
            for name in &names {
                targets.push(format!("/{one}/{{{name}}}"));
                targets.push(format!("/{{{name}}}/{one}"));
                targets.push(format!("/{{{name}}}"));
            }
            if names.len() == 2 {
                targets.push("/{y}/{x}".to_owned());
            }
            let target = nth.get(&targets);
            match (serve && names.is_empty(), https) {
                (true, _) => format!("[[site.rules]]\npath = \"{path}\"\n{when}serve = \"{target}\"\n"),
                (false, true) => format!(
                    "[[site.rules]]\npath = \"{path}\"\n{when}redirect = \"https://{{host}}{target}\"\n"
                ),
                (false, false) => {
                    format!("[[site.rules]]\npath = \"{path}\"\n{when}redirect = \"{target}\"\n")
                }
            }
        },
    );
    prop::collection::vec(rule, 1..5).prop_map(|rules| rules.concat())
}

/// A request to one of the hosts, with or without what conditions ask for.
fn request() -> impl Strategy<Value = (bool, bool, bool, bool, String)> {
    let path = "(/[abcx]{1,2}){1,4}";
    (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), path)
}

fn probe(config: &Config, (https, www, winter, cookie, path): &(bool, bool, bool, bool, String)) -> Probe {
    let scheme = if *https { Scheme::Https } else { Scheme::Http };
    let host = if *www { "www.harbour.example" } else { "harbour.example" };
    let text = format!("{HEAD}[[site.rules]]\nwhen = {{ cookie = {{ t = \"1\" }} }}\nrefuse = 403\n");
    let asking = understand(&text, Path::new("")).unwrap();
    let mut probe = Probe::of(host, scheme);
    if *cookie {
        probe = probe.asked_by(&asking.sites[0].rules.written()[0]);
    }
    probe.path = path.clone();
    probe.query = winter.then(|| "s=w".to_owned());
    let Ok((answer, ())) = answer(config, probe.facts()).by(&ByName);
    assert!(answer.status.as_u16() > 0);
    probe
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn what_is_not_complained_about_leads_nobody_in_circles(
        rules in rules(),
        required in any::<bool>(),
        requests in prop::collection::vec(request(), 60),
    ) {
        let https = if required { "https = \"required\"\n" } else { "" };
        let text = format!("{HEAD}{https}{rules}");
        let Ok(config) = understand(&text, Path::new("")) else { return Ok(()) };
        let found = check::check(&config, &ByName, &[], Some(&config));
        let complains = found.iter().any(|diagnostic| diagnostic.message.contains("redirect loop"));
        if !complains {
            for request in &requests {
                let journey = follow(&config, probe(&config, request), &ByName);
                prop_assert!(!matches!(journey, Journey::Endless(_)), "{text}\n{journey:?}");
            }
        }
    }
}

/// A site with some folders and files, for guards.
fn peopled() -> Tree {
    Tree::default().file("a.html", 10).file("staff/rota é.html", 10).file("staff/7/x", 10)
}

fn errors_of_guard(path: &str, effect: &str) -> Vec<Diagnostic> {
    let text = format!("{HEAD}[[site.rules]]\npath = {path}\n{effect}\n");
    let found = match understand(&text, Path::new("")) {
        Ok(config) => check::check(&config, &peopled(), &[], None),
        Err(found) => found,
    };
    found.into_iter().filter(Diagnostic::is_error).collect()
}

#[rstest]
#[case::star("/staff/*", "login", Some("/staff/{*}"))]
#[case::colon("/staff/:id/x", "login", Some("/staff/{id}/x"))]
#[case::star_of_nothing("/staff/*/*.html", "login", Some("/staff/{part1}/{part2}.html"))]
#[case::folder_alone("/staff/", "login", Some("/staff/{*}"))]
#[case::folder_without_slash("/staff", "login", Some("/staff/{*}"))]
#[case::front_page_alone("/", "login", Some("/{*}"))]
#[case::misspelt("/staf/{*}", "login", Some("/staff/{*}"))]
#[case::misspelt_refusal("/staf/{*}", "refuse", Some("/staff/{*}"))]
#[case::misspelt_limit("/b.html", "limit", Some("/a.html"))]
#[case::deeper("/staff/{name}/x", "login", None)]
#[case::encoded("/staff/rota %C3%A9.html", "login", None)]
#[case::everything("/{*}", "limit", None)]
#[case::front_page_limited("/", "limit", None)]
#[case::regex("regex:/staff/[0-9]/x", "login", None)]
#[case::hidden("/.git/{*}", "refuse", None)]
fn a_guard_guards_something_and_what_is_advised_passes(
    #[case] path: &str,
    #[case] effect: &str,
    #[case] advised: Option<&str>,
) {
    let effect = match effect {
        "login" => "login = \"staff\"",
        "refuse" => "refuse = 403",
        _ => "limit = { requests = \"1 a second\", at_once = 5 }",
    };
    let written = match path.strip_prefix("regex:") {
        Some(regex) => format!("{{ regex = '{regex}' }}"),
        None => format!("{path:?}"),
    };
    let mut found = errors_of_guard(&written, effect);
    let Some(advised) = advised else {
        assert_eq!(found, []);
        return;
    };
    // Advice may uncover what else is wrong, until nothing is.
    let mut advice = Vec::new();
    while let Some(first) = found.first() {
        let remedy = first.remedy.clone().unwrap();
        let quoted = remedy.split('"').nth(1).unwrap_or_else(|| panic!("{remedy}")).to_owned();
        found = errors_of_guard(&format!("{quoted:?}"), effect);
        advice.push(quoted);
        if advice.len() > 3 || advice.last().is_some_and(|last| last == advised) {
            break;
        }
    }
    assert_eq!(advice.last().map(String::as_str), Some(advised));
    assert!(found.is_empty() || path.contains("*.html"), "{found:?}");
}

/// A list of redirects beside the configuration.
struct Beside(String);

impl Companions for Beside {
    fn read(&self, _: &Path) -> Result<Arc<String>, String> {
        Ok(Arc::new(self.0.clone()))
    }

    fn matching(&self, _: &Path) -> Result<Vec<PathBuf>, String> {
        Ok(Vec::new())
    }
}

fn of_list(list: &str) -> (Config, Vec<Diagnostic>) {
    let beside = Beside(list.to_owned());
    let text = format!("{HEAD}redirects = \"moved.csv\"\n");
    let config = understand_with("exedra.toml", &text, Path::new(""), &beside).unwrap();
    let found = check::check(&config, &ByName, &[], None);
    (config, found)
}

#[test]
fn of_very_many_redirects_circles_and_doubles_are_all_found_and_the_rest_is_counted() {
    let mut lines: Vec<String> = (0..60_000).map(|number| format!("/old/{number},/none/{number}")).collect();
    lines[20_001] = "/round,/about".to_owned();
    lines[40_001] = "/about,https://harbour.example/round?x".to_owned();
    lines[40_003] = "/first,/second".to_owned();
    lines[50_002] = "\"/second\",/there.html".to_owned();
    lines[50_003] = "/old/7,/there.html".to_owned();
    let (config, found) = of_list(&lines.join("\n"));
    let about = |words: &str| found.iter().filter(|one| one.message.contains(words)).collect::<Vec<_>>();
    let circles = about("redirect loop");
    assert!(circles.len() == 2 && circles.iter().all(|one| one.is_error()), "{circles:?}");
    assert_eq!(config.sources.line(&circles[0].span).unwrap(), ("moved.csv", 20_002));
    assert_eq!(about("`moved /first` begins a redirect chain").len(), 1);
    let double = about("`moved /old/7` can never fire");
    assert!(double[0].reason.contains("line 8"), "{double:?}");
    let said = about("redirects from this file");
    assert!(said.len() == 1 && said[0].message.contains("of 60000"), "what is not done is said: {said:?}");
    // The same thousands of times is told a hundred times, and counted.
    let nothing = about("redirects to a missing page");
    let count: usize = nothing.iter().map(|one| 1 + one.also).sum();
    assert!(nothing.len() == 100 && (19_990..=20_000).contains(&count), "{} {count}", nothing.len());
    // Nothing else is said: what is for good and new, once.
    assert_eq!(found.len(), 2 + 1 + 1 + 1 + 100 + 1);
}

#[rstest]
#[case("/a", "1 of at least two fields")]
#[case("a,/b", "begin with one slash")]
#[case("/a,b", "")]
#[case("/a,//b", "two slashes")]
#[case("/a,/b,404", "302")]
#[case("/a,\"/b\n/c,/d", "a quotation mark is not closed")]
fn what_is_wrong_in_a_list_is_said_with_its_line(#[case] line: &str, #[case] reason: &str) {
    let beside = Beside(format!("old,new\n# moved in spring\n\n/x,/y.html\n{line}\n"));
    let text = format!("{HEAD}redirects = \"moved.csv\"\n");
    let (found, sources) = understand_with("exedra.toml", &text, Path::new(""), &beside).unwrap_err();
    assert!(found[0].reason.contains(reason), "{found:?}");
    assert_eq!(sources.line(&found[0].span).unwrap(), ("moved.csv", 5));
}

/// What is found wrong with some rules: whether it is an error, and the message.
fn messages(rules: &str) -> Vec<(bool, String)> {
    checked(&format!("{HEAD}{rules}")).into_iter().map(|found| (found.is_error(), found.message)).collect()
}

fn go_round(rules: &str) -> bool {
    messages(rules).iter().any(|(_, message)| message.contains("redirect loop"))
}

/// What a regular expression wants may be what another rule captures, and the circle may be open to some clients only.
#[rstest]
#[case::behind_a_regex(
    "[[site.rules]]\npath = \"/tides/{day}\"\nredirect = \"/t/{day}\"\n[[site.rules]]\npath = { regex = \"/t/(?<day>20[0-9]{2}-[0-9]{2})\" }\nredirect = \"/tides/{day}\"\n"
)]
#[case::behind_one_of_many(
    "[[site.rules]]\npath = { regex = \"/(fo|da|en|no|sv|is|de|fr|nl|kl)/(?<rest>.*)\" }\nredirect = \"/x/{rest}\"\n[[site.rules]]\npath = \"/x/{rest*}\"\nredirect = \"/kl/{rest}\"\n"
)]
#[case::behind_a_refusal_of_most(
    "[[site.rules]]\npath = \"/a/{*}\"\nwhen = { client = \"!198.51.100.0/24\" }\nrefuse = 403\n[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/b/{rest}\"\n[[site.rules]]\npath = \"/b/{rest*}\"\nredirect = \"/a/{rest}\"\n"
)]
#[case::by_night(
    "[[site.rules]]\npath = \"/a/{*}\"\nwhen = { hour = \"6-21\" }\nrefuse = 403\n[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/b/{rest}\"\n[[site.rules]]\npath = \"/b/{rest*}\"\nredirect = \"/a/{rest}\"\n"
)]
#[case::by_another_protocol(
    "[[site.rules]]\npath = \"/a/{*}\"\nwhen = { protocol = \"HTTP/1.1\" }\nrefuse = 403\n[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/b/{rest}\"\n[[site.rules]]\npath = \"/b/{rest*}\"\nredirect = \"/a/{rest}\"\n"
)]
#[case::for_those_who_say_nothing(
    "[[site.rules]]\npath = \"/a/{*}\"\nwhen = { field = { Accept = true } }\ngone = true\n[[site.rules]]\npath = \"/a/{rest*}\"\nredirect = \"/b/{rest}\"\n[[site.rules]]\npath = \"/b/{rest*}\"\nredirect = \"/a/{rest}\"\n"
)]
fn circles_that_only_some_come_into(#[case] rules: &str) {
    assert!(go_round(rules), "{:?}", messages(rules));
}

/// `/old/older` is an address that nobody has: it is no chain that `/older` leads on.
#[test]
fn nobody_is_sent_on_by_addresses_that_are_made_up() {
    let strips = "[[site.rules]]\npath = \"/old/{rest*}\"\nredirect = \"/{rest}\"\n[[site.rules]]\npath = \"/older\"\nredirect = \"/new.html\"\n";
    assert!(
        !messages(strips).iter().any(|(_, message)| message.contains("redirect chain")),
        "{:?}",
        messages(strips)
    );
    let chain = "[[site.rules]]\npath = \"/old/{rest*}\"\nredirect = \"/{rest}\"\n[[site.rules]]\npath = \"/{one}\"\nredirect = \"/b/{one}\"\n";
    assert!(
        messages(chain).iter().any(|(_, message)| message.contains("redirect chain")),
        "{:?}",
        messages(chain)
    );
}

/// A rule that never fires is told so once, and nothing else of it; whatever it is called.
#[rstest]
#[case("moved /papers/plan.pdf")]
#[case("one paper")]
fn what_never_fires_is_blamed_for_nothing_else(#[case] name: &str) {
    let rules = format!(
        "[[site.rules]]\nname = \"all\"\npath = \"/papers/{{*}}\"\nrefuse = 403\n[[site.rules]]\nname = \"{name}\"\npath = \"/papers/plan.pdf\"\nredirect = \"/plan\"\n[[site.rules]]\npath = \"/plan\"\nredirect = \"/plan.pdf\"\n"
    );
    let of_it: Vec<_> = messages(&rules).into_iter().filter(|(_, message)| message.contains(name)).collect();
    assert_eq!(of_it, [(true, format!("`{name}` can never fire"))]);
}
