//! The calls of the API.

use super::blocking::{blocking, working};
use super::caller::{Caller, Console};
use super::counting::make_survey;
use super::failure::{Failure, problem};
use super::query::{Asked, Parameters, SitesQuery};
use super::sign_in;
use crate::active::Active;
use crate::logs::journal::Journal;
use crate::logs::journal::generations::generations;
use crate::system::threads;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use exedra_answering::config::SiteId;
use exedra_answering::config::allowance::AtAllowance;
use exedra_api::{LogStatus, Now, RecordsStatus, SiteStatus, Status};
use exedra_common::Column;
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_reading::classify::Classifier;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{ReportOptions, Step};
use exedra_store::PublicationState;
use exedra_store::records::snapshot::Recorded;
use std::sync::Arc;

/// How many of the last requests are shown.
const LATEST: usize = 30;
/// How far the records may be behind the logs until that is said, in seconds.
const BEHIND: i64 = 300;
/// How many clients of the last hour are named.
const HERE: usize = 8;
const HOUR: i64 = 3_600_000;

/// Anything else below `/api/v1`.
pub async fn unknown(State(console): State<Arc<Console>>, headers: HeaderMap) -> Result<Response, Failure> {
    if sign_in::known(&console, &headers).await?.is_none() {
        return Ok(sign_in::not_signed_in());
    }
    Ok(problem(StatusCode::NOT_FOUND, "There is no such call", "/api/v1/openapi.json lists what there is."))
}

/// How the service is.
#[utoipa::path(get, path = "/status", responses((status = 200, body = Status)))]
pub async fn status(caller: Caller) -> Result<Json<Status>, Failure> {
    blocking(move || {
        let console = caller.console();
        let current = console.site()?;
        let config = &current.config;
        let seen = config.sites.iter().zip(&current.logs);
        let seen = seen.filter(|(site, _)| caller.grant().sees(&site.name.value));
        let sites = seen.map(|(site, log)| SiteStatus {
            name: site.name.value.clone(),
            hosts: site.hosts.iter().map(|host| host.value.clone()).collect(),
            main_host: site.main_host.as_ref().map(|host| host.value.clone()),
            folder: site.root().map(|folder| folder.display().to_string()),
            log: log.appender.as_ref().map(|appender| log_status(&caller, &current, &appender.journal)),
        });
        let (answered, sent) = console.runtime.counters.sum();
        Ok(Status {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            started: console.started.to_string(),
            time_zone: config.service.time_zone.iana_name().unwrap_or("UTC").to_owned(),
            listeners: console.runtime.addresses().iter().map(ToString::to_string).collect(),
            answered,
            sent,
            connections: console.runtime.connections(),
            most_connections: current.division.connections as u64,
            files: current.open_files.count().0 as u64,
            most_files: current.open_files.count().1 as u64,
            // They name what is of no concern to whoever sees some sites alone.
            troubles: if caller.sees_all() { troubles(console, &current) } else { Vec::new() },
            sites: sites.collect(),
            no_site: current
                .no_site
                .appender
                .as_ref()
                .filter(|_| caller.sees_all())
                .map(|appender| log_status(&caller, &current, &appender.journal)),
            errors: log_status(&caller, &current, &current.errors.appender.journal),
            records: records_status(&caller),
        })
    })
    .await
}

fn records_status(caller: &Caller) -> RecordsStatus {
    let (seen, _) = caller.snapshot(&Scope::default());
    RecordsStatus {
        requests: seen.requests() as u64,
        first: seen
            .first()
            .and_then(|time| jiff::Timestamp::from_millisecond(time).ok())
            .map(|time| time.to_string()),
        segments: seen.segments().len() as u64,
        kept_surveys: seen.kept().len() as u64,
    }
}

/// What is wrong with the databases, what has failed, and what folders say that cannot be understood.
pub(super) fn troubles(console: &Console, site: &Active) -> Vec<String> {
    let (records, damages) = console.trouble();
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
    let now = jiff::Timestamp::now().as_second();
    let behind =
        Some(console.behind(now)).filter(|seconds| *seconds > BEHIND && !site.config.alerts.is_empty());
    let behind = behind.map(|seconds| {
        format!(
            "the records are {} minutes behind the logs: alerts wait until everything is read",
            seconds / 60
        )
    });
    let held_back = site.config.sites.iter().enumerate().filter_map(|(nth, one)| {
        let in_force = site.allowance.in_force(&site.config, SiteId(nth));
        (in_force != AtAllowance::Tell).then(|| {
            format!("the month's allowance of `{}` is used up, which means: {in_force}", one.name.value)
        })
    });
    let of_sending = held_back.chain(behind).chain(console.outbox.troubles(now));
    let of_changes = console.acting.publications(1).unwrap_or_default();
    let failing = of_changes.into_iter().filter(|change| change.state == PublicationState::Failing);
    let of_changes = failing.map(|change| {
        format!(
            "the change of revision {} fails more than its rehearsal promised: {}",
            change.revision, change.said
        )
    });
    let of_console = of_sending.chain(of_changes);
    words.chain(damages).chain(threads::troubles()).chain(of_folders).chain(of_console).collect()
}

fn log_status(caller: &Caller, site: &Active, journal: &Journal) -> LogStatus {
    let mut status = LogStatus {
        file: journal.path().display().to_string(),
        recorded: caller.requests_of(&journal.name),
        unread: 0,
        lag: 0,
        lost: journal.lost(),
        trouble: journal.trouble(),
    };
    let is_read = site.config.service.records && journal.name != site.errors.appender.journal.name;
    for generation in generations(journal.folder(), &journal.name).unwrap_or_default() {
        let checkpoint = caller.checkpoint(&generation.name);
        status.unread += checkpoint.unread;
        if is_read && !generation.is_whole(checkpoint.octets) {
            status.lag += generation.length().unwrap_or_default().saturating_sub(checkpoint.octets);
        }
    }
    status
}

/// What is going on.
#[utoipa::path(get, path = "/now", params(SitesQuery), responses((status = 200, body = Now)))]
pub async fn now(caller: Caller, Parameters(query): Parameters<SitesQuery>) -> Result<Json<Now>, Failure> {
    let time = jiff::Timestamp::now().as_millisecond();
    let sites = caller.sites(query.site, &caller.console().site()?.config)?;
    working(move |work| {
        let console = caller.console();
        let scope = Scope { sites: sites.clone(), from: Some(time - HOUR), ..Scope::default() };
        let all = Scope { sites, ..Scope::default() };
        let shown = Shown::understand(&["totals", "classes", "timeline", "clients"])
            .map_err(|_| Failure::Internal)?;
        let options = ReportOptions { shown, top: HERE, ..ReportOptions::default() };
        let asked = Asked { scope, step: Some(Step::Minute), options, ..Asked::default() };
        let report = make_survey(&caller, &asked, work)?;
        let (seen, records) = caller.snapshot(&all);
        let latest = seen.latest(records, LATEST)?;
        let (answered, sent) = console.runtime.counters.sum();
        Ok(Now {
            time,
            answered,
            sent,
            minutes: report.table("timeline").clone(),
            totals: report.table("totals").clone(),
            classes: report.table("classes").clone(),
            clients: report.table("clients").clone(),
            latest: requests(&latest, &*console.site()?),
        })
    })
    .await
}

/// Single requests, with all that is known of them.
fn requests(recorded: &[Recorded], site: &Active) -> Table {
    let mut table = Table::of_requests("requests", "Last requests", Column::all());
    let classifier = Classifier { countries: site.countries.clone() };
    let place = table.place("site");
    for one in recorded {
        let (batch, texts) = &*one.requests;
        table.push_request(batch, one.row, texts, &classifier);
        if let (Some(row), Some(place)) = (table.rows.last_mut(), place) {
            row[place] = (&*one.site).into();
        }
    }
    table
}
