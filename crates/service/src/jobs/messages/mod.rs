//! Messages: what recipients are told, kept until it is delivered.
//!
//! - [`delivery`]: those that wait, each recipient's in their order, until they are delivered or given up
//! - [`mail`], [`webhook`], [`command`]: the ways by which they go

pub mod command;
pub mod delivery;
pub mod mail;
pub mod webhook;

use exedra_common::figures::several;
use exedra_common::scope::WeekHours;
use exedra_store::Watching;
use exedra_store::watching::messages::{Message, MessageState, NewMessage};
use rand::Rng;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;
use thiserror::Error;
use tokio::sync::Notify;

/// How long one attempt to deliver a message may take.
pub const MOST_TIME: Duration = Duration::from_secs(30);
/// How long it is said that a message was given up, in seconds.
const LATELY: i64 = 7 * 86_400;
/// After how many attempts it is said that one is not delivered.
const TROUBLING: i32 = 3;
/// How far quiet hours are looked through, in seconds: a week, after which they come again.
const WEEK: i64 = 7 * 86_400;
/// Zones differ from UTC by whole quarters of an hour.
const QUARTER: i64 = 15 * 60;

/// What is to be told, and whoever waits for it.
pub struct Outbox {
    /// Where it is kept.
    pub watching: Watching,
    news: Notify,
}

impl Outbox {
    /// What is kept in a state folder.
    pub fn open(state: &Path) -> Self {
        Outbox { watching: Watching::open(state), news: Notify::new() }
    }

    /// What is wrong with messages at a second since 1970 UTC, in words: a sentence for each recipient that cannot be reached, or was not
    /// lately.
    pub fn troubles(&self, now: i64) -> Vec<String> {
        // Where the database cannot be used, that is said elsewhere.
        let undelivered = self.watching.undelivered(now - LATELY).unwrap_or_default();
        let mut all: BTreeMap<(String, bool), (u64, String)> = BTreeMap::new();
        for message in undelivered {
            let is_given_up = message.state == MessageState::GivenUp;
            if !is_given_up && message.attempts < TROUBLING {
                continue;
            }
            let entry = all.entry((message.recipient, is_given_up)).or_default();
            *entry = (entry.0 + 1, message.failure.unwrap_or_default());
        }
        let words = |((recipient, is_given_up), (count, failure)): ((String, bool), (u64, String))| {
            let messages = several(count, "message", "messages");
            match is_given_up {
                true => format!(
                    "{messages} to `{recipient}` could not be delivered within the last week: {failure}; \
                     `exedra messages` lists them, `exedra message retry NUMBER` tries one again"
                ),
                false => format!(
                    "messages to `{recipient}` cannot be delivered at the moment: {failure}; it is tried again"
                ),
            }
        };
        all.into_iter().map(words).collect()
    }

    /// Something waits to be delivered.
    pub fn wake(&self) {
        self.news.notify_one();
    }
}

/// What a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// An alert is raised.
    Raised,
    /// An alert is over.
    Over,
    /// Several changes of alerts.
    Several,
    /// A report that was made.
    Report,
    /// Nothing: somebody tries whether messages arrive.
    Trial,
}

impl Kind {
    /// Whether several of a kind, known by its name, are told people in one message.
    pub fn is_gathered(name: &str) -> bool {
        [Kind::Raised, Kind::Over].into_iter().any(|kind| kind.name() == name)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Raised => "raised",
            Kind::Over => "over",
            Kind::Several => "several",
            Kind::Report => "report",
            Kind::Trial => "trial",
        }
    }
}

/// What a message says.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Content {
    /// For people.
    pub text: String,
    /// The same for programs: an object.
    pub data: serde_json::Value,
    /// A file that goes with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attachment: Option<Attachment>,
}

/// A file that goes with a message.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Attachment {
    /// Its name for whoever gets it.
    pub name: String,
    /// Its media type.
    pub media_type: String,
    /// Where it is.
    pub path: PathBuf,
}

/// What is told, for whoever is told.
#[derive(Debug, Clone)]
pub struct Outgoing {
    /// What it is about.
    pub kind: Kind,
    /// It, in a line.
    pub subject: String,
    /// It, as a whole.
    pub content: Content,
}

impl Outgoing {
    /// A message to a recipient that waits until a second since 1970 UTC.
    pub fn message(&self, recipient: &str, not_before: i64) -> NewMessage {
        NewMessage {
            id: identity(),
            recipient: recipient.to_owned(),
            kind: self.kind.name().to_owned(),
            subject: self.subject.replace(char::is_control, " "),
            // Texts and numbers can always be written.
            content: serde_json::to_string(&self.content).unwrap_or_default(),
            not_before,
        }
    }
}

/// Several messages in one.
pub fn gathered(messages: &[Message]) -> Outgoing {
    let first = messages.first().map_or("", |message| message.subject.as_str());
    let subject = format!("{first}, and {} more changes of alerts", messages.len().saturating_sub(1));
    let mut text = format!("{} changes of alerts:\n\n", messages.len());
    messages.iter().for_each(|message| {
        let _ = writeln!(text, "  - {}", message.subject);
    });
    let mut all = Vec::new();
    for message in messages {
        let content: Content = serde_json::from_str(&message.content).unwrap_or_default();
        let _ = write!(text, "\n{}\n{}", "-".repeat(72), content.text);
        all.push(serde_json::json!({ "id": message.id, "kind": message.kind, "subject": message.subject, "about": content.data }));
    }
    let data = serde_json::json!({ "messages": all });
    Outgoing { kind: Kind::Several, subject, content: Content { text, data, attachment: None } }
}

/// Another one for each message.
pub fn identity() -> String {
    let mut octets = [0_u8; 16];
    rand::rng().fill_bytes(&mut octets);
    octets.iter().map(|octet| format!("{octet:02x}")).collect()
}

/// The second since 1970 UTC with which quiet hours end that have begun; nothing where none have.
pub fn next_end(quiet: Option<&WeekHours>, now: i64) -> Option<i64> {
    let mut quiet = quiet?.clone();
    if !quiet.has(now * 1000) {
        return None;
    }
    let next = now.div_euclid(QUARTER) * QUARTER + QUARTER;
    let mut quarters = (0..WEEK / QUARTER).map(|nth| next + nth * QUARTER);
    Some(quarters.find(|at| !quiet.has(at * 1000)).unwrap_or(now + WEEK))
}

/// Why a message was not delivered.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NotDelivered {
    /// It may be later on.
    #[error("{0}")]
    Yet(String),
    /// It will not be.
    #[error("{0}")]
    Ever(String),
}

/// The first line of a file with a secret.
pub fn secret(path: &Path) -> Result<String, NotDelivered> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| NotDelivered::Yet(format!("{} cannot be read: {error}", path.display())))?;
    let line = text.lines().next().unwrap_or_default().trim();
    match line.is_empty() {
        true => Err(NotDelivered::Yet(format!("the first line of {} is empty", path.display()))),
        false => Ok(line.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::tz::TimeZone;

    #[test]
    fn quiet_hours_end_by_the_clock_of_the_zone() {
        let zone = TimeZone::get("Atlantic/Faroe").unwrap();
        let quiet = WeekHours::understand(&["22-6"], &zone).unwrap();
        let second = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_second();
        let end = |text: &str| next_end(Some(&quiet), second(text));
        assert_eq!(end("2026-11-27T12:00:00Z"), None);
        assert_eq!(end("2026-11-27T23:10:00Z"), Some(second("2026-11-28T07:00:00Z")));
        // An hour earlier by UTC in summer.
        assert_eq!(end("2026-07-01T21:10:00Z"), Some(second("2026-07-02T06:00:00Z")));
        let always = WeekHours::understand(&["0-23"], &zone).unwrap();
        assert_eq!(next_end(Some(&always), 5), Some(5 + WEEK), "not even then is it never");
    }
}
