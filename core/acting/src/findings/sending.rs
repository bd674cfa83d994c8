//! What is sent and need not be: files fetched again for want of a lifetime, text sent uncompressed, files that make up much of the
//! transfer, files that other sites' pages load.

use super::askers::PathNumber;
use super::counts::{Answered, PathCounts};
use super::{Asker, BYTES_OF_A_PERSON, Finding, FindingKind, OfSite, Sureness, several_people};
use crate::remedy::{Edit, Remedy, text};
use exedra_answering::answer::trace::Verdict;
use exedra_answering::answer::{Answer, Body, Form, Step};
use exedra_common::TextColumn;
use exedra_common::figures::{bytes, several};
use exedra_common::tables::{Table, TableColumn};
use exedra_reading::classify::paths::{Kind, extension, kind, saving};
use http::header;
use std::collections::BTreeMap;

/// How many rows evidence has.
const ROWS: usize = 12;
/// A file below this share of a site's transfer is not a large one, and below this size neither.
const LARGE_SHARE: f64 = 0.1;
const LARGE: u64 = 1_000_000;

/// Paths with what was counted of them.
type CountedPaths<'p> = Vec<(PathNumber, &'p str, &'p PathCounts)>;

/// The folder of a path, with a slash at its end.
fn folder(path: &str) -> &str {
    &path[..=path.rfind('/').unwrap_or(0)]
}

/// A text as a regular expression that fits nothing else.
fn literally(written: &str) -> String {
    let escaped = |letter: char| match letter.is_ascii_punctuation() && !matches!(letter, '/' | '-' | '_') {
        true => format!("\\{letter}"),
        false => letter.to_string(),
    };
    written.chars().map(escaped).collect()
}

/// What one folder's files of a type come to.
#[derive(Default)]
struct Together {
    paths: Vec<(PathNumber, String, u64, u64)>,
    bytes: u64,
    requests: u64,
}

/// Files that the same people were sent in full again, because nothing says how long they may be kept: one finding for each folder.
pub fn sent_again(of: OfSite<'_>) -> Vec<Finding> {
    let counts = of.counts();
    let mut folders: BTreeMap<String, Together> = BTreeMap::new();
    for (number, path, path_counts) in of.paths.iter().copied() {
        let sent = path_counts.requests(Answered::Sent);
        if !matches!(kind(path), Kind::Asset) || sent < 10 {
            continue;
        }
        let again = counts.people(&[number], Answered::Sent).again;
        if again < 5 || has_lifetime(&of.answer(path, Asker::default())) {
            continue;
        }
        let mean = path_counts.bytes(Answered::Sent) / sent.max(1);
        let together = folders.entry(folder(path).to_owned()).or_default();
        together.paths.push((number, path.to_owned(), again, again * mean));
        together.bytes += again * mean;
        together.requests += again;
    }
    // Many folders with the same parent are one matter.
    let parent = |folder: &str| folder[1..].find('/').map_or("/", |end| &folder[..end + 2]).to_owned();
    let mut siblings: BTreeMap<String, usize> = BTreeMap::new();
    folders.keys().for_each(|folder| *siblings.entry(parent(folder)).or_default() += 1);
    let mut merged: BTreeMap<String, Together> = BTreeMap::new();
    for (folder, together) in folders {
        let parent = parent(&folder);
        let name = if siblings.get(&parent).is_some_and(|count| *count > 2) { parent } else { folder };
        let known = merged.entry(name).or_default();
        known.paths.extend(together.paths);
        known.bytes += together.bytes;
        known.requests += together.requests;
    }
    merged.into_iter().map(|(folder, together)| sent_again_in(of, &folder, together)).collect()
}

/// Whether an answer says for how long it may be kept, or that it may not.
fn has_lifetime(answer: &Answer) -> bool {
    let field = answer.headers.get(header::CACHE_CONTROL).and_then(|value| value.to_str().ok());
    !answer.status.is_success()
        || field.is_some_and(|field| field.contains("max-age") || field.contains("no-"))
}

fn sent_again_in(of: OfSite<'_>, folder: &str, mut together: Together) -> Finding {
    together.paths.sort_by(|a, b| b.3.cmp(&a.3).then_with(|| a.1.cmp(&b.1)));
    let numbers: Vec<PathNumber> = together.paths.iter().map(|(number, ..)| *number).collect();
    let people = of.counts().people(&numbers, Answered::Sent);
    let columns = [
        TableColumn::of(TextColumn::Path),
        TableColumn::size("again_bytes", "sent again"),
        TableColumn::sum("again", "times"),
    ];
    let mut table = Table::new("repeats", "Sent again to the same people", columns);
    for (_, path, again, octets) in &together.paths {
        table.push([path.as_str().into(), (*octets).into(), (*again).into()]);
    }
    table.cut(ROWS);
    // Pictures change seldom; styles and scripts under the same name do.
    let is_code = together.paths.iter().any(|(_, path, ..)| {
        extension(path).is_some_and(|ending| matches!(&*ending, "css" | "js" | "mjs" | "json" | "map"))
    });
    let (lifetime, why) = match is_code {
        true => ("1 hour", "styles and scripts are among them: a new version is seen within the hour"),
        false => ("7 days", "they are pictures and the like, which seldom change under the same name"),
    };
    // A folder of pages keeps its pages fresh: only the files themselves are meant.
    let has_pages = of
        .inventory
        .files
        .iter()
        .any(|file| file.address.starts_with(folder) && matches!(kind(&file.address), Kind::Page));
    let mut endings: Vec<String> =
        together.paths.iter().filter_map(|(_, path, ..)| extension(path)).collect();
    endings.sort();
    endings.dedup();
    let path = match has_pages || folder == "/" {
        true => {
            let below = if folder == "/" { "[^/]+" } else { ".+" };
            let endings =
                if endings.len() == 1 { endings[0].clone() } else { format!("({})", endings.join("|")) };
            format!("{{ regex = {} }}", text(&format!("{}{below}\\.{endings}", literally(folder))))
        }
        false => text(&format!("{folder}{{*}}")),
    };
    let subject = folder;
    let name = format!("{} of {folder} may be kept", endings.join(", "));
    let settings = [("name", text(&name)), ("path", path), ("cache", text(lifetime))];
    let edit = Edit::rule(of.name(), settings, false);
    Finding {
        title: format!(
            "files in {folder} are fetched again and again, because nothing says how long they may be kept"
        ),
        cost: format!(
            "{} sent again to {}, who waited for what they had",
            bytes(together.bytes),
            several_people(people.again_people)
        ),
        sureness: Sureness::Likely,
        reasons: vec![
            format!(
                "{} of these files went to somebody who had had them before",
                several(together.requests, "answer", "answers")
            ),
            "no Cache-Control is sent with them, so that browsers guess".to_owned(),
            why.to_owned(),
        ],
        evidence: table,
        command: format!("exedra report --site {} --show repeats", of.name()),
        remedy: Some(Remedy { words: format!("let browsers keep them for {lifetime}"), edits: vec![edit] }),
        ..of.finding(FindingKind::SentAgain, subject)
    }
    .weighed(people.again_people / 50, together.requests, together.bytes)
}

/// Text that is sent uncompressed to clients that take it compressed: one finding for each type, with the reason.
pub fn uncompressed(of: OfSite<'_>) -> Vec<Finding> {
    let mut types: BTreeMap<(String, Why), CountedPaths<'_>> = BTreeMap::new();
    for (number, path, counts) in of.paths.iter().copied() {
        if counts.plain < 5 || counts.plain_bytes / counts.plain < 256 {
            continue;
        }
        if let Some(why) = why_plain(of, path) {
            let ending = extension(path).unwrap_or_else(|| "html".to_owned());
            types.entry((ending, why)).or_default().push((number, path, counts));
        }
    }
    types.into_iter().map(|((ending, why), paths)| uncompressed_type(of, &ending, why, &paths)).collect()
}

/// Why a file is sent uncompressed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Why {
    /// Its type is not among those that are compressed.
    Type(String),
    /// No codec is configured.
    NoCodecs,
    /// It is smaller than what is compressed.
    Small(u64),
}

fn why_plain(of: OfSite<'_>, path: &str) -> Option<Why> {
    let (answer, trace) = of.traced(path);
    if !matches!(answer.body, Body::File { form: Form::Plain, .. }) {
        return None;
    }
    if of.site.compress.codecs.is_empty() {
        return Some(Why::NoCodecs);
    }
    trace.steps.into_iter().find_map(|step| match step {
        Step::Codec { verdict: Verdict::Type(essence), .. } => Some(Why::Type(essence.to_string())),
        Step::Codec { verdict: Verdict::Small { at_least, .. }, .. } => Some(Why::Small(at_least)),
        _ => None,
    })
}

fn uncompressed_type(of: OfSite<'_>, ending: &str, why: Why, paths: &CountedPaths<'_>) -> Finding {
    let numbers: Vec<PathNumber> = paths.iter().map(|(number, ..)| *number).collect();
    let sent: u64 = paths.iter().map(|(.., counts)| counts.plain_bytes).sum();
    let requests: u64 = paths.iter().map(|(.., counts)| counts.plain).sum();
    let saved: f64 = paths.iter().map(|(_, path, counts)| counts.plain_bytes as f64 * saving(path)).sum();
    let people = of.people(&numbers, Answered::Sent);
    let columns = [
        TableColumn::of(TextColumn::Path),
        TableColumn::size("plain_bytes", "sent uncompressed"),
        TableColumn::sum("requests", "requests"),
    ];
    let mut table = Table::new("uncompressed", "Text sent uncompressed", columns);
    let mut rows: Vec<_> = paths.clone();
    rows.sort_by(|a, b| b.2.plain_bytes.cmp(&a.2.plain_bytes).then_with(|| a.1.cmp(b.1)));
    for (_, path, counts) in rows {
        table.push([path.into(), counts.plain_bytes.into(), counts.plain.into()]);
    }
    table.cut(ROWS);
    let (reason, remedy) = match &why {
        Why::Type(essence) => {
            let edit = Edit::Entries {
                site: Some(of.name().to_owned()),
                section: "compress".to_owned(),
                key: "types".to_owned(),
                add: vec![essence.clone()],
                otherwise: of.site.compress.types.iter().map(ToString::to_string).collect(),
            };
            let words = format!("compress {essence} as well");
            (
                format!("{essence} is not among the `types` that are compressed"),
                Some(Remedy { words, edits: vec![edit] }),
            )
        }
        Why::NoCodecs => {
            let edit = Edit::Entries {
                site: Some(of.name().to_owned()),
                section: "compress".to_owned(),
                key: "codecs".to_owned(),
                add: vec!["br".to_owned(), "zstd".to_owned(), "gzip".to_owned()],
                otherwise: Vec::new(),
            };
            let words = "compress by Brotli, Zstandard and gzip".to_owned();
            ("`codecs` is empty: nothing is compressed".to_owned(), Some(Remedy { words, edits: vec![edit] }))
        }
        Why::Small(least) => (format!("these files are smaller than `at_least` ({})", bytes(*least)), None),
    };
    Finding {
        title: format!("{ending} is sent uncompressed"),
        cost: format!("about {} too much, to {}", bytes(saved as u64), several_people(people)),
        sureness: Sureness::Likely,
        reasons: vec![
            reason,
            "how much it would save is a guess by its type; exedra weigh measures it".to_owned(),
        ],
        evidence: table,
        command: format!("exedra report --site {} --show uncompressed", of.name()),
        remedy,
        ..of.finding(FindingKind::Uncompressed, ending)
    }
    .weighed(people / 20, requests, (saved as u64).min(sent))
}

/// Files that make up much of what a site sends.
pub fn large_files(of: OfSite<'_>) -> Vec<Finding> {
    let all: u64 = of.paths.iter().map(|(.., counts)| counts.bytes.iter().sum::<u64>()).sum();
    let mut found = Vec::new();
    for (number, path, counts) in of.paths.iter().copied() {
        let sent: u64 = counts.bytes.iter().sum();
        if (sent as f64) < all as f64 * LARGE_SHARE {
            continue;
        }
        let Some(size) = of.inventory.bytes(path).filter(|size| *size >= LARGE) else { continue };
        let people = of.counts().people(&[number], Answered::Sent);
        let columns = [
            TableColumn::of(TextColumn::Path),
            TableColumn::size("size", "size"),
            TableColumn::size("sent", "sent"),
            TableColumn::sum("requests", "requests"),
            TableColumn::count("people", "people"),
            TableColumn::sum("again", "by the same again"),
        ];
        let mut table = Table::new("large_file", "What it costs", columns);
        table.push([
            path.into(),
            size.into(),
            sent.into(),
            counts.requests(Answered::Sent).into(),
            people.people.into(),
            people.again.into(),
        ]);
        // What is held back when the allowance is used up has been thought of.
        let is_held_back = of.seen.config.may_hold_back(of.id);
        if is_held_back && kind(path) == Kind::Download {
            continue;
        }
        let is_picture = matches!(
            extension(path).as_deref(),
            Some("jpg" | "jpeg" | "png" | "gif" | "bmp" | "tif" | "tiff")
        );
        let advice = match is_picture {
            true => {
                "A picture of this size is seldom needed: a smaller one for pages, and the large one behind a link."
            }
            false => {
                "A smaller edition beside it (a lower bit rate, parts by chapter) would spare most of it."
            }
        };
        let remedy = (of.site.allowance.is_some() && kind(path) == Kind::Download).then(|| Remedy {
            words: "refuse downloads, and not pages, when the month's allowance is used up".to_owned(),
            edits: vec![Edit::Setting {
                site: of.name().to_owned(),
                key: "at_allowance".to_owned(),
                value: text("refuse downloads"),
            }],
        });
        let percent = 100.0 * sent as f64 / all.max(1) as f64;
        found.push(
            Finding {
                title: format!("{path} is {percent:.0} % of what {} sends", of.name()),
                cost: format!(
                    "{} in {} of {}; {} fetched it",
                    bytes(sent),
                    several(counts.requests(Answered::Sent), "answer", "answers"),
                    bytes(size),
                    several_people(people.people)
                ),
                reasons: vec![format!("about {} a month at this pace", bytes(of.a_month(sent)))],
                evidence: table,
                command: format!("exedra report --site {} --show paths --by bytes", of.name()),
                remedy,
                advice: Some(advice.to_owned()),
                ..of.finding(FindingKind::LargeFile, path)
            }
            .weighed(0, counts.requests(Answered::Sent), sent / 4),
        );
    }
    found
}

/// Sites whose pages load files from here.
pub fn embedded(of: OfSite<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (host, from) in of.counts().embedding(of.name()) {
        // Below that it is a link that somebody followed, or a mail.
        if from.requests < 20 || (from.bytes as f64) < BYTES_OF_A_PERSON {
            continue;
        }
        let page = format!("https://{host}/");
        let mut paths = from.paths.clone();
        paths.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
        let path = |number: PathNumber| of.counts().name(number).1;
        let Some(top) = paths.first().map(|(path, _)| *path).or(from.some) else { continue };
        // Refused already, or not?
        let asker = Asker { referrer: Some(&page), ..Asker::default() };
        if !of.answer(path(top), asker).status.is_success() {
            continue;
        }
        let columns = [TableColumn::of(TextColumn::Path), TableColumn::sum("requests", "at least so often")];
        let mut table = Table::new("embedded", "What its pages load", columns);
        for (number, times) in &paths {
            table.push([path(*number).into(), (*times).into()]);
        }
        table.cut(ROWS);
        let folders: Vec<&str> = paths.iter().map(|(number, _)| folder(path(*number))).collect();
        let common =
            folders.first().filter(|first| **first != "/" && folders.iter().all(|one| one == *first));
        let place = if paths.len() == 1 {
            path(top).to_owned()
        } else if let Some(common) = common {
            format!("{common}{{*}}")
        } else {
            "/{*}".to_owned()
        };
        let settings = [
            ("name", text(&format!("not for pages of {host}"))),
            ("path", text(&place)),
            (
                "when",
                format!(
                    "{{ referrer = [{}, {}] }}",
                    text(&format!("http://{host}/*")),
                    text(&format!("https://{host}/*"))
                ),
            ),
            ("refuse", "403".to_owned()),
        ];
        let edit = Edit::rule(of.name(), settings, true);
        found.push(
            Finding {
                title: format!("pages of {host} load files from {}", of.name()),
                cost: format!("{} in {}, for readers of another site", bytes(from.bytes), several(from.requests, "request", "requests")),
                sureness: Sureness::Certain,
                reasons: vec![
                    format!("{} is what they load most", path(top)),
                    format!("about {} a month at this pace", bytes(of.a_month(from.bytes))),
                ],
                evidence: table,
                command: format!("exedra report --site {} --show paths --only 'referrer_host={host}'", of.name()),
                remedy: Some(Remedy { words: format!("refuse these files to pages of {host}"), edits: vec![edit] }),
                advice: Some("A smaller copy under another address costs less than a refusal, and annoys nobody: ask them to use it.".to_owned()),
                ..of.finding(FindingKind::Embedded, host)
            }
            .weighed(0, from.requests, from.bytes),
        );
    }
    found
}
