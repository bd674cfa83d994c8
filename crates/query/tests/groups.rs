//! A law of groups: whatever requests are grouped by and whatever is counted of each group, the figures are those of going through the
//! requests one by one.

mod made;
mod sites;

use exedra_common::tables::Cell;
use made::asked;
use proptest::prelude::*;
use proptest::sample::subsequence;
use sites::engines;
use std::collections::{BTreeMap, BTreeSet};

/// What requests may be grouped by: texts, numbers, times, and what follows from them; of some there is nothing in many requests.
const KEYS: [&str; 14] = [
    "path",
    "client",
    "agent",
    "site",
    "method",
    "referrer",
    "kind",
    "status",
    "bytes",
    "date_trunc('hour', time)",
    "every(time, '5 minutes')",
    "network(client, 16)",
    "status_class(status)",
    "bytes > 1000",
];
/// What is counted of each group, of a request's status, octets, path, client and time.
const FIGURES: [&str; 9] = [
    "count(*)",
    "count(bytes)",
    "sum(bytes)",
    "min(path)",
    "max(path)",
    "count(distinct client)",
    "count(distinct bytes)",
    "sum(bytes) filter (where status = 404)",
    "max(bytes)",
];

/// The figures of one group, counted by hand.
#[derive(Default)]
struct Counted {
    requests: u64,
    bytes: Vec<u64>,
    of_missing: Vec<u64>,
    paths: BTreeSet<String>,
    clients: BTreeSet<String>,
}

impl Counted {
    fn add(&mut self, said: &[Cell]) {
        let [status, bytes, path, client] = said else { panic!("{said:?}") };
        self.requests += 1;
        self.bytes.extend(bytes.as_u64());
        self.of_missing.extend(bytes.as_u64().filter(|_| status.as_u64() == Some(404)));
        self.paths.extend(path.as_text().map(str::to_owned));
        self.clients.extend(client.as_text().map(str::to_owned));
    }

    fn figure(&self, name: &str) -> Cell {
        let sum = |of: &[u64]| if of.is_empty() { Cell::Nothing } else { Cell::Number(of.iter().sum()) };
        let text = |text: Option<&String>| text.map_or(Cell::Nothing, |text| Cell::Text(text.clone()));
        match name {
            "count(*)" => Cell::Number(self.requests),
            "count(bytes)" => Cell::Number(self.bytes.len() as u64),
            "sum(bytes)" => sum(&self.bytes),
            "min(path)" => text(self.paths.first()),
            "max(path)" => text(self.paths.last()),
            "count(distinct client)" => Cell::Number(self.clients.len() as u64),
            "count(distinct bytes)" => Cell::Number(self.bytes.iter().collect::<BTreeSet<_>>().len() as u64),
            "sum(bytes) filter (where status = 404)" => sum(&self.of_missing),
            "max(bytes)" => self.bytes.iter().max().map_or(Cell::Nothing, |most| Cell::Number(*most)),
            other => panic!("{other}"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn figures_are_those_of_each_request(
        keys in subsequence(KEYS.to_vec(), 0..4).prop_shuffle(),
        figures in subsequence(FIGURES.to_vec(), 1..6),
        only in prop_oneof![Just("true"), Just("status >= 300"), Just("path is not null"), Just("site = 'lamp'"), Just("bytes > 9e9")],
    ) {
        let named = |prefix: &str, all: &[&str]| -> Vec<String> {
            all.iter().enumerate().map(|(nth, one)| format!("{one} as {prefix}{nth}")).collect()
        };
        let places: Vec<String> = (0..keys.len()).map(|nth| format!("k{nth}")).collect();
        let said = [named("k", &keys), named("f", &figures)].concat().join(", ");
        let by = if keys.is_empty() { String::new() } else { format!(" group by {}", places.join(", ")) };
        let grouped = format!("select {said} from requests where {only}{by}");
        let each = [named("k", &keys), ["status", "bytes", "path", "client"].map(str::to_owned).to_vec()].concat();
        let each = format!("select {} from requests where {only}", each.join(", "));
        for (name, engine) in engines() {
            let mut counted: BTreeMap<String, (Vec<Cell>, Counted)> = BTreeMap::new();
            if keys.is_empty() {
                counted.entry(format!("{:?}", Vec::<Cell>::new())).or_default();
            }
            for row in asked(engine, &each).unwrap().rows {
                let (key, said) = row.split_at(keys.len());
                let group = counted.entry(format!("{key:?}")).or_default();
                group.0 = key.to_vec();
                group.1.add(said);
            }
            let mut expected: Vec<Vec<Cell>> = counted
                .into_values()
                .map(|(key, group)| [key, figures.iter().map(|figure| group.figure(figure)).collect()].concat())
                .collect();
            let mut found = asked(engine, &grouped).unwrap().rows;
            expected.sort_by_key(|row| format!("{row:?}"));
            found.sort_by_key(|row| format!("{row:?}"));
            prop_assert_eq!(found, expected, "{} over {}", grouped, name);
        }
    }
}
