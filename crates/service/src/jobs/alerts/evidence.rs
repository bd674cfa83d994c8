//! What a message about an alert says: the figures, who and what is behind them, what was different before, where it is seen, and the
//! command that shows it.

use crate::active::Active;
use crate::jobs::messages::{Content, Kind, Outgoing};
use exedra_acting::alerts::Episode;
use exedra_answering::config::alerts::{Alert, Condition, Present, What, When};
use exedra_common::figures::grouped;
use exedra_common::filters::{Filter, Filters};
use exedra_common::scope::Scope;
use exedra_common::text::clean_value;
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::prelude::{Minutes, Trouble};
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{Report, ReportOptions, SurveyPlan};
use exedra_store::records::Counting;
use exedra_store::records::preludes::PreludePlan;
use exedra_store::{Records, StoreError};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::json;
use std::fmt::Write;
use std::sync::Arc;

const MINUTE: i64 = 60_000;
/// How many of a list are named.
const FEW: usize = 5;
/// How many sentences about what was different before.
const SENTENCES: usize = 3;
/// How many minutes before are looked at for what is usual.
const USUAL: i64 = 3 * 24 * 60;

/// What it is made from.
pub struct Evidence<'e> {
    /// The records.
    pub records: &'e Records,
    /// What is in force.
    pub active: &'e Active,
    /// The address that links begin with.
    pub console: &'e str,
}

/// What is said of an alert.
#[derive(Debug, Clone, Copy)]
pub enum Said<'e> {
    /// It is raised.
    Raised(&'e Episode),
    /// It was silenced, and is still raised now that this is over.
    StillRaised(&'e Episode),
    /// It is over.
    Over(&'e Episode),
    /// It was raised and is over.
    Passed(&'e Episode),
    /// What raised it from a minute on is no longer in the records.
    Withdrawn(i64),
}

/// What is told of an alert at the beginning of a minute.
pub fn told_of<E: From<StoreError> + Send>(
    evidence: &Evidence<'_>,
    alert: &Alert,
    said: &Said<'_>,
    minute: i64,
    counting: &Counting<'_, E>,
) -> Result<Outgoing, E> {
    let zone = &evidence.active.config.service.time_zone;
    let name = &alert.name.value;
    let (kind, episode) = match said {
        Said::Raised(episode) | Said::StillRaised(episode) => (Kind::Raised, Some(*episode)),
        Said::Over(episode) | Said::Passed(episode) => (Kind::Over, Some(*episode)),
        Said::Withdrawn(_) => (Kind::Over, None),
    };
    let figure = episode.map(|episode| {
        let client = episode.client.as_ref().map_or(String::new(), |client| format!(" by {client}"));
        format!("{}{client}", alert.when.with_unit(episode.worst))
    });
    let began = match said {
        Said::Withdrawn(began) => *began,
        _ => episode.map_or(minute, |episode| episode.began),
    };
    let ended = episode.and_then(|episode| episode.ended);
    let of_requests = alert.when.requests();
    let minutes = of_requests.map_or(1, |when| when.minutes);
    let stretch = (began - minutes + 1, ended.unwrap_or(minute).max(began + 1));
    let what = figure.clone().unwrap_or_else(|| "its requests are no longer in the records".to_owned());
    let subject = match said {
        Said::Raised(_) => format!("{name}: {what}"),
        Said::StillRaised(_) => format!("{name}: still raised, {what}"),
        Said::Over(_) => format!("{name} is over"),
        Said::Passed(_) => format!("{name} was raised and is over: {what}"),
        Said::Withdrawn(_) => format!("{name} is over: {what}"),
    };
    let clock = |minute: i64| clock(minute, zone);
    let mut text = match said {
        Said::Raised(_) => format!("The alert \"{name}\" is raised since {}.\n", clock(began)),
        Said::StillRaised(_) => format!(
            "The alert \"{name}\" is raised since {}. It was silenced, and is still raised now that this is over.\n",
            clock(began)
        ),
        Said::Over(_) | Said::Passed(_) => format!(
            "The alert \"{name}\" was raised from {} to {} ({} minutes) and is over.\n",
            clock(began),
            clock(ended.unwrap_or(minute)),
            grouped((ended.unwrap_or(minute) - began).unsigned_abs())
        ),
        Said::Withdrawn(_) => format!(
            "The alert \"{name}\" was raised since {}. The requests that raised it have been erased or taken out of the records.\n",
            clock(began)
        ),
    };
    let _ = write!(text, "\nIt watches for {}", alert.when);
    if alert.scope.iter().next().is_some() {
        let _ = write!(text, ", of requests with {}", alert.scope);
    }
    text.push_str(".\n");
    if let Some(figure) = &figure {
        let _ = writeln!(text, "At worst it was {figure}.");
    }
    let filters = filters(alert, episode);
    let (mut paths, mut clients, mut before) = (Vec::new(), Vec::new(), Vec::new());
    if let Some(when) = of_requests.filter(|when| kind == Kind::Raised && !when.bound.is_of_little()) {
        let report = evidence.behind(stretch, &filters, counting)?;
        paths = list(&report, "paths", "path");
        clients = list(&report, "clients", "client");
        // Before requests that are as good as any there is nothing to be found.
        if trouble(&when.of) != Trouble::Any {
            before = evidence.before((alert, when), stretch, counting)?;
        }
        for (title, found) in [("Paths", &paths), ("Clients", &clients)] {
            if !found.is_empty() {
                let _ = writeln!(text, "\n{title} behind it:");
                found.iter().for_each(|(value, requests)| {
                    let _ = writeln!(text, "  {:>9}  {value}", grouped(*requests));
                });
            }
        }
        if !before.is_empty() {
            text.push_str("\nWhat was different:\n");
            before.iter().for_each(|words| {
                let _ = writeln!(text, "  - {words}");
            });
        }
    }
    let (link, command) = match of_requests {
        Some(_) => evidence.shown(stretch, &filters),
        None => {
            let command = match &alert.when {
                When::Present(Present { what: What::Query { name, minutes }, .. }) => {
                    format!("exedra query {} --last \"{minutes} minutes\"", quoted(name))
                }
                _ => "exedra alerts".to_owned(),
            };
            (format!("{}/watch", evidence.console), command)
        }
    };
    let _ = write!(text, "\nSee it: {link}\nOr:     {command}\n");
    let time = |minute: i64| Timestamp::from_millisecond(minute * MINUTE).ok().map(|time| time.to_string());
    let named = |found: &[(String, u64)]| -> Vec<serde_json::Value> {
        found.iter().map(|(value, requests)| json!({ "value": value, "requests": requests })).collect()
    };
    let data = json!({
        "alert": name,
        "condition": alert.when.to_string(),
        "scope": alert.scope.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "since": time(began),
        "until": ended.and_then(time),
        "figure": figure,
        "client": episode.and_then(|episode| episode.client.clone()),
        "paths": named(&paths),
        "clients": named(&clients),
        "before": before,
        "link": link,
        "command": command,
    });
    Ok(Outgoing { kind, subject, content: Content { text, data, ..Content::default() } })
}

impl Evidence<'_> {
    /// Who and what is behind the figure, within some minutes.
    fn behind<E: From<StoreError> + Send>(
        &self,
        (from, until): (i64, i64),
        filters: &Filters,
        counting: &Counting<'_, E>,
    ) -> Result<Report, E> {
        let scope = scope((from, until), filters.clone());
        // Both are sections that there are.
        let shown = Shown::understand(&["paths", "clients"]).unwrap_or_default();
        let zone = self.active.config.service.time_zone.clone();
        let plan = SurveyPlan {
            parts: shown.parts(),
            countries: self.active.countries.clone(),
            ..SurveyPlan::new(scope, zone, self.records.survey_key()?)
        };
        let seen = self.records.snapshot().within(&plan.scope);
        let survey = self.records.survey(&seen, &plan, counting)?;
        let options = ReportOptions { shown, top: FEW, ..ReportOptions::default() };
        Ok(Report::new(&survey, &plan, &options, None))
    }

    /// What was different in these minutes and before them, against what is usual.
    fn before<E: From<StoreError> + Send>(
        &self,
        (alert, when): (&Alert, &Condition),
        (from, until): (i64, i64),
        counting: &Counting<'_, E>,
    ) -> Result<Vec<String>, E> {
        let scope = scope((from - USUAL, until), alert.scope.clone());
        let sites = &self.active.config.sites;
        let own_hosts: Vec<String> =
            sites.iter().flat_map(|site| site.hosts.iter().map(|host| host.value.clone())).collect();
        let plan = PreludePlan {
            scope: &scope,
            derive: Arc::new(Classifier { countries: self.active.countries.clone() }),
            trouble: trouble(&when.of),
            zone: &self.active.config.service.time_zone,
            own_hosts: &own_hosts,
            masked: false,
        };
        let seen = self.records.snapshot().within(&scope);
        let choose = |minutes: &Minutes| vec![minutes.stretch(from, until)];
        let told = self.records.preludes(&seen, &plan, choose, counting)?;
        let words = told
            .into_iter()
            .flat_map(|prelude| prelude.evidence)
            .map(|evidence| clean_value(&evidence.words).into_owned());
        Ok(words.take(SENTENCES).collect())
    }

    /// Where the requests behind an alert are seen, and by which command.
    fn shown(&self, (from, until): (i64, i64), filters: &Filters) -> (String, String) {
        let zone = &self.active.config.service.time_zone;
        let time = |minute: i64| {
            let time = Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default();
            time.to_zoned(zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string()
        };
        let mut query = form_urlencoded::Serializer::new(String::new());
        let mut command = format!("exedra requests --from {} --until {}", time(from), time(until));
        for filter in filters.iter() {
            let written = filter.to_string();
            let (key, written) = match filter.without {
                true => ("without", written.trim_start_matches('!').to_owned()),
                false => ("only", written),
            };
            query.append_pair(key, &written);
            let _ = write!(command, " --{key} {}", quoted(&written));
        }
        query.append_pair("period", &format!("{}..{}", time(from), time(until)));
        (format!("{}/trouble?{}", self.console, query.finish()), command)
    }
}

/// The requests that an alert is raised by.
fn filters(alert: &Alert, episode: Option<&Episode>) -> Filters {
    let mut all = alert.scope.clone();
    let of = alert.when.requests().map(|when| &when.of);
    of.into_iter().flat_map(Filters::iter).for_each(|filter| all.add(filter.clone()));
    let client = episode.and_then(|episode| episode.client.as_ref());
    let client = client.and_then(|client| Filter::exactly(TextColumn::Client.into(), client).ok());
    client.into_iter().for_each(|client| all.add(client));
    all
}

fn scope((from, until): (i64, i64), filters: Filters) -> Scope {
    Scope { from: Some(from * MINUTE), until: Some(until * MINUTE), filters, ..Scope::default() }
}

/// What a prelude to a condition of these filters is of.
fn trouble(of: &Filters) -> Trouble {
    let status = exedra_common::Column::from(NumberColumn::Status);
    let filter = of.iter().find(|filter| filter.column == status && !filter.without);
    let value = filter.map(ToString::to_string);
    let value =
        value.as_deref().and_then(|written| written.split_once('=')).map_or("all", |(_, value)| value);
    Trouble::understand(value, 0).unwrap_or(Trouble::Any)
}

/// The first values of a section, with their requests.
fn list(report: &Report, section: &str, column: &str) -> Vec<(String, u64)> {
    let table = report.table(section);
    let (value, requests) = (table.place(column), table.place("requests"));
    let row = |row: &Vec<exedra_common::tables::Cell>| {
        Some((clean_value(row[value?].as_text()?).into_owned(), row[requests?].as_u64()?))
    };
    table.rows.iter().filter_map(row).take(FEW).collect()
}

/// Words as a POSIX shell takes them for one.
fn quoted(words: &str) -> String {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "=/.,:-_+@%".contains(letter);
    match words.chars().all(is_plain) {
        true => words.to_owned(),
        false => format!("'{}'", words.replace('\'', "'\\''")),
    }
}

/// The beginning of a minute, for people.
fn clock(minute: i64, zone: &TimeZone) -> String {
    let time = Timestamp::from_millisecond(minute * MINUTE).unwrap_or_default().to_zoned(zone.clone());
    time.strftime("%a %-d %b %Y, %H:%M %Z").to_string()
}
