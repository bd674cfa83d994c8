//! The calls about who may use the console: accounts, sessions, tokens, and the record of what was changed.

use super::blocking::{blocking, working};
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use super::peer::Peer;
use super::query::{BeforeNumber, Parameters};
use super::recording::ChangeDetail;
use crate::access::guards::login_throttle::Who;
use crate::access::guards::password_check::Checked;
use crate::access::guards::{hash, verify};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use exedra_answering::config::Config;
use exedra_api::Problem;
use exedra_api::accounts::{
    Account, AccountChanges, Change, MadeToken, Me, NewAccount, NewToken, PasswordChange, Session, Token,
};
use exedra_common::grant::Grant;
use exedra_store::accounts::Added;
use exedra_store::{AccountChange, Holder, IssuedSecret, Purpose};

/// The shortest password, in letters (NIST SP 800-63B asks for eight at least).
const SHORTEST: usize = 10;
/// The longest, in octets: checking one takes time.
const LONGEST: usize = 1024;
/// The longest name of an account or a token, in octets.
const LONGEST_NAME: usize = 100;
/// The most days that a token lasts.
const MOST_DAYS: u32 = 730;
const DAY: i64 = 24 * 3600;
/// How many changes are given at a time.
const CHANGES: i64 = 200;

/// Whoever asks.
#[utoipa::path(get, path = "/me", responses((status = 200, body = Me)))]
pub async fn me(caller: Caller) -> Json<Me> {
    Json(caller.me())
}

/// Changes the password of whoever asks, and ends their sessions.
#[utoipa::path(post, path = "/me/password", request_body = PasswordChange,
    responses((status = 204), (status = 409, body = Problem)))]
pub async fn change_password(
    caller: Caller,
    Extension(Peer(client)): Extension<Peer>,
    Sent(change): Sent<PasswordChange>,
) -> Result<Response, Failure> {
    let console = caller.console().clone();
    let Some(name) = caller.account().map(str::to_owned) else {
        let words = "whoever came by a sign-in link or a token has no password";
        return Err(Failure::Conflict(words.to_owned()));
    };
    acceptable(&change.new)?;
    let known = console.accounts.get(&name)?.ok_or(Failure::Internal)?;
    let (who, given) = (Who::new(client, Some((usize::MAX, &name))), change.password);
    match console.passwords.check(who, move || verify(&given, &known.password)).await {
        Checked::Right => {}
        Checked::Wrong => {
            return Err(Failure::Conflict("the password as it is was given wrongly".to_owned()));
        }
        Checked::Later { seconds } => {
            return Err(Failure::Conflict(format!("too many attempts at a time: try again in {seconds} s")));
        }
    }
    let _done = working(move |_| {
        let password = Some(hash(&change.new).ok_or(Failure::Internal)?);
        console.accounts.change(&name, &AccountChange { password, grant: None })?;
        Ok(())
    })
    .await?;
    Ok(StatusCode::NO_CONTENT.into_response())
}

/// Accounts, by name.
#[utoipa::path(get, path = "/accounts", responses((status = 200, body = Vec<Account>)))]
pub async fn accounts(caller: Caller) -> Result<Json<Vec<Account>>, Failure> {
    let console = caller.console().clone();
    blocking(move || Ok(console.accounts.all()?.iter().map(shown).collect())).await
}

/// Makes an account.
#[utoipa::path(post, path = "/accounts", request_body = NewAccount,
    responses((status = 201, body = Account), (status = 409, body = Problem)))]
pub async fn add_account(caller: Caller, Sent(new): Sent<NewAccount>) -> Result<Response, Failure> {
    let console = caller.console().clone();
    let told = ChangeDetail(format!("{}, {}{}", new.name, new.role.name(), of_sites(new.sites.as_ref())));
    let Json(made) = working(move |_| {
        named_well(&new.name)?;
        acceptable(&new.password)?;
        let grant = Grant { role: new.role, sites: known_sites(new.sites, &console.site()?.config)? };
        let account = exedra_store::Account {
            name: new.name,
            password: hash(&new.password).ok_or(Failure::Internal)?,
            grant,
            made: jiff::Timestamp::now().as_second(),
        };
        match console.accounts.add(&account)? {
            Added::New => Ok(shown(&account)),
            Added::Taken => Err(Failure::Conflict(format!("there is an account `{}` already", account.name))),
            Added::TooMany => Err(Failure::Conflict("there are too many accounts".to_owned())),
        }
    })
    .await?;
    Ok((StatusCode::CREATED, Extension(told), Json(made)).into_response())
}

/// Changes an account.
#[utoipa::path(post, path = "/accounts/{name}", params(("name" = String, Path)), request_body = AccountChanges,
    responses((status = 200, body = Account), (status = 404, body = Problem)))]
pub async fn change_account(
    caller: Caller,
    Named(name): Named<String>,
    Sent(change): Sent<AccountChanges>,
) -> Result<(Extension<ChangeDetail>, Json<Account>), Failure> {
    let console = caller.console().clone();
    let parts = [
        change.password.as_ref().map(|_| "its password".to_owned()),
        change.role.map(|role| role.name().to_owned()),
        change.sites.as_ref().map(|sites| format!("sites: {}", sites.join(", "))),
    ];
    let told = ChangeDetail(parts.into_iter().flatten().collect::<Vec<_>>().join("; "));
    let changed = working(move |_| {
        let none = || Failure::Missing(format!("there is no account `{name}`"));
        let known = console.accounts.get(&name)?.ok_or_else(none)?;
        let password = match &change.password {
            Some(password) => {
                acceptable(password)?;
                Some(hash(password).ok_or(Failure::Internal)?)
            }
            None => None,
        };
        let sites = match change.sites {
            Some(sites) if sites.is_empty() => None,
            Some(sites) => known_sites(Some(sites), &console.site()?.config)?,
            None => known.grant.sites,
        };
        let grant = Some(Grant { role: change.role.unwrap_or(known.grant.role), sites });
        console.accounts.change(&name, &AccountChange { password, grant })?;
        console.accounts.get(&name)?.map(|account| shown(&account)).ok_or_else(none)
    })
    .await?;
    Ok((Extension(told), changed))
}

/// Takes an account out, and ends its sessions.
#[utoipa::path(delete, path = "/accounts/{name}", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_account(caller: Caller, Named(name): Named<String>) -> Result<Response, Failure> {
    let console = caller.console().clone();
    let missing = Failure::Missing(format!("there is no account `{name}`"));
    let Json(removed) = blocking(move || Ok(console.accounts.remove(&name)?)).await?;
    if removed { Ok(StatusCode::NO_CONTENT.into_response()) } else { Err(missing) }
}

/// Browsers that are signed in, the newest first.
#[utoipa::path(get, path = "/sessions", responses((status = 200, body = Vec<Session>)))]
pub async fn sessions(caller: Caller) -> Result<Json<Vec<Session>>, Failure> {
    blocking(move || {
        let now = jiff::Timestamp::now().as_second();
        let all = caller.console().secrets.all(Purpose::Session, now)?;
        let session = |known: &IssuedSecret| Session {
            id: known.id.clone(),
            account: Some(known.made_for.account.clone()).filter(|account| !account.is_empty()),
            made: moment(known.made),
            expires: moment(known.expires),
            used: used(known),
            is_own: known.id == caller.known().id,
        };
        Ok(all.iter().map(session).collect())
    })
    .await
}

/// Ends a session.
#[utoipa::path(delete, path = "/sessions/{id}", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn end_session(caller: Caller, Named(id): Named<String>) -> Result<Response, Failure> {
    end(caller, Purpose::Session, id).await
}

/// Tokens of programs, the newest first.
#[utoipa::path(get, path = "/tokens", responses((status = 200, body = Vec<Token>)))]
pub async fn tokens(caller: Caller) -> Result<Json<Vec<Token>>, Failure> {
    blocking(move || {
        let now = jiff::Timestamp::now().as_second();
        Ok(caller.console().secrets.all(Purpose::Token, now)?.iter().map(token).collect())
    })
    .await
}

/// Makes a token.
#[utoipa::path(post, path = "/tokens", request_body = NewToken, responses((status = 201, body = MadeToken)))]
pub async fn add_token(caller: Caller, Sent(new): Sent<NewToken>) -> Result<Response, Failure> {
    let sites = of_sites(new.sites.as_ref());
    let told = ChangeDetail(format!("{}, {}{sites}, {} days", new.label, new.role.name(), new.days));
    let Json(made) = blocking(move || {
        let console = caller.console();
        let label = new.label.trim();
        if label.is_empty() || label.len() > LONGEST_NAME {
            return Err(Failure::Wrong("say what the token is for, in up to 100 letters".to_owned()));
        }
        if !(1..=MOST_DAYS).contains(&new.days) {
            return Err(Failure::Wrong(format!("a token lasts 1 to {MOST_DAYS} days, and not {}", new.days)));
        }
        let grant = Grant { role: new.role, sites: known_sites(new.sites, &console.site()?.config)? };
        let now = jiff::Timestamp::now().as_second();
        let made_for = Holder::token(label, &caller.name(), grant);
        let secret = console.secrets.make(Purpose::Token, &made_for, now, now + i64::from(new.days) * DAY)?;
        let known = console.secrets.look(&secret, Purpose::Token, now)?.ok_or(Failure::Internal)?;
        Ok(MadeToken { token: token(&known), secret })
    })
    .await?;
    Ok((StatusCode::CREATED, Extension(told), Json(made)).into_response())
}

/// Ends a token.
#[utoipa::path(delete, path = "/tokens/{id}", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn end_token(caller: Caller, Named(id): Named<String>) -> Result<Response, Failure> {
    end(caller, Purpose::Token, id).await
}

async fn end(caller: Caller, purpose: Purpose, id: String) -> Result<Response, Failure> {
    let missing = Failure::Missing(format!(
        "there is no `{id}`, or it has ended; the token of this machine's clients is replaced by `exedra sign-in --revoke`"
    ));
    let Json(ended) = blocking(move || Ok(caller.console().secrets.end(purpose, &id)?)).await?;
    if ended { Ok(StatusCode::NO_CONTENT.into_response()) } else { Err(missing) }
}

/// What was changed by the API, and by whom, the newest first: two hundred at a time.
#[utoipa::path(get, path = "/changes", params(BeforeNumber), responses((status = 200, body = Vec<Change>)))]
pub async fn changes(
    caller: Caller,
    Parameters(query): Parameters<BeforeNumber>,
) -> Result<Json<Vec<Change>>, Failure> {
    blocking(move || {
        let latest = caller.console().record.latest(query.before, CHANGES)?;
        let change = |one: exedra_store::Change| Change {
            number: one.number,
            made: moment(one.made),
            who: one.who,
            client: one.client,
            what: one.what,
            status: one.status,
            detail: one.detail,
        };
        Ok(latest.into_iter().map(change).collect())
    })
    .await
}

fn shown(account: &exedra_store::Account) -> Account {
    let Grant { role, sites } = account.grant.clone();
    Account { name: account.name.clone(), role, sites, made: moment(account.made) }
}

fn token(known: &IssuedSecret) -> Token {
    let Grant { role, sites } = known.made_for.grant.clone();
    Token {
        id: known.id.clone(),
        label: known.made_for.label.clone(),
        role,
        sites,
        made_by: known.made_for.made_by.clone(),
        made: moment(known.made),
        expires: moment(known.expires),
        used: used(known),
    }
}

fn used(known: &IssuedSecret) -> Option<String> {
    (known.used > 0).then(|| moment(known.used))
}

fn moment(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).unwrap_or_default().to_string()
}

fn of_sites(sites: Option<&Vec<String>>) -> String {
    sites.map_or(String::new(), |sites| format!(", sites: {}", sites.join(", ")))
}

/// Whether a password may be one.
fn acceptable(password: &str) -> Result<(), Failure> {
    match (password.chars().count(), password.len()) {
        (SHORTEST.., ..=LONGEST) => Ok(()),
        (..SHORTEST, _) => Err(Failure::Wrong(format!("a password has {SHORTEST} letters at least"))),
        _ => Err(Failure::Wrong(format!("a password has {LONGEST} octets at most"))),
    }
}

fn named_well(name: &str) -> Result<(), Failure> {
    let is_letter = |letter: char| letter.is_alphanumeric() || "-_.@".contains(letter);
    match !name.is_empty() && name.len() <= LONGEST_NAME && name.chars().all(is_letter) {
        true => Ok(()),
        false => Err(Failure::Wrong(format!(
            "`{name}` cannot be the name of an account: letters, digits, `-`, `_`, `.` and `@` make one, up to {LONGEST_NAME} of them"
        ))),
    }
}

/// Sites that there are; none is no grant.
fn known_sites(sites: Option<Vec<String>>, config: &Config) -> Result<Option<Vec<String>>, Failure> {
    let Some(sites) = sites else { return Ok(None) };
    if sites.is_empty() {
        return Err(Failure::Wrong("name a site, or leave `sites` out for all of them".to_owned()));
    }
    for site in &sites {
        config.site_named(site).map_err(|error| Failure::Wrong(error.to_string()))?;
    }
    Ok(Some(sites))
}
