//! Messages: kept until they are delivered or given up, and for a while after that.
//!
//! Those of one recipient go out in their order: the next one waits until the one before it has been delivered or given up.

use super::Watching;
use crate::database::StoreError;
use crate::schema::messages;
use diesel::prelude::*;
use std::collections::HashSet;

/// How many messages may wait for one recipient: what comes beyond is given up at once.
pub const MOST_WAITING: i64 = 1_000;
/// How many messages are kept that wait no longer.
const MOST_ENDED: i64 = 5_000;

/// What is to be told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewMessage {
    /// By which receivers know repeats: another for each message.
    pub id: String,
    /// Who is told.
    pub recipient: String,
    /// What it is about, in a word.
    pub kind: String,
    /// It, in a line.
    pub subject: String,
    /// It, as JSON: the matter of whoever delivers.
    pub content: String,
    /// It waits until this, in seconds since 1970 UTC.
    pub not_before: i64,
}

/// A message that is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
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
    /// It, as JSON.
    pub content: String,
    /// When it was made, in seconds since 1970 UTC.
    pub made: i64,
    /// What became of it.
    pub state: MessageState,
    /// How often it was tried to deliver it.
    pub attempts: i32,
    /// It waits until this, in seconds since 1970 UTC.
    pub next: i64,
    /// Why the last attempt failed.
    pub failure: Option<String>,
    /// When it was delivered or given up, in seconds since 1970 UTC.
    pub ended: Option<i64>,
}

/// What became of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MessageState {
    /// It is to be delivered.
    Waiting,
    /// It was.
    Delivered,
    /// It could not be.
    GivenUp,
    /// It is told in a later one that gathers some.
    Gathered,
}

impl MessageState {
    const ALL: [(&'static str, MessageState); 4] = [
        ("waiting", MessageState::Waiting),
        ("delivered", MessageState::Delivered),
        ("given up", MessageState::GivenUp),
        ("gathered", MessageState::Gathered),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, state)| *state == self).map_or("", |(name, _)| name)
    }

    fn named(name: &str) -> Self {
        Self::ALL
            .into_iter()
            .find(|(known, _)| *known == name)
            .map_or(MessageState::GivenUp, |(_, state)| state)
    }
}

type Row = (i32, String, String, String, String, String, i64, String, i32, i64, Option<String>, Option<i64>);

impl Watching {
    /// Keeps a message that is not about a decision.
    pub fn send(&self, message: &NewMessage, now: i64) -> Result<i32, StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| write(connection, message, now))?)
        })
    }

    /// Recipients whose first message is due at a second since 1970 UTC, and whether anybody waits at all.
    pub fn waited_for(&self, now: i64) -> Result<(Vec<String>, bool), StoreError> {
        let waiting = messages::state.eq(MessageState::Waiting.name());
        let all: Vec<(String, i64)> = self.0.run(|connection| {
            let all = messages::table.filter(waiting).select((messages::recipient, messages::next));
            Ok(all.order(messages::number).load(connection)?)
        })?;
        let is_any = !all.is_empty();
        let mut seen = HashSet::new();
        let firsts = all.into_iter().filter(|(recipient, _)| seen.insert(recipient.clone()));
        let due = firsts.filter(|(_, next)| *next <= now).map(|(recipient, _)| recipient);
        Ok((due.collect(), is_any))
    }

    /// The first messages that wait for a recipient, in their order.
    pub fn waiting(&self, recipient: &str, count: i64) -> Result<Vec<Message>, StoreError> {
        let waiting = messages::state.eq(MessageState::Waiting.name());
        let rows = self.0.run(|connection| {
            let all = messages::table.filter(waiting.and(messages::recipient.eq(recipient)));
            Ok(all.order(messages::number).limit(count).load::<Row>(connection)?)
        })?;
        Ok(rows.into_iter().map(message).collect())
    }

    /// Puts one message in the place of several that wait, none of which has been tried: it tells of all of them. The number that the
    /// last of them had is before its own. Gives its number; nothing where one of them waits no longer.
    pub fn gather(
        &self,
        numbers: &[i32],
        gathered: &NewMessage,
        now: i64,
    ) -> Result<Option<i32>, StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let these = || messages::number.eq_any(numbers);
                let untried = messages::state.eq(MessageState::Waiting.name()).and(messages::attempts.eq(0));
                let found: i64 =
                    messages::table.filter(these()).filter(untried).count().get_result(connection)?;
                if usize::try_from(found) != Ok(numbers.len()) {
                    return Ok(None);
                }
                let state = messages::state.eq(MessageState::Gathered.name());
                diesel::update(messages::table.filter(these()))
                    .set((state, messages::ended.eq(now)))
                    .execute(connection)?;
                write(connection, gathered, now).map(Some)
            })?)
        })
    }

    /// A message was delivered.
    pub fn delivered(&self, number: i32, now: i64) -> Result<(), StoreError> {
        self.end(number, MessageState::Delivered, None, now)
    }

    /// A message is given up.
    pub fn give_up(&self, number: i32, failure: &str, now: i64) -> Result<(), StoreError> {
        self.end(number, MessageState::GivenUp, Some(failure), now)
    }

    fn end(
        &self,
        number: i32,
        state: MessageState,
        failure: Option<&str>,
        now: i64,
    ) -> Result<(), StoreError> {
        let tried = messages::attempts.eq(messages::attempts + 1);
        let set =
            (messages::state.eq(state.name()), messages::failure.eq(failure), messages::ended.eq(now), tried);
        self.0.run(|connection| {
            diesel::update(messages::table.find(number)).set(set).execute(connection)?;
            Ok(())
        })
    }

    /// An attempt to deliver a message failed; the next one is not before a second since 1970 UTC.
    pub fn failed(&self, number: i32, failure: &str, next: i64) -> Result<(), StoreError> {
        let tried = messages::attempts.eq(messages::attempts + 1);
        let set = (tried, messages::failure.eq(failure), messages::next.eq(next));
        self.0.run(|connection| {
            diesel::update(messages::table.find(number)).set(set).execute(connection)?;
            Ok(())
        })
    }

    /// Lets a message that was given up, or that waits for its next attempt, be tried at once. Says whether there is such a one.
    pub fn retry(&self, number: i32, now: i64) -> Result<bool, StoreError> {
        let tried = messages::state.eq_any([MessageState::Waiting.name(), MessageState::GivenUp.name()]);
        let nothing = (
            messages::state.eq(MessageState::Waiting.name()),
            messages::next.eq(now),
            messages::ended.eq(None::<i64>),
        );
        self.0.run(|connection| {
            let one = messages::table.filter(messages::number.eq(number)).filter(tried);
            Ok(diesel::update(one).set(nothing).execute(connection)? > 0)
        })
    }

    /// The newest first: so many, before a number where one is given.
    pub fn messages(&self, before: Option<i32>, count: i64) -> Result<Vec<Message>, StoreError> {
        let rows = self.0.run(|connection| {
            let before = before.unwrap_or(i32::MAX);
            let all = messages::table.filter(messages::number.lt(before)).order(messages::number.desc());
            Ok(all.limit(count).load::<Row>(connection)?)
        })?;
        Ok(rows.into_iter().map(message).collect())
    }

    /// Deletes messages that name somebody, but those that wait: they are on their way. Says how many there were.
    pub fn erase_messages(&self, name: impl Fn(&str) -> bool) -> Result<usize, StoreError> {
        let waiting = MessageState::Waiting.name();
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let ended = messages::table.filter(messages::state.ne(waiting));
                let all: Vec<(i32, String, String)> = ended
                    .select((messages::number, messages::subject, messages::content))
                    .load(connection)?;
                let named = all.iter().filter(|(_, subject, content)| name(subject) || name(content));
                let numbers: Vec<i32> = named.map(|(number, ..)| *number).collect();
                diesel::delete(messages::table.filter(messages::number.eq_any(numbers))).execute(connection)
            })?)
        })
    }

    /// One message.
    pub fn message(&self, number: i32) -> Result<Option<Message>, StoreError> {
        let row = self
            .0
            .run(|connection| Ok(messages::table.find(number).first::<Row>(connection).optional()?))?;
        Ok(row.map(message))
    }

    /// Messages that were tried and still wait, and those that were given up since a second since 1970 UTC.
    pub fn undelivered(&self, since: i64) -> Result<Vec<Message>, StoreError> {
        let tried = messages::state.eq(MessageState::Waiting.name()).and(messages::attempts.gt(0));
        let given_up = messages::state.eq(MessageState::GivenUp.name()).and(messages::ended.ge(since));
        let rows = self.0.run(|connection| {
            let all = messages::table.filter(tried).or_filter(given_up.assume_not_null());
            Ok(all.order(messages::number).limit(MOST_WAITING).load::<Row>(connection)?)
        })?;
        Ok(rows.into_iter().map(message).collect())
    }
}

/// Writes a message, within a transaction. Gives its number.
pub(super) fn write(connection: &mut SqliteConnection, message: &NewMessage, now: i64) -> QueryResult<i32> {
    let waiting = messages::table.filter(
        messages::state.eq(MessageState::Waiting.name()).and(messages::recipient.eq(&message.recipient)),
    );
    let many: i64 = waiting.count().get_result(connection)?;
    let too_many = many >= MOST_WAITING;
    let state = if too_many { MessageState::GivenUp } else { MessageState::Waiting };
    let failure = too_many.then(|| format!("{MOST_WAITING} messages wait for this recipient already"));
    let row = (
        messages::id.eq(&message.id),
        messages::recipient.eq(&message.recipient),
        messages::kind.eq(&message.kind),
        messages::subject.eq(&message.subject),
        messages::content.eq(&message.content),
        messages::made.eq(now),
        messages::state.eq(state.name()),
        messages::attempts.eq(0),
        messages::next.eq(message.not_before),
        messages::failure.eq(failure),
        messages::ended.eq(too_many.then_some(now)),
    );
    let number: i32 = diesel::insert_into(messages::table)
        .values(row)
        .returning(messages::number)
        .get_result(connection)?;
    // Those that wait no longer, the oldest first.
    let ended = messages::table.filter(messages::state.ne(MessageState::Waiting.name()));
    let kept = ended.select(messages::number).order(messages::number.desc()).offset(MOST_ENDED);
    let last: Option<i32> = kept.first(connection).optional()?;
    if let Some(last) = last {
        let old = messages::table
            .filter(messages::state.ne(MessageState::Waiting.name()).and(messages::number.le(last)));
        diesel::delete(old).execute(connection)?;
    }
    Ok(number)
}

fn message(row: Row) -> Message {
    let (number, id, recipient, kind, subject, content, made, state, attempts, next, failure, ended) = row;
    Message {
        number,
        id,
        recipient,
        kind,
        subject,
        content,
        made,
        state: MessageState::named(&state),
        attempts,
        next,
        failure,
        ended,
    }
}
