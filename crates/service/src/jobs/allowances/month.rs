//! This month's transfer, from the days that are recorded: what was sent, what is expected, and when an allowance runs out.

use exedra_acting::forecast::{Day, Forecast, Present, WEEKS};
use exedra_api::allowances::{MonthTransfer, TransferForecast};
use exedra_common::columns::{Kind, Unit};
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use exedra_reading::survey::Report;
use jiff::civil::Date;
use jiff::{ToSpan, Zoned};
use std::collections::BTreeMap;

/// The first day that is looked at for what is expected of the month of an instant.
pub fn first_day(now: &Zoned) -> Date {
    now.date().first_of_month().saturating_sub((7 * WEEKS as i32).days())
}

/// The transfer of a month, from a report with the sections `days` and `hours` that begins with [`first_day`].
pub fn month_transfer(
    report: &Report,
    site: Option<&str>,
    allowance: Option<u64>,
    now: &Zoned,
) -> MonthTransfer {
    let today = now.date();
    let table = report.table("days");
    let (day, bytes) = (table.place("day"), table.place("bytes"));
    let known: BTreeMap<Date, u64> = table
        .rows
        .iter()
        .filter_map(|row| Some((row[day?].as_text()?.parse().ok()?, row[bytes?].as_u64()?)))
        .collect();
    let before: Vec<Day> = known.keys().next().map_or_else(Vec::new, |first| {
        let dates = first.series(1.day()).take_while(|date| *date < today);
        dates.map(|date| Day { date, bytes: known.get(&date).copied().unwrap_or(0) }).collect()
    });
    let sent_today = known.get(&today).copied().unwrap_or(0);
    let present = Present { date: today, bytes: sent_today, part: part_of_day(report, now) };
    let forecast = Forecast::of_month(&before, present);
    let first = today.first_of_month();
    let sent = known.range(first..=today).map(|(_, bytes)| bytes).sum();
    let days = course(forecast.as_ref(), &known, first, today);
    let runs_out = allowance.zip(forecast.as_ref()).map(|(allowance, found)| found.runs_out(allowance));
    let runs_out = runs_out.unwrap_or_default();
    let date = |date: Option<Date>| date.map(|date| date.to_string());
    MonthTransfer {
        site: site.map(str::to_owned),
        allowance,
        sent,
        forecast: forecast.map(|found| TransferForecast {
            expected: found.expected,
            least: found.least,
            most: found.most,
            runs_out: date(runs_out.expected),
            earliest: date(runs_out.earliest),
            latest: date(runs_out.latest),
            from_days: before.len().min(7 * WEEKS) as u64,
        }),
        days,
    }
}

/// The part of a day's transfer that has usually been sent by this time of the day.
fn part_of_day(report: &Report, now: &Zoned) -> f64 {
    let hours = report.table("hours");
    let of = |hour: usize| hours.number(hour, "bytes") as f64;
    let all: f64 = (0..24).map(of).sum();
    let hour = usize::try_from(now.hour()).unwrap_or(0);
    let within = (f64::from(now.minute()) + 0.5) / 60.0;
    if all == 0.0 {
        return (hour as f64 + within) / 24.0;
    }
    ((0..hour).map(of).sum::<f64>() + within * of(hour)) / all
}

/// A row for each day of the month: what was sent by its end, or what is expected to have been.
fn course(forecast: Option<&Forecast>, known: &BTreeMap<Date, u64>, first: Date, today: Date) -> Table {
    let date = TableColumn { kind: Kind::Date, ..TableColumn::text("day", "day") };
    let level = |name: &str, title: &str| TableColumn {
        kind: Kind::Size,
        measure: Measured::Level,
        ..TableColumn::level(name, title, Unit::Bytes)
    };
    let columns = [
        date,
        level("sent", "sent since the first"),
        level("expected", "expected"),
        level("least", "at least"),
        level("most", "at most"),
    ];
    let mut table = Table::new("month", "This month, day by day", columns);
    let mut sent = 0;
    for date in first.series(1.day()).take_while(|date| *date <= first.last_of_month()) {
        sent += known.get(&date).copied().unwrap_or(0);
        let course = forecast.and_then(|found| found.days.iter().find(|course| course.date == date));
        let guessed = |of: Option<u64>| of.map_or(Cell::Nothing, Cell::from);
        table.push([
            date.to_string().into(),
            guessed(Some(sent).filter(|_| date <= today)),
            guessed(course.map(|course| course.expected)),
            guessed(course.map(|course| course.least)),
            guessed(course.map(|course| course.most)),
        ]);
    }
    table.about = "Nine out of ten months end between the least and the most.".to_owned();
    table
}
