//! Reports that were made by themselves, and up to when.

use super::Watching;
use super::messages::{self, NewMessage};
use crate::database::StoreError;
use crate::schema::{report_runs, report_schedules};
use diesel::prelude::*;

/// How many reports of a name are listed; of how many the files are kept.
pub const MOST_RUNS: i64 = 400;
/// See [`MOST_RUNS`].
pub const MOST_FILES: i64 = 60;

/// A report that was made, or was to be.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReportRun {
    /// Its number; later ones have greater ones. It is given by what is there.
    pub number: i32,
    /// The report.
    pub report: String,
    /// When it was to be made, in seconds since 1970 UTC.
    pub due: i64,
    /// When it was, in seconds since 1970 UTC.
    pub made: i64,
    /// What it is about, as in 2026-09-14..2026-09-21.
    pub days: String,
    /// It, in some lines.
    pub summary: String,
    /// Its file, while that is kept.
    pub file: Option<String>,
    /// How large that is.
    pub octets: i64,
    /// Why it could not be made.
    pub failure: Option<String>,
    /// Who wanted it at once; empty where it was its time.
    pub made_by: String,
}

type Row = (i32, String, i64, i64, String, String, Option<String>, i64, Option<String>, String);

impl Watching {
    /// Up to when a report has been made, in seconds since 1970 UTC: from now on where nothing is known of it.
    pub fn made_until(&self, report: &str, now: i64) -> Result<i64, StoreError> {
        self.0.run(|connection| {
            let new = (report_schedules::report.eq(report), report_schedules::done.eq(now));
            diesel::insert_or_ignore_into(report_schedules::table).values(new).execute(connection)?;
            Ok(report_schedules::table.find(report).select(report_schedules::done).first(connection)?)
        })
    }

    /// Forgets schedules of reports that are not among these: they are no longer configured.
    pub fn forget_other_reports(&self, names: &[&str]) -> Result<(), StoreError> {
        self.0.run(|connection| {
            let others = report_schedules::table.filter(report_schedules::report.ne_all(names));
            diesel::delete(others).execute(connection)?;
            Ok(())
        })
    }

    /// Writes down that a report was made, with the messages that it is sent by; or that it could not be, once for each time. Gives its
    /// number, and the files that are no longer kept.
    pub fn add_run(
        &self,
        run: &ReportRun,
        messages: &[NewMessage],
        now: i64,
    ) -> Result<(i32, Vec<String>), StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let of_report = report_runs::report.eq(&run.report);
                let failed_before = report_runs::due.eq(run.due).and(report_runs::failure.is_not_null());
                diesel::delete(report_runs::table.filter(of_report.and(failed_before)))
                    .execute(connection)?;
                let row = (
                    report_runs::report.eq(&run.report),
                    report_runs::due.eq(run.due),
                    report_runs::made.eq(run.made),
                    report_runs::days.eq(&run.days),
                    report_runs::summary.eq(&run.summary),
                    report_runs::file.eq(&run.file),
                    report_runs::octets.eq(run.octets),
                    report_runs::failure.eq(&run.failure),
                    report_runs::made_by.eq(&run.made_by),
                );
                let number: i32 = diesel::insert_into(report_runs::table)
                    .values(row)
                    .returning(report_runs::number)
                    .get_result(connection)?;
                if run.failure.is_none() && run.made_by.is_empty() {
                    let done = report_schedules::done.eq(run.due);
                    diesel::update(report_schedules::table.find(&run.report))
                        .set(done)
                        .execute(connection)?;
                }
                messages
                    .iter()
                    .try_for_each(|message| messages::write(connection, message, now).map(drop))?;
                let newest = report_runs::table.filter(of_report).order(report_runs::number.desc());
                let old: Option<i32> =
                    newest.select(report_runs::number).offset(MOST_RUNS).first(connection).optional()?;
                let without: Option<i32> =
                    newest.select(report_runs::number).offset(MOST_FILES).first(connection).optional()?;
                let mut gone = Vec::new();
                if let Some(without) = without {
                    let past = report_runs::table.filter(of_report).filter(report_runs::number.le(without));
                    let files: Vec<Option<String>> = past.select(report_runs::file).load(connection)?;
                    gone.extend(files.into_iter().flatten());
                    diesel::update(past).set(report_runs::file.eq(None::<String>)).execute(connection)?;
                }
                if let Some(old) = old {
                    let past = report_runs::table.filter(of_report).filter(report_runs::number.le(old));
                    diesel::delete(past).execute(connection)?;
                }
                QueryResult::Ok((number, gone))
            })?)
        })
    }

    /// Reports that were made, or were to be, the newest first: so many, before a number where one is given, of one name where one is.
    pub fn runs(
        &self,
        report: Option<&str>,
        before: Option<i32>,
        count: i64,
    ) -> Result<Vec<ReportRun>, StoreError> {
        let rows = self.0.run(|connection| {
            let mut all =
                report_runs::table.filter(report_runs::number.lt(before.unwrap_or(i32::MAX))).into_boxed();
            if let Some(report) = report {
                all = all.filter(report_runs::report.eq(report));
            }
            Ok(all.order(report_runs::number.desc()).limit(count).load::<Row>(connection)?)
        })?;
        Ok(rows.into_iter().map(run).collect())
    }

    /// One of them.
    pub fn run_of(&self, number: i32) -> Result<Option<ReportRun>, StoreError> {
        let row = self
            .0
            .run(|connection| Ok(report_runs::table.find(number).first::<Row>(connection).optional()?))?;
        Ok(row.map(run))
    }
}

fn run(row: Row) -> ReportRun {
    let (number, report, due, made, days, summary, file, octets, failure, made_by) = row;
    ReportRun { number, report, due, made, days, summary, file, octets, failure, made_by }
}
