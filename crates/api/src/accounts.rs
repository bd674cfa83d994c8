//! Who may use the console and its API: signing in, accounts, sessions, tokens, and the record of what was changed.

use exedra_common::grant::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A name and a password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// Name of the account.
    pub name: String,
    /// Its password.
    pub password: String,
}

/// Whoever asks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// Name of the account, or what the token is for, or that it came by a sign-in link.
    pub name: String,
    /// Name of the account, where there is one: its password can be changed.
    pub account: Option<String>,
    /// What may be done.
    pub role: Role,
    /// Sites that may be seen; all where there is none.
    pub sites: Option<Vec<String>>,
}

/// An account, without its password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its name.
    pub name: String,
    /// What it may do.
    pub role: Role,
    /// Sites that it may see; all where there is none.
    pub sites: Option<Vec<String>>,
    /// When it was made (RFC 3339).
    pub made: String,
}

/// An account that is to be made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccount {
    /// Its name: letters, digits, `-`, `_`, `.` and `@`.
    pub name: String,
    /// Its password, of at least ten letters.
    pub password: String,
    /// What it may do.
    pub role: Role,
    /// Sites that it may see; all where there is none.
    #[serde(default)]
    pub sites: Option<Vec<String>>,
}

/// What is to be changed of an account; the rest stays.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AccountChanges {
    /// Another password. It ends all sessions of the account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// What it may do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// Sites that it may see from now on; an empty list for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sites: Option<Vec<String>>,
}

/// Another password for one's own account.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    /// The password as it is.
    pub password: String,
    /// The password as it is to be, of at least ten letters.
    pub new: String,
}

/// A browser that is signed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// What it is known by.
    pub id: String,
    /// Its account; none for whoever came by a sign-in link.
    pub account: Option<String>,
    /// When it began (RFC 3339).
    pub made: String,
    /// When it ends (RFC 3339).
    pub expires: String,
    /// When it was used last, to the minute (RFC 3339); none where it never was.
    pub used: Option<String>,
    /// Whether it is the one that asks.
    pub is_own: bool,
}

/// A token, without what it opens the API with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// What it is known by.
    pub id: String,
    /// What it is for.
    pub label: String,
    /// What it may do.
    pub role: Role,
    /// Sites that it may see; all where there is none.
    pub sites: Option<Vec<String>>,
    /// Who made it.
    pub made_by: String,
    /// When it was made (RFC 3339).
    pub made: String,
    /// When it ends (RFC 3339).
    pub expires: String,
    /// When it was used last, to the minute (RFC 3339); none where it never was.
    pub used: Option<String>,
}

/// A token that is to be made.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    pub label: String,
    /// What it may do.
    pub role: Role,
    /// Sites that it may see; all where there is none.
    #[serde(default)]
    pub sites: Option<Vec<String>>,
    /// In how many days it ends: 1 to 730.
    pub days: u32,
}

/// A token that was made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// It, as it is listed.
    pub token: Token,
    /// What programs send (`Authorization: Bearer …`). It is shown this once and kept nowhere.
    pub secret: String,
}

/// A change that was made by the API, or tried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Its number; later ones have greater ones.
    pub number: i32,
    /// When (RFC 3339).
    pub made: String,
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
