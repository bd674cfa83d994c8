//! Connections: accepted, handed to a worker, watched while they are open, and on the way down let finish.
//!
//! - [`accept`]: the listening socket, and how many may come in; [`listener`]: how they begin
//! - [`sockets`]: what is listened on
//! - [`worker`]: a thread with its own event loop, which serves the connections it was given to their end
//! - [`announced`]: whom a connection comes from, where somebody in front says so
//! - [`refusal`]: what is said to a client whose octets could not be read as a request
//! - [`hibernation`]: a connection that costs next to nothing while nothing happens on it
//! - [`streams`]: the streams of an HTTP/2 connection, each with a time-out of its own
//! - [`fast_path`]: a socket that answers remembered requests before HTTP is parsed; [`activity`]: what the client is
//!   doing, and since when: the time-outs
//!
//! Each worker is single-threaded: what belongs to a connection never travels between cores, and no request
//! wakes another thread.

pub mod accept;
pub mod activity;
pub mod announced;
pub mod fast_path;
pub mod hibernation;
pub mod listener;
pub mod refusal;
pub mod sockets;
pub mod streams;
pub mod worker;

pub use accept::accept;
pub use listener::ListenerOptions;
pub use worker::{Worker, Workers};
