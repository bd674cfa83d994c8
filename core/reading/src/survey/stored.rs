//! A survey as octets, part by part, so that whoever needs some parts reads those alone.
//!
//! Surveys of closed days are kept like this. A part is written in such an order that a sample of fewer visitors is the beginning of one
//! of more: what would be dropped again is not even read. That the octets are those that were written is for whoever keeps them to see.
//!
//! ```
//! use exedra_reading::survey::Survey;
//! use exedra_reading::survey::stored::StoredPart;
//! let mut day = Survey::default();
//! day.total.add(2, 512);
//! let figures = day.written(StoredPart::Figures);
//! let mut both = Survey::default();
//! both.take_in_written(StoredPart::Figures, &figures).unwrap();
//! both.take_in_written(StoredPart::Figures, &figures).unwrap();
//! assert_eq!((both.total.counts.requests, both.total.counts.bytes), (2, 1024));
//! ```

use super::calendar::Step;
use super::counted::{Bucket, Encoded, Said, Survey};
use super::measure::Measure;
use super::plan::{Part, SurveyPlan, USUAL_SLOW};
use super::ranking::{Counts, Ranking};
use super::visits::{PageAt, Stretch};
use exedra_common::scope::Scope;
use hashbrown::HashMap;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use thiserror::Error;

/// Version of what is counted and of how it is written. It grows with every change of either, so that what was kept before is
/// counted anew: a golden file of each version (`crates/store/tests/format.rs`) says when it must.
pub const VERSION: i32 = 1;

/// A part of a survey that is written by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StoredPart {
    /// What is always counted.
    Figures,
    /// What a plan may ask for.
    Counted(Part),
}

impl StoredPart {
    /// All of them.
    pub fn all() -> impl Iterator<Item = StoredPart> {
        [StoredPart::Figures].into_iter().chain(kept().map(StoredPart::Counted))
    }

    /// Its number; [`VERSION`] says what that means.
    pub fn number(self) -> i32 {
        match self {
            StoredPart::Figures => 0,
            StoredPart::Counted(part) => 1 + part as i32,
        }
    }
}

/// Whether a part is kept: what clients were sent again takes as much as the requests that it is counted of.
fn is_kept(part: Part) -> bool {
    part != Part::Repeats
}

fn kept() -> impl Iterator<Item = Part> {
    Part::ALL.into_iter().filter(|part| is_kept(*part))
}

/// Octets that are no part of a survey.
#[derive(Debug, Clone, Copy, Error, PartialEq, Eq)]
#[error("a kept survey is damaged")]
pub struct Damaged;

impl SurveyPlan {
    /// The plan of what is kept of a day: everything that any plan may ask for without a filter.
    pub fn of_kept(scope: Scope, zone: jiff::tz::TimeZone, key: super::VisitorKey) -> Self {
        let step = Some(Step::Hour);
        SurveyPlan { step, parts: kept().collect(), ..SurveyPlan::new(scope, zone, key) }
    }

    /// Whether surveys by this plan may be put together of kept ones.
    pub fn can_be_of_kept(&self) -> bool {
        self.scope.has_all_requests()
            && matches!(self.by, Measure::Requests | Measure::Bytes)
            && self.step != Some(Step::Minute)
            && (self.slow == USUAL_SLOW || !self.parts.has(Part::Durations))
            && Part::ALL.into_iter().all(|part| is_kept(part) || !self.parts.has(part))
    }

    /// The parts that this plan needs of kept surveys.
    pub fn stored_parts(&self) -> Vec<StoredPart> {
        let wanted = |part: &StoredPart| match part {
            StoredPart::Figures => true,
            StoredPart::Counted(part) => self.parts.has(*part),
        };
        StoredPart::all().filter(wanted).collect()
    }
}

/// What is always counted, but for what needs agents.
#[derive(Serialize, Deserialize)]
struct Figures {
    total: Bucket,
    span: Option<(i64, i64)>,
    statuses: Vec<(u16, Counts)>,
    days: Vec<(i32, Bucket)>,
    undated: Bucket,
    week: Vec<Counts>,
    said: Said,
    timeline: Vec<(i64, Bucket)>,
    sources: Vec<Counts>,
}

/// What is counted of people and programs.
#[derive(Serialize, Deserialize)]
struct ByAgents {
    people: Vec<u64>,
    by_people: Counts,
    by_programs: Counts,
}

/// The rankings that a part consists of, if nothing else belongs to it: one list, to write them and to read them.
macro_rules! rankings_of {
    ($part:expr, $survey:ident, $($borrowed:tt)+) => {
        match $part {
            Part::Paths => vec![$($borrowed)+ $survey.paths],
            Part::Clients => vec![$($borrowed)+ $survey.clients],
            Part::Referrers => vec![
                $($borrowed)+ $survey.referrers,
                $($borrowed)+ $survey.embeds,
                $($borrowed)+ $survey.styles,
            ],
            Part::Users => vec![$($borrowed)+ $survey.users],
            Part::Missing => vec![
                $($borrowed)+ $survey.missing,
                $($borrowed)+ $survey.probes,
                $($borrowed)+ $survey.crawled,
                $($borrowed)+ $survey.answered,
            ],
            Part::Failing => vec![$($borrowed)+ $survey.failing_paths, $($borrowed)+ $survey.failing_clients],
            Part::Hosts => vec![$($borrowed)+ $survey.hosts],
            Part::Methods => vec![$($borrowed)+ $survey.methods],
            Part::Protocols => vec![$($borrowed)+ $survey.protocols],
            Part::Queries => vec![$($borrowed)+ $survey.queries],
            Part::Agents | Part::Visitors | Part::Visits | Part::Encodings | Part::Durations | Part::Repeats => {
                Vec::new()
            }
        }
    };
}

impl Survey {
    /// A part as octets.
    pub fn written(&self, part: StoredPart) -> Vec<u8> {
        let mut out = Writer(Vec::new());
        match part {
            StoredPart::Figures => out.put(&Figures {
                total: self.total,
                span: self.span,
                statuses: self.statuses.iter().map(|(key, counts)| (*key, *counts)).collect(),
                days: self.days.iter().map(|(key, bucket)| (*key, *bucket)).collect(),
                undated: self.undated,
                week: self.week.iter().flatten().copied().collect(),
                said: self.said,
                timeline: self.timeline.iter().map(|(key, bucket)| (*key, *bucket)).collect(),
                sources: self.sources.clone(),
            }),
            StoredPart::Counted(part) => self.write_counted(part, &mut out),
        }
        out.0
    }

    fn write_counted(&self, part: Part, out: &mut Writer) {
        match part {
            Part::Agents => {
                out.put(&ByAgents {
                    people: self.people.iter().flatten().copied().collect(),
                    by_people: self.by_people,
                    by_programs: self.by_programs,
                });
                out.put_ranking(&self.agents);
            }
            Part::Visitors => self.write_visitors(out),
            Part::Visits => self.write_visits(out),
            Part::Encodings => {
                let encodings: Vec<(&str, Encoded)> =
                    self.encodings.iter().map(|(name, encoded)| (&**name, *encoded)).collect();
                out.put(&encodings);
                out.put_ranking(&self.uncompressed);
            }
            Part::Durations => self.write_durations(out),
            part => self.rankings(part).into_iter().for_each(|ranking| out.put_ranking(ranking)),
        }
    }

    fn rankings(&self, part: Part) -> Vec<&Ranking> {
        rankings_of!(part, self, &)
    }

    fn rankings_mut(&mut self, part: Part) -> Vec<&mut Ranking> {
        rankings_of!(part, self, &mut)
    }

    fn write_visitors(&self, out: &mut Writer) {
        let days = self.visitors.in_order();
        out.put(&(self.visitors.halvings(), days.len()));
        for (day, hashes) in days {
            out.put(&(day, hashes.len()));
            out.put_ascending(hashes.into_iter());
        }
    }

    fn write_visits<'v>(&'v self, out: &mut Writer) {
        let all = self.visits.in_order();
        let (mut places, mut pages): (HashMap<&'v str, u32>, Vec<&'v str>) = Default::default();
        let mut place = |page: &'v Option<PageAt>, first: i64| {
            page.as_ref().map(|(time, path)| {
                let next = pages.len() as u32;
                let place = *places.entry(&**path).or_insert(next);
                if place == next {
                    pages.push(&**path);
                }
                (time - first, place)
            })
        };
        let mut written = Writer(Vec::new());
        let mut last = 0;
        for (visitor, stretches) in &all {
            written.put(&(visitor - last, stretches.len()));
            last = *visitor;
            for stretch in *stretches {
                written.put(&WrittenStretch {
                    first: stretch.first,
                    length: stretch.last - stretch.first,
                    requests: stretch.requests,
                    pages: stretch.pages,
                    first_page: place(&stretch.first_page, stretch.first),
                    last_page: place(&stretch.last_page, stretch.first),
                    is_crawler: stretch.is_crawler,
                });
            }
        }
        out.put(&pages);
        out.put(&(self.visits.halvings(), all.len()));
        out.0.extend(written.0);
    }

    fn write_durations(&self, out: &mut Writer) {
        let durations = &self.durations;
        out.put_ranking(&durations.slow);
        let minutes: Vec<(i64, u64)> = durations.minutes.iter().map(|(at, count)| (*at, *count)).collect();
        let counts = durations.in_order();
        out.put(&(minutes, durations.other_minutes, durations.coarse(), counts.len()));
        let mut last = 0;
        for ((path, microseconds), count) in counts {
            out.put(&(path - last, microseconds, count));
            last = path;
        }
    }

    /// Takes in a part that was written of another survey of the same plan.
    ///
    /// # Errors
    /// When it is damaged. Some of it may have been counted then.
    pub fn take_in_written(&mut self, part: StoredPart, octets: &[u8]) -> Result<(), Damaged> {
        let mut from = Reader(octets);
        match part {
            StoredPart::Figures => {
                let figures: Figures = from.take()?;
                self.take_in_figures(figures)
            }
            StoredPart::Counted(part) => self.take_in_counted(part, &mut from),
        }
    }

    fn take_in_figures(&mut self, figures: Figures) -> Result<(), Damaged> {
        let mut other = Survey {
            total: figures.total,
            span: figures.span,
            statuses: figures.statuses.into_iter().collect(),
            days: figures.days.into_iter().collect(),
            undated: figures.undated,
            said: figures.said,
            timeline: figures.timeline.into_iter().collect(),
            sources: figures.sources,
            ..Survey::default()
        };
        if figures.week.len() != other.week.iter().flatten().count() {
            return Err(Damaged);
        }
        other.week.iter_mut().flatten().zip(figures.week).for_each(|(hour, counts)| *hour = counts);
        self.merge_figures(&other);
        Ok(())
    }

    fn take_in_counted(&mut self, part: Part, from: &mut Reader<'_>) -> Result<(), Damaged> {
        match part {
            Part::Agents => {
                let by: ByAgents = from.take()?;
                let people = self.people.iter_mut().flatten().zip(by.people);
                people.for_each(|(ours, theirs)| *ours = ours.saturating_add(theirs));
                self.by_people.merge(by.by_people);
                self.by_programs.merge(by.by_programs);
                from.take_ranking(&mut self.agents)
            }
            Part::Visitors => self.take_in_visitors(from),
            Part::Visits => self.take_in_visits(from),
            Part::Encodings => {
                let encodings: Vec<(&str, Encoded)> = from.take()?;
                encodings.into_iter().for_each(|(name, encoded)| self.add_encoded(name, encoded));
                from.take_ranking(&mut self.uncompressed)
            }
            Part::Durations => self.take_in_durations(from),
            part => self.rankings_mut(part).into_iter().try_for_each(|ranking| from.take_ranking(ranking)),
        }
    }

    fn take_in_visitors(&mut self, from: &mut Reader<'_>) -> Result<(), Damaged> {
        let (halvings, days): (u32, usize) = from.take()?;
        self.visitors.thin_to(possible(halvings)?);
        for _ in 0..days {
            let (day, count): (i32, usize) = from.take()?;
            let hashes = from.take_ascending(count)?;
            let kept = hashes.partition_point(|hash| *hash <= self.visitors.threshold());
            self.visitors.add_all(day, &hashes[..kept]);
        }
        Ok(())
    }

    fn take_in_visits(&mut self, from: &mut Reader<'_>) -> Result<(), Damaged> {
        let pages: Vec<&str> = from.take()?;
        let mut paths: Vec<Option<Arc<str>>> = vec![None; pages.len()];
        let (halvings, count): (u32, usize) = from.take()?;
        self.visits.thin_to(possible(halvings)?);
        let mut visitor = 0u64;
        for _ in 0..count {
            let (further, stretches): (u64, usize) = from.take()?;
            visitor = visitor.checked_add(further).ok_or(Damaged)?;
            if visitor > self.visits.threshold() {
                break;
            }
            for _ in 0..stretches {
                let written: WrittenStretch = from.take()?;
                let mut page = |page: Option<(i64, u32)>| -> Result<Option<PageAt>, Damaged> {
                    let Some((after, place)) = page else { return Ok(None) };
                    let text = pages.get(place as usize).ok_or(Damaged)?;
                    let path = paths[place as usize].get_or_insert_with(|| (*text).into());
                    Ok(Some((written.first.saturating_add(after), Arc::clone(path))))
                };
                let stretch = Stretch {
                    first: written.first,
                    last: written.first.saturating_add(written.length),
                    requests: written.requests,
                    pages: written.pages,
                    first_page: page(written.first_page)?,
                    last_page: page(written.last_page)?,
                    is_crawler: written.is_crawler,
                };
                self.visits.add(visitor, stretch);
            }
        }
        Ok(())
    }

    fn take_in_durations(&mut self, from: &mut Reader<'_>) -> Result<(), Damaged> {
        from.take_ranking(&mut self.durations.slow)?;
        let (minutes, others, coarse, count): (Vec<(i64, u64)>, u64, usize, usize) = from.take()?;
        minutes.into_iter().for_each(|(minute, count)| self.durations.add_slow_minute(minute, count));
        self.durations.other_minutes += others;
        self.durations.make_as_coarse(coarse);
        let mut path = 0u64;
        for _ in 0..count {
            let (further, microseconds, requests): (u64, u64, u64) = from.take()?;
            path = path.checked_add(further).ok_or(Damaged)?;
            self.durations.add(path, microseconds, requests);
        }
        Ok(())
    }
}

/// No sample is halved more often than this.
fn possible(halvings: u32) -> Result<u32, Damaged> {
    if halvings < u64::BITS { Ok(halvings) } else { Err(Damaged) }
}

/// A stretch of a visit: times from its first instant on, pages by their place.
#[derive(Serialize, Deserialize)]
struct WrittenStretch {
    first: i64,
    length: i64,
    requests: u64,
    pages: u64,
    first_page: Option<(i64, u32)>,
    last_page: Option<(i64, u32)>,
    is_crawler: bool,
}

struct Writer(Vec<u8>);

impl Writer {
    fn put(&mut self, value: &impl Serialize) {
        // Nothing that is written here can fail to be: there is no sequence of unknown length, and a vector grows.
        if let Ok(written) = postcard::to_extend(value, std::mem::take(&mut self.0)) {
            self.0 = written;
        }
    }

    fn put_ascending(&mut self, numbers: impl Iterator<Item = u64>) {
        numbers.fold(0, |last, number| {
            self.put(&(number - last));
            number
        });
    }

    fn put_ranking(&mut self, ranking: &Ranking) {
        let entries: Vec<(&str, Counts)> = ranking.entries().collect();
        self.put(&(ranking.let_go(), entries.len()));
        entries.iter().for_each(|entry| self.put(entry));
    }
}

struct Reader<'o>(&'o [u8]);

impl<'o> Reader<'o> {
    fn take<T: Deserialize<'o>>(&mut self) -> Result<T, Damaged> {
        let (value, rest) = postcard::take_from_bytes(self.0).map_err(|_| Damaged)?;
        self.0 = rest;
        Ok(value)
    }

    fn take_ascending(&mut self, count: usize) -> Result<Vec<u64>, Damaged> {
        let mut last = 0u64;
        (0..count)
            .map(|_| {
                last = last.checked_add(self.take()?).ok_or(Damaged)?;
                Ok(last)
            })
            .collect()
    }

    fn take_ranking(&mut self, ranking: &mut Ranking) -> Result<(), Damaged> {
        let (let_go, count): (Counts, usize) = self.take()?;
        ranking.let_go_of(let_go);
        let mut is_damaged = false;
        ranking.add_entries((0..count).map_while(|_| match self.take() {
            Ok(entry) => Some(entry),
            Err(Damaged) => {
                is_damaged = true;
                None
            }
        }));
        if is_damaged { Err(Damaged) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::logs::{Layout, LineReader};
    use crate::survey::{Report, ReportOptions, Surveyor, VisitorKey};
    use exedra_common::{Dictionaries, RequestBatch};
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    const DAY: i64 = 86_400_000;
    const MONDAY: i64 = 1_794_787_200_000;

    fn plan() -> SurveyPlan {
        SurveyPlan::of_kept(Scope::default(), TimeZone::UTC, VisitorKey([3, 4]))
    }

    fn survey(lines: &str, scope: Scope) -> Survey {
        let plan = SurveyPlan { scope, ..plan() };
        let layouts = [Layout::understand("full").unwrap()];
        let mut reader = LineReader::new(&layouts, plan.projection());
        let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
        reader.read_block(lines.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
        assert_eq!(reader.unread.lines(), 0);
        let mut surveyor = Surveyor::new(plan);
        surveyor.add(&mut batch, &texts, 0);
        surveyor.into_survey(&texts)
    }

    /// A line near the end or the beginning of a day, so that visits cross midnight.
    fn line() -> impl Strategy<Value = String> {
        let what = (1u8..5, 0u8..5, prop::sample::select(vec![200u16, 304, 404, 500]), 0u32..9000, 0u8..3);
        let how = (16u8..19, prop::sample::select(vec![0u8, 12, 23]), 0u8..60, 0u64..3_000_000, 0u8..3);
        (what, how).prop_map(|((client, path, status, bytes, agent), (day, hour, minute, duration, from))| {
            let path = ["/", "/tides.css", "/wp.php", "/fog.html", "/a.pdf"][path as usize];
            let referrer = ["-", "https://l.example/x", "https://harbour.example/"][from as usize];
            let agent = ["Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0", "Boatbot/1.0", "-"]
                [agent as usize];
            let encoding = if client > 2 { "gzip 70" } else { "- -" };
            format!(
                "192.0.2.{client} - ann [{day}/Nov/2026:{hour:02}:{minute:02}:00 +0000] \"GET {path}?q=1 HTTP/1.1\" {status} {bytes} \"{referrer}\" \"{agent}\" https harbour.example {duration} {encoding} \"rule 1\" {}\n",
                MONDAY + i64::from(day - 16) * DAY + i64::from(hour) * 3_600_000 + i64::from(minute) * 60_000
            )
        })
    }

    proptest! {
        /// Whatever a report can show: a figure that is counted and not written would be missing here.
        #[test]
        fn days_that_were_written_are_the_whole(lines in proptest::collection::vec(line(), 0..80)) {
            let lines = lines.concat();
            let whole = survey(&lines, Scope::default());
            let mut read = Survey::default();
            for day in [1, 0, 2] {
                let from = MONDAY + day * DAY;
                let scope = Scope { from: Some(from), until: Some(from + DAY), ..Scope::default() };
                let day = survey(&lines, scope);
                for part in StoredPart::all() {
                    read.take_in_written(part, &day.written(part)).unwrap();
                }
            }
            let json = |survey: &Survey| {
                let shown = crate::survey::report::Shown::everything();
                let options = ReportOptions { shown, ..ReportOptions::default() };
                serde_json::to_string(&Report::new(survey, &plan(), &options, None)).unwrap()
            };
            prop_assert_eq!(json(&read), json(&whole));
        }

        #[test]
        fn what_is_cut_off_is_damaged(lines in proptest::collection::vec(line(), 1..20)) {
            let day = survey(&lines.concat(), Scope::default());
            for part in StoredPart::all() {
                let written = day.written(part);
                prop_assert_eq!(Survey::default().take_in_written(part, &written[..written.len() - 1]), Err(Damaged));
            }
        }
    }
}
