//! Who asks, by what they call themselves (`User-Agent`, RFC 9110 §10.1.5): people with a browser, a system and a device; or
//! programs that ask by themselves.
//!
//! Browsers, systems and known crawlers come from an open data set of patterns (release 0.18.0 of 2026-04-04, with its
//! licence in `data/`). What it does not know is judged by the habits of the trade: browsers begin with `Mozilla/` and name their
//! engine, text browsers go by their own names; crawlers say where to read about them (`+http…`) or what they are (`…bot`).
//! Whoever does neither is a program too, and so is whoever says nothing at all.
//!
//! ```
//! use exedra_reading::classify::agents::{is_program, read};
//! assert!(is_program("LindryKiosk/1.4 (+https://kiosk.example/)") && is_program("Mozilla/5.0") && is_program(""));
//! let phone = read("Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) \
//!                   Version/18.0 Mobile/15E148 Safari/604.1");
//! assert_eq!((phone.device, &phone.crawler), (Some("phone"), &None));
//! ```

use foldhash::quality::RandomState;
use hashbrown::HashMap;
use parking_lot::RwLock;
use serde::Deserialize;
use std::borrow::Cow;
use std::sync::{Arc, OnceLock};
use ua_parser::{Regexes, device, os, user_agent};

/// The data set, as JSON.
const DATA: &str = include_str!("data/agents.json");
/// The longest agent that is looked at in full, in octets.
const LONGEST: usize = 1000;
/// What the data set calls the device of a crawler.
const SPIDER: &str = "Spider";
/// What words end with by which crawlers say what they are.
const CRAWLERS: [&str; 6] = ["bot", "bots", "crawler", "crawl", "spider", "spiders"];
/// What words hold by which other programs do.
const PROGRAMS: [&str; 7] = ["monitor", "scanner", "preview", "feed", "headless", "crawler", "spider"];
/// What browsers render pages by: whoever calls itself compatible and names none is none.
const ENGINES: [&str; 8] = ["Gecko", "AppleWebKit", "KHTML", "Trident", "MSIE", "Presto", "Goanna", "Opera"];
/// Browsers of people that do not call themselves `Mozilla`: those for terminals, and small ones.
const OTHER_BROWSERS: [&str; 9] =
    ["Lynx/", "Links ", "ELinks/", "w3m/", "NetSurf/", "Dillo/", "Opera/", "Emacs-w3m/", "NokiaN"];

/// What an agent says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Agent {
    /// The browser of a person.
    pub browser: Option<String>,
    /// The operating system of a person's device.
    pub system: Option<String>,
    /// `phone`, `tablet` or `computer`, of a person.
    pub device: Option<&'static str>,
    /// The name of a program that asks by itself.
    pub crawler: Option<String>,
}

/// How many agents are remembered.
const MOST_REMEMBERED: usize = 50_000;

/// Reads an agent. What was read before is remembered: looking through all patterns takes its time.
pub fn read(agent: &str) -> Arc<Agent> {
    type Known = RwLock<HashMap<Box<str>, Arc<Agent>, RandomState>>;
    static KNOWN: OnceLock<Known> = OnceLock::new();
    let known = KNOWN.get_or_init(RwLock::default);
    if let Some(found) = known.read().get(agent) {
        return Arc::clone(found);
    }
    let found = Arc::new(look(agent));
    let mut known = known.write();
    if known.len() >= MOST_REMEMBERED {
        known.clear();
    }
    known.insert(agent.into(), Arc::clone(&found));
    found
}

/// Whether an agent is a program that asks by itself, which is told sooner than the rest.
pub fn is_program(agent: &str) -> bool {
    looks_like_program(&beginning(agent), patterns())
}

/// As much of an agent as is looked at. Some logs write spaces as plus signs.
fn beginning(agent: &str) -> Cow<'_, str> {
    let end = (0..=LONGEST.min(agent.len())).rev().find(|end| agent.is_char_boundary(*end)).unwrap_or(0);
    match &agent[..end] {
        text if !text.contains(' ') && text.matches('+').count() > 1 => text.replace('+', " ").into(),
        text => text.into(),
    }
}

fn look(agent: &str) -> Agent {
    let agent = &*beginning(agent);
    let known = patterns();
    let family =
        || known.and_then(|known| known.browsers.extract(agent)).map(|found| found.family.to_string());
    if looks_like_program(agent, known) {
        // A name of its own is better than the name of its family.
        let of_family = || {
            let of_browser = agent.starts_with("Mozilla/");
            family().filter(|name| of_browser && name != "Other" && !is_browser(name))
        };
        let named = own_name(agent).or_else(of_family);
        return Agent { crawler: Some(named.unwrap_or_else(|| product(agent))), ..Agent::default() };
    }
    Agent {
        browser: own_browser(agent).or_else(|| family().filter(|name| name != "Other")),
        system: known.and_then(|known| known.systems.extract(agent)).map(|found| found.os.to_string()),
        device: Some(device(agent)),
        crawler: None,
    }
}

/// Browsers whose names the data set does not know.
fn own_browser(agent: &str) -> Option<String> {
    let known =
        [("w3m/", "w3m"), ("NetSurf/", "NetSurf"), ("Konqueror/", "Konqueror"), ("Falkon/", "Falkon")];
    known.iter().find(|(mark, _)| agent.contains(mark)).map(|(_, name)| (*name).to_owned())
}

fn looks_like_program(agent: &str, known: Option<&Patterns>) -> bool {
    if OTHER_BROWSERS.iter().any(|browser| agent.starts_with(browser)) {
        return false;
    }
    if !agent.starts_with("Mozilla/") || !ENGINES.iter().any(|engine| agent.contains(engine)) {
        return true;
    }
    says_so(agent) || known.is_some_and(|known| known.lists(agent))
}

/// Whether an agent says that it is a program, which the model of a device does not, whatever it is called.
fn says_so(agent: &str) -> bool {
    agent.contains("+http") || words(&without_model(agent)).any(names_program)
}

/// Whether a program that is none of people's says what it is and where to read about it: a crawler, and nobody who tries doors.
pub fn is_known_crawler(agent: &str) -> bool {
    let agent = &*beginning(agent);
    let is_crawler = |word: &str| {
        let small = word.to_ascii_lowercase();
        CRAWLERS.iter().any(|end| small.ends_with(end))
    };
    let is_listed = patterns().is_some_and(|known| known.lists(agent));
    looks_like_program(agent, patterns())
        && (is_listed || agent.contains("+http") || words(&without_model(agent)).any(is_crawler))
}

/// The words of an agent, without their versions.
fn words(agent: &str) -> impl Iterator<Item = &str> {
    let parts = agent.split([' ', '(', ')', ';', ',', '/', '+', '@', ':']);
    parts.filter(|word| word.len() > 2 && !word.contains('.'))
}

fn names_program(word: &str) -> bool {
    let small = word.to_ascii_lowercase();
    CRAWLERS.iter().any(|end| small.ends_with(end)) || PROGRAMS.iter().any(|part| small.contains(part))
}

/// An agent without the model of its device: what follows the version of Android, up to its build.
fn without_model(agent: &str) -> Cow<'_, str> {
    let Some(at) = agent.find("Android ") else { return agent.into() };
    let close = agent[at..].find(')').map_or(agent.len(), |length| at + length);
    let Some(begin) = agent[at..close].find(';').map(|length| at + length) else { return agent.into() };
    let end = agent[begin..close].find('/').map_or(close, |length| begin + length);
    match &agent[begin..end] {
        // Who calls itself compatible stands there too.
        model if model.contains("compatible") => agent.into(),
        _ => format!("{}{}", &agent[..begin], &agent[end..]).into(),
    }
}

/// The word by which a crawler names itself: `LindryBot` of `Mozilla/5.0 (compatible; LindryBot/2.1; +http://…)`.
fn own_name(agent: &str) -> Option<String> {
    let agent = without_model(agent);
    let parts =
        agent.split([' ', '(', ')', ';', ',']).filter(|word| !word.contains("://") && !word.contains('@'));
    let named = |word: &str| {
        let name = word.split('/').next().unwrap_or(word).trim_start_matches('+');
        let small = name.to_ascii_lowercase();
        let is_crawler = name.len() > 3 && CRAWLERS.iter().any(|end| small.ends_with(end));
        is_crawler.then(|| name.to_owned())
    };
    parts.clone().find_map(named).or_else(|| {
        // Whoever calls itself compatible says as what right after.
        let (_, rest) = agent.split_once("compatible;")?;
        let name = rest.split([';', ')', '/']).next()?.trim();
        let is_engine = ENGINES.iter().any(|engine| name.contains(engine));
        (!name.is_empty() && !is_engine && !name.contains("http")).then(|| name.to_owned())
    })
}

/// A program that calls itself a browser as well is not named after it.
fn is_browser(name: &str) -> bool {
    ["Chrome", "Firefox", "Safari", "Edge", "Opera", "Chromium", "Mobile", "IE"]
        .iter()
        .any(|browser| name.contains(browser))
}

/// The product that says what it is, or the first: `LeafTurner/0.9 (+https://…)` is `LeafTurner`.
fn product(agent: &str) -> String {
    let words = || agent.split([' ', '(', ')', ';', ',']).filter(|word| !word.is_empty());
    let says_so =
        |word: &&str| !word.contains("http") && names_program(word.split('/').next().unwrap_or(word));
    let word = words().find(says_so).or_else(|| words().next()).unwrap_or(agent);
    let name = word.split('/').next().unwrap_or(word);
    match name {
        "" => "no agent".to_owned(),
        "Mozilla" => "Mozilla without an engine".to_owned(),
        name => name.to_owned(),
    }
}

fn device(agent: &str) -> &'static str {
    let has = |part: &str| agent.contains(part);
    let is_any = |parts: &[&str]| parts.iter().any(|part| has(part));
    if has("Opera Mini") || has("KAIOS") {
        "phone"
    } else if is_any(&["PlayStation", "Xbox", "Nintendo"]) {
        "console"
    } else if is_any(&[
        "SMART-TV", "SmartTV", "Smart TV", "Web0S", "webOS.TV", "AppleTV", "HbbTV", "BRAVIA", " AFT",
        "CrKey", "GoogleTV",
    ]) {
        "tv"
    } else if has("iPad")
        || has("Tablet")
        || has("Kindle")
        || has("Silk/")
        || (has("Android") && !has("Mobile"))
    {
        "tablet"
    } else if has("Mobile") || has("iPhone") || has("Phone") {
        "phone"
    } else {
        "computer"
    }
}

/// The patterns of the data set, ready to be asked.
struct Patterns {
    browsers: user_agent::Extractor<'static>,
    systems: os::Extractor<'static>,
    crawlers: device::Extractor<'static>,
}

impl Patterns {
    /// Whether an agent is a crawler of the data set.
    fn lists(&self, agent: &str) -> bool {
        // A browser of people shares its name with a crawler of long ago.
        let agent = without_model(agent).replace("Silk/", "");
        self.crawlers.extract(&agent).is_some_and(|found| found.device == SPIDER)
    }
}

/// The patterns; none, should the data set not be understood, which a test would tell.
fn patterns() -> Option<&'static Patterns> {
    static PATTERNS: OnceLock<Option<Patterns>> = OnceLock::new();
    PATTERNS.get_or_init(understand).as_ref()
}

fn understand() -> Option<Patterns> {
    let mut data = serde_json::Deserializer::from_str(DATA);
    let Regexes { user_agent_parsers, os_parsers, device_parsers } = Regexes::deserialize(&mut data).ok()?;
    // Most of a short reading is spent here, and everybody waits: so half of it is done beside the other half.
    std::thread::scope(|scope| {
        let browsers = scope.spawn(|| {
            let all =
                user_agent_parsers.into_iter().try_fold(user_agent::Builder::new(), |all, one| all.push(one));
            all.ok()?.build().ok()
        });
        let systems = os_parsers.into_iter().try_fold(os::Builder::new(), |all, one| all.push(one));
        // Of devices only crawlers are asked for: the models of telephones are nobody's question.
        let spiders =
            device_parsers.into_iter().filter(|one| one.device_replacement.as_deref() == Some(SPIDER));
        let crawlers = spiders.into_iter().try_fold(device::Builder::new(), |all, one| all.push(one));
        let (systems, crawlers) = (systems.ok()?.build().ok()?, crawlers.ok()?.build().ok()?);
        Some(Patterns { browsers: browsers.join().ok()??, systems, crawlers })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::computer(
        "Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:146.0) Gecko/20100101 Firefox/146.0",
        "Firefox",
        "Windows",
        "computer"
    )]
    #[case::phone(
        "Mozilla/5.0 (Linux; Android 16; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/149.0.0.0 Mobile Safari/537.36",
        "Chrome Mobile",
        "Android",
        "phone"
    )]
    #[case::tablet(
        "Mozilla/5.0 (iPad; CPU OS 19_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Mobile/15E148 Safari/604.1",
        "Mobile Safari",
        "iOS",
        "tablet"
    )]
    #[case::plus_for_space(
        "Mozilla/5.0+(X11;+Linux+x86_64;+rv:146.0)+Gecko/20100101+Firefox/146.0",
        "Firefox",
        "Linux",
        "computer"
    )]
    fn people(
        #[case] agent: &str,
        #[case] browser: &str,
        #[case] system: &str,
        #[case] device: &'static str,
    ) {
        let expected = Agent {
            browser: Some(browser.to_owned()),
            system: Some(system.to_owned()),
            device: Some(device),
            crawler: None,
        };
        assert_eq!(*read(agent), expected);
    }

    #[rstest]
    #[case::contact("LeafTurner/0.9 (+https://leafturner.example/about)", "LeafTurner")]
    #[case::product("TideBell/2.1", "TideBell")]
    #[case::dressed_up("Mozilla/5.0 (compatible; LindryBot/2.1; +http://a.example/bot.html)", "LindryBot")]
    #[case::as_a_browser(
        "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko; compatible; quaybot/1.0) Chrome/149.0.0.0 Safari/537.36",
        "quaybot"
    )]
    #[case::one_word("site", "site")]
    #[case::nothing("", "no agent")]
    #[case::bare("Mozilla/5.0", "Mozilla without an engine")]
    fn programs(#[case] agent: &str, #[case] name: &str) {
        assert_eq!(*read(agent), Agent { crawler: Some(name.to_owned()), ..Agent::default() });
    }

    #[test]
    fn the_data_set_is_understood() {
        assert!(understand().is_some());
    }
}
