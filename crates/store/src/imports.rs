//! Logs of elsewhere whose requests were brought into the records.
//!
//! How far each has been read stands in `requests.db`, in one transaction with its requests ([`crate::Records::take_in`]): so
//! nothing is counted twice and nothing is left out, whenever it ends.

use crate::database::{Database, StoreError};
use crate::schema::imports;
use crate::secrets::{KIND, random};
use diesel::dsl::sql;
use diesel::expression::SqlLiteral;
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use std::path::Path;

/// How many logs may be brought in.
const MOST: i64 = 100_000;

/// A log that was brought in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Import {
    /// What it is known by here.
    pub id: String,
    /// The site that its requests went to.
    pub site: String,
    /// As it was named by whoever brought it.
    pub name: String,
    /// By what whoever brings it knows it again, as JSON.
    pub known: String,
    /// When it was begun, in seconds since 1970 UTC.
    pub made: i64,
    /// Who began it.
    pub made_by: String,
}

impl Import {
    /// The name of its log in the records.
    pub fn source(&self) -> String {
        format!("{IMPORTED}{}", self.id)
    }
}

/// How the names of logs begin in the records that were brought in.
pub const IMPORTED: &str = "import:";

type Row = (String, String, String, String, i64, String);

/// All of them.
pub struct Imports(Database);

impl Imports {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Imports(Database::of_ours(state, KIND))
    }

    /// So many of them behind one, in the order of [`Self::all`]; from the first on where there is none. `None` where there is no
    /// such import.
    pub fn page(&self, behind: Option<&str>, count: usize) -> Result<Option<Vec<Import>>, StoreError> {
        let all = imports::table.order(begun().desc()).limit(count as i64);
        let rows = self.0.run(|connection| {
            let Some(behind) = behind else { return Ok(Some(all.load::<Row>(connection)?)) };
            let nth = imports::table.find(behind).select(begun()).first::<i64>(connection).optional()?;
            let Some(nth) = nth else { return Ok(None) };
            Ok(Some(all.filter(begun().lt(nth)).load::<Row>(connection)?))
        })?;
        Ok(rows.map(|rows| rows.into_iter().map(import).collect()))
    }

    /// All, the newest first.
    pub fn all(&self) -> Result<Vec<Import>, StoreError> {
        let all = imports::table.order(begun().desc());
        let rows = self.0.run(|connection| Ok(all.load::<Row>(connection)?))?;
        Ok(rows.into_iter().map(import).collect())
    }

    /// One of them.
    pub fn get(&self, id: &str) -> Result<Option<Import>, StoreError> {
        let row =
            self.0.run(|connection| Ok(imports::table.find(id).first::<Row>(connection).optional()?))?;
        Ok(row.map(import))
    }

    /// Begins one, and gives it what it is known by; `None` where there are too many.
    pub fn begin(&self, new: Import) -> Result<Option<Import>, StoreError> {
        let new = Import { id: random(9), ..new };
        let row = (
            imports::id.eq(&new.id),
            imports::site.eq(&new.site),
            imports::name.eq(&new.name),
            imports::known.eq(&new.known),
            imports::made.eq(new.made),
            imports::made_by.eq(&new.made_by),
        );
        let begun = self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                if imports::table.count().get_result::<i64>(connection)? >= MOST {
                    return Ok(false);
                }
                diesel::insert_into(imports::table).values(row).execute(connection).map(|_| true)
            })?)
        })?;
        Ok(begun.then_some(new))
    }

    /// Forgets one. Says whether there was one.
    pub fn forget(&self, id: &str) -> Result<bool, StoreError> {
        self.0.run(|connection| Ok(diesel::delete(imports::table.find(id)).execute(connection)? > 0))
    }
}

/// In which order they were begun: several may be in one second.
fn begun() -> SqlLiteral<BigInt> {
    sql("rowid")
}

fn import((id, site, name, known, made, made_by): Row) -> Import {
    Import { id, site, name, known, made, made_by }
}
