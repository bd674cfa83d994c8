//! What remains of days whose requests have passed the retention.
//!
//! The figures stand in `exedra.db` and the requests in `requests.db`, which cannot change in one transaction. So a tally is written
//! first, with the name of a removal, and does not count; then the requests are removed, and in the same transaction that removal is
//! noted; then the tally is settled. After a crash in between, [`Tallies::settle`] asks whether the removal was done.

use crate::database::{Database, StoreError};
use crate::schema::tallies;
use crate::secrets::{KIND, random};
use diesel::prelude::*;
use exedra_reading::survey::day_tally::DayTally;
use jiff::civil::Date;
use std::path::Path;

/// All of them.
pub struct Tallies(Database);

impl Tallies {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Tallies(Database::of_ours(state, KIND))
    }

    /// Writes down what is about to be removed of a day of a site. Gives the name of the removal.
    pub fn propose(&self, site: &str, zone: &str, tally: &DayTally) -> Result<String, StoreError> {
        let removal = random(12);
        let figures = serde_json::to_string(tally).map_err(|error| StoreError::Packing(error.into()))?;
        let row = (
            tallies::site.eq(site),
            tallies::day.eq(tally.date.to_string()),
            tallies::zone.eq(zone),
            tallies::figures.eq(figures),
            tallies::removal.eq(&removal),
            tallies::settled.eq(false),
        );
        self.0
            .run(|connection| Ok(diesel::insert_into(tallies::table).values(row).execute(connection)?))?;
        Ok(removal)
    }

    /// Has those count whose removal was done, and forgets the others.
    pub fn settle(&self, was_done: impl Fn(&str) -> Result<bool, StoreError>) -> Result<(), StoreError> {
        let open: Vec<String> = self.0.run(|connection| {
            let open = tallies::table.filter(tallies::settled.eq(false)).select(tallies::removal);
            Ok(open.load(connection)?)
        })?;
        for removal in open {
            let of_it = tallies::removal.eq(&removal);
            match was_done(&removal)? {
                true => self.0.run(|connection| {
                    let settled = diesel::update(tallies::table.filter(of_it)).set(tallies::settled.eq(true));
                    Ok(settled.execute(connection)?)
                })?,
                false => self.0.run(|connection| {
                    Ok(diesel::delete(tallies::table.filter(of_it)).execute(connection)?)
                })?,
            };
        }
        Ok(())
    }

    /// Those of sites that are wanted, each with its site, of days from one on and before another: by the days of a zone; and whether there are others, by
    /// the days of other zones. `was_done` says of a removal whether it was done before whoever asks looked at the records; it is told
    /// whether that is settled.
    pub fn of(
        &self,
        zone: &str,
        (from, until): (Date, Date),
        is_wanted: impl Fn(&str) -> bool,
        was_done: impl Fn(&str, bool) -> bool,
    ) -> Result<(Vec<(String, DayTally)>, bool), StoreError> {
        let rows: Vec<(String, String, String, String, bool)> = self.0.run(|connection| {
            let within = tallies::day.ge(from.to_string()).and(tallies::day.lt(until.to_string()));
            let all = tallies::table.filter(within).order((tallies::day, tallies::id)).select((
                tallies::site,
                tallies::zone,
                tallies::figures,
                tallies::removal,
                tallies::settled,
            ));
            Ok(all.load(connection)?)
        })?;
        let wanted = rows
            .into_iter()
            .filter(|(site, _, _, removal, settled)| is_wanted(site) && was_done(removal, *settled));
        let (own, others): (Vec<_>, Vec<_>) = wanted.partition(|(_, of, ..)| of == zone);
        let read = own
            .into_iter()
            .filter_map(|(site, _, figures, ..)| Some((site, serde_json::from_str(&figures).ok()?)));
        Ok((read.collect(), !others.is_empty()))
    }
}
