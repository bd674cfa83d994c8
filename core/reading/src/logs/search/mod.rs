//! Finding a layout that nobody has named, by the parts of its lines.
//!
//! The commonest layout of all is a known one with something added: a field at the end, a time of somebody who collected the lines
//! before it, tabs instead of spaces. So lines are cut into parts ([`tokens`]), what stands in each place of many lines is looked
//! at ([`place`]), and each is taken for what it most likely is ([`roles`]; what durations count: [`durations`]; values that have names:
//! [`named`]). What is made of
//! that is a template like any other, read by the same plan at the same speed. It counts only as far as it reads the lines it
//! was made from: of all ways to cut them, the one that then reads the most fields is taken.
//!
//! ```
//! use exedra_reading::logs::search::{Given, search};
//! let line = br#"web-1 | 192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET /tides HTTP/1.1" 200 512 0.003"#;
//! let found = search(&[line], &Given::default()).unwrap();
//! let expected = "{skip} | {client} {skip} {user} [{time}] \"{method} {target} {protocol}\" {status} {bytes} {duration:seconds}";
//! assert_eq!(found.layout.template, expected);
//! let nothing = search(&[b"2026-11-14 05:12:40 hello there"], &Given::default()).unwrap_err();
//! assert_eq!(nothing.to_string(), "nothing in the lines is a request: neither a request line, nor a method, nor a path");
//! ```

pub mod durations;
pub mod named;
pub mod place;
pub mod roles;
pub mod tokens;

use super::cutter::Cutter;
use super::fit::best_fit;
use super::layout::{Hints, Layout};
use super::levels::level;
use super::meaning::Meaning;
use super::moment::CLASSIC;
use super::scan::gap;
use super::template::Field;
use super::wrapped;
use exedra_common::columns::{Column, TextColumn, Unit};
use place::{Place, asks_for_url, is_request};
use roles::{Confidence, Missing, Role};
use std::borrow::Cow;
use std::collections::HashMap;
use tokens::{Part, Separator, Shape, cut};

/// How much of a line is looked at: what follows is read, but nothing is found in it.
const LOOKED_AT: usize = 4 << 10;
/// How many lines are looked at.
const MOST_LINES: usize = 400;
/// How much of a value is shown.
const SAMPLE: usize = 200;

/// What is known before.
#[derive(Debug, Clone, Copy, Default)]
pub struct Given {
    /// An instant that is not long before any of the requests (milliseconds since 1970 UTC): when the file was last written to.
    pub near: Option<i64>,
    /// What durations count that do not say it.
    pub durations: Option<Unit>,
}

/// A layout that was found.
#[derive(Debug, Clone)]
pub struct Found {
    /// The layout.
    pub layout: Layout,
    /// Its places, and what each was taken for.
    pub places: Vec<Recognised>,
    /// How many of the lines it reads.
    pub lines: usize,
    /// How many fields it reads in all of them together.
    pub fields: usize,
}

/// One place of a layout that was found.
#[derive(Debug, Clone)]
pub struct Recognised {
    /// As it stands in the template.
    pub place: String,
    /// What stands there in one of the lines.
    pub sample: String,
    /// How sure it is.
    pub confidence: Confidence,
    /// Why.
    pub reason: String,
}

/// Looks for the layout that reads the most of some lines, if their parts say what they are; what is missing otherwise.
pub fn search(lines: &[&[u8]], given: &Given) -> Result<Found, Missing> {
    let lines: Vec<&[u8]> = lines.iter().copied().filter(|line| !line.is_empty()).take(MOST_LINES).collect();
    let by_separator = |separator| of_separator(&lines, separator, given);
    let separators =
        [Separator::Space].into_iter().chain(b"\t,;|^~#$!".iter().map(|octet| Separator::Octet(*octet)));
    // Of equal ones the one with the fewest places: it cuts nothing in two that is one. Of those the first.
    let rank = |found: &Found| (found.fields, std::cmp::Reverse(found.places.len()));
    let mut best: Result<Found, Missing> = Err(Missing::Request);
    for tried in separators.flat_map(by_separator).chain(within(&lines, given).map(Ok)) {
        best = match (best, tried) {
            (Err(one), Err(other)) => Err(one.max(other)),
            (Ok(best), Ok(found)) => Ok(if rank(&found) > rank(&best) { found } else { best }),
            (Ok(found), Err(_)) | (Err(_), Ok(found)) => Ok(found),
        };
    }
    best
}

/// The layouts of lines that are cut in one way.
fn of_separator(lines: &[&[u8]], separator: Separator, given: &Given) -> Vec<Result<Found, Missing>> {
    let looked_at = |line: &&'_ [u8]| line.len().min(LOOKED_AT);
    if let Separator::Octet(octet) = separator {
        let has_enough =
            |line: &&&[u8]| line[..looked_at(line)].iter().filter(|other| **other == octet).count() >= 3;
        if lines.iter().filter(has_enough).count() * 10 < lines.len() * 9 {
            return Vec::new();
        }
    }
    let heading = heading(lines, separator);
    let rows: Vec<Row<'_>> = lines[usize::from(heading.is_some())..]
        .iter()
        .map(|line| Row { line, parts: cut(&line[..looked_at(line)], separator) })
        .collect();
    let mut tried = Vec::new();
    let mut signatures: HashMap<Vec<Mark<'_>>, Vec<usize>> = HashMap::new();
    for (at, row) in rows.iter().enumerate() {
        signatures.entry(row.marks(separator)).or_default().push(at);
    }
    let largest =
        signatures.iter().max_by_key(|(marks, rows)| (rows.len(), marks.len(), std::cmp::Reverse(rows[0])));
    let Some((marks, group)) = largest else { return tried };
    let group: Vec<&Row<'_>> = group.iter().map(|at| &rows[*at]).collect();
    tried.push(made(&group, marks.len(), separator, heading, lines, given));
    // Where lines end in words of any number, what they have in common is their beginning.
    if separator == Separator::Space && group.len() * 10 < rows.len() * 9 {
        let (group, common) = beginning(&rows, separator);
        tried.push(made(&group, common, separator, heading, lines, given));
    }
    tried
}

/// A line and its parts.
struct Row<'l> {
    line: &'l [u8],
    parts: Vec<Part>,
}

/// What tells parts from each other before it is known what they are.
type Mark<'l> = (Shape, Cow<'l, [u8]>, Cow<'l, [u8]>);

impl<'l> Row<'l> {
    fn marks(&self, separator: Separator) -> Vec<Mark<'l>> {
        let mark = |part: &Part| match separator {
            Separator::Space => (part.shape, part.opening(self.line).into(), part.closing(self.line).into()),
            // Between separators anything may stand in quotation marks or not.
            Separator::Octet(_) => (Shape::Bare, unquoted(part.opening(self.line)), Cow::Borrowed(&b""[..])),
        };
        self.parts.iter().map(mark).collect()
    }

    /// What stands between a part and the one before it.
    fn gap_before(&self, at: usize) -> &'l [u8] {
        let from = at.checked_sub(1).map_or(0, |before| self.parts[before].ends);
        &self.line[from..self.parts[at].begins]
    }
}

fn unquoted(opening: &[u8]) -> Cow<'_, [u8]> {
    Cow::Borrowed(opening.strip_suffix(b"\"").unwrap_or(opening))
}

/// The rows that begin alike, and how many of their parts do: as many as four fifths of all share.
fn beginning<'r, 'l>(rows: &'r [Row<'l>], separator: Separator) -> (Vec<&'r Row<'l>>, usize) {
    let mut alike: Vec<(&Row<'_>, Vec<Mark<'_>>)> =
        rows.iter().map(|row| (row, row.marks(separator))).collect();
    let least = rows.len() * 4 / 5;
    let mut common = 0;
    loop {
        let mut next: HashMap<&Mark<'_>, usize> = HashMap::new();
        for (_, marks) in &alike {
            if let Some(mark) = marks.get(common) {
                *next.entry(mark).or_default() += 1;
            }
        }
        let Some((mark, count)) = next.into_iter().max_by_key(|(mark, count)| (*count, *mark)) else { break };
        if count < least.max(1) {
            break;
        }
        let mark = mark.clone();
        alike.retain(|(_, marks)| marks.get(common) == Some(&mark));
        common += 1;
    }
    (alike.into_iter().map(|(row, _)| row).collect(), common)
}

/// The first line, where it names the columns of the others.
fn heading<'l>(lines: &[&'l [u8]], separator: Separator) -> Option<&'l [u8]> {
    let (Separator::Octet(_), Some(first)) = (separator, lines.first()) else { return None };
    let is_name =
        |octet: &u8| octet.is_ascii_alphabetic() || b"_- .()@".contains(octet) || octet.is_ascii_digit();
    let names = cut(first, separator);
    let mut values = names.iter().map(|part| part.value(first));
    let are_names = values.clone().all(|value| {
        value.first().is_some_and(|octet| octet.is_ascii_alphabetic() || *octet == b'_')
            && value.iter().all(is_name)
    });
    let known = values.by_ref().filter(|value| Meaning::of_path(&[], value).is_some()).count();
    (are_names && known >= 2).then_some(*first)
}

/// A layout made from lines that are alike in so many parts, if they say what a log says.
fn made(
    group: &[&Row<'_>],
    common: usize,
    separator: Separator,
    heading: Option<&[u8]>,
    lines: &[&[u8]],
    given: &Given,
) -> Result<Found, Missing> {
    let names: Vec<String> = heading.map_or_else(Vec::new, |heading| {
        let name = |part: Part| String::from_utf8_lossy(part.value(heading)).into_owned();
        cut(heading, separator).into_iter().map(name).collect()
    });
    let name_of =
        |at: usize| names.get(at).cloned().or_else(|| key(group[0].parts[at].opening(group[0].line)));
    let known_name = |at: &usize| name_of(*at).is_some_and(|name| Meaning::of_key(name.as_bytes()).is_some());
    let mut common = common;
    // Lines that name their values may have them in any order.
    let named = (0..common).filter(known_name);
    // Where a request stands before them, they are a few more fields of a line that is read by its places.
    let asks_before = |first: usize| {
        let is_request_in = |at: usize| {
            let of_kind = group.iter().filter(|row| is_request(row.parts[at].value(row.line))).count();
            of_kind * 2 > group.len()
        };
        (0..first).any(is_request_in)
    };
    let pairs = separator == Separator::Space
        && named.clone().count() >= 3
        && !named.clone().next().is_some_and(asks_before);
    let tail = match pairs {
        true => {
            common = (0..common).find(known_name).unwrap_or(common);
            Some(Shape::Pairs)
        }
        false => group.iter().any(|row| row.parts.len() > common).then_some(Shape::Bare),
    };
    let mut places: Vec<Place<'_>> = (0..common)
        .map(|at| Place {
            shape: group[0].parts[at].shape,
            name: name_of(at),
            is_aligned: at > 0 && group.iter().any(|row| row.gap_before(at) != group[0].gap_before(at)),
            values: group.iter().map(|row| row.parts[at].value(row.line)).collect(),
        })
        .collect();
    if let Some(shape) = tail {
        let rest = |row: &&Row<'_>| row.parts.get(common).map_or(row.line.len(), |part| part.begins);
        let values = group.iter().map(|row| &row.line[rest(row)..]).collect();
        places.push(Place { shape, name: None, is_aligned: false, values });
    }
    let roles = roles::assign(&places, given.durations)?;
    if !says_enough(&places, &roles) {
        return Err(Missing::Answer);
    }
    let template = template(group, &places, &roles, separator, common);
    let hints = Hints {
        near: given.near,
        durations: given.durations,
        heading: heading.map(|heading| String::from_utf8_lossy(heading).into_owned()),
        ..Hints::default()
    };
    let layout = Layout::understand(&template).map_err(|_| Missing::Answer)?.with(hints);
    let places = places.iter().zip(&roles).map(|(place, role)| Recognised {
        place: written(role, place, separator),
        sample: sample(place),
        confidence: role.confidence,
        reason: role.reason.clone(),
    });
    let (read, fields) = tried(&layout, lines);
    match read {
        0 => Err(Missing::Answer),
        lines => Ok(Found { places: places.collect(), layout, lines, fields }),
    }
}

/// Whether what was recognised makes a line a request: its status, or at least a client and what it asked for, where no line says
/// how bad it is, as those of other logs do.
fn says_enough(places: &[Place<'_>], roles: &[Role]) -> bool {
    let has = |wanted: fn(&Field) -> bool| roles.iter().any(|role| wanted(&role.field));
    // A single letter may be anything.
    let is_level =
        |value: &[u8]| value.len() > 1 && std::str::from_utf8(value).is_ok_and(|word| level(word).is_some());
    let has_level = places.iter().any(|place| place.share(is_level) > 0.9);
    has(|field| matches!(field, Field::Json | Field::Pairs))
        || has(|field| matches!(field, Field::Number(exedra_common::columns::NumberColumn::Status, _)))
        || !has_level
            && has(|field| *field == Field::Text(TextColumn::Client))
            && has(|field| matches!(field, Field::Request | Field::Target | Field::Url))
}

/// The name that stands before a value.
fn key(opening: &[u8]) -> Option<String> {
    let opening = opening.strip_suffix(b"\"").or(opening.strip_suffix(b"[")).unwrap_or(opening);
    let name = opening.strip_suffix(b"=").or_else(|| opening.strip_suffix(b":"))?;
    (!name.is_empty()).then(|| String::from_utf8_lossy(name).into_owned())
}

/// The template of parts that have been recognised.
fn template(
    group: &[&Row<'_>],
    places: &[Place<'_>],
    roles: &[Role],
    separator: Separator,
    common: usize,
) -> String {
    let mut template = String::new();
    for (at, (place, role)) in places.iter().zip(roles).enumerate() {
        let is_part = at < common;
        let gaps: Vec<&[u8]> = match is_part || group.iter().all(|row| row.parts.len() > at) {
            true => group.iter().map(|row| row.gap_before(at)).collect(),
            false => vec![b" "],
        };
        match gaps.iter().all(|gap| *gap == gaps[0]) {
            true => literal(gaps[0], &mut template),
            false => template.push_str("{…}"),
        }
        if !is_part {
            let may_be_missing = group.iter().any(|row| row.parts.len() <= at);
            let place = written(role, place, separator);
            match may_be_missing {
                true => template = format!("{}(( {place}))", template.trim_end()),
                false => template.push_str(&place),
            }
            continue;
        }
        let (row, part) = (group[0], &group[0].parts[at]);
        let opening = match separator {
            Separator::Space => Cow::Borrowed(part.opening(row.line)),
            Separator::Octet(_) => unquoted(part.opening(row.line)),
        };
        literal(&opening, &mut template);
        let value = part.value(row.line);
        let is_mark = role.field == Field::Skip
            && place.distinct() == 1
            && place.count() == place.values.len()
            && value.iter().all(u8::is_ascii_punctuation)
            && place.shape == Shape::Bare;
        match is_mark {
            true => literal(value, &mut template),
            false => template.push_str(&written(role, place, separator)),
        }
        match separator {
            Separator::Space => literal(part.closing(row.line), &mut template),
            Separator::Octet(_) => {
                literal(
                    part.closing(row.line).strip_prefix(b"\"").unwrap_or(part.closing(row.line)),
                    &mut template,
                );
            }
        }
    }
    // What stands behind the last part of all lines.
    let ends = |row: &&Row<'_>| row.parts.last().map_or(0, |part| part.ends);
    if places.len() == common && group.iter().all(|row| gap(&row.line[ends(row).min(row.line.len())..]) > 0) {
        template.push_str("{…}");
    }
    template
}

/// Literal text, as templates write it.
fn literal(text: &[u8], template: &mut String) {
    for letter in String::from_utf8_lossy(text).chars() {
        match letter {
            '\t' => template.push_str("\\t"),
            '{' | '}' => template.extend([letter, letter]),
            letter => template.push(letter),
        }
    }
}

/// A place, as templates write it.
fn written(role: &Role, place: &Place<'_>, separator: Separator) -> String {
    match &role.field {
        Field::Text(column) => format!("{{{}}}", Column::from(*column).name()),
        Field::Number(column, unit) => match Unit::OF_TIME.contains(unit) {
            true => format!("{{{}:{}}}", Column::from(*column).name(), unit.name()),
            false => format!("{{{}}}", Column::from(*column).name()),
        },
        Field::Request if place.shape == Shape::Quoted && separator == Separator::Space => {
            match place.share(asks_for_url) > 0.5 {
                true => "{method} {url} {protocol}".to_owned(),
                false => "{method} {target} {protocol}".to_owned(),
            }
        }
        Field::Request => "{request}".to_owned(),
        Field::Target => "{target}".to_owned(),
        Field::Url => "{url}".to_owned(),
        Field::Json => "{json}".to_owned(),
        Field::Pairs => "{pairs}".to_owned(),
        Field::Time(form) if form.argument() == CLASSIC => "{time}".to_owned(),
        Field::Time(form) => format!("{{time:{}}}", form.argument()),
        Field::Date(codes) => format!("{{date:{codes}}}"),
        Field::Clock(codes) => format!("{{clock:{codes}}}"),
        Field::Skip => "{skip}".to_owned(),
    }
}

/// One of the values, made short.
fn sample(place: &Place<'_>) -> String {
    let mut shown = Vec::new();
    let value = place.known().next().or(place.values.first().copied()).unwrap_or_default();
    match value {
        b"" | b"-" => shown.extend_from_slice(value),
        value => super::escape::write(&value[..value.len().min(SAMPLE)], false, &mut shown),
    }
    String::from_utf8_lossy(&shown).replace("\\\"", "\"")
}

/// How many lines a layout reads, and how many fields in all of them.
fn tried(layout: &Layout, lines: &[&[u8]]) -> (usize, usize) {
    let mut cutter = Cutter::new(layout);
    let (mut read, mut fields) = (0, 0);
    for line in lines.iter().filter(|line| !cutter.is_heading(line)).copied().collect::<Vec<_>>() {
        if cutter.run(&cutter.unwrapped(line)).is_ok() {
            read += 1;
            fields += cutter.fields();
        }
    }
    (read, fields)
}

/// Lines that stand as texts in objects of JSON.
fn within(lines: &[&[u8]], given: &Given) -> Option<Found> {
    let first = lines.first().filter(|line| line.trim_ascii_start().starts_with(b"{"))?;
    for (key, _) in wrapped::texts(first) {
        let inner: Vec<Cow<'_, [u8]>> =
            lines.iter().filter_map(|line| wrapped::wrapped(line, key.as_bytes())).collect();
        let inner: Vec<&[u8]> =
            inner.iter().map(|line| &**line).filter(|line| !line.starts_with(b"{")).collect();
        let named = Layout::all_named();
        let known = best_fit(&named, &inner).filter(|fit| fit.lines * 5 >= inner.len() * 4);
        let found = match known {
            Some(fit) => Some((named[fit.layout].clone(), Vec::new())),
            None => search(&inner, given).ok().map(|found| (found.layout, found.places)),
        };
        let Some((layout, places)) = found else { continue };
        let hints =
            Hints { within: Some(key), near: given.near, durations: given.durations, ..layout.hints.clone() };
        let layout = layout.with(hints);
        let (read, fields) = tried(&layout, lines);
        if read > 0 {
            return Some(Found { layout, places, lines: read, fields });
        }
    }
    None
}
