//! Messages delivered: each recipient's one after the other, the recipients side by side. One that fails is tried again, later and later,
//! and is given up aloud in the end.

use super::{Content, Kind, MOST_TIME, NotDelivered, Outbox, command, gathered, mail, webhook};
use crate::active::Active;
use crate::system::threads;
use exedra_answering::config::Config;
use exedra_answering::config::recipients::{Recipient, Way};
use exedra_store::StoreError;
use exedra_store::watching::messages::Message;
use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

/// The name of the task.
pub const NAME: &str = "messages";
/// How many recipients are served at a time.
const AT_A_TIME: usize = 16;
/// How long the first pause before another attempt is, in seconds, and the longest; each is twice the one before.
const FIRST_PAUSE: i64 = 1;
const LONGEST_PAUSE: i64 = 600;
/// After how long a message is given up, in seconds: four days (RFC 5321 §4.5.4.1).
const GIVEN_UP: i64 = 4 * 86_400;
/// How often it is looked for messages whose time has come, where some wait, and where none do.
const SOON: Duration = Duration::from_millis(500);
const LATER: Duration = Duration::from_secs(60);
/// More messages than this that wait for one person become one.
const MANY: usize = 3;
/// How many become one at most.
const TOGETHER: i64 = 200;

/// Delivers what waits, until told to stop. `active` gives what is in force.
pub async fn deliver(
    outbox: Arc<Outbox>,
    active: impl Fn() -> Option<Arc<Active>>,
    mut stop: watch::Receiver<bool>,
) {
    let places = Arc::new(Semaphore::new(AT_A_TIME));
    let mut busy: HashSet<String> = HashSet::new();
    let mut under_way: JoinSet<String> = JoinSet::new();
    loop {
        let now = jiff::Timestamp::now().as_second();
        let (due, is_any) = store(&outbox, "", move |outbox, _| outbox.watching.waited_for(now))
            .await
            .inspect_err(|error| tracing::warn!("messages cannot be read at the moment: {error}"))
            .unwrap_or_default();
        let pause = if is_any { SOON } else { LATER };
        let Some(config) = active().map(|active| Arc::clone(&active.config)) else { return };
        for name in due {
            if !busy.insert(name.clone()) {
                continue;
            }
            let (outbox, config, places) = (Arc::clone(&outbox), Arc::clone(&config), Arc::clone(&places));
            under_way.spawn(async move {
                if let Ok(_place) = places.acquire().await
                    && let Err(error) = deliver_to(&outbox, &config, &name).await
                {
                    tracing::warn!("messages to `{name}` cannot be looked at at the moment: {error}");
                    sleep(SOON).await;
                }
                name
            });
        }
        threads::doing(NAME, (!busy.is_empty()).then(|| format!("{} recipients", busy.len())));
        tokio::select! {
            _ = stop.wait_for(|stop| *stop) => return,
            Some(done) = under_way.join_next(), if !under_way.is_empty() => match done {
                Ok(name) => { busy.remove(&name); }
                // A mistake of ours: nobody knows whose it was.
                Err(error) => {
                    tracing::error!("delivering a message failed: {error}");
                    under_way.abort_all();
                    busy.clear();
                }
            },
            () = outbox.news.notified() => {}
            () = sleep(pause) => {}
        }
    }
}

/// Delivers what waits for one recipient, in its order, until one fails or none is left whose time has come.
async fn deliver_to(outbox: &Arc<Outbox>, config: &Config, name: &str) -> Result<(), StoreError> {
    let recipient = config.recipients.iter().find(|recipient| recipient.name.value == name);
    loop {
        let now = jiff::Timestamp::now().as_second();
        let mut waiting = store(outbox, name, |outbox, name| outbox.watching.waiting(name, TOGETHER)).await?;
        if recipient.is_some_and(|recipient| !matches!(recipient.way, Way::Webhook { .. })) {
            let untried: Vec<Message> = waiting
                .iter()
                .filter(|one| one.attempts == 0 && one.next <= now && Kind::is_gathered(&one.kind))
                .cloned()
                .collect();
            if untried.len() > MANY && waiting.first().is_some_and(|first| first.attempts == 0) {
                let numbers: Vec<i32> = untried.iter().map(|message| message.number).collect();
                let message = gathered(&untried).message(name, now);
                store(outbox, name, move |outbox, _| outbox.watching.gather(&numbers, &message, now)).await?;
                waiting = store(outbox, name, |outbox, name| outbox.watching.waiting(name, 1)).await?;
            }
        }
        let Some(message) = waiting.into_iter().next().filter(|message| message.next <= now) else {
            return Ok(());
        };
        let done = match recipient {
            Some(recipient) => attempt(recipient, config, &message).await,
            None => Err(NotDelivered::Ever(format!(
                "there is no recipient `{name}` in the configuration any longer"
            ))),
        };
        let now = jiff::Timestamp::now().as_second();
        let number = message.number;
        match done {
            Ok(()) => store(outbox, name, move |outbox, _| outbox.watching.delivered(number, now)).await?,
            Err(NotDelivered::Yet(failure)) if now - message.made < GIVEN_UP => {
                let attempts = u32::try_from(message.attempts).unwrap_or(u32::MAX).min(16);
                let next = now + (FIRST_PAUSE << attempts).min(LONGEST_PAUSE);
                if message.attempts == 0 {
                    tracing::warn!("a message to `{name}` was not delivered, and is tried again: {failure}");
                }
                store(outbox, name, move |outbox, _| outbox.watching.failed(number, &failure, next)).await?;
                return Ok(());
            }
            Err(failure) => {
                tracing::error!("a message to `{name}` is given up ({}): {failure}", message.subject);
                let failure = failure.to_string();
                store(outbox, name, move |outbox, _| outbox.watching.give_up(number, &failure, now)).await?;
            }
        }
    }
}

/// Tries to deliver a message once.
pub async fn attempt(recipient: &Recipient, config: &Config, message: &Message) -> Result<(), NotDelivered> {
    let content: Content = serde_json::from_str(&message.content)
        .map_err(|error| NotDelivered::Ever(format!("the message cannot be read: {error}")))?;
    let sent = async {
        match &recipient.way {
            Way::Mail(addresses) => mail::send(config.mail.as_ref(), addresses, message, &content).await,
            Way::Webhook { address, key } => {
                webhook::send(&address.value, key.as_ref(), &recipient.name.value, message, &content).await
            }
            Way::Command(words) => command::run(words, &config.service.state.value, message, &content).await,
        }
    };
    let took_too_long = || NotDelivered::Yet(format!("it took longer than {} seconds", MOST_TIME.as_secs()));
    timeout(MOST_TIME, sent).await.unwrap_or_else(|_| Err(took_too_long()))
}

/// Does something with the database, away from the threads that serve.
async fn store<T: Send + 'static>(
    outbox: &Arc<Outbox>,
    name: &str,
    run: impl FnOnce(&Outbox, &str) -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    let (outbox, name) = (Arc::clone(outbox), name.to_owned());
    match tokio::task::spawn_blocking(move || run(&outbox, &name)).await {
        Ok(done) => done,
        Err(panic) => std::panic::resume_unwind(panic.into_panic()),
    }
}
