//! Which days and months are closed and not kept yet.
//!
//! A day is closed some time after its end, so that answers that took long are in it, and a month is made of its days once all of them
//! are kept.

use super::Segment;
use super::counting::zone_name;
use super::kept_surveys::KeptSurvey;
use super::snapshot::Snapshot;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

/// How long after its end a day is closed, in milliseconds.
const GRACE: i64 = 10 * 60_000;
/// Segments that span more days hold lines of clocks that were wrong: of them only the first day and the last are looked at. All others
/// are counted when they are asked for.
const MOST_DAYS: i64 = 400;
/// How many are given at a time.
const AT_A_TIME: usize = 64;

/// Stretches of sites that are closed at `now` (milliseconds since 1970 UTC), that hold requests, and of which no survey is kept:
/// the newest days first, and months of which all days are kept.
pub fn due(seen: &Snapshot, zone: &TimeZone, now: i64) -> Vec<KeptSurvey> {
    let name: Arc<str> = zone_name(zone).into();
    let mut by_site: BTreeMap<&Arc<str>, Vec<&Segment>> = BTreeMap::new();
    for segment in seen.segments() {
        by_site.entry(&segment.site).or_default().push(segment);
    }
    let kept: HashSet<(&str, i64, i64)> = seen
        .kept()
        .iter()
        .filter(|kept| kept.zone == name)
        .map(|kept| (&*kept.site, kept.from, kept.until))
        .collect();
    let mut due = Vec::new();
    for (site, segments) in by_site {
        let stretch = |first: Date, behind: Date| {
            let (from, until) = (begin(first, zone)?, begin(behind, zone)?);
            Some(KeptSurvey { id: 0, parts: 0, site: Arc::clone(site), zone: Arc::clone(&name), from, until })
        };
        let is_closed = |one: &KeptSurvey| {
            let is_moving = seen.tail().iter().any(|part| one.touches(&part.site, part.first, part.last));
            one.until + GRACE <= now && !is_moving
        };
        let is_kept = |one: &KeptSurvey| kept.contains(&(&*one.site, one.from, one.until));
        let days: BTreeSet<Date> = segments.iter().flat_map(|segment| days_of(segment, zone)).collect();
        let mut open_months: BTreeSet<Date> = BTreeSet::new();
        for &day in days.iter().rev() {
            let one = day.tomorrow().ok().and_then(|behind| stretch(day, behind));
            match one {
                Some(one) if is_kept(&one) => {}
                one => {
                    open_months.insert(day.first_of_month());
                    due.extend(one.filter(is_closed));
                }
            }
        }
        let months: BTreeSet<Date> = days.iter().map(|day| day.first_of_month()).collect();
        for month in months.difference(&open_months) {
            let one = month.checked_add(1.month()).ok().and_then(|behind| stretch(*month, behind));
            due.extend(one.filter(|one| is_closed(one) && !is_kept(one)));
        }
    }
    due.truncate(AT_A_TIME);
    due
}

/// The days that a segment holds requests of, or may.
fn days_of(segment: &Segment, zone: &TimeZone) -> Vec<Date> {
    let date = |time: i64| Some(Timestamp::from_millisecond(time).ok()?.to_zoned(zone.clone()).date());
    let (Some(first), Some(last)) = (date(segment.first), date(segment.last)) else { return Vec::new() };
    if (segment.last - segment.first) / 86_400_000 > MOST_DAYS {
        return vec![first, last];
    }
    first.series(1.day()).take_while(|day| *day <= last).collect()
}

/// The first instant of a day, in milliseconds since 1970 UTC.
fn begin(day: Date, zone: &TimeZone) -> Option<i64> {
    Some(day.to_zoned(zone.clone()).ok()?.timestamp().as_millisecond())
}
