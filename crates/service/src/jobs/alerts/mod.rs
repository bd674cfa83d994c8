//! Alerts watched: each minute, and whenever the past has become another, it is decided what there is to be told of each.
//!
//! - [`evaluations`]: how each alert goes, worked out from the records
//! - [`counting`]: what an alert looks at, from the records
//! - [`present`]: figures that are known of the present only
//! - [`evidence`]: what a message about an alert says

pub mod counting;
pub mod evaluations;
pub mod evidence;
pub mod present;

use crate::active::Active;
use crate::jobs::messages::{Outbox, next_end};
use crate::logs::background_counter::Ended;
use crate::system::background::step_back;
use crate::system::threads;
use evaluations::Evaluations;
use evidence::{Evidence, Said, told_of};
use exedra_acting::alerts::{Change, Episode, Told, changes};
use exedra_answering::config::Config;
use exedra_answering::config::alerts::{Alert, When};
use exedra_store::Tallies;
use exedra_store::records::Counting;
use exedra_store::watching::alerts::{Decision, KnownAlert, News, Stretch};
use exedra_store::watching::messages::NewMessage;
use present::Figures;
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// The name of the thread.
pub const NAME: &str = "alerts";
/// How often it looks whether a minute is over, or the past has become another.
const PAUSE: Duration = Duration::from_secs(1);
/// How long after a minute is over it is looked at: its last lines are on their way until then.
const LAG: i64 = 3;
/// How many minutes back the history of a new alert begins.
const HISTORY: i64 = 14 * 24 * 60;
/// How often it is tried again where a database cannot be used.
const AGAIN: Duration = Duration::from_secs(10);

/// Watches the alerts that are configured until told to stop by the flag and woken. `active` gives what is in force, `console` the address
/// that links begin with.
pub fn watch(
    evaluations: &Evaluations,
    (outbox, tallies, state): (&Outbox, &Tallies, &Path),
    active: &impl Fn() -> Option<Arc<Active>>,
    console: &str,
    stop: &AtomicBool,
) {
    step_back();
    let figures = Figures::new(evaluations.records(), tallies, state);
    let mut last: Option<(Arc<Config>, i64, u64)> = None;
    while !stop.load(Ordering::SeqCst) {
        let Some(active) = active() else { return };
        let now = jiff::Timestamp::now().as_second();
        let Some(minute) = evaluations.minute(now - LAG) else {
            std::thread::park_timeout(PAUSE);
            continue;
        };
        let changed = evaluations.changes();
        let is_due = last.as_ref().is_none_or(|(config, until, changes)| {
            !Arc::ptr_eq(config, &active.config)
                || *until < minute
                || evaluations.first_change_since(*changes) < *until * 60_000
        });
        let mut pause = PAUSE;
        if is_due {
            let looked = Watcher { evaluations, outbox, figures: &figures, active: &active, console, stop }
                .look(now, minute);
            threads::doing(NAME, None);
            match looked {
                Ok(()) => last = Some((Arc::clone(&active.config), minute, changed)),
                Err(Ended::Stopped) => return,
                Err(Ended::Failed(error)) => {
                    tracing::warn!("alerts cannot be looked at at the moment: {error}");
                    pause = AGAIN;
                }
            }
        }
        drop(active);
        std::thread::park_timeout(pause);
    }
}

/// Whoever looks at all alerts once.
struct Watcher<'w> {
    evaluations: &'w Evaluations,
    outbox: &'w Outbox,
    figures: &'w Figures<'w>,
    active: &'w Arc<Active>,
    console: &'w str,
    stop: &'w AtomicBool,
}

impl Watcher<'_> {
    /// Looks at all alerts as they are at the beginning of a minute, and writes down what was decided.
    fn look(&self, now: i64, minute: i64) -> Result<(), Ended> {
        let watching = &self.outbox.watching;
        let alerts = &self.active.config.alerts;
        let names: Vec<&str> = alerts.iter().map(|alert| alert.name.value.as_str()).collect();
        let known: HashMap<String, KnownAlert> =
            watching.alerts()?.into_iter().map(|alert| (alert.name.clone(), alert)).collect();
        if known.keys().any(|name| !names.contains(&name.as_str())) {
            watching.forget_other_alerts(&names, minute)?;
        }
        let (mut decisions, mut messages) = (Vec::new(), Vec::new());
        for alert in alerts {
            threads::doing(NAME, Some(format!("looking at `{}`", alert.name.value)));
            let (decision, told) = self.decide(alert, known.get(&alert.name.value), now, minute)?;
            decisions.push(decision);
            messages.extend(told);
        }
        if !decisions.is_empty() {
            watching.decide(&decisions, &messages, now)?;
        }
        if !messages.is_empty() {
            self.outbox.wake();
        }
        Ok(())
    }

    fn decide(
        &self,
        alert: &Alert,
        known: Option<&KnownAlert>,
        now: i64,
        minute: i64,
    ) -> Result<(Decision, Vec<NewMessage>), Ended> {
        let goes_on = || if self.stop.load(Ordering::SeqCst) { Err(Ended::Stopped) } else { Ok(()) };
        let counting =
            Counting { begin_thread: step_back, most_threads: 1, remembers: true, goes_on: &goes_on };
        // What was looked at is not looked at again, also where the clock was set back.
        let minute = known.map_or(minute, |known| minute.max(known.until));
        let before = known.map(|known| Told { until: known.until, raised: known.raised });
        let episodes = match &alert.when {
            When::Requests(when) => {
                self.evaluations.look((alert, when), self.active, minute, &counting)?.episodes
            }
            When::Present(present) => {
                let raised = before.and_then(|before| before.raised);
                match self.figures.measure(&present.what, self.active, minute, &counting)? {
                    Some(value) => {
                        self.evaluations.follow(alert, present.bound, (minute, value), raised).episodes
                    }
                    // Nobody knows it yet: it is as it was.
                    None => {
                        let until = known.map_or(minute, |known| known.until);
                        return Ok((
                            Decision { alert: alert.name.value.clone(), until, raised, news: Vec::new() },
                            Vec::new(),
                        ));
                    }
                }
            }
        };
        let (found, told) = changes(before, &episodes, minute);
        let name = &alert.name.value;
        let silence = known.and_then(|known| known.silence.as_ref());
        let is_silent = silence.is_some_and(|silence| silence.until > now);
        let mut messages = Vec::new();
        let mut say = |said: Said| -> Result<(), Ended> {
            if alert.tell.is_empty() || is_silent {
                return Ok(());
            }
            let evidence =
                Evidence { records: self.evaluations.records(), active: self.active, console: self.console };
            let told = told_of(&evidence, alert, &said, minute, &counting)?;
            for recipient in &alert.tell {
                let quiet =
                    self.active.config.recipients.iter().find(|one| one.name.value == recipient.value);
                let not_before =
                    quiet.and_then(|recipient| next_end(recipient.quiet.as_ref(), now)).unwrap_or(now);
                messages.push(told.message(&recipient.value, not_before));
            }
            Ok(())
        };
        if silence.is_some() && !is_silent {
            self.outbox.watching.silence(name, None)?;
            let current = episodes.last().filter(|last| last.ended.is_none());
            if let Some(current) = current.filter(|_| before.is_some_and(|before| before.raised.is_some())) {
                say(Said::StillRaised(current))?;
            }
        }
        let mut news = Vec::new();
        if let (None, When::Requests(when)) = (known, &alert.when) {
            // It is new: when it would have been raised before stands in the history, and is told to nobody.
            let past = minute - HISTORY..minute;
            let (past, _) = self.evaluations.tried((alert, when), self.active, past, &counting)?;
            let over = past.iter().filter(|episode| episode.ended.is_some());
            news.extend(over.map(|episode| News::Passed(stretch(alert, episode))));
        }
        for change in &found {
            match change {
                Change::Raised(episode) => {
                    say(Said::Raised(episode))?;
                    news.push(News::Raised(stretch(alert, episode)));
                }
                Change::Over(episode) => {
                    say(Said::Over(episode))?;
                    news.push(News::Over(stretch(alert, episode)));
                }
                Change::Passed(episode) => {
                    say(Said::Passed(episode))?;
                    news.push(News::Passed(stretch(alert, episode)));
                }
                Change::Withdrawn(began) => {
                    say(Said::Withdrawn(*began))?;
                    let figure = "its requests are no longer in the records".to_owned();
                    news.push(News::Over(Stretch {
                        began: *began,
                        ended: Some(minute),
                        figure,
                        client: None,
                    }));
                }
            }
        }
        let decision = Decision { alert: name.clone(), until: told.until, raised: told.raised, news };
        Ok((decision, messages))
    }
}

fn stretch(alert: &Alert, episode: &Episode) -> Stretch {
    Stretch {
        began: episode.began,
        ended: episode.ended,
        figure: alert.when.with_unit(episode.worst),
        client: episode.client.clone(),
    }
}
