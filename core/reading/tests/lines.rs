//! A law of lines: each is read among others as it is alone, whatever those are and wherever a log is cut into blocks.

use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::logs::{Layout, LineReader};
use proptest::prelude::*;

const CLIENTS: [&str; 8] = [
    "192.0.2.1",
    "2001:db8::7",
    "203.0.113.255",
    "quay.example",
    "::ffff:192.0.2.7",
    "192.0.2.256",
    "fe80::1%eth0",
    "-",
];
const USERS: [&str; 5] = ["- -", "- ann", "- ann lee", "ident ann", "- \"ann\""];
const REQUESTS: [&str; 6] =
    ["GET /a?b=c HTTP/1.1", "-", "\\x16\\x03", "GET /\\\"x\\\" HTTP/1.1", "POST /", ""];
const BEHIND: [&str; 6] = [
    "200 512 \"-\" \"Boat/1\"",
    "404 - \"https://pier.example/\" \"-\"",
    "200 512 \"-\" \"Boat \\\"1\\\"\"",
    "200 512 \"-\" \"Boat/1\" 7",
    "20x 512 \"-\" \"Boat/1\"",
    "200 512",
];
const OTHERS: [&str; 5] = ["", "#Fields: date time c-ip", "fog", "\"\"\"\"\"\"", "192.0.2.1 - - ["];

/// A line of a log, usual or not, some of them very long.
fn line() -> impl Strategy<Value = String> {
    let at = |length: usize| prop_oneof![4 => Just(0), 1 => 0..length];
    let said = (at(CLIENTS.len()), at(USERS.len()), 0..60u32, at(REQUESTS.len()), at(BEHIND.len()));
    let said = said.prop_map(|(client, user, second, request, behind)| {
        format!(
            "{} {} [14/Nov/2026:05:12:{second:02} +0000] \"{}\" {}",
            CLIENTS[client], USERS[user], REQUESTS[request], BEHIND[behind]
        )
    });
    let long = (5_000usize..70_000).prop_map(|length| {
        format!(
            "192.0.2.9 - - [14/Nov/2026:05:12:40 +0000] \"GET /{} HTTP/1.1\" 200 1 \"-\" \"-\"",
            "x".repeat(length)
        )
    });
    prop_oneof![
        12 => said,
        1 => prop::sample::select(OTHERS.to_vec()).prop_map(str::to_owned),
        1 => long,
    ]
}

/// What was read: how many lines of each kind, and of each request its time, numbers and texts.
#[derive(Debug, Default, PartialEq)]
struct Told {
    counts: [u64; 3],
    requests: Vec<String>,
}

fn read(reader: &mut LineReader, octets: &[u8], told: &mut Told) {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let took = reader.read_block(octets, 0, &mut 0, &mut batch, &mut texts);
    assert_eq!(took, octets.len());
    told.counts = [reader.read, reader.unread.lines(), reader.directives];
    told.requests.extend((0..batch.rows()).map(|row| {
        let numbers = NumberColumn::ALL.iter().map(|column| batch.number(*column, row));
        let text = |column| Some(texts.of(column).text(batch.code(column, row)?).to_owned());
        let said = TextColumn::ALL.iter().map(|column| text(*column));
        format!("{} {:?} {:?}", batch.time[row], numbers.collect::<Vec<_>>(), said.collect::<Vec<_>>())
    }));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    #[test]
    fn each_is_read_as_it_is_alone(
        lines in proptest::collection::vec((line(), any::<bool>()), 1..300),
        cuts in proptest::collection::vec(any::<prop::sample::Index>(), 0..3),
        layouts in prop_oneof![Just(vec!["combined"]), Just(vec!["full", "combined", "common"])],
        wanted in prop_oneof![Just(Projection::everything()), Just([TextColumn::Path].into_iter().collect()), Just(Projection::time())],
    ) {
        let layouts: Vec<Layout> = layouts.into_iter().map(|name| Layout::understand(name).unwrap()).collect();
        let lines: Vec<String> =
            lines.iter().map(|(line, is_crlf)| format!("{line}{}", if *is_crlf { "\r\n" } else { "\n" })).collect();
        let mut alone = (LineReader::new(&layouts, wanted), Told::default());
        for line in &lines {
            // A last line is read without its end too, and not ahead of it, as others are.
            let open = line.strip_suffix('\n').filter(|open| !open.is_empty()).unwrap_or(line);
            read(&mut alone.0, open.as_bytes(), &mut alone.1);
        }
        let mut among = (LineReader::new(&layouts, wanted), Told::default());
        let mut cuts: Vec<usize> = cuts.iter().map(|cut| cut.index(lines.len())).collect();
        cuts.extend([0, lines.len()]);
        cuts.sort_unstable();
        for block in cuts.windows(2) {
            read(&mut among.0, lines[block[0]..block[1]].concat().as_bytes(), &mut among.1);
        }
        prop_assert_eq!(among.1, alone.1);
        prop_assert_eq!(among.0.unread.counts, alone.0.unread.counts);
    }
}
