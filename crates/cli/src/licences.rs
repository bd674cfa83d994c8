//! `exedra licences`: who wrote what is inside the program, and under which licence; put together when it was built.

use crate::failure::Failure;

const NOTICES: &str = include_str!(concat!(env!("OUT_DIR"), "/licences.txt"));

/// Prints them.
pub fn run() -> Result<(), Failure> {
    Ok(crate::out::octets(NOTICES, false)?)
}
