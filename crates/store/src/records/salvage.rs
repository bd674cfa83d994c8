//! What is undamaged in a database that was set aside, brought into the one that took its place.
//!
//! Logs are deleted after a while, so older requests are nowhere else. Segments are read row by row, around whatever
//! cannot be read, and each is unpacked before it is believed. A log of which a segment is missing is marked: if it is
//! still there, everything that was read of it is taken out and it is read again. Doing this twice, as after a crash in
//! the middle, comes to the same.

use super::damaged::{incomplete_from, shares_a_segment};
use super::packing::{self, Decompressed, Rows};
use super::segment::{self, Origin, Segment, insert_again};
use super::{Checkpoint, checkpoint, keep};
use crate::database::StoreError;
use crate::salvage::{number, rows};
use crate::schema::{salvaged, segment_columns, segments, sources};
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool};
use exedra_common::{Column, Dictionaries, RequestBatch};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

/// What came of it.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Salvaged {
    /// Segments that were undamaged, and how many requests are in them.
    pub kept: usize,
    /// Requests in them.
    pub requests: usize,
    /// Segments that were not.
    pub damaged: usize,
    /// Logs that are to be read again, if they are still there.
    pub incomplete: usize,
}

impl Salvaged {
    /// The same in a sentence.
    pub fn words(&self, aside: &Path) -> String {
        format!(
            "{} requests in {} undamaged segments were brought over from {}; {} segments could not be read, and {} logs are read again if they are still there",
            self.requests,
            self.kept,
            aside.file_name().unwrap_or_default().to_string_lossy(),
            self.damaged,
            self.incomplete
        )
    }
}

/// Whether that has been done with a file.
pub fn is_done(aside: &Path, writer: &mut SqliteConnection) -> Result<bool, StoreError> {
    Ok(salvaged::table.find(name_of(aside)).count().get_result::<i64>(writer)? > 0)
}

fn name_of(aside: &Path) -> String {
    aside.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// Brings over what is undamaged.
pub fn salvage(aside: &Path, writer: &mut SqliteConnection) -> Result<Salvaged, StoreError> {
    let mut found = Salvaged::default();
    let mut kept: Vec<Segment> = Vec::new();
    let mut checkpoints = BTreeMap::new();
    if let Ok(mut damaged) = SqliteConnection::establish(&aside.to_string_lossy()) {
        let there: Vec<i32> = segments::table.select(segments::id).load(writer)?;
        let there: BTreeSet<i32> = there.into_iter().collect();
        let columns = columns(&mut damaged);
        let all = all_segments(&mut damaged);
        found.damaged = columns.keys().filter(|id| !all.contains_key(id)).count();
        for segment in all.into_values().filter(|(_, is_retired)| !is_retired).map(|(segment, _)| segment) {
            let of_it = columns.get(&segment.id).map(Vec::as_slice).unwrap_or_default();
            // Where it came from is not known of older ones, so that it would be counted twice when logs are read again.
            let is_known = !segment.origins.is_empty();
            let Some(columns) = is_known.then(|| read(&segment, of_it, &mut damaged)).flatten() else {
                found.damaged += 1;
                continue;
            };
            if !there.contains(&segment.id) {
                writer.immediate_transaction(|writer| insert_again(&segment, &columns, writer))?;
            }
            found.kept += 1;
            found.requests += segment.requests;
            kept.push(segment);
        }
        checkpoints = all_checkpoints(&mut damaged);
    }
    let checkpoints = as_far_as_kept(checkpoints, &kept);
    found.incomplete = checkpoints.values().filter(|checkpoint| checkpoint.incomplete).count();
    writer.immediate_transaction::<_, StoreError, _>(|writer| {
        checkpoints.iter().try_for_each(|(name, checkpoint)| keep(name, checkpoint, writer))?;
        diesel::replace_into(salvaged::table).values(salvaged::file.eq(name_of(aside))).execute(writer)?;
        Ok(())
    })?;
    Ok(found)
}

/// How far logs have been read, where all of that was kept, and which are incomplete.
fn as_far_as_kept(read: BTreeMap<String, Checkpoint>, kept: &[Segment]) -> BTreeMap<String, Checkpoint> {
    let mut counts: BTreeMap<&Origin, u64> = BTreeMap::new();
    for (origin, count) in kept.iter().flat_map(|segment| &segment.origins) {
        *counts.entry(origin).or_default() += *count as u64;
    }
    let mut known: BTreeMap<String, Checkpoint> = BTreeMap::new();
    for origin in counts.keys().filter(|origin| !read.contains_key(&*origin.name)) {
        known.insert(origin.name.to_string(), incomplete_from(origin.begins));
    }
    for (name, checkpoint) in read {
        let origin = Origin { name: name.as_str().into(), begins: checkpoint.begins };
        let is_whole = counts.get(&origin).copied().unwrap_or_default() == checkpoint.lines;
        // Segments of several logs are of logs that were gone when they were made.
        let stays = is_whole || shares_a_segment(kept, &origin);
        known.insert(name, if stays { checkpoint } else { incomplete_from(checkpoint.begins) });
    }
    known
}

/// The columns of a segment, if all of them are there and can be unpacked.
fn read(
    segment: &Segment,
    columns: &[(String, i32)],
    damaged: &mut SqliteConnection,
) -> Option<Vec<(String, Vec<u8>)>> {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let mut packed = Vec::new();
    for column in Column::kept() {
        let Some((name, id)) = columns.iter().find(|(name, _)| name == column.declaration().stored) else {
            if segment.has(column) {
                return None;
            }
            packing::append_nothing(column, segment.requests, &mut batch)?;
            continue;
        };
        let row = segment_columns::table.find(id).select(segment_columns::packed);
        let octets: Vec<u8> = row.first(damaged).ok()?;
        packing::unpack(
            column,
            &Decompressed::new(&octets)?,
            Rows::all(segment.requests),
            &mut batch,
            &mut texts,
        )?;
        packed.push((name.clone(), octets));
    }
    let times = (batch.time.iter().min().copied(), batch.time.iter().max().copied());
    (times == (Some(segment.first), Some(segment.last))).then_some(packed)
}

/// All segments that are known of, by their number, and whether others hold their requests now.
fn all_segments(damaged: &mut SqliteConnection) -> BTreeMap<i32, (Segment, bool)> {
    let last = number("SELECT seq AS number FROM sqlite_sequence WHERE name = 'segments'", damaged)
        .or_else(|| number("SELECT max(id) AS number FROM segments", damaged));
    let rows = rows(last, |after, count| {
        let page = segments::table.filter(segments::id.gt(after as i32)).order(segments::id).limit(count);
        let page = page.load::<segment::Row>(damaged)?;
        Ok(page.into_iter().map(|row| (i64::from(row.0), row)).collect())
    });
    rows.into_iter()
        .map(|row| (row.0, (row.5, row)))
        .map(|(id, (retired, row))| (id, (row.into(), retired)))
        .collect()
}

/// Names and rows of the columns of each segment.
fn columns(damaged: &mut SqliteConnection) -> HashMap<i32, Vec<(String, i32)>> {
    let last = number("SELECT max(id) AS number FROM segment_columns", damaged);
    let rows = rows(last, |after, count| {
        // The table itself, not its index: that may be damaged where the table is not.
        let page = segment_columns::table
            .filter(segment_columns::id.gt(after as i32))
            .order(segment_columns::id)
            .limit(count)
            .select((segment_columns::id, segment_columns::segment, segment_columns::name));
        let page = page.load::<(i32, i32, String)>(damaged)?;
        Ok(page.into_iter().map(|row| (i64::from(row.0), row)).collect())
    });
    let mut found: HashMap<i32, Vec<(String, i32)>> = HashMap::new();
    for (id, segment, name) in rows {
        found.entry(segment).or_default().push((name, id));
    }
    found
}

fn all_checkpoints(damaged: &mut SqliteConnection) -> BTreeMap<String, Checkpoint> {
    let last = number("SELECT max(rowid) AS number FROM sources", damaged);
    let rows = rows(last, |after, count| {
        let page = sources::table
            .filter(sql::<Bool>("rowid > ").bind::<BigInt, _>(after))
            .order(sql::<BigInt>("rowid"))
            .limit(count)
            .select((sql::<BigInt>("rowid"), sources::all_columns));
        let page = page.load::<(i64, (String, i64, i64, i64, String, bool))>(damaged)?;
        Ok(page.into_iter().collect())
    });
    rows.into_iter().map(checkpoint).collect()
}
