//! One section of a report as comma-separated values (RFC 4180).

use super::text::Entry;
use crate::Failure;
use exedra_core::survey::{Measure, SurveyReport};
use std::fmt::Display;

/// One section, with its heading.
pub fn table(report: &SurveyReport, section: &str) -> Result<String, Failure> {
    let mut rows = Rows::default();
    let mut row = |cells: &[&dyn Display]| rows.add(cells);
    match section {
        "days" => {
            row(&[&"day", &"requests", &"visitors", &"bytes", &"errors", &"visits"]);
            report.by_day.iter().for_each(|day| {
                row(&[&day.day, &day.requests, &day.visitors, &day.bytes, &day.errors, &day.visits])
            });
        }
        "hours" => {
            row(&[&"hour", &"requests", &"bytes"]);
            report.by_hour.iter().for_each(|hour| row(&[&hour.hour, &hour.requests, &hour.bytes]));
        }
        "statuses" => {
            row(&[&"status", &"requests", &"bytes"]);
            report.by_status.iter().for_each(|entry| row(&[&entry.status, &entry.requests, &entry.bytes]));
        }
        "paths" => {
            rows.ranked(
                "path",
                report.by,
                report.paths.iter().map(|entry| (&*entry.path, Entry::from(entry))),
            );
        }
        "clients" => {
            rows.ranked(
                "client",
                report.by,
                report.clients.iter().map(|entry| (&*entry.client, Entry::from(entry))),
            );
        }
        "missing" => {
            row(&[&"path", &"referrer", &"requests"]);
            for page in &report.missing {
                row(&[&page.path, &"", &page.without_referrer]);
                page.referrers.iter().for_each(|from| row(&[&page.path, &from.referrer, &from.requests]));
            }
        }
        "visits" => {
            let visits = &report.visits;
            row(&[&"visits", &"short", &"pages", &"seconds", &"middle_seconds", &"by_crawlers"]);
            row(&[
                &visits.visits,
                &visits.short,
                &visits.pages,
                &visits.seconds,
                &visits.middle_seconds,
                &visits.by_crawlers,
            ]);
        }
        "months" => {
            row(&[&"month", &"requests", &"visitors", &"bytes", &"errors"]);
            for month in &report.by_month {
                row(&[&month.month, &month.requests, &month.visitors, &month.bytes, &month.errors]);
            }
        }
        "weekdays" => {
            row(&[&"weekday", &"requests", &"bytes"]);
            report.by_weekday.iter().for_each(|day| row(&[&day.weekday, &day.requests, &day.bytes]));
        }
        "movers" => {
            row(&[&"path", &"before", &"now"]);
            let movers = report.against.iter().flat_map(|other| &other.movers);
            movers.for_each(|mover| row(&[&mover.path, &mover.before, &mover.now]));
        }
        "slow" => {
            row(&[&"path", &"requests", &"slow", &"p50_ms", &"p90_ms", &"p99_ms", &"total_ms"]);
            for path in &report.slow.paths {
                let figures: [&dyn Display; 7] = [
                    &path.path,
                    &path.requests,
                    &path.slow,
                    &path.p50_ms,
                    &path.p90_ms,
                    &path.p99_ms,
                    &path.total_ms,
                ];
                row(&figures);
            }
        }
        "slow_minutes" => {
            row(&[&"minute", &"slow"]);
            report.slow.minutes.iter().for_each(|minute| row(&[&minute.minute, &minute.slow]));
        }
        "encodings" => {
            row(&[&"encoding", &"requests", &"bytes", &"saved"]);
            for coding in &report.encodings {
                row(&[&coding.encoding, &coding.requests, &coding.bytes, &coding.saved]);
            }
        }
        name => {
            let entries = report.lists.get(name).into_iter().flat_map(|list| &list.entries);
            rows.ranked("value", report.by, entries.map(|entry| (&*entry.value, Entry::from(entry))));
        }
    }
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for row in &rows.0 {
        out.write_record(row)?;
    }
    let octets = out.into_inner().map_err(|error| Failure(error.to_string()))?;
    String::from_utf8(octets).map_err(Failure::from)
}

/// The rows of a table, as text.
#[derive(Default)]
struct Rows(Vec<Vec<String>>);

impl Rows {
    fn add(&mut self, cells: &[&dyn Display]) {
        self.0.push(cells.iter().map(|cell| harmless(cell.to_string())).collect());
    }

    /// Entries of a list, with what they are ranked by where that is neither requests nor bytes.
    fn ranked<'e>(&mut self, name: &str, by: Measure, entries: impl Iterator<Item = (&'e str, Entry<'e>)>) {
        match by {
            Measure::Requests | Measure::Bytes => self.add(&[&name, &"requests", &"bytes"]),
            Measure::Visitors | Measure::Time => self.add(&[&name, &"requests", &"bytes", &by.figure()]),
        }
        for (value, Entry { requests, bytes, measured, .. }) in entries {
            match (measured.visitors, measured.time_ms) {
                (Some(visitors), _) => self.add(&[&value, &requests, &bytes, &visitors]),
                (None, Some(time)) => self.add(&[&value, &requests, &bytes, &time]),
                (None, None) => self.add(&[&value, &requests, &bytes]),
            }
        }
    }
}

/// A text that no spreadsheet takes for a formula.
fn harmless(text: String) -> String {
    let is_number = text.parse::<f64>().is_ok();
    if !is_number && text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_cannot_write_formulas() {
        assert_eq!(harmless("=1+1".to_owned()), "'=1+1");
        assert_eq!(harmless("@SUM(A1)".to_owned()), "'@SUM(A1)");
        assert_eq!(harmless("-7".to_owned()), "-7");
        assert_eq!(harmless("/a,b".to_owned()), "/a,b");
    }
}
