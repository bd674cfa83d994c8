//! One request: resolved, answered, sent, written down.
//!
//! - [`respond`]: from its facts to the answer on its way; [`resolve`]: answering from memory, or saying what is missing
//! - [`response_cache`]: whole answers, by the octets they answer
//! - [`body`]: what goes out, by way of [`buffers`]; [`in_flight`]: what is written down when it has gone
//! - [`connection`]: what answering needs to know of the connection; [`progress`]: what it lets whoever drives it know

pub mod body;
pub mod buffers;
pub mod connection;
pub mod in_flight;
pub mod progress;
pub mod resolve;
pub mod respond;
pub mod response_cache;
