//! Visits as a thread sees them: by codes of its dictionaries, with what plainly belongs together already joined.
//!
//! ```
//! use exedra_common::Dictionary;
//! use exedra_reading::survey::Visits;
//! use exedra_reading::survey::open_visits::{OpenVisits, Request};
//! let mut paths = Dictionary::default();
//! let page = Some(paths.code("/tides"));
//! let mut open = OpenVisits::default();
//! for time in [0, 60_000, 7_200_000] {
//!     open.add(Request { visitor: 7, time, page, is_crawler: false });
//! }
//! let mut visits = Visits::default();
//! open.settle(&paths, &mut visits);
//! let pages: Vec<u64> = visits.all().map(|visit| visit.pages).collect();
//! assert_eq!(pages, [2, 1], "two hours later it is another visit");
//! ```

use super::visitors::AsItIs;
use super::visits::{LONGEST_GAP, PageAt, Stretch, Visits};
use exedra_common::Dictionary;
use exedra_common::batch::NO_TEXT;
use hashbrown::HashMap;
use hashbrown::hash_map::Entry;
use std::hash::BuildHasherDefault;
use std::sync::Arc;

/// How many visits are known by codes before they are settled.
const MOST: usize = 1 << 16;

/// One request, as visits see it.
#[derive(Debug, Clone, Copy)]
pub struct Request {
    /// The keyed hash of client and agent.
    pub visitor: u64,
    /// Milliseconds since 1970 UTC.
    pub time: i64,
    /// The code of the path, where it was a page that was answered.
    pub page: Option<u32>,
    /// Whether a program made it.
    pub is_crawler: bool,
}

/// A visit by codes.
#[derive(Debug, Clone, Copy)]
struct OpenVisit {
    first: i64,
    last: i64,
    first_page: i64,
    last_page: i64,
    /// Codes of the pages, or [`NO_TEXT`].
    pages: [u32; 2],
    requests: u32,
    seen: u32,
    is_crawler: bool,
}

/// Visits that requests may still join, and visits that wait to be settled.
#[derive(Debug, Default)]
pub struct OpenVisits {
    open: HashMap<u64, OpenVisit, BuildHasherDefault<AsItIs>>,
    closed: Vec<(u64, OpenVisit)>,
    /// The texts of pages, once they have been needed.
    texts: Vec<Option<Arc<str>>>,
}

impl OpenVisits {
    /// Takes in a request.
    pub fn add(&mut self, request: Request) {
        let page = request.page.unwrap_or(NO_TEXT);
        let at = if request.page.is_some() { request.time } else { 0 };
        let alone = OpenVisit {
            first: request.time,
            last: request.time,
            first_page: at,
            last_page: at,
            pages: [page, page],
            requests: 1,
            seen: u32::from(request.page.is_some()),
            is_crawler: request.is_crawler,
        };
        match self.open.entry(request.visitor) {
            Entry::Vacant(place) => {
                place.insert(alone);
            }
            Entry::Occupied(mut place) => {
                let visit = place.get_mut();
                // Only what is plainly a part goes in here; the rest finds its place when texts are known.
                if (visit.last..=visit.last.saturating_add(LONGEST_GAP)).contains(&request.time)
                    && (request.page.is_none() || visit.pages[1] == NO_TEXT || visit.last_page < request.time)
                {
                    visit.last = request.time;
                    visit.requests += 1;
                    if request.page.is_some() {
                        visit.seen += 1;
                        (visit.last_page, visit.pages[1]) = (request.time, page);
                        if visit.pages[0] == NO_TEXT {
                            (visit.first_page, visit.pages[0]) = (request.time, page);
                        }
                    }
                } else {
                    self.closed.push((request.visitor, std::mem::replace(visit, alone)));
                }
            }
        }
    }

    /// Whether there are so many that they should be settled.
    pub fn are_many(&self) -> bool {
        self.closed.len() + self.open.len() > MOST
    }

    /// Visits by codes become visits by texts.
    pub fn settle(&mut self, paths: &Dictionary, visits: &mut Visits) {
        let OpenVisits { open, closed, texts } = self;
        texts.resize(paths.len(), None);
        let mut page = |time: i64, path: u32| -> Option<PageAt> {
            let text = texts.get_mut(path as usize)?.get_or_insert_with(|| paths.text(path).into());
            Some((time, Arc::clone(text)))
        };
        for (visitor, visit) in closed.drain(..).chain(open.drain()) {
            let stretch = Stretch {
                first: visit.first,
                last: visit.last,
                requests: u64::from(visit.requests),
                pages: u64::from(visit.seen),
                first_page: page(visit.first_page, visit.pages[0]),
                last_page: page(visit.last_page, visit.pages[1]),
                is_crawler: visit.is_crawler,
            };
            visits.add(visitor, stretch);
        }
    }

    /// Forgets the texts of pages: another dictionary is coming.
    pub fn forget(&mut self) {
        self.texts.clear();
    }
}
