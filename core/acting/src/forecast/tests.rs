use super::*;
use jiff::civil::date;
use proptest::prelude::*;
use rstest::rstest;

const TODAY: Date = date(2026, 9, 11);

/// So many days before today, each with what a function says.
fn days(count: i32, bytes: impl Fn(Date, i32) -> f64) -> Vec<Day> {
    let day = |ago: i32| {
        let date = TODAY.saturating_sub(ago.days());
        Day { date, bytes: bytes(date, ago).max(0.0) as u64 }
    };
    (1..=count).rev().map(day).collect()
}

/// A day at its beginning.
fn beginning(date: Date) -> Present {
    Present { date, bytes: 0, part: 0.0 }
}

/// Days of a week that differ: on Sundays nearly nothing.
fn of_week(date: Date) -> f64 {
    if date.weekday() == Weekday::Sunday { 10_000.0 } else { 100_000.0 }
}

#[test]
fn weekdays_are_told_apart() {
    let known = days(70, |date, _| of_week(date));
    let forecast = Forecast::of_month(&known, beginning(TODAY)).unwrap();
    let truth: f64 = date(2026, 9, 1).series(1.day()).take(30).map(of_week).sum();
    assert!((forecast.expected as f64 / truth - 1.0).abs() < 0.02, "{} {truth}", forecast.expected);
    assert!(forecast.least <= forecast.expected && forecast.expected <= forecast.most);
    let sunday = &forecast.days[12];
    let gained = sunday.expected - forecast.days[11].expected;
    assert!(sunday.date.weekday() == Weekday::Sunday && gained < 30_000, "{gained}");
}

#[test]
fn what_has_been_sent_is_no_guess() {
    let known = days(40, |_, ago| f64::from(ago) * 10.0);
    let present = Present { date: TODAY, bytes: 7, part: 0.25 };
    let forecast = Forecast::of_month(&known, present).unwrap();
    let sent: u64 = (1..=10).map(|ago| ago * 10).sum();
    assert_eq!(forecast.sent, sent + 7);
    assert_eq!(forecast.days.len(), 30);
    let ended: Vec<_> = forecast.days.iter().filter(|day| day.has_ended).collect();
    assert_eq!(ended.len(), 10);
    assert!(ended.iter().all(|day| day.least == day.most && day.expected == day.most));
    assert_eq!(ended[9].expected, sent);
}

#[test]
fn with_hardly_any_days_nothing_is_foretold() {
    assert_eq!(Forecast::of_month(&days(2, |_, _| 5.0), beginning(TODAY)), None);
    assert!(Forecast::of_month(&days(3, |_, _| 5.0), beginning(TODAY)).is_some());
}

#[rstest]
#[case(1_000_000, None)]
#[case(200_000, Some(21))]
#[case(5, Some(1))]
fn the_day_an_allowance_runs_out(#[case] allowance: u64, #[case] day: Option<i8>) {
    let known = days(70, |_, _| 10_000.0);
    let forecast = Forecast::of_month(&known, beginning(TODAY)).unwrap();
    let runs_out = forecast.runs_out(allowance);
    assert_eq!(runs_out.expected.map(Date::day), day);
    assert!(runs_out.earliest <= runs_out.expected || runs_out.expected.is_none());
}

/// Random but repeatable.
struct Dice(u64);

impl Dice {
    /// Roughly normal, with a standard deviation of 1.
    fn throw(&mut self) -> f64 {
        let mut uniform = || {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 11) as f64 / (1u64 << 53) as f64
        };
        (0..12).map(|_| uniform()).sum::<f64>() - 6.0
    }
}

/// Of many months, four out of five end within the range that was said when a third of them had passed: where days differ at random,
/// and where whole weeks do.
#[rstest]
#[case::days(0.25, 0.0)]
#[case::weeks(0.15, 0.2)]
fn four_of_five_months_end_within_the_range(#[case] by_day: f64, #[case] by_week: f64) {
    let mut dice = Dice(7);
    let (mut within, all) = (0, 300);
    for _ in 0..all {
        let levels: Vec<f64> = (0..16).map(|_| 1.0 + by_week * dice.throw()).collect();
        let mut day = |date: Date, ago: i32| {
            let week = levels[((ago + 30) / 7) as usize % 16];
            (of_week(date) * (week + by_day * dice.throw())).max(0.0)
        };
        let mut known: Vec<Day> = Vec::new();
        for ago in (1..=60).rev() {
            let date = TODAY.saturating_sub(ago.days());
            known.push(Day { date, bytes: day(date, ago) as u64 });
        }
        let forecast = Forecast::of_month(&known, beginning(TODAY)).unwrap();
        let mut truth = forecast.sent;
        for ahead in 0..20 {
            truth += day(TODAY.saturating_add(ahead.days()), -ahead) as u64;
        }
        within += u32::from((forecast.least..=forecast.most).contains(&truth));
    }
    let share = f64::from(within) / f64::from(all);
    assert!((0.68..=0.97).contains(&share), "{share}");
}

proptest! {
    #[test]
    fn the_course_never_falls_and_holds_what_is_expected(
        bytes in proptest::collection::vec(0u64..1 << 40, 3..90),
        part in 0.0f64..=1.0,
        present in 0u64..1 << 40,
    ) {
        let count = bytes.len() as i32;
        let known = days(count, |_, ago| bytes[(count - ago) as usize] as f64);
        let forecast = Forecast::of_month(&known, Present { date: TODAY, bytes: present, part }).unwrap();
        prop_assert_eq!(forecast.days.len(), 30);
        for pair in forecast.days.windows(2) {
            prop_assert!(pair[0].expected <= pair[1].expected && pair[0].most <= pair[1].most);
        }
        for day in &forecast.days {
            prop_assert!(day.least <= day.expected && day.expected <= day.most);
        }
        prop_assert!(forecast.least >= forecast.sent);
    }
}
