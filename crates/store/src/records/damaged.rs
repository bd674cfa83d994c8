//! A segment that cannot be read, in a database that otherwise can.
//!
//! Whoever meets it reads on without it. The thread that writes takes it out of the database
//! ([`Records::drop_damaged`]); where its log is still there, that is read again from its beginning
//! ([`Records::read_again`]), with nothing of it counted twice.

use super::snapshot::read_segment;
use super::{Checkpoint, Origin, Records, Segment, State, keep, kept_surveys};
use crate::database::StoreError;
use crate::imports::IMPORTED;
use crate::schema::segments;
use diesel::prelude::*;
use exedra_common::Projection;
use std::collections::BTreeSet;
use std::sync::Arc;

impl Records {
    /// Reads the segment that follows one by its number, and takes note if it is damaged: a small step of looking at all. Gives its
    /// number; `None` behind the last.
    pub fn look_at_next(&self, after: i32) -> Option<i32> {
        let next = {
            let state = self.state.lock();
            state
                .segments
                .iter()
                .filter(|segment| segment.id > after)
                .min_by_key(|segment| segment.id)
                .cloned()
        }?;
        let (mut batch, mut texts) = Default::default();
        // What is wrong with the database as a whole is seen to elsewhere.
        let _ = read_segment(self, &next, Projection::everything(), &mut batch, &mut texts);
        Some(next.id)
    }

    /// Has nobody read a segment any longer, because it is damaged.
    pub(super) fn leave_out(&self, segment: &Segment) {
        let mut state = self.state.lock();
        let Some(nth) = state.segments.iter().position(|one| one.id == segment.id) else { return };
        let segment = state.segments.remove(nth);
        state.damaged.push(segment);
    }

    /// Takes damaged segments out of the database. Says whether there were any: then the logs are to be looked at again,
    /// because some of them may be incomplete now.
    pub fn drop_damaged(&self) -> Result<bool, StoreError> {
        let (damaged, incomplete) = {
            let state = self.state.lock();
            let origins = state.damaged.iter().flat_map(|segment| &segment.origins);
            let origins: BTreeSet<Origin> = origins.map(|(origin, _)| origin.clone()).collect();
            let incomplete = origins.into_iter().filter(|origin| state.can_be_read_again(origin));
            (state.damaged.clone(), incomplete.collect::<Vec<_>>())
        };
        if damaged.is_empty() {
            return Ok(false);
        }
        let ids: Vec<i32> = damaged.iter().map(|segment| segment.id).collect();
        let marks: Vec<(&str, Checkpoint)> =
            incomplete.iter().map(|origin| (&*origin.name, incomplete_from(origin.begins))).collect();
        self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                retire(&ids, writer)?;
                marks.iter().try_for_each(|(name, mark)| keep(name, mark, writer))
            })
        })?;
        for segment in &damaged {
            let is_incomplete = segment.origins.iter().any(|(origin, _)| incomplete.contains(origin));
            let is_import = |(origin, _): &(Origin, usize)| origin.name.starts_with(IMPORTED);
            let then = match is_incomplete {
                _ if segment.origins.iter().any(is_import) => {
                    "they were brought in: `exedra import` of the same log brings them again"
                }
                true => "if their log is still there, it is read again",
                false => "they are lost: their log is no longer there",
            };
            let (site, count) = (&segment.site, segment.requests);
            let (from, until) = (moment(segment.first), moment(segment.last));
            let words = format!(
                "{count} requests of {site} between {from} and {until} were damaged in requests.db; {then}"
            );
            tracing::error!("{words}");
            let mut damages = self.damages.lock();
            damages.retain(|one| *one != words);
            damages.push(words);
        }
        let mut state = self.state.lock();
        state.damaged.retain(|segment| !ids.contains(&segment.id));
        state.retired.extend(damaged);
        for (name, mark) in marks {
            state.checkpoints.insert(name.to_owned(), mark);
            state.committed.insert(name.to_owned(), mark);
        }
        Ok(true)
    }

    /// Takes out everything that was read of a log which is incomplete now, so that it can be read from its beginning.
    pub fn read_again(&self, name: &str) -> Result<(), StoreError> {
        let _writing = self.writing.lock();
        let (origin, of_it) = {
            let state = self.state.lock();
            let begins = state.checkpoints.get(name).and_then(|checkpoint| checkpoint.begins);
            let origin = Origin { name: name.into(), begins };
            let of_it = state.segments.iter().filter(|segment| segment.is_from(&origin));
            (origin.clone(), of_it.cloned().collect::<Vec<Arc<Segment>>>())
        };
        let ids: Vec<i32> = of_it.iter().map(|segment| segment.id).collect();
        self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                kept_surveys::forget(of_it.iter().map(|segment| &**segment), writer)?;
                retire(&ids, writer)?;
                keep(name, &Checkpoint::default(), writer)
            })
        })?;
        let mut state = self.state.lock();
        state.changed_by(of_it.iter().map(|segment| &**segment));
        state.segments.retain(|segment| !ids.contains(&segment.id));
        state.retired.extend(of_it);
        state.tail.retain(|part| part.origin != origin);
        state.checkpoints.insert(name.to_owned(), Checkpoint::default());
        state.committed.insert(name.to_owned(), Checkpoint::default());
        Ok(())
    }
}

impl State {
    /// Whether a log can be read from its beginning without counting anything twice: what is in segments of it can be
    /// taken out of them.
    fn can_be_read_again(&self, origin: &Origin) -> bool {
        let is_known = self.checkpoints.get(&*origin.name).is_some_and(|known| known.begins == origin.begins);
        is_known && !shares_a_segment(self.segments.iter().map(|segment| &**segment), origin)
    }
}

/// Whether requests of a log stand in one segment with those of others.
pub fn shares_a_segment<'s>(segments: impl IntoIterator<Item = &'s Segment>, origin: &Origin) -> bool {
    segments.into_iter().any(|segment| segment.origins.len() > 1 && segment.is_from(origin))
}

/// The mark of a log that is to be read again.
pub fn incomplete_from(begins: Option<u64>) -> Checkpoint {
    Checkpoint { begins, incomplete: true, ..Checkpoint::default() }
}

fn retire(ids: &[i32], writer: &mut SqliteConnection) -> Result<(), StoreError> {
    // SQLite takes so many values in one statement.
    for some in ids.chunks(1000) {
        diesel::update(segments::table.filter(segments::id.eq_any(some)))
            .set(segments::retired.eq(true))
            .execute(writer)?;
    }
    Ok(())
}

fn moment(milliseconds: i64) -> String {
    jiff::Timestamp::from_millisecond(milliseconds)
        .map_or_else(|_| "?".to_owned(), |time| format!("{time:.0}"))
}
