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
            row(&[&"day", &"requests", &"visitors", &"bytes", &"errors"]);
            report
                .by_day
                .iter()
                .for_each(|day| row(&[&day.day, &day.requests, &day.visitors, &day.bytes, &day.errors]));
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
