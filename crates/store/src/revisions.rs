//! Every configuration that was in force, with the text of all its files.

use crate::database::{Database, StoreError};
use crate::schema::revisions;
use crate::secrets::KIND;
use diesel::prelude::*;
use std::path::Path;

/// How many revisions are kept, and how much they may take together.
const MOST_REVISIONS: usize = 500;
const MOST_OCTETS: i64 = 64 << 20;

/// A configuration that was in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revision {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// When it came into force, in seconds since 1970 UTC.
    pub made: i64,
    /// Names and texts of its files, the main one first.
    pub files: Vec<(String, String)>,
}

/// All of them.
pub struct Revisions(Database);

impl Revisions {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Revisions(Database::of_ours(state, KIND))
    }

    /// Opens the one of a service, for another program: see [`Database::of_another`].
    pub fn of_another(state: &Path) -> Self {
        Revisions(Database::of_another(state, KIND))
    }

    /// Keeps a configuration that has come into force: its number, and whether it differs from the last one. One that
    /// does not is the same revision.
    pub fn keep(&self, files: Vec<(String, String)>, now: i64) -> Result<(i32, bool), StoreError> {
        let text = serde_json::to_string(&files).unwrap_or_default();
        self.with(|connection| {
            let last = revisions::table
                .order(revisions::number.desc())
                .select((revisions::number, revisions::files))
                .first::<(i32, String)>(connection)
                .optional()?;
            if let Some((number, last)) = last
                && last == text
            {
                return Ok((number, false));
            }
            let number = diesel::insert_into(revisions::table)
                .values((revisions::made.eq(now), revisions::files.eq(text)))
                .returning(revisions::number)
                .get_result(connection)?;
            prune(connection)?;
            Ok((number, true))
        })
    }

    /// Forgets one that did not come into force after all.
    pub fn take_back(&self, number: i32) -> Result<(), StoreError> {
        self.with(|connection| diesel::delete(revisions::table.find(number)).execute(connection)).map(|_| ())
    }

    /// All of them, the newest first.
    pub fn all(&self) -> Result<Vec<Revision>, StoreError> {
        let rows = self.with(|connection| {
            revisions::table.order(revisions::number.desc()).load::<(i32, i64, String)>(connection)
        })?;
        Ok(rows.into_iter().map(revision).collect())
    }

    /// One of them.
    pub fn get(&self, number: i32) -> Result<Option<Revision>, StoreError> {
        let row = self.with(|connection| {
            revisions::table.find(number).first::<(i32, i64, String)>(connection).optional()
        })?;
        Ok(row.map(revision))
    }

    fn with<T>(&self, run: impl FnOnce(&mut SqliteConnection) -> QueryResult<T>) -> Result<T, StoreError> {
        self.0.run(|connection| Ok(run(connection)?))
    }
}

/// Takes away the oldest where there are too many, or where they take too much together. The newest stays in any case.
fn prune(connection: &mut SqliteConnection) -> QueryResult<()> {
    use diesel::dsl::sql;
    use diesel::sql_types::BigInt;
    let sizes = revisions::table
        .order(revisions::number.desc())
        .select((revisions::number, sql::<BigInt>("length(files)")))
        .load::<(i32, i64)>(connection)?;
    let mut octets = 0;
    let first = sizes.iter().enumerate().find(|(nth, (_, size))| {
        octets += size;
        *nth > 0 && (*nth >= MOST_REVISIONS || octets > MOST_OCTETS)
    });
    if let Some((_, (number, _))) = first {
        diesel::delete(revisions::table.filter(revisions::number.le(number))).execute(connection)?;
    }
    Ok(())
}

fn revision((number, made, files): (i32, i64, String)) -> Revision {
    Revision { number, made, files: serde_json::from_str(&files).unwrap_or_default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_differ_is_no_new_revision() {
        let folder = tempfile::tempdir().unwrap();
        let revisions = Revisions::open(folder.path());
        let files = |text: &str| vec![("exedra.toml".to_owned(), text.to_owned())];
        assert_eq!(revisions.keep(files("a"), 1).unwrap(), (1, true));
        assert_eq!(revisions.keep(files("a"), 2).unwrap(), (1, false));
        assert_eq!(revisions.keep(files("b"), 3).unwrap(), (2, true));
        assert_eq!(revisions.keep(files("a"), 4).unwrap(), (3, true));
        assert_eq!(revisions.get(2).unwrap().unwrap(), Revision { number: 2, made: 3, files: files("b") });
        assert_eq!(revisions.all().unwrap().iter().map(|one| one.number).collect::<Vec<_>>(), [3, 2, 1]);
        assert_eq!(revisions.get(9).unwrap(), None);
        // The oldest go where they are too many, or take too much together.
        for number in 0..MOST_REVISIONS {
            revisions.keep(files(&number.to_string()), 6).unwrap();
        }
        assert_eq!(revisions.all().unwrap().len(), MOST_REVISIONS);
        for letter in ["c", "d", "e"] {
            revisions.keep(files(&letter.repeat(30 << 20)), 5).unwrap();
        }
        assert_eq!(revisions.all().unwrap().iter().map(|one| one.number).collect::<Vec<_>>(), [506, 505]);
    }
}
