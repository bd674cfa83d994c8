//! The calls about messages: who is told, whether they can be reached, and what they were told.

use super::blocking::blocking;
use super::caller::Caller;
use super::failure::{Failure, Named};
use super::query::{BeforeNumber, Parameters};
use super::recording::ChangeDetail;
use crate::jobs::messages::delivery::attempt;
use crate::jobs::messages::{Content, Kind, Outgoing, next_end};
use axum::{Extension, Json};
use exedra_answering::config;
use exedra_api::Problem;
use exedra_api::messages::{Message, MessageTrial, Recipient};
use exedra_common::text::nearest;
use exedra_store::watching::messages as kept;
use jiff::Timestamp;
use std::time::Instant;

/// How many messages are given at a time.
const PAGE: i64 = 100;

/// Who is told of what is watched.
#[utoipa::path(get, path = "/recipients", responses((status = 200, body = Vec<Recipient>)))]
pub async fn recipients(caller: Caller) -> Result<Json<Vec<Recipient>>, Failure> {
    blocking(move || {
        let active = caller.console().site()?;
        let watching = &caller.console().outbox.watching;
        let now = Timestamp::now().as_second();
        let recipient = |known: &config::recipients::Recipient| {
            let name = &known.name.value;
            let waiting = watching.waiting(name, kept::MOST_WAITING)?;
            let told =
                active.config.alerts.iter().filter(|alert| alert.tell.iter().any(|one| one.value == *name));
            Ok(Recipient {
                name: name.clone(),
                way: known.way.name().to_owned(),
                to: known.way.in_words(),
                quiet: known.quiet_words.clone(),
                quiet_until: next_end(known.quiet.as_ref(), now).map(second),
                alerts: told.map(|alert| alert.name.value.clone()).collect(),
                waiting: waiting.len() as u64,
                failure: waiting.into_iter().next().and_then(|message| message.failure),
            })
        };
        active.config.recipients.iter().map(recipient).collect()
    })
    .await
}

/// A message that says nothing but that it was tried: sent at once, also in quiet hours, and kept nowhere.
#[utoipa::path(post, path = "/recipients/{name}/trial", params(("name" = String, Path)),
    responses((status = 200, body = MessageTrial), (status = 404, body = Problem)))]
pub async fn try_recipient(
    caller: Caller,
    Named(name): Named<String>,
) -> Result<(Extension<ChangeDetail>, Json<MessageTrial>), Failure> {
    let config = std::sync::Arc::clone(&caller.console().site()?.config);
    let Some(recipient) = config.recipients.iter().find(|one| one.name.value == name) else {
        let near = nearest(&name, config.recipients.iter().map(|one| one.name.value.as_str()));
        let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
        return Err(Failure::Missing(format!("there is no recipient `{name}`{near}")));
    };
    let now = Timestamp::now().as_second();
    let text = format!(
        "{} tries whether messages to \"{name}\" arrive. This one has: nothing else is the matter.\n",
        caller.name()
    );
    let content = Content { text, data: serde_json::json!({}), attachment: None };
    let told = Outgoing { kind: Kind::Trial, subject: "A trial message".to_owned(), content };
    let new = told.message(&name, now);
    let message = kept::Message {
        number: 0,
        id: new.id,
        recipient: new.recipient,
        kind: new.kind,
        subject: new.subject,
        content: new.content,
        made: now,
        state: kept::MessageState::Waiting,
        attempts: 0,
        next: now,
        failure: None,
        ended: None,
    };
    let began = Instant::now();
    let failure = attempt(recipient, &config, &message).await.err().map(|failure| failure.to_string());
    let took = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    let to = recipient.way.in_words();
    let detail = ChangeDetail(name.clone());
    Ok((Extension(detail), Json(MessageTrial { recipient: name, to, failure, took })))
}

/// What recipients are, and were, told: the latest first.
#[utoipa::path(get, path = "/messages", params(BeforeNumber), responses((status = 200, body = Vec<Message>)))]
pub async fn messages(
    caller: Caller,
    Parameters(query): Parameters<BeforeNumber>,
) -> Result<Json<Vec<Message>>, Failure> {
    blocking(move || {
        let all = caller.console().outbox.watching.messages(query.before, PAGE)?;
        Ok(all.into_iter().map(on_wire).collect())
    })
    .await
}

/// A message is tried again at once, also one that was given up.
#[utoipa::path(post, path = "/messages/{number}/retry", params(("number" = i32, Path)),
    responses((status = 200, body = Message), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn retry_message(
    caller: Caller,
    Named(number): Named<i32>,
) -> Result<(Extension<ChangeDetail>, Json<Message>), Failure> {
    let detail = ChangeDetail(number.to_string());
    let done = blocking(move || {
        let outbox = &caller.console().outbox;
        let is_tried = outbox.watching.retry(number, Timestamp::now().as_second())?;
        let message = outbox.watching.message(number)?;
        let message = message.ok_or_else(|| Failure::Missing(format!("there is no message {number}")))?;
        if !is_tried {
            return Err(Failure::Conflict(format!(
                "message {number} is {}, and needs no other attempt",
                message.state.name()
            )));
        }
        outbox.wake();
        Ok(on_wire(message))
    });
    Ok((Extension(detail), done.await?))
}

fn on_wire(message: kept::Message) -> Message {
    let content: Content = serde_json::from_str(&message.content).unwrap_or_default();
    let waits = message.state == kept::MessageState::Waiting;
    Message {
        number: message.number,
        id: message.id,
        recipient: message.recipient,
        kind: message.kind,
        subject: message.subject,
        text: content.text,
        made: second(message.made),
        state: message.state.name().to_owned(),
        attempts: message.attempts,
        next: waits.then(|| second(message.next)),
        failure: message.failure,
        ended: message.ended.map(second),
    }
}

/// A second since 1970 UTC (RFC 3339).
fn second(second: i64) -> String {
    Timestamp::from_second(second).unwrap_or_default().to_string()
}
