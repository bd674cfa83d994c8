//! What is looked at, and what each key changes of it. Nothing here draws or reads.

use exedra_common::Column;
use exedra_common::filters::{Filter, Filters};
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_reading::live::{Picture, RecentRequests, View};
use exedra_reading::survey::Measure;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Stretches that can be looked at, in minutes.
const STRETCHES: [i64; 4] = [1, 5, 15, 60];
/// The one that is looked at first.
const USUAL: usize = 1;
const MINUTE: i64 = 60_000;
/// By which part of the stretch one looks back at a time.
const STEP: i64 = 10;
/// How many requests a list of single ones has.
const LISTED: usize = 1_000;

/// Whose requests.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Who {
    /// All of them.
    Everybody,
    /// Those of no crawler.
    People,
    /// Those of crawlers.
    Crawlers,
}

/// What lies over the four lists.
#[derive(Debug, Clone, PartialEq)]
pub enum Over {
    /// Nothing.
    Nothing,
    /// The keys.
    Help,
    /// A text as it is, however long.
    Whole(String),
    /// Single requests, and how many rows of them are scrolled past.
    Requests(Box<Table>, usize),
}

/// The four lists, in the order in which Tab goes through them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum List {
    /// Clients.
    Who,
    /// Paths.
    What,
    /// Paths that fail.
    FailingPaths,
    /// Clients that meet failures.
    FailingClients,
}

impl List {
    /// All of them.
    pub const ALL: [List; 4] = [List::Who, List::What, List::FailingPaths, List::FailingClients];

    /// Its table in a picture.
    pub fn of(self, picture: &Picture) -> &Table {
        match self {
            List::Who => &picture.clients,
            List::What => &picture.paths,
            List::FailingPaths => &picture.failing_paths,
            List::FailingClients => &picture.failing_clients,
        }
    }
}

/// What is to be done after a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Then {
    /// Nothing but to draw.
    Draw,
    /// To count anew.
    Count,
    /// To lend the terminal to the shell.
    Suspend,
    /// To end.
    End,
}

/// What is looked at.
#[derive(Debug)]
pub struct State {
    /// What was asked for when the program was called; it stays.
    base: Filters,
    /// What was narrowed since; the last goes first.
    pub narrowed: Vec<Filter>,
    /// Whose requests.
    pub who: Who,
    /// What lists are ranked by.
    pub by: Measure,
    /// The end of the stretch, where it does not go on.
    pub paused: Option<i64>,
    /// The list that keys are about, and its row.
    pub list: List,
    /// The row of it.
    pub row: usize,
    /// What lies over it.
    pub over: Over,
    stretch: usize,
}

impl State {
    /// As it begins.
    pub fn new(scope: &Scope) -> Self {
        State {
            base: scope.filters.clone(),
            narrowed: Vec::new(),
            who: Who::Everybody,
            by: Measure::Requests,
            paused: None,
            list: List::Who,
            row: 0,
            over: Over::Nothing,
            stretch: USUAL,
        }
    }

    /// How long the stretch is, in minutes.
    pub fn minutes(&self) -> i64 {
        STRETCHES[self.stretch]
    }

    /// Every filter, as it is written.
    pub fn filters(&self) -> Vec<String> {
        self.base.iter().chain(&self.narrowed).map(ToString::to_string).collect()
    }

    /// What is to be counted at an instant, in lists so long, over so many parts.
    pub fn view(&self, now: i64, top: usize, parts: usize) -> View {
        let mut filters = self.base.clone();
        self.narrowed.iter().for_each(|filter| filters.narrow(filter.clone()));
        match self.who {
            Who::Everybody => {}
            Who::People => filters.narrow(Filter::crawlers(false)),
            Who::Crawlers => filters.narrow(Filter::crawlers(true)),
        }
        View {
            until: self.paused.unwrap_or(now + 1),
            span: self.minutes() * MINUTE,
            filters,
            by: self.by,
            top,
            parts,
        }
    }

    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent, picture: &Picture, recent: &RecentRequests) -> Then {
        let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
        match key.code {
            KeyCode::Char('c') if is_control => return Then::End,
            KeyCode::Char('z') if is_control => return Then::Suspend,
            _ if is_control => return Then::Draw,
            _ => {}
        }
        if self.over != Over::Nothing {
            return self.key_over(key.code);
        }
        let rows = self.list.of(picture).rows.len();
        match key.code {
            KeyCode::Char('q') => return Then::End,
            KeyCode::Char('?' | 'h') => self.over = Over::Help,
            KeyCode::Tab => self.go_to(1),
            KeyCode::BackTab => self.go_to(3),
            KeyCode::Down | KeyCode::Char('j') => self.row = (self.row + 1).min(rows.saturating_sub(1)),
            KeyCode::Up | KeyCode::Char('k') => self.row = self.row.saturating_sub(1),
            KeyCode::Home => self.row = 0,
            KeyCode::End => self.row = rows.saturating_sub(1),
            KeyCode::Enter => return self.narrow(picture, false),
            KeyCode::Char('x') | KeyCode::Delete => return self.narrow(picture, true),
            KeyCode::Esc | KeyCode::Backspace => {
                self.narrowed.pop();
                self.row = 0;
                return Then::Count;
            }
            KeyCode::Char('f') => {
                self.toggle(Filter::between(exedra_common::NumberColumn::Status, 400, 599));
                return Then::Count;
            }
            KeyCode::Char('p') => {
                self.who = match self.who {
                    Who::Everybody => Who::People,
                    Who::People => Who::Crawlers,
                    Who::Crawlers => Who::Everybody,
                };
                return Then::Count;
            }
            KeyCode::Char('m') => {
                self.by = if self.by == Measure::Bytes { Measure::Requests } else { Measure::Bytes };
                return Then::Count;
            }
            KeyCode::Char('+') => {
                self.stretch = (self.stretch + 1).min(STRETCHES.len() - 1);
                return Then::Count;
            }
            KeyCode::Char('-') => {
                self.stretch = self.stretch.saturating_sub(1);
                return Then::Count;
            }
            KeyCode::Char(' ') => {
                self.paused = match self.paused {
                    None => Some(picture.stretch.1),
                    Some(_) => None,
                };
                return Then::Count;
            }
            KeyCode::Left | KeyCode::Right => {
                self.look_back(key.code == KeyCode::Left, picture, recent);
                return Then::Count;
            }
            KeyCode::Char('w') => {
                if let Some((_, text)) = self.meant(picture) {
                    self.over = Over::Whole(text.to_owned());
                }
            }
            KeyCode::Char('t') => {
                let mut view = self.view(picture.stretch.1 - 1, 0, 0);
                view.until = picture.stretch.1;
                if let Some(filter) = self.filter(picture) {
                    view.filters.narrow(filter);
                }
                let table = recent.requests(&view, LISTED);
                let last = table.rows.len();
                self.over = Over::Requests(Box::new(table), last);
            }
            _ => {}
        }
        Then::Draw
    }

    fn key_over(&mut self, code: KeyCode) -> Then {
        let scrolled = match &mut self.over {
            Over::Requests(table, at) => Some((table.rows.len(), at)),
            _ => None,
        };
        match (code, scrolled) {
            (KeyCode::Up | KeyCode::Char('k'), Some((_, at))) => *at = at.saturating_sub(1),
            (KeyCode::Down | KeyCode::Char('j'), Some((rows, at))) => *at = (*at + 1).min(rows),
            (KeyCode::PageUp, Some((_, at))) => *at = at.saturating_sub(10),
            (KeyCode::PageDown, Some((rows, at))) => *at = (*at + 10).min(rows),
            (KeyCode::Home, Some((_, at))) => *at = 0,
            (KeyCode::End, Some((rows, at))) => *at = rows,
            _ => self.over = Over::Nothing,
        }
        Then::Draw
    }

    /// Keeps the row that is meant on the list, which may have become shorter.
    pub fn settle(&mut self, picture: &Picture) {
        self.row = self.row.min(self.list.of(picture).rows.len().saturating_sub(1));
    }

    fn go_to(&mut self, further: usize) {
        let at = List::ALL.iter().position(|list| *list == self.list).unwrap_or(0);
        self.list = List::ALL[(at + further) % List::ALL.len()];
        self.row = 0;
    }

    /// The column and the text of the row that is meant.
    fn meant<'p>(&self, picture: &'p Picture) -> Option<(Column, &'p str)> {
        let table = self.list.of(picture);
        let column = table.columns.first()?.filter.as_deref().and_then(Column::named)?;
        Some((column, table.rows.get(self.row)?.first()?.as_text()?))
    }

    fn filter(&self, picture: &Picture) -> Option<Filter> {
        let (column, text) = self.meant(picture)?;
        Filter::exactly(column, text).ok()
    }

    fn narrow(&mut self, picture: &Picture, without: bool) -> Then {
        let Some(filter) = self.filter(picture) else { return Then::Draw };
        self.narrowed.push(Filter { without, ..filter });
        self.row = 0;
        Then::Count
    }

    fn toggle(&mut self, filter: Filter) {
        match self.narrowed.iter().position(|one| *one == filter) {
            Some(at) => drop(self.narrowed.remove(at)),
            None => self.narrowed.push(filter),
        }
    }

    /// Moves the end of the stretch, not before what is kept and not beyond the newest.
    fn look_back(&mut self, is_back: bool, picture: &Picture, recent: &RecentRequests) {
        let step = self.minutes() * MINUTE / STEP;
        let oldest = recent.oldest().unwrap_or(picture.stretch.1) + 1;
        let newest = recent.newest().saturating_add(1).max(picture.stretch.1);
        let until = picture.stretch.1 + if is_back { -step } else { step };
        self.paused = Some(until.clamp(oldest.min(newest), newest));
    }
}
