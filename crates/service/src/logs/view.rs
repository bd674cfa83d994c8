//! The records as somebody may see them: all of them, or those of some sites.

use exedra_common::scope::Scope;
use exedra_reading::survey::day_tally::DayTally;
use exedra_reading::survey::{Survey, SurveyPlan};
use exedra_store::records::counting::zone_name;
use exedra_store::records::{Counting, Snapshot};
use exedra_store::{Records, StoreError, Tallies};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};

/// What somebody may see.
pub struct View<'v> {
    /// The records.
    pub records: &'v Records,
    /// What remains of days whose requests are no longer kept.
    pub tallies: &'v Tallies,
    /// The sites that may be seen; all where there are none.
    pub sites: Option<&'v [String]>,
}

impl View<'_> {
    /// The records as far as a scope may touch them.
    pub fn snapshot(&self, scope: &Scope) -> Snapshot {
        self.shown(self.records.snapshot(), scope)
    }

    /// What of a snapshot may be shown, within a scope.
    pub fn shown(&self, seen: Snapshot, scope: &Scope) -> Snapshot {
        let seen = seen.within(scope);
        match self.sites {
            None => seen,
            // No site at all is not every site.
            Some(sites) => seen.of_sites(|site| sites.iter().any(|one| one == site)),
        }
    }

    /// What remains of days of a scope whose requests were no longer kept when these were looked at, by the days of a zone; and whether there
    /// are others, by the days of other zones. Of a part of a day nothing is known.
    fn tallies<E: From<StoreError>>(
        &self,
        seen: &Snapshot,
        scope: &Scope,
        zone: &TimeZone,
    ) -> Result<(Vec<(String, DayTally)>, bool), E> {
        let date = |time: i64| Timestamp::from_millisecond(time).ok().map(|time| time.to_zoned(zone.clone()));
        let begins = |time: &Zoned| time.start_of_day().is_ok_and(|begin| begin == *time);
        let from = scope.from.and_then(date).map_or(Date::MIN, |time| match begins(&time) {
            true => time.date(),
            false => time.date().tomorrow().unwrap_or(Date::MAX),
        });
        let until = scope.until.and_then(date).map_or(Date::MAX, |time| time.date());
        let is_wanted = |site: &str| {
            scope.has_site(site) && self.sites.is_none_or(|sites| sites.iter().any(|one| one == site))
        };
        let was_done =
            |removal: &str, is_settled: bool| self.records.was_removed_before(seen, removal, is_settled);
        Ok(self.tallies.of(&zone_name(zone), (from, until), is_wanted, was_done)?)
    }

    /// Counts what a plan asks for, and says whether something is left out because it is known by the days of another zone only.
    pub fn survey<E: From<StoreError> + Send>(
        &self,
        plan: &SurveyPlan,
        counting: &Counting<'_, E>,
    ) -> Result<(Survey, bool), E> {
        let seen = self.snapshot(&plan.scope);
        let mut survey = self.records.survey(&seen, plan, counting)?;
        // What is no longer kept one by one cannot be filtered.
        if !plan.scope.has_all_requests() {
            return Ok((survey, false));
        }
        let (tallies, has_other_zones) = self.tallies::<E>(&seen, &plan.scope, &plan.zone)?;
        for (site, tally) in &tallies {
            survey.take_in_tally(tally);
            survey.add_to_source(self.records.place_of(site), tally.total.counts);
        }
        Ok((survey, has_other_zones))
    }
}

/// What a report says of figures that are left out.
pub const OF_OTHER_ZONES: &str =
    "figures of days past the retention exist only for the days of another time zone, and are left out";
