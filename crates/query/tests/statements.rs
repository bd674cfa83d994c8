//! Statements over a made log, as whoever asks sees them: what is right is answered with the figures of a report, what is wrong is told
//! in words of the trade and at its place, and what would do harm is refused or bounded.

mod made;

use exedra_common::scope::Scope;
use exedra_common::tables::{Cell, Table};
use exedra_common::{Column, Dictionaries, Origin, Projection, RequestBatch};
use exedra_query::parameters::Parameters;
use exedra_query::schema::{self, Field};
use exedra_query::{Engine, Limits, QueryError, RequestsTable, Statement, functions, library};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{Report, ReportOptions, SurveyPlan, Surveyor};
use made::{KEY, Logs, asked, zone};
use rstest::rstest;
use std::sync::Arc;
use std::time::Duration;

/// Some days of two sites: pages, pictures, missing pages, failures, a crawler, a query, an address of the new kind.
fn log(site: u64) -> String {
    const PATHS: [&str; 8] = [
        "/",
        "/tides",
        "/notices/2026/fog.html",
        "/style.css",
        "/crest.svg",
        "/gone?from=list",
        "/map.pdf",
        "/search?q=high%20tide",
    ];
    const AGENTS: [&str; 3] = [
        "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
        "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.0 Mobile/15E148 Safari/604.1",
        "HarbourBot/2.1 (+https://bot.example/)",
    ];
    let line = |nth: u64| {
        let second = 1_794_600_000 + nth * 97;
        let time = jiff::Timestamp::from_second(second as i64).unwrap();
        let client = match nth * 7 % 31 {
            0 => "2001:db8::7".to_owned(),
            other => format!("198.51.100.{other}"),
        };
        let path = PATHS[(nth * 5 % 8) as usize];
        let status = match (path, nth % 50) {
            ("/gone?from=list", _) => 404,
            (_, 0) => 503,
            (_, 1) => 301,
            _ => 200,
        };
        let referrer =
            ["-", "https://search.example/?q=tides", "https://harbour.lindry.example/"][(nth % 3) as usize];
        format!(
            "{client} - {} [{}] \"GET {path} HTTP/1.1\" {status} {} \"{referrer}\" \"{}\" http harbour.lindry.example {} - {} \"-\" {}\n",
            if nth.is_multiple_of(40) { "ann" } else { "-" },
            time.strftime("%d/%b/%Y:%H:%M:%S +0000"),
            200 + nth * 13 % 40_000,
            AGENTS[(nth / 9 % 3) as usize],
            500 + nth * 31 % 9_000,
            300 + nth * 13 % 40_000,
            second * 1000,
        )
    };
    (0..2_000).map(|nth| line(nth * 2 + site)).collect()
}

fn logs() -> Logs {
    let of = |(nth, site): (usize, &str)| {
        let origin =
            Origin { site: Some(site.to_owned()), server: None, source: Some("made.log".to_owned()) };
        (origin, log(nth as u64))
    };
    Logs(["harbour", "lamp"].into_iter().enumerate().map(of).collect())
}

fn table(scope: Scope) -> RequestsTable {
    RequestsTable::new(Arc::new(logs()), (scope, zone()), Arc::new(Classifier::default()), KEY).on_threads(2)
}

fn engine() -> Engine {
    Engine::new(table(Scope::default()), Limits::default(), || {}).unwrap()
}

fn answer(statement: &str) -> Table {
    asked(&engine(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"))
}

#[test]
fn every_example_and_every_statement_that_ships_can_be_asked() {
    let engine = engine();
    let mut wrong = Vec::new();
    for function in functions::all() {
        match asked(&engine, function.example) {
            Ok(table) => assert!(!table.columns.is_empty(), "{}", function.name),
            Err(error) => wrong.push(format!("{}: {error}", function.name)),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    for kept in library::LIBRARY {
        let mut values = Parameters::default();
        kept.parameters.iter().for_each(|(name, value)| values.set_usual(name, value));
        values.set_usual("client", "198.51.100.7");
        let statement = Statement::understand(kept.statement, &values);
        let statement = statement.unwrap_or_else(|error| panic!("{}: {error}", kept.name));
        let found = engine.ask(&statement, &|| true).and_then(|answer| answer.into_table(100, &|| true));
        let (table, _) = found.unwrap_or_else(|error| panic!("{}: {error}", kept.name));
        // What the log has nothing of: searches of others, many requests of one client.
        let may_be_empty = ["clients-that-repeat", "embedding-sites", "probing"];
        assert!(!table.rows.is_empty() || may_be_empty.contains(&kept.name), "{} finds nothing", kept.name);
    }
}

#[test]
fn every_column_can_be_named_without_quotes() {
    let engine = engine();
    for field in schema::fields() {
        let name = field.name();
        let table = asked(&engine, &format!("select {name} from requests where {name} is not null limit 3"));
        let table = table.unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(table.columns[0].name, name);
        let grouped = format!(
            "select {name}, count(*) as n from requests group by {name} order by n desc, {name} limit 2"
        );
        assert!(asked(&engine, &grouped).is_ok(), "{name}");
    }
}

/// The same figures, asked of a report and of statements: over everything and over a scope.
#[rstest]
#[case::everything(&[], "true")]
#[case::missing(&["status=404"], "status = 404")]
#[case::network_and_pages(&["client=198.51.100.0/28", "kind=page"], "in_network(client, '198.51.100.0/28') and kind = 'page'")]
#[case::people_of_a_site(&["site=lamp", "!crawler=*"], "site = 'lamp' and is_person()")]
#[case::not_a_path(&["!path=/tides", "status>=300"], "path <> '/tides' and status >= 300")]
#[case::a_pattern_or_another(&["path=/t*,/c*"], "path like '/t%' or path like '/c%'")]
#[case::slow(&["duration>5 ms"], "duration_ms > 5")]
fn figures_are_those_of_a_report(#[case] only: &[&str], #[case] condition: &str) {
    let filters = exedra_common::filters::Filters::understand(only, &[]).unwrap();
    let scope = Scope { filters, ..Scope::default() };
    let mut plan = SurveyPlan::new(scope.clone(), zone(), KEY);
    let shown = Shown::understand(&["days", "paths", "statuses", "linking_sites"]).unwrap();
    plan.parts = shown.parts();
    let mut surveyor = Surveyor::new(plan.clone());
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    for (origin, log) in &logs().0 {
        let mut reader =
            LineReader::new(&[Layout::understand("full").unwrap()], Projection::everything()).of(origin);
        reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
    }
    surveyor.add(&mut batch, &texts, 0);
    let options = ReportOptions { shown, top: 1_000, ..ReportOptions::default() };
    let report = Report::new(&surveyor.into_survey(&texts), &plan, &options, None);
    let pairs = |table: &Table, key: &str, figure: &str| {
        let mut all: Vec<(String, u64)> = (0..table.rows.len())
            .map(|row| {
                let key = match table.cell(row, key) {
                    Some(Cell::Text(text)) => text.clone(),
                    Some(Cell::Number(number)) => number.to_string(),
                    _ => String::new(),
                };
                (key, table.number(row, figure))
            })
            .filter(|(_, figure)| *figure > 0)
            .collect();
        all.sort();
        all
    };
    let found = |statement: String| answer(&statement.replace("CONDITION", condition));
    let by = |key: &str| {
        found(format!(
            "select {key} as key, count(*) as n, sum(bytes) as bytes from requests where CONDITION group by key"
        ))
    };
    let statuses = by("status");
    assert_eq!(pairs(&statuses, "key", "n"), pairs(report.table("statuses"), "status", "requests"));
    assert_eq!(pairs(&statuses, "key", "bytes"), pairs(report.table("statuses"), "status", "bytes"));
    let days = by("to_char(time, '%Y-%m-%d')");
    assert_eq!(pairs(&days, "key", "n"), pairs(report.table("days"), "day", "requests"));
    let visitors = found(
        "select to_char(time, '%Y-%m-%d') as key, count(distinct visitor) as n from requests where CONDITION group by key"
            .to_owned(),
    );
    assert_eq!(pairs(&visitors, "key", "n"), pairs(report.table("days"), "day", "visitors"));
    // Lists leave out what is no page or no host: what stands in both is the same.
    let paths = pairs(&by("path"), "key", "n");
    let told = pairs(report.table("paths"), "path", "requests");
    assert!(!told.is_empty() && told.iter().all(|one| paths.contains(one)), "{told:?} {paths:?}");
    // The same through the scope that a client's options make.
    let engine = Engine::new(table(scope), Limits::default(), || {}).unwrap();
    let counted = asked(&engine, "select count(*) as n from requests").unwrap();
    assert_eq!(counted.number(0, "n"), pairs(&statuses, "key", "n").iter().map(|one| one.1).sum::<u64>());
}

#[test]
fn visits_are_those_of_a_report() {
    let plan = SurveyPlan::new(Scope::default(), zone(), KEY);
    let mut surveyor = Surveyor::new(plan.clone());
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    for (origin, log) in &logs().0 {
        let mut reader =
            LineReader::new(&[Layout::understand("full").unwrap()], Projection::everything()).of(origin);
        reader.read_block(log.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
    }
    surveyor.add(&mut batch, &texts, 0);
    let survey = surveyor.into_survey(&texts);
    let visits = survey.visits.all().filter(|visit| !visit.is_crawler).count() as u64;
    let found =
        answer("select count(distinct v) as n from (select visit_of() as v from requests where is_person())");
    assert!(visits > 10);
    assert_eq!(found.number(0, "n"), visits);
}

/// What newcomers get wrong: what is said, where, and what instead.
#[rstest]
#[case::column(
    "select statsu from requests",
    "there is no column `statsu`",
    "statsu",
    "did you mean `status`?"
)]
#[case::unit("select duration from requests", "there is no column `duration`", "duration", "`duration_ms`")]
#[case::keyword(
    "selct path from requests",
    "`selct` is not expected here",
    "selct",
    "did you mean `select`?"
)]
#[case::from("select path form requests where status = 404", "is not expected here", "requests", "")]
#[case::table("select path from request", "there is no table request", "request", "did you mean requests?")]
#[case::log(
    "select path from 'access.log'",
    "there is no table",
    "'access.log'",
    "logs are named behind the statement"
)]
#[case::function(
    "select contans(path, 'a') from requests",
    "there is no function `contans`",
    "contans",
    "did you mean `contains`?"
)]
#[case::shadowed(
    "select coalesce(referrer_host, 'none') as host, count(*) from requests group by host",
    "`referrer_host` is neither grouped by nor",
    "referrer_host",
    "`host` is a column too"
)]
#[case::double_quotes(
    "select path from requests where method = \"GET\"",
    "there is no column `GET`",
    "\"GET\"",
    "a text in single ones"
)]
#[case::not_grouped(
    "select path, status, count(*) from requests group by path",
    "`status` is neither grouped by nor",
    "status",
    "add it to `group by`"
)]
#[case::open_text("select path from requests where path = '/a", "a text does not end", "", "' and '")]
#[case::too_early("select path from", "the statement ends too early", "", "missing")]
#[case::time(
    "select path from requests where time > 'last week'",
    "`last week` is no time",
    "'last week'",
    "2026-11-14"
)]
#[case::text_for_number(
    "select path from requests where status = 'many'",
    "`many` is no whole number",
    "'many'",
    ""
)]
#[case::length("select every(time, 'often') from requests", "`often` is no length of time", "", "")]
#[case::arguments(
    "select sum(path) from requests",
    "sum does not take a text",
    "sum",
    "it is written sum(number)"
)]
#[case::zero("select 1 / (status - status) from requests", "something is divided by 0", "", "nullif")]
#[case::ambiguous(
    "select path from requests a join requests b on a.path = b.path",
    "`path` may mean several columns",
    "path",
    "a.path"
)]
#[case::two("select 1; select 2", "one statement at a time", "", "")]
#[case::nothing("  ", "no statement was given", "", "select path")]
#[case::parameter(
    "select path from requests where bytes > :least",
    "no value is given for :least",
    ":least",
    "--set least="
)]
fn mistakes_are_told_at_their_place(
    #[case] statement: &str,
    #[case] what: &str,
    #[case] at: &str,
    #[case] instead: &str,
) {
    let Err(QueryError::Wrong(wrong)) = asked(&engine(), statement) else { panic!("{statement}") };
    assert!(wrong.what.contains(what), "{wrong}");
    assert!(wrong.instead.clone().unwrap_or_default().contains(instead), "{wrong}");
    if !at.is_empty() {
        let place = wrong.at.clone().unwrap_or_else(|| panic!("{wrong}: it has no place"));
        assert_eq!(&statement[place], at, "{wrong}");
    }
    let said = wrong.to_string();
    for jargon in [
        "Utf8",
        "Int64",
        "Dictionary",
        "DataFusion",
        "datafusion",
        "UDF",
        "Plan",
        "plan:",
        "Arrow",
        "LogicalPlan",
    ] {
        assert!(!said.contains(jargon), "{said}");
    }
}

/// Statements that would write, reach files or the network, or take the machine down: a sentence, and soon.
#[rstest]
#[case("drop table requests")]
#[case("delete from requests")]
#[case("update requests set path = '/'")]
#[case("insert into requests values (1)")]
#[case("create table t as select 1")]
#[case("create external table t stored as csv location '/etc/passwd'")]
#[case("copy (select 1) to '/tmp/stolen.csv'")]
#[case("set datafusion.execution.batch_size = 1")]
#[case("show tables")]
#[case("explain select 1")]
#[case("select * into other from requests")]
#[case("select * from '/etc/passwd'")]
#[case("select * from read_csv('/etc/passwd')")]
#[case("select * from information_schema.tables")]
#[case("select * from generate_series(1, 1000000000000)")]
#[case("with x as (insert into requests values (1)) select * from x")]
#[case("select path from requests for update")]
#[case("select version()")]
#[case("select repeat('x', 2000000000)")]
#[case("select lpad('x', 2000000000, 'y')")]
#[case(
    "with a as (select repeat('x', 1000000) t), b as (select t||t||t||t||t||t||t||t t from a), c as (select t||t||t||t||t||t||t||t t from b), d as (select t||t||t||t||t||t||t||t t from c) select length(t) from d"
)]
#[case(
    "with a as (select repeat('x', 1000000) t), b as (select replace(t, 'x', repeat('y', 1000)) t from a) select length(t) from b"
)]
#[case("select regexp_like(path, repeat('(a{100}){100}', 200)) from requests")]
#[case("select regexp_like(path, '(a{1000}){1000}') from requests")]
#[case("select count(*) from requests where path ~ '(\\w{100}){100}'")]
#[case("select regexp_like(path, agent) from requests")]
#[case("select count(*) from requests where path ~* agent")]
#[case("select count(*) from requests where path not similar to agent")]
#[case("select coalesce(referrer, repeat('x', 60000000)) from requests")]
#[case("select lag(path, 4000, repeat('x', 60000000)) over (order by time) from requests")]
#[case("select case when status = 404 then repeat('x', 60000000) else path end from requests")]
#[case("select repeat('x', 60000000) || path from requests")]
#[case("select length(regexp_replace(repeat('x', 1000000), 'x', repeat('y', 1000000), 'g')) from requests")]
#[case("select max(regexp_replace(repeat(path, 100), '', repeat('y', 10000), 'g')) from requests")]
#[case("select to_char(time, repeat('%c', 1000000)) from requests")]
#[case("select string_agg(repeat(path, 20000), '') from requests a, (select 1 from requests limit 100) b")]
fn what_would_do_harm_is_refused(#[case] statement: &str) {
    let began = std::time::Instant::now();
    let error = asked(&engine(), statement).unwrap_err().to_string();
    assert!(error.len() > 10 && began.elapsed() < Duration::from_secs(20), "{error}");
}

/// What doubles with each line of a statement: before anybody notices, it is more than any machine has.
#[rstest]
#[case::tables("select 1 as x from requests", "select a.x from LAST a, LAST b", "becomes")]
#[case::unions("select 1 as x from requests", "select x from LAST union all select x from LAST", "becomes")]
#[case::nothing_read("select 1 as x", "select x from LAST where x in (select x from LAST)", "becomes")]
#[case::sums("select bytes as x from requests", "select x + x as x from LAST where x > 1", "more than 1 MB")]
#[case::texts(
    "select path as x from requests",
    "select concat(x, x) as x from LAST where x <> ''",
    "more than 1 MB"
)]
fn what_doubles_with_each_line_is_refused(#[case] first: &str, #[case] line: &str, #[case] words: &str) {
    let doubled = |lines: usize| {
        let each =
            (1..lines).map(|nth| format!(", t{nth} as ({})", line.replace("LAST", &format!("t{}", nth - 1))));
        format!("with t0 as ({first}){} select count(*) as n from t{}", each.collect::<String>(), lines - 1)
    };
    let began = std::time::Instant::now();
    for lines in [30, 120] {
        let error = asked(&engine(), &doubled(lines)).unwrap_err().to_string();
        assert!(error.contains(words), "{lines}: {error}");
    }
    assert!(began.elapsed() < Duration::from_secs(20));
    let few = Statement::understand(&doubled(3), &Parameters::default()).unwrap();
    engine().check(&few).unwrap();
}

/// Where a statement makes much of each request, it is answered all the same, a few at a time.
#[test]
fn long_texts_are_made_of_few_requests_at_once() {
    let long = "y".repeat(30_000);
    let statement = format!(
        "select count(*) as n, min(length(x)) as least, max(length(x)) as most, count(distinct x) as texts \
         from (select case when status = 404 then '{long}' else path end as x from requests)"
    );
    let table = answer(&statement);
    let missing = answer("select count(*) as n from requests where status = 404").number(0, "n");
    let told = |name: &str| table.number(0, name);
    assert!(missing > 100);
    assert_eq!((told("n"), told("least"), told("most"), told("texts")), (4_000, 1, 30_000, 8));
    let replaced =
        answer("select sum(length(regexp_replace(path, 't', repeat('y', 3000)))) as n from requests");
    let others = answer(
        "select sum(length(path)) as n, count(*) filter (where path like '%t%') as with_t from requests",
    );
    assert_eq!(replaced.number(0, "n"), others.number(0, "n") + others.number(0, "with_t") * 2_999);
}

/// However wide rows are, a table holds no more than fits, and says that there are more; step by step all of them come.
#[test]
fn an_answer_is_bounded_in_octets() {
    let wide = |columns: usize| {
        let names: Vec<String> = (0..columns).map(|nth| format!("path as p{nth}")).collect();
        format!("select {} from requests", names.join(","))
    };
    let engine = engine();
    let statement = Statement::understand(&wide(800), &Parameters::default()).unwrap();
    let (table, has_more) =
        engine.ask(&statement, &|| true).unwrap().into_table(usize::MAX, &|| true).unwrap();
    let octets = |row: &Vec<Cell>| {
        row.iter().map(|cell| size_of::<Cell>() + cell.as_text().unwrap().len()).sum::<usize>()
    };
    let all: usize = table.rows.iter().map(octets).sum();
    assert!(has_more && all <= exedra_query::answer::MOST_OCTETS, "{all}");
    assert!(all > exedra_query::answer::MOST_OCTETS / 2 && table.rows.len() < 4_000, "{all}");
    let statement = Statement::understand(&wide(300), &Parameters::default()).unwrap();
    let mut answer = engine.ask(&statement, &|| true).unwrap();
    let mut rows = 0;
    while let Some(some) = answer.rows(&|| true).unwrap() {
        assert!(some.len() * 300 <= 1 << 16 && some.iter().all(|row| row.len() == 300 && row[0] == row[299]));
        rows += some.len();
    }
    assert_eq!(rows, 4_000);
}

#[test]
fn rows_that_a_window_keeps_are_counted() {
    let limits = Limits { memory: 8 << 20, ..Limits::default() };
    let small = Engine::new(table(Scope::default()), limits, || {}).unwrap();
    let all = "select max(n) as n, max(path) as p, max(agent) as a from (select count(*) over () as n, a.path, b.agent from requests a, (select agent from requests limit 400) b)";
    let error = asked(&small, all).unwrap_err();
    assert!(matches!(error, QueryError::TooMuch(_)), "{error}");
    // One that need not keep them is answered within the same, and so is what is small.
    let visits = "select count(distinct v) as n from (select visit_of() as v from requests)";
    assert_eq!(asked(&small, visits).unwrap().rows, answer(visits).rows);
    assert_eq!(
        asked(&small, "select max(n) as n from (select count(*) over () as n from requests)")
            .unwrap()
            .number(0, "n"),
        4_000
    );
}

#[test]
fn depth_and_length_are_bounded() {
    let deep = format!("select {}1{}", "(".repeat(5_000), ")".repeat(5_000));
    assert!(
        asked(&engine(), &deep).unwrap_err().to_string().contains("nested too deeply"),
        "{}",
        asked(&engine(), &deep).unwrap_err()
    );
    let long = format!("select 1 {}", " ".repeat(100_000));
    assert!(asked(&engine(), &long).unwrap_err().to_string().contains("at most 32 kB"));
}

#[test]
fn a_question_has_its_memory_its_time_and_its_disk() {
    let limits =
        Limits { memory: 24 << 20, disk: 1 << 20, time: Some(Duration::from_secs(2)), ..Limits::default() };
    let engine = Engine::new(table(Scope::default()), limits, || {}).unwrap();
    let everything = "select count(distinct a.path || b.agent || c.client || d.path) from requests a, requests b, requests c, requests d";
    let QueryError::TooMuch(words) = asked(&engine, everything).unwrap_err() else {
        panic!("it was answered")
    };
    assert!(words.contains("longer than the 2 seconds") || words.contains("more memory"), "{words}");
    let sorted = "select a.path, b.agent, a.referrer from requests a, requests b order by b.agent, a.path";
    let error = asked(&engine, sorted).unwrap_err();
    assert!(matches!(error, QueryError::TooMuch(_)), "{error}");
    // The next one finds everything as it was.
    assert_eq!(asked(&engine, "select count(*) as n from requests").unwrap().number(0, "n"), 4_000);
}

/// Rows that come at once and never end are told an end too; how long whoever reads them needs for each does not count.
#[test]
fn time_is_that_of_the_engine() {
    let limits = Limits { time: Some(Duration::from_millis(500)), ..Limits::default() };
    let engine = Engine::new(table(Scope::default()), limits, || {}).unwrap();
    let endless = "select a.path from requests a, requests b, requests c, requests d";
    let statement = Statement::understand(endless, &Parameters::default()).unwrap();
    let mut answer = engine.ask(&statement, &|| true).unwrap();
    let error = loop {
        match answer.rows(&|| true) {
            Ok(rows) => assert!(rows.is_some(), "it has ended"),
            Err(error) => break error,
        }
    };
    assert!(
        matches!(&error, QueryError::TooMuch(words) if words.contains("longer than the 0 seconds")),
        "{error}"
    );
    let some = Statement::understand("select path from requests", &Parameters::default()).unwrap();
    let mut answer = engine.ask(&some, &|| true).unwrap();
    let mut rows = answer.rows(&|| true).unwrap().unwrap().len();
    let came = std::time::Instant::now();
    while came.elapsed() < Duration::from_millis(600) {
        std::thread::yield_now();
    }
    while let Some(more) = answer.rows(&|| true).unwrap() {
        rows += more.len();
    }
    assert_eq!(rows, 4_000);
}

#[test]
fn whoever_no_longer_waits_stops_it() {
    let engine = engine();
    let heavy =
        "select count(*) from requests a, requests b, requests c where a.bytes + b.bytes + c.bytes = 7";
    let statement = Statement::understand(heavy, &Parameters::default()).unwrap();
    let began = std::time::Instant::now();
    let goes_on = || began.elapsed() < Duration::from_millis(300);
    let stopped = engine.ask(&statement, &goes_on).and_then(|answer| answer.into_table(10, &goes_on));
    assert_eq!(stopped.unwrap_err(), QueryError::Stopped);
    assert!(began.elapsed() < Duration::from_secs(5));
}

#[test]
fn nobody_finds_out_what_is_masked() {
    let masked = Engine::new(table(Scope::default()).masked(true), Limits::default(), || {}).unwrap();
    let clients = asked(&masked, "select distinct client from requests order by client").unwrap();
    let clients: Vec<&str> = clients.rows.iter().filter_map(|row| row[0].as_text()).collect();
    assert_eq!(clients, ["198.51.100.0/24", "2001:db8::/48"]);
    for statement in [
        "select count(*) as n from requests where client = '198.51.100.7'",
        "select count(*) as n from requests where in_network(client, '198.51.100.7/32')",
        "select count(*) as n from requests where user = 'ann'",
        "select count(user) as n from requests",
    ] {
        assert_eq!(asked(&masked, statement).unwrap().number(0, "n"), 0, "{statement}");
    }
}

#[test]
fn more_is_sorted_than_fits_into_memory() {
    let limits = Limits { memory: 20 << 20, ..Limits::default() };
    let engine = Engine::new(table(Scope::default()), limits, || {}).unwrap();
    let statement = "select a.path, a.agent, b.referrer, a.time from requests a join requests b on a.status = b.status and b.bytes < 300 order by a.agent, a.path, a.time limit 400000";
    let statement = Statement::understand(statement, &Parameters::default()).unwrap();
    let mut answer = engine.ask(&statement, &|| true).unwrap();
    let (mut rows, mut last): (u64, Option<String>) = (0, None);
    while let Some(some) = answer.rows(&|| true).unwrap() {
        for row in some {
            let agent = row[1].as_text().map(str::to_owned);
            assert!(last <= agent);
            last = agent;
            rows += 1;
        }
    }
    assert!(rows > 40_000, "{rows}");
}

/// Groups are handed on whenever there is no more memory for them, and put together again.
#[test]
fn groups_are_the_same_however_little_memory_there_is() {
    let statement = "select count(*) as groups, sum(n) as n, sum(s) as s, count(m) as m from (select count(*) as n, sum(b.bytes) as s, \
         max(b.time) - min(a.time) as m from requests a join requests b on a.status = b.status and b.bytes < 300 group by a.path, b.path, a.time)";
    let row = |memory: usize, threads: usize| {
        let limits = Limits { memory, ..Limits::default() };
        let engine = Engine::new(table(Scope::default()).on_threads(threads), limits, || {}).unwrap();
        asked(&engine, statement).unwrap().rows
    };
    let plenty = row(1 << 30, 2);
    assert!(plenty[0][0].as_u64() > Some(10_000), "{plenty:?}");
    assert_eq!(row(1 << 30, 1), plenty);
    assert_eq!(row(6 << 20, 2), plenty);
}

#[test]
fn all_columns_have_the_names_and_kinds_that_are_told() {
    let described = exedra_query::description::describe(&table(Scope::default()), &|| true).unwrap();
    assert_eq!(described.rows.len(), Column::all().count() + 1);
    let cell = |name: &str, column: &str| {
        let row = described.rows.iter().position(|row| row[0].as_text() == Some(name)).unwrap();
        described.cell(row, column).cloned().unwrap()
    };
    assert_eq!(cell("duration_ms", "unit"), "milliseconds".into());
    assert_eq!(cell("status", "samples"), "200  404  503  301".into());
    assert_eq!(cell("path", "filled"), Cell::Decimal(100.0));
    assert_eq!(cell("server", "filled"), Cell::Decimal(0.0));
    assert_eq!(Field::named("visitor"), Some(Field::Visitor));
}
