//! Countries of addresses, from a file in the open MMDB format.

use maxminddb::Reader;
use serde::Deserialize;
use std::net::IpAddr;
use std::path::Path;

/// A file that has been read.
pub struct Countries(Reader<Vec<u8>>);

#[derive(Deserialize)]
struct Entry<'t> {
    #[serde(borrow, default)]
    country: Option<Country<'t>>,
}

#[derive(Deserialize)]
struct Country<'t> {
    #[serde(borrow, default)]
    iso_code: Option<&'t str>,
}

impl Countries {
    /// Reads a file. The error is for people.
    pub fn open(path: &Path) -> Result<Self, String> {
        Reader::open_readfile(path).map(Countries).map_err(|error| error.to_string())
    }

    /// The country of an address (ISO 3166-1, two letters), where the file knows it.
    pub fn of(&self, address: IpAddr) -> Option<&str> {
        let found = self.0.lookup(address).ok()?;
        let entry: Entry<'_> = found.decode().ok()??;
        entry.country?.iso_code
    }
}
