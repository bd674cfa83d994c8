//! A law of conditions: whichever of them whoever reads requests tests himself, the same requests are found as where the engine tests all
//! of them; over logs and over records, of which some are not even opened.

mod made;
mod sites;

use made::asked;
use proptest::prelude::*;
use sites::engines;

/// A condition on one column.
fn plain() -> impl Strategy<Value = String> {
    let numbers = (
        prop_oneof![Just("status"), Just("bytes"), Just("full_bytes"), Just("duration_ms")],
        prop_oneof![Just("="), Just("<>"), Just("<"), Just("<="), Just(">"), Just(">=")],
        prop_oneof![
            Just("0"),
            Just("-1"),
            Just("200"),
            Just("404"),
            Just("1300"),
            Just("0.377"),
            Just("2.5"),
            Just("9e18")
        ],
    );
    let texts = (
        prop_oneof![
            Just("path"),
            Just("query"),
            Just("client"),
            Just("\"user\""),
            Just("agent"),
            Just("method"),
            Just("referrer"),
            Just("scheme"),
            Just("host"),
            Just("site"),
            Just("kind"),
            Just("browser"),
            Just("crawler")
        ],
        prop_oneof![
            Just("= '/tides'"),
            Just("<> '/tides'"),
            Just("= ''"),
            Just("<> ''"),
            Just("= 'ann'"),
            Just("= 'lamp'"),
            Just("<> 'lamp'"),
            Just("like '%'"),
            Just("like '/a*%'"),
            Just("like '%TIDES%'"),
            Just("ilike '%tides%'"),
            Just("not like '/t%'"),
            Just("like '_'"),
            Just("like '198.51.%'"),
            Just("in ('/', 'GET', 'lamp', 'quay')"),
            Just("not in ('/', 'ann', 'http')"),
            Just("is null"),
            Just("is not null"),
            Just("= 'page'"),
            Just("> 'h'")
        ],
    );
    let times = (
        prop_oneof![Just("="), Just("<>"), Just("<"), Just("<="), Just(">"), Just(">=")],
        prop_oneof![
            Just("2026-11-13T20:00:00Z"),
            Just("2026-11-13T21:40:01.500Z"),
            Just("2026-11-14 03:00:00"),
            Just("2026-11-14")
        ],
    );
    prop_oneof![
        3 => numbers.prop_map(|(column, operator, value)| format!("{column} {operator} {value}")),
        4 => texts.prop_map(|(column, condition)| format!("{column} {condition}")),
        2 => times.prop_map(|(operator, time)| format!("time {operator} '{time}'")),
        1 => prop_oneof![
            Just("bytes between 100 and 900"), Just("bytes not between 100 and 900"), Just("status in (404, 500)"),
            Just("status not in (200, 301)"), Just("in_network(client, '198.51.100.0/25')"), Just("is_person()"),
            Just("bytes > full_bytes"), Just("time between '2026-11-13T20:00:00Z' and '2026-11-13T22:00:00Z'"),
            Just("bytes is null"), Just("duration_ms is not null"), Just("status_class(status) = '4xx'")
        ].prop_map(str::to_owned),
    ]
}

fn condition() -> impl Strategy<Value = String> {
    plain().prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            3 => (inner.clone(), inner.clone()).prop_map(|(one, other)| format!("({one} and {other})")),
            3 => (inner.clone(), inner.clone()).prop_map(|(one, other)| format!("({one} or {other})")),
            1 => inner.prop_map(|one| format!("not ({one})")),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn whoever_tests_them_finds_the_same(condition in condition()) {
        for (name, engine) in engines() {
            // What is counted by the engine alone cannot be handed to whoever reads.
            let tested = format!("select count(*) as n, coalesce(sum(bytes), 0) as b from requests where {condition}");
            let counted = format!(
                "select coalesce(sum(case when {condition} then 1 else 0 end), 0) as n, \
                 coalesce(sum(case when {condition} then bytes else 0 end), 0) as b from requests"
            );
            let (tested, counted) = (asked(engine, &tested), asked(engine, &counted));
            prop_assert_eq!(tested.is_ok(), counted.is_ok(), "{} over {}: {:?} {:?}", condition, name, tested.err(), counted.err());
            if let (Ok(tested), Ok(counted)) = (tested, counted) {
                prop_assert_eq!(tested.rows, counted.rows, "{} over {}", condition, name);
            }
        }
    }
}
