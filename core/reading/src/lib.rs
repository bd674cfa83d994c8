//! Logs read: lines become columns, columns become what people ask for.
//!
//! - [`logs`]: layouts, and lines into batches by them
//! - [`classify`]: what follows from an agent, a path, a referrer, an address
//! - [`survey`]: everything counted over one scope; two surveys merge into one, in any order
//! - [`prelude`]: bursts of trouble, and what was different in the minutes before
//! - [`requests`]: single requests that were asked for
//! - [`trail`]: what one client did, in order
//! - [`live`]: the last minutes, as they pass
//! - [`errors`]: error logs of other servers
//!
//! ```
//! use exedra_common::scope::Scope;
//! use exedra_common::{Dictionaries, RequestBatch};
//! use exedra_reading::logs::{Layout, LineReader};
//! use exedra_reading::survey::report::{Report, ReportOptions};
//! use exedra_reading::survey::{SurveyPlan, Surveyor, VisitorKey};
//!
//! let log = b"192.0.2.7 - - [14/Sep/2026:08:30:00 +0000] \"GET /tides HTTP/1.1\" 200 512 \"-\" \"LindryKiosk/1.4\"\n\
//!             not a line at all\n";
//! let plan = SurveyPlan::new(Scope::default(), jiff::tz::TimeZone::UTC, VisitorKey([1, 2]));
//! let mut reader = LineReader::new(&Layout::all_named(), plan.projection());
//! let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
//! reader.read_block(log, 0, &mut 0, &mut batch, &mut texts);
//! let mut surveyor = Surveyor::new(plan.clone());
//! surveyor.add(&mut batch, &texts, 0);
//! let survey = surveyor.into_survey(&texts);
//! let report = Report::new(&survey, &plan, &ReportOptions::default(), None);
//! assert_eq!((report.total("requests"), report.total("bytes")), (1, 512));
//! assert_eq!(report.table("crawlers").rows.len(), 1);
//! ```

pub mod classify;
pub mod errors;
pub mod live;
pub mod logs;
pub mod prelude;
pub mod requests;
pub mod survey;
pub mod trail;
