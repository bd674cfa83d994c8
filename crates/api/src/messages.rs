//! Who is told of what is watched, and what they were told.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Somebody who is told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Recipient {
    /// Its name.
    pub name: String,
    /// How it is told: `mail`, `webhook` or `command`.
    pub way: String,
    /// Where that goes.
    pub to: String,
    /// Hours of the week in which it is told nothing, where there are such.
    pub quiet: Option<String>,
    /// When they end, where they have begun (RFC 3339).
    pub quiet_until: Option<String>,
    /// The alerts that it is told of.
    pub alerts: Vec<String>,
    /// How many messages wait for it.
    pub waiting: u64,
    /// Why the first of them could not be delivered, where it was tried.
    pub failure: Option<String>,
}

/// What came of trying to reach a recipient.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MessageTrial {
    /// Who was to be told.
    pub recipient: String,
    /// Where it went.
    pub to: String,
    /// Why it was not delivered; absent where it was.
    pub failure: Option<String>,
    /// How long that took, in milliseconds.
    pub took: u64,
}

/// What somebody is, or was, told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Message {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// By which receivers know repeats.
    pub id: String,
    /// Who is told.
    pub recipient: String,
    /// What it is about, in a word.
    pub kind: String,
    /// It, in a line.
    pub subject: String,
    /// It, as people read it.
    pub text: String,
    /// When it was made (RFC 3339).
    pub made: String,
    /// `waiting`, `delivered`, `given up`, or `gathered` into a later one.
    pub state: String,
    /// How often it was tried to deliver it.
    pub attempts: i32,
    /// When it is tried next (RFC 3339), where it waits.
    pub next: Option<String>,
    /// Why the last attempt failed.
    pub failure: Option<String>,
    /// When it was delivered or given up (RFC 3339).
    pub ended: Option<String>,
}
