//! Who is told of what is watched, and by which way: as it is configured. Delivering is somebody else's business.

use super::Located;
use exedra_common::scope::WeekHours;
use std::path::PathBuf;

/// Somebody who is told.
#[derive(Debug, Clone, PartialEq)]
pub struct Recipient {
    /// The name by which alerts and reports call it.
    pub name: Located<String>,
    /// How messages reach it.
    pub way: Way,
    /// Hours of the week in which it is told nothing: messages wait for their end.
    pub quiet: Option<WeekHours>,
    /// The same as it is written.
    pub quiet_words: Option<String>,
}

/// How messages reach somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Way {
    /// By mail, to these addresses.
    Mail(Vec<Located<String>>),
    /// By a POST request.
    Webhook {
        /// Where it goes.
        address: Located<String>,
        /// The file with the key that it is signed with.
        key: Option<Located<PathBuf>>,
    },
    /// By a program that is run, with its arguments.
    Command(Vec<Located<String>>),
}

impl Way {
    /// What it is called.
    pub fn name(&self) -> &'static str {
        match self {
            Way::Mail(_) => "mail",
            Way::Webhook { .. } => "webhook",
            Way::Command(_) => "command",
        }
    }

    /// Where messages go, for people. What follows a webhook's host is left out: it is a secret as often as not.
    pub fn in_words(&self) -> String {
        match self {
            Way::Mail(addresses) => {
                addresses.iter().map(|address| address.value.as_str()).collect::<Vec<_>>().join(", ")
            }
            Way::Webhook { address, .. } => {
                let (scheme, rest) = address.value.split_once("://").unwrap_or(("", &address.value));
                let host = rest.split(['/', '?', '#']).next().unwrap_or(rest);
                let host = host.rsplit('@').next().unwrap_or(host);
                format!("{scheme}://{host}/…")
            }
            Way::Command(words) => words.first().map_or_else(String::new, |program| program.value.clone()),
        }
    }
}

/// The server that takes mail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailServer {
    /// Its host name or address.
    pub host: Located<String>,
    /// Its port.
    pub port: u16,
    /// How the connection is secured.
    pub encryption: Encryption,
    /// The address that mail comes from.
    pub from: Located<String>,
    /// Who signs in, and the file with the password; nobody does where there is none.
    pub login: Option<(String, Located<PathBuf>)>,
    /// The file with the only authority whose certificates are trusted; this machine's authorities are where there is none.
    pub trusted: Option<Located<PathBuf>>,
}

/// How a connection to a mail server is secured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Encryption {
    /// It becomes TLS before anything is said (RFC 3207).
    #[default]
    Upgraded,
    /// It is TLS from its first octet on (RFC 8314).
    Immediate,
    /// It is not.
    None,
}

impl Encryption {
    /// Every one, by its name in the configuration.
    pub const ALL: [(&'static str, Encryption); 3] =
        [("starttls", Encryption::Upgraded), ("tls", Encryption::Immediate), ("none", Encryption::None)];

    /// The port that is usual with it (RFC 6409, RFC 8314, RFC 5321).
    pub fn usual_port(self) -> u16 {
        match self {
            Encryption::Upgraded => 587,
            Encryption::Immediate => 465,
            Encryption::None => 25,
        }
    }
}
