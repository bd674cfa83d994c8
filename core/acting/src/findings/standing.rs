//! What is so at present, whoever comes: exposures, guards, the month's allowance, certificates, error pages.

use super::counts::Answered;
use super::{Asker, Finding, FindingKind, OfSite, Sureness, several_people};
use crate::remedy::{Edit, Remedy, text};
use exedra_answering::check;
use exedra_common::TextColumn;
use exedra_common::figures::{bytes, several};
use exedra_common::tables::{Table, TableColumn};
use exedra_common::text::capital;
use std::collections::BTreeMap;

/// A certificate that ends within so many days is a finding.
const ENDS_SOON: f64 = 21.0;
/// How many rows evidence has.
const ROWS: usize = 12;

/// What should not be reachable and was reached; of what only could be, the audit tells.
pub fn exposures(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for exposed in of.seen.present.exposed.iter().filter(|exposed| exposed.site == of.name()) {
        // A folder that is listed on purpose is no secret.
        if exposed.kind == "listing" {
            continue;
        }
        let Some(number) = of.counts().known(of.name(), &exposed.path) else { continue };
        let counts = of.counts().of(number);
        let reached = counts.requests(Answered::Sent) + counts.requests(Answered::Same);
        if reached == 0 || !of.answer(&exposed.path, Asker::default()).status.is_success() {
            continue;
        }
        let columns = [
            TableColumn::of(TextColumn::Path),
            TableColumn::sum("requests", "answered in full"),
            TableColumn::size("bytes", "bytes sent"),
        ];
        let mut table = Table::new("exposure", "Who had it", columns);
        table.push([exposed.path.as_str().into(), reached.into(), counts.bytes(Answered::Sent).into()]);
        let settings = [
            ("name", text(&format!("{} is nobody's business", exposed.path))),
            ("path", text(&exposed.path.replace('{', "{{").replace('}', "}}"))),
            ("refuse", "404".to_owned()),
        ];
        let edit = Edit::rule(of.name(), settings, true);
        let finding = Finding {
            title: format!("{} can be had by anybody, and has been", exposed.path),
            cost: format!("it was sent {}: what was in it is known", several(reached, "time", "times")),
            reasons: vec![format!("{}: {}", exposed.kind, exposed.reason)],
            evidence: table,
            command: format!("exedra requests --site {} --only 'path={}'", of.name(), exposed.path),
            remedy: Some(Remedy { words: format!("answer 404 for {}", exposed.path), edits: vec![edit] }),
            advice: Some(format!("{}.", capital(&exposed.remedy))),
            ..of.finding(FindingKind::Exposure, &exposed.path)
        }
        .weighed(0, reached, 0);
        // One is enough.
        found.push(Finding { weight: 10_000.0 + reached as f64, ..finding });
    }
    found
}

/// Guards that nobody has passed, and those that everybody fails at: one finding for each folder that asks for a password.
pub fn guards(of: OfSite<'_>) -> Vec<Finding> {
    let mut folders: BTreeMap<&str, (u64, u64)> = BTreeMap::new();
    for (_, path, counts) in of.paths.iter().copied() {
        let asked = counts.requests(Answered::Login);
        if asked == 0 && counts.signed_in == 0 {
            continue;
        }
        // The first part of the path: what is guarded is guarded from there on.
        let end = path[1..].find('/').map_or(path.len(), |end| end + 2);
        let folder = folders.entry(&path[..end]).or_default();
        folder.0 += asked;
        folder.1 += counts.signed_in;
    }
    let mut found = Vec::new();
    for (folder, (asked, passed)) in folders {
        // Each time somebody comes they are asked once; much more is somebody who does not know.
        if passed > 0 || asked < 20 || of.answer(folder, Asker::default()).status.as_u16() != 401 {
            continue;
        }
        let columns = [
            TableColumn::text("folder", "folder"),
            TableColumn::sum("asked", "asked for a password"),
            TableColumn::sum("passed", "let in"),
        ];
        let mut table = Table::new("guard", "Who passed", columns);
        table.push([folder.into(), asked.into(), passed.into()]);
        found.push(
            Finding {
                title: format!("nobody has passed the login of {folder}"),
                cost: format!("{} were asked for a password, and none was let in", several(asked, "request", "requests")),
                sureness: Sureness::Likely,
                reasons: vec![
                    "a login that nobody uses is a door for whoever guesses, and one that nobody can use keeps out its own people".to_owned(),
                ],
                evidence: table,
                command: format!("exedra requests --site {} --only 'path={folder}*' --only status=401", of.name()),
                advice: Some("Try it with a user of its own; if nobody needs it any more, let a rule refuse the folder.".to_owned()),
                ..of.finding(FindingKind::Guard, folder)
            }
            .weighed(asked / 10, asked, 0),
        );
    }
    found
}

/// An allowance that will not last for the month.
pub fn allowance(of: OfSite<'_>) -> Vec<Finding> {
    let months = of.seen.present.months.iter().filter(|month| month.site == of.name());
    // Where downloads are held back by then, somebody has decided what happens.
    let at_risk =
        months.filter(|month| month.expected > month.allowance && !of.seen.config.may_hold_back(of.id));
    let finding = |month: &super::SiteMonth| {
        let columns = [
            TableColumn::size("allowance", "allowance"),
            TableColumn::size("sent", "sent so far"),
            TableColumn::size("expected", "expected"),
        ];
        let mut table = Table::new("allowance", "This month", columns);
        table.push([month.allowance.into(), month.sent.into(), month.expected.into()]);
        let over = month.expected - month.allowance;
        let when = month
            .runs_out
            .as_ref()
            .map_or(String::new(), |day| format!(" It is used up on {day}, as expected."));
        let remedy = Remedy {
            words: "refuse downloads, and not pages, once it is used up".to_owned(),
            edits: vec![Edit::Setting {
                site: of.name().to_owned(),
                key: "at_allowance".to_owned(),
                value: text("refuse downloads"),
            }],
        };
        Finding {
            title: format!("the allowance of {} will not last for the month", of.name()),
            cost: format!("{} more than the {} that are allowed", bytes(over), bytes(month.allowance)),
            sureness: Sureness::Likely,
            reasons: vec![format!(
                "{} sent so far, about {} expected.{when}",
                bytes(month.sent),
                bytes(month.expected)
            )],
            evidence: table,
            command: format!("exedra allowance --site {}", of.name()),
            remedy: Some(remedy),
            ..of.finding(FindingKind::Allowance, of.name())
        }
        .weighed(0, 0, over)
    };
    at_risk.map(finding).map(|finding| Finding { weight: finding.weight + 50.0, ..finding }).collect()
}

/// Certificates that end soon.
pub fn certificates(of: OfSite<'_>) -> Vec<Finding> {
    let hosts = &of.site.hosts;
    let certificates = of.seen.present.certificates.iter();
    let ours = certificates
        .filter(|(host, left)| *left < ENDS_SOON && hosts.iter().any(|known| known.value == *host));
    let finding = |(host, left): &(String, f64)| {
        let columns = [TableColumn::text("host", "host"), TableColumn::count("days", "days left")];
        let mut table = Table::new("certificate", "Certificate", columns);
        table
            .push([host.as_str().into(), exedra_common::tables::Cell::Decimal((left * 10.0).round() / 10.0)]);
        let people: u64 = of.paths.iter().map(|(.., counts)| counts.of_people.iter().sum::<u64>()).sum();
        let title = match *left {
            left if left < 0.0 => format!("the certificate of {host} has ended"),
            left => {
                format!("the certificate of {host} ends in {}", several(left.ceil() as u64, "day", "days"))
            }
        };
        let finding = Finding {
            title,
            cost: "browsers will warn of the site, and most people turn away".to_owned(),
            reasons: vec![format!("{} of people came in this time", several(people, "request", "requests"))],
            evidence: table,
            command: "exedra check".to_owned(),
            advice: Some(
                "Put the new certificate in place of the old one: it is picked up when the file changes."
                    .to_owned(),
            ),
            ..of.finding(FindingKind::Certificate, host)
        }
        .weighed(0, people, 0);
        Finding { weight: 100.0 * (ENDS_SOON - left.max(0.0)), ..finding }
    };
    ours.map(finding).collect()
}

/// Error pages that cannot be shown themselves, where errors were.
pub fn error_pages(of: OfSite<'_>) -> Vec<Finding> {
    let pages = &of.site.error_pages;
    let by_status = pages.by_status.iter().map(|(status, page)| (*status, page));
    let by_class = pages.by_class.iter().map(|(class, page)| (class * 100, page));
    let mut found = Vec::new();
    let wrong = check::pages::check(of.seen.config, of.seen.folders, &[]);
    for (status, page) in by_status.chain(by_class) {
        let Some(diagnostic) = wrong.iter().find(|one| one.span == page.span) else { continue };
        let answered = match status {
            404 | 410 => Answered::Missing,
            403 => Answered::Refused,
            401 => Answered::Login,
            500..=599 => Answered::Failed,
            _ => Answered::Missing,
        };
        let paths: Vec<_> = of.paths.to_vec();
        let numbers: Vec<_> = paths
            .iter()
            .filter(|(.., counts)| counts.of_people(answered) > 0)
            .map(|(number, ..)| *number)
            .collect();
        let people = of.people(&numbers, answered);
        let requests: u64 = paths.iter().map(|(.., counts)| counts.of_people(answered)).sum();
        let columns = [
            TableColumn::text("page", "error page"),
            TableColumn::count("status", "status"),
            TableColumn::sum("requests", "errors of people"),
        ];
        let mut table = Table::new("error_page", "Errors that it was for", columns);
        table.push([page.value.as_str().into(), u64::from(status).into(), requests.into()]);
        table.cut(ROWS);
        found.push(
            Finding {
                title: format!("the error page {} cannot be shown", page.value),
                cost: format!("{} saw the built-in page instead", several_people(people)),
                reasons: vec![format!("{}: {}", diagnostic.message, diagnostic.reason)],
                evidence: table,
                command: "exedra check".to_owned(),
                advice: diagnostic.remedy.as_ref().map(|remedy| format!("{}.", capital(remedy))),
                ..of.finding(FindingKind::ErrorPage, &page.value)
            }
            .weighed(people / 2, requests, 0),
        );
    }
    found
}
