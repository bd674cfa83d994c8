//! The call about the month's transfer: what was sent, what is expected, and what may be.

use super::blocking::working;
use super::caller::Caller;
use super::counting::make_survey;
use super::failure::Failure;
use super::query::{Asked, Parameters, SitesQuery};
use axum::Json;
use exedra_acting::forecast::{Day, Forecast, Present, WEEKS};
use exedra_api::allowances::{Allowances, MonthTransfer, TransferForecast};
use exedra_common::columns::{Kind, Unit};
use exedra_common::scope::Scope;
use exedra_common::tables::{Cell, Measured, Table, TableColumn};
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{Report, ReportOptions};
use jiff::civil::Date;
use jiff::{ToSpan, Zoned};
use std::collections::BTreeMap;

/// Transfer of the month that goes on, against what is allowed.
#[utoipa::path(get, path = "/allowances", params(SitesQuery), responses((status = 200, body = Allowances)))]
pub async fn allowances(
    caller: Caller,
    Parameters(query): Parameters<SitesQuery>,
) -> Result<Json<Allowances>, Failure> {
    let active = caller.console().site()?;
    let are_all = query.site.is_empty() && caller.sees_all();
    let sites = caller.sites(query.site, &active.config)?;
    working(move |work| {
        let zone = active.config.service.time_zone.clone();
        let now = jiff::Timestamp::now().to_zoned(zone.clone());
        let first = now.date().first_of_month().saturating_sub((7 * WEEKS as i32).days());
        let transfer = |sites: Vec<String>, name: Option<&str>, allowance: Option<u64>| {
            let from = first.to_zoned(zone.clone()).ok().map(|first| first.timestamp().as_millisecond());
            let scope = Scope { sites, from, ..Scope::default() };
            let shown = Shown::understand(&["hours"]).map_err(|_| Failure::Internal)?;
            let options = ReportOptions { shown, ..ReportOptions::default() };
            let report = make_survey(&caller, &Asked { scope, options, ..Asked::default() }, work)?;
            Ok::<_, Failure>(month_transfer(&report, name, allowance, &now))
        };
        let own = |name: &str| {
            let site = active.config.sites.iter().find(|site| site.name.value == name);
            site.and_then(|site| site.allowance)
        };
        let mut of = match sites.as_slice() {
            [one] => vec![transfer(sites.clone(), Some(one), own(one))?],
            _ => {
                let allowance = active.config.service.allowance.filter(|_| are_all);
                vec![transfer(sites.clone(), None, allowance)?]
            }
        };
        if sites.len() != 1 {
            let names = active.config.sites.iter().map(|site| site.name.value.as_str());
            for name in names.filter(|name| sites.is_empty() || sites.iter().any(|one| one == name)) {
                if let Some(allowance) = own(name) {
                    of.push(transfer(vec![name.to_owned()], Some(name), Some(allowance))?);
                }
            }
        }
        let time_zone = zone.iana_name().unwrap_or("UTC").to_owned();
        Ok(Allowances { time_zone, month: now.strftime("%Y-%m").to_string(), of })
    })
    .await
}

fn month_transfer(report: &Report, site: Option<&str>, allowance: Option<u64>, now: &Zoned) -> MonthTransfer {
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
