//! Findings that somebody has set aside, and changes that were published with what their rehearsal promised.

use crate::database::{Database, StoreError};
use crate::schema::{publications, set_aside};
use crate::secrets::KIND;
use diesel::prelude::*;
use std::path::Path;

/// How many findings may be set aside, and how many published changes are kept.
const MOST_SET_ASIDE: i64 = 1_000;
const MOST_PUBLICATIONS: i64 = 200;

/// A finding that somebody has set aside.
#[derive(Debug, Clone, PartialEq)]
pub struct SetAside {
    /// What the finding is known by.
    pub id: String,
    /// Its site.
    pub site: String,
    /// What was found, as it was then.
    pub title: String,
    /// Why it is set aside.
    pub reason: String,
    /// When, in seconds since 1970 UTC.
    pub made: i64,
    /// By whom.
    pub made_by: String,
    /// When that ends, in seconds since 1970 UTC; where none, no time ends it.
    pub until: Option<i64>,
    /// It ends when the finding weighs twice as much as this; where none, no weight ends it.
    pub weight: Option<f64>,
}

impl SetAside {
    /// Whether it still holds, at a time and for what the finding weighs then.
    pub fn holds(&self, now: i64, weight: f64) -> bool {
        self.until.is_none_or(|until| now < until) && self.weight.is_none_or(|then| weight < then * 2.0)
    }
}

/// How a published change went in its first minutes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PublicationState {
    /// It is being watched.
    Watched,
    /// Failures stayed within what its rehearsal promised.
    Well,
    /// Failures rose above that.
    Failing,
    /// They did, and the revision before was brought back.
    TakenBack,
}

impl PublicationState {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            PublicationState::Watched => "watched",
            PublicationState::Well => "well",
            PublicationState::Failing => "failing",
            PublicationState::TakenBack => "taken back",
        }
    }

    fn named(name: &str) -> Self {
        let all = [PublicationState::Watched, PublicationState::Well, PublicationState::Failing];
        all.into_iter().find(|state| state.name() == name).unwrap_or(PublicationState::TakenBack)
    }
}

/// A change that was published.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Publication {
    /// The revision that came into force.
    pub revision: i32,
    /// When, in milliseconds since 1970 UTC: requests of the same second came before it and after.
    pub made: i64,
    /// By whom.
    pub made_by: String,
    /// Why.
    pub reason: String,
    /// The revision that was in force before.
    pub before: i32,
    /// What its rehearsal promised, as JSON.
    pub rehearsal: Option<String>,
    /// How it went in its first minutes.
    pub state: PublicationState,
    /// The same in words.
    pub said: String,
}

type SetAsideRow = (String, String, String, String, i64, String, Option<i64>, Option<f64>);
type PublicationRow = (i32, i64, String, String, i32, Option<String>, String, String);

/// All of both.
pub struct Acting(Database);

impl Acting {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Acting(Database::of_ours(state, KIND))
    }

    /// Findings that are set aside, the latest first.
    pub fn set_aside(&self) -> Result<Vec<SetAside>, StoreError> {
        self.0.run(|connection| {
            let all = set_aside::table.order((set_aside::made.desc(), set_aside::id));
            let rows = all.load::<SetAsideRow>(connection)?;
            let found = |(id, site, title, reason, made, made_by, until, weight)| SetAside {
                id,
                site,
                title,
                reason,
                made,
                made_by,
                until,
                weight,
            };
            Ok(rows.into_iter().map(found).collect())
        })
    }

    /// Sets a finding aside, instead of how it was set aside before. `false` where there are too many.
    pub fn set(&self, new: &SetAside) -> Result<bool, StoreError> {
        let row = (
            set_aside::id.eq(&new.id),
            set_aside::site.eq(&new.site),
            set_aside::title.eq(&new.title),
            set_aside::reason.eq(&new.reason),
            set_aside::made.eq(new.made),
            set_aside::made_by.eq(&new.made_by),
            set_aside::until.eq(new.until),
            set_aside::weight.eq(new.weight),
        );
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let others = set_aside::table.filter(set_aside::id.ne(&new.id)).count();
                if others.get_result::<i64>(connection)? >= MOST_SET_ASIDE {
                    return Ok(false);
                }
                diesel::replace_into(set_aside::table).values(row).execute(connection).map(|_| true)
            })?)
        })
    }

    /// No longer sets a finding aside. Says whether it was.
    pub fn unset(&self, id: &str) -> Result<bool, StoreError> {
        self.0.run(|connection| Ok(diesel::delete(set_aside::table.find(id)).execute(connection)? > 0))
    }

    /// Keeps a published change.
    pub fn publish(&self, new: &Publication) -> Result<(), StoreError> {
        let row = (
            publications::revision.eq(new.revision),
            publications::made.eq(new.made),
            publications::made_by.eq(&new.made_by),
            publications::reason.eq(&new.reason),
            publications::before.eq(new.before),
            publications::rehearsal.eq(&new.rehearsal),
            publications::state.eq(new.state.name()),
            publications::said.eq(&new.said),
        );
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                diesel::replace_into(publications::table).values(row).execute(connection)?;
                let newest = publications::table.order(publications::revision.desc());
                let old: Option<i32> = newest
                    .select(publications::revision)
                    .offset(MOST_PUBLICATIONS)
                    .first(connection)
                    .optional()?;
                if let Some(old) = old {
                    let past = publications::table.filter(publications::revision.le(old));
                    diesel::delete(past).execute(connection)?;
                }
                QueryResult::Ok(())
            })?)
        })
    }

    /// Writes down how a published change went.
    pub fn went(&self, revision: i32, state: PublicationState, said: &str) -> Result<(), StoreError> {
        self.0.run(|connection| {
            diesel::update(publications::table.find(revision))
                .set((publications::state.eq(state.name()), publications::said.eq(said)))
                .execute(connection)?;
            Ok(())
        })
    }

    /// Published changes, the latest first: so many.
    pub fn publications(&self, count: usize) -> Result<Vec<Publication>, StoreError> {
        self.0.run(|connection| {
            let all = publications::table.order(publications::revision.desc()).limit(count as i64);
            Ok(all.load::<PublicationRow>(connection)?.into_iter().map(publication).collect())
        })
    }

    /// One of them.
    pub fn publication(&self, revision: i32) -> Result<Option<Publication>, StoreError> {
        self.0.run(|connection| {
            let row = publications::table.find(revision).first::<PublicationRow>(connection).optional()?;
            Ok(row.map(publication))
        })
    }
}

fn publication(
    (revision, made, made_by, reason, before, rehearsal, state, said): PublicationRow,
) -> Publication {
    let state = PublicationState::named(&state);
    Publication { revision, made, made_by, reason, before, rehearsal, state, said }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn finding(until: Option<i64>, weight: Option<f64>) -> SetAside {
        SetAside {
            id: "missing-0a1b2".to_owned(),
            site: "harbour".to_owned(),
            title: "/fog is missing".to_owned(),
            reason: "it never was there".to_owned(),
            made: 1_000,
            made_by: "mara".to_owned(),
            until,
            weight,
        }
    }

    #[rstest]
    #[case::for_good(None, None, true)]
    #[case::until_later(Some(2_001), None, true)]
    #[case::until_now(Some(2_000), None, false)]
    #[case::until_it_doubles(None, Some(20.1), true)]
    #[case::it_has_doubled(None, Some(20.0), false)]
    #[case::whichever_comes_first(Some(3_000), Some(20.0), false)]
    fn what_is_set_aside_comes_back(
        #[case] until: Option<i64>,
        #[case] weight: Option<f64>,
        #[case] holds: bool,
    ) {
        assert_eq!(finding(until, weight).holds(2_000, 40.0), holds);
    }

    #[test]
    fn findings_and_publications_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let acting = Acting::open(folder.path());
        assert!(acting.set(&finding(None, Some(7.5))).unwrap());
        assert!(acting.set(&finding(Some(5), None)).unwrap(), "the same again takes its place");
        assert_eq!(acting.set_aside().unwrap(), [finding(Some(5), None)]);
        assert!(acting.unset("missing-0a1b2").unwrap() && !acting.unset("missing-0a1b2").unwrap());

        let publication = |revision| Publication {
            revision,
            made: 1_000,
            made_by: "mara".to_owned(),
            reason: "notices moved".to_owned(),
            before: revision - 1,
            rehearsal: Some("{}".to_owned()),
            state: PublicationState::Watched,
            said: String::new(),
        };
        for revision in 2..=MOST_PUBLICATIONS as i32 + 4 {
            acting.publish(&publication(revision)).unwrap();
        }
        acting.went(7, PublicationState::Failing, "more failures than promised").unwrap();
        let seventh = acting.publication(7).unwrap().unwrap();
        assert_eq!(
            (seventh.state, &*seventh.said),
            (PublicationState::Failing, "more failures than promised")
        );
        assert_eq!(
            acting.publications(500).unwrap().len(),
            MOST_PUBLICATIONS as usize,
            "the oldest are let go"
        );
        assert_eq!(acting.publication(2).unwrap(), None);
    }
}
