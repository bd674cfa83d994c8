//! The call that gives a scope as a file to download: one page for a browser, JSON, or a section for spreadsheets.

use super::blocking::working;
use super::caller::Caller;
use super::counting::make_survey;
use super::failure::{Failure, Named};
use super::query::{ReportForm, ScopeQuery, Scoped, SurveyQuery, asked};
use super::reading::About;
use crate::jobs::reports::page;
use axum::Json;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use exedra_common::tables::csv;
use exedra_reading::survey::Report;

/// A scope as a file: `html`, `json`, or `csv` of one section.
#[utoipa::path(get, path = "/report/{form}", params(("form" = inline(ReportForm), Path), ScopeQuery, SurveyQuery),
    responses((status = 200, description = "the report, in the form that was asked for: HTML and CSV are texts",
        content((Report = "application/json"), (String = "text/html"), (String = "text/csv")))))]
pub async fn report(
    caller: Caller,
    Named(form): Named<ReportForm>,
    Scoped(about, query): Scoped<SurveyQuery>,
) -> Result<Response, Failure> {
    let About { scope, zone, active, now } = About::understand(&caller, about)?;
    let sites = if scope.sites.is_empty() { "all-sites".to_owned() } else { scope.sites.join("-") };
    let section = match (form, query.show.as_slice()) {
        (ReportForm::Csv, [one]) => one.clone(),
        (ReportForm::Csv, _) => {
            let words = "a spreadsheet holds one section: name it, as in `show=paths`";
            return Err(Failure::Wrong(words.to_owned()));
        }
        _ => String::new(),
    };
    let asked = asked(query, (scope, zone), caller.hosts(&active.config), now)?;
    let made = working(move |work| {
        let report = make_survey(&caller, &asked, work)?;
        written(form, &report, &section, &sites)
    });
    let Json((name, media_type, text)) = made.await?;
    let disposition = format!("attachment; filename=\"{name}\"");
    let mut response = text.into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(media_type));
    headers.insert(
        header::CONTENT_DISPOSITION,
        HeaderValue::from_str(&disposition).map_err(|_| Failure::Internal)?,
    );
    Ok(response)
}

/// The name of the file, its media type, and what is in it.
fn written(
    form: ReportForm,
    report: &Report,
    section: &str,
    sites: &str,
) -> Result<(String, &'static str, String), Failure> {
    let json = |report| serde_json::to_string(report).map_err(|_| Failure::Internal);
    Ok(match form {
        ReportForm::Html => {
            let page = page::page(&json(report)?, sites, None);
            let page = page.map_err(|error| Failure::Conflict(error.to_string()))?;
            (format!("report-{sites}.html"), "text/html; charset=utf-8", page)
        }
        ReportForm::Json => (format!("report-{sites}.json"), "application/json", json(report)?),
        ReportForm::Csv => {
            let table = csv::table(report.table(section));
            (format!("{section}-{sites}.csv"), "text/csv; charset=utf-8", table)
        }
    })
}
