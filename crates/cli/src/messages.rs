//! `exedra recipients`, `exedra message`: who is told of what is watched, whether they can be reached, and what they were told.

use crate::failure::Failure;
use crate::out::{ATTENTION, QUIET, STRONG, WELL};
use crate::service::{Service, in_path};
use crate::show::listing::{Listing, listed, minute};
use clap::{Args, Subcommand};
use exedra_api::messages::{Message, MessageTrial, Recipient};

/// What `exedra message` takes.
#[derive(Args)]
pub struct Options {
    #[command(subcommand)]
    what: MessageCommand,
}

#[derive(Subcommand)]
enum MessageCommand {
    /// List messages, the latest first, and what became of them
    List(ListOptions),
    /// Print a message as its recipient reads it
    Show(NumberOptions),
    /// Send a recipient a trial message at once, and say whether it arrived
    Try(TryOptions),
    /// Try a message again that waits or was given up
    Retry(NumberOptions),
}

#[derive(Args)]
struct ListOptions {
    /// Only those before the one of this number
    #[arg(long, value_name = "NUMBER")]
    before: Option<i32>,
    #[command(flatten)]
    listing: Listing,
}

#[derive(Args)]
struct NumberOptions {
    /// Its number, as `exedra message list` says it
    number: i32,
    #[command(flatten)]
    service: Service,
}

#[derive(Args)]
struct TryOptions {
    /// Name of the recipient
    recipient: String,
    #[command(flatten)]
    service: Service,
}

/// Lists recipients.
pub fn recipients(listing: &Listing) -> Result<(), Failure> {
    let all: Vec<Recipient> = listing.service.get("recipients")?;
    let none = "No recipient is configured. One is written as in [[recipient]] with name = \"office\" and \
                mail = [\"office@lindry.example\"]; alerts name it as in tell = [\"office\"].";
    listed(listing.form, &all, none, ["recipient", "by", "to", "quiet", "waiting", "alerts"], |one| {
        let quiet = match (&one.quiet, &one.quiet_until) {
            (Some(_), Some(until)) => format!("until {}", minute(until)),
            (Some(hours), None) => hours.clone(),
            (None, _) => String::new(),
        };
        let waiting = match &one.failure {
            Some(failure) => format!("{} ({failure})", one.waiting),
            None => one.waiting.to_string(),
        };
        [one.name.clone(), one.way.clone(), one.to.clone(), quiet, waiting, one.alerts.join(", ")]
    })
}

/// Does what is asked about messages.
pub fn run(options: &Options) -> Result<(), Failure> {
    match &options.what {
        MessageCommand::List(options) => {
            let before = options.before.map_or(String::new(), |before| format!("?before={before}"));
            let all: Vec<Message> = options.listing.service.get(&format!("messages{before}"))?;
            let columns = ["number", "made", "recipient", "state", "subject"];
            listed(options.listing.form, &all, "nobody was told anything", columns, |one| {
                let state = match (&one.failure, one.attempts) {
                    (Some(failure), attempts) => format!("{} ({attempts} attempts: {failure})", one.state),
                    (None, _) => one.state.clone(),
                };
                [one.number.to_string(), minute(&one.made), one.recipient.clone(), state, one.subject.clone()]
            })
        }
        MessageCommand::Show(options) => {
            let before = options.number.saturating_add(1);
            let all: Vec<Message> = options.service.get(&format!("messages?before={before}"))?;
            let message = all.into_iter().find(|message| message.number == options.number);
            let message =
                message.ok_or_else(|| Failure(format!("there is no message {}", options.number)))?;
            crate::out::line!(
                "{QUIET}to {}, {}, {}{QUIET:#}",
                message.recipient,
                minute(&message.made),
                message.state
            );
            crate::out::line!("{STRONG}{}{STRONG:#}\n", message.subject);
            crate::out::text!("{}", message.text);
            Ok(())
        }
        MessageCommand::Try(options) => {
            let tried: MessageTrial =
                options.service.post(&format!("recipients/{}/trial", in_path(&options.recipient)))?;
            match tried.failure {
                None => {
                    crate::out::line!(
                        "{WELL}delivered{WELL:#}  {} ({}), in {} ms",
                        tried.recipient,
                        tried.to,
                        tried.took
                    );
                    Ok(())
                }
                Some(failure) => Err(Failure(format!(
                    "the message to {} ({}) did not arrive: {failure}",
                    tried.recipient, tried.to
                ))),
            }
        }
        MessageCommand::Retry(options) => {
            let message: Message = options.service.post(&format!("messages/{}/retry", options.number))?;
            crate::out::line!("{ATTENTION}waiting{ATTENTION:#}  {}: {}", message.recipient, message.subject);
            Ok(())
        }
    }
}
