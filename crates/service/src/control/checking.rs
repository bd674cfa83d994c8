//! Everything that can be found wrong with a configuration before it comes into force: what the core finds by trying it,
//! and what only the disk can tell.

use crate::access::certificates::{files, names};
use crate::access::countries;
use crate::access::guards::users;
use crate::content::disk::Disk;
use crate::content::folders;
use crate::content::folders::walk::{self, MOST_FOLDERS, walk};
use crate::control::configuration::{self, Refused};
use crate::control::on_disk::OnDisk;
use crate::control::preflight::preflight;
use crate::system::Clock;
use exedra_answering::answer::Broken;
use exedra_answering::answer::path::tidy;
use exedra_answering::check;
use exedra_answering::check::{Spoken, pages};
use exedra_answering::config::allowance::AtAllowance;
use exedra_answering::config::recipients::Way;
use exedra_answering::config::{CertificateOrigin, Config, Diagnostic, Located, SiteId};
use exedra_answering::media_types::media_type;
use exedra_store::Revisions;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use x509_parser::prelude::{FromDer, X509Certificate};

/// How many days before its end a certificate is complained about.
const SOON: i64 = 14;

/// How closely to look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// At whatever could keep it from coming into force.
    ToServe,
    /// Also at what strangers could reach and should not.
    Thorough,
}

/// A configuration that may come into force.
pub struct Checked {
    /// The configuration.
    pub config: Config,
    /// What is worth knowing of it.
    pub found: Vec<Diagnostic>,
}

/// Reads a configuration and checks it. It is refused when anything is an error. `in_force` is the one that is, where that is
/// known; otherwise it is looked for among those that were kept.
pub fn read(path: &Path, depth: Depth, in_force: Option<&Config>) -> Result<Checked, Refused> {
    let config = configuration::read(path)?;
    let found = check(&config, depth, in_force);
    match found.iter().any(Diagnostic::is_error) {
        true => Err(Refused::Mistaken { found, sources: config.sources }),
        false => Ok(Checked { config, found }),
    }
}

/// Finds what is wrong with a configuration.
pub fn check(config: &Config, depth: Depth, in_force: Option<&Config>) -> Vec<Diagnostic> {
    let mut found = preflight(config);
    if config.listeners.is_empty() {
        let message = "nothing is served by this configuration";
        let reason = "there is no [[listener]] in it: it is for reading logs";
        found.push(match depth {
            Depth::ToServe => Diagnostic::error(0..0, message, reason)
                .remedy("to serve sites, add [[listener]] with address = \"127.0.0.1:7380\", and a [[site]]"),
            Depth::Thorough => Diagnostic::remark(0..0, message, reason),
        });
    }
    certificates(config, &mut found);
    realms(config, &mut found);
    if depth == Depth::Thorough {
        allowances(config, &mut found);
        recipients(config, &mut found);
        watched(config, &mut found);
    }
    if let Some(path) = &config.service.countries
        && let Err(reason) = countries::open(&path.value)
    {
        let message = format!("the countries in {} cannot be read", path.value.display());
        let remedy = "name a file in the MMDB format, or leave `countries` out";
        found.push(Diagnostic::error(path.span.clone(), message, reason).remedy(remedy));
    }
    // Without its folders nothing can be tried.
    if let Ok(disk) = Disk::open(config, Clock::new()) {
        let spoken = spoken(config, &mut found);
        links_of_pages(config, &spoken, &mut found);
        let kept = if in_force.is_none() { last_in_force(config) } else { None };
        let before = in_force.or(kept.as_ref());
        let disk = OnDisk::of_strangers(config, Arc::new(disk));
        found.extend(check::check(config, &disk, &spoken, before));
        if depth == Depth::Thorough {
            exposed(&disk, &mut found);
        }
    }
    found.sort_by_key(|diagnostic| diagnostic.span.start);
    found
}

/// What would happen when allowances are used up: nobody is to be surprised by it.
fn allowances(config: &Config, found: &mut Vec<Diagnostic>) {
    let sites = config.sites.iter().map(|site| (site.allowance, site.at_allowance, &site.name));
    for (allowance, at_allowance, name) in sites {
        let (Some(allowance), false) = (allowance, at_allowance == AtAllowance::Tell) else { continue };
        let message = format!(
            "when `{}` has sent {} in a month: {at_allowance}",
            name.value,
            exedra_common::figures::bytes(allowance)
        );
        let reason = match at_allowance {
            AtAllowance::Refuse => {
                "documents, archives, sound and films are answered 503 until the month is over; pages, pictures and styles are not touched"
            }
            _ => "documents, archives, sound and films; pages, pictures and styles are not touched",
        };
        found.push(Diagnostic::remark(name.span.clone(), message, reason));
    }
    if let (Some(allowance), false) =
        (config.service.allowance, config.service.at_allowance == AtAllowance::Tell)
    {
        let sent = exedra_common::figures::bytes(allowance);
        let message =
            format!("when all sites together have sent {sent} in a month: {}", config.service.at_allowance);
        let reason = "at all sites; pages, pictures and styles are not touched";
        found.push(Diagnostic::remark(0..0, message, reason));
    }
}

/// Whether alerts and reports have anything to look at.
fn watched(config: &Config, found: &mut Vec<Diagnostic>) {
    let first = config
        .alerts
        .iter()
        .map(|alert| &alert.name)
        .chain(config.reports.iter().map(|report| &report.name))
        .next();
    if let Some(first) = first.filter(|_| !config.service.records) {
        let message = format!("`{}` has nothing to look at", first.value);
        let reason = "records = false: the service does not read its own logs";
        let remedy = "take that out of [service], or import logs";
        found.push(Diagnostic::remark(first.span.clone(), message, reason).remedy(remedy));
    }
}

/// Whether whoever is to be told could be: files with passwords and keys, programs, folders.
fn recipients(config: &Config, found: &mut Vec<Diagnostic>) {
    let mut file = |what: &str, path: &Located<PathBuf>| {
        if let Err(error) = std::fs::File::open(&path.value) {
            let message = format!("the {what} {} cannot be read", path.value.display());
            let remedy = "make the file, for the user that the service runs as";
            found.push(Diagnostic::remark(path.span.clone(), message, error.to_string()).remedy(remedy));
        }
    };
    if let Some(mail) = &config.mail {
        mail.login.iter().for_each(|(_, password)| file("password", password));
        mail.trusted.iter().for_each(|trusted| file("authority", trusted));
    }
    for recipient in &config.recipients {
        match &recipient.way {
            Way::Webhook { key: Some(key), .. } => file("key", key),
            Way::Webhook { key: None, .. } | Way::Mail(_) | Way::Command(_) => {}
        }
    }
    let told = |name: &str| {
        let by_alerts = config.alerts.iter().flat_map(|alert| &alert.tell);
        by_alerts.chain(config.reports.iter().flat_map(|report| &report.tell)).any(|one| one.value == name)
    };
    for recipient in &config.recipients {
        let name = &recipient.name;
        if let Way::Command(words) = &recipient.way
            && let Some(program) = words.first()
            && !is_program(&program.value)
        {
            let message = format!("there is no program `{}`", program.value);
            let reason = "nothing of this name can be run";
            let remedy = "write its whole path, and make it executable";
            found.push(Diagnostic::remark(program.span.clone(), message, reason).remedy(remedy));
        }
        if let Way::Webhook { address, .. } = &recipient.way
            && address.value.starts_with("http://")
            && !is_local(&address.value)
        {
            let message = "this webhook is sent unencrypted";
            let reason = "anyone on the way can read what is told, and the address with its secrets";
            found.push(Diagnostic::remark(address.span.clone(), message, reason).remedy("write https://"));
        }
        if !told(&name.value) {
            let message = format!("nobody tells `{}` anything", name.value);
            let remedy = format!("write tell = [\"{}\"] in an [[alert]] or a [[report]]", name.value);
            found.push(
                Diagnostic::remark(name.span.clone(), message, "no alert and no report names it")
                    .remedy(remedy),
            );
        }
    }
}

/// Whether something can be run by this name.
fn is_program(name: &str) -> bool {
    let is_executable =
        |path: &Path| rustix::fs::access(path, rustix::fs::Access::EXEC_OK).is_ok() && path.is_file();
    match name.contains('/') {
        true => is_executable(Path::new(name)),
        false => std::env::var_os("PATH").is_some_and(|paths| {
            std::env::split_paths(&paths).any(|folder| is_executable(&folder.join(name)))
        }),
    }
}

/// Whether an address is one of this machine.
fn is_local(address: &str) -> bool {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    let authority = rest.split(['/', '?', '#']).next().unwrap_or(rest);
    let host = authority.strip_prefix('[').and_then(|rest| rest.split(']').next());
    let host = host.unwrap_or_else(|| authority.split(':').next().unwrap_or(authority));
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// Folders that say something of themselves. What is wrong with that takes no site down, and is remarked upon.
fn spoken(config: &Config, found: &mut Vec<Diagnostic>) -> Vec<Spoken> {
    let mut spoken = Vec::new();
    for (number, site) in config.sites.iter().enumerate() {
        let Some(root) = site.root() else { continue };
        let id = SiteId(number);
        let place = || site.folder_place().clone();
        let walked = walk(root);
        if !site.folder_settings {
            if let Some(first) = walked.settings.first() {
                let message =
                    format!("folder settings of `{}` are ignored: {}", site.name.value, first.display());
                let remedy = "write folder_settings = true, or remove the files";
                let reason = match walked.settings.len() {
                    1 => "`folder_settings` is off".to_owned(),
                    count => format!("`folder_settings` is off, and there are {count} such files"),
                };
                found.push(Diagnostic::remark(place(), message, reason).remedy(remedy));
            }
        } else {
            for folder in walked.settings {
                let file = root.join(&folder);
                let Some(path) = walk::place_of(&folder) else {
                    let message = format!("unreachable folder settings: {}", file.display());
                    let reason =
                        "no URL leads into this folder: it is hidden, or its name cannot stand in a URL";
                    found.push(
                        Diagnostic::remark(place(), message, reason)
                            .remedy("remove the file, or rename the folder"),
                    );
                    continue;
                };
                let said = match std::fs::read(&file) {
                    Ok(content) => folders::understand(&content, config, id),
                    Err(error) => Err(Broken { line: 1, message: format!("it cannot be read: {error}") }),
                };
                match said {
                    Ok(settings) => spoken.push(Spoken { site: id, folder: path, settings }),
                    Err(wrong) => {
                        let message =
                            format!("the settings of a folder cannot be understood: {}", file.display());
                        let reason = format!("line {}: {}", wrong.line, wrong.message);
                        let remedy = "correct it: until then nothing in that folder is served";
                        found.push(Diagnostic::remark(place(), message, reason).remedy(remedy));
                    }
                }
            }
        }
        if let Some(first) = walked.nameless.first() {
            let message = format!("{} cannot be served", root.join(first).display());
            let reason = match walked.nameless.len() {
                1 => "its name is not UTF-8".to_owned(),
                count => format!("its name is not UTF-8, nor are those of {} others", count - 1),
            };
            found.push(Diagnostic::remark(place(), message, reason).remedy("rename it in UTF-8"));
        }
        if walked.is_cut {
            let message = format!("`{}` was not checked completely", site.name.value);
            let reason = format!("it has more than {MOST_FOLDERS} folders");
            found.push(
                Diagnostic::remark(place(), message, reason)
                    .remedy("folder settings in the others were not checked"),
            );
        }
    }
    spoken
}

/// Error pages whose links lead elsewhere when they are shown below another folder than their own.
fn links_of_pages(config: &Config, spoken: &[Spoken], found: &mut Vec<Diagnostic>) {
    for page in pages::named(config, spoken) {
        let Some(root) = config.site(page.site).root() else { continue };
        let file = root.join(page.path.as_str());
        let is_html = media_type(page.path.as_str()).essence == "text/html";
        // One that is not there has been named already.
        let Ok(content) = std::fs::read_to_string(&file) else { continue };
        let links = pages::relative_links(&content);
        let Some(first) = links.first().filter(|_| is_html) else { continue };
        let message = format!("relative links in the error page {} break: {first}", page.path);
        let others = match links.len() {
            1 => String::new(),
            count => format!(" ({count} such links)"),
        };
        let reason = format!(
            "it is shown at the URL that was requested, and from another folder `{first}` leads elsewhere{others}"
        );
        let beside = format!("{}/{first}", page.path.parent().address());
        let whole = tidy(&beside).map(|tidy| tidy.written.into_owned()).unwrap_or(beside);
        let remedy = format!("write them from the root, as {whole}");
        found.push(Diagnostic::remark(page.place, message, reason).remedy(remedy));
    }
}

/// The configuration that was in force last, where there was any and it can still be understood.
fn last_in_force(config: &Config) -> Option<Config> {
    let state = &config.service.state.value;
    if !state.join("exedra.db").exists() {
        return None;
    }
    let newest = Revisions::of_another(state).newest().ok()??;
    configuration::kept(&newest.files, config)
}

fn realms(config: &Config, found: &mut Vec<Diagnostic>) {
    for realm in &config.realms {
        let path = &realm.users.value;
        let remedy = format!("make it: exedra password NAME --file {}", path.display());
        let reason = match users::read(path) {
            Ok(known) if known.is_empty() => "there is nobody in it".to_owned(),
            Ok(_) => continue,
            Err(reason) => reason,
        };
        let message = format!("nobody can sign in to `{}`: {}", realm.name.value, path.display());
        found.push(Diagnostic::remark(realm.users.span.clone(), message, reason).remedy(remedy));
    }
}

fn certificates(config: &Config, found: &mut Vec<Diagnostic>) {
    let provider = rustls::crypto::ring::default_provider();
    for certificate in &config.certificates {
        let (chain, key) = match &certificate.origin {
            CertificateOrigin::Files { chain, key } => (chain, key),
            // What a command brings may not be there yet.
            CertificateOrigin::Command { chain, key, .. } if chain.value.exists() => (chain, key),
            CertificateOrigin::Command { .. } | CertificateOrigin::Authority => continue,
        };
        let remedy = "without it one is made for development, which browsers warn of";
        if let Err(reason) = files::read(&chain.value, &key.value, &provider) {
            let message = format!("the certificate {} cannot be used", chain.value.display());
            found.push(Diagnostic::error(chain.span.clone(), message, reason).remedy(remedy));
            continue;
        }
        let Ok(certificates) = files::chain_of(&chain.value) else { continue };
        let Some((_, first)) = certificates.first().and_then(|first| X509Certificate::from_der(first).ok())
        else {
            continue;
        };
        let days =
            (first.validity().not_after.timestamp() - jiff::Timestamp::now().as_second()).div_euclid(86_400);
        if days < SOON {
            let message = match days {
                ..0 => format!("the certificate {} has ended", chain.value.display()),
                days => format!("the certificate {} ends in {days} days", chain.value.display()),
            };
            let reason = format!("it is good until {}", first.validity().not_after);
            let place = chain.span.clone();
            let diagnostic = if days < 0 {
                Diagnostic::error(place, message, reason)
            } else {
                Diagnostic::remark(place, message, reason)
            };
            found.push(diagnostic.remedy("renew it; the service notices when the file changes"));
        }
        let names = names(&first);
        for host in &certificate.hosts {
            if !names.iter().any(|name| is_for(name, &host.value)) {
                let message =
                    format!("the certificate {} is not for `{}`", chain.value.display(), host.value);
                let reason = format!("it is for {}", names.join(", "));
                let remedy = "take the host out, or have a certificate made that names it";
                found.push(Diagnostic::error(host.span.clone(), message, reason).remedy(remedy));
            }
        }
    }
}

fn is_for(name: &str, host: &str) -> bool {
    name == host
        || name
            .strip_prefix('*')
            .is_some_and(|ending| host.find('.').is_some_and(|dot| &host[dot..] == ending))
}

/// What strangers could reach and should not.
fn exposed(disk: &OnDisk<'_>, found: &mut Vec<Diagnostic>) {
    for (number, site) in disk.config.sites.iter().enumerate() {
        let walk = crate::control::exposure::walk(disk, SiteId(number), &|| true);
        let mut kinds: Vec<&str> = walk.found.iter().map(|exposure| exposure.kind).collect();
        kinds.dedup();
        kinds.sort_unstable();
        kinds.dedup();
        for kind in kinds {
            let of_kind: Vec<_> = walk.found.iter().filter(|exposure| exposure.kind == kind).collect();
            let Some(first) = of_kind.first() else { continue };
            let message = match of_kind.len() {
                1 => format!("{} is public", first.address),
                count => format!("{} and {} more like it are public", first.address, count - 1),
            };
            let place = match kind == exedra_answering::audit::LISTING.name {
                true => site.origins.get("listing").unwrap_or(site.folder_place()),
                false => site.folder_place(),
            };
            let reason = format!("{kind}: {}", first.reason);
            found.push(Diagnostic::remark(place.clone(), message, reason).remedy(first.remedy));
        }
    }
}
