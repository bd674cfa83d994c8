//! What is remembered of watching: what has been told of each alert, when alerts were raised, and messages until they are delivered.
//!
//! A decision is one transaction: that an alert is known to be raised, its line in the history and the messages about it are written
//! together or not at all. So a crash neither loses a message nor makes a second one of the same change.
//!
//! - [`alerts`]: what has been told of each, what people said about it, and the history
//! - [`messages`]: those that wait, and what became of them
//! - [`reports`]: reports that were made by themselves

pub mod alerts;
pub mod messages;
pub mod reports;

use crate::database::{Database, StoreError};
use crate::secrets::KIND;
use alerts::Decision;
use messages::NewMessage;
use std::path::Path;

/// All of it.
pub struct Watching(Database);

impl Watching {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Watching(Database::of_ours(state, KIND))
    }

    /// Writes down what was decided at a time (seconds since 1970 UTC), with the messages about it.
    pub fn decide(
        &self,
        decisions: &[Decision],
        messages: &[NewMessage],
        now: i64,
    ) -> Result<(), StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                decisions.iter().try_for_each(|decision| alerts::write(connection, decision))?;
                messages.iter().try_for_each(|message| messages::write(connection, message, now).map(drop))
            })?)
        })
    }
}

#[cfg(test)]
mod tests;
