//! Who asks far more than people do, and who looks for a way in.

use super::askers::PathNumber;
use super::askers::{ClientCounts, FEW};
use super::counts::Answered;
use super::{Asker, Finding, FindingKind, OfSite, Sureness};
use crate::remedy::{Edit, Remedy, text};
use exedra_common::TextColumn;
use exedra_common::figures::{bytes, grouped, several};
use exedra_common::tables::{Table, TableColumn};
use exedra_reading::classify::agents;
use std::net::IpAddr;

/// How many clients of a site are looked at.
const MOST: usize = 200;
/// Fewer requests than this are no burden, and fewer minutes in a hurry are somebody who clicked through everything.
const MANY: u64 = 1_000;
const LONG: u64 = 10;
/// A crawler that asks so often for each thing there is goes round and round.
const ROUNDS: u64 = 5;
/// Fewer attempts than this are not worth a rule.
const ATTEMPTS: u64 = 100;

/// Clients that ask far more often than people do: by their pace, or by going round and round.
pub fn hammering(of: OfSite<'_>) -> Vec<Finding> {
    let all: u64 = of.paths.iter().map(|(.., counts)| counts.requests.iter().sum::<u64>()).sum();
    let things = of.inventory.files.len().max(1) as u64;
    let mut found = Vec::new();
    for (client, counts) in of.counts().clients(of.name()).into_iter().take(MOST) {
        let is_hurried = counts.hurried_minutes >= LONG && counts.hurried_requests >= MANY;
        let is_crawler = agents::read(&counts.agent).crawler.is_some();
        // One that looks at one page now and then watches it.
        let most = counts.paths.iter().map(|(_, times)| *times).max().unwrap_or(0);
        let goes_round = is_crawler
            && counts.requests >= MANY
            && counts.requests >= things * ROUNDS
            && most * 2 < counts.requests;
        let is_much = counts.requests as f64 >= all as f64 * 0.01;
        if (is_hurried || goes_round) && is_much && !client.is_empty() {
            found.extend(hammering_client(of, client, counts, all, is_hurried));
        }
    }
    found
}

fn hammering_client(
    of: OfSite<'_>,
    client: &str,
    counts: &ClientCounts,
    all: u64,
    is_hurried: bool,
) -> Option<Finding> {
    let mut paths = counts.paths.clone();
    paths.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
    let path = |number: PathNumber| of.counts().name(number).1;
    let (top, times) = paths.first().copied().or(counts.some.map(|some| (some, 0)))?;
    // What the configuration lets it have now: refused or limited below its pace, it is no longer a burden.
    let address: Option<IpAddr> = client.parse().ok();
    let asker = Asker { client: address, agent: Some(&counts.agent), ..Asker::default() };
    let answer = of.answer(path(top), asker);
    let pace = f64::from(counts.busiest) / 60.0;
    let limits = answer.obligations.as_deref().map_or(&[][..], |obligations| &obligations.limits);
    // A crawler that takes its time does not hurry in any minute: what it is allowed must be less than what it takes in the long run.
    let usual = counts.requests as f64 / (of.counts().days() * 86_400.0);
    let bound = if is_hurried { pace } else { usual };
    let is_limited = limits.iter().any(|limit| limit.requests.is_some_and(|rate| rate < bound * 0.75));
    if matches!(answer.status.as_u16(), 401 | 403 | 410) || is_limited {
        return None;
    }
    let name = agents::read(&counts.agent).crawler.clone();
    let columns = [
        TableColumn::sum("requests", "requests"),
        TableColumn::size("bytes", "bytes sent"),
        TableColumn::count("busiest", "in its busiest minute"),
        TableColumn::sum("hurried_minutes", "minutes with more than 30"),
    ];
    let mut table = Table::new("hammering", "What it asked for", columns);
    table.push([
        counts.requests.into(),
        counts.bytes.into(),
        u64::from(counts.busiest).into(),
        counts.hurried_minutes.into(),
    ]);
    let share = 100.0 * counts.requests as f64 / all.max(1) as f64;
    let who = name.as_ref().map_or_else(|| client.to_owned(), |name| format!("{name} ({client})"));
    let title = match is_hurried {
        true if times * 10 >= counts.requests * 8 => {
            format!("{who} fetches {} again and again, up to {} times a minute", path(top), counts.busiest)
        }
        true => format!("{who} asks up to {} times a minute", counts.busiest),
        false => format!("{who} goes through the whole site again and again"),
    };
    let mut reasons = vec![format!("{share:.0} % of all requests to {}", of.name())];
    if is_hurried {
        let hours = counts.hurried_minutes as f64 / 60.0;
        reasons.push(format!("more than 30 requests a minute during {hours:.1} hours"));
    }
    if !is_hurried {
        let things = of.inventory.files.len() as u64;
        reasons.push(format!(
            "{} for {}",
            several(counts.requests, "request", "requests"),
            several(things, "file", "files")
        ));
    }
    // A crawler comes from another address tomorrow, and keeps its name.
    let (fact, value) = match (&name, address) {
        (Some(name), _) if !is_hurried => ("agent", text(&format!("*{name}*"))),
        (_, Some(_)) => ("client", text(client)),
        (_, None) => return None,
    };
    let called = if fact == "agent" { name.clone().unwrap_or_default() } else { client.to_owned() };
    // Once a day through everything is as often as anything changes here.
    let whole = (of.inventory.files.len() as u64).div_ceil(24).max(5);
    let rate = if is_hurried { "10 a minute".to_owned() } else { format!("{whole} an hour") };
    let name = ("name", text(&format!("{called} asks too much")));
    let when = ("when", format!("{{ {fact} = {value} }}"));
    let limit = ("limit", format!("{{ requests = {}, at_once = 20 }}", text(&rate)));
    // What depends on who asks is kept by no cache for others: the fewer paths the better.
    let edit = match times * 10 >= counts.requests * 8 {
        true => {
            let place = ("path", text(&path(top).replace('{', "{{").replace('}', "}}")));
            Edit::rule(of.name(), [name, place, when, limit], true)
        }
        false => Edit::rule(of.name(), [name, when, limit], true),
    };
    let weight = counts.requests / 200;
    let finding = Finding {
        title,
        cost: format!(
            "{} and {} sent to it",
            several(counts.requests, "request", "requests"),
            bytes(counts.bytes)
        ),
        sureness: if is_hurried { Sureness::Certain } else { Sureness::Likely },
        reasons,
        evidence: table,
        command: format!("exedra trail {client} --site {}", of.name()),
        remedy: Some(Remedy { words: format!("allow it {rate}"), edits: vec![edit] }),
        ..of.finding(FindingKind::Hammering, client)
    }
    .weighed(0, counts.requests, counts.bytes);
    Some(Finding { weight: finding.weight + weight as f64, ..finding })
}

/// Networks from which somebody looks for a way in.
pub fn probing(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (network, from) in of.counts().probing(of.name()) {
        if from.requests < ATTEMPTS {
            continue;
        }
        let address: Option<IpAddr> = from.clients.iter().min().and_then(|client| client.parse().ok());
        let most = from.paths.iter().max_by_key(|(_, times)| *times).map(|(path, _)| *path);
        let Some(top) = most.or(from.some) else { continue };
        let path = |number: PathNumber| of.counts().name(number).1;
        let answer = of.answer(path(top), Asker { client: address, ..Asker::default() });
        if answer.status.as_u16() == 403 {
            continue;
        }
        let columns = [TableColumn::of(TextColumn::Path), TableColumn::sum("requests", "at least so often")];
        let mut table = Table::new("probing", "What it tried", columns);
        let mut paths = from.paths.clone();
        paths.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
        for (number, times) in &paths {
            table.push([path(*number).into(), (*times).into()]);
        }
        // What was found by such a path is another matter: that is an exposure.
        let succeeded: u64 =
            paths.iter().map(|(number, _)| of.counts().of(*number).requests(Answered::Sent)).sum();
        // Others of the network may be people: those who tried are meant, where they are few enough to be known.
        let mut clients: Vec<&str> = from.clients.iter().map(|client| &**client).collect();
        clients.sort_unstable();
        let whom = match clients.len() < FEW {
            true => format!("[{}]", clients.iter().map(|client| text(client)).collect::<Vec<_>>().join(", ")),
            false => text(network),
        };
        let called = match &*clients {
            [one] => (*one).to_owned(),
            few if few.len() < FEW => format!("{} addresses of {network}", few.len()),
            _ => format!("the network {network}"),
        };
        let is_several = clients.len() > 1 && clients.len() < FEW;
        // Where others of the network come for what there is, refusing all of it would shut them out.
        let others = of.counts().clients(of.name()).into_iter().filter(|(client, _)| is_in(client, network));
        let all: u64 = others.map(|(_, counts)| counts.requests).sum();
        let is_all = clients.len() < FEW || all < from.requests * 2;
        let settings = [
            ("name", text(&format!("{called} {} for a way in", if is_several { "look" } else { "looks" }))),
            ("when", format!("{{ client = {whom} }}")),
            ("refuse", "403".to_owned()),
        ];
        let edit = Edit::rule(of.name(), settings, true);
        let finding = Finding {
            title: format!("{called} {} for a way in", if is_several { "look" } else { "looks" }),
            cost: format!(
                "{}, all for things that are not there",
                several(from.requests, "attempt", "attempts")
            ),
            sureness: Sureness::Likely,
            reasons: vec![
                match clients.len() < FEW {
                    true => format!("from {}", clients.join(", ")),
                    false => format!("from {FEW} addresses of this network, or more"),
                },
                match succeeded {
                    0 => "none of it was found".to_owned(),
                    found => format!("{} of these paths were answered in full: look at them", grouped(found)),
                },
            ],
            evidence: table,
            command: format!("exedra requests --site {} --only 'client={network}'", of.name()),
            remedy: is_all.then(|| Remedy { words: format!("refuse {called}"), edits: vec![edit] }),
            advice: Some(match is_all {
                true => "It costs little: refuse it where the log should be quiet, or set it aside.".to_owned(),
                false => format!(
                    "{} of this network were for what there is: refuse the addresses that probe, and not all of it.",
                    several(all - from.requests, "request", "requests")
                ),
            }),
            ..of.finding(FindingKind::Probing, network)
        }
        .weighed(0, from.requests, from.bytes);
        found.push(Finding { weight: finding.weight + from.requests as f64 / 20.0, ..finding });
    }
    found
}

/// Whether an address is in a network as it was counted.
fn is_in(client: &str, network: &str) -> bool {
    let client: Option<IpAddr> = client.parse().ok();
    let network: Option<ipnet::IpNet> = network.parse().ok();
    network.zip(client).is_some_and(|(network, client)| network.contains(&client))
}
