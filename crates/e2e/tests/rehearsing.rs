//! A rehearsal says what would be served: the same requests sent to the site under both configurations are answered as it said.

use exedra_e2e::{Place, Program, client, drawn, exedra, field, text, until};
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use reqwest::Method;
use reqwest::blocking::Client;
use serde_json::{Value, json};
use std::collections::HashMap;

const PERSON: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
const PATHS: [&str; 9] = [
    "/",
    "/a.html",
    "/b.html",
    "/deep/c.html",
    "/deep",
    "/deep/",
    "/none",
    "/old/a.html",
    "/old/deep/c.html",
];
const RULES: [&str; 14] = [
    "path = \"/old/{rest*}\"\nredirect = \"/{rest}\"",
    "path = \"/a.html\"\nredirect = \"/b.html\"\nstatus = 308",
    "path = \"/b.html\"\nredirect = \"https://elsewhere.example/b\"",
    "path = \"/{name}.html\"\nserve = \"/deep/c.html\"",
    "path = \"/deep/{*}\"\nrefuse = 403",
    "path = \"/none\"\ngone = true",
    "when = { agent = \"Kiosk/*\" }\nredirect = \"/deep/\"",
    "when = { client = \"198.51.100.0/25\" }\ncache = \"1 hour\"",
    "when = { referrer = \"https://forum.example/*\" }\nrefuse = 403",
    "when = { parameter = { day = \"1\" } }\nredirect = \"/deep/?day=2\"",
    "path = \"/a.html\"\ncache = \"2 days\"",
    "path = \"/deep/{*}\"\nlisting = true",
    "path = \"/{name}.html\"\nheaders = { X-Name = \"{name} {host}\" }",
    "when = { method = \"HEAD\" }\ncache = \"never\"",
];

/// One request that is sent.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
struct Sent {
    method: &'static str,
    host: &'static str,
    path: &'static str,
    query: &'static str,
    client: &'static str,
    agent: &'static str,
    referrer: &'static str,
}

impl Sent {
    fn random(random: &mut StdRng) -> Self {
        let mut of = |all: &[&'static str]| *all.choose(random).unwrap();
        Sent {
            method: of(&["GET", "GET", "GET", "HEAD"]),
            host: of(&["harbour.example", "harbour.example", "www.harbour.example", "lamp.example"]),
            path: of(&PATHS),
            query: of(&["", "", "?day=1", "?day=2&x=y"]),
            client: of(&["198.51.100.1", "198.51.100.200", "192.0.2.9"]),
            agent: of(&[PERSON, "Kiosk/3"]),
            referrer: of(&["", "https://forum.example/t/1"]),
        }
    }

    /// What whoever sent it sees of the answer.
    fn send(&self, program: &Program, http: &Client) -> String {
        let address = format!("http://{}{}{}", program.sites, self.path, self.query);
        let method = Method::from_bytes(self.method.as_bytes()).unwrap();
        let mut request = http
            .request(method, address)
            .header("host", self.host)
            .header("forwarded", format!("for={}", self.client))
            .header("user-agent", self.agent);
        if !self.referrer.is_empty() {
            request = request.header("referer", self.referrer);
        }
        let answer = request.send().unwrap();
        let fields = ["location", "cache-control", "x-name", "content-type", "etag"]
            .map(|name| field(&answer, name).to_owned());
        let status = answer.status().as_u16();
        // Ports are the listener's; the log does not hold them.
        let port = program.sites.rsplit(':').next().unwrap();
        let fields = fields.join(" ").replace(&format!(":{port}"), "");
        // A page made here may say when; what it is called is enough.
        let body = answer.text().unwrap();
        let body = if status == 200 { body } else { String::new() };
        format!("{status} {fields} {body}")
    }
}

fn rules(random: &mut StdRng) -> String {
    let count = random.random_range(0..5);
    (0..count).map(|_| format!("[[site.rules]]\n{}\n", RULES.choose(random).unwrap())).collect()
}

/// A place with some files, and rules of its second site.
fn place(files: &[&str], rules: &str) -> Place {
    let place = Place::new();
    for file in files {
        for site in ["harbour", "lamp"] {
            place.write(&format!("{site}{file}"), &format!("<h1>{file} of {site}</h1>"));
        }
    }
    place.configure(rules);
    place
}

#[test]
fn what_is_rehearsed_is_what_is_served() {
    let (http, mut differing) = (client(), 0);
    for seed in 0..14 {
        let mut random = StdRng::seed_from_u64(seed);
        let files: Vec<&str> = ["/a.html", "/b.html", "/deep/c.html", "/deep/index.html"]
            .into_iter()
            .filter(|_| random.random_bool(0.7))
            .collect();
        let (mut before, after) = (rules(&mut random), rules(&mut random));
        let mut place = place(&files, &before);
        // What cannot come into force is nothing to begin with.
        while !exedra(&["check", "--config", &text(&place.config())]).status.success() {
            before = rules(&mut random);
            place = self::place(&files, &before);
        }
        let program = place.serve();
        let sent: Vec<Sent> = (0..80).map(|_| Sent::random(&mut random)).collect();
        let was: Vec<String> = sent.iter().map(|one| one.send(&program, &http)).collect();
        let of = |site: &str| sent.iter().filter(|one| one.host.contains(site)).count() as u64;
        for site in ["harbour", "lamp"] {
            until("all are recorded", || (program.recorded(site) == of(site)).then_some(()));
        }
        let config = std::fs::read_to_string(place.config()).unwrap();
        let main = format!("{}{after}", config.strip_suffix(&before).unwrap());
        let asked = program.call(Method::POST, "rehearsals", Some(&json!({ "main": main })));
        let rehearsed: Value = asked.json().unwrap();
        std::fs::write(place.config(), &main).unwrap();
        let reloaded = program.command(&place, &["reload"]);
        // Not every throw of rules can come into force; then nothing was rehearsed either.
        assert_eq!(reloaded.status.success(), rehearsed["is_sound"] == true, "{}", drawn(&reloaded));
        if rehearsed["is_sound"] != true {
            continue;
        }
        assert_eq!(rehearsed["outcome"]["requests"], 80, "{rehearsed}");
        assert_eq!(rehearsed["outcome"]["alike"], 80, "it was answered as the core answers it: {rehearsed}");
        let mut really: HashMap<String, u64> = HashMap::new();
        for (one, was) in sent.iter().zip(&was) {
            if one.send(&program, &http) != *was {
                *really.entry(one.path.to_owned()).or_default() += 1;
            }
        }
        let mut promised: HashMap<String, u64> = HashMap::new();
        for group in rehearsed["outcome"]["groups"].as_array().unwrap() {
            for example in group["examples"].as_array().unwrap() {
                let path = example["path"].as_str().unwrap().split('?').next().unwrap();
                *promised.entry(path.to_owned()).or_default() += example["requests"].as_u64().unwrap();
            }
        }
        assert_eq!(
            promised, really,
            "{seed}: {before}\n→\n{after}\n{:#}\n{files:?}",
            rehearsed["outcome"]["groups"]
        );
        differing += really.values().sum::<u64>();
    }
    assert!(differing > 100, "the throws differ enough to say something: {differing}");
}

/// A place whose site has been visited.
fn visited() -> (Place, Program) {
    let place = Place::new();
    let program = place.serve();
    for _ in 0..3 {
        program.get("harbour.example", "/tides/today.html");
        program.get("harbour.example", "/high-water");
    }
    until("all are recorded", || (program.recorded("harbour") == 6).then_some(()));
    (place, program)
}

fn changed(place: &Place, rule: &str) -> String {
    let text = std::fs::read_to_string(place.config()).unwrap();
    let at = text.find("\n[[site]]\nname = \"lamp\"").unwrap();
    place.write("changed.toml", &format!("{}\n[[site.rules]]\n{rule}\n{}", &text[..at], &text[at..]));
    exedra_e2e::text(&place.path("changed.toml"))
}

fn client_of(program: &Program, arguments: &[&str]) -> std::process::Output {
    exedra_e2e::exedra(&[arguments, &["--console", &program.console]].concat())
}

#[test]
fn the_client_says_who_would_be_worse_off_and_fails() {
    let (place, program) = visited();
    let well =
        changed(&place, "name = \"high water\"\npath = \"/high-water\"\nredirect = \"/tides/today.html\"");
    let told = client_of(&program, &["rehearse", "--config", &well]);
    let words = drawn(&told);
    assert!(told.status.success(), "{words}");
    for said in [
        "Found, was missing  3 requests",
        "the rule `high water`",
        "changed.toml:",
        "404 → 307 to /tides/today.html (200)",
        "Nobody would be worse off",
    ] {
        assert!(words.contains(said), "{said} in {words}");
    }
    let worse = changed(&place, "path = \"/tides/{*}\"\nrefuse = 403");
    let told = client_of(&program, &["rehearse", "--config", &worse, "--as", "csv"]);
    assert!(!told.status.success() || drawn(&told).contains("refused"), "{}", drawn(&told));
    let table = String::from_utf8(told.stdout).unwrap();
    assert!(table.lines().any(|line| line.contains("refused") && line.contains("rule 1")), "{table}");
    let mistaken = changed(&place, "path = \"/tides/{*}\"\nredirekt = \"/\"");
    let told = client_of(&program, &["rehearse", "--config", &mistaken]);
    let words = drawn(&told);
    assert!(!told.status.success() && words.contains("Nothing was rehearsed"), "{words}");
    assert!(words.contains("changed.toml:") && words.contains("redirekt"), "{words}");
    let well = changed(&place, "path = \"/high-water\"\nredirect = \"/tides/today.html\"");
    let narrowed = client_of(&program, &["rehearse", "--config", &well, "--only", "path=/nothing*"]);
    assert!(drawn(&narrowed).contains("no requests to rehearse"), "{}", drawn(&narrowed));
}

/// Nobody's agent is a person's here: a browser asks, so that somebody is worse off.
#[test]
fn it_fails_where_a_person_is_shut_out() {
    let place = Place::new();
    let program = place.serve();
    for _ in 0..2 {
        let asked = client().get(format!("http://{}/tides/today.html", program.sites));
        asked.header("host", "harbour.example").header("user-agent", PERSON).send().unwrap();
    }
    until("both are recorded", || (program.recorded("harbour") == 2).then_some(()));
    let worse = changed(&place, "path = \"/tides/{*}\"\nrefuse = 403");
    let told = client_of(&program, &["rehearse", "--config", &worse]);
    assert_eq!(told.status.code(), Some(1), "{}", drawn(&told));
    assert!(drawn(&told).contains("Refused  2 requests  1 person"), "{}", drawn(&told));
}
