//! What functions make of values that people give them: the usual ones, those at the edge, and those that are wrong.

mod made;
mod sites;

use exedra_common::tables::Cell;
use exedra_query::QueryError;
use made::asked;
use rstest::rstest;
use sites::engines;

/// The value of an expression, as text; nothing where it has none.
fn value(expression: &str) -> Result<Option<String>, QueryError> {
    let (_, engine) = &engines()[0];
    let table = asked(engine, &format!("select {expression} as x from requests limit 1"))?;
    Ok(match &table.rows[0][0] {
        Cell::Nothing => None,
        Cell::Text(text) => Some(text.clone()),
        Cell::Number(number) => Some(number.to_string()),
        Cell::Decimal(number) => Some(number.to_string()),
    })
}

#[rstest]
#[case::four("network('198.51.100.77')", Some("198.51.100.0/24"))]
#[case::bits("network('198.51.100.77', 16)", Some("198.51.0.0/16"))]
#[case::all_bits("network('198.51.100.77', 32)", Some("198.51.100.77/32"))]
#[case::six("network('2001:db8:7:8::9')", Some("2001:db8:7::/48"))]
#[case::bits_of_six("network('2001:db8:7:8::9', 24, 64)", Some("2001:db8:7:8::/64"))]
#[case::four_in_six("network('::ffff:198.51.100.77')", Some("198.51.100.0/24"))]
#[case::a_name("network('quay.example')", None)]
#[case::nothing("network(null)", None)]
#[case::within("in_network('198.18.3.4', '198.18.0.0/15')", Some("true"))]
#[case::not_within("in_network('198.20.0.1', '198.18.0.0/15')", Some("false"))]
#[case::one_address("in_network('2001:db8::7', '2001:0db8::0007')", Some("true"))]
#[case::written_carelessly("in_network('198.51.100.9', ' 198.51.100.77/24')", Some("true"))]
#[case::other_kind("in_network('2001:db8::7', '0.0.0.0/0')", Some("false"))]
#[case::mapped("in_network('::ffff:198.51.100.9', '198.51.100.0/24')", Some("true"))]
#[case::no_address("in_network('quay.example', '0.0.0.0/0')", Some("false"))]
fn networks(#[case] expression: &str, #[case] expected: Option<&str>) {
    assert_eq!(value(expression).unwrap().as_deref(), expected);
}

#[rstest]
#[case::host("host_of('https://Harbour.Example:8443/tides?a=1')", Some("harbour.example"))]
#[case::of_a_name("host_of('http://ann@harbour.example/')", Some("harbour.example"))]
#[case::no_host("host_of('/tides')", None)]
#[case::path("path_of('https://harbour.example/tides?a=1#top')", Some("/tides"))]
#[case::no_path("path_of('https://harbour.example')", Some("/"))]
#[case::parameter("parameter('a=1&b=2', 'b')", Some("2"))]
#[case::first_of_two("parameter('a=1&a=2', 'a')", Some("1"))]
#[case::decoded_value("parameter('q=high+tide%20at%C3%A9', 'q')", Some("high tide at\u{e9}"))]
#[case::without_value("parameter('a', 'a')", Some(""))]
#[case::none("parameter('a=1', 'b')", None)]
#[case::of_an_address("parameter('https://harbour.example/tides?a=1#b=2', 'a')", Some("1"))]
#[case::not_of_the_fragment("parameter('https://harbour.example/tides?a=1#b=2', 'b')", None)]
#[case::question_marks("parameter('q=why%3F?&next=/a?b=c', 'q')", Some("why??"))]
#[case::question_mark_before("parameter('next=/a?b=c', 'next')", Some("/a?b=c"))]
#[case::decoded("decoded('/caf%C3%A9%20au%20lait')", Some("/caf\u{e9} au lait"))]
#[case::broken("decoded('/100%')", Some("/100%"))]
#[case::no_letters("decoded('/%ff')", Some("/\u{fffd}"))]
fn parts_of_addresses(#[case] expression: &str, #[case] expected: Option<&str>) {
    assert_eq!(value(expression).unwrap().as_deref(), expected);
}

#[rstest]
#[case::class("status_class(404)", Some("4xx"))]
#[case::no_status("status_class(7)", None)]
#[case::no_class("status_class(-200)", None)]
#[case::words("status_words(404)", Some("Not Found"))]
#[case::unknown("status_words(799)", None)]
#[case::beyond("status_words(70000)", None)]
#[case::weekday("weekday('2026-11-14 12:00:00')", Some("Saturday"))]
#[case::nothing("weekday(null)", None)]
fn statuses_and_weekdays(#[case] expression: &str, #[case] expected: Option<&str>) {
    assert_eq!(value(expression).unwrap().as_deref(), expected);
}

/// The zone of the engine is that of the Faroes, which put the clock forward on 2026-03-29 at 01:00 and back on 2026-10-25 at 02:00.
#[rstest]
#[case::five_minutes("5 minutes", "2026-11-14 05:12:40", "2026-11-14 05:10")]
#[case::odd("7 minutes", "2026-11-14 05:12:40", "2026-11-14 05:12")]
#[case::quarter_of_a_day("6 hours", "2026-11-14 05:12:40", "2026-11-14 00:00")]
#[case::on_the_short_day("6 hours", "2026-03-29 04:30:00", "2026-03-29 00:00")]
#[case::on_the_long_day("6 hours", "2026-10-25 05:30:00", "2026-10-25 00:00")]
#[case::the_short_day("1 day", "2026-03-29 23:30:00", "2026-03-29 00:00")]
#[case::the_long_day("1 day", "2026-10-25 23:30:00", "2026-10-25 00:00")]
#[case::day_in_hours("24 hours", "2026-10-25 23:30:00", "2026-10-25 00:00")]
#[case::week("1 week", "2026-11-14 05:12:40", "2026-11-09 00:00")]
#[case::month("month", "2026-11-14 05:12:40", "2026-11-01 00:00")]
#[case::quarter("3 months", "2026-11-14 05:12:40", "2026-10-01 00:00")]
#[case::year("1 year", "2026-11-14 05:12:40", "2026-01-01 00:00")]
fn stretches_begin_by_the_clock_of_the_zone(#[case] length: &str, #[case] time: &str, #[case] begin: &str) {
    let local = format!("arrow_cast('{time}', 'Timestamp(Millisecond, Some(\"Atlantic/Faroe\"))')");
    let shown = value(&format!("to_char(every({local}, '{length}'), '%Y-%m-%d %H:%M')")).unwrap();
    assert_eq!(shown.as_deref(), Some(begin));
}

/// What is made of nothing is nothing, in all functions that are ours and take one value.
#[test]
fn nothing_comes_of_nothing() {
    for expression in [
        "every(null, '1 day')",
        "weekday(null)",
        "network(null)",
        "in_network(null, '198.18.0.0/15')",
        "status_class(null)",
        "status_words(null)",
        "host_of(null)",
        "path_of(null)",
        "parameter(null, 'a')",
        "decoded(null)",
        "null || 'a'",
    ] {
        assert_eq!(
            value(expression).unwrap_or_else(|error| panic!("{expression}: {error}")),
            None,
            "{expression}"
        );
    }
}

#[rstest]
#[case("network('198.51.100.77', 33)", "0 to 32 bits, not 33")]
#[case("network('198.51.100.77', -1)", "0 to 32 bits, not -1")]
#[case("network('198.51.100.77', 24, 129)", "0 to 128 bits, not 129")]
#[case("network(client, status)", "the same for all rows")]
#[case("in_network(client, 'everywhere')", "`everywhere` is no network")]
#[case("in_network(client, client)", "the same for all rows")]
#[case("status_class('503')", "status_class does not take a text")]
#[case("every(time, '0 days')", "`0 days` is no length of time")]
#[case("every(time, '5 fortnights')", "`5 fortnights` is no length of time")]
#[case("every(status, '1 day')", "every does not take a whole number: it is written every(time, length)")]
#[case("parameter(query, path)", "the same for all rows")]
#[case("host_of(status)", "host_of does not take a whole number: it is written host_of(url)")]
#[case("regexp_like(path, referrer)", "the same for all requests")]
#[case("regexp_like(path, '(')", "")]
fn what_is_given_wrongly_is_told(#[case] expression: &str, #[case] words: &str) {
    let error = value(expression).unwrap_err();
    assert!(matches!(error, QueryError::Wrong(_)), "{error}");
    assert!(error.to_string().contains(words), "{error}");
}

/// Over a whole log and over records, of texts that stand once and of those that stand often: the same as one value at a time.
#[rstest]
#[case("host_of(referrer)")]
#[case("path_of(referrer)")]
#[case("network(client, 16, 32)")]
#[case("status_class(status)")]
#[case("decoded(path)")]
#[case("parameter(query, 'day')")]
#[case("in_network(client, '198.51.100.0/25')")]
#[case("weekday(time)")]
#[case("every(time, '3 hours')")]
#[case("upper(path) || ' ' || coalesce(agent, 'none')")]
fn functions_of_columns_are_those_of_their_values(#[case] expression: &str) {
    for (name, engine) in engines() {
        let by = |expression: &str| {
            let statement =
                format!("select {expression} as x, count(*) as n from requests group by 1 order by 1, 2");
            asked(engine, &statement).unwrap_or_else(|error| panic!("{name} {expression}: {error}")).rows
        };
        let at_once = by(expression);
        assert!(at_once.len() > 1, "{name} {expression}: {at_once:?}");
        // Whatever stands in a case of its own is worked out of the rows that are in it.
        let apart = format!(
            "case when status = 200 then {expression} when status <> 200 then {expression} else {expression} end"
        );
        assert_eq!(by(&apart), at_once, "{name} {expression}");
    }
}
