//! Every change that was made by the API, and by whom.

use crate::database::{Database, StoreError};
use crate::schema::changes;
use crate::secrets::KIND;
use diesel::prelude::*;
use std::path::Path;

/// How many changes are kept.
const MOST: i32 = 10_000;
/// How long what is kept of one may be, in octets.
const LONGEST: usize = 1000;

/// A change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// When, in seconds since 1970 UTC.
    pub made: i64,
    /// Who made it.
    pub who: String,
    /// The address it came from.
    pub client: String,
    /// The call by which it was made.
    pub what: String,
    /// How that was answered.
    pub status: u16,
    /// What was changed.
    pub detail: String,
}

type Row = (i32, i64, String, String, String, i32, String);

/// All of them.
pub struct ChangeRecord(Database);

impl ChangeRecord {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        ChangeRecord(Database::of_ours(state, KIND))
    }

    /// Writes one down; its number is given by what is there.
    pub fn add(&self, change: &Change) -> Result<(), StoreError> {
        let short = |text: &str| text[..text.floor_char_boundary(LONGEST)].to_owned();
        let row = (
            changes::made.eq(change.made),
            changes::who.eq(short(&change.who)),
            changes::client.eq(short(&change.client)),
            changes::what.eq(short(&change.what)),
            changes::status.eq(i32::from(change.status)),
            changes::detail.eq(short(&change.detail)),
        );
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let number: i32 = diesel::insert_into(changes::table)
                    .values(row)
                    .returning(changes::number)
                    .get_result(connection)?;
                diesel::delete(changes::table.filter(changes::number.le(number - MOST))).execute(connection)
            })?)
        })?;
        Ok(())
    }

    /// The newest first: so many of them, before a number where one is given.
    pub fn latest(&self, before: Option<i32>, count: i64) -> Result<Vec<Change>, StoreError> {
        let rows = self.0.run(|connection| {
            let before = before.unwrap_or(i32::MAX);
            let all = changes::table.filter(changes::number.lt(before)).order(changes::number.desc());
            Ok(all.limit(count).load::<Row>(connection)?)
        })?;
        let change = |(number, made, who, client, what, status, detail): Row| Change {
            number,
            made,
            who,
            client,
            what,
            status: u16::try_from(status).unwrap_or_default(),
            detail,
        };
        Ok(rows.into_iter().map(change).collect())
    }
}
