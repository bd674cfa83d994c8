//! Which address a call comes from, and whether over a secured connection.

use std::net::IpAddr;

/// Whoever is at the other end of a connection; each request of it says so.
#[derive(Debug, Clone, Copy)]
pub struct Peer(pub IpAddr);

/// What a connection that is secured is known by, behind it: nobody else can send this, see [`super::serving`].
pub const SECURED: &str = "exedra-secured";
