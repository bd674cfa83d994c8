//! Requests decided: a configuration and the facts of a request give an answer.
//!
//! - [`facts`]: one request as rules see it; each fact is known, absent or unknown
//! - [`setting`]: one setting of a configuration: what it holds, how it is written
//! - [`media_types`]: media types by extension
//! - [`config`]: text into a configuration, or diagnostics
//! - [`rules`]: patterns, conditions, effects, and the index that finds the few rules that can fit
//! - [`answer`]: facts and configuration into an [`answer::Answer`]; it asks about folders and never looks itself
//! - [`encode`]: the codecs, and what each is worth on a site's own files
//! - [`check`]: what is wrong with a configuration, found by trying requests made from its own rules
//! - [`audit`]: what a stranger should not find

pub mod answer;
pub mod audit;
pub mod check;
pub mod config;
pub mod encode;
pub mod facts;
pub mod media_types;
pub mod rules;
pub mod setting;
