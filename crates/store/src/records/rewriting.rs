//! Requests taken out of segments: a client that is to be erased, and what has passed the retention.
//!
//! A segment is written again without them, in one transaction with the removal of the old one; whoever reads meanwhile reads what was
//! there before. Doing the same again, as after a crash in the middle, removes what is left.

use super::snapshot::read_segment;
use super::{Checkpoint, Packed, Records, Segment, Snapshot, keep, kept_surveys};
use crate::database::StoreError;
use crate::schema::{removals, segments};
use diesel::connection::SimpleConnection;
use diesel::prelude::*;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use std::sync::Arc;

/// A segment without some of its requests.
struct Rewritten {
    old: Arc<Segment>,
    /// Nothing where none is left.
    new: Option<Packed>,
    removed: usize,
}

impl Records {
    /// Takes requests out of all segments that may have such: those rows that `goes` gives. Gives how many there were. The tail becomes
    /// segments first. `removal` is noted as done in the same transaction, where it is given.
    ///
    /// Without a removal each segment has a transaction of its own, so that readers and writers wait for none of them long.
    pub fn take_requests_out(
        &self,
        may_have: impl Fn(&Segment) -> bool,
        goes: impl Fn(&RequestBatch, &Dictionaries) -> Vec<u32>,
        removal: Option<&str>,
    ) -> Result<u64, StoreError> {
        self.commit()?;
        let _writing = self.writing.lock();
        let looked_at: Vec<Arc<Segment>> =
            self.state.lock().segments.iter().filter(|segment| may_have(segment)).cloned().collect();
        let (mut together, mut removed) = (Vec::new(), 0);
        for segment in looked_at {
            let Some(rewritten) = self.rewritten(segment, &goes)? else { continue };
            removed += rewritten.removed as u64;
            match removal {
                Some(_) => together.push(rewritten),
                None => self.replace(vec![rewritten], None)?,
            }
        }
        if removal.is_some() {
            self.replace(together, removal)?;
        }
        self.remove_retired()?;
        self.merged.forget();
        // What was deleted is overwritten with zeros; of what was written before, the write-ahead log still has copies.
        self.writer.run(|writer| Ok(writer.batch_execute("PRAGMA wal_checkpoint(TRUNCATE)")?))?;
        Ok(removed)
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

    fn replace(&self, rewritten: Vec<Rewritten>, removal: Option<&str>) -> Result<(), StoreError> {
        let ids: Vec<i32> = rewritten.iter().map(|one| one.old.id).collect();
        // A log is whole when all requests that are to be there are.
        let mut checkpoints: Vec<(String, Checkpoint)> = Vec::new();
        for one in &rewritten {
            let [(origin, _)] = &one.old.origins[..] else { continue };
            let known = checkpoints.iter().position(|(name, _)| **name == *origin.name);
            let place = known.unwrap_or_else(|| {
                checkpoints.push((origin.name.to_string(), self.checkpoint(&origin.name)));
                checkpoints.len() - 1
            });
            let checkpoint = &mut checkpoints[place].1;
            if checkpoint.begins == origin.begins {
                checkpoint.lines = checkpoint.lines.saturating_sub(one.removed as u64);
            }
        }
        let made = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                kept_surveys::forget(rewritten.iter().map(|one| &*one.old), writer)?;
                checkpoints.iter().try_for_each(|(name, checkpoint)| keep(name, checkpoint, writer))?;
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
        let mut state = self.state.lock();
        state.recent.clear();
        if let Some(removal) = removal {
            Arc::make_mut(&mut state.removals).push(removal.to_owned());
        }
        state.changed_by(rewritten.iter().map(|one| &*one.old));
        state.segments.retain(|segment| !ids.contains(&segment.id));
        state.segments.extend(made);
        for (name, checkpoint) in checkpoints {
            state.checkpoints.insert(name.clone(), checkpoint);
            state.committed.insert(name, checkpoint);
        }
        state.retired.extend(rewritten.into_iter().map(|one| one.old));
        Ok(())
    }
}
