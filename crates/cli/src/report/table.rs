//! One section of a report as comma-separated values (RFC 4180).

use crate::Failure;
use exedra_core::survey::SurveyReport;

/// One section, with its heading.
pub fn table(report: &SurveyReport, section: &str) -> Result<String, Failure> {
    let mut rows: Vec<Vec<String>> = Vec::new();
    let mut row = |cells: &[&dyn std::fmt::Display]| {
        rows.push(cells.iter().map(|cell| harmless(cell.to_string())).collect());
    };
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
            row(&[&"path", &"requests", &"bytes"]);
            report.paths.iter().for_each(|entry| row(&[&entry.path, &entry.requests, &entry.bytes]));
        }
        "clients" => {
            row(&[&"client", &"requests", &"bytes"]);
            report.clients.iter().for_each(|entry| row(&[&entry.client, &entry.requests, &entry.bytes]));
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
                let figures: [&dyn std::fmt::Display; 7] = [
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
            row(&[&"value", &"requests", &"bytes"]);
            let list = report.lists.get(name);
            let entries = list.into_iter().flat_map(|list| &list.entries);
            entries.for_each(|entry| row(&[&entry.value, &entry.requests, &entry.bytes]));
        }
    }
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for row in &rows {
        out.write_record(row)?;
    }
    let octets = out.into_inner().map_err(|error| Failure(error.to_string()))?;
    String::from_utf8(octets).map_err(Failure::from)
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
