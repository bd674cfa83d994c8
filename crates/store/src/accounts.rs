//! Who may use the console and its API by a name and a password.
//!
//! Nothing here knows what a password is: it is handed over as it is kept. Whoever is taken out, or gets another password, loses
//! their sessions with it.

use crate::database::{Database, StoreError};
use crate::grant;
use crate::schema::{accounts, secrets};
use crate::secrets::KIND;
use diesel::prelude::*;
use exedra_common::grant::Grant;
use std::path::Path;

/// How many accounts there may be.
const MOST: i64 = 1000;

/// An account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Its name.
    pub name: String,
    /// Its password as it is kept (Argon2id, as a PHC string).
    pub password: String,
    /// What it may do and see.
    pub grant: Grant,
    /// When it was made, in seconds since 1970 UTC.
    pub made: i64,
}

/// What is changed of an account.
#[derive(Debug, Clone, Default)]
pub struct AccountChange {
    /// Its password, as it is kept.
    pub password: Option<String>,
    /// What it may do and see.
    pub grant: Option<Grant>,
}

/// What came of making an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Added {
    /// It is there now.
    New,
    /// There is one of that name.
    Taken,
    /// There are too many.
    TooMany,
}

/// All of them.
pub struct Accounts(Database);

type Row = (String, String, String, String, i64);

impl Accounts {
    /// Opens `exedra.db` in the state folder, for the service that it belongs to.
    pub fn open(state: &Path) -> Self {
        Accounts(Database::of_ours(state, KIND))
    }

    /// All, by name.
    pub fn all(&self) -> Result<Vec<Account>, StoreError> {
        let rows = self.with(|connection| accounts::table.order(accounts::name).load::<Row>(connection))?;
        Ok(rows.into_iter().map(account).collect())
    }

    /// One of them.
    pub fn get(&self, name: &str) -> Result<Option<Account>, StoreError> {
        let row = self.with(|connection| accounts::table.find(name).first::<Row>(connection).optional())?;
        Ok(row.map(account))
    }

    /// Makes one.
    pub fn add(&self, new: &Account) -> Result<Added, StoreError> {
        self.with(|connection| {
            connection.immediate_transaction(|connection| {
                if accounts::table.count().get_result::<i64>(connection)? >= MOST {
                    return Ok(Added::TooMany);
                }
                let row = (
                    accounts::name.eq(&new.name),
                    accounts::password.eq(&new.password),
                    accounts::role.eq(new.grant.role.name()),
                    accounts::sites.eq(grant::sites(&new.grant)),
                    accounts::made.eq(new.made),
                );
                let added = diesel::insert_or_ignore_into(accounts::table).values(row).execute(connection)?;
                Ok(if added == 1 { Added::New } else { Added::Taken })
            })
        })
    }

    /// Changes one. Another password ends its sessions. Says whether there is such an account.
    pub fn change(&self, name: &str, change: &AccountChange) -> Result<bool, StoreError> {
        self.with(|connection| {
            connection.immediate_transaction(|connection| {
                let known = accounts::table.find(name).count().get_result::<i64>(connection)? > 0;
                if let Some(password) = change.password.as_ref().filter(|_| known) {
                    diesel::update(accounts::table.find(name))
                        .set(accounts::password.eq(password))
                        .execute(connection)?;
                    end_sessions(name, connection)?;
                }
                if let Some(grant) = change.grant.as_ref().filter(|_| known) {
                    let values =
                        (accounts::role.eq(grant.role.name()), accounts::sites.eq(grant::sites(grant)));
                    diesel::update(accounts::table.find(name)).set(values).execute(connection)?;
                }
                Ok(known)
            })
        })
    }

    /// Takes one out, and ends its sessions. Says whether there was one.
    pub fn remove(&self, name: &str) -> Result<bool, StoreError> {
        self.with(|connection| {
            connection.immediate_transaction(|connection| {
                end_sessions(name, connection)?;
                Ok(diesel::delete(accounts::table.find(name)).execute(connection)? > 0)
            })
        })
    }

    fn with<T>(&self, run: impl FnOnce(&mut SqliteConnection) -> QueryResult<T>) -> Result<T, StoreError> {
        self.0.run(|connection| Ok(run(connection)?))
    }
}

fn end_sessions(account: &str, connection: &mut SqliteConnection) -> QueryResult<()> {
    diesel::delete(secrets::table.filter(secrets::account.eq(account))).execute(connection).map(|_| ())
}

fn account((name, password, role, sites, made): Row) -> Account {
    Account { name, password, grant: grant::understood(&role, &sites), made }
}
