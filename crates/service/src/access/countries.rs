//! Countries of addresses, from a file in the open MMDB format.

pub use exedra_reading::classify::Countries;
use std::path::Path;

/// Reads a file. The error is for people.
pub fn open(path: &Path) -> Result<Countries, String> {
    Countries::understand(std::fs::read(path).map_err(|error| error.to_string())?)
}
