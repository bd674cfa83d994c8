//! What was different before bursts of errors or slowness, from the records.

use super::{Counting, Records, Scan, ScanSink, Snapshot};
use crate::database::StoreError;
use exedra_common::columns::Derive;
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, RequestBatch};
use exedra_reading::prelude::minutes::Burst;
use exedra_reading::prelude::{Minutes, Prelude, Tallies, Trouble, preludes};
use exedra_reading::trail::Place;
use jiff::tz::TimeZone;
use std::sync::Arc;

/// What preludes are looked for in.
pub struct PreludePlan<'p> {
    /// The requests.
    pub scope: &'p Scope,
    /// What works out derived columns for filters.
    pub derive: Arc<dyn Derive>,
    /// Which of them make a burst.
    pub trouble: Trouble,
    /// Whose days and hours.
    pub zone: &'p TimeZone,
    /// Hosts of the sites: their links say nothing.
    pub own_hosts: &'p [String],
    /// Whether clients are not to be named.
    pub masked: bool,
}

/// Counts minutes on one thread.
struct MinuteSink {
    minutes: Minutes,
    trouble: Trouble,
}

impl ScanSink for MinuteSink {
    fn take(&mut self, batch: &RequestBatch, row: usize, _: &Dictionaries, _: Place) {
        self.minutes.add(batch, row, self.trouble);
    }
}

impl Records {
    /// The preludes of the bursts that are chosen among the minutes of a snapshot.
    pub fn preludes<E: From<StoreError> + Send>(
        &self,
        seen: &Snapshot,
        plan: &PreludePlan<'_>,
        choose: impl Fn(&Minutes) -> Vec<Burst>,
        counting: &Counting<'_, E>,
    ) -> Result<Vec<Prelude>, E> {
        let scan = |projection| Scan { scope: plan.scope, projection, derive: Arc::clone(&plan.derive) };
        let begin = || MinuteSink { minutes: Minutes::default(), trouble: plan.trouble };
        let (shares, ..) = self.scan(seen, &scan(Minutes::projection()), counting, begin)?;
        let mut minutes = Minutes::default();
        shares.into_iter().for_each(|share| minutes.merge(share.minutes));
        let bursts = choose(&minutes);
        let Some(span) = minutes.span().filter(|_| !bursts.is_empty()) else { return Ok(Vec::new()) };
        let empty = Tallies::new(&bursts, plan.trouble, span, plan.zone, plan.own_hosts);
        let (shares, ..) = self.scan(seen, &scan(Tallies::projection()), counting, || empty.clone())?;
        let mut tallies = empty.clone();
        shares.into_iter().for_each(|share| tallies.merge(share));
        Ok(preludes(bursts, &tallies, plan.trouble, plan.masked))
    }
}
