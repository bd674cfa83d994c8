//! Small segments into larger ones.
//!
//! A quiet site makes a segment every few seconds. Whenever eight of the same size class stand in a log that is written,
//! they become one, in one transaction; the old ones are marked and go when no reader holds them any more. What is left of
//! a log once it is no longer written becomes one as well, and logs that are gone come together: until then, segments
//! hold the requests of one log, so that it can be read again when one of them is damaged.

use super::snapshot::read_segment;
use super::{Origin, Packed, Records, Segment};
use crate::database::StoreError;
use crate::schema::segments;
use diesel::prelude::*;
use exedra_common::{BATCH_ROWS, Projection};
use std::collections::BTreeMap;
use std::sync::Arc;

/// How many segments of one size class become one.
const TOGETHER: usize = 8;
/// Octets of lines that one segment is made of, at most.
const MOST_OCTETS: usize = 8 << 20;

/// What becomes of a log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LogState {
    /// More is written to it.
    Written,
    /// Nothing is, and it is there.
    Past,
    /// It is no longer there.
    Gone,
}

/// Segments that may become one.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Group<'s> {
    /// Of a log that is written, and of a size class.
    Written(&'s Origin, u32),
    /// Of a log that is no longer written.
    Past(&'s Origin),
    /// Of logs that are gone, and of a size class.
    Gone(u32),
    /// It is not known of which log.
    Unknown(u32),
}

impl Records {
    /// Merges where it is due, and removes what nobody reads any more. Says how many segments it made.
    pub fn merge(&self, log: impl Fn(&str) -> LogState) -> Result<usize, StoreError> {
        let mut made = 0;
        while let Some(small) = self.due(&log) {
            if self.merge_these(&small)? {
                made += 1;
            }
        }
        self.remove_retired()?;
        Ok(made)
    }

    fn due(&self, log: &impl Fn(&str) -> LogState) -> Option<Vec<Arc<Segment>>> {
        let state = self.state.lock();
        let mut groups: BTreeMap<(&str, Group<'_>), Vec<&Arc<Segment>>> = BTreeMap::new();
        let taken = |segments: &[&Arc<Segment>]| Some(segments.iter().map(|one| Arc::clone(one)).collect());
        for segment in state.segments.iter().filter(|segment| segment.requests <= BATCH_ROWS / 2) {
            let Some(group) = group(segment, log) else { continue };
            let is_past = matches!(group, Group::Past(_));
            let same = groups.entry((&segment.site, group)).or_default();
            let octets: usize = same.iter().map(|segment| segment.octets).sum();
            if octets + segment.octets > MOST_OCTETS {
                if same.len() > 1 {
                    return taken(same);
                }
                same.clear();
            }
            same.push(segment);
            let together: usize = same.iter().map(|segment| segment.requests).sum();
            let is_much = together > BATCH_ROWS / 2;
            if same.len() > 1 && (is_much || (same.len() == TOGETHER && !is_past)) {
                return taken(same);
            }
        }
        let past = groups.iter().find(|((_, group), same)| matches!(group, Group::Past(_)) && same.len() > 1);
        past.and_then(|(_, same)| taken(same))
    }

    /// Whether they have become one: not where one of them turned out to be damaged.
    fn merge_these(&self, small: &[Arc<Segment>]) -> Result<bool, StoreError> {
        // Whoever takes requests out of segments, or segments out of the records, must not find them come back in another.
        let _writing = self.writing.lock();
        if !small.iter().all(|segment| self.state.lock().segments.contains(segment)) {
            return Ok(false);
        }
        let (mut batch, mut texts) = Default::default();
        for segment in small {
            read_segment(self, segment, Projection::everything(), &mut batch, &mut texts)?;
        }
        if batch.rows() != small.iter().map(|segment| segment.requests).sum::<usize>() {
            return Ok(false);
        }
        let mut origins: BTreeMap<&Origin, usize> = BTreeMap::new();
        for (origin, count) in small.iter().flat_map(|segment| &segment.origins) {
            *origins.entry(origin).or_default() += count;
        }
        let origins = origins.into_iter().map(|(origin, count)| (origin.clone(), count)).collect();
        let octets = small.iter().map(|segment| segment.octets).sum();
        let packed = Packed::new(Arc::clone(&small[0].site), &batch, &texts, origins, octets)?;
        let ids: Vec<i32> = small.iter().map(|segment| segment.id).collect();
        let made = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                diesel::update(segments::table.filter(segments::id.eq_any(&ids)))
                    .set(segments::retired.eq(true))
                    .execute(writer)?;
                packed.insert(writer)
            })
        })?;
        let mut state = self.state.lock();
        state.segments.retain(|segment| !ids.contains(&segment.id));
        state.segments.push(made);
        state.retired.extend(small.iter().cloned());
        Ok(true)
    }

    pub(super) fn remove_retired(&self) -> Result<(), StoreError> {
        let free: Vec<i32> = {
            let mut state = self.state.lock();
            let (free, held) = std::mem::take(&mut state.retired)
                .into_iter()
                .partition::<Vec<_>, _>(|segment| Arc::strong_count(segment) == 1);
            state.retired = held;
            free.iter().map(|segment| segment.id).collect()
        };
        if !free.is_empty() {
            self.writer.run(|writer| {
                Ok(diesel::delete(segments::table.filter(segments::id.eq_any(free))).execute(writer)?)
            })?;
        }
        Ok(())
    }
}

/// With which others a segment may become one.
fn group<'s>(segment: &'s Segment, log: &impl Fn(&str) -> LogState) -> Option<Group<'s>> {
    let class = (segment.requests.max(1) as u32).ilog(TOGETHER as u32);
    match &segment.origins[..] {
        [] => Some(Group::Unknown(class)),
        [(one, _)] => Some(match log(&one.name) {
            LogState::Written => Group::Written(one, class),
            LogState::Past => Group::Past(one),
            LogState::Gone => Group::Gone(class),
        }),
        many => many.iter().all(|(one, _)| log(&one.name) == LogState::Gone).then_some(Group::Gone(class)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::Checkpoint;
    use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
    use exedra_reading::logs::{Layout, LineReader};

    fn some(from: usize, count: usize) -> (RequestBatch, Dictionaries) {
        let lines: String = (from..from + count)
            .map(|number| {
                let minute = number % 60;
                format!("192.0.2.{} - - [14/Nov/2026:05:{minute:02}:40 +0000] \"GET /p{number} HTTP/1.1\" 200 {number} \"-\" \"x\"\n", number % 9)
            })
            .collect();
        let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
        let (mut batch, mut texts) = Default::default();
        reader.read_block(lines.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
        (batch, texts)
    }

    fn paths(records: &Records, snapshot: &Snapshot) -> Vec<(String, u64, i64)> {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        snapshot
            .read(records, Projection::everything(), |_, part| part.append_to(&mut batch, &mut texts))
            .unwrap();
        let mut found: Vec<_> = (0..batch.rows())
            .map(|row| {
                let path = texts.of(TextColumn::Path).text(batch.code(TextColumn::Path, row).unwrap());
                (path.to_owned(), batch.number(NumberColumn::Bytes, row).unwrap(), batch.time[row])
            })
            .collect();
        found.sort();
        found
    }

    use crate::records::Snapshot;

    #[test]
    fn tail_segments_and_merged_ones_hold_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path());
        let site: Arc<str> = "harbour".into();
        let mut octets = 0;
        for round in 0..30 {
            let (batch, texts) = some(round * 10, 10);
            octets += 100;
            let checkpoint = Checkpoint {
                octets,
                lines: (round as u64 + 1) * 10,
                unread: 0,
                begins: Some(7),
                ..Checkpoint::default()
            };
            records.append(&site, "harbour.000001.log", batch, texts, (100, checkpoint));
            if round % 3 != 2 {
                records.commit().unwrap();
            }
        }
        let before = records.snapshot();
        let seen = paths(&records, &before);
        assert_eq!((seen.len(), before.requests()), (300, 300));
        records.commit().unwrap();
        assert!(records.merge(|_| LogState::Written).unwrap() > 0);
        assert_eq!(paths(&records, &before), seen, "a reader keeps what it took");
        drop(before);
        records.merge(|_| LogState::Written).unwrap();
        let after = records.snapshot();
        assert_eq!(paths(&records, &after), seen);
        assert!(after.segments.len() < 15, "{}", after.segments.len());
        drop((after, records));
        let records = Records::open(folder.path());
        assert_eq!(
            records.checkpoint("harbour.000001.log"),
            Checkpoint { octets: 3000, lines: 300, unread: 0, begins: Some(7), ..Checkpoint::default() }
        );
        assert_eq!(paths(&records, &records.snapshot()), seen);
        let latest = records.snapshot().latest(&records, 3).unwrap();
        assert_eq!(latest.len(), 3);
        assert!(latest.iter().all(|request| request.time() == seen.iter().map(|row| row.2).max().unwrap()));
    }

    #[test]
    fn a_damaged_file_is_set_aside() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("requests.db"), vec![b'x'; 5000]).unwrap();
        let records = Records::open(folder.path());
        assert_eq!(records.snapshot().requests(), 0);
        assert!(folder.path().join("requests.damaged-1.db").exists());
    }
}
