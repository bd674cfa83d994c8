//! What has been told of each alert, what people said about it, and when alerts were raised.

use super::Watching;
use crate::database::StoreError;
use crate::schema::{alert_history, alerts};
use diesel::prelude::*;

/// How many stretches are kept in the history.
const MOST: i32 = 10_000;

/// What is remembered of an alert.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KnownAlert {
    /// Its name.
    pub name: String,
    /// The first minute that was not looked at yet, since 1970 UTC.
    pub until: i64,
    /// The minute from which on it is raised, where that has been told.
    pub raised: Option<i64>,
    /// Who has seen that it is raised.
    pub seen_by: Option<String>,
    /// Who has silenced it, where somebody has.
    pub silence: Option<Silence>,
}

/// An alert of which nobody is told for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    /// The first second in which it speaks again, since 1970 UTC.
    pub until: i64,
    /// Who said so.
    pub by: String,
    /// Why.
    pub reason: String,
}

/// What was found out about an alert.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    /// Its name.
    pub alert: String,
    /// The first minute that was not looked at, since 1970 UTC.
    pub until: i64,
    /// The minute from which on it is raised, where it is.
    pub raised: Option<i64>,
    /// What belongs into the history.
    pub news: Vec<News>,
}

/// A change of the history. Minutes are counted since 1970 UTC.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum News {
    /// It is raised from a minute on.
    Raised(Stretch),
    /// The stretch that goes on is over.
    Over(Stretch),
    /// It was raised and is over.
    Passed(Stretch),
}

/// A stretch of time for which an alert was raised.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stretch {
    /// The minute with which it began.
    pub began: i64,
    /// The minute with which it was over; absent while it goes on.
    pub ended: Option<i64>,
    /// The figure that was furthest beyond the bound, in words.
    pub figure: String,
    /// The client that had it, where it is about one.
    pub client: Option<String>,
}

/// A line of the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastAlert {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// The alert.
    pub alert: String,
    /// When it was raised.
    pub stretch: Stretch,
}

type Row = (String, i64, Option<i64>, String, i64, String, String);
type HistoryRow = (i32, String, i64, Option<i64>, String, Option<String>);

impl Watching {
    /// What is remembered of all alerts. A silence is, also when it is over, until it is ended.
    pub fn alerts(&self) -> Result<Vec<KnownAlert>, StoreError> {
        let rows =
            self.0.run(|connection| Ok(alerts::table.order(alerts::name).load::<Row>(connection)?))?;
        let known = |(name, until, raised, seen_by, silent_until, by, reason): Row| KnownAlert {
            name,
            until,
            raised,
            seen_by: Some(seen_by).filter(|by| !by.is_empty()),
            silence: (silent_until > 0).then_some(Silence { until: silent_until, by, reason }),
        };
        Ok(rows.into_iter().map(known).collect())
    }

    /// Forgets alerts that are not among these: they are no longer configured. What of their history goes on is over with a minute.
    pub fn forget_other_alerts(&self, names: &[&str], minute: i64) -> Result<(), StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let others = alert_history::table.filter(alert_history::alert.ne_all(names));
                let open = others.filter(alert_history::ended.is_null());
                diesel::update(open).set(alert_history::ended.eq(minute)).execute(connection)?;
                diesel::delete(alerts::table.filter(alerts::name.ne_all(names))).execute(connection)?;
                QueryResult::Ok(())
            })?)
        })
    }

    /// Silences an alert, or ends that. Says whether anything is remembered of such an alert.
    pub fn silence(&self, alert: &str, silence: Option<&Silence>) -> Result<bool, StoreError> {
        let (until, by, reason) =
            silence.map_or((0, "", ""), |silence| (silence.until, &silence.by, &silence.reason));
        let set =
            (alerts::silent_until.eq(until), alerts::silent_by.eq(by), alerts::silent_reason.eq(reason));
        self.0
            .run(|connection| Ok(diesel::update(alerts::table.find(alert)).set(set).execute(connection)? > 0))
    }

    /// Says who has seen that an alert is raised. Gives whether it is.
    pub fn see(&self, alert: &str, by: &str) -> Result<bool, StoreError> {
        self.0.run(|connection| {
            let raised = alerts::table.filter(alerts::name.eq(alert)).filter(alerts::raised.is_not_null());
            Ok(diesel::update(raised).set(alerts::seen_by.eq(by)).execute(connection)? > 0)
        })
    }

    /// Takes a client out of the history. Says how many stretches named it.
    pub fn erase_client(&self, is: impl Fn(&str) -> bool) -> Result<usize, StoreError> {
        self.0.run(|connection| {
            Ok(connection.immediate_transaction(|connection| {
                let named = alert_history::table.filter(alert_history::client.is_not_null());
                let all: Vec<(i32, Option<String>)> =
                    named.select((alert_history::number, alert_history::client)).load(connection)?;
                let of_client = all.iter().filter(|(_, client)| client.as_deref().is_some_and(&is));
                let numbers: Vec<i32> = of_client.map(|(number, _)| *number).collect();
                let these = alert_history::table.filter(alert_history::number.eq_any(numbers));
                diesel::update(these).set(alert_history::client.eq(None::<String>)).execute(connection)
            })?)
        })
    }

    /// The history, the newest first: so many stretches, before a number where one is given, of one alert where one is.
    pub fn history(
        &self,
        alert: Option<&str>,
        before: Option<i32>,
        count: i64,
    ) -> Result<Vec<PastAlert>, StoreError> {
        let rows = self.0.run(|connection| {
            let before = before.unwrap_or(i32::MAX);
            let mut all = alert_history::table.filter(alert_history::number.lt(before)).into_boxed();
            if let Some(alert) = alert {
                all = all.filter(alert_history::alert.eq(alert));
            }
            Ok(all.order(alert_history::number.desc()).limit(count).load::<HistoryRow>(connection)?)
        })?;
        let past = |(number, alert, began, ended, figure, client): HistoryRow| PastAlert {
            number,
            alert,
            stretch: Stretch { began, ended, figure, client },
        };
        Ok(rows.into_iter().map(past).collect())
    }
}

/// Writes a decision, within a transaction.
pub(super) fn write(connection: &mut SqliteConnection, decision: &Decision) -> QueryResult<()> {
    let known: Option<Option<i64>> =
        alerts::table.find(&decision.alert).select(alerts::raised).first(connection).optional()?;
    let now = (alerts::until.eq(decision.until), alerts::raised.eq(decision.raised));
    match known {
        Some(before) => {
            diesel::update(alerts::table.find(&decision.alert)).set(now).execute(connection)?;
            if before != decision.raised {
                // Whoever saw the last one has not seen this.
                let unseen = alerts::seen_by.eq("");
                diesel::update(alerts::table.find(&decision.alert)).set(unseen).execute(connection)?;
            }
        }
        None => {
            let nothing = (
                alerts::name.eq(&decision.alert),
                alerts::seen_by.eq(""),
                alerts::silent_until.eq(0),
                alerts::silent_by.eq(""),
                alerts::silent_reason.eq(""),
            );
            diesel::insert_into(alerts::table).values((nothing, now)).execute(connection)?;
        }
    }
    for news in &decision.news {
        if let News::Over(stretch) = news {
            let of_alert = alert_history::table.filter(alert_history::alert.eq(&decision.alert));
            let open = of_alert.filter(alert_history::ended.is_null());
            let figures = (
                alert_history::ended.eq(stretch.ended),
                alert_history::figure.eq(&stretch.figure),
                alert_history::client.eq(&stretch.client),
            );
            if diesel::update(open).set(figures).execute(connection)? > 0 {
                continue;
            }
        }
        let (News::Raised(stretch) | News::Over(stretch) | News::Passed(stretch)) = news;
        let row = (
            alert_history::alert.eq(&decision.alert),
            alert_history::began.eq(stretch.began),
            alert_history::ended.eq(stretch.ended),
            alert_history::figure.eq(&stretch.figure),
            alert_history::client.eq(&stretch.client),
        );
        let number: i32 = diesel::insert_into(alert_history::table)
            .values(row)
            .returning(alert_history::number)
            .get_result(connection)?;
        let old = alert_history::table.filter(alert_history::number.le(number - MOST));
        diesel::delete(old).execute(connection)?;
    }
    Ok(())
}
