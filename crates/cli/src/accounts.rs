//! `exedra account`, `exedra token`, `exedra changes`: who may use the console and its API, and what they did.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::QUIET;
use crate::password::ask;
use crate::service::{Service, in_path};
use crate::show::listing::{Listing, listed, minute};
use clap::{Args, Subcommand};
use exedra_api::accounts::{
    Account, AccountChanges, Change, MadeToken, NewAccount, NewToken, Session, Token,
};
use exedra_common::grant::Role;
use std::io::IsTerminal;

/// What `exedra account` takes.
#[derive(Args)]
pub struct AccountOptions {
    #[command(subcommand)]
    what: AccountCommand,
}

#[derive(Subcommand)]
enum AccountCommand {
    /// List accounts
    List(Listing),
    /// Make an account; the password is asked for, or read from standard input
    Add(NewOptions),
    /// Change what an account may do and see, or its password
    Change(ChangeOptions),
    /// Take an account out, and end its sessions
    Remove(OneOptions),
    /// List browsers that are signed in
    Sessions(Listing),
    /// End a session, by what `exedra account sessions` knows it by
    EndSession(OneOptions),
}

#[derive(Args)]
struct OneOptions {
    /// Which
    #[arg(value_name = "NAME")]
    name: String,
    #[command(flatten)]
    service: Service,
}

#[derive(Args)]
struct NewOptions {
    /// Its name
    #[arg(value_name = "NAME")]
    name: String,
    /// What it may do: viewer, who sees, or operator, who changes
    #[arg(long, value_name = "ROLE", default_value = "viewer")]
    role: Role,
    /// A site that it may see; may be repeated; all unless said
    #[arg(long = "site", value_name = "SITE")]
    sites: Vec<String>,
    #[command(flatten)]
    service: Service,
}

#[derive(Args)]
struct ChangeOptions {
    /// Its name
    #[arg(value_name = "NAME")]
    name: String,
    /// What it may do from now on: viewer or operator
    #[arg(long, value_name = "ROLE")]
    role: Option<Role>,
    /// A site that it may see from now on; may be repeated
    #[arg(long = "site", value_name = "SITE")]
    sites: Vec<String>,
    /// It may see all sites from now on
    #[arg(long, conflicts_with = "sites")]
    all_sites: bool,
    /// Ask for another password, which ends its sessions
    #[arg(long)]
    password: bool,
    #[command(flatten)]
    service: Service,
}

/// Does what is asked about accounts.
pub fn account(options: &AccountOptions) -> Result<(), Failure> {
    match &options.what {
        AccountCommand::List(listing) => {
            let all: Vec<Account> = listing.service.get("accounts")?;
            let none = "no account: whoever may read the state folder signs in by `exedra sign-in`";
            listed(listing.form, &all, none, ["account", "role", "sites", "made"], |one| {
                [one.name.clone(), one.role.name().to_owned(), sites(one.sites.as_ref()), minute(&one.made)]
            })
        }
        AccountCommand::Add(new) => {
            let password = new_password("Password: ")?;
            let sites = Some(new.sites.clone()).filter(|sites| !sites.is_empty());
            let body = NewAccount { name: new.name.clone(), password, role: new.role, sites };
            let made: Account = new.service.send("accounts", &body)?;
            crate::out::note!("`{}` may sign in as {}.", made.name, made.role.name());
            Ok(())
        }
        AccountCommand::Change(change) => {
            let password = change.password.then(|| new_password("New password: ")).transpose()?;
            let named = Some(change.sites.clone()).filter(|sites| !sites.is_empty());
            let sites = if change.all_sites { Some(Vec::new()) } else { named };
            if password.is_none() && sites.is_none() && change.role.is_none() {
                let words = "say what is to be changed: --role, --site, --all-sites or --password";
                return Err(Failure(words.to_owned()));
            }
            let body = AccountChanges { password, role: change.role, sites };
            let now: Account = change.service.send(&format!("accounts/{}", in_path(&change.name)), &body)?;
            let seen = self::sites(now.sites.as_ref());
            crate::out::note!("`{}` is {} of {seen} now.", now.name, now.role.name());
            Ok(())
        }
        AccountCommand::Remove(one) => {
            one.service.delete(&format!("accounts/{}", in_path(&one.name)))?;
            crate::out::note!("`{}` may no longer sign in.", one.name);
            Ok(())
        }
        AccountCommand::Sessions(listing) => {
            let all: Vec<Session> = listing.service.get("sessions")?;
            let columns = ["session", "account", "began", "used", "ends"];
            listed(listing.form, &all, "nobody is signed in", columns, |one| {
                let account = one.account.clone().unwrap_or_else(|| "(sign-in link)".to_owned());
                [one.id.clone(), account, minute(&one.made), used(one.used.as_ref()), minute(&one.expires)]
            })
        }
        AccountCommand::EndSession(one) => {
            one.service.delete(&format!("sessions/{}", in_path(&one.name)))?;
            crate::out::note!("The session has ended.");
            Ok(())
        }
    }
}

/// A password that is new: what is typed blindly is typed twice.
fn new_password(words: &str) -> Result<String, Failure> {
    let password = ask(words)?;
    if std::io::stdin().is_terminal() && ask("Once more: ")? != password {
        return Err(Failure("that was another one: nothing was changed".to_owned()));
    }
    Ok(password)
}

/// What `exedra token` takes.
#[derive(Args)]
pub struct TokenOptions {
    #[command(subcommand)]
    what: TokenCommand,
}

#[derive(Subcommand)]
enum TokenCommand {
    /// List tokens
    List(Listing),
    /// Make a token, and print it this once
    Add(NewTokenOptions),
    /// End a token, by what `exedra token list` knows it by
    End(OneOptions),
}

#[derive(Args)]
struct NewTokenOptions {
    /// What it is for
    #[arg(value_name = "PURPOSE")]
    label: String,
    /// What it may do: viewer, who sees, or operator, who changes
    #[arg(long, value_name = "ROLE", default_value = "viewer")]
    role: Role,
    /// A site that it may see; may be repeated; all unless said
    #[arg(long = "site", value_name = "SITE")]
    sites: Vec<String>,
    /// In how many days it ends
    #[arg(long, value_name = "DAYS", default_value = "90")]
    days: u32,
    #[command(flatten)]
    service: Service,
}

/// Does what is asked about tokens.
pub fn token(options: &TokenOptions) -> Result<(), Failure> {
    match &options.what {
        TokenCommand::List(listing) => {
            let all: Vec<Token> = listing.service.get("tokens")?;
            let columns = ["token", "for", "role", "sites", "used", "ends"];
            listed(listing.form, &all, "no token", columns, |one| {
                let (role, seen) = (one.role.name().to_owned(), sites(one.sites.as_ref()));
                [one.id.clone(), one.label.clone(), role, seen, used(one.used.as_ref()), minute(&one.expires)]
            })
        }
        TokenCommand::Add(new) => {
            let sites = Some(new.sites.clone()).filter(|sites| !sites.is_empty());
            let body = NewToken { label: new.label.clone(), role: new.role, sites, days: new.days };
            let made: MadeToken = new.service.send("tokens", &body)?;
            crate::out::line!("{}", made.secret);
            let ends = made.token.expires.get(..10).unwrap_or_default();
            crate::out::note!(
                "It ends on {ends} and is shown this once: programs send it as `Authorization: Bearer …`."
            );
            Ok(())
        }
        TokenCommand::End(one) => {
            one.service.delete(&format!("tokens/{}", in_path(&one.name)))?;
            crate::out::note!("The token has ended.");
            Ok(())
        }
    }
}

/// What `exedra changes` takes.
#[derive(Args)]
pub struct ChangesOptions {
    /// Only those before the one of this number
    #[arg(long, value_name = "NUMBER")]
    before: Option<i32>,
    #[command(flatten)]
    listing: Listing,
}

/// Lists what was changed by the API, and by whom.
pub fn changes(options: &ChangesOptions) -> Result<(), Failure> {
    let form = options.listing.form;
    let before = options.before.map_or(String::new(), |number| format!("?before={number}"));
    let all: Vec<Change> = options.listing.service.get(&format!("changes{before}"))?;
    let columns = ["change", "when", "who", "from", "call", "answer", "detail"];
    listed(form, &all, "nothing was changed", columns, |one| {
        [
            one.number.to_string(),
            minute(&one.made),
            one.who.clone(),
            one.client.clone(),
            one.what.replace("/api/v1/", ""),
            one.status.to_string(),
            one.detail.clone(),
        ]
    })?;
    if let (Form::Text, Some(last)) = (form, all.last().filter(|last| last.number > 1)) {
        crate::out::line!("{QUIET}earlier ones: --before {}{QUIET:#}", last.number);
    }
    Ok(())
}

fn sites(sites: Option<&Vec<String>>) -> String {
    sites.map_or("all sites".to_owned(), |sites| sites.join(", "))
}

fn used(used: Option<&String>) -> String {
    used.map_or("never".to_owned(), |used| minute(used))
}
