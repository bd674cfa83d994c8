//! An alert followed from minute to minute: what of the past decides how it goes on.

use super::counts::{Counts, Window};
use super::{Episode, Reading};
use exedra_answering::config::alerts::{Bound, Condition};
use std::ops::Range;

/// How an alert has gone so far.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Evaluation {
    /// Since when its condition has held, without a break up to now.
    held_since: Option<i64>,
    /// Since when it has not.
    quiet_since: Option<i64>,
    /// The stretches for which it was raised, in their order. Only the last one may go on.
    pub episodes: Vec<Episode>,
}

impl Evaluation {
    /// Goes on through some minutes, whose requests and those before that the condition looks at have been counted. `holds` and
    /// `ends_after` are how long the condition must have held or not held.
    pub fn advance(
        &mut self,
        when: &Condition,
        (holds, ends_after): (i64, i64),
        counts: &Counts,
        minutes: Range<i64>,
    ) {
        let mut window = Window::new(when, counts, minutes.start);
        for minute in minutes {
            let reading = window.reading(minute);
            self.step(when.bound, (holds, ends_after), minute, reading);
        }
    }

    /// One that has been raised since a minute with a figure, where nothing more is known of how it went.
    pub fn resumed(began: i64, value: f64) -> Self {
        let episode = Episode { began, ended: None, worst: value, client: None };
        Evaluation { episodes: vec![episode], ..Evaluation::default() }
    }

    /// Goes on through one minute, at the end of which the figure is known.
    pub fn step(&mut self, bound: Bound, (holds, ends_after): (i64, i64), minute: i64, reading: Reading) {
        let current = self.episodes.last_mut().filter(|last| last.ended.is_none());
        if !reading.holds {
            self.held_since = None;
            let since = *self.quiet_since.get_or_insert(minute);
            if let Some(current) = current.filter(|_| minute - since + 1 > ends_after) {
                current.ended = Some(minute);
            }
            return;
        }
        self.quiet_since = None;
        let since = *self.held_since.get_or_insert(minute);
        match current {
            Some(current) if bound.worse(current.worst, reading.value) != current.worst => {
                (current.worst, current.client) = (reading.value, reading.client);
            }
            None if minute - since >= holds => {
                let Reading { value: worst, client, .. } = reading;
                self.episodes.push(Episode { began: minute, ended: None, worst, client });
            }
            _ => {}
        }
    }

    /// Forgets what was over before a minute.
    pub fn forget_before(&mut self, minute: i64) {
        self.episodes.retain(|episode| episode.ended.is_none_or(|ended| ended >= minute));
    }

    /// The stretch that goes on, where the alert is raised.
    pub fn current(&self) -> Option<&Episode> {
        self.episodes.last().filter(|episode| episode.ended.is_none())
    }
}
