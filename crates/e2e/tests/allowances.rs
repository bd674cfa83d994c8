//! A month's allowance that is used up: downloads are refused or slowed where the administrator wants that, pages never; and the check says
//! so before.

use exedra_e2e::{Place, Program, drawn, exedra, field, text, until};
use jiff::Zoned;
use jiff::tz::TimeZone;
use std::time::Instant;

const CHART: usize = 60_000;

/// The harbour with an allowance, a page that is larger than it, and a chart to download.
fn place(at_allowance: &str) -> Place {
    let place = Place::new();
    place.configure("");
    let config = std::fs::read_to_string(place.config()).unwrap();
    let with = format!("name = \"harbour\"\nallowance = \"50 kB\"\nat_allowance = \"{at_allowance}\"\n");
    let config = config.replacen("name = \"harbour\"\n", &with, 1);
    assert!(config.contains("at_allowance"), "{config}");
    std::fs::write(place.config(), config).unwrap();
    // Octets that no encoding makes fewer.
    let octets: Vec<u8> =
        (0..CHART as u32).map(|nth| (nth.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    std::fs::write(place.path("harbour/chart.pdf"), octets).unwrap();
    place
}

fn is_used_up(program: &Program) -> bool {
    program.api("status")["troubles"].to_string().contains("the month's allowance of `harbour` is used up")
}

#[test]
fn downloads_are_refused_until_the_month_is_over_and_pages_are_not() {
    let place = place("refuse downloads");
    let checked = exedra(&["check", "--config", &text(&place.config())]);
    assert!(
        checked.status.success()
            && drawn(&checked).contains("when `harbour` has sent 50.0 kB in a month: refuse downloads"),
        "{}",
        drawn(&checked)
    );
    let program = place.serve();
    let first = program.get("harbour.example", "/chart.pdf");
    assert_eq!((first.status().as_u16(), first.bytes().unwrap().len()), (200, CHART));
    until("it is used up", || is_used_up(&program).then_some(()));
    let refused = program.get("harbour.example", "/chart.pdf");
    assert_eq!(refused.status(), 503);
    let wait: i64 = field(&refused, "retry-after").parse().unwrap();
    let now = Zoned::now().with_time_zone(TimeZone::UTC);
    let next = now.last_of_month().unwrap().tomorrow().unwrap().start_of_day().unwrap();
    assert!((next.timestamp().as_second() - now.timestamp().as_second() - wait).abs() < 5, "{wait}");
    assert!(refused.text().unwrap().contains("Its pages are still here"));
    for _ in 0..3 {
        assert_eq!(program.get("harbour.example", "/").status(), 200, "pages are never held back");
    }
    assert_eq!(program.get("lamp.example", "/").status(), 200);
    // Another configuration, another allowance: it is counted anew at once.
    let config = std::fs::read_to_string(place.config()).unwrap().replace("50 kB", "50 MB");
    std::fs::write(place.config(), config).unwrap();
    let done = program.command(&place, &["reload"]);
    assert!(done.status.success(), "{}", drawn(&done));
    assert_eq!(program.get("harbour.example", "/chart.pdf").status(), 200);
}

#[test]
fn downloads_are_slowed_where_that_is_wanted() {
    let place = place("slow downloads to 40 kB a second");
    let program = place.serve();
    let began = Instant::now();
    program.get("harbour.example", "/chart.pdf").bytes().unwrap();
    let quick = began.elapsed();
    until("it is used up", || is_used_up(&program).then_some(()));
    let began = Instant::now();
    let slow = program.get("harbour.example", "/chart.pdf");
    assert_eq!((slow.status().as_u16(), slow.bytes().unwrap().len()), (200, CHART));
    // At 40 kB a second it takes a second and a half, less what may come at once.
    assert!(
        began.elapsed().as_millis() >= 700 && began.elapsed() > 3 * quick,
        "{:?} {quick:?}",
        began.elapsed()
    );
}

#[test]
fn what_cannot_happen_is_refused() {
    for (written, expected) in [
        ("refuse pages", "`refuse pages` is nothing that can happen then"),
        ("slow downloads", "write \"tell\", \"refuse downloads\" or \"slow downloads to 250 kB a second\""),
    ] {
        let done = exedra(&["check", "--config", &text(&place(written).config())]);
        assert!(!done.status.success() && drawn(&done).contains(expected), "{}", drawn(&done));
    }
}
