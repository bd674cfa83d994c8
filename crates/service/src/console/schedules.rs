//! The calls about reports that are made by themselves: when, those that were made, and one made at once.

use super::blocking::{blocking, changing_much};
use super::caller::Caller;
use super::failure::{Failure, Named};
use super::query::{BeforeNumber, Parameters};
use super::recording::ChangeDetail;
use crate::jobs::reports::making::NotMade;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use exedra_acting::schedule::after;
use exedra_api::Problem;
use exedra_api::schedules::{ReportRun, ScheduledReport};
use exedra_common::text::nearest;
use exedra_store::watching::reports as kept;
use jiff::Timestamp;

/// How many reports are given at a time.
const PAGE: i64 = 100;

/// Reports that are made by themselves. They are about all sites: nobody is given any who may see but some.
#[utoipa::path(get, path = "/scheduled-reports", responses((status = 200, body = Vec<ScheduledReport>)))]
pub async fn scheduled_reports(caller: Caller) -> Result<Json<Vec<ScheduledReport>>, Failure> {
    let active = caller.console().site()?;
    let zone = &active.config.service.time_zone;
    let reports = active.config.reports.iter().filter(|_| caller.sees_all());
    let shown = reports.map(|report| ScheduledReport {
        name: report.name.value.clone(),
        every: report.every.to_string(),
        of: report.of.to_string(),
        scope: report.scope.iter().map(ToString::to_string).collect(),
        masked: report.masked,
        tell: report.tell.iter().map(|name| name.value.clone()).collect(),
        folder: report.folder.as_ref().map(|folder| folder.value.display().to_string()),
        next: after(report.every, zone, Timestamp::now()).map(|time| time.to_string()),
    });
    Ok(Json(shown.collect()))
}

/// Reports that were made, or could not be: the latest first.
#[utoipa::path(get, path = "/report-runs", params(BeforeNumber), responses((status = 200, body = Vec<ReportRun>)))]
pub async fn report_runs(
    caller: Caller,
    Parameters(query): Parameters<BeforeNumber>,
) -> Result<Json<Vec<ReportRun>>, Failure> {
    blocking(move || {
        if !caller.sees_all() {
            return Ok(Vec::new());
        }
        let all = caller.console().outbox.watching.runs(None, query.before, PAGE)?;
        Ok(all.into_iter().map(on_wire).collect())
    })
    .await
}

/// A report that was made, as its HTML file.
#[utoipa::path(get, path = "/report-runs/{number}/file", params(("number" = i32, Path)),
    responses((status = 200, description = "the file", content_type = "text/html", body = String), (status = 404, body = Problem)))]
pub async fn report_file(caller: Caller, Named(number): Named<i32>) -> Result<Response, Failure> {
    let found = blocking(move || {
        let missing =
            || Failure::Missing(format!("there is no report {number}, or its file is no longer kept"));
        let run = caller.console().outbox.watching.run_of(number)?.filter(|_| caller.sees_all());
        let run = run.ok_or_else(missing)?;
        let file = run.file.ok_or_else(missing)?;
        let text = std::fs::read_to_string(&file).map_err(|error| {
            Failure::Missing(format!("the file of report {number} cannot be read: {error}"))
        })?;
        Ok((format!("{}-{}.html", run.report.replace(' ', "-"), run.days.replace("..", "-")), text))
    });
    let Json((name, text)) = found.await?;
    let mut response = text.into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    // It is opened from the disk: its scripts are not the console's.
    let disposition = format!("attachment; filename=\"{name}\"");
    headers.insert(
        header::CONTENT_DISPOSITION,
        HeaderValue::from_str(&disposition).map_err(|_| Failure::Internal)?,
    );
    Ok(response)
}

/// A report made now, of the days before today, and sent to its recipients.
#[utoipa::path(post, path = "/scheduled-reports/{name}/run", params(("name" = String, Path)),
    responses((status = 200, body = ReportRun), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn run_report(
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Extension<ChangeDetail>, Json<ReportRun>), Failure> {
    let detail = ChangeDetail(name.clone());
    let done = changing_much(move |work| {
        let active = caller.console().site()?;
        let all = || active.config.reports.iter().filter(|_| caller.sees_all());
        let report = all().find(|report| report.name.value == name).ok_or_else(|| {
            let near = nearest(&name, all().map(|report| report.name.value.as_str()));
            let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
            Failure::Missing(format!("there is no scheduled report `{name}`{near}"))
        })?;
        let goes_on = || work.goes_on().map_err(|_| NotMade::Stopped);
        let made = caller.console().reports.make(report, &active, Timestamp::now(), &caller.name(), &goes_on);
        match made {
            Ok(run) => Ok(on_wire(run)),
            Err(NotMade::Store(error)) => Err(error.into()),
            Err(NotMade::Stopped) => Err(Failure::TooLong),
            Err(error) => Err(Failure::Conflict(error.to_string())),
        }
    });
    Ok((Extension(detail), done.await?))
}

fn on_wire(run: kept::ReportRun) -> ReportRun {
    let second = |second: i64| Timestamp::from_second(second).unwrap_or_default().to_string();
    ReportRun {
        number: run.number,
        report: run.report,
        due: second(run.due),
        made: second(run.made),
        days: run.days,
        summary: run.summary,
        is_kept: run.file.is_some(),
        octets: u64::try_from(run.octets).unwrap_or(0),
        failure: run.failure,
        made_by: Some(run.made_by).filter(|by| !by.is_empty()),
    }
}
