//! What is surprising around a burst, as a few ranked sentences.
//!
//! Three things are surprising: that the troubled requests have something in common which other requests have not; that
//! something was there far more often than usually while it lasted; and that it was so before. Each is measured in bits by the
//! likelihood ratio of what was counted against what is usual. No list of everything: what another sentence has said already
//! is left out.

use super::minutes::{Burst, surprise};
use super::tallies::{Around, Tallies, Trait, Window};
use super::{BEFORE, Trouble};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many sentences a burst has at most.
const MOST: usize = 6;
/// How many of them are of one kind: paths in the minutes before, and the like.
const MOST_ALIKE: usize = 2;
/// Less surprising things are not told: bits.
const LEAST: f64 = 12.0;
/// What was never seen is expected so often.
const NEVER: f64 = 0.5;

/// A burst, and what is surprising about it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Prelude {
    /// The burst.
    #[serde(flatten)]
    pub burst: Burst,
    /// How many other times are the usual: the same time on other days; of a daily burst, an hour before and after. Without any,
    /// it is what was there before.
    pub days: u64,
    /// What is surprising, the most surprising first.
    pub evidence: Vec<Evidence>,
}

/// When something was surprising.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum When {
    /// Among the troubled requests of the burst.
    Troubled,
    /// In the burst, troubled or not.
    During,
    /// In the minutes before.
    Before,
}

/// Something surprising.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Evidence {
    /// What it is.
    pub r#trait: Trait,
    /// Its value.
    pub value: String,
    /// When it was surprising.
    pub when: When,
    /// Troubled requests with it in the burst.
    pub troubled: u64,
    /// All requests with it in the burst.
    pub during: u64,
    /// Requests with it in the minutes before.
    pub before: u64,
    /// Requests with it at the time of the burst on another day, on average.
    pub usually: f64,
    /// Requests with it in the minutes before that time on another day, on average.
    pub usually_before: f64,
    /// How surprising it is, in bits.
    pub surprise: f64,
    /// The same for people.
    pub words: String,
}

/// The preludes of bursts, in their order. A masked one names no client, only networks.
pub fn preludes(bursts: Vec<Burst>, tallies: &Tallies, trouble: Trouble, masked: bool) -> Vec<Prelude> {
    let prelude = |(burst, around): (Burst, &Around)| Prelude {
        days: around.days,
        evidence: evidence(&burst, around, trouble, masked),
        burst,
    };
    bursts.into_iter().zip(&tallies.around).map(prelude).collect()
}

fn evidence(burst: &Burst, around: &Around, trouble: Trouble, masked: bool) -> Vec<Evidence> {
    let mut all: Vec<Evidence> = Vec::new();
    for is in Trait::ALL.into_iter().filter(|is| !masked || *is != Trait::Client) {
        let seen = [
            &around.troubled,
            &around.windows[Window::During as usize],
            &around.windows[Window::Before as usize],
        ];
        let mut values: Vec<&str> =
            seen.iter().flat_map(|tally| tally.values(is)).map(|(value, _)| value).collect();
        values.sort_unstable();
        values.dedup();
        all.extend(values.into_iter().filter_map(|value| evidence_of(burst, around, trouble, is, value)));
    }
    // Of equals the client stands before its network, and both before an agent.
    all.sort_by(|a, b| {
        let order = (a.r#trait as usize).cmp(&(b.r#trait as usize)).then_with(|| a.value.cmp(&b.value));
        b.surprise.total_cmp(&a.surprise).then(order)
    });
    let mut told: Vec<Evidence> = Vec::new();
    for one in all {
        let is_like = |other: &&Evidence| (other.r#trait, other.when) == (one.r#trait, one.when);
        let is_new = !told.iter().any(|other| says_the_same(other, &one));
        if told.len() < MOST && is_new && told.iter().filter(is_like).count() < MOST_ALIKE {
            told.push(one);
        }
    }
    told
}

/// Whether one thing follows from another that is told: the network of a client, the agent of the only client.
fn says_the_same(told: &Evidence, other: &Evidence) -> bool {
    let key = |one: &Evidence| match one.when {
        When::Troubled => one.troubled,
        When::During => one.during,
        When::Before => one.before,
    };
    let (a, b) = (key(told), key(other));
    let are_near = a.abs_diff(b) * 10 <= a.max(b);
    let of_whom = |is: Trait| matches!(is, Trait::Client | Trait::Network | Trait::Agent);
    let whom = of_whom(told.r#trait) && of_whom(other.r#trait);
    (told.r#trait == other.r#trait && told.value == other.value)
        || (told.when == other.when && whom && are_near)
}

fn evidence_of(burst: &Burst, around: &Around, trouble: Trouble, is: Trait, value: &str) -> Option<Evidence> {
    let window = |window: Window| &around.windows[window as usize];
    let (during, before) = (window(Window::During), window(Window::Before));
    let days = around.days.max(1) as f64 / around.times.max(1) as f64;
    let (usually, usually_before) = match around.days {
        0 => {
            // Without other days: what the other window had, in proportion.
            let scale = (burst.until - burst.from) as f64 / BEFORE as f64;
            (before.of(is, value) as f64 * scale, before.of(is, value) as f64)
        }
        _ => (
            window(Window::UsuallyDuring).of(is, value) as f64 / days,
            window(Window::UsuallyBefore).of(is, value) as f64 / days,
        ),
    };
    let count = around.troubled.of(is, value);
    let (now, then) = (during.of(is, value), before.of(is, value));
    // Of troubled requests: against its part of those that were not.
    let well = during.requests + window(Window::UsuallyDuring).requests - around.troubled.requests;
    let well_with_it = now + window(Window::UsuallyDuring).of(is, value) - count;
    let part = (well_with_it as f64 + NEVER) / (well as f64 + 1.0);
    let concentrated = match trouble {
        Trouble::Any => 0.0,
        _ => divergence(count, around.troubled.requests, part),
    };
    let kinds = [
        (When::Troubled, concentrated),
        (When::During, surprise(now, usually.max(NEVER))),
        (When::Before, if around.days == 0 { 0.0 } else { surprise(then, usually_before.max(NEVER)) }),
    ];
    let (when, bits) = kinds.into_iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
    // Which page it was is told in any case.
    let is_the_page = is == Trait::Path && trouble != Trouble::Any && 2 * count > around.troubled.requests;
    let (when, bits) = match bits < LEAST {
        true if is_the_page => (When::Troubled, concentrated),
        true => return None,
        false => (when, bits),
    };
    let mut one = Evidence {
        r#trait: is,
        value: value.to_owned(),
        when,
        troubled: count,
        during: now,
        before: then,
        usually,
        usually_before,
        surprise: bits,
        words: String::new(),
    };
    one.words = words(&one, around.troubled.requests, part);
    Some(one)
}

/// How surprising it is that so many of all have something that usually a part has, in bits.
fn divergence(count: u64, all: u64, part: f64) -> f64 {
    if all == 0 || count as f64 <= all as f64 * part {
        return 0.0;
    }
    let (seen, all, part) = (count as f64 / all as f64, all as f64, part.clamp(1e-9, 1.0 - 1e-9));
    let rest = if seen < 1.0 { (1.0 - seen) * ((1.0 - seen) / (1.0 - part)).log2() } else { 0.0 };
    all * (seen * (seen / part).log2() + rest)
}

fn words(one: &Evidence, all: u64, part: f64) -> String {
    let value = &one.value;
    let mean = |count: f64| match count {
        0.0 => "none".to_owned(),
        few if few < 9.95 => format!("{few:.1}"),
        many => format!("{many:.0}"),
    };
    let (usually, usually_before) = (mean(one.usually), mean(one.usually_before));
    let who = match one.r#trait {
        Trait::Path => format!("for {value}"),
        Trait::Client => format!("by the client {value}"),
        Trait::Network => format!("from the network {value}"),
        Trait::Agent => format!("by {value}"),
        Trait::ReferrerHost => format!("from pages of {value}"),
    };
    match one.when {
        When::Troubled => {
            let part = part * 100.0;
            let part = if part < 0.05 { "next to none".to_owned() } else { format!("{part:.1} %") };
            format!("{} of the {all} came {who}; of the others at that time {part} do", one.troubled)
        }
        When::During => format!(
            "{} requests came {who} while it lasted; {} in the {BEFORE} minutes before, usually {usually}",
            one.during, one.before
        ),
        When::Before => format!(
            "{} requests came {who} in the {BEFORE} minutes before; usually {usually_before}, and {} while it lasted",
            one.before, one.during
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{Layout, LineReader};
    use crate::prelude::Minutes;
    use exedra_common::{Dictionaries, Projection, RequestBatch};
    use jiff::tz::TimeZone;

    fn line(minute: i64, second: i64, client: &str, path: &str, status: u16) -> String {
        let (day, hour, minute) = (1 + minute / 1440, minute / 60 % 24, minute % 60);
        format!(
            "{client} - - [{day:02}/Sep/2026:{hour:02}:{minute:02}:{second:02} +0000] \"GET {path} HTTP/1.1\" {status} 9 \"-\" \"boat/1\"\n"
        )
    }

    fn told(lines: &[String], trouble: Trouble) -> Vec<Prelude> {
        let layouts = [Layout::understand("combined").unwrap()];
        let mut reader = LineReader::new(&layouts, Projection::everything());
        let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
        reader.read_block(lines.concat().as_bytes(), 0, &mut 0, &mut batch, &mut texts);
        let mut minutes = Minutes::default();
        (0..batch.rows()).for_each(|row| minutes.add(&batch, row, trouble));
        let bursts = minutes.bursts(3, &TimeZone::UTC);
        // Two threads see what one sees.
        let parts = [0, 1].map(|part| {
            let mut tallies = Tallies::new(&bursts, trouble, minutes.span().unwrap(), &TimeZone::UTC, &[]);
            (0..batch.rows()).filter(|row| row % 2 == part).for_each(|row| tallies.add(&batch, row, &texts));
            tallies
        });
        let [mut tallies, other] = parts;
        tallies.merge(other);
        preludes(bursts, &tallies, trouble, false)
    }

    /// Five days of ten requests a minute; on the fourth at 12:00 one client asks for everything, and then a page fails.
    #[test]
    fn who_came_before_and_what_failed() {
        let mut lines = Vec::new();
        for minute in 0..5 * 1440 {
            for second in 0..6 {
                let client = format!("192.0.2.{}", (minute * 7 + second) % 90);
                let path = ["/", "/tides.html", "/map.html"][(second % 3) as usize];
                let burst = 3 * 1440 + 720;
                let fails = path == "/tides.html" && (burst..burst + 5).contains(&minute);
                lines.push(line(minute, second, &client, path, if fails { 503 } else { 200 }));
            }
            if (3 * 1440 + 712..3 * 1440 + 720).contains(&minute) {
                lines.extend(
                    (0..50).map(|second| line(minute, second, "203.0.113.9", &format!("/a{second}"), 200)),
                );
            }
            if (3 * 1440 + 720..3 * 1440 + 725).contains(&minute) {
                lines.extend((0..6).map(|second| line(minute, second, "192.0.2.1", "/tides.html", 503)));
            }
        }
        let found = told(&lines, Trouble::Class(5));
        assert_eq!(found.len(), 1, "{found:?}");
        let first = &found[0];
        assert_eq!((first.burst.from % 1440, first.burst.until - first.burst.from, first.days), (720, 5, 4));
        let said =
            |when, value: &str| first.evidence.iter().find(|one| one.when == when && one.value == value);
        let client = said(When::Before, "203.0.113.9").expect("the client that came before");
        assert_eq!((client.before, client.usually_before), (400, 0.0));
        let page = said(When::Troubled, "/tides.html").expect("the page that failed");
        assert_eq!(page.troubled, first.burst.troubled);
        assert!(
            first.evidence.iter().all(|one| one.r#trait != Trait::Network || one.value != "203.0.113.0/24")
        );
        assert!(first.evidence.len() <= MOST && first.evidence.iter().all(|one| one.value != "/map.html"));
    }
}
