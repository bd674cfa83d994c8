//! Everything counted over one scope.
//!
//! A [`Surveyor`] belongs to one thread and counts codes of that thread's dictionaries into plain arrays.
//! [`Surveyor::settle`] turns codes into texts and gives a [`Survey`]; surveys merge into one another in
//! any order with the same result, so chunks, files, segments and threads need no arrangement.
//!
//! - [`calendar`]: which day and hour an instant belongs to
//! - [`visitors`]: distinct (client, agent, day), exact up to a limit and sampled past it
//! - [`visits`]: what each of them did without a long gap
//! - [`ranking`]: counts by text, with a bound
//! - [`surveyor`]: batches into counts
//! - [`lists`]: what follows from agents, paths and referrers
//! - [`report`]: a survey in the form that people and programs are given

pub mod calendar;
pub mod lists;
pub mod ranking;
pub mod report;
pub mod surveyor;
pub mod visitors;
pub mod visits;

pub use calendar::{Calendar, Step};
pub use ranking::{Counts, Ranking};
pub use report::{ReportOptions, SurveyReport};
pub use surveyor::{Survey, SurveyPlan, SurveyWorker, Surveyor};
pub use visitors::{VisitorKey, Visitors};
pub use visits::Visits;
