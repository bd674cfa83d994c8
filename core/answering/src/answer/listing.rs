//! The listing of a folder: a page for people, JSON for programs.
//!
//! Folders stand in a block of their own above the files. The order is chosen by links, without script:
//! `?by=name`, `?by=-size`, `?by=changed`; long listings are cut into pages, `?page=2`.
//!
//! ```
//! use exedra_answering::answer::listing::{Kind, Listed, Wanted, json};
//! let tides = Listed { name: "high tide.txt".to_owned(), kind: Kind::File, bytes: 512, changed: 0 };
//! assert_eq!(tides.link(), "high%20tide.txt");
//! let all = json(&[tides.clone()], Wanted::understand("by=-size"), |_| true);
//! assert!(all.contains("512"));
//! let none = json(&[tides], Wanted::understand(""), |_| false);
//! assert!(!none.contains("512"), "whoever may not open it does not see it");
//! ```

use super::pages::escaped;
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use serde::Serialize;
use std::cmp::Ordering;
use std::fmt::Write as _;

/// How many entries stand on one page.
pub const ON_A_PAGE: usize = 1000;

/// Everything in a path segment but unreserved characters (RFC 3986 §2.3).
const SEGMENT: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'!')
    .add(b'"')
    .add(b'#')
    .add(b'$')
    .add(b'%')
    .add(b'&')
    .add(b'\'')
    .add(b'(')
    .add(b')')
    .add(b'*')
    .add(b'+')
    .add(b',')
    .add(b'/')
    .add(b':')
    .add(b';')
    .add(b'<')
    .add(b'=')
    .add(b'>')
    .add(b'?')
    .add(b'@')
    .add(b'[')
    .add(b'\\')
    .add(b']')
    .add(b'^')
    .add(b'`')
    .add(b'{')
    .add(b'|')
    .add(b'}');

/// How many entries of a folder are listed. Whoever looks at the disk stops there, and the page says so.
pub const MOST_LISTED: usize = 100_000;

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A folder.
    Folder,
    /// A file.
    File,
}

/// One entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Length of a file in bytes.
    pub bytes: u64,
    /// When it last changed, in seconds since 1970 UTC.
    pub changed: i64,
}

impl Listed {
    /// Its address within its folder.
    pub fn link(&self) -> String {
        let slash = if self.kind == Kind::Folder { "/" } else { "" };
        format!("{}{slash}", utf8_percent_encode(&self.name, SEGMENT))
    }
}

/// The order of a listing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Order {
    by: By,
    reversed: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    Name,
    Size,
    Changed,
}

impl By {
    const ALL: [(By, &'static str); 3] = [(By::Name, "name"), (By::Size, "size"), (By::Changed, "changed")];
}

/// The page that a query asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wanted {
    order: Order,
    page: usize,
}

impl Wanted {
    /// Understands a query; what it does not say, or says badly, is by name and the first page.
    pub fn understand(query: &str) -> Wanted {
        let mut wanted = Wanted { order: Order { by: By::Name, reversed: false }, page: 1 };
        for (name, value) in query.split('&').filter_map(|pair| pair.split_once('=')) {
            if name == "page" {
                wanted.page = value.parse().unwrap_or(1).max(1);
            } else if name == "by" {
                let (reversed, word) = value.strip_prefix('-').map_or((false, value), |word| (true, word));
                if let Some((by, _)) = By::ALL.iter().find(|(_, name)| *name == word) {
                    wanted.order = Order { by: *by, reversed };
                }
            }
        }
        wanted
    }
}

/// The entries in the order wanted, folders first; hidden ones left out.
fn ordered(entries: &[Listed], order: Order) -> Vec<&Listed> {
    let mut shown: Vec<&Listed> = entries.iter().filter(|entry| !entry.name.starts_with('.')).collect();
    let by_name = |a: &Listed, b: &Listed| -> Ordering {
        a.name.to_lowercase().cmp(&b.name.to_lowercase()).then_with(|| a.name.cmp(&b.name))
    };
    shown.sort_by_cached_key(|entry| entry.name.to_lowercase());
    shown.sort_by(|a, b| {
        let order_of_two = match order.by {
            By::Name => by_name(a, b),
            // Folders have none that would tell anything.
            By::Size if a.kind == Kind::Folder => Ordering::Equal,
            By::Size => a.bytes.cmp(&b.bytes),
            By::Changed => a.changed.cmp(&b.changed),
        };
        let order_of_two = if order.reversed { order_of_two.reverse() } else { order_of_two };
        (a.kind == Kind::File).cmp(&(b.kind == Kind::File)).then(order_of_two)
    });
    shown
}

/// The listing as JSON: a list of `name`, `kind`, `bytes` and `changed` (RFC 3339), all of it that may be seen.
pub fn json(entries: &[Listed], wanted: Wanted, may_be_seen: impl Fn(&Listed) -> bool) -> String {
    #[derive(Serialize)]
    struct Row<'e> {
        name: &'e str,
        kind: Kind,
        #[serde(skip_serializing_if = "Option::is_none")]
        bytes: Option<u64>,
        changed: String,
    }
    let rows: Vec<Row<'_>> = ordered(entries, wanted.order)
        .into_iter()
        .filter(|entry| may_be_seen(entry))
        .map(|entry| Row {
            name: &entry.name,
            kind: entry.kind,
            bytes: (entry.kind == Kind::File).then_some(entry.bytes),
            changed: jiff::Timestamp::from_second(entry.changed).unwrap_or_default().to_string(),
        })
        .collect();
    serde_json::to_string(&rows).unwrap_or_default()
}

/// The listing as a page, of what may be seen. `path` is that of the folder, decoded, beginning and ending with a slash.
pub fn page(path: &str, entries: &[Listed], wanted: Wanted, may_be_seen: impl Fn(&Listed) -> bool) -> String {
    let mut shown = ordered(entries, wanted.order);
    shown.retain(|entry| may_be_seen(entry));
    let pages = shown.len().div_ceil(ON_A_PAGE).max(1);
    let page = wanted.page.min(pages);
    let mut out = String::with_capacity(2048 + shown.len().min(ON_A_PAGE) * 200);
    let title = escaped(path);
    let _ = write!(
        out,
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width\">\n<title>{title}</title>\n<style>{STYLE}</style>\n\
         </head>\n<body>\n<h1>{title}</h1>\n"
    );
    if path != "/" {
        out.push_str("<p><a href=\"../\">Up</a></p>\n");
    }
    head(&mut out, wanted.order);
    let mut last = None;
    for entry in &shown[(page - 1) * ON_A_PAGE..shown.len().min(page * ON_A_PAGE)] {
        if last.is_some_and(|last| last != entry.kind) {
            out.push_str("</tbody>\n<tbody>\n");
        }
        last = Some(entry.kind);
        row(&mut out, entry);
    }
    out.push_str("</tbody>\n</table>\n");
    if shown.is_empty() {
        out.push_str("<p>Nothing is in here.</p>\n");
    }
    if entries.len() >= MOST_LISTED {
        let _ =
            writeln!(out, "<p>There is more in this folder than is listed: {MOST_LISTED} entries are.</p>");
    }
    if pages > 1 {
        let by = written(wanted.order);
        out.push_str("<p>");
        for (number, words) in [(page - 1, "Earlier"), (page + 1, "Later")] {
            if (1..=pages).contains(&number) {
                let _ = write!(out, "<a href=\"?by={by}&amp;page={number}\">{words}</a> ");
            }
        }
        let _ = writeln!(out, "Page {page} of {pages}, {} entries in all</p>", shown.len());
    }
    out.push_str("</body>\n</html>\n");
    out
}

const STYLE: &str = ":root{color-scheme:light dark}\
body{font:1rem/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;\
color:light-dark(#14212b,#e4eaec);background:light-dark(#f5f7f6,#10181e)}\
h1{font-size:1.25rem;overflow-wrap:anywhere}a{color:light-dark(#0f5e6b,#6fc2cf)}\
table{border-collapse:collapse;width:100%}\
th,td{text-align:right;padding:.25rem .5rem;white-space:nowrap;font-variant-numeric:tabular-nums}\
th{font-weight:400}th[aria-sort]{font-weight:600}\
th:first-child,td:first-child{text-align:left;white-space:normal;overflow-wrap:anywhere;width:99%}\
tbody tr{border-top:1px solid light-dark(#d9e0df,#2a3841)}tbody+tbody::before{content:\"\";display:block;height:1rem}\
@media(max-width:30rem){td:nth-child(3),th:nth-child(3){display:none}}";

fn head(out: &mut String, order: Order) {
    out.push_str("<table>\n<thead><tr>");
    for (by, name) in By::ALL {
        let current = by == order.by;
        let next = Order { by, reversed: current && !order.reversed };
        let (state, arrow) = match (current, order.reversed) {
            (false, _) => ("", ""),
            (true, false) => (" aria-sort=\"ascending\"", " ↑"),
            (true, true) => (" aria-sort=\"descending\"", " ↓"),
        };
        let _ =
            write!(out, "<th scope=\"col\"{state}><a href=\"?by={}\">{name}</a>{arrow}</th>", written(next));
    }
    out.push_str("</tr></thead>\n<tbody>\n");
}

fn written(order: Order) -> String {
    let name = By::ALL.iter().find(|(by, _)| *by == order.by).map_or("name", |(_, name)| name);
    format!("{}{name}", if order.reversed { "-" } else { "" })
}

fn row(out: &mut String, entry: &Listed) {
    let (name, link) = (escaped(&entry.name), entry.link());
    let (slash, size) = match entry.kind {
        Kind::Folder => ("/", "<td>–</td>".to_owned()),
        Kind::File => ("", format!("<td title=\"{} bytes\">{}</td>", entry.bytes, in_words(entry.bytes))),
    };
    let changed = jiff::Timestamp::from_second(entry.changed)
        .unwrap_or_default()
        .strftime("%Y-%m-%d %H:%M")
        .to_string();
    // The dot segment keeps a name with a colon from being taken for a scheme.
    let _ = writeln!(out, "<tr><td><a href=\"./{link}\">{name}{slash}</a></td>{size}<td>{changed}</td></tr>");
}

fn in_words(bytes: u64) -> String {
    let units = ["B", "kB", "MB", "GB", "TB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < units.len() {
        value /= 1000.0;
        unit += 1;
    }
    let decimals = usize::from(unit > 0 && value < 99.95);
    format!("{value:.decimals$} {}", units[unit])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn entries() -> Vec<Listed> {
        let entry = |name: &str, kind, bytes, changed| Listed { name: name.into(), kind, bytes, changed };
        vec![
            entry("b.txt", Kind::File, 10, 300),
            entry("A.txt", Kind::File, 2_000_000, 100),
            entry("zoo", Kind::Folder, 4096, 50),
            entry(".hidden", Kind::File, 1, 1),
            entry("c & <d>.txt", Kind::File, 20, 200),
        ]
    }

    #[rstest]
    #[case("", &["zoo", "A.txt", "b.txt", "c & <d>.txt"])]
    #[case("by=-name", &["zoo", "c & <d>.txt", "b.txt", "A.txt"])]
    #[case("by=size", &["zoo", "b.txt", "c & <d>.txt", "A.txt"])]
    #[case("by=-changed&page=1", &["zoo", "b.txt", "c & <d>.txt", "A.txt"])]
    #[case("by=nonsense&page=x", &["zoo", "A.txt", "b.txt", "c & <d>.txt"])]
    fn orders(#[case] query: &str, #[case] expected: &[&str]) {
        let entries = entries();
        let names: Vec<&str> = ordered(&entries, Wanted::understand(query).order)
            .iter()
            .map(|entry| entry.name.as_str())
            .collect();
        assert_eq!(names, expected);
        let json: serde_json::Value =
            serde_json::from_str(&json(&entries, Wanted::understand(query), |_| true)).unwrap();
        assert_eq!(json[0]["name"], expected[0]);
    }

    #[test]
    fn long_ones_have_pages() {
        let many: Vec<Listed> = (0..2500)
            .map(|n| Listed { name: format!("f{n:05}"), kind: Kind::File, bytes: n, changed: 0 })
            .collect();
        let second = page("/x/", &many, Wanted::understand("page=2"), |_| true);
        assert_eq!(second.matches("<tr><td>").count(), ON_A_PAGE);
        assert!(second.contains("f01000") && second.contains("page=3") && second.contains("Page 2 of 3"));
        assert_eq!(
            page("/x/", &many, Wanted::understand("page=99"), |_| true).matches("<tr><td>").count(),
            500
        );
    }

    proptest! {
        #[test]
        fn names_cannot_break_out(name in "[^./\\x00][^/\\x00]{0,20}") {
            let entry = Listed { name: name.clone(), kind: Kind::File, bytes: 1, changed: 0 };
            let page = page("/", &[entry], Wanted::understand(""), |_| true);
            let plain = self::page("/", &[Listed { name: "x".into(), kind: Kind::File, bytes: 1, changed: 0 }], Wanted::understand(""), |_| true);
            prop_assert_eq!(page.matches('<').count(), plain.matches('<').count());
            prop_assert_eq!(page.matches('"').count(), plain.matches('"').count());
            let link = page.split("href=\"./").nth(1).unwrap().split('"').next().unwrap();
            let decoded = percent_encoding::percent_decode_str(link).decode_utf8().unwrap().into_owned();
            prop_assert_eq!(decoded, name);
        }
    }
}
