//! The calls about what is configured: sites and rules, trying a request, checking, bringing into force.

use super::blocking::{blocking, working};
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use super::query::{BeforeNumber, Parameters, WeighingQuery};
use super::recording::ChangeDetail;
use crate::active::Active;
use crate::control::changes::ChangeError;
use crate::control::checking::{self, Depth};
use crate::control::configuration::Refused;
use crate::control::explaining::asked::Described;
use crate::control::explaining::effective;
use crate::control::exposure::{Exposure, walk};
use crate::control::on_disk::OnDisk;
use crate::control::weighing::{Size, Weighed, weigh};
use axum::{Extension, Json};
use exedra_answering::config::diagnostic::draw;
use exedra_answering::config::{Diagnostic, Severity, SiteId, Sources};
use exedra_answering::facts::Scheme;
use exedra_answering::rules::Rule;
use exedra_api::Problem;
use exedra_api::explaining::{Ask, Explanation};
use exedra_api::sites::{self as wire, Changed, ConfigDiagnostic, Revision, Sites};
use exedra_store::PublicationState;
use serde::Serialize;
use std::collections::HashSet;
use std::io;
use std::sync::Arc;
use utoipa::ToSchema;
use x509_parser::prelude::{FromDer, X509Certificate};

/// How many rules of a site are shown.
const MOST_RULES: usize = 500;

/// Sites as they are configured.
#[utoipa::path(get, path = "/sites", responses((status = 200, body = Sites)))]
pub async fn sites(caller: Caller) -> Result<Json<Sites>, Failure> {
    blocking(move || {
        let console = caller.console();
        let site = console.site()?;
        let newest = console.changes.newest()?;
        let ports: Vec<(Scheme, u16)> = site
            .config
            .listeners
            .iter()
            .zip(console.runtime.addresses())
            .map(|(listener, address)| (listener.scheme(), address.port()))
            .collect();
        Ok(Sites {
            file: console.changes.file.display().to_string(),
            revision: newest.as_ref().map_or(0, |newest| newest.number),
            since: newest.map_or(String::new(), |newest| moment(newest.made)),
            sites: (0..site.config.sites.len())
                .filter(|number| caller.grant().sees(&site.config.sites[*number].name.value))
                .map(|number| shown(&site, SiteId(number), &ports))
                .collect(),
        })
    })
    .await
}

fn shown(site: &Active, id: SiteId, ports: &[(Scheme, u16)]) -> wire::Site {
    let config = &site.config;
    let settings = config.site(id);
    let hosts = settings.hosts.iter().map(|host| wire::Host {
        name: host.value.clone(),
        is_main: settings.main_host.as_ref().is_some_and(|main| main.value == host.value),
        certificate: certificate(site, &host.value),
    });
    let mut addresses = Vec::new();
    for host in settings.hosts.iter().filter(|host| !host.value.starts_with('*')) {
        for (scheme, port) in ports {
            let port = if *port == scheme.port() { String::new() } else { format!(":{port}") };
            addresses.push(format!("{}://{}{port}/", scheme.as_str(), host.value));
        }
    }
    let rules = &settings.rules;
    wire::Site {
        name: settings.name.value.clone(),
        hosts: hosts.collect(),
        folder: settings.root().map(|folder| folder.display().to_string()),
        addresses,
        is_default: config.default_site == Some(id),
        requires_https: settings.https.value == exedra_answering::config::Https::Required,
        settings: effective::of_site(config, id),
        rules: rules
            .iter()
            .take(MOST_RULES)
            .enumerate()
            .map(|(nth, rule)| shown_rule(site, id, nth, &rule))
            .collect(),
        rule_count: rules.len(),
    }
}

fn shown_rule(site: &Active, id: SiteId, nth: usize, rule: &Rule) -> wire::Rule {
    let (file, line) = site.config.sources.line(&rule.place).unwrap_or_default();
    let effects = effective::in_words(&rule.effects, &site.config);
    wire::Rule {
        name: rule.name.to_string(),
        path: rule.path.as_ref().map(|path| path.text().to_owned()),
        when: rule.when.iter().map(|condition| condition.text.to_string()).collect(),
        effects: effects.into_iter().map(|(name, value)| wire::Effect { name, value }).collect(),
        file: file.to_owned(),
        line,
        fired: site.fired.times(id, nth),
    }
}

fn certificate(site: &Active, host: &str) -> Option<wire::Certificate> {
    let certificates = &site.tls.as_ref()?.certificates;
    let (key, _) = certificates.of(host)?;
    let (ends, is_made) = certificates.ends(host)?;
    let (_, found) = X509Certificate::from_der(key.cert.first()?).ok()?;
    let days = (ends - jiff::Timestamp::now().as_second()).div_euclid(86_400);
    let organisation = found.issuer().iter_organization().next().and_then(|name| name.as_str().ok());
    let issuer = organisation.map_or_else(|| found.issuer().to_string(), str::to_owned);
    Some(wire::Certificate { is_made, issuer, ends: moment(ends), days })
}

fn moment(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).unwrap_or_default().to_string()
}

/// Why a request would be answered as it would.
#[utoipa::path(post, path = "/explain", request_body = Ask,
    responses((status = 200, body = Explanation)))]
pub async fn explain(caller: Caller, Sent(ask): Sent<Ask>) -> Result<Json<Explanation>, Failure> {
    blocking(move || {
        let described = Described::understand(&ask).map_err(Failure::Wrong)?;
        let site = caller.console().site()?;
        let explained = crate::control::explaining::explain(&OnDisk::of(&site), &described);
        match explained.site.as_ref().filter(|site| !caller.grant().sees(site)) {
            Some(_) => Err(Failure::Wrong("the request would go to a site that you may not see".to_owned())),
            None => Ok(explained),
        }
    })
    .await
}

/// What a stranger could reach of a site, and should not.
#[utoipa::path(get, path = "/sites/{name}/exposures", params(("name" = String, Path)),
    responses((status = 200, body = Vec<Exposure>), (status = 404, body = Problem)))]
pub async fn exposures(caller: Caller, Named(name): Named<String>) -> Result<Json<Vec<Exposure>>, Failure> {
    working(move |work| {
        let active = caller.console().site()?;
        let id = active.config.site_named(&name).ok().filter(|_| caller.grant().sees(&name));
        let Some(id) = id else {
            return Err(Failure::Missing(format!("there is no site `{name}` that you may see")));
        };
        let disk = Arc::clone(&active.disk);
        let walked = walk(&OnDisk::of_strangers(&active.config, disk), id, &|| work.goes_on().is_ok());
        work.goes_on()?;
        Ok(walked.found)
    })
    .await
}

/// How much of a site's files is encoded by one call, where it does not say, and at most: on one thread, as the sites need the others.
const SAMPLE: u64 = 1 << 20;
const MOST_SAMPLE: u64 = 16 << 20;
/// How much of each file: whoever leaves is noticed between two encodings, and the thorough ones take their time.
const OF_EACH: u64 = 128 << 10;

/// What each codec at each effort makes of a site's files, and which settings follow.
#[utoipa::path(get, path = "/sites/{name}/weighing", params(("name" = String, Path), WeighingQuery),
    responses((status = 200, body = WeighedSite), (status = 404, body = Problem)))]
pub async fn weighing(
    caller: Caller,
    Named(name): Named<String>,
    Parameters(query): Parameters<WeighingQuery>,
) -> Result<Json<WeighedSite>, Failure> {
    working(move |work| {
        let active = caller.console().site()?;
        let id = active.config.site_named(&name).ok().filter(|_| caller.grant().sees(&name));
        let missing = |what: &str| Failure::Missing(format!("there is no site `{name}` {what}"));
        let site = active.config.site(id.ok_or_else(|| missing("that you may see"))?);
        let folder = site.root().ok_or_else(|| missing("with a folder: its rules answer"))?;
        let sample = query.sample.unwrap_or(SAMPLE);
        if sample > MOST_SAMPLE {
            return Err(Failure::Wrong(
                "a call weighs 16 MiB at most: `exedra weigh` weighs more".to_owned(),
            ));
        }
        let wanted = |_, _| work.goes_on().map_err(|_| io::Error::other("nobody waits for it"));
        let weighed = weigh(&name, folder, Size { sample, of_each: OF_EACH, threads: 1 }, &wanted);
        work.goes_on()?;
        let weighed = weighed.map_err(|error| Failure::Wrong(error.to_string()))?;
        Ok(WeighedSite { settings: weighed.recommended.settings(), weighed })
    })
    .await
}

/// What was weighed of a site, and the settings that follow as they are written.
#[derive(Debug, Serialize, ToSchema)]
pub struct WeighedSite {
    /// The figures.
    #[serde(flatten)]
    weighed: Weighed,
    /// A section of the configuration.
    settings: String,
}

/// What is wrong with the configuration as its files are now.
#[utoipa::path(get, path = "/check",
    responses((status = 200, body = Vec<ConfigDiagnostic>)))]
pub async fn check(caller: Caller) -> Result<Json<Vec<ConfigDiagnostic>>, Failure> {
    blocking(move || {
        let console = caller.console();
        match checking::read(&console.changes.file, Depth::Thorough, Some(&*console.site()?.config)) {
            Ok(checked) => Ok(diagnostics(&checked.found, &checked.config.sources)),
            Err(Refused::Mistaken { found, sources }) => Ok(diagnostics(&found, &sources)),
            Err(unreadable @ Refused::Unreadable { .. }) => Err(Failure::Wrong(unreadable.to_string())),
        }
    })
    .await
}

/// Brings the configuration as its files are now into force, or says why not.
#[utoipa::path(post, path = "/reload",
    responses((status = 200, body = Changed)))]
pub async fn reload(caller: Caller) -> Result<(Extension<ChangeDetail>, Json<Changed>), Failure> {
    // Sockets and tasks are made by the thread that runs this; it must belong to the event loop.
    let runtime = tokio::runtime::Handle::current();
    let done = blocking(move || {
        let _entered = runtime.enter();
        Ok(outcome(caller.console().changes.reload()))
    });
    Ok(told(done.await?))
}

/// What came of bringing a configuration into force, and what is written down of it.
pub(super) fn told(changed: Json<Changed>) -> (Extension<ChangeDetail>, Json<Changed>) {
    let words = match (changed.in_force, changed.revision) {
        (true, Some(revision)) => format!("revision {revision} is in force"),
        _ => "nothing changed: the files have mistakes".to_owned(),
    };
    (Extension(ChangeDetail(words)), changed)
}

/// How many revisions are listed at a time.
const REVISIONS: usize = 50;

/// Configurations that were in force, the newest first: fifty at a time.
#[utoipa::path(get, path = "/revisions", params(BeforeNumber),
    responses((status = 200, body = Vec<Revision>)))]
pub async fn revisions(
    caller: Caller,
    Parameters(query): Parameters<BeforeNumber>,
) -> Result<Json<Vec<Revision>>, Failure> {
    blocking(move || {
        // One more, to which the last one is compared.
        let all = caller.console().changes.revisions(query.before, REVISIONS + 1)?;
        let newest = caller.console().changes.newest()?.map(|newest| newest.number);
        let shown = all.iter().take(REVISIONS).enumerate();
        Ok(shown.map(|(nth, one)| revision(one, all.get(nth + 1), newest == Some(one.number))).collect())
    })
    .await
}

fn revision(
    one: &exedra_store::Revision,
    before: Option<&exedra_store::Revision>,
    in_force: bool,
) -> Revision {
    let files =
        |revision: Option<&exedra_store::Revision>| revision.map_or_else(Vec::new, |one| one.files.clone());
    let (mut now, mut then) = (files(Some(one)), files(before));
    // Large lists mostly stay as they were.
    now.retain(|file| !then.contains(file));
    then.retain(|file| !one.files.contains(file));
    let lines = |files: &[(String, Arc<str>)]| -> Vec<String> {
        let all = files.iter();
        all.flat_map(|(name, text)| text.lines().map(move |line| format!("{name}\0{line}"))).collect()
    };
    let (now, then) = (lines(&now), lines(&then));
    let (known, kept): (HashSet<&String>, HashSet<&String>) = (then.iter().collect(), now.iter().collect());
    Revision {
        number: one.number,
        made: moment(one.made),
        in_force,
        files: one.files.iter().map(|(name, _)| name.clone()).collect(),
        added: now.iter().filter(|line| !known.contains(line)).count(),
        removed: then.iter().filter(|line| !kept.contains(line)).count(),
    }
}

/// Writes a revision's files back and brings it into force, or says why not.
#[utoipa::path(post, path = "/revisions/{number}/restore", params(("number" = i32, Path)),
    responses((status = 200, body = Changed)))]
pub async fn restore(
    caller: Caller,
    Named(number): Named<i32>,
) -> Result<(Extension<ChangeDetail>, Json<Changed>), Failure> {
    let runtime = tokio::runtime::Handle::current();
    let done = blocking(move || {
        let _entered = runtime.enter();
        let in_force = caller.console().changes.newest()?.map(|newest| newest.number);
        let result = caller.console().changes.restore(number);
        if let (Ok(changed), Some(in_force)) = (&result, in_force)
            && changed.is_new
        {
            let said = format!("taken back by {}: revision {number} is in force again", caller.name());
            caller.console().acting.went(in_force, PublicationState::TakenBack, &said)?;
        }
        Ok(outcome(result))
    });
    Ok(told(done.await?))
}

pub(super) fn outcome(result: Result<crate::control::changes::Changed, ChangeError>) -> Changed {
    match result {
        Ok(changed) => Changed {
            in_force: true,
            revision: Some(changed.revision),
            is_new: changed.is_new,
            later: changed.later,
            found: diagnostics(&changed.remarks, &changed.sources),
            reason: None,
            drawn: draw(&changed.remarks, &changed.sources, true),
        },
        Err(error) => {
            let found = match &error {
                ChangeError::Refused(Refused::Mistaken { found, sources }) => diagnostics(found, sources),
                _ => Vec::new(),
            };
            let (reason, drawn) = (Some(error.to_string()), error.drawn(true));
            Changed {
                in_force: false,
                revision: None,
                is_new: false,
                later: Vec::new(),
                found,
                reason,
                drawn,
            }
        }
    }
}

/// Diagnostics as they go over the wire.
pub fn diagnostics(found: &[Diagnostic], sources: &Sources) -> Vec<ConfigDiagnostic> {
    found
        .iter()
        .map(|diagnostic| {
            let (file, line) = sources.line(&diagnostic.span).unwrap_or_default();
            let (text, column) = match sources.find(&diagnostic.span) {
                Some((source, within)) => {
                    let begin = source.text[..within.start].rfind('\n').map_or(0, |end| end + 1);
                    let whole = source.text[begin..].lines().next().unwrap_or_default();
                    (whole.to_owned(), 1 + source.text[begin..within.start].chars().count())
                }
                None => (String::new(), 1),
            };
            ConfigDiagnostic {
                severity: match diagnostic.severity {
                    Severity::Error => "error",
                    Severity::Remark => "remark",
                }
                .to_owned(),
                message: diagnostic.message.clone(),
                reason: diagnostic.reason.clone(),
                remedy: diagnostic.remedy.clone(),
                also: diagnostic.also,
                file: file.to_owned(),
                line,
                column,
                text,
            }
        })
        .collect()
}
