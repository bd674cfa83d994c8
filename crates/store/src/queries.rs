//! Statements that somebody kept under a name, for everybody who may ask.

use crate::database::{Database, StoreError};
use crate::schema::queries;
use crate::secrets::KIND;
use diesel::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;

/// How many may be kept.
const MOST: i64 = 1_000;

/// A statement with a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptQuery {
    /// Its name.
    pub name: String,
    /// The question that it answers.
    pub question: String,
    /// The statement.
    pub statement: String,
    /// Usual values of its `:name`s.
    pub parameters: BTreeMap<String, String>,
    /// Who kept it.
    pub owner: String,
    /// When it was changed, in seconds since 1970 UTC.
    pub changed: i64,
}

/// What became of keeping one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keeping {
    /// It is kept.
    Kept,
    /// Somebody else has kept one by this name.
    OfSomebodyElse(String),
    /// There are too many.
    TooMany,
}

type Row = (String, String, String, String, String, i64);

/// All of them.
pub struct KeptQueries(Database);

impl KeptQueries {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        KeptQueries(Database::of_ours(state, KIND))
    }

    /// All, by name.
    pub fn all(&self) -> Result<Vec<KeptQuery>, StoreError> {
        let rows =
            self.0.run(|connection| Ok(queries::table.order(queries::name).load::<Row>(connection)?))?;
        Ok(rows.into_iter().map(query).collect())
    }

    /// Keeps one, instead of the one that its owner has kept by this name.
    pub fn keep(&self, query: &KeptQuery) -> Result<Keeping, StoreError> {
        let parameters = serde_json::to_string(&query.parameters).unwrap_or_default();
        let row = (
            queries::name.eq(&query.name),
            queries::question.eq(&query.question),
            queries::statement.eq(&query.statement),
            queries::parameters.eq(parameters),
            queries::owner.eq(&query.owner),
            queries::changed.eq(query.changed),
        );
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let known: Option<String> =
                    queries::table.find(&query.name).select(queries::owner).first(connection).optional()?;
                match known {
                    Some(owner) if owner != query.owner => return Ok(Keeping::OfSomebodyElse(owner)),
                    None if queries::table.count().get_result::<i64>(connection)? >= MOST => {
                        return Ok(Keeping::TooMany);
                    }
                    _ => {}
                }
                diesel::replace_into(queries::table).values(row).execute(connection).map(|_| Keeping::Kept)
            })?)
        })
    }

    /// Forgets one. Says whether there was one.
    pub fn forget(&self, name: &str) -> Result<bool, StoreError> {
        self.0.run(|connection| Ok(diesel::delete(queries::table.find(name)).execute(connection)? > 0))
    }
}

fn query((name, question, statement, parameters, owner, changed): Row) -> KeptQuery {
    let parameters = serde_json::from_str(&parameters).unwrap_or_default();
    KeptQuery { name, question, statement, parameters, owner, changed }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_somebody_kept_is_theirs_and_stays() {
        let state = tempfile::tempdir().unwrap();
        let of = |owner: &str, statement: &str| KeptQuery {
            name: "mine".to_owned(),
            question: "How many?".to_owned(),
            statement: statement.to_owned(),
            parameters: BTreeMap::from([("least".to_owned(), "3".to_owned())]),
            owner: owner.to_owned(),
            changed: 1,
        };
        let queries = KeptQueries::open(state.path());
        assert_eq!(queries.keep(&of("ann", "select 1")).unwrap(), Keeping::Kept);
        assert_eq!(queries.keep(&of("ben", "select 2")).unwrap(), Keeping::OfSomebodyElse("ann".to_owned()));
        assert_eq!(queries.keep(&of("ann", "select 3")).unwrap(), Keeping::Kept);
        let again = KeptQueries::open(state.path());
        assert_eq!(again.all().unwrap(), [of("ann", "select 3")]);
        assert!(again.forget("mine").unwrap() && !again.forget("mine").unwrap());
    }
}
