//! The computation of Exedra, and nothing else.
//!
//! A request is decided once, written once, and read as columns ever after. Four nouns travel through
//! this crate: [`facts::Facts`] of a request become an [`answer::Answer`]; lines of a log become a
//! [`logs::RequestBatch`]; batches become a [`survey::Survey`], and two surveys merge into one.
//!
//! Nothing in here reads a clock, a file or a socket, and nothing prints: time, folders and bytes come in
//! as values, so that tests, rehearsals and the running service share every line.

pub mod answer;
pub mod audit;
pub mod check;
pub mod classify;
pub mod clean;
pub mod config;
pub mod encode;
pub mod facts;
pub mod logs;
pub mod prelude;
pub mod rules;
pub mod scope;
pub mod survey;
pub mod trail;
