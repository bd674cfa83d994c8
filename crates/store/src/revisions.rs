//! Every configuration that was in force, with the text of all its files. A text that is part of many is kept once.

use crate::database::{Database, StoreError};
use crate::schema::{contents, revisions};
use crate::secrets::{KIND, hash};
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;

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
    pub files: Vec<(String, Arc<str>)>,
    /// Whether something of it is lost, or is not what was kept.
    pub damaged: bool,
}

/// A row of the table of revisions.
type Row = (i32, i64, String, bool);

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
    pub fn keep(&self, files: &[(String, &str)], now: i64) -> Result<(i32, bool), StoreError> {
        let hashed: Vec<(&str, String, &str)> =
            files.iter().map(|(name, text)| (name.as_str(), hash(text), *text)).collect();
        let names: Vec<(&str, &str)> = hashed.iter().map(|(name, hash, _)| (*name, hash.as_str())).collect();
        let written = serde_json::to_string(&names).unwrap_or_default();
        self.0.run(|connection| {
            connection.immediate_transaction(|connection| {
                let last = revisions::table
                    .order(revisions::number.desc())
                    .select((revisions::number, revisions::files))
                    .first::<(i32, String)>(connection)
                    .optional()?;
                if let Some((number, last)) = last
                    && last == written
                {
                    return Ok((number, false));
                }
                for (_, hash, text) in &hashed {
                    diesel::insert_or_ignore_into(contents::table)
                        .values((contents::hash.eq(hash), contents::text.eq(text)))
                        .execute(connection)?;
                }
                let row =
                    (revisions::made.eq(now), revisions::files.eq(&written), revisions::by_hash.eq(true));
                let number = diesel::insert_into(revisions::table)
                    .values(row)
                    .returning(revisions::number)
                    .get_result(connection)?;
                prune(connection)?;
                Ok((number, true))
            })
        })
    }

    /// Forgets one that did not come into force after all.
    pub fn take_back(&self, number: i32) -> Result<(), StoreError> {
        self.with(|connection| diesel::delete(revisions::table.find(number)).execute(connection)).map(|_| ())
    }

    /// The newest first: so many of them, before a number where one is given. Texts that they have in common are the same.
    pub fn latest(&self, before: Option<i32>, count: usize) -> Result<Vec<Revision>, StoreError> {
        self.with(|connection| {
            let all = revisions::table.filter(revisions::number.lt(before.unwrap_or(i32::MAX)));
            let rows = all.order(revisions::number.desc()).limit(count as i64).load::<Row>(connection)?;
            let mut texts = HashMap::new();
            rows.into_iter().map(|row| revision(row, &mut texts, connection)).collect()
        })
    }

    /// The newest.
    pub fn newest(&self) -> Result<Option<Revision>, StoreError> {
        self.with(|connection| {
            let row = revisions::table.order(revisions::number.desc()).first::<Row>(connection).optional()?;
            row.map(|row| revision(row, &mut HashMap::new(), connection)).transpose()
        })
    }

    /// One of them. Its texts are held against their hashes.
    pub fn get(&self, number: i32) -> Result<Option<Revision>, StoreError> {
        self.with(|connection| {
            let Some(row) = revisions::table.find(number).first::<Row>(connection).optional()? else {
                return Ok(None);
            };
            let mut texts = HashMap::new();
            let mut found = revision(row, &mut texts, connection)?;
            found.damaged |= texts.iter().any(|(told, text)| hash(text) != *told);
            Ok(Some(found))
        })
    }

    fn with<T>(&self, run: impl FnOnce(&mut SqliteConnection) -> QueryResult<T>) -> Result<T, StoreError> {
        self.0.run(|connection| Ok(run(connection)?))
    }
}

/// Takes away the oldest where there are too many, or where they take too much together, and texts that are part of none
/// any longer. The newest stays in any case.
fn prune(connection: &mut SqliteConnection) -> QueryResult<()> {
    let rows = revisions::table.order(revisions::number.desc()).load::<Row>(connection)?;
    let sizes = contents::table.select((contents::hash, sql::<BigInt>("length(text)")));
    let sizes: HashMap<String, i64> = sizes.load::<(String, i64)>(connection)?.into_iter().collect();
    let (mut octets, mut used, mut first) = (0, HashSet::new(), None);
    for (nth, (number, _, files, by_hash)) in rows.iter().enumerate() {
        let names: Vec<(String, String)> = serde_json::from_str(files).unwrap_or_default();
        let hashes: Vec<String> = names.into_iter().map(|(_, hash)| hash).collect();
        octets += files.len() as i64;
        if *by_hash {
            let fresh = hashes.iter().filter(|hash| !used.contains(*hash)).collect::<HashSet<_>>();
            octets += fresh.into_iter().filter_map(|hash| sizes.get(hash)).sum::<i64>();
        }
        if nth > 0 && (nth >= MOST_REVISIONS || octets > MOST_OCTETS) {
            first = Some(*number);
            break;
        }
        used.extend(hashes);
    }
    if let Some(number) = first {
        diesel::delete(revisions::table.filter(revisions::number.le(number))).execute(connection)?;
    }
    for hash in sizes.keys().filter(|hash| !used.contains(*hash)) {
        diesel::delete(contents::table.find(hash)).execute(connection)?;
    }
    Ok(())
}

/// A revision of its row, with texts that are not known yet.
fn revision(
    (number, made, files, by_hash): Row,
    texts: &mut HashMap<String, Arc<str>>,
    connection: &mut SqliteConnection,
) -> QueryResult<Revision> {
    let named: Vec<(String, String)> = serde_json::from_str(&files).unwrap_or_default();
    let mut found = Revision { number, made, files: Vec::new(), damaged: named.is_empty() };
    for (name, told) in named {
        let text = match (by_hash, texts.get(&told)) {
            (false, _) => Some(told.into()),
            (true, Some(known)) => Some(Arc::clone(known)),
            (true, None) => {
                let row = contents::table.find(&told).select(contents::text);
                let text: Option<Arc<str>> = row.first::<String>(connection).optional()?.map(Into::into);
                texts.extend(text.clone().map(|text| (told, text)));
                text
            }
        };
        match text {
            Some(text) => found.files.push((name, text)),
            None => found.damaged = true,
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_differ_is_no_new_revision() {
        let folder = tempfile::tempdir().unwrap();
        let revisions = Revisions::open(folder.path());
        let keep = |text: &str, now| revisions.keep(&[("exedra.toml".to_owned(), text)], now).unwrap();
        assert_eq!(keep("a", 1), (1, true));
        assert_eq!(keep("a", 2), (1, false));
        assert_eq!(keep("b", 3), (2, true));
        assert_eq!(keep("a", 4), (3, true));
        let second = revisions.get(2).unwrap().unwrap();
        assert_eq!((second.number, second.made, &*second.files[0].1), (2, 3, "b"));
        assert_eq!(revisions.newest().unwrap().unwrap().number, 3);
        assert_eq!(
            revisions.latest(None, 1000).unwrap().iter().map(|one| one.number).collect::<Vec<_>>(),
            [3, 2, 1]
        );
        assert_eq!(revisions.get(9).unwrap(), None);
        // The oldest go where they are too many, or take too much together.
        for number in 0..MOST_REVISIONS {
            keep(&number.to_string(), 6);
        }
        assert_eq!(revisions.latest(None, 1000).unwrap().len(), MOST_REVISIONS);
        for letter in ["c", "d", "e"] {
            keep(&letter.repeat(30 << 20), 5);
        }
        assert_eq!(
            revisions.latest(None, 1000).unwrap().iter().map(|one| one.number).collect::<Vec<_>>(),
            [506, 505]
        );
    }

    #[test]
    fn a_large_list_is_kept_once_however_often_the_rest_changes() {
        let folder = tempfile::tempdir().unwrap();
        let revisions = Revisions::open(folder.path());
        let list = "/old,/new\n".repeat(1 << 20);
        let keep = |text: &str, list: &str, now| {
            let files = [("exedra.toml".to_owned(), text), ("moved.csv".to_owned(), list)];
            revisions.keep(&files, now).unwrap()
        };
        for number in 0..40 {
            keep(&number.to_string(), &list, number);
        }
        let all = revisions.latest(None, 1000).unwrap();
        assert_eq!(all.len(), 40);
        assert!(Arc::ptr_eq(&all[0].files[1].1, &all[39].files[1].1) && *all[0].files[1].1 == *list);
        let octets = |name: &str| folder.path().join(name).metadata().unwrap().len();
        assert!(octets("exedra.db") + octets("exedra.db-wal") < 40 << 20);
        // What is part of none any longer goes.
        for number in 0..MOST_REVISIONS {
            keep(&number.to_string(), "other", 9);
        }
        assert!(revisions.latest(None, 1000).unwrap().iter().all(|one| *one.files[1].1 == *"other"));
        let left =
            revisions.with(|connection| contents::table.count().get_result::<i64>(connection)).unwrap();
        assert_eq!(left, MOST_REVISIONS as i64 + 1);
    }
    #[test]
    fn a_revision_of_which_something_is_lost_or_altered_says_so() {
        let folder = tempfile::tempdir().unwrap();
        let revisions = Revisions::open(folder.path());
        for text in ["a", "b", "c"] {
            revisions.keep(&[("exedra.toml".to_owned(), text)], 1).unwrap();
        }
        revisions
            .with(|connection| {
                diesel::delete(contents::table.find(hash("a"))).execute(connection)?;
                diesel::update(contents::table.find(hash("b")))
                    .set(contents::text.eq("x"))
                    .execute(connection)
            })
            .unwrap();
        let damaged = |number| revisions.get(number).unwrap().unwrap().damaged;
        assert_eq!((damaged(1), damaged(2), damaged(3)), (true, true, false));
        assert_eq!(revisions.latest(None, 1000).unwrap().len(), 3, "the others are there");
    }
}
