//! The calls about findings: what deserves attention, what is set aside, and remedies written into the configuration's files.

use super::allowances::month_of;
use super::blocking::{Work, blocking, working};
use super::caller::Caller;
use super::configuration::failed;
use super::counting::for_a_call;
use super::failure::{Failure, Named, Sent};
use super::query::{FindingsQuery, NothingMore, ScopeQuery, Scoped};
use super::reading::About;
use super::recording::ChangeDetail;
use super::rehearsals::{USUAL, instant};
use crate::active::Active;
use crate::control::configuration::version;
use crate::control::inventory::inventory;
use crate::control::on_disk::OnDisk;
use crate::control::rehearsing::RehearsedSites;
use axum::{Extension, Json};
use exedra_acting::edit::EditError;
use exedra_acting::findings::counts::FindingCounts;
use exedra_acting::findings::{
    BurstSeen, Exposed, Finding, Seen, SiteMonth, SiteSeen, Standing, THRESHOLD, find,
};
use exedra_acting::remedy::{Edit, applied, difference};
use exedra_answering::answer::home::site_of;
use exedra_answering::config::{Config, SiteId};
use exedra_api::Problem;
use exedra_api::findings::{Findings, NewSetAside, RemediedFile, Remedies, SetAsideFinding, WantedRemedies};
use exedra_common::grant::Role;
use exedra_common::scope::Scope;
use exedra_common::text::nearest;
use exedra_common::{Dictionaries, RequestBatch, units};
use exedra_reading::prelude::{Minutes, Trouble, USUAL_BURSTS};
use exedra_reading::trail::Place;
use exedra_store::SetAside;
use exedra_store::records::preludes::PreludePlan;
use exedra_store::records::{Scan, ScanSink};
use jiff::Timestamp;
use parking_lot::Mutex;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How long what was found is told again without looking, and of how many scopes.
const FRESH: Duration = Duration::from_secs(60);
const MOST_KNOWN: usize = 8;
/// To what instants the usual stretch is rounded, in milliseconds, so that two who ask are told the same.
const ROUNDED: i64 = 10 * 60_000;
/// With fewer failures bursts are not looked for.
const FAILURES: u64 = 10;
/// How many lines that stay are shown around what differs.
const AROUND: usize = 3;

/// What was found of a scope.
struct Found {
    key: String,
    config: Arc<Config>,
    when: Instant,
    findings: Vec<Finding>,
    requests: u64,
    caveats: Vec<String>,
    took_ms: f64,
}

/// What was found lately.
#[derive(Default)]
pub struct KnownFindings(Mutex<Vec<Arc<Found>>>);

/// What deserves attention, ranked by the people and the bytes it touches. What strangers can reach is told to operators only.
#[utoipa::path(get, path = "/findings", params(ScopeQuery, FindingsQuery), responses((status = 200, body = Findings)))]
pub async fn findings(
    caller: Caller,
    Scoped(about, query): Scoped<FindingsQuery>,
) -> Result<Json<Findings>, Failure> {
    let about = About::understand(&caller, about)?;
    working(move |work| {
        let (about, found) = found(&caller, about, work)?;
        let least = query.least.unwrap_or(THRESHOLD);
        let now = Timestamp::now().as_second();
        let aside = caller.console().acting.set_aside()?;
        let holds = |finding: &Finding| {
            aside.iter().any(|one| one.id == finding.id && one.holds(now, finding.weight))
        };
        let heavy = |finding: &&Finding| finding.weight >= least;
        let open: Vec<&Finding> = found.findings.iter().filter(|finding| !holds(finding)).collect();
        let is_found = |id: &str| found.findings.iter().any(|finding| finding.id == id && holds(finding));
        Ok(Findings {
            from: about.scope.from.map(instant),
            until: about.scope.until.map(instant),
            time_zone: about.zone_name(),
            requests: found.requests,
            took_ms: found.took_ms,
            below: open.iter().filter(|finding| !heavy(finding)).count() as u64,
            findings: open.into_iter().filter(heavy).cloned().collect(),
            set_aside: aside
                .iter()
                .filter(|one| caller.grant().sees(&one.site))
                .map(|one| on_wire(one, is_found(&one.id)))
                .collect(),
            caveats: found.caveats.clone(),
        })
    })
    .await
}

/// Remedies of findings written into the configuration's files. Nothing is saved.
#[utoipa::path(post, path = "/findings/remedies", params(ScopeQuery), request_body = WantedRemedies,
    responses((status = 200, body = Remedies), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn write_remedies(
    caller: Caller,
    Scoped(about, NothingMore {}): Scoped<NothingMore>,
    Sent(wanted): Sent<WantedRemedies>,
) -> Result<Json<Remedies>, Failure> {
    let about = About::understand(&caller, about)?;
    working(move |work| {
        let (_, found) = found(&caller, about, work)?;
        let changes = &caller.console().changes;
        let before = changes.files().map_err(failed)?;
        let mut after = before.clone();
        let mut words = Vec::new();
        for id in &wanted.findings {
            let finding = found.findings.iter().find(|finding| finding.id == *id).ok_or_else(|| {
                let near = nearest(id, found.findings.iter().map(|finding| finding.id.as_str()));
                let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
                Failure::Missing(format!("there is no finding `{id}` in this scope{near}"))
            })?;
            let remedy = finding.remedy.as_ref().ok_or_else(|| {
                Failure::Conflict(format!(
                    "nothing in the configuration helps against `{id}` ({}){}",
                    finding.title,
                    finding.advice.as_ref().map_or(String::new(), |advice| format!(": {advice}"))
                ))
            })?;
            words.push(remedy.words.clone());
            for edit in &remedy.edits {
                edited(&mut after, edit)?;
            }
        }
        let mut files = Vec::new();
        for (nth, ((path, before), (_, after))) in before.iter().zip(after).enumerate() {
            if *before != after {
                files.push(RemediedFile {
                    name: path.display().to_string(),
                    version: version(before),
                    is_main: nth == 0,
                    difference: difference(before, &after, AROUND),
                    text: after,
                });
            }
        }
        Ok(Remedies { words, files })
    })
    .await
}

/// Writes an edit into the file that it belongs to.
fn edited(files: &mut [(PathBuf, String)], edit: &Edit) -> Result<(), Failure> {
    let mut last = None;
    for (path, text) in files {
        match applied(text, edit) {
            Ok(changed) => {
                *text = changed;
                return Ok(());
            }
            // Lists of redirects are no TOML; a configuration that has mistakes is.
            Err(EditError::Mistaken(_)) if path.extension().is_none_or(|name| name != "toml") => {}
            Err(error @ EditError::NoSite(_)) => last = Some(error),
            Err(error) => return Err(Failure::Conflict(format!("{}: {error}", path.display()))),
        }
    }
    Err(last.map_or(Failure::Internal, |error| Failure::Conflict(error.to_string())))
}

/// Sets a finding aside: it is not told until that ends.
#[utoipa::path(post, path = "/findings/{id}/aside", params(("id" = String, Path)), request_body = NewSetAside,
    responses((status = 200, body = SetAsideFinding), (status = 409, body = Problem)))]
pub async fn set_aside(
    caller: Caller,
    Named(id): Named<String>,
    Sent(new): Sent<NewSetAside>,
) -> Result<(Extension<ChangeDetail>, Json<SetAsideFinding>), Failure> {
    if new.reason.trim().is_empty() {
        return Err(Failure::Wrong("`reason` is empty: say why, for whoever comes after you".to_owned()));
    }
    let time = match &new.time {
        None => None,
        Some(written) => {
            let time = units::seconds(written).map(|time| time.as_secs()).filter(|time| *time > 0);
            let words = || format!("`{written}` is no length of time: write it as in `30 days`");
            Some(time.ok_or_else(|| Failure::Wrong(words()))?)
        }
    };
    let detail = ChangeDetail(format!("{id}: {}", new.reason));
    let now = Timestamp::now().as_second();
    let aside = SetAside {
        id,
        site: new.site,
        title: new.title,
        reason: new.reason.trim().to_owned(),
        made: now,
        made_by: caller.name(),
        until: time.map(|time| now.saturating_add_unsigned(time)),
        weight: new.until_doubled.then_some(new.weight),
    };
    let done = blocking(move || match caller.console().acting.set(&aside)? {
        true => Ok(on_wire(&aside, true)),
        false => Err(Failure::Conflict("too many findings are set aside: bring some back".to_owned())),
    });
    Ok((Extension(detail), done.await?))
}

/// A finding is told again.
#[utoipa::path(delete, path = "/findings/{id}/aside", params(("id" = String, Path)),
    responses((status = 200, body = ()), (status = 404, body = Problem)))]
pub async fn bring_back(
    caller: Caller,
    Named(id): Named<String>,
) -> Result<(Extension<ChangeDetail>, Json<()>), Failure> {
    let detail = ChangeDetail(id.clone());
    let done = blocking(move || match caller.console().acting.unset(&id)? {
        true => Ok(()),
        false => Err(Failure::Missing(format!("no finding `{id}` is set aside"))),
    });
    Ok((Extension(detail), done.await?))
}

fn on_wire(aside: &SetAside, is_found: bool) -> SetAsideFinding {
    let time = |second: i64| Timestamp::from_second(second).unwrap_or_default().to_string();
    let until = match (aside.until, aside.weight) {
        (None, None) => "for good".to_owned(),
        (Some(until), None) => format!("until {}", time(until)),
        (None, Some(_)) => "until it doubles".to_owned(),
        (Some(until), Some(_)) => format!("until {}, or until it doubles", time(until)),
    };
    SetAsideFinding {
        id: aside.id.clone(),
        site: aside.site.clone(),
        title: aside.title.clone(),
        reason: aside.reason.clone(),
        made: time(aside.made),
        made_by: aside.made_by.clone(),
        until,
        is_found,
    }
}

/// What deserves attention in a scope; in the last four weeks where no period is named.
fn found(caller: &Caller, mut about: About, work: &Work) -> Result<(About, Arc<Found>), Failure> {
    if about.scope.from.is_none() && about.scope.until.is_none() {
        about.scope.from = Some((about.now - USUAL).div_euclid(ROUNDED) * ROUNDED);
    }
    let is_operator = caller.may(Role::Operator);
    let key = format!("{is_operator} {:?} {:?}", caller.grant().sites, about.scope);
    let known = &caller.console().known_findings.0;
    let fresh = |found: &Arc<Found>| {
        found.key == key && Arc::ptr_eq(&found.config, &about.active.config) && found.when.elapsed() < FRESH
    };
    let ready = known.lock().iter().find(|found| fresh(found)).cloned();
    if let Some(found) = ready {
        return Ok((about, found));
    }
    let found = Arc::new(look(caller, &about, key, is_operator, work)?);
    let mut known = known.lock();
    known.retain(|other| other.when.elapsed() < FRESH && other.key != found.key);
    if known.len() >= MOST_KNOWN {
        known.remove(0);
    }
    known.push(Arc::clone(&found));
    drop(known);
    Ok((about, found))
}

/// FindingCounts on one thread.
struct CountsSink<'c> {
    counts: FindingCounts,
    config: &'c Config,
}

impl ScanSink for CountsSink<'_> {
    fn take(&mut self, batch: &RequestBatch, row: usize, texts: &Dictionaries, _: Place) {
        self.counts.add(batch, row, texts, |host| site_of(self.config, host).is_some());
    }
}

fn look(
    caller: &Caller,
    about: &About,
    key: String,
    is_operator: bool,
    work: &Work,
) -> Result<Found, Failure> {
    let begun = Instant::now();
    let active = &about.active;
    let (seen, records) = caller.snapshot(&about.scope);
    let goes_on = || work.goes_on();
    let counting = for_a_call(&goes_on);
    let scan =
        Scan { scope: &about.scope, projection: FindingCounts::projection(), derive: about.classifier() };
    let begin = || CountsSink { counts: FindingCounts::default(), config: &active.config };
    let (sinks, ..) = records.scan(&seen, &scan, &counting, begin)?;
    let mut counts = FindingCounts::default();
    sinks.into_iter().for_each(|sink| counts.merge(sink.counts));
    let disk = OnDisk::of_strangers(&active.config, Arc::clone(&active.disk));
    let mut present = Standing::default();
    let mut sites = Vec::new();
    let mut caveats = Vec::new();
    let ids = (0..active.config.sites.len()).map(SiteId);
    let wanted = |id: &SiteId| {
        let name = &active.config.site(*id).name.value;
        caller.grant().sees(name)
            && (about.scope.sites.is_empty() || about.scope.sites.iter().any(|site| site == name))
    };
    for id in ids.filter(wanted) {
        let (inventory, walked) = inventory(&disk, id, &|| goes_on().is_ok());
        goes_on()?;
        let name = active.config.site(id).name.value.clone();
        if inventory.is_cut {
            caveats.push(format!("{name} has more files than are looked at"));
        }
        if is_operator {
            let path = |address: &str| {
                let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
                rest.find('/').map_or("/", |at| &rest[at..]).to_owned()
            };
            present.exposed.extend(walked.found.iter().map(|exposure| Exposed {
                site: name.clone(),
                path: path(&exposure.address),
                kind: exposure.kind.to_owned(),
                reason: exposure.reason.to_owned(),
                remedy: exposure.remedy.to_owned(),
            }));
        }
        if let Some(allowance) = active.config.site(id).allowance {
            let zone = active.config.service.time_zone.clone();
            let now = Timestamp::now().to_zoned(zone);
            let month = month_of(caller, vec![name.clone()], (Some(&name), Some(allowance)), &now, work)?;
            present.months.push(SiteMonth {
                site: name.clone(),
                allowance,
                sent: month.sent,
                expected: month.forecast.as_ref().map_or(month.sent, |forecast| forecast.expected),
                runs_out: month.forecast.and_then(|forecast| forecast.runs_out),
            });
        }
        sites.push(SiteSeen { id, inventory });
    }
    present.certificates = certificates(active);
    for site in &sites {
        let name = &active.config.site(site.id).name.value;
        if counts.failed(name) >= FAILURES {
            let scope = Scope { sites: vec![name.clone()], ..about.scope.clone() };
            let (seen, own_hosts) = (seen.clone().within(&scope), caller.hosts(&active.config));
            let plan = PreludePlan {
                scope: &scope,
                derive: about.classifier(),
                trouble: Trouble::Class(5),
                zone: &about.zone,
                own_hosts: &own_hosts,
                masked: false,
            };
            let choose = |minutes: &Minutes| minutes.bursts(USUAL_BURSTS, &about.zone);
            let bursts = records.preludes(&seen, &plan, choose, &counting)?;
            let seen = bursts.into_iter().map(|prelude| BurstSeen { site: name.clone(), prelude });
            present.bursts.extend(seen);
        }
    }
    if counts.is_sample() {
        caveats.push("people are estimated from a sample".to_owned());
    }
    if counts.let_go > 0 {
        caveats.push(format!(
            "there were too many different paths to keep: {} requests were not looked at",
            exedra_common::figures::grouped(counts.let_go)
        ));
    }
    let folders = RehearsedSites::new(disk);
    let findings = find(&Seen {
        config: &active.config,
        folders: &folders,
        sites: &sites,
        counts: &counts,
        zone: about.zone.clone(),
        present: &present,
    });
    Ok(Found {
        key,
        config: Arc::clone(&active.config),
        when: Instant::now(),
        findings,
        requests: counts.requests,
        caveats,
        took_ms: begun.elapsed().as_secs_f64() * 1000.0,
    })
}

/// Certificates from files or an authority, each with its first host and the days it has left.
fn certificates(active: &Active) -> Vec<(String, f64)> {
    let Some(tls) = &active.tls else { return Vec::new() };
    let now = Timestamp::now().as_second();
    let hosts = active.config.certificates.iter().filter_map(|one| one.hosts.first());
    let left = hosts.filter_map(|host| {
        let (end, is_made_here) = tls.certificates.ends(&host.value)?;
        (!is_made_here).then(|| (host.value.clone(), (end - now) as f64 / 86_400.0))
    });
    left.collect()
}
