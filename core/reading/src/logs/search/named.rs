//! Keys that nobody has told us of: what one means, seen from what stands under it in many lines.
//!
//! Objects of JSON and `key=value` are read by the names of their values. Where the names say nothing of who asked, when, or how it
//! was answered, the values do, as they do in lines without names: the same roles are given to them. Only what no known name says
//! is looked for, and only what can hardly be anything else is taken, as there is no order in which values stand.
//!
//! ```
//! use exedra_reading::logs::search::{Given, named};
//! let line: &[u8] = br#"{"begun":"2026-11-14T05:12:40Z","from":"192.0.2.7:5123","verb":"GET","what":"/tides","outcome":200}"#;
//! let found = named::search(None, &[line; 3], &Given::default()).unwrap();
//! let keys: Vec<(&str, &str)> = found.layout.hints.keys.iter().map(|(key, place)| (&**key, &**place)).collect();
//! assert_eq!(keys, [("begun", "time:rfc3339"), ("from", "client"), ("what", "target"), ("outcome", "status")]);
//! ```

use super::place::Place;
use super::roles::{self, Confidence, Role};
use super::tokens::{Separator, Shape};
use super::{Found, Given, MOST_LINES, Recognised, sample, tried, written};
use crate::logs::layout::{Hints, Layout};
use crate::logs::meaning::Meaning;
use crate::logs::pairs;
use crate::logs::template::{Field, Piece};
use exedra_common::columns::{NumberColumn, TextColumn};
use serde_json::Value;
use std::borrow::Cow;
use std::collections::HashMap;

/// The most keys that are looked at.
const MOST_KEYS: usize = 64;
/// How deep objects are looked into.
const DEEPEST: usize = 8;

/// The values of one line, each with its key.
type NamedValues<'l> = Vec<(String, Cow<'l, [u8]>)>;

/// The layout that reads some lines by their names, with the keys it did not know; nothing where there are none that say more.
/// Without a layout it is asked whether the lines are objects or pairs at all.
pub fn search(leading: Option<&Layout>, lines: &[&[u8]], given: &Given) -> Option<Found> {
    let candidates = match leading {
        Some(layout) => vec![layout.clone()],
        None => ["{json}", "{pairs}"].iter().filter_map(|text| Layout::understand(text).ok()).collect(),
    };
    candidates.into_iter().find_map(|layout| with_keys(&layout, lines, given))
}

fn with_keys(layout: &Layout, lines: &[&[u8]], given: &Given) -> Option<Found> {
    if layout.hints.within.is_some() || !layout.hints.keys.is_empty() {
        return None;
    }
    let is_object = layout.is_json() || layout.pieces.contains(&Piece::Place(Field::Json));
    let is_pairs = layout.pieces.contains(&Piece::Place(Field::Pairs));
    let (template, values): (_, fn(&[u8]) -> NamedValues<'_>) = match (is_object, is_pairs) {
        (true, _) => (if layout.is_json() { "{json}" } else { &layout.template }, of_object),
        (_, true) => (layout.template.as_str(), of_pairs),
        _ => return None,
    };
    let lines: Vec<&[u8]> = lines.iter().copied().filter(|line| !line.is_empty()).take(MOST_LINES).collect();
    let rows: Vec<_> = lines.iter().map(|line| values(line)).filter(|row| row.len() > 2).collect();
    if rows.len() * 5 < lines.len() * 4 {
        return None;
    }
    let places = places(&rows);
    let roles = roles::assign(&places, given.durations).ok()?;
    let taken: Vec<(&Place<'_>, &Role)> = places
        .iter()
        .zip(&roles)
        .filter(|(place, role)| place.meaning().is_none() && is_sure(role) && !is_said(&role.field, &places))
        .collect();
    if taken.is_empty() {
        return None;
    }
    let place_of = |(place, role): &(&Place<'_>, &Role)| {
        let written = written(role, place, Separator::Space);
        (place.name.clone().unwrap_or_default(), written.trim_matches(['{', '}']).to_owned())
    };
    let keys: Vec<(String, String)> = taken.iter().map(place_of).collect();
    let recognised = taken.iter().zip(&keys).map(|((place, role), (key, meaning))| Recognised {
        place: format!("{key} = {meaning}"),
        sample: sample(place),
        confidence: role.confidence,
        reason: role.reason.clone(),
    });
    let hints =
        Hints { near: given.near, durations: given.durations, keys: keys.clone(), ..layout.hints.clone() };
    let found = Layout::understand(template).ok()?.with(hints);
    let (read, fields) = tried(&found, &lines);
    let is_more = (read, fields) > tried(layout, &lines);
    is_more.then(|| Found { places: recognised.collect(), layout: found, lines: read, fields })
}

/// One place for each key, in the order in which they first come.
fn places<'r>(rows: &'r [NamedValues<'_>]) -> Vec<Place<'r>> {
    let mut places: Vec<Place<'r>> = Vec::new();
    let mut known: HashMap<&str, usize> = HashMap::new();
    for (nth, row) in rows.iter().enumerate() {
        for (key, value) in row {
            if places.len() == MOST_KEYS && !known.contains_key(key.as_str()) {
                continue;
            }
            let at = *known.entry(key).or_insert_with(|| {
                places.push(Place {
                    shape: Shape::Bare,
                    name: Some(key.clone()),
                    is_aligned: false,
                    values: vec![b""; rows.len()],
                });
                places.len() - 1
            });
            places[at].values[nth] = value;
        }
    }
    places
}

/// Whether a role is taken for one that nothing else can be: the order of keys says nothing.
fn is_sure(role: &Role) -> bool {
    let least = match role.field {
        Field::Skip | Field::Json | Field::Pairs => return false,
        Field::Text(TextColumn::Client) => Confidence::Likely,
        // Durations are likely where they are called so.
        Field::Number(NumberColumn::Status | NumberColumn::Duration, _) => Confidence::Likely,
        Field::Time(_) | Field::Date(_) | Field::Clock(_) => Confidence::Likely,
        _ => Confidence::Certain,
    };
    role.confidence >= least
}

/// Whether a known key says the same already.
fn is_said(field: &Field, places: &[Place<'_>]) -> bool {
    let says = |meaning: Meaning| match field {
        Field::Text(TextColumn::Method) => {
            matches!(meaning, Meaning::Request | Meaning::Text(TextColumn::Method))
        }
        Field::Text(TextColumn::Client) => {
            matches!(meaning, Meaning::Forwarded | Meaning::Text(TextColumn::Client))
        }
        Field::Request | Field::Target | Field::Url | Field::Text(TextColumn::Path) => {
            matches!(meaning, Meaning::Request | Meaning::Target | Meaning::Text(TextColumn::Path))
        }
        Field::Text(column) => meaning == Meaning::Text(*column),
        Field::Number(column, _) => match meaning {
            Meaning::Number(known, _) => known == *column,
            Meaning::RequestTime => *column == NumberColumn::Duration,
            _ => false,
        },
        Field::Time(_) | Field::Date(_) | Field::Clock(_) => matches!(meaning, Meaning::Time | Meaning::Date),
        Field::Skip | Field::Json | Field::Pairs => true,
    };
    places.iter().any(|place| place.count() > 0 && place.meaning().is_some_and(says))
}

/// The values of the object in a line, each under its keys with dots between; of a list the first.
fn of_object(line: &[u8]) -> NamedValues<'_> {
    let mut all = Vec::new();
    let begin = memchr::memchr(b'{', line).unwrap_or(line.len());
    if let Some(Ok(value)) = serde_json::Deserializer::from_slice(&line[begin..]).into_iter::<Value>().next()
    {
        flatten("", value, 0, &mut all);
    }
    all
}

fn flatten(path: &str, value: Value, depth: usize, all: &mut NamedValues<'_>) {
    match value {
        Value::Object(object) if depth < DEEPEST => {
            for (key, value) in object {
                let path = if path.is_empty() { key } else { format!("{path}.{key}") };
                flatten(&path, value, depth + 1, all);
            }
        }
        Value::Array(list) => {
            if let Some(first) = list.into_iter().next() {
                flatten(path, first, depth + 1, all);
            }
        }
        Value::String(text) => all.push((path.to_owned(), Cow::Owned(text.into_bytes()))),
        Value::Number(number) => all.push((path.to_owned(), Cow::Owned(number.to_string().into_bytes()))),
        Value::Object(_) | Value::Null | Value::Bool(_) => {}
    }
}

fn of_pairs(line: &[u8]) -> NamedValues<'_> {
    let mut all = Vec::new();
    let mut at = 0;
    while let Some((key, value, next)) = pairs::next(line, at) {
        if !key.is_empty() {
            all.push((String::from_utf8_lossy(&line[key]).into_owned(), Cow::Borrowed(&line[value])));
        }
        at = next;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Some lines of which each differs.
    fn lines(line: impl Fn(usize) -> String) -> Vec<String> {
        (0..40).map(line).collect()
    }

    fn keys(leading: Option<&str>, lines: &[String]) -> Option<Vec<(String, String)>> {
        let leading = leading.map(|layout| Layout::understand(layout).unwrap());
        let lines: Vec<&[u8]> = lines.iter().map(|line| line.as_bytes()).collect();
        search(leading.as_ref(), &lines, &Given::default()).map(|found| found.layout.hints.keys)
    }

    #[rstest]
    #[case::known_names_are_kept(
        Some("json"),
        |nth| format!(r#"{{"time":"2026-11-14T05:12:{nth:02}Z","who":"192.0.2.{nth}","path":"/a","status":200,"gate":"10.0.0.1"}}"#),
        &[("who", "client")]
    )]
    #[case::below_other_keys(
        None,
        |nth| format!(r#"{{"asked":{{"on":"2026-11-14 05:12:{nth:02}","line":"GET /a{nth} HTTP/1.1"}},"by":["192.0.2.{nth}"],"got":{{"n":404}}}}"#),
        &[("asked.on", "time:%Y-%m-%d %H:%M:%S%.f"), ("asked.line", "request"), ("by", "client"), ("got.n", "status")]
    )]
    #[case::pairs_with_units(
        Some("pairs"),
        |nth| format!("at=2026-11-14T05:12:{nth:02}Z gate=192.0.2.{nth} method=GET path=\"/a\" status=200 whole={nth}ms"),
        &[("gate", "client"), ("whole", "duration:milliseconds")]
    )]
    #[case::a_known_name_with_another_before_it(
        Some("json"),
        |nth| format!(r#"{{"time":"2026-11-14T05:12:{nth:02}Z","client":"192.0.2.{nth}","path":"/a","status":200,"PierResponseTime":{nth}000000}}"#),
        &[("PierResponseTime", "duration:nanoseconds")]
    )]
    fn what_stands_there_says_what_it_is(
        #[case] leading: Option<&str>,
        #[case] line: fn(usize) -> String,
        #[case] expected: &[(&str, &str)],
    ) {
        let expected = expected.iter().map(|(key, place)| ((*key).to_owned(), (*place).to_owned())).collect();
        assert_eq!(keys(leading, &lines(line)), Some(expected));
    }

    #[rstest]
    #[case::all_is_known(Some("json"), |nth| format!(r#"{{"time":1794633160,"ip":"192.0.2.{nth}","path":"/a","status":200}}"#))]
    #[case::numbers_may_be_anything(Some("json"), |nth| format!(r#"{{"time":1794633160,"ip":"192.0.2.{nth}","path":"/a","status":200,"worker":{nth}}}"#))]
    #[case::another_kind_of_log(None, |nth| format!(r#"{{"when":"2026-11-14T05:12:{nth:02}Z","said":"ahoy {nth}","n":{nth}}}"#))]
    #[case::no_names(None, |nth| format!("192.0.2.{nth} GET /a 200"))]
    fn what_says_nothing_more_is_left(#[case] leading: Option<&str>, #[case] line: fn(usize) -> String) {
        assert_eq!(keys(leading, &lines(line)), None);
    }
}
