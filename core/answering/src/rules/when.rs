//! Conditions on facts. All conditions of a rule must hold; within one, any of a list; `!` negates.
//!
//! A list with negated entries holds where one of the others does (or there are no others) and none of the
//! negated ones: `["203.0.113.0/24", "!203.0.113.7"]`.
//!
//! ```
//! use exedra_answering::facts::FactName;
//! use exedra_answering::rules::when::{Entry, Test};
//! let night = Entry::understand(&FactName::Hour, "!22-5").unwrap();
//! assert!(night.negated && matches!(night.test, Test::Numbers(22, 5)));
//! let wrong = Entry::understand(&FactName::Client, "harbour").unwrap_err();
//! assert!(wrong.contains("an address or a network"));
//! ```

use super::SoFar;
use crate::facts::{FactName, Known, RecordedFacts, WEEKDAYS, weekday};
use exedra_common::text::Wildcard;
use ipnet::IpNet;
use jiff::civil::Date;
use regex::Regex;
use std::borrow::Cow;
use std::net::IpAddr;
use std::ops::Range;

/// Whether a condition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// It does.
    Yes,
    /// It does not.
    No,
    /// The fact is not known, so nobody can tell.
    Unknown,
}

/// A condition on one fact.
#[derive(Debug, Clone)]
pub struct Condition {
    /// The fact.
    pub fact: FactName,
    /// What is asked of it.
    pub asks: Asks,
    /// The condition as it was written.
    pub text: Box<str>,
    /// Where.
    pub place: Range<usize>,
}

/// What is asked of a fact.
#[derive(Debug, Clone)]
pub enum Asks {
    /// Whether there is one at all.
    Presence(bool),
    /// Whether it is one of some, and none of some others.
    Among(Vec<Entry>),
}

/// An entry of a list.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Whether it is the other way round.
    pub negated: bool,
    /// What fits it.
    pub test: Test,
}

/// What a value is held against.
#[derive(Debug, Clone)]
pub enum Test {
    /// A text.
    Text(Wildcard),
    /// A network, for addresses.
    Network(IpNet),
    /// Numbers from here to there, both included. Where the second is less, they go round by midnight.
    Numbers(u64, u64),
    /// A day of the week, Monday being 0.
    Weekday(usize),
    /// Days, both included.
    Dates(Date, Date),
    /// Whatever a regular expression fits as a whole.
    Regex(Box<Regex>),
}

impl Condition {
    /// Whether it holds.
    pub fn holds(&self, facts: &RecordedFacts<'_>, so_far: SoFar<'_>) -> Holds {
        if self.fact == FactName::Client {
            return self.asked_of(facts.client(), |test, client| test.fits_address(client));
        }
        if let FactName::Hour | FactName::Weekday | FactName::Date = self.fact {
            return self.asked_of(facts.time(), |test, time| match test {
                Test::Numbers(from, to) => within(u64::from(time.hour), *from, *to),
                Test::Dates(from, to) => (*from..=*to).contains(&time.date),
                Test::Weekday(day) => WEEKDAYS[*day] == weekday(time),
                _ => false,
            });
        }
        let value = match &self.fact {
            FactName::User => Known::from(so_far.user.map(Into::into)),
            FactName::Path => Known::Is(so_far.path.into()),
            fact => facts.text(fact),
        };
        self.asked_of(value, |test, value| test.fits_text(value))
    }

    fn asked_of<T>(&self, value: Known<T>, fits: impl Fn(&Test, &T) -> bool) -> Holds {
        let holds = match (&self.asks, &value) {
            (_, Known::Unknown) => return Holds::Unknown,
            (Asks::Presence(wanted), Known::Is(_)) => *wanted,
            (Asks::Presence(wanted), Known::Absent) => !*wanted,
            (Asks::Among(entries), value) => {
                let is = |entry: &Entry| matches!(value, Known::Is(value) if fits(&entry.test, value));
                let mut wanted = entries.iter().filter(|entry| !entry.negated).peekable();
                (wanted.peek().is_none() || wanted.any(is))
                    && !entries.iter().any(|entry| entry.negated && is(entry))
            }
        };
        if holds { Holds::Yes } else { Holds::No }
    }
}

/// Whether a number is between two, going round where the second is less.
fn within(number: u64, from: u64, to: u64) -> bool {
    match from <= to {
        true => (from..=to).contains(&number),
        false => number >= from || number <= to,
    }
}

impl Test {
    fn fits_address(&self, address: &IpAddr) -> bool {
        matches!(self, Test::Network(network) if network.contains(address))
    }

    fn fits_text(&self, value: &str) -> bool {
        match self {
            Test::Text(pattern) => pattern.fits(value),
            Test::Regex(regex) => regex.is_match(value),
            Test::Numbers(from, to) => value.parse().is_ok_and(|number| within(number, *from, *to)),
            Test::Network(network) => value.parse::<IpAddr>().is_ok_and(|address| network.contains(&address)),
            Test::Weekday(_) | Test::Dates(..) => false,
        }
    }
}

impl Entry {
    /// Understands an entry of a condition on a fact. The error says what would do instead.
    pub fn understand(fact: &FactName, text: &str) -> Result<Entry, Cow<'static, str>> {
        let (negated, text) = text.strip_prefix('!').map_or((false, text), |text| (true, text));
        let range = |separator: &str| text.split_once(separator).unwrap_or((text, text));
        let test = match fact {
            FactName::Client | FactName::ServerAddress => {
                let network = text.parse().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
                let instead = "an address or a network, as in \"203.0.113.0/24\"";
                Test::Network(network.map_err(|_| instead)?)
            }
            FactName::Hour => {
                let (from, to) = range("-");
                let hour = |text: &str| text.trim().parse::<u64>().ok().filter(|hour| *hour < 24);
                let (Some(from), Some(to)) = (hour(from), hour(to)) else {
                    return Err("an hour from 0 to 23, or some, as in \"8-17\" or \"22-5\"".into());
                };
                Test::Numbers(from, to)
            }
            FactName::Port | FactName::ServerPort => {
                let port = text.trim().parse::<u16>().map_err(|_| "a port, as in 8080")?;
                Test::Numbers(port.into(), port.into())
            }
            FactName::Weekday => {
                let day = WEEKDAYS.iter().position(|day| day.eq_ignore_ascii_case(text));
                Test::Weekday(day.ok_or("a day of the week, as in \"sunday\"")?)
            }
            FactName::Date => {
                let (from, to) = range("..");
                let date = |text: &str| text.trim().parse::<Date>();
                let (Ok(from), Ok(to)) = (date(from), date(to)) else {
                    return Err("a day, or some, as in \"2030-12-01..2031-01-06\"".into());
                };
                if to < from {
                    return Err("the earlier day first".into());
                }
                Test::Dates(from, to)
            }
            fact => {
                let wildcard = Wildcard::new(text);
                let wildcard = if fact.ignores_case() { wildcard.in_any_case() } else { wildcard };
                let values = fact.values();
                if !values.is_empty() && !values.iter().any(|value| wildcard.fits(value)) {
                    return Err(format!("one of {}", values.join(", ")).into());
                }
                Test::Text(wildcard)
            }
        };
        Ok(Entry { negated, test })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{AgentPart, Facts, Fields, LocalTime};
    use http::HeaderMap;
    use rstest::rstest;

    fn asks(fact: FactName, entries: &[&str]) -> Condition {
        let asks = match entries {
            ["yes"] => Asks::Presence(true),
            ["no"] => Asks::Presence(false),
            entries => {
                Asks::Among(entries.iter().map(|text| Entry::understand(&fact, text).unwrap()).collect())
            }
        };
        Condition { fact, asks, text: "".into(), place: 0..0 }
    }

    #[rstest]
    #[case::network(FactName::Client, &["203.0.113.0/24"], Holds::Yes)]
    #[case::but_not_this_one(FactName::Client, &["203.0.113.0/24", "!203.0.113.7"], Holds::No)]
    #[case::only_negated(FactName::Client, &["!198.51.100.0/24"], Holds::Yes)]
    #[case::address(FactName::Client, &["203.0.113.8"], Holds::No)]
    #[case::wildcard(FactName::Agent, &["Boat/*"], Holds::Yes)]
    #[case::case_matters(FactName::Agent, &["boat/*"], Holds::No)]
    #[case::host(FactName::Host, &["*.EXAMPLE"], Holds::Yes)]
    #[case::by_day(FactName::Hour, &["8-17"], Holds::No)]
    #[case::by_night(FactName::Hour, &["22-5"], Holds::Yes)]
    #[case::weekday(FactName::Weekday, &["saturday", "Sunday"], Holds::Yes)]
    #[case::dates(FactName::Date, &["2030-12-01..2031-01-06"], Holds::Yes)]
    #[case::date(FactName::Date, &["2030-12-02"], Holds::No)]
    #[case::parameter(FactName::Parameter("season".into()), &["winter"], Holds::Yes)]
    #[case::there(FactName::Parameter("season".into()), &["yes"], Holds::Yes)]
    #[case::not_there(FactName::Parameter("none".into()), &["no"], Holds::Yes)]
    #[case::absent_is_none_of_them(FactName::Parameter("none".into()), &["*"], Holds::No)]
    #[case::absent_is_not_this(FactName::Cookie("x".into()), &["!x"], Holds::Yes)]
    #[case::user(FactName::User, &["anna"], Holds::Yes)]
    #[case::server_address(FactName::ServerAddress, &["192.0.2.0/28"], Holds::Yes)]
    #[case::server_port(FactName::ServerPort, &["7343"], Holds::No)]
    #[case::tls_name(FactName::TlsName, &["no"], Holds::Yes)]
    #[case::browser(FactName::Browser, &["firefox*"], Holds::Yes)]
    #[case::browser_as_it_is(FactName::Browser, &["FIREFOX Boat/*"], Holds::Yes)]
    #[case::device(FactName::Device, &["Phone", "tablet"], Holds::No)]
    #[case::certificate(FactName::Certificate, &["a.example"], Holds::Unknown)]
    #[case::nobody_knows(FactName::Country, &["!FO"], Holds::Unknown)]
    #[case::presence_of_the_unknown(FactName::Country, &["no"], Holds::Unknown)]
    fn conditions(#[case] fact: FactName, #[case] entries: &[&str], #[case] expected: Holds) {
        let mut map = HeaderMap::new();
        map.insert("user-agent", "Boat/1".parse().unwrap());
        let facts = Facts {
            client: Known::Is("203.0.113.7".parse().unwrap()),
            host: Known::Is("A.example"),
            query: Known::Is("season=winter"),
            fields: Fields::All(&map),
            time: Known::Is(LocalTime { date: jiff::civil::date(2030, 12, 1), hour: 23 }),
            server: Known::Is("192.0.2.10:80".parse().unwrap()),
            tls_name: Known::Absent,
            agents: Some(|agent, part| (part == AgentPart::Browser).then(|| format!("Firefox {agent}"))),
            ..Facts::UNKNOWN
        };
        assert_eq!(
            asks(fact, entries).holds(&RecordedFacts::new(facts), SoFar { user: Some("anna"), path: "/" }),
            expected
        );
    }

    #[rstest]
    #[case(FactName::Hour, "24")]
    #[case(FactName::Weekday, "someday")]
    #[case(FactName::Client, "10.0.0")]
    #[case(FactName::Date, "2030-02-30")]
    #[case(FactName::Date, "2030-02-03..2030-02-01")]
    #[case(FactName::Port, "http")]
    fn mistakes(#[case] fact: FactName, #[case] text: &str) {
        assert!(Entry::understand(&fact, text).is_err());
    }
}
