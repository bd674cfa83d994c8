//! Requests that have passed the retention are taken out of the records, day by day; figures of each day remain.

use super::background_counter::{BackgroundCounter, Ended};
use crate::active::Active;
use exedra_common::scope::Scope;
use exedra_reading::survey::calendar::day_number;
use exedra_reading::survey::day_tally::DayTally;
use exedra_reading::survey::{Part, SurveyPlan};
use exedra_store::Tallies;
use exedra_store::records::Removal;
use exedra_store::records::counting::zone_name;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use std::collections::BTreeSet;

/// Removes what has passed the retention, if there is one. The day that it reaches into stays whole.
pub fn remove_what_is_past(
    counter: &BackgroundCounter<'_>,
    tallies: &Tallies,
    active: &Active,
) -> Result<(), Ended> {
    let records = counter.records;
    // What a crash has left half done.
    tallies.settle(|removal| records.has_removed(removal))?;
    let service = &active.config.service;
    let Some(first_kept) = service.retention.and_then(|span| first_kept(span, &service.time_zone)) else {
        return Ok(());
    };
    let Some(begin) = begin(first_kept, &service.time_zone) else { return Ok(()) };
    let seen = records.snapshot();
    let sites: BTreeSet<&str> = seen
        .segments()
        .iter()
        .filter(|segment| segment.first < begin)
        .map(|segment| &*segment.site)
        .collect();
    for site in sites {
        let scope = Scope { sites: vec![site.to_owned()], until: Some(begin), ..Scope::default() };
        for day in days_of(counter, &scope, active)? {
            remove(counter, tallies, active, site, day)?;
        }
    }
    Ok(())
}

/// The first day that stays.
fn first_kept(retention: jiff::Span, zone: &TimeZone) -> Option<Date> {
    let today: Zoned = Timestamp::now().to_zoned(zone.clone());
    today.date().checked_sub(retention).ok()
}

fn begin(day: Date, zone: &TimeZone) -> Option<i64> {
    Some(day.to_zoned(zone.clone()).ok()?.timestamp().as_millisecond())
}

/// The days of a scope that have requests.
fn days_of(counter: &BackgroundCounter<'_>, scope: &Scope, active: &Active) -> Result<Vec<i32>, Ended> {
    let plan = SurveyPlan { parts: [].into_iter().collect(), ..plan(counter, scope.clone(), active) };
    Ok(counter.count(&plan)?.days.into_keys().collect())
}

fn plan(counter: &BackgroundCounter<'_>, scope: Scope, active: &Active) -> SurveyPlan {
    let parts = [Part::Visitors].into_iter().collect();
    SurveyPlan { parts, ..SurveyPlan::new(scope, active.config.service.time_zone.clone(), counter.key) }
}

/// Removes a day of a site, and keeps its figures.
fn remove(
    counter: &BackgroundCounter<'_>,
    tallies: &Tallies,
    active: &Active,
    site: &str,
    day: i32,
) -> Result<(), Ended> {
    let zone = &active.config.service.time_zone;
    let date = exedra_reading::survey::calendar::date_of(day);
    let behind = date.tomorrow().ok().and_then(|behind| begin(behind, zone));
    let (Some(from), Some(until)) = (begin(date, zone), behind) else { return Ok(()) };
    let scope =
        Scope { sites: vec![site.to_owned()], from: Some(from), until: Some(until), ..Scope::default() };
    let survey = counter.count(&plan(counter, scope, active))?;
    let tally = DayTally::of(&survey, day_number(date));
    let removal = tallies.propose(site, &zone_name(zone), &tally)?;
    let removal = Removal { name: &removal, requests: tally.total.counts.requests };
    let is_done = counter.records.remove(
        &removal,
        |segment| &*segment.site == site && segment.first < until && segment.last >= from,
        |batch, _| {
            let is_past = |row: &u32| (from..until).contains(&batch.time[*row as usize]);
            (0..batch.rows() as u32).filter(is_past).collect()
        },
    )?;
    tallies.settle(|removal| counter.records.has_removed(removal))?;
    if is_done {
        let requests = removal.requests;
        tracing::info!(
            "{requests} requests of {site} of {date} are older than `retention` and were removed; the day's figures stay"
        );
    }
    Ok(())
}
