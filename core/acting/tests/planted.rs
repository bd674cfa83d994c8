//! Twenty sites made from a seed, each with a fault of every kind planted among ordinary traffic: all are found, nothing else is told above
//! the threshold, and likely new addresses are right nine times out of ten.

use exedra_acting::findings::inventory::{FileSeen, PageSeen};
use exedra_acting::findings::{
    BurstSeen, Exposed, Finding, FindingCounts, FindingKind, Inventory, Seen, SiteMonth, SiteSeen, Standing,
    THRESHOLD, find, html,
};
use exedra_acting::remedy::applied;
use exedra_answering::answer::Tree;
use exedra_answering::config::{SiteId, understand};
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
use exedra_reading::prelude::{Minutes, Tallies, Trouble, preludes};
use jiff::tz::TimeZone;
use rand::rngs::StdRng;
use rand::seq::{IndexedRandom, SliceRandom};
use rand::{RngExt, SeedableRng};
use std::path::Path;

const SITES: u64 = 20;
const DAYS: i64 = 28;
const DAY: i64 = 86_400_000;
const BEGINS: i64 = 1_794_000_000_000 / DAY * DAY;
const PERSON: &str = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
const WORDS: [&str; 24] = [
    "tides", "moorings", "harbour", "lantern", "buoys", "fairway", "dredging", "regatta", "winter",
    "pilotage", "charts", "weather", "ferry", "fishing", "museum", "archive", "visitors", "prices",
    "opening", "contact", "history", "keepers", "engines", "signals",
];

/// A site under construction: what is in it, who came, and what was planted.
struct Made {
    random: StdRng,
    tree: Tree,
    inventory: Inventory,
    rules: String,
    batch: RequestBatch,
    texts: Dictionaries,
    planted: Vec<(FindingKind, String)>,
    /// Missing addresses with where they have really gone.
    moved: Vec<(String, String)>,
}

/// One request.
struct Asked<'a> {
    time: i64,
    client: String,
    agent: &'a str,
    path: &'a str,
    status: u64,
    bytes: u64,
    referrer: Option<&'a str>,
    encoding: Option<&'a str>,
}

impl Made {
    fn file(&mut self, path: &str, bytes: u64, page: Option<&str>) {
        self.tree = std::mem::take(&mut self.tree).file(&path[1..], bytes);
        let address = path.strip_suffix("index.html").unwrap_or(path).to_owned();
        self.inventory.files.push(FileSeen { address: address.clone(), bytes });
        if let Some(text) = page {
            let page = PageSeen { address, file: path[1..].to_owned(), text: html::read(text) };
            self.inventory.pages.push(page);
        }
    }

    fn ask(&mut self, asked: &Asked<'_>) {
        self.batch.time.push(asked.time);
        self.batch.numbers_mut(NumberColumn::Status).push(asked.status);
        self.batch.numbers_mut(NumberColumn::Bytes).push(asked.bytes);
        for (column, text) in [
            (TextColumn::Site, Some("made")),
            (TextColumn::Client, Some(&*asked.client)),
            (TextColumn::User, None),
            (TextColumn::Host, Some("made.example")),
            (TextColumn::Path, Some(asked.path)),
            (TextColumn::Referrer, asked.referrer),
            (TextColumn::Agent, Some(asked.agent)),
            (TextColumn::Encoding, asked.encoding),
        ] {
            let code =
                text.map_or(exedra_common::batch::NO_TEXT, |text| self.texts.of_mut(column).code(text));
            self.batch.codes_mut(column).push(code);
        }
    }

    /// A moment of the weeks, with enough of it left for what follows.
    fn moment(&mut self) -> i64 {
        BEGINS + self.random.random_range(0..DAYS * DAY - 3_600_000)
    }

    fn person(&mut self) -> String {
        format!("198.18.{}.{}", self.random.random_range(0..250), self.random.random_range(1..250))
    }

    /// So many people ask for a path, each once.
    fn people(&mut self, count: usize, path: &str, status: u64, bytes: u64, referrer: Option<&str>) {
        for _ in 0..count {
            let (time, client) = (self.moment(), self.person());
            let encoding = (status == 200).then_some("br");
            self.ask(&Asked { time, client, agent: PERSON, path, status, bytes, referrer, encoding });
        }
    }

    fn plant(&mut self, kind: FindingKind, subject: impl Into<String>) {
        self.planted.push((kind, subject.into()));
    }
}

/// A site with a fault of every kind.
fn made(seed: u64) -> Made {
    let mut words: Vec<&str> = WORDS.to_vec();
    let mut random = StdRng::seed_from_u64(seed);
    words.shuffle(&mut random);
    let mut made = Made {
        random,
        tree: Tree::default(),
        inventory: Inventory::default(),
        rules: String::new(),
        batch: RequestBatch::default(),
        texts: Dictionaries::default(),
        planted: Vec::new(),
        moved: Vec::new(),
    };
    let title = |word: &str| format!("<title>All about {word}</title><h1>{word}</h1><a href='/'>home</a>");
    // Ordinary pages, and people who read them.
    made.file(
        "/index.html",
        4_000,
        Some(
            &words[..8].iter().map(|word| format!("<a href='/{word}.html'>{word}</a>\n")).collect::<String>(),
        ),
    );
    for word in &words[..8] {
        made.file(&format!("/{word}.html"), 6_000, Some(&title(word)));
        made.people(200, &format!("/{word}.html"), 200, 2_000, Some("http://made.example/"));
    }
    made.people(400, "/", 200, 1_500, None);
    made.people(300, "/favicon.ico", 404, 300, None);
    // What one or two people mistype is nothing.
    for nth in 0..15 {
        made.people(2, &format!("/mistyped-{nth}.html"), 404, 300, None);
    }
    moved_pages(&mut made, &words);
    links_and_chains(&mut made, &words);
    sending(&mut made);
    clients(&mut made, &words);
    standing(&mut made);
    made
}

/// A folder that has moved, and pages that have other names.
fn moved_pages(made: &mut Made, words: &[&str]) {
    let (old, new) = (words[8], words[9]);
    for word in &words[10..15] {
        made.file(&format!("/{new}/{word}.html"), 5_000, Some(&format!("<title>{word} of {new}</title>")));
        made.people(20, &format!("/{old}/{word}.html"), 404, 300, Some("https://elsewhere.example/links"));
        made.moved.push((format!("/{old}/{word}.html"), format!("/{new}/{word}.html")));
    }
    made.plant(FindingKind::MissingPage, format!("/{old}/"));
    let target = words[made.random.random_range(0..8)];
    let mut letters: Vec<char> = target.chars().collect();
    let differing = (1..letters.len() - 1).find(|nth| letters[*nth] != letters[nth + 1]).unwrap();
    letters.swap(differing, differing + 1);
    let mistyped: String = letters.iter().collect();
    let renamed = match made.random.random_range(0..3) {
        0 => format!("/{target}.htm"),
        1 => format!("/{}.html", target.to_uppercase()),
        _ => format!("/{mistyped}.html"),
    };
    made.people(25, &renamed, 404, 300, Some("https://elsewhere.example/links"));
    made.moved.push((renamed.clone(), format!("/{target}.html")));
    made.plant(FindingKind::MissingPage, renamed);
    // One that is like nothing, and of which people went on to another: those who know do.
    let next = format!("/{}.html", words[7]);
    for _ in 0..40 {
        let (time, client) = (made.moment(), made.person());
        let asked = |time, path, status| Asked {
            time,
            client: client.clone(),
            agent: PERSON,
            path,
            status,
            bytes: 300,
            referrer: None,
            encoding: None,
        };
        made.ask(&asked(time, "/q7", 404));
        made.ask(&asked(time + 20_000, &next, 200));
    }
    made.moved.push(("/q7".to_owned(), next));
    made.plant(FindingKind::MissingPage, "/q7");
}

fn links_and_chains(made: &mut Made, words: &[&str]) {
    // A link of our own that many followed is told as what is missing; one to a redirect by itself.
    let linking = "<title>More</title>\n<a href='/way-1'>further</a>\n<a href='/way-1'>again</a>";
    made.file("/more.html", 2_000, Some(linking));
    made.people(150, "/more.html", 200, 900, None);
    let end = format!("/{}.html", words[0]);
    made.rules += &format!(
        "[[site.rules]]\nname = \"first\"\npath = \"/way-1\"\nredirect = \"/way-2\"\n[[site.rules]]\nname = \"second\"\npath = \"/way-2\"\nredirect = \"{end}\"\n"
    );
    for _ in 0..160 {
        let (time, client) = (made.moment(), made.person());
        for (nth, path) in ["/way-1", "/way-2"].iter().enumerate() {
            let time = time + nth as i64 * 300;
            made.ask(&Asked {
                time,
                client: client.clone(),
                agent: PERSON,
                path,
                status: 307,
                bytes: 0,
                referrer: None,
                encoding: None,
            });
        }
    }
    made.plant(FindingKind::RedirectChain, "/way-1");
    made.plant(FindingKind::BrokenLink, "/way-1");
}

fn sending(made: &mut Made) {
    // Pictures that the same people fetch in full each time.
    made.file("/pictures/map.png", 400_000, None);
    for nth in 0..60 {
        for _ in 0..10 {
            let (time, client) = (made.moment(), format!("198.19.1.{nth}"));
            made.ask(&Asked {
                time,
                client,
                agent: PERSON,
                path: "/pictures/map.png",
                status: 200,
                bytes: 400_000,
                referrer: Some("http://made.example/"),
                encoding: None,
            });
        }
    }
    made.plant(FindingKind::SentAgain, "/pictures/");
    // A type that nobody thought of.
    made.file("/data.geojson", 900_000, None);
    for _ in 0..300 {
        let (time, client) = (made.moment(), made.person());
        made.ask(&Asked {
            time,
            client,
            agent: PERSON,
            path: "/data.geojson",
            status: 200,
            bytes: 900_000,
            referrer: None,
            encoding: None,
        });
    }
    made.plant(FindingKind::Uncompressed, "geojson");
    made.file("/tour.mp3", 30_000_000, None);
    for _ in 0..120 {
        let (time, client) = (made.moment(), made.person());
        made.ask(&Asked {
            time,
            client,
            agent: PERSON,
            path: "/tour.mp3",
            status: 200,
            bytes: 30_000_000,
            referrer: None,
            encoding: None,
        });
    }
    made.plant(FindingKind::LargeFile, "/tour.mp3");
    made.file("/panorama.jpg", 500_000, None);
    for _ in 0..500 {
        let (time, client) = (made.moment(), made.person());
        made.ask(&Asked {
            time,
            client,
            agent: PERSON,
            path: "/panorama.jpg",
            status: 200,
            bytes: 500_000,
            referrer: Some("https://forum.example/thread/7"),
            encoding: None,
        });
    }
    made.plant(FindingKind::Embedded, "forum.example");
}

fn clients(made: &mut Made, words: &[&str]) {
    let page = format!("/{}.html", words[1]);
    let begins = made.moment();
    for second in 0..5_400 {
        made.ask(&Asked {
            time: begins + second * 1000,
            client: "203.0.113.9".to_owned(),
            agent: "Kiosk/1.0",
            path: &page,
            status: 200,
            bytes: 2_000,
            referrer: None,
            encoding: None,
        });
    }
    made.plant(FindingKind::Hammering, "203.0.113.9");
    // One that looks at a page now and then is no burden.
    for minute in 0..DAYS * 24 * 12 {
        made.ask(&Asked {
            time: BEGINS + minute * 300_000,
            client: "203.0.113.70".to_owned(),
            agent: "WatchBell/2.0 (monitor)",
            path: "/",
            status: 200,
            bytes: 1_500,
            referrer: None,
            encoding: None,
        });
    }
    let sought = ["/login.php", "/.env", "/admin/config.php", "/backup.sql"];
    for nth in 0..400 {
        let (time, path) = (made.moment(), *sought.choose(&mut made.random).unwrap());
        let client = format!("192.0.2.{}", 30 + nth % 3);
        made.ask(&Asked {
            time,
            client,
            agent: "DoorKnocker/1.0",
            path,
            status: 404,
            bytes: 300,
            referrer: None,
            encoding: None,
        });
    }
    made.plant(FindingKind::Probing, "192.0.2.0/24");
    // Each night a job takes a page away.
    made.file("/today.html", 3_000, None);
    made.people(300, "/today.html", 200, 1_200, None);
    for day in 0..DAYS {
        let (time, client) = (BEGINS + day * DAY + 3 * 3_600_000 + 12 * 60_000, made.person());
        made.ask(&Asked {
            time,
            client,
            agent: PERSON,
            path: "/today.html",
            status: 404,
            bytes: 300,
            referrer: None,
            encoding: None,
        });
    }
    made.plant(FindingKind::MissingAtTimes, "/today.html");
    // Twenty minutes of failures, one noon.
    let noon = BEGINS + 12 * DAY + 12 * 3_600_000;
    for nth in 0..60 {
        let client = made.person();
        made.ask(&Asked {
            time: noon + nth * 20_000,
            client,
            agent: PERSON,
            path: "/today.html",
            status: 500,
            bytes: 300,
            referrer: None,
            encoding: None,
        });
    }
    let stamp = |minute: i64| {
        let time = jiff::Timestamp::from_millisecond(noon + minute * 60_000).unwrap();
        time.strftime("%Y-%m-%dT%H:%M").to_string()
    };
    made.plant(FindingKind::Burst, format!("{}..{}", stamp(0), stamp(20)));
}

fn standing(made: &mut Made) {
    made.file("/old/site.sql", 10_000, None);
    made.people(3, "/old/site.sql", 200, 10_000, None);
    made.plant(FindingKind::Exposure, "/old/site.sql");
    made.file("/private/index.html", 1_000, None);
    made.rules += "[[site.rules]]\nname = \"private\"\npath = \"/private/{*}\"\nlogin = \"staff\"\n";
    made.people(150, "/private/", 401, 300, None);
    made.plant(FindingKind::Guard, "/private/");
    made.plant(FindingKind::Allowance, "made");
    made.plant(FindingKind::Certificate, "made.example");
    made.plant(FindingKind::ErrorPage, "/errors/none.html");
}

fn config_text(made: &Made) -> String {
    format!(
        "[[listener]]\naddress = \"127.0.0.1:7380\"\n[[realm]]\nname = \"staff\"\nusers = \"staff.toml\"\nwithout_https = true\n[[site]]\nname = \"made\"\n\
         hosts = [\"made.example\"]\nfolder = \"made\"\nallowance = \"4 GB\"\nerror_pages = {{ 404 = \"/errors/none.html\" }}\n[site.compress]\n\
         types = [\"text/*\", \"application/javascript\"]\n{}",
        made.rules
    )
}

fn found(made: &Made, text: &str) -> Vec<Finding> {
    let config = understand(text, Path::new("")).unwrap();
    let mut counts = FindingCounts::default();
    for row in 0..made.batch.rows() {
        counts.add(&made.batch, row, &made.texts, |host| host == "made.example");
    }
    let present = Standing {
        exposed: vec![Exposed {
            site: "made".to_owned(),
            path: "/old/site.sql".to_owned(),
            kind: "dump".to_owned(),
            reason: "a database".to_owned(),
            remedy: "move it out".to_owned(),
        }],
        bursts: Vec::new(),
        certificates: vec![("made.example".to_owned(), 6.5)],
        months: vec![SiteMonth {
            site: "made".to_owned(),
            allowance: 4_000_000_000,
            sent: 3_500_000_000,
            expected: 4_800_000_000,
            runs_out: None,
        }],
    };
    let present = Standing { bursts: bursts(made), ..present };
    let sites = [SiteSeen { id: SiteId(0), inventory: made.inventory.clone() }];
    find(&Seen {
        config: &config,
        folders: &made.tree,
        sites: &sites,
        counts: &counts,
        zone: TimeZone::UTC,
        present: &present,
    })
}

/// Bursts of failures among the requests, as the service finds them.
fn bursts(made: &Made) -> Vec<BurstSeen> {
    let trouble = Trouble::Class(5);
    let mut minutes = Minutes::default();
    (0..made.batch.rows()).for_each(|row| minutes.add(&made.batch, row, trouble));
    let bursts = minutes.bursts(3, &TimeZone::UTC);
    let own = ["made.example".to_owned()];
    let mut tallies = Tallies::new(&bursts, trouble, minutes.span().unwrap(), &TimeZone::UTC, &own);
    (0..made.batch.rows()).for_each(|row| tallies.add(&made.batch, row, &made.texts));
    let told = preludes(bursts, &tallies, trouble, false);
    told.into_iter().map(|prelude| BurstSeen { site: "made".to_owned(), prelude }).collect()
}

#[test]
fn every_planted_fault_is_found_and_nothing_else() {
    let (mut asked, mut right) = (0, 0);
    for seed in 0..SITES {
        let mut made = made(seed);
        let order: Vec<u32> = {
            let mut rows: Vec<u32> = (0..made.batch.rows() as u32).collect();
            rows.sort_by_key(|row| made.batch.time[*row as usize]);
            rows
        };
        made.batch = in_order(&made.batch, &order);
        let text = config_text(&made);
        let all = found(&made, &text);
        for (kind, subject) in &made.planted {
            let is_it = |finding: &&Finding| finding.kind == *kind && finding.subject == *subject;
            let finding = all
                .iter()
                .find(is_it)
                .unwrap_or_else(|| panic!("site {seed}: {kind:?} {subject} in {:?}", told(&all)));
            assert!(finding.weight >= THRESHOLD, "site {seed}: {} weighs {}", finding.title, finding.weight);
            assert!(
                !finding.evidence.rows.is_empty() && !finding.cost.is_empty() && !finding.command.is_empty(),
                "{}",
                finding.id
            );
        }
        let is_planted = |finding: &&Finding| {
            made.planted.iter().any(|(kind, subject)| finding.kind == *kind && finding.subject == *subject)
        };
        let false_ones: Vec<&str> = all
            .iter()
            .filter(|finding| finding.weight >= THRESHOLD && !is_planted(finding))
            .map(|finding| &*finding.title)
            .collect();
        assert!(false_ones.is_empty(), "site {seed}: {false_ones:?}");
        for (missing, gone_to) in &made.moved {
            asked += 1;
            right += usize::from(leads(&all, missing).as_deref() == Some(&**gone_to));
        }
        mended(&made, &text, &all);
    }
    assert!(right * 10 >= asked * 9, "{right} of {asked} likely addresses are right");
}

fn told(all: &[Finding]) -> Vec<(FindingKind, &str, f64)> {
    all.iter().map(|finding| (finding.kind, &*finding.subject, finding.weight)).collect()
}

/// The same rows in another order.
fn in_order(batch: &RequestBatch, order: &[u32]) -> RequestBatch {
    let mut sorted = RequestBatch::default();
    let texts = [
        TextColumn::Site,
        TextColumn::Client,
        TextColumn::User,
        TextColumn::Host,
        TextColumn::Path,
        TextColumn::Referrer,
        TextColumn::Agent,
        TextColumn::Encoding,
    ];
    for row in order.iter().map(|row| *row as usize) {
        sorted.time.push(batch.time[row]);
        for column in [NumberColumn::Status, NumberColumn::Bytes] {
            sorted.numbers_mut(column).push(batch.numbers(column)[row]);
        }
        for column in texts {
            sorted.codes_mut(column).push(batch.codes(column)[row]);
        }
    }
    sorted
}

/// Where the remedies of findings would send somebody who asks for a missing address.
fn leads(all: &[Finding], missing: &str) -> Option<String> {
    all.iter().filter(|finding| finding.kind == FindingKind::MissingPage).find_map(|finding| {
        let edits = &finding.remedy.as_ref()?.edits;
        edits.iter().find_map(|edit| {
            let exedra_acting::remedy::Edit::Rule { settings, .. } = edit else { return None };
            let setting = |name: &str| {
                let (_, value) = settings.iter().find(|(key, _)| key == name)?;
                Some(value.trim_matches('"').to_owned())
            };
            let (path, redirect) = (setting("path")?, setting("redirect")?);
            match (path.strip_suffix("{rest*}"), redirect.strip_suffix("{rest}")) {
                (Some(from), Some(to)) => missing.strip_prefix(from).map(|rest| format!("{to}{rest}")),
                _ => (path == missing).then_some(redirect),
            }
        })
    })
}

/// With all remedies written into the configuration, what they are about is found no more.
fn mended(made: &Made, text: &str, all: &[Finding]) {
    let mut changed = text.to_owned();
    let remedied: Vec<&Finding> = all.iter().filter(|finding| finding.remedy.is_some()).collect();
    assert!(remedied.len() >= 8, "{:?}", told(all));
    for edit in remedied.iter().flat_map(|finding| &finding.remedy.as_ref().unwrap().edits) {
        changed = applied(&changed, edit).unwrap();
    }
    let again = found(made, &changed);
    for finding in remedied {
        let is_there = again.iter().any(|other| other.id == finding.id);
        assert!(!is_there, "{} is still found with {changed}", finding.title);
    }
}
