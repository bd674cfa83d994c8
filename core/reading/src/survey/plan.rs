//! What a survey is to be made of: which requests, whose days, and which parts of everything there is to count.
//!
//! ```
//! use exedra_common::scope::Scope;
//! use exedra_common::TextColumn;
//! use exedra_reading::survey::{Part, Parts, SurveyPlan, VisitorKey};
//! let plan = SurveyPlan::new(Scope::default(), jiff::tz::TimeZone::UTC, VisitorKey([1, 2]));
//! let few = SurveyPlan { parts: [Part::Paths].into_iter().collect::<Parts>(), ..plan };
//! assert!(few.projection().has(TextColumn::Path) && !few.projection().has(TextColumn::Agent));
//! ```

use super::calendar::Step;
use super::measure::Measure;
use super::visitors::VisitorKey;
use crate::classify::{Classifier, Countries};
use exedra_common::scope::Scope;
use exedra_common::{Column, NumberColumn, Projection, TextColumn};
use jiff::tz::TimeZone;
use std::sync::Arc;

/// A request that takes longer is slow, unless a plan says otherwise: in microseconds.
pub const USUAL_SLOW: u64 = 1_000_000;

/// Something that can be counted or left out. Totals, days, hours and statuses always are: they cost nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Part {
    /// Paths, and their kinds and extensions.
    Paths,
    /// Client addresses.
    Clients,
    /// Agents, and the browsers, systems, devices and crawlers they name.
    Agents,
    /// Pages that link here, search phrases, sites that load files from here.
    Referrers,
    /// Signed-in names.
    Users,
    /// Distinct clients and agents of each day.
    Visitors,
    /// What they did without a long gap.
    Visits,
    /// Missing pages and who led there.
    Missing,
    /// Content codings, and what they saved.
    Encodings,
    /// How long answers took.
    Durations,
    /// What fails, and for whom: paths and clients by status.
    Failing,
    /// Hosts that were asked for.
    Hosts,
    /// Methods.
    Methods,
    /// Protocols and their versions.
    Protocols,
    /// Queries.
    Queries,
    /// What the same clients were sent in full again and again.
    Repeats,
}

impl Part {
    /// All of them.
    pub const ALL: [Part; 16] = [
        Part::Paths,
        Part::Clients,
        Part::Agents,
        Part::Referrers,
        Part::Users,
        Part::Visitors,
        Part::Visits,
        Part::Missing,
        Part::Encodings,
        Part::Durations,
        Part::Failing,
        Part::Hosts,
        Part::Methods,
        Part::Protocols,
        Part::Queries,
        Part::Repeats,
    ];

    /// Whether it is counted only where somebody asks for it: it costs more than most people want to know of it.
    pub fn is_on_request(self) -> bool {
        matches!(self, Part::Hosts | Part::Methods | Part::Protocols | Part::Queries | Part::Repeats)
    }

    /// Whether texts are listed in it: what is counted of visitors, whatever they are called, needs but their hashes.
    fn lists_texts(self) -> bool {
        self != Part::Visitors
    }

    /// The columns that counting it looks at.
    fn columns(self) -> &'static [Column] {
        const CLIENT: Column = Column::Text(TextColumn::Client);
        const AGENT: Column = Column::Text(TextColumn::Agent);
        const PATH: Column = Column::Text(TextColumn::Path);
        const REFERRER: Column = Column::Text(TextColumn::Referrer);
        match self {
            Part::Paths => &[PATH],
            Part::Clients => &[CLIENT],
            Part::Agents => &[AGENT],
            Part::Referrers => &[REFERRER, PATH],
            Part::Users => &[Column::Text(TextColumn::User)],
            Part::Visitors => &[CLIENT, AGENT],
            Part::Visits => &[CLIENT, AGENT, PATH],
            Part::Missing => &[PATH, REFERRER, AGENT],
            Part::Encodings => {
                &[Column::Text(TextColumn::Encoding), Column::Number(NumberColumn::FullBytes), PATH]
            }
            Part::Durations => &[Column::Number(NumberColumn::Duration), PATH],
            Part::Failing => &[PATH, CLIENT],
            Part::Hosts => &[Column::Text(TextColumn::Host)],
            Part::Methods => &[Column::Text(TextColumn::Method)],
            Part::Protocols => &[Column::Text(TextColumn::Protocol)],
            Part::Queries => &[Column::Text(TextColumn::Query)],
            Part::Repeats => &[CLIENT, AGENT, PATH],
        }
    }
}

/// Some of all parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parts(u32);

impl Parts {
    /// Those of both.
    #[must_use]
    pub fn union(self, other: Parts) -> Self {
        Parts(self.0 | other.0)
    }

    /// Every part that need not be asked for.
    pub fn usual() -> Self {
        Part::ALL.into_iter().filter(|part| !part.is_on_request()).collect()
    }

    /// Whether a part is among them.
    pub fn has(self, part: Part) -> bool {
        self.0 & (1 << part as u16) != 0
    }
}

impl Default for Parts {
    fn default() -> Self {
        Parts::usual()
    }
}

impl FromIterator<Part> for Parts {
    fn from_iter<I: IntoIterator<Item = Part>>(parts: I) -> Self {
        Parts(parts.into_iter().fold(0, |bits, part| bits | 1 << part as u16))
    }
}

/// What a survey is to be made of.
#[derive(Debug, Clone)]
pub struct SurveyPlan {
    /// Which requests count.
    pub scope: Scope,
    /// Whose days and hours.
    pub zone: TimeZone,
    /// Key of the visitors' hashes.
    pub key: VisitorKey,
    /// Buckets of the timeline, where one is wanted.
    pub step: Option<Step>,
    /// What is counted.
    pub parts: Parts,
    /// A request that takes longer is slow: microseconds.
    pub slow: u64,
    /// What lists are to be ranked by.
    pub by: Measure,
    /// What knows countries of addresses.
    pub countries: Option<Arc<Countries>>,
}

impl SurveyPlan {
    /// A plan that counts whatever is usual.
    pub fn new(scope: Scope, zone: TimeZone, key: VisitorKey) -> Self {
        SurveyPlan {
            scope,
            zone,
            key,
            step: None,
            parts: Parts::usual(),
            slow: USUAL_SLOW,
            by: Measure::default(),
            countries: None,
        }
    }

    /// Whether clients with their agents are told apart for it.
    pub(super) fn needs_pairs(&self) -> bool {
        [Part::Visitors, Part::Visits, Part::Repeats].iter().any(|part| self.parts.has(*part))
    }

    /// Whether it lists texts, so that those of all requests must be known by what they have in common.
    pub fn lists_texts(&self) -> bool {
        let measures_by_text = matches!(self.by, Measure::Visitors | Measure::Time);
        measures_by_text || Part::ALL.into_iter().any(|part| self.parts.has(part) && part.lists_texts())
    }

    /// What works out derived columns.
    pub fn classifier(&self) -> Classifier {
        Classifier { countries: self.countries.clone() }
    }

    /// The columns that making this survey looks at.
    pub fn projection(&self) -> Projection {
        let parts = Part::ALL.into_iter().filter(|part| self.parts.has(*part));
        let counted = parts.flat_map(|part| part.columns().iter().copied());
        let (visitor, time) = (Part::Visitors.columns(), Part::Durations.columns());
        let measured = match self.by {
            Measure::Requests | Measure::Bytes => &[],
            Measure::Visitors => visitor,
            Measure::Time => time,
        };
        let counted = counted.chain(measured.iter().copied());
        [Column::Number(NumberColumn::Status), Column::Number(NumberColumn::Bytes)]
            .into_iter()
            .chain(counted)
            .chain(self.scope.columns())
            .collect()
    }
}
