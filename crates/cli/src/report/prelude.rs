//! `exedra report --prelude 5xx`: what was different before, and in, a burst of errors or slowness.

use crate::failure::Failure;
use crate::out::{QUIET, STRONG, TROUBLE};
use crate::show::fit::shorten;
use crate::sources::filtered::Filtered;
use crate::sources::reading::{self, ReadAll};
use crate::sources::{Asked, Progress};
use exedra_common::Projection;
use exedra_common::figures::{grouped, several};
use exedra_common::scope::RowFilter;
use exedra_reading::prelude::minutes::Burst;
use exedra_reading::prelude::{MINUTE, Minutes, Prelude, Preludes, Tallies, Trouble, USUAL_BURSTS, preludes};
use exedra_reading::survey::SurveyPlan;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::sync::Arc;
use unicode_width::UnicodeWidthStr;

/// Reads twice, and gives what was found; and what the first reading could not read. Links from hosts of one's own say nothing. Of a
/// masked one no client is named.
pub fn found(
    asked: &Asked,
    plan: &SurveyPlan,
    of: &str,
    top: Option<usize>,
    masked: bool,
    own_hosts: &[String],
) -> Result<(Preludes, ReadAll<(Minutes, u64)>), Failure> {
    if asked.files.iter().any(|begun| begun.file.path.is_none()) {
        let words = "a prelude reads its logs twice, and standard input can be read only once: write it to a file first";
        return Err(Failure(words.to_owned()));
    }
    let (trouble, stretch) = Trouble::with_stretch(of, plan.slow, &plan.zone)?;
    let filtered: Projection = plan.scope.columns().collect();
    let (first, second) = (Minutes::projection().with(filtered), Tallies::projection().with(filtered));
    let progress = Progress::of(&asked.files);
    let filter = || RowFilter::new(plan.scope.clone(), Arc::new(plan.classifier()));
    let count = || {
        Filtered::new(filter(), Minutes::default(), |minutes: &mut Minutes, batch, row, _, _| {
            minutes.add(batch, row, trouble);
        })
    };
    let mut first_read = reading::read(asked, first, &progress, count)?;
    drop(progress);
    let mut minutes = Minutes::default();
    first_read.made.drain(..).for_each(|(share, _)| minutes.merge(share));
    let bursts: Vec<Burst> = match stretch {
        Some((from, until)) => vec![minutes.stretch(from, until)],
        None => minutes.bursts(top.unwrap_or(USUAL_BURSTS), &plan.zone),
    };
    let mut found = Vec::new();
    if let Some(span) = minutes.span().filter(|_| !bursts.is_empty()) {
        let empty = Tallies::new(&bursts, trouble, span, &plan.zone, own_hosts);
        let progress = Progress::of(&asked.files);
        let tally = || {
            Filtered::new(filter(), empty.clone(), |tallies: &mut Tallies, batch, row, texts, _| {
                tallies.add(batch, row, texts);
            })
        };
        let read = reading::read(asked, second, &progress, tally)?;
        let mut tallies = empty.clone();
        read.made.into_iter().for_each(|(share, _)| tallies.merge(share));
        found = preludes(bursts, &tallies, trouble, masked);
    }
    let told = Preludes { trouble: trouble.words(), time_zone: zone_name(&plan.zone), bursts: found };
    Ok((told, first_read))
}

/// For people, or for programs.
pub fn words(told: &Preludes, as_json: bool) -> Result<String, Failure> {
    if as_json {
        return Ok(serde_json::to_string_pretty(told)? + "\n");
    }
    let zone = TimeZone::get(&told.time_zone).unwrap_or(TimeZone::UTC);
    Ok(page(&told.bursts, &told.trouble, &zone, crate::show::fit::width()))
}

fn zone_name(zone: &TimeZone) -> String {
    zone.iana_name().unwrap_or("UTC").to_owned()
}

fn page(found: &[Prelude], words: &str, zone: &TimeZone, width: usize) -> String {
    let mut lines = Vec::new();
    if found.is_empty() {
        lines.push(format!("There is no burst of {words} in this period."));
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
        let of_all = match burst.troubled == burst.requests {
            true => grouped(burst.requests),
            false => {
                format!("{TROUBLE}{}{TROUBLE:#} of {}", grouped(burst.troubled), grouped(burst.requests))
            }
        };
        if burst.daily {
            let days = several(burst.times, "day", "days");
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
