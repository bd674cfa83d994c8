//! Layouts of one's own, put together from any fields: what they write they read, and a log in one of them is told from logs in
//! others by its lines alone.

use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::logs::fit::best_fit;
use exedra_reading::logs::template::fields;
use exedra_reading::logs::{Layout, LineReader, LogTemplate, LoggedRequest};
use proptest::collection::vec;
use proptest::prelude::*;

/// Places that may stand in a template, with the columns that they fill.
const PLACES: [(&str, &[Column]); 12] = [
    ("{client}", &[Column::Text(TextColumn::Client)]),
    ("{user}", &[Column::Text(TextColumn::User)]),
    ("\"{method} {target} {protocol}\"", &[Column::Text(TextColumn::Method), Column::Text(TextColumn::Path)]),
    ("{status}", &[Column::Number(NumberColumn::Status)]),
    ("{bytes}", &[Column::Number(NumberColumn::Bytes)]),
    ("{full_bytes}", &[Column::Number(NumberColumn::FullBytes)]),
    ("{duration:microseconds}", &[Column::Number(NumberColumn::Duration)]),
    ("\"{referrer}\"", &[Column::Text(TextColumn::Referrer)]),
    ("\"{agent}\"", &[Column::Text(TextColumn::Agent)]),
    ("{host}", &[Column::Text(TextColumn::Host)]),
    ("{scheme}", &[Column::Text(TextColumn::Scheme)]),
    ("{encoding}", &[Column::Text(TextColumn::Encoding)]),
];
/// Forms of the time that keep its milliseconds or its second.
const TIMES: [(&str, i64); 5] = [
    ("[{time}]", 1000),
    ("{time:rfc3339}", 1),
    ("{time:seconds}", 1000),
    ("{time:milliseconds}", 1),
    ("\"{time:%Y-%m-%d %H:%M:%S}\"", 1000),
];
const BETWEEN: [&str; 4] = [" ", " | ", "\t", ";"];

/// A template of some places in some order, the time among them.
fn template() -> impl Strategy<Value = (String, Vec<usize>, i64)> {
    let places = Just((0..PLACES.len()).collect::<Vec<_>>()).prop_shuffle();
    (places, 1..=PLACES.len(), 0..TIMES.len(), any::<prop::sample::Index>(), 0..BETWEEN.len()).prop_map(
        |(mut places, count, time, at, between)| {
            places.truncate(count);
            let mut parts: Vec<&str> = places.iter().map(|nth| PLACES[*nth].0).collect();
            parts.insert(at.index(parts.len() + 1), TIMES[time].0);
            (parts.join(BETWEEN[between]), places, TIMES[time].1)
        },
    )
}

/// What a request is made of.
#[derive(Debug, Clone)]
struct Asked {
    time: i64,
    numbers: [u64; 4],
    path: String,
    referrer: String,
    agent: String,
    user: String,
}

fn asked() -> impl Strategy<Value = Asked> {
    let numbers = (100u64..600, 0u64..1 << 40, 0u64..1 << 40, 0u64..1 << 40);
    (
        1_600_000_000_000i64..1_900_000_000_000,
        numbers,
        "/[a-zA-Z0-9._~-]{0,20}",
        "[^\\x00-\\x1f]{0,20}",
        "[^\\x00-\\x1f]{0,20}",
        "[a-z]{0,6}",
    )
        .prop_map(|(time, (status, bytes, full, duration), path, referrer, agent, user)| Asked {
            time,
            numbers: [status, bytes, full, duration],
            path,
            referrer,
            agent,
            user,
        })
}

const NUMBERS: [NumberColumn; 4] =
    [NumberColumn::Status, NumberColumn::Bytes, NumberColumn::FullBytes, NumberColumn::Duration];

impl Asked {
    fn text(&self, column: TextColumn) -> &str {
        match column {
            TextColumn::Client => "2001:db8::7",
            TextColumn::User => &self.user,
            TextColumn::Method => "GET",
            TextColumn::Path => &self.path,
            TextColumn::Protocol => "HTTP/1.1",
            TextColumn::Referrer => &self.referrer,
            TextColumn::Agent => &self.agent,
            TextColumn::Host => "harbour.example",
            TextColumn::Scheme => "https",
            TextColumn::Encoding => "br",
            _ => "",
        }
    }

    fn write(&self, template: &LogTemplate, out: &mut Vec<u8>) {
        let mut request = LoggedRequest::new(self.time, self.path.as_bytes());
        for (column, number) in NUMBERS.into_iter().zip(self.numbers) {
            request = request.number(column, number);
        }
        for column in TextColumn::ALL.iter().filter(|column| **column != TextColumn::Path) {
            request = request.text(*column, self.text(*column));
        }
        template.write(&request, out);
    }
}

fn read(layouts: &[Layout], lines: &[u8]) -> (LineReader, RequestBatch, Dictionaries) {
    let mut reader = LineReader::new(layouts, Projection::everything());
    let (mut batch, mut texts) = Default::default();
    reader.read_block(lines, 0, &mut 0, &mut batch, &mut texts);
    (reader, batch, texts)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, ..ProptestConfig::default() })]

    #[test]
    fn what_a_layout_writes_it_reads((template, places, step) in template(), all in vec(asked(), 1..20)) {
        let layout = Layout::called("own", &template).unwrap();
        let mut lines = Vec::new();
        all.iter().for_each(|one| one.write(&LogTemplate::new(&layout), &mut lines));
        prop_assert_eq!(lines.iter().filter(|octet| **octet == b'\n').count(), all.len());
        let (reader, batch, texts) = read(std::slice::from_ref(&layout), &lines);
        prop_assert_eq!(reader.unread.lines(), 0, "{}\n{}", template, String::from_utf8_lossy(&lines));
        prop_assert_eq!(batch.rows(), all.len());
        for (row, one) in all.iter().enumerate() {
            prop_assert_eq!(batch.time[row], one.time - one.time.rem_euclid(step));
            for column in places.iter().flat_map(|nth| PLACES[*nth].1) {
                match column {
                    Column::Number(column) => {
                        let nth = NUMBERS.iter().position(|known| known == column).unwrap();
                        prop_assert_eq!(batch.number(*column, row), Some(one.numbers[nth]), "{}", template);
                    }
                    Column::Text(column) => {
                        // That no agent was sent is something that the line says.
                        let is_said = |text: &&str| !text.is_empty() || *column == TextColumn::Agent;
                        let written = Some(one.text(*column)).filter(is_said);
                        let read = batch.code(*column, row).map(|code| texts.of(*column).text(code));
                        prop_assert_eq!(read, written, "{:?} in {}", column, template);
                    }
                    _ => {}
                }
            }
        }
    }

    #[test]
    fn a_layout_is_told_from_others_by_its_lines((own, _, _) in template(), (other, _, _) in template(), all in vec(asked(), 3..10)) {
        let layouts = [Layout::called("other", &other).unwrap(), Layout::called("own", &own).unwrap()];
        let mut lines = Vec::new();
        all.iter().for_each(|one| one.write(&LogTemplate::new(&layouts[1]), &mut lines));
        let lines: Vec<&[u8]> = lines.split(|octet| *octet == b'\n').filter(|line| !line.is_empty()).collect();
        let fit = best_fit(&layouts, &lines).expect("one of them fits");
        prop_assert_eq!(fit.lines, all.len());
        // The one it was written in fits all of it; another only if it says as much of every line.
        let alone = best_fit(&layouts[1..], &lines).unwrap();
        prop_assert!(fit.fields >= alone.fields && alone.lines == all.len());
    }

    #[test]
    fn lines_of_another_kind_are_counted_and_none_is_lost(all in vec((asked(), any::<bool>()), 1..30)) {
        let layout = Layout::understand("combined").unwrap();
        let (mut lines, mut wrong) = (Vec::new(), 0);
        for (one, is_torn) in &all {
            let begin = lines.len();
            one.write(&LogTemplate::new(&layout), &mut lines);
            if *is_torn {
                lines.truncate(begin + 20);
                lines.push(b'\n');
                wrong += 1;
            }
        }
        let (reader, batch, _) = read(&Layout::all_named(), &lines);
        prop_assert_eq!((batch.rows() as u64, reader.unread.lines()), (all.len() as u64 - wrong, wrong));
        prop_assert_eq!(reader.read, all.len() as u64 - wrong);
    }
}

#[test]
fn every_field_of_the_list_can_stand_in_a_layout() {
    for (name, meaning) in fields() {
        assert!(!meaning.is_empty(), "{name}");
        let unit = if name == "duration" { ":milliseconds" } else { "" };
        let template = match name {
            "time" => "{time:rfc3339}".to_owned(),
            "date" | "clock" => "{date} {clock}".to_owned(),
            // A gap parts fields as a space does.
            "…" => "{client}{…}{time:rfc3339}".to_owned(),
            _ => format!("{{{name}{unit}}} {{time:rfc3339}}"),
        };
        Layout::understand(&template).unwrap_or_else(|error| panic!("{name}: {error}"));
        let misspelt = format!("{{{name}x}} {{time:rfc3339}}");
        let said = Layout::understand(&misspelt).unwrap_err().to_string();
        assert!(said.contains(&format!("there is no field `{name}x`")), "{said}");
    }
}
