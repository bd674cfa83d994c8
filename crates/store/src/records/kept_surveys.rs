//! Surveys of closed days and months, kept so that what does not change any more is not counted again.
//!
//! A kept survey stands for all requests of one site in one stretch of time. Whatever changes requests there (a late line, an import, a
//! log that is taken out) deletes it in the same transaction ([`forget`]), and it is counted anew. While the tail holds requests of
//! its stretch, no reader is given it.

use super::{Records, Segment, State};
use crate::database::StoreError;
use crate::schema::{kept_parts, kept_surveys, segment_columns, survey_keys};
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable};
use exedra_reading::survey::stored::{StoredPart, VERSION};
use exedra_reading::survey::{Part, Survey, VisitorKey};
use std::collections::VecDeque;
use std::sync::Arc;

/// How hard Zstandard tries.
const EFFORT: i32 = 1;
/// No part unpacks to more than this many octets.
const MOST_OCTETS: usize = 256 << 20;
/// How many octets a request may take, together with its share in what is kept of its month and of its day; the least and the most of
/// the month's, and of the day's. The month comes first: the days of the last one are soon counted. And how many octets may be kept of
/// any day and of any month: of few requests the parts are small, and a disk has room for them.
const OF_A_REQUEST: f64 = 13.2;
const OF_ITS_MONTH: (f64, f64) = (1.6, 6.0);
const OF_ITS_DAY: (f64, f64) = (0.3, 8.0);
const LEAST_OF_A_DAY: usize = 4 << 10;
const LEAST_OF_A_MONTH: usize = 4 << 20;
/// What is longer is a month: in milliseconds.
const LONGEST_DAY: i64 = 2 * 86_400_000;
/// How many of the last changes are remembered.
const MOST_CHANGES: usize = 4096;

/// A kept survey, by what is known without reading it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptSurvey {
    /// Its number.
    pub id: i32,
    /// The site.
    pub site: Arc<str>,
    /// Whose days: IANA name.
    pub zone: Arc<str>,
    /// Its first instant, in milliseconds since 1970 UTC.
    pub from: i64,
    /// The first instant behind it.
    pub until: i64,
    /// Which of its parts are kept: a bit for each.
    pub parts: i32,
}

impl KeptSurvey {
    /// Whether all these parts of it are kept.
    pub fn has(&self, parts: &[StoredPart]) -> bool {
        parts.iter().all(|part| self.parts & bit(*part) != 0)
    }

    /// Whether any instant of a stretch, ends included, is in it.
    pub fn touches(&self, site: &str, first: i64, last: i64) -> bool {
        &*self.site == site && self.from <= last && self.until > first
    }
}

/// A stretch of a site's requests that was changed.
#[derive(Debug, Clone)]
struct Change {
    site: Arc<str>,
    first: i64,
    last: i64,
}

/// What has changed since the database was opened, as far as it is remembered.
#[derive(Debug, Clone, Default)]
pub(super) struct LastChanges {
    all: u64,
    requests: u64,
    last: VecDeque<Change>,
}

impl LastChanges {
    /// How many there have been.
    pub fn count(&self) -> u64 {
        self.all
    }

    fn add(&mut self, segment: &Segment) {
        if self.last.len() == MOST_CHANGES {
            self.last.pop_front();
        }
        let Segment { first, last, .. } = *segment;
        self.last.push_back(Change { site: Arc::clone(&segment.site), first, last });
        self.all += 1;
        self.requests += segment.requests as u64;
    }

    /// The first instant that was touched since there had been so many: the greatest number where none was, the least where that is not
    /// known any longer.
    fn first_since(&self, since: u64) -> i64 {
        match self.all.checked_sub(since).and_then(|new| usize::try_from(new).ok()) {
            Some(new) if new <= self.last.len() => {
                self.last.iter().rev().take(new).map(|change| change.first).min().unwrap_or(i64::MAX)
            }
            _ => i64::MIN,
        }
    }

    /// Whether a stretch is known not to have been changed since there had been so many.
    fn left_alone(&self, since: u64, site: &str, from: i64, until: i64) -> bool {
        // Where there had been more, that was another database.
        let Some(new) = self.all.checked_sub(since).and_then(|new| usize::try_from(new).ok()) else {
            return false;
        };
        let touches = |change: &Change| &*change.site == site && change.first < until && change.last >= from;
        new <= self.last.len() && !self.last.iter().rev().take(new).any(touches)
    }
}

impl State {
    /// Takes note that requests came or went with these segments.
    pub(super) fn changed_by<'s>(&mut self, segments: impl IntoIterator<Item = &'s Segment>) {
        for segment in segments {
            self.kept.retain(|kept| !kept.touches(&segment.site, segment.first, segment.last));
            self.changes.add(segment);
        }
    }
}

/// Deletes what is kept of the stretches of segments that come or go.
pub(super) fn forget<'s>(
    segments: impl IntoIterator<Item = &'s Segment>,
    writer: &mut SqliteConnection,
) -> Result<(), StoreError> {
    for segment in segments {
        let touched = kept_surveys::site
            .eq(&*segment.site)
            .and(kept_surveys::first_time.le(segment.last))
            .and(kept_surveys::until_time.gt(segment.first));
        diesel::delete(kept_surveys::table.filter(touched)).execute(writer)?;
    }
    Ok(())
}

/// What is kept in a database that was opened, of this version.
pub(super) fn load(writer: &mut SqliteConnection) -> Result<Vec<Arc<KeptSurvey>>, StoreError> {
    diesel::delete(kept_surveys::table.filter(kept_surveys::version.ne(VERSION))).execute(writer)?;
    let columns = (
        kept_surveys::id,
        kept_surveys::site,
        kept_surveys::zone,
        kept_surveys::first_time,
        kept_surveys::until_time,
        kept_surveys::parts,
    );
    let rows = kept_surveys::table.select(columns).load::<(i32, String, String, i64, i64, i32)>(writer)?;
    let kept = rows.into_iter().map(|(id, site, zone, from, until, parts)| {
        Arc::new(KeptSurvey { id, site: site.into(), zone: zone.into(), from, until, parts })
    });
    Ok(kept.collect())
}

impl Records {
    /// The key of the hashes in kept surveys; the first that asks makes it.
    pub fn survey_key(&self) -> Result<VisitorKey, StoreError> {
        let mut known = self.key.lock();
        let opening = self.writer.openings();
        if let Some((key, of)) = known.used
            && of == opening
        {
            return Ok(key);
        }
        let in_use = self.writer.run(|writer| {
            let kept = survey_keys::table.find(1).select(survey_keys::key);
            Ok(kept.first::<Vec<u8>>(writer).optional()?)
        })?;
        let key = match in_use {
            Some(octets) => key_of(&octets),
            None => {
                let octets = known.proposed;
                let row = (survey_keys::id.eq(1), survey_keys::key.eq(&octets[..]));
                // Where nothing can be written, nothing is kept that another key would not fit.
                let written = self
                    .writer
                    .run(|writer| Ok(diesel::insert_into(survey_keys::table).values(row).execute(writer)?));
                if written.is_err() {
                    return Ok(key_of(&octets));
                }
                key_of(&octets)
            }
        };
        known.used = Some((key, self.writer.openings()));
        Ok(key)
    }

    /// How often requests have come or gone since the database was opened.
    pub fn changes(&self) -> u64 {
        self.state.lock().changes.count()
    }

    /// How many requests have come or gone since the database was opened.
    pub fn changed_requests(&self) -> u64 {
        self.state.lock().changes.requests
    }

    /// The first instant (milliseconds since 1970 UTC) of requests that have come or gone since there had been so many changes: the greatest
    /// number where none have, the least where that is not known any longer.
    pub fn first_change_since(&self, since: u64) -> i64 {
        self.state.lock().changes.first_since(since)
    }

    /// Whether no request of a stretch is known to have come or gone since there had been so many changes.
    pub fn left_alone(&self, since: u64, of: &KeptSurvey) -> bool {
        self.state.lock().changes.left_alone(since, &of.site, of.from, of.until)
    }

    /// Deletes what is kept by the days of other zones: the configuration has changed.
    pub fn forget_other_zones(&self, zone: &str) -> Result<(), StoreError> {
        if self.state.lock().kept.iter().all(|kept| &*kept.zone == zone) {
            return Ok(());
        }
        let _writing = self.writing.lock();
        self.writer.run(|writer| {
            let others = kept_surveys::table.filter(kept_surveys::zone.ne(zone));
            Ok(diesel::delete(others).execute(writer)?)
        })?;
        self.state.lock().kept.retain(|kept| &*kept.zone == zone);
        Ok(())
    }

    /// Keeps a survey of all requests of a site in a stretch, counted when there had been so many changes. Says whether it did: not
    /// where requests have come or gone there meanwhile.
    pub fn keep_survey(&self, of: &KeptSurvey, counted_of: u64, survey: &Survey) -> Result<bool, StoreError> {
        let mut parts: Vec<(StoredPart, Vec<u8>)> = StoredPart::all()
            .map(|part| Ok((part, packed(&survey.written(part)).map_err(StoreError::Packing)?)))
            .collect::<Result<_, StoreError>>()?;
        let share = share(of, survey.total.counts.requests, self.octets_of_a_request(of)?);
        keep_to(share, &mut parts);
        let kept_parts = parts.iter().fold(0, |all, (part, _)| all | bit(*part));
        let _writing = self.writing.lock();
        if !self.state.lock().changes.left_alone(counted_of, &of.site, of.from, of.until) {
            return Ok(false);
        }
        let id: i32 = self.writer.run(|writer| {
            writer.immediate_transaction::<_, StoreError, _>(|writer| {
                let row = (
                    kept_surveys::site.eq(&*of.site),
                    kept_surveys::zone.eq(&*of.zone),
                    kept_surveys::first_time.eq(of.from),
                    kept_surveys::until_time.eq(of.until),
                    kept_surveys::version.eq(VERSION),
                    kept_surveys::parts.eq(kept_parts),
                );
                let id = diesel::replace_into(kept_surveys::table)
                    .values(row)
                    .returning(kept_surveys::id)
                    .get_result(writer)?;
                for (part, packed) in &parts {
                    let row = (
                        kept_parts::survey.eq(id),
                        kept_parts::part.eq(part.number()),
                        kept_parts::packed.eq(packed),
                    );
                    diesel::insert_into(kept_parts::table).values(row).execute(writer)?;
                }
                Ok(id)
            })
        })?;
        let mut state = self.state.lock();
        let is_same = |kept: &Arc<KeptSurvey>| {
            (&kept.site, &kept.zone, kept.from, kept.until) == (&of.site, &of.zone, of.from, of.until)
        };
        state.kept.retain(|kept| !is_same(kept));
        state.kept.push(Arc::new(KeptSurvey { id, parts: kept_parts, ..of.clone() }));
        Ok(true)
    }

    /// How many octets a request of a stretch takes, packed.
    fn octets_of_a_request(&self, of: &KeptSurvey) -> Result<f64, StoreError> {
        let (ids, requests): (Vec<i32>, Vec<usize>) = {
            let state = self.state.lock();
            let of_it = state.segments.iter().filter(|one| of.touches(&one.site, one.first, one.last));
            of_it.map(|segment| (segment.id, segment.requests)).unzip()
        };
        let mut octets = 0;
        // SQLite takes so many values in one statement.
        for some in ids.chunks(1000) {
            let sum: Option<i64> = self.read(|connection| {
                let of_these = segment_columns::table.filter(segment_columns::segment.eq_any(some));
                let sum = sql::<Nullable<BigInt>>("CAST(sum(length(packed)) AS INTEGER)");
                Ok(of_these.select(sum).first(connection)?)
            })?;
            octets += sum.unwrap_or(0);
        }
        Ok(octets as f64 / requests.iter().sum::<usize>().max(1) as f64)
    }

    /// Adds parts of a kept survey to one of the same key. Says whether they are there: where they have been deleted meanwhile, or are
    /// damaged, they are to be counted anew, and the survey is of no use. Gives how many octets that took.
    pub fn read_kept(
        &self,
        kept: &KeptSurvey,
        parts: &[StoredPart],
        survey: &mut Survey,
    ) -> Result<Option<usize>, StoreError> {
        let numbers: Vec<i32> = parts.iter().map(|part| part.number()).collect();
        let found: Vec<(i32, Vec<u8>)> = self.read(|connection| {
            let wanted = kept_parts::survey.eq(kept.id).and(kept_parts::part.eq_any(numbers));
            let columns = (kept_parts::part, kept_parts::packed);
            Ok(kept_parts::table.filter(wanted).select(columns).load(connection)?)
        })?;
        let mut octets = 0;
        for part in parts {
            let packed = found.iter().find(|(number, _)| *number == part.number());
            let plain = packed.and_then(|(_, packed)| unpacked(packed));
            let read = plain.as_ref().map(|plain| survey.take_in_written(*part, plain));
            if !matches!(read, Some(Ok(()))) {
                if packed.is_some() {
                    self.forget_kept(kept);
                }
                return Ok(None);
            }
            octets += plain.map_or(0, |plain| plain.len());
        }
        Ok(Some(octets))
    }

    /// One that is damaged is given to nobody any more. It goes from the file when it is counted anew.
    fn forget_kept(&self, damaged: &KeptSurvey) {
        tracing::error!("a kept survey of {} in requests.db is damaged: it is counted again", damaged.site);
        self.state.lock().kept.retain(|kept| kept.id != damaged.id);
    }
}

fn bit(part: StoredPart) -> i32 {
    1 << part.number()
}

/// How many octets may be kept of a stretch: together with the requests, which take so many octets each, it stays within what a request
/// may take. Of a day with very many different visitors or paths, to count them again takes hardly longer than to read them.
fn share(of: &KeptSurvey, requests: u64, of_a_request: f64) -> usize {
    let left = OF_A_REQUEST - of_a_request;
    let (share, least) = match of.until - of.from > LONGEST_DAY {
        true => ((left - OF_ITS_DAY.0).clamp(OF_ITS_MONTH.0, OF_ITS_MONTH.1), LEAST_OF_A_MONTH),
        false => {
            let of_its_month = (OF_ITS_MONTH.0 + OF_ITS_MONTH.1) / 2.0;
            ((left - of_its_month).clamp(OF_ITS_DAY.0, OF_ITS_DAY.1), LEAST_OF_A_DAY)
        }
    };
    ((requests as f64 * share) as usize).max(least)
}

/// Leaves parts out that do not fit: those that are asked for least first.
fn keep_to(mut share: usize, parts: &mut Vec<(StoredPart, Vec<u8>)>) {
    parts.sort_by_key(|(part, _)| match part {
        StoredPart::Figures => 0,
        StoredPart::Counted(Part::Visitors | Part::Visits | Part::Paths) => 1,
        StoredPart::Counted(Part::Failing) => 3,
        StoredPart::Counted(part) if part.is_on_request() => 4,
        StoredPart::Counted(_) => 2,
    });
    parts.retain(|(_, packed)| {
        let fits = packed.len() <= share;
        share -= if fits { packed.len() } else { 0 };
        fits
    });
}

/// The key of the hashes in kept surveys.
#[derive(Debug)]
pub(super) struct SurveyKey {
    /// What is written down where there is none.
    proposed: [u8; 16],
    /// What is in use, and in which opening of the database.
    used: Option<(VisitorKey, u64)>,
}

impl Default for SurveyKey {
    fn default() -> Self {
        SurveyKey { proposed: rand::random(), used: None }
    }
}

fn key_of(octets: &[u8]) -> VisitorKey {
    let half = |at: usize| {
        let octets = octets.get(at..at + 8).and_then(|half| half.try_into().ok());
        octets.map_or(0, u64::from_le_bytes)
    };
    VisitorKey([half(0), half(8)])
}

/// With a checksum: what a disk has altered must not pass for figures.
fn packed(plain: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut compressor = zstd::bulk::Compressor::new(EFFORT)?;
    compressor.set_parameter(zstd::zstd_safe::CParameter::ChecksumFlag(true))?;
    compressor.compress(plain)
}

fn unpacked(packed: &[u8]) -> Option<Vec<u8>> {
    let size = zstd::zstd_safe::get_frame_content_size(packed).ok()??;
    let size = usize::try_from(size).ok().filter(|size| *size <= MOST_OCTETS)?;
    zstd::bulk::decompress(packed, size).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DAY: i64 = 86_400_000;

    /// What is kept of a stretch may take its share and no more; of few requests, a month has room for all that is counted.
    #[rstest]
    #[case::large_month(31, 10_000_000, 11.0, 19_000_000)]
    #[case::month_of_large_requests(31, 10_000_000, 20.0, 16_000_000)]
    #[case::small_month(31, 100_000, 11.0, LEAST_OF_A_MONTH)]
    #[case::large_day(1, 1_000_000, 9.0, 400_000)]
    #[case::small_day(1, 10, 9.0, LEAST_OF_A_DAY)]
    fn shares(#[case] days: i64, #[case] requests: u64, #[case] of_a_request: f64, #[case] expected: usize) {
        let of = KeptSurvey { id: 0, site: "".into(), zone: "".into(), from: 0, until: days * DAY, parts: 0 };
        let share = share(&of, requests, of_a_request);
        assert!(share.abs_diff(expected) <= 1, "{share}");
    }

    #[test]
    fn what_is_asked_for_most_is_kept_first() {
        let packed = |part: StoredPart, octets: usize| (part, vec![0; octets]);
        let part = |part: Part| StoredPart::Counted(part);
        let mut parts = vec![
            packed(part(Part::Failing), 40),
            packed(part(Part::Visitors), 60),
            packed(StoredPart::Figures, 10),
            packed(part(Part::Paths), 50),
        ];
        keep_to(115, &mut parts);
        let kept: Vec<StoredPart> = parts.iter().map(|(part, _)| *part).collect();
        assert_eq!(kept, [StoredPart::Figures, part(Part::Visitors), part(Part::Failing)]);
    }
}
