//! `visit_of()` against going through requests one by one: whoever the request is of, and however the engine parts and orders its rows.

mod made;
mod sites;

use exedra_common::tables::Cell;
use made::asked;
use sites::engines;
use std::collections::{BTreeMap, BTreeSet};

/// Half an hour, in milliseconds.
const GAP: u64 = 30 * 60 * 1000;

/// Who asked: a client and an agent, either of which may not be known.
type Who = (Option<String>, Option<String>);

/// The visit of each request by plain going through: its first instant, of everybody.
fn plainly(rows: &[Vec<Cell>]) -> Vec<(Who, u64)> {
    let of = |row: &Vec<Cell>| -> (Who, u64) {
        let text = |cell: &Cell| cell.as_text().map(str::to_owned);
        ((text(&row[1]), text(&row[2])), row[0].as_u64().unwrap())
    };
    let mut times: BTreeMap<Who, Vec<u64>> = BTreeMap::new();
    for (who, time) in rows.iter().map(of) {
        times.entry(who).or_default().push(time);
    }
    times.values_mut().for_each(|times| times.sort_unstable());
    let began = |(who, time): (Who, u64)| {
        let (mut began, mut last) = (0, None);
        for &at in times[&who].iter().take_while(|at| **at <= time) {
            if last.is_none_or(|last| at - last > GAP) {
                began = at;
            }
            last = Some(at);
        }
        (who, began)
    };
    rows.iter().map(of).map(began).collect()
}

#[test]
fn visits_are_those_of_going_through_them() {
    for (name, engine) in engines() {
        for statement in [
            "select time, client, agent, visit_of() as visit from requests",
            "select time, client, agent, visit_of() as visit from requests order by path, time desc",
            // The engine tells them beside other windows.
            "select time, client, agent, visit_of() as visit, count(*) over (partition by path) as n, \
             lag(path) over (partition by client, agent order by time) as last from requests",
            "select time, client, agent, visit_of() as visit from (select * from requests where status <> 304) as some",
        ] {
            let rows =
                asked(engine, statement).unwrap_or_else(|error| panic!("{name}: {statement}: {error}")).rows;
            let plainly = plainly(&rows);
            let told: Vec<u64> = rows.iter().map(|row| row[3].as_u64().unwrap()).collect();
            let pairs: BTreeSet<(&(Who, u64), u64)> = plainly.iter().zip(told.iter().copied()).collect();
            // One number for each visit, and none for two.
            assert_eq!(pairs.len(), plainly.iter().collect::<BTreeSet<_>>().len(), "{name}: {statement}");
            assert_eq!(pairs.len(), told.iter().collect::<BTreeSet<_>>().len(), "{name}: {statement}");
            assert!(pairs.len() > 10 && pairs.len() < rows.len() / 2, "{name}: {statement}: {}", pairs.len());
        }
    }
}

/// What is asked of visits: how long they are, how many pages they have, and where they begin.
#[test]
fn visits_can_be_grouped_by() {
    for (name, engine) in engines() {
        let each = "select v, count(*) as n, min(time) as first, max(time) as last from \
                    (select visit_of() as v, time from requests) group by v";
        let visits = asked(engine, each).unwrap_or_else(|error| panic!("{name}: {error}"));
        let requests: u64 = (0..visits.rows.len()).map(|row| visits.number(row, "n")).sum();
        assert_eq!(
            requests,
            asked(engine, "select count(*) as n from requests").unwrap().number(0, "n"),
            "{name}"
        );
        let longest = asked(engine, &format!("select max(n) as n from ({each})")).unwrap().number(0, "n");
        assert!(longest > 3, "{name}: {longest}");
        assert!(visits.rows.iter().all(|row| row[2].as_u64() <= row[3].as_u64()), "{name}");
    }
}
