//! The calls that show the configuration's files, check what they might be, and publish that.

use super::blocking::{blocking, working};
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use super::publications::published;
use super::recording::ChangeDetail;
use super::rehearsals::identity;
use super::sites::{diagnostics, outcome, told};
use crate::control::changes::{ChangeError, Draft};
use crate::control::checking::{self, Depth};
use crate::control::configuration::{self, Refused};
use axum::{Extension, Json};
use exedra_acting::edit::{self, EditError, Effect, add_rule};
use exedra_answering::config::settings::all;
use exedra_api::Problem;
use exedra_api::alerts::NewAlert;
use exedra_api::configuration::{
    Checked, ConfigurationFile, ConfigurationFiles, DraftFile, DraftFiles, KnownSetting, NewRule,
    RevisionFiles, RuleEffect, WrittenRule,
};
use exedra_api::sites::Changed;
use std::path::Path;

/// The largest file that is changed in a browser, in octets: long lists of redirects are not.
const LARGEST: usize = 1 << 20;

/// The configuration's files as they are now, and as they were when they came into force.
#[utoipa::path(get, path = "/configuration", responses((status = 200, body = ConfigurationFiles)))]
pub async fn configuration(caller: Caller) -> Result<Json<ConfigurationFiles>, Failure> {
    blocking(move || {
        let changes = &caller.console().changes;
        let newest = changes.newest()?;
        let in_force = newest.as_ref().map_or(&[][..], |newest| &newest.files);
        let files = changes.files().map_err(failed)?;
        let shown = files.into_iter().map(|(path, text)| {
            let name = path.display().to_string();
            let before = in_force.iter().find(|(known, _)| Path::new(known) == path);
            ConfigurationFile {
                version: configuration::version(&text),
                in_force: before.map(|(_, text)| text.to_string()).filter(|text| text.len() <= LARGEST),
                text: Some(text).filter(|text| text.len() <= LARGEST),
                name,
            }
        });
        Ok(ConfigurationFiles {
            revision: newest.as_ref().map_or(0, |newest| newest.number),
            files: shown.collect(),
        })
    })
    .await
}

/// What would be wrong with the configuration, were its files as they might be.
#[utoipa::path(post, path = "/configuration/check", request_body = DraftFiles,
    responses((status = 200, body = Checked)))]
pub async fn check_draft(caller: Caller, Sent(draft): Sent<DraftFiles>) -> Result<Json<Checked>, Failure> {
    working(move |_| {
        let console = caller.console();
        let changes = &console.changes;
        let texts = changes.drafted(&drafts(draft.files)).map_err(failed)?;
        let in_force = console.site()?;
        let found = match configuration::drafted(&changes.file, &texts) {
            Ok(config) => {
                let mut found = checking::check(&config, Depth::Thorough, Some(&in_force.config));
                found.extend(changes.new_commands(&config));
                diagnostics(&found, &config.sources)
            }
            Err(Refused::Mistaken { found, sources }) => diagnostics(&found, &sources),
            Err(unreadable @ Refused::Unreadable { .. }) => {
                return Err(Failure::Wrong(unreadable.to_string()));
            }
        };
        Ok(Checked { is_sound: found.iter().all(|one| one.severity != "error"), found })
    })
    .await
}

/// Writes the configuration's files and brings them into force; or says why not, and the files stay as they were.
#[utoipa::path(post, path = "/configuration", request_body = DraftFiles,
    responses((status = 200, body = Changed), (status = 409, body = Problem)))]
pub async fn publish(
    caller: Caller,
    Sent(draft): Sent<DraftFiles>,
) -> Result<(Extension<ChangeDetail>, Json<Changed>), Failure> {
    if let Some(file) = draft.files.iter().find(|file| file.version.is_none()) {
        return Err(Failure::Wrong(format!(
            "`version` of {} is missing: send back the one that the call `configuration` gave",
            file.name
        )));
    }
    // Sockets and tasks are made by the thread that runs this; it must belong to the event loop.
    let runtime = tokio::runtime::Handle::current();
    let done = blocking(move || {
        let _entered = runtime.enter();
        let changes = &caller.console().changes;
        let before = changes.newest()?.map_or(0, |newest| newest.number);
        let files = drafts(draft.files);
        let texts = files.iter().map(|file| (file.path.clone(), file.text.clone())).collect();
        let rehearsal = identity(&texts);
        match changes.publish(&files) {
            Err(error @ (ChangeError::Stale(_) | ChangeError::NoFile(_))) => Err(failed(error)),
            result => {
                if let Ok(changed) = &result
                    && changed.is_new
                {
                    let reason = draft.reason.as_deref().unwrap_or_default();
                    published(&caller, (changed.revision, before), reason, &rehearsal)?;
                }
                Ok(outcome(result))
            }
        }
    });
    Ok(told(done.await?))
}

/// A rule written into the text of the file that its site is in. Nothing is saved.
#[utoipa::path(post, path = "/configuration/rules", request_body = NewRule,
    responses((status = 200, body = WrittenRule), (status = 409, body = Problem)))]
pub async fn write_rule(caller: Caller, Sent(rule): Sent<NewRule>) -> Result<Json<WrittenRule>, Failure> {
    blocking(move || {
        let changes = &caller.console().changes;
        let texts = changes.drafted(&drafts(rule.files)).map_err(failed)?;
        let files = changes.files().map_err(failed)?;
        let does = match &rule.does {
            RuleEffect::Redirect { to, status } => Effect::Redirect(to, *status),
            RuleEffect::Header { name, value } => Effect::Header(name, value),
            RuleEffect::Refuse => Effect::Refuse,
            RuleEffect::Gone => Effect::Gone,
            RuleEffect::Login { realm } => Effect::Login(realm),
        };
        let new = edit::NewRule { name: rule.name.trim(), path: rule.path.trim(), does };
        for (path, text) in files {
            let text = texts.get(&path).map_or(&*text, |text| &**text);
            match add_rule(text, &rule.site, &new, rule.is_first) {
                Ok(written) => {
                    return Ok(WrittenRule {
                        name: path.display().to_string(),
                        text: written.text,
                        line: written.line,
                    });
                }
                Err(EditError::NoSite(_)) => {}
                // Lists of redirects are no TOML; a configuration that has mistakes is.
                Err(EditError::Mistaken(_)) if path.extension().is_none_or(|name| name != "toml") => {}
                Err(error) => return Err(Failure::Conflict(format!("{}: {error}", path.display()))),
            }
        }
        Err(Failure::Wrong(EditError::NoSite(rule.site).to_string()))
    })
    .await
}

/// An alert written into the text of the configuration's main file. Nothing is saved.
#[utoipa::path(post, path = "/configuration/alerts", request_body = NewAlert,
    responses((status = 200, body = WrittenRule), (status = 409, body = Problem)))]
pub async fn write_alert(caller: Caller, Sent(alert): Sent<NewAlert>) -> Result<Json<WrittenRule>, Failure> {
    blocking(move || with_alert(&caller, &alert)).await
}

/// The main file with an alert written into it.
pub(super) fn with_alert(caller: &Caller, alert: &NewAlert) -> Result<WrittenRule, Failure> {
    let files = caller.console().changes.files().map_err(failed)?;
    let (path, text) = files.into_iter().next().ok_or(Failure::Internal)?;
    let new = edit::NewAlert {
        name: alert.name.trim(),
        scope: &alert.scope,
        figure: &alert.figure,
        of: alert.of.trim(),
        bound: &alert.bound,
        value: alert.value.trim(),
        of_last: alert.of_last.trim(),
        requests: alert.requests,
        holds: alert.holds.trim(),
        tell: &alert.tell,
    };
    let written = edit::add_alert(&text, &new);
    let written = written.map_err(|error| Failure::Conflict(format!("{}: {error}", path.display())))?;
    Ok(WrittenRule { name: path.display().to_string(), text: written.text, line: written.line })
}

/// The files of a configuration that was in force.
#[utoipa::path(get, path = "/revisions/{number}", params(("number" = i32, Path)),
    responses((status = 200, body = RevisionFiles), (status = 404, body = Problem)))]
pub async fn revision_files(
    caller: Caller,
    Named(number): Named<i32>,
) -> Result<Json<RevisionFiles>, Failure> {
    blocking(move || {
        let found = caller.console().changes.revision(number)?;
        let found = found.ok_or_else(|| Failure::Missing(ChangeError::NoRevision(number).to_string()))?;
        let shown = found.files.iter().filter(|(_, text)| text.len() <= LARGEST);
        let file = |(name, text): &(String, std::sync::Arc<str>)| DraftFile {
            name: name.clone(),
            text: text.to_string(),
            version: None,
        };
        Ok(RevisionFiles { number, files: shown.map(file).collect() })
    })
    .await
}

/// The settings there are.
#[utoipa::path(get, path = "/settings", responses((status = 200, body = Vec<KnownSetting>)))]
pub async fn settings(_: Caller) -> Json<Vec<KnownSetting>> {
    let known = all().map(|setting| KnownSetting {
        section: setting.section.to_owned(),
        key: setting.key.to_owned(),
        example: setting.example.to_owned(),
        about: setting.about.to_owned(),
        required: setting.required,
    });
    Json(known.collect())
}

pub(super) fn drafts(files: Vec<DraftFile>) -> Vec<Draft> {
    let draft = |file: DraftFile| Draft { path: file.name.into(), text: file.text, version: file.version };
    files.into_iter().map(draft).collect()
}

pub(super) fn failed(error: ChangeError) -> Failure {
    match error {
        ChangeError::Store(error) => Failure::Store(error),
        ChangeError::Stale(_) => Failure::Conflict(error.to_string()),
        other => Failure::Wrong(other.to_string()),
    }
}
