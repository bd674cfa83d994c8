//! The calls of the API.

use super::Console;
use super::failure::{Failure, problem};
use super::query::{Asked, asked};
use crate::journal::Journal;
use crate::journal::generations::generations;
use crate::site::Site;
use crate::threads;
use axum::Json;
use axum::extract::{RawQuery, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use exedra_api::{LogStatus, Now, Problem, Request, SiteStatus, Status};
use exedra_core::logs::{Column, TextColumn};
use exedra_core::scope::Scope;
use exedra_core::survey::{Step, SurveyPlan, SurveyReport, SurveyWorker, Surveys};
use exedra_store::StoreError;
use exedra_store::records::snapshot::Recorded;
use std::sync::Arc;
use utoipa::OpenApi;

/// How many of the last requests are shown.
const LATEST: usize = 30;
const HOUR: i64 = 3_600_000;

/// Anything else below `/api`.
pub async fn unknown() -> Response {
    problem(StatusCode::NOT_FOUND, "There is no such call", "/api/openapi.json lists what there is.")
}

/// The description of the API, from which the console's types are made.
#[derive(OpenApi)]
#[openapi(
    info(title = "Exedra", description = "The API of the console"),
    paths(
        status,
        now,
        survey,
        super::sites::sites,
        super::sites::explain,
        super::sites::check,
        super::sites::reload,
        super::sites::revisions,
        super::sites::restore,
    ),
    components(schemas(Problem))
)]
pub struct Description;

/// The description of the API.
pub async fn openapi() -> Response {
    let json = Description::openapi().to_json().unwrap_or_default();
    ([(header::CONTENT_TYPE, "application/json")], json).into_response()
}

/// How the service is.
#[utoipa::path(get, path = "/api/status", responses((status = 200, body = Status), (status = 401, body = Problem)))]
pub async fn status(State(console): State<Arc<Console>>) -> Result<Json<Status>, Failure> {
    let console = Arc::clone(&console);
    blocking(move || {
        let current = console.site()?;
        let config = &current.config;
        let sites = config.sites.iter().zip(&current.logs).map(|(site, log)| SiteStatus {
            name: site.name.value.clone(),
            hosts: site.hosts.iter().map(|host| host.value.clone()).collect(),
            main_host: site.main_host.as_ref().map(|host| host.value.clone()),
            folder: site.root().map(|folder| folder.display().to_string()),
            log: log.appender.as_ref().map(|appender| log_status(&console, &current, &appender.journal)),
        });
        let (answered, sent) = console.house.counters.sum();
        Ok(Status {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            started: console.started.to_string(),
            time_zone: config.service.time_zone.iana_name().unwrap_or("UTC").to_owned(),
            listeners: console.house.addresses().iter().map(ToString::to_string).collect(),
            answered,
            sent,
            connections: console.house.connections(),
            most_connections: current.division.connections as u64,
            files: current.open_files.count().0 as u64,
            most_files: current.open_files.count().1 as u64,
            troubles: troubles(&console, &current),
            sites: sites.collect(),
            no_site: current
                .no_site
                .appender
                .as_ref()
                .map(|appender| log_status(&console, &current, &appender.journal)),
            errors: log_status(&console, &current, &current.errors.appender.journal),
        })
    })
    .await
}

/// What is wrong with the databases, what has failed, and what folders say that cannot be understood.
fn troubles(console: &Console, site: &Site) -> Vec<String> {
    let (records, damages) = console.records.trouble();
    let all = [
        (
            "requests.db",
            records,
            "what is undamaged in it has been brought over, the rest is read again from the logs that are kept; delete it when you have what you need",
        ),
        (
            "exedra.db",
            console.secrets.trouble(),
            "what is undamaged in it has been brought over; sessions may have ended and earlier configurations be missing; delete it when you have what you need",
        ),
    ];
    let words = all.into_iter().flat_map(|(name, trouble, remedy)| {
        let unusable = trouble.unusable.map(|reason| {
            format!("{name} cannot be used: {reason}; the sites are not affected, and it is tried again")
        });
        let aside = trouble
            .set_aside
            .into_iter()
            .map(move |path| format!("{name} was damaged and is set aside as {}: {remedy}", path.display()));
        unusable.into_iter().chain(aside)
    });
    let of_folders = site.folders.troubles(&site.disk, &site.config);
    words.chain(damages).chain(threads::troubles()).chain(of_folders).collect()
}

fn log_status(console: &Console, site: &Site, journal: &Journal) -> LogStatus {
    let mut status = LogStatus {
        file: journal.path().display().to_string(),
        recorded: console.records.requests_of(&journal.name),
        unread: 0,
        lag: 0,
        lost: journal.lost(),
        trouble: journal.trouble(),
    };
    let is_read = site.config.service.records && journal.name != site.errors.appender.journal.name;
    for generation in generations(journal.folder(), &journal.name).unwrap_or_default() {
        let checkpoint = console.records.checkpoint(&generation.name);
        status.unread += checkpoint.unread;
        if is_read && !generation.is_whole(checkpoint.octets) {
            status.lag += generation.length().unwrap_or_default().saturating_sub(checkpoint.octets);
        }
    }
    status
}

/// What is going on.
#[utoipa::path(get, path = "/api/now",
    params(("site" = Option<String>, Query, description = "name of a site; may be repeated")),
    responses((status = 200, body = Now), (status = 400, body = Problem), (status = 401, body = Problem)))]
pub async fn now(
    State(console): State<Arc<Console>>,
    RawQuery(query): RawQuery,
) -> Result<Json<Now>, Failure> {
    let time = jiff::Timestamp::now().as_millisecond();
    let sites = asked(&query.unwrap_or_default(), &console.site()?.config, time)?.scope.sites;
    blocking(move || {
        let scope = Scope { sites: sites.clone(), from: Some(time - HOUR), ..Scope::default() };
        let all = Scope { sites, ..Scope::default() };
        let asked = Asked { scope, step: Some(Step::Minute), ..Asked::default() };
        let report = make_survey(&console, &asked)?;
        let latest = console.records.snapshot().within(&all).latest(&console.records, LATEST)?;
        let (answered, sent) = console.house.counters.sum();
        Ok(Now {
            time,
            answered,
            sent,
            minutes: report.timeline,
            totals: report.totals,
            by_class: report.by_class,
            latest: latest.iter().map(request).collect(),
        })
    })
    .await
}

/// Everything counted over a scope.
#[utoipa::path(get, path = "/api/survey",
    params(
        ("site" = Option<String>, Query, description = "name of a site; may be repeated"),
        ("from" = Option<String>, Query, description = "first instant or day that counts"),
        ("until" = Option<String>, Query, description = "first instant or day that no longer counts"),
        ("last" = Option<String>, Query, description = "a stretch up to now, as in `7 days`"),
        ("only" = Option<String>, Query, description = "column=value; may be repeated"),
        ("without" = Option<String>, Query, description = "column=value; may be repeated"),
        ("step" = Option<String>, Query, description = "minute, hour or day"),
        ("top" = Option<usize>, Query, description = "length of the lists"),
    ),
    responses((status = 200, body = SurveyReport), (status = 400, body = Problem), (status = 401, body = Problem)))]
pub async fn survey(
    State(console): State<Arc<Console>>,
    RawQuery(query): RawQuery,
) -> Result<Json<SurveyReport>, Failure> {
    let now = jiff::Timestamp::now().as_millisecond();
    let asked = asked(&query.unwrap_or_default(), &console.site()?.config, now)?;
    blocking(move || make_survey(&console, &asked)).await
}

fn make_survey(console: &Console, asked: &Asked) -> Result<SurveyReport, Failure> {
    let site = console.site()?;
    let zone = site.config.service.time_zone.clone();
    let plan = SurveyPlan {
        step: asked.step,
        countries: site.countries.clone(),
        ..SurveyPlan::new(asked.scope.clone(), zone, console.key)
    };
    let surveys = Surveys::new(std::slice::from_ref(&plan));
    let mut worker = SurveyWorker::new(&surveys);
    let snapshot = console.records.snapshot().within(&asked.scope);
    snapshot.read::<StoreError>(&console.records, plan.projection(), |_, part| {
        worker.fill(|batch, texts| part.append_to(batch, texts))
    })?;
    worker.finish();
    let survey = surveys.finish().pop().unwrap_or_default();
    Ok(SurveyReport::new(&survey, &plan, &asked.options))
}

fn request(recorded: &Recorded) -> Request {
    let (batch, texts) = &*recorded.requests;
    let row = recorded.row;
    let text = |column| batch.code(column, row).map(|code| texts.of(column).text(code).to_owned());
    Request {
        time: recorded.time(),
        site: recorded.site.to_string(),
        client: text(TextColumn::Client),
        method: text(TextColumn::Method),
        path: text(TextColumn::Path),
        status: batch.status[row],
        bytes: batch.number(Column::Bytes, row),
        duration_us: batch.number(Column::Duration, row),
        referrer: text(TextColumn::Referrer),
        agent: text(TextColumn::Agent),
    }
}

/// Reads records away from the threads that serve.
pub(super) async fn blocking<T: Send + 'static>(
    run: impl FnOnce() -> Result<T, Failure> + Send + 'static,
) -> Result<Json<T>, Failure> {
    tokio::task::spawn_blocking(run).await.map_err(|_| Failure::Internal)?.map(Json)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The console's types are made from this file: `cargo xtask types` writes both anew.
    #[test]
    fn the_description_is_the_one_the_console_was_made_from() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let now = Description::openapi().to_pretty_json().unwrap() + "\n";
        if std::env::var_os("EXEDRA_WRITE_DESCRIPTION").is_some() {
            std::fs::write(path, &now).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == now, "run `cargo xtask types`");
    }
}
