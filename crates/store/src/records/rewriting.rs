//! Requests taken out of segments: a client that is to be erased, and what has passed the retention.
//!
//! A segment is written again without them, in one transaction with the removal of the old one; whoever reads meanwhile reads what was
//! there before. Doing the same again, as after a crash in the middle, removes what is left.

use super::snapshot::read_segment;
use super::{Checkpoint, Origin, Packed, Records, Segment, Snapshot, keep, kept_surveys};
use crate::database::StoreError;
use crate::schema::{removals, segments};
use diesel::connection::SimpleConnection;
use diesel::prelude::*;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

/// A segment without some of its requests.
struct Rewritten {
    old: Arc<Segment>,
    /// Nothing where none is left.
    new: Option<Packed>,
    removed: usize,
}

/// A removal of requests of which figures are kept elsewhere.
pub struct Removal<'r> {
    /// What it is noted by.
    pub name: &'r str,
    /// How many requests were counted for it.
    pub requests: u64,
}

impl Records {
    /// Takes requests out of all segments that may have such: those rows that `goes` gives. Gives how many there were. The tail becomes
    /// segments first. Each segment has a transaction of its own, so that nobody waits long.
    pub fn take_requests_out(
        &self,
        may_have: impl Fn(&Segment) -> bool,
        goes: impl Fn(&RequestBatch, &Dictionaries) -> Vec<u32>,
    ) -> Result<u64, StoreError> {
        self.commit()?;
        let (mut looked_at, mut removed) = (HashSet::new(), 0);
        loop {
            let _writing = self.writing.lock();
            // Some may have become one meanwhile, which is looked at again.
            let is_next = |one: &&Arc<Segment>| !looked_at.contains(&one.id) && may_have(one);
            let Some(next) = self.state.lock().segments.iter().find(is_next).cloned() else { break };
            looked_at.insert(next.id);
            if let Some(rewritten) = self.rewritten(next, &goes)? {
                removed += rewritten.removed as u64;
                looked_at.extend(self.replace(vec![rewritten], None)?);
            }
        }
        self.wipe()?;
        Ok(removed)
    }

    /// Takes out what has passed the retention, in one transaction in which the removal is noted as done. Says whether it was: not where
    /// there are not as many requests as were counted for it.
    pub fn remove(
        &self,
        removal: &Removal<'_>,
        may_have: impl Fn(&Segment) -> bool,
        goes: impl Fn(&RequestBatch, &Dictionaries) -> Vec<u32>,
    ) -> Result<bool, StoreError> {
        self.commit()?;
        {
            let _writing = self.writing.lock();
            let all: Vec<Arc<Segment>> =
                self.state.lock().segments.iter().filter(|segment| may_have(segment)).cloned().collect();
            let rewritten = all.into_iter().map(|segment| self.rewritten(segment, &goes));
            let rewritten: Vec<Rewritten> =
                rewritten.filter_map(Result::transpose).collect::<Result<_, StoreError>>()?;
            if rewritten.iter().map(|one| one.removed as u64).sum::<u64>() != removal.requests {
                return Ok(false);
            }
            self.replace(rewritten, Some(removal.name))?;
        }
        self.wipe()?;
        Ok(true)
    }

    /// Has nothing left of what was taken out: it is overwritten with zeros when it is deleted; of what was written before, the
    /// write-ahead log still has copies.
    fn wipe(&self) -> Result<(), StoreError> {
        self.remove_retired()?;
        self.merged.forget();
        self.columns.forget();
        self.writer.run(|writer| Ok(writer.batch_execute("PRAGMA wal_checkpoint(TRUNCATE)")?))
    }

    /// Whether a removal was done.
    pub fn has_removed(&self, removal: &str) -> Result<bool, StoreError> {
        self.writer.run(|writer| Ok(removals::table.find(removal).count().get_result::<i64>(writer)? > 0))
    }

    /// Whether a removal whose tally is settled was done before a snapshot was taken, or in an earlier process.
    pub fn was_removed_before(&self, seen: &Snapshot, removal: &str, is_settled: bool) -> bool {
        let is_of_this_process = || self.state.lock().removals.iter().any(|one| one == removal);
        seen.is_after(removal) || (is_settled && !is_of_this_process())
    }

    fn rewritten(
        &self,
        segment: Arc<Segment>,
        goes: &impl Fn(&RequestBatch, &Dictionaries) -> Vec<u32>,
    ) -> Result<Option<Rewritten>, StoreError> {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        read_segment(self, &segment, Projection::everything(), &mut batch, &mut texts)?;
        // One that is damaged has none, and is seen to elsewhere.
        if batch.rows() != segment.requests {
            return Ok(None);
        }
        let rows = goes(&batch, &texts);
        if rows.is_empty() {
            return Ok(None);
        }
        let mut goes = vec![false; batch.rows()];
        rows.iter().for_each(|row| goes[*row as usize] = true);
        batch.retain(|_, row| !goes[row]);
        let removed = segment.requests - batch.rows();
        // Of several logs it is not known from which they were read, and that need not be known: they are gone.
        let origins = match &segment.origins[..] {
            [(origin, count)] => vec![(origin.clone(), count.saturating_sub(removed))],
            many => many.to_vec(),
        };
        let octets = segment.octets * batch.rows() / segment.requests.max(1);
        let new = match batch.is_empty() {
            true => None,
            false => Some(Packed::new(Arc::clone(&segment.site), &batch, &texts, origins, octets)?),
        };
        Ok(Some(Rewritten { old: segment, new, removed }))
    }

    /// Puts rewritten segments in the place of the old ones. Gives the numbers of the new.
    fn replace(&self, rewritten: Vec<Rewritten>, removal: Option<&str>) -> Result<Vec<i32>, StoreError> {
        let ids: Vec<i32> = rewritten.iter().map(|one| one.old.id).collect();
        // A log is whole when all requests that are to be there are. How far it was read into segments stays as it is.
        let mut fewer: BTreeMap<&Origin, u64> = BTreeMap::new();
        for one in &rewritten {
            if let [(origin, _)] = &one.old.origins[..] {
                *fewer.entry(origin).or_default() += one.removed as u64;
            }
        }
        let less = |known: &Checkpoint, origin: &Origin, removed: u64| match known.begins == origin.begins {
            true => Checkpoint { lines: known.lines.saturating_sub(removed), ..*known },
            false => *known,
        };
        let committed: Vec<(String, Checkpoint)> = fewer
            .iter()
            .map(|(origin, removed)| {
                (origin.name.to_string(), less(&self.committed(&origin.name), origin, *removed))
            })
            .collect();
        let made = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                kept_surveys::forget(rewritten.iter().map(|one| &*one.old), writer)?;
                committed.iter().try_for_each(|(name, checkpoint)| keep(name, checkpoint, writer))?;
                diesel::update(segments::table.filter(segments::id.eq_any(&ids)))
                    .set(segments::retired.eq(true))
                    .execute(writer)?;
                if let Some(removal) = removal {
                    diesel::insert_or_ignore_into(removals::table)
                        .values(removals::name.eq(removal))
                        .execute(writer)?;
                }
                let new = rewritten.iter().filter_map(|one| one.new.as_ref());
                new.map(|packed| packed.insert(writer)).collect::<Result<Vec<_>, _>>()
            })
        })?;
        let new = made.iter().map(|segment| segment.id).collect();
        let mut state = self.state.lock();
        state.recent.clear();
        if let Some(removal) = removal {
            Arc::make_mut(&mut state.removals).push(removal.to_owned());
        }
        state.changed_by(rewritten.iter().map(|one| &*one.old));
        state.segments.retain(|segment| !ids.contains(&segment.id));
        state.segments.extend(made);
        for (origin, removed) in &fewer {
            // The tail may have gone further meanwhile.
            if let Some(known) = state.checkpoints.get_mut(&*origin.name) {
                *known = less(known, origin, *removed);
            }
        }
        state.committed.extend(committed);
        state.retired.extend(rewritten.iter().map(|one| Arc::clone(&one.old)));
        Ok(new)
    }
}
