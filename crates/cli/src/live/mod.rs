//! `exedra live`: the last minutes of logs or of the running service, on the whole terminal, as they pass.
//!
//! - [`feed`]: where requests come from; [`state`]: what is looked at, and what each key changes of it
//! - [`draw`]: how it is shown; [`terminal`]: the terminal, taken and given back
//!
//! What is counted is in [`exedra_reading::live`].

mod draw;
mod feed;
mod state;
mod terminal;

use crate::failure::Failure;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service};
use crate::sources::{Asked, SourceOptions};
use clap::Args;
use draw::{Around, room};
use exedra_common::Projection;
use exedra_reading::classify::Classifier;
use exedra_reading::live::{Picture, RecentRequests};
use feed::Message;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use state::{State, Then};
use std::collections::HashMap;
use std::io::{self, IsTerminal};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, TryRecvError};
use std::time::{Duration, Instant};
use terminal::Screen;

/// At most ten frames a second are drawn.
const FRAME: Duration = Duration::from_millis(100);
/// The clock and the stretch go on though nothing comes in.
const TICK: Duration = Duration::from_secs(1);
/// Counting takes one part in so many of the time at most.
const SHARE: u32 = 40;

/// What `exedra live` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    #[command(flatten)]
    reach: Reach,
}

/// Watches until it is ended.
pub fn run(options: &Options) -> Result<(), Failure> {
    if !crate::out::is_at_terminal() || !io::stdin().is_terminal() {
        let words = "the live view needs a terminal to draw on and to take keys from; `exedra requests --follow` prints line by line";
        return Err(Failure(words.to_owned()));
    }
    if !options.scope.hours.is_empty() {
        let words = "the live view shows the last minutes, whatever the hour: leave --hours out";
        return Err(Failure(words.to_owned()));
    }
    let period = [&options.scope.from, &options.scope.until, &options.scope.last, &options.scope.day];
    if period.iter().chain(&[&options.scope.week, &options.scope.month]).any(|one| one.is_some()) {
        let words = "the live view shows the last minutes, and no other period: `exedra report` does";
        return Err(Failure(words.to_owned()));
    }
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let scope = options.scope.scope(&zone)?;
    let countries = options.scope.countries(config.as_ref())?;
    let also: Projection = scope.columns().collect();
    let recent = RecentRequests::new(also, Arc::new(Classifier { countries }));
    let (feed, title) = match options.sources.sources.is_empty() {
        true => {
            let service = Service::of_sources(&options.sources, &options.reach);
            let sites = options.scope.site.join(", ");
            let query = options.scope.site.iter().map(|site| ("site", site.clone())).collect();
            let title = if sites.is_empty() { "all sites".to_owned() } else { sites };
            (feed::of_service(service, query, recent.columns())?, title)
        }
        false => {
            let asked = Asked {
                files: options.sources.files(config.as_ref(), None, &scope)?,
                layouts: options.sources.layouts(config.as_ref())?,
                durations: options.sources.durations,
                leaves_open_line: true,
                threads: 1,
            };
            (feed::of_logs(asked, recent.columns())?, options.sources.sources.join(", "))
        }
    };
    let mut watching = Watching {
        state: State::new(&scope),
        recent,
        feed,
        title,
        zone,
        has_colour: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()),
        remark: None,
        allowance: None,
        causes: HashMap::new(),
        has_begun: false,
    };
    watching.run()
}

struct Watching {
    state: State,
    recent: RecentRequests,
    feed: Receiver<Message>,
    title: String,
    zone: TimeZone,
    has_colour: bool,
    remark: Option<String>,
    allowance: Option<String>,
    causes: HashMap<String, String>,
    has_begun: bool,
}

impl Watching {
    fn run(&mut self) -> Result<(), Failure> {
        let mut screen = Screen::take()?;
        let (mut is_new, mut must_draw) = (true, true);
        let mut size = screen.terminal().size()?;
        let mut picture = self.count(size.width, size.height);
        let (mut counted, mut took) = (Instant::now(), Duration::ZERO);
        let mut drawn = Instant::now() - FRAME;
        while !screen.ends() {
            is_new |= self.take()?;
            let is_due = counted.elapsed() >= (took * SHARE).max(FRAME);
            if (is_new && is_due) || counted.elapsed() >= TICK.max(took * SHARE) {
                let began = Instant::now();
                picture = self.count(size.width, size.height);
                self.state.settle(&picture);
                (counted, took, is_new, must_draw) = (Instant::now(), began.elapsed(), false, true);
            }
            if must_draw && drawn.elapsed() >= FRAME {
                self.draw(&mut screen, &picture)?;
                (drawn, must_draw) = (Instant::now(), false);
            }
            if !event::poll(FRAME)? {
                if screen.lend()? {
                    must_draw = true;
                }
                continue;
            }
            match event::read()? {
                Event::Key(key) if key.kind != KeyEventKind::Release => {
                    match self.state.key(key, &picture, &self.recent) {
                        Then::Draw => {}
                        Then::Count => {
                            picture = self.count(size.width, size.height);
                            self.state.settle(&picture);
                            counted = Instant::now();
                        }
                        Then::Suspend => {
                            screen.suspend();
                            screen.lend()?;
                        }
                        Then::End => break,
                    }
                    must_draw = true;
                }
                Event::Resize(width, height) => {
                    (size.width, size.height) = (width, height);
                    picture = self.count(width, height);
                    must_draw = true;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Takes what has come in; says whether there was anything.
    fn take(&mut self) -> Result<bool, Failure> {
        let mut is_new = false;
        // What is left is taken the next time: keys must not wait.
        let until = Instant::now() + FRAME;
        while Instant::now() < until {
            match self.feed.try_recv() {
                Ok(Message::Requests(batches, texts)) => {
                    batches.iter().for_each(|batch| self.recent.take(batch, &texts));
                }
                Ok(Message::Begun) => self.begin(),
                Ok(Message::Remark(words)) => self.remark = Some(words),
                Ok(Message::Well) => self.remark = None,
                Ok(Message::Allowance(words)) => self.allowance = words,
                Ok(Message::Causes(causes)) => self.causes = causes,
                Err(TryRecvError::Empty) => break,
                Err(TryRecvError::Disconnected) => {
                    return Err(Failure("what reads the requests has ended unexpectedly".to_owned()));
                }
            }
            is_new = true;
        }
        Ok(is_new)
    }

    /// Everything that was there has been read: where nothing of it is of the last minutes, its own last minutes are shown.
    fn begin(&mut self) {
        self.has_begun = true;
        let is_old = self.recent.newest() < now() - self.state.minutes() * 60_000;
        if is_old && !self.recent.is_empty() && self.state.paused.is_none() {
            self.state.paused = Some(self.recent.newest() + 1);
        }
    }

    fn count(&self, width: u16, height: u16) -> Picture {
        let (rows, parts) = room(width, height);
        self.recent.picture(&self.state.view(now(), rows.max(50), parts))
    }

    fn draw(&self, screen: &mut Screen, picture: &Picture) -> Result<(), Failure> {
        let around = Around {
            title: &self.title,
            zone: &self.zone,
            now: now(),
            remark: self.remark.as_deref(),
            allowance: self.allowance.as_deref(),
            causes: &self.causes,
            has_colour: self.has_colour,
            newest: (!self.recent.is_empty()).then(|| self.recent.newest()),
            has_begun: self.has_begun,
        };
        screen.terminal().draw(|frame| draw::draw(frame, &self.state, picture, &around))?;
        Ok(())
    }
}

fn now() -> i64 {
    Timestamp::now().as_millisecond()
}
