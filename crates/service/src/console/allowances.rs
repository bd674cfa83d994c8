//! The call about the month's transfer: what was sent, what is expected, and what may be.

use super::blocking::{Work, working};
use super::caller::Caller;
use super::counting::make_survey;
use super::failure::Failure;
use super::query::{Asked, Parameters, SitesQuery};
use crate::jobs::allowances::month::{first_day, month_transfer};
use axum::Json;
use exedra_api::allowances::{Allowances, MonthTransfer};
use exedra_common::scope::Scope;
use exedra_reading::survey::ReportOptions;
use exedra_reading::survey::report::Shown;
use jiff::Zoned;

/// Transfer of the month of some sites together, by their name and what they are allowed.
pub(super) fn month_of(
    caller: &Caller,
    sites: Vec<String>,
    (name, allowance): (Option<&str>, Option<u64>),
    now: &Zoned,
    work: &Work,
) -> Result<MonthTransfer, Failure> {
    let first = first_day(now).to_zoned(now.time_zone().clone()).ok();
    let scope =
        Scope { sites, from: first.map(|first| first.timestamp().as_millisecond()), ..Scope::default() };
    let shown = Shown::understand(&["hours"]).map_err(|_| Failure::Internal)?;
    let options = ReportOptions { shown, ..ReportOptions::default() };
    let report = make_survey(caller, &Asked { scope, options, ..Asked::default() }, work)?;
    Ok(month_transfer(&report, name, allowance, now))
}

/// Transfer of the month that goes on, against what is allowed.
#[utoipa::path(get, path = "/allowances", params(SitesQuery), responses((status = 200, body = Allowances)))]
pub async fn allowances(
    caller: Caller,
    Parameters(query): Parameters<SitesQuery>,
) -> Result<Json<Allowances>, Failure> {
    let active = caller.console().site()?;
    let are_all = query.site.is_empty() && caller.sees_all();
    let sites = caller.sites(query.site, &active.config)?;
    working(move |work| {
        let zone = active.config.service.time_zone.clone();
        let now = jiff::Timestamp::now().to_zoned(zone.clone());
        let transfer = |sites: Vec<String>, name: Option<&str>, allowance: Option<u64>| {
            month_of(&caller, sites, (name, allowance), &now, work)
        };
        let own = |name: &str| {
            let site = active.config.sites.iter().find(|site| site.name.value == name);
            site.and_then(|site| site.allowance)
        };
        let mut of = match sites.as_slice() {
            [one] => vec![transfer(sites.clone(), Some(one), own(one))?],
            _ => {
                let allowance = active.config.service.allowance.filter(|_| are_all);
                vec![transfer(sites.clone(), None, allowance)?]
            }
        };
        if sites.len() != 1 {
            let names = active.config.sites.iter().map(|site| site.name.value.as_str());
            for name in names.filter(|name| sites.is_empty() || sites.iter().any(|one| one == name)) {
                if let Some(allowance) = own(name) {
                    of.push(transfer(vec![name.to_owned()], Some(name), Some(allowance))?);
                }
            }
        }
        let time_zone = zone.iana_name().unwrap_or("UTC").to_owned();
        Ok(Allowances { time_zone, month: now.strftime("%Y-%m").to_string(), of })
    })
    .await
}
