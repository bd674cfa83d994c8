//! The console and its API: who may use them, what they answer.
//!
//! - [`sign_in`]: one-time links, names and passwords, sessions, tokens; [`hosts`]: by which names it is reached
//! - [`caller`]: what it is made of; whoever asks, and what they are given; [`recording`]: what they change is written down
//! - [`routes`]: which calls there are, and who may make them
//! - [`calls`]: the API; [`sites`]: what of it is about configurations; [`accounts`]: what is about who may use it;
//!   [`imports`]: what is about logs of elsewhere; [`erasing`]: one client erased; [`queries`]: statements; [`failure`]: what it says when it cannot answer
//! - [`reading`]: what is about what is recorded; [`sources`]: where it comes from; [`counting`]: the records counted for a call
//! - [`alerts`]: how alerts are and were; [`messages`]: who is told of them, and what they were told
//! - [`schedules`]: reports that are made by themselves
//! - [`allowances`]: this month's transfer and what is expected of it; [`report`]: a scope as a file to download
//! - [`configuration`]: the files of the configuration, changed in the browser; [`trials`]: the next real request of a browser
//! - [`query`]: what a call asks for, from its address; [`blocking`]: work that may take long
//! - [`events`]: what happens, as it does; [`health`]: whether the service is well
//! - [`metrics`]: figures for programs that watch the service
//! - [`description`]: what all calls may be answered
//! - [`serving`]: its connections; [`peer`]: whose they are
//! - [`assets`]: the pages, from inside the program

pub mod accounts;
mod alerts;
mod allowances;
pub mod assets;
mod blocking;
pub mod caller;
pub mod calls;
mod configuration;
mod counting;
mod description;
mod erasing;
mod events;
pub mod failure;
mod findings;
mod health;
mod hosts;
pub mod imports;
mod messages;
mod metrics;
mod peer;
pub mod publications;
mod queries;
pub mod query;
mod reading;
mod recording;
mod rehearsals;
mod report;
mod routes;
mod schedules;
mod serving;
pub mod sign_in;
pub mod sites;
mod sources;
mod trials;

pub use caller::Console;
pub use serving::serve;
