//! `exedra report --prelude 5xx`: what was different before, and in, a burst of errors or slowness.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG, TROUBLE};
use crate::show::fit::shorten;
use crate::sources::reading::{self, ReadAll, Sink};
use crate::sources::{Asked, Progress};
use exedra_common::figures::{grouped, several};
use exedra_common::scope::RowFilter;
use exedra_common::scope::period;
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::prelude::minutes::Burst;
use exedra_reading::prelude::{MINUTE, Minutes, Prelude, Tallies, Trouble, preludes};
use exedra_reading::survey::SurveyPlan;
use exedra_reading::trail::Place;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

/// How many bursts are told, where nobody asked for a number.
const USUAL: usize = 3;

/// A prelude as a program is given it.
#[derive(Serialize)]
struct Told<'p> {
    /// What makes a burst.
    trouble: &'p str,
    time_zone: &'p str,
    bursts: &'p [Prelude],
}

/// How it is told.
#[derive(Clone, Copy)]
pub struct Form {
    /// For programs instead of people.
    pub as_json: bool,
    /// Whether no client is named.
    pub masked: bool,
}

/// Reads twice, and says what was found; and what the first reading could not read. Links from hosts of one's own say nothing.
pub fn told(
    asked: &Asked,
    plan: &SurveyPlan,
    of: &str,
    top: Option<usize>,
    form: Form,
    own_hosts: &[String],
) -> Result<(String, ReadAll<Minutes>), Failure> {
    if asked.files.iter().any(|begun| begun.file.path.is_none()) {
        let words = "a prelude reads its logs twice, and standard input can be read only once: write it to a file first";
        return Err(Failure(words.to_owned()));
    }
    let (trouble, stretch) = understand(of, plan)?;
    let texts = [TextColumn::Client, TextColumn::Path, TextColumn::Referrer, TextColumn::Agent];
    let columns = [NumberColumn::Status, NumberColumn::Duration]
        .map(Column::Number)
        .into_iter()
        .chain(texts.map(Column::Text));
    let first: Projection = [NumberColumn::Status, NumberColumn::Duration]
        .map(Column::Number)
        .into_iter()
        .chain(plan.scope.columns())
        .collect();
    let second: Projection = columns.chain(plan.scope.columns()).collect();
    let progress = Progress::of(&asked.files);
    let count =
        || Follower::new(plan, Minutes::default(), |minutes, batch, row, _| minutes.add(batch, row, trouble));
    let mut first_read = reading::read(asked, first, &progress, count)?;
    drop(progress);
    let mut minutes = Minutes::default();
    first_read.made.drain(..).for_each(|share| minutes.merge(share));
    let bursts: Vec<Burst> = match stretch {
        Some((from, until)) => vec![minutes.stretch(from, until)],
        None => minutes.bursts(top.unwrap_or(USUAL), &plan.zone),
    };
    let mut found = Vec::new();
    if let Some(span) = minutes.span().filter(|_| !bursts.is_empty()) {
        let empty = Tallies::new(&bursts, trouble, span, &plan.zone, own_hosts);
        let progress = Progress::of(&asked.files);
        let tally = || {
            Follower::new(plan, empty.clone(), |tallies, batch, row, texts| tallies.add(batch, row, texts))
        };
        let read = reading::read(asked, second, &progress, tally)?;
        let mut tallies = empty.clone();
        read.made.into_iter().for_each(|share| tallies.merge(share));
        found = preludes(bursts, &tallies, trouble, form.masked);
    }
    let zone = plan.zone.iana_name().unwrap_or("UTC");
    let words = trouble.words();
    let told = match form.as_json {
        true => {
            serde_json::to_string_pretty(&Told { trouble: &words, time_zone: zone, bursts: &found })? + "\n"
        }
        false => page(&found, &words, trouble, &plan.zone, crate::show::fit::width()),
    };
    Ok((told, first_read))
}

/// What makes a burst; and the stretch, where one was named, in minutes.
fn understand(of: &str, plan: &SurveyPlan) -> Result<(Trouble, Option<(i64, i64)>), Failure> {
    if let Some(trouble) = Trouble::understand(of, plan.slow) {
        return Ok((trouble, None));
    }
    let Some((from, until)) = of.split_once("..") else {
        return Err(Failure(format!(
            "`{of}` is nothing that a prelude can be of: write 5xx, 4xx, a status as 404, slow, all, or a stretch of time as in \
             2026-09-14T10:00..2026-09-14T10:20"
        )));
    };
    let instant =
        |text: &str| Ok::<i64, Failure>(period::instant(text.trim(), &plan.zone)?.div_euclid(MINUTE));
    let (from, until) = (instant(from)?, instant(until)?);
    match from < until {
        true => Ok((Trouble::Any, Some((from, until)))),
        false => Err(Failure(format!("`{of}` is no stretch of time: it ends before it begins"))),
    }
}

/// Hands the requests of one thread that are within the scope to somebody who counts.
struct Follower<M, F> {
    row_filter: RowFilter,
    batch: RequestBatch,
    texts: Dictionaries,
    made: M,
    count: F,
}

impl<M, F: FnMut(&mut M, &RequestBatch, usize, &Dictionaries)> Follower<M, F> {
    fn new(plan: &SurveyPlan, made: M, count: F) -> Self {
        let row_filter = RowFilter::new(plan.scope.clone(), std::sync::Arc::new(plan.classifier()));
        Follower { row_filter, batch: RequestBatch::default(), texts: Dictionaries::default(), made, count }
    }
}

impl<M: Send, F: FnMut(&mut M, &RequestBatch, usize, &Dictionaries) + Send> Sink for Follower<M, F> {
    type Made = M;

    fn take(&mut self, _: Place, read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize) -> usize {
        self.batch.clear();
        let octets = read(&mut self.batch, &mut self.texts);
        for row in 0..self.batch.rows() {
            if self.row_filter.keeps(&self.batch, row, &self.texts) {
                (self.count)(&mut self.made, &self.batch, row, &self.texts);
            }
        }
        if self.texts.are_full() {
            self.texts = Dictionaries::default();
            self.row_filter.forget();
        }
        octets
    }

    fn finish(self) -> M {
        self.made
    }
}

fn page(found: &[Prelude], words: &str, trouble: Trouble, zone: &TimeZone, width: usize) -> String {
    let mut lines = Vec::new();
    if found.is_empty() {
        lines.push(format!("There is no burst of {words} in these logs and this period."));
        lines.push(format!(
            "{QUIET}A burst is a run of minutes with far more of them than the hours around.{QUIET:#}"
        ));
    }
    for prelude in found {
        let burst = &prelude.burst;
        let at = |minute: i64, format: &str| {
            let stamp = Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default();
            stamp.to_zoned(zone.clone()).strftime(format).to_string()
        };
        let length = burst.until - burst.from;
        let title = format!(
            "{}, {}",
            at(burst.from, "%a %-d %b %Y %H:%M"),
            several(length as u64, "minute", "minutes")
        );
        if !lines.is_empty() {
            lines.push(String::new());
        }
        let of_all = match trouble {
            Trouble::Any => grouped(burst.requests),
            _ => format!("{TROUBLE}{}{TROUBLE:#} of {}", grouped(burst.troubled), grouped(burst.requests)),
        };
        if burst.daily {
            let days = several(burst.starts.len() as u64, "day", "days");
            let title = format!("{} to {} on {days}", at(burst.from, "%H:%M"), at(burst.until, "%H:%M"));
            lines.push(format!("{STRONG}{title}{STRONG:#}  {of_all} {words}, together"));
            lines.push(format!("  A little every time, the last on {}.", at(burst.from, "%a %-d %b %Y")));
        } else {
            lines.push(format!("{STRONG}{title}{STRONG:#}  {of_all} {words}"));
        }
        if !burst.also_on.is_empty() && !burst.daily {
            let days = several(burst.also_on.len() as u64, "other day", "other days");
            let last = burst.also_on.last().map_or("", String::as_str);
            lines.push(format!("  The same came at the same time on {days}, the last of them {last}."));
        }
        if prelude.evidence.is_empty() {
            lines.push("  Nothing else was out of the ordinary in it, or before.".to_owned());
        }
        for evidence in &prelude.evidence {
            let (said, beside) = evidence.words.split_once("; ").unwrap_or((&evidence.words, ""));
            let surprise = format!("  {QUIET}{:>6.0}{QUIET:#}  ", evidence.surprise);
            match said.width() + beside.width() + 12 <= width {
                true => lines.push(format!("{surprise}{said}; {QUIET}{beside}{QUIET:#}")),
                false => {
                    lines.push(format!("{surprise}{}", shorten(said, width.saturating_sub(10))));
                    lines.push(format!("          {QUIET}{beside}{QUIET:#}"));
                }
            }
        }
        let usual = match prelude.days {
            0 => "No other day in the log has this time; usual is what was there before.".to_owned(),
            _ if burst.daily => "Usual is an hour before and after.".to_owned(),
            days => format!("Usual is the same time on {}.", several(days, "other day", "other days")),
        };
        lines.push(format!("  {QUIET}{usual}{QUIET:#}"));
    }
    if !found.is_empty() {
        lines.push(String::new());
        let note = format!(
            "Times of {}. The figures on the left are bits of surprise.",
            zone.iana_name().unwrap_or("UTC")
        );
        lines.push(format!("{QUIET}{note}{QUIET:#}"));
    }
    lines.join("\n") + "\n"
}
