//! What the console is made of; whoever asks it, and what they are given.
//!
//! Calls do not reach for the records: they ask the [`Caller`], who hands out only what whoever asks may see. So a call cannot
//! forget that somebody may see some sites and not others.

use super::failure::Failure;
use super::findings::KnownFindings;
use super::queries::RunningQueries;
use super::rehearsals::KnownRehearsals;
use crate::access::guards::password_check::PasswordCheck;
use crate::active::{Active, Tls};
use crate::control::changes::Changes;
use crate::control::runtime::Runtime;
use crate::jobs::Shared;
use crate::jobs::alerts::evaluations::Evaluations;
use crate::jobs::messages::Outbox;
use crate::jobs::reports::ReportMaker;
use crate::logs::access_log::NO_SITE;
use crate::logs::view::View;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use exedra_answering::config::Config;
use exedra_api::accounts::Me;
use exedra_common::grant::{Grant, Role};
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Dictionaries, Origin, RequestBatch};
use exedra_query::records::RecordedRequests;
use exedra_reading::survey::VisitorKey;
use exedra_store::records::{LogRange, Recent, Segment};
use exedra_store::{
    Accounts, Acting, ChangeRecord, Checkpoint, Imports, IssuedSecret, KeptQueries, Purpose, Records,
    Secrets, Snapshot, Tallies, Trouble,
};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What the console shows, and who is let in.
pub struct Console {
    pub(super) runtime: Arc<Runtime>,
    pub(super) changes: Arc<Changes>,
    /// Only whoever asks is given anything of them.
    records: Arc<Records>,
    pub(super) secrets: Arc<Secrets>,
    pub(super) accounts: Arc<Accounts>,
    pub(super) record: ChangeRecord,
    pub(super) imports: Imports,
    pub(super) acting: Acting,
    pub(super) known_findings: KnownFindings,
    pub(super) known_rehearsals: KnownRehearsals,
    pub(super) queries: KeptQueries,
    /// Statements that are being answered, and the folder for what of them does not fit into memory.
    pub(super) running: RunningQueries,
    /// Only whoever sees all sites is given anything of them.
    evaluations: Arc<Evaluations>,
    /// What recipients are told.
    pub(super) outbox: Arc<Outbox>,
    /// Whoever makes reports.
    pub(super) reports: Arc<ReportMaker>,
    pub(super) overflow: PathBuf,
    tallies: Tallies,
    pub(super) passwords: PasswordCheck,
    pub(super) started: jiff::Timestamp,
}

impl Console {
    /// A console for a service that has just started, with what is kept in its state folder.
    pub fn new(
        runtime: Arc<Runtime>,
        changes: Arc<Changes>,
        records: Arc<Records>,
        secrets: Arc<Secrets>,
        shared: Shared,
        state: &Path,
    ) -> Arc<Self> {
        let Shared { evaluations, outbox, reports } = shared;
        Arc::new(Console {
            runtime,
            changes,
            records,
            secrets,
            accounts: Arc::new(Accounts::open(state)),
            record: ChangeRecord::open(state),
            imports: Imports::open(state),
            acting: Acting::open(state),
            known_findings: KnownFindings::default(),
            known_rehearsals: KnownRehearsals::default(),
            queries: KeptQueries::open(state),
            running: RunningQueries::default(),
            evaluations,
            outbox,
            reports,
            overflow: emptied(state.join("overflow")),
            tallies: Tallies::open(state),
            passwords: PasswordCheck::new(Arc::default()),
            started: jiff::Timestamp::now(),
        })
    }

    /// What is the matter with the records.
    pub fn trouble(&self) -> (Trouble, Vec<String>) {
        self.records.trouble()
    }

    /// How many seconds the records are behind the logs at a second since 1970 UTC.
    pub fn behind(&self, second: i64) -> i64 {
        self.evaluations.behind(second)
    }

    /// How its connections are secured, where they are.
    pub fn tls(&self) -> Option<Tls> {
        let active = self.runtime.site()?;
        if active.config.service.console_https { active.tls.clone() } else { None }
    }

    /// What is in force.
    pub fn site(&self) -> Result<Arc<Active>, Failure> {
        self.runtime.site().ok_or(Failure::Internal)
    }
}

/// A folder without what a process left there that was killed.
fn emptied(folder: PathBuf) -> PathBuf {
    if let Err(error) = std::fs::remove_dir_all(&folder)
        && error.kind() != std::io::ErrorKind::NotFound
    {
        tracing::warn!("{} cannot be emptied: {error}", folder.display());
    }
    folder
}

/// Whoever asks.
#[derive(Clone)]
pub struct Caller {
    console: Arc<Console>,
    known: Arc<IssuedSecret>,
    purpose: Purpose,
}

impl Caller {
    /// Whoever holds a session or a token.
    pub fn new(console: Arc<Console>, known: IssuedSecret, purpose: Purpose) -> Self {
        Caller { console, known: Arc::new(known), purpose }
    }

    /// What they ask.
    pub fn console(&self) -> &Arc<Console> {
        &self.console
    }

    /// What they may do and see.
    pub fn grant(&self) -> &Grant {
        &self.known.made_for.grant
    }

    /// The session or the token.
    pub fn known(&self) -> &IssuedSecret {
        &self.known
    }

    /// The account, where there is one.
    pub fn account(&self) -> Option<&str> {
        Some(self.known.made_for.account.as_str()).filter(|account| !account.is_empty())
    }

    /// Who they are, for people.
    pub fn name(&self) -> String {
        match (self.account(), self.purpose) {
            (Some(account), _) => account.to_owned(),
            (None, Purpose::Token) => format!("token: {}", self.known.made_for.label),
            (None, _) => "sign-in link".to_owned(),
        }
    }

    /// Who they are, on the wire.
    pub fn me(&self) -> Me {
        let Grant { role, sites } = self.grant().clone();
        Me { name: self.name(), account: self.account().map(str::to_owned), role, sites }
    }

    /// Whether they may do what needs a role.
    pub fn may(&self, role: Role) -> bool {
        self.grant().role >= role
    }

    /// Whether they may see everything there is, and not some sites alone.
    pub fn sees_all(&self) -> bool {
        self.grant().sites.is_none()
    }

    /// What became of a change, for those who see all sites: a change is about all.
    pub fn effect<T>(&self, of: impl FnOnce(&Records) -> Result<T, Failure>) -> Result<T, Failure> {
        match self.sees_all() {
            true => of(&self.console.records),
            false => Err(Failure::Missing("changes are told to those who see all sites".to_owned())),
        }
    }

    /// How the alerts go, for those who see all sites: they are about all.
    pub fn evaluations(&self) -> Option<&Evaluations> {
        self.sees_all().then_some(&*self.console.evaluations)
    }

    /// The sites that are meant where these are named: those, if there are such and they may be seen; all that may be where
    /// none is.
    pub fn sites(&self, asked: Vec<String>, config: &Config) -> Result<Vec<String>, Failure> {
        if let Some(hidden) = asked.iter().find(|site| !self.grant().sees(site)) {
            let seen = self.grant().sites.as_deref().unwrap_or_default().join(", ");
            return Err(Failure::Wrong(format!(
                "there is no site `{hidden}` that you may see: there is {seen}"
            )));
        }
        for site in asked.iter().filter(|site| *site != NO_SITE) {
            config.site_named(site).map_err(|error| Failure::Wrong(error.to_string()))?;
        }
        match (&self.grant().sites, asked.is_empty()) {
            (Some(seen), true) => Ok(seen.clone()),
            _ => Ok(asked),
        }
    }

    /// The hosts of the sites that may be seen.
    pub fn hosts(&self, config: &Config) -> Vec<String> {
        let seen = config.sites.iter().filter(|site| self.grant().sees(&site.name.value));
        seen.flat_map(|site| site.hosts.iter().map(|host| host.value.clone())).collect()
    }

    /// The records as far as a scope may touch them, and whoever asks may see them; and what reads them.
    pub fn snapshot(&self, scope: &Scope) -> (Snapshot, &Records) {
        (self.view().snapshot(scope), &self.console.records)
    }

    /// The records as whoever asks may see them.
    pub fn view(&self) -> View<'_> {
        let Console { records, tallies, .. } = &*self.console;
        View { records, tallies, sites: self.grant().sites.as_deref() }
    }

    /// The same for statements.
    pub fn recorded(&self, scope: &Scope) -> RecordedRequests {
        let (seen, _) = self.snapshot(scope);
        RecordedRequests::new(Arc::clone(&self.console.records), seen)
    }

    /// What the sources of surveys of the records are: sites.
    pub fn origins(&self) -> Vec<Origin> {
        self.console.records.origins()
    }

    /// The key of the hashes of visitors.
    pub fn survey_key(&self) -> Result<VisitorKey, Failure> {
        Ok(self.console.records.survey_key()?)
    }

    /// How many requests of a site are recorded; 0 where it may not be seen.
    pub fn requests_of(&self, site: &str) -> u64 {
        if self.grant().sees(site) { self.console.records.requests_of(site) } else { 0 }
    }

    /// How far a log has been read.
    pub fn checkpoint(&self, log: &str) -> Checkpoint {
        self.console.records.checkpoint(log)
    }

    /// Takes in a stretch of a log: see [`Records::take_in`]. One that was damaged is begun anew.
    pub fn take_in(
        &self,
        site: &Arc<str>,
        source: &str,
        requests: RequestBatch,
        texts: Dictionaries,
        stretch: LogRange,
    ) -> Result<(), Failure> {
        let records = &self.console.records;
        if stretch.from == 0 && records.checkpoint(source).incomplete {
            records.read_again(source)?;
        }
        match records.take_in(site, source, requests, texts, stretch)? {
            Ok(()) => Ok(()),
            Err(known) => Err(Failure::Conflict(format!(
                "the log has been read up to octet {}, so that what follows begins there and not at {}",
                known.octets, stretch.from
            ))),
        }
    }

    /// Writes down what was taken in: no crash takes it away then.
    pub fn commit(&self) -> Result<(), Failure> {
        Ok(self.console.records.commit()?)
    }

    /// Takes everything out of the records that was read of a log.
    pub fn take_out(&self, source: &str) -> Result<(), Failure> {
        Ok(self.console.records.read_again(source)?)
    }

    /// Takes the requests that a filter keeps out of the records, of the sites that may be seen. Says how many there were.
    pub fn erase(&self, of: &RowFilter) -> Result<u64, Failure> {
        let is_seen = |segment: &Segment| self.grant().sees(&segment.site);
        let goes = |batch: &RequestBatch, texts: &Dictionaries| of.clone().rows(batch, texts);
        Ok(self.console.records.take_requests_out(is_seen, goes)?)
    }

    /// Requests that came after some that were told of, or those that are remembered of them; and what to ask by next.
    pub fn recent(&self, since: u64, scope: &Scope) -> (Recent, &Records) {
        let records = &*self.console.records;
        let recent = records.recent(since);
        (Recent { seen: self.view().shown(recent.seen, scope), ..recent }, records)
    }
}

impl<S: Sync> FromRequestParts<S> for Caller {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        // Nobody comes here who has not been let in.
        parts.extensions.get::<Caller>().cloned().ok_or(Failure::Internal)
    }
}
