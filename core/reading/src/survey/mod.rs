//! Everything counted over one scope.
//!
//! A [`Surveyor`] belongs to one thread and counts codes of that thread's dictionaries into plain arrays.
//! [`Surveyor::settle_texts`] turns codes into texts of a [`Survey`]; surveys merge into one another in
//! any order with the same result, so chunks, files, segments and threads need no arrangement.
//!
//! - [`plan`]: what a survey is to be made of
//! - [`counted`]: what it then holds
//! - [`calendar`]: which day and hour an instant belongs to
//! - [`visitors`]: distinct (client, agent, day), exact up to a limit and sampled past it
//! - [`visits`], [`open_visits`]: what each of them did without a long gap, by texts and still by codes
//! - [`durations`]: how long answers took
//! - [`embeds`]: what pages elsewhere load from here; [`repeats`]: what the same clients were sent in full again
//! - [`ranking`]: counts by text, with a bound; [`tally`]: counts by keys of which there are very many; [`measure`]: what lists are ranked by
//! - [`visitors_of_entries`], `listing`: visitors of each entry of a list, where lists are ranked by them
//! - [`surveyor`], [`worker`]: batches into counts, on one thread and on many
//! - `masked`: a survey that may be handed on
//! - [`stored`]: a survey as octets, part by part; [`day_tally`]: what remains of a day whose requests are gone
//! - [`report`]: a survey in the form that people and programs are given

pub mod calendar;
pub mod counted;
pub mod day_tally;
pub mod durations;
pub mod embeds;
mod listing;
mod masked;
pub mod measure;
pub mod open_visits;
pub mod plan;
pub mod ranking;
pub mod repeats;
pub mod report;
pub mod stored;
pub mod surveyor;
pub mod tally;
pub mod visitors;
pub mod visitors_of_entries;
pub mod visits;
pub mod worker;

pub use calendar::{Calendar, Step};
pub use counted::Survey;
pub use measure::Measure;
pub use plan::{Part, Parts, SurveyPlan};
pub use ranking::{Counts, Ranking};
pub use report::{Report, ReportOptions};
pub use surveyor::Surveyor;
pub use visitors::{VisitorKey, Visitors};
pub use visits::Visits;
pub use worker::{SurveyWorker, Surveys};
